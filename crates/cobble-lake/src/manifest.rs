//! Manifests (table specification, "Manifests"). Of an entry only what is asked for is decoded, and its
//! columns' bounds only when they are looked at.

use std::io::{self, BufRead};
use std::sync::Arc;

use cobble_format::AvroBlocks;
use cobble_plan::scan::ScanMemory;
use cobble_types::Value;
use serde_json::Value as Json;

use crate::avro_out::{AvroFile, long};
use crate::bounds;
use crate::glance::Glance;
use crate::manifest_list::Manifest;
use crate::metadata::Spec;
use crate::rows::{Cursor, Node, Part};
use crate::schema::{Kind, Schema, Told};

/// What the files of a manifest hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Content {
    Rows,
    /// Places in other files of rows that are gone.
    GonePositions,
    /// Values of rows that are gone.
    GoneValues,
}

/// An entry of a manifest that is in the table's state, as bytes of its block.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    shape: &'a EntryShape,
    /// True for a file that this manifest's snapshot has added.
    pub is_added: bool,
    pub snapshot: Option<i64>,
    pub sequence: Option<i64>,
    pub file_sequence: Option<i64>,
    pub content: Content,
    pub path: &'a str,
    pub format: &'a str,
    pub rows: u64,
    pub bytes: u64,
    /// The partition's values as they are written: the same bytes are the same partition.
    pub partition: &'a [u8],
    nulls: &'a [u8],
    counts: &'a [u8],
    nans: &'a [u8],
    lower: &'a [u8],
    upper: &'a [u8],
    equality: &'a [u8],
    /// All of it.
    whole: &'a [u8],
}

/// A file of rows, and the rows' schema.
pub(crate) fn opened<R: BufRead>(input: R, memory: &Arc<dyn ScanMemory>) -> io::Result<Told<(AvroBlocks<R>, Node)>> {
    let blocks = AvroBlocks::open(input, memory.clone())?;
    let schema = serde_json::from_slice::<Json>(blocks.schema()).map_err(|e| format!("its schema is no JSON: {e}"));
    Ok(schema.and_then(|json| Ok((blocks, Node::from_json(&json)?))))
}

pub(crate) fn parts(node: &Node) -> Told<&[Part]> {
    match node {
        Node::Record(parts) => Ok(parts),
        _ => Err("its rows are no records".into()),
    }
}

/// A field by its id, or by its name where the writer gave no ids.
pub(crate) fn is(part: &Part, id: i32, name: &str) -> bool {
    part.id.map_or_else(|| part.name == name, |own| own == id)
}

pub(crate) fn optional_number(cursor: &mut Cursor<'_>, node: &Node) -> Told<Option<i64>> {
    match cursor.branch(node)? {
        Some(Node::Number) => cursor.number().map(Some),
        Some(other) => {
            cursor.skip(other)?;
            Err("a number is of another type".into())
        }
        None => Ok(None),
    }
}

pub(crate) fn optional_bytes<'a>(cursor: &mut Cursor<'a>, node: &Node) -> Told<Option<&'a [u8]>> {
    match cursor.branch(node)? {
        Some(Node::Bytes) => cursor.bytes().map(Some),
        Some(_) => Err("a text is of another type".into()),
        None => Ok(None),
    }
}

pub(crate) fn text(bytes: &[u8]) -> Told<&str> {
    std::str::from_utf8(bytes).map_err(|_| "a text is not in UTF-8".into())
}

/// Rows or bytes that a file has at most: of a hundred thousand files the sum has still room in 64 bits.
const MOST_OF_A_FILE: u64 = 1 << 46;

pub(crate) fn count(number: Option<i64>, what: &str) -> Told<u64> {
    let number = number.ok_or_else(|| format!("a file lacks its {what}"))?;
    let count = u64::try_from(number).ok().filter(|count| *count <= MOST_OF_A_FILE);
    count.ok_or_else(|| format!("the {what} of a file is {number}, which no file has"))
}

