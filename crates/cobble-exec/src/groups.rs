//! Numbers for distinct keys: what grouping, DISTINCT and recursion look up for every row. Columns are packed into 64 or 128
//! bits, text by the number that an interner of its column gives it, and looked up in a table that holds the keys
//! themselves, so that a row costs one miss of the cache. Keys that do not fit become byte strings.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::NullBuffer;
use arrow::datatypes::*;
use cobble_types::{Error, Result};
use hashbrown::HashTable;

use cobble_functions::keys::{EncodedKeys, KeyEncoder, hash_bytes, hash_packed};

/// A packed key, and the table's slot that holds it beside its number.
trait Key: Copy + Default + Eq {
    /// Words of the key, then the number plus one; all zero when free, so that the system's empty pages are an empty table.
    type Slot: Copy;
    const FREE: Self::Slot;

    fn hash(self) -> u64;
    /// The key with `value`, of `width` bits, appended at its low end.
    fn append(self, width: u32, value: u64) -> Self;
    /// The `width` bits that `shift` others stand below.
    fn part(self, shift: u32, width: u32) -> u64;
    fn slot(self, number: u32) -> Self::Slot;
    fn of(slot: &Self::Slot) -> Self;
    /// The number plus one, or zero.
    fn taken(slot: &Self::Slot) -> u64;
}

fn low_bits(width: u32) -> u64 {
    if width >= 64 { u64::MAX } else { (1 << width) - 1 }
}

impl Key for u64 {
    type Slot = [u64; 2];
    const FREE: [u64; 2] = [0; 2];

    #[inline]
    fn hash(self) -> u64 {
        hash_packed(u128::from(self))
    }

    #[inline]
    fn append(self, width: u32, value: u64) -> u64 {
        if width >= 64 { value } else { self << width | value }
    }

    #[inline]
    fn part(self, shift: u32, width: u32) -> u64 {
        (self >> shift) & low_bits(width)
    }

    #[inline]
    fn slot(self, number: u32) -> [u64; 2] {
        [self, u64::from(number) + 1]
    }

    #[inline]
    fn of(slot: &[u64; 2]) -> u64 {
        slot[0]
    }

    #[inline]
    fn taken(slot: &[u64; 2]) -> u64 {
        slot[1]
    }
}

impl Key for u128 {
    type Slot = [u64; 3];
    const FREE: [u64; 3] = [0; 3];

    #[inline]
    fn hash(self) -> u64 {
        hash_packed(self)
    }

    #[inline]
    fn append(self, width: u32, value: u64) -> u128 {
        self << width | u128::from(value)
    }

    #[inline]
    fn part(self, shift: u32, width: u32) -> u64 {
        (self >> shift) as u64 & low_bits(width)
    }

    #[inline]
    fn slot(self, number: u32) -> [u64; 3] {
        [self as u64, (self >> 64) as u64, u64::from(number) + 1]
    }

    #[inline]
    fn of(slot: &[u64; 3]) -> u128 {
        u128::from(slot[1]) << 64 | u128::from(slot[0])
    }

    #[inline]
    fn taken(slot: &[u64; 3]) -> u64 {
        slot[2]
    }
}

/// Open addressing with linear probing. The upper bits are the place, so that growing moves the keys in order.
struct Slots<K: Key> {
    slots: Vec<K::Slot>,
    bits: u32,
    len: usize,
}

impl<K: Key> Slots<K> {
    fn new() -> Slots<K> {
        let bits = 6;
        Slots { slots: vec![K::FREE; 1 << bits], bits, len: 0 }
    }

    /// Where a key's search begins. Rows that reach one table may have been picked by some bits of the same hash, when they
    /// come from a bucket; multiplied, all of its bits reach the upper ones.
    #[inline]
    fn place(key: K, bits: u32) -> usize {
        (key.hash().wrapping_mul(0x9e37_79b9_7f4a_7c15) >> (64 - bits)) as usize
    }

    /// The key's number, which is `next` when it is new.
    #[inline]
    fn number(&mut self, key: K, next: u32) -> u32 {
        let mask = self.slots.len() - 1;
        let mut at = Self::place(key, self.bits);
        loop {
            let slot = &mut self.slots[at & mask];
            let taken = K::taken(slot);
            if taken == 0 {
                *slot = key.slot(next);
                self.len += 1;
                if self.len * 10 > self.slots.len() * 7 {
                    self.grow();
                }
                return next;
            }
            if K::of(slot) == key {
                return (taken - 1) as u32;
            }
            at += 1;
        }
    }

