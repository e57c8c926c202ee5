//! Text to values, in the forms PostgreSQL accepts: the other direction of `text.rs`.

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta};

use crate::time_text::{TimeText, read_interval};
use crate::zone::{Zone, session_zone};
use crate::{Code, Error, Result, SqlType, Value};

fn invalid(kind: &str, text: &str) -> Error {
    let code = match kind {
        "date" | "time" | "timestamp" | "timestamptz" | "interval" => Code::InvalidTime,
        _ => Code::InvalidText,
    };
    Error::new(code, format!("\"{text}\" is not a valid {kind}"))
}

/// A UUID in the one form that compares, from any that PostgreSQL takes.
pub fn parse_uuid(text: &str) -> Result<String> {
    let digits: String = text.trim().trim_matches(['{', '}']).chars().filter(|c| *c != '-').collect();
    if digits.len() != 32 || !digits.chars().all(|c| c.is_ascii_hexdigit()) {
        return Err(invalid("uuid", text));
    }
    let d = digits.to_lowercase();
    Ok([&d[..8], &d[8..12], &d[12..16], &d[16..20], &d[20..]].join("-"))
}

/// Turns text into a value of the type, as a cast from text does. Blanks around it are ignored except for text itself.
pub fn parse_value(text: &str, sql_type: &SqlType) -> Result<Value> {
    let trimmed = text.trim();
    let bad = || invalid(&sql_type.to_string(), text);
    let in_range = |number: Result<i64>, low: i64, high: i64| {
        let number = number?;
        if (low..=high).contains(&number) {
            Ok(number)
        } else {
            Err(Error::new(Code::Overflow, format!("\"{trimmed}\" is out of the range of {sql_type}")))
        }
    };
    let integer = || {
        trimmed.parse::<i64>().map_err(|e| match e.kind() {
            std::num::IntErrorKind::PosOverflow | std::num::IntErrorKind::NegOverflow => {
                Error::new(Code::Overflow, format!("\"{trimmed}\" is out of the range of {sql_type}"))
            }
            _ => bad(),
        })
    };
    Ok(match sql_type {
        SqlType::Null | SqlType::Text | SqlType::Json => Value::Text(text.to_owned()),
        SqlType::Uuid => Value::Text(parse_uuid(text)?),
        SqlType::Boolean => Value::Boolean(parse_boolean(trimmed).ok_or_else(bad)?),
        SqlType::SmallInt => Value::SmallInt(in_range(integer(), i16::MIN.into(), i16::MAX.into())? as i16),
        SqlType::Integer => Value::Integer(in_range(integer(), i32::MIN.into(), i32::MAX.into())? as i32),
        SqlType::BigInt => Value::BigInt(integer()?),
        SqlType::Real => Value::Real(parse_float(trimmed).ok_or_else(bad)? as f32),
        SqlType::Double => Value::Double(parse_float(trimmed).ok_or_else(bad)?),
        SqlType::Numeric { precision, scale } => {
            let (unscaled, own_scale) = parse_decimal(trimmed).ok_or_else(bad)?;
            let unscaled = rescale_decimal(unscaled, own_scale, *scale)
                .filter(|n| n.unsigned_abs() < 10u128.pow(u32::from(*precision)))
                .ok_or_else(|| {
                    Error::new(Code::Overflow, format!("\"{trimmed}\" is out of the range of {sql_type}"))
                })?;
            Value::Numeric { unscaled, precision: *precision, scale: *scale }
        }
        SqlType::Bytea => Value::Bytea(parse_bytes(text).ok_or_else(bad)?),
        // The usual forms first: most texts have them.
        SqlType::Date => Value::Date(match parse_date(trimmed) {
            Some(day) => day,
            None => TimeText::read(trimmed, "date")?.date.ok_or_else(bad)?,
        }),
        SqlType::Time => Value::Time(match parse_time(trimmed) {
            Some(time) => time,
            None => TimeText::read(trimmed, "time")?.time.ok_or_else(bad)?,
        }),
        SqlType::Timestamp => Value::Timestamp(match parse_timestamp(trimmed) {
            Some((clock, _)) => clock,
            None => TimeText::read(trimmed, "timestamp")?.clock().ok_or_else(bad)?,
        }),
        SqlType::TimestampTz => Value::TimestampTz(read_moment(trimmed, session_zone())?),
        SqlType::Interval => {
            let (months, days, microseconds) = read_interval(trimmed)?;
            Value::Interval { months, days, microseconds }
        }
        SqlType::Array(_) | SqlType::Row(_) => {
            return Err(Error::unsupported(format_args!("turning text into {sql_type}")));
        }
    })
}

fn parse_boolean(text: &str) -> Option<bool> {
    match text.to_ascii_lowercase().as_str() {
        "t" | "true" | "y" | "yes" | "on" | "1" => Some(true),
        "f" | "false" | "n" | "no" | "off" | "0" => Some(false),
        _ => None,
    }
}

fn parse_float(text: &str) -> Option<f64> {
    match text.to_ascii_lowercase().as_str() {
        "nan" => Some(f64::NAN),
        "infinity" | "inf" => Some(f64::INFINITY),
        "-infinity" | "-inf" => Some(f64::NEG_INFINITY),
        plain if plain.starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c)) => plain.parse().ok(),
        _ => None,
    }
}

