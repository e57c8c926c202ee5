//! Hash join for every kind of join with equalities. The build side is collected into one table of chained rows; the probe
//! side streams through it. Either side may be the left one; conditions beyond the equalities are checked on the pairs.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use arrow::array::{Array, ArrayRef, RecordBatch, UInt32Array, new_null_array};
use arrow::compute::{concat_batches, filter, take};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::JoinKind;
use cobble_plan::physical::Side;
use cobble_types::{Error, Result};

use crate::batch::{BATCH_ROWS, batch_of, bytes_of};
use crate::expression::{Compiled, Conjunction};
use crate::keys::{EncodedKeys, KeyEncoder};
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::pipeline::{Sink, SinkTask, Source, SourceTask, Step, StepFactory};

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
            JoinKind::Left => self.probe_is_left(),
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
    pub fn has_second_phase(self) -> bool {
        self.emits_unmatched_build() || (self.kind.left_only() && !self.probe_is_left())
    }
}

/// The finished build side.
pub struct JoinTable {
    batch: RecordBatch,
    keys: Option<EncodedKeys>,
    /// First row of each chain, and for each row the next of its chain.
    heads: Vec<u32>,
    next: Vec<u32>,
    mask: u64,
    has_null_key: bool,
    /// Build rows that have found a partner; empty when nobody asks.
    matched: Vec<AtomicBool>,
    _memory: Reservation,
}

/// Set once when the build side is sealed.
pub type SharedTable = Arc<OnceLock<JoinTable>>;

fn table(shared: &SharedTable) -> Result<&JoinTable> {
    shared.get().ok_or_else(|| Error::internal("a join was probed before its table was built"))
}

// ---- building ----

pub struct Build {
    pub shape: JoinShape,
    pub keys: Arc<Vec<Compiled>>,
    pub encoder: Arc<KeyEncoder>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub collected: Arc<Mutex<Vec<(RecordBatch, Reservation)>>>,
    pub table: SharedTable,
}

struct BuildTask {
    schema: SchemaRef,
    batches: Vec<RecordBatch>,
    memory: Reservation,
    collected: Arc<Mutex<Vec<(RecordBatch, Reservation)>>>,
}

impl SinkTask for BuildTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        self.memory.grow(bytes_of(&batch))?;
        self.batches.push(batch_of(&self.schema, batch.columns().to_vec(), batch.num_rows())?);
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<()> {
        if !self.batches.is_empty() {
            let all = concat_batches(&self.schema, &self.batches)?;
            self.collected.lock().unwrap_or_else(PoisonError::into_inner).push((all, self.memory));
        }
        Ok(())
    }
}

impl Sink for Build {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(BuildTask {
            schema: self.schema.clone(),
            batches: Vec::new(),
            memory: Reservation::new(&self.pool, &self.meter),
            collected: self.collected.clone(),
        })
    }

    fn seal(&self) -> Result<()> {
        let collected = std::mem::take(&mut *self.collected.lock().unwrap_or_else(PoisonError::into_inner));
        let rows: usize = collected.iter().map(|(batch, _)| batch.num_rows()).sum();
        if rows >= NONE as usize {
            return Err(Error::unsupported("a join whose smaller side has more than four thousand million rows"));
        }
        let batch = if self.schema.fields().is_empty() {
            batch_of(&self.schema, vec![], rows)?
        } else {
            concat_batches(&self.schema, collected.iter().map(|(batch, _)| batch))?
        };
        drop(collected);
        let keyed = !self.keys.is_empty();
        let mut memory = Reservation::new(&self.pool, &self.meter);
        memory.resize(bytes_of(&batch) + if keyed { rows * 12 } else { 0 })?;
        let (mut heads, mut next, mut keys, mut has_null_key) = (Vec::new(), Vec::new(), None, false);
        if keyed {
            let columns = self.keys.iter().map(|key| key.array(&batch)).collect::<Result<Vec<_>>>()?;
            let encoded = self.encoder.encode(&columns, rows)?;
            memory.grow(encoded.bytes())?;
            heads = vec![NONE; (rows * 2).next_power_of_two().max(16)];
            next = vec![NONE; rows];
            let mask = heads.len() - 1;
            // From the last row to the first, so that each chain runs in the order of the rows.
            for row in (0..rows).rev() {
                if columns.iter().any(|column| column.is_null(row)) {
                    has_null_key = true;
                    continue;
                }
                let slot = encoded.hash(row) as usize & mask;
                next[row] = heads[slot];
                heads[slot] = row as u32;
            }
            keys = Some(encoded);
        }
        let matched = if self.shape.has_second_phase() {
            (0..rows).map(|_| AtomicBool::new(false)).collect()
        } else {
            Vec::new()
        };
        let mask = heads.len().saturating_sub(1) as u64;
        let built = JoinTable { batch, keys, heads, next, mask, has_null_key, matched, _memory: memory };
        self.table.set(built).map_err(|_| Error::internal("a join's table was built twice"))
    }
}

