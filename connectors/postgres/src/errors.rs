//! What the driver reports, as errors that name the connection, the setting at fault and the likely fix.

use cobble_types::{Code, Error};
use deadpool_postgres::PoolError;
use tokio_postgres::error::SqlState;

use super::Server;
use cobble_network::tls;

fn about(server: &Server, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {}: {what}", server.connection))
}

pub fn unreachable(server: &Server, error: &std::io::Error) -> Error {
    let place = format!("{}:{}", server.host, server.port);
    match error.kind() {
        std::io::ErrorKind::ConnectionRefused => {
            about(server, Code::SourceUnreachable, format!("nothing listens at {place}"))
                .hint("check host and port in the address, and that the server is running")
        }
        std::io::ErrorKind::TimedOut => too_slow(server),
        _ => about(server, Code::SourceUnreachable, format!("{place} cannot be reached: {error}"))
            .hint("check host and port in the address"),
    }
}

pub fn too_slow(server: &Server) -> Error {
    let seconds = server.connect_limit.as_secs();
    about(server, Code::SourceUnreachable, format!("{}:{} did not answer within {seconds} s", server.host, server.port))
        .hint("check the address and the firewall between, or raise connect_limit")
}

pub fn pool_error(server: &Server, error: &PoolError) -> Error {
    match error {
        PoolError::Backend(inner) => connect_error(server, inner),
        PoolError::Timeout(deadpool_postgres::TimeoutType::Wait) => {
            about(server, Code::SourceTimeout, "all its connections are busy")
                .hint("raise pool_size, or run fewer queries at once")
        }
        PoolError::Timeout(_) => too_slow(server),
        other => about(server, Code::SourceUnreachable, other),
    }
}

fn connect_error(server: &Server, error: &tokio_postgres::Error) -> Error {
    use std::error::Error as _;
    if let Some(io) = error.source().and_then(|s| s.downcast_ref::<std::io::Error>()) {
        if let Some((what, fix)) = tls::fault(io) {
            return about(server, Code::SourceSignIn, what).hint(fix);
        }
        return unreachable(server, io);
    }
    let (user, database) = (&server.user, &server.database);
    match error.as_db_error().map(|db| (db.code(), db.message())) {
        Some((&SqlState::INVALID_PASSWORD, _)) => {
            about(server, Code::SourceSignIn, format!("the server refused the password of user {user}"))
                .hint("set the connection's secret again")
        }
        Some((&SqlState::INVALID_AUTHORIZATION_SPECIFICATION, message)) if message.contains("no encryption") => {
            let (what, fix) = tls::wanted();
            about(server, Code::SourceSignIn, what).hint(fix)
        }
        Some((&SqlState::INVALID_AUTHORIZATION_SPECIFICATION, _)) => {
            about(server, Code::SourceSignIn, format!("the server does not let user {user} in"))
                .hint("check the user, and the server's rules for this host")
        }
        Some((&SqlState::INVALID_CATALOG_NAME, _)) => {
            about(server, Code::SourceRefused, format!("the server has no database {database}"))
                .hint("correct the connection's database")
        }
        Some((&SqlState::TOO_MANY_CONNECTIONS, _)) => {
            about(server, Code::SourceRefused, "the server has no connection left")
                .hint("lower pool_size, or raise the server's limit")
        }
        Some((_, message)) => about(server, Code::SourceRefused, message),
        None if error.source().is_some_and(|s| s.to_string().contains("password missing")) => {
            about(server, Code::SourceSignIn, format!("the server asks for the password of user {user}"))
                .hint("set the connection's secret")
        }
        None if error.to_string().contains("timed out") => too_slow(server),
        None if error.source().is_some_and(|s| s.to_string().contains("does not support TLS")) => {
            let (what, fix) = tls::missing();
            about(server, Code::SourceSignIn, what).hint(fix)
        }
        None => about(server, Code::SourceUnreachable, format!("{}:{}: {error}", server.host, server.port))
            .hint("check that a PostgreSQL server listens at the address"),
    }
}

/// An error of a statement that the server was running.
pub fn statement_error(server: &Server, error: &tokio_postgres::Error) -> Error {
    let Some(db) = error.as_db_error() else {
        return about(server, Code::SourceUnreachable, format!("the connection was lost: {error}"))
            .hint("the server may have been stopped; run the query again");
    };
    let message = db.message();
    match *db.code() {
        SqlState::QUERY_CANCELED if message.contains("statement timeout") => {
            about(server, Code::SourceTimeout, "the statement ran longer than the connection's statement_limit there")
                .hint("raise statement_limit, or read less")
        }
        SqlState::QUERY_CANCELED => Error::cancelled(),
        SqlState::INSUFFICIENT_PRIVILEGE => {
            about(server, Code::SourceRefused, message).hint(format!("give user {} the right to do that", server.user))
        }
        SqlState::DIVISION_BY_ZERO => Error::new(Code::DivisionByZero, "division by zero"),
        SqlState::NUMERIC_VALUE_OUT_OF_RANGE => about(server, Code::Overflow, message),
        SqlState::UNDEFINED_TABLE | SqlState::UNDEFINED_COLUMN => about(server, Code::NotFound, message)
            .hint("the table has changed since it was described; refresh the catalog"),
        SqlState::T_R_SERIALIZATION_FAILURE | SqlState::T_R_DEADLOCK_DETECTED => {
            about(server, Code::SourceRefused, format!("another transaction changed the same rows: {message}"))
                .hint("run it again")
        }
        _ if db.code().code().starts_with("22") => about(server, Code::InvalidValue, message),
        _ if db.code().code().starts_with("57P") => about(server, Code::SourceUnreachable, message)
            .hint("the server was shut down; run the query again when it is back"),
        _ => about(server, Code::SourceRefused, format!("{message} ({})", db.code().code())),
    }
}

/// The setting that most likely causes an error of signing in.
pub fn setting_at_fault(error: &Error) -> &'static str {
    if let Some(setting) = tls::setting_at_fault(error) {
        return setting;
    }
    match error.code {
        Code::SourceSignIn if error.message.contains("let user") => "user",
        Code::SourceSignIn => "secret",
        Code::SourceRefused if error.message.contains("no database") => "database",
        Code::SourceTimeout | Code::SourceRefused => "pool_size",
        _ => "address",
    }
}
