//! Describing a table from the server's information schema: columns and their types, primary key, its own guess of the rows.

use std::sync::Arc;

use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{ObjectName, Result, SqlType};
use mysql_async::prelude::Queryable;

use super::dialect::{BYTES, MariaDialect};
use super::{Server, errors};
use cobble_connect::ListedColumns;
use cobble_connect::NativeQuery;
use cobble_connect_sql::native::{self, NativeColumn};
use cobble_connect_sql::{Database, DatabaseSource, Dialect, RemoteColumn, RemoteTable, ranges};

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

/// What makes a column's values the engine's, and whether it only checks them.
fn written_as(own: &SqlType, known: bool) -> (String, bool) {
    match own {
        SqlType::Text if known => (format!("CONVERT({{}} USING utf8mb4) {BYTES}"), true),
        SqlType::Text => (format!("CAST({{}} AS CHAR CHARACTER SET utf8mb4) {BYTES}"), false),
        _ => ("{}".to_owned(), false),
    }
}

/// Our type for a column of a result, by what the protocol says of it (MariaDB protocol, "Column definition packet").
fn result_type(column: &mysql_async::Column) -> Option<SqlType> {
    use mysql_async::consts::{ColumnFlags, ColumnType};
    let unsigned = column.flags().contains(ColumnFlags::UNSIGNED_FLAG);
    // The character set of bytes that are no text.
    let is_bytes = column.character_set() == 63;
    let name = match column.column_type() {
        ColumnType::MYSQL_TYPE_TINY => "tinyint",
        ColumnType::MYSQL_TYPE_SHORT => "smallint",
        ColumnType::MYSQL_TYPE_YEAR => "year",
        ColumnType::MYSQL_TYPE_INT24 => "mediumint",
        ColumnType::MYSQL_TYPE_LONG => "int",
        ColumnType::MYSQL_TYPE_LONGLONG => "bigint",
        ColumnType::MYSQL_TYPE_NEWDECIMAL => "decimal",
        ColumnType::MYSQL_TYPE_FLOAT => "float",
        ColumnType::MYSQL_TYPE_DOUBLE => "double",
        ColumnType::MYSQL_TYPE_DATE => "date",
        ColumnType::MYSQL_TYPE_DATETIME => "datetime",
        ColumnType::MYSQL_TYPE_TIMESTAMP => "timestamp",
        ColumnType::MYSQL_TYPE_TIME => "time",
        ColumnType::MYSQL_TYPE_BIT => "bit",
        ColumnType::MYSQL_TYPE_VAR_STRING
        | ColumnType::MYSQL_TYPE_STRING
        | ColumnType::MYSQL_TYPE_VARCHAR
        | ColumnType::MYSQL_TYPE_BLOB
        | ColumnType::MYSQL_TYPE_TINY_BLOB
        | ColumnType::MYSQL_TYPE_MEDIUM_BLOB
        | ColumnType::MYSQL_TYPE_LONG_BLOB => {
            if is_bytes {
                "blob"
            } else {
                "text"
            }
        }
        _ => return None,
    };
    // The length of a decimal has its point and its sign.
    let scale = u64::from(column.decimals());
    let precision = u64::from(column.column_length()).saturating_sub(u64::from(scale > 0) + u64::from(!unsigned));
    sql_type(name, if unsigned { "unsigned" } else { "" }, Some(precision), Some(scale))
}

/// A query in the server's own language as a table.
pub async fn native(server: &Arc<Server>, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
    let text = native::checked(server.as_ref(), &query.text)?;
    let mut client = server.client().await?;
    if let Some(database) = &server.database {
        client
            .query_drop(format!("USE {}", MariaDialect.quoted(database)))
            .await
            .map_err(|e| errors::error(server, &e))?;
    }
    let prepared = client
        .prep(format!("SELECT * FROM ({text}) AS t1"))
        .await
        .map_err(|e| errors::error(server, &e).hint("correct the native query; name tables with their database"))?;
    let columns = prepared
        .columns()
        .iter()
        .map(|column| {
            let own = result_type(column);
            let known = own.is_some();
            let sql_type = own.unwrap_or(SqlType::Text);
            let (written, checks) = written_as(&sql_type, known);
            let note =
                (!known).then(|| format!("{:?}", column.column_type()).replace("MYSQL_TYPE_", "").to_lowercase());
            NativeColumn { name: column.name_str().into_owned(), sql_type, written, checks, note }
        })
        .collect();
    drop(prepared);
    drop(client);
    native::table(server.clone(), catalog, &text, columns, query.split.as_ref()).await
}

/// Bytes from which a table is read in portions.
const LARGE: f64 = 8.0 * 1024.0 * 1024.0;

/// Ranges of a table's only key, where it is large and several connections are to see one state of it.
async fn key_ranges(
    server: &Server,
    table: &str,
    key: &TableColumn,
    rows: f64,
    bytes: Option<f64>,
) -> Result<Vec<String>> {
    let Some(portions) = ranges::portions_of(rows) else { return Ok(vec![]) };
    if !server.lock_for_ranges || !key.sql_type.is_integer() || bytes.is_none_or(|bytes| bytes < LARGE) {
        return Ok(vec![]);
    }
    let name = MariaDialect.quoted(&key.name);
    let bounds = server.whole_numbers(&format!("SELECT min({name}), max({name}) FROM {table}")).await?;
    let [Some(least), Some(greatest)] = bounds[..] else { return Ok(vec![]) };
    Ok(ranges::ranges(&format!("t1.{name}"), (least, greatest), portions, false))
}

