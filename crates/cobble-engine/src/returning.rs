//! RETURNING: a query over the rows that a change gives back. Its only gate makes the change when it is opened, so the rows come,
//! are counted and are cancelled as those of any other query, and none is shown before the change has been made for good.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema};
use async_trait::async_trait;
use cobble_exec::expression::Places;
use cobble_plan::LogicalPlan;
use cobble_plan::document::GateDocument;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{Origin, Role, Scan, Table};
use cobble_plan::offer::{Agreed, DescribedTable, Offer, Request, Source, Sources};
use cobble_plan::physical::PhysicalPlan;
use cobble_plan::scan::{
    Changed, GateCounters, GateScan, Portions, RowChange, ScanSpec, ScanTools, Scans, SourceChange,
};
use cobble_plan::statistics::TableStatistics;
use cobble_sql::{BoundQuery, CatalogReader, TableReference};
use cobble_types::{Code, ColumnId, Error, Result};
use serde::{Deserialize, Serialize};

use crate::changing::{PlannedChange, made_of};
use crate::execution::ResultColumn;
use crate::memory_table::{Batches, KeptOffer};

/// The changed rows as a table.
pub struct Returning {
    found: DescribedTable,
}

impl Returning {
    /// Of this table, whose rows are changed.
    pub fn new(changed: &Table) -> Returning {
        let origin = Origin { role: Role::Returned, reads_fields: false, ..changed.origin.clone() };
        let statistics = TableStatistics::default();
        let table = Table { origin, statistics, primary_key: vec![], ..changed.clone() };
        let source = ReturnedSource { of: changed.origin.connection.clone(), names: names(changed) };
        Returning { found: DescribedTable::new(table, source) }
    }

    pub fn sources(&self) -> Sources {
        let mut sources = Sources::default();
        sources.add(&self.found);
        sources
    }

    /// The columns of the table that the query needs, in the order in which its gate wants them.
    pub fn wanted(&self, plan: &PhysicalPlan) -> Result<Vec<Column>> {
        let [gate] = plan.document.gates.as_slice() else { return Err(Error::internal("RETURNING is not one gate")) };
        let names = &gate.columns_read;
        let column = |name: &String| {
            let mut known = self.found.table.columns.iter().enumerate();
            let (place, column) = known.find(|(_, column)| column.name == *name)?;
            let (name, sql_type) = (column.name.clone(), column.sql_type.clone());
            Some(Column { id: ColumnId(place as u32), qualifier: None, name, sql_type })
        };
        let columns: Option<Vec<Column>> = names.iter().map(column).collect();
        columns.ok_or_else(|| Error::internal("RETURNING wants a column that the table has not"))
    }

    /// The query with the change that its gate makes, and with what that has to say of it. `bound` is the query before it was planned.
    pub fn with_change(&self, plan: &mut PhysicalPlan, bound: &LogicalPlan, change: PlannedChange) -> Result<()> {
        let names = plan.document.gates.first().map(|gate| gate.columns_read.clone()).unwrap_or_default();
        let mut columns = Vec::new();
        for name in &names {
            let known = scanned(bound).iter().find(|(_, place)| self.found.table.columns[*place].name == *name);
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
        let own = plan.gates.first_mut().ok_or_else(|| Error::internal("RETURNING without a gate"))?;
        let work = Work { change: change.change.map(|made| (made.spec, made.change)), computed, columns };
        own.spec = ScanSpec::new((&own.spec.connection, KIND), &own.spec.table, FORM, &work)?;
        Ok(())
    }
}

fn names(table: &Table) -> Vec<String> {
    table.columns.iter().map(|column| column.name.clone()).collect()
}

impl CatalogReader for Returning {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        match name {
            TableReference::Changed => Ok(self.found.table.clone()),
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

/// What the rows of a change are called where the kind of a source is said.
pub const KIND: &str = "returned";

/// The form of [`Work`].
const FORM: u16 = 1;

/// The change, and what is computed of the rows that come back: where that fails, nothing is changed.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Work {
    /// None when no row can be meant.
    change: Option<(ScanSpec, RowChange)>,
    computed: Vec<Expr>,
    /// The columns that come back.
    columns: Vec<Column>,
}

#[derive(Debug)]
struct ReturnedSource {
    /// The connection.
    of: String,
    names: Vec<String>,
}

impl Source for ReturnedSource {
    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        let (names, of, name) = (self.names.clone(), self.of.clone(), scan.table.name.clone());
        // Which change it is comes to be known when this has been planned.
        let finish = move |places: Vec<usize>| {
            let names = places.into_iter().map(|place| names[place].clone()).collect();
            let spec = ScanSpec::new((&of, KIND), &name, FORM, &Work::default())?;
            Ok(Agreed::new(spec, Request::default(), names))
        };
        Box::new(KeptOffer::new(scan, "it is computed of the rows that come back", finish))
    }
}

#[derive(Debug)]
struct ReturnedScan {
    change: Option<Arc<dyn SourceChange>>,
    computed: Vec<Expr>,
    columns: Vec<Column>,
    is_open: AtomicBool,
}

/// The scan that makes a change and gives its rows.
pub fn scan(scans: &dyn Scans, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    let Work { change, computed, columns } = spec.unpack(FORM)?;
    let change = change.map(|(spec, change)| scans.scan(&spec)?.change(&change)).transpose()?;
    Ok(Arc::new(ReturnedScan { change, computed, columns, is_open: AtomicBool::new(false) }))
}

impl ReturnedScan {
    /// Computes what is wanted of the rows that come back, only to see whether it can be.
    fn acceptance(&self, tools: &ScanTools) -> Result<impl Fn(&[RecordBatch]) -> Result<()> + Send + Sync + 'static> {
        let compiled = self.computed.iter().map(|made| {
            let operand = Box::new(made.clone());
            tools.compiler.compile(&Expr::IsNull { operand, negated: false }, &self.columns)
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
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        // What changes rows is done once.
        if self.is_open.swap(true, Ordering::Relaxed) {
            return Err(Error::internal("a change was to be made twice"));
        }
        let done = match &self.change {
            Some(change) => {
                GateCounters::add(&tools.counters.requests, 1);
                let accept = self.acceptance(tools)?;
                change.run(&accept, &tools.cancel).await?
            }
            None => Changed::default(),
        };
        GateCounters::add(&tools.counters.bytes, done.bytes);
        Ok(Batches::portions(done.returned))
    }
}
