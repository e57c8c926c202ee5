//! A physical plan as pipelines. Walks the plan from the sources up: row-wise operators extend the branches below them,
//! operators that must see all their input end a pipeline and begin the next.

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, OnceLock};

use arrow::compute::SortOptions;
use arrow::record_batch::RecordBatch;
use cobble_plan::offer::ScanTools;
use cobble_plan::physical::{Operator, PhysicalNode, PhysicalPlan, Side};
use cobble_types::Result;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use crate::batch::{BATCH_ROWS, batch_of, schema_of};
use crate::expression::{Compiled, Compiler, Conjunction, Places};
use crate::keys::KeyEncoder;
use crate::measures::Measures;
use crate::memory::MemoryPool;
use crate::operators::aggregate::{Aggregate, Shape};
use crate::operators::filter::Filter;
use crate::operators::gate::GateSource;
use crate::operators::handoff::{Handoff, HandoffSource};
use crate::operators::hash_join::{Build, BuildRows, JoinShape, Probe, SharedTable};
use crate::operators::limit::Limit;
use crate::operators::project::Project;
use crate::operators::single_row::SingleRow;
use crate::operators::sort::{Sort, SortKeys};
use crate::pipeline::{Branch, Pipeline, Sink, Source, StepFactory, Target};

pub struct Lowering<'a> {
    pub plan: &'a PhysicalPlan,
    pub measures: &'a Measures,
    pub pool: Arc<MemoryPool>,
    pub cancel: CancellationToken,
    pub pipelines: Vec<Pipeline>,
}

