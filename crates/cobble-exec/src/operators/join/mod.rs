//! Joins of every kind: with equalities by hash, with bounds by searching sorted rows, without either as a loop. The build side is collected into one table of
//! chained rows; the probe side streams through it. Either side may be the left one; conditions beyond the equalities are
//! checked on the pairs. A build side that does not fit into memory is cut into buckets on disk, the probe side likewise, and
//! the buckets are joined one after another.

mod build;
mod learn;
mod probe;
mod ranges;
mod rest;

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch};
use arrow::datatypes::SchemaRef;
use cobble_plan::JoinKind;
use cobble_plan::physical::Side;
use cobble_types::{Error, Result};

pub use build::Build;
pub use learn::{KeySlot, Learner};
pub use probe::Probe;
pub use ranges::{RangeKey, RangeKeys};
pub use rest::Rest;

use self::ranges::Ranges;
use super::buckets::{Bucketed, Buckets};
use crate::batch::{bytes_of, rows_repeated};
use crate::expression::{Compiled, Conjunction};
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::spill::SpillPlace;
use cobble_functions::keys::{EncodedKeys, KeyEncoder};
use cobble_functions::operators::compare::comparable;

const NONE: u32 = u32::MAX;

/// What comes out of a join, said of its build and probe sides.
#[derive(Debug, Clone, Copy)]
pub struct JoinShape {
    pub kind: JoinKind,
    pub build: Side,
}

impl JoinShape {
    fn probe_is_left(self) -> bool {
        self.build == Side::Right
    }

    /// Pairs of partners come out.
    fn emits_pairs(self) -> bool {
        !self.kind.left_only()
    }

    fn emits_unmatched_probe(self) -> bool {
        match self.kind {
            JoinKind::Full => true,
            JoinKind::Left | JoinKind::Single => self.probe_is_left(),
            JoinKind::Right => !self.probe_is_left(),
            _ => false,
        }
    }

    fn emits_unmatched_build(self) -> bool {
        match self.kind {
            JoinKind::Full => true,
            JoinKind::Left => !self.probe_is_left(),
            JoinKind::Right => self.probe_is_left(),
            _ => false,
        }
    }

    /// Rows of the build side come out after all probing is done.
    fn emits_build_rows(self) -> bool {
        self.emits_unmatched_build() || (self.kind.left_only() && !self.probe_is_left())
    }
}

/// How the truth value of a mark join is found.
pub enum MarkRule {
    /// Whether there is a partner.
    Exists,
    /// The outcome of the join's one equality, unknown where nulls leave it open.
    OfKey,
    /// The outcome of conditions on the pairs, compiled for left columns, then right ones.
    Compare(Vec<Compiled>),
}

/// What all parts of one join share.
pub struct JoinSpec {
    pub shape: JoinShape,
    /// Empty for a range or a loop join.
    pub build_keys: Vec<Compiled>,
    pub probe_keys: Vec<Compiled>,
    /// For each key whether nulls equal each other.
    pub null_safe: Vec<bool>,
    pub encoder: KeyEncoder,
    pub residual: Conjunction,
    pub has_residual: bool,
    /// For a range join: how partners are searched.
    pub ranges: Option<RangeKeys>,
    pub mark: Option<MarkRule>,
    pub build_schema: SchemaRef,
    pub probe_schema: SchemaRef,
    /// Left columns, then right ones.
    pub pair_schema: SchemaRef,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub spill: SpillPlace,
    pub built: OnceLock<Built>,
    /// Keys that scans of the probe side wait for.
    pub learners: Vec<Learner>,
    /// Probe rows that wait on disk for their bucket.
    pub waiting: Mutex<Vec<Buckets>>,
}

/// The finished build side.
pub enum Built {
    Memory(Box<JoinTable>),
    /// Cut into buckets, which are taken out one by one.
    Buckets {
        buckets: Mutex<Vec<Option<Bucketed>>>,
        facts: BuildFacts,
    },
}

/// What is known of the whole build side, also when only a bucket of it is at hand.
#[derive(Debug, Clone, Copy, Default)]
pub struct BuildFacts {
    rows: usize,
    has_null_key: bool,
}

pub struct JoinTable {
    batch: RecordBatch,
    keys: Option<EncodedKeys>,
    ranges: Option<Ranges>,
    /// First row of each chain, and for each row the next of its chain.
    heads: Vec<u32>,
    next: Vec<u32>,
    mask: u64,
    facts: BuildFacts,
    /// Build rows that have found a partner; empty when nobody asks.
    matched: Vec<AtomicBool>,
    /// Rows of a batch of pairs, as far as the build rows decide it.
    most_pairs: usize,
    _memory: Reservation,
}

