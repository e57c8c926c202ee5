//! The shipyard: work orders on vessels, the parts they can take, and the parts that they took. As batches, and in MariaDB.

use std::error::Error;
use std::fmt::Write;
use std::ops::Range;
use std::sync::Arc;

use arrow::array::{
    Array, ArrayRef, BooleanArray, Date32Array, Int16Array, Int32Array, RecordBatch, StringArray, StringBuilder,
    TimestampMicrosecondArray,
};
use arrow::datatypes::DataType;
use cobble_types::{SqlType, array_value_text};
use mysql_async::prelude::Queryable;

use crate::rows::{DAY, FIRST_DAY, Ferry, batch, decimals, texts};

const PARTS: u64 = 400;
const KINDS: &[&str] = &["hull", "engine", "engine", "safety", "deck", "paint", "electrics"];
const THINGS: &[&str] =
    &["pump", "valve", "seal ring", "filter", "cable", "cleat", "life jacket", "anode", "belt", "lamp"];
const WORDS: &[&str] = &["renew", "inspect", "Inspect", "clean", "replace", "tighten"];
/// Rows of one INSERT.
const ROWS: u64 = 1000;

impl Ferry {
    pub fn work_order_count(&self) -> u64 {
        self.scaled(50_000)
    }

    /// Work on vessels, in order of the day it was opened. Old vessels come more often, and the newest orders are still open.
    pub fn work_orders(&self, rows: Range<u64>) -> RecordBatch {
        let total = self.work_order_count();
        let (mut vessel, mut opened, mut closed, mut due) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let (mut urgency, mut hours, mut cost) = (Vec::new(), Vec::new(), Vec::new());
        let (mut kind, mut note) = (StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(50, i);
            let day = i64::from(FIRST_DAY) + (i * 1090 / total) as i64;
            let at = day * DAY + (7 * 3600 + d.below(9 * 3600) as i64) * 1_000_000;
            let open_for = d.skewed(20 * 86_400, 4) as i64 + 1800;
            vessel.push(d.skewed(60, 2) as i32 + 1);
            opened.push(at);
            closed.push((total - i > total / 60).then_some(at + open_for * 1_000_000));
            due.push(day as i32 + 3 + d.below(20) as i32);
            urgency.push(d.skewed(5, 2) as i16 + 1);
            kind.append_value(d.pick(KINDS));
            let quarters = d.skewed(160, 2) as i128 + 1;
            hours.push(quarters * 25);
            cost.push(quarters * 1825 + d.below(40_000) as i128);
            match d.below(3) {
                0 => note.append_null(),
                _ => note.append_value(format!("{} the {}", d.pick(WORDS), d.pick(THINGS))),
            }
        }
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.map(|i| i as i32 + 1)))),
            ("vessel_id", Arc::new(Int32Array::from(vessel))),
            ("kind", Arc::new(kind.finish())),
            ("urgency", Arc::new(Int16Array::from(urgency))),
            ("opened_at", Arc::new(TimestampMicrosecondArray::from(opened))),
            ("closed_at", Arc::new(TimestampMicrosecondArray::from(closed))),
            ("due_on", Arc::new(Date32Array::from(due))),
            ("hours", decimals(hours, 6, 2)),
            ("cost", decimals(cost, 10, 2)),
            ("note", Arc::new(note.finish())),
        ])
    }

    pub fn parts(&self) -> RecordBatch {
        let rows = 0..PARTS;
        let name = |i: u64| format!("{} {}", THINGS[(i % 10) as usize], 10 + i / 10 * 5);
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| i as i32 + 1)))),
            ("name", texts(rows.clone().map(name).collect())),
            ("kind", texts(rows.clone().map(|i| self.dice(51, i).pick(KINDS).to_owned()).collect())),
            (
                "price",
                decimals(rows.clone().map(|i| 250 + i128::from(self.dice(52, i).skewed(90_000, 3))).collect(), 8, 2),
            ),
            ("in_stock", Arc::new(BooleanArray::from_iter(rows.map(|i| Some(self.dice(53, i).below(7) > 0))))),
        ])
    }

    pub fn part_use_count(&self) -> u64 {
        self.work_order_count() * 5 / 2
    }

    /// What went into work orders: a few parts go into most of them.
    pub fn parts_used(&self, rows: Range<u64>) -> RecordBatch {
        let each = |f: &dyn Fn(u64) -> i32| -> ArrayRef { Arc::new(Int32Array::from_iter_values(rows.clone().map(f))) };
        batch(vec![
            ("id", each(&|i| i as i32 + 1)),
            ("order_id", each(&|i| (i * 2 / 5) as i32 + 1)),
            ("part_id", each(&|i| self.dice(54, i).skewed(PARTS, 3) as i32 + 1)),
            ("quantity", each(&|i| self.dice(55, i).skewed(8, 3) as i32 + 1)),
            (
                "batch_no",
                Arc::new(
                    rows.clone()
                        .map(|i| {
                            let mut d = self.dice(56, i);
                            (d.below(6) > 0)
                                .then(|| format!("{}-{:04}", d.pick(&["A", "a", "B", "C"]), d.below(10_000)))
                        })
                        .collect::<StringArray>(),
                ),
            ),
        ])
    }
}

type Outcome = Result<(), Box<dyn Error + Send + Sync>>;

/// The database `yard`, in the place of one that is there.
pub async fn load_yard(client: &mut mysql_async::Conn, ferry: Ferry) -> Outcome {
    client.query_drop("DROP DATABASE IF EXISTS yard").await?;
    client.query_drop("CREATE DATABASE yard CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").await?;
    client.query_drop("USE yard").await?;
    load(client, "work_orders", ferry.work_order_count(), &|rows| ferry.work_orders(rows)).await?;
    load(client, "parts", PARTS, &|rows| ferry.parts().slice(rows.start as usize, (rows.end - rows.start) as usize))
        .await?;
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
    use arrow::array::AsArray;
    use arrow::datatypes::Int32Type;

    #[test]
    fn parts_go_into_orders_that_exist() {
        let ferry = Ferry::new(0.01);
        let used = ferry.parts_used(0..ferry.part_use_count());
        let orders = used.column(1).as_primitive::<Int32Type>();
        assert_eq!(orders.value(orders.len() - 1), ferry.work_order_count() as i32);
        assert!(insert("parts_used", &used.slice(0, 2)).starts_with("INSERT INTO parts_used VALUES ('1', '1', "));
    }
}
