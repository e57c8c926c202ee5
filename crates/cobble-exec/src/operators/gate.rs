//! Reading from a gate: tasks claim portions until none is left.

use std::any::Any;
use std::sync::Arc;

use arrow::record_batch::RecordBatch;
use async_trait::async_trait;
use cobble_plan::scan::{GateCounters, GateScan, PortionReader, Portions, ScanMemory, ScanTools};
use cobble_types::Result;
use tokio::sync::OnceCell;

use super::join::KeySlot;

use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Source, SourceTask};

/// What a scan takes, counted to its gate.
#[derive(Debug)]
pub struct GateMemory {
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
}

impl ScanMemory for GateMemory {
    fn take(&self, bytes: u64) -> Result<Box<dyn Any + Send + Sync>> {
        let mut taken = Reservation::new(&self.pool, &self.meter);
        taken.grow(usize::try_from(bytes).unwrap_or(usize::MAX / 2))?;
        Ok(Box::new(taken))
    }
}

pub struct GateSource {
    shared: Arc<Shared>,
    /// Portions that were agreed; none where the source finds them when it is opened.
    portions: Option<usize>,
}

struct Shared {
    scan: Arc<dyn GateScan>,
    tools: ScanTools,
    /// Keys of joins, known by the time the first task comes.
    keys: Vec<KeySlot>,
    /// Opened by the first task that comes.
    portions: OnceCell<Arc<dyn Portions>>,
}

impl GateSource {
    pub fn new(scan: Arc<dyn GateScan>, agreed: usize, tools: ScanTools, keys: Vec<KeySlot>) -> Self {
        // Keys may be asked for in portions of their own.
        let portions = (agreed > 0 && keys.is_empty()).then_some(agreed);
        GateSource { shared: Arc::new(Shared { scan, tools, keys, portions: OnceCell::new() }), portions }
    }
}

impl Source for GateSource {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(GateTask { shared: self.shared.clone(), reader: None })
    }

    fn most_tasks(&self) -> usize {
        self.portions.unwrap_or(usize::MAX)
    }
}

struct GateTask {
    shared: Arc<Shared>,
    reader: Option<Box<dyn PortionReader>>,
}

#[async_trait]
impl SourceTask for GateTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let shared = &self.shared;
        let open = || async {
            let keys = shared.keys.iter().filter_map(|slot| slot.get().cloned()).collect();
            shared.scan.open(&ScanTools { keys, ..shared.tools.clone() }).await
        };
        let portions = shared.portions.get_or_try_init(open).await?;
        loop {
            if let Some(reader) = &mut self.reader {
                if let Some(batch) = reader.next().await? {
                    GateCounters::add(&shared.tools.counters.rows, batch.num_rows() as u64);
                    return Ok(Some(batch));
                }
                self.reader = None;
            }
            match portions.claim().await? {
                Some(reader) => self.reader = Some(reader),
                None => return Ok(None),
            }
        }
    }
}
