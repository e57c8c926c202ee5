//! Files of this machine: a folder, a single file or a pattern.

use std::fs::{File, Metadata};
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::{Instant, SystemTime};

use bytes::Bytes;
use cobble_network::test_steps::reporter;
use cobble_network::{TestStep, roots};
use cobble_types::{Code, Error, Result};
use tokio_util::sync::CancellationToken;

use crate::{
    ANY_VERSION, Blob, Condition, Entry, Folder, Listing, Storage, StoredFile, changed, file_error, io_error,
    is_hidden, pending, unique,
};

/// So often is a listing begun again while its folders change.
const MOST_WALKS: u32 = 3;

/// Folders deeper than this below the address are not searched.
const DEPTH: usize = 12;

#[derive(Debug)]
pub struct Disk {
    connection: String,
    address: PathBuf,
}

impl Disk {
    pub fn new(connection: &str, address: &str) -> Disk {
        Disk { connection: connection.to_owned(), address: PathBuf::from(address) }
    }

    /// Lists what is at a path below the address, with names from there. What cannot be used is passed over and said: it does not keep the
    /// rest from being found. `above` are the real folders on the way, so that no link leads round in a circle.
    fn collect(&self, path: &Path, names: &mut Vec<String>, above: &mut Vec<PathBuf>, into: &mut Walk) {
        let looked = roots::real(path).and_then(|real| Ok((std::fs::metadata(&real)?, real)));
        let (metadata, real) = match looked {
            Ok(found) => found,
            // Gone since its folder was read, unless it is a link to nowhere.
            Err(e) if e.kind() == io::ErrorKind::NotFound && path.symlink_metadata().is_err() => return,
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                return into.found.skip(path, "a link to what is not there");
            }
            Err(e) => return into.found.skip(path, &e.to_string()),
        };
        if metadata.is_file() {
            let file = StoredFile { path: path.to_owned(), bytes: metadata.len(), version: version(&metadata) };
            return into.found.entries.push(Entry { file, names: names.clone() });
        }
        if !metadata.is_dir() {
            return into.found.skip(path, "neither a file nor a folder");
        }
        if above.contains(&real) {
            return into.found.skip(path, "a link to a folder that it is in");
        }
        if names.len() > DEPTH {
            return into.found.skip(path, "too deep below the address");
        }
        let read = std::fs::read_dir(&real);
        let mut entries: Vec<_> = match read {
            Ok(entries) => entries.filter_map(|entry| entry.ok().map(|e| e.file_name())).collect(),
            Err(e) if e.kind() == io::ErrorKind::NotFound => return,
            Err(e) => return into.found.skip(path, &e.to_string()),
        };
        entries.sort();
        into.read.push((real.clone(), metadata.modified().ok()));
        above.push(real);
        for entry in entries {
            let name = entry.to_string_lossy().into_owned();
            if let Some(file) = pending::marked(&name) {
                into.pending.push((path.to_owned(), file.to_owned()));
            }
            if is_hidden(&name) {
                continue;
            }
            names.push(name);
            self.collect(&path.join(&entry), names, above, into);
            names.pop();
        }
        above.pop();
    }

    /// Where a file of these names is. None of them leads out of the address.
    fn path_of(&self, names: &[String]) -> Result<PathBuf> {
        let is_plain = |name: &String| !name.is_empty() && *name != "." && *name != ".." && !name.contains(['/', '\0']);
        if names.is_empty() || !names.iter().all(is_plain) {
            let what = format!("connection {}: \"{}\" cannot be the name of a file", self.connection, names.join("/"));
            return Err(Error::new(Code::BadSetting, what).hint("give a path below the address, without . and .."));
        }
        Ok(names.iter().fold(self.address.clone(), |path, name| path.join(name)))
    }

    /// All files that a pattern matches, and those in folders that it matches.
    fn matching(&self, pattern: &str) -> Result<Listing> {
        let paths = glob::glob(pattern).map_err(|e| {
            file_error(&self.connection, &self.address, Code::BadSetting, format!("not a pattern: {e}"))
        })?;
        // The table is named for the last folder without a wildcard.
        let fixed: PathBuf = self
            .address
            .components()
            .take_while(|c| !c.as_os_str().to_string_lossy().contains(['*', '?', '[']))
            .collect();
        roots::checked(&self.connection, &fixed)?;
        if self.address.components().skip(fixed.components().count()).any(|part| part == Component::ParentDir) {
            let what = "it has .. behind a pattern";
            return Err(
                file_error(&self.connection, &self.address, Code::BadSetting, what).hint("write the folder out")
            );
        }
        let table = fixed.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let mut walk = Walk::default();
        for path in paths.flatten() {
            let own = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            if !is_hidden(&own) {
                self.collect(&path, &mut vec![table.clone(), own], &mut Vec::new(), &mut walk);
            }
        }
        let found = walk.shown();
        if found.entries.is_empty() && found.skipped.is_empty() {
            return Err(file_error(&self.connection, &self.address, Code::NotFound, "no file matches")
                .hint("check the pattern: * stands for what is within one name, ** for folders"));
        }
        Ok(found)
    }
}

