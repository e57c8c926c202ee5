//! Users of the service, identified by the token that they send with each call. Calls without a token use the connections' own credentials.

use std::collections::BTreeMap;
use std::sync::{PoisonError, RwLock};

use cobble_connect::check_name;
use cobble_records::{Records, StoredUser};
use cobble_types::{Code, Error, Result};
use rand::Rng;
use sha2::{Digest, Sha256};

use crate::service::blocking;

/// Characters of a token: about 238 bits.
const TOKEN_LENGTH: usize = 40;

pub struct Users {
    records: Records,
    /// Names by the digests of their tokens.
    known: RwLock<BTreeMap<Vec<u8>, String>>,
}

fn digest(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

impl Users {
    pub async fn restore(records: Records) -> Result<Users> {
        let stored = records.clone();
        let all = blocking(move || stored.users()).await?;
        let known = all.into_iter().map(|user| (user.token_digest, user.name)).collect();
        Ok(Users { records, known: RwLock::new(known) })
    }

    pub fn names(&self) -> Vec<String> {
        let mut names: Vec<String> =
            self.known.read().unwrap_or_else(PoisonError::into_inner).values().cloned().collect();
        names.sort();
        names
    }

    /// The user who shows this token.
    pub fn of_token(&self, token: &str) -> Result<String> {
        let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
        known.get(&digest(token)).cloned().ok_or_else(|| {
            Error::new(Code::NotSignedIn, "the token is not valid")
                .hint("make one with: cobble access add NAME; without a token leave COBBLE_TOKEN unset")
        })
    }

    /// Adds a user and returns the token, which is shown only once.
    pub async fn add(&self, name: &str) -> Result<String> {
        check_name("user", name)?;
        let token: String = {
            let mut rng = rand::rng();
            (0..TOKEN_LENGTH).map(|_| char::from(rng.sample(rand::distr::Alphanumeric))).collect()
        };
        let user = StoredUser { name: name.to_owned(), token_digest: digest(&token) };
        let (records, kept) = (self.records.clone(), user.clone());
        blocking(move || records.add_user(&kept)).await?;
        self.known.write().unwrap_or_else(PoisonError::into_inner).insert(user.token_digest, user.name);
        Ok(token)
    }

    /// The token of a user who is gone opens nothing from now on.
    pub async fn remove(&self, name: &str) -> Result<()> {
        let (records, gone) = (self.records.clone(), name.to_owned());
        if !blocking(move || records.remove_user(&gone)).await? {
            let names = self.names();
            let error = Error::unknown("user", name, names.iter().map(String::as_str));
            return Err(Error { code: Code::NotFound, ..error });
        }
        self.known.write().unwrap_or_else(PoisonError::into_inner).retain(|_, known| known != name);
        Ok(())
    }
}
