//! Grouping by hash. Each task groups what it sees. At the end the tasks' groups are merged: few of them at once, many of
//! them bucket by bucket, in parallel. A task whose rows are nearly all groups of their own puts them away as partial states,
//! cut into the same buckets, and begins anew, so that its table stays in the processor's cache; one that runs out of memory
//! puts them to disk.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, RecordBatch};
use arrow::compute::prep_null_mask_filter;
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_plan::aggregate::AggregateCall;
use cobble_types::{Error, Result};

use super::accumulators::accumulator;
use super::buckets::{Bucketed, Buckets};
use crate::batch::{BATCH_BYTES, BATCH_ROWS, batch_of, pieces_of};
use crate::expression::{Compiled, Pieces};
use crate::groups::GroupIndex;
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Sink, SinkTask, Source, SourceTask};
use crate::spill::SpillPlace;
use cobble_functions::aggregate::Accumulator;
use cobble_functions::keys::KeyEncoder;

/// Groups of all tasks together above which they are merged bucket by bucket.
const MERGED_AT_ONCE: usize = 50_000;

/// Groups above which a task looks whether they are worth holding on to: about what a processor's own cache has room for.
const CROWDED: usize = 1 << 17;

/// What is grouped and what is computed, compiled.
pub struct AggregateSpec {
    pub keys: Vec<Compiled>,
    pub encoder: Arc<KeyEncoder>,
    pub calls: Vec<AggregateCall>,
    /// Values and FILTER of each call.
    pub inputs: Vec<(Vec<Compiled>, Option<Compiled>)>,
    /// Columns of each call's state.
    pub widths: Vec<usize>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub spill: SpillPlace,
    pub finished: Mutex<Vec<Finished>>,
    pub out: Mutex<Merging>,
}

/// One task's groups at its end.
pub struct Finished {
    groups: Groups,
    spilled: Option<Buckets>,
}

/// What is left to do when all rows have been seen.
#[derive(Default)]
pub struct Merging {
    ready: Vec<RecordBatch>,
    buckets: Vec<Bucketed>,
}

struct Groups {
    index: GroupIndex,
    states: Vec<Box<dyn Accumulator>>,
    memory: Reservation,
}

impl AggregateSpec {
    fn reservation(&self) -> Reservation {
        Reservation::new(&self.pool, &self.meter)
    }

    fn new_groups(&self) -> Result<Groups> {
        Ok(Groups {
            index: GroupIndex::new(self.encoder.clone()),
            states: self.calls.iter().map(accumulator).collect::<Result<_>>()?,
            memory: self.reservation(),
        })
    }

    fn count(&self, groups: &Groups) -> usize {
        // Without keys there is one group, even over no rows.
        if self.keys.is_empty() { 1 } else { groups.index.len() }
    }

    fn results(&self, groups: &Groups) -> Result<RecordBatch> {
        let count = self.count(groups);
        let mut columns: Vec<ArrayRef> = if self.keys.is_empty() { vec![] } else { groups.index.keys()? };
        for state in &groups.states {
            columns.push(state.finish(count)?);
        }
        batch_of(&self.schema, columns, count)
    }

    /// Keys and states of all groups as rows.
    fn partial(&self, groups: &Groups) -> Result<RecordBatch> {
        let count = self.count(groups);
        let mut columns: Vec<ArrayRef> = groups.index.keys()?;
        for state in &groups.states {
            columns.extend(state.state(count)?);
        }
        let fields: Vec<Field> = columns
            .iter()
            .enumerate()
            .map(|(i, column)| Field::new(i.to_string(), column.data_type().clone(), true))
            .collect();
        batch_of(&Arc::new(Schema::new(fields)), columns, count)
    }

    /// Takes partial rows into groups.
    fn merge(&self, into: &mut Groups, partial: &RecordBatch, assigned: &mut Vec<u32>) -> Result<()> {
        let keys = self.keys.len();
        if keys == 0 {
            assigned.clear();
            assigned.resize(partial.num_rows(), 0);
        } else {
            into.index.assign(&partial.columns()[..keys], partial.num_rows(), assigned)?;
        }
        let count = self.count(into);
        let mut at = keys;
        for (state, width) in into.states.iter_mut().zip(&self.widths) {
            state.merge(assigned, count, &partial.columns()[at..at + width])?;
            at += width;
        }
        Ok(())
    }

