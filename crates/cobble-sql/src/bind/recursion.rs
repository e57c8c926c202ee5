//! `WITH RECURSIVE`: a base, and a step that reads the rows of the round before. The rules for where the step may read
//! itself are those of the standard (ISO 9075-2, 7.17: linear recursion, monotonic in the recursive name).

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{LogicalPlan, UnionInput};
use cobble_types::{Code, Error, Result, SqlType};
use sqlparser::ast::{self, Spanned};

use super::cte::{Cte, references_with_repetition};
use super::query::scope_of;
use super::{Binder, Relation, folded, position_of};

impl<'a> Binder<'a> {
    /// `base UNION [ALL] step`, where the step reads what the round before it gave.
    pub(super) fn recursion(&mut self, place: usize, cte: &Cte<'a>) -> Result<Relation> {
        let at = position_of(cte.query.span());
        let (left, right, distinct) = parts(cte)?;
        let own = self.ctes.split_off(place);
        let base = self.set_expr(left);
        self.ctes.extend(own);
        let mut base = base?;
        self.next_id += 1;
        let id = self.next_id;
        let mut base_columns: Vec<Column> = base.scope.columns.iter().map(|c| c.column.clone()).collect();
        let carried = self.carried(cte, &base_columns)?;
        if let Some(carried) = &carried {
            (base.plan, base_columns) = self.beginning(base.plan, base_columns, carried)?;
        }
        let columns: Vec<Column> =
            base_columns.iter().map(|c| self.new_column(None, c.name.clone(), c.sql_type.clone())).collect();
        let named = columns.iter().enumerate();
        let named =
            named.map(|(i, c)| Column { name: cte.columns.get(i).unwrap_or(&c.name).clone(), ..c.clone() }).collect();
        self.ctes[place].working = Some((id, named));
        let step = self.set_expr(right);
        self.ctes[place].working = None;
        let mut step = step?;
        let mut step_columns: Vec<Column> = step.scope.columns.iter().map(|c| c.column.clone()).collect();
        if step_columns.len() != base_columns.len() {
            return Err(Error::new(
                Code::Syntax,
                format!("the sides of UNION have {} and {} columns", base_columns.len(), step_columns.len()),
            )
            .at(at));
        }
        if let Some(carried) = &carried {
            (step.plan, step_columns) = self.going_on(step.plan, step_columns, &base_columns, carried)?;
        }
        let mut converted = Vec::new();
        for (wanted, given) in base_columns.iter().zip(&step_columns) {
            if !assignable(&given.sql_type, &wanted.sql_type) {
                return Err(Error::new(
                    Code::TypeMismatch,
                    format!(
                        "column \"{}\" of the recursive \"{}\" is {} in its base and {} in its step",
                        wanted.name, cte.name, wanted.sql_type, given.sql_type
                    ),
                )
                .hint(format!("cast it in the base, such as ::{}", given.sql_type))
                .at(at));
            }
            let column = self.new_column(None, wanted.name.clone(), wanted.sql_type.clone());
            converted.push((column, Expr::Column(given.clone()).cast(wanted.sql_type.clone())));
        }
        let scope = scope_of(&columns);
        let plan = LogicalPlan::Recursive {
            id,
            name: cte.name.clone(),
            base: UnionInput { plan: base.plan.into(), columns: base_columns },
            step: UnionInput::whole(LogicalPlan::Project { input: step.plan.into(), columns: converted }),
            columns,
            distinct,
        };
        Ok(Relation { plan, scope })
    }

    /// An aggregate over the rows of one round would give another answer with other rounds: no query has it.
    pub(super) fn refuse_aggregate_of_recursion(&self, from: &[ast::TableWithJoins]) -> Result<()> {
        for cte in self.ctes.iter().filter(|cte| cte.working.is_some()) {
            let mut factors =
                from.iter().flat_map(|t| std::iter::once(&t.relation).chain(t.joins.iter().map(|j| &j.relation)));
            let reads = factors.any(|factor| match factor {
                ast::TableFactor::Table { name, .. } => {
                    matches!(name.0.as_slice(), [only] if only.as_ident().map(folded).as_ref() == Some(&cte.name))
                }
                _ => false,
            });
            if reads {
                let message = format!("the step of the recursive \"{}\" aggregates the rows of a round", cte.name);
                return Err(Error::new(Code::InvalidRecursion, message)
                    .hint("aggregate the finished result, in the query that reads it")
                    .at(position_of(cte.query.span())));
            }
        }
        Ok(())
    }
}

