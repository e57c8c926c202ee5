//! SQL types as PostgreSQL knows them, and the Arrow type that carries each.

use std::fmt;

use arrow::datatypes::{DataType, Field, Fields, IntervalUnit, TimeUnit};
use serde::{Deserialize, Serialize};

/// The type of a column or an expression.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SqlType {
    /// The type of a bare `NULL`: fits everywhere.
    Null,
    Boolean,
    SmallInt,
    Integer,
    BigInt,
    Real,
    Double,
    /// Exact decimal: at most 38 digits, `scale` of them after the point.
    Numeric {
        precision: u8,
        scale: i8,
    },
    Text,
    Bytea,
    Date,
    /// Time of day in microseconds.
    Time,
    /// Microseconds since 1970-01-01 without a zone.
    Timestamp,
    /// Microseconds since 1970-01-01 00:00 UTC.
    TimestampTz,
    Interval,
    Uuid,
    Json,
    Array(Box<SqlType>),
    Row(Vec<RowField>),
}

/// A named part of a row type.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct RowField {
    pub name: String,
    pub sql_type: SqlType,
}

impl SqlType {
    /// The widest exact number: integers of any size in a numeric context.
    pub const WIDE_NUMERIC: SqlType = SqlType::Numeric { precision: 38, scale: 0 };

    pub fn is_integer(&self) -> bool {
        matches!(self, SqlType::SmallInt | SqlType::Integer | SqlType::BigInt)
    }

    pub fn is_float(&self) -> bool {
        matches!(self, SqlType::Real | SqlType::Double)
    }

    pub fn is_number(&self) -> bool {
        self.is_integer() || self.is_float() || matches!(self, SqlType::Numeric { .. })
    }

    pub fn is_time_point(&self) -> bool {
        matches!(self, SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz)
    }

    /// Types whose values can be compared, grouped and sorted.
    pub fn is_ordered(&self) -> bool {
        match self {
            SqlType::Json => false,
            SqlType::Row(fields) => fields.iter().all(|field| field.sql_type.is_ordered()),
            SqlType::Array(item) => item.is_ordered(),
            _ => true,
        }
    }

    /// Digits and scale of an exact number; the integers as the numerics that hold them.
    pub fn digits(&self) -> Option<(u8, i8)> {
        match self {
            SqlType::SmallInt => Some((5, 0)),
            SqlType::Integer => Some((10, 0)),
            SqlType::BigInt => Some((19, 0)),
            SqlType::Numeric { precision, scale } => Some((*precision, *scale)),
            _ => None,
        }
    }

    /// The Arrow type that carries this SQL type everywhere in the engine.
    pub fn to_arrow(&self) -> DataType {
        match self {
            SqlType::Null => DataType::Null,
            SqlType::Boolean => DataType::Boolean,
            SqlType::SmallInt => DataType::Int16,
            SqlType::Integer => DataType::Int32,
            SqlType::BigInt => DataType::Int64,
            SqlType::Real => DataType::Float32,
            SqlType::Double => DataType::Float64,
            SqlType::Numeric { precision, scale } => DataType::Decimal128(*precision, *scale),
            SqlType::Text | SqlType::Uuid | SqlType::Json => DataType::Utf8View,
            SqlType::Bytea => DataType::BinaryView,
            SqlType::Date => DataType::Date32,
            SqlType::Time => DataType::Time64(TimeUnit::Microsecond),
            SqlType::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
            SqlType::TimestampTz => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
            SqlType::Interval => DataType::Interval(IntervalUnit::MonthDayNano),
            SqlType::Array(item) => DataType::List(Field::new("item", item.to_arrow(), true).into()),
            SqlType::Row(fields) => DataType::Struct(
                fields.iter().map(|f| Field::new(&f.name, f.sql_type.to_arrow(), true)).collect::<Fields>(),
            ),
        }
    }

