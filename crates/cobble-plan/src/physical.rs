//! The physical plan: the steps that run, numbered from the sources up, and the gates below them.

use std::sync::Arc;

use crate::aggregate::AggregateCall;
use crate::document::PlanDocument;
use crate::expr::{Column, Expr};
use crate::key_pass::KeyPass;
use crate::logical::{self, JoinKey, JoinKind, LogicalPlan, Mark, SortKey};
use crate::offer::GateScan;
use crate::range_join::RangeOn;
use crate::table_function::RowMaker;
use crate::window::WindowCall;

#[derive(Debug)]
pub struct PhysicalPlan {
    pub root: Arc<PhysicalNode>,
    pub gates: Vec<Gate>,
    /// Keys that joins hand to gates when they have collected one side.
    pub key_passes: Vec<KeyPass>,
    /// What the reader is shown; measures are added to a copy while running.
    pub document: PlanDocument,
}

#[derive(Debug)]
pub struct Gate {
    pub letter: String,
    pub connection: String,
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
    HashJoin(JoinWork),
    /// Partners by searching the sorted build side; for joins whose conditions are bounds.
    RangeJoin(JoinWork, Arc<RangeOn>),
    /// Every row with every row; for joins without an equality.
    NestedLoopJoin(JoinWork),
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
    Window {
        partition: Vec<Expr>,
        order: Vec<SortKey>,
        calls: Vec<(Column, WindowCall)>,
    },
    Expand {
        makers: Vec<RowMaker>,
        outer: bool,
    },
    /// All inputs but the last are computed once and kept under these ids for the `CteScan`s; the last one's rows come out.
    With {
        ids: Vec<u32>,
    },
    CteScan {
        id: u32,
        name: String,
        /// Where each column stands in the definition.
        places: Vec<usize>,
    },
    /// The rows of the first input, then of the second over what came last, until nothing comes.
    Recursive {
        id: u32,
        name: String,
        distinct: bool,
    },
}

#[derive(Debug, Clone)]
pub struct JoinWork {
    pub kind: JoinKind,
    pub on: Vec<JoinKey>,
    pub residual: Vec<Expr>,
    pub mark: Option<Mark>,
    pub build: Side,
}

impl JoinWork {
    fn text(&self) -> String {
        let nothing = || Arc::new(LogicalPlan::Values { columns: vec![], rows: vec![] });
        logical::Join {
            left: nothing(),
            right: nothing(),
            kind: self.kind,
            on: self.on.clone(),
            residual: self.residual.clone(),
            mark: self.mark.clone(),
        }
        .text()
    }
}

impl Operator {
    /// The operator's name as a stable word.
    pub fn kind(&self) -> &'static str {
        match self {
            Operator::Gate { .. } => "gate",
            Operator::Values { .. } => "values",
            Operator::Filter { .. } => "filter",
            Operator::Project { .. } => "project",
            Operator::HashJoin(_) => "hash_join",
            Operator::RangeJoin(..) => "range_join",
            Operator::NestedLoopJoin(_) => "nested_loop_join",
            Operator::Aggregate { .. } => "aggregate",
            Operator::Sort { .. } => "sort",
            Operator::Limit { .. } => "limit",
            Operator::Union => "union",
            Operator::Window { .. } => "window",
            Operator::Expand { .. } => "expand",
            Operator::With { .. } => "with",
            Operator::CteScan { .. } => "cte_scan",
            Operator::Recursive { .. } => "recursive",
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
            Operator::HashJoin(join) => format!("{}; hash of step {}", join.text(), build_step(&join.build)),
            Operator::RangeJoin(join, range) => {
                format!("{}; step {} sorted by {range}", join.text(), build_step(&join.build))
            }
            Operator::NestedLoopJoin(join) => format!("{}; loop over step {}", join.text(), build_step(&join.build)),
            Operator::Aggregate { groups, aggregates } => logical::aggregate_text(groups, aggregates),
            Operator::Sort { keys, fetch } => logical::sort_text(keys, *fetch),
            Operator::Limit { limit, offset } => logical::limit_text(*limit, *offset),
            Operator::Union => format!("all rows of {} inputs", inputs.len()),
            Operator::Window { partition, order, calls } => logical::window_text(partition, order, calls),
            Operator::Expand { makers, outer } => RowMaker::text(makers, *outer),
            Operator::With { .. } => {
                let steps: Vec<String> =
                    inputs.iter().take(inputs.len().saturating_sub(1)).map(|input| input.step.to_string()).collect();
                format!("keep the rows of step {} for all their readers", steps.join(", "))
            }
            Operator::CteScan { name, .. } => format!("rows of {name}"),
            Operator::Recursive { name, .. } => format!("repeat {name} until nothing new comes"),
        }
    }
}

/// A, B, … Z, AA, AB, …
pub fn gate_letter(index: usize) -> String {
    let letter = char::from(b'A' + (index % 26) as u8);
    if index < 26 { letter.to_string() } else { format!("{}{letter}", gate_letter(index / 26 - 1)) }
}
