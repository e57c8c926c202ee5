//! File formats behind one trait: the columns of a file, what its footer knows, the parts that cannot hold a wanted row, reading and
//! writing. One file for each format, and a line in [`ALL`].

mod arrow_file;
mod avro;
mod avro_blocks;
mod avro_ids;
mod batches;
pub mod csv;
mod footer;
mod guess;
mod infer;
mod json;
mod known;
mod open_file;
mod orc;
mod orc_types;
mod packed_buffers;
mod packing;
pub mod parquet;
pub mod prune;
mod record_bound;
pub mod row_groups;
mod rows_out;
mod united;
mod whole_file;

use std::fmt;
use std::fs::File;
use std::io;
use std::path::Path;

use ::arrow::array::{ArrayRef, RecordBatch};
use ::arrow::datatypes::SchemaRef;
use cobble_plan::logical::{TableColumn, part_name};
use cobble_types::{Code, Error, Result, SqlType, TextForm};

pub use avro_blocks::{AvroBlock, AvroBlocks, put_long};
pub use csv::Dialect;
pub use footer::{
    Adapt, FIELD_ID, FileCondition, Footer, Layout, PageCondition, PartReading, check_columns, statistics,
    united_columns,
};
pub use guess::Guess;
pub use infer::{Inferred, column, json_type, merge as merge_types, settled};
pub use known::Known;
pub use open_file::{LONGEST_RECORD, OpenFile};
pub use packed_buffers::unpacked;
pub use packing::{Packing, stem};
pub use rows_out::{RowsOut, repeated, schema_of};
pub use united::{Conflict, United, Wider, wider, wider_text};

