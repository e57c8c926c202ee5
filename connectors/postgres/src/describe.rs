//! Describing a table from the server's own catalog: columns and their types, primary key, and the statistics that its
//! ANALYZE has collected.

use std::sync::Arc;

use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{ObjectName, Result, SqlType, Value, quote_identifier};

use super::{Server, errors};
use cobble_connect::ListedColumns;
use cobble_connect::NativeQuery;
use cobble_connect_sql::native::{self, NativeColumn};
use cobble_connect_sql::{Database, DatabaseSource, RemoteColumn, RemoteTable};

pub fn table_kind(relkind: &str) -> TableKind {
    if relkind == "v" { TableKind::View } else { TableKind::Table }
}

/// Our type for one of the server's, or `None` when the value is read as text.
fn sql_type(type_name: &str, modifier: i32) -> Option<SqlType> {
    Some(match type_name {
        "bool" => SqlType::Boolean,
        "int2" => SqlType::SmallInt,
        "int4" => SqlType::Integer,
        "int8" => SqlType::BigInt,
        "float4" => SqlType::Real,
        "float8" => SqlType::Double,
        // numeric(p, s) keeps ((p << 16) | s) + 4 as its modifier; without one any scale may come.
        "numeric" if modifier >= 4 => {
            let (precision, scale) = ((modifier - 4) >> 16, (modifier - 4) & 0x7ff);
            match (u8::try_from(precision), i8::try_from(scale)) {
                (Ok(precision @ 1..=38), Ok(scale)) if scale <= precision as i8 => {
                    SqlType::Numeric { precision, scale }
                }
                _ => return None,
            }
        }
        "text" | "varchar" | "name" => SqlType::Text,
        "bytea" => SqlType::Bytea,
        "date" => SqlType::Date,
        "time" => SqlType::Time,
        "timestamp" => SqlType::Timestamp,
        "timestamptz" => SqlType::TimestampTz,
        "interval" => SqlType::Interval,
        _ => return None,
    })
}

/// Our type for one of the server's, and whether its values are read as text.
fn read_as(type_name: &str, modifier: i32) -> (SqlType, bool) {
    match (sql_type(type_name, modifier), type_name) {
        (Some(own), _) => (own, false),
        (None, "uuid") => (SqlType::Uuid, true),
        (None, "json" | "jsonb") => (SqlType::Json, true),
        (None, _) => (SqlType::Text, true),
    }
}

/// A query in the server's own language as a table.
pub async fn native(server: &Arc<Server>, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
    let text = native::checked(server.as_ref(), &query.text)?;
    let client = server.client().await?;
    let prepared = client
        .prepare(&format!("SELECT * FROM ({text}) AS t1"))
        .await
        .map_err(|e| errors::statement_error(server, &e).hint("correct the native query"))?;
    let columns: Vec<NativeColumn> = prepared
        .columns()
        .iter()
        .map(|column| {
            let (sql_type, as_text) = read_as(column.type_().name(), column.type_modifier());
            // Of the collation nothing is known: one that calls different strings equal is set aside.
            let (written, checks) = match (&sql_type, as_text) {
                (SqlType::Text, false) => ("({} COLLATE \"C\")", true),
                (SqlType::Text, true) => ("({}::text COLLATE \"C\")", false),
                (_, true) => ("{}::text", false),
                _ => ("{}", false),
            };
            NativeColumn {
                name: column.name().to_owned(),
                note: (as_text && sql_type == SqlType::Text).then(|| column.type_().name().to_owned()),
                sql_type,
                written: written.to_owned(),
                checks,
            }
        })
        .collect();
    drop(client);
    native::table(server.clone(), catalog, &text, columns, query.split.as_ref()).await
}

const COLUMNS: &str = "
SELECT a.attname::text, t.typname::text, a.atttypmod, a.attnotnull, col_description(c.oid, a.attnum),
       coalesce(l.collname <> 'default', false), c.relkind::text, c.reltuples::float8,
       CASE WHEN c.relkind IN ('r', 'm') THEN pg_relation_size(c.oid)::float8 END,
       coalesce(a.attnum = ANY (k.indkey), false), format_type(a.atttypid, a.atttypmod),
       s.n_distinct::float8, s.null_frac::float8, s.avg_width::float8,
       s.histogram_bounds::text::text[], s.most_common_vals::text::text[], s.most_common_freqs::float8[],
       format_type(a.atttypid, -1)
