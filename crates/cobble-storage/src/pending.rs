//! Files that come to stand in a folder together, and what is left of those that never did. The files of one statement have one name, each in a
//! folder of its own below the table's. As long as a mark for this name stands in the table's folder, listings leave them out: the mark is
//! made before the first file is moved to its place, and removing it shows all of them at once. Whoever stops in between leaves the mark.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

/// What the names of marks begin with; the name of the files follows.
const MARK: &str = ".pending-";
/// What the names of folders begin with that are being written.
const WRITING: &str = ".writing-";
/// Held by the writer of such a folder.
const LOCK: &str = ".lock";

/// The name of the files that a mark leaves out.
pub fn marked(name: &str) -> Option<&str> {
    name.strip_prefix(MARK)
}

/// Makes what was changed in a folder last.
pub fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Files that are being moved to their places. Dropped before they have been shown, they go.
#[derive(Debug)]
pub struct Pending {
    folder: PathBuf,
    mark: PathBuf,
    /// Locked as long as the writer lives.
    _lock: File,
    moved: Vec<PathBuf>,
    shown: bool,
}

impl Pending {
    /// Marks the name of the files that are to be moved below a table's folder.
    pub fn begin(folder: &Path, name: &str) -> io::Result<Pending> {
        let mark = folder.join(format!("{MARK}{name}"));
        let lock = OpenOptions::new().write(true).create_new(true).open(&mark)?;
        lock.lock()?;
        lock.sync_all()?;
        sync_folder(folder)?;
        Ok(Pending { folder: folder.to_owned(), mark, _lock: lock, moved: vec![], shown: false })
    }

    /// Moves a complete file to its place, in a folder that is made for it.
    pub fn put(&mut self, from: &Path, to: &Path) -> io::Result<()> {
        let folder = to.parent().unwrap_or(&self.folder);
        let missing: Vec<&Path> = folder.ancestors().take_while(|above| !above.exists()).collect();
        fs::create_dir_all(folder)?;
        self.moved.push(to.to_owned());
        fs::rename(from, to)?;
        sync_folder(folder)?;
        missing.iter().filter_map(|made| made.parent()).try_for_each(sync_folder)
    }

    /// Shows all of them.
    pub fn show(mut self) -> io::Result<()> {
        fs::remove_file(&self.mark)?;
        self.shown = true;
        sync_folder(&self.folder)
    }
}

impl Drop for Pending {
    fn drop(&mut self) {
        if !self.shown {
            let all_gone = self.moved.iter().all(|path| gone(fs::remove_file(path)));
            if all_gone {
                let _ = fs::remove_file(&self.mark);
            }
        }
    }
}

fn gone(removed: io::Result<()>) -> bool {
    removed.as_ref().err().is_none_or(|e| e.kind() == io::ErrorKind::NotFound)
}

/// A hidden folder in which files are written before they are shown. Dropped, it goes with what is left in it.
#[derive(Debug)]
pub struct Writing {
    pub folder: PathBuf,
    _lock: File,
}

impl Writing {
    pub fn begin(within: &Path, unique: &str) -> io::Result<Writing> {
        let folder = within.join(format!("{WRITING}{unique}"));
        fs::create_dir_all(&folder)?;
        let lock = File::create_new(folder.join(LOCK))?;
        lock.lock()?;
        Ok(Writing { folder, _lock: lock })
    }

