//! Files that only the service's own user may read: the sealing key, and the operator's token.

use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

use cobble_types::{Code, Error, Result};

fn bad(path: &Path, what: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("{}: {what}", path.display()))
}

/// The whole of a file; `None` where there is none. One that others may read is refused.
pub fn read(path: &Path) -> Result<Option<Vec<u8>>> {
    let bytes = match std::fs::read(path) {
        Err(e) if e.kind() == ErrorKind::NotFound => return Ok(None),
        other => other.map_err(|e| bad(path, e))?,
    };
    let mode = std::fs::metadata(path).map_err(|e| bad(path, e))?.permissions().mode();
    if mode & 0o077 != 0 {
        return Err(bad(path, "others may read it").hint(format!("chmod 600 {}", path.display())));
    }
    Ok(Some(bytes))
}

/// Writes a file as a whole: whenever the machine stops, either the old or the new one is there.
pub fn write(path: &Path, bytes: &[u8]) -> Result<()> {
    let written = path.with_extension("new");
    let made = (|| {
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&written)?;
        file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
        file.write_all(bytes)?;
        file.sync_all()?;
        std::fs::rename(&written, path)?;
        match path.parent() {
            Some(folder) => File::open(folder)?.sync_all(),
            None => Ok(()),
        }
    })();
    made.map_err(|e: std::io::Error| bad(path, e))
}
