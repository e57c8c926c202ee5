//! `unnest-subqueries`: a subquery that uses columns of the query around it becomes an ordinary join, so that nothing is ever
//! run row by row (after Neumann and Kemper, "Unnesting Arbitrary Queries", 2015).
//!
//! Where the outer columns stand only in conditions near the top of the subquery, the conditions move into the join. Anything
//! else is computed for all values of the outer columns at once: the subquery gets those values as a relation of its own, the
//! domain, every operator in it carries them along, and the join finds each row's part by them. Where the subquery says
//! `inner = outer`, the inner column already is the domain and nothing is added.

use std::cell::Cell;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::{ColumnId, SqlType, Value};

use super::push_filters::substitute;
use super::{Context, Rewrite};
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, SortKey, UnionInput};
use cobble_plan::window::{Frame, Ranking, WindowCall, WindowFunction};

pub const REWRITE: Rewrite = Rewrite {
    name: "unnest-subqueries",
    about: "turns subqueries that use columns of the query around them into joins",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: true,
};

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    unnest(plan, context)
}

/// From the inside out: when a join is looked at, the subqueries within its sides are joins already.
fn unnest(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    match plan.map_inputs(&mut |input| unnest(input, context)) {
        LogicalPlan::Join(join) => {
            let left_ids = join.left.column_ids();
            let outer: BTreeSet<ColumnId> = join.right.free_columns().intersection(&left_ids).copied().collect();
            if outer.is_empty() { LogicalPlan::Join(join) } else { independent(join, &outer, context) }
        }
        other => other,
    }
}

/// The join with a right side that does not use the left one's columns any more.
fn independent(join: Join, outer: &BTreeSet<ColumnId>, context: &Context) -> LogicalPlan {
    let mut lifted = Vec::new();
    let plain = lift(&join.right, outer, &mut lifted);
    if plain.free_columns().is_disjoint(outer) {
        let plan = with_conditions(Join { right: plain.into(), ..join }, lifted);
        context.note("conditions on outer columns moved into the join".to_owned());
        return LogicalPlan::Join(plan);
    }
    let domain = Domain {
        columns: join.left.columns().into_iter().filter(|c| outer.contains(&c.id)).collect(),
        left: &join.left,
        context,
        may_be_null: Cell::new(false),
    };
    if let Some(plan) = one_row_always(&join, &domain) {
        context.note("computed once for each value of the outer columns".to_owned());
        return plan;
    }
    let Some((right, carried)) = domain.attach(&join.right) else { return LogicalPlan::Join(join) };
    context.note("computed once for each value of the outer columns".to_owned());
    let keys = domain.keys(carried);
    let on = join.on.iter().cloned().chain(keys).collect();
    LogicalPlan::Join(Join { right: right.into(), on, ..join })
}

/// Adds conditions to a join: equalities between the sides as keys.
fn with_conditions(join: Join, conditions: Vec<Expr>) -> Join {
    let (left, right) = (join.left.column_ids(), join.right.column_ids());
    let (mut on, mut residual) = (join.on.clone(), join.residual.clone());
    for condition in conditions {
        match JoinKey::of(&condition, &left, &right) {
            Some(key) => on.push(key),
            None => residual.push(condition),
        }
    }
    Join { on, residual, ..join }
}

