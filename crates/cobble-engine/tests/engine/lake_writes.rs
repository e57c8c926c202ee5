//! Tables of the open table format that are written here: they hold the rows that were written, for us and for the format's own library.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine, MemoryPointers, Secret, Session};
use cobble_ferry_load::{Faults, Told, serve_told, serve_with_faults};
use serde_json::{Value as Json, json};

use cobble_types::Code;

use crate::truth::answer;

/// A lake in a folder of its own.
pub struct Written {
    folder: tempfile::TempDir,
    engine: std::sync::Arc<Engine>,
}

impl Written {
    pub fn new() -> Written {
        Written::of("lake")
    }

    /// A lake of this kind.
    pub fn of(kind: &str) -> Written {
        let folder = tempfile::tempdir().unwrap();
        let engine = Engine::in_memory().unwrap();
        engine.provide_pointers(std::sync::Arc::new(MemoryPointers::default()));
        for name in ["warehouse", "rows"] {
            std::fs::create_dir(folder.path().join(name)).unwrap();
        }
        let define = |name: &str, kind: &str, address: String, options: &[(&str, &str)]| {
            let mut definition = ConnectionDefinition::new(name, kind, &address);
            definition.options.extend(options.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())));
            engine.add_connection(definition).unwrap();
            engine.add_catalog(CatalogDefinition::new(name, name)).unwrap();
        };
        let place = |name: &str| folder.path().join(name).display().to_string();
        define("deep", "files", place("warehouse"), &[]);
        define("rows", "files", place("rows"), &[]);
        define("lake", kind, String::new(), &[("storage", "deep"), ("writable", "true")]);
        Written { folder, engine }
    }

    /// A further catalog, of plain files in a folder beside the tables.
    pub fn plain_files(&self, name: &str) {
        let folder = self.warehouse().join(name);
        std::fs::create_dir(&folder).unwrap();
        let mut definition = ConnectionDefinition::new(name, "files", folder.display().to_string());
        definition.options.insert("writable".to_owned(), "true".to_owned());
        self.engine.add_connection(definition).unwrap();
        self.engine.add_catalog(CatalogDefinition::new(name, name)).unwrap();
    }

    pub fn session(&self) -> Session {
        let mut session = self.engine.session();
        session.use_place("lake", Some("ops")).unwrap();
        session
    }

    pub fn warehouse(&self) -> PathBuf {
        self.folder.path().join("warehouse")
    }

    /// What the library finds in tables, each with conditions; their rows are in the catalog `rows` afterwards.
    pub fn read_by_the_library(&self, wanted: &Json) -> Json {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let mut running = Command::new(root.join("target/python/bin/python"))
            .arg(root.join("crates/cobble-lake/tests/partner_reads.py"))
            .args([self.warehouse(), self.folder.path().join("rows")])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        running.stdin.take().unwrap().write_all(wanted.to_string().as_bytes()).unwrap();
        let output = running.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    }
}

pub async fn rows(session: &mut Session, sql: &str) -> Vec<String> {
    answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e:?}")).0
}

pub const KINDS_OF_LAKES: [&str; 2] = ["lake", "lake_service"];

