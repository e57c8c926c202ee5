//! The service's state: the engine, the records it is restored from, and the runs.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Float64Array, Int64Array, StringViewArray, TimestampMicrosecondArray};
use async_trait::async_trait;
use chrono::SecondsFormat;
use cobble_connect::{ConnectionDefinition, Secret};
use cobble_engine::{
    Asker, CatalogDefinition, Change, CollectedStatistics, Configuration, Drift, Engine, KnownFunction, KnownView,
    Look, Looking, MemoryTable, StateTables, TableDefinition, Take, UserFunction, UserView, Watch, text_rows,
};
use cobble_records::{
    Records, RestoredConnection, StoredCatalog, StoredConfiguration, StoredConnection, StoredDiscovery,
};
use cobble_types::{Code, Error, Result, SqlType};

use crate::lake_pointers::LakePointers;
use crate::recorder::Recorder;
use crate::runs::Runs;
use crate::sessions::Sessions;
use crate::users::Users;

pub struct Service {
    pub engine: Arc<Engine>,
    pub records: Records,
    pub runs: Runs,
    pub sessions: Sessions,
    pub started: Instant,
    pub users: Users,
    /// Connections and catalogs are changed by one at a time.
    applying: tokio::sync::Mutex<()>,
    /// Looks for tables that are under way, by their catalogs.
    looking: Arc<Mutex<HashMap<String, Arc<Looking>>>>,
}

/// A look under way, which ends when nobody waits for it any more.
struct UnderWay {
    catalog: String,
    looking: Arc<Looking>,
    all: Arc<Mutex<HashMap<String, Arc<Looking>>>>,
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        self.looking.cancel.cancel();
        self.all.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.catalog);
    }
}

/// What somebody wants of a look for tables.
#[derive(Debug, Clone, Default)]
pub struct Wish {
    pub path: String,
    pub schema: Option<String>,
    /// Nothing is changed without it.
    pub take: Option<Take>,
    /// Definitions to take rather than what was found.
    pub tables: BTreeMap<String, TableDefinition>,
    /// Seconds until the next look, from now on; 0 for none.
    pub every: Option<u64>,
    pub asked: bool,
    /// How texts are written, where it is known.
    pub form: TableDefinition,
}

/// How long a source may take to say what is left in it at the start.
const SWEEP_TIME: Duration = Duration::from_secs(5);

/// Runs a call that blocks where blocking is allowed.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Error::internal(format!("a task stopped: {e}")))?
}

/// What the secrets of a connection are given for.
pub fn destinations(definition: &serde_json::Value) -> [String; 2] {
    match serde_json::from_value::<ConnectionDefinition>(definition.clone()) {
        Ok(definition) => [definition.destination(), definition.destination_of_users()],
        // One that is not understood any more.
        Err(_) => [definition.to_string(), definition.to_string()],
    }
}

/// A definition as it is kept: the secret apart, to be sealed.
fn stored(definition: &ConnectionDefinition) -> Result<StoredConnection> {
    Ok(StoredConnection {
        name: definition.name.clone(),
        definition: serde_json::to_value(definition).map_err(|e| Error::internal(e.to_string()))?,
        secret: definition.secret.as_ref().map(|s| s.reveal().to_owned()),
        credentials: definition
            .credentials
            .iter()
            .filter_map(|(user, own)| Some((user.clone(), own.secret.as_ref()?.reveal().to_owned())))
            .collect(),
    })
}

fn stored_catalog(definition: &CatalogDefinition) -> Result<StoredCatalog> {
    Ok(StoredCatalog {
        name: definition.name.clone(),
        connection: definition.connection.clone(),
        definition: serde_json::to_value(definition).map_err(|e| Error::internal(e.to_string()))?,
    })
}

