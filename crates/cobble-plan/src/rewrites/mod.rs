//! The rewrites: small named rules that turn a logical plan into an equivalent, cheaper one. The driver applies them in
//! order and keeps the plan before and after each: the trace is shown to the user. Each can be switched off by name.

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

pub use push_filters::as_join_key;

use std::cell::{Cell, RefCell};

use serde::{Deserialize, Serialize};

use cobble_types::{ColumnId, Result, SqlType};

use crate::document::JoinOrder;
use crate::estimate::{Estimate, Estimator};
use crate::expr::{Column, Expr};
use crate::logical::LogicalPlan;
use crate::settings::Settings;
use crate::verify::{Outer, verify};

/// Evaluates an expression without columns to a literal; the engine's own evaluation, lent to the planner.
pub type Fold = dyn Fn(&Expr) -> Option<Expr>;

pub struct Context<'a> {
    pub settings: &'a Settings,
    pub fold: &'a Fold,
    notes: RefCell<Vec<String>>,
    orders: RefCell<Vec<JoinOrder>>,
    last_id: Cell<u32>,
    /// What the common results of the plan at hand are estimated at; forgotten before each rule.
    estimator: RefCell<Estimator>,
}

impl<'a> Context<'a> {
    pub fn new(settings: &'a Settings, fold: &'a Fold) -> Self {
        Context {
            settings,
            fold,
            notes: RefCell::default(),
            orders: RefCell::default(),
            last_id: Cell::new(0),
            estimator: RefCell::default(),
        }
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

const FOLD_CONSTANTS: Rewrite = Rewrite {
    name: "fold-constants",
    about: "computes what needs no row, and drops conditions that are always true",
    concerns: |_| true,
    apply: fold_constants::apply,
    needed: false,
};
const DROP_EMPTY: Rewrite = Rewrite {
    name: "drop-empty",
    about: "computes nothing below a condition that is never true, and no common result that nothing reads",
    concerns: |o| {
        matches!(
            o,
            LogicalPlan::Filter { .. }
                | LogicalPlan::Limit { .. }
                | LogicalPlan::Sort { .. }
                | LogicalPlan::With { .. }
        )
    },
    apply: drop_empty::apply,
    needed: false,
};
const UNNEST_SUBQUERIES: Rewrite = Rewrite {
    name: "unnest-subqueries",
    about: "turns subqueries that use columns of the query around them into joins",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply: unnest_subqueries::apply,
    needed: true,
};
const FACTOR_CONDITIONS: Rewrite = Rewrite {
    name: "factor-conditions",
    about: "takes what all branches of an OR demand out of it",
    concerns: |o| matches!(o, LogicalPlan::Filter { .. } | LogicalPlan::Join(_)),
    apply: factor_conditions::apply,
    needed: false,
};
const STRENGTHEN_JOINS: Rewrite = Rewrite {
    name: "strengthen-joins",
    about: "makes outer joins inner ones where a condition drops the rows without a partner",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply: strengthen_joins::apply,
    needed: false,
};
const MERGE_PROJECTIONS: Rewrite = Rewrite {
    name: "merge-projections",
    about: "makes one projection of two",
    concerns: |o| matches!(o, LogicalPlan::Project { input, .. } if matches!(input.as_ref(), LogicalPlan::Project { .. })),
    apply: merge_projections::apply,
    needed: false,
};
const DROP_NEEDLESS: Rewrite = Rewrite {
    name: "drop-needless",
    about: "drops sorts that nobody sees, DISTINCT of rows that differ already, and joins that add nothing",
    concerns: |o| matches!(o, LogicalPlan::Sort { .. } | LogicalPlan::Aggregate { .. } | LogicalPlan::Join(_)),
    apply: drop_needless::apply,
    needed: false,
};
const PUSH_FILTERS: Rewrite = Rewrite {
    name: "push-filters",
    about: "moves conditions down to where their columns come from, and equalities into joins",
    concerns: |o| matches!(o, LogicalPlan::Filter { .. } | LogicalPlan::Join(_)),
    apply: push_filters::apply,
    needed: false,
};
const PUSH_SUBQUERIES: Rewrite = Rewrite {
    name: "push-subqueries",
    about: "looks up what a subquery says before other joins multiply the rows that ask for it",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply: push_subqueries::apply,
    needed: false,
};
const INFER_FILTERS: Rewrite = Rewrite {
    name: "infer-filters",
    about: "derives conditions on one side of a join from those on the other, through the join's equalities",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply: infer_filters::apply,
    needed: false,
};
const ORDER_JOINS: Rewrite = Rewrite {
    name: "order-joins",
    about: "puts inner joins in the order that the statistics say is cheapest",
    concerns: |o| matches!(o, LogicalPlan::Join(_)),
    apply: order_joins::apply,
    needed: false,
};
const SPLIT_AGGREGATES: Rewrite = Rewrite {
    name: "split-aggregates",
    about: "aggregates one side of a join in part before it is joined, where that leaves far fewer rows",
    concerns: |o| matches!(o, LogicalPlan::Aggregate { input, .. } if matches!(input.as_ref(), LogicalPlan::Join(_))),
    apply: split_aggregates::apply,
    needed: false,
};
const PUSH_LIMIT: Rewrite = Rewrite {
    name: "push-limit",
    about: "moves limits below projections and unions, and turns sort with limit into top-n",
    concerns: |o| matches!(o, LogicalPlan::Limit { .. } | LogicalPlan::Join(_)),
    apply: push_limit::apply,
    needed: false,
};
const PRUNE_COLUMNS: Rewrite = Rewrite {
    name: "prune-columns",
    about: "drops columns that nothing above uses",
    concerns: |_| true,
    apply: prune_columns::apply,
    needed: false,
};
const PRUNE_FIELDS: Rewrite = Rewrite {
    name: "prune-fields",
    about: "reads only those fields of nested columns that something uses",
    concerns: |o| matches!(o, LogicalPlan::Scan(_)),
    apply: prune_fields::apply,
    needed: false,
};

/// The order of application. A rule that makes work for an earlier one is followed by that one again.
const SEQUENCE: &[&Rewrite] = &[
    &FOLD_CONSTANTS,
    &DROP_EMPTY,
    &UNNEST_SUBQUERIES,
    &FACTOR_CONDITIONS,
    &STRENGTHEN_JOINS,
    &PUSH_FILTERS,
    &PUSH_SUBQUERIES,
    &INFER_FILTERS,
    &PUSH_FILTERS,
    &DROP_NEEDLESS,
    &MERGE_PROJECTIONS,
    &ORDER_JOINS,
    &SPLIT_AGGREGATES,
    &MERGE_PROJECTIONS,
    &PUSH_LIMIT,
    &PRUNE_COLUMNS,
    &PRUNE_FIELDS,
];

/// Each rewrite once, in order of first application.
pub const ALL: &[&Rewrite] = &[
    &FOLD_CONSTANTS,
    &DROP_EMPTY,
    &UNNEST_SUBQUERIES,
    &FACTOR_CONDITIONS,
    &STRENGTHEN_JOINS,
    &PUSH_FILTERS,
    &PUSH_SUBQUERIES,
    &INFER_FILTERS,
    &DROP_NEEDLESS,
    &MERGE_PROJECTIONS,
    &ORDER_JOINS,
    &SPLIT_AGGREGATES,
    &PUSH_LIMIT,
    &PRUNE_COLUMNS,
    &PRUNE_FIELDS,
];

/// Every name that `planner.off` takes: the rewrites, and the pieces of work that are offered without one.
pub fn names() -> Vec<&'static str> {
    let optional = ALL.iter().filter(|rewrite| !rewrite.needed);
    optional.map(|rewrite| rewrite.name).chain(crate::planner::OFFER_SWITCHES.iter().copied()).collect()
}

/// One application of one rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TraceEntry {
    pub rewrite: String,
    pub about: String,
    /// False when the rule found nothing to do; before and after are then left empty.
    pub changed: bool,
    /// True when the session has switched the rule off.
    pub switched_off: bool,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub before: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub after: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// What the ordering of joins has weighed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub orders: Vec<JoinOrder>,
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
        let changed = asked.then(|| (rewrite.apply)(&current, context));
        entry.notes = context.notes.take();
        entry.orders = context.orders.take();
        if rewrite.name == UNNEST_SUBQUERIES.name {
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
