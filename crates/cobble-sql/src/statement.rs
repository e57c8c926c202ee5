//! Splitting text into statements and recognising each. Queries go to `sqlparser`; the few statements of our own
//! (`USE`, `SET`, `SHOW`, `DESCRIBE`, `EXPLAIN (SHOW …)`) are read here from the same tokens, so positions stay true.

use std::time::{Duration, Instant};

use cobble_plan::UserFunction;
use cobble_types::deep::{Deep, with_room};
use cobble_types::{Code, Error, Position, Result, SqlType};
use sqlparser::ast;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer};

use crate::alter::AlterTable;
use crate::call::Call;
use crate::change::{Change, change};
use crate::dialect::OwnDialect;
use crate::objects::{CreateTable, CreateView, Transaction, Write, WrittenName};
use crate::reworded::{reworded, search_cycle};
use crate::syntax::check_query;
use crate::tiers::CreateTiers;

/// One statement with its own text, as it stands in the input.
#[derive(Debug, Clone)]
pub struct StatementText {
    pub text: String,
    pub statement: Statement,
    /// Where it divides, when it does so at one place only: an error of running says no more than that it was a division.
    pub division: Option<Position>,
    /// How long the whole text took to be parsed.
    pub parsing: Duration,
}

#[derive(Debug, Clone)]
pub enum Statement {
    Query(Deep<ast::Query>),
    Explain(Explain),
    Use {
        catalog: String,
        schema: Option<String>,
    },
    Set {
        name: String,
        value: String,
    },
    Show(Show),
    CreateFunction {
        function: UserFunction,
        replace: bool,
    },
    DropFunction {
        name: String,
        if_exists: bool,
    },
    CreateView(CreateView),
    CreateTiers(CreateTiers),
    DropViews {
        names: Vec<WrittenName>,
        if_exists: bool,
        cascade: bool,
    },
    RenameView {
        name: WrittenName,
        to: WrittenName,
        if_exists: bool,
    },
    CreateTable(CreateTable),
    DropTables {
        names: Vec<WrittenName>,
        if_exists: bool,
    },
    Truncate {
        names: Vec<WrittenName>,
    },
    Transaction(Transaction),
    Prepare(Prepare),
    /// Runs what was prepared; the query gives the values of its parameters in one row.
    Execute {
        name: String,
        values: Option<Deep<ast::Query>>,
        position: Option<Position>,
    },
    /// Forgets one that was prepared, or all.
    Deallocate {
        name: Option<String>,
        position: Option<Position>,
    },
    /// Gives a setting its first value again, or all of them.
    Reset {
        name: Option<String>,
    },
    /// Forgets all that the session keeps.
    Discard,
    Write(Write),
    Change(Change),
    AlterTable(AlterTable),
    Call(Call),
    /// Collects statistics of a table.
    Analyze {
        table: Vec<String>,
        position: Option<Position>,
    },
}

/// `PREPARE name (type, …) AS statement`
#[derive(Debug, Clone)]
pub struct Prepare {
    pub name: String,
    /// The types that are given, from the first parameter on.
    pub types: Vec<SqlType>,
    pub statement: Box<StatementText>,
    pub position: Option<Position>,
}

#[derive(Debug, Clone)]
pub struct Explain {
    /// Run the query and add measures.
    pub analyze: bool,
    pub show: ExplainShow,
    pub format: PlanFormat,
    pub explained: Explained,
    /// The text of the explained statement alone.
    pub text: String,
    /// Options of other systems that were given and mean nothing here.
    pub ignored: Vec<String>,
}

