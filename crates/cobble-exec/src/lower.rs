//! A physical plan as pipelines. Walks the plan from the sources up: row-wise operators extend the branches below them,
//! operators that must see all their input end a pipeline and begin the next.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, new_empty_array};
use arrow::compute::{SortOptions, concat};
use arrow::datatypes::SchemaRef;
use cobble_functions::{Overload, Resolved};
use cobble_plan::key_pass::KeyPass;
use cobble_plan::physical::{JoinWork, Operator, PhysicalNode, Side};
use cobble_plan::range_join::{self, RangeOn};
use cobble_plan::scan::{GateCounters, GateScan, ScanTools};
use cobble_plan::sink::SourceChange;
use cobble_plan::window::{FrameBound, WindowCall, WindowFunction};
use cobble_plan::{Column, Expr, RowMaker, SortKey};
use cobble_types::{Error, Result, SqlType};
use tokio_util::sync::CancellationToken;

use crate::batch::{BATCH_ROWS, batch_of, schema_of};
use crate::expression::{Compiled, Compiler, Conjunction, Places};
use crate::measures::{Measures, StepMeter};
use crate::memory::{MemoryPool, Reservation};
use crate::operators::accumulators::accumulator;
use crate::operators::aggregate::{Aggregate, AggregateSpec, Merged};
use crate::operators::cte::{CteSource, Keep, Kept, Recursion, Shelf};
use crate::operators::expand::{Expand, Maker};
use crate::operators::filter::Filter;
use crate::operators::gate::{GateMemory, GateSource};
use crate::operators::handoff::{Handoff, HandoffSource};
use crate::operators::join::{
    Build, JoinShape, JoinSpec, KeySlot, Learner, MarkRule, Probe, RangeKey, RangeKeys, Rest,
};
use crate::operators::limit::Limit;
use crate::operators::project::Project;
use crate::operators::sort::{Sort, SortKeys, SortSpec, SortedRuns};
use crate::operators::window::{Bound, Call, Function, WindowShape, WindowSink, WindowSource};
use crate::operators::write::{Answer, Changing, Writing};
use crate::output::Output;
use crate::pipeline::{Bounds, Branch, Pipeline, Sink, Source, StepFactory, Target, run_graph};
use crate::run::Opened;
use crate::spill::SpillPlace;
use cobble_functions::keys::KeyEncoder;

/// A gate's scan, the name of its connection, and the portions that were agreed; none where there may be more of them.
pub struct OpenGate {
    pub connection: String,
    pub scan: Arc<dyn GateScan>,
    pub portions: usize,
}

/// What the operators of a run share.
#[derive(Clone)]
pub struct Surroundings {
    pub gates: Arc<Vec<OpenGate>>,
    pub key_passes: Arc<Vec<KeyPass>>,
    pub measures: Arc<Measures>,
    pub pool: Arc<MemoryPool>,
    pub cancel: CancellationToken,
    pub spill: SpillPlace,
    pub shelf: Shelf,
    pub tasks: usize,
    /// The writers of the plan's sinks, each for the step that writes there, and the changes of its gates.
    pub writers: Arc<Mutex<Vec<Option<Opened>>>>,
    pub changes: Arc<HashMap<usize, Arc<dyn SourceChange>>>,
}

impl Surroundings {
    /// All rows of a part of the plan, run now: a round of a recursion.
    pub async fn run_to_end(&self, node: &Arc<PhysicalNode>, schema: &SchemaRef) -> Result<Arc<Kept>> {
        let keep = self.keep(schema, node);
        let kept = keep.kept.clone();
        let mut lowering = Lowering::new(self.clone());
        let branches = lowering.branches(node)?;
        lowering.add_pipeline(branches, Target::Sink(Arc::new(keep), self.measures.step(node.step)));
        let bounds = Bounds { cancel: self.cancel.clone(), pool: self.pool.clone() };
        run_graph(lowering.pipelines, self.tasks, &bounds).await?;
        Ok(kept)
    }

