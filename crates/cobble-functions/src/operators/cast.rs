//! Casts with PostgreSQL's rounding and errors.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::OffsetBuffer;
use arrow::compute::{CastOptions, cast_with_options};
use arrow::datatypes::*;
use arrow::error::ArrowError;
use arrow::util::display::FormatOptions;
use cobble_types::array_text::{ArrayItem, parse_array};
use cobble_types::parse::{parse_decimal, parse_uuid, parse_value, rescale_decimal};
use cobble_types::{Code, Error, Result, SqlType, Value, array_value_text};

const DAY: i64 = 86_400_000_000;

pub fn cast(array: &ArrayRef, from: &SqlType, to: &SqlType) -> Result<ArrayRef> {
    use SqlType as T;
    if array.data_type() == &to.to_arrow() && from != &T::Text {
        return Ok(array.clone());
    }
    match (from, to) {
        (T::Null, _) => Ok(new_null_array(&to.to_arrow(), array.len())),
        (_, T::Text) => {
            Ok(Arc::new((0..array.len()).map(|row| array_value_text(array.as_ref(), row)).collect::<StringViewArray>()))
        }
        (T::Text, T::Uuid) => {
            let texts = array.as_string_view().iter().map(|text| text.map(parse_uuid).transpose());
            Ok(Arc::new(texts.collect::<Result<StringViewArray>>()?))
        }
        (T::Text, T::Json) => {
            let texts = array.as_string_view().iter().map(|text| text.map(crate::scalar::json::canonical).transpose());
            Ok(Arc::new(texts.collect::<Result<StringViewArray>>()?))
        }
        (T::Interval, T::Time) => {
            let spans = array.as_primitive::<IntervalMonthDayNanoType>();
            let time = |v: IntervalMonthDayNano| (v.nanoseconds / 1000).rem_euclid(DAY);
            Ok(Arc::new(spans.unary::<_, Time64MicrosecondType>(time)))
        }
        (T::Time, T::Interval) => {
            let times = array.as_primitive::<Time64MicrosecondType>();
            let span = |t: i64| IntervalMonthDayNano::new(0, 0, t.wrapping_mul(1000));
            Ok(Arc::new(times.unary::<_, IntervalMonthDayNanoType>(span)))
        }
        (T::Json, _) if *to != T::Text => {
            let texts: ArrayRef = Arc::new(
                array
                    .as_string_view()
                    .iter()
                    .map(|text| text.map(|text| scalar_text(text, to)).transpose())
                    .collect::<Result<StringViewArray>>()?,
            );
            from_text(&texts, to)
        }
        (T::Array(from), T::Array(to)) => {
            let lists = array.as_list::<i32>();
            let values = cast(lists.values(), from, to)?;
            let field = Field::new("item", to.to_arrow(), true);
            let parts = (lists.offsets().clone(), lists.nulls().cloned());
            Ok(Arc::new(ListArray::try_new(Arc::new(field), parts.0, values, parts.1)?))
        }
        (T::Row(from), T::Row(to)) if from.len() == to.len() => {
            let rows = array.as_struct();
            let parts = rows.columns().iter().zip(from.iter().zip(to));
            let parts: Vec<ArrayRef> =
                parts.map(|(part, (from, to))| cast(part, &from.sql_type, &to.sql_type)).collect::<Result<_>>()?;
            let fields: Fields = to.iter().map(|f| Field::new(&f.name, f.sql_type.to_arrow(), true)).collect();
            Ok(Arc::new(StructArray::try_new_with_length(fields, parts, rows.nulls().cloned(), rows.len())?))
        }
        (T::Text, T::Array(item)) => array_from_text(array, item),
        (T::Text, _) => from_text(array, to),
        (T::Real | T::Double, integer) if integer.is_integer() => {
            // PostgreSQL rounds to the nearest, ties to even.
            let rounded = cast_with_options(array, &DataType::Float64, &strict())?;
            let rounded = rounded.as_primitive::<Float64Type>().unary::<_, Float64Type>(f64::round_ties_even);
            kernel(&(Arc::new(rounded) as ArrayRef), to)
        }
        (T::Real | T::Double, T::Numeric { precision, scale }) => float_to_numeric(array, *precision, *scale),
        (T::Numeric { scale, .. }, integer) if integer.is_integer() => {
            let whole: Decimal128Array = array
                .as_primitive::<Decimal128Type>()
                .try_unary::<_, Decimal128Type, ArrowError>(|v| {
                    rescale_decimal(v, *scale, 0).ok_or_else(|| ArrowError::ArithmeticOverflow(to.to_string()))
                })?
                .with_precision_and_scale(38, 0)?;
            kernel(&(Arc::new(whole) as ArrayRef), to)
        }
        (T::Date, T::Timestamp | T::TimestampTz) => {
            let out_of_range = || Error::new(Code::TimeOutOfRange, format!("a date is out of the range of {to}"));
            // Only of values: what is under a null may be anything.
            let micros = array.as_primitive::<Date32Type>().try_unary::<_, TimestampMicrosecondType, Error>(|d| {
                i64::from(d).checked_mul(DAY).ok_or_else(out_of_range)
            })?;
            Ok(zoned(micros, to))
        }
        (T::Timestamp | T::TimestampTz, T::Date) => {
            let micros = array.as_primitive::<TimestampMicrosecondType>();
            Ok(Arc::new(micros.unary::<_, Date32Type>(|v| v.div_euclid(DAY) as i32)))
        }
        (T::Timestamp | T::TimestampTz, T::Time) => {
            let micros = array.as_primitive::<TimestampMicrosecondType>();
            Ok(Arc::new(micros.unary::<_, Time64MicrosecondType>(|v| v.rem_euclid(DAY))))
        }
        // The session's zone is UTC, so only the label changes.
        (T::Timestamp | T::TimestampTz, T::Timestamp | T::TimestampTz) => {
            Ok(zoned(array.as_primitive::<TimestampMicrosecondType>().clone(), to))
        }
        _ => kernel(array, to),
    }
}

