//! A stand-in for object storage: a server on loopback that speaks the S3 protocol over a folder, whose sub-folders are the buckets.

use std::error::Error;
use std::io;
use std::path::Path;
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Method, Request};
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use rand::Rng;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use s3s_fs::FileSystem;
use tokio::net::TcpListener;
use tokio::sync::Mutex;
use tokio::task::JoinHandle;

/// What goes wrong with requests, each in how many of a hundred.
#[derive(Debug, Clone, Copy, Default)]
pub struct Faults {
    /// Refused before anything is done.
    pub refused: u32,
    /// Answered late.
    pub slow: u32,
    /// Done, without an answer.
    pub lost: u32,
}

/// Serves the folder until the task is aborted. With a key and its secret every request must be signed.
pub fn serve_store(
    root: &Path,
    listener: TcpListener,
    key: Option<(&str, &str)>,
) -> Result<JoinHandle<()>, Box<dyn Error + Send + Sync>> {
    serve_with_faults(root, listener, key, Faults::default())
}

/// The same with requests that go wrong.
pub fn serve_with_faults(
    root: &Path,
    listener: TcpListener,
    key: Option<(&str, &str)>,
    faults: Faults,
) -> Result<JoinHandle<()>, Box<dyn Error + Send + Sync>> {
    serve_told(root, listener, key, faults, Arc::default())
}

/// Requests that have come: their methods and paths.
pub type Told = Arc<std::sync::Mutex<Vec<(String, String)>>>;

/// The same, and tells which requests have come.
pub fn serve_told(
    root: &Path,
    listener: TcpListener,
    key: Option<(&str, &str)>,
    faults: Faults,
    told: Told,
) -> Result<JoinHandle<()>, Box<dyn Error + Send + Sync>> {
    let files = FileSystem::new(root).map_err(|e| format!("{e:?}"))?;
    let mut service = S3ServiceBuilder::new(files);
    if let Some((key, secret)) = key {
        service.set_auth(SimpleAuth::from_single(key, secret));
    }
    let service = service.build();
    // Of two puts of a new object one is first, as with a store.
    let puts = Arc::new(Mutex::new(()));
    Ok(tokio::spawn(async move {
        // Connections end with the task that accepts them.
        let mut open = tokio::task::JoinSet::new();
        while let Ok((socket, _)) = listener.accept().await {
            let (service, puts, told) = (service.clone(), puts.clone(), told.clone());
            open.spawn(async move {
                let builder = Builder::new(TokioExecutor::new());
                let service = service_fn(move |request: Request<Incoming>| {
                    let (service, puts) = (service.clone(), puts.clone());
                    let own = (request.method().to_string(), request.uri().path().to_owned());
                    told.lock().unwrap_or_else(PoisonError::into_inner).push(own);
                    async move {
                        let dice = rand::rng().random_range(0..100u32);
                        if dice < faults.refused {
                            return Err(io::Error::other("refused"));
                        }
                        if dice < faults.refused + faults.slow {
                            tokio::time::sleep(Duration::from_millis(300)).await;
                        }
                        let held = match *request.method() {
                            Method::PUT => Some(puts.lock().await),
                            _ => None,
                        };
                        let answer = service.call(request.map(s3s::Body::from)).await;
                        drop(held);
                        match dice >= 100 - faults.lost {
                            true => Err(io::Error::other("lost")),
                            false => answer.map_err(|e| io::Error::other(format!("{e:?}"))),
                        }
                    }
                });
                // A client that goes away is no concern of the server's.
                let _ = builder.serve_connection(TokioIo::new(socket), service).await;
            });
            while open.try_join_next().is_some() {}
        }
    }))
}
