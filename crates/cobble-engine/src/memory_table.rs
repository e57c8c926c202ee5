//! Tables whose rows are made by the engine or the service: `information_schema` and the service's own state.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, StringViewArray};
use arrow::datatypes::{Field, Schema};
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use async_trait::async_trait;
use cobble_plan::draft::{Draft, answer};
use cobble_plan::expr::Column;
use cobble_plan::fragment::{Answer, Asked, Fragment};
use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::{Agreed, DescribedTable, KeptReason, Request, Source, Sources, Verdict, places_of};
use cobble_plan::scan::{GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_plan::serial::Bytes;
use cobble_plan::statistics::TableStatistics;
use cobble_types::{ColumnId, Error, ObjectName, Result, SqlType};
use serde::{Deserialize, Serialize};

use crate::catalogs::SYSTEM_CATALOG;

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
    pub fn into_table(self, name: ObjectName) -> DescribedTable {
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
        let (kind, origin) = (TableKind::View, Origin::new(SYSTEM_CATALOG, KIND, None));
        let table = Table { name, columns, statistics, primary_key: vec![], kind, origin };
        DescribedTable::new(table, MemorySource { rows: Arc::new(self) })
    }
}

/// What such rows are called where the kind of a source is said.
pub const KIND: &str = "state";

#[derive(Debug)]
struct MemorySource {
    rows: Arc<MemoryTable>,
}

#[async_trait]
impl Source for MemorySource {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        answer(fragment, |scan| {
            let places = scan.columns.iter().map(|(c, place)| (c.id, *place)).collect();
            Ok(MemoryDraft { rows: self.rows.clone(), table: scan.table.name.clone(), places })
        })
        .await
    }
}

/// Rows that are read as they are.
#[derive(Debug)]
struct MemoryDraft {
    rows: Arc<MemoryTable>,
    table: ObjectName,
    places: HashMap<ColumnId, usize>,
}

impl Draft for MemoryDraft {
    async fn take(&mut self, _: Asked<'_>) -> Verdict {
        Verdict::kept(KeptReason::NoSuchAbility, "the rows are in the engine already")
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let places = places_of(&self.places, columns)?;
        let spec = ScanSpec::new((SYSTEM_CATALOG, KIND), &self.table, FORM, &Work::new(&self.rows, &places)?)?;
        let request = Request { text: "rows of the service's own state".to_owned(), parameters: vec![] };
        Ok(Agreed::new(spec, request, places.iter().map(|place| self.rows.columns[*place].0.clone()).collect()))
    }
}

/// The form of [`Work`].
const FORM: u16 = 1;

/// The rows themselves, as a stream of the Arrow IPC format.
#[derive(Debug, Serialize, Deserialize)]
struct Work {
    rows: usize,
    stream: Bytes,
}

fn batch(arrays: Vec<ArrayRef>, rows: usize) -> Result<RecordBatch> {
    let field = |(place, array): (usize, &ArrayRef)| Field::new(place.to_string(), array.data_type().clone(), true);
    let schema = Arc::new(Schema::new(arrays.iter().enumerate().map(field).collect::<Vec<Field>>()));
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    Ok(RecordBatch::try_new_with_options(schema, arrays, &options)?)
}

impl Work {
    fn new(table: &MemoryTable, places: &[usize]) -> Result<Work> {
        let batch = batch(places.iter().map(|p| table.arrays[*p].clone()).collect(), table.rows)?;
        let mut writer = StreamWriter::try_new(Vec::new(), &batch.schema())?;
        writer.write(&batch)?;
        Ok(Work { rows: table.rows, stream: Bytes(writer.into_inner()?) })
    }

    fn batch(&self) -> Result<RecordBatch> {
        let mut reader = StreamReader::try_new(self.stream.0.as_slice(), None)?;
        let read = reader.next().transpose()?.ok_or_else(|| Error::internal("rows of the service are missing"))?;
        batch(read.columns().to_vec(), self.rows)
    }
}

#[derive(Debug)]
struct MemoryScan(RecordBatch);

/// The scan of rows that a plan carries with it.
pub fn scan(spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    Ok(Arc::new(MemoryScan(spec.unpack::<Work>(FORM)?.batch()?)))
}

#[async_trait]
impl GateScan for MemoryScan {
    async fn open(&self, _: &ScanTools) -> Result<Arc<dyn Portions>> {
        Ok(Batches::portions(vec![self.0.clone()]))
    }
}

/// Batches that are there already, as one portion.
#[derive(Debug)]
pub struct Batches(Mutex<Vec<RecordBatch>>);

impl Batches {
    pub fn portions(batches: Vec<RecordBatch>) -> Arc<dyn Portions> {
        Arc::new(Batches(Mutex::new(batches)))
    }
}

#[async_trait]
impl Portions for Batches {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let batches = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        let reader = |batches: Vec<RecordBatch>| Box::new(InOrder(batches.into_iter())) as Box<dyn PortionReader>;
        Ok((!batches.is_empty()).then(|| reader(batches)))
    }
}

struct InOrder(std::vec::IntoIter<RecordBatch>);

#[async_trait]
impl PortionReader for InOrder {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.next())
    }
}
