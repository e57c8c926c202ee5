//! Arithmetic with SQL's rules: overflow and division by zero are errors, numerics are exact and rounded half away from
//! zero, dates count in days and timestamps differ by intervals.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::kernels::numeric;
use arrow::datatypes::*;
use arrow::error::ArrowError;
use cobble_types::{Code, Error, Result};

use super::BinaryOp;
use crate::Evaluated;

pub fn compute(op: BinaryOp, left: &Evaluated, right: &Evaluated, result: &DataType) -> Result<ArrayRef> {
    match (left.array().data_type(), right.array().data_type()) {
        (DataType::Decimal128(_, s), DataType::Decimal128(_, t)) => decimal(op, left, right, (*s, *t), result),
        (DataType::Float32 | DataType::Float64, _) => float(op, left, right),
        (DataType::Date32, DataType::Int32) => {
            let sign = if op == BinaryOp::Minus { -1 } else { 1 };
            rowwise::<Date32Type, Int32Type, Date32Type>(left, right, |day, days| {
                day.checked_add(days.checked_mul(sign)?)
            })
        }
        (DataType::Date32, DataType::Date32) => {
            rowwise::<Date32Type, Date32Type, Int32Type>(left, right, |a, b| a.checked_sub(b))
        }
        (DataType::Timestamp(..), DataType::Timestamp(..)) => rowwise::<
            TimestampMicrosecondType,
            TimestampMicrosecondType,
            IntervalMonthDayNanoType,
        >(left, right, |a, b| {
            let difference = a.checked_sub(b)?;
            let day = 86_400_000_000;
            Some(IntervalMonthDayNano::new(0, i32::try_from(difference / day).ok()?, difference % day * 1000))
        }),
        (DataType::Timestamp(_, zone), DataType::Interval(_)) => {
            let sign = if op == BinaryOp::Minus { -1 } else { 1 };
            let moved = rowwise::<TimestampMicrosecondType, IntervalMonthDayNanoType, TimestampMicrosecondType>(
                left,
                right,
                |at, by| {
                    cobble_types::parse::add_interval(
                        at,
                        by.months.checked_mul(sign)?,
                        by.days.checked_mul(sign)?,
                        by.nanoseconds / 1000 * i64::from(sign),
                    )
                },
            )?;
            Ok(Arc::new(moved.as_primitive::<TimestampMicrosecondType>().clone().with_timezone_opt(zone.clone())))
        }
        (DataType::Time64(_), DataType::Interval(_)) => {
            let sign = if op == BinaryOp::Minus { -1 } else { 1 };
            rowwise::<Time64MicrosecondType, IntervalMonthDayNanoType, Time64MicrosecondType>(left, right, |at, by| {
                Some((at + by.nanoseconds / 1000 * sign).rem_euclid(86_400_000_000))
            })
        }
        (DataType::Time64(_), DataType::Time64(_)) => {
            rowwise::<Time64MicrosecondType, Time64MicrosecondType, IntervalMonthDayNanoType>(left, right, |a, b| {
                Some(IntervalMonthDayNano::new(0, 0, (a - b) * 1000))
            })
        }
        (DataType::Interval(_), DataType::Float64) => {
            if op == BinaryOp::Divide && right.array().as_primitive::<Float64Type>().iter().any(|v| v == Some(0.0)) {
                return Err(ArrowError::DivideByZero.into());
            }
            let divide = op == BinaryOp::Divide;
            rowwise::<IntervalMonthDayNanoType, Float64Type, IntervalMonthDayNanoType>(left, right, |span, by| {
                const DAY: f64 = 86_400.0;
                let scaled = |part: f64| if divide { part / by } else { part * by };
                // Microseconds are the least that counts.
                let rounded = |v: f64| (v * 1e6).round_ties_even() / 1e6;
                // What is left of a larger part goes to the next smaller one, at 30 days to a month; a whole day of such seconds is one.
                let (months, days) = (scaled(f64::from(span.months)), scaled(f64::from(span.days)));
                let rest_days = rounded((months - months.trunc()) * 30.0);
                let rest = rounded((days - days.trunc() + rest_days - rest_days.trunc()) * DAY);
                let more_days = (rest / DAY).trunc();
                let rest = rest - more_days * DAY;
                let micros = (scaled(span.nanoseconds as f64 / 1000.0) + rest * 1e6).round_ties_even();
                let within = |v: f64| (v >= f64::from(i32::MIN) && v <= f64::from(i32::MAX)).then_some(v as i32);
                let whole_days = days.trunc() + rest_days.trunc() + more_days;
                let nanoseconds = (micros.abs() < 9.2e15).then(|| micros as i64 * 1000)?;
                Some(IntervalMonthDayNano::new(within(months.trunc())?, within(whole_days)?, nanoseconds))
            })
        }
        (DataType::Interval(_), DataType::Interval(_)) => {
            let sign = if op == BinaryOp::Minus { -1 } else { 1 };
            rowwise::<IntervalMonthDayNanoType, IntervalMonthDayNanoType, IntervalMonthDayNanoType>(
                left,
                right,
                |a, b| {
                    Some(IntervalMonthDayNano::new(
                        a.months.checked_add(b.months.checked_mul(sign)?)?,
                        a.days.checked_add(b.days.checked_mul(sign)?)?,
                        a.nanoseconds.checked_add(b.nanoseconds.checked_mul(i64::from(sign))?)?,
                    ))
                },
            )
        }
        _ => Ok(kernel(op, left, right)?),
    }
}

