//! Which row of a table one is: its file, and its place in there. A scan tells them behind the table's columns where rows are to be changed.

use arrow::array::Int64Array;
use cobble_lake::schema::{Field, Kind};
use cobble_plan::logical::TableColumn;
use cobble_types::Value;

use super::column_of;

/// The ids of the two columns (table specification, "Reserved Field IDs").
const FILE_ID: i32 = 2_147_483_646;
const PLACE_ID: i32 = 2_147_483_645;

/// The two columns. Their names cannot be written in a statement.
pub fn fields() -> [Field; 2] {
    let field = |id, name: &str, kind| Field { id, name: name.to_owned(), required: false, kind, comment: None };
    [field(FILE_ID, "\u{1}file", Kind::String), field(PLACE_ID, "\u{1}place", Kind::Long)]
}

pub fn columns() -> Vec<TableColumn> {
    fields().iter().map(|field| column_of(field, field.name.clone())).collect()
}

/// What all rows of a file have in the first of them.
pub fn of_file(path: &str) -> (i32, Value) {
    (FILE_ID, Value::Text(path.to_owned()))
}

/// The places of the rows that come out of a part of a file, in order.
#[derive(Debug, Default)]
pub struct RowPlaces {
    next: u64,
    /// Places that are gone, in order.
    gone: std::vec::IntoIter<u64>,
    /// The first of them that has not been passed.
    at: Option<u64>,
}

impl RowPlaces {
    /// For a part whose first row is at this place of its file.
    pub fn new(first: u64, gone: Vec<u64>) -> RowPlaces {
        let mut gone = gone.into_iter();
        RowPlaces { next: first, at: gone.next(), gone }
    }

    /// The places of the next rows.
    pub fn take(&mut self, rows: usize) -> Int64Array {
        let one = |_| {
            while self.at == Some(self.next) {
                self.at = self.gone.next();
                self.next += 1;
            }
            self.next += 1;
            (self.next - 1) as i64
        };
        (0..rows).map(one).collect::<Vec<i64>>().into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_pass_over_what_is_gone() {
        let mut places = RowPlaces::new(10, vec![10, 11, 13, 17]);
        assert_eq!(places.take(2).values(), &[12, 14]);
        assert_eq!(places.take(3).values(), &[15, 16, 18]);
        assert_eq!(RowPlaces::default().take(2).values(), &[0, 1]);
    }
}
