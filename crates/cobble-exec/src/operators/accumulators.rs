//! The state of each aggregate, one slot per group in flat vectors.

use std::any::Any;
use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::NullBuffer;
use arrow::datatypes::*;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_types::{Code, Error, Result, SqlType};

use crate::expression::arithmetic_divide;
use crate::keys::{GroupIndex, KeyEncoder};

pub trait Accumulator: Send {
    /// Takes one batch: `groups` has the group of each row; nulls among the values are left out.
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()>;
    /// Takes over another's state, whose group `i` is this one's `groups[i]`.
    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()>;
    /// The result, one row per group.
    fn finish(&mut self, group_count: usize) -> Result<ArrayRef>;
    fn bytes(&self) -> usize;
    fn into_any(self: Box<Self>) -> Box<dyn Any>;
}

/// A fresh state for the call.
pub fn accumulator(call: &AggregateCall) -> Result<Box<dyn Accumulator>> {
    let argument = call.argument.as_ref().map(cobble_plan::Expr::sql_type);
    let plain: Box<dyn Accumulator> = match (call.function, argument.as_ref()) {
        (AggregateFunction::Count, _) => Box::new(Count::default()),
        (AggregateFunction::Sum | AggregateFunction::Avg, Some(own)) if own.is_float() => Box::new(FloatSum {
            average: call.function == AggregateFunction::Avg,
            result: call.sql_type.clone(),
            sums: vec![],
            counts: vec![],
        }),
        (AggregateFunction::Sum | AggregateFunction::Avg, Some(own)) => Box::new(ExactSum {
            average: call.function == AggregateFunction::Avg,
            scale: own.digits().map_or(0, |(_, scale)| scale),
            result: call.sql_type.clone(),
            sums: vec![],
            counts: vec![],
        }),
        (AggregateFunction::Min | AggregateFunction::Max, Some(own)) => {
            let greatest = call.function == AggregateFunction::Max;
            extreme(own.to_arrow(), greatest)?
        }
        (AggregateFunction::BoolAnd | AggregateFunction::BoolOr, _) => {
            Box::new(Logical { or: call.function == AggregateFunction::BoolOr, values: vec![], seen: vec![] })
        }
        (function, None) => return Err(Error::internal(format!("{} without an argument", function.name()))),
    };
    match (call.distinct, argument) {
        // The extremes of distinct values are the extremes.
        (true, Some(own)) if !matches!(call.function, AggregateFunction::Min | AggregateFunction::Max) => {
            Ok(Box::new(Distinct::new(plain, own.to_arrow())?))
        }
        _ => Ok(plain),
    }
}

/// The rows to take: those that are not null.
fn taken<'a>(values: Option<&'a ArrayRef>) -> impl Fn(usize) -> bool + 'a {
    let nulls: Option<&NullBuffer> = values.and_then(|v| v.nulls()).filter(|n| n.null_count() > 0);
    let all_null = values.is_some_and(|v| matches!(v.data_type(), DataType::Null));
    move |row| !all_null && nulls.is_none_or(|n| n.is_valid(row))
}

fn same<T: 'static>(other: Box<dyn Accumulator>) -> Result<T> {
    other
        .into_any()
        .downcast::<T>()
        .map(|state| *state)
        .map_err(|_| Error::internal("two kinds of aggregate state met"))
}

#[derive(Default)]
struct Count {
    counts: Vec<i64>,
}

