//! `split-aggregates`: where groups are made of joined rows and all that is aggregated comes from one side, that side is
//! aggregated by what the joins and the groups need of it before it is joined, and the parts are put together above (Yan and
//! Larson, "Eager Aggregation and Lazy Aggregation", 1995). Done only when the statistics say that the side has far fewer such
//! groups than rows, and that the joins do not drop most of its rows anyway.

use std::collections::BTreeSet;

use cobble_types::{ColumnId, SqlType, Value};

use super::{Context, Rewrite};
use cobble_functions::Function;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::draw::count;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "split-aggregates",
    about: "aggregates one side of a join in part before it is joined, where that leaves far fewer rows",
    concerns: |o| matches!(o, LogicalPlan::Aggregate { input, .. } if matches!(input.as_ref(), LogicalPlan::Join(_))),
    apply,
    needed: false,
};

/// A side must have at least this many rows, and so many times fewer groups.
const FEWEST_ROWS: f64 = 10_000.0;
const LEAST_GAIN: f64 = 8.0;
/// The joins must let at least this share of the side's rows through.
const LEAST_KEPT: f64 = 0.4;

type Aggregates = Vec<(Column, AggregateCall)>;

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    split(plan, context)
}

fn split(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    context.estimator.borrow().enter(plan);
    let inner = plan.map_inputs(&mut |input| split(input, context));
    match &inner {
        LogicalPlan::Aggregate { input, groups, aggregates } => {
            split_one(input, groups, aggregates, context).unwrap_or(inner)
        }
        _ => inner,
    }
}

fn split_one(
    input: &LogicalPlan,
    groups: &[(Column, Expr)],
    aggregates: &Aggregates,
    context: &Context,
) -> Option<LogicalPlan> {
    let LogicalPlan::Join(_) = input else { return None };
    if aggregates.is_empty() || !aggregates.iter().all(|(_, call)| can_be_split(call)) {
        return None;
    }
    let used = ids(aggregates.iter().flat_map(|(_, call)| call.expressions()));
    let above = ids(groups.iter().map(|(_, expr)| expr));
    let rows_out = context.estimate(input).rows;
    let (side, keys) = best_side(input, &used, &above, rows_out, context)?;
    let (rows, part_rows) = (context.estimate(side).rows, groups_of(side, &keys, context)?);

    let mut parts: Aggregates = Vec::new();
    let mut whole: Aggregates = Vec::new();
    let mut results: Vec<(Column, Expr)> = groups.iter().map(|(c, _)| (c.clone(), Expr::Column(c.clone()))).collect();
    let mut part = |call: AggregateCall, merged_by: AggregateFunction| {
        let below = context.column(call.function.name(), call.sql_type.clone());
        let above = context.column(call.function.name(), call.sql_type.clone());
        let merge = AggregateCall {
            function: merged_by,
            arguments: vec![Expr::Column(below.clone())],
            distinct: false,
            order: vec![],
            filter: None,
            sql_type: call.sql_type.clone(),
        };
        parts.push((below, call));
        whole.push((above.clone(), merge));
        Expr::Column(above)
    };
    let or_zero = |sum: Expr| Expr::Call {
        function: Function::Coalesce,
        arguments: vec![sum, Expr::literal(Value::BigInt(0))],
        sql_type: SqlType::BigInt,
    };
    for (column, call) in aggregates {
        use AggregateFunction as F;
        let result = match call.function {
            F::Count => or_zero(part(call.clone(), F::Sum)),
            F::Avg => {
                let argument = call.arguments[0].sql_type();
                let sum_type = F::Sum.overload([argument])?.returns;
                let sum = AggregateCall { function: F::Sum, sql_type: sum_type, ..call.clone() };
                let number = AggregateCall { function: F::Count, sql_type: SqlType::BigInt, ..call.clone() };
                let (sum, number) = (part(sum, F::Sum), part(number, F::Sum));
                let digits = |e: Expr| match e.sql_type().digits() {
                    _ if matches!(e.sql_type(), SqlType::Numeric { .. }) => Some(e),
                    Some((precision, scale)) => {
                        Some(Expr::Cast { operand: Box::new(e), sql_type: SqlType::Numeric { precision, scale } })
                    }
                    None => None,
                };
                Expr::Binary {
                    op: BinaryOp::Divide,
                    left: Box::new(digits(sum)?),
                    right: Box::new(digits(number)?),
                    sql_type: call.sql_type.clone(),
                }
            }
            same => part(call.clone(), same),
        };
        results.push((column.clone(), result));
    }
    context.note(format!(
        "about {} rows are grouped by {} into about {} before they are joined",
        count(rows),
        keys.iter().map(Column::to_string).collect::<Vec<_>>().join(", "),
        count(part_rows)
    ));
    let parted = LogicalPlan::Aggregate {
        input: side.clone().into(),
        groups: keys.iter().map(|key| (key.clone(), Expr::Column(key.clone()))).collect(),
        aggregates: parts,
    };
    let joined = replaced(input, side, &parted);
    let together = LogicalPlan::Aggregate { input: joined.into(), groups: groups.to_vec(), aggregates: whole };
    Some(LogicalPlan::Project { input: together.into(), columns: results })
}

