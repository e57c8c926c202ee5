//! Writes rows in multi-row statements. Rows for an existing table are one transaction. A new table, which the server creates outside transactions, is
//! filled under another name and renamed when all rows have arrived.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::{AsArray, RecordBatch};
use async_trait::async_trait;
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_types::{Code, Error, Result, SqlType};
use mysql_async::prelude::Queryable;
use mysql_async::{Params, Row, Value};
use tokio::runtime::Handle;

use super::dialect::MariaDialect;
use super::pooled::Pooled;
use super::{Server, errors, scan};
use cobble_connect::{Returned, TableChange};
use cobble_connect_sql::cells::CellColumn;
use cobble_connect_sql::change::unknown_outcome;
use cobble_connect_sql::{Dialect, write};

/// Values of one statement; the protocol counts them with 16 bits.
const MOST_VALUES: usize = 32_000;
const MOST_ROWS: usize = 1000;

pub struct RowWriter {
    server: Arc<Server>,
    transaction: Transaction,
    /// Where rows go.
    place: String,
    columns: Vec<(String, SqlType)>,
    /// What follows the values, and what has come back for it.
    after: String,
    returned: Option<Returned>,
}

fn type_name(sql_type: &SqlType) -> Option<String> {
    Some(match sql_type {
        SqlType::Boolean => "boolean".to_owned(),
        SqlType::SmallInt => "smallint".to_owned(),
        SqlType::Integer => "int".to_owned(),
        SqlType::BigInt => "bigint".to_owned(),
        SqlType::Real => "float".to_owned(),
        SqlType::Double => "double".to_owned(),
        SqlType::Numeric { precision, scale } => format!("decimal({precision},{scale})"),
        SqlType::Bytea => "longblob".to_owned(),
        SqlType::Date => "date".to_owned(),
        SqlType::Time => "time(6)".to_owned(),
        SqlType::Timestamp => "datetime(6)".to_owned(),
        SqlType::TimestampTz => "timestamp(6) NULL".to_owned(),
        SqlType::Uuid => "char(36) CHARACTER SET ascii COLLATE ascii_bin".to_owned(),
        SqlType::Null | SqlType::Text | SqlType::Json => {
            "longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin".to_owned()
        }
        SqlType::Interval | SqlType::Array(_) | SqlType::Row(_) => return None,
    })
}

impl RowWriter {
    pub async fn new(server: &Arc<Server>, rows: NewRows) -> Result<RowWriter> {
        write::check(&server.connection, server.writable, &rows)?;
        let dialect = &MariaDialect;
        let failed = |e: mysql_async::Error| errors::error(server, &e);
        let named = |table: &str| format!("{}.{}", dialect.quoted(&rows.schema), dialect.quoted(table));
        let mut client = server.client().await?;
        let found: Option<Option<String>> = client
            .exec_first(
                "SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?",
                (&rows.schema, &rows.table),
            )
            .await
            .map_err(failed)?;
        client.query_drop("SET SESSION TRANSACTION READ WRITE").await.map_err(failed)?;
        let place = named(&rows.table);
        let (place, last, undo) = match (found, rows.create) {
            (Some(_), true) => {
                let what = format!("connection {}: there is a table {place} already", server.connection);
                return Err(Error::new(Code::AlreadyExists, what).hint("INSERT INTO adds rows to it"));
            }
            (None, false) => return Err(Error::new(Code::UnknownTable, format!("there is no table {place}"))),
            (Some(engine), false) => {
                // Only this one undoes what was written when something fails.
                if engine.as_deref() != Some("InnoDB") {
                    let engine = engine.unwrap_or_else(|| "no engine of tables".to_owned());
                    let what = format!(
                        "connection {}: {place} is kept by {engine}, which has no transactions",
                        server.connection
                    );
                    return Err(Error::new(Code::Unsupported, what).hint("use the InnoDB engine for the table"));
                }
                client.query_drop("START TRANSACTION READ WRITE").await.map_err(failed)?;
                (place, "COMMIT".to_owned(), None)
            }
            (None, true) => {
                let mark = mark();
                // For as long as the connection lives: it tells this write from those that were left behind.
                client.exec_drop("DO GET_LOCK(?, 0)", (lock_name(&mark),)).await.map_err(failed)?;
                // A name has 64 characters at most, of which the mark takes about half.
                let short: String = rows.table.chars().take(20).collect();
                let unfinished = named(&format!("{UNFINISHED}{short}_{mark}"));
                let make = write::create(&server.connection, dialect, &unfinished, &rows, type_name)?;
                client.query_drop(format!("{make} ENGINE = InnoDB")).await.map_err(failed)?;
                let last = format!("RENAME TABLE {unfinished} TO {place}");
                let undo = format!("DROP TABLE IF EXISTS {unfinished}");
                (unfinished, last, Some(undo))
            }
        };
        Ok(RowWriter {
            server: server.clone(),
            transaction: Transaction::new(server, client, last, undo),
            place,
            after: write::returning(&rows),
            returned: rows.returned.as_ref().map(|added| Returned::new(&added.columns)),
            columns: rows.columns,
        })
    }
}

