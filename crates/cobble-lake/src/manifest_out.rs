//! Writing manifests and manifest lists (table specification, "Manifests" and "Manifest Lists").

use cobble_types::Value;
use serde_json::{Value as Json, json};

use crate::avro_out::{AvroFile, array, bytes, long, optional};
use crate::bounds;
use crate::manifest::Content;
use crate::manifest_list::{Manifest, Summary};
use crate::metadata::Spec;
use crate::schema::{Kind, Schema, Told};

/// A file that a snapshot adds.
#[derive(Debug, Clone)]
pub struct NewFile {
    pub content: Content,
    /// As the table names it.
    pub path: String,
    pub format: String,
    /// Values of the partitioning's fields.
    pub partition: Vec<Value>,
    pub rows: u64,
    pub bytes: u64,
    pub columns: Vec<NewColumn>,
    /// Where the parts of the file begin.
    pub splits: Vec<u64>,
    /// The order that its rows are in.
    pub order: Option<i32>,
}

/// What is known of a column in such a file.
#[derive(Debug, Clone, Default)]
pub struct NewColumn {
    pub id: i32,
    pub bytes: u64,
    pub values: Option<u64>,
    pub nulls: Option<u64>,
    pub nans: Option<u64>,
    pub lower: Option<Vec<u8>>,
    pub upper: Option<Vec<u8>>,
}

/// What a new manifest belongs to.
#[derive(Debug, Clone, Copy)]
pub struct Written<'a> {
    /// Of the table specification.
    pub version: u8,
    pub snapshot: i64,
    pub spec: &'a Spec,
    pub schema: &'a Schema,
    /// The schema as the metadata have it.
    pub schema_json: &'a Json,
}

fn field(id: i32, name: &str, kind: Json) -> Json {
    json!({ "name": name, "type": kind, "field-id": id })
}

fn optional_field(id: i32, name: &str, kind: Json) -> Json {
    json!({ "name": name, "type": ["null", kind], "default": null, "field-id": id })
}

fn map(key: i32, value: i32, kind: &str) -> Json {
    let pair = json!({ "type": "record", "name": format!("k{key}_v{value}"),
        "fields": [field(key, "key", json!("int")), field(value, "value", json!(kind))] });
    json!({ "type": "array", "items": pair, "logicalType": "map" })
}

fn list(id: i32, kind: &str) -> Json {
    json!({ "type": "array", "items": kind, "element-id": id })
}

/// A name as Avro takes it (Avro specification 1.11, "Names").
fn avro_name(name: &str) -> String {
    let mut out = String::new();
    for (place, c) in name.chars().enumerate() {
        match c {
            'a'..='z' | 'A'..='Z' | '_' => out.push(c),
            '0'..='9' if place > 0 => out.push(c),
            '0'..='9' => out.extend(['_', c]),
            other => out.push_str(&format!("_x{:X}", other as u32)),
        }
    }
    out
}

/// The Avro type of partition values (table specification, appendix A, "Avro").
fn avro_type(kind: &Kind, id: i32) -> Told<Json> {
    Ok(match kind {
        Kind::Boolean => json!("boolean"),
        Kind::Int => json!("int"),
        Kind::Long => json!("long"),
        Kind::Float => json!("float"),
        Kind::Double => json!("double"),
        Kind::Decimal { precision, scale } => json!({ "type": "fixed", "name": format!("decimal_{id}"),
            "size": decimal_bytes(*precision), "logicalType": "decimal", "precision": precision, "scale": scale }),
        Kind::Date => json!({ "type": "int", "logicalType": "date" }),
        Kind::Time => json!({ "type": "long", "logicalType": "time-micros" }),
        Kind::Timestamp => json!({ "type": "long", "logicalType": "timestamp-micros", "adjust-to-utc": false }),
        Kind::TimestampTz => json!({ "type": "long", "logicalType": "timestamp-micros", "adjust-to-utc": true }),
        Kind::String => json!("string"),
        Kind::Uuid => json!({ "type": "fixed", "name": format!("uuid_{id}"), "size": 16, "logicalType": "uuid" }),
        Kind::Fixed(length) => json!({ "type": "fixed", "name": format!("fixed_{id}"), "size": length }),
        Kind::Binary => json!("bytes"),
        Kind::Struct(_) | Kind::List(_) | Kind::Map { .. } => {
            return Err("rows are not partitioned by nested columns".into());
        }
    })
}