fn kernel(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> std::result::Result<ArrayRef, ArrowError> {
    match op {
        BinaryOp::Plus => numeric::add(left, right),
        BinaryOp::Minus => numeric::sub(left, right),
        BinaryOp::Times => numeric::mul(left, right),
        BinaryOp::Divide => numeric::div(left, right),
        BinaryOp::Modulo => numeric::rem(left, right),
        other => Err(ArrowError::InvalidArgumentError(format!("{} is no arithmetic", other.symbol()))),
    }
}

/// Applies `f` to the rows where both sides have a value; `None` from it is an overflow.
fn rowwise<L, R, O>(
    left: &Evaluated,
    right: &Evaluated,
    f: impl Fn(L::Native, R::Native) -> Option<O::Native>,
) -> Result<ArrayRef>
where
    L: ArrowPrimitiveType,
    R: ArrowPrimitiveType,
    O: ArrowPrimitiveType,
{
    let (l, r) = (left.array().as_primitive::<L>(), right.array().as_primitive::<R>());
    let rows = match (left.is_scalar(), right.is_scalar()) {
        (true, false) => r.len(),
        _ => l.len(),
    };
    let out_of_range = || match O::DATA_TYPE {
        DataType::Timestamp(..) | DataType::Interval(_) | DataType::Date32 => {
            Error::new(Code::TimeOutOfRange, "the result of a calculation with times is out of the range of its type")
        }
        _ => Error::new(Code::Overflow, "the result of a calculation is out of the range of its type"),
    };
    let mut out = PrimitiveBuilder::<O>::with_capacity(rows);
    for row in 0..rows {
        let (i, j) = (left.place(row), right.place(row));
        if l.is_null(i) || r.is_null(j) {
            out.append_null();
        } else {
            out.append_value(f(l.value(i), r.value(j)).ok_or_else(out_of_range)?);
        }
    }
    Ok(Arc::new(out.finish()))
}

/// Intervals with the other sign in each part.
pub fn negated(spans: &IntervalMonthDayNanoArray) -> Result<ArrayRef> {
    let too_small = || Error::new(Code::TimeOutOfRange, "an interval is out of the range of its type");
    let mut out = IntervalMonthDayNanoBuilder::with_capacity(spans.len());
    for span in spans {
        match span {
            None => out.append_null(),
            Some(v) => {
                let parts = v.months.checked_neg().zip(v.days.checked_neg()).zip(v.nanoseconds.checked_neg());
                let ((months, days), nanoseconds) = parts.ok_or_else(too_small)?;
                out.append_value(IntervalMonthDayNano::new(months, days, nanoseconds));
            }
        }
    }
    Ok(Arc::new(out.finish()))
}

fn float(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> Result<ArrayRef> {
    if matches!(op, BinaryOp::Divide | BinaryOp::Modulo) {
        let zero = match right.array().data_type() {
            DataType::Float32 => right.array().as_primitive::<Float32Type>().iter().any(|v| v == Some(0.0)),
            _ => right.array().as_primitive::<Float64Type>().iter().any(|v| v == Some(0.0)),
        };
        if zero && divides_a_value(left, right) {
            return Err(ArrowError::DivideByZero.into());
        }
    }
    Ok(kernel(op, left, right)?)
}

/// True when some row with a value on the left has a zero on the right.
fn divides_a_value(left: &Evaluated, right: &Evaluated) -> bool {
    let rows = left.array().len().max(right.array().len());
    (0..rows).any(|row| {
        let (i, j) = (left.place(row), right.place(row));
        let zero = match right.array().data_type() {
            DataType::Float32 => right.array().as_primitive::<Float32Type>().value(j) == 0.0,
            _ => right.array().as_primitive::<Float64Type>().value(j) == 0.0,
        };
        left.array().is_valid(i) && right.array().is_valid(j) && zero
    })
}

fn decimal(op: BinaryOp, left: &Evaluated, right: &Evaluated, (s, t): (i8, i8), result: &DataType) -> Result<ArrayRef> {
    let DataType::Decimal128(precision, scale) = *result else {
        return Err(Error::internal("a numeric calculation without a numeric result"));
    };
    let limit = 10i128.pow(u32::from(precision));
    let within = move |v: i128| (-limit < v && v < limit).then_some(v);
    let (up_l, up_r) = (10i128.pow((scale - s).max(0) as u32), 10i128.pow((scale - t).max(0) as u32));
    let values = match op {
        BinaryOp::Plus => rowwise::<Decimal128Type, Decimal128Type, Decimal128Type>(left, right, |a, b| {
            within(a.checked_mul(up_l)?.checked_add(b.checked_mul(up_r)?)?)
        }),
        BinaryOp::Minus => rowwise::<Decimal128Type, Decimal128Type, Decimal128Type>(left, right, |a, b| {
            within(a.checked_mul(up_l)?.checked_sub(b.checked_mul(up_r)?)?)
        }),
        // The scale of a product is the sum of the scales, unless that is more than a numeric can have.
        BinaryOp::Times => rowwise::<Decimal128Type, Decimal128Type, Decimal128Type>(left, right, |a, b| {
            within(cobble_types::parse::rescale_decimal(a.checked_mul(b)?, s + t, scale)?)
        }),
        BinaryOp::Divide => {
            no_zero_divisor(left, right)?;
            // a·10⁻ˢ / b·10⁻ᵗ as an integer of `scale` digits after the point: a·10^(scale+t−s) / b.
            let shift = u32::try_from(i32::from(scale) + i32::from(t) - i32::from(s)).unwrap_or(0);
            rowwise::<Decimal128Type, Decimal128Type, Decimal128Type>(left, right, |a, b| within(divide(a, shift, b)?))
        }
        _ => {
            no_zero_divisor(left, right)?;
            rowwise::<Decimal128Type, Decimal128Type, Decimal128Type>(left, right, |a, b| {
                within(a.checked_mul(up_l)? % b.checked_mul(up_r)?)
            })
        }
    }?;
    Ok(Arc::new(values.as_primitive::<Decimal128Type>().clone().with_precision_and_scale(precision, scale)?))
}

fn no_zero_divisor(left: &Evaluated, right: &Evaluated) -> Result<()> {
    let divisors = right.array().as_primitive::<Decimal128Type>();
    if !divisors.iter().any(|v| v == Some(0)) {
        return Ok(());
    }
    let rows = left.array().len().max(right.array().len());
    let hit = (0..rows).any(|row| {
        let (i, j) = (left.place(row), right.place(row));
        left.array().is_valid(i) && divisors.is_valid(j) && divisors.value(j) == 0
    });
    if hit { Err(ArrowError::DivideByZero.into()) } else { Ok(()) }
}

/// `a · 10^shift / b`, rounded half away from zero, through 256 bits when 128 are too few.
pub fn divide(a: i128, shift: u32, b: i128) -> Option<i128> {
    if let Some(scaled) = 10i128.checked_pow(shift).and_then(|power| a.checked_mul(power)) {
        let (quotient, rest) = (scaled / b, scaled % b);
        let away = rest.unsigned_abs() >= b.unsigned_abs().div_ceil(2) && rest != 0;
        return Some(quotient + if away { scaled.signum() * b.signum() } else { 0 });
    }
    let (wide_a, wide_b) = (i256::from_i128(a), i256::from_i128(b));
    let scaled = wide_a.checked_mul(i256::from_i128(10).checked_pow(shift)?)?;
    let (quotient, rest) = (scaled.checked_div(wide_b)?, scaled.checked_rem(wide_b)?);
    let twice = rest.wrapping_abs().checked_mul(i256::from_i128(2))?;
    let away = twice >= wide_b.wrapping_abs();
    let quotient = quotient.to_i128()?;
    Some(quotient + if away { a.signum() * b.signum() } else { 0 })
}

#[cfg(test)]
mod tests {
    use super::divide;

    #[test]
    fn division_rounds_half_away_from_zero_at_any_width() {
        for (a, shift, b, expected) in [
            (1, 0, 2, 1),
            (-1, 0, 2, -1),
            (1, 2, 3, 33),
            (2, 2, 3, 67),
            (-2, 2, 3, -67),
            (7, 0, 7, 1),
            (0, 5, 3, 0),
            (1, 0, 3, 0),
        ] {
            assert_eq!(divide(a, shift, b), Some(expected), "{a}e{shift}/{b}");
        }
        let large = 123_456_789_012_345_678_901_234_567_890_i128;
        assert_eq!(divide(large, 16, 10i128.pow(16)), Some(large));
        assert_eq!(divide(i128::MAX, 16, 1), None);
    }
}
