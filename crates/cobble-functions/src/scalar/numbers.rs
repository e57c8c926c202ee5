//! Functions of numbers (PostgreSQL manual 9.3): rounding, roots and logarithms, trigonometry, whole numbers, bits.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::*;
use arrow::compute::cast;
use arrow::datatypes::*;
use cobble_types::parse::rescale_decimal;
use cobble_types::{Code, Error, Result, SqlType};

use super::{arrays, degrees, exact_math};
use crate::Call;
use crate::signature::{Given, Overload, Returns, Scalar, Takes, Types, unified};

// Rounding and signs.

pub(crate) const ABS: Scalar = Scalar::new(
    "abs",
    "number",
    "The number without its sign.",
    ("abs(-4.50)", "4.50"),
    &[Overload::of(&[Takes::Number], Returns::Same(0), absolute)],
);

/// A numeric of the same whole digits without any after the point.
fn whole_numeric(given: &[Given]) -> Option<Types> {
    match given {
        [Given { sql_type: own @ SqlType::Numeric { precision, .. }, .. }] => {
            Some((vec![own.clone()], SqlType::Numeric { precision: *precision, scale: 0 }))
        }
        _ => None,
    }
}

pub(crate) const SIGN: Scalar = Scalar::new(
    "sign",
    "number",
    "-1, 0 or 1 for a number below, at or above zero.",
    ("sign(-4.5)", "-1"),
    &[
        Overload::together(whole_numeric, |call| in_units(call, |v, _| v.signum())),
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, |v| if v == 0.0 { 0.0 } else { v.signum() })),
    ],
);

pub(crate) const CEIL: Scalar = Scalar::new(
    "ceil",
    "number",
    "The least whole number that is not below.",
    ("ceil(4.2)", "5"),
    &[
        Overload::together(whole_numeric, |call| in_units(call, |v, unit| -(-v).div_euclid(unit))),
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::ceil)),
    ],
)
.also(&["ceiling"]);

pub(crate) const FLOOR: Scalar = Scalar::new(
    "floor",
    "number",
    "The greatest whole number that is not above.",
    ("floor(-4.2)", "-5"),
    &[
        Overload::together(whole_numeric, |call| in_units(call, i128::div_euclid)),
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::floor)),
    ],
);

/// A numeric, with a number of digits to keep or without; whole numbers and what has no type yet only with one.
fn rounded_types(given: &[Given]) -> Option<Types> {
    let (own, digits) = match given {
        [own] => (own, None),
        [own, digits] if digits.sql_type.is_integer() || digits.is_open() => (own, Some(digits)),
        _ => return None,
    };
    // By a column's number of digits, all that the number has may be left.
    let kept = digits.map_or(Some(0), |digits| digits.number.and_then(|n| i8::try_from(n).ok()));
    let with = |first: SqlType, returns: SqlType| {
        let digits = digits.map(|_| SqlType::Integer);
        Some((std::iter::once(first).chain(digits).collect(), returns))
    };
    let of_numeric = |precision: u8, scale: i8| {
        let to = kept.unwrap_or(scale).clamp(0, 38);
        let whole = i16::from(precision) - i16::from(scale) + 1;
        let wide = (whole + i16::from(to)).clamp(1, 38) as u8;
        with(SqlType::Numeric { precision, scale }, SqlType::Numeric { precision: wide, scale: to })
    };
    match &own.sql_type {
        SqlType::Numeric { precision, scale } => of_numeric(*precision, *scale),
        _ if digits.is_none() => None,
        SqlType::Null => of_numeric(38, 10),
        whole if whole.is_integer() => {
            let scale = kept.unwrap_or(0).clamp(0, 18);
            with(SqlType::WIDE_NUMERIC, SqlType::Numeric { precision: 38, scale })
        }
        // A binary number has no decimal digits to keep.
        _ => None,
    }
}

pub(crate) const ROUND: Scalar = Scalar::new(
    "round",
    "number [, digits]",
    "The nearest whole number, or the nearest with some digits after the point; a numeric's half goes away from zero.",
    ("round(42.4382, 2)", "42.44"),
    &[
        Overload::together(rounded_types, |call| rounded(call, true)),
        // PostgreSQL rounds a double to the nearest, ties to even.
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::round_ties_even)),
    ],
);

