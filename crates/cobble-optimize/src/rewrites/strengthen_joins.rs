//! `strengthen-joins`: an outer join whose unmatched rows are dropped by a condition above it is an inner join (or, of a full
//! one, a left or right join), after Galindo-Legaria and Rosenthal, "Outerjoin Simplification and Reordering" (1997).

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::{ColumnId, Value};

use super::push_filters::substitute;
use super::{Context, Rewrite};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "strengthen-joins",
    about: "makes outer joins inner ones where a condition drops the rows without a partner",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    strengthen(plan, &[], context)
}

/// `above` holds for every row of the plan that matters.
fn strengthen(plan: &LogicalPlan, above: &[Expr], context: &Context) -> LogicalPlan {
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let mut all = above.to_vec();
            conjuncts.iter().for_each(|c| c.clone().into_conjuncts(&mut all));
            LogicalPlan::Filter { input: Arc::new(strengthen(input, &all, context)), conjuncts: conjuncts.clone() }
        }
        LogicalPlan::Join(join) => {
            let rejects = |side: &LogicalPlan| {
                let ids = side.column_ids();
                above.iter().any(|condition| fails_on_nulls(condition, &ids))
            };
            let kind = match join.kind {
                JoinKind::Left if rejects(&join.right) => JoinKind::Inner,
                JoinKind::Right if rejects(&join.left) => JoinKind::Inner,
                JoinKind::Full => match (rejects(&join.left), rejects(&join.right)) {
                    (true, true) => JoinKind::Inner,
                    (true, false) => JoinKind::Left,
                    (false, true) => JoinKind::Right,
                    (false, false) => JoinKind::Full,
                },
                other => other,
            };
            if kind != join.kind {
                context.note(format!(
                    "{} is a {}: its unmatched rows are dropped above",
                    join.kind.words(),
                    kind.words()
                ));
            }
            // What holds above an inner join holds in its sides, and so do its own conditions.
            let mut below = above.to_vec();
            if matches!(kind, JoinKind::Inner | JoinKind::Semi) {
                below.extend(join.on.iter().map(JoinKey::as_condition));
                below.extend(join.residual.iter().cloned());
            }
            let (to_left, to_right): (&[Expr], &[Expr]) = match kind {
                JoinKind::Inner => (&below, &below),
                JoinKind::Semi => (&below, &[]),
                JoinKind::Left | JoinKind::Anti | JoinKind::NullAwareAnti | JoinKind::Single | JoinKind::Mark => {
                    (&below, &[])
                }
                JoinKind::Right => (&[], &below),
                JoinKind::Full => (&[], &[]),
            };
            LogicalPlan::Join(Join {
                left: Arc::new(strengthen(&join.left, to_left, context)),
                right: Arc::new(strengthen(&join.right, to_right, context)),
                kind,
                ..join.clone()
            })
        }
        LogicalPlan::Project { input, columns } => {
            let sources: HashMap<ColumnId, &Expr> = columns.iter().map(|(c, e)| (c.id, e)).collect();
            let below: Vec<Expr> = above.iter().map(|c| substitute(c, &sources)).collect();
            LogicalPlan::Project { input: Arc::new(strengthen(input, &below, context)), columns: columns.clone() }
        }
        other => other.map_inputs(&mut |input| strengthen(input, &[], context)),
    }
}

/// True if the condition cannot hold for a row where all these columns are null.
fn fails_on_nulls(condition: &Expr, ids: &BTreeSet<ColumnId>) -> bool {
    match condition {
        Expr::Literal { value: Value::Boolean(false) | Value::Null, .. } => true,
        Expr::Binary { op: BinaryOp::And, left, right, .. } => fails_on_nulls(left, ids) || fails_on_nulls(right, ids),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => fails_on_nulls(left, ids) && fails_on_nulls(right, ids),
        Expr::IsNull { operand, negated: true } => is_null(operand, ids),
        other => is_null(other, ids),
    }
}

/// True when the expression is null as soon as these columns are.
fn is_null(expr: &Expr, ids: &BTreeSet<ColumnId>) -> bool {
    match expr {
        Expr::Column(column) => ids.contains(&column.id),
        Expr::Literal { value, .. } => value.is_null(),
        Expr::Binary { op: BinaryOp::IsDistinctFrom | BinaryOp::IsNotDistinctFrom, .. } => false,
        Expr::Binary { op: BinaryOp::And | BinaryOp::Or, left, right, .. } => is_null(left, ids) && is_null(right, ids),
        Expr::Binary { left, right, .. } => is_null(left, ids) || is_null(right, ids),
        Expr::Not(operand) | Expr::Negate(operand) | Expr::Cast { operand, .. } | Expr::Field { operand, .. } => {
            is_null(operand, ids)
        }
        Expr::Like { operand, pattern, .. } => is_null(operand, ids) || is_null(pattern, ids),
        Expr::InList { operand, .. } => is_null(operand, ids),
        Expr::Subscript { operand, .. } => is_null(operand, ids),
        // Functions and CASE may make something of a null.
        Expr::Parameter { .. } | Expr::IsNull { .. } | Expr::Case { .. } | Expr::Call { .. } | Expr::Script { .. } => {
            false
        }
    }
}