/// What the names of tables begin with that are being filled.
pub const UNFINISHED: &str = "_unfinished_";

/// A name of its own for a write, on whatever machine it runs.
fn mark() -> String {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    format!("{:x}{:x}{:x}", now.as_nanos(), std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed))
}

fn lock_name(mark: &str) -> String {
    format!("unfinished table {mark}")
}

/// Drops the tables that were being filled by writes that have ended, however that was. Says how many.
pub async fn sweep(server: &Arc<Server>) -> Result<usize> {
    if !server.writable {
        return Ok(0);
    }
    let failed = |e: mysql_async::Error| errors::error(server, &e);
    let mut client = server.client().await?;
    let work = async {
        let found: Vec<(String, String)> = client
            .query(
                "SELECT TABLE_SCHEMA, TABLE_NAME FROM information_schema.TABLES \
                 WHERE TABLE_NAME LIKE '\\_unfinished\\_%' AND TABLE_TYPE = 'BASE TABLE'",
            )
            .await
            .map_err(failed)?;
        let found: Vec<(String, String)> = found.into_iter().filter(|(schema, _)| server.sees(schema)).collect();
        let mut dropped = 0;
        for (schema, table) in found {
            let mark = table.rsplit('_').next().unwrap_or_default();
            let free: Option<Option<i64>> =
                client.exec_first("SELECT IS_FREE_LOCK(?)", (lock_name(mark),)).await.map_err(failed)?;
            if free.flatten() != Some(1) {
                continue;
            }
            if dropped == 0 {
                client.query_drop("SET SESSION TRANSACTION READ WRITE").await.map_err(failed)?;
            }
            let place = format!("{}.{}", MariaDialect.quoted(&schema), MariaDialect.quoted(&table));
            client.query_drop(format!("DROP TABLE IF EXISTS {place}")).await.map_err(failed)?;
            dropped += 1;
        }
        Ok(dropped)
    };
    let swept = server.patience.wait(work).await;
    // The session may write, or work still: it is not one for the pool any more.
    tokio::spawn(client.disconnect());
    swept
}

/// Drops or empties a table.
pub async fn change_table(server: &Arc<Server>, schema: &str, table: &str, change: TableChange) -> Result<()> {
    write::allowed(&server.connection, server.writable)?;
    let dialect = &MariaDialect;
    let place = format!("{}.{}", dialect.quoted(schema), dialect.quoted(table));
    let statement = write::change(change, &place, "TRUNCATE TABLE");
    let mut client = server.client().await?;
    let work = async {
        let failed = |e: mysql_async::Error| errors::error(server, &e);
        client.query_drop("SET SESSION TRANSACTION READ WRITE").await.map_err(failed)?;
        client.query_drop(statement).await.map_err(failed)
    };
    let done = server.patience.wait(work).await;
    // The session may write: it is not one for the pool any more.
    tokio::spawn(client.disconnect());
    done
}

