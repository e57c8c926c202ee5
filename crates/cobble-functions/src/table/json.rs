//! Rows of the parts of JSON documents.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::OffsetBuffer;
use cobble_types::{Code, Error, Result, SqlType, json_text};
use serde_json::{Map, Value as Json};

use super::signature::{Made, RowsCall, Table};
use crate::scalar::json::{VARIABLES, path_query};
use crate::signature::{Given, Overload, Returns, Takes, Types};

pub(super) const JSON_ARRAY_ELEMENTS: Table = Table::new(
    "json_array_elements",
    "json array",
    "A row for each item of a JSON array.",
    ("json_array_elements('[1, 2]')", "1,2"),
    |_, _| vec![("value", SqlType::Json)],
    &[Overload::together(document, |call| items(call, |item| Some(json_text(item))))],
)
.also(&["jsonb_array_elements"]);

pub(super) const JSON_ARRAY_ELEMENTS_TEXT: Table = Table::new(
    "json_array_elements_text",
    "json array",
    "The same as texts.",
    ("json_array_elements_text('[\"a\", \"b\"]')", "a,b"),
    |_, _| vec![("value", SqlType::Text)],
    &[Overload::together(document, |call| items(call, unquoted))],
)
.also(&["jsonb_array_elements_text"]);

pub(super) const JSON_EACH: Table = Table::new(
    "json_each",
    "json object",
    "A row for each member: key and value.",
    ("json_each('{\"a\": 1}')", "a|1"),
    |_, _| vec![("key", SqlType::Text), ("value", SqlType::Json)],
    &[Overload::together(document, |call| members(call, |value| Some(json_text(value))))],
)
.also(&["jsonb_each"]);

pub(super) const JSON_EACH_TEXT: Table = Table::new(
    "json_each_text",
    "json object",
    "The same with values as texts.",
    ("json_each_text('{\"a\": \"b\"}')", "a|b"),
    |_, _| vec![("key", SqlType::Text), ("value", SqlType::Text)],
    &[Overload::together(document, |call| members(call, unquoted))],
)
.also(&["jsonb_each_text"]);

pub(super) const JSON_OBJECT_KEYS: Table = Table::new(
    "json_object_keys",
    "json object",
    "A row for each key.",
    ("json_object_keys('{\"a\": 1, \"b\": 2}')", "a,b"),
    |_, _| vec![("json_object_keys", SqlType::Text)],
    &[Overload::together(document, |call| {
        let mut keys = StringViewBuilder::new();
        let lengths = each(call, |document| {
            let object = object(document)?;
            object.keys().for_each(|key| keys.append_value(key));
            Ok(object.len())
        })?;
        Ok(lists(vec![Arc::new(keys.finish())], lengths))
    })],
)
.also(&["jsonb_object_keys"]);

pub(super) const JSON_PATH_QUERY: Table = Table::new(
    "jsonb_path_query",
    "json, path [, variables [, silent]]",
    "A row for each value that a path finds.",
    ("jsonb_path_query('[1, 2, 3]', '$[*] ? (@ > 1)')", "2,3"),
    |_, _| vec![("jsonb_path_query", SqlType::Json)],
    &[Overload::with_optional(
        &[Takes::Json, Takes::Text, Takes::Json, Takes::Boolean],
        2,
        Returns::Json,
        found_by_path,
    )],
)
.also(&["json_path_query"])
.named(VARIABLES);

pub(super) const JSON_TABLE: Table = Table::new(
    "json_table",
    "json, path COLUMNS (name type PATH path, …)",
    "A row for each value that a path finds, with columns of their own paths.",
    ("json_table('[1, 2]', '$[*]' COLUMNS (v integer PATH '$'))", "1,2"),
    |_, _| vec![],
    &[Overload::repeated(&[Takes::Json], Takes::Text, 1, Returns::Json, found_by_each_path)],
)
.only_planned();

/// One document. A text is none by itself.
fn document(given: &[Given]) -> Option<Types> {
    let [only] = given else { return None };
    (only.is_open() || only.sql_type == SqlType::Json).then_some((vec![SqlType::Json], SqlType::Json))
}

