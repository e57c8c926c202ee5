//! Window functions. The rows are cut by the hash of their partition into buckets, which tasks then take one by one: each is
//! sorted by partition and order, and every function fills one column over it.

use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::*;
use arrow::compute::{SortOptions, cast, concat_batches, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use async_trait::async_trait;
use cobble_functions::aggregate::Keeps;
use cobble_functions::column_bytes;
use cobble_functions::window::{Layout, Segments, WindowKernel, Windowed};
use cobble_plan::aggregate::AggregateCall;
use cobble_plan::window::{FrameExclusion, FrameUnit};
use cobble_types::{Code, Error, Result};

use super::accumulators::accumulator;
use super::buckets::{Bucketed, Buckets};
use super::frame_tree::{FrameTree, WORTH_IT};
use crate::batch::{BATCH_ROWS, batch_of, bytes_of, take_rows};
use crate::expression::Compiled;
use crate::measures::StepMeter;
use crate::memory::{MemoryPool, Reservation};
use crate::order::{BYTES_PER_ROW, sorted_places};
use crate::pipeline::{Sink, SinkTask, Source, SourceTask, is_cancelled};
use crate::spill::SpillPlace;
use cobble_functions::keys::KeyEncoder;
use cobble_functions::operators::compare::{comparable, one_zero};

/// What is computed, compiled.
pub struct WindowShape {
    pub partition: Vec<Compiled>,
    pub order: Vec<(Compiled, SortOptions)>,
    pub calls: Vec<Call>,
    pub input_schema: SchemaRef,
    pub schema: SchemaRef,
}

pub struct Call {
    pub function: Function,
    pub unit: FrameUnit,
    pub start: Bound,
    pub end: Bound,
    pub exclusion: FrameExclusion,
}

pub enum Function {
    Ranking { kernel: WindowKernel, framed: bool, arguments: Vec<Compiled>, ignore_nulls: bool, result: DataType },
    Aggregate { call: AggregateCall, values: Vec<Compiled>, filter: Option<Compiled> },
}

pub enum Bound {
    Unbounded,
    CurrentRow,
    /// For rows and groups how many; for a range the key's value at the bound.
    Preceding(Compiled),
    Following(Compiled),
}

// ---- collecting ----

pub struct WindowSink {
    pub shape: Arc<WindowShape>,
    pub encoder: Arc<KeyEncoder>,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub spill: SpillPlace,
    pub collected: Arc<Mutex<Vec<Buckets>>>,
    pub out: Arc<Mutex<Vec<Bucketed>>>,
}

struct WindowSinkTask {
    shape: Arc<WindowShape>,
    encoder: Arc<KeyEncoder>,
    buckets: Buckets,
    collected: Arc<Mutex<Vec<Buckets>>>,
}

impl Sink for WindowSink {
    fn task(&self) -> Box<dyn SinkTask> {
        let reservation = Reservation::new(&self.pool, &self.meter);
        let schema = &self.shape.input_schema;
        Box::new(WindowSinkTask {
            shape: self.shape.clone(),
            encoder: self.encoder.clone(),
            buckets: Buckets::new(schema, reservation, &self.spill, &self.meter),
            collected: self.collected.clone(),
        })
    }

    fn seal(&self) -> Result<()> {
        let collected = std::mem::take(&mut *self.collected.lock().unwrap_or_else(PoisonError::into_inner));
        let mut buckets = Buckets::together(collected)?;
        buckets.retain(|bucket| !bucket.is_empty());
        *self.out.lock().unwrap_or_else(PoisonError::into_inner) = buckets;
        Ok(())
    }
}

impl SinkTask for WindowSinkTask {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let batch = batch_of(&self.shape.input_schema, batch.columns().to_vec(), batch.num_rows())?;
        if self.shape.partition.is_empty() {
            return self.buckets.push_whole(batch);
        }
        let keys = self.shape.partition.iter().map(|key| key.array(&batch)).collect::<Result<Vec<_>>>()?;
        let encoded = self.encoder.encode(&keys, batch.num_rows())?;
        self.buckets.push(batch, |row| encoded.hash(row))
    }

    fn finish(self: Box<Self>) -> Result<()> {
        self.collected.lock().unwrap_or_else(PoisonError::into_inner).push(self.buckets);
        Ok(())
    }
}

// ---- computing ----

pub struct WindowSource {
    pub shape: Arc<WindowShape>,
    pub pool: Arc<MemoryPool>,
    pub meter: Arc<StepMeter>,
    pub buckets: Arc<Mutex<Vec<Bucketed>>>,
}

