//! Estimates of rows and of each column's distinct values, from the statistics that sources keep.
//!
//! Equality follows Selinger et al., "Access Path Selection in a Relational Database Management System" (1979):
//! one over the distinct values, the larger side for joins, independence between conjuncts. How many distinct values are left when only some
//! rows are follows Cardenas, "Analysis and Performance of Inverted Data Base Structures" (1975). Where there is a sample of the
//! rows, conditions over a table are decided by it together. Where nothing is known the guesses below stand; they are the
//! only magic numbers of the planner.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use cobble_types::{ColumnId, Value};

use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{Join, JoinKind, LogicalPlan};
use cobble_plan::sample::Sample;
use cobble_plan::statistics::ColumnStatistics;

const GUESS_TABLE_ROWS: f64 = 1000.0;
const GUESS_RANGE: f64 = 0.3;
const GUESS_LIKE: f64 = 0.1;
const GUESS_OTHER: f64 = 0.25;
const GUESS_DISTINCT_SHARE: f64 = 0.1;
/// Rows that equal a value, of a column of which nothing is known.
const GUESS_EQUAL: f64 = 0.02;
/// Rows of a sample that have to meet conditions before it is believed over what is known of each column.
const BELIEVED: f64 = 12.0;
/// Rows that a row becomes by a function or a recursion.
const GUESS_EXPANSION: f64 = 10.0;

#[derive(Debug, Clone, Default)]
pub struct Estimate {
    pub rows: f64,
    /// Rows that there can be at the most, where that is certain or was counted by the source: no guess goes into it.
    pub most: Option<f64>,
    columns: HashMap<ColumnId, Known>,
}

/// What is known of a column at some place of a plan. Its statistics are shared with other places; how many distinct values are left is
/// its own.
#[derive(Debug, Clone, Default)]
struct Known {
    statistics: Arc<ColumnStatistics>,
    distinct: Option<f64>,
    /// The sample of its table, with its place there.
    sample: Option<(Arc<Sample>, usize)>,
}

impl Known {
    fn new(statistics: ColumnStatistics) -> Known {
        Known { distinct: statistics.distinct, statistics: Arc::new(statistics), sample: None }
    }

    fn with_distinct(distinct: f64) -> Known {
        Known { distinct: Some(distinct), ..Known::default() }
    }

    fn share_of(&self, value: &Value) -> Option<f64> {
        self.statistics.share_of(value, self.distinct)
    }
}

impl Estimate {
    fn scaled(mut self, rows: f64) -> Estimate {
        let before = self.rows;
        self.rows = rows;
        for column in self.columns.values_mut() {
            column.distinct = column.distinct.map(|distinct| left_of(distinct, before, rows));
        }
        self
    }

    /// The same rows with these of their columns.
    pub fn only(&self, ids: &BTreeSet<ColumnId>) -> Estimate {
        let columns = self.columns.iter().filter(|(id, _)| ids.contains(id)).map(|(id, known)| (*id, known.clone()));
        Estimate { rows: self.rows, most: self.most, columns: columns.collect() }
    }

    /// Distinct values of a column, where that is known.
    pub fn known_distinct(&self, id: ColumnId) -> Option<f64> {
        self.columns.get(&id)?.distinct
    }

    /// The rows that are left of these by LIMIT and OFFSET.
    fn first(self, offset: u64, limit: Option<u64>) -> Estimate {
        let cut = |rows: f64| {
            let left = (rows - offset as f64).max(0.0);
            limit.map_or(left, |n| left.min(n as f64))
        };
        let most = match (self.most, limit) {
            (Some(most), _) => Some(cut(most)),
            (None, limit) => limit.map(|n| n as f64),
        };
        let rows = cut(self.rows);
        Estimate { most, ..self.scaled(rows) }
    }

