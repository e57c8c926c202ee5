//! `rows_at('path or pattern', name => value, …)` in FROM: files as a table, without a definition. Like a native query it is described
//! before binding.

use std::collections::BTreeMap;

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::constant_arguments::{constants, text};

pub const NAME: &str = "rows_at";

/// The arguments of `rows_at`.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct RowsAt {
    pub path: String,
    /// What is said of the files, by the names that a defined table has for it.
    pub options: BTreeMap<String, String>,
}

pub(super) fn call(arguments: &[ast::FunctionArg]) -> Result<RowsAt> {
    let usage = "write rows_at('catalog/folder/*.csv'), and what is to be known of the files, such as format => 'csv', header => false";
    let wrong = |what: String| Err(Error::new(Code::TypeMismatch, what).hint(usage));
    let (mut path, mut options) = (None, BTreeMap::new());
    for (name, value) in constants(NAME, arguments, usage)? {
        let text = match (text(value), value) {
            (Some(text), _) => text,
            (None, ast::Value::Boolean(flag)) => flag.to_string(),
            (None, other) => return wrong(format!("rows_at() takes texts, true and false, not {other}")),
        };
        match name {
            None if path.is_none() => path = Some(text),
            None => return wrong("rows_at() takes one path; what else is said has a name".to_owned()),
            Some(name) => {
                if options.insert(name.clone(), text).is_some() {
                    return wrong(format!("{name} is given twice"));
                }
            }
        }
    }
    let Some(path) = path.filter(|path| !path.trim().is_empty()) else {
        return wrong("rows_at() needs a path".to_owned());
    };
    Ok(RowsAt { path, options })
}
