//! Functions of JSON (PostgreSQL manual 9.16).

use std::borrow::Cow;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, json_text};
use serde_json::Value as Json;

use super::json_path::Path;
use super::json_tree::{Put, Tree};
use crate::Call;
use crate::call::{Lists, Texts};
use crate::operators::cast::cast;
use crate::signature::{Given, Overload, Returns, Scalar, Takes, Types, array_of};

pub(crate) fn parse(text: &str) -> Result<Json> {
    serde_json::from_str(text).map_err(|e| not_json(text, &e))
}

/// A document as `jsonb` writes it.
pub(crate) fn canonical(text: &str) -> Result<String> {
    Ok(Tree::parse(text)?.text())
}

pub(crate) fn not_json(text: &str, why: &serde_json::Error) -> Error {
    let mut shown: String = text.chars().take(80).collect();
    if shown.len() < text.len() {
        shown.push('…');
    }
    Error::new(Code::InvalidText, format!("\"{shown}\" is not valid JSON: {why}"))
}

/// A scalar without quotes; null for JSON's null.
fn unquoted(value: &Json) -> Option<String> {
    match value {
        Json::Null => None,
        Json::String(text) => Some(text.clone()),
        other => Some(json_text(other)),
    }
}

/// PostgreSQL's containment: objects have the members, arrays have the items somewhere.
fn contains(outer: &Json, inner: &Json) -> bool {
    match (outer, inner) {
        // Only the document itself may be an array that contains what is none.
        (Json::Array(a), scalar) if !scalar.is_object() && !scalar.is_array() => {
            a.iter().any(|own| is_part(own, scalar))
        }
        _ => is_part(outer, inner),
    }
}

fn is_part(outer: &Json, inner: &Json) -> bool {
    match (outer, inner) {
        (Json::Object(a), Json::Object(b)) => b.iter().all(|(key, v)| a.get(key).is_some_and(|own| is_part(own, v))),
        (Json::Array(a), Json::Array(b)) => b.iter().all(|v| a.iter().any(|own| is_part(own, v))),
        (Json::Number(a), Json::Number(b)) => match (whole(a), whole(b)) {
            (Some(a), Some(b)) => a == b,
            _ => a.as_f64() == b.as_f64(),
        },
        (a, b) => a == b,
    }
}

fn whole(number: &serde_json::Number) -> Option<i128> {
    number.as_i64().map(i128::from).or_else(|| number.as_u64().map(i128::from))
}

/// The items of an array of pairs, one after another; none where the argument is a plain array.
fn pairs_of(lists: &Lists, row: usize) -> Result<Option<Vec<Option<String>>>> {
    let Some(pairs) = lists.items().as_list_opt::<i32>() else { return Ok(None) };
    let Some(range) = lists.range(row) else { return Ok(None) };
    let mut out = Vec::new();
    for pair in range {
        if pairs.value_length(pair) != 2 {
            return Err(Error::new(Code::ArraySubscript, "json_object() takes pairs of a key and a value"));
        }
        out.extend(pairs.value(pair).as_string_view().iter().map(|item| item.map(str::to_owned)));
    }
    Ok(Some(out))
}

pub(crate) fn type_name(value: &Json) -> &'static str {
    match value {
        Json::Null => "null",
        Json::Bool(_) => "boolean",
        Json::Number(_) => "number",
        Json::String(_) => "string",
        Json::Array(_) => "array",
        Json::Object(_) => "object",
    }
}

/// What a path finds; with `silent`, faults of the document are no error but nothing.
fn found<'a>(document: &'a Json, path: &str, variables: &'a Json, silent: bool) -> Result<Option<Vec<Cow<'a, Json>>>> {
    match Path::parsed(path)?.find(document, variables) {
        Err(_) if silent => Ok(None),
        found => found.map(Some),
    }
}

/// The variables of a path are the members of an object.
fn are_variables(given: &Json) -> Result<()> {
    match given {
        Json::Object(_) => Ok(()),
        _ => Err(Error::new(Code::InvalidValue, "the variables of a JSON path are not an object")
            .hint("such as '{\"least\": 5}', for $least in the path")),
    }
}

/// All that a path finds in a document, as text; for functions that make rows.
pub fn path_query(document: &str, path: &str, variables: Option<&str>, silent: bool) -> Result<Vec<String>> {
    let (document, given) = (parse(document)?, variables.map(parse).transpose()?);
    given.as_ref().map_or(Ok(()), are_variables)?;
    let variables = given.unwrap_or(Json::Null);
    Ok(found(&document, path, &variables, silent)?.unwrap_or_default().iter().map(|value| json_text(value)).collect())
}

