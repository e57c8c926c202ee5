//! A session: a place for unqualified names, settings, and the way from a statement's text to its execution.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use cobble_connect::TableChange;
use cobble_exec::{Held, RunLimits, Until, fold_constant, out_of_time, start};
use cobble_optimize::{Goal, Settings, planner, settings};
use cobble_plan::alter::OrderedColumn;
use cobble_plan::document::{Laps, PlanDocument};
use cobble_plan::expr::Column;
use cobble_plan::logical::Table;
use cobble_plan::offer::{ChangedBy, Sources};
use cobble_plan::physical::PhysicalPlan;
use cobble_plan::sink::Returning;
use cobble_plan::{LogicalPlan, SortKey, draw, serial};
use cobble_sql::{
    BindContext, BoundQuery, CatalogReader, Change, Explain, ExplainShow, Explained, KnownView, Parameters, PlanFormat,
    SessionNames, Statement, StatementText, TableReference, WrittenName, bind_query, parse_statements,
    table_references,
};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, Position, Result, SqlType};
use tokio_util::sync::CancellationToken;
use tokio_util::task::AbortOnDropHandle;

use crate::analyze::Analysis;
use crate::catalogs::{Asker, CatalogSet, Engine, SYSTEM_CATALOG};
use crate::changing::{self, Target, WithTarget};
use crate::execution::{self, Execution, ResultColumn};
use crate::prepared::Prepared;
use crate::resolve::{DEFAULT_SCHEMA, Place, Resolved, resolve, table};
use crate::returning::{self, Rows};
use crate::sampling::sampled;
use crate::system_tables::lines;
use crate::under_way::UnderWay;
use crate::views::{KnownViews, full_name, list};

/// What a session keeps of a transaction that has begun: whether something was written since.
pub(crate) const TRANSACTION: &str = "transaction";
pub(crate) const WRITTEN: &str = "written";

#[derive(Debug, Clone)]
pub struct Session {
    pub(crate) engine: Arc<Engine>,
    pub(crate) asker: Asker,
    pub(crate) place: Place,
    pub(crate) settings: Settings,
    /// What was set, as written.
    pub(crate) given: BTreeMap<String, String>,
    /// Views that only this session has.
    pub(crate) views: Arc<KnownViews>,
    /// What PREPARE has named.
    pub(crate) prepared: BTreeMap<String, Arc<Prepared>>,
    /// The memory of these, asked of the service.
    pub(crate) held: BTreeMap<(Own, String), Arc<Held>>,
    /// When the statement at hand began.
    pub(crate) begun: Instant,
    /// How long the text of the last statement took to be parsed.
    pub(crate) parsing: Duration,
    /// How far a call has come.
    pub(crate) under_way: Arc<UnderWay>,
}

/// What a session has for itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Own {
    Statement,
    View,
}

/// Bytes that a parsed statement takes for each byte of its text, and besides.
const PARSED: u64 = 16;
const PARSED_LEAST: u64 = 4 << 10;

/// A change whose rows are found by this query.
pub(crate) struct BoundChange {
    target: Target,
    set: Arc<CatalogSet>,
    sources: Sources,
    pub query: BoundQuery,
    /// What RETURNING computes, and the names of what comes out.
    returning: Option<(Returning, Vec<ResultColumn>)>,
    held: Vec<Arc<KnownView>>,
}

/// The order in which rows come to a table.
#[derive(Default)]
pub(crate) struct RowOrder<'n> {
    /// What the table calls the columns, from the first one on; the rest have the query's names.
    pub names: &'n [String],
    pub by: Vec<OrderedColumn>,
}

impl RowOrder<'_> {
    /// The keys among a query's columns; a column that does not come is null in all rows.
    fn keys(&self, columns: &[Column]) -> Vec<SortKey> {
        let name = |place: usize| self.names.get(place).unwrap_or(&columns[place].name);
        let key = |own: &OrderedColumn| {
            let place = (0..columns.len()).find(|place| *name(*place) == own.name)?;
            let expr = cobble_plan::Expr::Column(columns[place].clone());
            Some(SortKey { expr, descending: own.descending, nulls_first: own.nulls_first })
        };
        self.by.iter().filter_map(key).collect()
    }
}

