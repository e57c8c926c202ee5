//! What SHOW and DESCRIBE answer, and what a client lists: catalogs, schemas, tables, views and their columns, as a session sees them.

use cobble_connect::TableEntry;
use cobble_optimize::settings;
use cobble_plan::logical::{TableColumn, TableKind};
use cobble_sql::Show;
use cobble_types::{Code, Error, Result};

use crate::catalogs::{CatalogSet, SYSTEM_CATALOG};
use crate::execution::Execution;
use crate::memory_table::text_rows;
use crate::resolve::{Relation, complete, describe_view, relation, table_names};
use crate::session::Session;
use crate::system_tables::SYSTEM_SCHEMAS;
use crate::views::VIEWS_SCHEMA;

impl Session {
    pub(crate) async fn show(&self, show: &Show) -> Result<Execution> {
        let set = self.catalogs()?;
        let some = |s: &str| Some(s.to_owned());
        let table = match show {
            Show::Catalogs => {
                let mut rows: Vec<_> =
                    set.catalogs.values().map(|c| vec![some(&c.name), some(&c.connection)]).collect();
                rows.push(vec![some(SYSTEM_CATALOG), None]);
                text_rows(&["catalog", "connection"], &rows)
            }
            Show::Schemas { catalog } => {
                let catalog = self.catalog_of(&set, catalog.as_deref())?;
                let rows: Vec<_> = self.schemas(&set, &catalog).await?.into_iter().map(|s| vec![Some(s)]).collect();
                text_rows(&["schema"], &rows)
            }
            Show::Tables { place } => {
                let (catalog, schema) = match place.as_slice() {
                    [catalog, schema] => (catalog.clone(), Some(schema.clone())),
                    [one] if set.catalogs.contains_key(one) || one == SYSTEM_CATALOG => (one.clone(), None),
                    [schema] => (self.catalog_of(&set, None)?, Some(schema.clone())),
                    _ => (self.catalog_of(&set, None)?, self.place.schema.clone()),
                };
                let schemas = match schema {
                    Some(schema) => vec![schema],
                    None => {
                        self.schemas(&set, &catalog).await?.into_iter().filter(|s| s != "information_schema").collect()
                    }
                };
                let mut rows = Vec::new();
                for schema in schemas {
                    for table in table_names(&self.engine, &set, &catalog, &schema).await? {
                        rows.push(vec![some(&catalog), some(&schema), Some(table)]);
                    }
                }
                text_rows(&["catalog", "schema", "table"], &rows)
            }
            Show::Columns { table: name, position } => {
                let columns = self.columns_of(&set, name).await.map_err(|e| e.at(*position))?;
                let rows: Vec<_> = columns
                    .iter()
                    .map(|c| {
                        let nullable = if c.nullable { "yes" } else { "no" };
                        vec![some(&c.name), Some(c.sql_type.to_string()), some(nullable), c.comment.clone()]
                    })
                    .collect();
                text_rows(&["column", "type", "nullable", "comment"], &rows)
            }
            Show::Functions => {
                let rows: Vec<_> = self
                    .engine
                    .function_list()
                    .into_iter()
                    .map(|f| {
                        vec![
                            Some(f.name.into()),
                            Some(f.arguments.into()),
                            f.returns,
                            some(f.kind.word()),
                            Some(f.about.into()),
                        ]
                    })
                    .collect();
                text_rows(&["function", "arguments", "result", "kind", "description"], &rows)
            }
            Show::Settings => {
                let rows: Vec<_> = settings::KNOWN
                    .iter()
                    .map(|(name, about)| vec![some(name), self.settings.get(name), some(about)])
                    .collect();
                text_rows(&["setting", "value", "meaning"], &rows)
            }
            Show::Setting { name, position } => match self.setting(name) {
                Some(value) => text_rows(&[name], &[vec![Some(value)]]),
                None => {
                    let known = settings::KNOWN.iter().map(|(name, _)| *name);
                    let shows = ["catalogs", "schemas", "tables", "columns", "functions", "settings"];
                    let error =
                        Error::new(Code::UnknownObject, format!("there is no setting \"{name}\"")).at(*position);
                    return Err(match cobble_types::closest_name(name, known.chain(shows)) {
                        Some(close) => error.hint(format!("did you mean \"{close}\"?")),
                        None => error.hint("SHOW SETTINGS lists them"),
                    });
                }
            },
        };
        Execution::ready(table)
    }

    fn catalog_of(&self, set: &CatalogSet, written: Option<&str>) -> Result<String> {
        match written.or(self.place.catalog.as_deref()) {
            Some(catalog) => Ok(catalog.to_owned()),
            None => {
                Err(complete(set, &self.place, &["the statement".to_owned()]).err().unwrap_or_else(Error::cancelled))
            }
        }
    }

    // ---- browsing ----

    /// Schemas of a catalog, with the ones every catalog has.
    pub async fn schemas(&self, set: &CatalogSet, catalog: &str) -> Result<Vec<String>> {
        if catalog == SYSTEM_CATALOG {
            return Ok(SYSTEM_SCHEMAS.iter().copied().chain(["information_schema"]).map(str::to_owned).collect());
        }
        let mut schemas = set.connector(catalog)?.schemas().await?;
        schemas.push("information_schema".to_owned());
        Ok(schemas)
    }

    /// Tables and views of a schema with their kinds.
    pub async fn entries(&self, catalog: &str, schema: &str) -> Result<Vec<TableEntry>> {
        let set = self.catalogs()?;
        if catalog != SYSTEM_CATALOG && schema != "information_schema" {
            return set.connector(catalog)?.tables(schema).await;
        }
        let kind = if schema == VIEWS_SCHEMA { TableKind::View } else { TableKind::Table };
        let names = table_names(&self.engine, &set, catalog, schema).await?;
        Ok(names.into_iter().map(|name| TableEntry { name, kind }).collect())
    }

    /// Tables of a schema.
    pub async fn tables(&self, catalog: &str, schema: &str) -> Result<Vec<String>> {
        table_names(&self.engine, self.catalogs()?.as_ref(), catalog, schema).await
    }

    /// A table or a view by its name of one to three parts.
    pub async fn relation(&self, name: &[String]) -> Result<Relation> {
        relation(&self.engine, self.catalogs()?.as_ref(), &self.views, &self.place, name).await
    }

    /// The columns of a table or a view.
    pub async fn columns(&self, name: &[String]) -> Result<Vec<TableColumn>> {
        self.columns_of(self.catalogs()?.as_ref(), name).await
    }

    async fn columns_of(&self, set: &CatalogSet, name: &[String]) -> Result<Vec<TableColumn>> {
        match relation(&self.engine, set, &self.views, &self.place, name).await? {
            Relation::Table(found) => Ok(found.table.columns.clone()),
            Relation::View(name, _) => describe_view(&self.engine, set, &self.views, &name).await,
        }
    }
}
