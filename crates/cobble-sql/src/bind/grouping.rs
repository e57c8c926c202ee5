//! GROUP BY with GROUPING SETS, ROLLUP and CUBE. Several sets are aggregates over one input that is computed once, one below
//! the other.

use std::collections::{HashMap, HashSet};

use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{CteDefinition, LogicalPlan, UnionInput};
use cobble_plan::{AggregateCall, SortKey};
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::Scope;
use super::select::{Item, named_item};
use super::{Binder, position_of};
use crate::coerce::settle;
use crate::reworded::group_by_distinct;

/// What a query is grouped by.
#[derive(Default)]
pub(super) struct Grouping {
    /// Each key once.
    pub keys: Vec<Expr>,
    /// Which keys each set has; one set of all keys for a plain GROUP BY.
    pub sets: Vec<Vec<usize>>,
}

impl<'a> Binder<'a> {
    pub(super) fn grouping(&mut self, select: &'a ast::Select, items: &[Item], scope: &Scope) -> Result<Grouping> {
        let written = match &select.group_by {
            ast::GroupByExpr::Expressions(written, modifiers) if modifiers.is_empty() => written,
            other => return Err(Error::unsupported(other)),
        };
        let mut grouping = Grouping { keys: vec![], sets: vec![vec![]] };
        if written.is_empty() {
            return Ok(grouping);
        }
        let (distinct, written) = match written.split_first() {
            Some((first, rest)) if group_by_distinct::is_mark(first) => (true, rest),
            _ => (false, written.as_slice()),
        };
        for element in written {
            let sets = self.element(element, &mut grouping.keys, items, scope)?;
            // Elements side by side multiply.
            grouping.sets = grouping
                .sets
                .iter()
                .flat_map(|left| sets.iter().map(move |right| left.iter().chain(right).copied().collect()))
                .collect();
        }
        for set in &mut grouping.sets {
            set.sort_unstable();
            set.dedup();
        }
        if distinct {
            let mut seen = HashSet::new();
            grouping.sets.retain(|set| seen.insert(set.clone()));
        }
        Ok(grouping)
    }

