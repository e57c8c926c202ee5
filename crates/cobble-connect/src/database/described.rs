//! Tables that a server has described, believed for a while.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use cobble_plan::logical::Table;
use cobble_types::Result;

/// How long a description is believed before the server is asked again.
const LIFE: Duration = Duration::from_secs(20);

/// Catalog, schema and name.
type Key = [String; 3];

#[derive(Debug, Default)]
pub struct Described(Mutex<HashMap<Key, (Instant, Arc<Table>)>>);

impl Described {
    /// The table as it is known, or as `ask` finds it.
    pub async fn or_ask(
        &self,
        key: [&str; 3],
        ask: impl Future<Output = Result<Option<Arc<Table>>>>,
    ) -> Result<Option<Arc<Table>>> {
        let key = key.map(str::to_owned);
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
        if let Some((at, known)) = known
            && at.elapsed() < LIFE
        {
            return Ok(Some(known));
        }
        let found = ask.await?;
        if let Some(table) = &found {
            let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            all.insert(key, (Instant::now(), table.clone()));
        }
        Ok(found)
    }

    pub fn forget(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}
