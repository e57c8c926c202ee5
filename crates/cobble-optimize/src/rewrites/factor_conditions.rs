//! `factor-conditions`: what all branches of an OR demand is demanded once: `(a AND b) OR (a AND c)` is `a AND (b OR c)`. The
//! common part can then become a join key or go down to a source.

use super::{Context, Rewrite};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::LogicalPlan;

pub const REWRITE: Rewrite = Rewrite {
    name: "factor-conditions",
    about: "takes what all branches of an OR demand out of it",
    concerns: |o| matches!(o, LogicalPlan::Filter { .. } | LogicalPlan::Join(_)),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    factor_plan(plan, context)
}

fn factor_plan(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    let inner = plan.map_inputs(&mut |input| factor_plan(input, context));
    match inner {
        LogicalPlan::Filter { input, conjuncts } => {
            LogicalPlan::Filter { input, conjuncts: conjuncts.iter().flat_map(|c| factored(c, context)).collect() }
        }
        LogicalPlan::Join(mut join) => {
            join.residual = join.residual.iter().flat_map(|c| factored(c, context)).collect();
            LogicalPlan::Join(join)
        }
        other => other,
    }
}

fn branches(expr: &Expr, into: &mut Vec<Vec<Expr>>) {
    match expr {
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
            branches(left, into);
            branches(right, into);
        }
        other => {
            let mut conjuncts = Vec::new();
            other.clone().into_conjuncts(&mut conjuncts);
            into.push(conjuncts);
        }
    }
}

/// The conjuncts that mean the same as the condition.
fn factored(condition: &Expr, context: &Context) -> Vec<Expr> {
    let mut all = Vec::new();
    branches(condition, &mut all);
    let Some((first, rest)) = all.split_first() else { return vec![condition.clone()] };
    if rest.is_empty() {
        return vec![condition.clone()];
    }
    let common: Vec<Expr> =
        first.iter().filter(|c| !c.is_volatile() && rest.iter().all(|branch| branch.contains(c))).cloned().collect();
    if common.is_empty() {
        return vec![condition.clone()];
    }
    context
        .note(format!("every branch demands {}", common.iter().map(Expr::to_string).collect::<Vec<_>>().join(" and ")));
    let mut out = common.clone();
    let left: Vec<Option<Expr>> =
        all.iter().map(|branch| Expr::conjunction(branch.iter().filter(|c| !common.contains(c)).cloned())).collect();
    // A branch that demands nothing more makes the rest true whenever the common part is.
    if left.iter().all(Option::is_some) {
        out.extend(left.into_iter().flatten().reduce(|a, b| Expr::compare(BinaryOp::Or, a, b)));
    }
    out
}
