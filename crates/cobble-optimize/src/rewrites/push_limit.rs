//! `push-limit`: a limit moves below what neither adds nor drops rows, is copied into each input of a union and into the side of
//! an outer join that keeps all its rows, and makes a sort keep only the rows wanted; the sort is copied likewise. Of a
//! subquery that is only asked whether it has rows, one is enough. At a scan the limit is offered to the source.

use std::sync::Arc;

use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKind, LogicalPlan, SortKey, UnionInput};

pub const REWRITE: Rewrite = Rewrite {
    name: "push-limit",
    about: "moves limits below projections and unions, and turns sort with limit into top-n",
    concerns: |o| matches!(o, LogicalPlan::Limit { .. } | LogicalPlan::Join(_)),
    apply,
    needed: false,
};

/// Rows up to which a sort is copied: a larger one costs more than it saves.
const FEW: u64 = 10_000;

fn apply(plan: &LogicalPlan, _: &Context) -> LogicalPlan {
    push(plan)
}

fn push(plan: &LogicalPlan) -> LogicalPlan {
    match plan {
        LogicalPlan::Limit { input, limit, offset } => push_below(input, *limit, *offset),
        LogicalPlan::Join(join) if asks_only_whether(join) => {
            let (left, right) = (Arc::new(push(&join.left)), Arc::new(push_below(&join.right, Some(1), 0)));
            LogicalPlan::Join(Join { left, right, ..join.clone() })
        }
        other => other.map_inputs(&mut push),
    }
}

fn push_below(input: &LogicalPlan, limit: Option<u64>, offset: u64) -> LogicalPlan {
    let wanted = limit.map(|n| n.saturating_add(offset));
    let limited = |input: LogicalPlan| LogicalPlan::Limit { input: Arc::new(input), limit, offset };
    match (input, wanted) {
        (LogicalPlan::Project { input, columns }, _) => {
            LogicalPlan::Project { input: Arc::new(push_below(input, limit, offset)), columns: columns.clone() }
        }
        (LogicalPlan::Sort { input, keys, fetch }, Some(wanted)) => {
            let wanted = fetch.map_or(wanted, |n| n.min(wanted));
            let input = if wanted <= FEW { first_of_each(input, keys, wanted) } else { input.as_ref().clone() };
            let input = Arc::new(push(&input));
            let sort = LogicalPlan::Sort { input, keys: keys.clone(), fetch: Some(wanted) };
            // The sort already keeps just the rows wanted; the limit is left only to skip the first ones.
            if offset == 0 { sort } else { limited(sort) }
        }
        (LogicalPlan::Union { inputs, columns }, Some(wanted)) => {
            let first = |input: &UnionInput| UnionInput {
                plan: Arc::new(push_below(&input.plan, Some(wanted), 0)),
                columns: input.columns.clone(),
            };
            let inputs = inputs.iter().map(first).collect();
            limited(LogicalPlan::Union { inputs, columns: columns.clone() })
        }
        // Every row of the left side comes out, once or more often.
        (LogicalPlan::Join(join), Some(wanted)) if keeps_left(join.kind) => {
            let (left, right) = (Arc::new(push_below(&join.left, Some(wanted), 0)), Arc::new(push(&join.right)));
            limited(LogicalPlan::Join(Join { left, right, ..join.clone() }))
        }
        // The first of the first: rows after `offset` among those that the inner limit lets through.
        (LogicalPlan::Limit { input, limit: inner, offset: inner_offset }, _) => {
            let left = inner.map(|n| n.saturating_sub(offset));
            let limit = match (limit, left) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b),
            };
            push_below(input, limit, inner_offset.saturating_add(offset))
        }
        (other, _) => limited(push(other)),
    }
}

fn keeps_left(kind: JoinKind) -> bool {
    matches!(kind, JoinKind::Left | JoinKind::Single | JoinKind::Mark)
}

/// A join that asks of its right side only whether it has a row.
fn asks_only_whether(join: &Join) -> bool {
    matches!(join.kind, JoinKind::Semi | JoinKind::Anti | JoinKind::Mark) && join.expressions().next().is_none()
}

/// The plan with a copy of the sort, that keeps as many rows, in each input that gives its rows to the sort.
fn first_of_each(plan: &LogicalPlan, keys: &[SortKey], wanted: u64) -> LogicalPlan {
    let sorted = |input: &Arc<LogicalPlan>, keys: Vec<SortKey>| {
        let input = first_of_each(input, &keys, wanted);
        Arc::new(LogicalPlan::Sort { input: Arc::new(input), keys, fetch: Some(wanted) })
    };
    match plan {
        LogicalPlan::Project { input, columns } => {
            let computed = |expr: &Expr| match expr {
                Expr::Column(c) => columns.iter().find(|(column, _)| column.id == c.id).map(|(_, expr)| expr.clone()),
                _ => None,
            };
            let keys: Vec<SortKey> =
                keys.iter().map(|key| SortKey { expr: key.expr.replace(&computed), ..key.clone() }).collect();
            let input = Arc::new(first_of_each(input, &keys, wanted));
            LogicalPlan::Project { input, columns: columns.clone() }
        }
        LogicalPlan::Join(join) if keeps_left(join.kind) => {
            let own = join.left.column_ids();
            let from_left = keys.iter().all(|key| !key.expr.is_volatile() && key.expr.columns().is_subset(&own));
            if !from_left || keys.iter().all(|key| key.expr.columns().is_empty()) {
                return plan.clone();
            }
            LogicalPlan::Join(Join { left: sorted(&join.left, keys.to_vec()), ..join.clone() })
        }
        LogicalPlan::Union { inputs, columns } if keys.iter().all(|key| !key.expr.is_volatile()) => {
            let inputs = inputs.iter().map(|input| {
                let named = |expr: &Expr| match expr {
                    Expr::Column(c) => {
                        let place = columns.iter().position(|column| column.id == c.id)?;
                        input.columns.get(place).cloned().map(Expr::Column)
                    }
                    _ => None,
                };
                let keys = keys.iter().map(|key| SortKey { expr: key.expr.replace(&named), ..key.clone() });
                UnionInput { plan: sorted(&input.plan, keys.collect()), columns: input.columns.clone() }
            });
            LogicalPlan::Union { inputs: inputs.collect(), columns: columns.clone() }
        }
        _ => plan.clone(),
    }
}
