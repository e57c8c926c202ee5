//! `array[n]`.

use arrow::array::*;
use arrow::compute;
use arrow::datatypes::Int64Type;
use cobble_types::Result;

use crate::Evaluated;

/// The item at a place counted from one; null where there is none.
pub fn subscript(array: &Evaluated, index: &Evaluated, rows: usize) -> Result<ArrayRef> {
    let lists = array.array().as_list::<i32>();
    let index_values = index.array().as_primitive::<Int64Type>();
    let offsets = lists.value_offsets();
    let places: UInt32Array = (0..rows)
        .map(|row| {
            let (list, at) = (array.place(row), index.place(row));
            if lists.is_null(list) || index_values.is_null(at) {
                return None;
            }
            let (start, end) = (i64::from(offsets[list]), i64::from(offsets[list + 1]));
            let place = start.checked_add(index_values.value(at))?.checked_sub(1)?;
            (index_values.value(at) >= 1 && place < end).then_some(place as u32)
        })
        .collect();
    Ok(compute::take(lists.values().as_ref(), &places, None)?)
}