pub(crate) const TRUNC: Scalar = Scalar::new(
    "trunc",
    "number [, digits]",
    "The number cut to a whole one, or to some digits after the point.",
    ("trunc(42.4382, 2)", "42.43"),
    &[
        Overload::together(rounded_types, |call| rounded(call, false)),
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::trunc)),
    ],
);

fn each(call: &Call, f: fn(f64) -> f64) -> Result<ArrayRef> {
    Ok(Arc::new(call.array(0).as_primitive::<Float64Type>().unary::<_, Float64Type>(f)))
}

/// The unscaled values changed by `f`, which also gets one unit before the point.
fn in_units(call: &Call, f: fn(i128, i128) -> i128) -> Result<ArrayRef> {
    let (values, unit) = (call.decimals(0), 10i128.pow(call.scale(0).unsigned_abs().into()));
    call.make_decimals(|row| Ok(values.get(row).map(|v| f(v, unit))))
}

fn absolute(call: &Call) -> Result<ArrayRef> {
    let array = call.array(0);
    let too_small = || arrow::error::ArrowError::ArithmeticOverflow("abs".into());
    macro_rules! checked {
        ($own:ty) => {
            Arc::new(array.as_primitive::<$own>().try_unary::<_, $own, _>(|v| v.checked_abs().ok_or_else(too_small))?)
        };
    }
    Ok(match array.data_type() {
        DataType::Int16 => checked!(Int16Type),
        DataType::Int32 => checked!(Int32Type),
        DataType::Int64 => checked!(Int64Type),
        DataType::Float32 => Arc::new(array.as_primitive::<Float32Type>().unary::<_, Float32Type>(f32::abs)),
        DataType::Decimal128(precision, scale) => Arc::new(
            array
                .as_primitive::<Decimal128Type>()
                .unary::<_, Decimal128Type>(i128::wrapping_abs)
                .with_precision_and_scale(*precision, *scale)?,
        ),
        _ => Arc::new(array.as_primitive::<Float64Type>().unary::<_, Float64Type>(f64::abs)),
    })
}

/// Rounds or cuts at each row's number of digits after the point, which may be negative, and keeps the result's own digits.
fn rounded(call: &Call, nearest: bool) -> Result<ArrayRef> {
    let (values, digits, from) = (call.decimals(0), call.integers_or(1, 0), call.scale(0));
    let DataType::Decimal128(_, to) = *call.result else { return Err(Error::internal("a numeric is rounded to one")) };
    call.make_decimals(|row| {
        let Some((value, digits)) = values.get(row).zip(digits(row)) else { return Ok(None) };
        let digits = (digits.clamp(-38, 38) as i8).min(to);
        let kept = match nearest || digits >= from {
            true => rescale_decimal(value, from, digits),
            false => {
                10i128.checked_pow(u32::try_from(from - digits).unwrap_or(0)).map_or(Some(0), |cut| Some(value / cut))
            }
        };
        let overflow = || Error::new(Code::Overflow, "the rounded number is out of the range of its type");
        kept.and_then(|v| rescale_decimal(v, digits, to)).ok_or_else(overflow).map(Some)
    })
}

// Roots, powers, logarithms.

/// Exact numbers, a numeric among them; as many digits come out as PostgreSQL gives of numbers of usual size.
fn exact_types(given: &[Given], counts: std::ops::RangeInclusive<usize>, scale: i8) -> Option<Types> {
    let numeric = |own: &Given| matches!(own.sql_type, SqlType::Numeric { .. });
    let exact = |own: &Given| numeric(own) || own.is_open() || own.sql_type.is_integer();
    if !counts.contains(&given.len()) || !given.iter().any(numeric) || !given.iter().all(exact) {
        return None;
    }
    let just = |own: &Given| match &own.sql_type {
        numeric @ SqlType::Numeric { .. } => numeric.clone(),
        other => {
            let (precision, scale) = other.digits().unwrap_or((38, 10));
            SqlType::Numeric { precision, scale }
        }
    };
    Some((given.iter().map(just).collect(), SqlType::Numeric { precision: 38, scale }))
}

fn exact_one(given: &[Given]) -> Option<Types> {
    exact_types(given, 1..=1, 16)
}

