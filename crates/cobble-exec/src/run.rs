//! Starting a plan on the pool of CPU threads and streaming its result.

use std::collections::HashMap;
use std::panic::AssertUnwindSafe;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use arrow::record_batch::RecordBatch;
use cobble_plan::physical::{Gate, Operator, PhysicalPlan};
use cobble_plan::scan::{ScanTools, Scans};
use cobble_plan::sink::TableWriter;
use cobble_types::{Code, Error, ObjectName, Result};
use futures::FutureExt;
use tokio::runtime::{Builder, Runtime};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::batch::BATCH_ROWS;
use crate::expression::Compiler;
use crate::lower::{Lowering, OpenGate, Surroundings};
use crate::measures::{Measures, StepMeter};
use crate::memory::{MemoryPool, ServiceMemory};
use crate::operators::gate::GateMemory;
use crate::output::{Outcome, output};
use crate::pipeline::{Bounds, run_graph};
use crate::spill::SpillPlace;

/// One thread per core that does nothing but work on batches.
#[derive(Debug)]
pub struct CpuPool {
    runtime: Option<Runtime>,
    threads: usize,
    /// What all runs on these threads hold together.
    pub memory: Arc<ServiceMemory>,
}

impl CpuPool {
    pub fn new() -> Result<CpuPool> {
        let threads = std::thread::available_parallelism().map_or(2, usize::from);
        let runtime = Builder::new_multi_thread()
            .worker_threads(threads)
            .thread_name("cobble-cpu")
            .enable_all()
            .build()
            .map_err(|e| Error::internal(format!("no threads could be started: {e}")))?;
        Ok(CpuPool { runtime: Some(runtime), threads, memory: ServiceMemory::of_machine() })
    }
}

impl CpuPool {
    /// Runs work that may take a processor for some time, such as planning.
    pub fn spawn<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static) -> Option<JoinHandle<T>> {
        self.runtime.as_ref().map(|runtime| runtime.spawn(work))
    }
}

impl Drop for CpuPool {
    fn drop(&mut self) {
        // Waiting for threads is not allowed where futures run.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// A query that is being executed. Dropping it cancels it.
#[derive(Debug)]
pub struct RunningQuery {
    batches: Outcome,
    cancel: CancellationToken,
    pub measures: Arc<Measures>,
    memory: Arc<MemoryPool>,
    started: Instant,
}

impl RunningQuery {
    /// The next batch of the result; `None` after the last.
    pub async fn next(&mut self) -> Result<Option<RecordBatch>> {
        self.batches.next().await
    }

    /// Most bytes held by joins, groups and sorts at one time.
    pub fn peak_memory(&self) -> u64 {
        self.memory.peak()
    }

    pub fn elapsed(&self) -> Duration {
        self.started.elapsed()
    }
}

impl Drop for RunningQuery {
    fn drop(&mut self) {
        self.cancel.cancel();
    }
}

/// What a run may take.
#[derive(Debug, Clone, Copy)]
pub struct RunLimits {
    /// Bytes held in joins, groups and sorts.
    pub memory: u64,
    /// None means no limit.
    pub time: Option<Until>,
    /// Bytes spilled to disk at one time.
    pub spill: u64,
    /// Parallel tasks; none means one per core.
    pub tasks: Option<usize>,
}

/// How long a run may take, in seconds: in all, and what is left of that after planning.
#[derive(Debug, Clone, Copy)]
pub struct Until {
    pub limit: f64,
    pub left: f64,
}

/// The error of a run that takes longer than so many seconds.
pub fn out_of_time(seconds: f64) -> Error {
    Error::new(Code::TimeLimit, format!("the run took longer than {seconds} s")).hint("raise run.time, or read less")
}

/// What work beside plans may use of a run, which errors name so.
pub fn tools_for(what: &str, limits: &RunLimits, pool: &CpuPool, cancel: CancellationToken) -> ScanTools {
    let memory = MemoryPool::new(limits.memory, &pool.memory);
    ScanTools {
        cancel,
        counters: Arc::default(),
        compiler: Arc::new(Compiler),
        batch_rows: BATCH_ROWS,
        keys: vec![],
        memory: Arc::new(GateMemory { pool: memory, meter: Arc::new(StepMeter::new(1, what)) }),
    }
}

/// A table that is ready to take rows.
pub type Opened = (ObjectName, Box<dyn TableWriter>);

/// Starts the plan, whose gates are made into scans by `scans`, with the writers of its sinks. Cancelling the token stops it at the
/// next batch.
pub fn start(
    plan: &PhysicalPlan,
    scans: &dyn Scans,
    writers: Vec<Opened>,
    limits: &RunLimits,
    pool: &CpuPool,
    cancel: CancellationToken,
) -> Result<RunningQuery> {
    let measures = Arc::new(Measures::new(plan));
    let memory = MemoryPool::new(limits.memory, &pool.memory);
    let (output, batches) = output();
    let tasks = limits.tasks.unwrap_or(pool.threads);
    let gate = |gate: &Gate| {
        let (connection, scan) = (gate.spec.connection.clone(), scans.scan(&gate.spec)?);
        let portions = if scan.finds_more() { 0 } else { gate.spec.portions.len() };
        Ok(OpenGate { connection, scan, portions })
    };
    let mut changes = HashMap::new();
    if let Operator::Change { gate, change, .. } = &plan.root.operator {
        changes.insert(*gate, scans.change(&plan.gates[*gate].spec, change)?);
    }
    let surroundings = Surroundings {
        gates: Arc::new(plan.gates.iter().map(gate).collect::<Result<_>>()?),
        key_passes: Arc::new(plan.key_passes.clone()),
        measures: measures.clone(),
        pool: memory.clone(),
        cancel: cancel.clone(),
        spill: SpillPlace::chosen().bounded(limits.spill),
        shelf: Arc::default(),
        tasks,
        writers: Arc::new(Mutex::new(writers.into_iter().map(Some).collect())),
        changes: Arc::new(changes),
    };
    let pipelines = Lowering::new(surroundings).lower(&plan.root, output.clone())?;
    let limit = limits.time;
    let bounds = Bounds { cancel: cancel.clone(), pool: memory.clone() };
    let runtime = pool.runtime.as_ref().ok_or_else(|| Error::internal("the pool has shut down"))?;
    let work = async move {
        let work = run_graph(pipelines, tasks, &bounds);
        match limit {
            None => work.await,
            Some(until) => tokio::time::timeout(Duration::from_secs_f64(until.left), work).await.unwrap_or_else(|_| {
                bounds.cancel.cancel();
                Err(out_of_time(until.limit))
            }),
        }
    };
    runtime.spawn(async move {
        // However the work ends, a result that is not whole must not look like one that is.
        let outcome =
            AssertUnwindSafe(work).catch_unwind().await.unwrap_or_else(|panic| Err(Error::panicked(panic.as_ref())));
        if let Err(error) = outcome {
            output.fail(error).await;
        }
    });
    Ok(RunningQuery { batches, cancel, measures, memory, started: Instant::now() })
}
