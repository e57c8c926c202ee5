//! From a rewritten logical plan to a physical one. The plan is cut into fragments, each the largest part that lies in one connection;
//! the connections are asked what they do of them; what they do becomes gates, and the rest steps of the engine.

mod cut;
mod joins;
mod shapes;

use std::collections::{BTreeSet, HashMap};
use std::future::Future;
use std::sync::Arc;
use std::time::Instant;

use cobble_plan::document::{
    self, GateDocument, JoinDocument, OfferDocument, Phase, PlanDocument, StepDocument, TraceEntry,
};
use cobble_plan::expr::{Column, Expr, Fold};
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::key_pass::KeyPass;
use cobble_plan::logical::{LogicalPlan, TableKey};
use cobble_plan::offer::{KeptReason, Sources, Verdict};
use cobble_plan::physical::{Gate, Operator, PhysicalNode, PhysicalPlan, gate_letter};
use cobble_plan::verify::verify_physical;
use cobble_types::deep::polled_with_room;
use cobble_types::{ColumnId, Error, Result};
use futures::future::try_join_all;
use tokio_util::sync::CancellationToken;

use crate::estimate::{Estimate, Estimator};
use crate::rewrites;
use crate::settings::Settings;

use cut::{Cut, Cutter, computed, inputs_needed};
pub use shapes::Goal;
use shapes::Offered;

/// Switches for pieces of work that are offered without a rewrite having moved them, and for samples of tables.
pub const OFFER_SWITCHES: &[&str] = &[
    "offer-joins",
    "offer-aggregates",
    "offer-windows",
    "offer-unions",
    "offer-top-n",
    "offer-sorts",
    "key-pass",
    "range-joins",
    "samples",
];

/// Rewrites the plan, offers its fragments and chooses how each join is done.
pub async fn plan(
    written: LogicalPlan,
    sources: &Sources,
    settings: &Settings,
    goal: Goal,
    fold: &Fold,
    cancel: &CancellationToken,
) -> Result<PhysicalPlan> {
    polled_with_room(async move {
        let mut planner = Planner::cut(written, sources, settings, goal, fold, cancel)?;
        let rewritten = Instant::now();
        until(cancel, try_join_all(planner.offered.iter_mut().map(|offered| offered.ask(sources)))).await?;
        let root = planner.build()?;
        until(cancel, planner.ask_for_keys()).await?;
        planner.phases.push(Phase::new("offer", rewritten.elapsed()));
        planner.finished(root)
    })
    .await
}

/// Sources may take their time to answer.
async fn until<T>(cancel: &CancellationToken, answers: impl Future<Output = Result<T>>) -> Result<T> {
    cancel.run_until_cancelled(answers).await.unwrap_or_else(|| Err(Error::cancelled()))
}

struct Planner<'a> {
    settings: &'a Settings,
    sources: &'a Sources,
    written: String,
    rewritten: Arc<LogicalPlan>,
    trace: Vec<TraceEntry>,
    phases: Vec<Phase>,
    /// The columns of the result, in order.
    wanted: Vec<Column>,
    cut: Arc<Cut>,
    offered: Vec<Offered>,
    steps: Vec<StepDocument>,
    gates: Vec<Gate>,
    /// The first table of each gate.
    tables: Vec<TableKey>,
    /// Rows that the source of each gate has to look at, also those that its conditions drop.
    rows_read: Vec<f64>,
    asked_keys: Vec<AskedKeys>,
    key_passes: Vec<KeyPass>,
    gate_documents: Vec<GateDocument>,
    joins: Vec<JoinDocument>,
    offers: Vec<OfferDocument>,
    estimator: Estimator,
    /// The columns of what is computed once, by its id, as its readers find them.
    results: HashMap<u32, Vec<Column>>,
}

/// Keys of a join that a gate may be opened with.
struct AskedKeys {
    pass: KeyPass,
    text: String,
    /// About so many.
    keys: f64,
    /// Where the source need not be asked.
    verdict: Option<Verdict>,
}

