//! Encrypted connections to servers: their certificates are always checked, by the machine's own authorities or by those that the
//! connection names.

use std::sync::Once;

use cobble_types::{Code, Error, Result};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};

use crate::definition::{ConnectionDefinition, SettingDescription, setting};

pub const TLS: SettingDescription =
    setting("tls", "Encrypted", "only with TLS, and only to a server whose certificate is good", Some("false"));

pub const CA_FILE: SettingDescription = setting(
    "ca_file",
    "Certificate file",
    "certificates (PEM) that the server's own is signed with, where it is not a public one",
    None,
);

/// Makes the one crypto provider known to all who ask for the default.
pub fn provider() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
}

/// What a connection says of encryption.
#[derive(Debug, Clone)]
pub struct Tls {
    pub on: bool,
    /// The text of `ca_file`, which holds certificates.
    pub authorities: Option<Vec<u8>>,
}

impl Tls {
    pub fn of(definition: &ConnectionDefinition) -> Result<Tls> {
        provider();
        let on = definition.flag("tls")?;
        let Some(path) = definition.option("ca_file").filter(|_| on) else { return Ok(Tls { on, authorities: None }) };
        let bad = |what: String| {
            Error::new(Code::BadSetting, format!("connection {}: ca_file {path}: {what}", definition.name))
                .hint("give a file of certificates in PEM")
        };
        let text = std::fs::read(path).map_err(|e| bad(e.to_string()))?;
        let tls = Tls { on, authorities: Some(text) };
        match tls.named() {
            Ok(found) if found.is_empty() => Err(bad("there is no certificate in it".to_owned())),
            Ok(_) => Ok(tls),
            Err(error) => Err(bad(error)),
        }
    }

    fn named(&self) -> std::result::Result<Vec<CertificateDer<'static>>, String> {
        let text = self.authorities.as_deref().unwrap_or_default();
        CertificateDer::pem_slice_iter(text).collect::<std::result::Result<_, _>>().map_err(|e| format!("{e:?}"))
    }

    /// The client's side of it.
    pub fn client(&self) -> Result<ClientConfig> {
        let mut roots = RootCertStore::empty();
        if self.authorities.is_some() {
            roots.add_parsable_certificates(self.named().map_err(Error::internal)?);
        } else if self.on {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        Ok(ClientConfig::builder().with_root_certificates(roots).with_no_client_auth())
    }
}

/// The server wants no other connections.
pub fn wanted() -> (&'static str, &'static str) {
    ("the server takes only encrypted connections", "set tls = true for the connection")
}

/// The server has no encryption.
pub fn missing() -> (&'static str, &'static str) {
    ("the server does not encrypt", "set tls = false for the connection")
}

/// What is wrong with a certificate, and the way out, if this is what an error speaks of.
pub fn fault(error: &impl std::fmt::Display) -> Option<(&'static str, &'static str)> {
    let text = error.to_string().to_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    if has(&["not valid for name", "notvalidforname"]) {
        return Some((
            "its certificate is for another name",
            "write the host in the address as the certificate names it",
        ));
    }
    if has(&["expired", "not valid yet", "notvalidyet"]) {
        return Some(("its certificate is out of date", "renew it at the server, or correct the clock here"));
    }
    has(&["certificate"]).then_some((
        "its certificate is not signed by anyone known",
        "give the file of the certificates that it is signed with as ca_file",
    ))
}

/// The setting behind a fault of encryption.
pub fn setting_at_fault(error: &Error) -> Option<&'static str> {
    let says = |what: &str| error.message.contains(what);
    let setting = match () {
        () if says(wanted().0) || says(missing().0) => "tls",
        () if says("signed by anyone") => "ca_file",
        () if says("its certificate is") => "address",
        () => return None,
    };
    Some(setting)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_of_certificates_are_told_apart() {
        for (said, what, setting) in [
            ("invalid peer certificate: UnknownIssuer", "signed by anyone", "ca_file"),
            ("invalid peer certificate: certificate expired: verification time 1 (UNIX)", "out of date", "address"),
            ("invalid peer certificate: certificate not valid for name \"x\"", "another name", "address"),
        ] {
            let (found, _) = fault(&said).unwrap();
            assert!(found.contains(what), "{said}: {found}");
            assert_eq!(setting_at_fault(&Error::new(Code::SourceSignIn, found)), Some(setting));
        }
        assert_eq!(fault(&"connection reset by peer"), None);
        assert_eq!(setting_at_fault(&Error::new(Code::SourceSignIn, wanted().0)), Some("tls"));
        assert_eq!(setting_at_fault(&Error::new(Code::SourceSignIn, "the server refused user or password")), None);
    }
}
