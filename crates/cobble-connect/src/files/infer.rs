//! Columns and types of text files, from a sample at their start.

use std::io::{BufRead, BufReader, Read};
use std::sync::atomic::{AtomicU64, Ordering};

use cobble_plan::logical::TableColumn;
use cobble_types::parse::{parse_decimal, parse_timestamp, parse_value};
use cobble_types::{Code, Error, Result, RowField, SqlType};
use encoding_rs::UTF_8;
use serde_json::Value as Json;

use super::dialect::Dialect;
use super::listing::DataFile;
use super::marks::Marks;
use super::{file_error, text_error};
use crate::table_definition::TableDefinition;

/// Bytes read to find out columns and types.
const SAMPLE: u64 = 4 << 20;

#[derive(Debug, Clone)]
pub struct Inferred {
    pub columns: Vec<TableColumn>,
    /// Average bytes of a row.
    pub row_width: Option<f64>,
    /// Of CSV: how it is written.
    pub dialect: Dialect,
}

pub fn column(name: &str, sql_type: SqlType) -> TableColumn {
    TableColumn { name: name.to_owned(), sql_type, nullable: true, partition: false, comment: None }
}

/// What texts have in common so far.
#[derive(Debug, Clone, PartialEq)]
pub enum Guess {
    Nothing,
    Boolean,
    BigInt,
    /// Most digits before and after the point.
    Numeric {
        whole: usize,
        scale: usize,
    },
    Double,
    Date,
    Timestamp,
    TimestampTz,
    Text,
}

impl Guess {
    pub fn of(text: &str) -> Guess {
        let first = text.as_bytes().first().copied().unwrap_or(b' ');
        if first.is_ascii_digit() || b"+-.".contains(&first) {
            if text.len() < 20 && text.parse::<i64>().is_ok() {
                // A leading zero is a code, not a number: 00420 must stay what it is.
                let digits = text.trim_start_matches(['+', '-']);
                return if digits.len() > 1 && digits.starts_with('0') { Guess::Text } else { Guess::BigInt };
            }
            if let Some((_, scale)) = parse_decimal(text)
                && !text.contains(['e', 'E'])
            {
                let digits = text.bytes().filter(u8::is_ascii_digit).count();
                let scale = usize::from(scale.unsigned_abs());
                return Guess::Numeric { whole: digits.saturating_sub(scale), scale };
            }
            if text.parse::<f64>().is_ok() {
                return Guess::Double;
            }
            // Whether day or month comes first is known of the standard's form only.
            let standard = text.as_bytes().get(4) == Some(&b'-');
            if standard && text.len() == 10 && parse_value(text, &SqlType::Date).is_ok() {
                return Guess::Date;
            }
            return match parse_timestamp(text).filter(|_| standard && text.len() > 10) {
                Some((_, None)) => Guess::Timestamp,
                Some((_, Some(_))) => Guess::TimestampTz,
                None => Guess::Text,
            };
        }
        match text {
            "true" | "false" | "TRUE" | "FALSE" | "True" | "False" => Guess::Boolean,
            _ => Guess::Text,
        }
    }

    pub fn with(self, other: Guess) -> Guess {
        use Guess::*;
        match (self, other) {
            (Nothing, g) | (g, Nothing) => g,
            (a, b) if a == b => a,
            (Numeric { whole: a, scale: s }, Numeric { whole: b, scale: t }) => {
                Numeric { whole: a.max(b), scale: s.max(t) }
            }
            (BigInt, Numeric { whole, scale }) | (Numeric { whole, scale }, BigInt) => {
                Numeric { whole: whole.max(19), scale }
            }
            (Double, BigInt | Numeric { .. }) | (BigInt | Numeric { .. }, Double) => Double,
            (Date, Timestamp) | (Timestamp, Date) => Timestamp,
            _ => Text,
        }
    }

    pub fn sql_type(&self) -> SqlType {
        match self {
            Guess::Nothing | Guess::Text => SqlType::Text,
            Guess::Boolean => SqlType::Boolean,
            Guess::BigInt => SqlType::BigInt,
            // Room for larger values further down than the sample: numeric(18, scale) at least.
            Guess::Numeric { whole, scale } if whole + scale <= 38 => {
                let precision = (whole + scale).max(18).max(scale + 1) as u8;
                SqlType::Numeric { precision: precision.min(38), scale: *scale as i8 }
            }
            Guess::Numeric { .. } | Guess::Double => SqlType::Double,
            Guess::Date => SqlType::Date,
            Guess::Timestamp => SqlType::Timestamp,
            Guess::TimestampTz => SqlType::TimestampTz,
        }
    }
}

/// Bytes that show how a text is written.
const START: usize = 1 << 16;

