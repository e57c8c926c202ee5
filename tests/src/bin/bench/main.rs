//! `make bench`: thirty questions over Parquet files at scale 1, ours beside PostgreSQL with the same tables, indexed and
//! analysed, with as many parallel workers as there are cores, and beside the floor (see `floor.rs`), in one run; then all of
//! them again in little memory and on one core, with the same answers. Prints ratios, bytes read and memory. Each time is the
//! best of three. Also measures what pruning gains on a wide file, and how long lake tables with millions of files are planned, what a lake costs beside
//! the same files in a folder, and how fast rows come into one.
//!
//! Two more sets are asked of single files that another writer left and nobody has analysed: the freight desk's wide tables, and questions with many
//! small ones.
//!
//!     make bench                      scale 1
//!     make bench BENCH=0.1            another scale
//!     make bench BENCH="10 ours"      without PostgreSQL
//!     make bench BENCH="1 freight"    one part alone: thirty, freight, small or lakes; several may be named

mod floor;
mod freight;
mod lakes;
mod many_tables;
mod others_files;
mod planning;
mod questions;
mod sets;
mod small;
mod source_path;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Int64Array, RecordBatch};
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, PlanDocument, Session, draw};
use cobble_ferry::Ferry;
use cobble_ferry_load::load_everything;
use cobble_tests::{Product, judged, plain};
use questions::QUESTIONS;
use sets::{Line, Outcome, Set};
use tokio_util::sync::CancellationToken;

/// As the service has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROUNDS: usize = 3;

const PARTS: &[&str] = &["thirty", "freight", "small", "lakes"];

/// The scale at which no table of the third set has more than sixty thousand rows.
const SMALL: f64 = 0.01;

#[tokio::main]
async fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let scale: f64 = arguments.iter().find_map(|a| a.parse().ok()).unwrap_or(1.0);
    let alone = arguments.iter().any(|a| a == "ours");
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/tmp/bench").join(scale.to_string());
    std::fs::create_dir_all(&folder).expect("a folder");
    let folder = folder.canonicalize().expect("it exists");
    println!("loading scale {scale} …");
    let product = Product::start(&folder, scale);
    let (drop, dims) = (folder.join("drop"), folder.join("dims"));
    write_dims(&dims, Ferry::new(scale));
    let named: Vec<&str> = arguments.iter().map(String::as_str).filter(|a| PARTS.contains(a)).collect();
    let wanted = |part: &str| named.is_empty() || named.contains(&part);
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let mut outcomes = Vec::new();
    if wanted("thirty") {
        let mut session = in_process(&[("drop", &drop), ("dims", &dims)]);
        let judge = if alone { None } else { Some(load_judge(&product, scale, &folder, cores).await) };
        let folders = [("drop", drop.clone()), ("dims", dims.clone())];
        let set = Set { questions: QUESTIONS, judge: judge.as_ref(), cores, folders: &folders };
        let found = set.measure(&mut session).await;
        under_settings(&mut session, scale, &found).await;
        outcomes.push(found);
        over_http(&product).await;
        println!("most memory of this process: {}", draw::bytes(peak_memory() as f64));
        if let Some(judge) = &judge {
            source_path::measure(&product, judge).await;
            many_tables::measure(&product).await;
            one_column(&mut session, &drop).await;
            wide(&folder).await;
        }
    }
    let others = [
        ("freight", freight::QUESTIONS, &[others_files::FREIGHT][..], scale),
        ("small", small::QUESTIONS, &[others_files::FREIGHT, others_files::FERRY][..], SMALL),
    ];
    for (name, questions, tables, scale) in others.into_iter().filter(|(name, ..)| wanted(name)) {
        let (place, ferry) = (folder.join(name), Ferry::new(scale));
        others_files::write(&place, tables, ferry);
        let judge = match alone {
            true => None,
            false => Some(as_fast(others_files::judge(&product, name, &place, tables, ferry).await, cores).await),
        };
        let mut session = in_process(&[(name, &place)]);
        session.use_place(name, Some("public")).expect("it is there");
        let set = Set { questions, judge: judge.as_ref(), cores, folders: &[(name, place)] };
        outcomes.push(set.measure(&mut session).await);
    }
    if outcomes.len() > 1 {
        let mut total = Line { name: "total of all sets".to_owned(), ..Line::default() };
        outcomes.iter().for_each(|found| total.add(&found.total));
        println!();
        total.print();
        sets::print_errors(outcomes.iter().flat_map(|found| &found.joins));
    }
    if wanted("lakes") {
        lakes::measure(&folder, &drop, scale).await;
        planning::measure(&folder).await;
    }
    product.stop();
}