    /// Cuts the groups into buckets.
    fn put_away(&self, groups: &Groups, buckets: &mut Option<Buckets>) -> Result<()> {
        let partial = self.partial(groups)?;
        let own = buckets
            .get_or_insert_with(|| Buckets::new(&partial.schema(), self.reservation(), &self.spill, &self.meter));
        for piece in pieces_of(&partial, 4 * BATCH_ROWS, BATCH_BYTES) {
            let encoded = self.encoder.encode(&piece.columns()[..self.keys.len()], piece.num_rows())?;
            own.push(piece, |row| encoded.hash(row))?;
        }
        Ok(())
    }
}

impl Groups {
    /// What they take. Twice what they are, as they are copied when they come out.
    fn bytes(&self) -> usize {
        2 * (self.index.bytes() + self.states.iter().map(|s| s.bytes()).sum::<usize>())
    }
}

// ---- grouping ----

pub struct Aggregate(pub Arc<AggregateSpec>);

struct AggregateTask {
    spec: Arc<AggregateSpec>,
    groups: Result<Groups>,
    spilled: Option<Buckets>,
    assigned: Vec<u32>,
    /// Rows since the groups began.
    rows: usize,
    /// Times that groups have been put away because they repeated little.
    crowded: u32,
}

impl AggregateTask {
    /// Groups at which the next look is taken. It doubles with every second time: rows that repeat seldom at first may do so
    /// in a larger table, and then putting them away again and again would cost more than the misses of the cache.
    fn next_look(&self) -> usize {
        CROWDED << (self.crowded / 2).min(12)
    }
}

impl Sink for Aggregate {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(AggregateTask {
            spec: self.0.clone(),
            groups: self.0.new_groups(),
            spilled: None,
            assigned: Vec::new(),
            rows: 0,
            crowded: 0,
        })
    }

    fn seal(&self) -> Result<()> {
        let spec = &self.0;
        let mut parts = std::mem::take(&mut *spec.finished.lock().unwrap_or_else(PoisonError::into_inner));
        let total: usize = parts.iter().map(|part| part.groups.index.len()).sum();
        let mut merging = Merging::default();
        if parts.iter().any(|part| part.spilled.is_some()) || (parts.len() > 1 && total > MERGED_AT_ONCE) {
            let mut all = Vec::new();
            for part in parts {
                let mut buckets = part.spilled;
                if part.groups.index.len() > 0 {
                    spec.put_away(&part.groups, &mut buckets)?;
                }
                drop(part.groups);
                all.extend(buckets);
            }
            merging.buckets = Buckets::together(all)?;
            merging.buckets.retain(|bucket| !bucket.is_empty());
        } else {
            parts.sort_by_key(|part| std::cmp::Reverse(part.groups.index.len()));
            let mut parts = parts.into_iter();
            let mut all = match parts.next() {
                Some(largest) => largest.groups,
                None => spec.new_groups()?,
            };
            let mut assigned = Vec::new();
            for part in parts {
                spec.merge(&mut all, &spec.partial(&part.groups)?, &mut assigned)?;
                all.memory.resize(all.bytes())?;
            }
            merging.ready.push(spec.results(&all)?);
        }
        *spec.out.lock().unwrap_or_else(PoisonError::into_inner) = merging;
        Ok(())
    }
}

/// What is computed of some rows before they go into their groups.
struct Values {
    keys: Vec<ArrayRef>,
    /// For each call the values and, where it has a FILTER, the rows that pass, which alone have values.
    inputs: Vec<(Vec<ArrayRef>, Option<BooleanArray>)>,
}

impl AggregateSpec {
    fn values(&self, batch: &RecordBatch) -> Result<Values> {
        let all = |values: &[Compiled], batch: &RecordBatch| {
            values.iter().map(|value| value.array(batch)).collect::<Result<Vec<_>>>()
        };
        let input = |(values, filter): &(Vec<Compiled>, Option<Compiled>)| {
            let Some(filter) = filter else { return Ok((all(values, batch)?, None)) };
            // The values are computed only for rows that pass: they may fail on the others.
            let mask = filter.array(batch)?;
            let mask = mask.as_boolean();
            let mask = if mask.null_count() > 0 { prep_null_mask_filter(mask) } else { mask.clone() };
            let columns =
                batch.columns().iter().map(|c| Ok(arrow::compute::filter(c, &mask)?)).collect::<Result<_>>()?;
            let passed = batch_of(&batch.schema(), columns, mask.true_count())?;
            Ok((all(values, &passed)?, Some(mask)))
        };
        Ok(Values { keys: all(&self.keys, batch)?, inputs: self.inputs.iter().map(input).collect::<Result<_>>()? })
    }
}

