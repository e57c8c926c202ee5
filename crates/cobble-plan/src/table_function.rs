//! Functions that make rows: they stand in FROM, or in SELECT for each row (PostgreSQL manual 9.25).

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
    /// The parts of a text between separators.
    StringToTable,
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
        TableFunction::StringToTable,
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
            TableFunction::StringToTable => "string_to_table",
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
            TableFunction::StringToTable => "text, separator [, null text]",
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