impl JoinSpec {
    fn built(&self) -> Result<&Built> {
        self.built.get().ok_or_else(|| Error::internal("a join was probed before its table was built"))
    }

    fn is_keyed(&self) -> bool {
        !self.build_keys.is_empty()
    }

    /// Encoded keys, and for each row whether a null makes it match nothing.
    fn encoded(&self, keys: &[Compiled], batch: &RecordBatch) -> Result<(EncodedKeys, Option<BooleanArray>)> {
        let columns = keys.iter().map(|key| Ok(comparable(&key.array(batch)?))).collect::<Result<Vec<ArrayRef>>>()?;
        let strict: Vec<&ArrayRef> = columns
            .iter()
            .zip(&self.null_safe)
            .filter(|(column, null_safe)| !**null_safe && column.null_count() > 0)
            .map(|(column, _)| column)
            .collect();
        let null_key = (!strict.is_empty())
            .then(|| (0..batch.num_rows()).map(|row| Some(strict.iter().any(|c| c.is_null(row)))).collect());
        Ok((self.encoder.encode(&columns, batch.num_rows())?, null_key))
    }

    /// The table of these build rows.
    fn table(&self, batch: RecordBatch, mut memory: Reservation, facts: Option<BuildFacts>) -> Result<JoinTable> {
        let rows = batch.num_rows();
        if rows >= NONE as usize {
            return Err(Error::unsupported("a join whose smaller side has more than four thousand million rows"));
        }
        memory.resize(bytes_of(&batch) + if self.is_keyed() { rows * 12 } else { 0 })?;
        let (mut heads, mut next, mut keys, mut has_null_key) = (Vec::new(), Vec::new(), None, false);
        if self.is_keyed() {
            let (encoded, null_key) = self.encoded(&self.build_keys, &batch)?;
            memory.grow(encoded.bytes())?;
            heads = vec![NONE; (rows * 2).next_power_of_two().max(16)];
            next = vec![NONE; rows];
            let mask = heads.len() - 1;
            // From the last row to the first, so that each chain runs in the order of the rows.
            for row in (0..rows).rev() {
                if null_key.as_ref().is_some_and(|n| n.value(row)) {
                    has_null_key = true;
                    continue;
                }
                let slot = encoded.hash(row) as usize & mask;
                next[row] = heads[slot];
                heads[slot] = row as u32;
            }
            keys = Some(encoded);
        }
        let ranges = match &self.ranges {
            Some(keys) => {
                // The copies that are sorted exist before their size is known.
                memory.grow(rows * RangeKeys::BYTES_PER_ROW)?;
                let ranges = keys.over(&batch)?;
                memory.grow(ranges.bytes().saturating_sub(rows * RangeKeys::BYTES_PER_ROW))?;
                Some(ranges)
            }
            None => None,
        };
        let matched = if self.shape.emits_build_rows() {
            (0..rows).map(|_| AtomicBool::new(false)).collect()
        } else {
            Vec::new()
        };
        let mask = heads.len().saturating_sub(1) as u64;
        let facts = facts.unwrap_or(BuildFacts { rows, has_null_key });
        let most_pairs = rows_repeated(&batch);
        Ok(JoinTable { batch, keys, ranges, heads, next, mask, facts, matched, most_pairs, _memory: memory })
    }

    fn take_waiting(&self) -> Vec<Buckets> {
        std::mem::take(&mut *self.waiting.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl JoinTable {
    /// The build rows that are partners of a probe row by the keys, in the order of the build side.
    /// Where the search for a probe row's partners begins.
    fn chain(&self, probe: &EncodedKeys, row: usize) -> u32 {
        if self.heads.is_empty() { NONE } else { self.heads[(probe.hash(row) & self.mask) as usize] }
    }

    /// The next partner from there on, and where to go on after it.
    fn next_candidate(&self, at: &mut u32, probe: &EncodedKeys, row: usize) -> Option<u32> {
        while *at != NONE {
            let candidate = *at;
            *at = self.next[candidate as usize];
            if self.keys.as_ref().is_some_and(|keys| keys.equal(candidate as usize, probe, row)) {
                return Some(candidate);
            }
        }
        None
    }
}
