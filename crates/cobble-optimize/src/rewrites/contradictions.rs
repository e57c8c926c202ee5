//! Conditions that contradict each other: bounds of one column between which no value lies.

use std::cmp::Ordering;

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{ColumnId, Value};

/// Conditions that are compared with each other, and parts of one of them that are looked at, at most.
const MOST: usize = 64;
const PARTS: usize = 256;

/// What a condition says of a column, as far as it is looked at.
enum Says<'e> {
    /// It is compared with a constant, so that null is none of its values.
    Bound {
        column: ColumnId,
        op: BinaryOp,
        constant: &'e Value,
    },
    Null(ColumnId),
    NotNull(ColumnId),
}

fn says(condition: &Expr) -> Option<Says<'_>> {
    match condition {
        Expr::Binary { op: BinaryOp::Eq | BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq, .. } => {
            let Expr::Binary { op, left, right, .. } = condition else { return None };
            let (column, op, constant) = match (left.as_ref(), right.as_ref()) {
                (Expr::Column(column), constant) => (column, *op, constant),
                (constant, Expr::Column(column)) => (column, op.mirrored()?, constant),
                _ => return None,
            };
            match constant {
                Expr::Literal { value, sql_type } if *value != Value::Null && *sql_type == column.sql_type => {
                    Some(Says::Bound { column: column.id, op, constant: value })
                }
                _ => None,
            }
        }
        Expr::IsNull { operand, negated } => match (operand.as_ref(), negated) {
            (Expr::Column(column), false) => Some(Says::Null(column.id)),
            (Expr::Column(column), true) => Some(Says::NotNull(column.id)),
            _ => None,
        },
        _ => None,
    }
}

/// Whether no value can be at or above the one bound and at or below the other.
fn is_below(lower: (BinaryOp, &Value), upper: (BinaryOp, &Value)) -> bool {
    use BinaryOp::{Eq, Gt, GtEq, Lt, LtEq};
    if !matches!(lower.0, Eq | Gt | GtEq) || !matches!(upper.0, Eq | Lt | LtEq) {
        return false;
    }
    match lower.1.compare(upper.1) {
        Some(Ordering::Greater) => true,
        Some(Ordering::Equal) => lower.0 == Gt || upper.0 == Lt,
        _ => false,
    }
}

fn contradict(one: &Says<'_>, other: &Says<'_>) -> bool {
    match (one, other) {
        (Says::Bound { column, op, constant }, Says::Bound { column: same, op: other, constant: bound }) => {
            column == same && (is_below((*op, constant), (*other, bound)) || is_below((*other, bound), (*op, constant)))
        }
        (Says::Null(column), Says::Bound { column: same, .. } | Says::NotNull(same))
        | (Says::Bound { column: same, .. } | Says::NotNull(same), Says::Null(column)) => column == same,
        _ => false,
    }
}

/// Whether a condition cannot be true beside what the others say, as far as the budget for looking at its parts goes.
fn is_impossible(condition: &Expr, others: &[&Says<'_>], budget: &mut usize) -> bool {
    let Some(left) = budget.checked_sub(1) else { return false };
    *budget = left;
    match condition {
        Expr::Binary { op: BinaryOp::And, left, right, .. } => {
            is_impossible(left, others, budget) || is_impossible(right, others, budget)
        }
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
            is_impossible(left, others, budget) && is_impossible(right, others, budget)
        }
        Expr::InList { operand, list, negated: false } => list.iter().all(|value| {
            let equal = Expr::compare(BinaryOp::Eq, operand.as_ref().clone(), value.clone());
            is_impossible(&equal, others, budget)
        }),
        other => says(other).is_some_and(|own| others.iter().any(|it| contradict(&own, it))),
    }
}

/// The condition, of those that must all hold, that cannot be true beside the others.
pub fn contradiction(conjuncts: &[Expr]) -> Option<&Expr> {
    let simple = conjuncts.iter().enumerate().filter_map(|(place, own)| Some((place, says(own)?)));
    let simple: Vec<(usize, Says<'_>)> = simple.take(MOST).collect();
    if simple.is_empty() || conjuncts.len() < 2 {
        return None;
    }
    let found = conjuncts.iter().enumerate().take(MOST).find(|(place, conjunct)| {
        let others: Vec<&Says<'_>> = simple.iter().filter(|(other, _)| other != place).map(|(_, says)| says).collect();
        is_impossible(conjunct, &others, &mut { PARTS })
    });
    found.map(|(_, conjunct)| conjunct)
}