struct WindowSourceTask {
    shape: Arc<WindowShape>,
    buckets: Arc<Mutex<Vec<Bucketed>>>,
    memory: Reservation,
    ready: Option<(RecordBatch, usize)>,
}

impl Source for WindowSource {
    fn task(&self) -> Box<dyn SourceTask> {
        Box::new(WindowSourceTask {
            shape: self.shape.clone(),
            buckets: self.buckets.clone(),
            memory: Reservation::new(&self.pool, &self.meter),
            ready: None,
        })
    }

    fn most_tasks(&self) -> usize {
        self.buckets.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}

#[async_trait]
impl SourceTask for WindowSourceTask {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if let Some((batch, at)) = &mut self.ready {
                if *at < batch.num_rows() {
                    let rows = BATCH_ROWS.min(batch.num_rows() - *at);
                    let piece = batch.slice(*at, rows);
                    *at += rows;
                    return Ok(Some(piece));
                }
                self.ready = None;
                self.memory.resize(0)?;
            }
            let bucket = self.buckets.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let Some(bucket) = bucket else { return Ok(None) };
            let batches = bucket.load(&mut self.memory)?;
            let all = concat_batches(&self.shape.input_schema, &batches)?;
            drop(batches);
            if all.num_rows() > u32::MAX as usize / 2 {
                return Err(Error::unsupported("a window over more than two thousand million rows"));
            }
            // The rows once as they came, once in order, and the new columns.
            self.memory.resize(bytes_of(&all) * 2 + all.num_rows() * (32 + BYTES_PER_ROW))?;
            let batch = computed(&self.shape, &all, &mut self.memory)?;
            drop(all);
            self.ready = Some((batch, 0));
        }
    }
}

fn computed(shape: &WindowShape, all: &RecordBatch, memory: &mut Reservation) -> Result<RecordBatch> {
    let rows = all.num_rows();
    let partition = shape.partition.iter().map(|e| Ok(one_zero(&e.array(all)?))).collect::<Result<Vec<_>>>()?;
    let order = shape.order.iter().map(|(e, _)| Ok(comparable(&e.array(all)?))).collect::<Result<Vec<_>>>()?;
    let encode = |columns: &[ArrayRef], options: Vec<SortOptions>| -> Result<Option<Rows>> {
        if columns.is_empty() {
            return Ok(None);
        }
        let fields =
            columns.iter().zip(options).map(|(c, o)| SortField::new_with_options(c.data_type().clone(), o)).collect();
        Ok(Some(RowConverter::new(fields)?.convert_columns(columns)?))
    };
    let partition_keys = encode(&partition, vec![SortOptions::default(); partition.len()])?;
    let order_options: Vec<SortOptions> = shape.order.iter().map(|(_, o)| *o).collect();
    let order_keys = encode(&order, order_options.clone())?;
    let compare = |keys: &Option<Rows>, a: u32, b: u32| match keys {
        Some(keys) => keys.row(a as usize).cmp(&keys.row(b as usize)),
        None => std::cmp::Ordering::Equal,
    };
    let all_options = [vec![SortOptions::default(); partition.len()], order_options].concat();
    let places = match encode(&[partition.as_slice(), order.as_slice()].concat(), all_options)? {
        Some(keys) => sorted_places(&keys, None),
        None => (0..rows as u32).collect(),
    };
    let mut layout = Layout { partition: vec![0; rows], partitions: vec![], peer: vec![0; rows], peers: vec![] };
    for (at, place) in places.iter().enumerate() {
        let before = at.checked_sub(1).map(|b| places[b]);
        let new_partition = before.is_none_or(|b| compare(&partition_keys, b, *place).is_ne());
        if new_partition {
            layout.partitions.push(at);
        }
        if new_partition || before.is_some_and(|b| compare(&order_keys, b, *place).is_ne()) {
            layout.peers.push(at);
        }
        layout.partition[at] = layout.partitions.len() - 1;
        layout.peer[at] = layout.peers.len() - 1;
    }
    layout.partitions.push(rows);
    layout.peers.push(rows);
    let places = UInt32Array::from(places);
    let sorted = batch_of(&shape.input_schema, take_rows(all, &places)?, rows)?;
    let mut columns = sorted.columns().to_vec();
    for call in &shape.calls {
        columns.push(fill(shape, call, &sorted, &layout, memory)?);
    }
    batch_of(&shape.schema, columns, rows)
}

