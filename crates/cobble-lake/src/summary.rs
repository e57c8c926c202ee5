//! What is told of a snapshot: what made it, and how much it has added, taken away and has (table specification, "Snapshots").

use std::collections::BTreeMap;

use crate::metadata::Snapshot;

/// How much of everything.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Counts {
    pub rows: u64,
    pub files: u64,
    pub bytes: u64,
    /// Files that tell which rows are gone, and these rows by their places and by their values.
    pub delete_files: u64,
    pub places: u64,
    pub values: u64,
}

type Count = fn(&Counts) -> u64;

/// Each count with its names where it is added, taken away and in all.
const NAMES: [(&str, &str, &str, Count); 6] = [
    ("added-records", "deleted-records", "total-records", |own| own.rows),
    ("added-data-files", "deleted-data-files", "total-data-files", |own| own.files),
    ("added-files-size", "removed-files-size", "total-files-size", |own| own.bytes),
    ("added-delete-files", "removed-delete-files", "total-delete-files", |own| own.delete_files),
    ("added-position-deletes", "removed-position-deletes", "total-position-deletes", |own| own.places),
    ("added-equality-deletes", "removed-equality-deletes", "total-equality-deletes", |own| own.values),
];

/// Of a snapshot upon its parent.
pub(crate) fn summary(
    parent: Option<&Snapshot>,
    operation: &str,
    (more, less): (&Counts, &Counts),
) -> BTreeMap<String, String> {
    let mut all = BTreeMap::from([("operation".to_owned(), operation.to_owned())]);
    for (added, removed, total, of) in NAMES {
        for (name, count) in [(added, of(more)), (removed, of(less))] {
            if count > 0 {
                all.insert(name.to_owned(), count.to_string());
            }
        }
        let before = match parent {
            None => Some(0),
            Some(parent) => parent.summary.get(total).and_then(|text| text.parse::<u64>().ok()),
        };
        // Where a parent does not tell it, nobody knows.
        all.extend(before.map(|before| (total.to_owned(), (before + of(more)).saturating_sub(of(less)).to_string())));
    }
    all
}

/// Of a snapshot without files.
pub(crate) fn of_none(parent: Option<&Snapshot>) -> BTreeMap<String, String> {
    let mut all = BTreeMap::from([("operation".to_owned(), "delete".to_owned())]);
    for (_, removed, total, _) in NAMES {
        if let Some(before) = parent.and_then(|parent| parent.summary.get(total)).filter(|before| *before != "0") {
            all.insert(removed.to_owned(), before.clone());
        }
        all.insert(total.to_owned(), "0".to_owned());
    }
    all
}