impl JoinTable {
    /// The build rows that may be partners of a probe row, in the order of the build side.
    fn candidates<'a>(&'a self, probe: &'a EncodedKeys, row: usize) -> impl Iterator<Item = u32> + 'a {
        let hash = probe.hash(row);
        let mut at = if self.heads.is_empty() { NONE } else { self.heads[(hash & self.mask) as usize] };
        std::iter::from_fn(move || {
            while at != NONE {
                let candidate = at;
                at = self.next[candidate as usize];
                if self.keys.as_ref().is_some_and(|keys| keys.equal(candidate as usize, probe, row)) {
                    return Some(candidate);
                }
            }
            None
        })
    }
}

// ---- probing ----

pub struct Probe {
    pub shape: JoinShape,
    /// Empty for a loop join: then every build row is a candidate.
    pub keys: Arc<Vec<Compiled>>,
    pub encoder: Arc<KeyEncoder>,
    pub residual: Arc<Conjunction>,
    pub has_residual: bool,
    /// Left columns, then right ones.
    pub pair_schema: SchemaRef,
    pub schema: SchemaRef,
    pub table: SharedTable,
}

impl StepFactory for Probe {
    fn step(&self) -> Box<dyn Step> {
        Box::new(ProbeStep {
            shape: self.shape,
            keys: self.keys.clone(),
            encoder: self.encoder.clone(),
            residual: self.residual.clone(),
            has_residual: self.has_residual,
            pair_schema: self.pair_schema.clone(),
            schema: self.schema.clone(),
            table: self.table.clone(),
            input: None,
        })
    }
}

struct ProbeStep {
    shape: JoinShape,
    keys: Arc<Vec<Compiled>>,
    encoder: Arc<KeyEncoder>,
    residual: Arc<Conjunction>,
    has_residual: bool,
    pair_schema: SchemaRef,
    schema: SchemaRef,
    table: SharedTable,
    input: Option<Input>,
}

/// A probe batch that is being worked through.
struct Input {
    batch: RecordBatch,
    keys: Option<EncodedKeys>,
    null_key: Vec<bool>,
    /// The row to look at next, and for a loop join the build row to go on with.
    row: usize,
    build_row: u32,
    matched: Vec<bool>,
}

impl Step for ProbeStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let rows = batch.num_rows();
        let (mut keys, mut null_key) = (None, vec![false; rows]);
        if !self.keys.is_empty() {
            let columns = self.keys.iter().map(|key| key.array(&batch)).collect::<Result<Vec<_>>>()?;
            for column in columns.iter().filter(|c| c.null_count() > 0) {
                null_key.iter_mut().enumerate().for_each(|(row, null)| *null |= column.is_null(row));
            }
            keys = Some(self.encoder.encode(&columns, rows)?);
        }
        self.input = Some(Input { batch, keys, null_key, row: 0, build_row: 0, matched: vec![false; rows] });
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        let Some(mut input) = self.input.take() else { return Ok(None) };
        let shared = self.table.clone();
        let table = table(&shared)?;
        while input.row < input.batch.num_rows() {
            let (probe_rows, build_rows) = self.next_pairs(table, &mut input);
            let pairs = self.checked(table, &input, probe_rows, build_rows)?;
            for (probe, build) in pairs.0.values().iter().zip(pairs.1.values()) {
                input.matched[*probe as usize] = true;
                if !table.matched.is_empty() {
                    table.matched[*build as usize].store(true, Ordering::Relaxed);
                }
            }
            if self.shape.emits_pairs() && !pairs.0.is_empty() {
                let out = self.pair_batch(&self.schema, table, &input, &pairs.0, &pairs.1)?;
                self.input = Some(input);
                return Ok(Some(out));
            }
            if input.row < input.batch.num_rows() {
                // No pair has passed, and there is more to try: the driver gets a chance to stop or to let others run.
                self.input = Some(input);
                return Ok(Some(RecordBatch::new_empty(self.schema.clone())));
            }
        }
        // The batch is through: rows whose fate was open until now.
        self.leftover(table, &input)
    }
}

