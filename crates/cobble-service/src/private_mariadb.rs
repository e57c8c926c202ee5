//! A MariaDB server of our own on loopback, for the demo's yard. It runs as an unprivileged user, has no socket in the file
//! system and no user without a secret that can come over the network.

use std::fs;
use std::path::{Path, PathBuf};

use cobble_network::ports::free_port;
use cobble_types::Result;
use nix::sys::signal::Signal;
use nix::unistd::User;

use crate::private_server::{PrivateServer, Software, command, secret};

pub struct PrivateMaria {
    _server: PrivateServer,
    pub port: u16,
    secret: String,
}

const OWNER: &str = "cobble";

const MARIADB: Software = Software {
    name: "MariaDB",
    program: "mariadbd",
    users: &["mysql", "postgres", "nobody"],
    ready: "ready for connections",
    troubles: &["[ERROR]"],
    stops: &[(Signal::SIGTERM, 20)],
};

fn program(name: &str) -> Result<PathBuf> {
    let on_path = std::env::var_os("PATH").map(|p| std::env::split_paths(&p).collect::<Vec<_>>()).unwrap_or_default();
    let places = [PathBuf::from("/usr/sbin"), PathBuf::from("/usr/bin")].into_iter().chain(on_path);
    places.map(|place| place.join(name)).find(|path| path.exists()).ok_or_else(|| {
        MARIADB
            .failed(format!("its program {name} is not installed"))
            .hint("install Debian's packages mariadb-server-core and mariadb-client-core")
    })
}

impl PrivateMaria {
    /// Starts the server on its data below `folder`, making it first where there is none, on any free port.
    pub fn start(folder: &Path) -> Result<PrivateMaria> {
        let server = program("mariadbd")?;
        let user = MARIADB.user()?;
        let data = MARIADB.data_folder(folder, user.as_ref())?;
        let secret = secret(&folder.with_extension("secret"))?;
        let tables = data.join("tables");
        MARIADB.stop_left_behind(&tables.join("server.pid"), &tables);
        let passing = passing(&data, user.as_ref())?;
        MARIADB.whole(&data, "tables", |fresh| initialise(user.as_ref(), &data, fresh, &passing))?;
        // Read at every start, before any call is taken. The secret is letters and digits of our own making.
        let first = data.join("first.sql");
        let who = format!("'{OWNER}'@'127.0.0.1'");
        let text = format!(
            "CREATE USER IF NOT EXISTS {who};\nALTER USER {who} IDENTIFIED BY '{secret}';\nGRANT ALL ON *.* TO {who} WITH GRANT OPTION;\n"
        );
        MARIADB.write_private(&first, &text, user.as_ref())?;
        let port = free_port().ok_or_else(|| MARIADB.failed("no port of loopback is free"))?;
        let mut start = command(server, user.as_ref(), &data);
        start
            .args([
                "--no-defaults",
                "--bind-address=127.0.0.1",
                "--skip-name-resolve",
                "--socket=",
                "--pid-file=server.pid",
            ])
            .args(["--innodb-buffer-pool-size=64M", "--skip-log-bin", "--innodb-flush-log-at-trx-commit=2"])
            .args(["--max-connections=60", "--performance-schema=OFF"])
            .arg(format!("--datadir={}", tables.display()))
            .arg(format!("--tmpdir={}", passing.display()))
            .arg(format!("--init-file={}", first.display()))
            .arg(format!("--port={port}"));
        let server = MARIADB.start(start, &data, "start again: something took the port that was free a moment ago")?;
        let _ = fs::remove_file(&first);
        Ok(PrivateMaria { _server: server, port, secret })
    }

    /// The server's owner and its secret.
    pub fn owner(&self) -> (&str, &str) {
        (OWNER, &self.secret)
    }
}

/// A folder of its own for tables that pass: at its start the server removes those that it finds, and in the system's folder these may be another
/// server's.
fn passing(data: &Path, user: Option<&User>) -> Result<PathBuf> {
    let folder = data.join("passing");
    fs::create_dir_all(&folder).map_err(|e| MARIADB.failed(format!("{}: {e}", folder.display())))?;
    MARIADB.give(&folder, user)?;
    Ok(folder)
}

fn initialise(user: Option<&User>, data: &Path, tables: &Path, passing: &Path) -> Result<()> {
    let output = command(program("mariadb-install-db")?, user, data)
        .args(["--no-defaults", "--skip-test-db", "--skip-name-resolve"])
        .arg(format!("--datadir={}", tables.display()))
        .env("TMPDIR", passing)
        .output()
        .map_err(|e| MARIADB.failed(format!("mariadb-install-db: {e}")))?;
    if !output.status.success() {
        let text = String::from_utf8_lossy(&output.stderr);
        let line = text.lines().find(|line| line.contains("ERROR")).unwrap_or_default();
        return Err(MARIADB.failed(format!("mariadb-install-db: {}", line.trim())));
    }
    Ok(())
}
