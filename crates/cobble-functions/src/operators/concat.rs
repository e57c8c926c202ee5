//! `text || text`.

use std::sync::Arc;

use arrow::array::*;

use cobble_types::Result;

use crate::Evaluated;
use crate::budget::Tally;

/// Two texts joined, row by row; null where one of them is.
///
/// # Errors
/// When the texts are more than may be made at once.
pub fn concat(left: &Evaluated, right: &Evaluated, rows: usize) -> Result<ArrayRef> {
    let (l, r) = (left.array().as_string_view(), right.array().as_string_view());
    let mut builder = StringViewBuilder::with_capacity(rows);
    let mut joined = String::new();
    let mut made = Tally::new("||");
    for row in 0..rows {
        let (i, j) = (left.place(row), right.place(row));
        match (l.is_valid(i), r.is_valid(j)) {
            (true, true) => {
                joined.clear();
                made.add(l.value(i).len() + r.value(j).len())?;
                joined.push_str(l.value(i));
                joined.push_str(r.value(j));
                builder.append_value(&joined);
            }
            _ => builder.append_null(),
        }
    }
    Ok(Arc::new(builder.finish()))
}
