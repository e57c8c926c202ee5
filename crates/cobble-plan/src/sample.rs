//! Samples: some rows of a table that stand for all. A source draws them as runs of neighbouring rows in a few windows spread over the table, since
//! whole pages have to be decoded for a single row.
//!
//! Distinct values are estimated after Haas and Stokes, "Estimating the Number of Classes in a Finite Population" (1998), by their first
//! estimator (Duj1), over the distinct values of each run instead of rows: equal neighbours, as in sorted tables, count once.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch, RecordBatchOptions};
use arrow::compute::sort_to_indices;
use arrow::datatypes::{Field, Schema};
use arrow::row::{RowConverter, SortField};
use cobble_functions::budget::{self, Spent};
use cobble_types::{ColumnId, Value};

use crate::expr::{BinaryOp, Column, Expr};
use crate::scan::PredicateCompiler;
use crate::statistics::{ColumnStatistics, STEPS};

/// Rows that tables with at most so many are sampled by: all of them.
pub const ALL_UP_TO: u64 = 4096;

/// Neighbouring rows of a sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    pub rows: usize,
    /// The window that it is of. Windows are spread over the table, the runs of one lie close together.
    pub window: usize,
}

/// Rows of a table, and what was worked out of them.
pub struct Sample {
    /// Rows of the whole table.
    of: f64,
    runs: Arc<Vec<Run>>,
    columns: BTreeMap<usize, Arc<SampledColumn>>,
    compiler: Option<Arc<dyn PredicateCompiler>>,
    answers: Arc<Answers>,
}

/// What was asked of a sample, kept as long as its rows.
#[derive(Debug, Default)]
pub struct Answers {
    met: Mutex<HashMap<String, Option<f64>>>,
    distinct: Mutex<HashMap<Vec<usize>, Option<f64>>>,
}

/// One column's values in a sample.
#[derive(Debug)]
pub struct SampledColumn {
    pub values: ArrayRef,
    known: OnceLock<Found>,
}

#[derive(Debug, Clone, Default)]
struct Found {
    statistics: ColumnStatistics,
    is_clustered: bool,
}

impl SampledColumn {
    pub fn new(values: ArrayRef) -> SampledColumn {
        SampledColumn { values, known: OnceLock::new() }
    }
}

/// Bytes that deciding a condition over a sample may make.
const MOST_MADE: u64 = 16 << 20;

/// Answers that are kept for a sample.
const KEPT: usize = 256;

impl fmt::Debug for Sample {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Sample({} of {} rows)", self.rows(), self.of)
    }
}

impl PartialEq for Sample {
    fn eq(&self, other: &Sample) -> bool {
        self.of == other.of && self.runs == other.runs && self.columns.keys().eq(other.columns.keys())
    }
}

impl Sample {
    /// `columns` by their places in the table, each with as many values as the runs have rows.
    pub fn new(
        of: f64,
        runs: Arc<Vec<Run>>,
        columns: BTreeMap<usize, Arc<SampledColumn>>,
        answers: Arc<Answers>,
    ) -> Sample {
        Sample { of, runs, columns, compiler: None, answers }
    }

    /// The same rows, over which conditions can be decided.
    pub fn with_compiler(self, compiler: Arc<dyn PredicateCompiler>) -> Sample {
        Sample { compiler: Some(compiler), ..self }
    }

    pub fn rows(&self) -> usize {
        self.runs.iter().map(|run| run.rows).sum()
    }

    /// Rows of the whole table.
    pub fn of(&self) -> f64 {
        self.of
    }

    pub fn has(&self, place: usize) -> bool {
        self.columns.contains_key(&place)
    }

    /// It has every row of the table.
    pub fn is_whole(&self) -> bool {
        self.rows() as f64 >= self.of
    }

    /// What the rows tell of one column.
    pub fn statistics(&self, place: usize) -> Option<ColumnStatistics> {
        self.found(place).map(|found| found.statistics.clone())
    }

    fn found(&self, place: usize) -> Option<&Found> {
        let column = self.columns.get(&place)?;
        Some(column.known.get_or_init(|| self.worked_out(place, &column.values)))
    }

