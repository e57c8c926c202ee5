//! The shapes that a fragment is offered in, and the choice among them: with all of its joins, and without those that make more rows
//! than they read. The cheapest by what was agreed counts; the plan shows the others.

use std::sync::Arc;

use cobble_plan::document::Alternative;
use cobble_plan::expr::Expr;
use cobble_plan::fragment::{Answer, Asked, Fragment, Piece};
use cobble_plan::logical::{Join, LogicalPlan, Origin};
use cobble_plan::offer::{KeptReason, Sources, Verdict};
use cobble_types::{Error, Result};
use futures::future::try_join_all;

use crate::estimate::{Estimate, filter_estimate};

/// The most shapes that one fragment is offered in.
const MOST_SHAPES: usize = 6;

/// Costs are counted in rows that the engine touches once. A row that crosses a gate is encoded, sent, decoded and copied.
const CROSSING: f64 = 4.0;
/// A request costs as much as so many rows, whatever comes of it.
const REQUEST: f64 = 2_000.0;
/// A row that a source touches where it lies.
const AT_SOURCE: f64 = 0.5;
/// Rows of one operator that a source is trusted with; each one more costs as much as several.
const MOST_AT_SOURCE: f64 = 10_000_000.0;
const TOO_MANY_AT_SOURCE: f64 = 8.0;

/// Where the rows of a plan go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Goal {
    Here,
    /// The source changes the rows that are found: nothing may stay in the engine, whatever it costs.
    Source,
}

/// A fragment with what its connection said to each shape of it.
pub struct Offered {
    /// Of each piece.
    pub estimates: Vec<Arc<Estimate>>,
    pub origin: Origin,
    /// Once all are answered, the chosen one stands first.
    shapes: Vec<Shape>,
}

struct Shape {
    /// What stays in the engine of it, in words.
    kept: String,
    fragment: Arc<Fragment>,
    answer: Option<Answer>,
    cost: f64,
}

impl Offered {
    pub fn new(whole: Arc<Fragment>, estimates: Vec<Arc<Estimate>>, origin: Origin, goal: Goal) -> Offered {
        let rows = |piece: usize| estimates[piece].rows;
        let grows = |(place, piece): (usize, &Piece)| {
            let is_join = matches!(piece.plan.as_ref(), LogicalPlan::Join(_)) && piece.withheld.is_none();
            (is_join && rows(place) > piece.inputs.iter().map(|input| rows(*input)).sum()).then_some(place)
        };
        let growing: Vec<usize> = match goal {
            Goal::Here => whole.pieces.iter().enumerate().filter_map(grows).collect(),
            Goal::Source => vec![],
        };
        let mut withheld: Vec<Vec<usize>> = vec![vec![]];
        // The lowest joins first: what is above a join that is kept is kept too.
        withheld.extend(growing.iter().take(MOST_SHAPES - 2).map(|join| vec![*join]));
        if growing.len() > 1 {
            withheld.push(growing);
        }
        let shape = |kept: Vec<usize>| {
            let mut fragment = whole.clone();
            for piece in &kept {
                let note = "it costs less in the engine, by the shapes that were offered";
                let piece = &mut Arc::make_mut(&mut fragment).pieces[*piece];
                piece.withheld = Some(Verdict::kept(KeptReason::NotWorthIt, note));
            }
            let kept: Vec<String> = kept.iter().map(|piece| whole.pieces[*piece].plan.line()).collect();
            Shape { kept: kept.join("; "), fragment, answer: None, cost: f64::INFINITY }
        };
        let shapes = withheld.into_iter().map(shape).collect();
        Offered { estimates, origin, shapes }
    }

    /// Asks the connection about every shape, and puts the cheapest first.
    pub async fn ask(&mut self, sources: &Sources) -> Result<()> {
        let asked = self.shapes.iter().map(|shape| async move {
            let scan = shape.fragment.pieces.iter().find_map(Piece::scan);
            let scan = scan.ok_or_else(|| Error::internal("a fragment without a table"))?;
            let answer = sources.of(&scan.table)?.answer(&shape.fragment, sources).await?;
            answer.check(&shape.fragment)?;
            Ok::<_, Error>(answer)
        });
        let answers = try_join_all(asked).await?;
        let costs: Vec<f64> = self.shapes.iter().zip(&answers).map(|(s, a)| self.cost_of(&s.fragment, a)).collect();
        for ((shape, answer), cost) in self.shapes.iter_mut().zip(answers).zip(costs) {
            (shape.answer, shape.cost) = (Some(answer), cost);
        }
        self.shapes.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        Ok(())
    }

    pub fn fragment(&self) -> &Arc<Fragment> {
        &self.shapes[0].fragment
    }

    /// What was agreed for the taken shape, once.
    pub fn take_answer(&mut self) -> Result<Answer> {
        self.shapes[0].answer.take().ok_or_else(|| Error::internal("an offer has no answer"))
    }

    pub fn cost(&self) -> f64 {
        self.shapes[0].cost
    }

    /// True when one request does all of it.
    pub fn is_taken_whole(&self) -> bool {
        let last = self.fragment().pieces.len() - 1;
        self.shapes[0]
            .answer
            .as_ref()
            .is_some_and(|answer| answer.part(last).is_some() && (0..=last).all(|piece| answer.is_pushed(piece)))
    }

