//! Results and errors on the terminal and in files.

use std::fs::File;
use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::Path;

use arrow::array::{Array, RecordBatch, RecordBatchOptions};
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use arrow::ipc::writer::FileWriter;
use cobble_api::ErrorBody;
use cobble_types::{Code, Error, array_value_text, csv_header, json_row, write_csv_rows};
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use parquet::arrow::ArrowWriter;

use crate::Outcome;

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Format {
    Table,
    Csv,
    Jsonl,
    Json,
    Arrow,
    Parquet,
}

/// Rows of a result that the table form shows.
const TABLE_ROWS: usize = 1000;
/// How null is shown in a table, where an empty text would look the same.
const NULL: &str = "∅";

/// Takes a result batch by batch and writes it in one form.
pub struct Sink {
    format: Format,
    out: Box<dyn Write>,
    columns: Vec<String>,
    shown: Vec<RecordBatch>,
    rows: usize,
    file: Option<FileSink>,
}

enum FileSink {
    Arrow(Box<FileWriter<Box<dyn Write>>>),
    Parquet(Box<ArrowWriter<File>>),
}

fn failed(what: &str, error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("{what}: {error}"))
}

impl Sink {
    pub fn new(format: Format, out: Option<&Path>, columns: Vec<String>) -> Outcome<Sink> {
        let to: Box<dyn Write> = match (out, format) {
            (Some(path), Format::Parquet) => {
                // Parquet writes through a file of its own, opened with the first batch.
                drop(File::create(path).map_err(|e| failed(&path.display().to_string(), e))?);
                Box::new(io::sink())
            }
            (Some(path), _) => {
                Box::new(BufWriter::new(File::create(path).map_err(|e| failed(&path.display().to_string(), e))?))
            }
            (None, Format::Arrow | Format::Parquet) if io::stdout().is_terminal() => {
                return Err(crate::Failure::Usage("this format is not for a terminal; name a file with --out".into()));
            }
            (None, Format::Parquet) => {
                return Err(crate::Failure::Usage("parquet needs a file: name one with --out".into()));
            }
            (None, _) => Box::new(BufWriter::new(io::stdout())),
        };
        Ok(Sink { format, out: to, columns, shown: vec![], rows: 0, file: None })
    }

    pub fn batch(&mut self, batch: &RecordBatch, path: Option<&Path>) -> Outcome {
        let first = self.rows == 0;
        self.write_batch(batch, first, path).map_err(|e| match e.kind() {
            // A reader such as `head` that has seen enough is no failure.
            io::ErrorKind::BrokenPipe => std::process::exit(0),
            _ => crate::Failure::from(failed("the result cannot be written", e)),
        })?;
        self.rows += batch.num_rows();
        Ok(())
    }

    fn named(&self, batch: &RecordBatch) -> io::Result<RecordBatch> {
        let fields: Vec<Field> = self
            .columns
            .iter()
            .zip(batch.columns())
            .map(|(name, column)| Field::new(name, column.data_type().clone(), true))
            .collect();
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        RecordBatch::try_new_with_options(Schema::new(fields).into(), batch.columns().to_vec(), &options)
            .map_err(io::Error::other)
    }

    fn write_batch(&mut self, batch: &RecordBatch, first: bool, path: Option<&Path>) -> io::Result<()> {
        match self.format {
            Format::Table => {
                if self.rows < TABLE_ROWS {
                    self.shown.push(batch.slice(0, batch.num_rows().min(TABLE_ROWS - self.rows)));
                }
            }
            Format::Csv => {
                if first {
                    write!(self.out, "{}", csv_header(self.columns.iter().map(String::as_str)))?;
                }
                let mut lines = String::new();
                write_csv_rows(batch, &mut lines);
                self.out.write_all(lines.as_bytes())?;
            }
            Format::Jsonl | Format::Json => {
                for row in 0..batch.num_rows() {
                    let object = json_row(self.columns.iter().map(String::as_str), batch, row);
                    if self.format == Format::Jsonl {
                        writeln!(self.out, "{object}")?;
                    } else {
                        write!(self.out, "{}\n  {object}", if first && row == 0 { "[" } else { "," })?;
                    }
                }
            }
            Format::Arrow | Format::Parquet => {
                let named = self.named(batch)?;
                match self.file(named.schema(), path)? {
                    FileSink::Arrow(writer) => writer.write(&named).map_err(io::Error::other)?,
                    FileSink::Parquet(writer) => writer.write(&named).map_err(io::Error::other)?,
                }
            }
        }
        Ok(())
    }

