//! Types read from the names that [`SqlType`] is shown with, and from those that people write for the same.

use std::str::FromStr;

use crate::{Code, Error, RowField, SqlType};

const NAMES: &[(&str, SqlType)] = &[
    ("boolean", SqlType::Boolean),
    ("bool", SqlType::Boolean),
    ("smallint", SqlType::SmallInt),
    ("integer", SqlType::Integer),
    ("int", SqlType::Integer),
    ("bigint", SqlType::BigInt),
    ("real", SqlType::Real),
    ("double precision", SqlType::Double),
    ("double", SqlType::Double),
    ("text", SqlType::Text),
    ("varchar", SqlType::Text),
    ("bytea", SqlType::Bytea),
    ("date", SqlType::Date),
    ("time", SqlType::Time),
    ("timestamp", SqlType::Timestamp),
    ("timestamptz", SqlType::TimestampTz),
    ("interval", SqlType::Interval),
    ("uuid", SqlType::Uuid),
    ("json", SqlType::Json),
];

impl FromStr for SqlType {
    type Err = Error;

    fn from_str(text: &str) -> Result<SqlType, Error> {
        let text = text.trim();
        if let Some(item) = text.strip_suffix("[]") {
            return Ok(SqlType::Array(Box::new(item.parse()?)));
        }
        let lower = text.to_ascii_lowercase();
        if let Some((_, known)) = NAMES.iter().find(|(name, _)| *name == lower) {
            return Ok(known.clone());
        }
        let inner = |name: &str| {
            let rest = text.get(name.len()..).filter(|_| lower.starts_with(name))?;
            rest.trim_start().strip_prefix('(')?.strip_suffix(')')
        };
        if let Some(digits) = inner("numeric").or_else(|| inner("decimal")) {
            let (precision, scale) = digits.split_once(',').unwrap_or((digits, "0"));
            return match (precision.trim().parse(), scale.trim().parse()) {
                (Ok(precision @ 1..=38), Ok(scale)) if (0..=precision as i8).contains(&scale) => {
                    Ok(SqlType::Numeric { precision, scale })
                }
                _ => Err(Error::new(Code::InvalidValue, format!("{text} is not possible"))
                    .hint("numerics have 1 to 38 digits, of which none to all stand after the point")),
            };
        }
        if let Some(fields) = inner("row") {
            let field = |text: &str| {
                let (name, sql_type) = text.trim().split_once(' ').ok_or_else(|| unknown(text))?;
                Ok(RowField { name: name.to_owned(), sql_type: sql_type.parse()? })
            };
            return Ok(SqlType::Row(outermost_parts(fields).into_iter().map(field).collect::<Result<_, Error>>()?));
        }
        Err(unknown(text))
    }
}

fn unknown(text: &str) -> Error {
    Error::unknown("type", text, NAMES.iter().map(|(name, _)| *name).chain(["numeric(18,2)"]))
}

/// What stands between commas that are in no parentheses.
fn outermost_parts(text: &str) -> Vec<&str> {
    let (mut parts, mut depth, mut start) = (Vec::new(), 0usize, 0);
    for (place, c) in text.char_indices() {
        match c {
            '(' => depth += 1,
            ')' => depth = depth.saturating_sub(1),
            ',' if depth == 0 => {
                parts.push(&text[start..place]);
                start = place + 1;
            }
            _ => {}
        }
    }
    if !text.trim().is_empty() {
        parts.push(&text[start..]);
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_shown_can_be_read() {
        for text in [
            "bigint",
            "double precision",
            "numeric(18,2)",
            "text[]",
            "row(height double precision, at row(day date, tags text[]))[]",
            "row()",
            "timestamptz",
        ] {
            assert_eq!(text.parse::<SqlType>().unwrap().to_string(), text);
        }
        assert_eq!(" Decimal( 8 , 2 ) ".parse::<SqlType>().unwrap(), SqlType::Numeric { precision: 8, scale: 2 });
        for text in ["", "bigit", "numeric(39,0)", "numeric(2,3)", "row(a)", "[]"] {
            assert!(text.parse::<SqlType>().is_err(), "{text}");
        }
        assert_eq!("bigit".parse::<SqlType>().unwrap_err().hint.as_deref(), Some("did you mean \"bigint\"?"));
    }
}