/// A query planned and ready to start.
pub(crate) struct Planned {
    pub plan: PhysicalPlan,
    /// The connections that it was planned with.
    pub set: Arc<CatalogSet>,
    pub columns: Vec<ResultColumn>,
    pub seconds: f64,
    /// Where the statement names the table that it writes.
    pub writes_at: Option<Position>,
    /// The tables in tiers that it reads or writes, as they were when it was planned.
    pub held: Vec<Arc<KnownView>>,
}

/// What a run may take by these settings, when so much time has been spent on its planning.
pub(crate) fn limits(settings: &Settings, spent: Duration) -> RunLimits {
    let Settings { run_memory, run_time, run_spill, run_tasks, .. } = *settings;
    let until = run_time.map(|limit| Until { limit, left: (limit - spent.as_secs_f64()).max(0.0) });
    RunLimits { memory: run_memory, time: until, spill: run_spill, tasks: run_tasks }
}

/// The names and types of a result.
pub(crate) fn names(columns: Vec<Column>) -> Vec<ResultColumn> {
    columns.into_iter().map(|c| ResultColumn { name: c.name, sql_type: c.sql_type }).collect()
}

impl Session {
    pub(crate) fn new(engine: Arc<Engine>, asker: Asker) -> Self {
        Session {
            engine,
            asker,
            place: Place::default(),
            settings: Settings::default(),
            given: BTreeMap::new(),
            views: Arc::default(),
            prepared: BTreeMap::new(),
            held: BTreeMap::new(),
            begun: Instant::now(),
            parsing: Duration::ZERO,
            under_way: Arc::default(),
        }
    }

    /// Tells of calls while they run, when the session itself is lent to them.
    pub fn under_way(&self) -> Arc<UnderWay> {
        self.under_way.clone()
    }

    /// Sets a session setting, as `SET name = value` does.
    pub fn set(&mut self, name: &str, value: &str) -> Result<()> {
        match name {
            // What a client brings along from one statement to the next.
            TRANSACTION if ["open", WRITTEN].contains(&value) => {}
            "search_path" => self.search(value)?,
            name => {
                let name = name.to_lowercase();
                match settings::of_clients(&name, value)? {
                    Some(known) => drop(self.given.insert(name, known)),
                    None => {
                        self.settings.set(&name, value)?;
                        self.given.insert(name, value.to_owned());
                    }
                }
                return Ok(());
            }
        }
        if name != "search_path" {
            self.given.insert(name.to_owned(), value.to_owned());
        }
        Ok(())
    }

    /// Gives a setting its first value again, or all of them.
    pub fn reset(&mut self, name: Option<&str>) -> Result<()> {
        let Some(name) = name.map(str::to_lowercase) else {
            self.settings = Settings::default();
            self.given.retain(|name, _| name == TRANSACTION);
            return Ok(());
        };
        match (name.as_str(), Settings::default().get(&name)) {
            ("search_path", _) => self.place.schema = None,
            (_, Some(first)) => self.settings.set(&name, &first)?,
            _ if settings::fixed(&name).is_some() => {}
            _ => return Err(settings::unknown(&name)),
        }
        self.given.remove(&name);
        Ok(())
    }

    /// `search_path` is the schema of the default place, or catalog and schema.
    fn search(&mut self, value: &str) -> Result<()> {
        let wrong = |what: String, hint: &str| Err(Error::new(Code::BadSetting, what).hint(hint));
        let all: Vec<&str> = value.split(',').map(str::trim).filter(|part| !part.is_empty()).collect();
        // As PostgreSQL names the schema of the user's own name, which is none here.
        let named: Vec<&str> = all.iter().copied().filter(|part| part.trim_matches('"') != "$user").collect();
        let [one] = named.as_slice() else {
            return wrong(
                format!("search_path is one schema here, not \"{value}\""),
                "write out the names of tables in other schemas",
            );
        };
        let parts: Vec<String> = one.split('.').map(|part| part.trim_matches('"').to_owned()).collect();
        match (parts.as_slice(), self.place.catalog.clone()) {
            ([catalog, schema], _) => self.use_place(catalog, Some(schema)),
            ([schema], Some(catalog)) => self.use_place(&catalog, Some(schema)),
            ([schema], None) => wrong(
                format!("the session has no catalog whose schema \"{schema}\" could be"),
                "choose one first: USE catalog.schema",
            ),
            _ => wrong(format!("\"{one}\" is no name of a schema"), "write it as schema, or as catalog.schema"),
        }
    }

