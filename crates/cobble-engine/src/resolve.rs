//! Table names of one to three parts to tables, with an explanation for each way a name can fail.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_connect::{NativeQuery, TableVersion};
use cobble_exec::fold_constant;
use cobble_optimize::Settings;
use cobble_plan::UserView;
use cobble_plan::expr::Column;
use cobble_plan::facts::Filtered;
use cobble_plan::logical::{Table, TableColumn};
use cobble_plan::offer::{DescribedTable, Sources};
use cobble_sql::{
    AsOf, BindContext, CatalogReader, DEEPEST_VIEW, Expr, Facts, FactsOf, KnownView, Parameters, SessionNames,
    TableReference, ViewInFrom, bind_query, moment, table_references,
};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, ObjectName, Result, quote_identifier};

use futures::future::BoxFuture;

use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::files_at;
use crate::filtered;
use crate::memory_table::MemoryTable;
use crate::source_views;
use crate::system_tables::{
    INFORMATION_TABLES, SYSTEM_SCHEMAS, information_shape, information_table, state_names, state_table,
};
use crate::views::{KnownViews, TEMPORARY_SCHEMA, VIEWS_SCHEMA, full_name, place_of, written_out};

/// Where unqualified names are looked up.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    pub catalog: Option<String>,
    pub schema: Option<String>,
}

pub const DEFAULT_SCHEMA: &str = "public";

/// A table or a view of the service's own.
#[derive(Debug, Clone)]
pub enum Relation {
    Table(DescribedTable),
    View(ObjectName, Arc<KnownView>),
}

/// What a name stands for, with what a view's own names stand for.
enum Meaning {
    Table(DescribedTable),
    View { name: ObjectName, known: Arc<KnownView>, tables: Resolved },
}

/// All tables and views that a statement names, found before it is bound.
pub struct Resolved {
    meanings: HashMap<TableReference, Result<Meaning>>,
}

impl Resolved {
    /// The sources of all tables, those of views among them.
    pub fn sources(&self) -> Sources {
        let mut sources = Sources::default();
        self.add_sources(&mut sources);
        sources
    }

    /// The tables in tiers among them, also those that views read.
    pub fn in_tiers(&self) -> Vec<Arc<KnownView>> {
        let mut all = Vec::new();
        for meaning in self.meanings.values().flatten() {
            let Meaning::View { known, tables, .. } = meaning else { continue };
            all.extend(known.view.tiers.is_some().then(|| known.clone()));
            all.extend(tables.in_tiers());
        }
        all
    }

    fn add_sources(&self, sources: &mut Sources) {
        for meaning in self.meanings.values().flatten() {
            match meaning {
                Meaning::Table(found) => sources.add(found),
                Meaning::View { tables, .. } => tables.add_sources(sources),
            }
        }
    }
}

impl CatalogReader for Resolved {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        match self.meanings.get(name) {
            Some(Ok(Meaning::Table(found))) => Ok(found.table.clone()),
            Some(Err(error)) => Err(error.clone()),
            _ => Err(Error::internal(format!("{name} was not looked up"))),
        }
    }

    fn view(&self, name: &TableReference) -> Option<ViewInFrom<'_>> {
        match self.meanings.get(name) {
            Some(Ok(Meaning::View { name, known, tables })) => Some(ViewInFrom { name, known, tables }),
            _ => None,
        }
    }
}

/// `temporary` are the views of the session alone. With its settings what stands behind FOR SYSTEM_TIME AS OF, and conditions within the names, are
/// understood.
pub async fn resolve(
    engine: &Engine,
    set: &CatalogSet,
    temporary: &KnownViews,
    settings: &Settings,
    place: &Place,
    names: Vec<TableReference>,
) -> Resolved {
    resolve_within(engine, set, place, names, Within { depth: 0, shape_only: false, temporary, settings }).await
}

