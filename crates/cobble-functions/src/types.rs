//! The common type of two types.

use cobble_types::{RowField, SqlType};

/// The type to which constructs such as CASE and UNION bring values: as `wider_type`, and arrays by their items, which no operator
/// brings together (PostgreSQL manual 10.5).
pub fn united_type(left: &SqlType, right: &SqlType) -> Option<SqlType> {
    match (left, right) {
        (SqlType::Array(l), SqlType::Array(r)) => Some(SqlType::Array(Box::new(united_type(l, r)?))),
        _ => wider_type(left, right),
    }
}

/// The type both values can be turned into without loss, following PostgreSQL's implicit casts.
pub fn wider_type(left: &SqlType, right: &SqlType) -> Option<SqlType> {
    use SqlType::*;
    if left == right {
        return Some(left.clone());
    }
    Some(match (left, right) {
        (Null, other) | (other, Null) => other.clone(),
        (Double, n) | (n, Double) if n.is_number() => Double,
        // PostgreSQL prefers double precision when a real meets an exact number.
        (Real, n) | (n, Real) if n.is_number() => {
            if n.is_integer() && *n == SmallInt {
                Real
            } else {
                Double
            }
        }
        (Numeric { .. }, n) | (n, Numeric { .. }) if n.is_number() => {
            let ((p, s), (q, t)) = (left.digits()?, right.digits()?);
            let scale = s.max(t);
            let whole = (i16::from(p) - i16::from(s)).max(i16::from(q) - i16::from(t));
            Numeric { precision: (whole + i16::from(scale)).clamp(1, 38) as u8, scale }
        }
        (BigInt, n) | (n, BigInt) if n.is_integer() => BigInt,
        (Integer, n) | (n, Integer) if n.is_integer() => Integer,
        (Row(l), Row(r)) if l.len() == r.len() => {
            let fields = l
                .iter()
                .zip(r)
                .map(|(l, r)| Some(RowField { name: l.name.clone(), sql_type: wider_type(&l.sql_type, &r.sql_type)? }));
            Row(fields.collect::<Option<_>>()?)
        }
        (Date, Timestamp) | (Timestamp, Date) => Timestamp,
        (Date | Timestamp, TimestampTz) | (TimestampTz, Date | Timestamp) => TimestampTz,
        _ => return None,
    })
}
