//! `U&'…' UESCAPE 'c'` (SQL:2016 part 2, 5.3): the text with its characters written by another sign than the backslash.

use cobble_types::{Code, Error, Position, Result};
use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::is_word;

pub(super) fn decoded(tokens: Vec<TokenWithSpan>) -> Result<Vec<TokenWithSpan>> {
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        let token = &tokens[at];
        let text = out.last().and_then(|before| match &before.token {
            Token::UnicodeStringLiteral(text) => Some(text.clone()),
            _ => None,
        });
        let (Some(text), true) = (text, is_word(token, "uescape")) else {
            out.push(token.clone());
            at += 1;
            continue;
        };
        let start = token.span.start;
        let wrong = |what: &str| {
            let position = Position { line: start.line, column: start.column };
            Error::new(Code::Syntax, what.to_owned()).at(Some(position))
        };
        let sign = match tokens.get(at + 1).map(|t| &t.token) {
            Some(Token::SingleQuotedString(sign)) => sign.chars().next().filter(|_| sign.chars().count() == 1),
            _ => None,
        };
        let is_sign = |c: &char| !c.is_ascii_hexdigit() && !c.is_whitespace() && !matches!(c, '+' | '\'' | '"');
        let Some(sign) = sign.filter(is_sign) else {
            return Err(wrong("UESCAPE takes one character that is no digit, quote, plus sign or blank"));
        };
        let text =
            unescaped(&text, sign).ok_or_else(|| wrong("an escape of the text before is not XXXX or +XXXXXX"))?;
        if let Some(last) = out.last_mut() {
            last.token = Token::SingleQuotedString(text);
        }
        at += 2;
    }
    Ok(out)
}

/// The text with each `cXXXX` and `c+XXXXXX` as the character of that number, and `cc` as the sign itself.
fn unescaped(text: &str, sign: char) -> Option<String> {
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
        let (digits, length) = match after.strip_prefix('+') {
            Some(digits) => (digits, 6),
            None => (after, 4),
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
    use super::unescaped;

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
            assert_eq!(unescaped(text, '!').as_deref(), wanted, "{text}");
        }
    }
}
