//! One constant: what a literal in a statement is, and what statistics are made of.

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::IntervalMonthDayNano;
use serde::{Deserialize, Serialize};

use crate::{SqlType, quote_literal, write_date, write_decimal, write_timestamp};

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Value {
    Null,
    Boolean(bool),
    SmallInt(i16),
    Integer(i32),
    BigInt(i64),
    Real(f32),
    Double(f64),
    /// `unscaled` divided by ten to the `scale`.
    Numeric {
        #[serde(with = "decimal_text")]
        unscaled: i128,
        precision: u8,
        scale: i8,
    },
    Text(String),
    Bytea(Vec<u8>),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970-01-01.
    Timestamp(i64),
    TimestampTz(i64),
    Interval {
        months: i32,
        days: i32,
        microseconds: i64,
    },
}

/// JSON numbers lose digits beyond 2^53, so wide integers travel as text.
mod decimal_text {
    use serde::{Deserialize, Deserializer, Serializer};

    pub fn serialize<S: Serializer>(value: &i128, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&value.to_string())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<i128, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// The same constant, to tell expressions apart: every NaN is itself, and the two zeros are two. What SQL makes of two values is
/// [`Value::compare`].
impl PartialEq for Value {
    fn eq(&self, other: &Value) -> bool {
        match (self, other) {
            (Value::Null, Value::Null) => true,
            (Value::Boolean(a), Value::Boolean(b)) => a == b,
            (Value::SmallInt(a), Value::SmallInt(b)) => a == b,
            (Value::Integer(a), Value::Integer(b)) | (Value::Date(a), Value::Date(b)) => a == b,
            (Value::BigInt(a), Value::BigInt(b))
            | (Value::Time(a), Value::Time(b))
            | (Value::Timestamp(a), Value::Timestamp(b))
            | (Value::TimestampTz(a), Value::TimestampTz(b)) => a == b,
            (Value::Real(a), Value::Real(b)) => a.to_bits() == b.to_bits(),
            (Value::Double(a), Value::Double(b)) => a.to_bits() == b.to_bits(),
            (Value::Numeric { unscaled, precision, scale }, Value::Numeric { unscaled: u, precision: p, scale: s }) => {
                (unscaled, precision, scale) == (u, p, s)
            }
            (Value::Text(a), Value::Text(b)) => a == b,
            (Value::Bytea(a), Value::Bytea(b)) => a == b,
            (
                Value::Interval { months, days, microseconds },
                Value::Interval { months: m, days: d, microseconds: us },
            ) => (months, days, microseconds) == (m, d, us),
            _ => false,
        }
    }
}

impl Value {
    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    pub fn sql_type(&self) -> SqlType {
        match self {
            Value::Null => SqlType::Null,
            Value::Boolean(_) => SqlType::Boolean,
            Value::SmallInt(_) => SqlType::SmallInt,
            Value::Integer(_) => SqlType::Integer,
            Value::BigInt(_) => SqlType::BigInt,
            Value::Real(_) => SqlType::Real,
            Value::Double(_) => SqlType::Double,
            Value::Numeric { precision, scale, .. } => SqlType::Numeric { precision: *precision, scale: *scale },
            Value::Text(_) => SqlType::Text,
            Value::Bytea(_) => SqlType::Bytea,
            Value::Date(_) => SqlType::Date,
            Value::Time(_) => SqlType::Time,
            Value::Timestamp(_) => SqlType::Timestamp,
            Value::TimestampTz(_) => SqlType::TimestampTz,
            Value::Interval { .. } => SqlType::Interval,
        }
    }

    /// An array of one row that holds this value as `sql_type` is carried.
    pub fn to_array(&self, sql_type: &SqlType) -> ArrayRef {
        match self {
            Value::Null => new_null_array(&sql_type.to_arrow(), 1),
            Value::Boolean(v) => Arc::new(BooleanArray::from(vec![*v])),
            Value::SmallInt(v) => Arc::new(Int16Array::from(vec![*v])),
            Value::Integer(v) => Arc::new(Int32Array::from(vec![*v])),
            Value::BigInt(v) => Arc::new(Int64Array::from(vec![*v])),
            Value::Real(v) => Arc::new(Float32Array::from(vec![*v])),
            Value::Double(v) => Arc::new(Float64Array::from(vec![*v])),
            Value::Numeric { unscaled, precision, scale } => Arc::new(
                Decimal128Array::from(vec![*unscaled])
                    .with_data_type(arrow::datatypes::DataType::Decimal128(*precision, *scale)),
            ),
            Value::Text(v) => Arc::new(StringViewArray::from(vec![v.as_str()])),
            Value::Bytea(v) => Arc::new(BinaryViewArray::from(vec![v.as_slice()])),
            Value::Date(v) => Arc::new(Date32Array::from(vec![*v])),
            Value::Time(v) => Arc::new(Time64MicrosecondArray::from(vec![*v])),
            Value::Timestamp(v) => Arc::new(TimestampMicrosecondArray::from(vec![*v])),
            Value::TimestampTz(v) => Arc::new(TimestampMicrosecondArray::from(vec![*v]).with_timezone("UTC")),
            Value::Interval { months, days, microseconds } => {
                Arc::new(IntervalMonthDayNanoArray::from(vec![IntervalMonthDayNano::new(
                    *months,
                    *days,
                    microseconds.saturating_mul(1000),
                )]))
            }
        }
    }

