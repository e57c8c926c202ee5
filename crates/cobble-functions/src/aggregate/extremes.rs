//! min, max, bool_and, bool_or and the aggregates of bits.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::{SortOptions, cast, take};
use arrow::datatypes::*;
use arrow::row::{OwnedRow, RowConverter, SortField};
use cobble_types::{Error, Result};

use super::accumulator::{Accumulator, Rule, slots, taken};
use super::signature::{Aggregate, Aggregated, as_it_is};
use crate::operators::compare::interval_length;
use crate::signature::{Given, Overload, Returns, Takes, Types};

pub(super) const MIN: Aggregate = Aggregate::new(
    "min",
    "any ordered",
    "The least value.",
    ("SELECT min(v) FROM (VALUES ('b'), ('a')) t (v)", "a"),
    &[Overload::of(&[Takes::Ordered], Returns::Same(0), |call| extreme(call.arguments[0].to_arrow(), false))],
)
.ignoring_repetition();

pub(super) const MAX: Aggregate = Aggregate::new(
    "max",
    "any ordered",
    "The greatest value.",
    ("SELECT max(v) FROM (VALUES ('b'), ('a')) t (v)", "b"),
    &[Overload::of(&[Takes::Ordered], Returns::Same(0), |call| extreme(call.arguments[0].to_arrow(), true))],
)
.ignoring_repetition();

pub(super) const BOOL_AND: Aggregate = Aggregate::new(
    "bool_and",
    "boolean",
    "Whether all are true.",
    ("SELECT bool_and(v) FROM (VALUES (true), (false)) t (v)", "false"),
    &[Overload::of(&[Takes::Boolean], Returns::Boolean, |_| Ok(slots(Logical { or: false })))],
)
.also(&["every"])
.ignoring_repetition();

pub(super) const BOOL_OR: Aggregate = Aggregate::new(
    "bool_or",
    "boolean",
    "Whether one is true.",
    ("SELECT bool_or(v) FROM (VALUES (true), (false)) t (v)", "true"),
    &[Overload::of(&[Takes::Boolean], Returns::Boolean, |_| Ok(slots(Logical { or: true })))],
)
.ignoring_repetition();

pub(super) const BIT_AND: Aggregate = Aggregate::new(
    "bit_and",
    "integer",
    "The bits that all have.",
    ("SELECT bit_and(v) FROM (VALUES (12), (10)) t (v)", "8"),
    &[Overload::together(whole_numbers, |call| bits(call, |known, value| known & value))],
)
.ignoring_repetition();

pub(super) const BIT_OR: Aggregate = Aggregate::new(
    "bit_or",
    "integer",
    "The bits that one of them has.",
    ("SELECT bit_or(v) FROM (VALUES (12), (10)) t (v)", "14"),
    &[Overload::together(whole_numbers, |call| bits(call, |known, value| known | value))],
)
.ignoring_repetition();

pub(super) const BIT_XOR: Aggregate = Aggregate::new(
    "bit_xor",
    "integer",
    "The bits that an odd number of them has.",
    ("SELECT bit_xor(v) FROM (VALUES (12), (10)) t (v)", "6"),
    &[Overload::together(whole_numbers, |call| bits(call, |known, value| known ^ value))],
);

fn whole_numbers(given: &[Given]) -> Option<Types> {
    as_it_is(given, |own| own.is_integer().then(|| own.clone()))
}

fn bits(call: &Aggregated, together: fn(i64, i64) -> i64) -> Result<Box<dyn Accumulator>> {
    Ok(slots(Bits { together, data_type: call.result.to_arrow() }))
}

fn extreme(data_type: DataType, greatest: bool) -> Result<Box<dyn Accumulator>> {
    macro_rules! primitive {
        ($t:ty) => {
            slots(Extreme::<$t> { greatest, data_type, of: std::marker::PhantomData })
        };
    }
    Ok(match data_type {
        DataType::Int16 => primitive!(Int16Type),
        DataType::Int32 => primitive!(Int32Type),
        DataType::Int64 => primitive!(Int64Type),
        DataType::Float32 => primitive!(Float32Type),
        DataType::Float64 => primitive!(Float64Type),
        DataType::Decimal128(..) => primitive!(Decimal128Type),
        DataType::Date32 => primitive!(Date32Type),
        DataType::Time64(_) => primitive!(Time64MicrosecondType),
        DataType::Timestamp(..) => primitive!(TimestampMicrosecondType),
        DataType::Interval(_) => slots(IntervalExtreme { greatest }),
        DataType::Utf8View => slots(TextExtreme { greatest }),
        DataType::List(_) => {
            let order = SortOptions { descending: false, nulls_first: false };
            let field = SortField::new_with_options(data_type, order);
            slots(NestedExtreme { greatest, converter: RowConverter::new(vec![field])? })
        }
        other => return Err(Error::unsupported(format_args!("the extreme of {other}"))),
    })
}

/// Extremes of fixed-size values. NaN is the greatest number.
struct Extreme<T: ArrowPrimitiveType> {
    greatest: bool,
    data_type: DataType,
    of: std::marker::PhantomData<fn() -> T>,
}

