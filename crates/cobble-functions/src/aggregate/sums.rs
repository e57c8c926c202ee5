//! count, sum and avg.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::{Result, SqlType};

use super::DIVISION_SCALE;
use super::accumulator::{Accumulator, Rule, real, slots, taken, too_large, whole, wide};
use super::signature::{Aggregate, Aggregated, as_it_is};
use crate::operators::arithmetic::divide as arithmetic_divide;
use crate::signature::{Given, Overload, Returns, Takes, Types};

pub(super) const COUNT: Aggregate = Aggregate::new(
    "count",
    "* or any",
    "The number of rows, or of values that are not null.",
    ("SELECT count(*) FROM (VALUES (1), (NULL)) t (v)", "2"),
    &[
        Overload::of(&[], Returns::BigInt, |_| Ok(Box::new(Count::default()))),
        Overload::of(&[Takes::Any], Returns::BigInt, |_| Ok(Box::new(Count::default()))),
    ],
)
.counting();

pub(super) const SUM: Aggregate = Aggregate::new(
    "sum",
    "number or interval",
    "The sum.",
    ("SELECT sum(v) FROM (VALUES (1), (2), (NULL)) t (v)", "3"),
    &[
        Overload::together(
            |given| {
                as_it_is(given, |own| match own {
                    SqlType::SmallInt | SqlType::Integer => Some(SqlType::BigInt),
                    SqlType::BigInt => Some(SqlType::WIDE_NUMERIC),
                    SqlType::Numeric { scale, .. } => Some(SqlType::Numeric { precision: 38, scale: *scale }),
                    _ => None,
                })
            },
            |call| exact(call, false),
        ),
        Overload::together(
            |given| as_it_is(given, |own| own.is_float().then(|| own.clone())),
            |call| Ok(slots(FloatSum { average: false, result: call.result.clone() })),
        ),
        Overload::together(spans, |_| Ok(slots(IntervalSum { average: false }))),
    ],
);

pub(super) const AVG: Aggregate = Aggregate::new(
    "avg",
    "number or interval",
    "The arithmetic mean.",
    ("SELECT avg(v) FROM (VALUES (1), (2)) t (v)", "1.5000000000000000"),
    &[
        Overload::together(|given| as_it_is(given, quotient), |call| exact(call, true)),
        Overload::together(
            |given| as_it_is(given, |own| own.is_float().then_some(SqlType::Double)),
            |call| Ok(slots(FloatSum { average: true, result: call.result.clone() })),
        ),
        Overload::together(spans, |_| Ok(slots(IntervalSum { average: true }))),
    ],
);

/// The type of what is divided by a number of rows, for exact numbers.
pub(super) fn quotient(own: &SqlType) -> Option<SqlType> {
    let (_, scale) = own.digits().filter(|_| own.is_number() && !own.is_float())?;
    Some(SqlType::Numeric { precision: 38, scale: scale.max(DIVISION_SCALE) })
}

/// Intervals, and times of day as such.
fn spans(given: &[Given]) -> Option<Types> {
    let [Given { sql_type: SqlType::Interval | SqlType::Time, .. }] = given else { return None };
    Some((vec![SqlType::Interval], SqlType::Interval))
}

fn exact(call: &Aggregated, average: bool) -> Result<Box<dyn Accumulator>> {
    let scale = call.arguments[0].digits().map_or(0, |(_, scale)| scale);
    Ok(slots(ExactSum { average, scale, result: call.result.clone() }))
}

#[derive(Default)]
struct Count {
    counts: Vec<i64>,
}

impl Accumulator for Count {
    fn update(&mut self, groups: &[u32], group_count: usize, values: &[ArrayRef]) -> Result<()> {
        self.counts.resize(group_count.max(self.counts.len()), 0);
        if values.iter().all(|v| v.null_count() == 0 && *v.data_type() != DataType::Null) {
            groups.iter().for_each(|g| self.counts[*g as usize] += 1);
        } else {
            let taken = taken(values);
            groups.iter().enumerate().filter(|(row, _)| taken(*row)).for_each(|(_, g)| self.counts[*g as usize] += 1);
        }
        Ok(())
    }

    fn state(&self, group_count: usize) -> Result<Vec<ArrayRef>> {
        Ok(vec![self.finish(group_count)?])
    }

    fn merge(&mut self, groups: &[u32], group_count: usize, state: &[ArrayRef]) -> Result<()> {
        self.counts.resize(group_count.max(self.counts.len()), 0);
        let counts = state[0].as_primitive::<Int64Type>().values();
        groups.iter().zip(counts.iter()).for_each(|(g, count)| self.counts[*g as usize] += count);
        Ok(())
    }

