//! Dates, times and intervals as people write them, in the forms that PostgreSQL reads (manual 8.5.1 and B.1): ISO 8601, months by
//! their names, parts in several orders, twelve-hour clocks, and words such as `today`.
//!
//! Files and columns are read by the strict forms of `parse.rs`; these are for constants and casts.

use chrono::{Datelike, NaiveDate};

use crate::zone::{Zone, session_zone};
use crate::{Code, Error, Result};

const DAY: i64 = 86_400_000_000;
const EPOCH_DAYS: i32 = 719_163;

const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];
const WEEKDAYS: [&str; 7] = ["sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"];

/// Abbreviations of zones, in hours east of Greenwich.
const ABBREVIATIONS: &[(&str, i64)] = &[
    ("pst", -8),
    ("pdt", -7),
    ("mst", -7),
    ("mdt", -6),
    ("cst", -6),
    ("cdt", -5),
    ("est", -5),
    ("edt", -4),
    ("wet", 0),
    ("west", 1),
    ("bst", 1),
    ("cet", 1),
    ("cest", 2),
    ("eet", 2),
    ("eest", 3),
    ("msk", 3),
    ("jst", 9),
];

/// The parts of a time that a text gives.
#[derive(Debug, Default, Clone, Copy)]
pub struct TimeText {
    /// Days since 1970-01-01.
    pub date: Option<i32>,
    /// Microseconds since midnight, up to a whole day.
    pub time: Option<i64>,
    zone: Option<Zone>,
}

fn malformed(kind: &str, text: &str) -> Error {
    Error::new(Code::InvalidTime, format!("\"{text}\" is not a valid {kind}"))
}

fn out_of_range(kind: &str, text: &str) -> Error {
    Error::new(Code::TimeOutOfRange, format!("\"{text}\" is not a valid {kind}: there is no such day or time"))
}

impl TimeText {
    /// Reads the text as a `kind`, such as `date`.
    ///
    /// # Errors
    /// When the text has another form, or names a day or a time that does not exist.
    pub fn read(text: &str, kind: &str) -> Result<TimeText> {
        Reader { text, kind, ..Reader::default() }.read()
    }

    /// Microseconds since 1970-01-01 on the clock; a zone that is written is left out.
    pub fn clock(&self) -> Option<i64> {
        i64::from(self.date?).checked_mul(DAY)?.checked_add(self.time.unwrap_or(0))
    }

    /// The moment, on a clock of this zone unless another one is written.
    pub fn moment(&self, zone: Zone) -> Option<i64> {
        self.zone.unwrap_or(zone).moment(self.clock()?)
    }
}

#[derive(Default)]
struct Reader<'a> {
    text: &'a str,
    kind: &'a str,
    found: TimeText,
    month: Option<u32>,
    /// Numbers that stand alone, as they are written.
    numbers: Vec<&'a str>,
    before_christ: bool,
    afternoon: Option<bool>,
}

impl<'a> Reader<'a> {
    fn malformed(&self) -> Error {
        malformed(self.kind, self.text)
    }

    fn missing(&self) -> Error {
        out_of_range(self.kind, self.text)
    }

    fn read(mut self) -> Result<TimeText> {
        let text = self.text.trim();
        let mut tokens: Vec<&'a str> = Vec::new();
        // Signs that mean nothing keep words apart.
        let parts = |c: char| c.is_whitespace() || c.is_ascii_punctuation() && !"+-/.:_".contains(c);
        for word in text.split(parts).filter(|word| !word.is_empty()) {
            // Between date and time a T may stand.
            match word.find(['T', 't']).filter(|at| *at > 0) {
                Some(at)
                    if word[..at].ends_with(|c: char| c.is_ascii_digit())
                        && word[at + 1..].starts_with(|c: char| c.is_ascii_digit()) =>
                {
                    tokens.extend([&word[..at], &word[at + 1..]]);
                }
                _ => tokens.push(word),
            }
        }
        if tokens.is_empty() {
            return Err(self.malformed());
        }
        for token in tokens {
            self.token(token)?;
        }
        self.finish()
    }

