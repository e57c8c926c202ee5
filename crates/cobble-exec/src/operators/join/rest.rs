//! What is left when all probe rows have been seen: rows of the build side that come out at the end (unmatched ones of outer
//! joins, or those of a semi or anti join whose left side was built), and the buckets of a join that went to disk.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{ArrayRef, RecordBatch, UInt32Array, new_null_array};
use arrow::compute::concat_batches;
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::JoinKind;
use cobble_types::{Code, Error, Result};

use super::probe::Input;
use super::{Built, JoinSpec, JoinTable};
use crate::batch::{BATCH_ROWS, batch_of, take_rows};
use crate::expression::Compiled;
use crate::memory::Reservation;
use crate::operators::buckets::{BUCKETS, Bucketed, Buckets};
use crate::pipeline::{Source, SourceTask};

/// A bucket of the build side and the one of the probe side; either may have no rows.
struct BucketPair {
    build: Option<Bucketed>,
    probe: Option<Bucketed>,
    /// How often it has been cut.
    level: u32,
}

/// A bucket that is still too large after so many cuts is of few keys.
const MOST_CUTS: u32 = 4;

pub struct Rest {
    spec: Arc<JoinSpec>,
    taken: Arc<AtomicBool>,
    /// Pairs of buckets still to be joined; filled by the first task that asks.
    buckets: Arc<Mutex<Option<Vec<BucketPair>>>>,
}

impl Rest {
    pub fn new(spec: Arc<JoinSpec>) -> Rest {
        Rest { spec, taken: Arc::default(), buckets: Arc::default() }
    }
}

struct RestTask {
    spec: Arc<JoinSpec>,
    taken: Arc<AtomicBool>,
    buckets: Arc<Mutex<Option<Vec<BucketPair>>>>,
    at: Option<usize>,
    current: Option<Current>,
}

/// The bucket that a task is joining.
struct Current {
    table: JoinTable,
    batches: Box<dyn Iterator<Item = Result<RecordBatch>> + Send>,
    input: Option<Input>,
    build_at: usize,
}

impl Source for Rest {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(RestTask {
            spec: self.spec.clone(),
            taken: self.taken.clone(),
            buckets: self.buckets.clone(),
            at: None,
            current: None,
        })
    }

    fn most_tasks(&self) -> usize {
        match self.spec.built() {
            Ok(Built::Buckets { .. }) => usize::MAX,
            Ok(Built::Memory(_)) | Err(_) => 1,
        }
    }
}

#[async_trait]
impl SourceTask for RestTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        let spec = self.spec.clone();
        match spec.built()? {
            Built::Memory(table) => {
                if !spec.shape.emits_build_rows() {
                    return Ok(None);
                }
                if self.at.is_none() {
                    // One task does it.
                    if self.taken.swap(true, Ordering::Relaxed) {
                        return Ok(None);
                    }
                    self.at = Some(0);
                }
                build_rows(&spec, table, self.at.get_or_insert(0))
            }
            Built::Buckets { .. } => self.next_of_buckets(),
        }
    }
}

