//! ALTER TABLE, as what a source is asked to change.

use std::collections::BTreeMap;

use cobble_types::SqlType;

/// A change of what a table is; its rows stay. Names of columns may be ways to fields within them, level by level.
#[derive(Debug, Clone, PartialEq)]
pub enum Alteration {
    AddColumn {
        name: Vec<String>,
        sql_type: SqlType,
        not_null: bool,
    },
    DropColumn {
        name: Vec<String>,
    },
    RenameColumn {
        name: Vec<String>,
        to: String,
    },
    /// To a type that holds all values of the one that it has.
    Widen {
        name: Vec<String>,
        sql_type: SqlType,
    },
    /// Behind another column of the same level, or in front of all.
    Move {
        name: Vec<String>,
        after: Option<String>,
    },
    DropNotNull {
        name: Vec<String>,
    },
    /// How rows that are added from now on are sorted into partitions, as PARTITION BY has it.
    PartitionBy(String),
    /// By what the rows of a file are ordered, as ORDER BY has it.
    OrderBy(String),
    Set(BTreeMap<String, String>),
    Reset(Vec<String>),
}

/// A name as it is meant: in small letters, unless it stands in quotes.
pub fn unquoted(name: &str) -> String {
    match name.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
        Some(quoted) => quoted.replace("\"\"", "\""),
        None => name.to_lowercase(),
    }
}

/// The parts between commas that stand in no parentheses.
pub fn parts(text: &str) -> Vec<String> {
    let (mut all, mut depth) = (vec![String::new()], 0);
    for c in text.chars() {
        depth += i32::from(c == '(') - i32::from(c == ')');
        match (c, all.last_mut()) {
            (',', _) if depth == 0 => all.push(String::new()),
            (_, Some(last)) => last.push(c),
            _ => {}
        }
    }
    all.retain(|part| !part.trim().is_empty());
    all
}

/// A column that rows are ordered by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderedColumn {
    pub name: String,
    pub descending: bool,
    pub nulls_first: bool,
}

/// An order as it is written: `departed_at, vessel DESC NULLS LAST`.
pub fn order_by(text: &str) -> Vec<OrderedColumn> {
    let one = |part: &String| {
        let mut words: Vec<&str> = part.split_whitespace().collect();
        let lower = |words: &[&str]| words.iter().map(|word| word.to_lowercase()).collect::<Vec<_>>();
        let last = lower(&words[words.len().saturating_sub(2)..]);
        let nulls = match last.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
            ["nulls", "first"] => Some(true),
            ["nulls", "last"] => Some(false),
            _ => None,
        };
        words.truncate(words.len() - 2 * usize::from(nulls.is_some()));
        let direction = match lower(&words).last().map(String::as_str) {
            Some("asc") if words.len() > 1 => Some(false),
            Some("desc") if words.len() > 1 => Some(true),
            _ => None,
        };
        words.truncate(words.len() - usize::from(direction.is_some()));
        let descending = direction.unwrap_or(false);
        // As PostgreSQL orders nulls.
        OrderedColumn { name: unquoted(&words.join(" ")), descending, nulls_first: nulls.unwrap_or(descending) }
    };
    parts(text).iter().map(one).collect()
}
