//! The state of each aggregate, one slot per group in flat vectors. A state can be taken out as arrays and merged into another
//! of its kind: that is how tasks' groups come together and how groups go to disk and back.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::NullBuffer;
use arrow::datatypes::*;
use cobble_types::{Code, Error, Result};

pub trait Accumulator: Send {
    /// Takes one batch: `groups` has the group of each row. Rows with a null argument are left out, except by those
    /// aggregates that keep nulls.
    fn update(&mut self, groups: &[u32], group_count: usize, values: &[ArrayRef]) -> Result<()>;
    /// The state as columns with one row per group, from which `merge` makes the same state again.
    fn state(&self, group_count: usize) -> Result<Vec<ArrayRef>>;
    /// Takes over a state, whose row `i` belongs to this one's group `groups[i]`.
    fn merge(&mut self, groups: &[u32], group_count: usize, state: &[ArrayRef]) -> Result<()>;
    /// Makes the state of group `to` what that of `from` is now; `None` stands for no rows. False when this kind of state
    /// is too large to be copied.
    fn fork(&mut self, _from: Option<u32>, _to: u32, _group_count: usize) -> bool {
        false
    }
    /// The result, one row per group. The state stays as it is.
    fn finish(&self, group_count: usize) -> Result<ArrayRef>;
    /// Bytes held.
    fn bytes(&self) -> usize;
    /// Bytes that one group's state holds beside a place of fixed size.
    fn bytes_of(&self, _group: u32) -> usize {
        0
    }
}

/// What an aggregate does with one group's slot; the vectors of slots are the same for all of them.
pub trait Rule: Send + 'static {
    type Slot: Default + Clone + Send;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()>;
    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>>;
    /// Merges each row of a state into the slot of its group.
    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()>;
    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef>;
    /// Bytes that a slot holds outside itself.
    fn heap(&self, _: &Self::Slot) -> usize {
        0
    }
    /// True if slots own heap memory, so that `heap` must be called.
    fn has_heap(&self) -> bool {
        false
    }
}

struct Slots<R: Rule> {
    rule: R,
    slots: Vec<R::Slot>,
}

pub fn slots<R: Rule>(rule: R) -> Box<dyn Accumulator> {
    Box::new(Slots { rule, slots: Vec::new() })
}

impl<R: Rule> Slots<R> {
    /// The slots of all groups; those that no row has reached yet are fresh.
    fn all(&self, group_count: usize) -> std::borrow::Cow<'_, [R::Slot]> {
        if self.slots.len() >= group_count {
            return std::borrow::Cow::Borrowed(&self.slots[..group_count]);
        }
        let mut all = self.slots.clone();
        all.resize(group_count, R::Slot::default());
        std::borrow::Cow::Owned(all)
    }

    fn grow(&mut self, group_count: usize) {
        if self.slots.len() < group_count {
            self.slots.resize(group_count, R::Slot::default());
        }
    }
}

impl<R: Rule> Accumulator for Slots<R> {
    fn update(&mut self, groups: &[u32], group_count: usize, values: &[ArrayRef]) -> Result<()> {
        self.grow(group_count);
        self.rule.update(&mut self.slots, groups, values)
    }

    fn state(&self, group_count: usize) -> Result<Vec<ArrayRef>> {
        self.rule.state(&self.all(group_count))
    }

    fn merge(&mut self, groups: &[u32], group_count: usize, state: &[ArrayRef]) -> Result<()> {
        self.grow(group_count);
        self.rule.merge(&mut self.slots, groups, state)
    }

    fn fork(&mut self, from: Option<u32>, to: u32, group_count: usize) -> bool {
        self.grow(group_count);
        self.slots[to as usize] = from.map_or_else(R::Slot::default, |from| self.slots[from as usize].clone());
        true
    }

    fn finish(&self, group_count: usize) -> Result<ArrayRef> {
        self.rule.finish(&self.all(group_count))
    }

    fn bytes(&self) -> usize {
        let heap = if self.rule.has_heap() { self.slots.iter().map(|slot| self.rule.heap(slot)).sum() } else { 0 };
        self.slots.capacity() * size_of::<R::Slot>() + heap
    }

    fn bytes_of(&self, group: u32) -> usize {
        if self.rule.has_heap() { self.slots.get(group as usize).map_or(0, |slot| self.rule.heap(slot)) } else { 0 }
    }
}

/// The rows to take: those without a null.
pub fn taken(values: &[ArrayRef]) -> impl Fn(usize) -> bool {
    let all_null = values.iter().any(|v| matches!(v.data_type(), DataType::Null));
    let nulls = values.iter().fold(None, |nulls, v| NullBuffer::union(nulls.as_ref(), v.nulls()));
    let nulls = nulls.filter(|n| n.null_count() > 0);
    move |row| !all_null && nulls.as_ref().is_none_or(|n| n.is_valid(row))
}

pub(crate) fn too_large() -> Error {
    Error::new(Code::Overflow, "a sum is out of the range of its type")
}

/// A raw 128-bit number as a column of a state.
pub(crate) fn wide(values: impl Iterator<Item = i128>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Decimal128Array>())
}

pub(crate) fn whole(values: impl Iterator<Item = i64>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Int64Array>())
}

pub(crate) fn real(values: impl Iterator<Item = f64>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Float64Array>())
}