/// A catalog as it was kept; one of an earlier version has a name and a connection only.
fn restored_catalog(stored: StoredCatalog) -> Result<CatalogDefinition> {
    let mut definition: CatalogDefinition = serde_json::from_value(stored.definition)
        .map_err(|e| Error::internal(format!("catalog {}: {e}", stored.name)))?;
    (definition.name, definition.connection) = (stored.name, stored.connection);
    Ok(definition)
}

impl Service {
    /// An engine with everything that the records hold.
    pub async fn restore(records: Records, say: &dyn Fn(&str)) -> Result<Arc<Service>> {
        let engine = Engine::in_memory()?;
        engine.provide_pointers(Arc::new(LakePointers(records.clone())));
        let stored = records.clone();
        let (connections, catalogs) = blocking(move || Ok((stored.connections()?, stored.catalogs()?))).await?;
        let stored = records.clone();
        let (statistics, functions, views) =
            blocking(move || Ok((stored.statistics()?, stored.functions()?, stored.views()?))).await?;
        let users = Users::restore(records.clone()).await?;
        for RestoredConnection { stored: connection, unopened } in connections {
            let name = connection.name.clone();
            let restored = serde_json::from_value::<ConnectionDefinition>(connection.definition)
                .map_err(|e| Error::internal(format!("connection {name}: {e}")))
                .and_then(|mut definition| {
                    if let Some(why) = unopened {
                        say(&format!("{}: {}", why.message, why.hint.as_deref().unwrap_or_default()));
                        definition.credentials.clear();
                        return engine.add_closed_connection(definition, why);
                    }
                    definition.secret = connection.secret.map(Secret::new);
                    for (user, secret) in connection.credentials {
                        definition.credentials.entry(user).or_default().secret = Some(Secret::new(secret));
                    }
                    // Of users who went while the secrets could not be opened.
                    definition.credentials.retain(|user, _| users.named(user).is_ok());
                    engine.add_connection(definition)
                });
            // One definition that is not understood any more must not keep the others from their users.
            if let Err(error) = restored {
                say(&format!("connection {name} is left out: {error}"));
            }
        }
        for catalog in catalogs {
            let name = catalog.name.clone();
            if let Err(error) = restored_catalog(catalog).and_then(|definition| engine.add_catalog(definition)) {
                say(&format!("catalog {name} is left out: {error}"));
            }
        }
        for definition in functions {
            let restored = serde_json::from_value::<UserFunction>(definition)
                .map_err(|e| Error::internal(e.to_string()))
                .and_then(KnownFunction::new);
            match restored {
                Ok(function) => engine.take_function(function),
                Err(error) => say(&format!("a function that is not understood is left out: {error}")),
            }
        }
        for (name, definition) in views {
            let restored = serde_json::from_value::<UserView>(definition)
                .map_err(|e| Error::internal(e.to_string()))
                .and_then(KnownView::new);
            match restored {
                Ok(view) => engine.take_views([(name, view)]),
                Err(error) => say(&format!("view {name} is left out: {error}")),
            }
        }
        for found in statistics {
            match serde_json::from_value::<CollectedStatistics>(found) {
                Ok(collected) => engine.take_statistics(Arc::new(collected)),
                Err(error) => say(&format!("statistics that are not understood are left out: {error}")),
            }
        }
        let runs = Runs::new(engine.clone(), records.clone());
        engine.provide_state(Arc::new(State {
            records: records.clone(),
            recorder: runs.recorder.clone(),
            engine: Arc::downgrade(&engine),
        }));
        Ok(Arc::new(Service {
            engine,
            records,
            runs,
            sessions: Sessions::default(),
            users,
            started: Instant::now(),
            applying: Default::default(),
            looking: Arc::default(),
        }))
    }