impl<T: ArrowPrimitiveType> Rule for Extreme<T> {
    type Slot = Option<T::Native>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let all = values[0].as_primitive::<T>().values();
        let mut take = |group: u32, value: T::Native| {
            let slot = &mut slots[group as usize];
            let better = slot.is_none_or(|best| {
                let order = value.compare(best);
                if self.greatest { order.is_gt() } else { order.is_lt() }
            });
            if better {
                *slot = Some(value);
            }
        };
        if values[0].null_count() == 0 {
            groups.iter().zip(all.iter()).for_each(|(group, value)| take(*group, *value));
        } else {
            let taken = taken(values);
            groups.iter().enumerate().filter(|(row, _)| taken(*row)).for_each(|(row, group)| take(*group, all[row]));
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(slots)?])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        let values: PrimitiveArray<T> = slots.iter().copied().collect();
        Ok(Arc::new(values.with_data_type(self.data_type.clone())))
    }
}

/// Extremes of intervals, at 30 days to a month and 24 hours to a day.
struct IntervalExtreme {
    greatest: bool,
}

impl Rule for IntervalExtreme {
    type Slot = Option<IntervalMonthDayNano>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let all = values[0].as_primitive::<IntervalMonthDayNanoType>();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, value) = (&mut slots[*group as usize], all.value(row));
            let better = slot.is_none_or(|best| {
                let order = interval_length(value).cmp(&interval_length(best));
                if self.greatest { order.is_gt() } else { order.is_lt() }
            });
            if better {
                *slot = Some(value);
            }
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(slots)?])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(Arc::new(slots.iter().copied().collect::<IntervalMonthDayNanoArray>()))
    }
}

/// Extremes of arrays, item by item: a null is greater than any value, and what ends first is less.
struct NestedExtreme {
    greatest: bool,
    converter: RowConverter,
}

impl Rule for NestedExtreme {
    type Slot = Option<OwnedRow>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let rows = self.converter.convert_columns(&values[..1])?;
        for (place, group) in groups.iter().enumerate().filter(|(place, _)| taken(*place)) {
            let (slot, row) = (&mut slots[*group as usize], rows.row(place));
            let better = slot.as_ref().is_none_or(|best| {
                let order = row.cmp(&best.row());
                if self.greatest { order.is_gt() } else { order.is_lt() }
            });
            if better {
                *slot = Some(row.owned());
            }
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(slots)?])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        let found = self.converter.convert_rows(slots.iter().flatten().map(OwnedRow::row))?;
        let found = found.into_iter().next().ok_or_else(|| Error::internal("an extreme without a column"))?;
        let mut next = 0;
        let places = slots.iter().map(|slot| {
            slot.as_ref().map(|_| {
                next += 1;
                next - 1
            })
        });
        Ok(take(found.as_ref(), &places.collect::<UInt32Array>(), None)?)
    }
}

/// Extremes of text, by bytes.
struct TextExtreme {
    greatest: bool,
}

impl Rule for TextExtreme {
    type Slot = Option<Box<str>>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let texts = values[0].as_string_view();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, value) = (&mut slots[*group as usize], texts.value(row));
            let better = match slot {
                None => true,
                Some(best) if self.greatest => value > best.as_ref(),
                Some(best) => value < best.as_ref(),
            };
            if better {
                *slot = Some(value.into());
            }
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(slots)?])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(Arc::new(slots.iter().map(Option::as_deref).collect::<StringViewArray>()))
    }

    fn heap(&self, slot: &Self::Slot) -> usize {
        slot.as_ref().map_or(0, |text| text.len())
    }

    fn has_heap(&self) -> bool {
        true
    }
}

struct Logical {
    or: bool,
}

impl Rule for Logical {
    type Slot = Option<bool>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let booleans = values[0].as_boolean();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, value) = (&mut slots[*group as usize], booleans.value(row));
            *slot = Some(match slot {
                None => value,
                Some(known) if self.or => *known | value,
                Some(known) => *known & value,
            });
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(slots)?])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(Arc::new(slots.iter().copied().collect::<BooleanArray>()))
    }
}

struct Bits {
    together: fn(i64, i64) -> i64,
    data_type: DataType,
}

impl Rule for Bits {
    type Slot = Option<i64>;

    fn update(&self, slots: &mut [Self::Slot], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let wide = cast(&values[0], &DataType::Int64)?;
        let taken = taken(values);
        let numbers = wide.as_primitive::<Int64Type>();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, value) = (&mut slots[*group as usize], numbers.value(row));
            *slot = Some(slot.map_or(value, |known| (self.together)(known, value)));
        }
        Ok(())
    }

    fn state(&self, slots: &[Self::Slot]) -> Result<Vec<ArrayRef>> {
        Ok(vec![Arc::new(slots.iter().copied().collect::<Int64Array>())])
    }

    fn merge(&self, slots: &mut [Self::Slot], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        self.update(slots, groups, state)
    }

    fn finish(&self, slots: &[Self::Slot]) -> Result<ArrayRef> {
        Ok(cast(&slots.iter().copied().collect::<Int64Array>(), &self.data_type)?)
    }
}