impl ProbeStep {
    /// Pairs of candidates for the next rows, up to about a batch of them.
    fn next_pairs(&self, table: &JoinTable, input: &mut Input) -> (Vec<u32>, Vec<u32>) {
        let (mut probe_rows, mut build_rows) = (Vec::with_capacity(BATCH_ROWS), Vec::with_capacity(BATCH_ROWS));
        // Only whether there is a partner counts when nothing needs each pair.
        let one_is_enough = !self.shape.emits_pairs() && !self.has_residual && table.matched.is_empty();
        let build_total = table.batch.num_rows() as u32;
        while input.row < input.batch.num_rows() && probe_rows.len() < BATCH_ROWS {
            let row = input.row;
            match &input.keys {
                Some(_) if input.null_key[row] => {}
                Some(keys) => {
                    for candidate in table.candidates(keys, row) {
                        probe_rows.push(row as u32);
                        build_rows.push(candidate);
                        if one_is_enough {
                            break;
                        }
                    }
                }
                None => {
                    let room = (BATCH_ROWS - probe_rows.len()) as u32;
                    let end = build_total.min(input.build_row.saturating_add(room));
                    for build in input.build_row..end {
                        probe_rows.push(row as u32);
                        build_rows.push(build);
                    }
                    if end < build_total {
                        input.build_row = end;
                        break;
                    }
                    input.build_row = 0;
                }
            }
            input.row += 1;
        }
        (probe_rows, build_rows)
    }

    /// The pairs that also satisfy the residual condition.
    fn checked(
        &self,
        table: &JoinTable,
        input: &Input,
        probe: Vec<u32>,
        build: Vec<u32>,
    ) -> Result<(UInt32Array, UInt32Array)> {
        let (probe, build) = (UInt32Array::from(probe), UInt32Array::from(build));
        if !self.has_residual || probe.is_empty() {
            return Ok((probe, build));
        }
        let pairs = self.pair_batch(&self.pair_schema, table, input, &probe, &build)?;
        let mask = self.residual.mask(&pairs)?;
        let keep = |places: &UInt32Array| -> Result<UInt32Array> {
            Ok(filter(places, &mask)?
                .as_any()
                .downcast_ref::<UInt32Array>()
                .cloned()
                .unwrap_or_else(|| UInt32Array::from(Vec::<u32>::new())))
        };
        Ok((keep(&probe)?, keep(&build)?))
    }

    fn pair_batch(
        &self,
        schema: &SchemaRef,
        table: &JoinTable,
        input: &Input,
        probe: &UInt32Array,
        build: &UInt32Array,
    ) -> Result<RecordBatch> {
        let gather = |batch: &RecordBatch, places: &UInt32Array| -> Result<Vec<ArrayRef>> {
            batch.columns().iter().map(|c| Ok(take(c.as_ref(), places, None)?)).collect()
        };
        let (probe_columns, build_columns) = (gather(&input.batch, probe)?, gather(&table.batch, build)?);
        let columns = if self.shape.probe_is_left() {
            [probe_columns, build_columns].concat()
        } else {
            [build_columns, probe_columns].concat()
        };
        batch_of(schema, columns, probe.len())
    }

