//! Describing a table from SQLite's own schema: columns and the types they declare, primary key, and a guess of the rows.

use std::sync::Arc;

use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{ObjectName, Result, SqlType};
use rusqlite::{Connection, OptionalExtension};

use super::{File, errors, guard};
use cobble_connect::TableEntry;
use cobble_connect_sql::native::NativeColumn;
use cobble_connect_sql::{Database, DatabaseSource, Dialect, RemoteColumn, RemoteTable, ranges};

pub fn tables(connection: &Connection) -> rusqlite::Result<Vec<TableEntry>> {
    let sql = "SELECT name, type FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'view', 'virtual') \
               AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name COLLATE BINARY";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([], |row| {
        let kind = if row.get::<_, String>(1)? == "view" { TableKind::View } else { TableKind::Table };
        Ok(TableEntry { name: row.get(0)?, kind })
    })?;
    rows.collect()
}

/// Our type for a declared one, or `None` when the value is read as text.
fn sql_type(declared: &str) -> Option<SqlType> {
    let declared = declared.to_ascii_uppercase();
    let (name, digits) = match declared.split_once('(') {
        Some((name, rest)) => (name.trim(), rest.trim_end().strip_suffix(')')),
        None => (declared.trim(), None),
    };
    let has = |part: &str| name.contains(part);
    Some(match name {
        "BOOLEAN" | "BOOL" => SqlType::Boolean,
        "DATE" => SqlType::Date,
        "TIME" => SqlType::Time,
        "DATETIME" | "TIMESTAMP" => SqlType::Timestamp,
        "DECIMAL" | "NUMERIC" | "DEC" => {
            let mut parts = digits?.split(',').map(|part| part.trim().parse::<u8>().ok());
            let (precision, scale) = (parts.next()??, parts.next().unwrap_or(Some(0))?);
            // Fifteen digits is what a floating-point number keeps.
            if precision > 15 || scale > precision {
                return None;
            }
            SqlType::Numeric { precision, scale: scale as i8 }
        }
        // The rules by which SQLite itself reads declared types, in their order.
        _ if has("INT") => SqlType::BigInt,
        _ if has("CHAR") || has("CLOB") || has("TEXT") => SqlType::Text,
        _ if has("BLOB") => SqlType::Bytea,
        _ if has("REAL") || has("FLOA") || has("DOUB") => SqlType::Double,
        _ => return None,
    })
}

/// What makes a column's values the engine's; `sure` says that it holds no other type than it declares.
fn written_as(column: &str, own: &SqlType, known: bool, sure: bool) -> String {
    match guard::function(own) {
        _ if !known => "CAST({} AS TEXT)".to_owned(),
        // For the message only; quotes that have no partner would hide aliases of tables.
        Some(function) if !sure => {
            let shown = column.replace(['"', '`'], "").replace('\'', "''").replace("{}", "{ }");
            format!("{function}({{}}, '{shown}')")
        }
        _ => "{}".to_owned(),
    }
}

/// The columns of a query in SQLite's own language. What it computes has no declared type and is text.
pub fn native(file: &File, connection: &Connection, text: &str) -> Result<Vec<NativeColumn>> {
    let failed = |e: rusqlite::Error| errors::error(file, &e).hint("correct the native query");
    let prepared = connection.prepare(&format!("SELECT * FROM ({text}) AS t1")).map_err(failed)?;
    let column = |column: rusqlite::Column<'_>| {
        let declared = column.decl_type().unwrap_or_default();
        let own = sql_type(declared);
        let known = own.is_some();
        let sql_type = own.unwrap_or(SqlType::Text);
        let written = written_as(column.name(), &sql_type, known, false);
        let note = match declared {
            _ if known => None,
            "" => Some("computed".to_owned()),
            other => Some(other.to_lowercase()),
        };
        NativeColumn { name: column.name().to_owned(), sql_type, written, checks: known, note }
    };
    Ok(prepared.columns().map(column).collect())
}

