//! `FOR VERSION AS OF 12` and `FOR VERSION AS OF 'name'`, as a moment that is a call. The parser takes AT, BEFORE and CHANGES behind a table
//! for clauses of other languages: here they are names.

use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::is_word;

/// The function.
pub(crate) const NAME: &str = "\u{1}version";

pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let is = |at: usize, word: &str| tokens.get(at).is_some_and(|token| is_word(token, word));
    let begins = |at: usize| is(at, "for") && is(at + 1, "version") && is(at + 2, "as") && is(at + 3, "of");
    // AT TIME ZONE and AT LOCAL are no names.
    let is_name = |at: usize| match &tokens[at].token {
        Token::Word(word) if word.quote_style.is_none() => {
            (is(at, "at") && !is(at + 1, "time") && !is(at + 1, "local")) || is(at, "before") || is(at, "changes")
        }
        _ => false,
    };
    let mut out = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        let put = |token: Token, at: usize| TokenWithSpan { token, span: tokens[at].span };
        if begins(at)
            && let Some(value) = tokens.get(at + 4)
        {
            let system_time = Token::make_word("SYSTEM_TIME", None);
            out.extend([tokens[at].clone(), put(system_time, at + 1), tokens[at + 2].clone(), tokens[at + 3].clone()]);
            out.extend([put(super::name(NAME), at + 4), put(Token::LParen, at + 4), value.clone()]);
            out.push(put(Token::RParen, at + 4));
            at += 5;
        } else {
            match &tokens[at].token {
                Token::Word(word) if is_name(at) => out.push(put(super::name(word.value.to_lowercase()), at)),
                _ => out.push(tokens[at].clone()),
            }
            at += 1;
        }
    }
    out
}
