//! The users who may sign in. Their tokens are long and random, so that a plain digest of one is as good as the token is long.

use cobble_types::{Code, Error, Result};
use diesel::prelude::*;

use super::{Records, schema, storage};

/// A user with the digest of their token (SHA-256).
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Insertable, Selectable)]
#[diesel(table_name = schema::users)]
pub struct StoredUser {
    pub name: String,
    pub token_digest: Vec<u8>,
}

impl Records {
    /// All users, in order of their names.
    pub fn users(&self) -> Result<Vec<StoredUser>> {
        use schema::users::dsl;
        dsl::users.select(StoredUser::as_select()).order(dsl::name).load(&mut self.connection()?).map_err(storage)
    }

    pub fn add_user(&self, user: &StoredUser) -> Result<()> {
        use diesel::result::{DatabaseErrorKind, Error as Fault};
        let added = diesel::insert_into(schema::users::table).values(user).execute(&mut self.connection()?);
        match added {
            Ok(_) => Ok(()),
            Err(Fault::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => {
                Err(Error::new(Code::AlreadyExists, format!("there is a user named {} already", user.name)))
            }
            Err(error) => Err(storage(error)),
        }
    }

    /// True when there was one.
    pub fn remove_user(&self, name: &str) -> Result<bool> {
        use schema::users::dsl;
        let gone = diesel::delete(dsl::users.find(name)).execute(&mut self.connection()?).map_err(storage)?;
        Ok(gone > 0)
    }
}
