//! UPDATE and DELETE in a transaction of their own; cancelled, the server is told to stop and the transaction goes with its connection.

use std::sync::Arc;

use cobble_plan::scan::{Acceptance, Changed};
use cobble_types::{Error, Result};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Params};
use tokio_util::sync::CancellationToken;

use super::dialect::MariaDialect;
use super::scan::bound;
use super::{Server, errors};
use cobble_connect_sql::change::unknown_outcome;
use cobble_connect_sql::{ChangeStatement, Dialect, Sql};

fn parameters(sql: &Sql) -> Params {
    match sql.parameters.is_empty() {
        true => Params::Empty,
        false => Params::Positional(sql.parameters.iter().map(bound).collect()),
    }
}

async fn changed(
    server: &Server,
    client: &mut Conn,
    change: &ChangeStatement,
    accept: Acceptance<'_>,
) -> Result<Changed> {
    let failed = |e: mysql_async::Error| errors::error(server, &e);
    // As the standard has it, `SET a = b, b = a` exchanges the two.
    let mode = "SET SESSION sql_mode = concat(@@SESSION.sql_mode, ',SIMULTANEOUS_ASSIGNMENT')";
    client.query_drop(mode).await.map_err(failed)?;
    // A table that has another name in a DELETE is looked for in the session's own database.
    client.query_drop(format!("USE {}", MariaDialect.quoted(&change.schema))).await.map_err(failed)?;
    // What is counted and what is changed are then the same rows: the reading locks them.
    let level = if change.of_one_state { "SERIALIZABLE" } else { "REPEATABLE READ" };
    client.query_drop(format!("SET SESSION TRANSACTION ISOLATION LEVEL {level}")).await.map_err(failed)?;
    client.query_drop("START TRANSACTION READ WRITE").await.map_err(failed)?;
    let found: Option<u64> = match &change.found {
        Some(query) => client.exec_first(query.numbered(&MariaDialect), parameters(query)).await.map_err(failed)?,
        None => None,
    };
    client.exec_drop(change.sql.numbered(&MariaDialect), parameters(&change.sql)).await.map_err(failed)?;
    let done = Changed { rows: client.affected_rows(), ..Changed::default() };
    change.check(&server.connection, found.unwrap_or(0), &done, accept)?;
    Ok(done)
}

pub async fn run(
    server: &Arc<Server>,
    change: &ChangeStatement,
    accept: Acceptance<'_>,
    cancel: &CancellationToken,
) -> Result<Changed> {
    let mut client = server.client().await?;
    let number = client.id();
    let outcome = tokio::select! {
        done = server.patience.wait(changed(server, &mut client, change, accept)) => done,
        () = cancel.cancelled() => {
            server.end_statement(number).await;
            Err(Error::cancelled())
        }
    };
    let outcome = match outcome {
        Ok(done) => {
            let commit = async { client.query_drop("COMMIT").await.map_err(|e| errors::error(server, &e)) };
            let lost = |e: Error| match e.code {
                cobble_types::Code::SourceUnreachable | cobble_types::Code::SourceTimeout => unknown_outcome(e),
                _ => e,
            };
            server.patience.wait(commit).await.map_err(lost).map(|()| done)
        }
        failed => failed,
    };
    // The session's modes are no others': it is not one for the pool any more. What it has not committed goes with it.
    tokio::spawn(client.disconnect());
    outcome
}
