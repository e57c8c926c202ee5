//! A session: a place for unqualified names, settings, and the way from a statement's text to its execution.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;

use cobble_connect::NewRows;
use cobble_exec::{Script, fold_constant, start};
use cobble_plan::document::PlanDocument;
use cobble_plan::logical::Table;
use cobble_plan::physical::PhysicalPlan;
use cobble_plan::registry::built_in;
use cobble_plan::{FunctionLanguage, Settings, UserFunction, draw, planner, settings};
use cobble_sql::{
    BindContext, BoundQuery, CatalogReader, Change, Explain, ExplainShow, Explained, KnownFunction, PlanFormat,
    SessionNames, Show, Statement, StatementText, TARGET, Write, bind_query, parse_statements, relation_names,
};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, ObjectName, Position, Result, SqlType, Value};
use tokio_util::sync::CancellationToken;

use crate::analyze::Analysis;
use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::changing::{self, PlannedChange, Target, WithTarget};
use crate::execution::{Execution, ResultColumn};
use crate::memory_table::text_rows;
use crate::resolve::{DEFAULT_SCHEMA, Place, complete, resolve, table, table_names};
use crate::system_tables::lines;
use crate::writing::Writing;

/// Functions read no tables.
struct NoTables;

impl CatalogReader for NoTables {
    fn table(&self, name: &[String]) -> Result<Arc<Table>> {
        Err(Error::unsupported(format_args!("the table {} in the body of a function", name.join("."))))
    }
}

/// A new table's columns need names that tell them apart.
fn new_columns(columns: &[(String, SqlType)]) -> Result<()> {
    for (place, (name, sql_type)) in columns.iter().enumerate() {
        let twice = columns[..place].iter().any(|(other, _)| other.eq_ignore_ascii_case(name));
        let what = match (name.as_str(), twice) {
            ("" | "?column?", _) => format!("column {} has no name", place + 1),
            (_, true) => format!("two columns are named {name}"),
            _ if *sql_type == SqlType::Null => format!("column {name} has no type"),
            _ => continue,
        };
        return Err(Error::new(Code::AmbiguousName, what).hint("name each column with AS, and cast what has no type"));
    }
    Ok(())
}

#[derive(Debug, Clone)]
pub struct Session {
    engine: Arc<Engine>,
    /// The user of the service, if it is known.
    user: Option<String>,
    place: Place,
    settings: Settings,
    /// What was set, as written.
    given: BTreeMap<String, String>,
}

/// A statement with typed parameters that has been checked.
#[derive(Debug, Clone)]
pub struct Prepared {
    statement: StatementText,
    pub types: Vec<SqlType>,
    /// The columns of its result.
    pub columns: Vec<ResultColumn>,
}

/// A query planned and ready to start.
struct Planned {
    plan: PhysicalPlan,
    columns: Vec<ResultColumn>,
    seconds: f64,
}

impl Session {
    pub(crate) fn new(engine: Arc<Engine>, user: Option<String>) -> Self {
        Session { engine, user, place: Place::default(), settings: Settings::default(), given: BTreeMap::new() }
    }

    /// Sets a session setting, as `SET name = value` does.
    pub fn set(&mut self, name: &str, value: &str) -> Result<()> {
        self.settings.set(name, value)?;
        self.given.insert(name.to_owned(), value.to_owned());
        Ok(())
    }

    /// The value of a setting of this session, or of one that clients of PostgreSQL ask for; `None` when there is none of this name.
    pub fn setting(&self, name: &str) -> Option<String> {
        let name = name.to_lowercase();
        if name == "search_path" {
            return Some(self.place.schema.clone().unwrap_or_else(|| DEFAULT_SCHEMA.to_owned()));
        }
        self.settings.get(&name).or_else(|| settings::fixed(&name).map(str::to_owned))
    }

    fn names<'s>(&'s self, setting: &'s dyn Fn(&str) -> Option<String>) -> SessionNames<'s> {
        SessionNames {
            catalog: self.place.catalog.as_deref(),
            schema: Some(self.place.schema.as_deref().unwrap_or(DEFAULT_SCHEMA)),
            user: self.user.as_deref().unwrap_or("local"),
            setting,
        }
    }

