//! `order-joins`: a region of inner joins is taken apart into relations and conditions and put together again in the
//! cheapest order. Up to twelve relations by dynamic programming over connected subsets (after Moerkotte and Neumann,
//! "Analysis of Two Existing and One New Dynamic Programming Algorithm", 2006); above that greedily, smallest result first. Subsets are
//! sets of bits; what one has is estimated once, and only the order taken becomes a plan.
//!
//! The cost of an order is the number of rows that its joins touch: each join's inputs and its result.
//!
//! Relations that no condition links are paired row by row only where there is no other way, or where it is certain that few
//! pairs come of it: an estimate of one row is often a guess, and pairing millions of rows on a guess never ends.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::ColumnId;

use super::region::{Region, inner_join};
use super::{Context, Rewrite};
use crate::estimate::{Estimate, join_estimate};
use cobble_plan::document::{Alternative, JoinOrder};
use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan};

pub const REWRITE: Rewrite = Rewrite {
    name: "order-joins",
    about: "puts inner joins in the order that the statistics say is cheapest",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply,
    needed: false,
};

const EXHAUSTIVE_RELATIONS: usize = 12;

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
            let relations: Vec<_> = region.relations.iter().map(|relation| order(relation, context)).collect();
            return Order::of(relations, &region.conditions, context).put_together(plan, context);
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

/// Relations, a bit for each.
type Set = u64;

/// The region whose order is looked for; its relations are in order inside.
struct Order {
    relations: Vec<Relation>,
    links: Vec<Link>,
    conditions: Vec<Expr>,
    /// Of each relation those that a condition links to it.
    near: Vec<Set>,
}

struct Relation {
    plan: Arc<LogicalPlan>,
    /// What it is called in the text of an order.
    name: String,
    ids: BTreeSet<ColumnId>,
    estimate: Arc<Estimate>,
}

/// A condition between relations.
struct Link {
    condition: Expr,
    over: Set,
    /// As a key of a join, with the relations of its sides.
    key: Option<(JoinKey, [Set; 2])>,
}

/// An order, as far as it goes.
#[derive(Clone)]
enum Tree {
    Relation(usize),
    Join(Arc<(Tree, Tree)>),
}

/// A joined subset of the relations in an order of its own.
#[derive(Clone)]
struct Part {
    members: Set,
    tree: Tree,
    estimate: Arc<Estimate>,
    cost: f64,
}

fn bits(mut set: Set) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let place = (set != 0).then(|| set.trailing_zeros() as usize)?;
        set &= set - 1;
        Some(place)
    })
}

impl Order {
    fn of(relations: Vec<LogicalPlan>, conditions: &[Expr], context: &Context) -> Order {
        let ids: Vec<BTreeSet<ColumnId>> = relations.iter().map(LogicalPlan::column_ids).collect();
        let home: HashMap<ColumnId, usize> =
            ids.iter().enumerate().flat_map(|(place, ids)| ids.iter().map(move |id| (*id, place))).collect();
        let over = |expr: &Expr| {
            expr.columns().iter().filter_map(|id| home.get(id)).fold(0, |set: Set, place| set | 1 << place)
        };
        let used: BTreeSet<ColumnId> = conditions.iter().flat_map(Expr::columns).collect();
        let mut known = Vec::with_capacity(relations.len());
        for (place, (relation, ids)) in relations.into_iter().zip(&ids).enumerate() {
            // A condition about one relation alone belongs to no join: it stays with the relation.
            let own = conditions.iter().filter(|condition| over(condition) == 1 << place).cloned().collect();
            let name = name_of(&relation);
            let plan = relation.filtered(own);
            let estimate = context.estimate(&plan).only(&used).into();
            known.push(Relation { plan: Arc::new(plan), name, ids: ids.clone(), estimate });
        }
        let all_ids = |set: Set| bits(set).flat_map(|place| ids[place].iter().copied()).collect::<BTreeSet<ColumnId>>();
        let links: Vec<Link> = conditions
            .iter()
            .map(|condition| (condition, over(condition)))
            .filter(|(_, over)| over.count_ones() > 1)
            .map(|(condition, whole)| {
                let sides = match condition {
                    Expr::Binary { left, right, .. } => [over(left), over(right)],
                    _ => [0, 0],
                };
                let apart = sides[0] & sides[1] == 0 && sides.iter().all(|side| *side != 0);
                let key = apart.then(|| JoinKey::of(condition, &all_ids(sides[0]), &all_ids(sides[1]))).flatten();
                Link { condition: condition.clone(), over: whole, key: key.map(|key| (key, sides)) }
            })
            .collect();
        let near_to = |place: usize| {
            let own = links.iter().filter(|link| link.over & (1 << place) != 0);
            own.fold(0, |set, link| set | link.over) & !(1 << place)
        };
        let near = (0..known.len()).map(near_to).collect();
        Order { relations: known, links, conditions: conditions.to_vec(), near }
    }

