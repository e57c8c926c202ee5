//! How a join is done in the engine, and which gates get the keys of its build side.

use std::sync::Arc;

use cobble_plan::document::{Alternative, JoinDocument};
use cobble_plan::expr::Expr;
use cobble_plan::key_pass::{self, KeyPass};
use cobble_plan::logical::{Join, JoinKey, JoinKind, Mark};
use cobble_plan::offer::{KeptReason, Verdict};
use cobble_plan::physical::{JoinWork, Operator, Side};
use cobble_plan::range_join::RangeOn;

use super::{AskedKeys, Built, Planner};
use crate::estimate::Estimate;

/// How a join can be done in the engine.
enum Algorithm {
    Hash,
    Range(Arc<RangeOn>),
    Loop,
}

struct Way {
    text: String,
    cost: f64,
    algorithm: Algorithm,
    build: Side,
}

impl Planner<'_> {
    /// Chooses algorithm and build side by cost, and keeps what was not chosen.
    pub(super) fn engine_join(&mut self, join: &Join, estimate: Arc<Estimate>, left: Built, right: Built) -> Built {
        let join = &keyed_mark(join);
        let (l, r, out) = (left.estimate.rows, right.estimate.rows, estimate.rows);
        // These must know all partners of a left row when they look at it.
        let may_build_left = !matches!(join.kind, JoinKind::NullAwareAnti | JoinKind::Single | JoinKind::Mark);
        let sides = [(Side::Right, &right, r, l), (Side::Left, &left, l, r)];
        let mut ways: Vec<Way> = Vec::new();
        for (build, node, rows, others) in sides.into_iter().filter(|s| s.0 == Side::Right || may_build_left) {
            let step = node.node.step;
            if !join.on.is_empty() {
                // A row costs about twice as much to put into the table as to look up in it.
                let cost = 2.0 * rows + others + out;
                ways.push(Way { text: format!("hash of step {step}"), cost, algorithm: Algorithm::Hash, build });
            } else if self.settings.is_on("range-joins") {
                let ids = node.node.columns.iter().map(|c| c.id).collect();
                if let Some(range) = RangeOn::find(&join.residual, &ids) {
                    let cost = (rows + others) * (rows + 2.0).log2() + out;
                    let text = format!("step {step} sorted by {range}");
                    ways.push(Way { text, cost, algorithm: Algorithm::Range(Arc::new(range)), build });
                }
            }
        }
        // The loop is only ever the runner-up: a wrong estimate must not cost a product.
        ways.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let build = if may_build_left && l < r { Side::Left } else { Side::Right };
        let step = if build == Side::Left { left.node.step } else { right.node.step };
        let text = format!("loop over step {step}");
        ways.push(Way { text, cost: l * r + out, algorithm: Algorithm::Loop, build });
        let chosen = ways.remove(0);
        ways.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let (on, residual, build) = (join.on.clone(), join.residual.clone(), chosen.build);
        let work = JoinWork { kind: join.kind, on, residual, mark: join.mark.clone(), build };
        let operator = match chosen.algorithm {
            Algorithm::Hash => {
                self.pass_keys(&work, &left, &right);
                Operator::HashJoin(work)
            }
            Algorithm::Range(range) => Operator::RangeJoin(work, range),
            Algorithm::Loop => Operator::NestedLoopJoin(work),
        };
        let columns = join.output(left.node.columns.clone(), right.node.columns.clone());
        let built = self.step(operator, columns, vec![left.node, right.node], estimate);
        self.joins.push(JoinDocument {
            step: built.node.step,
            text: join.text(),
            chosen: chosen.text,
            cost: chosen.cost,
            alternatives: ways.into_iter().map(|way| Alternative { way: way.text, cost: way.cost }).collect(),
        });
        built
    }

    /// Looks for gates on the probe side that can use the keys of the build side, and notes at each what it says.
    fn pass_keys(&mut self, join: &JoinWork, left: &Built, right: &Built) {
        if !key_pass::drops_unmatched_probe(join) {
            return;
        }
        let (build, probe) = if join.build == Side::Left { (left, right) } else { (right, left) };
        for (key, on) in join.on.iter().enumerate().filter(|(_, on)| !on.null_safe) {
            let (build_key, probe_key) = if join.build == Side::Left { on.sides().into() } else { swapped(on.sides()) };
            let Expr::Column(column) = probe_key else { continue };
            let mut gates = Vec::new();
            key_pass::gates_of(&probe.node, column, &mut gates);
            let keys = build.estimate.distinct(build_key).min(build.estimate.rows);
            let kept = (keys / probe.estimate.distinct(probe_key).max(1.0)).min(1.0);
            for (gate, column, place) in gates {
                if self.rows_read[gate] < key_pass::FEWEST_ROWS {
                    continue;
                }
                let verdict = if !self.settings.is_on("key-pass") {
                    Some(Verdict::kept(KeptReason::SwitchedOff, "key-pass is off"))
                } else if kept > key_pass::MOST_KEPT {
                    let share = (kept * 100.0).round();
                    Some(Verdict::kept(KeptReason::NotWorthIt, format!("about {share} % of its values have a partner")))
                } else {
                    None
                };
                let join = self.steps.len() + 1;
                let text = format!("{column} among the keys of step {}", build.node.step);
                let pass = KeyPass { join, key, gate, column, place };
                self.asked_keys.push(AskedKeys { pass, text, keys, verdict });
            }
        }
    }
}

/// A mark join that compares by one equality alone can look its partners up by it.
fn keyed_mark(join: &Join) -> Join {
    if let Some(mark) = &join.mark
        && join.on.is_empty()
        && join.residual.is_empty()
        && let [only] = mark.compare.as_slice()
        && let Some(key) = JoinKey::of(only, &join.left.column_ids(), &join.right.column_ids())
    {
        let mark = Mark { column: mark.column.clone(), compare: vec![], of_key: true };
        return Join { on: vec![key], mark: Some(mark), ..join.clone() };
    }
    join.clone()
}

fn swapped<T>([a, b]: [T; 2]) -> (T, T) {
    (b, a)
}
