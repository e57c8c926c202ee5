//! Avro object container files as manifests are written in (Avro specification 1.11, "Object Container Files" and "Binary Encoding").

use std::io::Write;

pub use cobble_format::put_long as long;
use flate2::Compression;
use flate2::write::DeflateEncoder;
use serde_json::Value as Json;

/// Bytes of rows after which a block ends.
const BLOCK: usize = 64 << 10;

pub struct AvroFile {
    out: Vec<u8>,
    sync: [u8; 16],
    block: Vec<u8>,
    rows: i64,
}

pub fn bytes(value: &[u8], out: &mut Vec<u8>) {
    long(value.len() as i64, out);
    out.extend_from_slice(value);
}

/// A value of a union with null, which stands first.
pub fn optional<T>(value: Option<T>, out: &mut Vec<u8>, put: impl FnOnce(T, &mut Vec<u8>)) {
    match value {
        None => long(0, out),
        Some(value) => {
            long(1, out);
            put(value, out);
        }
    }
}

/// An array in one piece.
pub fn array<T>(items: impl ExactSizeIterator<Item = T>, out: &mut Vec<u8>, mut put: impl FnMut(T, &mut Vec<u8>)) {
    if items.len() > 0 {
        long(items.len() as i64, out);
        items.for_each(|item| put(item, out));
    }
    long(0, out);
}

impl AvroFile {
    /// A file of rows of this schema, with entries of its header.
    pub fn new(schema: &Json, entries: &[(&str, String)]) -> AvroFile {
        let mut out = b"Obj\x01".to_vec();
        let own = [("avro.schema", schema.to_string()), ("avro.codec", "deflate".to_owned())];
        let all: Vec<&(&str, String)> = own.iter().chain(entries).collect();
        array(all.into_iter(), &mut out, |(name, value), out| {
            bytes(name.as_bytes(), out);
            bytes(value.as_bytes(), out);
        });
        let sync: [u8; 16] = rand::random();
        out.extend_from_slice(&sync);
        AvroFile { out, sync, block: Vec::new(), rows: 0 }
    }

    pub fn row(&mut self, put: impl FnOnce(&mut Vec<u8>)) {
        put(&mut self.block);
        self.rows += 1;
        if self.block.len() >= BLOCK {
            self.end_block();
        }
    }

    /// Bytes of the rows so far, packed but for the last ones.
    pub fn bytes(&self) -> usize {
        self.out.len() + self.block.len() / 4
    }

    fn end_block(&mut self) {
        if self.rows == 0 {
            return;
        }
        let mut packer = DeflateEncoder::new(Vec::new(), Compression::default());
        // Into memory nothing fails.
        let packed = packer.write_all(&self.block).and_then(|()| packer.finish()).unwrap_or_default();
        long(self.rows, &mut self.out);
        bytes(&packed, &mut self.out);
        self.out.extend_from_slice(&self.sync);
        self.block.clear();
        self.rows = 0;
    }

    pub fn finish(mut self) -> Vec<u8> {
        self.end_block();
        self.out
    }
}
