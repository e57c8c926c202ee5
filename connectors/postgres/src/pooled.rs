//! A connection of the pool. It goes back as it was when it was opened: what a view, a function or a native query has set in the session, locked
//! or asked to be told of is not found by the next statement.

use std::ops::Deref;

use deadpool_postgres::Object;
use tokio::runtime::Handle;

/// Not DISCARD ALL: the driver keeps statements of its own on the connection.
const AS_NEW: &str = "CLOSE ALL; RESET ALL; RESET SESSION AUTHORIZATION; UNLISTEN *; SELECT pg_advisory_unlock_all(); DISCARD TEMP; DISCARD SEQUENCES";

pub struct Pooled(Option<Object>);

impl Pooled {
    pub fn new(client: Object) -> Pooled {
        Pooled(Some(client))
    }

    /// Closes the connection, in whatever state it is.
    pub fn give_up(mut self) {
        self.0.take().map(Object::take);
    }
}

impl Deref for Pooled {
    type Target = Object;

    fn deref(&self) -> &Object {
        self.0.as_ref().expect("taken only when dropped")
    }
}

impl Drop for Pooled {
    fn drop(&mut self) {
        let Some(client) = self.0.take() else { return };
        // Nobody waits for it but who takes this very connection next.
        match Handle::try_current() {
            Ok(runtime) => drop(runtime.spawn(async move {
                if client.batch_execute(AS_NEW).await.is_err() {
                    drop(Object::take(client));
                }
            })),
            Err(_) => drop(Object::take(client)),
        }
    }
}
