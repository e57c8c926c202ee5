//! A subquery used as a value: one row, of nulls when there is none; a second row is an error.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::new_null_array;
use arrow::datatypes::SchemaRef;
use arrow::record_batch::RecordBatch;
use cobble_types::{Code, Error, Result};

use super::handoff::Handoff;
use crate::batch::batch_of;
use crate::pipeline::{Sink, SinkTask};

pub struct SingleRow {
    pub schema: SchemaRef,
    pub row: Arc<Mutex<Option<RecordBatch>>>,
    pub out: Arc<Handoff>,
}

struct SingleRowTask(Arc<Mutex<Option<RecordBatch>>>);

impl Sink for SingleRow {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(SingleRowTask(self.row.clone()))
    }

    fn seal(&self) -> Result<()> {
        let row = self.row.lock().unwrap_or_else(PoisonError::into_inner).take();
        let row = match row {
            Some(row) => row,
            None => {
                let nulls = self.schema.fields().iter().map(|f| new_null_array(f.data_type(), 1)).collect();
                batch_of(&self.schema, nulls, 1)?
            }
        };
        self.out.put(&row);
        Ok(())
    }
}

impl SinkTask for SingleRowTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let mut row = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if batch.num_rows() > 1 || row.is_some() {
            return Err(Error::new(Code::Cardinality, "a subquery used as a value returned more than one row")
                .hint("add a condition, LIMIT 1 or an aggregate to it"));
        }
        *row = Some(batch);
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<()> {
        Ok(())
    }
}
