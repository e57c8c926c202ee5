//! A connection of the pool, with its place among those that there may be: whoever waits for a place is told apart from whoever waits for the
//! server.

use std::ops::{Deref, DerefMut};

use cobble_types::Result;
use mysql_async::Conn;
use tokio::sync::OwnedSemaphorePermit;
use tokio::time::timeout;

use super::{Server, errors};

pub struct Pooled {
    client: Conn,
    /// Given up after the connection.
    _place: OwnedSemaphorePermit,
}

impl Pooled {
    /// Waits for a place, and then for the server where no connection is idle.
    pub async fn open(server: &Server) -> Result<Pooled> {
        let place = timeout(server.pool_limit, server.places.clone().acquire_owned()).await;
        let Ok(Ok(place)) = place else { return Err(errors::busy(server)) };
        match timeout(server.connect_limit, server.pool.get_conn()).await {
            Ok(client) => Ok(Pooled { client: client.map_err(|e| errors::error(server, &e))?, _place: place }),
            Err(_) => Err(errors::too_slow(server)),
        }
    }

    /// Closes it, in whatever state it is.
    pub async fn disconnect(self) {
        let _ = self.client.disconnect().await;
    }
}

impl Deref for Pooled {
    type Target = Conn;

    fn deref(&self) -> &Conn {
        &self.client
    }
}

impl DerefMut for Pooled {
    fn deref_mut(&mut self) -> &mut Conn {
        &mut self.client
    }
}