/// The plan without the conditions on outer columns that can be checked just as well above it.
fn lift(plan: &LogicalPlan, outer: &BTreeSet<ColumnId>, lifted: &mut Vec<Expr>) -> LogicalPlan {
    let uses_outer = |e: &Expr| !e.columns().is_disjoint(outer);
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let mut all = Vec::new();
            conjuncts.iter().for_each(|c| c.clone().into_conjuncts(&mut all));
            let (up, stay): (Vec<_>, Vec<_>) = all.into_iter().partition(|c| uses_outer(c) && !c.is_volatile());
            let below = lift(input, outer, lifted);
            lifted.extend(up);
            below.filtered(stay)
        }
        LogicalPlan::Project { input, columns } => {
            let before = lifted.len();
            let below = lift(input, outer, lifted);
            let mut columns = columns.clone();
            // What the lifted conditions need from below must come out here.
            let available = below.columns();
            let mut wanted = BTreeSet::new();
            lifted[before..].iter().for_each(|c| c.collect_columns(&mut wanted));
            for column in available {
                if wanted.contains(&column.id) && !columns.iter().any(|(c, _)| c.id == column.id) {
                    columns.push((column.clone(), Expr::Column(column)));
                }
            }
            LogicalPlan::Project { input: below.into(), columns }
        }
        LogicalPlan::Join(join) => {
            let both = join.kind == JoinKind::Inner;
            let left_first = both || join.kind.left_only() || matches!(join.kind, JoinKind::Left | JoinKind::Single);
            let left = if left_first { lift(&join.left, outer, lifted) } else { join.left.as_ref().clone() };
            let right = if both { lift(&join.right, outer, lifted) } else { join.right.as_ref().clone() };
            let mut joined = Join { left: left.into(), right: right.into(), ..join.clone() };
            if both {
                let (up, stay): (Vec<_>, Vec<_>) = joined.residual.drain(..).partition(|c| uses_outer(c));
                joined.residual = stay;
                lifted.extend(up);
                let (up, stay): (Vec<_>, Vec<_>) =
                    joined.on.drain(..).partition(|k| uses_outer(&k.left) || uses_outer(&k.right));
                joined.on = stay;
                lifted.extend(up.iter().map(JoinKey::as_condition));
            }
            LogicalPlan::Join(joined)
        }
        LogicalPlan::Sort { input, keys, fetch: None } => {
            LogicalPlan::Sort { input: lift(input, outer, lifted).into(), keys: keys.clone(), fetch: None }
        }
        LogicalPlan::Expand { input, makers, outer: keep } => {
            LogicalPlan::Expand { input: lift(input, outer, lifted).into(), makers: makers.clone(), outer: *keep }
        }
        other => other.clone(),
    }
}

/// A subquery that gives exactly one row whatever it finds: an aggregate without keys, under projections. It is grouped by
/// the outer columns and joined from the left; a left row that finds no group gets what the subquery says of no rows.
fn one_row_always(join: &Join, domain: &Domain) -> Option<LogicalPlan> {
    if !matches!(join.kind, JoinKind::Single | JoinKind::Left | JoinKind::Inner)
        || !join.on.is_empty()
        || !join.residual.is_empty()
    {
        return None;
    }
    let of_nothing = rows_of_nothing(&join.right, domain.context)?;
    let (right, carried) = domain.attach_grouped(&join.right)?;
    let context = domain.context;
    let defaults: Vec<(Column, Expr)> = of_nothing
        .into_iter()
        .filter(|(_, value)| !matches!(value, Expr::Literal { value: Value::Null, .. }))
        .collect();
    let marker = context.column("found", SqlType::Boolean);
    let mut columns: Vec<(Column, Expr)> = right.columns().into_iter().map(|c| (c.clone(), Expr::Column(c))).collect();
    // Only where a default is not null it matters whether a group was found.
    let replaced: Vec<(Column, Column)> =
        defaults.iter().map(|(c, _)| (c.clone(), context.column(&c.name, c.sql_type.clone()))).collect();
    if !defaults.is_empty() {
        for (column, _) in &mut columns {
            if let Some((_, inner)) = replaced.iter().find(|(own, _)| own == column) {
                *column = inner.clone();
            }
        }
        columns.push((marker.clone(), Expr::boolean(true)));
    }
    let right = LogicalPlan::Project { input: right.into(), columns };
    let left_columns = join.left.columns();
    let joined = LogicalPlan::Join(Join {
        left: join.left.clone(),
        right: right.into(),
        kind: JoinKind::Left,
        on: domain.keys(carried),
        residual: vec![],
        mark: None,
    });
    let out = join.right.columns();
    let is_missing = Expr::IsNull { operand: Box::new(Expr::Column(marker)), negated: false };
    let columns = left_columns
        .into_iter()
        .map(|c| (c.clone(), Expr::Column(c)))
        .chain(out.into_iter().map(|c| {
            let default = defaults.iter().find(|(own, _)| *own == c);
            let expr = match (default, replaced.iter().find(|(own, _)| *own == c)) {
                (Some((_, default)), Some((_, inner))) => Expr::Case {
                    branches: vec![(is_missing.clone(), default.clone())],
                    otherwise: Box::new(Expr::Column(inner.clone())),
                    sql_type: c.sql_type.clone(),
                },
                _ => Expr::Column(c.clone()),
            };
            (c, expr)
        }))
        .collect();
    Some(LogicalPlan::Project { input: joined.into(), columns })
}

