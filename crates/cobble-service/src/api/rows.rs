//! The rows of a run: a page as JSON, or everything as CSV, JSON lines or an Arrow IPC stream, as the request accepts.

use std::sync::Arc;

use arrow::array::{Array, RecordBatch, RecordBatchOptions};
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use arrow::ipc::writer::StreamWriter;
use cobble_engine::ResultColumn;
use cobble_types::{Error, Result, csv_header, json_row, json_value, write_csv_rows};
use rocket::get;
use rocket::http::{Accept, ContentType, Header, MediaType};
use rocket::response::stream::ByteStream;
use rocket::response::{Responder, Response};
use rocket::serde::json::Json;

use super::State;
use super::access::{By, Query, owned};
use super::errors::{ApiError, not_found};
use crate::runs::Run;
use cobble_api::{ColumnBody, ErrorBody, PageBody};

/// Rows of a page unless asked otherwise, and at most.
const PAGE: u64 = 1000;
const LARGEST_PAGE: u64 = 10_000;
/// Bytes after which a page has no further row.
const PAGE_BYTES: usize = 2 << 20;

#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Form {
    Json,
    Csv,
    JsonLines,
    Arrow,
}

impl Form {
    fn wanted(accept: Option<&Accept>, format: Option<&str>) -> Result<Form> {
        match format {
            Some("json") => return Ok(Form::Json),
            Some("csv") => return Ok(Form::Csv),
            Some("jsonl") => return Ok(Form::JsonLines),
            Some("arrow") => return Ok(Form::Arrow),
            Some(other) => return Err(Error::unknown("format", other, ["json", "csv", "jsonl", "arrow"])),
            None => {}
        }
        let is = |m: &MediaType, top: &str, sub: &str| m.top() == top && m.sub() == sub;
        Ok(accept
            .and_then(|accept| {
                accept.media_types().find_map(|m| match m {
                    m if is(m, "text", "csv") => Some(Form::Csv),
                    m if is(m, "application", "x-ndjson") || is(m, "application", "jsonl") => Some(Form::JsonLines),
                    m if is(m, "application", "vnd.apache.arrow.stream") => Some(Form::Arrow),
                    m if is(m, "application", "json") => Some(Form::Json),
                    _ => None,
                })
            })
            .unwrap_or(Form::Json))
    }

    fn content_type(self) -> ContentType {
        match self {
            Form::Json => ContentType::JSON,
            Form::Csv => ContentType::CSV,
            Form::JsonLines => ContentType::new("application", "x-ndjson"),
            Form::Arrow => ContentType::new("application", "vnd.apache.arrow.stream"),
        }
    }

    fn file_ending(self) -> &'static str {
        match self {
            Form::Json => "json",
            Form::Csv => "csv",
            Form::JsonLines => "jsonl",
            Form::Arrow => "arrow",
        }
    }
}

pub enum Rows {
    Page(Json<PageBody>),
    Whole { run: Arc<Run>, columns: Vec<ResultColumn>, form: Form },
}

impl<'r> Responder<'r, 'r> for Rows {
    fn respond_to(self, request: &'r rocket::Request<'_>) -> rocket::response::Result<'r> {
        match self {
            Rows::Page(page) => page.respond_to(request),
            Rows::Whole { run, columns, form } => {
                let name = format!("attachment; filename=\"result-{}.{}\"", run.id, form.file_ending());
                let stream = ByteStream! {
                    let mut writer = Writer::new(form, &columns);
                    yield writer.begin();
                    let mut place = 0;
                    loop {
                        match run.batch(place).await {
                            Ok(Some(batch)) => {
                                place += 1;
                                match writer.batch(&batch) {
                                    Ok(bytes) => yield bytes,
                                    Err(error) => {
                                        tracing::error!(run = run.id, error = error.to_string(), "rows cannot be written");
                                        break;
                                    }
                                }
                            }
                            // An Arrow stream without the mark at its end is not a whole one.
                            Err(_) => break,
                            Ok(None) => {
                                if let Ok(bytes) = writer.end() {
                                    yield bytes;
                                }
                                run.was_read();
                                break;
                            }
                        }
                    }
                };
                Response::build_from(stream.respond_to(request)?)
                    .header(form.content_type())
                    .header(Header::new("Content-Disposition", name))
                    .ok()
            }
        }
    }
}

/// Rows of a run, waiting for them while it goes on. JSON comes in pages; `text/csv`, `application/x-ndjson` and
/// `application/vnd.apache.arrow.stream` give the whole result as a stream.
#[utoipa::path(
    context_path = "/api/v1",
    params(
        ("id" = String, Path),
        ("offset" = Option<u64>, Query, description = "first row of a JSON page"),
        ("limit" = Option<u64>, Query, description = "rows of a JSON page, at most 10000; a page of large rows has fewer"),
        ("format" = Option<String>, Query, description = "json, csv, jsonl or arrow, instead of the Accept header"),
    ),
    responses((status = 200, body = PageBody), (status = 404, body = ErrorBody))
)]
#[get("/runs/<id>/rows?<offset>&<limit>&<format>")]
pub async fn rows(
    service: &State,
    caller: By<Query>,
    id: &str,
    offset: Option<u64>,
    limit: Option<u64>,
    format: Option<&str>,
    accept: Option<&Accept>,
) -> std::result::Result<Rows, ApiError> {
    let Some(run) = service.runs.get(id) else {
        let mut error = not_found("result of run", id);
        error.0.hint =
            Some("a result is kept for 15 minutes, or until it was read to its end; where room is short, one that nobody has asked for within a minute goes first. Run it again".to_owned());
        return Err(error);
    };
    owned(&format!("run {id}"), Some(run.owner.id), &caller)?;
    let form = Form::wanted(accept, format)?;
    let columns = run.columns().await?;
    if matches!(form, Form::Csv | Form::JsonLines) {
        // These forms have no mark at their end: a body that has begun must come to it.
        run.ended().await?;
    }
    if form != Form::Json {
        return Ok(Rows::Whole { run, columns, form });
    }
    Ok(Rows::Page(Json(page(&run, offset.unwrap_or(0), limit).await?)))
}

