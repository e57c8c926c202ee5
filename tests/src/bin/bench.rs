//! `make bench`: ten questions at scale 1, ours beside PostgreSQL with the same tables, indexed and analysed, with as many
//! parallel workers as there are cores, in one run. Prints ratios, bytes read and peak memory. Each number is the best of
//! three. Also measures what pruning gains on a wide file.
//!
//!     make bench            scale 1
//!     make bench BENCH=0.1  another scale

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Int64Array, RecordBatch};
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, PlanDocument, Session, draw};
use cobble_ferry::{Ferry, load_everything};
use cobble_tests::{Product, for_judge};
use tokio_util::sync::CancellationToken;

const ROUNDS: usize = 3;

const QUESTIONS: &[(&str, &str)] = &[
    ("count all", "SELECT count(*) FROM drop.public.boardings"),
    ("sum of one column", "SELECT sum(fare) FROM drop.public.boardings"),
    (
        "one day",
        "SELECT count(*), sum(fare) FROM drop.public.boardings WHERE scanned_at >= '2025-07-14' AND scanned_at < '2025-07-15'",
    ),
    (
        "few groups",
        "SELECT channel, seat_class, count(*), sum(fare), avg(fare) FROM drop.public.boardings GROUP BY channel, seat_class",
    ),
    (
        "many groups",
        "SELECT holder_id, count(*), sum(fare) FROM drop.public.boardings WHERE holder_id IS NOT NULL GROUP BY holder_id ORDER BY 2 DESC, 1 LIMIT 10",
    ),
    ("distinct", "SELECT count(DISTINCT sailing_id) FROM drop.public.boardings"),
    (
        "join with the database",
        "SELECT r.name, count(*), sum(b.fare) FROM drop.public.boardings b JOIN fleet.public.routes r ON r.id = b.route_id WHERE r.active GROUP BY r.name",
    ),
    (
        "three-way join",
        "SELECT v.name, count(*), sum(b.fare) FROM drop.public.boardings b JOIN drop.public.sailings s ON s.id = b.sailing_id JOIN fleet.public.vessels v ON v.id = s.vessel_id WHERE s.delay_minutes > 10 GROUP BY v.name",
    ),
    (
        "semi join",
        "SELECT count(*) FROM fleet.public.pass_holders h WHERE h.id IN (SELECT holder_id FROM drop.public.boardings WHERE seat_class = 'lounge')",
    ),
    (
        "top-n",
        "SELECT id, fare, scanned_at FROM drop.public.boardings WHERE channel = 'kiosk' ORDER BY fare DESC, id LIMIT 20",
    ),
];

#[tokio::main]
async fn main() {
    let scale: f64 = std::env::args().nth(1).map_or(1.0, |s| s.parse().expect("the scale is a number"));
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/tmp/bench");
    std::fs::create_dir_all(&folder).expect("a folder");
    let folder = folder.canonicalize().expect("it exists");
    println!("loading scale {scale} …");
    let product = Product::start(&folder, scale);
    let judge = load_judge(&product, scale, &folder).await;
    let mut session = in_process(&product);
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    judge.batch_execute(&format!("SET max_parallel_workers_per_gather = {cores}; SET jit = off")).await.expect("set");

    println!("\n{:<24} {:>10} {:>10} {:>7} {:>10} {:>10}", "question", "ours", "postgres", "ratio", "read", "memory");
    let (mut total_ours, mut total_theirs) = (Duration::ZERO, Duration::ZERO);
    for (name, sql) in QUESTIONS {
        let theirs_sql = for_judge(sql);
        let (mut ours, mut theirs, mut plan) = (Duration::MAX, Duration::MAX, None);
        for _ in 0..ROUNDS {
            let (time, measured) = run(&mut session, sql).await;
            if time < ours {
                (ours, plan) = (time, Some(measured));
            }
            let began = Instant::now();
            judge.simple_query(&theirs_sql).await.unwrap_or_else(|e| panic!("{theirs_sql}: {e}"));
            theirs = theirs.min(began.elapsed());
        }
        let plan = plan.expect("it has run");
        let read: u64 = plan.gates.iter().filter_map(|g| g.measure.as_ref()).map(|m| m.bytes).sum();
        let memory = plan.measures.map_or(0, |m| m.memory);
        line(name, ours, theirs, &draw::bytes(read as f64), &draw::bytes(memory as f64));
        total_ours += ours;
        total_theirs += theirs;
    }
    line("total", total_ours, total_theirs, "", "");
    one_column(&mut session).await;
    wide(&folder).await;
    product.stop();
}

fn line(name: &str, ours: Duration, theirs: Duration, read: &str, memory: &str) {
    let ratio = theirs.as_secs_f64() / ours.as_secs_f64();
    let time = |d: Duration| draw::seconds(d.as_secs_f64());
    println!("{name:<24} {:>10} {:>10} {:>6.1}x {read:>10} {memory:>10}", time(ours), time(theirs), ratio);
}

/// The judge's database, loaded once for a scale.
async fn load_judge(product: &Product, scale: f64, folder: &Path) -> tokio_postgres::Client {
    let mark = folder.join(format!("judge-{scale}"));
    if !mark.exists() {
        let admin = product.database("postgres").await;
        admin.batch_execute("DROP DATABASE IF EXISTS judge WITH (FORCE)").await.expect("dropped");
        admin.batch_execute("CREATE DATABASE judge").await.expect("created");
        let began = Instant::now();
        load_everything(&product.database("judge").await, Ferry::new(scale), false).await.expect("loaded");
        println!("PostgreSQL loaded and indexed in {}", draw::seconds(began.elapsed().as_secs_f64()));
        std::fs::write(mark, "").expect("marked");
    }
    product.database("judge").await
}

