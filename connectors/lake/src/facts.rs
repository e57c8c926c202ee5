//! How a table of a lake is put together: snapshots, their names, manifests, files, partitions, and row groups, as rows.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

use cobble_format::row_groups::{self, Judged};
use cobble_lake::left::DataFile;
use cobble_lake::manifest::Content;
use cobble_lake::manifest_list::{Manifest, Summary};
use cobble_lake::metadata::{Metadata, RefKind, Snapshot, Spec};
use cobble_lake::schema::Schema;
use cobble_lake::table::LakeTable;
use cobble_lake::transform::Transform;
use cobble_plan::facts::{FactRows, Facts, Filtered, number, text};
use cobble_plan::scan::{ScanMemory, ScanSpec, Unbounded};
use cobble_types::{Result, SqlType, Value};
use tokio_util::sync::CancellationToken;

use super::offer::groups_left;
use super::scan::{FORM, Portion, Work};
use super::{Lake, columns};

/// A moment of the metadata, which count milliseconds.
fn moment(at: i64) -> Value {
    Value::TimestampTz(at.saturating_mul(1000))
}

fn counted(snapshot: &Snapshot, what: &str) -> Value {
    number(snapshot.summary.get(what).and_then(|text| text.parse::<i64>().ok()))
}

fn memory() -> Arc<dyn ScanMemory> {
    Arc::new(Unbounded)
}

pub fn facts(lake: &Lake, table: &LakeTable, wanted: Facts, filtered: Option<&Filtered>) -> Result<FactRows> {
    let metadata = &table.metadata;
    match wanted {
        Facts::Snapshots => snapshots(metadata),
        Facts::History => history(metadata),
        Facts::Refs => refs(metadata),
        Facts::Manifests => manifests(table),
        Facts::Files => files(table),
        Facts::Partitions => partitions(table),
        Facts::Properties => properties(table),
        Facts::RowGroups => of_row_groups(lake, table, filtered),
    }
}

fn snapshots(metadata: &Metadata) -> Result<FactRows> {
    let long = |name| (name, SqlType::BigInt);
    let mut rows = FactRows::new(&[
        long("snapshot"),
        long("parent"),
        ("at", SqlType::TimestampTz),
        ("operation", SqlType::Text),
        ("is_current", SqlType::Boolean),
        long("files_added"),
        long("files_removed"),
        long("rows_added"),
        long("rows_removed"),
        long("files"),
        long("rows"),
        long("bytes"),
        ("schema_id", SqlType::Integer),
    ]);
    for own in &metadata.snapshots {
        rows.push([
            Value::BigInt(own.id),
            number(own.parent),
            moment(own.at),
            text(own.summary.get("operation")),
            Value::Boolean(metadata.current == Some(own.id)),
            counted(own, "added-data-files"),
            counted(own, "deleted-data-files"),
            counted(own, "added-records"),
            counted(own, "deleted-records"),
            counted(own, "total-data-files"),
            counted(own, "total-records"),
            counted(own, "total-files-size"),
            own.schema_id.map_or(Value::Null, Value::Integer),
        ])?;
    }
    Ok(rows)
}

fn history(metadata: &Metadata) -> Result<FactRows> {
    let mut rows = FactRows::new(&[
        ("at", SqlType::TimestampTz),
        ("snapshot", SqlType::BigInt),
        ("is_ancestor", SqlType::Boolean),
    ]);
    // From the current snapshot back; one that names itself ends it.
    let mut ancestors = Vec::new();
    let mut next = metadata.current();
    while let Some(own) = next
        && !ancestors.contains(&own.id)
    {
        ancestors.push(own.id);
        next = own.parent.and_then(|id| metadata.snapshot(id));
    }
    for own in &metadata.log {
        let is_ancestor = ancestors.contains(&own.snapshot);
        rows.push([moment(own.at), Value::BigInt(own.snapshot), Value::Boolean(is_ancestor)])?;
    }
    Ok(rows)
}

fn refs(metadata: &Metadata) -> Result<FactRows> {
    let mut rows = FactRows::new(&[("name", SqlType::Text), ("kind", SqlType::Text), ("snapshot", SqlType::BigInt)]);
    for (name, own) in &metadata.refs {
        let kind = match own.kind {
            RefKind::Branch => "branch",
            RefKind::Tag => "tag",
        };
        rows.push([text(Some(name)), text(Some(kind)), Value::BigInt(own.snapshot)])?;
    }
    Ok(rows)
}

/// The values of a partition for people: `departed_at_month=2025-07`.
fn partition_text(values: &[Value], spec: &Spec) -> String {
    let one = |(field, value): (&cobble_lake::metadata::PartitionField, &Value)| {
        format!("{}={}", field.name, field.transform.words(value))
    };
    spec.fields.iter().zip(values).map(one).collect::<Vec<_>>().join(", ")
}