/// The base and the step of a recursion, and whether rows that were seen are dropped. Refuses a recursion that the
/// standard does not define.
fn parts<'a>(cte: &Cte<'a>) -> Result<(&'a ast::SetExpr, &'a ast::SetExpr, bool)> {
    let at = position_of(cte.query.span());
    let ast::SetExpr::SetOperation { op: ast::SetOperator::Union, set_quantifier, left, right } =
        cte.query.body.as_ref()
    else {
        return Err(Error::new(Code::InvalidRecursion, format!("the recursive \"{}\" is not a UNION", cte.name))
            .hint("write: base UNION ALL step, with the recursive name in the step alone")
            .at(at));
    };
    if cte.query.order_by.is_some() || cte.query.limit_clause.is_some() || cte.query.with.is_some() {
        return Err(Error::unsupported("WITH, ORDER BY or LIMIT inside a recursive query").at(at));
    }
    let reads =
        |part: &ast::SetExpr| references_with_repetition(part).iter().filter(|found| found.is(&cte.name)).count();
    let refused = |place: &str| {
        Error::new(Code::InvalidRecursion, format!("the recursive \"{}\" reads itself {place}", cte.name))
            .hint("its step may read it once, in FROM, and not at the optional side of an outer join")
            .at(at)
    };
    if reads(left) > 0 {
        return Err(refused("in its base"));
    }
    let mut in_from = 0;
    if let Some(place) = misplaced(right, &cte.name, &mut in_from) {
        return Err(refused(place));
    }
    match (reads(right), in_from) {
        (all, from) if all > from => Err(refused("in a subquery of an expression")),
        (_, 0) => Err(refused("nowhere in its step")),
        (_, 1) => Ok((left, right, !matches!(set_quantifier, ast::SetQuantifier::All))),
        _ => Err(refused("more than once in its step")),
    }
}

fn is(name: &[String], wanted: &str) -> bool {
    matches!(name, [only] if only == wanted)
}

/// Counts the reads of a name in the FROM clauses of a step, and gives the place of one that stands where it must not.
fn misplaced(step: &ast::SetExpr, name: &str, reads: &mut usize) -> Option<&'static str> {
    match step {
        ast::SetExpr::Select(select) => select.from.iter().find_map(|table| misplaced_in_joins(table, name, reads)),
        ast::SetExpr::Query(query) => misplaced(&query.body, name, reads),
        ast::SetExpr::SetOperation { op, left, right, .. } => {
            let mut own = 0;
            let left = misplaced(left, name, &mut own);
            let in_left = own;
            let right = misplaced(right, name, &mut own);
            *reads += own;
            match op {
                _ if left.is_some() || right.is_some() => left.or(right),
                ast::SetOperator::Except | ast::SetOperator::Minus if own > in_left => Some("at the right of EXCEPT"),
                ast::SetOperator::Intersect if own > 0 => Some("inside INTERSECT"),
                _ => None,
            }
        }
        _ => None,
    }
}

fn misplaced_in_joins(table: &ast::TableWithJoins, name: &str, reads: &mut usize) -> Option<&'static str> {
    use ast::JoinOperator as J;
    let mut own = 0;
    let mut found = misplaced_in_factor(&table.relation, name, &mut own);
    for join in &table.joins {
        let before = own;
        found = found.or(misplaced_in_factor(&join.relation, name, &mut own));
        let (left, right) = match join.join_operator {
            J::Left(_) | J::LeftOuter(_) => (false, true),
            J::Right(_) | J::RightOuter(_) => (true, false),
            J::FullOuter(_) => (true, true),
            _ => (false, false),
        };
        if left && before > 0 || right && own > before {
            found = found.or(Some("at the optional side of an outer join"));
        }
    }
    *reads += own;
    found
}

fn misplaced_in_factor(factor: &ast::TableFactor, name: &str, reads: &mut usize) -> Option<&'static str> {
    match factor {
        ast::TableFactor::Table { name: table, args: None, .. } => {
            let parts: Vec<String> = table.0.iter().filter_map(|part| part.as_ident().map(folded)).collect();
            *reads += usize::from(is(&parts, name));
            None
        }
        ast::TableFactor::Derived { subquery, .. } => misplaced(&subquery.body, name, reads),
        ast::TableFactor::NestedJoin { table_with_joins, .. } => misplaced_in_joins(table_with_joins, name, reads),
        _ => None,
    }
}

fn assignable(given: &SqlType, wanted: &SqlType) -> bool {
    cobble_functions::wider_type(given, wanted).as_ref() == Some(wanted)
        || matches!((given, wanted), (SqlType::Numeric { .. }, SqlType::Numeric { .. }))
}
