//! Byte strings: their functions, and their forms as text (PostgreSQL manual 9.5).

use arrow::array::ArrayRef;
use arrow::datatypes::Int64Type;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cobble_types::{Code, Error, Result};
use sha2::Digest;

use crate::Call;
use crate::signature::{Overload, Returns, Scalar, Takes};

/// Base64 stands in lines of so many characters (RFC 2045).
const LINE: usize = 76;

/// A digest of each byte string.
fn digest<D: Digest>(call: &Call) -> Result<ArrayRef> {
    let first = call.bytes(0);
    call.make_bytes(|row| Ok(first.get(row).map(|bytes| D::digest(bytes).to_vec())))
}

pub(crate) const SHA224: Scalar = Scalar::new(
    "sha224",
    "bytea",
    "The SHA-224 digest (FIPS 180-4).",
    ("octet_length(sha224('quay'))", "28"),
    &[Overload::of(&[Takes::Bytes], Returns::Bytes, digest::<sha2::Sha224>)],
);

pub(crate) const SHA256: Scalar = Scalar::new(
    "sha256",
    "bytea",
    "The SHA-256 digest (FIPS 180-4).",
    ("octet_length(sha256('quay'))", "32"),
    &[Overload::of(&[Takes::Bytes], Returns::Bytes, digest::<sha2::Sha256>)],
);

pub(crate) const SHA384: Scalar = Scalar::new(
    "sha384",
    "bytea",
    "The SHA-384 digest (FIPS 180-4).",
    ("octet_length(sha384('quay'))", "48"),
    &[Overload::of(&[Takes::Bytes], Returns::Bytes, digest::<sha2::Sha384>)],
);

pub(crate) const SHA512: Scalar = Scalar::new(
    "sha512",
    "bytea",
    "The SHA-512 digest (FIPS 180-4).",
    ("octet_length(sha512('quay'))", "64"),
    &[Overload::of(&[Takes::Bytes], Returns::Bytes, digest::<sha2::Sha512>)],
);

pub(crate) const ENCODE: Scalar = Scalar::new(
    "encode",
    "bytea, form",
    "The bytes as text in the form hex, base64 or escape.",
    ("encode('quay', 'base64')", "cXVheQ=="),
    &[Overload::of(&[Takes::Bytes, Takes::Text], Returns::Text, |call| {
        let (bytes, form) = (call.bytes(0), call.texts(1));
        call.make_strings(|row| bytes.get(row).zip(form.get(row)).map(|(b, form)| encode(b, form)).transpose())
    })],
);

pub(crate) const DECODE: Scalar = Scalar::new(
    "decode",
    "text, form",
    "The bytes that a text stands for in the form hex, base64 or escape.",
    ("decode('71756179', 'hex')", "\\x71756179"),
    &[Overload::of(&[Takes::Text; 2], Returns::Bytes, |call| {
        let (text, form) = (call.texts(0), call.texts(1));
        call.make_bytes(|row| text.get(row).zip(form.get(row)).map(|(text, form)| decode(text, form)).transpose())
    })],
);

pub(crate) const CONVERT_TO: Scalar = Scalar::new(
    "convert_to",
    "text, encoding",
    "The bytes of a text in an encoding, UTF8 or LATIN1.",
    ("convert_to('ö', 'LATIN1')", "\\xf6"),
    &[Overload::of(&[Takes::Text; 2], Returns::Bytes, |call| {
        let (text, encoding) = (call.texts(0), call.texts(1));
        call.make_bytes(|row| text.get(row).zip(encoding.get(row)).map(|(t, e)| convert_to(t, e)).transpose())
    })],
);

pub(crate) const CONVERT_FROM: Scalar = Scalar::new(
    "convert_from",
    "bytea, encoding",
    "The text that bytes are in an encoding, UTF8 or LATIN1.",
    ("convert_from('\\xf6', 'LATIN1')", "ö"),
    &[Overload::of(&[Takes::Bytes, Takes::Text], Returns::Text, |call| {
        let (bytes, encoding) = (call.bytes(0), call.texts(1));
        call.make_strings(|row| bytes.get(row).zip(encoding.get(row)).map(|(b, e)| convert_from(b, e)).transpose())
    })],
);

pub(crate) const BYTE_CONCAT: Scalar = Scalar::new(
    "byte_concat",
    "bytea, bytea",
    "Two byte strings joined; the operator `||` between them.",
    ("'\\x01'::bytea || '\\x02'::bytea", "\\x0102"),
    &[Overload::of(&[Takes::Bytes; 2], Returns::Bytes, |call| {
        let (left, right) = (call.bytes(0), call.bytes(1));
        call.make_bytes(|row| Ok(left.get(row).zip(right.get(row)).map(|(a, b)| [a, b].concat())))
    })],
);

/// A place counted from zero that lies within so many bytes.
fn within(n: i32, length: usize) -> Result<usize> {
    usize::try_from(n).ok().filter(|n| *n < length).ok_or_else(|| {
        Error::new(Code::ArraySubscript, format!("the place {n} is not among 0 to {}", length as i64 - 1))
    })
}

