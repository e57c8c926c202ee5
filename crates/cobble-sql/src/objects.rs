//! Statements that make, change and drop tables, views and functions, and those that speak of transactions.

use std::collections::BTreeMap;

use cobble_plan::{FunctionLanguage, UserFunction, UserView};
use cobble_types::deep::Deep;
use cobble_types::{Code, Error, Position, Result, SqlType};
use sqlparser::ast;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::Token;

use crate::statement::{LineStarts, Statement, Words, is_word};

/// The name of an object as a statement writes it, folded to lower case unless quoted, and its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrittenName {
    pub parts: Vec<String>,
    pub position: Option<Position>,
}

/// A query whose rows are kept, as a new table or beside those of one that is there.
#[derive(Debug, Clone)]
pub struct Write {
    pub table: WrittenName,
    pub create: bool,
    /// Nothing is done, and nothing is wrong, when a new table is there already.
    pub if_not_exists: bool,
    /// The names of a new table's first columns, or the columns that rows are given for; those of the query or the table when empty.
    pub columns: Vec<String>,
    /// What `WITH (name = value, …)` says of a new table.
    pub options: BTreeMap<String, String>,
    pub query: Deep<ast::Query>,
    /// What RETURNING makes of the rows of a table that is there.
    pub returning: Option<Deep<ast::Query>>,
}

/// A new table without rows.
#[derive(Debug, Clone, PartialEq)]
pub struct CreateTable {
    pub table: WrittenName,
    pub if_not_exists: bool,
    pub columns: Vec<(String, SqlType)>,
    /// Tables whose columns it has too.
    pub likes: Vec<Like>,
    /// Columns that take no nulls.
    pub not_null: Vec<String>,
    pub primary_key: Vec<String>,
    pub options: BTreeMap<String, String>,
}

/// `LIKE table [INCLUDING ALL]` among the columns of a new table.
#[derive(Debug, Clone, PartialEq)]
pub struct Like {
    pub table: WrittenName,
    /// How many of the columns come before those of this table.
    pub place: usize,
    /// How the table's rows are kept (partitions, order, properties) is that of this one, too.
    pub all: bool,
}

/// A view of the service's own catalog.
#[derive(Debug, Clone)]
pub struct CreateView {
    pub name: WrittenName,
    /// Without the place that its names are looked up in.
    pub view: UserView,
    /// Its query, with places in this statement.
    pub query: Deep<ast::Query>,
    pub replace: bool,
    pub if_not_exists: bool,
    /// Only this session has it, and it goes with the session.
    pub temporary: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transaction {
    Begin,
    Commit,
    Rollback,
}

impl Words<'_> {
    pub(crate) fn create(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        let replace = self.take("or");
        if replace && !self.take("replace") {
            return self.expected("REPLACE");
        }
        let position = self.position();
        if self.take("temporary") || self.take("temp") {
            if self.take("view") {
                return self.create_view(replace, true, lines, text);
            }
            return Err(Error::unsupported("a temporary table or function")
                .hint("CREATE TEMPORARY VIEW is for one session; WITH is for one statement")
                .at(position));
        }
        for (word, why) in [
            ("recursive", "CREATE RECURSIVE VIEW"),
            ("materialized", "a materialized view"),
            ("unlogged", "an unlogged table"),
        ] {
            if self.take(word) {
                let hint = match word {
                    "recursive" => "write CREATE VIEW name AS WITH RECURSIVE …",
                    "materialized" => "keep the rows with CREATE TABLE … AS",
                    _ => "leave the word out",
                };
                return Err(Error::unsupported(why).hint(hint).at(position));
            }
        }
        if self.take("view") {
            return self.create_view(replace, false, lines, text);
        }
        if !replace && self.take("table") {
            return self.create_table();
        }
        if !replace && self.take("tiered") {
            return self.create_tiers();
        }
        if self.take("function") {
            return self.create_function(replace, lines, text);
        }
        self.expected(if replace { "VIEW or FUNCTION" } else { "TABLE, VIEW or FUNCTION" })
    }

    pub(crate) fn if_exists(&mut self) -> Result<bool> {
        let found = self.take("if");
        if found && !self.take("exists") {
            return self.expected("EXISTS");
        }
        Ok(found)
    }

