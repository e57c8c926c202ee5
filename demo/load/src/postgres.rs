//! Loading tables into PostgreSQL by COPY: the fleet's database, or every table at once for a judge of answers.

use std::error::Error;
use std::fmt::Write;

use arrow::array::RecordBatch;
use arrow::datatypes::DataType;
use bytes::Bytes;
use cobble_types::array_value_text;
use futures::SinkExt;
use tokio_postgres::Client;

use cobble_ferry::{BUOYS, Ferry, Month};

type Outcome = Result<(), Box<dyn Error + Send + Sync>>;

const ROWS: u64 = 50_000;

/// `ports`, `routes`, `vessels`, `crew` and `pass_holders` in the schema `public`.
pub async fn load_fleet(client: &Client, ferry: Ferry) -> Outcome {
    client.batch_execute("DROP TABLE IF EXISTS ports, routes, vessels, crew, pass_holders").await?;
    for (name, batch) in
        [("ports", ferry.ports()), ("routes", ferry.routes()), ("vessels", ferry.vessels()), ("crew", ferry.crew())]
    {
        create(client, name, &batch).await?;
        copy(client, name, &batch).await?;
    }
    create(client, "pass_holders", &ferry.pass_holders(0..1)).await?;
    let mut at = 0;
    while at < ferry.pass_holder_count() {
        let end = (at + ROWS).min(ferry.pass_holder_count());
        copy(client, "pass_holders", &ferry.pass_holders(at..end)).await?;
        at = end;
    }
    client
        .batch_execute(
            "ALTER TABLE ports ADD PRIMARY KEY (id); ALTER TABLE routes ADD PRIMARY KEY (id); ALTER TABLE vessels ADD PRIMARY KEY (id);
             ALTER TABLE crew ADD PRIMARY KEY (id); ALTER TABLE pass_holders ADD PRIMARY KEY (id);
             COMMENT ON COLUMN pass_holders.email IS 'personal'; COMMENT ON COLUMN pass_holders.phone IS 'personal';
             ANALYZE ports, routes, vessels, crew, pass_holders",
        )
        .await?;
    Ok(())
}

/// The fleet's tables, those of the folder `drop`, of the yard and the kiosks' sales, in one database. `readings` says whether buoys are wanted too.
pub async fn load_everything(client: &Client, ferry: Ferry, readings: bool) -> Outcome {
    load_fleet(client, ferry).await?;
    client
        .batch_execute("DROP TABLE IF EXISTS sailings, boardings, tariffs, incidents, buoys, kiosk_sales, work_orders, parts, parts_used; DROP TYPE IF EXISTS wave")
        .await?;
    for (name, batch) in [
        ("tariffs", ferry.tariffs()),
        ("incidents", ferry.incidents()),
        ("kiosk_sales", ferry.kiosk_sales(0..ferry.kiosk_sale_count())),
        ("work_orders", ferry.work_orders(0..ferry.work_order_count())),
        ("parts", ferry.parts()),
        ("parts_used", ferry.parts_used(0..ferry.part_use_count())),
    ] {
        create(client, name, &batch).await?;
        copy(client, name, &batch).await?;
    }
    let months = Month::all();
    for (name, count, rows) in [
        (
            "sailings",
            Ferry::sailings_in as fn(&Ferry, Month) -> u64,
            Ferry::sailings as fn(&Ferry, Month, std::ops::Range<u64>) -> RecordBatch,
        ),
        ("boardings", Ferry::boardings_in, Ferry::boardings),
    ] {
        create(client, name, &rows(&ferry, months[0], 0..1)).await?;
        client.batch_execute(&format!("ALTER TABLE {name} ADD COLUMN month text")).await?;
        for month in &months {
            let (mut at, total) = (0, count(&ferry, *month));
            while at < total {
                let end = (at + ROWS).min(total);
                let text = copy_text(&rows(&ferry, *month, at..end), Some(&month.name()));
                send(client, name, text).await?;
                at = end;
            }
        }
        client.batch_execute(&format!("ALTER TABLE {name} ADD PRIMARY KEY (id)")).await?;
    }
    if readings {
        client
            .batch_execute(
                "CREATE TYPE wave AS (height_m float8, period_s float8);
                 CREATE TABLE buoys (buoy bigint, taken_at timestamp, wave wave, wind_kn float8, tags text[])",
            )
            .await?;
        let per_buoy = ferry.reading_count() / BUOYS;
        for buoy in 0..BUOYS {
            let mut text = String::new();
            for k in 0..per_buoy {
                let (at, height, period, wind, tags) = ferry.reading(buoy, k, per_buoy);
                let _ = writeln!(
                    text,
                    "{}\t{}\t({height:.2},{period:.1})\t{wind:.1}\t{{{}}}",
                    buoy + 1,
                    cobble_types::write_timestamp(at),
                    tags.join(",")
                );
            }
            send(client, "buoys", text).await?;
        }
    }
    client
        .batch_execute(
            "CREATE INDEX ON boardings (sailing_id); CREATE INDEX ON boardings (route_id); CREATE INDEX ON boardings (holder_id);
             CREATE INDEX ON boardings (scanned_at); CREATE INDEX ON sailings (route_id)",
        )
        .await?;
    // Outside a transaction, which several statements in one message would be.
    client.batch_execute("VACUUM ANALYZE").await?;
    Ok(())
}

/// Makes a table for such rows.
pub async fn create(client: &Client, name: &str, batch: &RecordBatch) -> Outcome {
    let columns: Vec<String> = batch
        .schema()
        .fields()
        .iter()
        .map(|field| {
            let sql_type = match field.data_type() {
                DataType::Utf8 => "text".to_owned(),
                other => cobble_types::SqlType::from_arrow(other).map_or("text".to_owned(), |t| t.to_string()),
            };
            format!("{} {sql_type}", field.name())
        })
        .collect();
    Ok(client.batch_execute(&format!("CREATE TABLE {name} ({})", columns.join(", "))).await?)
}

/// Adds rows to a table.
pub async fn copy(client: &Client, name: &str, batch: &RecordBatch) -> Outcome {
    send(client, name, copy_text(batch, None)).await
}

async fn send(client: &Client, name: &str, text: String) -> Outcome {
    let sink = client.copy_in::<_, Bytes>(&format!("COPY {name} FROM STDIN")).await?;
    let mut sink = std::pin::pin!(sink);
    sink.send(text.into()).await?;
    sink.finish().await?;
    Ok(())
}

/// Rows in the text format of COPY, with one more column at the end when given.
fn copy_text(batch: &RecordBatch, last: Option<&str>) -> String {
    let mut text = String::new();
    for row in 0..batch.num_rows() {
        for (i, column) in batch.columns().iter().enumerate() {
            if i > 0 {
                text.push('\t');
            }
            match array_value_text(column.as_ref(), row) {
                None => text.push_str("\\N"),
                Some(value) => text.push_str(&value.replace('\\', "\\\\").replace('\t', "\\t").replace('\n', "\\n")),
            }
        }
        if let Some(last) = last {
            let _ = write!(text, "\t{last}");
        }
        text.push('\n');
    }
    text
}
