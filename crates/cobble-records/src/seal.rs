//! Sealing of secrets: ChaCha20-Poly1305 (RFC 8439) under a key that stands in a file of its own, readable by its owner
//! only. What a secret was given for is authenticated too, so that a sealed secret cannot be moved to another connection, nor the
//! connection that has it to another server.

use std::path::Path;

use chacha20poly1305::aead::{Aead, AeadCore, KeyInit, OsRng, Payload};
use chacha20poly1305::{ChaCha20Poly1305, Key, Nonce};
use cobble_types::{Code, Error, Result};

use crate::private_file;

const NONCE: usize = 12;

#[derive(Clone)]
pub struct SealingKey(ChaCha20Poly1305);

impl SealingKey {
    /// Reads the key, or makes one where there is none.
    pub fn load_or_create(path: &Path) -> Result<SealingKey> {
        let of_key = |e: Error| Error { message: format!("the sealing key {}", e.message), ..e };
        if let Some(bytes) = private_file::read(path).map_err(of_key)? {
            if bytes.len() != 32 {
                let what = format!("the sealing key {}: it is not 32 bytes long", path.display());
                return Err(Error::new(Code::Storage, what)
                    .hint("put the original file back; without it stored secrets are lost"));
            }
            return Ok(SealingKey(ChaCha20Poly1305::new(Key::from_slice(&bytes))));
        }
        let key = ChaCha20Poly1305::generate_key(&mut OsRng);
        private_file::write(path, &key).map_err(of_key)?;
        Ok(SealingKey(ChaCha20Poly1305::new(&key)))
    }

    /// Seals a secret for one use: it is opened for no other.
    pub fn seal(&self, secret: &str, purpose: &str) -> Result<Vec<u8>> {
        let nonce = ChaCha20Poly1305::generate_nonce(&mut OsRng);
        let sealed = self
            .0
            .encrypt(&nonce, Payload { msg: secret.as_bytes(), aad: purpose.as_bytes() })
            .map_err(|_| Error::internal("a secret could not be sealed"))?;
        Ok([nonce.as_slice(), &sealed].concat())
    }

    pub fn open(&self, sealed: &[u8], purpose: &str) -> Result<String> {
        let wrong = || {
            Error::new(Code::Storage, "the stored secret cannot be opened")
                .hint("the sealing key, or the connection in the records, is not the one that it was sealed for; give the secret again")
        };
        if sealed.len() < NONCE {
            return Err(wrong());
        }
        let (nonce, text) = sealed.split_at(NONCE);
        let open = self
            .0
            .decrypt(Nonce::from_slice(nonce), Payload { msg: text, aad: purpose.as_bytes() })
            .map_err(|_| wrong())?;
        String::from_utf8(open).map_err(|_| wrong())
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_secret_opens_only_with_its_key_and_its_name() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("key");
        let key = SealingKey::load_or_create(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let sealed = key.seal("gangway", "fleet_db").unwrap();
        assert!(!sealed.windows(7).any(|part| part == b"gangway"));
        let again = SealingKey::load_or_create(&path).unwrap();
        assert_eq!(again.open(&sealed, "fleet_db").unwrap(), "gangway");
        assert!(again.open(&sealed, "yard_db").is_err());
        let other = SealingKey::load_or_create(&folder.path().join("other")).unwrap();
        assert!(other.open(&sealed, "fleet_db").unwrap_err().hint.is_some());
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(SealingKey::load_or_create(&path).err().unwrap().message.contains("others may read it"));
    }
}
