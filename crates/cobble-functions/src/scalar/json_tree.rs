//! JSON as a tree that keeps the digits of its numbers, in the order and form of `jsonb` (PostgreSQL manual 8.14), and the
//! functions that change it or compare it.

use std::cmp::Ordering;

use cobble_types::parse::{parse_decimal, rescale_decimal};
use cobble_types::{Code, Error, Result, write_decimal};
use serde_json::Value as Json;
use serde_json::value::RawValue;

/// A document. Members of objects stand by the length of their names, then by bytes, one of each name.
#[derive(Debug, Clone, PartialEq)]
pub enum Tree {
    Null,
    Boolean(bool),
    /// Digits as they are written.
    Number(String),
    Text(String),
    Array(Vec<Tree>),
    Object(Vec<(String, Tree)>),
}

impl Tree {
    /// # Errors
    /// When the text is not JSON.
    pub fn parse(text: &str) -> Result<Tree> {
        let raw: &RawValue = serde_json::from_str(text).map_err(|e| super::json::not_json(text, &e))?;
        Tree::read(raw).map_err(|e| super::json::not_json(text, &e))
    }

    fn read(raw: &RawValue) -> serde_json::Result<Tree> {
        let text = raw.get();
        Ok(match text.as_bytes().first() {
            Some(b'{') => {
                // Read as pairs, so that the last of one name stays.
                let members: Members = serde_json::from_str(text)?;
                let mut object = Tree::Object(Vec::with_capacity(members.0.len()));
                for (key, value) in members.0 {
                    object.set(key, Tree::read(&value)?);
                }
                object
            }
            Some(b'[') => {
                let items: Vec<&RawValue> = serde_json::from_str(text)?;
                Tree::Array(items.into_iter().map(Tree::read).collect::<serde_json::Result<_>>()?)
            }
            Some(b'"') => Tree::Text(serde_json::from_str(text)?),
            Some(b't') => Tree::Boolean(true),
            Some(b'f') => Tree::Boolean(false),
            Some(b'n') => Tree::Null,
            _ => Tree::Number(plain_number(text)),
        })
    }

    /// Sets a member of an object, in its place.
    fn set(&mut self, key: String, value: Tree) {
        let Tree::Object(members) = self else { return };
        match members.binary_search_by(|(own, _)| by_length(own, &key)) {
            Ok(place) => members[place].1 = value,
            Err(place) => members.insert(place, (key, value)),
        }
    }

    pub fn member(&self, key: &str) -> Option<&Tree> {
        let Tree::Object(members) = self else { return None };
        let place = members.binary_search_by(|(own, _)| by_length(own, key)).ok()?;
        Some(&members[place].1)
    }

    /// The item of an array, counted from zero, or from the end when negative.
    pub fn item(&self, place: i64) -> Option<&Tree> {
        let Tree::Array(items) = self else { return None };
        items.get(absolute(place, items.len())?)
    }

    /// A member by its name, or an item by its number.
    pub fn step(&self, key: &str) -> Option<&Tree> {
        match self {
            Tree::Object(_) => self.member(key),
            Tree::Array(_) => self.item(key.parse().ok()?),
            _ => None,
        }
    }

    /// Whether there is a member of this name, or a text of it in an array.
    pub fn has(&self, key: &str) -> bool {
        match self {
            Tree::Object(_) => self.member(key).is_some(),
            Tree::Array(items) => items.iter().any(|item| matches!(item, Tree::Text(text) if text == key)),
            Tree::Text(text) => text == key,
            Tree::Null | Tree::Boolean(_) | Tree::Number(_) => false,
        }
    }

    /// As `jsonb` is written, on one line.
    pub fn write(&self, out: &mut String) {
        match self {
            Tree::Null => out.push_str("null"),
            Tree::Boolean(value) => out.push_str(if *value { "true" } else { "false" }),
            Tree::Number(digits) => out.push_str(digits),
            Tree::Text(text) => out.push_str(&Json::String(text.clone()).to_string()),
            Tree::Array(items) => {
                out.push('[');
                for (place, item) in items.iter().enumerate() {
                    out.push_str(if place == 0 { "" } else { ", " });
                    item.write(out);
                }
                out.push(']');
            }
            Tree::Object(members) => {
                out.push('{');
                for (place, (key, value)) in members.iter().enumerate() {
                    out.push_str(if place == 0 { "" } else { ", " });
                    out.push_str(&Json::String(key.clone()).to_string());
                    out.push_str(": ");
                    value.write(out);
                }
                out.push('}');
            }
        }
    }

    pub fn text(&self) -> String {
        let mut out = String::new();
        self.write(&mut out);
        out
    }

    /// A scalar without quotes, anything else as it is written; nothing for null.
    pub fn unquoted(&self) -> Option<String> {
        match self {
            Tree::Null => None,
            Tree::Text(text) => Some(text.clone()),
            other => Some(other.text()),
        }
    }

