//! Connector for MariaDB: names and types from the information schema, statements with bound values, rows streamed.

mod change;
mod describe;
mod dialect;
mod errors;
mod functions;
mod moments;
mod numbers;
mod pooled;
mod scan;
mod snapshot;
mod write;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::logical::TableKind;
use cobble_plan::offer::DescribedTable;
use cobble_plan::scan::{GateScan, Portions, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, Prepared, RowChange, SourceChange, TableWriter};
use cobble_types::{Code, Error, Result};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Opts, OptsBuilder, Pool, PoolConstraints, PoolOpts, SslOpts};
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;

pub use self::dialect::MariaDialect;
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, setting, tls_settings};
use cobble_connect::{Connector, ListedColumns, TableChange, TableEntry, TestStep};
use cobble_connect::{NativeQuery, TableDefinition};
use cobble_connect_sql::{ChangeStatement, Database, Dialect, Functions, StatementText, native};
use cobble_network::Tls;
use cobble_network::patience::{Patience, pool_limit};
use cobble_network::test_steps;
use pooled::Pooled;

pub const KIND: Kind = Kind {
    kind: "mariadb",
    about: "a MariaDB server",
    metadata_life: 20,
    connect: |definition| Ok(MariaConnector::new(definition)?),
    settings: &[
        SettingDescription { required: true, ..setting("address", "Host and port", "such as 127.0.0.1:3306", None) },
        SettingDescription { required: true, ..setting("user", "User", "a user that may read the tables", None) },
        SettingDescription {
            secret: true,
            ..setting("secret", "Password", "sealed when stored; never shown again", None)
        },
        setting("database", "Database", "only this one; all that the user may see without it", None),
        setting("region", "Region", "where the server is, for the cost of moving data", None),
        setting("connect_limit", "Seconds to connect", "how long to wait for the server", Some("5")),
        setting("statement_limit", "Seconds for a statement", "how long one statement may run there", Some("300")),
        setting("pool_size", "Connections", "most connections open at one time", Some("8")),
        tls_settings::TLS,
        tls_settings::CA_FILE,
        tls_settings::UNVERIFIED,
        setting(
            "lock_for_ranges",
            "Ranges under a lock",
            "true reads large tables in ranges at one time; a read lock is taken for a moment, so that all see one state",
            Some("false"),
        ),
        cobble_connect_sql::write::WRITABLE,
        native::NATIVE_FUNCTIONS,
    ],
};

/// Databases that are the server's own.
const OWN: &str = "'information_schema', 'mysql', 'performance_schema', 'sys'";

#[derive(Debug)]
pub struct MariaConnector {
    server: Arc<Server>,
}

/// One server with its pool of connections.
pub struct Server {
    connection: String,
    region: Option<String>,
    host: String,
    port: u16,
    database: Option<String>,
    user: String,
    options: Opts,
    pool: Pool,
    /// For each connection that there may be at one time.
    places: Arc<Semaphore>,
    pool_limit: Duration,
    tls: Tls,
    connect_limit: Duration,
    patience: Patience,
    writable: bool,
    native_functions: Functions,
    lock_for_ranges: bool,
    /// A table was written: what is remembered of the names is out of date.
    has_changed: AtomicBool,
}

impl std::fmt::Debug for Server {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Server({}:{})", self.host, self.port)
    }
}