    fn put_together(self, written: &LogicalPlan, context: &Context) -> LogicalPlan {
        let parts: Vec<Part> = (0..self.relations.len()).map(|place| self.single(place)).collect();
        let linked = self.linked_sets();
        let (best, mut others) = if parts.len() <= EXHAUSTIVE_RELATIONS {
            self.exhaustive(&parts, &linked)
        } else {
            (self.greedy(parts.clone()), Vec::new())
        };
        let (as_written, bold) = self.as_written(written, &mut parts.iter(), &linked);
        context.note(format!(
            "cost {:.0} rows touched, as written {:.0}; {} relations",
            best.cost,
            as_written.cost,
            self.relations.len()
        ));
        // Without a gain the author's order stands: a plan should not change for nothing. The order of the names in FROM is
        // no choice of pairs, though.
        let written = Alternative { way: self.way(&as_written.tree), cost: as_written.cost };
        let chosen = if bold || best.cost < as_written.cost * 0.99 { best } else { as_written };
        let way = self.way(&chosen.tree);
        others.retain(|other| other.way != way);
        others.truncate(KEPT_ORDERS);
        let order = JoinOrder { chosen: way, cost: chosen.cost, alternatives: others, written };
        context.orders.borrow_mut().push(order);
        // A condition about no relation belongs to no join.
        let constant = self.conditions.iter().filter(|c| c.columns().is_empty()).cloned().collect();
        self.plan(&chosen.tree).0.as_ref().clone().filtered(constant)
    }

    fn single(&self, place: usize) -> Part {
        let estimate = self.relations[place].estimate.clone();
        Part { members: 1 << place, tree: Tree::Relation(place), estimate, cost: 0.0 }
    }

    /// The order in words, as `(a ⋈ b) ⋈ c`.
    fn way(&self, tree: &Tree) -> String {
        let enclosed = |tree: &Tree| match tree {
            Tree::Relation(_) => self.way(tree),
            Tree::Join(_) => format!("({})", self.way(tree)),
        };
        match tree {
            Tree::Relation(place) => self.relations[*place].name.clone(),
            Tree::Join(sides) => format!("{} ⋈ {}", enclosed(&sides.0), enclosed(&sides.1)),
        }
    }

    /// The order as a plan, with the columns that come out of it.
    fn plan(&self, tree: &Tree) -> (Arc<LogicalPlan>, BTreeSet<ColumnId>) {
        match tree {
            Tree::Relation(place) => (self.relations[*place].plan.clone(), self.relations[*place].ids.clone()),
            Tree::Join(sides) => {
                let ((left, left_ids), (right, right_ids)) = (self.plan(&sides.0), self.plan(&sides.1));
                let join = inner_join((&left, &left_ids), (&right, &right_ids), &self.conditions);
                (Arc::new(LogicalPlan::Join(join)), left_ids.union(&right_ids).copied().collect())
            }
        }
    }

    fn near(&self, set: Set) -> Set {
        bits(set).fold(0, |near, place| near | self.near[place])
    }

