//! Views that users make with CREATE VIEW: a query under a name, put in the place of that name while binding.

use std::fmt;

use cobble_types::quote_identifier;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UserView {
    /// The query after AS.
    pub query: String,
    /// Names in the place of the query's own, for its first columns.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<String>,
    /// Where names of tables that are not written out are looked up: the session's place when the view was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catalog: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
}

/// What stands after its name in the statement that makes it.
impl fmt::Display for UserView {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.columns.is_empty() {
            let names: Vec<String> = self.columns.iter().map(|name| quote_identifier(name)).collect();
            write!(f, "({}) ", names.join(", "))?;
        }
        write!(f, "AS {}", self.query)
    }
}
