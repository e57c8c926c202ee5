//! Keeping the rows of a query as a table: batches go to a thread that may wait for disks, and all of them or none become the table's.

use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringViewArray};
use cobble_connect::{TableWriter, Written};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc::{OwnedPermit, Receiver, Sender, channel};
use tokio::task::JoinHandle;

use crate::execution::ResultColumn;
use crate::memory_table::MemoryTable;
use crate::returning::Computed;

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
    /// Of the answer.
    pub columns: Vec<ResultColumn>,
    sender: Sender<Step>,
    thread: JoinHandle<Result<Ended>>,
}

/// What a write has come to.
#[derive(Debug)]
pub enum Ended {
    Table(MemoryTable),
    /// What RETURNING has made of the rows.
    Rows(Vec<RecordBatch>),
}

fn write(
    table: &ObjectName,
    mut writer: Box<dyn TableWriter>,
    returning: Option<&Computed>,
    mut steps: Receiver<Step>,
) -> Result<Ended> {
    loop {
        match steps.blocking_recv() {
            Some(Step::Batch(batch)) => writer.write(&batch)?,
            Some(Step::Done) => break,
            None => return Err(Error::new(Code::Cancelled, "the run was cancelled")),
        }
    }
    let Some(computed) = returning else { return Ok(Ended::Table(told(table, writer.finish(&|_| Ok(()))?))) };
    // Computed before the rows are there for good: where that fails, nothing is added.
    let made = Mutex::new(Vec::new());
    writer.finish(&|batches| {
        *made.lock().unwrap_or_else(PoisonError::into_inner) = computed.of(batches)?;
        Ok(())
    })?;
    Ok(Ended::Rows(made.into_inner().unwrap_or_else(PoisonError::into_inner)))
}

/// The answer of a write that gives no rows back.
fn told(table: &ObjectName, written: Written) -> MemoryTable {
    let number = |n: u64| Arc::new(Int64Array::from(vec![n as i64])) as ArrayRef;
    MemoryTable {
        columns: answer().into_iter().map(|column| (column.name, column.sql_type)).collect(),
        arrays: vec![
            Arc::new(StringViewArray::from(vec![table.to_string()])),
            number(written.rows),
            number(written.files),
            number(written.bytes),
        ],
        rows: 1,
    }
}

impl Writing {
    pub fn start(table: ObjectName, writer: Box<dyn TableWriter>, returning: Option<Computed>) -> Writing {
        let (sender, steps) = channel(WAITING);
        let columns = returning.as_ref().map_or_else(answer, |computed| computed.names.clone());
        let thread = tokio::task::spawn_blocking(move || write(&table, writer, returning.as_ref(), steps));
        Writing { columns, sender, thread }
    }

    /// Waits until one more step can be taken; nothing when the thread has come to an end.
    pub async fn ready(&self) -> Option<OwnedPermit<Step>> {
        self.sender.clone().reserve_owned().await.ok()
    }

    /// What the thread ends with.
    pub async fn ended(&mut self) -> Result<Ended> {
        let outcome = (&mut self.thread).await;
        outcome.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))?
    }
}

/// The columns of the answer.
fn answer() -> Vec<ResultColumn> {
    let column = |name: &str, sql_type| ResultColumn { name: name.to_owned(), sql_type };
    vec![
        column("table", SqlType::Text),
        column("rows", SqlType::BigInt),
        column("files", SqlType::BigInt),
        column("bytes", SqlType::BigInt),
    ]
}