    fn connected(&self, left: Set, right: Set) -> bool {
        self.near(left) & right != 0
    }

    /// Whether some condition is a key of the join of these two.
    fn has_key(&self, left: Set, right: Set) -> bool {
        self.links
            .iter()
            .filter_map(|link| link.key.as_ref())
            .any(|(_, [a, b])| *a & !left == 0 && *b & !right == 0 || *a & !right == 0 && *b & !left == 0)
    }

    /// The rows of two parts together.
    fn estimate(&self, (left, of_left): (Set, &Estimate), (right, of_right): (Set, &Estimate)) -> Estimate {
        let (mut on, mut residual) = (Vec::new(), Vec::new());
        for link in &self.links {
            let decided = link.over & !(left | right) == 0 && link.over & left != 0 && link.over & right != 0;
            match &link.key {
                _ if !decided => {}
                Some((key, [a, b])) if *a & !left == 0 && *b & !right == 0 => on.push(key.clone()),
                Some((key, [a, b])) if *a & !right == 0 && *b & !left == 0 => on.push(key.swapped()),
                _ => residual.push(link.condition.clone()),
            }
        }
        // Only its conditions are looked at.
        let plan = self.relations[0].plan.clone();
        let join = Join { left: plan.clone(), right: plan, kind: JoinKind::Inner, on, residual, mark: None };
        join_estimate(&join, of_left, of_right)
    }

    /// Rows that a join of two parts touches, which makes so many.
    fn touched(&self, left: &Part, right: &Part, rows: f64) -> f64 {
        match self.has_key(left.members, right.members) {
            true => left.estimate.rows + right.estimate.rows + rows,
            false => left.estimate.rows * right.estimate.rows,
        }
    }

    /// Two parts as one, which has this estimate.
    fn combine(&self, left: &Part, right: &Part, estimate: Arc<Estimate>) -> Part {
        Part {
            members: left.members | right.members,
            cost: left.cost + right.cost + self.touched(left, right, estimate.rows),
            tree: Tree::Join(Arc::new((left.tree.clone(), right.tree.clone()))),
            estimate,
        }
    }

    fn joined(&self, left: &Part, right: &Part) -> Part {
        let estimate = self.estimate((left.members, &left.estimate), (right.members, &right.estimate));
        self.combine(left, right, estimate.into())
    }

    /// The sets of relations that conditions link, each as large as it can be.
    fn linked_sets(&self) -> Vec<Set> {
        let mut sets: Vec<Set> = Vec::new();
        for place in 0..self.relations.len() {
            let (touching, apart): (Vec<Set>, Vec<Set>) = sets.into_iter().partition(|set| self.near[place] & set != 0);
            sets = apart;
            sets.push(touching.into_iter().fold(1 << place, |grown, set| grown | set));
        }
        sets
    }

    /// Whether two parts that no condition links may be paired: there is no other way once everything that is linked to either
    /// has been joined, and few certain pairs do no harm.
    fn pairs_allowed(left: &Part, right: &Part, linked: &[Set]) -> bool {
        let whole = |part: &Part| linked.iter().all(|set| part.members & set == 0 || part.members & set == *set);
        let pairs = left.estimate.most.zip(right.estimate.most).map(|(l, r)| l * r);
        let single = |part: &Part| part.estimate.most.is_some_and(|most| most <= 1.0);
        whole(left) && whole(right) || single(left) || single(right) || pairs.is_some_and(|pairs| pairs <= FEW_PAIRS)
    }

