//! Connector for a SQLite file: read only, statements with bound values, each on a connection of its own.

mod change;
mod describe;
mod dialect;
mod errors;
mod functions;
mod guard;
mod scan;
mod snapshot;
mod write;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::offer::DescribedTable;
use cobble_plan::scan::{GateScan, Portions, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, Prepared, RowChange, SourceChange, TableWriter};
use cobble_types::{Code, Error, Result};
use rusqlite::{Connection, OpenFlags};
use tokio_util::sync::CancellationToken;

pub use self::dialect::SqliteDialect;
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription};
use cobble_connect::{Connector, ListedColumns, TableChange, TableEntry, TestStep};
use cobble_connect::{NativeQuery, TableDefinition};
use cobble_connect_sql::{ChangeStatement, Database, Dialect, StatementText, native};
use cobble_network::{roots, test_steps};

pub const KIND: Kind = Kind {
    kind: "sqlite",
    about: "a SQLite file",
    metadata_life: 0,
    connect: |definition| Ok(SqliteConnector::new(definition)?),
    settings: &[
        SettingDescription {
            name: "address",
            label: "File",
            help: "path of the database file, as the service sees it",
            required: true,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "region",
            label: "Region",
            help: "where the file is, for the cost of moving data",
            required: false,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "busy_limit",
            label: "Seconds to wait",
            help: "how long to wait while another program has locked the file",
            required: false,
            secret: false,
            default: Some("5"),
        },
        cobble_connect_sql::write::WRITABLE,
    ],
};

/// The only schema that a file has.
const SCHEMA: &str = "main";

static UTF8: SqliteDialect = SqliteDialect { utf8: true };
static OTHER: SqliteDialect = SqliteDialect { utf8: false };

#[derive(Debug)]
pub struct SqliteConnector {
    definition: Arc<File>,
}

/// The database file.
#[derive(Debug, Clone)]
pub struct File {
    connection: String,
    region: Option<String>,
    path: PathBuf,
    busy_limit: Duration,
    dialect: &'static SqliteDialect,
    writable: bool,
}

impl File {
    /// A new connection that cannot write.
    fn open(&self) -> Result<Connection> {
        let connection = self.open_to_read()?;
        if !self.has_journal() {
            return Ok(connection);
        }
        // What a program has left that stopped in the middle of a change must be rolled back before anybody can read, which takes the right to write.
        let failed = |e: rusqlite::Error| errors::error(self, &e);
        // A writer that is at work is not waited for here: it may itself wait for readers of ours.
        connection.busy_timeout(Duration::ZERO).map_err(failed)?;
        let read = connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()));
        if read.is_err_and(|error| errors::is_unfinished(&error)) && self.writable {
            drop(connection);
            drop(self.open_to_write()?);
            return self.open_to_read();
        }
        connection.busy_timeout(self.busy_limit).map_err(failed)?;
        Ok(connection)
    }

    /// Whether somebody is changing the file, or has stopped doing so.
    fn has_journal(&self) -> bool {
        ["-journal", "-wal"].iter().any(|ending| {
            let mut name = self.path.clone().into_os_string();
            name.push(ending);
            std::path::Path::new(&name).exists()
        })
    }

    fn open_to_read(&self) -> Result<Connection> {
        if !self.path.exists() {
            let what = format!("there is no file {}", self.path.display());
            return Err(errors::about(self, Code::SourceUnreachable, what)
                .hint("correct the address; the path is the one on the service's machine"));
        }
        let path = roots::checked(&self.connection, &self.path)?;
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let failed = |e: rusqlite::Error| errors::error(self, &e);
        let connection = Connection::open_with_flags(&path, flags).map_err(failed)?;
        connection.busy_timeout(self.busy_limit).map_err(failed)?;
        guard::install(&connection).and_then(|()| functions::install(&connection)).map_err(failed)?;
        Ok(connection)
    }

    /// A new connection that writes.
    fn open_to_write(&self) -> Result<Connection> {
        let path = roots::checked(&self.connection, &self.path)?;
        let failed = |e: rusqlite::Error| errors::error(self, &e);
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(&path, flags).map_err(failed)?;
        connection.busy_timeout(self.busy_limit).map_err(failed)?;
        guard::install(&connection).and_then(|()| functions::install(&connection)).map_err(failed)?;
        connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
        Ok(connection)
    }

    /// The same file with the dialect of its encoding.
    fn known(&self, connection: &Connection) -> Result<Arc<File>> {
        let encoding: String = connection
            .query_row("SELECT encoding FROM pragma_encoding", [], |row| row.get(0))
            .map_err(|e| errors::error(self, &e))?;
        let dialect = if encoding == UTF8.encoding() { &UTF8 } else { &OTHER };
        Ok(Arc::new(File { dialect, ..self.clone() }))
    }
}

impl SqliteConnector {
    /// The file with the dialect of what was known of it.
    fn file_of(&self, facts: &str) -> Arc<dyn Database> {
        let dialect = if facts == UTF8.encoding() { &UTF8 } else { &OTHER };
        Arc::new(File { dialect, ..self.definition.as_ref().clone() })
    }

    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let address = definition.address.trim();
        let path = address.strip_prefix("file://").or(address.strip_prefix("sqlite://")).unwrap_or(address);
        Ok(Arc::new(SqliteConnector {
            definition: Arc::new(File {
                connection: definition.name.clone(),
                region: definition.region.clone(),
                path: PathBuf::from(path),
                busy_limit: Duration::from_secs(definition.seconds("busy_limit", 5)?),
                dialect: &UTF8,
                writable: definition.flag("writable")?,
            }),
        }))
    }

    /// Does something with a connection on a thread that may wait.
    async fn with<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Arc<File>, &Connection) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let file = self.definition.clone();
        on_a_thread(&self.definition.connection, move || work(&file, &file.open()?)).await
    }
}