/// The fewest bytes that hold numbers of so many digits.
fn decimal_bytes(precision: u8) -> usize {
    (1..=16).find(|bytes| 10f64.powi(i32::from(precision)) < 2f64.powi(8 * bytes - 1)).unwrap_or(16) as usize
}

fn put_partition(value: &Value, kind: &Kind, out: &mut Vec<u8>) -> Told<()> {
    let wrong = || format!("{value:?} is no partition value of a {kind:?}");
    let mut known = Ok(());
    optional((!value.is_null()).then_some(value), out, |value, out| match (kind, value) {
        (Kind::Boolean, Value::Boolean(own)) => out.push(u8::from(*own)),
        (Kind::Int, Value::Integer(n)) | (Kind::Date, Value::Date(n)) => long(i64::from(*n), out),
        (Kind::Long, Value::BigInt(n))
        | (Kind::Time, Value::Time(n))
        | (Kind::Timestamp, Value::Timestamp(n))
        | (Kind::TimestampTz, Value::TimestampTz(n)) => long(*n, out),
        (Kind::Decimal { precision, .. }, Value::Numeric { unscaled, .. }) => {
            out.extend_from_slice(&unscaled.to_be_bytes()[16 - decimal_bytes(*precision)..]);
        }
        (Kind::String | Kind::Binary, _) => match bounds::bytes(kind, value) {
            Some(own) => bytes(&own, out),
            None => known = Err(wrong()),
        },
        _ => match bounds::bytes(kind, value) {
            Some(own) => out.extend_from_slice(&own),
            None => known = Err(wrong()),
        },
    });
    known
}

fn entry_schema(version: u8, partition: Vec<Json>) -> Json {
    let of_partition = json!({ "type": "record", "name": "r102", "fields": partition });
    let mut file = vec![
        field(100, "file_path", json!("string")),
        field(101, "file_format", json!("string")),
        field(102, "partition", of_partition),
        field(103, "record_count", json!("long")),
        field(104, "file_size_in_bytes", json!("long")),
    ];
    let mut entry = vec![field(0, "status", json!("int"))];
    if version == 1 {
        file.push(field(105, "block_size_in_bytes", json!("long")));
        entry.push(field(1, "snapshot_id", json!("long")));
    } else {
        file.insert(0, field(134, "content", json!("int")));
        entry.push(optional_field(1, "snapshot_id", json!("long")));
        entry.push(optional_field(3, "sequence_number", json!("long")));
        entry.push(optional_field(4, "file_sequence_number", json!("long")));
    }
    file.extend([
        optional_field(108, "column_sizes", map(117, 118, "long")),
        optional_field(109, "value_counts", map(119, 120, "long")),
        optional_field(110, "null_value_counts", map(121, 122, "long")),
        optional_field(137, "nan_value_counts", map(138, 139, "long")),
        optional_field(125, "lower_bounds", map(126, 127, "bytes")),
        optional_field(128, "upper_bounds", map(129, 130, "bytes")),
        optional_field(132, "split_offsets", list(133, "long")),
        optional_field(140, "sort_order_id", json!("int")),
    ]);
    entry.push(field(2, "data_file", json!({ "type": "record", "name": "r2", "fields": file })));
    json!({ "type": "record", "name": "manifest_entry", "fields": entry })
}