    /// Distinct values of an expression over these rows.
    pub fn distinct(&self, expr: &Expr) -> f64 {
        let guess = (self.rows * GUESS_DISTINCT_SHARE).max(1.0);
        let by = |divisor: &Expr| match divisor {
            Expr::Literal { value, .. } => value.approximate().map(f64::abs),
            _ => None,
        };
        match expr {
            Expr::Column(column) => self.known_distinct(column.id).unwrap_or(guess),
            Expr::Literal { .. } => 1.0,
            // What is left over of a division is less than the divisor.
            Expr::Binary { op: BinaryOp::Modulo, left, right, .. } if by(right).is_some() => {
                self.distinct(left).min(by(right).unwrap_or(1.0)).max(1.0)
            }
            other => {
                let columns = other.columns();
                let product: f64 = columns.iter().map(|id| self.known_distinct(*id).unwrap_or(guess)).product();
                product.clamp(1.0, self.rows.max(1.0))
            }
        }
    }

    /// Distinct combinations of values of these expressions over these rows.
    pub fn distinct_together<'a>(&self, exprs: impl Iterator<Item = &'a Expr> + Clone) -> f64 {
        let product: f64 = exprs.clone().map(|expr| self.distinct(expr)).product();
        let apart = product.min(self.rows).max(1.0);
        if exprs.clone().nth(1).is_none() {
            return apart;
        }
        // Columns of one table that go together are known by its sample.
        let sampled = |expr: &Expr| match expr {
            Expr::Column(column) => self.columns.get(&column.id)?.sample.clone(),
            _ => None,
        };
        let places: Option<Vec<(Arc<Sample>, usize)>> = exprs.map(sampled).collect();
        let Some(places) = places.filter(|all| all.iter().all(|(sample, _)| Arc::ptr_eq(sample, &all[0].0))) else {
            return apart;
        };
        let sample = places[0].0.clone();
        let places: Vec<usize> = places.into_iter().map(|(_, place)| place).collect();
        let together = sample.distinct(&places).map(|all| left_of(all, sample.of(), self.rows.min(sample.of())));
        together.map_or(apart, |together| together.min(apart)).max(1.0)
    }

    /// Bytes of a row of these columns.
    pub fn row_width(&self, columns: &[Column]) -> f64 {
        let width = |c: &Column| {
            self.columns.get(&c.id).and_then(|s| s.statistics.width).unwrap_or_else(|| c.sql_type.typical_width())
        };
        columns.iter().map(width).sum()
    }
}

/// Estimates plans from their leaves up, each operator once. It remembers operators by their place in memory, and holds them so that
/// the place stays theirs, and what their common results were estimated at for those that read them.
#[derive(Debug, Default)]
pub struct Estimator {
    results: Mutex<HashMap<u32, Arc<Estimate>>>,
    known: Mutex<HashMap<usize, Estimated>>,
}

/// An operator with its estimate.
type Estimated = (Arc<LogicalPlan>, Arc<Estimate>);

impl Estimator {
    /// Sets what is known of a common result, or of the rows that a round of a recursion reads.
    pub fn know(&self, id: u32, estimate: Estimate) {
        if locked(&self.results).insert(id, estimate.into()).is_some() {
            // Readers may have been estimated by what was known before.
            locked(&self.known).clear();
        }
    }

    /// Notes the definitions of a common result, so that its readers can be estimated on their own.
    pub fn enter(&self, plan: &LogicalPlan) {
        match plan {
            LogicalPlan::With { definitions, .. } => {
                for definition in definitions {
                    let known = locked(&self.results).contains_key(&definition.id);
                    if !known {
                        self.know(definition.id, self.shared(&definition.plan).as_ref().clone());
                    }
                }
            }
            LogicalPlan::Recursive { id, base, columns, .. } => {
                let known = locked(&self.results).contains_key(id);
                if !known {
                    let round = renamed(&self.shared(&base.plan), base.columns.iter().map(|c| c.id).zip(columns));
                    self.know(*id, Estimate { most: None, ..round });
                }
            }
            _ => {}
        }
    }

