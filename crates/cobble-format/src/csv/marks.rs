//! How the values of a text file are written where it is not as in SQL: the marks of numbers, the order of a date's parts, words for
//! null. Said by a definition, or found out from the first rows where these leave no doubt.

use std::borrow::Cow;
use std::collections::BTreeSet;

use chrono::NaiveDate;
use chrono::format::{Parsed, StrftimeItems, parse};
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, TextForm, Value};
use csv::StringRecord;

use serde::{Deserialize, Serialize};

use crate::Guess;

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marks {
    /// Words that stand for null, in all columns; an empty field does in any case.
    pub nulls: Vec<String>,
    /// True where a comma begins the fraction of a number.
    pub decimal_comma: bool,
    /// What stands between groups of three digits.
    pub thousands: Option<char>,
    pub dates: Option<DatePattern>,
}

/// The order and form of a date's parts, such as `DD.MM.YYYY`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DatePattern {
    pub written: String,
    /// The same in the words of the package that reads dates.
    items: String,
    /// Spaces within it: after as many, a time of day may follow.
    spaces: usize,
}

/// Parts of a date pattern, the longer ones first.
const PARTS: &[(&str, &str)] =
    &[("YYYY", "%Y"), ("YY", "%y"), ("MONTH", "%B"), ("MON", "%b"), ("MM", "%m"), ("DD", "%d")];

impl DatePattern {
    pub fn parse(written: &str) -> Result<DatePattern> {
        let bad = |what: &str| {
            Error::new(Code::BadSetting, format!("\"{written}\" is no pattern of dates: {what}"))
                .hint("write it like DD.MM.YYYY, MM/DD/YY or DD MON YYYY")
        };
        let (mut rest, mut items, mut seen) = (written, String::new(), String::new());
        while let Some(next) = rest.chars().next() {
            let upper = rest.to_ascii_uppercase();
            match PARTS.iter().find(|(part, _)| upper.starts_with(part)) {
                Some((part, item)) => {
                    items.push_str(item);
                    seen.push(part.as_bytes()[0] as char);
                    rest = &rest[part.len()..];
                }
                None if next.is_alphanumeric() || next == '%' => return Err(bad(&format!("{next} is no part of one"))),
                None => {
                    items.push(next);
                    rest = &rest[next.len_utf8()..];
                }
            }
        }
        let mut parts: Vec<char> = seen.chars().collect();
        parts.sort_unstable();
        if parts != ['D', 'M', 'Y'] {
            return Err(bad("it needs a day, a month and a year, each once"));
        }
        Ok(DatePattern { written: written.to_owned(), items, spaces: written.matches(' ').count() })
    }

    fn date(&self, text: &str) -> Option<NaiveDate> {
        let mut parsed = Parsed::new();
        parse(&mut parsed, text, StrftimeItems::new(&self.items)).ok()?;
        // A year of two digits where four are written is another year.
        let whole = !self.items.contains("%Y") || parsed.year().is_some_and(|year| year >= 1000);
        parsed.to_naive_date().ok().filter(|_| whole)
    }

    /// The text as SQL writes dates and times, and whether a time of day is in it.
    fn plain(&self, text: &str) -> Option<(String, bool)> {
        let end = text.match_indices([' ', 'T']).filter(|(_, c)| *c == " " || self.spaces == 0).nth(self.spaces);
        let (date, time) = end.map_or((text, None), |(at, _)| (&text[..at], Some(text[at + 1..].trim())));
        let date = self.date(date)?;
        match time.filter(|time| !time.is_empty()) {
            None => Some((date.to_string(), false)),
            Some(time) => Some((format!("{date} {time}"), true)),
        }
    }
}

/// Words that mean null in files.
const NULL_WORDS: &[&str] =
    &["NULL", "null", "Null", "\\N", "NA", "N/A", "n/a", "na", "NaN", "nan", "None", "none", "-", "--", "?", "."];

