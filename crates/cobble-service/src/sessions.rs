//! Sessions over HTTP: what one client keeps from statement to statement. A place for names, settings, prepared statements, views of its
//! own, and the user it belongs to.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use cobble_engine::{Engine, Session};
use cobble_types::{Code, Error, Result};
use rand::Rng;
use tokio::sync::OwnedMutexGuard;

use crate::users::User;

/// A session without a statement for so long is ended.
const IDLE_LIFE: Duration = Duration::from_secs(60 * 60);
/// Sessions that are kept; when there are more, the one that was idle longest gives way.
const MOST: usize = 2_000;
/// One that was used so recently gives way to none.
const IN_USE: Duration = Duration::from_secs(60);

/// What a statement is run within.
#[derive(Debug, Clone, Default)]
pub struct Place {
    pub catalog: Option<String>,
    pub schema: Option<String>,
    pub settings: BTreeMap<String, String>,
}

impl Place {
    pub fn of(session: &Session) -> Place {
        let (catalog, schema) = session.place();
        let settings = session.given_settings().clone();
        Place { catalog: catalog.map(str::to_owned), schema: schema.map(str::to_owned), settings }
    }

    /// Brings a session here.
    pub fn enter(&self, session: &mut Session) -> Result<()> {
        if let Some(catalog) = &self.catalog {
            session.use_place(catalog, self.schema.as_deref())?;
        }
        self.settings.iter().try_for_each(|(name, value)| session.set(name, value))
    }

    pub fn is_empty(&self) -> bool {
        self.catalog.is_none() && self.schema.is_none() && self.settings.is_empty()
    }
}

pub struct HeldSession {
    pub id: String,
    pub owner: Arc<User>,
    pub started_at: DateTime<Utc>,
    session: Arc<tokio::sync::Mutex<Session>>,
    state: Mutex<State>,
    /// Statements under way and waiting.
    busy: AtomicUsize,
}

/// The session as it was after its last statement.
#[derive(Debug, Clone)]
pub struct State {
    pub place: Place,
    pub prepared: Vec<String>,
    pub views: Vec<String>,
    used: Instant,
}

impl State {
    fn of(session: &Session) -> State {
        let (prepared, views) = session.own_names();
        State { place: Place::of(session), prepared, views, used: Instant::now() }
    }

    pub fn idle(&self) -> Duration {
        self.used.elapsed()
    }
}

impl HeldSession {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn state(&self) -> State {
        self.lock().clone()
    }

    /// The session for one statement: others wait until it has ended, as they would on a connection to a database.
    pub async fn taken(self: &Arc<Self>) -> TakenSession {
        self.busy.fetch_add(1, Ordering::Relaxed);
        let waiting = Waiting(self.clone());
        let session = self.session.clone().lock_owned().await;
        TakenSession { session, waiting }
    }
}

/// Counts a statement for as long as it waits or runs.
struct Waiting(Arc<HeldSession>);

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.busy.fetch_sub(1, Ordering::Relaxed);
        self.0.lock().used = Instant::now();
    }
}

/// A session while its statement runs.
pub struct TakenSession {
    pub session: OwnedMutexGuard<Session>,
    waiting: Waiting,
}

impl Drop for TakenSession {
    fn drop(&mut self) {
        *self.waiting.0.lock() = State::of(&self.session);
    }
}

#[derive(Default)]
pub struct Sessions(Mutex<HashMap<String, Arc<HeldSession>>>);

fn unknown(id: &str) -> Error {
    Error::new(Code::NotFound, format!("there is no session {id}")).hint(format!(
        "a session ends when it has had no statement for {} minutes, and with the service; begin another one",
        IDLE_LIFE.as_secs() / 60
    ))
}

