//! Connector for any program that speaks the connector protocol over Arrow Flight: it lists and describes its tables, says which work
//! it takes over, and streams the rows of portions.

mod offer;
mod scan;

use std::panic::AssertUnwindSafe;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use arrow_flight::flight_service_client::FlightServiceClient;
use arrow_flight::{Action, FlightDescriptor, FlightInfo};
use async_trait::async_trait;
use cobble_plan::draft;
use cobble_plan::expr::Column;
use cobble_plan::fragment::{self, Fragment};
use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::{DescribedTable, Source, Sources, Verdict};
use cobble_plan::scan::{GateScan, ScanSpec};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_serve::{Answer, LIST, Listing, OFFER, TableName};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use hyper_util::rt::TokioIo;
use rustls::pki_types::ServerName;
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tonic::codegen::http::Uri;
use tonic::codegen::http::uri::Authority;
use tonic::transport::{Channel, Endpoint};

use cobble_connect::{ConnectionDefinition, Kind, Secret, SettingDescription, setting, tls_settings};
use cobble_connect::{Connector, TableEntry, TestStep};
use cobble_network::test_steps::{self, counted, reporter};
use cobble_network::threads::{asked, chain, network};
use cobble_network::tls::{self, Tls};

pub const KIND: Kind = Kind {
    kind: "flight",
    about: "a program of yours that serves tables over Arrow Flight",
    metadata_life: 20,
    connect: |definition| Ok(ProgramConnector::new(definition)?),
    settings: &[
        SettingDescription { required: true, ..setting("address", "Host and port", "such as 127.0.0.1:7340", None) },
        SettingDescription {
            secret: true,
            ..setting("secret", "Secret", "sent as a bearer token; sealed when stored, never shown again", None)
        },
        tls_settings::TLS,
        tls_settings::CA_FILE,
        tls_settings::UNVERIFIED,
        setting("region", "Region", "where the program runs, for the cost of moving data", None),
        setting("connect_limit", "Seconds to connect", "how long to wait for the program", Some("5")),
        setting(
            "request_limit",
            "Seconds for an answer",
            "how long one answer, or the next rows, may take",
            Some("30"),
        ),
    ],
};

/// The largest message that is taken: a batch of rows is one.
const MOST_MESSAGE: usize = 256 << 20;

#[derive(Debug)]
pub struct ProgramConnector {
    program: Arc<Program>,
}

/// How to reach one program.
pub struct Program {
    connection: String,
    region: Option<String>,
    host: String,
    port: u16,
    endpoint: Endpoint,
    channel: OnceLock<Channel>,
    tls: Tls,
    encrypt: Option<TlsConnector>,
    secret: Option<Secret>,
    connect_limit: Duration,
    request_limit: Duration,
}

impl std::fmt::Debug for Program {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Program({} at {}:{})", self.connection, self.host, self.port)
    }
}

impl ProgramConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let name = &definition.name;
        let bad = |what: String| {
            Error::new(Code::BadSetting, format!("connection {name}: {what}"))
                .hint("give the address as host:port, such as 127.0.0.1:7340")
        };
        let address = definition.address.trim().trim_end_matches('/');
        let (scheme, place) = address.split_once("://").unwrap_or(("http", address));
        let tls = tls_settings::tls_of(definition)?;
        let encrypts = ["https", "grpc+tls"].contains(&scheme);
        if !encrypts && !["http", "grpc", "grpc+tcp"].contains(&scheme) {
            return Err(bad(format!("{scheme}:// is not how programs are reached")));
        }
        if encrypts != tls.on && address.contains("://") {
            let what = format!("the address begins with {scheme}://, and tls is {}", tls.on);
            return Err(bad(what).hint("leave the scheme out, or say the same in both"));
        }
        let authority: Authority = place.parse().map_err(|_| bad(format!("\"{place}\" is not an address")))?;
        let port = authority.port_u16().ok_or_else(|| bad(format!("\"{place}\" has no port")))?;
        let connect_limit = Duration::from_secs(definition.seconds("connect_limit", 5)?);
        let request_limit = Duration::from_secs(definition.seconds("request_limit", 30)?);
        let endpoint = Endpoint::from_shared(format!("http://{place}"))
            .map_err(|e| bad(format!("\"{place}\" is not an address: {e}")))?
            .connect_timeout(connect_limit);
        let program = Program {
            connection: name.clone(),
            region: definition.region.clone(),
            host: authority.host().trim_matches(['[', ']']).to_owned(),
            port,
            endpoint,
            channel: OnceLock::new(),
            encrypt: match tls.on {
                true => Some(encrypting(&tls)?),
                false => None,
            },
            tls,
            secret: definition.secret.clone(),
            connect_limit,
            request_limit,
        };
        Ok(Arc::new(ProgramConnector { program: Arc::new(program) }))
    }
}

