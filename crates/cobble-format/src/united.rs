//! The columns of several files as those of one table: by name, each with the narrowest type that holds the values of all files.

use std::path::Path;

use cobble_plan::logical::TableColumn;
use cobble_types::SqlType;

/// The type that holds the values of both, if there is one.
pub type Wider = fn(&SqlType, &SqlType) -> Option<SqlType>;

/// Two files whose types for a column have no common one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    pub column: String,
    pub path: String,
    pub sql_type: SqlType,
    pub other_path: String,
    pub other_type: SqlType,
}

impl Conflict {
    pub fn words(&self) -> String {
        format!("column {} is {}, and {} in {}", self.column, self.sql_type, self.other_type, self.other_path)
    }
}

pub struct United {
    wider: Wider,
    /// With the file that each was first found in.
    columns: Vec<(TableColumn, String)>,
    files: usize,
    pub conflicts: Vec<Conflict>,
    /// A column whose types were brought together: what it became, with the two.
    pub widened: Vec<(String, SqlType, SqlType, SqlType)>,
}

impl United {
    pub fn new(wider: Wider) -> Self {
        United { wider, columns: vec![], files: 0, conflicts: vec![], widened: vec![] }
    }

    pub fn take(&mut self, path: &Path, columns: Vec<TableColumn>) {
        // Nearly always all files are alike.
        let alike = |((known, _), column): (&(TableColumn, String), &TableColumn)| {
            known.name == column.name && known.sql_type == column.sql_type
        };
        if self.columns.len() == columns.len() && self.columns.iter().zip(&columns).all(alike) {
            self.columns.iter_mut().zip(&columns).for_each(|((known, _), column)| known.nullable |= column.nullable);
            self.files += 1;
            return;
        }
        let path = path.display().to_string();
        for (known, _) in &mut self.columns {
            known.nullable |= columns.iter().all(|column| column.name != known.name);
        }
        for column in columns {
            let Some((known, from)) = self.columns.iter_mut().find(|(known, _)| known.name == column.name) else {
                let nullable = column.nullable || self.files > 0;
                self.columns.push((TableColumn { nullable, ..column }, path.clone()));
                continue;
            };
            known.nullable |= column.nullable;
            if known.sql_type == column.sql_type {
                continue;
            }
            match (self.wider)(&known.sql_type, &column.sql_type) {
                Some(both) => {
                    if both != known.sql_type {
                        let name = known.name.clone();
                        let before = std::mem::replace(&mut known.sql_type, both.clone());
                        self.widened.push((name, before, column.sql_type, both));
                    }
                }
                None => self.conflicts.push(Conflict {
                    column: column.name,
                    path: path.clone(),
                    sql_type: column.sql_type,
                    other_path: from.clone(),
                    other_type: known.sql_type.clone(),
                }),
            }
        }
        self.files += 1;
    }

    pub fn columns(self) -> Vec<TableColumn> {
        self.columns.into_iter().map(|(column, _)| column).collect()
    }
}

/// For values that have their types in the files: no value changes on its way to the wider type, and no order of values.
pub fn wider(a: &SqlType, b: &SqlType) -> Option<SqlType> {
    use SqlType::*;
    if a == b {
        return Some(a.clone());
    }
    match (a, b) {
        (SmallInt | Integer | BigInt, SmallInt | Integer | BigInt) => {
            Some(if *a == BigInt || *b == BigInt { BigInt } else { Integer })
        }
        (Real, Double) | (Double, Real) => Some(Double),
        (SmallInt | Integer, Double) | (Double, SmallInt | Integer) => Some(Double),
        (SmallInt, Real) | (Real, SmallInt) => Some(Real),
        (Date, Timestamp) | (Timestamp, Date) => Some(Timestamp),
        (Null, other) | (other, Null) => Some(other.clone()),
        _ => {
            let ((p, s), (q, t)) = (a.digits()?, b.digits()?);
            let scale = s.max(t);
            let whole = (i16::from(p) - i16::from(s)).max(i16::from(q) - i16::from(t));
            let precision = u8::try_from(whole + i16::from(scale)).ok()?;
            (precision <= 38).then_some(Numeric { precision, scale })
        }
    }
}

/// For texts, which can be read as another type than one guessed at first; text holds them all.
pub fn wider_text(a: &SqlType, b: &SqlType) -> Option<SqlType> {
    use SqlType::*;
    match (a, b) {
        (Array(_) | Row(_), _) | (_, Array(_) | Row(_)) => crate::merge_types(a.clone(), b.clone()).ok(),
        (BigInt | Numeric { .. }, Double) | (Double, BigInt | Numeric { .. }) => Some(Double),
        _ => Some(wider(a, b).unwrap_or(Text)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::infer::column;

    #[test]
    fn the_wider_type_holds_both() {
        let t = |text: &str| text.parse::<SqlType>().unwrap();
        for (a, b, typed, text) in [
            ("integer", "bigint", "bigint", "bigint"),
            ("bigint", "double precision", "none", "double precision"),
            ("integer", "double precision", "double precision", "double precision"),
            ("bigint", "numeric(8,2)", "numeric(21,2)", "numeric(21,2)"),
            ("numeric(38,0)", "numeric(38,10)", "none", "text"),
            ("date", "timestamp", "timestamp", "timestamp"),
            ("date", "bigint", "none", "text"),
            ("text", "bigint", "none", "text"),
            ("row(a bigint)", "row(a double precision, b text)", "none", "row(a double precision, b text)"),
            ("text[]", "bigint", "none", "none"),
        ] {
            let shown = |found: Option<SqlType>| found.map_or("none".to_owned(), |t| t.to_string());
            assert_eq!(
                (shown(wider(&t(a), &t(b))), shown(wider(&t(b), &t(a)))),
                (typed.into(), typed.into()),
                "{a} {b}"
            );
            assert_eq!(shown(wider_text(&t(a), &t(b))), text, "{a} {b}");
        }
    }

    #[test]
    fn columns_are_united_by_name() {
        let mut all = United::new(wider);
        all.take(Path::new("a"), vec![column("id", SqlType::Integer), column("day", SqlType::Date)]);
        all.take(Path::new("b"), vec![column("note", SqlType::Text), column("id", SqlType::BigInt)]);
        all.take(Path::new("c"), vec![column("id", SqlType::Text)]);
        let words: Vec<String> = all.conflicts.iter().map(Conflict::words).collect();
        assert_eq!(words, ["column id is text, and bigint in a"]);
        let columns: Vec<String> = all.columns().iter().map(|c| format!("{} {}", c.name, c.sql_type)).collect();
        assert_eq!(columns, ["id bigint", "day date", "note text"]);
    }
}
