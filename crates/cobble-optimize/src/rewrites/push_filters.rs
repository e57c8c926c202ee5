//! `push-filters`: every conjunct of a condition moves down as far as its columns allow. At an inner join, an equality
//! between the sides becomes a join key, which also turns a comma in FROM into a join.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::ColumnId;

use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{CteDefinition, Join, JoinKey, JoinKind, LogicalPlan, UnionInput};

pub const REWRITE: Rewrite = Rewrite {
    name: "push-filters",
    about: "moves conditions down to where their columns come from, and equalities into joins",
    concerns: |o| matches!(o, LogicalPlan::Filter { .. } | LogicalPlan::Join(_)),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, _: &Context) -> LogicalPlan {
    push(plan, Vec::new())
}

/// The plan with `conjuncts` applied to its result, each as deep as it may go.
fn push(plan: &LogicalPlan, conjuncts: Vec<Expr>) -> LogicalPlan {
    match plan {
        LogicalPlan::Filter { input, conjuncts: own } => {
            let mut all = conjuncts;
            for conjunct in own {
                conjunct.clone().into_conjuncts(&mut all);
            }
            push(input, all)
        }
        LogicalPlan::Project { input, columns } => {
            let sources: HashMap<ColumnId, &Expr> = columns.iter().map(|(c, e)| (c.id, e)).collect();
            // A volatile expression must be computed once per row, so a condition on it stays above.
            let (stay, go): (Vec<_>, Vec<_>) = conjuncts.into_iter().partition(|c| {
                c.is_volatile() || c.columns().iter().any(|id| sources.get(id).is_some_and(|e| e.is_volatile()))
            });
            let moved = go.iter().map(|c| substitute(c, &sources)).collect();
            LogicalPlan::Project { input: Arc::new(push(input, moved)), columns: columns.clone() }.filtered(stay)
        }
        LogicalPlan::Aggregate { input, groups, aggregates } => {
            let sources: HashMap<ColumnId, &Expr> = groups.iter().map(|(c, e)| (c.id, e)).collect();
            let (go, stay): (Vec<_>, Vec<_>) = conjuncts.into_iter().partition(|c| {
                let columns = c.columns();
                !columns.is_empty() && columns.iter().all(|id| sources.contains_key(id)) && !c.is_volatile()
            });
            let moved = go.iter().map(|c| substitute(c, &sources)).collect();
            LogicalPlan::Aggregate {
                input: Arc::new(push(input, moved)),
                groups: groups.clone(),
                aggregates: aggregates.clone(),
            }
            .filtered(stay)
        }
        LogicalPlan::Sort { input, keys, fetch: None } => {
            LogicalPlan::Sort { input: Arc::new(push(input, conjuncts)), keys: keys.clone(), fetch: None }
        }
        LogicalPlan::Union { inputs, columns } => {
            let inputs = inputs
                .iter()
                .map(|input| {
                    let own: Vec<Expr> = input.columns.iter().cloned().map(Expr::Column).collect();
                    let sources: HashMap<ColumnId, &Expr> = columns.iter().map(|c| c.id).zip(&own).collect();
                    let plan = push(&input.plan, conjuncts.iter().map(|c| substitute(c, &sources)).collect());
                    UnionInput { plan: Arc::new(plan), columns: input.columns.clone() }
                })
                .collect();
            LogicalPlan::Union { inputs, columns: columns.clone() }
        }
        LogicalPlan::Join(join) => push_into_join(join, conjuncts),
        LogicalPlan::Window { input, partition, order, calls } => {
            // What speaks of the partition alone drops whole partitions.
            let (go, stay) = split(conjuncts, |c| {
                let columns = c.columns();
                let keys = |id: &ColumnId| partition.iter().any(|e| matches!(e, Expr::Column(k) if k.id == *id));
                !columns.is_empty() && columns.iter().all(keys) && !c.is_volatile()
            });
            LogicalPlan::Window {
                input: Arc::new(push(input, go)),
                partition: partition.clone(),
                order: order.clone(),
                calls: calls.clone(),
            }
            .filtered(stay)
        }
        LogicalPlan::Expand { input, makers, outer } => {
            let made: BTreeSet<ColumnId> = makers.iter().flat_map(|m| &m.columns).map(|c| c.id).collect();
            let (go, stay) =
                split(conjuncts, |c| c.columns().is_disjoint(&made) && !c.columns().is_empty() && !c.is_volatile());
            LogicalPlan::Expand { input: Arc::new(push(input, go)), makers: makers.clone(), outer: *outer }
                .filtered(stay)
        }
        LogicalPlan::With { definitions, body } => LogicalPlan::With {
            definitions: definitions
                .iter()
                .map(|d| CteDefinition { plan: Arc::new(push(&d.plan, Vec::new())), ..d.clone() })
                .collect(),
            body: Arc::new(push(body, conjuncts)),
        },
        LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Sort { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::CteScan { .. }
        | LogicalPlan::Recursive { .. } => plan.map_inputs(&mut |input| push(input, Vec::new())).filtered(conjuncts),
    }
}

fn split(conjuncts: Vec<Expr>, may_go: impl Fn(&Expr) -> bool) -> (Vec<Expr>, Vec<Expr>) {
    conjuncts.into_iter().partition(may_go)
}

pub(super) fn substitute(expr: &Expr, sources: &HashMap<ColumnId, &Expr>) -> Expr {
    expr.replace(&|e| match e {
        Expr::Column(column) => sources.get(&column.id).map(|source| (*source).clone()),
        _ => None,
    })
}

fn push_into_join(join: &Join, conjuncts: Vec<Expr>) -> LogicalPlan {
    let (left_ids, right_ids) = (join.left.column_ids(), join.right.column_ids());
    let within = |expr: &Expr, ids: &BTreeSet<ColumnId>| {
        let columns = expr.columns();
        !columns.is_empty() && columns.is_subset(ids) && !expr.is_volatile()
    };
    // A condition above the join may go to a side only if that side's rows come out unchanged.
    let (above_left, above_right) = match join.kind {
        JoinKind::Inner => (true, true),
        JoinKind::Left
        | JoinKind::Semi
        | JoinKind::Anti
        | JoinKind::NullAwareAnti
        | JoinKind::Single
        | JoinKind::Mark => (true, false),
        JoinKind::Right => (false, true),
        JoinKind::Full => (false, false),
    };
    let (mut to_left, mut to_right, mut stay) = (Vec::new(), Vec::new(), Vec::new());
    let (mut on, mut residual) = (join.on.clone(), Vec::new());
    for conjunct in conjuncts {
        if above_left && within(&conjunct, &left_ids) {
            to_left.push(conjunct);
        } else if above_right && within(&conjunct, &right_ids) {
            to_right.push(conjunct);
        } else if join.kind == JoinKind::Inner {
            residual.push(conjunct);
        } else {
            stay.push(conjunct);
        }
    }
    // A condition of the join itself may go to the side whose unmatched rows do not come out anyway.
    let (own_left, own_right) = match join.kind {
        JoinKind::Inner | JoinKind::Semi => (true, true),
        JoinKind::Left | JoinKind::Anti | JoinKind::Single | JoinKind::Mark => (false, true),
        JoinKind::Right => (true, false),
        JoinKind::Full | JoinKind::NullAwareAnti => (false, false),
    };
    let mut own = Vec::new();
    join.residual.iter().for_each(|c| c.clone().into_conjuncts(&mut own));
    own.append(&mut residual);
    for conjunct in own {
        if own_left && within(&conjunct, &left_ids) {
            to_left.push(conjunct);
        } else if own_right && within(&conjunct, &right_ids) {
            to_right.push(conjunct);
        } else if let Some(key) = JoinKey::of(&conjunct, &left_ids, &right_ids) {
            on.push(key);
        } else {
            residual.push(conjunct);
        }
    }
    LogicalPlan::Join(Join {
        left: Arc::new(push(&join.left, to_left)),
        right: Arc::new(push(&join.right, to_right)),
        on,
        residual,
        ..join.clone()
    })
    .filtered(stay)
}