/// A manifest of files that its snapshot adds, all of rows or all of places of rows that are gone, and what its list says of it; the path is the caller's.
pub fn manifest(files: &[NewFile], to: Written<'_>) -> Told<(Vec<u8>, Manifest)> {
    let kinds = kinds(to.spec, to.schema)?;
    let own = to.spec.fields.iter().zip(&kinds);
    let partition = own
        .map(|(field, kind)| {
            Ok(json!({ "name": avro_name(&field.name), "type": ["null", avro_type(kind, field.id)?], "default": null, "field-id": field.id }))
        })
        .collect::<Told<Vec<Json>>>()?;
    let of_deletes = files.iter().any(|file| file.content != Content::Rows);
    let mut out = AvroFile::new(
        &entry_schema(to.version, partition),
        &[
            ("schema", to.schema_json.to_string()),
            ("schema-id", to.schema.id.to_string()),
            ("partition-spec", to.spec.fields_json().to_string()),
            ("partition-spec-id", to.spec.id.to_string()),
            ("format-version", to.version.to_string()),
            ("content", if of_deletes { "deletes" } else { "data" }.to_owned()),
        ],
    );
    for file in files {
        let mut partition = Vec::new();
        for (value, kind) in file.partition.iter().zip(&kinds) {
            put_partition(value, kind, &mut partition)?;
        }
        out.row(|out| put_entry(file, &partition, to, out));
    }
    let bytes = out.finish();
    let described = Manifest {
        path: String::new(),
        length: bytes.len() as u64,
        spec: to.spec.id,
        of_deletes,
        sequence: 0,
        least_sequence: 0,
        added_by: to.snapshot,
        files_added: Some(files.len() as u64),
        files_kept: Some(0),
        files_gone: Some(0),
        rows_added: Some(files.iter().map(|file| file.rows).sum()),
        rows_kept: Some(0),
        rows_gone: Some(0),
        partitions: Some(summaries(files.iter().map(|file| file.partition.as_slice()), &kinds)),
    };
    Ok((bytes, described))
}

/// The types of a partitioning's values.
pub fn kinds(spec: &Spec, schema: &Schema) -> Told<Vec<Kind>> {
    let kind = |field: &crate::metadata::PartitionField| {
        let source = schema
            .field(field.source)
            .ok_or_else(|| format!("the partition field {} has lost its column", field.name))?;
        Ok(field.transform.kind(&source.kind))
    };
    spec.fields.iter().map(kind).collect()
}

fn put_entry(file: &NewFile, partition: &[u8], to: Written<'_>, out: &mut Vec<u8>) {
    let number = |number: u64, out: &mut Vec<u8>| long(number as i64, out);
    // Added by this snapshot, with the sequence number that its manifest will have.
    long(1, out);
    if to.version == 1 {
        long(to.snapshot, out);
    } else {
        optional(Some(to.snapshot), out, long);
        optional(None, out, long);
        optional(None, out, long);
        long(i64::from(file.content != Content::Rows), out);
    }
    bytes(file.path.as_bytes(), out);
    bytes(file.format.to_uppercase().as_bytes(), out);
    out.extend_from_slice(partition);
    number(file.rows, out);
    number(file.bytes, out);
    if to.version == 1 {
        long(64 << 20, out);
    }
    let counts = |of: &dyn Fn(&NewColumn) -> Option<u64>, out: &mut Vec<u8>| {
        let own: Vec<(i32, u64)> = file.columns.iter().filter_map(|column| Some((column.id, of(column)?))).collect();
        optional(Some(own), out, |own, out| {
            array(own.into_iter(), out, |(id, value), out| {
                long(i64::from(id), out);
                number(value, out);
            });
        });
    };
    counts(&|column| Some(column.bytes), out);
    counts(&|column| column.values, out);
    counts(&|column| column.nulls, out);
    counts(&|column| column.nans, out);
    for of in [|column: &NewColumn| column.lower.clone(), |column: &NewColumn| column.upper.clone()] {
        let own: Vec<(i32, Vec<u8>)> =
            file.columns.iter().filter_map(|column| Some((column.id, of(column)?))).collect();
        optional(Some(own), out, |own, out| {
            array(own.into_iter(), out, |(id, value), out| {
                long(i64::from(id), out);
                bytes(&value, out);
            });
        });
    }
    let splits = (!file.splits.is_empty()).then_some(&file.splits);
    optional(splits, out, |splits, out| array(splits.iter(), out, |split, out| number(*split, out)));
    optional(file.order, out, |order, out| long(i64::from(order), out));
}

