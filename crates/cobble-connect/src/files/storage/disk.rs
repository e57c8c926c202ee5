//! Files of this machine: a folder, a single file or a pattern.

use std::fs::{File, Metadata};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Instant, SystemTime};

use bytes::Bytes;
use cobble_types::{Code, Result};
use tokio_util::sync::CancellationToken;

use super::{Blob, Entry, Storage};
use crate::connector::TestStep;
use crate::files::listing::{DataFile, hidden};
use crate::files::{changed, file_error, io_error};
use crate::server_steps::reporter;

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

    fn collect(&self, path: &Path, names: &mut Vec<String>, into: &mut Vec<Entry>) -> Result<()> {
        let metadata = std::fs::metadata(path).map_err(|e| io_error(&self.connection, path, &e))?;
        if metadata.is_file() {
            let version = version(&metadata);
            into.push(Entry { path: path.to_owned(), names: names.clone(), bytes: metadata.len(), version });
            return Ok(());
        }
        if names.len() > DEPTH {
            return Ok(());
        }
        let mut entries: Vec<PathBuf> = std::fs::read_dir(path)
            .map_err(|e| io_error(&self.connection, path, &e))?
            .filter_map(|entry| entry.ok().map(|e| e.path()))
            .collect();
        entries.sort();
        for entry in entries {
            let name = entry.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            if hidden(&name) {
                continue;
            }
            names.push(name);
            self.collect(&entry, names, into)?;
            names.pop();
        }
        Ok(())
    }

    /// All files that a pattern matches, and those in folders that it matches.
    fn matching(&self, pattern: &str) -> Result<Vec<Entry>> {
        let paths = glob::glob(pattern).map_err(|e| {
            file_error(&self.connection, &self.address, Code::BadSetting, format!("not a pattern: {e}"))
        })?;
        // The table is named for the last folder without a wildcard.
        let fixed: PathBuf = self
            .address
            .components()
            .take_while(|c| !c.as_os_str().to_string_lossy().contains(['*', '?', '[']))
            .collect();
        let table = fixed.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let mut found = Vec::new();
        for path in paths.flatten() {
            let own = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            if !hidden(&own) {
                self.collect(&path, &mut vec![table.clone(), own], &mut found)?;
            }
        }
        if found.is_empty() {
            return Err(file_error(&self.connection, &self.address, Code::NotFound, "no data file matches")
                .hint(format!("files that end in {} count", crate::files::format::ENDINGS)));
        }
        Ok(found)
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

    fn list(&self) -> Result<Vec<Entry>> {
        let text = self.address.to_string_lossy();
        if text.contains(['*', '?', '[']) {
            return self.matching(&text);
        }
        let metadata = std::fs::metadata(&self.address).map_err(|e| io_error(&self.connection, &self.address, &e))?;
        let mut names = Vec::new();
        if metadata.is_file() {
            names.push(self.address.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default());
        }
        let mut found = Vec::new();
        self.collect(&self.address, &mut names, &mut found)?;
        Ok(found)
    }

    fn open(&self, file: &DataFile, _: &CancellationToken) -> Result<Arc<dyn Blob>> {
        let open = File::open(&file.path).map_err(|e| io_error(&self.connection, &file.path, &e))?;
        let metadata = open.metadata().map_err(|e| io_error(&self.connection, &file.path, &e))?;
        if version(&metadata) != file.version {
            return Err(changed(&self.connection, &file.path));
        }
        Ok(Arc::new(DiskFile { file: open, bytes: file.bytes }))
    }

    fn reach(&self, report: &mut (dyn FnMut(TestStep) + Send)) -> bool {
        let started = Instant::now();
        let listed = self.list().map(|_| format!("{} is there", self.address()));
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
