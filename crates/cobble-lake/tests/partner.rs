//! Tables that the table format's own library has written: the same snapshots, manifests and files are found in them, questions leave only files
//! that hold an answer, and metadata whose bytes were changed are read or refused by an error that names the file.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, OnceLock};

use cobble_lake::catalog::{Folders, TableCatalog, TableName};
use cobble_lake::column_ranges::ColumnRange;
use cobble_lake::prune::Question;
use cobble_lake::table::{LakeTable, Tables};
use cobble_plan::Column;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::scan::{ScanMemory, Unbounded};
use cobble_storage::{Disk, Storage};
use cobble_types::{ColumnId, SqlType, Value};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::Value as Json;
use tokio_util::sync::CancellationToken;

struct Written {
    folder: tempfile::TempDir,
    told: Json,
}

/// What the library has written, once for all tests.
fn written() -> &'static Written {
    static WRITTEN: OnceLock<Written> = OnceLock::new();
    WRITTEN.get_or_init(|| {
        let root = Path::new(env!("CARGO_MANIFEST_DIR"));
        let python = root.join("../../target/python/bin/python");
        let folder = tempfile::tempdir().unwrap();
        let output = Command::new(&python)
            .arg(root.join("tests/partner.py"))
            .arg(folder.path())
            .output()
            .unwrap_or_else(|e| panic!("{}: {e}; `make test` makes it", python.display()));
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let told = serde_json::from_slice(&std::fs::read(folder.path().join("told.json")).unwrap()).unwrap();
        Written { folder, told }
    })
}

fn memory() -> Arc<dyn ScanMemory> {
    Arc::new(Unbounded)
}

fn tables(catalog: Arc<dyn TableCatalog>) -> Tables {
    Tables { connection: "deep".to_owned(), catalog, decoded: Arc::default() }
}

fn tables_of(warehouse: &Path) -> Tables {
    let storage: Arc<dyn Storage> = Arc::new(Disk::new("deep", &warehouse.display().to_string()));
    tables(Arc::new(Folders { connection: "deep".to_owned(), storage, folder: vec![] }))
}

fn open_in(warehouse: &Path, name: &str) -> LakeTable {
    let tables = tables_of(warehouse);
    let name = TableName::new("ops", name);
    let current = tables.catalog.current(&name).unwrap().unwrap_or_else(|| panic!("{name} is no table"));
    LakeTable::open(&tables, name, current, false).unwrap()
}

fn open(name: &str) -> LakeTable {
    open_in(&written().folder.path().join("warehouse"), name)
}

fn files(table: &LakeTable, question: &Question) -> (Vec<(PathBuf, u64, u64)>, cobble_lake::left::Left) {
    let Some(snapshot) = table.metadata.current() else { return Default::default() };
    let left = table.left(snapshot, table.metadata.schema_id, question, &memory(), &CancellationToken::new()).unwrap();
    let mut files: Vec<_> =
        left.files.iter().map(|file| (file.stored.path.clone(), file.rows, file.stored.bytes)).collect();
    files.sort();
    (files, left)
}

#[test]
fn the_same_files_are_found() {
    for (name, told) in written().told.as_object().unwrap() {
        let table = open(name);
        assert_eq!(table.metadata.current().map(|s| s.id), told["snapshot"].as_i64(), "{name}");
        let (found, left) = files(&table, &Question::default());
        assert_eq!(left.manifests.total, told["manifests"].as_u64().unwrap(), "{name}");
        let wanted = told["files"].as_array().unwrap().iter().map(|file| {
            let path = file[0].as_str().unwrap().trim_start_matches("file://");
            (PathBuf::from(path), file[1].as_u64().unwrap(), file[2].as_u64().unwrap())
        });
        let mut wanted: Vec<_> = wanted.collect();
        wanted.sort();
        assert_eq!(found, wanted, "{name}");
    }
}

/// A table that was moved is read where it is: its files' names are those below its own folder.
#[test]
fn a_table_that_was_moved_is_read_where_it_is() {
    let elsewhere = tempfile::tempdir().unwrap();
    let (from, to) = (written().folder.path().join("warehouse/ops/by_month_v2"), elsewhere.path().join("ops/moved"));
    std::fs::create_dir_all(to.parent().unwrap()).unwrap();
    assert!(Command::new("cp").arg("-r").args([&from, &to]).status().unwrap().success());
    let (found, _) = files(&open_in(elsewhere.path(), "moved"), &Question::default());
    assert!(!found.is_empty() && found.iter().all(|(path, ..)| path.starts_with(&to) && path.exists()), "{found:?}");
}

/// A condition on the column of this id.
fn condition(id: i32, sql_type: SqlType, op: BinaryOp, value: Value) -> Question {
    let column = Column { id: ColumnId(7), qualifier: None, name: "c".into(), sql_type };
    Question {
        conditions: vec![Expr::compare(op, Expr::Column(column), Expr::literal(value))],
        columns: vec![(ColumnId(7), id)],
    }
}