/// A value of any type as `to_json` writes it: numbers and truth values as they are, times in the form of ISO 8601, arrays and
/// rows part by part, everything else as text.
fn write_value(array: &dyn Array, place: usize, out: &mut String) {
    if array.is_null(place) {
        return out.push_str("null");
    }
    let text = || cobble_types::array_value_text(array, place).unwrap_or_default();
    match array.data_type() {
        DataType::Null => out.push_str("null"),
        DataType::Boolean | DataType::Int16 | DataType::Int32 | DataType::Int64 | DataType::Decimal128(..) => {
            out.push_str(&text());
        }
        DataType::Float32 | DataType::Float64 => {
            let text = text();
            let is_number = !text.contains(|c: char| c.is_ascii_alphabetic() && c != 'e');
            out.push_str(&if is_number { text } else { Json::String(text).to_string() });
        }
        DataType::Timestamp(..) => {
            let mut text = text().replacen(' ', "T", 1);
            // Zones have minutes there.
            if text.len() > 3 && text[text.len() - 3..].starts_with(['+', '-']) {
                text.push_str(":00");
            }
            out.push_str(&Json::String(text).to_string());
        }
        DataType::List(_) => {
            let items = array.as_list::<i32>().value(place);
            out.push('[');
            for item in 0..items.len() {
                out.push_str(if item == 0 { "" } else { "," });
                write_value(items.as_ref(), item, out);
            }
            out.push(']');
        }
        DataType::Struct(fields) => {
            out.push('{');
            for (number, (field, part)) in fields.iter().zip(array.as_struct().columns()).enumerate() {
                out.push_str(if number == 0 { "" } else { "," });
                out.push_str(&Json::String(field.name().clone()).to_string());
                out.push(':');
                write_value(part.as_ref(), place, out);
            }
            out.push('}');
        }
        _ => out.push_str(&Json::String(text()).to_string()),
    }
}

fn tree(texts: &Texts, row: usize) -> Result<Option<Tree>> {
    texts.get(row).map(Tree::parse).transpose()
}

fn document(texts: &Texts, row: usize) -> Result<Option<Json>> {
    texts.get(row).map(parse).transpose()
}

/// The text of a document for each row.
fn changed(call: &Call, f: impl Fn(usize) -> Result<Option<Tree>>) -> Result<ArrayRef> {
    call.make_strings(|row| Ok(f(row)?.map(|tree| tree.text())))
}

// Reading.

/// What is found, as a document or as text.
fn shown(value: Option<&Tree>, as_text: bool) -> Option<String> {
    if as_text { value?.unquoted() } else { Some(value?.text()) }
}

fn member(call: &Call, as_text: bool) -> Result<ArrayRef> {
    let (from, key) = (call.texts(0), call.texts(1));
    call.make_strings(|row| {
        let Some(from) = tree(&from, row)? else { return Ok(None) };
        Ok(shown(key.get(row).and_then(|key| from.member(key)), as_text))
    })
}

fn item(call: &Call, as_text: bool) -> Result<ArrayRef> {
    let (from, place) = (call.texts(0), call.integers(1));
    call.make_strings(|row| {
        let Some(from) = tree(&from, row)? else { return Ok(None) };
        let value = place.get(row).and_then(|n| match from.is_scalar() {
            // PostgreSQL keeps a scalar as an array of one item, and this operator shows it.
            true => (n == 0 || n == -1).then_some(&from),
            false => from.item(n.into()),
        });
        Ok(shown(value, as_text))
    })
}

