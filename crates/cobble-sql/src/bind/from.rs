//! Binding of FROM: tables, subqueries, CTEs and the joins between them.

use cobble_functions::Function;
use cobble_plan::TableFunction;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKey, JoinKind, LogicalPlan, Scan};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::{Reach, Scope, ScopeColumn};
use super::table_function::FunctionInFrom;
use super::{Binder, Pending, Relation, TableReference, folded, parts_of, position_of};
use crate::coerce::{binary, coerce, condition};
use crate::reworded::join_alias;

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
                Some(left) => {
                    told_apart(&left.scope, &relation.scope).map_err(|e| e.at(position_of(item.relation.span())))?;
                    combined(left, relation, JoinKind::Inner, vec![], vec![])
                }
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
            ast::TableFactor::Table {
                name,
                alias,
                args: None,
                sample,
                with_hints: _,
                version,
                with_ordinality: _,
                partitions: _,
                json_path: _,
                index_hints: _,
            } => {
                let reference = TableReference::of_name(name, version.as_ref());
                let found = reference.and_then(|reference| self.table(&reference));
                let mut relation = found.map_err(|e| e.at(position_of(name.span())))?;
                if let Some(sample) = sample {
                    relation = self.sampled(relation, sample).map_err(|e| e.at(position_of(name.span())))?;
                }
                named(relation, alias)
            }
            ast::TableFactor::Table {
                name,
                alias,
                args: Some(ast::TableFunctionArgs { args, settings: _ }),
                with_ordinality,
                sample: _,
                with_hints: _,
                version: _,
                partitions: _,
                json_path: _,
                index_hints: _,
            }
            | ast::TableFactor::Function { lateral: _, name, args, with_ordinality, alias } => {
                if let Some(found) = TableReference::of_call(name, args) {
                    let at = |error: Error| error.at(position_of(name.span()));
                    if *with_ordinality {
                        return Err(at(Error::unsupported(format_args!("WITH ORDINALITY for {name}()"))
                            .hint("row_number() OVER () numbers rows")));
                    }
                    let mut relation = found.and_then(|found| self.table(&found)).map_err(at)?;
                    relation.scope = relation.scope.with_qualifier(&parts_of(name).join("."), &[]).map_err(at)?;
                    return named(relation, alias);
                }
                let call = FunctionInFrom { name: parts_of(name).join("."), arguments: args, alias };
                let relation = self.function_in_from(&call, *with_ordinality, before);
                let relation = relation.map_err(|e| e.at(position_of(name.span())))?;
                function_alias(relation, alias)
            }
            ast::TableFactor::UNNEST { alias, array_exprs, with_ordinality, with_offset: _, with_offset_alias: _ } => {
                let (arguments, one_row) = self.arguments_within(before, |binder| {
                    array_exprs.iter().map(|e| binder.expr(e, &Scope::default())).collect::<Result<Vec<_>>>()
                })?;
                let rows = self.rows_of(TableFunction::Unnest, arguments, one_row, *with_ordinality)?;
                function_alias(rows, alias)
            }
            ast::TableFactor::JsonTable { json_expr, json_path, columns, alias } => {
                named(self.json_table(json_expr, json_path, columns, before)?, alias)
            }
            ast::TableFactor::Derived { lateral, subquery, alias, sample: _ } => {
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
            // Refused before binding, each at its place.
            other @ (ast::TableFactor::TableFunction { .. }
            | ast::TableFactor::OpenJsonTable { .. }
            | ast::TableFactor::Pivot { .. }
            | ast::TableFactor::Unpivot { .. }
            | ast::TableFactor::UnpivotExpr { .. }
            | ast::TableFactor::MatchRecognize { .. }
            | ast::TableFactor::XmlTable { .. }
            | ast::TableFactor::SemanticView { .. }) => {
                Err(Error::unsupported(format_args!("{other} in FROM")).at(position_of(other.span())))
            }
        }
    }

    /// TABLESAMPLE: each row with the same chance (PostgreSQL manual, SELECT). Blocks are the source's own, so SYSTEM takes rows, too.
    fn sampled(&mut self, relation: Relation, kind: &'a ast::TableSampleKind) -> Result<Relation> {
        let (ast::TableSampleKind::BeforeTableAlias(sample) | ast::TableSampleKind::AfterTableAlias(sample)) = kind;
        if !matches!(relation.plan, LogicalPlan::Scan(_)) {
            return Err(Error::new(Code::WrongKind, "TABLESAMPLE is for tables")
                .hint("WHERE random() < 0.1 takes a part of any rows"));
        }
        let Some(quantity) = &sample.quantity else { return Ok(relation) };
        let wrong = || Error::new(Code::SampleShare, "TABLESAMPLE takes a percentage from 0 to 100");
        let percent = coerce(self.expr(&quantity.value, &Scope::default())?, &SqlType::Double)?;
        let percent = if percent.is_constant() { (self.context.fold)(&percent).unwrap_or(percent) } else { percent };
        let share = match percent {
            Expr::Literal { value: Value::Double(share), .. } if (0.0..=100.0).contains(&share) => share,
            Expr::Literal { .. } => return Err(wrong()),
            _ => return Err(Error::unsupported("a percentage of TABLESAMPLE that is not a constant")),
        };
        let dice = crate::function::call(Function::Random, vec![])?;
        let taken = binary(BinaryOp::Lt, dice, Expr::literal(Value::Double(share / 100.0)))?;
        Ok(Relation { plan: relation.plan.filtered(vec![taken]), scope: relation.scope })
    }

    pub(super) fn table(&mut self, reference: &TableReference) -> Result<Relation> {
        if let Some(place) = self.ctes.iter().rposition(|cte| reference.is(&cte.name)) {
            return self.cte(place);
        }
        if let Some(view) = self.catalog.view(reference) {
            return self.view(&view);
        }
        let table = self.catalog.table(reference)?;
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
                reach: Reach::Open,
                may_be_missing: false,
            });
            columns.push((bound, place));
        }
        Ok(Relation { plan: LogicalPlan::Scan(Scan { table, columns }), scope })
    }

    fn join(&mut self, left: Relation, join: &'a ast::Join, before: &Scope) -> Result<Relation> {
        use ast::JoinOperator as J;
        let mut beside = before.clone();
        beside.columns.extend(left.scope.columns.iter().cloned());
        let right = self.table_factor(&join.relation, &beside)?;
        told_apart(&left.scope, &right.scope).map_err(|e| e.at(position_of(join.relation.span())))?;
        let (kind, constraint) = match &join.join_operator {
            J::Join(c) | J::Inner(c) => (JoinKind::Inner, c),
            J::Left(c) | J::LeftOuter(c) => (JoinKind::Left, c),
            J::Right(c) | J::RightOuter(c) => (JoinKind::Right, c),
            J::FullOuter(c) => (JoinKind::Full, c),
            J::CrossJoin(c) => (JoinKind::Inner, c),
            // Refused before binding.
            J::Semi(_)
            | J::LeftSemi(_)
            | J::RightSemi(_)
            | J::Anti(_)
            | J::LeftAnti(_)
            | J::RightAnti(_)
            | J::CrossApply
            | J::OuterApply
            | J::AsOf { .. }
            | J::StraightJoin(_)
            | J::ArrayJoin
            | J::LeftArrayJoin
            | J::InnerArrayJoin => return Err(Error::unsupported("this kind of join")),
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
                if !subqueries.is_empty() {
                    return self.joined_by_subqueries((left, right), kind, conjuncts, subqueries);
                }
                let (on, residual) = split_keys(conjuncts, &left.plan, &right.plan);
                Ok(combined(left, right, kind, on, residual))
            }
            ast::JoinConstraint::Using(names) => {
                let idents: Vec<&ast::Ident> = names.iter().filter_map(|n| n.0.first()?.as_ident()).collect();
                let place = idents.first().and_then(|ident| position_of(ident.span));
                let (names, alias) = join_alias::taken_apart(idents.into_iter().map(folded).collect());
                let mut joined = self.using(left, right, kind, names.clone()).map_err(|e| e.at(place))?;
                if let Some(alias) = alias {
                    let taken = joined.scope.columns.iter().any(|c| c.qualifier.as_ref() == Some(&alias));
                    if taken {
                        let message = format!("FROM has \"{alias}\" twice");
                        return Err(Error::new(Code::DuplicateAlias, message).at(place));
                    }
                    let merged = |c: &&ScopeColumn| c.reach == Reach::Open && names.contains(&c.name);
                    let named = |c: &ScopeColumn| ScopeColumn {
                        qualifier: Some(alias.clone()),
                        table: None,
                        reach: Reach::Merged,
                        ..c.clone()
                    };
                    let named: Vec<ScopeColumn> = joined.scope.columns.iter().filter(merged).map(named).collect();
                    joined.scope.columns.extend(named);
                }
                Ok(joined)
            }
            ast::JoinConstraint::Natural => {
                let visible = |r: &Relation| {
                    r.scope
                        .columns
                        .iter()
                        .filter(|c| c.reach == Reach::Open)
                        .map(|c| c.name.clone())
                        .collect::<Vec<_>>()
                };
                let theirs = visible(&right);
                let names = visible(&left).into_iter().filter(|name| theirs.contains(name)).collect();
                self.using(left, right, kind, names)
            }
        }
    }

    /// A join whose condition has subqueries. One about the rows of one side alone is computed beside them; one about both is
    /// computed for the pairs.
    fn joined_by_subqueries(
        &mut self,
        (mut left, mut right): (Relation, Relation),
        kind: JoinKind,
        conjuncts: Vec<Expr>,
        subqueries: Vec<Pending>,
    ) -> Result<Relation> {
        if kind == JoinKind::Inner {
            let mut joined = combined(left, right, kind, vec![], vec![]);
            joined.plan = subqueries.into_iter().fold(joined.plan, |plan, s| s.attached(plan)).filtered(conjuncts);
            return Ok(joined);
        }
        let (left_ids, right_ids) = (left.plan.column_ids(), right.plan.column_ids());
        let mut of_both = Vec::new();
        for subquery in subqueries {
            let used = subquery.outer_columns();
            match (used.is_disjoint(&left_ids), used.is_disjoint(&right_ids)) {
                (false, true) => left.plan = subquery.attached(left.plan),
                (_, false) if !used.is_disjoint(&left_ids) => of_both.push(subquery),
                _ => right.plan = subquery.attached(right.plan),
            }
        }
        if of_both.is_empty() {
            let (on, residual) = split_keys(conjuncts, &left.plan, &right.plan);
            return Ok(combined(left, right, kind, on, residual));
        }
        // The side that may be missing, with the condition inside it, for each row of the other.
        let inside = |side: LogicalPlan, of_both: Vec<Pending>| {
            of_both.into_iter().fold(side, |plan, subquery| subquery.attached(plan)).filtered(conjuncts)
        };
        let plan = match kind {
            JoinKind::Left => Join::new(left.plan.clone(), inside(right.plan.clone(), of_both), JoinKind::Left),
            JoinKind::Right => Join::new(right.plan.clone(), inside(left.plan.clone(), of_both), JoinKind::Left),
            _ => return Err(Error::unsupported("a subquery about both sides in the condition of a FULL JOIN")),
        };
        let scope = combined(left, right, kind, vec![], vec![]).scope;
        Ok(Relation { plan: LogicalPlan::Join(plan), scope })
    }

    fn using(&mut self, left: Relation, right: Relation, kind: JoinKind, names: Vec<String>) -> Result<Relation> {
        let find = |relation: &Relation, name: &String, side: &str| -> Result<Column> {
            let mut found = relation.scope.columns.iter().filter(|c| c.name == *name && c.reach == Reach::Open);
            match (found.next(), found.next()) {
                (Some(one), None) => Ok(one.column.clone()),
                (Some(_), Some(_)) => Err(Error::new(
                    Code::AmbiguousName,
                    format!("USING ({name}): several columns of the {side} side have this name"),
                )),
                (None, _) => {
                    let known = relation.scope.columns.iter().map(|c| c.name.as_str());
                    let mut error = Error::unknown("column", name, known);
                    error.message = format!("USING ({name}): the {side} side has no column of this name");
                    Err(error)
                }
            }
        };
        let mut conjuncts = Vec::new();
        for name in &names {
            let (l, r) = (find(&left, name, "left")?, find(&right, name, "right")?);
            conjuncts.push(binary(BinaryOp::Eq, Expr::Column(l), Expr::Column(r))?);
        }
        let (on, residual) = split_keys(conjuncts, &left.plan, &right.plan);
        // The merged column is the one of the side whose rows all come out.
        let split = left.scope.columns.len();
        let merged: Vec<(Column, Column)> = names
            .iter()
            .filter(|_| kind == JoinKind::Full)
            .map(|name| Ok((find(&left, name, "left")?, find(&right, name, "right")?)))
            .collect::<Result<_>>()?;
        let mut joined = combined(left, right, kind, on, residual);
        if kind == JoinKind::Full {
            return self.merged(joined, &names, &merged);
        }
        for (place, column) in joined.scope.columns.iter_mut().enumerate() {
            let on_dropped_side = (place >= split) == (kind != JoinKind::Right);
            if on_dropped_side && names.contains(&column.name) {
                column.reach = Reach::Merged;
            }
        }
        // The merged columns come first, in the order of USING.
        let place =
            |c: &ScopeColumn| if c.reach != Reach::Open { None } else { names.iter().position(|name| *name == c.name) };
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
                reach: Reach::Open,
                may_be_missing: false,
            });
            columns.push((column, value));
        }
        for mut column in joined.scope.columns {
            if names.contains(&column.name) {
                column.reach = Reach::Merged;
            }
            scope.columns.push(column);
        }
        Ok(Relation { plan: LogicalPlan::Project { input: joined.plan.into(), columns }, scope })
    }
}

