//! Collecting the build side.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::RecordBatch;
use arrow::compute::concat_batches;
use cobble_types::{Error, Result};

use super::{BuildFacts, Built, JoinSpec};
use crate::batch::{batch_of, bytes_of, compacted};
use crate::memory::Reservation;
use crate::operators::buckets::Buckets;
use crate::pipeline::{Sink, SinkTask};

/// What the table takes for each row beside the row: its key, its place in a chain, and twice a head.
const TABLE_BYTES: usize = 28;

pub struct Build {
    pub spec: Arc<JoinSpec>,
    pub collected: Arc<Mutex<Vec<Collected>>>,
}

/// One task's rows.
pub enum Collected {
    Memory { batches: Vec<RecordBatch>, memory: Reservation },
    Buckets { buckets: Buckets, facts: BuildFacts },
}

struct BuildTask {
    spec: Arc<JoinSpec>,
    rows: Collected,
    collected: Arc<Mutex<Vec<Collected>>>,
}

impl Build {
    fn reservation(&self) -> Reservation {
        Reservation::new(&self.spec.pool, &self.spec.meter)
    }
}

fn new_buckets(spec: &JoinSpec) -> Buckets {
    Buckets::new(&spec.build_schema, Reservation::new(&spec.pool, &spec.meter), &spec.spill, &spec.meter)
}

fn into_bucket(spec: &JoinSpec, batch: RecordBatch, buckets: &mut Buckets, facts: &mut BuildFacts) -> Result<()> {
    let (keys, null_key) = spec.encoded(&spec.build_keys, &batch)?;
    facts.rows += batch.num_rows();
    facts.has_null_key |= null_key.is_some_and(|n| n.true_count() > 0);
    buckets.push(batch, |row| keys.hash(row))
}

impl SinkTask for BuildTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let batch = compacted(batch_of(&self.spec.build_schema, batch.columns().to_vec(), batch.num_rows())?)?;
        if let Collected::Memory { batches, memory } = &mut self.rows {
            // The rows, their concatenated copy, and the hash table over them.
            let bytes = bytes_of(&batch) * 2 + batch.num_rows() * TABLE_BYTES;
            match memory.grow_within_share(bytes) {
                Ok(()) => {
                    batches.push(batch);
                    return Ok(());
                }
                Err(error) if !self.spec.is_keyed() => return Err(error),
                Err(_) => {
                    let (mut buckets, mut facts) = (new_buckets(&self.spec), BuildFacts::default());
                    memory.resize(0)?;
                    for held in std::mem::take(batches) {
                        into_bucket(&self.spec, held, &mut buckets, &mut facts)?;
                    }
                    self.rows = Collected::Buckets { buckets, facts };
                }
            }
        }
        match &mut self.rows {
            Collected::Buckets { buckets, facts } => into_bucket(&self.spec, batch, buckets, facts),
            Collected::Memory { .. } => Err(Error::internal("rows of a join were collected in two ways")),
        }
    }

    fn finish(self: Box<Self>) -> Result<()> {
        self.collected.lock().unwrap_or_else(PoisonError::into_inner).push(self.rows);
        Ok(())
    }
}

impl Sink for Build {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(BuildTask {
            spec: self.spec.clone(),
            rows: Collected::Memory { batches: vec![], memory: self.reservation() },
            collected: self.collected.clone(),
        })
    }

    fn seal(&self) -> Result<()> {
        let spec = &self.spec;
        let collected = std::mem::take(&mut *self.collected.lock().unwrap_or_else(PoisonError::into_inner));
        let built = if collected.iter().any(|c| matches!(c, Collected::Buckets { .. })) {
            // What other tasks still hold in memory goes the same way.
            let (mut all, mut facts) = (Vec::new(), BuildFacts::default());
            for part in collected {
                match part {
                    Collected::Buckets { buckets, facts: own } => {
                        facts.rows += own.rows;
                        facts.has_null_key |= own.has_null_key;
                        all.push(buckets);
                    }
                    Collected::Memory { batches, mut memory } => {
                        let mut buckets = new_buckets(spec);
                        memory.resize(0)?;
                        for batch in batches {
                            into_bucket(spec, batch, &mut buckets, &mut facts)?;
                        }
                        all.push(buckets);
                    }
                }
            }
            let buckets = Buckets::together(all)?.into_iter().map(Some).collect();
            Built::Buckets { buckets: Mutex::new(buckets), facts }
        } else {
            let (mut batches, mut held) = (Vec::new(), Vec::new());
            for part in collected {
                if let Collected::Memory { batches: own, memory } = part {
                    batches.extend(own);
                    held.push(memory);
                }
            }
            let rows: usize = batches.iter().map(RecordBatch::num_rows).sum();
            let batch = if spec.build_schema.fields().is_empty() {
                batch_of(&spec.build_schema, vec![], rows)?
            } else {
                concat_batches(&spec.build_schema, &batches)?
            };
            drop((batches, held));
            Built::Memory(Box::new(spec.table(batch, self.reservation(), None)?))
        };
        if let Built::Memory(table) = &built {
            for learner in &spec.learners {
                learner.learn(&spec.build_keys, &table.batch)?;
            }
        }
        spec.built.set(built).map_err(|_| Error::internal("a join's table was built twice"))
    }
}
