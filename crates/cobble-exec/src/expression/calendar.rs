//! Functions of times and intervals (PostgreSQL manual 9.9), and formatting by templates (9.8).

use std::cell::RefCell;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, Timelike};
use cobble_plan::function::Function;
use cobble_types::parse::{add_interval, read_moment};
use cobble_types::zone::Zone;
use cobble_types::{Code, Error, Result, time_parts, write_moment};

use super::Evaluated;
use super::number_template::{NumberTemplate, decimal_of};
use super::text::{Integers, Texts};

const DAY: i64 = 86_400_000_000;

fn at(micros: i64) -> Option<NaiveDateTime> {
    Some(DateTime::from_timestamp_micros(micros)?.naive_utc())
}

fn out_of_range() -> Error {
    Error::new(Code::TimeOutOfRange, "a time is out of the range of its type")
}

fn span(months: i64, days: i64, micros: i64) -> Option<IntervalMonthDayNano> {
    let small = |v: i64| i32::try_from(v).ok();
    Some(IntervalMonthDayNano::new(small(months)?, small(days)?, micros.checked_mul(1000)?))
}

/// Years, months, days and time between two times, by the calendar.
fn age(later: i64, earlier: i64) -> Option<IntervalMonthDayNano> {
    let (a, b) = (at(later)?, at(earlier)?);
    let (sign, a, b) = if a < b { (-1, b, a) } else { (1, a, b) };
    let mut months = i64::from(a.year() - b.year()) * 12 + i64::from(a.month()) - i64::from(b.month());
    let mut days = i64::from(a.day()) - i64::from(b.day());
    let of_day = |t: NaiveDateTime| t.and_utc().timestamp_micros().rem_euclid(DAY);
    let mut micros = of_day(a) - of_day(b);
    if micros < 0 {
        micros += DAY;
        days -= 1;
    }
    if days < 0 {
        // By the days of the earlier time's month.
        let first = NaiveDate::from_ymd_opt(b.year(), b.month(), 1)?;
        days += (first + chrono::Months::new(1) - first).num_days();
        months -= 1;
    }
    span(sign * months, sign * days, sign * micros)
}

/// Whether two spans of time share a moment (SQL:2016 part 2, 8.14): each begins at its earlier end, and a span without length is
/// its moment.
fn overlaps(a: (Option<i64>, Option<i64>), b: (Option<i64>, Option<i64>)) -> Option<bool> {
    let sorted = |(start, end): (Option<i64>, Option<i64>)| match (start, end) {
        (Some(s), Some(e)) if e < s => (Some(e), Some(s)),
        (None, e) => (e, None),
        own => own,
    };
    let ((s, e), (t, f)) = (sorted(a), sorted(b));
    let (s, t) = (s?, t?);
    // Of the one that begins first, the end decides.
    let (first_end, second_start, second_end) = match s.cmp(&t) {
        std::cmp::Ordering::Less => (e, t, f),
        std::cmp::Ordering::Greater => (f, s, e),
        // Both share their first moment, whatever their ends; an unknown end may be anything.
        std::cmp::Ordering::Equal => return (e.is_some() && f.is_some()).then_some(true),
    };
    // Where it comes too early, an unknown end of the other could still lie before it.
    if second_start < first_end? { Some(true) } else { second_end.map(|_| false) }
}

fn justified(v: IntervalMonthDayNano, hours: bool, days: bool) -> Option<IntervalMonthDayNano> {
    let (mut m, mut d, mut t) = (i64::from(v.months), i64::from(v.days), v.nanoseconds / 1000);
    if hours {
        d += t / DAY;
        t %= DAY;
    }
    if days {
        m += d / 30;
        d %= 30;
    }
    if hours && days {
        // One sign throughout.
        if m > 0 && (d < 0 || (d == 0 && t < 0)) {
            (m, d) = (m - 1, d + 30);
        } else if m < 0 && (d > 0 || (d == 0 && t > 0)) {
            (m, d) = (m + 1, d - 30);
        }
    }
    if hours {
        if d > 0 && t < 0 {
            (d, t) = (d - 1, t + DAY);
        } else if d < 0 && t > 0 {
            (d, t) = (d + 1, t - DAY);
        }
    }
    span(m, d, t)
}