    fn grow(&mut self) {
        self.bits += 1;
        let mut slots = vec![K::FREE; 1 << self.bits];
        let mask = slots.len() - 1;
        for slot in self.slots.iter().filter(|slot| K::taken(slot) != 0) {
            let mut at = Self::place(K::of(slot), self.bits);
            while K::taken(&slots[at & mask]) != 0 {
                at += 1;
            }
            slots[at & mask] = *slot;
        }
        self.slots = slots;
    }

    /// The keys in order of their numbers.
    fn keys(&self) -> Vec<K> {
        let mut keys = vec![K::default(); self.len];
        for slot in &self.slots {
            if let Some(number) = K::taken(slot).checked_sub(1) {
                keys[number as usize] = K::of(slot);
            }
        }
        keys
    }

    fn bytes(&self) -> usize {
        self.slots.capacity() * size_of::<K::Slot>()
    }
}

/// Numbers for the texts of one column; null is zero.
struct Interner {
    /// Texts of up to twelve bytes, by their views, which hold them whole (Arrow columnar format, "Variable-size Binary View").
    short: Slots<u128>,
    long: HashTable<(u64, u32)>,
    bytes: Vec<u8>,
    ends: Vec<usize>,
    last: Option<(u128, u32)>,
}

/// Bytes that a view holds itself.
const INLINE: u32 = 12;

impl Interner {
    fn new() -> Interner {
        Interner { short: Slots::new(), long: HashTable::new(), bytes: Vec::new(), ends: Vec::new(), last: None }
    }

    fn text(&self, number: u32) -> Option<&[u8]> {
        let place = number.checked_sub(1)? as usize;
        let start = if place == 0 { 0 } else { self.ends[place - 1] };
        Some(&self.bytes[start..self.ends[place]])
    }

    fn add(&mut self, text: &[u8]) -> u32 {
        self.bytes.extend_from_slice(text);
        self.ends.push(self.bytes.len());
        self.ends.len() as u32
    }

    #[inline]
    fn number(&mut self, texts: &StringViewArray, row: usize) -> u32 {
        let view = texts.views()[row];
        if view as u32 > INLINE {
            return self.long_number(texts.value(row).as_bytes());
        }
        if let Some((same, number)) = self.last
            && same == view
        {
            return number;
        }
        let next = self.ends.len() as u32 + 1;
        let number = self.short.number(view, next);
        if number == next {
            self.add(texts.value(row).as_bytes());
        }
        self.last = Some((view, number));
        number
    }

    fn long_number(&mut self, text: &[u8]) -> u32 {
        let hash = hash_bytes(text);
        let found = self.long.find(hash, |(h, number)| *h == hash && self.text(*number) == Some(text));
        if let Some((_, number)) = found {
            return *number;
        }
        let number = self.add(text);
        self.long.insert_unique(hash, (hash, number), |(h, _)| *h);
        number
    }

    fn bytes(&self) -> usize {
        self.short.bytes() + self.long.capacity() * 17 + self.bytes.capacity() + self.ends.capacity() * 8
    }
}

/// How one column is packed.
enum Part {
    /// A number of this many bits, and a bit for null where the index has met one.
    Number(u32),
    Text(Interner),
}

impl Part {
    fn of(data_type: &DataType) -> Option<Part> {
        Some(match data_type {
            DataType::Boolean => Part::Number(1),
            DataType::Int16 => Part::Number(16),
            DataType::Int32 | DataType::Date32 => Part::Number(32),
            DataType::Int64 | DataType::Timestamp(..) | DataType::Time64(_) | DataType::Float64 => Part::Number(64),
            DataType::Decimal128(precision, _) if *precision <= 18 => Part::Number(64),
            DataType::Utf8View => Part::Text(Interner::new()),
            _ => return None,
        })
    }

    fn width(&self, nulls: bool) -> u32 {
        match self {
            Part::Number(width) => width + u32::from(nulls),
            Part::Text(_) => 32,
        }
    }
}

enum Table {
    Narrow(Slots<u64>),
    Wide(Slots<u128>),
    Bytes { table: HashTable<(u64, u32)>, bytes: Vec<u8>, ends: Vec<usize> },
}

/// Gives each distinct key a number, counted from zero in order of appearance. Nulls equal each other.
pub struct GroupIndex {
    encoder: Arc<KeyEncoder>,
    parts: Vec<Part>,
    /// Whether numbers have a bit for null. Without any null so far, more keys fit into 64 bits.
    nulls: bool,
    table: Table,
}