#[derive(Debug, Clone)]
pub enum Explained {
    Query(Deep<ast::Query>),
    Change(Change),
    Write(Box<Write>),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExplainShow {
    Tree,
    Gates,
    Joins,
    Rewrites,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlanFormat {
    Text,
    Json,
}

/// What `SHOW` lists; names as written, completed from the session's place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Show {
    Catalogs,
    Schemas { catalog: Option<String> },
    Tables { place: Vec<String> },
    Columns { table: Vec<String>, position: Option<Position> },
    Settings,
    Setting { name: String, position: Option<Position> },
    Functions,
}

/// Options of PostgreSQL's EXPLAIN (manual, EXPLAIN) whose figures the plan has in any case, or has not.
const ELSEWHERE: &[&str] = &["costs", "verbose", "buffers", "timing", "summary", "settings", "wal"];

pub(crate) const DIALECT: OwnDialect = OwnDialect;

/// The first words of statements that change rows.
const CHANGES: [&str; 3] = ["update", "delete", "merge"];

/// Bytes of text that are read at once.
const LONGEST: usize = 64 << 20;

/// Words and signs between two commas at one level of parentheses.
const LONGEST_CHAIN: usize = 100_000;

/// Levels of nesting that are parsed.
const NESTED: usize = 500;

/// Steps of the parser's own recursion, which takes several for a level.
const PARSER_STEPS: usize = 5 * NESTED;

/// The statements of a text, separated by semicolons.
pub fn parse_statements(text: &str) -> Result<Vec<StatementText>> {
    if text.len() > LONGEST {
        return Err(Error::new(
            Code::TooComplex,
            format!("a statement of {} MiB is longer than the {} MiB that are read", text.len() >> 20, LONGEST >> 20),
        )
        .hint("put its values into a file and query that"));
    }
    let began = Instant::now();
    let mut statements = with_room(|| parse(text))?;
    let parsing = began.elapsed();
    statements.iter_mut().for_each(|statement| statement.parsing = parsing);
    Ok(statements)
}

fn parse(text: &str) -> Result<Vec<StatementText>> {
    let tokens = Tokenizer::new(&DIALECT, text).tokenize_with_location().map_err(|e| {
        let position = Position { line: e.location.line, column: e.location.column };
        Error::new(Code::Syntax, sentence(&e.message)).at(Some(position))
    })?;
    let lines = LineStarts::new(text);
    let mut statements = Vec::new();
    for part in tokens.split(|token| token.token == Token::SemiColon) {
        let words: Vec<TokenWithSpan> =
            part.iter().filter(|t| !matches!(t.token, Token::Whitespace(_) | Token::EOF)).cloned().collect();
        let (Some(first), Some(last)) = (words.first(), words.last()) else { continue };
        let start = lines.offset(first.span.start.line, first.span.start.column);
        let end = lines.offset(last.span.end.line, last.span.end.column);
        let own = text.get(start..end.max(start)).unwrap_or(text).trim().to_owned();
        short_chains(&words)?;
        let statement = Words { tokens: &words, at: 0 }.statement(&lines, text)?;
        statements.push(StatementText {
            text: own,
            statement,
            division: only_division(&words),
            parsing: Duration::ZERO,
        });
    }
    Ok(statements)
}

fn only_division(tokens: &[TokenWithSpan]) -> Option<Position> {
    let divides = |(at, token): &(usize, &TokenWithSpan)| match &token.token {
        Token::Div | Token::Mod => true,
        Token::Word(_) => {
            (is_word(token, "mod") || is_word(token, "div"))
                && tokens.get(at + 1).is_some_and(|t| t.token == Token::LParen)
        }
        _ => false,
    };
    let mut found = tokens.iter().enumerate().filter(divides);
    let (_, first) = found.next()?;
    let position = Position { line: first.span.start.line, column: first.span.start.column };
    found.next().is_none().then_some(position)
}

/// Refuses a chain such as `1 + 1 + 1 …` that would become a tree deeper than any stack: what stands between two commas, at
/// one level of parentheses.
fn short_chains(tokens: &[TokenWithSpan]) -> Result<()> {
    let mut around = Vec::new();
    let (mut length, mut prefixes, mut cases) = (0, 0, 0_usize);
    for token in tokens {
        let prefix = matches!(&token.token, Token::Minus | Token::Plus | Token::Tilde) || is_word(token, "not");
        prefixes = if prefix { prefixes + 1 } else { 0 };
        if is_word(token, "case") {
            cases += 1;
        } else if is_word(token, "end") {
            cases = cases.saturating_sub(1);
        }
        if prefixes > NESTED || around.len() + cases > NESTED {
            let position = Position { line: token.span.start.line, column: token.span.start.column };
            return Err(too_deep().at(Some(position)));
        }
        match &token.token {
            Token::LParen | Token::LBracket => around.push(std::mem::take(&mut length)),
            Token::RParen | Token::RBracket => length = around.pop().unwrap_or(0),
            Token::Comma => length = 0,
            _ => length += 1,
        }
        if length > LONGEST_CHAIN {
            let position = Position { line: token.span.start.line, column: token.span.start.column };
            return Err(Error::new(
                Code::TooComplex,
                format!("more than {LONGEST_CHAIN} words and signs follow each other with no comma between"),
            )
            .hint("write a long list of alternatives as x IN (…), many constant rows as VALUES")
            .at(Some(position)));
        }
    }
    Ok(())
}

/// An expression alone, such as the body of a function.
pub fn parse_expression(text: &str) -> Result<ast::Expr> {
    let mut parser = Parser::new(&DIALECT)
        .with_recursion_limit(PARSER_STEPS)
        .try_with_sql(text)
        .map_err(|e| syntax_error(e, None))?;
    let found = parser.parse_expr().map_err(|e| syntax_error(e, None))?;
    match parser.peek_token().token {
        Token::EOF => Ok(found),
        other => Err(Error::new(Code::Syntax, format!("unexpected \"{other}\" after the expression"))),
    }
}

/// A query alone, such as that of a view.
pub(crate) fn parse_query(text: &str) -> Result<Deep<ast::Query>> {
    match parse_statements(text)?.as_slice() {
        [StatementText { statement: Statement::Query(query), .. }] => Ok(query.clone()),
        _ => Err(Error::new(Code::Syntax, "this is not exactly one query")),
    }
}

/// Byte offsets of line starts, to turn a line and column back into a place in the text.
pub(crate) struct LineStarts<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> LineStarts<'a> {
    fn new(text: &'a str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(i, _)| i + 1)).collect();
        LineStarts { text, starts }
    }

