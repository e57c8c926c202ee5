//! Least and greatest values as manifests write them (table specification, appendix D, "Binary single-value serialization").

use cobble_types::Value;

use crate::schema::Kind;

/// A bound of a column of this type; none where the bytes are none of it. Values of a narrower type that the column has had are widened.
pub fn value(kind: &Kind, bytes: &[u8]) -> Option<Value> {
    let four = || bytes.try_into().ok().map(i32::from_le_bytes);
    let eight = || bytes.try_into().ok().map(i64::from_le_bytes);
    Some(match kind {
        Kind::Boolean => Value::Boolean(*bytes.first()? != 0),
        Kind::Int => Value::Integer(four()?),
        Kind::Long => Value::BigInt(eight().or_else(|| four().map(i64::from))?),
        Kind::Float => Value::Real(f32::from_le_bytes(bytes.try_into().ok()?)),
        Kind::Double => Value::Double(match bytes.len() {
            4 => f32::from_le_bytes(bytes.try_into().ok()?).into(),
            _ => f64::from_le_bytes(bytes.try_into().ok()?),
        }),
        Kind::Decimal { precision, scale } => {
            Value::Numeric { unscaled: unscaled(bytes)?, precision: *precision, scale: *scale }
        }
        Kind::Date => Value::Date(four()?),
        Kind::Time => Value::Time(eight()?),
        Kind::Timestamp => Value::Timestamp(eight()?),
        Kind::TimestampTz => Value::TimestampTz(eight()?),
        Kind::String => Value::Text(std::str::from_utf8(bytes).ok()?.to_owned()),
        Kind::Uuid => Value::Text(uuid(bytes)?),
        Kind::Fixed(_) | Kind::Binary => Value::Bytea(bytes.to_vec()),
        Kind::Struct(_) | Kind::List(_) | Kind::Map { .. } => return None,
    })
}

/// A bound as it is written; none of a value that is no bound of such a column.
pub fn bytes(kind: &Kind, value: &Value) -> Option<Vec<u8>> {
    Some(match (kind, value) {
        (Kind::Boolean, Value::Boolean(own)) => vec![u8::from(*own)],
        (Kind::Int, Value::Integer(n)) | (Kind::Date, Value::Date(n)) => n.to_le_bytes().to_vec(),
        (Kind::Long, Value::BigInt(n))
        | (Kind::Time, Value::Time(n))
        | (Kind::Timestamp, Value::Timestamp(n))
        | (Kind::TimestampTz, Value::TimestampTz(n)) => n.to_le_bytes().to_vec(),
        (Kind::Float, Value::Real(n)) => n.to_le_bytes().to_vec(),
        (Kind::Double, Value::Double(n)) => n.to_le_bytes().to_vec(),
        (Kind::Decimal { .. }, Value::Numeric { unscaled, .. }) => fewest(*unscaled),
        (Kind::String, Value::Text(text)) => text.as_bytes().to_vec(),
        (Kind::Uuid, Value::Text(text)) => uuid_bytes(text)?.to_vec(),
        (Kind::Fixed(_) | Kind::Binary, Value::Bytea(bytes)) => bytes.clone(),
        _ => return None,
    })
}

/// As few bytes as hold a whole number with its sign, the most significant first.
pub fn fewest(unscaled: i128) -> Vec<u8> {
    let bytes = unscaled.to_be_bytes();
    let filler = if unscaled < 0 { 0xff } else { 0 };
    let mut start = 0;
    while start < 15 && bytes[start] == filler && (bytes[start + 1] ^ filler) & 0x80 == 0 {
        start += 1;
    }
    bytes[start..].to_vec()
}

/// The 16 bytes of such a text.
pub fn uuid_bytes(text: &str) -> Option<[u8; 16]> {
    let digits: String = text.chars().filter(|c| *c != '-').collect();
    let number = u128::from_str_radix(&digits, 16).ok().filter(|_| digits.len() == 32)?;
    Some(number.to_be_bytes())
}

/// A whole number in two's complement, the most significant byte first.
pub fn unscaled(bytes: &[u8]) -> Option<i128> {
    let first = *bytes.first().filter(|_| bytes.len() <= 16)?;
    let start = if first & 0x80 == 0 { 0 } else { -1 };
    Some(bytes.iter().fold(start, |number: i128, byte| number << 8 | i128::from(*byte)))
}

/// The text form of 16 bytes (RFC 9562, section 4).
pub fn uuid(bytes: &[u8]) -> Option<String> {
    let number = u128::from_be_bytes(bytes.try_into().ok()?);
    let digits = format!("{number:032x}");
    Some([&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bounds_are_read_by_the_type_of_the_column() {
        let decimal = Kind::Decimal { precision: 9, scale: 2 };
        let numeric = |unscaled| Value::Numeric { unscaled, precision: 9, scale: 2 };
        for (kind, bytes, wanted) in [
            (Kind::Boolean, &[1][..], Value::Boolean(true)),
            (Kind::Int, &[0xfe, 0xff, 0xff, 0xff], Value::Integer(-2)),
            (Kind::Long, &[0xfe, 0xff, 0xff, 0xff], Value::BigInt(-2)),
            (Kind::Double, &[0, 0, 0x80, 0x3f], Value::Double(1.0)),
            (decimal.clone(), &[0x05, 0x8c], numeric(1420)),
            (decimal.clone(), &[0xff], numeric(-1)),
            (Kind::String, "Sør".as_bytes(), Value::Text("Sør".into())),
            (Kind::Uuid, &[0x11; 16], Value::Text("11111111-1111-1111-1111-111111111111".into())),
            (Kind::Binary, &[], Value::Bytea(vec![])),
        ] {
            assert_eq!(value(&kind, bytes), Some(wanted.clone()), "{kind:?}");
            // A value of a narrower type comes back in its own.
            let back = super::bytes(&kind, &wanted).unwrap();
            assert_eq!(value(&kind, &back), Some(wanted), "{kind:?}");
        }
        for (kind, bytes) in [
            (Kind::Int, &[1, 2][..]),
            (Kind::String, &[0xff]),
            (Kind::Uuid, &[1]),
            (decimal.clone(), &[]),
            (decimal, &[1; 17]),
            (Kind::Boolean, &[]),
            (Kind::Struct(vec![]), &[1]),
        ] {
            assert_eq!(value(&kind, bytes), None, "{kind:?}");
        }
    }
}
