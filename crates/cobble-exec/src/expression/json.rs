//! Functions of JSON (PostgreSQL manual 9.16).

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_plan::function::Function;
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, json_text, json_value};
use serde_json::Value as Json;
use serde_json::value::RawValue;

use super::Evaluated;
use super::cast::cast;
use super::json_path::Path;
use super::text::{Integers, Texts};

pub(super) fn parse(text: &str) -> Result<Json> {
    serde_json::from_str(text).map_err(|e| not_json(text, &e))
}

/// A document as `jsonb` writes it: members by the length of their names, then by bytes, the last of one name; numbers keep
/// their digits.
pub(super) fn canonical(text: &str) -> Result<String> {
    let raw: &RawValue = serde_json::from_str(text).map_err(|e| not_json(text, &e))?;
    let mut out = String::with_capacity(text.len());
    write_canonical(raw, &mut out).map_err(|e| not_json(text, &e))?;
    Ok(out)
}

fn write_canonical(raw: &RawValue, out: &mut String) -> serde_json::Result<()> {
    let text = raw.get();
    match text.as_bytes().first() {
        Some(b'{') => {
            let read: HashMap<String, &RawValue> = serde_json::from_str(text)?;
            let mut members: Vec<(String, &RawValue)> = read.into_iter().collect();
            members.sort_by(|(a, _), (b, _)| a.len().cmp(&b.len()).then_with(|| a.cmp(b)));
            out.push('{');
            for (place, (key, value)) in members.into_iter().enumerate() {
                out.push_str(if place == 0 { "" } else { ", " });
                out.push_str(&Json::String(key).to_string());
                out.push_str(": ");
                write_canonical(value, out)?;
            }
            out.push('}');
        }
        Some(b'[') => {
            let items: Vec<&RawValue> = serde_json::from_str(text)?;
            out.push('[');
            for (place, value) in items.into_iter().enumerate() {
                out.push_str(if place == 0 { "" } else { ", " });
                write_canonical(value, out)?;
            }
            out.push(']');
        }
        Some(b'"') => out.push_str(&Json::String(serde_json::from_str(text)?).to_string()),
        _ => out.push_str(text),
    }
    Ok(())
}

fn not_json(text: &str, why: &serde_json::Error) -> Error {
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
        (Json::Object(a), Json::Object(b)) => b.iter().all(|(key, v)| a.get(key).is_some_and(|own| contains(own, v))),
        (Json::Array(a), Json::Array(b)) => b.iter().all(|v| a.iter().any(|own| contains(own, v))),
        (Json::Array(a), scalar) => a.contains(scalar),
        (Json::Number(a), Json::Number(b)) => a.as_f64() == b.as_f64(),
        (a, b) => a == b,
    }
}

fn item(value: &Json, place: i64) -> Option<&Json> {
    let items = value.as_array()?;
    let place = if place < 0 { items.len() as i64 + place } else { place };
    items.get(usize::try_from(place).ok()?)
}

fn by_key<'a>(value: &'a Json, key: &str) -> Option<&'a Json> {
    match value {
        Json::Object(members) => members.get(key),
        Json::Array(_) => item(value, key.parse().ok()?),
        _ => None,
    }
}

pub(super) fn type_name(value: &Json) -> &'static str {
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

/// All that a path finds in a document, as text; for functions that make rows.
pub(crate) fn path_query(document: &str, path: &str, variables: Option<&str>, silent: bool) -> Result<Vec<String>> {
    let (document, variables) = (parse(document)?, variables.map_or(Ok(Json::Null), parse)?);
    Ok(found(&document, path, &variables, silent)?.unwrap_or_default().iter().map(|value| json_text(value)).collect())
}

/// A value of any type as JSON. Numerics keep their digits.
fn of_value(argument: &Evaluated, row: usize) -> Json {
    let (array, place) = (argument.array(), argument.place(row));
    match array.data_type() {
        DataType::Decimal128(..) if array.is_valid(place) => {
            let text = cobble_types::array_value_text(array.as_ref(), place).unwrap_or_default();
            serde_json::from_str(&text).unwrap_or(Json::String(text))
        }
        DataType::Null => Json::Null,
        _ => json_value(array.as_ref(), place),
    }
}

