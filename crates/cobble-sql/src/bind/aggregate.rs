//! Calls of aggregate functions.

use std::collections::BTreeSet;

use cobble_functions::{Function, Keeps};
use cobble_plan::Ranking;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::scope::Scope;
use super::{Binder, Pending};
use crate::coerce::{binary, condition, settle, unify};

impl<'a> Binder<'a> {
    /// An aggregate in the list of a SELECT: computed by a step of its own, here the column it comes in.
    pub(super) fn aggregate(
        &mut self,
        function: AggregateFunction,
        call: &'a ast::Function,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Expr> {
        if super::window::null_treatment(call).is_some() {
            return Err(super::window::nulls_are_not_passed_over(function.name(), call));
        }
        // Inside the arguments no further aggregate of this query and no window may stand.
        let allowed = self.select.as_mut().map(|s| {
            s.in_aggregate = true;
            (std::mem::take(&mut s.aggregates_allowed), std::mem::take(&mut s.windows_allowed))
        });
        let before = self.pending.len();
        let bound = self.aggregate_call(function, call, list, scope);
        let met = self.pending.split_off(before);
        if let (Some(select), Some((aggregates, windows))) = (&mut self.select, allowed) {
            select.in_aggregate = false;
            (select.aggregates_allowed, select.windows_allowed) = (aggregates, windows);
        }
        self.collected(function.name(), bound?, met, scope)
    }

    /// The column of an aggregate in the query that it belongs to.
    fn collected(&mut self, name: &str, bound: AggregateCall, met: Vec<Pending>, scope: &Scope) -> Result<Expr> {
        let level = self.level_of(&bound, &met, scope);
        let column = self.new_column(None, name, bound.sql_type.clone());
        let select = match level {
            None => self.select.as_mut(),
            Some(level) => self.outer[level].select.as_mut(),
        };
        let Some(select) = select.filter(|s| s.aggregates_allowed) else {
            return Err(Error::new(Code::Grouping, format!("the aggregate {name}() cannot stand here")).hint(
                "aggregates belong in SELECT, HAVING or ORDER BY, not inside each other; filter them with HAVING",
            ));
        };
        select.below.extend(met);
        if let Some((known, _)) = select.aggregates.iter().find(|(_, known)| *known == bound) {
            return Ok(Expr::Column(known.clone()));
        }
        select.aggregates.push((column.clone(), bound));
        Ok(Expr::Column(column))
    }

