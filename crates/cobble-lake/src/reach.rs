//! Which files the states of a table need, and which nobody needs.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use cobble_plan::scan::ScanMemory;
use cobble_types::Result;
use serde_json::{Value as Json, json};
use tokio_util::sync::CancellationToken;

use crate::commit::MAIN;
use crate::manifest;
use crate::manifest_list::Manifest;
use crate::metadata::{Metadata, RefKind, Snapshot, SnapshotFiles};
use crate::refs::ancestors;
use crate::schema::Told;
use crate::table::LakeTable;

/// Files, by their paths as the table has them.
#[derive(Debug, Default)]
pub struct Files {
    pub lists: HashSet<String>,
    pub manifests: HashSet<String>,
    pub files: HashSet<String>,
}

/// How long states are kept.
#[derive(Debug, Clone, Copy)]
pub struct Keeping {
    /// States that are younger stay, in milliseconds since 1970-01-01 UTC.
    pub older_than: i64,
    /// The last states of each branch that stay whatever their age.
    pub least: usize,
    pub now: i64,
}

/// The states that stay, and the names that go, by what the table and its names say of keeping.
pub fn kept(document: &Json, metadata: &Metadata, keeping: Keeping) -> (HashSet<i64>, Vec<String>) {
    let (mut stay, mut gone) = (HashSet::new(), Vec::new());
    for (name, own) in &metadata.refs {
        let said = |what: &str| document.pointer(&format!("/refs/{}/{what}", escaped(name))).and_then(Json::as_i64);
        let at = metadata.snapshot(own.snapshot).map_or(i64::MAX, |snapshot| snapshot.at);
        if name != MAIN && said("max-ref-age-ms").is_some_and(|age| at < keeping.now.saturating_sub(age)) {
            gone.push(name.clone());
            continue;
        }
        stay.insert(own.snapshot);
        if own.kind == RefKind::Tag {
            continue;
        }
        let least =
            said("min-snapshots-to-keep").and_then(|least| usize::try_from(least).ok()).unwrap_or(keeping.least);
        let older = said("max-snapshot-age-ms").map_or(keeping.older_than, |age| keeping.now.saturating_sub(age));
        for (place, id) in ancestors(metadata, own.snapshot).into_iter().enumerate() {
            if place < least || metadata.snapshot(id).is_some_and(|snapshot| snapshot.at >= older) {
                stay.insert(id);
            }
        }
    }
    // States without a name were rolled back, or were never shown: they stay until they are old.
    stay.extend(metadata.snapshots.iter().filter(|own| own.at >= keeping.older_than).map(|own| own.id));
    (stay, gone)
}

/// A name as a step of a JSON pointer (RFC 6901).
fn escaped(name: &str) -> String {
    name.replace('~', "~0").replace('/', "~1")
}

/// The metadata without the states that do not stay, and without these names.
pub fn without(mut json: Json, stay: &HashSet<i64>, names: &[String]) -> Told<Json> {
    let whole = json.as_object_mut().ok_or("it is no object")?;
    let stays = |own: &Json| own.get("snapshot-id").and_then(Json::as_i64).is_some_and(|id| stay.contains(&id));
    for list in ["snapshots", "statistics", "partition-statistics"] {
        if let Some(own) = whole.get_mut(list).and_then(Json::as_array_mut) {
            own.retain(stays);
        }
    }
    if let Some(log) = whole.get_mut("snapshot-log").and_then(Json::as_array_mut) {
        // A history with a gap would tell what was not: it begins anew behind the last gap.
        let begin = log.iter().rposition(|own| !stays(own)).map_or(0, |place| place + 1);
        log.drain(..begin);
    }
    if let Some(refs) = whole.get_mut("refs").and_then(Json::as_object_mut) {
        names.iter().for_each(|name| drop(refs.remove(name)));
    }
    if whole.get("snapshots").is_none() {
        whole.insert("snapshots".to_owned(), json!([]));
    }
    Ok(json)
}

impl LakeTable {
    /// The manifests that these states have, by their paths.
    fn manifests_of<'s>(
        &self,
        snapshots: impl Iterator<Item = &'s Snapshot>,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<(HashSet<String>, HashMap<String, Manifest>)> {
        let (mut lists, mut all) = (HashSet::new(), HashMap::new());
        for snapshot in snapshots {
            if let SnapshotFiles::List(list) = &snapshot.files {
                lists.insert(list.clone());
            }
            let own = self.manifests(snapshot, memory, cancel)?;
            all.extend(own.into_iter().map(|manifest| (manifest.path.clone(), manifest)));
        }
        Ok((lists, all))
    }

    fn files_in(
        &self,
        manifest: &Manifest,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
        mut each: impl FnMut(&str),
    ) -> Result<()> {
        let file = self.stored(&manifest.path, manifest.length)?;
        let visit = |entry: &manifest::Entry<'_>| {
            each(entry.path);
            Ok(())
        };
        self.told(&file, manifest::entries(self.reader(&file, cancel)?, memory, visit))
    }

    /// All files that the table's states have.
    pub fn reached(&self, memory: &Arc<dyn ScanMemory>, cancel: &CancellationToken) -> Result<Files> {
        let (lists, manifests) = self.manifests_of(self.metadata.snapshots.iter(), memory, cancel)?;
        let mut files = HashSet::new();
        for manifest in manifests.values() {
            self.files_in(manifest, memory, cancel, |path| {
                files.insert(path.to_owned());
            })?;
        }
        Ok(Files { lists, manifests: manifests.into_keys().collect(), files })
    }

    /// The files that only states have that are gone, and none that is kept.
    pub fn needed_by_none(
        &self,
        (kept, gone): (&[&Snapshot], &[&Snapshot]),
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Files> {
        let (kept_lists, kept) = self.manifests_of(kept.iter().copied(), memory, cancel)?;
        let (mut lists, mut manifests) = self.manifests_of(gone.iter().copied(), memory, cancel)?;
        lists.retain(|list| !kept_lists.contains(list));
        manifests.retain(|path, _| !kept.contains_key(path));
        let mut files = HashSet::new();
        for manifest in manifests.values() {
            self.files_in(manifest, memory, cancel, |path| {
                files.insert(path.to_owned());
            })?;
        }
        if !files.is_empty() {
            for manifest in kept.values() {
                self.files_in(manifest, memory, cancel, |path| {
                    files.remove(path);
                })?;
            }
        }
        Ok(Files { lists, manifests: manifests.into_keys().collect(), files })
    }

    /// The metadata files that the table's log names, and its own.
    pub fn metadata_files(&self) -> Result<HashSet<String>> {
        let document = self.document()?;
        let log = document.get("metadata-log").and_then(Json::as_array).into_iter().flatten();
        let named = log.filter_map(|own| own.get("metadata-file").and_then(Json::as_str).map(str::to_owned));
        let of_statistics = ["statistics", "partition-statistics"].iter().filter_map(|list| document.get(list));
        let statistics = of_statistics.filter_map(Json::as_array).flatten();
        let statistics = statistics.filter_map(|own| own.get("statistics-path").and_then(Json::as_str));
        Ok(named.chain(statistics.map(str::to_owned)).chain([self.metadata_location()]).collect())
    }
}
