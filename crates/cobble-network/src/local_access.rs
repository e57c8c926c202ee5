//! How the command signs in at a service that the same user of the operating system has started on this machine: the service leaves its
//! operator's token in a file that only this user can read, under the port that it listens on, and holds a lock on the file while it runs.

use std::fs::{DirBuilder, File, Metadata, OpenOptions, TryLockError};
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Longest token that is read.
const LONGEST: u64 = 1_000;
/// `open` follows no link.
const NO_FOLLOW: i32 = 0o400_000;

/// The folders that may hold the files: that of the session (XDG Base Directory Specification), the user's own, or one for all users.
fn folders() -> Vec<PathBuf> {
    let named = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let session = named("XDG_RUNTIME_DIR").map(|folder| folder.join("cobble-lane"));
    let own = named("HOME").map(|folder| folder.join(".local/state/cobble-lane"));
    let shared = own_id().ok().map(|id| std::env::temp_dir().join(format!("cobble-lane-{id}")));
    [session, own, shared].into_iter().flatten().collect()
}

fn own_id() -> io::Result<u32> {
    Ok(std::fs::metadata("/proc/self")?.uid())
}

/// Whether nobody else can have written here, or can read.
fn is_private(found: &Metadata) -> bool {
    own_id().is_ok_and(|id| found.uid() == id) && found.mode() & 0o077 == 0
}

/// Makes a folder that is only for this user, unless there is one.
fn prepare(folder: &Path) -> io::Result<()> {
    if let Some(parent) = folder.parent() {
        std::fs::create_dir_all(parent)?;
    }
    match DirBuilder::new().mode(0o700).create(folder) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => Err(error),
        _ => match std::fs::symlink_metadata(folder)? {
            found if found.is_dir() && is_private(&found) => Ok(()),
            _ => Err(io::Error::other(format!("{} is not only for this user", folder.display()))),
        },
    }
}

/// A token that is there for the command for as long as this is held.
#[derive(Debug)]
pub struct Left {
    path: PathBuf,
    _locked: File,
}

impl Drop for Left {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

/// Leaves the token of the service on this port of the loopback address.
///
/// # Errors
/// There is no folder that only this user can read; the command then has to be given the token.
pub fn leave(port: u16, token: &str) -> io::Result<Left> {
    let mut last = io::Error::other("there is no folder for it");
    for folder in folders() {
        match prepare(&folder).and_then(|()| leave_at(folder.join(port.to_string()), token)) {
            Ok(left) => return Ok(left),
            Err(error) => last = error,
        }
    }
    Err(last)
}

fn leave_at(path: PathBuf, token: &str) -> io::Result<Left> {
    let mut options = OpenOptions::new();
    let options = options.write(true).create(true).truncate(false).mode(0o600).custom_flags(NO_FOLLOW);
    let mut file = options.open(&path)?;
    let found = file.metadata()?;
    if !found.is_file() || !is_private(&found) {
        return Err(io::Error::other(format!("{} is not only for this user", path.display())));
    }
    file.lock()?;
    file.set_len(0)?;
    file.write_all(token.as_bytes())?;
    Ok(Left { path, _locked: file })
}

/// The token of the service that this user has running on a port, if there is one.
pub fn token(port: u16) -> Option<String> {
    let is_own = |folder: &PathBuf| folder.symlink_metadata().is_ok_and(|found| found.is_dir() && is_private(&found));
    let own = folders().into_iter().filter(is_own);
    own.filter_map(|folder| token_at(&folder.join(port.to_string())).ok().flatten()).next()
}

fn token_at(path: &Path) -> io::Result<Option<String>> {
    let file = OpenOptions::new().read(true).custom_flags(NO_FOLLOW).open(path)?;
    let found = file.metadata()?;
    if !found.is_file() || !is_private(&found) {
        return Ok(None);
    }
    match file.try_lock_shared() {
        // Held by the service that it belongs to.
        Err(TryLockError::WouldBlock) => {}
        Err(TryLockError::Error(error)) => return Err(error),
        // That one has ended without tidying up, and whoever listens on the port now is another one.
        Ok(()) => return Ok(None),
    }
    let mut text = String::new();
    file.take(LONGEST).read_to_string(&mut text)?;
    Ok(Some(text.trim().to_owned()).filter(|token| !token.is_empty()))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_token_is_found_while_it_is_left_and_only_by_its_user() {
        let folder = tempfile::tempdir().unwrap();
        let own = folder.path().join("own");
        prepare(&own).unwrap();
        let path = own.join("7300");
        assert!(token_at(&path).is_err(), "nothing is there yet");
        let left = leave_at(path.clone(), "spring-tide").unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        assert_eq!(token_at(&path).unwrap().as_deref(), Some("spring-tide"));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert_eq!(token_at(&path).unwrap(), None, "others could have read it");
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        drop(left);
        assert!(!path.exists());

        // A service that was killed leaves its file, and its lock is gone.
        std::fs::write(&path, "neap-tide").unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        assert_eq!(token_at(&path).unwrap(), None);
        let again = leave_at(path.clone(), "ebb").unwrap();
        assert_eq!(token_at(&path).unwrap().as_deref(), Some("ebb"));
        drop(again);

        // Neither a link nor a folder that others can reach into is used.
        std::os::unix::fs::symlink("/etc/hostname", &path).unwrap();
        assert!(token_at(&path).is_err() && leave_at(path.clone(), "flood").is_err());
        std::fs::set_permissions(&own, std::fs::Permissions::from_mode(0o755)).unwrap();
        assert!(prepare(&own).is_err());
    }
}
