//! The functions of the registry, one arm each.

use std::borrow::Cow;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::*;
use arrow::datatypes::*;
use cobble_plan::function::Function;
use cobble_types::characters::{initcap, left, pad, right, split_part, substring, unescaped};
use cobble_types::parse::rescale_decimal;
use cobble_types::{Code, Error, Result, time_parts};

use super::text::{Integers, Texts, build};
use super::{Evaluated, arrays, bytes, calendar, exact_math, json, numbers, pattern};

/// The text in a normal form (Unicode Standard Annex 15).
fn normalized(text: &str, form: &str) -> String {
    use unicode_normalization::UnicodeNormalization;
    match form.to_ascii_uppercase().as_str() {
        "NFD" => text.nfd().collect(),
        "NFKC" => text.nfkc().collect(),
        "NFKD" => text.nfkd().collect(),
        _ => text.nfc().collect(),
    }
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    use Function as F;
    let text = |i: usize| Texts::of(arguments[i]);
    let integer = |i: usize| Integers::of(arguments[i]);
    // A text from each row's first argument.
    let each = |f: &dyn Fn(&str) -> String| {
        let first = text(0);
        build(rows, |row| Ok(first.get(row).map(|s| Cow::Owned(f(s)))))
    };
    let of_bytes = arguments.first().is_some_and(|first| matches!(first.array().data_type(), DataType::BinaryView));
    if of_bytes && bytes::takes(function) {
        return bytes::call(function, arguments, rows);
    }
    let exact = matches!(result, DataType::Decimal128(..));
    match function {
        F::Sqrt | F::Ln | F::Log | F::Exp | F::Power if exact => exact_math::call(function, arguments, rows, result),
        F::Decode
        | F::ConvertTo
        | F::ConvertFrom
        | F::Sha224
        | F::Sha256
        | F::Sha384
        | F::Sha512
        | F::Encode
        | F::ByteConcat
        | F::GetByte
        | F::SetByte
        | F::BitCount => bytes::call(function, arguments, rows),
        F::GenRandomUuid => build(rows, |_| Ok(Some(Cow::Owned(random_uuid())))),
        F::Unistr => {
            let first = text(0);
            let written = |s: &str| {
                unescaped(s, '\\', true).map(Cow::Owned).ok_or_else(|| {
                    Error::new(Code::Syntax, "invalid Unicode escape")
                        .hint("write \\XXXX, \\+XXXXXX, \\uXXXX or \\UXXXXXXXX")
                })
            };
            build(rows, |row| first.get(row).map(written).transpose())
        }
        F::Lower => each(&|s| s.to_lowercase()),
        F::Upper => each(&|s| s.to_uppercase()),
        F::InitCap => each(&initcap),
        F::Reverse => each(&|s| s.chars().rev().collect()),
        F::Length => Ok(integers(rows, |row| text(0).get(row).map(|s| s.chars().count() as i32))),
        F::OctetLength => Ok(integers(rows, |row| text(0).get(row).map(|s| s.len() as i32))),
        F::Position => Ok(integers(rows, |row| {
            let (s, part) = (text(0).get(row)?, text(1).get(row)?);
            Some(s.find(part).map_or(0, |at| s[..at].chars().count() as i32 + 1))
        })),
        F::StartsWith => Ok(Arc::new(
            (0..rows).map(|row| Some(text(0).get(row)?.starts_with(text(1).get(row)?))).collect::<BooleanArray>(),
        )),
        F::Substring => build(rows, |row| {
            let (Some(s), Some(start)) = (text(0).get(row), integer(1).get(row)) else { return Ok(None) };
            let count = match arguments.get(2) {
                Some(count) => match Integers::of(count).get(row) {
                    Some(n) => Some(n),
                    None => return Ok(None),
                },
                None => None,
            };
            Ok(Some(Cow::Borrowed(substring(s, start, count)?)))
        }),
        F::Left | F::Right => build(rows, |row| {
            let (Some(s), Some(n)) = (text(0).get(row), integer(1).get(row)) else { return Ok(None) };
            Ok(Some(Cow::Borrowed(if function == F::Left { left(s, n) } else { right(s, n) })))
        }),
        F::Trim | F::TrimStart | F::TrimEnd => build(rows, |row| {
            let Some(s) = text(0).get(row) else { return Ok(None) };
            let characters = match arguments.get(1) {
                Some(_) => match text(1).get(row) {
                    Some(set) => set,
                    None => return Ok(None),
                },
                None => " ",
            };
            let within = |c: char| characters.contains(c);
            Ok(Some(Cow::Borrowed(match function {
                F::TrimStart => s.trim_start_matches(within),
                F::TrimEnd => s.trim_end_matches(within),
                _ => s.trim_matches(within),
            })))
        }),
        F::Replace => build(rows, |row| {
            let (Some(s), Some(from), Some(to)) = (text(0).get(row), text(1).get(row), text(2).get(row)) else {
                return Ok(None);
            };
            Ok(Some(if from.is_empty() { Cow::Borrowed(s) } else { Cow::Owned(s.replace(from, to)) }))
        }),
        F::Repeat => build(rows, |row| {
            let (Some(s), Some(n)) = (text(0).get(row), integer(1).get(row)) else { return Ok(None) };
            let n = n.max(0) as usize;
            if s.len().saturating_mul(n) > 64 << 20 {
                return Err(Error::new(Code::InvalidValue, "repeat() would make a text of more than 64 MiB"));
            }
            Ok(Some(Cow::Owned(s.repeat(n))))
        }),
        F::SplitPart => build(rows, |row| {
            let (Some(s), Some(separator), Some(n)) = (text(0).get(row), text(1).get(row), integer(2).get(row)) else {
                return Ok(None);
            };
            Ok(Some(Cow::Borrowed(split_part(s, separator, n)?)))
        }),
        F::PadStart | F::PadEnd => build(rows, |row| {
            let (Some(s), Some(length)) = (text(0).get(row), integer(1).get(row)) else { return Ok(None) };
            let fill = match arguments.get(2) {
                Some(_) => match text(2).get(row) {
                    Some(fill) => fill,
                    None => return Ok(None),
                },
                None => " ",
            };
            if length > 64 << 20 {
                return Err(Error::new(Code::InvalidValue, "padding would make a text of more than 64 MiB"));
            }
            Ok(Some(Cow::Owned(pad(s, length, fill, function == F::PadStart))))
        }),
        F::Concat => build(rows, |row| {
            Ok(Some(Cow::Owned((0..arguments.len()).filter_map(|i| text(i).get(row)).collect::<String>())))
        }),
        F::ConcatWs => build(rows, |row| {
            let Some(separator) = text(0).get(row) else { return Ok(None) };
            let parts: Vec<&str> = (1..arguments.len()).filter_map(|i| text(i).get(row)).collect();
            Ok(Some(Cow::Owned(parts.join(separator))))
        }),
        F::Abs => absolute(arguments[0].array()),
        F::Sign => decimal_or_float(arguments[0].array(), result, |v, _| v.signum(), f64::signum_or_zero),
        F::Ceil => decimal_or_float(arguments[0].array(), result, |v, unit| -(-v).div_euclid(unit), f64::ceil),
        F::Floor => decimal_or_float(arguments[0].array(), result, |v, unit| v.div_euclid(unit), f64::floor),
        F::Round | F::Trunc => match (arguments[0].array().data_type(), result) {
            (DataType::Decimal128(_, from), DataType::Decimal128(precision, to)) => {
                rounded(arguments, rows, function == F::Round, *from, (*precision, *to))
            }
            // PostgreSQL rounds a double to the nearest, ties to even.
            _ if function == F::Round => Ok(double(arguments[0].array(), f64::round_ties_even)),
            _ => Ok(double(arguments[0].array(), f64::trunc)),
        },
        F::Sqrt => checked_double(
            arguments[0].array(),
            |v| v >= 0.0 || v.is_nan(),
            f64::sqrt,
            Code::InvalidPower,
            "the square root of a negative number",
        ),
        F::Ln => checked_double(
            arguments[0].array(),
            |v| v > 0.0 || v.is_nan(),
            f64::ln,
            Code::InvalidLogarithm,
            "the logarithm of a number that is not positive",
        ),
        F::Log => checked_double(
            arguments[0].array(),
            |v| v > 0.0 || v.is_nan(),
            f64::log10,
            Code::InvalidLogarithm,
            "the logarithm of a number that is not positive",
        ),
        F::Exp => Ok(double(arguments[0].array(), f64::exp)),
        F::Power => {
            let (base, exponent) = (arguments[0], arguments[1]);
            let (b, e) = (base.array().as_primitive::<Float64Type>(), exponent.array().as_primitive::<Float64Type>());
            let mut out = Float64Builder::with_capacity(rows);
            for row in 0..rows {
                let (i, j) = (base.place(row), exponent.place(row));
                if b.is_null(i) || e.is_null(j) {
                    out.append_null();
                    continue;
                }
                let (b, e) = (b.value(i), e.value(j));
                if (b == 0.0 && e < 0.0) || (b < 0.0 && e.fract() != 0.0) {
                    return Err(Error::new(Code::InvalidPower, format!("power({b}, {e}) is not a real number")));
                }
                out.append_value(b.powf(e));
            }
            Ok(Arc::new(out.finish()))
        }
        F::Random => Ok(Arc::new((0..rows).map(|_| Some(next_random())).collect::<Float64Array>())),
        F::Greatest | F::Least => extreme(arguments, rows, function == F::Greatest),
        F::Coalesce => Err(Error::internal("coalesce is compiled to an operator of its own")),
        F::DatePart => calendar::part_of(arguments, rows, result),
        F::DateTrunc => calendar::start_of(arguments, rows, result),
        F::MakeDate => {
            let mut out = Date32Builder::with_capacity(rows);
            for row in 0..rows {
                match (integer(0).get(row), integer(1).get(row), integer(2).get(row)) {
                    (Some(y), Some(m), Some(d)) => {
                        out.append_value(time_parts::make_date(y, m, d).ok_or_else(|| {
                            Error::new(Code::TimeOutOfRange, format!("there is no date {y}-{m:02}-{d:02}"))
                        })?)
                    }
                    _ => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::Ascii => Ok(integers(rows, |row| text(0).get(row).map(|s| s.chars().next().map_or(0, |c| c as i32)))),
        F::BitLength => Ok(integers(rows, |row| text(0).get(row).map(|s| s.len() as i32 * 8))),
        F::Chr => build(rows, |row| {
            let Some(code) = integer(0).get(row) else { return Ok(None) };
            let c = u32::try_from(code).ok().filter(|c| *c > 0).and_then(char::from_u32);
            let c = c.ok_or_else(|| Error::new(Code::InvalidValue, format!("there is no character {code}")))?;
            Ok(Some(Cow::Owned(c.to_string())))
        }),
        F::Md5 => each(&|s| {
            use md5::Digest;
            md5::Md5::digest(s).iter().map(|byte| format!("{byte:02x}")).collect()
        }),
        F::ToHex => {
            let numbers = arguments[0].array().as_primitive::<Int64Type>();
            build(rows, |row| {
                let place = arguments[0].place(row);
                Ok(numbers.is_valid(place).then(|| match i32::try_from(numbers.value(place)) {
                    Ok(small) => Cow::Owned(format!("{small:x}")),
                    Err(_) => Cow::Owned(format!("{:x}", numbers.value(place))),
                }))
            })
        }
        F::Translate => build(rows, |row| {
            let (Some(s), Some(from), Some(to)) = (text(0).get(row), text(1).get(row), text(2).get(row)) else {
                return Ok(None);
            };
            let to: Vec<char> = to.chars().collect();
            let moved = s.chars().filter_map(|c| match from.chars().position(|f| f == c) {
                Some(place) => to.get(place).copied(),
                None => Some(c),
            });
            Ok(Some(Cow::Owned(moved.collect())))
        }),
        F::Overlay => build(rows, |row| {
            let (Some(s), Some(new), Some(start)) = (text(0).get(row), text(1).get(row), integer(2).get(row)) else {
                return Ok(None);
            };
            let count = match arguments.get(3) {
                Some(_) => match integer(3).get(row) {
                    Some(count) => count,
                    None => return Ok(None),
                },
                None => new.chars().count() as i32,
            };
            if start <= 0 {
                return Err(Error::new(Code::InvalidValue, "overlay begins at a place above zero"));
            }
            let after = substring(s, start.saturating_add(count.max(0)), None)?;
            Ok(Some(Cow::Owned(format!("{}{new}{after}", substring(s, 1, Some(start - 1))?))))
        }),
        F::Normalize => {
            let form = arguments.get(1).map(|form| Texts::of(form));
            let (first, form) = (text(0), |row| form.as_ref().map_or(Some("NFC"), |form| form.get(row)));
            build(rows, |row| Ok(first.get(row).zip(form(row)).map(|(s, form)| Cow::Owned(normalized(s, form)))))
        }
        F::ParseIdent => arrays::call(function, arguments, rows, result),
        F::QuoteIdent => each(&cobble_types::quote_where_needed),
        F::QuoteLiteral => each(&quoted),
        F::QuoteNullable => {
            let first = text(0);
            build(rows, |row| Ok(Some(Cow::Owned(first.get(row).map_or("NULL".to_owned(), quoted)))))
        }
        F::Format => build(rows, |row| {
            let Some(template) = text(0).get(row) else { return Ok(None) };
            let values: Vec<Option<&str>> = (1..arguments.len()).map(|i| text(i).get(row)).collect();
            formatted(template, &values).map(|s| Some(Cow::Owned(s)))
        }),
        F::NumNulls | F::NumNonNulls => {
            let wanted = function == F::NumNulls;
            let is_null = |a: &Evaluated, row: usize| {
                matches!(a.array().data_type(), DataType::Null) || a.array().is_null(a.place(row))
            };
            Ok(integers(rows, |row| Some(arguments.iter().filter(|a| is_null(a, row) == wanted).count() as i32)))
        }
        F::RegexpLike
        | F::SimilarTo
        | F::RegexpReplace
        | F::RegexpMatch
        | F::RegexpCount
        | F::RegexpInstr
        | F::LikeEscape
        | F::SimilarSubstring
        | F::RegexpSubstr
        | F::RegexpSplitToArray => pattern::call(function, arguments, rows),
        F::Div
        | F::Gcd
        | F::Lcm
        | F::Factorial
        | F::Cbrt
        | F::Degrees
        | F::Radians
        | F::Pi
        | F::Sin
        | F::Cos
        | F::Tan
        | F::Cot
        | F::Asin
        | F::Acos
        | F::Atan
        | F::Atan2
        | F::Sinh
        | F::Cosh
        | F::Tanh
        | F::Asinh
        | F::Acosh
        | F::Atanh
        | F::SinDegrees
        | F::CosDegrees
        | F::TanDegrees
        | F::CotDegrees
        | F::AsinDegrees
        | F::AcosDegrees
        | F::AtanDegrees
        | F::Atan2Degrees
        | F::Scale
        | F::MinScale
        | F::TrimScale
        | F::BitAnd
        | F::BitOr
        | F::BitXor
        | F::BitNot
        | F::ShiftLeft
        | F::ShiftRight => numbers::call(function, arguments, rows, result),
        F::WidthBucket => match arguments.len() {
            2 => arrays::call(function, arguments, rows, result),
            _ => numbers::call(function, arguments, rows, result),
        },
        F::Age
        | F::IsFinite
        | F::Overlaps
        | F::RoundTime
        | F::MakeTimestampTz
        | F::DateBin
        | F::MakeTime
        | F::MakeTimestamp
        | F::MakeInterval
        | F::ToTimestamp
        | F::ToDate
        | F::ToChar
        | F::ToNumber
        | F::JustifyDays
        | F::JustifyHours
        | F::JustifyInterval
        | F::AtTimeZone
        | F::MomentText
        | F::ReadMoment
        | F::AddToMoment => calendar::call(function, arguments, rows, result),
        F::MakeRow => {
            let DataType::Struct(fields) = result else {
                return Err(Error::internal("a row of another type"));
            };
            let parts = arguments.iter().map(|a| (*a).clone().into_array(rows)).collect::<Result<Vec<_>>>()?;
            Ok(Arc::new(StructArray::try_new_with_length(fields.clone(), parts, None, rows)?))
        }
        F::MakeArray
        | F::ArrayLength
        | F::ArrayLower
        | F::ArrayDims
        | F::ArrayNdims
        | F::ArrayFlatten
        | F::ArrayFill
        | F::ArraySlice
        | F::TrimArray
        | F::ArrayPositions
        | F::ArrayReplace
        | F::Cardinality
        | F::ArrayAppend
        | F::ArrayPrepend
        | F::ArrayCat
        | F::ArrayPosition
        | F::ArrayRemove
        | F::AnyItem
        | F::ArrayContains
        | F::ArrayOverlaps
        | F::StringToArray
        | F::ArrayToString => arrays::call(function, arguments, rows, result),
        F::JsonGet
        | F::JsonGetText
        | F::JsonPath
        | F::JsonPathText
        | F::JsonContains
        | F::JsonHasKey
        | F::JsonHasAny
        | F::JsonHasAll
        | F::JsonDelete
        | F::JsonDeletePath
        | F::JsonSet
        | F::JsonSetLax
        | F::JsonInsert
        | F::JsonConcat
        | F::JsonStripNulls
        | F::JsonPretty
        | F::JsonObject
        | F::JsonbObject
        | F::JsonOrder
        | F::JsonRecord
        | F::JsonArrayLength
        | F::JsonTypeof
        | F::JsonBuildObject
        | F::JsonBuildArray
        | F::JsonbBuildObject
        | F::JsonbBuildArray
        | F::ToJson
        | F::ToJsonb
        | F::JsonValue
        | F::JsonQuery
        | F::JsonExists
        | F::JsonPathExists
        | F::JsonPathMatch
        | F::JsonPathQueryArray
        | F::JsonPathQueryFirst => json::call(function, arguments, rows, result),
    }
}

fn quoted(text: &str) -> String {
    let inner = text.replace('\'', "''");
    if inner.contains('\\') { format!("E'{}'", inner.replace('\\', "\\\\")) } else { format!("'{inner}'") }
}

/// `%s` a value, `%I` an identifier, `%L` a literal, each with `n$` for the n-th value and a width to fill, which `-` fills at the
/// end and `*` takes from the values; `%%` a percent sign (PostgreSQL manual 9.4.1).
fn formatted(template: &str, values: &[Option<&str>]) -> Result<String> {
    let mut out = String::new();
    let mut next = 0;
    let mut rest = template;
    let fail = |what: String| Error::new(Code::InvalidValue, what);
    let value_at = |place: usize| {
        values.get(place).copied().ok_or_else(|| fail("format() has fewer values than its text has places".to_owned()))
    };
    // Digits at the beginning of the text, as a number.
    let number = |rest: &mut &str| -> Option<usize> {
        let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
        let value = rest[..digits].parse().ok();
        *rest = &rest[digits..];
        value
    };
    while let Some(at) = rest.find('%') {
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('%') {
            out.push('%');
            rest = after;
            continue;
        }
        let mut place = None;
        let before = rest;
        if let Some(n) = number(&mut rest) {
            match rest.strip_prefix('$') {
                Some(after) => {
                    place = Some(n.checked_sub(1).ok_or_else(|| fail("format() counts values from one".to_owned()))?);
                    rest = after;
                }
                None => rest = before,
            }
        }
        let mut at_end = false;
        while let Some(after) = rest.strip_prefix('-') {
            (at_end, rest) = (true, after);
        }
        let mut width = None;
        if let Some(after) = rest.strip_prefix('*') {
            rest = after;
            let before = rest;
            let own = match number(&mut rest) {
                Some(n) if rest.starts_with('$') => {
                    rest = &rest[1..];
                    n.checked_sub(1).ok_or_else(|| fail("format() counts values from one".to_owned()))?
                }
                _ => {
                    rest = before;
                    next
                }
            };
            next = own + 1;
            let written = value_at(own)?.unwrap_or("0");
            let own: i32 = written.parse().map_err(|_| fail(format!("the width \"{written}\" is no number")))?;
            (width, at_end) = (Some(own.unsigned_abs() as usize), at_end || own < 0);
        } else if let Some(n) = number(&mut rest) {
            width = Some(n);
        }
        let kind = rest.chars().next().ok_or_else(|| fail("the text of format() ends after %".to_owned()))?;
        if !matches!(kind, 's' | 'I' | 'L') {
            return Err(fail(format!("format() does not know %{kind}")));
        }
        let place = place.unwrap_or(next);
        let value = value_at(place)?;
        next = place + 1;
        let text = match (kind, value) {
            ('s', value) => value.unwrap_or("").to_owned(),
            ('L', value) => value.map_or("NULL".to_owned(), quoted),
            (_, Some(value)) => cobble_types::quote_where_needed(value),
            (_, None) => return Err(fail("a null cannot be an identifier".to_owned())),
        };
        let missing = width.unwrap_or(0).min(1 << 20).saturating_sub(text.chars().count());
        let fill = " ".repeat(missing);
        out.push_str(&if at_end { format!("{text}{fill}") } else { format!("{fill}{text}") });
        rest = &rest[1..];
    }
    out.push_str(rest);
    Ok(out)
}

trait SignumOrZero {
    fn signum_or_zero(self) -> f64;
}

impl SignumOrZero for f64 {
    /// Zero for zero, where `signum` gives one.
    fn signum_or_zero(self) -> f64 {
        if self == 0.0 { 0.0 } else { self.signum() }
    }
}

fn integers(rows: usize, f: impl Fn(usize) -> Option<i32>) -> ArrayRef {
    Arc::new((0..rows).map(f).collect::<Int32Array>())
}

fn double(array: &ArrayRef, f: fn(f64) -> f64) -> ArrayRef {
    Arc::new(array.as_primitive::<Float64Type>().unary::<_, Float64Type>(f))
}

fn checked_double(
    array: &ArrayRef,
    allowed: fn(f64) -> bool,
    f: fn(f64) -> f64,
    code: Code,
    what: &str,
) -> Result<ArrayRef> {
    if array.as_primitive::<Float64Type>().iter().flatten().any(|v| !allowed(v)) {
        return Err(Error::new(code, format!("{what} is not a real number")));
    }
    Ok(double(array, f))
}

fn absolute(array: &ArrayRef) -> Result<ArrayRef> {
    let too_small = || arrow::error::ArrowError::ArithmeticOverflow("abs".into());
    Ok(match array.data_type() {
        DataType::Int16 => Arc::new(
            array
                .as_primitive::<Int16Type>()
                .try_unary::<_, Int16Type, _>(|v| v.checked_abs().ok_or_else(too_small))?,
        ),
        DataType::Int32 => Arc::new(
            array
                .as_primitive::<Int32Type>()
                .try_unary::<_, Int32Type, _>(|v| v.checked_abs().ok_or_else(too_small))?,
        ),
        DataType::Int64 => Arc::new(
            array
                .as_primitive::<Int64Type>()
                .try_unary::<_, Int64Type, _>(|v| v.checked_abs().ok_or_else(too_small))?,
        ),
        DataType::Float32 => Arc::new(array.as_primitive::<Float32Type>().unary::<_, Float32Type>(f32::abs)),
        DataType::Decimal128(precision, scale) => Arc::new(
            array
                .as_primitive::<Decimal128Type>()
                .unary::<_, Decimal128Type>(i128::wrapping_abs)
                .with_precision_and_scale(*precision, *scale)?,
        ),
        _ => double(array, f64::abs),
    })
}

/// Applies the decimal form, which gets the value and one unit before the point, or the float form.
fn decimal_or_float(
    array: &ArrayRef,
    result: &DataType,
    decimal: fn(i128, i128) -> i128,
    float: fn(f64) -> f64,
) -> Result<ArrayRef> {
    match (array.data_type(), result) {
        (DataType::Decimal128(_, scale), DataType::Decimal128(precision, to)) => {
            let unit = 10i128.pow(scale.unsigned_abs().into());
            let values = array.as_primitive::<Decimal128Type>().unary::<_, Decimal128Type>(|v| decimal(v, unit));
            Ok(Arc::new(values.with_precision_and_scale(*precision, *to)?))
        }
        _ => Ok(double(array, float)),
    }
}

/// Rounds or cuts at each row's number of digits after the point, which may be negative, and keeps `to` digits in the result.
fn rounded(
    arguments: &[&Evaluated],
    rows: usize,
    nearest: bool,
    from: i8,
    (precision, to): (u8, i8),
) -> Result<ArrayRef> {
    let values = arguments[0].array().as_primitive::<Decimal128Type>();
    let overflow = || Error::new(Code::Overflow, "the rounded number is out of the range of its type");
    let mut out = Decimal128Builder::with_capacity(rows);
    for row in 0..rows {
        let place = arguments[0].place(row);
        let digits = arguments.get(1).map_or(Some(0), |digits| Integers::of(digits).get(row));
        let Some(digits) = digits.filter(|_| values.is_valid(place)) else {
            out.append_null();
            continue;
        };
        let digits = (digits.clamp(-38, 38) as i8).min(to);
        let value = values.value(place);
        let kept = match nearest || digits >= from {
            true => rescale_decimal(value, from, digits),
            false => {
                10i128.checked_pow(u32::try_from(from - digits).unwrap_or(0)).map_or(Some(0), |cut| Some(value / cut))
            }
        };
        out.append_value(kept.and_then(|v| rescale_decimal(v, digits, to)).ok_or_else(overflow)?);
    }
    Ok(Arc::new(out.finish().with_precision_and_scale(precision, to)?))
}

/// GREATEST and LEAST skip nulls, as PostgreSQL's do.
fn extreme(arguments: &[&Evaluated], rows: usize, greatest: bool) -> Result<ArrayRef> {
    let arrays = arguments.iter().map(|a| (*a).clone().into_array(rows)).collect::<Result<Vec<_>>>()?;
    let views: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
    let mut comparators = Vec::new();
    for i in 0..arrays.len() {
        let mut row = Vec::new();
        for j in 0..arrays.len() {
            row.push(arrow::array::make_comparator(views[i], views[j], arrow::compute::SortOptions::default())?);
        }
        comparators.push(row);
    }
    let places: Vec<(usize, usize)> = (0..rows)
        .map(|row| {
            let mut best = 0;
            for i in 1..arrays.len() {
                if arrays[i].is_null(row) {
                    continue;
                }
                let order = comparators[i][best](row, row);
                if arrays[best].is_null(row) || (greatest && order.is_gt()) || (!greatest && order.is_lt()) {
                    best = i;
                }
            }
            (best, row)
        })
        .collect();
    Ok(arrow::compute::interleave(&views, &places)?)
}

/// A UUID of version 4: 122 random bits (RFC 9562, 5.4).
fn random_uuid() -> String {
    let bits: u128 = rand::random();
    let bits = bits & !(0xf000_u128 << 64) & !(0xc000_u128 << 48) | (0x4000_u128 << 64) | (0x8000_u128 << 48);
    let digits = format!("{bits:032x}");
    [&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-")
}

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