fn fill(
    shape: &WindowShape,
    call: &Call,
    rows: &RecordBatch,
    layout: &Layout,
    memory: &mut Reservation,
) -> Result<ArrayRef> {
    match &call.function {
        Function::Ranking { kernel, framed, arguments, ignore_nulls, result } => {
            let frames = if *framed { Some(Frames::new(shape, call, rows, layout)?) } else { None };
            let columns = arguments.iter().map(|e| e.array(rows)).collect::<Result<Vec<_>>>()?;
            let found = kernel(&Windowed {
                layout,
                arguments: &columns,
                frame: &|row| frames.as_ref().map_or([(0, 0); 3], |frames| frames.segments(row)),
                ignore_nulls: *ignore_nulls,
            })?;
            Ok(if found.data_type() == result { found } else { cast(&found, result)? })
        }
        Function::Aggregate { call: aggregate, values, filter } => {
            let frames = Frames::new(shape, call, rows, layout)?;
            let mut columns = values.iter().map(|e| e.array(rows)).collect::<Result<Vec<_>>>()?;
            let passes = filter.as_ref().map(|f| f.array(rows)).transpose()?;
            let passes = passes.as_ref().map(|p| p.as_boolean());
            aggregated(aggregate, &mut columns, passes, &frames, layout, rows.num_rows(), memory)
        }
    }
}

/// The frame of each row: from, to (exclusive), and what is left out of it.
struct Frames<'a> {
    starts: Vec<u32>,
    ends: Vec<u32>,
    exclusion: FrameExclusion,
    layout: &'a Layout,
}

impl<'a> Frames<'a> {
    fn new(shape: &WindowShape, call: &Call, rows: &RecordBatch, layout: &'a Layout) -> Result<Self> {
        let count = rows.num_rows();
        let start = Edge::new(shape, &call.start, call.unit, rows)?;
        let end = Edge::new(shape, &call.end, call.unit, rows)?;
        let (mut starts, mut ends) = (Vec::with_capacity(count), Vec::with_capacity(count));
        for row in 0..count {
            let (first, last) = layout.partition_of(row);
            let from = start.place(row, true, call.unit, layout)?.clamp(first, last);
            let to = end.place(row, false, call.unit, layout)?.clamp(first, last);
            starts.push(from as u32);
            ends.push(to.max(from) as u32);
        }
        Ok(Frames { starts, ends, exclusion: call.exclusion, layout })
    }

    /// The rows of a frame as at most three stretches.
    fn segments(&self, row: usize) -> Segments {
        let (from, to) = (self.starts[row] as usize, self.ends[row] as usize);
        let without = |start: usize, end: usize| [(from, to.min(start)), (from.max(end), to), (0, 0)];
        let (peers_start, peers_end) = self.layout.peers_of(row);
        match self.exclusion {
            FrameExclusion::NoOthers => [(from, to), (0, 0), (0, 0)],
            FrameExclusion::CurrentRow => without(row, row + 1),
            FrameExclusion::Group => without(peers_start, peers_end),
            FrameExclusion::Ties => {
                let [before, after, _] = without(peers_start, peers_end);
                let own = if (from..to).contains(&row) { (row, row + 1) } else { (0, 0) };
                [before, own, after]
            }
        }
    }
}

/// One bound of a frame with its values.
enum Edge {
    Unbounded,
    CurrentRow,
    /// Signed distance of each row.
    Offset(Vec<Option<i64>>),
    /// The key's value at the bound, beside the keys themselves, both in one comparable form.
    Range {
        bounds: Vec<Option<Ordered>>,
        keys: Vec<Option<Ordered>>,
        descending: bool,
    },
}

#[derive(Clone, Copy, PartialEq, PartialOrd)]
enum Ordered {
    Whole(i128),
    Real(f64),
}

fn ordered(array: &ArrayRef) -> Result<Vec<Option<Ordered>>> {
    let whole = |array: &ArrayRef| -> Result<Vec<Option<Ordered>>> {
        let wide = cast(array, &DataType::Int64)?;
        Ok(wide.as_primitive::<Int64Type>().iter().map(|v| v.map(|v| Ordered::Whole(v.into()))).collect())
    };
    match array.data_type() {
        DataType::Decimal128(..) => {
            Ok(array.as_primitive::<Decimal128Type>().iter().map(|v| v.map(Ordered::Whole)).collect())
        }
        DataType::Float32 | DataType::Float64 => {
            let wide = cast(array, &DataType::Float64)?;
            Ok(wide.as_primitive::<Float64Type>().iter().map(|v| v.map(Ordered::Real)).collect())
        }
        DataType::Date32 => whole(&cast(array, &DataType::Int32)?),
        _ => whole(array),
    }
}

