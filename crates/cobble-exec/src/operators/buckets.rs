//! Rows cut by a hash into buckets that can be worked on one after another. What does not fit into memory goes to disk, the
//! largest bucket first.

use std::sync::Arc;

use arrow::array::{RecordBatch, UInt32Array};
use arrow::compute::concat_batches;
use arrow::datatypes::SchemaRef;
use cobble_types::Result;

use crate::batch::{BATCH_ROWS, batch_of, bytes_of, compacted, take_rows};
use crate::measures::StepMeter;
use crate::memory::Reservation;
use crate::spill::{Spill, SpillPlace, Spilled};

/// A power of two.
pub const BUCKETS: usize = 32;

/// The buckets that one task fills.
pub struct Buckets {
    schema: SchemaRef,
    buckets: Vec<Bucket>,
    memory: Reservation,
    place: SpillPlace,
    meter: Arc<StepMeter>,
    /// Some are on disk: those in memory must not keep texts of the others.
    are_apart: bool,
}

#[derive(Default)]
struct Bucket {
    batches: Vec<RecordBatch>,
    bytes: usize,
    spill: Option<Spill>,
    /// Rows on their way to disk: a cut of one batch is too small to be written alone.
    waiting: Vec<RecordBatch>,
    waiting_rows: usize,
    waiting_bytes: usize,
}

/// Bytes of a bucket that wait to be written; those that wait are not counted.
const WAITING: usize = 512 << 10;

/// One bucket of all tasks: what is in memory and what is on disk.
pub struct Bucketed {
    batches: Vec<RecordBatch>,
    spilled: Vec<Spilled>,
    /// What the batches in memory hold.
    _memory: Vec<Reservation>,
}

/// The bucket of a hash: its highest bits, because hash tables use the lowest.
pub fn bucket_of(hash: u64) -> usize {
    (hash >> 59) as usize % BUCKETS
}

impl Bucket {
    fn write(&mut self, batch: RecordBatch, schema: &SchemaRef) -> Result<()> {
        self.waiting_rows += batch.num_rows();
        self.waiting_bytes += bytes_of(&batch);
        // Without what the other buckets have of the same batch.
        self.waiting.push(compacted(batch)?);
        if self.waiting_rows >= BATCH_ROWS || self.waiting_bytes >= WAITING { self.flush(schema) } else { Ok(()) }
    }

    fn flush(&mut self, schema: &SchemaRef) -> Result<()> {
        if let Some(spill) = &mut self.spill
            && self.waiting_rows > 0
        {
            spill.write(&concat_batches(schema, &self.waiting)?)?;
            self.waiting.clear();
            (self.waiting_rows, self.waiting_bytes) = (0, 0);
        }
        Ok(())
    }
}

impl Buckets {
    pub fn new(schema: &SchemaRef, memory: Reservation, place: &SpillPlace, meter: &Arc<StepMeter>) -> Buckets {
        Buckets {
            schema: schema.clone(),
            buckets: (0..BUCKETS).map(|_| Bucket::default()).collect(),
            memory,
            place: place.clone(),
            meter: meter.clone(),
            are_apart: false,
        }
    }

    /// Adds rows, each to the bucket of its hash.
    pub fn push(&mut self, batch: RecordBatch, hash: impl Fn(usize) -> u64) -> Result<()> {
        let mut places: Vec<Vec<u32>> = vec![Vec::new(); BUCKETS];
        (0..batch.num_rows()).for_each(|row| places[bucket_of(hash(row))].push(row as u32));
        for (bucket, rows) in places.into_iter().enumerate().filter(|(_, rows)| !rows.is_empty()) {
            let count = rows.len();
            let taken = take_rows(&batch, &UInt32Array::from(rows))?;
            self.put(bucket, batch_of(&self.schema, taken, count)?)?;
        }
        Ok(())
    }

