//! Splitting text into statements and recognising each. Queries go to `sqlparser`; the few statements of our own
//! (`USE`, `SET`, `SHOW`, `DESCRIBE`, `EXPLAIN (SHOW …)`) are read here from the same tokens, so positions stay true.

use cobble_types::{Code, Error, Position, Result};
use sqlparser::ast;
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer};

/// One statement with its own text, as it stands in the input.
#[derive(Debug, Clone)]
pub struct StatementText {
    pub text: String,
    pub statement: Statement,
}

#[derive(Debug, Clone)]
pub enum Statement {
    Query(Box<ast::Query>),
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
    /// Collects statistics of a table.
    Analyze {
        table: Vec<String>,
        position: Option<Position>,
    },
}

#[derive(Debug, Clone)]
pub struct Explain {
    /// Run the query and add measures.
    pub analyze: bool,
    pub show: ExplainShow,
    pub format: PlanFormat,
    pub query: Box<ast::Query>,
    /// The text of the query alone.
    pub text: String,
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
}

const DIALECT: PostgreSqlDialect = PostgreSqlDialect {};

/// The statements of a text, separated by semicolons.
pub fn parse_statements(text: &str) -> Result<Vec<StatementText>> {
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
        let statement = Words { tokens: &words, at: 0 }.statement(&lines, text)?;
        statements.push(StatementText { text: own, statement });
    }
    Ok(statements)
}

/// Byte offsets of line starts, to turn a line and column back into a place in the text.
struct LineStarts<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> LineStarts<'a> {
    fn new(text: &'a str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(i, _)| i + 1)).collect();
        LineStarts { text, starts }
    }

    fn offset(&self, line: u64, column: u64) -> usize {
        let Some(&start) = self.starts.get((line as usize).saturating_sub(1)) else { return self.text.len() };
        let rest = &self.text[start..];
        rest.char_indices().nth((column as usize).saturating_sub(1)).map_or(self.text.len(), |(i, _)| start + i)
    }
}

/// The tokens of one statement, read from the left.
struct Words<'a> {
    tokens: &'a [TokenWithSpan],
    at: usize,
}

impl Words<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at).map(|t| &t.token)
    }

    fn position(&self) -> Option<Position> {
        let token = self.tokens.get(self.at).or(self.tokens.last())?;
        Some(Position { line: token.span.start.line, column: token.span.start.column })
    }

    /// Takes the next token if it is this word, whatever its case.
    fn take(&mut self, word: &str) -> bool {
        let found = matches!(self.peek(), Some(Token::Word(w)) if w.quote_style.is_none() && w.value.eq_ignore_ascii_case(word));
        self.at += usize::from(found);
        found
    }

    fn take_token(&mut self, token: &Token) -> bool {
        let found = self.peek() == Some(token);
        self.at += usize::from(found);
        found
    }

    fn expected<T>(&self, what: &str) -> Result<T> {
        let found = self.peek().map_or("the end of the statement".to_owned(), |token| format!("\"{token}\""));
        Err(Error::new(Code::Syntax, format!("expected {what}, found {found}")).at(self.position()))
    }

    fn end(&self) -> Result<()> {
        if self.at < self.tokens.len() { self.expected("the end of the statement") } else { Ok(()) }
    }

    /// A dotted name, folded to lower case unless quoted.
    fn name(&mut self, what: &str) -> Result<Vec<String>> {
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
            let name = self.name("the name of a setting")?.join(".");
            if !self.take_token(&Token::Eq) && !self.take("to") {
                return self.expected("\"=\"");
            }
            let value: String = self.tokens[self.at..]
                .iter()
                .map(|t| match &t.token {
                    Token::SingleQuotedString(s) => s.clone(),
                    other => other.to_string(),
                })
                .collect();
            return Ok(Statement::Set { name, value });
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
        if self.take("analyze") {
            let position = self.position();
            let table = self.name("a table")?;
            self.end()?;
            return Ok(Statement::Analyze { table, position });
        }
        if self.take("explain") {
            return self.explain(lines, text);
        }
        Ok(Statement::Query(self.query()?))
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
        } else {
            return self.expected("CATALOGS, SCHEMAS, TABLES, COLUMNS or SETTINGS");
        };
        self.end()?;
        Ok(show)
    }

    fn explain(mut self, lines: &LineStarts, text: &str) -> Result<Statement> {
        let mut analyze = self.take("analyze");
        let (mut show, mut format) = (ExplainShow::Tree, PlanFormat::Text);
        let options = self.peek() == Some(&Token::LParen)
            && matches!(self.tokens.get(self.at + 1).map(|t| &t.token), Some(Token::Word(w))
                if ["show", "format", "analyze"].contains(&w.value.to_lowercase().as_str()));
        if options {
            self.at += 1;
            loop {
                if self.take("analyze") {
                    analyze = true;
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
        let last = self.tokens.last().unwrap_or(first);
        let start = lines.offset(first.span.start.line, first.span.start.column);
        let end = lines.offset(last.span.end.line, last.span.end.column);
        let own = text.get(start..end.max(start)).unwrap_or_default().to_owned();
        let query = self.query()?;
        Ok(Statement::Explain(Explain { analyze, show, format, query, text: own }))
    }

    fn one_of(&mut self, words: &[&str]) -> Result<usize> {
        match words.iter().position(|word| self.take(word)) {
            Some(place) => Ok(place),
            None => self.expected(&words.join(", ")),
        }
    }

    fn query(self) -> Result<Box<ast::Query>> {
        let starts_query = match self.peek() {
            Some(Token::Word(w)) => ["select", "with", "values", "table"].contains(&w.value.to_lowercase().as_str()),
            Some(Token::LParen) => true,
            _ => false,
        };
        if !starts_query {
            let word = self.peek().map(Token::to_string).unwrap_or_default();
            let known = ["select", "with", "values", "explain", "show", "use", "set", "describe", "analyze"];
            let error =
                Error::new(Code::Syntax, format!("a statement cannot begin with \"{word}\"")).at(self.position());
            return Err(match cobble_types::closest_name(&word, known) {
                Some(close) => error.hint(format!("did you mean \"{}\"?", close.to_uppercase())),
                None => error.hint(
                    "statements that read are supported: SELECT, WITH, VALUES, EXPLAIN, ANALYZE, SHOW, DESCRIBE, USE, SET",
                ),
            });
        }
        let end = self.tokens.last().map(|t| Position { line: t.span.end.line, column: t.span.end.column });
        let mut parser = Parser::new(&DIALECT).with_tokens_with_locations(self.tokens[self.at..].to_vec());
        let query = parser.parse_query().map_err(|e| syntax_error(e, end))?;
        let next = parser.peek_token();
        if next.token != Token::EOF {
            let position = Position { line: next.span.start.line, column: next.span.start.column };
            return Err(Error::new(Code::Syntax, format!("did not expect \"{}\" here", next.token)).at(Some(position)));
        }
        Ok(query)
    }
}

/// The parser's message without its trailing place, which becomes the error's position.
fn syntax_error(error: ParserError, end: Option<Position>) -> Error {
    let text = match error {
        ParserError::TokenizerError(text) | ParserError::ParserError(text) => text,
        ParserError::RecursionLimitExceeded => {
            return Error::new(Code::Syntax, "the statement is nested too deeply").hint("split it with WITH");
        }
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
