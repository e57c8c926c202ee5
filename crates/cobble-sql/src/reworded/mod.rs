//! Forms of the language that the parser does not read. Each is found among the tokens of a statement and written in a form that the
//! parser does read, with names that begin with a control character, so that nobody can write them; the binder knows what they stand
//! for. One file for each form.

pub(crate) mod exclude;
mod explicit_table;
pub(crate) mod group_by_distinct;
pub(crate) mod join_alias;
pub(crate) mod rows_from;
pub(crate) mod search_cycle;
mod unicode_escape;

use cobble_types::Result;
use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

/// The tokens of a statement as the parser reads them.
///
/// # Errors
/// Where a form begins and does not go on as it must.
pub(crate) fn reworded(tokens: &[TokenWithSpan]) -> Result<Vec<TokenWithSpan>> {
    let tokens = unicode_escape::decoded(exclude::marked(tokens))?;
    let tokens = join_alias::marked(group_by_distinct::marked(rows_from::marked(tokens)));
    Ok(explicit_table::spelled_out(search_cycle::marked(tokens)?))
}

/// A quoted name.
fn name(value: impl Into<String>) -> Token {
    Token::Word(Word { value: value.into(), quote_style: Some('"'), keyword: Keyword::NoKeyword })
}
