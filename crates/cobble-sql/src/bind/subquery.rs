//! Binding of WHERE, with EXISTS and IN (SELECT …) among its conditions as semi and anti joins.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{Join, JoinKind, LogicalPlan};
use cobble_types::{Code, ColumnId, Error, Result};
use sqlparser::ast::{self, Spanned};

use super::from::{cross, split_keys};
use super::{Binder, Relation, position_of};
use crate::coerce::{binary, condition};

impl<'a> Binder<'a> {
    /// WHERE: conditions, with IN (SELECT …) and EXISTS among them as semi and anti joins.
    pub(super) fn filter(&mut self, mut relation: Relation, selection: &'a ast::Expr) -> Result<Relation> {
        let mut parts = Vec::new();
        written_conjuncts(selection, &mut parts);
        let mut conjuncts = Vec::new();
        let mut subqueries = Vec::new();
        for part in parts {
            match subquery_condition(part) {
                Some(subquery) => subqueries.push((part, subquery)),
                None => {
                    let bound = self.expr(part, &relation.scope)?;
                    condition(bound, "WHERE")
                        .map_err(|e| e.at(position_of(part.span())))?
                        .into_conjuncts(&mut conjuncts);
                }
            }
        }
        for scalar in std::mem::take(&mut self.scalars) {
            relation.plan = cross(relation.plan, scalar);
        }
        relation.plan = relation.plan.filtered(conjuncts);
        for (part, subquery) in subqueries {
            relation = self.semi_join(relation, subquery).map_err(|e| e.at(position_of(part.span())))?;
        }
        Ok(relation)
    }

    fn semi_join(&mut self, relation: Relation, condition: SubqueryCondition<'a>) -> Result<Relation> {
        let operand = match condition.operand {
            Some(written) => Some(self.expr(written, &relation.scope)?),
            None => None,
        };
        let left_ids = relation.plan.column_ids();
        self.outer.push(relation.scope.clone());
        self.lifted.push(Vec::new());
        let aggregates = self.aggregates.take();
        let bound = match operand {
            // EXISTS asks only whether there are rows: what is selected does not matter.
            None => self.exists_body(condition.query),
            Some(_) => self.query(condition.query),
        };
        self.aggregates = aggregates;
        let used_outer = self.lifted.pop().unwrap_or_default();
        self.outer.pop();
        let inner = bound?;
        let mut on = Vec::new();
        if let Some(operand) = operand {
            let columns = inner.plan.columns();
            let [column] = columns.as_slice() else {
                return Err(Error::new(
                    Code::Syntax,
                    format!("the subquery of IN must have one column, not {}", columns.len()),
                ));
            };
            let equal = binary(BinaryOp::Eq, operand, Expr::Column(column.clone()))?;
            match equal {
                Expr::Binary { left, right, .. } => on.push((*left, *right)),
                other => return Err(Error::internal(format!("an equality was bound to {other}"))),
            }
        }
        let (mut plan, lifted) =
            if used_outer.is_empty() { (inner.plan, Vec::new()) } else { lift(inner.plan, &left_ids) };
        let stays = |plan: &LogicalPlan| uses_any(plan, &left_ids);
        if stays(&plan) {
            return Err(Error::unsupported("this use of the outer query's columns in a subquery")
                .hint("conditions in the subquery's own WHERE may use them"));
        }
        let mut residual = Vec::new();
        if !lifted.is_empty() {
            // The conditions' inner columns must still come out of the subquery.
            let available = plan.column_ids();
            let inner_needed = lifted.iter().flat_map(|c| c.columns()).filter(|id| !left_ids.contains(id));
            if inner_needed.into_iter().any(|id| !available.contains(&id)) {
                plan = widen(plan);
            }
            let available = plan.column_ids();
            for conjunct in lifted {
                if conjunct.columns().iter().any(|id| !left_ids.contains(id) && !available.contains(id)) {
                    return Err(Error::unsupported("this use of the outer query's columns in a subquery"));
                }
                let (keys, rest) = split_keys(vec![conjunct], &relation.plan, &plan);
                on.extend(keys);
                residual.extend(rest);
            }
        }
        let null_aware = condition.negated && condition.operand.is_some();
        if null_aware && (on.len() > 1 || !residual.is_empty()) {
            return Err(Error::unsupported("NOT IN with a subquery that uses the outer query's columns")
                .hint("NOT EXISTS says the same without the trap of nulls"));
        }
        let kind = match (condition.negated, null_aware) {
            (false, _) => JoinKind::Semi,
            (true, false) => JoinKind::Anti,
            (true, true) => JoinKind::NullAwareAnti,
        };
        let plan = LogicalPlan::Join(Join { left: relation.plan.into(), right: plan.into(), kind, on, residual });
        Ok(Relation { plan, scope: relation.scope })
    }

