//! Operators, and the kernels that compute them on whole arrays.

pub mod arithmetic;
pub mod cast;
pub mod compare;
pub mod concat;
pub mod like;
pub mod subscript;

use serde::{Deserialize, Serialize};

/// An operator between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum BinaryOp {
    Plus,
    Minus,
    Times,
    Divide,
    Modulo,
    Eq,
    NotEq,
    Lt,
    LtEq,
    Gt,
    GtEq,
    IsDistinctFrom,
    IsNotDistinctFrom,
    And,
    Or,
    Concat,
}

impl BinaryOp {
    pub fn symbol(self) -> &'static str {
        match self {
            BinaryOp::Plus => "+",
            BinaryOp::Minus => "-",
            BinaryOp::Times => "*",
            BinaryOp::Divide => "/",
            BinaryOp::Modulo => "%",
            BinaryOp::Eq => "=",
            BinaryOp::NotEq => "<>",
            BinaryOp::Lt => "<",
            BinaryOp::LtEq => "<=",
            BinaryOp::Gt => ">",
            BinaryOp::GtEq => ">=",
            BinaryOp::IsDistinctFrom => "is distinct from",
            BinaryOp::IsNotDistinctFrom => "is not distinct from",
            BinaryOp::And => "and",
            BinaryOp::Or => "or",
            BinaryOp::Concat => "||",
        }
    }

    /// The operator written so, in lower case.
    pub fn by_symbol(symbol: &str) -> Option<BinaryOp> {
        use BinaryOp::*;
        let all =
            [Plus, Minus, Times, Divide, Modulo, Eq, NotEq, Lt, LtEq, Gt, GtEq, IsDistinctFrom, IsNotDistinctFrom];
        all.into_iter().chain([And, Or, Concat]).find(|op| op.symbol() == symbol)
    }

    pub fn is_comparison(self) -> bool {
        matches!(
            self,
            BinaryOp::Eq
                | BinaryOp::NotEq
                | BinaryOp::Lt
                | BinaryOp::LtEq
                | BinaryOp::Gt
                | BinaryOp::GtEq
                | BinaryOp::IsDistinctFrom
                | BinaryOp::IsNotDistinctFrom
        )
    }

    pub fn is_arithmetic(self) -> bool {
        matches!(self, BinaryOp::Plus | BinaryOp::Minus | BinaryOp::Times | BinaryOp::Divide | BinaryOp::Modulo)
    }

    /// The operator that means the same with its sides swapped.
    pub fn mirrored(self) -> Option<BinaryOp> {
        Some(match self {
            BinaryOp::Lt => BinaryOp::Gt,
            BinaryOp::LtEq => BinaryOp::GtEq,
            BinaryOp::Gt => BinaryOp::Lt,
            BinaryOp::GtEq => BinaryOp::LtEq,
            same @ (BinaryOp::Eq | BinaryOp::NotEq | BinaryOp::IsDistinctFrom | BinaryOp::IsNotDistinctFrom) => same,
            _ => return None,
        })
    }

    /// How tightly it binds its sides: a larger number binds more tightly.
    pub fn binding_strength(self) -> u8 {
        match self {
            BinaryOp::Or => 1,
            BinaryOp::And => 2,
            op if op.is_comparison() => 3,
            BinaryOp::Concat => 4,
            BinaryOp::Plus | BinaryOp::Minus => 5,
            _ => 6,
        }
    }
}
