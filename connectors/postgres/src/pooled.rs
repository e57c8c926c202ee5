//! A connection of the pool. It goes back as it was when it was opened: a transaction is rolled back, and what a view, a function or a native query
//! has set in the session, locked or asked to be told of is not found by the next statement.

use std::ops::Deref;
use std::sync::atomic::{AtomicBool, Ordering};

use deadpool_postgres::Object;
use tokio::runtime::Handle;

/// Not DISCARD ALL: the driver keeps statements of its own on the connection.
const AS_NEW: &str = "CLOSE ALL; RESET ALL; RESET SESSION AUTHORIZATION; UNLISTEN *; SELECT pg_advisory_unlock_all(); DISCARD TEMP; DISCARD SEQUENCES";

pub struct Pooled {
    client: Option<Object>,
    in_transaction: AtomicBool,
}

impl Pooled {
    pub fn new(client: Object) -> Pooled {
        Pooled { client: Some(client), in_transaction: AtomicBool::new(false) }
    }

    /// Begins a transaction that only reads and is rolled back at the end. What is asked for while this has not ended is sent behind it, so
    /// that it costs no round trip of its own; a transaction that could not begin is the first thing that fails.
    pub async fn reading<T>(
        &self,
        first: impl Future<Output = Result<T, tokio_postgres::Error>>,
    ) -> Result<T, tokio_postgres::Error> {
        self.in_transaction.store(true, Ordering::Relaxed);
        let (begun, first) = futures::future::join(self.batch_execute("BEGIN READ ONLY"), first).await;
        begun.and(first)
    }

    /// Closes the connection, in whatever state it is.
    pub fn give_up(mut self) {
        self.client.take().map(Object::take);
    }
}

impl Deref for Pooled {
    type Target = Object;

    fn deref(&self) -> &Object {
        self.client.as_ref().expect("taken only when dropped")
    }
}

impl Drop for Pooled {
    fn drop(&mut self) {
        let Some(client) = self.client.take() else { return };
        let rolled_back = if *self.in_transaction.get_mut() { "ROLLBACK; " } else { "" };
        // Nobody waits for it but who takes this very connection next.
        match Handle::try_current() {
            Ok(runtime) => drop(runtime.spawn(async move {
                if client.batch_execute(&format!("{rolled_back}{AS_NEW}")).await.is_err() {
                    drop(Object::take(client));
                }
            })),
            Err(_) => drop(Object::take(client)),
        }
    }
}
