//! Tables in tiers: made, and rows moved from the recent side to the older one.
//!
//! A move writes the rows to the older side, beyond the boundary, where nobody sees them. Then the boundary moves, in one step. When no statement runs any
//! more that began by the old boundary, a transaction deletes them on the recent side, after it was made sure that the older side has each of them. Each step
//! is recorded before it begins, so that a move which was stopped is taken up by the next one. No lock is held while rows are written.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use cobble_plan::offer::{ChangedBy, DescribedTable};
use cobble_plan::physical::Operator;
use cobble_plan::scan::{GateCounters, Scans};
use cobble_plan::sink::{NewRows, Prepared, Routes, SinkSpec};
use cobble_plan::{TierMove, Tiers, UserView};
use cobble_sql::{CreateTiers, KnownView, Parameters, Statement, parse_statements, table_name};
use cobble_types::parse::parse_value;
use cobble_types::{
    Code, Error, ObjectName, Result, SqlType, Value, array_value_text, quote_identifier, quote_literal,
};
use tokio_util::sync::CancellationToken;

use crate::catalogs::{CatalogSet, Engine};
use crate::execution::Execution;
use crate::memory_table::MemoryTable;
use crate::resolve::{Place, Relation, relation, table};
use crate::session::{Planned, Session};
use crate::views::full_name;

/// How often rows are deleted and written anew, when others have added some of them in the meantime.
const ATTEMPTS: usize = 3;

/// How often it is looked whether statements have ended.
const PAUSE: Duration = Duration::from_millis(50);

/// Says what a move is doing.
type Tell<'t> = &'t (dyn Fn(&str) + Sync);

/// A table in tiers, as a name means it.
pub(crate) struct Tiered {
    pub name: String,
    pub known: Arc<KnownView>,
    pub tiers: Tiers,
}

/// Keeps others from moving rows of the same table, or of any.
#[derive(Debug)]
pub struct Alone {
    all: Arc<Mutex<BTreeSet<String>>>,
    name: String,
}

/// Stands for all tables.
const ANY: &str = "";

impl Alone {
    fn new(all: &Arc<Mutex<BTreeSet<String>>>, name: &str) -> Result<Alone> {
        let mut own = all.lock().unwrap_or_else(PoisonError::into_inner);
        let busy = match name {
            ANY => own.first(),
            name => own.get(name).or_else(|| own.get(ANY)),
        };
        let what = match busy.map(String::as_str) {
            None => {
                own.insert(name.to_owned());
                return Ok(Alone { all: all.clone(), name: name.to_owned() });
            }
            Some(ANY) => "the configuration is being changed".to_owned(),
            Some(name) => format!("rows of {} are being moved", full_name(name)),
        };
        Err(Error::new(Code::InUse, what).hint("wait for its end, or cancel it"))
    }
}

impl Drop for Alone {
    fn drop(&mut self) {
        self.all.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.name);
    }
}

impl Engine {
    /// Lets no rows be moved between tiers, as long as what is returned is kept.
    ///
    /// # Errors
    /// When some are being moved.
    pub fn nothing_moves(&self) -> Result<Alone> {
        Alone::new(&self.moving, ANY)
    }

    /// Whether rows of a table are being moved at the moment.
    fn moves(&self, name: &str) -> bool {
        self.moving.lock().unwrap_or_else(PoisonError::into_inner).contains(name)
    }
}

fn can_divide(sql_type: &SqlType) -> bool {
    use SqlType::{BigInt, Date, Integer, SmallInt, Text, Timestamp, TimestampTz};
    matches!(sql_type, Date | Timestamp | TimestampTz | SmallInt | Integer | BigInt | Text)
}

/// Some value of a type that can divide.
fn sample(sql_type: &SqlType) -> &'static str {
    match sql_type {
        SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz => "2000-01-01",
        _ => "0",
    }
}