/// `definition` is what is known of the dialect without looking.
pub fn csv(
    connection: &str,
    file: &DataFile,
    mut input: impl Read + Send,
    definition: &TableDefinition,
) -> Result<Inferred> {
    let unreadable = |e: std::io::Error| text_error(connection, file, &e, e.to_string());
    let mut start = Vec::new();
    input.by_ref().take(START as u64).read_to_end(&mut start).map_err(unreadable)?;
    let dialect = Dialect::of(&start, start.len() < START, definition)
        .map_err(|e| Error { message: format!("{}: {}", file.path.display(), e.message), ..e })?;
    let read = AtomicU64::new(0);
    let sample = Sample { input: start.as_slice().chain(input.take(SAMPLE - START as u64)), read: &read };
    let input = dialect.decoded(Box::new(sample));
    let mut reader = dialect.reader().has_headers(false).from_reader(BufReader::new(input));
    let bad = |e: csv::Error| {
        text_error(connection, file, &e, e.to_string()).hint("the file should be UTF-8 text with a header line")
    };
    let mut record = csv::StringRecord::new();
    let mut names: Vec<String> = Vec::new();
    let mut header_end = 0;
    if dialect.header && reader.read_record(&mut record).map_err(bad)? {
        names = record.iter().map(column_name).collect();
        header_end = reader.position().byte();
    }
    let mut guesses = vec![Guess::Nothing; names.len()];
    let mut rows = 0u64;
    let mut last_end = header_end;
    // The last record of a cut sample may be half a line.
    let mut previous: Option<csv::StringRecord> = None;
    while reader.read_record(&mut record).map_err(bad)? {
        if !dialect.header && guesses.is_empty() {
            guesses = vec![Guess::Nothing; record.len()];
            names = vec![String::new(); record.len()];
        }
        if let Some(whole) = previous.replace(record.clone()) {
            take_record(&whole, &mut guesses, &dialect.marks);
            rows += 1;
            last_end = record.position().map_or(last_end, csv::Position::byte);
        }
    }
    drop(reader);
    if let Some(last) = previous
        && read.load(Ordering::Relaxed) < SAMPLE
    {
        take_record(&last, &mut guesses, &dialect.marks);
        rows += 1;
        last_end = if dialect.encoding.is_none_or(|encoding| encoding == UTF_8) {
            read.load(Ordering::Relaxed)
        } else {
            last_end
        };
    }
    let mut columns: Vec<TableColumn> = Vec::new();
    for (place, (name, guess)) in names.iter().zip(&guesses).enumerate() {
        let name = if name.is_empty() { numbered(place) } else { name.clone() };
        if columns.iter().any(|c| c.name == name) {
            return Err(file_error(
                connection,
                &file.path,
                Code::SourceData,
                format!("the header names \"{name}\" twice"),
            )
            .hint("give each column a name of its own"));
        }
        // What was never anything but null may be anything in another file.
        let sql_type = if *guess == Guess::Nothing { SqlType::Null } else { guess.sql_type() };
        columns.push(column(&name, sql_type));
    }
    let row_width = (rows > 0).then(|| (last_end.saturating_sub(header_end)) as f64 / rows as f64);
    Ok(Inferred { columns, row_width, dialect })
}

/// A column's name from a header.
pub fn column_name(written: &str) -> String {
    written.trim_start_matches('\u{feff}').trim().to_lowercase()
}

/// The name of a column that has none.
pub fn numbered(place: usize) -> String {
    format!("column{}", place + 1)
}

/// A sample that counts what was read of it.
struct Sample<'c, R> {
    input: R,
    read: &'c AtomicU64,
}

impl<R: Read> Read for Sample<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.input.read(buffer)?;
        self.read.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

fn take_record(record: &csv::StringRecord, guesses: &mut [Guess], marks: &Marks) {
    for (guess, text) in guesses.iter_mut().zip(record.iter()) {
        if !marks.is_null(text) && *guess != Guess::Text {
            *guess = std::mem::replace(guess, Guess::Nothing).with(marks.guess(text));
        }
    }
}

pub fn json(connection: &str, file: &DataFile, input: impl Read) -> Result<Inferred> {
    let mut reader = BufReader::new(input.take(SAMPLE));
    let (mut text, mut line, mut rows, mut bytes) = (String::new(), 0u64, 0u64, 0usize);
    let mut all = 0u64;
    let mut shape = SqlType::Row(vec![]);
    loop {
        text.clear();
        let read = reader.read_line(&mut text).map_err(|e| text_error(connection, file, &e, e.to_string()))?;
        line += 1;
        all += read as u64;
        if read == 0 {
            break;
        }
        if text.trim().is_empty() {
            continue;
        }
        let parsed: Json = match serde_json::from_str(&text) {
            Ok(parsed) => parsed,
            // A sample may end within a line.
            Err(_) if !text.ends_with('\n') && all >= SAMPLE => break,
            Err(e) => {
                let text = e.to_string();
                let what = text.split(" at line ").next().unwrap_or_default();
                return Err(file_error(
                    connection,
                    &file.path,
                    Code::SourceData,
                    format!("line {line} is not JSON: {what} at column {}", e.column()),
                )
                .hint("a JSON file holds objects, one on each line or all of them in one array"));
            }
        };
        if !parsed.is_object() {
            return Err(file_error(connection, &file.path, Code::SourceData, format!("line {line} is not an object"))
                .hint("a JSON file holds objects, one on each line or all of them in one array"));
        }
        shape = merge(shape, json_type(&parsed)).map_err(|(a, b)| {
            file_error(
                connection,
                &file.path,
                Code::SourceData,
                format!("line {line}: a value is {b} where earlier lines have {a}"),
            )
        })?;
        rows += 1;
        bytes += read;
    }
    let SqlType::Row(fields) = shape else { return Err(Error::internal("a line of JSON was no object")) };
    let columns = fields.iter().map(|field| column(&field.name, settled(&field.sql_type))).collect();
    Ok(Inferred { columns, row_width: (rows > 0).then(|| bytes as f64 / rows as f64), dialect: Dialect::default() })
}

