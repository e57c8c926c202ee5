//! Arguments of functions in FROM that are looked at before binding: constants, by place or by name.

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::folded;

/// Each argument's name, if it has one, and its constant.
pub(super) fn constants<'a>(
    function: &str,
    arguments: &'a [ast::FunctionArg],
    usage: &str,
) -> Result<Vec<(Option<String>, &'a ast::Value)>> {
    let one =
        |argument: &'a ast::FunctionArg| match argument {
            ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Value(value))) => Ok((None, &value.value)),
            ast::FunctionArg::Named { name, arg: ast::FunctionArgExpr::Expr(ast::Expr::Value(value)), .. }
            | ast::FunctionArg::ExprNamed {
                name: ast::Expr::Identifier(name),
                arg: ast::FunctionArgExpr::Expr(ast::Expr::Value(value)),
                ..
            } => Ok((Some(folded(name)), &value.value)),
            other => Err(Error::new(Code::TypeMismatch, format!("{function}() takes constants, not {other}"))
                .hint(usage.to_owned())),
        };
    arguments.iter().map(one).collect()
}

/// The text of a constant in quotes.
pub(super) fn text(value: &ast::Value) -> Option<String> {
    match value {
        ast::Value::SingleQuotedString(text) | ast::Value::EscapedStringLiteral(text) => Some(text.clone()),
        ast::Value::DollarQuotedString(quoted) => Some(quoted.value.clone()),
        _ => None,
    }
}