    fn token(&mut self, token: &'a str) -> Result<()> {
        let lower = token.to_ascii_lowercase();
        if token.contains(':') && !token.starts_with(['+', '-']) {
            return self.clock(token);
        }
        if token.starts_with(['+', '-']) && self.found.time.is_some() {
            return self.zone(token);
        }
        if self.word(&lower)? {
            return Ok(());
        }
        if let Some(day) = lower.strip_prefix('j').and_then(|digits| digits.parse::<i32>().ok()) {
            return self.date_of(day.checked_sub(2_440_588).ok_or_else(|| self.missing())?);
        }
        let has_digits = token.bytes().any(|b| b.is_ascii_digit());
        if (token.contains(['-', '/']) && has_digits)
            || (token.contains('.') && token.starts_with(|c: char| c.is_ascii_digit()))
        {
            // A zone may stand right behind a date.
            let end = token.find(|c: char| c.is_ascii_alphabetic() || c == '+').unwrap_or(token.len());
            let (date, zone) = token.split_at(end);
            if !zone.is_empty() && date.split('-').filter(|part| part.parse::<u32>().is_ok()).count() == 3 {
                self.separated(date)?;
                return self.zone(zone);
            }
            return self.separated(token);
        }
        if token.bytes().all(|b| b.is_ascii_digit()) {
            return self.number(token);
        }
        // A time of day with its half of the day right behind it, or a zone.
        for half in ["am", "pm"] {
            if let Some(clock) = lower.strip_suffix(half).filter(|clock| clock.contains(':')) {
                self.clock(&token[..clock.len()])?;
                self.afternoon = Some(half == "pm");
                return Ok(());
            }
        }
        match token.find(['+', '-', 'Z', 'z']).filter(|_| token.starts_with(|c: char| c.is_ascii_digit())) {
            Some(at) => {
                self.number(&token[..at])?;
                self.zone(&token[at..])
            }
            None => self.zone(token),
        }
    }

    /// Words with a meaning of their own.
    fn word(&mut self, word: &str) -> Result<bool> {
        let plain = word.trim_end_matches('.');
        let begins = |full: &&str| {
            plain.len() >= 3
                && (full.starts_with(plain) && (plain.len() == 3 || plain == *full)
                    || plain == "sept" && **full == *"september")
        };
        if let Some(month) = MONTHS.iter().position(&begins) {
            if self.month.replace(month as u32 + 1).is_some() {
                return Err(self.malformed());
            }
            return Ok(true);
        }
        if WEEKDAYS.iter().any(&begins) || matches!(plain, "tues" | "wednes" | "thur" | "thurs" | "at" | "on") {
            return Ok(true);
        }
        let now = || {
            let now = chrono::Utc::now().timestamp_micros();
            session_zone().clock(now).unwrap_or(now)
        };
        match plain {
            "am" | "pm" => self.afternoon = Some(plain == "pm"),
            "bc" => self.before_christ = true,
            "ad" => {}
            "today" | "tomorrow" | "yesterday" => {
                let today = now().div_euclid(DAY) as i32;
                let away = match plain {
                    "today" => 0,
                    "tomorrow" => 1,
                    _ => -1,
                };
                self.date_of(today + away)?;
            }
            "now" => {
                let now = now();
                self.date_of(now.div_euclid(DAY) as i32)?;
                self.found.time = Some(now.rem_euclid(DAY));
            }
            "epoch" => {
                self.date_of(0)?;
                (self.found.time, self.found.zone) = (Some(0), Some(Zone::Offset(0)));
            }
            "allballs" => (self.found.time, self.found.zone) = (Some(0), Some(Zone::Offset(0))),
            "infinity" | "-infinity" | "+infinity" => {
                return Err(Error::unsupported(format_args!("{plain} as a {}", self.kind)));
            }
            _ => return Ok(false),
        }
        Ok(true)
    }

    fn date_of(&mut self, day: i32) -> Result<()> {
        match self.found.date.replace(day) {
            None => Ok(()),
            Some(_) => Err(self.malformed()),
        }
    }