/// Digits without the point, and how many stood after it; an exponent is allowed.
pub fn parse_decimal(text: &str) -> Option<(i128, i8)> {
    let (mantissa, exponent) = match text.find(['e', 'E']) {
        Some(at) => (&text[..at], text[at + 1..].parse::<i32>().ok()?),
        None => (text, 0),
    };
    let (negative, digits) = match mantissa.as_bytes().first()? {
        b'-' => (true, &mantissa[1..]),
        b'+' => (false, &mantissa[1..]),
        _ => (false, mantissa),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    if (whole.is_empty() && fraction.is_empty()) || !whole.bytes().chain(fraction.bytes()).all(|b| b.is_ascii_digit()) {
        return None;
    }
    let mut unscaled: i128 = 0;
    for digit in whole.bytes().chain(fraction.bytes()) {
        unscaled = unscaled.checked_mul(10)?.checked_add(i128::from(digit - b'0'))?;
    }
    let mut scale = i32::try_from(fraction.len()).ok()? - exponent;
    while scale < 0 {
        unscaled = unscaled.checked_mul(10)?;
        scale += 1;
    }
    Some((if negative { -unscaled } else { unscaled }, i8::try_from(scale).ok().filter(|s| *s <= 38)?))
}

/// The same number with another count of digits after the point, rounded half away from zero; `None` on overflow.
pub fn rescale_decimal(unscaled: i128, from: i8, to: i8) -> Option<i128> {
    let shift = i32::from(to) - i32::from(from);
    if shift >= 0 {
        return unscaled.checked_mul(10i128.checked_pow(shift.unsigned_abs())?);
    }
    let Some(divisor) = 10i128.checked_pow(shift.unsigned_abs()) else { return Some(0) };
    let (quotient, rest) = (unscaled / divisor, unscaled % divisor);
    let away = rest.unsigned_abs() >= divisor.unsigned_abs().div_ceil(2);
    Some(quotient + if away { unscaled.signum() } else { 0 })
}

fn parse_bytes(text: &str) -> Option<Vec<u8>> {
    match text.strip_prefix("\\x") {
        Some(hex) => {
            let digits: Vec<char> = hex.chars().filter(|c| !c.is_ascii_whitespace()).collect();
            let pair = |pair: &[char]| match pair {
                [high, low] => Some((high.to_digit(16)? * 16 + low.to_digit(16)?) as u8),
                _ => None,
            };
            digits.chunks(2).map(pair).collect()
        }
        None => parse_escaped(text),
    }
}

/// A byte string in the escape form: a backslash before another one, or before three octal digits (PostgreSQL manual 8.4.2).
pub fn parse_escaped(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        if *first != b'\\' {
            out.push(*first);
            rest = after;
        } else if after.first() == Some(&b'\\') {
            out.push(b'\\');
            rest = &after[1..];
        } else {
            let digits = after.get(..3)?;
            let octal = digits.iter().try_fold(0u32, |sum, d| Some(sum * 8 + char::from(*d).to_digit(8)?))?;
            out.push(u8::try_from(octal).ok()?);
            rest = &after[3..];
        }
    }
    Some(out)
}

/// Days since 1970-01-01 from `YYYY-MM-DD`, `YYYY/MM/DD` or `YYYYMMDD`; a time after it is cut off, as PostgreSQL does.
pub fn parse_date(text: &str) -> Option<i32> {
    let day = text.split([' ', 'T']).next()?;
    // Fewer digits are no year yet: 01/02/03 begins with its month.
    if day.bytes().take_while(u8::is_ascii_digit).count() < 4 {
        return None;
    }
    let date = ["%Y-%m-%d", "%Y/%m/%d", "%Y%m%d"].iter().find_map(|form| NaiveDate::parse_from_str(day, form).ok())?;
    if day.len() < text.len() && parse_timestamp(text).is_none() {
        return None;
    }
    Some(date.num_days_from_ce() - 719_163)
}

fn parse_time(text: &str) -> Option<i64> {
    // More than six digits after the point are rounded, which the general way does.
    if text.len() > 15 {
        return None;
    }
    let time = ["%H:%M:%S%.f", "%H:%M"].iter().find_map(|form| NaiveTime::parse_from_str(text, form).ok())?;
    (time - NaiveTime::MIN).num_microseconds()
}

/// A moment, read in this zone where the text names none.
pub fn read_moment(text: &str, zone: Zone) -> Result<i64> {
    let bad = || invalid("timestamptz", text);
    let Some((clock, offset)) = parse_timestamp(text) else {
        return TimeText::read(text, "timestamptz")?.moment(zone).ok_or_else(bad);
    };
    match offset {
        Some(offset) => Some(clock - offset),
        None => zone.moment(clock),
    }
    .ok_or_else(bad)
}

