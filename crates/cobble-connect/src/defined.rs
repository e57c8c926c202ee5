//! Stands before the connector of a catalog that defines tables of its own.

use std::collections::BTreeMap;
use std::sync::Arc;

use async_trait::async_trait;
use cobble_plan::alter::Alteration;
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::logical::TableKind;
use cobble_plan::offer::DescribedTable;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::{GateScan, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, RowChange, SourceChange, TableWriter};
use cobble_types::{Code, Error, ObjectName, Result};

use crate::catalog_call::{CatalogAnswer, CatalogCall};
use crate::connector::{Connector, ListedColumns, SourceView, TableChange, TableEntry, TableVersion, ViewChange};
use crate::table_definition::{Discovery, Forms, Looking, NativeQuery, TableDefinition};
use cobble_network::TestStep;

#[derive(Debug)]
pub struct Defined {
    inner: Arc<dyn Connector>,
    /// By schema and name, each with the connector that has its settings.
    tables: BTreeMap<(String, String), (TableDefinition, Arc<dyn Connector>)>,
}

impl Defined {
    pub fn new(
        inner: Arc<dyn Connector>,
        tables: BTreeMap<(String, String), (TableDefinition, Arc<dyn Connector>)>,
    ) -> Self {
        Defined { inner, tables }
    }

    /// Below its own name there may be something else than what the definition means.
    fn writable(&self, schema: &str, table: &str) -> Result<()> {
        if !self.replaces_what_is_found() && !self.tables.contains_key(&(schema.to_owned(), table.to_owned())) {
            return Ok(());
        }
        let what = format!("{schema}.{table} is among tables that the catalog defines, which are only read");
        Err(Error::new(Code::Unsupported, what)
            .hint("write through another catalog of the same connection that defines no tables"))
    }

    /// Where files have been sorted into tables, folders are no tables by themselves any more.
    fn replaces_what_is_found(&self) -> bool {
        self.tables.values().any(|(definition, _)| definition.path.is_some())
    }
}

#[async_trait]
impl Connector for Defined {
    async fn schemas(&self) -> Result<Vec<String>> {
        let mut all = if self.replaces_what_is_found() { vec![] } else { self.inner.schemas().await? };
        all.extend(self.tables.keys().map(|(schema, _)| schema.clone()));
        all.sort();
        all.dedup();
        Ok(all)
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let mut all = if self.replaces_what_is_found() { vec![] } else { self.inner.tables(schema).await? };
        for ((_, name), (definition, _)) in self.tables.iter().filter(|((own, _), _)| own == schema) {
            let kind = if definition.query.is_some() { TableKind::View } else { TableKind::Table };
            all.retain(|found| found.name != *name);
            all.push(TableEntry { name: name.clone(), kind });
        }
        all.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(all)
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if let Some((definition, connector)) = self.tables.get(&(schema.to_owned(), table.to_owned())) {
            return connector.defined(&ObjectName::new(catalog, schema, table), definition).await.map(Some);
        }
        if self.replaces_what_is_found() {
            return Ok(None);
        }
        self.inner.table(catalog, schema, table).await
    }

    async fn table_at(&self, name: &ObjectName, version: &TableVersion) -> Result<Option<DescribedTable>> {
        match self.tables.get(&(name.schema.clone(), name.table.clone())) {
            Some((_, connector)) => connector.table_at(name, version).await,
            None if self.replaces_what_is_found() => Ok(None),
            None => self.inner.table_at(name, version).await,
        }
    }

    async fn facts(
        &self,
        name: &ObjectName,
        definition: Option<&TableDefinition>,
        wanted: Facts,
        filtered: Option<&Filtered>,
    ) -> Result<Option<FactRows>> {
        match self.tables.get(&(name.schema.clone(), name.table.clone())) {
            Some((own, connector)) if definition.is_none() => connector.facts(name, Some(own), wanted, filtered).await,
            None if definition.is_none() && self.replaces_what_is_found() => Ok(None),
            _ => self.inner.facts(name, definition, wanted, filtered).await,
        }
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        self.inner.check_definition(definition)
    }

    async fn defined(&self, name: &ObjectName, definition: &TableDefinition) -> Result<DescribedTable> {
        self.inner.defined(name, definition).await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        // Columns of defined tables are described one table at a time.
        match self.tables.keys().any(|(own, _)| own == schema) || self.replaces_what_is_found() {
            true => Ok(None),
            false => self.inner.columns(schema).await,
        }
    }

    async fn native(&self, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
        self.inner.native(catalog, query).await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        match self.tables.get(&(spec.table.schema.clone(), spec.table.table.clone())) {
            Some((_, connector)) => connector.scan(spec),
            None => self.inner.scan(spec),
        }
    }

    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        self.inner.change(spec, change)
    }

    async fn discover(&self, path: &str, forms: &Forms, looking: &Arc<Looking>) -> Result<Discovery> {
        self.inner.discover(path, forms, looking).await
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        self.writable(&rows.schema, &rows.table)?;
        self.inner.writer(rows).await
    }

    async fn alter_table(&self, schema: &str, table: &str, changes: Vec<Alteration>) -> Result<()> {
        self.writable(schema, table)?;
        self.inner.alter_table(schema, table, changes).await
    }

    async fn call(&self, schema: &str, table: &str, call: ProcedureCall, tools: ScanTools) -> Result<FactRows> {
        self.writable(schema, table)?;
        self.inner.call(schema, table, call, tools).await
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        self.writable(schema, table)?;
        self.inner.change_table(schema, table, change).await
    }

    async fn view(&self, schema: &str, name: &str) -> Result<Option<SourceView>> {
        match self.replaces_what_is_found() {
            true => Ok(None),
            false => self.inner.view(schema, name).await,
        }
    }

    async fn change_view(&self, schema: &str, name: &str, change: ViewChange) -> Result<()> {
        self.writable(schema, name)?;
        self.inner.change_view(schema, name, change).await
    }

    async fn serve(&self, call: CatalogCall) -> Result<CatalogAnswer> {
        self.inner.serve(call).await
    }

    async fn sweep(&self) -> Result<usize> {
        self.inner.sweep().await
    }

    fn refresh(&self) {
        self.inner.refresh();
        self.tables.values().for_each(|(_, connector)| connector.refresh());
    }

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        self.inner.test(report).await;
    }
}