impl SinkTask for AggregateTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let spec = self.spec.clone();
        let mut pieces = Pieces::of(batch);
        while let Some((rows, values, _)) = pieces.next(|rows| spec.values(rows))? {
            self.take(rows.num_rows(), &values)?;
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<()> {
        let finished = Finished { groups: self.groups?, spilled: self.spilled };
        self.spec.finished.lock().unwrap_or_else(PoisonError::into_inner).push(finished);
        Ok(())
    }
}

impl AggregateTask {
    fn take(&mut self, rows: usize, values: &Values) -> Result<()> {
        let next_look = self.next_look();
        let spec = &self.spec;
        let groups = self.groups.as_mut().map_err(|error| error.clone())?;
        if spec.keys.is_empty() {
            self.assigned.clear();
            self.assigned.resize(rows, 0);
        } else {
            groups.index.assign(&values.keys, rows, &mut self.assigned)?;
        }
        let count = spec.count(groups);
        if count > u32::MAX as usize / 2 {
            return Err(Error::unsupported("more than two thousand million groups"));
        }
        for (state, (values, passed)) in groups.states.iter_mut().zip(&values.inputs) {
            match passed {
                None => state.update(&self.assigned, count, values)?,
                Some(mask) => {
                    let of_passed: Vec<u32> = mask.values().set_indices().map(|row| self.assigned[row]).collect();
                    state.update(&of_passed, count, values)?;
                }
            }
        }
        let bytes = groups.bytes();
        if spec.keys.is_empty() {
            return groups.memory.resize(bytes);
        }
        self.rows += rows;
        let full = groups.memory.resize_within_share(bytes).is_err();
        let crowded = groups.index.len() > next_look && self.rows < 2 * groups.index.len();
        if full || crowded {
            spec.put_away(groups, &mut self.spilled)?;
            if let (Some(buckets), true) = (&mut self.spilled, full) {
                buckets.spill_all()?;
            }
            self.rows = 0;
            self.crowded += u32::from(crowded);
            // The old groups give their memory back before new ones take theirs.
            self.groups = Err(Error::internal("groups were put away"));
            self.groups = spec.new_groups();
        }
        Ok(())
    }
}

// ---- merging ----

pub struct Merged(pub Arc<AggregateSpec>);

struct MergedTask {
    spec: Arc<AggregateSpec>,
    current: Option<(RecordBatch, usize)>,
}

impl Source for Merged {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(MergedTask { spec: self.0.clone(), current: None })
    }

    fn most_tasks(&self) -> usize {
        let out = self.0.out.lock().unwrap_or_else(PoisonError::into_inner);
        out.ready.len() + out.buckets.len()
    }
}

#[async_trait]
impl SourceTask for MergedTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if let Some((batch, at)) = &mut self.current {
                if *at < batch.num_rows() {
                    let rows = BATCH_ROWS.min(batch.num_rows() - *at);
                    let piece = batch.slice(*at, rows);
                    *at += rows;
                    return Ok(Some(piece));
                }
                self.current = None;
            }
            let (ready, bucket) = {
                let mut out = self.spec.out.lock().unwrap_or_else(PoisonError::into_inner);
                let ready = out.ready.pop();
                let bucket = if ready.is_none() { out.buckets.pop() } else { None };
                (ready, bucket)
            };
            self.current = match (ready, bucket) {
                (Some(batch), _) => Some((batch, 0)),
                (None, Some(bucket)) => {
                    let mut groups = self.spec.new_groups()?;
                    let mut assigned = Vec::new();
                    for partial in bucket.stream()? {
                        self.spec.merge(&mut groups, &partial?, &mut assigned)?;
                        groups.memory.resize(groups.bytes())?;
                    }
                    Some((self.spec.results(&groups)?, 0))
                }
                (None, None) => return Ok(None),
            };
        }
    }
}
