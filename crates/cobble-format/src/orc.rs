//! ORC (specification v1). Only the streams of the wanted columns are read.

use std::io::{self, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use bytes::Bytes;
use cobble_storage::{Ordered, own_error};
use cobble_types::{Result, TextForm};
use orc_rust::ArrowReaderBuilder;
use orc_rust::projection::ProjectionMask;
use orc_rust::proto::Type;
use orc_rust::reader::ChunkReader;
use orc_rust::schema::TimestampPrecision;

use crate::batches::{ArrowBatches, Decoded, Opened, inferred, wanted};
use crate::orc_types;
use crate::whole_file::WholeFile;
use crate::{FileBatches, FileFormat, Footer, Inferred, OpenFile, Shape};

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

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        inferred(file, &opened(file, 1, None)?)
    }

    fn by_ids(&self, file: &OpenFile, rows: u64) -> Result<Arc<dyn Footer>> {
        let types = types(file)?;
        let schema = orc_types::with_ids(all_of(file)?.as_ref(), &types);
        let stored = file.file.clone();
        Ok(Arc::new(WholeFile { file: stored, schema: Arc::new(schema), rows, words: self.words(), open: at_roots }))
    }

    fn reading(&self, columns: &[String]) -> String {
        format!(", columns {}", if columns.is_empty() { "none".to_owned() } else { columns.join(", ") })
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        let opened = opened(file, batch_rows, Some(&wanted(shape)))?;
        Ok(Box::new(ArrowBatches::new(file, self, shape, batch_rows, opened)?))
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

/// The types of the file, which are a tree.
fn types(file: &OpenFile) -> Result<Vec<Type>> {
    let broken = |e: io::Error| own_error(&e).unwrap_or_else(|| file.broken(Orc.words(), &e));
    file.held(Orc.words(), || orc_types::check(file.blob.as_ref()).map_err(broken))
}

/// A file whose types have been looked through.
fn builder(file: &OpenFile) -> Result<ArrowReaderBuilder<Pieces>> {
    let broken = |e| file.broken(Orc.words(), &external(e));
    let pieces = Pieces { file: file.clone() };
    file.held(Orc.words(), || ArrowReaderBuilder::try_new(pieces).map_err(broken))
}

/// Opens an ORC file for these columns, or for all without a list.
fn opened(file: &OpenFile, batch_rows: usize, wanted: Option<&[&str]>) -> Result<Opened> {
    types(file)?;
    let builder = builder(file)?;
    let root = builder.file_metadata().root_data_type();
    let names: Vec<String> = root.children().iter().map(|column| column.name().to_lowercase()).collect();
    let is_wanted = |name: &str| wanted.is_none_or(|names| names.contains(&name));
    let own = root.children().iter().zip(&names).filter(|(_, name)| is_wanted(name));
    let mask = ProjectionMask::named_roots(root, &own.map(|(column, _)| column.name()).collect::<Vec<_>>());
    let (schema, batches) = decoded(builder, mask, batch_rows);
    Ok(Opened { names, schema, batches })
}

/// The file's own columns.
fn all_of(file: &OpenFile) -> Result<SchemaRef> {
    Ok(decoded(builder(file)?, ProjectionMask::all(), 1).0)
}

/// Opens a file for columns at these places of it.
fn at_roots(file: &OpenFile, roots: &[usize], batch_rows: usize) -> Result<(SchemaRef, Decoded)> {
    types(file)?;
    let builder = builder(file)?;
    let root = builder.file_metadata().root_data_type();
    let own = roots.iter().filter_map(|place| root.children().get(*place)).map(|column| column.name());
    let mask = ProjectionMask::named_roots(root, &own.collect::<Vec<_>>());
    Ok(decoded(builder, mask, batch_rows))
}

fn decoded(builder: ArrowReaderBuilder<Pieces>, mask: ProjectionMask, batch_rows: usize) -> (SchemaRef, Decoded) {
    let builder = builder
        .with_projection(mask)
        .with_batch_size(batch_rows)
        .with_timestamp_precision(TimestampPrecision::Microsecond);
    let schema = builder.schema();
    let mut decoded = builder.build();
    let mut failed = false;
    let batches = std::iter::from_fn(move || {
        // After a failure nothing is known of the rest; it counts as one until the batch is there, as decoding may stop anywhere.
        if std::mem::replace(&mut failed, true) {
            return None;
        }
        let batch = decoded.next();
        failed = !matches!(batch, Some(Ok(_)));
        batch
    });
    (schema, Box::new(batches))
}
