//! Writing rows into the file, in one transaction that is committed when all of them have come.

use std::sync::Arc;

use arrow::array::{AsArray, RecordBatch};
use arrow::datatypes::{Float32Type, Float64Type, Int16Type, Int32Type, Int64Type};
use async_trait::async_trait;
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_types::{Error, Result, SqlType};
use rusqlite::Connection;
use rusqlite::types::Value;

use super::dialect::SqliteDialect;
use super::{File, SCHEMA, errors, scan};
use cobble_connect::{Returned, TableChange};
use cobble_connect_sql::cells::CellColumn;
use cobble_connect_sql::{Dialect, write};

pub struct RowWriter {
    file: Arc<File>,
    /// Dropped before the commit, it takes the transaction with it.
    connection: Connection,
    insert: String,
    columns: Vec<(String, SqlType)>,
    returned: Option<Returned>,
    outcome: Outcome,
}

/// The declared type that reads as this one again, or as the text of its values.
fn type_name(sql_type: &SqlType) -> Option<String> {
    Some(match sql_type {
        SqlType::Boolean => "BOOLEAN".to_owned(),
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => "INTEGER".to_owned(),
        SqlType::Real | SqlType::Double => "DOUBLE".to_owned(),
        SqlType::Numeric { precision, scale } if *precision <= 15 => format!("DECIMAL({precision},{scale})"),
        SqlType::Bytea => "BLOB".to_owned(),
        SqlType::Date => "DATE".to_owned(),
        SqlType::Time => "TIME".to_owned(),
        SqlType::Timestamp => "TIMESTAMP".to_owned(),
        SqlType::Row(_) => return None,
        _ => "TEXT".to_owned(),
    })
}

impl RowWriter {
    pub fn new(file: &Arc<File>, rows: NewRows) -> Result<RowWriter> {
        write::check(&file.connection, file.writable, &rows)?;
        if rows.schema != SCHEMA {
            return Err(Error::unknown("schema", &rows.schema, [SCHEMA]));
        }
        let failed = |e: rusqlite::Error| errors::error(file, &e);
        let connection = file.open_to_write()?;
        let dialect = &SqliteDialect { utf8: true };
        let place = dialect.quoted(&rows.table);
        if rows.create {
            let make = write::create(&file.connection, dialect, &place, &rows, type_name)?;
            connection.execute_batch(&make).map_err(failed)?;
        }
        let marks = vec!["?"; rows.columns.len()].join(", ");
        let (names, after) = (write::names(dialect, &rows.columns), write::returning(&rows));
        let insert = format!("INSERT INTO {place} ({names}) VALUES ({marks}){after}");
        let returned = rows.returned.as_ref().map(|added| Returned::new(&added.columns));
        let (file, columns) = (file.clone(), rows.columns);
        Ok(RowWriter { file, connection, insert, columns, returned, outcome: Outcome::default() })
    }
}

/// Drops or empties a table.
pub fn change_table(file: &Arc<File>, schema: &str, table: &str, change: TableChange) -> Result<()> {
    write::allowed(&file.connection, file.writable)?;
    if schema != SCHEMA {
        return Err(Error::unknown("schema", schema, [SCHEMA]));
    }
    let statement = write::change(change, &SqliteDialect { utf8: true }.quoted(table), "DELETE FROM");
    let done = file.open_to_write()?.execute_batch(&format!("{statement}; COMMIT"));
    done.map_err(|e| errors::error(file, &e))
}

fn value(batch: &RecordBatch, place: usize, row: usize, sql_type: &SqlType) -> Value {
    let array = batch.column(place);
    if array.is_null(row) {
        return Value::Null;
    }
    match sql_type {
        SqlType::Boolean => Value::Integer(array.as_boolean().value(row).into()),
        SqlType::SmallInt => Value::Integer(array.as_primitive::<Int16Type>().value(row).into()),
        SqlType::Integer => Value::Integer(array.as_primitive::<Int32Type>().value(row).into()),
        SqlType::BigInt => Value::Integer(array.as_primitive::<Int64Type>().value(row)),
        SqlType::Real => Value::Real(array.as_primitive::<Float32Type>().value(row).into()),
        SqlType::Double => Value::Real(array.as_primitive::<Float64Type>().value(row)),
        SqlType::Bytea => Value::Blob(array.as_binary_view().value(row).to_vec()),
        other => write::text(array.as_ref(), row, other).map_or(Value::Null, Value::Text),
    }
}

impl TableWriter for RowWriter {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let failed = |e: rusqlite::Error| errors::error(&self.file, &e);
        let mut insert = self.connection.prepare_cached(&self.insert).map_err(failed)?;
        let wanted = self.returned.as_ref().map_or(&[][..], |returned| &returned.columns);
        let cells = wanted.iter().map(|c| CellColumn::new(&c.name, &c.sql_type, batch.num_rows()));
        let (mut cells, mut came) = (cells.collect::<Result<Vec<_>>>()?, 0);
        for row in 0..batch.num_rows() {
            let values =
                self.columns.iter().enumerate().map(|(place, (_, sql_type))| value(batch, place, row, sql_type));
            let values = rusqlite::params_from_iter(values);
            if self.returned.is_none() {
                insert.execute(values).map_err(failed)?;
                continue;
            }
            let mut back = insert.query(values).map_err(failed)?;
            while let Some(row) = back.next().map_err(failed)? {
                scan::read(&self.file, row, &mut cells)?;
                came += 1;
            }
        }
        if let Some(returned) = &mut self.returned {
            let arrays = cells.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
            returned.push(&self.file.connection, arrays, came)?;
        }
        self.outcome.rows += batch.num_rows() as u64;
        Ok(())
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        if let Some(returned) = self.returned.take() {
            self.outcome.returned = returned.batches;
        }
        let RowWriter { file, connection, outcome, .. } = *self;
        Ok(Box::new(Transaction { file, connection, outcome }))
    }
}

/// A transaction in which all has been done but its end. Dropped, the connection takes it along.
pub struct Transaction {
    pub file: Arc<File>,
    pub connection: Connection,
    pub outcome: Outcome,
}

#[async_trait]
impl Prepared for Transaction {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(self: Box<Self>) -> Result<()> {
        let committed = tokio::task::spawn_blocking(move || {
            self.connection.execute_batch("COMMIT").map_err(|e| errors::error(&self.file, &e))
        });
        committed.await.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))?
    }
}