/// A part of an interval as a number with six digits for seconds and epoch, none for the others.
pub(super) fn interval_part(part: &str, v: IntervalMonthDayNano) -> Option<i128> {
    let micros = i128::from(v.nanoseconds / 1000);
    let months = i128::from(v.months);
    Some(match part {
        "year" => months / 12,
        "quarter" => months % 12 / 3 + 1,
        "month" => months % 12,
        "day" => i128::from(v.days),
        "hour" => micros / 3_600_000_000,
        "minute" => micros / 60_000_000 % 60,
        "second" => micros % 60_000_000,
        "milliseconds" => micros % 60_000_000 * 1000,
        "microseconds" => micros % 60_000_000,
        "decade" => months / 120,
        "century" => months / 1200,
        "millennium" => months / 12_000,
        // A year counts 365.25 days, a month 30.
        "epoch" => {
            (months / 12) * 31_557_600_000_000
                + (months % 12) * 2_592_000_000_000
                + i128::from(v.days) * i128::from(DAY)
                + micros
        }
        _ => return None,
    })
}

/// Any time point as microseconds.
fn microseconds(array: &ArrayRef) -> Int64Array {
    match array.data_type() {
        DataType::Date32 => {
            array.as_primitive::<Date32Type>().unary::<_, Int64Type>(|d| i64::from(d).wrapping_mul(DAY))
        }
        DataType::Time64(_) => array.as_primitive::<Time64MicrosecondType>().reinterpret_cast::<Int64Type>(),
        _ => array.as_primitive::<TimestampMicrosecondType>().reinterpret_cast::<Int64Type>(),
    }
}

fn unknown_part(part: &str) -> Error {
    Error::new(Code::InvalidValue, format!("\"{part}\" is not a part of this kind of time"))
}

/// `extract`: a part of a time or an interval; the part may be another one in each row.
pub(super) fn part_of(arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    let DataType::Decimal128(precision, scale) = *result else {
        return Err(Error::internal("a part of a time is numeric"));
    };
    let (parts, from) = (Texts::of(arguments[0]), arguments[1].array());
    let spans = from.as_primitive_opt::<IntervalMonthDayNanoType>();
    let times = if spans.is_none() { Some(microseconds(from)) } else { None };
    let mut out = Decimal128Builder::with_capacity(rows);
    for row in 0..rows {
        let place = arguments[1].place(row);
        let Some(part) = parts.get(row).filter(|_| from.is_valid(place)) else {
            out.append_null();
            continue;
        };
        let known = time_parts::part_name(part).ok_or_else(|| unknown_part(part))?;
        let value = match (spans, &times) {
            (Some(spans), _) => interval_part(known, spans.value(place)),
            (None, Some(times)) => time_parts::date_part(known, times.value(place)),
            (None, None) => None,
        };
        if known == "julian" && scale == 20 {
            let micros = times.as_ref().map_or(0, |times| times.value(place));
            out.append_value(time_parts::julian(micros).ok_or_else(|| unknown_part(part))?);
            continue;
        }
        let value = value.ok_or_else(|| unknown_part(part))?;
        // Parts that are whole have no digits after the point of their own, the others come with six.
        let digits = if matches!(known, "second" | "epoch" | "milliseconds") { 6 } else { 0 };
        let unit = 10i128.pow(u32::from((digits - i32::from(scale)).unsigned_abs() as u8));
        out.append_value(if digits > i32::from(scale) { value / unit } else { value * unit });
    }
    Ok(Arc::new(out.finish().with_precision_and_scale(precision, scale)?))
}

/// An interval without what is smaller than the part.
fn interval_start(part: &str, v: IntervalMonthDayNano) -> Option<IntervalMonthDayNano> {
    let to = |n: i64, unit: i64| n / unit * unit;
    let months = |unit: i32| IntervalMonthDayNano::new(v.months / unit * unit, 0, 0);
    let nanos = |unit: i64| IntervalMonthDayNano::new(v.months, v.days, to(v.nanoseconds, unit));
    Some(match part {
        "millennium" => months(12_000),
        "century" => months(1200),
        "decade" => months(120),
        "year" => months(12),
        "quarter" => months(3),
        "month" => months(1),
        "day" => IntervalMonthDayNano::new(v.months, v.days, 0),
        "hour" => nanos(3_600_000_000_000),
        "minute" => nanos(60_000_000_000),
        "second" => nanos(1_000_000_000),
        "milliseconds" => nanos(1_000_000),
        "microseconds" => nanos(1000),
        _ => return None,
    })
}