    /// A place for what a step gives, in memory and on disk.
    pub fn keep(&self, schema: &SchemaRef, node: &PhysicalNode) -> Keep {
        let (pool, meter) = (self.pool.clone(), self.measures.step(node.step));
        let own = meter.clone();
        Keep {
            kept: Arc::new(Kept::new(schema.clone())),
            memory: Arc::new(move || Reservation::new(&pool, &own)),
            meter,
            spill: self.spill.clone(),
        }
    }
}

pub struct Lowering {
    run: Surroundings,
    pipelines: Vec<Pipeline>,
    /// Where a join leaves its keys for a gate, by join, key and gate.
    key_slots: HashMap<(usize, usize, usize), KeySlot>,
    /// The pipeline that builds a join's table, by the join's step.
    builds: HashMap<usize, usize>,
    /// The pipeline that keeps a common result, by the result's id.
    results: HashMap<u32, usize>,
}

impl Lowering {
    pub fn new(run: Surroundings) -> Self {
        Lowering {
            run,
            pipelines: Vec::new(),
            key_slots: HashMap::new(),
            builds: HashMap::new(),
            results: HashMap::new(),
        }
    }

    fn key_slot(&mut self, pass: &KeyPass) -> KeySlot {
        self.key_slots.entry((pass.join, pass.key, pass.gate)).or_default().clone()
    }

    /// All pipelines of the plan. The last one sends the result.
    pub fn lower(mut self, root: &Arc<PhysicalNode>, output: Output) -> Result<Vec<Pipeline>> {
        let branches = self.branches(root)?;
        self.add_pipeline(branches, Target::Output(output));
        Ok(self.pipelines)
    }

    /// Adds a pipeline, and says its place in the graph.
    fn add_pipeline(&mut self, branches: Vec<Branch>, target: Target) -> usize {
        self.pipelines
            .push(Pipeline { branches: branches.into_iter().map(Arc::new).collect(), target: Arc::new(target) });
        self.pipelines.len() - 1
    }

    fn project(&self, expressions: Vec<Compiled>, node: &PhysicalNode) -> Project {
        Project {
            expressions: Arc::new(expressions),
            schema: schema_of(&node.columns),
            pool: self.run.pool.clone(),
            meter: self.run.measures.step(node.step),
        }
    }

    /// What a source or a writer may use of the run, for the step of this meter.
    fn tools(&self, counters: Arc<GateCounters>, meter: &Arc<StepMeter>) -> ScanTools {
        ScanTools {
            cancel: self.run.cancel.clone(),
            counters,
            compiler: Arc::new(Compiler),
            batch_rows: BATCH_ROWS,
            keys: vec![],
            memory: Arc::new(GateMemory { pool: self.run.pool.clone(), meter: meter.clone() }),
        }
    }

