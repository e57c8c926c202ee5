//! The folder `drop`: Parquet by month, CSV, and JSON lines. Written beside its place and moved there when complete, so a
//! half-written folder is never seen.

use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::RecordBatch;
use cobble_types::{array_value_text, write_timestamp};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::file::properties::{EnabledStatistics, WriterProperties};

use cobble_ferry::{BUOYS, Ferry, Month};

/// Rows of a row group: a month at scale one has several.
const GROUP_ROWS: usize = 32_768;
/// Rows of a page, whose least and greatest values stand in the page index.
const PAGE_ROWS: usize = 8192;
const CHUNK: u64 = 32_768;

/// Makes the bucket `deep` below the folder of an object store, for the lake. An existing one is replaced.
pub fn make_deep(root: &Path) -> io::Result<()> {
    let bucket = root.join("deep");
    if bucket.exists() {
        fs::remove_dir_all(&bucket)?;
    }
    fs::create_dir_all(bucket)
}

/// Writes the folder, in parallel; an existing one is replaced.
pub fn write_drop(ferry: Ferry, folder: &Path) -> io::Result<()> {
    let building = folder.with_extension("building");
    if building.exists() {
        fs::remove_dir_all(&building)?;
    }
    fs::create_dir_all(building.join("buoys"))?;
    write_csv(&building.join("tariffs.csv"), &ferry.tariffs())?;
    write_csv(&building.join("incidents.csv"), &ferry.incidents())?;
    let months = Month::all();
    let (next_month, next_buoy) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let work = || -> io::Result<()> {
        while let Some(month) = months.get(next_month.fetch_add(1, Ordering::Relaxed)) {
            write_month(&building.join("boardings"), *month, ferry.boardings_in(*month), |rows| {
                ferry.boardings(*month, rows)
            })?;
            write_month(&building.join("sailings"), *month, ferry.sailings_in(*month), |rows| {
                ferry.sailings(*month, rows)
            })?;
        }
        loop {
            let buoy = next_buoy.fetch_add(1, Ordering::Relaxed) as u64;
            if buoy >= BUOYS {
                return Ok(());
            }
            write_buoy(ferry, &building.join(format!("buoys/buoy-{:02}.jsonl", buoy + 1)), buoy)?;
        }
    };
    let threads = std::thread::available_parallelism().map_or(2, usize::from);
    std::thread::scope(|scope| {
        let running: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        running
            .into_iter()
            .try_for_each(|t| t.join().unwrap_or_else(|_| Err(io::Error::other("a generator thread stopped"))))
    })?;
    if folder.exists() {
        fs::remove_dir_all(folder)?;
    }
    fs::rename(building, folder)
}

fn write_month(
    folder: &Path,
    month: Month,
    count: u64,
    rows: impl Fn(std::ops::Range<u64>) -> RecordBatch,
) -> io::Result<()> {
    let folder = folder.join(format!("month={}", month.name()));
    fs::create_dir_all(&folder)?;
    let properties = WriterProperties::builder()
        .set_compression(Compression::SNAPPY)
        .set_max_row_group_row_count(Some(GROUP_ROWS))
        .set_statistics_enabled(EnabledStatistics::Page)
        .set_data_page_row_count_limit(PAGE_ROWS)
        .build();
    let mut writer: Option<ArrowWriter<File>> = None;
    let mut at = 0;
    while at < count {
        let end = (at + CHUNK).min(count);
        let batch = rows(at..end);
        let writer = match &mut writer {
            Some(writer) => writer,
            None => {
                let file = File::create(folder.join("part-0.parquet"))?;
                writer.insert(
                    ArrowWriter::try_new(file, batch.schema(), Some(properties.clone())).map_err(io::Error::other)?,
                )
            }
        };
        writer.write(&batch).map_err(io::Error::other)?;
        at = end;
    }
    match writer {
        Some(writer) => writer.close().map(drop).map_err(io::Error::other),
        None => fs::remove_dir(folder),
    }
}

fn write_csv(path: &Path, batch: &RecordBatch) -> io::Result<()> {
    let mut out = BufWriter::new(File::create(path)?);
    let names: Vec<String> = batch.schema().fields().iter().map(|f| f.name().clone()).collect();
    writeln!(out, "{}", names.join(","))?;
    for row in 0..batch.num_rows() {
        let fields: Vec<String> = batch
            .columns()
            .iter()
            .map(|column| {
                let text = array_value_text(column.as_ref(), row).unwrap_or_default();
                if text.contains([',', '"', '\n']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
            })
            .collect();
        writeln!(out, "{}", fields.join(","))?;
    }
    out.flush()
}

fn write_buoy(ferry: Ferry, path: &Path, buoy: u64) -> io::Result<()> {
    let mut out = BufWriter::with_capacity(1 << 18, File::create(path)?);
    let per_buoy = ferry.reading_count() / BUOYS;
    for k in 0..per_buoy {
        let (at, height, period, wind, tags) = ferry.reading(buoy, k, per_buoy);
        let at = write_timestamp(at).replace(' ', "T");
        let tags = tags.iter().map(|t| format!("\"{t}\"")).collect::<Vec<_>>().join(",");
        writeln!(
            out,
            "{{\"buoy\":{},\"taken_at\":\"{at}\",\"wave\":{{\"height_m\":{height:.2},\"period_s\":{period:.1}}},\"wind_kn\":{wind:.1},\"tags\":[{tags}]}}",
            buoy + 1
        )?;
    }
    out.flush()
}
