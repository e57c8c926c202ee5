//! Functions that make rows: each input row beside each row made of it.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::take;
use arrow::datatypes::*;
use cobble_functions::table::{Made, RowKernel, RowsCall, SeriesValues};
use cobble_types::{Error, Result};

use crate::batch::{BATCH_ROWS, batch_of, rows_repeated, take_rows};
use crate::expression::{Compiled, Pieces};
use crate::pipeline::{Step, StepFactory};

/// A compiled call.
pub struct Maker {
    pub kernel: RowKernel,
    pub arguments: Vec<Compiled>,
    /// Types of the made columns.
    pub made: Vec<DataType>,
}

pub struct Expand {
    pub makers: Arc<[Maker]>,
    pub outer: bool,
    pub schema: SchemaRef,
}

impl StepFactory for Expand {
    fn step(&self) -> Box<dyn Step> {
        let (makers, outer, schema) = (self.makers.clone(), self.outer, self.schema.clone());
        Box::new(ExpandStep { makers, outer, schema, waiting: Pieces::default(), input: None })
    }
}

struct ExpandStep {
    makers: Arc<[Maker]>,
    outer: bool,
    schema: SchemaRef,
    waiting: Pieces,
    input: Option<Input>,
}

/// A batch that is being worked through.
struct Input {
    batch: RecordBatch,
    /// What each call makes.
    made: Vec<Made>,
    /// Rows of one batch that comes out.
    most: usize,
    row: usize,
    /// Rows of the current input row that have come out.
    within: usize,
}

/// What one call has put into the batch that comes out.
enum Out {
    Places(Vec<Option<u32>>),
    Values(SeriesValues),
}

impl Out {
    fn of(made: &Made) -> Out {
        match made {
            Made::Lists { .. } => Out::Places(Vec::new()),
            Made::Series(_) => Out::Values(SeriesValues(Vec::with_capacity(BATCH_ROWS))),
        }
    }

    /// Nulls up to `rows`.
    fn filled(&mut self, rows: usize) {
        match self {
            Out::Places(places) => places.resize(rows, None),
            Out::Values(values) => values.0.resize(rows, None),
        }
    }
}

/// Puts up to `room` values of a row after the first `within` ones; says how many, and whether the row is through.
fn fill(made: &mut Made, row: usize, within: usize, room: usize, out: &mut Out) -> Result<(usize, bool)> {
    match (made, out) {
        (Made::Lists { offsets, .. }, Out::Places(places)) => {
            let (start, end) = (offsets[row] as usize, offsets[row + 1] as usize);
            let from = (start + within).min(end);
            let count = (end - from).min(room);
            places.extend((from..from + count).map(|place| Some(place as u32)));
            Ok((count, from + count == end))
        }
        (Made::Series(series), Out::Values(values)) => series.fill(row, within, room, values),
        _ => Err(Error::internal("a call's rows go where another's belong")),
    }
}

impl ExpandStep {
    /// What is being worked through, or the next piece of what has been pushed.
    fn next_input(&mut self) -> Result<Option<Input>> {
        if let Some(input) = self.input.take() {
            return Ok(Some(input));
        }
        let makers = self.makers.clone();
        let made = |batch: &RecordBatch| {
            let made = |maker: &Maker| {
                let arguments = maker.arguments.iter().map(|a| a.array(batch)).collect::<Result<Vec<_>>>()?;
                (maker.kernel)(&RowsCall { arguments: &arguments, made: &maker.made, rows: batch.num_rows() })
            };
            makers.iter().map(made).collect::<Result<Vec<_>>>()
        };
        let Some((batch, made, _)) = self.waiting.next(made)? else { return Ok(None) };
        let most = rows_repeated(&batch);
        Ok(Some(Input { batch, made, most, row: 0, within: 0 }))
    }
}

impl Step for ExpandStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        self.waiting = Pieces::of(batch);
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        let Some(mut input) = self.next_input()? else { return Ok(None) };
        let mut own: Vec<u32> = Vec::new();
        let mut outs: Vec<Out> = input.made.iter().map(Out::of).collect();
        while input.row < input.batch.num_rows() && own.len() < input.most {
            let room = input.most - own.len();
            let (mut most, mut through) = (0, true);
            for (made, out) in input.made.iter_mut().zip(&mut outs) {
                let (count, done) = fill(made, input.row, input.within, room, out)?;
                most = most.max(count);
                through &= done;
            }
            if self.outer && through && input.within + most == 0 {
                most = 1;
            }
            own.extend(std::iter::repeat_n(input.row as u32, most));
            outs.iter_mut().for_each(|out| out.filled(own.len()));
            if through {
                input.row += 1;
                input.within = 0;
            } else {
                input.within += most;
            }
        }
        let count = own.len();
        let mut columns = take_rows(&input.batch, &UInt32Array::from(own))?;
        for ((made, out), maker) in input.made.iter().zip(outs).zip(self.makers.iter()) {
            match (made, out) {
                (Made::Lists { columns: all, .. }, Out::Places(places)) => {
                    let places = UInt32Array::from(places);
                    for column in all {
                        columns.push(take(column.as_ref(), &places, None)?);
                    }
                }
                (_, Out::Values(values)) => columns.push(values.finish(&maker.made[0])?),
                (Made::Series(_), Out::Places(_)) => {}
            }
        }
        let more = input.row < input.batch.num_rows();
        if more {
            self.input = Some(input);
        }
        if count == 0 && !more && self.waiting.is_done() {
            return Ok(None);
        }
        batch_of(&self.schema, columns, count).map(Some)
    }
}