    /// `rank(value) WITHIN GROUP (ORDER BY key)`: the rank that a row of these values would have (PostgreSQL manual 9.21,
    /// hypothetical-set aggregates). It is counted: so many rows come before it, so many more are its equals.
    pub(super) fn hypothetical(
        &mut self,
        function: Ranking,
        call: &'a ast::Function,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Expr> {
        let name = function.name();
        if !matches!(function, Ranking::Rank | Ranking::DenseRank | Ranking::PercentRank | Ranking::CumeDist) {
            return Err(Error::new(Code::WrongKind, format!("WITHIN GROUP has no meaning for {name}()")));
        }
        let values = self.plain_arguments(name, list, scope)?;
        if values.len() != call.within_group.len() {
            return Err(Error::new(
                Code::UnknownFunction,
                format!("{name}() takes as many values as WITHIN GROUP has keys, not {}", values.len()),
            ));
        }
        let allowed = self.select.as_mut().map(|s| std::mem::take(&mut s.aggregates_allowed));
        let mut keys = Vec::new();
        for key in &call.within_group {
            keys.push(self.inner_sort_key(key, scope)?);
        }
        let filter = match &call.filter {
            Some(filter) => Some(condition(self.expr(filter, scope)?, "FILTER")?),
            None => None,
        };
        if let (Some(select), Some(allowed)) = (&mut self.select, allowed) {
            select.aggregates_allowed = allowed;
        }
        let (mut before, mut equal) = (Expr::boolean(false), Expr::boolean(true));
        let mut compared = Vec::new();
        for (key, value) in keys.into_iter().zip(values) {
            let (own, value, _) = unify(key.expr.clone(), value, name)?;
            let op = if key.descending { BinaryOp::Gt } else { BinaryOp::Lt };
            let is_null = |e: &Expr, negated| Expr::IsNull { operand: Box::new(e.clone()), negated };
            let (null, there) = if key.nulls_first { (&own, &value) } else { (&value, &own) };
            let by_null = Expr::compare(BinaryOp::And, is_null(null, false), is_null(there, true));
            let less = Expr::Call {
                function: Function::Coalesce,
                arguments: vec![binary(op, own.clone(), value.clone())?, Expr::boolean(false)],
                sql_type: SqlType::Boolean,
            };
            let first = Expr::compare(BinaryOp::Or, less, by_null);
            before = Expr::compare(BinaryOp::Or, before, Expr::compare(BinaryOp::And, equal.clone(), first));
            let same = binary(BinaryOp::IsNotDistinctFrom, own.clone(), value)?;
            equal = Expr::compare(BinaryOp::And, equal, same);
            compared.push(own);
        }
        let both = |condition: Option<Expr>| match (condition, filter.clone()) {
            (Some(condition), Some(filter)) => Some(Expr::compare(BinaryOp::And, condition, filter)),
            (condition, filter) => condition.or(filter),
        };
        let count = |arguments: Vec<Expr>, filter: Option<Expr>| AggregateCall {
            function: AggregateFunction::Count,
            distinct: !arguments.is_empty(),
            arguments,
            order: vec![],
            filter,
            sql_type: SqlType::BigInt,
        };
        let one = || Expr::literal(Value::BigInt(1));
        let plus_one = |e: Expr| binary(BinaryOp::Plus, e, one());
        let mut counted = |call: AggregateCall| self.collected(name, call, vec![], scope);
        let share = |part: Expr, of: Expr| {
            let double = |e: Expr| e.cast(SqlType::Double);
            let quotient = binary(BinaryOp::Divide, double(part), double(of.clone()))?;
            let none = binary(BinaryOp::Eq, of, Expr::literal(Value::BigInt(0)))?;
            Ok::<_, Error>(Expr::Case {
                branches: vec![(none, Expr::literal(Value::Double(0.0)))],
                otherwise: Box::new(quotient),
                sql_type: SqlType::Double,
            })
        };
        match function {
            Ranking::Rank => plus_one(counted(count(vec![], both(Some(before))))?),
            Ranking::DenseRank => {
                let rows = match compared.len() {
                    1 => compared,
                    _ => vec![crate::function::call(Function::MakeRow, compared)?],
                };
                plus_one(counted(count(rows, both(Some(before))))?)
            }
            Ranking::PercentRank => {
                let (before, all) = (counted(count(vec![], both(Some(before))))?, counted(count(vec![], both(None)))?);
                share(before, all)
            }
            _ => {
                let upto = Expr::compare(BinaryOp::Or, before, equal);
                let (upto, all) = (counted(count(vec![], both(Some(upto))))?, counted(count(vec![], both(None)))?);
                share(plus_one(upto)?, plus_one(all)?)
            }
        }
    }

    /// The query that an aggregate belongs to: the innermost one of whose columns its arguments use any, so that an aggregate of
    /// outer columns alone is the outer query's (SQL:2016 part 2, 6.9; PostgreSQL manual 4.2.7). `None` is the query at hand.
    fn level_of(&self, call: &AggregateCall, met: &[Pending], scope: &Scope) -> Option<usize> {
        let mut used: BTreeSet<ColumnId> = BTreeSet::new();
        call.expressions().for_each(|e| e.collect_columns(&mut used));
        met.iter().for_each(|subquery| used.extend(subquery.outer_columns()));
        let brings = |scope: &Scope| scope.columns.iter().any(|c| used.contains(&c.column.id));
        if brings(scope) {
            return None;
        }
        self.outer.iter().rposition(|outer| brings(&outer.scope))
    }