impl Accumulator for Count {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.counts.resize(group_count, 0);
        if values.is_none_or(|v| v.null_count() == 0 && *v.data_type() != DataType::Null) {
            groups.iter().for_each(|g| self.counts[*g as usize] += 1);
        } else {
            let taken = taken(values);
            groups.iter().enumerate().filter(|(row, _)| taken(*row)).for_each(|(_, g)| self.counts[*g as usize] += 1);
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.counts.resize(group_count, 0);
        for (count, group) in same::<Count>(other)?.counts.into_iter().zip(groups) {
            self.counts[*group as usize] += count;
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.counts.resize(group_count, 0);
        Ok(Arc::new(Int64Array::from(std::mem::take(&mut self.counts))))
    }

    fn bytes(&self) -> usize {
        self.counts.capacity() * 8
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// Sums and averages of integers and numerics, exact.
struct ExactSum {
    average: bool,
    scale: i8,
    result: SqlType,
    sums: Vec<i128>,
    counts: Vec<i64>,
}

fn too_large() -> Error {
    Error::new(Code::Overflow, "a sum is out of the range of its type")
}

impl ExactSum {
    fn resize(&mut self, group_count: usize) {
        self.sums.resize(group_count, 0);
        self.counts.resize(group_count, 0);
    }

    fn add<T: ArrowPrimitiveType>(&mut self, groups: &[u32], values: &ArrayRef) -> Result<()>
    where
        T::Native: Into<i128>,
    {
        let all = values.as_primitive::<T>().values();
        if values.null_count() == 0 {
            for (group, value) in groups.iter().zip(all.iter()) {
                let sum = &mut self.sums[*group as usize];
                *sum = sum.checked_add((*value).into()).ok_or_else(too_large)?;
                self.counts[*group as usize] += 1;
            }
            return Ok(());
        }
        let taken = taken(Some(values));
        for (row, group) in groups.iter().enumerate() {
            if taken(row) {
                let sum = &mut self.sums[*group as usize];
                *sum = sum.checked_add(all[row].into()).ok_or_else(too_large)?;
                self.counts[*group as usize] += 1;
            }
        }
        Ok(())
    }
}

impl Accumulator for ExactSum {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.resize(group_count);
        let values = values.ok_or_else(|| Error::internal("a sum of nothing"))?;
        match values.data_type() {
            DataType::Int16 => self.add::<Int16Type>(groups, values),
            DataType::Int32 => self.add::<Int32Type>(groups, values),
            DataType::Int64 => self.add::<Int64Type>(groups, values),
            _ => self.add::<Decimal128Type>(groups, values),
        }
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.resize(group_count);
        let other = same::<ExactSum>(other)?;
        for ((sum, count), group) in other.sums.into_iter().zip(other.counts).zip(groups) {
            let own = &mut self.sums[*group as usize];
            *own = own.checked_add(sum).ok_or_else(too_large)?;
            self.counts[*group as usize] += count;
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.resize(group_count);
        let pairs = self.sums.iter().zip(&self.counts).map(|(sum, count)| (*count > 0).then_some((*sum, *count)));
        match &self.result {
            SqlType::Numeric { precision, scale } => {
                let limit = 10i128.pow(u32::from(*precision));
                let mut out = Decimal128Builder::with_capacity(group_count);
                for pair in pairs {
                    let value = match pair {
                        None => None,
                        Some((sum, count)) if self.average => {
                            let shift = u32::try_from(i32::from(*scale) - i32::from(self.scale)).unwrap_or(0);
                            Some(arithmetic_divide(sum, shift, i128::from(count)).ok_or_else(too_large)?)
                        }
                        Some((sum, _)) => Some(sum),
                    };
                    if value.is_some_and(|v| v.unsigned_abs() >= limit.unsigned_abs()) {
                        return Err(too_large());
                    }
                    out.append_option(value);
                }
                Ok(Arc::new(out.finish().with_precision_and_scale(*precision, *scale)?))
            }
            _ => {
                let mut out = Int64Builder::with_capacity(group_count);
                for pair in pairs {
                    out.append_option(pair.map(|(sum, _)| i64::try_from(sum).map_err(|_| too_large())).transpose()?);
                }
                Ok(Arc::new(out.finish()))
            }
        }
    }

    fn bytes(&self) -> usize {
        self.sums.capacity() * 24
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

struct FloatSum {
    average: bool,
    result: SqlType,
    sums: Vec<f64>,
    counts: Vec<i64>,
}

impl FloatSum {
    fn resize(&mut self, group_count: usize) {
        self.sums.resize(group_count, 0.0);
        self.counts.resize(group_count, 0);
    }
}

impl Accumulator for FloatSum {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.resize(group_count);
        let values = values.ok_or_else(|| Error::internal("a sum of nothing"))?;
        let taken = taken(Some(values));
        let value = |row: usize| match values.data_type() {
            DataType::Float32 => f64::from(values.as_primitive::<Float32Type>().value(row)),
            _ => values.as_primitive::<Float64Type>().value(row),
        };
        for (row, group) in groups.iter().enumerate() {
            if taken(row) {
                self.sums[*group as usize] += value(row);
                self.counts[*group as usize] += 1;
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.resize(group_count);
        let other = same::<FloatSum>(other)?;
        for ((sum, count), group) in other.sums.into_iter().zip(other.counts).zip(groups) {
            self.sums[*group as usize] += sum;
            self.counts[*group as usize] += count;
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.resize(group_count);
        let average = self.average;
        let results = self
            .sums
            .iter()
            .zip(&self.counts)
            .map(|(sum, count)| (*count > 0).then_some(if average { sum / *count as f64 } else { *sum }));
        Ok(match self.result {
            SqlType::Real => Arc::new(results.map(|v| v.map(|v| v as f32)).collect::<Float32Array>()),
            _ => Arc::new(results.collect::<Float64Array>()),
        })
    }

    fn bytes(&self) -> usize {
        self.sums.capacity() * 16
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

struct Logical {
    or: bool,
    values: Vec<bool>,
    seen: Vec<bool>,
}

impl Logical {
    fn take(&mut self, group: u32, value: bool) {
        let group = group as usize;
        self.seen[group] = true;
        self.values[group] = if self.or { self.values[group] | value } else { self.values[group] & value };
    }

    fn resize(&mut self, group_count: usize) {
        self.values.resize(group_count, !self.or);
        self.seen.resize(group_count, false);
    }
}

impl Accumulator for Logical {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.resize(group_count);
        let values = values.ok_or_else(|| Error::internal("a logical aggregate of nothing"))?;
        let booleans = values.as_boolean();
        let taken = taken(Some(values));
        for (row, group) in groups.iter().enumerate() {
            if taken(row) {
                self.take(*group, booleans.value(row));
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.resize(group_count);
        let other = same::<Logical>(other)?;
        for ((value, seen), group) in other.values.into_iter().zip(other.seen).zip(groups) {
            if seen {
                self.take(*group, value);
            }
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.resize(group_count);
        Ok(Arc::new(self.values.iter().zip(&self.seen).map(|(v, seen)| seen.then_some(*v)).collect::<BooleanArray>()))
    }

    fn bytes(&self) -> usize {
        self.values.capacity() * 2
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

fn extreme(data_type: DataType, greatest: bool) -> Result<Box<dyn Accumulator>> {
    macro_rules! primitive {
        ($t:ty) => {
            Box::new(Extreme::<$t> { greatest, data_type, values: vec![], seen: vec![] })
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
        DataType::Utf8View => Box::new(TextExtreme { greatest, values: vec![], bytes: 0 }),
        other => return Err(Error::unsupported(format_args!("the extreme of {other}"))),
    })
}

/// MIN and MAX of fixed-size values. NaN is the greatest number.
struct Extreme<T: ArrowPrimitiveType> {
    greatest: bool,
    data_type: DataType,
    values: Vec<T::Native>,
    seen: Vec<bool>,
}

impl<T: ArrowPrimitiveType> Extreme<T> {
    #[inline]
    fn take(&mut self, group: u32, value: T::Native) {
        let group = group as usize;
        let order = value.compare(self.values[group]);
        if !self.seen[group] || (self.greatest && order.is_gt()) || (!self.greatest && order.is_lt()) {
            self.values[group] = value;
            self.seen[group] = true;
        }
    }

    fn resize(&mut self, group_count: usize) {
        self.values.resize(group_count, T::Native::default());
        self.seen.resize(group_count, false);
    }
}

impl<T: ArrowPrimitiveType> Accumulator for Extreme<T> {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.resize(group_count);
        let values = values.ok_or_else(|| Error::internal("an extreme of nothing"))?;
        let all = values.as_primitive::<T>().values();
        let taken = taken(Some(values));
        for (row, group) in groups.iter().enumerate() {
            if taken(row) {
                self.take(*group, all[row]);
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.resize(group_count);
        let other = same::<Extreme<T>>(other)?;
        for ((value, seen), group) in other.values.into_iter().zip(other.seen).zip(groups) {
            if seen {
                self.take(*group, value);
            }
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.resize(group_count);
        let nulls = NullBuffer::from(std::mem::take(&mut self.seen));
        let values = PrimitiveArray::<T>::new(std::mem::take(&mut self.values).into(), Some(nulls));
        Ok(Arc::new(values.with_data_type(self.data_type.clone())))
    }

    fn bytes(&self) -> usize {
        self.values.capacity() * (size_of::<T::Native>() + 1)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// MIN and MAX of text, by bytes.
struct TextExtreme {
    greatest: bool,
    values: Vec<Option<Box<str>>>,
    bytes: usize,
}

impl TextExtreme {
    fn take(&mut self, group: u32, value: &str) {
        let slot = &mut self.values[group as usize];
        let better = match slot {
            None => true,
            Some(best) if self.greatest => value > best.as_ref(),
            Some(best) => value < best.as_ref(),
        };
        if better {
            self.bytes += value.len();
            *slot = Some(value.into());
        }
    }
}

impl Accumulator for TextExtreme {
    fn update(&mut self, groups: &[u32], group_count: usize, values: Option<&ArrayRef>) -> Result<()> {
        self.values.resize(group_count, None);
        let values = values.ok_or_else(|| Error::internal("an extreme of nothing"))?;
        let texts = values.as_string_view();
        let taken = taken(Some(values));
        for (row, group) in groups.iter().enumerate() {
            if taken(row) {
                self.take(*group, texts.value(row));
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], group_count: usize) -> Result<()> {
        self.values.resize(group_count, None);
        for (value, group) in same::<TextExtreme>(other)?.values.into_iter().zip(groups) {
            if let Some(value) = value {
                self.take(*group, &value);
            }
        }
        Ok(())
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        self.values.resize(group_count, None);
        Ok(Arc::new(self.values.iter().map(|v| v.as_deref()).collect::<StringViewArray>()))
    }

    fn bytes(&self) -> usize {
        self.values.capacity() * 16 + self.bytes
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// DISTINCT: collects the different pairs of group and value, and gives each to the plain aggregate once.
struct Distinct {
    inner: Box<dyn Accumulator>,
    pairs: GroupIndex,
    scratch: Vec<u32>,
}

impl Distinct {
    fn new(inner: Box<dyn Accumulator>, argument: DataType) -> Result<Self> {
        let encoder = KeyEncoder::new(vec![DataType::Int32, argument])?;
        Ok(Distinct { inner, pairs: GroupIndex::new(Arc::new(encoder)), scratch: Vec::new() })
    }

    fn insert(&mut self, groups: &[u32], values: &ArrayRef) -> Result<()> {
        let groups: Int32Array = groups.iter().map(|g| Some(*g as i32)).collect();
        let rows = groups.len();
        self.pairs.assign(&[Arc::new(groups), values.clone()], rows, &mut self.scratch)
    }
}

impl Accumulator for Distinct {
    fn update(&mut self, groups: &[u32], _: usize, values: Option<&ArrayRef>) -> Result<()> {
        let values = values.ok_or_else(|| Error::internal("DISTINCT of nothing"))?;
        if values.null_count() == 0 {
            return self.insert(groups, values);
        }
        let taken = taken(Some(values));
        let kept: BooleanArray = (0..groups.len()).map(|row| Some(taken(row))).collect();
        let groups: Vec<u32> = groups.iter().enumerate().filter(|(row, _)| taken(*row)).map(|(_, g)| *g).collect();
        self.insert(&groups, &arrow::compute::filter(values.as_ref(), &kept)?)
    }

    fn merge(&mut self, other: Box<dyn Accumulator>, groups: &[u32], _: usize) -> Result<()> {
        let keys = same::<Distinct>(other)?.pairs.keys()?;
        let own: Vec<u32> = keys[0].as_primitive::<Int32Type>().values().iter().map(|g| groups[*g as usize]).collect();
        self.insert(&own, &keys[1])
    }

    fn finish(&mut self, group_count: usize) -> Result<ArrayRef> {
        let keys = self.pairs.keys()?;
        let groups: Vec<u32> = keys[0].as_primitive::<Int32Type>().values().iter().map(|g| *g as u32).collect();
        self.inner.update(&groups, group_count, Some(&keys[1]))?;
        self.inner.finish(group_count)
    }

    fn bytes(&self) -> usize {
        self.pairs.bytes() + self.inner.bytes()
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