    /// The settings that were given, by name.
    pub fn given_settings(&self) -> &BTreeMap<String, String> {
        &self.given
    }

    /// The connections and catalogs as this session's user sees them.
    pub fn catalogs(&self) -> Result<Arc<CatalogSet>> {
        self.engine.set_for(self.user.as_deref())
    }

    /// The engine that runs this session.
    pub fn engine(&self) -> &Arc<Engine> {
        &self.engine
    }

    /// The default catalog and schema.
    pub fn place(&self) -> (Option<&str>, Option<&str>) {
        (self.place.catalog.as_deref(), self.place.schema.as_deref())
    }

    /// Sets the default place to `catalog` or `catalog.schema`.
    pub fn use_place(&mut self, catalog: &str, schema: Option<&str>) -> Result<()> {
        let set = self.catalogs()?;
        if catalog != SYSTEM_CATALOG && !set.catalogs.contains_key(catalog) {
            let known: Vec<&str> = set.catalogs.keys().map(String::as_str).collect();
            let error = Error::unknown("catalog", catalog, known.iter().copied());
            return Err(if error.hint.is_none() {
                error.hint(format!("there are {}", known.join(", ")))
            } else {
                error
            });
        }
        self.place = Place { catalog: Some(catalog.to_owned()), schema: schema.map(str::to_owned) };
        Ok(())
    }

    /// Runs all statements of a text but the last to their end, then starts the last one.
    pub async fn run_text(&mut self, text: &str, cancel: &CancellationToken) -> Result<Execution> {
        let mut statements = parse_statements(text)?;
        let last = statements.pop().ok_or_else(|| Error::new(Code::Syntax, "there is no statement in the text"))?;
        for statement in statements {
            let mut execution = self.run(&statement, cancel).await?;
            while execution.next().await?.is_some() {}
        }
        self.run(&last, cancel).await
    }

    /// Starts one statement. Its rows are taken from the execution; cancelling the token stops it.
    pub async fn run(&mut self, statement: &StatementText, cancel: &CancellationToken) -> Result<Execution> {
        match &statement.statement {
            Statement::Query(query) => {
                let planned = self.planned(query, &[]).await?;
                self.started(planned, cancel)
            }
            Statement::Explain(explain) => self.explain(explain, &[], cancel).await,
            Statement::Use { catalog, schema } => {
                self.use_place(catalog, schema.as_deref())?;
                let schema = schema.as_deref().unwrap_or(DEFAULT_SCHEMA);
                Ok(Execution::done(format!("now in {catalog}.{schema}")))
            }
            Statement::Set { name, value } => {
                self.set(name, value)?;
                Ok(Execution::done(format!("{name} = {value}")))
            }
            Statement::Show(show) => self.show(show).await,
            Statement::CreateFunction { function, replace } => self.create_function(function, *replace).await,
            Statement::DropFunction { name, if_exists } => self.drop_function(name, *if_exists).await,
            Statement::Analyze { table, position } => self.analyze(table, *position, cancel).await,
            Statement::Write(write) => self.write(write, cancel).await,
            Statement::Change(change) => {
                let planned = self.planned_change(change).await?;
                Ok(Execution::changing(planned, cancel.child_token()))
            }
        }
    }

    async fn write(&self, write: &Write, cancel: &CancellationToken) -> Result<Execution> {
        let at = |error: Error| error.at(write.position);
        let set = self.catalogs()?;
        let (catalog, schema, name) = complete(&set, &self.place, &write.table).map_err(at)?;
        if catalog == SYSTEM_CATALOG {
            return Err(at(Error::unsupported("writing into the service's own state")));
        }
        let connector = set.connector(&catalog).map_err(at)?;
        let (planned, columns) = match write.create {
            true => {
                let planned = self.planned(&write.query, &[]).await?;
                let columns: Vec<(String, SqlType)> =
                    planned.columns.iter().map(|column| (column.name.clone(), column.sql_type.clone())).collect();
                new_columns(&columns).map_err(at)?;
                (planned, columns)
            }
            false => {
                let known = table(&self.engine, &set, &self.place, &write.table).await.map_err(at)?;
                let wanted: Vec<_> = known.columns.iter().map(|c| (c.name.clone(), c.sql_type.clone())).collect();
                (self.planned_into(&write.query, &[], Some(&wanted)).await.map_err(at)?, wanted)
            }
        };
        let options = write.options.clone();
        let rows = NewRows { schema: schema.clone(), table: name.clone(), create: write.create, columns, options };
        let writer = connector.writer(rows).await.map_err(at)?;
        let writing = Writing::start(ObjectName::new(&catalog, &schema, &name), writer);
        let running = with_room(|| start(&planned.plan, &self.settings, &self.engine.pool, cancel.child_token()))?;
        let execution = Execution::running(planned.columns, running, planned.plan.document, planned.seconds);
        Ok(execution.writing(writing))
    }