    pub(crate) fn if_not_exists(&mut self) -> Result<bool> {
        let found = self.take("if");
        if found && !(self.take("not") && self.take("exists")) {
            return self.expected("NOT EXISTS");
        }
        Ok(found)
    }

    pub(crate) fn written_name(&mut self, what: &str) -> Result<WrittenName> {
        let position = self.position();
        Ok(WrittenName { parts: self.name(what)?, position })
    }

    fn written_names(&mut self, what: &str) -> Result<Vec<WrittenName>> {
        let mut names = vec![self.written_name(what)?];
        while self.take_token(&Token::Comma) {
            names.push(self.written_name(what)?);
        }
        Ok(names)
    }

    /// One name that is no path.
    pub(crate) fn plain_name(&mut self, what: &str) -> Result<String> {
        let written = self.written_name(what)?;
        match written.parts.as_slice() {
            [name] => Ok(name.clone()),
            parts => Err(Error::new(Code::Syntax, format!("expected {what}, found \"{}\"", parts.join(".")))
                .at(written.position)),
        }
    }

    /// Names up to the closing parenthesis; the opening one has been consumed.
    fn plain_names(&mut self, what: &str) -> Result<Vec<String>> {
        let mut names = vec![self.plain_name(what)?];
        while self.take_token(&Token::Comma) {
            names.push(self.plain_name(what)?);
        }
        if !self.take_token(&Token::RParen) {
            return self.expected("\",\" or \")\"");
        }
        Ok(names)
    }

    /// `[IF NOT EXISTS] name [(column, …)] AS query`.
    fn create_view(mut self, replace: bool, temporary: bool, lines: &LineStarts, text: &str) -> Result<Statement> {
        let if_not_exists = self.if_not_exists()?;
        let name = self.written_name("the name of a view")?;
        let columns = if self.take_token(&Token::LParen) { self.plain_names("the name of a column")? } else { vec![] };
        if self.take("with") {
            return Err(Error::unsupported("WITH for a view").hint("views are only read").at(self.position()));
        }
        if !self.take("as") {
            return self.expected("AS and a query");
        }
        let view = UserView { query: self.rest(lines, text), columns, ..UserView::default() };
        Ok(Statement::CreateView(CreateView { name, view, query: self.query()?, replace, if_not_exists, temporary }))
    }

    /// `INTO table [(column, …)] query`.
    pub(crate) fn insert(mut self) -> Result<Statement> {
        if !self.take("into") {
            return self.expected("INTO and a table");
        }
        let table = self.written_name("a table")?;
        // A parenthesis begins the list of columns, or the query.
        let starts_query = |token: Option<&Token>| {
            matches!(token, Some(Token::LParen))
                || matches!(token, Some(Token::Word(w)) if w.quote_style.is_none()
                    && ["select", "with", "values", "table"].contains(&w.value.to_lowercase().as_str()))
        };
        let list = self.peek() == Some(&Token::LParen) && !starts_query(self.tokens.get(self.at + 1).map(|t| &t.token));
        let mut columns = vec![];
        if list {
            self.at += 1;
            columns = self.plain_names("the name of a column")?;
        }
        if self.take("replacing") {
            return self.insert_replacing(table, columns);
        }
        let position = self.position();
        if self.take("default") {
            return Err(Error::unsupported("INSERT … DEFAULT VALUES").hint("give a value for one column").at(position));
        }
        // No query has this word outside of parentheses.
        let mut depth = 0_usize;
        let place = self.tokens[self.at..].iter().position(|token| {
            match token.token {
                Token::LParen => depth += 1,
                Token::RParen => depth = depth.saturating_sub(1),
                _ => {}
            }
            depth == 0 && is_word(token, "returning")
        });
        let end = place.map_or(self.tokens.len(), |place| self.at + place);
        let query = Words { tokens: &self.tokens[..end], at: self.at }.query()?;
        let mut returning = None;
        if place.is_some() {
            self.at = end + 1;
            let items = self.parsed(|parser| parser.parse_comma_separated(Parser::parse_select_item))?;
            self.end()?;
            let name = ast::Ident::with_quote('"', table.parts.last().cloned().unwrap_or_default());
            returning = Some(crate::change::returning(&name, items)?);
        }
        let write =
            Write { table, create: false, if_not_exists: false, columns, options: BTreeMap::new(), query, returning };
        Ok(Statement::Write(write))
    }

