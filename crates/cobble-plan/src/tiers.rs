//! Tables in two tiers: rows from a boundary on are in a table of a database, those before it in a table of a lake. Under their one name they are a
//! view over both, whose conditions at the boundary let each row be seen on one side only.

use std::fmt;

use cobble_types::{quote_identifier, quote_literal};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tiers {
    /// The table with the rows from the boundary on, written out, and the one with those before it.
    pub recent: String,
    pub older: String,
    /// The column that the boundary is about. Rows where it is null are recent ones.
    pub by: String,
    /// Whether there may be such rows.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub nullable: bool,
    /// The columns, where the two tables have them in different orders.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    /// As text, with its zone; without one all rows are recent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boundary: Option<String>,
    /// What a move has begun and not ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moving: Option<TierMove>,
}

/// How far a move of the boundary is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub enum TierMove {
    /// Rows up to here are being written to the older side, where nobody sees them yet.
    Copying { to: String },
    /// They are seen there; on the recent side they are still there from this boundary on, and nobody sees them.
    Ending { from: Option<String> },
}

impl fmt::Display for TierMove {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TierMove::Copying { to } => write!(f, "rows before {to} are being written to the older side"),
            TierMove::Ending { from: Some(from) } => write!(f, "rows from {from} on go from the recent side"),
            TierMove::Ending { from: None } => f.write_str("rows before the boundary go from the recent side"),
        }
    }
}

impl Tiers {
    /// The same tables, however far rows have been moved between them.
    pub fn is_same(&self, other: &Tiers) -> bool {
        (&self.recent, &self.older, &self.by) == (&other.recent, &other.older, &other.by)
    }

    /// A condition for the rows in between, as far as there are bounds; rows without a value are in none.
    pub fn between(&self, from: Option<&str>, to: Option<&str>) -> String {
        let by = quote_identifier(&self.by);
        let from = from.map(|from| format!("{by} >= {}", quote_literal(from)));
        let to = to.map(|to| format!("{by} < {}", quote_literal(to)));
        let both: Vec<String> = from.into_iter().chain(to).collect();
        if both.is_empty() { format!("{by} IS NOT NULL") } else { both.join(" AND ") }
    }

    /// The names of its columns, for a query.
    pub fn listed(&self) -> String {
        match self.columns.is_empty() {
            true => "*".to_owned(),
            false => self.columns.iter().map(|name| quote_identifier(name)).collect::<Vec<_>>().join(", "),
        }
    }

    /// The query over both sides.
    pub fn query(&self) -> String {
        let (listed, by, Tiers { recent, older, .. }) = (self.listed(), quote_identifier(&self.by), self);
        let (from, before) = match &self.boundary {
            None => (String::new(), "false".to_owned()),
            Some(boundary) => {
                let or_null = if self.nullable { format!(" OR {by} IS NULL") } else { String::new() };
                let from = self.between(Some(boundary), None);
                (format!(" WHERE {from}{or_null}"), self.between(None, Some(boundary)))
            }
        };
        format!("SELECT {listed} FROM {recent}{from} UNION ALL SELECT {listed} FROM {older} WHERE {before}")
    }
}

/// What stands after its name in the statement that makes it.
impl fmt::Display for Tiers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RECENT {} OLDER {} BY {}", self.recent, self.older, quote_identifier(&self.by))?;
        self.boundary.iter().try_for_each(|boundary| write!(f, " BOUNDARY {}", quote_literal(boundary)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_row_is_on_one_side() {
        let tiers = Tiers {
            recent: "fleet.public.trips".into(),
            older: "deep.ops.trips".into(),
            by: "day".into(),
            ..Tiers::default()
        };
        assert_eq!(
            tiers.query(),
            "SELECT * FROM fleet.public.trips UNION ALL SELECT * FROM deep.ops.trips WHERE false"
        );
        let nullable = Tiers {
            boundary: Some("it's".into()),
            nullable: true,
            columns: vec!["id".into(), "d\"".into()],
            ..tiers.clone()
        };
        assert_eq!(
            nullable.query(),
            "SELECT \"id\", \"d\"\"\" FROM fleet.public.trips WHERE \"day\" >= 'it''s' OR \"day\" IS NULL \
             UNION ALL SELECT \"id\", \"d\"\"\" FROM deep.ops.trips WHERE \"day\" < 'it''s'"
        );
        assert!(nullable.is_same(&tiers));
    }
}
