//! Rows that a statement returns by RETURNING: the list of columns, and the buffer that holds the rows until the commit.

use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema};
use cobble_plan::expr::Column;
use cobble_plan::sink::MOST_RETURNED;
use cobble_types::{Code, Error, Result};

use super::{Dialect, RemoteTable};

/// The list of RETURNING for columns of a table, written as a scan writes them, with this before their names.
pub fn list(dialect: &dyn Dialect, table: &RemoteTable, prefix: &str, columns: &[Column]) -> Result<String> {
    let mut items = Vec::new();
    for column in columns {
        let remote = table.columns.iter().find(|remote| remote.name == column.name);
        let remote = remote.ok_or_else(|| Error::internal(format!("{} has no column {column}", table.name)))?;
        let name = format!("{prefix}{}", dialect.quoted(&remote.name));
        items.push(if remote.checks { name } else { remote.written.replace("{}", &name) });
    }
    // Rows without columns are counted.
    Ok(if items.is_empty() { "1".to_owned() } else { items.join(", ") })
}

/// Rows that have come back.
pub struct Returned {
    pub columns: Vec<Column>,
    held: usize,
    pub batches: Vec<RecordBatch>,
}

impl Returned {
    pub fn new(columns: &[Column]) -> Returned {
        Returned { columns: columns.to_vec(), held: 0, batches: Vec::new() }
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
