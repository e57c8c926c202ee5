//! What is known of a result: its columns, and how far the run that makes it has come.

use cobble_types::SqlType;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResultColumn {
    pub name: String,
    pub sql_type: SqlType,
}

/// How far a run has come.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Progress {
    /// Rows that have crossed the gates.
    pub rows_read: u64,
    pub bytes_read: u64,
    /// Rows of the result so far.
    pub rows_out: u64,
    pub seconds: f64,
    /// What a call is doing, in words with counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doing: Option<String>,
}
