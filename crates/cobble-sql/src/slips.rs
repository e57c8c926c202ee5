//! Common mistakes, recognised from the tokens around the place where parsing failed.

use sqlparser::tokenizer::{Token, TokenWithSpan};

use cobble_types::{Error, Position};

use crate::statement::is_word;

/// Words that begin a clause.
const CLAUSES: [&str; 11] =
    ["from", "where", "group", "order", "having", "limit", "offset", "fetch", "union", "window", "qualify"];

/// The error at the word that it names: the parser may give the place of the one behind.
pub(crate) fn at_its_word(error: Error, tokens: &[TokenWithSpan]) -> Error {
    let start = |t: &TokenWithSpan| Position { line: t.span.start.line, column: t.span.start.column };
    let named = error.message.rsplit_once("found ").map(|(_, word)| word);
    let place = tokens.iter().position(|t| Some(start(t)) == error.position).unwrap_or(tokens.len());
    let behind = place.checked_sub(1).and_then(|before| tokens.get(before));
    let here = tokens.get(place).map(|t| t.token.to_string());
    match (named, behind) {
        (Some(named), Some(token)) if here.as_deref() != Some(named) && token.token.to_string() == named => {
            let position = start(token);
            Error { position: Some(position), ..error }
        }
        _ => error,
    }
}

/// What was probably meant, where the parser gave up at this place.
pub(crate) fn hint(tokens: &[TokenWithSpan], position: Option<Position>) -> Option<String> {
    let position = position?;
    let starts = |t: &TokenWithSpan| (t.span.start.line, t.span.start.column);
    let place = tokens.iter().position(|t| starts(t) == (position.line, position.column))?;
    let here = &tokens[place];
    let before = &tokens[..place];
    let clause = |token: &TokenWithSpan| CLAUSES.iter().find(|word| is_word(token, word)).copied();
    if before.last().is_some_and(|t| t.token == Token::Comma)
        && let Some(word) = clause(here)
    {
        return Some(format!("a comma stands before {}", word.to_uppercase()));
    }
    for word in ["group", "order"] {
        if is_word(here, word) && !tokens.get(place + 1).is_some_and(|next| is_word(next, "by")) {
            return Some(format!("write {} BY", word.to_uppercase()));
        }
    }
    if here.token == Token::Comma && before.iter().rev().find_map(clause) == Some("limit") {
        return Some("write LIMIT count OFFSET start".to_owned());
    }
    // The word at the place, or one of the two before it, which was taken for a name.
    for token in before.iter().rev().take(2).rev().chain([here]) {
        if let Token::Word(word) = &token.token
            && word.quote_style.is_none()
            && word.value.len() >= 4
            && clause(token).is_none()
            && let Some(close) = cobble_types::closest_name(&word.value, CLAUSES)
            && close.len().abs_diff(word.value.len()) <= 1
        {
            return Some(format!("did you mean {} instead of \"{}\"?", close.to_uppercase(), word.value));
        }
    }
    let goes_on_as_table = matches!(here.token, Token::LParen | Token::Period);
    match before.last().map(|t| &t.token) {
        Some(Token::Word(name)) if goes_on_as_table && lacks_from(before) => {
            Some(format!("is FROM missing before \"{}\"?", name.value))
        }
        _ => None,
    }
}

/// True where the innermost SELECT has no FROM yet.
pub(crate) fn lacks_from(tokens: &[TokenWithSpan]) -> bool {
    let mut depth = 0;
    for token in tokens.iter().rev() {
        match token.token {
            Token::RParen => depth += 1,
            Token::LParen => depth -= 1,
            _ if depth > 0 => {}
            _ if is_word(token, "from") => return false,
            _ if is_word(token, "select") => return true,
            _ => {}
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use crate::parse_statements;

    #[test]
    fn slips_are_told() {
        for (sql, wanted) in [
            ("SELECT n form trips(1) s(n)", "did you mean FROM instead of \"form\"?"),
            ("SELECT n FROM trips t wehre n = 1", "did you mean WHERE instead of \"wehre\"?"),
            ("SELECT n, FROM trips", "a comma stands before FROM"),
            ("SELECT n FROM trips t GROUP n", "write GROUP BY"),
            ("SELECT n FROM trips t ORDER n", "write ORDER BY"),
            ("SELECT n FROM trips LIMIT 2, 1", "write LIMIT count OFFSET start"),
            ("SELECT count(*) trips(1, 3)", "is FROM missing before \"trips\"?"),
            ("SELECT count(*) fleet.public.trips", "is FROM missing before \"fleet\"?"),
            ("SELECT 1; WHERE n = 1", "leave the semicolon before it out"),
        ] {
            let error = parse_statements(sql).expect_err(sql);
            assert_eq!(error.hint.as_deref(), Some(wanted), "{sql}: {error}");
        }
        let error = parse_statements("SELECT n FROM trips t ) x").expect_err("a parenthesis too many");
        assert_eq!(error.hint, None, "{error}");
    }
}
