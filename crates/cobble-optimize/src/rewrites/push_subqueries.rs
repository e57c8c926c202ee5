//! `push-subqueries`: the join that a subquery has become is made with those relations whose columns it uses, before other joins
//! multiply their rows: `a, b WHERE a.x IN (…)` looks each row of `a` up once, and not once for each pair.
//!
//! This holds for joins that leave every left row at most once and look at nothing but the row itself: semi, anti and mark joins,
//! and those that find at most one partner. The places are compared by how many rows are looked up in each.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::ColumnId;

use super::drop_needless::differ;
use super::push_filters::substitute;
use super::region::{Region, inner_join, is_link};
use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "push-subqueries",
    about: "looks up what a subquery says before other joins multiply the rows that ask for it",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: false,
};

/// A place must have this many times fewer rows than the one where the join stands: estimates of nearly the same size say nothing.
const WORTH: f64 = 2.0;

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    push(plan, &[], context)
}

/// `above`: conditions on the rows of the plan, which may compare what the subqueries in it say.
fn push(plan: &LogicalPlan, above: &[Expr], context: &Context) -> LogicalPlan {
    context.estimator.borrow().enter(plan);
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let all: Vec<Expr> = above.iter().chain(conjuncts).cloned().collect();
            let input = Arc::new(push(input, &all, context));
            LogicalPlan::Filter { input, conjuncts: conjuncts.clone() }
        }
        LogicalPlan::Join(join) if looks_up(join) => {
            let left = Arc::new(push(&join.left, above, context));
            let right = Arc::new(push(&join.right, &[], context));
            settle(Join { left, right, ..join.clone() }, above, context)
        }
        _ => plan.map_inputs(&mut |input| push(input, &[], context)),
    }
}

/// True when every left row comes out at most once, whatever other rows there are.
fn looks_up(join: &Join) -> bool {
    let one_partner = || differ(&join.right, &join.on.iter().map(|key| &key.right).collect::<Vec<_>>());
    let kind = match join.kind {
        JoinKind::Semi | JoinKind::Anti | JoinKind::NullAwareAnti | JoinKind::Mark => true,
        JoinKind::Left | JoinKind::Single => one_partner(),
        JoinKind::Inner | JoinKind::Right | JoinKind::Full => false,
    };
    kind && !join.expressions().any(Expr::is_volatile)
}

/// The join, moved to where it looks up the fewest rows.
fn settle(join: Join, above: &[Expr], context: &Context) -> LogicalPlan {
    let left = join.left.column_ids();
    let mut used = BTreeSet::new();
    join.expressions().for_each(|e| e.collect_columns(&mut used));
    used.retain(|id| left.contains(id));
    if used.is_empty() {
        // It says the same of every row: what matters is where its value is compared.
        let plan = LogicalPlan::Join(join.clone());
        let made: BTreeSet<ColumnId> = plan.column_ids().difference(&left).copied().collect();
        above.iter().filter(|c| !c.columns().is_disjoint(&made)).for_each(|c| c.collect_columns(&mut used));
        used.retain(|id| left.contains(id));
    }
    if used.is_empty() || !has_joins(&join.left) {
        return LogicalPlan::Join(join);
    }
    let here = context.estimate(&join.left).rows;
    match deeper(&join, &join.left, &used, context) {
        Some((rows, plan)) if rows * WORTH <= here => {
            context.note(format!("{}: for an estimated {rows:.0} rows instead of {here:.0}", join.text()));
            plan
        }
        _ => LogicalPlan::Join(join),
    }
}

fn has_joins(plan: &LogicalPlan) -> bool {
    match plan {
        LogicalPlan::Join(_) => true,
        LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } => has_joins(input),
        _ => false,
    }
}

