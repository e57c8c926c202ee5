//! The service's records in PostgreSQL, through Diesel. Nothing else touches that database.

mod held;
mod lakes;
pub mod private_file;
mod schema;
mod seal;
mod users;

use std::collections::BTreeMap;
use std::time::Duration;

use chrono::{DateTime, Utc};
use cobble_types::{Code, Error, ObjectName, Result};
use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::r2d2::{ConnectionManager, Pool, PooledConnection};
use diesel::result::DatabaseErrorKind;
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

pub use held::{HeldRecords, hold};
pub use lakes::{PointerKey, StoredPointer};
pub use seal::SealingKey;
pub use users::{NewUser, StoredUser};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");

/// A pool of connections to the records. All calls block; call them where blocking is allowed.
#[derive(Clone)]
pub struct Records {
    pool: Pool<ConnectionManager<PgConnection>>,
    key: SealingKey,
    bound: BoundTo,
}

/// What the secrets of a connection with this definition are given for: its own, and those of users.
pub type BoundTo = fn(&Json) -> [String; 2];

impl std::fmt::Debug for Records {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Records")
    }
}

/// A stored connection. The definition is JSON without the secret.
#[derive(Clone, PartialEq)]
pub struct StoredConnection {
    pub name: String,
    pub definition: Json,
    pub secret: Option<String>,
    /// The secrets that users have of their own, by their names.
    pub credentials: BTreeMap<String, String>,
}

impl std::fmt::Debug for StoredConnection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("StoredConnection")
            .field("name", &self.name)
            .field("definition", &self.definition)
            .finish_non_exhaustive()
    }
}

/// A connection as it comes back from the records.
#[derive(Debug, Clone, PartialEq)]
pub struct RestoredConnection {
    pub stored: StoredConnection,
    /// Why its secrets are not among it, where they cannot be opened.
    pub unopened: Option<Error>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredCatalog {
    pub name: String,
    pub connection: String,
    pub definition: Json,
}

/// What a look for tables has found to be other than before.
#[derive(Debug, Clone, PartialEq, Queryable, Insertable, Selectable)]
#[diesel(table_name = schema::discoveries)]
pub struct StoredDiscovery {
    pub catalog: String,
    pub path: String,
    pub asked: bool,
    pub changes: Json,
    pub looked_at: DateTime<Utc>,
}

/// Looks at a catalog's files that are kept; older ones go.
const KEPT_DISCOVERIES: i64 = 500;

/// What becomes of the records when a configuration is applied: everything that is to be, the rest goes.
#[derive(Debug, Clone, Default)]
pub struct StoredConfiguration {
    pub connections: Vec<StoredConnection>,
    pub catalogs: Vec<StoredCatalog>,
    /// Names with definitions.
    pub functions: Vec<(String, Json)>,
    pub views: Vec<(String, Json)>,
}

/// One execution of a statement.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Queryable, Insertable, AsChangeset, Selectable)]
#[diesel(table_name = schema::runs)]
pub struct StoredRun {
    pub id: String,
    pub statement: String,
    /// `running`, `finished`, `failed`, `cancelled`, or `lost` when the service stopped meanwhile.
    pub state: String,
    pub error: Option<Json>,
    pub plan: Option<Json>,
    pub rows_out: i64,
    pub rows_read: i64,
    pub bytes_read: i64,
    pub seconds: f64,
    pub started_at: DateTime<Utc>,
    pub finished_at: Option<DateTime<Utc>>,
    /// Whose run it is, under the name that they had then.
    pub user_name: Option<String>,
    pub user_id: Option<i64>,
}

/// The secrets of a connection as they are kept.
struct Sealed {
    secret: Option<Vec<u8>>,
    credentials: Option<Vec<u8>>,
}

/// What is authenticated with a sealed secret: whose it is, and what it was given for.
fn context(whose: &str, connection: &str, bound: &str) -> String {
    serde_json::json!([whose, connection, bound]).to_string()
}

fn storage(error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("the service's records: {error}"))
        .hint("check that the PostgreSQL server of the records is running")
}

fn upsert_catalog(records: &mut PgConnection, catalog: &StoredCatalog) -> QueryResult<usize> {
    use schema::catalogs::dsl;
    let other = (dsl::connection.eq(&catalog.connection), dsl::definition.eq(&catalog.definition));
    diesel::insert_into(dsl::catalogs)
        .values((dsl::name.eq(&catalog.name), other))
        .on_conflict(dsl::name)
        .do_update()
        .set(other)
        .execute(records)
}