/// The same questions again, with plans that travel, in little memory, and on one core.
async fn under_settings(session: &mut Session, scale: f64, first: &Outcome) {
    // What one group keeps, such as its distinct values, does not go to disk.
    let little = match scale {
        large if large > 5.0 => "1GB",
        middle if middle > 0.5 => "256MB",
        _ => "64MB",
    };
    for (setting, value) in [("planner.serial", "on"), ("run.memory", little), ("run.tasks", "1")] {
        session.set(setting, value).expect("set");
        let mut sum = Duration::ZERO;
        let mut spilled = 0;
        for (name, sql) in QUESTIONS {
            let mut best = Duration::MAX;
            for _ in 0..ROUNDS {
                let (time, plan, rows) = run(session, sql).await;
                best = best.min(time);
                spilled += plan.steps.iter().filter_map(|s| s.measure.as_ref()).map(|m| m.spilled).sum::<u64>();
                let known = first.answers.iter().find(|(known, _)| known == name).expect("asked before");
                compare(name, &format!("{setting} = {value}"), &known.1, rows);
            }
            sum += best;
        }
        println!(
            "\nwith {setting} = '{value}': the same answers in {}, {:.2} times the total above; {} went to disk",
            draw::seconds(sum.as_secs_f64()),
            sum.as_secs_f64() / first.total.ours.as_secs_f64(),
            draw::bytes(spilled as f64)
        );
        let before = match setting {
            "run.memory" => "2GB",
            "planner.serial" => "off",
            _ => "auto",
        };
        session.set(setting, before).expect("set");
    }
}

/// 200 clients for a minute: every answer has to come.
async fn over_http(product: &Product) {
    let middle = |mut times: Vec<Duration>| {
        times.sort();
        times.get(times.len() / 2).copied().unwrap_or_default().as_secs_f64()
    };
    let alone = cobble_tests::clients::clients(product, 1, |round| round < 2_000).await;
    let (one, two) = (middle(alone.one_trip), middle(alone.two_trips));
    let client = product.database("postgres").await;
    let mut plain = Vec::new();
    for round in 0..500 {
        let began = Instant::now();
        let sql = format!("SELECT {round}, count(*), sum(n) FROM generate_series(1, 1) AS s(n)");
        judged(&client, &sql).await.expect("the judge answers");
        plain.push(began.elapsed());
    }
    let began = Instant::now();
    let seen = cobble_tests::clients::clients(product, 200, move |_| began.elapsed() < Duration::from_secs(60)).await;
    println!(
        "\nover HTTP, one client: half of the small runs within {} in one round trip, {} in two; PostgreSQL over its wire {}",
        draw::seconds(one),
        draw::seconds(two),
        draw::seconds(middle(plain))
    );
    println!(
        "over HTTP, 200 clients for a minute: {} answers, {} lost or wrong",
        draw::count(seen.answers as f64),
        draw::count(seen.wrong.len() as f64)
    );
    seen.wrong.iter().take(3).for_each(|wrong| println!("  {wrong}"));
}

fn compare(name: &str, with: &str, ours: &[String], mut theirs: Vec<String>) {
    let mut ours = ours.to_vec();
    ours.sort();
    theirs.sort();
    let differing = ours.iter().zip(&theirs).find(|(a, b)| a != b);
    if ours.len() != theirs.len() || differing.is_some() {
        println!("DIFFERS: {name}, {with}: {} and {} rows, such as {differing:?}", ours.len(), theirs.len());
    }
}