/// `date_trunc`: the start of the part in which a time lies; the part may be another one in each row.
pub(super) fn start_of(arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    let (parts, from) = (Texts::of(arguments[0]), arguments[1].array());
    let part = |row: usize| -> Result<Option<&'static str>> {
        match parts.get(row) {
            Some(part) => time_parts::part_name(part).map(Some).ok_or_else(|| unknown_part(part)),
            None => Ok(None),
        }
    };
    if let Some(spans) = from.as_primitive_opt::<IntervalMonthDayNanoType>() {
        let mut out = IntervalMonthDayNanoBuilder::with_capacity(rows);
        for row in 0..rows {
            let place = arguments[1].place(row);
            match part(row)?.filter(|_| spans.is_valid(place)) {
                Some(part) => {
                    out.append_value(interval_start(part, spans.value(place)).ok_or_else(|| unknown_part(part))?)
                }
                None => out.append_null(),
            }
        }
        return Ok(Arc::new(out.finish()));
    }
    let times = microseconds(from);
    let mut out = TimestampMicrosecondBuilder::with_capacity(rows);
    for row in 0..rows {
        let place = arguments[1].place(row);
        match part(row)?.filter(|_| times.is_valid(place)) {
            Some(part) => {
                out.append_value(time_parts::date_trunc(part, times.value(place)).ok_or_else(|| unknown_part(part))?)
            }
            None => out.append_null(),
        }
    }
    let zone = match result {
        DataType::Timestamp(_, zone) => zone.clone(),
        _ => None,
    };
    Ok(Arc::new(out.finish().with_timezone_opt(zone)))
}

/// The zone of the last row: it is nearly always that of the next one too.
#[derive(Default)]
struct Zones(RefCell<Option<(String, Zone)>>);

impl Zones {
    fn find(&self, name: &str) -> Result<Zone> {
        if let Some((known, zone)) = self.0.borrow().as_ref()
            && known == name
        {
            return Ok(*zone);
        }
        let zone = Zone::parse(name)?;
        *self.0.borrow_mut() = Some((name.to_owned(), zone));
        Ok(zone)
    }
}

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const DAYS: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];
const ROMAN: [&str; 12] = ["I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX", "X", "XI", "XII"];

/// The template's patterns, longest first where one begins another.
const PATTERNS: &[&str] = &[
    "HH24", "HH12", "HH", "MI", "SSSSS", "SSSS", "SS", "MS", "US", "FF1", "FF2", "FF3", "FF4", "FF5", "FF6", "AM",
    "PM", "A.M.", "P.M.", "Y,YYY", "YYYY", "YYY", "YY", "Y", "IYYY", "IYY", "IY", "IDDD", "ID", "IW", "I", "MONTH",
    "MON", "MM", "DAY", "DY", "DDD", "DD", "D", "WW", "W", "CC", "J", "Q", "RM", "BC", "AD", "B.C.", "A.D.", "TZH",
    "TZM", "TZ", "OF",
];

enum Part {
    Literal(String),
    /// The pattern in capitals, as it was written, without fill, with `TH` or `th` after it.
    Pattern {
        name: &'static str,
        written: String,
        fill: bool,
        ordinal: Option<bool>,
    },
}

fn template(format: &str) -> Vec<Part> {
    let mut parts = Vec::new();
    let mut rest = format;
    let mut fill = true;
    while !rest.is_empty() {
        if let Some(quoted) = rest.strip_prefix('"') {
            let end = quoted.find('"').unwrap_or(quoted.len());
            parts.push(Part::Literal(quoted[..end].to_owned()));
            rest = quoted.get(end + 1..).unwrap_or("");
            continue;
        }
        let upper = rest.get(..2).map(str::to_uppercase);
        if upper.as_deref() == Some("FM") {
            fill = false;
            rest = &rest[2..];
            continue;
        }
        if upper.as_deref() == Some("TM") || upper.as_deref() == Some("FX") {
            rest = &rest[2..];
            // Names of a language are not filled up to a width; ours is the only one.
            let named = ["MONTH", "DAY"].iter().any(|n| rest.get(..n.len()).is_some_and(|r| r.eq_ignore_ascii_case(n)));
            fill &= !(named && upper.as_deref() == Some("TM"));
            continue;
        }
        let begins = |name: &&&str| rest.get(..name.len()).is_some_and(|r| r.eq_ignore_ascii_case(name));
        match PATTERNS.iter().filter(begins).max_by_key(|name| name.len()) {
            Some(name) => {
                let written = rest[..name.len()].to_owned();
                rest = &rest[name.len()..];
                let ordinal = match rest.get(..2) {
                    Some("TH") => Some(true),
                    Some("th") => Some(false),
                    _ => None,
                };
                if ordinal.is_some() {
                    rest = &rest[2..];
                }
                parts.push(Part::Pattern { name, written, fill, ordinal });
                fill = true;
            }
            None => {
                let c = rest.chars().next().unwrap_or(' ');
                parts.push(Part::Literal(c.to_string()));
                rest = &rest[c.len_utf8()..];
            }
        }
    }
    parts
}