pub(crate) const JSON_GET: Scalar = Scalar::new(
    "json_get",
    "json, key or place",
    "A member of an object or an item of an array, counted from zero; the operator `->`.",
    (r#"'{"deck": [1, 2]}'::json -> 'deck'"#, "[1, 2]"),
    &[
        Overload::of(&[Takes::Json, Takes::Text], Returns::Json, |call| member(call, false)),
        Overload::of(&[Takes::Json, Takes::Integer], Returns::Json, |call| item(call, false)),
    ],
);

pub(crate) const JSON_GET_TEXT: Scalar = Scalar::new(
    "json_get_text",
    "json, key or place",
    "The same as text; the operator `->>`.",
    (r#"'{"name": "Kestrel"}'::json ->> 'name'"#, "Kestrel"),
    &[
        Overload::of(&[Takes::Json, Takes::Text], Returns::Text, |call| member(call, true)),
        Overload::of(&[Takes::Json, Takes::Integer], Returns::Text, |call| item(call, true)),
    ],
);

/// What a list of keys leads to, each a member's name or an item's number.
fn followed(call: &Call, as_text: bool, keys: impl Fn(usize) -> Option<Vec<Option<String>>>) -> Result<ArrayRef> {
    let from = call.texts(0);
    call.make_strings(|row| {
        let Some(from) = tree(&from, row)? else { return Ok(None) };
        let Some(all) = keys(row).and_then(|keys| keys.into_iter().collect::<Option<Vec<String>>>()) else {
            return Ok(None);
        };
        Ok(shown(all.iter().try_fold(&from, |value, key| value.step(key)), as_text))
    })
}

/// With the keys in one array.
fn by_list(call: &Call, as_text: bool) -> Result<ArrayRef> {
    let keys = call.lists(1);
    followed(call, as_text, |row| keys.texts(row))
}

/// With the keys one by one.
fn by_keys(call: &Call, as_text: bool) -> Result<ArrayRef> {
    let keys: Vec<Texts> = (1..call.count()).map(|i| call.texts(i)).collect();
    followed(call, as_text, |row| Some(keys.iter().map(|key| key.get(row).map(str::to_owned)).collect()))
}

pub(crate) const JSON_PATH: Scalar = Scalar::new(
    "json_extract_path",
    "json, key, …",
    "What a list of keys and places leads to; the operator `#>`.",
    (r#"json_extract_path('{"deck": [1, 2]}', 'deck', '1')"#, "2"),
    &[
        Overload::repeated(&[Takes::Json], Takes::Text, 0, Returns::Json, |call| by_keys(call, false)),
        Overload::of(&[Takes::Json, Takes::TextArray], Returns::Json, |call| by_list(call, false)),
    ],
)
.also(&["jsonb_extract_path"]);

pub(crate) const JSON_PATH_TEXT: Scalar = Scalar::new(
    "json_extract_path_text",
    "json, key, …",
    "The same as text; the operator `#>>`.",
    (r#"json_extract_path_text('{"deck": ["car", "bike"]}', 'deck', '1')"#, "bike"),
    &[
        Overload::repeated(&[Takes::Json], Takes::Text, 0, Returns::Text, |call| by_keys(call, true)),
        Overload::of(&[Takes::Json, Takes::TextArray], Returns::Text, |call| by_list(call, true)),
    ],
)
.also(&["jsonb_extract_path_text"]);

pub(crate) const JSON_CONTAINS: Scalar = Scalar::new(
    "json_contains",
    "json, json",
    "Whether the first has all that the second has; the operator `@>`.",
    (r#"'{"a": 1, "b": 2}'::jsonb @> '{"b": 2}'"#, "true"),
    &[Overload::of(&[Takes::Json; 2], Returns::Boolean, |call| {
        let (outer, inner) = (call.texts(0), call.texts(1));
        call.make_flags(|row| {
            Ok(document(&outer, row)?.zip(document(&inner, row)?).map(|(outer, inner)| contains(&outer, &inner)))
        })
    })],
);

pub(crate) const JSON_HAS_KEY: Scalar = Scalar::new(
    "json_has_key",
    "json, key",
    "Whether an object has a member, or an array a text; the operator `?`.",
    (r#"'{"a": 1}'::jsonb ? 'a'"#, "true"),
    &[Overload::of(&[Takes::Json, Takes::Text], Returns::Boolean, |call| {
        let (from, key) = (call.texts(0), call.texts(1));
        call.make_flags(|row| Ok(tree(&from, row)?.zip(key.get(row)).map(|(from, key)| from.has(key))))
    })],
);

fn has_keys(call: &Call, all: bool) -> Result<ArrayRef> {
    let (from, keys) = (call.texts(0), call.lists(1));
    call.make_flags(|row| {
        let Some((from, keys)) = tree(&from, row)?.zip(keys.texts(row)) else { return Ok(None) };
        let mut keys = keys.into_iter().flatten();
        Ok(Some(if all { keys.all(|key| from.has(&key)) } else { keys.any(|key| from.has(&key)) }))
    })
}

pub(crate) const JSON_HAS_ANY: Scalar = Scalar::new(
    "json_has_any",
    "json, keys",
    "Whether it has one of the keys; the operator `?|`.",
    (r#"'{"a": 1}'::jsonb ?| ARRAY['a', 'b']"#, "true"),
    &[Overload::of(&[Takes::Json, Takes::TextArray], Returns::Boolean, |call| has_keys(call, false))],
);

pub(crate) const JSON_HAS_ALL: Scalar = Scalar::new(
    "json_has_all",
    "json, keys",
    "Whether it has all of the keys; the operator `?&`.",
    (r#"'{"a": 1}'::jsonb ?& ARRAY['a', 'b']"#, "false"),
    &[Overload::of(&[Takes::Json, Takes::TextArray], Returns::Boolean, |call| has_keys(call, true))],
);

pub(crate) const JSON_ARRAY_LENGTH: Scalar = Scalar::new(
    "json_array_length",
    "json",
    "The number of items of an array.",
    ("json_array_length('[1, 2, 3]')", "3"),
    &[Overload::of(&[Takes::Json], Returns::Integer, |call| {
        let from = call.texts(0);
        call.make_integers(|row| match document(&from, row)? {
            None => Ok(None),
            Some(Json::Array(items)) => Ok(Some(items.len() as i32)),
            Some(_) => Err(Error::new(Code::InvalidValue, "json_array_length takes a JSON array")),
        })
    })],
)
.also(&["jsonb_array_length"]);

pub(crate) const JSON_TYPEOF: Scalar = Scalar::new(
    "json_typeof",
    "json",
    "object, array, string, number, boolean or null.",
    ("json_typeof('[1, 2]')", "array"),
    &[Overload::of(&[Takes::Json], Returns::Text, |call| {
        let from = call.texts(0);
        call.make_strings(|row| Ok(document(&from, row)?.map(|value| type_name(&value).to_owned())))
    })],
)
.also(&["jsonb_typeof"]);

pub(crate) const JSON_ORDER: Scalar = Scalar::new(
    "json_order",
    "json",
    "A byte string by which documents sort as PostgreSQL sorts them.",
    ("json_order('1') < json_order('2')", "true"),
    &[Overload::of(&[Takes::Json], Returns::Bytes, |call| {
        let from = call.texts(0);
        call.make_bytes(|row| Ok(tree(&from, row)?.map(|tree| tree.order())))
    })],
);

pub(crate) const JSON_RECORD: Scalar = Scalar::new(
    "json_record",
    "json",
    "The document as it is where it is an object; an error otherwise.",
    (r#"json_record('{"a": 1}')"#, r#"{"a": 1}"#),
    &[Overload::of(&[Takes::Json], Returns::Json, |call| {
        let from = call.texts(0);
        call.make_texts(|row| match document(&from, row)? {
            Some(Json::Object(_)) | None => Ok(from.get(row).map(Cow::Borrowed)),
            Some(other) => Err(Error::new(
                Code::InvalidValue,
                format!("a record is made of a JSON object, and this is {}", json_text(&other)),
            )),
        })
    })],
);

// Changing.

/// A value put at a path.
fn put(call: &Call, way: fn(bool) -> Put, otherwise: bool) -> Result<ArrayRef> {
    let (from, path, value, flag) = (call.texts(0), call.lists(1), call.texts(2), call.flags_or(3, otherwise));
    changed(call, |row| {
        let Some(((from, path), value)) = tree(&from, row)?.zip(path.texts(row)).zip(tree(&value, row)?) else {
            return Ok(None);
        };
        let Some(flag) = flag(row) else { return Ok(None) };
        from.with(&path, value, way(flag)).map(Some)
    })
}

const PUTS: &[Takes] = &[Takes::Json, Takes::TextArray, Takes::Json, Takes::Boolean];

pub(crate) const JSONB_SET: Scalar = Scalar::new(
    "jsonb_set",
    "json, path, value [, create]",
    "The document with another value at a path, which is created unless told otherwise.",
    (r#"jsonb_set('{"a": 1}', '{b}', '2')"#, r#"{"a": 1, "b": 2}"#),
    &[Overload::with_optional(PUTS, 1, Returns::Json, |call| put(call, |create| Put::Set { create }, true))],
)
.named(&["jsonb_in", "path", "replacement", "create_if_missing"]);

pub(crate) const JSONB_INSERT: Scalar = Scalar::new(
    "jsonb_insert",
    "json, path, value [, after]",
    "The document with a value put before a path, or after it.",
    (r#"jsonb_insert('[1, 3]', '{1}', '2')"#, "[1, 2, 3]"),
    &[Overload::with_optional(PUTS, 1, Returns::Json, |call| put(call, |after| Put::Insert { after }, false))],
)
.named(&["jsonb_in", "path", "replacement", "insert_after"]);

pub(crate) const JSONB_SET_LAX: Scalar = Scalar::new(
    "jsonb_set_lax",
    "json, path, value [, create [, null treatment]]",
    "As jsonb_set; a null as the value is treated as told: use_json_null, delete_key, return_target or raise_exception.",
    (r#"jsonb_set_lax('{"a": 1}', '{a}', NULL, true, 'delete_key')"#, "{}"),
    &[Overload::with_optional(
        &[Takes::Json, Takes::TextArray, Takes::Json, Takes::Boolean, Takes::Text],
        2,
        Returns::Json,
        set_lax,
    )],
)
.named(&["jsonb_in", "path", "replacement", "create_if_missing", "null_value_treatment"])
.sees_nulls();

fn set_lax(call: &Call) -> Result<ArrayRef> {
    let (from, path, value) = (call.texts(0), call.lists(1), call.texts(2));
    let (create, treatment) = (call.flags_or(3, true), call.texts_or(4, "use_json_null"));
    changed(call, |row| {
        let Some((from, path)) = tree(&from, row)?.zip(path.texts(row)) else { return Ok(None) };
        let Some(create) = create(row) else { return Ok(None) };
        let value = match (tree(&value, row)?, treatment(row).unwrap_or_default()) {
            (Some(value), "use_json_null" | "delete_key" | "return_target" | "raise_exception") => value,
            (None, "use_json_null") => Tree::Null,
            (None, "delete_key") => return from.without_path(&path).map(Some),
            (None, "return_target") => return Ok(Some(from)),
            (None, "raise_exception") => {
                return Err(Error::new(Code::NullNotAllowed, "the new value of jsonb_set_lax() is null"));
            }
            _ => {
                let known = "delete_key, return_target, use_json_null or raise_exception";
                return Err(Error::new(Code::InvalidValue, format!("a null value is treated by {known}")));
            }
        };
        from.with(&path, value, Put::Set { create }).map(Some)
    })
}

pub(crate) const JSON_DELETE: Scalar = Scalar::new(
    "json_delete",
    "json, key, keys or place",
    "Without a member, several members, or an item; the operator `-`.",
    (r#"'{"a": 1, "b": 2}'::jsonb - 'a'"#, r#"{"b": 2}"#),
    &[
        Overload::of(&[Takes::Json, Takes::Text], Returns::Json, |call| {
            let (from, key) = (call.texts(0), call.texts(1));
            changed(call, |row| match tree(&from, row)?.zip(key.get(row)) {
                Some((from, key)) => from.without_keys(&[key.to_owned()]).map(Some),
                None => Ok(None),
            })
        }),
        Overload::of(&[Takes::Json, Takes::Integer], Returns::Json, |call| {
            let (from, place) = (call.texts(0), call.integers(1));
            changed(call, |row| match tree(&from, row)?.zip(place.get(row)) {
                Some((from, place)) => from.without_item(place.into()).map(Some),
                None => Ok(None),
            })
        }),
        Overload::of(&[Takes::Json, Takes::TextArray], Returns::Json, |call| {
            let (from, keys) = (call.texts(0), call.lists(1));
            changed(call, |row| match tree(&from, row)?.zip(keys.texts(row)) {
                Some((from, keys)) => from.without_keys(&keys.into_iter().flatten().collect::<Vec<_>>()).map(Some),
                None => Ok(None),
            })
        }),
    ],
);

pub(crate) const JSON_DELETE_PATH: Scalar = Scalar::new(
    "json_delete_path",
    "json, path",
    "Without what is at a path; the operator `#-`.",
    (r#"'{"a": [1, 2]}'::jsonb #- '{a,0}'"#, r#"{"a": [2]}"#),
    &[Overload::of(&[Takes::Json, Takes::TextArray], Returns::Json, |call| {
        let (from, path) = (call.texts(0), call.lists(1));
        changed(call, |row| match tree(&from, row)?.zip(path.texts(row)) {
            Some((from, path)) => from.without_path(&path).map(Some),
            None => Ok(None),
        })
    })],
)
.also(&["jsonb_delete_path"]);

pub(crate) const JSON_CONCAT: Scalar = Scalar::new(
    "json_concat",
    "json, json",
    "The members or items of both; the operator `||`.",
    (r#"'{"a": 1}'::jsonb || '{"b": 2}'"#, r#"{"a": 1, "b": 2}"#),
    &[Overload::of(&[Takes::Json; 2], Returns::Json, |call| {
        let (left, right) = (call.texts(0), call.texts(1));
        changed(call, |row| match tree(&left, row)?.zip(tree(&right, row)?) {
            Some((left, right)) => left.concatenated(right).map(Some),
            None => Ok(None),
        })
    })],
)
.also(&["jsonb_concat"]);

pub(crate) const JSON_STRIP_NULLS: Scalar = Scalar::new(
    "json_strip_nulls",
    "json",
    "Without members that are null.",
    (r#"json_strip_nulls('{"a": 1, "b": null}')"#, r#"{"a": 1}"#),
    &[Overload::of(&[Takes::Json], Returns::Json, |call| {
        let from = call.texts(0);
        changed(call, |row| Ok(tree(&from, row)?.map(Tree::without_nulls)))
    })],
)
.also(&["jsonb_strip_nulls"]);

pub(crate) const JSONB_PRETTY: Scalar = Scalar::new(
    "jsonb_pretty",
    "json",
    "The document as text in several lines, indented.",
    ("jsonb_pretty('[]')", "[\n]"),
    &[Overload::of(&[Takes::Json], Returns::Text, |call| {
        let from = call.texts(0);
        call.make_strings(|row| {
            Ok(tree(&from, row)?.map(|tree| {
                let mut out = String::new();
                tree.pretty(0, &mut out);
                out
            }))
        })
    })],
);

// Making.

/// A text as it is, or in the form of jsonb.
fn in_form(text: String, canonical_form: bool) -> Result<Option<String>> {
    if canonical_form { canonical(&text).map(Some) } else { Ok(Some(text)) }
}

/// One array with keys and values by turns or in pairs, or one of keys and one of values.
fn object_types(given: &[Given]) -> Option<Types> {
    let texts = array_of(SqlType::Text);
    let fits = match given {
        [pairs] => pairs.sql_type == texts || pairs.sql_type == array_of(texts.clone()),
        [keys, values] => keys.sql_type == texts && values.sql_type == texts,
        _ => false,
    };
    fits.then(|| (given.iter().map(|own| own.sql_type.clone()).collect(), SqlType::Json))
}

fn object(call: &Call, canonical_form: bool) -> Result<ArrayRef> {
    let first = call.lists(0);
    let is_pairs = first.items().as_list_opt::<i32>().is_some();
    let second = call.has(1).then(|| call.lists(1));
    call.make_strings(|row| {
        let first = if is_pairs { pairs_of(&first, row)? } else { first.texts(row) };
        let Some(first) = first else { return Ok(None) };
        let pairs: Vec<(Option<String>, Option<String>)> = match &second {
            Some(values) => {
                let Some(values) = values.texts(row) else { return Ok(None) };
                if values.len() != first.len() {
                    return Err(Error::new(Code::ArraySubscript, "json_object() takes as many values as keys"));
                }
                first.into_iter().zip(values).collect()
            }
            None if first.len() % 2 != 0 => {
                return Err(Error::new(Code::ArraySubscript, "json_object() takes keys and values by turns"));
            }
            None => first.chunks_exact(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect(),
        };
        let mut members = Vec::new();
        for (key, value) in pairs {
            let Some(key) = key else {
                return Err(Error::new(Code::NullNotAllowed, "a JSON object cannot have a null as a key"));
            };
            let value = value.map_or(Json::Null, Json::String);
            members.push(format!("{} : {value}", Json::String(key)));
        }
        in_form(format!("{{{}}}", members.join(", ")), canonical_form)
    })
}

pub(crate) const JSON_OBJECT: Scalar = Scalar::new(
    "json_object",
    "text[] [, text[]]",
    "An object of keys and values that are texts.",
    ("json_object(ARRAY['a', 'b'], ARRAY['1', '2'])", r#"{"a" : "1", "b" : "2"}"#),
    &[Overload::together(object_types, |call| object(call, false))],
);

pub(crate) const JSONB_OBJECT: Scalar = Scalar::new(
    "jsonb_object",
    "text[] [, text[]]",
    "The same in the form of jsonb.",
    ("jsonb_object('{b,1,a,2}')", r#"{"a": "2", "b": "1"}"#),
    &[Overload::together(object_types, |call| object(call, true))],
);

/// The values are documents already; SQL's null is JSON's.
fn build_object(call: &Call, canonical_form: bool) -> Result<ArrayRef> {
    let parts: Vec<Texts> = (0..call.count()).map(|i| call.texts(i)).collect();
    call.make_strings(|row| {
        let mut members = Vec::new();
        for pair in parts.chunks_exact(2) {
            let Some(key) = pair[0].get(row) else {
                return Err(Error::new(Code::InvalidValue, "a JSON object cannot have a null as a key"));
            };
            members.push(format!("{} : {}", Json::String(key.to_owned()), pair[1].get(row).unwrap_or("null")));
        }
        in_form(format!("{{{}}}", members.join(", ")), canonical_form)
    })
}

fn build_array(call: &Call, canonical_form: bool) -> Result<ArrayRef> {
    let parts: Vec<Texts> = (0..call.count()).map(|i| call.texts(i)).collect();
    call.make_strings(|row| {
        let items: Vec<&str> = parts.iter().map(|part| part.get(row).unwrap_or("null")).collect();
        in_form(format!("[{}]", items.join(", ")), canonical_form)
    })
}

pub(crate) const JSON_BUILD_OBJECT: Scalar = Scalar::new(
    "json_build_object",
    "key, any, …",
    "An object of keys and values of any types.",
    ("json_build_object('name', 'Kestrel', 'cars', 120)", r#"{"name" : "Kestrel", "cars" : 120}"#),
    &[Overload::repeated(&[], Takes::Any, 0, Returns::Json, |call| build_object(call, false))],
)
.sees_nulls();

pub(crate) const JSONB_BUILD_OBJECT: Scalar = Scalar::new(
    "jsonb_build_object",
    "key, any, …",
    "The same in the form of jsonb.",
    ("jsonb_build_object('name', 'Kestrel', 'cars', 120)", r#"{"cars": 120, "name": "Kestrel"}"#),
    &[Overload::repeated(&[], Takes::Any, 0, Returns::Json, |call| build_object(call, true))],
)
.sees_nulls();

pub(crate) const JSON_BUILD_ARRAY: Scalar = Scalar::new(
    "json_build_array",
    "any, …",
    "An array of values of any types.",
    ("json_build_array(1, 'two', NULL)", r#"[1, "two", null]"#),
    &[Overload::repeated(&[], Takes::Any, 0, Returns::Json, |call| build_array(call, false))],
)
.sees_nulls();

pub(crate) const JSONB_BUILD_ARRAY: Scalar = Scalar::new(
    "jsonb_build_array",
    "any, …",
    "The same in the form of jsonb.",
    ("jsonb_build_array(1, 'two', NULL)", r#"[1, "two", null]"#),
    &[Overload::repeated(&[], Takes::Any, 0, Returns::Json, |call| build_array(call, true))],
)
.sees_nulls();

fn converted(call: &Call, canonical_form: bool) -> Result<ArrayRef> {
    call.make_strings(|row| {
        if call.is_null(0, row) {
            return Ok(None);
        }
        let mut text = String::new();
        write_value(call.array(0).as_ref(), call.place(0, row), &mut text);
        in_form(text, canonical_form)
    })
}

pub(crate) const TO_JSON: Scalar = Scalar::new(
    "to_json",
    "any",
    "The value as a document: arrays and rows as arrays and objects.",
    ("to_json(ARRAY[1, 2])", "[1,2]"),
    &[Overload::of(&[Takes::Any], Returns::Json, |call| converted(call, false))],
)
.also(&["row_to_json", "array_to_json"]);

pub(crate) const TO_JSONB: Scalar = Scalar::new(
    "to_jsonb",
    "any",
    "The same in the form of jsonb.",
    ("to_jsonb(ARRAY[1, 2])", "[1, 2]"),
    &[Overload::of(&[Takes::Any], Returns::Json, |call| converted(call, true))],
);

// Paths.

pub(crate) const JSON_VALUE: Scalar = Scalar::new(
    "json_value",
    "json, path",
    "The one scalar that a path finds, as text or as another type with RETURNING; null for anything else.",
    (r#"json_value('{"cars": 120}', '$.cars' RETURNING integer)"#, "120"),
    &[Overload::of(&[Takes::Json, Takes::Text], Returns::Text, value_at)],
);

fn value_at(call: &Call) -> Result<ArrayRef> {
    let (from, path) = (call.texts(0), call.texts(1));
    // What is no value of the wanted type is null.
    let wanted = SqlType::from_arrow(call.result).filter(|wanted| *wanted != SqlType::Text);
    let read = call.make_strings(|row| {
        let Some((from, path)) = document(&from, row)?.zip(path.get(row)) else { return Ok(None) };
        // Anything but one scalar is null.
        let text = match found(&from, path, &Json::Null, true)?.as_deref() {
            Some([one]) if !one.is_object() && !one.is_array() => unquoted(one),
            _ => None,
        };
        Ok(text.filter(|text| wanted.as_ref().is_none_or(|wanted| parse_value(text, wanted).is_ok())))
    })?;
    match &wanted {
        Some(wanted) => cast(&read, &SqlType::Text, wanted),
        None => Ok(read),
    }
}

pub(crate) const JSON_QUERY: Scalar = Scalar::new(
    "json_query",
    "json, path",
    "The one document that a path finds.",
    (r#"json_query('{"deck": [1, 2]}', '$.deck')"#, "[1, 2]"),
    &[Overload::of(&[Takes::Json, Takes::Text], Returns::Json, |call| {
        let (from, path) = (call.texts(0), call.texts(1));
        call.make_strings(|row| {
            let Some((from, path)) = document(&from, row)?.zip(path.get(row)) else { return Ok(None) };
            Ok(match found(&from, path, &Json::Null, true)?.as_deref() {
                Some([one]) => Some(json_text(one)),
                _ => None,
            })
        })
    })],
);

pub(crate) const JSON_EXISTS: Scalar = Scalar::new(
    "json_exists",
    "json, path",
    "Whether a path finds something; faults of the document count as nothing.",
    (r#"json_exists('{"deck": [1, 2]}', '$.deck[1]')"#, "true"),
    &[Overload::of(&[Takes::Json, Takes::Text], Returns::Boolean, |call| {
        let (from, path) = (call.texts(0), call.texts(1));
        call.make_flags(|row| {
            let Some((from, path)) = document(&from, row)?.zip(path.get(row)) else { return Ok(None) };
            Ok(Some(found(&from, path, &Json::Null, true)?.is_some_and(|found| !found.is_empty())))
        })
    })],
);

/// What each row's path finds: nothing for a null; `at_fault` where the document does not fit and the call is silent.
fn query<'c>(call: &'c Call, at_fault: Option<Vec<Json>>) -> impl Fn(usize) -> Result<Option<Vec<Json>>> + 'c {
    let (from, path) = (call.texts(0), call.texts(1));
    let (variables, silent) = (call.has(2).then(|| call.texts(2)), call.flags_or(3, false));
    move |row| {
        let Some((from, path)) = document(&from, row)?.zip(path.get(row)) else { return Ok(None) };
        let given = variables.as_ref().map(|variables| document(variables, row)).transpose()?.flatten();
        given.as_ref().map_or(Ok(()), are_variables)?;
        let variables = given.unwrap_or(Json::Null);
        Ok(match found(&from, path, &variables, silent(row).unwrap_or(false))? {
            Some(found) => Some(found.into_iter().map(Cow::into_owned).collect()),
            None => at_fault.clone(),
        })
    }
}

const QUERIES: &[Takes] = &[Takes::Json, Takes::Text, Takes::Json, Takes::Boolean];
/// The parameters of functions that look along a path.
pub(crate) const VARIABLES: &[&str] = &["target", "path", "vars", "silent"];

pub(crate) const JSON_PATH_EXISTS: Scalar = Scalar::new(
    "json_path_exists",
    "json, path [, variables [, silent]]",
    "Whether a path finds something; the operator `@?`.",
    (r#"jsonb_path_exists('{"deck": [1, 2]}', '$.deck[*] ? (@ > 1)')"#, "true"),
    &[Overload::with_optional(QUERIES, 2, Returns::Boolean, |call| {
        let query = query(call, None);
        call.make_flags(|row| Ok(query(row)?.map(|found| !found.is_empty())))
    })],
)
.also(&["jsonb_path_exists"])
.named(VARIABLES);

pub(crate) const JSON_PATH_MATCH: Scalar = Scalar::new(
    "json_path_match",
    "json, path [, variables [, silent]]",
    "The truth value that a path gives; the operator `@@`.",
    (r#"jsonb_path_match('{"cars": 120}', '$.cars > 100')"#, "true"),
    &[Overload::with_optional(QUERIES, 2, Returns::Boolean, |call| {
        let query = query(call, None);
        call.make_flags(|row| match query(row)?.as_deref() {
            None | Some([Json::Null]) => Ok(None),
            Some([Json::Bool(truth)]) => Ok(Some(*truth)),
            Some(_) if call.has(3) => Ok(None),
            Some(_) => Err(Error::new(Code::JsonNotOne, "a JSON path gives no single truth value here")),
        })
    })],
)
.also(&["jsonb_path_match"])
.named(VARIABLES);

pub(crate) const JSON_PATH_QUERY_ARRAY: Scalar = Scalar::new(
    "json_path_query_array",
    "json, path [, variables [, silent]]",
    "All that a path finds, as an array.",
    (r#"jsonb_path_query_array('{"deck": [1, 2, 3]}', '$.deck[*] ? (@ > 1)')"#, "[2, 3]"),
    &[Overload::with_optional(QUERIES, 2, Returns::Json, |call| {
        let query = query(call, Some(vec![]));
        call.make_strings(|row| Ok(query(row)?.map(|found| json_text(&Json::Array(found)))))
    })],
)
.also(&["jsonb_path_query_array"])
.named(VARIABLES);

pub(crate) const JSON_PATH_QUERY_FIRST: Scalar = Scalar::new(
    "json_path_query_first",
    "json, path [, variables [, silent]]",
    "The first that a path finds.",
    (r#"jsonb_path_query_first('{"deck": [1, 2, 3]}', '$.deck[*] ? (@ > 1)')"#, "2"),
    &[Overload::with_optional(QUERIES, 2, Returns::Json, |call| {
        let query = query(call, None);
        call.make_strings(|row| Ok(query(row)?.and_then(|found| found.first().map(json_text))))
    })],
)
.also(&["jsonb_path_query_first"])
.named(VARIABLES);