impl Lowering<'_> {
    /// All pipelines of the plan, the last of which sends the result.
    pub fn lower(mut self, output: mpsc::Sender<Result<RecordBatch>>) -> Result<Vec<Pipeline>> {
        let root = self.plan.root.clone();
        let branches = self.branches(&root)?;
        self.add_pipeline(branches, Target::Output(output));
        Ok(self.pipelines)
    }

    fn add_pipeline(&mut self, branches: Vec<Branch>, target: Target) {
        self.pipelines
            .push(Pipeline { branches: branches.into_iter().map(Arc::new).collect(), target: Arc::new(target) });
    }

    fn branches(&mut self, node: &Arc<PhysicalNode>) -> Result<Vec<Branch>> {
        let meter = self.measures.step(node.step);
        match &node.operator {
            Operator::Gate { gate, ordered } => {
                let tools = ScanTools {
                    cancel: self.cancel.clone(),
                    counters: self.measures.gate(*gate),
                    compiler: Arc::new(Compiler),
                    batch_rows: BATCH_ROWS,
                };
                let source = GateSource::new(self.plan.gates[*gate].scan.clone(), tools);
                Ok(vec![Branch {
                    source: Arc::new(source),
                    source_meter: Some(meter),
                    steps: vec![],
                    ordered: *ordered,
                    phase: 0,
                }])
            }
            Operator::Values { rows } => {
                let schema = schema_of(&node.columns);
                let one = batch_of(&Arc::new(arrow::datatypes::Schema::empty()), vec![], 1)?;
                let places = Places::of(&[]);
                let handoff = Handoff::default();
                for row in rows {
                    let columns = row.iter().map(|e| places.compile(e)?.array(&one)).collect::<Result<_>>()?;
                    handoff.put(&batch_of(&schema, columns, 1)?);
                }
                Ok(vec![Branch {
                    source: Arc::new(HandoffSource(Arc::new(handoff))),
                    source_meter: Some(meter),
                    steps: vec![],
                    ordered: true,
                    phase: 0,
                }])
            }
            Operator::Filter { conjuncts } => {
                let input = &node.inputs[0];
                let conditions = Arc::new(Conjunction::compile(conjuncts, &input.columns)?);
                self.extended(node, Arc::new(Filter { conditions, schema: schema_of(&node.columns) }))
            }
            Operator::Project { columns } => {
                let places = Places::of(&node.inputs[0].columns);
                let expressions = columns.iter().map(|(_, e)| places.compile(e)).collect::<Result<_>>()?;
                self.extended(
                    node,
                    Arc::new(Project { expressions: Arc::new(expressions), schema: schema_of(&node.columns) }),
                )
            }
            Operator::Limit { limit, offset } => self.extended(node, Arc::new(Limit::new(*limit, *offset))),
            Operator::Union => {
                let mut all = Vec::new();
                for input in &node.inputs {
                    let mut branches = self.branches(input)?;
                    // Types agree by place; the projection gives the columns the union's own schema.
                    let places = Places::of(&input.columns);
                    let expressions = input
                        .columns
                        .iter()
                        .map(|c| places.compile(&cobble_plan::Expr::Column(c.clone())))
                        .collect::<Result<Vec<_>>>()?;
                    let step =
                        Arc::new(Project { expressions: Arc::new(expressions), schema: schema_of(&node.columns) });
                    branches
                        .iter_mut()
                        .for_each(|b| b.steps.push((step.clone() as Arc<dyn StepFactory>, meter.clone())));
                    all.append(&mut branches);
                }
                Ok(all)
            }
            Operator::HashJoin { kind, on, residual, build } => {
                let left = Places::of(&node.inputs[0].columns);
                let right = Places::of(&node.inputs[1].columns);
                let left_keys = on.iter().map(|(l, _)| left.compile(l)).collect::<Result<Vec<_>>>()?;
                let right_keys = on.iter().map(|(_, r)| right.compile(r)).collect::<Result<Vec<_>>>()?;
                self.join(node, JoinShape { kind: *kind, build: *build }, left_keys, right_keys, residual)
            }
            Operator::NestedLoopJoin { kind, residual, build } => {
                self.join(node, JoinShape { kind: *kind, build: *build }, vec![], vec![], residual)
            }
            Operator::Aggregate { groups, aggregates } => {
                let places = Places::of(&node.inputs[0].columns);
                let keys = groups.iter().map(|(_, e)| places.compile(e)).collect::<Result<Vec<Compiled>>>()?;
                let encoder = Arc::new(KeyEncoder::new(keys.iter().map(|k| k.data_type().clone()).collect())?);
                let inputs = aggregates
                    .iter()
                    .map(|(_, call)| {
                        let compile = |e: &Option<cobble_plan::Expr>| e.as_ref().map(|e| places.compile(e)).transpose();
                        Ok((compile(&call.argument)?, compile(&call.filter)?))
                    })
                    .collect::<Result<_>>()?;
                let calls = aggregates.iter().map(|(_, call)| call.clone()).collect();
                let out = Arc::new(Handoff::default());
                let sink = Aggregate {
                    shape: Arc::new(Shape { keys, encoder, calls, inputs }),
                    schema: schema_of(&node.columns),
                    pool: self.pool.clone(),
                    meter,
                    finished: Arc::default(),
                    out: out.clone(),
                };
                self.broken(node, Arc::new(sink), out, false)
            }
            Operator::Sort { keys, fetch } => {
                let places = Places::of(&node.inputs[0].columns);
                let keys = keys
                    .iter()
                    .map(|key| {
                        let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
                        Ok((places.compile(&key.expr)?, options))
                    })
                    .collect::<Result<_>>()?;
                let out = Arc::new(Handoff::default());
                let sink = Sort {
                    keys: Arc::new(SortKeys::new(keys)),
                    fetch: fetch.map(|n| usize::try_from(n).unwrap_or(usize::MAX / 8)),
                    schema: schema_of(&node.columns),
                    pool: self.pool.clone(),
                    meter,
                    collected: Arc::default(),
                    out: out.clone(),
                };
                self.broken(node, Arc::new(sink), out, true)
            }
            Operator::SingleRow => {
                let out = Arc::new(Handoff::default());
                let sink = SingleRow { schema: schema_of(&node.columns), row: Arc::default(), out: out.clone() };
                self.broken(node, Arc::new(sink), out, false)
            }
        }
    }

    /// The branches below, each with one more step.
    fn extended(&mut self, node: &Arc<PhysicalNode>, step: Arc<dyn StepFactory>) -> Result<Vec<Branch>> {
        let meter = self.measures.step(node.step);
        let mut branches = self.branches(&node.inputs[0])?;
        branches.iter_mut().for_each(|branch| branch.steps.push((step.clone(), meter.clone())));
        Ok(branches)
    }

    /// Ends the pipeline below in the sink and begins a branch with what the sink hands on.
    fn broken(
        &mut self,
        node: &Arc<PhysicalNode>,
        sink: Arc<dyn Sink>,
        out: Arc<Handoff>,
        ordered: bool,
    ) -> Result<Vec<Branch>> {
        let meter = self.measures.step(node.step);
        let branches = self.branches(&node.inputs[0])?;
        self.add_pipeline(branches, Target::Sink(sink, meter));
        Ok(vec![Branch { source: Arc::new(HandoffSource(out)), source_meter: None, steps: vec![], ordered, phase: 0 }])
    }

    fn join(
        &mut self,
        node: &Arc<PhysicalNode>,
        shape: JoinShape,
        left_keys: Vec<Compiled>,
        right_keys: Vec<Compiled>,
        residual: &[cobble_plan::Expr],
    ) -> Result<Vec<Branch>> {
        let meter = self.measures.step(node.step);
        let (left, right) = (&node.inputs[0], &node.inputs[1]);
        let (build_node, probe_node) = if shape.build == Side::Left { (left, right) } else { (right, left) };
        let (build_keys, probe_keys) =
            if shape.build == Side::Left { (left_keys, right_keys) } else { (right_keys, left_keys) };
        let encoder = Arc::new(KeyEncoder::new(build_keys.iter().map(|k| k.data_type().clone()).collect())?);
        let table: SharedTable = Arc::new(OnceLock::new());
        let pair_columns: Vec<_> = left.columns.iter().chain(&right.columns).cloned().collect();

        let build_branches = self.branches(build_node)?;
        let build = Build {
            shape,
            keys: Arc::new(build_keys),
            encoder: encoder.clone(),
            schema: schema_of(&build_node.columns),
            pool: self.pool.clone(),
            meter: meter.clone(),
            collected: Arc::default(),
            table: table.clone(),
        };
        self.add_pipeline(build_branches, Target::Sink(Arc::new(build), meter.clone()));

        let mut branches = self.branches(probe_node)?;
        let probe: Arc<dyn StepFactory> = Arc::new(Probe {
            shape,
            keys: Arc::new(probe_keys),
            encoder,
            residual: Arc::new(Conjunction::compile(residual, &pair_columns)?),
            has_residual: !residual.is_empty(),
            pair_schema: schema_of(&pair_columns),
            schema: schema_of(&node.columns),
            table: table.clone(),
        });
        branches.iter_mut().for_each(|branch| branch.steps.push((probe.clone(), meter.clone())));
        if shape.has_second_phase() {
            let phase = branches.iter().map(|b| b.phase).max().unwrap_or(0) + 1;
            let rows = BuildRows {
                shape,
                schema: schema_of(&node.columns),
                probe_schema: schema_of(&probe_node.columns),
                table,
                taken: Arc::new(AtomicBool::new(false)),
            };
            branches.push(Branch {
                source: Arc::new(rows) as Arc<dyn Source>,
                source_meter: Some(meter),
                steps: vec![],
                ordered: false,
                phase,
            });
        }
        Ok(branches)
    }
}
