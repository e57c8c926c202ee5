//! From a rewritten logical plan to a physical one. Walks from the sources up; while a subtree lives in one connection it is
//! an open draft of a gate and each operator above is offered to the source. What the source does not take becomes a step.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_types::{ColumnId, Error, Result};

use crate::estimate::{Estimate, Estimator, filter_estimate};
use crate::rewrites;
use crate::settings::Settings;
use cobble_plan::document::{Alternative, GateDocument, JoinDocument, Piece, PlanDocument, StepDocument, TraceEntry};
use cobble_plan::expr::{Column, Expr, Fold};
use cobble_plan::key_pass::{self, KeyPass};
use cobble_plan::logical::{self, CteDefinition, Join, JoinKey, JoinKind, LogicalPlan, Mark, Origin, Scan, UnionInput};
use cobble_plan::offer::{KeptReason, Offer, Sources, Verdict};
use cobble_plan::physical::{Gate, JoinWork, Operator, PhysicalNode, PhysicalPlan, Side, gate_letter};
use cobble_plan::range_join::RangeOn;
use cobble_plan::verify::verify_physical;

/// How a join can be done in the engine.
enum Algorithm {
    Hash,
    Range(Arc<RangeOn>),
    Loop,
}

struct Way {
    text: String,
    cost: f64,
    algorithm: Algorithm,
    build: Side,
}

/// Switches for pieces of work that are offered without a rewrite having moved them.
pub const OFFER_SWITCHES: &[&str] = &[
    "offer-joins",
    "offer-aggregates",
    "offer-windows",
    "offer-unions",
    "offer-top-n",
    "offer-sorts",
    "key-pass",
    "range-joins",
];

/// Rows of a join, more than its tables have, up to which it is left to the source when its groups are.
const MOST_GROUPED: f64 = 10_000_000.0;
/// Rows up to which an order without a limit is left to the source.
const MOST_SORTED: f64 = 100_000.0;

/// Rewrites the plan, negotiates the gates and chooses how each join is done.
pub fn plan(written: LogicalPlan, sources: &Sources, settings: &Settings, fold: &Fold) -> Result<PhysicalPlan> {
    planned(written, sources, settings, fold, false)
}

/// The same for work of which no rows come here: joins are handed over whatever they cost.
pub fn plan_at_source(
    written: LogicalPlan,
    sources: &Sources,
    settings: &Settings,
    fold: &Fold,
) -> Result<PhysicalPlan> {
    planned(written, sources, settings, fold, true)
}

fn planned(
    written: LogicalPlan,
    sources: &Sources,
    settings: &Settings,
    fold: &Fold,
    at_source: bool,
) -> Result<PhysicalPlan> {
    let written_text = written.to_string();
    let wanted = written.columns();
    let (rewritten, trace) = rewrites::apply_all(written, &rewrites::Context::new(settings, fold))?;
    let rewritten = Arc::new(rewritten);
    let mut planner = Planner {
        settings,
        sources,
        at_source,
        steps: Vec::new(),
        gates: Vec::new(),
        offers: Vec::new(),
        key_passes: Vec::new(),
        gate_documents: Vec::new(),
        joins: Vec::new(),
        estimator: Estimator::default(),
        results: HashMap::new(),
        is_grouped: false,
        relied_on_groups: false,
    };
    let root = planner.with_columns(&rewritten, &wanted)?.node;
    verify_physical(&root, &wanted)?;
    let document = planner.document(written_text, &rewritten, trace);
    Ok(PhysicalPlan { root, gates: planner.gates, key_passes: planner.key_passes, sinks: vec![], document })
}

struct Planner<'a> {
    settings: &'a Settings,
    sources: &'a Sources,
    at_source: bool,
    steps: Vec<StepDocument>,
    gates: Vec<Gate>,
    /// What each gate's source has agreed to.
    offers: Vec<Box<dyn Offer>>,
    key_passes: Vec<KeyPass>,
    gate_documents: Vec<GateDocument>,
    joins: Vec<JoinDocument>,
    estimator: Estimator,
    /// The columns of what is computed once, by its id, as its readers find them.
    results: HashMap<u32, Vec<Column>>,
    /// What is planned will be grouped at its source, it is hoped.
    is_grouped: bool,
    /// A join of many rows was handed over in that hope.
    relied_on_groups: bool,
}

/// Work that a source has taken so far.
struct Draft {
    offer: Box<dyn Offer>,
    origin: Origin,
    tables: Vec<String>,
    columns_total: usize,
    pieces: Vec<Piece>,
    columns: Vec<Column>,
    estimate: Arc<Estimate>,
    /// True when the source returns rows in an order that is part of the answer.
    ordered: bool,
}