/// Doubles, all of which must be allowed.
fn checked(call: &Call, allowed: fn(f64) -> bool, f: fn(f64) -> f64, code: Code, what: &str) -> Result<ArrayRef> {
    if call.array(0).as_primitive::<Float64Type>().iter().flatten().any(|v| !allowed(v)) {
        return Err(Error::new(code, format!("{what} is not a real number")));
    }
    each(call, f)
}

fn logarithm(call: &Call, f: fn(f64) -> f64) -> Result<ArrayRef> {
    let what = "the logarithm of a number that is not positive";
    checked(call, |v| v > 0.0 || v.is_nan(), f, Code::InvalidLogarithm, what)
}

pub(crate) const SQRT: Scalar = Scalar::new(
    "sqrt",
    "number",
    "The square root.",
    ("sqrt(2::double precision)", "1.4142135623730951"),
    &[
        Overload::together(|given| exact_types(given, 1..=1, 15), exact_math::sqrt),
        Overload::of(&[Takes::Double], Returns::Double, |call| {
            let what = "the square root of a negative number";
            checked(call, |v| v >= 0.0 || v.is_nan(), f64::sqrt, Code::InvalidPower, what)
        }),
    ],
);

pub(crate) const EXP: Scalar = Scalar::new(
    "exp",
    "number",
    "Euler's number to this power.",
    ("exp(0.0)", "1.0000000000000000"),
    &[
        Overload::together(exact_one, exact_math::exp),
        Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::exp)),
    ],
);

pub(crate) const LN: Scalar = Scalar::new(
    "ln",
    "number",
    "The natural logarithm.",
    ("ln(1::double precision)", "0"),
    &[
        Overload::together(exact_one, exact_math::ln),
        Overload::of(&[Takes::Double], Returns::Double, |call| logarithm(call, f64::ln)),
    ],
);

pub(crate) const LOG: Scalar = Scalar::new(
    "log",
    "[base, ] number",
    "The logarithm to base 10, or to another one.",
    ("log(1000.0)", "3.0000000000000000"),
    &[
        Overload::together(exact_one, exact_math::log10),
        Overload::together(|given| exact_types(given, 2..=2, 16), exact_math::log),
        Overload::of(&[Takes::Double], Returns::Double, |call| logarithm(call, f64::log10)),
    ],
)
.also(&["log10"]);

pub(crate) const POWER: Scalar = Scalar::new(
    "power",
    "number, number",
    "The first number to the power of the second.",
    ("power(2::double precision, 10)", "1024"),
    &[
        Overload::together(|given| exact_types(given, 2..=2, 16), exact_math::power),
        Overload::of(&[Takes::Double; 2], Returns::Double, |call| {
            let (base, exponent) = (call.doubles(0), call.doubles(1));
            call.make_values::<Float64Type>(|row| {
                let Some((b, e)) = base.get(row).zip(exponent.get(row)) else { return Ok(None) };
                if (b == 0.0 && e < 0.0) || (b < 0.0 && e.fract() != 0.0) {
                    return Err(Error::new(Code::InvalidPower, format!("power({b}, {e}) is not a real number")));
                }
                Ok(Some(b.powf(e)))
            })
        }),
    ],
)
.also(&["pow"]);

pub(crate) const CBRT: Scalar = Scalar::new(
    "cbrt",
    "number",
    "The cube root.",
    ("cbrt(27)", "3"),
    &[Overload::of(&[Takes::Double], Returns::Double, |call| each(call, f64::cbrt))],
);

pub(crate) const RANDOM: Scalar = Scalar::new(
    "random",
    "",
    "A number from 0 up to but not including 1, another one for each row.",
    ("random()", ""),
    &[Overload::of(&[], Returns::Double, |call| call.make_doubles(|_| Some(next_random())))],
)
.volatile();

// Trigonometry.

/// Of numbers from -1 to 1.
fn within_one(call: &Call, f: fn(f64) -> f64) -> Result<ArrayRef> {
    if call.array(0).as_primitive::<Float64Type>().iter().flatten().any(|v| !(-1.0..=1.0).contains(&v) && !v.is_nan()) {
        return Err(Error::new(Code::Overflow, format!("{} takes numbers from -1 to 1", call.name)));
    }
    each(call, f)
}

