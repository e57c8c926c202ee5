//! Keys of groups and joins. Columns that fit into 128 bits together (integers, dates, times, booleans, and a bit each for
//! null) are packed into one number; anything else becomes a byte string in Arrow's row format. Either way, equal keys have
//! equal encodings, nulls equal each other, and hashing and comparing never look at the columns again.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use cobble_types::Result;

use crate::operators::compare::one_zero;

/// How the key columns of one operator are encoded.
#[derive(Debug)]
pub struct KeyEncoder {
    types: Vec<DataType>,
    form: Form,
}

#[derive(Debug)]
enum Form {
    /// Width in bits of each column, without its null bit.
    Packed(Vec<u32>),
    Rows(Arc<RowConverter>),
}

/// The encoded keys of a batch.
pub enum EncodedKeys {
    Packed(Vec<u128>),
    Rows(Rows),
}

fn packed_width(data_type: &DataType) -> Option<u32> {
    Some(match data_type {
        DataType::Boolean => 1,
        DataType::Int16 => 16,
        DataType::Int32 | DataType::Date32 => 32,
        DataType::Int64 | DataType::Timestamp(..) | DataType::Time64(_) => 64,
        _ => return None,
    })
}

impl KeyEncoder {
    pub fn new(types: Vec<DataType>) -> Result<KeyEncoder> {
        let widths: Option<Vec<u32>> = types.iter().map(packed_width).collect();
        let form = match widths {
            Some(widths) if widths.iter().map(|w| w + 1).sum::<u32>() <= 128 => Form::Packed(widths),
            _ => Form::Rows(Arc::new(RowConverter::new(types.iter().cloned().map(SortField::new).collect())?)),
        };
        Ok(KeyEncoder { types, form })
    }

    pub fn encode(&self, columns: &[ArrayRef], rows: usize) -> Result<EncodedKeys> {
        match &self.form {
            Form::Packed(widths) => {
                let mut keys = vec![0u128; rows];
                for (column, width) in columns.iter().zip(widths) {
                    pack(column, *width, &mut keys);
                }
                Ok(EncodedKeys::Packed(keys))
            }
            Form::Rows(converter) => {
                let columns: Vec<ArrayRef> = columns.iter().map(one_zero).collect();
                Ok(EncodedKeys::Rows(converter.convert_columns(&columns)?))
            }
        }
    }

    pub fn types(&self) -> &[DataType] {
        &self.types
    }

    /// The key columns of keys that were encoded as byte strings, in order.
    pub fn decode<'a>(&self, keys: impl Iterator<Item = &'a [u8]>) -> Result<Vec<ArrayRef>> {
        let Form::Rows(converter) = &self.form else {
            return Err(cobble_types::Error::internal("keys were stored in another form than they were encoded in"));
        };
        let parser = converter.parser();
        Ok(converter.convert_rows(keys.map(|key| parser.parse(key)))?)
    }
}

/// Appends each row's value and null bit to the low end of its key.
fn pack(column: &ArrayRef, width: u32, keys: &mut [u128]) {
    let mask = (1u128 << width) - 1;
    macro_rules! push {
        ($values:expr) => {{
            let values = $values;
            match column.nulls().filter(|n| n.null_count() > 0) {
                None => {
                    for (key, value) in keys.iter_mut().zip(values) {
                        *key = (*key << (width + 1)) | ((value as u128) & mask);
                    }
                }
                Some(nulls) => {
                    for (row, (key, value)) in keys.iter_mut().zip(values).enumerate() {
                        let part = if nulls.is_null(row) { 1u128 << width } else { (value as u128) & mask };
                        *key = (*key << (width + 1)) | part;
                    }
                }
            }
        }};
    }
    match column.data_type() {
        DataType::Boolean => push!(column.as_boolean().values().iter().map(u8::from)),
        DataType::Int16 => push!(column.as_primitive::<Int16Type>().values().iter().copied()),
        DataType::Int32 => push!(column.as_primitive::<Int32Type>().values().iter().copied()),
        DataType::Date32 => push!(column.as_primitive::<Date32Type>().values().iter().copied()),
        DataType::Int64 => push!(column.as_primitive::<Int64Type>().values().iter().copied()),
        DataType::Time64(_) => push!(column.as_primitive::<Time64MicrosecondType>().values().iter().copied()),
        _ => push!(column.as_primitive::<TimestampMicrosecondType>().values().iter().copied()),
    }
}

/// Mixes all bits of a key into 64 (the finaliser of MurmurHash3, Appleby 2011, over both halves).
#[inline]
pub fn hash_packed(key: u128) -> u64 {
    let mut h = (key as u64) ^ ((key >> 64) as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    h ^= h >> 33;
    h = h.wrapping_mul(0xff51_afd7_ed55_8ccd);
    h ^= h >> 33;
    h = h.wrapping_mul(0xc4ce_b9fe_1a85_ec53);
    h ^ (h >> 33)
}

/// Eight bytes at a time through the same mixer.
#[inline]
pub fn hash_bytes(bytes: &[u8]) -> u64 {
    let mut h = bytes.len() as u64;
    let mut chunks = bytes.chunks_exact(8);
    for chunk in &mut chunks {
        let word = u64::from_le_bytes([chunk[0], chunk[1], chunk[2], chunk[3], chunk[4], chunk[5], chunk[6], chunk[7]]);
        h = (h.rotate_left(29) ^ word).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    }
    let mut last = [0u8; 8];
    last[..chunks.remainder().len()].copy_from_slice(chunks.remainder());
    hash_packed(u128::from((h.rotate_left(29) ^ u64::from_le_bytes(last)).wrapping_mul(0x9e37_79b9_7f4a_7c15)))
}

impl EncodedKeys {
    #[inline]
    pub fn hash(&self, row: usize) -> u64 {
        match self {
            EncodedKeys::Packed(keys) => hash_packed(keys[row]),
            EncodedKeys::Rows(rows) => hash_bytes(rows.row(row).as_ref()),
        }
    }

    #[inline]
    pub fn equal(&self, row: usize, other: &EncodedKeys, other_row: usize) -> bool {
        match (self, other) {
            (EncodedKeys::Packed(a), EncodedKeys::Packed(b)) => a[row] == b[other_row],
            (EncodedKeys::Rows(a), EncodedKeys::Rows(b)) => a.row(row).as_ref() == b.row(other_row).as_ref(),
            _ => false,
        }
    }

    pub fn bytes(&self) -> usize {
        match self {
            EncodedKeys::Packed(keys) => keys.capacity() * 16,
            EncodedKeys::Rows(rows) => rows.size(),
        }
    }
}