    /// The best order, and of each way to make the last join the best one, cheapest first.
    fn exhaustive(&self, parts: &[Part], linked: &[Set]) -> (Part, Vec<Alternative>) {
        let full = (1usize << parts.len()) - 1;
        let mut best: Vec<Option<Part>> = vec![None; full + 1];
        for (i, part) in parts.iter().enumerate() {
            best[1 << i] = Some(part.clone());
        }
        let mut last: Vec<(usize, usize, f64)> = Vec::new();
        for set in 1..=full {
            if set.count_ones() < 2 {
                continue;
            }
            // The cheapest split, with its cost and what the set has, by whichever split that is found first.
            let mut cheapest: Option<(usize, usize, f64)> = None;
            let mut estimate: Option<Arc<Estimate>> = None;
            // Connected splits first; a product of unconnected parts only where nothing else covers the set.
            for products in [false, true] {
                let mut subset = (set - 1) & set;
                while subset > 0 {
                    let rest = set & !subset;
                    if subset > rest
                        && let (Some(a), Some(b)) = (&best[subset], &best[rest])
                        && (self.connected(a.members, b.members) || products && Self::pairs_allowed(a, b, linked))
                    {
                        let rows = estimate
                            .get_or_insert_with(|| {
                                self.estimate((a.members, &a.estimate), (b.members, &b.estimate)).into()
                            })
                            .rows;
                        let cost = a.cost + b.cost + self.touched(a, b, rows);
                        if set == full {
                            last.push((subset, rest, cost));
                        }
                        if cheapest.is_none_or(|(.., known)| cost < known) {
                            cheapest = Some((subset, rest, cost));
                        }
                    }
                    subset = (subset - 1) & set;
                }
                if cheapest.is_some() {
                    break;
                }
            }
            best[set] = cheapest.zip(estimate).and_then(|((a, b, _), estimate)| {
                let (a, b) = larger_first(best[a].as_ref()?, best[b].as_ref()?);
                Some(self.combine(a, b, estimate))
            });
        }
        last.sort_by(|(.., a), (.., b)| a.total_cmp(b));
        let shown = last.into_iter().take(KEPT_ORDERS + 2).filter_map(|(a, b, cost)| {
            let (a, b) = larger_first(best[a].as_ref()?, best[b].as_ref()?);
            Some(Alternative { way: self.way(&Tree::Join(Arc::new((a.tree.clone(), b.tree.clone())))), cost })
        });
        let shown = shown.collect();
        (best[full].take().expect("every linked set has a plan, and whole ones may be paired"), shown)
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
                        let together = self.estimate((a.members, &a.estimate), (b.members, &b.estimate));
                        pairs.insert((i, j), (self.connected(a.members, b.members), together.rows));
                    }
                }
            }
            let better = |a: &(bool, f64), b: &(bool, f64)| b.0.cmp(&a.0).then(a.1.total_cmp(&b.1));
            let Some((&(i, j), _)) = pairs.iter().min_by(|(_, a), (_, b)| better(a, b)) else { break };
            pairs.retain(|(a, b), _| ![*a, *b].contains(&i) && ![*a, *b].contains(&j));
            if let (Some(a), Some(b)) = (parts[i].take(), parts[j].take()) {
                let (left, right) = larger_first(&a, &b);
                parts[i] = Some(self.joined(left, right));
            }
            fresh = vec![i];
        }
        parts.into_iter().flatten().next().expect("there are at least two parts")
    }

    /// The author's order over relations that have been rewritten inside, and whether it makes pairs that no order may make by
    /// choice.
    fn as_written<'a>(
        &self,
        plan: &LogicalPlan,
        parts: &mut impl Iterator<Item = &'a Part>,
        linked: &[Set],
    ) -> (Part, bool) {
        match plan {
            LogicalPlan::Join(join) if join.kind == JoinKind::Inner => {
                let (left, bold_left) = self.as_written(&join.left, parts, linked);
                let (right, bold_right) = self.as_written(&join.right, parts, linked);
                let bold = !self.connected(left.members, right.members) && !Self::pairs_allowed(&left, &right, linked);
                (self.joined(&left, &right), bold || bold_left || bold_right)
            }
            _ => {
                (parts.next().expect("the walk meets the relations in the order they were taken apart").clone(), false)
            }
        }
    }
}

/// The larger side stands left: it is the one that streams.
fn larger_first<'p>(a: &'p Part, b: &'p Part) -> (&'p Part, &'p Part) {
    if a.estimate.rows >= b.estimate.rows { (a, b) } else { (b, a) }
}
