//! Connector for PostgreSQL: names, types, keys and statistics from its own catalog, work pushed as SQL text with bound
//! parameters, rows streamed in binary form.

mod change;
mod copy;
mod decode;
mod describe;
mod dialect;
mod errors;
mod functions;
mod parameter;
mod pooled;
mod scan;
mod sql;
mod write;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::offer::DescribedTable;
use cobble_plan::scan::{GateScan, Portions, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, Prepared, RowChange, SourceChange, TableWriter};
use cobble_types::{Code, Error, Result};
use deadpool_postgres::{Manager, ManagerConfig, Pool, RecyclingMethod};
use tokio_postgres::config::SslMode;
use tokio_postgres::types::Type;
use tokio_postgres_rustls::MakeRustlsConnect;
use tokio_util::sync::CancellationToken;

pub use self::dialect::PostgresDialect;
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, tls_settings};
use cobble_connect::{Connector, ListedColumns, TableChange, TableEntry, TestStep};
use cobble_connect::{NativeQuery, TableDefinition};
use cobble_connect_sql::{ChangeStatement, Database, Dialect, Functions, StatementText, native};
use cobble_network::Tls;
use cobble_network::patience::{Patience, pool_limit};
use cobble_network::test_steps;
use pooled::Pooled;

pub const KIND: Kind = Kind {
    kind: "postgres",
    about: "a PostgreSQL database",
    metadata_life: 20,
    connect: |definition| Ok(PostgresConnector::new(definition)?),
    settings: &[
        SettingDescription {
            name: "address",
            label: "Host and port",
            help: "such as 127.0.0.1:5432",
            required: true,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "database",
            label: "Database",
            help: "the database on that server",
            required: true,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "user",
            label: "User",
            help: "a user that may read the tables",
            required: true,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "secret",
            label: "Password",
            help: "sealed when stored; never shown again",
            required: false,
            secret: true,
            default: None,
        },
        SettingDescription {
            name: "region",
            label: "Region",
            help: "where the server is, for the cost of moving data",
            required: false,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "connect_limit",
            label: "Seconds to connect",
            help: "how long to wait for the server",
            required: false,
            secret: false,
            default: Some("5"),
        },
        SettingDescription {
            name: "statement_limit",
            label: "Seconds for a statement",
            help: "how long one statement may run there",
            required: false,
            secret: false,
            default: Some("300"),
        },
        SettingDescription {
            name: "pool_size",
            label: "Connections",
            help: "most connections open at one time",
            required: false,
            secret: false,
            default: Some("8"),
        },
        tls_settings::TLS,
        tls_settings::CA_FILE,
        tls_settings::UNVERIFIED,
        cobble_connect_sql::write::WRITABLE,
        native::NATIVE_FUNCTIONS,
    ],
};

pub struct PostgresConnector {
    server: Arc<Server>,
}

impl std::fmt::Debug for PostgresConnector {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "PostgresConnector({})", self.server.connection)
    }
}

/// One server with its pool of connections.
pub struct Server {
    pub connection: String,
    pub region: Option<String>,
    host: String,
    port: u16,
    database: String,
    user: String,
    pool: Pool,
    tls_settings: Tls,
    tls: MakeRustlsConnect,
    connect_limit: Duration,
    patience: Patience,
    writable: bool,
    native_functions: Functions,
    /// A table was written: what is remembered of the names is out of date.
    has_changed: AtomicBool,
}

impl std::fmt::Debug for Server {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Server({}:{}/{})", self.host, self.port, self.database)
    }
}