impl RestTask {
    fn next_of_buckets(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if let Some(current) = &mut self.current {
                if let Some(input) = &mut current.input {
                    let out = input.next(&self.spec, &current.table)?;
                    if input.is_done() {
                        current.input = None;
                    }
                    // An empty batch lets the driver look whether it should stop.
                    if out.is_some() {
                        return Ok(out);
                    }
                    continue;
                }
                if let Some(batch) = current.batches.next() {
                    current.input = Some(Input::new(&self.spec, &current.table, batch?)?);
                    continue;
                }
                if self.spec.shape.emits_build_rows()
                    && let Some(out) = build_rows(&self.spec, &current.table, &mut current.build_at)?
                {
                    return Ok(Some(out));
                }
                self.current = None;
            }
            let Some(pair) = self.claim()? else { return Ok(None) };
            let table = match self.table_of(&pair) {
                Ok(table) => table,
                Err(error) if error.code == Code::MemoryLimit && pair.level < MOST_CUTS => {
                    self.cut(pair)?;
                    // An empty batch lets the driver look whether it should stop.
                    return Ok(Some(RecordBatch::new_empty(self.spec.schema.clone())));
                }
                Err(error) => return Err(error),
            };
            let batches = match pair.probe {
                Some(probe) => probe.stream()?,
                None => Box::new(std::iter::empty()),
            };
            self.current = Some(Current { table, batches, input: None, build_at: 0 });
        }
    }

    fn table_of(&self, pair: &BucketPair) -> Result<JoinTable> {
        let memory = || Reservation::new(&self.spec.pool, &self.spec.meter);
        let Built::Buckets { facts, .. } = self.spec.built()? else {
            return Err(Error::internal("a join in memory has no buckets"));
        };
        let mut loading = memory();
        let batches = pair.build.as_ref().map(|b| b.load(&mut loading)).transpose()?.unwrap_or_default();
        let all = concat_batches(&self.spec.build_schema, &batches)?;
        drop((batches, loading));
        self.spec.table(all, memory(), Some(*facts))
    }

    /// Cuts a pair that is too large for the memory by other bits of the hash, and puts the parts among those to be joined.
    fn cut(&self, pair: BucketPair) -> Result<()> {
        let (spec, level) = (&self.spec, pair.level + 1);
        let parts = |bucket: Option<Bucketed>, schema: &SchemaRef, keys: &[Compiled]| -> Result<Vec<Bucketed>> {
            let memory = Reservation::new(&spec.pool, &spec.meter);
            let mut parts = Buckets::new(schema, memory, &spec.spill, &spec.meter);
            if let Some(bucket) = bucket {
                for batch in bucket.stream()? {
                    let batch = batch?;
                    let (keys, _) = spec.encoded(keys, &batch)?;
                    parts.push(batch, |row| keys.hash(row).rotate_left(level * BUCKETS.ilog2()))?;
                }
            }
            parts.spill_all()?;
            Buckets::together(vec![parts])
        };
        let builds = parts(pair.build, &spec.build_schema, &spec.build_keys)?;
        let probes = parts(pair.probe, &spec.probe_schema, &spec.probe_keys)?;
        let pairs = builds.into_iter().zip(probes).filter(|(build, probe)| !build.is_empty() || !probe.is_empty());
        let mut all = self.buckets.lock().unwrap_or_else(PoisonError::into_inner);
        all.get_or_insert_default().extend(pairs.map(|(build, probe)| BucketPair {
            build: Some(build),
            probe: Some(probe),
            level,
        }));
        Ok(())
    }

    fn claim(&self) -> Result<Option<BucketPair>> {
        let mut all = self.buckets.lock().unwrap_or_else(PoisonError::into_inner);
        if all.is_none() {
            let probes = Buckets::together(self.spec.take_waiting())?;
            let Built::Buckets { buckets, .. } = self.spec.built()? else { return Ok(None) };
            let builds = std::mem::take(&mut *buckets.lock().unwrap_or_else(PoisonError::into_inner));
            let mut probes: VecDeque<_> = probes.into_iter().map(Some).collect();
            let mut builds: VecDeque<_> = builds.into();
            // Buckets correspond by place; either side may have none.
            *all = Some(
                (0..BUCKETS)
                    .map(|_| BucketPair {
                        build: builds.pop_front().flatten(),
                        probe: probes.pop_front().flatten(),
                        level: 0,
                    })
                    .filter(|pair| pair.build.is_some() || pair.probe.is_some())
                    .collect(),
            );
        }
        Ok(all.as_mut().and_then(Vec::pop))
    }
}

/// The next rows of the build side that come out by themselves.
fn build_rows(spec: &JoinSpec, table: &JoinTable, at: &mut usize) -> Result<Option<RecordBatch>> {
    let want_matched = spec.shape.kind == JoinKind::Semi;
    while *at < table.batch.num_rows() {
        let end = (*at + BATCH_ROWS).min(table.batch.num_rows());
        let wanted: Vec<u32> = (*at..end)
            .filter(|row| table.matched[*row].load(Ordering::Relaxed) == want_matched)
            .map(|row| row as u32)
            .collect();
        *at = end;
        if wanted.is_empty() {
            continue;
        }
        let rows = wanted.len();
        let own = take_rows(&table.batch, &UInt32Array::from(wanted))?;
        let columns = if spec.shape.kind.left_only() {
            own
        } else {
            let nulls: Vec<ArrayRef> =
                spec.probe_schema.fields().iter().map(|f| new_null_array(f.data_type(), rows)).collect();
            if spec.shape.probe_is_left() { [nulls, own].concat() } else { [own, nulls].concat() }
        };
        return Ok(Some(batch_of(&spec.schema, columns, rows)?));
    }
    Ok(None)
}
