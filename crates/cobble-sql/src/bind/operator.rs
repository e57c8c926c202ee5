//! Operators: those that are expressions, those that are functions with a sign for a name, comparisons of rows and with the items
//! of an array.

use cobble_functions::{Function, wider_type};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::Binder;
use super::pattern::Comparison;
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
        comparison: Comparison,
        right: &'a ast::Expr,
        all: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        // x op ALL (…) is NOT (x opposite ANY (…)), with the same unknowns.
        let comparison = if all { comparison.opposite()? } else { comparison };
        let query = match right {
            ast::Expr::Subquery(query) => Some(query),
            ast::Expr::Nested(inner) => match inner.as_ref() {
                ast::Expr::Subquery(query) => Some(query),
                _ => None,
            },
            _ => None,
        };
        if let Some(query) = query {
            return self.any(comparison, left, query, all, scope);
        }
        let operand = self.expr(left, scope)?;
        let items = match right {
            ast::Expr::Array(array) => &array.elem,
            ast::Expr::Nested(inner) if matches!(inner.as_ref(), ast::Expr::Array(_)) => match inner.as_ref() {
                ast::Expr::Array(array) => &array.elem,
                _ => return Err(Error::internal("an array that is none")),
            },
            other => {
                let any = any_of_array(comparison, operand, self.expr(other, scope)?)?;
                return Ok(if all { Expr::Not(Box::new(any)) } else { any });
            }
        };
        let any = items
            .iter()
            .map(|item| comparison.apply(operand.clone(), self.expr(item, scope)?))
            .collect::<Result<Vec<_>>>()?;
        let any = Expr::combined(BinaryOp::Or, any).unwrap_or_else(|| Expr::boolean(false));
        Ok(if all { Expr::Not(Box::new(any)) } else { any })
    }
}