pub fn json_type(value: &Json) -> SqlType {
    match value {
        Json::Null => SqlType::Null,
        Json::Bool(_) => SqlType::Boolean,
        Json::Number(n) if n.is_i64() => SqlType::BigInt,
        Json::Number(_) => SqlType::Double,
        Json::String(text) => match parse_timestamp(text).filter(|_| text.len() > 10) {
            Some((_, None)) => SqlType::Timestamp,
            Some((_, Some(_))) => SqlType::TimestampTz,
            None => SqlType::Text,
        },
        Json::Array(items) => {
            let item = items.iter().map(json_type).try_fold(SqlType::Null, merge).unwrap_or(SqlType::Text);
            SqlType::Array(Box::new(item))
        }
        Json::Object(map) => {
            SqlType::Row(map.iter().map(|(name, v)| RowField { name: name.clone(), sql_type: json_type(v) }).collect())
        }
    }
}

/// The type that holds both, or both when there is none.
pub fn merge(a: SqlType, b: SqlType) -> Result<SqlType, (SqlType, SqlType)> {
    use SqlType::*;
    Ok(match (a, b) {
        (Null, t) | (t, Null) => t,
        (BigInt, Double) | (Double, BigInt) => Double,
        (a, b) if a == b => a,
        (Timestamp | TimestampTz | Text, Timestamp | TimestampTz | Text) => Text,
        (Array(a), Array(b)) => Array(Box::new(merge(*a, *b)?)),
        (Row(mut fields), Row(more)) => {
            for field in more {
                match fields.iter_mut().find(|known| known.name == field.name) {
                    Some(known) => {
                        let before = std::mem::replace(&mut known.sql_type, Null);
                        known.sql_type = merge(before, field.sql_type)?;
                    }
                    None => fields.push(field),
                }
            }
            Row(fields)
        }
        (a @ (Array(_) | Row(_)), b) | (a, b @ (Array(_) | Row(_))) => return Err((a, b)),
        _ => Text,
    })
}

/// What was never anything but null is text.
pub fn settled(sql_type: &SqlType) -> SqlType {
    match sql_type {
        SqlType::Null => SqlType::Text,
        SqlType::Array(item) => SqlType::Array(Box::new(settled(item))),
        SqlType::Row(fields) => SqlType::Row(
            fields.iter().map(|f| RowField { name: f.name.clone(), sql_type: settled(&f.sql_type) }).collect(),
        ),
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn csv_values_agree_on_the_narrowest_type() {
        let n = |p, s| SqlType::Numeric { precision: p, scale: s };
        for (values, expected) in [
            (vec!["1", "22", ""], SqlType::BigInt),
            (vec!["1.5", "22.25"], n(18, 2)),
            (vec!["1", "2.50"], n(21, 2)),
            (vec!["1.5", "1e9"], SqlType::Double),
            (vec!["007", "12"], SqlType::Text),
            (vec!["2025-07-01"], SqlType::Date),
            (vec!["2025-07-01", "2025-07-01 09:00"], SqlType::Timestamp),
            (vec!["2025-07-01T09:00:00Z"], SqlType::TimestampTz),
            (vec!["true", "false"], SqlType::Boolean),
            (vec!["12", "n/a"], SqlType::Text),
            (vec!["", ""], SqlType::Text),
        ] {
            let guess =
                values.iter().filter(|v| !v.is_empty()).fold(Guess::Nothing, |guess, v| guess.with(Guess::of(v)));
            assert_eq!(guess.sql_type(), expected, "{values:?}");
        }
    }

    #[test]
    fn nested_values_are_rows_and_arrays() {
        let lines = [
            r#"{"buoy": 1, "at": "2025-07-01T09:00:00", "wave": {"height": 1}, "tags": []}"#,
            r#"{"buoy": 2, "at": null, "wave": {"height": 2.5, "period": 6}, "tags": ["calm"], "note": null}"#,
        ];
        let shape = lines
            .iter()
            .map(|line| json_type(&serde_json::from_str(line).unwrap()))
            .try_fold(SqlType::Row(vec![]), merge)
            .unwrap();
        assert_eq!(
            settled(&shape).to_string(),
            "row(buoy bigint, at timestamp, wave row(height double precision, period bigint), tags text[], note text)"
        );
        let clash =
            merge(json_type(&serde_json::json!({"a": 1})), json_type(&serde_json::json!({"a": {}}))).unwrap_err();
        assert_eq!((clash.0.to_string().as_str(), clash.1.to_string().as_str()), ("bigint", "row()"));
    }
}
