//! `native_query('catalog', 'text')` in FROM: a query in the source's own language as a table. It is described before binding, like
//! a table, under a key made of its arguments.

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::folded;

pub const NAME: &str = "native_query";

pub(super) fn is_name(name: &ast::ObjectName) -> bool {
    matches!(name.0.as_slice(), [part] if part.as_ident().map(folded).as_deref() == Some(NAME))
}

/// Catalog and text of a native query, when the name of a table is such a key.
pub fn native_query(name: &[String]) -> Option<(&str, &str)> {
    match name {
        [function, catalog, text, _] if function == NAME => Some((catalog, text)),
        _ => None,
    }
}

/// The arguments as a name of four parts, which no table has.
pub(super) fn key(arguments: &[ast::FunctionArg]) -> Result<Vec<String>> {
    let usage = "write native_query('catalog', $$ SELECT … $$)";
    let wrong = |what: String| Err(Error::new(Code::TypeMismatch, what).hint(usage));
    let mut texts = Vec::new();
    for argument in arguments {
        let ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Value(value))) = argument else {
            return wrong(format!("native_query() takes constant texts, not {argument}"));
        };
        let text = match &value.value {
            ast::Value::SingleQuotedString(text) | ast::Value::EscapedStringLiteral(text) => text.clone(),
            ast::Value::DollarQuotedString(quoted) => quoted.value.clone(),
            other => return wrong(format!("native_query() takes constant texts, not {other}")),
        };
        texts.push(text);
    }
    match texts.as_slice() {
        [catalog, text] => Ok(vec![NAME.to_owned(), catalog.to_lowercase(), text.clone(), String::new()]),
        _ => wrong(format!("native_query() takes two texts, not {}", texts.len())),
    }
}
