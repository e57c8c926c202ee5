//! The last states of lake tables, kept in the records.

use cobble_connect::{Pointer, PointerName, Pointers, SchemaProperties, taken};
use cobble_records::{PointerKey, Records, StoredPointer};
use cobble_types::{Error, Result};

#[derive(Debug)]
pub struct LakePointers(pub Records);

fn key(name: &PointerName) -> PointerKey<'_> {
    PointerKey { lake: &name.lake, schema: &name.schema, name: &name.name, is_view: name.is_view }
}

fn not_kept(error: serde_json::Error) -> Error {
    Error::internal(format!("the properties of a schema: {error}"))
}

impl Pointers for LakePointers {
    fn schemas(&self, lake: &str) -> Result<Vec<String>> {
        self.0.lake_schemas(lake)
    }

    fn schema(&self, lake: &str, schema: &str) -> Result<Option<SchemaProperties>> {
        let own = self.0.lake_schema(lake, schema)?;
        own.map(serde_json::from_value).transpose().map_err(not_kept)
    }

    fn keep_schema(&self, lake: &str, schema: &str, properties: Option<&SchemaProperties>) -> Result<()> {
        match properties {
            Some(own) => self.0.put_lake_schema(lake, schema, &serde_json::to_value(own).map_err(not_kept)?),
            None => self.0.remove_lake_schema(lake, schema),
        }
    }

    fn names(&self, lake: &str, schema: &str, views: bool) -> Result<Vec<String>> {
        self.0.lake_names(lake, schema, views)
    }

    fn get(&self, name: &PointerName) -> Result<Option<Pointer>> {
        let own = self.0.lake_pointer(key(name))?;
        let pointer = |own: StoredPointer| Pointer {
            metadata: own.metadata,
            bytes: u64::try_from(own.bytes).unwrap_or_default(),
            location: own.location,
        };
        Ok(own.map(pointer))
    }

    fn swap(&self, name: &PointerName, before: Option<&str>, next: Option<&Pointer>) -> Result<bool> {
        let stored = |next: &Pointer| StoredPointer {
            metadata: next.metadata.clone(),
            bytes: i64::try_from(next.bytes).unwrap_or(i64::MAX),
            location: next.location.clone(),
        };
        self.0.swap_lake_pointer(key(name), before, next.map(stored).as_ref())
    }

    fn rename(&self, name: &PointerName, before: &str, to: &PointerName) -> Result<bool> {
        match self.0.rename_lake_pointer(key(name), before, key(to))? {
            Some(renamed) => Ok(renamed),
            None => Err(taken(to)),
        }
    }
}
