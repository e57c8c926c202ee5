//! Rows as a scan of files hands them on: the columns that are wanted, in their order, without the rows that conditions leave out which
//! the file's reader could not check, and no more than a limit.

use std::sync::Arc;

use arrow::array::{ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::compute::{and, filter_record_batch, take};
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use cobble_plan::scan::BatchPredicate;
use cobble_types::{Result, SqlType, Value};

/// A condition on columns at these places of the table.
struct Check {
    predicate: Arc<dyn BatchPredicate>,
    places: Vec<usize>,
    schema: SchemaRef,
}

pub struct RowsOut {
    output: Vec<usize>,
    schema: SchemaRef,
    checks: Vec<Check>,
    left: Option<u64>,
}

/// The schema of batches with the columns at these places, each named by its place.
pub fn schema_of(places: &[usize], type_of: impl Fn(usize) -> DataType) -> SchemaRef {
    let field = |place: &usize| Field::new(place.to_string(), type_of(*place), true);
    Arc::new(Schema::new(places.iter().map(field).collect::<Vec<Field>>()))
}

/// The same value in all rows.
pub fn repeated(value: &Value, sql_type: &SqlType, rows: usize) -> Result<ArrayRef> {
    let places = UInt32Array::from(vec![0; rows]);
    Ok(take(value.to_array(sql_type).as_ref(), &places, None)?)
}

impl RowsOut {
    /// `schema` is that of the columns at the places of `output`.
    pub fn new(output: &[usize], schema: SchemaRef, limit: Option<u64>) -> RowsOut {
        RowsOut { output: output.to_vec(), schema, checks: vec![], left: limit }
    }

    /// Rows that do not meet a condition on columns at these places are left out.
    pub fn check(&mut self, predicate: Arc<dyn BatchPredicate>, places: &[usize], type_of: impl Fn(usize) -> DataType) {
        self.checks.push(Check { predicate, places: places.to_vec(), schema: schema_of(places, type_of) });
    }

    /// True when no further row is wanted.
    pub fn is_full(&self) -> bool {
        self.left == Some(0)
    }

    /// What comes out of so many rows, of which `column` gives the column at a place.
    pub fn batch(&mut self, rows: usize, column: &dyn Fn(usize) -> Result<ArrayRef>) -> Result<RecordBatch> {
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let of = |places: &[usize], schema: &SchemaRef| -> Result<RecordBatch> {
            let columns = places.iter().map(|place| column(*place)).collect::<Result<Vec<_>>>()?;
            Ok(RecordBatch::try_new_with_options(schema.clone(), columns, &options)?)
        };
        let mut mask: Option<BooleanArray> = None;
        for check in &self.checks {
            let next = check.predicate.evaluate(&of(&check.places, &check.schema)?)?;
            mask = Some(match mask {
                Some(before) => and(&before, &next)?,
                None => next,
            });
        }
        let mut batch = of(&self.output, &self.schema)?;
        if let Some(mask) = mask {
            batch = filter_record_batch(&batch, &mask)?;
        }
        if let Some(left) = &mut self.left {
            let taken = (*left).min(batch.num_rows() as u64);
            *left -= taken;
            batch = batch.slice(0, taken as usize);
        }
        Ok(batch)
    }
}
