//! Sorting by Arrow's row format. Each task sorts what it has into runs, which are merged while they are read; a task that
//! runs out of memory puts its run to disk. With a limit, a task keeps only its best rows: whenever it holds several times as
//! many as wanted it sorts and drops the rest.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, RecordBatch, UInt32Array};
use arrow::compute::{concat_batches, interleave};
use arrow::datatypes::{DataType, SchemaRef};
use arrow::row::{OwnedRow, RowConverter, Rows, SortField};
use async_trait::async_trait;
use cobble_types::{Error, Result};

use crate::batch::{BATCH_ROWS, batch_of, bytes_of, compacted, pieces_of, take_rows};
use crate::expression::Compiled;
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::order::{BYTES_PER_ROW, sorted_places};
use crate::pipeline::{Sink, SinkTask, Source, SourceTask};
use crate::spill::{Spill, SpillPlace, Spilled};
use cobble_functions::column_bytes;
use cobble_functions::operators::compare::comparable;

pub struct SortSpec {
    pub keys: SortKeys,
    pub fetch: Option<usize>,
    pub schema: SchemaRef,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub spill: SpillPlace,
    pub runs: Mutex<Vec<Run>>,
}

/// Rows in order.
pub enum Run {
    Memory(RecordBatch, Reservation),
    Disk(Spilled),
}

pub struct SortKeys {
    expressions: Vec<Compiled>,
    fields: Vec<SortField>,
}

impl SortKeys {
    pub fn new(keys: Vec<(Compiled, arrow::compute::SortOptions)>) -> Self {
        let fields =
            keys.iter().map(|(e, options)| SortField::new_with_options(e.data_type().clone(), *options)).collect();
        SortKeys { expressions: keys.into_iter().map(|(e, _)| e).collect(), fields }
    }

    /// About the bytes of long keys in that form.
    fn bytes(&self, batch: &RecordBatch) -> usize {
        let long = self.expressions.iter().filter(|e| !e.data_type().is_primitive());
        long.map(|e| e.as_column().map_or_else(|| bytes_of(batch), |place| column_bytes(batch.column(place)))).sum()
    }

    /// The keys in a form that compares as bytes; `None` when they decide nothing.
    fn rows(&self, batch: &RecordBatch) -> Result<Option<Rows>> {
        let columns: Vec<ArrayRef> =
            self.expressions.iter().map(|e| Ok(comparable(&e.array(batch)?))).collect::<Result<_>>()?;
        // A null constant has a type that the row format does not sort.
        if columns.iter().all(|c| matches!(c.data_type(), DataType::Null)) {
            return Ok(None);
        }
        Ok(Some(RowConverter::new(self.fields.clone())?.convert_columns(&columns)?))
    }

    /// The rows in order, at most `fetch` of them. Equal rows keep their order.
    fn sorted(&self, batch: &RecordBatch, fetch: Option<usize>) -> Result<RecordBatch> {
        let Some(rows) = self.rows(batch)? else {
            return Ok(batch.slice(0, fetch.unwrap_or(usize::MAX).min(batch.num_rows())));
        };
        let places = UInt32Array::from(sorted_places(&rows, fetch));
        batch_of(&batch.schema(), take_rows(batch, &places)?, places.len())
    }
}

// ---- sorting ----

pub struct Sort(pub Arc<SortSpec>);

struct SortTask {
    spec: Arc<SortSpec>,
    batches: Vec<RecordBatch>,
    rows: usize,
    memory: Reservation,
}

impl Sink for Sort {
    fn task(&self) -> Box<dyn SinkTask> {
        Box::new(SortTask {
            spec: self.0.clone(),
            batches: Vec::new(),
            rows: 0,
            memory: Reservation::new(&self.0.pool, &self.0.meter),
        })
    }

    fn seal(&self) -> Result<()> {
        Ok(())
    }
}

/// Bytes of a batch on disk: of each run one is in memory while they are merged.
const PIECE: usize = 1 << 20;

impl SortTask {
    fn gather(&mut self) -> Result<RecordBatch> {
        let all = concat_batches(&self.spec.schema, &self.batches)?;
        self.batches.clear();
        if all.num_rows() > u32::MAX as usize {
            return Err(Error::unsupported("sorting more than four thousand million rows at once"));
        }
        Ok(all)
    }

    fn put_away(&mut self) -> Result<()> {
        if self.batches.is_empty() {
            return Ok(());
        }
        let all = self.gather()?;
        let sorted = self.spec.keys.sorted(&all, None)?;
        drop(all);
        let mut spill = Spill::new(&self.spec.spill, &self.spec.schema, &self.spec.meter)?;
        for piece in pieces_of(&sorted, BATCH_ROWS, PIECE) {
            spill.write(&piece)?;
        }
        self.spec.runs.lock().unwrap_or_else(PoisonError::into_inner).push(Run::Disk(spill.finish()?));
        self.rows = 0;
        self.memory.resize(0)
    }
}

impl SinkTask for SortTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let batch = compacted(batch_of(&self.spec.schema, batch.columns().to_vec(), batch.num_rows())?)?;
        // Twice the rows: sorting makes a second copy. And the keys once more, to be compared as bytes.
        let bytes = bytes_of(&batch) * 2 + self.spec.keys.bytes(&batch) + batch.num_rows() * (16 + BYTES_PER_ROW);
        if self.memory.grow_within_share(bytes).is_err() {
            if self.spec.fetch.is_none() {
                self.put_away()?;
            }
            self.memory.grow(bytes)?;
        }
        self.rows += batch.num_rows();
        self.batches.push(batch);
        if let Some(n) = self.spec.fetch
            && self.rows > (4 * n).max(8 * BATCH_ROWS)
        {
            let all = self.gather()?;
            let best = compacted(self.spec.keys.sorted(&all, Some(n))?)?;
            self.rows = best.num_rows();
            self.memory.resize(bytes_of(&best) * 2)?;
            self.batches.push(best);
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<()> {
        if self.rows == 0 {
            return Ok(());
        }
        let all = self.gather()?;
        let sorted = self.spec.keys.sorted(&all, self.spec.fetch)?;
        drop(all);
        self.memory.resize(bytes_of(&sorted))?;
        self.spec.runs.lock().unwrap_or_else(PoisonError::into_inner).push(Run::Memory(sorted, self.memory));
        Ok(())
    }
}