    fn branches(&mut self, node: &Arc<PhysicalNode>) -> Result<Vec<Branch>> {
        let meter = self.run.measures.step(node.step);
        match &node.operator {
            Operator::Gate { gate, ordered } => {
                let tools = self.tools(self.run.measures.gate(*gate), &meter);
                let passes = self.run.key_passes.clone();
                let passes: Vec<&KeyPass> = passes.iter().filter(|p| p.gate == *gate).collect();
                let keys = passes.iter().map(|p| self.key_slot(p)).collect();
                let open = &self.run.gates[*gate];
                let source = GateSource::new(open.scan.clone(), open.portions, tools, keys);
                let mut branch = Branch::new(Arc::new(source), meter, *ordered);
                branch.connections.insert(open.connection.clone());
                // The keys are known when their join's table has been built.
                branch.needs.extend(passes.iter().filter_map(|p| self.builds.get(&p.join)));
                Ok(vec![branch])
            }
            Operator::Write { sink, returning } => {
                let writer = self
                    .run
                    .writers
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .get_mut(*sink)
                    .and_then(Option::take);
                let (table, mut writer) = writer.ok_or_else(|| Error::internal("a write without its writer"))?;
                writer.begin(self.tools(Arc::default(), &meter));
                let answer = Answer::new(&table, returning.as_ref(), &node.columns)?;
                let writing = Arc::new(Writing::start(writer, answer, meter));
                let branches = self.branches(&node.inputs[0])?;
                let place = self.add_pipeline(branches, Target::Write(writing.clone()));
                let mut branch = Branch {
                    source_meter: None,
                    ..Branch::new(Arc::new(HandoffSource(writing.out.clone())), self.run.measures.step(node.step), true)
                };
                branch.needs.insert(place);
                Ok(vec![branch])
            }
            Operator::Change { gate, table, returning, .. } => {
                let change =
                    self.run.changes.get(gate).ok_or_else(|| Error::internal("a change without its statement"))?;
                let changing = Changing {
                    change: change.clone(),
                    answer: Arc::new(Answer::new(table, returning.as_ref(), &node.columns)?),
                    counters: self.run.measures.gate(*gate),
                    meter: meter.clone(),
                    gate: self.run.measures.step(node.inputs[0].step),
                    cancel: self.run.cancel.clone(),
                };
                Ok(vec![Branch { source_meter: None, ..Branch::new(Arc::new(changing), meter, true) }])
            }
            Operator::Values { rows } => {
                let schema = schema_of(&node.columns);
                let one = batch_of(&Arc::new(arrow::datatypes::Schema::empty()), vec![], 1)?;
                let places = Places::of(&[]);
                let handoff = Handoff::default();
                let columns = (0..node.columns.len())
                    .map(|place| {
                        let values = rows.iter().map(|row| places.compile(&row[place])?.array(&one));
                        let values = values.collect::<Result<Vec<_>>>()?;
                        let values: Vec<&dyn Array> = values.iter().map(AsRef::as_ref).collect();
                        Ok(if values.is_empty() {
                            new_empty_array(schema.field(place).data_type())
                        } else {
                            concat(&values)?
                        })
                    })
                    .collect::<Result<_>>()?;
                handoff.put(&batch_of(&schema, columns, rows.len())?);
                Ok(vec![Branch::new(Arc::new(HandoffSource(Arc::new(handoff))), meter, true)])
            }
            Operator::Filter { conjuncts } => {
                let input = &node.inputs[0];
                let conditions = Arc::new(Conjunction::compile(conjuncts, &input.columns)?);
                self.extended(node, Arc::new(Filter { conditions, schema: schema_of(&node.columns) }))
            }
            Operator::Project { columns } => {
                let places = Places::of(&node.inputs[0].columns);
                let expressions = columns.iter().map(|(_, e)| places.compile(e)).collect::<Result<_>>()?;
                self.extended(node, Arc::new(self.project(expressions, node)))
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
                    let step = Arc::new(self.project(expressions, node));
                    branches
                        .iter_mut()
                        .for_each(|b| b.steps.push((step.clone() as Arc<dyn StepFactory>, meter.clone())));
                    all.append(&mut branches);
                }
                Ok(all)
            }
            Operator::HashJoin(join) | Operator::NestedLoopJoin(join) => self.join(node, join, None),
            Operator::RangeJoin(join, range) => self.join(node, join, Some(range)),
            Operator::Aggregate { groups, aggregates } => {
                let places = Places::of(&node.inputs[0].columns);
                let keys = groups.iter().map(|(_, e)| places.compile(e)).collect::<Result<Vec<Compiled>>>()?;
                let encoder = Arc::new(KeyEncoder::new(keys.iter().map(|k| k.data_type().clone()).collect())?);
                let inputs = aggregates
                    .iter()
                    .map(|(_, call)| {
                        let values = call.arguments.iter().chain(call.order.iter().map(|key| &key.expr));
                        let filter = call.filter.as_ref().map(|e| places.compile(e)).transpose()?;
                        Ok((values.map(|e| places.compile(e)).collect::<Result<_>>()?, filter))
                    })
                    .collect::<Result<_>>()?;
                let widths = aggregates.iter().map(|(_, call)| Ok(accumulator(call)?.state(0)?.len()));
                let spec = Arc::new(AggregateSpec {
                    keys,
                    encoder,
                    calls: aggregates.iter().map(|(_, call)| call.clone()).collect(),
                    inputs,
                    widths: widths.collect::<Result<_>>()?,
                    schema: schema_of(&node.columns),
                    pool: self.run.pool.clone(),
                    meter,
                    spill: self.run.spill.clone(),
                    finished: Mutex::default(),
                    out: Mutex::default(),
                });
                self.broken(node, Arc::new(Aggregate(spec.clone())), Arc::new(Merged(spec)), false)
            }
            Operator::Sort { keys, fetch } => {
                let spec = Arc::new(SortSpec {
                    keys: SortKeys::new(sort_keys(keys, &node.inputs[0].columns)?),
                    fetch: fetch.map(|n| usize::try_from(n).unwrap_or(usize::MAX / 8)),
                    schema: schema_of(&node.columns),
                    pool: self.run.pool.clone(),
                    meter,
                    spill: self.run.spill.clone(),
                    runs: Mutex::default(),
                });
                self.broken(node, Arc::new(Sort(spec.clone())), Arc::new(SortedRuns(spec)), true)
            }
            Operator::Window { partition, order, calls } => {
                let input = &node.inputs[0].columns;
                let places = Places::of(input);
                let partition = partition.iter().map(|e| places.compile(e)).collect::<Result<Vec<_>>>()?;
                let encoder = Arc::new(KeyEncoder::new(partition.iter().map(|k| k.data_type().clone()).collect())?);
                let shape = Arc::new(WindowShape {
                    partition,
                    order: sort_keys(order, input)?,
                    calls: calls.iter().map(|(_, call)| window_call(call, &places)).collect::<Result<_>>()?,
                    input_schema: schema_of(input),
                    schema: schema_of(&node.columns),
                });
                let buckets = Arc::new(Mutex::new(Vec::new()));
                let (pool, spill) = (self.run.pool.clone(), self.run.spill.clone());
                let sink = WindowSink {
                    shape: shape.clone(),
                    encoder,
                    pool: pool.clone(),
                    meter: meter.clone(),
                    spill,
                    collected: Arc::default(),
                    out: buckets.clone(),
                };
                let source = WindowSource { shape, pool, meter, buckets };
                self.broken(node, Arc::new(sink), Arc::new(source), false)
            }
            Operator::Expand { makers, outer } => {
                let places = Places::of(&node.inputs[0].columns);
                let compiled = |maker: &RowMaker| -> Result<Maker> {
                    Ok(Maker {
                        kernel: found(maker.function.name(), &maker.arguments, |types| maker.function.overload(types))?
                            .kernel,
                        arguments: maker.arguments.iter().map(|e| places.compile(e)).collect::<Result<_>>()?,
                        made: maker.columns.iter().map(|c| c.sql_type.to_arrow()).collect(),
                    })
                };
                let makers = makers.iter().map(compiled).collect::<Result<Vec<_>>>()?;
                let step = Expand { makers: makers.into(), outer: *outer, schema: schema_of(&node.columns) };
                self.extended(node, Arc::new(step))
            }
            Operator::With { ids } => {
                let Some((body, definitions)) = node.inputs.split_last() else { return Ok(vec![]) };
                for (id, definition) in ids.iter().zip(definitions) {
                    let keep = self.run.keep(&schema_of(&definition.columns), node);
                    let branches = self.branches(definition)?;
                    self.run.shelf.lock().unwrap_or_else(PoisonError::into_inner).insert(*id, keep.kept.clone());
                    let place = self.add_pipeline(branches, Target::Sink(Arc::new(keep), meter.clone()));
                    self.results.insert(*id, place);
                }
                self.branches(body)
            }
            Operator::CteScan { id, name, places } => {
                let source =
                    CteSource::new(self.run.shelf.clone(), *id, name.clone(), places.clone(), schema_of(&node.columns));
                let mut branch = Branch::new(Arc::new(source), meter, false);
                branch.needs.extend(self.results.get(id));
                Ok(vec![branch])
            }
            Operator::Recursive { id, name, distinct } => {
                let source = Recursion {
                    surroundings: self.run.clone(),
                    id: *id,
                    name: name.clone(),
                    distinct: *distinct,
                    base: node.inputs[0].clone(),
                    step: node.inputs[1].clone(),
                    schema: schema_of(&node.columns),
                    taken: Arc::default(),
                };
                let mut branch = Branch::new(Arc::new(source), meter, false);
                // Its rounds run pipelines of their own.
                node.inputs.iter().for_each(|input| self.read_by(input, &mut branch));
                Ok(vec![branch])
            }
        }
    }

    /// What a part of the plan reads that this branch runs by itself.
    fn read_by(&self, node: &PhysicalNode, branch: &mut Branch) {
        match &node.operator {
            Operator::Gate { gate, .. } => branch.connections.extend([self.run.gates[*gate].connection.clone()]),
            Operator::CteScan { id, .. } => branch.needs.extend(self.results.get(id)),
            _ => {}
        }
        node.inputs.iter().for_each(|input| self.read_by(input, branch));
    }

    /// The branches below, each with one more step.
    fn extended(&mut self, node: &Arc<PhysicalNode>, step: Arc<dyn StepFactory>) -> Result<Vec<Branch>> {
        let meter = self.run.measures.step(node.step);
        let mut branches = self.branches(&node.inputs[0])?;
        branches.iter_mut().for_each(|branch| branch.steps.push((step.clone(), meter.clone())));
        Ok(branches)
    }

    /// Ends the pipeline below in the sink and begins a branch with what the sink hands on.
    fn broken(
        &mut self,
        node: &Arc<PhysicalNode>,
        sink: Arc<dyn Sink>,
        source: Arc<dyn Source>,
        ordered: bool,
    ) -> Result<Vec<Branch>> {
        let meter = self.run.measures.step(node.step);
        let branches = self.branches(&node.inputs[0])?;
        let below = self.add_pipeline(branches, Target::Sink(sink, meter.clone()));
        let mut branch = Branch::new(source, meter, ordered);
        branch.needs.insert(below);
        Ok(vec![branch])
    }

    fn join(&mut self, node: &Arc<PhysicalNode>, join: &JoinWork, range: Option<&RangeOn>) -> Result<Vec<Branch>> {
        let meter = self.run.measures.step(node.step);
        let shape = JoinShape { kind: join.kind, build: join.build };
        let (left, right) = (&node.inputs[0], &node.inputs[1]);
        let (build_node, probe_node) = if shape.build == Side::Left { (left, right) } else { (right, left) };
        let (left_places, right_places) = (Places::of(&left.columns), Places::of(&right.columns));
        let left_keys = join.on.iter().map(|k| left_places.compile(&k.left)).collect::<Result<Vec<_>>>()?;
        let right_keys = join.on.iter().map(|k| right_places.compile(&k.right)).collect::<Result<Vec<_>>>()?;
        let (build_keys, probe_keys) =
            if shape.build == Side::Left { (left_keys, right_keys) } else { (right_keys, left_keys) };
        let (build_places, probe_places) =
            if shape.build == Side::Left { (&left_places, &right_places) } else { (&right_places, &left_places) };
        let range_key = |key: &range_join::RangeKey| -> Result<RangeKey> {
            let bounds = key.bounds.iter().map(|(op, bound)| Ok((*op, probe_places.compile(bound)?)));
            Ok(RangeKey { value: build_places.compile(&key.value)?, bounds: bounds.collect::<Result<_>>()? })
        };
        let ranges = match range {
            Some(range) => Some(RangeKeys {
                sorted: range_key(&range.sorted)?,
                second: range.second.as_ref().map(range_key).transpose()?,
            }),
            None => None,
        };
        let residual = range.map_or(&join.residual, |range| &range.rest);
        let pair_columns: Vec<_> = left.columns.iter().chain(&right.columns).cloned().collect();
        let mark = match &join.mark {
            None => None,
            Some(mark) if mark.of_key => Some(MarkRule::OfKey),
            Some(mark) if mark.compare.is_empty() => Some(MarkRule::Exists),
            Some(mark) => {
                let places = Places::of(&pair_columns);
                Some(MarkRule::Compare(mark.compare.iter().map(|e| places.compile(e)).collect::<Result<_>>()?))
            }
        };
        let passes = self.run.key_passes.clone();
        let learners = passes
            .iter()
            .filter(|pass| pass.join == node.step)
            .map(|pass| Learner { pass: pass.clone(), slot: self.key_slot(pass) })
            .collect();
        let spec = Arc::new(JoinSpec {
            shape,
            learners,
            encoder: KeyEncoder::new(build_keys.iter().map(|k| k.data_type().clone()).collect())?,
            build_keys,
            probe_keys,
            null_safe: join.on.iter().map(|key| key.null_safe).collect(),
            residual: Conjunction::compile(residual, &pair_columns)?,
            has_residual: !residual.is_empty(),
            ranges,
            mark,
            build_schema: schema_of(&build_node.columns),
            probe_schema: schema_of(&probe_node.columns),
            pair_schema: schema_of(&pair_columns),
            schema: schema_of(&node.columns),
            pool: self.run.pool.clone(),
            meter: meter.clone(),
            spill: self.run.spill.clone(),
            built: std::sync::OnceLock::new(),
            waiting: Mutex::default(),
        });
        let build_branches = self.branches(build_node)?;
        let build = Build { spec: spec.clone(), collected: Arc::default() };
        let built = self.add_pipeline(build_branches, Target::Sink(Arc::new(build), meter.clone()));
        self.builds.insert(node.step, built);

        let mut branches = self.branches(probe_node)?;
        let probe: Arc<dyn StepFactory> = Arc::new(Probe(spec.clone()));
        branches.iter_mut().for_each(|branch| branch.steps.push((probe.clone(), meter.clone())));
        let phase = branches.iter().map(|b| b.phase).max().unwrap_or(0) + 1;
        branches.push(Branch { phase, ..Branch::new(Arc::new(Rest::new(spec)), meter, false) });
        branches.iter_mut().for_each(|branch| branch.needs.extend([built]));
        Ok(branches)
    }
}

