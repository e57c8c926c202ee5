//! Writing rows, and letting a source change its own. Both prepare the write first; what RETURNING computes is computed then; and the
//! commit comes last, so that a failure at any step before it leaves nothing.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringViewArray};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::scan::GateCounters;
use cobble_plan::sink::{Outcome, Prepared, Returning, SourceChange, TableWriter};
use cobble_types::{Error, ObjectName, Result};
use tokio::sync::Mutex as AsyncMutex;
use tokio::sync::mpsc::{Receiver, Sender, channel};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::batch::{batch_of, schema_of};
use crate::expression::{Compiled, Places};
use crate::measures::StepMeter;
use crate::operators::handoff::Handoff;
use crate::pipeline::{Source, SourceTask};

/// Batches that may wait for the disk.
const WAITING: usize = 4;

/// What comes out of a write: what RETURNING computes of each row, or the table and how much was written.
pub struct Answer {
    table: ObjectName,
    returned: Option<Vec<Compiled>>,
    schema: SchemaRef,
}

impl Answer {
    pub fn new(table: &ObjectName, returning: Option<&Returning>, columns: &[cobble_plan::Column]) -> Result<Answer> {
        let compiled = returning.map(|returning| {
            let places = Places::of(&returning.columns);
            returning.made.iter().map(|(_, made)| places.compile(made)).collect::<Result<Vec<_>>>()
        });
        Ok(Answer { table: table.clone(), returned: compiled.transpose()?, schema: schema_of(columns) })
    }

    fn batches(&self, outcome: &Outcome) -> Result<Vec<RecordBatch>> {
        let Some(returned) = &self.returned else {
            let numbers = [outcome.rows, outcome.files, outcome.bytes];
            let numbers = numbers.into_iter().map(|n| Arc::new(Int64Array::from(vec![n as i64])) as ArrayRef);
            let table: ArrayRef = Arc::new(StringViewArray::from(vec![self.table.to_string()]));
            let columns = std::iter::once(table).chain(numbers).take(self.schema.fields().len());
            return Ok(vec![batch_of(&self.schema, columns.collect(), 1)?]);
        };
        let one = |batch: &RecordBatch| {
            let arrays = returned.iter().map(|made| made.array(batch)).collect::<Result<Vec<_>>>()?;
            batch_of(&self.schema, arrays, batch.num_rows())
        };
        outcome.returned.iter().map(one).collect()
    }

    /// Computes the answer and commits. From here on nothing stops the write: a commit that was begun runs to its end.
    async fn committed(&self, mut prepared: Box<dyn Prepared>) -> Result<(Outcome, Vec<RecordBatch>)> {
        let outcome = prepared.outcome();
        let batches = self.batches(&outcome)?;
        let commit = tokio::spawn(async move { prepared.commit().await });
        commit.await.map_err(|e| Error::internal(format!("a commit stopped: {e}")))??;
        Ok((outcome, batches))
    }
}

enum Step {
    Batch(RecordBatch),
    /// All rows have come. Without it the thread undoes what it has written.
    Done,
}

/// Rows on their way to a writer, which has a thread that may wait for disks and servers.
pub struct Writing {
    answer: Answer,
    sender: Mutex<Option<Sender<Step>>>,
    thread: AsyncMutex<Thread>,
    pub out: Arc<Handoff>,
    meter: Arc<StepMeter>,
}

enum Thread {
    Runs(JoinHandle<Result<Box<dyn Prepared>>>),
    Ended(Error),
}

fn write(mut writer: Box<dyn TableWriter>, mut steps: Receiver<Step>, meter: &StepMeter) -> Result<Box<dyn Prepared>> {
    loop {
        let Some(step) = steps.blocking_recv() else { return Err(Error::cancelled()) };
        let started = Instant::now();
        match step {
            Step::Batch(batch) => writer.write(&batch)?,
            Step::Done => {
                let prepared = writer.prepare();
                meter.worked(started.elapsed());
                return prepared;
            }
        }
        meter.worked(started.elapsed());
    }
}

impl Writing {
    /// Starts the writer's thread.
    pub fn start(writer: Box<dyn TableWriter>, answer: Answer, meter: Arc<StepMeter>) -> Writing {
        let (sender, steps) = channel(WAITING);
        let own = meter.clone();
        let thread = tokio::task::spawn_blocking(move || write(writer, steps, &own));
        Writing {
            answer,
            sender: Mutex::new(Some(sender)),
            thread: AsyncMutex::new(Thread::Runs(thread)),
            out: Arc::default(),
            meter,
        }
    }