pub(crate) const GET_BYTE: Scalar = Scalar::new(
    "get_byte",
    "bytea, place",
    "The byte at a place, counted from zero.",
    ("get_byte('\\x0102', 1)", "2"),
    &[Overload::of(&[Takes::Bytes, Takes::Integer], Returns::Integer, |call| {
        let (bytes, place) = (call.bytes(0), call.integers(1));
        call.make_integers(|row| {
            let Some((b, n)) = bytes.get(row).zip(place.get(row)) else { return Ok(None) };
            Ok(Some(b[within(n, b.len())?].into()))
        })
    })],
);

pub(crate) const SET_BYTE: Scalar = Scalar::new(
    "set_byte",
    "bytea, place, byte",
    "The bytes with another one at a place, counted from zero.",
    ("set_byte('\\x0102', 1, 16)", "\\x0110"),
    &[Overload::of(&[Takes::Bytes, Takes::Integer, Takes::Integer], Returns::Bytes, |call| {
        let (bytes, place, new) = (call.bytes(0), call.integers(1), call.integers(2));
        call.make_bytes(|row| {
            let Some(((b, n), new)) = bytes.get(row).zip(place.get(row)).zip(new.get(row)) else { return Ok(None) };
            let mut out = b.to_vec();
            let place = within(n, out.len())?;
            out[place] = (new & 0xff) as u8;
            Ok(Some(out))
        })
    })],
);

pub(crate) const BIT_COUNT: Scalar = Scalar::new(
    "bit_count",
    "bytea",
    "The number of bits that are set.",
    ("bit_count('\\x0f01')", "5"),
    &[Overload::of(&[Takes::Bytes], Returns::BigInt, |call| {
        let bytes = call.bytes(0);
        let count = |b: &[u8]| b.iter().map(|byte| i64::from(byte.count_ones())).sum();
        call.make_values::<Int64Type>(|row| Ok(bytes.get(row).map(count)))
    })],
);

// Kernels of functions of texts that take byte strings too.

pub(super) fn length(call: &Call) -> Result<ArrayRef> {
    let bytes = call.bytes(0);
    call.make_integers(|row| Ok(bytes.get(row).map(|b| b.len() as i32)))
}

pub(super) fn bit_length(call: &Call) -> Result<ArrayRef> {
    let bytes = call.bytes(0);
    call.make_integers(|row| Ok(bytes.get(row).map(|b| b.len() as i32 * 8)))
}