    /// Removes what writers have left at the sources when the service was stopped in the middle.
    pub async fn sweep(&self, say: &dyn Fn(&str)) {
        let set = self.engine.set();
        let sweeps = set
            .connections
            .iter()
            .map(|(name, open)| async move { (name, tokio::time::timeout(SWEEP_TIME, open.connector.sweep()).await) });
        for (name, swept) in futures::future::join_all(sweeps).await {
            match swept {
                Ok(Ok(0)) => {}
                Ok(Ok(left)) => say(&format!("connection {name}: {left} unfinished writes were removed")),
                Ok(Err(error)) => say(&format!("connection {name}: unfinished writes may be left: {error}")),
                Err(_) => say(&format!("connection {name}: unfinished writes may be left: it did not answer in time")),
            }
        }
    }

    /// Adds a connection to the engine and to the records.
    pub async fn add_connection(&self, definition: ConnectionDefinition) -> Result<()> {
        let _alone = self.applying.lock().await;
        let stored = stored(&definition)?;
        let name = definition.name.clone();
        self.engine.add_connection(definition)?;
        let records = self.records.clone();
        let kept = blocking(move || records.add_connection(&stored)).await;
        if kept.is_err() {
            self.engine.remove_connection(&name)?;
        }
        kept
    }

    /// Changes a connection in the engine and in the records. Running queries keep the old one.
    pub async fn change_connection(
        &self,
        name: &str,
        change: impl FnOnce(&ConnectionDefinition) -> Result<ConnectionDefinition>,
    ) -> Result<ConnectionDefinition> {
        let _alone = self.applying.lock().await;
        let set = self.engine.set();
        let Some(before) = set.connections.get(name).map(|open| &open.definition) else {
            let error = Error::unknown("connection", name, set.connections.keys().map(String::as_str));
            return Err(Error { code: Code::NotFound, ..error });
        };
        let definition = change(before)?;
        if let Some(why) = set.connections.get(name).and_then(|open| open.closed.as_ref())
            && definition.secret.is_none()
        {
            // It would be lost for good, and the right key may come back.
            return Err(Error::new(Code::BadSetting, why.message.clone()).hint("give the secret again with the change"));
        }
        let stored = stored(&definition)?;
        self.engine.replace_connection(definition.clone())?;
        let records = self.records.clone();
        let kept = blocking(move || records.replace_connection(&stored)).await;
        if kept.is_err() {
            self.engine.replace_connection(before.clone())?;
        }
        kept.map(|()| definition)
    }

    /// Compares the wanted configuration with the current one and, unless it is a preview, applies it, all or nothing.
    pub async fn apply(
        &self,
        wanted: &Configuration,
        secrets: &BTreeMap<String, Secret>,
        preview: bool,
    ) -> Result<Vec<Change>> {
        let _alone = self.applying.lock().await;
        for (name, connection) in &wanted.connections {
            for user in connection.credentials.keys() {
                self.users.named(user).map_err(|e| {
                    let what = format!("connection {name} has credentials of a user who is not there: {}", e.message);
                    Error::new(Code::BadSetting, what).hint(format!("add the user first: cobble access add {user}"))
                })?;
            }
        }
        if preview {
            return Ok(self.engine.compare(wanted, secrets)?.changes);
        }
        let _still = self.engine.nothing_moves()?;
        let next = self.engine.compare(wanted, secrets)?;
        let changes = next.changes.clone();
        if changes.is_empty() {
            return Ok(changes);
        }
        let of_function = |known: &KnownFunction| Ok((known.function.name.clone(), as_json(known.function.as_ref())?));
        let kept = StoredConfiguration {
            connections: next.set.connections.values().map(|c| stored(&c.definition)).collect::<Result<_>>()?,
            catalogs: next.set.catalogs.values().map(stored_catalog).collect::<Result<_>>()?,
            functions: next.functions.values().map(of_function).collect::<Result<_>>()?,
            views: next
                .views
                .iter()
                .map(|(name, known)| Ok((name.clone(), as_json(&known.view)?)))
                .collect::<Result<_>>()?,
        };
        let records = self.records.clone();
        blocking(move || records.put_configuration(&kept)).await?;
        self.engine.reconfigure(next);
        Ok(changes)
    }