/// A walk through folders.
#[derive(Default)]
struct Walk {
    found: Listing,
    /// Folders with the moment of their last change before they were read.
    read: Vec<(PathBuf, Option<SystemTime>)>,
    /// Folders and names of files below them that do not show yet.
    pending: Vec<(PathBuf, String)>,
}

impl Walk {
    fn is_still_so(&self) -> bool {
        self.read.iter().all(|(folder, at)| std::fs::metadata(folder).and_then(|now| now.modified()).ok() == *at)
    }

    fn shown(mut self) -> Listing {
        let is_pending = |path: &Path| {
            self.pending
                .iter()
                .any(|(folder, name)| path.starts_with(folder) && path.file_name() == Some(name.as_ref()))
        };
        self.found.entries.retain(|entry| !is_pending(&entry.file.path));
        self.found
    }
}

fn version(metadata: &Metadata) -> String {
    let time = metadata.modified().ok().and_then(|t| t.duration_since(SystemTime::UNIX_EPOCH).ok()).unwrap_or_default();
    format!("{}.{}", time.as_nanos(), metadata.len())
}

impl Storage for Disk {
    fn address(&self) -> String {
        self.address.display().to_string()
    }

    fn list(&self) -> Result<Listing> {
        let text = self.address.to_string_lossy();
        if text.contains(['*', '?', '[']) {
            return self.matching(&text);
        }
        let real = roots::checked(&self.connection, &self.address)?;
        let failed = |e| io_error(&self.connection, &self.address, &e);
        let metadata = std::fs::metadata(real).map_err(failed)?;
        if metadata.is_dir() {
            std::fs::read_dir(&self.address).map_err(failed)?;
        }
        let mut names = Vec::new();
        if metadata.is_file() {
            names.push(self.address.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default());
        }
        // Files that come while folders are read one after the other show all or not at all.
        let mut left = MOST_WALKS;
        loop {
            let mut walk = Walk::default();
            self.collect(&self.address, &mut names.clone(), &mut Vec::new(), &mut walk);
            left -= 1;
            if left == 0 || walk.is_still_so() {
                return Ok(walk.shown());
            }
        }
    }

