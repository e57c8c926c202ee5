//! Cuts a plan into fragments: the largest parts that lie in one connection. What is above them are steps of the engine.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::{Fragment, Piece};
use cobble_plan::logical::{CteDefinition, LogicalPlan, Origin, Table, UnionInput};
use cobble_plan::offer::{KeptReason, Sources, Verdict};
use cobble_types::{ColumnId, Result};

use crate::estimate::{Estimate, Estimator};
use crate::settings::Settings;

use super::shapes::{Goal, Offered};

/// Rows up to which an order without a limit is left to the source.
const MOST_SORTED: f64 = 100_000.0;

/// What becomes of an operator: the same tree as the plan, down to its fragments.
pub enum Cut {
    /// The whole subtree is offered, under this number.
    Fragment(usize),
    /// A step of the engine over these inputs.
    Steps(Vec<Cut>),
    /// A common table expression is computed once for its readers, or offered as one fragment where each reader computes it.
    With { definitions: Vec<Cut>, body: Box<Cut>, united: Option<usize> },
}

pub struct Cutter<'a> {
    pub settings: &'a Settings,
    pub sources: &'a Sources,
    pub estimator: &'a Estimator,
    pub goal: Goal,
    pub offered: Vec<Offered>,
}

impl Cutter<'_> {
    pub fn cut(&mut self, plan: &Arc<LogicalPlan>, needed: &BTreeSet<ColumnId>) -> Result<Cut> {
        if let Some(origin) = self.connection(plan)? {
            return Ok(Cut::Fragment(self.fragment(plan, needed, origin)));
        }
        let wanted = inputs_needed(plan, needed, self.settings);
        if let LogicalPlan::With { definitions, body } = plan.as_ref() {
            // What is read by several can be estimated by itself from here on.
            self.estimator.enter(plan);
            // Several groupings of the same rows are one statement where all of it is handed over.
            let united = match reading_anew(definitions, body).filter(|_| self.settings.is_on("offer-unions")) {
                Some(united) => {
                    let united = Arc::new(united);
                    self.connection(&united)?.map(|origin| self.fragment(&united, needed, origin))
                }
                None => None,
            };
            let mut inputs = Vec::with_capacity(wanted.len());
            for (input, wanted) in plan.inputs().into_iter().zip(&wanted) {
                inputs.push(self.cut(input, wanted)?);
            }
            let body = Box::new(inputs.pop().unwrap_or(Cut::Steps(vec![])));
            return Ok(Cut::With { definitions: inputs, body, united });
        }
        if matches!(plan.as_ref(), LogicalPlan::Recursive { .. }) {
            self.estimator.enter(plan);
        }
        let inputs = plan.inputs().into_iter().zip(&wanted).map(|(input, wanted)| self.cut(input, wanted));
        Ok(Cut::Steps(inputs.collect::<Result<_>>()?))
    }

    /// Where the subtree's tables are from, when it can be offered as a whole.
    fn connection(&self, plan: &LogicalPlan) -> Result<Option<Origin>> {
        let mut tables = Vec::new();
        if !tables_of(plan, &mut tables) {
            return Ok(None);
        }
        let Some(first) = tables.first() else { return Ok(None) };
        let alike = tables.iter().all(|table| table.origin.connection == first.origin.connection);
        if !alike || (tables.len() > 1 && !self.reads_together(&tables)?) {
            return Ok(None);
        }
        Ok(Some(first.origin.clone()))
    }

    fn reads_together(&self, tables: &[&Table]) -> Result<bool> {
        for table in tables {
            if !self.sources.of(table)?.reads_together() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn fragment(&mut self, plan: &Arc<LogicalPlan>, needed: &BTreeSet<ColumnId>, origin: Origin) -> usize {
        let mut flat = Flat { cutter: self, pieces: Vec::new(), estimates: Vec::new() };
        flat.add(plan, needed);
        let Flat { pieces, estimates, .. } = flat;
        self.offered.push(Offered::new(Fragment { pieces }.into(), estimates, origin, self.goal));
        self.offered.len() - 1
    }
}

/// The tables of a plan, if sources can be asked for all of its operators.
fn tables_of<'a>(plan: &'a LogicalPlan, tables: &mut Vec<&'a Table>) -> bool {
    match plan {
        LogicalPlan::Scan(scan) => tables.push(&scan.table),
        LogicalPlan::Values { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::With { .. }
        | LogicalPlan::CteScan { .. }
        | LogicalPlan::Recursive { .. } => return false,
        _ => {}
    }
    plan.inputs().into_iter().all(|input| tables_of(input, tables))
}

/// The columns that an operator needs of each of its inputs, when these of its own are needed.
pub fn inputs_needed(plan: &LogicalPlan, needed: &BTreeSet<ColumnId>, settings: &Settings) -> Vec<BTreeSet<ColumnId>> {
    let and = |expressions: &mut dyn Iterator<Item = &Expr>| {
        let mut used = needed.clone();
        expressions.for_each(|expr| expr.collect_columns(&mut used));
        used
    };
    let without = |own: &mut dyn Iterator<Item = &Column>, expressions: &mut dyn Iterator<Item = &Expr>| {
        let own: BTreeSet<ColumnId> = own.map(|column| column.id).collect();
        let mut used: BTreeSet<ColumnId> = needed.difference(&own).copied().collect();
        expressions.for_each(|expr| expr.collect_columns(&mut used));
        used
    };
    let ids = |columns: &[Column]| columns.iter().map(|column| column.id).collect::<BTreeSet<_>>();
    match plan {
        LogicalPlan::Scan(_) | LogicalPlan::Values { .. } | LogicalPlan::CteScan { .. } => vec![],
        LogicalPlan::Filter { conjuncts, .. } => vec![and(&mut conjuncts.iter())],
        LogicalPlan::Project { columns, .. } => {
            vec![ids_of(computed(columns, needed, settings).iter().map(|(_, expr)| expr))]
        }
        LogicalPlan::Join(join) => vec![and(&mut join.expressions()); 2],
        LogicalPlan::Aggregate { groups, aggregates, .. } => {
            let keys = groups.iter().map(|(_, expr)| expr);
            vec![ids_of(keys.chain(aggregates.iter().flat_map(|(_, call)| call.expressions())))]
        }
        LogicalPlan::Sort { keys, .. } => vec![and(&mut keys.iter().map(|key| &key.expr))],
        LogicalPlan::Limit { .. } => vec![needed.clone()],
        LogicalPlan::Window { calls, .. } => {
            vec![without(&mut calls.iter().map(|(column, _)| column), &mut plan.expressions().into_iter())]
        }
        LogicalPlan::Expand { makers, .. } => vec![without(
            &mut makers.iter().flat_map(|maker| &maker.columns),
            &mut makers.iter().flat_map(|maker| &maker.arguments),
        )],
        LogicalPlan::Union { inputs, .. } => inputs.iter().map(|input| ids(&input.columns)).collect(),
        LogicalPlan::With { definitions, .. } => {
            definitions.iter().map(|definition| definition.plan.column_ids()).chain([needed.clone()]).collect()
        }
        LogicalPlan::Recursive { base, step, .. } => vec![ids(&base.columns), ids(&step.columns)],
    }
}

/// The columns of a projection that are computed.
pub fn computed(columns: &[(Column, Expr)], needed: &BTreeSet<ColumnId>, settings: &Settings) -> Vec<(Column, Expr)> {
    let all = !settings.is_on("prune-columns");
    columns.iter().filter(|(column, _)| all || needed.contains(&column.id)).cloned().collect()
}

fn ids_of<'a>(expressions: impl IntoIterator<Item = &'a Expr>) -> BTreeSet<ColumnId> {
    let mut ids = BTreeSet::new();
    expressions.into_iter().for_each(|expr| expr.collect_columns(&mut ids));
    ids
}

