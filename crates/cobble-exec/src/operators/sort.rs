//! Sorting by Arrow's row format. With a limit, each task keeps only its best rows: whenever it holds several times as many
//! as wanted it sorts and drops the rest.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, RecordBatch, UInt32Array};
use arrow::compute::concat_batches;
use arrow::datatypes::{DataType, SchemaRef};
use arrow::row::{RowConverter, SortField};
use cobble_types::{Error, Result};

use super::handoff::Handoff;
use crate::batch::{BATCH_ROWS, batch_of, bytes_of, take_rows};
use crate::expression::{Compiled, one_zero};
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Sink, SinkTask};

pub struct Sort {
    pub keys: Arc<SortKeys>,
    pub fetch: Option<usize>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    /// What the tasks have collected, with the memory it holds.
    pub collected: Arc<Mutex<Vec<(RecordBatch, Reservation)>>>,
    pub out: Arc<Handoff>,
}

pub struct SortKeys {
    expressions: Vec<Compiled>,
    fields: Vec<SortField>,
}

impl SortKeys {
    pub fn new(keys: Vec<(Compiled, arrow::compute::SortOptions)>) -> Self {
        let fields =
            keys.iter().map(|(e, options)| SortField::new_with_options(e.data_type().clone(), *options)).collect();
        SortKeys { expressions: keys.into_iter().map(|(e, _)| e).collect(), fields }
    }

    /// The rows in order, at most `fetch` of them. Equal rows keep their order.
    fn sorted(&self, batch: &RecordBatch, fetch: Option<usize>) -> Result<RecordBatch> {
        let columns: Vec<ArrayRef> =
            self.expressions.iter().map(|e| Ok(one_zero(&e.array(batch)?))).collect::<Result<_>>()?;
        // A null constant has a type that the row format does not sort; it decides nothing.
        if columns.iter().all(|c| matches!(c.data_type(), DataType::Null)) {
            return Ok(batch.slice(0, fetch.unwrap_or(usize::MAX).min(batch.num_rows())));
        }
        let rows = RowConverter::new(self.fields.clone())?.convert_columns(&columns)?;
        let mut order: Vec<u32> = (0..batch.num_rows() as u32).collect();
        let compare = |a: &u32, b: &u32| rows.row(*a as usize).cmp(&rows.row(*b as usize)).then(a.cmp(b));
        match fetch {
            Some(n) if n < order.len() => {
                if n == 0 {
                    order.clear();
                } else {
                    order.select_nth_unstable_by(n - 1, compare);
                    order.truncate(n);
                    order.sort_unstable_by(compare);
                }
            }
            _ => order.sort_unstable_by(compare),
        }
        let places = UInt32Array::from(order);
        batch_of(&batch.schema(), take_rows(batch, &places)?, places.len())
    }
}

struct SortTask {
    keys: Arc<SortKeys>,
    fetch: Option<usize>,
    schema: SchemaRef,
    batches: Vec<RecordBatch>,
    rows: usize,
    memory: Reservation,
    collected: Arc<Mutex<Vec<(RecordBatch, Reservation)>>>,
}

impl Sink for Sort {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(SortTask {
            keys: self.keys.clone(),
            fetch: self.fetch,
            schema: self.schema.clone(),
            batches: Vec::new(),
            rows: 0,
            memory: Reservation::new(&self.pool, &self.meter),
            collected: self.collected.clone(),
        })
    }

    fn seal(&self) -> Result<()> {
        let collected = std::mem::take(&mut *self.collected.lock().unwrap_or_else(PoisonError::into_inner));
        let batches: Vec<&RecordBatch> = collected.iter().map(|(batch, _)| batch).collect();
        let all = concat_batches(&self.schema, batches)?;
        if all.num_rows() > u32::MAX as usize {
            return Err(Error::unsupported("sorting more than four thousand million rows"));
        }
        let mut memory = Reservation::new(&self.pool, &self.meter);
        memory.resize(bytes_of(&all) * 2)?;
        let sorted = self.keys.sorted(&all, self.fetch)?;
        self.meter.output(sorted.num_rows());
        self.out.put(&sorted);
        Ok(())
    }
}

impl SortTask {
    fn gather(&mut self) -> Result<RecordBatch> {
        let all = concat_batches(&self.schema, &self.batches)?;
        self.batches.clear();
        Ok(all)
    }
}

impl SinkTask for SortTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        self.memory.grow(bytes_of(&batch))?;
        self.rows += batch.num_rows();
        self.batches.push(batch_of(&self.schema, batch.columns().to_vec(), batch.num_rows())?);
        if let Some(n) = self.fetch
            && self.rows > (4 * n).max(8 * BATCH_ROWS)
        {
            let all = self.gather()?;
            let best = self.keys.sorted(&all, Some(n))?;
            self.rows = best.num_rows();
            self.memory.resize(bytes_of(&best))?;
            self.batches.push(best);
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<()> {
        if self.rows == 0 {
            return Ok(());
        }
        let mut all = self.gather()?;
        if self.fetch.is_some() {
            all = self.keys.sorted(&all, self.fetch)?;
        }
        self.memory.resize(bytes_of(&all))?;
        self.collected.lock().unwrap_or_else(PoisonError::into_inner).push((all, self.memory));
        Ok(())
    }
}