fn update_connection(records: &mut PgConnection, stored: &StoredConnection, sealed: &Sealed) -> QueryResult<usize> {
    use schema::connections::dsl;
    let sealed = (dsl::sealed_secret.eq(&sealed.secret), dsl::sealed_credentials.eq(&sealed.credentials));
    diesel::update(dsl::connections.find(&stored.name))
        .set((dsl::definition.eq(&stored.definition), sealed))
        .execute(records)
}

fn upsert_run(records: &mut PgConnection, run: &StoredRun) -> QueryResult<usize> {
    use schema::runs::dsl;
    diesel::insert_into(dsl::runs).values(run).on_conflict(dsl::id).do_update().set(run).execute(records)
}

/// The same for several runs in one statement. Each stands there once.
fn upsert_runs(records: &mut PgConnection, runs: &[StoredRun]) -> QueryResult<usize> {
    use diesel::upsert::excluded;
    use schema::runs::dsl;
    // What a run is does not change; what it has come to does.
    let newer = (
        dsl::state.eq(excluded(dsl::state)),
        dsl::error.eq(excluded(dsl::error)),
        dsl::plan.eq(excluded(dsl::plan)),
        dsl::rows_out.eq(excluded(dsl::rows_out)),
        dsl::rows_read.eq(excluded(dsl::rows_read)),
        dsl::bytes_read.eq(excluded(dsl::bytes_read)),
        dsl::seconds.eq(excluded(dsl::seconds)),
        dsl::finished_at.eq(excluded(dsl::finished_at)),
    );
    diesel::insert_into(dsl::runs).values(runs).on_conflict(dsl::id).do_update().set(newer).execute(records)
}

fn without_details(run: &StoredRun) -> StoredRun {
    StoredRun { statement: run.statement.replace('\0', "\u{fffd}"), error: None, plan: None, ..run.clone() }
}

impl Records {
    /// Connects and brings the tables to the present version.
    pub fn open(url: &str, key: SealingKey, bound: BoundTo) -> Result<Records> {
        let pool = Pool::builder()
            .max_size(4)
            .min_idle(Some(1))
            .connection_timeout(std::time::Duration::from_secs(10))
            .build(ConnectionManager::<PgConnection>::new(url))
            .map_err(storage)?;
        let records = Records { pool, key, bound };
        records.connection()?.run_pending_migrations(MIGRATIONS).map_err(storage)?;
        // Runs that were under way when the service last stopped have no one to finish them.
        diesel::update(schema::runs::table.filter(schema::runs::state.eq("running")))
            .set((schema::runs::state.eq("lost"), schema::runs::finished_at.eq(Some(Utc::now()))))
            .execute(&mut records.connection()?)
            .map_err(storage)?;
        Ok(records)
    }

    fn connection(&self) -> Result<PooledConnection<ConnectionManager<PgConnection>>> {
        self.pool.get().map_err(storage)
    }

    fn sealed(&self, stored: &StoredConnection) -> Result<Sealed> {
        let [own, of_users] = (self.bound)(&stored.definition);
        let own = context("connection", &stored.name, &own);
        let secret = stored.secret.as_ref().map(|secret| self.key.seal(secret, &own)).transpose()?;
        let credentials = match stored.credentials.is_empty() {
            true => None,
            false => {
                let all = serde_json::to_string(&stored.credentials).map_err(storage)?;
                Some(self.key.seal(&all, &context("users", &stored.name, &of_users))?)
            }
        };
        Ok(Sealed { secret, credentials })
    }

    pub fn connections(&self) -> Result<Vec<RestoredConnection>> {
        use schema::connections::dsl;
        type Row = (String, Json, Option<Vec<u8>>, Option<Vec<u8>>);
        let rows: Vec<Row> = dsl::connections
            .select((dsl::name, dsl::definition, dsl::sealed_secret, dsl::sealed_credentials))
            .order(dsl::name)
            .load(&mut self.connection()?)
            .map_err(storage)?;
        let restored = |(name, definition, sealed, of_users): Row| {
            let opened = self.opened(&name, &definition, sealed, of_users);
            let unopened = opened.as_ref().err().cloned();
            let (secret, credentials) = opened.unwrap_or_default();
            RestoredConnection { stored: StoredConnection { name, definition, secret, credentials }, unopened }
        };
        Ok(rows.into_iter().map(restored).collect())
    }

