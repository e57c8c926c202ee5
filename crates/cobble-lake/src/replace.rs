//! Changing rows of a table: files of rows end, others come, and files are added that tell which rows of others are gone. Before a snapshot is
//! shown it is checked that what others have done since the rows were found leaves the change right (table specification, "Optimistic
//! Concurrency").

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use cobble_plan::scan::ScanMemory;
use cobble_storage::{Condition, file_error};
use cobble_types::{Code, Error, Result, Value};
use rand::Rng;
use tokio_util::sync::CancellationToken;

use crate::commit::Upon;
use crate::create::new_uuid;
use crate::deletes::{Gathered, PATH_ID};
use crate::manifest::{self, Content, Entry, Standing, Status};
use crate::manifest_list::Manifest;
use crate::manifest_out::{NewFile, Written, manifest};
use crate::metadata::Snapshot;
use crate::prune::{Pruner, Question};
use crate::schema::Kind;
use crate::summary::{Counts, summary};
use crate::table::LakeTable;

/// A file of rows that a table has, as its manifests tell.
#[derive(Debug, Clone)]
pub struct KnownFile {
    pub spec: i32,
    pub partition: Vec<Value>,
    pub rows: u64,
    pub bytes: u64,
}

/// Rows that take the places of others.
#[derive(Debug)]
pub struct Replacement<'a> {
    /// The snapshot that the rows were found in.
    pub base: Option<i64>,
    /// New files of rows, in the table's partitioning.
    pub added: &'a [NewFile],
    /// Files that the table has no more, by their paths.
    pub ended: &'a HashMap<String, KnownFile>,
    /// Files that tell which rows are gone, by their partitionings.
    pub told: &'a BTreeMap<i32, Vec<NewFile>>,
    /// The files that these speak of.
    pub touched: &'a HashSet<String>,
    /// Which files that others have added in the meantime would have had rows to look at; none where that does not matter.
    pub seen: Option<&'a Question>,
    /// Whether it matters that others have deleted rows of the same files.
    pub rows_must_be_there: bool,
    /// Files that tell of rows that are gone, and that speak of no file any more, by their paths.
    pub dangling: &'a HashSet<String>,
    /// True where the table has the same rows afterwards.
    pub keeps_rows: bool,
}

impl Replacement<'_> {
    fn operation(&self) -> &'static str {
        if self.keeps_rows {
            return "replace";
        }
        match (self.added.is_empty(), self.ended.is_empty() && self.told.is_empty()) {
            (false, true) => "append",
            (false, false) => "overwrite",
            (true, _) => "delete",
        }
    }
}

/// What is told of a snapshot that ends so much of its parent's.
fn summary_of(parent: Option<&Snapshot>, change: &Replacement<'_>, ended: &Counts) -> BTreeMap<String, String> {
    let told: Vec<&NewFile> = change.told.values().flatten().collect();
    let bytes = change.added.iter().chain(told.iter().copied()).map(|file| file.bytes).sum();
    let more = Counts {
        rows: change.added.iter().map(|file| file.rows).sum(),
        files: change.added.len() as u64,
        bytes,
        delete_files: told.len() as u64,
        places: told.iter().map(|file| file.rows).sum(),
        values: 0,
    };
    let partitions: BTreeSet<String> = (change.added.iter().chain(told.iter().copied()))
        .map(|file| format!("{:?}", file.partition))
        .chain(change.ended.values().map(|file| format!("{:?}", file.partition)))
        .collect();
    let mut all = summary(parent, change.operation(), (&more, ended));
    all.insert("changed-partition-count".to_owned(), partitions.len().to_string());
    if !told.is_empty() {
        all.insert("added-position-delete-files".to_owned(), told.len().to_string());
    }
    all
}

