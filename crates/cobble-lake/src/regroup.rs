//! Manifests that are written of the entries of others: put together by partitions, or taken from another branch.

use std::any::Any;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use cobble_plan::scan::ScanMemory;
use cobble_storage::{Condition, file_error};
use cobble_types::{Code, Result, Value};
use rand::Rng;
use tokio_util::sync::CancellationToken;

use crate::avro_out::AvroFile;
use crate::commit::Upon;
use crate::create::new_uuid;
use crate::manifest::{self, Entry, Form, Standing, Status};
use crate::manifest_list::Manifest;
use crate::manifest_out::{kinds, summaries};
use crate::metadata::Snapshot;
use crate::summary::{Counts, summary};
use crate::table::LakeTable;

/// Memory is taken for so many bytes of entries at once.
const STEP: usize = 4 << 20;

/// An entry as it is written again.
struct Row {
    /// Among the partitions.
    partition: usize,
    bytes: Vec<u8>,
    rows: u64,
    sequence: i64,
}

/// Entries of one form and partitioning.
struct Group {
    spec: i32,
    form: Form,
    partitions: Vec<Vec<Value>>,
    known: HashMap<Vec<u8>, usize>,
    rows: Vec<Row>,
}

/// Partitions in the order of their values, from the first field on; those that are not to be compared stay as they come.
fn compared(a: &[Value], b: &[Value]) -> std::cmp::Ordering {
    let one = |(a, b): (&Value, &Value)| match (a.is_null(), b.is_null()) {
        (false, false) => a.compare(b).unwrap_or(std::cmp::Ordering::Equal),
        (a, b) => b.cmp(&a),
    };
    a.iter().zip(b).map(one).find(|order| order.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
}

impl LakeTable {
    /// Puts manifests of rows together, sorted by partitions and cut at so many bytes. Says how many were read, and how many were written if
    /// they were.
    ///
    /// # Errors
    /// With [`Code::Conflict`] when others have replaced the same manifests.
    pub fn regroup(
        &self,
        bytes: u64,
        only_looks: bool,
        memory: &Arc<dyn ScanMemory>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<(u64, Option<u64>)> {
        self.catalog.may_change(self)?;
        let cancel = CancellationToken::new();
        let Some(parent) = self.head() else { return Ok((0, None)) };
        let mut own = self.manifests(parent, memory, &cancel)?;
        own.retain(|manifest| !manifest.of_deletes && manifest.files() != Some(0));
        if only_looks || own.len() < 2 {
            return Ok((if own.len() < 2 { 0 } else { own.len() as u64 }, None));
        }
        let mut groups: Vec<Group> = Vec::new();
        let (mut room, mut untaken): (Vec<Box<dyn Any + Send + Sync>>, usize) = (Vec::new(), 0);
        let mut gather = |manifest: &Manifest| -> Result<()> {
            let file = self.stored(&manifest.path, manifest.length)?;
            let form = self.told(&file, manifest::form(self.reader(&file, &cancel)?, memory))?;
            let found = groups.iter().position(|group| group.spec == manifest.spec && group.form == form);
            let place = found.unwrap_or(groups.len());
            if place == groups.len() {
                let (partitions, known, rows) = (vec![], HashMap::new(), vec![]);
                groups.push(Group { spec: manifest.spec, form, partitions, known, rows });
            }
            let (group, spec, schema) = (&mut groups[place], self.spec(manifest.spec)?, self.schema()?);
            let visit = |entry: &Entry<'_>| {
                let mark = entry.partition_mark(spec)?;
                let next = group.partitions.len();
                let partition = *group.known.entry(mark).or_insert(next);
                if partition == next {
                    group.partitions.push(entry.partition_values(spec, schema)?);
                }
                let (standing, mut bytes) = (entry.kept_in(manifest), Vec::new());
                entry.put(standing, &mut bytes)?;
                untaken += bytes.len() + size_of::<Row>();
                if untaken > STEP {
                    room.push(memory.take(untaken as u64).map_err(|e| e.message)?);
                    untaken = 0;
                }
                group.rows.push(Row { partition, bytes, rows: entry.rows, sequence: standing.sequence.unwrap_or(0) });
                Ok(())
            };
            self.told(&file, manifest::entries(self.reader(&file, &cancel)?, memory, visit))
        };
        own.iter().try_for_each(&mut gather)?;
        let (id, mark) = (rand::rng().random_range(1..i64::MAX), new_uuid());
        let mut made: Vec<Manifest> = Vec::new();
        let outcome = groups
            .into_iter()
            .try_for_each(|group| self.put_group(group, bytes, (id, &mark), &mut made))
            .and_then(|()| {
                let read: HashSet<&str> = own.iter().map(|manifest| manifest.path.as_str()).collect();
                let make = |table: &LakeTable, sequence: i64| {
                    let Some(parent) = table.head() else { return Err(table.replaced()) };
                    let mut kept = table.manifests(parent, memory, &cancel)?;
                    let before = kept.len();
                    kept.retain(|manifest| !read.contains(manifest.path.as_str()));
                    if before - kept.len() != read.len() {
                        return Err(table.replaced());
                    }
                    kept.retain(|manifest| manifest.files() != Some(0));
                    let new = made.iter().map(|own| Manifest { sequence, ..own.clone() });
                    let summary = summary(Some(parent), "replace", (&Counts::default(), &Counts::default()));
                    Ok(Upon { manifests: new.chain(kept).collect(), summary, put: vec![] })
                };
                self.shown(id, &mark, &make, again)
            });
        if outcome.as_ref().is_err_and(|error| error.code != Code::InDoubt) {
            made.iter().for_each(|own| self.remove(&own.path));
        }
        outcome.map(|()| (own.len() as u64, Some(made.len() as u64)))
    }

    fn replaced(&self) -> cobble_types::Error {
        let what = "the table's manifests were replaced at the same time";
        file_error(&self.connection, &self.file.path, Code::Conflict, what).hint("run the statement again")
    }

    fn put_group(&self, group: Group, bytes: u64, (id, mark): (i64, &str), made: &mut Vec<Manifest>) -> Result<()> {
        let Group { spec, form, partitions, mut rows, .. } = group;
        let wrong = |what: String| file_error(&self.connection, &self.file.path, Code::SourceData, what);
        let kinds = kinds(self.spec(spec)?, self.schema()?).map_err(wrong)?;
        rows.sort_by(|a, b| compared(&partitions[a.partition], &partitions[b.partition]));
        let mut rest = rows.into_iter().peekable();
        while rest.peek().is_some() {
            let mut out = AvroFile::new(&form.schema, &form.header);
            let (mut files, mut count, mut least, mut own) = (0, 0, i64::MAX, Vec::new());
            while let Some(row) = rest.next_if(|_| (out.bytes() as u64) < bytes) {
                out.row(|out| out.extend_from_slice(&row.bytes));
                (files, count, least) = (files + 1, count + row.rows, least.min(row.sequence));
                if own.last() != Some(&row.partition) {
                    own.push(row.partition);
                }
            }
            let content = out.finish();
            let values = own.iter().map(|place| partitions[*place].as_slice());
            let mut manifest = Manifest {
                path: String::new(),
                length: content.len() as u64,
                spec,
                of_deletes: false,
                sequence: 0,
                least_sequence: least,
                added_by: id,
                files_added: Some(0),
                files_kept: Some(files),
                files_gone: Some(0),
                rows_added: Some(0),
                rows_kept: Some(count),
                rows_gone: Some(0),
                partitions: Some(summaries(values, &kinds)),
            };
            manifest.path = self.put(&format!("{mark}-m{}.avro", made.len()), content, &Condition::Absent)?;
            made.push(manifest);
        }
        Ok(())
    }

    /// Adds the files that a state of another branch has added. `more` goes into the summary.
    ///
    /// # Errors
    /// When the storage fails, or others are always first; then the table is as it was.
    pub fn append_picked(
        &self,
        picked: &Snapshot,
        more: BTreeMap<String, String>,
        memory: &Arc<dyn ScanMemory>,
        again: &dyn Fn() -> Result<LakeTable>,
    ) -> Result<()> {
        self.catalog.may_change(self)?;
        let cancel = CancellationToken::new();
        let (id, mark) = (rand::rng().random_range(1..i64::MAX), new_uuid());
        let mut own: Vec<Manifest> = Vec::new();
        let (mut files, mut rows, mut bytes) = (0, 0, 0);
        let mut copy = |manifest: Manifest| -> Result<()> {
            let file = self.stored(&manifest.path, manifest.length)?;
            let standing = |entry: &Entry<'_>| {
                let is_new = entry.is_added && entry.snapshot_in(&manifest) == picked.id;
                if is_new {
                    (files, rows, bytes) = (files + 1, rows + entry.rows, bytes + entry.bytes);
                }
                let new = Standing { status: Status::Added, snapshot: id, sequence: None, file_sequence: None };
                Ok(is_new.then_some(new))
            };
            let made = self.told(&file, manifest::again(self.reader(&file, &cancel)?, memory, standing))?;
            let length = made.content.len() as u64;
            let path = self.put(&format!("{mark}-m{}.avro", own.len()), made.content, &Condition::Absent)?;
            own.push(Manifest {
                path,
                length,
                added_by: id,
                files_added: Some(made.files[Status::Added as usize]),
                files_kept: Some(0),
                files_gone: Some(0),
                rows_added: Some(made.rows[Status::Added as usize]),
                rows_kept: Some(0),
                rows_gone: Some(0),
                ..manifest
            });
            Ok(())
        };
        let manifests = self.manifests(picked, memory, &cancel)?;
        let mut of_picked = manifests.into_iter().filter(|own| !own.of_deletes && own.added_by == picked.id);
        let copied = of_picked.try_for_each(&mut copy);
        let outcome = copied.and_then(|()| {
            let make = |table: &LakeTable, sequence: i64| {
                // A state that has expired in the meantime has lost its files.
                if table.metadata.snapshot(picked.id).is_none() {
                    return Err(table.replaced());
                }
                let new = own.iter().map(|own| Manifest { sequence, least_sequence: sequence, ..own.clone() });
                let parent = table.head();
                let kept = parent.map(|parent| table.manifests(parent, memory, &cancel)).transpose()?;
                let counts = Counts { rows, files, bytes, ..Counts::default() };
                let mut summary = summary(parent, "append", (&counts, &Counts::default()));
                summary.extend(more.clone());
                let manifests = new.chain(kept.unwrap_or_default()).filter(|own| own.files() != Some(0)).collect();
                Ok(Upon { manifests, summary, put: vec![] })
            };
            self.shown(id, &mark, &make, again)
        });
        if outcome.as_ref().is_err_and(|error| error.code != Code::InDoubt) {
            own.iter().for_each(|own| self.remove(&own.path));
        }
        outcome
    }
}
