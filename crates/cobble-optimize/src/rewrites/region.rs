//! A region of inner joins, taken apart: its relations, in the order of the statement, and the conditions between them.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_types::ColumnId;

use cobble_plan::expr::Expr;
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan};

#[derive(Default)]
pub(super) struct Region {
    pub relations: Vec<Arc<LogicalPlan>>,
    pub conditions: Vec<Expr>,
}

impl Region {
    /// The largest region whose last join is this plan. A plan that is not an inner join is a region of one relation.
    pub(super) fn of(plan: &Arc<LogicalPlan>) -> Region {
        let mut region = Region::default();
        region.take_apart(plan);
        region
    }

    fn take_apart(&mut self, plan: &Arc<LogicalPlan>) {
        match plan.as_ref() {
            LogicalPlan::Join(join) if join.kind == JoinKind::Inner => {
                self.take_apart(&join.left);
                self.take_apart(&join.right);
                self.conditions.extend(join.on.iter().map(JoinKey::as_condition));
                self.conditions.extend(join.residual.iter().cloned());
            }
            _ => self.relations.push(plan.clone()),
        }
    }
}

/// One side of a join that is being made, with the columns that come out of it.
pub(super) type Side<'a> = (&'a Arc<LogicalPlan>, &'a BTreeSet<ColumnId>);

/// Two sides as one, with every condition that is decided by both together and by neither alone.
pub(super) fn inner_join((left, left_ids): Side, (right, right_ids): Side, conditions: &[Expr]) -> Join {
    let (mut on, mut residual) = (Vec::new(), Vec::new());
    for condition in conditions {
        let columns = condition.columns();
        let known = |id: &ColumnId| left_ids.contains(id) || right_ids.contains(id);
        if !columns.iter().all(known) || columns.is_subset(left_ids) || columns.is_subset(right_ids) {
            continue;
        }
        match JoinKey::of(condition, left_ids, right_ids) {
            Some(key) => on.push(key),
            None => residual.push(condition.clone()),
        }
    }
    Join { left: left.clone(), right: right.clone(), kind: JoinKind::Inner, on, residual, mark: None }
}

/// Whether a condition links the two sets of columns.
pub(super) fn is_link(condition: &Expr, left: &BTreeSet<ColumnId>, right: &BTreeSet<ColumnId>) -> bool {
    let columns = condition.columns();
    columns.iter().any(|id| left.contains(id)) && columns.iter().any(|id| right.contains(id))
}
