//! Binding of whole queries: WITH, set operations, VALUES, and ORDER BY and LIMIT around them.

use cobble_functions::{Function, united_type};
use cobble_plan::Ranking;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, SortKey, UnionInput};
use cobble_types::deep::DEEPEST;
use cobble_types::{Code, Error, Position, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::{Reach, Scope, ScopeColumn};
use super::select::Item;
use super::window::{WindowUse, ranking, windowed};
use super::{Binder, Pending, Relation, position_of};
use crate::coerce::{binary, coerce, unify_all};

impl<'a> Binder<'a> {
    pub(super) fn query(&mut self, query: &'a ast::Query) -> Result<Relation> {
        let visible = self.ctes.len();
        self.definitions.push(Vec::new());
        let bound = match &query.with {
            Some(with) => self.define(with, query).and_then(|()| self.body(query)),
            None => self.body(query),
        };
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
            // Refused before binding.
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
                let (first, second) = sides?;
                let words = match op {
                    ast::SetOperator::Union => "UNION",
                    ast::SetOperator::Intersect => "INTERSECT",
                    ast::SetOperator::Except | ast::SetOperator::Minus => "EXCEPT",
                };
                let types =
                    common_types(&first, &second, words).map_err(|(place, error)| error.at(item_at(right, place)))?;
                let closed = |side: Relation, body| {
                    Self::closed(side, &types).map_err(|(place, error): (usize, Error)| {
                        error.hint(format!("the other side has {} there", types[place])).at(item_at(body, Some(place)))
                    })
                };
                let (first, second) = (closed(first, left)?, closed(second, right)?);
                match op {
                    ast::SetOperator::Union => {
                        let union = self.union(first, second, &types);
                        Ok(if all { union } else { distinct(union) })
                    }
                    ast::SetOperator::Intersect => self.compared_rows(first, second, &types, JoinKind::Semi, all),
                    ast::SetOperator::Except | ast::SetOperator::Minus => {
                        self.compared_rows(first, second, &types, JoinKind::Anti, all)
                    }
                }
            }
            other => Err(Error::unsupported(format_args!("the query {other}"))),
        }
    }

    fn union(&mut self, left: Relation, right: Relation, types: &[SqlType]) -> Relation {
        let columns: Vec<Column> = left
            .scope
            .columns
            .iter()
            .zip(types)
            .map(|(c, t)| self.new_column(None, c.name.clone(), t.clone()))
            .collect();
        let inputs = [left, right].map(|side| UnionInput::whole(self.converted(side, types).0)).to_vec();
        let scope = scope_of(&columns);
        Relation { plan: LogicalPlan::Union { inputs, columns }, scope }
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
    fn closed(side: Relation, types: &[SqlType]) -> std::result::Result<Relation, (usize, Error)> {
        let open = side
            .scope
            .columns
            .iter()
            .zip(types)
            .any(|(c, t)| c.column.sql_type == SqlType::Null && *t != SqlType::Null);
        let (true, LogicalPlan::Project { input, mut columns }) = (open, side.plan.clone()) else { return Ok(side) };
        let mut scope = side.scope;
        for (place, (own, wanted)) in scope.columns.iter_mut().zip(types).enumerate() {
            if own.column.sql_type != SqlType::Null {
                continue;
            }
            let id = own.column.id;
            for (column, expr) in columns.iter_mut().filter(|(c, _)| c.id == id) {
                if crate::coerce::is_untyped(expr) {
                    *expr = coerce(expr.clone(), wanted).map_err(|error| (place, error))?;
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
        types: &[SqlType],
        kind: JoinKind,
        all: bool,
    ) -> Result<Relation> {
        let (mut left, columns) = self.converted(left, types);
        let (mut right, right_columns) = self.converted(right, types);
        let mut on: Vec<JoinKey> = columns
            .iter()
            .zip(&right_columns)
            .map(|(l, r)| Ok(JoinKey::null_safe(compared(l)?, compared(r)?)))
            .collect::<Result<_>>()?;
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
            let (coerced, common) =
                unify_all(rows.iter().map(|row| row[place].clone()).collect(), "VALUES").map_err(|error| {
                    error.at(values.rows.get(1).and_then(|row| position_of(row.content.get(place)?.span())))
                })?;
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
            Some(ast::LimitClause::LimitOffset { limit, offset, limit_by: _ }) => {
                (limit.as_ref(), offset.as_ref().map(|o| &o.value))
            }
            // Refused before binding.
            Some(other @ ast::LimitClause::OffsetCommaLimit { .. }) => {
                return Err(Error::unsupported(format_args!("{other}")));
            }
        };
        let before = self.pending.len();
        let mut limit = match (limit, &query.fetch) {
            (Some(written), _) => self.row_count(written, "LIMIT")?,
            (None, Some(ast::Fetch { quantity: Some(written), with_ties: _, percent: _ })) => {
                self.row_count(written, "FETCH")?
            }
            // FETCH FIRST ROW is one row (SQL:2016 part 2, 7.17).
            (None, Some(ast::Fetch { quantity: None, with_ties: _, percent: _ })) => RowCount::Known(1),
            (None, None) => RowCount::All,
        };
        let offset = match offset {
            Some(written) => self.row_count(written, "OFFSET")?,
            None => RowCount::All,
        };
        let subqueries = self.pending.split_off(before);
        if query.fetch.as_ref().is_some_and(|fetch| fetch.with_ties) {
            if limit == RowCount::All {
                limit = RowCount::Known(u64::MAX);
            }
            let (RowCount::Known(limit), RowCount::Known(_) | RowCount::All) = (&limit, &offset) else {
                return Err(Error::unsupported("WITH TIES with a number of rows that is not a constant"));
            };
            let skipped = if let RowCount::Known(offset) = offset { offset } else { 0 };
            return self.with_ties(relation, *limit, skipped);
        }
        let (limit, offset) = match (limit, offset) {
            (RowCount::All, RowCount::All) => return Ok(relation),
            (RowCount::Known(limit), RowCount::All) => (Some(limit), 0),
            (RowCount::All, RowCount::Known(offset)) => (None, offset),
            (RowCount::Known(limit), RowCount::Known(offset)) => (Some(limit), offset),
            (limit, offset) => return self.limited_by(relation, limit, offset, subqueries),
        };
        Ok(Relation { plan: LogicalPlan::Limit { input: relation.plan.into(), limit, offset }, scope: relation.scope })
    }

    /// LIMIT and OFFSET given by a subquery: the rows are numbered in order, and those in the range are kept.
    fn limited_by(
        &mut self,
        relation: Relation,
        limit: RowCount,
        offset: RowCount,
        subqueries: Vec<Pending>,
    ) -> Result<Relation> {
        let (input, keys, columns) = taken_apart(relation.plan, &relation.scope);
        let number = self.new_column(None, "row_number", SqlType::BigInt);
        let own = WindowUse {
            partition: vec![],
            order: keys.clone(),
            column: number.clone(),
            call: ranking(Ranking::RowNumber),
        };
        let numbered = windowed(input, vec![own]);
        let numbered = subqueries.into_iter().fold(numbered, |plan, subquery| subquery.attached(plan));
        let count = |count: RowCount, all: i64| match count {
            RowCount::All => Ok(Expr::literal(Value::BigInt(all))),
            RowCount::Known(n) => Ok(Expr::literal(Value::BigInt(i64::try_from(n).unwrap_or(i64::MAX)))),
            RowCount::Found(expr) => {
                crate::function::call(Function::Coalesce, vec![expr, Expr::literal(Value::BigInt(all))])
            }
        };
        let all = i64::MAX / 2;
        let (limit, offset) = (count(limit, all)?, count(offset, 0)?);
        let number = Expr::Column(number);
        let last = binary(BinaryOp::Plus, offset.clone(), limit)?;
        let conditions = vec![binary(BinaryOp::Gt, number.clone(), offset)?, binary(BinaryOp::LtEq, number, last)?];
        let kept = numbered.filtered(conditions);
        let sorted = match keys.is_empty() {
            true => kept,
            false => LogicalPlan::Sort { input: kept.into(), keys, fetch: None },
        };
        Ok(Relation { plan: LogicalPlan::Project { input: sorted.into(), columns }, scope: relation.scope })
    }

    /// FETCH FIRST n ROWS WITH TIES: every row that ranks no lower than the n-th one.
    fn with_ties(&mut self, relation: Relation, limit: u64, offset: u64) -> Result<Relation> {
        let (input, keys, columns) = taken_apart(relation.plan, &relation.scope);
        if keys.is_empty() {
            return Err(Error::new(Code::Syntax, "WITH TIES needs an ORDER BY"));
        }
        if limit == 0 {
            // No row is the last one, so none ties with it.
            let plan = LogicalPlan::Project { input: input.into(), columns };
            return Ok(Relation {
                plan: LogicalPlan::Limit { input: plan.into(), limit: Some(0), offset: 0 },
                scope: relation.scope,
            });
        }
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
        let kept = windowed(input, uses).filtered(conditions);
        let sorted = LogicalPlan::Sort { input: kept.into(), keys, fetch: None };
        Ok(Relation { plan: LogicalPlan::Project { input: sorted.into(), columns }, scope: relation.scope })
    }

    fn row_count(&mut self, written: &'a ast::Expr, clause: &str) -> Result<RowCount> {
        // LIMIT ALL is no limit.
        if let ast::Expr::Identifier(ident) = written
            && ident.quote_style.is_none()
            && ident.value.eq_ignore_ascii_case("all")
        {
            return Ok(RowCount::All);
        }
        let bound = self.expr(written, &Scope::default())?;
        let position = position_of(written.span());
        let own = bound.sql_type();
        if !own.is_number() && own != SqlType::Null {
            let what = format!("{clause} takes a number of rows, not {own}");
            return Err(Error::new(Code::TypeMismatch, what).at(position));
        }
        let bound = match bound {
            Expr::Literal { value: Value::Integer(n), .. } => Expr::literal(Value::BigInt(n.into())),
            other => coerce(other, &SqlType::BigInt).map_err(|e| e.at(position))?,
        };
        let bound = if bound.is_constant() { (self.context.fold)(&bound).unwrap_or(bound) } else { bound };
        let code = if clause == "OFFSET" { Code::OffsetCount } else { Code::LimitCount };
        match bound {
            Expr::Literal { value: Value::Null, .. } => Ok(RowCount::All),
            Expr::Literal { value: Value::BigInt(n), .. } => match u64::try_from(n) {
                Ok(n) => Ok(RowCount::Known(n)),
                Err(_) => Err(Error::new(code, format!("{clause} must not be negative")).at(position)),
            },
            other => Ok(RowCount::Found(other)),
        }
    }
}

/// The number of rows that LIMIT or OFFSET says.
#[derive(Debug, Clone, PartialEq)]
enum RowCount {
    /// No number, or null: all rows for LIMIT, none for OFFSET.
    All,
    Known(u64),
    /// Computed by the statement, such as by a subquery.
    Found(Expr),
}

/// A sorted result as what is sorted, its keys and the columns that come out.
fn taken_apart(plan: LogicalPlan, scope: &Scope) -> (LogicalPlan, Vec<SortKey>, Vec<(Column, Expr)>) {
    let same = || scope.columns.iter().map(|c| (c.column.clone(), Expr::Column(c.column.clone()))).collect();
    match plan {
        LogicalPlan::Project { input, columns } => match input.as_ref() {
            LogicalPlan::Sort { input, keys, fetch: None } => (input.as_ref().clone(), keys.clone(), columns),
            _ => (LogicalPlan::Project { input, columns }, vec![], same()),
        },
        LogicalPlan::Sort { input, keys, fetch: None } => (input.as_ref().clone(), keys, same()),
        other => (other, vec![], same()),
    }
}

/// The types that both sides of a set operation can be brought to, by place.
/// The place of a column of one side of a set operation, or of the side itself.
fn item_at(body: &ast::SetExpr, place: Option<usize>) -> Option<Position> {
    let expr = match (body, place) {
        (ast::SetExpr::Select(select), Some(place)) => select.projection.get(place).map(Spanned::span),
        (ast::SetExpr::Values(values), Some(place)) => {
            values.rows.first().and_then(|row| row.content.get(place)).map(Spanned::span)
        }
        (ast::SetExpr::Query(query), _) => return item_at(&query.body, place),
        (ast::SetExpr::SetOperation { left, .. }, _) => return item_at(left, place),
        _ => None,
    };
    position_of(expr.unwrap_or_else(|| body.span()))
}

/// The types that hold both sides, column by column; with an error the column that it is about.
fn common_types(
    left: &Relation,
    right: &Relation,
    words: &str,
) -> std::result::Result<Vec<SqlType>, (Option<usize>, Error)> {
    let (l, r) = (&left.scope.columns, &right.scope.columns);
    if l.len() != r.len() {
        let what = format!("the sides of {words} have {} and {} columns", l.len(), r.len());
        return Err((None, Error::new(Code::Syntax, what).hint("select the same number of columns on both sides")));
    }
    l.iter()
        .zip(r)
        .enumerate()
        .map(|(place, (a, b))| {
            if a.column.sql_type == SqlType::Null && b.column.sql_type == SqlType::Null {
                return Ok(SqlType::Text);
            }
            let (a_type, b_type) = (&a.column.sql_type, &b.column.sql_type);
            united_type(a_type, b_type).ok_or_else(|| {
                let what = format!("{words} cannot bring {a_type} and {b_type} together in column \"{}\"", a.name);
                let error = Error::new(Code::TypeMismatch, what).hint("cast one of them: …::text");
                (Some(place), error)
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
                reach: Reach::Open,
                may_be_missing: false,
            })
            .collect(),
    }
}

/// What a column is compared by: documents by a key that orders them.
fn compared(column: &Column) -> Result<Expr> {
    let own = Expr::Column(column.clone());
    if column.sql_type == SqlType::Json { crate::function::call(Function::JsonOrder, vec![own]) } else { Ok(own) }
}

pub(super) fn distinct(relation: Relation) -> Relation {
    let groups: Vec<(Column, Expr)> =
        relation.plan.columns().into_iter().map(|column| (column.clone(), Expr::Column(column))).collect();
    Relation {
        plan: LogicalPlan::Aggregate { input: relation.plan.into(), groups, aggregates: vec![] },
        scope: relation.scope,
    }
}
