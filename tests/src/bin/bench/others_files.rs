//! Tables as single Parquet files that another writer made with its own defaults, and the same rows in the judge's database, which has keys,
//! indexes and statistics of them.

use std::path::Path;
use std::process::{Command, Stdio};

use arrow::array::RecordBatch;
use arrow::ipc::writer::StreamWriter;
use cobble_ferry::{Ferry, Month};
use cobble_ferry_load::{copy, create};
use cobble_tests::Product;

const ROWS: u64 = 20_000;

/// Takes a stream of batches and leaves one file.
const WRITER: &str = "import sys, pyarrow as pa, pyarrow.parquet as pq\n\
    pq.write_table(pa.ipc.open_stream(sys.stdin.buffer).read_all(), sys.argv[1])";

/// The rows of a table in parts.
pub type Rows = Box<dyn Iterator<Item = RecordBatch>>;

pub struct Table {
    pub name: &'static str,
    /// Columns of the judge's primary key, and of further indexes.
    key: &'static str,
    indexes: &'static [&'static str],
    rows: fn(Ferry) -> Rows,
}

fn parts(count: u64, make: impl Fn(std::ops::Range<u64>) -> RecordBatch + 'static) -> Rows {
    Box::new((0..count).step_by(ROWS as usize).map(move |at| make(at..count.min(at + ROWS))))
}

fn months(
    ferry: Ferry,
    count: fn(&Ferry, Month) -> u64,
    make: fn(&Ferry, Month, std::ops::Range<u64>) -> RecordBatch,
) -> Rows {
    Box::new(
        Month::all()
            .into_iter()
            .flat_map(move |month| parts(count(&ferry, month), move |rows| make(&ferry, month, rows))),
    )
}

fn whole(batch: RecordBatch) -> Rows {
    Box::new(std::iter::once(batch))
}

pub const FREIGHT: &[Table] = &[
    Table { name: "islands", key: "id", indexes: &[], rows: |f| whole(f.islands()) },
    Table { name: "ports", key: "id", indexes: &[], rows: |f| whole(f.ports()) },
    Table {
        name: "shippers",
        key: "id",
        indexes: &["port_id"],
        rows: |f| parts(f.shipper_count(), move |r| f.shippers(r)),
    },
    Table { name: "depots", key: "id", indexes: &["port_id"], rows: |f| parts(f.depot_count(), move |r| f.depots(r)) },
    Table { name: "goods", key: "id", indexes: &[], rows: |f| parts(f.goods_count(), move |r| f.goods(r)) },
    Table {
        name: "rates",
        key: "goods_id, depot_id",
        indexes: &["depot_id"],
        rows: |f| parts(f.rate_count(), move |r| f.rates(r)),
    },
    Table {
        name: "consignments",
        key: "id",
        indexes: &["shipper_id", "booked_on"],
        rows: |f| parts(f.consignment_count(), move |r| f.consignments(r).0),
    },
    Table {
        name: "lines",
        key: "consignment_id, line",
        indexes: &["goods_id, depot_id", "depot_id", "shipped_on"],
        rows: |f| parts(f.consignment_count(), move |r| f.consignments(r).1),
    },
];

