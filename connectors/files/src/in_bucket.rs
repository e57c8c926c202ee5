//! Tables in a bucket. Objects are put one after another, each whole; as long as a mark stands in the table's folder, listings of this service leave
//! them out, and removing the mark shows all of them at once. A statement that adds one object needs no mark.

use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use cobble_plan::scan::ScanMemory;
use cobble_storage::marks::{self, HIDES_ALL, MAKING};
use cobble_storage::{Condition, Storage, StoredFile, files_below, io_error, unique};
use cobble_types::{Code, Error, Result};
use tokio_util::sync::CancellationToken;

use super::FilesSource;
use super::listing;
use super::write::{Complete, Place};

/// Bytes after which the next object begins: each is held in memory as a whole while it is sent.
const FILE_BYTES: usize = 64 << 20;
/// How often a store is asked about a mark.
const TRIES: u32 = 5;
/// A mark that is older is that of a writer that was stopped: in milliseconds.
const LEFT: i64 = 6 * 3600 * 1000;

pub struct InBucket {
    connection: String,
    storage: Arc<dyn Storage>,
    table: String,
    mark: String,
    create: bool,
    working: tempfile::TempDir,
}

/// A mark that stands; dropped, it stays.
struct Standing<'s> {
    storage: &'s dyn Storage,
    folder: Vec<String>,
    name: String,
    file: StoredFile,
}

impl Standing<'_> {
    fn put<'s>(storage: &'s dyn Storage, table: &str, name: &str) -> Result<Standing<'s>> {
        let folder = vec![table.to_owned()];
        let names = [folder.as_slice(), &[name.to_owned()]].concat();
        let own = bytes::Bytes::from(unique());
        let standing = |file| Standing { storage, folder: folder.clone(), name: name.to_owned(), file };
        match storage.put(&names, own.clone(), &Condition::Absent) {
            Ok(file) => Ok(standing(file)),
            Err(error) => {
                // The store may have taken it and lost the answer.
                let file = storage.at(&names, own.len() as u64)?;
                let there = |_| {
                    storage
                        .open(&file, &CancellationToken::new())?
                        .read(0, own.len())
                        .map_err(|e| io_error("", &file.path, &e))
                };
                match tried(there) {
                    Ok(found) if found == own => Ok(standing(file)),
                    _ => Err(error),
                }
            }
        }
    }

    /// Removes the mark, and finds out whether it has gone where the store does not say.
    fn remove(&self) -> Result<()> {
        tried(|_| match self.storage.delete(&self.file) {
            Ok(()) => Ok(()),
            Err(error) => match self.storage.look(&self.folder) {
                Ok(found) if found.files.iter().all(|file| file.name() != self.name) => Ok(()),
                _ => Err(error),
            },
        })
    }
}

/// Asks a store again that does not answer.
fn tried<T>(ask: impl Fn(u32) -> Result<T>) -> Result<T> {
    let mut attempt = 1;
    loop {
        match ask(attempt) {
            Err(_) if attempt < TRIES => std::thread::sleep(Duration::from_millis(50 << attempt)),
            outcome => return outcome,
        }
        attempt += 1;
    }
}

impl InBucket {
    pub fn begin(source: &FilesSource, table: &str, mark: &str, create: bool) -> Result<InBucket> {
        let working = tempfile::tempdir().map_err(|e| io_error(&source.connection, &std::env::temp_dir(), &e))?;
        Ok(InBucket {
            connection: source.connection.clone(),
            storage: source.storage.clone(),
            table: table.to_owned(),
            mark: mark.to_owned(),
            create,
            working,
        })
    }

    fn put(&self, file: &Complete, memory: &Arc<dyn ScanMemory>) -> Result<()> {
        let failed = |e: std::io::Error| io_error(&self.connection, &file.path, &e);
        let bytes = fs::metadata(&file.path).map_err(failed)?.len();
        let _room = memory.take(bytes)?;
        let content = fs::read(&file.path).map_err(failed)?;
        match self.storage.put(&self.names(file), content.into(), &Condition::Absent) {
            // Nobody else has this name: an answer was lost, and it was put again.
            Err(error) if error.code == Code::AlreadyExists => Ok(()),
            outcome => outcome.map(drop),
        }
    }

    fn names(&self, file: &Complete) -> Vec<String> {
        [self.table.clone()].into_iter().chain(file.folders.clone()).chain([file.name.clone()]).collect()
    }

