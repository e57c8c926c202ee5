//! Errors about files, with the connection and the path.

use std::io::ErrorKind;
use std::path::Path;

use cobble_types::{Code, Error};

pub fn file_error(connection: &str, path: &Path, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {connection}: {}: {what}", path.display()))
}

/// A file that is not the one any more that was listed.
pub fn changed(connection: &str, path: &Path) -> Error {
    file_error(connection, path, Code::SourceData, "it was changed while the query was being made ready")
        .hint("run the query again; write new files beside old ones rather than over them")
}

pub fn io_error(connection: &str, path: &Path, error: &std::io::Error) -> Error {
    match error.kind() {
        ErrorKind::NotFound => file_error(connection, path, Code::NotFound, "there is no such file or folder")
            .hint("check the connection's address; a relative one starts at the folder where the service was started"),
        ErrorKind::PermissionDenied => file_error(connection, path, Code::SourceRefused, "reading is not allowed")
            .hint("give the user that runs the service the right to read it"),
        ErrorKind::StorageFull => file_error(connection, path, Code::Storage, "the disk is full; nothing was kept")
            .hint("make room and run the statement again"),
        _ => file_error(connection, path, Code::SourceUnreachable, error),
    }
}

/// An error of our own that another one carries.
pub fn own_error(error: &(dyn std::error::Error + 'static)) -> Option<Error> {
    if let Some(own) = error.downcast_ref::<Error>() {
        return Some(own.clone());
    }
    if let Some(inner) = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref) {
        return own_error(inner);
    }
    error.source().and_then(own_error)
}
