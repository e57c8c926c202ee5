//! Values bound to a statement. Numerics, times and intervals travel as text under an explicit cast in the statement.

use std::error::Error;

use bytes::{BufMut, BytesMut};
use cobble_types::{SqlType, Value};
use tokio_postgres::types::{Format, IsNull, ToSql, Type, to_sql_checked};

use cobble_connect_sql::Parameter;

/// Days from 1970-01-01 to PostgreSQL's epoch, 2000-01-01.
pub const EPOCH_DAYS: i32 = 10_957;
pub const EPOCH_MICROS: i64 = EPOCH_DAYS as i64 * 86_400_000_000;

/// The type a parameter is declared with.
pub fn wire_type(parameter: &Parameter) -> Type {
    match parameter.1 {
        SqlType::Boolean => Type::BOOL,
        SqlType::SmallInt => Type::INT2,
        SqlType::Integer => Type::INT4,
        SqlType::BigInt => Type::INT8,
        SqlType::Real => Type::FLOAT4,
        SqlType::Double => Type::FLOAT8,
        SqlType::Bytea => Type::BYTEA,
        SqlType::Date => Type::DATE,
        SqlType::Timestamp => Type::TIMESTAMP,
        SqlType::TimestampTz => Type::TIMESTAMPTZ,
        _ => Type::TEXT,
    }
}

/// How the statement names a parameter so that it has its SQL type.
pub fn reference(parameter: &Parameter, number: usize) -> String {
    match &parameter.1 {
        SqlType::Numeric { precision, scale } => format!("${number}::numeric({precision},{scale})"),
        SqlType::Time => format!("${number}::time"),
        SqlType::Interval => format!("${number}::interval"),
        _ => format!("${number}"),
    }
}

/// A parameter on its way to the server.
#[derive(Debug)]
pub struct Bound<'a>(pub &'a Parameter);

impl ToSql for Bound<'_> {
    fn to_sql(&self, _: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn Error + Sync + Send>> {
        match &self.0.0 {
            Value::Null => return Ok(IsNull::Yes),
            Value::Boolean(v) => out.put_u8(u8::from(*v)),
            Value::SmallInt(v) => out.put_i16(*v),
            Value::Integer(v) => out.put_i32(*v),
            Value::BigInt(v) => out.put_i64(*v),
            Value::Real(v) => out.put_f32(*v),
            Value::Double(v) => out.put_f64(*v),
            Value::Bytea(v) => out.put_slice(v),
            Value::Date(v) => out.put_i32(v.checked_sub(EPOCH_DAYS).ok_or("a date is out of the server's range")?),
            Value::Timestamp(v) | Value::TimestampTz(v) => {
                out.put_i64(v.checked_sub(EPOCH_MICROS).ok_or("a time is out of the server's range")?);
            }
            Value::Numeric { .. } | Value::Text(_) | Value::Time(_) | Value::Interval { .. } => {
                out.put_slice(self.0.text().as_bytes())
            }
        }
        Ok(IsNull::No)
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    fn encode_format(&self, _: &Type) -> Format {
        Format::Binary
    }

    to_sql_checked!();
}