fn finite(call: &Call, f: fn(f64) -> f64) -> Result<ArrayRef> {
    if call.array(0).as_primitive::<Float64Type>().iter().flatten().any(f64::is_infinite) {
        return Err(Error::new(Code::Overflow, format!("{} takes no infinity", call.name)));
    }
    each(call, f)
}

fn of_two(call: &Call, f: fn(f64, f64) -> f64) -> Result<ArrayRef> {
    let (y, x) = (call.doubles(0), call.doubles(1));
    call.make_doubles(|row| Some(f(y.get(row)?, x.get(row)?)))
}

/// A function of one double.
macro_rules! of_double {
    ($($constant:ident, $name:literal, $argument:literal, $about:literal, $example:literal => $answer:literal, $kernel:expr;)*) => {
        $(
            pub(crate) const $constant: Scalar = Scalar::new(
                $name,
                $argument,
                $about,
                ($example, $answer),
                &[Overload::of(&[Takes::Double], Returns::Double, $kernel)],
            );
        )*
    };
}

of_double! {
    DEGREES, "degrees", "radians", "The angle in degrees.", "degrees(0)" => "0", |call| each(call, f64::to_degrees);
    RADIANS, "radians", "degrees", "The angle in radians.", "radians(0)" => "0", |call| each(call, f64::to_radians);
    SIN, "sin", "radians", "The sine.", "sin(0)" => "0", |call| finite(call, f64::sin);
    COS, "cos", "radians", "The cosine.", "cos(0)" => "1", |call| finite(call, f64::cos);
    TAN, "tan", "radians", "The tangent.", "tan(0)" => "0", |call| finite(call, f64::tan);
    COT, "cot", "radians", "The cotangent.", "round(cot(1)::numeric, 6)" => "0.642093", |call| finite(call, |v| 1.0 / v.tan());
    ASIN, "asin", "number", "The angle in radians whose sine it is.", "asin(0)" => "0", |call| within_one(call, f64::asin);
    ACOS, "acos", "number", "The angle in radians whose cosine it is.", "acos(1)" => "0", |call| within_one(call, f64::acos);
    ATAN, "atan", "number", "The angle in radians whose tangent it is.", "atan(0)" => "0", |call| each(call, f64::atan);
    SINH, "sinh", "number", "The hyperbolic sine.", "sinh(0)" => "0", |call| each(call, f64::sinh);
    COSH, "cosh", "number", "The hyperbolic cosine.", "cosh(0)" => "1", |call| each(call, f64::cosh);
    TANH, "tanh", "number", "The hyperbolic tangent.", "tanh(0)" => "0", |call| each(call, f64::tanh);
    ASINH, "asinh", "number", "The inverse of the hyperbolic sine.", "asinh(0)" => "0", |call| each(call, f64::asinh);
    ACOSH, "acosh", "number", "The inverse of the hyperbolic cosine.", "acosh(1)" => "0", acosh;
    ATANH, "atanh", "number", "The inverse of the hyperbolic tangent.", "atanh(0)" => "0", |call| within_one(call, f64::atanh);
    SIND, "sind", "degrees", "The sine of an angle in degrees.", "sind(30)" => "0.5", |call| finite(call, degrees::sind);
    COSD, "cosd", "degrees", "The cosine of an angle in degrees.", "cosd(60)" => "0.5", |call| finite(call, degrees::cosd);
    TAND, "tand", "degrees", "The tangent of an angle in degrees.", "tand(45)" => "1", |call| finite(call, degrees::tand);
    COTD, "cotd", "degrees", "The cotangent of an angle in degrees.", "cotd(45)" => "1", |call| finite(call, degrees::cotd);
    ASIND, "asind", "number", "The angle in degrees whose sine it is.", "asind(0.5)" => "30", |call| within_one(call, degrees::asind);
    ACOSD, "acosd", "number", "The angle in degrees whose cosine it is.", "acosd(0.5)" => "60", |call| within_one(call, degrees::acosd);
    ATAND, "atand", "number", "The angle in degrees whose tangent it is.", "atand(1)" => "45", |call| each(call, degrees::atand);
}

