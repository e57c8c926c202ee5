//! Templates of times, such as `DD Mon YYYY` (PostgreSQL manual, table 9.27).

use arrow::datatypes::IntervalMonthDayNano;
use chrono::{Datelike, NaiveDate, NaiveDateTime, Timelike};
use cobble_types::{Code, Error, Result, time_parts};

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

pub(super) enum Part {
    Literal(String),
    /// The pattern in capitals, as it was written, without fill, with `TH` or `th` after it.
    Pattern {
        name: &'static str,
        written: String,
        fill: bool,
        ordinal: Option<bool>,
    },
}

/// The parts of a template.
pub(super) fn template(format: &str) -> Vec<Part> {
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

pub(super) fn time_text(t: NaiveDateTime, parts: &[Part]) -> String {
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
pub(super) fn interval_text(v: IntervalMonthDayNano, parts: &[Part]) -> String {
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
pub(super) fn read_time(text: &str, format: &str) -> Result<NaiveDateTime> {
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