    /// FROM and WHERE of a subquery of which only the existence of rows counts.
    fn exists_body(&mut self, query: &'a ast::Query) -> Result<Relation> {
        if let ast::SetExpr::Select(select) = query.body.as_ref()
            && query.with.is_none()
            && query.limit_clause.is_none()
            && query.fetch.is_none()
            && select.having.is_none()
            && matches!(&select.group_by, ast::GroupByExpr::Expressions(e, _) if e.is_empty())
            && !select.projection.iter().any(|item| item.to_string().contains('('))
        {
            let relation = self.from(&select.from)?;
            return match &select.selection {
                Some(selection) => self.filter(relation, selection),
                None => Ok(relation),
            };
        }
        self.query(query)
    }
}

struct SubqueryCondition<'a> {
    query: &'a ast::Query,
    operand: Option<&'a ast::Expr>,
    negated: bool,
}

fn subquery_condition(written: &ast::Expr) -> Option<SubqueryCondition<'_>> {
    match written {
        ast::Expr::Nested(inner) => subquery_condition(inner),
        ast::Expr::InSubquery { expr, subquery, negated } => {
            Some(SubqueryCondition { query: subquery, operand: Some(expr), negated: *negated })
        }
        ast::Expr::Exists { subquery, negated } => {
            Some(SubqueryCondition { query: subquery, operand: None, negated: *negated })
        }
        ast::Expr::UnaryOp { op: ast::UnaryOperator::Not, expr } => {
            subquery_condition(expr).map(|inner| SubqueryCondition { negated: !inner.negated, ..inner })
        }
        _ => None,
    }
}

fn written_conjuncts<'a>(written: &'a ast::Expr, into: &mut Vec<&'a ast::Expr>) {
    match written {
        ast::Expr::BinaryOp { left, op: ast::BinaryOperator::And, right } => {
            written_conjuncts(left, into);
            written_conjuncts(right, into);
        }
        ast::Expr::Nested(inner)
            if matches!(inner.as_ref(), ast::Expr::BinaryOp { op: ast::BinaryOperator::And, .. }) =>
        {
            written_conjuncts(inner, into);
        }
        other => into.push(other),
    }
}

/// Takes the conditions that use outer columns out of the filters at the top of a subquery.
fn lift(plan: LogicalPlan, outer: &std::collections::BTreeSet<ColumnId>) -> (LogicalPlan, Vec<Expr>) {
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let (lifted, kept): (Vec<_>, Vec<_>) =
                conjuncts.into_iter().partition(|c| c.columns().iter().any(|id| outer.contains(id)));
            let (inner, mut more) = lift(input.as_ref().clone(), outer);
            more.extend(lifted);
            (inner.filtered(kept), more)
        }
        LogicalPlan::Project { input, columns } => {
            let (inner, lifted) = lift(input.as_ref().clone(), outer);
            (LogicalPlan::Project { input: inner.into(), columns }, lifted)
        }
        other => (other, Vec::new()),
    }
}

/// Lets a projection pass on the columns below it as well.
fn widen(plan: LogicalPlan) -> LogicalPlan {
    match plan {
        LogicalPlan::Project { input, mut columns } => {
            columns.extend(input.columns().into_iter().map(|column| (column.clone(), Expr::Column(column))));
            LogicalPlan::Project { input, columns }
        }
        other => other,
    }
}

fn uses_any(plan: &LogicalPlan, ids: &std::collections::BTreeSet<ColumnId>) -> bool {
    let mut found = false;
    plan.map_expressions(&mut |expr| {
        found |= expr.columns().iter().any(|id| ids.contains(id));
        expr.clone()
    });
    found || plan.inputs().into_iter().any(|input| uses_any(input, ids))
}
