//! Reading ORC (specification v1): the package that decodes it brings the columnar library in a version of its own, so batches come
//! over in the form that both versions write and read.

use std::io::{self, Cursor, Seek, SeekFrom};
use std::panic::AssertUnwindSafe;
use std::sync::Arc;

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use arrow::ipc::reader::StreamReader;
use arrow_before::ipc::writer::StreamWriter;
use bytes::Bytes;
use cobble_plan::offer::GateCounters;
use orc_rust::ArrowReaderBuilder;
use orc_rust::projection::ProjectionMask;
use orc_rust::reader::ChunkReader;
use orc_rust::schema::TimestampPrecision;

use super::storage::{Blob, Ordered};

/// A file whose pieces are read where they are wanted; what is read is counted.
struct Pieces {
    blob: Arc<dyn Blob>,
    counters: Arc<GateCounters>,
}

impl ChunkReader for Pieces {
    type T = Ordered;

    fn len(&self) -> u64 {
        self.blob.size()
    }

    fn get_read(&self, offset: u64) -> io::Result<Ordered> {
        let mut input = Ordered::new(self.blob.clone(), self.counters.clone());
        input.seek(SeekFrom::Start(offset))?;
        Ok(input)
    }

    fn get_bytes(&self, offset: u64, length: u64) -> io::Result<Bytes> {
        if offset.checked_add(length).is_none_or(|end| end > self.blob.size()) {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it ends before what it says it holds"));
        }
        GateCounters::add(&self.counters.bytes, length);
        self.blob.read(offset, length as usize)
    }
}

fn external(error: impl std::error::Error + Send + Sync + 'static) -> ArrowError {
    ArrowError::ExternalError(Box::new(error))
}

/// What the package makes of a file, whatever the file holds: where it takes something for granted that is not so, it stops.
fn held<T>(work: impl FnOnce() -> Result<T, ArrowError>) -> Result<T, ArrowError> {
    let stopped = |_| Err(ArrowError::ParseError("what it holds contradicts itself".into()));
    std::panic::catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(stopped)
}

/// The same batch in this version of the library.
fn carried(batch: &arrow_before::array::RecordBatch) -> Result<RecordBatch, ArrowError> {
    let mut writer = StreamWriter::try_new(Vec::new(), &batch.schema()).map_err(external)?;
    writer.write(batch).map_err(external)?;
    let bytes = writer.into_inner().map_err(external)?;
    let mut reader = StreamReader::try_new(Cursor::new(bytes), None)?;
    reader.next().unwrap_or_else(|| Err(ArrowError::IpcError("a batch was lost on the way".into())))
}

type Batches = Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>;

/// The names of a file's columns in lower case, and its batches with those of them that are wanted; all without a list.
pub fn batches(
    blob: Arc<dyn Blob>,
    counters: Arc<GateCounters>,
    batch_rows: usize,
    wanted: Option<&[&str]>,
) -> Result<(Vec<String>, SchemaRef, Batches), ArrowError> {
    let builder = held(|| ArrowReaderBuilder::try_new(Pieces { blob, counters }).map_err(external))?;
    let root = builder.file_metadata().root_data_type();
    let all: Vec<String> = root.children().iter().map(|column| column.name().to_lowercase()).collect();
    let is_wanted = |name: &str| wanted.is_none_or(|names| names.contains(&name));
    let own = root.children().iter().zip(&all).filter(|(_, name)| is_wanted(name));
    let mask = ProjectionMask::named_roots(root, &own.map(|(column, _)| column.name()).collect::<Vec<_>>());
    let builder = builder
        .with_projection(mask)
        .with_batch_size(batch_rows)
        .with_timestamp_precision(TimestampPrecision::Microsecond);
    let empty = arrow_before::array::RecordBatch::new_empty(builder.schema());
    let schema = carried(&empty)?.schema();
    let mut decoded = builder.build();
    let mut next = move || match decoded.next() {
        Some(batch) => carried(&batch.map_err(external)?).map(Some),
        None => Ok(None),
    };
    let mut failed = false;
    let batches = std::iter::from_fn(move || {
        // After a failure nothing is known of the rest.
        let batch = if failed { Ok(None) } else { held(&mut next) };
        failed |= batch.is_err();
        batch.transpose()
    });
    Ok((all, schema, Box::new(batches)))
}
