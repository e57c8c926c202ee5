//! A statement being executed, or its answer when it is already there.

use std::collections::VecDeque;
use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, ListArray, RecordBatch, RecordBatchOptions, StructArray};
use arrow::datatypes::{DataType, Field, Fields, Schema, TimeUnit, TimestampMicrosecondType};
use cobble_exec::RunningQuery;
use cobble_plan::document::{PlanDocument, RunMeasures};
pub use cobble_plan::result::{Progress, ResultColumn};
use cobble_sql::KnownView;
use cobble_types::{Code, Error, Position, Result, SqlType};

use crate::analyze::{ANSWER, Analysis};
use crate::memory_table::MemoryTable;

/// Columns, rows as they come, and the plan with its measures so far.
#[derive(Debug)]
pub struct Execution {
    pub columns: Vec<ResultColumn>,
    /// What a statement without rows did, such as "now in fleet.public".
    pub message: Option<String>,
    kind: Kind,
    rows_out: u64,
    /// The zone that moments are shown in.
    zone: Option<Arc<str>>,
    /// Where the statement divides, if it does so at one place only.
    divides_at: Option<Position>,
    /// Tables in tiers that it reads or writes: no row that it may look for goes before it has ended.
    held: Vec<Arc<KnownView>>,
}

/// What is executed.
#[derive(Debug)]
enum Kind {
    /// Nothing: the answer is already known.
    Answer(VecDeque<RecordBatch>),
    /// A plan whose rows are the answer: of a query, a write or a change.
    Plan(Run),
    /// A plan whose rows are summed up by ANALYZE.
    Analysis { run: Run, analysis: Option<Analysis>, found: Vec<RecordBatch> },
}

/// A plan that runs.
#[derive(Debug)]
struct Run {
    query: Box<RunningQuery>,
    document: Arc<PlanDocument>,
    planning_seconds: f64,
    /// When it ended.
    seconds: Option<f64>,
}

impl Run {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let batch = self.query.next().await;
        if !matches!(batch, Ok(Some(_))) {
            self.seconds = Some(self.query.elapsed().as_secs_f64());
        }
        batch
    }

    fn seconds(&self) -> f64 {
        self.seconds.unwrap_or_else(|| self.query.elapsed().as_secs_f64())
    }
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

impl Execution {
    fn of(columns: Vec<ResultColumn>, kind: Kind) -> Self {
        Execution { columns, message: None, kind, rows_out: 0, zone: None, divides_at: None, held: vec![] }
    }

    pub(crate) fn running(
        columns: Vec<ResultColumn>,
        query: RunningQuery,
        document: PlanDocument,
        planning_seconds: f64,
    ) -> Self {
        let (query, document) = (Box::new(query), Arc::new(document));
        Execution::of(columns, Kind::Plan(Run { query, document, planning_seconds, seconds: None }))
    }

    pub(crate) fn done(message: String) -> Self {
        Execution { message: Some(message), ..Execution::of(vec![], Kind::Answer(VecDeque::new())) }
    }

    pub(crate) fn ready(table: MemoryTable) -> Result<Self> {
        let columns: Vec<ResultColumn> =
            table.columns.iter().map(|(name, t)| ResultColumn { name: name.clone(), sql_type: t.clone() }).collect();
        Ok(Execution::of(columns, Kind::Answer(VecDeque::from([batch(table)?]))))
    }

    /// Shows moments as clocks in this zone do.
    pub(crate) fn in_zone(mut self, zone: &str) -> Self {
        self.zone = (zone != "UTC").then(|| zone.into());
        self
    }

    pub(crate) fn holding(mut self, held: Vec<Arc<KnownView>>) -> Self {
        self.held = held;
        self
    }

    /// The query of an ANALYZE: its findings are returned when it ends.
    pub(crate) fn analysing(mut self, analysis: Analysis) -> Self {
        self.columns =
            ANSWER.iter().map(|name| ResultColumn { name: (*name).to_owned(), sql_type: SqlType::Text }).collect();
        self.kind = match self.kind {
            Kind::Plan(run) => Kind::Analysis { run, analysis: Some(analysis), found: Vec::new() },
            other => other,
        };
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
        let batch = match &mut self.kind {
            Kind::Answer(batches) => batches.pop_front(),
            Kind::Plan(run) => match (run.next().await?, &self.zone) {
                (Some(batch), Some(zone)) => Some(shown_in(&batch, zone)?),
                (Some(batch), None) => Some(batch),
                (None, _) => {
                    self.held.clear();
                    None
                }
            },
            Kind::Analysis { run, analysis, found } => match analysis {
                None => None,
                Some(own) => {
                    while let Some(batch) = run.next().await? {
                        found.push(batch);
                    }
                    let answer = batch(own.finish(found).await?)?;
                    *analysis = None;
                    Some(answer)
                }
            },
        };
        self.rows_out += batch.as_ref().map_or(0, |b| b.num_rows() as u64);
        Ok(batch)
    }

    fn run(&self) -> Option<&Run> {
        match &self.kind {
            Kind::Answer(_) => None,
            Kind::Plan(run) | Kind::Analysis { run, .. } => Some(run),
        }
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
        let Some(run) = self.run() else { return Progress { rows_out: self.rows_out, ..Progress::default() } };
        Progress {
            rows_read: run.query.measures.rows_read(),
            bytes_read: run.query.measures.bytes_read(),
            rows_out: self.rows_out,
            seconds: run.seconds(),
            doing: None,
        }
    }

    /// The plan as it was made, with nothing measured; `None` where there is none.
    pub fn planned(&self) -> Option<Arc<PlanDocument>> {
        self.run().map(|run| run.document.clone())
    }

    /// The plan with what has been measured until now; `None` for statements that have none.
    pub fn plan(&self) -> Option<PlanDocument> {
        let run = self.run()?;
        let mut document = run.document.as_ref().clone();
        run.query.measures.write_into(&mut document);
        document.measures = Some(RunMeasures {
            planning_seconds: run.planning_seconds,
            phases: document.phases.clone(),
            seconds: run.seconds(),
            rows: self.rows_out,
            memory: run.query.peak_memory(),
        });
        Some(document)
    }
}
