//! Tables in a folder of this machine: files are written into a hidden folder beside the tables, and moved to their places when they are complete.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cobble_network::roots;
use cobble_plan::scan::ScanMemory;
use cobble_storage::pending::{Pending, Writing};
use cobble_storage::{io_error, unique};
use cobble_types::{Error, Result};

use super::FilesSource;
use super::listing;
use super::write::{Complete, Place, setting};

pub struct InFolder {
    connection: String,
    writing: Writing,
    /// The table's folder.
    place: PathBuf,
    create: bool,
}

impl InFolder {
    pub fn begin(connection: &str, folder: &Path, table: &str, mark: &str, create: bool) -> Result<InFolder> {
        let unique = mark.strip_prefix("part-").unwrap_or(mark);
        let writing = Writing::begin(folder, unique).map_err(|e| io_error(connection, folder, &e))?;
        Ok(InFolder { connection: connection.to_owned(), writing, place: folder.join(table), create })
    }
}

impl Place for InFolder {
    fn working(&self) -> &Path {
        &self.writing.folder
    }

    fn show(&mut self, files: Vec<Complete>, _: &Arc<dyn ScanMemory>) -> Result<()> {
        let (connection, place) = (self.connection.as_str(), self.place.as_path());
        if self.create {
            return self.writing.show_as(place).map_err(|e| io_error(connection, place, &e));
        }
        let Some(first) = files.first() else { return Ok(()) };
        let mut pending = Pending::begin(place, &first.name).map_err(|e| io_error(connection, place, &e))?;
        for file in files {
            let folder = file.folders.iter().fold(place.to_owned(), |path, name| path.join(name));
            roots::checked(connection, &folder)?;
            let target = folder.join(&file.name);
            pending.put(&file.path, &target).map_err(|e| io_error(connection, &target, &e))?;
        }
        pending.show().map_err(|e| io_error(connection, place, &e))
    }
}

/// Drops a table: its folder, or its file, is hidden by one move and then removed.
pub fn drop_table(source: &FilesSource, folder: &Path, table: &str) -> Result<()> {
    let connection = source.connection.as_str();
    let groups = listing::groups(source.storage.as_ref())?;
    let Some(files) = groups.get(table) else {
        return Err(Error::unknown("table", table, groups.keys().map(String::as_str)));
    };
    let place = folder.join(table);
    let place = match files.as_slice() {
        [one] if !one.entry.file.path.starts_with(&place) => one.entry.file.path.clone(),
        _ => place,
    };
    if place.parent() != Some(folder) {
        return Err(setting(
            connection,
            format!("{table} is not kept directly in the folder"),
            "remove its files there",
        ));
    }
    let hidden = folder.join(format!(".dropping-{}", unique()));
    fs::rename(&place, &hidden).map_err(|e| io_error(connection, &place, &e))?;
    let removed = if hidden.is_dir() { fs::remove_dir_all(&hidden) } else { fs::remove_file(&hidden) };
    removed.map_err(|e| io_error(connection, &hidden, &e))
}
