//! Rows of the matches of a pattern.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::OffsetBuffer;
use arrow::compute::cast;
use cobble_types::Result;

use super::signature::{Made, RowsCall, Table};
use crate::scalar::pattern::{all_matches, split};
use crate::signature::{Overload, Returns, Takes};

pub(super) const REGEXP_MATCHES: Table = Table::new(
    "regexp_matches",
    "text, pattern [, flags]",
    "The groups of a match; with the flag `g` a row for each match.",
    ("regexp_matches('a1b2', '[a-z]', 'g')", "{a},{b}"),
    |_, returns| vec![("regexp_matches", returns.clone())],
    &[Overload::with_optional(&[Takes::Text, Takes::Text, Takes::Text], 1, Returns::TextArray, |call| {
        let mut out = ListBuilder::new(StringViewBuilder::new());
        let lengths = each(call, |text, pattern, flags| {
            let matches = all_matches(pattern, flags, text)?;
            let count = matches.len();
            for groups in matches {
                groups.into_iter().for_each(|group| out.values().append_option(group));
                out.append(true);
            }
            Ok(count)
        })?;
        let lists = cast(&out.finish(), &call.made[0])?;
        Ok(Made::Lists { columns: vec![lists], offsets: OffsetBuffer::from_lengths(lengths) })
    })],
);

pub(super) const REGEXP_SPLIT_TO_TABLE: Table = Table::new(
    "regexp_split_to_table",
    "text, pattern [, flags]",
    "A row for each part between matches.",
    ("regexp_split_to_table('a1b2c', '[0-9]')", "a,b,c"),
    |_, returns| vec![("regexp_split_to_table", returns.clone())],
    &[Overload::with_optional(&[Takes::Text, Takes::Text, Takes::Text], 1, Returns::Text, |call| {
        let mut out = StringViewBuilder::new();
        let lengths = each(call, |text, pattern, flags| {
            let parts = split(pattern, flags, text)?;
            parts.iter().for_each(|part| out.append_value(part));
            Ok(parts.len())
        })?;
        Ok(Made::Lists { columns: vec![Arc::new(out.finish())], offsets: OffsetBuffer::from_lengths(lengths) })
    })],
);

/// The number of rows that `make` makes of each text, pattern and flags; none where one of them is null.
fn each(call: &RowsCall, mut make: impl FnMut(&str, &str, &str) -> Result<usize>) -> Result<Vec<usize>> {
    let text = |place: usize, row: usize| call.arguments.get(place).map_or("", |a| a.as_string_view().value(row));
    let some = |row: usize| call.arguments.iter().all(|a| a.is_valid(row));
    (0..call.rows).map(|row| if some(row) { make(text(0, row), text(1, row), text(2, row)) } else { Ok(0) }).collect()
}
