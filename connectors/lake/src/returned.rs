//! Rows that a write gives back for RETURNING.

use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow::compute::cast;
use arrow::datatypes::{Field, Schema};
use cobble_plan::expr::Column;
use cobble_plan::sink::{MOST_RETURNED, NewRows, Outcome};
use cobble_types::{Code, Error, Result};

pub struct Returned {
    connection: String,
    /// Each with its place in the rows that are written.
    columns: Vec<(Column, usize)>,
    batches: Vec<RecordBatch>,
    held: usize,
}

impl Returned {
    /// None where nothing is wanted back.
    pub fn of(connection: &str, rows: &NewRows) -> Result<Option<Returned>> {
        let Some(wanted) = &rows.returned else { return Ok(None) };
        let one = |column: &Column| {
            let place = rows.columns.iter().position(|(name, _)| *name == column.name);
            // A column that nobody has filled is null.
            Ok((column.clone(), place.unwrap_or(usize::MAX)))
        };
        let columns = wanted.columns.iter().map(one).collect::<Result<_>>()?;
        Ok(Some(Returned { connection: connection.to_owned(), columns, batches: vec![], held: 0 }))
    }

    /// # Errors
    /// When more are held than [`MOST_RETURNED`] bytes.
    pub fn push(&mut self, columns: &[ArrayRef], rows: usize) -> Result<()> {
        let one = |(column, place): &(Column, usize)| {
            let own_type = column.sql_type.to_arrow();
            match columns.get(*place) {
                Some(own) => Ok(cast(own, &own_type)?),
                None => Ok(arrow::array::new_null_array(&own_type, rows)),
            }
        };
        let arrays = self.columns.iter().map(one).collect::<Result<Vec<_>>>()?;
        let fields = self.columns.iter().zip(&arrays);
        let fields = fields.map(|((column, _), array)| Field::new(&column.name, array.data_type().clone(), true));
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(schema, arrays, &options)?;
        self.held += batch.get_array_memory_size();
        if self.held > MOST_RETURNED {
            let (connection, most) = (&self.connection, MOST_RETURNED >> 20);
            let what =
                format!("connection {connection}: RETURNING gives back more than {most} MiB; nothing was changed");
            return Err(
                Error::new(Code::MemoryLimit, what).hint("return fewer columns, or change fewer rows at a time")
            );
        }
        self.batches.push(batch);
        Ok(())
    }

    pub fn put_into(self, outcome: &mut Outcome) {
        outcome.received = self.held as u64;
        outcome.returned = self.batches;
    }
}