/// A step that has been numbered, and the gate right below it while only row-wise work lies between.
struct Built {
    node: Arc<PhysicalNode>,
    estimate: Arc<Estimate>,
    gate_below: Option<usize>,
}

enum Planned {
    Open(Box<Draft>),
    Built(Built),
}

impl Planner<'_> {
    fn plan(&mut self, plan: &Arc<LogicalPlan>, needed: &BTreeSet<ColumnId>) -> Result<Planned> {
        match plan.as_ref() {
            LogicalPlan::Scan(scan) => {
                let source = self.sources.of(&scan.table)?;
                Ok(Planned::Open(Box::new(begin(scan, source.begin(scan), self.estimator.shared(plan)))))
            }
            LogicalPlan::Values { columns, rows } => {
                let operator = Operator::Values { rows: rows.clone() };
                Ok(Planned::Built(self.step(operator, columns.clone(), vec![], self.estimator.shared(plan))))
            }
            LogicalPlan::Filter { input, conjuncts } => self.filter(plan, input, conjuncts, needed),
            LogicalPlan::Project { input, columns } => {
                let columns: Vec<_> = if self.settings.is_on("prune-columns") {
                    columns.iter().filter(|(column, _)| needed.contains(&column.id)).cloned().collect()
                } else {
                    columns.clone()
                };
                let used = ids_of(columns.iter().map(|(_, expr)| expr));
                let mut planned = self.plan(input, &used)?;
                if let Planned::Open(draft) = &mut planned {
                    let verdict = draft.offer.project(&columns);
                    let plain = columns.iter().all(|(_, expr)| matches!(expr, Expr::Column(_)));
                    if verdict.is_pushed() {
                        draft.columns = columns.iter().map(|(column, _)| column.clone()).collect();
                        draft.estimate = self.estimator.shared(plan);
                    }
                    if !plain {
                        draft.piece("projection", logical::project_text(&columns), verdict.clone());
                    }
                    if verdict.is_pushed() {
                        return Ok(planned);
                    }
                }
                let below = self.closed(planned, &used)?;
                let out = columns.iter().map(|(column, _)| column.clone()).collect();
                let mut built =
                    self.step(Operator::Project { columns }, out, vec![below.node], self.estimator.shared(plan));
                built.gate_below = below.gate_below;
                Ok(Planned::Built(built))
            }
            LogicalPlan::Join(join) => self.join(plan, join, needed),
            LogicalPlan::Aggregate { input, groups, aggregates } => {
                let used = ids_of(
                    groups
                        .iter()
                        .map(|(_, expr)| expr)
                        .chain(aggregates.iter().flat_map(|(_, call)| call.expressions())),
                );
                let text = logical::aggregate_text(groups, aggregates);
                let (planned, offered) = self.grouped(input, &used, &mut |planner, planned| {
                    planner.offer(planned, "aggregate", text.clone(), "offer-aggregates", |offer| {
                        offer.aggregate(groups, aggregates)
                    })
                })?;
                let mut planned = planned;
                if let (true, Planned::Open(draft)) = (offered, &mut planned) {
                    draft.columns = plan.columns();
                    draft.estimate = self.estimator.shared(plan);
                    draft.ordered = false;
                    return Ok(planned);
                }
                let below = self.closed(planned, &used)?;
                let operator = Operator::Aggregate { groups: groups.clone(), aggregates: aggregates.clone() };
                Ok(Planned::Built(self.step(operator, plan.columns(), vec![below.node], self.estimator.shared(plan))))
            }
            LogicalPlan::Sort { input, keys, fetch } => {
                let mut used = needed.clone();
                keys.iter().for_each(|key| key.expr.collect_columns(&mut used));
                let mut planned = self.plan(input, &used)?;
                let text = logical::sort_text(keys, *fetch);
                let offered = match fetch {
                    Some(_) => self.offer(&mut planned, "top-n", text, "offer-top-n", |offer| offer.sort(keys, *fetch)),
                    None => {
                        let many = matches!(&planned, Planned::Open(draft) if draft.estimate.rows > MOST_SORTED);
                        self.offer(&mut planned, "sort", text, "offer-sorts", |offer| match many {
                            true => Verdict::kept(
                                KeptReason::NotWorthIt,
                                "all rows cross in any case, and are read in portions where they need no order",
                            ),
                            false => offer.sort(keys, None),
                        })
                    }
                };
                if let (true, Planned::Open(draft)) = (offered, &mut planned) {
                    draft.ordered = true;
                    draft.estimate = self.estimator.shared(plan);
                    return Ok(planned);
                }
                let below = self.closed(planned, &used)?;
                let columns = below.node.columns.clone();
                let operator = Operator::Sort { keys: keys.clone(), fetch: *fetch };
                Ok(Planned::Built(self.step(operator, columns, vec![below.node], self.estimator.shared(plan))))
            }
            LogicalPlan::Limit { input, limit, offset } => {
                let mut planned = self.plan(input, needed)?;
                let text = logical::limit_text(*limit, *offset);
                let offered =
                    self.offer(&mut planned, "limit", text, "push-limit", |offer| offer.limit(*limit, *offset));
                if let Planned::Open(draft) = &mut planned {
                    draft.estimate = self.estimator.shared(plan);
                    if offered {
                        return Ok(planned);
                    }
                }
                let below = self.closed(planned, needed)?;
                let columns = below.node.columns.clone();
                let operator = Operator::Limit { limit: *limit, offset: *offset };
                Ok(Planned::Built(self.step(operator, columns, vec![below.node], self.estimator.shared(plan))))
            }
            LogicalPlan::Union { inputs, columns } => self.union(plan, inputs, columns),
            LogicalPlan::Window { input, partition, order, calls } => {
                let own: BTreeSet<ColumnId> = calls.iter().map(|(column, _)| column.id).collect();
                let mut used: BTreeSet<ColumnId> = needed.difference(&own).copied().collect();
                plan.expressions().into_iter().for_each(|e| e.collect_columns(&mut used));
                let mut planned = self.plan(input, &used)?;
                let text = logical::window_text(partition, order, calls);
                let offered = self.offer(&mut planned, "window", text, "offer-windows", |offer| {
                    offer.window(partition, order, calls)
                });
                if let (true, Planned::Open(draft)) = (offered, &mut planned) {
                    draft.columns.extend(calls.iter().map(|(column, _)| column.clone()));
                    draft.estimate = self.estimator.shared(plan);
                    draft.ordered = false;
                    return Ok(planned);
                }
                let below = self.closed(planned, &used)?;
                let columns =
                    below.node.columns.iter().cloned().chain(calls.iter().map(|(column, _)| column.clone())).collect();
                let operator =
                    Operator::Window { partition: partition.clone(), order: order.clone(), calls: calls.clone() };
                Ok(Planned::Built(self.step(operator, columns, vec![below.node], self.estimator.shared(plan))))
            }
            LogicalPlan::Expand { input, makers, outer } => {
                let made = || makers.iter().flat_map(|maker| &maker.columns);
                let own: BTreeSet<ColumnId> = made().map(|column| column.id).collect();
                let mut used: BTreeSet<ColumnId> = needed.difference(&own).copied().collect();
                makers.iter().flat_map(|m| &m.arguments).for_each(|e| e.collect_columns(&mut used));
                let planned = self.plan(input, &used)?;
                let below = self.closed(planned, &used)?;
                let columns = below.node.columns.iter().chain(made()).cloned().collect();
                let operator = Operator::Expand { makers: makers.clone(), outer: *outer };
                Ok(Planned::Built(self.step(operator, columns, vec![below.node], self.estimator.shared(plan))))
            }
            LogicalPlan::With { definitions, body } => {
                // Several groupings of the same rows are one statement where all of it is handed over; otherwise the rows are kept.
                if let Some(united) = reading_anew(definitions, body).filter(|_| self.settings.is_on("offer-unions")) {
                    let mark = self.mark();
                    let planned = self.plan(&Arc::new(united), needed)?;
                    if matches!(planned, Planned::Open(_)) {
                        return Ok(planned);
                    }
                    self.rewind(&mark);
                }
                let mut nodes = Vec::new();
                for definition in definitions {
                    let columns = definition.plan.columns();
                    let built = self.with_columns(&definition.plan, &columns)?;
                    let mut known = self.estimator.shared(&definition.plan).as_ref().clone();
                    known.rows = built.estimate.rows;
                    self.estimator.know(definition.id, known);
                    self.results.insert(definition.id, columns);
                    nodes.push(built.node);
                }
                let planned = self.plan(body, needed)?;
                let below = self.closed(planned, needed)?;
                let columns = below.node.columns.clone();
                let inputs = nodes.into_iter().chain([below.node]).collect();
                let operator = Operator::With { ids: definitions.iter().map(|d| d.id).collect() };
                Ok(Planned::Built(self.step(operator, columns, inputs, below.estimate)))
            }
            LogicalPlan::CteScan { id, name, columns } => {
                let wanted: Vec<_> = columns.iter().filter(|(column, _)| needed.contains(&column.id)).collect();
                let kept = self.results.get(id).map(Vec::as_slice).unwrap_or_default();
                let place = |own: &ColumnId| {
                    kept.iter()
                        .position(|c| c.id == *own)
                        .ok_or_else(|| Error::internal(format!("{name} lost a column")))
                };
                let places = wanted.iter().map(|(_, own)| place(own)).collect::<Result<_>>()?;
                let operator = Operator::CteScan { id: *id, name: name.clone(), places };
                let columns = wanted.into_iter().map(|(column, _)| column.clone()).collect();
                Ok(Planned::Built(self.step(operator, columns, vec![], self.estimator.shared(plan))))
            }
            LogicalPlan::Recursive { id, name, base, step, columns, distinct } => {
                let base = self.with_columns(&base.plan, &base.columns)?;
                self.results.insert(*id, columns.clone());
                self.estimator.enter(plan);
                let step = self.with_columns(&step.plan, &step.columns)?;
                let operator = Operator::Recursive { id: *id, name: name.clone(), distinct: *distinct };
                let inputs = vec![base.node, step.node];
                Ok(Planned::Built(self.step(operator, columns.clone(), inputs, self.estimator.shared(plan))))
            }
        }
    }

    /// The plan as a step with exactly these of its columns, in this order: others read them by where they stand.
    fn with_columns(&mut self, plan: &Arc<LogicalPlan>, columns: &[Column]) -> Result<Built> {
        let planned = self.plan(plan, &columns.iter().map(|column| column.id).collect())?;
        self.closed_with(planned, columns)
    }

    fn closed_with(&mut self, planned: Planned, columns: &[Column]) -> Result<Built> {
        let below = self.closed(planned, &columns.iter().map(|column| column.id).collect())?;
        if below.node.columns == columns {
            return Ok(below);
        }
        let same: Vec<_> = columns.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
        Ok(self.step(Operator::Project { columns: same }, columns.to_vec(), vec![below.node], below.estimate))
    }

    /// Rows of several inputs: of one connection in one request, when all of them are open offers there.
    fn union(&mut self, plan: &Arc<LogicalPlan>, inputs: &[UnionInput], columns: &[Column]) -> Result<Planned> {
        let mut planned = Vec::new();
        for input in inputs {
            planned.push(self.plan(&input.plan, &input.columns.iter().map(|column| column.id).collect())?);
        }
        let mut drafts = planned.iter_mut().filter_map(|planned| match planned {
            Planned::Open(draft) => Some(draft),
            Planned::Built(_) => None,
        });
        if let Some(first) = drafts.next() {
            let mut others: Vec<_> = drafts.collect();
            let connection = first.origin.connection.clone();
            let verdict = if others.len() + 1 < inputs.len() {
                Verdict::kept(KeptReason::BelowKept, "another input is computed in the engine")
            } else if others.iter().any(|other| other.origin.connection != connection) {
                Verdict::Kept { reason: KeptReason::DifferentConnections, note: None }
            } else if !self.settings.is_on("offer-unions") {
                Verdict::kept(KeptReason::SwitchedOff, "offer-unions is off")
            } else {
                let of = |place: usize| inputs[place].columns.clone();
                let offers: Vec<(&dyn Offer, Vec<Column>)> =
                    others.iter().enumerate().map(|(i, other)| (other.offer.as_ref(), of(i + 1))).collect();
                first.offer.union(&of(0), &offers, columns)
            };
            let text = format!("all rows of {} inputs", inputs.len());
            if verdict.is_pushed() {
                for other in &mut others {
                    first.tables.append(&mut other.tables);
                    first.pieces.append(&mut other.pieces);
                    first.columns_total += other.columns_total;
                }
                first.piece("union", text, verdict);
                first.columns = columns.to_vec();
                first.estimate = self.estimator.shared(plan);
                first.ordered = false;
                return Ok(planned.swap_remove(0));
            }
            for draft in others.into_iter().chain([first]) {
                draft.piece("union", text.clone(), verdict.clone());
            }
        }
        let mut nodes = Vec::new();
        for (input, planned) in inputs.iter().zip(planned) {
            nodes.push(self.closed_with(planned, &input.columns)?.node);
        }
        Ok(Planned::Built(self.step(Operator::Union, columns.to_vec(), nodes, self.estimator.shared(plan))))
    }

    fn mark(&self) -> Planning {
        Planning {
            steps: self.steps.len(),
            gates: self.gates.len(),
            key_passes: self.key_passes.len(),
            joins: self.joins.len(),
        }
    }

    /// Forgets what has been planned since.
    fn rewind(&mut self, mark: &Planning) {
        self.steps.truncate(mark.steps);
        self.gates.truncate(mark.gates);
        self.offers.truncate(mark.gates);
        self.gate_documents.truncate(mark.gates);
        self.key_passes.truncate(mark.key_passes);
        self.joins.truncate(mark.joins);
    }

    /// Plans what is grouped above, and offers the groups. A join of many rows is handed over as long as its groups are, too; if they
    /// are not, it is planned once more without that hope.
    fn grouped(
        &mut self,
        input: &Arc<LogicalPlan>,
        used: &BTreeSet<ColumnId>,
        offer: &mut dyn FnMut(&mut Self, &mut Planned) -> bool,
    ) -> Result<(Planned, bool)> {
        let mark = self.mark();
        let outer = (self.is_grouped, std::mem::replace(&mut self.relied_on_groups, false));
        self.is_grouped = self.settings.is_on("offer-aggregates");
        let mut planned = self.plan(input, used)?;
        let mut offered = offer(self, &mut planned);
        if !offered && self.relied_on_groups {
            self.rewind(&mark);
            self.is_grouped = false;
            planned = self.plan(input, used)?;
            offered = offer(self, &mut planned);
        }
        (self.is_grouped, self.relied_on_groups) = outer;
        Ok((planned, offered))
    }

    /// Offers a piece when the way to the source is open, and notes the answer at the gate. True when it was taken whole.
    fn offer(
        &mut self,
        planned: &mut Planned,
        piece: &str,
        text: String,
        switch: &str,
        ask: impl FnOnce(&mut dyn Offer) -> Verdict,
    ) -> bool {
        match planned {
            Planned::Open(draft) => {
                let verdict = if self.settings.is_on(switch) {
                    ask(draft.offer.as_mut())
                } else {
                    Verdict::kept(KeptReason::SwitchedOff, format!("{switch} is off"))
                };
                let pushed = verdict.is_pushed();
                draft.piece(piece, text, verdict);
                pushed
            }
            Planned::Built(Built { gate_below: Some(gate), .. }) => {
                let verdict = Verdict::Kept { reason: KeptReason::BelowKept, note: None };
                self.gate_documents[*gate].pieces.push(Piece { piece: piece.to_owned(), text, verdict });
                false
            }
            Planned::Built(_) => false,
        }
    }

    fn filter(
        &mut self,
        plan: &Arc<LogicalPlan>,
        input: &Arc<LogicalPlan>,
        conjuncts: &[Expr],
        needed: &BTreeSet<ColumnId>,
    ) -> Result<Planned> {
        let mut used = needed.clone();
        conjuncts.iter().for_each(|conjunct| conjunct.collect_columns(&mut used));
        let mut planned = self.plan(input, &used)?;
        let mut left: Vec<Expr> = Vec::new();
        for conjunct in conjuncts {
            let taken = self
                .offer(&mut planned, "filter", conjunct.to_string(), "push-filters", |offer| offer.filter(conjunct));
            if !taken {
                left.push(conjunct.clone());
            }
        }
        if let Planned::Open(draft) = &mut planned {
            if left.is_empty() {
                draft.estimate = self.estimator.shared(plan);
                return Ok(planned);
            }
            let pushed: Vec<Expr> = conjuncts.iter().filter(|c| !left.contains(c)).cloned().collect();
            draft.estimate = filter_estimate(input, &self.estimator.shared(input), &pushed).into();
        }
        used = needed.clone();
        left.iter().for_each(|conjunct| conjunct.collect_columns(&mut used));
        let below = self.closed(planned, &used)?;
        let columns = below.node.columns.clone();
        let mut built =
            self.step(Operator::Filter { conjuncts: left }, columns, vec![below.node], self.estimator.shared(plan));
        built.gate_below = below.gate_below;
        Ok(Planned::Built(built))
    }

    fn join(&mut self, plan: &Arc<LogicalPlan>, join: &Join, needed: &BTreeSet<ColumnId>) -> Result<Planned> {
        let mut used = needed.clone();
        join.expressions().for_each(|e| e.collect_columns(&mut used));
        let mut left = self.plan(&join.left, &used)?;
        let mut right = self.plan(&join.right, &used)?;
        let text = join.text();
        if let (Planned::Open(a), Planned::Open(b)) = (&mut left, &mut right) {
            let verdict = if a.origin.connection != b.origin.connection {
                let note = format!("{} and {}", a.origin.connection, b.origin.connection);
                Verdict::kept(KeptReason::DifferentConnections, note)
            } else if !self.settings.is_on("offer-joins") {
                Verdict::kept(KeptReason::SwitchedOff, "offer-joins is off")
            } else {
                let many = self.estimator.shared(plan).rows > 2.0 * (a.estimate.rows + b.estimate.rows) + 1000.0;
                let is_grouped = self.is_grouped && self.estimator.shared(plan).rows <= MOST_GROUPED;
                if many && !self.at_source && !is_grouped {
                    let note = "the joined rows are estimated at more than twice those of the tables";
                    Verdict::kept(KeptReason::NotWorthIt, note)
                } else {
                    self.relied_on_groups |= many && is_grouped;
                    a.offer.join(b.offer.as_ref(), join)
                }
            };
            if verdict.is_pushed() {
                a.piece("join", text, verdict);
                a.tables.append(&mut b.tables);
                a.pieces.append(&mut b.pieces);
                a.columns_total += b.columns_total;
                a.columns = plan.columns();
                a.estimate = self.estimator.shared(plan);
                a.ordered = false;
                return Ok(left);
            }
            a.piece("join", text.clone(), verdict.clone());
            b.piece("join", text.clone(), verdict);
        } else {
            // One side is joined or computed in the engine already.
            for side in [&mut left, &mut right] {
                if let Planned::Open(draft) = side {
                    let note = "the other side is computed in the engine";
                    draft.piece("join", text.clone(), Verdict::kept(KeptReason::BelowKept, note));
                }
            }
        }
        let left = self.closed(left, &used)?;
        let right = self.closed(right, &used)?;
        Ok(Planned::Built(self.engine_join(plan, join, left, right)))
    }

    /// Chooses algorithm and build side by cost, and keeps what was not chosen.
    fn engine_join(&mut self, plan: &Arc<LogicalPlan>, join: &Join, left: Built, right: Built) -> Built {
        let join = &keyed_mark(join);
        let (l, r, out) = (left.estimate.rows, right.estimate.rows, self.estimator.shared(plan).rows);
        // These must know all partners of a left row when they look at it.
        let may_build_left = !matches!(join.kind, JoinKind::NullAwareAnti | JoinKind::Single | JoinKind::Mark);
        let sides = [(Side::Right, &right, r, l), (Side::Left, &left, l, r)];
        let mut ways: Vec<Way> = Vec::new();
        for (build, node, rows, others) in sides.into_iter().filter(|s| s.0 == Side::Right || may_build_left) {
            let step = node.node.step;
            if !join.on.is_empty() {
                // A row costs about twice as much to put into the table as to look up in it.
                let cost = 2.0 * rows + others + out;
                ways.push(Way { text: format!("hash of step {step}"), cost, algorithm: Algorithm::Hash, build });
            } else if self.settings.is_on("range-joins") {
                let ids = node.node.columns.iter().map(|c| c.id).collect();
                if let Some(range) = RangeOn::find(&join.residual, &ids) {
                    let cost = (rows + others) * (rows + 2.0).log2() + out;
                    let text = format!("step {step} sorted by {range}");
                    ways.push(Way { text, cost, algorithm: Algorithm::Range(Arc::new(range)), build });
                }
            }
        }
        // The loop is only ever the runner-up: a wrong estimate must not cost a product.
        ways.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let build = if may_build_left && l < r { Side::Left } else { Side::Right };
        let step = if build == Side::Left { left.node.step } else { right.node.step };
        let text = format!("loop over step {step}");
        ways.push(Way { text, cost: l * r + out, algorithm: Algorithm::Loop, build });
        let chosen = ways.remove(0);
        ways.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let (on, residual, build) = (join.on.clone(), join.residual.clone(), chosen.build);
        let work = JoinWork { kind: join.kind, on, residual, mark: join.mark.clone(), build };
        let operator = match chosen.algorithm {
            Algorithm::Hash => {
                self.pass_keys(&work, &left, &right);
                Operator::HashJoin(work)
            }
            Algorithm::Range(range) => Operator::RangeJoin(work, range),
            Algorithm::Loop => Operator::NestedLoopJoin(work),
        };
        let columns = join.output(left.node.columns.clone(), right.node.columns.clone());
        let built = self.step(operator, columns, vec![left.node, right.node], self.estimator.shared(plan));
        self.joins.push(JoinDocument {
            step: built.node.step,
            text: join.text(),
            chosen: chosen.text,
            cost: chosen.cost,
            alternatives: ways.into_iter().map(|way| Alternative { way: way.text, cost: way.cost }).collect(),
        });
        built
    }

    /// Looks for gates on the probe side that can use the keys of the build side, and notes at each what it says.
    fn pass_keys(&mut self, join: &JoinWork, left: &Built, right: &Built) {
        if !key_pass::drops_unmatched_probe(join) {
            return;
        }
        let (build, probe) = if join.build == Side::Left { (left, right) } else { (right, left) };
        for (key, on) in join.on.iter().enumerate().filter(|(_, on)| !on.null_safe) {
            let (build_key, probe_key) = if join.build == Side::Left { on.sides().into() } else { swapped(on.sides()) };
            let Expr::Column(column) = probe_key else { continue };
            let mut gates = Vec::new();
            key_pass::gates_of(&probe.node, column, &mut gates);
            let keys = build.estimate.distinct(build_key).min(build.estimate.rows);
            let kept = (keys / probe.estimate.distinct(probe_key).max(1.0)).min(1.0);
            for (gate, column, place) in gates {
                if self.gate_documents[gate].estimated_rows < key_pass::FEWEST_ROWS {
                    continue;
                }
                let verdict = if !self.settings.is_on("key-pass") {
                    Verdict::kept(KeptReason::SwitchedOff, "key-pass is off")
                } else if kept > key_pass::MOST_KEPT {
                    let share = (kept * 100.0).round();
                    Verdict::kept(KeptReason::NotWorthIt, format!("about {share} % of its values have a partner"))
                } else {
                    self.offers[gate].key_pass(&column, keys)
                };
                let join = self.steps.len() + 1;
                let text = format!("{column} among the keys of step {}", build.node.step);
                if matches!(verdict, Verdict::Prunes { .. }) {
                    self.key_passes.push(KeyPass { join, key, gate, column, place });
                }
                self.gate_documents[gate].pieces.push(Piece { piece: "key pass".to_owned(), text, verdict });
            }
        }
    }

    /// A planned subtree as a step: an open draft is finished with the columns that are needed above it.
    fn closed(&mut self, planned: Planned, needed: &BTreeSet<ColumnId>) -> Result<Built> {
        let draft = match planned {
            Planned::Built(built) => return Ok(built),
            Planned::Open(draft) => draft,
        };
        let columns: Vec<Column> = if self.settings.is_on("prune-columns") {
            draft.columns.iter().filter(|column| needed.contains(&column.id)).cloned().collect()
        } else {
            draft.columns.clone()
        };
        let agreed = draft.offer.finish(&columns)?;
        let gate = self.gates.len();
        let letter = gate_letter(gate);
        // Footers know more than the guess: how many rows the parts left after pruning have.
        let mut estimate = draft.estimate;
        if let Some(most) = agreed.most_rows {
            let known = Arc::make_mut(&mut estimate);
            known.rows = if agreed.all_rows_come_out { most } else { known.rows.min(most) };
        }
        let estimated_rows = estimate.rows;
        let estimated_bytes = agreed.estimated_bytes.or(Some(estimated_rows * estimate.row_width(&columns)));
        let mut built = self.step(Operator::Gate { gate, ordered: draft.ordered }, columns, vec![], estimate);
        self.gate_documents.push(GateDocument {
            gate: letter.clone(),
            step: built.node.step,
            connection: draft.origin.connection,
            kind: draft.origin.kind,
            region: draft.origin.region,
            tables: draft.tables,
            columns_read: agreed.columns_read,
            columns_total: draft.columns_total,
            pieces: draft.pieces,
            request: agreed.request,
            parts: agreed.parts,
            estimated_rows,
            estimated_bytes,
            measure: None,
        });
        if let Some(step) = self.steps.last_mut() {
            step.gate = Some(letter.clone());
            step.text = format!("gate {letter}: {}", self.gate_documents[gate].tables.join(" + "));
        }
        self.gates.push(Gate { letter, spec: agreed.spec });
        self.offers.push(draft.offer);
        built.gate_below = Some(gate);
        Ok(built)
    }

    fn step(
        &mut self,
        operator: Operator,
        columns: Vec<Column>,
        inputs: Vec<Arc<PhysicalNode>>,
        estimate: Arc<Estimate>,
    ) -> Built {
        let step = self.steps.len() + 1;
        self.steps.push(StepDocument {
            step,
            kind: operator.kind().to_owned(),
            text: operator.line(&inputs),
            inputs: inputs.iter().map(|input| input.step).collect(),
            gate: None,
            columns: columns.iter().map(Column::to_string).collect(),
            estimated_rows: estimate.rows,
            measure: None,
        });
        Built { node: Arc::new(PhysicalNode { step, operator, columns, inputs }), estimate, gate_below: None }
    }

    fn document(&mut self, written: String, rewritten: &LogicalPlan, rewrites: Vec<TraceEntry>) -> PlanDocument {
        PlanDocument {
            written,
            rewritten: rewritten.to_string(),
            steps: std::mem::take(&mut self.steps),
            gates: std::mem::take(&mut self.gate_documents),
            joins: std::mem::take(&mut self.joins),
            rewrites,
            measures: None,
        }
    }
}