    fn look(&self, folder: &[String]) -> Result<Folder> {
        let path = match folder {
            [] => self.address.clone(),
            names => self.path_of(names)?,
        };
        let failed = |e: io::Error| io_error(&self.connection, &path, &e);
        let real = roots::checked(&self.connection, &path)?;
        let (mut folders, mut files) = (Vec::new(), Vec::new());
        let entries = match std::fs::read_dir(&real) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Folder::default()),
            other => other.map_err(failed)?,
        };
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            // What goes while the folder is read, or leads out of it, is not there.
            let own = path.join(&name);
            let Ok(metadata) = roots::real(&own).and_then(std::fs::metadata) else { continue };
            if metadata.is_dir() {
                folders.push(name);
            } else if metadata.is_file() {
                let changed = metadata.modified().ok().and_then(|at| at.duration_since(SystemTime::UNIX_EPOCH).ok());
                let changed = i64::try_from(changed.unwrap_or_default().as_millis()).unwrap_or(i64::MAX);
                let file = StoredFile { path: own, bytes: metadata.len(), version: version(&metadata) };
                files.push((file, changed));
            }
        }
        Ok(Folder::of(folders, files))
    }

    fn at(&self, names: &[String], bytes: u64) -> Result<StoredFile> {
        Ok(StoredFile { path: self.path_of(names)?, bytes, version: ANY_VERSION.to_owned() })
    }

    fn names_of(&self, location: &str) -> Option<Vec<String>> {
        let path = location.strip_prefix("file:").map_or(location, |rest| rest.strip_prefix("//").unwrap_or(rest));
        let own = std::path::absolute(&self.address).unwrap_or_else(|_| self.address.clone());
        let below = Path::new(path).strip_prefix(&self.address).or_else(|_| Path::new(path).strip_prefix(&own)).ok()?;
        below.iter().map(|name| Some(name.to_str()?.to_owned())).collect()
    }

    fn location_of(&self, names: &[String]) -> Result<String> {
        let whole = std::path::absolute(&self.address).map_err(|e| io_error(&self.connection, &self.address, &e))?;
        Ok(format!("file://{}", names.iter().fold(whole, |path, name| path.join(name)).display()))
    }

    fn open(&self, file: &StoredFile, _: &CancellationToken) -> Result<Arc<dyn Blob>> {
        let open = roots::open(&file.path).map_err(|e| io_error(&self.connection, &file.path, &e))?;
        let metadata = open.metadata().map_err(|e| io_error(&self.connection, &file.path, &e))?;
        let is_other = match file.version.as_str() {
            ANY_VERSION => metadata.len() != file.bytes,
            known => version(&metadata) != known,
        };
        if is_other {
            return Err(changed(&self.connection, &file.path));
        }
        Ok(Arc::new(DiskFile { file: open, bytes: file.bytes }))
    }

    fn put(&self, names: &[String], content: Bytes, condition: &Condition) -> Result<StoredFile> {
        let path = self.path_of(names)?;
        let failed = |e: io::Error| io_error(&self.connection, &path, &e);
        let folder = path.parent().unwrap_or(&self.address);
        roots::checked(&self.connection, folder)?;
        std::fs::create_dir_all(folder).map_err(failed)?;
        let unfinished = folder.join(format!(".writing-{}", unique()));
        let put = || {
            let mut file = File::create_new(&unfinished).map_err(failed)?;
            file.write_all(&content).and_then(|()| file.sync_all()).map_err(failed)?;
            match condition {
                Condition::Always => std::fs::rename(&unfinished, &path).map_err(failed)?,
                // A link, unlike a move, never replaces what is there.
                Condition::Absent => std::fs::hard_link(&unfinished, &path).map_err(|e| match e.kind() {
                    io::ErrorKind::AlreadyExists => {
                        file_error(&self.connection, &path, Code::AlreadyExists, "there is a file of this name")
                    }
                    _ => failed(e),
                })?,
                Condition::Version(wanted) => {
                    // Held until the file has been moved: of two that know the same version, one comes first.
                    let lock = File::create(folder.join(".lock")).map_err(failed)?;
                    lock.lock().map_err(failed)?;
                    let known = std::fs::metadata(&path).map_err(failed)?;
                    if version(&known) != *wanted {
                        return Err(changed(&self.connection, &path));
                    }
                    std::fs::rename(&unfinished, &path).map_err(failed)?;
                }
            }
            File::open(folder).and_then(|folder| folder.sync_all()).map_err(failed)?;
            file.metadata().map_err(failed)
        };
        let outcome = put();
        // Gone already where it was moved.
        let _ = std::fs::remove_file(&unfinished);
        let metadata = outcome?;
        Ok(StoredFile { path: path.clone(), bytes: metadata.len(), version: version(&metadata) })
    }

    fn delete(&self, file: &StoredFile) -> Result<()> {
        match std::fs::remove_file(&file.path) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(io_error(&self.connection, &file.path, &e)),
            _ => Ok(()),
        }
    }

    fn reach(&self, report: &mut (dyn FnMut(TestStep) + Send)) -> bool {
        let started = Instant::now();
        let listed = self.list().map(|listing| format!("{} is there{}", self.address(), listing.passed_over()));
        reporter(report)("reach", started, listed, "address")
    }
}

