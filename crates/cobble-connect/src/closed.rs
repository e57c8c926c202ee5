//! A connection that cannot be used as its secret cannot be opened: it keeps its place and its catalogs, and says why.

use std::sync::Arc;
use std::time::Instant;

use async_trait::async_trait;
use cobble_network::TestStep;
use cobble_network::test_steps::reporter;
use cobble_plan::offer::DescribedTable;
use cobble_plan::scan::{GateScan, ScanSpec};
use cobble_types::{Error, Result};

use crate::connector::{Connector, TableEntry};
use crate::table_definition::TableDefinition;

#[derive(Debug)]
pub struct Closed {
    pub why: Error,
}

#[async_trait]
impl Connector for Closed {
    async fn schemas(&self) -> Result<Vec<String>> {
        Err(self.why.clone())
    }

    async fn tables(&self, _: &str) -> Result<Vec<TableEntry>> {
        Err(self.why.clone())
    }

    async fn table(&self, _: &str, _: &str, _: &str) -> Result<Option<DescribedTable>> {
        Err(self.why.clone())
    }

    /// What catalogs define stays as it is.
    fn check_definition(&self, _: &TableDefinition) -> Result<()> {
        Ok(())
    }

    fn scan(&self, _: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        Err(self.why.clone())
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        reporter(report)("open", Instant::now(), Err(self.why.clone()), "secret");
    }
}