    /// The writer of the file, opened on first use.
    fn file(&mut self, schema: SchemaRef, path: Option<&Path>) -> io::Result<&mut FileSink> {
        let begun = match self.file.take() {
            Some(known) => known,
            None => match (self.format, path) {
                (Format::Parquet, Some(path)) => FileSink::Parquet(Box::new(
                    ArrowWriter::try_new(File::create(path)?, schema, None).map_err(io::Error::other)?,
                )),
                _ => {
                    let out = std::mem::replace(&mut self.out, Box::new(io::sink()));
                    FileSink::Arrow(Box::new(FileWriter::try_new(out, &schema).map_err(io::Error::other)?))
                }
            },
        };
        Ok(self.file.insert(begun))
    }

    /// Completes the output; returns the number of rows. A file of no rows still has its columns, which are of these types.
    pub fn finish(mut self, types: &[DataType], path: Option<&Path>) -> Outcome<usize> {
        let rows = self.rows;
        let outcome: io::Result<()> = (|| {
            if matches!(self.format, Format::Arrow | Format::Parquet) && self.file.is_none() {
                let fields = self.columns.iter().zip(types).map(|(name, t)| Field::new(name, t.clone(), true));
                let schema = Schema::new(fields.collect::<Vec<_>>());
                self.file(schema.into(), path)?;
            }
            match (self.format, self.file.take()) {
                (Format::Table, _) => write!(self.out, "{}", table(&self.columns, &self.shown))?,
                (Format::Csv, _) if rows == 0 => {
                    write!(self.out, "{}", csv_header(self.columns.iter().map(String::as_str)))?;
                }
                (Format::Json, _) => writeln!(self.out, "{}", if rows == 0 { "[]" } else { "\n]" })?,
                (_, Some(FileSink::Arrow(mut writer))) => writer.finish().map_err(io::Error::other)?,
                (_, Some(FileSink::Parquet(writer))) => drop(writer.close().map_err(io::Error::other)?),
                _ => {}
            }
            self.out.flush()
        })();
        match outcome {
            Ok(()) => Ok(rows),
            Err(e) if e.kind() == io::ErrorKind::BrokenPipe => Ok(rows),
            Err(e) => Err(failed("the result cannot be written", e).into()),
        }
    }
}

