//! UPDATE and DELETE. If conditions on the one table find the rows, they stand in the statement itself. Otherwise the statement contains the query that
//! finds the rows and matches them by their identity, in a transaction with a snapshot.

use std::sync::Arc;

use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::offer::Request;
use cobble_plan::sink::{NewValue, Prepared, RowChange, SourceChange};
use cobble_types::{Code, Error, Result};
use tokio_util::sync::CancellationToken;

use super::offer::DatabaseDraft;
use super::sql::{Sql, StatementText};
use super::{Database, RemoteTable};

/// How a statement names the query that finds its rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeForm {
    /// `UPDATE t SET … FROM query`, `DELETE FROM t USING query`
    FromUsing,
    /// `UPDATE t SET … FROM query`, `DELETE FROM t WHERE key IN (query)`
    FromIn,
    /// `UPDATE t JOIN query SET …`, `DELETE t FROM t JOIN query`
    Join,
}

/// What is run in one transaction.
#[derive(Debug, Clone)]
pub struct ChangeStatement {
    /// The database or schema of the table.
    pub schema: String,
    pub statement: StatementText,
    /// Counts the rows that the query finds. An UPDATE of fewer rows would have chosen by chance between several for one.
    pub found: Option<StatementText>,
    /// The transaction must see one state of the data.
    pub of_one_state: bool,
    /// The columns that the statement gives back.
    pub returned: Option<Vec<Column>>,
}

impl ChangeStatement {
    /// Refuses an UPDATE whose outcome would be chance.
    pub fn check(&self, connection: &str, found: u64, changed: u64) -> Result<()> {
        if found <= changed {
            return Ok(());
        }
        let what = format!(
            "connection {connection}: {found} rows were found for {changed} rows of the table, and a row cannot be set to several values"
        );
        Err(Error::new(Code::Cardinality, what)
            .hint("find one row for each, such as by DISTINCT or by grouping; nothing was changed"))
    }
}

/// The connection broke when the transaction was to become permanent.
pub fn unknown_outcome(mut error: Error) -> Error {
    error.message = format!("{}; this was while the change was being committed", error.message);
    error.hint("look whether the table has changed before you run it again")
}

#[derive(Debug)]
pub struct DatabaseChange {
    database: Arc<dyn Database>,
    statement: ChangeStatement,
}

impl DatabaseChange {
    pub fn new(
        database: Arc<dyn Database>,
        offer: &DatabaseDraft,
        columns: &[Column],
        change: &RowChange,
    ) -> Result<DatabaseChange> {
        let target = offer.select.target.clone().ok_or_else(|| Error::internal("a change without its table"))?;
        let parts = Parts { database: database.as_ref(), offer, columns, change, target: &target };
        let statement = match offer.conditions_alone() {
            Some(conditions) => {
                let (schema, statement) = (target.schema.clone(), parts.printed(&parts.alone(conditions)?));
                ChangeStatement {
                    schema,
                    statement,
                    found: None,
                    of_one_state: false,
                    returned: change.returned.clone(),
                }
            }
            None => parts.with_query()?,
        };
        Ok(DatabaseChange { database, statement })
    }
}

struct Parts<'a> {
    database: &'a dyn Database,
    offer: &'a DatabaseDraft,
    columns: &'a [Column],
    change: &'a RowChange,
    target: &'a RemoteTable,
}

