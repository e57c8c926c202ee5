//! Samples of the tables of a statement, before it is planned: of those columns that conditions, joins and groupings use. What a sample tells stands in
//! for what the source does not know.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_exec::Compiler;
use cobble_optimize::Settings;
use cobble_plan::expr::Expr;
use cobble_plan::logical::{LogicalPlan, Scan, Table, TableKey};
use cobble_plan::offer::Sources;
use cobble_plan::sample::Sample;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::deep::with_room;
use cobble_types::{ColumnId, Error, Result};
use tokio_util::sync::CancellationToken;

/// The plan with its tables' statistics completed by samples.
pub async fn sampled(
    plan: LogicalPlan,
    sources: &Sources,
    settings: &Settings,
    cancel: &CancellationToken,
) -> Result<LogicalPlan> {
    let wanted = with_room(|| wanted(&plan));
    if wanted.is_empty() || !settings.is_on("samples") {
        return Ok(plan);
    }
    let draw = wanted.iter().map(|(key, places)| async move {
        let places: Vec<usize> = places.iter().copied().collect();
        // A table that cannot be sampled can perhaps not be read either; the scan says so better.
        let drawn = sources.at(key)?.sample(&places).await.ok().flatten();
        Ok((key.clone(), drawn.map(|sample| Arc::new(sample.with_compiler(Arc::new(Compiler))))))
    });
    let drawn = cancel.run_until_cancelled(futures::future::try_join_all(draw)).await;
    let drawn: Vec<(TableKey, Option<Arc<Sample>>)> = drawn.unwrap_or_else(|| Err(Error::cancelled()))?;
    let drawn: HashMap<TableKey, Arc<Sample>> = drawn.into_iter().filter_map(|(key, one)| Some((key, one?))).collect();
    let mut tables = HashMap::new();
    Ok(if drawn.is_empty() { plan } else { with_room(|| with_samples(&plan, &drawn, &mut tables)) })
}

/// The columns of each table whose values say how many rows the statement's steps have.
fn wanted(plan: &LogicalPlan) -> HashMap<TableKey, BTreeSet<usize>> {
    let mut used = Used::default();
    used.walk(plan);
    // What is computed of columns is known by them.
    let mut fresh: Vec<ColumnId> = used.ids.iter().copied().collect();
    while let Some(id) = fresh.pop() {
        for source in used.made_of.get(&id).into_iter().flatten() {
            if used.ids.insert(*source) {
                fresh.push(*source);
            }
        }
    }
    let mut wanted: HashMap<TableKey, BTreeSet<usize>> = HashMap::new();
    for scan in &used.scans {
        // A source that knows how its values are spread need not be asked.
        let is_unknown = |place: usize| {
            scan.table.statistics.columns.get(place).is_none_or(|c| c.most_common.is_empty() && c.histogram.is_empty())
        };
        let places = scan.columns.iter().filter(|(column, place)| used.ids.contains(&column.id) && is_unknown(*place));
        let places: Vec<usize> = places.map(|(_, place)| *place).collect();
        if !places.is_empty() {
            wanted.entry(scan.table.key()).or_default().extend(places);
        }
    }
    wanted
}

#[derive(Default)]
struct Used<'p> {
    ids: BTreeSet<ColumnId>,
    /// Of a column the columns that it is made of, under other ids.
    made_of: HashMap<ColumnId, Vec<ColumnId>>,
    scans: Vec<&'p Scan>,
}

impl<'p> Used<'p> {
    fn walk(&mut self, plan: &'p LogicalPlan) {
        let mut uses = |expr: &Expr| expr.collect_columns(&mut self.ids);
        match plan {
            LogicalPlan::Scan(scan) => self.scans.push(scan),
            LogicalPlan::Project { columns, .. } => {
                let made = columns.iter().map(|(column, expr)| (column.id, expr.columns().into_iter().collect()));
                self.made_of.extend(made);
            }
            LogicalPlan::Aggregate { groups, .. } => {
                for (column, expr) in groups {
                    uses(expr);
                    self.made_of.insert(column.id, expr.columns().into_iter().collect());
                }
            }
            LogicalPlan::Filter { .. } | LogicalPlan::Join(_) => plan.expressions().into_iter().for_each(uses),
            LogicalPlan::Window { partition, .. } => partition.iter().for_each(uses),
            LogicalPlan::Union { inputs, columns } => {
                for input in inputs {
                    for (own, column) in input.columns.iter().zip(columns) {
                        self.made_of.entry(column.id).or_default().push(own.id);
                    }
                }
            }
            LogicalPlan::CteScan { columns, .. } => {
                columns.iter().for_each(|(own, source)| self.made_of.entry(own.id).or_default().push(*source));
            }
            _ => {}
        }
        plan.inputs().into_iter().for_each(|input| self.walk(input));
    }
}

fn with_samples(
    plan: &LogicalPlan,
    drawn: &HashMap<TableKey, Arc<Sample>>,
    tables: &mut HashMap<TableKey, Arc<Table>>,
) -> LogicalPlan {
    let LogicalPlan::Scan(scan) = plan else {
        return plan.map_inputs(&mut |input| with_samples(input, drawn, tables));
    };
    let key = scan.table.key();
    let Some(sample) = drawn.get(&key) else { return plan.clone() };
    let table = tables.entry(key).or_insert_with(|| Arc::new(completed(&scan.table, sample)));
    LogicalPlan::Scan(Scan { table: table.clone(), columns: scan.columns.clone() })
}

/// The table with what its sample tells.
fn completed(table: &Table, sample: &Arc<Sample>) -> Table {
    let rows = table.statistics.rows.unwrap_or(sample.of());
    let columns = table.columns.iter().enumerate().map(|(place, _)| {
        let own = table.statistics.columns.get(place).cloned().unwrap_or_default();
        match sample.statistics(place) {
            Some(found) => united(own, found, rows),
            None => own,
        }
    });
    let known = table.statistics.origin.as_deref().map_or_else(String::new, |origin| format!("{origin}, "));
    let share = match sample.is_whole() {
        true => "all rows".to_owned(),
        false => format!("a sample of {} rows", sample.rows()),
    };
    let statistics = TableStatistics {
        rows: Some(rows),
        bytes: table.statistics.bytes,
        columns: columns.collect(),
        origin: Some(format!("{known}{share}")),
        sample: Some(sample.clone()),
    };
    Table { statistics, ..table.clone() }
}

/// What the source knows, completed by what a sample tells. Ranges of whole numbers and days bound how many there are.
fn united(own: ColumnStatistics, found: ColumnStatistics, rows: f64) -> ColumnStatistics {
    let most = own.distinct.unwrap_or(rows).min(rows).max(1.0);
    ColumnStatistics {
        distinct: found.distinct.map(|distinct| distinct.min(most)).or(own.distinct),
        null_fraction: own.null_fraction.or(found.null_fraction),
        width: own.width.or(found.width),
        most_common: found.most_common,
        histogram: found.histogram,
        ..own
    }
}