    pub(crate) fn offset(&self, line: u64, column: u64) -> usize {
        let Some(&start) = self.starts.get((line as usize).saturating_sub(1)) else { return self.text.len() };
        let rest = &self.text[start..];
        rest.char_indices().nth((column as usize).saturating_sub(1)).map_or(self.text.len(), |(i, _)| start + i)
    }
}

/// The tokens of one statement, read from the left.
pub(crate) struct Words<'a> {
    pub tokens: &'a [TokenWithSpan],
    pub at: usize,
}

impl Words<'_> {
    pub(crate) fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at).map(|t| &t.token)
    }

    pub(crate) fn position(&self) -> Option<Position> {
        let token = self.tokens.get(self.at).or(self.tokens.last())?;
        Some(Position { line: token.span.start.line, column: token.span.start.column })
    }

    /// Takes the next token if it is this word, whatever its case.
    pub(crate) fn take(&mut self, word: &str) -> bool {
        let found = self.tokens.get(self.at).is_some_and(|token| is_word(token, word));
        self.at += usize::from(found);
        found
    }

    pub(crate) fn take_token(&mut self, token: &Token) -> bool {
        let found = self.peek() == Some(token);
        self.at += usize::from(found);
        found
    }

    pub(crate) fn expected<T>(&self, what: &str) -> Result<T> {
        let found = self.peek().map_or("the end of the statement".to_owned(), |token| format!("\"{token}\""));
        Err(Error::new(Code::Syntax, format!("expected {what}, found {found}")).at(self.position()))
    }

    pub(crate) fn end(&self) -> Result<()> {
        if self.at < self.tokens.len() { self.expected("the end of the statement") } else { Ok(()) }
    }

    /// A dotted name, folded to lower case unless quoted.
    pub(crate) fn name(&mut self, what: &str) -> Result<Vec<String>> {
        let mut parts = Vec::new();
        loop {
            match self.peek() {
                Some(Token::Word(word)) => {
                    parts.push(if word.quote_style.is_some() { word.value.clone() } else { word.value.to_lowercase() });
                    self.at += 1;
                }
                _ => return self.expected(what),
            }
            if !self.take_token(&Token::Period) {
                return Ok(parts);
            }
        }
    }

    fn statement(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        if self.take("use") {
            let mut name = self.name("a catalog")?;
            self.end()?;
            if name.len() > 2 {
                return Err(Error::new(Code::Syntax, "USE takes a catalog, or a catalog and a schema")
                    .hint("such as USE fleet.public"));
            }
            let schema = (name.len() == 2).then(|| name.pop()).flatten();
            return Ok(Statement::Use { catalog: name.pop().unwrap_or_default(), schema });
        }
        if self.take("set") {
            // All are the session's.
            let _ = self.take("session") || self.take("local");
            if self.take("names") {
                return self.set_to("client_encoding".to_owned());
            }
            let mut name = self.name("the name of a setting")?.join(".");
            // The standard's way of writing it.
            let in_words = name == "time" && self.take("zone");
            if in_words {
                name = "timezone".to_owned();
            } else if !self.take_token(&Token::Eq) && !self.take("to") {
                return self.expected("\"=\"");
            }
            return self.set_to(name);
        }
        if self.take("reset") {
            let name = match self.take("all") {
                true => None,
                false => Some(self.setting_name()?),
            };
            self.end()?;
            return Ok(Statement::Reset { name });
        }
        if self.take("discard") {
            if !self.take("all") {
                return self.expected("ALL");
            }
            self.end()?;
            return Ok(Statement::Discard);
        }
        if self.take("prepare") {
            return self.prepare(lines, text);
        }
        if self.take("execute") {
            return self.execute();
        }
        if self.take("deallocate") {
            let _ = self.take("prepare");
            let position = self.position();
            let name = match self.take("all") {
                true => None,
                false => Some(self.name("the name of a prepared statement")?.join(".")),
            };
            self.end()?;
            return Ok(Statement::Deallocate { name, position });
        }
        if self.take("show") {
            return self.show().map(Statement::Show);
        }
        if self.take("describe") {
            let position = self.position();
            let table = self.name("a table")?;
            self.end()?;
            return Ok(Statement::Show(Show::Columns { table, position }));
        }
        if self.take("create") {
            return self.create(lines, text);
        }
        if self.take("insert") {
            return self.insert();
        }
        if self.take("drop") {
            return self.drop_object();
        }
        if self.take("call") {
            return self.call();
        }
        if self.take("alter") {
            return self.alter();
        }
        if self.take("truncate") {
            return self.truncate();
        }
        if let Some(transaction) = self.transaction()? {
            return Ok(Statement::Transaction(transaction));
        }
        if self.take("analyze") {
            let position = self.position();
            let table = self.name("a table")?;
            self.end()?;
            return Ok(Statement::Analyze { table, position });
        }
        if self.take("explain") {
            return self.explain(lines, text);
        }
        if self.tokens.get(self.at).is_some_and(|token| CHANGES.iter().any(|word| is_word(token, word))) {
            return self.change().map(Statement::Change);
        }
        Ok(Statement::Query(self.query()?))
    }

    /// What comes after the name of a setting; `DEFAULT` is its first value.
    fn set_to(mut self, name: String) -> Result<Statement> {
        if self.take("default") {
            self.end()?;
            return Ok(Statement::Reset { name: Some(name) });
        }
        let written = |token: &TokenWithSpan| match &token.token {
            Token::SingleQuotedString(s) => s.clone(),
            other => other.to_string(),
        };
        Ok(Statement::Set { name, value: self.tokens[self.at..].iter().map(written).collect() })
    }

    fn setting_name(&mut self) -> Result<String> {
        let name = self.name("the name of a setting")?;
        Ok(if name == ["time"] && self.take("zone") { "timezone".to_owned() } else { name.join(".") })
    }

    fn prepare(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        let position = self.position();
        let name = self.name("a name for the statement")?.join(".");
        let mut types = Vec::new();
        if self.take_token(&Token::LParen) {
            loop {
                types.push(self.type_name()?);
                if self.take_token(&Token::RParen) {
                    break;
                }
                if !self.take_token(&Token::Comma) {
                    return self.expected("\",\" or \")\"");
                }
            }
        }
        if !self.take("as") {
            return self.expected("AS and a statement");
        }
        let rest = &self.tokens[self.at..];
        let (Some(first), Some(last)) = (rest.first(), rest.last()) else { return self.expected("a statement") };
        let start = lines.offset(first.span.start.line, first.span.start.column);
        let end = lines.offset(last.span.end.line, last.span.end.column);
        let own = text.get(start..end.max(start)).unwrap_or(text).trim().to_owned();
        let statement = Words { tokens: rest, at: 0 }.statement(lines, text)?;
        let statement =
            Box::new(StatementText { text: own, statement, division: only_division(rest), parsing: Duration::ZERO });
        Ok(Statement::Prepare(Prepare { name, types, statement, position }))
    }

    fn execute(mut self) -> Result<Statement> {
        let position = self.position();
        let name = self.name("the name of a prepared statement")?.join(".");
        if self.peek().is_none() {
            return Ok(Statement::Execute { name, values: None, position });
        }
        let (Some(first), Some(last)) = (self.tokens.get(self.at), self.tokens.last()) else {
            return self.expected("the end of the statement");
        };
        let inside = self.at + 1..self.tokens.len().saturating_sub(1);
        if first.token != Token::LParen || last.token != Token::RParen || inside.is_empty() {
            return self.expected("\"(\" and the values of its parameters");
        }
        // The values are the columns of a query.
        let select = TokenWithSpan { token: Token::make_keyword("SELECT"), span: first.span };
        let tokens: Vec<TokenWithSpan> = std::iter::once(select).chain(self.tokens[inside].iter().cloned()).collect();
        let values = Words { tokens: &tokens, at: 0 }.query()?;
        Ok(Statement::Execute { name, values: Some(values), position })
    }

    /// Reads a part of the statement with the parser, and goes on after it.
    pub(crate) fn parsed<T>(
        &mut self,
        read: impl FnOnce(&mut Parser) -> std::result::Result<T, ParserError>,
    ) -> Result<T> {
        let end = self.tokens.last().map(|t| Position { line: t.span.end.line, column: t.span.end.column });
        let mut parser = Parser::new(&DIALECT)
            .with_recursion_limit(PARSER_STEPS)
            .with_tokens_with_locations(self.tokens[self.at..].to_vec());
        let found = read(&mut parser).map_err(|e| syntax_error(e, end))?;
        self.at += parser.index();
        Ok(found)
    }

    fn show(mut self) -> Result<Show> {
        let place = |words: &mut Self| {
            if words.take("from") || words.take("in") { words.name("a name") } else { Ok(Vec::new()) }
        };
        let show = if self.take("catalogs") {
            Show::Catalogs
        } else if self.take("schemas") {
            Show::Schemas { catalog: place(&mut self)?.pop() }
        } else if self.take("tables") {
            Show::Tables { place: place(&mut self)? }
        } else if self.take("columns") {
            let position = self.position();
            let table = place(&mut self)?;
            if table.is_empty() {
                return self.expected("FROM and a table");
            }
            Show::Columns { table, position }
        } else if self.take("settings") || self.take("all") {
            Show::Settings
        } else if self.take("functions") {
            Show::Functions
        } else {
            let position = self.position();
            let name = self.name("CATALOGS, SCHEMAS, TABLES, COLUMNS, FUNCTIONS, SETTINGS or the name of a setting")?;
            let name = if name == ["time"] && self.take("zone") { "timezone".to_owned() } else { name.join(".") };
            Show::Setting { name, position }
        };
        self.end()?;
        Ok(show)
    }

    fn explain(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        let mut analyze = self.take("analyze");
        let (mut show, mut format) = (ExplainShow::Tree, PlanFormat::Text);
        let options = self.peek() == Some(&Token::LParen)
            && matches!(self.tokens.get(self.at + 1).map(|t| &t.token), Some(Token::Word(w))
                if ["show", "format", "analyze"].iter().chain(ELSEWHERE).any(|known| w.value.eq_ignore_ascii_case(known)));
        let mut ignored = Vec::new();
        for word in ELSEWHERE {
            // Without parentheses there is only this one.
            if *word == "verbose" && self.take(word) {
                ignored.push((*word).to_owned());
            }
        }
        if options {
            self.at += 1;
            loop {
                if self.take("analyze") {
                    analyze = self.switch();
                } else if let Some(word) = ELSEWHERE.iter().find(|word| self.take(word)) {
                    self.switch();
                    ignored.push((*word).to_owned());
                } else if self.take("show") {
                    show = match self.one_of(&["tree", "gates", "joins", "rewrites"])? {
                        0 => ExplainShow::Tree,
                        1 => ExplainShow::Gates,
                        2 => ExplainShow::Joins,
                        _ => ExplainShow::Rewrites,
                    };
                } else if self.take("format") {
                    format = if self.one_of(&["text", "json"])? == 0 { PlanFormat::Text } else { PlanFormat::Json };
                } else {
                    return self.expected("SHOW, FORMAT or ANALYZE");
                }
                if self.take_token(&Token::RParen) {
                    break;
                }
                if !self.take_token(&Token::Comma) {
                    return self.expected("\",\" or \")\"");
                }
            }
        }
        let Some(first) = self.tokens.get(self.at) else { return self.expected("a query") };
        let own = self.rest(lines, text);
        let starts = |word: &str| is_word(first, word);
        let explained = if CHANGES.iter().any(|word| starts(word)) {
            Explained::Change(self.change()?)
        } else if starts("insert") || starts("create") {
            let position = self.position();
            let statement = if self.take("insert") { self.insert()? } else { self.created(lines, text)? };
            match statement {
                Statement::Write(write) => Explained::Write(Box::new(write)),
                Statement::Change(change) => Explained::Change(change),
                _ => {
                    return Err(Error::unsupported("EXPLAIN of what has no query")
                        .hint("queries, INSERT, CREATE TABLE … AS, UPDATE, DELETE and MERGE have a plan")
                        .at(position));
                }
            }
        } else {
            Explained::Query(self.query()?)
        };
        Ok(Statement::Explain(Explain { analyze, show, format, explained, text: own, ignored }))
    }

    /// `CREATE …`, with that word.
    fn created(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        let _ = self.take("create");
        self.create(lines, text)
    }

    /// ON or OFF after the name of an option; without it, on.
    fn switch(&mut self) -> bool {
        if self.take("off") || self.take("false") {
            return false;
        }
        let _ = self.take("on") || self.take("true");
        true
    }

    /// The text from here to the end of the statement.
    pub(crate) fn rest(&self, lines: &LineStarts, text: &str) -> String {
        let (Some(first), Some(last)) = (self.tokens.get(self.at), self.tokens.last()) else { return String::new() };
        let start = lines.offset(first.span.start.line, first.span.start.column);
        let end = lines.offset(last.span.end.line, last.span.end.column);
        text.get(start..end.max(start)).unwrap_or_default().to_owned()
    }

    pub(crate) fn one_of(&mut self, words: &[&str]) -> Result<usize> {
        match words.iter().position(|word| self.take(word)) {
            Some(place) => Ok(place),
            None => self.expected(&words.join(", ")),
        }
    }

    pub(crate) fn query(self) -> Result<Deep<ast::Query>> {
        let starts_query = match self.peek() {
            Some(Token::Word(w)) => ["select", "with", "values", "table"].contains(&w.value.to_lowercase().as_str()),
            Some(Token::LParen) => true,
            _ => false,
        };
        if !starts_query {
            let word = self.peek().map(Token::to_string).unwrap_or_default();
            let known = [
                "select", "with", "values", "explain", "show", "use", "set", "describe", "analyze", "create", "drop",
                "alter", "truncate", "insert", "update", "delete", "merge", "call", "begin", "commit", "rollback",
            ];
            let error =
                Error::new(Code::Syntax, format!("a statement cannot begin with \"{word}\"")).at(self.position());
            let clauses = ["where", "from", "group", "order", "having", "limit", "union", "join", "and", "or"];
            if clauses.contains(&word.to_lowercase().as_str()) {
                return Err(error.hint("leave the semicolon before it out"));
            }
            return Err(match cobble_types::closest_name(&word, known) {
                Some(close) => error.hint(format!("did you mean \"{}\"?", close.to_uppercase())),
                None => error.hint(
                    "there are SELECT, WITH, VALUES, INSERT INTO, UPDATE, DELETE, MERGE INTO, TRUNCATE, CREATE and DROP of TABLE, VIEW and FUNCTION, ALTER of TABLE and VIEW, CALL, EXPLAIN, ANALYZE, SHOW, DESCRIBE, USE, SET",
                ),
            });
        }
        let mut query = Deep::new(*self.to_end(|parser| parser.parse_query())?);
        if self.tokens.iter().any(|token| is_word(token, "search") || is_word(token, "cycle")) {
            search_cycle::carried(&mut query)?;
        }
        check_query(&query)?;
        Ok(query)
    }

    /// UPDATE, DELETE or MERGE.
    fn change(self) -> Result<Change> {
        let position = self.position();
        change(self.to_end(|parser| parser.parse_statement())?).map_err(|e| e.at(position))
    }

    /// Reads all that is left with the parser.
    pub(crate) fn to_end<T>(&self, read: impl FnOnce(&mut Parser) -> std::result::Result<T, ParserError>) -> Result<T> {
        let end = self.tokens.last().map(|t| Position { line: t.span.end.line, column: t.span.end.column });
        let mut parser = Parser::new(&DIALECT)
            .with_recursion_limit(PARSER_STEPS)
            .with_tokens_with_locations(reworded(&self.tokens[self.at..])?);
        let explained = |error: Error| match crate::slips::hint(self.tokens, error.position) {
            Some(hint) if error.hint.is_none() => error.hint(hint),
            _ => error,
        };
        let found =
            read(&mut parser).map_err(|e| explained(crate::slips::at_its_word(syntax_error(e, end), self.tokens)))?;
        let next = parser.peek_token();
        if next.token != Token::EOF {
            let position = Position { line: next.span.start.line, column: next.span.start.column };
            let error = Error::new(Code::Syntax, format!("unexpected \"{}\" here", next.token));
            return Err(explained(error.at(Some(position))));
        }
        Ok(found)
    }
}