/// What waits for the file, on a thread that may wait.
async fn on_a_thread<T: Send + 'static>(
    connection: &str,
    work: impl FnOnce() -> Result<T> + Send + 'static,
) -> Result<T> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|e| Error::internal(format!("a thread of connection {connection} ended: {e}")))?
}

#[async_trait]
impl Connector for SqliteConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        self.with(|file, connection| {
            // Only reading shows whether the file is a database.
            describe::tables(connection).map_err(|e| errors::error(file, &e))?;
            Ok(vec![SCHEMA.to_owned()])
        })
        .await
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        if schema != SCHEMA {
            return Ok(vec![]);
        }
        self.with(|file, connection| describe::tables(connection).map_err(|e| errors::error(file, &e))).await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if schema != SCHEMA {
            return Ok(None);
        }
        let [catalog, schema, table] = [catalog, schema, table].map(str::to_owned);
        self.with(move |file, connection| {
            describe::table(&file.known(connection)?, connection, &catalog, &schema, &table)
        })
        .await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        if schema != SCHEMA {
            return Ok(Some(vec![]));
        }
        let all = self.with(|file, connection| {
            let file = file.known(connection)?;
            let names = describe::tables(connection).map_err(|e| errors::error(&file, &e))?;
            let described = names.into_iter().map(|entry| {
                let found = describe::table(&file, connection, "", SCHEMA, &entry.name)?;
                let columns = found.map(|found| found.table.columns.clone()).unwrap_or_default();
                Ok(ListedColumns { table: entry.name, columns })
            });
            described.collect::<Result<_>>()
        });
        all.await.map(Some)
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        native::check_definition(self.definition.as_ref(), definition)
    }

    async fn native(&self, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
        let text = native::checked(self.definition.as_ref(), &query.text)?;
        let own = text.clone();
        let (file, columns) = self
            .with(move |file, connection| {
                let file = file.known(connection)?;
                let columns = describe::native(&file, connection, &own)?;
                Ok((file, columns))
            })
            .await?;
        native::table(file, catalog, &text, columns, query.split.as_ref()).await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        cobble_connect_sql::scan(spec, |facts| self.file_of(facts))
    }

    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        cobble_connect_sql::change(spec, change, |facts| self.file_of(facts))
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        let file = self.definition.clone();
        let begun = tokio::task::spawn_blocking(move || write::RowWriter::new(&file, rows)).await;
        Ok(Box::new(begun.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))??))
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let (file, schema, table) = (self.definition.clone(), schema.to_owned(), table.to_owned());
        let work = tokio::task::spawn_blocking(move || write::change_table(&file, &schema, &table, change));
        work.await.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))?
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let mut step = test_steps::reporter(report);
        let started = Instant::now();
        let opened = self.with(|file, _| Ok(format!("{} can be opened", file.path.display()))).await;
        if !step("reach", started, opened, "address") {
            return;
        }
        let started = Instant::now();
        let listed = self.tables(SCHEMA).await;
        let count = listed.as_ref().map(|tables| format!("{} tables", tables.len())).map_err(Clone::clone);
        if !step("list", started, count, "address") {
            return;
        }
        let Some(first) = listed.ok().and_then(|tables| tables.into_iter().next()) else { return };
        let started = Instant::now();
        let read = self
            .with(move |file, connection| {
                let sql = format!("SELECT count(*) FROM (SELECT 1 FROM {} LIMIT 1)", file.dialect.quoted(&first.name));
                let rows: i64 =
                    connection.query_row(&sql, [], |row| row.get(0)).map_err(|e| errors::error(file, &e))?;
                Ok(format!("{rows} row of {}", first.name))
            })
            .await;
        step("read", started, read, "address");
    }
}

#[async_trait]
impl Database for File {
    fn connection(&self) -> &str {
        &self.connection
    }

    fn region(&self) -> Option<&str> {
        self.region.as_deref()
    }

    fn dialect(&self) -> &'static dyn Dialect {
        self.dialect
    }

    fn facts(&self) -> &str {
        self.dialect.encoding()
    }

    async fn run(
        self: Arc<Self>,
        statements: Vec<StatementText>,
        _: Arc<str>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Result<Arc<dyn Portions>> {
        Ok(Arc::new(scan::Statements::new(self, statements, columns, schema, tools)))
    }

    async fn whole_numbers(&self, query: &str) -> Result<Vec<Option<i64>>> {
        let (file, query) = (self.clone(), query.to_owned());
        on_a_thread(&self.connection, move || {
            let failed = |e: rusqlite::Error| errors::error(&file, &e);
            let connection = file.open()?;
            let mut statement = connection.prepare(&query).map_err(failed)?;
            let count = statement.column_count();
            statement.query_row([], |row| (0..count).map(|place| row.get(place)).collect()).map_err(failed)
        })
        .await
    }

    fn writable(&self) -> bool {
        self.writable
    }

    async fn change(
        self: Arc<Self>,
        change: &ChangeStatement,
        cancel: &CancellationToken,
    ) -> Result<Box<dyn Prepared>> {
        change::prepare(&self, change, cancel).await
    }
}
