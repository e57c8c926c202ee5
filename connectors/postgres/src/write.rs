//! Writing rows with COPY, in one transaction that is committed when all of them have come.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use arrow::array::RecordBatch;
use async_trait::async_trait;
use bytes::{BufMut, Bytes, BytesMut};
use cobble_plan::expr::Column;
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_types::{Code, Error, Result, SqlType, array_value_text};
use futures::SinkExt;
use tokio::runtime::Handle;
use tokio_postgres::CopyInSink;

use super::change::returned;
use super::dialect::PostgresDialect;
use super::pooled::Pooled;
use super::{Server, errors};
use cobble_connect::TableChange;
use cobble_connect_sql::change::unknown_outcome;
use cobble_connect_sql::{Dialect, write};

/// The table that rows are copied into which come back.
const STAGED: &str = "pg_temp.\"rows to add\"";

pub struct CopyWriter {
    server: Arc<Server>,
    /// Given up with its transaction unless all went well.
    client: Option<Pooled>,
    rows: Pin<Box<CopyInSink<Bytes>>>,
    /// Rows that come back are copied into a table of the transaction's own first: this adds them, and gives these columns.
    adding: Option<(String, Vec<Column>)>,
    outcome: Outcome,
    runtime: Handle,
}

fn type_name(sql_type: &SqlType) -> Option<String> {
    match sql_type {
        SqlType::Row(_) => None,
        SqlType::Array(item) => Some(format!("{}[]", type_name(item)?)),
        SqlType::Null => Some("text".to_owned()),
        other => Some(other.to_string()),
    }
}

impl CopyWriter {
    pub async fn new(server: &Arc<Server>, rows: NewRows) -> Result<CopyWriter> {
        write::check(&server.connection, server.writable, &rows)?;
        let dialect = &PostgresDialect;
        let place = format!("{}.{}", dialect.quoted(&rows.schema), dialect.quoted(&rows.table));
        let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
        let client = Unfinished::new(server.client().await?);
        let open = client.open()?;
        open.batch_execute("BEGIN READ WRITE").await.map_err(failed)?;
        if rows.create {
            let make = write::create(&server.connection, dialect, &place, &rows, type_name)?;
            open.batch_execute(&make).await.map_err(failed)?;
        }
        let names = write::names(dialect, &rows.columns);
        let mut target = place.clone();
        let mut adding = None;
        if let Some(added) = &rows.returned {
            let make =
                format!("CREATE TEMPORARY TABLE {STAGED} ON COMMIT DROP AS SELECT {names} FROM {place} WITH NO DATA");
            open.batch_execute(&make).await.map_err(failed)?;
            target = STAGED.to_owned();
            let add = format!("INSERT INTO {place} ({names}) SELECT {names} FROM {STAGED}{}", write::returning(&rows));
            adding = Some((add, added.columns.clone()));
        }
        let copy = format!("COPY {target} ({names}) FROM STDIN (FORMAT csv, NULL '')");
        let sink = open.copy_in(&copy).await.map_err(failed)?;
        Ok(CopyWriter {
            server: server.clone(),
            client: client.keep(),
            rows: Box::pin(sink),
            adding,
            outcome: Outcome::default(),
            runtime: Handle::current(),
        })
    }
}

/// Drops or empties a table.
pub async fn change_table(server: &Arc<Server>, schema: &str, table: &str, change: TableChange) -> Result<()> {
    write::allowed(&server.connection, server.writable)?;
    let dialect = &PostgresDialect;
    let place = format!("{}.{}", dialect.quoted(schema), dialect.quoted(table));
    let statement = write::change(change, &place, "TRUNCATE TABLE");
    let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
    let client = Unfinished::new(server.client().await?);
    let work =
        async { client.open()?.batch_execute(&format!("BEGIN READ WRITE; {statement}; COMMIT")).await.map_err(failed) };
    server.patience.wait(work).await?;
    drop(client.keep());
    Ok(())
}

/// A connection in a transaction that goes, and takes the transaction with it, when it is dropped.
pub struct Unfinished(Option<Pooled>);

impl Unfinished {
    pub fn new(client: Pooled) -> Unfinished {
        Unfinished(Some(client))
    }

    pub fn open(&self) -> Result<&Pooled> {
        self.0.as_ref().ok_or_else(|| Error::internal("a write without a connection"))
    }

    pub fn keep(mut self) -> Option<Pooled> {
        self.0.take()
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        if let Some(client) = self.0.take() {
            client.give_up();
        }
    }
}

impl Drop for CopyWriter {
    fn drop(&mut self) {
        if let Some(client) = self.client.take() {
            client.give_up();
        }
    }
}

impl TableWriter for CopyWriter {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let mut lines = BytesMut::new();
        for row in 0..batch.num_rows() {
            for (place, column) in batch.columns().iter().enumerate() {
                if place > 0 {
                    lines.put_u8(b',');
                }
                // In quotes also the empty text is one; without them it is null.
                if let Some(text) = array_value_text(column.as_ref(), row) {
                    lines.put_u8(b'"');
                    lines.put_slice(text.replace('"', "\"\"").as_bytes());
                    lines.put_u8(b'"');
                }
            }
            lines.put_u8(b'\n');
        }
        self.outcome.rows += batch.num_rows() as u64;
        self.outcome.bytes += lines.len() as u64;
        let (server, rows) = (&self.server, &mut self.rows);
        let sent = async { rows.send(lines.freeze()).await.map_err(|e| errors::statement_error(server, &e)) };
        self.runtime.block_on(server.patience.wait(sent))
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        let server = self.server.clone();
        let failed = |e: tokio_postgres::Error| errors::statement_error(&server, &e);
        let (rows, client, runtime) = (self.rows.as_mut(), &self.client, self.runtime.clone());
        let adding = self.adding.take();
        let back = runtime.block_on(server.patience.wait(async {
            rows.finish().await.map_err(failed)?;
            let Some(client) = client else { return Err(Error::internal("a write without a connection")) };
            let Some((add, columns)) = adding else { return Ok(None) };
            let statement = client.prepare(&add).await.map_err(failed)?;
            returned(&server, client, &statement, &[], &columns).await.map(Some)
        }))?;
        if let Some((back, _, received)) = back {
            (self.outcome.returned, self.outcome.received) = (back.batches, received);
        }
        let client = self.client.take().ok_or_else(|| Error::internal("a write without a connection"))?;
        let outcome = std::mem::take(&mut self.outcome);
        Ok(Box::new(Transaction { server, client: Unfinished::new(client), outcome }))
    }
}

/// A transaction in which all has been done but its end.
pub struct Transaction {
    pub server: Arc<Server>,
    pub client: Unfinished,
    pub outcome: Outcome,
}

#[async_trait]
impl Prepared for Transaction {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(self: Box<Self>) -> Result<()> {
        let server = &self.server;
        let open = self.client.open()?;
        let failed = |e: tokio_postgres::Error| errors::statement_error(server, &e);
        let committed = async { open.batch_execute("COMMIT").await.map_err(failed) };
        server.patience.wait(committed).await.map_err(|e| match e.code {
            Code::SourceUnreachable | Code::SourceTimeout => unknown_outcome(e),
            _ => e,
        })?;
        server.has_changed.store(true, Ordering::Relaxed);
        // All went well: the connection goes back to the pool.
        drop(self.client.keep());
        Ok(())
    }
}
