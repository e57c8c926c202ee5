//! A table in a storage: its metadata file, and the files that the metadata name by whole paths.

use std::collections::BTreeMap;
use std::io::BufReader;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use bytes::Bytes;
use cobble_plan::scan::ScanMemory;
use cobble_storage::{Ordered, Storage, StoredFile, file_error, own_error};
use cobble_types::{Code, Error, Result, Value};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::catalog::{Current, TableCatalog, TableName};
use crate::commit::MAIN;
use crate::decoded::{self, Each, Looked, Manifests, Verdicts};
use crate::deletes::{Gathered, Gone, GoneOf};
use crate::manifest::{self, Content, Entry, EntryShape, Manifest};
use crate::metadata::{MOST_BYTES, Metadata, Ref, RefKind, Snapshot, SnapshotFiles, Spec};
use crate::prune::{OfPartition, Pruner, Question};
use crate::schema::{Field, Schema, Told};
use crate::transform::Transform;

/// The folder of a table in which its metadata lie.
pub const METADATA: &str = "metadata";

/// A table as it was when its metadata file was read.
#[derive(Debug, Clone)]
pub struct LakeTable {
    pub connection: String,
    pub storage: Arc<dyn Storage>,
    /// The names of its folder below the storage's address.
    pub home: Vec<String>,
    pub file: StoredFile,
    pub metadata: Arc<Metadata>,
    /// The branch that is written.
    pub branch: String,
    /// It is not there yet.
    pub is_fresh: bool,
    pub name: TableName,
    /// Who knows its last state.
    pub catalog: Arc<dyn TableCatalog>,
    /// What is known of its manifests.
    decoded: Arc<Manifests>,
    /// The metadata as they are written, where the catalog has told them.
    document: Option<Arc<serde_json::Value>>,
    /// The metadata file as the catalog names it, if it names it.
    named: Option<String>,
}

/// What tables of a connection share.
#[derive(Debug, Clone)]
pub struct Tables {
    pub connection: String,
    pub catalog: Arc<dyn TableCatalog>,
    pub decoded: Arc<Manifests>,
}

/// A file with rows that a snapshot has.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DataFile {
    /// As the table has it.
    pub path: String,
    pub stored: StoredFile,
    pub format: String,
    pub rows: u64,
    /// When its rows were added, as the table counts its changes.
    pub sequence: i64,
    /// Values of columns that it lacks, by the columns' ids: its partition tells them.
    pub constants: Vec<(i32, Value)>,
    /// What tells of rows that are gone.
    pub gone: GoneOf,
    /// The conditions of the question, by their places, that all its rows fulfil.
    pub certain: Vec<usize>,
}

/// The files that may hold wanted rows, and how many of what were looked at.
#[derive(Debug, Default)]
pub struct Left {
    pub files: Vec<DataFile>,
    /// What tells of gone rows in these files.
    pub gone: Gone,
    /// Files that tell of gone rows.
    pub deletes: Parts,
    pub manifests: Parts,
    /// By the partitions of the manifests that were read.
    pub partitioned: Parts,
    /// By the bounds of their columns, of those that the partitions leave.
    pub bounded: Parts,
    /// Bytes of manifests that were read.
    pub bytes: u64,
}

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Parts {
    pub read: u64,
    pub total: u64,
}

/// Manifests that are read at the same time.
const AT_ONCE: usize = 8;

/// What is made of each of these, by several threads; in their order.
fn at_once<T: Sync, M: Send>(all: &[T], make: impl Fn(&T) -> Result<M> + Sync) -> Vec<Result<M>> {
    if all.len() < 2 {
        return all.iter().map(make).collect();
    }
    let next = AtomicUsize::new(0);
    let work = || {
        let mut made = Vec::new();
        while let Some((place, own)) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, all.get(at)?)))
        {
            made.push((place, make(own)));
        }
        made
    };
    let mut made: Vec<(usize, Result<M>)> = std::thread::scope(|scope| {
        let running: Vec<_> = (0..AT_ONCE.min(all.len())).map(|_| scope.spawn(work)).collect();
        let stopped = |_| vec![(usize::MAX, Err(Error::internal("a thread that reads manifests has stopped")))];
        running.into_iter().flat_map(|thread| thread.join().unwrap_or_else(stopped)).collect()
    });
    made.sort_by_key(|(place, _)| *place);
    made.into_iter().map(|(_, own)| own).collect()
}

impl Parts {
    fn add(&mut self, other: Parts) {
        self.read += other.read;
        self.total += other.total;
    }

    fn count(&mut self, is_read: bool) {
        self.total += 1;
        self.read += u64::from(is_read);
    }
}

