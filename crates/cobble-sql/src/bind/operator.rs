//! Comparisons of rows, and with the items of an array.

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::function::{Function, wider_type};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::Binder;
use super::scope::Scope;
use crate::coerce::{binary, coerce, is_untyped, settle};
use crate::function;

/// True for something written as a row value.
pub(super) fn is_row(written: &ast::Expr) -> bool {
    match written {
        ast::Expr::Tuple(_) => true,
        ast::Expr::Nested(inner) => is_row(inner),
        ast::Expr::Function(call) => call.name.to_string().eq_ignore_ascii_case("row"),
        _ => false,
    }
}

impl<'a> Binder<'a> {
    /// `(a, b) op (c, d)` as comparisons of the parts.
    pub(super) fn row_comparison(
        &mut self,
        op: BinaryOp,
        left: &'a ast::Expr,
        right: &'a ast::Expr,
        scope: &Scope,
    ) -> Result<Expr> {
        let (left, right) = (self.row(left, scope)?, self.row(right, scope)?);
        let is_value = |side: &[Expr]| matches!(side, [one] if matches!(one.sql_type(), SqlType::Row(_)));
        if is_value(&left) == is_value(&right) {
            return compare_rows(op, left, right);
        }
        // A column of rows beside a written row: two values.
        let value = |mut side: Vec<Expr>| match (is_value(&side), side.pop()) {
            (true, Some(one)) => Ok(one),
            (_, last) => function::call(Function::MakeRow, side.into_iter().chain(last).collect()),
        };
        binary(op, value(left)?, value(right)?)
    }

    /// `x op ANY (…)` and `x op ALL (…)` over a subquery or an array.
    pub(super) fn quantified(
        &mut self,
        left: &'a ast::Expr,
        op: BinaryOp,
        right: &'a ast::Expr,
        all: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        // x op ALL (…) is NOT (x opposite ANY (…)), with the same unknowns.
        let op = if all { opposite(op)? } else { op };
        let query = match right {
            ast::Expr::Subquery(query) => Some(query),
            ast::Expr::Nested(inner) => match inner.as_ref() {
                ast::Expr::Subquery(query) => Some(query),
                _ => None,
            },
            _ => None,
        };
        if let Some(query) = query {
            return self.any(op, left, query, all, scope);
        }
        let operand = self.expr(left, scope)?;
        let items = match right {
            ast::Expr::Array(array) => &array.elem,
            ast::Expr::Nested(inner) if matches!(inner.as_ref(), ast::Expr::Array(_)) => match inner.as_ref() {
                ast::Expr::Array(array) => &array.elem,
                _ => return Err(Error::internal("an array that is none")),
            },
            other => {
                let any = any_of_array(op, operand, self.expr(other, scope)?)?;
                return Ok(if all { Expr::Not(Box::new(any)) } else { any });
            }
        };
        let any = items
            .iter()
            .map(|item| binary(op, operand.clone(), self.expr(item, scope)?))
            .collect::<Result<Vec<_>>>()?;
        let any = Expr::combined(BinaryOp::Or, any).unwrap_or_else(|| Expr::boolean(false));
        Ok(if all { Expr::Not(Box::new(any)) } else { any })
    }
}

/// The comparison with every item of an array that is computed.
fn any_of_array(op: BinaryOp, operand: Expr, array: Expr) -> Result<Expr> {
    let array = match is_untyped(&array) {
        true => coerce(array, &SqlType::Array(Box::new(settle(operand.clone())?.sql_type())))?,
        false => array,
    };
    let SqlType::Array(item) = array.sql_type() else {
        return Err(Error::new(Code::WrongKind, format!("ANY and ALL take an array, not {}", array.sql_type())));
    };
    let own = operand.sql_type();
    let common = wider_type(&own, &item).ok_or_else(|| {
        Error::new(Code::UnknownFunction, format!("{own} cannot be compared with the items of {}", array.sql_type()))
    })?;
    let arguments = vec![
        Expr::literal(Value::Text(op.symbol().to_owned())),
        coerce(operand, &common)?,
        coerce(array, &SqlType::Array(Box::new(common)))?,
    ];
    Ok(Expr::Call { function: Function::AnyItem, arguments, sql_type: SqlType::Boolean })
}

fn opposite(op: BinaryOp) -> Result<BinaryOp> {
    Ok(match op {
        BinaryOp::Eq => BinaryOp::NotEq,
        BinaryOp::NotEq => BinaryOp::Eq,
        BinaryOp::Lt => BinaryOp::GtEq,
        BinaryOp::LtEq => BinaryOp::Gt,
        BinaryOp::Gt => BinaryOp::LtEq,
        BinaryOp::GtEq => BinaryOp::Lt,
        other => return Err(Error::unsupported(format_args!("{} ALL", other.symbol()))),
    })
}

pub(super) fn compare_rows(op: BinaryOp, left: Vec<Expr>, right: Vec<Expr>) -> Result<Expr> {
    if left.len() != right.len() {
        return Err(Error::new(
            Code::Syntax,
            format!("rows of {} and {} values cannot be compared", left.len(), right.len()),
        ));
    }
    let both = |a: Expr, b: Expr| Expr::compare(BinaryOp::And, a, b);
    let pairs = left.into_iter().zip(right);
    match op {
        BinaryOp::Eq | BinaryOp::IsNotDistinctFrom => {
            let all = pairs.map(|(l, r)| binary(op, l, r)).collect::<Result<Vec<_>>>()?;
            Ok(all.into_iter().reduce(both).unwrap_or_else(|| Expr::boolean(true)))
        }
        BinaryOp::NotEq | BinaryOp::IsDistinctFrom => {
            let any = pairs.map(|(l, r)| binary(op, l, r)).collect::<Result<Vec<_>>>()?;
            let any = any.into_iter().reduce(|a, b| Expr::compare(BinaryOp::Or, a, b));
            Ok(any.unwrap_or_else(|| Expr::boolean(false)))
        }
        BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq => {
            // From the last place: a < b, or a = b and the rest decides.
            let strict = if matches!(op, BinaryOp::Lt | BinaryOp::LtEq) { BinaryOp::Lt } else { BinaryOp::Gt };
            let mut out: Option<Expr> = None;
            for (l, r) in pairs.collect::<Vec<_>>().into_iter().rev() {
                out = Some(match out {
                    None => binary(op, l, r)?,
                    Some(rest) => {
                        let equal = both(binary(BinaryOp::Eq, l.clone(), r.clone())?, rest);
                        Expr::compare(BinaryOp::Or, binary(strict, l, r)?, equal)
                    }
                });
            }
            out.ok_or_else(|| Error::new(Code::Syntax, "a row without values cannot be compared"))
        }
        other => Err(Error::new(
            Code::UnknownFunction,
            format!("\"{}\" does not take rows such as {}", other.symbol(), SqlType::Row(vec![])),
        )),
    }
}
