//! The physical plan: the steps that run, numbered from the sources up, and the gates below them.

use std::sync::Arc;

use crate::aggregate::AggregateCall;
use crate::document::PlanDocument;
use crate::expr::{Column, Expr};
use crate::logical::{self, JoinKind, SortKey};
use crate::offer::GateScan;

#[derive(Debug)]
pub struct PhysicalPlan {
    pub root: Arc<PhysicalNode>,
    pub gates: Vec<Gate>,
    /// What the reader is shown; measures are added to a copy while running.
    pub document: PlanDocument,
}

#[derive(Debug)]
pub struct Gate {
    pub letter: String,
    pub scan: Arc<dyn GateScan>,
}

#[derive(Debug)]
pub struct PhysicalNode {
    /// Counted from one at the first source.
    pub step: usize,
    pub operator: Operator,
    pub columns: Vec<Column>,
    pub inputs: Vec<Arc<PhysicalNode>>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    Left,
    Right,
}

#[derive(Debug, Clone)]
pub enum Operator {
    /// Rows from the gate at this place in the plan's list. With `ordered`, their order matters.
    Gate {
        gate: usize,
        ordered: bool,
    },
    Values {
        rows: Vec<Vec<Expr>>,
    },
    Filter {
        conjuncts: Vec<Expr>,
    },
    Project {
        columns: Vec<(Column, Expr)>,
    },
    HashJoin {
        kind: JoinKind,
        on: Vec<(Expr, Expr)>,
        residual: Vec<Expr>,
        build: Side,
    },
    /// Every row with every row; for joins without an equality.
    NestedLoopJoin {
        kind: JoinKind,
        residual: Vec<Expr>,
        build: Side,
    },
    Aggregate {
        groups: Vec<(Column, Expr)>,
        aggregates: Vec<(Column, AggregateCall)>,
    },
    Sort {
        keys: Vec<SortKey>,
        fetch: Option<u64>,
    },
    Limit {
        limit: Option<u64>,
        offset: u64,
    },
    Union,
    SingleRow,
}

impl Operator {
    /// The operator's name as a stable word.
    pub fn kind(&self) -> &'static str {
        match self {
            Operator::Gate { .. } => "gate",
            Operator::Values { .. } => "values",
            Operator::Filter { .. } => "filter",
            Operator::Project { .. } => "project",
            Operator::HashJoin { .. } => "hash_join",
            Operator::NestedLoopJoin { .. } => "nested_loop_join",
            Operator::Aggregate { .. } => "aggregate",
            Operator::Sort { .. } => "sort",
            Operator::Limit { .. } => "limit",
            Operator::Union => "union",
            Operator::SingleRow => "single_row",
        }
    }

    /// What the step does, in words.
    pub fn line(&self, inputs: &[Arc<PhysicalNode>]) -> String {
        let build_step = |side: &Side| match side {
            Side::Left => inputs[0].step,
            Side::Right => inputs[1].step,
        };
        match self {
            Operator::Gate { gate, .. } => format!("gate {}", gate_letter(*gate)),
            Operator::Values { rows } => {
                format!("{} constant row{}", rows.len(), if rows.len() == 1 { "" } else { "s" })
            }
            Operator::Filter { conjuncts } => format!("keep rows where {}", logical::conjunct_text(conjuncts)),
            Operator::Project { columns } => format!("compute {}", logical::project_text(columns)),
            Operator::HashJoin { kind, on, residual, build } => {
                format!("{}; hash of step {}", logical::join_text(*kind, on, residual), build_step(build))
            }
            Operator::NestedLoopJoin { kind, residual, build } => {
                format!("{}; loop over step {}", logical::join_text(*kind, &[], residual), build_step(build))
            }
            Operator::Aggregate { groups, aggregates } => logical::aggregate_text(groups, aggregates),
            Operator::Sort { keys, fetch } => logical::sort_text(keys, *fetch),
            Operator::Limit { limit, offset } => logical::limit_text(*limit, *offset),
            Operator::Union => format!("all rows of {} inputs", inputs.len()),
            Operator::SingleRow => "at most one row".to_owned(),
        }
    }
}

/// A, B, … Z, AA, AB, …
pub fn gate_letter(index: usize) -> String {
    let letter = char::from(b'A' + (index % 26) as u8);
    if index < 26 { letter.to_string() } else { format!("{}{letter}", gate_letter(index / 26 - 1)) }
}