/// The comparison with every item of an array that is computed.
pub(super) fn any_of_array(comparison: Comparison, operand: Expr, array: Expr) -> Result<Expr> {
    let Comparison::Order(op) = comparison else {
        let array = match is_untyped(&array) {
            true => coerce(array, &SqlType::Array(Box::new(SqlType::Text)))?,
            false => array,
        };
        let symbol = match comparison {
            Comparison::Like { negated: false, case_insensitive: false } => "~~",
            Comparison::Like { negated: false, case_insensitive: true } => "~~*",
            Comparison::Like { negated: true, case_insensitive: false } => "!~~",
            Comparison::Like { negated: true, case_insensitive: true } => "!~~*",
            Comparison::Regex { negated: false, case_insensitive: false } => "~",
            Comparison::Regex { negated: false, case_insensitive: true } => "~*",
            Comparison::Regex { negated: true, case_insensitive: false } => "!~",
            Comparison::Regex { negated: true, case_insensitive: true } | Comparison::Order(_) => "!~*",
        };
        let operand = settle(operand)?;
        if operand.sql_type() != SqlType::Text || array.sql_type() != SqlType::Array(Box::new(SqlType::Text)) {
            let (own, items) = (operand.sql_type(), array.sql_type());
            return Err(Error::new(Code::UnknownFunction, format!("\"{symbol}\" does not take {own} and {items}")));
        }
        let arguments = vec![Expr::literal(Value::Text(symbol.to_owned())), operand, array];
        return Ok(Expr::Call { function: Function::AnyItem, arguments, sql_type: SqlType::Boolean });
    };
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

/// Operators that are functions with a sign for a name.
pub(super) fn special(op: &ast::BinaryOperator) -> Option<Function> {
    use ast::BinaryOperator as B;
    Some(match op {
        B::Arrow => Function::JsonGet,
        B::LongArrow => Function::JsonGetText,
        B::HashArrow => Function::JsonPath,
        B::HashLongArrow => Function::JsonPathText,
        B::HashMinus => Function::JsonDeletePath,
        B::AtArrow | B::ArrowAt => Function::JsonContains,
        B::Question => Function::JsonHasKey,
        B::QuestionPipe => Function::JsonHasAny,
        B::QuestionAnd => Function::JsonHasAll,
        B::AtQuestion => Function::JsonPathExists,
        B::AtAt => Function::JsonPathMatch,
        B::PGStartsWith => Function::StartsWith,
        B::PGExp => Function::Power,
        B::PGOverlap => Function::ArrayOverlaps,
        B::BitwiseAnd => Function::BitAnd,
        B::BitwiseOr => Function::BitOr,
        B::PGBitwiseXor => Function::BitXor,
        B::PGBitwiseShiftLeft => Function::ShiftLeft,
        B::PGBitwiseShiftRight => Function::ShiftRight,
        _ => return None,
    })
}

pub(super) fn special_operator(op: &ast::BinaryOperator, left: Expr, right: Expr) -> Result<Expr> {
    use ast::BinaryOperator as B;
    let own = special(op).ok_or_else(|| Error::internal("an operator without a function"))?;
    let (left, right) = if matches!(op, B::ArrowAt) { (right, left) } else { (left, right) };
    let is_array = |e: &Expr| matches!(e.sql_type(), SqlType::Array(_));
    let given = (left.sql_type(), right.sql_type());
    let bound = match op {
        B::AtArrow | B::ArrowAt if is_array(&left) || is_array(&right) => {
            function::call(Function::ArrayContains, vec![left, right])
        }
        // The operators find nothing where the functions fail.
        B::AtQuestion | B::AtAt => {
            let none = Expr::literal(Value::Text("{}".into())).cast(SqlType::Json);
            function::call(own, vec![left, right, none, Expr::boolean(true)])
        }
        B::HashArrow | B::HashLongArrow | B::HashMinus | B::QuestionPipe | B::QuestionAnd if is_untyped(&right) => {
            // The keys are written as the text of an array.
            let keys = coerce(right, &SqlType::Array(Box::new(SqlType::Text)))?;
            function::call(own, vec![left, keys])
        }
        _ => function::call(own, vec![left, right]),
    };
    // What has no function of these types has no operator either.
    bound.map_err(|error| match error.code {
        Code::UnknownFunction => {
            Error::new(Code::UnknownFunction, format!("\"{op}\" does not take {} and {}", given.0, given.1))
        }
        _ => error,
    })
}

pub(super) fn operator(op: &ast::BinaryOperator) -> Result<BinaryOp> {
    use ast::BinaryOperator as B;
    Ok(match op {
        B::Plus => BinaryOp::Plus,
        B::Minus => BinaryOp::Minus,
        B::Multiply => BinaryOp::Times,
        B::Divide => BinaryOp::Divide,
        B::Modulo => BinaryOp::Modulo,
        B::Eq => BinaryOp::Eq,
        B::NotEq => BinaryOp::NotEq,
        B::Lt => BinaryOp::Lt,
        B::LtEq => BinaryOp::LtEq,
        B::Gt => BinaryOp::Gt,
        B::GtEq => BinaryOp::GtEq,
        B::And => BinaryOp::And,
        B::Or => BinaryOp::Or,
        B::StringConcat => BinaryOp::Concat,
        other => return Err(Error::new(Code::UnknownFunction, format!("there is no operator \"{other}\""))),
    })
}

/// `OPERATOR(pg_catalog.+)`: an operator by its name, which is the one of this sign.
pub(super) fn named_operator(parts: &[String]) -> Result<ast::BinaryOperator> {
    use ast::BinaryOperator as B;
    let unknown = || Error::new(Code::UnknownFunction, format!("there is no operator {}", parts.join(".")));
    let sign = match parts {
        [sign] => sign,
        [schema, sign] if schema == "pg_catalog" => sign,
        _ => return Err(unknown()),
    };
    Ok(match sign.as_str() {
        "+" => B::Plus,
        "-" => B::Minus,
        "*" => B::Multiply,
        "/" => B::Divide,
        "%" => B::Modulo,
        "^" => B::PGExp,
        "=" => B::Eq,
        "<>" | "!=" => B::NotEq,
        "<" => B::Lt,
        "<=" => B::LtEq,
        ">" => B::Gt,
        ">=" => B::GtEq,
        "||" => B::StringConcat,
        "~" => B::PGRegexMatch,
        "~*" => B::PGRegexIMatch,
        "!~" => B::PGRegexNotMatch,
        "!~*" => B::PGRegexNotIMatch,
        "~~" => B::PGLikeMatch,
        "~~*" => B::PGILikeMatch,
        "!~~" => B::PGNotLikeMatch,
        "!~~*" => B::PGNotILikeMatch,
        _ => return Err(unknown()),
    })
}
