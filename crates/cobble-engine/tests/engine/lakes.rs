//! Tables of the open table format that its own library has written: every question gives the same rows as over the rows that the library
//! reads, and as with nothing handed over.

use std::path::Path;
use std::process::Command;
use std::sync::OnceLock;

use cobble_connect::Credentials;
use cobble_engine::{Asker, CatalogDefinition, ConnectionDefinition, Engine, Secret, Session};

use crate::truth;
use crate::truth::answer;

/// What the library has written, once for all tests.
pub fn written() -> &'static Path {
    static WRITTEN: OnceLock<tempfile::TempDir> = OnceLock::new();
    let folder = WRITTEN.get_or_init(|| {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let folder = tempfile::tempdir().unwrap();
        let python = root.join("target/python/bin/python");
        let output = Command::new(&python)
            .arg(root.join("crates/cobble-lake/tests/partner.py"))
            .arg(folder.path())
            .output()
            .unwrap_or_else(|e| panic!("{}: {e}; `make test` makes it", python.display()));
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        folder
    });
    folder.path()
}

fn definition(name: &str, kind: &str, address: &str, storage: Option<&str>) -> ConnectionDefinition {
    let mut definition = ConnectionDefinition::new(name, kind, address);
    definition.options.extend(storage.map(|storage| ("storage".to_owned(), storage.to_owned())));
    definition
}

/// The lake once more, of which a plan finds so many files, and the rest while it runs.
fn finds(name: &str, files: u64) -> ConnectionDefinition {
    let mut definition = definition(name, "lake", "", Some("deep"));
    definition.options.insert("planned_files".to_owned(), files.to_string());
    definition
}

fn session() -> Session {
    let engine = Engine::in_memory().unwrap();
    let place = |name: &str| written().join(name).display().to_string();
    for definition in [
        definition("deep", "files", &place("warehouse"), None),
        definition("rows", "files", &place("rows"), None),
        definition("lake", "lake", "", Some("deep")),
        finds("late", 0),
        finds("mixed", 3),
    ] {
        let name = definition.name.clone();
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(&name, &name)).unwrap();
    }
    let mut session = engine.session();
    session.use_place("lake", Some("ops")).unwrap();
    session
}

const CONDITIONS: &[&str] = &[
    "id = 77",
    "id IN (3, 177, 100000)",
    "id < 10 OR id > 590",
    "departed_at >= '2024-01-01'",
    "departed_at BETWEEN '2023-01-05' AND '2023-01-20 12:00'",
    "departed_at = '2023-01-01 16:10'",
    "departed_at < '1999-01-01'",
    "vessel = 'Kestrel 1'",
    "vessel LIKE 'Sør%'",
    "vessel IS NULL",
    "vessel IS NOT NULL AND port = 7",
    "port = 7",
    "port <> 7 AND port < 12",
    "fare > 1.5 AND wave < 1",
    "fare IS NULL",
    "wave IS NOT DISTINCT FROM null",
    "id % 7 = 3",
    "NOT (port > 3)",
];

