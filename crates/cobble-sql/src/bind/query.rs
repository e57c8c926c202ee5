//! Binding of whole queries: WITH, set operations, VALUES, and ORDER BY and LIMIT around them.

use cobble_plan::Ranking;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::function::wider_type;
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, UnionInput};
use cobble_types::deep::DEEPEST;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::{Scope, ScopeColumn};
use super::select::Item;
use super::window::{WindowUse, ranking, windowed};
use super::{Binder, Relation, position_of};
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
        self.definitions.push(Vec::new());
        if let Some(with) = &query.with {
            self.define(with, query);
        }
        let bound = self.body(query);
        self.ctes.truncate(visible);
        let definitions = self.definitions.pop().unwrap_or_default();
        let mut relation = bound?;
        if !definitions.is_empty() {
            relation.plan = LogicalPlan::With { definitions, body: relation.plan.into() };
        }
        Ok(relation)
    }

    fn body(&mut self, query: &'a ast::Query) -> Result<Relation> {
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
        self.limited(relation, query)
    }

    pub(super) fn set_expr(&mut self, body: &'a ast::SetExpr) -> Result<Relation> {
        self.depth += 1;
        let bound = if self.depth > DEEPEST {
            Err(Error::new(Code::TooComplex, format!("a query nests more than {DEEPEST} levels"))
                .hint("a UNION ALL of many constant rows is shorter as VALUES"))
        } else {
            self.one_set_expr(body)
        };
        self.depth -= 1;
        bound
    }

    fn one_set_expr(&mut self, body: &'a ast::SetExpr) -> Result<Relation> {
        match body {
            ast::SetExpr::Select(select) => self.select(select, &[]),
            ast::SetExpr::Query(query) => self.query(query),
            ast::SetExpr::Values(values) => self.values(values),
            ast::SetExpr::SetOperation { op, set_quantifier, left, right } => {
                let all = match set_quantifier {
                    ast::SetQuantifier::All => true,
                    ast::SetQuantifier::None | ast::SetQuantifier::Distinct => false,
                    other => return Err(Error::unsupported(format_args!("{op} {other}"))),
                };
                let keeps_open = std::mem::replace(&mut self.keeps_open, true);
                let sides = self.set_expr(left).and_then(|left| Ok((left, self.set_expr(right)?)));
                self.keeps_open = keeps_open;
                let (left, right) = sides?;
                match op {
                    ast::SetOperator::Union => {
                        let union = self.union(left, right)?;
                        Ok(if all { union } else { distinct(union) })
                    }
                    ast::SetOperator::Intersect => self.compared_rows(left, right, JoinKind::Semi, all, "INTERSECT"),
                    ast::SetOperator::Except | ast::SetOperator::Minus => {
                        self.compared_rows(left, right, JoinKind::Anti, all, "EXCEPT")
                    }
                }
            }
            other => Err(Error::unsupported(format_args!("the query {other}"))),
        }
    }

    fn union(&mut self, left: Relation, right: Relation) -> Result<Relation> {
        let types = common_types(&left, &right, "UNION")?;
        let (left, right) = (Self::closed(left, &types)?, Self::closed(right, &types)?);
        let columns: Vec<Column> = left
            .scope
            .columns
            .iter()
            .zip(&types)
            .map(|(c, t)| self.new_column(None, c.name.clone(), t.clone()))
            .collect();
        let inputs = [left, right].map(|side| UnionInput::whole(self.converted(side, &types).0)).to_vec();
        let scope = scope_of(&columns);
        Ok(Relation { plan: LogicalPlan::Union { inputs, columns }, scope })
    }

    /// A side of a set operation in the common types, with its columns.
    fn converted(&mut self, side: Relation, types: &[SqlType]) -> (LogicalPlan, Vec<Column>) {
        let columns: Vec<(Column, Expr)> = side
            .scope
            .columns
            .iter()
            .zip(types)
            .map(|(c, t)| {
                (self.new_column(None, c.name.clone(), t.clone()), Expr::Column(c.column.clone()).cast(t.clone()))
            })
            .collect();
        let out = columns.iter().map(|(c, _)| c.clone()).collect();
        (LogicalPlan::Project { input: side.plan.into(), columns }, out)
    }

    /// The side with its open literals read as these types.
    fn closed(side: Relation, types: &[SqlType]) -> Result<Relation> {
        let open = side
            .scope
            .columns
            .iter()
            .zip(types)
            .any(|(c, t)| c.column.sql_type == SqlType::Null && *t != SqlType::Null);
        let (true, LogicalPlan::Project { input, mut columns }) = (open, side.plan.clone()) else { return Ok(side) };
        let mut scope = side.scope;
        for (own, wanted) in scope.columns.iter_mut().zip(types) {
            if own.column.sql_type != SqlType::Null {
                continue;
            }
            let id = own.column.id;
            for (column, expr) in columns.iter_mut().filter(|(c, _)| c.id == id) {
                if crate::coerce::is_untyped(expr) {
                    *expr = coerce(expr.clone(), wanted)?;
                    column.sql_type = wanted.clone();
                    own.column.sql_type = wanted.clone();
                }
            }
        }
        Ok(Relation { plan: LogicalPlan::Project { input, columns }, scope })
    }

    /// INTERSECT and EXCEPT: rows of the left side with or without an equal one on the right, nulls being equal. With ALL the
    /// repetitions on each side are counted, and the n-th one on the left meets the n-th one on the right.
    fn compared_rows(
        &mut self,
        left: Relation,
        right: Relation,
        kind: JoinKind,
        all: bool,
        words: &str,
    ) -> Result<Relation> {
        let types = common_types(&left, &right, words)?;
        if let Some(other) = types.iter().find(|t| !t.is_ordered()) {
            return Err(Error::new(Code::UnknownFunction, format!("values of type {other} cannot be compared")));
        }
        let (left, right) = (Self::closed(left, &types)?, Self::closed(right, &types)?);
        let (mut left, columns) = self.converted(left, &types);
        let (mut right, right_columns) = self.converted(right, &types);
        let mut on: Vec<JoinKey> = columns
            .iter()
            .zip(&right_columns)
            .map(|(l, r)| JoinKey::null_safe(Expr::Column(l.clone()), Expr::Column(r.clone())))
            .collect();
        let scope = scope_of(&columns);
        if all {
            let mut numbered = |plan: LogicalPlan, columns: &[Column]| {
                let number = self.new_column(None, "repetition", SqlType::BigInt);
                let own = WindowUse {
                    partition: columns.iter().cloned().map(Expr::Column).collect(),
                    order: vec![],
                    column: number.clone(),
                    call: ranking(Ranking::RowNumber),
                };
                (windowed(plan, vec![own]), number)
            };
            let (l, left_number) = numbered(left, &columns);
            let (r, right_number) = numbered(right, &right_columns);
            (left, right) = (l, r);
            on.push(JoinKey::plain(Expr::Column(left_number), Expr::Column(right_number)));
        } else {
            left = distinct(Relation { plan: left, scope: scope.clone() }).plan;
        }
        let plan = LogicalPlan::Join(Join { on, ..Join::new(left, right, kind) });
        let columns = columns.iter().map(|c| (c.clone(), Expr::Column(c.clone()))).collect();
        Ok(Relation { plan: LogicalPlan::Project { input: plan.into(), columns }, scope })
    }

    fn values(&mut self, values: &'a ast::Values) -> Result<Relation> {
        let before = self.pending.len();
        let mut rows: Vec<Vec<Expr>> = Vec::new();
        let mut subqueries = Vec::new();
        for row in &values.rows {
            let bound = row.content.iter().map(|e| self.expr(e, &Scope::default())).collect::<Result<Vec<_>>>()?;
            if rows.first().is_some_and(|first| first.len() != bound.len()) {
                return Err(Error::new(Code::Syntax, "the rows of VALUES must have the same number of columns"));
            }
            rows.push(bound);
            subqueries.push(self.pending.split_off(before));
        }
        let width = rows.first().map_or(0, Vec::len);
        let mut columns = Vec::new();
        for place in 0..width {
            let (coerced, common) = unify_all(rows.iter().map(|row| row[place].clone()).collect(), "VALUES")?;
            rows.iter_mut().zip(coerced).for_each(|(row, value)| row[place] = value);
            columns.push(self.new_column(None, format!("column{}", place + 1), common));
        }
        let scope = scope_of(&columns);
        if subqueries.iter().all(Vec::is_empty) {
            return Ok(Relation { plan: LogicalPlan::Values { columns, rows }, scope });
        }
        // A row with a subquery is computed like a SELECT without FROM.
        let mut inputs = Vec::new();
        for (row, own) in rows.into_iter().zip(subqueries) {
            let one = LogicalPlan::Values { columns: vec![], rows: vec![vec![]] };
            let plan = own.into_iter().fold(one, |plan, subquery| subquery.attached(plan));
            let named = columns.iter().map(|c| self.new_column(None, c.name.clone(), c.sql_type.clone()));
            let columns = named.collect::<Vec<_>>().into_iter().zip(row).collect();
            inputs.push(UnionInput::whole(LogicalPlan::Project { input: plan.into(), columns }));
        }
        Ok(Relation { plan: LogicalPlan::Union { inputs, columns }, scope })
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
            Some(fetch) if fetch.percent => return Err(Error::unsupported(fetch)),
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
        if query.fetch.as_ref().is_some_and(|fetch| fetch.with_ties) {
            return self.with_ties(relation, limit.unwrap_or(u64::MAX), offset);
        }
        Ok(Relation { plan: LogicalPlan::Limit { input: relation.plan.into(), limit, offset }, scope: relation.scope })
    }

    /// FETCH FIRST n ROWS WITH TIES: every row that ranks no lower than the n-th one.
    fn with_ties(&mut self, relation: Relation, limit: u64, offset: u64) -> Result<Relation> {
        let (sort, columns) = match relation.plan {
            LogicalPlan::Project { input, columns } => (input.as_ref().clone(), Some(columns)),
            other => (other, None),
        };
        let LogicalPlan::Sort { input, keys, fetch: None } = sort else {
            return Err(Error::new(Code::Syntax, "WITH TIES needs an ORDER BY"));
        };
        let number = self.new_column(None, "row_number", SqlType::BigInt);
        let rank = self.new_column(None, "rank", SqlType::BigInt);
        let uses = [(number.clone(), Ranking::RowNumber), (rank.clone(), Ranking::Rank)]
            .into_iter()
            .map(|(column, f)| WindowUse { partition: vec![], order: keys.clone(), column, call: ranking(f) })
            .collect();
        let bound = |n: u64| Expr::literal(Value::BigInt(i64::try_from(n).unwrap_or(i64::MAX)));
        let conditions = vec![
            Expr::compare(BinaryOp::Gt, Expr::Column(number), bound(offset)),
            Expr::compare(BinaryOp::LtEq, Expr::Column(rank), bound(limit.saturating_add(offset))),
        ];
        let kept = windowed(input.as_ref().clone(), uses).filtered(conditions);
        let sorted = LogicalPlan::Sort { input: kept.into(), keys, fetch: None };
        let columns = columns.unwrap_or_else(|| {
            relation.scope.columns.iter().map(|c| (c.column.clone(), Expr::Column(c.column.clone()))).collect()
        });
        Ok(Relation { plan: LogicalPlan::Project { input: sorted.into(), columns }, scope: relation.scope })
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

/// The types that both sides of a set operation can be brought to, by place.
fn common_types(left: &Relation, right: &Relation, words: &str) -> Result<Vec<SqlType>> {
    let (l, r) = (&left.scope.columns, &right.scope.columns);
    if l.len() != r.len() {
        return Err(Error::new(Code::Syntax, format!("the sides of {words} have {} and {} columns", l.len(), r.len())));
    }
    l.iter()
        .zip(r)
        .map(|(a, b)| {
            if a.column.sql_type == SqlType::Null && b.column.sql_type == SqlType::Null {
                return Ok(SqlType::Text);
            }
            let (a_type, b_type) = (&a.column.sql_type, &b.column.sql_type);
            wider_type(a_type, b_type).ok_or_else(|| {
                Error::new(
                    Code::TypeMismatch,
                    format!("{words} cannot bring {a_type} and {b_type} together in column \"{}\"", a.name),
                )
            })
        })
        .collect()
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