// ---- merging ----

pub struct SortedRuns(pub Arc<SortSpec>);

struct MergeTask {
    spec: Arc<SortSpec>,
    merge: Option<Merge>,
}

/// The runs, each with the batch that is being read of it.
struct Merge {
    cursors: Vec<Cursor>,
    /// The next row of each run, the least on top.
    heads: BinaryHeap<Head>,
    left: usize,
}

struct Cursor {
    batches: Box<dyn Iterator<Item = Result<RecordBatch>> + Send>,
    batch: RecordBatch,
    rows: Option<Rows>,
    at: usize,
}

struct Head {
    key: Option<OwnedRow>,
    cursor: usize,
}

impl Ord for Head {
    /// Reversed, because the heap gives out its greatest.
    fn cmp(&self, other: &Self) -> Ordering {
        other.key.cmp(&self.key).then(other.cursor.cmp(&self.cursor))
    }
}

impl PartialOrd for Head {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Head {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Head {}

impl Cursor {
    fn open(run: Run, keys: &SortKeys) -> Result<Option<Cursor>> {
        let mut batches: Box<dyn Iterator<Item = Result<RecordBatch>> + Send> = match run {
            Run::Memory(batch, memory) => {
                let starts = (0..batch.num_rows()).step_by(BATCH_ROWS);
                Box::new(starts.map(move |start| {
                    let _while_read = &memory;
                    Ok(batch.slice(start, BATCH_ROWS.min(batch.num_rows() - start)))
                }))
            }
            Run::Disk(spilled) => Box::new(spilled.read()?),
        };
        let Some(batch) = batches.next().transpose()? else { return Ok(None) };
        let rows = keys.rows(&batch)?;
        Ok(Some(Cursor { batches, batch, rows, at: 0 }))
    }

    fn head(&self, cursor: usize) -> Head {
        Head { key: self.rows.as_ref().map(|rows| rows.row(self.at).owned()), cursor }
    }
}

impl Merge {
    fn open(spec: &SortSpec) -> Result<Merge> {
        let runs = std::mem::take(&mut *spec.runs.lock().unwrap_or_else(PoisonError::into_inner));
        let mut cursors = Vec::new();
        for run in runs {
            cursors.extend(Cursor::open(run, &spec.keys)?);
        }
        let heads = cursors.iter().enumerate().map(|(i, cursor)| cursor.head(i)).collect();
        Ok(Merge { cursors, heads, left: spec.fetch.unwrap_or(usize::MAX) })
    }

    fn next(&mut self, spec: &SortSpec) -> Result<Option<RecordBatch>> {
        if self.left == 0 || self.cursors.is_empty() {
            return Ok(None);
        }
        if let [only] = self.cursors.as_mut_slice() {
            // One run is in order by itself.
            let rows = only.batch.num_rows().min(self.left);
            if rows == 0 {
                return Ok(None);
            }
            let out = only.batch.slice(0, rows);
            self.left -= rows;
            only.batch = match only.batches.next().transpose()? {
                Some(batch) => batch,
                None => RecordBatch::new_empty(spec.schema.clone()),
            };
            return Ok(Some(out));
        }
        let mut picks: Vec<(usize, usize)> = Vec::with_capacity(BATCH_ROWS);
        while picks.len() < BATCH_ROWS.min(self.left) {
            let Some(head) = self.heads.pop() else { break };
            let cursor = &mut self.cursors[head.cursor];
            picks.push((head.cursor, cursor.at));
            cursor.at += 1;
            if cursor.at < cursor.batch.num_rows() {
                self.heads.push(cursor.head(head.cursor));
                continue;
            }
            // What was picked from this batch must be taken before the next one is read.
            let out = self.taken(spec, &picks)?;
            let cursor = &mut self.cursors[head.cursor];
            if let Some(batch) = cursor.batches.next().transpose()? {
                cursor.rows = spec.keys.rows(&batch)?;
                (cursor.batch, cursor.at) = (batch, 0);
                self.heads.push(cursor.head(head.cursor));
            }
            self.left -= picks.len();
            return Ok(Some(out));
        }
        if picks.is_empty() {
            return Ok(None);
        }
        self.left -= picks.len();
        self.taken(spec, &picks).map(Some)
    }

    fn taken(&self, spec: &SortSpec, picks: &[(usize, usize)]) -> Result<RecordBatch> {
        let columns = (0..spec.schema.fields().len())
            .map(|column| {
                let arrays: Vec<&dyn Array> =
                    self.cursors.iter().map(|cursor| cursor.batch.column(column).as_ref()).collect();
                Ok(interleave(&arrays, picks)?)
            })
            .collect::<Result<Vec<_>>>()?;
        batch_of(&spec.schema, columns, picks.len())
    }
}

impl Source for SortedRuns {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(MergeTask { spec: self.0.clone(), merge: None })
    }
}

#[async_trait]
impl SourceTask for MergeTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.merge.is_none() {
            self.merge = Some(Merge::open(&self.spec)?);
        }
        match &mut self.merge {
            Some(merge) => merge.next(&self.spec),
            None => Ok(None),
        }
    }
}
