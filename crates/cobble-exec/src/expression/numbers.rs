//! Functions of numbers beyond arithmetic: trigonometry, whole-number functions, bits.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::cast;
use arrow::datatypes::*;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result};

use super::{Evaluated, degrees};

fn out_of_range(function: Function) -> Error {
    Error::new(Code::Overflow, format!("the result of {} is out of the range of its type", function.name()))
}

/// A whole number for each row from two, in the type of the result.
fn pairs(
    function: Function,
    arguments: &[&Evaluated],
    rows: usize,
    result: &DataType,
    f: impl Fn(i64, i64) -> Option<i64>,
) -> Result<ArrayRef> {
    let wide: Vec<ArrayRef> =
        arguments.iter().map(|a| Ok(cast(a.array(), &DataType::Int64)?)).collect::<Result<_>>()?;
    let mut out = Int64Builder::with_capacity(rows);
    for row in 0..rows {
        let value = |i: usize| {
            let (array, place) = (wide[i].as_primitive::<Int64Type>(), arguments[i].place(row));
            array.is_valid(place).then(|| array.value(place))
        };
        let second = if arguments.len() > 1 { value(1) } else { Some(0) };
        match (value(0), second) {
            (Some(a), Some(b)) => out.append_value(f(a, b).ok_or_else(|| out_of_range(function))?),
            _ => out.append_null(),
        }
    }
    let out: ArrayRef = Arc::new(out.finish());
    let options = arrow::compute::CastOptions { safe: false, ..Default::default() };
    arrow::compute::cast_with_options(&out, result, &options).map_err(|_| out_of_range(function))
}

