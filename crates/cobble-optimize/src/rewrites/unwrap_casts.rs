//! `unwrap-casts`: a comparison of a cast value with a constant becomes one of the value itself with a constant of its own type, so
//! that sources and row groups can decide it. This is done where the cast is exact and keeps the order.

use std::cmp::Ordering;

use cobble_types::SqlType;

use super::{Context, Rewrite};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::LogicalPlan;

pub const REWRITE: Rewrite = Rewrite {
    name: "unwrap-casts",
    about: "casts the constant of a comparison instead of each value",
    concerns: |operator| operator.expressions().into_iter().any(has_cast),
    apply,
    needed: false,
};

fn has_cast(expr: &Expr) -> bool {
    matches!(expr, Expr::Cast { .. }) || expr.children().into_iter().any(has_cast)
}

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    plan.map_inputs(&mut |input| apply(input, context)).map_expressions(&mut |expr| unwrap(expr, context))
}

fn unwrap(expr: &Expr, context: &Context) -> Expr {
    let expr = expr.map_children(&mut |child| unwrap(child, context));
    unwrapped(&expr, context).unwrap_or(expr)
}

/// The comparison without its cast, if there is one that can go.
fn unwrapped(expr: &Expr, context: &Context) -> Option<Expr> {
    match expr {
        Expr::Binary { op, left, right, .. } => match (left.as_ref(), right.as_ref()) {
            (Expr::Cast { operand, sql_type }, constant @ Expr::Literal { .. }) if op.is_comparison() => {
                compared(operand, sql_type, *op, constant, context)
            }
            (constant @ Expr::Literal { .. }, Expr::Cast { operand, sql_type }) => {
                compared(operand, sql_type, op.mirrored()?, constant, context)
            }
            _ => None,
        },
        Expr::InList { operand, list, negated } => {
            let Expr::Cast { operand, sql_type } = operand.as_ref() else { return None };
            let own = operand.sql_type();
            let exact = |item: &Expr| match nearest(&own, sql_type, item, context)? {
                (nearest, Ordering::Equal) => Some(nearest),
                _ => None,
            };
            let list = list.iter().map(exact).collect::<Option<Vec<Expr>>>()?;
            Some(Expr::InList { operand: operand.clone(), list, negated: *negated })
        }
        _ => None,
    }
}

fn compared(operand: &Expr, wide: &SqlType, op: BinaryOp, constant: &Expr, context: &Context) -> Option<Expr> {
    let (nearest, order) = nearest(&operand.sql_type(), wide, constant, context)?;
    let op = match (op, order) {
        (op, Ordering::Equal) => op,
        // No value lies between the nearest one and the constant.
        (BinaryOp::Lt | BinaryOp::LtEq, Ordering::Less) => BinaryOp::LtEq,
        (BinaryOp::Gt | BinaryOp::GtEq, Ordering::Less) => BinaryOp::Gt,
        (BinaryOp::Lt | BinaryOp::LtEq, Ordering::Greater) => BinaryOp::Lt,
        (BinaryOp::Gt | BinaryOp::GtEq, Ordering::Greater) => BinaryOp::GtEq,
        _ => return None,
    };
    Some(Expr::compare(op, operand.clone(), nearest))
}

/// The value of the narrow type next to the constant, and on which side of the constant it lies.
fn nearest(narrow: &SqlType, wide: &SqlType, constant: &Expr, context: &Context) -> Option<(Expr, Ordering)> {
    let Expr::Literal { value, sql_type } = constant else { return None };
    if sql_type != wide || value.is_null() || !keeps_order(narrow, wide) {
        return None;
    }
    let nearest = (context.fold)(&constant.clone().cast(narrow.clone()))?;
    let Expr::Literal { value: back, .. } = (context.fold)(&nearest.clone().cast(wide.clone()))? else { return None };
    Some((nearest, back.compare(value)?))
}

/// True if the cast never fails, no two values become the same one, and their order stays as it is. A cast back must give a value
/// next to the one that is cast: numbers are rounded to the nearest, and timestamps go to their day.
fn keeps_order(narrow: &SqlType, wide: &SqlType) -> bool {
    use SqlType::*;
    match (narrow, wide) {
        (SmallInt, Integer | BigInt | Real | Double) | (Integer, BigInt | Double) | (Real, Double) => true,
        (Date, Timestamp) => true,
        (SmallInt | Integer | BigInt | Numeric { .. }, Numeric { precision, scale }) => {
            narrow.digits().is_some_and(|(own_precision, own_scale)| {
                let before = |precision: u8, scale: i8| i32::from(precision) - i32::from(scale);
                own_scale <= *scale && before(own_precision, own_scale) <= before(*precision, *scale)
            })
        }
        _ => false,
    }
}
