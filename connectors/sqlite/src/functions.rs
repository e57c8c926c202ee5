//! Functions and arithmetic that SQLite lacks or defines differently. SQLite runs in our process, so its statements can call these functions, which run
//! the engine's own code.

use std::borrow::Cow;

use cobble_functions::Function;
use cobble_plan::expr::BinaryOp;
use cobble_types::characters::{initcap, left, pad, right, split_part, substring};
use cobble_types::parse::parse_date;
use cobble_types::{Code, Error, Result, SqlType, time_parts};
use rusqlite::Connection;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::{Value, ValueRef};

use super::guard;

/// Longest text that is made there; the engine makes longer ones.
const LONGEST: usize = 1 << 20;

/// What stands for a call of one of the engine's functions, when it is lent.
pub fn lent(function: Function) -> Option<&'static str> {
    use Function as F;
    Some(match function {
        F::Lower => "cobble_lower",
        F::Upper => "cobble_upper",
        F::InitCap => "cobble_initcap",
        F::Reverse => "cobble_reverse",
        F::Length => "cobble_length",
        F::OctetLength => "cobble_octet_length",
        F::BitLength => "cobble_bit_length",
        F::Ascii => "cobble_ascii",
        F::Substring => "cobble_substring",
        F::Left => "cobble_left",
        F::Right => "cobble_right",
        F::Trim => "cobble_btrim",
        F::TrimStart => "cobble_ltrim",
        F::TrimEnd => "cobble_rtrim",
        F::Replace => "cobble_replace",
        F::SplitPart => "cobble_split_part",
        F::PadStart => "cobble_lpad",
        F::PadEnd => "cobble_rpad",
        F::Position => "cobble_strpos",
        F::StartsWith => "cobble_starts_with",
        F::Greatest => "cobble_greatest",
        F::Least => "cobble_least",
        F::Concat => "cobble_concat",
        F::ConcatWs => "cobble_concat_ws",
        F::DatePart => "cobble_date_part",
        _ => return None,
    })
}

/// What stands for arithmetic of whole numbers, before the operands and the bits of the result's type.
pub fn arithmetic(op: BinaryOp) -> Option<&'static str> {
    Some(match op {
        BinaryOp::Plus => "cobble_plus",
        BinaryOp::Minus => "cobble_minus",
        BinaryOp::Times => "cobble_times",
        BinaryOp::Divide => "cobble_divide",
        BinaryOp::Modulo => "cobble_modulo",
        _ => return None,
    })
}

/// The bits of a whole number of this type.
pub fn bits(sql_type: &SqlType) -> Option<u8> {
    match sql_type {
        SqlType::SmallInt => Some(16),
        SqlType::Integer => Some(32),
        SqlType::BigInt => Some(64),
        _ => None,
    }
}

/// The arguments of a call.
struct Arguments<'a, 'c>(&'a Context<'c>);

impl<'a> Arguments<'a, '_> {
    fn value(&self, place: usize) -> Option<ValueRef<'a>> {
        (place < self.0.len()).then(|| self.0.get_raw(place)).filter(|value| *value != ValueRef::Null)
    }

    fn text(&self, place: usize) -> Result<Option<&'a str>> {
        match self.value(place) {
            None => Ok(None),
            Some(ValueRef::Text(text)) => std::str::from_utf8(text)
                .map(Some)
                .map_err(|_| Error::new(Code::SourceData, "it holds text that is not UTF-8")),
            Some(_) => Err(Error::internal("a text function of something else")),
        }
    }

    fn whole(&self, place: usize) -> Result<Option<i64>> {
        match self.value(place) {
            None => Ok(None),
            Some(ValueRef::Integer(v)) => Ok(Some(v)),
            Some(_) => Err(Error::internal("a function of whole numbers of something else")),
        }
    }

    fn small(&self, place: usize) -> Result<Option<i32>> {
        self.whole(place)?.map(|v| i32::try_from(v).map_err(|_| out_of_range())).transpose()
    }

    fn day(&self, place: usize) -> Result<Option<i32>> {
        let Some(text) = self.text(place)? else { return Ok(None) };
        parse_date(text).map(Some).ok_or_else(|| Error::internal("a function of dates of something else"))
    }

    fn texts(&self, from: usize) -> Result<Vec<&'a str>> {
        (from..self.0.len()).filter_map(|place| self.text(place).transpose()).collect()
    }
}

