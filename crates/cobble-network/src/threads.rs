//! Threads that wait for the network, for callers that cannot, such as those that read files in order.

use std::sync::OnceLock;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::Duration;

use tokio::runtime::{Builder, Handle, Runtime, RuntimeFlavor};
use tokio::task::AbortHandle;
use tokio_util::sync::CancellationToken;

/// The threads; they wait for the network and for nothing else.
pub fn network() -> &'static Runtime {
    static NETWORK: OnceLock<Runtime> = OnceLock::new();
    NETWORK.get_or_init(|| {
        crate::tls::provider();
        Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("cobble-network")
            .enable_all()
            .build()
            .expect("threads for the network can be started")
    })
}

/// What a request will have given.
pub type Answer<T> = Receiver<T>;

/// Begins a request.
pub fn ask<T: Send + 'static>(work: impl Future<Output = T> + Send + 'static) -> Answer<T> {
    let (send, answer) = sync_channel(1);
    network().spawn(async move {
        let _ = send.send(work.await);
    });
    answer
}

/// The outcome of work on these threads, for callers that can await it; none when it broke off. Dropping the future ends the work.
pub async fn asked<T: Send + 'static>(work: impl Future<Output = T> + Send + 'static) -> Option<T> {
    struct Ended(AbortHandle);
    impl Drop for Ended {
        fn drop(&mut self) {
            self.0.abort();
        }
    }
    let task = network().spawn(work);
    let _ended = Ended(task.abort_handle());
    task.await.ok()
}

/// Why there is no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Silence {
    Cancelled,
    GivenUp,
}

/// Waits, but not longer than the run. On a thread of the service's own others take over its work meanwhile.
pub fn wait<T>(answer: &Answer<T>, cancel: &CancellationToken) -> Result<T, Silence> {
    let waiting = || loop {
        match answer.recv_timeout(Duration::from_millis(50)) {
            Ok(outcome) => return Ok(outcome),
            Err(RecvTimeoutError::Timeout) if !cancel.is_cancelled() => {}
            Err(RecvTimeoutError::Timeout) => return Err(Silence::Cancelled),
            Err(RecvTimeoutError::Disconnected) => return Err(Silence::GivenUp),
        }
    };
    match Handle::try_current() {
        Ok(handle) if handle.runtime_flavor() == RuntimeFlavor::MultiThread => tokio::task::block_in_place(waiting),
        _ => waiting(),
    }
}

/// An error with all that it comes from.
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut at = error.source();
    while let Some(inner) = at {
        let own = inner.to_string();
        if !text.contains(&own) {
            text = format!("{text}: {own}");
        }
        at = inner.source();
    }
    text
}