    /// `(condition) query` behind INSERT INTO a table REPLACING.
    fn insert_replacing(mut self, table: WrittenName, columns: Vec<String>) -> Result<Statement> {
        if !self.take_token(&Token::LParen) {
            return self.expected("\"(\" and the condition of the rows that go");
        }
        let condition = self.parsed(|parser| parser.parse_expr())?;
        if !self.take_token(&Token::RParen) {
            return self.expected("\")\"");
        }
        let columns = columns.into_iter().map(|name| (name, table.position)).collect();
        let change = crate::change::replacing(&table, columns, condition, self.query()?)?;
        Ok(Statement::Change(change))
    }

    /// `[IF NOT EXISTS] name (column type, …) [WITH (…)]`, or `[IF NOT EXISTS] name [(column, …)] [WITH (…)] AS query`.
    fn create_table(mut self) -> Result<Statement> {
        let if_not_exists = self.if_not_exists()?;
        let table = self.written_name("a table")?;
        let (mut columns, mut not_null, mut primary_key) = (Vec::new(), Vec::new(), Vec::new());
        let (mut typed, mut likes) = (false, Vec::new());
        if self.take_token(&Token::LParen) {
            loop {
                let position = self.position();
                if self.take("like") {
                    typed = true;
                    likes.push(self.like(columns.len())?);
                    if self.take_token(&Token::RParen) {
                        break;
                    }
                    if !self.take_token(&Token::Comma) {
                        return self.expected("\",\" or \")\"");
                    }
                    continue;
                }
                let constraint = self.tokens.get(self.at).is_some_and(|t| {
                    ["primary", "unique", "check", "foreign", "constraint"].iter().any(|w| is_word(t, w))
                });
                if constraint {
                    if !(self.take("primary") && self.take("key") && self.take_token(&Token::LParen)) {
                        return Err(refused_constraint().at(position));
                    }
                    if !primary_key.is_empty() {
                        return Err(Error::new(Code::Syntax, "a table has one primary key").at(position));
                    }
                    primary_key = self.plain_names("the name of a column")?;
                } else {
                    let name = self.plain_name("the name of a column")?;
                    let sql_type = match self.peek() {
                        Some(Token::Comma | Token::RParen) => SqlType::Null,
                        _ => {
                            typed = true;
                            self.type_name()?
                        }
                    };
                    self.column_constraints(&name, &mut not_null, &mut primary_key)?;
                    columns.push((name, sql_type));
                }
                if self.take_token(&Token::RParen) {
                    break;
                }
                if !self.take_token(&Token::Comma) {
                    return self.expected("\",\" or \")\"");
                }
            }
        }
        let position = self.position();
        let clauses = [("partition", self.clause("partition")?), ("order", self.clause("order")?)];
        let mut options = self.table_options()?;
        for (word, clause) in clauses {
            let (upper, name) = (word.to_uppercase(), format!("{word}_by"));
            if let Some(text) = clause
                && options.insert(name.clone(), text).is_some()
            {
                let what = format!("{upper} BY and {name} in WITH are both given");
                return Err(Error::new(Code::Syntax, what).at(position));
            }
        }
        if typed || (!columns.is_empty() && self.peek().is_none()) {
            self.end()?;
            if let Some((name, _)) = columns.iter().find(|(_, t)| *t == SqlType::Null) {
                return Err(Error::new(Code::Syntax, format!("column {name} has no type")).at(table.position));
            }
            let is_known = |name: &String| columns.iter().any(|(known, _)| known == name) || !likes.is_empty();
            if let Some(name) = primary_key.iter().find(|name| !is_known(name)) {
                let known = columns.iter().map(|(name, _)| name.as_str());
                return Err(Error::unknown("column", name, known).at(table.position));
            }
            let created = CreateTable { table, if_not_exists, columns, likes, not_null, primary_key, options };
            return Ok(Statement::CreateTable(created));
        }
        if !self.take("as") {
            return self.expected("the columns in parentheses, or AS and a query");
        }
        let columns = columns.into_iter().map(|(name, _)| name).collect();
        let (query, returning) = (self.query()?, None);
        let write = Write { table, create: true, if_not_exists, columns, options, query, returning };
        Ok(Statement::Write(write))
    }

