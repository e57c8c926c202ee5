//! A statement being executed, or its answer when it is already there.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Instant;

use arrow::array::{Array, ArrayRef, AsArray, ListArray, RecordBatch, RecordBatchOptions, StructArray};
use arrow::datatypes::{DataType, Field, Fields, Schema, TimeUnit, TimestampMicrosecondType};
use cobble_exec::RunningQuery;
use cobble_plan::document::{PlanDocument, RunMeasures};
use cobble_plan::scan::Changed;
use cobble_types::{Code, Error, ObjectName, Position, Result, SqlType};
use serde::{Deserialize, Serialize};
use tokio::task::JoinHandle;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::analyze::{ANSWER, Analysis};
use crate::changing::{self, PlannedChange};
use crate::memory_table::MemoryTable;
use crate::writing::{Ended, Step, Writing};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResultColumn {
    pub name: String,
    pub sql_type: SqlType,
}

/// Columns, rows as they come, and the plan with its measures so far.
#[derive(Debug)]
pub struct Execution {
    pub columns: Vec<ResultColumn>,
    /// What a statement without rows has done, such as "now in fleet.public".
    pub message: Option<String>,
    rows: Rows,
    rows_out: u64,
    /// What the rows of the query are wanted for, when they are not the answer themselves.
    analysis: Option<Analysis>,
    /// Its rows so far.
    found: Vec<RecordBatch>,
    /// Where the rows go instead, when they are kept as a table.
    writing: Option<Writing>,
    /// What comes out when it has ended.
    returned: Option<std::vec::IntoIter<RecordBatch>>,
    /// The zone that its moments are shown in.
    returned_in: Option<Arc<str>>,
    /// The zone that moments are shown in.
    zone: Option<Arc<str>>,
    /// Where the statement divides, if it does so at one place only.
    divides_at: Option<Position>,
}

/// An error of running with its place in the statement, as far as that is known.
pub(crate) fn explained(error: Error, divides_at: Option<Position>) -> Error {
    if error.code != Code::DivisionByZero {
        return error;
    }
    let error = error.at(divides_at);
    match &error.hint {
        Some(_) => error,
        None => error.hint("nullif(divisor, 0) makes it null where the divisor is 0"),
    }
}

#[derive(Debug)]
enum Rows {
    Running {
        query: Box<RunningQuery>,
        document: Arc<PlanDocument>,
        planning_seconds: f64,
        seconds: Option<f64>,
    },
    /// A source changes rows of this table.
    Changing {
        table: ObjectName,
        work: JoinHandle<Result<Changed>>,
        planned: Box<PlannedChange>,
        clock: Clock,
        _stop: DropGuard,
    },
    Ready(VecDeque<RecordBatch>),
}

/// Seconds since the start, until the end.
#[derive(Debug)]
struct Clock {
    started: Instant,
    seconds: Option<f64>,
}

impl Clock {
    fn seconds(&self) -> f64 {
        self.seconds.unwrap_or_else(|| self.started.elapsed().as_secs_f64())
    }
}

fn batch(table: MemoryTable) -> Result<RecordBatch> {
    let fields: Vec<Field> = table.columns.iter().map(|(name, t)| Field::new(name, t.to_arrow(), true)).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(table.rows));
    Ok(RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), table.arrays, &options)?)
}

/// The same moments, marked with the zone that they are shown in, also inside of arrays and rows.
fn shown_in(batch: &RecordBatch, zone: &Arc<str>) -> Result<RecordBatch> {
    let columns: Vec<ArrayRef> = batch.columns().iter().map(|column| column_in(column, zone)).collect::<Result<_>>()?;
    let fields = batch.schema();
    let fields = fields.fields().iter().zip(&columns).map(|(field, column)| like(field, column));
    let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    Ok(RecordBatch::try_new_with_options(schema, columns, &options)?)
}

fn like(field: &Field, column: &ArrayRef) -> Arc<Field> {
    Arc::new(field.clone().with_data_type(column.data_type().clone()))
}

fn column_in(column: &ArrayRef, zone: &Arc<str>) -> Result<ArrayRef> {
    Ok(match column.data_type() {
        DataType::Timestamp(TimeUnit::Microsecond, Some(_)) => {
            Arc::new(column.as_primitive::<TimestampMicrosecondType>().clone().with_timezone(zone.clone()))
        }
        DataType::List(field) => {
            let list = column.as_list::<i32>();
            let values = column_in(list.values(), zone)?;
            let (offsets, nulls) = (list.offsets().clone(), list.nulls().cloned());
            Arc::new(ListArray::try_new(like(field, &values), offsets, values, nulls)?)
        }
        DataType::Struct(fields) => {
            let row = column.as_struct();
            let parts: Vec<ArrayRef> = row.columns().iter().map(|part| column_in(part, zone)).collect::<Result<_>>()?;
            let fields: Fields = fields.iter().zip(&parts).map(|(field, part)| like(field, part)).collect();
            Arc::new(StructArray::try_new_with_length(fields, parts, row.nulls().cloned(), row.len())?)
        }
        _ => column.clone(),
    })
}

