//! Tables written into folders: what is read again is what the query found, and a write that fails leaves nothing behind.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, Session};
use cobble_types::{Error, array_value_text};
use tokio_util::sync::CancellationToken;

async fn rows(session: &mut Session, sql: &str) -> Result<Vec<String>, Error> {
    let mut execution = session.run_text(sql, &CancellationToken::new()).await?;
    let mut all = Vec::new();
    while let Some(batch) = execution.next().await? {
        for row in 0..batch.num_rows() {
            let text = |c: &arrow::array::ArrayRef| array_value_text(c.as_ref(), row).unwrap_or("null".into());
            all.push(batch.columns().iter().map(text).collect::<Vec<_>>().join("|"));
        }
    }
    Ok(all)
}

fn session(folder: &Path, writable: &str) -> Session {
    let engine: Arc<Engine> = Engine::in_memory().unwrap();
    let mut out = ConnectionDefinition::new("out_files", "files", folder.display().to_string());
    out.options.insert("writable".into(), writable.into());
    engine.add_connection(out).unwrap();
    engine.add_connection(ConnectionDefinition::new("tides_maker", "generated", "")).unwrap();
    for (name, connection) in [("out", "out_files"), ("tides", "tides_maker")] {
        engine.add_catalog(CatalogDefinition::new(name, connection)).unwrap();
    }
    let mut session = engine.session();
    session.use_place("out", None).unwrap();
    session
}

