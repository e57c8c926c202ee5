//! The build side of a range join: its rows in the order of one value, and over that order a tree of the greatest second value of
//! each stretch. The partners of a row are a stretch, or those rows of it that reach the second bound, found one after another in
//! logarithmic time (an interval tree over an array; Cormen et al., Introduction to Algorithms, 14.3).

use std::cmp::Ordering;

use arrow::array::{Array, ArrayRef, RecordBatch};
use arrow::compute::SortOptions;
use arrow::row::{Row, RowConverter, Rows, SortField};
use cobble_plan::expr::BinaryOp;
use cobble_types::Result;

use crate::expression::Compiled;
use cobble_functions::operators::compare::comparable;

/// A value of the build side with its bounds from the probe side.
pub struct RangeKey {
    pub value: Compiled,
    pub bounds: Vec<(BinaryOp, Compiled)>,
}

pub struct RangeKeys {
    pub sorted: RangeKey,
    pub second: Option<RangeKey>,
}

/// The build rows without a null among their values, sorted.
pub struct Ranges {
    order: Vec<u32>,
    sorted: Encoded,
    second: Option<Second>,
}

struct Encoded {
    converter: RowConverter,
    rows: Rows,
    /// Places in `rows`, ascending.
    ascending: Vec<u32>,
}

struct Second {
    values: Encoded,
    /// A tree of maxima, its leaves from `leaves` on: how late a row's second value comes in its own order (or how early, where the
    /// bound is from above), plus one.
    tree: Vec<u32>,
    leaves: usize,
}

/// What a probe row looks for: the stretch of the order, and the least score in the tree.
#[derive(Debug, Clone, Copy)]
pub struct Stretch {
    start: u32,
    end: u32,
    least: u32,
}

impl Encoded {
    fn new(column: &ArrayRef, among: &[u32]) -> Result<Encoded> {
        let last = SortOptions { descending: false, nulls_first: false };
        let converter = RowConverter::new(vec![SortField::new_with_options(column.data_type().clone(), last)])?;
        let rows = converter.convert_columns(std::slice::from_ref(column))?;
        let mut ascending = among.to_vec();
        ascending.sort_unstable_by(|a, b| rows.row(*a as usize).cmp(&rows.row(*b as usize)).then_with(|| a.cmp(b)));
        Ok(Encoded { converter, rows, ascending })
    }

    /// How many values come before this one; with `through`, also those that are equal to it.
    fn before(&self, value: Row<'_>, through: bool) -> u32 {
        self.ascending.partition_point(|place| match self.rows.row(*place as usize).cmp(&value) {
            Ordering::Less => true,
            Ordering::Equal => through,
            Ordering::Greater => false,
        }) as u32
    }

    fn bytes(&self) -> usize {
        self.rows.size() + self.ascending.len() * 4
    }
}

impl RangeKeys {
    /// Bytes for each build row beside its encoded values.
    pub const BYTES_PER_ROW: usize = 64;

    pub fn over(&self, batch: &RecordBatch) -> Result<Ranges> {
        let value = |key: &RangeKey| Ok::<_, cobble_types::Error>(comparable(&key.value.array(batch)?));
        let first = value(&self.sorted)?;
        let other = self.second.as_ref().map(value).transpose()?;
        let whole: Vec<u32> = (0..batch.num_rows() as u32)
            .filter(|row| {
                first.is_valid(*row as usize) && other.as_ref().is_none_or(|other| other.is_valid(*row as usize))
            })
            .collect();
        let sorted = Encoded::new(&first, &whole)?;
        let order = sorted.ascending.clone();
        let second = match (&self.second, &other) {
            (Some(key), Some(column)) => Some(Second::new(key, column, &order)?),
            _ => None,
        };
        Ok(Ranges { order, sorted, second })
    }

