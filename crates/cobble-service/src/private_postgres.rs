//! A PostgreSQL server of our own on loopback, for the records and, in the demo, for the fleet's database. Works when started
//! as root, by running the server as an unprivileged user, and as anyone else. A server left behind by a crash is stopped
//! before a new one is started, so nothing blocks the next start.

use std::fs;
use std::path::{Path, PathBuf};

use cobble_types::Result;
use nix::sys::signal::Signal;
use nix::unistd::User;

use crate::private_server::{PrivateServer, Software, command, secret};

pub struct PrivatePostgres {
    _server: PrivateServer,
    pub port: u16,
    secret: String,
    /// Where files of a server were moved that may not be whole.
    pub aside: Option<PathBuf>,
}

const SUPERUSER: &str = "cobble";

const POSTGRES: Software = Software {
    name: "PostgreSQL",
    program: "postgres",
    users: &["postgres", "nobody"],
    ready: "database system is ready to accept connections",
    troubles: &["FATAL", "could not"],
    // SIGINT is a fast shutdown: sessions are ended, everything is written.
    stops: &[(Signal::SIGINT, 15), (Signal::SIGQUIT, 5)],
};

fn failed(what: impl std::fmt::Display) -> cobble_types::Error {
    POSTGRES.failed(what)
}

/// Where Debian and others put the server's programs; the newest version first.
fn programs() -> Result<PathBuf> {
    let mut folders: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|e| Some((e.file_name().to_str()?.parse().ok()?, e.path().join("bin"))))
        .collect();
    folders.sort();
    let on_path = std::env::var_os("PATH").map(|p| std::env::split_paths(&p).collect::<Vec<_>>()).unwrap_or_default();
    let found = folders
        .into_iter()
        .rev()
        .map(|(_, p)| p)
        .chain(on_path)
        .find(|p| p.join("initdb").exists() && p.join("postgres").exists());
    found.ok_or_else(|| {
        failed("its programs are not installed").hint("install Debian's package postgresql-15, or give --records URL")
    })
}

impl PrivatePostgres {
    /// Starts the server on its data below `folder`, making it first where there is none.
    pub fn start(folder: &Path, port: u16) -> Result<PrivatePostgres> {
        let programs = programs()?;
        let user = POSTGRES.user()?;
        let data = POSTGRES.data_folder(folder, user.as_ref())?;
        let secret = secret(&folder.with_extension("secret"))?;
        let cluster = data.join("cluster");
        POSTGRES.stop_left_behind(&cluster.join("postmaster.pid"), &cluster);
        let aside =
            POSTGRES.whole(&data, "cluster", |fresh| initialise(&programs, user.as_ref(), &data, fresh, &secret))?;
        let mut server = command(programs.join("postgres"), user.as_ref(), &data);
        server
            .arg("-D")
            .arg(&cluster)
            .args(["-p", &port.to_string(), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="])
            .args(["-c", "max_connections=60", "-c", "shared_buffers=128MB", "-c", "logging_collector=off"]);
        let port_hint = format!("something else listens on port {port}; choose another with --records-port");
        let server = POSTGRES.start(server, &data, &port_hint)?;
        Ok(PrivatePostgres { _server: server, port, secret, aside })
    }

    /// The settings of a connection to one of its databases, as its owner.
    pub fn config(&self, database: &str) -> tokio_postgres::Config {
        let mut config = tokio_postgres::Config::new();
        config.host("127.0.0.1").port(self.port).user(SUPERUSER).password(&self.secret).dbname(database);
        config
    }

    /// User and secret of its owner.
    pub fn owner(&self) -> (&str, &str) {
        (SUPERUSER, &self.secret)
    }

    /// The same as a URL, for the records.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{SUPERUSER}:{}@127.0.0.1:{}/{database}", self.secret, self.port)
    }

    /// Makes the database unless it is there.
    pub async fn ensure_database(&self, database: &str) -> Result<()> {
        let client = connect(&self.config("postgres")).await?;
        let there =
            client.query_opt("SELECT FROM pg_database WHERE datname = $1", &[&database]).await.map_err(failed)?;
        if there.is_none() {
            client
                .batch_execute(&format!("CREATE DATABASE {}", cobble_types::quote_identifier(database)))
                .await
                .map_err(failed)?;
        }
        Ok(())
    }
}

/// A connection whose other half runs on the present runtime.
pub async fn connect(config: &tokio_postgres::Config) -> Result<tokio_postgres::Client> {
    let (client, connection) = config.connect(tokio_postgres::NoTls).await.map_err(failed)?;
    tokio::spawn(async move {
        // An error of the connection shows at the client's next call.
        let _ = connection.await;
    });
    Ok(client)
}

fn initialise(programs: &Path, user: Option<&User>, data: &Path, cluster: &Path, secret: &str) -> Result<()> {
    let password = data.join("password");
    POSTGRES.write_private(&password, secret, user)?;
    let outcome = command(programs.join("initdb"), user, data)
        .arg("-D")
        .arg(cluster)
        .args(["-U", SUPERUSER, "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8"])
        .arg(format!("--pwfile={}", password.display()))
        .output();
    let _ = fs::remove_file(&password);
    let output = outcome.map_err(|e| failed(format!("initdb: {e}")))?;
    if !output.status.success() {
        let text = String::from_utf8_lossy(&output.stderr);
        return Err(failed(format!("initdb: {}", text.trim().lines().last().unwrap_or_default())));
    }
    Ok(())
}