/// All files and folders below, those that are hidden too.
fn below(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if path.is_dir() {
            found.extend(below(&path).into_iter().map(|inner| format!("{name}/{inner}")));
        }
        found.push(name);
    }
    found.sort();
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_written_is_what_the_query_found() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path(), "true");
    let query = "SELECT id, vessel_id, kind, urgency, opened_at, closed_at, due_on, hours, cost, note, urgency > 3 AS urgent FROM tides.creek.work_orders";
    let wanted = rows(&mut session, &format!("{query} ORDER BY id")).await.unwrap();
    for (table, with) in [
        ("plain", ""),
        ("lines", "WITH (format = 'json')"),
        ("texts", "WITH (format = csv)"),
        ("parted", "WITH (partition_by = 'kind, urgency')"),
        ("parted_texts", "WITH (format = 'csv', partition_by = 'kind')"),
    ] {
        let said = rows(&mut session, &format!("CREATE TABLE {table} {with} AS {query}")).await.unwrap();
        assert!(said[0].starts_with(&format!("out.public.{table}|500|")), "{said:?}");
        let again = "SELECT id::integer, vessel_id::integer, kind, urgency::smallint, opened_at::timestamp, closed_at::timestamp,
            due_on::date, hours::numeric(6,2), cost::numeric(10,2), note, urgent::boolean";
        let found = rows(&mut session, &format!("{again} FROM {table} ORDER BY 1")).await.unwrap();
        assert_eq!(found, wanted, "{table}");
        let added =
            rows(&mut session, &format!("INSERT INTO {table} SELECT * FROM {table} WHERE id <= 10")).await.unwrap();
        assert!(added[0].starts_with(&format!("out.public.{table}|10|")), "{added:?}");
        assert_eq!(rows(&mut session, &format!("SELECT count(*) FROM {table}")).await.unwrap(), ["510"], "{table}");
    }
    let plan = session.plan_text("SELECT count(*) FROM parted WHERE kind = 'hull' AND urgency = 2").await.unwrap();
    assert!(plan.gates[0].parts[0].read <= 2, "folders decide: {:?}", plan.gates[0].parts);
    let nested = "CREATE TABLE nested AS SELECT buoy, wave, tags, taken_at AT TIME ZONE 'UTC' AS at FROM tides.creek.buoys WHERE buoy < 3";
    rows(&mut session, nested).await.unwrap();
    let read = rows(&mut session, "SELECT count(*), max((wave).height_m), sum(cardinality(tags)), max(at) FROM nested")
        .await
        .unwrap();
    let made = "SELECT count(*), max((wave).height_m), sum(cardinality(tags)), max(taken_at AT TIME ZONE 'UTC') FROM tides.creek.buoys WHERE buoy < 3";
    assert_eq!(read, rows(&mut session, made).await.unwrap());
    rows(&mut session, "CREATE TABLE empty AS SELECT 1 AS a, 'x' AS b WHERE false").await.unwrap();
    assert_eq!(rows(&mut session, "SELECT count(*), max(a) FROM empty").await.unwrap(), ["0|null"]);
    assert!(!below(folder.path()).iter().any(|name| name.starts_with('.')), "nothing unfinished is left");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_that_fails_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path(), "true");
    rows(
        &mut session,
        "CREATE TABLE ports WITH (partition_by = island) AS SELECT id, name, island FROM tides.creek.ports",
    )
    .await
    .unwrap();
    std::fs::write(folder.path().join("single.csv"), "a\n1\n").unwrap();
    let before = below(folder.path());
    let mut told = String::new();
    for sql in [
        "CREATE TABLE ports AS SELECT 1 AS a",
        "CREATE TABLE late AS SELECT 1 / (5000 - id) AS a FROM tides.bay.boardings WHERE id < 200000",
        "INSERT INTO ports SELECT id, name, CASE WHEN id < 900 THEN island END FROM tides.creek.ports UNION ALL SELECT 1, 'x', null",
        "INSERT INTO ports SELECT id, name, 'a/b' FROM tides.creek.ports",
        "INSERT INTO ports SELECT id, name FROM tides.creek.ports",
        "INSERT INTO ports SELECT name, name, island FROM tides.creek.ports",
        "INSERT INTO ports SELECT 'x', name, island FROM tides.creek.ports",
        "INSERT INTO nothing SELECT 1",
        "INSERT INTO single SELECT 1::bigint",
        "CREATE TABLE twice AS SELECT 1 AS a, 2 AS a",
        "CREATE TABLE nameless AS SELECT 1 + 1",
        "CREATE TABLE other WITH (format = 'orc') AS SELECT 1 AS a",
        "CREATE TABLE other WITH (colour = 'blue') AS SELECT 1 AS a",
        "CREATE TABLE other WITH (partition_by = 'b') AS SELECT 1 AS a",
        "CREATE TABLE other WITH (partition_by = 'a') AS SELECT 1 AS a",
        "CREATE TABLE many WITH (partition_by = 'id') AS SELECT id, fare FROM tides.bay.boardings",
        "CREATE TABLE \"../up\" AS SELECT 1 AS a",
        "CREATE TABLE other WITH (partition_by = '../../evil') AS SELECT 1 AS a, 2 AS \"../../evil\"",
        "CREATE TABLE other WITH (partition_by = 'a=b') AS SELECT 1 AS a, 2 AS \"a=b\"",
        "CREATE TABLE other WITH (partition_by = '_a') AS SELECT 1 AS a, 2 AS _a",
        "CREATE TABLE \"up\\down\" AS SELECT 1 AS a",
        "CREATE TABLE tides.creek.more AS SELECT 1 AS a",
        "CREATE TABLE other (a integer PRIMARY KEY)",
    ] {
        let error = rows(&mut session, sql).await.expect_err(sql);
        let hint = error.hint.clone().map(|hint| format!("; {hint}")).unwrap_or_default();
        told.push_str(&format!("{sql}\n    {} {}{hint}\n", error.code.sqlstate(), error.message));
    }
    // A run that is given up.
    let cancel = CancellationToken::new();
    let sql = "CREATE TABLE given_up AS SELECT * FROM tides.sea.boardings";
    let mut execution = session.run_text(sql, &cancel).await.unwrap();
    assert!(tokio::time::timeout(Duration::from_millis(700), execution.next()).await.is_err());
    assert!(below(folder.path()).len() > before.len(), "it had begun");
    cancel.cancel();
    drop(execution);
    let began = Instant::now();
    while below(folder.path()) != before {
        assert!(began.elapsed() < Duration::from_secs(20), "{:?}", below(folder.path()));
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    insta::assert_snapshot!(told.replace(&folder.path().display().to_string(), "[folder]"));

    let mut closed = self::session(folder.path(), "false");
    let error = rows(&mut closed, "CREATE TABLE more AS SELECT 1 AS a").await.unwrap_err();
    assert!(error.message.contains("connection out_files does not allow writing"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_has_a_plan_with_the_write_on_top() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path(), "true");
    let create =
        "CREATE TABLE urgent WITH (format = 'csv') AS SELECT id, cost FROM tides.creek.work_orders WHERE urgency > 3";
    let told = rows(&mut session, &format!("EXPLAIN {create}")).await.unwrap().join("\n");
    assert!(told.contains("create out.public.urgent (id, cost) with format csv"), "{told}");
    // Nothing was opened for it.
    assert!(below(folder.path()).is_empty());
    let told = rows(&mut session, &format!("EXPLAIN (ANALYZE, FORMAT JSON) {create}")).await.unwrap().join("\n");
    let document: serde_json::Value = serde_json::from_str(&told).unwrap();
    let wanted = rows(&mut session, "SELECT count(*) FROM urgent").await.unwrap();
    let write = document["steps"].as_array().unwrap().last().unwrap();
    assert_eq!(write["kind"], "write");
    assert_eq!(write["measure"]["rows"].to_string(), wanted[0]);
    assert_ne!(wanted, ["0"]);
    // A run keeps the same plan, and its progress counts what it reads.
    let cancel = CancellationToken::new();
    let insert = "INSERT INTO urgent SELECT id, cost FROM tides.creek.work_orders WHERE urgency = 3";
    let mut execution = session.run_text(insert, &cancel).await.unwrap();
    while execution.next().await.unwrap().is_some() {}
    let plan = execution.plan().unwrap();
    let top = plan.steps.last().unwrap();
    assert_eq!(top.text, "insert into out.public.urgent (id, cost)");
    let now = rows(&mut session, "SELECT count(*) FROM urgent").await.unwrap();
    let count = |rows: &[String]| rows[0].parse::<u64>().unwrap();
    assert_eq!(top.measure.as_ref().unwrap().rows, count(&now) - count(&wanted));
    assert_eq!(execution.progress().rows_read, 500, "every row of the table was read");
    for (sql, expected) in [
        ("EXPLAIN CREATE TABLE plain (a integer)", "EXPLAIN of what has no query"),
        ("EXPLAIN INSERT INTO urgent SELECT 1, 2, 3", "the table has 2 columns, the query 3"),
        ("EXPLAIN ANALYZE INSERT INTO nowhere SELECT 1", "nowhere"),
    ] {
        let error = rows(&mut session, sql).await.unwrap_err().to_string();
        assert!(error.contains(expected), "{sql}: {error}");
    }
}

/// Least and greatest values of a file tell nothing of values that are no numbers: these are found all the same.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_number_is_found_in_files() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path(), "true");
    let made =
        "CREATE TABLE waves AS SELECT n, CASE WHEN n % 10 = 0 THEN 'NaN'::double precision ELSE n / 2.0 END AS high,
        CASE WHEN n = 7 THEN 'NaN'::real ELSE n::real END AS low FROM generate_series(1, 30000) AS s(n)";
    rows(&mut session, made).await.unwrap();
    for (condition, count) in [
        ("high > 100000", "3000"),
        ("high >= 'NaN'", "3000"),
        ("high = 'NaN'", "3000"),
        ("high <> 'NaN'", "27000"),
        ("high > 'NaN'", "0"),
        ("high < -1", "0"),
        ("high IN ('NaN', 0.5)", "3001"),
        ("low > 40000", "1"),
        ("low IS NOT DISTINCT FROM 'NaN'", "1"),
        ("high > 100000 AND low > 40000", "0"),
        ("n = 7 AND low > 40000", "1"),
    ] {
        let sql = format!("SELECT count(*) FROM waves WHERE {condition}");
        assert_eq!(rows(&mut session, &sql).await.unwrap(), [count], "{condition}");
    }
    let joined = "SELECT count(*) FROM waves a JOIN (VALUES ('NaN'::double precision)) AS v(x) ON a.high = v.x";
    assert_eq!(rows(&mut session, joined).await.unwrap(), ["3000"]);
}