/// The number of rows that `make` makes of each document.
fn each(call: &RowsCall, mut make: impl FnMut(&Json) -> Result<usize>) -> Result<Vec<usize>> {
    let documents = call.arguments[0].as_string_view();
    let read = |text: &str| -> Result<Json> {
        serde_json::from_str(text).map_err(|e| Error::new(Code::InvalidText, format!("not valid JSON: {e}")))
    };
    documents.iter().map(|document| document.map_or(Ok(0), |text| make(&read(text)?))).collect()
}

fn lists(columns: Vec<ArrayRef>, lengths: Vec<usize>) -> Made {
    Made::Lists { columns, offsets: OffsetBuffer::from_lengths(lengths) }
}

fn object(document: &Json) -> Result<&Map<String, Json>> {
    let what = "only the members of a JSON object can be made rows";
    document.as_object().ok_or_else(|| Error::new(Code::InvalidValue, what))
}

fn items(call: &RowsCall, text: fn(&Json) -> Option<String>) -> Result<Made> {
    let mut values = StringViewBuilder::new();
    let lengths = each(call, |document| {
        let what = "only the items of a JSON array can be made rows";
        let items = document.as_array().ok_or_else(|| Error::new(Code::InvalidValue, what))?;
        items.iter().for_each(|item| values.append_option(text(item)));
        Ok(items.len())
    })?;
    Ok(lists(vec![Arc::new(values.finish())], lengths))
}

fn members(call: &RowsCall, text: fn(&Json) -> Option<String>) -> Result<Made> {
    let (mut keys, mut values) = (StringViewBuilder::new(), StringViewBuilder::new());
    let lengths = each(call, |document| {
        let object = object(document)?;
        for (key, value) in object {
            keys.append_value(key);
            values.append_option(text(value));
        }
        Ok(object.len())
    })?;
    Ok(lists(vec![Arc::new(keys.finish()), Arc::new(values.finish())], lengths))
}

/// A JSON value as text, without quotes around a string; `None` for null.
fn unquoted(value: &Json) -> Option<String> {
    match value {
        Json::Null => None,
        Json::String(text) => Some(text.clone()),
        other => Some(json_text(other)),
    }
}

fn found_by_path(call: &RowsCall) -> Result<Made> {
    let text = |place: usize, row: usize| call.arguments.get(place).map(|a| a.as_string_view().value(row));
    let mut values = StringViewBuilder::new();
    let mut lengths = Vec::with_capacity(call.rows);
    for row in 0..call.rows {
        let (Some(document), Some(path), true) =
            (text(0, row), text(1, row), call.arguments.iter().all(|a| a.is_valid(row)))
        else {
            lengths.push(0);
            continue;
        };
        let silent = call.arguments.get(3).is_some_and(|a| a.as_boolean().value(row));
        let found = path_query(document, path, text(2, row), silent)?;
        found.iter().for_each(|value| values.append_value(value));
        lengths.push(found.len());
    }
    Ok(lists(vec![Arc::new(values.finish())], lengths))
}

/// The values that each path finds in each document, path after path. Each path has a column for the value and one for its number.
fn found_by_each_path(call: &RowsCall) -> Result<Made> {
    let (documents, paths) = (call.arguments[0].as_string_view(), &call.arguments[1..]);
    let mut items: Vec<StringViewBuilder> = paths.iter().map(|_| StringViewBuilder::new()).collect();
    let mut numbers: Vec<Int32Builder> = paths.iter().map(|_| Int32Builder::new()).collect();
    let mut lengths = Vec::with_capacity(call.rows);
    for row in 0..call.rows {
        let mut length = 0;
        for (own, path) in paths.iter().enumerate().filter(|_| documents.is_valid(row)) {
            for (place, value) in
                path_query(documents.value(row), path.as_string_view().value(row), None, true)?.iter().enumerate()
            {
                for other in 0..paths.len() {
                    items[other].append_option((other == own).then_some(value));
                    numbers[other].append_option((other == own).then_some(place as i32 + 1));
                }
                length += 1;
            }
        }
        lengths.push(length);
    }
    let columns = items
        .iter_mut()
        .zip(&mut numbers)
        .flat_map(|(items, numbers)| [Arc::new(items.finish()) as ArrayRef, Arc::new(numbers.finish()) as ArrayRef]);
    Ok(lists(columns.collect(), lengths))
}
