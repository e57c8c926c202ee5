//! The floor: the columns that a question names, decoded with the parquet crate alone on as many threads, from files that
//! the system has in memory; where the question groups, the rows are counted by one of the columns it groups by.

use std::hash::BuildHasher;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use arrow::array::{Array, ArrayRef, AsArray};
use arrow::datatypes::{DataType, Date32Type, Int32Type, Int64Type};
use cobble_engine::PlanDocument;
use hashbrown::{DefaultHashBuilder, HashMap};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;

/// One table's files and the columns wanted of them.
struct Wanted {
    files: Vec<PathBuf>,
    columns: Vec<String>,
    /// The rows are counted by this column.
    group: Option<String>,
}

/// What the plan's gates read, decoded by so many threads.
pub fn of(plan: &PlanDocument, folders: &[(&str, PathBuf)], threads: usize) -> Duration {
    decode(&wanted(plan, folders), threads)
}

/// What the plan's gates read, as files and columns. A column that is named in a grouping is one that it groups by.
fn wanted(plan: &PlanDocument, folders: &[(&str, PathBuf)]) -> Vec<Wanted> {
    let groupings: Vec<&str> =
        plan.steps.iter().filter(|step| step.kind == "aggregate").map(|step| step.text.as_str()).collect();
    let is_key = |column: &&String| {
        let keys = groupings.iter().filter_map(|text| text.split_once(" by ")).map(|(_, keys)| keys);
        keys.flat_map(|keys| keys.split([',', ' '])).any(|key| key.rsplit('.').next() == Some(column.as_str()))
    };
    plan.gates
        .iter()
        .filter_map(|gate| {
            let table = gate.tables.first()?;
            let (catalog, name) = (table.split('.').next()?, table.rsplit('.').next()?);
            let folder = folders.iter().find(|(known, _)| *known == catalog).map(|(_, folder)| folder)?;
            let group = gate.columns_read.iter().find(is_key).cloned();
            Some(Wanted { files: files_of(folder, name), columns: gate.columns_read.clone(), group })
        })
        .collect()
}

fn files_of(folder: &Path, table: &str) -> Vec<PathBuf> {
    let single = folder.join(format!("{table}.parquet"));
    if single.exists() {
        return vec![single];
    }
    let mut found = Vec::new();
    let mut folders = vec![folder.join(table)];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "parquet") {
                found.push(path);
            }
        }
    }
    found
}

/// A row group of a file, and the columns wanted of it.
type Part<'a> = (&'a PathBuf, usize, &'a Wanted);

fn decode(wanted: &[Wanted], threads: usize) -> Duration {
    let parts: Vec<Part> =
        wanted.iter().flat_map(|w| w.files.iter().flat_map(move |file| groups_of(file, w))).collect();
    let began = Instant::now();
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let mut counts = HashMap::new();
                while let Some((file, group, wanted)) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let open = std::fs::File::open(file).expect("the file is there");
                    let builder = ParquetRecordBatchReaderBuilder::try_new(open).expect("a footer");
                    let names = wanted.columns.iter().map(String::as_str);
                    let mask = ProjectionMask::columns(builder.parquet_schema(), names);
                    let builder = builder.with_projection(mask).with_row_groups(vec![*group]);
                    for batch in builder.with_batch_size(8192).build().expect("a reader") {
                        let batch = batch.expect("a batch");
                        let by = wanted.group.as_ref().and_then(|name| batch.column_by_name(name));
                        std::hint::black_box(by.map_or(batch.num_rows(), |column| count_by(column, &mut counts)));
                    }
                }
                std::hint::black_box(counts.len());
            });
        }
    });
    began.elapsed()
}

fn groups_of<'a>(file: &'a PathBuf, wanted: &'a Wanted) -> impl Iterator<Item = Part<'a>> {
    let open = std::fs::File::open(file).expect("the file is there");
    let builder = ParquetRecordBatchReaderBuilder::try_new(open).expect("a footer");
    (0..builder.metadata().num_row_groups()).map(move |group| (file, group, wanted))
}

/// Counts the rows by a column's values: whole numbers and days by themselves, others by a hash of theirs.
fn count_by(column: &ArrayRef, counts: &mut HashMap<u64, u64>) -> usize {
    let mut add = |key: u64| *counts.entry(key).or_default() += 1;
    match column.data_type() {
        DataType::Int64 => column.as_primitive::<Int64Type>().values().iter().for_each(|v| add(*v as u64)),
        DataType::Int32 => column.as_primitive::<Int32Type>().values().iter().for_each(|v| add(*v as u64)),
        DataType::Date32 => column.as_primitive::<Date32Type>().values().iter().for_each(|v| add(*v as u64)),
        DataType::Utf8 => {
            let hasher = DefaultHashBuilder::default();
            column.as_string::<i32>().iter().for_each(|text| add(hasher.hash_one(text.unwrap_or_default())));
        }
        _ => {}
    }
    column.len()
}
