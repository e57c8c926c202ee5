//! Writes runs into the records. Of each run only the newest state waits; what cannot be written now is written later.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use cobble_engine::PlanDocument;
use cobble_records::{Records, StoredRun};
use cobble_types::Result;
use tokio::sync::{Notify, watch};

/// Runs that may wait for the records. When there are more, the oldest are lost rather than a query delayed.
const MOST_WAITING: usize = 2000;
/// Runs written in one transaction.
const AT_ONCE: usize = 500;
/// How long a run is waited with, as most end within it and are then written once.
const GATHER: Duration = Duration::from_millis(20);
/// How long a reader of the records waits for what is about to be written.
const READER_WAIT: Duration = Duration::from_millis(500);
/// How long records that cannot be reached are left in peace.
const PAUSE: Duration = Duration::from_secs(1);

/// Runs after which old ones are looked for.
const BETWEEN_PRUNINGS: usize = 1000;
/// How long ended runs are kept, and how many.
const OLDEST: Duration = Duration::from_secs(30 * 24 * 60 * 60);
const MOST_KEPT: i64 = 20_000;

/// Where runs are written to.
pub trait Shelf: Send + Sync + 'static {
    /// Writes all of them or, with an error, none. Gives back how many could not be kept as they are.
    fn put(&self, runs: &[StoredRun]) -> Result<usize>;
    /// Drops what is too old, or too much.
    fn prune(&self) -> Result<()> {
        Ok(())
    }
}

impl Shelf for Records {
    fn put(&self, runs: &[StoredRun]) -> Result<usize> {
        self.put_runs(runs)
    }

    fn prune(&self) -> Result<()> {
        self.prune_runs(OLDEST, MOST_KEPT)
    }
}

/// A run to be written. Its plan is put into its stored form where that may take time.
pub struct Entry {
    pub run: StoredRun,
    pub plan: Option<Arc<PlanDocument>>,
}

impl Entry {
    fn stored(&self) -> StoredRun {
        let plan = self.plan.as_deref().and_then(|plan| serde_json::to_value(plan).ok());
        StoredRun { plan, ..self.run.clone() }
    }
}

/// The newest state of each run that is not written yet, by the numbers in which the runs came.
#[derive(Default)]
struct Waiting {
    states: BTreeMap<u64, Entry>,
    numbers: HashMap<String, u64>,
    /// The number of the last that came.
    last: u64,
    lost: usize,
}

impl Waiting {
    fn put(&mut self, entry: Entry) {
        let number = *self.numbers.entry(entry.run.id.clone()).or_insert_with(|| {
            self.last += 1;
            self.last
        });
        self.states.insert(number, entry);
        while self.states.len() > MOST_WAITING
            && let Some((_, oldest)) = self.states.pop_first()
        {
            self.numbers.remove(&oldest.run.id);
            self.lost += 1;
        }
    }

    /// The first ones and their numbers.
    fn take(&mut self) -> (Vec<u64>, Vec<Entry>) {
        let rest = match self.states.keys().nth(AT_ONCE).copied() {
            Some(next) => self.states.split_off(&next),
            None => BTreeMap::new(),
        };
        let (numbers, entries): (Vec<u64>, Vec<Entry>) = std::mem::replace(&mut self.states, rest).into_iter().unzip();
        for entry in &entries {
            self.numbers.remove(&entry.run.id);
        }
        (numbers, entries)
    }

    /// What could not be written waits again, unless something newer has come.
    fn put_back(&mut self, numbers: Vec<u64>, entries: Vec<Entry>) {
        for (number, entry) in numbers.into_iter().zip(entries) {
            if !self.numbers.contains_key(&entry.run.id) && self.states.len() < MOST_WAITING {
                self.numbers.insert(entry.run.id.clone(), number);
                self.states.insert(number, entry);
            }
        }
    }
}

#[derive(Default)]
struct Shared {
    waiting: Mutex<Waiting>,
    more: Notify,
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

pub struct Recorder {
    shared: Arc<Shared>,
    /// All up to this number are written.
    written: watch::Receiver<u64>,
}

impl Recorder {
    pub fn start(shelf: impl Shelf, say: impl Fn(String) + Send + Sync + 'static) -> Recorder {
        let shared: Arc<Shared> = Arc::default();
        let (progress, written) = watch::channel(0);
        tokio::spawn(write(shared.clone(), Arc::new(shelf), progress, say));
        Recorder { shared, written }
    }

    pub fn put(&self, entry: Entry) {
        self.shared.lock().put(entry);
        self.shared.more.notify_one();
    }

    /// For those who read runs from the records: waits a moment for what is about to be written.
    pub async fn catch_up(&self) {
        self.flush(READER_WAIT).await;
    }

