//! Names of things: three-part object names, the identity of a column in a plan, and the closest known name to a misspelt one.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The identity of one column within one plan. Two scans of a table have different ids for the same column,
/// so an expression never depends on where in a row its column stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ColumnId(pub u32);

/// A full table name.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ObjectName {
    pub catalog: String,
    pub schema: String,
    pub table: String,
}

impl ObjectName {
    pub fn new(catalog: impl Into<String>, schema: impl Into<String>, table: impl Into<String>) -> Self {
        ObjectName { catalog: catalog.into(), schema: schema.into(), table: table.into() }
    }
}

impl fmt::Display for ObjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let part = |name: &str| if is_plain(name) { name.to_owned() } else { quote_identifier(name) };
        write!(f, "{}.{}.{}", part(&self.catalog), part(&self.schema), part(&self.table))
    }
}

fn is_plain(name: &str) -> bool {
    !name.is_empty()
        && name.chars().enumerate().all(|(i, c)| c == '_' || c.is_ascii_lowercase() || (i > 0 && c.is_ascii_digit()))
}

/// The name in double quotes, quotes inside doubled (SQL:2016 part 2, 5.2 delimited identifier).
pub fn quote_identifier(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The known name nearest to `name`, if one is near enough to be what was meant.
pub fn closest_name<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = name.to_lowercase();
    known
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(&wanted, &candidate.to_lowercase()), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.chars().count().max(name.chars().count()) / 4)
        .min()
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_closest_name_is_found_only_when_it_is_close() {
        let known = ["boardings", "routes", "vessels", "pass_holders"];
        for (name, expected) in [
            ("boarding", Some("boardings")),
            ("Route", Some("routes")),
            ("vessles", Some("vessels")),
            ("passholders", Some("pass_holders")),
            ("tariffs", None),
            ("", None),
        ] {
            assert_eq!(closest_name(name, known), expected, "{name}");
        }
    }

    #[test]
    fn names_are_quoted_only_when_they_must_be() {
        assert_eq!(ObjectName::new("fleet", "public", "routes").to_string(), "fleet.public.routes");
        assert_eq!(ObjectName::new("drop", "2025 q3", "Tariffs").to_string(), "drop.\"2025 q3\".\"Tariffs\"");
    }
}
