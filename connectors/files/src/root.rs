//! Where a connection writes its tables: a folder of this machine, or a bucket.

use std::path::{Path, PathBuf};

use cobble_connect::TableChange;
use cobble_network::roots;
use cobble_types::{Code, Error, Result};

use super::FilesSource;
use super::in_bucket;
use super::in_folder::{self, InFolder};
use super::write::Place;

pub enum Root<'s> {
    Folder(&'s Path),
    Bucket(&'s FilesSource),
}

impl Root<'_> {
    /// Where the files of a table are.
    pub fn table(&self, table: &str) -> Result<PathBuf> {
        match self {
            Root::Folder(folder) => Ok(folder.join(table)),
            Root::Bucket(source) => {
                let within = source.storage.at(&[table.to_owned(), "part".to_owned()], 0)?.path;
                Ok(within.parent().map(Path::to_owned).unwrap_or_default())
            }
        }
    }

    /// Whether something else than a table is at its place.
    pub fn is_taken(&self, place: &Path) -> bool {
        matches!(self, Root::Folder(_)) && place.exists()
    }

    /// Gets ready to take the files of one statement, whose names begin with a mark.
    pub fn begin(&self, source: &FilesSource, table: &str, mark: &str, create: bool) -> Result<Box<dyn Place>> {
        match self {
            Root::Folder(folder) => {
                roots::checked(&source.connection, &folder.join(table))?;
                Ok(Box::new(InFolder::begin(&source.connection, folder, table, mark, create)?))
            }
            Root::Bucket(source) => Ok(Box::new(in_bucket::InBucket::begin(source, table, mark, create)?)),
        }
    }

    pub fn change_table(&self, source: &FilesSource, table: &str, change: TableChange) -> Result<()> {
        if change == TableChange::Truncate {
            let what = "files without rows are no table, so none is emptied".to_owned();
            return Err(Error::new(Code::Unsupported, format!("connection {}: {what}", source.connection))
                .hint("drop the table and create it again"));
        }
        match self {
            Root::Folder(folder) => in_folder::drop_table(source, folder, table),
            Root::Bucket(source) => in_bucket::drop_table(source, table),
        }
    }

    /// Removes what writers have left that were stopped.
    pub fn sweep(&self, source: &FilesSource) -> Result<usize> {
        match self {
            Root::Folder(folder) => cobble_storage::pending::sweep(folder)
                .map_err(|e| cobble_storage::io_error(&source.connection, folder, &e)),
            Root::Bucket(source) => in_bucket::sweep(source),
        }
    }
}