    /// `jsonb_pretty`: a line for each member and item, four blanks deeper for each level.
    pub fn pretty(&self, depth: usize, out: &mut String) {
        let line = |out: &mut String, depth: usize| {
            out.push('\n');
            out.extend(std::iter::repeat_n("    ", depth));
        };
        match self {
            Tree::Array(items) => {
                out.push('[');
                for (place, item) in items.iter().enumerate() {
                    out.push_str(if place == 0 { "" } else { "," });
                    line(out, depth + 1);
                    item.pretty(depth + 1, out);
                }
                line(out, depth);
                out.push(']');
            }
            Tree::Object(members) => {
                out.push('{');
                for (place, (key, value)) in members.iter().enumerate() {
                    out.push_str(if place == 0 { "" } else { "," });
                    line(out, depth + 1);
                    out.push_str(&Json::String(key.clone()).to_string());
                    out.push_str(": ");
                    value.pretty(depth + 1, out);
                }
                line(out, depth);
                out.push('}');
            }
            scalar => scalar.write(out),
        }
    }

    /// Without the members of objects that are null.
    #[must_use]
    pub fn without_nulls(self) -> Tree {
        match self {
            Tree::Object(members) => Tree::Object(
                members
                    .into_iter()
                    .filter(|(_, value)| *value != Tree::Null)
                    .map(|(key, value)| (key, value.without_nulls()))
                    .collect(),
            ),
            Tree::Array(items) => Tree::Array(items.into_iter().map(Tree::without_nulls).collect()),
            scalar => scalar,
        }
    }

    pub fn is_scalar(&self) -> bool {
        !matches!(self, Tree::Array(_) | Tree::Object(_))
    }

    /// `jsonb_set` and `jsonb_insert`: the value put at the end of the path.
    ///
    /// # Errors
    /// If the document is a scalar, if an index of an array is not a number, or if a member to insert exists already.
    pub fn with(mut self, path: &[Option<String>], value: Tree, way: Put) -> Result<Tree> {
        if self.is_scalar() {
            return Err(Error::new(Code::InvalidValue, "a path cannot be set in a scalar"));
        }
        self.put(path, 1, value, way)?;
        Ok(self)
    }