#[tokio::test(flavor = "multi_thread")]
async fn questions_give_the_rows_that_the_library_reads() {
    let mut session = session();
    let tables = session.tables("lake", "ops").await.unwrap();
    assert!(tables.len() >= 22, "{tables:?}");
    let others = ["kinds", "evolved", "respecified", "in_avro", "adopted"];
    for table in tables.iter().filter(|table| !others.contains(&table.as_str())) {
        for condition in std::iter::once(&"true").chain(CONDITIONS) {
            let sql = |from: &str| format!("SELECT * FROM {from}.{table} WHERE {condition} ORDER BY id");
            let (ours, _) =
                answer(&mut session, &sql("lake.ops")).await.unwrap_or_else(|e| panic!("{table} {condition}: {e}"));
            let (theirs, _) = answer(&mut session, &sql("rows.public")).await.unwrap();
            assert_eq!(ours, theirs, "{table} WHERE {condition}");
        }
    }
    for condition in
        ["id = 177", "id < 90", "departed_at < '2023-02-01'", "departed_at > '2023-03-15' AND id % 3 = 0", "port = 7"]
    {
        let sql = |from: &str| format!("SELECT * FROM {from}.respecified WHERE {condition} ORDER BY id");
        let (ours, _) = answer(&mut session, &sql("lake.ops")).await.unwrap_or_else(|e| panic!("{condition}: {e}"));
        assert_eq!(ours, answer(&mut session, &sql("rows.public")).await.unwrap().0, "{condition}");
        assert!(!ours.is_empty(), "{condition}");
    }
    for (table, condition) in [
        ("in_avro", "true"),
        ("in_avro", "id > 118 AND id < 125 AND fare IS NOT NULL"),
        ("in_avro", "berth.pier LIKE 'Sør%' OR stops[2] = 8"),
        ("in_avro", "seal = '\\x05050505' OR marks[1].value = 12 OR depths[1].key = 13"),
        ("in_avro", "at_utc < '2023-01-05 00:00Z' AND day > '2023-01-01' AND open"),
        ("adopted", "true"),
        ("adopted", "port = 14"),
        ("adopted", "port + 1 = 22 AND fare > 1"),
        ("adopted", "ship = 'Kestrel 1' OR ship IS NULL"),
        ("adopted", "departed_at < '2023-03-01' AND wave > 2"),
    ] {
        let sql = |from: &str| format!("SELECT * FROM {from}.{table} WHERE {condition} ORDER BY id");
        let (ours, _) =
            answer(&mut session, &sql("lake.ops")).await.unwrap_or_else(|e| panic!("{table} WHERE {condition}: {e}"));
        assert_eq!(ours, answer(&mut session, &sql("rows.public")).await.unwrap().0, "{table} WHERE {condition}");
        assert!(!ours.is_empty(), "{table} WHERE {condition}");
    }
    let evolved = |from: &str| {
        format!("SELECT * FROM {from}.evolved WHERE ship > 'L' OR crew = 3 OR port > 5000000150 ORDER BY id")
    };
    let (ours, _) = answer(&mut session, &evolved("lake.ops")).await.unwrap();
    assert_eq!(ours, answer(&mut session, &evolved("rows.public")).await.unwrap().0);
    assert!(ours.len() > 50);
}

/// What planning leaves is found while rows are read: the same rows, and the same files.
#[tokio::test(flavor = "multi_thread")]
async fn files_that_planning_leaves_are_found_while_rows_are_read() {
    let mut session = session();
    let tables = session.tables("lake", "ops").await.unwrap();
    let others = ["kinds", "evolved", "respecified", "in_avro", "adopted"];
    let mut left = 0;
    for table in tables.iter().filter(|table| !others.contains(&table.as_str())) {
        for (place, condition) in std::iter::once(&"true").chain(CONDITIONS).enumerate() {
            let of = |lake: &str| match place % 3 {
                0 => format!("SELECT * FROM {lake}.ops.{table} WHERE {condition}"),
                1 => format!("SELECT count(*) FROM {lake}.ops.{table} WHERE {condition}"),
                _ => format!("SELECT port, count(*), max(vessel) FROM {lake}.ops.{table} WHERE {condition} GROUP BY 1"),
            };
            let (wanted, plan) = answer(&mut session, &of("lake")).await.unwrap();
            let planned = plan.and_then(|plan| plan.gates.into_iter().next()).map(|gate| gate.parts);
            for lake in ["late", "mixed"] {
                let (found, plan) = answer(&mut session, &of(lake)).await.unwrap();
                assert_eq!(found, wanted, "{}", of(lake));
                let Some(gate) = plan.and_then(|plan| plan.gates.into_iter().next()) else { continue };
                let later = gate.measure.map(|measure| measure.parts).unwrap_or_default();
                left += usize::from(!later.is_empty());
                // What was found before and after are the files that are found at once otherwise.
                for parts in ["files in them by partition", "files of those by bounds"] {
                    let sum = |all: &[cobble_plan::offer::PartCount]| {
                        let own = all.iter().filter(|own| own.parts == parts);
                        own.map(|own| (own.read, own.total)).fold((0, 0), |sum, own| (sum.0 + own.0, sum.1 + own.1))
                    };
                    let both: Vec<_> = gate.parts.iter().chain(&later).cloned().collect();
                    assert_eq!(sum(&both), sum(planned.as_deref().unwrap_or_default()), "{parts}: {}", of(lake));
                }
            }
        }
    }
    assert!(left > 200, "{left}");
    // Few rows of many files, a join, and the row groups of a condition.
    for sql in [
        "SELECT count(*) FROM (SELECT id FROM {}.ops.by_month_v2 LIMIT 7) AS t",
        "SELECT count(*), sum(a.port) FROM {}.ops.by_bucket_v1 AS a JOIN {}.ops.by_day_v1 AS b ON a.id = b.id WHERE b.port < 9",
        "SELECT count(*) FROM {}.ops.by_month_v2 AS a WHERE EXISTS (SELECT FROM {}.ops.holed AS b WHERE b.id = a.id + 1)",
        "SELECT * FROM row_group_stats('{}.ops.by_day_v1', filter => 'port < 5 AND id > 300')",
    ] {
        let wanted = answer(&mut session, &sql.replace("{}", "lake")).await.unwrap().0;
        for lake in ["late", "mixed"] {
            let found = answer(&mut session, &sql.replace("{}", lake)).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
            assert_eq!(found.0, wanted, "{sql}");
        }
    }
    let plan =
        "EXPLAIN ANALYZE SELECT count(*), max(port) FROM mixed.ops.by_month_v2 WHERE departed_at >= '2023-05-01'";
    let (lines, _) = answer(&mut session, plan).await.unwrap();
    assert!(lines.iter().any(|line| line.contains("manifests that planning had left")), "{lines:?}");
}