/// The same as text: a numeric keeps the digits that it shows.
fn fragment(argument: &Evaluated, row: usize) -> String {
    let (array, place) = (argument.array(), argument.place(row));
    match array.data_type() {
        DataType::Decimal128(..) if array.is_valid(place) => {
            cobble_types::array_value_text(array.as_ref(), place).unwrap_or_default()
        }
        _ => json_text(&of_value(argument, row)),
    }
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    use Function as F;
    let texts = |f: &dyn Fn(usize) -> Result<Option<String>>| -> Result<ArrayRef> {
        let mut out = StringViewBuilder::with_capacity(rows);
        for row in 0..rows {
            out.append_option(f(row)?);
        }
        Ok(Arc::new(out.finish()))
    };
    let booleans = |f: &dyn Fn(usize) -> Result<Option<bool>>| -> Result<ArrayRef> {
        Ok(Arc::new((0..rows).map(f).collect::<Result<BooleanArray>>()?))
    };
    let json = |i: usize, row: usize| Texts::of(arguments[i]).get(row).map(parse).transpose();
    let shown = |value: Option<&Json>, text: bool| match (value, text) {
        (None, _) => None,
        (Some(value), true) => unquoted(value),
        (Some(value), false) => Some(json_text(value)),
    };
    match function {
        F::JsonGet | F::JsonGetText => texts(&|row| {
            let Some(from) = json(0, row)? else { return Ok(None) };
            let value = match arguments[1].array().data_type() {
                DataType::Int32 => Integers::of(arguments[1]).get(row).and_then(|n| item(&from, n.into())),
                _ => Texts::of(arguments[1]).get(row).and_then(|key| from.as_object()?.get(key)),
            };
            Ok(shown(value, function == F::JsonGetText))
        }),
        F::JsonPath | F::JsonPathText => texts(&|row| {
            let Some(from) = json(0, row)? else { return Ok(None) };
            let mut keys: Vec<String> = Vec::new();
            for argument in &arguments[1..] {
                if let DataType::List(_) = argument.array().data_type() {
                    let items = argument.array().as_list::<i32>().value(argument.place(row));
                    keys.extend((0..items.len()).filter_map(|i| cobble_types::array_value_text(items.as_ref(), i)));
                } else {
                    match Texts::of(argument).get(row) {
                        Some(key) => keys.push(key.to_owned()),
                        None => return Ok(None),
                    }
                }
            }
            let value = keys.iter().try_fold(&from, |value, key| by_key(value, key));
            Ok(shown(value, function == F::JsonPathText))
        }),
        F::JsonContains => booleans(&|row| Ok(json(0, row)?.zip(json(1, row)?).map(|(a, b)| contains(&a, &b)))),
        F::JsonHasKey => booleans(&|row| {
            let Some((from, key)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            Ok(Some(match &from {
                Json::Object(members) => members.contains_key(key),
                Json::Array(items) => items.iter().any(|item| item.as_str() == Some(key)),
                other => other.as_str() == Some(key),
            }))
        }),
        F::JsonArrayLength => {
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                match json(0, row)? {
                    None => out.append_null(),
                    Some(Json::Array(items)) => out.append_value(items.len() as i32),
                    Some(_) => return Err(Error::new(Code::InvalidValue, "json_array_length takes a JSON array")),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::JsonTypeof => texts(&|row| Ok(json(0, row)?.map(|value| type_name(&value).to_owned()))),
        F::JsonBuildObject => texts(&|row| {
            let mut members = Vec::new();
            for pair in arguments.chunks_exact(2) {
                let key = match of_value(pair[0], row) {
                    Json::Null => {
                        return Err(Error::new(Code::InvalidValue, "a JSON object cannot have a null as a key"));
                    }
                    key => unquoted(&key).unwrap_or_default(),
                };
                members.push(format!("{} : {}", Json::String(key), fragment(pair[1], row)));
            }
            Ok(Some(format!("{{{}}}", members.join(", "))))
        }),
        F::JsonBuildArray => texts(&|row| {
            let items: Vec<String> = arguments.iter().map(|a| fragment(a, row)).collect();
            Ok(Some(format!("[{}]", items.join(", "))))
        }),
        F::ToJson => texts(&|row| {
            let value = of_value(arguments[0], row);
            Ok((value != Json::Null).then(|| fragment(arguments[0], row)))
        }),
        F::JsonValue => {
            // What is no value of the wanted type is null.
            let wanted = SqlType::from_arrow(result).filter(|wanted| *wanted != SqlType::Text);
            let read: ArrayRef = texts(&|row| {
                let Some((from, path)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
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
        F::JsonQuery => texts(&|row| {
            let Some((from, path)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            Ok(match found(&from, path, &Json::Null, true)?.as_deref() {
                Some([one]) => Some(json_text(one)),
                _ => None,
            })
        }),
        F::JsonExists => booleans(&|row| {
            let Some((from, path)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            Ok(Some(found(&from, path, &Json::Null, true)?.is_some_and(|found| !found.is_empty())))
        }),
        F::JsonPathExists | F::JsonPathMatch | F::JsonPathQueryArray | F::JsonPathQueryFirst => {
            let query = |row: usize| -> Result<Option<Vec<Json>>> {
                let Some((from, path)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
                let variables = if arguments.len() > 2 { json(2, row)?.unwrap_or(Json::Null) } else { Json::Null };
                let silent = match arguments.get(3) {
                    Some(silent) => silent.array().as_boolean().value(silent.place(row)),
                    None => false,
                };
                Ok(match found(&from, path, &variables, silent)? {
                    Some(found) => Some(found.into_iter().map(Cow::into_owned).collect()),
                    None if function == F::JsonPathQueryArray => Some(vec![]),
                    None => None,
                })
            };
            match function {
                F::JsonPathExists => booleans(&|row| Ok(query(row)?.map(|found| !found.is_empty()))),
                F::JsonPathMatch => booleans(&|row| match query(row)?.as_deref() {
                    None | Some([Json::Null]) => Ok(None),
                    Some([Json::Bool(truth)]) => Ok(Some(*truth)),
                    Some(_) if arguments.len() > 3 => Ok(None),
                    Some(_) => Err(Error::new(Code::InvalidValue, "a JSON path gives no single truth value here")),
                }),
                F::JsonPathQueryArray => texts(&|row| Ok(query(row)?.map(|found| json_text(&Json::Array(found))))),
                _ => texts(&|row| Ok(query(row)?.and_then(|found| found.first().map(json_text)))),
            }
        }
        other => Err(Error::internal(format!("{} is no function of JSON", other.name()))),
    }
}
