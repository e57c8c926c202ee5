//! Binding of FROM: tables, subqueries, CTEs and the joins between them.

use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::function::Function;
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, Scan};
use cobble_types::{Error, Result};
use sqlparser::ast::{self, Spanned};

use super::scope::{Scope, ScopeColumn};
use super::{Binder, Relation, folded, native_query, position_of};
use crate::coerce::{binary, condition};

impl<'a> Binder<'a> {
    pub(super) fn from(&mut self, from: &'a [ast::TableWithJoins]) -> Result<Relation> {
        let mut result: Option<Relation> = None;
        for item in from {
            let before = result.as_ref().map(|left: &Relation| left.scope.clone()).unwrap_or_default();
            let mut relation = self.table_factor(&item.relation, &before)?;
            for join in &item.joins {
                relation = self.join(relation, join, &before)?;
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

    /// `before` is what stands to the left in FROM: functions and LATERAL subqueries may use it.
    fn table_factor(&mut self, factor: &'a ast::TableFactor, before: &Scope) -> Result<Relation> {
        let named = |relation: Relation, alias: &Option<ast::TableAlias>| match alias {
            Some(alias) => aliased(relation, alias),
            None => Ok(relation),
        };
        match factor {
            ast::TableFactor::Table { name, alias, args: None, version: None, sample: None, .. } => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                named(self.table(&parts).map_err(|e| e.at(position_of(name.span())))?, alias)
            }
            ast::TableFactor::Table { name, alias, args: Some(args), with_ordinality, .. } => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let relation = self.function_in_from(&parts.join("."), &args.args, *with_ordinality, before);
                let relation = relation.map_err(|e| e.at(position_of(name.span())))?;
                if native_query::is_name(name) { named(relation, alias) } else { function_alias(relation, alias) }
            }
            ast::TableFactor::Function { name, args, alias, with_ordinality, .. } => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let relation = self.function_in_from(&parts.join("."), args, *with_ordinality, before);
                function_alias(relation.map_err(|e| e.at(position_of(name.span())))?, alias)
            }
            ast::TableFactor::UNNEST { alias, array_exprs, with_ordinality, with_offset: false, .. } => {
                let arguments = self.within(before, |binder| {
                    array_exprs.iter().map(|e| binder.expr(e, &Scope::default())).collect::<Result<Vec<_>>>()
                })?;
                function_alias(self.unnest_in_from(arguments, *with_ordinality)?, alias)
            }
            ast::TableFactor::JsonTable { json_expr, json_path, columns, alias } => {
                named(self.json_table(json_expr, json_path, columns, before)?, alias)
            }
            ast::TableFactor::Derived { lateral, subquery, alias, .. } => {
                let around = if *lateral { before.clone() } else { Scope::default() };
                named(self.within(&around, |binder| binder.query(subquery))?, alias)
            }
            ast::TableFactor::NestedJoin { table_with_joins, alias } => {
                let mut relation = self.table_factor(&table_with_joins.relation, before)?;
                for join in &table_with_joins.joins {
                    relation = self.join(relation, join, before)?;
                }
                named(relation, alias)
            }
            other => Err(Error::unsupported(format_args!("{other} in FROM")).at(position_of(other.span()))),
        }
    }