fn summary_text(all: &[Summary], spec: &Spec, schema: &Schema) -> String {
    let one = |(field, own): (&cobble_lake::metadata::PartitionField, &Summary)| {
        let kind = schema.field(field.source).map(|source| field.transform.kind(&source.kind));
        let bound = |bytes: &Option<Vec<u8>>| {
            let value = cobble_lake::bounds::value(kind.as_ref()?, bytes.as_deref()?)?;
            Some(field.transform.words(&value))
        };
        let range = match (bound(&own.lower), bound(&own.upper)) {
            (Some(from), Some(to)) if from == to => from,
            (Some(from), Some(to)) => format!("{from} to {to}"),
            _ => "null".to_owned(),
        };
        format!("{} {range}{}", field.name, if own.has_null && own.lower.is_some() { " and null" } else { "" })
    };
    spec.fields.iter().zip(all).map(one).collect::<Vec<_>>().join(", ")
}

fn manifests(table: &LakeTable) -> Result<FactRows> {
    let long = |name| (name, SqlType::BigInt);
    let mut rows = FactRows::new(&[
        ("path", SqlType::Text),
        long("bytes"),
        ("content", SqlType::Text),
        long("sequence"),
        long("added_by"),
        long("files_added"),
        long("files_kept"),
        long("files_gone"),
        long("rows_added"),
        long("rows_kept"),
        long("rows_gone"),
        ("partitions", SqlType::Text),
    ]);
    let Some(snapshot) = table.head() else { return Ok(rows) };
    let schema = table.schema()?;
    for own in table.manifests(snapshot, &memory(), &CancellationToken::new())? {
        let spec = table.spec(own.spec)?;
        let partitions = own.partitions.as_ref().map(|all| summary_text(all, spec, schema));
        rows.push([
            text(Some(&own.path)),
            number(Some(own.length)),
            text(Some(if own.of_deletes { "deleted rows" } else { "rows" })),
            Value::BigInt(own.sequence),
            Value::BigInt(own.added_by),
            number(own.files_added),
            number(own.files_kept),
            number(own.files_gone),
            number(own.rows_added),
            number(own.rows_kept),
            number(own.rows_gone),
            text(partitions),
        ])?;
    }
    Ok(rows)
}

