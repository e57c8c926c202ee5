//! The probe side streaming through the table.

use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, RecordBatch, UInt32Array, new_null_array};
use arrow::compute::{filter, take};
use arrow::datatypes::SchemaRef;
use cobble_plan::JoinKind;
use cobble_types::{Code, Error, Result};

use super::ranges::Stretch;
use super::{Built, JoinSpec, JoinTable, MarkRule};
use crate::batch::{BATCH_ROWS, batch_of, rows_repeated, take_rows};
use crate::memory::Reservation;
use crate::operators::buckets::Buckets;
use crate::pipeline::{Step, StepFactory};
use cobble_functions::keys::EncodedKeys;

pub struct Probe(pub Arc<JoinSpec>);

impl StepFactory for Probe {
    fn step(&self) -> Box<dyn Step> {
        Box::new(ProbeStep { spec: self.0.clone(), input: None, waiting: None })
    }
}

struct ProbeStep {
    spec: Arc<JoinSpec>,
    input: Option<Input>,
    /// Rows put aside because the build side is on disk.
    waiting: Option<Buckets>,
}

impl Step for ProbeStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        match self.spec.built()? {
            Built::Memory(table) => {
                self.input = Some(Input::new(&self.spec, table, batch)?);
                Ok(())
            }
            Built::Buckets { .. } => {
                let spec = &self.spec;
                let waiting = self.waiting.get_or_insert_with(|| {
                    let memory = Reservation::new(&spec.pool, &spec.meter);
                    Buckets::new(&spec.probe_schema, memory, &spec.spill, &spec.meter)
                });
                let batch = batch_of(&spec.probe_schema, batch.columns().to_vec(), batch.num_rows())?;
                let (keys, _) = spec.encoded(&spec.probe_keys, &batch)?;
                waiting.push(batch, |row| keys.hash(row))
            }
        }
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        let Some(mut input) = self.input.take() else { return Ok(None) };
        let Built::Memory(table) = self.spec.built()? else { return Ok(None) };
        let out = input.next(&self.spec, table)?;
        if !input.is_done() {
            self.input = Some(input);
        }
        Ok(out)
    }

    fn finish(&mut self) -> Result<()> {
        if let Some(waiting) = self.waiting.take() {
            self.spec.waiting.lock().unwrap_or_else(PoisonError::into_inner).push(waiting);
        }
        Ok(())
    }
}

/// What a mark says of a row so far.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Truth {
    False,
    Unknown,
    True,
}

/// Candidates that each probe row tries first when only it counts whether there is a partner.
const FIRST_TRIES: u32 = 16;

/// The search of a join that only asks which rows have a partner, where a condition decides it beside the keys: all rows try a few
/// candidates, then those that found none try twice as many more, and so on. What is found early costs little, and what is found
/// late or never little more than trying all at once.
struct Search {
    /// Rows that go on trying, and how many of them have had their turn in this round.
    open: Vec<u32>,
    turn: usize,
    tries: u32,
    /// Rows without further candidates.
    spent: Vec<bool>,
    /// Where each row goes on: a build row, or a place of a chain.
    at: Vec<u32>,
}

impl Search {
    fn new(at: Vec<u32>) -> Search {
        let open = (0..at.len() as u32).collect();
        Search { open, turn: 0, tries: FIRST_TRIES, spent: vec![false; at.len()], at }
    }

    /// Pairs of the round, about a batch of them. None come when all rows are through.
    fn next_pairs(
        &mut self,
        matched: &[bool],
        mut next: impl FnMut(usize, &mut u32) -> Option<u32>,
    ) -> (Vec<u32>, Vec<u32>) {
        let (mut probe_rows, mut build_rows) = (Vec::with_capacity(BATCH_ROWS), Vec::with_capacity(BATCH_ROWS));
        while probe_rows.len() < BATCH_ROWS {
            let Some(row) = self.open.get(self.turn).map(|row| *row as usize) else {
                // What the round has found is known once its pairs have been checked.
                if !probe_rows.is_empty() {
                    break;
                }
                self.open.retain(|row| !self.spent[*row as usize] && !matched[*row as usize]);
                (self.turn, self.tries) = (0, (self.tries * 2).min(BATCH_ROWS as u32));
                if self.open.is_empty() {
                    break;
                }
                continue;
            };
            for _ in 0..self.tries {
                let Some(build) = next(row, &mut self.at[row]) else {
                    self.spent[row] = true;
                    break;
                };
                probe_rows.push(row as u32);
                build_rows.push(build);
            }
            self.turn += 1;
        }
        (probe_rows, build_rows)
    }
}