fn acosh(call: &Call) -> Result<ArrayRef> {
    if call.array(0).as_primitive::<Float64Type>().iter().flatten().any(|v| v < 1.0) {
        return Err(Error::new(Code::Overflow, "acosh takes numbers from 1 on"));
    }
    each(call, f64::acosh)
}

pub(crate) const ATAN2: Scalar = Scalar::new(
    "atan2",
    "y, x",
    "The angle in radians of the point (x, y).",
    ("atan2(0, 1)", "0"),
    &[Overload::of(&[Takes::Double; 2], Returns::Double, |call| of_two(call, f64::atan2))],
);

pub(crate) const ATAN2D: Scalar = Scalar::new(
    "atan2d",
    "y, x",
    "The angle in degrees of the point (x, y).",
    ("atan2d(1, 0)", "90"),
    &[Overload::of(&[Takes::Double; 2], Returns::Double, |call| of_two(call, degrees::atan2d))],
);

pub(crate) const PI: Scalar = Scalar::new(
    "pi",
    "",
    "The ratio of a circle's circumference to its diameter.",
    ("round(pi()::numeric, 5)", "3.14159"),
    &[Overload::of(&[], Returns::Double, |call| call.make_doubles(|_| Some(std::f64::consts::PI)))],
);

// Digits and whole numbers.

fn own_scale(call: &Call, least: bool) -> Result<ArrayRef> {
    let (values, scale) = (call.decimals(0), i32::from(call.scale(0)));
    call.make_integers(|row| {
        let (Some(mut value), mut own) = (values.get(row), scale) else { return Ok(None) };
        while least && own > 0 && value % 10 == 0 {
            (value, own) = (value / 10, own - 1);
        }
        Ok(Some(own))
    })
}

pub(crate) const SCALE: Scalar = Scalar::new(
    "scale",
    "numeric",
    "Digits after the point.",
    ("scale(4.20)", "2"),
    &[Overload::of(&[Takes::Exact], Returns::Integer, |call| own_scale(call, false))],
);

pub(crate) const MIN_SCALE: Scalar = Scalar::new(
    "min_scale",
    "numeric",
    "Digits after the point that are needed to write the number exactly.",
    ("min_scale(4.20)", "1"),
    &[Overload::of(&[Takes::Exact], Returns::Integer, |call| own_scale(call, true))],
);

pub(crate) const TRIM_SCALE: Scalar = Scalar::new(
    "trim_scale",
    "numeric constant",
    "The number without zeros at its end after the point.",
    ("trim_scale(4.20)", "4.2"),
    &[],
);

/// Whole quotients are computed in numerics of the finer scale.
fn div_types(given: &[Given]) -> Option<Types> {
    let [a, b] = given else { return None };
    if !a.sql_type.is_number() || !b.sql_type.is_number() {
        return None;
    }
    let common = unified(given).filter(|common| !common.is_float())?;
    let wide = SqlType::Numeric { precision: 38, scale: common.digits().unwrap_or((38, 0)).1 };
    Some((vec![wide.clone(), wide], SqlType::WIDE_NUMERIC))
}

pub(crate) const DIV: Scalar = Scalar::new(
    "div",
    "numeric, numeric",
    "The quotient without what is after its point.",
    ("div(17, 5)", "3"),
    &[Overload::together(div_types, |call| {
        let (a, b) = (call.decimals(0), call.decimals(1));
        call.make_decimals(|row| match a.get(row).zip(b.get(row)) {
            None => Ok(None),
            Some((_, 0)) => Err(Error::new(Code::DivisionByZero, "division by zero")),
            Some((a, b)) => Ok(Some(a / b)),
        })
    })],
);

fn two_numerics(given: &[Given]) -> Option<Types> {
    if given.len() != 2 || !given.iter().all(|own| own.sql_type.is_number()) {
        return None;
    }
    match unified(given)? {
        SqlType::Numeric { scale, .. } => {
            let wide = SqlType::Numeric { precision: 38, scale };
            Some((vec![wide.clone(), wide.clone()], wide))
        }
        _ => None,
    }
}

fn two_whole(given: &[Given]) -> Option<Types> {
    let whole = |own: &Given| own.sql_type.is_integer() || own.is_open();
    if given.len() != 2 || !given.iter().all(whole) {
        return None;
    }
    let given: Vec<Given> =
        given.iter().map(|own| if own.is_open() { Given::of(SqlType::Integer) } else { own.clone() }).collect();
    let common = unified(&given)?;
    Some((vec![common.clone(), common.clone()], common))
}

