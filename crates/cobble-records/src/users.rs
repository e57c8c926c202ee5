//! The users who may sign in. Their tokens are long and random, so that a plain digest of one is as good as the token is long.

use chrono::{DateTime, Utc};
use cobble_types::{Code, Error, Result};
use diesel::prelude::*;

use super::{Records, StoredConnection, schema, storage};

/// A user with the digest of their token (SHA-256).
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = schema::users)]
pub struct StoredUser {
    /// Never given to another one, also not to one of the same name.
    pub id: i64,
    pub name: String,
    /// `administrator` or `user`.
    pub role: String,
    pub token_digest: Vec<u8>,
    pub expires_at: Option<DateTime<Utc>>,
}

/// A user to add, or what becomes of one.
#[derive(Debug, Clone, PartialEq, Eq, Insertable, AsChangeset)]
#[diesel(table_name = schema::users, treat_none_as_null = true)]
pub struct NewUser {
    pub name: String,
    pub role: String,
    pub token_digest: Vec<u8>,
    pub expires_at: Option<DateTime<Utc>>,
}

impl Records {
    /// All users, in order of their names.
    pub fn users(&self) -> Result<Vec<StoredUser>> {
        use schema::users::dsl;
        dsl::users.select(StoredUser::as_select()).order(dsl::name).load(&mut self.connection()?).map_err(storage)
    }

    pub fn add_user(&self, user: &NewUser) -> Result<StoredUser> {
        use diesel::result::{DatabaseErrorKind, Error as Fault};
        let added = diesel::insert_into(schema::users::table)
            .values(user)
            .returning(StoredUser::as_returning())
            .get_result(&mut self.connection()?);
        match added {
            Ok(stored) => Ok(stored),
            Err(Fault::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => {
                Err(Error::new(Code::AlreadyExists, format!("there is a user named {} already", user.name)))
            }
            Err(error) => Err(storage(error)),
        }
    }

    pub fn change_user(&self, id: i64, user: &NewUser) -> Result<()> {
        use schema::users::dsl;
        let changed = diesel::update(dsl::users.filter(dsl::id.eq(id))).set(user).execute(&mut self.connection()?);
        changed.map(drop).map_err(storage)
    }

    /// Removes a user, what was collected with their credentials, and these credentials: the connections that had some are given as
    /// they are without them. All of it or, with an error, nothing.
    pub fn remove_user(&self, id: i64, name: &str, connections: &[StoredConnection]) -> Result<()> {
        use schema::{table_statistics, users};
        let connections = connections.iter().map(|one| Ok((one, self.sealed(one)?))).collect::<Result<Vec<_>>>()?;
        self.connection()?
            .transaction(|records| {
                diesel::delete(users::table.filter(users::id.eq(id))).execute(records)?;
                diesel::delete(table_statistics::table.filter(table_statistics::owner.eq(name))).execute(records)?;
                connections
                    .iter()
                    .try_for_each(|(one, sealed)| super::update_connection(records, one, sealed).map(drop))
            })
            .map_err(storage)
    }
}
