//! Single values of a database, one after another, into columns of the engine's types. A value of another type than the table
//! was described with is an error: never silently something else.

use std::sync::Arc;

use arrow::array::*;
use cobble_types::parse::{parse_date, parse_decimal, parse_timestamp, parse_value, rescale_decimal};
use cobble_types::{Code, Error, Result, SqlType, Value};

/// A value as drivers return it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cell<'a> {
    Null,
    Whole(i64),
    Unsigned(u64),
    Real(f64),
    Text(&'a str),
    Bytes(&'a [u8]),
}

impl Cell<'_> {
    /// Bytes of the value on the wire.
    pub fn bytes(&self) -> u64 {
        match self {
            Cell::Null => 1,
            Cell::Whole(_) | Cell::Unsigned(_) | Cell::Real(_) => 8,
            Cell::Text(text) => text.len() as u64,
            Cell::Bytes(bytes) => bytes.len() as u64,
        }
    }

    fn shown(&self) -> String {
        match self {
            Cell::Null => "null".to_owned(),
            Cell::Whole(v) => v.to_string(),
            Cell::Unsigned(v) => v.to_string(),
            Cell::Real(v) => v.to_string(),
            Cell::Text(text) => {
                let short: String = text.chars().take(40).collect();
                if short.len() < text.len() { format!("'{short}…'") } else { format!("'{text}'") }
            }
            Cell::Bytes(bytes) => format!("{} bytes", bytes.len()),
        }
    }
}

enum Values {
    Boolean(BooleanBuilder),
    SmallInt(Int16Builder),
    Integer(Int32Builder),
    BigInt(Int64Builder),
    Real(Float32Builder),
    Double(Float64Builder),
    Numeric(Decimal128Builder, u8, i8),
    Text(StringViewBuilder),
    Bytea(BinaryViewBuilder),
    Date(Date32Builder),
    Time(Time64MicrosecondBuilder),
    Timestamp(TimestampMicrosecondBuilder, bool),
}

/// Collects the values of one column.
pub struct CellColumn {
    name: String,
    values: Values,
    sql_type: SqlType,
}

impl CellColumn {
    pub fn new(name: &str, sql_type: &SqlType, rows: usize) -> Result<CellColumn> {
        let values = match sql_type {
            SqlType::Boolean => Values::Boolean(BooleanBuilder::with_capacity(rows)),
            SqlType::SmallInt => Values::SmallInt(Int16Builder::with_capacity(rows)),
            SqlType::Integer => Values::Integer(Int32Builder::with_capacity(rows)),
            SqlType::BigInt => Values::BigInt(Int64Builder::with_capacity(rows)),
            SqlType::Real => Values::Real(Float32Builder::with_capacity(rows)),
            SqlType::Double => Values::Double(Float64Builder::with_capacity(rows)),
            SqlType::Numeric { precision, scale } => {
                Values::Numeric(Decimal128Builder::with_capacity(rows), *precision, *scale)
            }
            SqlType::Text | SqlType::Uuid | SqlType::Json | SqlType::Null => {
                Values::Text(StringViewBuilder::with_capacity(rows))
            }
            SqlType::Bytea => Values::Bytea(BinaryViewBuilder::with_capacity(rows)),
            SqlType::Date => Values::Date(Date32Builder::with_capacity(rows)),
            SqlType::Time => Values::Time(Time64MicrosecondBuilder::with_capacity(rows)),
            SqlType::Timestamp => Values::Timestamp(TimestampMicrosecondBuilder::with_capacity(rows), false),
            SqlType::TimestampTz => Values::Timestamp(TimestampMicrosecondBuilder::with_capacity(rows), true),
            other => return Err(Error::unsupported(format_args!("{other} from this source"))),
        };
        Ok(CellColumn { name: name.to_owned(), values, sql_type: sql_type.clone() })
    }

    pub fn append(&mut self, cell: Cell<'_>) -> Result<()> {
        let (own, name) = (&self.sql_type, &self.name);
        let wrong = || {
            Error::new(
                Code::SourceData,
                format!("column {name} holds {}, which is no {own} as the column was described", cell.shown()),
            )
            .hint("correct the value there, or leave such rows out with a condition on another column")
        };
        let whole = || match cell {
            Cell::Whole(v) => Ok(v),
            Cell::Unsigned(v) => i64::try_from(v).map_err(|_| wrong()),
            _ => Err(wrong()),
        };
        macro_rules! put {
            ($builder:expr, $value:expr) => {
                match cell {
                    Cell::Null => $builder.append_null(),
                    _ => $builder.append_value($value),
                }
            };
        }
        match &mut self.values {
            Values::Boolean(b) => match cell {
                Cell::Null => b.append_null(),
                _ => match whole()? {
                    0 => b.append_value(false),
                    1 => b.append_value(true),
                    _ => return Err(wrong()),
                },
            },
            Values::SmallInt(b) => put!(b, whole()?.try_into().map_err(|_| wrong())?),
            Values::Integer(b) => put!(b, whole()?.try_into().map_err(|_| wrong())?),
            Values::BigInt(b) => put!(b, whole()?),
            Values::Real(b) => put!(
                b,
                match cell {
                    Cell::Real(v) => v as f32,
                    _ => whole()? as f32,
                }
            ),
            Values::Double(b) => put!(
                b,
                match cell {
                    Cell::Real(v) => v,
                    _ => whole()? as f64,
                }
            ),
            Values::Numeric(b, precision, scale) => put!(b, decimal(cell, *precision, *scale).ok_or_else(wrong)?),
            Values::Text(b) => put!(
                b,
                match cell {
                    Cell::Text(text) => text,
                    _ => return Err(wrong()),
                }
            ),
            Values::Bytea(b) => put!(
                b,
                match cell {
                    Cell::Bytes(bytes) => bytes,
                    _ => return Err(wrong()),
                }
            ),
            Values::Date(b) => put!(
                b,
                match cell {
                    // Only the one form: other ones would compare in another way at the source.
                    Cell::Text(text) if text.len() == 10 => parse_date(text).ok_or_else(wrong)?,
                    _ => return Err(wrong()),
                }
            ),
            Values::Time(b) => put!(
                b,
                match cell {
                    Cell::Text(text) => match parse_value(text, &SqlType::Time) {
                        Ok(Value::Time(micros)) => micros,
                        _ => return Err(wrong()),
                    },
                    _ => return Err(wrong()),
                }
            ),
            Values::Timestamp(b, zoned) => put!(
                b,
                match cell {
                    Cell::Text(text) => match parse_timestamp(text) {
                        Some((micros, None)) => micros,
                        Some((_, Some(moment))) if *zoned => moment,
                        _ => return Err(wrong()),
                    },
                    _ => return Err(wrong()),
                }
            ),
        }
        Ok(())
    }