impl Session {
    /// The table in tiers that a name means, if it means one.
    pub(crate) async fn tiered(&self, set: &CatalogSet, parts: &[String]) -> Result<Option<Tiered>> {
        let views = self.engine.views();
        let is_one = |name: &String| views.get(name).is_some_and(|known| known.view.tiers.is_some());
        if !parts.last().is_some_and(is_one) {
            return Ok(None);
        }
        drop(views);
        match relation(&self.engine, set, &self.views, &self.place, parts).await? {
            Relation::View(name, known) => {
                Ok(known.view.tiers.clone().map(|tiers| Tiered { name: name.table, known, tiers }))
            }
            Relation::Table(_) => Ok(None),
        }
    }

    /// The table on one side, by its full name.
    async fn side(&self, set: &CatalogSet, written: &str) -> Result<DescribedTable> {
        table(&self.engine, set, &Place::default(), &table_name(written)?).await
    }

    /// The columns of the recent side, which are those that rows are given for.
    pub(crate) async fn recent_side(&self, set: &CatalogSet, tiers: &Tiers) -> Result<DescribedTable> {
        self.side(set, &tiers.recent).await
    }

    /// Where rows with these columns go.
    pub(crate) async fn routes(&self, set: &CatalogSet, tiered: &Tiered, rows: &NewRows) -> Result<Routes> {
        let Tiered { name, tiers, .. } = tiered;
        let (recent, older) = (self.side(set, &tiers.recent).await?, self.side(set, &tiers.older).await?);
        let found = recent.table.columns.iter().find(|column| column.name == tiers.by);
        let sql_type = found.map(|column| column.sql_type.clone()).ok_or_else(|| {
            Error::new(Code::UnknownName, format!("{} has no column {} any more", tiers.recent, tiers.by))
        })?;
        let value = |text: &String| parse_value(text, &sql_type);
        let moving_to = match &tiers.moving {
            // What a move that was stopped has written to the older side goes when the next one begins, and that waits for who holds this state.
            Some(TierMove::Copying { to }) if self.engine.moves(name) => Some(value(to)?),
            _ => None,
        };
        let to = |name: &ObjectName| {
            let rows = NewRows { schema: name.schema.clone(), table: name.table.clone(), ..rows.clone() };
            SinkSpec { table: name.clone(), rows, routes: None }
        };
        Ok(Routes {
            column: rows.columns.iter().position(|(name, _)| *name == tiers.by),
            boundary: tiers.boundary.as_ref().map(value).transpose()?,
            moving_to,
            recent: to(&recent.table.name),
            older: to(&older.table.name),
            sql_type,
        })
    }

    /// The first value of what a query of our own answers, as text.
    async fn value(&self, sql: &str, cancel: &CancellationToken) -> Result<Option<String>> {
        let mut execution = Box::pin(self.clone().run_text(sql, cancel)).await?;
        let mut first = None;
        while let Some(batch) = execution.next().await? {
            if first.is_none() && batch.num_rows() > 0 {
                first = Some(array_value_text(batch.column(0).as_ref(), 0));
            }
        }
        Ok(first.flatten())
    }

    async fn number(&self, sql: &str, cancel: &CancellationToken) -> Result<u64> {
        let value = self.value(sql, cancel).await?;
        let number = value.and_then(|text| text.parse().ok());
        number.ok_or_else(|| Error::internal(format!("no number came of {sql}")))
    }

    /// A boundary as text that means the same in every session.
    async fn boundary(&self, text: &str, sql_type: &SqlType, cancel: &CancellationToken) -> Result<String> {
        let made =
            self.value(&format!("SELECT CAST(CAST({} AS {sql_type}) AS text)", quote_literal(text)), cancel).await?;
        made.ok_or_else(|| Error::internal("a boundary without a text"))
    }

