//! The memory of a run. Everything that can grow asks before it grows; the first that does not fit ends the run with an
//! error that names the operator.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use cobble_types::{Code, Error, Result};

use crate::measures::StepMeter;

#[derive(Debug)]
pub struct MemoryPool {
    limit: u64,
    used: AtomicU64,
    peak: AtomicU64,
}

impl MemoryPool {
    pub fn new(limit: u64) -> Arc<Self> {
        Arc::new(MemoryPool { limit, used: AtomicU64::new(0), peak: AtomicU64::new(0) })
    }

    pub fn peak(&self) -> u64 {
        self.peak.load(Ordering::Relaxed)
    }
}

/// Bytes held by one task of one operator; given back when dropped.
#[derive(Debug)]
pub struct Reservation {
    pool: Arc<MemoryPool>,
    meter: Arc<StepMeter>,
    bytes: u64,
}

impl Reservation {
    pub fn new(pool: &Arc<MemoryPool>, meter: &Arc<StepMeter>) -> Self {
        Reservation { pool: pool.clone(), meter: meter.clone(), bytes: 0 }
    }

    /// Sets what is held to `bytes`. Fails, holding what it held before, when the run may not have that much.
    pub fn resize(&mut self, bytes: usize) -> Result<()> {
        let bytes = bytes as u64;
        if bytes <= self.bytes {
            self.pool.used.fetch_sub(self.bytes - bytes, Ordering::Relaxed);
            self.meter.release(self.bytes - bytes);
            self.bytes = bytes;
            return Ok(());
        }
        let more = bytes - self.bytes;
        let used = self.pool.used.fetch_add(more, Ordering::Relaxed) + more;
        if used > self.pool.limit {
            self.pool.used.fetch_sub(more, Ordering::Relaxed);
            return Err(Error::new(
                Code::MemoryLimit,
                format!(
                    "step {} ({}) needs more memory than the run may have: {} MiB of {} MiB are in use",
                    self.meter.step,
                    self.meter.text,
                    (used - more) >> 20,
                    self.pool.limit >> 20
                ),
            )
            .hint("raise run.memory, or select fewer rows, columns or groups"));
        }
        self.pool.peak.fetch_max(used, Ordering::Relaxed);
        self.meter.hold(more);
        self.bytes = bytes;
        Ok(())
    }

    pub fn grow(&mut self, more: usize) -> Result<()> {
        self.resize(self.bytes as usize + more)
    }
}

impl Drop for Reservation {
    fn drop(&mut self) {
        self.pool.used.fetch_sub(self.bytes, Ordering::Relaxed);
        self.meter.release(self.bytes);
    }
}