    pub fn finish(self) -> Result<ArrayRef> {
        Ok(match self.values {
            Values::Boolean(mut b) => Arc::new(b.finish()),
            Values::SmallInt(mut b) => Arc::new(b.finish()),
            Values::Integer(mut b) => Arc::new(b.finish()),
            Values::BigInt(mut b) => Arc::new(b.finish()),
            Values::Real(mut b) => Arc::new(b.finish()),
            Values::Double(mut b) => Arc::new(b.finish()),
            Values::Numeric(mut b, precision, scale) => {
                Arc::new(b.finish().with_precision_and_scale(precision, scale)?)
            }
            Values::Text(mut b) => Arc::new(b.finish()),
            Values::Bytea(mut b) => Arc::new(b.finish()),
            Values::Date(mut b) => Arc::new(b.finish()),
            Values::Time(mut b) => Arc::new(b.finish()),
            Values::Timestamp(mut b, zoned) => {
                Arc::new(b.finish().with_timezone_opt(zoned.then(|| Arc::<str>::from("UTC"))))
            }
        })
    }
}

/// A number with so many digits; what does not fit is nothing. A floating-point one is what its shortest text says.
fn decimal(cell: Cell<'_>, precision: u8, scale: i8) -> Option<i128> {
    let (unscaled, own) = match cell {
        Cell::Whole(v) => (i128::from(v), 0),
        Cell::Unsigned(v) => (i128::from(v), 0),
        Cell::Real(v) if v.is_finite() => parse_decimal(&format!("{v}"))?,
        Cell::Text(text) => parse_decimal(text)?,
        _ => return None,
    };
    let value = rescale_decimal(unscaled, own, scale)?;
    // Digits beyond the scale would be lost.
    if own > scale && rescale_decimal(value, scale, own) != Some(unscaled) {
        return None;
    }
    (value.unsigned_abs() < 10u128.checked_pow(u32::from(precision))?).then_some(value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use cobble_types::array_value_text;

    fn read(sql_type: SqlType, cell: Cell<'_>) -> std::result::Result<String, String> {
        let mut column = CellColumn::new("x", &sql_type, 1).unwrap();
        column.append(cell).map_err(|e| e.message)?;
        Ok(array_value_text(column.finish().unwrap().as_ref(), 0).unwrap_or("∅".into()))
    }

    #[test]
    fn values_keep_what_they_are_or_are_refused() {
        let money = || SqlType::Numeric { precision: 8, scale: 2 };
        for (sql_type, cell, wanted) in [
            (SqlType::BigInt, Cell::Whole(7), Some("7")),
            (SqlType::BigInt, Cell::Text("7"), None),
            (SqlType::BigInt, Cell::Unsigned(u64::MAX), None),
            (SqlType::SmallInt, Cell::Whole(40_000), None),
            (SqlType::Boolean, Cell::Whole(1), Some("true")),
            (SqlType::Boolean, Cell::Whole(2), None),
            (SqlType::Double, Cell::Whole(3), Some("3")),
            (money(), Cell::Real(12.34), Some("12.34")),
            (money(), Cell::Real(0.1 + 0.2), None),
            (money(), Cell::Whole(5), Some("5.00")),
            (money(), Cell::Text("12.345"), None),
            (money(), Cell::Text("12.340"), Some("12.34")),
            (money(), Cell::Whole(10_000_000), None),
            (SqlType::Text, Cell::Text("Brent Quay"), Some("Brent Quay")),
            (SqlType::Text, Cell::Bytes(b"x"), None),
            (SqlType::Date, Cell::Text("2025-07-01"), Some("2025-07-01")),
            (SqlType::Date, Cell::Text("2025-7-1"), None),
            (SqlType::Date, Cell::Text("2025-13-01"), None),
            (SqlType::Time, Cell::Text("09:30"), Some("09:30:00")),
            (SqlType::Timestamp, Cell::Text("2025-07-01T09:30:00"), Some("2025-07-01 09:30:00")),
            (SqlType::Timestamp, Cell::Whole(1_700_000_000), None),
            (SqlType::Text, Cell::Null, Some("∅")),
        ] {
            let got = read(sql_type.clone(), cell);
            match wanted {
                Some(wanted) => assert_eq!(got.as_deref(), Ok(wanted), "{sql_type} {cell:?}"),
                None => assert!(got.unwrap_err().contains("as the column was described"), "{sql_type} {cell:?}"),
            }
        }
    }
}