fn greatest_divisor(a: i64, b: i64) -> i64 {
    if b == 0 { a } else { greatest_divisor(b, a.wrapping_rem(b)) }
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    use Function as F;
    let doubles = |i: usize| {
        let array = arguments[i].array().as_primitive::<Float64Type>();
        move |row: usize| {
            let place = arguments[i].place(row);
            array.is_valid(place).then(|| array.value(place))
        }
    };
    let real = |f: fn(f64) -> f64| -> Result<ArrayRef> {
        let value = doubles(0);
        Ok(Arc::new((0..rows).map(|row| value(row).map(f)).collect::<Float64Array>()))
    };
    let within = |f: fn(f64) -> f64| -> Result<ArrayRef> {
        let value = doubles(0);
        if (0..rows).filter_map(&value).any(|v| !(-1.0..=1.0).contains(&v) && !v.is_nan()) {
            return Err(Error::new(Code::Overflow, format!("{} takes numbers from -1 to 1", function.name())));
        }
        Ok(Arc::new((0..rows).map(|row| value(row).map(f)).collect::<Float64Array>()))
    };
    let finite = |f: fn(f64) -> f64| {
        let value = doubles(0);
        if (0..rows).filter_map(&value).any(f64::is_infinite) {
            return Err(Error::new(Code::Overflow, format!("{} takes no infinity", function.name())));
        }
        real(f)
    };
    match function {
        F::Cbrt => real(f64::cbrt),
        F::Degrees => real(f64::to_degrees),
        F::Radians => real(f64::to_radians),
        F::Sin => finite(f64::sin),
        F::Cos => finite(f64::cos),
        F::Tan => finite(f64::tan),
        F::Cot => finite(|v| 1.0 / v.tan()),
        F::Asin => within(f64::asin),
        F::Acos => within(f64::acos),
        F::Atan => real(f64::atan),
        F::Sinh => real(f64::sinh),
        F::Cosh => real(f64::cosh),
        F::Tanh => real(f64::tanh),
        F::Asinh => real(f64::asinh),
        F::Acosh => {
            let value = doubles(0);
            if (0..rows).filter_map(&value).any(|v| v < 1.0) {
                return Err(Error::new(Code::Overflow, "acosh takes numbers from 1 on"));
            }
            real(f64::acosh)
        }
        F::Atanh => within(f64::atanh),
        F::SinDegrees => finite(degrees::sind),
        F::CosDegrees => finite(degrees::cosd),
        F::TanDegrees => finite(degrees::tand),
        F::CotDegrees => finite(degrees::cotd),
        F::AsinDegrees => within(degrees::asind),
        F::AcosDegrees => within(degrees::acosd),
        F::AtanDegrees => real(degrees::atand),
        F::Atan2Degrees => {
            let (y, x) = (doubles(0), doubles(1));
            Ok(Arc::new((0..rows).map(|row| Some(degrees::atan2d(y(row)?, x(row)?))).collect::<Float64Array>()))
        }
        F::Scale | F::MinScale => {
            let values = arguments[0].array().as_primitive::<Decimal128Type>();
            let scale = |row: usize| {
                let place = arguments[0].place(row);
                let mut own = i32::from(values.scale());
                let mut value = values.is_valid(place).then(|| values.value(place))?;
                while function == F::MinScale && own > 0 && value % 10 == 0 {
                    (value, own) = (value / 10, own - 1);
                }
                Some(own)
            };
            Ok(Arc::new((0..rows).map(scale).collect::<Int32Array>()))
        }
        F::Gcd | F::Lcm if matches!(result, DataType::Decimal128(..)) => {
            let DataType::Decimal128(precision, scale) = *result else { return Err(out_of_range(function)) };
            let values = |i: usize, row: usize| {
                let (array, place) = (arguments[i].array().as_primitive::<Decimal128Type>(), arguments[i].place(row));
                array.is_valid(place).then(|| array.value(place))
            };
            let mut out = Decimal128Builder::with_capacity(rows);
            for row in 0..rows {
                let Some((a, b)) = values(0, row).zip(values(1, row)) else {
                    out.append_null();
                    continue;
                };
                let (mut greatest, mut rest) = (a.abs(), b.abs());
                while rest != 0 {
                    (greatest, rest) = (rest, greatest % rest);
                }
                let value = match (function, greatest) {
                    (F::Gcd, greatest) => Some(greatest),
                    (_, 0) => Some(0),
                    (_, greatest) => (a / greatest).checked_mul(b).map(i128::abs),
                };
                out.append_value(value.ok_or_else(|| out_of_range(function))?);
            }
            Ok(Arc::new(out.finish().with_precision_and_scale(precision, scale)?))
        }
        F::Pi => Ok(Arc::new(Float64Array::from(vec![std::f64::consts::PI; rows]))),
        F::Atan2 => {
            let (y, x) = (doubles(0), doubles(1));
            Ok(Arc::new((0..rows).map(|row| Some(y(row)?.atan2(x(row)?))).collect::<Float64Array>()))
        }
        F::WidthBucket => {
            let (value, low, high) = (doubles(0), doubles(1), doubles(2));
            let counts = super::text::Integers::of(arguments[3]);
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                match (value(row), low(row), high(row), counts.get(row)) {
                    (Some(v), Some(low), Some(high), Some(count)) => {
                        if count <= 0 || low == high {
                            return Err(Error::new(
                                Code::WidthBucket,
                                "width_bucket needs a count above zero and two different bounds",
                            ));
                        }
                        let (inside, after) = if low < high {
                            ((v - low) / (high - low), v >= high)
                        } else {
                            ((low - v) / (low - high), v <= high)
                        };
                        let bucket = if inside < 0.0 {
                            0
                        } else if after {
                            count + 1
                        } else {
                            (inside * f64::from(count)) as i32 + 1
                        };
                        out.append_value(bucket);
                    }
                    _ => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::Gcd => pairs(function, arguments, rows, result, |a, b| greatest_divisor(a, b).checked_abs()),
        F::Lcm => pairs(function, arguments, rows, result, |a, b| match greatest_divisor(a, b) {
            0 => Some(0),
            divisor => a.checked_div(divisor)?.checked_mul(b)?.checked_abs(),
        }),
        F::BitAnd => pairs(function, arguments, rows, result, |a, b| Some(a & b)),
        F::BitOr => pairs(function, arguments, rows, result, |a, b| Some(a | b)),
        F::BitXor => pairs(function, arguments, rows, result, |a, b| Some(a ^ b)),
        F::BitNot => pairs(function, arguments, rows, result, |a, _| Some(!a)),
        F::ShiftLeft | F::ShiftRight => {
            let bits = if matches!(result, DataType::Int64) { 64 } else { 32 };
            let left = function == F::ShiftLeft;
            pairs(function, arguments, rows, result, move |a, n| {
                let n = n.rem_euclid(bits) as u32;
                Some(match (left, bits) {
                    (true, 64) => a.wrapping_shl(n),
                    (true, _) => i64::from((a as i32).wrapping_shl(n)),
                    (false, _) => a >> n,
                })
            })
        }
        F::Factorial => {
            let values = cast(arguments[0].array(), &DataType::Int64)?;
            let values = values.as_primitive::<Int64Type>();
            let mut out = Decimal128Builder::with_capacity(rows);
            for row in 0..rows {
                let place = arguments[0].place(row);
                if values.is_null(place) {
                    out.append_null();
                    continue;
                }
                let n = values.value(place);
                if n < 0 {
                    return Err(Error::new(Code::Overflow, "the factorial of a negative number is not defined"));
                }
                let product =
                    (1..=i128::from(n)).try_fold(1i128, |all, k| all.checked_mul(k).filter(|v| *v < 10i128.pow(38)));
                out.append_value(product.ok_or_else(|| out_of_range(function))?);
            }
            Ok(Arc::new(out.finish().with_precision_and_scale(38, 0)?))
        }
        F::Div => {
            let (a, b) = (
                arguments[0].array().as_primitive::<Decimal128Type>(),
                arguments[1].array().as_primitive::<Decimal128Type>(),
            );
            let mut out = Decimal128Builder::with_capacity(rows);
            for row in 0..rows {
                let (i, j) = (arguments[0].place(row), arguments[1].place(row));
                if a.is_null(i) || b.is_null(j) {
                    out.append_null();
                } else if b.value(j) == 0 {
                    return Err(Error::new(Code::DivisionByZero, "division by zero"));
                } else {
                    out.append_value(a.value(i) / b.value(j));
                }
            }
            Ok(Arc::new(out.finish().with_precision_and_scale(38, 0)?))
        }
        other => Err(Error::internal(format!("{} is no function of numbers", other.name()))),
    }
}
