//! The floor: the columns that a question names, decoded with the parquet crate alone on as many threads, from files that
//! the system has in memory, into nothing.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use cobble_engine::PlanDocument;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;

/// One table's files and the columns wanted of them.
pub struct Wanted {
    pub files: Vec<PathBuf>,
    pub columns: Vec<String>,
}

/// What the plan's gates read, as files and columns.
pub fn wanted(plan: &PlanDocument, drop: &Path, dims: &Path) -> Vec<Wanted> {
    plan.gates
        .iter()
        .filter_map(|gate| {
            let table = gate.tables.first()?;
            let (catalog, name) = (table.split('.').next()?, table.rsplit('.').next()?);
            let folder = if catalog == "dims" { dims } else { drop };
            Some(Wanted { files: files_of(folder, name), columns: gate.columns_read.clone() })
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

/// Decodes everything wanted with so many threads.
pub fn decode(wanted: &[Wanted], threads: usize) -> Duration {
    let parts: Vec<(&PathBuf, &[String])> =
        wanted.iter().flat_map(|w| w.files.iter().map(|f| (f, w.columns.as_slice()))).collect();
    let next = AtomicUsize::new(0);
    let began = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                while let Some((file, columns)) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let open = std::fs::File::open(file).expect("the file is there");
                    let builder = ParquetRecordBatchReaderBuilder::try_new(open).expect("a footer");
                    let names = columns.iter().map(String::as_str);
                    let mask = ProjectionMask::columns(builder.parquet_schema(), names);
                    let reader = builder.with_projection(mask).with_batch_size(8192).build().expect("a reader");
                    for batch in reader {
                        std::hint::black_box(batch.expect("a batch").num_rows());
                    }
                }
            });
        }
    });
    began.elapsed()
}