/// The path that a file of places speaks of, where that is a single one.
fn only_path(entry: &Entry<'_>) -> std::result::Result<Option<String>, String> {
    if entry.content != Content::GonePositions {
        return Ok(None);
    }
    let known = entry.bounds(PATH_ID, &Kind::String)?;
    Ok(match (known.min, known.max) {
        (Some(Value::Text(least)), Some(Value::Text(greatest))) if least == greatest => Some(least),
        _ => None,
    })
}

impl LakeTable {
    /// What a snapshot's manifests tell of these files of rows. Those that it does not have are left out.
    pub fn known_files(
        &self,
        snapshot: &Snapshot,
        wanted: &HashSet<String>,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<HashMap<String, KnownFile>> {
        let mut known = HashMap::new();
        let schema = self.schema()?;
        for manifest in self.manifests(snapshot, memory, cancel)? {
            if manifest.of_deletes || manifest.files() == Some(0) || known.len() == wanted.len() {
                continue;
            }
            let (file, spec) = (self.stored(&manifest.path, manifest.length)?, self.spec(manifest.spec)?);
            let visit = |entry: &Entry<'_>| {
                if wanted.contains(entry.path) {
                    let partition = entry.partition_values(spec, schema)?;
                    let own = KnownFile { spec: spec.id, partition, rows: entry.rows, bytes: entry.bytes };
                    known.insert(entry.path.to_owned(), own);
                }
                Ok(())
            };
            self.told(&file, manifest::entries(self.reader(&file, cancel)?, memory, visit))?;
        }
        Ok(known)
    }

    /// The snapshots that lead from an earlier one to the table's last one.
    fn since(&self, base: Option<i64>) -> Result<HashSet<i64>> {
        let mut since = HashSet::new();
        let mut at = self.head();
        while let Some(snapshot) = at {
            if Some(snapshot.id) == base {
                return Ok(since);
            }
            since.insert(snapshot.id);
            at = match snapshot.parent {
                Some(parent) => match self.metadata.snapshot(parent) {
                    Some(parent) if !since.contains(&parent.id) => Some(parent),
                    _ => return Err(self.conflict("the state that the rows were found in is none of its own any more")),
                },
                None => None,
            };
        }
        match base {
            None => Ok(since),
            Some(_) => Err(self.conflict("the state that the rows were found in is none of its own any more")),
        }
    }

    fn conflict(&self, what: &str) -> Error {
        file_error(&self.connection, &self.file.path, Code::Conflict, what).hint("run the statement again")
    }

