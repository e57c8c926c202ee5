//! Computes the columns of the result from those of the input.

use std::sync::Arc;

use arrow::datatypes::SchemaRef;
use arrow::record_batch::RecordBatch;
use cobble_types::Result;

use crate::batch::batch_of;
use crate::expression::{Compiled, Pieces};
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Step, StepFactory};

pub struct Project {
    pub expressions: Arc<Vec<Compiled>>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
}

struct ProjectStep {
    expressions: Arc<Vec<Compiled>>,
    schema: SchemaRef,
    /// Rows that wait: where their values are large, they are made when they are asked for.
    input: Pieces,
    /// Large values that were given out last.
    memory: Reservation,
}

/// Bytes of values that are not counted, as they are soon gone.
const SMALL: u64 = 1 << 20;

impl StepFactory for Project {
    fn step(&self) -> Box<dyn Step> {
        Box::new(ProjectStep {
            expressions: self.expressions.clone(),
            schema: self.schema.clone(),
            input: Pieces::default(),
            memory: Reservation::new(&self.pool, &self.meter),
        })
    }
}

impl Step for ProjectStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        self.input = Pieces::of(batch);
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        self.memory.resize(0)?;
        let columns = |rows: &RecordBatch| self.expressions.iter().map(|e| e.array(rows)).collect::<Result<Vec<_>>>();
        let Some((rows, columns, bytes)) = self.input.next(columns)? else { return Ok(None) };
        if bytes > SMALL {
            self.memory.resize(bytes as usize)?;
        }
        batch_of(&self.schema, columns, rows.num_rows()).map(Some)
    }
}