    /// The estimate of an operator that others may ask for too.
    pub fn shared(&self, plan: &Arc<LogicalPlan>) -> Arc<Estimate> {
        let place = Arc::as_ptr(plan) as usize;
        if let Some((_, known)) = locked(&self.known).get(&place) {
            return known.clone();
        }
        let estimate = Arc::new(self.of(plan));
        locked(&self.known).insert(place, (plan.clone(), estimate.clone()));
        estimate
    }

    /// The estimate of this operator, by those of its inputs.
    pub fn of(&self, plan: &LogicalPlan) -> Estimate {
        self.enter(plan);
        match plan {
            LogicalPlan::Scan(scan) => {
                let statistics = &scan.table.statistics;
                let known = |place: usize| {
                    let sample = statistics.sample.clone().filter(|sample| sample.has(place));
                    let known = Known::new(statistics.columns.get(place)?.clone());
                    Some(Known { sample: sample.map(|sample| (sample, place)), ..known })
                };
                let columns =
                    scan.columns.iter().filter_map(|(column, place)| Some((column.id, known(*place)?))).collect();
                Estimate { rows: statistics.rows.unwrap_or(GUESS_TABLE_ROWS), most: statistics.rows, columns }
            }
            LogicalPlan::Values { rows, .. } => {
                Estimate { rows: rows.len() as f64, most: Some(rows.len() as f64), columns: HashMap::new() }
            }
            LogicalPlan::Filter { input, conjuncts } => filter_estimate(input, &self.shared(input), conjuncts),
            LogicalPlan::Project { input, columns } => {
                let below = self.shared(input);
                let known = columns
                    .iter()
                    .filter_map(|(column, expr)| match expr {
                        Expr::Column(source) => Some((column.id, below.columns.get(&source.id)?.clone())),
                        other => Some((column.id, Known::with_distinct(below.distinct(other)))),
                    })
                    .collect();
                Estimate { rows: below.rows, most: below.most, columns: known }
            }
            LogicalPlan::Join(join) => join_estimate(join, &self.shared(&join.left), &self.shared(&join.right)),
            LogicalPlan::Aggregate { input, groups, .. } => {
                let below = self.shared(input);
                let rows = below.distinct_together(groups.iter().map(|(_, expr)| expr));
                let columns = groups
                    .iter()
                    .map(|(column, expr)| {
                        let known = match expr {
                            Expr::Column(source) => below.columns.get(&source.id).cloned(),
                            _ => None,
                        };
                        let distinct = Some(below.distinct(expr).min(rows));
                        (column.id, Known { distinct, ..known.unwrap_or_default() })
                    })
                    .collect();
                let most = if groups.is_empty() { Some(1.0) } else { below.most };
                Estimate { rows, most, columns }
            }
            LogicalPlan::Sort { input, fetch, .. } => self.shared(input).as_ref().clone().first(0, *fetch),
            LogicalPlan::Limit { input, limit, offset } => self.shared(input).as_ref().clone().first(*offset, *limit),
            LogicalPlan::Union { inputs, columns } => {
                let all: Vec<Arc<Estimate>> = inputs.iter().map(|input| self.shared(&input.plan)).collect();
                let rows = all.iter().map(|input| input.rows).sum();
                let most = all.iter().try_fold(0.0, |sum, input| Some(sum + input.most?));
                let known = columns.iter().enumerate().filter_map(|(place, column)| {
                    // Values of several inputs may be the same or not: between the largest number and the sum.
                    let distinct = inputs.iter().zip(&all).try_fold(0.0_f64, |most, (input, estimate)| {
                        Some(most.max(estimate.known_distinct(input.columns[place].id)?))
                    })?;
                    Some((column.id, Known::with_distinct(distinct)))
                });
                Estimate { rows, most, columns: known.collect() }
            }
            LogicalPlan::Window { input, .. } | LogicalPlan::With { body: input, .. } => {
                self.shared(input).as_ref().clone()
            }
            LogicalPlan::Expand { input, makers, outer } => {
                let mut below = self.shared(input).as_ref().clone();
                // The shorter of several are filled with nulls.
                let each = makers.iter().try_fold(0.0_f64, |most, maker| Some(most.max(maker.rows()?)));
                let each = each.map(|rows| if *outer { rows.max(1.0) } else { rows });
                if let [maker] = makers.as_slice() {
                    below.columns.extend(maker.series().map(|(column, known)| (column.id, Known::new(known))));
                }
                let rows = below.rows * each.unwrap_or(GUESS_EXPANSION);
                Estimate { rows, most: below.most.zip(each).map(|(most, each)| most * each), columns: below.columns }
            }
            LogicalPlan::CteScan { id, columns, .. } => match locked(&self.results).get(id) {
                Some(known) => renamed(known, columns.iter().map(|(column, own)| (*own, column))),
                None => Estimate { rows: GUESS_TABLE_ROWS, ..Estimate::default() },
            },
            LogicalPlan::Recursive { base, .. } => {
                Estimate { rows: self.shared(&base.plan).rows * GUESS_EXPANSION, ..Estimate::default() }
            }
        }
    }
}