    pub(crate) async fn create_tiers(&mut self, wanted: &CreateTiers, cancel: &CancellationToken) -> Result<Execution> {
        let free = self.engine.new_view_name(&wanted.name, false, wanted.if_not_exists);
        let Some(name) = free.map_err(|e| e.hint("another name is needed, or DROP VIEW first"))? else {
            return Ok(Execution::done("there is such a table already; nothing was done".to_owned()));
        };
        let set = self.catalogs()?;
        let mut sides = Vec::new();
        for (written, by, what, hint) in [
            (&wanted.recent, ChangedBy::Source, "cannot hold the recent rows", "that side is a table of a database"),
            (&wanted.older, ChangedBy::Writer, "cannot hold the older rows", "that side is a table of a lake"),
        ] {
            let at = |error: Error| error.at(written.position);
            let found = table(&self.engine, &set, &self.place, &written.parts).await.map_err(at)?;
            if found.source.changeable(&found.table).map_err(at)?.by != by {
                let what = format!("{} {what}", found.table.name);
                return Err(at(Error::new(Code::WrongKind, what).hint(hint)));
            }
            sides.push(found.table);
        }
        let [recent, older] = sides.as_slice() else { return Err(Error::internal("a table with one side")) };
        let names = |of: &cobble_plan::logical::Table| of.columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>();
        let (mut columns, others) = (names(recent), names(older));
        for (one, all, place) in [(&columns, &others, older), (&others, &columns, recent)] {
            if let Some(missing) = one.iter().find(|name| !all.contains(name)) {
                let what = format!("{} has no column {missing}, and the other side has", place.name);
                return Err(Error::new(Code::UnknownName, what).hint("both sides need columns of the same names"));
            }
        }
        if columns == others {
            columns.clear();
        }
        let column = |of: &cobble_plan::logical::Table| of.columns.iter().find(|c| c.name == wanted.by).cloned();
        let (Some(by), Some(beside)) = (column(recent), column(older)) else {
            return Err(Error::unknown("column", &wanted.by, recent.columns.iter().map(|c| c.name.as_str())));
        };
        if by.sql_type != beside.sql_type || !can_divide(&by.sql_type) {
            let what =
                format!("{} is {} in {} and {} in {}", by.name, by.sql_type, recent.name, beside.sql_type, older.name);
            return Err(Error::new(Code::TypeMismatch, what)
                .hint("a boundary needs the same type on both sides: a date, a timestamp, a whole number or text"));
        }
        let boundary = match &wanted.boundary {
            Some(text) => Some(self.boundary(text, &by.sql_type, cancel).await?),
            None => None,
        };
        let tiers = Tiers {
            recent: recent.name.to_string(),
            older: older.name.to_string(),
            by: by.name.clone(),
            nullable: by.nullable,
            columns,
            boundary,
            moving: None,
        };
        let checked = self.each_on_its_side(&tiers, cancel).await.map_err(|e| e.at(wanted.name.position));
        checked.map_err(|e| e.hint("give a BOUNDARY that divides the rows as they are, or move these rows first"))?;
        let known = KnownView::new(UserView { tiers: Some(tiers), ..UserView::default() })?;
        let seen = Session { views: Arc::default(), place: Place::default(), ..self.clone() };
        seen.planned(&known.query, Parameters::NONE, cancel).await?;
        // What a move will ask of the recent side.
        let rows = format!(
            "{} < CAST({} AS {})",
            quote_identifier(&wanted.by),
            quote_literal(sample(&by.sql_type)),
            by.sql_type
        );
        seen.planned_sql(&format!("DELETE FROM {} WHERE {rows}", recent.name), cancel).await.map_err(|e| {
            let what = format!("rows could not be moved out of {}: {}", recent.name, e.message);
            Error { message: what, position: wanted.recent.position, ..e }
        })?;
        let KnownView { view: UserView { tiers: Some(tiers), .. }, .. } = &known else {
            return Err(Error::internal("a table in tiers without tiers"));
        };
        let compared = KnownView::new(UserView { query: Session::alone(tiers, &rows), ..UserView::default() })?;
        seen.planned(&compared.query, Parameters::NONE, cancel).await?;
        self.engine.create_view(&name, known, wanted.name.position).await?;
        Ok(Execution::done(format!("{} is there", full_name(&name))))
    }

