//! Keys of groups and joins. Columns that fit into 128 bits together (integers, dates, times, booleans, and a bit each for
//! null) are packed into one number; anything else becomes a byte string in Arrow's row format. Either way, equal keys have
//! equal encodings, nulls equal each other, and hashing and comparing never look at the columns again.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use cobble_types::Result;
use hashbrown::HashTable;

use crate::expression::one_zero;

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

    /// The key columns of stored keys, in order.
    fn decode(&self, store: &KeyStore) -> Result<Vec<ArrayRef>> {
        match (&self.form, store) {
            (Form::Packed(widths), KeyStore::Packed(keys)) => {
                let mut shift = widths.iter().map(|w| w + 1).sum::<u32>();
                Ok(self
                    .types
                    .iter()
                    .zip(widths)
                    .map(|(data_type, width)| {
                        shift -= width + 1;
                        unpack(keys, data_type, *width, shift)
                    })
                    .collect())
            }
            (Form::Rows(converter), KeyStore::Bytes { bytes, ends }) => {
                let parser = converter.parser();
                let mut start = 0;
                let rows = ends.iter().map(|end| {
                    let row = parser.parse(&bytes[start..*end]);
                    start = *end;
                    row
                });
                Ok(converter.convert_rows(rows)?)
            }
            _ => Err(cobble_types::Error::internal("keys were stored in another form than they were encoded in")),
        }
    }

    fn new_store(&self) -> KeyStore {
        match self.form {
            Form::Packed(_) => KeyStore::Packed(Vec::new()),
            Form::Rows(_) => KeyStore::Bytes { bytes: Vec::new(), ends: Vec::new() },
        }
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

fn unpack(keys: &[u128], data_type: &DataType, width: u32, shift: u32) -> ArrayRef {
    let mask = (1u128 << width) - 1;
    let value = |key: &u128| {
        let part = key >> shift;
        ((part >> width) & 1 == 0).then_some(part & mask)
    };
    macro_rules! values {
        ($array:ty, $native:ty) => {
            Arc::new(keys.iter().map(|k| value(k).map(|v| v as $native)).collect::<$array>()) as ArrayRef
        };
    }
    match data_type {
        DataType::Boolean => Arc::new(keys.iter().map(|k| value(k).map(|v| v == 1)).collect::<BooleanArray>()),
        DataType::Int16 => values!(Int16Array, i16),
        DataType::Int32 => values!(Int32Array, i32),
        DataType::Date32 => values!(Date32Array, i32),
        DataType::Int64 => values!(Int64Array, i64),
        DataType::Time64(_) => values!(Time64MicrosecondArray, i64),
        DataType::Timestamp(_, zone) => {
            let array: TimestampMicrosecondArray = keys.iter().map(|k| value(k).map(|v| v as i64)).collect();
            Arc::new(array.with_timezone_opt(zone.clone()))
        }
        other => new_null_array(other, keys.len()),
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

#[derive(Debug)]
enum KeyStore {
    Packed(Vec<u128>),
    Bytes { bytes: Vec<u8>, ends: Vec<usize> },
}

impl KeyStore {
    fn len(&self) -> usize {
        match self {
            KeyStore::Packed(keys) => keys.len(),
            KeyStore::Bytes { ends, .. } => ends.len(),
        }
    }

    fn bytes_at(bytes: &[u8], ends: &[usize], place: usize) -> std::ops::Range<usize> {
        debug_assert!(place < ends.len() && ends[place] <= bytes.len());
        if place == 0 { 0..ends[0] } else { ends[place - 1]..ends[place] }
    }
}

/// Gives each distinct key a number, counted from zero in order of appearance.
#[derive(Debug)]
pub struct GroupIndex {
    encoder: Arc<KeyEncoder>,
    store: KeyStore,
    table: HashTable<(u64, u32)>,
}

impl GroupIndex {
    pub fn new(encoder: Arc<KeyEncoder>) -> Self {
        let store = encoder.new_store();
        GroupIndex { encoder, store, table: HashTable::new() }
    }

    pub fn len(&self) -> usize {
        self.store.len()
    }

    pub fn bytes(&self) -> usize {
        let store = match &self.store {
            KeyStore::Packed(keys) => keys.capacity() * 16,
            KeyStore::Bytes { bytes, ends } => bytes.capacity() + ends.capacity() * 8,
        };
        store + self.table.capacity() * 17
    }

    /// Writes each row's group number into `groups`.
    pub fn assign(&mut self, columns: &[ArrayRef], rows: usize, groups: &mut Vec<u32>) -> Result<()> {
        groups.clear();
        groups.reserve(rows);
        match (self.encoder.encode(columns, rows)?, &mut self.store) {
            (EncodedKeys::Packed(keys), KeyStore::Packed(store)) => {
                // Runs of one key are common in sorted and clustered data.
                let mut last: Option<(u128, u32)> = None;
                for key in keys {
                    if let Some((same, group)) = last
                        && same == key
                    {
                        groups.push(group);
                        continue;
                    }
                    let hash = hash_packed(key);
                    let entry = self.table.entry(hash, |(h, g)| *h == hash && store[*g as usize] == key, |(h, _)| *h);
                    let group = match entry {
                        hashbrown::hash_table::Entry::Occupied(found) => found.get().1,
                        hashbrown::hash_table::Entry::Vacant(free) => {
                            let group = store.len() as u32;
                            store.push(key);
                            free.insert((hash, group));
                            group
                        }
                    };
                    last = Some((key, group));
                    groups.push(group);
                }
            }
            (EncodedKeys::Rows(encoded), KeyStore::Bytes { bytes, ends }) => {
                for row in &encoded {
                    let key: &[u8] = row.as_ref();
                    let hash = hash_bytes(key);
                    let entry = self.table.entry(
                        hash,
                        |(h, g)| *h == hash && &bytes[KeyStore::bytes_at(bytes, ends, *g as usize)] == key,
                        |(h, _)| *h,
                    );
                    let group = match entry {
                        hashbrown::hash_table::Entry::Occupied(found) => found.get().1,
                        hashbrown::hash_table::Entry::Vacant(free) => {
                            let group = ends.len() as u32;
                            bytes.extend_from_slice(key);
                            ends.push(bytes.len());
                            free.insert((hash, group));
                            group
                        }
                    };
                    groups.push(group);
                }
            }
            _ => return Err(cobble_types::Error::internal("keys were encoded in two forms")),
        }
        Ok(())
    }

    /// The key columns, one row per group in order of their numbers.
    pub fn keys(&self) -> Result<Vec<ArrayRef>> {
        self.encoder.decode(&self.store)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn assign(columns: Vec<ArrayRef>) -> (Vec<u32>, Vec<ArrayRef>) {
        let encoder = KeyEncoder::new(columns.iter().map(|c| c.data_type().clone()).collect()).unwrap();
        let mut index = GroupIndex::new(Arc::new(encoder));
        let mut groups = Vec::new();
        index.assign(&columns, columns[0].len(), &mut groups).unwrap();
        (groups, index.keys().unwrap())
    }

    #[test]
    fn nulls_and_negative_numbers_are_keys_of_their_own() {
        let routes: ArrayRef = Arc::new(Int32Array::from(vec![Some(7), None, Some(-7), Some(7), None, Some(0)]));
        let open: ArrayRef = Arc::new(BooleanArray::from(vec![Some(true), None, Some(false), Some(true), None, None]));
        let (groups, keys) = assign(vec![routes, open]);
        assert_eq!(groups, [0, 1, 2, 0, 1, 3]);
        assert_eq!(keys[0].as_primitive::<Int32Type>(), &Int32Array::from(vec![Some(7), None, Some(-7), Some(0)]));
        assert_eq!(keys[1].as_boolean(), &BooleanArray::from(vec![Some(true), None, Some(false), None]));
    }

    #[test]
    fn text_keys_and_both_zeros_group_as_sql_compares() {
        let names: ArrayRef = Arc::new(StringViewArray::from(vec![Some("Brent"), Some(""), None, Some("Brent")]));
        let depth: ArrayRef = Arc::new(Float64Array::from(vec![0.0, 1.5, 1.5, -0.0]));
        let (groups, keys) = assign(vec![names, depth]);
        assert_eq!(groups, [0, 1, 2, 0]);
        assert_eq!(keys[0].as_string_view().iter().collect::<Vec<_>>(), [Some("Brent"), Some(""), None]);
    }
}
