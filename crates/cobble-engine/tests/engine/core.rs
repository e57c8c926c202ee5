//! The engine as a library, with no service and no interface: the language, plans and gates over files, errors, bounds.

use std::path::PathBuf;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session, draw};
use cobble_ferry::Ferry;
use cobble_ferry_load::write_drop;
use cobble_types::{Code, Error, array_value_text};
use tokio_util::sync::CancellationToken;

/// The folder `drop` at a small scale, written once for all tests.
fn drop_folder() -> &'static PathBuf {
    static FOLDER: OnceLock<PathBuf> = OnceLock::new();
    FOLDER.get_or_init(|| {
        let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("core-drop");
        write_drop(Ferry::new(0.01), &folder).unwrap();
        folder
    })
}

fn files(name: &str, address: &std::path::Path) -> ConnectionDefinition {
    ConnectionDefinition::new(name, "files", address.display().to_string())
}

fn session() -> Session {
    session_on(drop_folder())
}

fn session_on(folder: &std::path::Path) -> Session {
    let engine: Arc<Engine> = Engine::in_memory().unwrap();
    engine.add_connection(files("drop_files", folder)).unwrap();
    engine.add_catalog(CatalogDefinition::new("drop", "drop_files")).unwrap();
    let mut session = engine.session();
    session.use_place("drop", None).unwrap();
    session
}

pub async fn rows(session: &mut Session, sql: &str) -> Result<Vec<String>, Error> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut all = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let values: Vec<String> =
                batch.columns().iter().map(|c| array_value_text(c.as_ref(), row).unwrap_or("null".into())).collect();
            all.push(values.join("|"));
        }
    }
    Ok(all)
}

#[tokio::test]
async fn expressions_mean_what_they_mean_in_postgresql() {
    let mut session = session();
    for (sql, expected) in [
        ("7 / 2", "3"),
        ("-7 / 2", "-3"),
        ("-7 % 3", "-1"),
        ("7.0 / 2", "3.5000000000000000"),
        ("1.10 + 2.2", "3.30"),
        ("1.5 * 1.5", "2.25"),
        ("round(2.5), round(-2.5), round(2.345, 2)", "3|-3|2.35"),
        ("round(2.5::double precision)", "2"),
        ("2.5::integer, 3.5::double precision::integer", "3|4"),
        (
            "2 in (n, 3, n + 1), 2 in (n, null), 2 not in (n, 3), null in (n, 3) from (values (1), (2), (4)) v (n) limit 1",
            "true|null|true|null",
        ),
        (
            "count(*) filter (where 2 in (n, 3, n + 1)), count(*) filter (where 4 not in (n, 5)) from (values (1), (2), (4)) v (n)",
            "2|2",
        ),
        ("null and false, null or true, not null", "false|true|null"),
        ("null = null, null is null, 1 is distinct from null", "null|true|true"),
        ("1 in (2, null), 1 in (1, null), 1 not in (2, null)", "null|true|null"),
        ("case when 1 = 0 then 1 / 0 else 5 end", "5"),
        ("coalesce(null, 2, 1 / 0), nullif(3, 3)", "2|null"),
        ("'Brent' || ' ' || 7, concat('a', null, 1)", "Brent 7|a1"),
        ("'50%' like '50\\%', 'Quay' ilike 'q_AY', 'x' not like 'y%'", "true|true|true"),
        ("upper('île'), length('île'), substring('harbour' from 2 for 3)", "ÎLE|3|arb"),
        ("split_part('a-b-c', '-', 2), position('b' in 'abc'), trim('  x ')", "b|2|x"),
        ("date '2025-01-31' + 1, date '2025-03-01' - date '2025-02-01'", "2025-02-01|28"),
        ("timestamp '2025-01-31 10:00' + interval '1 month'", "2025-02-28 10:00:00"),
        ("timestamp '2025-07-02 10:00' - timestamp '2025-07-01 09:30'", "1 day 00:30:00"),
        ("extract(dow from date '2025-06-22'), extract(second from timestamp '2025-01-01 00:00:01.5')", "0|1.500000"),
        ("date_trunc('quarter', timestamp '2025-08-09 11:12:13')", "2025-07-01 00:00:00"),
        ("greatest(1, null, 3), least('b', 'a')", "3|a"),
        ("cast('12' as smallint) + 1, '2025-07-01'::date > '2025-06-30'", "13|true"),
        ("3 between 1 and 3, 3 not between 4 and 5", "true|true"),
        ("0.1 + 0.2 = 0.3, 1e2, 12345678901", "true|100|12345678901"),
        ("abs(-3), sign(-2.5), ceil(1.2), floor(-1.2)", "3|-1|2|-2"),
    ] {
        let got = rows(&mut session, &format!("SELECT {sql}")).await.unwrap_or_else(|e| vec![format!("error: {e}")]);
        assert_eq!(got, [expected], "SELECT {sql}");
    }
}

