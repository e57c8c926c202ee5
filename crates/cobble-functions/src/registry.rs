//! Everything that a statement can call, in one list: for completion, `SHOW FUNCTIONS`, suggestions and the page in the docs.
//! Functions that users make join it as entries of the same form.

use std::borrow::Cow;

use crate::{AggregateFunction, Function, Ranking, TableFunction};

/// What a function is called for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// One value for each row.
    Scalar,
    /// One value for a group of rows.
    Aggregate,
    /// One value for each row, of the rows around it.
    Window,
    /// Rows.
    Table,
    /// One value for each row, by what a user wrote in SQL.
    UserSql,
    /// One value for each row, by a user's script.
    UserScript,
}

impl Kind {
    pub fn word(self) -> &'static str {
        match self {
            Kind::Scalar => "scalar",
            Kind::Aggregate => "aggregate",
            Kind::Window => "window",
            Kind::Table => "table",
            Kind::UserSql => "user-defined, sql",
            Kind::UserScript => "user-defined, script",
        }
    }
}

/// A function as lists, completion and documentation show it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Entry {
    pub name: Cow<'static, str>,
    /// In words for the engine's own, with names and types for those that users have made.
    pub arguments: Cow<'static, str>,
    pub kind: Kind,
    /// The type of the result where it is always the same one.
    pub returns: Option<String>,
    /// What it returns, in a sentence.
    pub about: Cow<'static, str>,
}

impl Entry {
    fn own(name: &'static str, arguments: &'static str, kind: Kind, about: &'static str) -> Entry {
        Entry { name: name.into(), arguments: arguments.into(), kind, returns: None, about: about.into() }
    }
}

/// Functions that the binder writes in other words: constants of a statement, and short forms of other expressions. Names,
/// arguments, what they return, an example (the answer is empty where it is another one each time).
pub const WRITTEN: &[(&str, &str, &str, (&str, &str))] = &[
    ("nullif", "any, any", "The first argument, or null where it equals the second.", ("nullif(0, 0)", "")),
    ("mod", "number, number", "What is left of a division; the operator `%`.", ("mod(17, 5)", "2")),
    ("grouping", "key, …", "Which keys a row of GROUPING SETS leaves out, as bits.", ("", "")),
    ("now", "", "The moment at which the statement began.", ("now() = current_timestamp", "true")),
    (
        "transaction_timestamp",
        "",
        "The moment at which the statement began.",
        ("now() = transaction_timestamp()", "true"),
    ),
    ("statement_timestamp", "", "The moment at which the statement began.", ("now() = statement_timestamp()", "true")),
    ("clock_timestamp", "", "The moment at which the statement began.", ("now() = clock_timestamp()", "true")),
    ("timeofday", "", "That moment as text.", ("", "")),
    ("version", "", "The product and its version.", ("", "")),
    ("current_database", "", "The catalog of the session.", ("", "")),
    ("current_schema", "", "The schema of the session.", ("", "")),
    ("current_setting", "name [, missing_ok]", "The value of a setting of the session.", ("", "")),
    ("pg_typeof", "any", "The name of a value's type.", ("pg_typeof(1.5)", "numeric")),
    ("pg_client_encoding", "", "The encoding of texts, which is UTF8.", ("pg_client_encoding()", "UTF8")),
    ("get_bit", "bytea, n", "The n-th bit, counted from zero.", ("get_bit('\\x05', 2)", "1")),
    ("set_bit", "bytea, n, bit", "The bytes with another n-th bit.", ("set_bit('\\x05', 1, 1)", "\\x07")),
    (
        "convert",
        "bytea, from, to",
        "The bytes brought from one encoding into another.",
        ("convert('\\xf6', 'LATIN1', 'UTF8')", "\\xc3b6"),
    ),
    ("json_array", "any, …", "A JSON array of the values that are not null.", ("json_array(1, 'two')", "[1, \"two\"]")),
];

/// The engine's own functions by name.
pub fn entries() -> Vec<Entry> {
    let callable = Function::ALL.iter().map(|f| f.entry()).filter(|entry| entry.callable);
    let scalars = callable.map(|f| Entry::own(f.name, f.arguments, Kind::Scalar, f.about));
    let written = WRITTEN.iter().map(|(name, arguments, about, _)| Entry::own(name, arguments, Kind::Scalar, about));
    let aggregates = AggregateFunction::ALL
        .iter()
        .map(|f| Entry::own(f.name(), f.entry().arguments, Kind::Aggregate, f.entry().about));
    let windows = Ranking::ALL.iter().map(|f| Entry::own(f.name(), f.entry().arguments, Kind::Window, f.entry().about));
    let tables =
        TableFunction::ALL.iter().map(|f| Entry::own(f.name(), f.entry().arguments, Kind::Table, f.entry().about));
    let mut all: Vec<Entry> = scalars.chain(written).chain(aggregates).chain(windows).chain(tables).collect();
    all.sort();
    all
}

/// The names of all functions that give one value, for suggestions.
pub fn known_names() -> impl Iterator<Item = &'static str> {
    let scalars = Function::ALL.iter().map(|f| f.entry()).filter(|entry| entry.callable).map(|entry| entry.name);
    let aggregates = AggregateFunction::ALL.iter().map(|f| f.name());
    scalars.chain(aggregates).chain(WRITTEN.iter().map(|(name, ..)| *name))
}
