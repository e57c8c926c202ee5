//! Type names as written to SQL types.

use cobble_types::{Code, Error, Result, SqlType};
use sqlparser::ast::{ArrayElemTypeDef, DataType, ExactNumberInfo, TimezoneInfo};

pub(super) fn sql_type(written: &DataType) -> Result<SqlType> {
    Ok(match written {
        DataType::Boolean | DataType::Bool => SqlType::Boolean,
        DataType::SmallInt(_) | DataType::Int2(_) => SqlType::SmallInt,
        DataType::Integer(_) | DataType::Int(_) | DataType::Int4(_) => SqlType::Integer,
        DataType::BigInt(_) | DataType::Int8(_) => SqlType::BigInt,
        DataType::Real | DataType::Float4 => SqlType::Real,
        DataType::DoublePrecision | DataType::Double(_) | DataType::Float8 | DataType::Float(ExactNumberInfo::None) => {
            SqlType::Double
        }
        DataType::Numeric(info) | DataType::Decimal(info) | DataType::Dec(info) => match info {
            // Without digits PostgreSQL keeps what it is given; a column of ours needs one scale.
            ExactNumberInfo::None => SqlType::Numeric { precision: 38, scale: 10 },
            ExactNumberInfo::Precision(p) => numeric(*p, 0)?,
            ExactNumberInfo::PrecisionAndScale(p, s) => numeric(*p, *s)?,
        },
        DataType::Text | DataType::Varchar(_) | DataType::CharacterVarying(_) | DataType::CharVarying(_) => {
            SqlType::Text
        }
        DataType::Bytea => SqlType::Bytea,
        DataType::Date => SqlType::Date,
        DataType::Time(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => SqlType::Time,
        DataType::Timestamp(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => SqlType::Timestamp,
        DataType::Timestamp(_, TimezoneInfo::WithTimeZone | TimezoneInfo::Tz) => SqlType::TimestampTz,
        DataType::Interval { .. } => SqlType::Interval,
        DataType::Uuid => SqlType::Uuid,
        DataType::JSON | DataType::JSONB => SqlType::Json,
        DataType::Array(ArrayElemTypeDef::SquareBracket(item, _)) => SqlType::Array(Box::new(sql_type(item)?)),
        other => {
            let name = other.to_string().to_lowercase();
            let known = [
                "boolean",
                "smallint",
                "integer",
                "bigint",
                "real",
                "double precision",
                "numeric",
                "text",
                "varchar",
                "bytea",
                "date",
                "time",
                "timestamp",
                "timestamptz",
                "interval",
                "uuid",
                "json",
            ];
            return Err(Error::unknown("type", &name, known));
        }
    })
}

fn numeric(precision: u64, scale: i64) -> Result<SqlType> {
    match (u8::try_from(precision), i8::try_from(scale)) {
        (Ok(precision @ 1..=38), Ok(scale)) if (0..=precision as i8).contains(&scale) => {
            Ok(SqlType::Numeric { precision, scale })
        }
        _ => Err(Error::new(Code::InvalidValue, format!("numeric({precision},{scale}) is not possible"))
            .hint("numerics have 1 to 38 digits, of which none to all stand after the point")),
    }
}
