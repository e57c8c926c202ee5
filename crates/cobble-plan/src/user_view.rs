//! Views that users make with CREATE VIEW: a query under a name, put in the place of that name while binding.

use std::borrow::Cow;
use std::fmt;

use cobble_types::quote_identifier;
use serde::{Deserialize, Serialize};

use crate::tiers::Tiers;

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UserView {
    /// The query after AS; none of a table in tiers, which has its own.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub query: String,
    /// Names in the place of the query's own, for its first columns.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    /// Where names of tables that are not written out are looked up: the session's place when the view was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catalog: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    /// The tables that hold its rows, of a table in tiers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tiers: Option<Tiers>,
}

impl UserView {
    /// The query that it stands for.
    pub fn text(&self) -> Cow<'_, str> {
        match &self.tiers {
            Some(tiers) => Cow::Owned(tiers.query()),
            None => Cow::Borrowed(&self.query),
        }
    }
}

/// What stands after its name in the statement that makes it.
impl fmt::Display for UserView {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.columns.is_empty() {
            let names: Vec<String> = self.columns.iter().map(|name| quote_identifier(name)).collect();
            write!(f, "({}) ", names.join(", "))?;
        }
        match &self.tiers {
            Some(tiers) => tiers.fmt(f),
            None => write!(f, "AS {}", self.query),
        }
    }
}
