//! Running the agreed statement: rows stream in as the server makes them. Dropping the reader ends the statement at the server.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::scan::{BATCH_BYTES, GateCounters, PortionReader, Portions, ScanTools};
use cobble_types::{Code, Error, Result, SqlType, Value};
use mysql_async::prelude::Queryable;
use mysql_async::{Params, Row};
use tokio::sync::{mpsc, oneshot};

use super::pooled::Pooled;
use super::snapshot::Readers;
use super::{Server, errors};
use cobble_connect_sql::cells::{Cell, CellColumn};
use cobble_connect_sql::{Parameter, StatementText};

/// Batches that may wait for the reader.
const AHEAD: usize = 2;

/// Each statement is one portion; several are read by connections that have one view.
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
    /// For several statements.
    readers: Option<Readers>,
}

impl Statements {
    pub fn new(
        server: Arc<Server>,
        all: Vec<StatementText>,
        table: Arc<str>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Self {
        let readers = (all.len() > 1).then(|| Readers::new(server.clone(), table));
        let shared = Shared { server, all, columns, schema, tools, readers };
        Statements { shared: Arc::new(shared), next: AtomicUsize::new(0) }
    }
}

#[async_trait]
impl Portions for Statements {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let shared = &self.shared;
        if self.next.load(Ordering::Relaxed) >= shared.all.len() {
            return Ok(None);
        }
        let view = match &shared.readers {
            None => None,
            Some(readers) => match shared.server.patience.wait(readers.take()).await? {
                Some(client) => Some(client),
                None => return Ok(None),
            },
        };
        let place = self.next.fetch_add(1, Ordering::Relaxed);
        let Some(sql) = shared.all.get(place).cloned() else {
            view.into_iter().for_each(|client| shared.give_back(client));
            return Ok(None);
        };
        let client = match view {
            Some(client) => client,
            None => shared.server.patience.wait(shared.begun()).await?,
        };
        GateCounters::add(&shared.tools.counters.requests, 1);
        let (send, batches) = mpsc::channel(AHEAD);
        let (stop, stopped) = oneshot::channel();
        tokio::spawn(Running { shared: shared.clone(), sql }.run(client, send, stopped));
        Ok(Some(Box::new(Reader { server: shared.server.clone(), batches, _stop: stop })))
    }
}

impl Shared {
    /// A connection in a transaction that only reads. It is rolled back when the pool takes the connection.
    async fn begun(&self) -> Result<Pooled> {
        let begin = "START TRANSACTION READ ONLY";
        let mut client = self.server.client().await?;
        let mut begun = client.query_drop(begin).await;
        if let Err(mysql_async::Error::Io(_)) = begun {
            // It had been closed while it waited in the pool, which nobody had noticed.
            client = self.server.client().await?;
            begun = client.query_drop(begin).await;
        }
        begun.map_err(|e| errors::error(&self.server, &e))?;
        Ok(client)
    }

    /// A connection that has read its portion, for the next one.
    fn give_back(&self, client: Pooled) {
        if let Some(readers) = &self.readers {
            readers.give_back(client);
        }
    }
}

/// Dropped with its sender of `stop`, which ends the statement.
struct Reader {
    server: Arc<Server>,
    batches: mpsc::Receiver<Result<RecordBatch>>,
    _stop: oneshot::Sender<()>,
}

#[async_trait]
impl PortionReader for Reader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let batches = &mut self.batches;
        self.server.patience.wait(async { batches.recv().await.transpose() }).await
    }
}

struct Running {
    shared: Arc<Shared>,
    sql: StatementText,
}

/// A bound value in the driver's types.
pub fn bound(parameter: &Parameter) -> mysql_async::Value {
    match &parameter.0 {
        Value::Null => mysql_async::Value::NULL,
        Value::Boolean(v) => i64::from(*v).into(),
        Value::SmallInt(v) => i64::from(*v).into(),
        Value::Integer(v) => i64::from(*v).into(),
        Value::BigInt(v) => (*v).into(),
        Value::Real(v) => f64::from(*v).into(),
        Value::Double(v) => (*v).into(),
        Value::Bytea(v) => v.clone().into(),
        _ => parameter.text().into(),
    }
}

