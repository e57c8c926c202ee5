//! Running the agreed statement on a thread of its own; batches come through a channel. Dropping the reader interrupts SQLite.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::Column;
use cobble_plan::offer::{GateCounters, PortionReader, Portions, ScanTools};
use cobble_types::{Code, Error, Result, Value};
use rusqlite::InterruptHandle;
use rusqlite::types::{ToSqlOutput, ValueRef};
use tokio::sync::{mpsc, oneshot};

use super::{File, errors};
use crate::database::cells::{Cell, CellColumn};
use crate::database::{Parameter, Sql};

/// Batches that may wait for the reader.
const AHEAD: usize = 2;

pub struct Statement {
    file: Arc<File>,
    sql: Sql,
    columns: Vec<Column>,
    schema: SchemaRef,
    tools: ScanTools,
    claimed: AtomicBool,
}

impl Statement {
    pub fn new(file: Arc<File>, sql: Sql, columns: Vec<Column>, schema: SchemaRef, tools: ScanTools) -> Self {
        Statement { file, sql, columns, schema, tools, claimed: AtomicBool::new(false) }
    }
}

#[async_trait]
impl Portions for Statement {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.claimed.swap(true, Ordering::Relaxed) {
            return Ok(None);
        }
        let (send, batches) = mpsc::channel(AHEAD);
        let (send_handle, handle) = oneshot::channel();
        let (file, sql, columns) = (self.file.clone(), self.sql.clone(), self.columns.clone());
        let (schema, tools) = (self.schema.clone(), self.tools.clone());
        tokio::task::spawn_blocking(move || {
            let run = Running { file: &file, sql: &sql, columns: &columns, schema: &schema, tools: &tools };
            if let Err(error) = run.to_end(send_handle, &send) {
                let _ = send.blocking_send(Err(error));
            }
        });
        // Without a handle the thread has ended already, and its error waits in the channel.
        Ok(Some(Box::new(Reader { batches, handle: handle.await.ok() })))
    }
}

struct Reader {
    batches: mpsc::Receiver<Result<RecordBatch>>,
    handle: Option<InterruptHandle>,
}

impl Drop for Reader {
    fn drop(&mut self) {
        if let Some(handle) = &self.handle {
            handle.interrupt();
        }
    }
}

#[async_trait]
impl PortionReader for Reader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        self.batches.recv().await.transpose()
    }
}

struct Running<'a> {
    file: &'a File,
    sql: &'a Sql,
    columns: &'a [Column],
    schema: &'a SchemaRef,
    tools: &'a ScanTools,
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

impl Running<'_> {
    fn to_end(&self, handle: oneshot::Sender<InterruptHandle>, send: &mpsc::Sender<Result<RecordBatch>>) -> Result<()> {
        let failed = |e: rusqlite::Error| errors::error(self.file, &e);
        let connection = self.file.open()?;
        let _ = handle.send(connection.get_interrupt_handle());
        let mut statement = connection.prepare(&self.sql.numbered(self.file.dialect)).map_err(failed)?;
        for (place, parameter) in self.sql.parameters.iter().enumerate() {
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
            while count < self.tools.batch_rows {
                let Some(row) = rows.next().map_err(failed)? else {
                    ended = true;
                    break;
                };
                for (place, column) in columns.iter_mut().enumerate() {
                    let cell = match row.get_ref(place).map_err(failed)? {
                        ValueRef::Null => Cell::Null,
                        ValueRef::Integer(v) => Cell::Whole(v),
                        ValueRef::Real(v) => Cell::Real(v),
                        ValueRef::Blob(bytes) => Cell::Bytes(bytes),
                        ValueRef::Text(text) => Cell::Text(std::str::from_utf8(text).map_err(|_| {
                            errors::about(self.file, Code::SourceData, "it holds text that is not UTF-8")
                        })?),
                    };
                    bytes += cell.bytes();
                    column.append(cell).map_err(|error| Error {
                        message: format!("connection {}: {}", self.file.connection, error.message),
                        ..error
                    })?;
                }
                count += 1;
            }
            GateCounters::add(&self.tools.counters.bytes, bytes);
            if count > 0 {
                let arrays = columns.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
                let options = RecordBatchOptions::new().with_row_count(Some(count));
                let batch = RecordBatch::try_new_with_options(self.schema.clone(), arrays, &options)?;
                // Nobody reads any more: the statement ends with its connection.
                if send.blocking_send(Ok(batch)).is_err() {
                    return Ok(());
                }
            }
            if ended {
                return Ok(());
            }
        }
    }
}
