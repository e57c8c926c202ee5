//! CSV: RFC 4180 and its relatives, with other delimiters, encodings and ways to write values.

mod dialect;
mod encoding;
mod infer;
mod marks;
mod read;
mod write;

use std::fs::File;
use std::io;

use arrow::datatypes::SchemaRef;
use cobble_types::{Result, SqlType, TextForm};

pub use dialect::{Dialect, check};

use crate::{FileBatches, FileFormat, FileWriter, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Csv;

impl FileFormat for Csv {
    fn name(&self) -> &'static str {
        "csv"
    }

    fn words(&self) -> &'static str {
        "CSV"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["csv", "tsv"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn has_dialects(&self) -> bool {
        true
    }

    /// Only CSV values are normalised to the form that UUIDs are compared in.
    fn takes(&self, _: &SqlType) -> bool {
        true
    }

    fn infer(&self, file: &OpenFile, form: &TextForm, defined: bool) -> Result<Inferred> {
        infer::infer(file, form, defined)
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(read::CsvBatches::open(file, shape, batch_rows)?))
    }

    fn is_written(&self) -> bool {
        true
    }

    fn writer(&self, file: File, schema: SchemaRef) -> io::Result<Box<dyn FileWriter>> {
        Ok(Box::new(write::CsvWriter::new(file, &schema)?))
    }
}