fn plain_table() -> Table {
    let mut table = Table::new();
    // A line under the header and nothing else.
    table.load_preset(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_style(comfy_table::TableComponent::HeaderLines, '─');
    table.set_style(comfy_table::TableComponent::MiddleHeaderIntersections, '─');
    if !io::stdout().is_terminal() {
        table.set_content_arrangement(ContentArrangement::Disabled);
    }
    table
}

fn trimmed(table: &Table) -> String {
    table.to_string().lines().map(|line| format!("{}\n", line.trim_end())).collect()
}

/// Batches as a table: numbers to the right.
pub fn table(columns: &[String], batches: &[RecordBatch]) -> String {
    let mut table = plain_table();
    table.set_header(columns.iter().map(Cell::new));
    for batch in batches {
        for row in 0..batch.num_rows() {
            table.add_row(batch.columns().iter().map(|column| {
                let text = array_value_text(column.as_ref(), row).unwrap_or_else(|| NULL.to_owned());
                let cell = Cell::new(text);
                if column.data_type().is_numeric() { cell.set_alignment(CellAlignment::Right) } else { cell }
            }));
        }
    }
    trimmed(&table)
}

/// Rows of words as a table.
pub fn text_table(header: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut table = plain_table();
    table.set_header(header.to_vec());
    for row in rows {
        table.add_row(row);
    }
    trimmed(&table)
}

pub fn print_json(value: &impl serde::Serialize) -> Outcome {
    let text = serde_json::to_string_pretty(value).map_err(|e| Error::internal(e.to_string()))?;
    println!("{text}");
    Ok(())
}

pub fn print_error(error: &Error, statement: Option<&str>, json: bool) {
    match json {
        true => eprintln!("{}", serde_json::to_string(&ErrorBody::from(error)).unwrap_or_default()),
        false => eprintln!("{}", error_text(error, statement)),
    }
}

/// An error with the line of the statement it stands in.
fn error_text(error: &Error, statement: Option<&str>) -> String {
    if error.code == Code::Cancelled {
        // Somebody wanted it so.
        return error.message.clone();
    }
    let mut lines = vec![format!("error: {}", error.message)];
    if let Some(position) = error.position {
        let line = statement.and_then(|s| s.lines().nth(position.line.saturating_sub(1) as usize));
        match line {
            Some(line) => {
                let label = format!("  line {} | ", position.line);
                let indent = label.chars().count() + position.column.saturating_sub(1) as usize;
                lines.push(format!("{label}{line}"));
                lines.push(format!("{}^ column {}", " ".repeat(indent), position.column));
            }
            None => lines.push(format!("  line {}, column {}", position.line, position.column)),
        }
    }
    lines.extend(error.hint.iter().map(|hint| format!("hint: {hint}")));
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow::array::{ArrayRef, Int64Array, StringViewArray};
    use cobble_types::Position;

    use super::*;

    fn ports() -> RecordBatch {
        let ids: ArrayRef = Arc::new(Int64Array::from(vec![Some(7), None]));
        let names: ArrayRef = Arc::new(StringViewArray::from(vec![Some("Old \"Quay\", east"), Some("Ness")]));
        RecordBatch::try_from_iter_with_nullable([("0", ids, true), ("1", names, true)]).unwrap()
    }

    /// The bytes of a file to which these batches were written.
    fn written(format: Format, batches: &[RecordBatch]) -> Vec<u8> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ports");
        let mut sink = Sink::new(format, Some(&path), vec!["id".into(), "name".into()]).unwrap();
        batches.iter().for_each(|batch| sink.batch(batch, Some(&path)).unwrap());
        let types = [DataType::Int64, DataType::Utf8View];
        let rows = sink.finish(&types, Some(&path)).unwrap();
        assert_eq!(rows, batches.iter().map(RecordBatch::num_rows).sum::<usize>());
        std::fs::read(&path).unwrap()
    }

    fn text(format: Format, batches: &[RecordBatch]) -> String {
        String::from_utf8(written(format, batches)).unwrap()
    }

    #[test]
    fn each_form_has_the_rows_and_none_is_a_result_too() {
        let two = [ports(), ports().slice(0, 1)];
        assert_eq!(
            text(Format::Csv, &two),
            "id,name\n7,\"Old \"\"Quay\"\", east\"\n,Ness\n7,\"Old \"\"Quay\"\", east\"\n"
        );
        assert_eq!(text(Format::Csv, &[]), "id,name\n");
        assert_eq!(text(Format::Jsonl, &two).lines().count(), 3);
        assert_eq!(text(Format::Jsonl, &[]), "");
        for batches in [&two[..], &[]] {
            let parsed: Vec<serde_json::Value> = serde_json::from_str(&text(Format::Json, batches)).unwrap();
            assert_eq!(parsed.len(), batches.iter().map(RecordBatch::num_rows).sum::<usize>());
        }
        assert_eq!(
            text(Format::Table, &two[..1]),
            " id   name\n───────────────────────\n  7   Old \"Quay\", east\n  ∅   Ness\n"
        );
    }

    #[test]
    fn files_of_columns_can_be_read_again_whatever_they_hold() {
        for batches in [vec![ports(), ports()], vec![]] {
            let rows = 2 * batches.len();
            let arrow =
                arrow::ipc::reader::FileReader::try_new(std::io::Cursor::new(written(Format::Arrow, &batches)), None);
            let arrow = arrow.unwrap();
            assert_eq!(arrow.schema().field(1).name(), "name");
            assert_eq!(arrow.map(|batch| batch.unwrap().num_rows()).sum::<usize>(), rows);
            let bytes = bytes::Bytes::from(written(Format::Parquet, &batches));
            let parquet = parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder::try_new(bytes).unwrap();
            assert_eq!(parquet.schema().field(0).name(), "id");
            assert_eq!(parquet.build().unwrap().map(|batch| batch.unwrap().num_rows()).sum::<usize>(), rows);
        }
    }

    #[test]
    fn an_error_stands_at_its_place() {
        let error = Error::new(Code::UnknownName, "there is no column \"fair\"").hint("did you mean \"fare\"?");
        let placed = error.clone().at(Some(Position { line: 2, column: 3 }));
        assert_eq!(
            error_text(&placed, Some("SELECT\n  fair")),
            "error: there is no column \"fair\"\n  line 2 |   fair\n             ^ column 3\nhint: did you mean \"fare\"?"
        );
        assert!(error_text(&placed, None).contains("  line 2, column 3\n"));
        assert!(error_text(&placed, Some("SELECT")).contains("  line 2, column 3\n"), "another text");
        assert_eq!(error_text(&Error::cancelled(), Some("SELECT 1")), Error::cancelled().message);
    }
}
