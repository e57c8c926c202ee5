//! Columns and types of a CSV file, from a sample at its start.

use std::io::{BufReader, Read};
use std::sync::atomic::{AtomicU64, Ordering};

use cobble_plan::logical::TableColumn;
use cobble_types::{Code, Error, Result, SqlType, TextForm};
use encoding_rs::UTF_8;

use super::dialect::Dialect;
use super::marks::Marks;
use crate::infer::{Inferred, SAMPLE, column};
use crate::{Guess, OpenFile, Packing};

/// Bytes that show how a text is written.
const START: usize = 1 << 16;

/// `form` is what is known of how the text is written.
pub fn infer(file: &OpenFile, form: &TextForm, defined: bool) -> Result<Inferred> {
    let mut input = file.unpacked()?;
    let unreadable = |e: std::io::Error| file.text_error(&e, e.to_string());
    let mut start = Vec::new();
    input.by_ref().take(START as u64).read_to_end(&mut start).map_err(unreadable)?;
    let dialect = Dialect::of(&start, start.len() < START, form, defined)
        .map_err(|e| Error { message: format!("{}: {}", file.file.path.display(), e.message), ..e })?;
    let read = AtomicU64::new(0);
    let sample = Sample { input: start.as_slice().chain(input.take(SAMPLE - START as u64)), read: &read };
    let input = dialect.decoded(Box::new(sample));
    let mut reader = dialect.reader().has_headers(false).from_reader(BufReader::new(input));
    let bad =
        |e: csv::Error| file.text_error(&e, e.to_string()).hint("the file should be UTF-8 text with a header line");
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
            return Err(file
                .error(Code::SourceData, format!("the header names \"{name}\" twice"))
                .hint("give each column a name of its own"));
        }
        // What was never anything but null may be anything in another file.
        let sql_type = if *guess == Guess::Nothing { SqlType::Null } else { guess.sql_type() };
        columns.push(column(&name, sql_type));
    }
    // How much a packed file holds is not known by its size.
    let tells = rows > 0 && Packing::of(&file.file.path) == Packing::None;
    let row_width = tells.then(|| (last_end.saturating_sub(header_end)) as f64 / rows as f64);
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