/// The number that the name of a metadata file begins with: `v3.metadata.json`, `00003-….metadata.json`, packed or not.
pub(crate) fn version_in(name: &str) -> Option<u64> {
    let stem = name.strip_suffix(".gz").unwrap_or(name).strip_suffix(".metadata.json")?;
    let digits = stem.strip_prefix('v').unwrap_or(stem);
    let end = digits.find(|c: char| !c.is_ascii_digit()).unwrap_or(digits.len());
    digits[..end].parse().ok()
}

/// The metadata file with the highest number in a table's folder; none where the folder holds no table.
pub fn latest(storage: &dyn Storage, home: &[String]) -> Result<Option<StoredFile>> {
    let folder: Vec<String> = home.iter().cloned().chain([METADATA.to_owned()]).collect();
    let files = storage.look(&folder)?.files;
    let numbered = files.into_iter().filter_map(|file| Some((version_in(&file.name())?, file)));
    Ok(numbered.max_by(|(a, one), (b, other)| a.cmp(b).then_with(|| one.path.cmp(&other.path))).map(|(_, file)| file))
}

/// A metadata file's bytes.
pub(crate) fn whole(connection: &str, storage: &dyn Storage, file: &StoredFile) -> Result<Bytes> {
    let wrong = |what: String| file_error(connection, &file.path, Code::SourceData, what);
    if file.bytes > MOST_BYTES {
        return Err(wrong(format!("a metadata file of more than {} MiB is not read", MOST_BYTES >> 20)));
    }
    let blob = storage.open(file, &CancellationToken::new())?;
    let read = blob.read(0, file.bytes as usize);
    read.map_err(|e| own_error(&e).unwrap_or_else(|| wrong(format!("it cannot be read: {e}"))))
}

impl LakeTable {
    /// Reads a table's last metadata, or those that its catalog has told. One that is not there yet is made by its first change.
    pub fn open(tables: &Tables, name: TableName, current: Current, is_fresh: bool) -> Result<LakeTable> {
        let Tables { connection, catalog, decoded } = tables;
        let Current { storage, home, file, document, named } = current;
        let wrong = |what: String| file_error(connection, &file.path, Code::SourceData, what);
        let metadata = match &document {
            Some(document) => Metadata::of_document(document.as_ref().clone()).map_err(wrong)?,
            None => Metadata::read(&whole(connection, storage.as_ref(), &file)?).map_err(wrong)?,
        };
        Ok(LakeTable {
            connection: connection.clone(),
            storage,
            home,
            metadata: Arc::new(metadata),
            file,
            branch: MAIN.to_owned(),
            is_fresh,
            name,
            catalog: catalog.clone(),
            decoded: decoded.clone(),
            document,
            named,
        })
    }

    /// The same table, with this branch as the one that is written.
    pub fn on_branch(self, branch: &str) -> LakeTable {
        LakeTable { branch: branch.to_owned(), ..self }
    }

    /// The metadata file as it is written, with all that this code does not know.
    pub fn document(&self) -> Result<serde_json::Value> {
        if let Some(document) = &self.document {
            return Ok(document.as_ref().clone());
        }
        let bytes = whole(&self.connection, self.storage.as_ref(), &self.file)?;
        Metadata::document(&bytes).map_err(|what| self.wrong(&self.file, what))
    }

    /// The metadata file as others call it.
    pub fn metadata_location(&self) -> String {
        let own = || format!("{}/{METADATA}/{}", self.metadata.location, self.file.name());
        self.named.clone().unwrap_or_else(own)
    }

    /// Of a change of which nobody knows whether it was made.
    pub(crate) fn in_doubt(&self, what: String) -> Error {
        file_error(&self.connection, &self.file.path, Code::InDoubt, what)
            .hint("look whether the table has the change before it is made again")
    }

    fn wrong(&self, file: &StoredFile, what: impl std::fmt::Display) -> Error {
        file_error(&self.connection, &file.path, Code::SourceData, what)
            .hint("the file is not as the table specification says; restore it, or roll the table back")
    }

    /// A file that the metadata name. What is below the table's location is looked for where the table is found, so that a table may have
    /// been moved as a whole, or be known by other names elsewhere.
    pub fn stored(&self, location: &str, bytes: u64) -> Result<StoredFile> {
        let below = location.strip_prefix(self.metadata.location.as_str()).and_then(|rest| rest.strip_prefix('/'));
        let names = match below {
            Some(rest) => Some(self.home.iter().cloned().chain(rest.split('/').map(str::to_owned)).collect()),
            None => self.storage.names_of(location),
        };
        let Some(names) = names else {
            let what = format!("the table's file {location} is not below {}", self.storage.address());
            return Err(Error::new(Code::BadSetting, format!("connection {}: {what}", self.connection))
                .hint("name the storage that holds the table's files in the connection's setting storage"));
        };
        self.storage.at(&names, bytes)
    }

