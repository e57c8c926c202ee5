//! Common table expressions. One that is read once, or that is little more than a table, is bound anew at each use, so that
//! conditions reach its sources; one that computes and is read several times is computed once. For those that name themselves see `recursion.rs`.

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{CteDefinition, LogicalPlan};
use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::query::scope_of;
use super::scope::Reach;
use super::{Binder, Relation, TableReference, folded, position_of, table_references};
use crate::reworded::search_cycle::Clauses;

#[derive(Clone)]
pub(super) struct Cte<'a> {
    pub name: String,
    pub columns: Vec<String>,
    pub query: &'a ast::Query,
    recursive: bool,
    /// Times its name stands in the statement, or what MATERIALIZED asks for.
    uses: usize,
    asked: Option<bool>,
    /// The query it belongs to: its place among those around.
    level: usize,
    /// Once it is computed on its own: its id and columns.
    shared: Option<(u32, Vec<Column>)>,
    pub clauses: Clauses,
    /// While its own step is bound: the rows of the last round.
    pub working: Option<(u32, Vec<Column>)>,
}

impl<'a> Binder<'a> {
    /// Makes the definitions of a WITH visible.
    pub(super) fn define(&mut self, with: &'a ast::With, statement: &'a ast::Query) -> Result<()> {
        let level = self.definitions.len() - 1;
        let named = references_with_repetition(statement);
        for (place, cte) in with.cte_tables.iter().enumerate() {
            let name = folded(&cte.alias.name);
            if with.cte_tables[..place].iter().any(|earlier| folded(&earlier.alias.name) == name) {
                return Err(Error::new(Code::DuplicateAlias, format!("WITH defines \"{name}\" twice"))
                    .at(position_of(cte.alias.name.span)));
            }
            let (clauses, columns) = Clauses::of(&cte.alias.columns)?;
            let recursive = with.recursive && table_references(&cte.query).iter().any(|found| found.is(&name));
            let times = |names: &[TableReference]| names.iter().filter(|found| found.is(&name)).count();
            if !recursive && !clauses.names().is_empty() {
                let message = format!("SEARCH and CYCLE are for recursions, and \"{name}\" does not read itself");
                return Err(Error::new(Code::Syntax, message).at(clauses.position));
            }
            // A recursion reading itself is not a use of its result.
            let own = if recursive { times(&references_with_repetition(cte.query.as_ref())) } else { 0 };
            self.ctes.push(Cte {
                columns: columns.iter().map(|c| folded(&c.name)).collect(),
                query: &cte.query,
                recursive,
                uses: times(&named) - own,
                asked: cte.materialized.as_ref().map(|m| matches!(m, ast::CteAsMaterialized::Materialized)),
                level,
                shared: None,
                working: None,
                clauses,
                name,
            });
        }
        Ok(())
    }

    /// A use of the CTE at this place of the list. It sees only those that were defined before it.
    pub(super) fn cte(&mut self, place: usize) -> Result<Relation> {
        let cte = self.ctes[place].clone();
        if let Some((id, columns)) = &cte.working {
            let mut round = self.cte_scan(*id, &cte, columns)?;
            let carried = cte.clauses.names().len();
            round.scope.columns.iter_mut().rev().take(carried).for_each(|column| column.reach = Reach::Carried);
            return Ok(round);
        }
        if let Some((id, columns)) = &cte.shared {
            return self.cte_scan(*id, &cte, columns);
        }
        let later = self.ctes.split_off(place + usize::from(cte.recursive));
        let (select, pending) = (self.select.take(), std::mem::take(&mut self.pending));
        let keeps_open = std::mem::take(&mut self.keeps_open);
        let bound = if cte.recursive { self.recursion(place, &cte) } else { self.query(cte.query) };
        (self.select, self.pending, self.keeps_open) = (select, pending, keeps_open);
        self.ctes.truncate(place + usize::from(cte.recursive));
        self.ctes.extend(later);
        let relation = bound?;
        let wanted = cte.asked.unwrap_or(cte.uses > 1 && computes(&relation.plan)) || is_volatile(&relation.plan);
        if !wanted || cte.uses < 2 && cte.asked != Some(true) || !relation.plan.free_columns().is_empty() {
            return Ok(Relation {
                scope: relation.scope.with_qualifier(&cte.name, &cte.columns)?,
                plan: relation.plan,
            });
        }
        self.next_id += 1;
        let (id, columns) = (self.next_id, relation.scope.columns.iter().map(|c| c.column.clone()).collect::<Vec<_>>());
        let definition = CteDefinition { id, name: cte.name.clone(), plan: relation.plan.into() };
        if let Some(own) = self.definitions.get_mut(cte.level) {
            own.push(definition);
        }
        self.ctes[place].shared = Some((id, columns.clone()));
        self.cte_scan(id, &cte, &columns)
    }

    fn cte_scan(&mut self, id: u32, cte: &Cte, columns: &[Column]) -> Result<Relation> {
        let fresh: Vec<Column> = columns
            .iter()
            .map(|c| self.new_column(Some(cte.name.clone()), c.name.clone(), c.sql_type.clone()))
            .collect();
        let scope = scope_of(&fresh).with_qualifier(&cte.name, &cte.columns)?;
        let columns = fresh.into_iter().zip(columns).map(|(column, own)| (column, own.id)).collect();
        Ok(Relation { plan: LogicalPlan::CteScan { id, name: cte.name.clone(), columns }, scope })
    }
}

/// True for a plan that does more than read, filter and rename.
fn computes(plan: &LogicalPlan) -> bool {
    match plan {
        LogicalPlan::Scan(_) | LogicalPlan::Values { .. } | LogicalPlan::CteScan { .. } => false,
        LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } => computes(input),
        _ => true,
    }
}

fn is_volatile(plan: &LogicalPlan) -> bool {
    plan.expressions().into_iter().any(Expr::is_volatile) || plan.inputs().into_iter().any(|input| is_volatile(input))
}

pub(super) fn references_with_repetition(query: &impl ast::Visit) -> Vec<TableReference> {
    let mut names = Vec::new();
    let _ = ast::visit_relations(query, |name| {
        names.extend(TableReference::of_name(name, None));
        std::ops::ControlFlow::<()>::Continue(())
    });
    names
}