    async fn planned_change(&self, change: &Change) -> Result<PlannedChange> {
        let began = Instant::now();
        let at = |error: Error| error.at(change.position);
        let set = self.catalogs()?;
        let (catalog, ..) = complete(&set, &self.place, &change.table).map_err(at)?;
        if catalog == SYSTEM_CATALOG {
            return Err(at(Error::unsupported("writing into the service's own state")));
        }
        let found = table(&self.engine, &set, &self.place, &change.table).await.map_err(at)?;
        let target = Target::new(&found, change).map_err(at)?;
        let query = change.query_with(&target.identity);
        let mut names = with_room(|| relation_names(&query));
        names.retain(|name| name.as_slice() != [TARGET]);
        let tables = resolve(&self.engine, &set, &self.place, names).await;
        let catalog = WithTarget { tables: &tables, target: &target.table };
        let functions = self.engine.functions();
        let setting = |name: &str| self.setting(name);
        let (plan, values) = with_room(|| {
            let context = BindContext {
                catalog: &catalog,
                now: chrono::Utc::now().timestamp_micros(),
                parameters: &[],
                functions: &functions,
                zone: &self.settings.time_zone,
                target: Some(&target.wanted),
                session: self.names(&setting),
                fold: &fold_constant,
            };
            let bound = bind_query(&query, &context)?;
            let (plan, values) = changing::without_constants(bound, target.identity.len());
            Ok::<_, Error>((planner::plan_at_source(plan, &self.settings, &fold_constant)?, values))
        })?;
        changing::planned(found.name.clone(), change, plan, values, began.elapsed().as_secs_f64()).map_err(at)
    }

    async fn create_function(&self, function: &UserFunction, replace: bool) -> Result<Execution> {
        let name = &function.name;
        let functions = self.engine.functions();
        if !replace && functions.contains_key(name) {
            return Err(Error::new(Code::AlreadyExists, format!("there is a function named {name} already"))
                .hint("CREATE OR REPLACE FUNCTION takes its place"));
        }
        let known = KnownFunction::new(function.clone())?;
        self.engine.check_function(&known, &functions)?;
        if let Some(state) = self.engine.state() {
            state.keep_function(name, Some(function)).await?;
        }
        self.engine.take_function(known);
        Ok(Execution::done(format!("{name}({}) is there", function.arguments())))
    }

    async fn drop_function(&self, name: &str, if_exists: bool) -> Result<Execution> {
        let functions = self.engine.functions();
        if !functions.contains_key(name) {
            if if_exists {
                return Ok(Execution::done(format!("there was no function {name}")));
            }
            return Err(Error::unknown("function", name, functions.keys().map(String::as_str)));
        }
        if let Some(state) = self.engine.state() {
            state.keep_function(name, None).await?;
        }
        self.engine.remove_function(name);
        Ok(Execution::done(format!("{name} is gone")))
    }

    async fn analyze(
        &self,
        name: &[String],
        position: Option<Position>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let set = self.catalogs()?;
        let found = table(&self.engine, &set, &self.place, name).await.map_err(|e| e.at(position))?;
        if !set.catalogs.contains_key(&found.name.catalog) || found.name.schema == "information_schema" {
            return Err(Error::unsupported(format_args!("ANALYZE of {}, which the service makes itself", found.name))
                .at(position));
        }
        let analysis = Analysis::new(self.engine.clone(), found);
        let statements = parse_statements(&analysis.query())?;
        match statements.first().map(|s| &s.statement) {
            Some(Statement::Query(query)) => {
                let planned = self.planned(query, &[]).await?;
                Ok(self.started(planned, cancel)?.analysing(analysis))
            }
            _ => Err(Error::internal("ANALYZE made no query")),
        }
    }