/// Patterns that are looked for.
const PATTERNS: &[&str] = &[
    "DD.MM.YYYY",
    "DD/MM/YYYY",
    "MM/DD/YYYY",
    "DD-MM-YYYY",
    "MM-DD-YYYY",
    "YYYY/MM/DD",
    "YYYY.MM.DD",
    "DD.MM.YY",
    "DD/MM/YY",
    "MM/DD/YY",
    "DD MON YYYY",
    "DD-MON-YYYY",
    "DD MONTH YYYY",
];

impl Marks {
    pub fn is_plain(&self) -> bool {
        *self == Marks::default()
    }

    /// What a definition says in the place of what was found.
    pub fn with(mut self, form: &TextForm) -> Result<Marks> {
        if let Some(words) = &form.nulls {
            self.nulls = words.split(',').map(|word| word.trim().to_owned()).filter(|word| !word.is_empty()).collect();
        }
        if let Some(mark) = &form.decimal {
            self.decimal_comma = mark == ",";
        }
        if let Some(mark) = &form.thousands {
            self.thousands = mark.chars().next();
        }
        if let Some(pattern) = &form.dates {
            self.dates = Some(DatePattern::parse(pattern)?);
        }
        Ok(self)
    }

    /// Adds what another file of the same table shows; false where the two cannot both be so.
    pub fn take(&mut self, other: &Marks) -> bool {
        let clash = |a: bool, b: bool| a && b;
        let numbers = |m: &Marks| m.decimal_comma || m.thousands.is_some();
        let thousands = self.thousands.is_some() && other.thousands.is_some() && self.thousands != other.thousands;
        if clash(numbers(self), numbers(other)) && (self.decimal_comma != other.decimal_comma || thousands)
            || self.dates.is_some() && other.dates.is_some() && self.dates != other.dates
        {
            return false;
        }
        self.decimal_comma |= other.decimal_comma;
        self.thousands = self.thousands.or(other.thousands);
        self.dates = self.dates.take().or_else(|| other.dates.clone());
        for word in &other.nulls {
            if !self.nulls.contains(word) {
                self.nulls.push(word.clone());
            }
        }
        true
    }

    pub fn is_null(&self, text: &str) -> bool {
        text.is_empty() || self.nulls.iter().any(|word| word == text)
    }

