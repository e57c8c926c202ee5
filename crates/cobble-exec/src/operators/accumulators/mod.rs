//! The state of each aggregate, one slot per group in flat vectors. A state can be taken out as arrays and merged into another
//! of its kind: that is how tasks' groups come together and how groups go to disk and back.

mod collected;
mod distinct;
mod extremes;
mod moments;
mod sketches;
mod sums;

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::NullBuffer;
use arrow::compute::SortOptions;
use arrow::datatypes::*;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_types::{Code, Error, Result, SqlType};

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
}

/// A fresh state for the call. Its values are the arguments, then the sort keys.
pub fn accumulator(call: &AggregateCall) -> Result<Box<dyn Accumulator>> {
    let types: Vec<SqlType> = call.arguments.iter().map(cobble_plan::Expr::sql_type).collect();
    if call.function.collects() {
        let options = call
            .order
            .iter()
            .map(|key| SortOptions { descending: key.descending, nulls_first: key.nulls_first })
            .collect();
        let keys = call.order.iter().map(|key| key.expr.sql_type()).collect();
        return Ok(Box::new(collected::Collected::new(
            call.function,
            types,
            keys,
            options,
            call.distinct,
            &call.sql_type,
        )?));
    }
    let plain = plain(call, types.first())?;
    match types.first() {
        Some(_) if call.distinct && !call.function.ignores_repetition() => {
            let types = types.iter().map(SqlType::to_arrow).collect();
            Ok(Box::new(distinct::Distinct::new(call.clone(), types)?))
        }
        _ => Ok(plain),
    }
}

/// The state without regard to DISTINCT.
fn plain(call: &AggregateCall, argument: Option<&SqlType>) -> Result<Box<dyn Accumulator>> {
    use AggregateFunction as F;
    let own = argument.cloned().unwrap_or(SqlType::Null);
    let missing = || Error::internal(format!("{} without an argument", call.function.name()));
    if argument.is_none() && call.function != F::Count {
        return Err(missing());
    }
    Ok(match call.function {
        F::Count => Box::new(sums::Count::default()),
        F::Sum | F::Avg if own == SqlType::Interval => slots(sums::IntervalSum { average: call.function == F::Avg }),
        F::Sum | F::Avg if own.is_float() => {
            slots(sums::FloatSum { average: call.function == F::Avg, result: call.sql_type.clone() })
        }
        F::Sum | F::Avg => slots(sums::ExactSum {
            average: call.function == F::Avg,
            scale: own.digits().map_or(0, |(_, scale)| scale),
            result: call.sql_type.clone(),
        }),
        F::Min | F::Max => extremes::extreme(own.to_arrow(), call.function == F::Max)?,
        F::BoolAnd | F::BoolOr => slots(extremes::Logical { or: call.function == F::BoolOr }),
        F::BitAnd | F::BitOr | F::BitXor => {
            slots(extremes::Bits { function: call.function, data_type: own.to_arrow() })
        }
        F::VarPop | F::VarSamp | F::StddevPop | F::StddevSamp if own.is_float() => {
            slots(moments::FloatMoments { function: call.function })
        }
        F::VarPop | F::VarSamp | F::StddevPop | F::StddevSamp => slots(moments::ExactMoments {
            function: call.function,
            scale: own.digits().map_or(0, |(_, scale)| scale),
            result: call.sql_type.clone(),
        }),
        F::ApproxCountDistinct => slots(sketches::DistinctSketch::new(own.to_arrow())?),
        F::ApproxPercentile => slots(sketches::PercentileSketch),
        function if function.is_regression() => slots(moments::Regression { function }),
        function => return Err(Error::internal(format!("{} keeps no plain state", function.name()))),
    })
}

/// What an aggregate does with one group's slot; the vectors of slots are the same for all of them.
trait Rule: Send + 'static {
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
    /// True when slots hold bytes outside themselves, so that they have to be asked.
    fn has_heap(&self) -> bool {
        false
    }
}

struct Slots<R: Rule> {
    rule: R,
    slots: Vec<R::Slot>,
}

fn slots<R: Rule>(rule: R) -> Box<dyn Accumulator> {
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
}

/// The rows to take: those in which no value is null.
fn taken(values: &[ArrayRef]) -> impl Fn(usize) -> bool {
    let all_null = values.iter().any(|v| matches!(v.data_type(), DataType::Null));
    let nulls = values.iter().fold(None, |nulls, v| NullBuffer::union(nulls.as_ref(), v.nulls()));
    let nulls = nulls.filter(|n| n.null_count() > 0);
    move |row| !all_null && nulls.as_ref().is_none_or(|n| n.is_valid(row))
}

fn too_large() -> Error {
    Error::new(Code::Overflow, "a sum is out of the range of its type")
}

/// A raw 128-bit number as a column of a state.
fn wide(values: impl Iterator<Item = i128>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Decimal128Array>())
}

fn whole(values: impl Iterator<Item = i64>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Int64Array>())
}

fn real(values: impl Iterator<Item = f64>) -> ArrayRef {
    Arc::new(values.map(Some).collect::<Float64Array>())
}
