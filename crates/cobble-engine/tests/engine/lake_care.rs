//! What becomes of a lake's tables over time: columns, partitions and names of states change, small files are put together, states end. The
//! rows stay, for us and for the format's own library.

use serde_json::json;

use cobble_engine::Session;
use cobble_types::Code;

use crate::lake_writes::{KINDS_OF_LAKES, Written, rows};
use crate::lakes;
use crate::truth::answer;

async fn refused(session: &mut Session, sql: &str, told: &str) {
    let error = answer(session, sql).await.map(|(rows, _)| rows).expect_err(sql);
    let hint = error.hint.clone().unwrap_or_default();
    assert!(error.message.contains(told) || hint.contains(told), "{sql}: {error:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn columns_change_and_rows_stay() {
    let written = Written::new();
    let mut session = written.session();
    let s = &mut session;
    rows(s, "CREATE TABLE trips PARTITION BY (port) AS SELECT 1 AS id, 'Lia' AS port, 10.25::numeric(6,2) AS fare, 1.5::real AS length, ROW(1, 'x') AS pair").await;
    rows(s, "INSERT INTO trips VALUES (2, 'Rauøy', NULL, NULL, NULL)").await;
    rows(s, "ALTER TABLE trips ADD COLUMN note text, ADD stops integer[], RENAME COLUMN fare TO price, ALTER id TYPE bigint").await;
    rows(s, "INSERT INTO trips (id, port, price, note, stops) VALUES (4000000000, 'Lia', 7.5, 'new', ARRAY[1, 2])")
        .await;
    rows(s, "ALTER TABLE trips ALTER price TYPE numeric(12,2), ALTER COLUMN length SET DATA TYPE double precision, ALTER note FIRST, ALTER id AFTER port").await;
    rows(s, "ALTER TABLE trips ADD pair.c date, RENAME pair.f1 TO first, DROP COLUMN pair.f2").await;
    assert_eq!(
        rows(s, "SELECT * FROM trips").await,
        ["new|Lia|4000000000|7.50|∅|∅|{1,2}", "∅|Lia|1|10.25|1.5|(1,)|∅", "∅|Rauøy|2|∅|∅|∅|∅"]
    );
    assert_eq!(
        rows(s, "SELECT count(*) FROM trips WHERE price > 8 AND (pair).first = 1 AND (pair).c IS NULL").await,
        ["1"]
    );
    // The partitioning changes for what comes; the old files keep theirs.
    refused(s, "ALTER TABLE trips DROP COLUMN port", "partitioned by it").await;
    rows(s, "ALTER TABLE trips SET PARTITION BY (bucket(4, id))").await;
    rows(s, "INSERT INTO trips (id, port) SELECT n, 'Lia' FROM generate_series(10, 40) AS g(n)").await;
    rows(
        s,
        "ALTER TABLE trips DROP COLUMN port, SET (write.parquet.note = 'kept', owner = quay, write.target-file-size-bytes = 1000000), RESET (read.split.open-file-cost), ALTER id DROP NOT NULL",
    )
    .await;
    rows(s, "UPDATE trips SET price = 1 WHERE id BETWEEN 5 AND 20 OR id = 1").await;
    rows(s, "INSERT INTO trips (note) VALUES ('without')").await;
    assert_eq!(rows(s, "SELECT count(*), sum(price), count(id) FROM trips").await, ["35|19.50|34"]);
    assert_eq!(
        rows(s, "SELECT count(*) FROM trips FOR VERSION AS OF 'main' WHERE id > 30").await,
        ["11"],
        "a branch is seen as the table is"
    );
    for (sql, told) in [
        ("ALTER TABLE trips ADD id integer", "there is a column id already"),
        ("ALTER TABLE trips ADD must integer NOT NULL", "takes nulls"),
        ("ALTER TABLE trips DROP nothing", "there is no column nothing"),
        ("ALTER TABLE trips RENAME note TO price", "there is a column price already"),
        ("ALTER TABLE trips ALTER id TYPE integer", "no wider form"),
        ("ALTER TABLE trips ALTER price TYPE numeric(14,3)", "no wider form"),
        ("ALTER TABLE trips ALTER note.x FIRST", "is no row"),
        ("ALTER TABLE trips ADD x interval", "has no type for interval"),
        ("ALTER TABLE trips SET PARTITION BY (month(id))", "no transform of column id"),
        ("ALTER TABLE trips SET ORDER BY (berth)", "no column berth"),
        ("ALTER TABLE trips RENAME TO others", "is not supported"),
        ("ALTER TABLE trips ALTER id SET DEFAULT 3", "no DEFAULT"),
        ("ALTER TABLE nothing ADD x integer", "there is no table"),
        ("ALTER TABLE deep.public.x ADD x integer", "there is no table"),
        ("ALTER TABLE trips ADD x", "expected"),
    ] {
        refused(s, sql, told).await;
    }
    rows(s, "ALTER TABLE trips SET PARTITION BY (), RESET (owner)").await;
    rows(s, "INSERT INTO trips (id) VALUES (77)").await;
    rows(s, "ALTER TABLE IF EXISTS nothing ADD x integer").await;
    let found = written.read_by_the_library(&json!({ "ops/trips": ["id > 30", "price = 1"] }));
    assert_eq!(found["ops/trips"]["counts"], json!([12, 12]));
    let sql = |from: &str| format!("SELECT note, id, price, length, stops FROM {from}.trips");
    assert_eq!(rows(s, &sql("lake.ops")).await, rows(s, &sql("rows.public")).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn states_have_names() {
    for kind in KINDS_OF_LAKES {
        have_names(Written::of(kind)).await;
    }
}

async fn have_names(written: Written) {
    let mut session = written.session();
    let s = &mut session;
    rows(s, "CREATE TABLE berths (id integer, name text)").await;
    refused(s, "CALL lake_tag('berths', 'first')", "no state yet").await;
    rows(s, "INSERT INTO berths VALUES (1, 'north'), (2, 'south')").await;
    rows(s, "CALL lake_tag('berths', 'first')").await;
    rows(s, "CALL lake_branch('lake.ops.berths', name => 'trial')").await;
    rows(s, "INSERT INTO \"berths@trial\" VALUES (3, 'west')").await;
    rows(s, "UPDATE \"berths@trial\" SET name = upper(name) WHERE id = 1").await;
    rows(s, "DELETE FROM berths WHERE id = 2").await;
    assert_eq!(rows(s, "SELECT * FROM berths").await, ["1|north"]);
    let trial = ["1|NORTH", "2|south", "3|west"];
    assert_eq!(rows(s, "SELECT * FROM \"berths@trial\"").await, trial);
    assert_eq!(rows(s, "SELECT * FROM berths FOR VERSION AS OF 'trial'").await, trial);
    assert_eq!(rows(s, "SELECT * FROM \"berths@first\"").await, ["1|north", "2|south"]);
    let joined = "SELECT count(*) FROM berths b JOIN \"berths@trial\" t ON b.id = t.id";
    assert_eq!(rows(s, joined).await, ["1"], "several states of a table in one statement");
    refused(s, "INSERT INTO \"berths@first\" VALUES (9, 'x')", "tags stay as they are").await;
    refused(s, "SELECT * FROM \"berths@nowhere\"", "there is no branch or tag nowhere").await;
    refused(s, "DROP TABLE \"berths@trial\"", "lake_drop_ref").await;
    refused(s, "CREATE TABLE \"x@y\" (id integer)", "cannot be the name").await;
    refused(s, "CALL lake_fast_forward('berths', 'main', 'trial')", "does not go on from").await;
    // Rows that the branch has added come over; those that it has changed do not.
    let states = "SELECT snapshot FROM lake_snapshots('berths') WHERE operation = 'append' ORDER BY at DESC LIMIT 1";
    let west = rows(s, states).await[0].clone();
    rows(s, &format!("CALL lake_cherry_pick('berths', {west})")).await;
    assert_eq!(rows(s, "SELECT * FROM berths").await, ["1|north", "3|west"]);
    refused(s, &format!("CALL lake_cherry_pick('berths', {west})"), "has the rows of snapshot").await;
    // Back to where it was, and forward to the branch.
    rows(s, "CALL lake_roll_back('berths', 'first')").await;
    assert_eq!(rows(s, "SELECT * FROM berths").await, ["1|north", "2|south"]);
    let done = rows(s, "CALL lake_fast_forward('berths', branch => 'main', \"to\" => 'trial')").await;
    assert!(done[0].starts_with("main|"), "{done:?}");
    assert_eq!(rows(s, "SELECT * FROM berths").await, trial);
    rows(s, "CALL lake_drop_ref('berths', 'trial')").await;
    assert_eq!(rows(s, "SELECT name, kind FROM lake_refs('berths')").await, ["first|tag", "main|branch"]);
    for (sql, told) in [
        ("CALL lake_drop_ref('berths', 'main')", "stays"),
        ("CALL lake_drop_ref('berths', 'trial')", "there is no branch or tag trial"),
        ("CALL lake_tag('berths', 'first')", "there is a tag first already"),
        ("CALL lake_branch('berths', 'first', replace => true)", "there is a tag first already"),
        ("CALL lake_branch('berths', 'x', at => '12')", "there is no snapshot 12"),
        ("CALL lake_roll_back('berths', '12')", "there is no snapshot 12"),
        ("CALL lake_tag('berths')", "needs an argument for name"),
        ("CALL lake_tag('berths', 'a', nothing => 1)", "no parameter named \"nothing\""),
        ("CALL lake_tag('berths', name => 'a', 'b')", "stand before those with names"),
        ("CALL lake_tag('nothing', 'a')", "there is no table"),
        ("CALL lake_clean('berths')", "no procedure named \"lake_clean\""),
        ("CALL lake_tag", "and arguments"),
    ] {
        refused(s, sql, told).await;
    }
    let found = written.read_by_the_library(&json!({ "ops/berths": ["id > 0"] }));
    assert_eq!(found["ops/berths"]["counts"][0], 3);
}

/// Rows of files that are put together, whatever told that some of them are gone.
#[tokio::test(flavor = "multi_thread")]
async fn small_files_are_put_together_and_old_states_end() {
    for with in ["", "WITH (write.delete.mode = 'merge-on-read', write.update.mode = 'merge-on-read')"] {
        let written = Written::new();
        let mut session = written.session();
        let s = &mut session;
        rows(s, &format!("CREATE TABLE sold (id integer, port text, at date, note text) PARTITION BY (port) ORDER BY (at DESC, id) {with}")).await;
        for first in [1, 101, 201, 301] {
            rows(s, &format!("INSERT INTO sold SELECT n, CASE WHEN n % 2 = 0 THEN 'Lia' ELSE 'Rauøy' END, date '2023-01-01' + (n * 37) % 90, 'note ' || n FROM generate_series({first}, {}) AS g(n)", first + 99)).await;
        }
        rows(s, "DELETE FROM sold WHERE id % 10 = 3").await;
        rows(s, "UPDATE sold SET note = NULL WHERE id % 10 = 4").await;
        rows(s, "ALTER TABLE sold ADD fare integer").await;
        for id in 801..807 {
            rows(s, &format!("INSERT INTO sold SELECT {id}, port, at, note, 7 FROM sold WHERE id IN (5, 8)")).await;
        }
        rows(s, "CALL lake_tag('sold', 'before')").await;
        let all = "SELECT count(*), sum(id), count(note), min(at), max(length(note)) FROM sold";
        let before = rows(s, all).await;
        let looked = rows(s, "CALL lake_compact('sold', dry_run => true)").await;
        assert!(looked[0].contains("|∅|") && !looked[0].starts_with("0|"), "{looked:?}");
        let done = rows(s, "CALL lake_compact('sold')").await;
        let numbers: Vec<i64> = done[0].split('|').map(|n| n.parse().unwrap()).collect();
        assert!(numbers[0] >= 8 && numbers[1] == 2, "{done:?}");
        assert_eq!(numbers[4] > 0, !with.is_empty(), "{done:?}");
        assert_eq!(rows(s, all).await, before);
        assert_eq!(rows(s, "SELECT count(*) FROM lake_files('sold')").await, ["2"], "no file of gone rows is left");
        assert_eq!(rows(s, &all.replace("FROM sold", "FROM \"sold@before\"")).await, before);
        assert_eq!(rows(s, "CALL lake_compact('sold')").await, ["0|0|0|0|0"], "there is nothing more to do");
        // In each file the rows are in the table's order.
        let first = rows(s, "SELECT operation FROM lake_snapshots('sold') ORDER BY at DESC LIMIT 1").await;
        assert_eq!(first, ["replace"]);
        // Manifests are put together.
        for id in [901, 902, 903] {
            rows(s, &format!("INSERT INTO sold (id, port) VALUES ({id}, 'Lia')")).await;
        }
        let many = rows(s, "SELECT count(*) FROM lake_manifests('sold')").await;
        let done = rows(s, "CALL lake_rewrite_manifests('sold')").await;
        assert!(done[0].ends_with("|1"), "{done:?} of {many:?}");
        assert_eq!(rows(s, "SELECT count(*) FROM lake_manifests('sold')").await, ["1"]);
        // Rows come to their files in the table's order, whatever order the query had.
        let unsorted = "INSERT INTO sold (id, port, at) SELECT n, 'Øst', date '2023-01-01' + (n * 37) % 90 FROM generate_series(1, 90) AS g(n)";
        let plan = rows(s, &format!("EXPLAIN {unsorted}")).await;
        assert!(plan.iter().any(|line| line.contains("sort")), "{plan:?}");
        rows(s, unsorted).await;
        let falls = "SELECT bool_and(at < before) FROM (SELECT at, lag(at) OVER () AS before FROM sold WHERE port = 'Øst') AS t WHERE before IS NOT NULL";
        assert_eq!(rows(s, falls).await, ["true"]);
        rows(s, "DELETE FROM sold WHERE port = 'Øst'").await;
        let last = rows(s, all).await;
        // States end, but for the tag's and the last one; what only they had goes.
        let kept = "older_than => now() + interval '1 hour'";
        let looked = rows(s, &format!("CALL lake_expire('sold', {kept}, dry_run => true)")).await;
        // What only looks writes nothing, so that there is nothing to be taken back.
        rows(s, "BEGIN").await;
        rows(s, &format!("CALL lake_expire('sold', {kept}, dry_run => true)")).await;
        rows(s, "ROLLBACK").await;
        let done = rows(s, &format!("CALL lake_expire('sold', {kept})")).await;
        assert_eq!(looked, done);
        assert_eq!(rows(s, "SELECT count(*) FROM lake_snapshots('sold')").await, ["2"]);
        assert_eq!(rows(s, all).await, last);
        assert_eq!(rows(s, &all.replace("FROM sold", "FROM \"sold@before\"")).await, before);
        rows(s, "CALL lake_drop_ref('sold', 'before')").await;
        rows(s, &format!("CALL lake_expire('sold', {kept})")).await;
        assert_eq!(rows(s, "SELECT count(*) FROM lake_snapshots('sold')").await, ["1"]);
        assert_eq!(rows(s, all).await, last);
        let data = std::fs::read_dir(written.warehouse().join("ops/sold/data")).unwrap().count();
        assert_eq!(rows(s, "SELECT count(*) FROM lake_files('sold')").await, [data.to_string()]);
        // What a writer left that was stopped: young files stay.
        std::fs::write(written.warehouse().join("ops/sold/data/left.parquet"), "left").unwrap();
        assert_eq!(rows(s, "CALL lake_remove_orphans('sold')").await, Vec::<String>::new());
        let old = "CALL lake_remove_orphans('sold', now() + interval '1 hour'";
        let looked = rows(s, &format!("{old}, true)")).await;
        assert!(looked.len() == 1 && looked[0].ends_with("left.parquet|4"), "{looked:?}");
        assert_eq!(rows(s, &format!("{old})")).await, looked);
        assert_eq!(rows(s, &format!("{old})")).await, Vec::<String>::new());
        let found = written.read_by_the_library(&json!({ "ops/sold": ["id > 900", "id < 101"] }));
        assert_eq!(found["ops/sold"]["counts"], json!([3, 90]), "{with}");
    }
}

/// Those who change the same rows at the same time do so one after another: nothing is lost, and who comes too late is told.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn changes_of_the_same_rows_follow_each_other() {
    let on_read = "WITH (write.update.mode = 'merge-on-read', write.merge.mode = 'merge-on-read')";
    for (kind, with) in [("lake", ""), ("lake", on_read), ("lake_service", "")] {
        let written = Written::of(kind);
        let mut session = written.session();
        rows(&mut session, &format!("CREATE TABLE counted (id integer, n integer) {with}")).await;
        rows(&mut session, "INSERT INTO counted VALUES (1, 0), (2, 0), (3, 0)").await;
        let change = async |mut session: Session, writer: usize| {
            let mut done = 0;
            for turn in 0..6 {
                let sql = match (writer + turn) % 3 {
                    0 => "UPDATE counted SET n = n + 1 WHERE id = 1".to_owned(),
                    1 => "MERGE INTO counted USING (VALUES (1), (1000)) AS s(id) ON s.id = counted.id WHEN MATCHED THEN UPDATE SET n = n + 1".to_owned(),
                    _ => format!("INSERT INTO counted VALUES ({}, 1)", 100 + writer * 10 + turn),
                };
                match answer(&mut session, &sql).await {
                    Ok(_) => done += 1,
                    Err(error) => assert_eq!(error.code, Code::Conflict, "{sql}: {error:?}"),
                }
            }
            done
        };
        let all = futures::future::join_all((0..4).map(|writer| change(written.session(), writer))).await;
        let done: i32 = all.iter().sum();
        assert_eq!(rows(&mut session, "SELECT sum(n) FROM counted").await, [done.to_string()], "{with}");
        assert!(done > 6, "somebody gets through: {done}");
        rows(&mut session, "CALL lake_compact('counted')").await;
        assert_eq!(
            rows(&mut session, "SELECT sum(n), count(*) - count(DISTINCT id) FROM counted").await,
            [format!("{done}|0")]
        );
    }
}

/// What a partition tells of all its rows is not looked up in its files.
#[tokio::test(flavor = "multi_thread")]
async fn conditions_that_partitions_answer_read_no_file() {
    for with in ["", "WITH (write.delete.mode = 'merge-on-read')"] {
        let written = Written::new();
        let mut session = written.session();
        let s = &mut session;
        rows(s, &format!("CREATE TABLE sold PARTITION BY (month(at), port) {with} AS SELECT n AS id, CASE WHEN n % 3 > 0 THEN 'Lia' END AS port, date '2023-01-01' + n AS at FROM generate_series(0, 364) AS g(n)")).await;
        for (sql, wanted, is_read) in [
            ("SELECT count(*) FROM sold WHERE at >= '2023-03-01' AND at < '2023-05-01'", "61", false),
            ("SELECT count(*) FROM sold WHERE at >= '2023-03-01' AND at < '2023-05-02'", "62", true),
            ("SELECT count(*) FROM sold WHERE port = 'Lia'", "243", false),
            ("SELECT count(*) FROM sold WHERE port IS NULL AND at < '2023-02-01'", "11", false),
            ("SELECT count(*) FROM sold WHERE port <> 'Lia'", "0", false),
            ("SELECT count(*) FROM sold WHERE port IS NOT NULL OR at > '2023-12-24'", "245", true),
            ("SELECT count(*) FROM sold", "365", false),
        ] {
            let (found, plan) = answer(s, sql).await.unwrap();
            assert_eq!(found, [wanted], "{sql}");
            let measure = plan.unwrap().gates[0].measure.clone().unwrap();
            assert_eq!(measure.bytes > 0, is_read, "{sql}: {measure:?}");
        }
        let (found, plan) = answer(s, "DELETE FROM sold WHERE at >= '2023-02-01' AND at < '2023-04-01'").await.unwrap();
        assert_eq!(found, ["lake.ops.sold|59"]);
        let plan = plan.unwrap();
        assert_eq!(plan.gates[0].measure.as_ref().unwrap().bytes, 0, "whole files end: {:?}", plan.gates[0]);
        let last = "SELECT operation, files_added, files_removed FROM lake_snapshots('sold') WHERE is_current";
        assert_eq!(rows(s, last).await, ["delete|∅|4"]);
        rows(s, "DELETE FROM sold WHERE at >= '2023-05-15' AND at < '2023-08-01' AND port = 'Lia'").await;
        let left = rows(
            s,
            "SELECT count(*), count(*) FILTER (WHERE at BETWEEN '2023-05-01' AND '2023-07-31'), sum(id) FROM sold",
        )
        .await;
        let wanted = rows(s, "SELECT count(*), count(*) FILTER (WHERE n BETWEEN 120 AND 211), sum(n) FROM generate_series(0, 364) AS g(n) WHERE NOT n BETWEEN 31 AND 89 AND NOT (n BETWEEN 134 AND 211 AND n % 3 > 0)").await;
        assert_eq!(left, wanted, "{with}");
        let found = written.read_by_the_library(&json!({ "ops/sold": ["id >= 0"] }));
        assert_eq!(found["ops/sold"]["counts"][0].to_string(), left[0].split('|').next().unwrap());
    }
}

/// Tables of the library's, of both versions, whose metadata files are named as those of a folder: they are changed as our own are.
#[tokio::test(flavor = "multi_thread")]
async fn tables_that_the_library_wrote_are_changed() {
    let written = Written::new();
    let mut session = written.session();
    let s = &mut session;
    let home = written.warehouse().join("ops");
    std::fs::create_dir_all(&home).unwrap();
    for name in ["by_hour_v1", "by_year_and_port_v1", "by_year_and_port_v2", "holed_by_month"] {
        let from = lakes::written().join("warehouse/ops").join(name);
        assert!(std::process::Command::new("cp").arg("-r").args([&from, &home]).status().unwrap().success());
        let folder = home.join(name).join("metadata");
        let mut all: Vec<_> = std::fs::read_dir(&folder).unwrap().flatten().map(|own| own.path()).collect();
        all.retain(|path| path.to_string_lossy().ends_with(".metadata.json"));
        all.sort();
        std::fs::rename(all.last().unwrap(), folder.join("v7.metadata.json")).unwrap();
        let count = async |s: &mut Session, condition: &str| -> i64 {
            rows(s, &format!("SELECT count(*) FROM {name} WHERE {condition}")).await[0].parse().unwrap()
        };
        let (all, gone) = (count(s, "true").await, count(s, "id % 5 = 0").await);
        assert!(all > gone && gone > 10, "{name}: {all} and {gone}");
        rows(s, &format!("CALL lake_tag('{name}', 'before')")).await;
        rows(s, &format!("DELETE FROM {name} WHERE id % 5 = 0")).await;
        let again = format!("INSERT INTO {name} SELECT * FROM {name} FOR VERSION AS OF 'before' WHERE id % 50 = 0");
        rows(s, &again).await;
        let back = count(s, "id % 5 = 0").await;
        rows(s, &format!("UPDATE {name} SET vessel = 'changed' WHERE id % 7 = 1")).await;
        rows(s, &format!("ALTER TABLE {name} SET PARTITION BY (bucket(3, id)), ADD COLUMN later text")).await;
        rows(s, &format!("INSERT INTO {name} (id, later) VALUES (9001, 'x'), (9002, 'y')")).await;
        let changed = count(s, "vessel = 'changed'").await;
        assert_eq!(changed, count(s, "id % 7 = 1 AND id < 9000").await, "{name}");
        rows(s, &format!("CALL lake_compact('{name}')")).await;
        rows(s, &format!("CALL lake_rewrite_manifests('{name}')")).await;
        assert_eq!(count(s, "true").await, all - gone + back + 2, "{name}");
        assert_eq!(count(s, "later = 'y' OR vessel = 'changed'").await, changed + 1, "{name}");
        let then = format!("SELECT count(*) FROM {name} FOR VERSION AS OF 'before'");
        assert_eq!(rows(s, &then).await, [all.to_string()], "{name}");
    }
}

/// A table that has files already comes into a catalog by its folder or its metadata file, is written there, and goes again with its files left.
#[tokio::test(flavor = "multi_thread")]
async fn tables_are_adopted_and_released() {
    let written = Written::of("lake_service");
    let mut session = written.session();
    let s = &mut session;
    lakes::written();
    let from = lakes::written().join("warehouse/ops");
    let copied = |name: &str| {
        let to = written.warehouse().join("old");
        std::fs::create_dir_all(&to).unwrap();
        assert!(std::process::Command::new("cp").arg("-r").args([from.join(name), to]).status().unwrap().success());
    };
    copied("by_month_v2");
    copied("by_bucket_v1");
    rows(s, "CALL lake_adopt('months', location => 'old/by_month_v2')").await;
    let found = rows(s, "SELECT count(*), min(id) FROM months").await;
    refused(s, "CALL lake_adopt('months', location => 'old/by_bucket_v1')", "there is a table").await;
    refused(s, "CALL lake_adopt('x', location => 'old/nothing')", "no metadata file").await;
    refused(s, "CALL lake_adopt('x', location => '/etc')", "is not below").await;
    refused(s, "CALL lake_adopt('x', location => 'old/by_bucket_v1/metadata/9.metadata.json')", "is not there").await;
    refused(s, "CALL lake_release('nothing')", "no table").await;
    let metadata = std::fs::read_dir(written.warehouse().join("old/by_bucket_v1/metadata")).unwrap();
    let files = metadata.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let last = files.filter(|name| name.ends_with(".metadata.json")).max().unwrap();
    rows(s, &format!("CALL lake_adopt('buckets', location => 'old/by_bucket_v1/metadata/{last}')")).await;
    for table in ["months", "buckets"] {
        rows(s, &format!("INSERT INTO {table} (id) VALUES (100000)")).await;
        rows(s, &format!("DELETE FROM {table} WHERE id = 100000 OR id = 7")).await;
        rows(s, &format!("CALL lake_compact('{table}')")).await;
    }
    let (before, after) = (found[0].split('|').next().unwrap(), rows(s, "SELECT count(*) FROM months").await);
    assert_eq!(before.parse::<u32>().unwrap() - 1, after[0].parse::<u32>().unwrap());
    let told = rows(s, "CALL lake_release('months')").await;
    refused(s, "SELECT * FROM months", "there is no table").await;
    rows(s, &format!("CALL lake_adopt('again', location => '{}')", told[0])).await;
    assert_eq!(rows(s, "SELECT count(*) FROM again").await, after);
    // Where tables are found by their folders there is nothing to adopt.
    let mut by_folders = Written::of("lake").session();
    refused(&mut by_folders, "CALL lake_adopt('x', location => 'y')", "found by their folders").await;
}

/// Files that lie in the storage become files of a table as they are, where they fit it.
#[tokio::test(flavor = "multi_thread")]
async fn files_are_added_where_they_are() {
    for kind in KINDS_OF_LAKES {
        let written = Written::of(kind);
        let mut session = written.session();
        let s = &mut session;
        written.plain_files("loose");
        let sailings = "SELECT n AS id, CASE WHEN n % 9 > 0 THEN 'Sørhavn ' || n END AS port, (n * 0.5)::numeric(8,2) AS fare, timestamp '2023-03-01' + n * interval '1 minute' AS at, n::real AS wave FROM generate_series(1, 500) AS g(n)";
        rows(s, &format!("CREATE TABLE loose.public.march AS {sailings}")).await;
        rows(s, "CREATE TABLE loose.public.two_months AS SELECT 1 AS id, timestamp '2023-03-01' + n * interval '40 days' AS at FROM generate_series(0, 1) AS g(n)").await;
        rows(s, "CREATE TABLE loose.public.other AS SELECT 1 AS berth").await;
        rows(s, "CREATE TABLE loose.public.typed AS SELECT 'x' AS id, timestamp '2023-03-01' AS at").await;
        rows(s, "CREATE TABLE trips (id bigint, port text, fare numeric(10,2), at timestamp NOT NULL, wave double precision, note text) PARTITION BY (month(at))").await;
        rows(s, "INSERT INTO trips (id, at) VALUES (1000, '2023-07-01')").await;
        let would = rows(s, "CALL lake_add_files('trips', location => 'loose/march', dry_run => true)").await;
        assert_eq!(rows(s, "SELECT count(*) FROM trips").await, ["1"]);
        assert_eq!(rows(s, "CALL lake_add_files('trips', location => 'loose/march')").await, would);
        assert_eq!(
            rows(s, "SELECT count(*), sum(id), sum(fare), count(port), count(note) FROM trips").await,
            ["501|126250|62625.00|445|0"]
        );
        let same =
            "SELECT id, port, fare, at, wave FROM {} WHERE id > 490 AND port LIKE 'S%' OR at < '2023-03-01 00:05'";
        assert_eq!(
            rows(s, &same.replace("{}", "trips")).await,
            rows(s, &same.replace("{}", "loose.public.march")).await
        );
        // The file's bounds and its partition prune it.
        let (found, plan) = answer(s, "SELECT count(*) FROM trips WHERE at >= '2023-05-01'").await.unwrap();
        assert_eq!((found, plan.unwrap().gates[0].measure.as_ref().unwrap().bytes), (vec!["1".to_owned()], 0));
        for (location, told) in [
            ("loose/march", "file of the table already"),
            ("loose/two_months", "in several partitions"),
            ("loose/other", "at takes no null"),
            ("loose/typed", "its column id is text"),
            ("loose/nothing", "no file of Parquet"),
            ("/etc/passwd", "is not below"),
        ] {
            refused(s, &format!("CALL lake_add_files('trips', location => '{location}')"), told).await;
        }
        rows(s, "UPDATE trips SET note = port WHERE id < 10").await;
        let found = written.read_by_the_library(&json!({ "ops/trips": ["id <= 500", "wave > 400", "port is null"] }));
        assert_eq!(found["ops/trips"]["counts"], json!([500, 100, 56]), "{kind}");
        // A new table like this one keeps its rows in the same way.
        rows(s, "CREATE TABLE alike (LIKE trips INCLUDING ALL, more integer)").await;
        rows(s, "INSERT INTO alike SELECT *, 1 FROM trips").await;
        assert_eq!(rows(s, "SELECT count(*), sum(more) FROM alike").await, ["501|501"]);
        let partitions = |table: &str| format!("SELECT partition, files FROM lake_partitions('{table}')");
        assert_eq!(rows(s, &partitions("alike")).await.len(), rows(s, &partitions("trips")).await.len());
        refused(s, "INSERT INTO alike (id) VALUES (1)", "takes no null").await;
        rows(s, "CREATE TABLE only_columns (first date, LIKE trips)").await;
        assert!(
            rows(s, "SELECT column_name FROM lake.information_schema.columns WHERE table_name = 'only_columns'")
                .await
                .contains(&"wave".to_owned())
        );
        refused(s, "CREATE TABLE x (LIKE trips INCLUDING DEFAULTS)", "LIKE").await;
        refused(s, "CREATE TABLE x (LIKE trips, id integer)", "id").await;
        refused(s, "CREATE TABLE x (LIKE nothing)", "nothing").await;
    }
}
