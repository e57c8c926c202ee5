//! Subqueries in expressions and conditions. Each becomes a join: EXISTS and IN among the conditions of WHERE as semi and
//! anti joins, anywhere else as a join that adds a truth value or the one value that was found.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, Mark};
use cobble_plan::{AggregateCall, AggregateFunction};
use cobble_types::{Code, Error, Result, SqlType};
use sqlparser::ast::{self, Spanned};

use super::operator::compare_rows;
use super::pattern::Comparison;
use super::scope::Scope;
use super::{Binder, OuterQuery, Pending, Relation, position_of};
use crate::coerce::condition;

impl<'a> Binder<'a> {
    /// WHERE, with IN (SELECT …) and EXISTS among its conditions as semi and anti joins.
    pub(super) fn filter(&mut self, mut relation: Relation, selection: &'a ast::Expr) -> Result<Relation> {
        let mut parts = Vec::new();
        written_conjuncts(selection, &mut parts);
        let (mut conjuncts, mut subqueries) = (Vec::new(), Vec::new());
        let before = self.pending.len();
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
        relation.plan = self.attach_pending(relation.plan, before).filtered(conjuncts);
        for (part, subquery) in subqueries {
            relation = self.semi_join(relation, subquery).map_err(|e| e.at(position_of(part.span())))?;
        }
        Ok(relation)
    }

    fn semi_join(&mut self, mut relation: Relation, written: SubqueryCondition<'a>) -> Result<Relation> {
        let before = self.pending.len();
        let operands = match written.operand {
            Some(operand) => self.row(operand, &relation.scope)?,
            None => vec![],
        };
        relation.plan = self.attach_pending(relation.plan, before);
        let inner = match written.operand {
            // EXISTS asks only whether there are rows: what is selected does not matter.
            None => self.within(&relation.scope, |binder| binder.exists_body(written.query))?,
            Some(_) => self.within(&relation.scope, |binder| binder.query(written.query))?,
        };
        let compared = compared(Comparison::Order(BinaryOp::Eq), operands, &inner)?;
        let uses_outer = !inner.plan.free_columns().is_disjoint(&relation.plan.column_ids());
        let exists = written.operand.is_none();
        if written.negated && !exists && (uses_outer || compared.len() > 1) {
            // NOT IN whose answer may be unknown for reasons of its own in each row.
            let mark = self.new_column(None, "in", SqlType::Boolean);
            let pending = Pending {
                plan: inner.plan,
                mark: Some(Mark { column: mark.clone(), compare: compared, of_key: false }),
            };
            let plan = pending.attached(relation.plan).filtered(vec![Expr::Not(Box::new(Expr::Column(mark)))]);
            return Ok(Relation { plan, scope: relation.scope });
        }
        let kind = match (written.negated, exists) {
            (false, _) => JoinKind::Semi,
            (true, true) => JoinKind::Anti,
            (true, false) => JoinKind::NullAwareAnti,
        };
        let mut on = Vec::new();
        for equal in compared {
            match equal {
                Expr::Binary { left, right, .. } => on.push(JoinKey::plain(*left, *right)),
                other => return Err(Error::internal(format!("an equality was bound to {other}"))),
            }
        }
        let plan = LogicalPlan::Join(Join { on, ..Join::new(relation.plan, inner.plan, kind) });
        Ok(Relation { plan, scope: relation.scope })
    }

    /// Binds something that stands inside an expression over this scope.
    pub(super) fn within<T>(&mut self, scope: &Scope, bind: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        let pending = std::mem::take(&mut self.pending);
        let keeps_open = std::mem::take(&mut self.keeps_open);
        let select = self.select.take();
        self.outer.push(OuterQuery { scope: scope.clone(), select });
        let bound = bind(self);
        self.select = self.outer.pop().and_then(|outer| outer.select);
        self.keeps_open = keeps_open;
        self.pending = pending;
        bound
    }