struct DiskFile {
    file: File,
    bytes: u64,
}

impl Blob for DiskFile {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read(&self, start: u64, length: usize) -> io::Result<Bytes> {
        let mut buffer = vec![0; length];
        self.file.read_exact_at(&mut buffer, start)?;
        Ok(buffer.into())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(path: &str) -> Vec<String> {
        path.split('/').map(str::to_owned).collect()
    }

    fn content(disk: &Disk, file: &StoredFile) -> Result<Bytes> {
        let blob = disk.open(file, &CancellationToken::new())?;
        Ok(blob.read(0, blob.size() as usize).unwrap())
    }

    #[test]
    fn a_file_is_put_read_and_deleted() {
        let folder = tempfile::tempdir().unwrap();
        let disk = Disk::new("yard", &folder.path().display().to_string());
        let put =
            |content: &'static str, condition: &Condition| disk.put(&names("logs/one.txt"), content.into(), condition);
        let first = put("ebb", &Condition::Absent).unwrap();
        assert_eq!(content(&disk, &first).unwrap(), "ebb");
        assert_eq!(put("flood", &Condition::Absent).unwrap_err().code, Code::AlreadyExists);
        let second = put("flood", &Condition::Version(first.version.clone())).unwrap();
        // The version of before is not there any more: neither to be replaced nor to be read.
        assert_eq!(put("slack", &Condition::Version(first.version.clone())).unwrap_err().code, Code::SourceData);
        assert_eq!(content(&disk, &first).unwrap_err().code, Code::SourceData);
        assert_eq!(content(&disk, &second).unwrap(), "flood");
        let listed: Vec<String> = disk.list().unwrap().entries.iter().map(|entry| entry.names.join("/")).collect();
        assert_eq!(listed, ["logs/one.txt"], "nothing unfinished is left");
        disk.delete(&second).unwrap();
        disk.delete(&second).unwrap();
        assert!(disk.list().unwrap().entries.is_empty());
    }

    #[test]
    fn of_many_who_replace_one_version_one_succeeds() {
        let folder = tempfile::tempdir().unwrap();
        let disk = Disk::new("yard", &folder.path().display().to_string());
        let first = disk.put(&names("pointer"), "0".into(), &Condition::Absent).unwrap();
        let condition = Condition::Version(first.version);
        let outcomes: Vec<bool> = std::thread::scope(|scope| {
            let threads: Vec<_> = (1..=8)
                .map(|n| {
                    let (disk, condition) = (&disk, &condition);
                    // Of other lengths than the first one, so that versions differ however coarse the clock is.
                    scope.spawn(move || disk.put(&names("pointer"), format!("n{n}").into(), condition).is_ok())
                })
                .collect();
            threads.into_iter().map(|thread| thread.join().unwrap()).collect()
        });
        assert_eq!(outcomes.iter().filter(|done| **done).count(), 1);
    }

    #[test]
    fn no_name_leads_out_of_the_folder() {
        let disk = Disk::new("yard", "/nowhere");
        for path in ["../one", "a//b", ".", "a/..", ""] {
            let error = disk.put(&names(path), Bytes::new(), &Condition::Always).unwrap_err();
            assert_eq!(error.code, Code::BadSetting, "{path}");
        }
    }
}