/// Most memory that this process has held (`VmHWM` in proc(5)), in bytes.
fn peak_memory() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:"));
    line.and_then(|l| l.trim().trim_end_matches(" kB").parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// The fleet's tables as Parquet files.
fn write_dims(folder: &Path, ferry: Ferry) {
    std::fs::create_dir_all(folder).expect("a folder");
    let tables = [
        ("ports", ferry.ports()),
        ("routes", ferry.routes()),
        ("vessels", ferry.vessels()),
        ("pass_holders", ferry.pass_holders(0..ferry.pass_holder_count())),
    ];
    for (name, batch) in tables {
        write_parquet(&folder.join(format!("{name}.parquet")), std::iter::once(batch));
    }
}

fn write_parquet(path: &Path, batches: impl Iterator<Item = RecordBatch>) {
    let mut batches = batches.peekable();
    if path.exists() {
        return;
    }
    let schema = batches.peek().expect("there are rows").schema();
    let building = path.with_extension("building");
    let file = std::fs::File::create(&building).expect("created");
    let mut writer = parquet::arrow::ArrowWriter::try_new(file, schema, None).expect("a writer");
    for batch in batches {
        writer.write(&batch).expect("written");
    }
    writer.close().expect("closed");
    std::fs::rename(building, path).expect("moved");
}

/// The judge's database, loaded once for a scale.
async fn load_judge(product: &Product, scale: f64, folder: &Path, workers: usize) -> tokio_postgres::Client {
    let mark = folder.join("judge");
    if !mark.exists() {
        let admin = product.database("postgres").await;
        admin.batch_execute("DROP DATABASE IF EXISTS judge WITH (FORCE)").await.expect("dropped");
        admin.batch_execute("CREATE DATABASE judge").await.expect("created");
        let began = Instant::now();
        load_everything(&product.database("judge").await, Ferry::new(scale), false).await.expect("loaded");
        println!("PostgreSQL loaded and indexed in {}", draw::seconds(began.elapsed().as_secs_f64()));
        std::fs::write(mark, "").expect("marked");
    }
    as_fast(product.database("judge").await, workers).await
}

/// Sets the judge's session to use all cores.
async fn as_fast(client: tokio_postgres::Client, workers: usize) -> tokio_postgres::Client {
    client
        .batch_execute(&format!("SET max_parallel_workers_per_gather = {workers}; SET jit = off"))
        .await
        .expect("set");
    client
}

/// The engine as a library over folders of files, so that neither side's time has HTTP in it.
fn in_process(folders: &[(&str, &Path)]) -> Session {
    let engine = Engine::in_memory().expect("an engine");
    for (name, folder) in folders {
        let connection = format!("{name}_files");
        engine.add_connection(files(&connection, folder)).expect("added");
        engine.add_catalog(CatalogDefinition::new(*name, connection)).expect("added");
    }
    engine.session()
}

fn files(name: &str, folder: &Path) -> ConnectionDefinition {
    ConnectionDefinition::new(name, "files", folder.display().to_string())
}

/// Time, plan with measures, and the rows as text.
async fn run(session: &mut Session, sql: &str) -> (Duration, PlanDocument, Vec<String>) {
    let began = Instant::now();
    let mut execution = session.run_text(sql, &CancellationToken::new()).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    let mut batches = Vec::new();
    while let Some(batch) = execution.next().await.unwrap_or_else(|e| panic!("{sql}: {e}")) {
        batches.push(batch);
    }
    let time = began.elapsed();
    let mut rows = Vec::new();
    for batch in &batches {
        for row in 0..batch.num_rows() {
            let values = batch.columns().iter().map(|c| cobble_types::array_value_text(c.as_ref(), row));
            rows.push(values.map(|v| v.map_or("∅".to_owned(), |v| plain(&v))).collect::<Vec<_>>().join("|"));
        }
    }
    (time, execution.plan().expect("a query has a plan"), rows)
}

/// Bytes that this process has asked the file system for (`rchar` in proc(5)).
fn bytes_asked_for() -> u64 {
    let text = std::fs::read_to_string("/proc/self/io").unwrap_or_default();
    text.lines().find_map(|l| l.strip_prefix("rchar: ")?.parse().ok()).unwrap_or(0)
}

/// What the measures say of reading one column, beside what the file system says.
async fn one_column(session: &mut Session, drop: &Path) {
    let before = bytes_asked_for();
    let (_, plan, _) = run(session, "SELECT sum(fare) FROM drop.public.boardings").await;
    let asked = bytes_asked_for() - before;
    let gate = &plan.gates[0];
    let said = gate.measure.as_ref().map_or(0, |m| m.bytes);
    println!(
        "\nOne column of boardings: the gate says {} read; this process asked the file system for {}; the table is {} on disk",
        draw::bytes(said as f64),
        draw::bytes(asked as f64),
        draw::bytes(folder_bytes(&drop.join("boardings")) as f64)
    );
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
    engine.add_catalog(CatalogDefinition::new("wide", "wide_files")).expect("added");
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
    write_parquet(&path, (0..1_000_000).step_by(50_000).map(batch));
}
