//! A PostgreSQL server of our own on loopback, for the records and, in the demo, for the fleet's database. Works when started
//! as root, by running the server as an unprivileged user, and as anyone else. A server left behind by a crash is stopped
//! before a new one is started, so nothing blocks the next start.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cobble_types::{Code, Error, Result};
use nix::sys::signal::{Signal, kill};
use nix::unistd::{Pid, User};
use rand::Rng;

pub struct PrivatePostgres {
    child: Child,
    pub port: u16,
    secret: String,
}

const SUPERUSER: &str = "cobble";
/// Users that PostgreSQL may run as when we are root, best first.
const UNPRIVILEGED: &[&str] = &["postgres", "nobody"];

fn failed(what: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("the private PostgreSQL server: {what}"))
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

/// Who runs the server: nobody special unless we are root.
fn server_user() -> Result<Option<User>> {
    if !nix::unistd::geteuid().is_root() {
        return Ok(None);
    }
    for name in UNPRIVILEGED {
        if let Ok(Some(user)) = User::from_name(name) {
            return Ok(Some(user));
        }
    }
    Err(failed("there is no unprivileged user to run it as").hint("create the user postgres"))
}

/// The folder for the server's data. An unprivileged user must be able to walk to it; where it cannot, the data goes to a
/// folder of the system's that is named for the wanted one.
fn data_folder(wanted: &Path, user: Option<&User>) -> Result<PathBuf> {
    let io = |e: std::io::Error| failed(format!("{}: {e}", wanted.display()));
    fs::create_dir_all(wanted).map_err(io)?;
    let wanted = wanted.canonicalize().map_err(io)?;
    let walkable =
        |p: &Path| p.ancestors().skip(1).all(|a| fs::metadata(a).is_ok_and(|m| m.permissions().mode() & 0o001 != 0));
    if user.is_none() || walkable(&wanted) {
        return Ok(wanted);
    }
    let mark = wanted
        .to_string_lossy()
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325u64, |h, b| (h ^ u64::from(b)).wrapping_mul(0x100_0000_01b3));
    let other = PathBuf::from(format!("/var/lib/cobble-lane/{mark:016x}"));
    fs::create_dir_all(&other).map_err(|e| failed(format!("{}: {e}", other.display())))?;
    Ok(other)
}

fn command(program: PathBuf, user: Option<&User>, folder: &Path) -> Command {
    let mut command = Command::new(program);
    if let Some(user) = user {
        command.uid(user.uid.as_raw()).gid(user.gid.as_raw());
    }
    command.current_dir(folder).stdin(Stdio::null()).env("LC_ALL", "C.UTF-8").env_remove("PGPORT").env_remove("PGDATA");
    command
}