fn out_of_range() -> Error {
    Error::new(Code::Overflow, "the result of a calculation is out of the range of its type")
}

type Outcome = Result<Option<Value>>;
type Body = fn(&Arguments<'_, '_>) -> Outcome;

fn text(value: impl Into<String>) -> Outcome {
    let value = value.into();
    if value.len() > LONGEST {
        return Err(Error::new(Code::InvalidValue, "the text made in SQLite would be larger than 1 MiB")
            .hint("SET planner.off = 'push-filters,offer-aggregates' lets the engine make it"));
    }
    Ok(Some(Value::Text(value)))
}

fn whole(value: usize) -> Outcome {
    Ok(Some(Value::Integer(value as i64)))
}

/// The given arguments, or null as soon as one of them is.
macro_rules! given {
    ($($value:expr),+) => {
        ($(match $value? { Some(value) => value, None => return Ok(None) },)+)
    };
}

fn trimmed(a: &Arguments<'_, '_>, cut: for<'t> fn(&'t str, &str) -> &'t str) -> Outcome {
    let (s,) = given!(a.text(0));
    let set = if a.0.len() > 1 { given!(a.text(1)).0 } else { " " };
    text(cut(s, set))
}

fn padded(a: &Arguments<'_, '_>, at_start: bool) -> Outcome {
    let (s, length) = given!(a.text(0), a.small(1));
    let fill = if a.0.len() > 2 { given!(a.text(2)).0 } else { " " };
    if length > LONGEST as i32 {
        return text(" ".repeat(LONGEST + 1));
    }
    text(pad(s, length, fill, at_start))
}

/// The first or the last of the arguments in their order; nulls do not count.
fn extreme(a: &Arguments<'_, '_>, wanted: std::cmp::Ordering) -> Outcome {
    let mut best: Option<ValueRef<'_>> = None;
    for value in (0..a.0.len()).filter_map(|place| a.value(place)) {
        let order = match (value, best) {
            (_, None) => wanted,
            (ValueRef::Integer(value), Some(ValueRef::Integer(best))) => value.cmp(&best),
            (ValueRef::Text(value), Some(ValueRef::Text(best))) => value.cmp(best),
            _ => return Err(Error::internal("values of different types are compared")),
        };
        if order == wanted {
            best = Some(value);
        }
    }
    best.map(|value| Value::try_from(value).map_err(|e| Error::internal(e.to_string()))).transpose()
}

fn computed(a: &Arguments<'_, '_>, f: fn(i64, i64) -> Option<i64>) -> Outcome {
    let (left, right, bits) = given!(a.whole(0), a.whole(1), a.whole(2));
    ranged(f(left, right), bits)
}

fn ranged(value: Option<i64>, bits: i64) -> Outcome {
    let fits = |value: &i64| match bits {
        16 => i16::try_from(*value).is_ok(),
        32 => i32::try_from(*value).is_ok(),
        _ => true,
    };
    value.filter(fits).map(|value| Some(Value::Integer(value))).ok_or_else(out_of_range)
}

fn divided(a: &Arguments<'_, '_>, f: fn(i64, i64) -> Option<i64>) -> Outcome {
    let (_, right, _) = given!(a.whole(0), a.whole(1), a.whole(2));
    if right == 0 {
        return Err(Error::new(Code::DivisionByZero, "division by zero"));
    }
    computed(a, f)
}