    fn clock(&mut self, token: &'a str) -> Result<()> {
        // A zone may stand right behind the time.
        let (clock, zone) = match token.find(|c: char| !c.is_ascii_digit() && c != ':' && c != '.') {
            Some(at) => (&token[..at], Some(&token[at..])),
            None => (token, None),
        };
        let time = self.time_of(clock)?;
        if self.found.time.replace(time).is_some() {
            return Err(self.malformed());
        }
        match zone {
            Some(half) if half.eq_ignore_ascii_case("am") || half.eq_ignore_ascii_case("pm") => {
                self.afternoon = Some(half.eq_ignore_ascii_case("pm"));
                Ok(())
            }
            Some(zone) => self.zone(zone),
            None => Ok(()),
        }
    }

    fn time_of(&self, clock: &str) -> Result<i64> {
        let mut parts = clock.split(':');
        let whole = |part: Option<&str>| -> Result<i64> {
            let part = part.filter(|p| !p.is_empty() && p.len() <= 2).ok_or_else(|| self.malformed())?;
            part.parse().map_err(|_| self.malformed())
        };
        let (hours, minutes) = (whole(parts.next())?, whole(parts.next())?);
        let (seconds, micros) = match parts.next() {
            None => (0, 0),
            Some(part) => {
                let (seconds, fraction) = part.split_once('.').unwrap_or((part, ""));
                (whole(Some(seconds))?, fraction_of(fraction).ok_or_else(|| self.malformed())?)
            }
        };
        if parts.next().is_some() {
            return Err(self.malformed());
        }
        let time = ((hours * 60 + minutes) * 60 + seconds) * 1_000_000 + micros;
        if hours > 24 || minutes > 59 || seconds > 60 || time > DAY {
            return Err(self.missing());
        }
        Ok(time)
    }

    /// An offset or the name of a zone.
    fn zone(&mut self, token: &str) -> Result<()> {
        let lower = token.to_ascii_lowercase();
        let zone = if let Some((_, hours)) = ABBREVIATIONS.iter().find(|(name, _)| *name == lower) {
            Zone::Offset(hours * 3600)
        } else if token.starts_with(['+', '-']) {
            Zone::Offset(self.offset(token)?)
        } else {
            Zone::parse(token).map_err(|_| self.malformed())?
        };
        // A named zone may follow an offset only in no time at all.
        if self.found.zone.replace(zone).is_some() {
            return Err(self.malformed());
        }
        Ok(())
    }

    /// Seconds east of Greenwich from `+02`, `-08:00`, `+0530`, `+5:30:15`.
    fn offset(&self, token: &str) -> Result<i64> {
        let sign = if token.starts_with('-') { -1 } else { 1 };
        let rest = &token[1..];
        let number = |digits: &str| digits.parse::<i64>().map_err(|_| self.malformed());
        let parts: Vec<i64> = match rest.contains(':') {
            true => rest.split(':').map(number).collect::<Result<_>>()?,
            false => match rest.len() {
                1 | 2 => vec![number(rest)?],
                3 => vec![number(&rest[..1])?, number(&rest[1..])?],
                4 => vec![number(&rest[..2])?, number(&rest[2..])?],
                6 => vec![number(&rest[..2])?, number(&rest[2..4])?, number(&rest[4..])?],
                _ => return Err(self.malformed()),
            },
        };
        let part = |n: usize| parts.get(n).copied().unwrap_or(0);
        if parts.len() > 3 || part(0) > 15 || part(1) > 59 || part(2) > 59 {
            return Err(out_of_range(self.kind, self.text));
        }
        Ok(sign * (part(0) * 3600 + part(1) * 60 + part(2)))
    }