    /// Shows the whole folder under a name, by one move.
    pub fn show_as(&self, place: &Path) -> io::Result<()> {
        let _ = fs::remove_file(self.folder.join(LOCK));
        fs::rename(&self.folder, place)?;
        place.parent().map_or(Ok(()), sync_folder)
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        // What cannot be removed stays hidden.
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Removes from a folder of tables what writers have left that have stopped in the middle. Says how much that was. It is for the start: a
/// writer that has only just begun could be taken for one that has stopped.
pub fn sweep(folder: &Path) -> io::Result<usize> {
    let mut removed = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if !entry.file_type()?.is_dir() {
            continue;
        }
        let path = entry.path();
        if entry.file_name().to_string_lossy().starts_with(WRITING) {
            if is_left(&path.join(LOCK)) || (!path.join(LOCK).exists() && is_of_nobody(&path)) {
                fs::remove_dir_all(&path)?;
                removed += 1;
            }
            continue;
        }
        // A folder that cannot be read keeps nothing else from being tidied.
        for mark in fs::read_dir(&path).into_iter().flatten().flatten() {
            let name = mark.file_name().to_string_lossy().into_owned();
            if let Some(file) = marked(&name)
                && is_left(&mark.path())
            {
                remove_named(&path, file)?;
                fs::remove_file(mark.path())?;
                sync_folder(&path)?;
                removed += 1;
            }
        }
    }
    Ok(removed)
}

/// Whether the process is gone whose number stands in the name of a folder that it has begun and not locked yet.
fn is_of_nobody(folder: &Path) -> bool {
    let name = folder.file_name().unwrap_or_default().to_string_lossy();
    let number = name.split('-').nth(2).and_then(|hex| u32::from_str_radix(hex, 16).ok());
    number.is_some_and(|number| !Path::new(&format!("/proc/{number}")).exists())
}

/// Whether nobody holds the lock any more. A folder without one is of a writer that has only begun, or was just shown.
fn is_left(lock: &Path) -> bool {
    File::open(lock).is_ok_and(|file| file.try_lock().is_ok())
}

/// Removes the files of a name below a folder, following no link.
fn remove_named(folder: &Path, name: &str) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            remove_named(&entry.path(), name)?;
        } else if kind.is_file() && entry.file_name().to_string_lossy() == name {
            fs::remove_file(entry.path())?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Disk, Storage};

    fn listed(folder: &Path) -> Vec<String> {
        let disk = Disk::new("quay", &folder.display().to_string());
        disk.list().unwrap().entries.iter().map(|entry| entry.names.join("/")).collect()
    }

    #[test]
    fn files_show_together_and_those_that_never_did_are_swept() {
        let folder = tempfile::tempdir().unwrap();
        let (table, other) = (folder.path().join("tides"), folder.path().join("other"));
        [&table, &other].into_iter().for_each(|path| fs::create_dir(path).unwrap());
        fs::write(table.join("old.csv"), "n\n1\n").unwrap();
        fs::write(other.join("part-7.csv"), "n\n1\n").unwrap();
        let before = ["other/part-7.csv", "tides/old.csv"];
        let writing = Writing::begin(folder.path(), "7").unwrap();
        let write = |name: &str| {
            fs::write(writing.folder.join(name), "n\n2\n").unwrap();
            writing.folder.join(name)
        };
        let moving = |pending: &mut Pending| {
            for day in ["day=1", "day=2"] {
                pending.put(&write(day), &table.join(day).join("part-7.csv")).unwrap();
                assert_eq!(listed(folder.path()), before, "nothing of it shows yet");
            }
        };
        // Killed before it had its lock; the other one has only begun.
        let own = format!(".writing-1-{:x}-0", std::process::id());
        for name in [".writing-1-fffffff-0", own.as_str()] {
            fs::create_dir(folder.path().join(name)).unwrap();
        }
        assert_eq!(sweep(folder.path()).unwrap(), 1);
        fs::remove_dir(folder.path().join(own)).unwrap();
        // Given up, it leaves nothing.
        let mut pending = Pending::begin(&table, "part-7.csv").unwrap();
        moving(&mut pending);
        assert_eq!(sweep(folder.path()).unwrap(), 0, "it is somebody's");
        drop(pending);
        assert_eq!(listed(folder.path()), before);
        assert!(!table.join(".pending-part-7.csv").exists());
        // Shown, it is all there.
        let mut pending = Pending::begin(&table, "part-7.csv").unwrap();
        moving(&mut pending);
        pending.show().unwrap();
        let after = ["other/part-7.csv", "tides/day=1/part-7.csv", "tides/day=2/part-7.csv", "tides/old.csv"];
        assert_eq!(listed(folder.path()), after);
        // A writer that was killed leaves its mark, and its files do not show.
        fs::write(table.join(".pending-part-8.csv"), "").unwrap();
        fs::write(table.join("day=2/part-8.csv"), "n\n3\n").unwrap();
        fs::create_dir(folder.path().join(".writing-8")).unwrap();
        fs::write(folder.path().join(".writing-8/.lock"), "").unwrap();
        assert_eq!(listed(folder.path()), after);
        assert_eq!(sweep(folder.path()).unwrap(), 2);
        assert!(writing.folder.exists(), "the folder of a living writer stays");
        assert!(!table.join("day=2/part-8.csv").exists() && !folder.path().join(".writing-8").exists());
        assert_eq!(listed(folder.path()), after);
        writing.show_as(&folder.path().join("made")).unwrap();
        assert!(!folder.path().join("made/.lock").exists());
    }
}
