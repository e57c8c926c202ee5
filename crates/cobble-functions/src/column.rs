//! What a column takes in memory.

use arrow::array::{Array, ArrayRef, AsArray};
use arrow::datatypes::DataType;

/// Bytes that the column's own rows take, without what its buffers share with other columns.
pub fn column_bytes(column: &ArrayRef) -> usize {
    match column.data_type() {
        DataType::Utf8View => column.as_string_view().lengths().map(|n| 16 + if n > 12 { n as usize } else { 0 }).sum(),
        DataType::BinaryView => {
            column.as_binary_view().lengths().map(|n| 16 + if n > 12 { n as usize } else { 0 }).sum()
        }
        _ => column.to_data().get_slice_memory_size().unwrap_or_else(|_| column.get_array_memory_size()),
    }
}