    /// A number with its marks as SQL writes it; nothing where the marks stand in other places than they may.
    fn number<'t>(&self, text: &'t str) -> Option<Cow<'t, str>> {
        if !self.decimal_comma && self.thousands.is_none() {
            return Some(Cow::Borrowed(text));
        }
        let (decimal, other) = if self.decimal_comma { (',', '.') } else { ('.', ',') };
        let (whole, fraction) = text.split_once(decimal).map_or((text, None), |(w, f)| (w, Some(f)));
        let sign = whole.strip_prefix(['-', '+']);
        let (sign, digits) = sign.map_or(("", whole), |digits| (&whole[..1], digits));
        let mut groups = digits.split(self.thousands.unwrap_or(other));
        let first = groups.next().unwrap_or_default();
        let rest: Vec<&str> = groups.collect();
        let all_digits = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
        let grouped = rest.is_empty() || (self.thousands.is_some() && (1..=3).contains(&first.len()));
        if !grouped || !all_digits(first) || rest.iter().any(|group| group.len() != 3 || !all_digits(group)) {
            return None;
        }
        let exact = fraction.is_none_or(|f| f.bytes().all(|b| b.is_ascii_digit() || b"eE+-".contains(&b)));
        exact.then(|| match fraction {
            Some(fraction) => Cow::Owned(format!("{sign}{first}{}.{fraction}", rest.concat())),
            None => Cow::Owned(format!("{sign}{first}{}", rest.concat())),
        })
    }

    /// What a value that is not null looks like.
    pub fn guess(&self, text: &str) -> Guess {
        if let Some((plain, has_time)) = self.dates.as_ref().and_then(|dates| dates.plain(text)) {
            return match Guess::of(&plain) {
                Guess::Text => Guess::Text,
                _ if has_time => Guess::Timestamp,
                _ => Guess::Date,
            };
        }
        match self.number(text) {
            Some(Cow::Owned(plain)) if plain != *text => match Guess::of(&plain) {
                // Zeros in front tell a code only where no mark makes it a number.
                Guess::Text if self.thousands.is_some() || self.decimal_comma => Guess::Text,
                guess => guess,
            },
            Some(_) => Guess::of(text),
            // A mark of the other kind in a number's place: it is none in this file.
            None => match Guess::of(text) {
                Guess::BigInt | Guess::Numeric { .. } | Guess::Double => Guess::Text,
                guess => guess,
            },
        }
    }

    /// A value that is not null.
    pub fn value(&self, text: &str, sql_type: &SqlType) -> Result<Value> {
        match sql_type {
            SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz => match &self.dates {
                None => parse_value(text, sql_type),
                Some(dates) => match dates.plain(text) {
                    Some((plain, _)) => parse_value(&plain, sql_type),
                    None => {
                        Err(Error::new(Code::InvalidTime, format!("it is not a date of the form {}", dates.written)))
                    }
                },
            },
            other if other.is_number() => match self.number(text) {
                Some(plain) => parse_value(&plain, sql_type),
                None => Err(Error::new(Code::InvalidText, "the number is not written in the file's format")),
            },
            _ => parse_value(text, sql_type),
        }
    }

    /// What the first rows show beyond doubt. `delimiter` cannot be a mark of numbers in fields without quotes.
    pub fn of(records: &[StringRecord]) -> Marks {
        let Some(width) = records.first().map(StringRecord::len) else { return Marks::default() };
        let columns: Vec<Vec<&str>> = (0..width)
            .map(|place| records.iter().filter_map(|r| r.get(place)).filter(|text| !text.is_empty()).collect())
            .collect();
        let mut marks = Marks::default();
        marks.find_dates(&columns);
        marks.find_numbers(&columns);
        marks.find_nulls(&columns);
        marks
    }

    /// Values without those words that may stand for null.
    fn valued<'t>(column: &[&'t str]) -> Vec<&'t str> {
        column.iter().copied().filter(|text| !NULL_WORDS.contains(text)).collect()
    }

    fn find_dates(&mut self, columns: &[Vec<&str>]) {
        let patterns: Vec<DatePattern> = PATTERNS.iter().filter_map(|p| DatePattern::parse(p).ok()).collect();
        for column in columns {
            let values = Marks::valued(column);
            if values.is_empty() {
                continue;
            }
            let fits = |pattern: &&DatePattern| {
                values.iter().all(|text| {
                    let plain = pattern.plain(text);
                    plain.is_some_and(|(plain, _)| matches!(Guess::of(&plain), Guess::Date | Guess::Timestamp))
                })
            };
            // Where days and months could be either, nothing is shown.
            // Whole names of months take short ones, too.
            let fitting: Vec<&DatePattern> = patterns.iter().filter(fits).collect();
            if let [only] | [only, DatePattern { spaces: 2, .. }] = fitting.as_slice() {
                self.dates = Some((*only).clone());
                return;
            }
        }
    }

    fn find_numbers(&mut self, columns: &[Vec<&str>]) {
        let ways = [
            Marks { decimal_comma: true, ..Marks::default() },
            Marks { decimal_comma: true, thousands: Some('.'), ..Marks::default() },
            Marks { decimal_comma: true, thousands: Some(' '), ..Marks::default() },
            Marks { decimal_comma: true, thousands: Some('\u{a0}'), ..Marks::default() },
            Marks { decimal_comma: true, thousands: Some('\''), ..Marks::default() },
            Marks { thousands: Some(','), ..Marks::default() },
            Marks { thousands: Some(' '), ..Marks::default() },
            Marks { thousands: Some('\u{a0}'), ..Marks::default() },
            Marks { thousands: Some('\''), ..Marks::default() },
        ];
        let is_number = |guess: &Guess| matches!(guess, Guess::BigInt | Guess::Numeric { .. } | Guess::Double);
        let common = |marks: &Marks, values: &[&str]| {
            values.iter().map(|text| marks.guess(text)).fold(Guess::Nothing, Guess::with)
        };
        let plain = Marks::default();
        let texts: Vec<Vec<&str>> = columns
            .iter()
            .map(|column| Marks::valued(column))
            .filter(|values| !values.is_empty() && common(&plain, values) == Guess::Text)
            .collect();
        let numbers: Vec<Vec<&str>> = columns
            .iter()
            .map(|column| Marks::valued(column))
            .filter(|values| !values.is_empty() && is_number(&common(&plain, values)))
            .collect();
        // A way is shown by a column of texts that it makes numbers, and must leave the other numbers what they are.
        let shows = |way: &&Marks| {
            let gained = texts.iter().filter(|values| is_number(&common(way, values)));
            let sure = gained.filter(|values| values.iter().any(|text| way.is_sure(text))).count();
            sure > 0 && numbers.iter().all(|values| is_number(&common(way, values)))
        };
        let shown: Vec<&Marks> = ways.iter().filter(shows).collect();
        let gains = |way: &Marks| texts.iter().filter(|values| is_number(&common(way, values))).count();
        let most = shown.iter().map(|way| gains(way)).max().unwrap_or(0);
        let best: Vec<&&Marks> = shown.iter().filter(|way| gains(way) == most).collect();
        // Of ways that read as much, the one with the fewest marks.
        let marks = |way: &Marks| usize::from(way.decimal_comma) + usize::from(way.thousands.is_some());
        let fewest = best.iter().map(|way| marks(way)).min();
        if let [only] = best.iter().filter(|way| Some(marks(way)) == fewest).collect::<Vec<_>>().as_slice() {
            (self.decimal_comma, self.thousands) = (only.decimal_comma, only.thousands);
        }
    }

    /// A number that can be read in this way only: `1,234` alone could be either, `1,5` and `1.234,5` could not.
    fn is_sure(&self, text: &str) -> bool {
        let Some(plain) = self.number(text) else { return false };
        if plain == text {
            return false;
        }
        let mark = if self.decimal_comma { ',' } else { '.' };
        match self.thousands {
            None => text.rsplit(mark).next().is_some_and(|fraction| fraction.len() != 3),
            Some(between) => {
                let groups = text.matches(between).count();
                groups > 1 || (groups == 1 && (text.contains(mark) || [' ', '\u{a0}', '\''].contains(&between)))
            }
        }
    }

    fn find_nulls(&mut self, columns: &[Vec<&str>]) {
        let (mut words, mut texts) = (BTreeSet::new(), BTreeSet::new());
        for column in columns {
            let values = Marks::valued(column);
            let met = column.iter().filter(|text| NULL_WORDS.contains(text));
            let kind = values.iter().map(|text| self.guess(text)).fold(Guess::Nothing, Guess::with);
            match kind {
                // What stands among texts may be one.
                Guess::Text => texts.extend(met.copied()),
                _ => words.extend(met.copied()),
            }
        }
        self.nulls = words.difference(&texts).map(|word| (*word).to_owned()).collect();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(columns: &[&[&str]]) -> Marks {
        let rows = columns.iter().map(|column| column.len()).max().unwrap_or(0);
        let records: Vec<StringRecord> = (0..rows)
            .map(|row| {
                columns.iter().map(|column| column.get(row).copied().unwrap_or_default()).collect::<StringRecord>()
            })
            .collect();
        Marks::of(&records)
    }

    fn shown(marks: &Marks) -> String {
        let dates = marks.dates.as_ref().map_or("", |d| d.written.as_str());
        let comma = if marks.decimal_comma { "comma" } else { "point" };
        format!("{comma} {:?} {dates} {}", marks.thousands, marks.nulls.join(" ")).trim().to_owned()
    }

    #[test]
    fn only_what_leaves_no_doubt_is_found() {
        for (columns, expected) in [
            (vec![&["1", "2"][..], &["Heron", "Tern"]], "point None"),
            (vec![&["2,50", "3,10"][..]], "comma None"),
            (vec![&["1.234,50", "3,10"][..]], "comma Some('.')"),
            (vec![&["1.234,50", "3,10"][..], &["1.5"]], "point None"),
            (vec![&["1,234.50", "3.10"][..]], "point Some(',')"),
            (vec![&["1,234,567", "3"][..]], "point Some(',')"),
            // Both could be meant.
            (vec![&["1,234", "5,678"][..]], "point None"),
            (vec![&["1 234", "567"][..]], "point Some(' ')"),
            (vec![&["1'234.5", "567"][..]], "point Some('\\'')"),
            (vec![&["31.12.2025", "01.02.2025"][..]], "point None DD.MM.YYYY"),
            (vec![&["01/02/2025", "03/04/2025"][..]], "point None"),
            (vec![&["01/02/2025", "13/04/2025"][..]], "point None DD/MM/YYYY"),
            (vec![&["01/02/2025", "03/04/2025"][..], &["12/31/2024", "1/1/2025"]], "point None MM/DD/YYYY"),
            (vec![&["7 Jul 2025", "12 Aug 2025"][..]], "point None DD MON YYYY"),
            (vec![&["31.12.2025 14:05", "01.02.2025 09:00:30"][..]], "point None DD.MM.YYYY"),
            (vec![&["2025-12-31", "2025-01-01"][..]], "point None"),
            (vec![&["1", "NA", "3"][..], &["Heron", "-", "Tern"]], "point None  NA"),
            (vec![&["1", "-", "3"][..], &["Heron", "-", "Tern"]], "point None"),
            (vec![&["NA", "NA"][..]], "point None  NA"),
            (vec![&["-", "-"][..], &["Heron", "-"]], "point None"),
            (vec![&["2,5", "-"][..], &["31.12.2025", "n/a"]], "comma None DD.MM.YYYY - n/a"),
        ] {
            assert_eq!(shown(&of(&columns)), expected, "{columns:?}");
        }
    }

    #[test]
    fn values_are_read_by_their_marks() {
        let marks = Marks {
            decimal_comma: true,
            thousands: Some('.'),
            dates: Some(DatePattern::parse("DD.MM.YYYY").unwrap()),
            nulls: vec![],
        };
        let n = SqlType::Numeric { precision: 10, scale: 2 };
        for (text, sql_type, expected) in [
            ("1.234,5", &n, Some("1234.50")),
            ("-0,25", &n, Some("-0.25")),
            ("12", &n, Some("12.00")),
            ("12.5", &n, None),
            ("1.2345,0", &n, None),
            ("1234.567,0", &n, None),
            (",5", &n, Some("0.50")),
            ("31.12.2025", &SqlType::Date, Some("2025-12-31")),
            ("1.2.2025", &SqlType::Date, Some("2025-02-01")),
            ("31.02.2025", &SqlType::Date, None),
            ("31.12.25", &SqlType::Date, None),
            ("2025-12-31", &SqlType::Date, None),
            ("31.12.2025 14:05", &SqlType::Timestamp, Some("2025-12-31 14:05:00")),
            ("31.12.2025", &SqlType::Timestamp, Some("2025-12-31 00:00:00")),
            ("31.12.2025 25:00", &SqlType::Timestamp, None),
        ] {
            let found = marks.value(text, sql_type).ok().map(|value| {
                let literal = value.to_array(sql_type);
                cobble_types::array_value_text(literal.as_ref(), 0).unwrap_or_default()
            });
            assert_eq!(found.as_deref(), expected, "{text}");
        }
    }

    #[test]
    fn a_pattern_names_each_part_once() {
        for text in ["DD.MM", "DD.MM.YYYY.DD", "day", "%d", "", "DD.MM.YYYY HH24:MI"] {
            assert!(DatePattern::parse(text).is_err(), "{text}");
        }
    }
}
