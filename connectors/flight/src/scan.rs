//! Running what a program has agreed to: one request, whose answer names the portions that tasks fetch.

use std::any::Any;
use std::collections::HashMap;
use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow::compute::cast;
use arrow::datatypes::{Field, Schema, SchemaRef};
use arrow_flight::decode::FlightRecordBatchStream;
use arrow_flight::error::FlightError;
use arrow_flight::{FlightDescriptor, Ticket};
use async_trait::async_trait;
use cobble_plan::logical::TableColumn;
use cobble_plan::offer::Request;
use cobble_plan::scan::{GateCounters, GateScan, PortionReader, Portions, ScanMemory, ScanSpec, ScanTools, Unbounded};
use cobble_serve::{Condition, GroupValue, Groups, TableName, Top};
use cobble_types::{Code, Error, Result, SqlType};
use futures::{FutureExt, StreamExt, TryStreamExt};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use super::Program;
use super::offer::condition;

/// The form of [`Work`].
pub const FORM: u16 = 1;

/// What a program was given to do.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    pub table: TableName,
    /// The table's columns, or those that its groups have become.
    pub columns: Vec<TableColumn>,
    /// Places among them of the columns that come out.
    pub places: Vec<usize>,
    pub filters: Vec<Condition>,
    pub limit: Option<u64>,
    pub groups: Option<Groups>,
    pub top: Option<Top>,
}

impl Work {
    fn request_with(&self, filters: Vec<Condition>) -> cobble_serve::Request {
        cobble_serve::Request {
            table: self.table.clone(),
            columns: self.wanted_names(),
            filters,
            limit: self.limit,
            groups: self.groups.clone(),
            top: self.top.clone(),
        }
    }

    fn wanted_names(&self) -> Vec<String> {
        self.places.iter().map(|place| self.columns[*place].name.clone()).collect()
    }

    pub fn request(&self) -> Request {
        shown(&self.request_with(self.filters.clone()))
    }

    pub fn columns_read(&self) -> Vec<String> {
        match &self.groups {
            None => self.wanted_names(),
            Some(groups) => {
                let mut names = groups.by.clone();
                names.extend(groups.values.iter().filter_map(|value| value.column.clone()));
                names.sort();
                names.dedup();
                names
            }
        }
    }
}

#[derive(Debug)]
struct ProgramScan {
    program: Arc<Program>,
    work: Work,
}

/// The scan of work that was agreed with a program.
pub fn scan(program: &Arc<Program>, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    Ok(Arc::new(ProgramScan { program: program.clone(), work: spec.unpack(FORM)? }))
}

/// The request as people read it.
fn shown(request: &cobble_serve::Request) -> Request {
    let columns = if request.columns.is_empty() { "no column".to_owned() } else { request.columns.join(", ") };
    let mut text = format!("read {columns} of {}.{}", request.table.schema, request.table.name);
    for (place, filter) in request.filters.iter().enumerate() {
        text.push_str(if place == 0 { " where " } else { " and " });
        text.push_str(&words(filter));
    }
    if let Some(groups) = &request.groups {
        let by = match groups.by.as_slice() {
            [] => "all rows".to_owned(),
            by => format!("groups of {}", by.join(", ")),
        };
        let of: Vec<String> = groups.values.iter().map(value_words).collect();
        let of = if of.is_empty() { String::new() } else { format!(" with {}", of.join(", ")) };
        text.push_str(&format!(", {by}{of}"));
    }
    if let Some(top) = &request.top {
        let keys = top.order.iter().map(|key| {
            let direction = if key.descending { " descending" } else { "" };
            format!("{}{direction}, nulls {}", key.column, if key.nulls_first { "first" } else { "last" })
        });
        text.push_str(&format!(
            ", the first {} rows of a portion by {}",
            top.rows,
            keys.collect::<Vec<_>>().join("; ")
        ));
    }
    if let Some(limit) = request.limit {
        text.push_str(&format!(", at most {limit} rows of a portion"));
    }
    Request { text, parameters: vec![] }
}

fn value_words(value: &GroupValue) -> String {
    let distinct = if value.distinct { "distinct " } else { "" };
    let of = value.column.as_deref().unwrap_or("rows");
    let filter = value.filter.as_ref().map(|filter| format!(" where {}", words(filter))).unwrap_or_default();
    format!("{}({distinct}{of}{filter}) as {}", value.function, value.name)
}

/// Values of a list that are shown.
const SHOWN: usize = 8;

