//! The operators, one file each.

pub mod accumulators;
pub mod aggregate;
pub mod buckets;
pub mod cte;
pub mod expand;
pub mod filter;
pub mod frame_tree;
pub mod gate;
pub mod handoff;
pub mod join;
pub mod limit;
pub mod project;
pub mod sort;
pub mod window;
pub mod write;

use arrow::record_batch::RecordBatch;

/// The output of a step that gives at most one batch for each it takes.
#[derive(Default)]
pub struct OneBatch(Option<RecordBatch>);

impl OneBatch {
    pub fn put(&mut self, batch: RecordBatch) {
        if batch.num_rows() > 0 {
            self.0 = Some(batch);
        }
    }

    pub fn take(&mut self) -> Option<RecordBatch> {
        self.0.take()
    }
}