    fn put(&mut self, path: &[Option<String>], level: usize, value: Tree, way: Put) -> Result<()> {
        let Some((first, rest)) = path.split_first() else { return Ok(()) };
        let Some(key) = first else {
            return Err(Error::new(Code::InvalidValue, format!("the path element {level} is null")));
        };
        match self {
            Tree::Object(members) => {
                let found = members.binary_search_by(|(own, _)| by_length(own, key));
                match (found, rest.is_empty()) {
                    (Ok(place), false) => members[place].1.put(rest, level + 1, value, way)?,
                    (Ok(place), true) => match way {
                        Put::Set { .. } => members[place].1 = value,
                        Put::Insert { .. } => {
                            return Err(Error::new(
                                Code::InvalidValue,
                                format!("the member \"{key}\" is there already"),
                            )
                            .hint("jsonb_set() replaces it"));
                        }
                    },
                    (Err(place), true) if !matches!(way, Put::Set { create: false }) => {
                        members.insert(place, (key.clone(), value));
                    }
                    (Err(_), _) => {}
                }
            }
            Tree::Array(items) => {
                let number: i64 = key.parse().map_err(|_| {
                    Error::new(Code::InvalidText, format!("the path element {level} is not a number: \"{key}\""))
                })?;
                let place = absolute(number, items.len());
                if let (Some(item), false) = (place.and_then(|p| items.get_mut(p)), rest.is_empty()) {
                    return item.put(rest, level + 1, value, way);
                }
                if !rest.is_empty() {
                    return Ok(());
                }
                match (way, place.filter(|p| *p < items.len())) {
                    (Put::Set { .. }, Some(place)) => items[place] = value,
                    (Put::Insert { after }, Some(place)) => items.insert(place + usize::from(after), value),
                    (Put::Set { create: false }, None) => {}
                    (Put::Set { create: true } | Put::Insert { .. }, None) => {
                        let end = if number < 0 { 0 } else { items.len() };
                        items.insert(end, value);
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// `document - key` for each key: members of an object, or texts of an array.
    pub fn without_keys(self, keys: &[String]) -> Result<Tree> {
        Ok(match self {
            Tree::Object(members) => Tree::Object(members.into_iter().filter(|(key, _)| !keys.contains(key)).collect()),
            Tree::Array(items) => Tree::Array(
                items.into_iter().filter(|item| !matches!(item, Tree::Text(text) if keys.contains(text))).collect(),
            ),
            _ => return Err(Error::new(Code::InvalidValue, "nothing can be deleted from a scalar")),
        })
    }

    /// `document - place`: an array without the item there.
    pub fn without_item(self, place: i64) -> Result<Tree> {
        match self {
            Tree::Array(mut items) => {
                if let Some(place) = absolute(place, items.len()).filter(|place| *place < items.len()) {
                    items.remove(place);
                }
                Ok(Tree::Array(items))
            }
            Tree::Object(_) => {
                Err(Error::new(Code::InvalidValue, "an object has no numbered members: delete one by its name"))
            }
            _ => Err(Error::new(Code::InvalidValue, "nothing can be deleted from a scalar")),
        }
    }

    /// `document #- path`.
    pub fn without_path(mut self, path: &[Option<String>]) -> Result<Tree> {
        if self.is_scalar() {
            return Err(Error::new(Code::InvalidValue, "a path cannot be deleted in a scalar"));
        }
        self.cut(path, 1)?;
        Ok(self)
    }

    fn cut(&mut self, path: &[Option<String>], level: usize) -> Result<()> {
        let Some((first, rest)) = path.split_first() else { return Ok(()) };
        let Some(key) = first else {
            return Err(Error::new(Code::InvalidValue, format!("the path element {level} is null")));
        };
        match self {
            Tree::Object(members) => {
                if let Ok(place) = members.binary_search_by(|(own, _)| by_length(own, key)) {
                    match rest.is_empty() {
                        true => drop(members.remove(place)),
                        false => members[place].1.cut(rest, level + 1)?,
                    }
                }
            }
            Tree::Array(items) => {
                let number: i64 = key.parse().map_err(|_| {
                    Error::new(Code::InvalidText, format!("the path element {level} is not a number: \"{key}\""))
                })?;
                if let Some(place) = absolute(number, items.len()).filter(|place| *place < items.len()) {
                    match rest.is_empty() {
                        true => drop(items.remove(place)),
                        false => items[place].cut(rest, level + 1)?,
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// `a || b`: objects together, the right one's members first in rank; anything else as arrays.
    pub fn concatenated(self, other: Tree) -> Result<Tree> {
        Ok(match (self, other) {
            (Tree::Object(own), Tree::Object(added)) => {
                let mut all = Tree::Object(own);
                added.into_iter().for_each(|(key, value)| all.set(key, value));
                all
            }
            (Tree::Array(mut own), Tree::Array(added)) => {
                own.extend(added);
                Tree::Array(own)
            }
            (Tree::Array(mut own), one) => {
                own.push(one);
                Tree::Array(own)
            }
            (one, Tree::Array(mut items)) => {
                items.insert(0, one);
                Tree::Array(items)
            }
            (left, right) => Tree::Array(vec![left, right]),
        })
    }

    /// The order of `jsonb` values as bytes that compare alike: objects after arrays after booleans after numbers after texts
    /// after null; objects and arrays by their size first (PostgreSQL manual 8.14.4). An empty array alone comes first of all.
    pub fn order(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Tree::Array(items) if items.is_empty() => out.push(0),
            _ => self.write_order(&mut out),
        }
        out
    }

    fn write_order(&self, out: &mut Vec<u8>) {
        match self {
            Tree::Null => out.push(1),
            Tree::Text(text) => {
                out.push(2);
                write_text_order(text, out);
            }
            Tree::Number(digits) => {
                out.push(3);
                write_number_order(digits, out);
            }
            Tree::Boolean(value) => out.extend([4, u8::from(*value)]),
            Tree::Array(items) => {
                out.push(5);
                out.extend((items.len() as u32).to_be_bytes());
                items.iter().for_each(|item| item.write_order(out));
            }
            Tree::Object(members) => {
                out.push(6);
                out.extend((members.len() as u32).to_be_bytes());
                for (key, value) in members {
                    write_text_order(key, out);
                    value.write_order(out);
                }
            }
        }
    }
}

/// How a value is put into a document.
#[derive(Debug, Clone, Copy)]
pub enum Put {
    /// Replaces the value at the path. A missing one is created if `create` is set.
    Set {
        create: bool,
    },
    Insert {
        after: bool,
    },
}

/// The members of an object as pairs, repetitions and all.
struct Members(Vec<(String, Box<RawValue>)>);

impl<'de> serde::Deserialize<'de> for Members {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        struct Pairs;
        impl<'de> serde::de::Visitor<'de> for Pairs {
            type Value = Members;

            fn expecting(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(self, mut map: A) -> std::result::Result<Members, A::Error> {
                let mut members = Vec::new();
                while let Some(pair) = map.next_entry()? {
                    members.push(pair);
                }
                Ok(Members(members))
            }
        }
        deserializer.deserialize_map(Pairs)
    }
}

fn by_length(a: &str, b: &str) -> Ordering {
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}

fn absolute(place: i64, length: usize) -> Option<usize> {
    let place = if place < 0 { place.checked_add(length as i64)? } else { place };
    usize::try_from(place).ok()
}

/// A number without an exponent, as numerics are written; one that is too long for that stays as it is.
fn plain_number(text: &str) -> String {
    let plain = match text.contains(['e', 'E']) {
        true => parse_decimal(text).map_or_else(|| text.to_owned(), |(unscaled, scale)| write_decimal(unscaled, scale)),
        false => text.to_owned(),
    };
    let is_zero = plain.bytes().all(|b| matches!(b, b'-' | b'0' | b'.'));
    if is_zero { plain.trim_start_matches('-').to_owned() } else { plain }
}

/// Texts by their bytes, with an end that sorts before every character.
fn write_text_order(text: &str, out: &mut Vec<u8>) {
    for byte in text.bytes() {
        match byte {
            0 => out.extend([0, 0xff]),
            other => out.push(other),
        }
    }
    out.extend([0, 0]);
}

/// Numbers by their value: 1 and 1.0 are the same. All as decimals of 19 digits after the point, where they fit; others as
/// doubles beyond them.
fn write_number_order(digits: &str, out: &mut Vec<u8>) {
    let exact = parse_decimal(digits).and_then(|(unscaled, scale)| {
        let moved = rescale_decimal(unscaled, scale, 19)?;
        (rescale_decimal(moved, 19, scale) == Some(unscaled)).then_some(moved)
    });
    let value: f64 = digits.parse().unwrap_or(0.0);
    let key = exact.unwrap_or_else(|| if value.abs() < 1e19 { (value * 1e19) as i128 } else { i128::MAX });
    let key = if exact.is_none() && value.abs() >= 1e19 && value < 0.0 { i128::MIN } else { key };
    out.extend(((key as u128) ^ (1 << 127)).to_be_bytes());
    // Numbers that do not fit are compared as doubles.
    let bits = value.to_bits();
    let ordered = if exact.is_some() {
        0
    } else if value < 0.0 {
        !bits
    } else {
        bits | (1 << 63)
    };
    out.extend(ordered.to_be_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(text: &str) -> Tree {
        Tree::parse(text).unwrap()
    }

    #[test]
    fn documents_are_written_as_jsonb_writes_them() {
        for (text, written) in [
            ("{\"bb\":1, \"a\":1e2, \"a\":1.50}", "{\"a\": 1.50, \"bb\": 1}"),
            ("[1,-0,-0.0,2E-3]", "[1, 0, 0.0, 0.002]"),
            ("\"\\u00e9\"", "\"é\""),
            ("123456789012345678901234567890.10", "123456789012345678901234567890.10"),
        ] {
            assert_eq!(tree(text).text(), written);
        }
    }

    #[test]
    fn values_are_ordered_as_jsonb_orders_them() {
        let rising = [
            "[]",
            "null",
            "\"\"",
            "\"a\"",
            "\"b\"",
            "-3",
            "-2.5",
            "0",
            "1.10",
            "2",
            "10",
            "123456789012345678901234567890",
            "false",
            "true",
            "[1]",
            "[2]",
            "[1, 1]",
            "{}",
            "{\"a\": 1}",
            "{\"a\": 2}",
            "{\"b\": 1}",
            "{\"a\": 1, \"b\": 1}",
        ];
        for pair in rising.windows(2) {
            assert!(tree(pair[0]).order() < tree(pair[1]).order(), "{} before {}", pair[0], pair[1]);
        }
        assert_eq!(tree("1.0").order(), tree("1").order());
    }

    #[test]
    fn paths_are_set_inserted_and_deleted() {
        let path = |text: &str| text.split(',').map(|key| Some(key.to_owned())).collect::<Vec<_>>();
        let set = |text: &str, at: &str, way| tree(text).with(&path(at), tree("9"), way).unwrap().text();
        assert_eq!(set("{\"a\":{\"b\":1}}", "a,b", Put::Set { create: true }), "{\"a\": {\"b\": 9}}");
        assert_eq!(set("{\"a\":1}", "b", Put::Set { create: false }), "{\"a\": 1}");
        assert_eq!(set("[1,2]", "-1", Put::Set { create: true }), "[1, 9]");
        assert_eq!(set("[1,2]", "7", Put::Set { create: true }), "[1, 2, 9]");
        assert_eq!(set("[1,2]", "0", Put::Insert { after: true }), "[1, 9, 2]");
        assert_eq!(tree("{\"a\":[1,{\"b\":2}]}").without_path(&path("a,1,b")).unwrap().text(), "{\"a\": [1, {}]}");
        assert!(tree("{\"a\":1}").with(&path("a"), tree("9"), Put::Insert { after: false }).is_err());
    }
}