    /// The SQL type of a column read from a file, or `None` when the engine has no type for it.
    pub fn from_arrow(data_type: &DataType) -> Option<SqlType> {
        Some(match data_type {
            DataType::Null => SqlType::Text,
            DataType::Boolean => SqlType::Boolean,
            DataType::Int8 | DataType::UInt8 | DataType::Int16 => SqlType::SmallInt,
            DataType::UInt16 | DataType::Int32 => SqlType::Integer,
            DataType::UInt32 | DataType::Int64 => SqlType::BigInt,
            DataType::UInt64 => SqlType::Numeric { precision: 20, scale: 0 },
            DataType::Float16 | DataType::Float32 => SqlType::Real,
            DataType::Float64 => SqlType::Double,
            DataType::Decimal32(p, s) | DataType::Decimal64(p, s) | DataType::Decimal128(p, s) => {
                SqlType::Numeric { precision: *p, scale: *s }
            }
            DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => SqlType::Text,
            DataType::Binary | DataType::LargeBinary | DataType::BinaryView | DataType::FixedSizeBinary(_) => {
                SqlType::Bytea
            }
            DataType::Date32 | DataType::Date64 => SqlType::Date,
            DataType::Time32(_) | DataType::Time64(_) => SqlType::Time,
            DataType::Timestamp(_, None) => SqlType::Timestamp,
            DataType::Timestamp(_, Some(_)) => SqlType::TimestampTz,
            DataType::Interval(_) | DataType::Duration(_) => SqlType::Interval,
            DataType::Dictionary(_, values) => return SqlType::from_arrow(values),
            DataType::List(item) | DataType::LargeList(item) | DataType::FixedSizeList(item, _) => {
                SqlType::Array(Box::new(SqlType::from_arrow(item.data_type())?))
            }
            DataType::Struct(fields) => SqlType::Row(
                fields
                    .iter()
                    .map(|f| Some(RowField { name: f.name().clone(), sql_type: SqlType::from_arrow(f.data_type())? }))
                    .collect::<Option<_>>()?,
            ),
            _ => return None,
        })
    }

    /// Average width of a value in bytes, for columns without statistics.
    pub fn typical_width(&self) -> f64 {
        match self {
            SqlType::Null | SqlType::Boolean => 1.0,
            SqlType::SmallInt => 2.0,
            SqlType::Integer | SqlType::Real | SqlType::Date => 4.0,
            SqlType::BigInt | SqlType::Double | SqlType::Time | SqlType::Timestamp | SqlType::TimestampTz => 8.0,
            SqlType::Numeric { .. } | SqlType::Interval => 16.0,
            SqlType::Text | SqlType::Bytea => 24.0,
            SqlType::Uuid => 36.0,
            SqlType::Json | SqlType::Array(_) => 64.0,
            SqlType::Row(fields) => fields.iter().map(|f| f.sql_type.typical_width()).sum(),
        }
    }
}

impl fmt::Display for SqlType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SqlType::Null => f.write_str("unknown"),
            SqlType::Boolean => f.write_str("boolean"),
            SqlType::SmallInt => f.write_str("smallint"),
            SqlType::Integer => f.write_str("integer"),
            SqlType::BigInt => f.write_str("bigint"),
            SqlType::Real => f.write_str("real"),
            SqlType::Double => f.write_str("double precision"),
            SqlType::Numeric { precision, scale } => write!(f, "numeric({precision},{scale})"),
            SqlType::Text => f.write_str("text"),
            SqlType::Bytea => f.write_str("bytea"),
            SqlType::Date => f.write_str("date"),
            SqlType::Time => f.write_str("time"),
            SqlType::Timestamp => f.write_str("timestamp"),
            SqlType::TimestampTz => f.write_str("timestamptz"),
            SqlType::Interval => f.write_str("interval"),
            SqlType::Uuid => f.write_str("uuid"),
            SqlType::Json => f.write_str("json"),
            SqlType::Array(item) => write!(f, "{item}[]"),
            SqlType::Row(fields) => {
                f.write_str("row(")?;
                for (i, field) in fields.iter().enumerate() {
                    if i > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{} {}", field.name, field.sql_type)?;
                }
                f.write_str(")")
            }
        }
    }
}