    /// Replaces rows in a snapshot of its branch. `again` reads the table as it is now.
    ///
    /// # Errors
    /// With [`Code::Conflict`] when others have changed what the rows were found in; then, and when the storage fails, the table is as it was.
    pub fn replace(
        &self,
        spec: i32,
        change: &Replacement<'_>,
        memory: &Arc<dyn ScanMemory>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<i64> {
        self.catalog.may_change(self)?;
        let told = |what: String| file_error(&self.connection, &self.file.path, Code::SourceData, what);
        let id = rand::rng().random_range(1..i64::MAX);
        let mark = new_uuid();
        let schema = self.schema()?;
        let schema_json = schema.to_json();
        let mut own: Vec<Manifest> = Vec::new();
        let all = (!change.added.is_empty()).then_some((spec, change.added)).into_iter();
        let put = all.chain(change.told.iter().map(|(spec, files)| (*spec, files.as_slice()))).try_for_each(
            |(spec, files)| -> Result<()> {
                let to = Written {
                    version: self.metadata.version,
                    snapshot: id,
                    spec: self.spec(spec)?,
                    schema,
                    schema_json: &schema_json,
                };
                let (content, mut made) = manifest(files, to).map_err(told)?;
                made.path = self.put(&format!("{mark}-m{}.avro", own.len()), content, &Condition::Absent)?;
                own.push(made);
                Ok(())
            },
        );
        let count = Cell::new(own.len());
        let name = || {
            count.set(count.get() + 1);
            format!("{mark}-m{}.avro", count.get())
        };
        let make = |table: &LakeTable, sequence: i64| {
            let new = own.iter().map(|own| Manifest { sequence, least_sequence: sequence, ..own.clone() });
            let put = RefCell::new(Vec::new());
            let (kept, ended) = table
                .kept(change, (id, sequence), memory, &name, &put)
                .inspect_err(|_| put.borrow().iter().for_each(|location| table.remove(location)))?;
            let mut manifests: Vec<Manifest> = new.chain(kept).collect();
            manifests.retain(|manifest| manifest.files() != Some(0) || manifest.added_by == id);
            let summary = summary_of(table.head(), change, &ended);
            Ok(Upon { manifests, summary, put: put.into_inner() })
        };
        let outcome = put.and_then(|()| self.shown(id, &mark, &make, again));
        if outcome.as_ref().is_err_and(|error| error.code != Code::InDoubt) {
            own.iter().for_each(|own| self.remove(&own.path));
        }
        outcome.map(|()| id)
    }

    /// The manifests of the table's last state without the files that end, after it was checked that others have not changed what counts.
    fn kept(
        &self,
        change: &Replacement<'_>,
        (id, sequence): (i64, i64),
        memory: &Arc<dyn ScanMemory>,
        name: &dyn Fn() -> String,
        put: &RefCell<Vec<String>>,
    ) -> Result<(Vec<Manifest>, Counts)> {
        let cancel = CancellationToken::new();
        let since = self.since(change.base)?;
        let Some(parent) = self.head() else { return Ok((vec![], Counts::default())) };
        let manifests = self.manifests(parent, memory, &cancel)?;
        let (deletes, rows): (Vec<Manifest>, Vec<Manifest>) = manifests.into_iter().partition(|own| own.of_deletes);
        let is_new = |entry: &Entry<'_>, manifest: &Manifest| since.contains(&entry.snapshot_in(manifest));
        // Rows that were only put together anew were there before.
        let is_other = |snapshot: &Snapshot| snapshot.summary.get("operation").is_none_or(|own| own != "replace");
        let brings_rows = |id: i64| since.contains(&id) && self.metadata.snapshot(id).is_none_or(is_other);
        let mut new_deletes = Gathered::default();
        if change.rows_must_be_there {
            for manifest in deletes.iter().filter(|manifest| since.contains(&manifest.added_by)) {
                let (file, spec) = (self.stored(&manifest.path, manifest.length)?, self.spec(manifest.spec)?);
                let visit = |entry: &Entry<'_>| match is_new(entry, manifest) {
                    true => {
                        let stored = self.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?;
                        new_deletes.take(entry, spec, stored, entry.sequence_in(manifest))
                    }
                    false => Ok(()),
                };
                self.told(&file, manifest::entries(self.reader(&file, &cancel)?, memory, visit))?;
            }
        }
        let (mut kept, mut ended) = (Vec::new(), Counts::default());
        let touched = change.touched.iter().filter(|_| !since.is_empty());
        let mut missing: HashSet<&str> = change.ended.keys().chain(touched).map(String::as_str).collect();
        let schema = self.schema()?;
        let nothing = Question::default();
        for manifest in rows {
            let is_looked_at = change.seen.is_some() && since.contains(&manifest.added_by);
            if (missing.is_empty() && !is_looked_at) || manifest.files() == Some(0) {
                kept.push(manifest);
                continue;
            }
            let (file, spec) = (self.stored(&manifest.path, manifest.length)?, self.spec(manifest.spec)?);
            let mut pruner = Pruner::new(change.seen.unwrap_or(&nothing), spec, schema);
            let (mut ends, mut conflict) = (false, None);
            let visit = |entry: &Entry<'_>| {
                if missing.remove(entry.path) {
                    ends |= change.ended.contains_key(entry.path);
                    let own = new_deletes.of(entry, spec, entry.sequence_in(&manifest))?;
                    if !own.places.is_empty() || !own.values.is_empty() {
                        conflict = Some("rows of the same files were deleted at the same time");
                    }
                } else if is_looked_at
                    && brings_rows(entry.snapshot_in(&manifest))
                    && pruner.partition_may(entry)?
                    && pruner.bounds_may(entry, None)?
                {
                    conflict = Some("rows that the statement would have had to look at were added at the same time");
                }
                Ok(())
            };
            self.told(&file, manifest::entries(self.reader(&file, &cancel)?, memory, visit))?;
            if let Some(conflict) = conflict {
                return Err(self.conflict(conflict));
            }
            if !ends {
                kept.push(manifest);
                continue;
            }
            let take = |entry: &Entry<'_>| {
                let is_gone = change.ended.contains_key(entry.path);
                if is_gone {
                    ended.files += 1;
                    ended.rows += entry.rows;
                    ended.bytes += entry.bytes;
                }
                Ok(is_gone)
            };
            kept.push(self.rewritten(&manifest, (id, sequence), memory, (name, put), take)?);
        }
        if !missing.is_empty() {
            return Err(self.conflict("files whose rows are changed were replaced at the same time"));
        }
        let speaks_of_none = |entry: &Entry<'_>| -> std::result::Result<bool, String> {
            let of_ended = only_path(entry)?.is_some_and(|path| change.ended.contains_key(&path));
            Ok(of_ended || change.dangling.contains(entry.path))
        };
        for manifest in deletes {
            let mut ends = false;
            let is_looked_at = !change.ended.is_empty() || !change.dangling.is_empty();
            if is_looked_at && manifest.files() != Some(0) {
                let file = self.stored(&manifest.path, manifest.length)?;
                let visit = |entry: &Entry<'_>| {
                    ends |= speaks_of_none(entry)?;
                    Ok(())
                };
                self.told(&file, manifest::entries(self.reader(&file, &cancel)?, memory, visit))?;
            }
            if !ends {
                kept.push(manifest);
                continue;
            }
            let take = |entry: &Entry<'_>| {
                let is_gone = speaks_of_none(entry)?;
                if is_gone {
                    ended.delete_files += 1;
                    match entry.content {
                        Content::GonePositions => ended.places += entry.rows,
                        _ => ended.values += entry.rows,
                    }
                    ended.bytes += entry.bytes;
                }
                Ok(is_gone)
            };
            kept.push(self.rewritten(&manifest, (id, sequence), memory, (name, put), take)?);
        }
        Ok((kept, ended))
    }

    /// A manifest without some of its files.
    fn rewritten(
        &self,
        manifest: &Manifest,
        (id, sequence): (i64, i64),
        memory: &Arc<dyn ScanMemory>,
        (name, put): (&dyn Fn() -> String, &RefCell<Vec<String>>),
        mut is_gone: impl FnMut(&Entry<'_>) -> std::result::Result<bool, String>,
    ) -> Result<Manifest> {
        let file = self.stored(&manifest.path, manifest.length)?;
        let input = self.reader(&file, &CancellationToken::new())?;
        let standing = |entry: &Entry<'_>| {
            let own = entry.kept_in(manifest);
            Ok(Some(match is_gone(entry)? {
                true => Standing { status: Status::Gone, snapshot: id, ..own },
                false => own,
            }))
        };
        let made = self.told(&file, manifest::again(input, memory, standing))?;
        let [files_kept, _, files_gone] = made.files;
        let [rows_kept, _, rows_gone] = made.rows;
        let length = made.content.len() as u64;
        let path = LakeTable::put(self, &name(), made.content, &Condition::Absent)?;
        put.borrow_mut().push(path.clone());
        Ok(Manifest {
            path,
            length,
            sequence,
            least_sequence: made.least_sequence.unwrap_or(sequence),
            added_by: id,
            files_added: Some(0),
            files_kept: Some(files_kept),
            files_gone: Some(files_gone),
            rows_added: Some(0),
            rows_kept: Some(rows_kept),
            rows_gone: Some(rows_gone),
            ..manifest.clone()
        })
    }
}
