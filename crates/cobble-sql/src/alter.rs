//! ALTER TABLE: changes of columns as PostgreSQL has them, of the order of columns, of partitions, order and properties.

use std::collections::BTreeMap;

use cobble_plan::alter::Alteration;
use cobble_types::{Code, Error, Result};
use sqlparser::tokenizer::Token;

use crate::objects::WrittenName;
use crate::statement::{Statement, Words};

/// `ALTER TABLE name change, …`
#[derive(Debug, Clone)]
pub struct AlterTable {
    pub table: WrittenName,
    pub if_exists: bool,
    pub changes: Vec<Alteration>,
}

impl Words<'_> {
    /// What stands after ALTER TABLE.
    pub(crate) fn alter_table(mut self) -> Result<Statement> {
        let if_exists = self.if_exists()?;
        let table = self.written_name("a table")?;
        let mut changes = vec![self.alteration()?];
        while self.take_token(&Token::Comma) {
            changes.push(self.alteration()?);
        }
        self.end()?;
        Ok(Statement::AlterTable(AlterTable { table, if_exists, changes }))
    }

    fn column(&mut self) -> Result<Vec<String>> {
        self.take("column");
        self.name("the name of a column")
    }

    fn alteration(&mut self) -> Result<Alteration> {
        let position = self.position();
        if self.take("add") {
            let (name, sql_type) = (self.column()?, self.type_name()?);
            let mut not_null = false;
            if self.take("not") {
                not_null = true;
                if !self.take("null") {
                    return self.expected("NULL");
                }
            }
            return Ok(Alteration::AddColumn { name, sql_type, not_null });
        }
        if self.take("drop") {
            return Ok(Alteration::DropColumn { name: self.column()? });
        }
        if self.take("rename") {
            if self.take("to") {
                return Err(Error::unsupported("renaming a table")
                    .hint("CREATE TABLE … AS makes it under another name")
                    .at(position));
            }
            let name = self.column()?;
            if !self.take("to") {
                return self.expected("TO");
            }
            return Ok(Alteration::RenameColumn { name, to: self.plain_name("the new name")? });
        }
        if self.take("alter") {
            let name = self.column()?;
            return self.altered_column(name);
        }
        if self.take("set") {
            if let Some(fields) = self.clause("partition")? {
                return Ok(Alteration::PartitionBy(fields));
            }
            if let Some(keys) = self.clause("order")? {
                return Ok(Alteration::OrderBy(keys));
            }
            return Ok(Alteration::Set(self.listed_options()?));
        }
        if self.take("reset") {
            if !self.take_token(&Token::LParen) {
                return self.expected("\"(\" and names of properties");
            }
            let mut names = vec![self.property_name("the name of a property")?];
            while self.take_token(&Token::Comma) {
                names.push(self.property_name("the name of a property")?);
            }
            if !self.take_token(&Token::RParen) {
                return self.expected("\",\" or \")\"");
            }
            return Ok(Alteration::Reset(names));
        }
        self.expected("ADD, DROP, RENAME or ALTER and a column, SET or RESET")
    }

    fn altered_column(&mut self, name: Vec<String>) -> Result<Alteration> {
        if self.take("first") {
            return Ok(Alteration::Move { name, after: None });
        }
        if self.take("after") {
            return Ok(Alteration::Move { name, after: Some(self.plain_name("the name of a column")?) });
        }
        if self.take("drop") {
            let position = self.position();
            if self.take("default") {
                return Err(Error::unsupported("DEFAULT of a column").at(position));
            }
            if !(self.take("not") && self.take("null")) {
                return self.expected("NOT NULL");
            }
            return Ok(Alteration::DropNotNull { name });
        }
        let position = self.position();
        if self.take("set") && !self.take("data") {
            return Err(Error::new(Code::Unsupported, "columns take no new NOT NULL and no DEFAULT").at(position));
        }
        if !self.take("type") {
            return self.expected("TYPE, DROP NOT NULL, FIRST or AFTER");
        }
        Ok(Alteration::Widen { name, sql_type: self.type_name()? })
    }

    /// A name with points, and with hyphens between words: `write.target-file-size-bytes`.
    fn property_name(&mut self, what: &str) -> Result<String> {
        let mut name = self.name(what)?.join(".");
        while self.take_token(&Token::Minus) {
            name = format!("{name}-{}", self.name(what)?.join("."));
        }
        Ok(name)
    }

    /// `(name = value, …)`
    pub(crate) fn listed_options(&mut self) -> Result<BTreeMap<String, String>> {
        if !self.take_token(&Token::LParen) {
            return self.expected("\"(\" and what the table is to be like");
        }
        let mut options = BTreeMap::new();
        while !self.take_token(&Token::RParen) {
            if !options.is_empty() && !self.take_token(&Token::Comma) {
                return self.expected("\",\" or \")\"");
            }
            let name = self.property_name("a name, such as format")?;
            if !self.take_token(&Token::Eq) {
                return self.expected("\"=\"");
            }
            let value = match self.peek() {
                Some(Token::SingleQuotedString(text)) => text.clone(),
                Some(Token::Number(number, _)) => number.clone(),
                Some(Token::Word(word)) => word.value.clone(),
                _ => return self.expected("a value"),
            };
            self.at += 1;
            options.insert(name, value);
        }
        Ok(options)
    }

    /// `PARTITION BY (…)` or `ORDER BY (…)`, as what stands in the parentheses is written.
    pub(crate) fn clause(&mut self, word: &str) -> Result<Option<String>> {
        if !self.take(word) {
            return Ok(None);
        }
        if !(self.take("by") && self.take_token(&Token::LParen)) {
            return self.expected("BY and columns in parentheses");
        }
        let (mut text, mut depth, mut after_word) = (String::new(), 1, false);
        while let Some(token) = self.peek().cloned() {
            match token {
                Token::LParen => depth += 1,
                Token::RParen => depth -= 1,
                Token::SemiColon => break,
                _ => {}
            }
            self.at += 1;
            if depth == 0 {
                return Ok(Some(text));
            }
            let is_word = matches!(token, Token::Word(_));
            if is_word && after_word {
                text.push(' ');
            }
            after_word = is_word;
            text.push_str(&token.to_string());
        }
        self.expected("\")\"")
    }
}