    /// Takes back what was put, or may have been; false where something may be left.
    fn take_back(&self, files: &[Complete]) -> bool {
        let gone = |file| tried(|_| self.storage.delete(&self.storage.at(&self.names(file), 0)?));
        files.iter().map(gone).filter(Result::is_err).count() == 0
    }
}

impl Place for InBucket {
    fn working(&self) -> &Path {
        self.working.path()
    }

    fn file_bytes(&self) -> usize {
        FILE_BYTES
    }

    fn show(&mut self, files: Vec<Complete>, memory: &Arc<dyn ScanMemory>) -> Result<()> {
        let storage = self.storage.as_ref();
        if !self.create {
            return match files.as_slice() {
                [] => Ok(()),
                [one] => self.put(one, memory).inspect_err(|_| {
                    let _ = self.take_back(&files);
                }),
                _ => self.put_hidden(&files, memory),
            };
        }
        let taken = |what: &str| Error::new(Code::AlreadyExists, format!("connection {}: {what}", self.connection));
        let making = Standing::put(storage, &self.table, MAKING).map_err(|error| match error.code {
            Code::AlreadyExists => taken(&format!("the table {} is being made by another statement", self.table))
                .hint("try it again; what a stopped statement has left goes after six hours, when the service starts"),
            _ => error,
        })?;
        // Somebody may have made it since it was looked at.
        let done = match self.has_objects() {
            Ok(true) => {
                Err(taken(&format!("there is a table {} already", self.table)).hint("INSERT INTO adds rows to it"))
            }
            Ok(false) => self.put_hidden(&files, memory),
            Err(error) => Err(error),
        };
        // Where it stays, only nobody else can make a table of this name.
        let _ = making.remove();
        done
    }
}

impl InBucket {
    /// Puts all of them below a mark, and removes that.
    fn put_hidden(&self, files: &[Complete], memory: &Arc<dyn ScanMemory>) -> Result<()> {
        let mark = Standing::put(self.storage.as_ref(), &self.table, &marks::hiding(&self.mark))?;
        let done = files.iter().try_for_each(|file| self.put(file, memory)).and_then(|()| mark.remove());
        // The mark goes last: until then nothing of it shows.
        if done.is_err() && self.take_back(files) {
            let _ = mark.remove();
        }
        done
    }

    /// Whether something besides marks lies in the table's folder.
    fn has_objects(&self) -> Result<bool> {
        let found = self.storage.look(std::slice::from_ref(&self.table))?;
        let is_mark = |name: &str| name == MAKING || marks::hidden_by(name).is_some();
        Ok(!found.folders.is_empty() || found.files.iter().any(|file| !is_mark(&file.name())))
    }
}

/// Hides the table by a mark, and removes its objects.
pub fn drop_table(source: &FilesSource, table: &str) -> Result<()> {
    let storage = source.storage.as_ref();
    let groups = listing::groups(storage)?;
    let Some(files) = groups.get(table) else {
        return Err(Error::unknown("table", table, groups.keys().map(String::as_str)));
    };
    if let [one] = files.as_slice()
        && one.entry.names.len() == 1
    {
        return storage.delete(&one.entry.file);
    }
    let Some(name) = files.first().and_then(|file| file.entry.names.first().cloned()) else { return Ok(()) };
    let mark = Standing::put(storage, &name, HIDES_ALL)?;
    for file in files_below(storage, &[name])? {
        if file.name() != HIDES_ALL {
            storage.delete(&file)?;
        }
    }
    mark.remove()
}

/// Removes what old marks hide, and the marks.
pub fn sweep(source: &FilesSource) -> Result<usize> {
    let storage = source.storage.as_ref();
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_millis() as i64;
    let mut removed = 0;
    for folder in storage.look(&[])?.folders {
        let found = storage.look(std::slice::from_ref(&folder))?;
        for (mark, changed) in found.files.iter().zip(&found.changed) {
            let hidden = marks::hidden_by(&mark.name());
            if now - changed <= LEFT || hidden.is_none() && mark.name() != MAKING {
                continue;
            }
            let hides = |name: &str| hidden.as_ref().is_some_and(|own| own.hides(name)) && name != mark.name();
            for file in files_below(storage, std::slice::from_ref(&folder))? {
                if hides(&file.name()) {
                    storage.delete(&file)?;
                }
            }
            storage.delete(mark)?;
            removed += 1;
        }
    }
    Ok(removed)
}
