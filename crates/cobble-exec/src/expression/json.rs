//! Functions of JSON (PostgreSQL manual 9.16).

use std::borrow::Cow;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_plan::function::Function;
use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, json_text};
use serde_json::Value as Json;

use super::Evaluated;
use super::cast::cast;
use super::json_path::Path;
use super::json_tree::{Put, Tree};
use super::text::{Integers, Texts};

pub(super) fn parse(text: &str) -> Result<Json> {
    serde_json::from_str(text).map_err(|e| not_json(text, &e))
}

/// A document as `jsonb` writes it.
pub(super) fn canonical(text: &str) -> Result<String> {
    Ok(Tree::parse(text)?.text())
}

pub(super) fn not_json(text: &str, why: &serde_json::Error) -> Error {
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
fn pairs_of(argument: &Evaluated, row: usize) -> Result<Option<Vec<Option<String>>>> {
    let (lists, place) = (argument.array().as_list::<i32>(), argument.place(row));
    let Some(pairs) = lists.values().as_list_opt::<i32>() else { return Ok(None) };
    if lists.is_null(place) {
        return Ok(None);
    }
    let (start, end) = (lists.value_offsets()[place] as usize, lists.value_offsets()[place + 1] as usize);
    let mut out = Vec::new();
    for pair in start..end {
        if pairs.value_length(pair) != 2 {
            return Err(Error::new(Code::ArraySubscript, "json_object() takes pairs of a key and a value"));
        }
        out.extend(pairs.value(pair).as_string_view().iter().map(|item| item.map(str::to_owned)));
    }
    Ok(Some(out))
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

/// The variables of a path are the members of an object.
fn are_variables(given: &Json) -> Result<()> {
    match given {
        Json::Object(_) => Ok(()),
        _ => Err(Error::new(Code::InvalidValue, "the variables of a JSON path are not an object")
            .hint("such as '{\"least\": 5}', for $least in the path")),
    }
}

/// All that a path finds in a document, as text; for functions that make rows.
pub(crate) fn path_query(document: &str, path: &str, variables: Option<&str>, silent: bool) -> Result<Vec<String>> {
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
    let tree = |i: usize, row: usize| Texts::of(arguments[i]).get(row).map(Tree::parse).transpose();
    let shown = |value: Option<&Tree>, text: bool| match (value, text) {
        (None, _) => None,
        (Some(value), true) => value.unquoted(),
        (Some(value), false) => Some(value.text()),
    };
    // The texts of an array, of which some may be null.
    let keys = |i: usize, row: usize| -> Option<Vec<Option<String>>> {
        let (lists, place) = (arguments[i].array().as_list::<i32>(), arguments[i].place(row));
        let items = lists.is_valid(place).then(|| lists.value(place))?;
        Some(items.as_string_view().iter().map(|key| key.map(str::to_owned)).collect())
    };
    let boolean = |i: usize, row: usize, otherwise: bool| match arguments.get(i) {
        None => Some(otherwise),
        Some(given) => {
            let (array, place) = (given.array().as_boolean(), given.place(row));
            array.is_valid(place).then(|| array.value(place))
        }
    };
    let changed = |f: &dyn Fn(usize) -> Result<Option<Tree>>| texts(&|row| Ok(f(row)?.map(|tree| tree.text())));
    match function {
        F::JsonGet | F::JsonGetText => texts(&|row| {
            let Some(from) = tree(0, row)? else { return Ok(None) };
            let value = match arguments[1].array().data_type() {
                DataType::Int32 => Integers::of(arguments[1]).get(row).and_then(|n| match from.is_scalar() {
                    // PostgreSQL keeps a scalar as an array of one item, and this operator shows it.
                    true => (n == 0 || n == -1).then_some(&from),
                    false => from.item(n.into()),
                }),
                _ => Texts::of(arguments[1]).get(row).and_then(|key| from.member(key)),
            };
            Ok(shown(value, function == F::JsonGetText))
        }),
        F::JsonPath | F::JsonPathText => texts(&|row| {
            let Some(from) = tree(0, row)? else { return Ok(None) };
            let mut all: Vec<Option<String>> = Vec::new();
            for (place, argument) in arguments.iter().enumerate().skip(1) {
                match argument.array().data_type() {
                    DataType::List(_) => match keys(place, row) {
                        Some(keys) => all.extend(keys),
                        None => return Ok(None),
                    },
                    _ => all.push(Texts::of(argument).get(row).map(str::to_owned)),
                }
            }
            let Some(all) = all.into_iter().collect::<Option<Vec<String>>>() else { return Ok(None) };
            let value = all.iter().try_fold(&from, |value, key| value.step(key));
            Ok(shown(value, function == F::JsonPathText))
        }),
        F::JsonSet | F::JsonInsert => changed(&|row| {
            let insert = function == F::JsonInsert;
            let Some(((from, path), value)) = tree(0, row)?.zip(keys(1, row)).zip(tree(2, row)?) else {
                return Ok(None);
            };
            let Some(flag) = boolean(3, row, !insert) else { return Ok(None) };
            let way = if insert { Put::Insert { after: flag } } else { Put::Set { create: flag } };
            from.with(&path, value, way).map(Some)
        }),
        F::JsonSetLax => changed(&|row| {
            let Some((from, path)) = tree(0, row)?.zip(keys(1, row)) else { return Ok(None) };
            let Some(create) = boolean(3, row, true) else { return Ok(None) };
            let treatment = match arguments.get(4).map(|given| Texts::of(given)) {
                None => "use_json_null".to_owned(),
                Some(given) => given.get(row).unwrap_or_default().to_owned(),
            };
            let value = match (tree(2, row)?, treatment.as_str()) {
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
        }),
        F::JsonDelete => changed(&|row| {
            let Some(from) = tree(0, row)? else { return Ok(None) };
            match arguments[1].array().data_type() {
                DataType::Int32 => match Integers::of(arguments[1]).get(row) {
                    Some(place) => from.without_item(place.into()).map(Some),
                    None => Ok(None),
                },
                DataType::List(_) => match keys(1, row) {
                    Some(keys) => from.without_keys(&keys.into_iter().flatten().collect::<Vec<_>>()).map(Some),
                    None => Ok(None),
                },
                _ => match Texts::of(arguments[1]).get(row) {
                    Some(key) => from.without_keys(&[key.to_owned()]).map(Some),
                    None => Ok(None),
                },
            }
        }),
        F::JsonDeletePath => changed(&|row| match tree(0, row)?.zip(keys(1, row)) {
            Some((from, path)) => from.without_path(&path).map(Some),
            None => Ok(None),
        }),
        F::JsonConcat => changed(&|row| match tree(0, row)?.zip(tree(1, row)?) {
            Some((left, right)) => left.concatenated(right).map(Some),
            None => Ok(None),
        }),
        F::JsonStripNulls => changed(&|row| Ok(tree(0, row)?.map(Tree::without_nulls))),
        F::JsonPretty => texts(&|row| {
            Ok(tree(0, row)?.map(|tree| {
                let mut out = String::new();
                tree.pretty(0, &mut out);
                out
            }))
        }),
        F::JsonOrder => {
            let mut out = BinaryViewBuilder::with_capacity(rows);
            for row in 0..rows {
                out.append_option(tree(0, row)?.map(|tree| tree.order()));
            }
            Ok(Arc::new(out.finish()))
        }
        F::JsonObject | F::JsonbObject => texts(&|row| {
            let uneven = || Error::new(Code::ArraySubscript, "json_object() takes keys and values by turns");
            let first = match pairs_of(arguments[0], row)? {
                Some(first) => first,
                None => match keys(0, row) {
                    Some(first) => first,
                    None => return Ok(None),
                },
            };
            let pairs: Vec<(Option<String>, Option<String>)> = match arguments.get(1) {
                Some(_) => {
                    let Some(values) = keys(1, row) else { return Ok(None) };
                    if values.len() != first.len() {
                        return Err(Error::new(Code::ArraySubscript, "json_object() takes as many values as keys"));
                    }
                    first.into_iter().zip(values).collect()
                }
                None if first.len() % 2 != 0 => return Err(uneven()),
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
            let text = format!("{{{}}}", members.join(", "));
            Ok(Some(if function == F::JsonbObject { Tree::parse(&text)?.text() } else { text }))
        }),
        F::JsonHasAny | F::JsonHasAll => booleans(&|row| {
            let Some((from, keys)) = tree(0, row)?.zip(keys(1, row)) else { return Ok(None) };
            let mut keys = keys.into_iter().flatten();
            Ok(Some(match function {
                F::JsonHasAny => keys.any(|key| from.has(&key)),
                _ => keys.all(|key| from.has(&key)),
            }))
        }),
        F::JsonContains => booleans(&|row| Ok(json(0, row)?.zip(json(1, row)?).map(|(a, b)| contains(&a, &b)))),
        F::JsonHasKey => {
            booleans(&|row| Ok(tree(0, row)?.zip(Texts::of(arguments[1]).get(row)).map(|(from, key)| from.has(key))))
        }
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
        F::JsonRecord => texts(&|row| match json(0, row)? {
            Some(Json::Object(_)) | None => Ok(Texts::of(arguments[0]).get(row).map(str::to_owned)),
            Some(other) => Err(Error::new(
                Code::InvalidValue,
                format!("a record is made of a JSON object, and this is {}", json_text(&other)),
            )),
        }),
        F::JsonTypeof => texts(&|row| Ok(json(0, row)?.map(|value| type_name(&value).to_owned()))),
        // The values are documents already; SQL's null is JSON's.
        F::JsonBuildObject | F::JsonbBuildObject => texts(&|row| {
            let mut members = Vec::new();
            for pair in arguments.chunks_exact(2) {
                let Some(key) = Texts::of(pair[0]).get(row) else {
                    return Err(Error::new(Code::InvalidValue, "a JSON object cannot have a null as a key"));
                };
                let value = Texts::of(pair[1]).get(row).unwrap_or("null");
                members.push(format!("{} : {value}", Json::String(key.to_owned())));
            }
            let text = format!("{{{}}}", members.join(", "));
            if function == F::JsonbBuildObject { canonical(&text).map(Some) } else { Ok(Some(text)) }
        }),
        F::JsonBuildArray | F::JsonbBuildArray => texts(&|row| {
            let items: Vec<&str> = arguments.iter().map(|a| Texts::of(a).get(row).unwrap_or("null")).collect();
            let text = format!("[{}]", items.join(", "));
            if function == F::JsonbBuildArray { canonical(&text).map(Some) } else { Ok(Some(text)) }
        }),
        F::ToJson | F::ToJsonb => texts(&|row| {
            let (array, place) = (arguments[0].array(), arguments[0].place(row));
            if array.is_null(place) || matches!(array.data_type(), DataType::Null) {
                return Ok(None);
            }
            let mut text = String::new();
            write_value(array.as_ref(), place, &mut text);
            if function == F::ToJsonb { canonical(&text).map(Some) } else { Ok(Some(text)) }
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
                let given = if arguments.len() > 2 { json(2, row)? } else { None };
                given.as_ref().map_or(Ok(()), are_variables)?;
                let variables = given.unwrap_or(Json::Null);
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
                    Some(_) => Err(Error::new(Code::JsonNotOne, "a JSON path gives no single truth value here")),
                }),
                F::JsonPathQueryArray => texts(&|row| Ok(query(row)?.map(|found| json_text(&Json::Array(found))))),
                _ => texts(&|row| Ok(query(row)?.and_then(|found| found.first().map(json_text)))),
            }
        }
        other => Err(Error::internal(format!("{} is no function of JSON", other.name()))),
    }
}
