//! SEARCH and CYCLE of a recursive common table (SQL:2016 part 2, 7.18), which the parser does not know. The words are taken out of the
//! tokens, and a column that no one can write is put into the table's list of columns instead, which holds their text. The step
//! of the recursion is made to give what it has read of the order and the path; the binder computes the rest.

use std::ops::ControlFlow;

use cobble_types::{Code, Error, Position, Result};
use sqlparser::ast::{self, VisitorMut};
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer};

use crate::ident::folded;
use crate::statement::{DIALECT, Words, is_word};

/// Begins the column's name; a control character, so that no identifier is like it.
const MARK: &str = "\u{1}";

/// What stands after a recursive common table.
#[derive(Debug, Clone, Default)]
pub(crate) struct Clauses {
    pub search: Option<Search>,
    pub cycle: Option<Cycle>,
    pub position: Option<Position>,
}

/// `SEARCH { DEPTH | BREADTH } FIRST BY columns SET column`.
#[derive(Debug, Clone)]
pub(crate) struct Search {
    pub depth: bool,
    pub by: Vec<String>,
    pub set: String,
}

/// `CYCLE columns SET column [TO value DEFAULT value] USING column`.
#[derive(Debug, Clone)]
pub(crate) struct Cycle {
    pub by: Vec<String>,
    pub set: String,
    pub to: ast::Expr,
    pub default: ast::Expr,
    pub using: String,
}

impl Clauses {
    /// The columns that they add, in their order.
    pub fn names(&self) -> Vec<&str> {
        let search = self.search.iter().map(|search| search.set.as_str());
        search.chain(self.cycle.iter().flat_map(|cycle| [cycle.set.as_str(), cycle.using.as_str()])).collect()
    }

    /// Removes them from a list of columns.
    pub fn of(columns: &[ast::TableAliasColumnDef]) -> Result<(Clauses, &[ast::TableAliasColumnDef])> {
        let Some((last, before)) = columns.split_last() else { return Ok((Clauses::default(), columns)) };
        let Some(text) = last.name.value.strip_prefix(MARK) else { return Ok((Clauses::default(), columns)) };
        let start = last.name.span.start;
        let position = Some(Position { line: start.line, column: start.column });
        let tokens = Tokenizer::new(&DIALECT, text)
            .tokenize_with_location()
            .map_err(|e| Error::internal(format!("SEARCH or CYCLE: {}", e.message)))?;
        let tokens: Vec<TokenWithSpan> =
            tokens.into_iter().filter(|t| !matches!(t.token, Token::Whitespace(_))).collect();
        Ok((Clauses { position, ..Clauses::read(&mut Words { tokens: &tokens, at: 0 })? }, before))
    }

    fn read(words: &mut Words) -> Result<Clauses> {
        let mut clauses = Clauses::default();
        if words.take("search") {
            let depth = words.one_of(&["depth", "breadth"])? == 0;
            words.one_of(&["first"])?;
            words.one_of(&["by"])?;
            let by = names(words)?;
            words.one_of(&["set"])?;
            clauses.search = Some(Search { depth, by, set: name(words)? });
        }
        if words.take("cycle") {
            let by = names(words)?;
            words.one_of(&["set"])?;
            let set = name(words)?;
            let (mut to, mut default) = (constant(true), constant(false));
            if words.take("to") {
                to = words.parsed(|parser| parser.parse_expr())?;
                words.one_of(&["default"])?;
                default = words.parsed(|parser| parser.parse_expr())?;
            }
            words.one_of(&["using"])?;
            clauses.cycle = Some(Cycle { by, set, to, default, using: name(words)? });
        }
        Ok(clauses)
    }
}

fn constant(value: bool) -> ast::Expr {
    ast::Expr::value(ast::Value::Boolean(value))
}

fn name(words: &mut Words) -> Result<String> {
    let position = words.position();
    match words.name("the name of a column")?.as_slice() {
        [one] => Ok(one.clone()),
        _ => Err(Error::new(Code::Syntax, "a column of SEARCH and CYCLE is named by its name alone").at(position)),
    }
}

fn names(words: &mut Words) -> Result<Vec<String>> {
    let mut names = vec![name(words)?];
    while words.take_token(&Token::Comma) {
        names.push(name(words)?);
    }
    Ok(names)
}

/// True where one of the two begins: after the parenthesis of a common table.
fn begins(tokens: &[TokenWithSpan], at: usize) -> bool {
    let Some(token) = tokens.get(at) else { return false };
    let follows = at > 0 && tokens[at - 1].token == Token::RParen;
    let next = |word| tokens.get(at + 1).is_some_and(|t| is_word(t, word));
    if !follows {
        return false;
    }
    if is_word(token, "search") {
        return next("depth") || next("breadth");
    }
    let list = |t: &&TokenWithSpan| matches!(t.token, Token::Comma) || matches!(&t.token, Token::Word(_));
    is_word(token, "cycle") && tokens[at + 1..].iter().take_while(list).any(|t| is_word(t, "set"))
}