    async fn send(&self, step: Step, cancel: &CancellationToken) -> Result<()> {
        let sender = self.sender.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let Some(sender) = sender else { return Err(Error::internal("rows for a write that has ended")) };
        tokio::select! {
            biased;
            () = cancel.cancelled() => Err(Error::cancelled()),
            sent = sender.send(step) => match sent {
                Ok(()) => Ok(()),
                // The thread has ended before its time, and says why.
                Err(_) => Err(self.ended(cancel).await.err().unwrap_or_else(|| Error::internal("a write ended early"))),
            },
        }
    }

    /// What the thread ends with.
    async fn ended(&self, cancel: &CancellationToken) -> Result<Box<dyn Prepared>> {
        let mut thread = self.thread.lock().await;
        let outcome = match &mut *thread {
            Thread::Ended(error) => return Err(error.clone()),
            Thread::Runs(handle) => tokio::select! {
                biased;
                () = cancel.cancelled() => Err(Error::cancelled()),
                outcome = handle => outcome.unwrap_or_else(|e| Err(Error::internal(format!("a thread that writes stopped: {e}")))),
            },
        };
        let kept = outcome.as_ref().err().cloned().unwrap_or_else(|| Error::internal("a write was completed twice"));
        *thread = Thread::Ended(kept);
        outcome
    }

    pub async fn push(&self, batch: RecordBatch, cancel: &CancellationToken) -> Result<()> {
        let rows = batch.num_rows();
        self.send(Step::Batch(batch), cancel).await?;
        self.meter.output(rows);
        Ok(())
    }

    /// All rows have come: completes the write and leaves its answer.
    pub async fn finish(&self, cancel: &CancellationToken) -> Result<()> {
        self.send(Step::Done, cancel).await?;
        self.sender.lock().unwrap_or_else(PoisonError::into_inner).take();
        let prepared = self.ended(cancel).await?;
        let started = Instant::now();
        let (_, batches) = self.answer.committed(prepared).await?;
        self.meter.worked(started.elapsed());
        batches.iter().for_each(|batch| self.out.put(batch));
        Ok(())
    }
}

/// A change that its source makes when the rows are asked for.
pub struct Changing {
    pub change: Arc<dyn SourceChange>,
    pub answer: Arc<Answer>,
    pub counters: Arc<GateCounters>,
    pub meter: Arc<StepMeter>,
    /// Of the step of the gate below.
    pub gate: Arc<StepMeter>,
    pub cancel: CancellationToken,
}

struct ChangingTask {
    change: Option<Arc<dyn SourceChange>>,
    answer: Arc<Answer>,
    counters: Arc<GateCounters>,
    meter: Arc<StepMeter>,
    gate: Arc<StepMeter>,
    cancel: CancellationToken,
    out: std::vec::IntoIter<RecordBatch>,
}

impl Source for Changing {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(ChangingTask {
            change: Some(self.change.clone()),
            answer: self.answer.clone(),
            counters: self.counters.clone(),
            meter: self.meter.clone(),
            gate: self.gate.clone(),
            cancel: self.cancel.clone(),
            out: vec![].into_iter(),
        })
    }
}

#[async_trait]
impl SourceTask for ChangingTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if let Some(change) = self.change.take() {
            GateCounters::add(&self.counters.requests, 1);
            let started = Instant::now();
            // Of its own: cancelled, it must still tell the source, also when nobody waits for it any more.
            let cancel = self.cancel.clone();
            let preparation = tokio::spawn(async move { change.prepare(&cancel).await });
            let prepared = preparation.await.map_err(|e| Error::internal(format!("a change stopped: {e}")))??;
            let (outcome, batches) = self.answer.committed(prepared).await?;
            // What comes back crosses the gate; without RETURNING nothing does.
            let crossed = outcome.returned.iter().map(RecordBatch::num_rows).sum();
            GateCounters::add(&self.counters.rows, crossed as u64);
            GateCounters::add(&self.counters.bytes, outcome.received);
            self.gate.output(crossed);
            // The rows of the step are those that were changed, not those of the answer.
            self.meter.worked(started.elapsed());
            self.meter.output(outcome.rows as usize);
            self.out = batches.into_iter();
        }
        Ok(self.out.next())
    }
}
