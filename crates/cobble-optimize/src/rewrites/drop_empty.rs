//! `drop-empty`: what can give no row is not computed. A condition that is never true, conditions that contradict each other, or LIMIT 0, make what
//! stands below them empty, and with it all that needs a row from there; common results that nothing reads any more go with them.

use std::collections::BTreeSet;

use super::contradictions::contradiction;
use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{CteDefinition, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "drop-empty",
    about: "computes nothing below a condition that is never true, and no common result that nothing reads",
    concerns: |o| {
        matches!(
            o,
            LogicalPlan::Filter { .. }
                | LogicalPlan::Limit { .. }
                | LogicalPlan::Sort { .. }
                | LogicalPlan::With { .. }
        )
    },
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    drop_from(plan, context)
}

fn is_empty(plan: &LogicalPlan) -> bool {
    matches!(plan, LogicalPlan::Values { rows, .. } if rows.is_empty())
}

fn drop_from(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    if let Some(why) = reason(plan) {
        context.note(format!("{}: {why}", plan.line()));
        return nothing(plan);
    }
    let plan = plan.map_inputs(&mut |input| drop_from(input, context));
    if needs_rows_of_empty(&plan) {
        return nothing(&plan);
    }
    match plan {
        // Without partners every row stays.
        LogicalPlan::Join(join)
            if matches!(join.kind, JoinKind::Anti | JoinKind::NullAwareAnti) && is_empty(&join.right) =>
        {
            join.left.as_ref().clone()
        }
        LogicalPlan::Union { mut inputs, columns } => {
            if inputs.iter().any(|input| !is_empty(&input.plan)) {
                inputs.retain(|input| !is_empty(&input.plan));
            }
            if let [only] = inputs.as_slice() {
                let named = columns.into_iter().zip(only.columns.iter().cloned().map(Expr::Column)).collect();
                return LogicalPlan::Project { input: only.plan.clone(), columns: named };
            }
            LogicalPlan::Union { inputs, columns }
        }
        LogicalPlan::With { definitions, body } => {
            let mut read = BTreeSet::new();
            results_read(&body, &mut read);
            let mut kept: Vec<CteDefinition> = Vec::new();
            for definition in definitions.into_iter().rev() {
                if read.contains(&definition.id) {
                    results_read(&definition.plan, &mut read);
                    kept.push(definition);
                } else {
                    context.note(format!("{}: nothing reads it", definition.name));
                }
            }
            kept.reverse();
            if kept.is_empty() { body.as_ref().clone() } else { LogicalPlan::With { definitions: kept, body } }
        }
        other => other,
    }
}

/// Why the operator itself gives no row.
fn reason(plan: &LogicalPlan) -> Option<String> {
    match plan {
        LogicalPlan::Filter { conjuncts, .. } => {
            if conjuncts.iter().any(|c| c.is_never_true()) {
                return Some("the condition is never true".to_owned());
            }
            contradiction(conjuncts).map(|own| format!("{own} is never true beside the rest"))
        }
        LogicalPlan::Join(join) if matches!(join.kind, JoinKind::Inner | JoinKind::Semi) => {
            join.residual.iter().any(|c| c.is_never_true()).then(|| "its condition is never true".to_owned())
        }
        LogicalPlan::Limit { limit: Some(0), .. } => Some("no row is asked for".to_owned()),
        _ => None,
    }
}

/// True when an input is empty and the operator gives no row without rows from there.
fn needs_rows_of_empty(plan: &LogicalPlan) -> bool {
    use JoinKind as K;
    match plan {
        LogicalPlan::Filter { input, .. }
        | LogicalPlan::Project { input, .. }
        | LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Expand { input, .. } => is_empty(input),
        LogicalPlan::Aggregate { input, groups, .. } => !groups.is_empty() && is_empty(input),
        LogicalPlan::Join(join) => match join.kind {
            K::Inner | K::Semi => is_empty(&join.left) || is_empty(&join.right),
            K::Left | K::Anti | K::NullAwareAnti | K::Single | K::Mark => is_empty(&join.left),
            K::Right => is_empty(&join.right),
            K::Full => is_empty(&join.left) && is_empty(&join.right),
        },
        LogicalPlan::Union { inputs, .. } => inputs.iter().all(|input| is_empty(&input.plan)),
        LogicalPlan::With { body, .. } => is_empty(body),
        LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::CteScan { .. }
        | LogicalPlan::Recursive { .. } => false,
    }
}

/// No rows, with the columns of the plan.
fn nothing(plan: &LogicalPlan) -> LogicalPlan {
    LogicalPlan::Values { columns: plan.columns(), rows: Vec::new() }
}

fn results_read(plan: &LogicalPlan, read: &mut BTreeSet<u32>) {
    if let LogicalPlan::CteScan { id, .. } = plan {
        read.insert(*id);
    }
    plan.inputs().into_iter().for_each(|input| results_read(input, read));
}
