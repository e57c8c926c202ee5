//! Connector for a key-value store, Redis: keys of one pattern are a table, the fields of their hashes or JSON objects its columns.

mod bounded;
mod describe;
mod offer;
mod scan;

use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use cobble_plan::logical::{Origin, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::scan::{GateScan, ScanSpec};
use cobble_types::{Code, Error, ObjectName, Result};
use redis::aio::MultiplexedConnection;
use redis::{AsyncConnectionConfig, ErrorKind, RedisConnectionInfo, RedisError, RedisResult};
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use bounded::Bounded;
use cobble_connect::{ConnectionDefinition, Kind, SettingDescription, setting, tls_settings};
use cobble_connect::{Connector, TableEntry, TestStep};
use cobble_network::test_steps;
use cobble_network::tls::{self, Tls};

pub const KIND: Kind = Kind {
    kind: "redis",
    about: "a Redis key-value store",
    metadata_life: 20,
    connect: |definition| Ok(KeyValueConnector::new(definition)?),
    settings: &[
        SettingDescription { required: true, ..setting("address", "Host and port", "such as 127.0.0.1:6379", None) },
        setting("database", "Database", "the number of the database", Some("0")),
        setting("user", "User", "leave it out where there are no users", None),
        SettingDescription {
            secret: true,
            ..setting("secret", "Password", "sealed when stored; never shown again", None)
        },
        setting(
            "tables",
            "Tables",
            "names with the patterns of their keys, such as berths=berth:*, tides=tide:*; without it every part of the keys before a colon is a table",
            None,
        ),
        setting("region", "Region", "where the server is, for the cost of moving data", None),
        setting("connect_limit", "Seconds to connect", "how long to wait for the server", Some("5")),
        setting("request_limit", "Seconds for a request", "how long the server may take for one request", Some("30")),
        setting("longest_answer", "Longest answer", "MiB that the server may send for one request", Some("64")),
        tls_settings::TLS,
        tls_settings::CA_FILE,
        tls_settings::UNVERIFIED,
    ],
};

/// Bytes that an answer may have unless a connection says otherwise.
const LONGEST_ANSWER: u64 = 64 << 20;
const SCHEMA: &str = "public";
/// Keys looked at to find out tables, and keys of a table to find out its columns.
const SAMPLE: usize = 10_000;
const SAMPLE_OF_TABLE: usize = 1000;

#[derive(Debug)]
pub struct KeyValueConnector {
    store: Arc<Store>,
}

/// One database of a server.
pub struct Store {
    connection: String,
    region: Option<String>,
    host: String,
    port: u16,
    /// Who signs in, and to which database.
    settings: RedisConnectionInfo,
    tls: Tls,
    encrypt: Option<TlsConnector>,
    connect_limit: Duration,
    request_limit: Duration,
    /// Bytes of an answer.
    longest_answer: u64,
    /// Name and pattern of each table, when they are given.
    tables: Option<Vec<(String, String)>>,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Store({}:{})", self.host, self.port)
    }
}

impl KeyValueConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let name = &definition.name;
        let bad =
            |what: String, hint: &str| Error::new(Code::BadSetting, format!("connection {name}: {what}")).hint(hint);
        let (host, port) = definition.host_and_port(6379)?;
        let tls = tls_settings::tls_of(definition)?;
        let database = definition.database.as_deref().unwrap_or("0");
        let number = database
            .trim()
            .parse::<i64>()
            .map_err(|_| bad(format!("database cannot be \"{database}\""), "give its number, such as 0"))?;
        let mut settings = RedisConnectionInfo::default().set_db(number);
        if let Some(user) = &definition.user {
            settings = settings.set_username(user);
        }
        if let Some(secret) = &definition.secret {
            settings = settings.set_password(secret.reveal());
        }
        let encrypt = tls.on.then(|| tls.client().map(|config| TlsConnector::from(Arc::new(config)))).transpose()?;
        let tables = definition.option("tables").map(|list| {
            let one = |part: &str| {
                let (table, pattern) = part.split_once('=').unwrap_or((part.trim_end_matches([':', '*']), part));
                let (table, pattern) = (table.trim().to_lowercase(), pattern.trim().to_owned());
                if table.is_empty() || pattern.is_empty() {
                    return Err(bad(format!("tables has \"{part}\""), "write tables as name=pattern, name=pattern"));
                }
                Ok((table, pattern))
            };
            list.split(',').map(str::trim).filter(|part| !part.is_empty()).map(one).collect::<Result<Vec<_>>>()
        });
        Ok(Arc::new(KeyValueConnector {
            store: Arc::new(Store {
                connection: name.clone(),
                region: definition.region.clone(),
                host,
                port,
                settings,
                tls,
                encrypt,
                connect_limit: Duration::from_secs(definition.seconds("connect_limit", 5)?),
                request_limit: Duration::from_secs(definition.seconds("request_limit", 30)?),
                longest_answer: definition.mebibytes("longest_answer", LONGEST_ANSWER)?,
                tables: tables.transpose()?,
            }),
        }))
    }
}

impl Store {
    /// Where its tables come from.
    fn origin(&self) -> Origin {
        Origin::new(&self.connection, KIND.kind, self.region.as_deref())
    }

    async fn client(&self) -> Result<MultiplexedConnection> {
        let opened = match tokio::time::timeout(self.connect_limit, self.open()).await {
            Ok(opened) => opened,
            Err(_) => Err(std::io::Error::from(std::io::ErrorKind::TimedOut).into()),
        };
        opened.map_err(|e| self.error(&e))
    }

