//! The demo: the fleet's and the yard's databases, the folder `drop`, an object store and the kiosks' file, loaded once and found again at the next start.

use std::path::Path;
use std::time::Instant;

use cobble_connect::{ConnectionDefinition, Secret};
use cobble_engine::CatalogDefinition;
use cobble_ferry::{Ferry, load_fleet, load_yard, serve_store, write_deep, write_drop, write_till};
use cobble_types::{Code, Error, Result};
use mysql_async::prelude::Queryable;
use serde::{Deserialize, Serialize};
use tokio::net::TcpListener;

use crate::private_mariadb::PrivateMaria;
use crate::private_postgres::{PrivatePostgres, connect};
use crate::private_server::secret;
use crate::service::Service;

/// What has been loaded; another scale or form is loaded anew.
#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Loaded {
    scale: f64,
    form: u32,
}

const FORM: u32 = 5;
const READER: &str = "reader";

/// The demo's object store, which ends when this is dropped.
pub struct Store(tokio::task::JoinHandle<()>);

impl Drop for Store {
    fn drop(&mut self) {
        self.0.abort();
    }
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("the demo data: {what}"))
}

/// Loads the data where it is missing and adds the demo's connections and catalogs.
pub async fn set_up(
    service: &Service,
    postgres: &PrivatePostgres,
    mariadb: &PrivateMaria,
    folder: &Path,
    scale: f64,
    say: &dyn Fn(&str),
) -> Result<Store> {
    let mark = folder.join("demo.json");
    let wanted = Loaded { scale, form: FORM };
    let present: Option<Loaded> = std::fs::read(&mark).ok().and_then(|text| serde_json::from_slice(&text).ok());
    let (drop_folder, till) = (folder.join("drop"), folder.join("till.db"));
    let reader_secret = secret(&folder.join("reader.secret"))?;
    if present.as_ref() != Some(&wanted) {
        let began = Instant::now();
        say(&format!("loading the ferry data at scale {scale}"));
        let _ = std::fs::remove_file(&mark);
        let ferry = Ferry::new(scale);
        let (target, till, store) = (drop_folder.clone(), till.clone(), folder.join("store"));
        let files = tokio::task::spawn_blocking(move || {
            write_drop(ferry, &target).map_err(|e| e.to_string())?;
            write_deep(ferry, &store).map_err(|e| e.to_string())?;
            write_till(ferry, &till).map_err(|e| e.to_string())
        });
        let yard = load_into_yard(mariadb, ferry, &reader_secret);
        let fleet = load_into_fleet(postgres, ferry, &reader_secret);
        tokio::try_join!(fleet, yard)?;
        files.await.map_err(failed)?.map_err(failed)?;
        let text = serde_json::to_vec(&wanted).map_err(failed)?;
        std::fs::write(&mark, text).map_err(failed)?;
        say(&format!("loaded in {:.1} s", began.elapsed().as_secs_f64()));
    }
    let listener = TcpListener::bind("127.0.0.1:0").await.map_err(failed)?;
    let store_address = format!("http://{}", listener.local_addr().map_err(failed)?);
    let store = serve_store(&folder.join("store"), listener, Some((READER, &reader_secret))).map_err(failed)?;
    let set = service.engine.set();
    let address = drop_folder.canonicalize().map_err(failed)?;
    let fleet = ConnectionDefinition {
        name: "fleet_db".into(),
        kind: "postgres".into(),
        address: format!("127.0.0.1:{}", postgres.port),
        database: Some("fleet".into()),
        user: Some(READER.into()),
        secret: Some(Secret::new(reader_secret)),
        region: Some("north".into()),
        options: Default::default(),
        credentials: Default::default(),
    };
    let yard = ConnectionDefinition {
        name: "yard_db".into(),
        kind: "mariadb".into(),
        address: format!("127.0.0.1:{}", mariadb.port),
        database: Some("yard".into()),
        region: Some("south".into()),
        ..fleet.clone()
    };
    let deep = ConnectionDefinition {
        name: "deep_store".into(),
        kind: "s3".into(),
        address: store_address,
        database: None,
        region: Some("west".into()),
        options: [("bucket", "deep"), ("folder", "ops")].map(|(k, v)| (k.to_owned(), v.to_owned())).into(),
        ..fleet.clone()
    };
    let files = ConnectionDefinition::new("drop_files", "files", address.display().to_string());
    let till = till.canonicalize().map_err(failed)?;
    let till = ConnectionDefinition::new("till_file", "sqlite", till.display().to_string());
    for definition in [fleet, yard, deep, files, till, ConnectionDefinition::new("tides_maker", "generated", "")] {
        match set.connections.get(&definition.name) {
            None => service.add_connection(definition).await?,
            // The server's port or the folder's place may be another one this time.
            Some(known) if known.definition.address != definition.address => {
                let moved = |before: &ConnectionDefinition| {
                    Ok(ConnectionDefinition { credentials: before.credentials.clone(), ..definition.clone() })
                };
                service.change_connection(&definition.name, moved).await.map(drop)?
            }
            Some(_) => {}
        }
    }
    for (name, connection) in [
        ("fleet", "fleet_db"),
        ("yard", "yard_db"),
        ("deep", "deep_store"),
        ("drop", "drop_files"),
        ("till", "till_file"),
        ("tides", "tides_maker"),
    ] {
        if !set.catalogs.contains_key(name) {
            service.add_catalog(CatalogDefinition::new(name, connection)).await?;
        }
    }
    Ok(Store(store))
}

/// The fleet's tables and who may read them. The secret is letters and digits of our own making, so it can stand in a statement.
async fn load_into_fleet(postgres: &PrivatePostgres, ferry: Ferry, reader_secret: &str) -> Result<()> {
    postgres.ensure_database("fleet").await?;
    let client = connect(&postgres.config("fleet")).await?;
    load_fleet(&client, ferry).await.map_err(failed)?;
    let there = client.query_opt("SELECT FROM pg_roles WHERE rolname = $1", &[&READER]).await.map_err(failed)?;
    let verb = if there.is_some() { "ALTER" } else { "CREATE" };
    let grant = format!(
        "{verb} ROLE {READER} LOGIN PASSWORD '{reader_secret}'; GRANT USAGE ON SCHEMA public TO {READER};
         GRANT SELECT ON ALL TABLES IN SCHEMA public TO {READER}"
    );
    client.batch_execute(&grant).await.map_err(failed)
}

/// The yard's tables and who may read them.
async fn load_into_yard(mariadb: &PrivateMaria, ferry: Ferry, reader_secret: &str) -> Result<()> {
    let (user, secret) = mariadb.owner();
    let options = mysql_async::OptsBuilder::default()
        .ip_or_hostname("127.0.0.1")
        .tcp_port(mariadb.port)
        .user(Some(user))
        .pass(Some(secret));
    let mut client = mysql_async::Conn::new(options).await.map_err(failed)?;
    load_yard(&mut client, ferry).await.map_err(failed)?;
    for statement in [
        format!("CREATE OR REPLACE USER '{READER}'@'127.0.0.1' IDENTIFIED BY '{reader_secret}'"),
        format!("GRANT SELECT ON yard.* TO '{READER}'@'127.0.0.1'"),
    ] {
        client.query_drop(statement).await.map_err(failed)?;
    }
    client.disconnect().await.map_err(failed)
}