/// The word in the case of the pattern: `MONTH`, `Month` or `month`.
fn cased(word: &str, written: &str) -> String {
    let mut letters = written.chars();
    match (letters.next().is_some_and(char::is_uppercase), letters.next().is_some_and(char::is_uppercase)) {
        (true, true) => word.to_uppercase(),
        (true, false) => word.to_owned(),
        _ => word.to_lowercase(),
    }
}

pub(super) fn ordinal_ending(n: i64) -> &'static str {
    match (n % 100, n % 10) {
        (11..=13, _) => "th",
        (_, 1) => "st",
        (_, 2) => "nd",
        (_, 3) => "rd",
        _ => "th",
    }
}

/// Writes a template: its literals as they stand, its patterns by their name, their letters, and whether they are filled up.
fn by_template(parts: &[Part], write: impl Fn(&str, &str, bool) -> String) -> String {
    let mut out = String::new();
    for part in parts {
        let (text, ordinal) = match part {
            Part::Literal(text) => (text.clone(), None),
            Part::Pattern { name, written, fill, ordinal } => (write(name, written, *fill), *ordinal),
        };
        out.push_str(&text);
        if let Some(capital) = ordinal {
            let ending = ordinal_ending(text.trim().parse().unwrap_or(0));
            out.push_str(&if capital { ending.to_uppercase() } else { ending.to_owned() });
        }
    }
    out
}

fn time_text(t: NaiveDateTime, parts: &[Part]) -> String {
    let week = t.date().iso_week();
    let micros = t.and_utc().timestamp_subsec_micros();
    by_template(parts, |name, written, fill| {
        let counted = |year: i32| if year > 0 { year } else { 1 - year };
        let (year, iso_year) = (counted(t.year()), counted(week.year()));
        let number = |value: i64, width: usize| if fill { format!("{value:0width$}") } else { value.to_string() };
        let word = |word: &str, width: usize| {
            let text = cased(word, written);
            if fill { format!("{text:width$}") } else { text }
        };
        let twelve = if t.hour().is_multiple_of(12) { 12 } else { t.hour() % 12 };
        let digits = |n: u32| format!("{micros:06}")[..n as usize].to_owned();
        match name {
            "HH24" => number(t.hour().into(), 2),
            "HH12" | "HH" => number(twelve.into(), 2),
            "MI" => number(t.minute().into(), 2),
            "SS" => number(t.second().into(), 2),
            "SSSS" | "SSSSS" => t.num_seconds_from_midnight().to_string(),
            "MS" | "FF3" => digits(3),
            "US" | "FF6" => digits(6),
            "FF1" => digits(1),
            "FF2" => digits(2),
            "FF4" => digits(4),
            "FF5" => digits(5),
            "AM" | "PM" => cased(if t.hour() < 12 { "AM" } else { "PM" }, written),
            "A.M." | "P.M." => {
                let text = if t.hour() < 12 { "A.M." } else { "P.M." };
                if written.starts_with(char::is_lowercase) { text.to_lowercase() } else { text.to_owned() }
            }
            "Y,YYY" => format!("{},{:03}", year / 1000, year % 1000),
            "YYYY" => number(year.into(), 4),
            "YYY" => number((year % 1000).into(), 3),
            "YY" => number((year % 100).into(), 2),
            "Y" => (year % 10).to_string(),
            "IYYY" => number(iso_year.into(), 4),
            "IYY" => number((iso_year % 1000).into(), 3),
            "IY" => number((iso_year % 100).into(), 2),
            "I" => (iso_year % 10).to_string(),
            "IDDD" => number(i64::from(week.week0()) * 7 + i64::from(t.weekday().number_from_monday()), 3),
            "ID" => t.weekday().number_from_monday().to_string(),
            "IW" => number(week.week().into(), 2),
            "MONTH" => word(MONTHS[t.month0() as usize], 9),
            "MON" => cased(&MONTHS[t.month0() as usize][..3], written),
            "MM" => number(t.month().into(), 2),
            "DAY" => word(DAYS[t.weekday().num_days_from_sunday() as usize], 9),
            "DY" => cased(&DAYS[t.weekday().num_days_from_sunday() as usize][..3], written),
            "DDD" => number(t.ordinal().into(), 3),
            "DD" => number(t.day().into(), 2),
            "D" => (t.weekday().num_days_from_sunday() + 1).to_string(),
            "WW" => number(i64::from(t.ordinal0() / 7 + 1), 2),
            "W" => (t.day0() / 7 + 1).to_string(),
            "CC" => {
                let century = i64::from(time_parts::counted(t.year(), 100));
                let sign = if century < 0 { "-" } else { "" };
                format!("{sign}{}", number(century.abs(), 2))
            }
            "J" => (i64::from(t.num_days_from_ce()) + 1_721_425).to_string(),
            "Q" => (t.month0() / 3 + 1).to_string(),
            "RM" => word(ROMAN[t.month0() as usize], 4),
            "BC" | "AD" => cased(if t.year() > 0 { "AD" } else { "BC" }, written),
            "B.C." | "A.D." => if t.year() > 0 { "A.D." } else { "B.C." }.to_owned(),
            "TZH" | "OF" => "+00".to_owned(),
            "TZM" => "00".to_owned(),
            _ => cased("UTC", written),
        }
    })
}

