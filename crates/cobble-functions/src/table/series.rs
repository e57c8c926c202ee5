//! `generate_series`, which comes piece by piece, so that a long series does not have to fit into memory.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::cast;
use arrow::datatypes::*;
use cobble_types::parse::add_interval;
use cobble_types::{Code, Error, Result, SqlType};

use super::signature::{Made, RowsCall, Table};
use crate::signature::{Given, Overload, Types, unified};

pub(super) const GENERATE_SERIES: Table = Table::new(
    "generate_series",
    "start, stop [, step]",
    "The numbers or times from a start to a stop.",
    ("generate_series(1, 3)", "1,2,3"),
    |_, returns| vec![("generate_series", returns.clone())],
    &[
        Overload::together(times, |call| Ok(Made::Series(series(call)?))),
        Overload::together(numbers, |call| Ok(Made::Series(series(call)?))),
    ],
);

/// Two times and an interval. Dates are taken for times with a zone, as in PostgreSQL.
fn times(given: &[Given]) -> Option<Types> {
    let [start, stop, step] = given else { return None };
    let fits = |time: &Given| time.is_open() || time.sql_type.is_time_point();
    let some = start.sql_type.is_time_point() || stop.sql_type.is_time_point();
    if !some || !fits(start) || !fits(stop) || !(step.is_open() || step.sql_type == SqlType::Interval) {
        return None;
    }
    let plain = [start, stop].iter().any(|time| time.sql_type == SqlType::Timestamp);
    let time = if plain { SqlType::Timestamp } else { SqlType::TimestampTz };
    Some((vec![time.clone(), time.clone(), SqlType::Interval], time))
}

/// Two or three numbers of one exact type.
fn numbers(given: &[Given]) -> Option<Types> {
    if !(2..=3).contains(&given.len()) {
        return None;
    }
    let common = unified(given).filter(|own| own.is_integer() || matches!(own, SqlType::Numeric { .. }))?;
    Some((vec![common.clone(); given.len()], common))
}

/// A series for each row: nothing for a row with a null.
pub enum Series {
    Whole(Vec<Option<(i128, i128, i128)>>),
    Times { rows: Vec<Option<(i64, i64, IntervalMonthDayNano)>>, next: Option<i64> },
}

/// Values of a series, before they have their type.
#[derive(Default)]
pub struct SeriesValues(pub Vec<Option<i128>>);

impl SeriesValues {
    fn push(&mut self, value: i128) {
        self.0.push(Some(value));
    }

    /// The values as a column.
    pub fn finish(self, result: &DataType) -> Result<ArrayRef> {
        Ok(match result {
            DataType::Decimal128(p, s) => {
                Arc::new(self.0.into_iter().collect::<Decimal128Array>().with_precision_and_scale(*p, *s)?)
            }
            other => {
                let whole: Int64Array = self.0.into_iter().map(|v| v.map(|v| v as i64)).collect();
                cast(&whole, other)?
            }
        })
    }
}

fn series(call: &RowsCall) -> Result<Series> {
    let (arguments, result, rows) = (call.arguments, &call.made[0], call.rows);
    let some = |row: usize| arguments.iter().all(|a| a.is_valid(row));
    let zero_step = || Error::new(Code::InvalidValue, "the step of a series cannot be zero");
    if matches!(result, DataType::Timestamp(..)) {
        let wide = |i: usize| Ok::<_, Error>(cast(&arguments[i], &DataType::Int64)?);
        let (starts, stops) = (wide(0)?, wide(1)?);
        let (starts, stops) = (starts.as_primitive::<Int64Type>(), stops.as_primitive::<Int64Type>());
        let steps = arguments[2].as_primitive::<IntervalMonthDayNanoType>();
        let mut out = Vec::with_capacity(rows);
        for row in 0..rows {
            out.push(if some(row) {
                let step = steps.value(row);
                if step.months == 0 && step.days == 0 && step.nanoseconds == 0 {
                    return Err(zero_step());
                }
                Some((starts.value(row), stops.value(row), step))
            } else {
                None
            });
        }
        return Ok(Series::Times { rows: out, next: None });
    }
    let wide = |i: usize| -> Result<Vec<i128>> {
        Ok(match arguments[i].data_type() {
            DataType::Decimal128(..) => arguments[i].as_primitive::<Decimal128Type>().values().to_vec(),
            _ => {
                let whole = cast(&arguments[i], &DataType::Int64)?;
                whole.as_primitive::<Int64Type>().values().iter().map(|v| i128::from(*v)).collect()
            }
        })
    };
    let (starts, stops) = (wide(0)?, wide(1)?);
    let steps = match arguments.len() {
        3 => wide(2)?,
        _ => {
            let one = match result {
                DataType::Decimal128(_, scale) => 10i128.pow((*scale).max(0) as u32),
                _ => 1,
            };
            vec![one; rows]
        }
    };
    let mut out = Vec::with_capacity(rows);
    for row in 0..rows {
        out.push(if some(row) {
            if steps[row] == 0 {
                return Err(zero_step());
            }
            Some((starts[row], stops[row], steps[row]))
        } else {
            None
        });
    }
    Ok(Series::Whole(out))
}

impl Series {
    /// Puts up to `room` values of a row after the first `within` ones; says how many, and whether the row is through.
    pub fn fill(&mut self, row: usize, within: usize, room: usize, out: &mut SeriesValues) -> Result<(usize, bool)> {
        match self {
            Series::Whole(rows) => {
                let Some((start, stop, step)) = rows[row] else { return Ok((0, true)) };
                let total = if (step > 0 && start > stop) || (step < 0 && start < stop) {
                    0
                } else {
                    (stop - start) / step + 1
                };
                let count = (total - within as i128).clamp(0, room as i128) as usize;
                (0..count).for_each(|i| out.push(start + step * (within + i) as i128));
                Ok((count, (within + count) as i128 >= total))
            }
            Series::Times { rows, next } => {
                let Some((start, stop, step)) = rows[row] else { return Ok((0, true)) };
                let forward = i128::from(step.months) * 30 * 86_400_000_000_000
                    + i128::from(step.days) * 86_400_000_000_000
                    + i128::from(step.nanoseconds)
                    > 0;
                let mut at = if within == 0 { start } else { next.unwrap_or(start) };
                let mut count = 0;
                let over = |at: i64| if forward { at > stop } else { at < stop };
                while count < room && !over(at) {
                    out.push(at.into());
                    count += 1;
                    at = add_interval(at, step.months, step.days, step.nanoseconds / 1000)
                        .ok_or_else(|| Error::new(Code::Overflow, "a time is out of the range of its type"))?;
                }
                *next = Some(at);
                Ok((count, over(at)))
            }
        }
    }
}