/// A format of files.
pub trait FileFormat: Send + Sync + fmt::Debug {
    /// The name that definitions use, such as `csv`.
    fn name(&self) -> &'static str;
    /// The name that people use, such as `CSV`.
    fn words(&self) -> &'static str;
    /// What the names of its files end in; the first is that of files that are written.
    fn endings(&self) -> &'static [&'static str];
    /// True for text, whose files may be packed as a whole.
    fn is_text(&self) -> bool {
        false
    }
    /// True where files are written in several ways, which a definition may say.
    fn has_dialects(&self) -> bool {
        false
    }
    /// Whether a column that is defined may have this type.
    fn takes(&self, sql_type: &SqlType) -> bool {
        *sql_type != SqlType::Uuid
    }
    /// The columns, from the file itself or from its first rows. `form` is what is known of how its text is written, and words for null
    /// are looked for only in a table that is `defined`.
    fn infer(&self, file: &OpenFile, form: &TextForm, defined: bool) -> Result<Inferred>;
    /// What the parts of a file with a footer are called; none for files that are read from their start.
    fn parts(&self) -> Option<&'static str> {
        None
    }
    /// Reads the footer of a file that has one.
    fn footer(&self, file: &OpenFile) -> Result<std::sync::Arc<dyn Footer>> {
        Err(file.error(Code::Unsupported, format!("{} files have no footer", self.words())))
    }
    /// Opens a file of so many rows whose columns are found by the ids of their fields.
    fn by_ids(&self, file: &OpenFile, rows: u64) -> Result<std::sync::Arc<dyn Footer>> {
        let _ = rows;
        Err(file.error(Code::Unsupported, format!("columns of {} files have no ids", self.words())))
    }
    /// What is read of these columns, as the end of a request's words.
    fn reading(&self, columns: &[String]) -> String {
        let _ = columns;
        String::new()
    }
    /// Reads a file without a footer from its start.
    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>>;
    /// True for a format that is written too.
    fn is_written(&self) -> bool {
        false
    }
    /// Writes a file of these columns.
    fn writer(&self, file: File, schema: SchemaRef) -> io::Result<Box<dyn FileWriter>> {
        let _ = (file, schema);
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// Every format, in the order in which error messages list them.
pub const ALL: &[&dyn FileFormat] =
    &[&csv::Csv, &json::Json, &parquet::Parquet, &avro::Avro, &arrow_file::Arrow, &orc::Orc];

/// A format in use.
pub type Format = &'static dyn FileFormat;

/// What is read of each file of a table.
#[derive(Debug, Clone)]
pub struct Shape {
    /// The table's columns; those of folders stand behind those of files.
    pub columns: Vec<TableColumn>,
    /// For each its type, of a column that is read in part with only those fields.
    pub types: Vec<SqlType>,
    /// The places of the columns that are read from the files, in order.
    pub wanted: Vec<usize>,
    /// The columns were defined; those that files have besides are not wanted.
    pub is_defined: bool,
    /// How the files' text is written.
    pub dialect: Dialect,
}

impl Shape {
    /// What is read of the column at a place.
    pub fn name(&self, place: usize) -> String {
        let column = &self.columns[place];
        part_name(&column.name, &self.types[place], &column.sql_type)
    }

    /// The columns that stand in files.
    pub fn of_files(&self) -> impl Iterator<Item = &TableColumn> {
        self.columns.iter().filter(|column| !column.partition)
    }
}

/// Batches of the wanted columns of a file, in their order.
pub trait FileBatches: Send {
    /// Columns and number of rows; `None` at the end.
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>>;
}

/// Writes one file.
pub trait FileWriter: Send {
    fn write(&mut self, batch: &RecordBatch) -> io::Result<()>;
    /// Bytes of rows that it has not written out yet.
    fn held(&self) -> usize {
        0
    }
    /// Bytes that it has written, with those that it holds.
    fn size(&self) -> usize {
        self.held()
    }
    /// Writes out what it holds.
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
    /// Ends the file and returns it, to be renamed or uploaded.
    fn finish(self: Box<Self>) -> io::Result<File>;
}

/// Format and packing of a file, by the end of its name.
pub fn of(path: &Path) -> Option<(Format, Packing)> {
    let name = path.file_name()?.to_str()?.to_ascii_lowercase();
    let packing = Packing::of(path);
    let inner = if packing == Packing::None { name.as_str() } else { name.rsplit_once('.')?.0 };
    let ending = inner.rsplit_once('.')?.1;
    let format = *ALL.iter().find(|format| format.endings().contains(&ending))?;
    (packing == Packing::None || format.is_text()).then_some((format, packing))
}

/// The format of this name, as a definition writes it.
pub fn named(name: &str) -> Result<Format> {
    let found = ALL.iter().find(|format| format.name() == name);
    found.copied().ok_or_else(|| {
        let known = || ALL.iter().map(|format| format.name());
        let error = Error::unknown("format", name, known());
        let hint =
            error.hint.clone().unwrap_or_else(|| format!("known are {}", known().collect::<Vec<_>>().join(", ")));
        Error { code: Code::BadSetting, hint: Some(hint), ..error }
    })
}

/// The endings that make a file a table, for people to read.
pub fn endings() -> String {
    let of = |wanted: bool| {
        let own = ALL.iter().filter(move |format| format.is_text() == wanted).flat_map(|format| format.endings());
        own.map(|ending| format!(".{ending}")).collect::<Vec<_>>()
    };
    let mut last = of(false);
    let orc = last.pop().unwrap_or_default();
    format!("{} (these also with .gz or .zst), {} or {orc}", of(true).join(", "), last.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ending_says_format_and_packing() {
        let found = |name: &str| of(Path::new(name)).map(|(format, packing)| (format.name(), packing));
        assert_eq!(found("drop/tariffs.csv"), Some(("csv", Packing::None)));
        assert_eq!(found("Tariffs.CSV.GZ"), Some(("csv", Packing::Gzip)));
        assert_eq!(found("a.b.jsonl.zst"), Some(("json", Packing::Zstd)));
        assert_eq!(found("part-0.parquet"), Some(("parquet", Packing::None)));
        for nothing in ["part-0.parquet.gz", "notes.txt", "gz", ".gz", "README"] {
            assert!(found(nothing).is_none(), "{nothing}");
        }
        assert_eq!((stem("a.b.jsonl.zst"), stem("x.csv"), stem("plain")), ("a.b", "x", "plain"));
        assert!(named("csv").is_ok());
        let error = named("xml").unwrap_err();
        assert!(error.hint.unwrap().contains("csv, json, parquet, avro, arrow, orc"));
    }
}
