//! `VARIADIC array`: the items of an array as the last arguments of a function that takes any number of them (PostgreSQL manual 38.5.6).

use cobble_functions::Function;
use cobble_plan::expr::Expr;
use cobble_types::{Code, Error, Result, SqlType};
use sqlparser::ast;

use super::Binder;
use super::scope::Scope;
use crate::dialect::VARIADIC;

/// True for what VARIADIC and its array have been read as.
pub(super) fn is_mark(call: &ast::Function) -> bool {
    matches!(call.name.0.as_slice(), [only] if only.as_ident().is_some_and(|name| name.value == VARIADIC))
}

impl<'a> Binder<'a> {
    pub(super) fn variadic_array(&mut self, call: &'a ast::Function, scope: &Scope) -> Result<Expr> {
        let ast::FunctionArguments::List(list) = &call.args else {
            return Err(Error::internal("VARIADIC without an array"));
        };
        match list.args.as_slice() {
            [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(array))] => self.expr(array, scope),
            _ => Err(Error::internal("VARIADIC without an array")),
        }
    }
}

/// The arguments of a call with the array's items as the last of them.
///
/// # Errors
/// When the function takes a fixed number, or the array is computed and the function needs to know how many items it has.
pub(super) fn spread(name: &str, mut arguments: Vec<Expr>, array: Expr) -> Result<Vec<Expr>> {
    let takes = ["concat", "concat_ws", "format", "num_nulls", "num_nonnulls"];
    let of_documents = ["json_build_array", "json_build_object", "json_extract_path", "json_extract_path_text"];
    let plain = name.replacen("jsonb_", "json_", 1);
    if !takes.contains(&name) && !of_documents.contains(&plain.as_str()) {
        return Err(Error::new(Code::UnknownFunction, format!("{name}() takes no VARIADIC array")));
    }
    match array {
        Expr::Call { function: Function::MakeArray, arguments: items, .. } => arguments.extend(items),
        array if !matches!(array.sql_type(), SqlType::Array(_)) => {
            return Err(Error::new(Code::TypeMismatch, format!("VARIADIC takes an array, not {}", array.sql_type())));
        }
        array if plain.starts_with("json_extract_path") => arguments.push(array),
        _ => {
            return Err(Error::unsupported(format_args!(
                "{name}() with a VARIADIC array that is not written as ARRAY[…]"
            ))
            .hint("array_to_string() joins the items of any array"));
        }
    }
    Ok(arguments)
}
