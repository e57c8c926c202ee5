//! Tables that a catalog defines rather than finds in its source: files below a path with their form and columns, or a stored query
//! in the source's own language.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;
use std::sync::atomic::AtomicU64;

use cobble_types::{Code, Error, Result, SqlType, TextForm};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct TableDefinition {
    /// Of files: the folder or file below the connection's address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Of files: patterns of names with commas between them, where a folder holds the files of several tables.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub files: Option<String>,
    /// `csv`, `json`, `parquet`, `avro`, `arrow` or `orc`; without it, what the files' names end in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// Of CSV: what stands between fields; found out where it is not given, like the two below.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<String>,
    /// Of CSV: what stands before a quote that is part of a quoted text; a second quote does in any case.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub escape: Option<String>,
    /// Of CSV: lines that begin with it are left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Of CSV: whether the first line names the columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<bool>,
    /// Of CSV: a name of the WHATWG Encoding Standard, such as `windows-1252`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// Of CSV: what begins the fraction of a number, and what stands between groups of three digits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimal: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub thousands: Option<String>,
    /// Of CSV: how dates are written, such as `DD.MM.YYYY`; a time of day may follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dates: Option<String>,
    /// Of CSV: words that stand for null, with commas between them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub nulls: Option<String>,
    /// Of files: found out at each use where there are none. A column that a file lacks is null there; one that is not here is not read.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<DefinedColumn>,
    /// Of databases: a query in the source's own language.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// Of a query: a column of whole numbers by whose ranges its rows are fetched in so many portions at the same time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split_on: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split_into: Option<u32>,
    /// Settings that stand in the place of the catalog's and the connection's.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
}

/// A column, written like `fare numeric(8,2)`, with a name that is no plain word in double quotes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct DefinedColumn {
    pub name: String,
    pub sql_type: SqlType,
}

impl fmt::Display for DefinedColumn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plain = self.name.chars().all(|c| c == '_' || c.is_alphanumeric()) && !self.name.is_empty();
        match plain {
            true => write!(f, "{} {}", self.name, self.sql_type),
            false => write!(f, "\"{}\" {}", self.name.replace('"', "\"\""), self.sql_type),
        }
    }
}

impl FromStr for DefinedColumn {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let bad = || {
            Error::new(Code::BadSetting, format!("\"{text}\" is no column with its type"))
                .hint("write it like fare numeric(8,2)")
        };
        let text = text.trim();
        let (name, sql_type) = match text.strip_prefix('"') {
            None => text.split_once(' ').map(|(name, rest)| (name.to_owned(), rest)).ok_or_else(bad)?,
            Some(quoted) => {
                let (name, rest) = quoted.rsplit_once("\" ").ok_or_else(bad)?;
                (name.replace("\"\"", "\""), rest)
            }
        };
        Ok(DefinedColumn { name, sql_type: sql_type.parse()? })
    }
}

impl TryFrom<String> for DefinedColumn {
    type Error = Error;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<DefinedColumn> for String {
    fn from(column: DefinedColumn) -> String {
        column.to_string()
    }
}

/// A query in a source's own language.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct NativeQuery {
    pub text: String,
    /// A column of whole numbers by whose ranges the rows are fetched in so many portions at the same time.
    pub split: Option<(String, u32)>,
}

impl NativeQuery {
    /// A query of these words, whose split is as a definition's.
    pub fn new(text: &str, split_on: Option<&str>, split_into: Option<u32>) -> Result<NativeQuery> {
        let definition = TableDefinition {
            query: Some(text.to_owned()),
            split_on: split_on.map(str::to_owned),
            split_into,
            ..TableDefinition::default()
        };
        definition.check("native_query()")?;
        Ok(NativeQuery { text: text.to_owned(), split: definition.split_on.zip(split_into) })
    }
}

/// Portions that a query may be split into.
const MOST_PORTIONS: u32 = 64;

impl TableDefinition {
    /// The text format of its files, as far as it is known.
    pub fn text_form(&self) -> TextForm {
        TextForm {
            delimiter: self.delimiter.clone(),
            quote: self.quote.clone(),
            escape: self.escape.clone(),
            comment: self.comment.clone(),
            header: self.header,
            encoding: self.encoding.clone(),
            decimal: self.decimal.clone(),
            thousands: self.thousands.clone(),
            dates: self.dates.clone(),
            nulls: self.nulls.clone(),
        }
    }

