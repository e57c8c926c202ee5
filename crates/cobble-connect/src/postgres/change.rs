//! UPDATE and DELETE in a transaction of their own; cancelled, the server is told to stop and the transaction goes with its connection.

use std::sync::Arc;

use cobble_types::{Error, Result};
use deadpool_postgres::Object;
use tokio_util::sync::CancellationToken;

use super::dialect::PostgresDialect;
use super::parameter::{Bound, wire_type};
use super::write::Unfinished;
use super::{Server, errors};
use crate::database::change::unknown_outcome;
use crate::database::{ChangeStatement, Sql};

async fn execute(server: &Server, client: &Object, sql: &Sql) -> Result<u64> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let types: Vec<_> = sql.parameters.iter().map(wire_type).collect();
    let statement = client.prepare_typed(&sql.numbered(&PostgresDialect), &types).await.map_err(failed)?;
    client.execute_raw(&statement, sql.parameters.iter().map(Bound)).await.map_err(failed)
}

async fn count(server: &Server, client: &Object, sql: &Sql) -> Result<u64> {
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let types: Vec<_> = sql.parameters.iter().map(wire_type).collect();
    let statement = client.prepare_typed(&sql.numbered(&PostgresDialect), &types).await.map_err(failed)?;
    let rows = client.query_raw(&statement, sql.parameters.iter().map(Bound)).await.map_err(failed)?;
    let rows: Vec<_> = futures::TryStreamExt::try_collect(rows).await.map_err(failed)?;
    Ok(rows.first().map_or(0, |row| row.get::<_, i64>(0)) as u64)
}

pub async fn run(server: &Arc<Server>, change: &ChangeStatement, cancel: &CancellationToken) -> Result<u64> {
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
        let changed = execute(server, open, &change.sql).await?;
        change.check(&server.connection, found, changed)?;
        Ok(changed)
    };
    let changed = tokio::select! {
        done = server.patience.wait(work) => done?,
        () = cancel.cancelled() => {
            // A server that does not answer notices the closed connection, when it comes to itself.
            let token = open.cancel_token();
            let _ = tokio::time::timeout(server.connect_limit, token.cancel_query(server.tls.clone())).await;
            return Err(Error::cancelled());
        }
    };
    let committed = async { open.batch_execute("COMMIT").await.map_err(failed) };
    server.patience.wait(committed).await.map_err(|e| match e.code {
        cobble_types::Code::SourceUnreachable | cobble_types::Code::SourceTimeout => unknown_outcome(e),
        _ => e,
    })?;
    drop(client.keep());
    Ok(changed)
}
