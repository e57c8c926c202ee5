//! The steps of a connection test, and the first two that all servers share: resolving the name and reaching the port.

use std::time::{Duration, Instant};

use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};

use crate::tls::Tls;

/// One step of a connection test, in the order they are taken; a failed one is the last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TestStep {
    /// `resolve`, `reach`, `sign in`, `list`, `read`.
    pub step: String,
    pub passed: bool,
    /// What was found, or what went wrong.
    pub detail: String,
    /// The setting at fault.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub setting: Option<String>,
    /// The likely fix.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub fix: Option<String>,
    pub seconds: f64,
}

/// Tells of steps: name, begin, outcome and the setting at fault if it failed. Says whether it passed.
pub fn reporter<'a>(
    report: &'a mut (dyn FnMut(TestStep) + Send),
) -> impl FnMut(&str, Instant, Result<String>, &str) -> bool + Send + 'a {
    move |name, started, outcome, setting| {
        let passed = outcome.is_ok();
        let (detail, fix) = match outcome {
            Ok(detail) => (detail, None),
            Err(error) => (error.message, error.hint),
        };
        let setting = (!passed).then(|| setting.to_owned());
        let seconds = started.elapsed().as_secs_f64();
        report(TestStep { step: name.to_owned(), passed, detail, setting, fix, seconds });
        passed
    }
}

/// Whether the connection to a server is encrypted, as the end of a sentence.
pub fn encrypted(tls: &Tls) -> &'static str {
    match (tls.on, tls.unverified) {
        (false, _) => "",
        (true, false) => ", encrypted",
        (true, true) => ", encrypted, with a certificate that is not checked",
    }
}

/// A number of things in words.
pub fn counted(count: usize, thing: &str) -> String {
    format!("{count} {thing}{}", if count == 1 { "" } else { "s" })
}

/// `resolve` and `reach`; true when both have passed.
pub async fn reach(
    connection: &str,
    (host, port): (&str, u16),
    limit: Duration,
    report: &mut (dyn FnMut(TestStep) + Send),
) -> bool {
    let mut step = reporter(report);
    let place = format!("{host}:{port}");
    let fault = |what: String, hint: &str| {
        Error::new(Code::SourceUnreachable, format!("connection {connection}: {what}")).hint(hint)
    };
    let started = Instant::now();
    let addresses =
        tokio::net::lookup_host(&place).await.map(|all| all.map(|a| a.ip().to_string()).collect::<Vec<_>>());
    let resolved = match addresses {
        Ok(addresses) if !addresses.is_empty() => Ok(addresses.join(", ")),
        _ => Err(fault(format!("the name {host} has no address"), "correct the host in the address")),
    };
    if !step("resolve", started, resolved, "address") {
        return false;
    }
    let started = Instant::now();
    let reached = match tokio::time::timeout(limit, tokio::net::TcpStream::connect(&place)).await {
        Ok(Ok(_)) => Ok(format!("something listens at {place}")),
        Ok(Err(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => Err(fault(
            format!("nothing listens at {place}"),
            "check host and port in the address, and that the server is running",
        )),
        Ok(Err(error)) => {
            Err(fault(format!("{place} cannot be reached: {error}"), "check host and port in the address"))
        }
        Err(_) => Err(fault(
            format!("{place} did not answer within {} s", limit.as_secs()),
            "check the address and the firewall between, or raise connect_limit",
        )),
    };
    step("reach", started, reached, "address")
}