    /// Binds the arguments of something in FROM, over what stands before it there, with the one row that they are computed of: the
    /// subqueries in them are joined to it.
    pub(super) fn arguments_within<T>(
        &mut self,
        before: &Scope,
        bind: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<(T, LogicalPlan)> {
        let one_row = LogicalPlan::Values { columns: vec![], rows: vec![vec![]] };
        self.within(before, |binder| {
            let bound = bind(binder)?;
            Ok((bound, binder.attach_pending(one_row, 0)))
        })
    }

    /// One value or the parts of a row value.
    pub(super) fn row(&mut self, written: &'a ast::Expr, scope: &Scope) -> Result<Vec<Expr>> {
        match written {
            ast::Expr::Tuple(parts) => parts.iter().map(|part| self.expr(part, scope)).collect(),
            ast::Expr::Nested(inner) => self.row(inner, scope),
            ast::Expr::Function(call) if call.name.to_string().eq_ignore_ascii_case("row") => match &call.args {
                ast::FunctionArguments::List(list) => {
                    let mut all = Vec::new();
                    for argument in &list.args {
                        match argument {
                            ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) => all.push(self.expr(e, scope)?),
                            other => return Err(Error::unsupported(format_args!("{other} in a row"))),
                        }
                    }
                    Ok(all)
                }
                _ => Err(Error::unsupported("this row")),
            },
            ast::Expr::Subquery(query) => self.single_row(query, scope),
            other => Ok(vec![self.expr(other, scope)?]),
        }
    }

    /// The columns of a subquery that gives at most one row.
    pub(super) fn single_row(&mut self, query: &'a ast::Query, scope: &Scope) -> Result<Vec<Expr>> {
        let relation = self.within(scope, |binder| binder.query(query))?;
        let columns = relation.scope.columns.iter().map(|c| Expr::Column(c.column.clone())).collect();
        self.pending.push(Pending { plan: relation.plan, mark: None });
        Ok(columns)
    }

    /// `(SELECT …)` as a value.
    pub(super) fn scalar_subquery(&mut self, query: &'a ast::Query, scope: &Scope) -> Result<Expr> {
        let mut columns = self.single_row(query, scope)?;
        match columns.len() {
            1 => Ok(columns.remove(0)),
            many => {
                Err(Error::new(Code::Syntax, format!("a subquery used as a value must have one column, not {many}")))
            }
        }
    }

    /// `ARRAY(SELECT …)`: all rows of the subquery as one value, an empty array when there is none.
    pub(super) fn array_of_rows(&mut self, query: &'a ast::Query, scope: &Scope) -> Result<Expr> {
        let relation = self.within(scope, |binder| binder.query(query))?;
        let [column] = relation.scope.columns.as_slice() else {
            return Err(Error::new(Code::Syntax, "the subquery of ARRAY must have one column"));
        };
        let value = Expr::Column(column.column.clone());
        // The order that the subquery asks for is the order of the array.
        let (order, value) = match &relation.plan {
            LogicalPlan::Sort { keys, .. } => (keys.clone(), value),
            LogicalPlan::Project { input, columns } => {
                match (input.as_ref(), columns.iter().find(|(c, _)| *c == column.column)) {
                    (LogicalPlan::Sort { keys, .. }, Some((_, inner))) => (keys.clone(), inner.clone()),
                    _ => (vec![], value),
                }
            }
            _ => (vec![], value),
        };
        let input = match relation.plan {
            LogicalPlan::Project { input, .. } if !order.is_empty() => input.as_ref().clone(),
            other => other,
        };
        let call = AggregateCall::plain(AggregateFunction::ArrayAgg, vec![value])
            .ok_or_else(|| Error::internal("an array of nothing"))?;
        let sql_type = call.sql_type.clone();
        let collected = self.new_column(None, "array", sql_type);
        let plan = LogicalPlan::Aggregate {
            input: input.into(),
            groups: vec![],
            aggregates: vec![(collected.clone(), AggregateCall { order, ..call })],
        };
        self.pending.push(Pending { plan, mark: None });
        let empty = crate::function::call(Function::MakeArray, vec![])?.cast(collected.sql_type.clone());
        crate::function::call(Function::Coalesce, vec![Expr::Column(collected), empty])
    }

