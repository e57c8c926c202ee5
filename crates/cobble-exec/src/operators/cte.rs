//! Results that are computed once and read several times, and recursion over them.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::RecordBatch;
use arrow::compute::filter_record_batch;
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::physical::PhysicalNode;
use cobble_types::{Code, Error, Result};

use crate::batch::{batch_of, bytes_of, compacted};
use crate::groups::GroupIndex;
use crate::lower::Surroundings;
use crate::measures::StepMeter;
use crate::memory::Reservation;
use crate::pipeline::{Sink, SinkTask, Source, SourceTask};
use crate::spill::{Spill, SpillPlace, Spilled};
use cobble_functions::keys::KeyEncoder;

/// Batches that are read one after another.
type Batches = Box<dyn Iterator<Item = Result<RecordBatch>> + Send>;

/// The kept results of a run by id.
pub type Shelf = Arc<Mutex<HashMap<u32, Arc<Kept>>>>;

/// Batches that stay until the run ends; what does not fit into memory stands on disk, after the others.
pub struct Kept {
    pub schema: SchemaRef,
    batches: Mutex<(Vec<RecordBatch>, Vec<Spilled>)>,
    _memory: Mutex<Vec<Reservation>>,
}

impl Kept {
    pub fn new(schema: SchemaRef) -> Kept {
        Kept { schema, batches: Mutex::default(), _memory: Mutex::default() }
    }

    fn is_empty(&self) -> bool {
        let content = self.batches.lock().unwrap_or_else(PoisonError::into_inner);
        content.0.is_empty() && content.1.is_empty()
    }

    /// All batches, those on disk as they are read.
    fn read(&self) -> Result<Batches> {
        let content = self.batches.lock().unwrap_or_else(PoisonError::into_inner);
        let on_disk = content.1.iter().map(Spilled::read).collect::<Result<Vec<_>>>()?;
        Ok(Box::new(content.0.clone().into_iter().map(Ok).chain(on_disk.into_iter().flatten())))
    }
}

pub struct Keep {
    pub kept: Arc<Kept>,
    pub memory: Arc<dyn Fn() -> Reservation + Send + Sync>,
    pub meter: Arc<StepMeter>,
    pub spill: SpillPlace,
}

struct KeepTask {
    kept: Arc<Kept>,
    batches: Vec<RecordBatch>,
    memory: Reservation,
    meter: Arc<StepMeter>,
    place: SpillPlace,
    spill: Option<Spill>,
}

impl Sink for Keep {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(KeepTask {
            kept: self.kept.clone(),
            batches: Vec::new(),
            memory: (self.memory)(),
            meter: self.meter.clone(),
            place: self.spill.clone(),
            spill: None,
        })
    }

    fn seal(&self) -> Result<()> {
        Ok(())
    }
}

impl SinkTask for KeepTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        let batch = batch_of(&self.kept.schema, batch.columns().to_vec(), batch.num_rows())?;
        let batch = compacted(batch)?;
        if self.spill.is_none() && self.memory.grow_within_share(bytes_of(&batch)).is_ok() {
            self.batches.push(batch);
            return Ok(());
        }
        if self.spill.is_none() {
            self.spill = Some(Spill::new(&self.place, &self.kept.schema, &self.meter)?);
        }
        match &mut self.spill {
            Some(spill) => spill.write(&batch),
            None => Ok(()),
        }
    }

    fn finish(self: Box<Self>) -> Result<()> {
        let mut content = self.kept.batches.lock().unwrap_or_else(PoisonError::into_inner);
        content.0.extend(self.batches);
        if let Some(spill) = self.spill {
            content.1.push(spill.finish()?);
        }
        self.kept._memory.lock().unwrap_or_else(PoisonError::into_inner).push(self.memory);
        Ok(())
    }
}

/// One reader of a kept result; its tasks share a place in it.
pub struct CteSource {
    pub shelf: Shelf,
    pub id: u32,
    pub name: String,
    pub places: Vec<usize>,
    pub schema: SchemaRef,
    at: Arc<AtomicUsize>,
    disk: Arc<Mutex<Option<Batches>>>,
}

impl CteSource {
    pub fn new(shelf: Shelf, id: u32, name: String, places: Vec<usize>, schema: SchemaRef) -> Self {
        CteSource { shelf, id, name, places, schema, at: Arc::default(), disk: Arc::default() }
    }
}

struct CteTask {
    shelf: Shelf,
    id: u32,
    name: String,
    places: Vec<usize>,
    schema: SchemaRef,
    at: Arc<AtomicUsize>,
    disk: Arc<Mutex<Option<Batches>>>,
}

impl Source for CteSource {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(CteTask {
            shelf: self.shelf.clone(),
            id: self.id,
            name: self.name.clone(),
            places: self.places.clone(),
            schema: self.schema.clone(),
            at: self.at.clone(),
            disk: self.disk.clone(),
        })
    }

    fn most_tasks(&self) -> usize {
        let kept = self.shelf.lock().unwrap_or_else(PoisonError::into_inner).get(&self.id).cloned();
        let Some(kept) = kept else { return 1 };
        let content = kept.batches.lock().unwrap_or_else(PoisonError::into_inner);
        if content.1.is_empty() { content.0.len() } else { usize::MAX }
    }
}