/// The client's side of TLS for HTTP/2 (RFC 7540, section 3.3).
fn encrypting(tls: &Tls) -> Result<TlsConnector> {
    let mut config = tls.client()?;
    config.alpn_protocols = vec![b"h2".to_vec()];
    Ok(TlsConnector::from(Arc::new(config)))
}

async fn encrypted(
    tls: TlsConnector,
    host: String,
    port: u16,
) -> std::io::Result<TokioIo<tokio_rustls::client::TlsStream<TcpStream>>> {
    let socket = TcpStream::connect((host.as_str(), port)).await?;
    socket.set_nodelay(true)?;
    let name = ServerName::try_from(host).map_err(std::io::Error::other)?;
    tls.connect(name, socket).await.map(TokioIo::new)
}

impl Program {
    fn client(&self) -> FlightServiceClient<Channel> {
        // What works for the channel lives on threads that no caller takes with it.
        let channel = self.channel.get_or_init(|| {
            let _threads = network().enter();
            match &self.encrypt {
                None => self.endpoint.connect_lazy(),
                Some(encrypt) => {
                    let (encrypt, host, port) = (encrypt.clone(), self.host.clone(), self.port);
                    let connect = move |_: Uri| encrypted(encrypt.clone(), host.clone(), port);
                    self.endpoint.connect_with_connector_lazy(tower::service_fn(connect))
                }
            }
        });
        FlightServiceClient::new(channel.clone())
            .max_decoding_message_size(MOST_MESSAGE)
            .max_encoding_message_size(MOST_MESSAGE)
    }

    fn call<T>(&self, message: T) -> Result<tonic::Request<T>> {
        let mut call = tonic::Request::new(message);
        if let Some(secret) = &self.secret {
            let token = format!("Bearer {}", secret.reveal()).parse();
            let token = token.map_err(|_| self.error(Code::BadSetting, "the secret cannot be sent as a token"))?;
            call.metadata_mut().insert("authorization", token);
        }
        Ok(call)
    }

    fn error(&self, code: Code, what: impl std::fmt::Display) -> Error {
        Error::new(code, format!("connection {}: {what}", self.connection))
    }

    fn status(&self, status: &tonic::Status) -> Error {
        use tonic::Code as C;
        let place = format!("{}:{}", self.host, self.port);
        if let Some((what, fix)) = tls::fault(&chain(status)).filter(|_| self.tls.on) {
            return self.error(Code::SourceSignIn, what).hint(fix);
        }
        match status.code() {
            C::Unavailable if self.tls.on => self
                .error(Code::SourceUnreachable, format!("the program at {place} does not answer"))
                .hint("check that the server is running; if it does not encrypt, set tls = false"),
            C::Unavailable => self
                .error(Code::SourceUnreachable, format!("the program at {place} does not answer"))
                .hint("check that the server is running and the address is right"),
            // What went wrong on the way, rather than at the program, has a source of its own, and words that differ from time to time.
            code if code == C::Cancelled || std::error::Error::source(status).is_some() => self
                .error(Code::SourceUnreachable, format!("the exchange with {place} broke off"))
                .hint("check that the program keeps running and speaks Arrow Flight"),
            C::Unauthenticated | C::PermissionDenied => self
                .error(Code::SourceSignIn, format!("the program refuses: {}", status.message()))
                .hint("correct the secret"),
            C::Unimplemented => self
                .error(
                    Code::SourceData,
                    format!("the program at {place} does not speak the connector protocol, version 1"),
                )
                .hint("docs/CONNECTORS.md describes what it has to answer"),
            C::NotFound => self.error(Code::NotFound, status.message()),
            _ => self.error(Code::SourceData, format!("the program says: {}", status.message())),
        }
    }