#[tokio::test]
async fn queries_over_constants_cover_the_clauses() {
    let mut session = session();
    let crew = "WITH crew(id, name, boat, pay) AS (VALUES (1, 'Ada', 10, 5.5), (2, 'Bram', 10, 7.0), (3, 'Cleo', 20, null), (4, 'Dag', null, 6.0)), \
                boats(id, name) AS (VALUES (10, 'Lark'), (20, 'Heron'), (30, 'Spindrift'))";
    for (sql, expected) in [
        ("SELECT name FROM crew WHERE pay > 5.6 ORDER BY pay DESC", vec!["Bram", "Dag"]),
        ("SELECT name, pay FROM crew ORDER BY pay", vec!["Ada|5.5", "Dag|6.0", "Bram|7.0", "Cleo|null"]),
        ("SELECT name FROM crew ORDER BY pay DESC NULLS LAST LIMIT 2 OFFSET 1", vec!["Dag", "Ada"]),
        (
            "SELECT c.name, b.name FROM crew c JOIN boats b ON b.id = c.boat ORDER BY 1",
            vec!["Ada|Lark", "Bram|Lark", "Cleo|Heron"],
        ),
        (
            "SELECT c.name, b.name FROM crew c LEFT JOIN boats b ON b.id = c.boat ORDER BY 1",
            vec!["Ada|Lark", "Bram|Lark", "Cleo|Heron", "Dag|null"],
        ),
        (
            "SELECT b.name, c.name FROM crew c RIGHT JOIN boats b ON b.id = c.boat WHERE c.id IS NULL",
            vec!["Spindrift|null"],
        ),
        ("SELECT count(*) FROM crew c FULL JOIN boats b ON b.id = c.boat", vec!["5"]),
        ("SELECT count(*) FROM crew, boats", vec!["12"]),
        ("SELECT name FROM boats WHERE id IN (SELECT boat FROM crew) ORDER BY name", vec!["Heron", "Lark"]),
        ("SELECT name FROM boats WHERE id NOT IN (SELECT boat FROM crew)", vec![]),
        ("SELECT name FROM boats WHERE id NOT IN (SELECT boat FROM crew WHERE boat IS NOT NULL)", vec!["Spindrift"]),
        ("SELECT name FROM boats b WHERE NOT EXISTS (SELECT 1 FROM crew c WHERE c.boat = b.id)", vec!["Spindrift"]),
        (
            "SELECT name FROM boats b WHERE EXISTS (SELECT 1 FROM crew c WHERE c.boat = b.id AND c.pay > 6)",
            vec!["Lark"],
        ),
        ("SELECT name FROM crew WHERE pay = (SELECT max(pay) FROM crew)", vec!["Bram"]),
        (
            "SELECT boat, count(*), count(pay), sum(pay), avg(pay), min(name), max(pay) FROM crew GROUP BY boat ORDER BY boat",
            vec![
                "10|2|2|12.5|6.2500000000000000|Ada|7.0",
                "20|1|0|null|null|Cleo|null",
                "null|1|1|6.0|6.0000000000000000|Dag|6.0",
            ],
        ),
        ("SELECT count(DISTINCT boat), count(*) FILTER (WHERE pay > 6) FROM crew", vec!["2|1"]),
        ("SELECT boat FROM crew GROUP BY boat HAVING count(*) > 1", vec!["10"]),
        ("SELECT DISTINCT boat IS NULL AS ashore FROM crew ORDER BY ashore", vec!["false", "true"]),
        ("SELECT sum(pay), count(*) FROM crew WHERE false", vec!["null|0"]),
        ("SELECT name FROM crew UNION ALL SELECT name FROM boats ORDER BY name LIMIT 2", vec!["Ada", "Bram"]),
        ("SELECT boat FROM crew WHERE boat IS NOT NULL UNION SELECT id FROM boats ORDER BY 1", vec!["10", "20", "30"]),
        ("SELECT x.n FROM (SELECT name AS n FROM crew WHERE boat = 10) x ORDER BY n DESC", vec!["Bram", "Ada"]),
        (
            "SELECT name, boat FROM crew JOIN (SELECT id AS boat FROM boats) b USING (boat) ORDER BY name",
            vec!["Ada|10", "Bram|10", "Cleo|20"],
        ),
        (
            "SELECT a.name, b.name FROM crew a JOIN crew b ON a.pay < b.pay ORDER BY 1, 2",
            vec!["Ada|Bram", "Ada|Dag", "Dag|Bram"],
        ),
    ] {
        let got = rows(&mut session, &format!("{crew} {sql}")).await.unwrap_or_else(|e| vec![format!("error: {e}")]);
        assert_eq!(got, expected, "{sql}");
    }
}