impl Edge {
    fn new(shape: &WindowShape, bound: &Bound, unit: FrameUnit, rows: &RecordBatch) -> Result<Edge> {
        let (expr, sign) = match bound {
            Bound::Unbounded => return Ok(Edge::Unbounded),
            Bound::CurrentRow => return Ok(Edge::CurrentRow),
            Bound::Preceding(expr) => (expr, -1),
            Bound::Following(expr) => (expr, 1),
        };
        let values = expr.array(rows)?;
        if unit == FrameUnit::Range {
            let (key, options) =
                shape.order.first().ok_or_else(|| Error::internal("a range frame without a sort key"))?;
            let keys = key.array(rows)?;
            let keys = if keys.data_type() == values.data_type() { keys } else { cast(&keys, values.data_type())? };
            return Ok(Edge::Range {
                bounds: ordered(&values)?,
                keys: ordered(&keys)?,
                descending: options.descending,
            });
        }
        let wide = cast(&values, &DataType::Int64)?;
        let mut distances = Vec::with_capacity(wide.len());
        for value in wide.as_primitive::<Int64Type>().iter() {
            match value {
                Some(n) if n < 0 => {
                    return Err(Error::new(Code::FrameDistance, "a frame cannot begin or end at a negative distance"));
                }
                Some(n) => distances.push(Some(n.saturating_mul(sign))),
                None => return Err(Error::new(Code::FrameDistance, "a frame cannot begin or end at null")),
            }
        }
        Ok(Edge::Offset(distances))
    }

    /// The first row of the frame, or the one after its last.
    fn place(&self, row: usize, is_start: bool, unit: FrameUnit, layout: &Layout) -> Result<usize> {
        let (first, last) = layout.partition_of(row);
        let (peers_start, peers_end) = layout.peers_of(row);
        Ok(match (self, unit) {
            (Edge::Unbounded, _) => {
                if is_start {
                    first
                } else {
                    last
                }
            }
            (Edge::CurrentRow, FrameUnit::Rows) => {
                if is_start {
                    row
                } else {
                    row + 1
                }
            }
            (Edge::CurrentRow, _) => {
                if is_start {
                    peers_start
                } else {
                    peers_end
                }
            }
            (Edge::Offset(distances), FrameUnit::Groups) => {
                let group = layout.peer[row] as i64 + distances[row].unwrap_or(0);
                let (least, most) = (layout.peer[first] as i64, layout.peer[last - 1] as i64);
                if group < least {
                    first
                } else if group > most {
                    last
                } else if is_start {
                    layout.peers[group as usize]
                } else {
                    layout.peers[group as usize + 1]
                }
            }
            (Edge::Offset(distances), _) => {
                let at = row as i64 + distances[row].unwrap_or(0) + i64::from(!is_start);
                at.clamp(first as i64, last as i64) as usize
            }
            (Edge::Range { bounds, keys, descending }, _) => {
                let Some(bound) = bounds[row] else {
                    // Beside a null there are only other nulls.
                    return Ok(if is_start { peers_start } else { peers_end });
                };
                // Nulls stand together at one end of the partition.
                let mut low = first;
                while low < last && keys[low].is_none() {
                    low += 1;
                }
                let mut high = last;
                while high > low && keys[high - 1].is_none() {
                    high -= 1;
                }
                let before = |key: &Option<Ordered>| {
                    let Some(key) = key else { return true };
                    let order = key.partial_cmp(&bound).unwrap_or(std::cmp::Ordering::Equal);
                    let order = if *descending { order.reverse() } else { order };
                    if is_start { order.is_lt() } else { order.is_le() }
                };
                low + keys[low..high].partition_point(before)
            }
        })
    }
}

/// Bytes of states that need not be counted.
const UNCOUNTED: usize = 4 << 20;

