//! ALTER TABLE, as what a source is asked to change.

use std::collections::BTreeMap;

use cobble_types::SqlType;

/// A change of what a table is; its rows stay. Names of columns may be ways to fields within them, level by level.
#[derive(Debug, Clone, PartialEq)]
pub enum Alteration {
    AddColumn {
        name: Vec<String>,
        sql_type: SqlType,
        not_null: bool,
    },
    DropColumn {
        name: Vec<String>,
    },
    RenameColumn {
        name: Vec<String>,
        to: String,
    },
    /// To a type that holds all values of the one that it has.
    Widen {
        name: Vec<String>,
        sql_type: SqlType,
    },
    /// Behind another column of the same level, or in front of all.
    Move {
        name: Vec<String>,
        after: Option<String>,
    },
    DropNotNull {
        name: Vec<String>,
    },
    /// How rows that are added from now on are sorted into partitions, as PARTITION BY has it.
    PartitionBy(String),
    /// By what the rows of a file are ordered, as ORDER BY has it.
    OrderBy(String),
    Set(BTreeMap<String, String>),
    Reset(Vec<String>),
}