/// Name, the numbers of arguments that it takes (`-1`: any number), and what it gives.
const ALL: &[(&str, &[i32], Body)] = &[
    ("cobble_lower", &[1], |a| text(given!(a.text(0)).0.to_lowercase())),
    ("cobble_upper", &[1], |a| text(given!(a.text(0)).0.to_uppercase())),
    ("cobble_initcap", &[1], |a| text(initcap(given!(a.text(0)).0))),
    ("cobble_reverse", &[1], |a| text(given!(a.text(0)).0.chars().rev().collect::<String>())),
    ("cobble_length", &[1], |a| whole(given!(a.text(0)).0.chars().count())),
    ("cobble_octet_length", &[1], |a| whole(given!(a.text(0)).0.len())),
    ("cobble_bit_length", &[1], |a| whole(given!(a.text(0)).0.len() * 8)),
    ("cobble_ascii", &[1], |a| whole(given!(a.text(0)).0.chars().next().map_or(0, |c| c as usize))),
    ("cobble_substring", &[2, 3], |a| {
        let (s, start) = given!(a.text(0), a.small(1));
        let count = if a.0.len() > 2 { Some(given!(a.small(2)).0) } else { None };
        text(substring(s, start, count)?)
    }),
    ("cobble_left", &[2], |a| {
        let (s, n) = given!(a.text(0), a.small(1));
        text(left(s, n))
    }),
    ("cobble_right", &[2], |a| {
        let (s, n) = given!(a.text(0), a.small(1));
        text(right(s, n))
    }),
    ("cobble_btrim", &[1, 2], |a| trimmed(a, |s, set| s.trim_matches(|c| set.contains(c)))),
    ("cobble_ltrim", &[1, 2], |a| trimmed(a, |s, set| s.trim_start_matches(|c| set.contains(c)))),
    ("cobble_rtrim", &[1, 2], |a| trimmed(a, |s, set| s.trim_end_matches(|c| set.contains(c)))),
    ("cobble_replace", &[3], |a| {
        let (s, from, to) = given!(a.text(0), a.text(1), a.text(2));
        text(if from.is_empty() { Cow::Borrowed(s) } else { Cow::Owned(s.replace(from, to)) })
    }),
    ("cobble_split_part", &[3], |a| {
        let (s, separator, n) = given!(a.text(0), a.text(1), a.small(2));
        text(split_part(s, separator, n)?)
    }),
    ("cobble_lpad", &[2, 3], |a| padded(a, true)),
    ("cobble_rpad", &[2, 3], |a| padded(a, false)),
    ("cobble_strpos", &[2], |a| {
        let (s, part) = given!(a.text(0), a.text(1));
        whole(s.find(part).map_or(0, |at| s[..at].chars().count() + 1))
    }),
    ("cobble_starts_with", &[2], |a| {
        let (s, prefix) = given!(a.text(0), a.text(1));
        Ok(Some(Value::Integer(s.starts_with(prefix).into())))
    }),
    ("cobble_concat", &[-1], |a| text(a.texts(0)?.concat())),
    ("cobble_concat_ws", &[-1], |a| {
        let (separator,) = given!(a.text(0));
        text(a.texts(1)?.join(separator))
    }),
    ("cobble_greatest", &[-1], |a| extreme(a, std::cmp::Ordering::Greater)),
    ("cobble_least", &[-1], |a| extreme(a, std::cmp::Ordering::Less)),
    ("cobble_date_part", &[2], |a| {
        let (part, day) = given!(a.text(0), a.day(1));
        let found = time_parts::date_part(part, i64::from(day) * 86_400_000_000);
        Ok(found.and_then(|v| i64::try_from(v).ok()).map(Value::Integer))
    }),
    ("cobble_days_between", &[2], |a| {
        let (left, right) = given!(a.day(0), a.day(1));
        ranged(Some(i64::from(left) - i64::from(right)), 32)
    }),
    ("cobble_abs", &[2], |a| {
        let (value, bits) = given!(a.whole(0), a.whole(1));
        ranged(value.checked_abs(), bits)
    }),
    ("cobble_plus", &[3], |a| computed(a, i64::checked_add)),
    ("cobble_minus", &[3], |a| computed(a, i64::checked_sub)),
    ("cobble_times", &[3], |a| computed(a, i64::checked_mul)),
    ("cobble_divide", &[3], |a| divided(a, i64::checked_div)),
    ("cobble_modulo", &[3], |a| divided(a, |left, right| Some(left.wrapping_rem(right)))),
];

