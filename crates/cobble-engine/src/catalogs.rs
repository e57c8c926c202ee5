//! The engine's connections and catalogs. They change while queries run: a query keeps the set it began with.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError, RwLock};

use async_trait::async_trait;
use cobble_connect::{ConnectionDefinition, Connector, TestStep, connector};
use cobble_exec::CpuPool;
use cobble_plan::UserFunction;
use cobble_plan::registry::built_in;
use cobble_sql::{KnownFunction, KnownFunctions};
use cobble_types::{Code, Error, ObjectName, Result};
use serde::{Deserialize, Serialize};

use crate::analyze::CollectedStatistics;
use crate::configuration::Reconfiguration;
use crate::memory_table::MemoryTable;
use crate::session::Session;

/// A function as lists and completion show it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct FunctionEntry {
    pub name: String,
    /// In words for the engine's own, with names and types for those that users have made.
    pub arguments: String,
    pub result: Option<String>,
    /// `of one row`, `aggregate`, `of a window`, `makes rows`, or how it was made.
    pub kind: String,
}

/// A catalog: the name under which a connection's tables appear in SQL.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CatalogDefinition {
    pub name: String,
    pub connection: String,
}

/// Names that belong to the service itself.
pub const SYSTEM_CATALOG: &str = "lane";

#[derive(Debug)]
pub struct OpenConnection {
    pub definition: ConnectionDefinition,
    pub connector: Arc<dyn Connector>,
}

/// One state of the connections and catalogs; never changed, only replaced.
#[derive(Debug, Default)]
pub struct CatalogSet {
    pub connections: BTreeMap<String, Arc<OpenConnection>>,
    pub catalogs: BTreeMap<String, CatalogDefinition>,
}

/// Tables of the service's own state, shown as `lane.state.*`.
#[async_trait]
pub trait StateTables: Send + Sync {
    fn names(&self) -> Vec<&'static str>;
    async fn table(&self, name: &str) -> Result<Option<MemoryTable>>;
    /// Keeps a function that has been made, or forgets the one of this name.
    async fn keep_function(&self, _name: &str, _: Option<&UserFunction>) -> Result<()> {
        Ok(())
    }
    /// Keeps what an ANALYZE has found beyond the life of this process.
    async fn keep_statistics(&self, _: Arc<CollectedStatistics>) -> Result<()> {
        Ok(())
    }
}

pub struct Engine {
    pub(crate) pool: CpuPool,
    set: RwLock<Arc<CatalogSet>>,
    state: RwLock<Option<Arc<dyn StateTables>>>,
    functions: RwLock<Arc<KnownFunctions>>,
    pub(crate) statistics: RwLock<BTreeMap<ObjectName, Arc<CollectedStatistics>>>,
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
            state: RwLock::default(),
            functions: RwLock::default(),
            statistics: RwLock::default(),
        }))
    }

    pub fn session(self: &Arc<Self>) -> Session {
        Session::new(self.clone())
    }

    pub fn set(&self) -> Arc<CatalogSet> {
        self.set.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What all runs may hold together in memory, in bytes; without it, three quarters of what the machine has.
    pub fn set_memory(&self, bytes: u64) {
        self.pool.memory.set_limit(bytes);
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
        let own = built_in().into_iter().map(|f| FunctionEntry {
            name: f.name.to_owned(),
            arguments: f.arguments.to_owned(),
            result: None,
            kind: f.kind.to_owned(),
        });
        let made = self.functions();
        let made = made.values().map(|known| FunctionEntry {
            name: known.function.name.clone(),
            arguments: known.function.arguments(),
            result: Some(known.function.result.to_string()),
            kind: format!("made with CREATE FUNCTION, {}", known.function.language.word()),
        });
        let mut all: Vec<FunctionEntry> = own.chain(made).collect();
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

    pub fn provide_state(&self, state: Arc<dyn StateTables>) {
        *self.state.write().unwrap_or_else(PoisonError::into_inner) = Some(state);
    }

    pub(crate) fn state(&self) -> Option<Arc<dyn StateTables>> {
        self.state.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn change<T>(&self, change: impl FnOnce(&mut CatalogSet) -> Result<T>) -> Result<T> {
        let mut set = self.set.write().unwrap_or_else(PoisonError::into_inner);
        let mut next = CatalogSet { connections: set.connections.clone(), catalogs: set.catalogs.clone() };
        let outcome = change(&mut next)?;
        *set = Arc::new(next);
        Ok(outcome)
    }

    /// Checks the definition and takes it in; nothing is contacted.
    pub fn add_connection(&self, definition: ConnectionDefinition) -> Result<()> {
        let connector = connector(&definition)?;
        self.change(|set| {
            if set.connections.contains_key(&definition.name) {
                return Err(Error::new(
                    Code::AlreadyExists,
                    format!("there is a connection named {} already", definition.name),
                ));
            }
            set.connections.insert(definition.name.clone(), Arc::new(OpenConnection { definition, connector }));
            Ok(())
        })
    }

    /// Puts a definition in the place of the one with its name; queries that run go on with the old one.
    pub fn replace_connection(&self, definition: ConnectionDefinition) -> Result<()> {
        let connector = connector(&definition)?;
        self.change(|set| match set.connections.get_mut(&definition.name) {
            Some(place) => {
                *place = Arc::new(OpenConnection { definition, connector });
                Ok(())
            }
            None => Err(Error::unknown("connection", &definition.name, set.connections.keys().map(String::as_str))),
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

    pub fn remove_catalog(&self, name: &str) -> Result<()> {
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
            self.set().catalogs.keys().filter(|name| !next.catalogs.contains_key(*name)).cloned().collect();
        let mut set = self.set.write().unwrap_or_else(PoisonError::into_inner);
        *set = Arc::new(CatalogSet { connections: next.connections, catalogs: next.catalogs });
        drop(set);
        *self.functions.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(next.functions);
        gone.iter().for_each(|name| self.forget_statistics(name));
    }

    /// Tests a connection step by step, whether it has been added or not.
    pub async fn test_connection(
        definition: &ConnectionDefinition,
        report: &mut (dyn FnMut(TestStep) + Send),
    ) -> Result<()> {
        connector(definition)?.test(report).await;
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
        let Some(definition) = self.catalogs.get(catalog) else {
            return Err(Error::unknown("catalog", catalog, self.catalogs.keys().map(String::as_str)));
        };
        match self.connections.get(&definition.connection) {
            Some(connection) => Ok(&connection.connector),
            None => {
                Err(Error::internal(format!("catalog {catalog} has lost its connection {}", definition.connection)))
            }
        }
    }
}
