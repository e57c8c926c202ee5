//! Running the agreed statements, each on a thread of its own; batches come through channels. Dropping a reader interrupts SQLite.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::scan::{BATCH_BYTES, GateCounters, PortionReader, Portions, ScanTools};
use cobble_types::{Code, Error, Result, Value};
use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, InterruptHandle, Row};
use tokio::sync::mpsc;

use super::snapshot::Readers;
use super::{File, errors};
use cobble_connect_sql::cells::{Cell, CellColumn};
use cobble_connect_sql::{Parameter, StatementText};

/// Batches that may wait for the reader.
const AHEAD: usize = 2;

/// Each statement is one portion; several are read by connections that see one state of the file.
pub struct Statements {
    shared: Arc<Shared>,
    next: AtomicUsize,
}

struct Shared {
    file: Arc<File>,
    all: Vec<StatementText>,
    columns: Vec<Column>,
    schema: SchemaRef,
    tools: ScanTools,
    /// For several statements.
    readers: Option<Readers>,
}

impl Statements {
    pub fn new(
        file: Arc<File>,
        all: Vec<StatementText>,
        columns: Vec<Column>,
        schema: SchemaRef,
        tools: ScanTools,
    ) -> Self {
        let readers = (all.len() > 1).then(|| Readers::new(file.clone()));
        let shared = Shared { file, all, columns, schema, tools, readers };
        Statements { shared: Arc::new(shared), next: AtomicUsize::new(0) }
    }
}

#[async_trait]
impl Portions for Statements {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.next.load(Ordering::Relaxed) >= self.shared.all.len() {
            return Ok(None);
        }
        let shared = self.shared.clone();
        let taken = tokio::task::spawn_blocking(move || match &shared.readers {
            None => shared.file.open().map(Some),
            Some(readers) => readers.take(),
        });
        let taken = taken.await.map_err(|e| Error::internal(format!("a thread that opens a file ended: {e}")))??;
        let Some(connection) = taken else { return Ok(None) };
        let place = self.next.fetch_add(1, Ordering::Relaxed);
        let shared = self.shared.clone();
        if place >= shared.all.len() {
            shared.give_back(connection);
            return Ok(None);
        }
        GateCounters::add(&shared.tools.counters.requests, 1);
        let (send, batches) = mpsc::channel(AHEAD);
        let handle = connection.get_interrupt_handle();
        tokio::task::spawn_blocking(move || match shared.to_end(&connection, place, &send) {
            // Before the channel ends, so that who waits for its end finds the connection.
            Ok(true) => shared.give_back(connection),
            Ok(false) => {}
            Err(error) => drop(send.blocking_send(Err(error))),
        });
        Ok(Some(Box::new(Reader { batches, handle })))
    }
}

struct Reader {
    batches: mpsc::Receiver<Result<RecordBatch>>,
    handle: InterruptHandle,
}

impl Drop for Reader {
    fn drop(&mut self) {
        // Of a reading that has come to its end the connection may be at work for another one.
        if !self.batches.is_closed() {
            self.handle.interrupt();
        }
    }
}

#[async_trait]
impl PortionReader for Reader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        self.batches.recv().await.transpose()
    }
}

/// A bound value in SQLite's types.
pub fn bound(parameter: &Parameter) -> ToSqlOutput<'_> {
    let value = match &parameter.0 {
        Value::Null => rusqlite::types::Value::Null,
        Value::Boolean(v) => i64::from(*v).into(),
        Value::SmallInt(v) => i64::from(*v).into(),
        Value::Integer(v) => i64::from(*v).into(),
        Value::BigInt(v) => (*v).into(),
        Value::Real(v) => f64::from(*v).into(),
        Value::Double(v) => (*v).into(),
        Value::Bytea(v) => v.clone().into(),
        _ => parameter.text().into(),
    };
    ToSqlOutput::Owned(value)
}

/// A row's values at the ends of the columns; how many bytes they are.
pub fn read(file: &File, row: &Row, columns: &mut [CellColumn]) -> Result<u64> {
    let mut bytes = 0;
    for (place, column) in columns.iter_mut().enumerate() {
        let cell = match row.get_ref(place).map_err(|e| errors::error(file, &e))? {
            ValueRef::Null => Cell::Null,
            ValueRef::Integer(v) => Cell::Whole(v),
            ValueRef::Real(v) => Cell::Real(v),
            ValueRef::Blob(bytes) => Cell::Bytes(bytes),
            ValueRef::Text(text) => Cell::Text(
                std::str::from_utf8(text)
                    .map_err(|_| errors::about(file, Code::SourceData, "it holds text that is not UTF-8"))?,
            ),
        };
        bytes += cell.bytes();
        column.append(cell).map_err(|error| Error {
            message: format!("connection {}: {}", file.connection, error.message),
            ..error
        })?;
    }
    Ok(bytes)
}

impl Shared {
    /// A connection that has read its portion, for the next one.
    fn give_back(&self, connection: Connection) {
        if let Some(readers) = &self.readers {
            readers.give_back(connection);
        }
    }

    /// True when the end has been reached, false when nobody wants the rows.
    fn to_end(&self, connection: &Connection, place: usize, send: &mpsc::Sender<Result<RecordBatch>>) -> Result<bool> {
        let failed = |e: rusqlite::Error| errors::error(&self.file, &e);
        let sql = &self.all[place];
        let mut statement = connection.prepare(&sql.text).map_err(failed)?;
        for (place, parameter) in sql.parameters.iter().enumerate() {
            statement.raw_bind_parameter(place + 1, bound(parameter)).map_err(failed)?;
        }
        let mut rows = statement.raw_query();
        loop {
            let mut columns: Vec<CellColumn> = self
                .columns
                .iter()
                .map(|c| CellColumn::new(&c.name, &c.sql_type, self.tools.batch_rows))
                .collect::<Result<_>>()?;
            let (mut count, mut bytes, mut ended) = (0, 0, false);
            while count < self.tools.batch_rows && bytes < BATCH_BYTES {
                let Some(row) = rows.next().map_err(failed)? else {
                    ended = true;
                    break;
                };
                bytes += read(&self.file, row, &mut columns)?;
                count += 1;
            }
            GateCounters::add(&self.tools.counters.bytes, bytes);
            if count > 0 {
                let arrays = columns.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
                let options = RecordBatchOptions::new().with_row_count(Some(count));
                let batch = RecordBatch::try_new_with_options(self.schema.clone(), arrays, &options)?;
                // Nobody reads any more: the statement ends with its connection.
                if send.blocking_send(Ok(batch)).is_err() {
                    return Ok(false);
                }
            }
            if ended {
                return Ok(true);
            }
        }
    }
}
