//! Binding of whole queries: WITH, set operations, VALUES, and ORDER BY and LIMIT around them.

use std::sync::Arc;

use cobble_plan::expr::{Column, Expr};
use cobble_plan::function::wider_type;
use cobble_plan::logical::LogicalPlan;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::{Scope, ScopeColumn};
use super::select::Item;
use super::{Binder, Cte, Relation, folded, position_of};
use crate::coerce::{coerce, unify_all};

impl<'a> Binder<'a> {
    pub(super) fn query(&mut self, query: &'a ast::Query) -> Result<Relation> {
        if let Some(unsupported) = [
            (!query.locks.is_empty()).then_some("FOR UPDATE"),
            query.for_clause.is_some().then_some("FOR XML and FOR JSON"),
            (!query.pipe_operators.is_empty()).then_some("a pipe operator"),
        ]
        .into_iter()
        .flatten()
        .next()
        {
            return Err(Error::unsupported(unsupported));
        }
        let visible = self.ctes.len();
        if let Some(with) = &query.with {
            if with.recursive {
                return Err(Error::unsupported("WITH RECURSIVE").at(position_of(with.span())));
            }
            for cte in &with.cte_tables {
                let columns = cte.alias.columns.iter().map(|c| folded(&c.name)).collect();
                self.ctes.push(Cte { name: folded(&cte.alias.name), columns, query: &cte.query });
            }
        }
        let keys: &'a [ast::OrderByExpr] = match query.order_by.as_ref().map(|o| &o.kind) {
            None => &[],
            Some(ast::OrderByKind::Expressions(keys)) => keys,
            Some(ast::OrderByKind::All(_)) => return Err(Error::unsupported("ORDER BY ALL")),
        };
        let relation = match query.body.as_ref() {
            ast::SetExpr::Select(select) => self.select(select, keys)?,
            body => {
                let relation = self.set_expr(body)?;
                self.sorted_output(relation, keys)?
            }
        };
        let relation = self.limited(relation, query)?;
        self.ctes.truncate(visible);
        Ok(relation)
    }

    fn set_expr(&mut self, body: &'a ast::SetExpr) -> Result<Relation> {
        match body {
            ast::SetExpr::Select(select) => self.select(select, &[]),
            ast::SetExpr::Query(query) => self.query(query),
            ast::SetExpr::Values(values) => self.values(values),
            ast::SetExpr::SetOperation { op: ast::SetOperator::Union, set_quantifier, left, right } => {
                let all = match set_quantifier {
                    ast::SetQuantifier::All => true,
                    ast::SetQuantifier::None | ast::SetQuantifier::Distinct => false,
                    other => return Err(Error::unsupported(format_args!("UNION {other}"))),
                };
                let left = self.set_expr(left)?;
                let right = self.set_expr(right)?;
                let union = self.union(left, right)?;
                Ok(if all { union } else { distinct(union) })
            }
            ast::SetExpr::SetOperation { op, .. } => Err(Error::unsupported(op)),
            other => Err(Error::unsupported(format_args!("the query {other}"))),
        }
    }

    fn union(&mut self, left: Relation, right: Relation) -> Result<Relation> {
        let (l, r) = (left.plan.columns(), right.plan.columns());
        if l.len() != r.len() {
            return Err(Error::new(
                Code::Syntax,
                format!("the sides of UNION have {} and {} columns", l.len(), r.len()),
            ));
        }
        let mut types = Vec::new();
        for (a, b) in l.iter().zip(&r) {
            types.push(wider_type(&a.sql_type, &b.sql_type).ok_or_else(|| {
                Error::new(
                    Code::TypeMismatch,
                    format!("UNION cannot bring {} and {} together in column \"{}\"", a.sql_type, b.sql_type, a.name),
                )
            })?);
        }
        let columns: Vec<Column> =
            l.iter().zip(&types).map(|(column, t)| self.new_column(None, column.name.clone(), t.clone())).collect();
        let mut side = |plan: LogicalPlan| {
            let own = plan.columns();
            let converted = own
                .into_iter()
                .zip(&types)
                .map(|(c, t)| (self.new_column(None, c.name.clone(), t.clone()), Expr::Column(c).cast(t.clone())))
                .collect();
            Arc::new(LogicalPlan::Project { input: plan.into(), columns: converted })
        };
        let inputs = vec![side(left.plan), side(right.plan)];
        let scope = scope_of(&columns);
        Ok(Relation { plan: LogicalPlan::Union { inputs, columns }, scope })
    }

    fn values(&mut self, values: &'a ast::Values) -> Result<Relation> {
        let mut rows: Vec<Vec<Expr>> = Vec::new();
        for row in &values.rows {
            let bound = row.content.iter().map(|e| self.expr(e, &Scope::default())).collect::<Result<Vec<_>>>()?;
            if rows.first().is_some_and(|first| first.len() != bound.len()) {
                return Err(Error::new(Code::Syntax, "the rows of VALUES must have the same number of columns"));
            }
            rows.push(bound);
        }
        let width = rows.first().map_or(0, Vec::len);
        let mut columns = Vec::new();
        for place in 0..width {
            let (coerced, common) = unify_all(rows.iter().map(|row| row[place].clone()).collect(), "VALUES")?;
            rows.iter_mut().zip(coerced).for_each(|(row, value)| row[place] = value);
            columns.push(self.new_column(None, format!("column{}", place + 1), common));
        }
        let scope = scope_of(&columns);
        Ok(Relation { plan: LogicalPlan::Values { columns, rows }, scope })
    }

    /// ORDER BY after a set operation: only the result's columns can be named.
    fn sorted_output(&mut self, relation: Relation, keys: &'a [ast::OrderByExpr]) -> Result<Relation> {
        if keys.is_empty() {
            return Ok(relation);
        }
        let items: Vec<Item> = relation
            .plan
            .columns()
            .into_iter()
            .map(|column| Item { name: column.name.clone(), expr: Expr::Column(column) })
            .collect();
        let scope = relation.scope.clone();
        let sort = keys.iter().map(|key| self.sort_key(key, &items, &scope)).collect::<Result<_>>()?;
        Ok(Relation { plan: LogicalPlan::Sort { input: relation.plan.into(), keys: sort, fetch: None }, scope })
    }

    fn limited(&mut self, relation: Relation, query: &'a ast::Query) -> Result<Relation> {
        let (limit, offset) = match &query.limit_clause {
            None => (None, None),
            Some(ast::LimitClause::LimitOffset { limit, offset, limit_by }) if limit_by.is_empty() => {
                (limit.as_ref(), offset.as_ref().map(|o| &o.value))
            }
            Some(other) => return Err(Error::unsupported(format_args!("{other}"))),
        };
        let fetch = match &query.fetch {
            Some(fetch) if fetch.percent || fetch.with_ties => return Err(Error::unsupported(fetch)),
            Some(fetch) => fetch.quantity.as_ref(),
            None => None,
        };
        let limit = match limit.or(fetch) {
            Some(written) => self.row_count(written, "LIMIT")?,
            None => None,
        };
        let offset = match offset {
            Some(written) => self.row_count(written, "OFFSET")?.unwrap_or(0),
            None => 0,
        };
        if limit.is_none() && offset == 0 {
            return Ok(relation);
        }
        Ok(Relation { plan: LogicalPlan::Limit { input: relation.plan.into(), limit, offset }, scope: relation.scope })
    }

    fn row_count(&mut self, written: &'a ast::Expr, clause: &str) -> Result<Option<u64>> {
        let bound = self.expr(written, &Scope::default())?;
        let position = position_of(written.span());
        match coerce(bound, &SqlType::BigInt)? {
            Expr::Literal { value: Value::Null, .. } => Ok(None),
            Expr::Cast { operand, .. } if matches!(*operand, Expr::Literal { value: Value::Integer(_), .. }) => {
                match *operand {
                    Expr::Literal { value: Value::Integer(n), .. } if n >= 0 => Ok(Some(n as u64)),
                    _ => Err(Error::new(Code::InvalidValue, format!("{clause} must not be negative")).at(position)),
                }
            }
            Expr::Literal { value: Value::BigInt(n), .. } if n >= 0 => Ok(Some(n as u64)),
            Expr::Literal { value: Value::BigInt(_), .. } => {
                Err(Error::new(Code::InvalidValue, format!("{clause} must not be negative")).at(position))
            }
            _ => Err(Error::unsupported(format_args!("a {clause} that is not a constant")).at(position)),
        }
    }
}

pub(super) fn scope_of(columns: &[Column]) -> Scope {
    Scope {
        columns: columns
            .iter()
            .map(|column| ScopeColumn {
                qualifier: None,
                table: None,
                name: column.name.clone(),
                column: column.clone(),
                hidden: false,
            })
            .collect(),
    }
}

pub(super) fn distinct(relation: Relation) -> Relation {
    let groups: Vec<(Column, Expr)> =
        relation.plan.columns().into_iter().map(|column| (column.clone(), Expr::Column(column))).collect();
    Relation {
        plan: LogicalPlan::Aggregate { input: relation.plan.into(), groups, aggregates: vec![] },
        scope: relation.scope,
    }
}
