//! Binding of FROM: tables, subqueries, CTEs and the joins between them.

use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKind, LogicalPlan, Scan};
use cobble_types::{Error, Result};
use sqlparser::ast::{self, Spanned};

use super::scope::{Scope, ScopeColumn};
use super::{Binder, Cte, Relation, folded, position_of};
use crate::coerce::{binary, condition};

impl<'a> Binder<'a> {
    pub(super) fn from(&mut self, from: &'a [ast::TableWithJoins]) -> Result<Relation> {
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

pub(super) fn cross(left: LogicalPlan, right: LogicalPlan) -> LogicalPlan {
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
pub(super) fn split_keys(
    conjuncts: Vec<Expr>,
    left: &LogicalPlan,
    right: &LogicalPlan,
) -> (Vec<(Expr, Expr)>, Vec<Expr>) {
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