    /// Removes a user with everything that is theirs, so that a later one of the same name gets nothing of it.
    pub async fn drop_user(&self, name: &str) -> Result<()> {
        let user = self.users.named(name)?;
        let _alone = self.applying.lock().await;
        let set = self.engine.set();
        let had_own = set.connections.values().filter(|one| one.definition.credentials.contains_key(name));
        let without = had_own.map(|one| {
            let mut definition = one.definition.clone();
            definition.credentials.remove(name);
            definition
        });
        let without: Vec<ConnectionDefinition> = without.collect();
        self.users.remove(&user, without.iter().map(stored).collect::<Result<_>>()?).await?;
        self.sessions.end_all_of(user.id);
        self.runs.drop_all_of(user.id);
        self.engine.forget_user(name);
        without.into_iter().try_for_each(|definition| self.engine.replace_connection(definition))
    }

    /// How far a catalog's look for tables is, when one is under way.
    pub fn looking(&self, catalog: &str) -> Option<Arc<Looking>> {
        self.looking.lock().unwrap_or_else(PoisonError::into_inner).get(catalog).cloned()
    }

    /// One at a time: two would find the same.
    fn begin_looking(&self, catalog: &str) -> Result<UnderWay> {
        let looking = Arc::new(Looking::default());
        let mut all = self.looking.lock().unwrap_or_else(PoisonError::into_inner);
        if all.contains_key(catalog) {
            return Err(Error::new(Code::InUse, format!("a discovery in catalog {catalog} is already running"))
                .hint("wait for its end, or stop it"));
        }
        all.insert(catalog.to_owned(), looking.clone());
        Ok(UnderWay { catalog: catalog.to_owned(), looking, all: self.looking.clone() })
    }

    /// Looks for tables in a catalog's files, changes its definition unless it is a preview, and keeps what was other than before.
    pub async fn discover(&self, catalog: &str, wish: &Wish) -> Result<Look> {
        let under_way = self.begin_looking(catalog)?;
        let found = self
            .engine
            .discover(catalog, &wish.path, wish.schema.as_deref(), &wish.form.text_form(), &under_way.looking)
            .await;
        let mut look = found?;
        let Some(take) = wish.take else {
            self.engine.add_samples(catalog, &mut look, &under_way.looking).await?;
            return Ok(look);
        };
        drop(under_way);
        let _alone = self.applying.lock().await;
        let Some(before) = self.engine.set().catalogs.get(catalog).cloned() else {
            return Err(Error::unknown("catalog", catalog, []));
        };
        let mut next = look.taken(&before, take);
        if !wish.tables.is_empty() {
            next.tables.clone_from(&before.tables);
            next.tables.extend(wish.tables.iter().map(|(name, definition)| (name.clone(), definition.clone())));
            // A table may be taken under another name than it was found with.
            let name_of = |found: &str| {
                let found = &look.tables.iter().find(|table| table.name == found)?.definition;
                let is_same = |other: &TableDefinition| {
                    (&other.path, &other.files, &other.format) == (&found.path, &found.files, &found.format)
                };
                wish.tables.iter().find(|(_, definition)| is_same(definition)).map(|(name, _)| name.clone())
            };
            let taken =
                look.drift.iter().filter_map(|drift| Some(Drift { table: name_of(&drift.table)?, ..drift.clone() }));
            look.drift = taken.collect();
        }
        match wish.every {
            Some(0) => next.watch = None,
            Some(every) => next.watch = Some(Watch { path: wish.path.clone(), every }),
            None => {}
        }
        if next != before {
            self.replace_catalog(next).await?;
        }
        self.keep_look(catalog, wish, &look.drift).await?;
        Ok(look)
    }

