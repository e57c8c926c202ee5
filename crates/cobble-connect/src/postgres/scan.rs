//! Running the agreed statement: rows stream in as the server makes them, a batch at a time; dropping the reader cancels the
//! statement at the server.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::offer::{
    GateCounters, GateScan, KeptReason, Offer, PartCount, PortionReader, Portions, Request, ScanTools, Verdict,
};
use cobble_types::{Error, Result, SqlType};
use deadpool_postgres::Object;
use futures::StreamExt;
use tokio_postgres::types::ToSql;
use tokio_postgres::{NoTls, RowStream};

use super::decode::{ColumnDecoder, Raw};
use super::offer::PostgresOffer;
use super::sql::Sql;
use super::{Server, errors};

#[derive(Debug)]
pub struct PostgresScan {
    server: Arc<Server>,
    sql: Sql,
    /// The source's columns that the result is made of.
    columns_read: Vec<String>,
    /// The offer that the statement was made of, to which keys may be added, and the columns that come out.
    offer: PostgresOffer,
    columns: Vec<Column>,
}

impl PostgresScan {
    pub fn new(
        server: Arc<Server>,
        sql: Sql,
        columns_read: Vec<String>,
        offer: PostgresOffer,
        columns: Vec<Column>,
    ) -> Self {
        PostgresScan { server, sql, columns_read, offer, columns }
    }

    /// The statement with the keys of joins as conditions, as far as they can be said there.
    fn with_keys(&self, tools: &ScanTools) -> Result<Sql> {
        let mut offer = self.offer.clone();
        let mut added = false;
        for keys in &tools.keys {
            if let Some((condition, form)) = keys.condition()
                && offer.filter(&condition).is_pushed()
            {
                tools.counters.used(keys, form, 0);
                added = true;
            }
        }
        if !added {
            return Ok(self.sql.clone());
        }
        let (sql, _) = offer.statement(&self.columns)?;
        *tools.counters.sent.lock().unwrap_or_else(PoisonError::into_inner) = Some(request(&sql));
        Ok(sql)
    }
}

fn request(sql: &Sql) -> Request {
    Request { text: sql.numbered(), parameters: sql.parameters.iter().map(|p| p.0.to_string()).collect() }
}

#[async_trait]
impl GateScan for PostgresScan {
    fn request(&self) -> Request {
        request(&self.sql)
    }

    fn columns_read(&self) -> Vec<String> {
        self.columns_read.clone()
    }

    fn parts(&self) -> Vec<PartCount> {
        vec![]
    }

    fn estimated_bytes(&self) -> Option<f64> {
        None
    }

    fn key_pass(&self, place: usize, keys: f64) -> Verdict {
        let column = &self.columns[place];
        if self.offer.is_limited() {
            return Verdict::kept(KeptReason::BelowKept, "the statement has a limit, which would come after");
        }
        if !column.sql_type.is_integer()
            && !matches!(
                column.sql_type,
                SqlType::Text | SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz | SqlType::Numeric { .. }
            )
        {
            return Verdict::kept(KeptReason::TypeDiffers, format!("keys of type {} are not sent", column.sql_type));
        }
        if keys > MOST_LISTED as f64 {
            return Verdict::Prunes { note: Some("as a range, there being too many for a list".into()) };
        }
        Verdict::Prunes { note: Some("as a list in the statement".into()) }
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let types: Vec<SqlType> = self.columns.iter().map(|c| c.sql_type.clone()).collect();
        let fields: Vec<Field> =
            types.iter().enumerate().map(|(i, t)| Field::new(i.to_string(), t.to_arrow(), true)).collect();
        Ok(Arc::new(Statement {
            server: self.server.clone(),
            sql: self.with_keys(tools)?,
            types,
            schema: Arc::new(Schema::new(fields)),
            tools: tools.clone(),
            claimed: AtomicBool::new(false),
        }))
    }
}

/// One statement is one portion.
struct Statement {
    server: Arc<Server>,
    sql: Sql,
    types: Vec<SqlType>,
    schema: SchemaRef,
    tools: ScanTools,
    claimed: AtomicBool,
}

#[async_trait]
impl Portions for Statement {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.claimed.swap(true, Ordering::Relaxed) {
            return Ok(None);
        }
        let client = self.server.client().await?;
        let text = self.sql.numbered();
        let types: Vec<_> = self.sql.parameters.iter().map(|p| p.wire_type()).collect();
        let failed = |e: tokio_postgres::Error| errors::statement_error(&self.server, &e);
        // Cancelled while the server is still busy with the first row: the guard tells it to stop.
        let mut guard = CancelGuard { client: Some(client), finished: false };
        let Some(client) = &guard.client else { return Err(Error::internal("a statement without a connection")) };
        let statement = client.prepare_typed(&text, &types).await.map_err(failed)?;
        let parameters = self.sql.parameters.iter().map(|p| p as &(dyn ToSql + Sync));
        let rows = client.query_raw(&statement, parameters).await.map_err(failed);
        if rows.is_err() {
            guard.finished = true;
        }
        Ok(Some(Box::new(RowReader {
            rows: Box::pin(rows?),
            guard,
            server: self.server.clone(),
            types: self.types.clone(),
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
    types: Vec<SqlType>,
    schema: SchemaRef,
    tools: ScanTools,
}

#[async_trait]
impl PortionReader for RowReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.guard.finished {
            return Ok(None);
        }
        let mut decoders: Vec<ColumnDecoder> =
            self.types.iter().map(|t| ColumnDecoder::new(t, self.tools.batch_rows)).collect::<Result<_>>()?;
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
                            error.message = format!("connection {}: {}", self.server.connection, error.message);
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
