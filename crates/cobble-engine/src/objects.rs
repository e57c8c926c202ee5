//! What a session does to tables, views and functions: making, filling, emptying and dropping them, and what it says to
//! transactions.

use std::sync::Arc;
use std::time::Instant;

use cobble_connect::{Connector, TableChange};
use cobble_exec::Script;
use cobble_plan::alter::order_by;
use cobble_plan::logical::Table;
use cobble_plan::sink::{Added, NewRows, SinkSpec};
use cobble_plan::{FunctionLanguage, Tiers, UserFunction, UserView};
use cobble_sql::{
    CatalogReader, CreateTable, CreateView, KnownFunction, KnownView, Parameters, TableReference, Transaction, Write,
    WrittenName,
};
use cobble_types::deep::with_room;
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use tokio_util::sync::CancellationToken;

use crate::catalogs::{CatalogSet, Engine, SYSTEM_CATALOG};
use crate::execution::{Execution, ResultColumn};
use crate::resolve::{complete, table};
use crate::session::{self, Own, Planned, RowOrder, Session, TRANSACTION, WRITTEN};
use crate::views::{check_circles, full_name, written_out};

/// Views that one session may have for itself.
const MOST_OWN_VIEWS: usize = 1_000;

/// Functions read no tables.
struct NoTables;

impl CatalogReader for NoTables {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        Err(Error::unsupported(format_args!("the table {name} in the body of a function")))
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

/// The columns that rows are given for: those that are named, or all of the table's.
fn columns_to_fill(known: &Table, named: &[String]) -> Result<Vec<(String, SqlType)>> {
    let all = || known.columns.iter().map(|c| (c.name.clone(), c.sql_type.clone()));
    if named.is_empty() {
        return Ok(all().collect());
    }
    let mut columns: Vec<(String, SqlType)> = Vec::new();
    for name in named {
        if columns.iter().any(|(other, _)| other == name) {
            return Err(Error::new(Code::AmbiguousName, format!("{name} is named twice")));
        }
        let found = all().find(|(own, _)| own == name);
        columns
            .push(found.ok_or_else(|| Error::unknown("column", name, known.columns.iter().map(|c| c.name.as_str())))?);
    }
    Ok(columns)
}

/// Why nothing but an INSERT goes into a table in tiers.
fn only_inserted(name: &str, tiers: &Tiers) -> Error {
    let what = format!("{name} is a table in tiers, into which rows are only inserted");
    Error::new(Code::WrongKind, what)
        .hint(format!("change rows in {} and in {}; DROP VIEW drops the name alone", tiers.recent, tiers.older))
}

fn list(names: &[String]) -> String {
    names.join(", ")
}

impl Session {
    /// The catalog, schema and name of a table to write, and its writer.
    pub(crate) fn to_write(&self, set: &CatalogSet, written: &WrittenName) -> Result<(ObjectName, Arc<dyn Connector>)> {
        let at = |error: Error| error.at(written.position);
        let is_view = written_out(&written.parts, &self.place).is_some()
            || (self.place.catalog.is_none() && self.engine.views().contains_key(&written.parts.join(".")));
        if is_view {
            let name = written.parts.join(".");
            let tiers = written.parts.last().and_then(|own| self.engine.views().get(own)?.view.tiers.clone());
            return Err(at(match tiers {
                Some(tiers) => only_inserted(&name, &tiers),
                None => Error::new(Code::WrongKind, format!("{name} is a view"))
                    .hint("views are only read: write into the tables that it reads"),
            }));
        }
        let (catalog, schema, name) = complete(set, &self.place, &written.parts).map_err(at)?;
        if catalog == SYSTEM_CATALOG {
            return Err(at(Error::unsupported("writing into the service's own state")));
        }
        let connector = set.connector(&catalog).map_err(at)?.clone();
        Ok((ObjectName::new(catalog, schema, name), connector))
    }

    /// The same, of what is more than an INSERT.
    pub(crate) async fn to_change(
        &self,
        set: &CatalogSet,
        written: &WrittenName,
    ) -> Result<(ObjectName, Arc<dyn Connector>)> {
        match self.tiered(set, &written.parts).await {
            Ok(Some(own)) => Err(only_inserted(&written.parts.join("."), &own.tiers).at(written.position)),
            _ => self.to_write(set, written),
        }
    }

