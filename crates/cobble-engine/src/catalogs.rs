//! The engine's connections and catalogs. They change while queries run: a query keeps the set it began with.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError, RwLock, Weak};

use crate::kinds::{KINDS, LAKES};
use async_trait::async_trait;
use cobble_connect::{
    Base, CatalogAnswer, CatalogCall, Closed, ConnectionDefinition, Connector, Defined, Effective, Pointers,
    TableDefinition, TestStep,
};
use cobble_exec::CpuPool;
use cobble_exec::Opened;
use cobble_functions::Entry as FunctionEntry;
use cobble_plan::scan::{GateScan, ScanSpec, Scans};
use cobble_plan::sink::{RowChange, SinkSpec, SourceChange};
use cobble_plan::{UserFunction, UserView};
use cobble_sql::{KnownFunction, KnownFunctions, KnownView};
use cobble_types::{Code, Error, ObjectName, Result};
use serde::{Deserialize, Serialize};
use tokio_util::task::AbortOnDropHandle;

use crate::analyze::CollectedStatistics;
use crate::configuration::Reconfiguration;
use crate::files_at;
use crate::memory_table::{self, MemoryTable};
use crate::routed::Routed;
use crate::session::Session;
use crate::views::{KnownViews, list};

/// A catalog: the name under which a connection's tables appear in SQL.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CatalogDefinition {
    pub name: String,
    pub connection: String,
    /// Settings that override those of the connection.
    #[serde(default)]
    pub options: BTreeMap<String, String>,
    /// Tables that it defines, by `schema.table`.
    #[serde(default)]
    pub tables: BTreeMap<String, TableDefinition>,
    /// Files that are looked through again and again for new tables and changed ones.
    #[serde(default)]
    pub watch: Option<Watch>,
}

/// What is looked through for tables, and how often.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Watch {
    /// Below the connection's address; empty for all of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub path: String,
    /// Seconds from one time to the next.
    pub every: u64,
}

/// Seconds that lie between two looks at least.
pub const SHORTEST_WATCH: u64 = 1;

impl CatalogDefinition {
    /// A catalog that shows what its connection has.
    pub fn new(name: impl Into<String>, connection: impl Into<String>) -> Self {
        CatalogDefinition { name: name.into(), connection: connection.into(), ..Default::default() }
    }

    /// Schema and name of each table that it defines.
    pub fn defined(&self) -> impl Iterator<Item = (&str, &str, &TableDefinition)> {
        self.tables.iter().filter_map(|(name, definition)| {
            let (schema, table) = name.split_once('.')?;
            Some((schema, table, definition))
        })
    }

    /// What stands before the connection for this catalog, over what the connection needs besides.
    fn connector(&self, connection: &OpenConnection, base: &Base) -> Result<Arc<dyn Connector>> {
        let own = |options: &BTreeMap<String, String>, what: &str, inner: &Arc<dyn Connector>| -> Result<_> {
            if options.is_empty() || connection.closed.is_some() {
                Ok(inner.clone())
            } else {
                let inner = KINDS.connect(&connection.definition.tuned(options, what)?)?;
                Ok(inner.over(base).unwrap_or(inner))
            }
        };
        let shared = connection.connector.over(base).unwrap_or_else(|| connection.connector.clone());
        let inner = own(&self.options, "catalog", &shared)?;
        if let Some(watch) = self.watch.as_ref().filter(|watch| watch.every < SHORTEST_WATCH) {
            return Err(Error::new(
                Code::BadSetting,
                format!("every {} s is too often to look for tables", watch.every),
            )
            .hint(format!("give {SHORTEST_WATCH} or more")));
        }
        if self.tables.is_empty() {
            return Ok(inner);
        }
        let mut tables = BTreeMap::new();
        for (name, definition) in &self.tables {
            let Some((schema, table)) = name.split_once('.').filter(|(s, t)| !s.is_empty() && !t.is_empty()) else {
                return Err(Error::new(Code::BadSetting, format!("\"{name}\" is not the name of a table in a schema"))
                    .hint("write it as schema.table"));
            };
            definition.check(name)?;
            inner
                .check_definition(definition)
                .map_err(|e| Error { message: format!("table {name}: {}", e.message), ..e })?;
            let options: BTreeMap<String, String> =
                self.options.iter().chain(&definition.options).map(|(n, v)| (n.clone(), v.clone())).collect();
            let inner = if definition.options.is_empty() { inner.clone() } else { own(&options, "table", &inner)? };
            tables.insert((schema.to_owned(), table.to_owned()), (definition.clone(), inner));
        }
        Ok(Arc::new(Defined::new(inner, tables)))
    }
}

