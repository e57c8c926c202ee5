//! Pieces of SQL with their bound values.

use std::collections::BTreeSet;

use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};
use serde::{Deserialize, Serialize};

use super::dialect::Dialect;

/// A bound value with its type.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Parameter(pub Value, pub SqlType);

impl Parameter {
    /// The value as databases read it.
    pub fn text(&self) -> String {
        match &self.0 {
            Value::Text(text) => text.clone(),
            // `interval '1 day'` and `time '09:00'` show their type first; what is meant stands inside the quotes.
            other => {
                let shown = other.to_string();
                shown.split_once('\'').map_or(shown.clone(), |(_, rest)| rest.trim_end_matches('\'').to_owned())
            }
        }
    }
}

/// Stands in the text for the next parameter until the statement is complete and parameters are numbered.
const MARK: char = '\u{1}';

/// Stand around text that is not ours: nothing in it is renamed.
pub const VERBATIM: [char; 2] = ['\u{2}', '\u{3}'];

/// Text of others inside of ours.
pub fn verbatim(text: &str) -> String {
    format!("{}{text}{}", VERBATIM[0], VERBATIM[1])
}

/// A piece of SQL with its parameters in the order in which their marks stand in the text.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Sql {
    pub text: String,
    pub parameters: Vec<Parameter>,
    /// The source's columns that the text uses.
    pub columns: BTreeSet<String>,
    /// Whether a row or a group has a say in it: what does not is a constant, which a server will not sort or group by.
    pub of_rows: bool,
    /// What is enough where the text stands alone in the list of a SELECT.
    pub listed: Option<String>,
}

/// Why something is not translated.
pub type Refusal = (KeptReason, String);

impl Sql {
    pub fn new(text: impl Into<String>) -> Sql {
        Sql { text: text.into(), ..Sql::default() }
    }

    /// Text that stands for one of the source's columns.
    pub fn column(text: String, name: String) -> Sql {
        Sql { text, columns: BTreeSet::from([name]), of_rows: true, ..Sql::default() }
    }

    pub fn parameter(parameter: Parameter) -> Sql {
        Sql { text: MARK.to_string(), parameters: vec![parameter], ..Sql::default() }
    }

    pub fn push(&mut self, other: &Sql) -> &mut Self {
        self.text.push_str(&other.text);
        self.parameters.extend(other.parameters.iter().cloned());
        self.columns.extend(other.columns.iter().cloned());
        self.of_rows |= other.of_rows;
        self.listed = None;
        self
    }

    pub fn text(&mut self, text: &str) -> &mut Self {
        self.text.push_str(text);
        self.listed = None;
        self
    }

    pub fn joined<'a>(parts: impl IntoIterator<Item = &'a Sql>, separator: &str) -> Sql {
        let mut all = Sql::default();
        for (i, part) in parts.into_iter().enumerate() {
            if i > 0 {
                all.text(separator);
            }
            all.push(part);
        }
        all
    }

    /// The text with its parameters as the dialect names them.
    pub fn numbered(&self, dialect: &dyn Dialect) -> String {
        let mut out = String::with_capacity(self.text.len() + 16);
        let mut parameters = self.parameters.iter().enumerate();
        for c in self.text.chars() {
            if c == MARK {
                if let Some((i, parameter)) = parameters.next() {
                    out.push_str(&dialect.reference(parameter, i + 1));
                }
            } else if !VERBATIM.contains(&c) {
                out.push(c);
            }
        }
        out
    }
}
