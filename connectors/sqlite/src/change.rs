//! UPDATE and DELETE in a transaction of their own, on a thread that may wait; cancelled, SQLite is interrupted.

use std::sync::Arc;

use cobble_plan::sink::{Outcome, Prepared};
use cobble_types::{Error, Result};
use rusqlite::Connection;
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

use super::scan::{self, bound};
use super::write::Transaction;
use super::{File, errors};
use cobble_connect::Returned;
use cobble_connect_sql::cells::CellColumn;
use cobble_connect_sql::{ChangeStatement, StatementText};

fn prepared<'a>(file: &File, connection: &'a Connection, sql: &StatementText) -> Result<rusqlite::Statement<'a>> {
    let failed = |e: rusqlite::Error| errors::error(file, &e);
    let mut statement = connection.prepare(&sql.text).map_err(failed)?;
    for (place, parameter) in sql.parameters.iter().enumerate() {
        statement.raw_bind_parameter(place + 1, bound(parameter)).map_err(failed)?;
    }
    Ok(statement)
}

/// Rows that are read at once of those that come back.
const BATCH: usize = 8192;

/// The number of rows that were found, and what was done.
fn changed(file: &File, connection: &Connection, change: &ChangeStatement) -> Result<(u64, Outcome)> {
    let failed = |e: rusqlite::Error| errors::error(file, &e);
    let found = match &change.found {
        Some(query) => {
            let mut statement = prepared(file, connection, query)?;
            let mut rows = statement.raw_query();
            let row = rows.next().map_err(failed)?;
            row.map_or(Ok(0), |row| row.get::<_, i64>(0)).map_err(failed)?
        }
        None => 0,
    };
    let mut statement = prepared(file, connection, &change.statement)?;
    let Some(columns) = &change.returned else {
        let rows = statement.raw_execute().map_err(failed)? as u64;
        return Ok((found as u64, Outcome { rows, ..Outcome::default() }));
    };
    let mut returned = Returned::new(columns);
    let (mut rows, mut count) = (statement.raw_query(), 0);
    let (mut ended, mut bytes) = (false, 0);
    while !ended {
        let mut cells: Vec<CellColumn> =
            columns.iter().map(|c| CellColumn::new(&c.name, &c.sql_type, BATCH)).collect::<Result<_>>()?;
        let mut some = 0;
        while some < BATCH {
            let Some(row) = rows.next().map_err(failed)? else {
                ended = true;
                break;
            };
            bytes += scan::read(file, row, &mut cells)?;
            some += 1;
        }
        count += some as u64;
        let arrays = cells.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
        returned.push(&file.connection, arrays, some)?;
    }
    let outcome = Outcome { rows: count, returned: returned.batches, received: bytes, ..Outcome::default() };
    Ok((found as u64, outcome))
}

pub async fn prepare(
    file: &Arc<File>,
    change: &ChangeStatement,
    cancel: &CancellationToken,
) -> Result<Box<dyn Prepared>> {
    let (own, wanted) = (file.clone(), change.clone());
    let (send_handle, handle) = oneshot::channel();
    let mut work = tokio::task::spawn_blocking(move || {
        let connection = own.open_to_write()?;
        let _ = send_handle.send(connection.get_interrupt_handle());
        let (found, outcome) = changed(&own, &connection, &wanted)?;
        wanted.check(&own.connection, found, outcome.rows)?;
        Ok::<_, Error>(Transaction { file: own, connection, outcome })
    });
    let stopped = |e| Error::internal(format!("a thread of {} ended: {e}", file.connection));
    tokio::select! {
        done = &mut work => Ok(Box::new(done.map_err(stopped)??)),
        () = cancel.cancelled() => {
            if let Ok(handle) = handle.await {
                handle.interrupt();
            }
            // What it has done goes with its connection.
            drop(work.await);
            Err(Error::cancelled())
        }
    }
}