/// A fragment while its pieces are put in a row.
struct Flat<'a, 'b> {
    cutter: &'a Cutter<'b>,
    pieces: Vec<Piece>,
    estimates: Vec<Arc<Estimate>>,
}

impl Flat<'_, '_> {
    /// Adds a subtree, and gives the number of its last piece.
    fn add(&mut self, plan: &Arc<LogicalPlan>, needed: &BTreeSet<ColumnId>) -> usize {
        let settings = self.cutter.settings;
        let estimate = self.cutter.estimator.shared(plan);
        let wanted = inputs_needed(plan, needed, settings);
        let inputs: Vec<usize> =
            plan.inputs().into_iter().zip(&wanted).map(|(input, wanted)| self.add(input, wanted)).collect();
        let below =
            |place: usize| inputs.get(place).map(|input| self.pieces[*input].columns.clone()).unwrap_or_default();
        let columns = match plan.as_ref() {
            LogicalPlan::Filter { .. } | LogicalPlan::Sort { .. } | LogicalPlan::Limit { .. } => below(0),
            LogicalPlan::Join(join) => join.output(below(0), below(1)),
            LogicalPlan::Window { calls, .. } => {
                below(0).into_iter().chain(calls.iter().map(|(column, _)| column.clone())).collect()
            }
            LogicalPlan::Project { columns, .. } => {
                computed(columns, needed, settings).into_iter().map(|(column, _)| column).collect()
            }
            other => other.columns(),
        };
        let needed: BTreeSet<ColumnId> = match settings.is_on("prune-columns") {
            true => needed.clone(),
            false => columns.iter().map(|column| column.id).collect(),
        };
        let plan = match plan.as_ref() {
            LogicalPlan::Project { input, columns } => {
                let columns = computed(columns, &needed, settings);
                Arc::new(LogicalPlan::Project { input: input.clone(), columns })
            }
            _ => plan.clone(),
        };
        let withheld = self.withheld(&plan, &inputs);
        let conditions = match plan.as_ref() {
            LogicalPlan::Filter { conjuncts, .. } => conjuncts.len(),
            _ => 1,
        };
        let mut inputs = inputs;
        for condition in 0..conditions {
            self.pieces.push(Piece {
                plan: plan.clone(),
                condition,
                inputs: std::mem::take(&mut inputs),
                columns: columns.clone(),
                needed: needed.clone(),
                withheld: withheld.clone(),
            });
            self.estimates.push(estimate.clone());
            inputs = vec![self.pieces.len() - 1];
        }
        // A filter without conditions is its input.
        inputs.first().copied().unwrap_or_default()
    }

