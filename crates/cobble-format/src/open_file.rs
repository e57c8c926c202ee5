//! A file that a format reads: open, with what errors call it.

use std::error::Error as StdError;
use std::io::Read;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use arrow::datatypes::Field;
use arrow::error::ArrowError;
use cobble_plan::scan::ScanMemory;
use cobble_storage::{Blob, Ordered, StoredFile, file_error, own_error};
use cobble_types::{Code, Error, Result, SqlType};

use crate::Packing;

#[derive(Clone)]
pub struct OpenFile {
    /// The name of the connection, for errors.
    pub connection: String,
    pub file: StoredFile,
    pub blob: Arc<dyn Blob>,
    /// Counts the bytes that are read.
    pub read_bytes: Arc<AtomicU64>,
    /// Bytes of the longest record of a text file.
    pub longest_record: u64,
    /// What is read and not handed on yet is taken from it.
    pub memory: Arc<dyn ScanMemory>,
}

/// Bytes of the longest record unless a connection says otherwise.
pub const LONGEST_RECORD: u64 = 64 << 20;

impl OpenFile {
    /// The file from its start.
    pub fn ordered(&self) -> Ordered {
        Ordered::new(self.blob.clone(), self.read_bytes.clone())
    }

    /// A text file from its start, unpacked.
    pub fn unpacked(&self) -> Result<Box<dyn Read + Send>> {
        Packing::of(&self.file.path).unpacked(self.ordered()).map_err(|e| self.text_error(&e, e.to_string()))
    }

    pub fn error(&self, code: Code, what: impl std::fmt::Display) -> Error {
        file_error(&self.connection, &self.file.path, code, what)
    }

    /// What went wrong while a text file was read: with its storage, or with the text.
    pub fn text_error(&self, error: &(dyn StdError + 'static), what: String) -> Error {
        own_error(error).unwrap_or_else(|| self.error(Code::SourceData, what))
    }

    /// An error of a decoder: of the storage below it, or of what the file holds.
    pub fn broken(&self, format: &str, error: &(dyn StdError + 'static)) -> Error {
        own_error(error).unwrap_or_else(|| {
            self.error(Code::SourceData, format!("not readable as {format}: {error}"))
                .hint("the file may be cut short or still being written; write it again, or move it out of the folder")
        })
    }

    /// What a package makes of a file, whatever the file holds: where it takes something for granted that is not so, it stops.
    pub fn held<T>(&self, format: &str, work: impl FnOnce() -> Result<T>) -> Result<T> {
        std::panic::catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|_| {
            Err(self.broken(format, &ArrowError::ParseError("what it holds contradicts itself".into())))
        })
    }

    /// The engine's type for a column of the file.
    pub fn sql_type(&self, field: &Field) -> Result<SqlType> {
        SqlType::from_arrow(field.data_type()).ok_or_else(|| {
            let what =
                format!("column {} has the type {}, which the engine does not know", field.name(), field.data_type());
            self.error(Code::Unsupported, what)
        })
    }
}
