//! The file format of Arrow's interprocess communication (Arrow columnar format, "IPC File Format"). What a file says of its own sizes is
//! checked before anything is reserved for it.

use std::any::Any;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use arrow::array::RecordBatch;
use arrow::buffer::Buffer;
use arrow::error::ArrowError;
use arrow::ipc::convert::fb_to_schema;
use arrow::ipc::reader::{FileDecoder, read_footer_length};
use arrow::ipc::{Block, root_as_footer};
use cobble_storage::own_error;
use cobble_types::{Result, TextForm};

use crate::batches::{ArrowBatches, Opened, inferred};
use crate::packed_buffers::{unpacked, wrong};
use crate::{FileBatches, FileFormat, Inferred, OpenFile, Shape};

#[derive(Debug)]
pub struct Arrow;

impl FileFormat for Arrow {
    fn name(&self) -> &'static str {
        "arrow"
    }

    fn words(&self) -> &'static str {
        "Arrow"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["arrow", "ipc"]
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        inferred(file, &opened(file)?)
    }

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ArrowBatches::new(file, self, shape, batch_rows, opened(file)?)?))
    }
}

fn opened(file: &OpenFile) -> Result<Opened> {
    file.held(Arrow.words(), || {
        let broken = |e: ArrowError| own_error(&e).unwrap_or_else(|| file.broken(Arrow.words(), &e));
        let blocks = Blocks::open(file).map_err(broken)?;
        let schema = blocks.schema.clone();
        let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
        Ok(Opened { names, schema, batches: Box::new(blocks) })
    })
}

/// Bytes at the end of a file: the footer's length and the mark.
const END: u64 = 10;

/// The record batches of a file.
struct Blocks {
    file: OpenFile,
    schema: arrow::datatypes::SchemaRef,
    decoder: FileDecoder,
    rest: std::vec::IntoIter<Block>,
    /// What the batch at hand takes.
    taken: Option<Box<dyn Any + Send + Sync>>,
    /// What dictionaries take, which stay.
    _dictionaries: Vec<Box<dyn Any + Send + Sync>>,
}

impl Blocks {
    fn open(file: &OpenFile) -> std::result::Result<Blocks, ArrowError> {
        let size = file.blob.size();
        let start = size.checked_sub(END).ok_or_else(|| wrong("it is shorter than its end"))?;
        let end: [u8; 10] = bytes(file, start, END)?.as_ref().try_into().map_err(|_| wrong("it ends early"))?;
        let length = read_footer_length(end)? as u64;
        let start = start.checked_sub(length).ok_or_else(|| wrong("its footer is longer than the file"))?;
        let footer = bytes(file, start, length)?;
        let footer = root_as_footer(&footer).map_err(|e| wrong(&format!("its footer cannot be read: {e}")))?;
        let schema = footer.schema().ok_or_else(|| wrong("its footer has no schema"))?;
        if !schema.endianness().equals_to_target_endianness() {
            return Err(wrong("its numbers have their bytes in another order"));
        }
        let schema = Arc::new(fb_to_schema(schema));
        let mut decoder = FileDecoder::new(schema.clone(), footer.version());
        let mut dictionaries = Vec::new();
        for block in footer.dictionaries().iter().flatten() {
            let (buffer, taken) = read(file, block)?;
            dictionaries.push(taken);
            decoder.read_dictionary(block, &buffer)?;
        }
        let blocks = footer.recordBatches().ok_or_else(|| wrong("its footer names no batches"))?;
        let rest = blocks.iter().copied().collect::<Vec<Block>>().into_iter();
        Ok(Blocks { file: file.clone(), schema, decoder, rest, taken: None, _dictionaries: dictionaries })
    }

    fn batch(&mut self, block: &Block) -> std::result::Result<Option<RecordBatch>, ArrowError> {
        self.taken = None;
        let (buffer, taken) = read(&self.file, block)?;
        self.taken = Some(taken);
        self.decoder.read_record_batch(block, &buffer)
    }
}

impl Iterator for Blocks {
    type Item = std::result::Result<RecordBatch, ArrowError>;

    fn next(&mut self) -> Option<Self::Item> {
        let block = self.rest.next()?;
        let batch = self.batch(&block).transpose();
        if !matches!(batch, Some(Ok(_))) {
            // After a failure nothing is known of the rest.
            self.rest = vec![].into_iter();
        }
        batch
    }
}

fn bytes(file: &OpenFile, start: u64, length: u64) -> std::result::Result<bytes::Bytes, ArrowError> {
    file.read_bytes.fetch_add(length, Ordering::Relaxed);
    let length = usize::try_from(length).map_err(|_| wrong("a part of it is larger than memory"))?;
    Ok(file.blob.read(start, length)?)
}

/// The bytes of a block, and the memory for them and for what they unpack to.
fn read(file: &OpenFile, block: &Block) -> std::result::Result<(Buffer, Box<dyn Any + Send + Sync>), ArrowError> {
    let outside = || wrong("a block lies outside of the file");
    let part = |n: i64| u64::try_from(n).map_err(|_| outside());
    let (offset, head, body) = (part(block.offset())?, part(block.metaDataLength().into())?, part(block.bodyLength())?);
    let length = head.checked_add(body).ok_or_else(outside)?;
    if offset.checked_add(length).is_none_or(|end| end > file.blob.size()) {
        return Err(outside());
    }
    let taken = |bytes: u64| file.memory.take(bytes).map_err(|e| ArrowError::ExternalError(Box::new(e)));
    let packed = taken(length)?;
    let block = Buffer::from(bytes(file, offset, length)?);
    let message = match block.as_slice() {
        // A mark before the length, in all but the oldest files.
        [0xff, 0xff, 0xff, 0xff, _, _, _, _, message @ ..] | [_, _, _, _, message @ ..] => message,
        _ => return Err(wrong("a block ends early")),
    };
    let body = block.get(head as usize..).unwrap_or_default();
    let unpacked = taken(unpacked(message, body)?)?;
    Ok((block, Box::new((packed, unpacked))))
}