#[derive(Clone, Copy)]
struct Within<'a> {
    /// Views one in the other.
    depth: usize,
    /// Only columns are wanted: `information_schema`, which describes views in turn, has no rows.
    shape_only: bool,
    /// Views that only this session has. Other views do not see them.
    temporary: &'a KnownViews,
    settings: &'a Settings,
}

static NO_VIEWS: KnownViews = KnownViews::new();

/// The same within views.
fn resolve_within<'a>(
    engine: &'a Engine,
    set: &'a CatalogSet,
    place: &'a Place,
    names: Vec<TableReference>,
    within: Within<'a>,
) -> BoxFuture<'a, Resolved> {
    let Within { depth, shape_only, temporary, settings } = within;
    let found = async move |reference: &TableReference| match reference {
        TableReference::Name(name) => match information_shape(name).filter(|_| shape_only) {
            Some(table) => Ok(Relation::Table(table)),
            None => relation(engine, set, temporary, place, name).await,
        },
        TableReference::Earlier(name, as_of) => {
            let version = match as_of {
                AsOf::Time(expr) => TableVersion::Time(with_room(|| constant_moment(engine, expr, settings))?),
                AsOf::Number(number) => TableVersion::Number(*number),
                AsOf::Name(name) => TableVersion::Name(name.clone()),
            };
            earlier(set, place, name, &version).await.map(Relation::Table)
        }
        TableReference::Native(native) => {
            let connector = set.connector(&native.catalog)?;
            let query = NativeQuery::new(&native.text, native.split_on.as_deref(), native.split_into)?;
            connector.native(&native.catalog, &query).await.map(Relation::Table)
        }
        TableReference::Facts(wanted) => {
            let filtered = match &wanted.filter {
                Some(filter) => Some(filtered::filtered((engine, settings), set, place, wanted, filter).await?),
                None => None,
            };
            facts(set, place, wanted, filtered.as_ref()).await.map(Relation::Table)
        }
        TableReference::RowsAt(call) => files_at::table(set, call).await.map(Relation::Table),
        TableReference::Target | TableReference::Changed => {
            Err(Error::internal(format!("{reference} is not looked up")))
        }
    };
    let meaning = async move |name: &TableReference| match found(name).await? {
        Relation::Table(table) => Ok(Meaning::Table(table)),
        Relation::View(name, _) if depth >= DEEPEST_VIEW => {
            Err(Error::new(Code::TooComplex, format!("{name} is read through more than {DEEPEST_VIEW} other views")))
        }
        Relation::View(name, known) => {
            let names = with_room(|| table_references(&known.query));
            let is_temporary = name.catalog == SYSTEM_CATALOG && name.schema == TEMPORARY_SCHEMA;
            let temporary = if is_temporary { temporary } else { &NO_VIEWS };
            let within = Within { depth: depth + 1, shape_only, temporary, settings };
            let tables = resolve_within(engine, set, &place_of(&known.view), names, within).await;
            Ok(Meaning::View { name, known, tables })
        }
    };
    Box::pin(async move {
        let meaning = &meaning;
        let lookups = names.into_iter().map(|name| async move { (meaning(&name).await, name) });
        let found = futures::future::join_all(lookups).await;
        Resolved { meanings: found.into_iter().map(|(found, name)| (name, found)).collect() }
    })
}

/// The columns of a view, found by binding it. Nothing is read, but its sources are asked for their tables.
pub async fn describe_view(
    engine: &Engine,
    set: &CatalogSet,
    temporary: &KnownViews,
    view: &ObjectName,
) -> Result<Vec<TableColumn>> {
    let is_temporary = view.catalog == SYSTEM_CATALOG && view.schema == TEMPORARY_SCHEMA;
    let name = if is_temporary { quote_identifier(&view.table) } else { view.to_string() };
    let whole = UserView { query: format!("SELECT * FROM {name}"), ..UserView::default() };
    let query = KnownView::new(whole)?.query;
    let names = with_room(|| table_references(&query));
    let settings = Settings::default();
    let within = Within { depth: 0, shape_only: true, temporary, settings: &settings };
    let catalog = resolve_within(engine, set, &Place::default(), names, within).await;
    let bound = with_room(|| by_itself(engine, &catalog, &settings, |context| bind_query(&query, context)))?;
    let column =
        |c: Column| TableColumn { name: c.name, sql_type: c.sql_type, nullable: true, partition: false, comment: None };
    Ok(bound.columns.into_iter().map(column).collect())
}

