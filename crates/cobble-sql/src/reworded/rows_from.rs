//! `ROWS FROM (f(…), g(…))`: several functions side by side, as one that has their calls for arguments.

use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::is_word;

/// The function.
pub(crate) const NAME: &str = "\u{1}rows_from";

pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let begins = |at: usize| {
        is_word(&tokens[at], "rows")
            && tokens.get(at + 1).is_some_and(|t| is_word(t, "from"))
            && tokens.get(at + 2).is_some_and(|t| t.token == Token::LParen)
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