/// A step that has been numbered, and the gate right below it while only row-wise work lies between.
struct Built {
    node: Arc<PhysicalNode>,
    estimate: Arc<Estimate>,
    gate_below: Option<usize>,
}

impl Built {
    /// The gate that this is.
    fn gate(&self) -> Option<usize> {
        match self.node.operator {
            Operator::Gate { gate, .. } => Some(gate),
            _ => None,
        }
    }
}

impl<'a> Planner<'a> {
    /// Rewrites the plan and cuts it into what is offered.
    fn cut(
        written: LogicalPlan,
        sources: &'a Sources,
        settings: &'a Settings,
        goal: Goal,
        fold: &Fold,
        cancel: &CancellationToken,
    ) -> Result<Planner<'a>> {
        let (text, wanted) = (written.to_string(), written.columns());
        let began = Instant::now();
        let context = rewrites::Context::new(settings, fold, cancel);
        let (rewritten, trace) = rewrites::apply_all(written, &context)?;
        let (rewritten, order) = (Arc::new(rewritten), context.ordering());
        let estimator = Estimator::default();
        let mut cutter = Cutter { settings, sources, estimator: &estimator, goal, offered: Vec::new() };
        let cut = cutter.cut(&rewritten, &wanted.iter().map(|column| column.id).collect())?;
        let offered = cutter.offered;
        let phases = vec![Phase::new("rewrite", began.elapsed().saturating_sub(order)), Phase::new("order", order)];
        Ok(Planner {
            settings,
            sources,
            written: text,
            rewritten,
            trace,
            phases,
            wanted,
            cut: Arc::new(cut),
            offered,
            steps: Vec::new(),
            gates: Vec::new(),
            tables: Vec::new(),
            rows_read: Vec::new(),
            asked_keys: Vec::new(),
            key_passes: Vec::new(),
            gate_documents: Vec::new(),
            joins: Vec::new(),
            offers: Vec::new(),
            estimator,
            results: HashMap::new(),
        })
    }

    /// The steps of the whole plan, once everything offered was answered.
    fn build(&mut self) -> Result<Arc<PhysicalNode>> {
        let (plan, cut, wanted) = (self.rewritten.clone(), self.cut.clone(), self.wanted.clone());
        let root = self.with_columns(&plan, &cut, &wanted)?.node;
        verify_physical(&root, &wanted)?;
        Ok(root)
    }

    fn plan(&mut self, plan: &Arc<LogicalPlan>, cut: &Cut, needed: &BTreeSet<ColumnId>) -> Result<Built> {
        let inputs = match cut {
            Cut::Fragment(offered) => return self.fragment(*offered),
            Cut::With { definitions, body, united } => return self.with(plan, definitions, body, *united, needed),
            Cut::Steps(inputs) => inputs,
        };
        match plan.as_ref() {
            LogicalPlan::Recursive { id, name, base, step, columns, distinct } => {
                let [base_cut, step_cut] = inputs.as_slice() else {
                    return Err(Error::internal("a recursion of one part"));
                };
                let base = self.with_columns(&base.plan, base_cut, &base.columns)?;
                self.results.insert(*id, columns.clone());
                let step = self.with_columns(&step.plan, step_cut, &step.columns)?;
                let operator = Operator::Recursive { id: *id, name: name.clone(), distinct: *distinct };
                let inputs = vec![base.node, step.node];
                Ok(self.step(operator, columns.clone(), inputs, self.estimator.shared(plan)))
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
                Ok(self.step(operator, columns, vec![], self.estimator.shared(plan)))
            }
            _ => {
                let wanted = inputs_needed(plan, needed, self.settings);
                let mut built = Vec::with_capacity(inputs.len());
                for ((input, cut), wanted) in plan.inputs().into_iter().zip(inputs).zip(&wanted) {
                    built.push(self.plan(input, cut, wanted)?);
                }
                self.apart(plan, &built);
                self.operator(plan, needed, built, self.estimator.shared(plan))
            }
        }
    }

    /// Notes at gates that are read by one step why they are read apart.
    fn apart(&mut self, plan: &LogicalPlan, inputs: &[Built]) {
        let (piece, note, together) = match plan {
            LogicalPlan::Join(_) => ("join", "the other side is computed in the engine", "the source does not join"),
            LogicalPlan::Union { .. } => {
                ("union", "another input is computed in the engine", "the source does not put rows together")
            }
            _ => return,
        };
        let gates: Vec<usize> = inputs.iter().filter_map(Built::gate).collect();
        let connections: BTreeSet<String> =
            gates.iter().map(|gate| self.gate_documents[*gate].connection.clone()).collect();
        let verdict = match connections.len() {
            _ if gates.len() < inputs.len() => Verdict::kept(KeptReason::BelowKept, note),
            1 => Verdict::kept(KeptReason::NoSuchAbility, together),
            _ => {
                let names: Vec<String> = connections.into_iter().collect();
                Verdict::kept(KeptReason::DifferentConnections, names.join(" and "))
            }
        };
        for gate in gates {
            self.note(gate, piece, plan.line(), verdict.clone());
        }
    }

    fn note(&mut self, gate: usize, piece: &str, text: String, verdict: Verdict) {
        self.gate_documents[gate].pieces.push(document::Piece { piece: piece.to_owned(), text, verdict });
    }

    /// A common result that is computed once, or the one request that makes it unnecessary.
    fn with(
        &mut self,
        plan: &Arc<LogicalPlan>,
        cuts: &[Cut],
        body_cut: &Cut,
        united: Option<usize>,
        needed: &BTreeSet<ColumnId>,
    ) -> Result<Built> {
        let LogicalPlan::With { definitions, body } = plan.as_ref() else {
            return Err(Error::internal("a common result of nothing"));
        };
        let united = united.filter(|united| self.offered[*united].is_taken_whole());
        let ways = united.map(|united| {
            let apart: f64 = definitions.iter().zip(cuts).map(|(d, cut)| self.cost(&d.plan, cut)).sum();
            let offered = &self.offered[united];
            let whole =
                (format!("each grouping reads again, in one request to {}", offered.origin.connection), offered.cost());
            (united, whole, ("read once, grouped in the engine".to_owned(), apart + self.cost(body, body_cut)))
        });
        let first = self.gates.len();
        let (built, ways) = match ways {
            Some((united, whole, apart)) if whole.1 <= apart.1 => (self.fragment(united)?, Some((whole, apart))),
            ways => {
                let mut nodes = Vec::new();
                for (definition, cut) in definitions.iter().zip(cuts) {
                    let columns = definition.plan.columns();
                    let built = self.with_columns(&definition.plan, cut, &columns)?;
                    let mut known = self.estimator.shared(&definition.plan).as_ref().clone();
                    known.rows = built.estimate.rows;
                    self.estimator.know(definition.id, known);
                    self.results.insert(definition.id, columns);
                    nodes.push(built.node);
                }
                let below = self.plan(body, body_cut, needed)?;
                let columns = below.node.columns.clone();
                let inputs = nodes.into_iter().chain([below.node]).collect();
                let operator = Operator::With { ids: definitions.iter().map(|d| d.id).collect() };
                let built = self.step(operator, columns, inputs, below.estimate);
                (built, ways.map(|(_, whole, apart)| (apart, whole)))
            }
        };
        if let Some((chosen, other)) = ways {
            let ways = [chosen, other].map(|(way, cost)| document::Alternative { way, cost });
            self.offer_document(first, ways.into());
        }
        Ok(built)
    }

    /// What a part of the plan costs, in rows touched, with the shapes that were chosen for its fragments.
    fn cost(&self, plan: &Arc<LogicalPlan>, cut: &Cut) -> f64 {
        let inputs = plan.inputs();
        let below: f64 = match cut {
            Cut::Fragment(offered) => return self.offered[*offered].cost(),
            Cut::Steps(cuts) => inputs.iter().zip(cuts).map(|(input, cut)| self.cost(input, cut)).sum(),
            Cut::With { definitions, body, .. } => {
                inputs.iter().zip(definitions.iter().chain([body.as_ref()])).map(|(i, cut)| self.cost(i, cut)).sum()
            }
        };
        let estimates: Vec<Arc<Estimate>> = inputs.iter().map(|input| self.estimator.shared(input)).collect();
        let estimates: Vec<&Estimate> = estimates.iter().map(AsRef::as_ref).collect();
        below + shapes::work(plan, &estimates, &self.estimator.shared(plan))
    }

    /// The plan as a step with exactly these of its columns, in this order: others read them by where they stand.
    fn with_columns(&mut self, plan: &Arc<LogicalPlan>, cut: &Cut, columns: &[Column]) -> Result<Built> {
        let built = self.plan(plan, cut, &columns.iter().map(|column| column.id).collect())?;
        Ok(self.in_order(built, columns))
    }

    fn in_order(&mut self, built: Built, columns: &[Column]) -> Built {
        if built.node.columns == columns {
            return built;
        }
        let same: Vec<_> = columns.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
        self.step(Operator::Project { columns: same }, columns.to_vec(), vec![built.node], built.estimate)
    }

    /// A fragment: its parts are gates, and what was kept of it steps above them.
    fn fragment(&mut self, number: usize) -> Result<Built> {
        let offered = &mut self.offered[number];
        let (fragment, ways) = (offered.fragment().clone(), offered.ways());
        let (mut answer, first) = (offered.take_answer()?, self.gates.len());
        let built = self.piece(number, &fragment, &mut answer, fragment.pieces.len() - 1)?;
        if ways.len() > 1 {
            self.offer_document(first, ways);
        }
        Ok(built)
    }

    /// Notes the shapes of what has become the gates from this one on.
    fn offer_document(&mut self, first: usize, mut ways: Vec<document::Alternative>) {
        let chosen = ways.remove(0);
        let gates = self.gates[first..].iter().map(|gate| gate.letter.clone()).collect();
        self.offers.push(OfferDocument { gates, chosen: chosen.way, cost: chosen.cost, alternatives: ways });
    }

    fn piece(&mut self, number: usize, fragment: &Fragment, answer: &mut Answer, top: usize) -> Result<Built> {
        if answer.part(top).is_some() {
            return self.gate(number, fragment, answer, top);
        }
        let piece = &fragment.pieces[top];
        // All conditions of a filter are one step.
        let mut lowest = top;
        if piece.is_filter() {
            lowest -= piece.condition;
        }
        let mut inputs = Vec::with_capacity(piece.inputs.len());
        for input in &fragment.pieces[lowest].inputs {
            inputs.push(self.piece(number, fragment, answer, *input)?);
        }
        let many = inputs.len() > 1;
        for place in lowest..=top {
            let Some((verdict, (name, text))) = answer.verdicts[place].clone().zip(fragment.pieces[place].words())
            else {
                continue;
            };
            for built in &inputs {
                // Work on rows of several sources is a matter of the gates themselves.
                if let Some(gate) = if many { built.gate() } else { built.gate_below } {
                    self.note(gate, name, text.clone(), verdict.clone());
                }
            }
        }
        let estimate = self.offered[number].estimates[top].clone();
        let needed = piece.needed.clone();
        self.operator(&piece.plan, &needed, inputs, estimate)
    }

    /// The gate of a part, and above it the conditions that the source did not take.
    fn gate(&mut self, number: usize, fragment: &Fragment, answer: &mut Answer, top: usize) -> Result<Built> {
        let offered = &self.offered[number];
        let (estimate, origin) = (offered.part_estimate(fragment, answer, top), offered.origin.clone());
        let kept = Offered::kept_conditions(fragment, answer, top);
        let above = offered.estimates[top].clone();
        let mut found = Found::default();
        found.add(fragment, answer, top);
        let Some(first) = found.first else { return Err(Error::internal("a gate without a table")) };
        let gate = self.gates.len();
        let letter = gate_letter(gate);
        let part = answer.take_part(top).ok_or_else(|| Error::internal("a gate without a part"))?;
        let (agreed, columns) = (part.agreed, part.columns);
        let estimated_rows = estimate.rows;
        self.rows_read.push(agreed.most_rows.map_or(estimated_rows, |most| most.max(estimated_rows)));
        let estimated_bytes = agreed.estimated_bytes.or(Some(estimated_rows * estimate.row_width(&columns)));
        let mut built = self.step(Operator::Gate { gate, ordered: found.ordered }, columns, vec![], estimate);
        if let Some(step) = self.steps.last_mut() {
            step.gate = Some(letter.clone());
            step.text = format!("gate {letter}: {}", found.tables.join(" + "));
        }
        self.gate_documents.push(GateDocument {
            gate: letter.clone(),
            step: built.node.step,
            connection: origin.connection,
            kind: origin.kind,
            region: origin.region,
            tables: found.tables,
            columns_read: agreed.columns_read,
            columns_total: found.columns_total,
            pieces: found.pieces,
            request: agreed.request,
            parts: agreed.parts,
            estimated_rows,
            estimated_bytes,
            measure: None,
        });
        self.gates.push(Gate { letter, spec: agreed.spec });
        self.tables.push(first);
        built.gate_below = Some(gate);
        if kept.is_empty() {
            return Ok(built);
        }
        let columns = built.node.columns.clone();
        let mut filtered = self.step(Operator::Filter { conjuncts: kept }, columns, vec![built.node], above);
        filtered.gate_below = Some(gate);
        Ok(filtered)
    }

    /// An operator as a step of the engine.
    fn operator(
        &mut self,
        plan: &Arc<LogicalPlan>,
        needed: &BTreeSet<ColumnId>,
        mut inputs: Vec<Built>,
        estimate: Arc<Estimate>,
    ) -> Result<Built> {
        let missing = || Error::internal(format!("{} without an input", plan.line()));
        match plan.as_ref() {
            LogicalPlan::Values { columns, rows } => {
                return Ok(self.step(Operator::Values { rows: rows.clone() }, columns.clone(), vec![], estimate));
            }
            LogicalPlan::Join(join) => {
                let (right, left) = (inputs.pop().ok_or_else(missing)?, inputs.pop().ok_or_else(missing)?);
                return Ok(self.engine_join(join, estimate, left, right));
            }
            LogicalPlan::Union { inputs: parts, columns } => {
                let nodes = parts.iter().zip(inputs).map(|(part, built)| self.in_order(built, &part.columns).node);
                let nodes = nodes.collect();
                return Ok(self.step(Operator::Union, columns.clone(), nodes, estimate));
            }
            _ => {}
        }
        let below = inputs.pop().ok_or_else(missing)?;
        let own = below.node.columns.clone();
        let (operator, columns, row_wise) = match plan.as_ref() {
            LogicalPlan::Filter { conjuncts, .. } => (Operator::Filter { conjuncts: conjuncts.clone() }, own, true),
            LogicalPlan::Project { columns, .. } => {
                let columns = computed(columns, needed, self.settings);
                let out = columns.iter().map(|(column, _)| column.clone()).collect();
                (Operator::Project { columns }, out, true)
            }
            LogicalPlan::Aggregate { groups, aggregates, .. } => {
                let operator = Operator::Aggregate { groups: groups.clone(), aggregates: aggregates.clone() };
                (operator, plan.columns(), false)
            }
            LogicalPlan::Sort { keys, fetch, .. } => (Operator::Sort { keys: keys.clone(), fetch: *fetch }, own, false),
            LogicalPlan::Limit { limit, offset, .. } => {
                (Operator::Limit { limit: *limit, offset: *offset }, own, false)
            }
            LogicalPlan::Window { partition, order, calls, .. } => {
                let columns = own.into_iter().chain(calls.iter().map(|(column, _)| column.clone())).collect();
                let (partition, order, calls) = (partition.clone(), order.clone(), calls.clone());
                (Operator::Window { partition, order, calls }, columns, false)
            }
            LogicalPlan::Expand { makers, outer, .. } => {
                let columns = own.into_iter().chain(makers.iter().flat_map(|maker| maker.columns.clone())).collect();
                (Operator::Expand { makers: makers.clone(), outer: *outer }, columns, false)
            }
            other => return Err(Error::internal(format!("{} is not one step", other.line()))),
        };
        let gate_below = below.gate_below.filter(|_| row_wise);
        let built = self.step(operator, columns, vec![below.node], estimate);
        Ok(Built { gate_below, ..built })
    }

    /// Asks the gates' sources whether keys would help them.
    async fn ask_for_keys(&mut self) -> Result<()> {
        let (gates, tables, sources) = (&self.gates, &self.tables, self.sources);
        let verdicts = self.asked_keys.iter().map(|asked| async move {
            if let Some(verdict) = &asked.verdict {
                return Ok(verdict.clone());
            }
            let KeyPass { gate, place, column, .. } = &asked.pass;
            let source = sources.at(&tables[*gate])?;
            source.takes_keys(&gates[*gate].spec, *place, column, asked.keys).await
        });
        let verdicts = try_join_all(verdicts).await?;
        for (asked, verdict) in std::mem::take(&mut self.asked_keys).into_iter().zip(verdicts) {
            let gate = asked.pass.gate;
            if matches!(verdict, Verdict::Prunes { .. }) {
                self.key_passes.push(asked.pass);
            }
            self.note(gate, "key pass", asked.text, verdict);
        }
        Ok(())
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

    fn finished(self, root: Arc<PhysicalNode>) -> Result<PhysicalPlan> {
        let document = PlanDocument {
            written: self.written,
            rewritten: self.rewritten.to_string(),
            steps: self.steps,
            gates: self.gate_documents,
            offers: self.offers,
            joins: self.joins,
            rewrites: self.trace,
            measures: None,
            phases: self.phases,
        };
        Ok(PhysicalPlan { root, gates: self.gates, key_passes: self.key_passes, sinks: vec![], document })
    }
}