/// Rows with values of all types, at their ends, and with nulls.
const KINDS: &str = "SELECT n AS id, n % 2 = 0 AS yes, (n % 100)::smallint AS small, n::real / 3 AS real,
    CASE WHEN n % 10 = 0 THEN 'NaN' WHEN n % 10 = 1 THEN '-Infinity' ELSE n * 1.5::double precision END AS double,
    CASE WHEN n % 7 <> 0 THEN (n * 100003 - 5000000)::numeric(12, 3) END AS fare, (n::numeric(38, 0) * 100000000000000000000) AS vast,
    date '2023-01-01' + n AS day, time '00:00:01' + n * interval '1 second' AS time_of_day,
    timestamp '2023-01-01 00:00' + n * interval '970 minutes' AS departed_at,
    timestamptz '2023-01-01 00:00Z' + n * interval '970 minutes' AS at_utc,
    CASE WHEN n % 11 <> 0 THEN 'Sørhavn ' || repeat('ø', n % 40) || n END AS vessel,
    (('00000000-0000-0000-0000-' || lpad(n::text, 12, '0'))::uuid) AS mark, decode(lpad(n::text, 6, '0'), 'hex') AS seal,
    ARRAY[n, NULL, n + 1] AS stops
    FROM generate_series(1, 400) AS g(n)";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_written_is_read_here_and_by_the_library() {
    let written = Written::new();
    let mut session = written.session();
    let mut wanted = serde_json::Map::new();
    let partitions = [
        ("plain", ""),
        ("by_month", "PARTITION BY (month(departed_at))"),
        ("by_day_and_bucket", "PARTITION BY (day(at_utc), bucket(4, id))"),
        ("by_year", "PARTITION BY (year(day), vessel)"),
        ("by_prefix", "PARTITION BY (truncate(3, vessel), truncate(100, fare), bucket(3, mark))"),
        ("by_values", "PARTITION BY (yes, small, day)"),
        ("by_hour", "PARTITION BY (hour(departed_at))"),
        ("by_numbers", "PARTITION BY (bucket(5, fare), truncate(1000, id), bucket(2, seal))"),
        ("by_floats", "PARTITION BY (double, real)"),
    ];
    let conditions = [
        ("id = 77", "id = 77"),
        ("id > 390 or id < 3", "id > 390 OR id < 3"),
        ("departed_at < '2023-02-01T00:00:00'", "departed_at < '2023-02-01'"),
        ("at_utc >= '2023-09-01T00:00:00+00:00'", "at_utc >= '2023-09-01 00:00Z'"),
        ("day = '2023-05-05'", "day = '2023-05-05'"),
        ("vessel is null", "vessel IS NULL"),
        ("vessel >= 'Sørhavn øøøøøøøøøøøøøø'", "vessel >= 'Sørhavn øøøøøøøøøøøøøø' COLLATE \"C\""),
        ("fare < -1000.500", "fare < -1000.5"),
        ("double < 0", "double < 0"),
        ("double is nan", "double = 'NaN'"),
        ("vast > 1000000000000000000000", "vast > 1000000000000000000000"),
    ];
    for (name, partition_by) in partitions {
        let small = matches!(name, "by_day_and_bucket" | "by_hour" | "by_values" | "by_year" | "by_floats");
        let limit = if small { "WHERE n <= 25 OR n > 385" } else { "" };
        rows(&mut session, &format!("CREATE TABLE {name} {partition_by} AS {KINDS} {limit}")).await;
        if !small {
            rows(&mut session, &format!("INSERT INTO {name} {KINDS} WHERE n <= 3")).await;
            rows(
                &mut session,
                &format!("INSERT INTO {name} (id, vessel) SELECT 1000 + n, 'late' FROM generate_series(1, 5) AS g(n)"),
            )
            .await;
        }
        wanted.insert(format!("ops/{name}"), json!(conditions.map(|(theirs, _)| theirs)));
    }
    rows(
        &mut session,
        "CREATE TABLE empty (id bigint NOT NULL, name text) PARTITION BY (bucket(8, id)) WITH (write.format = 'x')",
    )
    .await;
    rows(&mut session, "CREATE TABLE no_rows AS SELECT 1 AS id WHERE false").await;
    rows(&mut session, "INSERT INTO no_rows SELECT 1 WHERE false").await;
    wanted.insert("ops/empty".into(), json!([]));
    wanted.insert("ops/no_rows".into(), json!([]));
    let found = written.read_by_the_library(&Json::Object(wanted));
    for (name, _) in partitions {
        let columns = "id, yes, small, real, double, fare, vast, day, time_of_day, departed_at, at_utc, vessel, mark::text, seal, stops";
        let sql = |from: &str| format!("SELECT {columns} FROM {from}.{name} ORDER BY id, vast");
        assert_eq!(rows(&mut session, &sql("lake.ops")).await, rows(&mut session, &sql("rows.public")).await, "{name}");
        let told = &found[format!("ops/{name}")];
        for (place, (_, ours)) in conditions.iter().enumerate() {
            let sql = format!("SELECT count(*) FROM {name} WHERE {ours}");
            assert_eq!(rows(&mut session, &sql).await, [told["counts"][place].to_string()], "{sql}");
        }
        let all = rows(&mut session, &format!("SELECT count(*) FROM {name}")).await;
        assert_eq!(all, [told["records"].to_string()], "{name}");
    }
    assert_eq!(found["ops/by_month"]["history"], 3);
    assert_eq!(found["ops/by_month"]["files"][0], 1, "one file of one month: {found}");
    assert_eq!(found["ops/empty"]["partitions"], json!(["id_bucket_8"]));
    assert_eq!(found["ops/no_rows"]["history"], 0, "nothing is no change");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_written_leaves_nothing() {
    let written = Written::new();
    let mut session = written.session();
    rows(&mut session, "CREATE TABLE berths (id bigint NOT NULL, name text)").await;
    rows(&mut session, "INSERT INTO berths VALUES (1, 'north')").await;
    let files = |below: &str| {
        let mut found = Vec::new();
        let mut folders = vec![written.warehouse().join(below)];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                match entry.path().is_dir() {
                    true => folders.push(entry.path()),
                    false => found.push(entry.path()),
                }
            }
        }
        found.sort();
        found
    };
    let before = files("");
    for (sql, told) in [
        ("INSERT INTO berths VALUES (null, 'south')", "column id takes no null"),
        ("INSERT INTO berths (name) VALUES ('south')", "column id takes no null"),
        ("INSERT INTO berths SELECT 1 / (n - 3), 'x' FROM generate_series(1, 5) AS g(n)", "division by zero"),
        ("CREATE TABLE berths AS SELECT 1 AS id", "there is a table"),
        ("CREATE TABLE \"a/b\" AS SELECT 1 AS id", "cannot be the name of a folder"),
        (
            "CREATE TABLE t PARTITION BY (month(id)) AS SELECT 1 AS id",
            "month is no transform of column id, which is integer",
        ),
        ("CREATE TABLE t PARTITION BY (week(id)) AS SELECT 1 AS id", "no transform week"),
        ("CREATE TABLE t PARTITION BY (nothing) AS SELECT 1 AS id", "no column nothing"),
        ("CREATE TABLE t PARTITION BY (id, id) AS SELECT 1 AS id", "given twice"),
        ("CREATE TABLE t PARTITION BY (bucket(0, id)) AS SELECT 1 AS id", "no transform bucket[0]"),
        ("CREATE TABLE t PARTITION BY () WITH (partition_by = 'id') AS SELECT 1 AS id", "both given"),
        ("CREATE TABLE t PARTITION BY (id AS SELECT 1 AS id", "\")\""),
        ("CREATE TABLE t AS SELECT interval '1 day' AS length", "the table format has no type for interval"),
        ("CREATE TABLE t (id bigint PRIMARY KEY)", "keep no PRIMARY KEY"),
        ("CREATE TABLE t WITH (format = 'csv') AS SELECT 1 AS id", "WITH takes no format"),
    ] {
        let error = answer(&mut session, sql).await.expect_err(sql);
        assert!(error.message.contains(told) || error.hint.as_deref().unwrap_or("").contains(told), "{sql}: {error:?}");
    }
    assert_eq!(files(""), before);
    // More partitions than files may be open, in turn.
    let many = "CREATE TABLE many PARTITION BY (part) AS SELECT n AS id, n % 600 AS part FROM generate_series(1, 1800) AS g(n)";
    rows(&mut session, many).await;
    let counts = "SELECT count(*), count(DISTINCT id), count(DISTINCT part) FROM many";
    assert_eq!(rows(&mut session, counts).await, ["1800|1800|600"]);
    assert_eq!(rows(&mut session, "SELECT count(*) FROM lake_partitions('many')").await, ["600"]);
    rows(&mut session, "DROP TABLE many").await;
    assert_eq!(files("ops/many"), Vec::<PathBuf>::new());
    // Emptied, it has its rows of before; a row that comes then is the only one.
    rows(&mut session, "TRUNCATE berths").await;
    rows(&mut session, "INSERT INTO berths VALUES (2, 'south')").await;
    let states = "SELECT operation, rows, rows_removed, files FROM lake_snapshots('berths')";
    assert_eq!(rows(&mut session, states).await, ["append|1|∅|1", "append|1|∅|1", "delete|0|1|0"]);
    assert_eq!(rows(&mut session, "SELECT * FROM berths").await, ["2|south"]);
    let first = rows(&mut session, "SELECT min(at)::text FROM lake_snapshots('berths')").await;
    let then = format!("SELECT * FROM berths FOR SYSTEM_TIME AS OF timestamptz '{}'", first[0]);
    assert_eq!(rows(&mut session, &then).await, ["1|north"]);
    let found = written.read_by_the_library(&json!({ "ops/berths": ["id > 0"] }));
    assert_eq!((&found["ops/berths"]["records"], &found["ops/berths"]["history"]), (&json!(1), &json!(3)));
    rows(&mut session, "DROP TABLE berths").await;
    assert_eq!(files("ops/berths"), Vec::<PathBuf>::new());
    assert!(answer(&mut session, "SELECT * FROM berths").await.unwrap_err().message.contains("berths"));
}

