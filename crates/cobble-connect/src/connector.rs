//! The connector trait: list names, describe tables, test the connection. The `Source` of a described table answers offers.

use std::fmt;
use std::sync::Arc;

use async_trait::async_trait;
use cobble_network::TestStep;
use cobble_plan::alter::Alteration;
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::{GateScan, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, RowChange, SourceChange, TableWriter};
use cobble_storage::{Pointers, Storage};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};

use crate::catalog_call::{CatalogAnswer, CatalogCall};
use crate::table_definition::{Discovery, Forms, Looking, NativeQuery, TableDefinition};

/// One table in a listing.
#[derive(Debug, Clone)]
pub struct TableEntry {
    pub name: String,
    pub kind: TableKind,
}

/// A table of a schema with its columns.
#[derive(Debug, Clone, PartialEq)]
pub struct ListedColumns {
    pub table: String,
    pub columns: Vec<TableColumn>,
}

/// Which state of a table is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TableVersion {
    /// The last one up to a moment, in microseconds since 1970-01-01 UTC.
    Time(i64),
    Number(i64),
    /// That which a branch or a tag names.
    Name(String),
}

/// A view that its source keeps as a text for whoever reads it.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceView {
    pub query: String,
    /// The language of the query, where it is none of ours.
    pub dialect: Option<String>,
    /// The names of all columns.
    pub columns: Vec<String>,
    /// Where names are looked up that are not written out; without a catalog in that of the view.
    pub catalog: Option<String>,
    pub schema: Option<String>,
}

/// A query to be kept as a view.
#[derive(Debug, Clone, PartialEq)]
pub struct NewSourceView {
    pub query: String,
    pub columns: Vec<(String, SqlType)>,
    pub catalog: Option<String>,
    pub schema: Option<String>,
}

#[derive(Debug, Clone, PartialEq)]
pub enum ViewChange {
    Put { view: NewSourceView, replace: bool },
    Drop,
    Rename { schema: String, name: String },
}

/// What is done to a whole table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TableChange {
    Drop,
    /// All its rows go.
    Truncate,
}

/// What a connector may stand over.
#[derive(Debug, Clone, Default)]
pub struct Base {
    /// Of the connection that holds its files.
    pub storage: Option<Arc<dyn Storage>>,
    /// Where the last states of its tables are kept.
    pub pointers: Option<Arc<dyn Pointers>>,
}

