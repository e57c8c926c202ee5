//! The metadata cache and the back-off, in front of every connector. Names and descriptions are cached for a while. A source that lets callers time out
//! is not asked again until its back-off has passed.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use cobble_plan::alter::Alteration;
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::offer::DescribedTable;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::{GateScan, ScanSpec, ScanTools};
use cobble_plan::sink::{NewRows, RowChange, SourceChange, TableWriter};
use cobble_storage::Storage;
use cobble_types::{Code, Error, ObjectName, Result};

use crate::catalog_call::{CatalogAnswer, CatalogCall, Verb};
use crate::connector::{Base, Connector, ListedColumns, SourceView, TableChange, TableEntry, TableVersion, ViewChange};
use crate::table_definition::{Discovery, Forms, Looking, NativeQuery, TableDefinition};
use cobble_network::TestStep;

/// A call that fails sooner than this has cost nobody much: the next one may ask again.
const PATIENCE: Duration = Duration::from_millis(500);
/// The first pause after a call has waited in vain, and the longest one; each further call in vain doubles it.
const FIRST_PAUSE: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// What there is not is believed for a shorter time: tables are made more often than dropped.
const LIFE_OF_NOTHING: Duration = Duration::from_secs(2);
/// Beyond so many entries the oldest knowledge is dropped with all the rest.
const MOST: usize = 50_000;

#[derive(Debug)]
pub struct Remembered {
    inner: Arc<dyn Connector>,
    life: Duration,
    schemas: Mutex<Answers<(), Vec<String>>>,
    tables: Mutex<Answers<String, Vec<TableEntry>>>,
    described: Mutex<Answers<[String; 3], Option<DescribedTable>>>,
    trouble: Mutex<Option<Trouble>>,
}

type Answers<K, V> = HashMap<K, (Instant, V)>;

/// The last failure that callers had to wait for.
#[derive(Debug, Clone)]
struct Trouble {
    error: Error,
    until: Instant,
    pause: Duration,
}

impl Remembered {
    /// With no life, every call asks.
    pub fn new(inner: Arc<dyn Connector>, life: Duration) -> Arc<Self> {
        Arc::new(Remembered {
            inner,
            life,
            schemas: Mutex::default(),
            tables: Mutex::default(),
            described: Mutex::default(),
            trouble: Mutex::default(),
        })
    }

    async fn ask<K: Eq + Hash, V: Clone>(
        &self,
        answers: &Mutex<Answers<K, V>>,
        key: K,
        is_something: impl Fn(&V) -> bool,
        ask: impl Future<Output = Result<V>>,
    ) -> Result<V> {
        let lock = || answers.lock().unwrap_or_else(PoisonError::into_inner);
        if self.inner.has_changed() {
            self.forget();
        }
        if let Some((at, known)) = lock().get(&key)
            && at.elapsed() < if is_something(known) { self.life } else { self.life.min(LIFE_OF_NOTHING) }
        {
            return Ok(known.clone());
        }
        let found = self.guarded(ask).await?;
        if !self.life.is_zero() {
            let mut all = lock();
            if all.len() >= MOST {
                all.clear();
            }
            all.insert(key, (Instant::now(), found.clone()));
        }
        Ok(found)
    }

    /// Asks unless the source is being left alone.
    async fn guarded<V>(&self, ask: impl Future<Output = Result<V>>) -> Result<V> {
        let trouble = || self.trouble.lock().unwrap_or_else(PoisonError::into_inner);
        let known = trouble().clone();
        if let Some(known) = &known
            && let Some(left) = known.until.checked_duration_since(Instant::now())
        {
            let mut error = known.error.clone();
            error.message = format!("{} (it is asked again in {} s)", error.message, left.as_secs() + 1);
            return Err(error);
        }
        let began = Instant::now();
        let outcome = ask.await;
        let in_vain = outcome.as_ref().err().filter(|error| {
            matches!(error.code, Code::SourceUnreachable | Code::SourceTimeout) && began.elapsed() >= PATIENCE
        });
        *trouble() = in_vain.map(|error| {
            let pause = known.map_or(FIRST_PAUSE, |before| (before.pause * 2).min(LONGEST_PAUSE));
            Trouble { error: error.clone(), until: Instant::now() + pause, pause }
        });
        outcome
    }