fn greatest_divisor(a: i64, b: i64) -> i64 {
    if b == 0 { a } else { greatest_divisor(b, a.wrapping_rem(b)) }
}

/// The unscaled greatest common divisor of two numerics of one scale, by the algorithm of Euclid.
fn divisor(a: i128, b: i128) -> i128 {
    let (mut greatest, mut rest) = (a.abs(), b.abs());
    while rest != 0 {
        (greatest, rest) = (rest, greatest % rest);
    }
    greatest
}

fn of_numerics(call: &Call, f: fn(i128, i128) -> Option<i128>) -> Result<ArrayRef> {
    let (a, b) = (call.decimals(0), call.decimals(1));
    call.make_decimals(|row| match a.get(row).zip(b.get(row)) {
        None => Ok(None),
        Some((a, b)) => f(a, b).map(Some).ok_or_else(|| call.out_of_range()),
    })
}

pub(crate) const GCD: Scalar = Scalar::new(
    "gcd",
    "exact number, exact number",
    "The greatest common divisor.",
    ("gcd(12, 18)", "6"),
    &[
        Overload::together(two_whole, |call| of_whole(call, |a, b| greatest_divisor(a, b).checked_abs())),
        Overload::together(two_numerics, |call| of_numerics(call, |a, b| Some(divisor(a, b)))),
    ],
);

pub(crate) const LCM: Scalar = Scalar::new(
    "lcm",
    "exact number, exact number",
    "The least common multiple.",
    ("lcm(4, 6)", "12"),
    &[
        Overload::together(two_whole, |call| {
            of_whole(call, |a, b| match greatest_divisor(a, b) {
                0 => Some(0),
                divisor => a.checked_div(divisor)?.checked_mul(b)?.checked_abs(),
            })
        }),
        Overload::together(two_numerics, |call| {
            of_numerics(call, |a, b| match divisor(a, b) {
                0 => Some(0),
                greatest => (a / greatest).checked_mul(b).map(i128::abs),
            })
        }),
    ],
);

pub(crate) const FACTORIAL: Scalar = Scalar::new(
    "factorial",
    "integer",
    "The product of all whole numbers from 1 to this one.",
    ("factorial(5)", "120"),
    &[Overload::of(&[Takes::BigInt], Returns::Numeric(38, 0), |call| {
        let values = call.values::<Int64Type>(0);
        call.make_decimals(|row| {
            let Some(n) = values.get(row) else { return Ok(None) };
            if n < 0 {
                return Err(Error::new(Code::Overflow, "the factorial of a negative number is not defined"));
            }
            let product =
                (1..=i128::from(n)).try_fold(1i128, |all, k| all.checked_mul(k).filter(|v| *v < 10i128.pow(38)));
            product.map(Some).ok_or_else(|| call.out_of_range())
        })
    })],
);

pub(crate) const WIDTH_BUCKET: Scalar = Scalar::new(
    "width_bucket",
    "number, low, high, count; any, array of bounds",
    "The number of the bucket in which a value falls, of several equal ones or of those between sorted bounds.",
    ("width_bucket(5.35, 0, 10, 5)", "3"),
    &[
        Overload::of(&[Takes::Double, Takes::Double, Takes::Double, Takes::Integer], Returns::Integer, equal_buckets),
        Overload::together(arrays::bounds_types, arrays::bucket_of),
    ],
);

fn equal_buckets(call: &Call) -> Result<ArrayRef> {
    let (value, low, high, counts) = (call.doubles(0), call.doubles(1), call.doubles(2), call.integers(3));
    call.make_integers(|row| {
        let (Some(v), Some(low), Some(high), Some(count)) =
            (value.get(row), low.get(row), high.get(row), counts.get(row))
        else {
            return Ok(None);
        };
        if count <= 0 || low == high {
            return Err(Error::new(
                Code::WidthBucket,
                "width_bucket needs a count above zero and two different bounds",
            ));
        }
        let (inside, after) = match low < high {
            true => ((v - low) / (high - low), v >= high),
            false => ((low - v) / (low - high), v <= high),
        };
        Ok(Some(match after {
            _ if inside < 0.0 => 0,
            true => count + 1,
            false => (inside * f64::from(count)) as i32 + 1,
        }))
    })
}

