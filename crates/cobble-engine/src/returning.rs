//! RETURNING: a query over the rows that a change gives back. Its only gate makes the change when it is opened, so the rows come,
//! are counted and are cancelled as those of any other query, and none is shown before the change has been made for good.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_exec::expression::Places;
use cobble_plan::LogicalPlan;
use cobble_plan::document::GateDocument;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{Scan, Table};
use cobble_plan::offer::{
    Changed, GateCounters, GateScan, Offer, PartCount, PortionReader, Portions, Request, ScanTools, Source,
    SourceChange,
};
use cobble_plan::physical::PhysicalPlan;
use cobble_plan::statistics::TableStatistics;
use cobble_sql::{BoundQuery, CatalogReader, TableReference};
use cobble_types::{Code, ColumnId, Error, Result};

use crate::changing::{PlannedChange, made_of};
use crate::execution::ResultColumn;
use crate::memory_table::KeptOffer;

/// The change, once it is known which columns are wanted back.
type Ready = Arc<OnceLock<ReadyChange>>;

#[derive(Debug)]
struct ReadyChange {
    /// None when no row can be meant.
    change: Option<Arc<dyn SourceChange>>,
    /// What is computed of the rows that come back, and their columns there: where it fails, nothing is changed.
    computed: Vec<Expr>,
    columns: Vec<Column>,
}

/// The changed rows as a table.
pub struct Returning {
    table: Arc<Table>,
    ready: Ready,
}

impl Returning {
    /// Of this table, whose rows are changed.
    pub fn new(changed: &Table) -> Returning {
        let ready = Ready::default();
        let source =
            Arc::new(ReturnedSource { of: changed.source.clone(), names: names(changed), ready: ready.clone() });
        let statistics = TableStatistics::default();
        let table = Table { source, statistics, primary_key: vec![], ..changed.clone() };
        Returning { table: Arc::new(table), ready }
    }

    /// The columns of the table that the query needs, in the order in which its gate wants them.
    pub fn wanted(&self, plan: &PhysicalPlan) -> Result<Vec<Column>> {
        let [gate] = plan.gates.as_slice() else { return Err(Error::internal("RETURNING is not one gate")) };
        let names = gate.scan.columns_read();
        let column = |name: &String| {
            let mut known = self.table.columns.iter().enumerate();
            let (place, column) = known.find(|(_, column)| column.name == *name)?;
            let (name, sql_type) = (column.name.clone(), column.sql_type.clone());
            Some(Column { id: ColumnId(place as u32), qualifier: None, name, sql_type })
        };
        let columns: Option<Vec<Column>> = names.iter().map(column).collect();
        columns.ok_or_else(|| Error::internal("RETURNING wants a column that the table has not"))
    }

    /// The query with the change that its gate makes, and with what that has to say of it. `bound` is the query before it was planned.
    pub fn with_change(&self, plan: &mut PhysicalPlan, bound: &LogicalPlan, change: PlannedChange) -> Result<()> {
        let names = plan.gates.first().map(|gate| gate.scan.columns_read()).unwrap_or_default();
        let mut columns = Vec::new();
        for name in &names {
            let known = scanned(bound).iter().find(|(_, place)| self.table.columns[*place].name == *name);
            let (column, _) = known.ok_or_else(|| Error::internal("RETURNING wants a column that it does not read"))?;
            columns.push(column.clone());
        }
        let computed = bound.columns().into_iter().map(|column| made_of(bound, &Expr::Column(column)));
        let computed = computed.filter(|made| !matches!(made, Expr::Column(_) | Expr::Literal { .. })).collect();
        let own = plan.document.gates.first_mut().ok_or_else(|| Error::internal("RETURNING without a gate"))?;
        if change.change.is_none() {
            (own.estimated_rows, own.estimated_bytes) = (0.0, None);
            own.columns_read.clear();
        }
        if let Some(made) = change.document.gates.into_iter().next() {
            let pieces = made.pieces.into_iter().chain(own.pieces.drain(..)).collect();
            let mut columns_read = made.columns_read;
            columns_read
                .extend(own.columns_read.drain(..).filter(|name| !columns_read.contains(name)).collect::<Vec<_>>());
            *own = GateDocument { gate: own.gate.clone(), step: own.step, pieces, columns_read, ..made };
        }
        // Each changed row comes back.
        let rows = own.estimated_rows;
        plan.document.steps.iter_mut().for_each(|step| step.estimated_rows = rows);
        let ready = ReadyChange { change: change.change, computed, columns };
        self.ready.set(ready).map_err(|_| Error::internal("RETURNING has a change already"))
    }
}

fn names(table: &Table) -> Vec<String> {
    table.columns.iter().map(|column| column.name.clone()).collect()
}

impl CatalogReader for Returning {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        match name {
            TableReference::Changed => Ok(self.table.clone()),
            _ => Err(Error::unsupported("a subquery in RETURNING")),
        }
    }
}

fn scanned(plan: &LogicalPlan) -> &[(Column, usize)] {
    match plan {
        LogicalPlan::Project { input, .. } => scanned(input),
        LogicalPlan::Scan(scan) => &scan.columns,
        _ => &[],
    }
}

/// What is computed of added rows, which no gate gives back.
pub struct Computed {
    /// The columns that the rows come back with.
    pub columns: Vec<Column>,
    expressions: Vec<Expr>,
    pub names: Vec<ResultColumn>,
}