    /// The secrets of a connection and of its users.
    fn opened(
        &self,
        name: &str,
        definition: &Json,
        sealed: Option<Vec<u8>>,
        of_users: Option<Vec<u8>>,
    ) -> Result<(Option<String>, BTreeMap<String, String>)> {
        let [own, users] = (self.bound)(definition);
        let open = |sealed: Vec<u8>, whose: &str, bound: &str| {
            let failed = |e: Error| Error { message: format!("connection {name}: {}", e.message), ..e };
            self.key.open(&sealed, &context(whose, name, bound)).map_err(failed)
        };
        let secret = sealed.map(|sealed| open(sealed, "connection", &own)).transpose()?;
        let credentials = match of_users {
            Some(sealed) => serde_json::from_str(&open(sealed, "users", &users)?).map_err(storage)?,
            None => BTreeMap::new(),
        };
        Ok((secret, credentials))
    }

    pub fn add_connection(&self, stored: &StoredConnection) -> Result<()> {
        use schema::connections::dsl;
        let sealed = self.sealed(stored)?;
        let sealed = (dsl::sealed_secret.eq(sealed.secret), dsl::sealed_credentials.eq(sealed.credentials));
        diesel::insert_into(dsl::connections)
            .values((dsl::name.eq(&stored.name), dsl::definition.eq(&stored.definition), sealed))
            .execute(&mut self.connection()?)
            .map(drop)
            .map_err(storage)
    }

    pub fn replace_connection(&self, stored: &StoredConnection) -> Result<()> {
        let sealed = self.sealed(stored)?;
        update_connection(&mut *self.connection()?, stored, &sealed).map(drop).map_err(storage)
    }

    pub fn remove_connection(&self, name: &str) -> Result<()> {
        use schema::connections::dsl;
        diesel::delete(dsl::connections.find(name)).execute(&mut self.connection()?).map(drop).map_err(storage)
    }

    pub fn catalogs(&self) -> Result<Vec<StoredCatalog>> {
        use schema::catalogs::dsl;
        let rows: Vec<(String, String, Json)> = dsl::catalogs
            .select((dsl::name, dsl::connection, dsl::definition))
            .order(dsl::name)
            .load(&mut self.connection()?)
            .map_err(storage)?;
        let stored = |(name, connection, definition)| StoredCatalog { name, connection, definition };
        Ok(rows.into_iter().map(stored).collect())
    }

    /// Keeps a catalog, in the place of one of the same name.
    pub fn put_catalog(&self, catalog: &StoredCatalog) -> Result<()> {
        upsert_catalog(&mut *self.connection()?, catalog).map(drop).map_err(storage)
    }

    /// Keeps what a look for tables has found.
    pub fn add_discovery(&self, found: &StoredDiscovery) -> Result<()> {
        use schema::discoveries::dsl;
        self.connection()?
            .transaction::<_, diesel::result::Error, _>(|records| {
                diesel::insert_into(dsl::discoveries).values(found).execute(records)?;
                let of_catalog = || dsl::discoveries.filter(dsl::catalog.eq(&found.catalog));
                let oldest: Option<i64> = of_catalog()
                    .select(dsl::id)
                    .order(dsl::id.desc())
                    .offset(KEPT_DISCOVERIES)
                    .first(records)
                    .optional()?;
                if let Some(oldest) = oldest {
                    let old = dsl::discoveries.filter(dsl::catalog.eq(&found.catalog)).filter(dsl::id.le(oldest));
                    diesel::delete(old).execute(records)?;
                }
                Ok(())
            })
            .map_err(storage)
    }

    /// The latest looks at a catalog's files, newest first.
    pub fn discoveries(&self, catalog: &str, most: i64) -> Result<Vec<StoredDiscovery>> {
        use schema::discoveries::dsl;
        dsl::discoveries
            .filter(dsl::catalog.eq(catalog))
            .select(StoredDiscovery::as_select())
            .order(dsl::id.desc())
            .limit(most)
            .load(&mut self.connection()?)
            .map_err(storage)
    }

