//! Runs: each statement that is executed, its state, its result while it is kept, and its record.

use std::collections::{HashMap, VecDeque};
use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};

use arrow::array::RecordBatch;
use chrono::{DateTime, Utc};
use cobble_engine::{Engine, PlanDocument, Progress, ResultColumn, Session};
use cobble_records::{Records, StoredRun};
use cobble_types::{Code, Error, Result};
use futures::FutureExt;
use rand::Rng;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;

use crate::line::{Line, Place as PlaceInLine};
use crate::recorder::{Entry, Recorder};
use crate::results::{Part, ResultFile, ResultStore, Taken, full};
use crate::sessions::{HeldSession, Place};
use crate::users::User;

/// Bytes of one result that are kept.
const RESULT_BYTES: usize = 1 << 30;
/// How long a result can be fetched after its run has ended.
const RESULT_LIFE: Duration = Duration::from_secs(15 * 60);
/// How long a result stays that nobody asks for while room is short.
const IDLE: Duration = Duration::from_secs(60);
/// How long a new run, or a row of one under way, waits for room among the results.
const ROOM_WAIT: Duration = Duration::from_secs(20);
/// How often what waits for room looks whether the time of a result is over.
const LOOK_AGAIN: Duration = Duration::from_millis(500);
/// Bytes that a run takes beside its rows: its statement in its forms, its state and its plan.
const RUN_BYTES: u64 = 16 << 10;
/// How long runs that are cancelled as the service stops are waited for, and then for the records.
const STOP_WAIT: Duration = Duration::from_secs(3);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RunState {
    Running,
    Finished,
    Failed,
    Cancelled,
}

impl RunState {
    pub fn word(self) -> &'static str {
        match self {
            RunState::Running => "running",
            RunState::Finished => "finished",
            RunState::Failed => "failed",
            RunState::Cancelled => "cancelled",
        }
    }
}

/// What a statement is run within.
pub enum Within {
    /// By itself, from this place.
    Alone(Place),
    Session(Arc<HeldSession>),
}

/// A statement to run, with the values of its parameters as texts where it has some.
pub struct Wanted {
    pub statement: String,
    pub parameters: Option<Vec<Option<String>>>,
    pub within: Within,
    pub owner: Arc<User>,
    /// False for a preview of some rows, which is not recorded.
    pub is_recorded: bool,
}

/// A run as it is now.
#[derive(Debug, Clone)]
pub struct Snapshot {
    pub state: RunState,
    /// It has not begun: others go before it.
    pub waits: bool,
    /// Known once the statement has been planned.
    pub columns: Option<Vec<ResultColumn>>,
    pub message: Option<String>,
    pub progress: Progress,
    pub plan: Option<Arc<PlanDocument>>,
    pub error: Option<Error>,
    /// The session's place and settings after the statement.
    pub place: Place,
}

pub struct Run {
    pub id: String,
    pub statement: String,
    pub owner: Arc<User>,
    pub started_at: DateTime<Utc>,
    cancel: CancellationToken,
    inner: Mutex<Inner>,
    /// Raised whenever something has changed.
    changed: watch::Sender<u64>,
    /// Its reader has had the whole result.
    read: AtomicBool,
    /// Rows from the first one on that were handed over in pages.
    read_to: AtomicU64,
    /// When somebody asked for its rows last, or it ended.
    asked: Mutex<Instant>,
    live: Weak<Live>,
    _taken: Taken,
}

struct Inner {
    snapshot: Snapshot,
    /// With the rows of each.
    parts: Vec<(u64, Part)>,
    bytes: usize,
}

impl Run {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn snapshot(&self) -> Snapshot {
        self.lock().snapshot.clone()
    }

    pub fn cancel(&self) {
        self.cancel.cancel();
    }

    pub fn watch(&self) -> watch::Receiver<u64> {
        self.changed.subscribe()
    }

    fn update(&self, change: impl FnOnce(&mut Inner)) {
        change(&mut self.lock());
        self.changed.send_modify(|n| *n += 1);
    }

    /// The batch at a place, waiting for it while the run goes on; `None` past the end.
    pub async fn batch(&self, place: usize) -> Result<Option<RecordBatch>> {
        match self.part(place).await? {
            Some((_, part)) => part.read().await.map(Some),
            None => Ok(None),
        }
    }