fn words(condition: &Condition) -> String {
    match condition {
        Condition::Column { column } => column.clone(),
        Condition::Literal { literal: None, .. } => "null".to_owned(),
        Condition::Literal { literal: Some(text), sql_type } => match sql_type.as_str() {
            "smallint" | "integer" | "bigint" | "boolean" => text.clone(),
            "text" => format!("'{text}'"),
            other => format!("{other} '{text}'"),
        },
        Condition::Call { call, arguments } => {
            let all: Vec<String> = arguments.iter().take(SHOWN + 1).map(words).collect();
            match (call.as_str(), all.as_slice()) {
                ("in", [value, list @ ..]) => {
                    let more = arguments.len() - all.len();
                    let rest = if more > 0 { format!(", … {more} more") } else { String::new() };
                    format!("{value} in ({}{rest})", list.join(", "))
                }
                ("is null", [value]) => format!("{value} is null"),
                (_, [one]) => format!("{call} {one}"),
                _ => format!("({})", all.join(&format!(" {call} "))),
            }
        }
    }
}

#[async_trait]
impl GateScan for ProgramScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let work = &self.work;
        let mut filters = work.filters.clone();
        for keys in &tools.keys {
            let place = work.places[keys.pass.place];
            let places = HashMap::from([(keys.pass.column.id, place)]);
            let known =
                keys.condition().and_then(|(expr, form)| Some((condition(&expr, &places, &work.columns).ok()?, form)));
            let form = match known {
                Some((condition, form)) => {
                    filters.push(condition);
                    form
                }
                None => "not at all",
            };
            tools.counters.used(keys, form, 0);
        }
        let request = work.request_with(filters);
        if !tools.keys.is_empty() {
            *tools.counters.sent.lock().unwrap_or_else(PoisonError::into_inner) = Some(shown(&request));
        }
        let columns: Vec<TableColumn> = work.places.iter().map(|place| work.columns[*place].clone()).collect();
        let own = Tools { counters: tools.counters.clone(), memory: tools.memory.clone() };
        let portions = open(&self.program, &request, columns, &tools.cancel, own);
        Ok(Arc::new(portions.await?))
    }
}

async fn open(
    program: &Arc<Program>,
    request: &cobble_serve::Request,
    columns: Vec<TableColumn>,
    cancel: &CancellationToken,
    tools: Tools,
) -> Result<ProgramPortions> {
    let command = serde_json::to_vec(request).map_err(|e| Error::internal(e.to_string()))?;
    let info = unless_cancelled(cancel, program.info(FlightDescriptor::new_cmd(command))).await?;
    let mut tickets = Vec::new();
    for endpoint in info.endpoint {
        match endpoint.ticket {
            Some(ticket) => tickets.push(ticket),
            None => return Err(program.error(Code::SourceData, "it names a portion without a ticket")),
        }
    }
    let field =
        |(place, column): (usize, &TableColumn)| Field::new(place.to_string(), column.sql_type.to_arrow(), true);
    let schema = Arc::new(Schema::new(columns.iter().enumerate().map(field).collect::<Vec<Field>>()));
    let next = AtomicUsize::new(0);
    Ok(ProgramPortions {
        program: program.clone(),
        tickets,
        next,
        columns: columns.into(),
        schema,
        cancel: cancel.clone(),
        tools,
    })
}

/// Reads at most one row, to know that reading works.
pub async fn first_row(program: &Arc<Program>, table: &TableName, columns: &[TableColumn]) -> Result<usize> {
    let names = columns.iter().map(|column| column.name.clone()).collect();
    let mut request = cobble_serve::Request::of_columns(table.clone(), names);
    request.limit = Some(1);
    let tools = Tools { counters: Arc::default(), memory: Arc::new(Unbounded) };
    let portions = open(program, &request, columns.to_vec(), &CancellationToken::new(), tools).await?;
    while let Some(mut rows) = portions.claim().await? {
        if let Some(batch) = rows.next().await?.filter(|batch| batch.num_rows() > 0) {
            return Ok(batch.num_rows().min(1));
        }
    }
    Ok(0)
}

async fn unless_cancelled<T>(cancel: &CancellationToken, work: impl Future<Output = Result<T>>) -> Result<T> {
    tokio::select! {
        outcome = work => outcome,
        () = cancel.cancelled() => Err(Error::cancelled()),
    }
}

struct ProgramPortions {
    program: Arc<Program>,
    tickets: Vec<Ticket>,
    next: AtomicUsize,
    columns: Arc<[TableColumn]>,
    schema: SchemaRef,
    cancel: CancellationToken,
    tools: Tools,
}

/// What a scan is counted by and takes its memory from.
#[derive(Clone)]
struct Tools {
    counters: Arc<GateCounters>,
    memory: Arc<dyn ScanMemory>,
}

