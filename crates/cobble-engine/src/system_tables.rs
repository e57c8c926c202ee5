//! `information_schema`, and `lane.state` for what the engine knows of itself.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use arrow::array::{ArrayRef, Int32Array, StringViewArray};
use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_types::{Error, ObjectName, Result, SqlType};
use futures::StreamExt;

use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::memory_table::{MemoryTable, text_rows};

pub const INFORMATION_TABLES: &[&str] = &["tables", "columns", "schemata"];
const STATE_TABLES: &[&str] = &["catalogs", "connections"];
/// Tables described at one time while `information_schema.columns` is filled.
const PARALLEL_DESCRIPTIONS: usize = 8;

/// The catalogs that `information_schema` speaks of: one, or all.
fn catalogs<'a>(set: &'a CatalogSet, only: Option<&'a str>) -> Vec<&'a str> {
    set.catalogs.keys().map(String::as_str).filter(|name| only.is_none_or(|only| only == *name)).collect()
}

/// Every table of the catalogs, as (catalog, schema, table, kind). A source that does not answer has none here; naming one of
/// its tables tells why.
async fn all_tables(set: &CatalogSet, only: Option<&str>) -> Result<Vec<(String, String, String, TableKind)>> {
    let mut all = Vec::new();
    for catalog in catalogs(set, only) {
        let connector = set.connector(catalog)?;
        let schemas = match (connector.schemas().await, only) {
            (Ok(schemas), _) => schemas,
            (Err(error), Some(_)) => return Err(error),
            (Err(_), None) => continue,
        };
        for schema in schemas {
            for entry in connector.tables(&schema).await? {
                all.push((catalog.to_owned(), schema.clone(), entry.name, entry.kind));
            }
        }
    }
    Ok(all)
}

pub async fn information_table(set: &CatalogSet, catalog: Option<&str>, name: &str) -> Result<Option<Arc<Table>>> {
    let some = |s: &str| Some(s.to_owned());
    let table = match name {
        "schemata" => {
            let mut rows = Vec::new();
            for catalog in catalogs(set, catalog) {
                for schema in set.connector(catalog)?.schemas().await? {
                    rows.push(vec![some(catalog), Some(schema)]);
                }
            }
            text_rows(&["catalog_name", "schema_name"], &rows)
        }
        "tables" => {
            let rows: Vec<_> = all_tables(set, catalog)
                .await?
                .into_iter()
                .map(|(catalog, schema, table, kind)| {
                    let kind = if kind == TableKind::View { "VIEW" } else { "BASE TABLE" };
                    vec![Some(catalog), Some(schema), Some(table), some(kind)]
                })
                .collect();
            text_rows(&["table_catalog", "table_schema", "table_name", "table_type"], &rows)
        }
        "columns" => columns(set, catalog).await?,
        _ => return Ok(None),
    };
    Ok(Some(table.into_table(ObjectName::new(catalog.unwrap_or(SYSTEM_CATALOG), "information_schema", name))))
}

async fn columns(set: &CatalogSet, catalog: Option<&str>) -> Result<MemoryTable> {
    let tables = all_tables(set, catalog).await?;
    // Where a source tells the columns of a whole schema, its tables are not asked for one by one.
    let schemas: BTreeSet<(String, String)> =
        tables.iter().map(|(catalog, schema, ..)| (catalog.clone(), schema.clone())).collect();
    let mut known: BTreeMap<(String, String, String), Vec<TableColumn>> = BTreeMap::new();
    for (catalog, schema) in schemas {
        let Ok(Some(all)) = set.connector(&catalog)?.columns(&schema).await else { continue };
        known.extend(all.into_iter().map(|listed| ((catalog.clone(), schema.clone(), listed.table), listed.columns)));
    }
    let left: Vec<(String, String, String)> = tables
        .iter()
        .map(|(catalog, schema, table, _)| (catalog.clone(), schema.clone(), table.clone()))
        .filter(|name| !known.contains_key(name))
        .collect();
    let described: Vec<Option<Arc<Table>>> = futures::stream::iter(left)
        .map(|(catalog, schema, table)| async move {
            // One table that cannot be described does not hide the others; naming it tells what is wrong.
            set.connector(&catalog).ok()?.table(&catalog, &schema, &table).await.ok()?
        })
        .buffered(PARALLEL_DESCRIPTIONS)
        .collect()
        .await;
    for table in described.into_iter().flatten() {
        let ObjectName { catalog, schema, table: name } = table.name.clone();
        known.insert((catalog, schema, name), table.columns.clone());
    }
    let (mut rows, mut places) = (Vec::new(), Vec::new());
    for (catalog, schema, table, _) in &tables {
        let Some(columns) = known.get(&(catalog.clone(), schema.clone(), table.clone())) else { continue };
        for (place, column) in columns.iter().enumerate() {
            let nullable = if column.nullable { "YES" } else { "NO" };
            let text = [catalog, schema, table, &column.name];
            let mut row: Vec<Option<String>> = text.into_iter().map(|s| Some(s.clone())).collect();
            row.extend([Some(nullable.to_owned()), Some(column.sql_type.to_string()), column.comment.clone()]);
            rows.push(row);
            places.push(place as i32 + 1);
        }
    }
    let names = ["table_catalog", "table_schema", "table_name", "column_name", "is_nullable", "data_type", "comment"];
    let mut table = text_rows(&names, &rows);
    table.columns.insert(4, ("ordinal_position".to_owned(), SqlType::Integer));
    table.arrays.insert(4, Arc::new(Int32Array::from(places)) as ArrayRef);
    Ok(table)
}

pub async fn state_table(engine: &Engine, set: &CatalogSet, name: &str) -> Result<Arc<Table>> {
    let some = |s: &str| Some(s.to_owned());
    let own = match name {
        "connections" => {
            let rows: Vec<_> = set
                .connections
                .values()
                .map(|c| {
                    let d = &c.definition;
                    vec![
                        some(&d.name),
                        some(&d.kind),
                        some(&d.address),
                        d.database.clone(),
                        d.user.clone(),
                        d.region.clone(),
                    ]
                })
                .collect();
            Some(text_rows(&["name", "kind", "address", "database", "user", "region"], &rows))
        }
        "catalogs" => {
            let rows: Vec<_> = set.catalogs.values().map(|c| vec![some(&c.name), some(&c.connection)]).collect();
            Some(text_rows(&["name", "connection"], &rows))
        }
        _ => None,
    };
    let state = engine.state();
    let found = match (own, &state) {
        (Some(own), _) => Some(own),
        (None, Some(state)) => state.table(name).await?,
        (None, None) => None,
    };
    match found {
        Some(table) => Ok(table.into_table(ObjectName::new(SYSTEM_CATALOG, "state", name))),
        None => Err(Error::unknown("table", name, state_names(engine))),
    }
}

/// Names of the tables in `lane.state`.
pub fn state_names(engine: &Engine) -> Vec<&'static str> {
    let mut names: Vec<&'static str> = STATE_TABLES.to_vec();
    if let Some(state) = engine.state() {
        names.extend(state.names());
    }
    names.sort_unstable();
    names
}

/// A result of text rows: what SHOW and EXPLAIN answer with.
pub fn lines(column: &str, lines: &[String]) -> MemoryTable {
    let array: StringViewArray = lines.iter().map(|l| Some(l.as_str())).collect();
    MemoryTable { columns: vec![(column.to_owned(), SqlType::Text)], rows: lines.len(), arrays: vec![Arc::new(array)] }
}
