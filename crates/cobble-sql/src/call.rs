//! CALL: what is done with a table beside changing its rows, with arguments that are given by place or by name.

use cobble_types::deep::Deep;
use cobble_types::{Code, Error, Position, Result};
use sqlparser::ast;
use sqlparser::tokenizer::{Token, TokenWithSpan};

use crate::statement::{Statement, Words};

/// `CALL procedure(value, name => value, …)`
#[derive(Debug, Clone)]
pub struct Call {
    pub procedure: String,
    pub position: Option<Position>,
    /// The names of the arguments that are given by name.
    pub names: Vec<Option<String>>,
    /// Gives the arguments in one row; none without arguments.
    pub values: Option<Deep<ast::Query>>,
}

impl Words<'_> {
    /// What stands after CALL.
    pub(crate) fn call(mut self) -> Result<Statement> {
        let position = self.position();
        let procedure = self.plain_name("the name of a procedure")?;
        let (Some(first), Some(last)) = (self.tokens.get(self.at), self.tokens.last()) else {
            return self.expected("\"(\" and arguments");
        };
        if first.token != Token::LParen || last.token != Token::RParen || self.at + 1 >= self.tokens.len() {
            return self.expected("\"(\" and arguments, and \")\" at the end");
        }
        let (start, inside) = (first.clone(), &self.tokens[self.at + 1..self.tokens.len() - 1]);
        // The arguments are the columns of a query.
        let mut tokens = vec![TokenWithSpan { token: Token::make_keyword("SELECT"), span: start.span }];
        let (mut names, mut depth, mut begins, mut at) = (Vec::new(), 0_usize, true, 0);
        while let Some(token) = inside.get(at) {
            if begins {
                begins = false;
                let named = inside.get(at + 1).is_some_and(|next| next.token == Token::RArrow);
                if let (true, Token::Word(name)) = (named, &token.token) {
                    names.push(Some(name.value.to_lowercase()));
                    at += 2;
                    continue;
                }
                if names.iter().any(Option::is_some) {
                    return Err(Error::new(Code::Syntax, "arguments without names stand before those with names")
                        .at(crate::bind::position_of(token.span)));
                }
                names.push(None);
            }
            match token.token {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth = depth.saturating_sub(1),
                Token::Comma if depth == 0 => begins = true,
                _ => {}
            }
            tokens.push(token.clone());
            at += 1;
        }
        let values = match names.is_empty() {
            true => None,
            false => Some(Words { tokens: &tokens, at: 0 }.query()?),
        };
        Ok(Statement::Call(Call { procedure, position, names, values }))
    }
}