pub fn table(
    file: &Arc<File>,
    connection: &Connection,
    catalog: &str,
    schema: &str,
    name: &str,
) -> Result<Option<DescribedTable>> {
    let failed = |e: rusqlite::Error| errors::error(file, &e);
    let facts = connection
        .query_row(
            "SELECT type, strict, wr FROM pragma_table_list WHERE schema = 'main' AND name = ?1 COLLATE BINARY",
            [name],
            |row| Ok((row.get::<_, String>(0)?, row.get::<_, bool>(1)?, row.get::<_, bool>(2)?)),
        )
        .optional()
        .map_err(failed)?;
    let Some((form, strict, without_rowid)) = facts else { return Ok(None) };
    let mut statement = connection
        .prepare(
            "SELECT name, type, \"notnull\", pk, hidden FROM pragma_table_xinfo(?1) WHERE hidden <> 1 ORDER BY cid",
        )
        .map_err(failed)?;
    type Declared = (String, String, bool, u32, u32);
    let declared: Vec<Declared> = statement
        .query_map([name], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?)))
        .and_then(Iterator::collect)
        .map_err(failed)?;
    let quoted = file.dialect.quoted(name);
    let rows = row_count(connection, name, &quoted);
    let keys = declared.iter().filter(|d| d.3 > 0).count();
    let (mut columns, mut remote, mut primary_key) = (Vec::new(), Vec::new(), Vec::new());
    for (place, (column, declared, not_null, key, generated)) in declared.into_iter().enumerate() {
        let own = sql_type(&declared);
        let known = own.is_some();
        let own = own.unwrap_or(SqlType::Text);
        // The one integer key of a table is its row number, which is always an integer.
        let row_number = key == 1 && keys == 1 && declared.eq_ignore_ascii_case("INTEGER");
        let written = written_as(&column, &own, known, strict || row_number);
        if key > 0 {
            primary_key.push((key, place));
        }
        let comment = match (known, generated) {
            (false, _) if declared.is_empty() => Some("declared without a type, read as text".to_owned()),
            (false, _) => Some(format!("{} at the source, read as text", declared.to_lowercase())),
            (true, 2 | 3) => Some("generated at the source".to_owned()),
            _ => None,
        };
        columns.push(TableColumn {
            name: column.clone(),
            sql_type: own,
            nullable: !not_null && !row_number,
            partition: false,
            comment,
        });
        remote.push(RemoteColumn { name: column, written, checks: known, taken: None });
    }
    primary_key.sort_unstable();
    let primary_key: Vec<usize> = primary_key.into_iter().map(|(_, place)| place).collect();
    let mut statistics = TableStatistics {
        rows,
        bytes: None,
        columns: vec![ColumnStatistics::default(); columns.len()],
        origin: rows.map(|_| "the highest row number".to_owned()),
        sample: None,
    };
    if let ([only], Some(rows)) = (primary_key.as_slice(), rows) {
        statistics.columns[*only].distinct = Some(rows);
    }
    let kind = if form == "view" { TableKind::View } else { TableKind::Table };
    let taken = |name: &str| columns.iter().any(|column| column.name.eq_ignore_ascii_case(name));
    let row_number = ["rowid", "_rowid_", "oid"].into_iter().find(|name| !taken(name));
    let identity = match (form.as_str(), row_number) {
        ("view", _) => Err("it is a view".to_owned()),
        ("table", _) if without_rowid => Ok(primary_key.iter().map(|place| columns[*place].name.clone()).collect()),
        ("table", Some(name)) => Ok(vec![name.to_owned()]),
        _ => Err("its rows have no number".to_owned()),
    };
    // Row numbers are found at once, and their ranges read apart.
    let division = match (row_number, statistics.rows.and_then(ranges::portions_of)) {
        (Some(name), Some(portions)) if form == "table" && !without_rowid => {
            let ends = format!(
                "SELECT coalesce((SELECT min({name}) FROM {quoted}), 0), coalesce((SELECT max({name}) FROM {quoted}), 0)"
            );
            let ends = connection.query_row(&ends, [], |row| Ok((row.get(0)?, row.get(1)?))).map_err(failed)?;
            ranges::ranges(&format!("t1.{name}"), ends, portions, false)
        }
        _ => vec![],
    };
    let table = RemoteTable { name: quoted, schema: schema.to_owned(), columns: remote, division, identity };
    let source = DatabaseSource::new(file.clone(), table);
    let name = ObjectName::new(catalog, schema, name);
    let table = Table { name, columns, statistics, primary_key, kind, origin: file.origin() };
    Ok(Some(DescribedTable::new(table, source)))
}

/// What the planner takes for the number of rows: the highest row number is found at once.
fn row_count(connection: &Connection, name: &str, quoted: &str) -> Option<f64> {
    let is_table = connection
        .query_row(
            "SELECT 1 FROM pragma_table_list WHERE schema = 'main' AND name = ?1 AND type = 'table' AND wr = 0",
            [name],
            |_| Ok(()),
        )
        .is_ok();
    if !is_table {
        return None;
    }
    connection.query_row(&format!("SELECT coalesce(max(rowid), 0) FROM {quoted}"), [], |row| row.get::<_, f64>(0)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declared_types_become_ours_or_text() {
        let money = |precision, scale| SqlType::Numeric { precision, scale };
        for (declared, wanted) in [
            ("INTEGER", Some(SqlType::BigInt)),
            ("int unsigned", Some(SqlType::BigInt)),
            ("VARCHAR(20)", Some(SqlType::Text)),
            ("NATIVE CHARACTER(70)", Some(SqlType::Text)),
            ("decimal(8, 2)", Some(money(8, 2))),
            ("NUMERIC(5)", Some(money(5, 0))),
            ("NUMERIC", None),
            ("DECIMAL(38,2)", None),
            ("DOUBLE PRECISION", Some(SqlType::Double)),
            ("DATE", Some(SqlType::Date)),
            ("datetime", Some(SqlType::Timestamp)),
            ("BLOB", Some(SqlType::Bytea)),
            ("BOOLEAN", Some(SqlType::Boolean)),
            ("", None),
            ("MONEY", None),
        ] {
            assert_eq!(sql_type(declared), wanted, "{declared}");
        }
    }
}
