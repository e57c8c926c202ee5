//! Pipelines: a source, a chain of steps, a sink. Parallel tasks of a pipeline claim portions from the shared source and push
//! batches through steps of their own into the sink; when all are done, the sink is sealed and the next pipeline may read
//! what it holds. The pipelines of a run are a graph: one starts as soon as those that it reads from have ended, so that two slow sources
//! are read at the same time.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use arrow::record_batch::RecordBatch;
use async_trait::async_trait;
use cobble_types::{Error, Result};
use tokio_util::sync::CancellationToken;

use crate::measures::StepMeter;
use crate::memory::MemoryPool;
use crate::operators::write::Writing;
use crate::output::Output;

/// Where a pipeline's rows come from. Shared by its tasks.
pub trait Source: Send + Sync {
    fn task(&self) -> Box<dyn SourceTask>;
    /// The most tasks that can find rows here at the same time, as far as it is known once all that it reads from has ended.
    fn most_tasks(&self) -> usize {
        usize::MAX
    }
}

#[async_trait]
pub trait SourceTask: Send {
    async fn next(&mut self) -> Result<Option<RecordBatch>>;
}

/// What happens to rows on their way. Makes one step for each task; what they share lives in the factory.
pub trait StepFactory: Send + Sync {
    fn step(&self) -> Box<dyn Step>;
}

/// One task's part of an operator. Takes a batch, then gives out results until there are none.
pub trait Step: Send {
    fn push(&mut self, batch: RecordBatch) -> Result<()>;
    /// An empty batch means that there may be more: long work is cut into pieces, so that it can be stopped between them.
    fn pull(&mut self) -> Result<Option<RecordBatch>>;
    /// No further batch will be pushed; the rest may be pulled.
    fn finish(&mut self) -> Result<()> {
        Ok(())
    }
    /// True when this and every other task's step will let nothing more through.
    fn satisfied(&self) -> bool {
        false
    }
}

/// Where rows end up.
pub trait Sink: Send + Sync {
    fn task(&self) -> Box<dyn SinkTask>;
    /// All tasks have finished without an error.
    fn seal(&self) -> Result<()>;
}

pub trait SinkTask: Send {
    fn push(&mut self, batch: RecordBatch) -> Result<()>;
    fn finish(self: Box<Self>) -> Result<()>;
}

/// What ends the tasks of a run, and what they may take.
#[derive(Debug, Clone)]
pub struct Bounds {
    pub cancel: CancellationToken,
    pub pool: Arc<MemoryPool>,
}

tokio::task_local! {
    static BOUNDS: Bounds;
}

/// True when the run whose task this is called from has been cancelled; for work that takes long inside one batch.
pub fn is_cancelled() -> bool {
    BOUNDS.try_with(|bounds| bounds.cancel.is_cancelled()).unwrap_or(false)
}

/// Bytes that the run whose task this is called from may still take; `None` outside a run.
pub fn memory_left() -> Option<u64> {
    BOUNDS.try_with(|bounds| bounds.pool.left()).ok()
}

pub struct Branch {
    pub source: Arc<dyn Source>,
    pub source_meter: Option<Arc<StepMeter>>,
    pub steps: Vec<(Arc<dyn StepFactory>, Arc<StepMeter>)>,
    /// The order of rows matters: one task runs the branch alone.
    pub ordered: bool,
    /// Branches of a later phase start when all tasks have finished those of earlier ones.
    pub phase: usize,
    /// The pipelines whose sinks the branch reads, by their places in the graph.
    pub needs: BTreeSet<usize>,
    /// The connections that it reads from.
    pub connections: BTreeSet<String>,
}

impl Branch {
    /// One that reads this and nothing else.
    pub fn new(source: Arc<dyn Source>, meter: Arc<StepMeter>, ordered: bool) -> Branch {
        let (needs, connections) = (BTreeSet::new(), BTreeSet::new());
        Branch { source, source_meter: Some(meter), steps: vec![], ordered, phase: 0, needs, connections }
    }
}

pub enum Target {
    Sink(Arc<dyn Sink>, Arc<StepMeter>),
    Output(Output),
    Write(Arc<Writing>),
}

pub struct Pipeline {
    pub branches: Vec<Arc<Branch>>,
    pub target: Arc<Target>,
}

