//! `fold-constants`: expressions without columns become literals, and conditions that are always true disappear.
//! What fails to compute (a division by zero, say) is left as it stands, to fail only if a row reaches it.

use cobble_types::Value;

use super::{Context, Rewrite};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::LogicalPlan;

pub const REWRITE: Rewrite = Rewrite {
    name: "fold-constants",
    about: "computes what needs no row, and drops conditions that are always true",
    concerns: |_| true,
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    fold_plan(plan, context)
}

fn fold_plan(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    let folded =
        plan.map_inputs(&mut |input| fold_plan(input, context)).map_expressions(&mut |expr| fold_expr(expr, context));
    match folded {
        LogicalPlan::Filter { input, mut conjuncts } => {
            conjuncts.retain(|c| !matches!(c, Expr::Literal { value: Value::Boolean(true), .. }));
            if conjuncts.is_empty() { input.as_ref().clone() } else { LogicalPlan::Filter { input, conjuncts } }
        }
        other => other,
    }
}

pub(super) fn fold_expr(expr: &Expr, context: &Context) -> Expr {
    let inner = expr.map_children(&mut |child| fold_expr(child, context));
    if matches!(inner, Expr::Literal { .. }) {
        return inner;
    }
    if inner.is_constant() && inner.children().iter().all(|child| matches!(child, Expr::Literal { .. })) {
        return (context.fold)(&inner).unwrap_or(inner);
    }
    simplify(inner)
}

/// The laws of three-valued logic that hold whatever the other side is.
fn simplify(expr: Expr) -> Expr {
    let Expr::Binary { op, left, right, sql_type } = expr else { return expr };
    let truth = |e: &Expr| match e {
        Expr::Literal { value: Value::Boolean(value), .. } => Some(*value),
        _ => None,
    };
    match (op, truth(&left), truth(&right)) {
        (BinaryOp::And, Some(true), _) | (BinaryOp::Or, Some(false), _) => *right,
        (BinaryOp::And, _, Some(true)) | (BinaryOp::Or, _, Some(false)) => *left,
        (BinaryOp::And, Some(false), _) | (BinaryOp::And, _, Some(false)) => Expr::boolean(false),
        (BinaryOp::Or, Some(true), _) | (BinaryOp::Or, _, Some(true)) => Expr::boolean(true),
        _ => Expr::Binary { op, left, right, sql_type },
    }
}