    /// The rows of the batch at a place, which is not read for it.
    pub async fn rows_in(&self, place: usize) -> Result<Option<u64>> {
        Ok(self.part(place).await?.map(|(rows, _)| rows))
    }

    fn is_asked_for(&self) {
        *self.asked.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }

    fn is_idle(&self) -> bool {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner).elapsed() > IDLE
    }

    async fn part(&self, place: usize) -> Result<Option<(u64, Part)>> {
        let mut changed = self.watch();
        self.is_asked_for();
        loop {
            {
                let inner = self.lock();
                if let Some((rows, part)) = inner.parts.get(place) {
                    return Ok(Some((*rows, part.clone())));
                }
                match (inner.snapshot.state, &inner.snapshot.error) {
                    (RunState::Running, _) => {}
                    (_, Some(error)) => return Err(error.clone()),
                    _ => return Ok(None),
                }
            }
            if changed.changed().await.is_err() {
                return Ok(None);
            }
        }
    }

    /// The whole result has been handed over: from now on it may give way to others.
    pub fn was_read(&self) {
        if !self.read.swap(true, Ordering::Relaxed)
            && let Some(live) = self.live.upgrade()
        {
            live.lock().read.push_back(self.id.clone());
        }
    }

    /// A page has been handed over. With the last one the result was read, unless pages before it were passed over.
    pub fn page_was_read(&self, offset: u64, rows: u64, last: bool) {
        if offset > self.read_to.load(Ordering::Relaxed) {
            return;
        }
        self.read_to.fetch_max(offset + rows, Ordering::Relaxed);
        if last {
            self.was_read();
        }
    }

    /// Waits for the end of the run.
    pub async fn ended(&self) -> Result<()> {
        let mut changed = self.watch();
        loop {
            {
                let inner = self.lock();
                match (inner.snapshot.state, &inner.snapshot.error) {
                    (RunState::Running, _) => {}
                    (_, Some(error)) => return Err(error.clone()),
                    _ => return Ok(()),
                }
            }
            if changed.changed().await.is_err() {
                return Ok(());
            }
        }
    }

    /// The columns, waiting until they are known.
    pub async fn columns(&self) -> Result<Vec<ResultColumn>> {
        let mut changed = self.watch();
        loop {
            {
                let inner = self.lock();
                match (&inner.snapshot.columns, &inner.snapshot.error) {
                    (Some(columns), _) => return Ok(columns.clone()),
                    (None, Some(error)) => return Err(error.clone()),
                    (None, None) if inner.snapshot.state != RunState::Running => return Ok(vec![]),
                    _ => {}
                }
            }
            if changed.changed().await.is_err() {
                return Ok(vec![]);
            }
        }
    }

    /// Without its text, which may hold what is nobody's business.
    fn log_end(&self) {
        let inner = self.lock();
        let s = &inner.snapshot;
        tracing::info!(
            run = self.id,
            user = self.owner.name,
            state = s.state.word(),
            sqlstate = s.error.as_ref().map(|error| error.code.sqlstate()),
            seconds = s.progress.seconds,
            rows = s.progress.rows_out,
            rows_read = s.progress.rows_read,
            bytes_read = s.progress.bytes_read,
            "a run has ended"
        );
    }

    fn record(&self) -> Entry {
        let inner = self.lock();
        let s = &inner.snapshot;
        let run = StoredRun {
            id: self.id.clone(),
            statement: self.statement.clone(),
            state: s.state.word().to_owned(),
            error: s.error.as_ref().and_then(|e| serde_json::to_value(e).ok()),
            plan: None,
            rows_out: s.progress.rows_out as i64,
            rows_read: s.progress.rows_read as i64,
            bytes_read: s.progress.bytes_read as i64,
            seconds: s.progress.seconds,
            started_at: self.started_at,
            finished_at: (s.state != RunState::Running).then(Utc::now),
            user_name: Some(self.owner.name.clone()),
            user_id: Some(self.owner.id),
        };
        Entry { run, plan: s.plan.clone() }
    }
}

