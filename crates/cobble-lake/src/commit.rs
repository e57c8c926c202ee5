//! Changing a table: a snapshot is made of new files and shown by the next metadata file, whose name is that of one writer alone (table
//! specification, "Optimistic Concurrency" and "File System Tables"). A writer that comes second makes its snapshot again, upon the one that is there.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use cobble_plan::scan::ScanMemory;
use cobble_storage::{Condition, file_error};
use cobble_types::{Code, Error, Result};
use rand::Rng;
use serde_json::{Value as Json, json};
use tokio_util::sync::CancellationToken;

use crate::create::new_uuid;
use crate::documents::{following, list, number, set};
use crate::manifest_list::Manifest;
use crate::manifest_out::{NewFile, Written, list_of, manifest};
use crate::metadata::{Ref, RefKind, Snapshot};
use crate::refs::pointed;
use crate::schema::Told;
use crate::summary::{Counts, of_none, summary};
use crate::table::{LakeTable, METADATA};

/// How often a change is made again that others have come before.
const TRIES: u32 = 50;
/// The longest pause before that.
const PAUSE: Duration = Duration::from_millis(500);
/// Metadata files that the log of a table names, unless its property says otherwise.
const LOGGED: usize = 100;

/// The branch that a table is read from.
pub const MAIN: &str = "main";

struct NewSnapshot<'a> {
    id: i64,
    parent: Option<&'a Snapshot>,
    sequence: i64,
    at: i64,
    list: String,
    summary: BTreeMap<String, String>,
    schema: i32,
}

/// Milliseconds since 1970-01-01 UTC.
pub fn now() -> i64 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(now.as_millis()).unwrap_or(i64::MAX)
}

/// The metadata with a snapshot more, which the branch has.
fn with_snapshot(mut json: Json, new: &NewSnapshot<'_>, version: u8, branch: &str) -> Told<Json> {
    let mut snapshot = json!({
        "snapshot-id": new.id,
        "timestamp-ms": new.at,
        "manifest-list": new.list,
        "summary": new.summary,
        "schema-id": new.schema,
    });
    if let Some(parent) = new.parent {
        snapshot["parent-snapshot-id"] = json!(parent.id);
    }
    if version > 1 {
        snapshot["sequence-number"] = json!(new.sequence);
        set(&mut json, "last-sequence-number", new.sequence)?;
    }
    list(&mut json, "snapshots")?.push(snapshot);
    pointed(&mut json, branch, new.id, new.at)?;
    Ok(json)
}

/// The metadata as they are from a moment on, with the file that they had before in their log.
fn logged(mut json: Json, at: i64, before: Option<(&str, i64)>) -> Told<Json> {
    set(&mut json, "last-updated-ms", at)?;
    let Some((path, updated)) = before else { return Ok(json) };
    let most = json.pointer("/properties/write.metadata.previous-versions-max").and_then(Json::as_str);
    let most = most.and_then(|text| text.parse().ok()).unwrap_or(LOGGED).max(1);
    let log = list(&mut json, "metadata-log")?;
    log.push(json!({ "timestamp-ms": updated, "metadata-file": path }));
    let more = log.len().saturating_sub(most);
    log.drain(..more);
    Ok(json)
}

/// The metadata as they follow those of a table at a moment, in milliseconds since 1970-01-01 UTC.
pub fn logged_next(table: &LakeTable, next: Json, at: i64) -> Result<Json> {
    let told = |what: String| file_error(&table.connection, &table.file.path, Code::SourceData, what);
    let before = (!table.is_fresh).then(|| table.metadata_location());
    logged(next, at, before.as_deref().map(|file| (file, table.metadata.updated))).map_err(told)
}

/// What a new snapshot has, made upon the table's last state.
pub(crate) struct Upon {
    pub manifests: Vec<Manifest>,
    pub summary: BTreeMap<String, String>,
    /// Files that were put for this state alone.
    pub put: Vec<String>,
}

/// Makes what a snapshot has upon a table, for a change of this number.
pub(crate) type Make<'m> = &'m dyn Fn(&LakeTable, i64) -> Result<Upon>;

