//! What all SQL databases have in common: the offer is a SELECT under construction, written in the database's own dialect, with
//! values bound; what it does not provably share with the engine stays in the engine.

pub mod cells;
mod dialect;
pub mod native;
mod offer;
mod scan;
mod sql;
pub mod write;

use std::fmt;
use std::sync::Arc;

use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::logical::Scan;
use cobble_plan::offer::{Offer, Portions, ScanTools, Source};
use cobble_types::Result;

pub use dialect::{Columns, Dialect, wrap};
pub use offer::DatabaseOffer;
pub use sql::{Parameter, Refusal, Sql};

/// A database that statements can be sent to.
#[async_trait]
pub trait Database: Send + Sync + fmt::Debug {
    fn connection(&self) -> &str;
    fn region(&self) -> Option<&str>;
    fn dialect(&self) -> &'static dyn Dialect;
    /// Gets ready to run a statement with these columns; several are portions of one, and must be of one state of the data.
    async fn run(
        self: Arc<Self>,
        statements: Vec<Sql>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Result<Arc<dyn Portions>>;
}

/// A table with what is needed to write SQL for it.
#[derive(Debug, Clone)]
pub struct RemoteTable {
    /// Its full name, quoted.
    pub name: String,
    pub columns: Vec<RemoteColumn>,
    /// Conditions on the table as `t1`, exactly one of which is true for each row: what they choose can be read apart.
    pub division: Vec<String>,
}

#[derive(Debug, Clone)]
pub struct RemoteColumn {
    pub name: String,
    /// What is written for the column, with `{}` for its name: this makes its values the engine's.
    pub written: String,
    /// That only checks the values, which reading them does too.
    pub checks: bool,
}

/// The tables of one database as the planner's source.
#[derive(Debug)]
pub struct DatabaseSource {
    pub database: Arc<dyn Database>,
    pub table: RemoteTable,
}

impl Source for DatabaseSource {
    fn connection(&self) -> &str {
        self.database.connection()
    }

    fn kind(&self) -> &str {
        self.database.dialect().kind()
    }

    fn region(&self) -> Option<&str> {
        self.database.region()
    }

    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        Box::new(DatabaseOffer::new(self.database.clone(), &self.table, scan))
    }
}