/// `plan` with the join somewhere within it, and the rows that are looked up there; `None` when it may stand nowhere within.
fn deeper(
    join: &Join,
    plan: &Arc<LogicalPlan>,
    used: &BTreeSet<ColumnId>,
    context: &Context,
) -> Option<(f64, LogicalPlan)> {
    match plan.as_ref() {
        LogicalPlan::Filter { input, conjuncts } => {
            let (rows, input) = at_or_below(join, input, used, context);
            Some((rows, input.filtered(conjuncts.clone())))
        }
        LogicalPlan::Project { input, columns } => {
            let sources: HashMap<ColumnId, &Expr> = columns.iter().map(|(c, e)| (c.id, e)).collect();
            let plain = used.iter().all(|id| matches!(sources.get(id), Some(Expr::Column(_))));
            if !plain || columns.iter().any(|(_, e)| e.is_volatile()) {
                return None;
            }
            let below = join.map_expressions(&mut |e| substitute(e, &sources));
            let used = used.iter().flat_map(|id| sources[id].columns()).collect();
            let (rows, input) = at_or_below(&below, input, &used, context);
            let made = join.output(vec![], join.right.columns()).into_iter().map(|c| (c.clone(), Expr::Column(c)));
            let columns = columns.iter().cloned().chain(made).collect();
            Some((rows, LogicalPlan::Project { input: input.into(), columns }))
        }
        LogicalPlan::Join(own) if own.kind == JoinKind::Inner => within_region(join, plan, used, context),
        LogicalPlan::Join(own) => {
            let goes_left = own.kind.left_only() || matches!(own.kind, JoinKind::Left | JoinKind::Single);
            if goes_left && used.is_subset(&own.left.column_ids()) {
                let (rows, left) = at_or_below(join, &own.left, used, context);
                Some((rows, LogicalPlan::Join(Join { left: left.into(), ..own.clone() })))
            } else if own.kind == JoinKind::Right && used.is_subset(&own.right.column_ids()) {
                let (rows, right) = at_or_below(join, &own.right, used, context);
                Some((rows, LogicalPlan::Join(Join { right: right.into(), ..own.clone() })))
            } else {
                None
            }
        }
        _ => None,
    }
}

fn at_or_below(
    join: &Join,
    plan: &Arc<LogicalPlan>,
    used: &BTreeSet<ColumnId>,
    context: &Context,
) -> (f64, LogicalPlan) {
    let here = context.estimate(plan).rows;
    match deeper(join, plan, used, context) {
        Some((rows, below)) if rows < here => (rows, below),
        _ => (here, LogicalPlan::Join(Join { left: plan.clone(), ..join.clone() })),
    }
}

/// The relations that are used are joined first and looked up; then come the others, linked ones first.
fn within_region(
    join: &Join,
    plan: &Arc<LogicalPlan>,
    used: &BTreeSet<ColumnId>,
    context: &Context,
) -> Option<(f64, LogicalPlan)> {
    let region = Region::of(plan);
    let conditions = &region.conditions;
    if conditions.iter().any(Expr::is_volatile) {
        return None;
    }
    let with_ids = |relation: Arc<LogicalPlan>| (relation.column_ids(), relation);
    let (own, mut others): (Vec<_>, Vec<_>) =
        region.relations.iter().cloned().map(with_ids).partition(|(ids, _)| !ids.is_disjoint(used));
    if others.is_empty() {
        return None;
    }
    let add = |(ids, plan): &(BTreeSet<ColumnId>, Arc<LogicalPlan>), (more_ids, more): &(BTreeSet<_>, Arc<_>)| {
        let joined = LogicalPlan::Join(inner_join((plan, ids), (more, more_ids), conditions));
        (ids.union(more_ids).copied().collect(), Arc::new(joined))
    };
    let mut own = own.into_iter();
    let mut first = own.next()?;
    let mut left: Vec<_> = own.collect();
    let links = |a: &BTreeSet<ColumnId>, b: &BTreeSet<ColumnId>| conditions.iter().any(|c| is_link(c, a, b));
    while !left.is_empty() {
        let linked = left.iter().position(|(ids, _)| links(&first.0, ids));
        // Every row with every row is no place to go to, unless the region has to pair them anyway.
        if linked.is_none() && left.iter().chain([&first]).any(|(a, _)| others.iter().any(|(b, _)| links(a, b))) {
            return None;
        }
        let next = left.remove(linked.unwrap_or(0));
        first = add(&first, &next);
    }
    let (ids, first) = first;
    let (rows, looked_up) = at_or_below(join, &first, used, context);
    let mut whole = (ids, Arc::new(looked_up));
    while !others.is_empty() {
        let linked = others.iter().position(|(ids, _)| links(&whole.0, ids));
        let next = others.remove(linked.unwrap_or(0));
        whole = add(&whole, &next);
    }
    // What no join of two sides decides: conditions about one relation or none.
    let decided = |c: &Expr| {
        let columns = c.columns();
        !columns.is_empty() && !region.relations.iter().any(|relation| columns.is_subset(&relation.column_ids()))
    };
    let rest = conditions.iter().filter(|c| !decided(c)).cloned().collect();
    Some((rows, Arc::unwrap_or_clone(whole.1).filtered(rest)))
}