    /// Behind LIKE: a table, and what is taken over of it beside its columns.
    fn like(&mut self, place: usize) -> Result<Like> {
        let mut like = Like { table: self.written_name("a table")?, place, all: false };
        loop {
            let position = self.position();
            let including = self.take("including");
            if !including && !self.take("excluding") {
                return Ok(like);
            }
            // Nothing but columns is taken over unless it is asked for, so that nothing needs to be left out.
            match (self.take("all"), including) {
                (true, all) => like.all = all,
                (false, false) if !like.all => drop(self.plain_name("what is left out")?),
                _ => {
                    return Err(Error::unsupported("this part of LIKE")
                        .hint("INCLUDING ALL takes over partitions, order and properties, where the table has them")
                        .at(position));
                }
            }
        }
    }

    /// What stands after a column's type.
    fn column_constraints(&mut self, name: &str, not_null: &mut Vec<String>, key: &mut Vec<String>) -> Result<()> {
        loop {
            let position = self.position();
            if self.take("not") {
                if !self.take("null") {
                    return self.expected("NULL");
                }
                not_null.push(name.to_owned());
            } else if self.take("primary") {
                if !self.take("key") {
                    return self.expected("KEY");
                }
                if !key.is_empty() {
                    return Err(Error::new(Code::Syntax, "a table has one primary key")
                        .hint("write PRIMARY KEY (a, b) after the columns")
                        .at(position));
                }
                key.push(name.to_owned());
            } else if self.take("null") {
            } else if matches!(self.peek(), Some(Token::Comma | Token::RParen)) {
                return Ok(());
            } else {
                return Err(refused_constraint().at(position));
            }
        }
    }

    fn table_options(&mut self) -> Result<BTreeMap<String, String>> {
        if self.take("with") { self.listed_options() } else { Ok(BTreeMap::new()) }
    }

    /// `FUNCTION name`, `VIEW name, …` or `TABLE name, …`.
    pub(crate) fn drop_object(mut self) -> Result<Statement> {
        if self.take("function") {
            let if_exists = self.if_exists()?;
            let name = self.function_name()?;
            self.end()?;
            return Ok(Statement::DropFunction { name, if_exists });
        }
        let view = self.take("view");
        if !view && !self.take("table") {
            return self.expected("TABLE, VIEW or FUNCTION");
        }
        let if_exists = self.if_exists()?;
        let names = self.written_names(if view { "a view" } else { "a table" })?;
        let position = self.position();
        let cascade = self.take("cascade");
        if cascade && !view {
            return Err(Error::unsupported("DROP TABLE … CASCADE").hint("drop what depends on it first").at(position));
        }
        if !cascade {
            self.take("restrict");
        }
        self.end()?;
        Ok(match view {
            true => Statement::DropViews { names, if_exists, cascade },
            false => Statement::DropTables { names, if_exists },
        })
    }

    /// `TABLE name change, …`, or `VIEW name RENAME TO name`.
    pub(crate) fn alter(mut self) -> Result<Statement> {
        if self.take("table") {
            return self.alter_table();
        }
        if !self.take("view") {
            return self.expected("TABLE or VIEW");
        }
        let if_exists = self.if_exists()?;
        let name = self.written_name("a view")?;
        if !(self.take("rename") && self.take("to")) {
            return self.expected("RENAME TO");
        }
        let to = self.written_name("the new name")?;
        self.end()?;
        Ok(Statement::RenameView { name, to, if_exists })
    }

    /// `[TABLE] name, …`.
    pub(crate) fn truncate(mut self) -> Result<Statement> {
        self.take("table");
        let names = self.written_names("a table")?;
        self.end()?;
        Ok(Statement::Truncate { names })
    }

    /// BEGIN, START TRANSACTION, COMMIT, END, ROLLBACK or ABORT, with the modes that say nothing new here.
    pub(crate) fn transaction(&mut self) -> Result<Option<Transaction>> {
        let transaction = if self.take("begin") {
            Transaction::Begin
        } else if self.take("start") {
            if !self.take("transaction") {
                return self.expected("TRANSACTION");
            }
            Transaction::Begin
        } else if self.take("commit") || self.take("end") {
            Transaction::Commit
        } else if self.take("rollback") || self.take("abort") {
            Transaction::Rollback
        } else {
            return Ok(None);
        };
        if !self.take("work") {
            self.take("transaction");
        }
        if transaction == Transaction::Begin {
            loop {
                let one_mode = if self.take("read") {
                    self.take("only") || self.take("write")
                } else if self.take("isolation") {
                    self.take("level")
                        && (self.take("serializable")
                            || (self.take("repeatable") && self.take("read"))
                            || (self.take("read") && (self.take("committed") || self.take("uncommitted"))))
                } else {
                    break;
                };
                if !one_mode {
                    return self.expected("a mode of transactions");
                }
                self.take_token(&Token::Comma);
            }
        }
        self.end()?;
        Ok(Some(transaction))
    }

