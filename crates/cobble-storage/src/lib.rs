//! Storage of files: a folder of this machine, a bucket of an S3 store, or files behind HTTP. All three list, open and read ranges; those
//! that can be written also put and delete, on condition of the version that is stored.

mod disk;
mod faults;
pub mod marks;
mod objects;
mod ordered;
pub mod pending;
mod pointers;

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::SystemTime;

use bytes::Bytes;
use cobble_network::TestStep;
use cobble_types::Result;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

pub use disk::Disk;
pub use faults::{changed, file_error, io_error, own_error};
pub use objects::{AccessKey, HttpAddress, Limits, Objects, S3Address, SignIn};
pub use ordered::Ordered;
pub use pointers::{MemoryPointers, Pointer, PointerName, Pointers, SchemaProperties, taken};

/// A file as it was listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredFile {
    /// The whole name, as it is shown and as it is opened.
    pub path: PathBuf,
    pub bytes: u64,
    /// Differs when the content does.
    pub version: String,
}

/// A file in a listing.
#[derive(Debug, Clone)]
pub struct Entry {
    pub file: StoredFile,
    /// The names of the folders below the address on the way to it, and its own.
    pub names: Vec<String>,
}

/// One folder.
#[derive(Debug, Default)]
pub struct Folder {
    /// In order of their names.
    pub folders: Vec<String>,
    pub files: Vec<StoredFile>,
    /// Of each of the files when it was changed last, in milliseconds since 1970-01-01 UTC.
    pub changed: Vec<i64>,
}

impl Folder {
    fn of(mut folders: Vec<String>, mut files: Vec<(StoredFile, i64)>) -> Folder {
        folders.sort();
        files.sort_by(|(a, _), (b, _)| a.path.cmp(&b.path));
        let (files, changed) = files.into_iter().unzip();
        Folder { folders, files, changed }
    }
}

impl StoredFile {
    /// Its own name.
    pub fn name(&self) -> String {
        self.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
    }
}

/// The version of a file of which no listing has told.
pub const ANY_VERSION: &str = "";

/// What must be so for a file to be put or deleted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    Always,
    /// There is no file of this name.
    Absent,
    /// The file has this version.
    Version(String),
}

pub trait Storage: Send + Sync + fmt::Debug {
    /// The address as it is shown.
    fn address(&self) -> String;
    /// All files below the address, in order of their names.
    fn list(&self) -> Result<Listing>;
    /// What lies in one folder below the address, hidden names too; a folder that is not there is empty.
    fn look(&self, folder: &[String]) -> Result<Folder>;
    /// A file of these names and so many bytes, of which no listing has told: whichever version is there is opened.
    fn at(&self, names: &[String], bytes: u64) -> Result<StoredFile>;
    /// The names below the address of what others call by a whole path or URL; none where it is elsewhere.
    fn names_of(&self, location: &str) -> Option<Vec<String>>;
    /// What others call a file or folder of these names.
    fn location_of(&self, names: &[String]) -> Result<String>;
    /// What other tools need to reach it, under the names that the open protocol for catalogs has for it; with the keys it is reached with, or without.
    fn for_others(&self, with_keys: bool) -> BTreeMap<String, String> {
        let _ = with_keys;
        BTreeMap::new()
    }
    /// Opens a file of a listing. An error if the file has changed since.
    fn open(&self, file: &StoredFile, cancel: &CancellationToken) -> Result<Arc<dyn Blob>>;
    /// Puts a file of these names below the address, whole or not at all; readers see the old one until it is complete.
    ///
    /// # Errors
    /// [`cobble_types::Code::AlreadyExists`], or that it has changed, when the condition does not hold, and then nothing has changed.
    fn put(&self, names: &[String], content: Bytes, condition: &Condition) -> Result<StoredFile>;
    /// Deletes a file of a listing; one that is not there is no error.
    fn delete(&self, file: &StoredFile) -> Result<()>;
    /// True once after a file was found to be another one than its listing says.
    fn has_changed(&self) -> bool {
        false
    }
    /// The way to the storage, step by step up to a listing; false when one failed.
    fn reach(&self, report: &mut (dyn FnMut(TestStep) + Send)) -> bool;
}

/// All files below a folder of a storage.
pub fn files_below(storage: &dyn Storage, folder: &[String]) -> Result<Vec<StoredFile>> {
    let (mut files, mut folders) = (Vec::new(), vec![folder.to_vec()]);
    while let Some(folder) = folders.pop() {
        let found = storage.look(&folder)?;
        folders.extend(found.folders.into_iter().map(|name| [folder.clone(), vec![name]].concat()));
        files.extend(found.files);
    }
    Ok(files)
}

/// What a listing has found, and what it has passed over.
#[derive(Debug, Default)]
pub struct Listing {
    pub entries: Vec<Entry>,
    /// Paths that were passed over, with the reasons; the first ones.
    pub skipped: Vec<(PathBuf, String)>,
    /// How many there were.
    pub skips: usize,
}

/// So many are named.
const NAMED: usize = 20;

impl Listing {
    pub fn skip(&mut self, path: &Path, why: &str) {
        if self.skipped.len() < NAMED {
            self.skipped.push((path.to_owned(), why.to_owned()));
        }
        self.skips += 1;
    }

    /// As the end of a sentence.
    pub fn passed_over(&self) -> String {
        let named: Vec<String> =
            self.skipped.iter().take(3).map(|(path, why)| format!("{} ({why})", path.display())).collect();
        match self.skips {
            0 => String::new(),
            all if all > named.len() => format!("; passed over {} and {} more", named.join(", "), all - named.len()),
            _ => format!("; passed over {}", named.join(", ")),
        }
    }
}

/// An open file.
pub trait Blob: Send + Sync {
    fn size(&self) -> u64;
    /// Exactly these bytes.
    fn read(&self, start: u64, length: usize) -> io::Result<Bytes>;
    /// Says which pieces will be read soon, as starts and lengths.
    fn soon(&self, _pieces: &[(u64, u64)]) {}
}

/// Names that begin so are not data.
pub fn is_hidden(name: &str) -> bool {
    name.is_empty() || name.starts_with(['.', '_'])
}

/// A mark that no other write of this or another process has.
pub fn unique() -> String {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_micros();
    format!("{now:x}-{:x}-{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed))
}