/// What is told of a snapshot that adds files to its parent's.
fn summary_of(parent: Option<&Snapshot>, files: &[NewFile]) -> BTreeMap<String, String> {
    let more = Counts {
        rows: files.iter().map(|file| file.rows).sum(),
        files: files.len() as u64,
        bytes: files.iter().map(|file| file.bytes).sum(),
        ..Counts::default()
    };
    let partitions: BTreeSet<String> = files.iter().map(|file| format!("{:?}", file.partition)).collect();
    let mut all = summary(parent, "append", (&more, &Counts::default()));
    all.insert("changed-partition-count".to_owned(), partitions.len().to_string());
    all
}

impl LakeTable {
    pub(crate) fn put(&self, name: &str, content: Vec<u8>, condition: &Condition) -> Result<String> {
        let names: Vec<String> = self.home.iter().cloned().chain([METADATA.to_owned(), name.to_owned()]).collect();
        self.storage.put(&names, content.into(), condition)?;
        Ok(format!("{}/{METADATA}/{name}", self.metadata.location))
    }

    pub(crate) fn remove(&self, location: &str) {
        if let Ok(file) = self.stored(location, 0) {
            // What is left over belongs to no snapshot.
            let _ = self.storage.delete(&file);
        }
    }

    fn is_there(&self) -> Error {
        let what = "a table was made here at the same time";
        file_error(&self.connection, &self.file.path, Code::AlreadyExists, what).hint("INSERT INTO adds rows to it")
    }

    /// Makes a table without rows, one that is not there yet.
    pub fn make(&self) -> Result<()> {
        match self.written_next(self.document()?, now())? {
            true => Ok(()),
            false => Err(self.is_there()),
        }
    }

    /// Whether it can be changed here.
    ///
    /// # Errors
    /// When another service's catalog tells what its last state is, or it is a tag.
    pub fn is_ours(&self) -> Result<()> {
        match self.metadata.refs.get(&self.branch) {
            Some(Ref { kind: RefKind::Tag, .. }) => {
                let what = format!("{} is a tag, and tags stay as they are", self.branch);
                Err(file_error(&self.connection, &self.file.path, Code::Unsupported, what)
                    .hint("make a branch of it, and write into that"))
            }
            _ => self.catalog.may_change(self),
        }
    }

