//! The types of an ORC file, looked through before the package builds a tree of them (ORC specification v1, "File Tail" and "Type
//! Information"): types that hold each other would be a tree without an end.

use std::io::{self, Read};
use std::sync::Arc;

use arrow::datatypes::{DataType, Field, Schema};

use cobble_storage::Blob;
use orc_rust::proto::{CompressionKind, Footer, PostScript, Type};
use prost::Message;

use crate::whole_file::with_id;

/// Bytes of an unpacked footer.
const MOST: u64 = 64 << 20;
/// Levels of types inside each other.
const DEEPEST: usize = 100;

fn wrong(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

/// The types of a file, each before those within it.
///
/// # Errors
/// Where the tail is none, or its types are no tree.
pub fn check(blob: &dyn Blob) -> io::Result<Vec<Type>> {
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
    is_tree(&footer.types)?;
    Ok(footer.types)
}

/// Under this name the attributes of a type have the id of its field (table specification, appendix A, "ORC").
const ID: &str = "iceberg.id";

fn id_of(own: &Type) -> Option<i32> {
    let attribute = own.attributes.iter().find(|pair| pair.key.as_deref() == Some(ID))?;
    attribute.value.as_deref()?.parse().ok()
}

/// The columns of a file with the ids of their fields, at every level.
pub fn with_ids(schema: &Schema, types: &[Type]) -> Schema {
    let inner = types.first().map(|root| root.subtypes.as_slice()).unwrap_or_default();
    let fields =
        schema.fields().iter().enumerate().map(|(place, field)| field_with_ids(field, inner.get(place), types));
    Schema::new_with_metadata(fields.collect::<Vec<Field>>(), schema.metadata().clone())
}

fn field_with_ids(field: &Field, own: Option<&u32>, types: &[Type]) -> Field {
    let Some(own) = own.and_then(|place| types.get(*place as usize)) else { return field.clone() };
    let within = |field: &Arc<Field>, place: usize| Arc::new(field_with_ids(field, own.subtypes.get(place), types));
    let data_type = match field.data_type() {
        DataType::Struct(fields) => {
            DataType::Struct(fields.iter().enumerate().map(|(place, field)| within(field, place)).collect())
        }
        DataType::List(item) => DataType::List(within(item, 0)),
        DataType::Map(entries, sorted) => {
            let DataType::Struct(pair) = entries.data_type() else { return field.clone() };
            let pair = pair.iter().enumerate().map(|(place, field)| within(field, place)).collect();
            let entries = entries.as_ref().clone().with_data_type(DataType::Struct(pair));
            DataType::Map(Arc::new(entries), *sorted)
        }
        other => other.clone(),
    };
    with_id(&field.clone().with_data_type(data_type), id_of(own))
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

    #[test]
    fn fields_get_the_ids_of_their_types() {
        use orc_rust::proto::StringPair;
        let own = |id: &str, inner: &[u32]| Type {
            subtypes: inner.to_vec(),
            attributes: vec![StringPair { key: Some(ID.to_owned()), value: Some(id.to_owned()) }],
            ..Type::default()
        };
        let types = [
            own("0", &[1, 2, 4]),
            own("7", &[]),
            own("8", &[3]),
            own("9", &[]),
            own("10", &[5, 6]),
            own("11", &[]),
            own("x", &[]),
        ];
        let list = DataType::new_list(DataType::Int64, true);
        let row =
            DataType::Struct(vec![Field::new("d", DataType::Utf8, true), Field::new("e", DataType::Utf8, true)].into());
        let columns =
            vec![Field::new("a", DataType::Int64, true), Field::new("b", list, true), Field::new("c", row, true)];
        let found = with_ids(&Schema::new(columns), &types);
        let id = |field: &Field| field.metadata().get(crate::FIELD_ID).cloned();
        assert_eq!(
            found.fields().iter().map(|field| id(field)).collect::<Vec<_>>(),
            ["7", "8", "10"].map(|id| Some(id.to_owned()))
        );
        let (DataType::List(item), DataType::Struct(inner)) = (found.field(1).data_type(), found.field(2).data_type())
        else {
            panic!("{found}")
        };
        assert_eq!([id(item), id(&inner[0]), id(&inner[1])], [Some("9".into()), Some("11".into()), None]);
    }
}
