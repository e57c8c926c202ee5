//! Writing Parquet: row groups of a size that tasks can claim, compressed with Snappy.

use std::fs::File;
use std::io;

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;

use crate::FileWriter;

/// Rows of a row group.
const ROW_GROUP: usize = 131_072;

pub struct ParquetWriter(ArrowWriter<File>);

/// With the error of the disk, where that is what went wrong.
fn failed(error: ParquetError) -> io::Error {
    match error {
        ParquetError::External(inner) => match inner.downcast::<io::Error>() {
            Ok(own) => *own,
            Err(other) => io::Error::other(other),
        },
        other => io::Error::other(other),
    }
}

impl ParquetWriter {
    pub fn new(file: File, schema: SchemaRef) -> io::Result<ParquetWriter> {
        let properties = WriterProperties::builder()
            .set_compression(Compression::SNAPPY)
            .set_max_row_group_row_count(Some(ROW_GROUP))
            .build();
        Ok(ParquetWriter(ArrowWriter::try_new(file, schema, Some(properties)).map_err(failed)?))
    }
}

impl FileWriter for ParquetWriter {
    fn write(&mut self, batch: &RecordBatch) -> io::Result<()> {
        self.0.write(batch).map_err(failed)
    }

    fn held(&self) -> usize {
        self.0.memory_size()
    }

    fn size(&self) -> usize {
        self.0.bytes_written() + self.0.in_progress_size()
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush().map_err(failed)
    }

    fn finish(self: Box<Self>) -> io::Result<File> {
        self.0.into_inner().map_err(failed)
    }
}