    /// `1999-01-08`, `1/8/1999`, `8-Jan-1999`, `1999.008`.
    fn separated(&mut self, token: &'a str) -> Result<()> {
        // After a time, a minus begins a zone.
        let separator = token.chars().find(|c| matches!(c, '-' | '/' | '.')).ok_or_else(|| self.malformed())?;
        let parts: Vec<&'a str> = token.split(separator).collect();
        let is_number = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
        match parts.as_slice() {
            [year, day] if separator == '.' && is_number(year) && day.len() == 3 && is_number(day) => {
                let (year, day) = (self.year(year)?, day.parse().map_err(|_| self.malformed())?);
                let date = NaiveDate::from_yo_opt(year, day).ok_or_else(|| self.missing())?;
                self.date_of(date.num_days_from_ce() - EPOCH_DAYS)
            }
            [a, b, c] if is_number(a) && is_number(b) && is_number(c) => {
                let (year, month, day) = if a.len() > 2 { (a, b, c) } else { (c, a, b) };
                self.month = Some(month.parse().map_err(|_| self.malformed())?);
                self.ymd(year, day)
            }
            [a, b, c] => {
                let named = [a, b, c].into_iter().find(|part| !is_number(part)).map(|part| part.to_ascii_lowercase());
                let numbers: Vec<&'a str> = [a, b, c].into_iter().copied().filter(|part| is_number(part)).collect();
                let (Some(name), [first, second]) = (named, numbers.as_slice()) else { return Err(self.malformed()) };
                if !self.word(&name)? || self.month.is_none() {
                    return Err(self.malformed());
                }
                if first.len() > 2 { self.ymd(first, second) } else { self.ymd(second, first) }
            }
            _ => Err(self.malformed()),
        }
    }

    /// A year of two digits lies from 1970 to 2069.
    fn year(&self, written: &str) -> Result<i32> {
        let year: i32 = written.parse().map_err(|_| self.malformed())?;
        Ok(match written.len() {
            1 | 2 if year < 70 => year + 2000,
            1 | 2 => year + 1900,
            _ => year,
        })
    }

    fn ymd(&mut self, year: &str, day: &str) -> Result<()> {
        let before_christ = self.before_christ || self.text.to_ascii_lowercase().trim_end().ends_with("bc");
        let year = match before_christ {
            true => 1 - year.parse::<i32>().map_err(|_| self.malformed())?,
            false => self.year(year)?,
        };
        let (month, day) = (self.month.ok_or_else(|| self.malformed())?, day.parse().map_err(|_| self.malformed())?);
        if year == i32::from(before_christ) {
            return Err(self.missing());
        }
        let date = NaiveDate::from_ymd_opt(year, month, day).ok_or_else(|| self.missing())?;
        self.date_of(date.num_days_from_ce() - EPOCH_DAYS)
    }

    fn number(&mut self, digits: &'a str) -> Result<()> {
        match (digits.len(), self.found.date, self.month) {
            (8, None, None) => {
                self.month = digits[4..6].parse().ok();
                self.ymd(&digits[..4], &digits[6..])
            }
            (6, None, None) if self.kind != "time" => {
                self.month = digits[2..4].parse().ok();
                self.ymd(&digits[..2], &digits[4..])
            }
            (4 | 6, _, _) if self.found.time.is_none() && (self.kind == "time" || self.found.date.is_some()) => {
                let seconds = if digits.len() == 6 { &digits[4..] } else { "00" };
                let clock = format!("{}:{}:{seconds}", &digits[..2], &digits[2..4]);
                self.found.time = Some(self.time_of(&clock)?);
                Ok(())
            }
            _ => {
                self.numbers.push(digits);
                Ok(())
            }
        }
    }

    fn finish(mut self) -> Result<TimeText> {
        match (self.month, self.numbers.clone().as_slice()) {
            (_, []) => {}
            (Some(_), [a, b]) if self.found.date.is_none() => {
                if a.len() > 2 {
                    self.ymd(a, b)?
                } else {
                    self.ymd(b, a)?
                }
            }
            _ => return Err(self.malformed()),
        }
        if self.month.is_some() && self.found.date.is_none() {
            return Err(self.malformed());
        }
        if let Some(afternoon) = self.afternoon {
            let time = self.found.time.ok_or_else(|| self.malformed())?;
            let hour = time / 3_600_000_000;
            if !(0..=12).contains(&hour) {
                return Err(self.missing());
            }
            self.found.time = Some(match (afternoon, hour) {
                (true, 12) | (false, 0..12) => time,
                (true, _) => time + DAY / 2,
                (false, _) => time - DAY / 2,
            });
        }
        Ok(self.found)
    }
}