/// A table or a view by its name of one to three parts. A name alone is a view of the session alone, a table of its place, or a view.
pub async fn relation(
    engine: &Engine,
    set: &CatalogSet,
    temporary: &KnownViews,
    place: &Place,
    name: &[String],
) -> Result<Relation> {
    if let [single] = name
        && let Some(known) = temporary.get(single)
    {
        return Ok(Relation::View(ObjectName::new(SYSTEM_CATALOG, TEMPORARY_SCHEMA, single), known.clone()));
    }
    let views = engine.views();
    if let Some(view) = written_out(name, place) {
        return match views.get(view) {
            Some(known) => Ok(Relation::View(full_name(view), known.clone())),
            None => {
                let error = Error::unknown("view", view, views.keys().map(String::as_str));
                Err(Error { code: Code::UnknownTable, ..error })
            }
        };
    }
    let [single] = name else { return in_source(engine, set, place, name).await };
    let Some(known) = views.get(single) else { return in_source(engine, set, place, name).await };
    let view = Relation::View(full_name(single), known.clone());
    let Some(catalog) = place.catalog.as_ref().filter(|catalog| *catalog != SYSTEM_CATALOG) else { return Ok(view) };
    let schema = place.schema.as_deref().unwrap_or(DEFAULT_SCHEMA);
    match set.connector(catalog)?.table(catalog, schema, single).await? {
        Some(_) => table(engine, set, place, name).await.map(Relation::Table),
        None => Ok(source_views::found(set, &ObjectName::new(catalog, schema, single)).await?.unwrap_or(view)),
    }
}

