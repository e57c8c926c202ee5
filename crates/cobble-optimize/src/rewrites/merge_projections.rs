//! `merge-projections`: two projections, one on the other, become one when nothing is computed twice by it.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_types::ColumnId;

use super::push_filters::substitute;
use super::{Context, Rewrite};
use cobble_plan::expr::Expr;
use cobble_plan::logical::LogicalPlan;

pub const REWRITE: Rewrite = Rewrite {
    name: "merge-projections",
    about: "makes one projection of two",
    concerns: |o| matches!(o, LogicalPlan::Project { input, .. } if matches!(input.as_ref(), LogicalPlan::Project { .. })),
    apply,
    needed: false,
};

fn apply(plan: &LogicalPlan, _: &Context) -> LogicalPlan {
    merge(plan)
}

fn merge(plan: &LogicalPlan) -> LogicalPlan {
    let plan = plan.map_inputs(&mut merge);
    let LogicalPlan::Project { input, columns } = &plan else { return plan };
    let LogicalPlan::Project { input: below, columns: inner } = input.as_ref() else { return plan };
    let sources: HashMap<ColumnId, &Expr> = inner.iter().map(|(c, e)| (c.id, e)).collect();
    let uses = |id: &ColumnId| columns.iter().map(|(_, e)| times_used(e, *id)).sum::<usize>();
    let cheap = |e: &Expr| matches!(e, Expr::Column(_) | Expr::Literal { .. });
    let safe = inner.iter().all(|(c, e)| cheap(e) || (!e.is_volatile() && uses(&c.id) <= 1));
    if !safe {
        return plan;
    }
    let columns = columns.iter().map(|(c, e)| (c.clone(), substitute(e, &sources))).collect();
    LogicalPlan::Project { input: Arc::clone(below), columns }
}

fn times_used(expr: &Expr, id: ColumnId) -> usize {
    let own = usize::from(matches!(expr, Expr::Column(c) if c.id == id));
    own + expr.children().into_iter().map(|child| times_used(child, id)).sum::<usize>()
}
