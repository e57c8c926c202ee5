//! The metadata file of a table (table specification, "Table Metadata", versions 1 and 2): its schemas, partitionings, snapshots and the names of
//! snapshots. Fields that are not known are passed over; a table that needs more than version 2 is refused.

use std::collections::BTreeMap;
use std::io::Read;

use serde::Deserialize;
use serde_json::{Value as Json, json};

use crate::order::{OrderKey, keys};
use crate::schema::{Schema, Told};
use crate::transform::Transform;

#[derive(Debug, Clone)]
pub struct Metadata {
    pub version: u8,
    pub uuid: Option<String>,
    /// Where the table's files are, as other tools write it.
    pub location: String,
    /// Milliseconds since 1970-01-01 UTC.
    pub updated: i64,
    pub schemas: Vec<Schema>,
    pub schema_id: i32,
    pub specs: Vec<Spec>,
    pub spec_id: i32,
    /// By what the rows of files are ordered, where that are columns, and the order's id.
    pub order: Vec<OrderKey>,
    pub order_id: i32,
    pub properties: BTreeMap<String, String>,
    /// In the order of the file.
    pub snapshots: Vec<Snapshot>,
    pub current: Option<i64>,
    /// Branches and tags.
    pub refs: BTreeMap<String, Ref>,
    /// When which snapshot became the current one.
    pub log: Vec<Logged>,
}

/// How rows are partitioned (table specification, "Partitioning").
#[derive(Debug, Clone, PartialEq)]
pub struct Spec {
    pub id: i32,
    pub fields: Vec<PartitionField>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct PartitionField {
    /// The id of the column that it is made of.
    pub source: i32,
    pub id: i32,
    pub name: String,
    pub transform: Transform,
}

/// The state of a table at some moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapshot {
    pub id: i64,
    pub parent: Option<i64>,
    pub sequence: i64,
    /// Milliseconds since 1970-01-01 UTC.
    pub at: i64,
    pub files: SnapshotFiles,
    /// What made it: `append`, `replace`, `overwrite` or `delete`, with counts.
    pub summary: BTreeMap<String, String>,
    pub schema_id: Option<i32>,
}

/// Where a snapshot's manifests are named.
#[derive(Debug, Clone, PartialEq)]
pub enum SnapshotFiles {
    List(String),
    /// In the metadata itself, as tables of version 1 may have it.
    Manifests(Vec<String>),
}

