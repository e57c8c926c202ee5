//! Functions that make rows (PostgreSQL manual 9.25).

crate::listed::listed_functions! {
    /// A function that makes rows. Its example is a call in FROM, and the rows that come out.
    TableFunction;
    GenerateSeries, "generate_series", [], "start, stop [, step]",
        "The numbers or times from a start to a stop.",
        "generate_series(1, 3)" => "1,2,3";
    Unnest, "unnest", [], "array",
        "A row for each item.",
        "unnest(ARRAY['a', 'b'])" => "a,b";
    JsonArrayElements, "json_array_elements", [], "json array",
        "A row for each item of a JSON array.",
        "json_array_elements('[1, 2]')" => "1,2";
    JsonArrayElementsText, "json_array_elements_text", [], "json array",
        "The same as texts.",
        "json_array_elements_text('[\"a\", \"b\"]')" => "a,b";
    JsonEach, "json_each", [], "json object",
        "A row for each member: key and value.",
        "json_each('{\"a\": 1}')" => "a|1";
    JsonEachText, "json_each_text", [], "json object",
        "The same with values as texts.",
        "json_each_text('{\"a\": \"b\"}')" => "a|b";
    JsonObjectKeys, "json_object_keys", [], "json object",
        "A row for each key.",
        "json_object_keys('{\"a\": 1, \"b\": 2}')" => "a,b";
    JsonPathQuery, "json_path_query", [], "json, path [, variables [, silent]]",
        "A row for each value that a path finds.",
        "jsonb_path_query('[1, 2, 3]', '$[*] ? (@ > 1)')" => "2,3";
    JsonTable, "json_table", [], "json, path COLUMNS (name type PATH path, …)",
        "A row for each value that a path finds, with columns of their own paths.",
        "json_table('[1, 2]', '$[*]' COLUMNS (v integer PATH '$'))" => "1,2";
    RegexpMatches, "regexp_matches", [], "text, pattern [, flags]",
        "The groups of a match; with the flag `g` a row for each match.",
        "regexp_matches('a1b2', '[a-z]', 'g')" => "{a},{b}";
    RegexpSplitToTable, "regexp_split_to_table", [], "text, pattern [, flags]",
        "A row for each part between matches.",
        "regexp_split_to_table('a1b2c', '[0-9]')" => "a,b,c";
}

crate::serial::serialised_by_name!(TableFunction, "table function");

impl TableFunction {
    /// The names of its parameters, where calls may use them.
    pub fn parameters(self) -> &'static [&'static str] {
        match self {
            TableFunction::JsonPathQuery => crate::scalar::json::VARIABLES,
            _ => &[],
        }
    }

    /// The function of this name, in lower case; the JSON ones go by `jsonb_…` as well.
    pub fn by_name(name: &str) -> Option<TableFunction> {
        let name = match name.strip_prefix("jsonb_") {
            Some(rest) => format!("json_{rest}"),
            None => name.to_owned(),
        };
        TableFunction::named(&name)
    }
}
