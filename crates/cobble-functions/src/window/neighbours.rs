//! Window functions that give a value of another row: one at a distance, or one of the frame.

use arrow::array::*;
use arrow::compute::kernels::zip::zip;
use arrow::compute::take;
use arrow::datatypes::*;
use cobble_types::{Code, Error, Result};

use super::signature::{Window, WindowKernel, Windowed};
use crate::signature::{Given, Overload, Returns, Takes, Types, unified};

pub(super) const LAG: Window = Window::new(
    "lag",
    "any [, rows [, default]]",
    "The value of the row before, or of one further away.",
    ("lag(v) OVER (ORDER BY v)", "1,2,2"),
    &at_a_distance(|call| distant(call, -1)),
)
.taking_a_value();

pub(super) const LEAD: Window = Window::new(
    "lead",
    "any [, rows [, default]]",
    "The value of the row behind, or of one further away.",
    ("lead(v) OVER (ORDER BY v)", "2,2,4"),
    &at_a_distance(|call| distant(call, 1)),
)
.taking_a_value();

pub(super) const FIRST_VALUE: Window = Window::new(
    "first_value",
    "any",
    "The value of the frame's first row.",
    ("first_value(v) OVER (ORDER BY v)", "1,1,1,1"),
    &[Overload::of(&[Takes::Any], Returns::Same(0), |call| of_frame(call, |_, _| Ok(Some(0))))],
)
.framed()
.taking_a_value();

pub(super) const LAST_VALUE: Window = Window::new(
    "last_value",
    "any",
    "The value of the frame's last row.",
    ("last_value(v) OVER (ORDER BY v)", "1,2,2,4"),
    &[Overload::of(&[Takes::Any], Returns::Same(0), |call| of_frame(call, |_, size| Ok(size.checked_sub(1))))],
)
.framed()
.taking_a_value();

pub(super) const NTH_VALUE: Window = Window::new(
    "nth_value",
    "any, n",
    "The value of the frame's n-th row.",
    ("nth_value(v, 2) OVER (ORDER BY v)", "2,2,2"),
    &[Overload::of(&[Takes::Any, Takes::Integer], Returns::Same(0), |call| {
        let numbers = call.arguments[1].as_primitive::<Int32Type>();
        of_frame(call, |row, _| {
            if numbers.is_null(row) {
                return Ok(None);
            }
            let n = usize::try_from(numbers.value(row)).ok().filter(|n| *n > 0);
            let n = n.ok_or_else(|| Error::new(Code::InvalidNthValue, "nth_value counts from one"))?;
            Ok(Some(n - 1))
        })
    })],
)
.framed()
.taking_a_value();

const fn at_a_distance(kernel: WindowKernel) -> [Overload<WindowKernel>; 2] {
    [
        Overload::with_optional(&[Takes::Any, Takes::Integer], 1, Returns::Same(0), kernel),
        Overload::together(with_default, kernel),
    ]
}

/// The value and the default in their common type.
fn with_default(given: &[Given]) -> Option<Types> {
    let [value, rows, default] = given else { return None };
    if !rows.is_open() && !rows.sql_type.is_integer() {
        return None;
    }
    let common = unified(&[value.clone(), default.clone()])?;
    Some((vec![common.clone(), cobble_types::SqlType::Integer, common.clone()], common))
}

/// The rows that count: all of them, or those whose value is not null.
struct Counted {
    /// None where all count.
    rows: Option<Vec<u32>>,
    /// How many of them stand before each row, and how many there are at the end.
    before: Vec<usize>,
}

impl Counted {
    fn of(call: &Windowed) -> Counted {
        let (rows, values) = (call.layout.rows(), &call.arguments[0]);
        if !call.ignore_nulls || values.null_count() == 0 {
            return Counted { rows: None, before: vec![] };
        }
        let (mut there, mut before) = (Vec::new(), Vec::with_capacity(rows + 1));
        for row in 0..rows {
            before.push(there.len());
            if values.is_valid(row) {
                there.push(row as u32);
            }
        }
        before.push(there.len());
        Counted { rows: Some(there), before }
    }

    fn before(&self, row: usize) -> usize {
        if self.rows.is_some() { self.before[row] } else { row }
    }

    /// The row that has so many counted ones before it, where it lies between two rows.
    fn within(&self, at: i64, (start, end): (usize, usize)) -> Option<u32> {
        let (low, high) = (self.before(start) as i64, self.before(end) as i64);
        (low..high).contains(&at).then(|| match &self.rows {
            Some(rows) => rows[at as usize],
            None => at as u32,
        })
    }
}

/// The value so many rows further on in the partition; `direction` is -1 for those before.
fn distant(call: &Windowed, direction: i64) -> Result<ArrayRef> {
    let rows = call.layout.rows();
    let counted = Counted::of(call);
    let distance = call.arguments.get(1).map(|d| d.as_primitive::<Int32Type>());
    let mut outside = vec![false; rows];
    let places: UInt32Array = (0..rows)
        .map(|row| {
            let n = match distance {
                Some(d) if d.is_null(row) => return None,
                Some(d) => i64::from(d.value(row)) * direction,
                None => direction,
            };
            let found = match n {
                0 => Some(row as u32),
                n if n < 0 => counted.within(counted.before(row) as i64 + n, call.layout.partition_of(row)),
                n => counted.within(counted.before(row + 1) as i64 + n - 1, call.layout.partition_of(row)),
            };
            outside[row] = found.is_none();
            found
        })
        .collect();
    let found = take(call.arguments[0].as_ref(), &places, None)?;
    let Some(default) = call.arguments.get(2) else { return Ok(found) };
    let mask: BooleanArray = outside.into_iter().map(Some).collect();
    Ok(zip(&mask, default, &found)?)
}

/// The value of the row of the frame that `wanted` gives for a row and the number of rows that count in its frame.
fn of_frame(call: &Windowed, wanted: impl Fn(usize, usize) -> Result<Option<usize>>) -> Result<ArrayRef> {
    let counted = Counted::of(call);
    let mut places = UInt32Builder::with_capacity(call.layout.rows());
    for row in 0..call.layout.rows() {
        let parts = (call.frame)(row).map(|(start, end)| (start, end.max(start)));
        let sizes = parts.map(|(start, end)| counted.before(end) - counted.before(start));
        let mut left = wanted(row, sizes.iter().sum())?;
        let mut found = None;
        for (part, size) in parts.into_iter().zip(sizes) {
            let Some(n) = left else { break };
            if n < size {
                found = counted.within((counted.before(part.0) + n) as i64, part);
                break;
            }
            left = Some(n - size);
        }
        places.append_option(found);
    }
    Ok(take(call.arguments[0].as_ref(), &places.finish(), None)?)
}
