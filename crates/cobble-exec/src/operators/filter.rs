//! Keeps the rows for which all conditions are true, and gathers what is left into batches of the usual size.

use std::sync::Arc;

use arrow::compute::{BatchCoalescer, filter_record_batch};
use arrow::datatypes::SchemaRef;
use arrow::record_batch::RecordBatch;
use cobble_types::Result;

use super::OneBatch;
use crate::batch::{BATCH_BYTES, BATCH_ROWS, batch_of, bytes_of};
use crate::expression::Conjunction;
use crate::pipeline::{Step, StepFactory};

pub struct Filter {
    pub conditions: Arc<Conjunction>,
    pub schema: SchemaRef,
}

impl StepFactory for Filter {
    fn step(&self) -> Box<dyn Step> {
        if self.schema.fields().is_empty() {
            return Box::new(CountingFilter { conditions: self.conditions.clone(), out: OneBatch::default() });
        }
        Box::new(FilterStep {
            conditions: self.conditions.clone(),
            coalescer: BatchCoalescer::new(self.schema.clone(), BATCH_ROWS)
                .with_biggest_coalesce_batch_size(Some(BATCH_ROWS / 2)),
        })
    }
}

struct FilterStep {
    conditions: Arc<Conjunction>,
    coalescer: BatchCoalescer,
}

impl Step for FilterStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let mask = self.conditions.mask(&batch)?;
        let kept = mask.true_count();
        // Columns get the operator's own schema: a batch may carry another source's field names.
        let batch = batch_of(&self.coalescer.schema(), batch.columns().to_vec(), batch.num_rows())?;
        if kept > 0 && bytes_of(&batch) > BATCH_BYTES / 4 {
            // Large rows are not gathered.
            self.coalescer.finish_buffered_batch()?;
            self.coalescer.push_batch(filter_record_batch(&batch, &mask)?)?;
            self.coalescer.finish_buffered_batch()?;
        } else if kept == batch.num_rows() {
            self.coalescer.push_batch(batch)?;
        } else if kept > 0 {
            self.coalescer.push_batch(filter_record_batch(&batch, &mask)?)?;
        }
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.coalescer.next_completed_batch())
    }

    fn finish(&mut self) -> Result<()> {
        Ok(self.coalescer.finish_buffered_batch()?)
    }
}

/// Without columns only the number of rows is left.
struct CountingFilter {
    conditions: Arc<Conjunction>,
    out: OneBatch,
}

impl Step for CountingFilter {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let kept = self.conditions.mask(&batch)?.true_count();
        self.out.put(batch_of(&batch.schema(), vec![], kept)?);
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.out.take())
    }
}