    /// Waits for an answer, but not longer than the limit.
    async fn within<T>(&self, answer: impl Future<Output = std::result::Result<T, tonic::Status>>) -> Result<T> {
        match tokio::time::timeout(self.request_limit, answer).await {
            Ok(outcome) => outcome.map_err(|status| self.status(&status)),
            Err(_) => {
                let what = format!("no answer within {} s", self.request_limit.as_secs());
                Err(self.error(Code::SourceTimeout, what).hint("look at the program, or raise request_limit"))
            }
        }
    }

    async fn act<A: DeserializeOwned>(&self, action: &str, body: &impl Serialize) -> Result<A> {
        let body = serde_json::to_vec(body).map_err(|e| Error::internal(e.to_string()))?;
        let call = self.call(Action::new(action, body))?;
        let mut client = self.client();
        let answer = self
            .within(async move {
                let mut answers = client.do_action(call).await?.into_inner();
                answers.message().await?.ok_or_else(|| tonic::Status::internal("it gave no answer"))
            })
            .await?;
        serde_json::from_slice(&answer.body)
            .map_err(|e| self.error(Code::SourceData, format!("the answer to {action} is not understood: {e}")))
    }

    async fn list(&self) -> Result<Vec<TableName>> {
        Ok(self.act::<Listing>(LIST, &serde_json::json!({})).await?.tables)
    }

    async fn info(&self, descriptor: FlightDescriptor) -> Result<FlightInfo> {
        let call = self.call(descriptor)?;
        let mut client = self.client();
        self.within(async move { Ok(client.get_flight_info(call).await?.into_inner()) }).await
    }

    /// Asks whether a piece of work is taken over.
    async fn offer(self: &Arc<Self>, offer: cobble_serve::Offer) -> Result<Answer> {
        let program = self.clone();
        let answer = asked(async move { program.act::<Answer>(OFFER, &offer).await }).await;
        answer.unwrap_or_else(|| Err(self.error(Code::SourceUnreachable, "the request was given up")))
    }

    async fn described(self: &Arc<Self>, name: ObjectName) -> Result<Option<DescribedTable>> {
        let info = match self.info(FlightDescriptor::new_path(vec![name.schema.clone(), name.table.clone()])).await {
            Err(error) if error.code == Code::NotFound => return Ok(None),
            other => other?,
        };
        let (rows, bytes) = (info.total_records, info.total_bytes);
        let unread =
            |why: &str| self.error(Code::SourceData, format!("{}: its columns cannot be read: {why}", name.table));
        // Where the answer contradicts itself, its package may stop.
        let schema = std::panic::catch_unwind(AssertUnwindSafe(|| info.try_decode_schema()))
            .map_err(|_| unread("they contradict themselves"))?
            .map_err(|e| unread(&e.to_string()))?;
        let mut columns = Vec::new();
        for field in schema.fields() {
            let sql_type = SqlType::from_arrow(field.data_type()).ok_or_else(|| {
                let what = format!("{}.{} is of type {}", name.table, field.name(), field.data_type());
                self.error(Code::Unsupported, what).hint("serve it with a type that SQL has, text for example")
            })?;
            columns.push(TableColumn {
                name: field.name().clone(),
                sql_type,
                nullable: field.is_nullable(),
                partition: false,
                comment: field.metadata().get("comment").cloned(),
            });
        }
        let known = |count: i64| (count >= 0).then_some(count as f64);
        let statistics = TableStatistics {
            rows: known(rows),
            bytes: known(bytes),
            columns: vec![ColumnStatistics::default(); columns.len()],
            origin: (rows >= 0).then(|| "the program's own count".to_owned()),
            sample: None,
        };
        let table = TableName { schema: name.schema.clone(), name: name.table.clone() };
        let source = ProgramTable { program: self.clone(), table, columns: columns.clone() };
        let origin = Origin::new(&self.connection, KIND.kind, self.region.as_deref());
        let table = Table { name, columns, statistics, primary_key: vec![], kind: TableKind::Table, origin };
        Ok(Some(DescribedTable::new(table, source)))
    }
}