    /// The value in `row` of an array; `None` for nested types, which have no constant form.
    pub fn from_array(array: &dyn Array, row: usize) -> Option<Value> {
        use arrow::datatypes::{DataType, TimeUnit};
        if array.is_null(row) {
            return Some(Value::Null);
        }
        Some(match array.data_type() {
            DataType::Null => Value::Null,
            DataType::Boolean => Value::Boolean(array.as_boolean().value(row)),
            DataType::Int16 => Value::SmallInt(array.as_primitive::<arrow::datatypes::Int16Type>().value(row)),
            DataType::Int32 => Value::Integer(array.as_primitive::<arrow::datatypes::Int32Type>().value(row)),
            DataType::Int64 => Value::BigInt(array.as_primitive::<arrow::datatypes::Int64Type>().value(row)),
            DataType::Float32 => Value::Real(array.as_primitive::<arrow::datatypes::Float32Type>().value(row)),
            DataType::Float64 => Value::Double(array.as_primitive::<arrow::datatypes::Float64Type>().value(row)),
            DataType::Decimal128(precision, scale) => Value::Numeric {
                unscaled: array.as_primitive::<arrow::datatypes::Decimal128Type>().value(row),
                precision: *precision,
                scale: *scale,
            },
            DataType::Utf8View => Value::Text(array.as_string_view().value(row).to_owned()),
            DataType::Utf8 => Value::Text(array.as_string::<i32>().value(row).to_owned()),
            DataType::BinaryView => Value::Bytea(array.as_binary_view().value(row).to_owned()),
            DataType::Date32 => Value::Date(array.as_primitive::<arrow::datatypes::Date32Type>().value(row)),
            DataType::Time64(TimeUnit::Microsecond) => {
                Value::Time(array.as_primitive::<arrow::datatypes::Time64MicrosecondType>().value(row))
            }
            DataType::Timestamp(TimeUnit::Microsecond, zone) => {
                let micros = array.as_primitive::<arrow::datatypes::TimestampMicrosecondType>().value(row);
                if zone.is_some() { Value::TimestampTz(micros) } else { Value::Timestamp(micros) }
            }
            DataType::Interval(_) => {
                let v = array.as_primitive_opt::<arrow::datatypes::IntervalMonthDayNanoType>()?.value(row);
                Value::Interval { months: v.months, days: v.days, microseconds: v.nanoseconds / 1000 }
            }
            _ => return None,
        })
    }

    /// The value as a real number, for estimates only.
    pub fn approximate(&self) -> Option<f64> {
        Some(match self {
            Value::Boolean(v) => f64::from(u8::from(*v)),
            Value::SmallInt(v) => f64::from(*v),
            Value::Integer(v) => f64::from(*v),
            Value::BigInt(v) => *v as f64,
            Value::Real(v) => f64::from(*v),
            Value::Double(v) => *v,
            Value::Numeric { unscaled, scale, .. } => *unscaled as f64 / 10f64.powi(i32::from(*scale)),
            Value::Date(v) => f64::from(*v) * 86_400e6,
            Value::Time(v) | Value::Timestamp(v) | Value::TimestampTz(v) => *v as f64,
            Value::Null | Value::Text(_) | Value::Bytea(_) | Value::Interval { .. } => return None,
        })
    }

    /// Order of two values of one type; `None` when either is null or the types differ. Text is ordered by bytes, NaN last.
    pub fn compare(&self, other: &Value) -> Option<Ordering> {
        Some(match (self, other) {
            (Value::Boolean(a), Value::Boolean(b)) => a.cmp(b),
            (Value::Text(a), Value::Text(b)) => a.as_bytes().cmp(b.as_bytes()),
            (Value::Bytea(a), Value::Bytea(b)) => a.cmp(b),
            (Value::SmallInt(a), Value::SmallInt(b)) => a.cmp(b),
            (Value::Integer(a), Value::Integer(b)) => a.cmp(b),
            (Value::BigInt(a), Value::BigInt(b)) => a.cmp(b),
            (Value::Date(a), Value::Date(b)) => a.cmp(b),
            (Value::Time(a), Value::Time(b))
            | (Value::Timestamp(a), Value::Timestamp(b))
            | (Value::TimestampTz(a), Value::TimestampTz(b)) => a.cmp(b),
            (Value::Numeric { unscaled: a, scale: s, .. }, Value::Numeric { unscaled: b, scale: t, .. }) if s == t => {
                a.cmp(b)
            }
            (Value::Real(a), Value::Real(b)) => float_order(f64::from(*a), f64::from(*b)),
            (Value::Double(a), Value::Double(b)) => float_order(*a, *b),
            _ => return None,
        })
    }
}

fn float_order(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()))
}

/// Writes the value as a SQL literal, as plans show it.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => f.write_str("null"),
            Value::Boolean(v) => write!(f, "{v}"),
            Value::SmallInt(v) => write!(f, "{v}"),
            Value::Integer(v) => write!(f, "{v}"),
            Value::BigInt(v) => write!(f, "{v}"),
            Value::Real(v) => write!(f, "{v}"),
            Value::Double(v) => write!(f, "{v}"),
            Value::Numeric { unscaled, scale, .. } => f.write_str(&write_decimal(*unscaled, *scale)),
            Value::Text(v) => f.write_str(&quote_literal(v)),
            Value::Bytea(v) => {
                f.write_str("'\\x")?;
                v.iter().try_for_each(|byte| write!(f, "{byte:02x}"))?;
                f.write_str("'")
            }
            Value::Date(v) => write!(f, "date '{}'", write_date(*v)),
            Value::Time(v) => write!(f, "time '{}'", crate::text::write_time(*v)),
            Value::Timestamp(v) => write!(f, "timestamp '{}'", write_timestamp(*v)),
            Value::TimestampTz(v) => write!(f, "timestamptz '{}+00'", write_timestamp(*v)),
            Value::Interval { months, days, microseconds } => {
                write!(f, "interval '{}'", crate::text::write_interval(*months, *days, *microseconds))
            }
        }
    }
}