impl Computed {
    /// Of a bound query over the rows.
    pub fn new(bound: BoundQuery) -> Computed {
        let made = |column: &Column| made_of(&bound.plan, &Expr::Column(column.clone()));
        let expressions: Vec<Expr> = bound.columns.iter().map(made).collect();
        let is_used = |column: &Column| {
            expressions.iter().any(|e| e.any(&|part| matches!(part, Expr::Column(own) if own.id == column.id)))
        };
        let columns = scanned(&bound.plan).iter().map(|(column, _)| column.clone()).filter(is_used).collect();
        let names = bound.columns.into_iter().map(|c| ResultColumn { name: c.name, sql_type: c.sql_type }).collect();
        Computed { columns, expressions, names }
    }

    pub fn of(&self, batches: &[RecordBatch]) -> Result<Vec<RecordBatch>> {
        let places = Places::of(&self.columns);
        let compiled = self.expressions.iter().map(|e| places.compile(e)).collect::<Result<Vec<_>>>()?;
        let fields = self.names.iter().map(|c| Field::new(&c.name, c.sql_type.to_arrow(), true));
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        let one = |batch: &RecordBatch| {
            let arrays = compiled.iter().map(|own| own.array(batch)).collect::<Result<Vec<_>>>()?;
            let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
            Ok(RecordBatch::try_new_with_options(schema.clone(), arrays, &options)?)
        };
        batches.iter().map(one).collect()
    }
}

/// Refuses what is no expression over one row.
pub fn check(plan: &LogicalPlan) -> Result<()> {
    match plan {
        LogicalPlan::Project { input, .. } => check(input),
        LogicalPlan::Scan(_) => Ok(()),
        _ => Err(Error::new(Code::Grouping, "RETURNING takes expressions over the changed row")
            .hint("aggregates, windows and functions that make rows need a query of their own")),
    }
}

#[derive(Debug)]
struct ReturnedSource {
    of: Arc<dyn Source>,
    names: Vec<String>,
    ready: Ready,
}

impl Source for ReturnedSource {
    fn connection(&self) -> &str {
        self.of.connection()
    }

    fn kind(&self) -> &str {
        self.of.kind()
    }

    fn region(&self) -> Option<&str> {
        self.of.region()
    }

    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        let (names, ready) = (self.names.clone(), self.ready.clone());
        let finish = move |places: Vec<usize>| -> Arc<dyn GateScan> {
            let names = places.into_iter().map(|place| names[place].clone()).collect();
            Arc::new(ReturnedScan { names, ready: ready.clone(), is_open: AtomicBool::new(false) })
        };
        Box::new(KeptOffer::new(scan, "it is computed of the rows that come back", finish))
    }
}

#[derive(Debug)]
struct ReturnedScan {
    names: Vec<String>,
    ready: Ready,
    is_open: AtomicBool,
}

impl ReturnedScan {
    fn change(&self) -> Option<&Arc<dyn SourceChange>> {
        self.ready.get().and_then(|ready| ready.change.as_ref())
    }
}

impl ReturnedScan {
    /// Computes what is wanted of the rows that come back, only to see whether it can be.
    fn acceptance(&self, tools: &ScanTools) -> Result<impl Fn(&[RecordBatch]) -> Result<()> + Send + Sync + 'static> {
        let ready = self.ready.get();
        let compiled = ready.iter().flat_map(|ready| {
            ready.computed.iter().map(|made| {
                let operand = Box::new(made.clone());
                tools.compiler.compile(&Expr::IsNull { operand, negated: false }, &ready.columns)
            })
        });
        let compiled = compiled.collect::<Result<Vec<_>>>()?;
        Ok(move |batches: &[RecordBatch]| {
            for batch in batches {
                compiled.iter().try_for_each(|own| own.evaluate(batch).map(drop))?;
            }
            Ok(())
        })
    }
}

#[async_trait]
impl GateScan for ReturnedScan {
    fn request(&self) -> Request {
        self.change().map(|change| change.request()).unwrap_or_default()
    }

    fn columns_read(&self) -> Vec<String> {
        self.names.clone()
    }

    fn parts(&self) -> Vec<PartCount> {
        vec![]
    }

    fn estimated_bytes(&self) -> Option<f64> {
        None
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        // What changes rows is done once.
        if self.is_open.swap(true, Ordering::Relaxed) {
            return Err(Error::internal("a change was to be made twice"));
        }
        let done = match self.change() {
            Some(change) => {
                GateCounters::add(&tools.counters.requests, 1);
                let accept = self.acceptance(tools)?;
                change.run(&accept, &tools.cancel).await?
            }
            None => Changed::default(),
        };
        GateCounters::add(&tools.counters.bytes, done.bytes);
        Ok(Arc::new(Batches(Mutex::new(done.returned))))
    }
}

struct Batches(Mutex<Vec<RecordBatch>>);

#[async_trait]
impl Portions for Batches {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let batches = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        let reader = |batches: Vec<RecordBatch>| Box::new(InOrder(batches.into_iter())) as Box<dyn PortionReader>;
        Ok((!batches.is_empty()).then(|| reader(batches)))
    }
}

struct InOrder(std::vec::IntoIter<RecordBatch>);

#[async_trait]
impl PortionReader for InOrder {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        Ok(self.0.next())
    }
}
