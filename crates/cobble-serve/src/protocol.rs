//! What travels between Cobble Lane and a program that serves tables: version 1, described in `docs/CONNECTORS.md`. All of it is JSON in
//! the fields that Arrow Flight leaves to applications; rows travel as Arrow.

use serde::{Deserialize, Serialize};

/// The action that lists tables; its body is empty, its answer a [`Listing`].
pub const LIST: &str = "lane.v1.list";
/// The action that asks whether a piece of work is taken over; its body is an [`Offer`], its answer an [`Answer`].
pub const OFFER: &str = "lane.v1.offer";

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Listing {
    pub tables: Vec<TableName>,
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct TableName {
    pub schema: String,
    pub name: String,
}

/// One piece of work on a table, with what was taken over before it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Offer {
    pub table: TableName,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub filters: Vec<Condition>,
    pub piece: Piece,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Piece {
    /// Only rows for which it is true.
    Filter(Condition),
    /// At most this many of the rows that pass the filters; any of them will do.
    Limit(u64),
    /// So many keys of a join, later sent as a filter on this column. Every row that has one of them must come, others may.
    Keys { column: String, count: u64 },
    /// One row for each group of the rows that the filters leave, in place of those rows. Nothing but the columns wanted follows it.
    Groups(Groups),
    /// The first rows in an order, of those that the filters leave. More may come, as they are put in order again.
    Top(Top),
}

/// Groups of equal values in these columns; without columns all rows are one group, also when there are none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Groups {
    pub by: Vec<String>,
    pub values: Vec<GroupValue>,
}

/// What is computed for each group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GroupValue {
    /// The name of the column that it becomes.
    pub name: String,
    /// `count`, `min`, `max` or `sum`; nulls do not count, and of nothing there is no least, greatest value or sum.
    pub function: String,
    /// Without a column, rows are counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub distinct: bool,
    /// Only of the rows for which this is true.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<Condition>,
    /// The SQL type that it must have.
    #[serde(rename = "type")]
    pub sql_type: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Top {
    pub order: Vec<Order>,
    pub rows: u64,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Order {
    pub column: String,
    #[serde(default)]
    pub descending: bool,
    #[serde(default)]
    pub nulls_first: bool,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "verdict")]
pub enum Answer {
    /// Done here in full, with exactly the meaning it has in SQL; it is not done again.
    Pushed {
        #[serde(default, skip_serializing_if = "Option::is_none")]
        note: Option<String>,
    },
    /// Used to leave rows out, and checked again.
    Prunes {
        #[serde(default, skip_serializing_if = "Option::is_none")]
        note: Option<String>,
    },
    /// Not done here, and why.
    Kept {
        #[serde(default, skip_serializing_if = "Option::is_none")]
        note: Option<String>,
    },
}

impl Answer {
    pub fn pushed() -> Answer {
        Answer::Pushed { note: None }
    }

    pub fn prunes(note: &str) -> Answer {
        Answer::Prunes { note: Some(note.to_owned()) }
    }

    pub fn kept(note: &str) -> Answer {
        Answer::Kept { note: Some(note.to_owned()) }
    }
}

/// Everything that was agreed on, sent when rows are wanted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Request {
    pub table: TableName,
    /// The columns that rows must have, in this order; there may be none, when only the number of rows counts.
    pub columns: Vec<String>,
    /// Those that were pushed or prune, and keys of joins.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub filters: Vec<Condition>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u64>,
    /// Each group comes once among all portions; `columns` then names columns that are grouped by and values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Groups>,
    /// Holds for each portion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top: Option<Top>,
}

impl Request {
    /// Columns of a table as they are.
    pub fn of_columns(table: TableName, columns: Vec<String>) -> Request {
        Request { table, columns, filters: vec![], limit: None, groups: None, top: None }
    }
}

/// An expression of SQL, with its three truth values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Condition {
    Column {
        column: String,
    },
    /// A constant as SQL writes it without quotes, with the name of its type; null where there is none.
    Literal {
        literal: Option<String>,
        #[serde(rename = "type")]
        sql_type: String,
    },
    /// `=`, `<>`, `<`, `<=`, `>`, `>=`, `is distinct from`, `is not distinct from`, `and`, `or`, `not`, `is null`, `in` (the value, then the
    /// list), `like`, `+`, `-`, `*`, `/`, `%`, `||`.
    Call {
        call: String,
        arguments: Vec<Condition>,
    },
}

/// A value that [`Condition::value`] computes with.
#[derive(Debug, Clone, PartialEq, PartialOrd)]
pub enum Constant {
    Boolean(bool),
    Integer(i64),
    Text(String),
}

impl Condition {
    /// The names of all columns in it.
    pub fn columns(&self) -> Vec<&str> {
        match self {
            Condition::Column { column } => vec![column],
            Condition::Literal { .. } => vec![],
            Condition::Call { arguments, .. } => arguments.iter().flat_map(Condition::columns).collect(),
        }
    }

    /// Whether [`Condition::value`] can compute it: comparisons of whole numbers, texts by their bytes and truth values, and what joins
    /// them.
    pub fn is_plain(&self) -> bool {
        const CALLS: &[&str] = &[
            "=",
            "<>",
            "<",
            "<=",
            ">",
            ">=",
            "is distinct from",
            "is not distinct from",
            "and",
            "or",
            "not",
            "is null",
            "in",
        ];
        match self {
            Condition::Column { .. } => true,
            Condition::Literal { sql_type, literal } => literal.is_none() || self.constant(sql_type).is_some(),
            Condition::Call { call, arguments } => {
                CALLS.contains(&call.as_str()) && arguments.iter().all(Condition::is_plain)
            }
        }
    }