    pub(crate) async fn write(
        &mut self,
        write: &Write,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let at = |error: Error| error.at(write.table.position);
        if write.if_not_exists {
            let set = self.catalogs()?;
            let (target, connector) = self.to_write(&set, &write.table)?;
            if connector.table(&target.catalog, &target.schema, &target.table).await.map_err(at)?.is_some() {
                return Ok(Execution::done(format!("{target} is there already; nothing was done")));
            }
        }
        let planned = self.planned_write(write, parameters, cancel).await?;
        self.has_written();
        self.started(planned, cancel).await
    }

    /// The query of a write with a step on top that writes its rows. Nothing is opened yet.
    pub(crate) async fn planned_write(
        &self,
        write: &Write,
        parameters: Parameters<'_>,
        cancel: &CancellationToken,
    ) -> Result<Planned> {
        let began = Instant::now();
        let at = |error: Error| error.at(write.table.position);
        let set = self.catalogs()?;
        let tiered = match write.create {
            true => None,
            false => self.tiered(&set, &write.table.parts).await.map_err(at)?,
        };
        let target = match &tiered {
            Some(tiered) => full_name(&tiered.name),
            None => self.to_write(&set, &write.table)?.0,
        };
        let (mut returning, mut names, mut returned) = (None, None, None);
        let (planned, columns) = match write.create {
            true => {
                let written = write.options.get("order_by").map(|text| order_by(text)).unwrap_or_default();
                let order = RowOrder { names: &write.columns, by: written };
                let planned = self.planned_into(&write.query, parameters, None, &order, cancel).await?;
                if write.columns.len() > planned.columns.len() {
                    return Err(at(Error::new(
                        Code::Syntax,
                        format!("{} names are given for {} columns", write.columns.len(), planned.columns.len()),
                    )));
                }
                let given = write.columns.iter().map(Some).chain(std::iter::repeat(None));
                let columns: Vec<(String, SqlType)> = planned
                    .columns
                    .iter()
                    .zip(given)
                    .map(|(column, name)| (name.unwrap_or(&column.name).clone(), column.sql_type.clone()))
                    .collect();
                new_columns(&columns).map_err(at)?;
                (planned, columns)
            }
            false => {
                let known = match &tiered {
                    Some(tiered) => self.recent_side(&set, &tiered.tiers).await.map_err(at)?,
                    None => table(&self.engine, &set, &self.place, &write.table.parts).await.map_err(at)?,
                };
                let wanted = columns_to_fill(&known.table, &write.columns).map_err(at)?;
                if let Some(query) = &write.returning {
                    if tiered.is_some() {
                        return Err(at(Error::unsupported("RETURNING of a table in tiers")
                            .hint("insert the rows into the side that they belong to")));
                    }
                    let (made, of_rows) = self.returning(query, &known.table, parameters)?;
                    let list = known.source.added(&known.table, &made.columns).map_err(at)?;
                    returned = Some(Added { list, columns: made.columns.clone() });
                    (returning, names) = (Some(made), Some(of_rows));
                }
                let names: Vec<String> = wanted.iter().map(|(name, _)| name.clone()).collect();
                let order = RowOrder { names: &names, by: known.source.row_order() };
                (self.planned_into(&write.query, parameters, Some(&wanted), &order, cancel).await.map_err(at)?, wanted)
            }
        };
        let rows = NewRows {
            schema: target.schema.clone(),
            table: target.table.clone(),
            create: write.create,
            columns,
            not_null: vec![],
            primary_key: vec![],
            options: write.options.clone(),
            returned,
            replacing: None,
        };
        let (mut held, mut routes) = (planned.held, None);
        if let Some(tiered) = tiered {
            routes = Some(Box::new(self.routes(&set, &tiered, &rows).await.map_err(at)?));
            held.push(tiered.known);
        }
        let plan = planned.plan.written_to(SinkSpec { table: target, rows, routes }, returning);
        let columns = names.unwrap_or_else(|| session::names(plan.root.columns.clone()));
        let seconds = began.elapsed().as_secs_f64();
        Ok(Planned { plan, set: planned.set, columns, seconds, writes_at: write.table.position, held })
    }