    /// Refuses rows that would be seen on no side.
    async fn each_on_its_side(&self, tiers: &Tiers, cancel: &CancellationToken) -> Result<()> {
        let Tiers { recent, older, boundary, .. } = tiers;
        let count = async |table: &str, condition: String| {
            self.number(&format!("SELECT count(*) FROM {table} WHERE {condition}"), cancel).await
        };
        let boundary = boundary.as_deref();
        let here = format!("NOT coalesce({}, false)", tiers.between(None, boundary));
        let (hidden, place) = match boundary {
            None => (count(older, "true".to_owned()).await?, format!("are in {older}, and there is no boundary")),
            Some(at) => match count(older, here).await? {
                0 => (count(recent, tiers.between(None, boundary)).await?, format!("before {at} are in {recent}")),
                hidden => (hidden, format!("from {at} on, or without a value, are in {older}")),
            },
        };
        match hidden {
            0 => Ok(()),
            _ => Err(Error::new(Code::Conflict, format!("{hidden} rows {place}, where nobody sees them"))
                .hint("delete them there, and insert them under the name of the whole")),
        }
    }

    /// Keeps the table in another state.
    async fn kept(&self, name: &str, tiers: &Tiers) -> Result<()> {
        let before = self.engine.views().get(name).map(Arc::downgrade);
        let known = KnownView::new(UserView { tiers: Some(tiers.clone()), ..UserView::default() })?;
        self.engine.create_view(name, known, None).await?;
        let mut earlier = self.engine.earlier.lock().unwrap_or_else(PoisonError::into_inner);
        earlier.entry(name.to_owned()).or_default().extend(before);
        Ok(())
    }

    /// The same, and waits until nothing runs any more that began before.
    async fn turned(&self, name: &str, tiers: &Tiers, cancel: &CancellationToken) -> Result<()> {
        self.kept(name, tiers).await?;
        self.drained(name, cancel).await
    }

    /// Waits until no statement runs any more that began in an earlier state of the table.
    async fn drained(&self, name: &str, cancel: &CancellationToken) -> Result<()> {
        loop {
            {
                let mut earlier = self.engine.earlier.lock().unwrap_or_else(PoisonError::into_inner);
                let Some(own) = earlier.get_mut(name) else { return Ok(()) };
                own.retain(|state| state.strong_count() > 0);
                if own.is_empty() {
                    earlier.remove(name);
                    return Ok(());
                }
            }
            match cancel.run_until_cancelled(tokio::time::sleep(PAUSE)).await {
                Some(()) => {}
                None => return Err(Error::cancelled()),
            }
        }
    }

    /// The plan of a DELETE of our own.
    async fn planned_sql(&self, sql: &str, cancel: &CancellationToken) -> Result<Planned> {
        let statements = parse_statements(sql)?;
        match statements.first().map(|own| &own.statement) {
            Some(Statement::Change(change)) => self.planned_change(change, Parameters::NONE, cancel).await,
            _ => Err(Error::internal("a DELETE that is none")),
        }
    }

    /// Deletes rows in a transaction that stays open, and says how many.
    async fn deleted(&self, sql: &str, cancel: &CancellationToken) -> Result<(u64, Option<Box<dyn Prepared>>)> {
        let planned = self.planned_sql(sql, cancel).await?;
        let Operator::Change { gate, change, .. } = &planned.plan.root.operator else { return Ok((0, None)) };
        let change = planned.set.change(&planned.plan.gates[*gate].spec, change)?;
        let mut prepared = change.prepare(cancel).await?;
        Ok((prepared.outcome().rows, Some(prepared)))
    }