impl MariaConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let name = &definition.name;
        let bad =
            |what: String, hint: &str| Error::new(Code::BadSetting, format!("connection {name}: {what}")).hint(hint);
        let (host, port) = definition.host_and_port(3306)?;
        let tls = tls_settings::tls_of(definition)?;
        let ssl = tls.on.then(|| match tls.authorities.clone() {
            None if tls.unverified => {
                SslOpts::default().with_danger_accept_invalid_certs(true).with_danger_skip_domain_validation(true)
            }
            None => SslOpts::default(),
            Some(text) => SslOpts::default().with_root_certs(vec![text.into()]).with_disable_built_in_roots(true),
        });
        let connect_limit = Duration::from_secs(definition.seconds("connect_limit", 5)?);
        let statement_limit = definition.seconds("statement_limit", 300)?;
        let size = definition.option("pool_size").unwrap_or("8");
        let constraints = size.parse().ok().and_then(|n| PoolConstraints::new(0, n)).filter(|c| c.max() > 0);
        let constraints = constraints
            .ok_or_else(|| bad(format!("pool_size cannot be \"{size}\""), "give a number greater than zero"))?;
        let user = definition.user.clone().unwrap_or_default();
        let options = OptsBuilder::default()
            .ip_or_hostname(&host)
            .ssl_opts(ssl)
            .tcp_port(port)
            .user(Some(&user))
            .pass(definition.secret.as_ref().map(|secret| secret.reveal()))
            .prefer_socket(false)
            // Rows that an UPDATE sets to what they are count too.
            .client_found_rows(true)
            .pool_opts(PoolOpts::default().with_constraints(constraints))
            .setup(vec![
                format!("SET NAMES utf8mb4 {}", dialect::BYTES),
                "SET SESSION time_zone = '+00:00'".to_owned(),
                "SET SESSION sql_mode = 'NO_UNSIGNED_SUBTRACTION,ERROR_FOR_DIVISION_BY_ZERO,STRICT_ALL_TABLES'"
                    .to_owned(),
                "SET SESSION TRANSACTION READ ONLY".to_owned(),
                format!("/*M! SET SESSION max_statement_time = {statement_limit} */"),
            ]);
        let server = Server {
            connection: name.clone(),
            region: definition.region.clone(),
            host,
            port,
            tls,
            database: definition.database.clone(),
            user,
            places: Arc::new(Semaphore::new(constraints.max())),
            pool: Pool::new(options.clone()),
            options: options.into(),
            pool_limit: pool_limit(statement_limit),
            connect_limit,
            patience: Patience::new(name, statement_limit),
            writable: definition.flag("writable")?,
            native_functions: native::functions_of(definition)?,
            lock_for_ranges: definition.flag("lock_for_ranges")?,
            has_changed: AtomicBool::new(false),
        };
        Ok(Arc::new(MariaConnector { server: Arc::new(server) }))
    }
}

impl Server {
    /// A connection of the pool, opened when none is free.
    async fn client(&self) -> Result<Pooled> {
        Pooled::open(self).await
    }

    /// Ends the statement that a connection of this number is working on. It is said over a connection beside the pool, which may be
    /// waiting for just that one.
    async fn end_statement(&self, number: u32) {
        let told = async {
            let mut other = Conn::new(self.options.clone()).await?;
            other.query_drop(format!("KILL QUERY {number}")).await?;
            other.disconnect().await
        };
        // A server that does not answer notices the closed connection, when it comes to itself.
        let _ = tokio::time::timeout(self.connect_limit, told).await;
    }

    async fn schemas(&self) -> Result<Vec<String>> {
        let sql = format!(
            "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT IN ({OWN}) \
             AND (? IS NULL OR SCHEMA_NAME = ?) ORDER BY SCHEMA_NAME COLLATE utf8mb3_bin"
        );
        let mut client = self.client().await?;
        let found: Vec<String> =
            client.exec(sql, (&self.database, &self.database)).await.map_err(|e| errors::error(self, &e))?;
        match (&self.database, found.is_empty()) {
            (Some(database), true) => Err(errors::about(
                self,
                Code::SourceRefused,
                format!("unknown database {database}, or no right to see it"),
            )
            .hint("correct the connection's database, or give the user the right to read it")),
            _ => Ok(found),
        }
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let sql = format!(
            "SELECT TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? \
             AND TABLE_SCHEMA NOT IN ({OWN}) AND TABLE_NAME NOT LIKE '\\_unfinished\\_%' ORDER BY TABLE_NAME COLLATE utf8mb3_bin"
        );
        let mut client = self.client().await?;
        let found: Vec<(String, String)> = client.exec(sql, (schema,)).await.map_err(|e| errors::error(self, &e))?;
        let kind = |form: &str| if form == "VIEW" { TableKind::View } else { TableKind::Table };
        Ok(found.into_iter().map(|(name, form)| TableEntry { name, kind: kind(&form) }).collect())
    }

    fn sees(&self, schema: &str) -> bool {
        self.database.as_ref().is_none_or(|database| database == schema)
    }
}

