//! Calls of aggregate functions.

use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::Binder;
use super::scope::Scope;
use crate::coerce::{coerce, condition, settle};

impl<'a> Binder<'a> {
    /// An aggregate in the list of a SELECT: computed by a step of its own, here the column it comes in.
    pub(super) fn aggregate(
        &mut self,
        function: AggregateFunction,
        call: &'a ast::Function,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Expr> {
        if !self.select.as_ref().is_some_and(|s| s.aggregates_allowed) {
            return Err(Error::new(Code::Grouping, format!("the aggregate {}() cannot stand here", function.name()))
                .hint(
                    "aggregates belong in SELECT, HAVING or ORDER BY, not inside each other; filter them with HAVING",
                ));
        }
        // Inside the arguments no further aggregate and no window may stand.
        let windows_allowed = self.select.as_mut().is_some_and(|s| {
            s.aggregates_allowed = false;
            std::mem::take(&mut s.windows_allowed)
        });
        let before = self.pending.len();
        let bound = self.aggregate_call(function, call, list, scope);
        let met = self.pending.split_off(before);
        let column = match &bound {
            Ok(call) => self.new_column(None, function.name(), call.sql_type.clone()),
            Err(_) => self.new_column(None, "", SqlType::Null),
        };
        let Some(select) = &mut self.select else { return Err(Error::internal("a SELECT has lost its calls")) };
        (select.aggregates_allowed, select.windows_allowed) = (true, windows_allowed);
        select.below.extend(met);
        let call = bound?;
        if let Some((known, _)) = select.aggregates.iter().find(|(_, known)| *known == call) {
            return Ok(Expr::Column(known.clone()));
        }
        select.aggregates.push((column.clone(), call));
        Ok(Expr::Column(column))
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
            [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Wildcard)] if function == AggregateFunction::Count => {}
            _ => {
                for argument in list {
                    match argument {
                        ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(e)) => {
                            arguments.push(settle(self.expr(e, scope)?)?);
                        }
                        other => return Err(Error::unsupported(format_args!("the argument {other} of {name}()"))),
                    }
                }
                if arguments.is_empty() && !function.is_ordered_set() {
                    return Err(Error::new(Code::UnknownFunction, format!("{name}() does not exist"))
                        .hint(format!("it is called as {name}({})", function.arguments())));
                }
            }
        }
        if function.is_ordered_set() {
            for key in &call.within_group {
                order.push(self.inner_sort_key(key, scope)?);
            }
            let [key] = order.as_mut_slice() else {
                return Err(Error::new(
                    Code::UnknownFunction,
                    format!("{name} needs WITHIN GROUP (ORDER BY …) with one key"),
                ));
            };
            if function == AggregateFunction::PercentileCont && key.expr.sql_type().is_number() {
                key.expr = coerce(key.expr.clone(), &SqlType::Double)?;
            }
            arguments.insert(0, key.expr.clone());
        } else if !call.within_group.is_empty() {
            return Err(Error::new(Code::Syntax, format!("WITHIN GROUP has no meaning for {name}")));
        }
        let converted = arguments.into_iter().enumerate().map(|(i, a)| argument(function, i, a));
        let arguments = converted.collect::<Result<Vec<_>>>()?;
        let filter = match &call.filter {
            Some(filter) => Some(condition(self.expr(filter, scope)?, "FILTER")?),
            None => None,
        };
        let types: Vec<SqlType> = arguments.iter().map(Expr::sql_type).collect();
        let given: Vec<String> = types.iter().map(SqlType::to_string).collect();
        let sql_type = function.result_type(&types).ok_or_else(|| {
            let error = Error::new(Code::UnknownFunction, format!("{name}({}) does not exist", given.join(", ")));
            error.hint(format!("it is called as {name}({})", function.arguments()))
        })?;
        if distinct && !types.iter().all(SqlType::is_ordered) {
            return Err(Error::new(
                Code::TypeMismatch,
                format!("values of type {} cannot be compared for DISTINCT", given.join(", ")),
            ));
        }
        // Where the order of values makes no difference it is not kept.
        if !function.collects() {
            order.clear();
        }
        Ok(AggregateCall { function, arguments, distinct, order, filter, sql_type })
    }
}

/// Implicit conversions of arguments.
fn argument(function: AggregateFunction, place: usize, given: Expr) -> Result<Expr> {
    use AggregateFunction as F;
    let own = given.sql_type();
    let double = |e: Expr| if own.is_number() || own == SqlType::Null { coerce(e, &SqlType::Double) } else { Ok(e) };
    match (function, place) {
        (f, _) if f.is_regression() => double(given),
        (F::PercentileCont | F::PercentileDisc, 1) => match &own {
            SqlType::Array(item) if item.is_number() => coerce(given, &SqlType::Array(Box::new(SqlType::Double))),
            _ => double(given),
        },
        (F::ApproxPercentile, _) => double(given),
        (F::StringAgg, _) if own == SqlType::Null => coerce(given, &SqlType::Text),
        (F::Count, 0) if matches!(given, Expr::Literal { value: Value::Null, .. }) => coerce(given, &SqlType::Text),
        _ => Ok(given),
    }
}
