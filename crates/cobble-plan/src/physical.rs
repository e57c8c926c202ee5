//! The physical plan: the steps that run, numbered from the sources up, and the gates below them.

use std::sync::Arc;

use cobble_types::{Code, Error, ObjectName, Result};
use serde::{Deserialize, Serialize};

use crate::aggregate::AggregateCall;
use crate::document::PlanDocument;
use crate::expr::{Column, Expr};
use crate::key_pass::KeyPass;
use crate::logical::{self, JoinKey, JoinKind, LogicalPlan, Mark, SortKey};
use crate::range_join::RangeOn;
use crate::scan::ScanSpec;
use crate::serial;
use crate::sink::{Returning, RowChange, SinkSpec};
use crate::table_function::RowMaker;
use crate::verify::verify_physical;
use crate::window::WindowCall;

#[derive(Debug, Serialize, Deserialize)]
pub struct PhysicalPlan {
    pub root: Arc<PhysicalNode>,
    pub gates: Vec<Gate>,
    /// Keys that joins hand to gates when they have collected one side.
    pub key_passes: Vec<KeyPass>,
    /// Where rows are written, if they are.
    pub sinks: Vec<SinkSpec>,
    /// What the reader is shown; measures are added to a copy while running.
    pub document: PlanDocument,
}

#[derive(Debug, Serialize, Deserialize)]
pub struct Gate {
    pub letter: String,
    pub spec: ScanSpec,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PhysicalNode {
    /// Counted from one at the first source.
    pub step: usize,
    pub operator: Operator,
    pub columns: Vec<Column>,
    pub inputs: Vec<Arc<PhysicalNode>>,
}

impl PhysicalPlan {
    /// The plan in its serial form.
    pub fn to_bytes(&self) -> Result<Vec<u8>> {
        serial::marked(self)
    }

    /// # Errors
    /// When the bytes are no plan, one in another form, or one that does not hold together.
    pub fn from_bytes(bytes: &[u8]) -> Result<PhysicalPlan> {
        let plan: PhysicalPlan = serial::unmarked(bytes)?;
        plan.check()?;
        Ok(plan)
    }