/// Goes through all files of the current snapshot.
fn each_file(
    table: &LakeTable,
    mut each: impl FnMut(&cobble_lake::manifest::Entry<'_>, &Manifest, String) -> Result<()>,
) -> Result<()> {
    let Some(snapshot) = table.head() else { return Ok(()) };
    let schema = table.schema()?;
    table.each_file(snapshot, &memory(), &CancellationToken::new(), |entry, manifest, spec| {
        let values = entry.partition_values(spec, schema)?;
        each(entry, manifest, partition_text(&values, spec)).map_err(|e| e.message)
    })
}

fn files(table: &LakeTable) -> Result<FactRows> {
    let long = |name| (name, SqlType::BigInt);
    let mut rows = FactRows::new(&[
        ("path", SqlType::Text),
        ("format", SqlType::Text),
        ("content", SqlType::Text),
        ("partition", SqlType::Text),
        long("rows"),
        long("bytes"),
        long("sequence"),
        long("added_by"),
        ("manifest", SqlType::Text),
    ]);
    each_file(table, |entry, manifest, partition| {
        let content = match entry.content {
            Content::Rows => "rows",
            Content::GonePositions => "places of deleted rows",
            Content::GoneValues => "values of deleted rows",
        };
        rows.push([
            text(Some(entry.path)),
            text(Some(entry.format.to_ascii_lowercase())),
            text(Some(content)),
            text(Some(partition)),
            number(Some(entry.rows)),
            number(Some(entry.bytes)),
            number(Some(entry.sequence.unwrap_or(manifest.sequence))),
            number(entry.snapshot.or(Some(manifest.added_by))),
            text(Some(&manifest.path)),
        ])
    })?;
    Ok(rows)
}

fn properties(table: &LakeTable) -> Result<FactRows> {
    let mut rows = FactRows::new(&[("kind", SqlType::Text), ("name", SqlType::Text), ("value", SqlType::Text)]);
    let metadata = &table.metadata;
    let schema = table.schema()?;
    let column = |id: i32| schema.field(id).map_or_else(|| format!("field {id}"), |field| field.name.clone());
    let spec = table.spec(metadata.spec_id)?;
    let partitioning = spec.fields.iter().map(|field| match field.transform {
        Transform::Identity => column(field.source),
        transform => format!("{transform} of {}", column(field.source)),
    });
    let order = metadata.order.iter().map(|key| {
        let words = [(key.descending, " desc"), (key.nulls_first, " nulls first")];
        let words: String = words.into_iter().filter(|(is, _)| *is).map(|(_, word)| word).collect();
        format!("{}{words}", schema.fields[key.place].name)
    });
    let listed = |all: Vec<String>| Some(all.join(", ")).filter(|text| !text.is_empty());
    let own = [
        ("format version", Some(metadata.version.to_string())),
        ("uuid", metadata.uuid.clone()),
        ("location", Some(metadata.location.clone())),
        ("metadata file", Some(table.file.name())),
        ("partitioned by", listed(partitioning.collect())),
        ("ordered by", listed(order.collect())),
        ("schemas", Some(metadata.schemas.len().to_string())),
        ("partitionings", Some(metadata.specs.len().to_string())),
    ];
    for (name, value) in own {
        rows.push([text(Some("table")), text(Some(name)), text(value)])?;
    }
    for (name, value) in &metadata.properties {
        rows.push([text(Some("property")), text(Some(name)), text(Some(value))])?;
    }
    Ok(rows)
}

fn partitions(table: &LakeTable) -> Result<FactRows> {
    let long = |name| (name, SqlType::BigInt);
    let mut rows = FactRows::new(&[
        ("partition", SqlType::Text),
        long("files"),
        long("rows"),
        long("bytes"),
        long("files_of_deleted_rows"),
    ]);
    let mut found: BTreeMap<String, [u64; 4]> = BTreeMap::new();
    each_file(table, |entry, _, partition| {
        let own = found.entry(partition).or_default();
        match entry.content {
            Content::Rows => {
                own[0] += 1;
                own[1] += entry.rows;
                own[2] += entry.bytes;
            }
            _ => own[3] += 1,
        }
        Ok(())
    })?;
    for (partition, counts) in found {
        rows.push([text(Some(partition))].into_iter().chain(counts.map(|count| number(Some(count)))))?;
    }
    Ok(rows)
}

/// Files, or row groups of files.
type PartsRead = HashSet<(PathBuf, Option<usize>)>;

/// What a scan reads: its work, and the files or row groups of files.
fn parts_read(table: &LakeTable, spec: &ScanSpec) -> Result<(Work, PartsRead)> {
    let work: Work = spec.unpack(FORM)?;
    let (mut read, mut later) = (HashSet::new(), Vec::new());
    for portion in spec.unpack_portions()? {
        match portion {
            Portion::File(own) => drop(read.insert((own.file.stored.path, own.within))),
            Portion::Manifest(manifest) => later.push(manifest),
        }
    }
    if !later.is_empty() {
        let (memory, cancel) = (memory(), CancellationToken::new());
        let looking = work.looking(table, &memory, &cancel)?;
        for manifest in &later {
            let mut each = |file: DataFile| {
                read.insert((file.stored.path, None));
                Ok(())
            };
            looking.each_file(manifest, &memory, &cancel, &mut each)?;
        }
    }
    Ok((work, read))
}

fn of_row_groups(lake: &Lake, table: &LakeTable, filtered: Option<&Filtered>) -> Result<FactRows> {
    let mut rows = row_groups::rows();
    let Some(snapshot) = table.head() else { return Ok(rows) };
    let schema = table.metadata.schema_id;
    let left = table.left(snapshot, schema, &Default::default(), &memory(), &CancellationToken::new())?;
    let (of_table, fields) = (columns(table, schema)?, table.fields(schema, &left.gone)?.into());
    let mapping = lake.mapping(table)?;
    let spec = filtered.and_then(|own| own.scan.as_ref());
    let (work, mut read) = match spec.map(|spec| parts_read(table, spec)).transpose()? {
        Some((work, read)) => (Some(work), read),
        None => (None, HashSet::new()),
    };
    for file in &left.files {
        let footer = lake.footer(&table.storage, &file.stored, &file.format, file.rows)?;
        let own = lake.fields(file, footer.as_ref(), &fields, mapping.as_deref())?;
        // Of files that planning does not look into, the scan chooses the row groups.
        if let Some(work) = work.as_ref().filter(|_| read.remove(&(file.stored.path.clone(), None))) {
            let groups = groups_left(footer.as_ref(), &own, work);
            read.extend(groups.into_iter().map(|group| (file.stored.path.clone(), Some(group))));
        }
        let named =
            of_table.iter().enumerate().filter_map(|(place, column)| Some((own.name(place)?.to_owned(), column)));
        // Columns that the file lacks have the value of its partition.
        let constant = |(id, value): &(i32, Value)| {
            let place = (0..of_table.len()).find(|place| {
                table
                    .metadata
                    .schema(schema)
                    .is_ok_and(|own| own.fields.get(*place).is_some_and(|field| field.id == *id))
            })?;
            Some((of_table[place].name.clone(), value.clone()))
        };
        let judged = filtered.map(|filtered| Judged {
            filtered,
            read: &read,
            constants: file.constants.iter().filter_map(constant).collect(),
        });
        row_groups::add(&mut rows, footer.as_ref(), &named.collect::<Vec<_>>(), judged.as_ref())?;
    }
    Ok(rows)
}
