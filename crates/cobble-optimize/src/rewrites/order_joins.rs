//! `order-joins`: a region of inner joins is taken apart into relations and conditions and put together again in the
//! cheapest order. Up to ten relations by dynamic programming over connected subsets (after Moerkotte and Neumann,
//! "Analysis of Two Existing and One New Dynamic Programming Algorithm", 2006); above that greedily, smallest result first.
//!
//! The cost of an order is the number of rows that its joins touch: each join's inputs and its result.
//!
//! Relations that no condition links are paired row by row only where there is no other way, or where it is certain that few
//! pairs come of it: an estimate of one row is often a guess, and pairing millions of rows on a guess never ends.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use cobble_types::ColumnId;

use super::region::{Region, inner_join, is_link};
use super::{Context, Rewrite};
use crate::estimate::{Estimate, join_estimate, join_rows};
use cobble_plan::document::{Alternative, JoinOrder};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "order-joins",
    about: "puts inner joins in the order that the statistics say is cheapest",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: false,
};

const EXHAUSTIVE_RELATIONS: usize = 10;

/// Pairs of unlinked relations that an order may make by choice. Counts, not estimates, have to keep below it.
const FEW_PAIRS: f64 = 10_000.0;

/// Orders that are kept for display beside the one taken.
const KEPT_ORDERS: usize = 8;

fn apply(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    order(plan, context)
}

fn order(plan: &LogicalPlan, context: &Context) -> LogicalPlan {
    context.estimator.borrow().enter(plan);
    if let LogicalPlan::Join(join) = plan
        && join.kind == JoinKind::Inner
    {
        let region = Region::of(&Arc::new(plan.clone()));
        if region.relations.len() > 2 && region.relations.len() <= 63 {
            let relations = region.relations.iter().map(|relation| order(relation, context)).collect();
            return Order { relations, conditions: region.conditions }.put_together(plan, context);
        }
    }
    plan.map_inputs(&mut |input| order(input, context))
}

/// What a relation is called in the text of an order.
fn name_of(relation: &LogicalPlan) -> String {
    match relation {
        LogicalPlan::Scan(scan) => match scan.columns.first().and_then(|(column, _)| column.qualifier.clone()) {
            Some(alias) => alias,
            None => scan.table.name.table.clone(),
        },
        LogicalPlan::CteScan { name, .. } => name.clone(),
        LogicalPlan::Expand { makers, .. } => {
            makers.first().map_or_else(|| "rows".to_owned(), |maker| maker.function.name().to_owned())
        }
        LogicalPlan::Values { .. } => "values".to_owned(),
        // What is looked up changes no name.
        LogicalPlan::Join(join) if join.kind.left_only() || join.kind == JoinKind::Single => name_of(&join.left),
        other => match other.inputs().as_slice() {
            [input] => name_of(input),
            _ => "(…)".to_owned(),
        },
    }
}

fn enclosed(part: &Part) -> String {
    if part.members.count_ones() > 1 { format!("({})", part.way) } else { part.way.clone() }
}

/// The region whose order is looked for; its relations are in order inside.
struct Order {
    relations: Vec<LogicalPlan>,
    conditions: Vec<Expr>,
}

/// A joined subset of the relations.
#[derive(Clone)]
struct Part {
    members: u64,
    plan: Arc<LogicalPlan>,
    /// The order so far, as `a ⋈ b`.
    way: String,
    ids: BTreeSet<ColumnId>,
    estimate: Estimate,
    cost: f64,
}

