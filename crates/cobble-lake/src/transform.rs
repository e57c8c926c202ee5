//! How partition values are made of column values (table specification, "Partition Transforms"), and what a partition value says of the
//! column's values.

use std::fmt;

use cobble_format::prune::Range;
use cobble_plan::facts::plain;
use cobble_types::Value;

use crate::bounds::fewest;
use crate::schema::{Kind, Told};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transform {
    Identity,
    Bucket(u32),
    Truncate(u32),
    Year,
    Month,
    Day,
    Hour,
    /// Always null: what is left of a field that was removed from the partitioning.
    Void,
}

const MICROS_OF_HOUR: i64 = 3_600_000_000;
const MICROS_OF_DAY: i64 = 24 * MICROS_OF_HOUR;

impl fmt::Display for Transform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Transform::Identity => f.write_str("identity"),
            Transform::Bucket(buckets) => write!(f, "bucket[{buckets}]"),
            Transform::Truncate(width) => write!(f, "truncate[{width}]"),
            Transform::Year => f.write_str("year"),
            Transform::Month => f.write_str("month"),
            Transform::Day => f.write_str("day"),
            Transform::Hour => f.write_str("hour"),
            Transform::Void => f.write_str("void"),
        }
    }
}

impl Transform {
    /// Whether a column of this type can be partitioned so (table specification, "Partition Transforms").
    pub fn takes(self, source: &Kind) -> bool {
        let is_nested = matches!(source, Kind::Struct(_) | Kind::List(_) | Kind::Map { .. });
        let is_moment = matches!(source, Kind::Timestamp | Kind::TimestampTz);
        match self {
            Transform::Void => true,
            Transform::Identity => !is_nested,
            Transform::Bucket(_) => !is_nested && !matches!(source, Kind::Boolean | Kind::Float | Kind::Double),
            Transform::Truncate(_) => {
                matches!(source, Kind::Int | Kind::Long | Kind::Decimal { .. } | Kind::String | Kind::Binary)
            }
            Transform::Year | Transform::Month | Transform::Day => is_moment || *source == Kind::Date,
            Transform::Hour => is_moment,
        }
    }

    /// A partition value for people: `2025-07` of a month.
    pub fn words(self, value: &Value) -> String {
        let named = match (self, value) {
            (Transform::Year, Value::Integer(n)) => Some(format!("{}", 1970 + i64::from(*n))),
            (Transform::Month, Value::Integer(n)) => {
                Some(format!("{}-{:02}", 1970 + i64::from(*n).div_euclid(12), n.rem_euclid(12) + 1))
            }
            (Transform::Hour, Value::Integer(n)) => {
                let whole = plain(&Value::Timestamp(i64::from(*n) * MICROS_OF_HOUR));
                Some(whole.split(':').next().unwrap_or_default().to_owned())
            }
            _ => None,
        };
        named.unwrap_or_else(|| plain(value))
    }

    pub fn from_text(text: &str) -> Told<Transform> {
        let width = |name: &str| -> Option<u32> {
            let inner = text.strip_prefix(name)?.strip_prefix('[')?.strip_suffix(']')?;
            inner.trim().parse().ok().filter(|width| (1..=i32::MAX as u32).contains(width))
        };
        Ok(match text {
            "identity" => Transform::Identity,
            "year" => Transform::Year,
            "month" => Transform::Month,
            "day" => Transform::Day,
            "hour" => Transform::Hour,
            "void" => Transform::Void,
            _ => match (width("bucket"), width("truncate")) {
                (Some(buckets), _) => Transform::Bucket(buckets),
                (_, Some(width)) => Transform::Truncate(width),
                _ => return Err(format!("there is no transform {text}")),
            },
        })
    }

    /// The type of the partition values of a column.
    pub fn kind(self, source: &Kind) -> Kind {
        match self {
            Transform::Identity | Transform::Truncate(_) | Transform::Void => source.clone(),
            Transform::Bucket(_) | Transform::Year | Transform::Month | Transform::Hour => Kind::Int,
            Transform::Day => Kind::Date,
        }
    }