    fn fork(&mut self, from: Option<u32>, to: u32, group_count: usize) -> bool {
        self.counts.resize(group_count.max(self.counts.len()), 0);
        self.counts[to as usize] = from.map_or(0, |from| self.counts[from as usize]);
        true
    }

    fn finish(&self, group_count: usize) -> Result<ArrayRef> {
        Ok(whole((0..group_count).map(|g| self.counts.get(g).copied().unwrap_or(0))))
    }

    fn bytes(&self) -> usize {
        self.counts.capacity() * 8
    }
}

/// Sums and averages of integers and numerics, exact.
struct ExactSum {
    average: bool,
    scale: i8,
    result: SqlType,
}

#[derive(Default, Clone, Copy)]
struct Exact {
    sum: i128,
    count: i64,
}

impl ExactSum {
    fn add<T: ArrowPrimitiveType>(slots: &mut [Exact], groups: &[u32], values: &ArrayRef) -> Result<()>
    where
        T::Native: Into<i128>,
    {
        let all = values.as_primitive::<T>().values();
        let mut add = |group: u32, value: T::Native| {
            let slot = &mut slots[group as usize];
            slot.sum = slot.sum.checked_add(value.into()).ok_or_else(too_large)?;
            slot.count += 1;
            Ok(())
        };
        if values.null_count() == 0 {
            return groups.iter().zip(all.iter()).try_for_each(|(group, value)| add(*group, *value));
        }
        let taken = taken(std::slice::from_ref(values));
        groups.iter().enumerate().filter(|(row, _)| taken(*row)).try_for_each(|(row, group)| add(*group, all[row]))
    }
}

impl Rule for ExactSum {
    type Slot = Exact;

    fn update(&self, slots: &mut [Exact], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let values = &values[0];
        match values.data_type() {
            DataType::Int16 => Self::add::<Int16Type>(slots, groups, values),
            DataType::Int32 => Self::add::<Int32Type>(slots, groups, values),
            DataType::Int64 => Self::add::<Int64Type>(slots, groups, values),
            _ => Self::add::<Decimal128Type>(slots, groups, values),
        }
    }

    fn state(&self, slots: &[Exact]) -> Result<Vec<ArrayRef>> {
        Ok(vec![wide(slots.iter().map(|s| s.sum)), whole(slots.iter().map(|s| s.count))])
    }

    fn merge(&self, slots: &mut [Exact], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let (sums, counts) = (state[0].as_primitive::<Decimal128Type>(), state[1].as_primitive::<Int64Type>());
        for (row, group) in groups.iter().enumerate() {
            let slot = &mut slots[*group as usize];
            slot.sum = slot.sum.checked_add(sums.value(row)).ok_or_else(too_large)?;
            slot.count += counts.value(row);
        }
        Ok(())
    }

    fn finish(&self, slots: &[Exact]) -> Result<ArrayRef> {
        let some = slots.iter().map(|slot| (slot.count > 0).then_some(*slot));
        match &self.result {
            SqlType::Numeric { precision, scale } => {
                let limit = 10u128.pow(u32::from(*precision));
                let mut out = Decimal128Builder::with_capacity(slots.len());
                for slot in some {
                    let value = match slot {
                        None => None,
                        Some(Exact { sum, count }) if self.average => {
                            let shift = u32::try_from(i32::from(*scale) - i32::from(self.scale)).unwrap_or(0);
                            Some(arithmetic_divide(sum, shift, i128::from(count)).ok_or_else(too_large)?)
                        }
                        Some(Exact { sum, .. }) => Some(sum),
                    };
                    if value.is_some_and(|v| v.unsigned_abs() >= limit) {
                        return Err(too_large());
                    }
                    out.append_option(value);
                }
                Ok(Arc::new(out.finish().with_precision_and_scale(*precision, *scale)?))
            }
            _ => {
                let mut out = Int64Builder::with_capacity(slots.len());
                for slot in some {
                    out.append_option(slot.map(|s| i64::try_from(s.sum).map_err(|_| too_large())).transpose()?);
                }
                Ok(Arc::new(out.finish()))
            }
        }
    }
}

/// Sums and averages of floating-point numbers.
struct FloatSum {
    average: bool,
    result: SqlType,
}

#[derive(Default, Clone, Copy)]
struct Float {
    sum: f64,
    count: i64,
}

impl Rule for FloatSum {
    type Slot = Float;

