//! Writing CSV as RFC 4180 has it, with a header.

use std::fs::File;
use std::io::{self, BufWriter};

use arrow::array::RecordBatch;
use arrow::datatypes::Schema;
use cobble_types::array_value_text;

use crate::FileWriter;

pub struct CsvWriter(csv::Writer<BufWriter<File>>);

impl CsvWriter {
    pub fn new(file: File, schema: &Schema) -> io::Result<CsvWriter> {
        let mut writer = csv::Writer::from_writer(BufWriter::with_capacity(1 << 17, file));
        writer.write_record(schema.fields().iter().map(|field| field.name()))?;
        Ok(CsvWriter(writer))
    }
}

impl FileWriter for CsvWriter {
    fn write(&mut self, batch: &RecordBatch) -> io::Result<()> {
        for row in 0..batch.num_rows() {
            let texts = batch.columns().iter().map(|c| array_value_text(c.as_ref(), row).unwrap_or_default());
            self.0.write_record(texts)?;
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> io::Result<File> {
        let inner = self.0.into_inner().map_err(|e| io::Error::new(e.error().kind(), e.error().to_string()))?;
        inner.into_inner().map_err(io::IntoInnerError::into_error)
    }
}