    /// Waits until everything that has come is written, but no longer than this.
    pub async fn flush(&self, most: Duration) {
        let last = self.shared.lock().last;
        let mut written = self.written.clone();
        let _ = tokio::time::timeout(most, written.wait_for(|through| *through >= last)).await;
    }
}

async fn write(
    shared: Arc<Shared>,
    shelf: Arc<impl Shelf>,
    progress: watch::Sender<u64>,
    say: impl Fn(String) + Send + Sync + 'static,
) {
    // Old ones are looked for at the start, too.
    let mut unpruned = BETWEEN_PRUNINGS;
    loop {
        if unpruned >= BETWEEN_PRUNINGS {
            unpruned = 0;
            let of = shelf.clone();
            if let Ok(Err(error)) = tokio::task::spawn_blocking(move || of.prune()).await {
                say(format!("old runs were not dropped from the records: {error}"));
            }
        }
        shared.more.notified().await;
        tokio::time::sleep(GATHER).await;
        let mut reachable = true;
        loop {
            let ((numbers, runs), lost) = {
                let mut waiting = shared.lock();
                (waiting.take(), std::mem::take(&mut waiting.lost))
            };
            if lost > 0 {
                say(format!("{lost} runs were not recorded, as too many were waiting"));
            }
            let Some(through) = numbers.last().copied() else { break };
            let to = shelf.clone();
            unpruned += runs.len();
            let write = move || (to.put(&runs.iter().map(Entry::stored).collect::<Vec<_>>()), runs);
            let outcome = tokio::task::spawn_blocking(write).await;
            match outcome {
                Ok((Ok(altered), _)) => {
                    reachable = true;
                    progress.send_replace(through);
                    if altered > 0 {
                        say(format!("{altered} runs were recorded without their details, which the records refuse"));
                    }
                }
                Ok((Err(error), runs)) => {
                    shared.lock().put_back(numbers, runs);
                    if std::mem::replace(&mut reachable, false) {
                        say(format!("runs wait to be recorded: {error}"));
                    }
                    tokio::time::sleep(PAUSE).await;
                }
                Err(stopped) => {
                    progress.send_replace(through);
                    say(format!("runs were not recorded: {stopped}"));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use chrono::Utc;
    use cobble_types::{Code, Error};

    use super::*;

    fn run(id: usize, state: &str) -> Entry {
        let run = StoredRun {
            id: id.to_string(),
            statement: "SELECT 1".into(),
            state: state.into(),
            error: None,
            plan: None,
            rows_out: 0,
            rows_read: 0,
            bytes_read: 0,
            seconds: 0.0,
            started_at: Utc::now(),
            finished_at: None,
            user_name: None,
            user_id: None,
        };
        Entry { run, plan: None }
    }

    /// Refuses the first calls, and keeps what the others bring.
    #[derive(Clone, Default)]
    struct Flaky {
        refusals: Arc<Mutex<usize>>,
        kept: Arc<Mutex<Vec<(String, String)>>>,
    }

    impl Shelf for Flaky {
        fn put(&self, runs: &[StoredRun]) -> Result<usize> {
            let mut refusals = self.refusals.lock().unwrap();
            if *refusals > 0 {
                *refusals -= 1;
                return Err(Error::new(Code::Storage, "away"));
            }
            self.kept.lock().unwrap().extend(runs.iter().map(|run| (run.id.clone(), run.state.clone())));
            Ok(0)
        }
    }

    #[tokio::test]
    async fn a_short_run_is_written_once_and_records_that_are_away_get_it_later() {
        let flaky = Flaky { refusals: Arc::new(Mutex::new(1)), ..Flaky::default() };
        let said: Arc<Mutex<Vec<String>>> = Arc::default();
        let recorder = Recorder::start(flaky.clone(), {
            let said = said.clone();
            move |line| said.lock().unwrap().push(line)
        });
        recorder.put(run(1, "running"));
        recorder.put(run(2, "running"));
        recorder.put(run(1, "finished"));
        recorder.flush(Duration::from_secs(60)).await;
        let kept = std::mem::take(&mut *flaky.kept.lock().unwrap());
        assert_eq!(kept, [("1".into(), "finished".into()), ("2".into(), "running".into())]);
        assert_eq!(*said.lock().unwrap(), ["runs wait to be recorded: away"]);
        recorder.put(run(2, "failed"));
        recorder.flush(Duration::from_secs(60)).await;
        assert_eq!(*flaky.kept.lock().unwrap(), [("2".into(), "failed".into())]);
    }

    #[test]
    fn what_waits_is_bounded_and_newer_states_are_not_overwritten() {
        let mut waiting = Waiting::default();
        (0..MOST_WAITING + 5).for_each(|id| waiting.put(run(id, "running")));
        assert_eq!((waiting.states.len(), waiting.numbers.len(), waiting.lost), (MOST_WAITING, MOST_WAITING, 5));
        let (numbers, taken) = waiting.take();
        assert_eq!((numbers[0], taken.len(), taken[0].run.id.as_str()), (6, AT_ONCE, "5"));
        waiting.put(run(5, "finished"));
        waiting.put_back(numbers, taken);
        assert_eq!((waiting.states.len(), waiting.numbers.len()), (MOST_WAITING, MOST_WAITING));
        // The newer state is the last to be written, and the only one of its run.
        let ids: Vec<&str> = waiting.states.values().map(|entry| entry.run.id.as_str()).collect();
        assert_eq!((ids[0], ids[1], ids[MOST_WAITING - 1]), ("6", "7", "5"));
        assert_eq!(waiting.states[&(MOST_WAITING as u64 + 6)].run.state, "finished");
    }
}
