//! A file without a footer whose columns are found by the ids of their fields: it is one part, read from its start.

use std::collections::VecDeque;
use std::fmt;
use std::sync::Arc;

use arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch, new_null_array};
use arrow::compute::{and, cast, filter_record_batch};
use arrow::datatypes::{DataType, Field, Fields, Schema, SchemaRef};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::GateCounters;
use cobble_storage::StoredFile;
use cobble_types::Result;

use crate::batches::Decoded;
use crate::footer::{Adapt, FIELD_ID, FileCondition, Footer, Layout, PartReading};
use crate::prune::Range;
use crate::{FileBatches, OpenFile, Shape, infer};

/// Opens a file for columns at these places of it, which come out in the file's order; it may give others too.
pub type Open = fn(&OpenFile, &[usize], usize) -> Result<(SchemaRef, Decoded)>;

pub struct WholeFile {
    pub file: StoredFile,
    /// With the ids of its fields.
    pub schema: SchemaRef,
    pub rows: u64,
    pub words: &'static str,
    pub open: Open,
}

impl fmt::Debug for WholeFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "WholeFile({}, {} rows)", self.words, self.rows)
    }
}

/// A field that has this id.
pub fn with_id(field: &Field, id: Option<i32>) -> Field {
    let Some(id) = id else { return field.clone() };
    let mut metadata = field.metadata().clone();
    metadata.insert(FIELD_ID.to_owned(), id.to_string());
    field.clone().with_metadata(metadata)
}

impl Footer for WholeFile {
    fn file(&self) -> &StoredFile {
        &self.file
    }

    fn columns(&self) -> Result<Vec<TableColumn>> {
        let known = self.schema.fields().iter().filter_map(|field| {
            let sql_type = cobble_types::SqlType::from_arrow(field.data_type())?;
            Some(infer::column(&field.name().to_lowercase(), sql_type))
        });
        Ok(known.collect())
    }

    fn memory(&self) -> usize {
        size_of::<WholeFile>() + self.schema.fields().size()
    }

    fn parts(&self) -> usize {
        1
    }

    fn rows(&self, _: usize) -> u64 {
        self.rows
    }

    fn ranges(&self, _: &TableColumn) -> Arc<Vec<Range>> {
        Arc::new(vec![Range { may_be_null: true, may_be_nan: true, ..Range::default() }])
    }

    fn layout(&self, columns: &[TableColumn]) -> Layout {
        let names: Vec<String> = self.schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
        Layout::Other(columns.iter().map(|column| names.iter().position(|name| *name == column.name)).collect())
    }

    fn bytes(&self, _: usize, _: &Shape, _: &Layout, _: &[usize]) -> f64 {
        self.file.bytes as f64
    }

    fn schema(&self) -> &SchemaRef {
        &self.schema
    }

    fn read(&self, file: &OpenFile, _: usize, reading: &PartReading<'_>) -> Result<Box<dyn FileBatches>> {
        let places = reading.conditions.iter().flat_map(|condition| &condition.columns).chain(&reading.shape.wanted);
        let mut roots: Vec<usize> = places.filter_map(|place| reading.layout.root(*place)).collect();
        roots.sort_unstable();
        roots.dedup();
        let (schema, batches) = (self.open)(file, &roots, reading.batch_rows)?;
        // Where all columns come out, a root is at its own place; else the roots stand in order.
        let is_whole = schema.fields().len() == self.schema.fields().len();
        let column = |place: &usize| {
            let root = reading.layout.root(*place);
            let own = root.map(|root| if is_whole { root } else { roots.partition_point(|known| *known < root) });
            (own, *place, reading.shape.types[*place].to_arrow())
        };
        Ok(Box::new(WholeBatches {
            batches,
            file: file.clone(),
            words: self.words,
            columns: reading.shape.wanted.iter().map(column).collect(),
            conditions: reading
                .conditions
                .iter()
                .map(|condition| (condition.clone(), condition.columns.iter().map(column).collect()))
                .collect(),
            adapt: reading.adapt.clone(),
            gone: reading.gone.iter().copied().collect(),
            next: 0,
            batch_rows: reading.batch_rows,
            rest: None,
            counters: reading.counters.clone(),
        }))
    }
}

/// Of a column its place in the file's batches, its place in the table, and its type there.
type Picked = (Option<usize>, usize, DataType);

struct WholeBatches {
    batches: Decoded,
    file: OpenFile,
    words: &'static str,
    columns: Vec<Picked>,
    conditions: Vec<(Arc<FileCondition>, Vec<Picked>)>,
    adapt: Option<Arc<dyn Adapt>>,
    /// Places of rows that are not there any more, of those that are still to come.
    gone: VecDeque<u64>,
    /// The place of the next row.
    next: u64,
    batch_rows: usize,
    rest: Option<RecordBatch>,
    counters: Arc<GateCounters>,
}

impl WholeBatches {
    fn picked(&self, columns: &[Picked], batch: &RecordBatch) -> Result<Vec<ArrayRef>> {
        let one = |(own, place, data_type): &Picked| {
            let Some(own) = own.filter(|own| *own < batch.num_columns()) else {
                return Ok(new_null_array(data_type, batch.num_rows()));
            };
            let column = batch.column(own);
            match &self.adapt {
                Some(adapt) => adapt.column(*place, column),
                None => cast(column, data_type),
            }
        };
        Ok(columns.iter().map(one).collect::<std::result::Result<_, _>>()?)
    }

    /// Which of the next rows are there.
    fn there(&mut self, rows: usize) -> Option<BooleanArray> {
        let end = self.next + rows as u64;
        let mut kept: Option<Vec<bool>> = None;
        while let Some(place) = self.gone.front().copied().filter(|place| *place < end) {
            self.gone.pop_front();
            if let Some(place) = place.checked_sub(self.next) {
                kept.get_or_insert_with(|| vec![true; rows])[place as usize] = false;
            }
        }
        self.next = end;
        kept.map(BooleanArray::from)
    }
}

impl FileBatches for WholeBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let whole = match self.rest.take() {
            Some(rest) => rest,
            None => match self.file.held(self.words, || Ok(self.batches.next()))? {
                Some(batch) => batch.map_err(|e| self.file.broken(self.words, &e))?,
                None => return Ok(None),
            },
        };
        let batch = whole.slice(0, self.batch_rows.min(whole.num_rows()));
        if batch.num_rows() < whole.num_rows() {
            self.rest = Some(whole.slice(batch.num_rows(), whole.num_rows() - batch.num_rows()));
        }
        // What is not there any more is not asked either: a condition may fail on it.
        let batch = match self.there(batch.num_rows()) {
            Some(there) => filter_record_batch(&batch, &there)?,
            None => batch,
        };
        let mut mask: Option<BooleanArray> = None;
        for (condition, picked) in &self.conditions {
            let columns = self.picked(picked, &batch)?;
            let fields: Fields = columns.iter().map(|c| Field::new("", c.data_type().clone(), true)).collect();
            let next = condition.predicate.evaluate(&RecordBatch::try_new(Arc::new(Schema::new(fields)), columns)?)?;
            GateCounters::add(&self.counters.rows_dropped, (next.len() - next.true_count()) as u64);
            mask = Some(match mask {
                Some(before) => and(&before, &next)?,
                None => next,
            });
        }
        let batch = match mask {
            Some(mask) => filter_record_batch(&batch, &mask)?,
            None => batch,
        };
        Ok(Some((self.picked(&self.columns, &batch)?, batch.num_rows())))
    }
}
