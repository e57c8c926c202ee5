//! Several connections that read one state of a table. The server cannot share a snapshot between transactions, and positions in its binary log do not
//! prove two snapshots equal. While a table is locked for reading, however, no transaction that changed it can be open: snapshots that begin under the
//! lock are equal for that table.

use std::sync::{Arc, Mutex, PoisonError};

use cobble_types::Result;
use mysql_async::prelude::Queryable;

use super::pooled::Pooled;
use super::{Server, errors};

/// Connections that read one table.
const MOST_READERS: usize = 4;

/// The connections of one reading.
pub struct Readers {
    server: Arc<Server>,
    /// The table's full name, quoted.
    table: Arc<str>,
    /// Those that read nothing now, once the first one has asked.
    idle: Mutex<Vec<Pooled>>,
    begun: tokio::sync::Mutex<bool>,
}

impl Readers {
    pub fn new(server: Arc<Server>, table: Arc<str>) -> Readers {
        Readers { server, table, idle: Mutex::default(), begun: tokio::sync::Mutex::new(false) }
    }

    fn idle(&self) -> std::sync::MutexGuard<'_, Vec<Pooled>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A connection with the view that all have; none when as many read as could be had.
    pub async fn take(&self) -> Result<Option<Pooled>> {
        let mut begun = self.begun.lock().await;
        if !*begun {
            let views = self.views().await?;
            *self.idle() = views;
            *begun = true;
        }
        Ok(self.idle().pop())
    }

    pub fn give_back(&self, client: Pooled) {
        self.idle().push(client);
    }

    async fn begin(&self, client: &mut Pooled) -> Result<()> {
        let failed = |e: mysql_async::Error| errors::error(&self.server, &e);
        client.query_drop("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ").await.map_err(failed)?;
        client.query_drop("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY").await.map_err(failed)
    }

    /// A connection that is free now. One that is not may be held by somebody who waits for ours.
    async fn free(&self) -> Option<Pooled> {
        let soon = self.server.connect_limit / 10;
        tokio::time::timeout(soon, self.server.client()).await.ok()?.ok()
    }

    /// One connection for each task, all with the same view of the data; a single connection where the lock cannot be taken at once.
    async fn views(&self) -> Result<Vec<Pooled>> {
        let mut first = self.server.client().await?;
        let tasks = std::thread::available_parallelism().map_or(1, usize::from).min(MOST_READERS);
        let mut others = Vec::new();
        let mut locker = self.free().await;
        while locker.is_some() && others.len() + 1 < tasks {
            match self.free().await {
                Some(client) => others.push(client),
                None => break,
            }
        }
        let locked = match &mut locker {
            Some(client) if !others.is_empty() => {
                // Without waiting: those who come to write would queue behind.
                client.query_drop(format!("LOCK TABLES {} READ NOWAIT", self.table)).await.is_ok()
            }
            _ => false,
        };
        if !locked {
            self.begin(&mut first).await?;
            return Ok(vec![first]);
        }
        let all: Vec<&mut Pooled> = std::iter::once(&mut first).chain(&mut others).collect();
        let begun = futures::future::try_join_all(all.into_iter().map(|client| self.begin(client))).await;
        // The lock goes with the connection if it cannot be told.
        if let Some(mut client) = locker
            && client.query_drop("UNLOCK TABLES").await.is_err()
        {
            client.disconnect().await;
        }
        begun?;
        others.push(first);
        Ok(others)
    }
}
