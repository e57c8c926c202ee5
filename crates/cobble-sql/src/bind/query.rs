//! Binding of queries: FROM, WHERE, GROUP BY, HAVING, SELECT, DISTINCT, ORDER BY, LIMIT, set operations and CTEs.

use std::sync::Arc;

use cobble_plan::aggregate::AggregateCall;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::function::wider_type;
use cobble_plan::logical::{Join, JoinKind, LogicalPlan, Scan, SortKey};
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::{Scope, ScopeColumn};
use super::{Binder, Cte, Relation, folded, position_of};
use crate::coerce::{binary, coerce, condition, settle, unify_all};

/// Aggregates met while binding the clauses that may hold them.
#[derive(Default)]
pub(super) struct Aggregates {
    pub calls: Vec<(Column, AggregateCall)>,
    /// Scalar subqueries inside arguments: they are joined below the aggregation.
    pub below: Vec<LogicalPlan>,
    /// Columns of scalar subqueries outside arguments, which need no grouping.
    pub scalar_columns: Vec<ColumnId>,
}

/// One item of a SELECT list after `*` is spread.
struct Item {
    name: String,
    expr: Expr,
}

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

    fn select(&mut self, select: &'a ast::Select, keys: &'a [ast::OrderByExpr]) -> Result<Relation> {
        let mut relation = self.from(&select.from)?;
        if let Some(selection) = &select.selection {
            relation = self.filter(relation, selection)?;
        }
        // Everything from here on may hold aggregates.
        let outer_aggregates = self.aggregates.replace(Aggregates::default());
        let bound = self.projection(select, keys, relation);
        self.aggregates = outer_aggregates;
        bound
    }

    fn projection(
        &mut self,
        select: &'a ast::Select,
        keys: &'a [ast::OrderByExpr],
        mut relation: Relation,
    ) -> Result<Relation> {
        let scope = relation.scope.clone();
        let mut items = Vec::new();
        for item in &select.projection {
            self.item(item, &scope, &mut items)?;
        }
        let groups = self.group_expressions(select, &items, &scope)?;
        let having = match &select.having {
            Some(having) => {
                Some(condition(self.expr(having, &scope)?, "HAVING").map_err(|e| e.at(position_of(having.span())))?)
            }
            None => None,
        };
        let mut sort = Vec::new();
        for key in keys {
            sort.push(self.sort_key(key, &items, &scope)?);
        }
        if select.qualify.is_some() || !select.named_window.is_empty() {
            return Err(Error::unsupported("a window clause"));
        }
        let collected = self.aggregates.take().unwrap_or_default();
        let grouped = !groups.is_empty() || !collected.calls.is_empty() || having.is_some();
        let scalar_columns = collected.scalar_columns.clone();
        let scalars = std::mem::take(&mut self.scalars);
        let mut conditions = Vec::new();
        if grouped {
            for below in collected.below {
                relation.plan = cross(relation.plan, below);
            }
            let groups: Vec<(Column, Expr)> = groups
                .into_iter()
                .map(|expr| {
                    let (qualifier, name) = match &expr {
                        Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
                        other => (None, other.to_string()),
                    };
                    (self.new_column(qualifier, name, expr.sql_type()), expr)
                })
                .collect();
            let allowed: Vec<ColumnId> = groups
                .iter()
                .map(|(c, _)| c.id)
                .chain(collected.calls.iter().map(|(c, _)| c.id))
                .chain(scalar_columns)
                .collect();
            let over_groups = |binder: &Self, expr: &Expr| -> Result<Expr> {
                let replaced = expr.replace(&|e| {
                    groups.iter().find(|(_, group)| group == e).map(|(column, _)| Expr::Column(column.clone()))
                });
                match replaced.columns().into_iter().find(|id| !allowed.contains(id)) {
                    None => Ok(replaced),
                    Some(id) => {
                        let name = name_of(&replaced, id);
                        Err(Error::new(
                            Code::Grouping,
                            format!("\"{name}\" must stand in GROUP BY or inside an aggregate"),
                        )
                        .at(binder.named_at.get(&id).copied().or(binder.place_of(expr))))
                    }
                }
            };
            for item in &mut items {
                item.expr = over_groups(self, &item.expr)?;
            }
            for key in &mut sort {
                key.expr = over_groups(self, &key.expr)?;
            }
            if let Some(having) = having {
                over_groups(self, &having)?.into_conjuncts(&mut conditions);
            }
            relation.plan = LogicalPlan::Aggregate {
                input: relation.plan.into(),
                groups: groups.clone(),
                aggregates: collected.calls,
            };
        }
        for scalar in scalars {
            relation.plan = cross(relation.plan, scalar);
        }
        relation.plan = relation.plan.filtered(conditions);

        let distinct_rows = match &select.distinct {
            None => false,
            Some(ast::Distinct::Distinct) => true,
            Some(other) => return Err(Error::unsupported(other)),
        };
        let mut columns: Vec<(Column, Expr)> = Vec::new();
        for item in items {
            let expr = settle(item.expr)?;
            let qualifier = match &expr {
                Expr::Column(column) if column.name == item.name => column.qualifier.clone(),
                _ => None,
            };
            columns.push((self.new_column(qualifier, item.name, expr.sql_type()), expr));
        }
        // A sort key that is a result column refers to it; others are computed beside the result and dropped after sorting.
        let visible: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        for key in &mut sort {
            let place = columns.iter().position(|(_, expr)| *expr == key.expr);
            let column = match place {
                Some(place) => columns[place].0.clone(),
                None if distinct_rows => {
                    return Err(Error::new(Code::Syntax, "with DISTINCT, ORDER BY takes only what is selected")
                        .at(self.place_of(&key.expr)));
                }
                None => {
                    let (qualifier, name) = match &key.expr {
                        Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
                        other => (None, other.to_string()),
                    };
                    let hidden = self.new_column(qualifier, name, key.expr.sql_type());
                    columns.push((hidden.clone(), key.expr.clone()));
                    hidden
                }
            };
            key.expr = Expr::Column(column);
        }
        let hidden = columns.len() > visible.len();
        let mut out =
            Relation { plan: LogicalPlan::Project { input: relation.plan.into(), columns }, scope: scope_of(&visible) };
        if distinct_rows {
            out = distinct(out);
            let renamed = out.plan.columns();
            for key in &mut sort {
                if let Expr::Column(column) = &key.expr
                    && let Some(place) = visible.iter().position(|c| c.id == column.id)
                {
                    key.expr = Expr::Column(renamed[place].clone());
                }
            }
        }
        if !sort.is_empty() {
            out.plan = LogicalPlan::Sort { input: out.plan.into(), keys: sort, fetch: None };
        }
        if hidden {
            let columns = visible
                .iter()
                .map(|c| {
                    (self.new_column(c.qualifier.clone(), c.name.clone(), c.sql_type.clone()), Expr::Column(c.clone()))
                })
                .collect::<Vec<_>>();
            let kept: Vec<Column> = columns.iter().map(|(c, _)| c.clone()).collect();
            out = Relation { plan: LogicalPlan::Project { input: out.plan.into(), columns }, scope: scope_of(&kept) };
        }
        Ok(out)
    }

    fn item(&mut self, item: &'a ast::SelectItem, scope: &Scope, into: &mut Vec<Item>) -> Result<()> {
        match item {
            ast::SelectItem::UnnamedExpr(written) => {
                into.push(Item { name: output_name(written), expr: self.expr(written, scope)? });
            }
            ast::SelectItem::ExprWithAlias { expr, alias } => {
                into.push(Item { name: folded(alias), expr: self.expr(expr, scope)? });
            }
            ast::SelectItem::Wildcard(_) => {
                if scope.columns.is_empty() {
                    return Err(Error::new(Code::Syntax, "SELECT * needs a table in FROM").at(position_of(item.span())));
                }
                into.extend(scope.columns.iter().filter(|c| !c.hidden).map(spread));
            }
            ast::SelectItem::QualifiedWildcard(ast::SelectItemQualifiedWildcardKind::ObjectName(name), _) => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let qualifier = parts.last().cloned().unwrap_or_default();
                let before = into.len();
                into.extend(scope.columns.iter().filter(|c| c.qualifier.as_ref() == Some(&qualifier)).map(spread));
                if into.len() == before {
                    let known: Vec<&str> = scope.columns.iter().filter_map(|c| c.qualifier.as_deref()).collect();
                    return Err(Error::unknown("table or alias", &qualifier, known).at(position_of(item.span())));
                }
            }
            other => return Err(Error::unsupported(format_args!("{other} in SELECT"))),
        }
        Ok(())
    }

    fn group_expressions(&mut self, select: &'a ast::Select, items: &[Item], scope: &Scope) -> Result<Vec<Expr>> {
        let written = match &select.group_by {
            ast::GroupByExpr::Expressions(written, modifiers) if modifiers.is_empty() => written,
            other => return Err(Error::unsupported(other)),
        };
        // No aggregate may stand in GROUP BY.
        let collector = self.aggregates.take();
        let mut groups: Vec<Expr> = Vec::new();
        for expr in written {
            let bound = match self.reference(expr, items, "GROUP BY")? {
                Some(expr) => expr,
                None => match self.expr(expr, scope) {
                    Ok(bound) => bound,
                    // Input columns come first, then the names of the result, as in PostgreSQL.
                    Err(error) => match named_item(expr, items) {
                        Some(item) => item,
                        None => return Err(error),
                    },
                },
            };
            let bound = settle(bound)?;
            if !bound.sql_type().is_ordered() {
                return Err(Error::new(
                    Code::TypeMismatch,
                    format!("values of type {} cannot be grouped", bound.sql_type()),
                )
                .at(position_of(expr.span())));
            }
            if let Some(column) =
                collector.as_ref().and_then(|c| c.calls.iter().find(|(column, _)| bound.columns().contains(&column.id)))
            {
                return Err(Error::new(Code::Grouping, format!("{} cannot stand in GROUP BY", column.1))
                    .at(position_of(expr.span())));
            }
            if !groups.contains(&bound) {
                groups.push(bound);
            }
        }
        self.aggregates = collector;
        Ok(groups)
    }

    /// A plain number in GROUP BY or ORDER BY is the place of a result column.
    fn reference(&self, written: &ast::Expr, items: &[Item], clause: &str) -> Result<Option<Expr>> {
        let ast::Expr::Value(value) = written else { return Ok(None) };
        let ast::Value::Number(digits, _) = &value.value else { return Ok(None) };
        match digits.parse::<usize>() {
            Ok(place) if (1..=items.len()).contains(&place) => Ok(Some(items[place - 1].expr.clone())),
            _ => Err(Error::new(Code::Syntax, format!("{clause} {digits} is not a place in the SELECT list"))
                .hint(format!("places go from 1 to {}", items.len()))
                .at(position_of(value.span))),
        }
    }

    fn sort_key(&mut self, key: &'a ast::OrderByExpr, items: &[Item], scope: &Scope) -> Result<SortKey> {
        let expr = match self.reference(&key.expr, items, "ORDER BY")? {
            Some(expr) => expr,
            None => match named_item(&key.expr, items) {
                Some(expr) => expr,
                None => self.expr(&key.expr, scope)?,
            },
        };
        let expr = settle(expr)?;
        if !expr.sql_type().is_ordered() {
            return Err(Error::new(Code::TypeMismatch, format!("values of type {} cannot be sorted", expr.sql_type()))
                .at(position_of(key.expr.span())));
        }
        let descending = match &key.options.sort {
            None | Some(ast::OrderBySort::Asc) => false,
            Some(ast::OrderBySort::Desc) => true,
            Some(ast::OrderBySort::Using(_)) => return Err(Error::unsupported("ORDER BY USING")),
        };
        // Nulls count as larger than every value, unless said otherwise.
        Ok(SortKey { expr, descending, nulls_first: key.options.nulls_first.unwrap_or(descending) })
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

    // ---- FROM and WHERE ----

    fn from(&mut self, from: &'a [ast::TableWithJoins]) -> Result<Relation> {
        let mut result: Option<Relation> = None;
        for item in from {
            let mut relation = self.table_factor(&item.relation)?;
            for join in &item.joins {
                relation = self.join(relation, join)?;
            }
            result = Some(match result {
                None => relation,
                Some(left) => combined(left, relation, JoinKind::Inner, vec![], vec![]),
            });
        }
        Ok(result.unwrap_or_else(|| Relation {
            plan: LogicalPlan::Values { columns: vec![], rows: vec![vec![]] },
            scope: Scope::default(),
        }))
    }

    fn table_factor(&mut self, factor: &'a ast::TableFactor) -> Result<Relation> {
        match factor {
            ast::TableFactor::Table { name, alias, args: None, version: None, sample: None, .. } => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let relation = self.table(&parts).map_err(|e| e.at(position_of(name.span())))?;
                match alias {
                    Some(alias) => aliased(relation, alias),
                    None => Ok(relation),
                }
            }
            ast::TableFactor::Derived { lateral: false, subquery, alias, .. } => {
                let aggregates = self.aggregates.take();
                let bound = self.query(subquery);
                self.aggregates = aggregates;
                match alias {
                    Some(alias) => aliased(bound?, alias),
                    None => bound,
                }
            }
            ast::TableFactor::NestedJoin { table_with_joins, alias: None } => {
                let mut relation = self.table_factor(&table_with_joins.relation)?;
                for join in &table_with_joins.joins {
                    relation = self.join(relation, join)?;
                }
                Ok(relation)
            }
            other => Err(Error::unsupported(format_args!("{other} in FROM")).at(position_of(other.span()))),
        }
    }

    fn table(&mut self, parts: &[String]) -> Result<Relation> {
        if let [name] = parts
            && let Some(place) = self.ctes.iter().rposition(|cte| cte.name == *name)
        {
            return self.cte(place);
        }
        let table = self.context.catalog.table(parts)?;
        let qualifier = table.name.table.clone();
        let mut scope = Scope::default();
        let mut columns = Vec::new();
        for (place, column) in table.columns.iter().enumerate() {
            let bound = self.new_column(Some(qualifier.clone()), column.name.clone(), column.sql_type.clone());
            scope.columns.push(ScopeColumn {
                qualifier: Some(qualifier.clone()),
                table: Some(table.name.clone()),
                name: column.name.clone(),
                column: bound.clone(),
                hidden: false,
            });
            columns.push((bound, place));
        }
        Ok(Relation { plan: LogicalPlan::Scan(Scan { table, columns }), scope })
    }

    /// Binds the CTE's text once more. It sees only the CTEs that were defined before it.
    fn cte(&mut self, place: usize) -> Result<Relation> {
        let Cte { name, columns, query } = &self.ctes[place];
        let (name, columns, query) = (name.clone(), columns.clone(), *query);
        let later = self.ctes.split_off(place);
        let aggregates = self.aggregates.take();
        let bound = self.query(query);
        self.aggregates = aggregates;
        self.ctes.extend(later);
        let relation = bound?;
        Ok(Relation { scope: relation.scope.with_qualifier(&name, &columns)?, plan: relation.plan })
    }

    fn join(&mut self, left: Relation, join: &'a ast::Join) -> Result<Relation> {
        use ast::JoinOperator as J;
        let right = self.table_factor(&join.relation)?;
        let (kind, constraint) = match &join.join_operator {
            J::Join(c) | J::Inner(c) => (JoinKind::Inner, c),
            J::Left(c) | J::LeftOuter(c) => (JoinKind::Left, c),
            J::Right(c) | J::RightOuter(c) => (JoinKind::Right, c),
            J::FullOuter(c) => (JoinKind::Full, c),
            J::CrossJoin(c) => (JoinKind::Inner, c),
            other => return Err(Error::unsupported(format_args!("{other:?}"))),
        };
        match constraint {
            ast::JoinConstraint::None => Ok(combined(left, right, kind, vec![], vec![])),
            ast::JoinConstraint::On(condition_text) => {
                let mut scope = left.scope.clone();
                scope.columns.extend(right.scope.columns.iter().cloned());
                let bound = condition(self.expr(condition_text, &scope)?, "ON")
                    .map_err(|e| e.at(position_of(condition_text.span())))?;
                if !self.scalars.is_empty() {
                    return Err(Error::unsupported("a subquery in ON"));
                }
                let mut conjuncts = Vec::new();
                bound.into_conjuncts(&mut conjuncts);
                let (on, residual) = split_keys(conjuncts, &left.plan, &right.plan);
                Ok(combined(left, right, kind, on, residual))
            }
            ast::JoinConstraint::Using(names) => {
                let names = names.iter().filter_map(|n| n.0.first().and_then(|p| p.as_ident().map(folded))).collect();
                self.using(left, right, kind, names)
            }
            ast::JoinConstraint::Natural => {
                let visible = |r: &Relation| {
                    r.scope.columns.iter().filter(|c| !c.hidden).map(|c| c.name.clone()).collect::<Vec<_>>()
                };
                let theirs = visible(&right);
                let names = visible(&left).into_iter().filter(|name| theirs.contains(name)).collect();
                self.using(left, right, kind, names)
            }
        }
    }

    fn using(&mut self, left: Relation, right: Relation, kind: JoinKind, names: Vec<String>) -> Result<Relation> {
        if kind == JoinKind::Full {
            return Err(Error::unsupported("FULL JOIN with USING").hint("write ON and coalesce the columns"));
        }
        let find = |relation: &Relation, name: &String| -> Result<Column> {
            relation
                .scope
                .columns
                .iter()
                .find(|c| c.name == *name && !c.hidden)
                .map(|c| c.column.clone())
                .ok_or_else(|| Error::unknown("column", name, relation.scope.columns.iter().map(|c| c.name.as_str())))
        };
        let mut conjuncts = Vec::new();
        for name in &names {
            conjuncts.push(binary(BinaryOp::Eq, Expr::Column(find(&left, name)?), Expr::Column(find(&right, name)?))?);
        }
        let (on, residual) = split_keys(conjuncts, &left.plan, &right.plan);
        // The merged column is the one of the side whose rows all come out.
        let split = left.scope.columns.len();
        let mut joined = combined(left, right, kind, on, residual);
        for (place, column) in joined.scope.columns.iter_mut().enumerate() {
            let on_dropped_side = (place >= split) == (kind != JoinKind::Right);
            if on_dropped_side && names.contains(&column.name) {
                column.hidden = true;
            }
        }
        Ok(joined)
    }

    /// WHERE: conditions, with IN (SELECT …) and EXISTS among them as semi and anti joins.
    fn filter(&mut self, mut relation: Relation, selection: &'a ast::Expr) -> Result<Relation> {
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

fn aliased(relation: Relation, alias: &ast::TableAlias) -> Result<Relation> {
    let names: Vec<String> = alias.columns.iter().map(|c| folded(&c.name)).collect();
    let scope = relation.scope.with_qualifier(&folded(&alias.name), &names)?;
    // Plans show columns under the alias, so the scan is told of it.
    let plan = match relation.plan {
        LogicalPlan::Scan(mut scan) => {
            for ((column, _), named) in scan.columns.iter_mut().zip(&scope.columns) {
                column.qualifier = named.qualifier.clone();
            }
            LogicalPlan::Scan(scan)
        }
        other => other,
    };
    Ok(Relation { plan, scope })
}

fn scope_of(columns: &[Column]) -> Scope {
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

fn spread(column: &ScopeColumn) -> Item {
    Item { name: column.name.clone(), expr: Expr::Column(column.column.clone()) }
}

fn named_item(written: &ast::Expr, items: &[Item]) -> Option<Expr> {
    let ast::Expr::Identifier(ident) = written else { return None };
    let name = folded(ident);
    items.iter().find(|item| item.name == name).map(|item| item.expr.clone())
}

fn name_of(expr: &Expr, id: ColumnId) -> String {
    match expr {
        Expr::Column(column) if column.id == id => column.to_string(),
        other => other
            .children()
            .into_iter()
            .map(|child| name_of(child, id))
            .find(|name| !name.is_empty())
            .unwrap_or_default(),
    }
}

fn distinct(relation: Relation) -> Relation {
    let groups: Vec<(Column, Expr)> =
        relation.plan.columns().into_iter().map(|column| (column.clone(), Expr::Column(column))).collect();
    Relation {
        plan: LogicalPlan::Aggregate { input: relation.plan.into(), groups, aggregates: vec![] },
        scope: relation.scope,
    }
}

fn cross(left: LogicalPlan, right: LogicalPlan) -> LogicalPlan {
    LogicalPlan::Join(Join {
        left: left.into(),
        right: right.into(),
        kind: JoinKind::Inner,
        on: vec![],
        residual: vec![],
    })
}

fn combined(left: Relation, right: Relation, kind: JoinKind, on: Vec<(Expr, Expr)>, residual: Vec<Expr>) -> Relation {
    let mut scope = left.scope;
    scope.columns.extend(right.scope.columns);
    let plan = LogicalPlan::Join(Join { left: left.plan.into(), right: right.plan.into(), kind, on, residual });
    Relation { plan, scope }
}

/// Equalities between the sides as join keys, the rest as it is.
fn split_keys(conjuncts: Vec<Expr>, left: &LogicalPlan, right: &LogicalPlan) -> (Vec<(Expr, Expr)>, Vec<Expr>) {
    let (left_ids, right_ids) = (left.column_ids(), right.column_ids());
    let (mut on, mut residual) = (Vec::new(), Vec::new());
    for conjunct in conjuncts {
        match cobble_plan::rewrites::as_join_key(&conjunct, &left_ids, &right_ids) {
            Some(key) => on.push(key),
            None => residual.push(conjunct),
        }
    }
    (on, residual)
}

/// The name PostgreSQL gives to a result column without an alias.
fn output_name(written: &ast::Expr) -> String {
    match written {
        ast::Expr::Identifier(ident) => folded(ident),
        ast::Expr::CompoundIdentifier(idents) => idents.last().map(folded).unwrap_or_default(),
        ast::Expr::CompoundFieldAccess { root, access_chain } => match access_chain.last() {
            Some(ast::AccessExpr::Dot(ast::Expr::Identifier(field))) => folded(field),
            _ => output_name(root),
        },
        ast::Expr::Nested(inner) => output_name(inner),
        ast::Expr::Cast { expr, data_type, .. } => match output_name(expr).as_str() {
            "?column?" => super::types::sql_type(data_type).map_or("?column?".into(), |t| match t {
                SqlType::Numeric { .. } => "numeric".into(),
                other => other.to_string(),
            }),
            name => name.to_owned(),
        },
        ast::Expr::Function(call) => call.name.0.last().and_then(|p| p.as_ident().map(folded)).unwrap_or_default(),
        ast::Expr::Case { .. } => "case".to_owned(),
        ast::Expr::Extract { .. } => "extract".to_owned(),
        ast::Expr::Substring { .. } => "substring".to_owned(),
        ast::Expr::Position { .. } => "position".to_owned(),
        ast::Expr::Trim { .. } => "btrim".to_owned(),
        ast::Expr::Ceil { .. } => "ceil".to_owned(),
        ast::Expr::Floor { .. } => "floor".to_owned(),
        ast::Expr::Interval(_) => "interval".to_owned(),
        ast::Expr::Exists { .. } => "exists".to_owned(),
        ast::Expr::TypedString(typed) => typed.data_type.to_string().to_lowercase(),
        _ => "?column?".to_owned(),
    }
}
