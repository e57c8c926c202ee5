//! Repeats discovery at the intervals that catalogs ask for. New tables are added; other changes are recorded for the user to decide.

use std::collections::HashMap;
use std::sync::Weak;
use std::time::{Duration, Instant};

use cobble_engine::{Drift, Take, Watch};

use crate::service::{Service, Wish};

/// How exactly the times are kept.
const STEP: Duration = Duration::from_secs(1);

/// Goes on until the service is gone.
pub async fn watch(service: Weak<Service>) {
    // By catalog what it watches, and when that was looked at last.
    let mut looked: HashMap<String, (Watch, Instant)> = HashMap::new();
    loop {
        tokio::time::sleep(STEP).await;
        let Some(service) = service.upgrade() else { return };
        let set = service.engine.set();
        looked
            .retain(|name, (watch, _)| set.catalogs.get(name).is_some_and(|known| known.watch.as_ref() == Some(watch)));
        for (name, catalog) in &set.catalogs {
            let Some(watch) = &catalog.watch else { continue };
            // A watch that is new, or found again at the start of the service, waits for its first time.
            let (_, last) = looked.entry(name.clone()).or_insert_with(|| (watch.clone(), Instant::now()));
            if last.elapsed() < Duration::from_secs(watch.every) {
                continue;
            }
            let wish = Wish { path: watch.path.clone(), take: Some(Take::New), ..Wish::default() };
            if let Err(error) = service.discover(name, &wish).await {
                tracing::warn!(catalog = name, error = error.to_string(), "a look for tables has failed");
                let drift = Drift { table: String::new(), change: "failed".into(), detail: error.to_string() };
                // Records that cannot be written now are written at the next time.
                let _ = service.keep_look(name, &wish, &[drift]).await;
            }
            looked.insert(name.clone(), (watch.clone(), Instant::now()));
        }
    }
}
