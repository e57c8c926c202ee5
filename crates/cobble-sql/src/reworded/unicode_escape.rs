//! `U&'…' UESCAPE 'c'` (SQL:2016 part 2, 5.3): the text with its characters written by another sign than the backslash.

use cobble_types::characters::unescaped;
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
        let text = unescaped(&text, sign, false)
            .ok_or_else(|| wrong("an escape of the text before is not XXXX or +XXXXXX"))?;
        if let Some(last) = out.last_mut() {
            last.token = Token::SingleQuotedString(text);
        }
        at += 2;
    }
    Ok(out)
}
