//! Type names as written to SQL types.

use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast::{ArrayElemTypeDef, CharacterLength, DataType, ExactNumberInfo, Ident, ObjectName, TimezoneInfo};

use crate::function;

/// What `pg_typeof` calls a type.
pub(super) fn postgres_name(sql_type: &SqlType) -> String {
    match sql_type {
        SqlType::Timestamp => "timestamp without time zone".into(),
        SqlType::TimestampTz => "timestamp with time zone".into(),
        SqlType::Time => "time without time zone".into(),
        SqlType::Numeric { .. } => "numeric".into(),
        SqlType::Json => "jsonb".into(),
        SqlType::Row(_) => "record".into(),
        // Arrays of arrays are arrays of more dimensions.
        SqlType::Array(item) => match item.as_ref() {
            SqlType::Array(_) => postgres_name(item),
            item => format!("{}[]", postgres_name(item)),
        },
        other => other.to_string(),
    }
}

/// A type by the name that PostgreSQL knows it by inside, which may be quoted: `"timestamp"`, `"char"`, `pg_catalog.int4`.
fn named(name: &ObjectName) -> Option<SqlType> {
    let parts: Vec<&Ident> = name.0.iter().filter_map(|part| part.as_ident()).collect();
    let ident = match parts.as_slice() {
        [one] => one,
        [schema, one] if schema.value.eq_ignore_ascii_case("pg_catalog") => one,
        _ => return None,
    };
    let word = if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_lowercase() };
    Some(match word.as_str() {
        "bool" => SqlType::Boolean,
        "int2" => SqlType::SmallInt,
        "int4" => SqlType::Integer,
        "int8" => SqlType::BigInt,
        "float4" => SqlType::Real,
        "float8" => SqlType::Double,
        "numeric" => SqlType::Numeric { precision: 38, scale: 10 },
        "text" | "varchar" | "bpchar" | "name" => SqlType::Text,
        "bytea" => SqlType::Bytea,
        "date" => SqlType::Date,
        "time" => SqlType::Time,
        "timestamp" => SqlType::Timestamp,
        "timestamptz" => SqlType::TimestampTz,
        "interval" => SqlType::Interval,
        "uuid" => SqlType::Uuid,
        "json" | "jsonb" => SqlType::Json,
        _ => return None,
    })
}

pub(crate) fn sql_type(written: &DataType) -> Result<SqlType> {
    Ok(match written {
        DataType::Boolean | DataType::Bool => SqlType::Boolean,
        DataType::SmallInt(_) | DataType::Int2(_) => SqlType::SmallInt,
        DataType::Integer(_) | DataType::Int(_) | DataType::Int4(_) => SqlType::Integer,
        DataType::BigInt(_) | DataType::Int8(_) => SqlType::BigInt,
        DataType::Real | DataType::Float4 => SqlType::Real,
        DataType::DoublePrecision | DataType::Double(_) | DataType::Float8 | DataType::Float(ExactNumberInfo::None) => {
            SqlType::Double
        }
        // So many binary digits.
        DataType::Float(ExactNumberInfo::Precision(1..=24)) => SqlType::Real,
        DataType::Float(ExactNumberInfo::Precision(25..=53)) => SqlType::Double,
        DataType::Numeric(info) | DataType::Decimal(info) | DataType::Dec(info) => match info {
            // Without digits PostgreSQL keeps what it is given; a column of ours needs one scale.
            ExactNumberInfo::None => SqlType::Numeric { precision: 38, scale: 10 },
            ExactNumberInfo::Precision(p) => numeric(*p, 0)?,
            ExactNumberInfo::PrecisionAndScale(p, s) => numeric(*p, *s)?,
        },
        DataType::Char(_) | DataType::Character(_) => SqlType::Text,
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
        DataType::Custom(name, modifiers) if modifiers.is_empty() && named(name).is_some() => {
            named(name).unwrap_or(SqlType::Text)
        }
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

/// A value cast to a type with a length: text is cut to it, times are rounded to their digits. The type itself keeps no length.
pub(super) fn within_length(value: Expr, written: &DataType) -> Result<Expr> {
    let cut = |value: Expr, length: u64| {
        let length = i32::try_from(length).map_err(|_| Error::new(Code::InvalidValue, "the text is too long"))?;
        function::call(Function::Left, vec![value, Expr::literal(Value::Integer(length))])
    };
    let length = |given: &Option<CharacterLength>| match given {
        Some(CharacterLength::IntegerLength { length, .. }) => Some(*length),
        _ => None,
    };
    match written {
        DataType::Varchar(given) | DataType::CharacterVarying(given) | DataType::CharVarying(given) => {
            match length(given) {
                Some(length) => cut(value, length),
                None => Ok(value),
            }
        }
        // Blanks at the end mean nothing, so they are not kept either.
        DataType::Char(given) | DataType::Character(given) => {
            function::call(Function::TrimEnd, vec![cut(value, length(given).unwrap_or(1))?])
        }
        DataType::Timestamp(Some(digits), _)
        | DataType::Time(Some(digits), _)
        | DataType::Interval { precision: Some(digits), fields: _ }
            if *digits < 6 =>
        {
            function::call(Function::RoundTime, vec![value, Expr::literal(Value::Integer(*digits as i32))])
        }
        _ => Ok(value),
    }
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
