//! A SELECT as a tree. Tables are known by numbers, so that two trees can be put together whatever their tables are called.

use cobble_plan::logical::JoinKind;
use serde::{Deserialize, Serialize};

use super::dialect::Dialect;
use super::sql::{Sql, StatementText, alias};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Query {
    pub list: Vec<Sql>,
    pub from: From,
    pub conditions: Vec<Sql>,
    /// `Some` once it groups; empty means one group of all rows.
    pub groups: Option<Vec<Sql>>,
    pub order: Vec<Sql>,
    /// Rows at most, and rows left out before them.
    pub limit: Option<(Option<u64>, u64)>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum From {
    /// A table by its full name, or a query of the user's in parentheses.
    Table {
        name: String,
        number: usize,
    },
    /// All rows of these queries.
    Derived {
        queries: Vec<Query>,
        number: usize,
    },
    Join {
        left: Box<From>,
        kind: JoinKind,
        right: Box<From>,
        on: Sql,
    },
}

impl Query {
    /// The rows of `from` for which all conditions hold.
    pub fn new(list: Vec<Sql>, from: From, conditions: Vec<Sql>) -> Query {
        Query { list, from, conditions, groups: None, order: vec![], limit: None }
    }

    /// Its pieces, those of its own queries left out.
    pub fn parts(&self) -> impl Iterator<Item = &Sql> {
        let groups = self.groups.iter().flatten();
        self.list.iter().chain(&self.conditions).chain(groups).chain(&self.order).chain(self.from.conditions())
    }

    pub fn renumber(&mut self, by: usize) {
        let groups = self.groups.iter_mut().flatten();
        let parts = self.list.iter_mut().chain(&mut self.conditions).chain(groups).chain(&mut self.order);
        parts.for_each(|part| part.renumber(by));
        self.from.renumber(by);
    }

    pub fn write(&self, out: &mut StatementText, dialect: &dyn Dialect) {
        let all = |out: &mut StatementText, word: &str, parts: &[Sql], separator: &str| {
            for (place, part) in parts.iter().enumerate() {
                out.text.push_str(if place == 0 { word } else { separator });
                part.write(out, dialect);
            }
        };
        out.text.push_str("SELECT ");
        if self.list.is_empty() {
            out.text.push_str(dialect.no_columns());
        }
        all(out, "", &self.list, ", ");
        out.text.push_str(" FROM ");
        self.from.write(out, dialect);
        all(out, " WHERE ", &self.conditions, " AND ");
        all(out, " GROUP BY ", self.groups.as_deref().unwrap_or_default(), ", ");
        all(out, " ORDER BY ", &self.order, ", ");
        if let Some((limit, offset)) = self.limit {
            out.text.push_str(&dialect.limit(limit, offset));
        }
    }
}

impl From {
    /// Begins with a query, which no index helps to search.
    pub fn is_derived(&self) -> bool {
        match self {
            From::Table { .. } => false,
            From::Derived { .. } => true,
            From::Join { left, .. } => left.is_derived(),
        }
    }

    /// The conditions of its joins.
    fn conditions(&self) -> impl Iterator<Item = &Sql> {
        let (mut found, mut open) = (Vec::new(), vec![self]);
        while let Some(from) = open.pop() {
            if let From::Join { left, right, on, .. } = from {
                found.push(on);
                open.extend([left.as_ref(), right.as_ref()]);
            }
        }
        found.into_iter()
    }

    pub fn renumber(&mut self, by: usize) {
        match self {
            From::Table { number, .. } => *number += by,
            From::Derived { queries, number } => {
                *number += by;
                queries.iter_mut().for_each(|query| query.renumber(by));
            }
            From::Join { left, right, on, .. } => {
                left.renumber(by);
                right.renumber(by);
                on.renumber(by);
            }
        }
    }

    fn write(&self, out: &mut StatementText, dialect: &dyn Dialect) {
        match self {
            From::Table { name, number } => out.text.push_str(&format!("{name} AS {}", alias(*number))),
            From::Derived { queries, number } => {
                for (place, query) in queries.iter().enumerate() {
                    out.text.push_str(if place == 0 { "(" } else { " UNION ALL " });
                    query.write(out, dialect);
                }
                out.text.push_str(&format!(") AS {}", alias(*number)));
            }
            From::Join { left, kind, right, on } => {
                left.write(out, dialect);
                let (open, close) = if matches!(**right, From::Join { .. }) { ("(", ")") } else { ("", "") };
                out.text.push_str(&format!(" {} {open}", word(*kind)));
                right.write(out, dialect);
                out.text.push_str(&format!("{close} ON "));
                on.write(out, dialect);
            }
        }
    }
}

/// The word for a join that stands in FROM.
fn word(kind: JoinKind) -> &'static str {
    match kind {
        JoinKind::Left => "LEFT JOIN",
        JoinKind::Right => "RIGHT JOIN",
        JoinKind::Full => "FULL JOIN",
        _ => "JOIN",
    }
}
