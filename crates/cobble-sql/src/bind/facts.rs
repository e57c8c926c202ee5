//! `lake_snapshots('catalog.schema.table')` and its like in FROM: how a table is put together, as rows. Described before binding, as a table is.

use cobble_types::{Code, Error, Result};
use sqlparser::ast;
use sqlparser::parser::Parser;

use super::constant_arguments::{constants, text};
use super::parts_of;
use crate::dialect::OwnDialect;

/// A call of one of the functions.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Facts {
    pub function: String,
    pub of: FactsOf,
    /// A condition over the table's rows.
    pub filter: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum FactsOf {
    /// A name of one to three parts.
    Table(Vec<String>),
    /// Files of a catalog, as `rows_at` takes them.
    Path(String),
}

pub(super) fn call(function: &str, arguments: &[ast::FunctionArg]) -> Result<Facts> {
    let usage = format!("write {function}('catalog.schema.table')");
    let wrong = |what: String| Err(Error::new(Code::TypeMismatch, what).hint(usage.clone()));
    let all = constants(function, arguments, &usage)?;
    let (value, filter) = match all.as_slice() {
        [(None, value)] => (value, None),
        [(None, value), (Some(name), filter)] if name == "filter" && function == ROW_GROUPS => {
            let Some(filter) = text(filter) else {
                return wrong(format!("{function}() takes a condition in quotes, not {filter}"));
            };
            (value, Some(condition(&filter)?))
        }
        _ => return wrong(format!("{function}() takes the name of a table")),
    };
    let Some(name) = text(value) else {
        return wrong(format!("{function}() takes the name of a table in quotes, not {value}"));
    };
    if name.contains('/') {
        return Ok(Facts { function: function.to_owned(), of: FactsOf::Path(name), filter });
    }
    let parts = table_name(&name).map_err(|e| e.hint(usage.clone()))?;
    Ok(Facts { function: function.to_owned(), of: FactsOf::Table(parts), filter })
}

/// The function that takes a condition.
const ROW_GROUPS: &str = "row_group_stats";

/// A text that is one condition and nothing else.
fn condition(text: &str) -> Result<String> {
    let parsed = Parser::new(&OwnDialect).try_with_sql(text).and_then(|mut parser| {
        parser.parse_expr()?;
        parser.expect_token(&sqlparser::tokenizer::Token::EOF)
    });
    match parsed {
        Ok(_) => Ok(text.to_owned()),
        Err(error) => Err(Error::new(Code::Syntax, format!("the filter {text:?} is no condition: {error}"))
            .hint("write it as after WHERE, in quotes: filter => 'fare > 20'")),
    }
}

/// The parts of a table's name in a text.
pub fn table_name(text: &str) -> Result<Vec<String>> {
    let parsed = Parser::new(&OwnDialect).try_with_sql(text).and_then(|mut parser| {
        let found = parser.parse_object_name(false)?;
        parser.expect_token(&sqlparser::tokenizer::Token::EOF)?;
        Ok(found)
    });
    match parsed {
        Ok(found) => Ok(parts_of(&found)),
        Err(_) => Err(Error::new(Code::TypeMismatch, format!("\"{text}\" is no name of a table"))),
    }
}
