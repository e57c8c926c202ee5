//! Functions of JSON (PostgreSQL manual 9.16) and SQL/JSON paths (SQL:2016 part 2, 9.39): member and item access, wildcards,
//! in lax mode.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result, json_text, json_value};
use serde_json::Value as Json;

use super::Evaluated;
use super::text::{Integers, Texts};

pub(super) fn parse(text: &str) -> Result<Json> {
    serde_json::from_str(text).map_err(|e| Error::new(Code::InvalidText, format!("\"{text}\" is not valid JSON: {e}")))
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

/// One step of a path.
enum Step {
    Member(String),
    AnyMember,
    Item(i64),
    LastItem,
    AnyItem,
}

fn path(text: &str) -> Result<Vec<Step>> {
    let wrong = || {
        Error::new(Code::InvalidText, format!("\"{text}\" is not a JSON path that is understood"))
            .hint("such as $.name, $.tags[0], $.tags[*], $.\"two words\"")
    };
    let mut rest = text.trim();
    rest = rest.strip_prefix("lax").or(rest.strip_prefix("strict")).unwrap_or(rest).trim();
    rest = rest.strip_prefix('$').ok_or_else(wrong)?;
    let mut steps = Vec::new();
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('.') {
            if let Some(after) = after.strip_prefix('*') {
                steps.push(Step::AnyMember);
                rest = after;
            } else if let Some(quoted) = after.strip_prefix('"') {
                let end = quoted.find('"').ok_or_else(wrong)?;
                steps.push(Step::Member(quoted[..end].to_owned()));
                rest = &quoted[end + 1..];
            } else {
                let end = after.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(after.len());
                if end == 0 {
                    return Err(wrong());
                }
                steps.push(Step::Member(after[..end].to_owned()));
                rest = &after[end..];
            }
        } else if let Some(after) = rest.strip_prefix('[') {
            let end = after.find(']').ok_or_else(wrong)?;
            steps.push(match after[..end].trim() {
                "*" => Step::AnyItem,
                "last" => Step::LastItem,
                place => Step::Item(place.parse().map_err(|_| wrong())?),
            });
            rest = &after[end + 1..];
        } else {
            return Err(wrong());
        }
    }
    Ok(steps)
}

fn found<'a>(root: &'a Json, steps: &[Step]) -> Vec<&'a Json> {
    let mut current = vec![root];
    for step in steps {
        let mut next: Vec<&Json> = Vec::new();
        for value in current {
            // Lax: members are looked for in the items of an array, and a value alone is an array of one.
            match (step, value) {
                (Step::Member(key), Json::Array(items)) => next.extend(items.iter().filter_map(|v| v.get(key))),
                (Step::Member(key), other) => next.extend(other.get(key)),
                (Step::AnyMember, Json::Object(members)) => next.extend(members.values()),
                (Step::AnyMember, _) => {}
                (Step::AnyItem, Json::Array(items)) => next.extend(items),
                (Step::Item(place), Json::Array(_)) => next.extend(item(value, *place)),
                (Step::LastItem, Json::Array(items)) => next.extend(items.last()),
                (Step::AnyItem | Step::LastItem | Step::Item(0), single) => next.push(single),
                (Step::Item(_), _) => {}
            }
        }
        current = next;
    }
    current
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

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize) -> Result<ArrayRef> {
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
        F::JsonTypeof => texts(&|row| {
            Ok(json(0, row)?.map(|value| {
                match value {
                    Json::Null => "null",
                    Json::Bool(_) => "boolean",
                    Json::Number(_) => "number",
                    Json::String(_) => "string",
                    Json::Array(_) => "array",
                    Json::Object(_) => "object",
                }
                .to_owned()
            }))
        }),
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
        F::JsonValue => texts(&|row| {
            let Some((from, steps)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            // Anything but one scalar is null unless said otherwise.
            Ok(match found(&from, &path(steps)?).as_slice() {
                [one] if !one.is_object() && !one.is_array() => unquoted(one),
                _ => None,
            })
        }),
        F::JsonQuery => texts(&|row| {
            let Some((from, steps)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            Ok(match found(&from, &path(steps)?).as_slice() {
                [one] => Some(json_text(one)),
                _ => None,
            })
        }),
        F::JsonExists => booleans(&|row| {
            let Some((from, steps)) = json(0, row)?.zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            Ok(Some(!found(&from, &path(steps)?).is_empty()))
        }),
        other => Err(Error::internal(format!("{} is no function of JSON", other.name()))),
    }
}