/// A probe batch that is being worked through.
pub struct Input {
    batch: RecordBatch,
    keys: Option<EncodedKeys>,
    null_key: Option<BooleanArray>,
    /// The row to look at next, and for a loop join the build row to go on with.
    row: usize,
    build_row: u32,
    /// For a join by keys where that row's search goes on.
    chain: Option<u32>,
    /// Rows of a batch of pairs.
    most: usize,
    /// For a range join what is left to search for each row.
    stretches: Vec<Stretch>,
    search: Option<Search>,
    /// For a loop whose build rows come out, or do not, for their first partner: those that have none yet.
    undecided: Option<Vec<u32>>,
    matched: Vec<bool>,
    truths: Vec<Truth>,
    done: bool,
}

impl Input {
    pub fn new(spec: &JoinSpec, table: &JoinTable, batch: RecordBatch) -> Result<Input> {
        let rows = batch.num_rows();
        let (mut keys, mut null_key) = (None, None);
        if spec.is_keyed() {
            let (encoded, nulls) = spec.encoded(&spec.probe_keys, &batch)?;
            (keys, null_key) = (Some(encoded), nulls);
        }
        let stretches = match (&spec.ranges, &table.ranges) {
            (Some(keys), Some(ranges)) => keys.stretches(ranges, &batch)?,
            _ => Vec::new(),
        };
        let truths = if spec.mark.is_some() { vec![Truth::False; rows] } else { Vec::new() };
        let matched = vec![false; rows];
        let is_loop = keys.is_none() && table.ranges.is_none();
        let search = (spec.has_residual && asks_only_whether(spec, table)).then(|| {
            Search::new(match &keys {
                Some(keys) => (0..rows).map(|row| table.chain(keys, row)).collect(),
                None => vec![0; rows],
            })
        });
        let undecided = (is_loop && spec.shape.kind.left_only() && !table.matched.is_empty())
            .then(|| (0..table.matched.len() as u32).collect());
        let most = rows_repeated(&batch).min(table.most_pairs);
        Ok(Input {
            batch,
            keys,
            null_key,
            row: 0,
            build_row: 0,
            chain: None,
            most,
            stretches,
            search,
            undecided,
            matched,
            truths,
            done: false,
        })
    }

    pub fn is_done(&self) -> bool {
        self.done
    }

    /// The next batch of the result. An empty one means that there may be more: long work is cut into pieces.
    pub fn next(&mut self, spec: &JoinSpec, table: &JoinTable) -> Result<Option<RecordBatch>> {
        while !self.is_through() {
            let (probe_rows, build_rows) = match &self.search {
                Some(_) => self.searched_pairs(table),
                None => self.next_pairs(spec, table),
            };
            let pairs = self.checked(spec, table, probe_rows, build_rows)?;
            for (probe, build) in pairs.0.values().iter().zip(pairs.1.values()) {
                if spec.shape.kind == JoinKind::Single && self.matched[*probe as usize] {
                    return Err(Error::new(Code::Cardinality, "a subquery used as a value returned more than one row")
                        .hint("add a condition, LIMIT 1 or an aggregate to it"));
                }
                self.matched[*probe as usize] = true;
                if !table.matched.is_empty() {
                    table.matched[*build as usize].store(true, Ordering::Relaxed);
                }
            }
            if spec.shape.emits_pairs() && !pairs.0.is_empty() {
                return Ok(Some(self.pair_batch(spec, &spec.schema, table, &pairs.0, &pairs.1)?));
            }
            if !self.is_through() {
                // No pair has passed, and there is more to try: the driver gets a chance to stop or to let others run.
                return Ok(Some(RecordBatch::new_empty(spec.schema.clone())));
            }
        }
        // The batch is through: rows whose fate was open until now.
        self.done = true;
        self.leftover(spec, table)
    }

    /// All rows have tried all that they have to.
    fn is_through(&self) -> bool {
        match &self.search {
            Some(search) => search.open.is_empty(),
            None => self.row >= self.batch.num_rows(),
        }
    }

    fn has_null_key(&self, row: usize) -> bool {
        self.null_key.as_ref().is_some_and(|nulls| nulls.value(row))
    }

