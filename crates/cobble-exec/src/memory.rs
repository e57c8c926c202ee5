//! The memory of a run, within that of all runs. Everything that can grow asks before it grows. What can go to disk does so
//! when either is getting short; the first that does not fit ends its run with an error that names the operator.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use cobble_types::{Code, Error, Result};

use crate::measures::StepMeter;

/// What all runs of a process may hold together, in bytes.
#[derive(Debug)]
pub struct ServiceMemory {
    limit: AtomicU64,
    used: AtomicU64,
}

impl ServiceMemory {
    pub fn new(limit: u64) -> Arc<Self> {
        Arc::new(ServiceMemory { limit: AtomicU64::new(limit), used: AtomicU64::new(0) })
    }

    /// Three quarters of the memory that the machine, or the group of processes, has.
    pub fn of_machine() -> Arc<Self> {
        let of = |path: &str, line: &str, unit: u64| {
            let text = std::fs::read_to_string(path).ok()?;
            let words = text.lines().find_map(|l| l.strip_prefix(line))?;
            Some(words.trim().trim_end_matches(" kB").parse::<u64>().ok()? * unit)
        };
        let machine = of("/proc/meminfo", "MemTotal:", 1024).unwrap_or(8 << 30);
        let group = of("/sys/fs/cgroup/memory.max", "", 1).unwrap_or(u64::MAX);
        ServiceMemory::new(machine.min(group) / 4 * 3)
    }

    pub fn set_limit(&self, limit: u64) {
        self.limit.store(limit, Ordering::Relaxed);
    }

    pub fn limit(&self) -> u64 {
        self.limit.load(Ordering::Relaxed)
    }

    pub fn used(&self) -> u64 {
        self.used.load(Ordering::Relaxed)
    }
}

/// Bytes that are held by something that outlives a run, its result for instance; given back when dropped.
#[derive(Debug)]
pub struct Held {
    memory: Arc<ServiceMemory>,
    bytes: u64,
}

impl ServiceMemory {
    /// Takes this many bytes, or `None` where they are not there.
    pub fn take(self: &Arc<Self>, bytes: u64) -> Option<Held> {
        if self.used.fetch_add(bytes, Ordering::Relaxed) + bytes > self.limit() {
            self.used.fetch_sub(bytes, Ordering::Relaxed);
            return None;
        }
        Some(Held { memory: self.clone(), bytes })
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.memory.used.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[derive(Debug)]
pub struct MemoryPool {
    service: Arc<ServiceMemory>,
    limit: u64,
    used: AtomicU64,
    peak: AtomicU64,
}

impl MemoryPool {
    pub fn new(limit: u64, service: &Arc<ServiceMemory>) -> Arc<Self> {
        Arc::new(MemoryPool { service: service.clone(), limit, used: AtomicU64::new(0), peak: AtomicU64::new(0) })
    }

    /// Bytes that the run may still take, as far as all runs together leave them.
    pub fn left(&self) -> u64 {
        let own = self.limit.saturating_sub(self.used.load(Ordering::Relaxed));
        own.min(self.service.limit().saturating_sub(self.service.used()))
    }

    pub fn peak(&self) -> u64 {
        self.peak.load(Ordering::Relaxed)
    }

    fn give_back(&self, bytes: u64) {
        self.used.fetch_sub(bytes, Ordering::Relaxed);
        self.service.used.fetch_sub(bytes, Ordering::Relaxed);
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
        let used = self.pool.used.load(Ordering::Relaxed);
        if used + more as u64 > self.pool.limit / 2 {
            return Err(self.too_much(used));
        }
        let service = &self.pool.service;
        if service.used() + more as u64 > service.limit() / 4 * 3 {
            return Err(self.too_busy());
        }
        self.grow(more)
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
                "{} needs more memory than the run may have: {} MiB of {} MiB are in use",
                self.meter.label(),
                used >> 20,
                self.pool.limit >> 20
            ),
        )
        .hint("raise run.memory, or select fewer rows, columns or groups")
    }

    fn too_busy(&self) -> Error {
        let service = &self.pool.service;
        Error::new(
            Code::MemoryLimit,
            format!(
                "{} needs more memory than all runs may have together: {} MiB of {} MiB are in use",
                self.meter.label(),
                service.used() >> 20,
                service.limit() >> 20
            ),
        )
        .hint("try again when other runs have ended, or start the service with more --memory")
    }

    /// Sets what is held to `bytes`. Fails, holding what it held before, when the run, or all of them, may not have that much.
    pub fn resize(&mut self, bytes: usize) -> Result<()> {
        let bytes = bytes as u64;
        if bytes <= self.bytes {
            self.pool.give_back(self.bytes - bytes);
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
        if self.pool.service.used.fetch_add(more, Ordering::Relaxed) + more > self.pool.service.limit() {
            self.pool.give_back(more);
            return Err(self.too_busy());
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
        self.pool.give_back(self.bytes);
        self.meter.release(self.bytes);
    }
}
