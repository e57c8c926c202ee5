//! Describing a table from the server's information schema: columns and their types, primary key, its own guess of the rows.

use std::sync::Arc;

use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{ObjectName, Result, SqlType};
use mysql_async::prelude::Queryable;

use super::dialect::{BYTES, MariaDialect};
use super::{Server, errors};
use crate::database::{DatabaseSource, Dialect, RemoteColumn, RemoteTable};

/// Our type for one of the server's, or `None` when the value is read as text.
fn sql_type(name: &str, whole: &str, precision: Option<u64>, scale: Option<u64>) -> Option<SqlType> {
    let unsigned = whole.contains("unsigned");
    Some(match name {
        "tinyint" => SqlType::SmallInt,
        "smallint" if unsigned => SqlType::Integer,
        "smallint" | "year" => SqlType::SmallInt,
        "mediumint" => SqlType::Integer,
        "int" if unsigned => SqlType::BigInt,
        "int" => SqlType::Integer,
        "bigint" if unsigned => SqlType::Numeric { precision: 20, scale: 0 },
        "bigint" => SqlType::BigInt,
        "decimal" => {
            let (precision, scale) = (u8::try_from(precision?).ok()?, i8::try_from(scale?).ok()?);
            if precision > 38 {
                return None;
            }
            SqlType::Numeric { precision, scale }
        }
        "float" => SqlType::Real,
        "double" => SqlType::Double,
        "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "enum" | "set" | "json" => SqlType::Text,
        "date" => SqlType::Date,
        "datetime" => SqlType::Timestamp,
        "timestamp" => SqlType::TimestampTz,
        "time" => SqlType::Time,
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" | "bit" => SqlType::Bytea,
        _ => return None,
    })
}

const COLUMNS: &str = "
SELECT c.COLUMN_NAME, lower(c.DATA_TYPE), lower(c.COLUMN_TYPE), c.NUMERIC_PRECISION, c.NUMERIC_SCALE, c.IS_NULLABLE = 'YES',
       c.COLUMN_KEY = 'PRI', nullif(c.COLUMN_COMMENT, '')
FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = ? AND c.TABLE_NAME = ? ORDER BY c.ORDINAL_POSITION";

type Declared = (String, String, String, Option<u64>, Option<u64>, bool, bool, Option<String>);

pub async fn table(server: &Arc<Server>, catalog: &str, schema: &str, name: &str) -> Result<Option<Arc<Table>>> {
    let failed = |e: mysql_async::Error| errors::error(server, &e);
    let mut client = server.client().await?;
    let facts: Option<(String, Option<u64>, Option<u64>)> = client
        .exec_first(
            "SELECT TABLE_TYPE, TABLE_ROWS, DATA_LENGTH FROM information_schema.TABLES \
             WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?",
            (schema, name),
        )
        .await
        .map_err(failed)?;
    let Some((form, rows, bytes)) = facts else { return Ok(None) };
    let declared: Vec<Declared> = client.exec(COLUMNS, (schema, name)).await.map_err(failed)?;
    let (mut columns, mut remote, mut primary_key) = (Vec::new(), Vec::new(), Vec::new());
    for (place, (column, kind, whole, precision, scale, nullable, key, comment)) in declared.into_iter().enumerate() {
        let own = sql_type(&kind, &whole, precision, scale);
        let known = own.is_some();
        let own = own.unwrap_or(SqlType::Text);
        let (written, checks) = match &own {
            SqlType::Text if known => (format!("CONVERT({{}} USING utf8mb4) {BYTES}"), true),
            SqlType::Text => (format!("CAST({{}} AS CHAR CHARACTER SET utf8mb4) {BYTES}"), false),
            _ => ("{}".to_owned(), false),
        };
        if key {
            primary_key.push(place);
        }
        let note = if known { None } else { Some(format!("{whole} at the source, read as text")) };
        let comment = match (comment, note) {
            (Some(comment), Some(note)) => Some(format!("{comment} ({note})")),
            (comment, note) => comment.or(note),
        };
        columns.push(TableColumn { name: column.clone(), sql_type: own, nullable, partition: false, comment });
        remote.push(RemoteColumn { name: column, written, checks });
    }
    let rows = rows.map(|rows| rows as f64);
    let mut statistics = TableStatistics {
        rows,
        bytes: bytes.map(|bytes| bytes as f64),
        columns: vec![ColumnStatistics::default(); columns.len()],
        origin: rows.map(|_| "the server's own guess".to_owned()),
    };
    if let ([only], Some(rows)) = (primary_key.as_slice(), rows) {
        statistics.columns[*only].distinct = Some(rows);
    }
    let kind = if form == "VIEW" { TableKind::View } else { TableKind::Table };
    let quoted = format!("{}.{}", MariaDialect.quoted(schema), MariaDialect.quoted(name));
    let table = RemoteTable { name: quoted, columns: remote };
    let source = Arc::new(DatabaseSource { database: server.clone(), table });
    let name = ObjectName::new(catalog, schema, name);
    Ok(Some(Arc::new(Table { name, columns, statistics, primary_key, kind, source })))
}