const ALL_COLUMNS: &str = "
SELECT c.TABLE_NAME, c.COLUMN_NAME, lower(c.DATA_TYPE), lower(c.COLUMN_TYPE), c.NUMERIC_PRECISION, c.NUMERIC_SCALE, c.IS_NULLABLE = 'YES',
       c.COLUMN_KEY = 'PRI', nullif(c.COLUMN_COMMENT, '')
FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = ? AND c.TABLE_NAME NOT LIKE '\\_unfinished\\_%'
ORDER BY c.TABLE_NAME COLLATE utf8mb3_bin, c.ORDINAL_POSITION";

const COLUMNS: &str = "
SELECT c.COLUMN_NAME, lower(c.DATA_TYPE), lower(c.COLUMN_TYPE), c.NUMERIC_PRECISION, c.NUMERIC_SCALE, c.IS_NULLABLE = 'YES',
       c.COLUMN_KEY = 'PRI', nullif(c.COLUMN_COMMENT, '')
FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = ? AND c.TABLE_NAME = ? ORDER BY c.ORDINAL_POSITION";

type Declared = (String, String, String, Option<u64>, Option<u64>, bool, bool, Option<String>);

/// A column, and whether its type is one of ours.
fn column(declared: &Declared) -> (TableColumn, bool) {
    let (name, kind, whole, precision, scale, nullable, _, comment) = declared.clone();
    let own = sql_type(&kind, &whole, precision, scale);
    let known = own.is_some();
    let note = if known { None } else { Some(format!("{whole} at the source, read as text")) };
    let comment = match (comment, note) {
        (Some(comment), Some(note)) => Some(format!("{comment} ({note})")),
        (comment, note) => comment.or(note),
    };
    (TableColumn { name, sql_type: own.unwrap_or(SqlType::Text), nullable, partition: false, comment }, known)
}

pub async fn columns(server: &Server, schema: &str) -> Result<Vec<ListedColumns>> {
    let mut client = server.client().await?;
    type Listed = (String, String, String, String, Option<u64>, Option<u64>, bool, bool, Option<String>);
    let rows: Vec<Listed> = client.exec(ALL_COLUMNS, (schema,)).await.map_err(|e| errors::error(server, &e))?;
    let mut all: Vec<ListedColumns> = Vec::new();
    for (table, name, kind, whole, precision, scale, nullable, key, comment) in rows {
        let own = column(&(name, kind, whole, precision, scale, nullable, key, comment)).0;
        match all.last_mut().filter(|last| last.table == table) {
            Some(last) => last.columns.push(own),
            None => all.push(ListedColumns { table, columns: vec![own] }),
        }
    }
    Ok(all)
}

pub async fn table(server: &Arc<Server>, catalog: &str, schema: &str, name: &str) -> Result<Option<DescribedTable>> {
    let failed = |e: mysql_async::Error| errors::error(server, &e);
    let mut client = server.client().await?;
    type Facts = (String, Option<u64>, Option<u64>, Option<String>);
    let facts: Option<Facts> = client
        .exec_first(
            "SELECT TABLE_TYPE, TABLE_ROWS, DATA_LENGTH, ENGINE FROM information_schema.TABLES \
             WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?",
            (schema, name),
        )
        .await
        .map_err(failed)?;
    let Some((form, rows, bytes, engine)) = facts else { return Ok(None) };
    let declared: Vec<Declared> = client.exec(COLUMNS, (schema, name)).await.map_err(failed)?;
    let (mut columns, mut remote, mut primary_key) = (Vec::new(), Vec::new(), Vec::new());
    for (place, declared) in declared.iter().enumerate() {
        let (described, known) = column(declared);
        let (written, checks) = written_as(&described.sql_type, known);
        if declared.6 {
            primary_key.push(place);
        }
        remote.push(RemoteColumn { name: described.name.clone(), written, checks, taken: None });
        columns.push(described);
    }
    let rows = rows.map(|rows| rows as f64);
    let mut statistics = TableStatistics {
        rows,
        bytes: bytes.map(|bytes| bytes as f64),
        columns: vec![ColumnStatistics::default(); columns.len()],
        origin: rows.map(|_| "the server's own guess".to_owned()),
        sample: None,
    };
    if let ([only], Some(rows)) = (primary_key.as_slice(), rows) {
        statistics.columns[*only].distinct = Some(rows);
    }
    let kind = if form == "VIEW" { TableKind::View } else { TableKind::Table };
    let quoted = format!("{}.{}", MariaDialect.quoted(schema), MariaDialect.quoted(name));
    let identity = match engine.as_deref() {
        _ if form == "VIEW" => Err("it is a view".to_owned()),
        // Only this one undoes what was done when something fails.
        Some("InnoDB") if primary_key.is_empty() => Err("it has no primary key".to_owned()),
        Some("InnoDB") => Ok(primary_key.iter().map(|place| columns[*place].name.clone()).collect()),
        _ => Err("it is not kept by InnoDB, and so has no transactions".to_owned()),
    };
    drop(client);
    let division = match (&identity, primary_key.as_slice()) {
        (Ok(_), [only]) => {
            let (key, rows) = (&columns[*only], statistics.rows.unwrap_or(0.0));
            key_ranges(server, &quoted, key, rows, statistics.bytes).await?
        }
        _ => vec![],
    };
    let table = RemoteTable { name: quoted, schema: schema.to_owned(), columns: remote, division, identity };
    let source = DatabaseSource::new(server.clone(), table);
    let name = ObjectName::new(catalog, schema, name);
    let table = Table { name, columns, statistics, primary_key, kind, origin: server.origin() };
    Ok(Some(DescribedTable::new(table, source)))
}