    /// Keeps what a look has found, unless it is what the last one found.
    pub async fn keep_look(&self, catalog: &str, wish: &Wish, drift: &[Drift]) -> Result<()> {
        let changes = serde_json::to_value(drift).map_err(|e| Error::internal(e.to_string()))?;
        let found = StoredDiscovery {
            catalog: catalog.to_owned(),
            path: wish.path.clone(),
            asked: wish.asked,
            changes,
            looked_at: chrono::Utc::now(),
        };
        let records = self.records.clone();
        let is_empty = drift.is_empty();
        blocking(move || {
            let last = records.discoveries(&found.catalog, 1)?.pop();
            let is_known = last.is_some_and(|last| last.changes == found.changes && last.path == found.path);
            if is_empty || (is_known && !found.asked) { Ok(()) } else { records.add_discovery(&found) }
        })
        .await
    }

    pub async fn remove_connection(&self, name: &str) -> Result<()> {
        let _alone = self.applying.lock().await;
        let before = self.engine.set().connections.get(name).map(|known| known.definition.clone());
        self.engine.remove_connection(name)?;
        let (records, name) = (self.records.clone(), name.to_owned());
        let kept = blocking(move || records.remove_connection(&name)).await;
        if let (Err(_), Some(before)) = (&kept, before) {
            self.engine.add_connection(before)?;
        }
        kept
    }

    pub async fn add_catalog(&self, definition: CatalogDefinition) -> Result<()> {
        let _alone = self.applying.lock().await;
        let stored = stored_catalog(&definition)?;
        let name = definition.name.clone();
        self.engine.add_catalog(definition)?;
        let records = self.records.clone();
        let kept = blocking(move || records.put_catalog(&stored)).await;
        if kept.is_err() {
            self.engine.remove_catalog(&name)?;
        }
        kept
    }

    /// Changes a catalog in the engine and in the records.
    pub async fn change_catalog(
        &self,
        name: &str,
        change: impl FnOnce(&CatalogDefinition) -> Result<CatalogDefinition>,
    ) -> Result<()> {
        let _alone = self.applying.lock().await;
        let Some(before) = self.engine.set().catalogs.get(name).cloned() else {
            return Err(Error { code: Code::NotFound, ..Error::unknown("catalog", name, []) });
        };
        self.replace_catalog(change(&before)?).await
    }

    /// To be called by one who holds the lock of changes.
    async fn replace_catalog(&self, definition: CatalogDefinition) -> Result<()> {
        let stored = stored_catalog(&definition)?;
        let before = self.engine.set().catalogs.get(&definition.name).cloned();
        self.engine.replace_catalog(definition)?;
        let records = self.records.clone();
        let kept = blocking(move || records.put_catalog(&stored)).await;
        if let (Err(_), Some(before)) = (&kept, before) {
            self.engine.replace_catalog(before)?;
        }
        kept
    }

    pub async fn remove_catalog(&self, name: &str) -> Result<()> {
        let _alone = self.applying.lock().await;
        let before = self.engine.set().catalogs.get(name).cloned();
        self.engine.remove_catalog(name)?;
        let (records, name) = (self.records.clone(), name.to_owned());
        let kept = blocking(move || records.remove_catalog(&name)).await;
        if let (Err(_), Some(before)) = (&kept, before) {
            self.engine.add_catalog(before)?;
        }
        kept
    }
}

/// `lane.state.runs` and `lane.state.statistics`.
struct State {
    records: Records,
    recorder: Arc<Recorder>,
    /// The engine holds this state, so it is not held in turn.
    engine: Weak<Engine>,
}

fn as_json(value: &impl serde::Serialize) -> Result<serde_json::Value> {
    serde_json::to_value(value).map_err(|e| Error::internal(e.to_string()))
}

/// Runs shown in `lane.state.runs`.
const SHOWN_RUNS: i64 = 1000;