/// A table, or a view that its source keeps.
async fn in_source(engine: &Engine, set: &CatalogSet, place: &Place, name: &[String]) -> Result<Relation> {
    let failed = match table(engine, set, place, name).await {
        Ok(found) => return Ok(Relation::Table(found)),
        Err(error) => error,
    };
    if matches!(failed.code, Code::UnknownTable | Code::UnknownSchema)
        && let Ok((catalog, schema, table)) = complete(set, place, name)
        && catalog != SYSTEM_CATALOG
        && set.catalogs.contains_key(&catalog)
        && let Some(view) = source_views::found(set, &ObjectName::new(catalog, schema, table)).await?
    {
        return Ok(view);
    }
    Err(failed)
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

/// Binds something that stands for itself: without parameters and a session's names.
pub fn by_itself<B>(
    engine: &Engine,
    catalog: &dyn CatalogReader,
    settings: &Settings,
    bind: impl FnOnce(&BindContext<'_>) -> Result<B>,
) -> Result<B> {
    bind(&BindContext {
        catalog,
        now: chrono::Utc::now().timestamp_micros(),
        parameters: Parameters::NONE,
        functions: &engine.functions(),
        zone: &settings.time_zone,
        target: None,
        session: SessionNames::NONE,
        fold: &fold_constant,
    })
}

/// The moment that an expression names, in microseconds since 1970-01-01 UTC.
fn constant_moment(engine: &Engine, expr: &Expr, settings: &Settings) -> Result<i64> {
    let nothing = Resolved { meanings: HashMap::new() };
    by_itself(engine, &nothing, settings, |context| moment(expr, context))
}

/// How a table, or the files at a path, are put together.
async fn facts(set: &CatalogSet, place: &Place, wanted: &Facts, filtered: Option<&Filtered>) -> Result<DescribedTable> {
    let function = &wanted.function;
    let asked = cobble_plan::facts::Facts::of_function(function)
        .ok_or_else(|| Error::internal(format!("{function}() asks for nothing")))?;
    let (name, found) = match &wanted.of {
        FactsOf::Table(parts) => {
            let (catalog, schema, table) = complete(set, place, parts)?;
            let name = ObjectName::new(&catalog, &schema, &table);
            (name.clone(), set.connector(&catalog)?.facts(&name, None, asked, filtered).await?)
        }
        FactsOf::Path(path) => files_at::facts(set, path, asked, filtered).await?,
    };
    let rows = found.ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {name}")))?;
    let columns = rows.columns.iter().map(|(name, sql_type)| ((*name).to_owned(), sql_type.clone())).collect();
    let table = MemoryTable { columns, rows: rows.rows(), arrays: rows.arrays()? };
    Ok(table.into_table(ObjectName::new(SYSTEM_CATALOG, function, name.to_string())))
}

/// A table as it was.
async fn earlier(set: &CatalogSet, place: &Place, name: &[String], version: &TableVersion) -> Result<DescribedTable> {
    let (catalog, schema, table) = complete(set, place, name)?;
    let name = ObjectName::new(&catalog, &schema, &table);
    if catalog == SYSTEM_CATALOG || schema == "information_schema" {
        return Err(Error::new(Code::Unsupported, format!("{name} has no earlier states")));
    }
    let found = set.connector(&catalog)?.table_at(&name, version).await?;
    found.ok_or_else(|| Error::new(Code::UnknownTable, format!("there is no table {name}")))
}

/// A table alone: a view is refused.
pub async fn table(engine: &Engine, set: &CatalogSet, place: &Place, name: &[String]) -> Result<DescribedTable> {
    // information_schema without a catalog speaks of the default one, or of all.
    if let [schema, table] = name
        && schema == "information_schema"
    {
        return match information_table(engine, set, place.catalog.as_deref(), table).await? {
            Some(found) => Ok(found),
            None => Err(Error::unknown("table", table, INFORMATION_TABLES.iter().copied())),
        };
    }
    let (catalog, schema, table) = complete(set, place, name)?;
    if catalog == SYSTEM_CATALOG {
        return match schema.as_str() {
            "state" => state_table(engine, set, &table).await,
            VIEWS_SCHEMA => Err(Error::new(Code::WrongKind, format!("{} is a view", full_name(&table)))
                .hint("views are only read: write into the tables that it reads")),
            "information_schema" => match information_table(engine, set, Some(SYSTEM_CATALOG), &table).await? {
                Some(found) => Ok(found),
                None => Err(Error::unknown("table", &table, INFORMATION_TABLES.iter().copied())),
            },
            _ => Err(Error::unknown("schema", &schema, SYSTEM_SCHEMAS.iter().copied())),
        };
    }
    let connector = match set.connector(&catalog) {
        Ok(connector) => connector,
        // A two-part name may have been meant as catalog and table.
        Err(error) if name.len() == 3 => return Err(error),
        Err(error) => return Err(error.hint("USE a catalog that exists")),
    };
    if schema == "information_schema" {
        return match information_table(engine, set, Some(&catalog), &table).await? {
            Some(found) => Ok(found),
            None => Err(Error::unknown("table", &table, INFORMATION_TABLES.iter().copied())),
        };
    }
    if let Some(found) = connector.table(&catalog, &schema, &table).await? {
        return Ok(engine.with_statistics(set, found));
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
    if schema == "information_schema" {
        return Ok(INFORMATION_TABLES.iter().map(|s| (*s).to_owned()).collect());
    }
    if catalog == SYSTEM_CATALOG {
        return match schema {
            "state" => Ok(state_names(engine).into_iter().map(str::to_owned).collect()),
            VIEWS_SCHEMA => Ok(engine.views().keys().cloned().collect()),
            _ => Err(Error::unknown("schema", schema, SYSTEM_SCHEMAS.iter().copied())),
        };
    }
    let entries = set.connector(catalog)?.tables(schema).await?;
    Ok(entries.into_iter().map(|entry| entry.name).collect())
}