/// The only column of a function is named by the alias too.
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
    // Plans show columns under the alias, so the scan keeps it.
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

/// That no two tables of a FROM go by one name. Tables of different places may have the same name, as long as none is an alias.
fn told_apart(left: &Scope, right: &Scope) -> Result<()> {
    for own in &right.columns {
        let twice = |c: &&ScopeColumn| {
            own.qualifier.is_some()
                && c.qualifier == own.qualifier
                && !(c.table.is_some() && own.table.is_some() && c.table != own.table)
        };
        if let Some(name) = left.columns.iter().find(twice).and_then(|c| c.qualifier.as_ref()) {
            return Err(Error::new(Code::DuplicateAlias, format!("FROM has \"{name}\" twice"))
                .hint("give one of them another name with AS"));
        }
    }
    Ok(())
}

fn combined(left: Relation, right: Relation, kind: JoinKind, on: Vec<JoinKey>, residual: Vec<Expr>) -> Relation {
    let mut scope = left.scope;
    let mut added = right.scope.columns;
    if matches!(kind, JoinKind::Right | JoinKind::Full) {
        scope.columns.iter_mut().for_each(|c| c.may_be_missing = true);
    }
    if matches!(kind, JoinKind::Left | JoinKind::Full) {
        added.iter_mut().for_each(|c| c.may_be_missing = true);
    }
    scope.columns.extend(added);
    let plan = LogicalPlan::Join(Join { on, residual, ..Join::new(left.plan, right.plan, kind) });
    Relation { plan, scope }
}

/// Equalities between the sides as join keys, the rest as it is.
fn split_keys(conjuncts: Vec<Expr>, left: &LogicalPlan, right: &LogicalPlan) -> (Vec<JoinKey>, Vec<Expr>) {
    let (left_ids, right_ids) = (left.column_ids(), right.column_ids());
    let (mut on, mut residual) = (Vec::new(), Vec::new());
    for conjunct in conjuncts {
        match JoinKey::of(&conjunct, &left_ids, &right_ids) {
            Some(key) => on.push(key),
            None => residual.push(conjunct),
        }
    }
    (on, residual)
}