pub const FERRY: &[Table] = &[
    Table { name: "routes", key: "id", indexes: &["from_port", "to_port"], rows: |f| whole(f.routes()) },
    Table { name: "vessels", key: "id", indexes: &["home_port"], rows: |f| whole(f.vessels()) },
    Table { name: "crew", key: "id", indexes: &["vessel_id"], rows: |f| whole(f.crew()) },
    Table {
        name: "pass_holders",
        key: "id",
        indexes: &["home_port"],
        rows: |f| parts(f.pass_holder_count(), move |r| f.pass_holders(r)),
    },
    Table {
        name: "sailings",
        key: "id",
        indexes: &["route_id", "vessel_id"],
        rows: |f| months(f, Ferry::sailings_in, Ferry::sailings),
    },
    Table {
        name: "boardings",
        key: "id",
        indexes: &["sailing_id", "route_id", "holder_id"],
        rows: |f| months(f, Ferry::boardings_in, Ferry::boardings),
    },
    Table { name: "tariffs", key: "route_id, seat_class, valid_from", indexes: &[], rows: |f| whole(f.tariffs()) },
    Table { name: "incidents", key: "id", indexes: &["vessel_id"], rows: |f| whole(f.incidents()) },
    Table {
        name: "work_orders",
        key: "id",
        indexes: &["vessel_id"],
        rows: |f| parts(f.work_order_count(), move |r| f.work_orders(r)),
    },
    Table { name: "parts", key: "id", indexes: &[], rows: |f| whole(f.parts()) },
    Table {
        name: "parts_used",
        key: "id",
        indexes: &["order_id", "part_id"],
        rows: |f| parts(f.part_use_count(), move |r| f.parts_used(r)),
    },
];

/// Batches of one table may differ in which columns say that they have nulls.
fn alike(batch: RecordBatch) -> RecordBatch {
    let fields: Vec<_> = batch.schema().fields().iter().map(|f| f.as_ref().clone().with_nullable(true)).collect();
    let schema = std::sync::Arc::new(arrow::datatypes::Schema::new(fields));
    RecordBatch::try_new(schema, batch.columns().to_vec()).expect("the same columns")
}

/// Writes the files that are not there yet.
pub fn write(folder: &Path, tables: &[&[Table]], ferry: Ferry) {
    std::fs::create_dir_all(folder).expect("a folder");
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/python/bin/python");
    for table in tables.iter().copied().flatten() {
        let path = folder.join(format!("{}.parquet", table.name));
        if path.exists() {
            continue;
        }
        let building = path.with_extension("building");
        let mut child = Command::new(&python)
            .args(["-c", WRITER])
            .arg(&building)
            .stdin(Stdio::piped())
            .spawn()
            .expect("the other writer is there once scripts/python.sh has run");
        let mut batches = (table.rows)(ferry).map(alike).peekable();
        let schema = batches.peek().expect("there are rows").schema();
        let mut stream = StreamWriter::try_new(child.stdin.take().expect("a pipe"), &schema).expect("a stream");
        batches.for_each(|batch| stream.write(&batch).expect("written"));
        stream.finish().expect("written");
        drop(stream);
        assert!(child.wait().expect("it ends").success());
        std::fs::rename(building, path).expect("moved");
    }
}

/// The judge's database of the same rows, loaded once for a scale.
pub async fn judge(
    product: &Product,
    name: &str,
    folder: &Path,
    tables: &[&[Table]],
    ferry: Ferry,
) -> tokio_postgres::Client {
    let mark = folder.join("judge");
    if !mark.exists() {
        let admin = product.database("postgres").await;
        admin.batch_execute(&format!("DROP DATABASE IF EXISTS {name} WITH (FORCE)")).await.expect("dropped");
        admin.batch_execute(&format!("CREATE DATABASE {name}")).await.expect("created");
        let client = product.database(name).await;
        for table in tables.iter().copied().flatten() {
            let mut batches = (table.rows)(ferry).peekable();
            create(&client, table.name, batches.peek().expect("there are rows")).await.expect("made");
            for batch in batches {
                copy(&client, table.name, &batch).await.expect("loaded");
            }
            let mut made = format!("ALTER TABLE {} ADD PRIMARY KEY ({});", table.name, table.key);
            table.indexes.iter().for_each(|index| made += &format!("CREATE INDEX ON {} ({index});", table.name));
            client.batch_execute(&made).await.expect("indexed");
        }
        client.batch_execute("VACUUM ANALYZE").await.expect("analysed");
        std::fs::write(mark, "").expect("marked");
    }
    product.database(name).await
}