/// An interval by a template: its parts as they are, whatever a calendar has room for.
fn interval_text(v: IntervalMonthDayNano, parts: &[Part]) -> String {
    let micros = v.nanoseconds / 1000;
    let (years, months, days) = (i64::from(v.months / 12), i64::from(v.months % 12), i64::from(v.days));
    let (hours, minutes) = (micros / 3_600_000_000, micros / 60_000_000 % 60);
    let (seconds, rest) = (micros / 1_000_000 % 60, micros % 1_000_000);
    by_template(parts, |name, written, fill| {
        let number = |value: i64, width: usize| match (fill, value < 0) {
            (true, false) => format!("{value:0width$}"),
            (true, true) => format!("-{:0width$}", value.unsigned_abs()),
            (false, _) => value.to_string(),
        };
        let twelve = match hours % 12 {
            0 => 12,
            other => other,
        };
        let fraction = |n: usize| format!("{:06}", rest.unsigned_abs())[..n].to_owned();
        match name {
            "HH24" => number(hours, 2),
            "HH12" | "HH" => number(twelve, 2),
            "MI" => number(minutes, 2),
            "SS" => number(seconds, 2),
            "SSSS" | "SSSSS" => (micros / 1_000_000).to_string(),
            "MS" | "FF3" => fraction(3),
            "US" | "FF6" => fraction(6),
            "FF1" => fraction(1),
            "FF2" => fraction(2),
            "FF4" => fraction(4),
            "FF5" => fraction(5),
            "AM" | "PM" => cased(if hours % 24 < 12 { "AM" } else { "PM" }, written),
            "Y,YYY" => format!("{},{:03}", years / 1000, years % 1000),
            "YYYY" => number(years, 4),
            "YYY" => number(years % 1000, 3),
            "YY" => number(years % 100, 2),
            "Y" => (years % 10).to_string(),
            "MM" => number(months, 2),
            "DD" => number(days, 2),
            "Q" if months > 0 => ((months - 1) / 3 + 1).to_string(),
            "RM" if months > 0 => {
                let text = cased(ROMAN[(months - 1) as usize], written);
                if fill { format!("{text:4}") } else { text }
            }
            "CC" => number((years + 99) / 100, 2),
            "DDD" => number(i64::from(v.months) * 30 + days, 3),
            "J" => (i64::from(v.months) * 30 + days).to_string(),
            // The others belong to a date.
            _ => String::new(),
        }
    })
}

