//! Small things every operator needs of record batches. Fields have no meaning inside the engine but their type: columns are
//! known by place, and the schema's field names are their numbers.

use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::buffer::Buffer;
use arrow::compute::take;
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use cobble_functions::column_bytes;
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

/// Buffers of texts that are at least so many times larger than the texts in use are left behind.
const WASTE: usize = 3;

/// The same rows without the texts of other rows: a cut or filtered batch would keep, and write to disk, all that its source had.
pub fn compacted(batch: RecordBatch) -> Result<RecordBatch> {
    let used = |lengths: &mut dyn Iterator<Item = u32>| lengths.filter(|n| *n > 12).map(|n| n as usize).sum::<usize>();
    let held = |buffers: &[Buffer]| buffers.iter().map(Buffer::len).sum::<usize>();
    let compact = |column: &ArrayRef| -> Option<ArrayRef> {
        match column.data_type() {
            DataType::Utf8View => {
                let texts = column.as_string_view();
                let all = held(texts.data_buffers());
                (all > 1024 && all > WASTE * used(&mut texts.lengths())).then(|| Arc::new(texts.gc()) as ArrayRef)
            }
            DataType::BinaryView => {
                let bytes = column.as_binary_view();
                let all = held(bytes.data_buffers());
                (all > 1024 && all > WASTE * used(&mut bytes.lengths())).then(|| Arc::new(bytes.gc()) as ArrayRef)
            }
            _ => None,
        }
    };
    let changed: Vec<Option<ArrayRef>> = batch.columns().iter().map(compact).collect();
    if changed.iter().all(Option::is_none) {
        return Ok(batch);
    }
    let columns =
        changed.into_iter().zip(batch.columns()).map(|(new, old)| new.unwrap_or_else(|| old.clone())).collect();
    batch_of(batch.schema_ref(), columns, batch.num_rows())
}

/// Bytes in a batch that operators aim for, where its rows are large.
pub const BATCH_BYTES: usize = 16 << 20;

/// Rows of a batch that is made by repeating some of these: fewer where arrays and rows within them are large, as those are copied.
pub fn rows_repeated(batch: &RecordBatch) -> usize {
    let nested = batch.columns().iter().filter(|column| column.data_type().is_nested());
    let widest = |column: &ArrayRef| {
        let small = column_bytes(column) <= BATCH_BYTES / BATCH_ROWS;
        let each = (0..if small { 0 } else { column.len() }).map(|row| column_bytes(&column.slice(row, 1)));
        each.max().unwrap_or(0)
    };
    let row: usize = nested.map(widest).sum();
    BATCH_BYTES.checked_div(row).map_or(BATCH_ROWS, |rows| rows.clamp(1, BATCH_ROWS))
}

/// The batch in pieces of the usual number of rows, or of fewer where they are so large that a piece would have more than `most` bytes.
pub fn pieces_of(batch: &RecordBatch, rows: usize, most: usize) -> impl Iterator<Item = RecordBatch> + use<> {
    let each = bytes_of(batch).checked_div(batch.num_rows()).unwrap_or(0).max(1);
    let (rows, batch) = ((most / each).clamp(1, rows), batch.clone());
    (0..batch.num_rows()).step_by(rows).map(move |start| batch.slice(start, rows.min(batch.num_rows() - start)))
}

/// Bytes that the batch's own rows take, without what its buffers share with other batches.
pub fn bytes_of(batch: &RecordBatch) -> usize {
    batch.columns().iter().map(column_bytes).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::StringViewArray;

    #[test]
    fn a_cut_batch_leaves_the_texts_of_other_rows_behind() {
        let texts: ArrayRef = Arc::new(
            (0..1000)
                .map(|row| (row % 7 > 0).then(|| format!("a text that is not short, {row}")))
                .collect::<StringViewArray>(),
        );
        let schema = Arc::new(Schema::new(vec![Field::new("0", DataType::Utf8View, true)]));
        let all = batch_of(&schema, vec![texts], 1000).unwrap();
        let cut = batch_of(&schema, take_rows(&all, &UInt32Array::from(vec![3, 7, 998])).unwrap(), 3).unwrap();
        let held = |batch: &RecordBatch| {
            batch.column(0).as_string_view().data_buffers().iter().map(Buffer::len).sum::<usize>()
        };
        assert!(held(&cut) > 20_000);
        let small = compacted(cut.clone()).unwrap();
        assert_eq!(small, cut);
        assert!(held(&small) < 100, "{}", held(&small));
        assert_eq!(held(&compacted(all.clone()).unwrap()), held(&all));
    }
}
