//! ORC (specification v1). Only the streams of the wanted columns are read.

use std::io::{self, Seek, SeekFrom};
use std::panic::AssertUnwindSafe;
use std::sync::atomic::Ordering;

use arrow::error::ArrowError;
use bytes::Bytes;
use cobble_storage::Ordered;
use cobble_types::TextForm;
use orc_rust::ArrowReaderBuilder;
use orc_rust::projection::ProjectionMask;
use orc_rust::reader::ChunkReader;
use orc_rust::schema::TimestampPrecision;

use crate::batches::{ArrowBatches, Opened, inferred, wanted};
use crate::{FileBatches, FileFormat, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Orc;

impl FileFormat for Orc {
    fn name(&self) -> &'static str {
        "orc"
    }

    fn words(&self) -> &'static str {
        "ORC"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["orc"]
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> cobble_types::Result<Inferred> {
        inferred(file, &opened(file, 1, None).map_err(|e| file.broken(self.words(), &e))?)
    }

    fn reading(&self, columns: &[String]) -> String {
        format!(", columns {}", if columns.is_empty() { "none".to_owned() } else { columns.join(", ") })
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> cobble_types::Result<Box<dyn FileBatches>> {
        let opened = opened(file, batch_rows, Some(&wanted(shape))).map_err(|e| file.broken(self.words(), &e))?;
        Ok(Box::new(ArrowBatches::new(file, self, shape, opened)?))
    }
}

/// A file whose pieces are read where they are wanted; what is read is counted.
struct Pieces {
    file: OpenFile,
}

impl ChunkReader for Pieces {
    type T = Ordered;

    fn len(&self) -> u64 {
        self.file.blob.size()
    }

    fn get_read(&self, offset: u64) -> io::Result<Ordered> {
        let mut input = self.file.ordered();
        input.seek(SeekFrom::Start(offset))?;
        Ok(input)
    }

    fn get_bytes(&self, offset: u64, length: u64) -> io::Result<Bytes> {
        if offset.checked_add(length).is_none_or(|end| end > self.file.blob.size()) {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than it says"));
        }
        self.file.read_bytes.fetch_add(length, Ordering::Relaxed);
        self.file.blob.read(offset, length as usize)
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

/// Opens an ORC file for these columns, or for all without a list.
fn opened(file: &OpenFile, batch_rows: usize, wanted: Option<&[&str]>) -> Result<Opened, ArrowError> {
    let pieces = Pieces { file: file.clone() };
    let builder = held(|| ArrowReaderBuilder::try_new(pieces).map_err(external))?;
    let root = builder.file_metadata().root_data_type();
    let all: Vec<String> = root.children().iter().map(|column| column.name().to_lowercase()).collect();
    let is_wanted = |name: &str| wanted.is_none_or(|names| names.contains(&name));
    let own = root.children().iter().zip(&all).filter(|(_, name)| is_wanted(name));
    let mask = ProjectionMask::named_roots(root, &own.map(|(column, _)| column.name()).collect::<Vec<_>>());
    let builder = builder
        .with_projection(mask)
        .with_batch_size(batch_rows)
        .with_timestamp_precision(TimestampPrecision::Microsecond);
    let schema = builder.schema();
    let mut decoded = builder.build();
    let mut next = move || decoded.next().transpose();
    let mut failed = false;
    let batches = std::iter::from_fn(move || {
        // After a failure nothing is known of the rest.
        let batch = if failed { Ok(None) } else { held(&mut next) };
        failed |= batch.is_err();
        batch.transpose()
    });
    Ok(Opened { names: all, schema, batches: Box::new(batches) })
}
