//! Running the agreed statement: rows stream in as the server makes them, a batch at a time, by COPY where no value is bound; dropping
//! the reader cancels the statement at the server. Several page ranges of one table are read at the same time, in one snapshot.

use std::pin::Pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use bytes::Bytes;
use cobble_plan::expr::Column;
use cobble_plan::scan::{BATCH_BYTES, GateCounters, PortionReader, Portions, ScanTools};
use cobble_types::{Code, Error, Result};
use deadpool_postgres::Timeouts;
use futures::StreamExt;
use tokio::runtime::Handle;
use tokio_postgres::{CopyOutStream, RowStream};

use super::copy::CopyRows;
use super::decode::{ColumnDecoder, Raw};
use super::dialect::PostgresDialect;
use super::parameter::{Bound, wire_type};
use super::pooled::Pooled;
use super::{Server, errors};
use cobble_connect_sql::{Dialect, StatementText};

/// Each statement is one portion.
pub struct Statements {
    shared: Arc<Shared>,
    next: AtomicUsize,
}

struct Shared {
    server: Arc<Server>,
    all: Vec<StatementText>,
    columns: Vec<Column>,
    schema: SchemaRef,
    tools: ScanTools,
    /// The snapshot of several statements, once the first connection has taken it.
    snapshot: tokio::sync::Mutex<Option<String>>,
    /// Connections in that snapshot that read nothing now. The first one lives as long as any: the snapshot goes with it.
    idle: Mutex<Vec<Pooled>>,
    /// Where connections are put in order after readers that end anywhere.
    runtime: Handle,
}

impl Statements {
    pub fn new(
        server: Arc<Server>,
        all: Vec<StatementText>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Self {
        let (snapshot, idle, runtime) = (Default::default(), Mutex::default(), Handle::current());
        let shared = Shared { server, all, columns, schema, tools, snapshot, idle, runtime };
        Statements { shared: Arc::new(shared), next: AtomicUsize::new(0) }
    }
}

impl Shared {
    fn idle(&self) -> std::sync::MutexGuard<'_, Vec<Pooled>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A connection in the one snapshot of all statements; none when there is one already that reads, and no other is free.
    async fn in_snapshot(&self) -> Result<Option<Pooled>> {
        let failed = |e: tokio_postgres::Error| errors::statement_error(&self.server, &e);
        let mut snapshot = self.snapshot.lock().await;
        if let Some(idle) = self.idle().pop() {
            return Ok(Some(idle));
        }
        let begin = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";
        let Some(known) = snapshot.as_ref() else {
            let client = self.server.client().await?;
            let client = Transaction(Some(client));
            client.run(begin).await.map_err(failed)?;
            let Some(open) = &client.0 else { return Ok(None) };
            let row = open.query_one("SELECT pg_export_snapshot()", &[]).await.map_err(failed)?;
            *snapshot = Some(row.get(0));
            return Ok(client.keep());
        };
        // Waiting here could mean waiting for each other: what is read by one connection is read by that alone.
        let at_once = Timeouts { wait: Some(Duration::ZERO), create: Some(self.server.connect_limit), recycle: None };
        let Ok(client) = self.server.pool.timeout_get(&at_once).await else { return Ok(None) };
        let client = Transaction(Some(Pooled::new(client)));
        client.run(&format!("{begin}; SET TRANSACTION SNAPSHOT '{known}'")).await.map_err(failed)?;
        Ok(client.keep())
    }
}

/// A connection in a transaction that goes when it is dropped.
struct Transaction(Option<Pooled>);

impl Transaction {
    async fn run(&self, text: &str) -> std::result::Result<(), tokio_postgres::Error> {
        match &self.0 {
            Some(client) => client.batch_execute(text).await,
            None => Ok(()),
        }
    }

