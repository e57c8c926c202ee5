//! Tables whose rows are made by the engine or the service: `information_schema` and the service's own state.

use std::any::Any;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, StringViewArray};
use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_plan::aggregate::AggregateCall;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{Join, Scan, SortKey, Table, TableColumn, TableKind};
use cobble_plan::offer::{
    GateScan, KeptReason, Offer, PartCount, PortionReader, Portions, Request, ScanTools, Source, Verdict, places_of,
};
use cobble_plan::statistics::TableStatistics;
use cobble_types::{ColumnId, ObjectName, Result, SqlType};

/// Columns with their types, and the rows.
#[derive(Debug, Clone)]
pub struct MemoryTable {
    pub columns: Vec<(String, SqlType)>,
    pub arrays: Vec<ArrayRef>,
    pub rows: usize,
}

/// A table of text columns.
pub fn text_rows(names: &[&str], rows: &[Vec<Option<String>>]) -> MemoryTable {
    let arrays = (0..names.len())
        .map(|i| Arc::new(rows.iter().map(|row| row[i].as_deref()).collect::<StringViewArray>()) as ArrayRef)
        .collect();
    MemoryTable { columns: names.iter().map(|n| ((*n).to_owned(), SqlType::Text)).collect(), arrays, rows: rows.len() }
}

impl MemoryTable {
    pub fn into_table(self, name: ObjectName) -> Arc<Table> {
        let columns = self
            .columns
            .iter()
            .map(|(name, t)| TableColumn {
                name: name.clone(),
                sql_type: t.clone(),
                nullable: true,
                partition: false,
                comment: None,
            })
            .collect();
        let statistics = TableStatistics { rows: Some(self.rows as f64), ..TableStatistics::default() };
        Arc::new(Table {
            name,
            columns,
            statistics,
            primary_key: vec![],
            kind: TableKind::View,
            source: Arc::new(MemorySource { table: Arc::new(self) }),
        })
    }
}

#[derive(Debug)]
struct MemorySource {
    table: Arc<MemoryTable>,
}

impl Source for MemorySource {
    fn connection(&self) -> &str {
        "lane"
    }

    fn kind(&self) -> &str {
        "state"
    }

    fn region(&self) -> Option<&str> {
        None
    }

    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        let table = self.table.clone();
        let finish = move |places| -> Arc<dyn GateScan> { Arc::new(MemoryScan { table: table.clone(), places }) };
        Box::new(KeptOffer::new(scan, "the rows are in the engine already", finish))
    }
}

/// Makes the scan of the columns at these places.
type Finish = dyn Fn(Vec<usize>) -> Arc<dyn GateScan> + Send + Sync;

/// An offer that takes nothing over.
pub struct KeptOffer {
    places: HashMap<ColumnId, usize>,
    why: &'static str,
    finish: Box<Finish>,
}

impl KeptOffer {
    pub fn new(
        scan: &Scan,
        why: &'static str,
        finish: impl Fn(Vec<usize>) -> Arc<dyn GateScan> + Send + Sync + 'static,
    ) -> KeptOffer {
        let places = scan.columns.iter().map(|(c, place)| (c.id, *place)).collect();
        KeptOffer { places, why, finish: Box::new(finish) }
    }

    fn kept(&self) -> Verdict {
        Verdict::kept(KeptReason::NoSuchAbility, self.why)
    }
}

impl fmt::Debug for KeptOffer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeptOffer").field("places", &self.places).finish_non_exhaustive()
    }
}

impl Offer for KeptOffer {
    fn filter(&mut self, _: &Expr) -> Verdict {
        self.kept()
    }

    fn project(&mut self, _: &[(Column, Expr)]) -> Verdict {
        self.kept()
    }

    fn aggregate(&mut self, _: &[(Column, Expr)], _: &[(Column, AggregateCall)]) -> Verdict {
        self.kept()
    }

    fn sort(&mut self, _: &[SortKey], _: Option<u64>) -> Verdict {
        self.kept()
    }

    fn limit(&mut self, _: Option<u64>, _: u64) -> Verdict {
        self.kept()
    }

    fn join(&mut self, _: &dyn Offer, _: &Join) -> Verdict {
        self.kept()
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>> {
        Ok((self.finish)(places_of(&self.places, columns)?))
    }
}

#[derive(Debug)]
struct MemoryScan {
    table: Arc<MemoryTable>,
    places: Vec<usize>,
}

#[async_trait]
impl GateScan for MemoryScan {
    fn request(&self) -> Request {
        Request { text: "rows of the service's own state".to_owned(), parameters: vec![] }
    }

    fn columns_read(&self) -> Vec<String> {
        self.places.iter().map(|p| self.table.columns[*p].0.clone()).collect()
    }

    fn parts(&self) -> Vec<PartCount> {
        vec![]
    }

    fn estimated_bytes(&self) -> Option<f64> {
        None
    }

    async fn open(&self, _: &ScanTools) -> Result<Arc<dyn Portions>> {
        let fields: Vec<Field> =
            self.places.iter().map(|p| Field::new(p.to_string(), self.table.columns[*p].1.to_arrow(), true)).collect();
        let arrays = self.places.iter().map(|p| self.table.arrays[*p].clone()).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(self.table.rows));
        let batch = RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &options)?;
        Ok(Arc::new(MemoryPortions { batch, claimed: AtomicBool::new(false) }))
    }
}

struct MemoryPortions {
    batch: RecordBatch,
    claimed: AtomicBool,
}

#[async_trait]
impl Portions for MemoryPortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        if self.claimed.swap(true, Ordering::Relaxed) {
            return Ok(None);
        }
        Ok(Some(Box::new(OneBatch(Some(self.batch.clone())))))
    }
}

struct OneBatch(Option<RecordBatch>);

#[async_trait]
impl PortionReader for OneBatch {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.take())
    }
}