/// Microseconds of digits after the point, the seventh one rounded.
fn fraction_of(digits: &str) -> Option<i64> {
    if digits.is_empty() {
        return Some(0);
    }
    if !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    Some((format!("0.{digits}").parse::<f64>().ok()? * 1e6).round_ties_even() as i64)
}

/// Months, days and microseconds of an interval in any form that PostgreSQL reads (manual 8.5.4): with units, as the SQL standard
/// writes it, or as ISO 8601 does.
///
/// # Errors
/// When the text has another form, or a part is too large for its type.
pub fn read_interval(text: &str) -> Result<(i32, i32, i64)> {
    let malformed = || malformed("interval", text);
    let trimmed = text.trim();
    let sums = match trimmed.strip_prefix(['P', 'p']) {
        Some(iso) => iso_interval(iso).ok_or_else(malformed)?,
        None => worded_interval(trimmed).ok_or_else(malformed)?,
    };
    sums.settled().ok_or_else(|| Error::new(Code::TimeOutOfRange, format!("\"{text}\" is too large for an interval")))
}

/// The parts of an interval on the way; months and days with what is left of larger parts.
#[derive(Default, Clone, Copy)]
struct Sums {
    months: f64,
    days: f64,
    micros: f64,
    /// Microseconds that are whole, which a double could not hold exactly.
    exact: i128,
}

impl Sums {
    fn add(&mut self, number: &str, unit: &str) -> Option<()> {
        let value: f64 = number.parse().ok()?;
        let unit = unit.to_ascii_lowercase();
        match unit.trim_end_matches('s') {
            "millennium" | "millennia" | "mil" => self.months += value * 12_000.0,
            "century" | "centurie" | "c" | "cent" => self.months += value * 1200.0,
            "decade" | "dec" => self.months += value * 120.0,
            "year" | "yr" | "y" => self.months += value * 12.0,
            "month" | "mon" => {
                self.months += value.trunc();
                self.days += value.fract() * 30.0;
            }
            "week" | "w" => self.days += value * 7.0,
            "day" | "d" => self.days += value,
            "hour" | "hr" | "h" => self.time(number, 3_600_000_000)?,
            "minute" | "min" | "m" if unit != "ms" => self.time(number, 60_000_000)?,
            "second" | "sec" | "" => self.time(number, 1_000_000)?,
            "millisecond" | "msec" | "m" => self.time(number, 1000)?,
            "microsecond" | "usec" | "u" => self.time(number, 1)?,
            _ => return None,
        }
        Some(())
    }

    fn time(&mut self, number: &str, unit: i64) -> Option<()> {
        match number.parse::<i64>() {
            Ok(whole) => self.exact += i128::from(whole) * i128::from(unit),
            Err(_) => self.micros += number.parse::<f64>().ok()? * unit as f64,
        }
        Some(())
    }

    /// `[-]hours:minutes[:seconds]`.
    fn clock(&mut self, clock: &str) -> Option<()> {
        let (sign, rest) = match clock.split_at_checked(1) {
            Some(("-", rest)) => (-1, rest),
            Some(("+", rest)) => (1, rest),
            _ => (1, clock),
        };
        let parts: Vec<&str> = rest.split(':').collect();
        let whole = |part: &str| part.parse::<i64>().ok().filter(|_| !part.starts_with(['+', '-']));
        let seconds = |part: &str| -> Option<i64> {
            let (whole_part, fraction) = part.split_once('.').unwrap_or((part, ""));
            Some(whole(whole_part)? * 1_000_000 + fraction_of(fraction)?)
        };
        let (hours, minutes, micros) = match parts.as_slice() {
            // With digits after a point, the last of two parts is seconds.
            [a, b] if b.contains('.') => (0, whole(a)?, seconds(b)?),
            [a, b] => (whole(a)?, whole(b)?, 0),
            [a, b, c] => (whole(a)?, whole(b)?, seconds(c)?),
            _ => return None,
        };
        if minutes > 59 || micros > 60_000_000 {
            return None;
        }
        self.exact +=
            i128::from(sign) * (i128::from(hours) * 3_600_000_000 + i128::from(minutes * 60_000_000 + micros));
        Some(())
    }

