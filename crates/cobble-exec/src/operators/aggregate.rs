//! Grouping by hash. Each task groups what it sees; at the end the tasks' groups are merged into the largest.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use arrow::compute::prep_null_mask_filter;
use arrow::datatypes::SchemaRef;
use cobble_plan::aggregate::AggregateCall;
use cobble_types::{Error, Result};

use super::accumulators::{Accumulator, accumulator};
use super::handoff::Handoff;
use crate::batch::batch_of;
use crate::expression::Compiled;
use crate::keys::{GroupIndex, KeyEncoder};
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Sink, SinkTask};

pub struct Aggregate {
    pub shape: Arc<Shape>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub finished: Arc<Mutex<Vec<Groups>>>,
    pub out: Arc<Handoff>,
}

/// What is grouped and what is computed, compiled.
pub struct Shape {
    pub keys: Vec<Compiled>,
    pub encoder: Arc<KeyEncoder>,
    pub calls: Vec<AggregateCall>,
    /// Argument and FILTER of each call.
    pub inputs: Vec<(Option<Compiled>, Option<Compiled>)>,
}

/// One task's groups.
pub struct Groups {
    index: GroupIndex,
    states: Vec<Box<dyn Accumulator>>,
    memory: Reservation,
}

impl Groups {
    fn count(&self, shape: &Shape) -> usize {
        // Without keys there is one group, even over no rows.
        if shape.keys.is_empty() { 1 } else { self.index.len() }
    }

    fn account(&mut self) -> Result<()> {
        let bytes = self.index.bytes() + self.states.iter().map(|s| s.bytes()).sum::<usize>();
        self.memory.resize(bytes)
    }
}

impl Aggregate {
    fn new_groups(&self) -> Result<Groups> {
        Ok(Groups {
            index: GroupIndex::new(self.shape.encoder.clone()),
            states: self.shape.calls.iter().map(accumulator).collect::<Result<_>>()?,
            memory: Reservation::new(&self.pool, &self.meter),
        })
    }
}

struct AggregateTask {
    shape: Arc<Shape>,
    groups: Result<Groups>,
    assigned: Vec<u32>,
    finished: Arc<Mutex<Vec<Groups>>>,
}

impl Sink for Aggregate {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(AggregateTask {
            shape: self.shape.clone(),
            groups: self.new_groups(),
            assigned: Vec::new(),
            finished: self.finished.clone(),
        })
    }

    fn seal(&self) -> Result<()> {
        let mut parts = std::mem::take(&mut *self.finished.lock().unwrap_or_else(PoisonError::into_inner));
        parts.sort_by_key(|groups| std::cmp::Reverse(groups.index.len()));
        let mut parts = parts.into_iter();
        let mut all = match parts.next() {
            Some(largest) => largest,
            None => self.new_groups()?,
        };
        let mut assigned = Vec::new();
        for part in parts {
            if self.shape.keys.is_empty() {
                assigned = vec![0];
            } else {
                all.index.assign(&part.index.keys()?, part.index.len(), &mut assigned)?;
            }
            let count = all.count(&self.shape);
            for (state, other) in all.states.iter_mut().zip(part.states) {
                state.merge(other, &assigned, count)?;
            }
            all.account()?;
        }
        let count = all.count(&self.shape);
        let mut columns: Vec<ArrayRef> = if self.shape.keys.is_empty() { vec![] } else { all.index.keys()? };
        for state in &mut all.states {
            columns.push(state.finish(count)?);
        }
        self.meter.output(count);
        self.out.put(&batch_of(&self.schema, columns, count)?);
        Ok(())
    }
}

impl SinkTask for AggregateTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let shape = &self.shape;
        let groups = self.groups.as_mut().map_err(|error| error.clone())?;
        if shape.keys.is_empty() {
            self.assigned.clear();
            self.assigned.resize(batch.num_rows(), 0);
        } else {
            let keys = shape.keys.iter().map(|key| key.array(&batch)).collect::<Result<Vec<_>>>()?;
            groups.index.assign(&keys, batch.num_rows(), &mut self.assigned)?;
        }
        let count = groups.count(shape);
        if count > u32::MAX as usize / 2 {
            return Err(Error::unsupported("more than two thousand million groups"));
        }
        for (state, (argument, filter)) in groups.states.iter_mut().zip(&shape.inputs) {
            match filter {
                None => {
                    let values = argument.as_ref().map(|argument| argument.array(&batch)).transpose()?;
                    state.update(&self.assigned, count, values.as_ref())?;
                }
                Some(filter) => {
                    // The argument is computed only for rows that pass: it may fail on the others.
                    let mask = filter.array(&batch)?;
                    let mask = mask.as_boolean();
                    let mask = if mask.null_count() > 0 { prep_null_mask_filter(mask) } else { mask.clone() };
                    let columns =
                        batch.columns().iter().map(|c| Ok(arrow::compute::filter(c, &mask)?)).collect::<Result<_>>()?;
                    let passed = batch_of(&batch.schema(), columns, mask.true_count())?;
                    let groups: Vec<u32> = mask.values().set_indices().map(|row| self.assigned[row]).collect();
                    let values = argument.as_ref().map(|argument| argument.array(&passed)).transpose()?;
                    state.update(&groups, count, values.as_ref())?;
                }
            }
        }
        groups.account()
    }

    fn finish(self: Box<Self>) -> Result<()> {
        self.finished.lock().unwrap_or_else(PoisonError::into_inner).push(self.groups?);
        Ok(())
    }
}
