//! The types of an ORC file, looked through before the package builds a tree of them (ORC specification v1, "File Tail" and "Type
//! Information"): types that hold each other would be a tree without an end.

use std::io::{self, Read};

use cobble_storage::Blob;
use orc_rust::proto::{CompressionKind, Footer, PostScript, Type};
use prost::Message;

/// Bytes of an unpacked footer.
const MOST: u64 = 64 << 20;
/// Levels of types inside each other.
const DEEPEST: usize = 100;

fn wrong(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

/// # Errors
/// Where the tail is none, or its types are no tree.
pub fn check(blob: &dyn Blob) -> io::Result<()> {
    let size = blob.size();
    let tail = blob.read(size.saturating_sub(256), size.min(256) as usize)?;
    let (length, tail) = tail.split_last().ok_or_else(|| wrong("it is empty"))?;
    let start = tail.len().checked_sub(usize::from(*length)).ok_or_else(|| wrong("it is shorter than its end"))?;
    let postscript = PostScript::decode(&tail[start..])?;
    let footer = postscript.footer_length.unwrap_or_default();
    let end = size - 1 - u64::from(*length);
    let start = end.checked_sub(footer).filter(|_| footer <= MOST).ok_or_else(|| wrong("its footer is too long"))?;
    let packed = blob.read(start, footer as usize)?;
    let footer = Footer::decode(unpacked(&packed, postscript.compression())?.as_slice())?;
    is_tree(&footer.types)
}

/// The chunks of a packed footer, each with its length and a mark for those that are not packed.
fn unpacked(packed: &[u8], packing: CompressionKind) -> io::Result<Vec<u8>> {
    if packing == CompressionKind::None {
        return Ok(packed.to_vec());
    }
    let mut out = Vec::new();
    let mut rest = packed;
    while let Some((head, after)) = rest.split_first_chunk::<3>() {
        let head = u32::from_le_bytes([head[0], head[1], head[2], 0]);
        let (chunk, after) =
            after.split_at_checked(head as usize >> 1).ok_or_else(|| wrong("its footer ends early"))?;
        rest = after;
        let left = MOST - out.len() as u64;
        let packed: Box<dyn Read> = match packing {
            _ if head & 1 == 1 => Box::new(chunk),
            CompressionKind::Zlib => Box::new(flate2::read::DeflateDecoder::new(chunk)),
            CompressionKind::Zstd => Box::new(zstd::Decoder::new(chunk)?),
            CompressionKind::Snappy => {
                if snap::raw::decompress_len(chunk).map_err(io::Error::other)? as u64 > left {
                    return Err(wrong("its footer is too long"));
                }
                Box::new(io::Cursor::new(snap::raw::Decoder::new().decompress_vec(chunk).map_err(io::Error::other)?))
            }
            CompressionKind::Lz4 => {
                // Of a chunk no more than this comes out.
                Box::new(io::Cursor::new(lz4_flex::block::decompress(chunk, 8 << 20).map_err(io::Error::other)?))
            }
            _ => return Err(wrong("its footer is packed in a way that is not known")),
        };
        packed.take(left + 1).read_to_end(&mut out)?;
        if out.len() as u64 > MOST {
            return Err(wrong("its footer is too long"));
        }
    }
    Ok(out)
}

/// Types stand in the order of a walk through their tree: each before those within it.
fn is_tree(types: &[Type]) -> io::Result<()> {
    let mut depths = vec![0usize; types.len()];
    for (place, own) in types.iter().enumerate() {
        for inner in &own.subtypes {
            let inner = *inner as usize;
            if inner <= place || inner >= types.len() {
                return Err(wrong("its types hold each other"));
            }
            depths[inner] = depths[place] + 1;
            if depths[inner] > DEEPEST {
                return Err(wrong("its types are nested too deeply"));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_a_tree_or_refused() {
        let types = |all: &[&[u32]]| -> Vec<Type> {
            all.iter().map(|inner| Type { subtypes: inner.to_vec(), ..Type::default() }).collect()
        };
        assert!(is_tree(&types(&[&[1, 3], &[2], &[], &[]])).is_ok());
        for wrong in [types(&[&[0]]), types(&[&[1], &[0]]), types(&[&[2]])] {
            assert!(is_tree(&wrong).is_err());
        }
        let deep: Vec<Vec<u32>> = (1..200).map(|n| vec![n]).chain([vec![]]).collect();
        assert!(is_tree(&types(&deep.iter().map(Vec::as_slice).collect::<Vec<_>>())).is_err());
    }
}
