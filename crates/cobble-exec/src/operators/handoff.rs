//! Batches that one pipeline leaves for the next.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use arrow::record_batch::RecordBatch;
use async_trait::async_trait;
use cobble_types::Result;

use crate::batch::BATCH_ROWS;
use crate::pipeline::{Source, SourceTask};

#[derive(Default)]
pub struct Handoff(Mutex<VecDeque<RecordBatch>>);

impl Handoff {
    /// Leaves a batch, cut into pieces of the usual size.
    pub fn put(&self, batch: &RecordBatch) {
        let mut queue = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut start = 0;
        while start < batch.num_rows() {
            let rows = BATCH_ROWS.min(batch.num_rows() - start);
            queue.push_back(batch.slice(start, rows));
            start += rows;
        }
    }

    fn pop(&self) -> Option<RecordBatch> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop_front()
    }
}

pub struct HandoffSource(pub Arc<Handoff>);

struct HandoffTask(Arc<Handoff>);

impl Source for HandoffSource {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(HandoffTask(self.0.clone()))
    }

    fn most_tasks(&self) -> usize {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}

#[async_trait]
impl SourceTask for HandoffTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.pop())
    }
}
