//! UPDATE and DELETE in a transaction of their own; cancelled, the server is told to stop and the transaction goes with its connection.

use std::sync::Arc;

use cobble_plan::sink::{Outcome, Prepared};
use cobble_types::{Error, Result};
use mysql_async::Params;
use mysql_async::prelude::Queryable;
use tokio_util::sync::CancellationToken;

use super::dialect::MariaDialect;
use super::pooled::Pooled;
use super::scan::bound;
use super::write::Transaction;
use super::{Server, errors};
use cobble_connect_sql::{ChangeStatement, Dialect, StatementText};

fn parameters(sql: &StatementText) -> Params {
    match sql.parameters.is_empty() {
        true => Params::Empty,
        false => Params::Positional(sql.parameters.iter().map(bound).collect()),
    }
}

async fn changed(server: &Server, client: &mut Pooled, change: &ChangeStatement) -> Result<Outcome> {
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
        Some(query) => client.exec_first(&query.text, parameters(query)).await.map_err(failed)?,
        None => None,
    };
    client.exec_drop(&change.statement.text, parameters(&change.statement)).await.map_err(failed)?;
    let rows = client.affected_rows();
    change.check(&server.connection, found.unwrap_or(0), rows)?;
    Ok(Outcome { rows, ..Outcome::default() })
}

pub async fn prepare(
    server: &Arc<Server>,
    change: &ChangeStatement,
    cancel: &CancellationToken,
) -> Result<Box<dyn Prepared>> {
    let mut transaction = Transaction::new(server, server.client().await?, "COMMIT".to_owned(), None);
    let client = transaction.client()?;
    let number = client.id();
    let outcome = tokio::select! {
        done = server.patience.wait(changed(server, client, change)) => done?,
        () = cancel.cancelled() => {
            server.end_statement(number).await;
            return Err(Error::cancelled());
        }
    };
    transaction.outcome = outcome;
    Ok(Box::new(transaction))
}