/// Where the names of columns go for the common table whose query ends with the last of these tokens: behind which token, and whether
/// there is a list already.
fn list_of(tokens: &[TokenWithSpan]) -> Option<(usize, bool)> {
    let mut depth = 0_usize;
    let mut at = tokens.iter().rposition(|token| {
        match token.token {
            Token::RParen => depth += 1,
            Token::LParen => depth -= 1,
            _ => {}
        }
        depth == 0
    })?;
    for word in ["materialized", "not", "as"] {
        if at > 0 && is_word(&tokens[at - 1], word) {
            at -= 1;
        }
    }
    match &tokens.get(at.checked_sub(1)?)?.token {
        _ if !is_word(&tokens[at], "as") => None,
        Token::RParen => Some((at - 2, true)),
        Token::Word(_) => Some((at - 1, false)),
        _ => None,
    }
}

/// The tokens with every SEARCH and CYCLE turned into a column.
pub(super) fn marked(tokens: Vec<TokenWithSpan>) -> Result<Vec<TokenWithSpan>> {
    if !(0..tokens.len()).any(|at| begins(&tokens, at)) {
        return Ok(tokens);
    }
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        if begins(&tokens, at)
            && let Some((behind, listed)) = list_of(&out)
        {
            let mut words = Words { tokens: &tokens, at };
            Clauses::read(&mut words)?;
            let text: Vec<String> = tokens[at..words.at].iter().map(|t| t.token.to_string()).collect();
            let value = format!("{MARK}{}", text.join(" "));
            let column = super::name(value);
            let new = match listed {
                true => vec![Token::Comma, column],
                false => vec![Token::LParen, column, Token::RParen],
            };
            out.splice(
                behind + 1..behind + 1,
                new.into_iter().map(|new| TokenWithSpan { token: new, span: token.span }),
            );
            at = words.at;
            continue;
        }
        out.push(token.clone());
        at += 1;
    }
    Ok(out)
}

/// Adds to the step of each recursion that has them the columns that it carries on.
pub(crate) fn carried(query: &mut ast::Query) -> Result<()> {
    struct Steps;
    impl VisitorMut for Steps {
        type Break = Error;

        fn pre_visit_query(&mut self, query: &mut ast::Query) -> ControlFlow<Error> {
            let tables = query.with.iter_mut().flat_map(|with| &mut with.cte_tables);
            for table in tables {
                if let Err(error) = carried_by(table) {
                    return ControlFlow::Break(error);
                }
            }
            ControlFlow::Continue(())
        }
    }
    match ast::VisitMut::visit(query, &mut Steps) {
        ControlFlow::Break(error) => Err(error),
        ControlFlow::Continue(()) => Ok(()),
    }
}

fn carried_by(table: &mut ast::Cte) -> Result<()> {
    let (clauses, _) = Clauses::of(&table.alias.columns)?;
    // If this is no recursion, the binder reports it.
    let ast::SetExpr::SetOperation { right, .. } = table.query.body.as_mut() else { return Ok(()) };
    if clauses.names().is_empty() {
        return Ok(());
    }
    let refused = |what: &str| {
        Error::new(Code::Unsupported, format!("SEARCH and CYCLE need a step that {what}")).at(clauses.position)
    };
    let ast::SetExpr::Select(step) = right.as_mut() else { return Err(refused("is one SELECT")) };
    let own = &table.alias.name;
    let Some(alias) = step.from.iter().find_map(|written| reader(written, own)) else {
        return Err(refused("reads the recursive name in its own FROM"));
    };
    let column = |name: &str| {
        ast::SelectItem::UnnamedExpr(ast::Expr::CompoundIdentifier(vec![
            alias.clone(),
            ast::Ident::with_quote('"', name),
        ]))
    };
    step.projection.extend(clauses.names().into_iter().map(column));
    Ok(())
}

/// The name under which the step reads its own table.
fn reader(written: &ast::TableWithJoins, own: &ast::Ident) -> Option<ast::Ident> {
    let factors = std::iter::once(&written.relation).chain(written.joins.iter().map(|join| &join.relation));
    factors.into_iter().find_map(|factor| match factor {
        ast::TableFactor::Table { name, alias, args: None, .. } => {
            let is_own = matches!(name.0.as_slice(), [only] if only.as_ident().map(folded) == Some(folded(own)));
            is_own.then(|| alias.as_ref().map_or_else(|| own.clone(), |alias| alias.name.clone()))
        }
        ast::TableFactor::NestedJoin { table_with_joins, alias: None } => reader(table_with_joins, own),
        _ => None,
    })
}