    /// The value of a setting of this session, or of one that clients of PostgreSQL ask for; `None` when there is none of this name.
    pub fn setting(&self, name: &str) -> Option<String> {
        let name = name.to_lowercase();
        if name == "search_path" {
            return Some(self.place.schema.clone().unwrap_or_else(|| DEFAULT_SCHEMA.to_owned()));
        }
        let own = || self.given.get(&name).filter(|_| settings::fixed(&name).is_some()).cloned();
        self.settings.get(&name).or_else(own).or_else(|| settings::fixed(&name).map(str::to_owned))
    }

    fn names<'s>(&'s self, setting: &'s dyn Fn(&str) -> Option<String>) -> SessionNames<'s> {
        SessionNames {
            catalog: self.place.catalog.as_deref(),
            schema: Some(self.place.schema.as_deref().unwrap_or(DEFAULT_SCHEMA)),
            user: self.asker.name.as_deref().unwrap_or("local"),
            setting,
        }
    }

    /// Asks for the memory of something that the session keeps from now on.
    pub(crate) fn hold(&mut self, own: Own, name: &str, text: &str) -> Result<()> {
        let bytes = PARSED_LEAST + PARSED * text.len() as u64;
        let held = self.engine.pool.memory.take(bytes).ok_or_else(|| {
            Error::new(Code::MemoryLimit, "sessions use all the memory that the service has for them")
                .hint("DEALLOCATE statements that are not needed, or end sessions")
        })?;
        self.held.insert((own, name.to_owned()), Arc::new(held));
        Ok(())
    }

    pub(crate) fn release(&mut self, own: Own, is_gone: impl Fn(&str) -> bool) {
        self.held.retain(|(kind, name), _| *kind != own || !is_gone(name));
    }

    /// The names of what only this session has: prepared statements, and views.
    pub fn own_names(&self) -> (Vec<String>, Vec<String>) {
        (self.prepared.keys().cloned().collect(), self.views.keys().cloned().collect())
    }

    /// The settings that were given, by name.
    pub fn given_settings(&self) -> &BTreeMap<String, String> {
        &self.given
    }

    /// The connections and catalogs as this session's user sees them.
    pub fn catalogs(&self) -> Result<Arc<CatalogSet>> {
        self.engine.set_for(&self.asker)
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
        // The place says it now.
        self.given.remove("search_path");
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
        let divides_at = statement.division;
        match self.run_one(statement, cancel).await {
            Ok(execution) => Ok(execution.dividing_at(divides_at)),
            Err(error) => Err(execution::explained(error, divides_at)),
        }
    }

    async fn run_one(&mut self, statement: &StatementText, cancel: &CancellationToken) -> Result<Execution> {
        self.run_with(statement, Parameters::NONE, cancel).await
    }

    /// The same with values for the parameters of what reads and writes rows. The time that a run may take begins here.
    pub(crate) async fn run_with(
        &mut self,
        statement: &StatementText,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        (self.begun, self.parsing) = (Instant::now(), statement.parsing);
        // On the heap: all that a statement may do is a large future, and threads have small stacks.
        let Some(seconds) = self.settings.run_time else {
            return Box::pin(self.begin(statement, parameters, cancel)).await;
        };
        let timed = cancel.child_token();
        let over = timed.clone();
        let watch = AbortOnDropHandle::new(tokio::spawn(async move {
            tokio::time::sleep(Duration::from_secs_f64(seconds)).await;
            over.cancel();
        }));
        // Also what looks no token up, such as the way to a source that does not answer.
        let begun = timed.run_until_cancelled(Box::pin(self.begin(statement, parameters, &timed))).await;
        let begun = begun.unwrap_or_else(|| Err(Error::cancelled()));
        drop(watch);
        match begun {
            Err(error) if error.code == Code::Cancelled && !cancel.is_cancelled() => Err(out_of_time(seconds)),
            begun => begun,
        }
    }