    fn keep(mut self) -> Option<Pooled> {
        self.0.take()
    }
}

impl Drop for Transaction {
    fn drop(&mut self) {
        if let Some(client) = self.0.take() {
            client.give_up();
        }
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        let idle = std::mem::take(&mut *self.idle());
        if idle.is_empty() {
            return;
        }
        self.runtime.spawn(async move {
            for client in idle {
                let client = Transaction(Some(client));
                if client.run("ROLLBACK").await.is_ok() {
                    drop(client.keep());
                }
            }
        });
    }
}

#[async_trait]
impl Portions for Statements {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        self.shared.server.patience.wait(self.begun()).await
    }
}

impl Statements {
    async fn begun(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let shared = &self.shared;
        let is_divided = shared.all.len() > 1;
        if self.next.load(Ordering::Relaxed) >= shared.all.len() {
            return Ok(None);
        }
        let client = match is_divided {
            false => None,
            true => match shared.in_snapshot().await? {
                Some(client) => Some(client),
                None => return Ok(None),
            },
        };
        let mut guard = CancelGuard { client, finished: true, is_divided, shared: shared.clone() };
        let place = self.next.fetch_add(1, Ordering::Relaxed);
        let Some(sql) = shared.all.get(place) else { return Ok(None) };
        GateCounters::add(&shared.tools.counters.requests, 1);
        let failed = |e: tokio_postgres::Error| errors::statement_error(&shared.server, &e);
        let mut is_again = false;
        let rows = loop {
            if !is_divided {
                guard.client = Some(shared.server.client().await?);
            }
            // Cancelled while the server is still busy with the first row: the guard tells it to stop.
            guard.finished = false;
            let Some(client) = &guard.client else { return Err(Error::internal("a statement without a connection")) };
            let rows = shared.rows(client, sql, is_divided).await;
            // A transaction that failed is not one to go on with.
            guard.finished = rows.is_err() && !is_divided;
            match rows {
                // It had been closed while it waited in the pool, which nobody had noticed.
                Err(error) if error.is_closed() && !is_divided && !is_again => is_again = true,
                rows => break rows.map_err(failed)?,
            }
        };
        Ok(Some(Box::new(RowReader { rows, guard, shared: shared.clone() })))
    }
}

impl Shared {
    /// Asks for a statement's rows, in the transaction of the snapshot or in one of its own.
    async fn rows(
        &self,
        client: &Pooled,
        sql: &StatementText,
        is_divided: bool,
    ) -> std::result::Result<Rows, tokio_postgres::Error> {
        let plain = sql.parameters.is_empty() && !self.columns.is_empty();
        let text = PostgresDialect.sent(sql.text.clone(), plain);
        if plain {
            let copied = client.copy_out(&text);
            let stream = if is_divided { copied.await? } else { client.reading(copied).await? };
            return Ok(Rows::Copied(Box::pin(stream), CopyRows::default()));
        }
        let types: Vec<_> = sql.parameters.iter().map(wire_type).collect();
        let prepared = client.prepare_typed(&text, &types);
        let statement = if is_divided { prepared.await? } else { client.reading(prepared).await? };
        Ok(Rows::Bound(Box::pin(client.query_raw(&statement, sql.parameters.iter().map(Bound)).await?)))
    }
}

/// Holds the connection while its statement runs. Dropped before the end, it cancels the statement and gives the connection
/// up instead of returning it to the pool with rows still coming.
struct CancelGuard {
    client: Option<Pooled>,
    finished: bool,
    /// The connection is in the snapshot of several statements, to which it goes back.
    is_divided: bool,
    shared: Arc<Shared>,
}

impl Drop for CancelGuard {
    fn drop(&mut self) {
        let Some(client) = self.client.take() else { return };
        if self.finished {
            if self.is_divided {
                self.shared.idle().push(client);
            }
            return;
        }
        let (token, tls) = (client.cancel_token(), self.shared.server.tls.clone());
        client.give_up();
        self.shared.runtime.spawn(async move {
            // Best effort: the server notices the closed connection in any case.
            let _ = token.cancel_query(tls).await;
        });
    }
}

