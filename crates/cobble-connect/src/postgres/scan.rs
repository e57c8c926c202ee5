//! Running the agreed statement: rows stream in as the server makes them, a batch at a time; dropping the reader cancels the
//! statement at the server.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::offer::{GateCounters, PortionReader, Portions, ScanTools};
use cobble_types::{Error, Result};
use deadpool_postgres::Object;
use futures::StreamExt;
use tokio_postgres::{NoTls, RowStream};

use super::decode::{ColumnDecoder, Raw};
use super::dialect::PostgresDialect;
use super::parameter::{Bound, wire_type};
use super::{Server, errors};
use crate::database::Sql;

/// One statement is one portion.
pub struct Statement {
    server: Arc<Server>,
    sql: Sql,
    columns: Vec<Column>,
    schema: SchemaRef,
    tools: ScanTools,
    claimed: AtomicBool,
}

impl Statement {
    pub fn new(server: Arc<Server>, sql: Sql, columns: Vec<Column>, schema: SchemaRef, tools: ScanTools) -> Self {
        Statement { server, sql, columns, schema, tools, claimed: AtomicBool::new(false) }
    }
}

#[async_trait]
impl Portions for Statement {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.claimed.swap(true, Ordering::Relaxed) {
            return Ok(None);
        }
        let client = self.server.client().await?;
        let text = self.sql.numbered(&PostgresDialect);
        let types: Vec<_> = self.sql.parameters.iter().map(wire_type).collect();
        let failed = |e: tokio_postgres::Error| errors::statement_error(&self.server, &e);
        // Cancelled while the server is still busy with the first row: the guard tells it to stop.
        let mut guard = CancelGuard { client: Some(client), finished: false };
        let Some(client) = &guard.client else { return Err(Error::internal("a statement without a connection")) };
        let statement = client.prepare_typed(&text, &types).await.map_err(failed)?;
        let parameters = self.sql.parameters.iter().map(Bound);
        let rows = client.query_raw(&statement, parameters).await.map_err(failed);
        if rows.is_err() {
            guard.finished = true;
        }
        Ok(Some(Box::new(RowReader {
            rows: Box::pin(rows?),
            guard,
            server: self.server.clone(),
            columns: self.columns.clone(),
            schema: self.schema.clone(),
            tools: self.tools.clone(),
        })))
    }
}

/// Holds the connection while its statement runs. Dropped before the end, it cancels the statement and gives the connection
/// up instead of returning it to the pool with rows still coming.
struct CancelGuard {
    client: Option<Object>,
    finished: bool,
}

impl Drop for CancelGuard {
    fn drop(&mut self) {
        let Some(client) = self.client.take() else { return };
        if self.finished {
            return;
        }
        let token = client.cancel_token();
        drop(Object::take(client));
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move {
                // Best effort: the server notices the closed connection in any case.
                let _ = token.cancel_query(NoTls).await;
            });
        }
    }
}

struct RowReader {
    rows: std::pin::Pin<Box<RowStream>>,
    guard: CancelGuard,
    server: Arc<Server>,
    columns: Vec<Column>,
    schema: SchemaRef,
    tools: ScanTools,
}

#[async_trait]
impl PortionReader for RowReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.guard.finished {
            return Ok(None);
        }
        let mut decoders: Vec<ColumnDecoder> = self
            .columns
            .iter()
            .map(|c| ColumnDecoder::new(&c.sql_type, self.tools.batch_rows))
            .collect::<Result<_>>()?;
        let (mut rows, mut bytes) = (0usize, 0u64);
        while rows < self.tools.batch_rows {
            match self.rows.next().await {
                None => {
                    self.guard.finished = true;
                    break;
                }
                Some(Err(error)) => return Err(errors::statement_error(&self.server, &error)),
                Some(Ok(row)) => {
                    for (i, decoder) in decoders.iter_mut().enumerate() {
                        let raw: Option<Raw> = row.try_get(i).map_err(|e| errors::statement_error(&self.server, &e))?;
                        bytes += 4 + raw.as_ref().map_or(0, |raw| raw.0.len() as u64);
                        decoder.append(raw.map(|raw| raw.0)).map_err(|mut error| {
                            let column = &self.columns[i].name;
                            error.message =
                                format!("connection {}: column {column}: {}", self.server.connection, error.message);
                            error
                        })?;
                    }
                    rows += 1;
                }
            }
        }
        GateCounters::add(&self.tools.counters.bytes, bytes);
        if rows == 0 {
            return Ok(None);
        }
        let columns = decoders.into_iter().map(ColumnDecoder::finish).collect::<Result<_>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        Ok(Some(RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)?))
    }
}