#[async_trait]
impl SourceTask for CteTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let kept = self.shelf.lock().unwrap_or_else(PoisonError::into_inner).get(&self.id).cloned();
        let kept = kept.ok_or_else(|| Error::internal(format!("{} was read before it was computed", self.name)))?;
        let at = self.at.fetch_add(1, Ordering::Relaxed);
        let content = kept.batches.lock().unwrap_or_else(PoisonError::into_inner);
        let batch = match content.0.get(at) {
            Some(batch) => Some(batch.clone()),
            None => {
                let mut disk = self.disk.lock().unwrap_or_else(PoisonError::into_inner);
                if disk.is_none() {
                    let mut readers = Vec::new();
                    for spilled in &content.1 {
                        readers.push(spilled.read()?);
                    }
                    *disk = Some(Box::new(readers.into_iter().flatten()));
                }
                disk.as_mut().and_then(Iterator::next).transpose()?
            }
        };
        drop(content);
        batch
            .map(|batch| {
                let columns = self.places.iter().map(|place| batch.column(*place).clone()).collect();
                batch_of(&self.schema, columns, batch.num_rows())
            })
            .transpose()
    }
}

/// Rounds after which a recursion is taken for endless.
const MOST_ROUNDS: usize = 100_000;

/// `WITH RECURSIVE`: the base's rows, then the step over what came last, until nothing comes.
pub struct Recursion {
    pub surroundings: Surroundings,
    pub id: u32,
    pub name: String,
    pub distinct: bool,
    pub base: Arc<PhysicalNode>,
    pub step: Arc<PhysicalNode>,
    pub schema: SchemaRef,
    pub taken: Arc<AtomicBool>,
}

struct RecursionTask {
    surroundings: Surroundings,
    id: u32,
    name: String,
    base: Arc<PhysicalNode>,
    step: Arc<PhysicalNode>,
    schema: SchemaRef,
    taken: Arc<AtomicBool>,
    /// Every row so far, when they must differ.
    seen: Option<Result<GroupIndex>>,
    /// What these rows take.
    memory: Reservation,
    round: usize,
    /// What the last round gave, to be handed on.
    ready: Option<Batches>,
    finished: bool,
}

impl Source for Recursion {
    fn task(&self) -> Box<dyn SourceTask> {
        let seen = self.distinct.then(|| {
            let types = self.schema.fields().iter().map(|f| f.data_type().clone()).collect();
            Ok(GroupIndex::new(Arc::new(KeyEncoder::new(types)?)))
        });
        Box::new(RecursionTask {
            surroundings: self.surroundings.clone(),
            id: self.id,
            name: self.name.clone(),
            base: self.base.clone(),
            step: self.step.clone(),
            schema: self.schema.clone(),
            taken: self.taken.clone(),
            seen,
            memory: Reservation::new(&self.surroundings.pool, &self.surroundings.measures.step(self.base.step)),
            round: 0,
            ready: None,
            finished: false,
        })
    }

    fn most_tasks(&self) -> usize {
        1
    }
}

#[async_trait]
impl SourceTask for RecursionTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.round == 0 && self.taken.swap(true, Ordering::Relaxed) {
            // One task does it.
            self.finished = true;
        }
        loop {
            if let Some(batch) = self.ready.as_mut().and_then(Iterator::next) {
                return batch.map(Some);
            }
            self.ready = None;
            if self.finished {
                return Ok(None);
            }
            if self.round > MOST_ROUNDS {
                return Err(Error::new(
                    Code::MemoryLimit,
                    format!("the recursion {} has not ended after {MOST_ROUNDS} rounds", self.name),
                )
                .hint("add a condition that ends it, or use UNION instead of UNION ALL"));
            }
            let node = if self.round == 0 { self.base.clone() } else { self.step.clone() };
            self.round += 1;
            let mut kept = self.surroundings.run_to_end(&node, &self.schema).await?;
            if self.seen.is_some() {
                let keep = self.surroundings.keep(&self.schema, &node);
                let mut fresh = keep.task();
                for batch in kept.read()? {
                    if let Some(batch) = self.unseen(batch?)? {
                        fresh.push(batch)?;
                    }
                }
                fresh.finish()?;
                kept = keep.kept;
            }
            self.finished = kept.is_empty();
            self.ready = Some(kept.read()?);
            self.surroundings.shelf.lock().unwrap_or_else(PoisonError::into_inner).insert(self.id, kept);
        }
    }
}

impl RecursionTask {
    fn unseen(&mut self, batch: RecordBatch) -> Result<Option<RecordBatch>> {
        let Some(seen) = &mut self.seen else { return Ok(Some(batch)) };
        let seen = seen.as_mut().map_err(|e| e.clone())?;
        let (mut assigned, mut known) = (Vec::new(), seen.len());
        seen.assign(batch.columns(), batch.num_rows(), &mut assigned)?;
        let is_new = assigned
            .iter()
            .map(|group| {
                let new = *group as usize == known;
                known += usize::from(new);
                Some(new)
            })
            .collect();
        self.memory.resize(seen.bytes())?;
        let batch = filter_record_batch(&batch, &is_new)?;
        Ok((batch.num_rows() > 0).then_some(batch))
    }
}