/// Rows are changed whether files are written again or others tell what is gone, whatever the partitions.
#[tokio::test(flavor = "multi_thread")]
async fn rows_are_changed_whole_or_not_at_all() {
    let modes = ["write.delete.mode", "write.update.mode", "write.merge.mode"];
    let told = modes.map(|mode| format!("{mode} = 'merge-on-read'")).join(", ");
    for (partition_by, with) in [
        ("", ""),
        ("PARTITION BY (kind, bucket(3, id))", ""),
        ("", told.as_str()),
        ("PARTITION BY (truncate(50, id))", told.as_str()),
    ] {
        let written = Written::new();
        written.engine.add_connection(ConnectionDefinition::new("tides", "generated", "")).unwrap();
        written.engine.add_catalog(CatalogDefinition::new("tides", "tides")).unwrap();
        let mut session = written.session();
        let with = if with.is_empty() { String::new() } else { format!("WITH ({with})") };
        let made = format!(
            "CREATE TABLE kept (id integer NOT NULL, vessel_id integer, kind text, urgency integer, cost numeric(10,2), note text) {partition_by} {with}"
        );
        rows(&mut session, &made).await;
        rows(&mut session, "CREATE TABLE crew (vessel_id integer, size integer, name text)").await;
        crate::truth::changed::check_here(&mut session).await;
        let found = written.read_by_the_library(&json!({ "ops/kept": ["urgency = 0"] }));
        assert_eq!(
            found["ops/kept"]["counts"][0].to_string(),
            rows(&mut session, "SELECT count(*) FROM kept").await[0]
        );
        let sql = |from: &str| format!("SELECT * FROM {from}.kept");
        assert_eq!(rows(&mut session, &sql("lake.ops")).await, rows(&mut session, &sql("rows.public")).await);
    }
}