impl Sessions {
    fn lock(&self) -> MutexGuard<'_, HashMap<String, Arc<HeldSession>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn end_old(all: &mut HashMap<String, Arc<HeldSession>>) {
        all.retain(|_, held| held.busy.load(Ordering::Relaxed) > 0 || held.lock().idle() < IDLE_LIFE);
    }

    /// Begins a session of this user.
    pub fn begin(&self, engine: &Arc<Engine>, owner: Arc<User>, place: &Place) -> Result<Arc<HeldSession>> {
        let mut session = engine.session_of(owner.asker());
        place.enter(&mut session)?;
        let id: String = {
            let mut rng = rand::rng();
            (0..20).map(|_| char::from(rng.sample(rand::distr::Alphanumeric)).to_ascii_lowercase()).collect()
        };
        let state = State::of(&session);
        let held = Arc::new(HeldSession {
            id: id.clone(),
            owner,
            started_at: Utc::now(),
            session: Arc::new(tokio::sync::Mutex::new(session)),
            state: Mutex::new(state),
            busy: AtomicUsize::new(0),
        });
        let mut all = self.lock();
        Self::end_old(&mut all);
        if all.len() >= MOST {
            let idle = all.values().filter(|held| held.busy.load(Ordering::Relaxed) == 0);
            let longest = idle.max_by_key(|held| held.lock().idle()).filter(|held| held.lock().idle() > IN_USE);
            match longest.map(|held| held.id.clone()) {
                Some(old) => drop(all.remove(&old)),
                None => {
                    return Err(Error::new(Code::MemoryLimit, format!("{MOST} sessions are in use"))
                        .hint("end sessions that are no longer needed"));
                }
            }
        }
        all.insert(id, held.clone());
        Ok(held)
    }

    pub fn get(&self, id: &str) -> Result<Arc<HeldSession>> {
        let mut all = self.lock();
        Self::end_old(&mut all);
        all.get(id).cloned().ok_or_else(|| unknown(id))
    }

    /// Those of one user.
    pub fn of_user(&self, user: &User) -> Vec<Arc<HeldSession>> {
        let mut all = self.lock();
        Self::end_old(&mut all);
        let mut own: Vec<_> = all.values().filter(|held| held.owner.id == user.id).cloned().collect();
        own.sort_by_key(|held| held.started_at);
        own
    }

    /// Ends all sessions of a user who is dropped, or may do something else from now on.
    pub fn end_all_of(&self, user: i64) {
        self.lock().retain(|_, held| held.owner.id != user);
    }

    /// Ends a session. A statement under way goes on to its end.
    pub fn end(&self, id: &str) -> Result<Arc<HeldSession>> {
        self.lock().remove(id).ok_or_else(|| unknown(id))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::users::Role;

    fn user(id: i64) -> Arc<User> {
        Arc::new(User { id, name: "ada".into(), role: Role::User })
    }

    #[tokio::test]
    async fn statements_of_one_session_follow_each_other() {
        let engine = Engine::in_memory().unwrap();
        let sessions = Sessions::default();
        let held = sessions.begin(&engine, user(1), &Place::default()).unwrap();
        let mut first = held.taken().await;
        let second = tokio::spawn({
            let held = held.clone();
            async move { held.taken().await.session.setting("run.tasks") }
        });
        tokio::time::sleep(Duration::from_millis(50)).await;
        assert!(!second.is_finished(), "it waits");
        first.session.set("run.tasks", "1").unwrap();
        drop(first);
        assert_eq!(second.await.unwrap().as_deref(), Some("1"), "it sees what the first one has set");
        assert_eq!(held.state().place.settings["run.tasks"], "1");
    }

    #[test]
    fn sessions_are_their_users_and_end() {
        let engine = Engine::in_memory().unwrap();
        let sessions = Sessions::default();
        let held = sessions.begin(&engine, user(1), &Place::default()).unwrap();
        sessions.begin(&engine, user(2), &Place::default()).unwrap();
        // A user of the same name is another one.
        assert_eq!([1, 2, 3].map(|id| sessions.of_user(&user(id)).len()), [1, 1, 0]);
        sessions.end_all_of(2);
        assert_eq!([1, 2].map(|id| sessions.of_user(&user(id)).len()), [1, 0]);
        let wrong = Place { settings: BTreeMap::from([("run.tasks".into(), "none".into())]), ..Place::default() };
        assert!(sessions.begin(&engine, user(2), &wrong).is_err(), "what cannot be set begins nothing");
        held.lock().used = Instant::now().checked_sub(IDLE_LIFE).unwrap();
        let error = sessions.get(&held.id).err().unwrap();
        assert!(error.hint.unwrap().contains("60 minutes"));
        assert!(sessions.end(&held.id).is_err());
    }
}
