//! `native_query('catalog', 'text')` in FROM: a query in the source's own language as a table. It is described before binding, like a
//! table.

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::constant_arguments::{constants, text};

pub const NAME: &str = "native_query";

/// The arguments of a native query.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct NativeCall {
    pub catalog: String,
    pub text: String,
    pub split_on: Option<String>,
    pub split_into: Option<u32>,
}

pub(super) fn call(arguments: &[ast::FunctionArg]) -> Result<NativeCall> {
    let usage = "write native_query('catalog', $$ SELECT … $$), and split_on => 'column', split_into => 4 to fetch it in portions";
    let wrong = |what: String| Err(Error::new(Code::TypeMismatch, what).hint(usage));
    let (mut texts, mut split_on, mut split_into) = (Vec::new(), None, None);
    for (name, value) in constants(NAME, arguments, usage)? {
        match (name.as_deref(), text(value), value) {
            (None, Some(text), _) => texts.push(text),
            (Some("split_on"), Some(text), _) => split_on = Some(text).filter(|on| !on.is_empty()),
            (Some("split_into"), _, ast::Value::Number(number, _)) if number.parse::<u32>().is_ok() => {
                split_into = number.parse().ok();
            }
            (Some(name @ ("split_on" | "split_into")), _, value) => {
                return wrong(format!("{name} of native_query() cannot be {value}"));
            }
            (Some(name), _, _) => return Err(Error::unknown("argument", name, ["split_on", "split_into"])),
            (None, None, other) => return wrong(format!("native_query() takes constant texts, not {other}")),
        }
    }
    match texts.as_slice() {
        [catalog, text] => Ok(NativeCall { catalog: catalog.to_lowercase(), text: text.clone(), split_on, split_into }),
        _ => wrong(format!("native_query() takes two texts, not {}", texts.len())),
    }
}
