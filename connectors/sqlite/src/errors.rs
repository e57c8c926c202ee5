//! What SQLite reports, as errors that name the connection and the likely fix.

use cobble_types::{Code, Error};
use rusqlite::ErrorCode;

use super::File;
use super::guard;

pub fn about(file: &File, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {}: {what}", file.connection))
}

pub fn error(file: &File, error: &rusqlite::Error) -> Error {
    let path = file.path.display();
    let rusqlite::Error::SqliteFailure(failure, message) = error else {
        return about(file, Code::SourceRefused, error);
    };
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