    async fn begin(
        &mut self,
        statement: &StatementText,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        match &statement.statement {
            Statement::Query(query) => {
                let planned = self.planned(query, parameters, cancel).await?;
                self.started(planned, cancel).await
            }
            Statement::Explain(explain) => {
                if explain.analyze && !matches!(explain.explained, Explained::Query(_)) {
                    self.has_written();
                }
                self.explain(explain, parameters, cancel).await
            }
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
            Statement::CreateView(wanted) => self.create_view(wanted).await,
            Statement::CreateTiers(wanted) => Box::pin(self.create_tiers(wanted, cancel)).await,
            Statement::Prepare(wanted) => self.keep_prepared(wanted).await,
            Statement::Execute { name, values, position } => {
                let run = self.execute_prepared(name, values.as_deref(), *position, cancel);
                Box::pin(run).await
            }
            Statement::Deallocate { name, position } => self.forget_prepared(name.as_deref(), *position),
            Statement::Reset { name } => {
                self.reset(name.as_deref())?;
                Ok(Execution::done(match name {
                    Some(name) => format!("{name} = {}", self.setting(name).unwrap_or_default()),
                    None => "all settings have their defaults".to_owned(),
                }))
            }
            Statement::Discard => {
                self.reset(None)?;
                self.prepared.clear();
                self.views = Arc::default();
                self.held.clear();
                Ok(Execution::done("the session has been reset; its default catalog and schema stay".to_owned()))
            }
            Statement::DropViews { names, if_exists, cascade } => {
                if let Some(dropped) = self.drop_own_views(names) {
                    return Ok(dropped);
                }
                let (sources, own): (Vec<_>, Vec<_>) =
                    names.iter().cloned().partition(|written| self.source_view(written).is_some());
                let gone = self.engine.drop_views(&own, *if_exists, *cascade).await?;
                let mut gone: Vec<_> = gone.iter().map(|name| full_name(name)).collect();
                for written in sources {
                    let Some(name) = self.source_view(&written) else { continue };
                    let dropped = self.drop_source_view(&name, *if_exists).await.map_err(|e| e.at(written.position))?;
                    gone.extend(dropped.then_some(name));
                }
                Ok(Execution::done(match gone.as_slice() {
                    [] => "there was no such view".to_owned(),
                    [name] => format!("{name} is gone"),
                    names => format!("{} are gone", list(names)),
                }))
            }
            Statement::RenameView { name, to, if_exists } => {
                if let Some(own) = self.source_view(name) {
                    let renamed = self.rename_source_view(&own, to, *if_exists).await;
                    return renamed.map_err(|e| e.at(name.position));
                }
                let renamed = self.engine.rename_view(name, to, *if_exists).await?;
                Ok(Execution::done(match renamed {
                    Some((old, new)) => format!("{} is now {}", full_name(&old), full_name(&new)),
                    None => "there was no such view".to_owned(),
                }))
            }
            Statement::CreateTable(wanted) => self.create_table(wanted).await,
            Statement::DropTables { names, if_exists } => {
                self.change_tables(names, *if_exists, TableChange::Drop).await
            }
            Statement::Truncate { names } => self.change_tables(names, false, TableChange::Truncate).await,
            Statement::Transaction(transaction) => self.transaction(*transaction),
            Statement::Write(write) => self.write(write, parameters, cancel).await,
            Statement::AlterTable(wanted) => self.alter_table(wanted).await,
            Statement::Call(call) => Box::pin(self.call(call, cancel)).await,
            Statement::Change(change) => {
                let planned = self.planned_change(change, parameters, cancel).await?;
                self.has_written();
                self.started(planned, cancel).await
            }
        }
    }

    /// What RETURNING says, over the rows of a table that is written, with the names of what comes out.
    pub(crate) fn returning(
        &self,
        query: &cobble_sql::Query,
        table: &Table,
        parameters: Parameters<'_>,
    ) -> Result<(Returning, Vec<ResultColumn>)> {
        let bound = self.bound_with(query, &Rows::of(table), parameters, None)?;
        let made = returning::returning(&bound)?;
        Ok((made, names(bound.columns)))
    }

