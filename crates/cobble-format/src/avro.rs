//! Avro object container files (Avro specification 1.11, "Object Container Files"). Header and blocks are read and unpacked here, where
//! what they say of their sizes can be doubted; the rows of each block are decoded by the package.

use std::any::Any;
use std::io::{self, BufRead, BufReader, ErrorKind, Read};

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use arrow_avro::reader::ReaderBuilder;
use cobble_storage::{Ordered, own_error};
use cobble_types::{Result, TextForm};

use crate::batches::{ArrowBatches, Opened, inferred};
use crate::{FileBatches, FileFormat, Inferred, OpenFile, Shape};

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

    fn read(&self, file: &OpenFile, shape: &Shape, batch_rows: usize) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ArrowBatches::new(file, self, shape, batch_rows, opened(file)?)?))
    }
}

fn opened(file: &OpenFile) -> Result<Opened> {
    file.held(Avro.words(), || {
        let broken = |e: ArrowError| own_error(&e).unwrap_or_else(|| file.broken(Avro.words(), &e));
        let blocks = Blocks::open(file).map_err(broken)?;
        let schema = blocks.arrow.clone();
        let names = schema.fields().iter().map(|field| field.name().to_lowercase()).collect();
        Ok(Opened { names, schema, batches: Box::new(blocks) })
    })
}

const MAGIC: &[u8; 4] = b"Obj\x01";
/// Bytes of one entry of the header, and of one block, packed or not.
const MOST_HEADER: u64 = 16 << 20;
const MOST_BLOCK: u64 = 256 << 20;
/// Rows of a block that take no byte each.
const MOST_EMPTY: u64 = 1 << 20;
/// What rows take decoded, for each byte that they have in the file.
const DECODED: u64 = 4;

#[derive(Debug, Clone, Copy)]
enum Packing {
    None,
    Deflate,
    Snappy,
    Zstandard,
}

/// The blocks of a file, each decoded as a file of its own.
struct Blocks {
    file: OpenFile,
    input: BufReader<Ordered>,
    packing: Packing,
    /// A header without packing, to stand before each block.
    header: Vec<u8>,
    sync: [u8; 16],
    arrow: SchemaRef,
    failed: bool,
    /// What the rows at hand take.
    taken: Option<Box<dyn Any + Send + Sync>>,
}

fn wrong(what: impl Into<String>) -> io::Error {
    io::Error::new(ErrorKind::InvalidData, what.into())
}

/// A whole number in zigzag form of variable length.
fn long(input: &mut impl Read) -> io::Result<i64> {
    let mut value = 0u64;
    for shift in (0..64).step_by(7) {
        let mut byte = [0];
        input.read_exact(&mut byte)?;
        value |= u64::from(byte[0] & 0x7f) << shift;
        if byte[0] & 0x80 == 0 {
            return Ok((value >> 1) as i64 ^ -((value & 1) as i64));
        }
    }
    Err(wrong("a number is longer than ten bytes"))
}

fn put_long(value: i64, out: &mut Vec<u8>) {
    let mut rest = ((value << 1) ^ (value >> 63)) as u64;
    while rest > 0x7f {
        out.push(rest as u8 | 0x80);
        rest >>= 7;
    }
    out.push(rest as u8);
}

/// So many bytes, which are taken piece by piece: the number may be anything.
fn exactly(input: &mut impl Read, length: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    input.take(length).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == length { Ok(bytes) } else { Err(wrong("it ends within a block")) }
}

fn text(input: &mut impl Read) -> io::Result<Vec<u8>> {
    match u64::try_from(long(input)?) {
        Ok(length) if length <= MOST_HEADER => exactly(input, length),
        _ => Err(wrong("an entry of its header is too long")),
    }
}

impl Blocks {
    fn open(file: &OpenFile) -> std::result::Result<Blocks, ArrowError> {
        let mut input = BufReader::with_capacity(1 << 17, file.ordered());
        let mut magic = [0; 4];
        input.read_exact(&mut magic)?;
        if magic != *MAGIC {
            return Err(wrong("it does not begin as such a file does").into());
        }
        let (mut schema, mut packing) = (None, Packing::None);
        loop {
            let mut entries = long(&mut input)?;
            if entries < 0 {
                // With the bytes of what follows, for who wants to pass over it.
                long(&mut input)?;
                entries = entries.checked_neg().ok_or_else(|| wrong("its header has too many entries"))?;
            }
            if entries == 0 {
                break;
            }
            for _ in 0..entries {
                let (name, value) = (text(&mut input)?, text(&mut input)?);
                match name.as_slice() {
                    b"avro.schema" => schema = Some(value),
                    b"avro.codec" => {
                        packing = match value.as_slice() {
                            b"null" => Packing::None,
                            b"deflate" => Packing::Deflate,
                            b"snappy" => Packing::Snappy,
                            b"zstandard" => Packing::Zstandard,
                            other => {
                                let name = String::from_utf8_lossy(other).into_owned();
                                return Err(
                                    wrong(format!("its blocks are packed by {name}, which is not known")).into()
                                );
                            }
                        }
                    }
                    _ => {}
                }
            }
        }
        let mut sync = [0; 16];
        input.read_exact(&mut sync)?;
        let schema = schema.ok_or_else(|| wrong("its header has no schema"))?;
        let mut header = MAGIC.to_vec();
        put_long(1, &mut header);
        for part in [b"avro.schema".as_slice(), &schema] {
            put_long(part.len() as i64, &mut header);
            header.extend_from_slice(part);
        }
        put_long(0, &mut header);
        header.extend_from_slice(&sync);
        let arrow = ReaderBuilder::new().build(header.as_slice())?.schema();
        Ok(Blocks { file: file.clone(), input, packing, header, sync, arrow, failed: false, taken: None })
    }

