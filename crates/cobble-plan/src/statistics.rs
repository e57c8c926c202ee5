//! What is known of a table before it is read. Connectors fill this from what the source itself keeps: Parquet footers,
//! PostgreSQL's `pg_stats`; the rest stays unknown and the estimator falls back to stated guesses.

use cobble_types::Value;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct TableStatistics {
    pub rows: Option<f64>,
    /// Size at the source in bytes.
    pub bytes: Option<f64>,
    /// One entry per column of the table, in its order; empty when nothing is known of any.
    pub columns: Vec<ColumnStatistics>,
    /// Where the numbers come from, in words: "parquet footers", "pg_stats".
    pub origin: Option<String>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ColumnStatistics {
    pub distinct: Option<f64>,
    pub min: Option<Value>,
    pub max: Option<Value>,
    /// Share of nulls, 0 to 1.
    pub null_fraction: Option<f64>,
    /// Average bytes of a value.
    pub width: Option<f64>,
}
