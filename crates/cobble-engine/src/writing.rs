//! Keeping the rows of a query as a table: batches go to a thread that may wait for disks, and all of them or none become the table's.

use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringViewArray};
use cobble_connect::{TableWriter, Written};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use std::sync::Arc;
use tokio::sync::mpsc::{OwnedPermit, Receiver, Sender, channel};
use tokio::task::JoinHandle;

use crate::execution::ResultColumn;
use crate::memory_table::MemoryTable;

/// Batches that may wait for the disk.
const WAITING: usize = 4;

pub enum Step {
    Batch(RecordBatch),
    /// All rows have come. Without it the thread undoes what it has written.
    Done,
}

/// A write under way. Dropped before its end, it leaves nothing.
#[derive(Debug)]
pub struct Writing {
    table: ObjectName,
    sender: Sender<Step>,
    thread: JoinHandle<Result<Written>>,
}

fn write(mut writer: Box<dyn TableWriter>, mut steps: Receiver<Step>) -> Result<Written> {
    loop {
        match steps.blocking_recv() {
            Some(Step::Batch(batch)) => writer.write(&batch)?,
            Some(Step::Done) => return writer.finish(),
            None => return Err(Error::new(Code::Cancelled, "the run was cancelled")),
        }
    }
}

impl Writing {
    pub fn start(table: ObjectName, writer: Box<dyn TableWriter>) -> Writing {
        let (sender, steps) = channel(WAITING);
        let thread = tokio::task::spawn_blocking(move || write(writer, steps));
        Writing { table, sender, thread }
    }

    /// Waits until one more step can be taken; nothing when the thread has come to an end.
    pub async fn ready(&self) -> Option<OwnedPermit<Step>> {
        self.sender.clone().reserve_owned().await.ok()
    }

    /// What the thread ends with.
    pub async fn ended(&mut self) -> Result<MemoryTable> {
        let outcome = (&mut self.thread).await;
        let written = outcome.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))??;
        let number = |n: u64| Arc::new(Int64Array::from(vec![n as i64])) as ArrayRef;
        Ok(MemoryTable {
            columns: answer().into_iter().map(|column| (column.name, column.sql_type)).collect(),
            arrays: vec![
                Arc::new(StringViewArray::from(vec![self.table.to_string()])),
                number(written.rows),
                number(written.files),
                number(written.bytes),
            ],
            rows: 1,
        })
    }
}

/// The columns of the answer.
pub fn answer() -> Vec<ResultColumn> {
    let column = |name: &str, sql_type| ResultColumn { name: name.to_owned(), sql_type };
    vec![
        column("table", SqlType::Text),
        column("rows", SqlType::BigInt),
        column("files", SqlType::BigInt),
        column("bytes", SqlType::BigInt),
    ]
}
