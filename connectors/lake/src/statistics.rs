//! What is known of a table's rows before any is read: the summary of its snapshot, and what its manifests say of columns.

use std::sync::{Arc, PoisonError};

use cobble_lake::column_ranges::KnownRows;
use cobble_lake::metadata::Snapshot;
use cobble_lake::table::LakeTable;
use cobble_plan::scan::{ScanMemory, Unbounded};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use tokio_util::sync::CancellationToken;

use super::Lake;

impl Lake {
    /// The statistics of a snapshot, seen in this schema; none of columns whose manifests cannot be read: a plan that needs these says why.
    pub fn statistics(&self, table: &LakeTable, snapshot: Option<&Snapshot>, schema: i32) -> TableStatistics {
        let Ok(own) = table.metadata.schema(schema) else { return TableStatistics::default() };
        let unknown = || vec![ColumnStatistics::default(); own.fields.len()];
        let Some(snapshot) = snapshot else {
            let (nothing, origin) = (Some(0.0), Some("there is no snapshot".to_owned()));
            return TableStatistics { rows: nothing, bytes: nothing, columns: unknown(), origin, sample: None };
        };
        let summary = |what: &str| snapshot.summary.get(what)?.parse::<f64>().ok();
        let known = self.known_rows(table, snapshot, schema);
        // What values tell to be gone may be more or fewer rows than the values.
        let gone = summary("total-position-deletes").unwrap_or(0.0);
        let counted = known.as_ref().and_then(|known| known.rows);
        let rows = summary("total-records").or(counted).map(|rows| (rows - gone).max(0.0));
        let from_bounds = known.as_ref().is_some_and(|known| known.columns.iter().any(|range| range.min.is_some()));
        let origin = match (rows.is_some(), from_bounds) {
            (true, true) => Some("the summary of the snapshot and the bounds in its manifests".to_owned()),
            (true, false) => Some("the summary of the snapshot".to_owned()),
            (false, _) => None,
        };
        let columns = match known {
            Some(known) => {
                let all = known.columns.iter().zip(&own.fields);
                all.map(|(range, field)| {
                    let (sql_type, most) = (field.kind.sql_type(), rows.unwrap_or(f64::INFINITY));
                    let bounds = Some((range.min.clone(), range.max.clone())).filter(|_| sql_type.is_ordered());
                    let (min, max) = bounds.unwrap_or_default();
                    let known = ColumnStatistics::between(min, max, &sql_type, most);
                    ColumnStatistics { null_fraction: range.nulls, ..known }
                })
                .collect()
            }
            None => unknown(),
        };
        TableStatistics { rows, bytes: summary("total-files-size"), columns, origin, sample: None }
    }

    /// What manifests say; it is remembered of the state that was asked for last.
    fn known_rows(&self, table: &LakeTable, snapshot: &Snapshot, schema: i32) -> Option<Arc<KnownRows>> {
        let path = &table.file.path;
        let version = format!("{} {} {schema}", table.file.version, snapshot.id);
        let remembered = || self.known_rows.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = remembered().get(path, &version) {
            return Some(known);
        }
        let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
        let own = table.metadata.schema(schema).ok()?;
        let known = Arc::new(table.known_rows(snapshot, own, &memory, &CancellationToken::new()).ok()?);
        remembered().keep(path, version, known.clone(), known.columns.len() * 128);
        Some(known)
    }
}