#[async_trait]
impl Connector for ProgramConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        let mut all: Vec<String> = self.program.list().await?.into_iter().map(|table| table.schema).collect();
        all.sort();
        all.dedup();
        Ok(all)
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        let all = self.program.list().await?.into_iter().filter(|table| table.schema == schema);
        let mut names: Vec<String> = all.map(|table| table.name).collect();
        names.sort();
        Ok(names.into_iter().map(|name| TableEntry { name, kind: TableKind::Table }).collect())
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        self.program.described(ObjectName::new(catalog, schema, table)).await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        scan::scan(&self.program, spec)
    }

    fn refresh(&self) {}

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let program = &self.program;
        if !test_steps::reach(&program.connection, (&program.host, program.port), program.connect_limit, report).await {
            return;
        }
        let mut step = reporter(report);
        let started = Instant::now();
        let listed = program.list().await;
        let signed_in = match &listed {
            Ok(_) => {
                let how = if program.secret.is_some() { "with the secret" } else { "without a secret" };
                Ok(format!("{how}{}", test_steps::encrypted(&program.tls)))
            }
            Err(error) => Err(error.clone()),
        };
        let setting = match &signed_in {
            Err(error) => tls::setting_at_fault(error).unwrap_or(match error.code {
                Code::SourceSignIn => "secret",
                _ => "address",
            }),
            Ok(_) => "address",
        };
        if !step("sign in", started, signed_in, setting) {
            return;
        }
        let tables = listed.unwrap_or_default();
        let started = Instant::now();
        if !step("list", started, Ok(counted(tables.len(), "table")), "address") {
            return;
        }
        let Some(table) = tables.first() else { return };
        let started = Instant::now();
        let read = async {
            let name = ObjectName::new(&program.connection, &table.schema, &table.name);
            let Some(found) = program.described(name).await? else {
                return Err(
                    program.error(Code::SourceData, format!("it lists {} and does not describe it", table.name))
                );
            };
            let rows = scan::first_row(program, table, &found.table.columns).await?;
            Ok(format!("{} of {}.{}", counted(rows, "row"), table.schema, table.name))
        }
        .await;
        step("read", started, read, "address");
    }
}

/// A described table, to begin offers with.
#[derive(Debug)]
struct ProgramTable {
    program: Arc<Program>,
    table: TableName,
    columns: Vec<TableColumn>,
}

impl ProgramTable {
    fn wanted(&self) -> offer::Wanted {
        let (program, table) = (self.program.clone(), self.table.clone());
        offer::Wanted { program, table, columns: self.columns.clone().into() }
    }
}

#[async_trait]
impl Source for ProgramTable {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<fragment::Answer> {
        draft::answer(fragment, |scan| Ok(offer::ProgramDraft::new(self.wanted(), scan))).await
    }

    async fn takes_keys(&self, spec: &ScanSpec, place: usize, _: &Column, keys: f64) -> Result<Verdict> {
        offer::takes_keys(&self.wanted(), spec, place, keys).await
    }
}
