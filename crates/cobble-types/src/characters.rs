//! Parts of texts, as SQL's functions cut and fill them. Positions and lengths count characters, as in PostgreSQL. They stand here
//! because sources that run in our own process compute with them too.

use crate::{Code, Error, Result};

/// The byte range of characters `start..start + count`, counted from one; a start before the text shortens the count.
pub fn substring(text: &str, start: i32, count: Option<i32>) -> Result<&str> {
    let first = i64::from(start) - 1;
    let end = match count {
        Some(n) if n < 0 => {
            return Err(Error::new(Code::SubstringLength, "substring cannot have a negative length"));
        }
        Some(n) => Some(first + i64::from(n)),
        None => None,
    };
    let (first, end) = (first.max(0) as usize, end.map(|e| e.max(0) as usize));
    let byte = |characters: usize| text.char_indices().nth(characters).map_or(text.len(), |(i, _)| i);
    let from = byte(first);
    let to = end.map_or(text.len(), byte);
    Ok(if to > from { &text[from..to] } else { "" })
}

/// The first `n` characters, or with a negative count all but the last `-n`.
pub fn left(text: &str, n: i32) -> &str {
    let wanted = wanted_characters(text, n);
    text.char_indices().nth(wanted).map_or(text, |(i, _)| &text[..i])
}

pub fn right(text: &str, n: i32) -> &str {
    let skip = text.chars().count() - wanted_characters(text, n);
    text.char_indices().nth(skip).map_or("", |(i, _)| &text[i..])
}

fn wanted_characters(text: &str, n: i32) -> usize {
    let length = text.chars().count();
    if n >= 0 { length.min(n as usize) } else { length.saturating_sub(n.unsigned_abs() as usize) }
}

/// `split_part`: the n-th field counted from one, or from the end when negative; empty when there is none.
pub fn split_part<'a>(text: &'a str, separator: &str, n: i32) -> Result<&'a str> {
    if n == 0 {
        return Err(Error::new(Code::InvalidValue, "split_part counts fields from one, or from minus one at the end"));
    }
    if separator.is_empty() {
        return Ok(if n == 1 || n == -1 { text } else { "" });
    }
    let index = n.unsigned_abs() as usize - 1;
    Ok(if n > 0 { text.split(separator).nth(index) } else { text.rsplit(separator).nth(index) }.unwrap_or(""))
}

/// Fills up to `length` characters, or cuts to it.
pub fn pad(text: &str, length: i32, fill: &str, at_start: bool) -> String {
    let wanted = length.max(0) as usize;
    let own = text.chars().count();
    if own >= wanted {
        return text.chars().take(wanted).collect();
    }
    let padding: String = fill.chars().cycle().take(if fill.is_empty() { 0 } else { wanted - own }).collect();
    if at_start { padding + text } else { text.to_owned() + padding.as_str() }
}

/// Each word with a capital, the rest small; words are runs of letters and digits.
pub fn initcap(text: &str) -> String {
    let mut inside = false;
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if inside {
            out.extend(c.to_lowercase());
        } else {
            out.extend(c.to_uppercase());
        }
        inside = c.is_alphanumeric();
    }
    out
}

/// The pattern with the backslash in the place of this escape character; an empty one switches escaping off.
///
/// # Errors
/// When the escape is more than one character.
pub fn with_escape(pattern: &str, escape: &str) -> Result<String> {
    let mut characters = escape.chars();
    let escape = match (characters.next(), characters.next()) {
        (one, None) => one,
        _ => return Err(Error::new(Code::EscapeSequence, "ESCAPE takes one character or none")),
    };
    let mut out = String::with_capacity(pattern.len());
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        if Some(c) == escape {
            out.push('\\');
            out.extend(characters.next());
        } else if c == '\\' {
            out.push_str("\\\\");
        } else {
            out.push(c);
        }
    }
    Ok(out)
}

/// The text with each `cXXXX` and `c+XXXXXX` as the character of that number, and `cc` as the sign itself (SQL:2016 part 2, 5.3); with
/// `named` also `cuXXXX` and `cUXXXXXXXX`, as in unistr() (PostgreSQL manual 9.4). `None` where an escape is none of these.
pub fn unescaped(text: &str, sign: char, named: bool) -> Option<String> {
    let (mut out, mut rest) = (String::new(), text);
    let mut units: Vec<u16> = Vec::new();
    while let Some(at) = rest.find(sign) {
        let (before, after) = (&rest[..at], &rest[at + sign.len_utf8()..]);
        if !before.is_empty() && !units.is_empty() {
            return None;
        }
        out.push_str(before);
        if let Some(more) = after.strip_prefix(sign) {
            out.push(sign);
            rest = more;
            continue;
        }
        let (digits, length) = match after.chars().next() {
            Some('+') => (&after[1..], 6),
            Some('u') if named => (&after[1..], 4),
            Some('U') if named => (&after[1..], 8),
            _ => (after, 4),
        };
        let number = u32::from_str_radix(digits.get(..length)?, 16).ok()?;
        rest = &digits[length..];
        // Characters beyond the first plane may be written as two halves.
        match u16::try_from(number).ok().filter(|unit| (0xd800..0xe000).contains(unit)) {
            Some(unit) => units.push(unit),
            None => out.push(char::from_u32(number).filter(|c| *c != '\0' && units.is_empty())?),
        }
        if let [high, low] = units[..] {
            out.push(char::decode_utf16([high, low]).next()?.ok()?);
            units.clear();
        }
    }
    out.push_str(rest);
    units.is_empty().then_some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_of_text_count_characters() {
        for (start, count, expected) in [
            (1, Some(3), "Île"),
            (0, Some(3), "Îl"),
            (-2, Some(4), "Î"),
            (5, None, "Verte"),
            (20, None, ""),
            (2, Some(0), ""),
        ] {
            assert_eq!(substring("Île Verte", start, count).unwrap(), expected);
        }
        assert!(substring("Île", 1, Some(-1)).is_err());
        assert_eq!((left("Île", 1), left("Île", -1), right("Île", 2), right("Île", -1)), ("Î", "Îl", "le", "le"));
        assert_eq!(split_part("a,b,c", ",", 2).unwrap(), "b");
        assert_eq!(split_part("a,b,c", ",", -1).unwrap(), "c");
        assert_eq!(split_part("a,b,c", ",", 9).unwrap(), "");
        assert_eq!(
            (pad("7", 3, "0", true), pad("harbour", 3, " ", true), pad("a", 4, "xy", false)),
            ("007".into(), "har".into(), "axyx".into())
        );
        assert_eq!(initcap("north QUAY-side"), "North Quay-Side");
    }

    #[test]
    fn characters_by_their_numbers() {
        for (text, wanted) in [
            ("d!0061t!+000061", Some("data")),
            ("a!!b", Some("a!b")),
            ("!D83D!DE00", Some("\u{1f600}")),
            ("!D83D", None),
            ("!D83Dx!DE00", None),
            ("!00", None),
            ("!zzzz", None),
            ("plain", Some("plain")),
        ] {
            assert_eq!(unescaped(text, '!', false).as_deref(), wanted, "{text}");
        }
    }
}