/// How far a run has come.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Progress {
    /// Rows that have crossed the gates.
    pub rows_read: u64,
    pub bytes_read: u64,
    /// Rows of the result so far.
    pub rows_out: u64,
    pub seconds: f64,
}

impl Execution {
    fn of(columns: Vec<ResultColumn>, rows: Rows) -> Self {
        Execution {
            columns,
            message: None,
            rows,
            rows_out: 0,
            analysis: None,
            found: Vec::new(),
            writing: None,
            returned: None,
            returned_in: None,
            zone: None,
            divides_at: None,
        }
    }

    pub(crate) fn running(
        columns: Vec<ResultColumn>,
        query: RunningQuery,
        document: PlanDocument,
        planning_seconds: f64,
    ) -> Self {
        let (query, document) = (Box::new(query), Arc::new(document));
        Execution::of(columns, Rows::Running { query, document, planning_seconds, seconds: None })
    }

    pub(crate) fn done(message: String) -> Self {
        Execution { message: Some(message), ..Execution::of(vec![], Rows::Ready(VecDeque::new())) }
    }

    pub(crate) fn ready(table: MemoryTable) -> Result<Self> {
        let columns: Vec<ResultColumn> =
            table.columns.iter().map(|(name, t)| ResultColumn { name: name.clone(), sql_type: t.clone() }).collect();
        Ok(Execution::of(columns, Rows::Ready(VecDeque::from([batch(table)?]))))
    }

    /// Starts a change of rows at their source. It ends at the source when nobody waits for it any more, unless it is being committed.
    pub(crate) fn changing(planned: PlannedChange, cancel: CancellationToken) -> Self {
        let ready = planned.change.as_ref().map(|made| made.ready.clone());
        let (change, stop) = (ready, cancel.clone().drop_guard());
        let work = tokio::spawn(async move {
            match change {
                Some(made) => made.run(&|_| Ok(()), &cancel).await,
                None => Ok(Changed::default()),
            }
        });
        let (table, clock) = (planned.table.clone(), Clock { started: Instant::now(), seconds: None });
        Execution::of(
            changing::answer(),
            Rows::Changing { table, work, planned: Box::new(planned), clock, _stop: stop },
        )
    }

    /// Shows moments as clocks in this zone do.
    pub(crate) fn in_zone(mut self, zone: &str) -> Self {
        self.zone = (zone != "UTC").then(|| zone.into());
        self
    }

    /// The query whose rows become a table: what was written comes out when it has ended.
    pub(crate) fn writing(mut self, writing: Writing, zone: &str) -> Self {
        // Only what comes back is shown: the rows that are written are those of the query.
        self.returned_in = (zone != "UTC").then(|| zone.into());
        self.columns = writing.columns.clone();
        self.writing = Some(writing);
        self
    }

    /// The query of an ANALYZE: what it finds comes out when it has ended.
    pub(crate) fn analysing(mut self, analysis: Analysis) -> Self {
        self.columns =
            ANSWER.iter().map(|name| ResultColumn { name: (*name).to_owned(), sql_type: SqlType::Text }).collect();
        self.analysis = Some(analysis);
        self
    }

