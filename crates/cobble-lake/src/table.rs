//! A table in a storage: its metadata file, and the files that the metadata name by whole paths.

use std::io::BufReader;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use bytes::Bytes;
use cobble_plan::scan::ScanMemory;
use cobble_storage::{Ordered, Storage, StoredFile, file_error, own_error};
use cobble_types::{Code, Error, Result};
use tokio_util::sync::CancellationToken;

use crate::catalog::{Current, TableCatalog, TableName};
use crate::commit::MAIN;
use crate::decoded::Manifests;
use crate::deletes::Gone;
use crate::manifest::{self, Entry};
use crate::manifest_list::{self, Manifest};
use crate::metadata::{MOST_BYTES, Metadata, Ref, RefKind, Snapshot, SnapshotFiles, Spec};
use crate::schema::{Field, Schema, Told};

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
    pub(crate) decoded: Arc<Manifests>,
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

    pub(crate) fn wrong(&self, file: &StoredFile, what: impl std::fmt::Display) -> Error {
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
        let read = self.told(&list, manifest_list::list(self.reader(&list, cancel)?, memory))?;
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
        for manifest in &self.manifests(snapshot, memory, cancel)? {
            if manifest.files() == Some(0) {
                continue;
            }
            let (spec, file) = (self.spec(manifest.spec)?, self.stored(&manifest.path, manifest.length)?);
            let read = manifest::entries(self.reader(&file, cancel)?, memory, |entry| each(entry, manifest, spec));
            self.told(&file, read)?;
        }
        Ok(())
    }
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
