//! Evaluating within a budget. Where the values of a batch are more than that, the batch is cut in halves, down to single rows, which
//! may take what the run has left.

use arrow::array::{ArrayRef, RecordBatch};
use arrow::compute::concat;
use arrow::datatypes::DataType;
use cobble_functions::budget::{self, Spent};
use cobble_functions::{Evaluated, column_bytes};
use cobble_types::{Error, Result};

use super::Compiled;
use crate::pipeline::memory_left;

/// Bytes that the evaluation of a batch of several rows may make.
const BATCH_BYTES: u64 = crate::batch::BATCH_BYTES as u64;
/// Bytes of one array that is put together of pieces.
const WHOLE_BYTES: u64 = 128 << 20;
/// Arguments from which on those with a value for each row are counted too.
const FEW: usize = 4;

/// A batch that is worked through in pieces whose values fit into the budget.
#[derive(Debug, Default)]
pub struct Pieces {
    /// What is left, the first rows last.
    rest: Vec<RecordBatch>,
}

impl Pieces {
    pub fn of(batch: RecordBatch) -> Pieces {
        Pieces { rest: vec![batch] }
    }

    pub fn is_done(&self) -> bool {
        self.rest.is_empty()
    }

    /// The next rows with what `evaluate` makes of them and the bytes that were made for it; `None` after the last.
    ///
    /// # Errors
    /// Those of `evaluate`. That it makes too much is one only for a single row.
    pub fn next<T>(&mut self, evaluate: impl Fn(&RecordBatch) -> Result<T>) -> Result<Option<(RecordBatch, T, u64)>> {
        while let Some(rows) = self.rest.pop() {
            let count = rows.num_rows();
            let limit = if count > 1 { BATCH_BYTES } else { largest_row() };
            match budget::within(limit, || evaluate(&rows)) {
                Spent::Within(made, bytes) => return Ok(Some((rows, made, bytes))),
                Spent::Exceeded(_) if count > 1 => {
                    self.rest.push(rows.slice(count / 2, count - count / 2));
                    self.rest.push(rows.slice(0, count / 2));
                }
                Spent::Exceeded(error) | Spent::Failed(error) => return Err(error),
            }
        }
        Ok(None)
    }
}

/// Bytes that the values of a single row may be: a part of what the run has left, as they are copied on their way.
fn largest_row() -> u64 {
    memory_left().map_or(budget::UNSAID, |left| (left / 4).clamp(BATCH_BYTES, budget::UNSAID))
}

/// All values of an expression, evaluated in pieces where it has to be.
pub(super) fn whole(expression: &Compiled, batch: &RecordBatch) -> Result<ArrayRef> {
    let mut pieces = Pieces::of(batch.clone());
    let (mut arrays, mut bytes) = (Vec::new(), 0);
    while let Some((rows, array, made)) = pieces.next(|rows| expression.evaluate(rows)?.into_array(rows.num_rows()))? {
        if rows.num_rows() == batch.num_rows() {
            return Ok(array);
        }
        // Little may be left of what was made on the way.
        bytes += if made > 0 { column_bytes(&array) as u64 } else { 0 };
        if bytes > WHOLE_BYTES.max(memory_left().unwrap_or(0) / 4) {
            return Err(Error::new(
                cobble_types::Code::MemoryLimit,
                format!("an expression makes more than {} MiB for {} rows", bytes >> 20, batch.num_rows()),
            )
            .hint("make shorter values, or raise run.memory"));
        }
        arrays.push(array);
    }
    let arrays: Vec<&dyn arrow::array::Array> = arrays.iter().map(AsRef::as_ref).collect();
    Ok(concat(&arrays)?)
}

/// Fails where the arguments of a call are so large that what it makes of them cannot be within the budget: a large constant joined
/// to each row, or many large columns.
pub(super) fn expect(name: &str, arguments: &[&Evaluated], rows: usize) -> Result<()> {
    let is_long = |array: &ArrayRef| {
        matches!(array.data_type(), DataType::Utf8View | DataType::BinaryView) || array.data_type().is_nested()
    };
    let bytes = arguments
        .iter()
        .filter(|argument| is_long(argument.array()))
        .map(|argument| match argument.is_scalar() {
            true => column_bytes(argument.array()).saturating_mul(rows),
            false if arguments.len() > FEW => column_bytes(argument.array()),
            false => 0,
        })
        .fold(0, usize::saturating_add);
    if bytes as u64 > BATCH_BYTES / 2 { budget::expect(name, bytes) } else { Ok(()) }
}
