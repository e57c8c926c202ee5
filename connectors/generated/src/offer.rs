//! What the generator takes over: columns, conditions on a column that counts the rows, and a limit.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::RecordBatch;
use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_plan::draft::Draft;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::Asked;
use cobble_plan::logical::Scan;
use cobble_plan::offer::{Agreed, KeptReason, PartCount, Request, Verdict, at_most, pass_through, places_of};
use cobble_plan::scan::{GateCounters, GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_types::{ColumnId, Error, ObjectName, Result};
use serde::{Deserialize, Serialize};

use super::numbers::Numbers;
use super::{GeneratedConnector, KIND, Made};

/// Rows of a portion.
const PORTION: u64 = 65_536;

#[derive(Debug)]
pub struct GeneratedDraft {
    name: ObjectName,
    made: Arc<Made>,
    places: HashMap<ColumnId, usize>,
    numbers: Numbers,
    limit: Option<u64>,
}

impl GeneratedDraft {
    pub fn new(made: Arc<Made>, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        let numbers = Numbers::up_to(made.rows);
        GeneratedDraft { name: scan.table.name.clone(), made, places, numbers, limit: None }
    }

    fn matching(&self, condition: &Expr) -> Option<Numbers> {
        let counting = |id: &ColumnId| self.made.table.numbered && self.places.get(id) == Some(&0);
        let column = condition.columns().into_iter().find(counting)?;
        Numbers::matching(condition, column, self.made.rows)
    }
}

impl Draft for GeneratedDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Filter(conjunct) => match self.matching(conjunct) {
                Some(numbers) => {
                    self.numbers = self.numbers.and(&numbers);
                    Verdict::pushed_with("only these rows are made")
                }
                None => Verdict::kept(KeptReason::NoSuchAbility, "rows are found by their number alone"),
            },
            Asked::Project(columns) => pass_through(&mut self.places, columns),
            Asked::Limit { limit: Some(limit), offset } => {
                let wanted = at_most(&mut self.limit, limit, offset);
                Verdict::Prunes { note: Some(format!("no more than {wanted} rows are made")) }
            }
            other => other.kept(),
        }
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let made = &self.made;
        let places = places_of(&self.places, columns)?;
        let text = format!("make rows of {}.{}", made.schema, made.table.name);
        let columns_read = places.iter().map(|place| made.columns[*place].0.clone()).collect();
        let work =
            Work { schema: made.schema.to_owned(), table: made.table.name.to_owned(), places, limit: self.limit };
        let spec = ScanSpec::new((&made.connection, KIND.kind), &self.name, FORM, &work)?
            .with_portions(self.numbers.pieces(PORTION))?;
        let wanted = self.numbers.count().min(self.limit.unwrap_or(u64::MAX));
        Ok(Agreed {
            parts: vec![PartCount { parts: "rows".into(), read: wanted, total: made.rows }],
            most_rows: Some(wanted as f64),
            all_rows_come_out: true,
            ..Agreed::new(spec, Request { text, parameters: vec![] }, columns_read)
        })
    }
}

/// Whether the generator makes fewer rows when it knows the keys of the column at this place.
pub fn takes_keys(made: &Made, spec: &ScanSpec, place: usize) -> Result<Verdict> {
    let work: Work = spec.unpack(FORM)?;
    if made.table.numbered && work.places.get(place) == Some(&0) {
        return Ok(Verdict::Prunes { note: Some("only rows with these numbers are made".into()) });
    }
    Ok(Verdict::kept(KeptReason::NoSuchAbility, "rows are found by their number alone"))
}

/// The form of [`Work`].
const FORM: u16 = 1;

/// What the generator was given to do. Its portions are ranges of row numbers.
#[derive(Debug, Serialize, Deserialize)]
struct Work {
    schema: String,
    table: String,
    places: Vec<usize>,
    limit: Option<u64>,
}

#[derive(Debug)]
struct GeneratedScan {
    made: Arc<Made>,
    numbers: Numbers,
    work: Work,
}

/// The scan of work that was agreed for this generator.
pub fn scan(connector: &GeneratedConnector, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    let work: Work = spec.unpack(FORM)?;
    let made = connector.made(&work.schema, &work.table);
    let made = made.ok_or_else(|| Error::unknown("table", &work.table, []))?;
    Ok(Arc::new(GeneratedScan { made: Arc::new(made), numbers: Numbers::of(spec.unpack_portions()?), work }))
}

#[async_trait]
impl GateScan for GeneratedScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let mut numbers = self.numbers.clone();
        for keys in &tools.keys {
            let before = numbers.count();
            let counting = self.made.table.numbered && self.work.places[keys.pass.place] == 0;
            let known = keys.condition().filter(|_| counting).and_then(|(condition, form)| {
                Some((Numbers::matching(&condition, keys.pass.column.id, self.made.rows)?, form))
            });
            let form = match known {
                Some((found, form)) => {
                    numbers = numbers.and(&found);
                    form
                }
                None => "not at all",
            };
            tools.counters.used(keys, form, before - numbers.count());
        }
        if let Some(limit) = self.work.limit {
            numbers = numbers.first(limit);
        }
        let places = &self.work.places;
        let field = |place: &usize| Field::new(place.to_string(), self.made.columns[*place].1.to_arrow(), true);
        Ok(Arc::new(GeneratedPortions {
            made: self.made.clone(),
            places: places.clone(),
            schema: Arc::new(Schema::new(places.iter().map(field).collect::<Vec<Field>>())),
            pieces: numbers.pieces(PORTION),
            next: AtomicUsize::new(0),
            batch_rows: tools.batch_rows as u64,
            counters: tools.counters.clone(),
        }))
    }
}

struct GeneratedPortions {
    made: Arc<Made>,
    places: Vec<usize>,
    schema: Arc<Schema>,
    pieces: Vec<std::ops::Range<u64>>,
    next: AtomicUsize,
    batch_rows: u64,
    counters: Arc<GateCounters>,
}

#[async_trait]
impl Portions for GeneratedPortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(rows) = self.pieces.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        GateCounters::add(&self.counters.requests, 1);
        Ok(Some(Box::new(GeneratedRows {
            made: self.made.clone(),
            places: self.places.clone(),
            schema: self.schema.clone(),
            rows: rows.clone(),
            batch_rows: self.batch_rows,
        })))
    }
}

struct GeneratedRows {
    made: Arc<Made>,
    places: Vec<usize>,
    schema: Arc<Schema>,
    rows: std::ops::Range<u64>,
    batch_rows: u64,
}

#[async_trait]
impl PortionReader for GeneratedRows {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.rows.is_empty() {
            return Ok(None);
        }
        let end = (self.rows.start + self.batch_rows.max(1)).min(self.rows.end);
        let rows = self.rows.start..end;
        self.rows.start = end;
        Ok(Some(self.made.table.make(&self.made.ferry, rows, &self.schema, &self.places)?))
    }
}