/// Names that belong to the service itself.
pub const SYSTEM_CATALOG: &str = "lane";

#[derive(Debug)]
pub struct OpenConnection {
    pub definition: ConnectionDefinition,
    pub connector: Arc<dyn Connector>,
    /// Why it cannot be used, where its secret cannot be opened.
    pub closed: Option<Error>,
}

impl OpenConnection {
    /// Nothing is contacted.
    pub fn new(definition: ConnectionDefinition) -> Result<OpenConnection> {
        Ok(OpenConnection { connector: KINDS.connect(&definition)?, definition, closed: None })
    }

    fn closed(definition: ConnectionDefinition, why: Error) -> OpenConnection {
        OpenConnection { definition, connector: Arc::new(Closed { why: why.clone() }), closed: Some(why) }
    }
}

/// Who asks: a user of the service, or with nothing else known the program that the engine is part of, which may do everything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asker {
    pub id: Option<i64>,
    pub name: Option<String>,
    pub is_administrator: bool,
}

impl Default for Asker {
    fn default() -> Asker {
        Asker { id: None, name: None, is_administrator: true }
    }
}

impl Asker {
    /// Refuses what only administrators may do.
    pub fn administers(&self, what: &str) -> Result<()> {
        match &self.name {
            Some(name) if !self.is_administrator => {
                Err(Error::new(Code::NotAllowed, format!("user {name} may not {what}: that is for administrators")))
            }
            _ => Ok(()),
        }
    }
}

/// One state of the connections and catalogs, as somebody sees it; never changed, only replaced.
#[derive(Debug, Default)]
pub struct CatalogSet {
    pub asker: Asker,
    /// Connections that are not as all others see them: the user signs in there with their own credentials.
    own: BTreeSet<String>,
    pub connections: BTreeMap<String, Arc<OpenConnection>>,
    pub catalogs: BTreeMap<String, CatalogDefinition>,
    /// One for each catalog.
    pub(crate) connectors: BTreeMap<String, Arc<dyn Connector>>,
    /// Where the last states of lake tables are kept.
    pointers: Option<Arc<dyn Pointers>>,
    /// Of files of this machine that statements have named, the last ones, by their paths.
    files_of_machine: Mutex<VecDeque<(String, Arc<dyn Connector>)>>,
}

/// So many of them.
const MOST_FILES_OF_MACHINE: usize = 16;

impl CatalogSet {
    /// What reads the files at a path of this machine.
    pub(crate) fn files_of_machine(&self, path: &str) -> Result<Arc<dyn Connector>> {
        let mut known = self.files_of_machine.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, connector)) = known.iter().find(|(own, _)| own == path) {
            return Ok(connector.clone());
        }
        let connector = KINDS.connect(&ConnectionDefinition::new("files", "files", path))?;
        known.push_front((path.to_owned(), connector.clone()));
        known.truncate(MOST_FILES_OF_MACHINE);
        Ok(connector)
    }

    /// Whose the tables of a catalog are: a user's who signs in there with their own credentials, or else everybody's.
    pub fn owner(&self, catalog: &str) -> Option<&str> {
        let connection = &self.catalogs.get(catalog)?.connection;
        self.asker.name.as_deref().filter(|_| self.own.contains(connection))
    }

    /// Puts connectors before the catalogs, those of `before` where nothing is other than there.
    pub(crate) fn new(
        connections: BTreeMap<String, Arc<OpenConnection>>,
        catalogs: BTreeMap<String, CatalogDefinition>,
        before: &CatalogSet,
    ) -> Result<CatalogSet> {
        let mut connectors = BTreeMap::new();
        for (name, catalog) in &catalogs {
            let Some(connection) = connections.get(&catalog.connection) else {
                let error = Error::unknown("connection", &catalog.connection, connections.keys().map(String::as_str));
                return Err(Error { message: format!("catalog {name}: {}", error.message), ..error });
            };
            let storage = storage_of(&connection.definition).and_then(|name| connections.get(name));
            let is_as_before = |now: &Arc<OpenConnection>| {
                before.connections.get(&now.definition.name).is_some_and(|known| Arc::ptr_eq(known, now))
            };
            let same = before.catalogs.get(name) == Some(catalog)
                && is_as_before(connection)
                && storage.is_none_or(is_as_before);
            let connector = match before.connectors.get(name).filter(|_| same) {
                Some(connector) => connector.clone(),
                None => catalog
                    .connector(connection, &before.base_of(&connection.definition, &connections))
                    .map_err(|e| Error { message: format!("catalog {name}: {}", e.message), ..e })?,
            };
            connectors.insert(name.clone(), connector);
        }
        let pointers = before.pointers.clone();
        Ok(CatalogSet { connections, catalogs, connectors, pointers, ..CatalogSet::default() })
    }

    /// What a connection needs besides itself.
    fn base_of(&self, definition: &ConnectionDefinition, connections: &BTreeMap<String, Arc<OpenConnection>>) -> Base {
        let storage = storage_of(definition).and_then(|name| connections.get(name));
        Base { storage: storage.and_then(|storage| storage.connector.storage()), pointers: self.pointers.clone() }
    }
}

