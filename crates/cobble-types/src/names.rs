//! Names of things: three-part object names, the identity of a column in a plan, and the closest known name to a misspelt one.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{Code, Error, Result};

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

/// A text as a constant of SQL.
pub fn quote_literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Words that PostgreSQL's `quote_ident` puts in quotes, as they mean something of their own (manual, appendix C).
const RESERVED: &[&str] = &[
    "all",
    "analyse",
    "analyze",
    "and",
    "any",
    "array",
    "as",
    "asc",
    "asymmetric",
    "authorization",
    "between",
    "bigint",
    "binary",
    "bit",
    "boolean",
    "both",
    "case",
    "cast",
    "char",
    "character",
    "check",
    "coalesce",
    "collate",
    "collation",
    "column",
    "concurrently",
    "constraint",
    "create",
    "cross",
    "current_catalog",
    "current_date",
    "current_role",
    "current_schema",
    "current_time",
    "current_timestamp",
    "current_user",
    "dec",
    "decimal",
    "default",
    "deferrable",
    "desc",
    "distinct",
    "do",
    "else",
    "end",
    "except",
    "exists",
    "extract",
    "false",
    "fetch",
    "float",
    "for",
    "foreign",
    "freeze",
    "from",
    "full",
    "grant",
    "greatest",
    "group",
    "grouping",
    "having",
    "ilike",
    "in",
    "initially",
    "inner",
    "inout",
    "int",
    "integer",
    "intersect",
    "interval",
    "into",
    "is",
    "isnull",
    "join",
    "lateral",
    "leading",
    "least",
    "left",
    "like",
    "limit",
    "localtime",
    "localtimestamp",
    "national",
    "natural",
    "nchar",
    "none",
    "normalize",
    "not",
    "notnull",
    "null",
    "nullif",
    "numeric",
    "offset",
    "on",
    "only",
    "or",
    "order",
    "out",
    "outer",
    "overlaps",
    "overlay",
    "placing",
    "position",
    "precision",
    "primary",
    "real",
    "references",
    "returning",
    "right",
    "row",
    "select",
    "session_user",
    "setof",
    "similar",
    "smallint",
    "some",
    "substring",
    "symmetric",
    "table",
    "tablesample",
    "then",
    "time",
    "timestamp",
    "to",
    "trailing",
    "treat",
    "trim",
    "true",
    "union",
    "unique",
    "user",
    "using",
    "values",
    "varchar",
    "variadic",
    "verbose",
    "when",
    "where",
    "window",
    "with",
    "xmlattributes",
    "xmlconcat",
    "xmlelement",
    "xmlexists",
    "xmlforest",
    "xmlnamespaces",
    "xmlparse",
    "xmlpi",
    "xmlroot",
    "xmlserialize",
    "xmltable",
];

/// The name as it can be written in SQL, in quotes only where it needs them.
pub fn quote_where_needed(name: &str) -> String {
    let plain =
        name.chars().enumerate().all(|(i, c)| c == '_' || c.is_ascii_lowercase() || (i > 0 && c.is_ascii_digit()));
    if plain && !name.is_empty() && !RESERVED.contains(&name) { name.to_owned() } else { quote_identifier(name) }
}

/// The parts of a dotted name as it is written in SQL: in lower case unless quoted (PostgreSQL manual 9.4, parse_ident).
///
/// # Errors
/// If the text does not begin with a name or, with `strict`, if something follows the name.
pub fn parse_identifier(text: &str, strict: bool) -> Result<Vec<String>> {
    let wrong = |what: &str| Error::new(Code::InvalidValue, format!("\"{text}\" is not a name: {what}"));
    let (mut parts, mut rest) = (Vec::new(), text.trim_start());
    loop {
        if let Some(quoted) = rest.strip_prefix('"') {
            let mut part = String::new();
            let mut after = quoted;
            loop {
                let (inside, behind) = after.split_once('"').ok_or_else(|| wrong("a quote is not closed"))?;
                part.push_str(inside);
                match behind.strip_prefix('"') {
                    Some(_) => part.push('"'),
                    None => {
                        rest = behind;
                        break;
                    }
                }
                after = &behind[1..];
            }
            if part.is_empty() {
                return Err(wrong("a quoted name is empty"));
            }
            parts.push(part);
        } else {
            let goes_on = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '$' || !c.is_ascii();
            let end = rest.find(|c| !goes_on(c)).unwrap_or(rest.len());
            let begins = rest.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_' || !c.is_ascii());
            if !begins {
                let place = if parts.is_empty() { "it begins with none" } else { "there is none after a dot" };
                return Err(wrong(place));
            }
            parts.push(rest[..end].to_lowercase());
            rest = &rest[end..];
        }
        rest = rest.trim_start();
        match rest.strip_prefix('.') {
            Some(more) => rest = more.trim_start(),
            None if rest.is_empty() || !strict => return Ok(parts),
            None => return Err(wrong("something stands behind it")),
        }
    }
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