#[async_trait]
pub trait Connector: Send + Sync + fmt::Debug {
    async fn schemas(&self) -> Result<Vec<String>>;
    /// Tables and views of a schema, in order of their names; an unknown schema has none.
    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>>;
    /// The table under the catalog's name, or `None` when there is none of this name.
    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>>;
    /// The table as it was, where its source keeps earlier states.
    async fn table_at(&self, name: &ObjectName, version: &TableVersion) -> Result<Option<DescribedTable>> {
        let _ = version;
        Err(Error::new(Code::Unsupported, format!("the source of {name} keeps no earlier states of its tables"))
            .hint("FOR SYSTEM_TIME and FOR VERSION are for tables of a lake"))
    }
    /// How a table is put together. `definition` is that of a table that its catalog defines; of row groups it is told which a condition leaves.
    async fn facts(
        &self,
        name: &ObjectName,
        definition: Option<&TableDefinition>,
        wanted: Facts,
        filtered: Option<&Filtered>,
    ) -> Result<Option<FactRows>> {
        let _ = (definition, filtered);
        let what = match wanted {
            Facts::RowGroups => "has no files with row groups",
            _ => "is no table of a lake",
        };
        Err(Error::new(Code::Unsupported, format!("{name} {what}")))
    }
    /// The columns of all tables of a schema, as each table is described, in order of their names; none where the source tells them only
    /// table by table.
    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        let _ = schema;
        Ok(None)
    }
    /// A query in the source's own language as a table. It must be a single statement that only reads.
    async fn native(&self, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
        let _ = query;
        Err(Error::new(Code::Unsupported, format!("{catalog} has no language of its own for native_query()"))
            .hint("only databases have one; query the catalog's tables instead"))
    }
    /// Whether such a table can be defined here; nothing is contacted.
    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        let _ = definition;
        Err(Error::new(Code::Unsupported, "this kind of source takes no tables that a catalog defines")
            .hint("databases take stored queries, and files take paths"))
    }
    /// A table that its catalog defines.
    async fn defined(&self, name: &ObjectName, definition: &TableDefinition) -> Result<DescribedTable> {
        let Some(query) = &definition.query else {
            return Err(Error::new(
                Code::Unsupported,
                format!("{name} is defined by a path, and its source has no files"),
            )
            .hint("give the table a query in the source's own language"));
        };
        let query = NativeQuery::new(query, definition.split_on.as_deref(), definition.split_into)?;
        let found = self
            .native(&name.catalog, &query)
            .await
            .map_err(|e| Error { message: format!("{name}: {}", e.message), ..e })?;
        let table = Table { name: name.clone(), ..found.table.as_ref().clone() };
        Ok(DescribedTable { table: Arc::new(table), ..found })
    }
    /// Makes a scan of what an offer of this kind has come to, here or in another process. Nothing is contacted yet.
    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>>;
    /// Looks into all files below a path and sorts them into tables. `forms` is what is known of how texts are written.
    async fn discover(&self, path: &str, forms: &Forms, looking: &Arc<Looking>) -> Result<Discovery> {
        let _ = (path, forms, looking);
        Err(Error::new(
            Code::Unsupported,
            "tables are discovered in files, and this source has names of its own for them",
        )
        .hint("its tables are in the catalog already; refresh it to see new ones"))
    }
    /// The scan as a statement that changes the rows it finds.
    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        let _ = change;
        Err(Error::internal(format!("a change of rows of {}, whose source changes none", spec.table)))
    }
    /// The storage that its files are in, for a connection that holds files.
    fn storage(&self) -> Option<Arc<dyn Storage>> {
        None
    }
    /// Answers a call of the open protocol for catalogs of lake tables.
    async fn serve(&self, call: CatalogCall) -> Result<CatalogAnswer> {
        let _ = call;
        Err(Error::new(Code::Unsupported, "the catalog is not one of lake tables")
            .hint("the protocol serves catalogs whose connections are of the kinds lake, lake_service and lake_rest"))
    }
    /// The same connector over what it needs besides its own connection, for one that does.
    fn over(&self, base: &Base) -> Option<Arc<dyn Connector>> {
        let _ = base;
        None
    }
    /// A view that is read by binding its query; those that the source reads by itself are tables.
    async fn view(&self, schema: &str, name: &str) -> Result<Option<SourceView>> {
        let _ = (schema, name);
        Ok(None)
    }
    /// Makes, replaces, renames or drops such a view.
    async fn change_view(&self, schema: &str, name: &str, change: ViewChange) -> Result<()> {
        let _ = (schema, change);
        Err(Error::new(Code::Unsupported, format!("the connection of {name} keeps no views"))
            .hint("lakes do; CREATE VIEW with a name alone makes a view of the service's own"))
    }
    /// Gets ready to keep rows.
    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        Err(Error::new(Code::Unsupported, format!("the connection of {} only reads", rows.table))
            .hint("tables are written into folders and databases, by connections with writable = true"))
    }
    /// Drops a table, or empties it.
    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let _ = (schema, change);
        Err(Error::new(Code::Unsupported, format!("the connection of {table} only reads"))
            .hint("tables are changed in folders and databases, by connections with writable = true"))
    }
    /// Changes what a table is; its rows stay. All of it is done or nothing.
    async fn alter_table(&self, schema: &str, table: &str, changes: Vec<Alteration>) -> Result<()> {
        let _ = (schema, changes);
        Err(Error::new(Code::Unsupported, format!("the connection of {table} takes no ALTER TABLE"))
            .hint("tables of a lake are altered; others by the tools of their source"))
    }
    /// Does what CALL says with a table, and tells what was done.
    async fn call(&self, schema: &str, table: &str, call: ProcedureCall, tools: ScanTools) -> Result<FactRows> {
        let _ = (schema, tools);
        let what = format!("{} is for tables of a lake, and {table} is none", call.procedure.name());
        Err(Error::new(Code::Unsupported, what).hint("a lake is a connection of kind lake"))
    }
    /// Removes what writers have left here that were stopped in the middle, before anybody else writes. Says how much that was.
    async fn sweep(&self) -> Result<usize> {
        Ok(0)
    }
    /// True once, after a query found that the cached metadata is out of date.
    fn has_changed(&self) -> bool {
        false
    }
    /// Forgets what it has cached of the source.
    fn refresh(&self);
    /// Tries the way to the source step by step and reports each as soon as it is known.
    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send));
}
