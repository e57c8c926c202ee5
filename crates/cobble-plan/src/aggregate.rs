//! Aggregate functions and their result types, which follow PostgreSQL's (manual 9.21).

use std::fmt;

use cobble_types::SqlType;
use serde::{Deserialize, Serialize};

use crate::expr::{Expr, comma_separated};
use crate::logical::SortKey;

macro_rules! aggregates {
    ($($variant:ident, $name:literal, [$($alias:literal),*], $arguments:literal;)*) => {
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum AggregateFunction { $($variant),* }

        impl AggregateFunction {
            pub const ALL: &[AggregateFunction] = &[$(AggregateFunction::$variant),*];

            pub fn name(self) -> &'static str {
                match self { $(AggregateFunction::$variant => $name),* }
            }

            /// The function called by this name, in lower case.
            pub fn by_name(name: &str) -> Option<AggregateFunction> {
                match name { $($name $(| $alias)* => Some(AggregateFunction::$variant),)* _ => None }
            }

            /// Arguments in words, for error messages and documentation.
            pub fn arguments(self) -> &'static str {
                match self { $(AggregateFunction::$variant => $arguments),* }
            }
        }
    };
}

aggregates! {
    Count, "count", [], "* or any";
    Sum, "sum", [], "number or interval";
    Avg, "avg", [], "number or interval";
    Min, "min", [], "any ordered";
    Max, "max", [], "any ordered";
    BoolAnd, "bool_and", ["every"], "boolean";
    BoolOr, "bool_or", [], "boolean";
    BitAnd, "bit_and", [], "integer";
    BitOr, "bit_or", [], "integer";
    BitXor, "bit_xor", [], "integer";
    VarPop, "var_pop", [], "number";
    VarSamp, "var_samp", ["variance"], "number";
    StddevPop, "stddev_pop", [], "number";
    StddevSamp, "stddev_samp", ["stddev"], "number";
    Corr, "corr", [], "y, x";
    CovarPop, "covar_pop", [], "y, x";
    CovarSamp, "covar_samp", [], "y, x";
    RegrAvgX, "regr_avgx", [], "y, x";
    RegrAvgY, "regr_avgy", [], "y, x";
    RegrCount, "regr_count", [], "y, x";
    RegrIntercept, "regr_intercept", [], "y, x";
    RegrR2, "regr_r2", [], "y, x";
    RegrSlope, "regr_slope", [], "y, x";
    RegrSxx, "regr_sxx", [], "y, x";
    RegrSxy, "regr_sxy", [], "y, x";
    RegrSyy, "regr_syy", [], "y, x";
    StringAgg, "string_agg", [], "text, separator";
    ArrayAgg, "array_agg", [], "any";
    JsonAgg, "json_agg", [], "any";
    JsonbAgg, "jsonb_agg", [], "any";
    JsonObjectAgg, "json_object_agg", [], "key, any";
    JsonbObjectAgg, "jsonb_object_agg", [], "key, any";
    PercentileCont, "percentile_cont", [], "share, within group (order by number)";
    PercentileDisc, "percentile_disc", [], "share, within group (order by any ordered)";
    Mode, "mode", [], "within group (order by any ordered)";
    ApproxCountDistinct, "approx_count_distinct", [], "any";
    ApproxPercentile, "approx_percentile", [], "number, share";
}

crate::serial::serialised_by_name!(AggregateFunction, "aggregate");

impl AggregateFunction {
    /// Aggregates over pairs of numbers.
    pub fn is_regression(self) -> bool {
        use AggregateFunction::*;
        matches!(
            self,
            Corr | CovarPop
                | CovarSamp
                | RegrAvgX
                | RegrAvgY
                | RegrCount
                | RegrIntercept
                | RegrR2
                | RegrSlope
                | RegrSxx
                | RegrSxy
                | RegrSyy
        )
    }

    /// Aggregates whose values stand in WITHIN GROUP (ORDER BY …).
    pub fn is_ordered_set(self) -> bool {
        matches!(self, AggregateFunction::PercentileCont | AggregateFunction::PercentileDisc | AggregateFunction::Mode)
    }

    /// Aggregates that keep every value they see.
    pub fn collects(self) -> bool {
        use AggregateFunction::*;
        self.is_ordered_set()
            || matches!(self, StringAgg | ArrayAgg | JsonAgg | JsonbAgg | JsonObjectAgg | JsonbObjectAgg)
    }

    /// What comes out of an empty group: zero for counts, null for all others.
    pub fn counts(self) -> bool {
        use AggregateFunction::*;
        matches!(self, Count | RegrCount | ApproxCountDistinct)
    }

    /// True when equal values could be given once, without another result.
    pub fn ignores_repetition(self) -> bool {
        use AggregateFunction::*;
        matches!(self, Min | Max | BoolAnd | BoolOr | BitAnd | BitOr | ApproxCountDistinct)
    }

