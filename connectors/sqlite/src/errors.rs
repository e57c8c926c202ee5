//! What SQLite reports, as errors that name the connection and the likely fix.

use cobble_types::{Code, Error};
use rusqlite::ErrorCode;

use super::File;
use super::guard;

pub fn about(file: &File, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {}: {what}", file.connection))
}

/// Whether what an interrupted change left keeps a connection that cannot write from reading ("Result and Error Codes", section 3).
pub fn is_unfinished(error: &rusqlite::Error) -> bool {
    use rusqlite::ffi::{SQLITE_READONLY_RECOVERY, SQLITE_READONLY_ROLLBACK};
    let code = error.sqlite_error().map(|failure| failure.extended_code);
    matches!(code, Some(SQLITE_READONLY_ROLLBACK | SQLITE_READONLY_RECOVERY))
}

pub fn error(file: &File, error: &rusqlite::Error) -> Error {
    let path = file.path.display();
    let rusqlite::Error::SqliteFailure(failure, message) = error else {
        return about(file, Code::SourceRefused, error);
    };
    if is_unfinished(error) {
        let what = format!("a program stopped in the middle of a change to {path}, which must be rolled back first");
        return about(file, Code::SourceRefused, what)
            .hint("open it once with a program that may write to it, or let this connection write: writable = true");
    }
    let message = message.clone().unwrap_or_else(|| failure.to_string());
    if let Some(own) = guard::ours(&message) {
        let found = about(file, own.code, own.message);
        return match (own.hint, own.code) {
            (Some(hint), _) => found.hint(hint),
            (None, Code::SourceData) => {
                found.hint("correct the value there, or make the table STRICT so that it cannot come in")
            }
            (None, _) => found,
        };
    }
    match failure.code {
        ErrorCode::CannotOpen => about(file, Code::SourceUnreachable, format!("{path} cannot be opened"))
            .hint("correct the address, and give the service the right to read the file and its folder"),
        ErrorCode::NotADatabase => about(file, Code::SourceData, format!("{path} is not a SQLite database"))
            .hint("correct the address; an encrypted database cannot be read"),
        ErrorCode::DatabaseCorrupt => {
            about(file, Code::SourceData, format!("{path} is damaged: {message}")).hint("restore it from a copy")
        }
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => {
            about(file, Code::SourceTimeout, format!("{path} is locked by another program"))
                .hint("try again when it has finished, or raise busy_limit")
        }
        ErrorCode::OperationInterrupted => Error::cancelled(),
        _ if message.contains("integer overflow") => {
            about(file, Code::Overflow, "a sum is out of the range of SQLite's integers")
                .hint("SET planner.off = 'offer-aggregates' computes the sum in the engine, which has more digits")
        }
        _ if message.starts_with("no such") => about(file, Code::NotFound, message)
            .hint("the table has changed since it was described; refresh the catalog"),
        _ => about(file, Code::SourceRefused, message),
    }
}