/// What is known of the partition values of files.
pub fn summaries<'v>(partitions: impl Iterator<Item = &'v [Value]> + Clone, kinds: &[Kind]) -> Vec<Summary> {
    let is_nan = |value: &Value| {
        matches!(value, Value::Real(n) if n.is_nan()) || matches!(value, Value::Double(n) if n.is_nan())
    };
    let one = |(place, kind): (usize, &Kind)| {
        let values = || partitions.clone().filter_map(move |values| values.get(place));
        let known: Vec<&Value> = values().filter(|value| !value.is_null() && !is_nan(value)).collect();
        let first = |wanted: std::cmp::Ordering| {
            known.iter().copied().reduce(|a, b| if b.compare(a) == Some(wanted) { b } else { a })
        };
        Summary {
            has_null: values().any(Value::is_null),
            has_nan: Some(values().any(is_nan)),
            lower: first(std::cmp::Ordering::Less).and_then(|value| bounds::bytes(kind, value)),
            upper: first(std::cmp::Ordering::Greater).and_then(|value| bounds::bytes(kind, value)),
        }
    };
    kinds.iter().enumerate().map(one).collect()
}

fn list_schema(version: u8) -> Json {
    let summary = json!({ "type": "record", "name": "r508", "fields": [
        field(509, "contains_null", json!("boolean")),
        optional_field(518, "contains_nan", json!("boolean")),
        optional_field(510, "lower_bound", json!("bytes")),
        optional_field(511, "upper_bound", json!("bytes")),
    ] });
    let mut fields = vec![
        field(500, "manifest_path", json!("string")),
        field(501, "manifest_length", json!("long")),
        field(502, "partition_spec_id", json!("int")),
    ];
    let counts = [
        (504, "files", "added"),
        (505, "files", "existing"),
        (506, "files", "deleted"),
        (512, "rows", "added"),
        (513, "rows", "existing"),
        (514, "rows", "deleted"),
    ];
    if version == 1 {
        fields.push(optional_field(503, "added_snapshot_id", json!("long")));
        for (id, what, how) in counts {
            let (name, kind) = if what == "files" {
                (format!("{how}_data_files_count"), "int")
            } else {
                (format!("{how}_rows_count"), "long")
            };
            fields.push(optional_field(id, &name, json!(kind)));
        }
    } else {
        fields.push(field(517, "content", json!("int")));
        fields.push(field(515, "sequence_number", json!("long")));
        fields.push(field(516, "min_sequence_number", json!("long")));
        fields.push(field(503, "added_snapshot_id", json!("long")));
        for (id, what, how) in counts {
            let kind = if what == "files" { "int" } else { "long" };
            fields.push(field(id, &format!("{how}_{what}_count"), json!(kind)));
        }
    }
    let items = json!({ "type": "array", "items": summary, "element-id": 508 });
    fields.push(optional_field(507, "partitions", items));
    json!({ "type": "record", "name": "manifest_file", "fields": fields })
}

/// The list of a snapshot's manifests. `header` says whose list it is.
pub fn list_of(version: u8, manifests: &[Manifest], header: &[(&str, String)]) -> Vec<u8> {
    let mut out = AvroFile::new(&list_schema(version), header);
    for manifest in manifests {
        let m = manifest;
        let counts = [m.files_added, m.files_kept, m.files_gone, m.rows_added, m.rows_kept, m.rows_gone];
        out.row(|out| {
            bytes(m.path.as_bytes(), out);
            long(m.length as i64, out);
            long(i64::from(m.spec), out);
            if version == 1 {
                optional(Some(m.added_by), out, long);
                counts.iter().for_each(|count| optional(count.map(|count| count as i64), out, long));
            } else {
                long(i64::from(m.of_deletes), out);
                long(m.sequence, out);
                long(m.least_sequence, out);
                long(m.added_by, out);
                // One of which nobody knows has a file: none are passed over.
                let unknown = [0, 1, 0, 0, 0, 0];
                counts.iter().zip(unknown).for_each(|(count, unknown)| long(count.unwrap_or(unknown) as i64, out));
            }
            optional(m.partitions.as_ref(), out, |all, out| array(all.iter(), out, put_summary));
        });
    }
    out.finish()
}

fn put_summary(summary: &Summary, out: &mut Vec<u8>) {
    out.push(u8::from(summary.has_null));
    optional(summary.has_nan, out, |own, out| out.push(u8::from(own)));
    optional(summary.lower.as_ref(), out, |own, out| bytes(own, out));
    optional(summary.upper.as_ref(), out, |own, out| bytes(own, out));
}
