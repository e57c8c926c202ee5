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

    /// Grows only while the run leaves room for others: what can go to disk gives way at half of the memory.
    pub fn grow_within_share(&mut self, more: usize) -> Result<()> {
        let used = self.pool.used.load(Ordering::Relaxed) + more as u64;
        if used > self.pool.limit / 2 { Err(self.too_much(used - more as u64)) } else { self.grow(more) }
    }

    /// Sets what is held, as `resize` does, under the rule of `grow_within_share`.
    pub fn resize_within_share(&mut self, bytes: usize) -> Result<()> {
        match (bytes as u64).checked_sub(self.bytes) {
            Some(more) if more > 0 => self.grow_within_share(more as usize),
            _ => self.resize(bytes),
        }
    }

    /// Hands a part of what is held to a reservation of its own.
    pub fn split(&mut self, bytes: usize) -> Result<Reservation> {
        let bytes = (bytes as u64).min(self.bytes);
        self.bytes -= bytes;
        Ok(Reservation { pool: self.pool.clone(), meter: self.meter.clone(), bytes })
    }

    fn too_much(&self, used: u64) -> Error {
        Error::new(
            Code::MemoryLimit,
            format!(
                "step {} ({}) needs more memory than the run may have: {} MiB of {} MiB are in use",
                self.meter.step,
                self.meter.text,
                used >> 20,
                self.pool.limit >> 20
            ),
        )
        .hint("raise run.memory, or select fewer rows, columns or groups")
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
            return Err(self.too_much(used - more));
        }
        self.pool.peak.fetch_max(used, Ordering::Relaxed);
        self.meter.hold(more);
        self.bytes = bytes;
        Ok(())
    }

    pub fn grow(&mut self, more: usize) -> Result<()> {
        self.resize(self.bytes as usize + more)
    }

    pub fn shrink(&mut self, less: usize) -> Result<()> {
        self.resize((self.bytes as usize).saturating_sub(less))
    }
}

impl Drop for Reservation {
    fn drop(&mut self) {
        self.pool.used.fetch_sub(self.bytes, Ordering::Relaxed);
        self.meter.release(self.bytes);
    }
}