/// Rows of a run from this one on, waiting for them while it goes on. Fewer than asked for where they are large.
pub async fn page(run: &Run, offset: u64, limit: Option<u64>) -> Result<PageBody> {
    let columns = run.columns().await?;
    let limit = limit.unwrap_or(PAGE).clamp(1, LARGEST_PAGE);
    let (mut rows, mut skip, mut place) = (Vec::new(), offset, 0);
    let (mut last, mut bytes) = (false, 0);
    'page: while (rows.len() as u64) < limit {
        let Some(count) = run.rows_in(place).await? else {
            last = true;
            break;
        };
        place += 1;
        if skip >= count {
            skip -= count;
            continue;
        }
        let Some(batch) = run.batch(place - 1).await? else { break };
        let end = count.min(skip + limit - rows.len() as u64);
        for row in skip..end {
            if bytes > PAGE_BYTES {
                break 'page;
            }
            let values: Vec<_> = batch.columns().iter().map(|c| page_value(c.as_ref(), row as usize)).collect();
            bytes += values.iter().map(weight).sum::<usize>();
            rows.push(values);
        }
        skip = 0;
    }
    run.page_was_read(offset, rows.len() as u64, last);
    Ok(PageBody { columns: columns.iter().map(ColumnBody::from).collect(), rows, offset, last })
}

/// The bytes that a value takes until it is sent.
fn weight(value: &serde_json::Value) -> usize {
    let inner: usize = match value {
        serde_json::Value::String(text) => text.len(),
        serde_json::Value::Array(items) => items.iter().map(weight).sum(),
        serde_json::Value::Object(fields) => fields.iter().map(|(name, value)| name.len() + weight(value)).sum(),
        _ => 0,
    };
    size_of::<serde_json::Value>() + inner
}

/// JSON that a browser reads without loss: whole numbers beyond 2^53 are text.
fn page_value(column: &dyn Array, row: usize) -> serde_json::Value {
    match json_value(column, row) {
        serde_json::Value::Number(n) if n.as_i64().is_some_and(|v| v.unsigned_abs() > 1 << 53) => {
            serde_json::Value::String(n.to_string())
        }
        other => other,
    }
}

/// Writes batches in one form.
struct Writer<'a> {
    form: Form,
    columns: &'a [ResultColumn],
    arrow: Option<(SchemaRef, StreamWriter<Vec<u8>>)>,
}

impl<'a> Writer<'a> {
    fn new(form: Form, columns: &'a [ResultColumn]) -> Self {
        Writer { form, columns, arrow: None }
    }

    fn begin(&self) -> Vec<u8> {
        match self.form {
            Form::Csv => csv_header(self.names()).into_bytes(),
            Form::Arrow | Form::Json | Form::JsonLines => Vec::new(),
        }
    }

    fn names(&self) -> impl Iterator<Item = &str> {
        self.columns.iter().map(|c| c.name.as_str())
    }

    fn batch(&mut self, batch: &RecordBatch) -> Result<Vec<u8>> {
        match self.form {
            Form::Csv => {
                let mut out = String::new();
                write_csv_rows(batch, &mut out);
                Ok(out.into_bytes())
            }
            Form::Json | Form::JsonLines => {
                let lines = (0..batch.num_rows()).map(|row| format!("{}\n", json_row(self.names(), batch, row)));
                Ok(lines.collect::<String>().into_bytes())
            }
            Form::Arrow => {
                // Moments carry the zone that they are shown in, which only the batches know.
                let types = batch.columns().iter().map(|c| c.data_type().clone()).collect();
                let schema = match &self.arrow {
                    Some((schema, _)) => schema.clone(),
                    None => self.schema(types),
                };
                let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
                let named = RecordBatch::try_new_with_options(schema.clone(), batch.columns().to_vec(), &options)?;
                let writer = self.stream(schema)?;
                writer.write(&named)?;
                Ok(std::mem::take(writer.get_mut()))
            }
        }
    }

    fn schema(&self, types: Vec<DataType>) -> SchemaRef {
        let fields: Vec<Field> = self.names().zip(types).map(|(name, t)| Field::new(name, t, true)).collect();
        Arc::new(Schema::new(fields))
    }

    fn stream(&mut self, schema: SchemaRef) -> Result<&mut StreamWriter<Vec<u8>>> {
        let (schema, writer) = match self.arrow.take() {
            Some(open) => open,
            None => (schema.clone(), StreamWriter::try_new(Vec::new(), &schema)?),
        };
        Ok(&mut self.arrow.insert((schema, writer)).1)
    }

    fn end(&mut self) -> Result<Vec<u8>> {
        if self.form != Form::Arrow {
            return Ok(Vec::new());
        }
        let schema = self.schema(self.columns.iter().map(|c| c.sql_type.to_arrow()).collect());
        let writer = self.stream(schema)?;
        writer.finish()?;
        Ok(std::mem::take(writer.get_mut()))
    }
}
