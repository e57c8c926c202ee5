//! TLS for connections to servers. Certificates are checked against the machine's own authorities or those that the connection names,
//! unless it accepts any certificate.

use std::sync::{Arc, Once};

use cobble_types::{Error, Result};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};

/// Installs the crypto provider as the process default.
pub fn provider() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
}

/// How a connection encrypts.
#[derive(Debug, Clone, Default)]
pub struct Tls {
    pub on: bool,
    /// Any certificate is accepted.
    pub unverified: bool,
    /// Certificates of the authorities to trust, in PEM, in the place of the machine's own.
    pub authorities: Option<Vec<u8>>,
}

impl Tls {
    /// With authorities given as a text in PEM.
    ///
    /// # Errors
    /// Says what is wrong with the text.
    pub fn trusting(authorities: Vec<u8>, unverified: bool) -> std::result::Result<Tls, String> {
        provider();
        let tls = Tls { on: true, unverified, authorities: Some(authorities) };
        match tls.named()?.is_empty() {
            true => Err("there is no certificate in it".to_owned()),
            false => Ok(tls),
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
    use cobble_types::Code;

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
