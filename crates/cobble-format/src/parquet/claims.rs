//! What a Parquet file says of its own sizes, doubted before anything is reserved for it: the places of column chunks in the footer, and
//! the sizes in the headers of pages (Parquet format, `parquet.thrift`: PageHeader; Thrift compact protocol).

use parquet::basic::Compression;
use parquet::errors::{ParquetError, Result};
use parquet::file::metadata::{ColumnChunkMetaData, ParquetMetaData};

/// Where the footer puts column chunks: inside the file.
pub fn check(metadata: &ParquetMetaData, size: u64) -> Result<()> {
    let wrong = |group: usize, what: &str| Err(ParquetError::General(format!("row group {group} {what}")));
    for (place, group) in metadata.row_groups().iter().enumerate() {
        if group.num_rows() < 0 || group.total_byte_size() < 0 {
            return wrong(place, "has fewer than no rows or bytes");
        }
        for chunk in group.columns() {
            let start = chunk.dictionary_page_offset().unwrap_or_else(|| chunk.data_page_offset());
            let end = start.checked_add(chunk.compressed_size()).and_then(|end| u64::try_from(end).ok());
            let sizes = [start, chunk.compressed_size(), chunk.uncompressed_size(), chunk.num_values()];
            if sizes.iter().any(|n| *n < 0) || end.is_none_or(|end| end > size) {
                return wrong(place, &format!("has column {} outside of the file", chunk.column_path().string()));
            }
        }
    }
    Ok(())
}

/// Bytes of the largest page of a column chunk, unpacked.
///
/// # Errors
/// Where a header is none, or a packing that does not keep to a size would unpack to more than it says.
pub fn largest_page(chunk: &ColumnChunkMetaData, bytes: &[u8]) -> Result<u64> {
    let mut rest = bytes;
    let mut largest = 0;
    while !rest.is_empty() {
        let mut header = Compact { rest };
        let (mut unpacked, mut packed) = (None, None);
        header.fields(0, &mut |id, value| match id {
            2 => unpacked = value,
            3 => packed = value,
            _ => {}
        })?;
        let size = |value: Option<i64>| value.and_then(|value| u64::try_from(value).ok());
        let (Some(unpacked), Some(packed)) = (size(unpacked), size(packed)) else { return Err(no_page()) };
        let after = header.rest;
        let packed = usize::try_from(packed).ok().filter(|n| *n <= after.len()).ok_or_else(no_page)?;
        largest = largest.max(unpacked);
        keeps_to(chunk.compression(), &after[..packed], unpacked)?;
        rest = &after[packed..];
    }
    Ok(largest)
}

fn no_page() -> ParquetError {
    ParquetError::General("a page's header is none".into())
}

/// Some packings are unpacked to their end whatever the header says: that is tried first, without keeping anything.
fn keeps_to(packing: Compression, packed: &[u8], unpacked: u64) -> Result<()> {
    let most = unpacked.saturating_add(1);
    let length = match packing {
        Compression::GZIP(_) => {
            let all = flate2::read::MultiGzDecoder::new(packed);
            std::io::copy(&mut std::io::Read::take(all, most), &mut std::io::sink())
        }
        _ => return Ok(()),
    };
    match length {
        Ok(length) if length > unpacked => {
            Err(ParquetError::General(format!("a page unpacks to more than the {unpacked} bytes that it says")))
        }
        // What else is wrong with it is told by the decoder. Pages of version 2 have a part that is not packed.
        _ => Ok(()),
    }
}

/// A reader of Thrift's compact protocol that keeps numbers only.
struct Compact<'b> {
    rest: &'b [u8],
}

/// Levels of structures inside each other.
const DEEPEST: usize = 16;

impl Compact<'_> {
    fn byte(&mut self) -> Result<u8> {
        let (first, rest) = self.rest.split_first().ok_or_else(no_page)?;
        self.rest = rest;
        Ok(*first)
    }

    fn varint(&mut self) -> Result<u64> {
        let mut value = 0u64;
        for shift in (0..64).step_by(7) {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                return Ok(value);
            }
        }
        Err(no_page())
    }

    fn zigzag(&mut self) -> Result<i64> {
        let value = self.varint()?;
        Ok((value >> 1) as i64 ^ -((value & 1) as i64))
    }

    fn skip(&mut self, count: u64) -> Result<()> {
        let count = usize::try_from(count).ok().filter(|n| *n <= self.rest.len()).ok_or_else(no_page)?;
        self.rest = &self.rest[count..];
        Ok(())
    }

    /// The fields of a structure up to its end; numbers among those of the outermost one are told.
    fn fields(&mut self, depth: usize, tell: &mut dyn FnMut(i16, Option<i64>)) -> Result<()> {
        let mut id = 0i16;
        loop {
            let head = self.byte()?;
            if head == 0 {
                return Ok(());
            }
            id = match head >> 4 {
                0 => i16::try_from(self.zigzag()?).map_err(|_| no_page())?,
                more => id.checked_add(i16::from(more)).ok_or_else(no_page)?,
            };
            let number = self.value(head & 0x0f, depth, false)?;
            if depth == 0 {
                tell(id, number);
            }
        }
    }

    /// A value of this type; the number where it is one.
    fn value(&mut self, kind: u8, depth: usize, in_list: bool) -> Result<Option<i64>> {
        if depth > DEEPEST {
            return Err(no_page());
        }
        match kind {
            // Truth values stand in the type, but in lists.
            1 | 2 if !in_list => {}
            1..=3 => drop(self.byte()?),
            4..=6 => return self.zigzag().map(Some),
            7 => self.skip(8)?,
            8 => {
                let length = self.varint()?;
                self.skip(length)?;
            }
            9 | 10 => {
                let head = self.byte()?;
                let count = if head >> 4 == 15 { self.varint()? } else { u64::from(head >> 4) };
                for _ in 0..count {
                    self.value(head & 0x0f, depth + 1, true)?;
                }
            }
            12 => self.fields(depth + 1, &mut |_, _| {})?,
            _ => return Err(no_page()),
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_found_in_a_header_and_what_is_none_is_refused() {
        // Type 0, 100 bytes unpacked, 3 packed, a structure of one number and a list, then three bytes.
        let header = [0x15, 0, 0x15, 200, 1, 0x15, 6, 0x2c, 0x15, 8, 0x19, 0x25, 2, 4, 0, 0];
        let mut all = header.to_vec();
        let mut seen = Vec::new();
        let mut compact = Compact { rest: &all };
        compact.fields(0, &mut |id, value| seen.push((id, value))).unwrap();
        assert_eq!(seen, [(1, Some(0)), (2, Some(100)), (3, Some(3)), (5, None)]);
        assert!(compact.rest.is_empty());
        for cut in 0..header.len() {
            assert!(Compact { rest: &header[..cut] }.fields(0, &mut |_, _| {}).is_err());
        }
        // Structures without an end.
        all = vec![0x1c; 100_000];
        assert!(Compact { rest: &all }.fields(0, &mut |_, _| {}).is_err());
    }
}
