//! The ferry company's tide tables, served to Cobble Lane: high and low water of forty ports in a quarter of a year, computed when they are asked for.
//!
//! ```text
//! cargo run --example tide_tables -- 127.0.0.1:7340
//! cobble connection add almanac_program --kind flight --address 127.0.0.1:7340
//! cobble catalog add almanac --connection almanac_program
//! ```
//! The environment variable `TIDE_TABLES_SECRET` names a secret that callers must know.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use arrow::array::{ArrayRef, Decimal128Array, Int32Array, Int64Array, StringArray, TimestampMicrosecondArray};
use arrow::datatypes::{DataType, Field, Schema, SchemaRef, TimeUnit};
use arrow::record_batch::{RecordBatch, RecordBatchOptions};
use cobble_serve::{
    Answer, Condition, Constant, Description, GroupValue, Groups, Offer, Piece, Request, Rows, TableName, Tables, serve,
};

const PORTS: i64 = 40;
/// Tides of one port in a quarter of a year: one every 6 h 12 min 37 s.
const TIDES: i64 = 353;
const BETWEEN: i64 = 22_357;
/// 2025-01-01 00:00 in seconds since 1970.
const START: i64 = 1_735_689_600;
const ROWS_OF_A_BATCH: usize = 8192;
const PORTS_OF_A_PORTION: i64 = 10;

struct TideTables {
    schema: SchemaRef,
}

/// One tide: every value follows from its number.
struct Tide(i64);

impl Tide {
    fn port(&self) -> i64 {
        self.0 / TIDES + 1
    }

    fn place(&self) -> i64 {
        self.0 % TIDES
    }

    fn kind(&self) -> &'static str {
        if self.place() % 2 == 0 { "high" } else { "low" }
    }

    fn note(&self) -> Option<&'static str> {
        (self.place() % 57 == 0).then_some("spring tide")
    }

    fn centimetres(&self) -> i64 {
        let middle = if self.place() % 2 == 0 { 420 } else { 90 };
        middle + (self.place() * 37 + self.port() * 11) % 60
    }

    fn microseconds(&self) -> i64 {
        (START + self.place() * BETWEEN + self.port() * 600) * 1_000_000
    }

    fn constant(&self, column: &str) -> Option<Constant> {
        match column {
            "id" => Some(Constant::Integer(self.0)),
            "port_id" => Some(Constant::Integer(self.port())),
            "kind" => Some(Constant::Text(self.kind().to_owned())),
            "note" => self.note().map(|note| Constant::Text(note.to_owned())),
            _ => None,
        }
    }
}

fn column(name: &str, tides: &[Tide]) -> Result<ArrayRef, String> {
    Ok(match name {
        "id" => Arc::new(tides.iter().map(|t| Some(t.0)).collect::<Int64Array>()),
        "port_id" => Arc::new(tides.iter().map(|t| Some(t.port() as i32)).collect::<Int32Array>()),
        "at" => Arc::new(tides.iter().map(|t| Some(t.microseconds())).collect::<TimestampMicrosecondArray>()),
        "kind" => Arc::new(tides.iter().map(|t| Some(t.kind())).collect::<StringArray>()),
        "height" => {
            let heights: Decimal128Array = tides.iter().map(|t| Some(i128::from(t.centimetres()))).collect();
            Arc::new(heights.with_precision_and_scale(5, 2).map_err(|e| e.to_string())?)
        }
        "note" => Arc::new(tides.iter().map(Tide::note).collect::<StringArray>()),
        other => return Err(format!("there is no column {other}")),
    })
}

/// The numbers of a portion's tides.
fn numbers(portion: usize) -> Range<i64> {
    let first = portion as i64 * PORTS_OF_A_PORTION;
    first * TIDES..(first + PORTS_OF_A_PORTION).min(PORTS) * TIDES
}

/// Conditions on these are computed here.
fn is_known(condition: &Condition) -> bool {
    condition.is_plain() && condition.columns().iter().all(|name| ["id", "port_id", "kind", "note"].contains(name))
}

