//! Rows that a write gives back for RETURNING, held until it has been committed.

use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema};
use cobble_plan::expr::Column;
use cobble_plan::sink::MOST_RETURNED;
use cobble_types::{Code, Error, Result};

pub struct Returned {
    pub columns: Vec<Column>,
    held: usize,
    pub batches: Vec<RecordBatch>,
}

impl Returned {
    pub fn new(columns: &[Column]) -> Returned {
        Returned { columns: columns.to_vec(), held: 0, batches: Vec::new() }
    }

    /// Bytes that are held.
    pub fn held(&self) -> usize {
        self.held
    }

    /// # Errors
    /// When more are held than [`MOST_RETURNED`] bytes.
    pub fn push(&mut self, connection: &str, arrays: Vec<ArrayRef>, rows: usize) -> Result<()> {
        let fields = self.columns.iter().enumerate();
        let fields: Vec<Field> = fields.map(|(i, c)| Field::new(i.to_string(), c.sql_type.to_arrow(), true)).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &options)?;
        self.held += batch.get_array_memory_size();
        if self.held > MOST_RETURNED {
            let most = MOST_RETURNED >> 20;
            let what =
                format!("connection {connection}: RETURNING gives back more than {most} MiB; nothing was changed");
            return Err(
                Error::new(Code::MemoryLimit, what).hint("return fewer columns, or change fewer rows at a time")
            );
        }
        self.batches.push(batch);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use arrow::array::BinaryViewArray;
    use cobble_types::{ColumnId, SqlType};

    use super::*;

    fn bytes() -> Column {
        Column { id: ColumnId(1), qualifier: None, name: "body".to_owned(), sql_type: SqlType::Bytea }
    }

    #[test]
    fn no_more_is_held_than_is_allowed() {
        let mut returned = Returned::new(&[bytes()]);
        let part = || Arc::new(BinaryViewArray::from_iter_values([vec![7u8; 8 << 20]])) as ArrayRef;
        let mut kept = 0;
        let error = loop {
            match returned.push("shed", vec![part()], 1) {
                Ok(()) => kept += 1,
                Err(error) => break error,
            }
            assert!(kept < 100, "a limit that is none");
        };
        assert!((4..=8).contains(&kept), "{kept} parts of 8 MiB");
        assert_eq!(error.code, Code::MemoryLimit);
        assert!(error.message.contains("connection shed: RETURNING gives back more than 64 MiB"), "{error}");
        assert_eq!(returned.batches.len(), kept);
    }

    #[test]
    fn rows_without_columns_are_counted() {
        let mut returned = Returned::new(&[]);
        returned.push("shed", vec![], 3).unwrap();
        assert_eq!(returned.batches[0].num_rows(), 3);
    }
}