    /// The call itself, with arguments, DISTINCT, ORDER BY, WITHIN GROUP and FILTER.
    pub(super) fn aggregate_call(
        &mut self,
        function: AggregateFunction,
        call: &'a ast::Function,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<AggregateCall> {
        let name = function.name();
        let mut distinct = false;
        let mut order = Vec::new();
        if let ast::FunctionArguments::List(arguments) = &call.args {
            distinct = matches!(arguments.duplicate_treatment, Some(ast::DuplicateTreatment::Distinct));
            for clause in &arguments.clauses {
                match clause {
                    ast::FunctionArgumentClause::OrderBy(keys) => {
                        for key in keys {
                            order.push(self.inner_sort_key(key, scope)?);
                        }
                    }
                    other => return Err(Error::unsupported(format_args!("{other} inside {name}()"))),
                }
            }
        }
        let mut arguments = Vec::new();
        match list {
            [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Wildcard)] if function == AggregateFunction::Count => {
                if distinct || !order.is_empty() {
                    return Err(Error::new(
                        Code::Syntax,
                        "count(*) counts all rows: DISTINCT and ORDER BY do not fit it",
                    )
                    .hint("name the columns that are to differ, such as count(DISTINCT (a, b))"));
                }
            }
            _ => {
                for argument in list {
                    match argument {
                        ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) => {
                            arguments.push(self.expr(e, scope)?);
                        }
                        ast::FunctionArg::Unnamed(ast::FunctionArgExpr::QualifiedWildcard(table)) => {
                            let parts: Vec<String> =
                                table.0.iter().filter_map(|p| p.as_ident().map(super::folded)).collect();
                            arguments.push(self.whole_row(&parts, scope)?);
                        }
                        other => return Err(Error::unsupported(format_args!("the argument {other} of {name}()"))),
                    }
                }
                if arguments.is_empty() && !function.entry().within_group {
                    return Err(Error::new(Code::UnknownFunction, format!("{name}() does not exist"))
                        .hint(format!("it is called as {name}({})", function.entry().arguments)));
                }
            }
        }
        if function.entry().within_group {
            for key in &call.within_group {
                order.push(self.inner_sort_key(key, scope)?);
            }
            let [key] = order.as_mut_slice() else {
                return Err(Error::new(
                    Code::UnknownFunction,
                    format!("{name} needs WITHIN GROUP (ORDER BY …) with one key"),
                ));
            };
            // Documents are sorted by a key that is not the value.
            arguments.insert(
                0,
                match &key.expr {
                    Expr::Call { function: cobble_plan::Function::JsonOrder, arguments, .. } => arguments[0].clone(),
                    other => other.clone(),
                },
            );
        } else if !call.within_group.is_empty() {
            return Err(Error::new(Code::Syntax, format!("WITHIN GROUP has no meaning for {name}")));
        }
        let arguments = written(function, arguments)?;
        let filter = match &call.filter {
            Some(filter) => Some(condition(self.expr(filter, scope)?, "FILTER")?),
            None => None,
        };
        let found = function.overload(arguments.iter().map(Expr::sql_type)).ok_or_else(|| {
            let given: Vec<String> = arguments.iter().map(|a| a.sql_type().to_string()).collect();
            let error = Error::new(Code::UnknownFunction, format!("{name}({}) does not exist", given.join(", ")));
            error.hint(format!("it is called as {name}({})", function.entry().arguments))
        })?;
        let arguments = crate::function::coerced(arguments, &found.arguments)?;
        // Values are sorted in the type that the function takes.
        if function.entry().within_group
            && let [key] = order.as_mut_slice()
            && key.expr.sql_type() != arguments[0].sql_type()
            && arguments[0].sql_type() != SqlType::Json
        {
            key.expr = arguments[0].clone();
        }
        // Where the order of values makes no difference it is not kept.
        if function.entry().keeps != Keeps::Values {
            order.clear();
        }
        Ok(AggregateCall { function, arguments, distinct, order, filter, sql_type: found.returns })
    }
}

/// The arguments after those that become documents have.
fn written(function: AggregateFunction, arguments: Vec<Expr>) -> Result<Vec<Expr>> {
    use AggregateFunction::*;
    let last = arguments.len().saturating_sub(1);
    let document = |given: Expr| match function {
        // In the form that jsonb is written in.
        JsonbAgg | JsonbObjectAgg => match settle(given)? {
            given if given.sql_type() == SqlType::Json => Ok(given),
            given => crate::function::call(cobble_plan::Function::ToJsonb, vec![given]),
        },
        _ => crate::function::document(given),
    };
    let one = |(place, given): (usize, Expr)| match function {
        JsonAgg | JsonbAgg => document(given),
        JsonObjectAgg | JsonbObjectAgg if place == last => document(given),
        JsonObjectAgg | JsonbObjectAgg => Ok(settle(given)?.cast(SqlType::Text)),
        _ => Ok(given),
    };
    arguments.into_iter().enumerate().map(one).collect()
}