    /// Adds a batch to the first bucket: all rows belong together.
    pub fn push_whole(&mut self, batch: RecordBatch) -> Result<()> {
        self.put(0, batch)
    }

    fn put(&mut self, bucket: usize, batch: RecordBatch) -> Result<()> {
        if self.buckets[bucket].spill.is_some() {
            return self.buckets[bucket].write(batch, &self.schema);
        }
        let bytes = bytes_of(&batch);
        while self.memory.grow_within_share(bytes).is_err() {
            if !self.spill_largest()? {
                // Others hold the memory: this goes to disk at once.
                self.buckets[bucket].spill = Some(Spill::new(&self.place, &self.schema, &self.meter)?);
                return self.buckets[bucket].write(batch, &self.schema);
            }
        }
        let own = &mut self.buckets[bucket];
        if own.spill.is_some() {
            // It has just been spilled to make room for this.
            own.write(batch, &self.schema)?;
            return self.memory.shrink(bytes);
        }
        own.bytes += bytes;
        own.batches.push(if self.are_apart { compacted(batch)? } else { batch });
        Ok(())
    }

    /// Moves the largest bucket in memory to disk. False when there is none.
    pub fn spill_largest(&mut self) -> Result<bool> {
        let Some(bucket) = self.buckets.iter_mut().filter(|b| b.bytes > 0).max_by_key(|b| b.bytes) else {
            return Ok(false);
        };
        if bucket.spill.is_none() {
            bucket.spill = Some(Spill::new(&self.place, &self.schema, &self.meter)?);
        }
        for batch in std::mem::take(&mut bucket.batches) {
            bucket.write(batch, &self.schema)?;
        }
        let bytes = std::mem::take(&mut bucket.bytes);
        self.memory.shrink(bytes)?;
        if !std::mem::replace(&mut self.are_apart, true) {
            for batch in self.buckets.iter_mut().flat_map(|bucket| &mut bucket.batches) {
                *batch = compacted(batch.clone())?;
            }
        }
        Ok(true)
    }

    /// Moves everything to disk.
    pub fn spill_all(&mut self) -> Result<()> {
        while self.spill_largest()? {}
        Ok(())
    }

    /// The same buckets of all tasks put together.
    pub fn together(tasks: Vec<Buckets>) -> Result<Vec<Bucketed>> {
        let mut all: Vec<Bucketed> =
            (0..BUCKETS).map(|_| Bucketed { batches: vec![], spilled: vec![], _memory: vec![] }).collect();
        for mut task in tasks {
            for (mut bucket, out) in task.buckets.into_iter().zip(&mut all) {
                bucket.flush(&task.schema)?;
                out.batches.extend(bucket.batches);
                out._memory.push(task.memory.split(bucket.bytes)?);
                if let Some(spill) = bucket.spill {
                    out.spilled.push(spill.finish()?);
                }
            }
        }
        Ok(all)
    }
}

impl Bucketed {
    pub fn is_empty(&self) -> bool {
        self.batches.is_empty() && self.spilled.iter().all(|s| s.rows == 0)
    }

    /// The batches one after another, those on disk read when their turn comes.
    pub fn stream(self) -> Result<Box<dyn Iterator<Item = Result<RecordBatch>> + Send>> {
        let held = self._memory;
        let mut readers = Vec::new();
        for spilled in &self.spilled {
            readers.push(spilled.read()?);
        }
        let in_memory = self.batches.into_iter().map(move |batch| {
            let _while_read = &held;
            Ok(batch)
        });
        Ok(Box::new(in_memory.chain(readers.into_iter().flatten())))
    }

    /// All batches in memory, what came from disk accounted for.
    pub fn load(&self, memory: &mut Reservation) -> Result<Vec<RecordBatch>> {
        let mut batches = self.batches.clone();
        for spilled in &self.spilled {
            for batch in spilled.read()? {
                let batch = batch?;
                memory.grow(bytes_of(&batch))?;
                batches.push(batch);
            }
        }
        Ok(batches)
    }
}
