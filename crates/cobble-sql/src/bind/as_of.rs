//! `FOR SYSTEM_TIME AS OF moment` (SQL:2011, 7.6) and `FOR VERSION AS OF number or name`: a table as it was.

use cobble_plan::LogicalPlan;
use cobble_plan::expr::Expr;
use cobble_types::zone::{Zone, within};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::constant_arguments::text;
use super::scope::Scope;
use super::{BindContext, Binder, folded};
use crate::coerce::coerce;
use crate::reworded::version;
use crate::session_zone::in_zone;

/// Which state of a table is meant.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum AsOf {
    /// That of a moment.
    Time(Box<ast::Expr>),
    /// That of a number.
    Number(i64),
    /// That which a name stands for.
    Name(String),
}

pub(super) fn as_of(version: &ast::TableVersion) -> Result<AsOf> {
    let ast::TableVersion::ForSystemTimeAsOf(expr) = version else {
        return Err(Error::unsupported(format_args!("{version} after a table")));
    };
    match argument(expr) {
        None => Ok(AsOf::Time(Box::new(expr.clone()))),
        Some(ast::Value::Number(digits, _)) => digits.parse().map(AsOf::Number).map_err(|_| {
            Error::new(Code::TypeMismatch, format!("{digits} is no number of a version, which is a whole number"))
        }),
        Some(value) => match text(value) {
            Some(name) => Ok(AsOf::Name(name)),
            None => Err(Error::new(
                Code::TypeMismatch,
                format!("{value} is no version: it is a number or a name in quotes"),
            )),
        },
    }
}

/// What stands behind VERSION AS OF.
fn argument(expr: &ast::Expr) -> Option<&ast::Value> {
    let ast::Expr::Function(call) = expr else { return None };
    let [part] = call.name.0.as_slice() else { return None };
    if part.as_ident().map(folded)? != version::NAME {
        return None;
    }
    let ast::FunctionArguments::List(list) = &call.args else { return None };
    match list.args.as_slice() {
        [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Value(value)))] => Some(&value.value),
        _ => None,
    }
}

/// The moment that an expression names, in microseconds since 1970-01-01 UTC.
///
/// # Errors
/// When it is not a constant, or none of time.
pub fn moment(expr: &ast::Expr, context: &BindContext) -> Result<i64> {
    let mut binder = Binder::new(context);
    let zone = Zone::parse(context.zone)?;
    let bound = within(zone, || {
        let bound = binder.expr(expr, &Scope::default())?;
        match bound.sql_type() {
            SqlType::Null | SqlType::Text | SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz => {
                coerce(bound, &SqlType::TimestampTz)
            }
            other => {
                Err(Error::new(Code::TypeMismatch, format!("FOR SYSTEM_TIME AS OF takes a timestamp, not {other}"))
                    .hint("FOR VERSION AS OF takes the number of a snapshot"))
            }
        }
    })?;
    let columns = vec![binder.new_column(None, "at", SqlType::TimestampTz)];
    let mut plan = LogicalPlan::Values { columns, rows: vec![vec![bound]] };
    if zone != Zone::Offset(0) {
        plan = in_zone(&plan, context.zone);
    }
    let LogicalPlan::Values { rows, .. } = plan else { return Err(Error::internal("a moment is no row")) };
    let bound = rows.into_iter().flatten().next().ok_or_else(|| Error::internal("a moment is no value"))?;
    let folded = if bound.is_constant() { (context.fold)(&bound).unwrap_or(bound) } else { bound };
    match folded {
        Expr::Literal { value: Value::TimestampTz(at), .. } => Ok(at),
        _ => Err(Error::new(Code::TypeMismatch, format!("FOR SYSTEM_TIME AS OF takes a constant moment, not {expr}"))),
    }
}
