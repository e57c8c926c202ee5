//! `native_query('catalog', 'text')` in FROM: a query in the source's own language as a table. It is described before binding, like
//! a table, under a key made of its arguments.

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::constant_arguments::{constants, text};

pub const NAME: &str = "native_query";

/// The arguments of a native query.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NativeCall<'a> {
    pub catalog: &'a str,
    pub text: &'a str,
    pub split_on: Option<&'a str>,
    pub split_into: Option<u32>,
}

/// The native query that the name of a table is a key of, if it is one.
pub fn native_query(name: &[String]) -> Option<NativeCall<'_>> {
    match name {
        [function, catalog, text, split_on, split_into] if function == NAME => Some(NativeCall {
            catalog,
            text,
            split_on: Some(split_on.as_str()).filter(|on| !on.is_empty()),
            split_into: split_into.parse().ok(),
        }),
        _ => None,
    }
}

/// The arguments as a name of five parts, which no table has.
pub(super) fn key(arguments: &[ast::FunctionArg]) -> Result<Vec<String>> {
    let usage = "write native_query('catalog', $$ SELECT … $$), and split_on => 'column', split_into => 4 to fetch it in portions";
    let wrong = |what: String| Err(Error::new(Code::TypeMismatch, what).hint(usage));
    let (mut texts, mut split_on, mut split_into) = (Vec::new(), String::new(), String::new());
    for (name, value) in constants(NAME, arguments, usage)? {
        match (name.as_deref(), text(value), value) {
            (None, Some(text), _) => texts.push(text),
            (Some("split_on"), Some(text), _) => split_on = text,
            (Some("split_into"), _, ast::Value::Number(number, _)) if number.parse::<u32>().is_ok() => {
                split_into = number.clone();
            }
            (Some(name @ ("split_on" | "split_into")), _, value) => {
                return wrong(format!("{name} of native_query() cannot be {value}"));
            }
            (Some(name), _, _) => return Err(Error::unknown("argument", name, ["split_on", "split_into"])),
            (None, None, other) => return wrong(format!("native_query() takes constant texts, not {other}")),
        }
    }
    match texts.as_slice() {
        [catalog, text] => Ok(vec![NAME.to_owned(), catalog.to_lowercase(), text.clone(), split_on, split_into]),
        _ => wrong(format!("native_query() takes two texts, not {}", texts.len())),
    }
}