/// How far planning has come.
struct Planning {
    steps: usize,
    gates: usize,
    key_passes: usize,
    joins: usize,
}

/// A union whose inputs each read one common result once, as grouping sets are: the same with that result read anew by each. Each
/// input then has columns of the same ids, which no operator sees together.
fn reading_anew(definitions: &[CteDefinition], body: &LogicalPlan) -> Option<LogicalPlan> {
    let [definition] = definitions else { return None };
    fn readings(plan: &LogicalPlan) -> usize {
        match plan {
            LogicalPlan::CteScan { .. } | LogicalPlan::Recursive { .. } | LogicalPlan::With { .. } => 1,
            other => other.inputs().into_iter().map(|input| readings(input)).sum(),
        }
    }
    fn anew(plan: &LogicalPlan, definition: &CteDefinition) -> LogicalPlan {
        match plan {
            LogicalPlan::CteScan { columns, .. } => {
                let own = definition.plan.columns();
                let made = |id: &ColumnId| own.iter().find(|c| c.id == *id).cloned().map(Expr::Column);
                let columns = columns.iter().filter_map(|(column, own)| Some((column.clone(), made(own)?)));
                LogicalPlan::Project { input: definition.plan.clone(), columns: columns.collect() }
            }
            other => other.map_inputs(&mut |input| anew(input, definition)),
        }
    }
    let mut top = body;
    while let LogicalPlan::Project { input, .. }
    | LogicalPlan::Filter { input, .. }
    | LogicalPlan::Sort { input, .. }
    | LogicalPlan::Limit { input, .. } = top
    {
        top = input;
    }
    let LogicalPlan::Union { inputs, .. } = top else { return None };
    let is_read_once = |input: &UnionInput| {
        let mut at = input.plan.as_ref();
        while let [only] = at.inputs()[..] {
            at = only;
        }
        readings(&input.plan) == 1 && matches!(at, LogicalPlan::CteScan { id, .. } if *id == definition.id)
    };
    (readings(&definition.plan) == 0 && inputs.iter().all(is_read_once)).then(|| anew(body, definition))
}

