//! Where the last states of lake tables are kept. A pointer changes only from the value that whoever changes it has seen.

use cobble_types::Result;
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use serde_json::Value as Json;

use crate::schema::{lake_pointers, lake_schemas};
use crate::{Records, storage};

/// The last metadata file of a table or view.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = lake_pointers)]
pub struct StoredPointer {
    pub metadata: String,
    pub bytes: i64,
    pub location: String,
}

/// Whose pointer it is.
#[derive(Debug, Clone, Copy)]
pub struct PointerKey<'k> {
    pub lake: &'k str,
    pub schema: &'k str,
    pub name: &'k str,
    pub is_view: bool,
}

impl Records {
    /// Schemas that were made or that something is in, in order of their names.
    pub fn lake_schemas(&self, lake: &str) -> Result<Vec<String>> {
        let connection = &mut self.connection()?;
        let made = lake_schemas::table.filter(lake_schemas::lake.eq(lake)).select(lake_schemas::name);
        let used =
            lake_pointers::table.filter(lake_pointers::lake.eq(lake)).select(lake_pointers::schema_name).distinct();
        let mut all: Vec<String> = made.load(connection).map_err(storage)?;
        all.extend(used.load::<String>(connection).map_err(storage)?);
        all.sort();
        all.dedup();
        Ok(all)
    }

    /// The properties of a schema; none where it was not made.
    pub fn lake_schema(&self, lake: &str, name: &str) -> Result<Option<Json>> {
        let own = lake_schemas::table.find((lake, name)).select(lake_schemas::properties);
        own.first(&mut self.connection()?).optional().map_err(storage)
    }

    /// Keeps a schema with its properties, in the place of what was before.
    pub fn put_lake_schema(&self, lake: &str, name: &str, properties: &Json) -> Result<()> {
        let own = (lake_schemas::lake.eq(lake), lake_schemas::name.eq(name), lake_schemas::properties.eq(properties));
        diesel::insert_into(lake_schemas::table)
            .values(own)
            .on_conflict((lake_schemas::lake, lake_schemas::name))
            .do_update()
            .set(lake_schemas::properties.eq(properties))
            .execute(&mut self.connection()?)
            .map(drop)
            .map_err(storage)
    }

    pub fn remove_lake_schema(&self, lake: &str, name: &str) -> Result<()> {
        let own = lake_schemas::table.find((lake, name));
        diesel::delete(own).execute(&mut self.connection()?).map(drop).map_err(storage)
    }

    /// Names of tables, or of views, in order.
    pub fn lake_names(&self, lake: &str, schema: &str, views: bool) -> Result<Vec<String>> {
        lake_pointers::table
            .filter(lake_pointers::lake.eq(lake).and(lake_pointers::schema_name.eq(schema)))
            .filter(lake_pointers::is_view.eq(views))
            .select(lake_pointers::name)
            .order(lake_pointers::name)
            .load(&mut self.connection()?)
            .map_err(storage)
    }

    pub fn lake_pointer(&self, key: PointerKey<'_>) -> Result<Option<StoredPointer>> {
        let own = lake_pointers::table.find((key.lake, key.schema, key.name, key.is_view));
        own.select(StoredPointer::as_select()).first(&mut self.connection()?).optional().map_err(storage)
    }

    /// Puts `next` in the place of what is there if that names this metadata file, or nothing where it is none; false where it does not.
    pub fn swap_lake_pointer(
        &self,
        key: PointerKey<'_>,
        before: Option<&str>,
        next: Option<&StoredPointer>,
    ) -> Result<bool> {
        use lake_pointers as own;
        let values = |next: &StoredPointer| {
            (
                own::metadata.eq(next.metadata.clone()),
                own::bytes.eq(next.bytes),
                own::location.eq(next.location.clone()),
            )
        };
        let there = own::table.find((key.lake, key.schema, key.name, key.is_view));
        let connection = &mut self.connection()?;
        let changed = match (before, next) {
            (Some(before), Some(next)) => diesel::update(there.filter(own::metadata.eq(before)))
                .set((values(next), own::changed_at.eq(diesel::dsl::now)))
                .execute(connection),
            (Some(before), None) => diesel::delete(there.filter(own::metadata.eq(before))).execute(connection),
            (None, Some(next)) => {
                let name = (own::lake.eq(key.lake), own::schema_name.eq(key.schema), own::name.eq(key.name));
                diesel::insert_into(own::table)
                    .values((name, own::is_view.eq(key.is_view), values(next)))
                    .on_conflict_do_nothing()
                    .execute(connection)
            }
            (None, None) => Ok(0),
        };
        changed.map(|rows| rows == 1).map_err(storage)
    }

    /// Gives what names this metadata file another name, in one statement; false where it names another file by now, none where the other name is taken.
    pub fn rename_lake_pointer(&self, key: PointerKey<'_>, before: &str, to: PointerKey<'_>) -> Result<Option<bool>> {
        use lake_pointers as own;
        let there = own::table.find((key.lake, key.schema, key.name, key.is_view)).filter(own::metadata.eq(before));
        let renamed = diesel::update(there)
            .set((own::schema_name.eq(to.schema), own::name.eq(to.name), own::changed_at.eq(diesel::dsl::now)))
            .execute(&mut self.connection()?);
        match renamed {
            Err(Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => Ok(None),
            other => other.map(|rows| Some(rows == 1)).map_err(storage),
        }
    }
}
