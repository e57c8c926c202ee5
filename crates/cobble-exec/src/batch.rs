//! Small things every operator needs of record batches. Fields have no meaning inside the engine but their type: columns are
//! known by place, and the schema's field names are their numbers.

use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::compute::take;
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use cobble_plan::Column;
use cobble_types::Result;

/// Rows in a batch that operators aim for.
pub const BATCH_ROWS: usize = 8192;

pub fn schema_of(columns: &[Column]) -> SchemaRef {
    let fields: Vec<Field> =
        columns.iter().enumerate().map(|(i, c)| Field::new(i.to_string(), c.sql_type.to_arrow(), true)).collect();
    Arc::new(Schema::new(fields))
}

/// A batch of these columns; `rows` counts when there are none.
pub fn batch_of(schema: &SchemaRef, columns: Vec<ArrayRef>, rows: usize) -> Result<RecordBatch> {
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    Ok(RecordBatch::try_new_with_options(schema.clone(), columns, &options)?)
}

/// The rows at these places, in that order; a null place gives a row of nulls.
pub fn take_rows(batch: &RecordBatch, places: &UInt32Array) -> Result<Vec<ArrayRef>> {
    batch.columns().iter().map(|column| Ok(take(column.as_ref(), places, None)?)).collect()
}

/// Bytes that the batch's own rows take, without what its buffers share with other batches.
pub fn bytes_of(batch: &RecordBatch) -> usize {
    batch.columns().iter().map(column_bytes).sum()
}

pub fn column_bytes(column: &ArrayRef) -> usize {
    match column.data_type() {
        DataType::Utf8View => column.as_string_view().lengths().map(|n| 16 + if n > 12 { n as usize } else { 0 }).sum(),
        DataType::BinaryView => {
            column.as_binary_view().lengths().map(|n| 16 + if n > 12 { n as usize } else { 0 }).sum()
        }
        _ => column.to_data().get_slice_memory_size().unwrap_or_else(|_| column.get_array_memory_size()),
    }
}
