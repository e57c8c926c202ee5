//! The kiosks' sales in a SQLite file.

use std::error::Error;
use std::path::Path;

use arrow::array::{Array, AsArray};
use arrow::datatypes::{Date32Type, Decimal128Type, Int32Type, Int64Type, TimestampMicrosecondType};
use cobble_types::{write_date, write_decimal, write_timestamp};
use rusqlite::{Connection, params};

use cobble_ferry::Ferry;

const ROWS: u64 = 10_000;

/// The table `kiosk_sales`, in a file that replaces one that is there.
pub fn write_till(ferry: Ferry, path: &Path) -> Result<(), Box<dyn Error + Send + Sync>> {
    let unfinished = path.with_extension("unfinished");
    let _ = std::fs::remove_file(&unfinished);
    let mut connection = Connection::open(&unfinished)?;
    connection.execute_batch(
        "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;
         CREATE TABLE kiosk_sales (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL, sold_at DATETIME NOT NULL, sold_on DATE NOT NULL,
           article TEXT NOT NULL, quantity INTEGER NOT NULL, price DECIMAL(6,2) NOT NULL, by_card BOOLEAN NOT NULL, note TEXT)",
    )?;
    let transaction = connection.transaction()?;
    let mut at = 0;
    while at < ferry.kiosk_sale_count() {
        let end = (at + ROWS).min(ferry.kiosk_sale_count());
        let batch = ferry.kiosk_sales(at..end);
        let column = |name: &str| batch.column_by_name(name).expect("a column of the generator");
        let mut insert =
            transaction.prepare_cached("INSERT INTO kiosk_sales VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)")?;
        for row in 0..batch.num_rows() {
            let sold_at = write_timestamp(column("sold_at").as_primitive::<TimestampMicrosecondType>().value(row));
            let price = write_decimal(column("price").as_primitive::<Decimal128Type>().value(row), 2);
            let note = column("note").as_string::<i32>();
            insert.execute(params![
                column("id").as_primitive::<Int64Type>().value(row),
                column("port_id").as_primitive::<Int32Type>().value(row),
                sold_at,
                write_date(column("sold_on").as_primitive::<Date32Type>().value(row)),
                column("article").as_string::<i32>().value(row),
                column("quantity").as_primitive::<Int32Type>().value(row),
                price,
                column("by_card").as_boolean().value(row),
                note.is_valid(row).then(|| note.value(row)),
            ])?;
        }
        at = end;
    }
    transaction.commit()?;
    connection.execute_batch("CREATE INDEX kiosk_sales_by_port ON kiosk_sales (port_id)")?;
    connection.close().map_err(|(_, error)| error)?;
    std::fs::rename(&unfinished, path)?;
    Ok(())
}
