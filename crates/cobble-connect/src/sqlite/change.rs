//! UPDATE and DELETE in a transaction of their own, on a thread that may wait; cancelled, SQLite is interrupted.

use std::sync::Arc;

use cobble_types::{Error, Result};
use rusqlite::Connection;
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

use super::scan::bound;
use super::{File, errors};
use crate::database::{ChangeStatement, Sql};

fn prepared<'a>(file: &File, connection: &'a Connection, sql: &Sql) -> Result<rusqlite::Statement<'a>> {
    let failed = |e: rusqlite::Error| errors::error(file, &e);
    let mut statement = connection.prepare(&sql.numbered(file.dialect)).map_err(failed)?;
    for (place, parameter) in sql.parameters.iter().enumerate() {
        statement.raw_bind_parameter(place + 1, bound(parameter)).map_err(failed)?;
    }
    Ok(statement)
}

fn changed(file: &File, connection: &Connection, sql: &Sql, found: Option<&Sql>) -> Result<(u64, u64)> {
    let failed = |e: rusqlite::Error| errors::error(file, &e);
    let found = match found {
        Some(query) => {
            let mut statement = prepared(file, connection, query)?;
            let mut rows = statement.raw_query();
            let row = rows.next().map_err(failed)?;
            row.map_or(Ok(0), |row| row.get::<_, i64>(0)).map_err(failed)?
        }
        None => 0,
    };
    let rows = prepared(file, connection, sql)?.raw_execute().map_err(failed)?;
    Ok((found as u64, rows as u64))
}

pub async fn run(file: &Arc<File>, change: &ChangeStatement, cancel: &CancellationToken) -> Result<u64> {
    let (own, sql, found) = (file.clone(), change.sql.clone(), change.found.clone());
    let (send_handle, handle) = oneshot::channel();
    let (send_counts, counts) = oneshot::channel();
    let (agree, agreed) = oneshot::channel();
    let work = tokio::task::spawn_blocking(move || {
        let connection = own.open_to_write()?;
        let _ = send_handle.send(connection.get_interrupt_handle());
        let _ = send_counts.send(changed(&own, &connection, &sql, found.as_ref())?);
        // Not agreed to, the transaction goes with the connection.
        match agreed.blocking_recv() {
            Ok(()) => connection.execute_batch("COMMIT").map_err(|e| errors::error(&own, &e)),
            Err(_) => Ok(()),
        }
    });
    let stopped = async {
        let handle = handle.await.ok();
        cancel.cancelled().await;
        if let Some(handle) = handle {
            handle.interrupt();
        }
    };
    let counted = tokio::select! {
        counted = counts => counted.ok(),
        () = stopped => None,
    };
    let agreed = match counted {
        Some((found, rows)) => change.check(&file.connection, found, rows).map(|()| {
            let _ = agree.send(());
            rows
        }),
        None => {
            drop(agree);
            Err(Error::cancelled())
        }
    };
    let ended = work.await.map_err(|e| Error::internal(format!("a thread of {} ended: {e}", file.connection)))?;
    ended.and(agreed)
}