/// Where the fields of an entry are, and their types.
#[derive(Debug, PartialEq)]
pub struct EntryShape {
    entry: Vec<(EntryField, Node)>,
    file: Vec<(FileField, Node)>,
    partition: Vec<Part>,
    bounds: Option<(Node, Node)>,
    counts: Option<(Node, Node)>,
    equality: Option<Node>,
    /// For those that only look for the partition.
    quick: Glance,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum EntryField {
    Status,
    Snapshot,
    Sequence,
    FileSequence,
    File,
    Other,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FileField {
    Content,
    Path,
    Format,
    Partition,
    Rows,
    Bytes,
    Counts,
    Nulls,
    Nans,
    Lower,
    Upper,
    Equality,
    Other,
}

const FILE_FIELDS: &[(i32, &str, FileField)] = &[
    (134, "content", FileField::Content),
    (100, "file_path", FileField::Path),
    (101, "file_format", FileField::Format),
    (102, "partition", FileField::Partition),
    (103, "record_count", FileField::Rows),
    (104, "file_size_in_bytes", FileField::Bytes),
    (109, "value_counts", FileField::Counts),
    (110, "null_value_counts", FileField::Nulls),
    (137, "nan_value_counts", FileField::Nans),
    (125, "lower_bounds", FileField::Lower),
    (128, "upper_bounds", FileField::Upper),
    (135, "equality_ids", FileField::Equality),
];

impl EntryShape {
    pub(crate) fn new(node: &Node) -> Told<EntryShape> {
        let of_entry = |part: &Part| match part {
            part if is(part, 0, "status") => EntryField::Status,
            part if is(part, 1, "snapshot_id") => EntryField::Snapshot,
            part if is(part, 3, "sequence_number") => EntryField::Sequence,
            part if is(part, 4, "file_sequence_number") => EntryField::FileSequence,
            part if is(part, 2, "data_file") => EntryField::File,
            _ => EntryField::Other,
        };
        let entry: Vec<(EntryField, Node)> =
            parts(node)?.iter().map(|part| (of_entry(part), part.node.clone())).collect();
        let file = entry.iter().find(|(field, _)| *field == EntryField::File).ok_or("its entries name no files")?;
        let of_file = |part: &Part| {
            FILE_FIELDS.iter().find(|(id, name, _)| is(part, *id, name)).map_or(FileField::Other, |(.., field)| *field)
        };
        let file: Vec<(FileField, Node)> =
            parts(&file.1)?.iter().map(|part| (of_file(part), part.node.clone())).collect();
        let of = |wanted: FileField| file.iter().find(|(field, _)| *field == wanted).map(|(_, node)| node.present());
        // Maps by whole numbers are arrays of pairs.
        let pair = |wanted: FileField| match of(wanted) {
            Some(Node::Array(item)) => match item.as_ref() {
                Node::Record(parts) => match parts.as_slice() {
                    [key, value] if key.node == Node::Number => Some((item.as_ref().clone(), value.node.clone())),
                    _ => None,
                },
                _ => None,
            },
            _ => None,
        };
        let partition = match of(FileField::Partition) {
            Some(Node::Record(parts)) => parts.clone(),
            _ => vec![],
        };
        let equality = match of(FileField::Equality) {
            Some(Node::Array(item)) => Some(item.as_ref().clone()),
            _ => None,
        };
        let (bounds, counts) = (pair(FileField::Lower), pair(FileField::Nulls));
        let of_entry = |wanted: EntryField| entry.iter().position(|(field, _)| *field == wanted);
        let quick = Glance::new(
            parts(node)?,
            (
                of_entry(EntryField::Status),
                of_entry(EntryField::File).unwrap_or(0),
                file.iter().position(|(field, _)| *field == FileField::Partition),
            ),
        );
        Ok(EntryShape { partition, bounds, counts, equality, entry, file, quick })
    }

    /// Passes over an entry, and gives the bytes of its partition and its own; none for a file that is not in the table's state any more.
    pub(crate) fn glance<'a>(&'a self, cursor: &mut Cursor<'a>) -> Told<Option<(&'a [u8], &'a [u8])>> {
        match self.quick.at(cursor.rest()) {
            Some(found) if (0..=2).contains(&found.status) => {
                *cursor = Cursor::new(&cursor.rest()[found.whole.len()..]);
                Ok((found.status < 2).then_some((found.partition, found.whole)))
            }
            // It is read in full, which finds what is wrong with it.
            _ => Ok(self.read(cursor)?.map(|entry| (entry.partition, entry.whole))),
        }
    }

    /// The types of the partition's values.
    pub(crate) fn partition(&self) -> &[Part] {
        &self.partition
    }

    /// The values of a partition, in the order of the partitioning's fields; null for a field that the file has no value of.
    pub fn partition_values(&self, partition: &[u8], spec: &Spec, schema: &Schema) -> Told<Vec<Value>> {
        let mut values = vec![Value::Null; spec.fields.len()];
        let mut cursor = Cursor::new(partition);
        for part in &self.partition {
            let own = own_field(part, spec);
            let Some(branch) = cursor.branch(&part.node)? else { continue };
            // Of a column that has been dropped since, nobody asks.
            let known = own.and_then(|place| Some((place, schema.field(spec.fields[place].source)?)));
            let Some((place, source)) = known else {
                cursor.skip(branch)?;
                continue;
            };
            let kind = spec.fields[place].transform.kind(&source.kind);
            values[place] = partition_value(&mut cursor, branch, &kind)?;
        }
        Ok(values)
    }

    /// The entry at a place; none for a file that is not in the table's state any more.
    pub(crate) fn read<'a>(&'a self, cursor: &mut Cursor<'a>) -> Told<Option<Entry<'a>>> {
        let begin = *cursor;
        let (mut status, mut snapshot, mut sequence, mut file_sequence) = (None, None, None, None);
        let mut content = Some(0);
        let (mut path, mut format): (&[u8], &[u8]) = (&[], &[]);
        let (mut rows, mut bytes) = (None, None);
        let empty: &[u8] = &[];
        let mut partition = empty;
        let [mut counts, mut nulls, mut nans, mut lower, mut upper, mut equality] = [empty; 6];
        for (field, node) in &self.entry {
            match field {
                EntryField::Status => status = optional_number(cursor, node)?,
                EntryField::Snapshot => snapshot = optional_number(cursor, node)?,
                EntryField::Sequence => sequence = optional_number(cursor, node)?,
                EntryField::FileSequence => file_sequence = optional_number(cursor, node)?,
                EntryField::Other => drop(cursor.skip(node)?),
                EntryField::File => {
                    for (field, node) in &self.file {
                        let raw = |cursor: &mut Cursor<'a>| -> Told<&'a [u8]> {
                            match cursor.branch(node)? {
                                Some(branch) => cursor.skip(branch),
                                None => Ok(empty),
                            }
                        };
                        match field {
                            FileField::Content => content = optional_number(cursor, node)?,
                            FileField::Path => path = optional_bytes(cursor, node)?.unwrap_or_default(),
                            FileField::Format => format = optional_bytes(cursor, node)?.unwrap_or_default(),
                            FileField::Rows => rows = optional_number(cursor, node)?,
                            FileField::Bytes => bytes = optional_number(cursor, node)?,
                            FileField::Partition => partition = raw(cursor)?,
                            FileField::Counts => counts = raw(cursor)?,
                            FileField::Nulls => nulls = raw(cursor)?,
                            FileField::Nans => nans = raw(cursor)?,
                            FileField::Lower => lower = raw(cursor)?,
                            FileField::Upper => upper = raw(cursor)?,
                            FileField::Equality => equality = raw(cursor)?,
                            FileField::Other => drop(cursor.skip(node)?),
                        }
                    }
                }
            }
        }
        let is_added = match status {
            Some(0) => false,
            Some(1) => true,
            Some(2) => return Ok(None),
            other => return Err(format!("an entry has the status {other:?}")),
        };
        let content = match content {
            None | Some(0) => Content::Rows,
            Some(1) => Content::GonePositions,
            Some(2) => Content::GoneValues,
            Some(other) => return Err(format!("a file has the content {other}")),
        };
        Ok(Some(Entry {
            shape: self,
            is_added,
            snapshot,
            sequence,
            file_sequence,
            content,
            path: text(path)?,
            format: text(format)?,
            rows: count(rows, "record_count")?,
            bytes: count(bytes, "file_size_in_bytes")?,
            partition,
            nulls,
            counts,
            nans,
            lower,
            upper,
            equality,
            whole: cursor.since(&begin),
        }))
    }
}

/// Goes through the entries of a manifest that are in the table's state. `visit` gets each one once, in the manifest's order.
///
/// # Errors
/// Of the storage, or, as what is wrong, of the file.
pub fn entries(
    input: impl BufRead,
    memory: &Arc<dyn ScanMemory>,
    mut visit: impl FnMut(&Entry<'_>) -> Told<()>,
) -> io::Result<Told<()>> {
    let opened = opened(input, memory)?.and_then(|(blocks, node)| Ok((blocks, EntryShape::new(&node)?)));
    let (mut blocks, shape) = match opened {
        Ok(opened) => opened,
        Err(what) => return Ok(Err(what)),
    };
    while let Some(block) = blocks.next_block()? {
        let mut all = || -> Told<()> {
            let mut cursor = Cursor::new(&block.bytes);
            for _ in 0..block.rows {
                if let Some(entry) = shape.read(&mut cursor)? {
                    visit(&entry)?;
                }
            }
            match cursor.is_at_end() {
                true => Ok(()),
                false => Err("a block has more bytes than its rows".into()),
            }
        };
        if let Err(what) = all() {
            return Ok(Err(what));
        }
    }
    Ok(Ok(()))
}

/// A manifest that is written of entries of others, each as it was but for its standing.
pub struct Again {
    out: AvroFile,
    /// Files and rows by what the entries say: there before, added, gone.
    files: [u64; 3],
    rows: [u64; 3],
    least: Option<i64>,
}

/// A manifest written so.
pub struct Rewritten {
    pub content: Vec<u8>,
    pub files: [u64; 3],
    pub rows: [u64; 3],
    /// The least number of a change that one of its files has; none where all come with the manifest.
    pub least_sequence: Option<i64>,
}

/// What a manifest says of its entries: their type, and what its header has.
#[derive(Debug, Clone, PartialEq)]
pub struct Form {
    pub schema: Json,
    pub header: Vec<(&'static str, String)>,
}

impl Form {
    fn of<R: BufRead>(blocks: &AvroBlocks<R>) -> Told<Form> {
        let names = ["schema", "schema-id", "partition-spec", "partition-spec-id", "format-version", "content"];
        let header = names
            .into_iter()
            .filter_map(|name| Some((name, String::from_utf8(blocks.entry(name)?.to_vec()).ok()?)))
            .collect();
        let schema = serde_json::from_slice(blocks.schema()).map_err(|e| format!("its schema is no JSON: {e}"))?;
        Ok(Form { schema, header })
    }
}

impl Again {
    fn new<R: BufRead>(blocks: &AvroBlocks<R>) -> Told<Again> {
        let form = Form::of(blocks)?;
        Ok(Again { out: AvroFile::new(&form.schema, &form.header), files: [0; 3], rows: [0; 3], least: None })
    }

    fn put(&mut self, entry: &Entry<'_>, standing: Standing) -> Told<()> {
        self.files[standing.status as usize] += 1;
        self.rows[standing.status as usize] += entry.rows;
        if let Some(sequence) = standing.sequence {
            self.least = Some(self.least.map_or(sequence, |least| least.min(sequence)));
        }
        let mut put = Ok(());
        self.out.row(|out| put = entry.put(standing, out));
        put
    }

    fn finish(self) -> Rewritten {
        Rewritten { content: self.out.finish(), files: self.files, rows: self.rows, least_sequence: self.least }
    }
}

/// Writes a manifest anew with the entries that `standing` has one for, in their order.
///
/// # Errors
/// Of the storage, or, as what is wrong, of the file.
pub fn again(
    input: impl BufRead,
    memory: &Arc<dyn ScanMemory>,
    mut standing: impl FnMut(&Entry<'_>) -> Told<Option<Standing>>,
) -> io::Result<Told<Rewritten>> {
    let opened = opened(input, memory)?.and_then(|(blocks, node)| {
        let (shape, out) = (EntryShape::new(&node)?, Again::new(&blocks)?);
        Ok((blocks, shape, out))
    });
    let (mut blocks, shape, mut out) = match opened {
        Ok(opened) => opened,
        Err(what) => return Ok(Err(what)),
    };
    while let Some(block) = blocks.next_block()? {
        let mut all = || -> Told<()> {
            let mut cursor = Cursor::new(&block.bytes);
            for _ in 0..block.rows {
                let Some(entry) = shape.read(&mut cursor)? else { continue };
                if let Some(standing) = standing(&entry)? {
                    out.put(&entry, standing)?;
                }
            }
            Ok(())
        };
        if let Err(what) = all() {
            return Ok(Err(what));
        }
    }
    Ok(Ok(out.finish()))
}

/// The form of a manifest.
///
/// # Errors
/// Of the storage, or, as what is wrong, of the file.
pub fn form(input: impl BufRead, memory: &Arc<dyn ScanMemory>) -> io::Result<Told<Form>> {
    Ok(Form::of(&AvroBlocks::open(input, memory.clone())?))
}

/// What is known of a column in a file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnBounds {
    pub min: Option<Value>,
    pub max: Option<Value>,
    /// Values with the nulls among them.
    pub values: Option<u64>,
    pub nulls: Option<u64>,
    pub nans: Option<u64>,
}

/// What an entry says of its file's place in the table's history.
#[derive(Debug, Clone, Copy)]
pub struct Standing {
    pub status: Status,
    pub snapshot: i64,
    /// None where the file comes with its manifest.
    pub sequence: Option<i64>,
    pub file_sequence: Option<i64>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    Kept = 0,
    Added = 1,
    Gone = 2,
}

/// A number of a type that may be optional; without one, where it may not be left out, it is 0.
fn put_number(node: &Node, number: Option<i64>, out: &mut Vec<u8>) {
    let Node::Union(branches) = node else { return long(number.unwrap_or(0), out) };
    let wanted = if number.is_some() { Node::Number } else { Node::Null };
    let place = branches.iter().position(|branch| *branch == wanted).unwrap_or(0);
    long(place as i64, out);
    if let Some(number) = number {
        long(number, out);
    }
}

impl Entry<'_> {
    /// The number of the change that has added the file: that of its manifest where the file came with it (table specification, "Sequence
    /// Number Inheritance").
    pub fn sequence_in(&self, manifest: &Manifest) -> i64 {
        self.sequence.unwrap_or(if self.is_added { manifest.sequence } else { 0 })
    }

    /// The standing of a file that was there before.
    pub fn kept_in(&self, manifest: &Manifest) -> Standing {
        let sequence = self.sequence_in(manifest);
        Standing {
            status: Status::Kept,
            snapshot: self.snapshot_in(manifest),
            sequence: Some(sequence),
            file_sequence: Some(self.file_sequence.unwrap_or(sequence)),
        }
    }

    /// The snapshot that has added the file.
    pub fn snapshot_in(&self, manifest: &Manifest) -> i64 {
        self.snapshot.unwrap_or(manifest.added_by)
    }

    /// The entry as it was written, with another standing.
    pub fn put(&self, standing: Standing, out: &mut Vec<u8>) -> Told<()> {
        let mut cursor = Cursor::new(self.whole);
        for (field, node) in &self.shape.entry {
            let own = cursor.skip(node)?;
            match field {
                EntryField::Status => put_number(node, Some(standing.status as i64), out),
                EntryField::Snapshot => put_number(node, Some(standing.snapshot), out),
                EntryField::Sequence => put_number(node, standing.sequence, out),
                EntryField::FileSequence => put_number(node, standing.file_sequence, out),
                EntryField::File | EntryField::Other => out.extend_from_slice(own),
            }
        }
        Ok(())
    }

    /// The values of the partition, in the order of the partitioning's fields; null for a field that the file has no value of.
    pub fn partition_values(&self, spec: &Spec, schema: &Schema) -> Told<Vec<Value>> {
        self.shape.partition_values(self.partition, spec, schema)
    }

    /// Bytes that files of the same partition share, whoever has written them: the values in the order of the partitioning's fields.
    pub fn partition_mark(&self, spec: &Spec) -> Told<Vec<u8>> {
        let mut values: Vec<Option<Vec<u8>>> = vec![None; spec.fields.len()];
        let mut cursor = Cursor::new(self.partition);
        for part in &self.shape.partition {
            let own = own_field(part, spec);
            let Some(branch) = cursor.branch(&part.node)? else { continue };
            let bytes = cursor.skip(branch)?;
            if let Some(place) = own {
                values[place] = Some(match branch {
                    // A number may have been written narrower: with fewer bytes, or in half of them.
                    Node::Fixed(_) => bytes[redundant(bytes)..].to_vec(),
                    Node::Float => {
                        bytes.try_into().map_or(vec![], |own| f64::from(f32::from_le_bytes(own)).to_le_bytes().to_vec())
                    }
                    _ => bytes.to_vec(),
                });
            }
        }
        let mut mark = Vec::new();
        for value in values {
            match value {
                None => mark.push(0),
                Some(bytes) => {
                    mark.push(1);
                    mark.extend((bytes.len() as u64).to_le_bytes());
                    mark.extend(bytes);
                }
            }
        }
        Ok(mark)
    }

    /// Least, greatest and numbers of a column, by its id.
    pub fn bounds(&self, id: i32, kind: &Kind) -> Told<ColumnBounds> {
        let mut found = ColumnBounds::default();
        if let Some((pair, value)) = &self.shape.bounds {
            let bound = |raw: &[u8]| -> Told<Option<Value>> {
                let mut bound = None;
                of_id(raw, pair, value, id, |bytes| {
                    bound = bounds::value(kind, Cursor::new(bytes).bytes()?);
                    Ok(())
                })?;
                Ok(bound)
            };
            (found.min, found.max) = (bound(self.lower)?, bound(self.upper)?);
        }
        if let Some((pair, value)) = &self.shape.counts {
            let number = |raw: &[u8]| -> Told<Option<u64>> {
                let mut number = None;
                of_id(raw, pair, value, id, |bytes| {
                    number = u64::try_from(Cursor::new(bytes).number()?).ok();
                    Ok(())
                })?;
                Ok(number)
            };
            (found.values, found.nulls, found.nans) = (number(self.counts)?, number(self.nulls)?, number(self.nans)?);
        }
        Ok(found)
    }

    /// Of a file that tells the values of gone rows: the ids of the columns that it tells them by.
    pub fn equality_ids(&self) -> Told<Vec<i32>> {
        let Some(item) = self.shape.equality.as_ref().filter(|_| !self.equality.is_empty()) else { return Ok(vec![]) };
        let mut ids = Vec::new();
        Cursor::new(self.equality).items(item, |cursor| {
            ids.push(i32::try_from(cursor.number()?).map_err(|_| "the id of a column is too large")?);
            Ok(())
        })?;
        Ok(ids)
    }
}

/// The field of a partitioning that a part of a partition is.
fn own_field(part: &Part, spec: &Spec) -> Option<usize> {
    spec.fields.iter().position(|field| part.id.map_or_else(|| part.name == field.name, |id| id == field.id))
}

/// How many bytes at the front of a whole number in two's complement say nothing.
fn redundant(bytes: &[u8]) -> usize {
    bytes.windows(2).take_while(|two| matches!((two[0], two[1] & 0x80), (0, 0) | (0xff, 0x80))).count()
}

/// Looks for the value of an id in pairs of ids and values.
fn of_id(raw: &[u8], pair: &Node, value: &Node, id: i32, mut found: impl FnMut(&[u8]) -> Told<()>) -> Told<()> {
    if raw.is_empty() {
        return Ok(());
    }
    Cursor::new(raw).items(pair, |cursor| {
        let own = cursor.number()? == i64::from(id);
        let bytes = cursor.skip(value)?;
        if own { found(bytes) } else { Ok(()) }
    })
}

fn partition_value(cursor: &mut Cursor<'_>, node: &Node, kind: &Kind) -> Told<Value> {
    let little = |bytes: &[u8]| bounds::value(kind, bytes);
    let found = match node {
        Node::Number => {
            let number = cursor.number()?;
            match kind {
                Kind::Long => Some(Value::BigInt(number)),
                Kind::Time => Some(Value::Time(number)),
                Kind::Timestamp => Some(Value::Timestamp(number)),
                Kind::TimestampTz => Some(Value::TimestampTz(number)),
                Kind::Date => i32::try_from(number).ok().map(Value::Date),
                _ => i32::try_from(number).ok().map(Value::Integer),
            }
        }
        Node::Boolean => little(cursor.skip(node)?),
        Node::Float | Node::Double => little(cursor.skip(node)?),
        Node::Bytes => little(cursor.bytes()?),
        Node::Fixed(_) => little(cursor.skip(node)?),
        _ => return Err("a partition value is of a nested type".into()),
    };
    found.ok_or_else(|| "a partition value does not fit its column".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_written_wider_is_the_same_partition() {
        let narrow = |bytes: &[u8]| bytes[redundant(bytes)..].to_vec();
        for (wide, wanted) in [
            (&[0, 0, 0, 5][..], &[5][..]),
            (&[0, 0, 0, 0x85], &[0, 0x85]),
            (&[0xff, 0xff, 0x85], &[0x85]),
            (&[0xff, 0xff, 0x05], &[0xff, 0x05]),
            (&[0, 0], &[0]),
            (&[7], &[7]),
            (&[], &[]),
        ] {
            assert_eq!(narrow(wide), wanted, "{wide:?}");
        }
    }
}