fn sort_keys(keys: &[SortKey], columns: &[Column]) -> Result<Vec<(Compiled, SortOptions)>> {
    let places = Places::of(columns);
    keys.iter()
        .map(|key| {
            let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
            Ok((places.compile(&key.expr)?, options))
        })
        .collect()
}

/// The overload that computes a call.
fn found<K>(
    name: &str,
    arguments: &[Expr],
    overload: impl Fn(Vec<SqlType>) -> Option<Resolved<K>>,
) -> Result<&'static Overload<K>> {
    let types: Vec<SqlType> = arguments.iter().map(Expr::sql_type).collect();
    let given = types.iter().map(SqlType::to_string).collect::<Vec<_>>().join(", ");
    Ok(overload(types).ok_or_else(|| Error::internal(format!("{name}({given})")))?.overload)
}

fn window_call(call: &WindowCall, places: &Places) -> Result<Call> {
    let compiled = |all: &[Expr]| all.iter().map(|e| places.compile(e)).collect::<Result<Vec<_>>>();
    let function = match &call.function {
        WindowFunction::Ranking { function, arguments, ignore_nulls } => Function::Ranking {
            kernel: found(function.name(), arguments, |types| function.overload(types))?.kernel,
            framed: function.entry().framed,
            arguments: compiled(arguments)?,
            ignore_nulls: *ignore_nulls,
            result: call.sql_type.to_arrow(),
        },
        WindowFunction::Aggregate(aggregate) => {
            let values: Vec<Expr> =
                aggregate.arguments.iter().chain(aggregate.order.iter().map(|key| &key.expr)).cloned().collect();
            Function::Aggregate {
                call: aggregate.clone(),
                values: compiled(&values)?,
                filter: aggregate.filter.as_ref().map(|e| places.compile(e)).transpose()?,
            }
        }
    };
    let bound = |bound: &FrameBound| {
        Ok::<_, cobble_types::Error>(match bound {
            FrameBound::UnboundedPreceding | FrameBound::UnboundedFollowing => Bound::Unbounded,
            FrameBound::CurrentRow => Bound::CurrentRow,
            FrameBound::Preceding(e) => Bound::Preceding(places.compile(e)?),
            FrameBound::Following(e) => Bound::Following(places.compile(e)?),
        })
    };
    Ok(Call {
        function,
        unit: call.frame.unit,
        start: bound(&call.frame.start)?,
        end: bound(&call.frame.end)?,
        exclusion: call.frame.exclusion,
    })
}