#[tokio::test]
async fn files_of_every_format_give_their_rows() {
    let mut session = session();
    let ferry = Ferry::new(0.01);
    let all: u64 = cobble_ferry::Month::all().into_iter().map(|m| ferry.boardings_in(m)).sum();
    for (sql, expected) in [
        ("SELECT count(*) FROM boardings", all.to_string()),
        ("SELECT count(*) FROM tariffs", "720".to_owned()),
        ("SELECT count(*), count(vessel_id) < count(*) FROM incidents", "400|true".to_owned()),
        ("SELECT tags[1], (wave).height_m > 0 FROM buoys WHERE cardinality(tags) = 1 LIMIT 1", "calm|true".to_owned()),
        ("SELECT min(month), max(month) FROM sailings", "2023-01|2025-12".to_owned()),
    ] {
        assert_eq!(rows(&mut session, sql).await.unwrap(), [expected], "{sql}");
    }
}

/// Bytes and times differ from machine to machine and run to run; what was decided does not.
fn plan_settings() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(r"[\d.]+ (µs|ms|s)\b", "[time]");
    settings.add_filter(r"[\d.]+ (B|KiB|MiB)\b", "[size]");
    // Where a line breaks depends on the length of the folder's path.
    for _line in 0..4 {
        settings.add_filter(r"(\n  request   [^\n]*)\n {12}", "$1 ");
    }
    settings.add_filter(r"below \S+core-drop", "below [drop]");
    settings.add_filter(r"[^\s,]*core-drop", "[drop]");
    settings
}

const EARNINGS: &str = "SELECT t.seat_class, count(*) AS n, sum(b.fare) FROM boardings b JOIN tariffs t \
    ON t.route_id = b.route_id AND t.seat_class = b.seat_class \
    WHERE b.month = '2025-07' AND b.scanned_at < '2025-07-02' AND t.valid_from = '2025-01-01' \
    GROUP BY t.seat_class ORDER BY n DESC LIMIT 2";

#[tokio::test]
async fn a_plan_shows_lanes_gates_and_joins() {
    let mut session = session();
    let plan = session.plan_text(EARNINGS).await.unwrap();
    plan_settings().bind(|| insta::assert_snapshot!("plan", draw::tree(&plan)));
    plan_settings().bind(|| insta::assert_snapshot!("rewrites", draw::rewrites(&plan)));
}

#[tokio::test]
async fn switched_off_rewrites_change_the_gates_and_not_the_answer() {
    let mut session = session();
    let with = rows(&mut session, EARNINGS).await.unwrap();
    let pruned = session.plan_text(EARNINGS).await.unwrap();
    session.set("planner.off", "push-filters,prune-columns").unwrap();
    let without = rows(&mut session, EARNINGS).await.unwrap();
    let whole = session.plan_text(EARNINGS).await.unwrap();
    assert_eq!(with, without);
    let parts = |plan: &cobble_engine::PlanDocument| plan.gates[0].parts[0].read;
    assert_eq!((parts(&pruned), parts(&whole)), (1, 36));
    assert!(pruned.gates[0].columns_read.len() < whole.gates[0].columns_read.len());
    assert!(whole.rewrites.iter().any(|r| r.rewrite == "push-filters" && r.switched_off));
}

#[tokio::test]
async fn what_a_gate_says_is_what_was_read() {
    let mut session = session();
    let cancel = CancellationToken::new();
    let mut read = async |sql: &str| {
        let mut execution = session.run_text(sql, &cancel).await.unwrap();
        execution.collect().await.unwrap();
        execution.plan().unwrap().gates.remove(0)
    };
    let one = read("SELECT sum(fare) FROM boardings").await;
    let all = read("SELECT * FROM boardings").await;
    let size: u64 = walk(&drop_folder().join("boardings"));
    let (one_bytes, all_bytes) = (one.measure.clone().unwrap().bytes, all.measure.unwrap().bytes);
    assert_eq!(one.columns_read, ["fare"]);
    assert_eq!(Some(one_bytes as f64), one.estimated_bytes, "the column's chunks and nothing else");
    assert!(one_bytes * 5 < all_bytes && all_bytes <= size, "{one_bytes} of {all_bytes}, {size} on disk");
    let day =
        read("SELECT count(*) FROM boardings WHERE scanned_at >= '2025-07-14' AND scanned_at < '2025-07-15'").await;
    assert_eq!((day.parts[1].read, day.parts[1].total), (1, 36));
    let measure = day.measure.unwrap();
    let left_out = measure.rows_dropped + measure.rows_skipped;
    assert!(measure.rows > 0 && left_out > 10 * measure.rows, "rows outside that day never leave the gate");
}

fn walk(folder: &std::path::Path) -> u64 {
    std::fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap())
        .map(|e| if e.path().is_dir() { walk(&e.path()) } else { e.metadata().unwrap().len() })
        .sum()
}

