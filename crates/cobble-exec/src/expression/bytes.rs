//! Byte strings: their functions, and their forms as text (PostgreSQL manual 9.5).

use std::borrow::Cow;
use std::sync::Arc;

use arrow::array::*;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result};

use super::Evaluated;
use super::text::{Integers, Texts, build};

/// Base64 stands in lines of so many characters (RFC 2045).
const LINE: usize = 76;

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
    let bad = |what: &str| Error::new(Code::InvalidValue, format!("the text is no {what}"));
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
            .ok_or_else(|| Error::new(Code::InvalidText, "the text is no byte string in the escape form")),
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
            .ok_or_else(|| Error::new(Code::InvalidText, "the bytes are no text in UTF8")),
        Encoding::Latin1 => Ok(bytes.iter().map(|b| char::from(*b)).collect()),
    }
}

fn unknown_form(form: &str) -> Error {
    let error = Error::new(Code::InvalidValue, format!("\"{form}\" is not a form of byte strings"));
    error.hint("there are hex, base64 and escape")
}

/// Byte arguments by row, constants included.
struct Bytes<'a> {
    array: &'a BinaryViewArray,
    value: &'a Evaluated,
}

impl<'a> Bytes<'a> {
    fn of(value: &'a Evaluated) -> Self {
        Bytes { array: value.array().as_binary_view(), value }
    }

    fn get(&self, row: usize) -> Option<&'a [u8]> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

fn built(rows: usize, f: impl Fn(usize) -> Result<Option<Vec<u8>>>) -> Result<ArrayRef> {
    let mut out = BinaryViewBuilder::with_capacity(rows);
    for row in 0..rows {
        out.append_option(f(row)?);
    }
    Ok(Arc::new(out.finish()))
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

fn trimmed<'a>(bytes: &'a [u8], set: &[u8], function: Function) -> &'a [u8] {
    let (mut start, mut end) = (0, bytes.len());
    if function != Function::TrimEnd {
        while start < end && set.contains(&bytes[start]) {
            start += 1;
        }
    }
    if function != Function::TrimStart {
        while end > start && set.contains(&bytes[end - 1]) {
            end -= 1;
        }
    }
    &bytes[start..end]
}

