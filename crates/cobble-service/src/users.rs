//! Users of the service: their tokens, what they may do, and the sign-ins of their browsers. Of every secret that is handed out only a
//! digest is kept; each has some 238 bits, so that a plain digest is as hard to turn round as the secret is to guess.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use cobble_connect::check_name;
use cobble_engine::Asker;
use cobble_records::{NewUser, Records, StoredConnection, StoredUser};
use cobble_types::{Code, Error, Result};
use rand::Rng;
use sha2::{Digest as _, Sha256};

use crate::service::blocking;

/// Characters of a token, and of what a browser gets in its place.
const SECRET_LENGTH: usize = 40;
/// A browser that has asked for nothing for so long has to sign in again.
const SIGN_IN_LIFE: Duration = Duration::from_secs(12 * 60 * 60);
/// How long a download may take to begin.
const TICKET_LIFE: Duration = Duration::from_secs(60);
/// Sign-ins, links and tickets that are kept at one time, of each; the oldest give way.
const MOST_KEPT: usize = 5_000;
/// The user that the first start makes.
const FIRST: &str = "admin";

type Digest = [u8; 32];

fn digest(secret: &str) -> Digest {
    Sha256::digest(secret.as_bytes()).into()
}

fn new_secret() -> String {
    let mut rng = rand::rng();
    (0..SECRET_LENGTH).map(|_| char::from(rng.sample(rand::distr::Alphanumeric))).collect()
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// May do everything.
    Administrator,
    /// Runs statements and looks around.
    User,
}

impl Role {
    pub fn word(self) -> &'static str {
        match self {
            Role::Administrator => "administrator",
            Role::User => "user",
        }
    }

    pub fn parse(word: &str) -> Result<Role> {
        let all = [Role::Administrator, Role::User];
        let found = all.into_iter().find(|role| role.word() == word);
        found.ok_or_else(|| {
            let error = Error::unknown("role", word, all.map(Role::word));
            Error { code: Code::BadSetting, ..error }.hint("a role is administrator or user")
        })
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Never given to another one.
    pub id: i64,
    pub name: String,
    pub role: Role,
}

impl User {
    pub fn is_administrator(&self) -> bool {
        self.role == Role::Administrator
    }

    pub fn asker(&self) -> Asker {
        Asker { id: Some(self.id), name: Some(self.name.clone()), is_administrator: self.is_administrator() }
    }
}

/// A user with their token.
#[derive(Debug, Clone)]
struct Known {
    user: Arc<User>,
    digest: Digest,
    expires_at: Option<DateTime<Utc>>,
}

impl Known {
    fn of(stored: &StoredUser) -> Result<Known> {
        let digest = stored.token_digest.as_slice().try_into();
        let user = User { id: stored.id, name: stored.name.clone(), role: Role::parse(&stored.role)? };
        Ok(Known {
            digest: digest.map_err(|_| Error::internal(format!("user {}: the token's digest", user.name)))?,
            user: Arc::new(user),
            expires_at: stored.expires_at,
        })
    }

    fn has_expired(&self) -> bool {
        self.expires_at.is_some_and(|at| at <= Utc::now())
    }

    fn stored(&self) -> NewUser {
        NewUser {
            name: self.user.name.clone(),
            role: self.user.role.word().to_owned(),
            token_digest: self.digest.to_vec(),
            expires_at: self.expires_at,
        }
    }
}

/// A user as lists show them.
#[derive(Debug, Clone)]
pub struct Listed {
    pub user: Arc<User>,
    pub expires_at: Option<DateTime<Utc>>,
}

/// What stands for a user for some time.
struct Issued {
    user: i64,
    /// What a ticket is for.
    path: Option<String>,
    used: Instant,
}

/// Secrets that were handed out, by their digests.
#[derive(Default)]
struct Purse(HashMap<Digest, Issued>);

impl Purse {
    fn issue(&mut self, user: i64, path: Option<String>, life: Option<Duration>) -> String {
        if let Some(life) = life {
            self.0.retain(|_, issued| issued.used.elapsed() < life);
        }
        if self.0.len() >= MOST_KEPT
            && let Some(oldest) = self.0.iter().min_by_key(|(_, issued)| issued.used).map(|(digest, _)| *digest)
        {
            self.0.remove(&oldest);
        }
        let secret = new_secret();
        self.0.insert(digest(&secret), Issued { user, path, used: Instant::now() });
        secret
    }
}

#[derive(Default)]
struct Browsers {
    sign_ins: Purse,
    /// Codes of links to the console, which serve once.
    links: Purse,
    /// For downloads, which a browser begins without any header; they serve once.
    tickets: Purse,
}

pub struct Users {
    records: Records,
    known: RwLock<BTreeMap<String, Known>>,
    browsers: Mutex<Browsers>,
    /// Users are changed by one at a time.
    changing: tokio::sync::Mutex<()>,
}

fn not_signed_in(what: impl Into<String>) -> Error {
    Error::new(Code::NotSignedIn, what)
        .hint("an administrator makes a token with: cobble access token NAME; the command reads it from COBBLE_TOKEN")
}

