//! Encrypted connections to servers: their certificates are checked, by the machine's own authorities or by those that the connection
//! names, unless it says that any will do.

use std::sync::{Arc, Once};

use cobble_types::{Code, Error, Result};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};

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
    /// Any certificate will do.
    pub unverified: bool,
    /// The text of `ca_file`, which holds certificates.
    pub authorities: Option<Vec<u8>>,
}

impl Tls {
    pub fn of(definition: &ConnectionDefinition) -> Result<Tls> {
        provider();
        let (on, unverified) = (definition.flag("tls")?, definition.flag("unverified")?);
        check_unverified(definition)?;
        if unverified && !on {
            let what = format!("connection {}: unverified says how to encrypt, and tls is off", definition.name);
            return Err(Error::new(Code::BadSetting, what).hint("set tls = true too, or leave unverified out"));
        }
        let Some(path) = definition.option("ca_file").filter(|_| on) else {
            return Ok(Tls { on, unverified, authorities: None });
        };
        let bad = |what: String| {
            Error::new(Code::BadSetting, format!("connection {}: ca_file {path}: {what}", definition.name))
                .hint("give a file of certificates in PEM")
        };
        let text = std::fs::read(path).map_err(|e| bad(e.to_string()))?;
        let tls = Tls { on, unverified, authorities: Some(text) };
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
        if self.unverified {
            let any = Arc::new(AnyCertificate(rustls::crypto::ring::default_provider()));
            let builder = ClientConfig::builder().dangerous().with_custom_certificate_verifier(any);
            return Ok(builder.with_no_client_auth());
        }
        let mut roots = RootCertStore::empty();
        if self.authorities.is_some() {
            roots.add_parsable_certificates(self.named().map_err(Error::internal)?);
        } else if self.on {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        Ok(ClientConfig::builder().with_root_certificates(roots).with_no_client_auth())
    }
}

/// Which certificate is good and that any will do exclude each other.
pub fn check_unverified(definition: &ConnectionDefinition) -> Result<()> {
    if definition.flag("unverified")? && definition.option("ca_file").is_some() {
        let what = format!("connection {}: ca_file and unverified are both given", definition.name);
        return Err(Error::new(Code::BadSetting, what).hint("leave out one of the two"));
    }
    Ok(())
}

/// Takes every certificate; that the server has its key is checked all the same.
#[derive(Debug)]
struct AnyCertificate(CryptoProvider);

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> std::result::Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
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
        "give the file of the certificates that it is signed with as ca_file, or, if any will do, set unverified = true",
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