/// The runs that can be asked about.
#[derive(Default)]
struct Live(Mutex<LiveRuns>);

#[derive(Default)]
struct LiveRuns {
    runs: HashMap<String, Arc<Run>>,
    /// When each run has ended, in this order.
    ended: VecDeque<(Instant, String)>,
    /// Those that nobody waits for: their result was read to its end, or they have none. In order of that.
    read: VecDeque<String>,
}

impl Live {
    fn lock(&self) -> MutexGuard<'_, LiveRuns> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ended runs lose their rows when their time is over, and those that were read when room is getting short.
    fn forget_old(&self, store: &ResultStore) {
        let mut live = self.lock();
        while let Some((_, id)) = live.ended.pop_front_if(|(at, _)| at.elapsed() > RESULT_LIFE) {
            live.runs.remove(&id);
        }
        while store.is_half_full()
            && let Some(id) = live.read.pop_front()
        {
            live.runs.remove(&id);
        }
        // Names of runs whose time was over first.
        if live.read.len() > 2 * live.runs.len() + 100 {
            let LiveRuns { runs, read, .. } = &mut *live;
            read.retain(|id| runs.contains_key(id));
        }
    }
}

impl Live {
    /// Where room is short, results that nobody has asked for since some time go, those that ended first.
    fn forget_idle(&self, store: &ResultStore) {
        if !store.is_half_full() {
            return;
        }
        let mut live = self.lock();
        let LiveRuns { runs, ended, .. } = &mut *live;
        ended.retain(|(_, id)| {
            let is_idle = runs.get(id).is_none_or(|run| run.is_idle());
            if is_idle && store.is_half_full() {
                runs.remove(id);
            }
            runs.contains_key(id)
        });
    }
}

pub struct Runs {
    engine: Arc<Engine>,
    live: Arc<Live>,
    store: Arc<ResultStore>,
    line: Arc<Line>,
    pub recorder: Arc<Recorder>,
}

/// Runs at a time for each processor: most of them wait for their sources.
const AT_ONCE: usize = 8;
/// How often it is looked whether the time of results is over.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// Ends the keeping of results whose time is over, for as long as there is a service.
async fn forget_in_time(live: Weak<Live>, store: Weak<ResultStore>) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        let (Some(live), Some(store)) = (live.upgrade(), store.upgrade()) else { return };
        live.forget_old(&store);
        live.forget_idle(&store);
    }
}

impl Runs {
    pub fn new(engine: Arc<Engine>, records: Records) -> Runs {
        let recorder = Arc::new(Recorder::start(records, |line| tracing::warn!(about = line, "the records of runs")));
        let store = Arc::new(ResultStore::new(engine.service_memory()));
        let live: Arc<Live> = Arc::default();
        tokio::spawn(forget_in_time(Arc::downgrade(&live), Arc::downgrade(&store)));
        let processors = std::thread::available_parallelism().map_or(2, usize::from);
        Runs { engine, live, store, line: Line::new(AT_ONCE * processors.max(2)), recorder }
    }