pub(super) fn md5(bytes: &[u8]) -> String {
    use md5::Digest;
    md5::Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

pub(super) fn substring(call: &Call) -> Result<ArrayRef> {
    let (bytes, start, count) = (call.bytes(0), call.integers(1), call.has(2).then(|| call.integers(2)));
    call.make_bytes(|row| {
        let Some((b, start)) = bytes.get(row).zip(start.get(row)) else { return Ok(None) };
        let count = match &count {
            Some(count) => match count.get(row) {
                Some(count) => Some(count),
                None => return Ok(None),
            },
            None => None,
        };
        Ok(Some(part(b, start, count)?.to_vec()))
    })
}

/// Without the given bytes at the start, at the end, or at both.
pub(super) fn trimmed(call: &Call, at_start: bool, at_end: bool) -> Result<ArrayRef> {
    let (bytes, set) = (call.bytes(0), call.bytes(1));
    call.make_bytes(|row| {
        Ok(bytes.get(row).zip(set.get(row)).map(|(b, set)| {
            let (mut start, mut end) = (0, b.len());
            while at_start && start < end && set.contains(&b[start]) {
                start += 1;
            }
            while at_end && end > start && set.contains(&b[end - 1]) {
                end -= 1;
            }
            b[start..end].to_vec()
        }))
    })
}

pub(super) fn position(call: &Call) -> Result<ArrayRef> {
    let (bytes, wanted) = (call.bytes(0), call.bytes(1));
    call.make_integers(|row| {
        let Some((b, wanted)) = bytes.get(row).zip(wanted.get(row)) else { return Ok(None) };
        let found = if wanted.is_empty() { Some(0) } else { b.windows(wanted.len()).position(|w| w == wanted) };
        Ok(Some(found.map_or(0, |at| at as i32 + 1)))
    })
}

pub(super) fn overlay(call: &Call) -> Result<ArrayRef> {
    let (bytes, new, start) = (call.bytes(0), call.bytes(1), call.integers(2));
    let count = call.has(3).then(|| call.integers(3));
    call.make_bytes(|row| {
        let Some(((b, new), start)) = bytes.get(row).zip(new.get(row)).zip(start.get(row)) else { return Ok(None) };
        let count = match &count {
            Some(count) => match count.get(row) {
                Some(count) => count,
                None => return Ok(None),
            },
            None => new.len() as i32,
        };
        if start <= 0 {
            return Err(Error::new(Code::SubstringLength, "overlay begins at a place above zero"));
        }
        let after = part(b, start.saturating_add(count), None)?;
        Ok(Some([part(b, 1, Some(start - 1))?, new, after].concat()))
    })
}

/// The bytes `start..start + count`, counted from one.
fn part(bytes: &[u8], start: i32, count: Option<i32>) -> Result<&[u8]> {
    let first = i64::from(start) - 1;
    let end = match count {
        Some(n) if n < 0 => return Err(Error::new(Code::SubstringLength, "substring cannot have a negative length")),
        Some(n) => first + i64::from(n),
        None => bytes.len() as i64,
    };
    let within = |at: i64| at.clamp(0, bytes.len() as i64) as usize;
    Ok(&bytes[within(first)..within(end).max(within(first))])
}

fn encode(bytes: &[u8], form: &str) -> Result<String> {
    Ok(match form.to_lowercase().as_str() {
        "hex" => bytes.iter().map(|byte| format!("{byte:02x}")).collect(),
        "base64" => {
            let text = STANDARD.encode(bytes);
            let lines: Vec<&str> =
                (0..text.len()).step_by(LINE).map(|at| &text[at..text.len().min(at + LINE)]).collect();
            lines.join("\n")
        }
        "escape" => {
            let mut out = Vec::with_capacity(bytes.len());
            for byte in bytes {
                match byte {
                    0 | 0x80.. => out.extend(format!("\\{byte:03o}").bytes()),
                    b'\\' => out.extend(b"\\\\"),
                    plain => out.push(*plain),
                }
            }
            String::from_utf8_lossy(&out).into_owned()
        }
        other => return Err(unknown_form(other)),
    })
}

fn decode(text: &str, form: &str) -> Result<Vec<u8>> {
    let bad = |what: &str| Error::new(Code::InvalidValue, format!("the text is not a {what}"));
    match form.to_lowercase().as_str() {
        "hex" => {
            let digits: String = text.chars().filter(|c| !c.is_ascii_whitespace()).collect();
            if !digits.len().is_multiple_of(2) || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
                return Err(bad("pairs of hexadecimal digits"));
            }
            let pair = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).map_err(|_| bad("hexadecimal digits"));
            (0..digits.len()).step_by(2).map(pair).collect()
        }
        "base64" => {
            let plain: String = text.chars().filter(|c| !c.is_ascii_whitespace()).collect();
            STANDARD.decode(plain).map_err(|_| bad("base64"))
        }
        "escape" => cobble_types::parse::parse_escaped(text)
            .ok_or_else(|| Error::new(Code::InvalidText, "the text is not a byte string in the escape form")),
        other => Err(unknown_form(other)),
    }
}

/// Encodings that texts are brought into and out of.
enum Encoding {
    Utf8,
    Latin1,
}

impl Encoding {
    fn named(name: &str) -> Result<Encoding> {
        match name.to_uppercase().replace(['-', '_'], "").as_str() {
            "UTF8" | "UNICODE" => Ok(Encoding::Utf8),
            "LATIN1" | "ISO88591" => Ok(Encoding::Latin1),
            _ => Err(Error::new(Code::InvalidValue, format!("\"{name}\" is not a known encoding"))
                .hint("there are UTF8 and LATIN1")),
        }
    }
}

fn convert_to(text: &str, encoding: &str) -> Result<Vec<u8>> {
    match Encoding::named(encoding)? {
        Encoding::Utf8 => Ok(text.as_bytes().to_vec()),
        Encoding::Latin1 => text
            .chars()
            .map(|c| {
                u8::try_from(u32::from(c)).map_err(|_| Error::new(Code::InvalidText, format!("{c} is not in LATIN1")))
            })
            .collect(),
    }
}

fn convert_from(bytes: &[u8], encoding: &str) -> Result<String> {
    match Encoding::named(encoding)? {
        Encoding::Utf8 => String::from_utf8(bytes.to_vec())
            .ok()
            .filter(|text| !text.contains('\0'))
            .ok_or_else(|| Error::new(Code::InvalidText, "the bytes are not UTF-8 text")),
        Encoding::Latin1 => Ok(bytes.iter().map(|b| char::from(*b)).collect()),
    }
}

fn unknown_form(form: &str) -> Error {
    let error = Error::new(Code::InvalidValue, format!("\"{form}\" is not a form of byte strings"));
    error.hint("there are hex, base64 and escape")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn byte_strings_have_three_forms() {
        let bytes = [0, b'a', b'\\', 0xff];
        for (form, text) in [("hex", "00615cff"), ("base64", "AGFc/w=="), ("escape", "\\000a\\\\\\377")] {
            assert_eq!(encode(&bytes, form).unwrap(), text);
            assert_eq!(decode(text, form).unwrap(), bytes);
        }
        assert!(encode(&bytes, "octal").is_err() && decode("6", "hex").is_err() && decode("?", "base64").is_err());
        assert_eq!(encode(&[7; 60], "base64").unwrap().lines().map(str::len).collect::<Vec<_>>(), [76, 4]);
    }
}