    /// Adds files of rows in a snapshot of its branch. `again` reads the table as it is now.
    ///
    /// # Errors
    /// When the storage fails, or others are always first; then the table is as it was.
    pub fn append(
        &self,
        spec: i32,
        files: &[NewFile],
        memory: &Arc<dyn ScanMemory>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<i64> {
        self.catalog.may_change(self)?;
        let told = |what: String| file_error(&self.connection, &self.file.path, Code::SourceData, what);
        let id = rand::rng().random_range(1..i64::MAX);
        let mark = new_uuid();
        let (schema, spec) = (self.metadata.schema(self.metadata.schema_id), self.metadata.spec(spec));
        let (schema, spec) = (schema.map_err(told)?, spec.map_err(told)?);
        let schema_json = schema.to_json();
        let to = Written { version: self.metadata.version, snapshot: id, spec, schema, schema_json: &schema_json };
        let (content, mut own) = manifest(files, to).map_err(told)?;
        own.path = self.put(&format!("{mark}-m0.avro"), content, &Condition::Absent)?;
        let make = |table: &LakeTable, sequence: i64| {
            let mut manifests = vec![Manifest { sequence, least_sequence: sequence, ..own.clone() }];
            let parent = table.head();
            if let Some(parent) = parent {
                manifests.extend(table.manifests(parent, memory, &CancellationToken::new())?);
            }
            // Those of whose files none is left say nothing to anybody.
            manifests.retain(|manifest| manifest.files() != Some(0));
            Ok(Upon { manifests, summary: summary_of(parent, files), put: vec![] })
        };
        let outcome = self.shown(id, &mark, &make, again);
        if outcome.as_ref().is_err_and(|error| error.code != Code::InDoubt) {
            self.remove(&own.path);
        }
        outcome.map(|()| id)
    }

    /// Leaves the table without rows, in a snapshot of its branch that has no files.
    ///
    /// # Errors
    /// As of [`LakeTable::append`].
    pub fn empty(&self, again: &dyn Fn() -> Result<LakeTable>) -> Result<i64> {
        self.catalog.may_change(self)?;
        let id = rand::rng().random_range(1..i64::MAX);
        let make =
            |table: &LakeTable, _: i64| Ok(Upon { manifests: vec![], summary: of_none(table.head()), put: vec![] });
        self.shown(id, &new_uuid(), &make, again).map(|()| id)
    }

    /// Shows a snapshot, made upon the table's last state, and again upon the next one where others are first.
    pub(crate) fn shown(
        &self,
        id: i64,
        mark: &str,
        make: Make<'_>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<()> {
        for attempt in 0..TRIES {
            let table = again()?;
            // An attempt of which nobody knew what became of it has come to something after all.
            if attempt > 0 && table.metadata.snapshot(id).is_some() {
                return Ok(());
            }
            table.is_as(self)?;
            match table.next(id, &format!("snap-{id}-{attempt}-{mark}.avro"), make)? {
                Next::Shown => return Ok(()),
                Next::Late(put) => put.iter().for_each(|location| table.remove(location)),
            }
            if table.is_fresh {
                return Err(table.is_there());
            }
            pause(attempt);
        }
        Err(self.always_late())
    }

    fn always_late(&self) -> Error {
        let what = format!("{TRIES} times others have changed it first");
        file_error(&self.connection, &self.file.path, Code::Conflict, what).hint("write again when fewer write")
    }

    /// Whether a table that is read again is the one that the new files are of.
    fn is_as(&self, before: &LakeTable) -> Result<()> {
        let (now, then) = (&self.metadata, &before.metadata);
        let same = now.uuid == then.uuid && now.version == then.version && now.schema_id == then.schema_id;
        match same {
            true => Ok(()),
            false => {
                let what = "the table was made anew, or its columns were changed, while rows were written for it";
                Err(file_error(&self.connection, &self.file.path, Code::Conflict, what).hint("write the rows again"))
            }
        }
    }

    /// Tries to show a snapshot upon the table's last one.
    fn next(&self, id: i64, list_name: &str, make: Make<'_>) -> Result<Next> {
        let told = |what: String| file_error(&self.connection, &self.file.path, Code::SourceData, what);
        let document = self.document()?;
        let metadata = &self.metadata;
        let parent = self.head();
        let sequence = match metadata.version {
            1 => 0,
            _ => following([number(&document, "last-sequence-number").unwrap_or(0)], 1).map_err(told)?,
        };
        let Upon { manifests, summary, mut put } = make(self, sequence)?;
        let header = [
            ("snapshot-id", id.to_string()),
            ("parent-snapshot-id", parent.map_or("null".to_owned(), |parent| parent.id.to_string())),
            ("sequence-number", sequence.to_string()),
            ("format-version", metadata.version.to_string()),
        ];
        let list = self.put(list_name, list_of(metadata.version, &manifests, &header), &Condition::Absent);
        let list = list.inspect_err(|_| put.iter().for_each(|location| self.remove(location)))?;
        put.push(list.clone());
        let new = NewSnapshot {
            id,
            parent,
            sequence,
            // Snapshots follow each other in time, whatever the writers' clocks say.
            at: now().max(metadata.updated.saturating_add(1)),
            list,
            summary,
            schema: metadata.schema_id,
        };
        let at = new.at;
        let next = with_snapshot(document, &new, metadata.version, &self.branch).map_err(told)?;
        match self.written_next(next, at)? {
            true => Ok(Next::Shown),
            false => Ok(Next::Late(put)),
        }
    }

    /// Lets these metadata follow; false where another writer was first.
    fn written_next(&self, next: Json, at: i64) -> Result<bool> {
        self.catalog.commit(self, &logged_next(self, next, at)?)
    }

    /// Changes the metadata alone. `make` is asked again where others are first; `again` reads the table as it is now.
    ///
    /// # Errors
    /// Those of `make`, as what is wrong with the change.
    pub fn change_metadata(
        make: &dyn Fn(&LakeTable, Json) -> Result<Json>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<()> {
        for attempt in 0..TRIES {
            let table = again()?;
            table.catalog.may_change(&table)?;
            let next = make(&table, table.document()?)?;
            if table.written_next(next, now().max(table.metadata.updated.saturating_add(1)))? {
                return Ok(());
            }
            pause(attempt);
        }
        let table = again()?;
        Err(table.always_late())
    }
}

/// Waits before a change is tried again.
pub fn pause(attempt: u32) {
    let longest = PAUSE.min(Duration::from_millis(4 << attempt.min(7)));
    std::thread::sleep(longest.mul_f64(rand::rng().random_range(0.2..1.0)));
}

enum Next {
    Shown,
    /// Another writer was first. These files are of no use.
    Late(Vec<String>),
}