/// A UUID in its usual form, from any that PostgreSQL takes (manual 8.12).
fn zoned(micros: TimestampMicrosecondArray, to: &SqlType) -> ArrayRef {
    let zone = (*to == SqlType::TimestampTz).then(|| Arc::from("UTC"));
    Arc::new(micros.with_timezone_opt(zone))
}

/// A binary fraction by the decimal digits that are certain, as PostgreSQL takes them: 15 of a double, 6 of a real.
fn float_to_numeric(array: &ArrayRef, precision: u8, scale: i8) -> Result<ArrayRef> {
    let digits = if matches!(array.data_type(), DataType::Float32) { 5 } else { 14 };
    let wide = cast_with_options(array, &DataType::Float64, &strict())?;
    let limit = 10i128.pow(u32::from(precision));
    let mut out = Decimal128Builder::with_capacity(array.len());
    for value in wide.as_primitive::<Float64Type>() {
        let Some(value) = value else {
            out.append_null();
            continue;
        };
        if value.is_infinite() {
            return Err(Error::new(Code::Overflow, format!("{value} is out of the range of numeric")));
        }
        if value.is_nan() {
            return Err(Error::unsupported(format_args!("{value} as a numeric")));
        }
        let exact = cobble_types::parse::parse_decimal(&format!("{value:.digits$e}"))
            .and_then(|(unscaled, own)| rescale_decimal(unscaled, own, scale))
            // A number with more places than a numeric has is nothing there.
            .or((value.abs() < 1e-30).then_some(0))
            .filter(|v| -limit < *v && *v < limit);
        out.append_value(exact.ok_or_else(|| {
            Error::new(Code::Overflow, format!("{value} is out of the range of numeric({precision},{scale})"))
        })?);
    }
    Ok(Arc::new(out.finish().with_precision_and_scale(precision, scale)?))
}

/// Texts as arrays of one dimension.
fn array_from_text(array: &ArrayRef, item: &SqlType) -> Result<ArrayRef> {
    let texts = array.as_string_view();
    let (mut items, mut lengths) = (StringViewBuilder::new(), Vec::with_capacity(texts.len()));
    for text in texts {
        let Some(text) = text else {
            lengths.push(0);
            continue;
        };
        let parts = parse_array(text).ok_or_else(|| {
            let what = format!("\"{text}\" does not read as {item}[]");
            Error::new(Code::InvalidText, what).hint("an array is written like {1,2,3}")
        })?;
        lengths.push(parts.len());
        for part in parts {
            match part {
                ArrayItem::Null => items.append_null(),
                ArrayItem::Text(text) => items.append_value(text),
                ArrayItem::Array(_) => {
                    return Err(Error::unsupported("turning the text of an array of several dimensions into one"));
                }
            }
        }
    }
    let texts: ArrayRef = Arc::new(items.finish());
    let values = if *item == SqlType::Text { texts } else { cast(&texts, &SqlType::Text, item)? };
    let field = Field::new("item", item.to_arrow(), true);
    let offsets = OffsetBuffer::from_lengths(lengths);
    Ok(Arc::new(ListArray::try_new(Arc::new(field), offsets, values, array.nulls().cloned())?))
}

