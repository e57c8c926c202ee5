//! Several connections that see one state of the file. Each holds a transaction that reads; a connection beside them tells whether
//! another one has committed since the first of them began (SQLite manual, "PRAGMA data_version").

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use cobble_types::{Code, Result};
use rusqlite::Connection;

use super::{File, errors};

/// How often it is tried to begin between two commits of others.
const TRIES: usize = 5;

enum State {
    /// Whether others have committed is seen by this connection, whose number was this one when the first reader began.
    Known(Connection, i64),
    /// Others commit all the time: the first reader reads alone.
    Alone,
}

/// Nothing where a writer stands in the way, which may itself wait for readers of ours.
fn unless_locked<T>(outcome: Result<T>) -> Result<Option<T>> {
    match outcome {
        Err(error) if error.code == Code::SourceTimeout => Ok(None),
        other => other.map(Some),
    }
}

/// The connections of one reading. Its calls wait for the file.
pub struct Readers {
    file: Arc<File>,
    state: Mutex<Option<State>>,
    /// Those that read nothing now.
    idle: Mutex<Vec<Connection>>,
}

impl Readers {
    pub fn new(file: Arc<File>) -> Readers {
        Readers { file, state: Mutex::default(), idle: Mutex::default() }
    }

    pub fn give_back(&self, connection: Connection) {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner).push(connection);
    }

    /// A connection that sees what all others see; none when the state is gone that they see.
    pub fn take(&self) -> Result<Option<Connection>> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(idle) = self.idle.lock().unwrap_or_else(PoisonError::into_inner).pop() {
            return Ok(Some(idle));
        }
        match state.as_ref() {
            None => {
                let (first, found) = self.first()?;
                *state = Some(found);
                Ok(Some(first))
            }
            Some(State::Alone) => Ok(None),
            Some(State::Known(beside, version)) => {
                let connection = self.file.open()?;
                // A writer that waits for the readers is not waited for.
                connection.busy_timeout(Duration::ZERO).map_err(|e| errors::error(&self.file, &e))?;
                let begun = self.begin(&connection).and_then(|()| self.version(beside));
                Ok(unless_locked(begun)?.filter(|now| now == version).map(|_| connection))
            }
        }
    }

    fn first(&self) -> Result<(Connection, State)> {
        let beside = self.file.open()?;
        let failed = |e: rusqlite::Error| errors::error(&self.file, &e);
        for _ in 0..TRIES {
            beside.busy_timeout(self.file.busy_limit).map_err(failed)?;
            let before = self.version(&beside)?;
            let connection = self.file.open()?;
            self.begin(&connection)?;
            beside.busy_timeout(Duration::ZERO).map_err(failed)?;
            if unless_locked(self.version(&beside))? == Some(before) {
                return Ok((connection, State::Known(beside, before)));
            }
        }
        let connection = self.file.open()?;
        self.begin(&connection)?;
        Ok((connection, State::Alone))
    }

    /// The state that is seen is that of the first reading.
    fn begin(&self, connection: &Connection) -> Result<()> {
        let begin = "BEGIN; SELECT 1 FROM sqlite_schema LIMIT 1";
        connection.execute_batch(begin).map_err(|e| errors::error(&self.file, &e))
    }

    fn version(&self, connection: &Connection) -> Result<i64> {
        connection.query_row("PRAGMA data_version", [], |row| row.get(0)).map_err(|e| errors::error(&self.file, &e))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cobble_connect_sql::Dialect as _;

    #[test]
    fn nobody_joins_readers_after_a_commit_of_others() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("purses.db");
        let owner = Connection::open(&path).unwrap();
        owner.execute_batch("PRAGMA journal_mode = wal; CREATE TABLE purses (coins INTEGER)").unwrap();
        let definition = crate::ConnectionDefinition::new("till_file", "sqlite", path.display().to_string());
        let file = super::super::SqliteConnector::new(&definition).unwrap().definition.clone();
        assert_eq!(file.dialect.kind(), "sqlite");
        let readers = Readers::new(file);
        let first = readers.take().unwrap().unwrap();
        let second = readers.take().unwrap().expect("nothing has changed");
        owner.execute_batch("INSERT INTO purses VALUES (5)").unwrap();
        assert!(readers.take().unwrap().is_none());
        for reader in [first, second] {
            let seen: i64 = reader.query_row("SELECT count(*) FROM purses", [], |row| row.get(0)).unwrap();
            assert_eq!(seen, 0);
            readers.give_back(reader);
        }
        // One that is given back still sees the same.
        assert!(readers.take().unwrap().is_some());
    }
}