    pub fn remove_catalog(&self, name: &str) -> Result<()> {
        use schema::catalogs::dsl;
        diesel::delete(dsl::catalogs.find(name)).execute(&mut self.connection()?).map(drop).map_err(storage)
    }

    /// Puts a whole configuration in the place of what there is: all of it or, after an error, nothing.
    pub fn put_configuration(&self, wanted: &StoredConfiguration) -> Result<()> {
        use schema::{catalogs, connections, functions, views};
        let mut sealed = Vec::new();
        for stored in &wanted.connections {
            sealed.push((&stored.name, &stored.definition, self.sealed(stored)?));
        }
        self.connection()?
            .transaction::<_, diesel::result::Error, _>(|records| {
                // What is kept of a catalog goes with it, so those that stay are never removed.
                let names: Vec<&String> = wanted.catalogs.iter().map(|catalog| &catalog.name).collect();
                diesel::delete(catalogs::table.filter(catalogs::name.ne_all(names))).execute(records)?;
                for (name, definition, sealed) in &sealed {
                    let secrets = (
                        connections::sealed_secret.eq(&sealed.secret),
                        connections::sealed_credentials.eq(&sealed.credentials),
                    );
                    let other = (connections::definition.eq(definition), secrets);
                    diesel::insert_into(connections::table)
                        .values((connections::name.eq(name), other))
                        .on_conflict(connections::name)
                        .do_update()
                        .set(other)
                        .execute(records)?;
                }
                for catalog in &wanted.catalogs {
                    upsert_catalog(records, catalog)?;
                }
                let names: Vec<&String> = sealed.iter().map(|(name, ..)| *name).collect();
                diesel::delete(connections::table.filter(connections::name.ne_all(names))).execute(records)?;
                diesel::delete(functions::table).execute(records)?;
                for (name, definition) in &wanted.functions {
                    let values = (functions::name.eq(name), functions::definition.eq(definition));
                    diesel::insert_into(functions::table).values(values).execute(records)?;
                }
                diesel::delete(views::table).execute(records)?;
                for (name, definition) in &wanted.views {
                    let values = (views::name.eq(name), views::definition.eq(definition));
                    diesel::insert_into(views::table).values(values).execute(records)?;
                }
                Ok(())
            })
            .map_err(storage)
    }

    /// Keeps a function's definition, in the place of what was before.
    pub fn put_function(&self, name: &str, definition: &Json) -> Result<()> {
        use schema::functions::dsl;
        diesel::insert_into(dsl::functions)
            .values((dsl::name.eq(name), dsl::definition.eq(definition)))
            .on_conflict(dsl::name)
            .do_update()
            .set(dsl::definition.eq(definition))
            .execute(&mut self.connection()?)
            .map(drop)
            .map_err(storage)
    }

    pub fn remove_function(&self, name: &str) -> Result<()> {
        use schema::functions::dsl;
        diesel::delete(dsl::functions.find(name)).execute(&mut self.connection()?).map(drop).map_err(storage)
    }

    /// The definitions of all functions.
    pub fn functions(&self) -> Result<Vec<Json>> {
        use schema::functions::dsl;
        dsl::functions.select(dsl::definition).order(dsl::name).load(&mut self.connection()?).map_err(storage)
    }

    /// Keeps a view's definition, in the place of what was before.
    pub fn put_view(&self, name: &str, definition: &Json) -> Result<()> {
        use schema::views::dsl;
        diesel::insert_into(dsl::views)
            .values((dsl::name.eq(name), dsl::definition.eq(definition)))
            .on_conflict(dsl::name)
            .do_update()
            .set(dsl::definition.eq(definition))
            .execute(&mut self.connection()?)
            .map(drop)
            .map_err(storage)
    }

    pub fn remove_view(&self, name: &str) -> Result<()> {
        use schema::views::dsl;
        diesel::delete(dsl::views.find(name)).execute(&mut self.connection()?).map(drop).map_err(storage)
    }

    /// The names and definitions of all views.
    pub fn views(&self) -> Result<Vec<(String, Json)>> {
        use schema::views::dsl;
        dsl::views.select((dsl::name, dsl::definition)).order(dsl::name).load(&mut self.connection()?).map_err(storage)
    }