    fn batch(&mut self) -> std::result::Result<Option<RecordBatch>, ArrowError> {
        self.taken = None;
        loop {
            if self.input.fill_buf()?.is_empty() {
                return Ok(None);
            }
            let positive = |n: i64| u64::try_from(n).map_err(|_| wrong("a block has fewer than no rows or bytes"));
            let (rows, length) = (positive(long(&mut self.input)?)?, positive(long(&mut self.input)?)?);
            if length > MOST_BLOCK {
                return Err(wrong(format!("a block has more than {} MiB", MOST_BLOCK >> 20)).into());
            }
            let take = |bytes| self.file.memory.take(bytes).map_err(|e| ArrowError::ExternalError(Box::new(e)));
            let packed_room = take(length)?;
            let packed = exactly(&mut self.input, length)?;
            let mut sync = [0; 16];
            self.input.read_exact(&mut sync).map_err(|_| wrong("it ends within a block"))?;
            if sync != self.sync {
                return Err(wrong("a block does not end where it says").into());
            }
            let bytes = self.packing.unpacked(packed)?;
            match (rows, bytes.len() as u64) {
                (0, 0) => continue,
                // Rows have bytes, unless all that they have is null.
                (0, _) => return Err(wrong("a block has bytes and no rows").into()),
                (rows, length) if rows > length.max(MOST_EMPTY) => {
                    return Err(wrong(format!("a block of {length} bytes says that it has {rows} rows")).into());
                }
                _ => {}
            }
            let rows_room = take(DECODED * (bytes.len() as u64 + rows))?;
            self.taken = Some(Box::new((packed_room, rows_room)));
            return self.decoded(rows, &bytes).map(Some);
        }
    }

    /// The rows of a block. The batch is as large as the block says: the package looks for rows without an end in one that has more.
    fn decoded(&self, rows: u64, bytes: &[u8]) -> std::result::Result<RecordBatch, ArrowError> {
        let mut front = self.header.clone();
        put_long(rows as i64, &mut front);
        put_long(bytes.len() as i64, &mut front);
        let whole = front.as_slice().chain(bytes).chain(self.sync.as_slice());
        let mut reader = ReaderBuilder::new().with_batch_size(rows as usize).build(BufReader::new(whole))?;
        match reader.next().transpose()? {
            Some(batch) if batch.num_rows() as u64 == rows => Ok(batch),
            _ => Err(wrong(format!("a block has fewer than the {rows} rows that it says")).into()),
        }
    }
}

impl Packing {
    fn unpacked(self, packed: Vec<u8>) -> io::Result<Vec<u8>> {
        let all = |mut input: Box<dyn Read + '_>| {
            let mut out = Vec::new();
            input.by_ref().take(MOST_BLOCK + 1).read_to_end(&mut out)?;
            if out.len() as u64 > MOST_BLOCK {
                return Err(wrong(format!("a block unpacks to more than {} MiB", MOST_BLOCK >> 20)));
            }
            Ok(out)
        };
        match self {
            Packing::None => Ok(packed),
            Packing::Deflate => all(Box::new(flate2::read::DeflateDecoder::new(packed.as_slice()))),
            Packing::Zstandard => all(Box::new(zstd::Decoder::new(packed.as_slice())?)),
            Packing::Snappy => {
                let Some((bytes, check)) = packed.split_last_chunk::<4>() else {
                    return Err(wrong("a block ends early"));
                };
                if snap::raw::decompress_len(bytes).map_err(io::Error::other)? as u64 > MOST_BLOCK {
                    return Err(wrong(format!("a block unpacks to more than {} MiB", MOST_BLOCK >> 20)));
                }
                let out = snap::raw::Decoder::new().decompress_vec(bytes).map_err(io::Error::other)?;
                let mut sum = flate2::Crc::new();
                sum.update(&out);
                if sum.sum() != u32::from_be_bytes(*check) {
                    return Err(wrong("a block's check sum is another one"));
                }
                Ok(out)
            }
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
