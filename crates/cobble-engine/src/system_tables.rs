//! `information_schema`, and `lane.state` for the engine's own state.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use arrow::array::{ArrayRef, Int32Array, StringViewArray};
use cobble_plan::logical::{TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::{TierMove, Tiers};
use cobble_types::{Error, ObjectName, Result, SqlType};
use futures::StreamExt;

use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::memory_table::{MemoryTable, text_rows};
use crate::resolve::describe_view;
use crate::views::{KnownViews, VIEWS_SCHEMA, full_name};

pub const INFORMATION_TABLES: &[&str] = &["tables", "columns", "schemata", "views"];
/// The schemas of the service's own catalog, beside `information_schema`.
pub const SYSTEM_SCHEMAS: &[&str] = &["state", VIEWS_SCHEMA];
const STATE_TABLES: &[&str] = &["catalogs", "connections", "tiers"];
/// Tables described at one time while `information_schema.columns` is filled.
const PARALLEL_DESCRIPTIONS: usize = 8;

/// The columns of a table of `information_schema`.
fn information_columns(name: &str) -> Option<Vec<(&'static str, SqlType)>> {
    let texts = |names: &[&'static str]| names.iter().map(|name| (*name, SqlType::Text)).collect::<Vec<_>>();
    Some(match name {
        "schemata" => texts(&["catalog_name", "schema_name"]),
        "tables" => texts(&["table_catalog", "table_schema", "table_name", "table_type"]),
        "views" => texts(&["table_catalog", "table_schema", "table_name", "view_definition"]),
        "columns" => {
            let mut columns = texts(&["table_catalog", "table_schema", "table_name", "column_name"]);
            columns.push(("ordinal_position", SqlType::Integer));
            columns.extend(texts(&["is_nullable", "data_type", "comment"]));
            columns
        }
        _ => return None,
    })
}

/// The same table without rows, where only its columns are asked for.
pub fn information_shape(name: &[String]) -> Option<DescribedTable> {
    let (table, schema) = (name.last()?, name.get(name.len().checked_sub(2)?)?);
    let columns = information_columns(table).filter(|_| schema == "information_schema")?;
    let none: Vec<Vec<Option<String>>> = vec![];
    let names: Vec<&str> = columns.iter().map(|(name, _)| *name).collect();
    let mut empty = text_rows(&names, &none);
    for (place, (_, sql_type)) in columns.iter().enumerate() {
        empty.columns[place].1 = sql_type.clone();
        empty.arrays[place] = arrow::array::new_empty_array(&sql_type.to_arrow());
    }
    Some(empty.into_table(ObjectName::new(SYSTEM_CATALOG, "information_schema", table)))
}

/// The catalogs that `information_schema` speaks of: one, or all.
fn catalogs<'a>(set: &'a CatalogSet, only: Option<&'a str>) -> Vec<&'a str> {
    set.catalogs.keys().map(String::as_str).filter(|name| only.is_none_or(|only| only == *name)).collect()
}

struct ListedTable {
    name: ObjectName,
    kind: TableKind,
}

/// Every table of the catalogs. A source that does not answer has none here; naming one of its tables tells why.
async fn all_tables(engine: &Engine, set: &CatalogSet, only: Option<&str>) -> Result<Vec<ListedTable>> {
    let of_catalog = async |catalog: &str| {
        let connector = set.connector(catalog)?;
        let mut all = Vec::new();
        for schema in connector.schemas().await? {
            for entry in connector.tables(&schema).await? {
                all.push(ListedTable { name: ObjectName::new(catalog, &schema, entry.name), kind: entry.kind });
            }
        }
        Ok::<_, Error>(all)
    };
    let of_catalog = &of_catalog;
    let names = catalogs(set, only);
    let asked = names.into_iter().map(|catalog| async move { of_catalog(catalog).await });
    let mut all = Vec::new();
    for found in futures::future::join_all(asked).await {
        match (found, only) {
            (Ok(found), _) => all.extend(found),
            (Err(error), Some(_)) => return Err(error),
            (Err(_), None) => {}
        }
    }
    if only.is_none_or(|only| only == SYSTEM_CATALOG) {
        let own = |schema: &str, table: &str| ObjectName::new(SYSTEM_CATALOG, schema, table);
        let state = state_names(engine).into_iter().map(|table| own("state", table));
        all.extend(state.map(|name| ListedTable { name, kind: TableKind::Table }));
        let views = engine.views();
        all.extend(views.keys().map(|view| ListedTable { name: full_name(view), kind: TableKind::View }));
    }
    Ok(all)
}

pub async fn information_table(
    engine: &Engine,
    set: &CatalogSet,
    catalog: Option<&str>,
    name: &str,
) -> Result<Option<DescribedTable>> {
    let some = |s: &str| Some(s.to_owned());
    let Some(columns) = information_columns(name) else { return Ok(None) };
    let names: Vec<&str> = columns.iter().map(|(name, _)| *name).collect();
    let table = match name {
        "schemata" => {
            let mut rows = Vec::new();
            for name in catalogs(set, catalog) {
                let schemas = match (set.connector(name)?.schemas().await, catalog) {
                    (Ok(schemas), _) => schemas,
                    (Err(error), Some(_)) => return Err(error),
                    (Err(_), None) => continue,
                };
                rows.extend(schemas.into_iter().map(|schema| vec![some(name), Some(schema)]));
            }
            if catalog.is_none_or(|only| only == SYSTEM_CATALOG) {
                rows.extend(SYSTEM_SCHEMAS.iter().map(|schema| vec![some(SYSTEM_CATALOG), some(schema)]));
            }
            text_rows(&names, &rows)
        }
        "tables" => {
            let rows: Vec<_> = all_tables(engine, set, catalog)
                .await?
                .into_iter()
                .map(|ListedTable { name: ObjectName { catalog, schema, table }, kind }| {
                    let kind = if kind == TableKind::View { "VIEW" } else { "BASE TABLE" };
                    vec![Some(catalog), Some(schema), Some(table), some(kind)]
                })
                .collect();
            text_rows(&names, &rows)
        }
        "views" => {
            // What is inside of the sources' own views is theirs.
            let views = engine.views();
            let listed = all_tables(engine, set, catalog).await?.into_iter();
            let mut rows = Vec::new();
            for ListedTable { name, .. } in listed.filter(|listed| listed.kind == TableKind::View) {
                let definition = match views.get(&name.table).filter(|_| name == full_name(&name.table)) {
                    Some(known) => Some(known.view.text().into_owned()),
                    None => {
                        // One that cannot be read does not hide the others.
                        let found = set.connector(&name.catalog)?.view(&name.schema, &name.table).await;
                        found.ok().flatten().map(|view| view.query)
                    }
                };
                rows.push(vec![Some(name.catalog), Some(name.schema), Some(name.table), definition]);
            }
            text_rows(&names, &rows)
        }
        _ => self::columns(engine, set, catalog, &names).await?,
    };
    Ok(Some(table.into_table(ObjectName::new(catalog.unwrap_or(SYSTEM_CATALOG), "information_schema", name))))
}

async fn columns(engine: &Engine, set: &CatalogSet, catalog: Option<&str>, names: &[&str]) -> Result<MemoryTable> {
    let tables = all_tables(engine, set, catalog).await?;
    // Where a source tells the columns of a whole schema, its tables are not asked for one by one.
    let schemas: BTreeSet<(String, String)> =
        tables.iter().map(|listed| (listed.name.catalog.clone(), listed.name.schema.clone())).collect();
    let mut known: BTreeMap<ObjectName, Vec<TableColumn>> = BTreeMap::new();
    for (catalog, schema) in schemas {
        let Ok(connector) = set.connector(&catalog) else { continue };
        let Ok(Some(all)) = connector.columns(&schema).await else { continue };
        known.extend(all.into_iter().map(|of| (ObjectName::new(&catalog, &schema, of.table), of.columns)));
    }
    let left = tables.iter().map(|listed| listed.name.clone()).filter(|name| !known.contains_key(name));
    let left: Vec<ObjectName> = left.collect();
    let described: Vec<Option<(ObjectName, Vec<TableColumn>)>> = futures::stream::iter(left)
        .map(|name| async move {
            // One table that cannot be described does not hide the others; naming it tells what is wrong.
            let columns = match (name.catalog.as_str(), name.schema.as_str()) {
                (SYSTEM_CATALOG, VIEWS_SCHEMA) => describe_view(engine, set, &KnownViews::new(), &name).await.ok()?,
                (SYSTEM_CATALOG, _) => state_table(engine, set, &name.table).await.ok()?.table.columns.clone(),
                (catalog, schema) => {
                    let connector = set.connector(catalog).ok()?;
                    match connector.table(catalog, schema, &name.table).await.ok()? {
                        Some(found) => found.table.columns.clone(),
                        None => describe_view(engine, set, &KnownViews::new(), &name).await.ok()?,
                    }
                }
            };
            Some((name, columns))
        })
        .buffered(PARALLEL_DESCRIPTIONS)
        .collect()
        .await;
    known.extend(described.into_iter().flatten());
    let (mut rows, mut places) = (Vec::new(), Vec::new());
    for ListedTable { name, .. } in &tables {
        for (place, column) in known.get(name).into_iter().flatten().enumerate() {
            let nullable = if column.nullable { "YES" } else { "NO" };
            let text = [&name.catalog, &name.schema, &name.table, &column.name];
            let mut row: Vec<Option<String>> = text.into_iter().map(|s| Some(s.clone())).collect();
            // The place is put in between as a number.
            row.push(None);
            row.extend([Some(nullable.to_owned()), Some(column.sql_type.to_string()), column.comment.clone()]);
            rows.push(row);
            places.push(place as i32 + 1);
        }
    }
    let mut table = text_rows(names, &rows);
    table.columns[4].1 = SqlType::Integer;
    table.arrays[4] = Arc::new(Int32Array::from(places)) as ArrayRef;
    Ok(table)
}

pub async fn state_table(engine: &Engine, set: &CatalogSet, name: &str) -> Result<DescribedTable> {
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
        "tiers" => {
            let views = engine.views();
            let tiers = views.iter().filter_map(|(name, known)| Some((name, known.view.tiers.as_ref()?)));
            let rows: Vec<_> = tiers
                .map(|(name, Tiers { recent, older, by, boundary, moving, .. })| {
                    let moving = moving.as_ref().map(TierMove::to_string);
                    vec![some(name), some(recent), some(older), some(by), boundary.clone(), moving]
                })
                .collect();
            Some(text_rows(&["name", "recent", "older", "by", "boundary", "moving"], &rows))
        }
        _ => None,
    };
    let state = engine.state();
    let found = match (own, &state) {
        (Some(own), _) => Some(own),
        (None, Some(state)) => state.table(name, &set.asker).await?,
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
