//! What stands for a table in FROM, as it is looked up before binding.

use std::fmt;

use sqlparser::ast;

use super::as_of::{AsOf, as_of};
use super::facts::{self, Facts};
use super::native_query::{self, NativeCall};
use super::rows_at::{self, RowsAt};
use super::{folded, parts_of};
use crate::change::{RETURNED, TARGET};
use cobble_types::Result;

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum TableReference {
    /// A name of one to three parts, in lower case unless it was quoted.
    Name(Vec<String>),
    /// A table of such a name as it was.
    Earlier(Vec<String>, AsOf),
    /// `native_query(…)`
    Native(NativeCall),
    /// `rows_at(…)`
    RowsAt(RowsAt),
    /// `lake_snapshots(…)` and its like
    Facts(Facts),
    /// The table whose rows a statement changes.
    Target,
    /// The rows that have been changed.
    Changed,
}

impl TableReference {
    /// What a name in FROM stands for, with the version that stands behind it.
    pub(super) fn of_name(name: &ast::ObjectName, version: Option<&ast::TableVersion>) -> Result<TableReference> {
        let parts = parts_of(name);
        if let Some(version) = version {
            return Ok(TableReference::Earlier(parts, as_of(version)?));
        }
        Ok(match parts.as_slice() {
            [one] if one == TARGET => TableReference::Target,
            [one] if one == RETURNED => TableReference::Changed,
            _ => TableReference::Name(parts),
        })
    }

    /// What a call in FROM stands for, of a function whose rows are described before binding; none for others.
    pub(super) fn of_call(name: &ast::ObjectName, arguments: &[ast::FunctionArg]) -> Option<Result<TableReference>> {
        let [part] = name.0.as_slice() else { return None };
        match part.as_ident().map(folded)?.as_str() {
            native_query::NAME => Some(native_query::call(arguments).map(TableReference::Native)),
            rows_at::NAME => Some(rows_at::call(arguments).map(TableReference::RowsAt)),
            own if cobble_plan::facts::Facts::of_function(own).is_some() => {
                Some(facts::call(own, arguments).map(TableReference::Facts))
            }
            _ => None,
        }
    }

    /// True for a name of this one part.
    pub(super) fn is(&self, wanted: &str) -> bool {
        matches!(self, TableReference::Name(parts) if matches!(parts.as_slice(), [one] if one == wanted))
    }
}

impl fmt::Display for TableReference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TableReference::Name(parts) | TableReference::Earlier(parts, _) => f.write_str(&parts.join(".")),
            TableReference::Native(_) => f.write_str("native_query()"),
            TableReference::RowsAt(_) => f.write_str("rows_at()"),
            TableReference::Facts(facts) => write!(f, "{}()", facts.function),
            TableReference::Target => f.write_str("the table that is changed"),
            TableReference::Changed => f.write_str("the rows that are changed"),
        }
    }
}