enum Rows {
    Bound(Pin<Box<RowStream>>),
    Copied(Pin<Box<CopyOutStream>>, CopyRows),
}

struct RowReader {
    rows: Rows,
    guard: CancelGuard,
    shared: Arc<Shared>,
}

impl RowReader {
    fn about(&self, place: usize, mut error: Error) -> Error {
        let (connection, column) = (&self.shared.server.connection, &self.shared.columns[place].name);
        error.message = format!("connection {connection}: column {column}: {}", error.message);
        error
    }

    /// The next row into the columns, with its bytes; none at the end.
    async fn row(&mut self, decoders: &mut [ColumnDecoder]) -> Result<Option<u64>> {
        let shared = self.shared.clone();
        let failed = |e: tokio_postgres::Error| errors::statement_error(&shared.server, &e);
        let mut bytes = 0;
        match &mut self.rows {
            Rows::Bound(rows) => {
                let Some(row) = rows.next().await.transpose().map_err(failed)? else { return Ok(None) };
                for (place, decoder) in decoders.iter_mut().enumerate() {
                    let raw: Option<Raw> = row.try_get(place).map_err(failed)?;
                    bytes += 4 + raw.as_ref().map_or(0, |raw| raw.0.len() as u64);
                    decoder.append(raw.map(|raw| raw.0)).map_err(|e| self.about(place, e))?;
                }
            }
            Rows::Copied(stream, rows) => loop {
                let unread = |e: &str| {
                    let what = format!("connection {}: rows cannot be read: {e}", shared.server.connection);
                    Error::new(Code::SourceData, what)
                };
                let taken = rows.row(decoders.len(), |place, raw| {
                    bytes += 4 + raw.map_or(0, |raw: &[u8]| raw.len() as u64);
                    decoders[place].append(raw).map_err(|error| (place, error))
                });
                match taken {
                    Ok(Some(true)) => break,
                    Ok(Some(false)) => return Ok(None),
                    Ok(None) => {
                        let more: Option<Bytes> = stream.next().await.transpose().map_err(failed)?;
                        rows.take(more.ok_or_else(|| unread("they end too early"))?);
                    }
                    Err(super::copy::Fault::Value(place, error)) => return Err(self.about(place, error)),
                    Err(super::copy::Fault::Form(what)) => return Err(unread(what)),
                }
            },
        }
        Ok(Some(bytes))
    }

    /// Reads on to the end that the server tells, after the last row.
    async fn ended(&mut self) -> Result<()> {
        if let Rows::Copied(stream, _) = &mut self.rows {
            while let Some(rest) = stream.next().await {
                rest.map_err(|e| errors::statement_error(&self.shared.server, &e))?;
            }
        }
        self.guard.finished = true;
        Ok(())
    }
}

#[async_trait]
impl PortionReader for RowReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let patience = self.shared.server.patience.clone();
        patience.wait(self.batch()).await
    }
}

impl RowReader {
    async fn batch(&mut self) -> Result<Option<RecordBatch>> {
        if self.guard.finished {
            return Ok(None);
        }
        let (shared, batch_rows) = (self.shared.clone(), self.shared.tools.batch_rows);
        let mut decoders: Vec<ColumnDecoder> =
            shared.columns.iter().map(|c| ColumnDecoder::new(&c.sql_type, batch_rows)).collect::<Result<_>>()?;
        let (mut rows, mut bytes) = (0usize, 0u64);
        while rows < batch_rows && bytes < BATCH_BYTES {
            match self.row(&mut decoders).await? {
                None => {
                    self.ended().await?;
                    break;
                }
                Some(read) => {
                    bytes += read;
                    rows += 1;
                }
            }
        }
        GateCounters::add(&shared.tools.counters.bytes, bytes);
        if rows == 0 {
            return Ok(None);
        }
        let columns = decoders.into_iter().map(ColumnDecoder::finish).collect::<Result<_>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        Ok(Some(RecordBatch::try_new_with_options(shared.schema.clone(), columns, &options)?))
    }
}