// Bits.

/// A whole number for each row from one or two, in the type of the result.
fn of_whole(call: &Call, f: impl Fn(i64, i64) -> Option<i64>) -> Result<ArrayRef> {
    let wide: Vec<ArrayRef> =
        (0..call.count()).map(|i| Ok(cast(call.array(i), &DataType::Int64)?)).collect::<Result<_>>()?;
    let value = |i: usize, row: usize| {
        let (array, place) = (wide[i].as_primitive::<Int64Type>(), call.place(i, row));
        array.is_valid(place).then(|| array.value(place))
    };
    let out = call.make_values::<Int64Type>(|row| {
        let second = if call.has(1) { value(1, row) } else { Some(0) };
        match value(0, row).zip(second) {
            Some((a, b)) => f(a, b).map(Some).ok_or_else(|| call.out_of_range()),
            None => Ok(None),
        }
    })?;
    let options = arrow::compute::CastOptions { safe: false, ..Default::default() };
    arrow::compute::cast_with_options(&out, call.result, &options).map_err(|_| call.out_of_range())
}

pub(crate) const BIT_AND: Scalar = Scalar::new(
    "bitwise_and",
    "integer, integer",
    "The bits that both have; the operator `&`.",
    ("12 & 10", "8"),
    &[Overload::together(two_whole, |call| of_whole(call, |a, b| Some(a & b)))],
);

pub(crate) const BIT_OR: Scalar = Scalar::new(
    "bitwise_or",
    "integer, integer",
    "The bits that one of them has; the operator `|`.",
    ("12 | 10", "14"),
    &[Overload::together(two_whole, |call| of_whole(call, |a, b| Some(a | b)))],
);

pub(crate) const BIT_XOR: Scalar = Scalar::new(
    "bitwise_xor",
    "integer, integer",
    "The bits that just one of them has; the operator `#`.",
    ("12 # 10", "6"),
    &[Overload::together(two_whole, |call| of_whole(call, |a, b| Some(a ^ b)))],
);

pub(crate) const BIT_NOT: Scalar = Scalar::new(
    "bitwise_not",
    "integer",
    "The bits that it does not have; the operator `~`.",
    ("~12", "-13"),
    &[Overload::of(&[Takes::Whole], Returns::Same(0), |call| of_whole(call, |a, _| Some(!a)))],
);

/// Bits of the numbers that are shifted.
fn width(call: &Call) -> i64 {
    if matches!(call.result, DataType::Int64) { 64 } else { 32 }
}

pub(crate) const SHIFT_LEFT: Scalar = Scalar::new(
    "shift_left",
    "integer, places",
    "The bits moved to higher places; the operator `<<`.",
    ("1 << 4", "16"),
    &[Overload::of(&[Takes::Whole, Takes::Integer], Returns::Same(0), |call| {
        let bits = width(call);
        of_whole(call, |a, n| {
            let n = n.rem_euclid(bits) as u32;
            Some(if bits == 64 { a.wrapping_shl(n) } else { i64::from((a as i32).wrapping_shl(n)) })
        })
    })],
);

pub(crate) const SHIFT_RIGHT: Scalar = Scalar::new(
    "shift_right",
    "integer, places",
    "The bits moved to lower places; the operator `>>`.",
    ("-16 >> 2", "-4"),
    &[Overload::of(&[Takes::Whole, Takes::Integer], Returns::Same(0), |call| {
        let bits = width(call);
        of_whole(call, |a, n| Some(a >> n.rem_euclid(bits) as u32))
    })],
);

/// A number in [0, 1): splitmix64 over a counter that starts at the clock (Steele et al., 2014).
fn next_random() -> f64 {
    static STATE: AtomicU64 = AtomicU64::new(0);
    if STATE.load(Ordering::Relaxed) == 0 {
        let clock =
            std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(1, |d| d.as_nanos() as u64);
        let _ = STATE.compare_exchange(0, clock | 1, Ordering::Relaxed, Ordering::Relaxed);
    }
    let mut z = STATE.fetch_add(0x9e37_79b9_7f4a_7c15, Ordering::Relaxed);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}
