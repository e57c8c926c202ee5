//! Functions that users make with CREATE FUNCTION. One in SQL is an expression, put in the place of its call while binding, so
//! that sources see through it. One in a script language is run by the engine and is opaque to every source.

use std::fmt;

use cobble_functions::{Entry, Kind};
use cobble_types::SqlType;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FunctionLanguage {
    Sql,
    Script,
}

impl FunctionLanguage {
    pub fn word(self) -> &'static str {
        match self {
            FunctionLanguage::Sql => "sql",
            FunctionLanguage::Script => "script",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct UserFunction {
    pub name: String,
    pub parameters: Vec<(String, SqlType)>,
    pub result: SqlType,
    pub language: FunctionLanguage,
    /// The expression after RETURN, or the script.
    pub body: String,
    /// Gives another value at every call.
    pub volatile: bool,
    /// Null as soon as one argument is; never called then.
    pub strict: bool,
}

impl UserFunction {
    /// The arguments as they are declared.
    pub fn arguments(&self) -> String {
        self.parameters.iter().map(|(name, t)| format!("{name} {t}")).collect::<Vec<_>>().join(", ")
    }

    /// The function among all others.
    pub fn entry(&self) -> Entry {
        Entry {
            name: self.name.clone().into(),
            arguments: self.arguments().into(),
            kind: match self.language {
                FunctionLanguage::Sql => Kind::UserSql,
                FunctionLanguage::Script => Kind::UserScript,
            },
            returns: Some(self.result.to_string()),
            about: "".into(),
        }
    }
}

/// The statement that makes it.
impl fmt::Display for UserFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CREATE FUNCTION {}({}) RETURNS {}", self.name, self.arguments(), self.result)?;
        if self.volatile {
            f.write_str(" VOLATILE")?;
        }
        if self.strict {
            f.write_str(" STRICT")?;
        }
        match self.language {
            FunctionLanguage::Sql => write!(f, " RETURN {}", self.body),
            FunctionLanguage::Script => write!(f, " LANGUAGE script AS $${}$$", self.body),
        }
    }
}