    /// `CALL tier_move(table, to, dry_run)`
    pub(crate) async fn tier_move(
        &mut self,
        name: &[String],
        to: &str,
        dry_run: bool,
        cancel: &CancellationToken,
    ) -> Result<Execution> {
        let set = self.catalogs()?;
        let Some(Tiered { name, .. }) = self.tiered(&set, name).await? else {
            let what = format!("{} is no table in tiers", name.join("."));
            return Err(Error::new(Code::WrongKind, what).hint("CREATE TIERED TABLE makes one"));
        };
        let _alone = Alone::new(&self.engine.moving, &name)?;
        let (counters, under_way) = (Arc::<GateCounters>::default(), self.under_way.clone());
        let _going = under_way.begin(counters.clone());
        let own = Session { place: Place::default(), views: Arc::default(), ..self.clone() };
        let tell = |doing: &str| counters.tell(doing.to_owned());
        let views = self.engine.views();
        let tiers = views.get(&name).and_then(|known| known.view.tiers.clone());
        drop(views);
        let Some(mut tiers) = tiers else { return Err(Error::internal("a table in tiers that is none")) };
        let recent = own.recent_side(&set, &tiers).await?;
        let sql_type = recent.table.columns.iter().find(|column| column.name == tiers.by).map(|c| c.sql_type.clone());
        let sql_type = sql_type.ok_or_else(|| Error::unknown("column", &tiers.by, []))?;
        let to = own.boundary(to, &sql_type, cancel).await?;
        if let Some(boundary) = &tiers.boundary {
            let (new, old) = (quote_literal(&to), quote_literal(boundary));
            let is_later = format!("CAST({new} AS {sql_type}) >= CAST({old} AS {sql_type})");
            if own.number(&format!("SELECT count(*) WHERE {is_later}"), cancel).await? == 0 {
                let what = format!("the boundary of {} is {boundary} already", full_name(&name));
                return Err(Error::new(Code::BadSetting, what).hint("rows move to the older side only"));
            }
        }
        let from = tiers.boundary.clone();
        let moved = match dry_run {
            true => {
                let rows = tiers.between(from.as_deref(), Some(&to));
                own.number(&format!("SELECT count(*) FROM {} WHERE {rows}", tiers.recent), cancel).await?
            }
            false => {
                if let Some(TierMove::Ending { .. }) = tiers.moving {
                    own.end_move(&name, &mut tiers, &tell, cancel).await?;
                }
                match from.as_ref() == Some(&to) {
                    true => 0,
                    false => own.moved(&name, &mut tiers, &to, &tell, cancel).await?,
                }
            }
        };
        if !dry_run {
            self.has_written();
        }
        let some = |text: &str| Value::Text(text.to_owned());
        let mut rows = cobble_plan::facts::FactRows::new(&[
            ("table", SqlType::Text),
            ("rows", SqlType::BigInt),
            ("from", SqlType::Text),
            ("to", SqlType::Text),
        ]);
        let from = from.as_deref().map_or(Value::Null, some);
        rows.push([some(&full_name(&name).to_string()), Value::BigInt(moved as i64), from, some(&to)])?;
        let columns = rows.columns.iter().map(|(name, sql_type)| ((*name).to_owned(), sql_type.clone())).collect();
        Execution::ready(MemoryTable { columns, rows: rows.rows(), arrays: rows.arrays()? })
    }

    /// Removes from the older side what a move has written there that did not come to its end.
    async fn cleared(&self, tiers: &Tiers, cancel: &CancellationToken) -> Result<()> {
        let rows = match &tiers.boundary {
            Some(boundary) => tiers.between(Some(boundary), None),
            None => "true".to_owned(),
        };
        self.value(&format!("DELETE FROM {} WHERE {rows}", tiers.older), cancel).await.map(drop)
    }