/// Keys of a join leave out what cannot hold them, whether the files were known before or are found later.
#[tokio::test(flavor = "multi_thread")]
async fn keys_of_a_join_leave_row_groups_out() {
    let mut session = session();
    for (table, column, keys) in [
        ("by_month_v2", "id", "(7), (590), (NULL)"),
        ("by_year_and_port_v2", "port", "(7)"),
        ("by_year_and_port_v1", "port", "(7), (8), (9)"),
    ] {
        let sql = |lake: &str, keys: &str| {
            format!(
                "SELECT count(*), sum(a.id) FROM {lake}.ops.{table} AS a JOIN (VALUES {keys}) AS k(key) ON a.{column} = k.key"
            )
        };
        let (wanted, _) = answer(&mut session, &sql("rows", keys).replace("rows.ops", "rows.public")).await.unwrap();
        for lake in ["lake", "late", "mixed"] {
            let (found, plan) = answer(&mut session, &sql(lake, keys)).await.unwrap();
            assert_eq!(found, wanted, "{}", sql(lake, keys));
            let gates = plan.unwrap().gates;
            let used = gates.iter().filter_map(|gate| gate.measure.as_ref()).flat_map(|measure| &measure.keys);
            let skipped: u64 = used.map(|keys| keys.parts_skipped).sum();
            assert!(skipped > 5, "{skipped} {}", sql(lake, keys));
        }
    }
}

/// What a condition leaves of row groups is what the same session's question would read, in its time zone.
#[tokio::test(flavor = "multi_thread")]
async fn conditions_on_row_groups_are_those_of_the_session() {
    let mut session = session();
    for (zone, condition) in [
        ("UTC", "departed_at::timestamptz < '2023-03-01'"),
        ("America/New_York", "departed_at::timestamptz < '2023-03-01'"),
        ("Asia/Tokyo", "departed_at < now()::timestamp - interval '900 days' AND id < 400"),
    ] {
        answer(&mut session, &format!("SET timezone = '{zone}'")).await.unwrap();
        let quoted = condition.replace('\'', "''");
        let told = format!(
            "SELECT count(*) FILTER (WHERE is_read) FROM row_group_stats('by_month_v2', filter => '{quoted}') WHERE column_name = 'id'"
        );
        let (told, _) = answer(&mut session, &told).await.unwrap_or_else(|e| panic!("{told}: {e}"));
        let asked = format!("SELECT sum(id), sum(port) FROM by_month_v2 WHERE {condition}");
        let (_, plan) = answer(&mut session, &asked).await.unwrap();
        let gate = &plan.unwrap().gates[0];
        let read = gate.parts.iter().find(|own| own.parts == "row groups in those").unwrap().read;
        assert_eq!(told, [read.to_string()], "{zone}: {condition}");
    }
}