#[async_trait]
impl Portions for ProgramPortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(ticket) = self.tickets.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        GateCounters::add(&self.tools.counters.requests, 1);
        let call = self.program.call(ticket.clone())?;
        let (mut client, program) = (self.program.client(), self.program.clone());
        let got = program.within(async move { Ok(client.do_get(call).await?.into_inner()) });
        let tools = self.tools.clone();
        let taken = Taken::default();
        let own = taken.clone();
        let data = unless_cancelled(&self.cancel, got).await?.map_err(FlightError::from).and_then(move |data| {
            // What it says of itself is checked, and there is room for it, before it is read.
            let bytes = (data.data_header.len() + data.data_body.len()) as u64;
            GateCounters::add(&tools.counters.bytes, bytes);
            let room = cobble_format::unpacked(&data.data_header, &data.data_body).map_err(FlightError::from);
            let room = room.and_then(|unpacked| {
                let all = bytes.saturating_add(unpacked);
                tools.memory.take(all).map_err(|e| FlightError::ExternalError(Box::new(e)))
            });
            std::future::ready(room.map(|room| {
                own.lock().unwrap_or_else(PoisonError::into_inner).push(room);
                data
            }))
        });
        Ok(Some(Box::new(ProgramRows {
            program: self.program.clone(),
            rows: FlightRecordBatchStream::new_from_flight_data(data),
            columns: self.columns.clone(),
            schema: self.schema.clone(),
            cancel: self.cancel.clone(),
            taken,
        })))
    }
}

/// Memory for what a batch is made of.
type Taken = Arc<Mutex<Vec<Box<dyn Any + Send + Sync>>>>;

struct ProgramRows {
    program: Arc<Program>,
    rows: FlightRecordBatchStream,
    columns: Arc<[TableColumn]>,
    schema: SchemaRef,
    cancel: CancellationToken,
    taken: Taken,
}

impl ProgramRows {
    /// The batch as it was described; anything else is an error, not a conversion.
    fn checked(&self, batch: &RecordBatch) -> Result<RecordBatch> {
        if batch.num_columns() != self.columns.len() {
            let what = format!("rows came with {} columns, asked for were {}", batch.num_columns(), self.columns.len());
            return Err(self.program.error(Code::SourceData, what).hint("the program must answer what it was asked"));
        }
        let fields = batch.schema();
        let column = |(place, column): (usize, &TableColumn)| -> Result<ArrayRef> {
            let given = SqlType::from_arrow(fields.field(place).data_type());
            if given.as_ref() != Some(&column.sql_type) {
                let given = given.map_or_else(|| fields.field(place).data_type().to_string(), |t| t.to_string());
                let what = format!("column {} came as {given}, and was described as {}", column.name, column.sql_type);
                return Err(self
                    .program
                    .error(Code::SourceData, what)
                    .hint("refresh the catalog, or correct the program"));
            }
            if !column.nullable && batch.column(place).null_count() > 0 {
                let what = format!("column {} came with nulls, and was described without", column.name);
                return Err(self.program.error(Code::SourceData, what).hint("correct the program"));
            }
            Ok(cast(batch.column(place), &column.sql_type.to_arrow())?)
        };
        let arrays = self.columns.iter().enumerate().map(column).collect::<Result<Vec<_>>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        Ok(RecordBatch::try_new_with_options(self.schema.clone(), arrays, &options)?)
    }
}

#[async_trait]
impl PortionReader for ProgramRows {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let (program, cancel) = (self.program.clone(), self.cancel.clone());
        self.taken.lock().unwrap_or_else(PoisonError::into_inner).clear();
        let rows = &mut self.rows;
        let next = async {
            // Where what has come contradicts itself, its package may stop.
            match AssertUnwindSafe(rows.next()).catch_unwind().await.map(Option::transpose) {
                Ok(Ok(batch)) => Ok(Ok(batch)),
                Ok(Err(FlightError::Tonic(status))) => Err(*status),
                Ok(Err(other)) => Ok(Err(Some(other))),
                Err(_) => Ok(Err(None)),
            }
        };
        let batch = unless_cancelled(&cancel, program.within(next)).await?.map_err(|error| {
            if let Some(FlightError::ExternalError(own)) = &error
                && let Some(own) = own.downcast_ref::<Error>()
            {
                return own.clone();
            }
            let what = error.map_or("they contradict themselves".to_owned(), |error| error.to_string());
            program
                .error(Code::SourceData, format!("rows cannot be read: {what}"))
                .hint("the stream may have been cut off")
        })?;
        batch.map(|batch| self.checked(&batch)).transpose()
    }
}