fn bytes_at(ends: &[usize], place: usize) -> std::ops::Range<usize> {
    if place == 0 { 0..ends[0] } else { ends[place - 1]..ends[place] }
}

impl GroupIndex {
    pub fn new(encoder: Arc<KeyEncoder>) -> Self {
        let parts: Option<Vec<Part>> = encoder.types().iter().map(Part::of).collect();
        let fits = parts.is_some();
        let parts = parts.unwrap_or_default();
        let bits = |nulls| parts.iter().map(|part| part.width(nulls)).sum::<u32>();
        let (nulls, table) = if !fits || bits(true) > 128 {
            (true, Table::Bytes { table: HashTable::new(), bytes: Vec::new(), ends: Vec::new() })
        } else if bits(false) <= 64 {
            (bits(true) <= 64, Table::Narrow(Slots::new()))
        } else {
            (true, Table::Wide(Slots::new()))
        };
        GroupIndex { encoder, parts, nulls, table }
    }

    pub fn len(&self) -> usize {
        match &self.table {
            Table::Narrow(slots) => slots.len,
            Table::Wide(slots) => slots.len,
            Table::Bytes { ends, .. } => ends.len(),
        }
    }

    pub fn bytes(&self) -> usize {
        let texts = self.parts.iter().map(|part| match part {
            Part::Number(_) => 0,
            Part::Text(interner) => interner.bytes(),
        });
        let table = match &self.table {
            Table::Narrow(slots) => slots.bytes(),
            Table::Wide(slots) => slots.bytes(),
            Table::Bytes { table, bytes, ends } => table.capacity() * 17 + bytes.capacity() + ends.capacity() * 8,
        };
        table + texts.sum::<usize>()
    }

    /// Writes each row's number into `groups`.
    pub fn assign(&mut self, columns: &[ArrayRef], rows: usize, groups: &mut Vec<u32>) -> Result<()> {
        groups.clear();
        groups.reserve(rows);
        if !self.nulls
            && columns.iter().zip(&self.parts).any(|(c, part)| matches!(part, Part::Number(_)) && c.null_count() > 0)
        {
            self.make_room_for_nulls()?;
        }
        let nulls = self.nulls;
        match &mut self.table {
            Table::Narrow(slots) => number_all(slots, &pack_all(&mut self.parts, columns, rows, nulls), groups),
            Table::Wide(slots) => number_all(slots, &pack_all(&mut self.parts, columns, rows, nulls), groups),
            Table::Bytes { table, bytes, ends } => {
                let EncodedKeys::Rows(encoded) = self.encoder.encode(columns, rows)? else {
                    return Err(Error::internal("keys that fit into a number were given as byte strings"));
                };
                for row in &encoded {
                    let key: &[u8] = row.as_ref();
                    let hash = hash_bytes(key);
                    let found = table.find(hash, |(h, g)| *h == hash && &bytes[bytes_at(ends, *g as usize)] == key);
                    let group = match found {
                        Some((_, group)) => *group,
                        None => {
                            let group = ends.len() as u32;
                            bytes.extend_from_slice(key);
                            ends.push(bytes.len());
                            table.insert_unique(hash, (hash, group), |(h, _)| *h);
                            group
                        }
                    };
                    groups.push(group);
                }
            }
        }
        Ok(())
    }

    /// The first null has come: the same keys, with the same numbers, with a bit for null in each number.
    fn make_room_for_nulls(&mut self) -> Result<()> {
        let keys = self.keys()?;
        self.nulls = true;
        self.table = Table::Wide(Slots::new());
        let rows = keys.first().map_or(0, |k| k.len());
        self.assign(&keys, rows, &mut Vec::new())
    }

    /// The key columns, one row per group in order of their numbers.
    pub fn keys(&self) -> Result<Vec<ArrayRef>> {
        match &self.table {
            Table::Narrow(slots) => self.unpacked(&slots.keys()),
            Table::Wide(slots) => self.unpacked(&slots.keys()),
            Table::Bytes { bytes, ends, .. } => {
                self.encoder.decode((0..ends.len()).map(|place| &bytes[bytes_at(ends, place)]))
            }
        }
    }