impl Running {
    async fn run(self, mut client: Pooled, send: mpsc::Sender<Result<RecordBatch>>, stopped: oneshot::Receiver<()>) {
        let number = client.id();
        let outcome = tokio::select! {
            outcome = self.rows(&mut client, &send) => Some(outcome),
            _ = stopped => None,
        };
        match outcome {
            Some(Ok(true)) => self.shared.give_back(client),
            Some(Ok(false)) | None => {
                // Nobody reads any more: the server is told, and the connection given up with what still comes.
                self.shared.server.end_statement(number).await;
                drop(client);
            }
            Some(Err(error)) => {
                let _ = send.send(Err(error)).await;
            }
        }
    }

    /// True when the end has been reached, false when nobody wants the rows.
    async fn rows(&self, client: &mut Pooled, send: &mpsc::Sender<Result<RecordBatch>>) -> Result<bool> {
        let failed = |e: mysql_async::Error| errors::error(&self.shared.server, &e);
        let parameters: Vec<mysql_async::Value> = self.sql.parameters.iter().map(bound).collect();
        let parameters = if parameters.is_empty() { Params::Empty } else { Params::Positional(parameters) };
        let mut result = client.exec_iter(&self.sql.text, parameters).await.map_err(failed)?;
        loop {
            let mut columns: Vec<CellColumn> = self
                .shared
                .columns
                .iter()
                .map(|c| CellColumn::new(&c.name, &c.sql_type, self.shared.tools.batch_rows))
                .collect::<Result<_>>()?;
            let (mut count, mut bytes, mut ended) = (0, 0, false);
            while count < self.shared.tools.batch_rows && bytes < BATCH_BYTES {
                let Some(row) = result.next().await.map_err(failed)? else {
                    ended = true;
                    break;
                };
                bytes += read(&self.shared.server, &row, &self.shared.columns, &mut columns)?;
                count += 1;
            }
            GateCounters::add(&self.shared.tools.counters.bytes, bytes);
            if count > 0 {
                let arrays = columns.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
                let options = RecordBatchOptions::new().with_row_count(Some(count));
                let batch = RecordBatch::try_new_with_options(self.shared.schema.clone(), arrays, &options)?;
                if send.send(Ok(batch)).await.is_err() {
                    return Ok(false);
                }
            }
            if ended {
                return Ok(true);
            }
        }
    }
}

/// A row's values at the ends of the columns; how many bytes they are.
pub fn read(server: &Server, row: &Row, described: &[Column], columns: &mut [CellColumn]) -> Result<u64> {
    let mut bytes = 0;
    for (place, (column, described)) in columns.iter_mut().zip(described).enumerate() {
        let value = row.as_ref(place).unwrap_or(&mysql_async::Value::NULL);
        bytes += append(server, column, value, &described.sql_type)?;
    }
    Ok(bytes)
}

fn append(server: &Server, column: &mut CellColumn, value: &mysql_async::Value, sql_type: &SqlType) -> Result<u64> {
    use mysql_async::Value as V;
    let text;
    let cell = match value {
        V::NULL => Cell::Null,
        V::Int(v) => Cell::Whole(*v),
        V::UInt(v) => Cell::Unsigned(*v),
        V::Float(v) => Cell::Real(f64::from(*v)),
        V::Double(v) => Cell::Real(*v),
        V::Bytes(bytes) if *sql_type == SqlType::Bytea => Cell::Bytes(bytes),
        V::Bytes(bytes) => {
            let text = std::str::from_utf8(bytes)
                .map_err(|_| errors::about(server, Code::SourceData, "it holds text that is not UTF-8"))?;
            // Sums of whole numbers come as decimals.
            let whole = if sql_type.is_integer() { text.parse().ok() } else { None };
            whole.map_or(Cell::Text(text), Cell::Whole)
        }
        V::Date(year, month, day, hour, minute, second, micros) => {
            let date = format!("{year:04}-{month:02}-{day:02}");
            text = match sql_type {
                SqlType::Date => date,
                _ => format!("{date} {hour:02}:{minute:02}:{second:02}.{micros:06}"),
            };
            Cell::Text(&text)
        }
        V::Time(negative, days, hours, minutes, seconds, micros) => {
            let hours = u64::from(*days) * 24 + u64::from(*hours);
            let sign = if *negative { "-" } else { "" };
            text = format!("{sign}{hours:02}:{minutes:02}:{seconds:02}.{micros:06}");
            Cell::Text(&text)
        }
    };
    column
        .append(cell)
        .map_err(|error| Error { message: format!("connection {}: {}", server.connection, error.message), ..error })?;
    Ok(cell.bytes())
}
