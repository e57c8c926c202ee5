//! Computes the columns of the result from those of the input.

use std::sync::Arc;

use arrow::datatypes::SchemaRef;
use arrow::record_batch::RecordBatch;
use cobble_types::Result;

use super::OneBatch;
use crate::batch::batch_of;
use crate::expression::Compiled;
use crate::pipeline::{Step, StepFactory};

pub struct Project {
    pub expressions: Arc<Vec<Compiled>>,
    pub schema: SchemaRef,
}

struct ProjectStep {
    expressions: Arc<Vec<Compiled>>,
    schema: SchemaRef,
    out: OneBatch,
}

impl StepFactory for Project {
    fn step(&self) -> Box<dyn Step> {
        Box::new(ProjectStep {
            expressions: self.expressions.clone(),
            schema: self.schema.clone(),
            out: OneBatch::default(),
        })
    }
}

impl Step for ProjectStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let columns = self.expressions.iter().map(|e| e.array(&batch)).collect::<Result<_>>()?;
        self.out.put(batch_of(&self.schema, columns, batch.num_rows())?);
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.out.take())
    }
}
