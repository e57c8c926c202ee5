//! `rows_at('path or pattern', name => value, …)` in FROM: files as a table, without a definition. Like a native query it is described
//! before binding, under a key made of its arguments.

use std::collections::BTreeMap;

use cobble_types::{Code, Error, Result};
use sqlparser::ast;

use super::constant_arguments::{constants, text};

pub const NAME: &str = "rows_at";

/// The arguments of `rows_at`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowsAt<'a> {
    pub path: &'a str,
    /// What is said of the files, by the names that a defined table has for it.
    pub options: BTreeMap<&'a str, &'a str>,
}

/// The files that the name of a table is a key of, if it is one: its name, the path, then names and values in turn.
pub fn rows_at(name: &[String]) -> Option<RowsAt<'_>> {
    match name {
        [function, kind, path, options @ ..] if function == NAME && kind == "files" => Some(RowsAt {
            path,
            options: options.chunks_exact(2).map(|pair| (pair[0].as_str(), pair[1].as_str())).collect(),
        }),
        _ => None,
    }
}

/// The arguments as a name of many parts, which no table has.
pub(super) fn key(arguments: &[ast::FunctionArg]) -> Result<Vec<String>> {
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
    let pairs = options.into_iter().flat_map(|(name, value)| [name, value]);
    Ok([NAME.to_owned(), "files".to_owned(), path].into_iter().chain(pairs).collect())
}
