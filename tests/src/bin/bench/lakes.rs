//! Lake tables beside plain files. The questions over the very same Parquet files, as a folder and as tables of a lake; and rows that are loaded into a new
//! table, beside the parquet crate alone, which writes as many of the same rows with two threads.

use std::path::Path;
use std::time::{Duration, Instant};

use arrow::array::RecordBatch;
use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session, draw};
use cobble_ferry::{Ferry, Month};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::file::properties::WriterProperties;

use super::{QUESTIONS, compare, peak_memory, run};

const ROUNDS: usize = 5;

fn session(root: &Path, drop: &Path, dims: &Path) -> Session {
    let engine = Engine::in_memory().expect("an engine");
    let files = |name: &str, folder: &Path| ConnectionDefinition::new(name, "files", folder.display().to_string());
    let mut lake = ConnectionDefinition::new("lake", "lake", "bench_lake");
    lake.options.extend([("storage".to_owned(), "root".to_owned()), ("writable".to_owned(), "true".to_owned())]);
    let all = [files("drop", drop), files("dims", dims), files("root", root), lake];
    for definition in all.into_iter().chain([ConnectionDefinition::new("tides", "generated", "")]) {
        let name = definition.name.clone();
        engine.add_connection(definition).expect("added");
        engine.add_catalog(CatalogDefinition::new(&name, &name)).expect("added");
    }
    engine.session()
}

/// The folder's tables as tables of the lake, whose files are the same ones.
async fn adopt(session: &mut Session, table: &str) {
    let made = format!(
        "CREATE TABLE lake.public.{table} PARTITION BY (month) AS SELECT * FROM drop.public.{table} WHERE false; \
         CALL lake_add_files('lake.public.{table}', location => 'drop/{table}')"
    );
    run_quietly(session, &made).await;
}

pub async fn measure(folder: &Path, drop: &Path, scale: f64) {
    let _ = std::fs::remove_dir_all(folder.join("bench_lake"));
    let mut session = session(folder, drop, &folder.join("dims"));
    for table in ["boardings", "sailings"] {
        adopt(&mut session, table).await;
    }
    println!("\nThe questions over a lake whose files are those of the folder, best of {ROUNDS}:");
    let (mut plain, mut lake) = (Duration::ZERO, Duration::ZERO);
    for (name, sql) in QUESTIONS {
        let other = sql
            .replace("drop.public.boardings", "lake.public.boardings")
            .replace("drop.public.sailings", "lake.public.sailings");
        if other == *sql {
            continue;
        }
        let mut best = [Duration::MAX; 2];
        let mut answers: [Vec<String>; 2] = Default::default();
        for round in 0..2 * ROUNDS {
            // Each is first as often as the other.
            let which = (round + round / 2) % 2;
            let (time, _, rows) = run(&mut session, [*sql, other.as_str()][which]).await;
            best[which] = best[which].min(time);
            answers[which] = rows;
        }
        let [ours, theirs] = answers;
        compare(name, "as a lake", &ours, theirs);
        let [of_folder, of_lake] = best.map(|time| time.as_secs_f64());
        let (a, b) = (draw::seconds(of_folder), draw::seconds(of_lake));
        println!("{name:<30} {a:>9} {b:>9}  {:.2} times", of_lake / of_folder);
        plain += best[0];
        lake += best[1];
    }
    let (a, b) = (plain.as_secs_f64(), lake.as_secs_f64());
    println!("{:<30} {:>9} {:>9}  {:.2} times", "total", draw::seconds(a), draw::seconds(b), b / a);
    writing(&mut session, folder, scale).await;
    let _ = std::fs::remove_dir_all(folder.join("bench_lake"));
}

/// Some months' rows, as a writer gets them.
fn rows_of(ferry: &Ferry) -> Vec<RecordBatch> {
    let mut all = Vec::new();
    let mut rows = 0;
    for month in Month::all() {
        let count = ferry.boardings_in(month);
        for start in (0..count).step_by(8192) {
            all.push(ferry.boardings(month, start..count.min(start + 8192)));
        }
        rows += count;
        if rows > 1_000_000 {
            break;
        }
    }
    all
}

/// So many of these rows into files, by two threads, with the parquet crate alone.
fn alone(folder: &Path, batches: &[RecordBatch], rows: u64) -> Duration {
    let began = Instant::now();
    std::thread::scope(|scope| {
        for thread in 0..2 {
            scope.spawn(move || {
                let path = folder.join(format!("alone_{thread}.parquet"));
                let file = std::fs::File::create(&path).expect("created");
                let properties = WriterProperties::builder()
                    .set_compression(Compression::SNAPPY)
                    .set_max_row_group_row_count(Some(131_072))
                    .build();
                let mut writer = ArrowWriter::try_new(file, batches[0].schema(), Some(properties)).expect("a writer");
                let mut left = rows / 2;
                for batch in batches.iter().cycle() {
                    let batch = batch.slice(0, batch.num_rows().min(left as usize));
                    writer.write(&batch).expect("written");
                    left -= batch.num_rows() as u64;
                    if left == 0 {
                        break;
                    }
                }
                writer.close().expect("closed");
                let _ = std::fs::remove_file(path);
            });
        }
    });
    began.elapsed()
}

async fn writing(session: &mut Session, folder: &Path, scale: f64) {
    let (schema, ferry) = if scale >= 5.0 { ("sea", Ferry::new(10.0)) } else { ("bay", Ferry::new(1.0)) };
    let batches = rows_of(&ferry);
    let rows = ferry.boarding_count();
    let (mut best, mut floor, mut held) = (Duration::MAX, Duration::MAX, 0);
    for round in 0..3 {
        let sql = format!("CREATE TABLE lake.public.loaded_{round} AS SELECT * FROM tides.{schema}.boardings");
        let (time, plan, _) = run(session, &sql).await;
        best = best.min(time);
        held = held.max(plan.measures.as_ref().map_or(0, |measures| measures.memory));
        run_quietly(session, &format!("DROP TABLE lake.public.loaded_{round}")).await;
        floor = floor.min(alone(folder, &batches, rows));
    }
    println!(
        "\n{} boardings made and loaded into a lake in {}; as many written by the parquet crate alone with two threads in {}: \
         {:.0} % of its speed; {} held at most, {} by the process",
        draw::count(rows as f64),
        draw::seconds(best.as_secs_f64()),
        draw::seconds(floor.as_secs_f64()),
        floor.as_secs_f64() / best.as_secs_f64() * 100.0,
        draw::bytes(held as f64),
        draw::bytes(peak_memory() as f64)
    );
}

async fn run_quietly(session: &mut Session, sql: &str) {
    let cancel = tokio_util::sync::CancellationToken::new();
    let mut execution = session.run_text(sql, &cancel).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
    while execution.next().await.unwrap_or_else(|e| panic!("{sql}: {e}")).is_some() {}
}
