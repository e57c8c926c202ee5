//! `drop-needless`: work without effect goes: a sort whose order nobody sees, DISTINCT of rows that differ already, and a left
//! join that neither adds columns that are used nor rows.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_functions::Keeps;
use cobble_types::ColumnId;

use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "drop-needless",
    about: "drops sorts that nobody sees, DISTINCT of rows that differ already, and joins that add nothing",
    concerns: |o| matches!(o, LogicalPlan::Sort { .. } | LogicalPlan::Aggregate { .. } | LogicalPlan::Join(_)),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    drop_from(plan, &plan.column_ids(), true, context)
}

/// `needed`: the columns that something above uses. `ordered`: something above sees the order of the rows.
fn drop_from(plan: &LogicalPlan, needed: &BTreeSet<ColumnId>, ordered: bool, context: &Context) -> LogicalPlan {
    let with_own = |needed: &BTreeSet<ColumnId>| {
        let mut all = needed.clone();
        plan.expressions().into_iter().for_each(|e| e.collect_columns(&mut all));
        all
    };
    match plan {
        LogicalPlan::Sort { input, fetch: None, .. } if !ordered => {
            context.note(format!("{}: nobody sees the order", plan.line()));
            drop_from(input, needed, false, context)
        }
        LogicalPlan::Aggregate { input, groups, aggregates } => {
            if aggregates.is_empty() && differ(input, &groups.iter().map(|(_, e)| e).collect::<Vec<_>>()) {
                context.note(format!("{}: they differ already", plan.line()));
                let below = drop_from(input, &input.column_ids(), false, context);
                return LogicalPlan::Project { input: Arc::new(below), columns: groups.clone() };
            }
            // Another order of the rows would change the result.
            let sees = aggregates
                .iter()
                .any(|(_, call)| call.function.entry().keeps == Keeps::Values && call.order.is_empty());
            let used = with_own(&BTreeSet::new());
            LogicalPlan::Aggregate {
                input: Arc::new(drop_from(input, &used, sees, context)),
                groups: groups.clone(),
                aggregates: aggregates.clone(),
            }
        }
        LogicalPlan::Join(join) => {
            let keys: Vec<&Expr> = join.on.iter().map(|k| &k.right).collect();
            let right_ids = join.right.column_ids();
            if join.kind == JoinKind::Left
                && needed.is_disjoint(&right_ids)
                && !keys.is_empty()
                && differ(&join.right, &keys)
            {
                context.note(format!("{}: it adds neither rows nor columns", plan.line()));
                return drop_from(&join.left, needed, ordered, context);
            }
            let used = with_own(needed);
            LogicalPlan::Join(Join {
                left: Arc::new(drop_from(&join.left, &used, false, context)),
                right: Arc::new(drop_from(&join.right, &used, false, context)),
                ..join.clone()
            })
        }
        LogicalPlan::Project { input, .. } => {
            let used = with_own(&BTreeSet::new());
            plan.map_inputs(&mut |_| drop_from(input, &used, ordered, context))
        }
        LogicalPlan::Filter { input, .. } | LogicalPlan::Limit { input, .. } => {
            let used = with_own(needed);
            let sees = ordered || matches!(plan, LogicalPlan::Limit { .. });
            plan.map_inputs(&mut |_| drop_from(input, &used, sees, context))
        }
        LogicalPlan::Sort { input, .. } => {
            let used = with_own(needed);
            plan.map_inputs(&mut |_| drop_from(input, &used, false, context))
        }
        LogicalPlan::Window { input, .. } => {
            let used = with_own(needed);
            plan.map_inputs(&mut |_| drop_from(input, &used, true, context))
        }
        // The others' inputs come out under other ids, or are plans of their own.
        other => other.map_inputs(&mut |input| drop_from(input, &input.column_ids(), true, context)),
    }
}

/// True when no two rows of the plan have the same values of these expressions.
pub(super) fn differ(plan: &LogicalPlan, keys: &[&Expr]) -> bool {
    let has = |id: ColumnId| keys.iter().any(|key| matches!(key, Expr::Column(c) if c.id == id));
    match plan {
        LogicalPlan::Scan(scan) => {
            let primary = &scan.table.primary_key;
            !primary.is_empty()
                && primary.iter().all(|place| scan.columns.iter().any(|(c, own)| own == place && has(c.id)))
        }
        LogicalPlan::Aggregate { groups, .. } => groups.iter().all(|(c, _)| has(c.id)),
        LogicalPlan::Limit { limit: Some(0 | 1), .. } => true,
        LogicalPlan::Filter { input, .. } | LogicalPlan::Sort { input, .. } | LogicalPlan::Limit { input, .. } => {
            differ(input, keys)
        }
        LogicalPlan::Project { input, columns } => {
            let below: Vec<&Expr> = keys
                .iter()
                .filter_map(|key| match key {
                    Expr::Column(c) => columns.iter().find(|(own, _)| own == c).map(|(_, e)| e),
                    _ => None,
                })
                .collect();
            differ(input, &below)
        }
        LogicalPlan::Join(join) if join.kind.left_only() => differ(&join.left, keys),
        _ => false,
    }
}
