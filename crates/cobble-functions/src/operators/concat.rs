//! `text || text`.

use std::sync::Arc;

use arrow::array::*;

use crate::Evaluated;

/// Two texts joined, row by row; null where one of them is.
pub fn concat(left: &Evaluated, right: &Evaluated, rows: usize) -> ArrayRef {
    let (l, r) = (left.array().as_string_view(), right.array().as_string_view());
    let mut builder = StringViewBuilder::with_capacity(rows);
    let mut joined = String::new();
    for row in 0..rows {
        let (i, j) = (left.place(row), right.place(row));
        match (l.is_valid(i), r.is_valid(j)) {
            (true, true) => {
                joined.clear();
                joined.push_str(l.value(i));
                joined.push_str(r.value(j));
                builder.append_value(&joined);
            }
            _ => builder.append_null(),
        }
    }
    Arc::new(builder.finish())
}