    fn unpacked<K: Key>(&self, keys: &[K]) -> Result<Vec<ArrayRef>> {
        let mut shift = self.parts.iter().map(|part| part.width(self.nulls)).sum::<u32>();
        let mut columns = Vec::with_capacity(self.parts.len());
        for (part, data_type) in self.parts.iter().zip(self.encoder.types()) {
            shift -= part.width(self.nulls);
            columns.push(match part {
                Part::Number(width) => unpack(keys, data_type, *width, shift, self.nulls)?,
                Part::Text(interner) => {
                    let mut texts = StringViewBuilder::with_capacity(keys.len());
                    for key in keys {
                        let text = interner.text(key.part(shift, 32) as u32).map(std::str::from_utf8).transpose();
                        texts.append_option(text.map_err(|_| Error::internal("a key of text is no text"))?);
                    }
                    Arc::new(texts.finish())
                }
            });
        }
        Ok(columns)
    }
}

fn number_all<K: Key>(slots: &mut Slots<K>, keys: &[K], groups: &mut Vec<u32>) {
    // Runs of one key are common in sorted and clustered data.
    let mut last: Option<(K, u32)> = None;
    for key in keys {
        let group = match last {
            Some((same, group)) if same == *key => group,
            _ => slots.number(*key, slots.len as u32),
        };
        last = Some((*key, group));
        groups.push(group);
    }
}

fn pack_all<K: Key>(parts: &mut [Part], columns: &[ArrayRef], rows: usize, nulls: bool) -> Vec<K> {
    let mut keys = vec![K::default(); rows];
    for (part, column) in parts.iter_mut().zip(columns) {
        match part {
            Part::Number(width) => pack(column, *width, nulls, &mut keys),
            Part::Text(interner) => {
                let texts = column.as_string_view();
                for (row, key) in keys.iter_mut().enumerate() {
                    let number = if texts.is_null(row) { 0 } else { interner.number(texts, row) };
                    *key = key.append(32, u64::from(number));
                }
            }
        }
    }
    keys
}

fn pack<K: Key>(column: &ArrayRef, width: u32, nulls: bool, keys: &mut [K]) {
    fn push<K: Key>(
        keys: &mut [K],
        width: u32,
        nulls: Option<&NullBuffer>,
        room: bool,
        values: impl Iterator<Item = u64>,
    ) {
        let mask = low_bits(width);
        match nulls.filter(|n| n.null_count() > 0) {
            Some(nulls) => {
                for (row, (key, value)) in keys.iter_mut().zip(values).enumerate() {
                    let (null, value) = if nulls.is_null(row) { (1, 0) } else { (0, value & mask) };
                    *key = if room { key.append(1, null).append(width, value) } else { key.append(width, value) };
                }
            }
            None => {
                for (key, value) in keys.iter_mut().zip(values) {
                    *key = if room { key.append(1, 0) } else { *key }.append(width, value & mask);
                }
            }
        }
    }
    macro_rules! primitive {
        ($type:ty, $as_u64:expr) => {
            push(keys, width, column.nulls(), nulls, column.as_primitive::<$type>().values().iter().map($as_u64))
        };
    }
    match column.data_type() {
        DataType::Boolean => {
            push(keys, width, column.nulls(), nulls, column.as_boolean().values().iter().map(u64::from));
        }
        DataType::Int16 => primitive!(Int16Type, |v| *v as u64),
        DataType::Int32 => primitive!(Int32Type, |v| *v as u64),
        DataType::Date32 => primitive!(Date32Type, |v| *v as u64),
        DataType::Int64 => primitive!(Int64Type, |v| *v as u64),
        DataType::Time64(_) => primitive!(Time64MicrosecondType, |v| *v as u64),
        DataType::Decimal128(..) => primitive!(Decimal128Type, |v| *v as u64),
        DataType::Float64 => primitive!(Float64Type, |v| one_form(*v).to_bits()),
        _ => primitive!(TimestampMicrosecondType, |v| *v as u64),
    }
}

/// Both zeros and all NaN are one key each.
fn one_form(value: f64) -> f64 {
    if value == 0.0 {
        0.0
    } else if value.is_nan() {
        f64::NAN
    } else {
        value
    }
}