    /// Distinct combinations of values of these columns in the whole table, those with nulls left out.
    pub fn distinct(&self, places: &[usize]) -> Option<f64> {
        let mut known = self.answers.distinct.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known.get(places) {
            return *found;
        }
        let found = self.counted(places).map(|counted| counted.distinct(self));
        if known.len() < KEPT {
            known.insert(places.to_vec(), found);
        }
        found
    }

    /// Rows of the sample that meet all of these conditions; none where it does not tell that, or not as well as what is known of a column by
    /// itself: comparisons with a column in whose order the table is, of whose range the few windows have missed nearly all.
    pub fn met(&self, conditions: &[Expr], place_of: &dyn Fn(ColumnId) -> Option<usize>) -> Option<f64> {
        let mut columns: Vec<(Column, usize)> = Vec::new();
        for condition in conditions {
            collect(condition, &mut columns, place_of)?;
            if compares(condition) && self.is_in_pieces(condition, place_of) {
                return None;
            }
        }
        if columns.is_empty() {
            return None;
        }
        // Ids are of the statement; places stay.
        let mut text = String::new();
        for condition in conditions {
            text += &format!("{condition} & ");
        }
        columns.iter().for_each(|(column, place)| text += &format!("{column} {} {place} ", column.sql_type));
        let known = self.answers.met.lock().unwrap_or_else(PoisonError::into_inner).get(&text).copied();
        if let Some(known) = known {
            return known;
        }
        let found = self.evaluated(conditions, &columns);
        let mut known = self.answers.met.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() < KEPT {
            known.insert(text, found);
        }
        found
    }

    /// Whether a condition uses a column in whose order the table is: a window is then of a piece.
    pub fn is_in_pieces(&self, condition: &Expr, place_of: &dyn Fn(ColumnId) -> Option<usize>) -> bool {
        let is_clustered = |place: usize| self.found(place).is_none_or(|found| found.is_clustered);
        !self.is_whole() && condition.columns().into_iter().filter_map(place_of).any(is_clustered)
    }