/// Many write at the same time: all rows are there, in as many snapshots, each of which has one parent.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn many_write_at_the_same_time() {
    for kind in KINDS_OF_LAKES {
        many_write(Written::of(kind)).await;
    }
}

async fn many_write(written: Written) {
    let mut session = written.session();
    rows(&mut session, "CREATE TABLE counted (writer bigint, turn bigint)").await;
    let write = async |mut session: Session, writer: usize| {
        for turn in 0..6 {
            let sql = format!("INSERT INTO counted VALUES ({writer}, {turn})");
            rows(&mut session, &sql).await;
        }
    };
    let writers: Vec<_> = (0..6).map(|writer| write(written.session(), writer)).collect();
    futures::future::join_all(writers).await;
    assert_eq!(rows(&mut session, "SELECT count(*), count(DISTINCT writer * 10 + turn) FROM counted").await, ["36|36"]);
    let found = written.read_by_the_library(&json!({ "ops/counted": ["writer = 3"] }));
    assert_eq!((&found["ops/counted"]["history"], &found["ops/counted"]["counts"][0]), (&json!(36), &json!(6)));
}

/// A store that refuses, answers late and loses answers: every insert that was acknowledged is there once, and no half of another.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_store_that_fails_loses_and_doubles_nothing() {
    let root = tempfile::tempdir().unwrap();
    std::fs::create_dir(root.path().join("deep")).unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let faults = Faults { refused: 6, slow: 6, lost: 6 };
    drop(serve_with_faults(root.path(), listener, Some(("writer", "a secret")), faults).unwrap());
    let engine = Engine::in_memory().unwrap();
    let mut deep = ConnectionDefinition::new("deep", "s3", format!("127.0.0.1:{port}"));
    deep.options.insert("bucket".into(), "deep".into());
    (deep.user, deep.secret) = (Some("writer".into()), Some(Secret::new("a secret")));
    let mut lake = ConnectionDefinition::new("lake", "lake", "");
    lake.options.extend([("storage", "deep"), ("writable", "true")].map(|(name, value)| (name.into(), value.into())));
    for definition in [deep, lake] {
        let name = definition.name.clone();
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(&name, &name)).unwrap();
    }
    let open = || {
        let mut session = engine.session();
        session.use_place("lake", Some("ops")).unwrap();
        session
    };
    let again = async |session: &mut Session, sql: &str| {
        for _ in 0..20 {
            if let Ok((rows, _)) = answer(session, sql).await {
                return rows;
            }
        }
        panic!("{sql}")
    };
    again(&mut open(), "CREATE TABLE IF NOT EXISTS counted (writer bigint, turn bigint) PARTITION BY (writer)").await;
    let write = async |writer: usize| {
        let (mut session, mut done) = (open(), Vec::new());
        for turn in 0..8 {
            let sql = format!("INSERT INTO counted SELECT {writer}, {turn} FROM generate_series(1, 3) AS g(n)");
            match answer(&mut session, &sql).await {
                Ok(_) => done.push(format!("{writer}|{turn}|3")),
                Err(error) => assert!(
                    ["connection deep", "connection lake"].iter().any(|name| error.message.contains(name)),
                    "{error:?}"
                ),
            }
        }
        done
    };
    let done = futures::future::join_all((0..3).map(write)).await.concat();
    let found = again(&mut open(), "SELECT writer, turn, count(*) FROM counted GROUP BY writer, turn").await;
    assert!(found.iter().all(|row| row.ends_with("|3")), "no half, none twice: {found:?}");
    let lost: Vec<&String> = done.iter().filter(|row| !found.contains(row)).collect();
    assert!(lost.is_empty() && done.len() > 8, "{lost:?} of {}", done.len());
}

