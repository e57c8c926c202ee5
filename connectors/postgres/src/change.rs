//! UPDATE and DELETE in a transaction of their own; cancelled, the server is told to stop and the transaction goes with its connection.

use std::sync::Arc;

use cobble_plan::expr::Column;
use cobble_plan::sink::{Outcome, Prepared};
use cobble_types::{Error, Result};
use futures::{StreamExt, TryStreamExt};
use tokio_postgres::Statement;
use tokio_util::sync::CancellationToken;

use super::decode::{ColumnDecoder, Raw};
use super::parameter::{Bound, wire_type};
use super::pooled::Pooled;
use super::write::{Transaction, Unfinished};
use super::{Server, errors};
use cobble_connect::Returned;
use cobble_connect_sql::{ChangeStatement, Parameter, StatementText};

/// Rows that are read at once of those that come back.
const BATCH: usize = 8192;

async fn prepared(server: &Server, client: &Pooled, sql: &StatementText) -> Result<Statement> {
    let types: Vec<_> = sql.parameters.iter().map(wire_type).collect();
    let statement = client.prepare_typed(&sql.text, &types).await;
    statement.map_err(|e| errors::statement_error(server, &e))
}

/// Runs a statement that gives these columns back: the rows, how many, and their bytes.
pub async fn returned(
    server: &Server,
    client: &Pooled,
    statement: &Statement,
    parameters: &[Parameter],
    columns: &[Column],
) -> Result<(Returned, u64, u64)> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let stream = client.query_raw(statement, parameters.iter().map(Bound)).await.map_err(failed)?;
    let mut stream = std::pin::pin!(stream.try_chunks(BATCH));
    let mut returned = Returned::new(columns);
    let (mut rows, mut bytes) = (0, 0);
    while let Some(some) = stream.next().await {
        let some = some.map_err(|e| failed(e.1))?;
        let mut arrays = Vec::new();
        for (place, column) in columns.iter().enumerate() {
            let mut decoder = ColumnDecoder::new(&column.sql_type, some.len())?;
            for row in &some {
                let raw: Option<Raw> = row.try_get(place).map_err(failed)?;
                bytes += 4 + raw.as_ref().map_or(0, |raw| raw.0.len() as u64);
                decoder.append(raw.map(|raw| raw.0)).map_err(|error| {
                    let message =
                        format!("connection {}: column {}: {}", server.connection, column.name, error.message);
                    Error { message, ..error }
                })?;
            }
            arrays.push(decoder.finish()?);
        }
        rows += some.len() as u64;
        returned.push(&server.connection, arrays, some.len())?;
    }
    Ok((returned, rows, bytes))
}

async fn execute(server: &Server, client: &Pooled, change: &ChangeStatement) -> Result<Outcome> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let sql = &change.statement;
    let statement = prepared(server, client, sql).await?;
    let Some(columns) = &change.returned else {
        let rows = client.execute_raw(&statement, sql.parameters.iter().map(Bound)).await.map_err(failed)?;
        return Ok(Outcome { rows, ..Outcome::default() });
    };
    let (returned, rows, bytes) = returned(server, client, &statement, &sql.parameters, columns).await?;
    Ok(Outcome { rows, returned: returned.batches, received: bytes, ..Outcome::default() })
}

async fn count(server: &Server, client: &Pooled, sql: &StatementText) -> Result<u64> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let statement = prepared(server, client, sql).await?;
    let rows = client.query_raw(&statement, sql.parameters.iter().map(Bound)).await.map_err(failed)?;
    let rows: Vec<_> = rows.try_collect().await.map_err(failed)?;
    Ok(rows.first().map_or(0, |row| row.get::<_, i64>(0)) as u64)
}

pub async fn prepare(
    server: &Arc<Server>,
    change: &ChangeStatement,
    cancel: &CancellationToken,
) -> Result<Box<dyn Prepared>> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let client = Unfinished::new(server.client().await?);
    let open = client.open()?;
    let work = async {
        let level = if change.of_one_state { " ISOLATION LEVEL REPEATABLE READ" } else { "" };
        open.batch_execute(&format!("BEGIN{level} READ WRITE")).await.map_err(failed)?;
        let found = match &change.found {
            Some(query) => count(server, open, query).await?,
            None => 0,
        };
        let outcome = execute(server, open, change).await?;
        change.check(&server.connection, found, outcome.rows)?;
        Ok(outcome)
    };
    let outcome = tokio::select! {
        done = server.patience.wait(work) => done?,
        () = cancel.cancelled() => {
            // A server that does not answer notices the closed connection, when it comes to itself.
            let token = open.cancel_token();
            let _ = tokio::time::timeout(server.connect_limit, token.cancel_query(server.tls.clone())).await;
            return Err(Error::cancelled());
        }
    };
    Ok(Box::new(Transaction { server: server.clone(), client, outcome }))
}