    fn evaluated(&self, conditions: &[Expr], columns: &[(Column, usize)]) -> Option<f64> {
        let compiler = self.compiler.as_ref()?;
        // What scripts cost nobody knows before they have run.
        if conditions.iter().any(|condition| condition.any(&|e| matches!(e, Expr::Script { .. }))) {
            return None;
        }
        let own: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        let arrays: Vec<ArrayRef> = columns
            .iter()
            .map(|(_, place)| self.columns.get(place).map(|c| c.values.clone()))
            .collect::<Option<_>>()?;
        if own.iter().zip(&arrays).any(|(column, array)| column.sql_type.to_arrow() != *array.data_type()) {
            return None;
        }
        let fields: Vec<Field> = arrays.iter().map(|a| Field::new("", a.data_type().clone(), true)).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(self.rows()));
        let mut batch = RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &options).ok()?;
        // One after the other, each over what the ones before have left.
        for condition in conditions {
            let predicate = compiler.compile(condition, &own).ok()?;
            let Spent::Within(mask, _) = budget::within(MOST_MADE, || predicate.evaluate(&batch)) else { return None };
            batch = arrow::compute::filter_record_batch(&batch, &mask).ok()?;
        }
        Some(batch.num_rows() as f64)
    }

    /// How often each combination of values comes; rows with nulls are left out.
    fn counted(&self, places: &[usize]) -> Option<Counted> {
        let arrays: Vec<ArrayRef> =
            places.iter().map(|place| self.columns.get(place).map(|c| c.values.clone())).collect::<Option<_>>()?;
        let fields = arrays.iter().map(|array| SortField::new(array.data_type().clone())).collect();
        let rows = RowConverter::new(fields).ok()?.convert_columns(&arrays).ok()?;
        let nulls: Vec<_> = arrays.iter().filter_map(|array| array.logical_nulls()).collect();
        let mut counted = Counted::default();
        let mut numbers: HashMap<&[u8], usize> = HashMap::new();
        let mut at = 0;
        for (run_number, run) in self.runs.iter().enumerate() {
            for row in at..at + run.rows {
                if nulls.iter().any(|nulls| nulls.is_null(row)) {
                    counted.value_of.push(None);
                    continue;
                }
                let number = *numbers.entry(rows.row(row).data()).or_insert_with(|| {
                    counted.values.push(Seen { first: row, ..Seen::default() });
                    counted.values.len() - 1
                });
                counted.value_of.push(Some(number));
                counted.rows += 1;
                let seen = &mut counted.values[number];
                seen.rows += 1;
                if seen.last_run != Some(run_number) {
                    seen.last_run = Some(run_number);
                    seen.runs += 1;
                }
                if seen.last_window != Some(run.window) {
                    seen.last_window = Some(run.window);
                    seen.windows += 1;
                }
            }
            at += run.rows;
        }
        Some(counted)
    }

    /// Places of the table that the rows are from.
    pub fn windows(&self) -> usize {
        self.runs.iter().map(|run| run.window).collect::<HashSet<_>>().len()
    }

    /// Whether the windows hold parts of the values' range of their own, by the rows in order of their values: the table is in their order,
    /// or nearly.
    fn is_in_order(&self, order: &[usize]) -> bool {
        let window_of: Vec<usize> =
            self.runs.iter().flat_map(|run| std::iter::repeat_n(run.window, run.rows)).collect();
        let mut spans: HashMap<usize, (usize, usize)> = HashMap::new();
        for (rank, row) in order.iter().enumerate() {
            spans.entry(window_of[*row]).and_modify(|(_, last)| *last = rank).or_insert((rank, rank));
        }
        let covered: usize = spans.values().map(|(first, last)| last - first + 1).sum();
        spans.len() > 1 && 2 * covered < spans.len() * order.len()
    }

    fn worked_out(&self, place: usize, values: &ArrayRef) -> Found {
        let total = self.rows() as f64;
        let Some(counted) = self.counted(&[place]) else { return Found::default() };
        let order: Vec<usize> = sort_to_indices(values.as_ref(), None, None)
            .map(|order| order.values().iter().map(|row| *row as usize).collect())
            .unwrap_or_default();
        let order: Vec<usize> = order.into_iter().filter(|row| counted.value_of[*row].is_some()).collect();
        let windows = self.windows();
        let distinct = counted.distinct(self);
        let is_clustered = !self.is_whole() && self.is_in_order(&order);
        let value = |row: usize| Value::from_array(values.as_ref(), row).filter(|value| !value.is_null());
        // Few values are all told; of many those that come far more often than the others, in most windows.
        let few = counted.values.len() <= STEPS && distinct <= counted.values.len() as f64 * 1.02;
        let average = counted.rows as f64 / counted.values.len().max(1) as f64;
        let is_common = |seen: &Seen| {
            let often = seen.rows > 2 && seen.rows as f64 > 1.5 * average;
            (few || often) && (self.is_whole() || 2 * seen.windows >= windows)
        };
        let mut common: Vec<usize> = (0..counted.values.len()).filter(|n| is_common(&counted.values[*n])).collect();
        common.sort_by_key(|n| (std::cmp::Reverse(counted.values[*n].rows), *n));
        common.truncate(STEPS);
        let share = |number: usize| {
            let seen = &counted.values[number];
            Some((value(seen.first)?, seen.rows as f64 / total))
        };
        let most_common: Vec<(Value, f64)> = common.iter().filter_map(|n| share(*n)).collect();
        let listed: HashSet<usize> = common.into_iter().collect();
        let is_listed = |row: &usize| counted.value_of[*row].is_some_and(|number| listed.contains(&number));
        let rest: Vec<usize> = order.into_iter().filter(|row| !is_listed(row)).collect();
        let histogram = match STEPS.min(rest.len().saturating_sub(1)) {
            0 => vec![],
            // Between the windows lie values that were not seen.
            _ if is_clustered => vec![],
            steps => (0..=steps).filter_map(|step| value(rest[step * (rest.len() - 1) / steps])).collect(),
        };
        let width = (!values.data_type().is_primitive()).then(|| mean_bytes(values));
        let statistics = ColumnStatistics {
            distinct: Some(distinct),
            null_fraction: Some(1.0 - counted.rows as f64 / total.max(1.0)),
            width: width.flatten(),
            most_common,
            histogram,
            ..ColumnStatistics::default()
        };
        Found { statistics, is_clustered }
    }
}