impl Order {
    fn put_together(self, written: &LogicalPlan, context: &Context) -> LogicalPlan {
        let parts: Vec<Part> = self
            .relations
            .iter()
            .enumerate()
            .map(|(i, relation)| {
                let ids = relation.column_ids();
                // A condition about one relation alone belongs to no join either: it stays with the relation.
                let is_own = |condition: &&Expr| {
                    let columns = condition.columns();
                    !columns.is_empty() && columns.is_subset(&ids)
                };
                let own = self.conditions.iter().filter(is_own).cloned().collect();
                let way = name_of(relation);
                let relation = relation.clone().filtered(own);
                let estimate = context.estimate(&relation);
                Part { members: 1 << i, way, ids, estimate, plan: Arc::new(relation), cost: 0.0 }
            })
            .collect();
        let (best, mut others) = if parts.len() <= EXHAUSTIVE_RELATIONS {
            self.exhaustive(&parts)
        } else {
            (self.greedy(parts.clone()), Vec::new())
        };
        let (as_written, bold) = self.rebuild_written(written, &mut parts.iter(), &self.linked_sets(&parts));
        context.note(format!(
            "cost {:.0} rows touched, as written {:.0}; {} relations",
            best.cost,
            as_written.cost,
            self.relations.len()
        ));
        // Without a gain the author's order stands: a plan should not change for nothing. The order of the names in FROM is
        // no choice of pairs, though.
        let written = Alternative { way: as_written.way.clone(), cost: as_written.cost };
        let chosen = if bold || best.cost < as_written.cost * 0.99 { best } else { as_written };
        others.retain(|other| other.way != chosen.way);
        others.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        others.truncate(KEPT_ORDERS);
        let way = chosen.way.clone();
        let order = JoinOrder { chosen: way, cost: chosen.cost, alternatives: others, written };
        context.orders.borrow_mut().push(order);
        // A condition about no relation belongs to no join.
        let constant = self.conditions.iter().filter(|c| c.columns().is_empty()).cloned().collect();
        chosen.plan.as_ref().clone().filtered(constant)
    }

    /// Two parts as one, with every condition that becomes decidable.
    fn combine(&self, left: &Part, right: &Part) -> Part {
        let ids: BTreeSet<ColumnId> = left.ids.union(&right.ids).copied().collect();
        let join = inner_join((&left.plan, &left.ids), (&right.plan, &right.ids), &self.conditions);
        let estimate = join_estimate(&join, &left.estimate, &right.estimate);
        let touched = if join.on.is_empty() {
            left.estimate.rows * right.estimate.rows
        } else {
            left.estimate.rows + right.estimate.rows + estimate.rows
        };
        Part {
            members: left.members | right.members,
            cost: left.cost + right.cost + touched,
            way: format!("{} ⋈ {}", enclosed(left), enclosed(right)),
            plan: Arc::new(LogicalPlan::Join(join)),
            ids,
            estimate,
        }
    }

    fn connected(&self, left: &Part, right: &Part) -> bool {
        self.conditions.iter().any(|condition| is_link(condition, &left.ids, &right.ids))
    }

    /// The sets of relations that conditions link, each as large as it can be.
    fn linked_sets(&self, parts: &[Part]) -> Vec<u64> {
        let mut sets: Vec<u64> = Vec::new();
        for part in parts {
            let mut grown = part.members;
            let near = |set: u64| {
                let others = parts.iter().filter(|p| p.members & set != 0);
                others.into_iter().any(|other| self.connected(part, other))
            };
            let (touching, apart): (Vec<u64>, Vec<u64>) = sets.into_iter().partition(|set| near(*set));
            touching.into_iter().for_each(|set| grown |= set);
            sets = apart;
            sets.push(grown);
        }
        sets
    }

    /// Whether two parts that no condition links may be paired: there is no other way once everything that is linked to either
    /// has been joined, and few certain pairs do no harm.
    fn pairs_allowed(left: &Part, right: &Part, linked: &[u64]) -> bool {
        let whole = |part: &Part| linked.iter().all(|set| part.members & set == 0 || part.members & set == *set);
        let pairs = left.estimate.most.zip(right.estimate.most).map(|(l, r)| l * r);
        let single = |part: &Part| part.estimate.most.is_some_and(|most| most <= 1.0);
        whole(left) && whole(right) || single(left) || single(right) || pairs.is_some_and(|pairs| pairs <= FEW_PAIRS)
    }

