//! Avro object container files (Avro specification 1.11, "Object Container Files") as what they are made of: a header with the rows' schema, and
//! blocks of rows, unpacked. What they say of their sizes is doubted.

use std::any::Any;
use std::collections::BTreeMap;
use std::io::{self, BufRead, ErrorKind, Read};
use std::sync::Arc;

use cobble_plan::scan::ScanMemory;
use flate2::{Decompress, FlushDecompress, Status};

pub const MAGIC: &[u8; 4] = b"Obj\x01";
/// Bytes of one entry of the header, and of one block, packed or not.
const MOST_HEADER: u64 = 16 << 20;
const MOST_BLOCK: u64 = 256 << 20;
/// Rows of a block that take no byte each.
const MOST_EMPTY: u64 = 1 << 20;
#[derive(Debug, Clone, Copy)]
enum Packing {
    None,
    Deflate,
    Snappy,
    Zstandard,
}

/// A file that is read block by block.
pub struct AvroBlocks<R> {
    input: R,
    packing: Packing,
    sync: [u8; 16],
    entries: BTreeMap<String, Vec<u8>>,
    memory: Arc<dyn ScanMemory>,
    /// Used for one block after the other.
    inflater: Option<Decompress>,
}

/// Rows one after the other, as the file's schema says.
pub struct AvroBlock {
    pub rows: u64,
    pub bytes: Vec<u8>,
    /// Memory for the bytes, packed and unpacked.
    pub room: Box<dyn Any + Send + Sync>,
}

pub fn wrong(what: impl Into<String>) -> io::Error {
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

/// Writes such a number.
pub fn put_long(value: i64, out: &mut Vec<u8>) {
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

impl<R: BufRead> AvroBlocks<R> {
    /// Reads the header.
    ///
    /// # Errors
    /// When it is none, or its blocks are packed in a way that is not known.
    pub fn open(mut input: R, memory: Arc<dyn ScanMemory>) -> io::Result<AvroBlocks<R>> {
        let mut magic = [0; 4];
        input.read_exact(&mut magic)?;
        if magic != *MAGIC {
            return Err(wrong("it does not begin as such a file does"));
        }
        let mut entries = BTreeMap::new();
        loop {
            let mut count = long(&mut input)?;
            if count < 0 {
                // With the bytes of what follows, for who wants to pass over it.
                long(&mut input)?;
                count = count.checked_neg().ok_or_else(|| wrong("its header has too many entries"))?;
            }
            if count == 0 {
                break;
            }
            for _ in 0..count {
                let (name, value) = (text(&mut input)?, text(&mut input)?);
                entries.insert(String::from_utf8_lossy(&name).into_owned(), value);
            }
        }
        let packing = match entries.get("avro.codec").map(Vec::as_slice) {
            None | Some(b"null") => Packing::None,
            Some(b"deflate") => Packing::Deflate,
            Some(b"snappy") => Packing::Snappy,
            Some(b"zstandard") => Packing::Zstandard,
            Some(other) => {
                let name = String::from_utf8_lossy(other).into_owned();
                return Err(wrong(format!("its blocks are packed by {name}, which is not known")));
            }
        };
        let mut sync = [0; 16];
        input.read_exact(&mut sync)?;
        if !entries.contains_key("avro.schema") {
            return Err(wrong("its header has no schema"));
        }
        Ok(AvroBlocks { input, packing, sync, entries, memory, inflater: None })
    }

    /// The schema of the rows, as JSON.
    pub fn schema(&self) -> &[u8] {
        self.entry("avro.schema").unwrap_or_default()
    }

    /// What the header says under a name.
    pub fn entry(&self, name: &str) -> Option<&[u8]> {
        self.entries.get(name).map(Vec::as_slice)
    }

    /// The mark that stands behind each block.
    pub fn sync(&self) -> &[u8; 16] {
        &self.sync
    }

    /// The next block that has rows; none at the end.
    ///
    /// # Errors
    /// When it contradicts itself, is too large, or there is no memory for it.
    pub fn next_block(&mut self) -> io::Result<Option<AvroBlock>> {
        loop {
            if self.input.fill_buf()?.is_empty() {
                return Ok(None);
            }
            let positive = |n: i64| u64::try_from(n).map_err(|_| wrong("a block has fewer than no rows or bytes"));
            let (rows, length) = (positive(long(&mut self.input)?)?, positive(long(&mut self.input)?)?);
            if length > MOST_BLOCK {
                return Err(wrong(format!("a block has more than {} MiB", MOST_BLOCK >> 20)));
            }
            let take = |bytes| self.memory.take(bytes).map_err(io::Error::other);
            let packed_room = take(length)?;
            let packed = exactly(&mut self.input, length)?;
            let mut sync = [0; 16];
            self.input.read_exact(&mut sync).map_err(|_| wrong("it ends within a block"))?;
            if sync != self.sync {
                return Err(wrong("a block does not end where it says"));
            }
            let bytes = self.packing.unpacked(packed, &mut self.inflater)?;
            match (rows, bytes.len() as u64) {
                (0, 0) => continue,
                // Rows have bytes, unless all that they have is null.
                (0, _) => return Err(wrong("a block has bytes and no rows")),
                (rows, length) if rows > length.max(MOST_EMPTY) => {
                    return Err(wrong(format!("a block of {length} bytes says that it has {rows} rows")));
                }
                _ => {}
            }
            let room = Box::new((packed_room, take(bytes.len() as u64)?));
            return Ok(Some(AvroBlock { rows, bytes, room }));
        }
    }
}

/// Unpacks a block (RFC 1951).
fn inflated(inflater: &mut Decompress, packed: &[u8]) -> io::Result<Vec<u8>> {
    // It is mostly a few times as much.
    let mut out = Vec::with_capacity(packed.len().saturating_mul(8).clamp(1 << 12, 1 << 20));
    loop {
        let read = usize::try_from(inflater.total_in()).map_err(io::Error::other)?;
        let before = out.len();
        let status = inflater.decompress_vec(&packed[read.min(packed.len())..], &mut out, FlushDecompress::Finish);
        match status.map_err(|e| wrong(format!("a block cannot be unpacked: {e}")))? {
            Status::StreamEnd => return Ok(out),
            _ if out.len() as u64 > MOST_BLOCK => {
                return Err(wrong(format!("a block unpacks to more than {} MiB", MOST_BLOCK >> 20)));
            }
            _ if out.len() == out.capacity() => out.reserve(out.len().max(1 << 12)),
            // Nothing more comes of it.
            _ if out.len() == before => return Err(wrong("a block ends early")),
            _ => {}
        }
    }
}

impl Packing {
    fn unpacked(self, packed: Vec<u8>, inflater: &mut Option<Decompress>) -> io::Result<Vec<u8>> {
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
            Packing::Deflate => {
                let inflater = inflater.get_or_insert_with(|| Decompress::new(false));
                inflater.reset(false);
                inflated(inflater, &packed)
            }
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
