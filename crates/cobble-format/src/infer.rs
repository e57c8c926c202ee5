//! The columns of a file, as a format finds them.

use cobble_plan::logical::TableColumn;
use cobble_types::parse::parse_timestamp;
use cobble_types::{RowField, SqlType};
use serde_json::Value as Json;

use crate::csv::Dialect;

/// Bytes of a text file that are read to find out columns and types.
pub const SAMPLE: u64 = 4 << 20;

#[derive(Debug, Clone)]
pub struct Inferred {
    pub columns: Vec<TableColumn>,
    /// Average bytes of a row, where the size of a file tells its rows.
    pub row_width: Option<f64>,
    /// Of CSV: how it is written.
    pub dialect: Dialect,
}

pub fn column(name: &str, sql_type: SqlType) -> TableColumn {
    TableColumn { name: name.to_owned(), sql_type, nullable: true, partition: false, comment: None }
}

pub fn json_type(value: &Json) -> SqlType {
    match value {
        Json::Null => SqlType::Null,
        Json::Bool(_) => SqlType::Boolean,
        Json::Number(n) if n.is_i64() => SqlType::BigInt,
        Json::Number(_) => SqlType::Double,
        Json::String(text) => match parse_timestamp(text).filter(|_| text.len() > 10) {
            Some((_, None)) => SqlType::Timestamp,
            Some((_, Some(_))) => SqlType::TimestampTz,
            None => SqlType::Text,
        },
        Json::Array(items) => {
            let item = items.iter().map(json_type).try_fold(SqlType::Null, merge).unwrap_or(SqlType::Text);
            SqlType::Array(Box::new(item))
        }
        Json::Object(map) => {
            SqlType::Row(map.iter().map(|(name, v)| RowField { name: name.clone(), sql_type: json_type(v) }).collect())
        }
    }
}

/// The type that holds both, or both when there is none.
pub fn merge(a: SqlType, b: SqlType) -> Result<SqlType, (SqlType, SqlType)> {
    use SqlType::*;
    Ok(match (a, b) {
        (Null, t) | (t, Null) => t,
        (BigInt, Double) | (Double, BigInt) => Double,
        (a, b) if a == b => a,
        (Timestamp | TimestampTz | Text, Timestamp | TimestampTz | Text) => Text,
        (Array(a), Array(b)) => Array(Box::new(merge(*a, *b)?)),
        (Row(mut fields), Row(more)) => {
            for field in more {
                match fields.iter_mut().find(|known| known.name == field.name) {
                    Some(known) => {
                        let before = std::mem::replace(&mut known.sql_type, Null);
                        known.sql_type = merge(before, field.sql_type)?;
                    }
                    None => fields.push(field),
                }
            }
            Row(fields)
        }
        (a @ (Array(_) | Row(_)), b) | (a, b @ (Array(_) | Row(_))) => return Err((a, b)),
        _ => Text,
    })
}

/// What was never anything but null is text.
pub fn settled(sql_type: &SqlType) -> SqlType {
    match sql_type {
        SqlType::Null => SqlType::Text,
        SqlType::Array(item) => SqlType::Array(Box::new(settled(item))),
        SqlType::Row(fields) => SqlType::Row(
            fields.iter().map(|f| RowField { name: f.name.clone(), sql_type: settled(&f.sql_type) }).collect(),
        ),
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nested_values_are_rows_and_arrays() {
        let lines = [
            r#"{"buoy": 1, "at": "2025-07-01T09:00:00", "wave": {"height": 1}, "tags": []}"#,
            r#"{"buoy": 2, "at": null, "wave": {"height": 2.5, "period": 6}, "tags": ["calm"], "note": null}"#,
        ];
        let shape = lines
            .iter()
            .map(|line| json_type(&serde_json::from_str(line).unwrap()))
            .try_fold(SqlType::Row(vec![]), merge)
            .unwrap();
        assert_eq!(
            settled(&shape).to_string(),
            "row(buoy bigint, at timestamp, wave row(height double precision, period bigint), tags text[], note text)"
        );
        let clash =
            merge(json_type(&serde_json::json!({"a": 1})), json_type(&serde_json::json!({"a": {}}))).unwrap_err();
        assert_eq!((clash.0.to_string().as_str(), clash.1.to_string().as_str()), ("bigint", "row()"));
    }
}
