//! A stand-in for object storage: a server on loopback that speaks the S3 protocol over a folder, whose sub-folders are the buckets.

use std::error::Error;
use std::path::Path;

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use s3s_fs::FileSystem;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// Serves the folder until the task is aborted. With a key and its secret every request must be signed.
pub fn serve_store(
    root: &Path,
    listener: TcpListener,
    key: Option<(&str, &str)>,
) -> Result<JoinHandle<()>, Box<dyn Error + Send + Sync>> {
    let files = FileSystem::new(root).map_err(|e| format!("{e:?}"))?;
    let mut service = S3ServiceBuilder::new(files);
    if let Some((key, secret)) = key {
        service.set_auth(SimpleAuth::from_single(key, secret));
    }
    let service = service.build();
    Ok(tokio::spawn(async move {
        // Connections end with the task that accepts them.
        let mut open = tokio::task::JoinSet::new();
        while let Ok((socket, _)) = listener.accept().await {
            let service = service.clone();
            open.spawn(async move {
                let builder = Builder::new(TokioExecutor::new());
                // A client that goes away is no concern of the server's.
                let _ = builder.serve_connection(TokioIo::new(socket), service).await;
            });
            while open.try_join_next().is_some() {}
        }
    }))
}