/// Microseconds since 1970-01-01 as written, and the zone's offset in microseconds when one was written.
pub fn parse_timestamp(text: &str) -> Option<(i64, Option<i64>)> {
    let text = text.trim();
    // A zone is a name at the end, starts at a sign after the time of day, or is the letter Z.
    if let Some((body, name)) = text.rsplit_once(' ')
        && name.starts_with(|c: char| c.is_ascii_alphabetic())
    {
        let (clock, None) = parse_timestamp(body)? else { return None };
        return Some((clock, Some(clock - Zone::parse(name).ok()?.moment(clock)?)));
    }
    let time_start = text.find([' ', 'T']).map_or(text.len(), |at| at + 1);
    let zone_start = text[time_start..].find(['+', '-', 'Z', 'z']).map(|at| at + time_start);
    let (body, zone) = zone_start.map_or((text, None), |at| (text[..at].trim_end(), Some(&text[at..])));
    let offset = match zone {
        None => None,
        Some("Z" | "z") => Some(0),
        Some(zone) => Some(parse_offset(zone)?),
    };
    let forms = ["%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M"];
    if body.split_once('.').is_some_and(|(_, fraction)| fraction.len() > 6) {
        return None;
    }
    let at = forms
        .iter()
        .find_map(|form| NaiveDateTime::parse_from_str(body, form).ok())
        .or_else(|| NaiveDate::parse_from_str(body, "%Y-%m-%d").ok()?.and_hms_opt(0, 0, 0))?;
    Some((at.and_utc().timestamp_micros(), offset))
}

fn parse_offset(zone: &str) -> Option<i64> {
    let sign = if zone.starts_with('-') { -1 } else { 1 };
    let digits: String = zone[1..].chars().filter(|c| *c != ':').collect();
    let number = |range: &str| range.parse::<i64>().ok();
    let (hours, minutes) = match digits.len() {
        1 | 2 => (number(&digits)?, 0),
        4 => (number(&digits[..2])?, number(&digits[2..])?),
        _ => return None,
    };
    Some(sign * (hours * 60 + minutes) * 60_000_000)
}

/// Adds months the way PostgreSQL does: the day of month is kept, or becomes the last of a shorter month.
pub fn add_interval(micros: i64, months: i32, days: i32, microseconds: i64) -> Option<i64> {
    let at = DateTime::from_timestamp_micros(micros)?.naive_utc();
    let moved = if months >= 0 {
        at.checked_add_months(chrono::Months::new(months.unsigned_abs()))?
    } else {
        at.checked_sub_months(chrono::Months::new(months.unsigned_abs()))?
    };
    let moved = moved.checked_add_signed(TimeDelta::days(i64::from(days)))?;
    moved.and_utc().timestamp_micros().checked_add(microseconds)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_becomes_values_as_in_postgresql() {
        for (text, sql_type, shown) in [
            ("12", SqlType::Integer, "12"),
            (" 12 ", SqlType::BigInt, "12"),
            ("1.005", SqlType::Numeric { precision: 8, scale: 2 }, "1.01"),
            ("-1.005", SqlType::Numeric { precision: 8, scale: 2 }, "-1.01"),
            ("1e3", SqlType::Numeric { precision: 8, scale: 0 }, "1000"),
            ("yes", SqlType::Boolean, "true"),
            ("2025-07-01", SqlType::Date, "date '2025-07-01'"),
            ("2025-07-01T09:30Z", SqlType::TimestampTz, "timestamptz '2025-07-01 09:30:00+00'"),
            ("2025-07-01 09:30:00.25+02", SqlType::TimestampTz, "timestamptz '2025-07-01 07:30:00.25+00'"),
            ("2025-07-01 09:30", SqlType::Timestamp, "timestamp '2025-07-01 09:30:00'"),
            ("1 year 2 mons 3 days 04:05:06", SqlType::Interval, "interval '1 year 2 mons 3 days 04:05:06'"),
            ("90 minutes", SqlType::Interval, "interval '01:30:00'"),
            ("\\x0aff", SqlType::Bytea, "'\\x0aff'"),
        ] {
            assert_eq!(parse_value(text, &sql_type).unwrap().to_string(), shown, "{text}");
        }
    }

    #[test]
    fn text_that_is_no_value_is_refused_with_the_type() {
        for (text, sql_type, part) in [
            ("twelve", SqlType::Integer, "\"twelve\" is not a valid integer"),
            ("70000", SqlType::SmallInt, "out of the range of smallint"),
            ("99999999999999999999", SqlType::BigInt, "out of the range of bigint"),
            ("2025-02-30", SqlType::Date, "not a valid date: there is no such day"),
            ("1000000.00", SqlType::Numeric { precision: 8, scale: 2 }, "out of the range of numeric(8,2)"),
            ("", SqlType::Double, "not a valid double precision"),
        ] {
            let error = parse_value(text, &sql_type).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
    }

    #[test]
    fn months_are_added_by_the_calendar() {
        let at = parse_timestamp("2025-01-31").unwrap().0;
        assert_eq!(crate::write_timestamp(add_interval(at, 1, 0, 0).unwrap()), "2025-02-28 00:00:00");
        assert_eq!(crate::write_timestamp(add_interval(at, -11, 1, 1_000_000).unwrap()), "2024-03-01 00:00:01");
    }
}