    pub(super) fn table(&mut self, parts: &[String]) -> Result<Relation> {
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

    fn join(&mut self, left: Relation, join: &'a ast::Join, before: &Scope) -> Result<Relation> {
        use ast::JoinOperator as J;
        let mut beside = before.clone();
        beside.columns.extend(left.scope.columns.iter().cloned());
        let mut right = self.table_factor(&join.relation, &beside)?;
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
                let met = self.pending.len();
                let bound = condition(self.expr(condition_text, &scope)?, "ON")
                    .map_err(|e| e.at(position_of(condition_text.span())))?;
                let mut conjuncts = Vec::new();
                bound.into_conjuncts(&mut conjuncts);
                let subqueries = self.pending.split_off(met);
                if !subqueries.is_empty() && kind == JoinKind::Inner {
                    let mut joined = combined(left, right, kind, vec![], vec![]);
                    joined.plan = subqueries.into_iter().fold(joined.plan, |plan, s| s.attached(plan));
                    joined.plan = joined.plan.filtered(conjuncts);
                    return Ok(joined);
                }
                for subquery in subqueries {
                    // Beside the rows of the one side it is about, it changes none of them.
                    let left_ids = left.plan.column_ids();
                    if !subquery.outer_columns().is_disjoint(&left_ids) {
                        return Err(Error::unsupported("a subquery in ON of an outer join that uses its left side")
                            .hint("put it into a subquery of the left side"));
                    }
                    right.plan = subquery.attached(right.plan);
                }
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
        let merged: Vec<(Column, Column)> = names
            .iter()
            .filter(|_| kind == JoinKind::Full)
            .map(|name| Ok((find(&left, name)?, find(&right, name)?)))
            .collect::<Result<_>>()?;
        let mut joined = combined(left, right, kind, on, residual);
        if kind == JoinKind::Full {
            return self.merged(joined, &names, &merged);
        }
        for (place, column) in joined.scope.columns.iter_mut().enumerate() {
            let on_dropped_side = (place >= split) == (kind != JoinKind::Right);
            if on_dropped_side && names.contains(&column.name) {
                column.hidden = true;
            }
        }
        // The merged columns come first, in the order of USING.
        let place = |c: &ScopeColumn| if c.hidden { None } else { names.iter().position(|name| *name == c.name) };
        joined.scope.columns.sort_by_key(|c| place(c).unwrap_or(names.len()));
        Ok(joined)
    }

    /// FULL JOIN USING: either side's column may be missing, so the merged one is computed.
    fn merged(&mut self, joined: Relation, names: &[String], pairs: &[(Column, Column)]) -> Result<Relation> {
        let mut columns: Vec<(Column, Expr)> =
            joined.plan.columns().into_iter().map(|c| (c.clone(), Expr::Column(c))).collect();
        let mut scope = Scope::default();
        for (name, (left, right)) in names.iter().zip(pairs) {
            let both = vec![Expr::Column(left.clone()), Expr::Column(right.clone())];
            let value = crate::function::call(Function::Coalesce, both)?;
            let column = self.new_column(None, name.clone(), value.sql_type());
            scope.columns.push(ScopeColumn {
                qualifier: None,
                table: None,
                name: name.clone(),
                column: column.clone(),
                hidden: false,
            });
            columns.push((column, value));
        }
        for mut column in joined.scope.columns {
            column.hidden |= names.contains(&column.name);
            scope.columns.push(column);
        }
        Ok(Relation { plan: LogicalPlan::Project { input: joined.plan.into(), columns }, scope })
    }
}

/// A function's only column goes by the alias too.
fn function_alias(relation: Relation, alias: &Option<ast::TableAlias>) -> Result<Relation> {
    let Some(alias) = alias else { return Ok(relation) };
    if alias.columns.is_empty() && relation.scope.columns.len() == 1 {
        let name = folded(&alias.name);
        let scope = relation.scope.with_qualifier(&name, std::slice::from_ref(&name))?;
        return Ok(Relation { scope, plan: relation.plan });
    }
    aliased(relation, alias)
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

fn combined(left: Relation, right: Relation, kind: JoinKind, on: Vec<JoinKey>, residual: Vec<Expr>) -> Relation {
    let mut scope = left.scope;
    scope.columns.extend(right.scope.columns);
    let plan = LogicalPlan::Join(Join { on, residual, ..Join::new(left.plan, right.plan, kind) });
    Relation { plan, scope }
}

/// Equalities between the sides as join keys, the rest as it is.
fn split_keys(conjuncts: Vec<Expr>, left: &LogicalPlan, right: &LogicalPlan) -> (Vec<JoinKey>, Vec<Expr>) {
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
