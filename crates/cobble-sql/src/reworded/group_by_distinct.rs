//! `GROUP BY DISTINCT …`, and its opposite ALL, which is the usual meaning (SQL:2016 part 2, 7.13): a key of a name of its own stands
//! for DISTINCT.

use sqlparser::ast;
use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::is_word;

const MARK: &str = "\u{1}distinct";

pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let after_group_by = |at: usize| at >= 2 && is_word(&tokens[at - 2], "group") && is_word(&tokens[at - 1], "by");
    // ALL alone is no quantifier: it would be all there is to group by.
    let goes_on = |at: usize| match tokens.get(at + 1).map(|t| &t.token) {
        Some(Token::Word(_)) => {
            let ends = ["having", "order", "limit", "offset", "fetch", "window", "union", "intersect", "except"];
            !ends.iter().any(|word| is_word(&tokens[at + 1], word))
        }
        Some(next) => !matches!(next, Token::RParen | Token::Comma),
        None => false,
    };
    let mut out = Vec::with_capacity(tokens.len());
    for (at, token) in tokens.iter().enumerate() {
        if after_group_by(at) && is_word(token, "distinct") {
            out.push(TokenWithSpan { token: super::name(MARK), span: token.span });
            out.push(TokenWithSpan { token: Token::Comma, span: token.span });
        } else if !(after_group_by(at) && is_word(token, "all") && goes_on(at)) {
            out.push(token.clone());
        }
    }
    out
}

/// True for the key that stands for DISTINCT.
pub(crate) fn is_mark(key: &ast::Expr) -> bool {
    matches!(key, ast::Expr::Identifier(ident) if ident.value == MARK)
}
