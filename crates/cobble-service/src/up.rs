//! `cobble up`: everything started in order, and stopped in the reverse order.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cobble_network::local_access;
use cobble_network::roots::Roots;
use cobble_records::{Records, SealingKey, private_file};
use cobble_types::{Code, Error, Result};
use nix::fcntl::{Flock, FlockArg};
use rocket::fairing::AdHoc;

use crate::api;
use crate::demo;
use crate::private_mariadb::PrivateMaria;
use crate::private_postgres::PrivatePostgres;
use crate::service::{Service, blocking, destinations};

/// How to start.
#[derive(Debug, Clone)]
pub struct Up {
    /// Where the service keeps its own things.
    pub folder: PathBuf,
    pub http_port: u16,
    /// Names that requests may address the service by, besides those of the loopback address.
    pub hosts: Vec<String>,
    /// Folders whose files connections may use; without any the working folder. The demo's own are always among them.
    pub roots: Vec<PathBuf>,
    /// The records' database; without one a private server is started.
    pub records: Option<String>,
    pub records_port: u16,
    /// Load the demo at this scale.
    pub demo: Option<f64>,
    /// What all runs may hold together in memory, in bytes.
    pub memory: Option<u64>,
    /// Stop when standard input ends, for programs that start the service as their child.
    pub stop_with_stdin: bool,
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, what.to_string())
}

/// Runs until stopped. `say` receives a line for each event, and `ready` the console's address.
pub async fn up(up: Up, say: impl Fn(&str) + Send + Sync, ready: impl FnOnce(&str) + Send) -> Result<()> {
    std::fs::create_dir_all(&up.folder).map_err(|e| failed(format!("{}: {e}", up.folder.display())))?;
    let _lock = lock(&up)?;
    let postgres = match &up.records {
        Some(_) => None,
        None => {
            let (folder, port) = (up.folder.join("records"), up.records_port);
            Some(blocking(move || PrivatePostgres::start(&folder, port)).await?)
        }
    };
    if let Some(aside) = postgres.as_ref().and_then(|postgres| postgres.aside.as_ref()) {
        say(&format!(
            "records without the mark that they are whole were moved to {}, and new ones were begun; to take them back, stop the service and put that folder in the place of \"cluster\" beside it",
            aside.display()
        ));
    }
    if up.demo.is_some() && postgres.is_none() {
        return Err(Error::new(Code::BadSetting, "the demo needs the service's own PostgreSQL server")
            .hint("leave out --records"));
    }
    let url = match (&up.records, &postgres) {
        (Some(url), _) => url.clone(),
        (None, Some(postgres)) => {
            postgres.ensure_database("cobble").await?;
            postgres.url("cobble")
        }
        (None, None) => return Err(Error::internal("neither records nor a server for them")),
    };
    let key = up.folder.join("sealing.key");
    let own = url.clone();
    let _held = blocking(move || cobble_records::hold(&own)).await?;
    let records = blocking(move || Records::open(&url, SealingKey::load_or_create(&key)?, destinations)).await?;
    let service = Service::restore(records, &say).await?;
    if let Some(bytes) = up.memory {
        service.engine.set_memory(bytes);
    }
    let demo = match (up.demo, &postgres) {
        (Some(scale), Some(postgres)) => {
            let folder = up.folder.join("yard");
            let mariadb = blocking(move || PrivateMaria::start(&folder)).await?;
            let store = demo::set_up(&service, postgres, &mariadb, &up.folder, scale, &say).await?;
            Some((mariadb, store))
        }
        _ => None,
    };
    roots(&up)?.set();
    service.sweep(&say).await;
    tracing::info!(folder = %up.folder.display(), memory = service.engine.memory().1, "the service starts");
    let token = operators_token(&service, &up.folder).await?;
    let watching = tokio::spawn(crate::watching::watch(Arc::downgrade(&service)));
    let outcome = serve(&up, service.clone(), token, &say, ready).await;
    tracing::info!("the service stops");
    watching.abort();
    service.runs.stop().await;
    drop(service);
    let _ = tokio::task::spawn_blocking(move || drop((demo, postgres))).await;
    outcome
}

/// What files connections may use: never the service's own, with its keys and records, except for the demo's data.
fn roots(up: &Up) -> Result<Roots> {
    let mut allowed = match up.roots.is_empty() {
        true => vec![std::env::current_dir().map_err(failed)?],
        false => up.roots.clone(),
    };
    if let Some(lost) = allowed.iter().find(|root| !root.exists()) {
        return Err(failed(format!("--root {}: there is no such folder", lost.display())));
    }
    allowed.extend(["drop", "till.db"].map(|name| up.folder.join(name)));
    Ok(Roots::new(&allowed, std::slice::from_ref(&up.folder)))
}

