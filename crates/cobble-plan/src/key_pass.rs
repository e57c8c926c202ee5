//! The key pass: when a join has collected one side, what it knows of that side's keys reaches the scan of the other side
//! before the scan opens. The join still looks at every row that comes; the pass only spares reading rows without a partner.

use std::sync::Arc;

use cobble_types::{SqlType, Value};
use serde::{Deserialize, Serialize};

use crate::expr::{BinaryOp, Column, Expr};
use crate::logical::JoinKind;
use crate::physical::{JoinWork, Operator, PhysicalNode, Side};
use crate::scan::BatchPredicate;

/// Keys that are sent one by one at most; more go as a range.
pub const MOST_LISTED: usize = 1000;
/// A pass is not worth it when more than this share of the rows are expected to have a partner.
pub const MOST_KEPT: f64 = 0.5;
/// Scans of fewer rows than this are read as they are.
pub const FEWEST_ROWS: f64 = 100.0;

/// One key of one join that reaches one gate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeyPass {
    /// The join's step, and the place of the key among its keys.
    pub join: usize,
    pub key: usize,
    pub gate: usize,
    /// The gate's column that must have a partner, and its place among the gate's columns.
    pub column: Column,
    pub place: usize,
}

/// What a finished build side knows of one of its keys. Nulls are not among them: they have no partner.
#[derive(Clone)]
pub struct LearnedKeys {
    pub pass: KeyPass,
    /// Distinct keys, or rows when they were too many to be counted.
    pub count: usize,
    pub range: Option<(Value, Value)>,
    /// All of them in order, when there are at most `MOST_LISTED`.
    pub listed: Option<Vec<Value>>,
    /// Tests batches of the one column; never false for a key that is there.
    pub test: Arc<dyn BatchPredicate>,
}

impl LearnedKeys {
    /// What every row with a partner satisfies, as a condition on the column, and what it is in words.
    pub fn condition(&self) -> Option<(Expr, &'static str)> {
        let column = || Expr::Column(self.pass.column.clone());
        let literal =
            |value: &Value| Expr::Literal { value: value.clone(), sql_type: self.pass.column.sql_type.clone() };
        if let Some(listed) = &self.listed {
            let list: Vec<Expr> = listed.iter().map(literal).collect();
            return Some(match list.is_empty() {
                true => (Expr::boolean(false), "none"),
                false => (Expr::InList { operand: Box::new(column()), list, negated: false }, "a list"),
            });
        }
        let (least, greatest) = self.range.as_ref()?;
        let within = Expr::Binary {
            op: BinaryOp::And,
            left: Box::new(Expr::compare(BinaryOp::GtEq, column(), literal(least))),
            right: Box::new(Expr::compare(BinaryOp::LtEq, column(), literal(greatest))),
            sql_type: SqlType::Boolean,
        };
        Some((within, "a range"))
    }
}

/// True when a probe row without a partner leaves no trace in the join's result.
pub fn drops_unmatched_probe(join: &JoinWork) -> bool {
    let probe_is_left = join.build == Side::Right;
    match join.kind {
        JoinKind::Inner | JoinKind::Semi => true,
        JoinKind::Left => !probe_is_left,
        JoinKind::Right => probe_is_left,
        JoinKind::Anti => !probe_is_left,
        JoinKind::Full | JoinKind::NullAwareAnti | JoinKind::Single | JoinKind::Mark => false,
    }
}

/// The gates in which the column can be tested instead of here, with the column's name there. Goes down only where a row that
/// is missing below is a row, or rows with this very value, missing here.
pub fn gates_of(node: &PhysicalNode, column: &Column, found: &mut Vec<(usize, Column, usize)>) {
    let below = |place: usize, column: &Column, found: &mut Vec<(usize, Column, usize)>| {
        gates_of(&node.inputs[place], column, found);
    };
    let renamed = |made: &[(Column, Expr)]| {
        made.iter().find(|(own, _)| own.id == column.id).and_then(|(_, expr)| match expr {
            Expr::Column(source) => Some(source.clone()),
            _ => None,
        })
    };
    match &node.operator {
        Operator::Gate { gate, .. } => {
            if let Some(place) = node.columns.iter().position(|c| c.id == column.id) {
                found.push((*gate, node.columns[place].clone(), place));
            }
        }
        Operator::Filter { .. } | Operator::Sort { fetch: None, .. } => below(0, column, found),
        Operator::Project { columns } => {
            if let Some(source) = renamed(columns) {
                below(0, &source, found);
            }
        }
        Operator::Aggregate { groups, .. } => {
            if let Some(source) = renamed(groups) {
                below(0, &source, found);
            }
        }
        Operator::Expand { .. } if node.inputs[0].columns.iter().any(|c| c.id == column.id) => below(0, column, found),
        Operator::Window { partition, .. } => {
            if partition.iter().any(|e| matches!(e, Expr::Column(c) if c.id == column.id)) {
                below(0, column, found);
            }
        }
        Operator::Union => {
            if let Some(place) = node.columns.iter().position(|c| c.id == column.id) {
                for input in &node.inputs {
                    gates_of(input, &input.columns[place], found);
                }
            }
        }
        Operator::HashJoin(join) | Operator::NestedLoopJoin(join) | Operator::RangeJoin(join, _) => {
            let from_left = node.inputs[0].columns.iter().any(|c| c.id == column.id);
            let may = match join.kind {
                JoinKind::Inner => true,
                JoinKind::Full => false,
                JoinKind::Right => !from_left,
                _ => from_left,
            };
            if may {
                below(usize::from(!from_left), column, found);
            }
        }
        Operator::With { .. } => below(node.inputs.len() - 1, column, found),
        Operator::Values { .. }
        | Operator::Sort { .. }
        | Operator::Limit { .. }
        | Operator::Write { .. }
        | Operator::Change { .. }
        | Operator::Expand { .. }
        | Operator::CteScan { .. }
        | Operator::Recursive { .. } => {}
    }
}
