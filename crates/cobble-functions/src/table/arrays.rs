//! Rows of the items of arrays.

use arrow::array::*;
use arrow::buffer::OffsetBuffer;
use arrow::compute::take;
use cobble_types::{Result, SqlType};

use super::signature::{Made, RowsCall, Table};
use crate::signature::{Given, Overload, Types};

pub(super) const UNNEST: Table = Table::new(
    "unnest",
    "array",
    "A row for each item.",
    ("unnest(ARRAY['a', 'b'])", "a,b"),
    |arguments, _| {
        let item = |array: &SqlType| match array {
            SqlType::Array(item) => (**item).clone(),
            other => other.clone(),
        };
        arguments.iter().map(|array| ("unnest", item(array))).collect()
    },
    &[Overload::together(arrays, unnest)],
);

/// One array at least.
fn arrays(given: &[Given]) -> Option<Types> {
    let types: Vec<SqlType> = given.iter().map(|g| g.sql_type.clone()).collect();
    let all = types.iter().all(|own| matches!(own, SqlType::Array(_)));
    let first = types.first().cloned()?;
    all.then_some((types, first))
}

/// Several arrays stand side by side; the shorter ones are filled with nulls.
fn unnest(call: &RowsCall) -> Result<Made> {
    let lists: Vec<&ListArray> = call.arguments.iter().map(|a| a.as_list::<i32>()).collect();
    let length = |list: &ListArray, row: usize| if list.is_null(row) { 0 } else { list.value_length(row) as usize };
    let longest = |row: usize| lists.iter().map(|list| length(list, row)).max().unwrap_or(0);
    let lengths: Vec<usize> = (0..call.rows).map(longest).collect();
    let columns = lists.iter().map(|list| {
        let places: UInt32Array = (0..call.rows)
            .flat_map(|row| {
                let (own, start) = (length(list, row), list.value_offsets()[row] as u32);
                (0..lengths[row]).map(move |i| (i < own).then_some(start + i as u32))
            })
            .collect();
        Ok(take(list.values().as_ref(), &places, None)?)
    });
    Ok(Made::Lists { columns: columns.collect::<Result<_>>()?, offsets: OffsetBuffer::from_lengths(lengths) })
}
