//! JSON: one object a line, or an array of objects; nested values as rows and arrays. A missing field is null.

mod objects;

use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch};
use arrow::datatypes::{Field, Schema, SchemaRef};
use arrow::error::ArrowError;
use arrow::json::reader::Decoder;
use arrow::json::{LineDelimitedWriter, ReaderBuilder};
use cobble_plan::scan::BATCH_BYTES;
use cobble_types::{Code, Error, Result, SqlType, TextForm};
use objects::ObjectLines;
use serde_json::Value;

use crate::infer::{SAMPLE, column, json_type, merge, settled};
use crate::{Dialect, FileBatches, FileFormat, FileWriter, Inferred, OpenFile, Packing, Shape};

#[derive(Debug)]
pub struct Json;

impl FileFormat for Json {
    fn name(&self) -> &'static str {
        "json"
    }

    fn words(&self) -> &'static str {
        "JSON"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["jsonl", "ndjson", "json"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        infer(file)
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(JsonBatches::open(file, shape, batch_rows)?))
    }

    fn is_written(&self) -> bool {
        true
    }

    fn writer(&self, file: File, _: SchemaRef) -> io::Result<Box<dyn FileWriter>> {
        Ok(Box::new(JsonWriter(LineDelimitedWriter::new(BufWriter::with_capacity(1 << 17, file)))))
    }
}

fn infer(file: &OpenFile) -> Result<Inferred> {
    let input = ObjectLines::new(file.unpacked()?, file.longest_record);
    let mut reader = BufReader::new(input.take(SAMPLE));
    let (mut text, mut line, mut rows, mut bytes) = (String::new(), 0u64, 0u64, 0usize);
    let mut all = 0u64;
    let mut shape = SqlType::Row(vec![]);
    loop {
        text.clear();
        let read = reader.read_line(&mut text).map_err(|e| file.text_error(&e, e.to_string()))?;
        line += 1;
        all += read as u64;
        if read == 0 {
            break;
        }
        if text.trim().is_empty() {
            continue;
        }
        let parsed: Value = match serde_json::from_str(&text) {
            Ok(parsed) => parsed,
            // A sample may end within a line.
            Err(_) if !text.ends_with('\n') && all >= SAMPLE => break,
            Err(e) => {
                let text = e.to_string();
                let what = text.split(" at line ").next().unwrap_or_default();
                return Err(file
                    .error(Code::SourceData, format!("line {line} is not JSON: {what} at column {}", e.column()))
                    .hint("a JSON file holds objects, one on each line or all of them in one array"));
            }
        };
        if !parsed.is_object() {
            return Err(file
                .error(Code::SourceData, format!("line {line} is not an object"))
                .hint("a JSON file holds objects, one on each line or all of them in one array"));
        }
        shape = merge(shape, json_type(&parsed)).map_err(|(a, b)| {
            file.error(Code::SourceData, format!("line {line}: a value is {b} where earlier lines have {a}"))
        })?;
        rows += 1;
        bytes += read;
    }
    let SqlType::Row(fields) = shape else { return Err(Error::internal("a line of JSON was no object")) };
    let columns = fields.iter().map(|field| column(&field.name, settled(&field.sql_type))).collect();
    // How much a packed file holds is not known by its size.
    let tells = rows > 0 && Packing::of(&file.file.path) == Packing::None;
    Ok(Inferred { columns, row_width: tells.then(|| bytes as f64 / rows as f64), dialect: Dialect::default() })
}

struct JsonBatches {
    input: BufReader<ObjectLines<Box<dyn Read + Send>>>,
    decoder: Decoder,
    file: OpenFile,
    rows: u64,
    counts_only: bool,
}

impl JsonBatches {
    fn open(file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Self> {
        let input = ObjectLines::new(file.unpacked()?, file.longest_record);
        // Without a column the reader would have no rows to count: the first one stands in.
        let places: Vec<usize> = if shape.wanted.is_empty() { vec![0] } else { shape.wanted.clone() };
        let fields: Vec<Field> = places
            .iter()
            .map(|place| Field::new(&shape.columns[*place].name, shape.types[*place].to_arrow(), true))
            .collect();
        let decoder = ReaderBuilder::new(Arc::new(Schema::new(fields)))
            .with_batch_size(batch_rows)
            .with_coerce_primitive(true)
            .build_decoder()
            .map_err(|e| file.error(Code::SourceData, e))?;
        let input = BufReader::with_capacity(1 << 16, input);
        Ok(JsonBatches { input, decoder, file: file.clone(), rows: 0, counts_only: shape.wanted.is_empty() })
    }
}

impl JsonBatches {
    /// As many rows as a batch may have, or fewer where they are long.
    fn decoded(&mut self) -> std::result::Result<Option<RecordBatch>, ArrowError> {
        let mut bytes = 0;
        loop {
            let ready = self.input.fill_buf()?;
            // The decoder gives out what it has only between two objects.
            let is_enough = bytes > BATCH_BYTES as usize;
            let end = ready.iter().position(|byte| is_enough && *byte == b'\n').map_or(ready.len(), |at| at + 1);
            let taken = self.decoder.decode(&ready[..end])?;
            let is_last = ready.is_empty() || taken < end || end < ready.len();
            self.input.consume(taken);
            bytes += taken;
            if is_last {
                return self.decoder.flush();
            }
        }
    }
}

impl FileBatches for JsonBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        match self.decoded().transpose() {
            None => Ok(None),
            Some(Ok(batch)) => {
                self.rows += batch.num_rows() as u64;
                let columns = if self.counts_only { vec![] } else { batch.columns().to_vec() };
                Ok(Some((columns, batch.num_rows())))
            }
            Some(Err(error)) => {
                let what = format!("an object after the first {} does not fit: {error}", self.rows);
                Err(self
                    .file
                    .text_error(&error, what)
                    .hint("each object's values must have the types of those at the start of the file"))
            }
        }
    }
}

struct JsonWriter(LineDelimitedWriter<BufWriter<File>>);

impl FileWriter for JsonWriter {
    fn write(&mut self, batch: &RecordBatch) -> io::Result<()> {
        self.0.write(batch).map_err(io::Error::other)
    }

    fn finish(mut self: Box<Self>) -> io::Result<File> {
        self.0.finish().map_err(io::Error::other)?;
        let mut inner = self.0.into_inner();
        inner.flush()?;
        inner.into_inner().map_err(io::IntoInnerError::into_error)
    }
}