    /// What running relies on: numbers that are places, operators with their inputs, expressions over columns that there are.
    pub fn check(&self) -> Result<()> {
        let has_places = self.document.gates.len() == self.gates.len()
            && self.key_passes.iter().all(|pass| pass.gate < self.gates.len());
        if !has_places || !self.root.is_whole(self) {
            return Err(Error::new(
                Code::InvalidValue,
                "the plan does not hold together: an operator lacks what it names",
            ));
        }
        verify_physical(&self.root, &self.root.columns)
    }
}

impl PhysicalNode {
    fn is_whole(&self, plan: &PhysicalPlan) -> bool {
        let (inputs, steps, gates) = (self.inputs.len(), plan.document.steps.len(), plan.gates.len());
        let is_top = std::ptr::eq(self, plan.root.as_ref());
        let fits = match &self.operator {
            Operator::Gate { gate, .. } => inputs == 0 && *gate < gates,
            Operator::Values { .. } | Operator::CteScan { .. } => inputs == 0,
            // Writes stand at the top alone.
            Operator::Write { sink, .. } => inputs == 1 && is_top && *sink < plan.sinks.len(),
            Operator::Change { gate, .. } => inputs == 1 && is_top && *gate < gates,
            Operator::Filter { .. }
            | Operator::Project { .. }
            | Operator::Aggregate { .. }
            | Operator::Sort { .. }
            | Operator::Limit { .. }
            | Operator::Window { .. }
            | Operator::Expand { .. } => inputs == 1,
            Operator::HashJoin(_)
            | Operator::RangeJoin(..)
            | Operator::NestedLoopJoin(_)
            | Operator::Recursive { .. } => inputs == 2,
            Operator::With { ids } => inputs == ids.len() + 1,
            Operator::Union => true,
        };
        fits && (1..=steps).contains(&self.step) && self.inputs.iter().all(|input| input.is_whole(plan))
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Side {
    Left,
    Right,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum Operator {
    /// Rows from the gate at this place in the plan's list. With `ordered`, their order matters.
    Gate {
        gate: usize,
        ordered: bool,
    },
    Values {
        rows: Vec<Vec<Expr>>,
    },
    /// All rows go to the sink at this place in the plan's list; what it has done comes out.
    Write {
        sink: usize,
        returning: Option<Returning>,
    },
    /// The source changes the rows that the gate below finds, instead of giving them; what it has done comes out.
    Change {
        gate: usize,
        table: ObjectName,
        change: RowChange,
        returning: Option<Returning>,
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

#[derive(Debug, Clone, Serialize, Deserialize)]
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
            Operator::Write { .. } => "write",
            Operator::Change { .. } => "change",
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
            // Their sinks and gates say more; the planner writes it beside them.
            Operator::Write { .. } => "write rows".to_owned(),
            Operator::Change { table, .. } => format!("change rows of {table}"),
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

#[cfg(test)]
mod tests {
    use cobble_types::{ColumnId, ObjectName, SqlType, Value};

    use super::*;
    use crate::document::{GateDocument, StepDocument};
    use crate::offer::Request;

    fn column() -> Column {
        Column { id: ColumnId(1), qualifier: None, name: "fare".into(), sql_type: SqlType::Integer }
    }

    /// A gate, a filter over it, and a limit over that.
    fn plan() -> PhysicalPlan {
        let node = |step, operator, inputs| Arc::new(PhysicalNode { step, operator, columns: vec![column()], inputs });
        let gate = node(1, Operator::Gate { gate: 0, ordered: false }, vec![]);
        let condition = Expr::compare(
            crate::BinaryOp::Gt,
            Expr::Column(column()),
            Expr::Literal { value: Value::Integer(7), sql_type: SqlType::Integer },
        );
        let kept = node(2, Operator::Filter { conjuncts: vec![condition] }, vec![gate]);
        let root = node(3, Operator::Limit { limit: Some(5), offset: 0 }, vec![kept]);
        let table = ObjectName::new("drop", "public", "tariffs");
        let spec = ScanSpec::new(("drop_files", "files"), &table, 3, &vec![1, 2]).unwrap();
        let spec = spec.with_portions(["a", "b"]).unwrap();
        let gate = GateDocument {
            gate: "A".into(),
            step: 1,
            connection: "drop_files".into(),
            kind: "files".into(),
            region: None,
            tables: vec![table.to_string()],
            columns_read: vec!["fare".into()],
            columns_total: 3,
            pieces: vec![],
            request: Request::default(),
            parts: vec![],
            estimated_rows: 10.0,
            estimated_bytes: None,
            measure: None,
        };
        let document =
            PlanDocument { steps: vec![StepDocument::default(); 3], gates: vec![gate], ..Default::default() };
        let key_passes = vec![KeyPass { join: 3, key: 0, gate: 0, column: column(), place: 0 }];
        PhysicalPlan { root, gates: vec![Gate { letter: "A".into(), spec }], key_passes, sinks: vec![], document }
    }

    #[test]
    fn a_plan_is_the_same_after_a_journey() {
        let plan = plan();
        let bytes = plan.to_bytes().unwrap();
        let read = PhysicalPlan::from_bytes(&bytes).unwrap();
        assert_eq!(read.document, plan.document);
        assert_eq!(read.gates[0].spec, plan.gates[0].spec);
        assert_eq!(format!("{:?}", read.root), format!("{:?}", plan.root));
        assert_eq!(read.to_bytes().unwrap(), bytes);
        let spec = &read.gates[0].spec;
        assert_eq!(spec.unpack::<Vec<i32>>(3).unwrap(), [1, 2]);
        assert_eq!(spec.unpack_portions::<String>().unwrap(), ["a", "b"]);
        let error = spec.unpack::<Vec<i32>>(4).unwrap_err().to_string();
        assert!(error.contains("form 3 of kind files, and form 4 is understood"), "{error}");
    }

    #[test]
    fn a_plan_that_does_not_hold_together_is_refused() {
        type Spoil = fn(&mut PhysicalPlan);
        let spoilt: [(&str, Spoil); 7] = [
            ("a gate that is not there", |p| p.gates.clear()),
            ("a gate without a description", |p| p.document.gates.clear()),
            ("a key pass to nowhere", |p| p.key_passes[0].gate = 9),
            ("a step beyond all", |p| p.document.steps.truncate(2)),
            ("a filter without its input", |p| {
                let root = Arc::make_mut(&mut p.root);
                root.inputs = vec![Arc::new(PhysicalNode { inputs: vec![], ..root.inputs[0].as_ref().clone() })];
            }),
            ("a step that is no number", |p| Arc::make_mut(&mut p.root).step = 0),
            ("a column that nothing brings", |p| {
                let lost = Column { id: ColumnId(8), ..column() };
                Arc::make_mut(&mut p.root).columns = vec![lost];
            }),
        ];
        for (what, spoil) in spoilt {
            let mut plan = plan();
            spoil(&mut plan);
            assert!(PhysicalPlan::from_bytes(&plan.to_bytes().unwrap()).is_err(), "{what}");
        }
    }
}
