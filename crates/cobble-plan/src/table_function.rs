//! Functions that make rows: they stand in FROM, or in SELECT for each row (PostgreSQL manual 9.25).

use crate::expr::{Column, Expr, comma_separated};

/// One call of such a function, and the columns that it makes.
#[derive(Debug, Clone)]
pub struct RowMaker {
    pub function: TableFunction,
    pub arguments: Vec<Expr>,
    pub columns: Vec<Column>,
}

impl RowMaker {
    /// The same call with its arguments changed.
    #[must_use]
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> RowMaker {
        RowMaker { arguments: self.arguments.iter().map(change).collect(), ..self.clone() }
    }

    /// What a plan calls it.
    pub fn text(makers: &[RowMaker], outer: bool) -> String {
        let calls: Vec<String> =
            makers.iter().map(|m| format!("{}({})", m.function.name(), comma_separated(&m.arguments))).collect();
        let kept = if outer { ", rows without any kept" } else { "" };
        format!("expand by {}{kept}", calls.join(" beside "))
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum TableFunction {
    /// `generate_series(start, stop [, step])` over integers, numerics and timestamps.
    GenerateSeries,
    /// One row for each item of an array.
    Unnest,
    /// One row for each item of a JSON array.
    JsonArrayElements,
    JsonArrayElementsText,
    /// One row for each member of a JSON object: key and value.
    JsonEach,
    JsonEachText,
    JsonObjectKeys,
    /// One row for each value that a path finds.
    JsonPathQuery,
    /// The same for several paths, one after another, each with its number: `JSON_TABLE`.
    JsonTable,
    /// All matches of a regular expression, as arrays of groups.
    RegexpMatches,
    RegexpSplitToTable,
}

impl TableFunction {
    pub const ALL: &[TableFunction] = &[
        TableFunction::GenerateSeries,
        TableFunction::Unnest,
        TableFunction::JsonArrayElements,
        TableFunction::JsonArrayElementsText,
        TableFunction::JsonEach,
        TableFunction::JsonEachText,
        TableFunction::JsonObjectKeys,
        TableFunction::JsonPathQuery,
        TableFunction::JsonTable,
        TableFunction::RegexpMatches,
        TableFunction::RegexpSplitToTable,
    ];

    pub fn name(self) -> &'static str {
        match self {
            TableFunction::GenerateSeries => "generate_series",
            TableFunction::Unnest => "unnest",
            TableFunction::JsonArrayElements => "json_array_elements",
            TableFunction::JsonArrayElementsText => "json_array_elements_text",
            TableFunction::JsonEach => "json_each",
            TableFunction::JsonEachText => "json_each_text",
            TableFunction::JsonObjectKeys => "json_object_keys",
            TableFunction::JsonPathQuery => "json_path_query",
            TableFunction::JsonTable => "json_table",
            TableFunction::RegexpMatches => "regexp_matches",
            TableFunction::RegexpSplitToTable => "regexp_split_to_table",
        }
    }

    /// Arguments in words.
    pub fn arguments(self) -> &'static str {
        match self {
            TableFunction::GenerateSeries => "start, stop [, step]",
            TableFunction::Unnest => "array",
            TableFunction::JsonArrayElements | TableFunction::JsonArrayElementsText => "json array",
            TableFunction::JsonEach | TableFunction::JsonEachText | TableFunction::JsonObjectKeys => "json object",
            TableFunction::JsonPathQuery => "json, path [, variables [, silent]]",
            TableFunction::JsonTable => "json, path COLUMNS (name type PATH path, …)",
            TableFunction::RegexpMatches | TableFunction::RegexpSplitToTable => "text, pattern [, flags]",
        }
    }

    /// The function of this name, in lower case; the JSON ones go by `jsonb_…` as well.
    pub fn by_name(name: &str) -> Option<TableFunction> {
        let name = match name.strip_prefix("jsonb_") {
            Some(rest) => format!("json_{rest}"),
            None => name.to_owned(),
        };
        TableFunction::ALL.iter().copied().find(|function| function.name() == name)
    }
}
