//! Aggregate functions and their result types, which follow PostgreSQL's (manual 9.21). Their states are kept by the operators.

use cobble_types::SqlType;

crate::listed::listed_functions! {
    /// An aggregate function. Its example is a query.
    AggregateFunction;
    Count, "count", [], "* or any",
        "The number of rows, or of values that are not null.",
        "SELECT count(*) FROM (VALUES (1), (NULL)) t (v)" => "2";
    Sum, "sum", [], "number or interval",
        "The sum.",
        "SELECT sum(v) FROM (VALUES (1), (2), (NULL)) t (v)" => "3";
    Avg, "avg", [], "number or interval",
        "The arithmetic mean.",
        "SELECT avg(v) FROM (VALUES (1), (2)) t (v)" => "1.5000000000000000";
    Min, "min", [], "any ordered",
        "The least value.",
        "SELECT min(v) FROM (VALUES ('b'), ('a')) t (v)" => "a";
    Max, "max", [], "any ordered",
        "The greatest value.",
        "SELECT max(v) FROM (VALUES ('b'), ('a')) t (v)" => "b";
    BoolAnd, "bool_and", ["every"], "boolean",
        "Whether all are true.",
        "SELECT bool_and(v) FROM (VALUES (true), (false)) t (v)" => "false";
    BoolOr, "bool_or", [], "boolean",
        "Whether one is true.",
        "SELECT bool_or(v) FROM (VALUES (true), (false)) t (v)" => "true";
    BitAnd, "bit_and", [], "integer",
        "The bits that all have.",
        "SELECT bit_and(v) FROM (VALUES (12), (10)) t (v)" => "8";
    BitOr, "bit_or", [], "integer",
        "The bits that one of them has.",
        "SELECT bit_or(v) FROM (VALUES (12), (10)) t (v)" => "14";
    BitXor, "bit_xor", [], "integer",
        "The bits that an odd number of them has.",
        "SELECT bit_xor(v) FROM (VALUES (12), (10)) t (v)" => "6";
    VarPop, "var_pop", [], "number",
        "The variance of all values as a whole population.",
        "SELECT var_pop(v) FROM (VALUES (1.0), (3.0)) t (v)" => "1.0000000000000000";
    VarSamp, "var_samp", ["variance"], "number",
        "The variance estimated from a sample.",
        "SELECT var_samp(v) FROM (VALUES (1.0), (3.0)) t (v)" => "2.0000000000000000";
    StddevPop, "stddev_pop", [], "number",
        "The standard deviation of a whole population.",
        "SELECT stddev_pop(v) FROM (VALUES (1.0), (3.0)) t (v)" => "1.0000000000000000";
    StddevSamp, "stddev_samp", ["stddev"], "number",
        "The standard deviation estimated from a sample.",
        "SELECT stddev_samp(v::double precision) FROM (VALUES (2), (2)) t (v)" => "0";
    Corr, "corr", [], "y, x",
        "The correlation coefficient.",
        "SELECT corr(y, x) FROM (VALUES (1, 1), (2, 2)) t (y, x)" => "1";
    CovarPop, "covar_pop", [], "y, x",
        "The covariance of a whole population.",
        "SELECT covar_pop(y, x) FROM (VALUES (1, 1), (3, 3)) t (y, x)" => "1";
    CovarSamp, "covar_samp", [], "y, x",
        "The covariance estimated from a sample.",
        "SELECT covar_samp(y, x) FROM (VALUES (1, 1), (3, 3)) t (y, x)" => "2";
    RegrAvgX, "regr_avgx", [], "y, x",
        "The mean of x over pairs without nulls.",
        "SELECT regr_avgx(y, x) FROM (VALUES (1, 2), (3, 4)) t (y, x)" => "3";
    RegrAvgY, "regr_avgy", [], "y, x",
        "The mean of y over pairs without nulls.",
        "SELECT regr_avgy(y, x) FROM (VALUES (1, 2), (3, 4)) t (y, x)" => "2";
    RegrCount, "regr_count", [], "y, x",
        "The number of pairs without nulls.",
        "SELECT regr_count(y, x) FROM (VALUES (1, 2), (3, NULL)) t (y, x)" => "1";
    RegrIntercept, "regr_intercept", [], "y, x",
        "Where the fitted line crosses the y axis.",
        "SELECT regr_intercept(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)" => "1";
    RegrR2, "regr_r2", [], "y, x",
        "The square of the correlation coefficient.",
        "SELECT regr_r2(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)" => "1";
    RegrSlope, "regr_slope", [], "y, x",
        "The slope of the fitted line.",
        "SELECT regr_slope(y, x) FROM (VALUES (3, 1), (5, 2)) t (y, x)" => "2";
    RegrSxx, "regr_sxx", [], "y, x",
        "The sum of the squared distances of x from its mean.",
        "SELECT regr_sxx(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)" => "2";
    RegrSxy, "regr_sxy", [], "y, x",
        "The sum of the products of the distances of x and y from their means.",
        "SELECT regr_sxy(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)" => "2";
    RegrSyy, "regr_syy", [], "y, x",
        "The sum of the squared distances of y from its mean.",
        "SELECT regr_syy(y, x) FROM (VALUES (3, 1), (5, 3)) t (y, x)" => "2";
    StringAgg, "string_agg", [], "text, separator",
        "The texts joined with a separator, in the order of ORDER BY.",
        "SELECT string_agg(v, ', ' ORDER BY v) FROM (VALUES ('b'), ('a')) t (v)" => "a, b";
    ArrayAgg, "array_agg", [], "any",
        "The values as an array, nulls included.",
        "SELECT array_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)" => "{1,2}";
    JsonAgg, "json_agg", [], "any",
        "The values as a JSON array.",
        "SELECT json_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)" => "[1, 2]";
    JsonbAgg, "jsonb_agg", [], "any",
        "The same in the form of jsonb.",
        "SELECT jsonb_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)" => "[1, 2]";
    JsonObjectAgg, "json_object_agg", [], "key, any",
        "The pairs as a JSON object.",
        "SELECT json_object_agg(k, v) FROM (VALUES ('a', 1)) t (k, v)" => r#"{ "a" : 1 }"#;
    JsonbObjectAgg, "jsonb_object_agg", [], "key, any",
        "The same in the form of jsonb.",
        "SELECT jsonb_object_agg(k, v) FROM (VALUES ('a', 1)) t (k, v)" => r#"{"a": 1}"#;
    PercentileCont, "percentile_cont", [], "share, within group (order by number)",
        "The value below which a share of the sorted ones lies, between two of them where it falls there.",
        "SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2)) t (v)" => "1.5";
    PercentileDisc, "percentile_disc", [], "share, within group (order by any ordered)",
        "The first of the sorted values at which a share is reached.",
        "SELECT percentile_disc(0.5) WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2)) t (v)" => "1";
    Mode, "mode", [], "within group (order by any ordered)",
        "The most frequent value.",
        "SELECT mode() WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2), (2)) t (v)" => "2";
    ApproxCountDistinct, "approx_count_distinct", [], "any",
        "The number of distinct values, estimated.",
        "SELECT approx_count_distinct(v) FROM (VALUES (1), (2), (2)) t (v)" => "2";
    ApproxPercentile, "approx_percentile", [], "number, share",
        "A percentile, estimated.",
        "SELECT approx_percentile(v, 0.5) FROM (VALUES (1), (2), (3)) t (v)" => "2";
}

crate::serial::serialised_by_name!(AggregateFunction, "aggregate");

impl AggregateFunction {
    /// The function called by this name, in lower case.
    pub fn by_name(name: &str) -> Option<AggregateFunction> {
        AggregateFunction::named(name)
    }

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
