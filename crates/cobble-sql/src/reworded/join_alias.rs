//! `JOIN … USING (columns) AS name` (SQL:2016 part 2, 7.10): a last column that holds the name.

use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::is_word;

const MARK: &str = "\u{1}as ";

pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        out.push(tokens[at].clone());
        at += 1;
        if !is_word(&tokens[at - 1], "using") || tokens.get(at).is_none_or(|t| t.token != Token::LParen) {
            continue;
        }
        let list = |t: &&TokenWithSpan| matches!(t.token, Token::Word(_) | Token::Comma | Token::Period);
        let end = at + 1 + tokens[at + 1..].iter().take_while(list).count();
        let query =
            ["select", "values", "with", "table"].iter().any(|w| tokens.get(at + 1).is_some_and(|t| is_word(t, w)));
        let closed = tokens.get(end).is_some_and(|t| t.token == Token::RParen);
        let (true, false, Some(Token::Word(alias))) = (
            closed && tokens.get(end + 1).is_some_and(|t| is_word(t, "as")),
            query,
            tokens.get(end + 2).map(|t| &t.token),
        ) else {
            continue;
        };
        out.extend_from_slice(&tokens[at..end]);
        let folded = if alias.quote_style.is_some() { alias.value.clone() } else { alias.value.to_lowercase() };
        for token in [Token::Comma, super::name(format!("{MARK}{folded}")), Token::RParen] {
            out.push(TokenWithSpan { token, span: tokens[end + 2].span });
        }
        at = end + 3;
    }
    out
}

/// The columns of USING without the one that holds an alias, and the alias.
pub(crate) fn taken_apart(mut columns: Vec<String>) -> (Vec<String>, Option<String>) {
    let alias = columns.last().and_then(|last| last.strip_prefix(MARK)).map(str::to_owned);
    if alias.is_some() {
        columns.pop();
    }
    (columns, alias)
}