    /// What each row of a probe batch looks for.
    pub fn stretches(&self, ranges: &Ranges, batch: &RecordBatch) -> Result<Vec<Stretch>> {
        let all = Stretch { start: 0, end: ranges.order.len() as u32, least: 0 };
        let mut stretches = vec![all; batch.num_rows()];
        for (op, bound) in &self.sorted.bounds {
            ranges.sorted.bounded(bound, batch, &mut stretches, |values, value, stretch| match op {
                BinaryOp::Gt => stretch.start = stretch.start.max(values.before(value, true)),
                BinaryOp::GtEq => stretch.start = stretch.start.max(values.before(value, false)),
                BinaryOp::Lt => stretch.end = stretch.end.min(values.before(value, false)),
                _ => stretch.end = stretch.end.min(values.before(value, true)),
            })?;
        }
        if let (Some(key), Some(second)) = (&self.second, &ranges.second) {
            let count = ranges.order.len() as u32;
            for (op, bound) in &key.bounds {
                second.values.bounded(bound, batch, &mut stretches, |values, value, stretch| {
                    stretch.least = match op {
                        BinaryOp::Gt => values.before(value, true) + 1,
                        BinaryOp::GtEq => values.before(value, false) + 1,
                        BinaryOp::Lt => count - values.before(value, false) + 1,
                        _ => count - values.before(value, true) + 1,
                    };
                })?;
            }
        }
        Ok(stretches)
    }
}

impl Encoded {
    /// Lets each row's bound narrow its stretch; a null leaves nothing of it.
    fn bounded(
        &self,
        bound: &Compiled,
        batch: &RecordBatch,
        stretches: &mut [Stretch],
        narrow: impl Fn(&Encoded, Row<'_>, &mut Stretch),
    ) -> Result<()> {
        let column = comparable(&bound.array(batch)?);
        let rows = self.converter.convert_columns(std::slice::from_ref(&column))?;
        for (row, stretch) in stretches.iter_mut().enumerate() {
            if column.is_null(row) {
                stretch.end = 0;
            } else {
                narrow(self, rows.row(row), stretch);
            }
        }
        Ok(())
    }
}

impl Second {
    fn new(key: &RangeKey, column: &ArrayRef, order: &[u32]) -> Result<Second> {
        let values = Encoded::new(column, order)?;
        let from_above = key.bounds.iter().any(|(op, _)| matches!(op, BinaryOp::Lt | BinaryOp::LtEq));
        let leaves = order.len().next_power_of_two();
        let mut second = Second { values, tree: vec![0; leaves * 2], leaves };
        let mut place_of = vec![0u32; column.len()];
        for (place, row) in order.iter().enumerate() {
            place_of[*row as usize] = place as u32;
        }
        // Equal values share the place of the first of them, or counted from the end, that of the last.
        let ascending = std::mem::take(&mut second.values.ascending);
        let equal = |a: u32, b: u32| second.values.rows.row(a as usize) == second.values.rows.row(b as usize);
        let (mut start, count) = (0, ascending.len());
        while start < count {
            let mut end = start + 1;
            while end < count && equal(ascending[start], ascending[end]) {
                end += 1;
            }
            let score = if from_above { count - end + 1 } else { start + 1 };
            for row in &ascending[start..end] {
                second.tree[leaves + place_of[*row as usize] as usize] = score as u32;
            }
            start = end;
        }
        second.values.ascending = ascending;
        for node in (1..leaves).rev() {
            second.tree[node] = second.tree[node * 2].max(second.tree[node * 2 + 1]);
        }
        Ok(second)
    }

    /// The first place from `from` on whose score is at least `least`.
    fn next(&self, from: usize, least: u32) -> Option<usize> {
        if from >= self.leaves {
            return None;
        }
        let mut node = self.leaves + from;
        // Up until a stretch to the right may have one, then down to its first.
        while self.tree[node] < least {
            while node & 1 == 1 {
                node >>= 1;
            }
            if node == 0 {
                return None;
            }
            node += 1;
        }
        while node < self.leaves {
            node *= 2;
            if self.tree[node] < least {
                node += 1;
            }
        }
        Some(node - self.leaves)
    }
}

impl Ranges {
    pub fn bytes(&self) -> usize {
        let second = self.second.as_ref().map_or(0, |s| s.values.bytes() + s.tree.len() * 4);
        self.order.len() * 4 + self.sorted.bytes() + second
    }

    /// The next build row for a probe row, and the stretch that is left after it.
    pub fn next(&self, stretch: &mut Stretch) -> Option<u32> {
        if stretch.start >= stretch.end {
            return None;
        }
        let place = match &self.second {
            Some(second) => second.next(stretch.start as usize, stretch.least)?,
            None => stretch.start as usize,
        };
        if place >= stretch.end as usize {
            return None;
        }
        stretch.start = place as u32 + 1;
        Some(self.order[place])
    }
}