/// The connection that holds the files of another one.
fn storage_of(definition: &ConnectionDefinition) -> Option<&str> {
    definition.option("storage")
}

/// Tables of the service's own state, shown as `lane.state.*`.
#[async_trait]
pub trait StateTables: Send + Sync {
    fn names(&self) -> Vec<&'static str>;
    /// A table as whoever asks may see it.
    async fn table(&self, name: &str, asker: &Asker) -> Result<Option<MemoryTable>>;
    /// Keeps a function that has been made, or forgets the one of this name.
    async fn keep_function(&self, _name: &str, _: Option<&UserFunction>) -> Result<()> {
        Ok(())
    }
    /// Keeps a view that has been made, or forgets the one of this name.
    async fn keep_view(&self, _name: &str, _: Option<&UserView>) -> Result<()> {
        Ok(())
    }
    /// Keeps what an ANALYZE has found beyond the life of this process.
    async fn keep_statistics(&self, _: Arc<CollectedStatistics>) -> Result<()> {
        Ok(())
    }
}

/// A table as it is everybody's, or a user's.
pub(crate) type OwnedTable = (Option<String>, ObjectName);

/// A set as one user sees it.
struct Seen {
    of: Arc<CatalogSet>,
    seen: Arc<CatalogSet>,
}

pub struct Engine {
    pub(crate) pool: CpuPool,
    set: RwLock<Arc<CatalogSet>>,
    /// What users see, by their names.
    seen: Mutex<BTreeMap<String, Seen>>,
    state: RwLock<Option<Arc<dyn StateTables>>>,
    functions: RwLock<Arc<KnownFunctions>>,
    pub(crate) views: RwLock<Arc<KnownViews>>,
    /// Tables in tiers of which rows are being moved.
    pub(crate) moving: Arc<Mutex<BTreeSet<String>>>,
    /// Their earlier states, as long as a statement runs that began in them.
    pub(crate) earlier: Mutex<BTreeMap<String, Vec<Weak<KnownView>>>>,
    pub(crate) statistics: RwLock<BTreeMap<OwnedTable, Arc<CollectedStatistics>>>,
}

impl std::fmt::Debug for Engine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Engine").field("set", &self.set()).finish_non_exhaustive()
    }
}

impl Engine {
    /// An engine without any connection, on one thread per core.
    pub fn in_memory() -> Result<Arc<Engine>> {
        Ok(Arc::new(Engine {
            pool: CpuPool::new()?,
            set: RwLock::default(),
            seen: Mutex::default(),
            state: RwLock::default(),
            functions: RwLock::default(),
            views: RwLock::default(),
            moving: Arc::default(),
            earlier: Mutex::default(),
            statistics: RwLock::default(),
        }))
    }

    pub fn session(self: &Arc<Self>) -> Session {
        Session::new(self.clone(), Asker::default())
    }