    /// The next batch; `None` when the statement has finished. The future may be dropped and asked for again: nothing is lost.
    pub async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let divides_at = self.divides_at;
        self.advance().await.map_err(|error| explained(error, divides_at))
    }

    pub(crate) fn dividing_at(mut self, place: Option<Position>) -> Self {
        self.divides_at = place;
        self
    }

    async fn advance(&mut self) -> Result<Option<RecordBatch>> {
        if self.analysis.is_some() {
            while let Some(batch) = self.next_row_batch().await? {
                self.found.push(batch);
            }
        }
        if self.writing.is_some() {
            let outcome = self.written().await;
            // After a failure this ends the thread, which undoes what it has written.
            self.writing = None;
            let batches = match outcome? {
                Ended::Table(table) => vec![batch(table)?],
                Ended::Rows(batches) => batches,
            };
            self.returned = Some(batches.into_iter());
        }
        if let Some(returned) = &mut self.returned {
            let batch = match (returned.next(), &self.returned_in) {
                (Some(batch), Some(zone)) => Some(shown_in(&batch, zone)?),
                (batch, _) => batch,
            };
            self.rows_out += batch.as_ref().map_or(0, |b| b.num_rows() as u64);
            return Ok(batch);
        }
        let batch = match &self.analysis {
            None => self.next_row_batch().await?,
            Some(analysis) => {
                let found = batch(analysis.finish(&self.found).await?)?;
                self.analysis = None;
                Some(found)
            }
        };
        self.rows_out += batch.as_ref().map_or(0, |b| b.num_rows() as u64);
        Ok(batch)
    }

    /// Hands all rows to the thread that writes. A failure of the query drops that thread's work with it.
    async fn written(&mut self) -> Result<Ended> {
        loop {
            let Some(writing) = &self.writing else { return Err(Error::internal("nothing is being written")) };
            let Some(permit) = writing.ready().await else { break };
            match self.next_row_batch().await? {
                Some(batch) => drop(permit.send(Step::Batch(batch))),
                None => {
                    drop(permit.send(Step::Done));
                    break;
                }
            }
        }
        match &mut self.writing {
            Some(writing) => writing.ended().await,
            None => Err(Error::internal("nothing is being written")),
        }
    }

    async fn next_row_batch(&mut self) -> Result<Option<RecordBatch>> {
        Ok(match &mut self.rows {
            Rows::Ready(batches) => batches.pop_front(),
            Rows::Changing { clock: Clock { seconds: Some(_), .. }, .. } => None,
            Rows::Changing { table, work, clock, .. } => {
                let outcome = work.await;
                clock.seconds = Some(clock.seconds());
                let done = outcome.map_err(|e| Error::internal(format!("a task that changes rows stopped: {e}")))??;
                Some(batch(changing::answered(table, done.rows))?)
            }
            Rows::Running { query, seconds, .. } => {
                let batch = query.next().await;
                if !matches!(batch, Ok(Some(_))) {
                    *seconds = Some(query.elapsed().as_secs_f64());
                }
                match (batch?, &self.zone) {
                    (Some(batch), Some(zone)) => Some(shown_in(&batch, zone)?),
                    (batch, _) => batch,
                }
            }
        })
    }

    /// All rows; for tests and small results.
    pub async fn collect(&mut self) -> Result<Vec<RecordBatch>> {
        let mut all = Vec::new();
        while let Some(batch) = self.next().await? {
            all.push(batch);
        }
        Ok(all)
    }

    pub fn progress(&self) -> Progress {
        match &self.rows {
            Rows::Ready(_) => Progress { rows_out: self.rows_out, ..Progress::default() },
            Rows::Changing { clock, .. } => {
                Progress { rows_out: self.rows_out, seconds: clock.seconds(), ..Progress::default() }
            }
            Rows::Running { query, seconds, .. } => Progress {
                rows_read: query.measures.rows_read(),
                bytes_read: query.measures.bytes_read(),
                rows_out: self.rows_out,
                seconds: seconds.unwrap_or_else(|| query.elapsed().as_secs_f64()),
            },
        }
    }

    /// The plan as it was made, with nothing measured; `None` where there is none.
    pub fn planned(&self) -> Option<Arc<PlanDocument>> {
        match &self.rows {
            Rows::Running { document, .. } => Some(document.clone()),
            Rows::Changing { planned, .. } => Some(Arc::new(planned.document.clone())),
            Rows::Ready(_) => None,
        }
    }

    /// The plan with what has been measured until now; `None` for statements that have none.
    pub fn plan(&self) -> Option<PlanDocument> {
        let (query, document, planning_seconds, seconds) = match &self.rows {
            Rows::Running { query, document, planning_seconds, seconds } => {
                (query, document, planning_seconds, seconds)
            }
            Rows::Changing { planned, clock, .. } => {
                let (planning_seconds, seconds) = (planned.seconds, clock.seconds());
                let measures = RunMeasures { planning_seconds, seconds, rows: self.rows_out, memory: 0 };
                return Some(PlanDocument { measures: Some(measures), ..planned.document.clone() });
            }
            Rows::Ready(_) => return None,
        };
        let mut document = document.as_ref().clone();
        query.measures.write_into(&mut document);
        document.measures = Some(RunMeasures {
            planning_seconds: *planning_seconds,
            seconds: seconds.unwrap_or_else(|| query.elapsed().as_secs_f64()),
            rows: self.rows_out,
            memory: query.peak_memory(),
        });
        Some(document)
    }
}