fn locked<T>(known: &Mutex<T>) -> MutexGuard<'_, T> {
    known.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Of so many distinct values of `all` rows those that are among `rows` of them.
fn left_of(distinct: f64, all: f64, rows: f64) -> f64 {
    let rows = rows.max(1.0);
    if rows >= all || distinct <= 1.0 {
        return distinct.min(rows);
    }
    // The chance that no row of a value is left.
    let gone = (1.0 - rows / all).powf(all / distinct.min(all));
    (distinct * (1.0 - gone)).clamp(1.0, rows)
}

/// Of the rows of `input`, estimated at `below`, those that meet all conditions.
pub fn filter_estimate(input: &LogicalPlan, below: &Estimate, conjuncts: &[Expr]) -> Estimate {
    let sampled = sampled_share(input, below, conjuncts);
    let mut result = below.clone();
    for conjunct in conjuncts {
        let share = selectivity(conjunct, &result);
        let rows = result.rows * share;
        result = result.scaled(rows);
        narrow(&mut result, conjunct, share);
    }
    if let Some(share) = sampled {
        let rows = below.rows * share;
        for (id, column) in &mut result.columns {
            let before = below.columns.get(id).and_then(|known| known.distinct);
            column.distinct = column.distinct.zip(before).map(|(known, before)| match known < before * 0.5 {
                // A condition of its own has left few of its values.
                true => known.min(rows.max(1.0)),
                false => left_of(before, below.rows, rows),
            });
        }
        result.rows = rows;
    }
    if is_key_lookup(input, conjuncts) {
        result.most = Some(1.0);
    }
    if conjuncts.iter().any(Expr::is_never_true) {
        result = result.scaled(0.0);
        result.most = Some(0.0);
    }
    result
}

/// The share of a table's rows that meet these conditions, by its sample: those conditions that it can decide together, the others by
/// what is known of each.
fn sampled_share(input: &LogicalPlan, below: &Estimate, conjuncts: &[Expr]) -> Option<f64> {
    let LogicalPlan::Scan(scan) = input else { return None };
    let sample = scan.table.statistics.sample.as_ref()?;
    let place_of = |id: ColumnId| {
        let place = scan.columns.iter().find(|(column, _)| column.id == id).map(|(_, place)| *place)?;
        sample.has(place).then_some(place)
    };
    let (mut decided, mut others) = (Vec::new(), 1.0);
    for conjunct in conjuncts {
        match sample.met(std::slice::from_ref(conjunct), &place_of) {
            Some(_) => decided.push(conjunct.clone()),
            None => others *= selectivity(conjunct, below),
        }
    }
    let met = sample.met(&decided, &place_of).filter(|_| !decided.is_empty())?;
    let rows = (sample.rows() as f64).max(1.0);
    if sample.is_whole() || met >= BELIEVED {
        return Some(others * met / rows);
    }
    // Few rows tell a range alone: within it stands what is known of each column.
    let mut known = below.clone();
    let mut apart = 1.0;
    for conjunct in &decided {
        let share = selectivity(conjunct, &known);
        apart *= share;
        narrow(&mut known, conjunct, share);
    }
    // What lies in pieces may have been missed by a whole window.
    let in_pieces = decided.iter().any(|conjunct| sample.is_in_pieces(conjunct, &place_of));
    let missed = if in_pieces { 1.0 / sample.windows().max(1) as f64 } else { 3.0 / rows };
    Some(others * apart.clamp(met / (3.0 * rows), met / rows + missed))
}

