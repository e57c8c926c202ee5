//! What the generator takes over: columns, conditions on a column that counts the rows, and a limit.

use std::any::Any;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::RecordBatch;
use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::Scan;
use cobble_plan::offer::{
    GateCounters, GateScan, KeptReason, Offer, PartCount, PortionReader, Portions, Request, ScanTools, Verdict,
    pass_through, places_of,
};
use cobble_types::{ColumnId, Result};

use super::Made;
use super::numbers::Numbers;

/// Rows of a portion.
const PORTION: u64 = 65_536;

#[derive(Debug)]
pub struct GeneratedOffer {
    made: Arc<Made>,
    places: HashMap<ColumnId, usize>,
    numbers: Numbers,
    limit: Option<u64>,
}

impl GeneratedOffer {
    pub fn new(made: Arc<Made>, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        let numbers = Numbers::up_to(made.rows);
        GeneratedOffer { made, places, numbers, limit: None }
    }

    fn matching(&self, condition: &Expr) -> Option<Numbers> {
        let counting = |id: &ColumnId| self.made.table.numbered && self.places.get(id) == Some(&0);
        let column = condition.columns().into_iter().find(counting)?;
        Numbers::matching(condition, column, self.made.rows)
    }
}

impl Offer for GeneratedOffer {
    fn filter(&mut self, conjunct: &Expr) -> Verdict {
        match self.matching(conjunct) {
            Some(numbers) => {
                self.numbers = self.numbers.and(&numbers);
                Verdict::pushed_with("only these rows are made")
            }
            None => Verdict::kept(KeptReason::NoSuchAbility, "rows are found by their number alone"),
        }
    }

    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict {
        pass_through(&mut self.places, columns)
    }

    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        let Some(limit) = limit else { return Verdict::kept(KeptReason::NoSuchAbility, "rows are not counted off") };
        let wanted = limit.saturating_add(offset);
        self.limit = Some(self.limit.map_or(wanted, |known| known.min(wanted)));
        Verdict::Prunes { note: Some(format!("no more than {wanted} rows are made")) }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>> {
        let places = places_of(&self.places, columns)?;
        let (made, numbers, limit) = (self.made.clone(), self.numbers.clone(), self.limit);
        Ok(Arc::new(GeneratedScan { made, places, numbers, limit }))
    }
}

#[derive(Debug)]
struct GeneratedScan {
    made: Arc<Made>,
    places: Vec<usize>,
    numbers: Numbers,
    limit: Option<u64>,
}

impl GeneratedScan {
    fn wanted(&self) -> u64 {
        self.numbers.count().min(self.limit.unwrap_or(u64::MAX))
    }
}

#[async_trait]
impl GateScan for GeneratedScan {
    fn request(&self) -> Request {
        let text = format!("make rows of {}.{}", self.made.schema, self.made.table.name);
        Request { text, parameters: vec![] }
    }

    fn columns_read(&self) -> Vec<String> {
        self.places.iter().map(|place| self.made.columns[*place].0.clone()).collect()
    }

    fn parts(&self) -> Vec<PartCount> {
        vec![PartCount { parts: "rows".into(), read: self.wanted(), total: self.made.rows }]
    }

    fn most_rows(&self) -> Option<f64> {
        Some(self.wanted() as f64)
    }

    fn all_rows_come_out(&self) -> bool {
        true
    }

    fn estimated_bytes(&self) -> Option<f64> {
        None
    }

    fn key_pass(&self, place: usize, _: f64) -> Verdict {
        if self.made.table.numbered && self.places[place] == 0 {
            return Verdict::Prunes { note: Some("only rows with these numbers are made".into()) };
        }
        Verdict::kept(KeptReason::NoSuchAbility, "rows are found by their number alone")
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let mut numbers = self.numbers.clone();
        for keys in &tools.keys {
            let before = numbers.count();
            let counting = self.made.table.numbered && self.places[keys.pass.place] == 0;
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
        if let Some(limit) = self.limit {
            numbers = numbers.first(limit);
        }
        let field = |place: &usize| Field::new(place.to_string(), self.made.columns[*place].1.to_arrow(), true);
        Ok(Arc::new(GeneratedPortions {
            made: self.made.clone(),
            places: self.places.clone(),
            schema: Arc::new(Schema::new(self.places.iter().map(field).collect::<Vec<Field>>())),
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