    pub(crate) async fn planned_change(
        &self,
        change: &Change,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Planned> {
        let (began, mut laps) = (Instant::now(), Laps::begin(self.parsing));
        let at = |error: Error| error.at(change.position);
        let bound = self.bound_change(change, parameters).await?;
        laps.end("describe and bind");
        let BoundChange { target, set, sources, query, returning, held } = bound;
        let (returning, columns) = returning.unzip();
        let goal = match target.by {
            ChangedBy::Source => Goal::Source,
            ChangedBy::Writer => Goal::Here,
        };
        let planned = async |plan| {
            let plan = sampled(plan, &sources, &self.settings, cancel).await?;
            laps.end("sample");
            let mut plan = planner::plan(plan, &sources, &self.settings, goal, &fold_constant, cancel).await?;
            plan.document.phases.splice(0..0, laps.phases);
            Ok::<_, Error>(plan)
        };
        let plan = match target.by {
            ChangedBy::Source => {
                let (plan, values) = with_room(|| changing::without_constants(query, target.identity));
                let (plan, name) = (planned(plan).await?, &target.found.table.name);
                changing::planned(name, change, plan, set.as_ref(), values, returning).map_err(at)?
            }
            ChangedBy::Writer => target.written(change, planned(query.plan).await?, returning),
        };
        let columns = columns.unwrap_or_else(|| names(plan.root.columns.clone()));
        let seconds = began.elapsed().as_secs_f64();
        Ok(Planned { plan, set, columns, seconds, writes_at: change.position, held })
    }

    /// The query that finds the rows of a change, bound.
    pub(crate) async fn bound_change(&self, change: &Change, parameters: Parameters<'_>) -> Result<BoundChange> {
        let at = |error: Error| error.at(change.position);
        let set = self.catalogs()?;
        self.to_change(&set, &WrittenName { parts: change.table.clone(), position: change.position }).await?;
        let found = table(&self.engine, &set, &self.place, &change.table).await.map_err(at)?;
        let returning = match &change.returning {
            Some(query) => Some(self.returning(query, &found.table, parameters)?),
            None => None,
        };
        let returned: Vec<String> =
            returning.iter().flat_map(|(made, _)| &made.columns).map(|column| column.name.clone()).collect();
        let target = Target::new(&found, change, &returned).map_err(at)?;
        let query = &target.query;
        let mut names = with_room(|| table_references(query));
        names.retain(|name| *name != TableReference::Target);
        let tables = self.looked_up(&set, names).await;
        let catalog = WithTarget { tables: &tables, target: &target.found.table };
        let mut sources = tables.sources();
        sources.add(&target.found);
        let query = self.bound_with(query, &catalog, parameters, Some(&target.wanted))?;
        Ok(BoundChange { target, set, sources, query, returning, held: tables.in_tiers() })
    }

    async fn analyze(
        &self,
        name: &[String],
        position: Option<Position>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let set = self.catalogs()?;
        let found = table(&self.engine, &set, &self.place, name).await.map_err(|e| e.at(position))?;
        let found = found.table;
        if !set.catalogs.contains_key(&found.name.catalog) || found.name.schema == "information_schema" {
            return Err(Error::unsupported(format_args!("ANALYZE of {}, which the service makes itself", found.name))
                .at(position));
        }
        let owner = set.owner(&found.name.catalog).map(str::to_owned);
        let analysis = Analysis::new(self.engine.clone(), found, owner);
        let statements = parse_statements(&analysis.query())?;
        match statements.first().map(|s| &s.statement) {
            Some(Statement::Query(query)) => {
                let planned = self.planned(query, Parameters::NONE, cancel).await?;
                Ok(self.started(planned, cancel).await?.analysing(analysis))
            }
            _ => Err(Error::internal("ANALYZE made no query")),
        }
    }

    /// The plan of a statement, not run. Dropping the future gives it up.
    pub async fn plan_text(&mut self, text: &str) -> Result<PlanDocument> {
        let (statements, cancel) = (parse_statements(text)?, CancellationToken::new());
        let [statement] = statements.as_slice() else {
            return Err(Error::new(Code::Syntax, "a plan is made of exactly one statement"));
        };
        let planned = match &statement.statement {
            Statement::Query(query) => self.planned(query, Parameters::NONE, &cancel).await?,
            Statement::Explain(explain) => {
                self.planned_statement(&explain.explained, Parameters::NONE, &cancel).await?
            }
            Statement::Change(change) => self.planned_change(change, Parameters::NONE, &cancel).await?,
            Statement::Write(write) => self.planned_write(write, Parameters::NONE, &cancel).await?,
            _ => {
                return Err(Error::new(
                    Code::Unsupported,
                    "only queries, INSERT, CREATE TABLE AS, UPDATE, DELETE and MERGE have a plan",
                ));
            }
        };
        Ok(planned.plan.document)
    }

    pub(crate) async fn planned(
        &self,
        query: &cobble_sql::Query,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Planned> {
        self.planned_into(query, parameters, None, &RowOrder::default(), cancel).await
    }

    /// The same with its columns as those of a table that its rows go to, and in an order.
    pub(crate) async fn planned_into(
        &self,
        query: &cobble_sql::Query,
        parameters: Parameters<'_>,
        target: Option<&[(String, SqlType)]>,
        order: &RowOrder<'_>,
        cancel: &CancellationToken,
    ) -> Result<Planned> {
        let (began, mut laps) = (Instant::now(), Laps::begin(self.parsing));
        let (set, tables) = self.resolved(query).await?;
        laps.end("describe");
        let bound = self.bound_with(query, &tables, parameters, target)?;
        let sources = tables.sources();
        let BoundQuery { mut plan, columns } = bound;
        let keys = order.keys(&columns);
        if !keys.is_empty() {
            plan = LogicalPlan::Sort { input: plan.into(), keys, fetch: None };
        }
        let plan = match self.settings.planner_serial {
            true => with_room(move || serial::from_bytes(&serial::to_bytes(&plan)?))?,
            false => plan,
        };
        laps.end("bind");
        let plan = sampled(plan, &sources, &self.settings, cancel).await?;
        laps.end("sample");
        let mut plan = planner::plan(plan, &sources, &self.settings, Goal::Here, &fold_constant, cancel).await?;
        let seconds = began.elapsed().as_secs_f64();
        plan.document.phases.splice(0..0, laps.phases);
        Ok(Planned { plan, set, columns: names(columns), seconds, writes_at: None, held: tables.in_tiers() })
    }

    /// What these names stand for here.
    async fn looked_up(&self, set: &CatalogSet, names: Vec<TableReference>) -> Resolved {
        resolve(&self.engine, set, &self.views, &self.settings, &self.place, names).await
    }

    /// The tables of a query, and the connections that they are of.
    pub(crate) async fn resolved(&self, query: &cobble_sql::Query) -> Result<(Arc<CatalogSet>, Resolved)> {
        let set = self.catalogs()?;
        let names = with_room(|| table_references(query));
        let tables = self.looked_up(&set, names).await;
        Ok((set, tables))
    }

    /// A query bound to what this session knows.
    pub(crate) fn bound_with(
        &self,
        query: &cobble_sql::Query,
        catalog: &dyn CatalogReader,
        parameters: Parameters<'_>,
        target: Option<&[(String, SqlType)]>,
    ) -> Result<BoundQuery> {
        let functions = self.engine.functions();
        let setting = |name: &str| self.setting(name);
        with_room(|| {
            let context = BindContext {
                catalog,
                now: chrono::Utc::now().timestamp_micros(),
                parameters,
                functions: &functions,
                zone: &self.settings.time_zone,
                target,
                session: self.names(&setting),
                fold: &fold_constant,
            };
            bind_query(query, &context)
        })
    }

    /// Starts a plan, after the tables that it writes into have been opened.
    pub(crate) async fn started(&self, planned: Planned, cancel: &CancellationToken) -> Result<Execution> {
        let writers =
            planned.set.writers(&planned.plan.sinks, &planned.held).await.map_err(|e| e.at(planned.writes_at))?;
        let running = with_room(|| {
            let copy = match self.settings.planner_serial {
                true => Some(PhysicalPlan::from_bytes(&planned.plan.to_bytes()?)?),
                false => None,
            };
            let plan = copy.as_ref().unwrap_or(&planned.plan);
            let limits = limits(&self.settings, self.begun.elapsed());
            start(plan, planned.set.as_ref(), writers, &limits, &self.engine.pool, cancel.child_token())
        })?;
        Ok(Execution::running(planned.columns, running, planned.plan.document, planned.seconds)
            .in_zone(&self.settings.time_zone)
            .holding(planned.held))
    }

    /// The plan of a statement, not run.
    async fn planned_statement(
        &self,
        explained: &Explained,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Planned> {
        match explained {
            Explained::Query(query) => self.planned(query, parameters, cancel).await,
            Explained::Change(change) => self.planned_change(change, parameters, cancel).await,
            Explained::Write(write) => self.planned_write(write, parameters, cancel).await,
        }
    }

    async fn explain(
        &self,
        explain: &Explain,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let planned = self.planned_statement(&explain.explained, parameters, cancel).await?;
        let document = match explain.analyze {
            false => planned.plan.document,
            true => {
                let mut execution = self.started(planned, cancel).await?;
                while execution.next().await?.is_some() {}
                execution.plan().ok_or_else(|| Error::internal("a statement without a plan"))?
            }
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
        let mut text: Vec<String> = text.lines().map(str::to_owned).collect();
        if !explain.ignored.is_empty() && explain.format == PlanFormat::Text {
            text.push(String::new());
            text.push(format!("note: {} changes nothing here", explain.ignored.join(", ")));
        }
        Execution::ready(lines("plan", &text))
    }
}