    pub(crate) fn reader(&self, file: &StoredFile, cancel: &CancellationToken) -> Result<BufReader<Ordered>> {
        let blob = self.storage.open(file, cancel)?;
        Ok(BufReader::with_capacity(1 << 17, Ordered::new(blob, Arc::new(AtomicU64::new(0)))))
    }

    /// What a reader of Avro rows has told.
    pub(crate) fn told<T>(&self, file: &StoredFile, outcome: std::io::Result<Told<T>>) -> Result<T> {
        match outcome {
            Ok(Ok(found)) => Ok(found),
            Ok(Err(what)) => Err(self.wrong(file, what)),
            Err(error) => Err(own_error(&error).unwrap_or_else(|| self.wrong(file, error))),
        }
    }

    /// The manifests of a snapshot.
    pub fn manifests(
        &self,
        snapshot: &Snapshot,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Vec<Manifest>> {
        let location = match &snapshot.files {
            SnapshotFiles::List(list) => list,
            SnapshotFiles::Manifests(all) => {
                let named = |path: &String| {
                    Ok(Manifest {
                        path: path.clone(),
                        length: self.sized(path)?.bytes,
                        spec: self.metadata.spec_id,
                        of_deletes: false,
                        sequence: 0,
                        least_sequence: 0,
                        added_by: snapshot.id,
                        files_added: None,
                        files_kept: None,
                        files_gone: None,
                        rows_added: None,
                        rows_kept: None,
                        rows_gone: None,
                        partitions: None,
                    })
                };
                return all.iter().map(named).collect();
            }
        };
        if let Some(known) = self.decoded.list(&self.stored(location, 0)?.path) {
            return Ok(known.as_ref().clone());
        }
        let list = self.sized(location)?;
        let read = self.told(&list, manifest::list(self.reader(&list, cancel)?, memory))?;
        self.decoded.keep_list(&list.path, Arc::new(read.clone()));
        Ok(read)
    }

    /// A file whose size nobody has told: it is looked for in its folder.
    fn sized(&self, location: &str) -> Result<StoredFile> {
        let file = self.stored(location, 0)?;
        let name = file.name();
        let folder = match location.rsplit_once('/') {
            Some((folder, _)) => self.names(folder),
            None => None,
        };
        let found = self.storage.look(&folder.unwrap_or_default())?.files.into_iter().find(|one| one.name() == name);
        found.ok_or_else(|| {
            file_error(&self.connection, &file.path, Code::NotFound, "the table names this file, and it is not there")
                .hint("check that the storage is the one that the table was written to, and that nobody has removed files")
        })
    }

    fn names(&self, location: &str) -> Option<Vec<String>> {
        if location == self.metadata.location {
            return Some(self.home.clone());
        }
        match location.strip_prefix(self.metadata.location.as_str()).and_then(|rest| rest.strip_prefix('/')) {
            Some(rest) => Some(self.home.iter().cloned().chain(rest.split('/').map(str::to_owned)).collect()),
            None => self.storage.names_of(location),
        }
    }

    /// The fields of a schema, and behind them those that gone rows are told by and that it has not any more.
    pub fn fields(&self, schema: i32, gone: &Gone) -> Result<Vec<Field>> {
        let of_metadata = |what: String| self.wrong(&self.file, what);
        let own = self.metadata.schema(schema).map_err(of_metadata)?;
        let mut fields = own.fields.clone();
        for id in gone.values.iter().flat_map(|group| &group.columns) {
            if !fields.iter().any(|field| field.has(*id)) {
                let earlier = self.metadata.schemas.iter().rev().flat_map(|schema| &schema.fields);
                let dropped = earlier.into_iter().find(|field| field.has(*id));
                fields.push(dropped.cloned().ok_or_else(|| of_metadata(format!("no schema has a field {id}")))?);
            }
        }
        Ok(fields)
    }

    /// The last state of the branch that is written; none of a table that has never had rows.
    pub fn head(&self) -> Option<&Snapshot> {
        match self.branch == MAIN {
            true => self.metadata.current(),
            false => self.metadata.named(&self.branch),
        }
    }

    /// The schema in which the branch is seen: of a tag that of its state.
    pub fn schema_seen(&self) -> i32 {
        let own = self.head().and_then(|snapshot| snapshot.schema_id);
        match self.metadata.refs.get(&self.branch) {
            Some(Ref { kind: RefKind::Tag, .. }) => own.unwrap_or(self.metadata.schema_id),
            _ => self.metadata.schema_id,
        }
    }

    /// The schema that the table has now.
    pub fn schema(&self) -> Result<&Schema> {
        self.metadata.schema(self.metadata.schema_id).map_err(|what| self.wrong(&self.file, what))
    }

    /// A partitioning that it has, or has had.
    pub fn spec(&self, id: i32) -> Result<&Spec> {
        self.metadata.spec(id).map_err(|what| self.wrong(&self.file, what))
    }

    /// Goes through all files of a snapshot, those that tell of deleted rows among them.
    pub fn each_file(
        &self,
        snapshot: &Snapshot,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
        mut each: impl FnMut(&Entry<'_>, &Manifest, &Spec) -> Told<()>,
    ) -> Result<()> {
        let manifests = self.manifests(snapshot, memory, cancel)?;
        let (all, question) = (manifests.iter().collect::<Vec<_>>(), Question::default());
        self.visit(
            (&all, &mut Left::default()),
            (self.schema()?, &question),
            (memory, cancel),
            |entry, manifest, spec, _, _| each(entry, manifest, spec),
        )
    }

    /// Goes through the manifests that may name a file with wanted rows.
    fn visit(
        &self,
        (manifests, left): (&[&Manifest], &mut Left),
        (schema, question): (&Schema, &Question),
        (memory, cancel): (&Arc<dyn ScanMemory>, &CancellationToken),
        mut each: impl FnMut(&Entry<'_>, &Manifest, &Spec, &mut Pruner<'_>, &mut Left) -> Told<()>,
    ) -> Result<()> {
        for manifest in manifests {
            let spec = self.metadata.spec(manifest.spec).map_err(|what| self.wrong(&self.file, what))?;
            let mut pruner = Pruner::new(question, spec, schema);
            let may = manifest.files() != Some(0) && pruner.manifest_may(manifest.partitions.as_deref());
            left.manifests.count(may);
            if !may {
                continue;
            }
            let file = self.stored(&manifest.path, manifest.length)?;
            left.bytes += manifest.length;
            let visit = |entry: &Entry<'_>| each(entry, manifest, spec, &mut pruner, left);
            let read = manifest::entries(self.reader(&file, cancel)?, memory, visit);
            self.told(&file, read)?;
        }
        Ok(())
    }

    /// Goes through the entries of a manifest whose partitions may hold a wanted row: those that are known, or else those that are read.
    pub(crate) fn look_through(
        &self,
        (manifest, left): (&Manifest, &mut Left),
        pruner: &Pruner<'_>,
        verdicts: &Verdicts,
        (memory, cancel): (&Arc<dyn ScanMemory>, &CancellationToken),
        each: &mut Each<'_>,
    ) -> Result<Looked> {
        let may = manifest.files() != Some(0) && pruner.manifest_may(manifest.partitions.as_deref());
        left.manifests.count(may);
        if !may {
            return Ok(Looked::default());
        }
        let file = self.stored(&manifest.path, manifest.length)?;
        let asks = pruner.asks_partitions();
        let mut decide = |shape: &EntryShape, values: &[u8]| match asks {
            true => pruner.partition_values_may(shape, values),
            false => Ok(true),
        };
        if let Some(own) = self.decoded.decoded(&file.path, manifest.length) {
            let looked = decoded::known(&own, verdicts, &mut decide, each);
            if let Some(looked) = looked.map_err(|what| self.wrong(&file, what))? {
                return Ok(looked);
            }
        }
        left.bytes += manifest.length;
        let kept = (self.decoded.as_ref(), file.path.as_path(), manifest.length);
        let read = decoded::read(self.reader(&file, cancel)?, memory, kept, verdicts, (&mut decide, each));
        self.told(&file, read)
    }

    /// The files of a manifest that may hold wanted rows.
    fn files_left(
        &self,
        (manifest, left): (&Manifest, &mut Left),
        (schema, question): (&Schema, &Question),
        verdicts: &BTreeMap<i32, Verdicts>,
        tools: (&Arc<dyn ScanMemory>, &CancellationToken),
        gathered: &Gathered,
    ) -> Result<()> {
        let spec = self.spec(manifest.spec)?;
        let pruner = Pruner::new(question, spec, schema);
        let (mut files, mut bounded, mut of_partition) = (Vec::new(), Parts::default(), OfPartition::default());
        let mut each = |entry: &Entry<'_>| {
            if entry.content != Content::Rows {
                return Err("a manifest of rows names a file of deleted ones".into());
            }
            let certain = pruner.certain(entry, &mut of_partition)?;
            bounded.count(certain.is_some());
            let Some(certain) = certain else { return Ok(()) };
            let sequence = entry.sequence_in(manifest);
            files.push(DataFile {
                path: entry.path.to_owned(),
                stored: self.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?,
                format: entry.format.to_ascii_lowercase(),
                rows: entry.rows,
                sequence,
                constants: constants(entry, spec, schema)?,
                certain,
                gone: gathered.of(entry, spec, sequence)?,
            });
            Ok(())
        };
        let verdicts = verdicts.get(&manifest.spec).ok_or_else(|| Error::internal("a partitioning has no verdicts"))?;
        let looked = self.look_through((manifest, left), &pruner, verdicts, tools, &mut each)?;
        left.partitioned.add(Parts { read: looked.left, total: looked.all });
        left.bounded.add(bounded);
        left.files.extend(files);
        Ok(())
    }

    /// The files of a snapshot that may hold wanted rows, with what tells of rows in them that are gone.
    pub fn left(
        &self,
        snapshot: &Snapshot,
        schema: i32,
        question: &Question,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Left> {
        let schema = self.metadata.schema(schema).map_err(|what| self.wrong(&self.file, what))?;
        let manifests = self.manifests(snapshot, memory, cancel)?;
        let (deletes, rows): (Vec<&Manifest>, Vec<&Manifest>) = manifests.iter().partition(|m| m.of_deletes);
        let (mut left, mut gathered) = (Left::default(), Gathered::default());
        let (asked, tools) = ((schema, question), (memory, cancel));
        let verdicts: BTreeMap<i32, Verdicts> =
            self.metadata.specs.iter().map(|spec| (spec.id, Verdicts::default())).collect();
        for manifest in deletes {
            let spec = self.spec(manifest.spec)?;
            let pruner = Pruner::new(question, spec, schema);
            let mut each = |entry: &Entry<'_>| {
                let may = match entry.content {
                    // What other columns have beside the values that tell rows decides nothing.
                    Content::GoneValues => pruner.bounds_may(entry, Some(&entry.equality_ids()?))?,
                    // Bounds of a file with places are those of paths.
                    _ => true,
                };
                if may {
                    let stored = self.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?;
                    gathered.take(entry, spec, stored, entry.sequence_in(manifest))?;
                }
                Ok(())
            };
            let own = verdicts.get(&manifest.spec);
            let own = own.ok_or_else(|| Error::internal("a partitioning has no verdicts"))?;
            let looked = self.look_through((manifest, &mut left), &pruner, own, tools, &mut each)?;
            left.deletes.total += looked.all;
        }
        // Each manifest by itself, several at a time: to wait for one is not to wait for all.
        let one = |manifest: &&Manifest| {
            let mut own = Left::default();
            self.files_left((manifest, &mut own), asked, &verdicts, tools, &gathered)?;
            Ok(own)
        };
        for own in at_once(&rows, one) {
            let own = own?;
            left.manifests.add(own.manifests);
            left.partitioned.add(own.partitioned);
            left.bounded.add(own.bounded);
            left.bytes += own.bytes;
            left.files.extend(own.files);
        }
        left.gone = gathered.of_files(left.files.iter_mut().map(|file| &mut file.gone));
        left.deletes.read =
            (left.gone.places.len() + left.gone.values.iter().map(|group| group.files.len()).sum::<usize>()) as u64;
        Ok(left)
    }
}

/// Values of columns that partitions are made of as they are.
fn constants(entry: &Entry<'_>, spec: &Spec, schema: &Schema) -> Told<Vec<(i32, Value)>> {
    if spec.fields.iter().all(|field| field.transform != Transform::Identity) {
        return Ok(vec![]);
    }
    let values = entry.partition_values(spec, schema)?;
    let own = spec.fields.iter().zip(values).filter(|(field, _)| field.transform == Transform::Identity);
    Ok(own.map(|(field, value)| (field.source, value)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_metadata_file_is_found_by_its_number() {
        for (name, version) in [
            ("v3.metadata.json", Some(3)),
            ("00012-0b7f.metadata.json", Some(12)),
            ("v7.gz.metadata.json", Some(7)),
            ("00003-0b7f.metadata.json.gz", Some(3)),
            ("version-hint.text", None),
            ("snap-12.avro", None),
            ("x.metadata.json", None),
        ] {
            assert_eq!(version_in(name), version, "{name}");
        }
    }
}