/// Runs all pipelines, each as soon as those that it needs have ended. One connection serves one pipeline at a time: two that wait for
/// the same pool of connections could keep each other from going on.
///
/// # Errors
/// The first one of any pipeline; the others are stopped then.
pub async fn run_graph(pipelines: Vec<Pipeline>, tasks: usize, bounds: &Bounds) -> Result<()> {
    let mut waiting: Vec<(usize, BTreeSet<usize>, BTreeSet<String>, Pipeline)> = pipelines
        .into_iter()
        .enumerate()
        .map(|(place, pipeline)| {
            let needs = pipeline.branches.iter().flat_map(|branch| branch.needs.iter().copied()).collect();
            let connections = pipeline.branches.iter().flat_map(|branch| branch.connections.iter().cloned()).collect();
            (place, needs, connections, pipeline)
        })
        .collect();
    let mut ended = BTreeSet::new();
    let mut busy = BTreeSet::new();
    let mut running = tokio::task::JoinSet::new();
    loop {
        let (mut ready, mut still) = (Vec::new(), Vec::new());
        for (place, needs, connections, pipeline) in waiting {
            if needs.is_subset(&ended) && connections.is_disjoint(&busy) {
                busy.extend(connections.iter().cloned());
                ready.push((place, connections, pipeline));
            } else {
                still.push((place, needs, connections, pipeline));
            }
        }
        waiting = still;
        // One alone needs no thread but this one: handing it over would take longer than many a small one runs.
        if running.is_empty()
            && ready.len() == 1
            && let Some((place, connections, pipeline)) = ready.pop()
        {
            pipeline.run(tasks, bounds).await?;
            ended.insert(place);
            busy.retain(|connection| !connections.contains(connection));
            continue;
        }
        for (place, connections, pipeline) in ready {
            let bounds = bounds.clone();
            running.spawn(async move { (place, connections, pipeline.run(tasks, &bounds).await) });
        }
        match running.join_next().await {
            None if waiting.is_empty() => return Ok(()),
            None => return Err(Error::internal("pipelines that wait for each other")),
            Some(joined) => {
                let stopped = |panic| Error::internal(format!("a pipeline stopped: {panic}"));
                let (place, connections, outcome) = joined.map_err(stopped)?;
                outcome?;
                ended.insert(place);
                busy.retain(|connection| !connections.contains(connection));
            }
        }
    }
}

impl Pipeline {
    /// Runs the pipeline with `tasks` parallel tasks on the current runtime.
    pub async fn run(self, tasks: usize, bounds: &Bounds) -> Result<()> {
        let last_phase = self.branches.iter().map(|branch| branch.phase).max().unwrap_or(0);
        for phase in 0..=last_phase {
            // Each with what its tasks tell each other: whether a step of it wants no more.
            let branches: Vec<(Arc<Branch>, Arc<AtomicBool>)> =
                self.branches.iter().filter(|b| b.phase == phase).map(|b| (b.clone(), Arc::default())).collect();
            let useful = |branch: &Branch| if branch.ordered { 1 } else { branch.source.most_tasks() };
            let useful = branches.iter().fold(0, |all: usize, (branch, _)| all.saturating_add(useful(branch)));
            let tasks = tasks.min(useful).max(1);
            let task = |number: usize| {
                let mine = branches.iter().filter(|(b, _)| number == 0 || !b.ordered).cloned().collect();
                BOUNDS.scope(bounds.clone(), run_task(mine, self.target.clone(), bounds.cancel.clone()))
            };
            if tasks == 1 {
                task(0).await?;
                continue;
            }
            let mut running = tokio::task::JoinSet::new();
            (0..tasks).for_each(|number| drop(running.spawn(task(number))));
            let mut failure: Option<Error> = None;
            while let Some(joined) = running.join_next().await {
                let outcome = joined.unwrap_or_else(|panic| Err(Error::internal(format!("a task stopped: {panic}"))));
                if let Err(error) = outcome
                    && failure.is_none()
                {
                    failure = Some(error);
                    running.abort_all();
                }
            }
            if let Some(error) = failure {
                return Err(error);
            }
        }
        match self.target.as_ref() {
            Target::Sink(sink, meter) => {
                let start = Instant::now();
                let sealed = sink.seal();
                meter.worked(start.elapsed());
                sealed
            }
            Target::Output(_) => Ok(()),
            Target::Write(writing) => writing.finish(&bounds.cancel).await,
        }
    }
}