fn aggregated(
    call: &AggregateCall,
    values: &mut [ArrayRef],
    passes: Option<&BooleanArray>,
    frames: &Frames,
    layout: &Layout,
    rows: usize,
    memory: &mut Reservation,
) -> Result<ArrayRef> {
    if rows == 0 {
        return accumulator(call)?.finish(0);
    }
    let passing = |row: usize| passes.is_none_or(|p| p.is_valid(row) && p.value(row));
    let plain = frames.exclusion == FrameExclusion::NoOthers;
    let from_first = plain && (0..rows).all(|row| frames.starts[row] as usize == layout.partition_of(row).0);
    let to_last = plain && (0..rows).all(|row| frames.ends[row] as usize == layout.partition_of(row).1);
    let part = |range: std::ops::Range<usize>| -> Result<(usize, Vec<ArrayRef>)> {
        if passes.is_none() {
            return Ok((range.len(), values.iter().map(|v| v.slice(range.start, range.len())).collect()));
        }
        let places: UInt32Array = range.filter(|row| passing(*row)).map(|row| Some(row as u32)).collect();
        let taken = values.iter().map(|v| Ok(take(v.as_ref(), &places, None)?)).collect::<Result<_>>()?;
        Ok((places.len(), taken))
    };
    let mut state = accumulator(call)?;
    if from_first && to_last {
        // One value for each partition.
        let groups: Vec<u32> = (0..rows).filter(|row| passing(*row)).map(|row| layout.partition[row] as u32).collect();
        let (_, taken) = part(0..rows)?;
        let partitions = layout.partitions.len() - 1;
        state.update(&groups, partitions, &taken)?;
        let places: UInt32Array = layout.partition.iter().map(|p| Some(*p as u32)).collect();
        return Ok(take(state.finish(partitions)?.as_ref(), &places, None)?);
    }
    if (from_first || to_last) && state.fork(None, 0, rows) {
        // Each row's state is its neighbour's with a few rows more.
        let steps: Vec<usize> = if from_first { (0..rows).collect() } else { (0..rows).rev().collect() };
        let mut before: Option<usize> = None;
        let (mut held, mut counted) = (0, 0);
        for row in steps {
            if row % 1024 == 0 && is_cancelled() {
                return Err(Error::cancelled());
            }
            let same = before.filter(|b| layout.partition[*b] == layout.partition[row]);
            let (from, to) = (frames.starts[row] as usize, frames.ends[row] as usize);
            let more = match same {
                Some(b) if from_first => (frames.ends[b] as usize).min(to)..to,
                Some(b) => from..(frames.starts[b] as usize).max(from),
                None => from..to,
            };
            state.fork(same.map(|b| b as u32), row as u32, rows);
            if !more.is_empty() {
                let (count, taken) = part(more)?;
                state.update(&vec![row as u32; count], rows, &taken)?;
            }
            // Once as states and once as the result.
            held += 2 * state.bytes_of(row as u32);
            if held - counted > UNCOUNTED {
                memory.grow(held - counted)?;
                counted = held;
            }
            before = Some(row);
        }
        return state.finish(rows);
    }
    // Any other frame is put together from rows and, where frames are wide, from the states of blocks; some thousand at a time.
    let total: usize = (0..rows).map(|row| (frames.ends[row] - frames.starts[row]) as usize).sum();
    let bounded = call.function.entry().keeps == Keeps::Slot;
    let tree = if bounded && total > rows * WORTH_IT && state.fork(None, 0, rows) {
        let counted: Vec<u32> = (0..rows).filter(|row| passing(*row)).map(|row| row as u32).collect();
        Some(FrameTree::new(call, &counted, &part(0..rows)?.1, rows)?)
    } else {
        None
    };
    let mut out: Vec<ArrayRef> = Vec::new();
    let mut row = 0;
    while row < rows {
        let first = row;
        let (mut places, mut groups): (Vec<u32>, Vec<u32>) = (Vec::new(), Vec::new());
        let (mut blocks, mut block_groups): (Vec<u32>, Vec<u32>) = (Vec::new(), Vec::new());
        if is_cancelled() {
            return Err(Error::cancelled());
        }
        while row < rows && places.len() + blocks.len() < 8 * BATCH_ROWS {
            let group = (row - first) as u32;
            let mut single = |place: usize| {
                if passing(place) {
                    places.push(place as u32);
                    groups.push(group);
                }
            };
            for (start, end) in frames.segments(row) {
                match &tree {
                    None => (start..end).for_each(&mut single),
                    Some(tree) => tree.cover(start, end, &mut single, |block| {
                        blocks.push(block);
                        block_groups.push(group);
                    }),
                }
            }
            row += 1;
        }
        let places = UInt32Array::from(places);
        let taken = values.iter().map(|v| Ok(take(v.as_ref(), &places, None)?)).collect::<Result<Vec<_>>>()?;
        let mut state = accumulator(call)?;
        state.update(&groups, row - first, &taken)?;
        if let Some(tree) = &tree {
            state.merge(&block_groups, row - first, &tree.states_of(blocks)?)?;
        }
        let made = state.finish(row - first)?;
        // Texts and arrays over wide frames are far larger than their rows; they are put together in the end.
        if made.data_type().is_nested() || !made.data_type().is_primitive() {
            memory.grow(2 * column_bytes(&made))?;
        }
        out.push(made);
    }
    let parts: Vec<&dyn Array> = out.iter().map(AsRef::as_ref).collect();
    Ok(arrow::compute::concat(&parts)?)
}