/// Reads a time by a template.
fn read_time(text: &str, format: &str) -> Result<NaiveDateTime> {
    let wrong = |what: &str| {
        Error::new(Code::InvalidTime, format!("\"{text}\" does not fit the template \"{format}\": {what}"))
    };
    let (mut year, mut month, mut day, mut ordinal) = (1, 1, 1, None);
    let (mut hour, mut minute, mut second, mut micros) = (0, 0, 0, 0);
    let mut afternoon = None;
    let mut rest = text.trim_start();
    for part in template(format) {
        let name = match part {
            Part::Literal(literal) => {
                // Any separator stands for any other.
                let expected = literal.chars().next().unwrap_or(' ');
                match rest.chars().next() {
                    Some(c) if c == expected || !c.is_alphanumeric() => rest = &rest[c.len_utf8()..],
                    _ => {}
                }
                continue;
            }
            Part::Pattern { name, .. } => name,
        };
        rest = rest.trim_start();
        let number = |rest: &mut &str, most: usize| -> Result<u32> {
            let end = rest.char_indices().take(most).take_while(|(_, c)| c.is_ascii_digit()).count();
            let value = rest[..end].parse().map_err(|_| wrong(&format!("a number is expected for {name}")))?;
            *rest = &rest[end..];
            Ok(value)
        };
        let word = |rest: &mut &str, words: &[&str], letters: usize| -> Result<usize> {
            let found = words.iter().position(|w| {
                let w = if letters > 0 { &w[..letters] } else { w };
                rest.get(..w.len()).is_some_and(|r| r.eq_ignore_ascii_case(w))
            });
            let place = found.ok_or_else(|| wrong(&format!("a word is expected for {name}")))?;
            *rest = &rest[if letters > 0 { letters } else { words[place].len() }..];
            Ok(place)
        };
        match name {
            "YYYY" | "IYYY" => year = number(&mut rest, 4)? as i32,
            "YYY" | "YY" | "Y" => {
                let short = number(&mut rest, name.len())? as i32;
                year = if short < 70 { 2000 + short } else { 1900 + short };
            }
            "MM" => month = number(&mut rest, 2)?,
            "MONTH" => month = word(&mut rest, &MONTHS, 0)? as u32 + 1,
            "MON" => month = word(&mut rest, &MONTHS, 3)? as u32 + 1,
            "DD" => day = number(&mut rest, 2)?,
            "DDD" => ordinal = Some(number(&mut rest, 3)?),
            "HH24" | "HH12" | "HH" => hour = number(&mut rest, 2)?,
            "MI" => minute = number(&mut rest, 2)?,
            "SS" => second = number(&mut rest, 2)?,
            "MS" | "US" | "FF3" | "FF6" => {
                let most = if matches!(name, "MS" | "FF3") { 3 } else { 6 };
                let before = rest;
                let value = number(&mut rest, most)?;
                let given = before.len() - rest.len();
                micros = value * 10u32.pow(6 - given as u32);
            }
            "AM" | "PM" => afternoon = Some(word(&mut rest, &["AM", "PM"], 0)? == 1),
            "DAY" => drop(word(&mut rest, &DAYS, 0)?),
            "DY" => drop(word(&mut rest, &DAYS, 3)?),
            other => return Err(Error::unsupported(format_args!("reading {other} by a template"))),
        }
    }
    match afternoon {
        Some(true) if hour < 12 => hour += 12,
        Some(false) if hour == 12 => hour = 0,
        _ => {}
    }
    let date = match ordinal {
        Some(ordinal) => NaiveDate::from_yo_opt(year, ordinal),
        None => NaiveDate::from_ymd_opt(year, month, day),
    };
    date.ok_or_else(|| wrong("there is no such day"))?
        .and_hms_micro_opt(hour, minute, second, micros)
        .ok_or_else(|| wrong("there is no such time"))
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    use Function as F;
    let micros = |i: usize, row: usize| {
        let (array, place) = (arguments[i].array().as_primitive::<TimestampMicrosecondType>(), arguments[i].place(row));
        array.is_valid(place).then(|| array.value(place))
    };
    let interval = |i: usize, row: usize| {
        let (array, place) = (arguments[i].array().as_primitive::<IntervalMonthDayNanoType>(), arguments[i].place(row));
        array.is_valid(place).then(|| array.value(place))
    };
    let double = |i: usize, row: usize| {
        let (array, place) = (arguments[i].array().as_primitive::<Float64Type>(), arguments[i].place(row));
        array.is_valid(place).then(|| array.value(place))
    };
    let integer = |i: usize, row: usize| Integers::of(arguments[i]).get(row);
    let text = |i: usize, row: usize| Texts::of(arguments[i]).get(row);
    let times = |f: &dyn Fn(usize) -> Result<Option<i64>>| -> Result<ArrayRef> {
        let mut out = TimestampMicrosecondBuilder::with_capacity(rows);
        for row in 0..rows {
            out.append_option(f(row)?);
        }
        let zone = match result {
            DataType::Timestamp(_, zone) => zone.clone(),
            _ => None,
        };
        Ok(Arc::new(out.finish().with_timezone_opt(zone)))
    };
    let spans = |f: &dyn Fn(usize) -> Option<Option<IntervalMonthDayNano>>| -> Result<ArrayRef> {
        let mut out = IntervalMonthDayNanoBuilder::with_capacity(rows);
        for row in 0..rows {
            match f(row) {
                None => out.append_null(),
                Some(value) => out.append_value(value.ok_or_else(out_of_range)?),
            }
        }
        Ok(Arc::new(out.finish()))
    };
    match function {
        F::RoundTime => {
            let unit = |row: usize| {
                let digits = integer(1, row).and_then(|digits| u32::try_from(digits).ok()).map_or(6, |d| d.min(6));
                10i64.pow(6 - digits)
            };
            // A half goes away from zero.
            let rounded = |micros: i64, unit: i64| {
                let away = if micros < 0 { -unit / 2 } else { unit / 2 };
                micros.checked_add(away).map(|moved| moved / unit * unit)
            };
            match arguments[0].array().data_type() {
                DataType::Interval(_) => spans(&|row| {
                    let v = interval(0, row)?;
                    let micros = rounded(v.nanoseconds / 1000, unit(row));
                    Some(micros.and_then(|micros| span(v.months.into(), v.days.into(), micros)))
                }),
                DataType::Time64(_) => {
                    let times = arguments[0].array().as_primitive::<Time64MicrosecondType>();
                    let time = |row: usize| {
                        let place = arguments[0].place(row);
                        times.is_valid(place).then(|| rounded(times.value(place), unit(row)))?
                    };
                    Ok(Arc::new((0..rows).map(time).collect::<Time64MicrosecondArray>()))
                }
                _ => times(&|row| {
                    let Some(t) = micros(0, row) else { return Ok(None) };
                    let unit = unit(row);
                    let moved = t.checked_add(unit / 2).ok_or_else(out_of_range)?;
                    Ok(Some(moved.div_euclid(unit) * unit))
                }),
            }
        }
        F::IsFinite => {
            let (array, place) = (arguments[0].array(), |row| arguments[0].place(row));
            Ok(Arc::new((0..rows).map(|row| array.is_valid(place(row)).then_some(true)).collect::<BooleanArray>()))
        }
        F::Overlaps => {
            let sides: Vec<Int64Array> = arguments.iter().map(|a| microseconds(a.array())).collect();
            let value = |i: usize, row: usize| {
                let place = arguments[i].place(row);
                sides[i].is_valid(place).then(|| sides[i].value(place))
            };
            let answer = |row: usize| overlaps((value(0, row), value(1, row)), (value(2, row), value(3, row)));
            Ok(Arc::new((0..rows).map(answer).collect::<BooleanArray>()))
        }
        F::Age => spans(&|row| Some(age(micros(0, row)?, micros(1, row)?))),
        F::JustifyDays => spans(&|row| Some(justified(interval(0, row)?, false, true))),
        F::JustifyHours => spans(&|row| Some(justified(interval(0, row)?, true, false))),
        F::JustifyInterval => spans(&|row| Some(justified(interval(0, row)?, true, true))),
        F::MakeInterval => spans(&|row| {
            let mut values = [0i64; 6];
            for (i, value) in values.iter_mut().enumerate().take(arguments.len().min(6)) {
                *value = integer(i, row)?.into();
            }
            let seconds = if arguments.len() == 7 { double(6, row)? } else { 0.0 };
            let [years, months, weeks, days, hours, minutes] = values;
            let micros = (hours * 3600 + minutes * 60)
                .checked_mul(1_000_000)
                .and_then(|whole| whole.checked_add((seconds * 1e6).round() as i64));
            Some(micros.and_then(|micros| span(years * 12 + months, weeks * 7 + days, micros)))
        }),
        F::DateBin => times(&|row| {
            let (Some(stride), Some(source), Some(origin)) = (interval(0, row), micros(1, row), micros(2, row)) else {
                return Ok(None);
            };
            let width = i64::from(stride.days) * DAY + stride.nanoseconds / 1000;
            if stride.months != 0 || width <= 0 {
                return Err(Error::new(Code::InvalidValue, "date_bin takes a stride of days and less, above zero"));
            }
            Ok(Some(origin + (source - origin).div_euclid(width) * width))
        }),
        F::MakeTimestamp => times(&|row| {
            let parts: Option<Vec<i32>> = (0..5).map(|i| integer(i, row)).collect();
            let (Some(p), Some(seconds)) = (parts, double(5, row)) else { return Ok(None) };
            let small = |v: i32| u32::try_from(v).unwrap_or(u32::MAX);
            NaiveDate::from_ymd_opt(p[0], small(p[1]), small(p[2]))
                .and_then(|d| d.and_hms_opt(small(p[3]), small(p[4]), 0))
                .filter(|_| (0.0..=60.0).contains(&seconds))
                .map(|t| Some(t.and_utc().timestamp_micros() + (seconds * 1e6).round() as i64))
                .ok_or_else(|| Error::new(Code::TimeOutOfRange, "there is no such time"))
        }),
        F::MakeTime => {
            let mut out = Time64MicrosecondBuilder::with_capacity(rows);
            for row in 0..rows {
                match (integer(0, row), integer(1, row), double(2, row)) {
                    (Some(h), Some(m), Some(s)) => {
                        if !(0..=24).contains(&h) || !(0..60).contains(&m) || !(0.0..=60.0).contains(&s) {
                            return Err(Error::new(Code::TimeOutOfRange, "there is no such time of day"));
                        }
                        out.append_value(i64::from(h * 3600 + m * 60) * 1_000_000 + (s * 1e6).round() as i64);
                    }
                    _ => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::ToTimestamp if arguments.len() == 1 => times(&|row| Ok(double(0, row).map(|s| (s * 1e6).round() as i64))),
        F::ToTimestamp => times(&|row| {
            let Some((text, format)) = text(0, row).zip(text(1, row)) else { return Ok(None) };
            Ok(Some(read_time(text, format)?.and_utc().timestamp_micros()))
        }),
        F::ToDate => {
            let mut out = Date32Builder::with_capacity(rows);
            for row in 0..rows {
                match text(0, row).zip(text(1, row)) {
                    Some((text, format)) => {
                        out.append_value(read_time(text, format)?.and_utc().timestamp_micros().div_euclid(DAY) as i32);
                    }
                    None => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::AtTimeZone => {
            // With a zone: the clock there. Without: the moment at which a clock there shows it.
            let zoned = matches!(arguments[1].array().data_type(), DataType::Timestamp(_, Some(_)));
            let zones = Zones::default();
            times(&|row| {
                let Some((name, t)) = text(0, row).zip(micros(1, row)) else { return Ok(None) };
                let zone = zones.find(name)?;
                let found = if zoned { zone.clock(t) } else { zone.moment(t) };
                found.map(Some).ok_or_else(out_of_range)
            })
        }
        F::AddToMoment => {
            let zones = Zones::default();
            times(&|row| {
                let Some(((name, t), by)) = text(0, row).zip(micros(1, row)).zip(interval(2, row)) else {
                    return Ok(None);
                };
                let zone = zones.find(name)?;
                // Months and days are counted on the clock, hours as they pass.
                let moved = || {
                    let t = match (by.months, by.days) {
                        (0, 0) => t,
                        (months, days) => zone.moment(add_interval(zone.clock(t)?, months, days, 0)?)?,
                    };
                    t.checked_add(by.nanoseconds / 1000)
                };
                moved().map(Some).ok_or_else(out_of_range)
            })
        }
        F::ReadMoment => {
            let zones = Zones::default();
            times(&|row| {
                let Some((name, written)) = text(0, row).zip(text(1, row)) else { return Ok(None) };
                read_moment(written, zones.find(name)?).map(Some)
            })
        }
        F::MomentText => {
            let zones = Zones::default();
            let mut out = StringViewBuilder::with_capacity(rows);
            for row in 0..rows {
                match text(0, row).zip(micros(1, row)) {
                    Some((name, t)) => out.append_value(write_moment(t, zones.find(name)?)),
                    None => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::ToChar => {
            let mut out = StringViewBuilder::with_capacity(rows);
            for row in 0..rows {
                let Some(format) = text(1, row) else {
                    out.append_null();
                    continue;
                };
                let array = arguments[0].array();
                let place = arguments[0].place(row);
                let shown = match array.data_type() {
                    _ if array.is_null(place) => None,
                    DataType::Timestamp(..) => micros(0, row).and_then(at).map(|t| time_text(t, &template(format))),
                    DataType::Interval(_) => interval(0, row).map(|v| interval_text(v, &template(format))),
                    DataType::Decimal128(_, scale) => {
                        let value = array.as_primitive::<Decimal128Type>().value(place);
                        Some(NumberTemplate::read(format)?.write(value, *scale))
                    }
                    DataType::Float32 | DataType::Float64 => {
                        let wide = arrow::compute::cast(array, &DataType::Float64)?;
                        let value = wide.as_primitive::<Float64Type>().value(place);
                        let template = NumberTemplate::read(format)?;
                        Some(match decimal_of(value) {
                            Some((value, scale)) => template.write(value, scale),
                            None => template.write_beyond(value),
                        })
                    }
                    _ => None,
                };
                out.append_option(shown);
            }
            Ok(Arc::new(out.finish()))
        }
        F::ToNumber => {
            let mut out = Decimal128Builder::with_capacity(rows);
            for row in 0..rows {
                let Some((text, format)) = text(0, row).zip(text(1, row)) else {
                    out.append_null();
                    continue;
                };
                let (unscaled, scale) = NumberTemplate::read(format)?.value(text)?;
                let value = cobble_types::parse::rescale_decimal(unscaled, scale, 10);
                out.append_value(value.ok_or_else(|| Error::new(Code::Overflow, format!("\"{text}\" is too large")))?);
            }
            Ok(Arc::new(out.finish().with_precision_and_scale(38, 10)?))
        }
        other => Err(Error::internal(format!("{} is no function of times", other.name()))),
    }
}
