//! The list of table functions: a line for each, with the constant that says all about it. A table function makes rows (PostgreSQL
//! manual 9.25).

mod arrays;
mod json;
mod pattern;
mod series;
mod signature;

pub use series::{Series, SeriesValues};
pub use signature::{Made, RowKernel, RowsCall, Table};

crate::registered::registered! {
    /// A function that makes rows.
    TableFunction of Table, RowKernel, "table function";
    GenerateSeries => series::GENERATE_SERIES;
    Unnest => arrays::UNNEST;
    JsonArrayElements => json::JSON_ARRAY_ELEMENTS;
    JsonArrayElementsText => json::JSON_ARRAY_ELEMENTS_TEXT;
    JsonEach => json::JSON_EACH;
    JsonEachText => json::JSON_EACH_TEXT;
    JsonObjectKeys => json::JSON_OBJECT_KEYS;
    JsonPathQuery => json::JSON_PATH_QUERY;
    JsonTable => json::JSON_TABLE;
    RegexpMatches => pattern::REGEXP_MATCHES;
    RegexpSplitToTable => pattern::REGEXP_SPLIT_TO_TABLE;
}