/// Aggregates of parts that give the aggregate of the whole, exactly.
fn can_be_split(call: &AggregateCall) -> bool {
    use AggregateFunction as F;
    let exact =
        || call.arguments.iter().all(|a| a.sql_type().is_integer() || matches!(a.sql_type(), SqlType::Numeric { .. }));
    if call.expressions().any(Expr::is_volatile) || !call.order.is_empty() {
        return false;
    }
    match call.function {
        F::Count => !call.distinct && call.arguments.len() <= 1,
        F::Sum => !call.distinct && exact(),
        F::Avg => !call.distinct && exact() && matches!(call.sql_type, SqlType::Numeric { .. }),
        F::Min | F::Max | F::BoolAnd | F::BoolOr | F::BitAnd | F::BitOr => true,
        _ => false,
    }
}

fn ids<'a>(expressions: impl IntoIterator<Item = &'a Expr>) -> BTreeSet<ColumnId> {
    let mut found = BTreeSet::new();
    expressions.into_iter().for_each(|e| e.collect_columns(&mut found));
    found
}

/// The lowest side of the joins that holds everything aggregated and gains enough, with the columns needed of it above.
fn best_side<'a>(
    plan: &'a LogicalPlan,
    used: &BTreeSet<ColumnId>,
    above: &BTreeSet<ColumnId>,
    rows_out: f64,
    context: &Context,
) -> Option<(&'a LogicalPlan, Vec<Column>)> {
    let LogicalPlan::Join(join) = plan else { return None };
    let mut above = above.clone();
    join.expressions().for_each(|e| e.collect_columns(&mut above));
    let side = side_of(join, used, context)?;
    if let Some(lower) = best_side(side, used, &above, rows_out, context) {
        return Some(lower);
    }
    let keys: Vec<Column> = side.columns().into_iter().filter(|c| above.contains(&c.id)).collect();
    let rows = context.estimate(side).rows;
    let gains = rows >= FEWEST_ROWS
        && groups_of(side, &keys, context).is_some_and(|n| n * LEAST_GAIN <= rows)
        && rows_out >= rows * LEAST_KEPT;
    gains.then_some((side, keys))
}

/// The side of a join that may be aggregated before: its rows come out as often as they have partners.
fn side_of<'a>(join: &'a Join, used: &BTreeSet<ColumnId>, context: &Context) -> Option<&'a LogicalPlan> {
    if join.expressions().any(Expr::is_volatile) {
        return None;
    }
    let has_all = |side: &LogicalPlan| used.is_subset(&side.column_ids());
    let (left, right) = (&join.left, &join.right);
    match join.kind {
        JoinKind::Inner if used.is_empty() => {
            Some(if context.estimate(left).rows >= context.estimate(right).rows { left } else { right })
        }
        JoinKind::Inner if has_all(left) => Some(left),
        JoinKind::Inner | JoinKind::Right if has_all(right) && !used.is_empty() => Some(right),
        JoinKind::Left if has_all(left) && !used.is_empty() => Some(left),
        JoinKind::Semi | JoinKind::Anti | JoinKind::NullAwareAnti if has_all(left) => Some(left),
        _ => None,
    }
}

/// How many groups the keys make, when that is known of each.
fn groups_of(side: &LogicalPlan, keys: &[Column], context: &Context) -> Option<f64> {
    let known = context.estimate(side);
    let mut groups = 1.0;
    for key in keys {
        groups *= known.known_distinct(key.id)?;
    }
    Some(groups.min(known.rows).max(1.0))
}

/// The joins with the side put in the place of what it was made from.
fn replaced(plan: &LogicalPlan, side: &LogicalPlan, by: &LogicalPlan) -> LogicalPlan {
    if std::ptr::eq(plan, side) {
        return by.clone();
    }
    match plan {
        LogicalPlan::Join(_) => plan.map_inputs(&mut |input| replaced(input, side, by)),
        other => other.clone(),
    }
}