/// Groups by port and kind, and counts, least and greatest values of ids and notes.
fn is_grouped_here(groups: &Groups) -> bool {
    let gathered = |value: &GroupValue| {
        let column = value.column.as_deref().is_none_or(|name| ["id", "kind", "note"].contains(&name));
        column && value.function != "sum" && value.filter.as_ref().is_none_or(is_known)
    };
    groups.by.iter().all(|name| name == "port_id" || name == "kind") && groups.values.iter().all(gathered)
}

fn group_value(value: &GroupValue, tides: &[Tide]) -> Option<Constant> {
    let stays = |tide: &&Tide| value.filter.as_ref().is_none_or(|filter| filter.holds(&|name| tide.constant(name)));
    let tides = tides.iter().filter(stays);
    let Some(column) = &value.column else { return Some(Constant::Integer(tides.count() as i64)) };
    let mut found: Vec<Constant> = tides.filter_map(|tide| tide.constant(column)).collect();
    found.sort_by(|a, b| a.partial_cmp(b).unwrap_or(std::cmp::Ordering::Equal));
    if value.distinct {
        found.dedup();
    }
    match value.function.as_str() {
        "count" => Some(Constant::Integer(found.len() as i64)),
        "min" => found.into_iter().next(),
        _ => found.into_iter().next_back(),
    }
}

/// One row for each group, and one of all rows where nothing is grouped by.
fn grouped(request: &Request, groups: &Groups, schema: SchemaRef) -> Result<RecordBatch, String> {
    let mut found: BTreeMap<(i64, &'static str), Vec<Tide>> = BTreeMap::new();
    if groups.by.is_empty() {
        found.insert((0, ""), vec![]);
    }
    let by = |name: &str| groups.by.iter().any(|own| own == name);
    let tides = (0..PORTS * TIDES).map(Tide);
    for tide in tides.filter(|tide| request.filters.iter().all(|f| f.holds(&|name| tide.constant(name)))) {
        let key = (if by("port_id") { tide.port() } else { 0 }, if by("kind") { tide.kind() } else { "" });
        found.entry(key).or_default().push(tide);
    }
    let column = |name: &String| -> ArrayRef {
        let value = groups.values.iter().find(|value| value.name == *name);
        let all = found.iter().map(|((port, kind), tides)| match value {
            Some(value) => group_value(value, tides),
            None if name == "port_id" => Some(Constant::Integer(*port)),
            None => Some(Constant::Text((*kind).to_owned())),
        });
        let numbers = all.clone().map(|value| match value {
            Some(Constant::Integer(number)) => Some(number),
            _ => None,
        });
        let texts = all.map(|value| match value {
            Some(Constant::Text(text)) => Some(text),
            _ => None,
        });
        match schema.field_with_name(name).map(Field::data_type) {
            Ok(DataType::Int64) => Arc::new(numbers.collect::<Int64Array>()),
            Ok(DataType::Int32) => Arc::new(numbers.map(|n| n.map(|n| n as i32)).collect::<Int32Array>()),
            _ => Arc::new(texts.collect::<StringArray>()),
        }
    };
    let columns = request.columns.iter().map(column).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(found.len()));
    RecordBatch::try_new_with_options(schema.clone(), columns, &options).map_err(|e| e.to_string())
}

impl Tables for TideTables {
    fn list(&self) -> Result<Vec<TableName>, String> {
        Ok(vec![TableName { schema: "public".into(), name: "tides".into() }])
    }

    fn describe(&self, table: &TableName) -> Result<Option<Description>, String> {
        let known = self.list()?.contains(table);
        Ok(known.then(|| Description { schema: self.schema.clone(), rows: Some((PORTS * TIDES) as u64), bytes: None }))
    }