    /// A part of a month is that part of 30 days, a part of a day that part of 24 hours.
    fn settled(self) -> Option<(i32, i32, i64)> {
        let whole = |value: f64| (value >= f64::from(i32::MIN) && value <= f64::from(i32::MAX)).then_some(value as i32);
        let rounded = |value: f64| (value * 1e6).round() / 1e6;
        let days = self.days + rounded(self.months.fract() * 30.0);
        let micros = rounded(days.fract()) * DAY as f64 + self.micros;
        let total = self.exact.checked_add(micros.round_ties_even() as i128)?;
        // Nanoseconds carry them.
        let total = i64::try_from(total).ok().filter(|micros| micros.checked_mul(1000).is_some())?;
        Some((whole(self.months.trunc())?, whole(days.trunc())?, total))
    }
}

fn worded_interval(text: &str) -> Option<Sums> {
    let mut sums = Sums::default();
    let mut words: Vec<&str> = text.split(|c: char| c.is_whitespace()).filter(|word| !word.is_empty()).collect();
    if words.first() == Some(&"@") {
        words.remove(0);
    }
    let ago = words.last().is_some_and(|word| word.eq_ignore_ascii_case("ago"));
    if ago {
        words.pop();
    }
    if words.is_empty() {
        return None;
    }
    // A sign may stand apart from its number.
    let mut joined: Vec<String> = Vec::new();
    for word in words {
        match joined.last_mut() {
            Some(sign) if sign == "-" || sign == "+" => sign.push_str(word),
            _ => joined.push(word.to_owned()),
        }
    }
    let mut words = joined.iter().map(String::as_str).peekable();
    while let Some(word) = words.next() {
        if word.contains(':') {
            sums.clock(word)?;
            continue;
        }
        let unsigned = word.trim_start_matches(['+', '-']);
        // `1-2`: years and months.
        if let Some((years, months)) = unsigned.split_once('-')
            && !years.is_empty()
            && years.bytes().chain(months.bytes()).all(|b| b.is_ascii_digit())
        {
            let (years, months): (f64, f64) = (years.parse().ok()?, months.parse().ok().filter(|m| *m < 12.0)?);
            sums.months += if word.starts_with('-') { -1.0 } else { 1.0 } * (years * 12.0 + months);
            continue;
        }
        // Numbers and units may stand close together: `1h30m`.
        let mut rest = word;
        while !rest.is_empty() {
            let split = rest.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(rest.len());
            let (number, after) = rest.split_at(split);
            if number.trim_start_matches(['+', '-']).is_empty() {
                return None;
            }
            let end = after.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(after.len());
            let (unit, next) = after.split_at(end);
            rest = next;
            if !unit.is_empty() {
                sums.add(number, unit)?;
                continue;
            }
            match words.peek() {
                Some(unit) if unit.bytes().all(|b| b.is_ascii_alphabetic()) => {
                    sums.add(number, unit)?;
                    words.next();
                }
                // Before a time of day a number counts days; alone it counts seconds.
                Some(clock) if clock.contains(':') => sums.add(number, "day")?,
                Some(_) => return None,
                None => sums.add(number, "second")?,
            }
        }
    }
    if ago {
        sums = Sums { months: -sums.months, days: -sums.days, micros: -sums.micros, exact: -sums.exact };
    }
    Some(sums)
}