impl Parts<'_> {
    fn printed(&self, sql: &Sql) -> StatementText {
        StatementText::of(sql, self.database.dialect())
    }

    fn form(&self) -> ChangeForm {
        self.database.dialect().change_form()
    }

    /// `a = …, b = …`, with what stands for a column that the query finds.
    fn assignments(&self, alias: &str, found: impl Fn(usize) -> Result<Sql>) -> Result<Sql> {
        let dialect = self.database.dialect();
        let mut out = Vec::new();
        for (name, value) in self.change.set.iter().flatten() {
            let value = match value {
                NewValue::Found(place) => found(*place)?,
                NewValue::Given(value, sql_type) => Sql::parameter(dialect.stored(value, sql_type)),
            };
            let remote = self.target.columns.iter().find(|column| column.name == *name);
            let owner = if self.form() == ChangeForm::Join { format!("{alias}.") } else { String::new() };
            let mut item = Sql::new(format!("{owner}{} = ", dialect.quoted(name)));
            match remote.and_then(|remote| remote.taken.as_ref()) {
                Some(taken) => item.push(&super::wrap(&[&value], taken)),
                None => item.push(&value),
            };
            out.push(item);
        }
        Ok(Sql::joined(&out, ", "))
    }

    /// The statement whose rows are chosen by these conditions on `t1`.
    fn alone(&self, conditions: &[Sql]) -> Result<Sql> {
        let place = &self.target.name;
        let mut out = match (&self.change.set, self.form()) {
            (Some(_), _) => {
                let mut out = Sql::new(format!("UPDATE {place} AS t1 SET "));
                out.push(&self.assignments("t1", |at| self.offer.listed(&self.columns[at]))?);
                out
            }
            (None, ChangeForm::Join) => Sql::new(format!("DELETE t1 FROM {place} AS t1")),
            (None, _) => Sql::new(format!("DELETE FROM {place} AS t1")),
        };
        if !conditions.is_empty() {
            out.text(" WHERE ").push(&Sql::joined(conditions, " AND "));
        }
        out.text(&self.returning("t1")?);
        Ok(out)
    }

    /// `RETURNING …`, with the columns written as a scan writes them.
    fn returning(&self, alias: &str) -> Result<String> {
        let Some(columns) = &self.change.returned else { return Ok(String::new()) };
        let dialect = self.database.dialect();
        let prefix = dialect.changed_row(alias).ok_or_else(|| {
            let (connection, kind) = (self.database.connection(), dialect.kind());
            let what = format!("connection {connection}: {kind} gives no changed rows back");
            Error::new(Code::Unsupported, what).hint("leave RETURNING out, and SELECT the rows before or after")
        })?;
        let list = super::returned::list(dialect, self.target, &prefix, columns)?;
        Ok(format!(" RETURNING {list}"))
    }

    fn with_query(&self) -> Result<ChangeStatement> {
        let dialect = self.database.dialect();
        let place = &self.target.name;
        let name = |at: usize| format!("c{at}");
        let columns: Vec<(Column, String)> =
            self.columns.iter().enumerate().map(|(at, column)| (column.clone(), name(at))).collect();
        let query = super::wrap(&[&Sql::query(self.offer.named(&columns)?)], "(?) AS s");
        let keys: Vec<(String, String)> = self
            .target
            .identity
            .iter()
            .flatten()
            .zip(&self.change.identity)
            .map(|(own, at)| (format!("t0.{}", dialect.quoted(own)), format!("s.{}", name(*at))))
            .collect();
        let same = keys.iter().map(|(own, found)| format!("{own} = {found}")).collect::<Vec<_>>().join(" AND ");
        let assignments = self.assignments("t0", |at| Ok(Sql::new(format!("s.{}", name(at)))))?;
        let mut sql = Sql::default();
        match (&self.change.set, self.form()) {
            (Some(_), ChangeForm::FromUsing | ChangeForm::FromIn) => sql
                .text(&format!("UPDATE {place} AS t0 SET "))
                .push(&assignments)
                .text(" FROM ")
                .push(&query)
                .text(&format!(" WHERE {same}")),
            (Some(_), ChangeForm::Join) => sql
                .text(&format!("UPDATE {place} AS t0 JOIN "))
                .push(&query)
                .text(&format!(" ON {same} SET "))
                .push(&assignments),
            (None, ChangeForm::FromUsing) => {
                sql.text(&format!("DELETE FROM {place} AS t0 USING ")).push(&query).text(&format!(" WHERE {same}"))
            }
            (None, ChangeForm::Join) => {
                sql.text(&format!("DELETE t0 FROM {place} AS t0 JOIN ")).push(&query).text(&format!(" ON {same}"))
            }
            (None, ChangeForm::FromIn) => {
                let (own, found): (Vec<String>, Vec<String>) = keys.into_iter().unzip();
                let (own, found) = (own.join(", "), found.join(", "));
                sql.text(&format!("DELETE FROM {place} AS t0 WHERE ({own}) IN (SELECT {found} FROM "))
                    .push(&query)
                    .text(")")
            }
        };
        sql.text(&self.returning("t0")?);
        let mut count = Sql::new("SELECT count(*) FROM ");
        count.push(&query);
        let schema = self.target.schema.clone();
        let found = self.change.set.is_some().then(|| self.printed(&count));
        let (statement, returned) = (self.printed(&sql), self.change.returned.clone());
        Ok(ChangeStatement { schema, statement, found, of_one_state: true, returned })
    }
}

#[async_trait]
impl SourceChange for DatabaseChange {
    fn request(&self) -> Request {
        let statement = &self.statement.statement;
        Request { text: statement.text.clone(), parameters: statement.shown_parameters() }
    }

    async fn prepare(&self, cancel: &CancellationToken) -> Result<Box<dyn Prepared>> {
        self.database.clone().change(&self.statement, cancel).await
    }
}