/// What a gate has to say of its part.
#[derive(Default)]
struct Found {
    first: Option<TableKey>,
    tables: Vec<String>,
    columns_total: usize,
    pieces: Vec<document::Piece>,
    /// The rows come in an order that is part of the answer.
    ordered: bool,
}

impl Found {
    fn add(&mut self, fragment: &Fragment, answer: &Answer, top: usize) {
        let piece = &fragment.pieces[top];
        if let Some(scan) = piece.scan() {
            self.first.get_or_insert_with(|| scan.table.key());
            self.tables.push(scan.table.name.to_string());
            self.columns_total += scan.table.columns.len();
            return;
        }
        let mut inputs = piece.inputs.iter();
        if let (LogicalPlan::Join(_), Some(left)) = (piece.plan.as_ref(), inputs.next()) {
            self.add(fragment, answer, *left);
            self.piece(fragment, answer, top);
            inputs.for_each(|right| self.add(fragment, answer, *right));
        } else {
            piece.inputs.iter().for_each(|input| self.add(fragment, answer, *input));
            self.piece(fragment, answer, top);
        }
        match piece.plan.as_ref() {
            LogicalPlan::Sort { .. } => self.ordered = true,
            LogicalPlan::Filter { .. } | LogicalPlan::Project { .. } | LogicalPlan::Limit { .. } => {}
            _ => self.ordered = false,
        }
    }

    fn piece(&mut self, fragment: &Fragment, answer: &Answer, place: usize) {
        if let Some((verdict, (piece, text))) = answer.verdicts[place].clone().zip(fragment.pieces[place].words()) {
            self.pieces.push(document::Piece { piece: piece.to_owned(), text, verdict });
        }
    }
}
