//! What an expression comes to for a batch.

use arrow::array::*;
use arrow::compute;
use cobble_types::Result;

use crate::{budget, column_bytes};

/// The outcome for a batch: one value per row, or one for all.
#[derive(Debug, Clone)]
pub enum Evaluated {
    Array(ArrayRef),
    /// An array of one row.
    Scalar(ArrayRef),
}

impl Evaluated {
    pub fn into_array(self, rows: usize) -> Result<ArrayRef> {
        match self {
            Evaluated::Array(array) => Ok(array),
            Evaluated::Scalar(one) if rows == 1 => Ok(one),
            Evaluated::Scalar(one) => {
                // Texts are shared by all rows, what is nested is copied.
                if one.data_type().is_nested() {
                    budget::take("a constant", column_bytes(&one).saturating_mul(rows))?;
                }
                let places = UInt32Array::from(vec![0; rows]);
                Ok(compute::take(one.as_ref(), &places, None)?)
            }
        }
    }

    pub fn array(&self) -> &ArrayRef {
        match self {
            Evaluated::Array(array) | Evaluated::Scalar(array) => array,
        }
    }

    pub fn is_scalar(&self) -> bool {
        matches!(self, Evaluated::Scalar(_))
    }

    /// The place in `array()` that holds the value for `row`.
    pub fn place(&self, row: usize) -> usize {
        if self.is_scalar() { 0 } else { row }
    }

    /// Wraps a kernel's output, which has one row when all inputs were constants.
    pub fn like(array: ArrayRef, inputs: &[&Evaluated]) -> Evaluated {
        if inputs.iter().all(|input| input.is_scalar()) { Evaluated::Scalar(array) } else { Evaluated::Array(array) }
    }
}

impl Datum for Evaluated {
    fn get(&self) -> (&dyn Array, bool) {
        (self.array().as_ref(), self.is_scalar())
    }
}