#[async_trait]
impl StateTables for State {
    fn names(&self) -> Vec<&'static str> {
        vec!["runs", "statistics"]
    }

    async fn keep_function(&self, name: &str, function: Option<&UserFunction>) -> Result<()> {
        let (records, name) = (self.records.clone(), name.to_owned());
        let definition = function.map(as_json).transpose()?;
        blocking(move || match definition {
            Some(definition) => records.put_function(&name, &definition),
            None => records.remove_function(&name),
        })
        .await
    }

    async fn keep_view(&self, name: &str, view: Option<&UserView>) -> Result<()> {
        let (records, name) = (self.records.clone(), name.to_owned());
        let definition = view.map(as_json).transpose()?;
        blocking(move || match definition {
            Some(definition) => records.put_view(&name, &definition),
            None => records.remove_view(&name),
        })
        .await
    }

    async fn keep_statistics(&self, collected: Arc<CollectedStatistics>) -> Result<()> {
        let records = self.records.clone();
        let found = as_json(collected.as_ref())?;
        blocking(move || records.put_statistics(collected.owner.as_deref(), &collected.table, &found)).await
    }

    async fn table(&self, name: &str, asker: &Asker) -> Result<Option<MemoryTable>> {
        match name {
            "runs" => self.runs(asker).await.map(Some),
            "statistics" => Ok(Some(self.statistics(asker))),
            _ => Ok(None),
        }
    }
}

impl State {
    fn statistics(&self, asker: &Asker) -> MemoryTable {
        let collected = self.engine.upgrade().map(|engine| engine.collected_statistics(asker)).unwrap_or_default();
        let mut rows = Vec::new();
        for one in &collected {
            let name = [one.table.to_string(), one.collected_at.to_rfc3339_opts(SecondsFormat::Secs, true)];
            for column in one.rows() {
                rows.push(name.iter().cloned().map(Some).chain(column).collect());
            }
        }
        let names =
            ["table", "collected_at", "column", "nulls", "distinct", "least", "greatest", "common", "histogram"];
        text_rows(&names, &rows)
    }

    async fn runs(&self, asker: &Asker) -> Result<MemoryTable> {
        self.recorder.catch_up().await;
        let records = self.records.clone();
        let whose = asker.id.filter(|_| !asker.is_administrator);
        let runs = blocking(move || records.runs(whose, SHOWN_RUNS)).await?;
        let text = |f: &dyn Fn(&cobble_records::StoredRun) -> String| {
            Arc::new(runs.iter().map(|r| Some(f(r))).collect::<StringViewArray>()) as ArrayRef
        };
        let number = |f: &dyn Fn(&cobble_records::StoredRun) -> i64| {
            Arc::new(runs.iter().map(|r| Some(f(r))).collect::<Int64Array>()) as ArrayRef
        };
        let started: TimestampMicrosecondArray = runs.iter().map(|r| Some(r.started_at.timestamp_micros())).collect();
        let columns = [
            ("id", SqlType::Text),
            ("state", SqlType::Text),
            ("statement", SqlType::Text),
            ("started_at", SqlType::TimestampTz),
            ("seconds", SqlType::Double),
            ("rows_out", SqlType::BigInt),
            ("rows_read", SqlType::BigInt),
            ("bytes_read", SqlType::BigInt),
            ("user", SqlType::Text),
        ];
        Ok(MemoryTable {
            columns: columns.map(|(n, t)| (n.to_owned(), t)).to_vec(),
            arrays: vec![
                text(&|r| r.id.clone()),
                text(&|r| r.state.clone()),
                text(&|r| r.statement.clone()),
                Arc::new(started.with_timezone("UTC")),
                Arc::new(runs.iter().map(|r| Some(r.seconds)).collect::<Float64Array>()),
                number(&|r| r.rows_out),
                number(&|r| r.rows_read),
                number(&|r| r.bytes_read),
                Arc::new(runs.iter().map(|r| r.user_name.clone()).collect::<StringViewArray>()),
            ],
            rows: runs.len(),
        })
    }
}