    /// Checks one statement whose `$1`, `$2`, … have these types. It is run with `run_prepared`, as often as wanted.
    pub async fn prepare(&mut self, text: &str, types: &[SqlType]) -> Result<Prepared> {
        let mut statements = parse_statements(text)?;
        let (Some(statement), true) = (statements.pop(), statements.is_empty()) else {
            return Err(Error::new(Code::Syntax, "exactly one statement can be prepared"));
        };
        let nulls: Vec<(Value, SqlType)> = types.iter().map(|t| (Value::Null, t.clone())).collect();
        let columns = match &statement.statement {
            Statement::Query(query) => self.planned(query, &nulls).await?.columns,
            Statement::Explain(explain) => {
                self.explained(explain, &nulls).await?;
                vec![ResultColumn { name: "plan".to_owned(), sql_type: SqlType::Text }]
            }
            _ => return Err(Error::new(Code::Unsupported, "only a query and its EXPLAIN can be prepared")),
        };
        Ok(Prepared { statement, types: types.to_vec(), columns })
    }

    /// Starts a prepared statement with these values, which must be of the types it was prepared for or null.
    pub async fn run_prepared(
        &mut self,
        prepared: &Prepared,
        values: &[Value],
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        if values.len() != prepared.types.len() {
            return Err(Error::new(
                Code::UnknownParameter,
                format!("the statement has {} parameters, not {}", prepared.types.len(), values.len()),
            ));
        }
        let mut parameters = Vec::new();
        for (number, (value, wanted)) in values.iter().zip(&prepared.types).enumerate() {
            let own = value.sql_type();
            let fits = value.is_null()
                || own == *wanted
                || matches!((value, wanted), (Value::Text(_), SqlType::Json | SqlType::Uuid));
            if !fits {
                return Err(Error::new(
                    Code::TypeMismatch,
                    format!("the parameter ${} is {wanted}, but the value is {own}", number + 1),
                ));
            }
            parameters.push((value.clone(), wanted.clone()));
        }
        match &prepared.statement.statement {
            Statement::Query(query) => {
                let planned = self.planned(query, &parameters).await?;
                self.started(planned, cancel)
            }
            Statement::Explain(explain) => self.explain(explain, &parameters, cancel).await,
            _ => Err(Error::internal("a prepared statement that is no query")),
        }
    }

    /// The plan of a query, not run.
    pub async fn plan_text(&mut self, text: &str) -> Result<PlanDocument> {
        let statements = parse_statements(text)?;
        let [statement] = statements.as_slice() else {
            return Err(Error::new(Code::Syntax, "a plan is made of exactly one statement"));
        };
        match &statement.statement {
            Statement::Query(query) => Ok(self.planned(query, &[]).await?.plan.document),
            Statement::Explain(explain) => self.explained(explain, &[]).await,
            Statement::Change(change) => Ok(self.planned_change(change).await?.document),
            _ => Err(Error::new(Code::Unsupported, "only a query, an UPDATE and a DELETE have a plan")),
        }
    }

    async fn planned(&self, query: &cobble_sql::Query, parameters: &[(Value, SqlType)]) -> Result<Planned> {
        self.planned_into(query, parameters, None).await
    }