    /// Pairs of candidates for rows that have found no partner yet.
    fn searched_pairs(&mut self, table: &JoinTable) -> (Vec<u32>, Vec<u32>) {
        let Some(search) = &mut self.search else { return (Vec::new(), Vec::new()) };
        let build_total = table.batch.num_rows() as u32;
        let (keys, nulls, stretches) = (&self.keys, &self.null_key, &mut self.stretches);
        search.next_pairs(&self.matched, |row, at| match (keys, &table.ranges) {
            (Some(_), _) if nulls.as_ref().is_some_and(|nulls| nulls.value(row)) => None,
            (Some(keys), _) => table.next_candidate(at, keys, row),
            (None, Some(ranges)) => ranges.next(&mut stretches[row]),
            (None, None) => (*at < build_total).then(|| {
                *at += 1;
                *at - 1
            }),
        })
    }

    /// Pairs of candidates for the next rows, up to about a batch of them.
    fn next_pairs(&mut self, spec: &JoinSpec, table: &JoinTable) -> (Vec<u32>, Vec<u32>) {
        let (mut probe_rows, mut build_rows) = (Vec::with_capacity(BATCH_ROWS), Vec::with_capacity(BATCH_ROWS));
        // With a condition the search does it.
        let one_is_enough = asks_only_whether(spec, table);
        let build_total = table.batch.num_rows() as u32;
        while self.row < self.batch.num_rows() && probe_rows.len() < self.most {
            let row = self.row;
            match (&self.keys, &table.ranges) {
                (Some(_), _) if self.has_null_key(row) => {}
                (None, Some(ranges)) => {
                    let mut found = None;
                    while probe_rows.len() < self.most {
                        found = ranges.next(&mut self.stretches[row]);
                        let Some(build) = found else { break };
                        probe_rows.push(row as u32);
                        build_rows.push(build);
                        if one_is_enough {
                            found = None;
                            break;
                        }
                    }
                    if found.is_some() {
                        break;
                    }
                }
                (Some(keys), _) => {
                    let mut at = self.chain.take().unwrap_or_else(|| table.chain(keys, row));
                    while let Some(candidate) = table.next_candidate(&mut at, keys, row) {
                        probe_rows.push(row as u32);
                        build_rows.push(candidate);
                        if one_is_enough {
                            break;
                        }
                        if probe_rows.len() >= self.most {
                            self.chain = Some(at);
                            return (probe_rows, build_rows);
                        }
                    }
                }
                (None, None) => {
                    if let Some(undecided) = &mut self.undecided
                        && self.build_row == 0
                    {
                        undecided.retain(|build| !table.matched[*build as usize].load(Ordering::Relaxed));
                    }
                    let build_total = self.undecided.as_ref().map_or(build_total, |undecided| undecided.len() as u32);
                    let wanted = if one_is_enough { build_total.min(1) } else { build_total };
                    let room = (self.most - probe_rows.len()) as u32;
                    let end = wanted.min(self.build_row.saturating_add(room));
                    for place in self.build_row..end {
                        probe_rows.push(row as u32);
                        build_rows.push(self.undecided.as_ref().map_or(place, |undecided| undecided[place as usize]));
                    }
                    if end < wanted {
                        self.build_row = end;
                        break;
                    }
                    self.build_row = 0;
                }
            }
            self.row += 1;
        }
        (probe_rows, build_rows)
    }

    /// The pairs that also satisfy the residual condition and, for a mark that compares, its comparison.
    fn checked(
        &mut self,
        spec: &JoinSpec,
        table: &JoinTable,
        probe: Vec<u32>,
        build: Vec<u32>,
    ) -> Result<(UInt32Array, UInt32Array)> {
        let (mut probe, mut build) = (UInt32Array::from(probe), UInt32Array::from(build));
        let keep = |places: &UInt32Array, mask: &BooleanArray| -> Result<UInt32Array> {
            Ok(filter(places, mask)?.as_primitive::<arrow::datatypes::UInt32Type>().clone())
        };
        if spec.has_residual && !probe.is_empty() {
            let pairs = self.pair_batch(spec, &spec.pair_schema, table, &probe, &build)?;
            let mask = spec.residual.mask(&pairs)?;
            (probe, build) = (keep(&probe, &mask)?, keep(&build, &mask)?);
        }
        if let Some(MarkRule::Compare(conditions)) = &spec.mark
            && !probe.is_empty()
        {
            let pairs = self.pair_batch(spec, &spec.pair_schema, table, &probe, &build)?;
            let mut truth: Option<BooleanArray> = None;
            for condition in conditions {
                let next = condition.array(&pairs)?;
                truth = Some(match truth {
                    None => next.as_boolean().clone(),
                    Some(before) => arrow::compute::and_kleene(&before, next.as_boolean())?,
                });
            }
            let truth = truth.ok_or_else(|| Error::internal("a mark that compares nothing"))?;
            for (pair, row) in probe.values().iter().enumerate() {
                let seen = &mut self.truths[*row as usize];
                *seen = match (*seen, truth.is_null(pair), truth.is_valid(pair) && truth.value(pair)) {
                    (Truth::True, ..) | (_, _, true) => Truth::True,
                    (_, true, _) => Truth::Unknown,
                    (seen, ..) => seen,
                };
            }
        }
        Ok((probe, build))
    }

