//! Avro files: header and blocks are read and unpacked by `avro_blocks.rs`, where what they say of their sizes can be doubted; the rows of each
//! block are decoded by the package.

use std::any::Any;
use std::io::{BufReader, Read};
use std::sync::Arc;

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use arrow_avro::reader::ReaderBuilder;
use cobble_storage::{Ordered, own_error};
use cobble_types::{Result, TextForm};

use crate::avro_blocks::{AvroBlocks, MAGIC, put_long, wrong};
use crate::avro_ids::with_ids;
use crate::batches::{ArrowBatches, Decoded, Opened, inferred};
use crate::whole_file::WholeFile;
use crate::{FileBatches, FileFormat, Footer, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Avro;

impl FileFormat for Avro {
    fn name(&self) -> &'static str {
        "avro"
    }

    fn words(&self) -> &'static str {
        "Avro"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["avro"]
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        inferred(file, &opened(file)?)
    }

    fn by_ids(&self, file: &OpenFile, rows: u64) -> Result<Arc<dyn Footer>> {
        let blocks = blocks(file)?;
        let schema = Arc::new(with_ids(&blocks.arrow, blocks.blocks.schema()));
        let stored = file.file.clone();
        Ok(Arc::new(WholeFile { file: stored, schema, rows, words: self.words(), open: whole }))
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ArrowBatches::new(file, self, shape, batch_rows, opened(file)?)?))
    }
}

fn blocks(file: &OpenFile) -> Result<Blocks> {
    let broken = |e: ArrowError| own_error(&e).unwrap_or_else(|| file.broken(Avro.words(), &e));
    file.held(Avro.words(), || Blocks::open(file).map_err(broken))
}

fn opened(file: &OpenFile) -> Result<Opened> {
    let blocks = blocks(file)?;
    let schema = blocks.arrow.clone();
    let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
    Ok(Opened { names, schema, batches: Box::new(blocks) })
}

/// Opens a file for all of its columns, as its rows have them one behind the other.
fn whole(file: &OpenFile, _: &[usize], _: usize) -> Result<(SchemaRef, Decoded)> {
    let blocks = blocks(file)?;
    Ok((blocks.arrow.clone(), Box::new(blocks)))
}

/// What rows take decoded, for each byte that they have in the file.
const DECODED: u64 = 4;

/// The blocks of a file, each decoded as a file of its own.
struct Blocks {
    file: OpenFile,
    blocks: AvroBlocks<BufReader<Ordered>>,
    /// A header without packing, to stand before each block.
    header: Vec<u8>,
    arrow: SchemaRef,
    failed: bool,
    /// What the rows at hand take.
    taken: Option<Box<dyn Any + Send + Sync>>,
}

impl Blocks {
    fn open(file: &OpenFile) -> std::result::Result<Blocks, ArrowError> {
        let blocks = AvroBlocks::open(BufReader::with_capacity(1 << 17, file.ordered()), file.memory.clone())?;
        let schema = blocks.schema();
        let mut header = MAGIC.to_vec();
        put_long(1, &mut header);
        for part in [b"avro.schema".as_slice(), schema] {
            put_long(part.len() as i64, &mut header);
            header.extend_from_slice(part);
        }
        put_long(0, &mut header);
        header.extend_from_slice(blocks.sync());
        let arrow = ReaderBuilder::new().build(header.as_slice())?.schema();
        Ok(Blocks { file: file.clone(), blocks, header, arrow, failed: false, taken: None })
    }

    fn batch(&mut self) -> std::result::Result<Option<RecordBatch>, ArrowError> {
        self.taken = None;
        let Some(block) = self.blocks.next_block()? else { return Ok(None) };
        let room = self.file.memory.take((DECODED - 1) * block.bytes.len() as u64 + DECODED * block.rows);
        let room = room.map_err(|e| ArrowError::ExternalError(Box::new(e)))?;
        self.taken = Some(Box::new((block.room, room)));
        self.decoded(block.rows, &block.bytes).map(Some)
    }

    /// The rows of a block. The batch is as large as the block says: the package looks for rows without an end in one that has more.
    fn decoded(&self, rows: u64, bytes: &[u8]) -> std::result::Result<RecordBatch, ArrowError> {
        let mut front = self.header.clone();
        put_long(rows as i64, &mut front);
        put_long(bytes.len() as i64, &mut front);
        let whole = front.as_slice().chain(bytes).chain(self.blocks.sync().as_slice());
        let mut reader = ReaderBuilder::new().with_batch_size(rows as usize).build(BufReader::new(whole))?;
        match reader.next().transpose()? {
            Some(batch) if batch.num_rows() as u64 == rows => Ok(batch),
            _ => Err(wrong(format!("a block has fewer than the {rows} rows that it says")).into()),
        }
    }
}

impl Iterator for Blocks {
    type Item = std::result::Result<RecordBatch, ArrowError>;

    fn next(&mut self) -> Option<Self::Item> {
        // After a failure nothing is known of the rest; it counts as one until the batch is there, as decoding may stop anywhere.
        if std::mem::replace(&mut self.failed, true) {
            return None;
        }
        let batch = self.batch();
        self.failed = batch.is_err();
        batch.transpose()
    }
}