impl Users {
    pub async fn restore(records: Records) -> Result<Users> {
        let stored = records.clone();
        let all = blocking(move || stored.users()).await?;
        let known = all.iter().map(|user| Ok((user.name.clone(), Known::of(user)?))).collect::<Result<_>>()?;
        Ok(Users { records, known: RwLock::new(known), browsers: Mutex::default(), changing: Default::default() })
    }

    fn known(&self) -> BTreeMap<String, Known> {
        self.known.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn browsers(&self) -> MutexGuard<'_, Browsers> {
        self.browsers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// All users, by name.
    pub fn all(&self) -> Vec<Listed> {
        let listed = |known: &Known| Listed { user: known.user.clone(), expires_at: known.expires_at };
        self.known.read().unwrap_or_else(PoisonError::into_inner).values().map(listed).collect()
    }

    fn get(&self, name: &str) -> Result<Known> {
        let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
        known.get(name).cloned().ok_or_else(|| {
            let error = Error::unknown("user", name, known.keys().map(String::as_str));
            Error { code: Code::NotFound, ..error }
        })
    }

    pub fn named(&self, name: &str) -> Result<Arc<User>> {
        Ok(self.get(name)?.user)
    }

    fn of_id(&self, id: i64) -> Option<Known> {
        let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
        known.values().find(|known| known.user.id == id).cloned()
    }

    fn valid(known: Known) -> Result<Arc<User>> {
        match known.has_expired() {
            true => Err(not_signed_in(format!("the token of user {} has expired", known.user.name))),
            false => Ok(known.user),
        }
    }

    /// The user who shows this: a token, or what a browser has got by signing in.
    pub fn of_secret(&self, secret: &str) -> Result<Arc<User>> {
        let digest = digest(secret);
        let by_token = {
            let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
            known.values().find(|known| known.digest == digest).cloned()
        };
        if let Some(known) = by_token {
            return Self::valid(known);
        }
        let signed_in = match self.browsers().sign_ins.0.get_mut(&digest) {
            Some(issued) if issued.used.elapsed() < SIGN_IN_LIFE => {
                issued.used = Instant::now();
                Some(issued.user)
            }
            _ => None,
        };
        match signed_in.and_then(|id| self.of_id(id)) {
            Some(known) => Self::valid(known),
            None => Err(not_signed_in("the token is not valid")),
        }
    }

    /// The user for whom a ticket was made that is for this path. It serves once.
    pub fn of_ticket(&self, ticket: &str, path: &str) -> Result<Arc<User>> {
        let issued = self.browsers().tickets.0.remove(&digest(ticket));
        let issued = issued.filter(|one| one.used.elapsed() < TICKET_LIFE && one.path.as_deref() == Some(path));
        match issued.and_then(|issued| self.of_id(issued.user)) {
            Some(known) => Self::valid(known),
            None => Err(Error::new(Code::NotSignedIn, "the ticket is not valid: one serves once, and for a minute")),
        }
    }

    pub fn ticket(&self, user: &User, path: &str) -> String {
        self.browsers().tickets.issue(user.id, Some(path.to_owned()), Some(TICKET_LIFE))
    }

    /// A code that a link to the console carries. It serves once, and gives a sign-in.
    pub fn link(&self, user: &User) -> String {
        self.browsers().links.issue(user.id, None, None)
    }

    /// Signs a browser in that shows a token or the code of a link, and gives what it shows from now on.
    pub fn sign_in(&self, token: Option<&str>, code: Option<&str>) -> Result<(Arc<User>, String)> {
        let user = match (token, code) {
            (Some(token), None) => self.of_secret(token)?,
            (None, Some(code)) => {
                let issued = self.browsers().links.0.remove(&digest(code));
                match issued.and_then(|issued| self.of_id(issued.user)) {
                    Some(known) => Self::valid(known)?,
                    None => {
                        return Err(Error::new(Code::NotSignedIn, "the link is not valid: each serves once")
                            .hint("ask for another one: cobble access link"));
                    }
                }
            }
            _ => return Err(Error::new(Code::BadSetting, "signing in takes a token, or the code of a link")),
        };
        let secret = self.browsers().sign_ins.issue(user.id, None, Some(SIGN_IN_LIFE));
        Ok((user, secret))
    }

    pub fn sign_out(&self, secret: &str) {
        self.browsers().sign_ins.0.remove(&digest(secret));
    }

    /// What was issued to a user serves no longer.
    fn revoke(&self, id: i64) {
        let mut browsers = self.browsers();
        let Browsers { sign_ins, links, tickets } = &mut *browsers;
        [sign_ins, links, tickets].into_iter().for_each(|purse| purse.0.retain(|_, issued| issued.user != id));
    }

    /// Adds a user and returns the token, which is shown only once.
    pub async fn add(&self, name: &str, role: Role, expires_at: Option<DateTime<Utc>>) -> Result<String> {
        check_name("user", name)?;
        let _alone = self.changing.lock().await;
        let token = new_secret();
        let (token_digest, role) = (digest(&token).to_vec(), role.word().to_owned());
        let new = NewUser { name: name.to_owned(), role, token_digest, expires_at };
        let records = self.records.clone();
        let known = Known::of(&blocking(move || records.add_user(&new)).await?)?;
        self.known.write().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned(), known);
        Ok(token)
    }

