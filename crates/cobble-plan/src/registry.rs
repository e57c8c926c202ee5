//! Every function that the engine has by itself, in one list: for completion, `SHOW FUNCTIONS` and the page in the docs.

use serde::Serialize;

use crate::aggregate::AggregateFunction;
use crate::function::Function;
use crate::table_function::TableFunction;
use crate::window::Ranking;

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct BuiltIn {
    pub name: &'static str,
    /// Arguments in words.
    pub arguments: &'static str,
    /// `of one row`, `aggregate`, `of a window`, `makes rows`.
    pub kind: &'static str,
}

pub fn built_in() -> Vec<BuiltIn> {
    let rows = Function::ALL.iter().map(|f| BuiltIn { name: f.name(), arguments: f.arguments(), kind: "of one row" });
    let aggregates =
        AggregateFunction::ALL.iter().map(|f| BuiltIn { name: f.name(), arguments: f.arguments(), kind: "aggregate" });
    let windows =
        Ranking::ALL.iter().map(|f| BuiltIn { name: f.name(), arguments: f.arguments(), kind: "of a window" });
    let tables =
        TableFunction::ALL.iter().map(|f| BuiltIn { name: f.name(), arguments: f.arguments(), kind: "makes rows" });
    let written = [("nullif", "any, any"), ("now", ""), ("mod", "number, number"), ("grouping", "key, …")];
    let written = written.map(|(name, arguments)| BuiltIn { name, arguments, kind: "of one row" });
    let mut all: Vec<BuiltIn> = rows.chain(aggregates).chain(windows).chain(tables).chain(written).collect();
    all.sort();
    all
}