    /// The type of the result, or `None` when the function does not take these arguments. For ordered-set aggregates the
    /// first type is that of the sorted values.
    pub fn result_type(self, arguments: &[SqlType]) -> Option<SqlType> {
        use AggregateFunction::*;
        let none = arguments.is_empty();
        let first = arguments.first().cloned().unwrap_or(SqlType::Null);
        let wanted = match self {
            Count => 0..=1,
            StringAgg | JsonObjectAgg | JsonbObjectAgg | ApproxPercentile | PercentileCont | PercentileDisc => 2..=2,
            own if own.is_regression() => 2..=2,
            _ => 1..=1,
        };
        if !wanted.contains(&arguments.len()) {
            return None;
        }
        let fits = |second: &SqlType| match self {
            PercentileCont | PercentileDisc => match second {
                SqlType::Array(item) => **item == SqlType::Double,
                other => *other == SqlType::Double,
            },
            StringAgg => *second == first,
            ApproxPercentile => *second == SqlType::Double,
            own => !own.is_regression() || (first == SqlType::Double && *second == SqlType::Double),
        };
        if !arguments.get(1).is_none_or(fits) {
            return None;
        }
        Some(match (self, &first) {
            (Count | ApproxCountDistinct | RegrCount, _) => SqlType::BigInt,
            (Sum, SqlType::SmallInt | SqlType::Integer) => SqlType::BigInt,
            (Sum, SqlType::BigInt) => SqlType::WIDE_NUMERIC,
            (Sum, SqlType::Numeric { scale, .. }) => SqlType::Numeric { precision: 38, scale: *scale },
            (Sum, SqlType::Real | SqlType::Double) => first,
            (Sum | Avg, SqlType::Interval) => SqlType::Interval,
            (Avg | VarPop | VarSamp | StddevPop | StddevSamp, SqlType::Real | SqlType::Double) => SqlType::Double,
            (Avg | VarPop | VarSamp | StddevPop | StddevSamp, number) if number.is_number() => {
                let (_, scale) = number.digits()?;
                SqlType::Numeric { precision: 38, scale: scale.max(DIVISION_SCALE) }
            }
            (Min | Max, SqlType::Null | SqlType::Boolean | SqlType::Bytea | SqlType::Uuid) => {
                return None;
            }
            (Min | Max, ordered) if ordered.is_ordered() => first,
            (BoolAnd | BoolOr, SqlType::Boolean) => SqlType::Boolean,
            (BitAnd | BitOr | BitXor, integer) if integer.is_integer() => first,
            (own, SqlType::Double) if own.is_regression() => SqlType::Double,
            (StringAgg, SqlType::Text | SqlType::Bytea) => first,
            (ArrayAgg, _) if !none => SqlType::Array(Box::new(first)),
            (JsonAgg | JsonbAgg | JsonObjectAgg | JsonbObjectAgg, _) => SqlType::Json,
            (PercentileCont, SqlType::Double | SqlType::Interval) => match &arguments[1] {
                SqlType::Array(_) => SqlType::Array(Box::new(first)),
                _ => first,
            },
            (PercentileDisc, _) if !none => match &arguments[1] {
                SqlType::Array(_) => SqlType::Array(Box::new(first)),
                _ => first,
            },
            (Mode, _) if !none => first,
            (ApproxPercentile, SqlType::Double) => SqlType::Double,
            _ => return None,
        })
    }
}

/// Digits after the point in the result of a numeric division. PostgreSQL chooses at least this many by the size of
/// the operands; a column of ours has one scale for all its rows.
pub const DIVISION_SCALE: i8 = 16;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AggregateCall {
    pub function: AggregateFunction,
    /// Empty for `count(*)`. For ordered-set aggregates the sorted value, then the direct arguments.
    pub arguments: Vec<Expr>,
    pub distinct: bool,
    /// The order in which values are taken, where that matters.
    pub order: Vec<SortKey>,
    pub filter: Option<Expr>,
    pub sql_type: SqlType,
}

impl AggregateCall {
    /// A plain call without DISTINCT, ORDER BY and FILTER, or `None` when the function does not take these arguments.
    pub fn plain(function: AggregateFunction, arguments: Vec<Expr>) -> Option<AggregateCall> {
        let types: Vec<SqlType> = arguments.iter().map(Expr::sql_type).collect();
        let sql_type = function.result_type(&types)?;
        Some(AggregateCall { function, arguments, distinct: false, order: vec![], filter: None, sql_type })
    }

    /// The same call over expressions changed by `change`.
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> AggregateCall {
        AggregateCall {
            arguments: self.arguments.iter().map(&mut *change).collect(),
            order: self.order.iter().map(|key| SortKey { expr: change(&key.expr), ..key.clone() }).collect(),
            filter: self.filter.as_ref().map(&mut *change),
            ..self.clone()
        }
    }

    pub fn expressions(&self) -> impl Iterator<Item = &Expr> {
        self.arguments.iter().chain(self.order.iter().map(|key| &key.expr)).chain(self.filter.iter())
    }
}

impl fmt::Display for AggregateCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let distinct = if self.distinct { "distinct " } else { "" };
        if self.arguments.is_empty() {
            write!(f, "{}(*)", self.function.name())?;
        } else {
            write!(f, "{}({distinct}{}", self.function.name(), comma_separated(&self.arguments))?;
            if !self.order.is_empty() {
                write!(f, " order by {}", comma_separated(&self.order))?;
            }
            f.write_str(")")?;
        }
        match &self.filter {
            Some(filter) => write!(f, " filter (where {filter})"),
            None => Ok(()),
        }
    }
}