    fn constant(&self, sql_type: &str) -> Option<Constant> {
        let Condition::Literal { literal: Some(text), .. } = self else { return None };
        match sql_type {
            "smallint" | "integer" | "bigint" => text.parse().ok().map(Constant::Integer),
            "boolean" => text.parse().ok().map(Constant::Boolean),
            "text" => Some(Constant::Text(text.clone())),
            _ => None,
        }
    }

    /// Its value for one row; none is null. Only for what [`Condition::is_plain`] allows.
    pub fn value(&self, row: &dyn Fn(&str) -> Option<Constant>) -> Option<Constant> {
        match self {
            Condition::Column { column } => row(column),
            Condition::Literal { sql_type, .. } => self.constant(sql_type),
            Condition::Call { call, arguments } => {
                let value = |place: usize| arguments.get(place).and_then(|argument| argument.value(row));
                let truth = |place: usize| match value(place) {
                    Some(Constant::Boolean(truth)) => Some(truth),
                    _ => None,
                };
                let compared = |test: fn(std::cmp::Ordering) -> bool| value(0)?.partial_cmp(&value(1)?).map(test);
                let found = match call.as_str() {
                    "=" => compared(std::cmp::Ordering::is_eq),
                    "<>" => compared(std::cmp::Ordering::is_ne),
                    "<" => compared(std::cmp::Ordering::is_lt),
                    "<=" => compared(std::cmp::Ordering::is_le),
                    ">" => compared(std::cmp::Ordering::is_gt),
                    ">=" => compared(std::cmp::Ordering::is_ge),
                    "is distinct from" => Some(value(0) != value(1)),
                    "is not distinct from" => Some(value(0) == value(1)),
                    "not" => truth(0).map(|truth| !truth),
                    "is null" => Some(value(0).is_none()),
                    "and" => {
                        let all: Vec<Option<bool>> = (0..arguments.len()).map(truth).collect();
                        if all.contains(&Some(false)) {
                            Some(false)
                        } else {
                            all.iter().all(Option::is_some).then_some(true)
                        }
                    }
                    "or" => {
                        let all: Vec<Option<bool>> = (0..arguments.len()).map(truth).collect();
                        if all.contains(&Some(true)) {
                            Some(true)
                        } else {
                            all.iter().all(Option::is_some).then_some(false)
                        }
                    }
                    "in" => {
                        let wanted = value(0)?;
                        let list: Vec<Option<Constant>> = (1..arguments.len()).map(value).collect();
                        let found = list.iter().flatten().any(|item| *item == wanted);
                        if found { Some(true) } else { list.iter().all(Option::is_some).then_some(false) }
                    }
                    _ => None,
                };
                found.map(Constant::Boolean)
            }
        }
    }

    /// Whether a row stays.
    pub fn holds(&self, row: &dyn Fn(&str) -> Option<Constant>) -> bool {
        self.value(row) == Some(Constant::Boolean(true))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_are_json_and_have_three_truth_values() {
        let row = |name: &str| match name {
            "id" => Some(Constant::Integer(7)),
            "kind" => Some(Constant::Text("high".into())),
            _ => None,
        };
        let id = r#"{"column": "id"}"#;
        let null = r#"{"literal": null, "type": "bigint"}"#;
        let number = |n: i64| format!(r#"{{"literal": "{n}", "type": "bigint"}}"#);
        let call = |name: &str, arguments: &[String]| {
            format!(r#"{{"call": "{name}", "arguments": [{}]}}"#, arguments.join(", "))
        };
        let of = |text: &str| serde_json::from_str::<Condition>(text).unwrap().value(&row);
        let (yes, no) = (Some(Constant::Boolean(true)), Some(Constant::Boolean(false)));
        let equal = call("=", &[id.into(), number(7)]);
        let unknown = call("<", &[id.into(), null.into()]);
        for (text, expected) in [
            (equal.clone(), yes.clone()),
            (unknown.clone(), None),
            (call("not", std::slice::from_ref(&equal)), no.clone()),
            (call("and", &[equal.clone(), unknown.clone()]), None),
            (call("or", &[equal.clone(), unknown.clone()]), yes.clone()),
            (call("and", &[call("not", std::slice::from_ref(&equal)), unknown.clone()]), no.clone()),
            (call("in", &[id.into(), number(1), number(7)]), yes.clone()),
            (call("in", &[id.into(), number(1), null.into()]), None),
            (call("in", &[id.into(), number(1)]), no.clone()),
            (call("is null", &[r#"{"column": "note"}"#.into()]), yes.clone()),
            (call("is distinct from", &[id.into(), null.into()]), yes),
        ] {
            assert_eq!(of(&text), expected, "{text}");
            assert!(serde_json::from_str::<Condition>(&text).unwrap().is_plain(), "{text}");
        }
        let written: Condition = serde_json::from_str(&call("like", &[id.into(), number(1)])).unwrap();
        assert!(!written.is_plain());
        assert_eq!(serde_json::from_str::<Condition>(&serde_json::to_string(&written).unwrap()).unwrap(), written);
    }
}
