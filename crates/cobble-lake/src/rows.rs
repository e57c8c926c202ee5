//! Rows of manifests as Avro writes them (Avro specification 1.11, "Binary Encoding"). What is not needed is passed over without being built: a
//! manifest has bounds of all columns of hundreds of thousands of files, of which a plan asks for a few.

use std::collections::HashMap;

use serde_json::Value as Json;

use crate::schema::Told;

/// The type of a value, as the writer had it.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    Null,
    Boolean,
    /// An int, long or the number of an enumeration's symbol.
    Number,
    Float,
    Double,
    /// Bytes or text.
    Bytes,
    Fixed(usize),
    Union(Vec<Node>),
    Record(Vec<Part>),
    Array(Box<Node>),
    Map(Box<Node>),
}

/// A field of a record.
#[derive(Debug, Clone, PartialEq)]
pub struct Part {
    pub name: String,
    /// By which the table specification knows it.
    pub id: Option<i32>,
    pub node: Node,
}

/// Types within types.
const DEPTH: usize = 64;

impl Node {
    pub fn from_json(json: &Json) -> Told<Node> {
        Node::read(json, &mut HashMap::new(), 0)
    }

    fn read(json: &Json, known: &mut HashMap<String, Node>, depth: usize) -> Told<Node> {
        if depth > DEPTH {
            return Err("its schema is nested too deeply".into());
        }
        if let Json::Array(branches) = json {
            return Ok(Node::Union(
                branches.iter().map(|branch| Node::read(branch, known, depth + 1)).collect::<Told<_>>()?,
            ));
        }
        let name = match json {
            Json::String(name) => name.as_str(),
            _ => match json.get("type") {
                Some(Json::String(name)) => name.as_str(),
                // A type in a type, as an annotation of it.
                Some(inner) => return Node::read(inner, known, depth + 1),
                None => return Err("its schema has a type without a name".into()),
            },
        };
        let part = |name: &str| json.get(name).ok_or_else(|| format!("its schema has a type without {name}"));
        let node = match name {
            "null" => Node::Null,
            "boolean" => Node::Boolean,
            "int" | "long" | "enum" => Node::Number,
            "float" => Node::Float,
            "double" => Node::Double,
            "bytes" | "string" => Node::Bytes,
            "fixed" => {
                let size = part("size")?.as_u64().and_then(|size| usize::try_from(size).ok());
                Node::Fixed(size.ok_or("its schema has a type of no size")?)
            }
            "array" => Node::Array(Box::new(Node::read(part("items")?, known, depth + 1)?)),
            "map" => Node::Map(Box::new(Node::read(part("values")?, known, depth + 1)?)),
            "record" => {
                let fields = part("fields")?.as_array().ok_or("its schema has a record without fields")?;
                let field = |field: &Json, known: &mut HashMap<String, Node>| -> Told<Part> {
                    Ok(Part {
                        name: field.get("name").and_then(Json::as_str).unwrap_or_default().to_owned(),
                        id: field.get("field-id").and_then(Json::as_i64).and_then(|id| i32::try_from(id).ok()),
                        node: Node::read(field.get("type").unwrap_or(&Json::Null), known, depth + 1)?,
                    })
                };
                Node::Record(fields.iter().map(|one| field(one, known)).collect::<Told<_>>()?)
            }
            // A type that has been defined before; one that holds itself is not there yet.
            other => return known.get(other).cloned().ok_or_else(|| format!("its schema has no type {other}")),
        };
        if let Some(Json::String(own)) = json.get("name") {
            known.insert(own.clone(), node.clone());
        }
        Ok(node)
    }

    /// Whether its values may have no bytes.
    fn may_be_empty(&self) -> bool {
        match self {
            Node::Null | Node::Fixed(0) => true,
            Node::Record(parts) => parts.iter().all(|part| part.node.may_be_empty()),
            _ => false,
        }
    }

    /// The other branch of a union with null, or the type itself.
    pub fn present(&self) -> &Node {
        match self {
            Node::Union(branches) => branches.iter().find(|branch| **branch != Node::Null).unwrap_or(self),
            other => other,
        }
    }
}

/// What most arrays of a manifest hold: an id of a column with a count, or with a bound.
pub enum Pair {
    Numbers,
    Bytes,
}