    /// Starts a text of one or more statements; the result is the last one's. Waits a while for room for the result, and
    /// refuses the run when there comes none.
    pub async fn start(&self, wanted: Wanted) -> Result<Arc<Run>> {
        let Wanted { statement, parameters, within, owner, is_recorded } = wanted;
        let in_line = self.line.enter(owner.id)?;
        let until = tokio::time::Instant::now() + ROOM_WAIT;
        let taken = loop {
            let freed = self.store.freed();
            self.live.forget_old(&self.store);
            match self.store.admit(RUN_BYTES + 4 * statement.len() as u64) {
                Some(taken) => break taken,
                // Time alone frees nothing that notifies: look again now and then.
                None if tokio::time::Instant::now() < until => {
                    self.live.forget_idle(&self.store);
                    let _ = tokio::time::timeout(LOOK_AGAIN, freed).await;
                }
                None => return Err(full()),
            }
        };
        let id: String = {
            let mut rng = rand::rng();
            (0..10).map(|_| char::from(rng.sample(rand::distr::Alphanumeric)).to_ascii_lowercase()).collect()
        };
        let snapshot = Snapshot {
            state: RunState::Running,
            waits: false,
            columns: None,
            message: None,
            progress: Progress::default(),
            plan: None,
            error: None,
            place: match &within {
                Within::Alone(place) => place.clone(),
                Within::Session(held) => held.state().place,
            },
        };
        let run = Arc::new(Run {
            id: id.clone(),
            statement,
            owner,
            started_at: Utc::now(),
            cancel: CancellationToken::new(),
            inner: Mutex::new(Inner { snapshot, parts: vec![], bytes: 0 }),
            changed: watch::Sender::new(0),
            read: AtomicBool::new(false),
            read_to: AtomicU64::new(0),
            asked: Mutex::new(Instant::now()),
            live: Arc::downgrade(&self.live),
            _taken: taken,
        });
        self.live.lock().runs.insert(id, run.clone());
        tracing::info!(run = run.id, user = run.owner.name, bytes = run.statement.len(), "a run begins");
        let recorder = is_recorded.then(|| self.recorder.clone());
        if let Some(recorder) = &recorder {
            recorder.put(run.record());
        }
        let work = execute(run.clone(), self.engine.clone(), within, parameters, self.store.clone(), recorder, in_line);
        // Planning takes a processor for itself: never that of a thread that answers requests.
        self.engine.spawn(work);
        Ok(run)
    }

    pub fn get(&self, id: &str) -> Option<Arc<Run>> {
        self.live.lock().runs.get(id).cloned()
    }

    /// Cancels the runs of a user and forgets their results.
    pub fn drop_all_of(&self, user: i64) {
        let mut live = self.live.lock();
        live.runs.values().filter(|run| run.owner.id == user).for_each(|run| run.cancel());
        live.runs.retain(|_, run| run.owner.id != user);
    }

    /// Cancels every run, waits for their ends, and for these to be recorded.
    pub async fn stop(&self) {
        let all: Vec<Arc<Run>> = self.live.lock().runs.values().cloned().collect();
        all.iter().for_each(|run| run.cancel());
        let ends = futures::future::join_all(all.iter().map(|run| run.ended()));
        let _ = tokio::time::timeout(STOP_WAIT, ends).await;
        self.recorder.flush(STOP_WAIT).await;
    }
}

async fn execute(
    run: Arc<Run>,
    engine: Arc<Engine>,
    within: Within,
    parameters: Option<Vec<Option<String>>>,
    store: Arc<ResultStore>,
    recorder: Option<Arc<Recorder>>,
    in_line: PlaceInLine,
) {
    let mut place = None;
    let work = async {
        let turn = async || {
            let turn = in_line.turn(|| run.update(|inner| inner.snapshot.waits = true)).await;
            run.update(|inner| inner.snapshot.waits = false);
            turn
        };
        match within {
            Within::Alone(from) => {
                let _turn = turn().await;
                let mut session = engine.session_of(run.owner.asker());
                let outcome = match from.enter(&mut session) {
                    Ok(()) => drive(&run, &mut session, parameters.as_deref(), &store).await,
                    Err(error) => Err(error),
                };
                place = Some(Place::of(&session));
                outcome
            }
            Within::Session(held) => {
                let mut taken = held.taken().await;
                let _turn = turn().await;
                let outcome = drive(&run, &mut taken.session, parameters.as_deref(), &store).await;
                place = Some(Place::of(&taken.session));
                outcome
            }
        }
    };
    let outcome = tokio::select! {
        biased;
        () = run.cancel.cancelled() => Err(Error::cancelled()),
        // Whatever happens within, the run ends.
        outcome = AssertUnwindSafe(work).catch_unwind() => outcome.unwrap_or_else(|panic| Err(Error::panicked(panic.as_ref()))),
    };
    let failed = outcome.is_err();
    run.update(|inner| {
        if let Some(place) = place {
            inner.snapshot.place = place;
        }
        inner.snapshot.state = match &outcome {
            Ok(()) => RunState::Finished,
            Err(error) if error.code == Code::Cancelled => RunState::Cancelled,
            Err(_) => RunState::Failed,
        };
        inner.snapshot.error = outcome.err();
        if failed {
            // Half a result is none.
            inner.parts.clear();
        }
    });
    run.log_end();
    run.is_asked_for();
    if let Some(live) = run.live.upgrade() {
        live.lock().ended.push_back((Instant::now(), run.id.clone()));
    }
    if failed {
        run.was_read();
    }
    if let Some(recorder) = recorder {
        recorder.put(run.record());
    }
}