    /// Every shape that was offered, the taken one first; only one when there was nothing to choose.
    pub fn ways(&self) -> Vec<Alternative> {
        let parts = |shape: &Shape| -> Vec<usize> {
            shape.answer.iter().flat_map(|answer| answer.parts.iter().map(|part| part.top)).collect()
        };
        let mut ways: Vec<(Vec<usize>, Alternative)> = Vec::new();
        for shape in &self.shapes {
            let way = match shape.kept.as_str() {
                "" => format!("as a whole to {}", self.origin.connection),
                kept => format!("in the engine: {kept}"),
            };
            // Pieces that are refused anyway do not make a different shape.
            let parts = parts(shape);
            if ways.iter().all(|(known, _)| *known != parts) {
                ways.push((parts, Alternative { way, cost: shape.cost }));
            }
        }
        ways.into_iter().map(|(_, way)| way).collect()
    }

    /// The conditions at the top of a part, lowest first, and the piece below them.
    fn conditions(fragment: &Fragment, top: usize) -> (Vec<(usize, &Expr)>, usize) {
        let (mut found, mut at) = (Vec::new(), top);
        while let (true, Some(Asked::Filter(condition))) =
            (fragment.pieces[at].is_filter(), fragment.pieces[at].asked())
        {
            found.push((at, condition));
            at = fragment.pieces[at].inputs[0];
        }
        found.reverse();
        (found, at)
    }

    /// The conditions of a part that are checked above it, lowest first.
    pub fn kept_conditions(fragment: &Fragment, answer: &Answer, top: usize) -> Vec<Expr> {
        let (all, _) = Self::conditions(fragment, top);
        all.into_iter().filter(|(at, _)| !answer.is_pushed(*at)).map(|(_, condition)| condition.clone()).collect()
    }

    /// What is expected to come out of a part.
    pub fn part_estimate(&self, fragment: &Fragment, answer: &Answer, top: usize) -> Arc<Estimate> {
        let mut estimate = self.estimates[top].clone();
        let (all, below) = Self::conditions(fragment, top);
        let count = all.len();
        let pushed = all.into_iter().filter(|(at, _)| answer.is_pushed(*at)).map(|(_, condition)| condition.clone());
        let pushed: Vec<Expr> = pushed.collect();
        if pushed.len() < count {
            // Of the conditions only those that were taken.
            estimate = filter_estimate(&fragment.pieces[below].plan, &self.estimates[below], &pushed).into();
        } else if let Some(limit) = fragment.pieces.iter().position(|piece| piece.inputs == [top])
            && matches!(fragment.pieces[limit].plan.as_ref(), LogicalPlan::Limit { .. })
        {
            // The engine stops reading where the limit is reached.
            estimate = self.estimates[limit].clone();
        }
        // Footers know more than the guess: how many rows the parts left after pruning have.
        if let Some(agreed) = answer.part(top).map(|part| &part.agreed)
            && let Some(most) = agreed.most_rows
        {
            let known = Arc::make_mut(&mut estimate);
            known.rows = if agreed.all_rows_come_out { most } else { known.rows.min(most) };
        }
        estimate
    }

    fn cost_of(&self, fragment: &Fragment, answer: &Answer) -> f64 {
        let mut cost = 0.0;
        let mut at_source = vec![false; fragment.pieces.len()];
        for part in &answer.parts {
            cost += REQUEST + CROSSING * self.part_estimate(fragment, answer, part.top).rows;
            let mut open = vec![part.top];
            while let Some(piece) = open.pop() {
                at_source[piece] = true;
                open.extend(&fragment.pieces[piece].inputs);
            }
        }
        for (place, piece) in fragment.pieces.iter().enumerate() {
            let inputs: Vec<&Estimate> = piece.inputs.iter().map(|input| self.estimates[*input].as_ref()).collect();
            let rows = work(&piece.plan, &inputs, &self.estimates[place]);
            cost += match at_source[place] && answer.is_pushed(place) {
                true => AT_SOURCE * (rows + (TOO_MANY_AT_SOURCE - 1.0) * (rows - MOST_AT_SOURCE).max(0.0)),
                false => rows,
            };
        }
        cost
    }
}

/// Rows that an operator touches.
pub fn work(plan: &LogicalPlan, inputs: &[&Estimate], out: &Estimate) -> f64 {
    let rows = |place: usize| inputs.get(place).map_or(0.0, |input| input.rows);
    match plan {
        LogicalPlan::Join(join) => join_work(join, rows(0), rows(1), out.rows),
        LogicalPlan::Aggregate { .. } => rows(0),
        LogicalPlan::Sort { .. } | LogicalPlan::Window { .. } => rows(0) * (rows(0) + 2.0).log2(),
        _ => 0.0,
    }
}

/// By a table of the smaller side where there are keys; a row costs about twice as much to put into it as to look up.
fn join_work(join: &Join, left: f64, right: f64, out: f64) -> f64 {
    match join.on.is_empty() {
        true => left * right + out,
        false => 2.0 * left.min(right) + left.max(right) + out,
    }
}