/// A table that another service's catalog keeps is read, and not written.
#[tokio::test(flavor = "multi_thread")]
async fn tables_of_other_catalogs_are_not_written() {
    let engine = Engine::in_memory().unwrap();
    let place = written().join("warehouse").display().to_string();
    engine.add_connection(definition("deep", "files", &place, None)).unwrap();
    let mut lake = definition("lake", "lake", "", Some("deep"));
    lake.options.insert("writable".into(), "true".into());
    engine.add_connection(lake).unwrap();
    engine.add_catalog(CatalogDefinition::new("lake", "lake")).unwrap();
    let mut session = engine.session();
    session.use_place("lake", Some("ops")).unwrap();
    let count = "SELECT count(*) FROM plain_v2";
    let before = answer(&mut session, count).await.unwrap().0;
    for sql in ["INSERT INTO plain_v2 (id) VALUES (1)", "TRUNCATE plain_v2", "DROP TABLE plain_v2"] {
        let error = answer(&mut session, sql).await.unwrap_err();
        assert!(error.message.contains("named by a catalog of another service"), "{sql}: {error:?}");
    }
    assert_eq!(answer(&mut session, count).await.unwrap().0, before);
}

/// How tables are put together, from their names down to row groups.
#[tokio::test(flavor = "multi_thread")]
async fn how_a_table_is_put_together_is_told() {
    let mut session = session();
    let mut shown = String::new();
    for sql in [
        "SELECT operation, files_added, rows_added, files, rows, is_current, parent IS NULL FROM lake_snapshots('evolved')",
        "SELECT operation, files_added, rows_added, rows FROM lake_snapshots('holed')",
        "SELECT r.name, r.kind, s.rows, s.schema_id FROM lake_refs('lake.ops.evolved') r JOIN lake_snapshots('evolved') s ON s.snapshot = r.snapshot ORDER BY 1",
        "SELECT count(*), count(*) FILTER (WHERE is_ancestor), min(at) = (SELECT min(at) FROM lake_snapshots('evolved')) FROM lake_history('evolved')",
        "SELECT content, files_added, files_kept, rows_added, partitions FROM lake_manifests('by_prefix_v2') ORDER BY rows_added, files_added",
        "SELECT content, count(*), sum(rows) FROM lake_files('revoked') GROUP BY content ORDER BY content",
        "SELECT partition, files, rows, files_of_deleted_rows FROM lake_partitions('holed_by_month')",
        "SELECT partition, files, rows FROM lake_partitions('by_hour_v1') ORDER BY partition LIMIT 2",
        "SELECT partition, files, rows FROM lake_partitions('by_year_and_port_v2') WHERE partition LIKE '%port=7'",
        "SELECT count(*) FROM lake_files('never_filled')",
        "SELECT column_name, count(*), sum(rows), min(least), max(greatest), sum(nulls), min(bytes) > 0, min(encodings), min(packing) FROM row_group_stats('plain_v2') GROUP BY column_name ORDER BY column_name",
        "SELECT count(DISTINCT column_name), sum(rows) FROM row_group_stats('rows.public.plain_v2') WHERE row_group = 0",
        "SELECT column_name, greatest FROM row_group_stats('rows/evolved/*.parquet') WHERE column_name IN ('id', 'ship')",
    ] {
        let (rows, _) = answer(&mut session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
        shown.push_str(&format!("{sql}\n  {}\n", rows.join("\n  ")));
    }
    insta::assert_snapshot!(shown);
    for (sql, told) in [
        ("SELECT * FROM lake_files('nothing')", "no table lake.ops.nothing"),
        ("SELECT * FROM lake_files(12)", "a table in quotes"),
        ("SELECT * FROM lake_files('a b')", "no name of a table"),
        ("SELECT * FROM lake_files()", "takes the name of a table"),
        ("SELECT * FROM lake_files('rows.public.evolved')", "is no table of a lake"),
    ] {
        let error = answer(&mut session, sql).await.unwrap_err();
        assert!(error.message.contains(told), "{sql}: {error:?}");
    }
}

/// A table at a moment, a snapshot, a branch and a tag, with its schema as of then, beside itself as it is now.
#[tokio::test(flavor = "multi_thread")]
async fn a_table_is_asked_as_it_was() {
    let mut session = session();
    let told: serde_json::Value = serde_json::from_slice(&std::fs::read(written().join("told.json")).unwrap()).unwrap();
    let [first, second] = [0, 1].map(|n| told["evolved"]["snapshots"][n].clone());
    let at = |snapshot: &serde_json::Value, after: i64| {
        let at = chrono::DateTime::from_timestamp_millis(snapshot["at"].as_i64().unwrap() + after).unwrap();
        at.format("%Y-%m-%d %H:%M:%S%.3f").to_string()
    };
    let rows =
        async |session: &mut Session, sql: &str| answer(session, sql).await.unwrap_or_else(|e| panic!("{sql}: {e}")).0;
    let wanted = rows(&mut session, "SELECT * FROM rows.public.evolved_first ORDER BY id").await;
    for version in [
        format!("FOR VERSION AS OF {}", first["id"]),
        "FOR VERSION AS OF 'opening'".into(),
        format!("FOR SYSTEM_TIME AS OF TIMESTAMP '{}'", at(&first, 0)),
        format!("for system_time as of timestamptz '{}Z' - interval '1 millisecond' AS then", at(&second, 0)),
        format!("FOR SYSTEM_TIME AS OF '{}Z'", at(&first, 0)),
    ] {
        let found = rows(&mut session, &format!("SELECT * FROM evolved {version} ORDER BY id")).await;
        assert_eq!(found, wanted, "{version}");
    }
    // A branch is seen in the schema that is written to it next.
    let of_branch =
        rows(&mut session, "SELECT count(*), count(crew), max(ship) FROM evolved FOR VERSION AS OF 'audit'").await;
    assert_eq!(of_branch, ["100|0|Sørhavn 8"]);
    let joined = "SELECT (SELECT count(*) FROM evolved), count(*), count(then.vessel) FROM evolved AS now JOIN evolved FOR VERSION AS OF 'opening' AS then ON now.id = then.id JOIN evolved FOR VERSION AS OF 'main' AS m ON m.id = now.id";
    let both = rows(&mut session, joined).await;
    assert_eq!(both, ["201|100|90"]);
    let ours = answer(&mut session, "SET timezone = 'America/New_York'").await;
    ours.unwrap();
    for (sql, told, hint) in [
        (
            "SELECT * FROM evolved FOR SYSTEM_TIME AS OF '1999-01-01'",
            "had no state yet at 1999-01-01 05:00:00Z",
            "its first one that is known is of",
        ),
        ("SELECT * FROM evolved FOR VERSION AS OF 12", "has no snapshot 12", "its last ones are"),
        (
            "SELECT * FROM evolved FOR VERSION AS OF 'openning'",
            "has no branch or tag openning",
            "did you mean \"opening\"?",
        ),
        ("SELECT * FROM nothing FOR VERSION AS OF 12", "no table lake.ops.nothing", ""),
        ("SELECT * FROM rows.public.evolved FOR VERSION AS OF 12", "keeps no earlier states", "tables of a lake"),
        ("SELECT * FROM evolved FOR SYSTEM_TIME AS OF id", "no column named", ""),
        ("SELECT * FROM evolved FOR SYSTEM_TIME AS OF 12", "timestamp", ""),
        ("SELECT * FROM evolved FOR VERSION AS OF 1.5", "no number of a version", ""),
        ("SELECT * FROM evolved FOR VERSION AS OF null", "a number or a name in quotes", ""),
        ("SELECT * FROM generate_series(1, 3) FOR VERSION AS OF 12", "found SYSTEM_TIME", ""),
        ("WITH evolved AS (SELECT 1) SELECT * FROM evolved FOR VERSION AS OF 12", "has no snapshot 12", ""),
        ("DELETE FROM evolved FOR VERSION AS OF 12", "", ""),
    ] {
        let error = answer(&mut session, sql).await.unwrap_err();
        let found = error.hint.clone().unwrap_or_default();
        assert!(error.message.contains(told) && found.contains(hint), "{sql}: {error:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_type_is_read() {
    let mut session = session();
    let (rows, _) = answer(&mut session, "SELECT * FROM kinds ORDER BY small").await.unwrap();
    insta::assert_snapshot!(rows.join("\n"));
    for (condition, rows) in [
        ("mark = 'f79c3e09-677c-4bbd-a479-3f349cb785e7'", "1"),
        ("berth.pier = 'north' AND stops[3] = 3", "1"),
        ("double > 5", "2"),
        ("double = 'NaN'", "1"),
        ("double >= 'NaN'", "1"),
        ("exact < 0", "1"),
        ("seal = '\\x61626364'", "1"),
        ("marks IS NULL", "1"),
        ("at_utc < '2000-01-01 00:00Z' AND day < '0002-01-01'", "1"),
    ] {
        let (found, _) = answer(&mut session, &format!("SELECT count(*) FROM kinds WHERE {condition}")).await.unwrap();
        assert_eq!(found, [rows], "{condition}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_handed_over_never_changes_an_answer() {
    let mut session = session();
    let tables = ["by_month_v2", "by_bucket_v1", "by_prefix_v2", "holed", "revoked"];
    let all = tables.iter().flat_map(|table| {
        let own =
            CONDITIONS.iter().map(move |c| format!("SELECT count(*), min(id), max(vessel) FROM {table} WHERE {c}"));
        own.chain([format!("SELECT a.id, b.vessel FROM {table} a JOIN by_day_v1 b ON a.id = b.id WHERE b.port < 9")])
    });
    truth::table(&mut session, &all.collect::<Vec<_>>(), "-").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn both_halves_of_a_lake_are_tested_apart() {
    let engine = Engine::in_memory().unwrap();
    let place = |name: &str| written().join(name).display().to_string();
    engine.add_connection(definition("deep", "files", &place("warehouse"), None)).unwrap();
    engine.add_connection(definition("rows", "files", &place("rows"), None)).unwrap();
    let mut shown = String::new();
    for (name, address, storage) in [
        ("good", "", "deep"),
        ("no_storage", "", "nowhere"),
        ("other_storage", "", "rows"),
        ("one_schema", "ops", "deep"),
        ("other_folder", "nothing", "deep"),
    ] {
        let steps = truth::steps_in(&engine, name, &definition(name, "lake", address, Some(storage))).await;
        shown.extend(steps.lines().take(5).map(|line| format!("{line}\n")));
    }
    insta::assert_snapshot!(shown.replace(&written().display().to_string(), "…"));
    // The storage stays while a lake lies on it.
    engine.add_connection(definition("lake", "lake", "", Some("deep"))).unwrap();
    let error = engine.remove_connection("deep").unwrap_err();
    assert!(error.message.contains("holds the files of connection lake"), "{error}");
}

/// Who has credentials of their own at a storage reaches the tables whose files lie there by these.
#[test]
fn a_lake_is_seen_with_the_credentials_for_its_storage() {
    let engine = Engine::in_memory().unwrap();
    let mut deep = definition("deep", "s3", "http://127.0.0.1:1", None);
    deep.options.insert("bucket".into(), "deep".into());
    (deep.user, deep.secret) = (Some("reader".into()), Some(Secret::new("of the reader")));
    let own = Credentials { user: Some("ada".into()), secret: Some(Secret::new("of ada")) };
    deep.credentials.insert("ada".into(), own);
    engine.add_connection(deep).unwrap();
    engine.add_connection(definition("lake", "lake", "", Some("deep"))).unwrap();
    engine.add_connection(definition("rows", "files", "/nowhere", None)).unwrap();
    for name in ["lake", "rows"] {
        engine.add_catalog(CatalogDefinition::new(name, name)).unwrap();
    }
    let owner = |user: &str, catalog: &str| {
        let asker = Asker { id: Some(1), name: Some(user.to_owned()), is_administrator: false };
        engine.set_for(&asker).unwrap().owner(catalog).map(str::to_owned)
    };
    assert_eq!(owner("ada", "lake").as_deref(), Some("ada"));
    assert_eq!([owner("ada", "rows"), owner("ben", "lake")], [None, None]);
}
