//! Loading the shipyard's tables into MariaDB.

use std::error::Error;
use std::fmt::Write;
use std::ops::Range;

use arrow::array::{Array, RecordBatch};
use arrow::datatypes::DataType;
use cobble_ferry::Ferry;
use cobble_types::{SqlType, array_value_text};
use mysql_async::prelude::Queryable;

/// Rows of one INSERT.
const ROWS: u64 = 1000;

type Outcome = Result<(), Box<dyn Error + Send + Sync>>;

/// The database `yard`, in the place of one that is there.
pub async fn load_yard(client: &mut mysql_async::Conn, ferry: Ferry) -> Outcome {
    client.query_drop("DROP DATABASE IF EXISTS yard").await?;
    client.query_drop("CREATE DATABASE yard CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").await?;
    client.query_drop("USE yard").await?;
    load(client, "work_orders", ferry.work_order_count(), &|rows| ferry.work_orders(rows)).await?;
    let parts = ferry.parts();
    let of_parts = |rows: Range<u64>| parts.slice(rows.start as usize, (rows.end - rows.start) as usize);
    load(client, "parts", parts.num_rows() as u64, &of_parts).await?;
    load(client, "parts_used", ferry.part_use_count(), &|rows| ferry.parts_used(rows)).await?;
    for statement in [
        "ALTER TABLE work_orders ADD PRIMARY KEY (id), ADD INDEX (vessel_id)",
        "ALTER TABLE parts ADD PRIMARY KEY (id)",
        "ALTER TABLE parts_used ADD PRIMARY KEY (id), ADD INDEX (order_id)",
        "ANALYZE TABLE work_orders, parts, parts_used",
    ] {
        client.query_drop(statement).await?;
    }
    Ok(())
}

async fn load(
    client: &mut mysql_async::Conn,
    name: &str,
    count: u64,
    rows: &(dyn Fn(Range<u64>) -> RecordBatch + Send + Sync),
) -> Outcome {
    let columns: Vec<String> = rows(0..1)
        .schema()
        .fields()
        .iter()
        .map(|field| {
            let sql_type = match SqlType::from_arrow(field.data_type()) {
                Some(SqlType::Text) | None => "varchar(60)".to_owned(),
                Some(SqlType::Timestamp) => "datetime(6)".to_owned(),
                Some(SqlType::Boolean) => "tinyint".to_owned(),
                Some(other) => other.to_string(),
            };
            let nullable = matches!(field.name().as_str(), "closed_at" | "note" | "batch_no");
            format!("{} {sql_type}{}", field.name(), if nullable { "" } else { " NOT NULL" })
        })
        .collect();
    client.query_drop(format!("CREATE TABLE {name} ({})", columns.join(", "))).await?;
    client.query_drop("START TRANSACTION").await?;
    let mut at = 0;
    while at < count {
        let end = (at + ROWS).min(count);
        client.query_drop(insert(name, &rows(at..end))).await?;
        at = end;
    }
    Ok(client.query_drop("COMMIT").await?)
}

fn insert(name: &str, batch: &RecordBatch) -> String {
    let mut text = format!("INSERT INTO {name} VALUES ");
    for row in 0..batch.num_rows() {
        text.push_str(if row == 0 { "(" } else { ", (" });
        for (i, column) in batch.columns().iter().enumerate() {
            let comma = if i == 0 { "" } else { ", " };
            // Our own words: none of them has a quotation mark or a backslash.
            let _ = match (array_value_text(column.as_ref(), row), column.data_type()) {
                (None, _) => write!(text, "{comma}NULL"),
                (Some(value), DataType::Boolean) => write!(text, "{comma}{value}"),
                (Some(value), _) => write!(text, "{comma}'{value}'"),
            };
        }
        text.push(')');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_written_as_values() {
        let used = Ferry::new(0.01).parts_used(0..2);
        assert!(insert("parts_used", &used).starts_with("INSERT INTO parts_used VALUES ('1', '1', "));
    }
}