    /// A session of a user of the service, who signs in at systems with credentials of their own where there are some.
    pub fn session_of(self: &Arc<Self>, asker: Asker) -> Session {
        Session::new(self.clone(), asker)
    }

    /// The connections and catalogs as a user sees them: where the user has credentials, by connections of their own.
    pub fn set_for(&self, asker: &Asker) -> Result<Arc<CatalogSet>> {
        let set = self.set();
        let Some(user) = asker.name.as_deref() else { return Ok(set) };
        let mut all_seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let before = match all_seen.get(user) {
            Some(view) if Arc::ptr_eq(&view.of, &set) && view.seen.asker == *asker => return Ok(view.seen.clone()),
            Some(view) if view.seen.asker.id == asker.id => view.seen.clone(),
            _ => Arc::new(CatalogSet { pointers: set.pointers.clone(), ..CatalogSet::default() }),
        };
        let mut connections = set.connections.clone();
        let mut own = BTreeSet::new();
        for (name, place) in &mut connections {
            let Some(definition) = place.definition.of_user(user).filter(|_| place.closed.is_none()) else { continue };
            own.insert(name.clone());
            *place = match before.connections.get(name).filter(|known| known.definition == definition) {
                Some(known) => known.clone(),
                None => Arc::new(OpenConnection::new(definition)?),
            };
        }
        // So is one whose files lie on such a connection.
        let over: Vec<String> = connections
            .values()
            .filter(|place| storage_of(&place.definition).is_some_and(|storage| own.contains(storage)))
            .map(|place| place.definition.name.clone())
            .collect();
        own.extend(over);
        let mut view = CatalogSet::new(connections, set.catalogs.clone(), &before)?;
        // What is as for all others is the same.
        for (name, catalog) in &set.catalogs {
            if let Some(shared) = set.connectors.get(name).filter(|_| !own.contains(&catalog.connection)) {
                view.connectors.insert(name.clone(), shared.clone());
            }
        }
        let seen = Arc::new(CatalogSet { asker: asker.clone(), own, ..view });
        all_seen.insert(user.to_owned(), Seen { of: set, seen: seen.clone() });
        Ok(seen)
    }

    pub fn set(&self) -> Arc<CatalogSet> {
        self.set.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What all runs may hold together in memory, in bytes; without it, three quarters of what the machine has.
    pub fn set_memory(&self, bytes: u64) {
        self.pool.memory.set_limit(bytes);
    }

    /// Runs work that may take a processor for some time, such as planning, on a thread that is meant for it.
    pub fn spawn(&self, work: impl Future<Output = ()> + Send + 'static) {
        drop(self.pool.spawn(work));
    }

    /// The same, with what it gives. Dropping the future gives the work up.
    ///
    /// # Errors
    /// Where the work panics.
    pub async fn apart<T: Send + 'static>(&self, work: impl Future<Output = Result<T>> + Send + 'static) -> Result<T> {
        let work = self.pool.spawn(work).ok_or_else(|| Error::internal("the pool has shut down"))?;
        AbortOnDropHandle::new(work).await.unwrap_or_else(|e| Err(Error::internal(format!("a task stopped: {e}"))))
    }

    /// The memory of all runs, for what outlives them.
    pub fn service_memory(&self) -> Arc<cobble_exec::ServiceMemory> {
        self.pool.memory.clone()
    }

    /// Bytes that all runs hold now, and may hold together.
    pub fn memory(&self) -> (u64, u64) {
        (self.pool.memory.used(), self.pool.memory.limit())
    }