/// The values that projections over an aggregate without keys give when there are no rows; `None` for any other plan, and
/// where they depend on more than constants.
fn rows_of_nothing(plan: &LogicalPlan, context: &Context) -> Option<Vec<(Column, Expr)>> {
    match plan {
        LogicalPlan::Aggregate { groups, aggregates, .. } if groups.is_empty() => Some(
            aggregates
                .iter()
                .map(|(column, call)| {
                    let value = if call.function.entry().counts { Value::BigInt(0) } else { Value::Null };
                    (column.clone(), Expr::Literal { value, sql_type: column.sql_type.clone() })
                })
                .collect(),
        ),
        LogicalPlan::Project { input, columns } => {
            let below = rows_of_nothing(input, context)?;
            let values: HashMap<ColumnId, &Expr> = below.iter().map(|(c, e)| (c.id, e)).collect();
            columns
                .iter()
                .map(|(column, expr)| {
                    let constant = substitute(expr, &values);
                    let folded = super::fold_constants::fold_expr(&constant, context);
                    matches!(folded, Expr::Literal { .. }).then(|| (column.clone(), folded))
                })
                .collect()
        }
        _ => None,
    }
}

/// The different values that the outer columns have.
struct Domain<'a> {
    columns: Vec<Column>,
    left: &'a Arc<LogicalPlan>,
    context: &'a Context<'a>,
    /// True once the values are a relation of their own somewhere in the subquery.
    may_be_null: Cell<bool>,
}

type Attached = (LogicalPlan, Vec<Column>);

/// A plan with all the different values that these columns have in this one, but without what only repeats them: the other sides of
/// products, whose conditions may still stand above, and the optional sides of outer joins.
fn without_products(plan: &Arc<LogicalPlan>, wanted: &BTreeSet<ColumnId>) -> Arc<LogicalPlan> {
    let LogicalPlan::Join(join) = plan.as_ref() else { return plan.clone() };
    if !matches!(join.kind, JoinKind::Inner | JoinKind::Left)
        || join.mark.is_some()
        || !join.right.free_columns().is_empty()
    {
        return plan.clone();
    }
    let (left_ids, right_ids) = (join.left.column_ids(), join.right.column_ids());
    let is_product = join.kind == JoinKind::Inner && join.on.is_empty() && join.residual.is_empty();
    if wanted.is_subset(&left_ids) && (is_product || join.kind == JoinKind::Left) {
        return without_products(&join.left, wanted);
    }
    if wanted.is_subset(&right_ids) && is_product {
        return without_products(&join.right, wanted);
    }
    let mut needed = wanted.clone();
    join.on.iter().for_each(|key| needed.extend(key.as_condition().columns()));
    join.residual.iter().for_each(|condition| needed.extend(condition.columns()));
    let side = |side: &Arc<LogicalPlan>, ids: &BTreeSet<ColumnId>| {
        without_products(side, &needed.intersection(ids).copied().collect())
    };
    let (left, right) = (side(&join.left, &left_ids), side(&join.right, &right_ids));
    Arc::new(LogicalPlan::Join(Join { left, right, ..join.clone() }))
}

