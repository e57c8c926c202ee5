//! `prune-columns`: each operator asks its inputs only for the columns that it or something above it uses.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_types::ColumnId;

use super::{Context, Rewrite};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{CteDefinition, Join, LogicalPlan, Scan, UnionInput};

pub const REWRITE: Rewrite = Rewrite {
    name: "prune-columns",
    about: "drops columns that nothing above uses",
    concerns: |_| true,
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, _: &Context) -> LogicalPlan {
    prune(plan, &plan.column_ids())
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
            let kept: Vec<usize> = (0..columns.len()).filter(|i| needed.contains(&columns[*i].id)).collect();
            let input = |input: &UnionInput| {
                let columns: Vec<Column> = kept.iter().map(|i| input.columns[*i].clone()).collect();
                let plan = prune(&input.plan, &columns.iter().map(|c| c.id).collect());
                UnionInput { plan: Arc::new(plan), columns }
            };
            let inputs = inputs.iter().map(input).collect();
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
                let mut wanted = BTreeSet::new();
                read_of(&body, definition.id, &mut wanted);
                kept.iter().for_each(|later| read_of(&later.plan, definition.id, &mut wanted));
                let plan = Arc::new(prune(&definition.plan, &wanted));
                kept.push(CteDefinition { plan, ..definition.clone() });
            }
            kept.reverse();
            LogicalPlan::With { definitions: kept, body: Arc::new(body) }
        }
        LogicalPlan::CteScan { id, name, columns } => LogicalPlan::CteScan {
            id: *id,
            name: name.clone(),
            columns: columns.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect(),
        },
        LogicalPlan::Recursive { id, name, base, step, columns, distinct } => {
            // What a round does not show may still make the rows of the next one.
            let whole = |input: &UnionInput| UnionInput {
                plan: Arc::new(prune(&input.plan, &input.columns.iter().map(|c| c.id).collect())),
                columns: input.columns.clone(),
            };
            LogicalPlan::Recursive {
                id: *id,
                name: name.clone(),
                base: whole(base),
                step: whole(step),
                columns: columns.clone(),
                distinct: *distinct,
            }
        }
    }
}

/// The columns of a definition that this plan reads.
fn read_of(plan: &LogicalPlan, definition: u32, into: &mut BTreeSet<ColumnId>) {
    if let LogicalPlan::CteScan { id, columns, .. } = plan
        && *id == definition
    {
        into.extend(columns.iter().map(|(_, own)| *own));
    }
    plan.inputs().into_iter().for_each(|input| read_of(input, definition, into));
}

fn with_columns<'a>(
    needed: &BTreeSet<ColumnId>,
    expressions: impl IntoIterator<Item = &'a Expr>,
) -> BTreeSet<ColumnId> {
    let mut all = needed.clone();
    expressions.into_iter().for_each(|expr| expr.collect_columns(&mut all));
    all
}