fn strict() -> CastOptions<'static> {
    CastOptions { safe: false, format_options: FormatOptions::default() }
}

fn kernel(array: &ArrayRef, to: &SqlType) -> Result<ArrayRef> {
    cast_with_options(array, &to.to_arrow(), &strict()).map_err(|error| match error {
        ArrowError::CastError(_) | ArrowError::InvalidArgumentError(_) | ArrowError::ArithmeticOverflow(_) => {
            Error::new(Code::Overflow, format!("a value is out of the range of {to}"))
        }
        other => other.into(),
    })
}

fn from_text(array: &ArrayRef, to: &SqlType) -> Result<ArrayRef> {
    let texts = array.as_string_view();
    let rows = texts.len();
    macro_rules! parsed {
        ($builder:expr, $variant:pat => $value:expr) => {{
            let mut builder = $builder;
            for text in texts {
                match text.map(|text| parse_value(text, to)).transpose()? {
                    None | Some(Value::Null) => builder.append_null(),
                    Some($variant) => builder.append_value($value),
                    Some(other) => return Err(Error::internal(format!("text was read as {other}"))),
                }
            }
            builder.finish()
        }};
    }
    Ok(match to {
        SqlType::Boolean => Arc::new(parsed!(BooleanBuilder::with_capacity(rows), Value::Boolean(v) => v)),
        SqlType::SmallInt => Arc::new(parsed!(Int16Builder::with_capacity(rows), Value::SmallInt(v) => v)),
        SqlType::Integer => Arc::new(parsed!(Int32Builder::with_capacity(rows), Value::Integer(v) => v)),
        SqlType::BigInt => Arc::new(parsed!(Int64Builder::with_capacity(rows), Value::BigInt(v) => v)),
        SqlType::Real => Arc::new(parsed!(Float32Builder::with_capacity(rows), Value::Real(v) => v)),
        SqlType::Double => Arc::new(parsed!(Float64Builder::with_capacity(rows), Value::Double(v) => v)),
        SqlType::Numeric { precision, scale } => Arc::new(
            parsed!(Decimal128Builder::with_capacity(rows), Value::Numeric { unscaled, .. } => unscaled)
                .with_precision_and_scale(*precision, *scale)?,
        ),
        SqlType::Bytea => Arc::new(parsed!(BinaryViewBuilder::with_capacity(rows), Value::Bytea(v) => v)),
        SqlType::Date => Arc::new(parsed!(Date32Builder::with_capacity(rows), Value::Date(v) => v)),
        SqlType::Time => Arc::new(parsed!(Time64MicrosecondBuilder::with_capacity(rows), Value::Time(v) => v)),
        SqlType::Timestamp => {
            Arc::new(parsed!(TimestampMicrosecondBuilder::with_capacity(rows), Value::Timestamp(v) => v))
        }
        SqlType::TimestampTz => Arc::new(
            parsed!(TimestampMicrosecondBuilder::with_capacity(rows), Value::TimestampTz(v) => v).with_timezone("UTC"),
        ),
        SqlType::Interval => Arc::new(parsed!(
            IntervalMonthDayNanoBuilder::with_capacity(rows),
            Value::Interval { months, days, microseconds } => IntervalMonthDayNano::new(months, days, microseconds.saturating_mul(1000))
        )),
        other => return Err(Error::unsupported(format_args!("turning text into {other}"))),
    })
}

/// A scalar of JSON as a text that reads as the type: true and false as truth values, numbers as numbers, rounded where they are wanted
/// whole (PostgreSQL manual 8.14).
fn scalar_text(text: &str, to: &SqlType) -> Result<String> {
    let document = crate::scalar::json::parse(text)?;
    let refused = || {
        let kind = crate::scalar::json::type_name(&document);
        Error::new(Code::InvalidValue, format!("a JSON {kind} cannot be cast to {to}"))
    };
    match &document {
        serde_json::Value::Bool(value) if *to == SqlType::Boolean => Ok(value.to_string()),
        serde_json::Value::Number(_) if to.is_number() => {
            let digits = text.trim();
            let whole = to.is_integer() && digits.contains(['.', 'e', 'E']);
            match parse_decimal(digits).filter(|_| whole) {
                Some((unscaled, scale)) => {
                    rescale_decimal(unscaled, scale, 0).map(|n| n.to_string()).ok_or_else(refused)
                }
                None => Ok(digits.to_owned()),
            }
        }
        _ => Err(refused()),
    }
}