/// A name of a snapshot.
#[derive(Debug, Clone, PartialEq, Deserialize)]
pub struct Ref {
    #[serde(rename = "snapshot-id")]
    pub snapshot: i64,
    #[serde(rename = "type")]
    pub kind: RefKind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RefKind {
    Branch,
    Tag,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
pub struct Logged {
    #[serde(rename = "snapshot-id")]
    pub snapshot: i64,
    #[serde(rename = "timestamp-ms")]
    pub at: i64,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Written {
    format_version: u32,
    table_uuid: Option<String>,
    location: String,
    #[serde(default)]
    last_updated_ms: i64,
    schema: Option<Json>,
    #[serde(default)]
    schemas: Vec<Json>,
    current_schema_id: Option<i32>,
    partition_spec: Option<Vec<WrittenField>>,
    #[serde(default)]
    partition_specs: Vec<WrittenSpec>,
    default_spec_id: Option<i32>,
    #[serde(default)]
    sort_orders: Vec<Json>,
    default_sort_order_id: Option<i32>,
    #[serde(default)]
    properties: BTreeMap<String, String>,
    current_snapshot_id: Option<i64>,
    #[serde(default)]
    snapshots: Option<Vec<WrittenSnapshot>>,
    #[serde(default)]
    refs: BTreeMap<String, Ref>,
    #[serde(default)]
    snapshot_log: Option<Vec<Logged>>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct WrittenSpec {
    spec_id: i32,
    fields: Vec<WrittenField>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct WrittenField {
    source_id: Option<i32>,
    #[serde(default)]
    source_ids: Vec<i32>,
    field_id: Option<i32>,
    name: String,
    transform: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct WrittenSnapshot {
    snapshot_id: i64,
    parent_snapshot_id: Option<i64>,
    #[serde(default)]
    sequence_number: i64,
    timestamp_ms: i64,
    manifest_list: Option<String>,
    manifests: Option<Vec<String>>,
    #[serde(default)]
    summary: BTreeMap<String, String>,
    schema_id: Option<i32>,
}

/// Bytes of a metadata file, packed or not.
pub const MOST_BYTES: u64 = 256 << 20;

/// The id of the first partition field of a table of version 1, whose fields have none of their own.
pub const FIRST_PARTITION_ID: i32 = 1000;

/// The file's text: some writers pack it, whatever its name says.
fn unpacked(bytes: &[u8]) -> Told<std::borrow::Cow<'_, [u8]>> {
    if !bytes.starts_with(&[0x1f, 0x8b]) {
        return Ok(bytes.into());
    }
    let mut text = Vec::new();
    let mut input = flate2::read::MultiGzDecoder::new(bytes).take(MOST_BYTES + 1);
    input.read_to_end(&mut text).map_err(|e| format!("it cannot be unpacked: {e}"))?;
    match text.len() as u64 > MOST_BYTES {
        true => Err(format!("it unpacks to more than {} MiB", MOST_BYTES >> 20)),
        false => Ok(text.into()),
    }
}

impl Metadata {
    /// The file's text as JSON.
    pub fn document(bytes: &[u8]) -> Told<Json> {
        serde_json::from_slice(&unpacked(bytes)?).map_err(|e| format!("it is no JSON: {e}"))
    }

    pub fn read(bytes: &[u8]) -> Told<Metadata> {
        Metadata::of_document(Metadata::document(bytes)?)
    }

    pub fn of_document(version: Json) -> Told<Metadata> {
        match version.get("format-version").and_then(Json::as_u64) {
            Some(1 | 2) => {}
            Some(other) => {
                return Err(format!("it is written in version {other} of the table specification; 1 and 2 are read"));
            }
            None => return Err("it does not say its format-version".into()),
        }
        let written: Written = serde_json::from_value(version).map_err(|e| e.to_string())?;
        written.read()
    }

    pub fn schema(&self, id: i32) -> Told<&Schema> {
        self.schemas.iter().find(|schema| schema.id == id).ok_or_else(|| format!("it has no schema {id}"))
    }

    pub fn spec(&self, id: i32) -> Told<&Spec> {
        self.specs.iter().find(|spec| spec.id == id).ok_or_else(|| format!("it has no partition-spec {id}"))
    }

    pub fn snapshot(&self, id: i64) -> Option<&Snapshot> {
        self.snapshots.iter().find(|snapshot| snapshot.id == id)
    }

    /// The snapshot that is read unless another is asked for; none of a table that has never had rows.
    pub fn current(&self) -> Option<&Snapshot> {
        self.current.and_then(|id| self.snapshot(id))
    }

    /// The snapshot that was the current one at a moment, in milliseconds since 1970-01-01 UTC.
    pub fn as_of(&self, at: i64) -> Option<&Snapshot> {
        let logged = self.log.iter().filter(|logged| logged.at <= at).max_by_key(|logged| logged.at);
        self.snapshot(logged?.snapshot)
    }

    /// The snapshot that a branch or tag names.
    pub fn named(&self, name: &str) -> Option<&Snapshot> {
        self.snapshot(self.refs.get(name)?.snapshot)
    }
}

impl Written {
    fn read(self) -> Told<Metadata> {
        let mut schemas: Vec<Schema> = self.schemas.iter().map(Schema::from_json).collect::<Told<_>>()?;
        if let (true, Some(only)) = (schemas.is_empty(), &self.schema) {
            schemas.push(Schema::from_json(only)?);
        }
        let schema_id = match (self.current_schema_id, schemas.last()) {
            (Some(id), _) => id,
            (None, Some(last)) => last.id,
            (None, None) => return Err("it has no schema".into()),
        };
        let mut specs: Vec<Spec> = self.partition_specs.into_iter().map(WrittenSpec::read).collect::<Told<_>>()?;
        if let (true, Some(fields)) = (specs.is_empty(), self.partition_spec) {
            specs.push(WrittenSpec { spec_id: 0, fields }.read()?);
        }
        if specs.is_empty() {
            specs.push(Spec { id: 0, fields: vec![] });
        }
        let spec_id = self.default_spec_id.unwrap_or_else(|| specs.iter().map(|spec| spec.id).max().unwrap_or(0));
        let snapshots: Vec<Snapshot> =
            self.snapshots.unwrap_or_default().into_iter().map(WrittenSnapshot::read).collect::<Told<_>>()?;
        // Some writers say "none" so.
        let current = self.current_snapshot_id.filter(|id| *id != -1);
        let mut refs = self.refs;
        if let Some(id) = current {
            refs.entry("main".to_owned()).or_insert(Ref { snapshot: id, kind: RefKind::Branch });
        }
        let order_id = self.default_sort_order_id.unwrap_or(0);
        let is_own = |own: &&Json| own.get("order-id").and_then(Json::as_i64) == Some(i64::from(order_id));
        let fields = self.sort_orders.iter().find(is_own).and_then(|own| own.get("fields"));
        let schema = schemas.iter().find(|schema| schema.id == schema_id);
        let order = fields.zip(schema).map(|(fields, schema)| keys(fields, schema)).unwrap_or_default();
        let metadata = Metadata {
            order,
            order_id,
            version: self.format_version as u8,
            uuid: self.table_uuid,
            location: self.location.trim_end_matches('/').to_owned(),
            updated: self.last_updated_ms,
            schemas,
            schema_id,
            specs,
            spec_id,
            properties: self.properties,
            snapshots,
            current,
            refs,
            log: self.snapshot_log.unwrap_or_default(),
        };
        metadata.schema(metadata.schema_id)?;
        metadata.spec(metadata.spec_id)?;
        match current.filter(|id| metadata.snapshot(*id).is_none()) {
            Some(id) => Err(format!("its current snapshot {id} is not among its snapshots")),
            None => Ok(metadata),
        }
    }
}

impl Spec {
    /// Its fields as the metadata have them.
    pub fn fields_json(&self) -> Json {
        let field = |field: &PartitionField| json!({ "source-id": field.source, "field-id": field.id, "name": field.name, "transform": field.transform.to_string() });
        self.fields.iter().map(field).collect()
    }

    /// Whether files may be of different partitions.
    pub fn is_partitioned(&self) -> bool {
        self.fields.iter().any(|field| field.transform != Transform::Void)
    }
}

impl WrittenSpec {
    fn read(self) -> Told<Spec> {
        let one = |(place, field): (usize, WrittenField)| {
            let source = match (field.source_id, field.source_ids.as_slice()) {
                (Some(id), _) => id,
                (None, [id]) => *id,
                (None, []) => return Err(format!("the partition field {} has no source", field.name)),
                (None, _) => {
                    return Err(format!(
                        "the partition field {} is made of several columns, as in a later version of the table specification",
                        field.name
                    ));
                }
            };
            let id = field.field_id.unwrap_or(FIRST_PARTITION_ID + place as i32);
            Ok(PartitionField { source, id, transform: Transform::from_text(&field.transform)?, name: field.name })
        };
        Ok(Spec { id: self.spec_id, fields: self.fields.into_iter().enumerate().map(one).collect::<Told<_>>()? })
    }
}

impl WrittenSnapshot {
    fn read(self) -> Told<Snapshot> {
        let files = match (self.manifest_list, self.manifests) {
            (Some(list), _) => SnapshotFiles::List(list),
            (None, Some(all)) => SnapshotFiles::Manifests(all),
            (None, None) => return Err(format!("snapshot {} names no manifests", self.snapshot_id)),
        };
        Ok(Snapshot {
            id: self.snapshot_id,
            parent: self.parent_snapshot_id,
            sequence: self.sequence_number,
            at: self.timestamp_ms,
            files,
            summary: self.summary,
            schema_id: self.schema_id,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written() -> Json {
        json!({
            "format-version": 2, "table-uuid": "9c12d441-03fe-4693-9a96-a0705ddf69c1", "location": "s3://deep/ops/sailings/",
            "last-sequence-number": 2, "last-updated-ms": 1_750_000_000_000_i64, "last-column-id": 2, "current-schema-id": 1,
            "schemas": [
                { "type": "struct", "schema-id": 0, "fields": [{ "id": 1, "name": "id", "required": true, "type": "int" }] },
                { "type": "struct", "schema-id": 1, "fields": [{ "id": 1, "name": "id", "required": true, "type": "long" },
                    { "id": 2, "name": "departed_at", "required": false, "type": "timestamp" }] },
            ],
            "default-spec-id": 1, "last-partition-id": 1000,
            "partition-specs": [{ "spec-id": 0, "fields": [] },
                { "spec-id": 1, "fields": [{ "source-id": 2, "field-id": 1000, "name": "departed_month", "transform": "month" }] }],
            "properties": { "owner": "quay" }, "current-snapshot-id": 12, "sort-orders": [{ "order-id": 0, "fields": [] }],
            "snapshots": [
                { "snapshot-id": 11, "sequence-number": 1, "timestamp-ms": 1000, "manifest-list": "s3://deep/ops/sailings/metadata/a.avro",
                    "summary": { "operation": "append" }, "schema-id": 0 },
                { "snapshot-id": 12, "parent-snapshot-id": 11, "sequence-number": 2, "timestamp-ms": 2000,
                    "manifest-list": "s3://deep/ops/sailings/metadata/b.avro", "summary": { "operation": "append" }, "schema-id": 1 },
            ],
            "snapshot-log": [{ "snapshot-id": 11, "timestamp-ms": 1000 }, { "snapshot-id": 12, "timestamp-ms": 2000 }],
            "refs": { "spring": { "snapshot-id": 11, "type": "tag", "max-ref-age-ms": 5 } }, "something-new": [1, 2],
        })
    }

    fn read(json: &Json) -> Told<Metadata> {
        Metadata::read(json.to_string().as_bytes())
    }

    #[test]
    fn snapshots_are_found_by_id_time_and_name() {
        let metadata = read(&written()).unwrap();
        assert_eq!(metadata.location, "s3://deep/ops/sailings");
        assert_eq!(metadata.current().unwrap().id, 12);
        assert_eq!(metadata.named("spring").unwrap().id, 11);
        assert_eq!(metadata.named("main").unwrap().id, 12);
        let as_of = |at: i64| metadata.as_of(at).map(|snapshot| snapshot.id);
        assert_eq!([as_of(999), as_of(1000), as_of(1999), as_of(i64::MAX)], [None, Some(11), Some(11), Some(12)]);
        assert_eq!(metadata.schema(metadata.schema_id).unwrap().fields.len(), 2);
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut packed, written().to_string().as_bytes()).unwrap();
        assert_eq!(Metadata::read(&packed.finish().unwrap()).unwrap().current().unwrap().id, 12);
    }

    #[test]
    fn tables_of_version_1_have_one_schema_and_may_name_manifests() {
        let metadata = read(&json!({
            "format-version": 1, "location": "/data/buoys", "last-updated-ms": 5, "last-column-id": 1, "current-snapshot-id": -1,
            "schema": { "type": "struct", "fields": [{ "id": 1, "name": "id", "required": true, "type": "int" }] },
            "partition-spec": [{ "source-id": 1, "name": "id_bucket", "transform": "bucket[4]" }],
            "snapshots": [{ "snapshot-id": 7, "timestamp-ms": 1, "manifests": ["/data/buoys/metadata/m.avro"] }],
        }))
        .unwrap();
        assert_eq!(metadata.current(), None, "-1 is none");
        assert_eq!(metadata.specs[0].fields[0].id, 1000);
        assert_eq!(metadata.snapshots[0].files, SnapshotFiles::Manifests(vec!["/data/buoys/metadata/m.avro".into()]));
    }

    #[test]
    fn what_is_wrong_is_told() {
        for (place, value, told) in [
            ("/format-version", json!(3), "version 3 of the table specification"),
            ("/format-version", json!("two"), "does not say its format-version"),
            ("/current-snapshot-id", json!(99), "current snapshot 99 is not among"),
            ("/current-schema-id", json!(9), "no schema 9"),
            ("/default-spec-id", json!(9), "no partition-spec 9"),
            ("/partition-specs/1/fields/0/transform", json!("week"), "no transform week"),
            ("/schemas/1/fields/0/type", json!("variant"), "a later version"),
            ("/snapshots/0/manifest-list", json!(null), "names no manifests"),
            ("/location", json!(7), "invalid type"),
        ] {
            let mut json = written();
            *json.pointer_mut(place).unwrap() = value;
            let error = read(&json).unwrap_err();
            assert!(error.contains(told), "{place}: {error}");
        }
        assert!(Metadata::read(b"{").unwrap_err().contains("no JSON"));
        assert!(Metadata::read(&[0x1f, 0x8b, 1, 2, 3]).unwrap_err().contains("unpacked"));
    }
}
