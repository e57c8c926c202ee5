//! Identifiers of the syntax tree: as they are looked up, and where they stand.

use cobble_types::Position;
use sqlparser::ast;
use sqlparser::tokenizer::Span;

/// The parts of a name, each in the case it is looked up by.
pub(crate) fn parts_of(name: &ast::ObjectName) -> Vec<String> {
    name.0.iter().filter_map(|part| part.as_ident().map(folded)).collect()
}

/// An identifier in the case it is looked up by.
pub(crate) fn folded(ident: &ast::Ident) -> String {
    if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_lowercase() }
}

pub(crate) fn position_of(span: Span) -> Option<Position> {
    (span.start.line > 0).then_some(Position { line: span.start.line, column: span.start.column })
}
