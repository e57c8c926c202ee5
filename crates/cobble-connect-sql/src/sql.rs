//! Pieces of SQL as data: text, bound values, tables by their numbers and queries. They are printed once, for one dialect.

use std::collections::BTreeSet;

use cobble_plan::offer::KeptReason;
use cobble_types::deep::with_room;
use cobble_types::{SqlType, Value};
use serde::{Deserialize, Serialize};

use super::dialect::Dialect;
use super::query::Query;

/// A bound value with its type.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Parameter(pub Value, pub SqlType);

impl Parameter {
    /// The value as a literal for databases.
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

/// Why something is not translated.
pub type Refusal = (KeptReason, String);

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum Token {
    Text(String),
    Parameter(Parameter),
    /// The alias of the table with this number.
    Table(usize),
    Query(Box<Query>),
}

/// A piece of SQL.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Sql {
    tokens: Vec<Token>,
    /// The source's columns that it uses.
    pub columns: BTreeSet<String>,
    /// Whether a row or a group has a say in it: what does not is a constant, which a server will not sort or group by.
    pub of_rows: bool,
    /// What is enough where it stands alone in the list of a SELECT.
    listed: Option<Vec<Token>>,
}

impl Sql {
    pub fn new(text: impl Into<String>) -> Sql {
        Sql { tokens: vec![Token::Text(text.into())], ..Sql::default() }
    }

    /// Text that says something of rows.
    pub fn of_rows(text: impl Into<String>) -> Sql {
        Sql { of_rows: true, ..Sql::new(text) }
    }

    pub fn parameter(parameter: Parameter) -> Sql {
        Sql { tokens: vec![Token::Parameter(parameter)], ..Sql::default() }
    }

    pub fn query(query: Query) -> Sql {
        Sql { tokens: vec![Token::Query(Box::new(query))], ..Sql::default() }
    }

    /// The column of a table by its number; `name` is written as it is.
    pub fn column(table: usize, name: &str) -> Sql {
        let tokens = vec![Token::Table(table), Token::Text(format!(".{name}"))];
        Sql { tokens, of_rows: true, ..Sql::default() }
    }

    /// The same, known to use these columns of the source.
    pub fn using(mut self, columns: BTreeSet<String>) -> Sql {
        self.columns = columns;
        self
    }

    /// The same, as it stands alone in the list of a SELECT.
    pub fn in_lists(mut self, listed: Sql) -> Sql {
        self.listed = Some(listed.tokens);
        self
    }

    /// What stands alone in the list of a SELECT.
    pub fn listed(mut self) -> Sql {
        if let Some(listed) = self.listed.take() {
            self.tokens = listed;
        }
        self
    }

    /// The same wherever it stands.
    pub fn whole(mut self) -> Sql {
        self.listed = None;
        self
    }

    pub fn push(&mut self, other: &Sql) -> &mut Self {
        for token in &other.tokens {
            match token {
                Token::Text(text) => drop(self.text(text)),
                other => self.tokens.push(other.clone()),
            }
        }
        self.columns.extend(other.columns.iter().cloned());
        self.of_rows |= other.of_rows;
        self.listed = None;
        self
    }

    pub fn text(&mut self, text: &str) -> &mut Self {
        match self.tokens.last_mut() {
            Some(Token::Text(last)) => last.push_str(text),
            _ => self.tokens.push(Token::Text(text.to_owned())),
        }
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

    /// About the number of characters that it is written in.
    pub fn size(&self) -> usize {
        let size = |token: &Token| match token {
            Token::Text(text) => text.len(),
            Token::Parameter(_) | Token::Table(_) => 2,
            Token::Query(query) => query.parts().map(Sql::size).sum(),
        };
        self.tokens.iter().map(size).sum()
    }

    /// Whether a value is bound in it. No two parameters are the same to a server.
    pub fn binds(&self) -> bool {
        self.tokens.iter().any(|token| match token {
            Token::Parameter(_) => true,
            Token::Query(query) => query.parts().any(Sql::binds),
            Token::Text(_) | Token::Table(_) => false,
        })
    }

    /// Shifts the numbers of its tables.
    pub fn renumber(&mut self, by: usize) {
        for token in self.tokens.iter_mut().chain(self.listed.iter_mut().flatten()) {
            match token {
                Token::Table(number) => *number += by,
                Token::Query(query) => query.renumber(by),
                Token::Text(_) | Token::Parameter(_) => {}
            }
        }
    }

    pub fn write(&self, out: &mut StatementText, dialect: &dyn Dialect) {
        for token in &self.tokens {
            match token {
                Token::Text(text) => out.text.push_str(text),
                Token::Parameter(parameter) => {
                    out.parameters.push(parameter.clone());
                    out.text.push_str(&dialect.reference(parameter, out.parameters.len()));
                }
                Token::Table(number) => out.text.push_str(&alias(*number)),
                Token::Query(query) => query.write(out, dialect),
            }
        }
    }
}

/// How a table is called in a statement.
pub fn alias(number: usize) -> String {
    format!("t{number}")
}

/// A statement as it is sent, with its values in the order of their parameters.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StatementText {
    pub text: String,
    pub parameters: Vec<Parameter>,
}

impl StatementText {
    pub fn of(sql: &Sql, dialect: &dyn Dialect) -> StatementText {
        let mut out = StatementText::default();
        with_room(|| sql.write(&mut out, dialect));
        out
    }

    /// The values as they are shown.
    pub fn shown_parameters(&self) -> Vec<String> {
        self.parameters.iter().map(|parameter| parameter.0.to_string()).collect()
    }
}
