//! What is known of a table before it is read. Connectors fill this from what the source itself keeps: Parquet footers,
//! PostgreSQL's `pg_stats`; the rest stays unknown and the estimator falls back to stated guesses.

use std::cmp::Ordering;
use std::sync::Arc;

use cobble_types::{SqlType, Value};
use serde::{Deserialize, Serialize};

use crate::sample::Sample;

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct TableStatistics {
    pub rows: Option<f64>,
    /// Size at the source in bytes.
    pub bytes: Option<f64>,
    /// One entry per column of the table, in its order; empty when nothing is known of any.
    pub columns: Vec<ColumnStatistics>,
    /// Where the numbers come from, in words: "parquet footers", "pg_stats".
    pub origin: Option<String>,
    /// Rows that stand for all; they do not travel.
    #[serde(skip)]
    pub sample: Option<Arc<Sample>>,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ColumnStatistics {
    pub distinct: Option<f64>,
    pub min: Option<Value>,
    pub max: Option<Value>,
    /// Share of nulls, 0 to 1.
    pub null_fraction: Option<f64>,
    /// Average bytes of a value.
    pub width: Option<f64>,
    /// Values that are far more frequent than others, with the share of all rows that have them, the most frequent first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub most_common: Vec<(Value, f64)>,
    /// Bounds in order between which equal shares of the other rows lie.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub histogram: Vec<Value>,
}

/// Most common values are at most this many, and histograms have at most as many steps.
pub(crate) const STEPS: usize = 100;

impl ColumnStatistics {
    /// What the least and the greatest value of a column tell, in a table of so many rows: whole numbers and days cannot have more distinct
    /// values than there are between them.
    pub fn between(min: Option<Value>, max: Option<Value>, sql_type: &SqlType, rows: f64) -> ColumnStatistics {
        let distinct = match (&min, &max) {
            (Some(least), Some(greatest)) if sql_type.is_integer() => {
                least.approximate().zip(greatest.approximate()).map(|(least, greatest)| greatest - least + 1.0)
            }
            (Some(Value::Date(least)), Some(Value::Date(greatest))) => {
                Some(f64::from(*greatest) - f64::from(*least) + 1.0)
            }
            (Some(least), Some(greatest)) if least == greatest => Some(1.0),
            _ if *sql_type == SqlType::Boolean => Some(2.0),
            _ => None,
        };
        ColumnStatistics {
            distinct: distinct.map(|distinct| distinct.min(rows)),
            min,
            max,
            ..ColumnStatistics::default()
        }
    }

    /// The share of all rows that have this value, when that is known better than by the number of distinct ones. `distinct` is that
    /// number, where it is not the one of the whole column any more.
    pub fn share_of(&self, value: &Value, distinct: Option<f64>) -> Option<f64> {
        if self.most_common.is_empty() {
            return None;
        }
        if let Some((_, share)) = self.most_common.iter().find(|(v, _)| v.compare(value) == Some(Ordering::Equal)) {
            return Some(*share);
        }
        let listed: f64 = self.most_common.iter().map(|(_, share)| share).sum();
        let others = distinct.unwrap_or(f64::INFINITY) - self.most_common.len() as f64;
        let left = (1.0 - self.null_fraction.unwrap_or(0.0) - listed).max(0.0);
        Some(if others >= 1.0 { left / others } else { 0.0 })
    }

    /// The share of the rows that are not null which lie below the value: the listed ones exactly, the others by the step of
    /// the histogram in which it falls.
    pub fn share_below(&self, value: &Value) -> Option<f64> {
        if self.histogram.len() < 2 && self.most_common.is_empty() {
            return None;
        }
        let not_null = (1.0 - self.null_fraction.unwrap_or(0.0)).max(f64::MIN_POSITIVE);
        let (mut listed, mut below) = (0.0, 0.0);
        for (common, share) in &self.most_common {
            listed += share;
            if common.compare(value)? == Ordering::Less {
                below += share;
            }
        }
        let mut place = 0.0;
        if let ([first, ..], [.., last]) = (self.histogram.as_slice(), self.histogram.as_slice()) {
            let steps = (self.histogram.len() - 1).max(1) as f64;
            let step = self.histogram.partition_point(|bound| bound.compare(value) == Some(Ordering::Less));
            place = if value.compare(first)? != Ordering::Greater {
                0.0
            } else if value.compare(last)? == Ordering::Greater {
                1.0
            } else {
                let (low, high) = (&self.histogram[step - 1], &self.histogram[step]);
                let within = match (low.approximate(), high.approximate(), value.approximate()) {
                    (Some(low), Some(high), Some(v)) if high > low => (v - low) / (high - low),
                    _ => 0.5,
                };
                (step as f64 - 1.0 + within) / steps
            };
        }
        Some(((below + place * (not_null - listed).max(0.0)) / not_null).clamp(0.0, 1.0))
    }
}

impl ColumnStatistics {
    /// The share of the rows that are not null which lie below or at the value.
    pub fn share_up_to(&self, value: &Value) -> Option<f64> {
        let known = self.most_common.iter().map(|(v, _)| v).chain(self.histogram.last());
        if known.clone().all(|v| v.compare(value).is_some_and(Ordering::is_le)) {
            return Some(1.0);
        }
        self.share_below(value)
    }
}

/// The most common values of a sample with their share of all rows, and the histogram of the others. `distinct` is the number
/// of distinct values in the whole column, `share` the share of its rows that are not null.
pub fn distribution(mut sample: Vec<Value>, distinct: Option<f64>, share: f64) -> (Vec<(Value, f64)>, Vec<Value>) {
    let total = sample.len();
    sample.sort_by(|a, b| a.compare(b).unwrap_or(Ordering::Equal));
    // Runs of equal values: where each begins, and its length.
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for place in 0..total {
        match runs.last_mut() {
            Some((begin, length)) if sample[*begin].compare(&sample[place]) == Some(Ordering::Equal) => *length += 1,
            _ => runs.push((place, 1)),
        }
    }
    let all_seen = distinct.is_some_and(|d| d <= runs.len() as f64 * 1.02) && runs.len() <= STEPS;
    let average = total as f64 / runs.len().max(1) as f64;
    let mut common: Vec<(usize, usize)> =
        runs.iter().filter(|(_, n)| all_seen || (*n > 1 && *n as f64 > 1.5 * average)).copied().collect();
    common.sort_by_key(|(begin, n)| (std::cmp::Reverse(*n), *begin));
    common.truncate(STEPS);
    let most_common: Vec<(Value, f64)> =
        common.iter().map(|(begin, n)| (sample[*begin].clone(), *n as f64 / total as f64 * share)).collect();
    let listed: std::collections::BTreeSet<usize> = common.iter().map(|(begin, _)| *begin).collect();
    let rest: Vec<&Value> = runs
        .iter()
        .filter(|(begin, _)| !listed.contains(begin))
        .flat_map(|(begin, n)| &sample[*begin..*begin + *n])
        .collect();
    let steps = STEPS.min(rest.len().saturating_sub(1));
    let histogram = match steps {
        0 => Vec::new(),
        steps => (0..=steps).map(|i| rest[i * (rest.len() - 1) / steps].clone()).collect(),
    };
    (most_common, histogram)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(values: Vec<i32>) -> ColumnStatistics {
        let distinct = values.iter().collect::<std::collections::BTreeSet<_>>().len() as f64;
        let (most_common, histogram) =
            distribution(values.into_iter().map(Value::Integer).collect(), Some(distinct), 1.0);
        ColumnStatistics { distinct: Some(distinct), most_common, histogram, ..ColumnStatistics::default() }
    }

    #[test]
    fn few_values_are_all_listed() {
        let known = column((0..1000).map(|i| if i % 10 == 0 { 7 } else { 3 }).collect());
        assert_eq!(known.most_common, [(Value::Integer(3), 0.9), (Value::Integer(7), 0.1)]);
        assert!(known.histogram.is_empty());
        assert_eq!(known.share_of(&Value::Integer(7), known.distinct), Some(0.1));
        assert_eq!(known.share_of(&Value::Integer(5), known.distinct), Some(0.0));
        assert_eq!(known.share_below(&Value::Integer(7)), Some(0.9));
        assert_eq!(known.share_below(&Value::Integer(3)), Some(0.0));
    }

    #[test]
    fn a_skewed_column_has_common_values_and_steps_for_the_rest() {
        // Half of the rows are 500, the others spread evenly over 0 to 9999.
        let known = column((0..10_000).flat_map(|i| [500, i]).collect());
        assert_eq!(known.most_common.len(), 1);
        assert!((known.share_of(&Value::Integer(500), known.distinct).unwrap() - 0.5).abs() < 0.01);
        assert!(known.share_of(&Value::Integer(77), known.distinct).unwrap() < 0.001);
        for (value, share) in [(0, 0.0), (500, 0.025), (501, 0.525), (5000, 0.75), (20_000, 1.0)] {
            let found = known.share_below(&Value::Integer(value)).unwrap();
            assert!((found - share).abs() < 0.02, "{value}: {found}");
        }
    }

    #[test]
    fn nothing_sampled_is_nothing_known() {
        let known = column(vec![]);
        assert_eq!(
            (known.share_of(&Value::Integer(1), known.distinct), known.share_below(&Value::Integer(1))),
            (None, None)
        );
    }
}