/// A mark join that compares by one equality alone can look its partners up by it.
fn keyed_mark(join: &Join) -> Join {
    if let Some(mark) = &join.mark
        && join.on.is_empty()
        && join.residual.is_empty()
        && let [only] = mark.compare.as_slice()
        && let Some(key) = JoinKey::of(only, &join.left.column_ids(), &join.right.column_ids())
    {
        let mark = Mark { column: mark.column.clone(), compare: vec![], of_key: true };
        return Join { on: vec![key], mark: Some(mark), ..join.clone() };
    }
    join.clone()
}

fn swapped<T>([a, b]: [T; 2]) -> (T, T) {
    (b, a)
}

fn begin(scan: &Scan, offer: Box<dyn Offer>, estimate: Arc<Estimate>) -> Draft {
    Draft {
        offer,
        origin: scan.table.origin.clone(),
        tables: vec![scan.table.name.to_string()],
        columns_total: scan.table.columns.len(),
        pieces: Vec::new(),
        columns: scan.columns.iter().map(|(column, _)| column.clone()).collect(),
        estimate,
        ordered: false,
    }
}

impl Draft {
    fn piece(&mut self, piece: &str, text: String, verdict: Verdict) {
        self.pieces.push(Piece { piece: piece.to_owned(), text, verdict });
    }
}

fn ids_of<'a>(expressions: impl IntoIterator<Item = &'a Expr>) -> BTreeSet<ColumnId> {
    let mut ids = BTreeSet::new();
    expressions.into_iter().for_each(|expr| expr.collect_columns(&mut ids));
    ids
}