/// Bytes of a text, on average.
fn mean_bytes(values: &ArrayRef) -> Option<f64> {
    let texts = values.as_string_view_opt()?;
    let bytes: usize = texts.iter().flatten().map(str::len).sum();
    Some(bytes as f64 / texts.len().max(1) as f64)
}

/// A condition of nothing but comparisons of columns with constants.
fn compares(condition: &Expr) -> bool {
    match condition {
        Expr::Binary { op: BinaryOp::And | BinaryOp::Or, left, right, .. } => compares(left) && compares(right),
        Expr::Not(inner) => compares(inner),
        Expr::InList { operand, .. } | Expr::IsNull { operand, .. } => matches!(operand.as_ref(), Expr::Column(_)),
        other => matches!(other, Expr::Column(_)) || other.as_column_comparison().is_some(),
    }
}

/// The places of an expression's columns; none where one has no place.
fn collect(expr: &Expr, found: &mut Vec<(Column, usize)>, place_of: &dyn Fn(ColumnId) -> Option<usize>) -> Option<()> {
    if let Expr::Column(column) = expr
        && !found.iter().any(|(known, _)| known.id == column.id)
    {
        found.push((column.clone(), place_of(column.id)?));
    }
    expr.children().into_iter().try_for_each(|child| collect(child, found, place_of))
}

/// One value, or combination of values.
#[derive(Debug, Default)]
struct Seen {
    /// The first row that has it.
    first: usize,
    rows: usize,
    runs: usize,
    windows: usize,
    last_run: Option<usize>,
    last_window: Option<usize>,
}

#[derive(Debug, Default)]
struct Counted {
    values: Vec<Seen>,
    /// Of each row the number of its value, where it has no null.
    value_of: Vec<Option<usize>>,
    /// Rows without a null.
    rows: usize,
}

impl Counted {
    /// Distinct values in the whole table.
    fn distinct(&self, sample: &Sample) -> f64 {
        let found = self.values.len() as f64;
        if sample.is_whole() || self.rows == 0 {
            return found;
        }
        let taken = sample.rows() as f64 / sample.of;
        // Where equal values lie in neighbouring runs, what a window has counts once too: the truth lies between the two.
        let by = |units: fn(&Seen) -> usize| {
            let all: usize = self.values.iter().map(units).sum();
            let once = self.values.iter().filter(|seen| units(seen) == 1).count();
            found / (1.0 - (1.0 - taken) * once as f64 / all as f64).max(taken)
        };
        let (by_runs, by_windows) = (by(|seen| seen.runs), by(|seen| seen.windows));
        let rows = sample.of * self.rows as f64 / sample.rows() as f64;
        let whole = if self.are_common() { by_runs } else { (by_runs * by_windows).sqrt() };
        whole.clamp(found, rows.max(found))
    }

    /// Most rows have values that came in several windows.
    fn are_common(&self) -> bool {
        let again: usize = self.values.iter().filter(|seen| seen.windows > 1).map(|seen| seen.rows).sum();
        2 * again > self.rows
    }
}

#[cfg(test)]
mod tests {
    use arrow::array::{Int64Array, StringViewArray};

    use super::*;

    const ROWS: usize = 1_000_000;

    /// A sample, drawn as sources draw it, of a table whose values are made of the rows' numbers.
    fn drawn(columns: &[&dyn Fn(usize) -> i64]) -> Sample {
        let places = (0..8).flat_map(|window| {
            let start = (2 * window + 1) * ROWS / 16 - 1024;
            (0..8).map(move |run| (window, start + run * 256))
        });
        let places: Vec<(usize, usize)> = places.collect();
        let rows: Vec<usize> = places.iter().flat_map(|(_, start)| *start..start + 64).collect();
        let runs = places.iter().map(|(window, _)| Run { rows: 64, window: *window }).collect();
        let values = columns.iter().map(|make| Int64Array::from_iter_values(rows.iter().map(|row| make(*row))));
        let columns = values.map(|values| Arc::new(SampledColumn::new(Arc::new(values) as ArrayRef)));
        Sample::new(ROWS as f64, Arc::new(runs), columns.enumerate().collect(), Arc::default())
    }

