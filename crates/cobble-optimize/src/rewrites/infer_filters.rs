//! `infer-filters`: where a join says `a.x = b.y` and one side is limited to `a.x > 5`, the other side is limited to
//! `b.y > 5` too. The derived condition reaches that side's source, which then sends fewer rows.

use std::sync::Arc;

use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "infer-filters",
    about: "derives conditions on one side of a join from those on the other, through the join's equalities",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    infer(plan, context)
}

fn infer(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    match plan.map_inputs(&mut |input| infer(input, context)) {
        LogicalPlan::Join(join) => {
            // Only the side whose unmatched rows do not come out may lose rows.
            let (may_limit_left, may_limit_right) = match join.kind {
                JoinKind::Inner | JoinKind::Semi => (true, true),
                JoinKind::Left | JoinKind::Anti | JoinKind::Single => (false, true),
                JoinKind::Right => (true, false),
                JoinKind::Full | JoinKind::NullAwareAnti | JoinKind::Mark => (false, false),
            };
            let mut left = join.left.clone();
            let mut right = join.right.clone();
            if may_limit_right {
                right = limited(&join.left, &join.right, plain_keys(&join).map(|key| (&key.left, &key.right)), context);
            }
            if may_limit_left {
                left = limited(&join.right, &join.left, plain_keys(&join).map(|key| (&key.right, &key.left)), context);
            }
            LogicalPlan::Join(Join { left, right, ..join })
        }
        other => other,
    }
}

/// A condition on one side of a null-safe key may hold for a null, which proves nothing by itself; such keys are left out.
fn plain_keys(join: &Join) -> impl Iterator<Item = &JoinKey> {
    join.on.iter().filter(|key| !key.null_safe)
}

/// `to` with the conditions known of `from` carried over the key pairs.
fn limited<'a>(
    from: &LogicalPlan,
    to: &Arc<LogicalPlan>,
    keys: impl Iterator<Item = (&'a Expr, &'a Expr)>,
    context: &Context,
) -> Arc<LogicalPlan> {
    let (mut known, mut present) = (Vec::new(), Vec::new());
    collect_conditions(from, &mut known);
    collect_conditions(to, &mut present);
    let mut derived = Vec::new();
    for (from_key, to_key) in keys {
        let (Expr::Column(source), Expr::Column(target)) = (from_key, to_key) else { continue };
        if source.sql_type != target.sql_type {
            continue;
        }
        for condition in &known {
            if condition.columns().iter().eq([&source.id]) && !condition.is_volatile() {
                let carried = condition.replace(&|e| (e == from_key).then(|| to_key.clone()));
                if !present.contains(&carried) && !derived.contains(&carried) {
                    context.note(format!("{carried}, because {from_key} = {to_key} and {condition}"));
                    derived.push(carried);
                }
            }
        }
    }
    if derived.is_empty() { to.clone() } else { Arc::new(to.as_ref().clone().filtered(derived)) }
}

/// Conditions that hold for every row of the plan's result, over columns that come out of it.
fn collect_conditions(plan: &LogicalPlan, into: &mut Vec<Expr>) {
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            into.extend(conjuncts.iter().cloned());
            collect_conditions(input, into);
        }
        LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Expand { input, .. }
        | LogicalPlan::With { body: input, .. } => collect_conditions(input, into),
        LogicalPlan::Join(join) => match join.kind {
            JoinKind::Inner => {
                collect_conditions(&join.left, into);
                collect_conditions(&join.right, into);
            }
            JoinKind::Left
            | JoinKind::Semi
            | JoinKind::Anti
            | JoinKind::NullAwareAnti
            | JoinKind::Single
            | JoinKind::Mark => collect_conditions(&join.left, into),
            JoinKind::Right => collect_conditions(&join.right, into),
            JoinKind::Full => {}
        },
        // Columns get new ids here or may be missing, so statistics from below do not apply.
        LogicalPlan::Project { .. }
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Union { .. }
        | LogicalPlan::CteScan { .. }
        | LogicalPlan::Recursive { .. } => {}
    }
}