fn day(year: i32, month: u32, day: u32) -> Value {
    let date = chrono::NaiveDate::from_ymd_opt(year, month, day).unwrap();
    Value::Timestamp(date.and_hms_opt(0, 0, 0).unwrap().and_utc().timestamp_micros())
}

#[test]
fn questions_leave_only_files_that_may_hold_an_answer() {
    let departed = |op, value| condition(5, SqlType::Timestamp, op, value);
    let id = |op, n| condition(1, SqlType::BigInt, op, Value::BigInt(n));
    let vessel = |name: &str| condition(2, SqlType::Text, BinaryOp::Eq, Value::Text(name.into()));
    let mut shown = String::new();
    for version in ["v1", "v2"] {
        for (table, words, question) in [
            ("plain", "all", Question::default()),
            ("plain", "id < 10", id(BinaryOp::Lt, 10)),
            ("by_month", "departed_at >= 2024-01-01", departed(BinaryOp::GtEq, day(2024, 1, 1))),
            ("by_month", "departed_at < 2023-01-15", departed(BinaryOp::Lt, day(2023, 1, 15))),
            ("by_month", "departed_at = 1999-01-01", departed(BinaryOp::Eq, day(1999, 1, 1))),
            ("by_month", "id = 3", id(BinaryOp::Eq, 3)),
            ("by_day", "departed_at < 2023-01-03", departed(BinaryOp::Lt, day(2023, 1, 3))),
            ("by_hour", "departed_at < 2023-01-02", departed(BinaryOp::Lt, day(2023, 1, 2))),
            ("by_year_and_port", "departed_at >= 2024-01-01", departed(BinaryOp::GtEq, day(2024, 1, 1))),
            ("by_year_and_port", "port = 7", condition(3, SqlType::Integer, BinaryOp::Eq, Value::Integer(7))),
            ("by_bucket", "id = 77", id(BinaryOp::Eq, 77)),
            ("by_bucket", "id < 10", id(BinaryOp::Lt, 10)),
            ("by_prefix", "vessel = 'Sørhavn 2'", vessel("Sørhavn 2")),
            ("by_prefix", "port = 7", condition(3, SqlType::Integer, BinaryOp::Eq, Value::Integer(7))),
        ] {
            let name = format!("{table}_{version}");
            let (_, left) = files(&open(&name), &question);
            let parts = |parts: cobble_lake::left::Parts| format!("{} of {}", parts.read, parts.total);
            shown.push_str(&format!(
                "{name} {words}: manifests {}, by partition {}, by bounds {}\n",
                parts(left.manifests),
                parts(left.counts.partitioned),
                parts(left.counts.bounded)
            ));
        }
    }
    insta::assert_snapshot!(shown);
}

/// What is known of manifests answers as they do when they are read, whatever was asked before; and the same question again reads nothing.
#[test]
fn what_is_known_answers_as_what_is_read() {
    let mut random = StdRng::seed_from_u64(5);
    let warehouse = written().folder.path().join("warehouse");
    for name in [
        "by_month_v2",
        "by_bucket_v1",
        "by_year_and_port_v2",
        "by_prefix_v1",
        "plain_v1",
        "holed_by_month",
        "respecified",
    ] {
        let known = tables_of(&warehouse);
        let opened = |tables: &Tables| {
            let name = TableName::new("ops", name);
            let current = tables.catalog.current(&name).unwrap().unwrap();
            LakeTable::open(tables, name, current, false).unwrap()
        };
        for _ in 0..30 {
            let n = random.random_range(0..200);
            let question = match random.random_range(0..5) {
                0 => Question::default(),
                1 => condition(1, SqlType::BigInt, BinaryOp::Lt, Value::BigInt(n)),
                2 => condition(1, SqlType::BigInt, BinaryOp::Eq, Value::BigInt(n)),
                3 => condition(3, SqlType::Integer, BinaryOp::Eq, Value::Integer(n as i32 % 20)),
                _ => condition(5, SqlType::Timestamp, BinaryOp::GtEq, day(2023, 1 + n as u32 % 12, 1)),
            };
            let fresh = files(&opened(&tables_of(&warehouse)), &question);
            let first = files(&opened(&known), &question);
            let again = files(&opened(&known), &question);
            assert_eq!((&first.0, &again.0), (&fresh.0, &fresh.0), "{name}");
            let counts = |left: &cobble_lake::left::Left| {
                [left.manifests, left.counts.partitioned, left.counts.bounded, left.deletes]
            };
            assert_eq!((counts(&first.1), counts(&again.1)), (counts(&fresh.1), counts(&fresh.1)), "{name}");
            assert_eq!(again.1.counts.bytes, 0, "{name}");
        }
        assert!(known.decoded.held().1 > 0);
    }
}

/// The same bytes but for a few, with some cut off or put in now and then.
fn changed(bytes: &[u8], random: &mut StdRng) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for _ in 0..random.random_range(1..6) {
        let place = random.random_range(0..bytes.len());
        match random.random_range(0..8) {
            0 => bytes.truncate(place.max(1)),
            1 => drop(bytes.splice(place..place, [0xff; 9])),
            2 | 3 => bytes[place] = random.random(),
            _ => bytes[place] ^= 1 << random.random_range(0..8),
        }
    }
    bytes
}

