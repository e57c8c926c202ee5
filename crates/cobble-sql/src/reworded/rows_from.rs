//! `ROWS FROM (f(…), g(…))`: several functions side by side, as one that has their calls for arguments.

use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::slips::lacks_from;
use crate::statement::is_word;

/// The function.
pub(crate) const NAME: &str = "\u{1}rows_from";

pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    // ROWS is also a name, such as that of a column before FROM.
    let stands_in_from = |at: usize| match at.checked_sub(1).and_then(|before| tokens.get(before)) {
        Some(before) if before.token == Token::Comma => !lacks_from(&tokens[..at]),
        Some(before) => ["from", "join", "lateral"].iter().any(|word| is_word(before, word)),
        None => false,
    };
    let begins = |at: usize| {
        is_word(&tokens[at], "rows")
            && tokens.get(at + 1).is_some_and(|t| is_word(t, "from"))
            && tokens.get(at + 2).is_some_and(|t| t.token == Token::LParen)
            && stands_in_from(at)
    };
    let mut out = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        if begins(at) {
            out.push(TokenWithSpan { token: super::name(NAME), span: tokens[at].span });
            at += 2;
        } else {
            out.push(tokens[at].clone());
            at += 1;
        }
    }
    out
}
