//! The demo: the fleet's and the yard's databases, the folder `drop`, an object store and the kiosks' file, loaded once and found again at the next start.

use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Instant;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Secret};
use cobble_types::{Code, Error, Result, Value};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::private_mariadb::PrivateMaria;
use crate::private_postgres::PrivatePostgres;
use crate::private_server::secret;
use crate::service::{Service, blocking};

/// What has been loaded; another scale or form is loaded anew.
#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Loaded {
    scale: f64,
    form: u32,
}

const FORM: u32 = 6;
const READER: &str = "reader";

/// The demo's object store, a program of its own that ends when its standard input does.
pub struct Store(Child);

impl Drop for Store {
    fn drop(&mut self) {
        drop(self.0.stdin.take());
        let _ = self.0.wait();
    }
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("the demo data: {what}"))
}

/// The program that loads the data and serves the object store. It lies beside this one.
fn ferry() -> Result<Command> {
    let own = std::env::current_exe().map_err(failed)?;
    let folders = own.ancestors().skip(1).take(2);
    let found = folders.map(|folder| folder.join("cobble-ferry")).find(|path| path.is_file()).ok_or_else(|| {
        failed(format!("there is no program cobble-ferry beside {}", own.display()))
            .hint("build it with cargo build --workspace, or start without --demo")
    })?;
    Ok(Command::new(found))
}

/// Loads all data. Credentials go through a pipe, where nobody else sees them.
fn load(folder: &Path, scale: f64, sign_in: &serde_json::Value) -> Result<()> {
    let mut loading = ferry()?
        .arg("load")
        .arg(folder)
        .args(["--scale", &scale.to_string()])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(failed)?;
    if let Some(mut pipe) = loading.stdin.take() {
        pipe.write_all(sign_in.to_string().as_bytes()).map_err(failed)?;
    }
    let output = loading.wait_with_output().map_err(failed)?;
    match output.status.success() {
        true => Ok(()),
        false => Err(failed(String::from_utf8_lossy(&output.stderr).trim())),
    }
}

/// Starts the object store, and says its address.
fn start_store(folder: &Path, secret: &str) -> Result<(Store, String)> {
    let spawned = ferry()?.arg("store").arg(folder).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn();
    let mut store = Store(spawned.map_err(failed)?);
    let (Some(pipe), Some(out)) = (&mut store.0.stdin, store.0.stdout.take()) else {
        return Err(Error::internal("a program without pipes"));
    };
    writeln!(pipe, "{secret}").map_err(failed)?;
    let mut address = String::new();
    BufReader::new(out).read_line(&mut address).map_err(failed)?;
    match address.trim() {
        "" => Err(failed("the object store has not started")),
        address => Ok((store, address.to_owned())),
    }
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
        postgres.ensure_database("fleet").await?;
        let ((fleet_user, fleet_secret), (yard_user, yard_secret)) = (postgres.owner(), mariadb.owner());
        let sign_in = serde_json::json!({
            "fleet": { "port": postgres.port, "user": fleet_user, "secret": fleet_secret },
            "yard": { "port": mariadb.port, "user": yard_user, "secret": yard_secret },
            "reader": READER,
            "reader_secret": reader_secret,
        });
        let folder = folder.to_owned();
        blocking(move || load(&folder, scale, &sign_in)).await?;
        let text = serde_json::to_vec(&wanted).map_err(failed)?;
        std::fs::write(&mark, text).map_err(failed)?;
        say(&format!("loaded in {:.1} s", began.elapsed().as_secs_f64()));
    }
    let (store_folder, store_secret) = (folder.join("store"), reader_secret.clone());
    let (store, store_address) = blocking(move || start_store(&store_folder, &store_secret)).await?;
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
        options: [("bucket".to_owned(), "deep".to_owned())].into(),
        ..fleet.clone()
    };
    let mut lake = ConnectionDefinition::new("deep_lake", "lake", "");
    lake.region.clone_from(&deep.region);
    lake.options.extend([("storage", "deep_store"), ("writable", "true")].map(|(k, v)| (k.to_owned(), v.to_owned())));
    let files = ConnectionDefinition::new("drop_files", "files", address.display().to_string());
    let till = till.canonicalize().map_err(failed)?;
    let till = ConnectionDefinition::new("till_file", "sqlite", till.display().to_string());
    let tides = ConnectionDefinition::new("tides_maker", "generated", "");
    for definition in [fleet, yard, deep, lake, files, till, tides] {
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
        ("deep", "deep_lake"),
        ("drop", "drop_files"),
        ("till", "till_file"),
        ("tides", "tides_maker"),
    ] {
        let known = set.catalogs.get(name).map(|catalog| catalog.connection.as_str());
        if known.is_some_and(|known| known != connection) {
            service.remove_catalog(name).await?;
        }
        if known != Some(connection) {
            service.add_catalog(CatalogDefinition::new(name, connection)).await?;
        }
    }
    fill_lake(service, say).await?;
    Ok(store)
}

/// Makes the lake's tables, unless they are all there.
async fn fill_lake(service: &Service, say: &dyn Fn(&str)) -> Result<()> {
    let (mut session, cancel) = (service.engine.session(), CancellationToken::new());
    let is_whole = "SELECT count(*) FROM deep.information_schema.tables WHERE table_schema = 'ops'";
    let found = session.run_text(is_whole, &cancel).await?.collect().await?;
    let count = found.first().and_then(|batch| Value::from_array(batch.column(0).as_ref(), 0));
    // The last one is made when the others are whole.
    if count == Some(Value::BigInt(3)) {
        return Ok(());
    }
    let began = Instant::now();
    let tables = ["sailings", "boardings", "buoy_readings"].map(|name| format!("deep.ops.{name}")).join(", ");
    for text in [&format!("DROP TABLE IF EXISTS {tables}"), cobble_ferry::LAKE] {
        let mut last = session.run_text(text, &cancel).await?;
        while last.next().await?.is_some() {}
    }
    say(&format!("made the lake in {:.1} s", began.elapsed().as_secs_f64()));
    Ok(())
}
