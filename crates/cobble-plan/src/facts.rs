//! How a table is put together, as rows that its source tells.

use std::collections::HashMap;
use std::sync::Arc;

use arrow::array::{ArrayRef, BooleanArray, Int32Array, Int64Array, StringViewArray, TimestampMicrosecondArray};
use arrow::compute::cast;
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value, write_date, write_timestamp};

use crate::expr::Expr;
use crate::scan::ScanSpec;

/// What is asked of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Facts {
    /// Its states.
    Snapshots,
    /// Which of them was the last one when.
    History,
    /// Their names.
    Refs,
    Manifests,
    Files,
    Partitions,
    /// What it is beside its columns: where it lies, how it is partitioned and ordered, and its properties.
    Properties,
    /// The row groups of its files, column by column.
    RowGroups,
}

impl Facts {
    /// What the function of this name asks.
    pub fn of_function(name: &str) -> Option<Facts> {
        Some(match name {
            "lake_snapshots" => Facts::Snapshots,
            "lake_history" => Facts::History,
            "lake_refs" => Facts::Refs,
            "lake_manifests" => Facts::Manifests,
            "lake_files" => Facts::Files,
            "lake_partitions" => Facts::Partitions,
            "lake_properties" => Facts::Properties,
            "row_group_stats" => Facts::RowGroups,
            _ => return None,
        })
    }
}

/// What a condition leaves to read of a table, as a plan has found it.
#[derive(Debug, Clone, Default)]
pub struct Filtered {
    /// What a plan with the condition reads; nothing where it can be true of no row.
    pub scan: Option<ScanSpec>,
    /// The condition, as parts that must all hold, and its columns by their names in the table.
    pub conditions: Vec<Expr>,
    pub names: HashMap<ColumnId, String>,
}

/// Such rows.
#[derive(Debug, Clone)]
pub struct FactRows {
    pub columns: Vec<(&'static str, SqlType)>,
    values: Vec<Vec<Value>>,
}

/// Rows that are told at most: they are held in memory.
const MOST: usize = 1_000_000;

impl FactRows {
    pub fn new(columns: &[(&'static str, SqlType)]) -> FactRows {
        FactRows { columns: columns.to_vec(), values: vec![vec![]; columns.len()] }
    }

    pub fn rows(&self) -> usize {
        self.values.first().map_or(0, Vec::len)
    }

    /// Adds a row with a value for each column.
    ///
    /// # Errors
    /// When there are too many.
    pub fn push(&mut self, row: impl IntoIterator<Item = Value>) -> Result<()> {
        if self.rows() >= MOST {
            return Err(Error::new(
                Code::TooComplex,
                format!("the answer has more than {MOST} rows, which is the most that are held"),
            ));
        }
        self.values.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
        Ok(())
    }

    /// The columns as arrays.
    pub fn arrays(&self) -> Result<Vec<ArrayRef>> {
        self.columns.iter().zip(&self.values).map(|((_, sql_type), values)| array(values, sql_type)).collect()
    }
}

/// A value as people write it, without what makes it a literal.
pub fn plain(value: &Value) -> String {
    match value {
        Value::Text(text) => text.clone(),
        Value::Date(days) => write_date(*days),
        Value::Timestamp(at) => write_timestamp(*at),
        Value::TimestampTz(at) => format!("{}+00", write_timestamp(*at)),
        other => other.to_string(),
    }
}

/// A text, or null.
pub fn text(value: Option<impl Into<String>>) -> Value {
    value.map_or(Value::Null, |value| Value::Text(value.into()))
}

/// A number, or null.
pub fn number(value: Option<impl TryInto<i64>>) -> Value {
    value.and_then(|value| value.try_into().ok()).map_or(Value::Null, Value::BigInt)
}

fn array(values: &[Value], sql_type: &SqlType) -> Result<ArrayRef> {
    let long = |value: &Value| match value {
        Value::BigInt(n) | Value::Timestamp(n) | Value::TimestampTz(n) => Some(*n),
        Value::Integer(n) => Some(i64::from(*n)),
        _ => None,
    };
    let own: ArrayRef = match sql_type {
        SqlType::Boolean => Arc::new(
            values
                .iter()
                .map(|value| match value {
                    Value::Boolean(own) => Some(*own),
                    _ => None,
                })
                .collect::<BooleanArray>(),
        ),
        SqlType::Integer => {
            Arc::new(values.iter().map(|value| long(value).and_then(|n| i32::try_from(n).ok())).collect::<Int32Array>())
        }
        SqlType::BigInt => Arc::new(values.iter().map(long).collect::<Int64Array>()),
        SqlType::Timestamp | SqlType::TimestampTz => {
            Arc::new(values.iter().map(long).collect::<TimestampMicrosecondArray>())
        }
        _ => Arc::new(
            values
                .iter()
                .map(|value| match value {
                    Value::Text(text) => Some(text.as_str()),
                    _ => None,
                })
                .collect::<StringViewArray>(),
        ),
    };
    Ok(cast(&own, &sql_type.to_arrow())?)
}