    fn update(&self, slots: &mut [Float], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let value = |row: usize| match values[0].data_type() {
            DataType::Float32 => f64::from(values[0].as_primitive::<Float32Type>().value(row)),
            _ => values[0].as_primitive::<Float64Type>().value(row),
        };
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let slot = &mut slots[*group as usize];
            slot.sum += value(row);
            slot.count += 1;
        }
        Ok(())
    }

    fn state(&self, slots: &[Float]) -> Result<Vec<ArrayRef>> {
        Ok(vec![real(slots.iter().map(|s| s.sum)), whole(slots.iter().map(|s| s.count))])
    }

    fn merge(&self, slots: &mut [Float], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let (sums, counts) = (state[0].as_primitive::<Float64Type>(), state[1].as_primitive::<Int64Type>());
        for (row, group) in groups.iter().enumerate() {
            slots[*group as usize].sum += sums.value(row);
            slots[*group as usize].count += counts.value(row);
        }
        Ok(())
    }

    fn finish(&self, slots: &[Float]) -> Result<ArrayRef> {
        let results =
            slots.iter().map(|s| (s.count > 0).then_some(if self.average { s.sum / s.count as f64 } else { s.sum }));
        Ok(match self.result {
            SqlType::Real => Arc::new(results.map(|v| v.map(|v| v as f32)).collect::<Float32Array>()),
            _ => Arc::new(results.collect::<Float64Array>()),
        })
    }
}

/// Sums and averages of intervals, part by part.
struct IntervalSum {
    average: bool,
}

#[derive(Default, Clone, Copy)]
struct Span {
    months: i64,
    days: i64,
    nanoseconds: i128,
    count: i64,
}

impl Rule for IntervalSum {
    type Slot = Span;

    fn update(&self, slots: &mut [Span], groups: &[u32], values: &[ArrayRef]) -> Result<()> {
        let taken = taken(values);
        let spans = values[0].as_primitive::<IntervalMonthDayNanoType>();
        for (row, group) in groups.iter().enumerate().filter(|(row, _)| taken(*row)) {
            let (slot, span) = (&mut slots[*group as usize], spans.value(row));
            slot.months += i64::from(span.months);
            slot.days += i64::from(span.days);
            slot.nanoseconds += i128::from(span.nanoseconds);
            slot.count += 1;
        }
        Ok(())
    }

    fn state(&self, slots: &[Span]) -> Result<Vec<ArrayRef>> {
        Ok(vec![
            whole(slots.iter().map(|s| s.months)),
            whole(slots.iter().map(|s| s.days)),
            wide(slots.iter().map(|s| s.nanoseconds)),
            whole(slots.iter().map(|s| s.count)),
        ])
    }

    fn merge(&self, slots: &mut [Span], groups: &[u32], state: &[ArrayRef]) -> Result<()> {
        let number = |place: usize, row: usize| state[place].as_primitive::<Int64Type>().value(row);
        for (row, group) in groups.iter().enumerate() {
            let slot = &mut slots[*group as usize];
            slot.months += number(0, row);
            slot.days += number(1, row);
            slot.nanoseconds += state[2].as_primitive::<Decimal128Type>().value(row);
            slot.count += number(3, row);
        }
        Ok(())
    }

    fn finish(&self, slots: &[Span]) -> Result<ArrayRef> {
        let mut out = Vec::with_capacity(slots.len());
        for s in slots {
            if s.count == 0 {
                out.push(None);
                continue;
            }
            let (mut months, mut days, mut nanoseconds) = (i128::from(s.months), i128::from(s.days), s.nanoseconds);
            if self.average {
                // What is left of a larger part goes to the next smaller one, at 30 days to a month and 24 hours to a day.
                let count = s.count as f64;
                let (month_share, day_share) = (s.months as f64 / count, s.days as f64 / count);
                let rest_days = (month_share - month_share.trunc()) * 30.0;
                let rest = (day_share - day_share.trunc() + rest_days - rest_days.trunc()) * 86_400_000_000_000.0;
                months = month_share.trunc() as i128;
                days = day_share.trunc() as i128 + rest_days.trunc() as i128;
                nanoseconds = ((s.nanoseconds as f64 / count + rest) / 1000.0).round() as i128 * 1000;
            }
            let part = |v: i128| i32::try_from(v).map_err(|_| too_large());
            let nanoseconds = i64::try_from(nanoseconds).map_err(|_| too_large())?;
            // Microseconds are the finest that SQL's intervals know.
            out.push(Some(IntervalMonthDayNano::new(part(months)?, part(days)?, nanoseconds / 1000 * 1000)));
        }
        Ok(Arc::new(out.into_iter().collect::<IntervalMonthDayNanoArray>()))
    }
}