#[async_trait]
impl Connector for MariaConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        self.server.patience.wait(self.server.schemas()).await
    }

    async fn sweep(&self) -> Result<usize> {
        write::sweep(&self.server).await
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        if !self.server.sees(schema) {
            return Ok(vec![]);
        }
        self.server.patience.wait(self.server.tables(schema)).await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if !self.server.sees(schema) {
            return Ok(None);
        }
        self.server.patience.wait(describe::table(&self.server, catalog, schema, table)).await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        if !self.server.sees(schema) {
            return Ok(Some(vec![]));
        }
        self.server.patience.wait(describe::columns(&self.server, schema)).await.map(Some)
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        native::check_definition(self.server.as_ref(), definition)
    }

    async fn native(&self, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
        self.server.patience.wait(describe::native(&self.server, catalog, query)).await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        cobble_connect_sql::scan(spec, |_| self.server.clone())
    }

    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        cobble_connect_sql::change(spec, change, |_| self.server.clone())
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        Ok(Box::new(write::RowWriter::new(&self.server, rows).await?))
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        write::change_table(&self.server, schema, table, change).await
    }

    fn has_changed(&self) -> bool {
        self.server.has_changed.swap(false, Ordering::Relaxed)
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let server = &self.server;
        let place = (server.host.as_str(), server.port);
        if !test_steps::reach(&server.connection, place, server.connect_limit, report).await {
            return;
        }
        let mut step = test_steps::reporter(report);
        let started = Instant::now();
        let client = server.client().await;
        let setting = client.as_ref().err().map_or("secret", errors::setting_at_fault);
        if !step(
            "sign in",
            started,
            client.map(|_| format!("as {}{}", server.user, test_steps::encrypted(&server.tls))),
            setting,
        ) {
            return;
        }
        let started = Instant::now();
        let mut tables = Vec::new();
        let listed = async {
            let schemas = server.schemas().await?;
            for schema in &schemas {
                tables.extend(server.tables(schema).await?.into_iter().map(|entry| (schema.clone(), entry.name)));
            }
            let counted = test_steps::counted;
            Ok(format!("{} in {}", counted(tables.len(), "table"), counted(schemas.len(), "database")))
        }
        .await;
        if !step("list", started, listed, "user") {
            return;
        }
        let Some((schema, table)) = tables.first() else { return };
        let started = Instant::now();
        let read = async {
            let name = format!("{}.{}", MariaDialect.quoted(schema), MariaDialect.quoted(table));
            let rows: Vec<u8> = server
                .client()
                .await?
                .query(format!("SELECT 1 FROM {name} LIMIT 1"))
                .await
                .map_err(|e| errors::error(server, &e))?;
            Ok(format!("{} row of {schema}.{table}", rows.len()))
        }
        .await;
        step("read", started, read, "user");
    }
}

#[async_trait]
impl Database for Server {
    fn connection(&self) -> &str {
        &self.connection
    }

    fn region(&self) -> Option<&str> {
        self.region.as_deref()
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &MariaDialect
    }

    async fn run(
        self: Arc<Self>,
        statements: Vec<StatementText>,
        table: Arc<str>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Result<Arc<dyn Portions>> {
        Ok(Arc::new(scan::Statements::new(self, statements, table, columns, schema, tools)))
    }

    fn shares_snapshots(&self) -> Result<()> {
        Err(errors::about(self, Code::Unsupported, "several readers cannot see one state of what a query reads there")
            .hint("leave out split_on and split_into; large tables are read in ranges with lock_for_ranges = true"))
    }

    async fn whole_numbers(&self, query: &str) -> Result<Vec<Option<i64>>> {
        let mut client = self.client().await?;
        let row: Option<mysql_async::Row> = client.query_first(query).await.map_err(|e| errors::error(self, &e))?;
        let row = row.ok_or_else(|| Error::internal("a query of numbers without a row"))?;
        let number = |value| mysql_async::from_value_opt::<Option<i64>>(value);
        row.unwrap().into_iter().map(|v| number(v).map_err(|e| Error::internal(e.to_string()))).collect()
    }

    fn native_functions(&self) -> Functions {
        self.native_functions
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
