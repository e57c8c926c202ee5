//! CREATE TIERED TABLE: one name for a table of recent rows and one of older rows.

use cobble_types::{Code, Error, Result};
use sqlparser::tokenizer::Token;

use crate::objects::WrittenName;
use crate::statement::{Statement, Words};

/// `CREATE TIERED TABLE [IF NOT EXISTS] name RECENT table OLDER table BY column [BOUNDARY 'value']`
#[derive(Debug, Clone)]
pub struct CreateTiers {
    pub name: WrittenName,
    pub if_not_exists: bool,
    pub recent: WrittenName,
    pub older: WrittenName,
    pub by: String,
    pub boundary: Option<String>,
}

impl Words<'_> {
    /// What stands after CREATE TIERED.
    pub(crate) fn create_tiers(mut self) -> Result<Statement> {
        if !self.take("table") {
            return self.expected("TABLE");
        }
        let if_not_exists = self.if_not_exists()?;
        let name = self.written_name("the name of the table")?;
        let mut part = |word: &str, what: &str| match self.take(word) {
            true => self.written_name(what),
            false => self.expected(&format!("{} and {what}", word.to_uppercase())),
        };
        let recent = part("recent", "the table of recent rows")?;
        let older = part("older", "the table of older rows")?;
        let by = part("by", "the column that the boundary is about")?;
        let [by] = by.parts.as_slice() else {
            return Err(Error::new(Code::Syntax, format!("expected a column, found \"{}\"", by.parts.join(".")))
                .at(by.position));
        };
        let by = by.clone();
        let mut boundary = None;
        if self.take("boundary") {
            boundary = match self.peek() {
                Some(Token::SingleQuotedString(text)) => Some(text.clone()),
                Some(Token::Number(text, _)) => Some(text.clone()),
                _ => return self.expected("the first value of recent rows, between quotation marks"),
            };
            self.at += 1;
        }
        self.end()?;
        Ok(Statement::CreateTiers(CreateTiers { name, if_not_exists, recent, older, by, boundary }))
    }
}
