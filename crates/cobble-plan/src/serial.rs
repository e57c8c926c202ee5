//! The serial form of plans, and of what connectors put into them: CBOR (RFC 8949) by way of serde. A plan as a whole stands behind a
//! mark and the number of its form.

use std::fmt;
use std::ops::Deref;

use cobble_types::deep::with_room;
use cobble_types::{Code, Error, Result};
use serde::de::{DeserializeOwned, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// What a serialised plan begins with.
const MARK: &[u8] = b"lane plan";
/// Raised when a plan of before cannot be read any more.
pub const FORM: u16 = 1;

/// Levels of nesting that are read: those of the deepest statement, times the levels that each takes here.
const DEEPEST: usize = 20_000;

/// Bytes that are written as one string.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Bytes(pub Vec<u8>);

impl Deref for Bytes {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Debug for Bytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} bytes", self.0.len())
    }
}

impl Serialize for Bytes {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_bytes(&self.0)
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Bytes, D::Error> {
        struct Read;
        impl Visitor<'_> for Read {
            type Value = Bytes;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string of bytes")
            }

            fn visit_bytes<E>(self, bytes: &[u8]) -> std::result::Result<Bytes, E> {
                Ok(Bytes(bytes.to_vec()))
            }

            fn visit_byte_buf<E>(self, bytes: Vec<u8>) -> std::result::Result<Bytes, E> {
                Ok(Bytes(bytes))
            }
        }
        deserializer.deserialize_byte_buf(Read)
    }
}

pub fn to_bytes(value: &impl Serialize) -> Result<Bytes> {
    let mut bytes = Vec::new();
    with_room(|| ciborium::into_writer(value, &mut bytes))
        .map_err(|e| Error::internal(format!("a plan cannot be written: {e}")))?;
    Ok(Bytes(bytes))
}

/// # Errors
/// When the bytes are of something else, or nested deeper than any plan.
pub fn from_bytes<T: DeserializeOwned>(bytes: &[u8]) -> Result<T> {
    with_room(|| ciborium::de::from_reader_with_recursion_limit(bytes, DEEPEST))
        .map_err(|e| Error::new(Code::InvalidValue, format!("a plan cannot be read: {e}")))
}

/// A value behind the mark of plans.
pub fn marked(value: &impl Serialize) -> Result<Vec<u8>> {
    let mut out = MARK.to_vec();
    out.extend(FORM.to_be_bytes());
    out.extend(to_bytes(value)?.iter());
    Ok(out)
}

/// # Errors
/// When the bytes are no plan, or one in another form.
pub fn unmarked<T: DeserializeOwned>(bytes: &[u8]) -> Result<T> {
    let rest = bytes.strip_prefix(MARK).and_then(|rest| rest.split_first_chunk::<2>());
    let Some((form, rest)) = rest else {
        return Err(Error::new(Code::InvalidValue, "the file is not a saved plan").hint("cobble plan --out writes one"));
    };
    let form = u16::from_be_bytes(*form);
    if form != FORM {
        return Err(Error::new(
            Code::Unsupported,
            format!("the plan is in form {form}, and form {FORM} is understood"),
        )
        .hint("plan the statement again with this version"));
    }
    from_bytes(rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_plan_is_refused() {
        let plan = marked(&vec![1, 2, 3]).unwrap();
        assert_eq!(unmarked::<Vec<i32>>(&plan).unwrap(), [1, 2, 3]);
        for (bytes, what) in [
            (b"SELECT 1".to_vec(), "not a saved plan"),
            (MARK.to_vec(), "not a saved plan"),
            ([MARK, &[0, 99]].concat(), "form 99"),
            (plan[..plan.len() - 1].to_vec(), "cannot be read"),
            // Nested without end.
            ([MARK, &FORM.to_be_bytes(), &[0x81; 200_000]].concat(), "cannot be read"),
        ] {
            let error = unmarked::<Vec<i32>>(&bytes).unwrap_err();
            assert!(error.message.contains(what), "{}", error.message);
        }
    }

    #[test]
    fn functions_go_by_their_names() {
        for function in crate::Function::ALL {
            let read: crate::Function = from_bytes(&to_bytes(function).unwrap()).unwrap();
            assert_eq!(read, *function);
        }
        for function in crate::AggregateFunction::ALL {
            let read: crate::AggregateFunction = from_bytes(&to_bytes(function).unwrap()).unwrap();
            assert_eq!(read, *function);
        }
    }
}
