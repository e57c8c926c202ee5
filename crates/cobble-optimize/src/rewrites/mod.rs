//! The rewrites: small named rules that turn a logical plan into an equivalent, cheaper one. The driver applies them in
//! order and keeps the plan before and after each: the trace is shown to the user. Each can be switched off by name.

mod contradictions;
mod drop_empty;
mod drop_needless;
mod factor_conditions;
mod fold_constants;
mod infer_filters;
mod merge_projections;
mod order_joins;
mod prune_columns;
mod prune_fields;
mod push_filters;
mod push_limit;
mod push_subqueries;
mod region;
mod split_aggregates;
mod strengthen_joins;
mod unnest_subqueries;
mod unwrap_casts;

use std::cell::{Cell, RefCell};
use std::time::{Duration, Instant};

use cobble_types::{ColumnId, Error, Result, SqlType};
use tokio_util::sync::CancellationToken;

use crate::estimate::{Estimate, Estimator};
use crate::settings::Settings;
use cobble_plan::document::{JoinOrder, TraceEntry};
use cobble_plan::expr::{Column, Fold};
use cobble_plan::logical::LogicalPlan;
use cobble_plan::verify::{Outer, verify};

pub struct Context<'a> {
    pub settings: &'a Settings,
    pub fold: &'a Fold,
    cancel: &'a CancellationToken,
    notes: RefCell<Vec<String>>,
    orders: RefCell<Vec<JoinOrder>>,
    last_id: Cell<u32>,
    /// What the common results of the plan at hand are estimated at; forgotten before each rule.
    estimator: RefCell<Estimator>,
    /// How long joins took to be ordered.
    ordering: Cell<Duration>,
}

impl<'a> Context<'a> {
    pub fn new(settings: &'a Settings, fold: &'a Fold, cancel: &'a CancellationToken) -> Self {
        Context {
            settings,
            fold,
            cancel,
            notes: RefCell::default(),
            orders: RefCell::default(),
            last_id: Cell::new(0),
            estimator: RefCell::default(),
            ordering: Cell::default(),
        }
    }

    /// How long joins took to be ordered, once all rules have been applied.
    pub fn ordering(&self) -> Duration {
        self.ordering.get()
    }

    /// An id that no column of the plan has.
    fn next_id(&self) -> ColumnId {
        self.last_id.set(self.last_id.get() + 1);
        ColumnId(self.last_id.get())
    }

    fn column(&self, name: &str, sql_type: SqlType) -> Column {
        Column { id: self.next_id(), qualifier: None, name: name.to_owned(), sql_type }
    }

    fn estimate(&self, plan: &LogicalPlan) -> Estimate {
        self.estimator.borrow().of(plan)
    }

    /// Adds a line to the trace of the rule that is running.
    fn note(&self, line: String) {
        self.notes.borrow_mut().push(line);
    }
}

pub struct Rewrite {
    pub name: &'static str,
    /// What it does, in one sentence.
    pub about: &'static str,
    /// Whether it may do something about an operator: without any such one in a plan it is not asked.
    concerns: fn(&LogicalPlan) -> bool,
    apply: fn(&LogicalPlan, &Context) -> LogicalPlan,
    /// Without it some plans cannot be run at all, so it cannot be switched off.
    needed: bool,
}

/// The order of application. A rule that makes work for an earlier one is followed by that one again.
const SEQUENCE: &[&Rewrite] = &[
    &fold_constants::REWRITE,
    &unwrap_casts::REWRITE,
    &drop_empty::REWRITE,
    &unnest_subqueries::REWRITE,
    &factor_conditions::REWRITE,
    &strengthen_joins::REWRITE,
    &push_filters::REWRITE,
    &push_subqueries::REWRITE,
    &infer_filters::REWRITE,
    &push_filters::REWRITE,
    &drop_empty::REWRITE,
    &drop_needless::REWRITE,
    &merge_projections::REWRITE,
    &order_joins::REWRITE,
    &split_aggregates::REWRITE,
    &merge_projections::REWRITE,
    &push_limit::REWRITE,
    &prune_columns::REWRITE,
    &prune_fields::REWRITE,
];

/// Each rewrite once, in order of first application.
pub fn all() -> Vec<&'static Rewrite> {
    let mut all: Vec<&Rewrite> = Vec::new();
    for rewrite in SEQUENCE {
        if all.iter().all(|known| known.name != rewrite.name) {
            all.push(rewrite);
        }
    }
    all
}

/// Every name that `planner.off` takes: the rewrites, and the pieces of work that are offered without one.
pub fn names() -> Vec<&'static str> {
    let optional = all().into_iter().filter(|rewrite| !rewrite.needed);
    optional.map(|rewrite| rewrite.name).chain(crate::planner::OFFER_SWITCHES.iter().copied()).collect()
}

fn any_operator(plan: &LogicalPlan, is_meant: fn(&LogicalPlan) -> bool) -> bool {
    is_meant(plan) || plan.inputs().into_iter().any(|input| any_operator(input, is_meant))
}

fn greatest_id(plan: &LogicalPlan) -> u32 {
    let own = plan.columns().iter().map(|column| column.id.0).max().unwrap_or(0);
    plan.inputs().into_iter().map(|input| greatest_id(input)).max().unwrap_or(0).max(own)
}

/// Applies every rule in order and returns the last plan with the trace. The plan is verified before the first rule and after
/// each: a rule that breaks it is an error, never another answer.
pub fn apply_all(plan: LogicalPlan, context: &Context) -> Result<(LogicalPlan, Vec<TraceEntry>)> {
    context.last_id.set(greatest_id(&plan).max(context.last_id.get()));
    verify(&plan, "binding", Outer::Allowed)?;
    let mut current = plan;
    let mut trace = Vec::new();
    let mut outer = Outer::Allowed;
    let mut text = current.to_string();
    for rewrite in SEQUENCE {
        if context.cancel.is_cancelled() {
            return Err(Error::cancelled());
        }
        let mut entry = TraceEntry {
            rewrite: rewrite.name.to_owned(),
            about: rewrite.about.to_owned(),
            changed: false,
            switched_off: !context.settings.is_on(rewrite.name),
            before: String::new(),
            after: String::new(),
            notes: Vec::new(),
            orders: Vec::new(),
        };
        context.estimator.take();
        let asked = !entry.switched_off && any_operator(&current, rewrite.concerns);
        let began = Instant::now();
        let changed = asked.then(|| (rewrite.apply)(&current, context));
        if rewrite.name == order_joins::REWRITE.name {
            context.ordering.set(context.ordering.get() + began.elapsed());
        }
        entry.notes = context.notes.take();
        entry.orders = context.orders.take();
        if rewrite.name == unnest_subqueries::REWRITE.name {
            outer = Outer::Gone;
        }
        if let Some(next) = changed {
            verify(&next, rewrite.name, outer)?;
            let after = next.to_string();
            if text != after {
                entry.changed = true;
                (entry.before, entry.after) = (text, after.clone());
                text = after;
            }
            current = next;
        }
        // A rule that stands twice in the sequence is listed again only when it changed something.
        if entry.changed || !trace.iter().any(|earlier: &TraceEntry| earlier.rewrite == entry.rewrite) {
            trace.push(entry);
        }
    }
    Ok((current, trace))
}