FROM pg_class c
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN pg_collation l ON l.oid = a.attcollation
LEFT JOIN pg_index k ON k.indrelid = c.oid AND k.indisprimary
LEFT JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname AND s.attname = a.attname
WHERE n.nspname = $1::text AND c.relname = $2::text AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
ORDER BY a.attnum";

/// Columns alone, of all tables of a schema.
const ALL_COLUMNS: &str = "
SELECT c.relname::text, a.attname::text, t.typname::text, a.atttypmod, a.attnotnull, col_description(c.oid, a.attnum),
       format_type(a.atttypid, a.atttypmod)
FROM pg_class c
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
JOIN pg_type t ON t.oid = a.atttypid
WHERE n.nspname = $1::text AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
ORDER BY c.relname COLLATE \"C\", a.attnum";

/// A column, by what the server says of it: name, type and its modifier, the type in full, whether it may be null, and its comment.
fn column(
    name: String,
    (type_name, modifier, in_full): (&str, i32, String),
    nullable: bool,
    comment: Option<String>,
) -> (TableColumn, bool) {
    let (sql_type, as_text) = read_as(type_name, modifier);
    let note = (as_text && sql_type == SqlType::Text).then(|| format!("{in_full} at the source, read as text"));
    let comment = match (comment, note) {
        (Some(comment), Some(note)) => Some(format!("{comment} ({note})")),
        (comment, note) => comment.or(note),
    };
    (TableColumn { name, sql_type, nullable, partition: false, comment }, as_text)
}

pub async fn columns(server: &Server, schema: &str) -> Result<Vec<ListedColumns>> {
    let client = server.client().await?;
    let rows = client.query(ALL_COLUMNS, &[&schema]).await.map_err(|e| errors::statement_error(server, &e))?;
    let mut all: Vec<ListedColumns> = Vec::new();
    for row in &rows {
        let table: String = row.get(0);
        let (own, _) = column(row.get(1), (row.get(2), row.get(3), row.get(6)), !row.get::<_, bool>(4), row.get(5));
        match all.last_mut().filter(|last| last.table == table) {
            Some(last) => last.columns.push(own),
            None => all.push(ListedColumns { table, columns: vec![own] }),
        }
    }
    Ok(all)
}

/// Bytes of a page, unless the server was built with another size, which only makes the ranges other ones.
const PAGE: f64 = 8192.0;
/// Fewer pages are not worth a request of their own, and more ranges than this are of no use.
const LEAST_PAGES: u64 = 1024;
const MOST_RANGES: u64 = 16;

/// Ranges of about as many pages each. The first and the last one are open, so that pages that came later belong to one too.
fn page_ranges(pages: u64) -> Vec<String> {
    let step = LEAST_PAGES.max(pages.div_ceil(MOST_RANGES));
    let bounds: Vec<u64> = (1..pages.div_ceil(step)).map(|n| n * step).collect();
    if bounds.is_empty() {
        return vec![];
    }
    let range = |place: usize| {
        let from = place.checked_sub(1).map(|before| format!("t1.ctid >= '({},0)'::tid", bounds[before]));
        let to = bounds.get(place).map(|bound| format!("t1.ctid < '({bound},0)'::tid"));
        from.into_iter().chain(to).collect::<Vec<_>>().join(" AND ")
    };
    (0..=bounds.len()).map(range).collect()
}