impl PostgresConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let name = &definition.name;
        let bad =
            |what: String, hint: &str| Error::new(Code::BadSetting, format!("connection {name}: {what}")).hint(hint);
        let (host, port) = definition.host_and_port(5432)?;
        let tls = tls_settings::tls_of(definition)?;
        let connect_limit = Duration::from_secs(definition.seconds("connect_limit", 5)?);
        let statement_limit = definition.seconds("statement_limit", 300)?;
        let pool_size = definition.option("pool_size").unwrap_or("8");
        let pool_size: usize = pool_size
            .parse()
            .ok()
            .filter(|n| (1..=1000).contains(n))
            .ok_or_else(|| bad(format!("pool_size cannot be \"{pool_size}\""), "give a number from 1 to 1000"))?;
        let (database, user) =
            (definition.database.clone().unwrap_or_default(), definition.user.clone().unwrap_or_default());
        let mut config = tokio_postgres::Config::new();
        config
            .host(&host)
            .ssl_mode(if tls.on { SslMode::Require } else { SslMode::Disable })
            .port(port)
            .dbname(&database)
            .user(&user)
            .application_name("cobble lane")
            .connect_timeout(connect_limit)
            .options(format!(
                "-c timezone=UTC -c default_transaction_read_only=on -c statement_timeout={statement_limit}s -c extra_float_digits=3"
            ));
        if let Some(secret) = &definition.secret {
            config.password(secret.reveal());
        }
        let tls_settings = tls;
        let tls = MakeRustlsConnect::new(tls_settings.client()?);
        let manager =
            Manager::from_config(config, tls.clone(), ManagerConfig { recycling_method: RecyclingMethod::Fast });
        let pool = Pool::builder(manager)
            .max_size(pool_size)
            .runtime(deadpool_postgres::Runtime::Tokio1)
            .wait_timeout(Some(pool_limit(statement_limit)))
            .create_timeout(Some(connect_limit))
            .build()
            .map_err(|e| Error::internal(format!("connection {name}: no pool: {e}")))?;
        let server = Server {
            connection: name.clone(),
            region: definition.region.clone(),
            host,
            port,
            tls_settings,
            tls,
            database,
            user,
            pool,
            connect_limit,
            patience: Patience::new(name, statement_limit),
            writable: definition.flag("writable")?,
            native_functions: native::functions_of(definition)?,
            has_changed: AtomicBool::new(false),
        };
        Ok(Arc::new(PostgresConnector { server: Arc::new(server) }))
    }
}

impl Server {
    /// A connection of the pool, opened when none is free.
    pub async fn client(&self) -> Result<Pooled> {
        self.pool.get().await.map(Pooled::new).map_err(|e| errors::pool_error(self, &e))
    }

    async fn schemas(&self) -> Result<Vec<String>> {
        let rows = self
            .client()
            .await?
            .query(
                "SELECT nspname::text FROM pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema' \
                 AND has_schema_privilege(oid, 'USAGE') ORDER BY 1",
                &[],
            )
            .await
            .map_err(|e| errors::statement_error(self, &e))?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let rows = self
            .client()
            .await?
            .query(
                "SELECT c.relname::text, c.relkind::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
                 WHERE n.nspname = $1::text AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition ORDER BY 1",
                &[&schema],
            )
            .await
            .map_err(|e| errors::statement_error(self, &e))?;
        Ok(rows.iter().map(|row| TableEntry { name: row.get(0), kind: describe::table_kind(row.get(1)) }).collect())
    }
}

#[async_trait]
impl Connector for PostgresConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        self.server.patience.wait(self.server.schemas()).await
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        self.server.patience.wait(self.server.tables(schema)).await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        self.server.patience.wait(describe::table(&self.server, catalog, schema, table)).await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
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
        Ok(Box::new(write::CopyWriter::new(&self.server, rows).await?))
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
        let signed_in = client
            .as_ref()
            .map(|_| {
                format!(
                    "as {} to database {}{}",
                    server.user,
                    server.database,
                    test_steps::encrypted(&server.tls_settings)
                )
            })
            .map_err(Clone::clone);
        if !step("sign in", started, signed_in, setting) {
            return;
        }
        drop(client);
        let started = Instant::now();
        let mut tables = Vec::new();
        let listed = async {
            let schemas = server.schemas().await?;
            for schema in &schemas {
                for entry in server.tables(schema).await? {
                    tables.push((schema.clone(), entry.name));
                }
            }
            let counted = test_steps::counted;
            Ok(format!("{} in {}", counted(tables.len(), "table"), counted(schemas.len(), "schema")))
        }
        .await;
        if !step("list", started, listed, "user") {
            return;
        }
        let Some((schema, table)) = tables.first() else { return };
        let started = Instant::now();
        let read = async {
            let name = format!("{}.{}", cobble_types::quote_identifier(schema), cobble_types::quote_identifier(table));
            let client = server.client().await?;
            let rows = client
                .query(&format!("SELECT FROM {name} LIMIT 1"), &[])
                .await
                .map_err(|e| errors::statement_error(server, &e))?;
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
        &PostgresDialect
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
        let failed = |e: tokio_postgres::Error| errors::statement_error(self, &e);
        let client = self.client().await?;
        let row = client.query_one(query, &[]).await.map_err(failed)?;
        let number = |place: usize| match *row.columns()[place].type_() {
            Type::INT2 => row.try_get::<_, Option<i16>>(place).map(|v| v.map(i64::from)),
            Type::INT4 => row.try_get::<_, Option<i32>>(place).map(|v| v.map(i64::from)),
            _ => row.try_get(place),
        };
        (0..row.len()).map(|place| number(place).map_err(failed)).collect()
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