fn unpack<K: Key>(keys: &[K], data_type: &DataType, width: u32, shift: u32, nulls: bool) -> Result<ArrayRef> {
    let value = |key: &K| (!nulls || key.part(shift + width, 1) == 0).then(|| key.part(shift, width));
    macro_rules! values {
        ($array:ty, $from_u64:expr) => {
            keys.iter().map(|key| value(key).map($from_u64)).collect::<$array>()
        };
    }
    Ok(match data_type {
        DataType::Boolean => Arc::new(values!(BooleanArray, |v| v == 1)),
        DataType::Int16 => Arc::new(values!(Int16Array, |v| v as i16)),
        DataType::Int32 => Arc::new(values!(Int32Array, |v| v as i32)),
        DataType::Date32 => Arc::new(values!(Date32Array, |v| v as i32)),
        DataType::Int64 => Arc::new(values!(Int64Array, |v| v as i64)),
        DataType::Time64(_) => Arc::new(values!(Time64MicrosecondArray, |v| v as i64)),
        DataType::Float64 => Arc::new(values!(Float64Array, f64::from_bits)),
        DataType::Decimal128(precision, scale) => {
            let array = values!(Decimal128Array, |v| i128::from(v as i64));
            Arc::new(array.with_precision_and_scale(*precision, *scale)?)
        }
        DataType::Timestamp(_, zone) => {
            Arc::new(values!(TimestampMicrosecondArray, |v| v as i64).with_timezone_opt(zone.clone()))
        }
        other => return Err(Error::internal(format!("a key of {other} is not packed"))),
    })
}

impl std::fmt::Debug for GroupIndex {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} groups of {:?}", self.len(), self.encoder.types())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn index(columns: &[ArrayRef]) -> GroupIndex {
        let encoder = KeyEncoder::new(columns.iter().map(|c| c.data_type().clone()).collect()).unwrap();
        GroupIndex::new(Arc::new(encoder))
    }

    fn assign(columns: Vec<ArrayRef>) -> (Vec<u32>, Vec<ArrayRef>) {
        let mut index = index(&columns);
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

    #[test]
    fn texts_of_any_length_are_told_apart() {
        let texts = ["", "a", "twelve bytes", "thirteen byte", "thirteen bytf", "a", "thirteen byte", "twelve bytes"];
        let (groups, keys) = assign(vec![Arc::new(StringViewArray::from(texts.to_vec()))]);
        assert_eq!(groups, [0, 1, 2, 3, 4, 1, 3, 2]);
        assert_eq!(keys[0].as_string_view().iter().flatten().collect::<Vec<_>>(), &texts[..5]);
    }

    #[test]
    fn a_first_null_keeps_the_numbers_that_were_given() {
        let (a, b): (ArrayRef, ArrayRef) =
            (Arc::new(Int32Array::from(vec![1, 2, 1])), Arc::new(Int32Array::from(vec![-1, i32::MIN, -1])));
        let mut index = index(&[a.clone(), b.clone()]);
        assert!(!index.nulls);
        let mut groups = Vec::new();
        index.assign(&[a, b], 3, &mut groups).unwrap();
        assert_eq!(groups, [0, 1, 0]);
        let (a, b): (ArrayRef, ArrayRef) = (
            Arc::new(Int32Array::from(vec![Some(2), None, Some(0), None])),
            Arc::new(Int32Array::from(vec![Some(i32::MIN), Some(0), None, Some(0)])),
        );
        index.assign(&[a, b], 4, &mut groups).unwrap();
        assert_eq!(groups, [1, 2, 3, 2]);
        let keys = index.keys().unwrap();
        let expected = Int32Array::from(vec![Some(1), Some(2), None, Some(0)]);
        assert_eq!(keys[0].as_primitive::<Int32Type>(), &expected);
        let expected = Int32Array::from(vec![Some(-1), Some(i32::MIN), Some(0), None]);
        assert_eq!(keys[1].as_primitive::<Int32Type>(), &expected);
    }

    #[test]
    fn many_keys_survive_growing_in_every_form() {
        let n = 100_000;
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values((0..n).map(|i| i * 7 - 50)));
        let days: ArrayRef = Arc::new(Date32Array::from_iter_values((0..n as i32).map(|i| i / 2)));
        let fares: ArrayRef = Arc::new(
            Decimal128Array::from_iter_values((0..n).map(|i| i128::from(-i))).with_precision_and_scale(10, 2).unwrap(),
        );
        let wide: ArrayRef = Arc::new(
            Decimal128Array::from_iter_values((0..n).map(|i| i128::from(i) << 80))
                .with_precision_and_scale(38, 0)
                .unwrap(),
        );
        let texts: ArrayRef = Arc::new(StringViewArray::from_iter_values((0..n).map(|i| format!("berth number {i}"))));
        for columns in
            [vec![numbers.clone()], vec![numbers.clone(), days], vec![fares], vec![wide], vec![texts, numbers]]
        {
            let (groups, keys) = assign(columns.clone());
            assert!(groups.iter().enumerate().all(|(row, group)| *group == row as u32));
            assert_eq!(keys, columns);
        }
    }
}
