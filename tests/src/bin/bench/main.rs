//! `make bench`: thirty questions over Parquet files at scale 1, ours beside PostgreSQL with the same tables, indexed and
//! analysed, with as many parallel workers as there are cores, and beside the floor (see `floor.rs`), in one run; then all of
//! them again in little memory and on one core, with the same answers. Prints ratios, bytes read and memory. Each time is the
//! best of three. Also measures what pruning gains on a wide file, and how long lake tables with millions of files are planned, what a lake costs beside
//! the same files in a folder, and how fast rows come into one.
//!
//!     make bench                    scale 1
//!     make bench BENCH=0.1          another scale
//!     make bench BENCH="10 ours"    without PostgreSQL
//!     make bench BENCH="1 lakes"    what is about lakes alone

mod floor;
mod lakes;
mod many_tables;
mod planning;
mod questions;
mod source_path;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Int64Array, RecordBatch};
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, PlanDocument, Session, draw};
use cobble_ferry::Ferry;
use cobble_ferry_load::load_everything;
use cobble_tests::{Product, for_judge, judged, plain};
use questions::QUESTIONS;
use tokio_util::sync::CancellationToken;

/// As the service has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROUNDS: usize = 3;

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
    if arguments.iter().any(|a| a == "lakes") {
        lakes::measure(&folder, &drop, scale).await;
        planning::measure(&folder).await;
        return product.stop();
    }
    let mut session = in_process(&drop, &dims);
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let judge = if alone { None } else { Some(load_judge(&product, scale, &folder, cores).await) };

    println!(
        "\n{:<30} {:>9} {:>9} {:>6} {:>9} {:>6} {:>10} {:>10}",
        "question", "ours", "postgres", "ratio", "floor", "over", "read", "memory"
    );
    let mut total = Line { name: "total", ..Line::default() };
    let mut answers = Vec::new();
    for (name, sql) in QUESTIONS {
        let theirs_sql = for_judge(sql);
        let mut line = Line { name, ours: Duration::MAX, ..Line::default() };
        for _ in 0..ROUNDS {
            let (time, plan, rows) = run(&mut session, sql).await;
            if time < line.ours {
                line.ours = time;
                line.read = plan.gates.iter().filter_map(|g| g.measure.as_ref()).map(|m| m.bytes).sum();
                line.memory = plan.measures.as_ref().map_or(0, |m| m.memory);
            }
            let wanted = floor::wanted(&plan, &drop, &dims);
            let floor = floor::decode(&wanted, cores);
            line.floor = Some(line.floor.map_or(floor, |known| known.min(floor)));
            if answers.last().is_none_or(|(known, _): &(&str, Vec<String>)| known != name) {
                answers.push((*name, rows));
            }
        }
        if let Some(judge) = &judge {
            for round in 0..ROUNDS {
                let began = Instant::now();
                let rows = judged(judge, &theirs_sql).await.unwrap_or_else(|e| panic!("{theirs_sql}: {e}"));
                let time = began.elapsed();
                line.theirs = Some(line.theirs.map_or(time, |known| known.min(time)));
                if round == 0 {
                    compare(name, "PostgreSQL", &answers[answers.len() - 1].1, rows);
                }
                // What takes the judge long is not asked again.
                if time > Duration::from_secs(4) {
                    break;
                }
            }
        }
        line.print();
        total.add(&line);
    }
    total.print();

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
                let (time, plan, rows) = run(&mut session, sql).await;
                best = best.min(time);
                spilled += plan.steps.iter().filter_map(|s| s.measure.as_ref()).map(|m| m.spilled).sum::<u64>();
                let known = answers.iter().find(|(known, _)| known == name).expect("asked before");
                compare(name, &format!("{setting} = {value}"), &known.1, rows);
            }
            sum += best;
        }
        println!(
            "\nwith {setting} = '{value}': the same answers in {}, {:.2} times the total above; {} went to disk",
            draw::seconds(sum.as_secs_f64()),
            sum.as_secs_f64() / total.ours.as_secs_f64(),
            draw::bytes(spilled as f64)
        );
        let before = match setting {
            "run.memory" => "2GB",
            "planner.serial" => "off",
            _ => "auto",
        };
        session.set(setting, before).expect("set");
    }
    over_http(&product).await;
    println!("most memory of this process: {}", draw::bytes(peak_memory() as f64));
    if !alone {
        if let Some(judge) = &judge {
            source_path::measure(&product, judge).await;
            many_tables::measure(&product).await;
        }
        one_column(&mut session, &drop).await;
        wide(&folder).await;
    }
    lakes::measure(&folder, &drop, scale).await;
    planning::measure(&folder).await;
    product.stop();
}

/// One line of the table; times are the best of the rounds.
#[derive(Default)]
struct Line {
    name: &'static str,
    ours: Duration,
    theirs: Option<Duration>,
    floor: Option<Duration>,
    read: u64,
    memory: u64,
}

impl Line {
    fn add(&mut self, other: &Line) {
        let sum = |a: Option<Duration>, b: Option<Duration>| Some(a.unwrap_or_default() + b?);
        self.ours += other.ours;
        self.theirs = sum(self.theirs, other.theirs);
        self.floor = sum(self.floor, other.floor);
        self.memory = self.memory.max(other.memory);
        self.read += other.read;
    }

    fn print(&self) {
        let time = |d: Option<Duration>| d.map_or_else(|| "-".to_owned(), |d| draw::seconds(d.as_secs_f64()));
        let ratio = |a: Option<Duration>, b: Option<Duration>| match (a, b) {
            (Some(a), Some(b)) => format!("{:.1}x", a.as_secs_f64() / b.as_secs_f64()),
            _ => "-".to_owned(),
        };
        println!(
            "{:<30} {:>9} {:>9} {:>6} {:>9} {:>6} {:>10} {:>10}",
            self.name,
            time(Some(self.ours)),
            time(self.theirs),
            ratio(self.theirs, Some(self.ours)),
            time(self.floor),
            ratio(Some(self.ours), self.floor),
            draw::bytes(self.read as f64),
            draw::bytes(self.memory as f64)
        );
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
    let client = product.database("judge").await;
    client
        .batch_execute(&format!("SET max_parallel_workers_per_gather = {workers}; SET jit = off"))
        .await
        .expect("set");
    client
}

/// The engine as a library over the files, so that neither side's time has HTTP in it.
fn in_process(drop: &Path, dims: &Path) -> Session {
    let engine = Engine::in_memory().expect("an engine");
    for (name, folder) in [("drop", drop), ("dims", dims)] {
        let connection = format!("{name}_files");
        engine.add_connection(files(&connection, folder)).expect("added");
        engine.add_catalog(CatalogDefinition::new(name, connection)).expect("added");
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