    /// What comes out of a probe batch once all its partners are known.
    fn leftover(&self, table: &JoinTable, input: &Input) -> Result<Option<RecordBatch>> {
        let shape = self.shape;
        let wanted: Vec<u32> = match shape.kind {
            JoinKind::Semi if shape.probe_is_left() => places_where(&input.matched, |_, m| m),
            JoinKind::Anti if shape.probe_is_left() => places_where(&input.matched, |_, m| !m),
            JoinKind::NullAwareAnti => {
                // x NOT IN (…): true only if certain. A null among the values makes it unknown for every row, and a null x
                // is unknown unless there are no values at all.
                if table.batch.num_rows() == 0 {
                    (0..input.batch.num_rows() as u32).collect()
                } else if table.has_null_key {
                    Vec::new()
                } else {
                    places_where(&input.matched, |row, m| !m && !input.null_key[row])
                }
            }
            _ if shape.emits_unmatched_probe() => places_where(&input.matched, |_, m| !m),
            _ => Vec::new(),
        };
        if wanted.is_empty() {
            return Ok(None);
        }
        let rows = wanted.len();
        let places = UInt32Array::from(wanted);
        let own = crate::batch::take_rows(&input.batch, &places)?;
        let columns = if shape.kind.left_only() {
            own
        } else {
            let nulls: Vec<ArrayRef> =
                table.batch.columns().iter().map(|c| new_null_array(c.data_type(), rows)).collect();
            if shape.probe_is_left() { [own, nulls].concat() } else { [nulls, own].concat() }
        };
        Ok(Some(batch_of(&self.schema, columns, rows)?))
    }
}

fn places_where(matched: &[bool], keep: impl Fn(usize, bool) -> bool) -> Vec<u32> {
    matched.iter().enumerate().filter(|(row, m)| keep(*row, **m)).map(|(row, _)| row as u32).collect()
}

// ---- build rows after probing ----

/// Rows of the build side that come out at the end: unmatched ones of outer joins, or those of a semi or anti join whose
/// left side was built.
pub struct BuildRows {
    pub shape: JoinShape,
    pub schema: SchemaRef,
    pub probe_schema: SchemaRef,
    pub table: SharedTable,
    pub taken: Arc<AtomicBool>,
}

struct BuildRowsTask {
    shape: JoinShape,
    schema: SchemaRef,
    probe_schema: SchemaRef,
    table: SharedTable,
    taken: Arc<AtomicBool>,
    at: Option<usize>,
}

impl Source for BuildRows {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(BuildRowsTask {
            shape: self.shape,
            schema: self.schema.clone(),
            probe_schema: self.probe_schema.clone(),
            table: self.table.clone(),
            taken: self.taken.clone(),
            at: None,
        })
    }
}

#[async_trait]
impl SourceTask for BuildRowsTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.at.is_none() {
            // One task does it.
            if self.taken.swap(true, Ordering::Relaxed) {
                return Ok(None);
            }
            self.at = Some(0);
        }
        let table = table(&self.table)?;
        let want_matched = self.shape.kind == JoinKind::Semi;
        let mut at = self.at.unwrap_or(0);
        while at < table.batch.num_rows() {
            let end = (at + BATCH_ROWS).min(table.batch.num_rows());
            let wanted: Vec<u32> = (at..end)
                .filter(|row| table.matched[*row].load(Ordering::Relaxed) == want_matched)
                .map(|row| row as u32)
                .collect();
            at = end;
            self.at = Some(at);
            if wanted.is_empty() {
                continue;
            }
            let rows = wanted.len();
            let own = crate::batch::take_rows(&table.batch, &UInt32Array::from(wanted))?;
            let columns = if self.shape.kind.left_only() {
                own
            } else {
                let nulls: Vec<ArrayRef> =
                    self.probe_schema.fields().iter().map(|f| new_null_array(f.data_type(), rows)).collect();
                if self.shape.probe_is_left() { [nulls, own].concat() } else { [own, nulls].concat() }
            };
            return Ok(Some(batch_of(&self.schema, columns, rows)?));
        }
        Ok(None)
    }
}
