//! Writing Parquet: row groups of a size that tasks can claim, compressed with Snappy.

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use arrow::array::{Array, ArrayRef, RecordBatch};
use arrow::compute::filter;
use arrow::datatypes::SchemaRef;
use arrow::row::{RowConverter, SortField};
use parquet::arrow::ArrowWriter;
use parquet::arrow::arrow_writer::{
    ArrowColumnChunk, ArrowColumnWriter, ArrowLeafColumn, ArrowRowGroupWriterFactory, compute_leaves,
};
use parquet::basic::Compression;
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::ColumnPath;

use crate::FileWriter;

/// Rows of a row group.
const ROW_GROUP: usize = 131_072;

/// Batches with fewer values are not worth a second thread.
const WORTH_A_THREAD: usize = 16_384;
/// Threads that encode the columns of a file.
const MOST_THREADS: usize = 4;

/// So many values tell whether a column has the same ones again and again.
const SAMPLE: usize = 4096;

/// A file of which nothing is written yet, or one with its rows.
pub struct ParquetWriter {
    schema: SchemaRef,
    state: State,
}

enum State {
    Fresh(File),
    Open(Box<Open>),
    /// Something went wrong.
    Gone,
}

/// Columns are encoded and compressed by several threads, each column by one of them at a time.
struct Open {
    file: SerializedFileWriter<File>,
    factory: ArrowRowGroupWriterFactory,
    schema: SchemaRef,
    /// Of the row group under construction, one for each leaf of the columns.
    columns: Vec<Column>,
    /// Rows of it.
    rows: usize,
    threads: usize,
}

struct Column {
    writer: ArrowColumnWriter,
    /// What its last part took.
    took: Duration,
}

/// Does all pieces of work, by several threads if there are several.
fn all_done<T: Send>(
    work: Vec<T>,
    threads: usize,
    one: impl Fn(T) -> Result<(), ParquetError> + Sync,
) -> io::Result<()> {
    let left = Mutex::new(work.into_iter());
    let next = || left.lock().unwrap_or_else(PoisonError::into_inner).next();
    let run = || -> Result<(), ParquetError> {
        while let Some(piece) = next() {
            one(piece)?;
        }
        Ok(())
    };
    let outcomes = std::thread::scope(|scope| {
        // Where there is no further thread to be had, fewer do the work.
        let others = (1..threads).map(|_| std::thread::Builder::new().spawn_scoped(scope, run));
        let others: Vec<_> = others.flatten().collect();
        let own = run();
        let stopped = |_| Err(ParquetError::General("a thread that encodes has stopped".to_owned()));
        let others = others.into_iter().map(|other| other.join().unwrap_or_else(stopped));
        std::iter::once(own).chain(others.collect::<Vec<_>>()).collect::<Result<Vec<()>, _>>()
    });
    outcomes.map(drop).map_err(failed)
}

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

/// Whether nearly each value of a column is another one, so that a dictionary would hold about as much as the column: if one of 200 values at most
/// comes again among thousands, there are several times as many values as rows in a row group.
fn hardly_repeats(column: &ArrayRef) -> bool {
    let values = column.slice(0, column.len().min(2 * SAMPLE));
    let count = values.len() - values.logical_null_count();
    if count < SAMPLE || values.data_type().is_nested() {
        return false;
    }
    let distinct = || {
        let present = match values.logical_nulls() {
            Some(nulls) => filter(&values, &nulls.inner().clone().into()).ok()?,
            None => values.clone(),
        };
        let rows = RowConverter::new(vec![SortField::new(values.data_type().clone())]).ok()?;
        let rows = rows.convert_columns(&[present]).ok()?;
        Some(rows.iter().map(|row| row.owned()).collect::<HashSet<_>>().len())
    };
    distinct().is_some_and(|distinct| distinct * 200 >= count * 199)
}

impl ParquetWriter {
    pub fn new(file: File, schema: SchemaRef) -> ParquetWriter {
        ParquetWriter { schema, state: State::Fresh(file) }
    }

    /// The file with its rows. The first ones say which columns have a dictionary.
    fn open(&mut self, first: Option<&RecordBatch>) -> io::Result<&mut Open> {
        if let State::Fresh(_) = self.state
            && let State::Fresh(file) = std::mem::replace(&mut self.state, State::Gone)
        {
            self.state = State::Open(Box::new(Open::new(file, self.schema.clone(), first)?));
        }
        match &mut self.state {
            State::Open(open) => Ok(open),
            _ => Err(io::Error::other("the file could not be begun")),
        }
    }
}

