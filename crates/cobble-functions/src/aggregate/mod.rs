//! The list of aggregate functions: a line for each, with the constant that says all about it. Their result types follow
//! PostgreSQL's (manual 9.21).

pub mod accumulator;
pub mod collected;
mod extremes;
mod moments;
mod regression;
mod signature;
mod sketches;
mod sums;

pub use accumulator::Accumulator;
pub use signature::{Aggregate, Aggregated, Keeps, MakeAccumulator};

crate::registered::registered! {
    /// An aggregate function.
    AggregateFunction of Aggregate, MakeAccumulator, "aggregate";
    Count => sums::COUNT;
    Sum => sums::SUM;
    Avg => sums::AVG;
    Min => extremes::MIN;
    Max => extremes::MAX;
    BoolAnd => extremes::BOOL_AND;
    BoolOr => extremes::BOOL_OR;
    BitAnd => extremes::BIT_AND;
    BitOr => extremes::BIT_OR;
    BitXor => extremes::BIT_XOR;
    VarPop => moments::VAR_POP;
    VarSamp => moments::VAR_SAMP;
    StddevPop => moments::STDDEV_POP;
    StddevSamp => moments::STDDEV_SAMP;
    Corr => regression::CORR;
    CovarPop => regression::COVAR_POP;
    CovarSamp => regression::COVAR_SAMP;
    RegrAvgX => regression::REGR_AVGX;
    RegrAvgY => regression::REGR_AVGY;
    RegrCount => regression::REGR_COUNT;
    RegrIntercept => regression::REGR_INTERCEPT;
    RegrR2 => regression::REGR_R2;
    RegrSlope => regression::REGR_SLOPE;
    RegrSxx => regression::REGR_SXX;
    RegrSxy => regression::REGR_SXY;
    RegrSyy => regression::REGR_SYY;
    StringAgg => collected::STRING_AGG;
    ArrayAgg => collected::ARRAY_AGG;
    JsonAgg => collected::JSON_AGG;
    JsonbAgg => collected::JSONB_AGG;
    JsonObjectAgg => collected::JSON_OBJECT_AGG;
    JsonbObjectAgg => collected::JSONB_OBJECT_AGG;
    PercentileCont => collected::PERCENTILE_CONT;
    PercentileDisc => collected::PERCENTILE_DISC;
    Mode => collected::MODE;
    ApproxCountDistinct => sketches::APPROX_COUNT_DISTINCT;
    ApproxPercentile => sketches::APPROX_PERCENTILE;
}

/// Digits after the point in the result of a numeric division. PostgreSQL chooses at least this many by the size of
/// the operands; a column of ours has one scale for all its rows.
pub const DIVISION_SCALE: i8 = 16;
