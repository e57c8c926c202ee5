//! Table names of one to three parts to tables, with an explanation for each way a name can fail.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_connect::NativeQuery;
use cobble_plan::logical::Table;
use cobble_sql::{CatalogReader, native_query};
use cobble_types::{Code, Error, Result};

use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::system_tables::{INFORMATION_TABLES, information_table, state_names, state_table};

/// Where unqualified names are looked up.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    pub catalog: Option<String>,
    pub schema: Option<String>,
}

pub const DEFAULT_SCHEMA: &str = "public";

/// All tables a statement names, found before it is bound.
pub struct Resolved {
    tables: HashMap<Vec<String>, Result<Arc<Table>>>,
}

impl CatalogReader for Resolved {
    fn table(&self, name: &[String]) -> Result<Arc<Table>> {
        match self.tables.get(name) {
            Some(found) => found.clone(),
            None => Err(Error::internal(format!("the name {} was not looked up", name.join(".")))),
        }
    }
}

pub async fn resolve(engine: &Engine, set: &CatalogSet, place: &Place, names: Vec<Vec<String>>) -> Resolved {
    let lookups = names.into_iter().map(|name| async move {
        let found = table(engine, set, place, &name).await;
        (name, found)
    });
    Resolved { tables: futures::future::join_all(lookups).await.into_iter().collect() }
}

/// Completes a name to catalog, schema and table.
pub fn complete(set: &CatalogSet, place: &Place, name: &[String]) -> Result<(String, String, String)> {
    let no_catalog = |what: &str| {
        let known: Vec<&str> = set.catalogs.keys().map(String::as_str).collect();
        let hint = match known.first() {
            Some(first) => format!(
                "write it as catalog.schema.table, or choose a place first: USE {first}.{DEFAULT_SCHEMA}; catalogs: {}",
                known.join(", ")
            ),
            None => "there is no catalog yet: add a connection and a catalog".to_owned(),
        };
        Error::new(Code::UnknownTable, format!("\"{what}\" names no catalog, and the session has no default one"))
            .hint(hint)
    };
    match name {
        [catalog, schema, table] => Ok((catalog.clone(), schema.clone(), table.clone())),
        [schema, table] => match &place.catalog {
            Some(catalog) => Ok((catalog.clone(), schema.clone(), table.clone())),
            None if set.catalogs.contains_key(schema) => Err(Error::new(
                Code::NotFound,
                format!("\"{schema}\" is a catalog, and a name of two parts is schema and table"),
            )
            .hint(format!("name the schema too, such as {schema}.{DEFAULT_SCHEMA}.{table}"))),
            None => Err(no_catalog(&format!("{schema}.{table}"))),
        },
        [table] => match &place.catalog {
            Some(catalog) => {
                let schema = place.schema.clone().unwrap_or_else(|| DEFAULT_SCHEMA.to_owned());
                Ok((catalog.clone(), schema, table.clone()))
            }
            None => Err(no_catalog(table)),
        },
        _ => Err(Error::new(Code::Syntax, format!("\"{}\" has more than three parts", name.join(".")))),
    }
}

pub async fn table(engine: &Engine, set: &CatalogSet, place: &Place, name: &[String]) -> Result<Arc<Table>> {
    if let Some(native) = native_query(name) {
        let connector = set.connector(native.catalog)?;
        let query = NativeQuery::new(native.text, native.split_on, native.split_into)?;
        return connector.native(native.catalog, &query).await;
    }
    // information_schema without a catalog speaks of the default one, or of all.
    if let [schema, table] = name
        && schema == "information_schema"
    {
        return match information_table(set, place.catalog.as_deref(), table).await? {
            Some(found) => Ok(found),
            None => Err(Error::unknown("table", table, INFORMATION_TABLES.iter().copied())),
        };
    }
    let (catalog, schema, table) = complete(set, place, name)?;
    if catalog == SYSTEM_CATALOG {
        return match schema.as_str() {
            "state" => state_table(engine, set, &table).await,
            _ => Err(Error::unknown("schema", &schema, ["state"])),
        };
    }
    let connector = match set.connector(&catalog) {
        Ok(connector) => connector,
        // A two-part name may have been meant as catalog and table.
        Err(error) if name.len() == 3 => return Err(error),
        Err(error) => return Err(error.hint("USE a catalog that exists")),
    };
    if schema == "information_schema" {
        return match information_table(set, Some(&catalog), &table).await? {
            Some(found) => Ok(found),
            None => Err(Error::unknown("table", &table, INFORMATION_TABLES.iter().copied())),
        };
    }
    if let Some(found) = connector.table(&catalog, &schema, &table).await? {
        return Ok(engine.with_statistics(found));
    }
    let schemas = connector.schemas().await?;
    if !schemas.contains(&schema) {
        let mut error = Error::unknown("schema", &format!("{catalog}.{schema}"), []);
        if let [_, table] = name
            && set.catalogs.contains_key(&schema)
        {
            return Err(error.hint(format!("\"{schema}\" is a catalog: write {schema}.{DEFAULT_SCHEMA}.{table}")));
        }
        error = match cobble_types::closest_name(&schema, schemas.iter().map(String::as_str)) {
            Some(close) => error.hint(format!("did you mean \"{close}\"?")),
            None => error.hint(format!("{catalog} has the schemas {}", schemas.join(", "))),
        };
        return Err(error);
    }
    let entries = connector.tables(&schema).await?;
    let names = || entries.iter().map(|entry| entry.name.as_str());
    let error = Error::new(Code::UnknownTable, format!("there is no table {catalog}.{schema}.{table}"));
    Err(match cobble_types::closest_name(&table, names()) {
        Some(close) => error.hint(format!("did you mean \"{close}\"?")),
        None => {
            let some: Vec<&str> = names().take(8).collect();
            error.hint(if some.is_empty() {
                format!("{catalog}.{schema} is empty")
            } else {
                format!("there are {}", some.join(", "))
            })
        }
    })
}

/// Names of the tables of one schema, system schemas included.
pub async fn table_names(engine: &Engine, set: &CatalogSet, catalog: &str, schema: &str) -> Result<Vec<String>> {
    if catalog == SYSTEM_CATALOG {
        return Ok(state_names(engine).into_iter().map(str::to_owned).collect());
    }
    if schema == "information_schema" {
        return Ok(INFORMATION_TABLES.iter().map(|s| (*s).to_owned()).collect());
    }
    let entries = set.connector(catalog)?.tables(schema).await?;
    Ok(entries.into_iter().map(|entry| entry.name).collect())
}