    /// The best order, and of each way to make the last join the best one.
    fn exhaustive(&self, parts: &[Part]) -> (Part, Vec<Alternative>) {
        let full = (1usize << parts.len()) - 1;
        let linked = self.linked_sets(parts);
        let mut best: Vec<Option<Part>> = vec![None; full + 1];
        let mut last = Vec::new();
        for (i, part) in parts.iter().enumerate() {
            best[1 << i] = Some(part.clone());
        }
        for set in 1..=full {
            if set.count_ones() < 2 {
                continue;
            }
            let mut cheapest: Option<Part> = None;
            // Connected splits first; a product of unconnected parts only where nothing else covers the set.
            for products in [false, true] {
                let mut subset = (set - 1) & set;
                while subset > 0 {
                    let rest = set & !subset;
                    if let (Some(a), Some(b)) = (&best[subset], &best[rest])
                        && subset > rest
                        && (self.connected(a, b) || products && Self::pairs_allowed(a, b, &linked))
                    {
                        // The larger side stands left: it is the one that streams.
                        let (a, b) = if a.estimate.rows >= b.estimate.rows { (a, b) } else { (b, a) };
                        let candidate = self.combine(a, b);
                        if set == full {
                            last.push(Alternative { way: candidate.way.clone(), cost: candidate.cost });
                        }
                        if cheapest.as_ref().is_none_or(|c| candidate.cost < c.cost) {
                            cheapest = Some(candidate);
                        }
                    }
                    subset = (subset - 1) & set;
                }
                if cheapest.is_some() {
                    break;
                }
            }
            best[set] = cheapest;
        }
        (best[full].take().expect("every linked set has a plan, and whole ones may be paired"), last)
    }

    /// Of two parts, whether a condition links them, and the rows that they would be together.
    fn pair(&self, a: &Part, b: &Part) -> (bool, f64) {
        let (left, right) = if a.estimate.rows >= b.estimate.rows { (a, b) } else { (b, a) };
        let join = inner_join((&left.plan, &left.ids), (&right.plan, &right.ids), &self.conditions);
        (self.connected(a, b), join_rows(&join, &left.estimate, &right.estimate))
    }

    /// Joins the two parts that make the fewest rows, linked ones first, until one part is left. What two parts would make is estimated
    /// once for each pair.
    fn greedy(&self, parts: Vec<Part>) -> Part {
        let mut parts: Vec<Option<Part>> = parts.into_iter().map(Some).collect();
        let mut pairs: BTreeMap<(usize, usize), (bool, f64)> = BTreeMap::new();
        let mut fresh: Vec<usize> = (0..parts.len()).collect();
        loop {
            for (i, a) in parts.iter().enumerate() {
                for (j, b) in parts.iter().enumerate().skip(i + 1) {
                    if let (Some(a), Some(b)) = (a, b)
                        && (fresh.contains(&i) || fresh.contains(&j))
                    {
                        pairs.insert((i, j), self.pair(a, b));
                    }
                }
            }
            let better = |a: &(bool, f64), b: &(bool, f64)| b.0.cmp(&a.0).then(a.1.total_cmp(&b.1));
            let Some((&(i, j), _)) = pairs.iter().min_by(|(_, a), (_, b)| better(a, b)) else { break };
            pairs.retain(|(a, b), _| ![*a, *b].contains(&i) && ![*a, *b].contains(&j));
            if let (Some(a), Some(b)) = (parts[i].take(), parts[j].take()) {
                let (left, right) = if a.estimate.rows >= b.estimate.rows { (&a, &b) } else { (&b, &a) };
                parts[i] = Some(self.combine(left, right));
            }
            fresh = vec![i];
        }
        parts.into_iter().flatten().next().expect("there are at least two parts")
    }

    /// The author's order over relations that have been rewritten inside, and whether it makes pairs that no order may make by
    /// choice.
    fn rebuild_written<'a>(
        &self,
        plan: &LogicalPlan,
        parts: &mut impl Iterator<Item = &'a Part>,
        linked: &[u64],
    ) -> (Part, bool) {
        match plan {
            LogicalPlan::Join(join) if join.kind == JoinKind::Inner => {
                let (left, bold_left) = self.rebuild_written(&join.left, parts, linked);
                let (right, bold_right) = self.rebuild_written(&join.right, parts, linked);
                let bold = !self.connected(&left, &right) && !Self::pairs_allowed(&left, &right, linked);
                (self.combine(&left, &right), bold || bold_left || bold_right)
            }
            _ => {
                (parts.next().expect("the walk meets the relations in the order they were taken apart").clone(), false)
            }
        }
    }
}
