//! `TABLE name` for `SELECT * FROM name` (SQL:2016 part 2, 7.17, explicit table): the parser knows only short names there.

use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

use crate::statement::is_word;

/// A query may begin after these.
fn begins_query(before: Option<&TokenWithSpan>) -> bool {
    let Some(before) = before else { return true };
    let words = ["union", "intersect", "except", "all", "distinct"];
    before.token == Token::LParen || words.iter().any(|word| is_word(before, word))
}

/// The tokens with every explicit table written as a SELECT.
pub(super) fn spelled_out(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    // After WITH … AS (…) the body begins behind a parenthesis.
    let starts = |at: usize| {
        is_word(&tokens[at], "table")
            && matches!(tokens.get(at + 1).map(|t| &t.token), Some(Token::Word(_)))
            && (begins_query(at.checked_sub(1).and_then(|before| tokens.get(before)))
                || (tokens[at - 1].token == Token::RParen && is_word(&tokens[0], "with")))
    };
    if !(0..tokens.len()).any(starts) {
        return tokens;
    }
    let mut out = Vec::with_capacity(tokens.len() + 2);
    for (at, token) in tokens.iter().enumerate() {
        if !starts(at) {
            out.push(token.clone());
            continue;
        }
        let word = |value: &str, keyword| Token::Word(Word { value: value.to_owned(), quote_style: None, keyword });
        for new in [word("SELECT", Keyword::SELECT), Token::Mul, word("FROM", Keyword::FROM)] {
            out.push(TokenWithSpan { token: new, span: token.span });
        }
    }
    out
}