    async fn change(&self, name: &str, change: impl FnOnce(&mut Known)) -> Result<()> {
        let before = self.get(name)?;
        let mut next = before.clone();
        change(&mut next);
        if before.user.is_administrator() && (!next.user.is_administrator() || next.expires_at.is_some()) {
            self.not_the_last(&before.user)?;
        }
        let (records, id, stored) = (self.records.clone(), next.user.id, next.stored());
        blocking(move || records.change_user(id, &stored)).await?;
        self.known.write().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned(), next);
        Ok(())
    }

    /// Changes what a user may do and how long their token is good.
    pub async fn set(&self, name: &str, role: Option<Role>, expires_at: Option<Option<DateTime<Utc>>>) -> Result<()> {
        let _alone = self.changing.lock().await;
        let change = |known: &mut Known| {
            let role = role.unwrap_or(known.user.role);
            known.user = Arc::new(User { role, ..known.user.as_ref().clone() });
            known.expires_at = expires_at.unwrap_or(known.expires_at);
        };
        self.change(name, change).await
    }

    /// Gives a user another token; the one before and the sign-ins of browsers serve no longer.
    pub async fn renew(&self, name: &str, expires_at: Option<DateTime<Utc>>) -> Result<String> {
        let _alone = self.changing.lock().await;
        let token = new_secret();
        let (digest, id) = (digest(&token), self.get(name)?.user.id);
        self.change(name, |known| (known.digest, known.expires_at) = (digest, expires_at)).await?;
        self.revoke(id);
        Ok(token)
    }

    /// Without an administrator whose token does not expire nobody could let anybody in.
    fn not_the_last(&self, user: &User) -> Result<()> {
        let stays =
            |known: &Known| known.user.is_administrator() && known.user.id != user.id && known.expires_at.is_none();
        match self.known().values().any(stays) {
            true => Ok(()),
            false => Err(Error::new(
                Code::InUse,
                format!("user {} is the last administrator whose token does not expire", user.name),
            )
            .hint("make another one first: cobble access add NAME --role administrator")),
        }
    }

    /// Removes a user with everything that is theirs; these are the connections without their credentials.
    pub async fn remove(&self, user: &User, connections: Vec<StoredConnection>) -> Result<()> {
        let _alone = self.changing.lock().await;
        let user = self.get(&user.name)?.user;
        if user.is_administrator() {
            self.not_the_last(&user)?;
        }
        let (records, gone) = (self.records.clone(), user.clone());
        blocking(move || records.remove_user(gone.id, &gone.name, &connections)).await?;
        self.known.write().unwrap_or_else(PoisonError::into_inner).remove(&user.name);
        self.revoke(user.id);
        Ok(())
    }

    /// The token with which the operator's own commands sign in. It is `kept` if that is an administrator's; otherwise the user
    /// `admin` gets another one. None if others are administrators, and there is no user of that name among them.
    pub async fn local_token(&self, kept: Option<String>) -> Result<Option<String>> {
        if let Some(token) = kept
            && self.of_secret(&token).is_ok_and(|user| user.is_administrator())
        {
            return Ok(Some(token));
        }
        let known = self.known();
        match known.get(FIRST).map(|known| known.user.role) {
            Some(Role::Administrator) => self.renew(FIRST, None).await.map(Some),
            _ if known.values().any(|known| known.user.is_administrator() && !known.has_expired()) => Ok(None),
            None => self.add(FIRST, Role::Administrator, None).await.map(Some),
            // Somebody else has that name, and does not become an administrator by it.
            Some(Role::User) => {
                let mut names = (2..).map(|number| format!("{FIRST}_{number}"));
                match names.find(|name| !known.contains_key(name)) {
                    Some(free) => self.add(&free, Role::Administrator, None).await.map(Some),
                    None => Ok(None),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_issued_serves_its_user_for_its_time_and_is_bounded() {
        let mut purse = Purse::default();
        let first = purse.issue(7, None, None);
        assert_eq!(purse.0[&digest(&first)].user, 7);
        assert!(first.len() == SECRET_LENGTH && first.bytes().all(|b| b.is_ascii_alphanumeric()));
        purse.0.values_mut().for_each(|issued| issued.used -= Duration::from_secs(5));
        (0..MOST_KEPT).for_each(|_| drop(purse.issue(8, None, None)));
        assert_eq!(purse.0.len(), MOST_KEPT);
        assert!(!purse.0.contains_key(&digest(&first)), "the oldest gives way");
        purse.0.values_mut().for_each(|issued| issued.used -= Duration::from_secs(5));
        purse.issue(9, None, Some(Duration::from_secs(4)));
        assert_eq!(purse.0.len(), 1, "what is over its time goes");
    }

    #[test]
    fn roles_are_known_by_their_words() {
        for role in [Role::Administrator, Role::User] {
            assert_eq!(Role::parse(role.word()).unwrap(), role);
        }
        assert!(Role::parse("adminstrator").unwrap_err().to_string().contains("administrator"));
    }
}
