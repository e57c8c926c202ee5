//! Aggregate functions and their result types, which follow PostgreSQL's.

use std::fmt;

use cobble_types::SqlType;

use crate::expr::Expr;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AggregateFunction {
    Count,
    Sum,
    Avg,
    Min,
    Max,
    BoolAnd,
    BoolOr,
}

impl AggregateFunction {
    pub const ALL: &[AggregateFunction] = &[
        AggregateFunction::Count,
        AggregateFunction::Sum,
        AggregateFunction::Avg,
        AggregateFunction::Min,
        AggregateFunction::Max,
        AggregateFunction::BoolAnd,
        AggregateFunction::BoolOr,
    ];

    pub fn name(self) -> &'static str {
        match self {
            AggregateFunction::Count => "count",
            AggregateFunction::Sum => "sum",
            AggregateFunction::Avg => "avg",
            AggregateFunction::Min => "min",
            AggregateFunction::Max => "max",
            AggregateFunction::BoolAnd => "bool_and",
            AggregateFunction::BoolOr => "bool_or",
        }
    }

    pub fn by_name(name: &str) -> Option<AggregateFunction> {
        match name {
            "every" => Some(AggregateFunction::BoolAnd),
            _ => AggregateFunction::ALL.iter().copied().find(|function| function.name() == name),
        }
    }

    /// The type of the result over arguments of type `argument`, or `None` when the function does not take them.
    pub fn result_type(self, argument: &SqlType) -> Option<SqlType> {
        Some(match (self, argument) {
            (AggregateFunction::Count, _) => SqlType::BigInt,
            (AggregateFunction::Sum, SqlType::SmallInt | SqlType::Integer) => SqlType::BigInt,
            (AggregateFunction::Sum, SqlType::BigInt) => SqlType::WIDE_NUMERIC,
            (AggregateFunction::Sum, SqlType::Numeric { scale, .. }) => {
                SqlType::Numeric { precision: 38, scale: *scale }
            }
            (AggregateFunction::Sum, SqlType::Real | SqlType::Double) => argument.clone(),
            (AggregateFunction::Avg, SqlType::Real | SqlType::Double) => SqlType::Double,
            (AggregateFunction::Avg, number) if number.is_number() => {
                let (_, scale) = number.digits()?;
                SqlType::Numeric { precision: 38, scale: scale.max(DIVISION_SCALE) }
            }
            (
                AggregateFunction::Min | AggregateFunction::Max,
                SqlType::Null | SqlType::Boolean | SqlType::Bytea | SqlType::Uuid | SqlType::Interval,
            ) => return None,
            (AggregateFunction::Min | AggregateFunction::Max, ordered) if ordered.is_ordered() => ordered.clone(),
            (AggregateFunction::BoolAnd | AggregateFunction::BoolOr, SqlType::Boolean) => SqlType::Boolean,
            _ => return None,
        })
    }
}

/// Digits after the point in the result of a numeric division. PostgreSQL chooses at least this many by the size of
/// the operands; a column of ours has one scale for all its rows.
pub const DIVISION_SCALE: i8 = 16;

#[derive(Debug, Clone, PartialEq)]
pub struct AggregateCall {
    pub function: AggregateFunction,
    /// `None` for `count(*)`.
    pub argument: Option<Expr>,
    pub distinct: bool,
    pub filter: Option<Expr>,
    pub sql_type: SqlType,
}

impl AggregateCall {
    /// The same call over expressions changed by `change`.
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> AggregateCall {
        AggregateCall {
            argument: self.argument.as_ref().map(&mut *change),
            filter: self.filter.as_ref().map(&mut *change),
            ..self.clone()
        }
    }

    pub fn expressions(&self) -> impl Iterator<Item = &Expr> {
        self.argument.iter().chain(self.filter.iter())
    }
}

impl fmt::Display for AggregateCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let distinct = if self.distinct { "distinct " } else { "" };
        match &self.argument {
            Some(argument) => write!(f, "{}({distinct}{argument})", self.function.name())?,
            None => write!(f, "{}(*)", self.function.name())?,
        }
        match &self.filter {
            Some(filter) => write!(f, " filter (where {filter})"),
            None => Ok(()),
        }
    }
}
