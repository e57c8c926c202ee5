//! Names whose values change under a condition: where a catalog of tables keeps which metadata file is a table's last one.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Mutex, PoisonError};

use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};

/// What a pointer belongs to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PointerName {
    /// The connection.
    pub lake: String,
    pub schema: String,
    pub name: String,
    pub is_view: bool,
}

/// Where a table, or a view, has its last metadata file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pointer {
    /// The whole name of the file.
    pub metadata: String,
    pub bytes: u64,
    /// The folder of the table.
    pub location: String,
}

/// A schema with its properties.
pub type SchemaProperties = BTreeMap<String, String>;

/// Calls may wait for a server.
pub trait Pointers: Send + Sync + fmt::Debug {
    /// Schemas that were made or that something is in, in order of their names.
    fn schemas(&self, lake: &str) -> Result<Vec<String>>;
    /// None where the schema was not made.
    fn schema(&self, lake: &str, schema: &str) -> Result<Option<SchemaProperties>>;
    /// Makes a schema, gives it other properties, or forgets it.
    fn keep_schema(&self, lake: &str, schema: &str, properties: Option<&SchemaProperties>) -> Result<()>;
    /// Names in a schema, in order.
    fn names(&self, lake: &str, schema: &str, views: bool) -> Result<Vec<String>>;
    fn get(&self, name: &PointerName) -> Result<Option<Pointer>>;
    /// Puts `next` in the place of what is there, if that names this metadata file, or nothing where it is none. False, with nothing changed, where it
    /// does not.
    fn swap(&self, name: &PointerName, before: Option<&str>, next: Option<&Pointer>) -> Result<bool>;
    /// Gives what names this metadata file another name, in one step. False, with nothing changed, where it names another file by now.
    ///
    /// # Errors
    /// [`cobble_types::Code::AlreadyExists`] when the other name is taken.
    fn rename(&self, name: &PointerName, before: &str, to: &PointerName) -> Result<bool>;
}

/// Pointers that live as long as this process.
#[derive(Debug, Default)]
pub struct MemoryPointers {
    held: Mutex<Held>,
}

#[derive(Debug, Default)]
struct Held {
    pointers: BTreeMap<PointerName, Pointer>,
    schemas: BTreeMap<(String, String), SchemaProperties>,
}

impl MemoryPointers {
    fn with<T>(&self, work: impl FnOnce(&mut Held) -> T) -> T {
        work(&mut self.held.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Pointers for MemoryPointers {
    fn schemas(&self, lake: &str) -> Result<Vec<String>> {
        Ok(self.with(|held| {
            let made = held.schemas.keys().filter(|(own, _)| own == lake).map(|(_, schema)| schema);
            let used = held.pointers.keys().filter(|own| own.lake == lake).map(|own| &own.schema);
            let mut all: Vec<String> = made.chain(used).cloned().collect();
            all.sort();
            all.dedup();
            all
        }))
    }

    fn schema(&self, lake: &str, schema: &str) -> Result<Option<SchemaProperties>> {
        Ok(self.with(|held| held.schemas.get(&(lake.to_owned(), schema.to_owned())).cloned()))
    }

    fn keep_schema(&self, lake: &str, schema: &str, properties: Option<&SchemaProperties>) -> Result<()> {
        let key = (lake.to_owned(), schema.to_owned());
        self.with(|held| match properties {
            Some(properties) => drop(held.schemas.insert(key, properties.clone())),
            None => drop(held.schemas.remove(&key)),
        });
        Ok(())
    }

    fn names(&self, lake: &str, schema: &str, views: bool) -> Result<Vec<String>> {
        let own = |name: &&PointerName| name.lake == lake && name.schema == schema && name.is_view == views;
        Ok(self.with(|held| held.pointers.keys().filter(own).map(|name| name.name.clone()).collect()))
    }

    fn get(&self, name: &PointerName) -> Result<Option<Pointer>> {
        Ok(self.with(|held| held.pointers.get(name).cloned()))
    }

    fn swap(&self, name: &PointerName, before: Option<&str>, next: Option<&Pointer>) -> Result<bool> {
        Ok(self.with(|held| {
            if held.pointers.get(name).map(|own| own.metadata.as_str()) != before {
                return false;
            }
            match next {
                Some(next) => drop(held.pointers.insert(name.clone(), next.clone())),
                None => drop(held.pointers.remove(name)),
            }
            true
        }))
    }

    fn rename(&self, name: &PointerName, before: &str, to: &PointerName) -> Result<bool> {
        self.with(|held| {
            if held.pointers.contains_key(to) {
                return Err(taken(to));
            }
            if held.pointers.get(name).is_none_or(|own| own.metadata != before) {
                return Ok(false);
            }
            let own = held.pointers.remove(name);
            held.pointers.extend(own.map(|own| (to.clone(), own)));
            Ok(true)
        })
    }
}

/// The error of a name that is taken.
pub fn taken(to: &PointerName) -> Error {
    let what = format!("connection {}: there is a table {}.{} already", to.lake, to.schema, to.name);
    Error::new(Code::AlreadyExists, what).hint("choose another name")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_two_that_change_a_pointer_at_once_is_first() {
        let pointers = MemoryPointers::default();
        let name = PointerName { lake: "deep".into(), schema: "ops".into(), name: "sailings".into(), is_view: false };
        let at = |file: &str| Pointer { metadata: file.to_owned(), bytes: 1, location: "l".to_owned() };
        assert!(pointers.swap(&name, None, Some(&at("a"))).unwrap());
        assert!(!pointers.swap(&name, None, Some(&at("b"))).unwrap());
        assert!(pointers.swap(&name, Some("a"), Some(&at("b"))).unwrap());
        assert!(!pointers.swap(&name, Some("a"), Some(&at("c"))).unwrap());
        assert_eq!(pointers.get(&name).unwrap(), Some(at("b")));
        assert_eq!(pointers.names("deep", "ops", false).unwrap(), ["sailings"]);
        assert!(pointers.names("deep", "ops", true).unwrap().is_empty());
        let other = PointerName { name: "trips".into(), ..name.clone() };
        assert!(!pointers.rename(&name, "a", &other).unwrap());
        assert!(pointers.rename(&name, "b", &other).unwrap());
        assert_eq!(pointers.get(&name).unwrap(), None);
        assert!(pointers.swap(&name, None, Some(&at("d"))).unwrap());
        assert_eq!(pointers.rename(&other, "b", &name).unwrap_err().code, Code::AlreadyExists);
        assert!(pointers.swap(&name, Some("d"), None).unwrap());
        assert!(pointers.rename(&other, "b", &name).unwrap());
        assert!(pointers.swap(&name, Some("b"), None).unwrap());
        assert!(pointers.schemas("deep").unwrap().is_empty());
    }
}
