//! The server's binary values into columns.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::IntervalMonthDayNano;
use cobble_types::parse::rescale_decimal;
use cobble_types::{Code, Error, Result, SqlType};
use tokio_postgres::types::{FromSql, Type};

use super::parameter::{EPOCH_DAYS, EPOCH_MICROS};

/// A value's bytes as they came.
pub struct Raw<'a>(pub &'a [u8]);

impl<'a> FromSql<'a> for Raw<'a> {
    fn from_sql(_: &Type, raw: &'a [u8]) -> std::result::Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(Raw(raw))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

/// Collects the values of one column.
pub enum ColumnDecoder {
    Boolean(BooleanBuilder),
    SmallInt(Int16Builder),
    Integer(Int32Builder),
    BigInt(Int64Builder),
    Real(Float32Builder),
    Double(Float64Builder),
    Numeric { builder: Decimal128Builder, precision: u8, scale: i8 },
    Text(StringViewBuilder),
    Bytea(BinaryViewBuilder),
    Date(Date32Builder),
    Time(Time64MicrosecondBuilder),
    Timestamp { builder: TimestampMicrosecondBuilder, zoned: bool },
    Interval(IntervalMonthDayNanoBuilder),
}

fn malformed() -> Error {
    Error::new(Code::SourceData, "the server sent a value of an unexpected length")
}

fn fixed<const N: usize>(raw: &[u8]) -> Result<[u8; N]> {
    raw.try_into().map_err(|_| malformed())
}

fn unholdable(what: &str) -> Error {
    Error::new(Code::SourceData, format!("the source holds {what}, which has no place in the engine's types"))
        .hint("leave such rows out with a condition")
}

impl ColumnDecoder {
    pub fn new(sql_type: &SqlType, rows: usize) -> Result<Self> {
        Ok(match sql_type {
            SqlType::Boolean => ColumnDecoder::Boolean(BooleanBuilder::with_capacity(rows)),
            SqlType::SmallInt => ColumnDecoder::SmallInt(Int16Builder::with_capacity(rows)),
            SqlType::Integer => ColumnDecoder::Integer(Int32Builder::with_capacity(rows)),
            SqlType::BigInt => ColumnDecoder::BigInt(Int64Builder::with_capacity(rows)),
            SqlType::Real => ColumnDecoder::Real(Float32Builder::with_capacity(rows)),
            SqlType::Double => ColumnDecoder::Double(Float64Builder::with_capacity(rows)),
            SqlType::Numeric { precision, scale } => ColumnDecoder::Numeric {
                builder: Decimal128Builder::with_capacity(rows),
                precision: *precision,
                scale: *scale,
            },
            SqlType::Text | SqlType::Uuid | SqlType::Json | SqlType::Null => {
                ColumnDecoder::Text(StringViewBuilder::with_capacity(rows))
            }
            SqlType::Bytea => ColumnDecoder::Bytea(BinaryViewBuilder::with_capacity(rows)),
            SqlType::Date => ColumnDecoder::Date(Date32Builder::with_capacity(rows)),
            SqlType::Time => ColumnDecoder::Time(Time64MicrosecondBuilder::with_capacity(rows)),
            SqlType::Timestamp | SqlType::TimestampTz => ColumnDecoder::Timestamp {
                builder: TimestampMicrosecondBuilder::with_capacity(rows),
                zoned: *sql_type == SqlType::TimestampTz,
            },
            SqlType::Interval => ColumnDecoder::Interval(IntervalMonthDayNanoBuilder::with_capacity(rows)),
            SqlType::Array(_) | SqlType::Row(_) => {
                return Err(Error::unsupported(format_args!("{sql_type} from this source")));
            }
        })
    }

    pub fn append(&mut self, raw: Option<&[u8]>) -> Result<()> {
        macro_rules! put {
            ($builder:expr, $value:expr) => {
                match raw {
                    None => $builder.append_null(),
                    Some(raw) => {
                        let value = $value(raw)?;
                        $builder.append_value(value)
                    }
                }
            };
        }
        match self {
            ColumnDecoder::Boolean(b) => put!(b, |raw| fixed::<1>(raw).map(|v| v[0] != 0)),
            ColumnDecoder::SmallInt(b) => put!(b, |raw| fixed(raw).map(i16::from_be_bytes)),
            ColumnDecoder::Integer(b) => put!(b, |raw| fixed(raw).map(i32::from_be_bytes)),
            ColumnDecoder::BigInt(b) => put!(b, |raw| fixed(raw).map(i64::from_be_bytes)),
            ColumnDecoder::Real(b) => put!(b, |raw| fixed(raw).map(f32::from_be_bytes)),
            ColumnDecoder::Double(b) => put!(b, |raw| fixed(raw).map(f64::from_be_bytes)),
            ColumnDecoder::Numeric { builder, precision, scale } => {
                let (precision, scale) = (*precision, *scale);
                put!(builder, |raw| numeric(raw, precision, scale))
            }
            ColumnDecoder::Text(b) => put!(b, |raw| std::str::from_utf8(raw)
                .map_err(|_| Error::new(Code::SourceData, "the server sent text that is not UTF-8"))),
            ColumnDecoder::Bytea(b) => put!(b, Ok::<&[u8], Error>),
            ColumnDecoder::Date(b) => put!(b, |raw| match fixed(raw).map(i32::from_be_bytes)? {
                i32::MAX | i32::MIN => Err(unholdable("an infinite date")),
                days => days.checked_add(EPOCH_DAYS).ok_or_else(|| unholdable("a date out of range")),
            }),
            ColumnDecoder::Time(b) => put!(b, |raw| fixed(raw).map(i64::from_be_bytes)),
            ColumnDecoder::Timestamp { builder, .. } => {
                put!(builder, |raw| match fixed(raw).map(i64::from_be_bytes)? {
                    i64::MAX | i64::MIN => Err(unholdable("an infinite timestamp")),
                    micros => micros.checked_add(EPOCH_MICROS).ok_or_else(|| unholdable("a timestamp out of range")),
                })
            }
            ColumnDecoder::Interval(b) => put!(b, |raw: &[u8]| {
                let bytes: [u8; 16] = fixed(raw)?;
                let micros = i64::from_be_bytes(fixed(&bytes[..8])?);
                let days = i32::from_be_bytes(fixed(&bytes[8..12])?);
                let months = i32::from_be_bytes(fixed(&bytes[12..])?);
                let nanos = micros.checked_mul(1000).ok_or_else(|| unholdable("an interval out of range"))?;
                Ok::<_, Error>(IntervalMonthDayNano::new(months, days, nanos))
            }),
        }
        Ok(())
    }

    pub fn finish(self) -> Result<ArrayRef> {
        Ok(match self {
            ColumnDecoder::Boolean(mut b) => Arc::new(b.finish()),
            ColumnDecoder::SmallInt(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Integer(mut b) => Arc::new(b.finish()),
            ColumnDecoder::BigInt(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Real(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Double(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Numeric { mut builder, precision, scale } => {
                Arc::new(builder.finish().with_precision_and_scale(precision, scale)?)
            }
            ColumnDecoder::Text(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Bytea(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Date(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Time(mut b) => Arc::new(b.finish()),
            ColumnDecoder::Timestamp { mut builder, zoned } => {
                Arc::new(builder.finish().with_timezone_opt(zoned.then(|| Arc::<str>::from("UTC"))))
            }
            ColumnDecoder::Interval(mut b) => Arc::new(b.finish()),
        })
    }
}

/// PostgreSQL's numeric in binary: digits of base 10000, the weight of the first, sign, and digits after the point
/// (`numeric_send` in the server's sources).
fn numeric(raw: &[u8], precision: u8, scale: i8) -> Result<i128> {
    let word = |i: usize| -> Result<u16> {
        raw.get(i * 2..i * 2 + 2).map(|b| u16::from_be_bytes([b[0], b[1]])).ok_or_else(malformed)
    };
    let (digits, weight, sign) = (usize::from(word(0)?), word(1)? as i16, word(2)?);
    if sign == 0xC000 {
        return Err(unholdable("the numeric NaN"));
    }
    if sign == 0xD000 || sign == 0xF000 {
        return Err(unholdable("an infinite numeric"));
    }
    let too_wide = || {
        Error::new(Code::Overflow, format!("the source holds a numeric that does not fit numeric({precision},{scale})"))
            .hint("cast it to fewer digits in the source, or to double precision")
    };
    let mut value: i128 = 0;
    for i in 0..digits {
        value = value
            .checked_mul(10_000)
            .and_then(|v| v.checked_add(i128::from(word(4 + i).ok()?)))
            .ok_or_else(too_wide)?;
    }
    // The last digit stands for 10000^(weight - digits + 1).
    let exponent = 4 * (i32::from(weight) - digits as i32 + 1);
    let value = if digits == 0 {
        0
    } else if exponent >= 0 {
        let unscaled =
            10i128.checked_pow(exponent.unsigned_abs()).and_then(|p| value.checked_mul(p)).ok_or_else(too_wide)?;
        rescale_decimal(unscaled, 0, scale).ok_or_else(too_wide)?
    } else {
        let own_scale = i8::try_from(-exponent).map_err(|_| too_wide())?;
        rescale_decimal(value, own_scale, scale).ok_or_else(too_wide)?
    };
    if value.unsigned_abs() >= 10u128.pow(u32::from(precision)) {
        return Err(too_wide());
    }
    Ok(if sign == 0x4000 { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::numeric;

    fn encoded(weight: i16, negative: bool, digits: &[u16]) -> Vec<u8> {
        let header = [digits.len() as u16, weight as u16, if negative { 0x4000 } else { 0 }, 0];
        header.iter().chain(digits).flat_map(|w| w.to_be_bytes()).collect()
    }

    #[test]
    fn numerics_of_the_server_keep_their_value() {
        for (weight, negative, digits, scale, expected) in [
            (0, false, vec![12, 5000], 2, 1250),
            (0, true, vec![12, 5000], 2, -1250),
            (-1, false, vec![500], 2, 5),
            (1, false, vec![1], 0, 10_000),
            (0, false, vec![], 2, 0),
            (-2, false, vec![1234], 8, 1234),
            (1, false, vec![1, 2345, 6700], 2, 1_234_567),
        ] {
            assert_eq!(numeric(&encoded(weight, negative, &digits), 38, scale).unwrap(), expected);
        }
        assert!(numeric(&encoded(0, false, &[100]), 2, 0).unwrap_err().message.contains("numeric(2,0)"));
        assert!(numeric(&[0, 0, 0, 0, 0xC0, 0, 0, 0], 8, 2).unwrap_err().message.contains("NaN"));
    }
}
