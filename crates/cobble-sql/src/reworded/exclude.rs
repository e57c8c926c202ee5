//! EXCLUDE in a window's frame, which the parser does not know: the words are taken out of the tokens, and a key that no one
//! can write is put into the window's PARTITION BY instead, from which the binder reads the exclusion.

use cobble_plan::window::FrameExclusion;
use sqlparser::ast;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

use crate::statement::is_word;

/// Begins the key; a control character, so that no identifier is like it.
const MARK: &str = "\u{1}exclude ";

const FORMS: [(&[&str], FrameExclusion); 4] = [
    (&["current", "row"], FrameExclusion::CurrentRow),
    (&["group"], FrameExclusion::Group),
    (&["ties"], FrameExclusion::Ties),
    (&["no", "others"], FrameExclusion::NoOthers),
];

/// The exclusion that begins at this token, and the number of tokens it takes.
fn form_at(tokens: &[TokenWithSpan], at: usize) -> Option<(usize, usize)> {
    if !tokens.get(at).is_some_and(|t| is_word(t, "exclude")) {
        return None;
    }
    let place = FORMS.iter().position(|(words, _)| {
        words.iter().enumerate().all(|(i, word)| tokens.get(at + 1 + i).is_some_and(|t| is_word(t, word)))
            && tokens.get(at + 1 + words.len()).is_some_and(|t| t.token == Token::RParen)
    })?;
    Some((place, FORMS[place].0.len() + 1))
}

/// The tokens with every exclusion turned into a key.
pub(super) fn marked(tokens: &[TokenWithSpan]) -> Vec<TokenWithSpan> {
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    // Where each open parenthesis stands in `out`.
    let mut open: Vec<usize> = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        if let Some((form, length)) = form_at(tokens, at)
            && let Some(start) = open.last().copied()
        {
            let word = |value: String, quote_style, keyword| TokenWithSpan {
                token: Token::Word(Word { value, quote_style, keyword }),
                span: token.span,
            };
            use sqlparser::keywords::Keyword;
            let key = word(format!("{MARK}{form}"), Some('"'), Keyword::NoKeyword);
            // After the name of a window that this one builds upon.
            let begins =
                |t: &TokenWithSpan| ["partition", "order", "rows", "range", "groups"].iter().any(|w| is_word(t, w));
            let place = start + 1 + usize::from(out.get(start + 1).is_some_and(|t| !begins(t)));
            if out.get(place).is_some_and(|t| is_word(t, "partition")) {
                let comma = TokenWithSpan { token: Token::Comma, span: token.span };
                let place = (place + 2).min(out.len());
                out.splice(place..place, [key, comma]);
            } else {
                let partition = word("PARTITION".into(), None, Keyword::PARTITION);
                let by = word("BY".into(), None, Keyword::BY);
                out.splice(place..place, [partition, by, key]);
            }
            at += length;
            continue;
        }
        match token.token {
            Token::LParen => open.push(out.len()),
            Token::RParen => {
                open.pop();
            }
            _ => {}
        }
        out.push(token.clone());
        at += 1;
    }
    out
}

/// The exclusion that a key of PARTITION BY stands for.
pub(crate) fn exclusion_of(key: &ast::Expr) -> Option<FrameExclusion> {
    let ast::Expr::Identifier(ident) = key else { return None };
    let form: usize = ident.value.strip_prefix(MARK)?.parse().ok()?;
    FORMS.get(form).map(|(_, exclusion)| *exclusion)
}
