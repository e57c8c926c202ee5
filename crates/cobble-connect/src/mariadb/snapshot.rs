//! Several connections that see one state of the data. The server cannot lend one transaction's view to another, but it says at which
//! place of its binary log a view was taken (server manual, "Enhancements for START TRANSACTION WITH CONSISTENT SNAPSHOT"): views of the
//! same place are the same.

use std::sync::{Arc, Mutex, PoisonError};

use cobble_types::Result;
use mysql_async::Conn;
use mysql_async::prelude::Queryable;

use super::{Server, errors};

/// Connections that read one table, and how often it is tried to get them.
const MOST_READERS: usize = 4;
const TRIES: usize = 5;

/// The place in the binary log of the view that a connection has, or now; none without such a log.
pub async fn place(server: &Server, client: &mut Conn) -> Result<Option<String>> {
    let found: Vec<(String, String)> =
        client.query("SHOW SESSION STATUS LIKE 'binlog_snapshot_%'").await.map_err(|e| errors::error(server, &e))?;
    let of = |name: &str| found.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str());
    let file = of("binlog_snapshot_file").filter(|file| !file.is_empty());
    Ok(file.zip(of("binlog_snapshot_position")).map(|(file, at)| format!("{file}:{at}")))
}

async fn begun(server: &Server, client: &mut Conn) -> Result<Option<String>> {
    let failed = |e: mysql_async::Error| errors::error(server, &e);
    client.query_drop("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ").await.map_err(failed)?;
    client.query_drop("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY").await.map_err(failed)?;
    place(server, client).await
}

/// The connections of one reading.
pub struct Readers {
    server: Arc<Server>,
    /// Those that read nothing now, once the first one has asked.
    idle: Mutex<Vec<Conn>>,
    begun: tokio::sync::Mutex<bool>,
}

impl Readers {
    pub fn new(server: Arc<Server>) -> Readers {
        Readers { server, idle: Mutex::default(), begun: tokio::sync::Mutex::new(false) }
    }

    fn idle(&self) -> std::sync::MutexGuard<'_, Vec<Conn>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A connection with the view that all have; none when as many read as could be had.
    pub async fn take(&self) -> Result<Option<Conn>> {
        let mut begun = self.begun.lock().await;
        if !*begun {
            let views = self.views().await?;
            *self.idle() = views;
            *begun = true;
        }
        Ok(self.idle().pop())
    }

    pub fn give_back(&self, client: Conn) {
        self.idle().push(client);
    }

    /// As many connections as have the first one's view: all of them, unless data change all the time.
    async fn views(&self) -> Result<Vec<Conn>> {
        let mut clients = vec![self.server.client().await?];
        let tasks = std::thread::available_parallelism().map_or(1, usize::from);
        while clients.len() < tasks.min(MOST_READERS).min(self.server.pool_size) {
            // A connection that is not free now is not waited for, as those who have it may wait for ours.
            match tokio::time::timeout(self.server.connect_limit / 10, self.server.pool.get_conn()).await {
                Ok(Ok(client)) => clients.push(client),
                _ => break,
            }
        }
        let mut places = Vec::new();
        for _ in 0..TRIES {
            places = futures::future::try_join_all(clients.iter_mut().map(|c| begun(&self.server, c))).await?;
            if places.iter().all(|place| place.is_some() && *place == places[0]) {
                break;
            }
        }
        let first = places.first().cloned().flatten();
        let same = |(at, place): (usize, &Option<String>)| at == 0 || (place.is_some() && *place == first);
        let keep: Vec<bool> = places.iter().enumerate().map(same).collect();
        Ok(clients.into_iter().zip(keep).filter(|(_, keep)| *keep).map(|(client, _)| client).collect())
    }
}
