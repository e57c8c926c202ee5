//! Certificates made for a test, and a way to a server that is encrypted.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair, date_time_ymd};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};

/// Signs certificates of servers.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    pub pem: String,
}

/// A server's certificate and key, in PEM.
pub struct Identity {
    pub certificate: String,
    pub key: String,
}

impl Authority {
    pub fn new() -> Authority {
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().unwrap();
        let pem = params.self_signed(&key).unwrap().pem();
        Authority { issuer: Issuer::new(params, key), pem }
    }

    /// A certificate for a server of this name, in force until this year.
    pub fn identity(&self, name: &str, until: i32) -> Identity {
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.not_before = date_time_ymd(2020, 1, 1);
        params.not_after = date_time_ymd(until, 1, 1);
        let key = KeyPair::generate().unwrap();
        let certificate = params.signed_by(&key, &self.issuer).unwrap().pem();
        Identity { certificate, key: key.serialize_pem() }
    }

    /// Its own certificate as a file for `ca_file`.
    pub fn file(&self, folder: &Path) -> String {
        let path = folder.join(format!("authority-{:x}.pem", self.pem.len() + self as *const Authority as usize));
        std::fs::write(&path, &self.pem).unwrap();
        path.display().to_string()
    }
}

impl Identity {
    /// Certificate and key as files.
    pub fn files(&self, folder: &Path) -> [PathBuf; 2] {
        let files = [folder.join("server.crt"), folder.join("server.key")];
        std::fs::write(&files[0], &self.certificate).unwrap();
        std::fs::write(&files[1], &self.key).unwrap();
        files
    }

    /// A port of this machine that speaks TLS and hands on to a server that does not.
    pub async fn before(&self, server: String) -> u16 {
        let chain = vec![CertificateDer::from_pem_slice(self.certificate.as_bytes()).unwrap()];
        let key = PrivateKeyDer::from_pem_slice(self.key.as_bytes()).unwrap();
        let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
        let config = ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).unwrap();
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((socket, _)) = listener.accept().await {
                let (acceptor, server) = (acceptor.clone(), server.clone());
                tokio::spawn(async move {
                    let (Ok(mut client), Ok(mut server)) =
                        (acceptor.accept(socket).await, TcpStream::connect(server).await)
                    else {
                        return;
                    };
                    let _ = tokio::io::copy_bidirectional(&mut client, &mut server).await;
                });
            }
        });
        port
    }
}