/// The rows of a condition go and others come in one commit, in both ways of ending rows; what comes must meet the condition.
#[tokio::test(flavor = "multi_thread")]
async fn rows_of_a_condition_are_replaced() {
    let written = Written::new();
    let mut session = written.session();
    let s = &mut session;
    for mode in ["copy-on-write", "merge-on-read"] {
        rows(s, "DROP TABLE IF EXISTS days").await;
        rows(
            s,
            &format!(
                "CREATE TABLE days PARTITION BY (month(at)) WITH (write.delete.mode = '{mode}') AS \
                 SELECT n AS id, date '2025-01-01' + n AS at, (n * 0.25)::numeric(8,2) AS fare, 'first' AS note FROM generate_series(0, 364) AS g(n)"
            ),
        )
        .await;
        let load = "INSERT INTO days REPLACING (at >= '2025-02-01' AND at < date '2025-03-01') \
                    SELECT 1000 + n, date '2025-02-01' + n, n, 'second' FROM generate_series(0, 9) AS g(n)";
        // Again and again without doubles.
        for _ in 0..2 {
            assert_eq!(rows(s, load).await, ["lake.ops.days|10"]);
            let found = rows(s, "SELECT note, count(*), min(at), max(at), sum(fare) FROM days GROUP BY 1").await;
            assert_eq!(found, ["first|337|2025-01-01|2025-12-31|16296.00", "second|10|2025-02-01|2025-02-10|45.00"]);
        }
        // A whole partition goes without its files being read.
        let (_, plan) = answer(s, load).await.unwrap();
        let gate = &plan.unwrap().gates[0];
        assert_eq!((gate.measure.as_ref().unwrap().bytes, gate.columns_read.len()), (0, 2));
        let last =
            rows(s, "SELECT operation, rows_added, rows_removed FROM lake_snapshots('days') WHERE is_current").await;
        assert_eq!(last, ["overwrite|10|10"]);
        // Rows of several partitions, columns in another order, quoted values, and columns that are not named.
        let some = "INSERT INTO days (note, id, at) REPLACING (days.id % 100 = 7 AND note = 'first') VALUES ('first', '7', '2025-09-09'), ('first', 107, '2025-09-10')";
        rows(s, some).await;
        let found = rows(s, "SELECT id, at, fare FROM days WHERE id % 100 = 7 AND note = 'first' ORDER BY id").await;
        assert_eq!(found, ["107|2025-09-10|∅", "7|2025-09-09|∅"]);
        let before = rows(s, "SELECT count(*), sum(id) FROM days").await;
        for (sql, code, part) in [
            (
                "INSERT INTO days REPLACING (id = 5) SELECT 6, date '2025-01-01', 1, 'x'",
                Code::InvalidValue,
                "the condition of REPLACING is not true of 1 of the new rows",
            ),
            (
                "INSERT INTO days (note) REPLACING (id = 5) SELECT 'x'",
                Code::InvalidValue,
                "the condition of REPLACING is not true of 1 of the new rows",
            ),
            ("INSERT INTO days REPLACING (idd = 5) SELECT 6, date '2025-01-01', 1, 'x'", Code::UnknownName, "idd"),
            ("INSERT INTO days (nothing) REPLACING (id = 5) SELECT 6", Code::UnknownName, "nothing"),
            ("INSERT INTO days REPLACING id = 5 SELECT 6", Code::Syntax, "expected"),
            ("INSERT INTO days REPLACING (id = 5)", Code::Syntax, ""),
            ("INSERT INTO days REPLACING (id = 5) SELECT 5, date '2025-01-01', 1 / 0, 'x'", Code::DivisionByZero, ""),
        ] {
            let error = answer(s, sql).await.map(|(rows, _)| rows).expect_err(sql);
            assert!(error.code == code && error.message.contains(part), "{sql}: {:?} {}", error.code, error.message);
        }
        assert_eq!(rows(s, "SELECT count(*), sum(id) FROM days").await, before);
        // Nothing goes, and nothing comes.
        rows(s, "INSERT INTO days REPLACING (id = -1) SELECT -1, date '2025-01-01', 0, 'new'").await;
        rows(s, "INSERT INTO days REPLACING (note = 'second') SELECT * FROM days WHERE false").await;
        let found = rows(s, "SELECT note, count(*) FROM days GROUP BY 1").await;
        assert_eq!(found, ["first|335", "new|1"]);
    }
    let wanted = json!({ "ops/days": ["id >= 0", "note = 'new'"] });
    assert_eq!(written.read_by_the_library(&wanted)["ops/days"]["counts"], json!([335, 1]));
}