impl Open {
    fn new(file: File, schema: SchemaRef, first: Option<&RecordBatch>) -> io::Result<Open> {
        let mut properties = WriterProperties::builder()
            .set_compression(Compression::SNAPPY)
            .set_max_row_group_row_count(Some(ROW_GROUP));
        for (field, column) in schema.fields().iter().zip(first.map_or(&[][..], RecordBatch::columns)) {
            if hardly_repeats(column) {
                let path = ColumnPath::new(vec![field.name().clone()]);
                properties = properties.set_column_dictionary_enabled(path, false);
            }
        }
        let writer = ArrowWriter::try_new(file, schema.clone(), Some(properties.build())).map_err(failed)?;
        let (file, factory) = writer.into_serialized_writer().map_err(failed)?;
        let threads = std::thread::available_parallelism().map_or(1, |cores| cores.get().min(MOST_THREADS));
        Ok(Open { file, factory, schema, columns: vec![], rows: 0, threads })
    }

    /// Encodes rows of the row group under construction.
    fn encode(&mut self, batch: &RecordBatch) -> io::Result<()> {
        if self.columns.is_empty() {
            let place = self.file.flushed_row_groups().len();
            let writers = self.factory.create_column_writers(place).map_err(failed)?;
            self.columns = writers.into_iter().map(|writer| Column { writer, took: Duration::ZERO }).collect();
        }
        let mut leaves = Vec::with_capacity(self.columns.len());
        for (field, column) in self.schema.fields().iter().zip(batch.columns()) {
            leaves.extend(compute_leaves(field, column).map_err(failed)?);
        }
        let threads = if batch.num_rows() * leaves.len() < WORTH_A_THREAD { 1 } else { self.threads.min(leaves.len()) };
        let mut work: Vec<(&mut Column, ArrowLeafColumn)> = self.columns.iter_mut().zip(leaves).collect();
        // What takes longest begins first.
        work.sort_by_key(|(column, _)| std::cmp::Reverse(column.took));
        self.rows += batch.num_rows();
        all_done(work, threads, |(column, leaf)| {
            let began = Instant::now();
            column.writer.write(&leaf)?;
            column.took = began.elapsed();
            Ok(())
        })
    }

    fn end_row_group(&mut self) -> io::Result<()> {
        if self.columns.is_empty() {
            return Ok(());
        }
        let columns: Vec<ArrowColumnWriter> = self.columns.drain(..).map(|column| column.writer).collect();
        let mut chunks: Vec<Option<ArrowColumnChunk>> = columns.iter().map(|_| None).collect();
        let work: Vec<_> = columns.into_iter().zip(&mut chunks).collect();
        let threads = if self.rows * work.len() < WORTH_A_THREAD { 1 } else { self.threads.min(work.len()) };
        all_done(work, threads, |(writer, chunk)| {
            *chunk = Some(writer.close()?);
            Ok(())
        })?;
        self.rows = 0;
        let mut group = self.file.next_row_group().map_err(failed)?;
        for chunk in chunks.into_iter().flatten() {
            chunk.append_to_row_group(&mut group).map_err(failed)?;
        }
        group.close().map(drop).map_err(failed)
    }
}

impl FileWriter for ParquetWriter {
    fn write(&mut self, batch: &RecordBatch) -> io::Result<()> {
        let open = self.open(Some(batch))?;
        let mut written = 0;
        while written < batch.num_rows() {
            let rows = (batch.num_rows() - written).min(ROW_GROUP - open.rows);
            open.encode(&batch.slice(written, rows))?;
            written += rows;
            if open.rows == ROW_GROUP {
                open.end_row_group()?;
            }
        }
        Ok(())
    }

    fn held(&self) -> usize {
        let State::Open(open) = &self.state else { return 0 };
        open.columns.iter().map(|column| column.writer.memory_size()).sum()
    }

    fn size(&self) -> usize {
        let State::Open(open) = &self.state else { return 0 };
        let held = open.columns.iter().map(|column| column.writer.get_estimated_total_bytes());
        open.file.bytes_written() + held.sum::<usize>()
    }

    fn flush(&mut self) -> io::Result<()> {
        self.open(None)?.end_row_group()
    }

    fn finish(mut self: Box<Self>) -> io::Result<File> {
        self.open(None)?.end_row_group()?;
        match self.state {
            State::Open(open) => open.file.into_inner().map_err(failed),
            State::Fresh(_) | State::Gone => Err(io::Error::other("the file could not be begun")),
        }
    }
}