pub fn install(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    for (name, counts, body) in ALL {
        for count in *counts {
            connection.create_scalar_function(*name, *count, flags, move |context| {
                body(&Arguments(context)).map_err(guard::as_failure)
            })?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn value(sql: &str) -> std::result::Result<Value, String> {
        let connection = Connection::open_in_memory().unwrap();
        install(&connection).unwrap();
        connection.query_row(&format!("SELECT {sql}"), [], |row| row.get(0)).map_err(|e| e.to_string())
    }

    #[test]
    fn results_leave_no_range_in_silence() {
        for (sql, wanted) in [
            ("cobble_plus(1, 2, 64)", Ok(3)),
            ("cobble_plus(32767, 1, 16)", Err("overflow")),
            ("cobble_plus(32767, 1, 32)", Ok(32768)),
            ("cobble_times(2147483647, 2, 32)", Err("overflow")),
            ("cobble_minus(-9223372036854775807, 2, 64)", Err("overflow")),
            ("cobble_divide(7, -2, 64)", Ok(-3)),
            ("cobble_divide(7, 0, 64)", Err("division_by_zero")),
            ("cobble_modulo(-7, 3, 32)", Ok(-1)),
            ("cobble_modulo(7, 0, 32)", Err("division_by_zero")),
            ("cobble_abs(-128, 16)", Ok(128)),
            ("cobble_abs(-32768, 16)", Err("overflow")),
            ("cobble_length('Île Verte')", Ok(9)),
            ("cobble_octet_length('Île')", Ok(4)),
            ("cobble_strpos('Île Verte', 'Verte')", Ok(5)),
            ("cobble_date_part('year', '2025-07-01')", Ok(2025)),
            ("cobble_date_part('dow', '2025-07-01')", Ok(2)),
            ("cobble_days_between('2025-07-01', '2024-07-01')", Ok(365)),
            ("cobble_greatest(3, NULL, 7)", Ok(7)),
            ("cobble_least(3, NULL, 7)", Ok(3)),
            ("cobble_substring('a', 1, -1)", Err("substring_length")),
        ] {
            match wanted {
                Ok(wanted) => assert_eq!(value(sql), Ok(Value::Integer(wanted)), "{sql}"),
                Err(word) => assert!(value(sql).unwrap_err().contains(word), "{sql}"),
            }
        }
        for sql in
            ["cobble_plus(NULL, 1, 64)", "cobble_upper(NULL)", "cobble_greatest(NULL, NULL)", "cobble_btrim('a', NULL)"]
        {
            assert_eq!(value(sql), Ok(Value::Null), "{sql}");
        }
    }

    #[test]
    fn texts_are_cut_and_filled_as_by_the_engine() {
        for (sql, wanted) in [
            ("cobble_upper('straße')", "STRASSE"),
            ("cobble_substring('Île Verte', 5)", "Verte"),
            ("cobble_substring('Île Verte', 0, 3)", "Îl"),
            ("cobble_left('Île', -1)", "Îl"),
            ("cobble_right('Île', 2)", "le"),
            ("cobble_btrim('  a ')", "a"),
            ("cobble_ltrim('xya', 'yx')", "a"),
            ("cobble_replace('aaa', 'a', 'b')", "bbb"),
            ("cobble_replace('aaa', '', 'b')", "aaa"),
            ("cobble_split_part('a,b', ',', -1)", "b"),
            ("cobble_lpad('7', 3, '0')", "007"),
            ("cobble_concat('a', NULL, 'b')", "ab"),
            ("cobble_concat_ws('-', 'a', NULL, 'b')", "a-b"),
            ("cobble_greatest('a', 'B')", "a"),
        ] {
            assert_eq!(value(sql), Ok(Value::Text(wanted.into())), "{sql}");
        }
        assert!(value("cobble_rpad('a', 2000000)").unwrap_err().contains("1 MiB"));
    }
}
