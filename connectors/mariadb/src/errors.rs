//! What the driver reports, as errors that name the connection, the setting at fault and the likely fix.

use cobble_types::{Code, Error};

use super::{Server, moments};
use cobble_network::tls;

pub fn about(server: &Server, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {}: {what}", server.connection))
}

pub fn too_slow(server: &Server) -> Error {
    let seconds = server.connect_limit.as_secs();
    about(server, Code::SourceUnreachable, format!("{}:{} did not answer within {seconds} s", server.host, server.port))
        .hint("check the address and the firewall between, or raise connect_limit")
}

pub fn busy(server: &Server) -> Error {
    about(server, Code::SourceTimeout, "all its connections are busy")
        .hint("raise pool_size, or run fewer queries at once")
}

pub fn unreachable(server: &Server, error: &std::io::Error) -> Error {
    let place = format!("{}:{}", server.host, server.port);
    match error.kind() {
        std::io::ErrorKind::ConnectionRefused => {
            about(server, Code::SourceUnreachable, format!("nothing listens at {place}"))
                .hint("check host and port in the address, and that the server is running")
        }
        _ => about(server, Code::SourceUnreachable, format!("{place} cannot be reached: {error}"))
            .hint("check host and port in the address"),
    }
}

/// Error numbers of the server's manual, "Error codes".
pub fn error(server: &Server, error: &mysql_async::Error) -> Error {
    if let mysql_async::Error::Io(io) = error
        && let Some((what, fix)) = tls::fault(io)
    {
        return about(server, Code::SourceSignIn, what).hint(fix);
    }
    match error {
        mysql_async::Error::Server(said) => match said.code {
            1045 => about(
                server,
                Code::SourceSignIn,
                format!("the server refused user {} or the password", server.user),
            )
            .hint(match server.tls.on {
                true => "set the connection's secret again, or correct the user",
                false => {
                    "set the connection's secret again, or correct the user; one who must encrypt needs tls = true"
                }
            }),
            3159 => about(server, Code::SourceSignIn, tls::wanted().0).hint(tls::wanted().1),
            1130 => about(server, Code::SourceSignIn, "the server does not let this host in")
                .hint("allow the user to connect from this host at the server"),
            1044 | 1142 | 1143 => about(server, Code::SourceRefused, &said.message)
                .hint(format!("give user {} the right to do that", server.user)),
            1049 => about(server, Code::SourceRefused, &said.message).hint("correct the connection's database"),
            1040 | 1203 | 1226 => about(server, Code::SourceRefused, "the server has no connection left")
                .hint("lower pool_size, or raise the server's limit"),
            1054 | 1146 => about(server, Code::NotFound, &said.message)
                .hint("the table has changed since it was described; refresh the catalog"),
            1317 => Error::cancelled(),
            1969 | 3024 => about(
                server,
                Code::SourceTimeout,
                "the statement ran longer than the connection's statement_limit there",
            )
            .hint("raise statement_limit, or read less"),
            1205 | 1213 => {
                about(server, Code::SourceRefused, format!("another transaction holds the same rows: {}", said.message))
                    .hint("run it again")
            }
            1690 if said.message.contains(moments::MARK) => {
                let column = said.message.rsplit('`').nth(1).unwrap_or_default();
                about(server, Code::SourceData, format!("column {column} holds a date that is none"))
                    .hint("correct the value there, or leave such rows out with a condition on another column")
            }
            1264 | 1690 => about(server, Code::Overflow, &said.message),
            _ => about(server, Code::SourceRefused, format!("{} ({})", said.message, said.state)),
        },
        mysql_async::Error::Driver(mysql_async::DriverError::NoClientSslFlagFromServer) => {
            about(server, Code::SourceSignIn, tls::missing().0).hint(tls::missing().1)
        }
        mysql_async::Error::Io(mysql_async::IoError::Io(io)) => unreachable(server, io),
        other => about(server, Code::SourceUnreachable, format!("the connection was lost: {other}"))
            .hint("the server may have been stopped, or the address is not a MariaDB server's; run the query again"),
    }
}

/// The setting that most likely causes an error of signing in.
pub fn setting_at_fault(error: &Error) -> &'static str {
    if let Some(setting) = tls::setting_at_fault(error) {
        return setting;
    }
    match error.code {
        Code::SourceSignIn => "secret",
        Code::SourceRefused if error.message.contains("nknown database") => "database",
        Code::SourceTimeout | Code::SourceRefused => "pool_size",
        _ => "address",
    }
}