    fn element(
        &mut self,
        written: &'a ast::Expr,
        keys: &mut Vec<Expr>,
        items: &[Item],
        scope: &Scope,
    ) -> Result<Vec<Vec<usize>>> {
        let mut each = |all: &'a [Vec<ast::Expr>], keys: &mut Vec<Expr>| -> Result<Vec<Vec<usize>>> {
            all.iter()
                .map(|part| {
                    let mut places = Vec::new();
                    for key in part {
                        for set in self.element(key, keys, items, scope)? {
                            places.extend(set);
                        }
                    }
                    Ok(places)
                })
                .collect()
        };
        Ok(match written {
            ast::Expr::GroupingSets(sets) => {
                let mut all = Vec::new();
                for set in sets {
                    match set.as_slice() {
                        // A set may be a ROLLUP or CUBE itself.
                        [
                            one @ (ast::Expr::Rollup(_)
                            | ast::Expr::Cube(_)
                            | ast::Expr::GroupingSets(_)
                            | ast::Expr::Function(_)),
                        ] => {
                            all.extend(self.element(one, keys, items, scope)?);
                        }
                        several => {
                            let mut places = Vec::new();
                            for key in several {
                                for own in self.element(key, keys, items, scope)? {
                                    places.extend(own);
                                }
                            }
                            all.push(places);
                        }
                    }
                }
                all
            }
            ast::Expr::Rollup(parts) => {
                let parts = each(parts, keys)?;
                rollup(&parts)
            }
            ast::Expr::Cube(parts) => {
                let parts = each(parts, keys)?;
                if parts.len() > 12 {
                    return Err(Error::unsupported("a CUBE of more than twelve keys").at(position_of(written.span())));
                }
                cube(&parts)
            }
            ast::Expr::Tuple(parts) => {
                let mut places = Vec::new();
                for part in parts {
                    for own in self.element(part, keys, items, scope)? {
                        places.extend(own);
                    }
                }
                vec![places]
            }
            // Inside GROUPING SETS the parser reads ROLLUP and CUBE as functions.
            ast::Expr::Function(call)
                if ["rollup", "cube"].contains(&call.name.to_string().to_lowercase().as_str()) =>
            {
                let ast::FunctionArguments::List(list) = &call.args else { return Ok(vec![]) };
                let mut parts = Vec::new();
                for argument in &list.args {
                    if let ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) = argument {
                        parts.push(self.element(e, keys, items, scope)?.concat());
                    }
                }
                if call.name.to_string().eq_ignore_ascii_case("rollup") { rollup(&parts) } else { cube(&parts) }
            }
            plain => {
                let key = self.group_key(plain, items, scope)?;
                let place = keys.iter().position(|known| *known == key).unwrap_or_else(|| {
                    keys.push(key);
                    keys.len() - 1
                });
                vec![vec![place]]
            }
        })
    }

    fn group_key(&mut self, written: &'a ast::Expr, items: &[Item], scope: &Scope) -> Result<Expr> {
        // No aggregate may stand in GROUP BY.
        let allowed = self.select.as_mut().map(|s| std::mem::take(&mut s.aggregates_allowed));
        let bound = match self.reference(written, items, "GROUP BY") {
            Ok(Some(expr)) => Ok(expr),
            Ok(None) => match self.expr(written, scope) {
                Ok(bound) => Ok(bound),
                // Input columns come first, then the names of the result, as in PostgreSQL.
                Err(error) => named_item(written, items)?.ok_or(error),
            },
            Err(error) => Err(error),
        };
        if let (Some(select), Some(allowed)) = (&mut self.select, allowed) {
            select.aggregates_allowed = allowed;
        }
        let bound = settle(bound?)?;
        let calls = self.select.as_ref();
        let columns = bound.columns();
        let aggregates =
            calls.iter().flat_map(|s| s.aggregates.iter().map(|(column, call)| (column, call.to_string())));
        let windows = calls.iter().flat_map(|s| s.windows.iter().map(|u| (&u.column, u.call.to_string())));
        if let Some((_, text)) = aggregates.chain(windows).find(|(column, _)| columns.contains(&column.id)) {
            return Err(
                Error::new(Code::Grouping, format!("{text} cannot stand in GROUP BY")).at(position_of(written.span()))
            );
        }
        Ok(bound)
    }

    /// The grouped plan: one column for each key, for each aggregate and for each `grouping(…)`.
    pub(super) fn grouped(
        &mut self,
        input: LogicalPlan,
        sets: &[Vec<usize>],
        keys: &[(Column, Expr)],
        aggregates: &[(Column, AggregateCall)],
        groupings: &[(Column, Vec<Expr>)],
    ) -> Result<LogicalPlan> {
        if let [only] = sets
            && only.len() == keys.len()
            && groupings.is_empty()
        {
            return Ok(LogicalPlan::Aggregate {
                input: input.into(),
                groups: keys.to_vec(),
                aggregates: aggregates.to_vec(),
            });
        }
        self.next_id += 1;
        let (id, name) = (self.next_id, "input".to_owned());
        let shared = input.columns();
        let mut inputs = Vec::new();
        for set in sets {
            // Every set reads the same rows under columns of its own.
            let own: Vec<Column> = shared
                .iter()
                .map(|c| self.new_column(c.qualifier.clone(), c.name.clone(), c.sql_type.clone()))
                .collect();
            let sources: HashMap<ColumnId, Column> = shared.iter().map(|c| c.id).zip(own.iter().cloned()).collect();
            let renamed = |e: &Expr| {
                e.replace(&|e| match e {
                    Expr::Column(c) => sources.get(&c.id).cloned().map(Expr::Column),
                    _ => None,
                })
            };
            let scan = LogicalPlan::CteScan {
                id,
                name: name.clone(),
                columns: own.into_iter().zip(&shared).map(|(column, source)| (column, source.id)).collect(),
            };
            let mut fresh = |c: &Column| self.new_column(c.qualifier.clone(), c.name.clone(), c.sql_type.clone());
            let groups: Vec<(Column, Expr)> = set.iter().map(|i| (fresh(&keys[*i].0), renamed(&keys[*i].1))).collect();
            let calls: Vec<(Column, AggregateCall)> =
                aggregates.iter().map(|(c, call)| (fresh(c), call.map(&mut |e| renamed(e)))).collect();
            let mut columns: Vec<(Column, Expr)> = Vec::new();
            for (place, (key, _)) in keys.iter().enumerate() {
                let value = match set.iter().position(|i| *i == place) {
                    Some(at) => Expr::Column(groups[at].0.clone()),
                    None => Expr::Literal { value: Value::Null, sql_type: key.sql_type.clone() },
                };
                columns.push((fresh(key), value));
            }
            for ((column, _), (own, _)) in aggregates.iter().zip(&calls) {
                columns.push((fresh(column), Expr::Column(own.clone())));
            }
            for (column, arguments) in groupings {
                // One bit for each argument, the first one highest: set where the key is not grouped by.
                let mut bits = 0;
                for argument in arguments {
                    let place = keys.iter().position(|(_, key)| key == argument).ok_or_else(|| {
                        Error::new(Code::Grouping, "the arguments of grouping() must be keys of GROUP BY")
                            .at(self_place(&self.named_at, argument))
                    })?;
                    bits = bits << 1 | i32::from(!set.contains(&place));
                }
                columns.push((
                    Column { id: ColumnId(column.id.0), ..column.clone() },
                    Expr::literal(Value::Integer(bits)),
                ));
            }
            // Ids within a branch must be its own.
            let mut renumbered = Vec::new();
            for (column, expr) in columns {
                renumbered.push((
                    self.new_column(column.qualifier.clone(), column.name.clone(), column.sql_type.clone()),
                    expr,
                ));
            }
            let plan = LogicalPlan::Aggregate { input: scan.into(), groups, aggregates: calls };
            inputs.push(UnionInput::whole(LogicalPlan::Project { input: plan.into(), columns: renumbered }));
        }
        let columns = keys
            .iter()
            .map(|(c, _)| c.clone())
            .chain(aggregates.iter().map(|(c, _)| c.clone()))
            .chain(groupings.iter().map(|(c, _)| c.clone()))
            .collect();
        let definition = CteDefinition { id, name, plan: input.into() };
        Ok(LogicalPlan::With { definitions: vec![definition], body: LogicalPlan::Union { inputs, columns }.into() })
    }

    /// `grouping(a, b)`: which of the keys a row is not grouped by.
    pub(super) fn grouping_call(&mut self, list: &'a [ast::FunctionArg], scope: &Scope) -> Result<Expr> {
        let mut arguments = Vec::new();
        for argument in list {
            match argument {
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) => arguments.push(self.expr(e, scope)?),
                other => return Err(Error::unsupported(format_args!("the argument {other} of grouping()"))),
            }
        }
        if arguments.is_empty() || arguments.len() > 31 {
            return Err(Error::new(Code::UnknownFunction, "grouping() takes 1 to 31 keys of GROUP BY"));
        }
        let column = self.new_column(None, "grouping", SqlType::Integer);
        match &mut self.select {
            Some(select) if select.aggregates_allowed => {
                if let Some((known, _)) = select.groupings.iter().find(|(_, known)| *known == arguments) {
                    return Ok(Expr::Column(known.clone()));
                }
                select.groupings.push((column.clone(), arguments));
                Ok(Expr::Column(column))
            }
            _ => Err(Error::new(Code::Grouping, "grouping() belongs in SELECT, HAVING or ORDER BY")),
        }
    }
}

/// ROLLUP: all keys, then one fewer from the right each time.
fn rollup(parts: &[Vec<usize>]) -> Vec<Vec<usize>> {
    (0..=parts.len()).rev().map(|n| parts[..n].concat()).collect()
}

/// Every choice of the keys.
fn cube(parts: &[Vec<usize>]) -> Vec<Vec<usize>> {
    (0..1u32 << parts.len().min(12))
        .rev()
        .map(|mask| {
            let chosen = parts.iter().enumerate().filter(|(i, _)| mask >> (parts.len() - 1 - i) & 1 == 1);
            chosen.flat_map(|(_, part)| part.iter().copied()).collect()
        })
        .collect()
}

fn self_place(named_at: &HashMap<ColumnId, cobble_types::Position>, expr: &Expr) -> Option<cobble_types::Position> {
    expr.columns().iter().find_map(|id| named_at.get(id).copied())
}

/// Sort keys with their expressions changed.
pub(super) fn map_keys(keys: &[SortKey], change: impl Fn(&Expr) -> Result<Expr>) -> Result<Vec<SortKey>> {
    keys.iter().map(|key| Ok(SortKey { expr: change(&key.expr)?, ..key.clone() })).collect()
}
