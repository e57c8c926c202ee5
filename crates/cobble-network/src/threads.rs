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
    may_wait(waiting)
}

/// Runs what may wait. On a thread that futures run on, others take over its work meanwhile.
pub fn may_wait<T>(waiting: impl FnOnce() -> T) -> T {
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

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};
    use std::time::Instant;

    use super::*;

    struct Ended(Arc<AtomicBool>);

    impl Drop for Ended {
        fn drop(&mut self) {
            self.0.store(true, Ordering::Relaxed);
        }
    }

    #[test]
    fn work_that_is_asked_for_ends_with_its_future() {
        let ended = Arc::new(AtomicBool::new(false));
        let held = Ended(ended.clone());
        let asked = asked(async move {
            let _held = held;
            std::future::pending::<()>().await;
        });
        let outcome = network().block_on(async { tokio::time::timeout(Duration::from_millis(20), asked).await });
        assert!(outcome.is_err(), "it never ends by itself");
        let began = Instant::now();
        while !ended.load(Ordering::Relaxed) {
            assert!(began.elapsed() < Duration::from_secs(10), "the work goes on after its future was dropped");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    #[test]
    fn work_gives_its_outcome_or_nothing() {
        assert_eq!(network().block_on(asked(async { 7 })), Some(7));
        assert_eq!(network().block_on(asked(async { panic!("it broke off") })), None::<()>);
        let cancel = CancellationToken::new();
        assert_eq!(wait(&ask(async { 8 }), &cancel), Ok(8));
        cancel.cancel();
        assert_eq!(wait(&ask(std::future::pending::<()>()), &cancel), Err(Silence::Cancelled));
    }
}