    /// The partition value of a column value; none where the transform does not take it.
    pub fn apply(self, value: &Value) -> Option<Value> {
        if value.is_null() {
            return Some(Value::Null);
        }
        let days = |value: &Value| match value {
            Value::Date(days) => Some(i64::from(*days)),
            Value::Timestamp(at) | Value::TimestampTz(at) => Some(at.div_euclid(MICROS_OF_DAY)),
            _ => None,
        };
        match self {
            Transform::Identity => Some(value.clone()),
            Transform::Void => Some(Value::Null),
            Transform::Bucket(buckets) => {
                let hash = hash(value)? & i32::MAX as u32;
                Some(Value::Integer((hash % buckets) as i32))
            }
            Transform::Truncate(width) => truncated(value, width),
            Transform::Year => Some(Value::Integer(i32::try_from(year_and_month(days(value)?).0 - 1970).ok()?)),
            Transform::Month => {
                let (year, month) = year_and_month(days(value)?);
                Some(Value::Integer(i32::try_from((year - 1970) * 12 + month - 1).ok()?))
            }
            Transform::Day => Some(Value::Date(i32::try_from(days(value)?).ok()?)),
            Transform::Hour => match value {
                Value::Timestamp(at) | Value::TimestampTz(at) => {
                    Some(Value::Integer(i32::try_from(at.div_euclid(MICROS_OF_HOUR)).ok()?))
                }
                _ => None,
            },
        }
    }

    /// What is known of the column's values where all partition values lie in a range. Buckets say nothing of it.
    pub fn source_range(self, source: &Kind, partition: &Range) -> Range {
        let unknown = Range { min: None, max: None, ..partition.clone() };
        if partition.all_null {
            // Of a void field every value is null, whatever the column's are.
            return if self == Transform::Void { Range { may_be_null: true, ..Range::default() } } else { unknown };
        }
        let (min, max) = match self {
            Transform::Identity => (partition.min.clone(), partition.max.clone()),
            Transform::Bucket(_) => (None, None),
            Transform::Void => return Range { may_be_null: true, ..Range::default() },
            Transform::Truncate(width) => {
                (partition.min.clone(), partition.max.as_ref().and_then(|max| last_truncated(max, width)))
            }
            Transform::Year | Transform::Month | Transform::Day | Transform::Hour => (
                partition.min.as_ref().and_then(|min| self.start(source, number(min)?)),
                partition.max.as_ref().and_then(|max| before(self.start(source, number(max)?.checked_add(1)?)?)),
            ),
        };
        Range { min, max, ..unknown }
    }

    /// The first moment of a year, month, day or hour, as a value of the column.
    fn start(self, source: &Kind, number: i64) -> Option<Value> {
        let days = match self {
            Transform::Year => days_before(number.checked_add(1970)?, 1)?,
            Transform::Month => {
                days_before(number.div_euclid(12).checked_add(1970)?, number.rem_euclid(12) as u32 + 1)?
            }
            Transform::Day => number,
            _ => {
                let at = number.checked_mul(MICROS_OF_HOUR)?;
                return moment(source, at);
            }
        };
        match source {
            Kind::Date => Some(Value::Date(i32::try_from(days).ok()?)),
            _ => moment(source, days.checked_mul(MICROS_OF_DAY)?),
        }
    }
}

fn moment(source: &Kind, at: i64) -> Option<Value> {
    match source {
        Kind::Timestamp => Some(Value::Timestamp(at)),
        Kind::TimestampTz => Some(Value::TimestampTz(at)),
        _ => None,
    }
}

/// The value just before.
fn before(value: Value) -> Option<Value> {
    Some(match value {
        Value::Date(days) => Value::Date(days.checked_sub(1)?),
        Value::Timestamp(at) => Value::Timestamp(at.checked_sub(1)?),
        Value::TimestampTz(at) => Value::TimestampTz(at.checked_sub(1)?),
        _ => return None,
    })
}

fn number(value: &Value) -> Option<i64> {
    match value {
        Value::Integer(n) | Value::Date(n) => Some(i64::from(*n)),
        _ => None,
    }
}

/// Year and month of a day, counted from 1970-01-01 (H. Hinnant, "chrono-Compatible Low-Level Date Algorithms").
fn year_and_month(days: i64) -> (i64, i64) {
    let shifted = days + 719_468;
    let (era, of_era) = (shifted.div_euclid(146_097), shifted.rem_euclid(146_097));
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let from_march = (5 * of_year + 2) / 153;
    let month = if from_march < 10 { from_march + 3 } else { from_march - 9 };
    (year_of_era + era * 400 + i64::from(month <= 2), month)
}