/// How often the progress of a run that gives no rows yet is written down.
const PROGRESS_EVERY: Duration = Duration::from_millis(150);

async fn drive(
    run: &Run,
    session: &mut Session,
    parameters: Option<&[Option<String>]>,
    store: &ResultStore,
) -> Result<()> {
    let mut file = ResultFile::default();
    // A call does its work before there is anything to take rows from.
    let under_way = session.under_way();
    let mut begun = std::pin::pin!(async {
        match parameters {
            None => session.run_text(&run.statement, &run.cancel).await,
            Some(texts) => {
                let prepared = session.prepare(&run.statement, &[]).await?;
                session.run_prepared(&prepared, &prepared.values(texts)?, &run.cancel).await
            }
        }
    });
    let mut execution = loop {
        tokio::select! {
            biased;
            begun = &mut begun => break begun?,
            () = tokio::time::sleep(PROGRESS_EVERY) => {
                if let Some(progress) = under_way.progress() {
                    run.update(|inner| inner.snapshot.progress = progress);
                }
            }
        }
    };
    run.update(|inner| {
        inner.snapshot.columns = Some(execution.columns.clone());
        inner.snapshot.message.clone_from(&execution.message);
        inner.snapshot.plan = execution.planned();
    });
    // One timer for all batches: each new one wakes a thread.
    let mut ticks = tokio::time::interval_at(tokio::time::Instant::now() + PROGRESS_EVERY, PROGRESS_EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut measured_at = Instant::now();
    loop {
        let next = tokio::select! {
            biased;
            next = execution.next() => Some(next),
            _ = ticks.tick() => None,
        };
        let ended = matches!(next, Some(Ok(None) | Err(_)));
        let batch = match next {
            Some(Ok(batch)) => batch,
            Some(Err(error)) => {
                run.update(|inner| {
                    inner.snapshot.progress = execution.progress();
                    inner.snapshot.plan = execution.plan().map(Arc::new);
                });
                return Err(error);
            }
            None => None,
        };
        let bytes = batch.as_ref().map_or(0, RecordBatch::get_array_memory_size);
        let rows = batch.as_ref().map_or(0, RecordBatch::num_rows) as u64;
        let part = match batch {
            Some(batch) => Some(kept(run, store, batch, &mut file).await?),
            None => None,
        };
        // Of a run that has ended before anybody looked, the plan is measured once.
        let plan = if ended || measured_at.elapsed() >= PROGRESS_EVERY {
            measured_at = Instant::now();
            execution.plan().map(Arc::new)
        } else {
            None
        };
        let mut too_large = false;
        run.update(|inner| {
            inner.snapshot.progress = execution.progress();
            if plan.is_some() {
                inner.snapshot.plan = plan;
            }
            inner.bytes += bytes;
            too_large = inner.bytes > RESULT_BYTES;
            inner.parts.extend(part.map(|part| (rows, part)));
        });
        if too_large {
            return Err(Error::new(Code::MemoryLimit, format!("the result is larger than {} MiB", RESULT_BYTES >> 20))
                .hint("select fewer rows or columns, or aggregate"));
        }
        if ended {
            return Ok(());
        }
    }
}

/// Keeps some rows, waiting for room where there is none.
async fn kept(run: &Run, store: &ResultStore, mut batch: RecordBatch, file: &mut ResultFile) -> Result<Part> {
    let until = tokio::time::Instant::now() + ROOM_WAIT;
    loop {
        let freed = store.freed();
        match store.keep(batch, file).await? {
            Ok(part) => return Ok(part),
            Err(refused) => batch = refused,
        }
        if tokio::time::Instant::now() > until {
            return Err(full());
        }
        if let Some(live) = run.live.upgrade() {
            live.forget_old(store);
            live.forget_idle(store);
        }
        let _ = tokio::time::timeout(LOOK_AGAIN, freed).await;
    }
}