#[tokio::test]
async fn mistakes_are_explained_with_their_place() {
    let mut session = session();
    let mut shown = String::new();
    for sql in [
        "SELECT rout_id FROM boardings",
        "SELECT b.farre\nFROM boardings b",
        "SELECT x.fare FROM boardings b",
        "SELECT * FROM bordings",
        "SELECT * FROM nowhere.public.boardings",
        "SELECT * FROM drop.pubic.boardings",
        "SELECT * FROM drop.boardings",
        "SELECT id FROM boardings b JOIN sailings s ON s.id = b.sailing_id",
        "SELECT channel, count(*) FROM boardings",
        "SELECT count(*) FROM boardings WHERE sum(fare) > 1",
        "SELECT fare + channel FROM boardings",
        "SELECT * FROM boardings WHERE fare",
        "SELECT uper(channel) FROM boardings",
        "SELECT substring(fare, 1) FROM boardings",
        "SELECT 'abc'::integer",
        "SELECT 1 / 0",
        "SELECT 2147483647 + 1",
        "SELECT date '2025-02-30'",
        "SELECT date_trunc('moon', now())",
        "SELECT (SELECT id FROM tariffs_missing)",
        "SELECT (SELECT route_id FROM tariffs)",
        "SELEC 1",
        "SELECT FROM WHERE",
        "SELECT 'open",
        "SELECT 1 ORDER BY 3",
        "SET run.memry = '1GB'",
        "USE dropp",
        "SHOW TABELS",
        "UPDATE tariffs SET fare = 1",
    ] {
        let error = rows(&mut session, sql).await.unwrap_err();
        shown.push_str(&format!("{sql}\n  {} {}\n", error.code.sqlstate(), error));
    }
    insta::assert_snapshot!("mistakes", shown);
}

#[tokio::test]
async fn broken_files_are_named_with_line_and_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path();
    std::fs::write(path.join("wide.csv"), "a,b\n1,2\n3,4,5\n").unwrap();
    std::fs::write(path.join("twice.csv"), "a,a\n1,2\n").unwrap();
    let mut late = format!("n\n{}", "1\n".repeat(2_200_000));
    late.push_str("twelve\n");
    std::fs::write(path.join("late.csv"), late).unwrap();
    std::fs::write(path.join("bad.jsonl"), "{\"a\": 1}\n{\"a\": \n").unwrap();
    let month = drop_folder().join("boardings/month=2025-07/part-0.parquet");
    let whole = std::fs::read(month).unwrap();
    std::fs::write(path.join("cut.parquet"), &whole[..whole.len() / 2]).unwrap();
    let mut session = session_on(path);
    let mut shown = String::new();
    for table in ["wide", "twice", "late", "bad", "cut"] {
        let error = rows(&mut session, &format!("SELECT * FROM {table}")).await.unwrap_err();
        assert_eq!(error.code, Code::SourceData, "{error}");
        shown.push_str(&format!("{table}: {error}\n"));
    }
    let gone = rows(&mut session_on(&path.join("gone")), "SELECT * FROM x").await.unwrap_err();
    shown.push_str(&format!("gone: {gone}\n"));
    let shown = shown.replace(&path.display().to_string(), "[folder]");
    insta::assert_snapshot!("broken_files", shown);
    assert_eq!(rows(&mut session, "SELECT 1").await.unwrap(), ["1"], "the engine goes on");
}

#[tokio::test]
async fn a_run_over_its_memory_ends_with_the_step_named() {
    let mut session = session();
    session.set("run.memory", "1MB").unwrap();
    // One group that keeps everything cannot go to disk; many groups can.
    let error = rows(&mut session, "SELECT string_agg(id::text, ',') FROM boardings").await.unwrap_err();
    assert_eq!(error.code, Code::MemoryLimit);
    assert!(error.message.contains("summarise"), "{error}");
    let groups = rows(&mut session, "SELECT count(*) FROM (SELECT id, count(*) FROM boardings GROUP BY id) g").await;
    assert_eq!(groups.unwrap(), rows(&mut session, "SELECT count(*) FROM boardings").await.unwrap());
    assert_eq!(rows(&mut session, "SELECT count(*) FROM tariffs").await.unwrap(), ["720"]);
}

#[tokio::test]
async fn all_runs_together_stay_within_the_bound_of_the_service() {
    let mut session = session();
    session.engine().set_memory(24 << 20);
    let sql = "SELECT count(*), sum(n) FROM (SELECT id, count(*) AS n FROM boardings GROUP BY id) g";
    let alone = rows(&mut session, sql).await.unwrap();
    // Four at once: what can go to disk gives way, and all end with the same answer.
    let runs = (0..4).map(|_| {
        let mut other = session.engine().session();
        other.use_place("drop", None).unwrap();
        async move { rows(&mut other, sql).await }
    });
    for answer in futures::future::join_all(runs).await {
        assert_eq!(answer.unwrap(), alone);
    }
    assert_eq!(session.engine().memory(), (0, 24 << 20), "all of it is given back");
    session.engine().set_memory(1 << 20);
    let error = rows(&mut session, "SELECT string_agg(id::text, ',') FROM boardings").await.unwrap_err();
    assert_eq!(error.code, Code::MemoryLimit);
    assert!(error.message.contains("all runs may have together"), "{error}");
}