/// The table, or `None` when the server has none of that name.
pub async fn table(server: &Arc<Server>, catalog: &str, schema: &str, name: &str) -> Result<Option<DescribedTable>> {
    let client = server.client().await?;
    let rows = client.query(COLUMNS, &[&schema, &name]).await.map_err(|e| errors::statement_error(server, &e))?;
    let Some(first) = rows.first() else { return Ok(None) };
    let kind = table_kind(first.get(6));
    let tuples: f64 = first.get(7);
    // Minus one means never analysed.
    let row_count = (tuples >= 0.0).then_some(tuples);
    let mut statistics = TableStatistics {
        rows: row_count,
        bytes: first.get(8),
        columns: Vec::new(),
        origin: row_count.map(|_| "the server's own statistics".to_owned()),
        sample: None,
    };
    let (mut columns, mut remote, mut primary_key) = (Vec::new(), Vec::new(), Vec::new());
    for (place, row) in rows.iter().enumerate() {
        let (described, as_text) =
            column(row.get(0), (row.get(1), row.get(2), row.get(10)), !row.get::<_, bool>(3), row.get(4));
        let (name, own) = (described.name.clone(), described.sql_type.clone());
        if row.get(9) {
            primary_key.push(place);
        }
        // Read as text, the server's values are not ours.
        let value = |text: &String| {
            if as_text { None } else { cobble_types::parse::parse_value(text, &own).ok() }
        };
        // The server orders texts in its own way.
        let bounds: Option<Vec<String>> = row.get(14);
        let bounds = bounds.filter(|_| own != SqlType::Text).unwrap_or_default();
        let histogram: Vec<_> = bounds.iter().map_while(value).collect();
        let (common, shares): (Option<Vec<String>>, Option<Vec<f64>>) = (row.get(15), row.get(16));
        let common: Vec<_> = common.unwrap_or_default().iter().map_while(value).collect();
        let most_common: Vec<_> = common.into_iter().zip(shares.unwrap_or_default()).collect();
        let ends =
            || histogram.iter().chain(most_common.iter().map(|(value, _)| value)).filter(|_| own != SqlType::Text);
        let least = |a: &&Value, b: &&Value| a.compare(b).unwrap_or(std::cmp::Ordering::Equal);
        let (min, max) = (ends().min_by(least).cloned(), ends().max_by(least).cloned());
        // A negative number is the share of the rows that are distinct.
        let distinct: Option<f64> = row.get(11);
        let distinct = distinct.and_then(|d| if d < 0.0 { row_count.map(|rows| -d * rows) } else { Some(d) });
        let width: Option<f64> = row.get(13);
        statistics.columns.push(ColumnStatistics {
            distinct,
            null_fraction: row.get(12),
            width,
            min,
            max,
            most_common,
            histogram,
        });
        columns.push(described);
        // A type that is not ours is read as text, and compared as text on both sides; a collation of the column's own, which may be at
        // odds with another one or call different strings equal, is set aside.
        let cast = if as_text { "::text" } else { "" };
        let written = match row.get(5) {
            true => format!("({{}}{cast} COLLATE \"C\")"),
            false => format!("{{}}{cast}"),
        };
        // The type without its length, so that a text that is too long is an error and not cut.
        let taken = as_text.then(|| format!("?::{}", row.get::<_, String>(17)));
        let checks = row.get(5) && !as_text;
        remote.push(RemoteColumn { name, written, checks, taken });
    }
    if let ([only], Some(rows)) = (primary_key.as_slice(), row_count) {
        statistics.columns[*only].distinct = Some(rows);
    }
    let quoted = format!("{}.{}", quote_identifier(schema), quote_identifier(name));
    // Only of a table's own pages can ranges be read.
    let pages = first.get::<_, Option<f64>>(8).filter(|_| first.get::<_, &str>(6) == "r").unwrap_or(0.0) / PAGE;
    let identity = match first.get(6) {
        "r" => Ok(vec!["ctid".to_owned()]),
        // Pages are counted in each partition anew.
        "p" => Ok(vec!["tableoid".to_owned(), "ctid".to_owned()]),
        "v" | "m" => Err("it is a view".to_owned()),
        _ => Err("it is a foreign table".to_owned()),
    };
    let table = RemoteTable {
        name: quoted,
        schema: schema.to_owned(),
        columns: remote,
        division: page_ranges(pages as u64),
        identity,
    };
    let source = DatabaseSource::new(server.clone(), table);
    let name = ObjectName::new(catalog, schema, name);
    let table = Table { name, columns, statistics, primary_key, kind, origin: server.origin() };
    Ok(Some(DescribedTable::new(table, source)))
}