/// Functions of byte strings, and those of texts that take byte strings too.
/// Whether a function of texts is another one of byte strings.
pub(super) fn takes(function: Function) -> bool {
    use Function::*;
    matches!(
        function,
        Length | OctetLength | BitLength | Md5 | Substring | Trim | TrimStart | TrimEnd | Position | Overlay
    )
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize) -> Result<ArrayRef> {
    use Function as F;
    let bytes = |i: usize| Bytes::of(arguments[i]);
    let integer = |i: usize, row: usize| Integers::of(arguments[i]).get(row);
    let numbers = |f: &dyn Fn(&[u8]) -> i32| -> ArrayRef {
        Arc::new((0..rows).map(|row| bytes(0).get(row).map(f)).collect::<Int32Array>())
    };
    let texts = |f: &dyn Fn(usize) -> Result<Option<String>>| -> Result<ArrayRef> {
        let mut out = StringViewBuilder::with_capacity(rows);
        for row in 0..rows {
            out.append_option(f(row)?);
        }
        Ok(Arc::new(out.finish()))
    };
    let within = |n: i32, length: usize| {
        usize::try_from(n).ok().filter(|n| *n < length).ok_or_else(|| {
            Error::new(Code::ArraySubscript, format!("the place {n} is not among 0 to {}", length as i64 - 1))
        })
    };
    match function {
        F::Length | F::OctetLength => Ok(numbers(&|b| b.len() as i32)),
        F::BitLength => Ok(numbers(&|b| b.len() as i32 * 8)),
        F::BitCount => {
            let count = |row: usize| bytes(0).get(row).map(|b| b.iter().map(|byte| i64::from(byte.count_ones())).sum());
            Ok(Arc::new((0..rows).map(count).collect::<Int64Array>()))
        }
        F::Md5 => texts(&|row| {
            use md5::Digest;
            let digest = |b: &[u8]| md5::Md5::digest(b).iter().map(|byte| format!("{byte:02x}")).collect();
            Ok(bytes(0).get(row).map(digest))
        }),
        F::Sha224 | F::Sha256 | F::Sha384 | F::Sha512 => built(rows, |row| {
            use sha2::Digest;
            Ok(bytes(0).get(row).map(|b| match function {
                F::Sha224 => sha2::Sha224::digest(b).to_vec(),
                F::Sha256 => sha2::Sha256::digest(b).to_vec(),
                F::Sha384 => sha2::Sha384::digest(b).to_vec(),
                _ => sha2::Sha512::digest(b).to_vec(),
            }))
        }),
        F::Encode => texts(&|row| {
            let Some((b, form)) = bytes(0).get(row).zip(Texts::of(arguments[1]).get(row)) else { return Ok(None) };
            encode(b, form).map(Some)
        }),
        F::Decode => built(rows, |row| {
            let Some((text, form)) = Texts::of(arguments[0]).get(row).zip(Texts::of(arguments[1]).get(row)) else {
                return Ok(None);
            };
            decode(text, form).map(Some)
        }),
        F::ConvertTo => built(rows, |row| {
            let Some((text, encoding)) = Texts::of(arguments[0]).get(row).zip(Texts::of(arguments[1]).get(row)) else {
                return Ok(None);
            };
            convert_to(text, encoding).map(Some)
        }),
        F::ConvertFrom => build(rows, |row| {
            let Some((bytes, encoding)) = bytes(0).get(row).zip(Texts::of(arguments[1]).get(row)) else {
                return Ok(None);
            };
            convert_from(bytes, encoding).map(|text| Some(Cow::Owned(text)))
        }),
        F::ByteConcat => built(rows, |row| Ok(bytes(0).get(row).zip(bytes(1).get(row)).map(|(a, b)| [a, b].concat()))),
        F::Substring => built(rows, |row| {
            let Some((b, start)) = bytes(0).get(row).zip(integer(1, row)) else { return Ok(None) };
            let count = match arguments.get(2) {
                Some(_) => match integer(2, row) {
                    Some(count) => Some(count),
                    None => return Ok(None),
                },
                None => None,
            };
            Ok(Some(part(b, start, count)?.to_vec()))
        }),
        F::Trim | F::TrimStart | F::TrimEnd => built(rows, |row| {
            Ok(bytes(0).get(row).zip(bytes(1).get(row)).map(|(b, set)| trimmed(b, set, function).to_vec()))
        }),
        F::Position => {
            let place = |row: usize| {
                let (b, wanted) = (bytes(0).get(row)?, bytes(1).get(row)?);
                let found = if wanted.is_empty() { Some(0) } else { b.windows(wanted.len()).position(|w| w == wanted) };
                Some(found.map_or(0, |at| at as i32 + 1))
            };
            Ok(Arc::new((0..rows).map(place).collect::<Int32Array>()))
        }
        F::Overlay => built(rows, |row| {
            let Some(((b, new), start)) = bytes(0).get(row).zip(bytes(1).get(row)).zip(integer(2, row)) else {
                return Ok(None);
            };
            let count = match arguments.get(3) {
                Some(_) => match integer(3, row) {
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
        }),
        F::GetByte => {
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                match bytes(0).get(row).zip(integer(1, row)) {
                    Some((b, n)) => out.append_value(b[within(n, b.len())?].into()),
                    None => out.append_null(),
                }
            }
            Ok(Arc::new(out.finish()))
        }
        F::SetByte => built(rows, |row| {
            let Some(((b, n), new)) = bytes(0).get(row).zip(integer(1, row)).zip(integer(2, row)) else {
                return Ok(None);
            };
            let mut out = b.to_vec();
            let place = within(n, out.len())?;
            out[place] = (new & 0xff) as u8;
            Ok(Some(out))
        }),
        other => Err(Error::internal(format!("{} is no function of byte strings", other.name()))),
    }
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