impl Domain<'_> {
    fn ids(&self) -> BTreeSet<ColumnId> {
        self.columns.iter().map(|c| c.id).collect()
    }

    fn fresh(&self) -> Vec<Column> {
        let each = || Some("each".to_owned());
        self.columns.iter().map(|c| Column { id: self.context.next_id(), qualifier: each(), ..c.clone() }).collect()
    }

    /// Each outer column beside the column that carries its values in the subquery. Values of the relation may be null and
    /// must find themselves again; inner columns that stand for them are not null.
    fn keys(&self, carried: Vec<Column>) -> Vec<JoinKey> {
        let null_safe = self.may_be_null.get();
        let key = |own: &Column, carried| JoinKey {
            left: Expr::Column(own.clone()),
            right: Expr::Column(carried),
            null_safe,
        };
        self.columns.iter().zip(carried).map(|(own, carried)| key(own, carried)).collect()
    }

    /// The values as a relation, with columns of their own.
    fn relation(&self) -> Attached {
        self.may_be_null.set(true);
        let fresh = self.fresh();
        let groups = fresh.iter().cloned().zip(self.columns.iter().map(|c| Expr::Column(c.clone()))).collect();
        let input = without_products(self.left, &self.ids());
        (LogicalPlan::Aggregate { input, groups, aggregates: vec![] }, fresh)
    }

    fn substituted(&self, expr: &Expr, carried: &[Column]) -> Expr {
        let own: Vec<Expr> = carried.iter().cloned().map(Expr::Column).collect();
        let values: HashMap<ColumnId, &Expr> = self.columns.iter().map(|c| c.id).zip(&own).collect();
        substitute(expr, &values)
    }

    /// The plan for all values of the domain at once, with the columns that carry them.
    fn attach(&self, plan: &LogicalPlan) -> Option<Attached> {
        let ids = self.ids();
        if plan.free_columns().is_disjoint(&ids) {
            let (domain, carried) = self.relation();
            return Some((LogicalPlan::Join(Join::new(plan.clone(), domain, JoinKind::Inner)), carried));
        }
        match plan {
            LogicalPlan::Filter { input, conjuncts } => {
                if input.free_columns().is_disjoint(&ids)
                    && let Some(attached) = self.by_equality(input, conjuncts)
                {
                    return Some(attached);
                }
                let (below, carried) = self.attach(input)?;
                let conjuncts = conjuncts.iter().map(|c| self.substituted(c, &carried)).collect();
                Some((below.filtered(conjuncts), carried))
            }
            LogicalPlan::Project { input, columns } => {
                let (below, carried) = self.attach(input)?;
                let columns = columns
                    .iter()
                    .map(|(c, e)| (c.clone(), self.substituted(e, &carried)))
                    .chain(carried.iter().map(|c| (c.clone(), Expr::Column(c.clone()))))
                    .collect();
                Some((LogicalPlan::Project { input: below.into(), columns }, carried))
            }
            LogicalPlan::Aggregate { groups, .. } if groups.is_empty() => {
                // One row for each value, also for those without rows: they are joined back to the whole domain.
                let of_nothing = rows_of_nothing(plan, self.context)?;
                let (grouped, found) = self.attach_grouped(plan)?;
                let (domain, carried) = self.relation();
                let on = carried.iter().zip(&found);
                let on =
                    on.map(|(c, f)| JoinKey::null_safe(Expr::Column(c.clone()), Expr::Column(f.clone()))).collect();
                let mut inner: Vec<(Column, Expr)> =
                    found.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
                let mut outer: Vec<(Column, Expr)> =
                    carried.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
                for (column, default) in of_nothing {
                    let renamed = self.context.column(&column.name, column.sql_type.clone());
                    inner.push((renamed.clone(), Expr::Column(column.clone())));
                    let is_null = matches!(default, Expr::Literal { value: Value::Null, .. });
                    let value = Expr::Column(renamed);
                    let expr = if is_null {
                        value
                    } else {
                        Expr::Case {
                            branches: vec![(
                                Expr::IsNull { operand: Box::new(value.clone()), negated: false },
                                default,
                            )],
                            otherwise: Box::new(value),
                            sql_type: column.sql_type.clone(),
                        }
                    };
                    outer.push((column, expr));
                }
                let joined = LogicalPlan::Join(Join {
                    left: domain.into(),
                    right: LogicalPlan::Project { input: grouped.into(), columns: inner }.into(),
                    kind: JoinKind::Left,
                    on,
                    residual: vec![],
                    mark: None,
                });
                Some((LogicalPlan::Project { input: joined.into(), columns: outer }, carried))
            }
            LogicalPlan::Aggregate { .. } => self.attach_grouped(plan),
            LogicalPlan::Join(join) => self.attach_join(join),
            LogicalPlan::Sort { input, keys, fetch: None } => {
                let (below, carried) = self.attach(input)?;
                let keys = self.sort_keys(keys, &carried);
                Some((LogicalPlan::Sort { input: below.into(), keys, fetch: None }, carried))
            }
            LogicalPlan::Sort { input, keys, fetch: Some(n) } => self.first_of_each(input, keys, Some(*n), 0),
            LogicalPlan::Limit { input, limit, offset } => match input.as_ref() {
                LogicalPlan::Sort { input, keys, fetch: None } => self.first_of_each(input, keys, *limit, *offset),
                LogicalPlan::Project { input, columns } => self.attach(&LogicalPlan::Project {
                    input: LogicalPlan::Limit { input: input.clone(), limit: *limit, offset: *offset }.into(),
                    columns: columns.clone(),
                }),
                _ => self.first_of_each(input, &[], *limit, *offset),
            },
            LogicalPlan::Union { inputs, columns } => {
                let carried = self.fresh();
                let inputs = inputs
                    .iter()
                    .map(|input| {
                        let (below, theirs) = self.attach(&input.plan)?;
                        let columns = input.columns.iter().cloned().chain(theirs).collect();
                        Some(UnionInput { plan: below.into(), columns })
                    })
                    .collect::<Option<_>>()?;
                let columns = columns.iter().chain(&carried).cloned().collect();
                Some((LogicalPlan::Union { inputs, columns }, carried))
            }
            LogicalPlan::Window { input, partition, order, calls } => {
                let (below, carried) = self.attach(input)?;
                let partition = partition
                    .iter()
                    .map(|e| self.substituted(e, &carried))
                    .chain(carried.iter().cloned().map(Expr::Column))
                    .collect();
                let calls = calls
                    .iter()
                    .map(|(c, call)| (c.clone(), call.map(&mut |e| self.substituted(e, &carried))))
                    .collect();
                let order = self.sort_keys(order, &carried);
                Some((LogicalPlan::Window { input: below.into(), partition, order, calls }, carried))
            }
            LogicalPlan::Expand { input, makers, outer } => {
                let (below, carried) = self.attach(input)?;
                let makers = makers.iter().map(|m| m.map(&mut |e| self.substituted(e, &carried))).collect();
                Some((LogicalPlan::Expand { input: below.into(), makers, outer: *outer }, carried))
            }
            LogicalPlan::With { definitions, body } => {
                if definitions.iter().any(|d| !d.plan.free_columns().is_disjoint(&ids)) {
                    return None;
                }
                let (body, carried) = self.attach(body)?;
                Some((LogicalPlan::With { definitions: definitions.clone(), body: body.into() }, carried))
            }
            LogicalPlan::Values { columns, rows } => {
                let mut inputs = Vec::new();
                let mut last = Vec::new();
                for row in rows {
                    let (domain, carried) = self.relation();
                    let made = columns.iter().map(|c| Column { id: self.context.next_id(), ..c.clone() });
                    let exprs = row.iter().map(|e| self.substituted(e, &carried));
                    let columns: Vec<(Column, Expr)> = made
                        .zip(exprs)
                        .chain(
                            carried
                                .iter()
                                .map(|c| (Column { id: self.context.next_id(), ..c.clone() }, Expr::Column(c.clone()))),
                        )
                        .collect();
                    last = carried;
                    inputs.push(UnionInput::whole(LogicalPlan::Project { input: domain.into(), columns }));
                }
                let carried: Vec<Column> =
                    last.iter().map(|c| Column { id: self.context.next_id(), ..c.clone() }).collect();
                let columns = columns.iter().chain(&carried).cloned().collect();
                Some((LogicalPlan::Union { inputs, columns }, carried))
            }
            LogicalPlan::Scan(_) | LogicalPlan::CteScan { .. } | LogicalPlan::Recursive { .. } => None,
        }
    }

    fn sort_keys(&self, keys: &[SortKey], carried: &[Column]) -> Vec<SortKey> {
        keys.iter().map(|key| SortKey { expr: self.substituted(&key.expr, carried), ..key.clone() }).collect()
    }

    /// Where a condition says `outer = inner`, the inner value is the domain: no other value could pass it. The equality
    /// itself is left to the join, which compares each row with the carried value.
    fn by_equality(&self, input: &LogicalPlan, conjuncts: &[Expr]) -> Option<Attached> {
        let ids = self.ids();
        let mut all = Vec::new();
        conjuncts.iter().for_each(|c| c.clone().into_conjuncts(&mut all));
        let carried = self.fresh();
        let mut made: Vec<(Column, Expr)> = Vec::new();
        let mut not_null = Vec::new();
        for (own, carried) in self.columns.iter().zip(&carried) {
            let inner = all.iter().find_map(|c| match c {
                Expr::Binary { op: BinaryOp::Eq, left, right, .. } => {
                    let is_own = |e: &Expr| matches!(e, Expr::Column(c) if c == own);
                    let free = |e: &Expr| {
                        e.columns().is_disjoint(&ids) && !e.columns().is_empty() && e.sql_type() == own.sql_type
                    };
                    match (left.as_ref(), right.as_ref()) {
                        (l, r) if is_own(l) && free(r) => Some(r.clone()),
                        (l, r) if is_own(r) && free(l) => Some(l.clone()),
                        _ => None,
                    }
                }
                _ => None,
            })?;
            made.push((carried.clone(), inner));
            not_null.push(Expr::IsNull { operand: Box::new(Expr::Column(carried.clone())), negated: true });
        }
        let decided = |c: &Expr| {
            made.iter().zip(&self.columns).any(|((_, inner), own)| {
                matches!(c, Expr::Binary { op: BinaryOp::Eq, left, right, .. }
                    if (matches!(left.as_ref(), Expr::Column(l) if l == own) && right.as_ref() == inner)
                        || (matches!(right.as_ref(), Expr::Column(r) if r == own) && left.as_ref() == inner))
            })
        };
        let rest: Vec<Expr> = all.iter().filter(|c| !decided(c)).map(|c| self.substituted(c, &carried)).collect();
        let columns = input.columns().into_iter().map(|c| (c.clone(), Expr::Column(c))).chain(made).collect();
        let plan = LogicalPlan::Project { input: input.clone().into(), columns };
        not_null.extend(rest);
        Some((plan.filtered(not_null), carried))
    }

    /// An aggregate grouped by the carried columns as well; values without rows have no group.
    fn attach_grouped(&self, plan: &LogicalPlan) -> Option<Attached> {
        match plan {
            LogicalPlan::Aggregate { input, groups, aggregates } => {
                let (below, below_carried) = self.attach(input)?;
                let carried = self.fresh();
                let groups = groups
                    .iter()
                    .map(|(c, e)| (c.clone(), self.substituted(e, &below_carried)))
                    .chain(carried.iter().cloned().zip(below_carried.iter().cloned().map(Expr::Column)))
                    .collect();
                let aggregates = aggregates
                    .iter()
                    .map(|(c, call)| (c.clone(), call.map(&mut |e| self.substituted(e, &below_carried))))
                    .collect();
                Some((LogicalPlan::Aggregate { input: below.into(), groups, aggregates }, carried))
            }
            LogicalPlan::Project { input, columns } => {
                let (below, carried) = self.attach_grouped(input)?;
                let columns = columns
                    .iter()
                    .map(|(c, e)| (c.clone(), self.substituted(e, &carried)))
                    .chain(carried.iter().map(|c| (c.clone(), Expr::Column(c.clone()))))
                    .collect();
                Some((LogicalPlan::Project { input: below.into(), columns }, carried))
            }
            _ => None,
        }
    }

    fn attach_join(&self, join: &Join) -> Option<Attached> {
        let ids = self.ids();
        let in_left = !join.left.free_columns().is_disjoint(&ids);
        let in_right = !join.right.free_columns().is_disjoint(&ids);
        let own = join.expressions().any(|e| !e.columns().is_disjoint(&ids));
        let rebuilt = |left: LogicalPlan, right: LogicalPlan, carried: &[Column], more: Vec<JoinKey>| {
            let mut changed = join.map_expressions(&mut |e| self.substituted(e, carried));
            changed.on.extend(more);
            LogicalPlan::Join(Join { left: left.into(), right: right.into(), ..changed })
        };
        let left_suffices = matches!(
            join.kind,
            JoinKind::Inner
                | JoinKind::Left
                | JoinKind::Semi
                | JoinKind::Anti
                | JoinKind::NullAwareAnti
                | JoinKind::Single
                | JoinKind::Mark
        );
        if !in_right && left_suffices && (in_left || own) {
            let (left, carried) = self.attach(&join.left)?;
            return Some((rebuilt(left, join.right.as_ref().clone(), &carried, vec![]), carried));
        }
        if !in_left && !own && matches!(join.kind, JoinKind::Inner | JoinKind::Right) {
            let (right, carried) = self.attach(&join.right)?;
            return Some((rebuilt(join.left.as_ref().clone(), right, &carried, vec![]), carried));
        }
        if matches!(join.kind, JoinKind::NullAwareAnti | JoinKind::Full) {
            return None;
        }
        // Both sides carry the values, and rows meet only under the same ones.
        let (left, left_carried) = self.attach(&join.left)?;
        let (right, right_carried) = self.attach(&join.right)?;
        let same = left_carried
            .iter()
            .zip(&right_carried)
            .map(|(l, r)| JoinKey::null_safe(Expr::Column(l.clone()), Expr::Column(r.clone())))
            .collect();
        let carried = if join.kind == JoinKind::Right { right_carried } else { left_carried };
        Some((rebuilt(left, right, &carried, same), carried))
    }

    /// The first rows under each value of the domain: LIMIT inside a subquery counts anew for every outer row.
    fn first_of_each(
        &self,
        input: &LogicalPlan,
        keys: &[SortKey],
        limit: Option<u64>,
        offset: u64,
    ) -> Option<Attached> {
        let (below, carried) = self.attach(input)?;
        let number = self.context.column("row_number", SqlType::BigInt);
        let call = WindowCall {
            function: WindowFunction::Ranking { function: Ranking::RowNumber, arguments: vec![], ignore_nulls: false },
            frame: Frame::default(),
            sql_type: SqlType::BigInt,
        };
        let numbered = LogicalPlan::Window {
            input: below.into(),
            partition: carried.iter().cloned().map(Expr::Column).collect(),
            order: self.sort_keys(keys, &carried),
            calls: vec![(number.clone(), call)],
        };
        let bound = |n: u64| Expr::literal(Value::BigInt(i64::try_from(n).unwrap_or(i64::MAX)));
        let mut conditions = Vec::new();
        if offset > 0 {
            conditions.push(Expr::compare(BinaryOp::Gt, Expr::Column(number.clone()), bound(offset)));
        }
        if let Some(n) = limit {
            conditions.push(Expr::compare(BinaryOp::LtEq, Expr::Column(number), bound(n.saturating_add(offset))));
        }
        Some((numbered.filtered(conditions), carried))
    }
}