#[test]
fn changed_metadata_are_read_or_refused_by_name() {
    let rounds = std::env::var("COBBLE_HOSTILE").ok().and_then(|text| text.parse().ok()).unwrap_or(400);
    let folder = tempfile::tempdir().unwrap();
    let from = written().folder.path().join("warehouse/ops/by_prefix_v2");
    let home = folder.path().join("ops");
    std::fs::create_dir(&home).unwrap();
    assert!(Command::new("cp").arg("-r").arg(&from).arg(home.join("changed")).status().unwrap().success());
    let storage: Arc<dyn Storage> = Arc::new(Disk::new("deep", &folder.path().display().to_string()));
    let catalog: Arc<dyn TableCatalog> = Arc::new(Folders { connection: "deep".to_owned(), storage, folder: vec![] });
    let question = condition(2, SqlType::Text, BinaryOp::Eq, Value::Text("Sørhavn 2".into()));
    let files: Vec<PathBuf> =
        std::fs::read_dir(home.join("changed/metadata")).unwrap().map(|entry| entry.unwrap().path()).collect();
    let read = || {
        let name = TableName::new("ops", "changed");
        let current = catalog.current(&name)?.expect("it is there");
        let table = LakeTable::open(&tables(catalog.clone()), name, current, false)?;
        let Some(snapshot) = table.metadata.current() else { return Ok(0) };
        let schema = table.metadata.schema_id;
        let left = table.left(snapshot, schema, &question, &memory(), &CancellationToken::new())?;
        Ok::<_, cobble_types::Error>(left.files.len())
    };
    let whole = read().unwrap();
    let mut random = StdRng::seed_from_u64(11);
    let mut refused = 0;
    for round in 0..rounds {
        let file = &files[round % files.len()];
        let good = std::fs::read(file).unwrap();
        std::fs::write(file, changed(&good, &mut random)).unwrap();
        let began = std::time::Instant::now();
        if let Err(error) = read() {
            refused += 1;
            let named =
                error.message.contains("connection deep") && error.message.contains(&*folder.path().to_string_lossy());
            assert!(named, "round {round}, {}: {error:?}", file.display());
        }
        assert!(began.elapsed().as_secs() < 30, "round {round}: {:?}", began.elapsed());
        std::fs::write(file, good).unwrap();
    }
    assert_eq!(read().unwrap(), whole);
    println!("{rounds} changed files, {refused} refused");
    assert!(refused > rounds / 8, "{refused}");
}

#[test]
fn bounds_of_columns_are_known_before_a_row_is_read() {
    for name in written().told.as_object().unwrap().keys() {
        let table = open(name);
        let Some(snapshot) = table.metadata.current() else { continue };
        let schema = table.metadata.schema(table.metadata.schema_id).unwrap();
        let known = table.known_rows(snapshot, schema, &memory(), &CancellationToken::new()).unwrap();
        let rows: f64 = files(&table, &Question::default()).0.iter().map(|(_, rows, _)| *rows as f64).sum();
        assert_eq!(known.rows, Some(rows), "{name}");
        // What a list says of partitions is never narrower than what files say.
        let manifests = table.manifests(snapshot, &memory(), &CancellationToken::new()).unwrap();
        let rough = table.known_by_partitions(&manifests, schema).unwrap();
        for ((own, rough), field) in known.columns.iter().zip(&rough.columns).zip(&schema.fields) {
            for (bound, wide, wrong) in
                [(&own.min, &rough.min, std::cmp::Ordering::Less), (&own.max, &rough.max, std::cmp::Ordering::Greater)]
            {
                let order = bound.as_ref().zip(wide.as_ref()).and_then(|(own, wide)| own.compare(wide));
                assert_ne!(order, Some(wrong), "{name}.{}: {own:?} {rough:?}", field.name);
            }
        }
    }
    let table = open("by_month_v2");
    let (snapshot, schema) = (table.metadata.current().unwrap(), table.metadata.schema(0).unwrap());
    let known = table.known_rows(snapshot, schema, &memory(), &CancellationToken::new()).unwrap();
    let manifests = table.manifests(snapshot, &memory(), &CancellationToken::new()).unwrap();
    let rough = table.known_by_partitions(&manifests, schema).unwrap();
    let of = |all: &[ColumnRange], name: &str| {
        let range = &all[schema.fields.iter().position(|field| field.name == name).unwrap()];
        let text = |bound: &Option<Value>| bound.as_ref().map_or("-".to_owned(), |bound| bound.to_string());
        format!("{name} {} {} {:.3?}", text(&range.min), text(&range.max), range.nulls)
    };
    let names = ["id", "vessel", "departed_at"];
    let lines = [&known.columns, &rough.columns].map(|all| names.map(|name| of(all, name)).join("\n"));
    insta::assert_snapshot!(lines.join("\n\n"));
}