/// Days from 1970-01-01 to the first of a month (the same source).
fn days_before(year: i64, month: u32) -> Option<i64> {
    let month = i64::from(month);
    let year = if month <= 2 { year.checked_sub(1)? } else { year };
    let (era, of_era) = (year.div_euclid(400), year.rem_euclid(400));
    let of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5;
    let days = of_era * 365 + of_era / 4 - of_era / 100 + of_year;
    era.checked_mul(146_097)?.checked_add(days)?.checked_sub(719_468)
}

fn truncated(value: &Value, width: u32) -> Option<Value> {
    let wide = i64::from(width);
    Some(match value {
        Value::Integer(n) => {
            Value::Integer(i32::try_from(i64::from(*n).checked_sub(i64::from(*n).rem_euclid(wide))?).ok()?)
        }
        Value::BigInt(n) => Value::BigInt(n.checked_sub(n.rem_euclid(wide))?),
        Value::Numeric { unscaled, precision, scale } => Value::Numeric {
            unscaled: unscaled.checked_sub(unscaled.rem_euclid(i128::from(wide)))?,
            precision: *precision,
            scale: *scale,
        },
        Value::Text(text) => Value::Text(text.chars().take(width as usize).collect()),
        Value::Bytea(bytes) => Value::Bytea(bytes[..bytes.len().min(width as usize)].to_vec()),
        _ => return None,
    })
}

/// The greatest value that is truncated to this one; none where there is no greatest.
fn last_truncated(value: &Value, width: u32) -> Option<Value> {
    let more = i64::from(width) - 1;
    Some(match value {
        Value::Integer(n) => Value::Integer(i64::from(*n).checked_add(more)?.min(i32::MAX.into()) as i32),
        Value::BigInt(n) => Value::BigInt(n.saturating_add(more)),
        Value::Numeric { unscaled, precision, scale } => {
            Value::Numeric { unscaled: unscaled.checked_add(i128::from(more))?, precision: *precision, scale: *scale }
        }
        // One that is shorter than the width is whole.
        Value::Text(text) if text.chars().count() < width as usize => value.clone(),
        Value::Bytea(bytes) if bytes.len() < width as usize => value.clone(),
        // Whatever begins with it is less than what begins with the next one.
        Value::Text(text) => Value::Text(after(text)?),
        _ => return None,
    })
}

/// A text that is greater than all that begin with this one.
pub fn after(text: &str) -> Option<String> {
    let mut all: Vec<char> = text.chars().collect();
    while let Some(last) = all.pop() {
        let next = match last {
            '\u{d7ff}' => Some('\u{e000}'),
            other => char::from_u32(other as u32 + 1),
        };
        if let Some(next) = next {
            all.push(next);
            return Some(all.into_iter().collect());
        }
    }
    None
}

/// The 32-bit hash of a value (table specification, appendix B): MurmurHash3, x86, seed 0, over the value's bytes.
pub fn hash(value: &Value) -> Option<u32> {
    Some(match value {
        Value::Integer(n) | Value::Date(n) => murmur(&i64::from(*n).to_le_bytes()),
        Value::SmallInt(n) => murmur(&i64::from(*n).to_le_bytes()),
        Value::BigInt(n) | Value::Time(n) | Value::Timestamp(n) | Value::TimestampTz(n) => murmur(&n.to_le_bytes()),
        Value::Numeric { unscaled, .. } => murmur(&fewest(*unscaled)),
        Value::Text(text) => murmur(text.as_bytes()),
        Value::Bytea(bytes) => murmur(bytes),
        _ => return None,
    })
}