/// The same rows under other column ids.
fn renamed<'a>(known: &Estimate, columns: impl Iterator<Item = (ColumnId, &'a Column)>) -> Estimate {
    let columns = columns.filter_map(|(own, column)| Some((column.id, known.columns.get(&own)?.clone()))).collect();
    Estimate { rows: known.rows, most: known.most, columns }
}

/// True when the conditions give a value to each column of the table's primary key.
fn is_key_lookup(input: &LogicalPlan, conjuncts: &[Expr]) -> bool {
    let LogicalPlan::Scan(scan) = input else { return false };
    let key = &scan.table.primary_key;
    let fixed = |place: &usize| {
        conjuncts.iter().any(|c| match c.as_column_comparison() {
            Some((column, BinaryOp::Eq, _)) => scan.columns.iter().any(|(own, at)| own == column && at == place),
            _ => false,
        })
    };
    !key.is_empty() && key.iter().all(fixed)
}

/// Distinct keys of both sides of a join. Keys of several columns are no more than the rows of their side.
fn key_values(join: &Join, left: &Estimate, right: &Estimate) -> (f64, f64) {
    if join.on.is_empty() {
        return (1.0, 1.0);
    }
    let of_left = left.distinct_together(join.on.iter().map(|key| &key.left));
    (of_left, right.distinct_together(join.on.iter().map(|key| &key.right)))
}

/// The rows that come out of a join of these two, whose sides have so many keys.
fn join_rows(join: &Join, left: &Estimate, right: &Estimate, (of_left, of_right): (f64, f64)) -> f64 {
    let keyed = left.rows * right.rows / of_left.max(of_right).max(1.0);
    let matched = join.residual.iter().fold(keyed, |rows, _| rows * GUESS_RANGE);
    let partnered = if join.on.is_empty() { 1.0 } else { (of_right / of_left).min(1.0) };
    match join.kind {
        JoinKind::Inner => matched,
        JoinKind::Left => matched.max(left.rows),
        JoinKind::Right => matched.max(right.rows),
        JoinKind::Full => matched.max(left.rows).max(right.rows),
        JoinKind::Semi => left.rows * partnered,
        JoinKind::Single | JoinKind::Mark => left.rows,
        JoinKind::Anti | JoinKind::NullAwareAnti => left.rows * (1.0 - partnered).max(0.05),
    }
}