/// True for this word, unquoted, in any case.
pub(crate) fn is_word(token: &TokenWithSpan, word: &str) -> bool {
    matches!(&token.token, Token::Word(w) if w.quote_style.is_none() && w.value.eq_ignore_ascii_case(word))
}

fn too_deep() -> Error {
    Error::new(Code::TooComplex, format!("the statement nests more than {NESTED} levels")).hint("split it with WITH")
}

/// The parser's message without its trailing place, which becomes the error's position.
fn syntax_error(error: ParserError, end: Option<Position>) -> Error {
    let text = match error {
        ParserError::TokenizerError(text) | ParserError::ParserError(text) => text,
        ParserError::RecursionLimitExceeded => return too_deep(),
    };
    let (message, place) = text.split_once(" at Line: ").map_or((text.as_str(), None), |(m, p)| (m, Some(p)));
    let position = place.and_then(|place| {
        let (line, column) = place.split_once(", Column: ")?;
        Some(Position { line: line.trim().parse().ok()?, column: column.trim().parse().ok()? })
    });
    let message = message.replace("found: EOF", "found the end of the statement").replace("found: ", "found ");
    Error::new(Code::Syntax, sentence(&message)).at(position.or(end))
}

fn sentence(text: &str) -> String {
    let text = text.trim().replace("Expected: ", "expected ");
    let mut characters = text.chars();
    characters.next().map_or(String::new(), |first| first.to_lowercase().chain(characters).collect())
}