    /// The same table with its text files written so.
    #[must_use]
    pub fn with_text_form(&self, form: TextForm) -> TableDefinition {
        let TextForm { delimiter, quote, escape, comment, header, encoding, decimal, thousands, dates, nulls } = form;
        TableDefinition {
            delimiter,
            quote,
            escape,
            comment,
            header,
            encoding,
            decimal,
            thousands,
            dates,
            nulls,
            ..self.clone()
        }
    }

    /// Checks that the settings fit together. `name` is the table's name.
    pub fn check(&self, name: &str) -> Result<()> {
        let bad = |what: &str, hint: &str| {
            Err(Error::new(Code::BadSetting, format!("table {name}: {what}")).hint(hint.to_owned()))
        };
        match (&self.path, &self.query) {
            (None, None) => {
                return bad("neither a path nor a query is given", "give the path of its files, or its query");
            }
            (Some(_), Some(_)) => return bad("a path and a query are given", "give one of the two"),
            (None, Some(query)) if query.trim().is_empty() => return bad("its query is empty", "give a SELECT"),
            (None, Some(_)) => {
                let of_files = self.files.is_some()
                    || self.format.is_some()
                    || !self.text_form().is_silent()
                    || !self.columns.is_empty();
                if of_files {
                    return bad("a query has no files, format or columns of its own", "leave them out");
                }
            }
            (Some(_), None) if self.split_on.is_some() || self.split_into.is_some() => {
                return bad("only a query is split by a column", "files are read apart by themselves");
            }
            (Some(_), None) => {}
        }
        match (&self.split_on, self.split_into) {
            (None, None) | (Some(_), Some(2..=MOST_PORTIONS)) => {}
            (Some(_), Some(_)) => return bad("it cannot be split into so many portions", "give a number from 2 to 64"),
            _ => return bad("split_on and split_into go together", "give a column and a number of portions"),
        }
        for (place, column) in self.columns.iter().enumerate() {
            if self.columns[..place].iter().any(|known| known.name == column.name) {
                return bad(&format!("it has two columns named {}", column.name), "give each a name of its own");
            }
        }
        Ok(())
    }
}

/// What the definition says about the text format, before the file is inspected.
#[derive(Debug, Clone, Default)]
pub struct Forms {
    /// Said of all of them.
    pub said: TextForm,
    /// Tables that are defined already: what their values mean is not guessed again.
    pub known: Vec<TableDefinition>,
}

impl Forms {
    /// For the files of a folder.
    pub fn of(&self, path: &str) -> TextForm {
        let known = self.known.iter().find(|known| known.path.as_deref() == Some(path));
        match known.filter(|_| self.said.is_silent()) {
            // Where fields end is found out again: the files may be others by now.
            Some(known) => TextForm { delimiter: None, quote: None, header: None, ..known.text_form() },
            None => self.said.clone(),
        }
    }
}

/// A table that was found in files.
#[derive(Debug, Clone, PartialEq)]
pub struct Discovered {
    pub schema: String,
    pub table: String,
    pub definition: TableDefinition,
    pub partitions: Vec<DefinedColumn>,
    pub files: usize,
    pub bytes: u64,
    /// What is worth knowing of it: files of other types, files that were not looked into.
    pub notes: Vec<String>,
    /// Why it cannot be one table as it stands.
    pub problem: Option<String>,
}

/// A look into files that is under way: how far it is, and a way to end it.
#[derive(Debug, Default)]
pub struct Looking {
    pub cancel: CancellationToken,
    /// Files looked into, of those to be.
    pub looked: AtomicU64,
    pub files: AtomicU64,
}

impl Looking {
    pub fn check(&self) -> Result<()> {
        match self.cancel.is_cancelled() {
            true => Err(Error::new(Code::Cancelled, "the discovery was cancelled")),
            false => Ok(()),
        }
    }
}

/// What a look into all files below a path has found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Discovery {
    pub tables: Vec<Discovered>,
    /// Files that are no data that the engine reads.
    pub others: Vec<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_written_and_read() {
        for text in ["fare numeric(8,2)", "\"a b\" double precision", "\"say \"\"hi\"\"\" text", "größe row(a bigint)"]
        {
            assert_eq!(text.parse::<DefinedColumn>().unwrap().to_string(), text);
        }
        for text in ["fare", "fare mony", "\"a b text", ""] {
            assert!(text.parse::<DefinedColumn>().is_err(), "{text}");
        }
    }
}