pub fn join_estimate(join: &Join, left: &Estimate, right: &Estimate) -> Estimate {
    let (of_left, of_right) = key_values(join, left, right);
    let rows = join_rows(join, left, right, (of_left, of_right));
    // Of each side the rows that have a partner are left, however many that is.
    let (with_right, with_left) = ((of_right / of_left).min(1.0), (of_left / of_right).min(1.0));
    let kept = |side: &Estimate, share: f64| side.clone().scaled((side.rows * share).min(rows.max(1.0)));
    let mut columns = match join.kind {
        JoinKind::Inner | JoinKind::Right | JoinKind::Semi => kept(left, with_right).columns,
        JoinKind::Anti | JoinKind::NullAwareAnti => kept(left, 1.0 - with_right).columns,
        JoinKind::Left | JoinKind::Full | JoinKind::Single | JoinKind::Mark => left.columns.clone(),
    };
    if !join.kind.left_only() {
        let share = if matches!(join.kind, JoinKind::Inner | JoinKind::Left) { with_left } else { 1.0 };
        columns.extend(kept(right, share).columns);
    }
    let both = left.most.zip(right.most).map(|(l, r)| l * r);
    let most = match join.kind {
        JoinKind::Inner => both,
        JoinKind::Left => both.zip(left.most).map(|(both, l)| both.max(l)),
        JoinKind::Right => both.zip(right.most).map(|(both, r)| both.max(r)),
        JoinKind::Full => both.zip(left.most.zip(right.most)).map(|(both, (l, r))| both.max(l + r)),
        JoinKind::Semi | JoinKind::Anti | JoinKind::NullAwareAnti | JoinKind::Single | JoinKind::Mark => left.most,
    };
    let mut result = Estimate { rows, most, columns };
    if join.kind == JoinKind::Inner {
        // Both key columns keep the smaller number of distinct values.
        for join_key in &join.on {
            let distinct = left.distinct(&join_key.left).min(right.distinct(&join_key.right));
            for key in join_key.sides() {
                if let Expr::Column(column) = key {
                    result.columns.entry(column.id).or_default().distinct = Some(distinct);
                }
            }
        }
    }
    result
}

/// The share of rows for which the condition is true.
pub fn selectivity(condition: &Expr, over: &Estimate) -> f64 {
    match condition {
        Expr::Literal { value: Value::Boolean(true), .. } => 1.0,
        Expr::Literal { .. } => 0.0,
        Expr::Binary { op: BinaryOp::And, left, right, .. } => selectivity(left, over) * selectivity(right, over),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
            let (a, b) = (selectivity(left, over), selectivity(right, over));
            (a + b - a * b).min(1.0)
        }
        Expr::Not(inner) => 1.0 - selectivity(inner, over),
        Expr::Column(column) => {
            // A boolean column: true in half of the rows unless its distinct values say that it is constant.
            let known = over.columns.get(&column.id);
            if let Some(share) = known.and_then(|c| c.share_of(&Value::Boolean(true))) {
                return share;
            }
            match known.and_then(|c| c.statistics.min.as_ref().zip(c.statistics.max.as_ref())) {
                Some((Value::Boolean(true), _)) => 1.0,
                Some((_, Value::Boolean(false))) => 0.0,
                _ => 0.5,
            }
        }
        Expr::IsNull { operand, negated } => {
            let nulls = match operand.as_ref() {
                Expr::Column(column) => {
                    over.columns.get(&column.id).and_then(|c| c.statistics.null_fraction).unwrap_or(0.05)
                }
                _ => 0.05,
            };
            if *negated { 1.0 - nulls } else { nulls }
        }
        Expr::InList { operand, list, negated } => {
            let share = (list.len() as f64 / over.distinct(operand)).min(1.0);
            if *negated { 1.0 - share } else { share }
        }
        Expr::Like { negated, .. } => {
            if *negated {
                1.0 - GUESS_LIKE
            } else {
                GUESS_LIKE
            }
        }
        Expr::Binary { op, left, right, .. } if op.is_comparison() => {
            if let Some((column, op, value)) = condition.as_column_comparison() {
                return comparison_selectivity(column, op, value, over);
            }
            match op {
                BinaryOp::Eq | BinaryOp::IsNotDistinctFrom => {
                    1.0 / over.distinct(left).max(over.distinct(right)).max(1.0)
                }
                BinaryOp::NotEq | BinaryOp::IsDistinctFrom => {
                    1.0 - 1.0 / over.distinct(left).max(over.distinct(right)).max(2.0)
                }
                _ => GUESS_RANGE,
            }
        }
        _ => GUESS_OTHER,
    }
}

