//! Metadata as documents: what is asked of them, and how they are changed. They come from outside, so that whatever is missing, of another type or
//! too large is an error.

use serde_json::{Map, Value as Json, json};

use crate::schema::Told;

/// A whole number, where it is one.
pub(crate) fn number(json: &Json, name: &str) -> Option<i64> {
    json.get(name).and_then(Json::as_i64)
}

pub(crate) fn needed(json: &Json, name: &str) -> Told<i64> {
    number(json, name).ok_or_else(|| format!("{name} is missing, or no whole number"))
}

pub(crate) fn text<'j>(json: &'j Json, name: &str) -> Told<&'j str> {
    json.get(name).and_then(Json::as_str).ok_or_else(|| format!("{name} is missing, or no text"))
}

/// What an array holds; nothing where there is none.
pub(crate) fn all<'j>(json: &'j Json, name: &str) -> &'j [Json] {
    json.get(name).and_then(Json::as_array).map_or(&[], Vec::as_slice)
}

fn members_of(json: &mut Json) -> Told<&mut Map<String, Json>> {
    json.as_object_mut().ok_or_else(|| "a part of the metadata is no object".to_owned())
}

/// Gives something a member.
pub(crate) fn set(json: &mut Json, name: &str, value: impl Into<Json>) -> Told<()> {
    members_of(json)?.insert(name.to_owned(), value.into());
    Ok(())
}

/// The array of this name, made where there is none.
pub(crate) fn list<'j>(json: &'j mut Json, name: &str) -> Told<&'j mut Vec<Json>> {
    let own = members_of(json)?.entry(name).or_insert_with(|| json!([]));
    if own.is_null() {
        *own = json!([]);
    }
    own.as_array_mut().ok_or_else(|| format!("{name} is no array"))
}

/// The object of this name, made where there is none.
pub(crate) fn members<'j>(json: &'j mut Json, name: &str) -> Told<&'j mut Map<String, Json>> {
    let own = members_of(json)?.entry(name).or_insert_with(|| json!({}));
    if own.is_null() {
        *own = json!({});
    }
    own.as_object_mut().ok_or_else(|| format!("{name} is no object"))
}

/// The number that follows the highest of these, and is at least `least`.
pub(crate) fn following<N: Into<i64>>(numbers: impl IntoIterator<Item = N>, least: i64) -> Told<i64> {
    let Some(highest) = numbers.into_iter().map(Into::into).max() else { return Ok(least) };
    let next = highest.checked_add(1).ok_or_else(|| format!("no number follows {highest}"))?;
    Ok(next.max(least))
}

/// The same of numbers that have 32 bits in the format.
pub(crate) fn following_id<N: Into<i64>>(numbers: impl IntoIterator<Item = N>, least: i32) -> Told<i32> {
    let next = following(numbers, least.into())?;
    i32::try_from(next).map_err(|_| format!("{next} is too large for an id"))
}