    pub(crate) async fn create_table(&mut self, wanted: &CreateTable) -> Result<Execution> {
        let at = |error: Error| error.at(wanted.table.position);
        let set = self.catalogs()?;
        let (target, connector) = self.to_write(&set, &wanted.table)?;
        let wanted = &self.alike(&set, wanted).await?;
        new_columns(&wanted.columns).map_err(at)?;
        if connector.table(&target.catalog, &target.schema, &target.table).await.map_err(at)?.is_some() {
            return match wanted.if_not_exists {
                true => Ok(Execution::done(format!("{target} is there already; nothing was done"))),
                false => Err(at(Error::new(Code::AlreadyExists, format!("there is a table {target} already")))),
            };
        }
        let rows = NewRows {
            schema: target.schema.clone(),
            table: target.table.clone(),
            create: true,
            columns: wanted.columns.clone(),
            not_null: wanted.not_null.clone(),
            primary_key: wanted.primary_key.clone(),
            options: wanted.options.clone(),
            returned: None,
            replacing: None,
        };
        let writer = connector.writer(rows).await.map_err(at)?;
        // A table without rows: the writer has nothing to write.
        let prepared = tokio::task::spawn_blocking(move || writer.prepare()).await;
        let prepared =
            prepared.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))?.map_err(at)?;
        prepared.commit().await.map_err(at)?;
        connector.refresh();
        self.has_written();
        Ok(Execution::done(format!("{target} is there")))
    }

    /// A new table with the columns of those that it is to be like.
    async fn alike(&self, set: &Arc<CatalogSet>, wanted: &CreateTable) -> Result<CreateTable> {
        let mut made = CreateTable { likes: vec![], ..wanted.clone() };
        for like in wanted.likes.iter().rev() {
            let at = |error: Error| error.at(like.table.position);
            let found = table(&self.engine, set, &self.place, &like.table.parts).await.map_err(at)?;
            let columns = &found.table.columns;
            made.not_null.extend(columns.iter().filter(|column| !column.nullable).map(|column| column.name.clone()));
            let columns: Vec<_> = columns.iter().map(|column| (column.name.clone(), column.sql_type.clone())).collect();
            made.columns.splice(like.place..like.place, columns);
            if like.all {
                for (name, value) in found.source.kept_as() {
                    made.options.entry(name).or_insert(value);
                }
            }
        }
        Ok(made)
    }

    pub(crate) async fn change_tables(
        &mut self,
        names: &[WrittenName],
        if_exists: bool,
        change: TableChange,
    ) -> Result<Execution> {
        let set = self.catalogs()?;
        let mut targets = Vec::new();
        for written in names {
            let at = |error: Error| error.at(written.position);
            let (target, connector) = self.to_change(&set, written).await?;
            let found = connector.table(&target.catalog, &target.schema, &target.table).await.map_err(at)?;
            match found {
                None if if_exists => continue,
                // With its own explanation of what is missing.
                None => drop(table(&self.engine, &set, &self.place, &written.parts).await.map_err(at)?),
                Some(_) => {}
            }
            if change == TableChange::Drop {
                self.engine.unread(&target.to_string(), &target).map_err(at)?;
            }
            targets.push((target, connector, written.position));
        }
        let mut done = Vec::new();
        for (target, connector, position) in targets {
            let changed = connector.change_table(&target.schema, &target.table, change).await;
            changed.map_err(|error| match done.is_empty() {
                true => error.at(position),
                // Each is done by itself.
                false => {
                    Error { message: format!("{} ({} done before)", error.message, list(&done)), ..error }.at(position)
                }
            })?;
            self.has_written();
            done.push(target.to_string());
        }
        let what = if change == TableChange::Drop { "gone" } else { "empty" };
        Ok(Execution::done(match done.as_slice() {
            [] => "there was no such table".to_owned(),
            [one] => format!("{one} is {what}"),
            all => format!("{} are {what}", list(all)),
        }))
    }

    pub(crate) async fn create_view(&mut self, wanted: &CreateView) -> Result<Execution> {
        if wanted.temporary {
            return self.create_own_view(wanted).await;
        }
        if let Some(name) = self.source_view(&wanted.name) {
            let (_, columns) = self.checked_view(wanted).await?;
            return self.create_source_view(&name, wanted, columns).await;
        }
        let Some(name) = self.engine.new_view_name(&wanted.name, wanted.replace, wanted.if_not_exists)? else {
            return Ok(Execution::done("there is such a view already; nothing was done".to_owned()));
        };
        let (known, _) = self.checked_view(wanted).await?;
        let was_there = self.engine.views().contains_key(&name);
        self.engine.create_view(&name, known, wanted.name.position).await?;
        let how = if was_there { "is another one now" } else { "is there" };
        Ok(Execution::done(format!("{} {how}", full_name(&name))))
    }

    /// The view to create, with the columns of its query. Errors of the query are reported now.
    async fn checked_view(&self, wanted: &CreateView) -> Result<(KnownView, Vec<ResultColumn>)> {
        let at = |error: Error| error.at(wanted.name.position);
        let view =
            UserView { catalog: self.place.catalog.clone(), schema: self.place.schema.clone(), ..wanted.view.clone() };
        let known = KnownView::new(view).map_err(at)?;
        // A view of all cannot read what one session has.
        let seen = match wanted.temporary {
            true => self.clone(),
            false => Session { views: Arc::default(), ..self.clone() },
        };
        let planned = seen.planned(&wanted.query, Parameters::NONE, &CancellationToken::new()).await?;
        let given = &known.view.columns;
        if given.len() > planned.columns.len() {
            let what = format!("{} names are given for {} columns", given.len(), planned.columns.len());
            return Err(at(Error::new(Code::Syntax, what)));
        }
        let names = given.iter().chain(planned.columns.iter().skip(given.len()).map(|column| &column.name));
        let names: Vec<&String> = names.collect();
        if let Some((_, twice)) = names.iter().enumerate().find(|(place, name)| names[..*place].contains(name)) {
            return Err(at(Error::new(Code::DuplicateColumn, format!("two columns are named \"{twice}\""))
                .hint("name each column with AS")));
        }
        Ok((known, planned.columns))
    }

    /// Makes a view that only this session has.
    async fn create_own_view(&mut self, wanted: &CreateView) -> Result<Execution> {
        let at = |error: Error| error.at(wanted.name.position);
        let [name] = wanted.name.parts.as_slice() else {
            return Err(at(Error::new(Code::NotAllowed, "a temporary view is in no catalog")
                .hint("give the name without a catalog or schema")));
        };
        match self.views.contains_key(name) {
            true if wanted.if_not_exists => {
                return Ok(Execution::done("there is such a view already; nothing was done".to_owned()));
            }
            true if !wanted.replace => {
                return Err(at(Error::new(Code::AlreadyExists, format!("this session has a view {name} already"))
                    .hint("use CREATE OR REPLACE TEMPORARY VIEW to replace it")));
            }
            false if self.views.len() >= MOST_OWN_VIEWS => {
                return Err(at(Error::new(
                    Code::TooComplex,
                    format!("the session has {MOST_OWN_VIEWS} views already"),
                )));
            }
            _ => {}
        }
        let (known, _) = self.checked_view(wanted).await?;
        let mut next = self.views.as_ref().clone();
        let text = known.view.query.clone();
        next.insert(name.clone(), Arc::new(known));
        check_circles(&next).map_err(at)?;
        self.hold(Own::View, name, &text).map_err(at)?;
        self.views = Arc::new(next);
        Ok(Execution::done(format!("{name} is there, for this session")))
    }

    /// Drops views that only this session has, when all of the names mean such.
    pub(crate) fn drop_own_views(&mut self, names: &[WrittenName]) -> Option<Execution> {
        let own = |written: &WrittenName| match written.parts.as_slice() {
            [name] if self.views.contains_key(name) => Some(name.clone()),
            _ => None,
        };
        let gone: Vec<String> = names.iter().map(own).collect::<Option<_>>()?;
        let mut next = self.views.as_ref().clone();
        next.retain(|name, _| !gone.contains(name));
        self.views = Arc::new(next);
        self.release(Own::View, |name| gone.iter().any(|own| own == name));
        Some(Execution::done(format!("{} {} gone", gone.join(", "), if gone.len() == 1 { "is" } else { "are" })))
    }

    /// The columns of a table that an INSERT gives values for.
    pub(crate) async fn filled(&self, write: &Write) -> Result<Vec<(String, SqlType)>> {
        let at = |error: Error| error.at(write.table.position);
        let set = self.catalogs()?;
        let known = match self.tiered(&set, &write.table.parts).await.map_err(at)? {
            Some(tiered) => self.recent_side(&set, &tiered.tiers).await.map_err(at)?,
            None => table(&self.engine, &set, &self.place, &write.table.parts).await.map_err(at)?,
        };
        columns_to_fill(&known.table, &write.columns).map_err(at)
    }

    /// BEGIN, COMMIT and ROLLBACK: every statement is a transaction of its own in its source, so nothing that was written can be undone.
    pub(crate) fn transaction(&mut self, transaction: Transaction) -> Result<Execution> {
        let before = self.given.get(TRANSACTION).cloned();
        if transaction == Transaction::Rollback && before.as_deref() == Some(WRITTEN) {
            return Err(Error::new(Code::Unsupported, "what was written since BEGIN cannot be undone")
                .hint("each statement is a transaction of its own in its source; COMMIT ends this one"));
        }
        let message = match (transaction, before) {
            (Transaction::Begin, Some(_)) => "there is a transaction already",
            (Transaction::Begin, None) => {
                "each statement is a transaction of its own in its source: what one writes stays written"
            }
            (_, None) => "there was no transaction",
            (Transaction::Commit, Some(_)) => "done",
            (Transaction::Rollback, Some(_)) => "nothing was written, so nothing is undone",
        };
        match transaction {
            Transaction::Begin => drop(self.given.entry(TRANSACTION.to_owned()).or_insert_with(|| "open".to_owned())),
            _ => drop(self.given.remove(TRANSACTION)),
        }
        Ok(Execution::done(message.to_owned()))
    }

    pub(crate) fn has_written(&mut self) {
        if let Some(state) = self.given.get_mut(TRANSACTION) {
            *state = WRITTEN.to_owned();
        }
    }

    pub(crate) async fn create_function(&self, function: &UserFunction, replace: bool) -> Result<Execution> {
        self.asker.administers("make functions")?;
        let name = &function.name;
        let functions = self.engine.functions();
        if !replace && functions.contains_key(name) {
            return Err(Error::new(Code::AlreadyExists, format!("there is a function named {name} already"))
                .hint("use CREATE OR REPLACE FUNCTION to replace it"));
        }
        let known = KnownFunction::new(function.clone())?;
        self.engine.check_function(&known, &functions)?;
        if let Some(state) = self.engine.state() {
            state.keep_function(name, Some(function)).await?;
        }
        self.engine.take_function(known);
        Ok(Execution::done(format!("{name}({}) is there", function.arguments())))
    }

    pub(crate) async fn drop_function(&self, name: &str, if_exists: bool) -> Result<Execution> {
        self.asker.administers("drop functions")?;
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
}

impl Engine {
    /// Whether a function can be made: its name is free of ours and its body makes sense beside these functions.
    pub(crate) fn check_function(&self, known: &KnownFunction, functions: &cobble_sql::KnownFunctions) -> Result<()> {
        let name = &known.function.name;
        if cobble_functions::entries().iter().any(|own| own.name == *name) {
            return Err(Error::new(Code::AlreadyExists, format!("{name}() is one of the engine's own functions"))
                .hint("choose another name"));
        }
        // A body that calls itself is bound many times within itself before that is told.
        with_room(|| known.check(functions, &NoTables))?;
        if known.function.language == FunctionLanguage::Script {
            Script::read(&known.function)?;
        }
        Ok(())
    }
}