fn comparison_selectivity(column: &Column, op: BinaryOp, value: &Value, over: &Estimate) -> f64 {
    let Some(known) = over.columns.get(&column.id) else {
        return if op == BinaryOp::Eq { GUESS_EQUAL } else { GUESS_RANGE };
    };
    let distinct = known.distinct.unwrap_or(1.0 / GUESS_EQUAL).max(1.0);
    let statistics = &known.statistics;
    let not_null = 1.0 - statistics.null_fraction.unwrap_or(0.0);
    let range =
        statistics.min.as_ref().and_then(Value::approximate).zip(statistics.max.as_ref().and_then(Value::approximate));
    let place = value.approximate();
    let equality = matches!(op, BinaryOp::Eq | BinaryOp::IsNotDistinctFrom);
    if equality || matches!(op, BinaryOp::NotEq | BinaryOp::IsDistinctFrom) {
        if let Some(share) = known.share_of(value) {
            return if equality { share } else { (not_null - share).max(0.0) };
        }
    } else if let Some(below) = statistics.share_below(value) {
        // Earlier conjuncts may have left only a part of the column's range.
        let from = statistics.min.as_ref().and_then(|v| statistics.share_below(v)).unwrap_or(0.0);
        let to = statistics.max.as_ref().and_then(|v| statistics.share_up_to(v)).unwrap_or(1.0);
        if to > from {
            let share = ((below - from) / (to - from)).clamp(0.0, 1.0);
            return not_null * if matches!(op, BinaryOp::Lt | BinaryOp::LtEq) { share } else { 1.0 - share };
        }
    }
    match (op, range, place) {
        (BinaryOp::Eq | BinaryOp::IsNotDistinctFrom, Some((min, max)), Some(v)) if v < min || v > max => 0.0,
        (BinaryOp::Eq | BinaryOp::IsNotDistinctFrom, ..) => not_null / distinct,
        (BinaryOp::NotEq | BinaryOp::IsDistinctFrom, ..) => not_null * (1.0 - 1.0 / distinct),
        (BinaryOp::Lt | BinaryOp::LtEq, Some((min, max)), Some(v)) if max > min => {
            not_null * ((v - min) / (max - min)).clamp(0.0, 1.0)
        }
        (BinaryOp::Gt | BinaryOp::GtEq, Some((min, max)), Some(v)) if max > min => {
            not_null * ((max - v) / (max - min)).clamp(0.0, 1.0)
        }
        _ => GUESS_RANGE,
    }
}

/// After `column < value` has been applied, the column's range ends there: the next conjunct on it is estimated within.
/// `share` of the rows have met it, and so of its values.
fn narrow(result: &mut Estimate, conjunct: &Expr, share: f64) {
    if let Expr::InList { operand, list, negated: false } = conjunct
        && let Expr::Column(column) = operand.as_ref()
        && let Some(known) = result.columns.get_mut(&column.id)
    {
        known.distinct = Some(known.distinct.map_or(list.len() as f64, |before| before.min(list.len() as f64)));
    }
    let Some((column, op, value)) = conjunct.as_column_comparison() else { return };
    let Some(column) = result.columns.get_mut(&column.id) else { return };
    let whole = column.statistics.distinct;
    if matches!(op, BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq) {
        let left = whole.map(|whole| (whole * share).max(1.0));
        column.distinct = column.distinct.zip(left).map(|(known, left)| known.min(left)).or(column.distinct);
    }
    let known = Arc::make_mut(&mut column.statistics);
    match op {
        BinaryOp::Lt | BinaryOp::LtEq => known.max = Some(value.clone()),
        BinaryOp::Gt | BinaryOp::GtEq => known.min = Some(value.clone()),
        BinaryOp::Eq | BinaryOp::IsNotDistinctFrom => {
            (known.min, known.max, column.distinct) = (Some(value.clone()), Some(value.clone()), Some(1.0));
        }
        _ => {}
    }
    if op != BinaryOp::IsDistinctFrom && op != BinaryOp::IsNotDistinctFrom {
        known.null_fraction = Some(0.0);
    }
}