/// The engine as a library over the same sources, so that neither side's time has HTTP in it.
fn in_process(product: &Product) -> Session {
    let engine = Engine::in_memory().expect("an engine");
    let secret = std::fs::read_to_string(product.folder.join("reader.secret")).expect("a secret");
    let fleet = ConnectionDefinition {
        name: "fleet_db".into(),
        kind: "postgres".into(),
        address: format!("127.0.0.1:{}", product.postgres_port),
        database: Some("fleet".into()),
        user: Some("reader".into()),
        secret: Some(cobble_engine::Secret::new(secret.trim())),
        region: None,
        options: Default::default(),
    };
    engine.add_connection(fleet).expect("added");
    engine.add_connection(files("drop_files", &product.folder.join("drop"))).expect("added");
    for (name, connection) in [("fleet", "fleet_db"), ("drop", "drop_files")] {
        engine.add_catalog(CatalogDefinition { name: name.into(), connection: connection.into() }).expect("added");
    }
    engine.session()
}

fn files(name: &str, folder: &Path) -> ConnectionDefinition {
    ConnectionDefinition::new(name, "files", folder.display().to_string())
}

async fn run(session: &mut Session, sql: &str) -> (Duration, PlanDocument) {
    let began = Instant::now();
    let mut execution = session.run_text(sql, &CancellationToken::new()).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    while execution.next().await.unwrap_or_else(|e| panic!("{sql}: {e}")).is_some() {}
    (began.elapsed(), execution.plan().expect("a query has a plan"))
}

/// Bytes that this process has asked the file system for (`rchar` in proc(5)).
fn bytes_asked_for() -> u64 {
    let text = std::fs::read_to_string("/proc/self/io").unwrap_or_default();
    text.lines().find_map(|l| l.strip_prefix("rchar: ")?.parse().ok()).unwrap_or(0)
}

/// What the measures say of reading one column, beside what the file system says.
async fn one_column(session: &mut Session) {
    let before = bytes_asked_for();
    let (_, plan) = run(session, "SELECT sum(fare) FROM drop.public.boardings").await;
    let asked = bytes_asked_for() - before;
    let gate = &plan.gates[0];
    let said = gate.measure.as_ref().map_or(0, |m| m.bytes);
    println!(
        "\nOne column of boardings: the gate says {} read; this process asked the file system for {}; the table is {} on disk",
        draw::bytes(said as f64),
        draw::bytes(asked as f64),
        draw::bytes(folder_bytes(&session_folder()) as f64)
    );
}

fn session_folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/tmp/bench/drop/boardings")
}

fn folder_bytes(folder: &Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|e| if e.path().is_dir() { folder_bytes(&e.path()) } else { e.metadata().map_or(0, |m| m.len()) }).sum()
}

/// A filtered count on one of 110 columns of a million rows, with and without what makes it cheap.
async fn wide(folder: &Path) {
    let place = folder.join("wide");
    write_wide(&place);
    let engine = Engine::in_memory().expect("an engine");
    engine.add_connection(files("wide_files", &place)).expect("added");
    engine.add_catalog(CatalogDefinition { name: "wide".into(), connection: "wide_files".into() }).expect("added");
    let mut session = engine.session();
    let sql = "SELECT count(*) FROM wide.public.readings WHERE c7 = 1234567";
    let (mut with, mut without) = (Duration::MAX, Duration::MAX);
    for _ in 0..ROUNDS {
        session.set("planner.off", "").expect("set");
        with = with.min(run(&mut session, sql).await.0);
        session.set("planner.off", "push-filters,prune-columns").expect("set");
        without = without.min(run(&mut session, sql).await.0);
    }
    println!(
        "\nA filtered count on one of 110 columns, a million rows: {} with push-filters and prune-columns, {} without: {:.0} times faster",
        draw::seconds(with.as_secs_f64()),
        draw::seconds(without.as_secs_f64()),
        without.as_secs_f64() / with.as_secs_f64()
    );
}

fn write_wide(place: &PathBuf) {
    let path = place.join("readings.parquet");
    if path.exists() {
        return;
    }
    std::fs::create_dir_all(place).expect("a folder");
    let column = |c: i64, from: i64, rows: i64| -> ArrayRef {
        Arc::new(Int64Array::from_iter_values((from..from + rows).map(|r| (r * (c + 3) * 7919) % 2_000_003)))
    };
    let batch = |from: i64| {
        RecordBatch::try_from_iter((0..110).map(|c| (format!("c{c}"), column(c, from, 50_000))))
            .expect("columns of one length")
    };
    let building = path.with_extension("building");
    let file = std::fs::File::create(&building).expect("created");
    let mut writer = parquet::arrow::ArrowWriter::try_new(file, batch(0).schema(), None).expect("a writer");
    for from in (0..1_000_000).step_by(50_000) {
        writer.write(&batch(from)).expect("written");
    }
    writer.close().expect("closed");
    std::fs::rename(building, path).expect("moved");
}
