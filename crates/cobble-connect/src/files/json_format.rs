//! Reading JSON: one object a line, or an array of objects; nested values as rows and arrays. A missing field is null.

use std::io::{BufReader, Read};
use std::sync::Arc;

use arrow::array::ArrayRef;
use arrow::datatypes::{Field, Schema};
use arrow::json::ReaderBuilder;
use cobble_types::{Code, Result};

use super::json_objects::ObjectLines;
use super::listing::DataFile;
use super::scan::{FileBatches, ScanShape};
use super::{file_error, text_error};

pub struct JsonBatches {
    reader: arrow::json::Reader<BufReader<ObjectLines<Box<dyn Read + Send>>>>,
    connection: String,
    file: DataFile,
    rows: u64,
    counts_only: bool,
}

impl JsonBatches {
    pub fn open(shape: &ScanShape, file: &DataFile, input: Box<dyn Read + Send>, batch_rows: usize) -> Result<Self> {
        // Without a column the reader would have no rows to count: the first one stands in.
        let places: Vec<usize> = if shape.file_columns.is_empty() { vec![0] } else { shape.file_columns.clone() };
        let fields: Vec<Field> = places
            .iter()
            .map(|place| Field::new(&shape.set.columns[*place].name, shape.types[*place].to_arrow(), true))
            .collect();
        let connection = shape.set.source.connection.clone();
        let reader = ReaderBuilder::new(Arc::new(Schema::new(fields)))
            .with_batch_size(batch_rows)
            .with_coerce_primitive(true)
            .build(BufReader::with_capacity(1 << 16, ObjectLines::new(input)))
            .map_err(|e| file_error(&connection, &file.path, Code::SourceData, e))?;
        Ok(JsonBatches { reader, connection, file: file.clone(), rows: 0, counts_only: shape.file_columns.is_empty() })
    }
}

impl FileBatches for JsonBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        match self.reader.next() {
            None => Ok(None),
            Some(Ok(batch)) => {
                self.rows += batch.num_rows() as u64;
                let columns = if self.counts_only { vec![] } else { batch.columns().to_vec() };
                Ok(Some((columns, batch.num_rows())))
            }
            Some(Err(error)) => {
                let what = format!("an object after the first {} does not fit: {error}", self.rows);
                Err(text_error(&self.connection, &self.file, &error, what)
                    .hint("each object's values must have the types of those at the start of the file"))
            }
        }
    }
}
