//! Planning of lake tables with very many files: metadata alone, without data. What a plan costs that reads all manifests, and one that finds them
//! known.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine};
use cobble_lake::catalog::{Folders, TableCatalog, TableName};
use cobble_lake::commit::now;
use cobble_lake::create::{NewTableColumn, new_table};
use cobble_lake::decoded::Manifests;
use cobble_lake::left::Left;
use cobble_lake::manifest::Content;
use cobble_lake::manifest_list::Manifest;
use cobble_lake::manifest_out::{NewColumn, NewFile, Written, list_of, manifest};
use cobble_lake::metadata::Metadata;
use cobble_lake::prune::Question;
use cobble_lake::table::{LakeTable, Tables};
use cobble_plan::Column;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::scan::{ScanMemory, Unbounded};
use cobble_storage::{Disk, Storage};
use cobble_types::{ColumnId, SqlType, Value};
use serde_json::json;
use tokio_util::sync::CancellationToken;

use super::run;

/// Files that a manifest of about 8 MB names.
const FILES: usize = 240_000;
/// Days that the files' rows lie in; each manifest has files of all of them.
const DAYS: i32 = 1_096;
/// 2023-01-01, in days since 1970-01-01.
const FIRST_DAY: i32 = 19_358;
/// The part of a gate that counts files which bounds leave.
const BOUNDED: &str = "files of those by bounds";
/// Manifests that are written; further ones are the same files under other names.
const WRITTEN: usize = 4;

/// Seconds of processor time of this process so far.
fn processor() -> f64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit_once(')').map_or("", |(_, rest)| rest).split_whitespace().collect();
    let ticks = |place: usize| fields.get(place).and_then(|own| own.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

/// The most memory that this process has held, in MiB, since it was asked the last time.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let _ = std::fs::write("/proc/self/clear_refs", "5");
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|own| own.trim().trim_end_matches(" kB").parse::<u64>().ok()).unwrap_or(0) / 1024
}

fn columns() -> Vec<NewTableColumn> {
    let column = |name: &str, sql_type| NewTableColumn { name: name.to_owned(), sql_type, required: false };
    vec![column("id", SqlType::BigInt), column("departed_at", SqlType::Timestamp), column("vessel", SqlType::Text)]
}