/// The token with which the command of whoever has started the service signs in. It lies in a file that only they can read.
async fn operators_token(service: &Service, folder: &Path) -> Result<Option<String>> {
    let path = folder.join("administrator.token");
    let kept = match private_file::read(&path)? {
        Some(bytes) => String::from_utf8(bytes).ok().map(|token| token.trim().to_owned()),
        None => None,
    };
    let token = service.users.local_token(kept.clone()).await?;
    if let Some(token) = token.as_ref().filter(|token| kept.as_ref() != Some(token)) {
        private_file::write(&path, token.as_bytes())?;
    }
    Ok(token)
}

/// One service per folder: a second one would fight over the same data.
fn lock(up: &Up) -> Result<Flock<std::fs::File>> {
    let path = up.folder.join("lock");
    let file = std::fs::OpenOptions::new()
        .create(true)
        .truncate(false)
        .write(true)
        .open(&path)
        .map_err(|e| failed(format!("{}: {e}", path.display())))?;
    Flock::lock(file, FlockArg::LockExclusiveNonblock).map_err(|(_, _)| {
        Error::new(Code::InUse, format!("a service is running on {} already", up.folder.display()))
            .hint("use that one, stop it, or give another folder with --folder")
    })
}

async fn serve(
    up: &Up,
    service: Arc<Service>,
    token: Option<String>,
    say: &(impl Fn(&str) + Send + Sync),
    ready: impl FnOnce(&str) + Send,
) -> Result<()> {
    let address = SocketAddr::from((Ipv4Addr::LOCALHOST, up.http_port));
    // Asked for here, so that a port in use is an error of ours with a remedy.
    let free = tokio::net::TcpListener::bind(address).await.map_err(|e| {
        failed(format!("{address} cannot be used: {e}"))
            .hint("another program listens there; choose another port with --port")
    })?;
    let port = free.local_addr().map_err(failed)?.port();
    drop(free);
    let address = format!("http://127.0.0.1:{port}");
    let left = token.as_ref().map(|token| local_access::leave(port, token)).transpose();
    let _left = left.unwrap_or_else(|error| {
        say(&format!("commands have to be given a token, as it cannot be left for them: {error}"));
        None
    });
    let console = match token.as_ref().map(|token| service.users.of_secret(token)).transpose()? {
        Some(user) => format!("{address}/#code={}", service.users.link(&user)),
        None => address,
    };
    let (listening, lifted_off) = tokio::sync::oneshot::channel();
    let announce = AdHoc::on_liftoff("announce", move |_| {
        Box::pin(async move {
            let _ = listening.send(());
        })
    });
    let rocket = api::rocket(service, port, &up.hosts)
        .attach(announce)
        .ignite()
        .await
        .map_err(|e| failed(format!("HTTP: {e}")))?;
    let shutdown = rocket.shutdown();
    let stopping = shutdown.clone();
    let with_stdin = up.stop_with_stdin;
    tokio::spawn(async move {
        let (ended, stdin_ended) = tokio::sync::oneshot::channel();
        if with_stdin {
            // A thread of its own: a read that never returns must not keep the runtime from ending.
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut std::io::stdin(), &mut std::io::sink());
                let _ = ended.send(());
            });
            tokio::select! {
                _ = stdin_ended => {}
                () = wait_for_signal() => {}
            }
        } else {
            wait_for_signal().await;
        }
        stopping.notify();
    });
    let mut serving = std::pin::pin!(rocket.launch());
    // Ready means that a call would be answered.
    tokio::select! {
        ended = &mut serving => return ended.map(drop).map_err(|e| failed(format!("HTTP: {e}"))),
        _ = lifted_off => ready(&console),
    }
    match serving.await {
        // Clients that keep their connections do not keep the service.
        Err(error) if matches!(error.kind(), rocket::error::ErrorKind::Shutdown(..)) => Ok(()),
        ended => ended.map(drop).map_err(|e| failed(format!("HTTP: {e}"))),
    }
}

async fn wait_for_signal() {
    use tokio::signal::unix::{SignalKind, signal};
    let (Ok(mut interrupt), Ok(mut terminate), Ok(mut hangup)) =
        (signal(SignalKind::interrupt()), signal(SignalKind::terminate()), signal(SignalKind::hangup()))
    else {
        return std::future::pending().await;
    };
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
        _ = hangup.recv() => {}
    }
}
