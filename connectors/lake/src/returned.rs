//! Rows that a write into a lake gives back for RETURNING.

use arrow::array::{ArrayRef, new_null_array};
use arrow::compute::cast;
use cobble_plan::sink::{NewRows, Outcome};
use cobble_types::Result;

pub struct Returned {
    connection: String,
    rows: cobble_connect::Returned,
    /// Of each column its place in the rows that are written; none of a column that nobody has filled.
    places: Vec<Option<usize>>,
}

impl Returned {
    /// None where nothing is wanted back.
    pub fn of(connection: &str, rows: &NewRows) -> Option<Returned> {
        let wanted = &rows.returned.as_ref()?.columns;
        let place = |name: &str| rows.columns.iter().position(|(own, _)| own == name);
        Some(Returned {
            connection: connection.to_owned(),
            rows: cobble_connect::Returned::new(wanted),
            places: wanted.iter().map(|column| place(&column.name)).collect(),
        })
    }

    /// # Errors
    /// When more is held than may be.
    pub fn push(&mut self, columns: &[ArrayRef], rows: usize) -> Result<()> {
        let one = |(column, place): (&cobble_plan::Column, &Option<usize>)| {
            let own_type = column.sql_type.to_arrow();
            match place {
                Some(place) => Ok(cast(&columns[*place], &own_type)?),
                None => Ok(new_null_array(&own_type, rows)),
            }
        };
        let arrays = self.rows.columns.iter().zip(&self.places).map(one).collect::<Result<Vec<_>>>()?;
        self.rows.push(&self.connection, arrays, rows)
    }

    pub fn put_into(self, outcome: &mut Outcome) {
        outcome.received = self.rows.held() as u64;
        outcome.returned = self.rows.batches;
    }
}