    /// The functions that users have made; a query keeps the set it began with.
    pub fn functions(&self) -> Arc<KnownFunctions> {
        self.functions.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Every function that a statement can call, those that users have made among them, by name.
    pub fn function_list(&self) -> Vec<FunctionEntry> {
        let made = self.functions();
        let mut all = cobble_functions::entries();
        all.extend(made.values().map(|known| known.function.entry()));
        all.sort();
        all
    }

    /// Takes a function in, in the place of one of the same name.
    pub fn take_function(&self, function: KnownFunction) {
        let mut all = self.functions.write().unwrap_or_else(PoisonError::into_inner);
        Arc::make_mut(&mut all).insert(function.function.name.clone(), function);
    }

    pub fn remove_function(&self, name: &str) {
        let mut all = self.functions.write().unwrap_or_else(PoisonError::into_inner);
        Arc::make_mut(&mut all).remove(name);
    }

    /// Where the last states of lake tables are kept from now on. To be called before connections are added.
    pub fn provide_pointers(&self, pointers: Arc<dyn Pointers>) {
        let mut set = self.set.write().unwrap_or_else(PoisonError::into_inner);
        let known = CatalogSet { pointers: Some(pointers), ..CatalogSet::default() };
        *set = Arc::new(known);
    }

    pub fn provide_state(&self, state: Arc<dyn StateTables>) {
        *self.state.write().unwrap_or_else(PoisonError::into_inner) = Some(state);
    }

    pub(crate) fn state(&self) -> Option<Arc<dyn StateTables>> {
        self.state.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn change<T>(&self, change: impl FnOnce(&mut CatalogSet) -> Result<T>) -> Result<T> {
        let mut set = self.set.write().unwrap_or_else(PoisonError::into_inner);
        let (connections, catalogs) = (set.connections.clone(), set.catalogs.clone());
        let mut next = CatalogSet { connections, catalogs, ..CatalogSet::default() };
        let outcome = change(&mut next)?;
        *set = Arc::new(CatalogSet::new(next.connections, next.catalogs, &set)?);
        drop(set);
        self.follow();
        Ok(outcome)
    }

    /// Brings what users see up to the set that is now, so that nothing of an earlier one stays open.
    pub(crate) fn follow(&self) {
        let seen = || self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let askers: Vec<Asker> = seen().values().map(|view| view.seen.asker.clone()).collect();
        for asker in askers {
            if self.set_for(&asker).is_err()
                && let Some(user) = &asker.name
            {
                seen().remove(user);
            }
        }
    }

    /// Forgets what was for a user of this name: what they see, and what was collected with their credentials.
    pub fn forget_user(&self, user: &str) {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).remove(user);
        let mut statistics = self.statistics.write().unwrap_or_else(PoisonError::into_inner);
        statistics.retain(|(owner, _), _| owner.as_deref() != Some(user));
    }

    /// Checks the definition and takes it in; nothing is contacted.
    pub fn add_connection(&self, definition: ConnectionDefinition) -> Result<()> {
        self.add_open(OpenConnection::new(definition)?)
    }

    /// Keeps the place of a connection that cannot be used until its secret is given again.
    pub fn add_closed_connection(&self, definition: ConnectionDefinition, why: Error) -> Result<()> {
        self.add_open(OpenConnection::closed(definition, why))
    }

    fn add_open(&self, open: OpenConnection) -> Result<()> {
        let name = open.definition.name.clone();
        self.change(|set| {
            if set.connections.contains_key(&name) {
                return Err(Error::new(Code::AlreadyExists, format!("there is a connection named {name} already")));
            }
            set.connections.insert(name, Arc::new(open));
            Ok(())
        })
    }

    /// Puts a definition in the place of the one with its name; queries that run go on with the old one.
    pub fn replace_connection(&self, definition: ConnectionDefinition) -> Result<()> {
        let open = OpenConnection::new(definition)?;
        let name = open.definition.name.clone();
        self.change(|set| match set.connections.get_mut(&name) {
            Some(place) => {
                *place = Arc::new(open);
                Ok(())
            }
            None => Err(Error::unknown("connection", &name, set.connections.keys().map(String::as_str))),
        })
    }

    pub fn remove_connection(&self, name: &str) -> Result<()> {
        self.change(|set| {
            let users: Vec<&str> =
                set.catalogs.values().filter(|c| c.connection == name).map(|c| c.name.as_str()).collect();
            if !users.is_empty() {
                return Err(Error::new(
                    Code::InUse,
                    format!("connection {name} is used by catalog {}", users.join(", ")),
                )
                .hint("drop the catalog first"));
            }
            let over = set.connections.values().find(|c| storage_of(&c.definition) == Some(name));
            if let Some(over) = over {
                let what = format!("connection {name} holds the files of connection {}", over.definition.name);
                return Err(Error::new(Code::InUse, what).hint("remove that one first"));
            }
            match set.connections.remove(name) {
                Some(_) => Ok(()),
                None => Err(Error::unknown("connection", name, set.connections.keys().map(String::as_str))),
            }
        })
    }

    pub fn add_catalog(&self, definition: CatalogDefinition) -> Result<()> {
        check_catalog_name(&definition.name)?;
        self.change(|set| {
            if set.catalogs.contains_key(&definition.name) {
                return Err(Error::new(
                    Code::AlreadyExists,
                    format!("there is a catalog named {} already", definition.name),
                ));
            }
            if !set.connections.contains_key(&definition.connection) {
                let known = set.connections.keys().map(String::as_str);
                return Err(Error::unknown("connection", &definition.connection, known));
            }
            set.catalogs.insert(definition.name.clone(), definition.clone());
            Ok(())
        })
    }

    /// Puts a definition in the place of the one with its name; queries that run go on with the old one.
    pub fn replace_catalog(&self, definition: CatalogDefinition) -> Result<()> {
        self.change(|set| match set.catalogs.get_mut(&definition.name) {
            Some(place) => {
                *place = definition.clone();
                Ok(())
            }
            None => Err(Error::unknown("catalog", &definition.name, set.catalogs.keys().map(String::as_str))),
        })
    }

    /// The settings that work for a catalog, or for a table of it, for a user, and where each comes from.
    pub fn effective(&self, catalog: &str, table: Option<&str>, user: Option<&str>) -> Result<Vec<Effective>> {
        let set = self.set();
        let Some(known) = set.catalogs.get(catalog) else {
            return Err(Error::unknown("catalog", catalog, set.catalogs.keys().map(String::as_str)));
        };
        let Some(connection) = set.connections.get(&known.connection) else {
            return Err(Error::internal(format!("catalog {catalog} has lost its connection {}", known.connection)));
        };
        let none = BTreeMap::new();
        // A table that is not defined here has no settings of its own.
        let of_table = table.and_then(|table| known.tables.get(table)).map_or(&none, |table| &table.options);
        let definition = &connection.definition;
        let over = [("catalog", &known.options), ("table", of_table)];
        Ok(definition.effective(KINDS.kind_of(definition)?, &over, user))
    }

    pub fn remove_catalog(&self, name: &str) -> Result<()> {
        match self.readers_of_catalog(name).as_slice() {
            [] => {}
            readers => {
                return Err(Error::new(Code::InUse, format!("catalog {name} is read by {}", list(readers)))
                    .hint("drop what reads it first"));
            }
        }
        self.change(|set| match set.catalogs.remove(name) {
            Some(_) => Ok(()),
            None => Err(Error::unknown("catalog", name, set.catalogs.keys().map(String::as_str))),
        })?;
        self.forget_statistics(name);
        Ok(())
    }

    /// Puts everything that was compared in the place of what there is, at once; queries that run go on with what they began with.
    pub fn reconfigure(&self, next: Reconfiguration) {
        let gone: Vec<String> =
            self.set().catalogs.keys().filter(|name| !next.set.catalogs.contains_key(*name)).cloned().collect();
        let mut set = self.set.write().unwrap_or_else(PoisonError::into_inner);
        *set = next.set;
        drop(set);
        self.follow();
        *self.functions.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(next.functions);
        self.put_views(next.views);
        gone.iter().for_each(|name| self.forget_statistics(name));
    }

    /// Answers a call of the open protocol for catalogs of lake tables.
    pub async fn serve_catalog(&self, asker: &Asker, catalog: &str, call: CatalogCall) -> Result<CatalogAnswer> {
        let name = self.lake_catalog(asker, Some(catalog))?;
        let set = self.set_for(asker)?;
        let connector = set.connectors.get(&name);
        let connector = connector.ok_or_else(|| Error::internal(format!("catalog {name} has lost its connector")))?;
        connector.serve(call).await
    }

    /// The catalog of lake tables of this name; without a name the only one.
    pub fn lake_catalog(&self, asker: &Asker, wanted: Option<&str>) -> Result<String> {
        let set = self.set_for(asker)?;
        let is_lake = |catalog: &&CatalogDefinition| {
            let kind = set.connections.get(&catalog.connection).map(|place| place.definition.kind.as_str());
            kind.is_some_and(|kind| LAKES.contains(&kind))
        };
        let all: Vec<&str> = set.catalogs.values().filter(is_lake).map(|catalog| catalog.name.as_str()).collect();
        match (wanted.filter(|name| !name.is_empty()), all.as_slice()) {
            (Some(name), all) if all.contains(&name) => Ok(name.to_owned()),
            (None, [only]) => Ok((*only).to_owned()),
            (Some(name), all) => Err(Error::unknown("catalog of lake tables", name, all.iter().copied())),
            (None, all) => {
                Err(Error::new(Code::BadSetting, "the warehouse is to be the name of a catalog of lake tables")
                    .hint(format!("there are {}", if all.is_empty() { "none".to_owned() } else { all.join(", ") })))
            }
        }
    }

    /// Tests a connection step by step, whether it has been added or not. Another one that holds its files is one of ours, as the asker signs in
    /// there.
    pub async fn test_connection(
        &self,
        definition: &ConnectionDefinition,
        asker: &Asker,
        report: &mut (dyn FnMut(TestStep) + Send),
    ) -> Result<()> {
        let connector = KINDS.connect(definition)?;
        let set = self.set_for(asker)?;
        let base = set.base_of(definition, &set.connections);
        connector.over(&base).unwrap_or(connector).test(report).await;
        Ok(())
    }
}

/// Names of catalogs are plain SQL identifiers that are not taken.
pub fn check_catalog_name(name: &str) -> Result<()> {
    let plain =
        name.chars().enumerate().all(|(i, c)| c == '_' || c.is_ascii_lowercase() || (i > 0 && c.is_ascii_digit()));
    if plain && !name.is_empty() && name != SYSTEM_CATALOG && name != "information_schema" {
        return Ok(());
    }
    Err(Error::new(Code::BadSetting, format!("\"{name}\" cannot be the name of a catalog"))
        .hint("use small letters, digits and underscores; lane and information_schema are taken"))
}

impl CatalogSet {
    pub fn connector(&self, catalog: &str) -> Result<&Arc<dyn Connector>> {
        self.connectors
            .get(catalog)
            .ok_or_else(|| Error::unknown("catalog", catalog, self.catalogs.keys().map(String::as_str)))
    }
}

impl CatalogSet {
    /// The connector that a scan's work was agreed with.
    fn connector_of(&self, spec: &ScanSpec) -> Result<Arc<dyn Connector>> {
        // No connection of a catalog: a table of a database may have such a name, too.
        if spec.kind == "files" && spec.table.schema == files_at::SCHEMA && files_at::is_of_machine(&spec.table.table) {
            return self.files_of_machine(&spec.table.table);
        }
        let connector = self.connector(&spec.table.catalog)?;
        let own = self.catalogs.get(&spec.table.catalog).and_then(|c| self.connections.get(&c.connection));
        match own.map(|own| &own.definition) {
            Some(own) if own.name == spec.connection && own.kind == spec.kind => Ok(connector.clone()),
            _ => {
                let ScanSpec { connection, kind, table, .. } = spec;
                let what = format!(
                    "the plan reads {table} by connection {connection} of kind {kind}, and it is another one here"
                );
                Err(Error::new(Code::NotFound, what).hint("plan the statement again"))
            }
        }
    }

    /// Opens the tables that a plan writes into.
    pub(crate) async fn writers(&self, sinks: &[SinkSpec], held: &[Arc<KnownView>]) -> Result<Vec<Opened>> {
        let mut writers = Vec::new();
        let open = async |sink: &SinkSpec| self.connector(&sink.table.catalog)?.writer(sink.rows.clone()).await;
        for sink in sinks {
            let writer = match &sink.routes {
                None => open(sink).await?,
                Some(routes) => {
                    let (recent, older) = (open(&routes.recent).await?, open(&routes.older).await?);
                    Box::new(Routed::new(routes.as_ref().clone(), recent, older, held.to_vec()))
                }
            };
            writers.push((sink.table.clone(), writer));
        }
        Ok(writers)
    }
}

impl Scans for CatalogSet {
    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        match spec.kind.as_str() {
            memory_table::KIND => memory_table::scan(spec),
            _ => self.connector_of(spec)?.scan(spec),
        }
    }

    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        self.connector_of(spec)?.change(spec, change)
    }
}
