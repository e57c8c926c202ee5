//! Lets a number of rows through after skipping some. The counts are shared by all tasks, which stop once it is reached.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::record_batch::RecordBatch;
use cobble_types::Result;

use super::OneBatch;
use crate::pipeline::{Step, StepFactory};

pub struct Limit {
    left: Arc<Mutex<Left>>,
}

#[derive(Clone, Copy)]
struct Left {
    skip: u64,
    /// `None` means no limit.
    rows: Option<u64>,
}

impl Limit {
    pub fn new(limit: Option<u64>, offset: u64) -> Self {
        Limit { left: Arc::new(Mutex::new(Left { skip: offset, rows: limit })) }
    }
}

struct LimitStep {
    left: Arc<Mutex<Left>>,
    out: OneBatch,
}

impl StepFactory for Limit {
    fn step(&self) -> Box<dyn Step> {
        Box::new(LimitStep { left: self.left.clone(), out: OneBatch::default() })
    }
}

impl Step for LimitStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let mut left = self.left.lock().unwrap_or_else(PoisonError::into_inner);
        let rows = batch.num_rows() as u64;
        let skipped = left.skip.min(rows);
        let taken = left.rows.map_or(rows - skipped, |n| n.min(rows - skipped));
        left.skip -= skipped;
        left.rows = left.rows.map(|n| n - taken);
        self.out.put(batch.slice(skipped as usize, taken as usize));
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.out.take())
    }

    fn satisfied(&self) -> bool {
        self.left.lock().unwrap_or_else(PoisonError::into_inner).rows == Some(0)
    }
}
