//! RETURNING: expressions over the rows that a write gives back, bound like a query over them.

use std::sync::Arc;

use cobble_plan::LogicalPlan;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{Origin, Role, Table};
use cobble_plan::sink;
use cobble_plan::statistics::TableStatistics;
use cobble_sql::{BoundQuery, CatalogReader, TableReference};
use cobble_types::{Code, Error, Result};

use crate::changing::made_of;

/// The rows that come back, as a table.
pub struct Rows(Arc<Table>);

impl Rows {
    /// Of this table, whose rows are written.
    pub fn of(written: &Table) -> Rows {
        let origin = Origin { role: Role::Returned, reads_fields: false, ..written.origin.clone() };
        let statistics = TableStatistics::default();
        Rows(Arc::new(Table { origin, statistics, primary_key: vec![], ..written.clone() }))
    }
}

impl CatalogReader for Rows {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>> {
        match name {
            TableReference::Changed => Ok(self.0.clone()),
            _ => Err(Error::unsupported("a subquery in RETURNING")),
        }
    }
}

/// Refuses what is no expression over one row.
fn check(plan: &LogicalPlan) -> Result<()> {
    match plan {
        LogicalPlan::Project { input, .. } => check(input),
        LogicalPlan::Scan(_) => Ok(()),
        _ => Err(Error::new(Code::Grouping, "RETURNING takes expressions over the changed row")
            .hint("aggregates, windows and functions that make rows need a query of their own")),
    }
}

fn scanned(plan: &LogicalPlan) -> &[(Column, usize)] {
    match plan {
        LogicalPlan::Project { input, .. } => scanned(input),
        LogicalPlan::Scan(scan) => &scan.columns,
        _ => &[],
    }
}

/// What a bound query over the rows computes, and the columns that it needs of them, by their names at the source.
pub fn returning(bound: &BoundQuery) -> Result<sink::Returning> {
    check(&bound.plan)?;
    let made = |column: &Column| (column.clone(), made_of(&bound.plan, &Expr::Column(column.clone())));
    let made: Vec<(Column, Expr)> = bound.columns.iter().map(made).collect();
    let is_used = |column: &Column| {
        made.iter().any(|(_, e)| e.any(&|part| matches!(part, Expr::Column(own) if own.id == column.id)))
    };
    let columns = scanned(&bound.plan).iter().map(|(column, _)| column.clone()).filter(is_used).collect();
    Ok(sink::Returning { columns, made })
}
