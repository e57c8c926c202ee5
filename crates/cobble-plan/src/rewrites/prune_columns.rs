//! `prune-columns`: each operator asks its inputs only for the columns that it or something above it uses.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_types::ColumnId;

use super::Context;
use crate::expr::Expr;
use crate::logical::{Join, LogicalPlan, Scan};

pub(super) fn apply(plan: &LogicalPlan, _: &Context) -> Option<LogicalPlan> {
    Some(prune(plan, &plan.column_ids()))
}

fn prune(plan: &LogicalPlan, needed: &BTreeSet<ColumnId>) -> LogicalPlan {
    match plan {
        LogicalPlan::Scan(scan) => LogicalPlan::Scan(Scan {
            table: scan.table.clone(),
            columns: scan.columns.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect(),
        }),
        LogicalPlan::Values { .. } => plan.clone(),
        LogicalPlan::Filter { input, conjuncts } => {
            let below = with_columns(needed, conjuncts);
            LogicalPlan::Filter { input: Arc::new(prune(input, &below)), conjuncts: conjuncts.clone() }
        }
        LogicalPlan::Project { input, columns } => {
            let columns: Vec<_> = columns.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect();
            let below = with_columns(&BTreeSet::new(), columns.iter().map(|(_, expr)| expr));
            LogicalPlan::Project { input: Arc::new(prune(input, &below)), columns }
        }
        LogicalPlan::Join(join) => {
            let used = with_columns(needed, join.on.iter().flat_map(|(l, r)| [l, r]).chain(&join.residual));
            LogicalPlan::Join(Join {
                left: Arc::new(prune(&join.left, &used)),
                right: Arc::new(prune(&join.right, &used)),
                ..join.clone()
            })
        }
        LogicalPlan::Aggregate { input, groups, aggregates } => {
            let aggregates: Vec<_> =
                aggregates.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect();
            let used = with_columns(
                &BTreeSet::new(),
                groups.iter().map(|(_, expr)| expr).chain(aggregates.iter().flat_map(|(_, call)| call.expressions())),
            );
            LogicalPlan::Aggregate { input: Arc::new(prune(input, &used)), groups: groups.clone(), aggregates }
        }
        LogicalPlan::Sort { input, keys, fetch } => {
            let below = with_columns(needed, keys.iter().map(|key| &key.expr));
            LogicalPlan::Sort { input: Arc::new(prune(input, &below)), keys: keys.clone(), fetch: *fetch }
        }
        LogicalPlan::Limit { input, limit, offset } => {
            LogicalPlan::Limit { input: Arc::new(prune(input, needed)), limit: *limit, offset: *offset }
        }
        LogicalPlan::Union { inputs, columns } => {
            // The inputs correspond by place, so a column goes from all of them or from none.
            let kept: Vec<usize> = (0..columns.len()).filter(|i| needed.contains(&columns[*i].id)).collect();
            let inputs = inputs.iter().map(|input| Arc::new(prune_places(input, &kept))).collect();
            LogicalPlan::Union { inputs, columns: kept.iter().map(|i| columns[*i].clone()).collect() }
        }
        LogicalPlan::SingleRow { input } => LogicalPlan::SingleRow { input: Arc::new(prune(input, needed)) },
    }
}

/// The input of a union with exactly the columns at these places, in order.
fn prune_places(input: &LogicalPlan, kept: &[usize]) -> LogicalPlan {
    let columns = input.columns();
    let wanted: Vec<_> = kept.iter().map(|i| columns[*i].clone()).collect();
    let pruned = prune(input, &wanted.iter().map(|column| column.id).collect());
    if pruned.columns() == wanted {
        return pruned;
    }
    let columns = wanted.into_iter().map(|column| (column.clone(), Expr::Column(column))).collect();
    LogicalPlan::Project { input: Arc::new(pruned), columns }
}

fn with_columns<'a>(
    needed: &BTreeSet<ColumnId>,
    expressions: impl IntoIterator<Item = &'a Expr>,
) -> BTreeSet<ColumnId> {
    let mut all = needed.clone();
    expressions.into_iter().for_each(|expr| expr.collect_columns(&mut all));
    all
}