#[tokio::test]
async fn a_cancelled_run_stops_at_once() {
    let mut session = session();
    let cancel = CancellationToken::new();
    let slow = "SELECT count(*) FROM boardings a JOIN boardings b ON a.fare < b.fare";
    let mut execution = session.run_text(slow, &cancel).await.unwrap();
    let stopper = cancel.clone();
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(300)).await;
        stopper.cancel();
    });
    let error = execution.next().await.unwrap_err();
    assert_eq!(error.code, Code::Cancelled);
    session.set("run.time", "200ms").unwrap();
    let began = Instant::now();
    assert_eq!(rows(&mut session, slow).await.unwrap_err().code, Code::TimeLimit);
    assert!(began.elapsed() < Duration::from_secs(10));
}

#[tokio::test]
async fn a_catalog_in_use_keeps_its_connection() {
    let engine = Engine::in_memory().unwrap();
    engine.add_connection(files("drop_files", drop_folder())).unwrap();
    engine.add_catalog(CatalogDefinition::new("drop", "drop_files")).unwrap();
    let error = engine.remove_connection("drop_files").unwrap_err();
    assert_eq!(error.to_string(), "connection drop_files is used by catalog drop; drop the catalog first");
    engine.remove_catalog("drop").unwrap();
    engine.remove_connection("drop_files").unwrap();
    let error = engine
        .add_connection(ConnectionDefinition { kind: "postgress".into(), ..files("x", drop_folder()) })
        .unwrap_err();
    assert!(error.to_string().contains("did you mean \"postgres\"?"), "{error}");
}

#[tokio::test]
async fn the_standard_views_list_tables_and_columns() {
    let mut session = session();
    let tables = rows(&mut session, "SELECT table_name FROM information_schema.tables ORDER BY 1").await.unwrap();
    assert_eq!(tables, ["boardings", "buoys", "incidents", "sailings", "tariffs"]);
    let sql = "SELECT column_name, data_type FROM information_schema.columns WHERE table_name = 'tariffs' ORDER BY ordinal_position";
    assert_eq!(
        rows(&mut session, sql).await.unwrap(),
        ["route_id|bigint", "seat_class|text", "valid_from|date", "fare|numeric(18,2)"]
    );
    assert_eq!(rows(&mut session, "SHOW CATALOGS").await.unwrap(), ["drop|drop_files", "lane|null"]);
    assert_eq!(rows(&mut session, "SELECT kind FROM lane.state.connections").await.unwrap(), ["files"]);
    assert_eq!(rows(&mut session, "DESCRIBE tariffs").await.unwrap().len(), 4);
}