    /// A number that has nothing to do with its neighbour's.
    fn mixed(row: usize) -> i64 {
        let z = (row as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) as i64
    }

    #[track_caller]
    fn assert_near(found: Option<f64>, wanted: f64, times: f64) {
        let found = found.unwrap();
        assert!(found < wanted * times && found > wanted / times, "{found} for {wanted}");
    }

    #[test]
    fn distinct_values_are_near_whatever_the_order_of_the_table() {
        assert_near(drawn(&[&|row| row as i64]).distinct(&[0]), 1e6, 1.01);
        assert_near(drawn(&[&mixed]).distinct(&[0]), 1e6, 1.3);
        assert_near(drawn(&[&|row| mixed(row).rem_euclid(40)]).distinct(&[0]), 40.0, 1.01);
        assert_near(drawn(&[&|row| mixed(row).rem_euclid(50_000)]).distinct(&[0]), 50_000.0, 2.0);
        assert_near(drawn(&[&|row| row as i64 / 4]).distinct(&[0]), 250_000.0, 1.2);
        assert_near(drawn(&[&|row| row as i64 / 1_000]).distinct(&[0]), 1_000.0, 4.0);
    }

    #[test]
    fn columns_that_go_together_are_counted_together() {
        let sample = drawn(&[&|row| mixed(row).rem_euclid(200), &|row| mixed(row).rem_euclid(200) / 10]);
        assert_near(sample.distinct(&[0, 1]), 200.0, 1.01);
        let key = drawn(&[&|row| mixed(row / 4).rem_euclid(1 << 40), &|row| row as i64 % 4]);
        assert_near(key.distinct(&[0, 1]), 1e6, 1.3);
    }

    #[test]
    fn what_comes_often_is_listed_and_the_rest_has_steps() {
        let skewed = drawn(&[&|row| if row % 3 == 0 { 7 } else { mixed(row).rem_euclid(100_000) }]);
        let known = skewed.statistics(0).unwrap();
        assert_eq!(known.most_common.len(), 1, "{:?}", known.most_common);
        assert!((known.most_common[0].1 - 0.333).abs() < 0.03);
        assert!((known.share_below(&Value::BigInt(50_000)).unwrap() - 0.667).abs() < 0.05);
    }

    #[test]
    fn a_column_that_the_table_is_in_order_of_has_no_steps() {
        let known = drawn(&[&|row| row as i64]).statistics(0).unwrap();
        assert!(known.histogram.is_empty() && known.most_common.is_empty());
        let months = drawn(&[&|row| row as i64 * 36 / ROWS as i64]).statistics(0).unwrap();
        assert!(months.most_common.is_empty(), "most months were not seen at all");
    }

    #[test]
    fn a_whole_table_is_known_exactly() {
        let texts = StringViewArray::from(vec![Some("deck"), None, Some("deck"), Some("lounge")]);
        let column = Arc::new(SampledColumn::new(Arc::new(texts)));
        let runs = Arc::new(vec![Run { rows: 4, window: 0 }]);
        let sample = Sample::new(4.0, runs, BTreeMap::from([(2, column)]), Arc::default());
        let known = sample.statistics(2).unwrap();
        assert_eq!((known.distinct, known.null_fraction), (Some(2.0), Some(0.25)));
        let shares: Vec<_> = known.most_common.iter().map(|(value, share)| (value.to_string(), *share)).collect();
        assert_eq!(shares, [("'deck'".to_owned(), 0.5), ("'lounge'".to_owned(), 0.25)]);
        assert!(sample.is_whole() && !sample.has(0) && sample.statistics(0).is_none());
    }
}