    fn offer(&self, offer: &Offer) -> Answer {
        match &offer.piece {
            Piece::Filter(condition) if is_known(condition) => Answer::pushed(),
            Piece::Filter(_) => Answer::kept("only ids, ports, kinds and notes are compared here"),
            Piece::Limit(_) => Answer::prunes("no portion gives more"),
            Piece::Keys { column, .. } if column == "id" || column == "port_id" => {
                Answer::prunes("other tides are left out")
            }
            Piece::Keys { .. } => Answer::kept("tides are found by id and port"),
            Piece::Groups(groups) if is_grouped_here(groups) => Answer::pushed(),
            Piece::Groups(_) => Answer::kept("only ports and kinds are grouped here, and ids and notes gathered"),
            Piece::Top(top) if matches!(top.order.as_slice(), [only] if only.column == "id" && !only.descending) => {
                Answer::prunes("tides come by their ids")
            }
            Piece::Top(_) => Answer::kept("tides come by their ids alone"),
        }
    }

    fn portions(&self, request: &Request) -> Result<usize, String> {
        // Each group is to come once.
        Ok(if request.groups.is_some() { 1 } else { (PORTS / PORTS_OF_A_PORTION) as usize })
    }

    fn answered(&self, request: &Request, table: &Schema) -> Result<Schema, String> {
        let value = |name: &str| {
            let value = request.groups.iter().flat_map(|groups| &groups.values).find(|value| value.name == name)?;
            Some(Field::new(name, if value.sql_type == "bigint" { DataType::Int64 } else { DataType::Utf8 }, true))
        };
        let field = |name: &String| match value(name) {
            Some(field) => Ok(field),
            None => table.field_with_name(name).cloned().map_err(|e| e.to_string()),
        };
        request.columns.iter().map(field).collect::<Result<Vec<_>, _>>().map(Schema::new)
    }

    fn rows(&self, request: &Request, portion: usize) -> Result<Rows, String> {
        if let Some(groups) = &request.groups {
            let schema = Arc::new(self.answered(request, &self.schema)?);
            return Ok(Box::new(std::iter::once(grouped(request, groups, schema))));
        }
        let request = request.clone();
        let places: Vec<usize> = request
            .columns
            .iter()
            .map(|name| self.schema.index_of(name))
            .collect::<Result<_, _>>()
            .map_err(|e| e.to_string())?;
        let schema = Arc::new(self.schema.project(&places).map_err(|e| e.to_string())?);
        let most = request.limit.or(request.top.as_ref().map(|top| top.rows));
        let mut left = most.map_or(usize::MAX, |limit| limit as usize);
        let filters = request.filters.clone();
        let mut tides =
            numbers(portion).map(Tide).filter(move |tide| filters.iter().all(|f| f.holds(&|name| tide.constant(name))));
        Ok(Box::new(std::iter::from_fn(move || {
            let some: Vec<Tide> = tides.by_ref().take(left.min(ROWS_OF_A_BATCH)).collect();
            if some.is_empty() {
                return None;
            }
            left -= some.len();
            let columns = request.columns.iter().map(|name| column(name, &some)).collect::<Result<Vec<_>, String>>();
            let options = RecordBatchOptions::new().with_row_count(Some(some.len()));
            Some(columns.and_then(|columns| {
                RecordBatch::try_new_with_options(schema.clone(), columns, &options).map_err(|e| e.to_string())
            }))
        })))
    }
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let address = std::env::args().nth(1).unwrap_or_else(|| "127.0.0.1:7340".to_owned());
    let schema = Arc::new(Schema::new(vec![
        Field::new("id", DataType::Int64, false),
        Field::new("port_id", DataType::Int32, false),
        Field::new("at", DataType::Timestamp(TimeUnit::Microsecond, None), false),
        Field::new("kind", DataType::Utf8, false),
        Field::new("height", DataType::Decimal128(5, 2), false),
        Field::new("note", DataType::Utf8, true),
    ]));
    let listener = tokio::net::TcpListener::bind(&address).await?;
    println!("tide tables at {}", listener.local_addr()?);
    serve(listener, Arc::new(TideTables { schema }), std::env::var("TIDE_TABLES_SECRET").ok()).await?;
    Ok(())
}