    async fn moved(
        &self,
        name: &str,
        tiers: &mut Tiers,
        to: &str,
        tell: Tell<'_>,
        cancel: &CancellationToken,
    ) -> Result<u64> {
        tell("checks that each row is on its side");
        match tiers.moving {
            // Only what a move has written there may go.
            Some(_) => self.cleared(tiers, cancel).await?,
            None => self.each_on_its_side(tiers, cancel).await?,
        }
        tiers.moving = Some(TierMove::Copying { to: to.to_owned() });
        tell("waits for statements that began before");
        self.turned(name, tiers, cancel).await?;
        let (recent, older, by) = (tiers.recent.clone(), tiers.older.clone(), quote_identifier(&tiers.by));
        let from = tiers.boundary.clone();
        let rows = tiers.between(from.as_deref(), Some(to));
        let listed = tiers.listed();
        let into = if tiers.columns.is_empty() { String::new() } else { format!(" ({listed})") };
        let copy = format!("INSERT INTO {older}{into} SELECT {listed} FROM {recent} WHERE {rows} ORDER BY {by}");
        let there = format!("SELECT count(*) FROM {recent} WHERE {rows}");
        for _ in 0..ATTEMPTS {
            tell("writes rows to the older side");
            let copied = self.written(&copy, cancel).await?;
            if self.number(&there, cancel).await? != copied {
                self.cleared(tiers, cancel).await?;
                continue;
            }
            tiers.boundary = Some(to.to_owned());
            tiers.moving = Some(TierMove::Ending { from });
            self.refresh(tiers)?;
            self.kept(name, tiers).await?;
            self.end_move(name, tiers, tell, cancel).await?;
            return Ok(copied);
        }
        tiers.moving = None;
        self.kept(name, tiers).await?;
        let what = format!("others add rows before {to} to {recent}, so that they cannot be moved; nothing was moved");
        Err(Error::new(Code::Conflict, what).hint("move rows up to a point where no more are added"))
    }

    /// How many rows an INSERT has written.
    async fn written(&self, sql: &str, cancel: &CancellationToken) -> Result<u64> {
        let mut execution = Box::pin(self.clone().run_text(sql, cancel)).await?;
        let mut rows = 0;
        while let Some(batch) = execution.next().await? {
            let place = execution.columns.iter().position(|column| column.name == "rows");
            let text = place.and_then(|place| array_value_text(batch.column(place).as_ref(), 0));
            rows += text.and_then(|text| text.parse::<u64>().ok()).unwrap_or(0);
        }
        Ok(rows)
    }

    fn refresh(&self, tiers: &Tiers) -> Result<()> {
        let set = self.catalogs()?;
        for side in [&tiers.recent, &tiers.older] {
            if let Some(catalog) = table_name(side)?.first() {
                set.connector(catalog)?.refresh();
            }
        }
        Ok(())
    }

    /// Which rows of a stretch the recent side has and the older one has not.
    fn alone(tiers: &Tiers, rows: &str) -> String {
        let of = |table: &str| format!("SELECT {} FROM {table} WHERE {rows}", tiers.listed());
        format!("{} EXCEPT ALL {}", of(&tiers.recent), of(&tiers.older))
    }

    /// Removes from the recent side what a move has brought to the older one.
    async fn end_move(&self, name: &str, tiers: &mut Tiers, tell: Tell<'_>, cancel: &CancellationToken) -> Result<()> {
        // Of a move that was stopped some may still run.
        tell("waits for statements that began before");
        self.drained(name, cancel).await?;
        tell("deletes rows on the recent side, once they are found on the older one");
        let Some(TierMove::Ending { from }) = &tiers.moving else { return Ok(()) };
        let (recent, boundary) = (tiers.recent.clone(), tiers.boundary.as_deref());
        let rows = tiers.between(from.as_deref(), boundary);
        // These rows cannot change any more, and others see them until the end.
        let (gone, prepared) = self.deleted(&format!("DELETE FROM {recent} WHERE {rows}"), cancel).await?;
        if gone > 0 {
            let late = Session::alone(tiers, &rows);
            let alone = self.number(&format!("SELECT count(*) FROM ({late}) AS late"), cancel).await?;
            if alone > 0 {
                let what =
                    format!("{alone} rows of {recent} were written there while they were moved, and nobody sees them");
                return Err(Error::new(Code::Conflict, what).hint(format!(
                    "this query finds them: {late}; delete them in {recent}, insert them under the name {name}, and run the call again"
                )));
            }
        }
        if let Some(prepared) = prepared {
            prepared.commit().await?;
        }
        tiers.moving = None;
        self.kept(name, tiers).await?;
        self.refresh(tiers)
    }
}