    fn pair_batch(
        &self,
        spec: &JoinSpec,
        schema: &SchemaRef,
        table: &JoinTable,
        probe: &UInt32Array,
        build: &UInt32Array,
    ) -> Result<RecordBatch> {
        let gather = |batch: &RecordBatch, places: &UInt32Array| -> Result<Vec<ArrayRef>> {
            batch.columns().iter().map(|c| Ok(take(c.as_ref(), places, None)?)).collect()
        };
        let (probe_columns, build_columns) = (gather(&self.batch, probe)?, gather(&table.batch, build)?);
        let columns = if spec.shape.probe_is_left() {
            [probe_columns, build_columns].concat()
        } else {
            [build_columns, probe_columns].concat()
        };
        batch_of(schema, columns, probe.len())
    }

    /// What comes out of a probe batch once all its partners are known.
    fn leftover(&self, spec: &JoinSpec, table: &JoinTable) -> Result<Option<RecordBatch>> {
        let shape = spec.shape;
        let wanted: Vec<u32> = match shape.kind {
            JoinKind::Mark => return self.marked(spec, table).map(Some),
            JoinKind::Semi if shape.probe_is_left() => places_where(&self.matched, |_, m| m),
            JoinKind::Anti if shape.probe_is_left() => places_where(&self.matched, |_, m| !m),
            JoinKind::NullAwareAnti => {
                // x NOT IN (…): true only if certain. A null among the values makes it unknown for every row, and a null x
                // is unknown unless there are no values at all.
                if table.facts.rows == 0 {
                    (0..self.batch.num_rows() as u32).collect()
                } else if table.facts.has_null_key {
                    Vec::new()
                } else {
                    places_where(&self.matched, |row, m| !m && !self.has_null_key(row))
                }
            }
            _ if shape.emits_unmatched_probe() => places_where(&self.matched, |_, m| !m),
            _ => Vec::new(),
        };
        if wanted.is_empty() {
            return Ok(None);
        }
        let rows = wanted.len();
        let own = take_rows(&self.batch, &UInt32Array::from(wanted))?;
        let columns = if shape.kind.left_only() {
            own
        } else {
            let nulls: Vec<ArrayRef> =
                table.batch.columns().iter().map(|c| new_null_array(c.data_type(), rows)).collect();
            if shape.probe_is_left() { [own, nulls].concat() } else { [nulls, own].concat() }
        };
        Ok(Some(batch_of(&spec.schema, columns, rows)?))
    }

    /// Every row with its truth value.
    fn marked(&self, spec: &JoinSpec, table: &JoinTable) -> Result<RecordBatch> {
        let mark: BooleanArray = match &spec.mark {
            Some(MarkRule::Compare(_)) => {
                self.truths.iter().map(|t| (*t != Truth::Unknown).then_some(*t == Truth::True)).collect()
            }
            Some(MarkRule::OfKey) => (0..self.batch.num_rows())
                .map(|row| {
                    let open = table.facts.rows > 0 && (table.facts.has_null_key || self.has_null_key(row));
                    if self.matched[row] { Some(true) } else { (!open).then_some(false) }
                })
                .collect(),
            _ => self.matched.iter().map(|m| Some(*m)).collect(),
        };
        let columns = self.batch.columns().iter().cloned().chain([Arc::new(mark) as ArrayRef]).collect();
        batch_of(&spec.schema, columns, self.batch.num_rows())
    }
}

/// True when only it counts whether a probe row has a partner, because nothing needs each pair.
fn asks_only_whether(spec: &JoinSpec, table: &JoinTable) -> bool {
    let compares = matches!(spec.mark, Some(MarkRule::Compare(_)));
    !spec.shape.emits_pairs() && !compares && table.matched.is_empty()
}

fn places_where(matched: &[bool], keep: impl Fn(usize, bool) -> bool) -> Vec<u32> {
    matched.iter().enumerate().filter(|(row, m)| keep(*row, **m)).map(|(row, _)| row as u32).collect()
}
