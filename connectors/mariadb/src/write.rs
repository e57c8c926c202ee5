//! Writing rows in statements of many. Rows for a table that is there are one transaction; a new table, which the server makes outside of
//! any, is filled under another name and renamed when all rows have come.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::{AsArray, RecordBatch};
use cobble_plan::scan::Acceptance;
use cobble_types::{Code, Error, Result, SqlType};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Params, Row, Value};
use tokio::runtime::Handle;

use super::dialect::MariaDialect;
use super::{Server, errors, scan};
use cobble_connect::{NewRows, TableChange, TableWriter, Written};
use cobble_connect_sql::cells::CellColumn;
use cobble_connect_sql::returned::Returned;
use cobble_connect_sql::{Dialect, write};

/// Values of one statement; the protocol counts them with 16 bits.
const MOST_VALUES: usize = 32_000;
const MOST_ROWS: usize = 1000;

pub struct RowWriter {
    server: Arc<Server>,
    client: Option<Conn>,
    /// Where rows go, and the name that this gets in the end.
    place: String,
    renamed: Option<String>,
    columns: Vec<(String, SqlType)>,
    /// What follows the values, and what has come back for it.
    after: String,
    returned: Option<Returned>,
    written: Written,
    runtime: Handle,
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
        let (place, renamed) = match (found, rows.create) {
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
                    return Err(Error::new(Code::Unsupported, what).hint("keep it with InnoDB"));
                }
                client.query_drop("START TRANSACTION READ WRITE").await.map_err(failed)?;
                (place, None)
            }
            (None, true) => {
                static NUMBER: AtomicU64 = AtomicU64::new(0);
                let mark = format!("{}_{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed));
                let short: String = rows.table.chars().take(30).collect();
                let unfinished = named(&format!("_unfinished_{short}_{mark}"));
                let make = write::create(&server.connection, dialect, &unfinished, &rows, type_name)?;
                client.query_drop(format!("{make} ENGINE = InnoDB")).await.map_err(failed)?;
                (unfinished, Some(place))
            }
        };
        Ok(RowWriter {
            server: server.clone(),
            client: Some(client),
            place,
            renamed,
            after: write::returning(&rows),
            returned: rows.returned.as_ref().map(|added| Returned::new(&added.columns)),
            columns: rows.columns,
            written: Written::default(),
            runtime: Handle::current(),
        })
    }
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
        let Some(client) = &mut self.client else { return Err(Error::internal("a write without a connection")) };
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
                self.runtime.block_on(server.patience.wait(async { insert.await.map_err(failed) }))?;
                continue;
            };
            let insert = client.exec::<Row, _, _>(insert, Params::Positional(values));
            let back = self.runtime.block_on(server.patience.wait(async { insert.await.map_err(failed) }))?;
            let cells = returned.columns.iter().map(|c| CellColumn::new(&c.name, &c.sql_type, back.len()));
            let mut cells = cells.collect::<Result<Vec<_>>>()?;
            for row in &back {
                scan::read(server, row, &returned.columns, &mut cells)?;
            }
            let arrays = cells.into_iter().map(CellColumn::finish).collect::<Result<_>>()?;
            returned.push(&server.connection, arrays, back.len())?;
        }
        self.written.rows += batch.num_rows() as u64;
        Ok(())
    }

    fn finish(mut self: Box<Self>, accept: Acceptance<'_>) -> Result<Written> {
        accept(self.returned.as_ref().map_or(&[], |returned| &returned.batches))?;
        let Some(client) = &mut self.client else { return Err(Error::internal("a write without a connection")) };
        let last = match &self.renamed {
            Some(name) => format!("RENAME TABLE {} TO {name}", self.place),
            None => "COMMIT".to_owned(),
        };
        let server = &self.server;
        let done = async { client.query_drop(last).await.map_err(|e| errors::error(server, &e)) };
        self.runtime.block_on(server.patience.wait(done))?;
        self.renamed = None;
        self.server.has_changed.store(true, Ordering::Relaxed);
        Ok(self.written)
    }
}

impl Drop for RowWriter {
    fn drop(&mut self) {
        let Some(mut client) = self.client.take() else { return };
        let unfinished = self.renamed.take().map(|_| format!("DROP TABLE IF EXISTS {}", self.place));
        // The session may write: it is not one for the pool any more. What it has not committed goes with it.
        self.runtime.spawn(async move {
            if let Some(drop) = unfinished {
                let _ = client.query_drop(drop).await;
            }
            let _ = client.disconnect().await;
        });
    }
}