    /// Why a piece is not offered, if so.
    fn withheld(&self, plan: &LogicalPlan, inputs: &[usize]) -> Option<Verdict> {
        let switch = match plan {
            LogicalPlan::Filter { .. } => "push-filters",
            LogicalPlan::Join(_) => "offer-joins",
            LogicalPlan::Aggregate { .. } => "offer-aggregates",
            LogicalPlan::Sort { fetch: Some(_), .. } => "offer-top-n",
            LogicalPlan::Sort { .. } => "offer-sorts",
            LogicalPlan::Limit { .. } => "push-limit",
            LogicalPlan::Window { .. } => "offer-windows",
            LogicalPlan::Union { .. } => "offer-unions",
            _ => return None,
        };
        if !self.cutter.settings.is_on(switch) {
            return Some(Verdict::kept(KeptReason::SwitchedOff, format!("{switch} is off")));
        }
        let rows = inputs.first().map_or(0.0, |input| self.estimates[*input].rows);
        let all_cross = matches!(plan, LogicalPlan::Sort { fetch: None, .. }) && rows > MOST_SORTED;
        all_cross.then(|| {
            let note = "all rows cross in any case, and are read in portions where they need no order";
            Verdict::kept(KeptReason::NotWorthIt, note)
        })
    }
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