/// MurmurHash3_x86_32 of A. Appleby's reference code, in the public domain, with seed 0.
fn murmur(bytes: &[u8]) -> u32 {
    let mixed = |block: u32| block.wrapping_mul(0xcc9e_2d51).rotate_left(15).wrapping_mul(0x1b87_3593);
    let (blocks, rest) = bytes.as_chunks::<4>();
    let mut hash = blocks.iter().fold(0u32, |hash, block| {
        (hash ^ mixed(u32::from_le_bytes(*block))).rotate_left(13).wrapping_mul(5).wrapping_add(0xe654_6b64)
    });
    if !rest.is_empty() {
        let block = rest.iter().rev().fold(0u32, |block, byte| block << 8 | u32::from(*byte));
        hash ^= mixed(block);
    }
    hash ^= bytes.len() as u32;
    hash = (hash ^ hash >> 16).wrapping_mul(0x85eb_ca6b);
    hash = (hash ^ hash >> 13).wrapping_mul(0xc2b2_ae35);
    hash ^ hash >> 16
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The table of appendix B.
    #[test]
    fn hashes_are_those_of_the_specification() {
        let day = 17_486;
        let of_day = 81_068_000_000;
        let at = i64::from(day) * MICROS_OF_DAY + of_day;
        for (value, wanted) in [
            (Value::Integer(34), 2_017_239_379),
            (Value::BigInt(34), 2_017_239_379),
            (Value::Numeric { unscaled: 1420, precision: 9, scale: 2 }, -500_754_589),
            (Value::Date(day), -653_330_422),
            (Value::Time(of_day), -662_762_989),
            (Value::Timestamp(at), -2_047_944_441),
            (Value::Timestamp(at + 1), -1_207_196_810),
            (Value::Text("iceberg".into()), 1_210_000_089),
            (Value::Bytea(vec![0, 1, 2, 3]), -188_683_207),
        ] {
            assert_eq!(hash(&value).unwrap() as i32, wanted, "{value:?}");
        }
        let uuid = 0xf79c_3e09_677c_4bbd_a479_3f34_9cb7_85e7_u128.to_be_bytes();
        assert_eq!(murmur(&uuid) as i32, 1_488_055_340);
    }

    #[test]
    fn partition_values_bound_the_values_of_the_column() {
        let of = |text: &str| Transform::from_text(text).unwrap();
        let micros = |day: i64, of_day: i64| day * MICROS_OF_DAY + of_day;
        for (transform, kind, value, wanted) in [
            ("year", Kind::Date, Value::Date(-1), Value::Integer(-1)),
            ("year", Kind::Timestamp, Value::Timestamp(micros(20_270, 5)), Value::Integer(55)),
            ("month", Kind::Date, Value::Date(-1), Value::Integer(-1)),
            ("month", Kind::TimestampTz, Value::TimestampTz(micros(20_270, 5)), Value::Integer(666)),
            ("day", Kind::Timestamp, Value::Timestamp(-1), Value::Date(-1)),
            ("hour", Kind::Timestamp, Value::Timestamp(-1), Value::Integer(-1)),
            ("truncate[10]", Kind::Int, Value::Integer(-1), Value::Integer(-10)),
            ("truncate[10]", Kind::Long, Value::BigInt(19), Value::BigInt(10)),
            ("truncate[3]", Kind::String, Value::Text("Sørhavn".into()), Value::Text("Sør".into())),
            ("truncate[3]", Kind::String, Value::Text("ab".into()), Value::Text("ab".into())),
            ("identity", Kind::Boolean, Value::Boolean(true), Value::Boolean(true)),
        ] {
            let transform = of(transform);
            assert_eq!(transform.apply(&value), Some(wanted.clone()), "{transform:?}");
            let range = transform.source_range(&kind, &Range::single(wanted));
            let inside = |bound: &Option<Value>, wrong: std::cmp::Ordering| {
                bound.as_ref().is_some_and(|bound| bound.compare(&value).is_some_and(|order| order != wrong))
            };
            assert!(inside(&range.min, std::cmp::Ordering::Greater), "{transform:?} {range:?}");
            assert!(inside(&range.max, std::cmp::Ordering::Less), "{transform:?} {range:?}");
        }
        // The ends are as narrow as can be.
        let march = of("month").source_range(&Kind::Date, &Range::single(Value::Integer(662)));
        assert_eq!((march.min, march.max), (Some(Value::Date(20_148)), Some(Value::Date(20_178))));
        // Each month of four centuries begins where the one before has ended.
        for month in -2_400..2_400 {
            let own = of("month").source_range(&Kind::Date, &Range::single(Value::Integer(month)));
            let (Some(first), Some(Value::Date(last))) = (own.min, own.max) else { panic!("{month}") };
            assert_eq!(of("month").apply(&first), Some(Value::Integer(month)));
            assert_eq!(of("month").apply(&Value::Date(last)), Some(Value::Integer(month)));
            assert_eq!(of("month").apply(&Value::Date(last + 1)), Some(Value::Integer(month + 1)));
        }
        let bucket = of("bucket[16]").source_range(&Kind::Long, &Range::single(Value::Integer(3)));
        assert_eq!((bucket.min, bucket.max), (None, None));
        let void = of("void").source_range(&Kind::Long, &Range { all_null: true, ..Range::default() });
        assert!(!void.all_null && void.may_be_null, "it says nothing");
        for wrong in ["bucket", "bucket[0]", "bucket[-1]", "truncate[x]", "week"] {
            assert!(Transform::from_text(wrong).is_err(), "{wrong}");
        }
    }
}