pub fn pair_of(item: &Node) -> Option<Pair> {
    match item {
        Node::Record(parts) => match parts.as_slice() {
            [Part { node: Node::Number, .. }, Part { node: Node::Number, .. }] => Some(Pair::Numbers),
            [Part { node: Node::Number, .. }, Part { node: Node::Bytes, .. }] => Some(Pair::Bytes),
            _ => None,
        },
        _ => None,
    }
}

/// A place in the bytes of a block.
#[derive(Debug, Clone, Copy)]
pub struct Cursor<'a> {
    rest: &'a [u8],
}

fn early<T>() -> Told<T> {
    Err("a row ends early".into())
}

impl<'a> Cursor<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Cursor { rest: bytes }
    }

    /// The bytes from an earlier place up to this one.
    pub fn since(&self, earlier: &Cursor<'a>) -> &'a [u8] {
        &earlier.rest[..earlier.rest.len() - self.rest.len()]
    }

    /// What is left.
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }

    pub fn is_at_end(&self) -> bool {
        self.rest.is_empty()
    }

    fn take(&mut self, length: usize) -> Told<&'a [u8]> {
        match self.rest.split_at_checked(length) {
            Some((taken, rest)) => {
                self.rest = rest;
                Ok(taken)
            }
            None => early(),
        }
    }

    #[inline]
    pub fn number(&mut self) -> Told<i64> {
        // Most are small.
        match self.rest {
            [byte, rest @ ..] if byte & 0x80 == 0 => {
                self.rest = rest;
                Ok(i64::from(byte >> 1) ^ -i64::from(byte & 1))
            }
            _ => self.long_number(),
        }
    }

    fn long_number(&mut self) -> Told<i64> {
        let mut value = 0u64;
        for (place, byte) in self.rest.iter().take(10).enumerate() {
            value |= u64::from(byte & 0x7f) << (7 * place);
            if byte & 0x80 == 0 {
                self.rest = &self.rest[place + 1..];
                return Ok((value >> 1) as i64 ^ -((value & 1) as i64));
            }
        }
        Err("a row ends early, or has a number of more than ten bytes".into())
    }

    pub fn bytes(&mut self) -> Told<&'a [u8]> {
        match usize::try_from(self.number()?) {
            Ok(length) => self.take(length),
            Err(_) => Err("a value has fewer than no bytes".into()),
        }
    }

    /// The branch of a union that follows, none where it is null; of another type that itself.
    pub fn branch<'n>(&mut self, node: &'n Node) -> Told<Option<&'n Node>> {
        let branch = match node {
            Node::Union(branches) => {
                let place = self.number()?;
                let found = usize::try_from(place).ok().and_then(|place| branches.get(place));
                found.ok_or_else(|| format!("a value is of branch {place} of its type, which has fewer"))?
            }
            other => other,
        };
        Ok((*branch != Node::Null).then_some(branch))
    }

    /// Goes through the items of an array; `one` must pass over its item.
    pub fn items(&mut self, item: &Node, mut one: impl FnMut(&mut Self) -> Told<()>) -> Told<()> {
        loop {
            let (count, _) = self.run_of_items(item)?;
            if count == 0 {
                return Ok(());
            }
            for _ in 0..count {
                one(self)?;
            }
        }
    }

    /// How many items follow, and how many bytes where that is told.
    fn run_of_items(&mut self, item: &Node) -> Told<(u64, Option<usize>)> {
        let count = self.number()?;
        let bytes = match count < 0 {
            true => Some(usize::try_from(self.number()?).map_err(|_| "an array has fewer than no bytes")?),
            false => None,
        };
        let count = count.unsigned_abs();
        match count > self.rest.len() as u64 && (!item.may_be_empty() || count > 1 << 20) {
            true => early(),
            false => Ok((count, bytes)),
        }
    }

    /// Passes over a value, and gives its bytes.
    pub fn skip(&mut self, node: &Node) -> Told<&'a [u8]> {
        let before = self.rest;
        self.pass(node)?;
        Ok(&before[..before.len() - self.rest.len()])
    }

    fn pass(&mut self, node: &Node) -> Told<()> {
        match node {
            Node::Null => {}
            Node::Boolean => drop(self.take(1)?),
            Node::Number => drop(self.number()?),
            Node::Float => drop(self.take(4)?),
            Node::Double => drop(self.take(8)?),
            Node::Bytes => drop(self.bytes()?),
            Node::Fixed(length) => drop(self.take(*length)?),
            Node::Union(_) => {
                if let Some(branch) = self.branch(node)? {
                    self.pass(branch)?;
                }
            }
            Node::Record(parts) => {
                for part in parts {
                    self.pass(&part.node)?;
                }
            }
            Node::Array(item) => self.pass_items(item, false)?,
            Node::Map(value) => self.pass_items(value, true)?,
        }
        Ok(())
    }

    fn pass_items(&mut self, item: &Node, has_keys: bool) -> Told<()> {
        loop {
            let (count, bytes) = self.run_of_items(item)?;
            if count == 0 {
                return Ok(());
            }
            if let Some(bytes) = bytes {
                self.take(bytes)?;
                continue;
            }
            for _ in 0..count {
                if has_keys {
                    self.bytes()?;
                }
                self.pass(item)?;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn values_are_passed_over_by_their_types() {
        let node = Node::from_json(&json!({ "type": "record", "name": "row", "fields": [
            { "name": "a", "type": "int", "field-id": 7 },
            { "name": "b", "type": ["null", "string"] },
            { "name": "c", "type": { "type": "array", "items": { "type": "record", "name": "pair", "fields": [
                { "name": "key", "type": "int" }, { "name": "value", "type": { "type": "fixed", "name": "f", "size": 2 } }] } } },
            { "name": "d", "type": { "type": "map", "values": "boolean" } },
            { "name": "e", "type": "f" },
            { "name": "g", "type": { "type": "int", "logicalType": "date" } },
        ] }))
        .unwrap();
        let row = [
            3, // -2
            2, 4, b'h', b'i', // the second branch, two bytes
            4, 2, 9, 9, 4, 8, 8, // two items
            1, 6, 6, 7, 7, // one more, with the bytes that it has
            0, // no more
            2, 2, b'k', 1, 0, // a map of one
            5, 5, 0xac, 0x02, // 150
        ];
        let mut cursor = Cursor::new(&row);
        assert_eq!(cursor.skip(&node).unwrap(), row);
        assert!(cursor.is_at_end());
        for cut in 0..row.len() {
            assert!(Cursor::new(&row[..cut]).skip(&node).is_err(), "{cut}");
        }
        let Node::Record(parts) = &node else { panic!() };
        assert_eq!(parts[0].id, Some(7));
        let mut cursor = Cursor::new(&row);
        assert_eq!(cursor.number(), Ok(-2));
        let text = cursor.branch(&parts[1].node).unwrap().unwrap();
        assert_eq!((text, cursor.bytes().unwrap()), (&Node::Bytes, &b"hi"[..]));
        let mut keys = Vec::new();
        let Node::Array(item) = &parts[2].node else { panic!() };
        let each = |cursor: &mut Cursor<'_>| {
            keys.push(cursor.number()?);
            cursor.skip(&Node::Fixed(2)).map(drop)
        };
        cursor.items(item, each).unwrap();
        assert_eq!(keys, [1, 2, 3]);
    }

    #[test]
    fn what_lies_is_refused() {
        let many = Node::Array(Box::new(Node::Null));
        let mut endless = vec![0xff; 9];
        endless.push(0);
        assert!(Cursor::new(&endless).skip(&many).is_err(), "more items than there can be");
        assert!(Cursor::new(&[0xff; 11]).number().is_err(), "a number without an end");
        assert!(Cursor::new(&[1]).bytes().is_err(), "fewer than no bytes");
        assert!(Cursor::new(&[9]).branch(&Node::Union(vec![Node::Null])).is_err());
        let own = json!({ "type": "record", "name": "r", "fields": [{ "name": "r", "type": ["null", "r"] }] });
        assert!(Node::from_json(&own).unwrap_err().contains("no type r"), "one that holds itself");
        let mut deep = json!("int");
        for _ in 0..100 {
            deep = json!({ "type": "array", "items": deep });
        }
        assert!(Node::from_json(&deep).unwrap_err().contains("too deeply"));
    }
}
