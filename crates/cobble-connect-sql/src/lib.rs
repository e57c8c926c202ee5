//! What SQL databases share. The draft of a request is a SELECT under construction, printed in the database's own dialect with bound values. Work that
//! does not provably mean the same there stays in the engine.

pub mod cells;
pub mod change;
mod dialect;
pub mod expression;
pub mod native;
mod native_text;
mod offer;
mod query;
pub mod ranges;
pub mod returned;
mod scan;
mod sql;
mod window;
pub mod write;

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::draft::answer;
use cobble_plan::expr::Column;
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::logical::{Origin, Scan, Table, TableColumn};
use cobble_plan::offer::{Changeable, ChangedBy, Source, Sources, Verdict};
use cobble_plan::scan::{Portions, ScanSpec, ScanTools};
use cobble_plan::serial::{from_bytes, to_bytes};
use cobble_plan::sink::Prepared;
use cobble_types::{Code, Error, Result, SqlType};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

pub use change::{ChangeForm, ChangeStatement};
pub use dialect::{Columns, Dialect, WindowLimits, wrap};
pub use native_text::Functions;
pub use offer::DatabaseDraft;
pub use scan::{change, scan};
pub use sql::{Parameter, Refusal, Sql, StatementText};

/// A database that statements can be sent to.
#[async_trait]
pub trait Database: Send + Sync + fmt::Debug {
    fn connection(&self) -> &str;
    fn region(&self) -> Option<&str>;
    fn dialect(&self) -> &'static dyn Dialect;
    /// Where its tables come from.
    fn origin(&self) -> Origin {
        Origin::new(self.connection(), self.dialect().kind(), self.region())
    }
    /// What was found out of it that its statements depend on, in its own words.
    fn facts(&self) -> &str {
        ""
    }
    /// Gets ready to run a statement with these columns; several are portions of the one table that is named, and must be of one state
    /// of its data.
    async fn run(
        self: Arc<Self>,
        statements: Vec<StatementText>,
        table: Arc<str>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Result<Arc<dyn Portions>>;
    /// Refuses when several connections cannot see one state of what a query reads.
    fn shares_snapshots(&self) -> Result<()> {
        Ok(())
    }
    /// Which functions native queries may call.
    fn native_functions(&self) -> Functions {
        Functions::Plain
    }
    /// The whole numbers in the only row of a query.
    async fn whole_numbers(&self, query: &str) -> Result<Vec<Option<i64>>>;
    /// Whether its definition lets tables be written.
    fn writable(&self) -> bool;
    /// Runs a statement that changes rows, in a transaction of its own, which is left open.
    async fn change(self: Arc<Self>, change: &ChangeStatement, cancel: &CancellationToken)
    -> Result<Box<dyn Prepared>>;
}

/// A table with what is needed to write SQL for it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RemoteTable {
    /// Its full name, quoted.
    pub name: String,
    /// The database or schema that it is in there; empty for a query.
    pub schema: String,
    pub columns: Vec<RemoteColumn>,
    /// Conditions on the table as `t1`, exactly one of them true for each row: each selects a portion.
    pub division: Vec<String>,
    /// The names of the columns that tell its rows apart, or why they cannot be changed.
    pub identity: Result<Vec<String>, String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RemoteColumn {
    pub name: String,
    /// What is written for the column, with `{}` for its name: this makes its values the engine's.
    pub written: String,
    /// That only checks the values, which reading them does too.
    pub checks: bool,
    /// What is written for a text that the column is set to, where one of another type is not converted by itself.
    pub taken: Option<String>,
}

impl RemoteColumn {
    /// What stands for the column, which is this in its table.
    fn sql(&self, own: Sql) -> Sql {
        let mut out = Sql::default();
        for (place, text) in self.written.split("{}").enumerate() {
            if place > 0 {
                out.push(&own);
            }
            out.text(text);
        }
        let out = out.using(BTreeSet::from([self.name.clone()]));
        if self.checks { out.in_lists(own) } else { out }
    }
}

/// A table of a database as the planner's source.
#[derive(Debug)]
pub struct DatabaseSource {
    database: Arc<dyn Database>,
    facts: Facts,
}

impl DatabaseSource {
    pub fn new(database: Arc<dyn Database>, table: RemoteTable) -> DatabaseSource {
        DatabaseSource { database, facts: Facts { table, is_target: false } }
    }
}

/// What the source of another table of the database must know of this one.
#[derive(Debug, Serialize, Deserialize)]
struct Facts {
    table: RemoteTable,
    /// It is the one whose rows are changed.
    is_target: bool,
}

impl Facts {
    fn begin(&self, database: &Arc<dyn Database>, scan: &Scan) -> DatabaseDraft {
        let mut draft = DatabaseDraft::new(database.clone(), &self.table, scan);
        if self.is_target {
            draft.select.target = Some(Arc::new(self.table.clone()));
        }
        draft
    }
}

#[async_trait]
impl Source for DatabaseSource {
    fn changeable(&self, _: &Table) -> Result<Changeable> {
        write::allowed(self.database.connection(), self.database.writable())?;
        let identity = self.facts.table.identity.as_ref().map_err(|why| {
            let (connection, table) = (self.database.connection(), &self.facts.table.name);
            let what = format!("connection {connection}: rows of {table} cannot be changed: {why}");
            Error::new(Code::Unsupported, what)
        })?;
        let mut table = self.facts.table.clone();
        let mut columns = Vec::new();
        for (place, name) in identity.iter().enumerate() {
            // Of whatever type it is there: it goes nowhere else, and nothing is known of it but that it is no text.
            columns.push(TableColumn {
                name: format!("\u{1}row {}", place + 1),
                sql_type: SqlType::Bytea,
                nullable: false,
                partition: false,
                comment: None,
            });
            table.columns.push(RemoteColumn { name: name.clone(), written: "{}".into(), checks: false, taken: None });
        }
        let facts = Facts { table, is_target: true };
        let source = Arc::new(DatabaseSource { database: self.database.clone(), facts });
        Ok(Changeable { identity: columns, source, by: ChangedBy::Source })
    }

    fn added(&self, _: &Table, columns: &[Column]) -> Result<String> {
        returned::list(self.database.dialect(), &self.facts.table, "", columns)
    }

    fn reads_together(&self) -> bool {
        true
    }

    fn facts(&self) -> Result<Vec<u8>> {
        Ok(to_bytes(&self.facts)?.0)
    }

    async fn answer(&self, fragment: &Fragment, sources: &Sources) -> Result<Answer> {
        let alone = fragment.pieces.iter().filter(|piece| piece.scan().is_some()).count() == 1;
        answer(fragment, |scan| {
            if alone {
                return Ok(self.facts.begin(&self.database, scan));
            }
            let facts: Facts = from_bytes(&sources.of(&scan.table)?.facts()?)?;
            Ok(facts.begin(&self.database, scan))
        })
        .await
    }

    async fn takes_keys(&self, spec: &ScanSpec, _: usize, column: &Column, keys: f64) -> Result<Verdict> {
        scan::takes_keys(self.database.dialect(), spec, column, keys)
    }
}