    /// `EXISTS (SELECT …)` as a value.
    pub(super) fn exists(&mut self, query: &'a ast::Query, negated: bool, scope: &Scope) -> Result<Expr> {
        let relation = self.within(scope, |binder| binder.exists_body(query))?;
        Ok(self.marked("exists", relation, vec![], negated))
    }

    /// `row op ANY (SELECT …)` as a value; IN is `= ANY`.
    pub(super) fn any(
        &mut self,
        comparison: Comparison,
        left: &'a ast::Expr,
        query: &'a ast::Query,
        negated: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        let operands = self.row(left, scope)?;
        let relation = self.within(scope, |binder| binder.query(query))?;
        let compare = compared(comparison, operands, &relation)?;
        Ok(self.marked("any", relation, compare, negated))
    }

    fn marked(&mut self, name: &str, relation: Relation, compare: Vec<Expr>, negated: bool) -> Expr {
        let column = self.new_column(None, name, SqlType::Boolean);
        let mark = Mark { column: column.clone(), compare, of_key: false };
        self.pending.push(Pending { plan: relation.plan, mark: Some(mark) });
        let value = Expr::Column(column);
        if negated { Expr::Not(Box::new(value)) } else { value }
    }

    /// FROM and WHERE of a subquery; only whether it has rows matters.
    fn exists_body(&mut self, query: &'a ast::Query) -> Result<Relation> {
        if let ast::SetExpr::Select(select) = query.body.as_ref()
            && query.with.is_none()
            && query.limit_clause.is_none()
            && query.fetch.is_none()
            && select.having.is_none()
            && select.qualify.is_none()
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

/// Each operand compared with the subquery's column of the same place.
fn compared(comparison: Comparison, operands: Vec<Expr>, inner: &Relation) -> Result<Vec<Expr>> {
    if operands.is_empty() {
        return Ok(vec![]);
    }
    let columns = &inner.scope.columns;
    if columns.len() != operands.len() {
        let wanted = if operands.len() == 1 { "one column".to_owned() } else { format!("{} columns", operands.len()) };
        return Err(Error::new(
            Code::Syntax,
            format!("the subquery of this comparison must have {wanted}, not {}", columns.len()),
        ));
    }
    if operands.len() > 1 {
        let values = columns.iter().map(|c| Expr::Column(c.column.clone())).collect();
        return match comparison {
            // A condition for each place, so that the rows can be found by their keys.
            Comparison::Order(BinaryOp::Eq) => {
                operands.into_iter().zip(values).map(|(operand, value)| comparison.apply(operand, value)).collect()
            }
            Comparison::Order(op) => Ok(vec![compare_rows(op, operands, values)?]),
            _ => Err(Error::new(Code::UnknownFunction, "LIKE and its kin compare texts, not rows")),
        };
    }
    operands
        .into_iter()
        .zip(columns)
        .map(|(operand, c)| comparison.apply(operand, Expr::Column(c.column.clone())))
        .collect()
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
        ast::Expr::AnyOp { left, compare_op: ast::BinaryOperator::Eq, right, .. } => match right.as_ref() {
            ast::Expr::Subquery(query) => Some(SubqueryCondition { query, operand: Some(left), negated: false }),
            _ => None,
        },
        ast::Expr::AllOp { left, compare_op: ast::BinaryOperator::NotEq, right } => match right.as_ref() {
            ast::Expr::Subquery(query) => Some(SubqueryCondition { query, operand: Some(left), negated: true }),
            _ => None,
        },
        ast::Expr::UnaryOp { op: ast::UnaryOperator::Not, expr } => {
            subquery_condition(expr).map(|inner| SubqueryCondition { negated: !inner.negated, ..inner })
        }
        _ => None,
    }
}

pub(super) fn written_conjuncts<'a>(written: &'a ast::Expr, into: &mut Vec<&'a ast::Expr>) {
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