async fn run_task(
    branches: Vec<(Arc<Branch>, Arc<AtomicBool>)>,
    target: Arc<Target>,
    cancel: CancellationToken,
) -> Result<()> {
    let mut sink = match target.as_ref() {
        Target::Sink(sink, _) => Some(sink.task()),
        Target::Output(_) | Target::Write(_) => None,
    };
    for (branch, satisfied) in branches {
        let mut source = branch.source.task();
        let mut turn = Instant::now();
        let mut chain =
            Chain { steps: branch.steps.iter().map(|(factory, meter)| (factory.step(), meter.clone())).collect() };
        loop {
            if cancel.is_cancelled() {
                return Err(Error::cancelled());
            }
            // A step that this branch shares with others, such as a limit above them all, may be satisfied before it begins.
            if satisfied.load(Ordering::Relaxed) || chain.satisfied_place().is_some() {
                break;
            }
            let start = Instant::now();
            let next = tokio::select! {
                biased;
                () = cancel.cancelled() => return Err(Error::cancelled()),
                next = source.next() => next?,
            };
            if let Some(meter) = &branch.source_meter {
                meter.worked(start.elapsed());
            }
            let Some(batch) = next else { break };
            if let Some(meter) = &branch.source_meter {
                meter.output(batch.num_rows());
            }
            if batch.num_rows() == 0 {
                continue;
            }
            chain.feed(batch, &target, &mut sink, &cancel).await?;
            if chain.satisfied_place().is_some() {
                satisfied.store(true, Ordering::Relaxed);
            }
            // Not after every batch: it wakes a thread.
            if turn.elapsed() > TURN {
                tokio::task::yield_now().await;
                turn = Instant::now();
            }
        }
        // Nobody waits for what steps before a satisfied one still hold.
        for place in chain.satisfied_place().unwrap_or(0)..chain.steps.len() {
            chain.steps[place].0.finish()?;
            chain.drain(place, &target, &mut sink, &cancel).await?;
        }
    }
    if let (Some(task), Target::Sink(_, meter)) = (sink, target.as_ref()) {
        let start = Instant::now();
        task.finish()?;
        meter.worked(start.elapsed());
    }
    Ok(())
}

/// How long a task works before it lets others.
const TURN: Duration = Duration::from_millis(5);

/// The steps of one task.
struct Chain {
    steps: Vec<(Box<dyn Step>, Arc<StepMeter>)>,
}

impl Chain {
    /// The last step that wants no more.
    fn satisfied_place(&self) -> Option<usize> {
        self.steps.iter().rposition(|(step, _)| step.satisfied())
    }

    async fn feed(
        &mut self,
        batch: RecordBatch,
        target: &Target,
        sink: &mut Option<Box<dyn SinkTask>>,
        cancel: &CancellationToken,
    ) -> Result<()> {
        if self.steps.is_empty() {
            return deliver(batch, target, sink, cancel).await;
        }
        self.push(0, batch)?;
        self.drain(0, target, sink, cancel).await
    }

    fn push(&mut self, place: usize, batch: RecordBatch) -> Result<()> {
        let (step, meter) = &mut self.steps[place];
        let start = Instant::now();
        step.push(batch)?;
        meter.worked(start.elapsed());
        Ok(())
    }

    /// Moves batches on, the furthest first, until no step has one to give, after this one has been given something.
    async fn drain(
        &mut self,
        mut from: usize,
        target: &Target,
        sink: &mut Option<Box<dyn SinkTask>>,
        cancel: &CancellationToken,
    ) -> Result<()> {
        let last = self.steps.len();
        // Steps before it are empty, and so are those after it until it gives something.
        let mut place = from + 1;
        let mut turn = Instant::now();
        while place > from {
            if cancel.is_cancelled() {
                return Err(Error::cancelled());
            }
            // One batch may become thousands on its way: others have their turn in between.
            if turn.elapsed() > TURN {
                tokio::task::yield_now().await;
                turn = Instant::now();
            }
            let (step, meter) = &mut self.steps[place - 1];
            let start = Instant::now();
            let pulled = step.pull()?;
            meter.worked(start.elapsed());
            match pulled {
                None => place -= 1,
                // Work was done without a result so far.
                Some(batch) if batch.num_rows() == 0 => tokio::task::yield_now().await,
                Some(batch) => {
                    meter.output(batch.num_rows());
                    if place == last {
                        deliver(batch, target, sink, cancel).await?;
                    } else {
                        self.push(place, batch)?;
                        if self.steps[place].0.satisfied() {
                            from = place;
                        }
                        place += 1;
                    }
                }
            }
        }
        Ok(())
    }
}

async fn deliver(
    batch: RecordBatch,
    target: &Target,
    sink: &mut Option<Box<dyn SinkTask>>,
    cancel: &CancellationToken,
) -> Result<()> {
    match (target, sink) {
        (Target::Sink(_, meter), Some(task)) => {
            let start = Instant::now();
            task.push(batch)?;
            meter.worked(start.elapsed());
            Ok(())
        }
        (Target::Output(output), _) => tokio::select! {
            biased;
            () = cancel.cancelled() => Err(Error::cancelled()),
            sent = output.send(batch) => sent,
        },
        (Target::Write(writing), _) => writing.push(batch, cancel).await,
        _ => Err(Error::internal("a task without its sink")),
    }
}