#[tokio::test]
async fn a_prepared_statement_takes_values_of_its_types() {
    use cobble_types::{SqlType, Value};
    let mut session = session();
    let cancel = CancellationToken::new();
    let sql = "SELECT count(*) FROM tariffs WHERE route_id = $1 AND seat_class = $2";
    let prepared = session.prepare(sql, &[Some(SqlType::BigInt), Some(SqlType::Text)]).await.unwrap();
    assert_eq!(prepared.columns[0].name, "count");
    for (class, expected) in [("lounge", "2"), ("no such class", "0")] {
        let values = [Value::BigInt(7), Value::Text(class.into())];
        let mut execution = session.run_prepared(&prepared, &values, &cancel).await.unwrap();
        let batches = execution.collect().await.unwrap();
        assert_eq!(cobble_types::array_value_text(batches[0].column(0).as_ref(), 0).unwrap(), expected, "{class}");
    }
    // The value reaches the gate as a constant would.
    let explained = session
        .prepare(&format!("EXPLAIN (SHOW gates) {sql}"), &prepared.types.iter().cloned().map(Some).collect::<Vec<_>>())
        .await
        .unwrap();
    let values = [Value::BigInt(7), Value::Null];
    let mut execution = session.run_prepared(&explained, &values, &cancel).await.unwrap();
    assert!(execution.collect().await.unwrap()[0].num_rows() > 3);
    for (values, code) in [(vec![], "42P02"), (vec![Value::Text("x".into()), Value::Null], "42804")] {
        assert_eq!(session.run_prepared(&prepared, &values, &cancel).await.unwrap_err().code.sqlstate(), code);
    }
    let error = session.prepare("SELECT $1 + 1", &[Some(SqlType::Boolean)]).await.unwrap_err();
    assert_eq!(error.code.sqlstate(), "42883", "{error}");
    assert_eq!(rows(&mut session, "SELECT $1").await.unwrap_err().code.sqlstate(), "42P02");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_may_be_waited_for_in_short_looks() {
    for statement in
        ["ANALYZE boardings", "SELECT count(*), sum(fare) FROM boardings", "SELECT * FROM generate_series(1, 100000)"]
    {
        let mut session = session();
        let wanted = rows(&mut session, statement).await.unwrap();
        let mut execution = session.run_text(statement, &CancellationToken::new()).await.unwrap();
        let (mut found, mut looks) = (0, 0);
        loop {
            looks += 1;
            match tokio::time::timeout(Duration::from_micros(50), execution.next()).await {
                Ok(batch) => match batch.unwrap() {
                    Some(batch) => found += batch.num_rows(),
                    None => break,
                },
                Err(_) => tokio::task::yield_now().await,
            }
        }
        assert!(looks > 1, "{statement}");
        assert_eq!(found, wanted.len(), "{statement}");
    }
}

#[tokio::test]
async fn only_tables_that_are_meant_are_looked_up() {
    let names = |sql: &str| {
        let statements = cobble_sql::parse_statements(sql).unwrap();
        match &statements[0].statement {
            cobble_sql::Statement::Query(query) => {
                let all = cobble_sql::table_references(query);
                all.iter().map(|found| found.to_string()).collect::<Vec<_>>().join(" ")
            }
            _ => panic!("{sql}"),
        }
    };
    for (sql, wanted) in [
        ("SELECT * FROM a JOIN x.b USING (i), LATERAL (SELECT * FROM C.d) e", "a x.b c.d"),
        ("SELECT * FROM generate_series(1, 2), unnest(ARRAY[1]) u WHERE 1 IN (SELECT i FROM t)", "t"),
        ("WITH a AS (SELECT * FROM t), b AS (SELECT * FROM a) SELECT * FROM a, b, a.c", "t a.c"),
        ("WITH a AS (SELECT * FROM a) SELECT * FROM a", "a"),
        ("WITH RECURSIVE a AS (SELECT 1 UNION ALL SELECT * FROM a) SELECT * FROM a ORDER BY (SELECT 1 FROM t)", "t"),
        ("TABLE x.y.z", "x.y.z"),
    ] {
        assert_eq!(names(sql), wanted, "{sql}");
    }
}

/// Rows in order of `n`, in one row group of many small pages; `t` has longer values, so that its pages end elsewhere.
fn paged(folder: &std::path::Path) {
    use arrow::array::{ArrayRef, Int64Array, RecordBatch, StringArray};
    use parquet::arrow::ArrowWriter;
    use parquet::file::properties::WriterProperties;
    let n: ArrayRef = Arc::new((0..10_000).map(|n| (n % 10 > 0).then_some(n)).collect::<Int64Array>());
    let t: ArrayRef = Arc::new((0..10_000).map(|n| Some(format!("a longer text {:05}", n))).collect::<StringArray>());
    let k: ArrayRef = Arc::new((0..10_000).map(|n| Some(n * 7919 % 10_000)).collect::<Int64Array>());
    let batch = RecordBatch::try_from_iter([("n", n), ("t", t), ("k", k)]).unwrap();
    let properties = WriterProperties::builder()
        .set_data_page_row_count_limit(128)
        .set_data_page_size_limit(2000)
        .set_write_batch_size(64)
        .set_dictionary_enabled(false)
        .build();
    std::fs::create_dir_all(folder).unwrap();
    let file = std::fs::File::create(folder.join("paged.parquet")).unwrap();
    let mut writer = ArrowWriter::try_new(file, batch.schema(), Some(properties)).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_without_a_wanted_row_are_not_decoded() {
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("core-paged");
    paged(&folder);
    let mut session = session_on(&folder);
    for (condition, skips) in [
        ("n BETWEEN 5000 AND 5010", true),
        ("n = 77", true),
        ("n IN (3, 9001) AND t LIKE 'a longer text 09%'", true),
        ("n > 9990 AND k < 5000", true),
        ("t >= 'a longer text 09990' AND n IS NULL", true),
        ("n < 100 OR n > 9900", true),
        ("k BETWEEN 100 AND 9000", false),
        ("n + 0 = 77", false),
        ("n < 20000", false),
    ] {
        let sql = format!("SELECT count(*), sum(n) FROM paged WHERE {condition}");
        let mut execution = session.run_text(&sql, &CancellationToken::new()).await.unwrap();
        let mut found = String::new();
        while let Some(batch) = execution.next().await.unwrap() {
            let text = |c: usize| array_value_text(batch.column(c).as_ref(), 0).unwrap_or("null".into());
            found = format!("{}|{}", text(0), text(1));
        }
        let measure = execution.plan().unwrap().gates[0].measure.clone().unwrap();
        assert_eq!(measure.rows_skipped > 9000, skips, "{condition}: {measure:?}");
        let slow = format!(
            "SELECT count(*), sum(n) FROM (SELECT n + 0 AS n, k + 0 AS k, t || '' AS t FROM paged) p WHERE {condition}"
        );
        assert_eq!(rows(&mut session, &slow).await.unwrap(), [found.clone()], "{condition}");
    }
    let keys = "SELECT count(*), sum(p.n) FROM paged p JOIN (VALUES (4001), (4003)) v(x) ON p.n = v.x";
    let mut execution = session.run_text(keys, &CancellationToken::new()).await.unwrap();
    execution.collect().await.unwrap();
    let measure = execution.plan().unwrap().gates[0].measure.clone().unwrap();
    assert!(measure.rows_skipped > 9000 && measure.rows == 2, "{measure:?}");
}

/// Ferries and their positions: a row in a row, with nulls at each level, beside a long text.
fn nested(folder: &std::path::Path) {
    use std::io::Write;
    let lines = (0..4000).map(|n| match n % 10 {
        0 => format!("{{\"id\": {n}, \"seen\": null}}\n"),
        1 => format!("{{\"id\": {n}, \"seen\": {{\"by\": null, \"at\": {{\"lat\": null, \"lon\": 1.5}}}}}}\n"),
        _ => format!(
            "{{\"id\": {n}, \"seen\": {{\"by\": \"{}\", \"at\": {{\"lat\": {}.25, \"lon\": 3.5}}, \"tags\": [{n}]}}}}\n",
            format!("watch {n} ").repeat(20),
            n % 60
        ),
    });
    std::fs::create_dir_all(folder).unwrap();
    let mut file = std::fs::File::create(folder.join("lines.jsonl")).unwrap();
    lines.for_each(|line| file.write_all(line.as_bytes()).unwrap());
    let read = || std::io::BufReader::new(std::fs::File::open(folder.join("lines.jsonl")).unwrap());
    let (schema, _) = arrow::json::reader::infer_json_schema(read(), None).unwrap();
    let reader = arrow::json::ReaderBuilder::new(Arc::new(schema.clone())).build(read()).unwrap();
    let file = std::fs::File::create(folder.join("columns.parquet")).unwrap();
    let mut writer = parquet::arrow::ArrowWriter::try_new(file, Arc::new(schema), None).unwrap();
    reader.for_each(|batch| writer.write(&batch.unwrap()).unwrap());
    writer.close().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn of_nested_columns_only_the_fields_that_are_used_are_read() {
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("core-nested");
    nested(&folder);
    let mut session = session_on(&folder);
    for (sql, columns) in [
        ("SELECT sum((seen).at.lat) FROM t", "seen.at.lat"),
        ("SELECT id, (seen).at.lon FROM t WHERE (seen).at.lat > 50 ORDER BY id", "id seen.at"),
        ("SELECT count(*) FROM t WHERE (seen).at IS NULL AND id < 100", "id seen.at"),
        ("SELECT a.id FROM t a JOIN t b ON (a.seen).at.lat = (b.seen).at.lat AND b.id = 7", "id seen.at.lat"),
        ("SELECT x.lat, count(*) FROM (SELECT (seen).at AS x FROM t) q GROUP BY x.lat ORDER BY 1", "seen.at.lat"),
        ("SELECT (seen).at.lon, (seen).by FROM t WHERE id < 13 ORDER BY id", "id seen(by, at.lon)"),
        ("SELECT (seen).tags[1], upper((seen).by) FROM t WHERE id = 3", "id seen(by, tags)"),
        ("SELECT max(id) FROM t WHERE seen IS NOT NULL AND (seen).by IS NULL", "id seen"),
        ("SELECT (seen).by, seen FROM t WHERE id < 12 ORDER BY id", "id seen"),
        ("SELECT (u.seen).at.lat FROM (SELECT seen FROM t UNION ALL SELECT seen FROM t) u", "seen"),
        ("WITH w AS (SELECT id, seen FROM t) SELECT (a.seen).by FROM w a JOIN w b ON a.id = b.id + 1", "id seen.by"),
    ] {
        for table in ["columns", "lines"] {
            let sql = sql.replace(" t", &format!(" {table}"));
            session.run_text("SET planner.off = ''", &CancellationToken::new()).await.unwrap();
            let mut execution = session.run_text(&sql, &CancellationToken::new()).await.unwrap();
            execution.collect().await.unwrap();
            let gates = &execution.plan().unwrap().gates;
            assert_eq!(gates[0].columns_read.join(" "), columns, "{sql}");
            let narrow = rows(&mut session, &sql).await.unwrap();
            session.run_text("SET planner.off = 'prune-fields'", &CancellationToken::new()).await.unwrap();
            let mut execution = session.run_text(&sql, &CancellationToken::new()).await.unwrap();
            execution.collect().await.unwrap();
            let whole = &execution.plan().unwrap().gates;
            assert!(
                !whole[0].columns_read.iter().any(|c| c.contains("seen.") || c.contains("seen(")),
                "{sql}: {:?}",
                whole[0].columns_read
            );
            let bytes = |gate: &cobble_plan::document::GateDocument| gate.measure.as_ref().unwrap().bytes;
            if table == "columns" && columns.contains('.') && !columns.contains("by") {
                assert!(bytes(&gates[0]) < bytes(&whole[0]), "{sql}");
            }
            assert_eq!(rows(&mut session, &sql).await.unwrap(), narrow, "{sql}");
        }
    }
}

#[tokio::test]
async fn casts_move_to_constants_where_they_keep_the_order() {
    let mut session = session();
    for (condition, wanted) in [
        // A day before a time of the day is a day up to its date; midnight is the day itself.
        ("d::timestamp < timestamp '2025-06-21 08:30'", "d <= date '2025-06-21'"),
        ("timestamp '2025-06-21' <= d::timestamp", "d >= date '2025-06-21'"),
        ("i > 2.5", "i >= 3"),
        ("i < 2.6", "i < 3"),
        ("i::bigint IN (1, 2)", "i in (1, 2)"),
        // One of them does not exist in the narrow type; nothing could be equal; the constant lies beyond the type.
        ("i::numeric IN (1, 2.5)", "::numeric"),
        ("i = 2.5", "::numeric"),
        ("i::bigint < 3000000000", "i::bigint < 3000000000"),
        // The cast rounds; the zone decides.
        ("f::integer > 7", "f::integer > 7"),
        ("d::timestamptz < '2025-06-21 08:30+00'", "d::timestamptz < "),
    ] {
        let sql = format!(
            "EXPLAIN SELECT 1 FROM (SELECT n AS i, n * 1.5 AS f, date '2025-06-01' + n AS d FROM generate_series(1, 9) s(n) OFFSET 1) t WHERE {condition}"
        );
        let plan = rows(&mut session, &sql).await.unwrap().join("\n");
        assert!(plan.contains(wanted), "{condition}: {plan}");
    }
}

/// Comparisons of every narrow type with constants around its values, with and without the cast moved to the constant.
#[tokio::test]
async fn unwrapped_casts_find_the_same_rows() {
    let values = "(VALUES ('-32768'::smallint, -2147483648, -3, -7.5::numeric(8,2), -1.5::real, date '1900-01-01'), \
                  (-1, -1, -1, -0.01, -0.1, date '2024-02-29'), (0, 0, 0, 0, '-0', date '2025-06-21'), \
                  (2, 2, 16777217, 2.5, 16777216, date '2025-06-22'), (32767, 2147483647, 9007199254740993, 99999.99, 'NaN', date '9999-12-31'), \
                  (null, null, null, null, null, null)) t (s, i, b, n, r, d)";
    let casts = [
        ("s", "integer", &["-32769", "-1", "2", "40000"][..]),
        ("s", "numeric", &["-1.5", "-0.5", "0.0", "1.9", "2.5", "1e20"]),
        ("s", "double precision", &["-0.5", "0.5", "1.5", "2", "'NaN'", "'-Infinity'"]),
        ("i", "bigint", &["-2147483649", "-1", "2", "2147483647", "5000000000"]),
        ("i", "numeric", &["-1.000000000000000001", "1.5", "2.5", "2147483647.5"]),
        ("i", "double precision", &["-1.5", "2", "2.0000001", "2147483647.5", "1e300"]),
        ("b", "numeric", &["-3.5", "16777217", "16777216.99", "9007199254740993", "9007199254740993.5"]),
        ("n", "numeric(20, 6)", &["-7.500001", "-0.01", "2.499999", "2.504999", "2.505", "99999.99"]),
        ("r", "double precision", &["-1.5", "-0.1", "16777217", "'NaN'", "0"]),
        (
            "d",
            "timestamp",
            &[
                "'2025-06-21'",
                "'2025-06-21 00:00:00.000001'",
                "'2025-06-20 23:59:59'",
                "'9999-12-31 12:00'",
                "'0044-03-15 BC'",
            ],
        ),
    ];
    let (mut on, mut off) = (session(), session());
    off.set("planner.off", "unwrap-casts").unwrap();
    let mut conditions = Vec::new();
    for (column, wide, constants) in casts {
        for constant in constants {
            for op in ["<", "<=", "=", "<>", ">=", ">", "IS DISTINCT FROM", "IS NOT DISTINCT FROM"] {
                conditions.push(format!("{column}::{wide} {op} {constant}::{wide}"));
                conditions.push(format!("{constant}::{wide} {op} {column}::{wide}"));
            }
        }
        let list: Vec<String> = constants.iter().map(|constant| format!("{constant}::{wide}")).collect();
        conditions.push(format!("{column}::{wide} IN ({})", list.join(", ")));
        conditions.push(format!("{column}::{wide} NOT IN ({})", list[..2].join(", ")));
    }
    for condition in conditions {
        let query = format!("SELECT s, {condition} FROM {values} ORDER BY s");
        assert_eq!(rows(&mut on, &query).await.unwrap(), rows(&mut off, &query).await.unwrap(), "{condition}");
    }
}
