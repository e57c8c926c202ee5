//! LIKE, SIMILAR TO and regular expressions, alone and with ANY and ALL.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::Binder;
use super::operator::operator;
use super::scope::Scope;
use crate::coerce::{binary, settle};
use crate::function;

/// What two values are compared by, where ANY and ALL may stand: an operator of order, or a match of patterns.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Comparison {
    Order(BinaryOp),
    Like { negated: bool, case_insensitive: bool },
    Regex { negated: bool, case_insensitive: bool },
}

impl Comparison {
    pub fn of(op: &ast::BinaryOperator) -> Result<Comparison> {
        use ast::BinaryOperator as B;
        let like = |negated, case_insensitive| Comparison::Like { negated, case_insensitive };
        let regex = |negated, case_insensitive| Comparison::Regex { negated, case_insensitive };
        Ok(match op {
            B::PGLikeMatch => like(false, false),
            B::PGILikeMatch => like(false, true),
            B::PGNotLikeMatch => like(true, false),
            B::PGNotILikeMatch => like(true, true),
            B::PGRegexMatch => regex(false, false),
            B::PGRegexIMatch => regex(false, true),
            B::PGRegexNotMatch => regex(true, false),
            B::PGRegexNotIMatch => regex(true, true),
            other => Comparison::Order(operator(other)?),
        })
    }

    /// The comparison that holds where this one does not.
    pub fn opposite(self) -> Result<Comparison> {
        Ok(match self {
            Comparison::Like { negated, case_insensitive } => Comparison::Like { negated: !negated, case_insensitive },
            Comparison::Regex { negated, case_insensitive } => {
                Comparison::Regex { negated: !negated, case_insensitive }
            }
            Comparison::Order(op) => Comparison::Order(match op {
                BinaryOp::Eq => BinaryOp::NotEq,
                BinaryOp::NotEq => BinaryOp::Eq,
                BinaryOp::Lt => BinaryOp::GtEq,
                BinaryOp::LtEq => BinaryOp::Gt,
                BinaryOp::Gt => BinaryOp::LtEq,
                BinaryOp::GtEq => BinaryOp::Lt,
                other => return Err(Error::unsupported(format_args!("{} ALL", other.symbol()))),
            }),
        })
    }

    pub fn apply(self, left: Expr, right: Expr) -> Result<Expr> {
        match self {
            Comparison::Order(op) => binary(op, left, right),
            Comparison::Like { negated, case_insensitive } => like(left, right, negated, case_insensitive),
            Comparison::Regex { negated, case_insensitive } => {
                let mut arguments = vec![left, right];
                if case_insensitive {
                    arguments.push(Expr::literal(Value::Text("i".into())));
                }
                let matches = function::call(Function::RegexpLike, arguments)?;
                Ok(if negated { Expr::Not(Box::new(matches)) } else { matches })
            }
        }
    }
}

/// The pattern of LIKE or SIMILAR TO with the escape character that was written.
pub(super) struct Pattern<'a> {
    pub pattern: &'a ast::Expr,
    pub escape: Option<&'a ast::Expr>,
}

impl<'a> Binder<'a> {
    pub(super) fn like(
        &mut self,
        operand: &'a ast::Expr,
        written: Pattern<'a>,
        (negated, case_insensitive): (bool, bool),
        scope: &Scope,
    ) -> Result<Expr> {
        let operand = settle(self.expr(operand, scope)?)?;
        let pattern = self.escaped_pattern(written, scope)?;
        like(operand, pattern, negated, case_insensitive)
    }

    pub(super) fn similar_to(
        &mut self,
        operand: &'a ast::Expr,
        written: Pattern<'a>,
        negated: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        let operand = self.expr(operand, scope)?;
        let mut arguments = vec![operand, self.expr(written.pattern, scope)?];
        if let Some(escape) = written.escape {
            arguments.push(self.expr(escape, scope)?);
        }
        let matches = function::call(Function::SimilarTo, arguments)?;
        Ok(if negated { Expr::Not(Box::new(matches)) } else { matches })
    }

    /// The pattern with the backslash as its escape character, whatever the written one is.
    fn escaped_pattern(&mut self, written: Pattern<'a>, scope: &Scope) -> Result<Expr> {
        let pattern = settle(self.expr(written.pattern, scope)?)?;
        let Some(escape) = written.escape else { return Ok(pattern) };
        let escape = settle(self.expr(escape, scope)?)?;
        if let (Expr::Literal { value: Value::Text(text), .. }, Expr::Literal { value: Value::Text(escape), .. }) =
            (&pattern, &escape)
        {
            return Ok(Expr::literal(Value::Text(cobble_types::characters::with_escape(text, escape)?)));
        }
        function::call(Function::LikeEscape, vec![pattern, escape])
    }
}

fn like(operand: Expr, pattern: Expr, negated: bool, case_insensitive: bool) -> Result<Expr> {
    let (operand, pattern) = (settle(operand)?, settle(pattern)?);
    for side in [&operand, &pattern] {
        if side.sql_type() != SqlType::Text {
            return Err(Error::new(Code::UnknownFunction, format!("LIKE takes text, not {}", side.sql_type()))
                .hint("cast it, such as ::text"));
        }
    }
    Ok(Expr::Like { operand: Box::new(operand), pattern: Box::new(pattern), negated, case_insensitive })
}