impl PrivatePostgres {
    /// Starts the server on its data below `folder`, making it first where there is none.
    pub fn start(folder: &Path, port: u16) -> Result<PrivatePostgres> {
        let programs = programs()?;
        let user = server_user()?;
        let data = data_folder(folder, user.as_ref())?;
        if let Some(user) = &user {
            chown(&data, Some(user.uid.as_raw()), Some(user.gid.as_raw()))
                .map_err(|e| failed(format!("{}: {e}", data.display())))?;
        }
        let secret = secret(&folder.with_extension("secret"))?;
        let cluster = data.join("cluster");
        if !cluster.join("PG_VERSION").exists() || !data.join("complete").exists() {
            initialise(&programs, user.as_ref(), &data, &cluster, &secret)?;
        }
        stop_left_behind(&cluster);
        let log = data.join("server.log");
        let out = fs::File::create(&log).map_err(|e| failed(format!("{}: {e}", log.display())))?;
        let mut server = command(programs.join("postgres"), user.as_ref(), &data);
        server
            .arg("-D")
            .arg(&cluster)
            .args(["-p", &port.to_string(), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="])
            .args(["-c", "max_connections=60", "-c", "shared_buffers=128MB", "-c", "logging_collector=off"])
            // A terminal's Ctrl+C goes to a whole process group: the server is stopped by us, in order.
            .process_group(0)
            .stdout(out.try_clone().map_err(failed)?)
            .stderr(out);
        let child = server.spawn().map_err(|e| failed(format!("it cannot be started: {e}")))?;
        let mut started = PrivatePostgres { child, port, secret };
        started.wait_until_ready(&log)?;
        Ok(started)
    }

    fn wait_until_ready(&mut self, log: &Path) -> Result<()> {
        let began = Instant::now();
        loop {
            if let Ok(Some(status)) = self.child.try_wait() {
                let text = fs::read_to_string(log).unwrap_or_default();
                let reason = text
                    .lines()
                    .rev()
                    .find(|l| l.contains("FATAL") || l.contains("could not"))
                    .unwrap_or("")
                    .trim()
                    .to_owned();
                let error = failed(format!("it ended at once ({status}): {reason}"));
                return Err(if text.contains("Address already in use") || text.contains("could not bind") {
                    error.hint(format!(
                        "something else listens on port {}; choose another with --records-port",
                        self.port
                    ))
                } else {
                    error.hint(format!("read {}", log.display()))
                });
            }
            let ready = fs::read_to_string(log)
                .is_ok_and(|text| text.contains("database system is ready to accept connections"));
            if ready {
                return Ok(());
            }
            if began.elapsed() > Duration::from_secs(60) {
                return Err(failed("it is not ready after a minute").hint(format!("read {}", log.display())));
            }
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    /// The settings of a connection to one of its databases, as its owner.
    pub fn config(&self, database: &str) -> tokio_postgres::Config {
        let mut config = tokio_postgres::Config::new();
        config.host("127.0.0.1").port(self.port).user(SUPERUSER).password(&self.secret).dbname(database);
        config
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

impl Drop for PrivatePostgres {
    fn drop(&mut self) {
        // SIGINT is a fast shutdown: sessions are ended, everything is written.
        let pid = Pid::from_raw(self.child.id() as i32);
        let _ = kill(pid, Signal::SIGINT);
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(15) {
            if !matches!(self.child.try_wait(), Ok(None)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = kill(pid, Signal::SIGQUIT);
        let _ = self.child.wait();
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

/// A random secret, kept in a file that only its owner may read.
pub fn secret(path: &Path) -> Result<String> {
    let io = |e: std::io::Error| failed(format!("{}: {e}", path.display()));
    if let Ok(text) = fs::read_to_string(path)
        && !text.trim().is_empty()
    {
        return Ok(text.trim().to_owned());
    }
    let mut rng = rand::rng();
    let text: String = (0..32).map(|_| char::from(rng.sample(rand::distr::Alphanumeric))).collect();
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path).map_err(io)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(io)?;
    Ok(text)
}

fn initialise(programs: &Path, user: Option<&User>, data: &Path, cluster: &Path, secret: &str) -> Result<()> {
    // What an interrupted start left is made again from nothing.
    if cluster.exists() {
        fs::remove_dir_all(cluster).map_err(failed)?;
    }
    let password = data.join("password");
    let mut file =
        fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&password).map_err(failed)?;
    file.write_all(secret.as_bytes()).map_err(failed)?;
    if let Some(user) = user {
        chown(&password, Some(user.uid.as_raw()), Some(user.gid.as_raw())).map_err(failed)?;
    }
    let outcome = command(programs.join("initdb"), user, data)
        .arg("-D")
        .arg(cluster)
        .args(["-U", SUPERUSER, "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync"])
        .arg(format!("--pwfile={}", password.display()))
        .output();
    let _ = fs::remove_file(&password);
    let output = outcome.map_err(|e| failed(format!("initdb: {e}")))?;
    if !output.status.success() {
        let text = String::from_utf8_lossy(&output.stderr);
        return Err(failed(format!("initdb: {}", text.trim().lines().last().unwrap_or_default())));
    }
    fs::write(data.join("complete"), b"").map_err(failed)
}

/// Stops a server that still runs on this data.
fn stop_left_behind(cluster: &Path) {
    let Ok(text) = fs::read_to_string(cluster.join("postmaster.pid")) else { return };
    let Some(Ok(pid)) = text.lines().next().map(|l| l.trim().parse::<i32>()) else { return };
    // The number may belong to another program by now.
    let is_postgres = fs::read_to_string(format!("/proc/{pid}/cmdline"))
        .is_ok_and(|c| c.contains("postgres") && c.contains(&*cluster.to_string_lossy()));
    if !is_postgres {
        return;
    }
    let pid = Pid::from_raw(pid);
    for (signal, patience) in [(Signal::SIGINT, 10), (Signal::SIGQUIT, 5), (Signal::SIGKILL, 2)] {
        let _ = kill(pid, signal);
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(patience) {
            if kill(pid, None).is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
