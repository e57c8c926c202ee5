//! Aggregates as plans call them.

use std::fmt;

pub use cobble_functions::{AggregateFunction, DIVISION_SCALE};
use cobble_types::SqlType;
use serde::{Deserialize, Serialize};

use crate::expr::{Expr, comma_separated};
use crate::logical::SortKey;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AggregateCall {
    pub function: AggregateFunction,
    /// Empty for `count(*)`. For ordered-set aggregates the sorted value, then the direct arguments.
    pub arguments: Vec<Expr>,
    pub distinct: bool,
    /// The order of the values, where it matters.
    pub order: Vec<SortKey>,
    pub filter: Option<Expr>,
    pub sql_type: SqlType,
}

impl AggregateCall {
    /// A plain call without DISTINCT, ORDER BY and FILTER, or `None` when the function does not take these arguments.
    pub fn plain(function: AggregateFunction, arguments: Vec<Expr>) -> Option<AggregateCall> {
        let sql_type = function.overload(arguments.iter().map(Expr::sql_type))?.returns;
        Some(AggregateCall { function, arguments, distinct: false, order: vec![], filter: None, sql_type })
    }

    /// The same call over expressions changed by `change`.
    pub fn map(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> AggregateCall {
        AggregateCall {
            arguments: self.arguments.iter().map(&mut *change).collect(),
            order: self.order.iter().map(|key| SortKey { expr: change(&key.expr), ..key.clone() }).collect(),
            filter: self.filter.as_ref().map(&mut *change),
            ..self.clone()
        }
    }

    pub fn expressions(&self) -> impl Iterator<Item = &Expr> {
        self.arguments.iter().chain(self.order.iter().map(|key| &key.expr)).chain(self.filter.iter())
    }
}

impl fmt::Display for AggregateCall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let distinct = if self.distinct { "distinct " } else { "" };
        if self.arguments.is_empty() {
            write!(f, "{}(*)", self.function.name())?;
        } else {
            write!(f, "{}({distinct}{}", self.function.name(), comma_separated(&self.arguments))?;
            if !self.order.is_empty() {
                write!(f, " order by {}", comma_separated(&self.order))?;
            }
            f.write_str(")")?;
        }
        match &self.filter {
            Some(filter) => write!(f, " filter (where {filter})"),
            None => Ok(()),
        }
    }
}