fn value(batch: &RecordBatch, place: usize, row: usize, sql_type: &SqlType) -> Value {
    let array = batch.column(place);
    if array.is_null(row) {
        return Value::NULL;
    }
    match sql_type {
        SqlType::Boolean => Value::Int(array.as_boolean().value(row).into()),
        SqlType::Bytea => Value::Bytes(array.as_binary_view().value(row).to_vec()),
        other => write::text(array.as_ref(), row, other).map_or(Value::NULL, |text| Value::Bytes(text.into_bytes())),
    }
}

impl TableWriter for RowWriter {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let runtime = self.transaction.runtime.clone();
        let client = self.transaction.client()?;
        let step = (MOST_VALUES / self.columns.len().max(1)).clamp(1, MOST_ROWS);
        let marks = format!("({})", vec!["?"; self.columns.len()].join(", "));
        let names = write::names(&MariaDialect, &self.columns);
        for start in (0..batch.num_rows()).step_by(step) {
            let rows = start..(start + step).min(batch.num_rows());
            let lines = vec![marks.as_str(); rows.len()].join(", ");
            let insert = format!("INSERT INTO {} ({names}) VALUES {lines}{}", self.place, self.after);
            let values: Vec<Value> = rows
                .flat_map(|row| {
                    self.columns
                        .iter()
                        .enumerate()
                        .map(move |(place, (_, sql_type))| value(batch, place, row, sql_type))
                })
                .collect();
            let server = &self.server;
            let failed = |e: mysql_async::Error| errors::error(server, &e);
            let Some(returned) = &mut self.returned else {
                let insert = client.exec_drop(insert, Params::Positional(values));
                runtime.block_on(server.patience.wait(async { insert.await.map_err(failed) }))?;
                continue;
            };
            let insert = client.exec::<Row, _, _>(insert, Params::Positional(values));
            let back = runtime.block_on(server.patience.wait(async { insert.await.map_err(failed) }))?;
            let cells = returned.columns.iter().map(|c| CellColumn::new(&c.name, &c.sql_type, back.len()));
            let mut cells = cells.collect::<Result<Vec<_>>>()?;
            for row in &back {
                scan::read(server, row, &returned.columns, &mut cells)?;
            }
            let arrays = cells.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
            returned.push(&server.connection, arrays, back.len())?;
        }
        self.transaction.outcome.rows += batch.num_rows() as u64;
        Ok(())
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        if let Some(returned) = self.returned.take() {
            self.transaction.outcome.returned = returned.batches;
        }
        Ok(Box::new(self.transaction))
    }
}

/// A session in which all has been done but the last statement. The session's modes are no others': it is not one for the pool any
/// more, and what it has not committed goes with it.
pub struct Transaction {
    server: Arc<Server>,
    client: Option<Pooled>,
    /// What shows the write, and what is done where it is given up.
    last: String,
    undo: Option<String>,
    pub outcome: Outcome,
    pub runtime: Handle,
}

impl Transaction {
    pub fn new(server: &Arc<Server>, client: Pooled, last: String, undo: Option<String>) -> Transaction {
        let (server, client, runtime) = (server.clone(), Some(client), Handle::current());
        Transaction { server, client, last, undo, outcome: Outcome::default(), runtime }
    }

    pub fn client(&mut self) -> Result<&mut Pooled> {
        self.client.as_mut().ok_or_else(|| Error::internal("a write without a connection"))
    }
}

#[async_trait]
impl Prepared for Transaction {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(mut self: Box<Self>) -> Result<()> {
        let (server, last) = (self.server.clone(), self.last.clone());
        let client = self.client()?;
        let done = async { client.query_drop(last).await.map_err(|e| errors::error(&server, &e)) };
        server.patience.wait(done).await.map_err(|e| match e.code {
            Code::SourceUnreachable | Code::SourceTimeout => unknown_outcome(e),
            _ => e,
        })?;
        self.undo = None;
        server.has_changed.store(true, Ordering::Relaxed);
        Ok(())
    }
}

impl Drop for Transaction {
    fn drop(&mut self) {
        let Some(mut client) = self.client.take() else { return };
        let undo = self.undo.take();
        self.runtime.spawn(async move {
            if let Some(undo) = undo {
                let _ = client.query_drop(undo).await;
            }
            client.disconnect().await;
        });
    }
}
