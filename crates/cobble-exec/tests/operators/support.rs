//! Tables as rows of optional integers, and running a hand-made plan over them.

use std::sync::{Arc, OnceLock};

use arrow::array::{Array, RecordBatch};
use cobble_exec::{CpuPool, Opened, RunLimits, RunningQuery, Until, start};
use cobble_optimize::Settings;
use cobble_plan::document::{PlanDocument, StepDocument};
use cobble_plan::physical::{Operator, PhysicalNode, PhysicalPlan};
use cobble_plan::scan::{GateScan, ScanSpec, Scans};
use cobble_plan::sink::{RowChange, SourceChange};
use cobble_plan::{Column, Expr};
use cobble_types::{ColumnId, Error, Result, SqlType, Value, array_value_text};
use tokio_util::sync::CancellationToken;

pub type Row = Vec<Option<i32>>;

/// A linear congruential generator (Knuth's MMIX constants): the same rows on every machine.
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    /// Rows of `width` values from 0 to `most`, one in eight of them null.
    pub fn rows(&mut self, count: usize, width: usize, most: u64) -> Vec<Row> {
        (0..count)
            .map(|_| (0..width).map(|_| (self.below(8) > 0).then(|| self.below(most + 1) as i32)).collect())
            .collect()
    }
}

pub fn column(id: u32, name: &str) -> Column {
    Column { id: ColumnId(id), qualifier: None, name: name.to_owned(), sql_type: SqlType::Integer }
}

pub fn of(column: &Column) -> Expr {
    Expr::Column(column.clone())
}

pub fn integer(value: i32) -> Expr {
    Expr::literal(Value::Integer(value))
}

/// A step of constant rows.
pub fn table(step: usize, columns: &[Column], rows: &[Row]) -> Arc<PhysicalNode> {
    let value =
        |v: &Option<i32>| Expr::Literal { value: v.map_or(Value::Null, Value::Integer), sql_type: SqlType::Integer };
    let rows = rows.iter().map(|row| row.iter().map(value).collect()).collect();
    Arc::new(PhysicalNode { step, operator: Operator::Values { rows }, columns: columns.to_vec(), inputs: vec![] })
}

fn steps(node: &PhysicalNode, into: &mut Vec<StepDocument>) {
    node.inputs.iter().for_each(|input| steps(input, into));
    into.push(StepDocument {
        step: node.step,
        kind: node.operator.kind().to_owned(),
        text: node.operator.line(&node.inputs),
        ..StepDocument::default()
    });
}

/// For plans without gates.
struct NoScans;

impl Scans for NoScans {
    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        Err(Error::internal(format!("there is no connection {}", spec.connection)))
    }

    fn change(&self, spec: &ScanSpec, _: &RowChange) -> Result<Arc<dyn SourceChange>> {
        Err(Error::internal(format!("there is no connection {}", spec.connection)))
    }
}

/// A plan without gates.
pub fn plan(root: Arc<PhysicalNode>) -> PhysicalPlan {
    let mut document = PlanDocument::default();
    steps(&root, &mut document.steps);
    document.steps.sort_by_key(|step| step.step);
    PhysicalPlan { root, gates: vec![], key_passes: vec![], sinks: vec![], document }
}

pub fn started(
    plan: &PhysicalPlan,
    writers: Vec<Opened>,
    settings: &Settings,
    cancel: CancellationToken,
) -> Result<RunningQuery> {
    static POOL: OnceLock<CpuPool> = OnceLock::new();
    let pool = POOL.get_or_init(|| CpuPool::new().unwrap());
    let limits = RunLimits {
        memory: settings.run_memory,
        time: settings.run_time.map(|limit| Until { limit, left: limit }),
        spill: settings.run_spill,
        tasks: settings.run_tasks,
    };
    start(plan, &NoScans, writers, &limits, pool, cancel)
}

/// The batches, and how many bytes went to disk meanwhile.
async fn batches(plan: &PhysicalPlan, settings: &Settings) -> Result<(Vec<RecordBatch>, u64)> {
    let mut running = started(plan, vec![], settings, CancellationToken::new())?;
    let mut all = Vec::new();
    while let Some(batch) = running.next().await? {
        all.push(batch);
    }
    let mut document = plan.document.clone();
    running.measures.write_into(&mut document);
    let spilled = document.steps.iter().filter_map(|step| step.measure.as_ref()).map(|m| m.spilled).sum();
    Ok((all, spilled))
}

/// The rows as text, in the order in which they came. What runs is what was read from the plan's serial form.
pub async fn run(root: Arc<PhysicalNode>) -> Result<Vec<Vec<String>>, Error> {
    let plan = PhysicalPlan::from_bytes(&plan(root).to_bytes()?)?;
    Ok(rows(&batches(&plan, &Settings::default()).await?.0))
}

/// The same with this much memory, and the bytes that went to disk. The many constants of such a plan would take longer to write and
/// read than to join, so it runs as it was made.
pub async fn run_within(root: Arc<PhysicalNode>, memory: &str) -> Result<(Vec<Vec<String>>, u64), Error> {
    let mut settings = Settings::default();
    settings.set("run.memory", memory)?;
    let (batches, spilled) = batches(&plan(root), &settings).await?;
    Ok((rows(&batches), spilled))
}

fn rows(batches: &[RecordBatch]) -> Vec<Vec<String>> {
    batches
        .iter()
        .flat_map(|batch| {
            (0..batch.num_rows()).map(|row| batch.columns().iter().map(|c| text(c.as_ref(), row)).collect())
        })
        .collect()
}

fn text(column: &dyn Array, row: usize) -> String {
    array_value_text(column, row).unwrap_or_else(|| "∅".to_owned())
}

pub fn shown(row: &[Option<i32>]) -> Vec<String> {
    row.iter().map(|v| v.map_or_else(|| "∅".to_owned(), |v| v.to_string())).collect()
}
