//! CASE, COALESCE, AND and OR: later parts see only the rows that need them, so `CASE WHEN n > 0 THEN x / n END` is safe.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::{and_kleene, interleave, or_kleene, take};
use arrow::datatypes::DataType;
use cobble_types::Result;

use super::Compiled;
use crate::batch::{batch_of, take_rows};
use cobble_functions::Evaluated;

/// The batch with only these rows.
fn selected(batch: &RecordBatch, rows: &[u32]) -> Result<RecordBatch> {
    if rows.len() == batch.num_rows() {
        return Ok(batch.clone());
    }
    let places = UInt32Array::from(rows.to_vec());
    batch_of(&batch.schema(), take_rows(batch, &places)?, rows.len())
}

/// Collects each row's value from the array of the branch that decided it.
struct Gathered {
    arrays: Vec<ArrayRef>,
    /// For each row the array and the place in it; array 0 is a single null.
    places: Vec<(usize, usize)>,
}

impl Gathered {
    fn new(data_type: &DataType, rows: usize) -> Self {
        Gathered { arrays: vec![new_null_array(data_type, 1)], places: vec![(0, 0); rows] }
    }

    fn decide(&mut self, rows: &[u32], values: Evaluated) {
        let scalar = values.is_scalar();
        self.arrays.push(values.array().clone());
        let array = self.arrays.len() - 1;
        for (i, row) in rows.iter().enumerate() {
            self.places[*row as usize] = (array, if scalar { 0 } else { i });
        }
    }

    fn finish(self) -> Result<ArrayRef> {
        let arrays: Vec<&dyn Array> = self.arrays.iter().map(AsRef::as_ref).collect();
        Ok(interleave(&arrays, &self.places)?)
    }
}

pub(super) fn case(
    branches: &[(Compiled, Compiled)],
    otherwise: &Compiled,
    data_type: &DataType,
    batch: &RecordBatch,
) -> Result<ArrayRef> {
    let mut left: Vec<u32> = (0..batch.num_rows() as u32).collect();
    let mut gathered = Gathered::new(data_type, batch.num_rows());
    for (when, then) in branches {
        if left.is_empty() {
            break;
        }
        let rows = selected(batch, &left)?;
        let condition = when.array(&rows)?;
        let condition = condition.as_boolean();
        let holds = |i: usize| condition.is_valid(i) && condition.value(i);
        let hit: Vec<u32> = left.iter().enumerate().filter(|(i, _)| holds(*i)).map(|(_, row)| *row).collect();
        if hit.is_empty() {
            continue;
        }
        left = left.iter().enumerate().filter(|(i, _)| !holds(*i)).map(|(_, row)| *row).collect();
        gathered.decide(&hit, then.evaluate(&selected(batch, &hit)?)?);
    }
    if !left.is_empty() {
        gathered.decide(&left, otherwise.evaluate(&selected(batch, &left)?)?);
    }
    gathered.finish()
}

pub(super) fn coalesce(arguments: &[Compiled], data_type: &DataType, batch: &RecordBatch) -> Result<ArrayRef> {
    let mut left: Vec<u32> = (0..batch.num_rows() as u32).collect();
    let mut gathered = Gathered::new(data_type, batch.num_rows());
    for argument in arguments {
        if left.is_empty() {
            break;
        }
        let values = argument.array(&selected(batch, &left)?)?;
        let missing = left.iter().enumerate().filter(|(i, _)| values.is_null(*i)).map(|(_, row)| *row).collect();
        gathered.decide(&left, Evaluated::Array(values));
        left = missing;
    }
    gathered.finish()
}

/// The condition on those rows that are marked; null on the others.
pub(super) fn among(condition: &Compiled, batch: &RecordBatch, marked: &BooleanArray) -> Result<BooleanArray> {
    let rows: Vec<u32> = marked.values().set_indices().map(|row| row as u32).collect();
    if rows.len() == batch.num_rows() {
        return Ok(condition.array(batch)?.as_boolean().clone());
    }
    if rows.is_empty() {
        return Ok(BooleanArray::new_null(batch.num_rows()));
    }
    let values = condition.array(&selected(batch, &rows)?)?;
    let mut places: Vec<Option<u32>> = vec![None; batch.num_rows()];
    rows.iter().enumerate().for_each(|(i, row)| places[*row as usize] = Some(i as u32));
    Ok(take(values.as_ref(), &UInt32Array::from(places), None)?.as_boolean().clone())
}

pub(super) fn logic(
    or: bool,
    left: &Compiled,
    right: &Compiled,
    right_may_fail: bool,
    batch: &RecordBatch,
) -> Result<Evaluated> {
    let first = left.array(batch)?;
    let first = first.as_boolean();
    let second = if right_may_fail {
        // Rows that are decided already get a null on the right, which cannot change them.
        let open = (0..first.len()).map(|i| Some(first.is_null(i) || first.value(i) != or)).collect();
        among(right, batch, &open)?
    } else {
        right.array(batch)?.as_boolean().clone()
    };
    let result = if or { or_kleene(first, &second)? } else { and_kleene(first, &second)? };
    Ok(Evaluated::Array(Arc::new(result)))
}