    /// The same with its columns as those of a table that its rows go to.
    async fn planned_into(
        &self,
        query: &cobble_sql::Query,
        parameters: &[(Value, SqlType)],
        target: Option<&[(String, SqlType)]>,
    ) -> Result<Planned> {
        let began = Instant::now();
        let set = self.catalogs()?;
        let names = with_room(|| relation_names(query));
        let catalog = resolve(&self.engine, &set, &self.place, names).await;
        let now = chrono::Utc::now().timestamp_micros();
        let functions = self.engine.functions();
        let setting = |name: &str| self.setting(name);
        let (plan, columns) = with_room(|| {
            let context = BindContext {
                catalog: &catalog,
                now,
                parameters,
                functions: &functions,
                zone: &self.settings.time_zone,
                target,
                session: self.names(&setting),
                fold: &fold_constant,
            };
            let BoundQuery { plan, columns } = bind_query(query, &context)?;
            Ok::<_, Error>((planner::plan(plan, &self.settings, &fold_constant)?, columns))
        })?;
        let columns = columns.into_iter().map(|c| ResultColumn { name: c.name, sql_type: c.sql_type }).collect();
        Ok(Planned { plan, columns, seconds: began.elapsed().as_secs_f64() })
    }

    fn started(&self, planned: Planned, cancel: &CancellationToken) -> Result<Execution> {
        let running = with_room(|| start(&planned.plan, &self.settings, &self.engine.pool, cancel.child_token()))?;
        Ok(Execution::running(planned.columns, running, planned.plan.document, planned.seconds)
            .in_zone(&self.settings.time_zone))
    }

    /// The plan that is to be explained, not run.
    async fn explained(&self, explain: &Explain, parameters: &[(Value, SqlType)]) -> Result<PlanDocument> {
        match &explain.explained {
            Explained::Query(query) => Ok(self.planned(query, parameters).await?.plan.document),
            Explained::Change(change) => Ok(self.planned_change(change).await?.document),
        }
    }

    async fn explain(
        &self,
        explain: &Explain,
        parameters: &[(Value, SqlType)],
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let document = match &explain.explained {
            Explained::Query(query) if explain.analyze => {
                let mut execution = self.started(self.planned(query, parameters).await?, cancel)?;
                while execution.next().await?.is_some() {}
                execution.plan().ok_or_else(|| Error::internal("a query without a plan"))?
            }
            _ => self.explained(explain, parameters).await?,
        };
        let text = match explain.format {
            PlanFormat::Json => serde_json::to_string_pretty(&document)
                .map_err(|e| Error::internal(format!("a plan cannot be written: {e}")))?,
            PlanFormat::Text => match explain.show {
                ExplainShow::Tree => draw::tree(&document),
                ExplainShow::Gates => draw::gates(&document),
                ExplainShow::Joins => draw::joins(&document),
                ExplainShow::Rewrites => draw::rewrites(&document),
            },
        };
        let text: Vec<String> = text.lines().map(str::to_owned).collect();
        Execution::ready(lines("plan", &text))
    }

    async fn show(&self, show: &Show) -> Result<Execution> {
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
                let found = table(&self.engine, &set, &self.place, name).await.map_err(|e| e.at(*position))?;
                let rows: Vec<_> = found
                    .columns
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
                    .map(|f| vec![Some(f.name), Some(f.arguments), f.result, Some(f.kind)])
                    .collect();
                text_rows(&["function", "arguments", "result", "kind"], &rows)
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
            return Ok(vec!["state".to_owned()]);
        }
        let mut schemas = set.connector(catalog)?.schemas().await?;
        schemas.push("information_schema".to_owned());
        Ok(schemas)
    }

    /// Tables of a schema.
    pub async fn tables(&self, catalog: &str, schema: &str) -> Result<Vec<String>> {
        table_names(&self.engine, self.catalogs()?.as_ref(), catalog, schema).await
    }

    /// A table by its name of one to three parts.
    pub async fn table(&self, name: &[String]) -> Result<Arc<cobble_plan::logical::Table>> {
        table(&self.engine, self.catalogs()?.as_ref(), &self.place, name).await
    }
}

impl Engine {
    /// Whether a function can be made: its name is free of ours and its body makes sense beside these functions.
    pub(crate) fn check_function(&self, known: &KnownFunction, functions: &cobble_sql::KnownFunctions) -> Result<()> {
        let name = &known.function.name;
        if built_in().iter().any(|own| own.name == name) {
            return Err(Error::new(Code::AlreadyExists, format!("{name}() is one of the engine's own functions"))
                .hint("choose another name"));
        }
        known.check(functions, &NoTables)?;
        if known.function.language == FunctionLanguage::Script {
            Script::read(&known.function)?;
        }
        Ok(())
    }
}