/// A file as a writer of sailings would name it: its day, and bounds of three columns.
fn file(location: &str, number: usize) -> NewFile {
    let day = FIRST_DAY + (number % DAYS as usize) as i32;
    let mixed = (number as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let rows = 900 + mixed % 300;
    let first = number as i64 * 1200;
    let bound = |column: i32, lower: Vec<u8>, upper: Vec<u8>| NewColumn {
        id: column,
        bytes: 2000 + column as u64,
        values: Some(rows),
        nulls: Some(0),
        nans: None,
        lower: Some(lower),
        upper: Some(upper),
    };
    let noon = i64::from(day) * 86_400_000_000;
    NewFile {
        content: Content::Rows,
        path: format!("{location}/data/departed_at_day={day}/{number:08}-{:04x}.parquet", mixed >> 48),
        format: "parquet".to_owned(),
        partition: vec![Value::Date(day)],
        rows,
        bytes: 60_000 + mixed % 9_000,
        columns: vec![
            bound(1, first.to_le_bytes().to_vec(), (first + rows as i64).to_le_bytes().to_vec()),
            bound(2, noon.to_le_bytes().to_vec(), (noon + 86_399_000_000).to_le_bytes().to_vec()),
            bound(3, b"Askeladd".to_vec(), b"Vestfjord".to_vec()),
        ],
        splits: vec![4],
        order: None,
    }
}

/// Writes the metadata of a table of these manifests, each with so many files.
fn write(folder: &Path, name: &str, sizes: &[usize]) {
    let home = folder.join("ops").join(name).join("metadata");
    if home.join("v1.metadata.json").exists() {
        return;
    }
    std::fs::create_dir_all(&home).expect("a folder");
    let location = format!("file://{}/ops/{name}", folder.display());
    let mut document =
        new_table(&columns(), ("day(departed_at)", ""), &Default::default(), &location, now()).expect("a table");
    let metadata = Metadata::of_document(document.clone()).expect("metadata");
    let (schema, spec) = (&metadata.schemas[0], &metadata.specs[0]);
    let schema_json = schema.to_json();
    let mut all: Vec<Manifest> = Vec::new();
    for (place, size) in sizes.iter().enumerate() {
        let path = home.join(format!("m{place}.avro"));
        let same = all.get(place % WRITTEN).filter(|_| place >= WRITTEN).cloned();
        let described = match same {
            Some(same) => {
                std::fs::hard_link(home.join(format!("m{}.avro", place % WRITTEN)), &path).expect("linked");
                same
            }
            None => {
                let files: Vec<NewFile> = (0..*size).map(|n| file(&location, place * FILES + n)).collect();
                let to = Written { version: 2, snapshot: 1, spec, schema, schema_json: &schema_json };
                let (content, described) = manifest(&files, to).expect("a manifest");
                std::fs::write(&path, content).expect("written");
                described
            }
        };
        all.push(Manifest { path: format!("{location}/metadata/m{place}.avro"), sequence: 1, ..described });
    }
    std::fs::write(home.join("list.avro"), list_of(2, &all, &[])).expect("written");
    document["snapshots"] = json!([{ "snapshot-id": 1, "sequence-number": 1, "timestamp-ms": now(),
        "manifest-list": format!("{location}/metadata/list.avro"), "summary": { "operation": "append" }, "schema-id": 0 }]);
    (document["current-snapshot-id"], document["last-sequence-number"]) = (json!(1), json!(1));
    std::fs::write(home.join("v1.metadata.json"), document.to_string()).expect("written");
}

struct Measured {
    time: Duration,
    processor: f64,
    left: Left,
}

fn plan(tables: &Tables, name: &str, question: &Question) -> Measured {
    let (began, before) = (Instant::now(), processor());
    let name = TableName::new("ops", name);
    let current = tables.catalog.current(&name).expect("found").expect("it is there");
    let table = LakeTable::open(tables, name, current, false).expect("opened");
    let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
    let snapshot = table.metadata.current().expect("a state");
    let left = table.left(snapshot, 0, question, &memory, &CancellationToken::new()).expect("planned");
    Measured { time: began.elapsed(), processor: processor() - before, left }
}

/// Inflates the blocks of a manifest and does nothing with them: what the file costs at least. Seconds of one core, and MB of it packed and not.
fn floor(path: &Path) -> (f64, f64, f64) {
    let began = Instant::now();
    let content = std::fs::read(path).expect("read");
    let memory: Arc<dyn ScanMemory> = Arc::new(Unbounded);
    let mut blocks = cobble_format::AvroBlocks::open(content.as_slice(), memory).expect("a manifest");
    let mut bytes = 0;
    while let Some(block) = blocks.next_block().expect("a block") {
        bytes += block.bytes.len();
    }
    (began.elapsed().as_secs_f64(), content.len() as f64 / 1e6, bytes as f64 / 1e6)
}

/// Questions as statements, to a service that knows nothing yet: their plans look through a few manifests, and the others are looked through
/// while rows are counted, which the metadata alone tell.
async fn statements(folder: &Path) {
    println!("  as statements, with the manifests that planning leaves looked through while they run:");
    let of_day = |day: i32| {
        let at = |day: i32| format!("(date '2023-01-01' + {day})::timestamp");
        format!("departed_at >= {} AND departed_at < {}", at(day), at(day + 1))
    };
    for table in ["many", "few"] {
        let engine = Engine::in_memory().expect("an engine");
        let mut lake = ConnectionDefinition::new("deep", "lake", "");
        lake.options.insert("storage".to_owned(), "root".to_owned());
        for definition in [ConnectionDefinition::new("root", "files", folder.display().to_string()), lake] {
            let name = definition.name.clone();
            engine.add_connection(definition).expect("added");
            engine.add_catalog(CatalogDefinition::new(&name, &name)).expect("added");
        }
        let mut session = engine.session();
        let one_day = format!("SELECT count(*) FROM deep.ops.{table} WHERE {}", of_day(500));
        for (what, sql) in [
            ("a day, first", &one_day),
            ("a day, again", &one_day),
            ("all rows", &format!("SELECT count(*) FROM deep.ops.{table}")),
        ] {
            peak();
            let (time, plan, rows) = run(&mut session, sql).await;
            let gate = &plan.gates[0];
            let later = gate.measure.as_ref().map(|measure| measure.parts.as_slice()).unwrap_or_default();
            let files: u64 =
                gate.parts.iter().chain(later).filter(|own| own.parts == BOUNDED).map(|own| own.read).sum();
            println!(
                "    {table}, {what}: {} rows of {files} files in {:.1} ms, of which {:.1} before it ran; {} manifests while it ran; {} MiB at most",
                rows[0],
                time.as_secs_f64() * 1000.0,
                plan.measures.as_ref().map_or(0.0, |own| own.planning_seconds) * 1000.0,
                later.first().map_or(0, |own| own.read),
                peak(),
            );
        }
    }
}

pub async fn measure(folder: &Path) {
    println!("\nplanning of tables with very many files (metadata alone):");
    let began = Instant::now();
    write(folder, "many", &[FILES; 100]);
    write(folder, "few", &[FILES, FILES / 4]);
    println!("  their metadata were written in {:.0} s", began.elapsed().as_secs_f64());
    let (seconds, packed, whole) = floor(&folder.join("ops/many/metadata/m0.avro"));
    println!(
        "  one manifest of {packed:.1} MB, {whole:.1} MB unpacked: unpacking alone takes {seconds:.3} s of one core"
    );
    let day = |day: i32| {
        let column =
            Column { id: ColumnId(2), name: "departed_at".to_owned(), qualifier: None, sql_type: SqlType::Timestamp };
        let at = |day: i32| Expr::literal(Value::Timestamp(i64::from(FIRST_DAY + day) * 86_400_000_000));
        let bound = |op, day: i32| Expr::compare(op, Expr::Column(column.clone()), at(day));
        Question {
            conditions: vec![bound(BinaryOp::GtEq, day), bound(BinaryOp::Lt, day + 1)],
            columns: vec![(ColumnId(2), 2)],
        }
    };
    for (name, manifests) in [("many", 100.0), ("few", 2.0)] {
        let storage: Arc<dyn Storage> = Arc::new(Disk::new("deep", &folder.display().to_string()));
        let catalog: Arc<dyn TableCatalog> =
            Arc::new(Folders { connection: "deep".to_owned(), storage, folder: vec![] });
        let tables = Tables { connection: "deep".to_owned(), catalog, decoded: Arc::new(Manifests::default()) };
        peak();
        let first = plan(&tables, name, &day(500));
        let most = peak();
        let again = (0..5).map(|_| plan(&tables, name, &day(500))).min_by_key(|own| own.time).expect("some");
        let other = plan(&tables, name, &day(700));
        assert_eq!(
            (first.left.files.len(), again.left.counts.bytes),
            (again.left.files.len(), 0),
            "the same, and nothing read"
        );
        let (known, bytes) = tables.decoded.held();
        println!(
            "  {name}: {} files of {} left; first {:.3} s ({:.3} s of processor, {:.4} a manifest; {most} MiB at most), again {:.1} ms \
             with nothing read, another day {:.3} s; {known} manifests known in {:.1} MB",
            first.left.files.len(),
            first.left.counts.partitioned.total,
            first.time.as_secs_f64(),
            first.processor,
            first.processor / manifests,
            again.time.as_secs_f64() * 1000.0,
            other.time.as_secs_f64(),
            bytes as f64 / 1e6,
        );
    }
    statements(folder).await;
}