    fn function_name(&mut self) -> Result<String> {
        let position = self.position();
        match self.name("the name of a function")?.as_slice() {
            [name] => Ok(name.clone()),
            parts => Err(Error::new(Code::Syntax, format!("functions have plain names, not \"{}\"", parts.join(".")))
                .at(position)),
        }
    }

    pub(crate) fn type_name(&mut self) -> Result<SqlType> {
        let position = self.position();
        let written = self.parsed(|parser| parser.parse_data_type())?;
        crate::bind::sql_type(&written).map_err(|e| e.at(position))
    }

    /// `FUNCTION name(parameter type, …) RETURNS type … RETURN expression`, or `… LANGUAGE script AS $$ … $$`.
    fn create_function(mut self, replace: bool, lines: &LineStarts, text: &str) -> Result<Statement> {
        let name = self.function_name()?;
        let mut parameters: Vec<(String, SqlType)> = Vec::new();
        if !self.take_token(&Token::LParen) {
            return self.expected("\"(\" and the parameters");
        }
        while !self.take_token(&Token::RParen) {
            if !parameters.is_empty() && !self.take_token(&Token::Comma) {
                return self.expected("\",\" or \")\"");
            }
            let position = self.position();
            let parameter = self.name("a parameter's name and type")?.join(".");
            if parameters.iter().any(|(known, _)| *known == parameter) {
                return Err(
                    Error::new(Code::AlreadyExists, format!("there are two parameters named {parameter}")).at(position)
                );
            }
            parameters.push((parameter, self.type_name()?));
        }
        if !self.take("returns") {
            return self.expected("RETURNS and the type of the result");
        }
        let result = self.type_name()?;
        let (mut language, mut volatile, mut strict) = (FunctionLanguage::Sql, false, false);
        loop {
            if self.take("language") {
                language = match self.one_of(&["sql", "script"])? {
                    0 => FunctionLanguage::Sql,
                    _ => FunctionLanguage::Script,
                };
            } else if self.take("immutable") || self.take("stable") {
                volatile = false;
            } else if self.take("volatile") {
                volatile = true;
            } else if self.take("strict") {
                strict = true;
            } else {
                break;
            }
        }
        let body = match language {
            FunctionLanguage::Sql => {
                if volatile || strict {
                    return Err(Error::unsupported(
                        "VOLATILE or STRICT for a SQL function, which is as its expression is",
                    ));
                }
                if !self.take("return") {
                    return self.expected("RETURN and an expression");
                }
                let Some(first) = self.tokens.get(self.at) else { return self.expected("an expression") };
                let start = lines.offset(first.span.start.line, first.span.start.column);
                self.parsed(|parser| parser.parse_expr())?;
                let last = &self.tokens[self.at - 1];
                let end = lines.offset(last.span.end.line, last.span.end.column);
                text.get(start..end.max(start)).unwrap_or_default().to_owned()
            }
            FunctionLanguage::Script => {
                if !self.take("as") {
                    return self.expected("AS and the script between $$ and $$");
                }
                let body = match self.peek() {
                    Some(Token::DollarQuotedString(quoted)) => quoted.value.clone(),
                    Some(Token::SingleQuotedString(quoted)) => quoted.clone(),
                    _ => return self.expected("the script between $$ and $$"),
                };
                self.at += 1;
                body
            }
        };
        self.end()?;
        let function = UserFunction { name, parameters, result, language, body, volatile, strict };
        Ok(Statement::CreateFunction { function, replace })
    }
}

fn refused_constraint() -> Error {
    Error::unsupported("this constraint of a table")
        .hint("there are NOT NULL and PRIMARY KEY; what else a table needs is written in its source")
}