    fn forget(&self) {
        self.schemas.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.tables.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.described.lock().unwrap_or_else(PoisonError::into_inner).clear();
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

#[async_trait]
impl Connector for Remembered {
    async fn schemas(&self) -> Result<Vec<String>> {
        self.ask(&self.schemas, (), |_| true, self.inner.schemas()).await
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        self.ask(&self.tables, schema.to_owned(), |found| !found.is_empty(), self.inner.tables(schema)).await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        let key = [catalog, schema, table].map(str::to_owned);
        self.ask(&self.described, key, Option::is_some, self.inner.table(catalog, schema, table)).await
    }

    async fn table_at(&self, name: &ObjectName, version: &TableVersion) -> Result<Option<DescribedTable>> {
        self.guarded(self.inner.table_at(name, version)).await
    }

    async fn facts(
        &self,
        name: &ObjectName,
        definition: Option<&TableDefinition>,
        wanted: Facts,
        filtered: Option<&Filtered>,
    ) -> Result<Option<FactRows>> {
        self.guarded(self.inner.facts(name, definition, wanted, filtered)).await
    }

    async fn columns(&self, schema: &str) -> Result<Option<Vec<ListedColumns>>> {
        self.guarded(self.inner.columns(schema)).await
    }

    async fn native(&self, catalog: &str, query: &NativeQuery) -> Result<DescribedTable> {
        let key = [catalog.to_owned(), format!("native {:?}", query.split), query.text.clone()];
        let ask = async { self.inner.native(catalog, query).await.map(Some) };
        let found = self.ask(&self.described, key, Option::is_some, ask).await?;
        found.ok_or_else(|| Error::internal("a native query without a description"))
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        self.inner.check_definition(definition)
    }

    async fn defined(&self, name: &ObjectName, definition: &TableDefinition) -> Result<DescribedTable> {
        let written = serde_json::to_string(definition).map_err(|e| Error::internal(e.to_string()))?;
        let key = [name.catalog.clone(), format!("{} {}", name.schema, name.table), written];
        let ask = async { self.inner.defined(name, definition).await.map(Some) };
        let found = self.ask(&self.described, key, Option::is_some, ask).await?;
        found.ok_or_else(|| Error::internal("a defined table without a description"))
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        self.inner.scan(spec)
    }

    fn change(&self, spec: &ScanSpec, change: &RowChange) -> Result<Arc<dyn SourceChange>> {
        self.inner.change(spec, change)
    }

    async fn discover(&self, path: &str, forms: &Forms, looking: &Arc<Looking>) -> Result<Discovery> {
        self.guarded(self.inner.discover(path, forms, looking)).await
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        self.inner.writer(rows).await
    }

    async fn alter_table(&self, schema: &str, table: &str, changes: Vec<Alteration>) -> Result<()> {
        let done = self.inner.alter_table(schema, table, changes).await;
        self.forget();
        done
    }

    async fn call(&self, schema: &str, table: &str, call: ProcedureCall, tools: ScanTools) -> Result<FactRows> {
        let done = self.inner.call(schema, table, call, tools).await;
        self.forget();
        done
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let done = self.inner.change_table(schema, table, change).await;
        self.forget();
        done
    }

    fn storage(&self) -> Option<Arc<dyn Storage>> {
        self.inner.storage()
    }

    fn over(&self, base: &Base) -> Option<Arc<dyn Connector>> {
        let inner = self.inner.over(base)?;
        Some(Remembered::new(inner, self.life))
    }

    async fn view(&self, schema: &str, name: &str) -> Result<Option<SourceView>> {
        self.guarded(self.inner.view(schema, name)).await
    }

    async fn change_view(&self, schema: &str, name: &str, change: ViewChange) -> Result<()> {
        let done = self.inner.change_view(schema, name, change).await;
        self.forget();
        done
    }

    async fn serve(&self, call: CatalogCall) -> Result<CatalogAnswer> {
        let changes = !matches!(call.verb, Verb::Get | Verb::Head);
        let answer = self.inner.serve(call).await;
        if changes {
            self.forget();
        }
        answer
    }

    async fn sweep(&self) -> Result<usize> {
        self.inner.sweep().await
    }

    fn refresh(&self) {
        self.forget();
        self.inner.refresh();
    }

    /// Asks in any case, and what was believed is believed no more: a test is made when something has changed.
    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        self.refresh();
        self.inner.test(report).await;
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use super::*;

    /// Counts its calls, and is as slow or as dead as the test wants.
    #[derive(Debug, Default)]
    struct Asked {
        calls: AtomicU64,
        slow: AtomicU64,
        dead: AtomicU64,
    }

    #[async_trait]
    impl Connector for Asked {
        async fn schemas(&self) -> Result<Vec<String>> {
            self.calls.fetch_add(1, Ordering::Relaxed);
            tokio::time::sleep(Duration::from_millis(self.slow.load(Ordering::Relaxed))).await;
            match self.dead.load(Ordering::Relaxed) {
                0 => Ok(vec!["public".into()]),
                _ => Err(Error::new(Code::SourceUnreachable, "connection pier: nothing answers")),
            }
        }

        async fn tables(&self, _: &str) -> Result<Vec<TableEntry>> {
            self.calls.fetch_add(1, Ordering::Relaxed);
            Ok(vec![])
        }

        async fn table(&self, _: &str, _: &str, _: &str) -> Result<Option<DescribedTable>> {
            self.calls.fetch_add(1, Ordering::Relaxed);
            Ok(None)
        }

        fn scan(&self, _: &ScanSpec) -> Result<Arc<dyn GateScan>> {
            Err(Error::internal("it has no tables"))
        }

        fn refresh(&self) {}

        async fn test(&self, _: &mut (dyn FnMut(TestStep) + Send)) {}
    }

    fn remembered(life: u64) -> (Arc<Asked>, Arc<Remembered>) {
        let asked = Arc::new(Asked::default());
        (asked.clone(), Remembered::new(asked, Duration::from_secs(life)))
    }

    #[tokio::test]
    async fn an_answer_is_believed_for_its_life() {
        let (asked, source) = remembered(20);
        let calls = || asked.calls.load(Ordering::Relaxed);
        for _ in 0..3 {
            assert_eq!(source.schemas().await.unwrap(), ["public"]);
            assert!(source.table("pier", "public", "gone").await.unwrap().is_none());
        }
        assert_eq!(calls(), 2, "what is not there is believed too");
        source.refresh();
        source.schemas().await.unwrap();
        assert_eq!(calls(), 3);
        let (asked, source) = remembered(0);
        source.schemas().await.unwrap();
        source.schemas().await.unwrap();
        assert_eq!(asked.calls.load(Ordering::Relaxed), 2, "without a life every call asks");
    }

    #[tokio::test]
    async fn a_source_that_lets_wait_in_vain_is_left_alone_and_comes_back() {
        let (asked, source) = remembered(0);
        asked.dead.store(1, Ordering::Relaxed);
        let calls = || asked.calls.load(Ordering::Relaxed);
        // One that fails at once is asked at once again.
        source.schemas().await.unwrap_err();
        source.schemas().await.unwrap_err();
        assert_eq!(calls(), 2);
        asked.slow.store(600, Ordering::Relaxed);
        source.schemas().await.unwrap_err();
        let began = Instant::now();
        let error = source.schemas().await.unwrap_err();
        assert!(began.elapsed() < Duration::from_millis(300) && calls() == 3);
        assert_eq!(error.message, "connection pier: nothing answers (it is asked again in 2 s)");
        assert!(source.table("pier", "public", "t").await.is_err(), "every question goes the same way");
        // It recovers by itself.
        asked.dead.store(0, Ordering::Relaxed);
        tokio::time::sleep(Duration::from_millis(2100)).await;
        assert_eq!(source.schemas().await.unwrap(), ["public"]);
        assert!(source.trouble.lock().unwrap().is_none());
    }
}