/// ISO 8601 after the `P`: with designators, `1Y2M3DT4H5M6S`, or in the other form, `0001-02-03T04:05:06`.
fn iso_interval(text: &str) -> Option<Sums> {
    let mut sums = Sums::default();
    let (date, time) = text.split_once(['T', 't']).unwrap_or((text, ""));
    if date.contains('-') && !date.contains(|c: char| c.is_ascii_alphabetic()) {
        let parts: Vec<&str> = date.splitn(3, '-').collect();
        for (part, unit) in parts.into_iter().zip(["year", "month", "day"]) {
            sums.add(part, unit)?;
        }
        if !time.is_empty() {
            sums.clock(time)?;
        }
        return Some(sums);
    }
    if date.is_empty() && time.is_empty() {
        return None;
    }
    for (part, in_time) in [(date, false), (time, true)] {
        let mut rest = part;
        while !rest.is_empty() {
            let end = rest.find(|c: char| c.is_ascii_alphabetic())?;
            let (number, unit) = (&rest[..end], rest.as_bytes()[end].to_ascii_uppercase());
            sums.add(
                number,
                match (unit, in_time) {
                    (b'Y', false) => "year",
                    (b'M', false) => "month",
                    (b'W', false) => "week",
                    (b'D', false) => "day",
                    (b'H', true) => "hour",
                    (b'M', true) => "minute",
                    (b'S', true) => "second",
                    _ => return None,
                },
            )?;
            rest = &rest[end + 1..];
        }
    }
    Some(sums)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{write_date, write_timestamp};

    #[test]
    fn dates_are_read_in_many_orders() {
        for text in [
            "January 8, 1999",
            "1999-Jan-08",
            "Jan-08-1999",
            "08-Jan-1999",
            "19990108",
            "990108",
            "1/8/1999",
            "1999.008",
            "J2451187",
            "1999 Jan 8",
            "Fri Jan 8 1999",
            "8 January 1999",
        ] {
            assert_eq!(write_date(TimeText::read(text, "date").unwrap().date.unwrap()), "1999-01-08", "{text}");
        }
        for (text, code) in [
            ("1999-13-01", Code::TimeOutOfRange),
            ("1999-02-30", Code::TimeOutOfRange),
            ("31/12/1999", Code::TimeOutOfRange),
            ("ferry", Code::InvalidTime),
            ("", Code::InvalidTime),
        ] {
            assert_eq!(TimeText::read(text, "date").unwrap_err().code, code, "{text}");
        }
    }

    #[test]
    fn times_of_day_and_zones_are_read() {
        for (text, clock) in [
            ("1999-01-08 04:05:06 PM", "1999-01-08 16:05:06"),
            ("1999-01-08T04:05", "1999-01-08 04:05:00"),
            ("19990108T040506", "1999-01-08 04:05:06"),
            ("1999-01-08 24:00:00", "1999-01-09 00:00:00"),
            ("January 8 04:05:06 1999 PST", "1999-01-08 04:05:06"),
            ("1999-01-08 00:00:00.1234567", "1999-01-08 00:00:00.123457"),
        ] {
            assert_eq!(write_timestamp(TimeText::read(text, "timestamp").unwrap().clock().unwrap()), clock, "{text}");
        }
        for (text, moment) in [
            ("1999-01-08 04:05:06 -8:00", "1999-01-08 12:05:06"),
            ("1999-01-08 04:05:06+0530", "1999-01-07 22:35:06"),
            ("1999-01-08 04:05:06 Europe/Paris", "1999-01-08 03:05:06"),
        ] {
            let read = TimeText::read(text, "timestamptz").unwrap().moment(Zone::Offset(0)).unwrap();
            assert_eq!(write_timestamp(read), moment, "{text}");
        }
    }

    #[test]
    fn intervals_are_read_in_all_forms() {
        for (text, expected) in [
            ("1-2", (14, 0, 0)),
            ("3 4:05:06", (0, 3, 14_706_000_000)),
            ("1 century", (1200, 0, 0)),
            ("1h30m", (0, 0, 5_400_000_000)),
            ("- 3 days", (0, -3, 0)),
            ("2 days 3 hours ago", (0, -2, -10_800_000_000)),
            ("P0001-02-03T04:05:06", (14, 3, 14_706_000_000)),
            ("1.5 months", (1, 15, 0)),
            ("0.1234567 seconds", (0, 0, 123_457)),
            ("5 ms", (0, 0, 5000)),
        ] {
            assert_eq!(read_interval(text).unwrap(), expected, "{text}");
        }
        assert_eq!(read_interval("9999999999 years").unwrap_err().code, Code::TimeOutOfRange);
        assert_eq!(read_interval("1 ferry").unwrap_err().code, Code::InvalidTime);
    }
}
