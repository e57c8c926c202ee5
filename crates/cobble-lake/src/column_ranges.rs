//! What the manifests of a snapshot say of its columns, for who plans with them: least and greatest values, and the share of nulls.

use std::sync::Arc;

use cobble_format::prune::Hull;
use cobble_plan::scan::ScanMemory;
use cobble_types::{Result, Value};
use tokio_util::sync::CancellationToken;

use crate::manifest::{Content, Entry};
use crate::manifest_list::Manifest;
use crate::metadata::Snapshot;
use crate::prune::of_summary;
use crate::schema::{Field, Schema, Told};
use crate::table::LakeTable;

/// Bytes of manifests up to which the bounds of each file are looked at: they are read for a plan anyway. Of more, only what their list says of
/// partitions is.
const READ_AT_MOST: u64 = 512 << 10;

/// What is known of the rows of a snapshot.
#[derive(Debug, Clone, PartialEq)]
pub struct KnownRows {
    /// Rows of its files; none where these were not looked at. Some of them may be gone.
    pub rows: Option<f64>,
    /// One for each field of the schema.
    pub columns: Vec<ColumnRange>,
}

#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnRange {
    pub min: Option<Value>,
    pub max: Option<Value>,
    /// The share of nulls, 0 to 1.
    pub nulls: Option<f64>,
}

/// A column while files are looked at.
#[derive(Default)]
struct Gathering {
    hull: Hull,
    values: Option<u64>,
    nulls: Option<u64>,
}

impl Gathering {
    fn new() -> Gathering {
        Gathering { hull: Hull::default(), values: Some(0), nulls: Some(0) }
    }

    fn take(&mut self, entry: &Entry<'_>, field: &Field) -> Told<()> {
        let known = entry.bounds(field.id, &field.kind)?;
        let add = |sum: Option<u64>, more: Option<u64>| sum?.checked_add(more?);
        (self.values, self.nulls) = (add(self.values, known.values), add(self.nulls, known.nulls));
        let has_values = entry.rows > 0 && (known.values.is_none() || known.values != known.nulls);
        if has_values {
            self.hull.take(known.min.as_ref(), known.max.as_ref());
        }
        Ok(())
    }

    fn range(self) -> ColumnRange {
        let (min, max) = self.hull.bounds();
        let share = |nulls: u64, values: u64| (values > 0 && nulls <= values).then(|| nulls as f64 / values as f64);
        let nulls = self.nulls.zip(self.values).and_then(|(nulls, values)| share(nulls, values));
        ColumnRange { min, max, nulls }
    }
}

impl LakeTable {
    /// What the manifests of a snapshot say of the columns of a schema.
    ///
    /// # Errors
    /// Of the storage, or of a manifest that is not as it should be.
    pub fn known_rows(
        &self,
        snapshot: &Snapshot,
        schema: &Schema,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<KnownRows> {
        let mut manifests = self.manifests(snapshot, memory, cancel)?;
        manifests.retain(|manifest| !manifest.of_deletes && manifest.files() != Some(0));
        let bytes = manifests.iter().map(|manifest| manifest.length).fold(0, u64::saturating_add);
        match bytes <= READ_AT_MOST {
            true => self.known_by_files(&manifests, schema, (memory, cancel)),
            false => self.known_by_partitions(&manifests, schema),
        }
    }

    fn known_by_files(
        &self,
        manifests: &[Manifest],
        schema: &Schema,
        tools: (&Arc<dyn ScanMemory>, &CancellationToken),
    ) -> Result<KnownRows> {
        let mut rows = 0.0;
        let mut columns: Vec<Gathering> = schema.fields.iter().map(|_| Gathering::new()).collect();
        let mut each = |entry: &Entry<'_>| {
            if entry.content == Content::Rows {
                rows += entry.rows as f64;
                let mut all = columns.iter_mut().zip(&schema.fields);
                all.try_for_each(|(column, field)| column.take(entry, field))?;
            }
            Ok(())
        };
        self.each_entry(manifests, schema, tools, &mut each)?;
        Ok(KnownRows { rows: Some(rows), columns: columns.into_iter().map(Gathering::range).collect() })
    }

    /// The same by nothing but what the list of manifests says of their partitions.
    ///
    /// # Errors
    /// When a manifest is of a partitioning that the table does not have.
    pub fn known_by_partitions(&self, manifests: &[Manifest], schema: &Schema) -> Result<KnownRows> {
        let range = |field: &Field| -> Result<ColumnRange> {
            let mut hull = Hull::default();
            for manifest in manifests {
                let spec = self.spec(manifest.spec)?;
                let own = spec.fields.iter().zip(manifest.partitions.iter().flatten());
                // Of several fields that are made of one column, any holds.
                let known = own.filter(|(partition, _)| partition.source == field.id).map(|(partition, summary)| {
                    let range = of_summary(summary, &partition.transform.kind(&field.kind));
                    partition.transform.source_range(&field.kind, &range)
                });
                let best = known.max_by_key(|range| (range.min.is_some(), range.max.is_some())).unwrap_or_default();
                if !best.all_null {
                    hull.take(best.min.as_ref(), best.max.as_ref());
                }
            }
            let (min, max) = hull.bounds();
            Ok(ColumnRange { min, max, nulls: None })
        };
        Ok(KnownRows { rows: None, columns: schema.fields.iter().map(range).collect::<Result<_>>()? })
    }
}
