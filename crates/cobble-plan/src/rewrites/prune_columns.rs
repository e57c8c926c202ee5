//! `prune-columns`: each operator asks its inputs only for the columns that it or something above it uses.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_types::ColumnId;

use super::Context;
use crate::expr::{Column, Expr};
use crate::logical::{CteDefinition, Join, LogicalPlan, Scan};

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
            let used = with_columns(needed, join.expressions());
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
        LogicalPlan::Window { input, partition, order, calls } => {
            let calls: Vec<_> = calls.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect();
            if calls.is_empty() {
                return prune(input, needed);
            }
            let used = with_columns(
                needed,
                partition
                    .iter()
                    .chain(order.iter().map(|key| &key.expr))
                    .chain(calls.iter().flat_map(|(_, call)| call.expressions())),
            );
            LogicalPlan::Window {
                input: Arc::new(prune(input, &used)),
                partition: partition.clone(),
                order: order.clone(),
                calls,
            }
        }
        LogicalPlan::Expand { input, makers, outer } => {
            let used = with_columns(needed, makers.iter().flat_map(|m| &m.arguments));
            LogicalPlan::Expand { input: Arc::new(prune(input, &used)), makers: makers.clone(), outer: *outer }
        }
        LogicalPlan::With { definitions, body } => {
            // Every reader may want other columns of a definition, so it keeps all that any of them names.
            let body = prune(body, needed);
            let mut kept: Vec<CteDefinition> = Vec::new();
            for definition in definitions.iter().rev() {
                let mut places = BTreeSet::new();
                used_places(&body, definition.id, &mut places);
                kept.iter().for_each(|later| used_places(&later.plan, definition.id, &mut places));
                let own = definition.plan.columns();
                let wanted = own.iter().enumerate().filter(|(i, _)| places.contains(i)).map(|(_, c)| c.id).collect();
                let plan = match definition.plan.as_ref() {
                    // The columns of these are known by place, so all of them stay.
                    plan @ (LogicalPlan::Union { .. } | LogicalPlan::Recursive { .. }) => {
                        prune(plan, &plan.column_ids())
                    }
                    plan => keep_places(prune(plan, &wanted), &own),
                };
                kept.push(CteDefinition { plan: Arc::new(plan), ..definition.clone() });
            }
            kept.reverse();
            LogicalPlan::With { definitions: kept, body: Arc::new(body) }
        }
        LogicalPlan::CteScan { id, name, columns } => LogicalPlan::CteScan {
            id: *id,
            name: name.clone(),
            columns: columns.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect(),
        },
        LogicalPlan::Recursive { id, name, base, step, columns, distinct } => LogicalPlan::Recursive {
            id: *id,
            name: name.clone(),
            base: Arc::new(prune(base, &base.column_ids())),
            step: Arc::new(prune(step, &step.column_ids())),
            columns: columns.clone(),
            distinct: *distinct,
        },
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

/// Places of a definition that this plan reads.
fn used_places(plan: &LogicalPlan, definition: u32, into: &mut BTreeSet<usize>) {
    if let LogicalPlan::CteScan { id, columns, .. } = plan
        && *id == definition
    {
        into.extend(columns.iter().map(|(_, place)| *place));
    }
    plan.inputs().into_iter().for_each(|input| used_places(input, definition, into));
}

/// The plan with its columns at the places they had; those that are gone are nulls that nobody reads.
fn keep_places(plan: LogicalPlan, places: &[Column]) -> LogicalPlan {
    let left = plan.column_ids();
    if plan.columns() == places {
        return plan;
    }
    let columns = places
        .iter()
        .map(|column| {
            let gone = || Expr::Literal { value: cobble_types::Value::Null, sql_type: column.sql_type.clone() };
            let expr = if left.contains(&column.id) { Expr::Column(column.clone()) } else { gone() };
            (column.clone(), expr)
        })
        .collect();
    LogicalPlan::Project { input: Arc::new(plan), columns }
}

fn with_columns<'a>(
    needed: &BTreeSet<ColumnId>,
    expressions: impl IntoIterator<Item = &'a Expr>,
) -> BTreeSet<ColumnId> {
    let mut all = needed.clone();
    expressions.into_iter().for_each(|expr| expr.collect_columns(&mut all));
    all
}