    /// Keeps what has been collected of a table, for its owner or for all, in the place of what was before.
    pub fn put_statistics(&self, owner: Option<&str>, table: &ObjectName, statistics: &Json) -> Result<()> {
        use schema::table_statistics::dsl;
        let found = (dsl::statistics.eq(statistics), dsl::collected_at.eq(Utc::now()));
        diesel::insert_into(dsl::table_statistics)
            .values((
                dsl::catalog.eq(&table.catalog),
                dsl::schema_name.eq(&table.schema),
                dsl::table_name.eq(&table.table),
                dsl::owner.eq(owner.unwrap_or_default()),
                found,
            ))
            .on_conflict((dsl::catalog, dsl::schema_name, dsl::table_name, dsl::owner))
            .do_update()
            .set(found)
            .execute(&mut self.connection()?)
            .map(drop)
            .map_err(storage)
    }

    /// All that has been collected.
    pub fn statistics(&self) -> Result<Vec<Json>> {
        use schema::table_statistics::dsl;
        dsl::table_statistics.select(dsl::statistics).load(&mut self.connection()?).map_err(storage)
    }

    /// Keeps the newest states of runs, all of them or, with an error, none. A run whose details the database refuses, such as
    /// a text with a zero in it, is kept without them; the answer is how many were.
    pub fn put_runs(&self, runs: &[StoredRun]) -> Result<usize> {
        let mut records = self.connection()?;
        records
            .transaction(|records| {
                // Where one of them is refused, each is tried by itself.
                match records.transaction(|records| upsert_runs(records, runs)) {
                    Ok(_) => return Ok(0),
                    Err(diesel::result::Error::DatabaseError(kind, _))
                        if !matches!(kind, DatabaseErrorKind::ClosedConnection) => {}
                    Err(error) => return Err(error),
                }
                let mut altered = 0;
                for run in runs {
                    match records.transaction(|records| upsert_run(records, run)) {
                        Ok(_) => {}
                        Err(diesel::result::Error::DatabaseError(kind, _))
                            if !matches!(kind, DatabaseErrorKind::ClosedConnection) =>
                        {
                            altered += 1;
                            upsert_run(records, &without_details(run))?;
                        }
                        Err(error) => return Err(error),
                    }
                }
                Ok(altered)
            })
            .map_err(storage)
    }

    /// The latest runs of a user or of all, newest first, without their plans.
    pub fn runs(&self, user: Option<i64>, most: i64) -> Result<Vec<StoredRun>> {
        use diesel::sql_types::{Jsonb, Nullable};
        use schema::runs::dsl;
        // A plan may have megabytes: it stays where it is.
        let no_plan = diesel::dsl::sql::<Nullable<Jsonb>>("NULL::jsonb");
        let newest = dsl::runs
            .select((
                dsl::id,
                dsl::statement,
                dsl::state,
                dsl::error,
                no_plan,
                dsl::rows_out,
                dsl::rows_read,
                dsl::bytes_read,
                dsl::seconds,
                dsl::started_at,
                dsl::finished_at,
                dsl::user_name,
                dsl::user_id,
            ))
            .order(dsl::started_at.desc())
            .limit(most);
        let mut records = self.connection()?;
        match user {
            Some(user) => newest.filter(dsl::user_id.eq(user)).load(&mut records),
            None => newest.load(&mut records),
        }
        .map_err(storage)
    }

    /// Drops ended runs that began longer ago, and the oldest beyond so many.
    pub fn prune_runs(&self, oldest: Duration, most: i64) -> Result<()> {
        use schema::runs::dsl;
        let mut records = self.connection()?;
        let first = dsl::runs.select(dsl::started_at).order(dsl::started_at.desc()).offset(most);
        let first: Option<DateTime<Utc>> = first.first(&mut records).optional().map_err(storage)?;
        let by_age = Utc::now() - oldest;
        let before = first.map_or(by_age, |first| first.max(by_age));
        diesel::delete(dsl::runs.filter(dsl::started_at.le(before)).filter(dsl::state.ne("running")))
            .execute(&mut records)
            .map_err(storage)?;
        Ok(())
    }

    pub fn run(&self, id: &str) -> Result<Option<StoredRun>> {
        use schema::runs::dsl;
        dsl::runs.find(id).select(StoredRun::as_select()).first(&mut self.connection()?).optional().map_err(storage)
    }
}
