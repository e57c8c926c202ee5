//! How long a server is waited for that has fallen silent: as long as it may work on a statement itself, and a little more.

use std::time::Duration;

use cobble_types::{Code, Error, Result};

/// What the server needs to say that it has given up.
const GRACE: Duration = Duration::from_secs(5);

/// Longest wait for a connection of one's own pool to be free.
const POOL_LIMIT: Duration = Duration::from_secs(30);

/// How long to wait for a connection of the pool. Shorter than the wait for the server, which is not at fault then.
pub fn pool_limit(statement_limit: u64) -> Duration {
    if statement_limit > 0 { POOL_LIMIT.min(Duration::from_secs(statement_limit) / 2) } else { POOL_LIMIT }
}

#[derive(Debug, Clone)]
pub struct Patience {
    connection: String,
    /// None waits for ever, as the server itself may work for ever.
    limit: Option<Duration>,
}

impl Patience {
    /// With the seconds that a statement may take there; 0 is no limit.
    pub fn new(connection: &str, statement_limit: u64) -> Patience {
        let limit = (statement_limit > 0).then(|| Duration::from_secs(statement_limit) + GRACE);
        Patience { connection: connection.to_owned(), limit }
    }

    /// Waits for what a server has to answer.
    pub async fn wait<T>(&self, work: impl Future<Output = Result<T>>) -> Result<T> {
        let Some(limit) = self.limit else { return work.await };
        tokio::time::timeout(limit, work).await.unwrap_or_else(|_| {
            let what = format!("connection {}: nothing has come for {} s", self.connection, limit.as_secs());
            Err(Error::new(Code::SourceTimeout, what)
                .hint("look at the server and the network between, or raise statement_limit"))
        })
    }
}
