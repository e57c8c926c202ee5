//! The settings of encryption that kinds of servers share, and how a connection's are read.

use std::path::Path;

use cobble_network::tls::provider;
use cobble_network::{Tls, roots};
use cobble_types::{Code, Error, Result};

use crate::definition::{ConnectionDefinition, SettingDescription, setting};

pub const TLS: SettingDescription =
    setting("tls", "Encrypted", "only with TLS, and only to a server whose certificate is good", Some("false"));

pub const CA_FILE: SettingDescription = setting(
    "ca_file",
    "Certificate file",
    "certificates (PEM) that the server's own is signed with, where it is not a public one",
    None,
);

pub const UNVERIFIED: SettingDescription = setting(
    "unverified",
    "Any certificate",
    "true takes whatever certificate comes: encrypted, but with whoever answers",
    Some("false"),
);

/// Bytes of a file of certificates, at most.
const LARGEST: u64 = 1 << 20;

/// The encryption that a connection with these settings wants: `tls`, `ca_file` and `unverified`.
pub fn tls_of(definition: &ConnectionDefinition) -> Result<Tls> {
    let on = definition.flag("tls")?;
    let unverified = exclusive(definition)?;
    if unverified && !on {
        let what = format!("connection {}: unverified says how to encrypt, and tls is off", definition.name);
        return Err(Error::new(Code::BadSetting, what).hint("set tls = true too, or leave unverified out"));
    }
    if on { certificates_of(definition) } else { Ok(Tls::default()) }
}

/// Which certificates are good: `ca_file` and `unverified`, for kinds whose address says whether to encrypt.
pub fn certificates_of(definition: &ConnectionDefinition) -> Result<Tls> {
    provider();
    let unverified = exclusive(definition)?;
    let Some(path) = definition.option("ca_file") else {
        return Ok(Tls { on: true, unverified, authorities: None });
    };
    let bad = |what: String| {
        Error::new(Code::BadSetting, format!("connection {}: ca_file {path}: {what}", definition.name))
            .hint("give a file of certificates in PEM")
    };
    let text = roots::read(Path::new(path), LARGEST).map_err(|e| bad(e.to_string()))?;
    Tls::trusting(text, unverified).map_err(bad)
}

/// `unverified`, which excludes `ca_file`.
fn exclusive(definition: &ConnectionDefinition) -> Result<bool> {
    let unverified = definition.flag("unverified")?;
    if unverified && definition.option("ca_file").is_some() {
        let what = format!("connection {}: ca_file and unverified are both given", definition.name);
        return Err(Error::new(Code::BadSetting, what).hint("leave out one of the two"));
    }
    Ok(unverified)
}