/// A question for one month of three years asks the store for that month's files alone.
#[tokio::test(flavor = "multi_thread")]
async fn one_month_of_three_years_is_read_alone() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("deep")).unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let told = Told::default();
    drop(serve_told(folder.path(), listener, Some(("reader", "a secret")), Faults::default(), told.clone()).unwrap());
    let engine = Engine::in_memory().unwrap();
    let mut deep = ConnectionDefinition::new("deep", "s3", format!("127.0.0.1:{port}"));
    deep.options.insert("bucket".into(), "deep".into());
    (deep.user, deep.secret) = (Some("reader".into()), Some(Secret::new("a secret")));
    let mut lake = ConnectionDefinition::new("lake", "lake", "");
    lake.options.extend([("storage".to_owned(), "deep".to_owned()), ("writable".to_owned(), "true".to_owned())]);
    for definition in [deep, lake, ConnectionDefinition::new("tides", "generated", "")] {
        let name = definition.name.clone();
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(&name, &name)).unwrap();
    }
    let mut session = engine.session();
    session.use_place("lake", Some("ops")).unwrap();
    let s = &mut session;
    rows(s, "CREATE TABLE sailings PARTITION BY (month(departed_at)) AS SELECT id, departed_at, delay_minutes FROM tides.creek.sailings").await;
    let of_month = "departed_at >= timestamp '2024-07-01' AND departed_at < timestamp '2024-08-01'";
    let wanted =
        rows(s, &format!("SELECT count(*), sum(delay_minutes) FROM tides.creek.sailings WHERE {of_month}")).await;
    let files = rows(s, "SELECT path FROM lake_files('sailings') WHERE partition LIKE '%2024-07%'").await;
    let all = rows(s, "SELECT path FROM lake_files('sailings')").await;
    assert!(files.len() == 1 && all.len() == 36, "{files:?} of {}", all.len());
    let asked = || {
        let told = std::mem::take(&mut *told.lock().unwrap());
        let mut data: Vec<String> =
            told.into_iter().map(|(_, path)| path).filter(|path| path.contains("/data/")).collect();
        data.sort();
        data.dedup();
        data
    };
    drop(asked());
    let question = format!("SELECT count(*), sum(delay_minutes) FROM sailings WHERE {of_month}");
    let (found, plan) = answer(s, &question).await.unwrap();
    assert_eq!(found, wanted);
    let asked = asked();
    assert_eq!(asked.len(), 1, "{asked:?}");
    assert!(files[0].ends_with(asked[0].strip_prefix("/deep").unwrap()), "{asked:?} for {files:?}");
    let parts = &plan.unwrap().gates[0].parts;
    assert!(parts.iter().any(|part| part.parts.contains("file") && (part.read, part.total) == (1, 36)), "{parts:?}");
}