    async fn open(&self) -> RedisResult<MultiplexedConnection> {
        let socket = TcpStream::connect((self.host.as_str(), self.port)).await?;
        socket.set_nodelay(true)?;
        let Some(encrypt) = &self.encrypt else { return self.speaking(socket).await };
        let name = ServerName::try_from(self.host.clone()).map_err(std::io::Error::other)?;
        self.speaking(encrypt.connect(name, socket).await?).await
    }

    /// Signs in over what has been opened.
    async fn speaking(
        &self,
        stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    ) -> RedisResult<MultiplexedConnection> {
        let stream = Bounded::new(stream, self.longest_answer);
        let config = AsyncConnectionConfig::new().set_response_timeout(Some(self.request_limit));
        let (client, driver) = MultiplexedConnection::new_with_config(&self.settings, stream, config).await?;
        // It ends when nobody holds the connection any more.
        tokio::spawn(driver);
        Ok(client)
    }

    /// What the driver reports, with the connection's name, the fault and the way out. Never holds the secret.
    fn error(&self, error: &RedisError) -> Error {
        let about = |code: Code, what: String| Error::new(code, format!("connection {}: {what}", self.connection));
        let place = format!("{}:{}", self.host, self.port);
        if let Some((what, fix)) = tls::fault(error) {
            return about(Code::SourceSignIn, what.into()).hint(fix);
        }
        if bounded::is_too_long(error) {
            let what = format!("an answer has more than {} MiB", self.longest_answer >> 20);
            return about(Code::SourceData, what).hint("raise longest_answer if there are values of that size");
        }
        if error.is_timeout() {
            let what = format!("{place} did not answer in time");
            return about(Code::SourceTimeout, what).hint(match self.tls.on {
                true => "check that the server works and that this port encrypts, or raise request_limit",
                false => "check that the server works, or raise request_limit",
            });
        }
        if error.is_connection_refusal() {
            let what = format!("nothing listens at {place}");
            return about(Code::SourceUnreachable, what)
                .hint("check host and port in the address, and that the server is running");
        }
        // An answer that ends within itself cannot be read.
        let is_cut = error.kind() == ErrorKind::Parse;
        if error.is_io_error() || error.is_connection_dropped() || is_cut {
            let what = match is_cut {
                true => format!("the connection to {place} broke off within an answer"),
                false => format!("the connection to {place} broke off: {error}"),
            };
            return about(Code::SourceUnreachable, what).hint(match self.tls.on {
                true => "run the query again when the server is there",
                false => "run the query again when the server is there; a port that encrypts needs tls = true",
            });
        }
        let said = error.detail().unwrap_or_default();
        match (error.kind(), error.code()) {
            (ErrorKind::AuthenticationFailed, _) | (_, Some("WRONGPASS" | "NOAUTH")) => {
                about(Code::SourceSignIn, "the server refused user or password".into())
                    .hint("correct the connection's user and secret")
            }
            (_, Some("NOPERM")) => about(Code::SourceRefused, format!("reading is not allowed: {said}"))
                .hint("give the user the right to SCAN, TYPE, HGETALL, HMGET and MGET these keys"),
            (_, Some("WRONGTYPE")) => {
                about(Code::SourceData, "a key holds another type of value than the others".into())
                    .hint("keep one type of value per pattern of keys")
            }
            _ => about(Code::SourceRefused, error.to_string()).hint("check the connection's settings"),
        }
    }

    fn setting_at_fault(error: &Error) -> &'static str {
        if let Some(setting) = tls::setting_at_fault(error) {
            return setting;
        }
        match error.code {
            Code::SourceSignIn => "secret",
            Code::SourceRefused => "user",
            Code::SourceTimeout => "request_limit",
            _ => "address",
        }
    }
}

#[async_trait]
impl Connector for KeyValueConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        Ok(vec![SCHEMA.to_owned()])
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        if schema != SCHEMA {
            return Ok(vec![]);
        }
        let tables = describe::tables(&self.store).await?;
        Ok(tables.into_iter().map(|(name, _)| TableEntry { name, kind: TableKind::Table }).collect())
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if schema != SCHEMA {
            return Ok(None);
        }
        let tables = describe::tables(&self.store).await?;
        let Some((_, pattern)) = tables.into_iter().find(|(name, _)| name == table) else { return Ok(None) };
        describe::table(&self.store, ObjectName::new(catalog, schema, table), pattern).await.map(Some)
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        scan::scan(&self.store, spec)
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let store = &self.store;
        let place = (store.host.as_str(), store.port);
        if !test_steps::reach(&store.connection, place, store.connect_limit, report).await {
            return;
        }
        let mut step = test_steps::reporter(report);
        let started = Instant::now();
        let signed_in = async {
            let mut client = store.client().await?;
            let keys: i64 = redis::cmd("DBSIZE").query_async(&mut client).await.map_err(|e| store.error(&e))?;
            Ok(format!("{keys} keys in the database"))
        }
        .await;
        let setting = signed_in.as_ref().err().map_or("", Store::setting_at_fault);
        if !step("sign in", started, signed_in, setting) {
            return;
        }
        let started = Instant::now();
        let listed = describe::tables(store).await;
        let found = listed.as_ref().map(|tables| test_steps::counted(tables.len(), "table")).map_err(Clone::clone);
        let setting = found.as_ref().err().map_or("", Store::setting_at_fault);
        if !step("list", started, found, setting) {
            return;
        }
        for (name, pattern) in listed.unwrap_or_default() {
            let started = Instant::now();
            let table = describe::table(store, ObjectName::new(&store.connection, SCHEMA, &name), pattern).await;
            let read =
                table.map(|found| format!("{name}: {}", test_steps::counted(found.table.columns.len(), "column")));
            if !step("read", started, read, "tables") {
                return;
            }
        }
    }
}
