//! Files whose bytes were changed by chance: each is read, or refused by an error that names the file. None ends the process, hangs, or
//! takes more memory than a reader may. `COBBLE_HOSTILE` says how many files of each format there are, `COBBLE_SEED` which.

use std::alloc::{GlobalAlloc, Layout as Room, System};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use arrow::array::{ArrayRef, Float64Array, Int64Array, ListArray, RecordBatch, StringViewArray};
use arrow::datatypes::{Int32Type, Schema};
use cobble_format::{ALL, Dialect, FileFormat, OpenFile, PartReading, Shape};
use cobble_plan::scan::Unbounded;
use cobble_storage::{Disk, Storage};
use cobble_types::{Error, Result, SqlType, TextForm};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};

/// Counts what is allocated.
struct Counting;

static NOW: AtomicU64 = AtomicU64::new(0);
static PEAK: AtomicU64 = AtomicU64::new(0);

unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, room: Room) -> *mut u8 {
        let now = NOW.fetch_add(room.size() as u64, Ordering::Relaxed) + room.size() as u64;
        PEAK.fetch_max(now, Ordering::Relaxed);
        unsafe { System.alloc(room) }
    }

    unsafe fn dealloc(&self, place: *mut u8, room: Room) {
        NOW.fetch_sub(room.size() as u64, Ordering::Relaxed);
        unsafe { System.dealloc(place, room) }
    }
}

#[global_allocator]
static COUNTING: Counting = Counting;

/// What reading one small file may take. Packed pages claim up to 2 GiB before they are read; less is touched.
const MOST: u64 = 200 << 20;
const LONGEST: Duration = Duration::from_secs(10);

fn crossings() -> RecordBatch {
    let rows = 400;
    let ports = ["North Quay", "Old Harbour, pier 2", "", "\"Kestrel\" berth", "Sørhavn"];
    let ids: ArrayRef = Arc::new((0..rows).collect::<Int64Array>());
    let names: ArrayRef =
        Arc::new((0..rows).map(|n| (n % 7 > 0).then(|| ports[n as usize % 5])).collect::<StringViewArray>());
    let fares: ArrayRef = Arc::new((0..rows).map(|n| (n % 11 > 0).then_some(n as f64 / 4.0)).collect::<Float64Array>());
    let stops: ArrayRef = Arc::new(ListArray::from_iter_primitive::<Int32Type, _, _>(
        (0..rows).map(|n| (n % 5 > 0).then(|| (0..n % 4).map(|stop| Some(stop as i32)))),
    ));
    RecordBatch::try_from_iter([("id", ids), ("port", names), ("fare", fares), ("stops", stops)]).unwrap()
}

/// Without the nested column, which not all have.
fn flat(batch: &RecordBatch) -> RecordBatch {
    batch.project(&[0, 1, 2]).unwrap()
}

fn as_strings(batch: &RecordBatch) -> RecordBatch {
    let schema = batch.schema();
    let columns = batch.columns().iter().zip(schema.fields()).map(|(column, field)| {
        let column = match column.data_type() {
            arrow::datatypes::DataType::Utf8View => {
                arrow::compute::cast(column, &arrow::datatypes::DataType::Utf8).unwrap()
            }
            _ => column.clone(),
        };
        (field.name().clone(), column)
    });
    RecordBatch::try_from_iter(columns.collect::<Vec<_>>()).unwrap()
}

/// A whole file of the format, packed or not where it knows both.
fn whole(format: &dyn FileFormat, packed: bool) -> Vec<u8> {
    let batch = crossings();
    let mut bytes = Vec::new();
    match format.name() {
        "avro" => {
            let batch = as_strings(&flat(&batch));
            let mut writer = arrow_avro::writer::WriterBuilder::new(Schema::clone(&batch.schema()))
                .with_compression(packed.then_some(arrow_avro::compression::CompressionCodec::Deflate))
                .build::<_, arrow_avro::writer::format::AvroOcfFormat>(&mut bytes)
                .unwrap();
            writer.write(&batch).unwrap();
            writer.finish().unwrap();
        }
        "arrow" => {
            let packing = packed.then_some(arrow::ipc::CompressionType::LZ4_FRAME);
            let options = arrow::ipc::writer::IpcWriteOptions::default().try_with_compression(packing).unwrap();
            let mut writer =
                arrow::ipc::writer::FileWriter::try_new_with_options(&mut bytes, &batch.schema(), options).unwrap();
            writer.write(&batch).unwrap();
            writer.finish().unwrap();
        }
        "orc" => {
            let batch = as_strings(&flat(&batch));
            let mut writer =
                orc_rust::arrow_writer::ArrowWriterBuilder::new(&mut bytes, batch.schema()).try_build().unwrap();
            writer.write(&batch).unwrap();
            writer.close().unwrap();
        }
        _ => {
            let batch = if format.name() == "csv" { flat(&batch) } else { batch };
            let file = tempfile::tempfile().unwrap();
            let mut writer = format.writer(file, batch.schema()).unwrap();
            writer.write(&batch).unwrap();
            let mut file = writer.finish().unwrap();
            std::io::Seek::rewind(&mut file).unwrap();
            std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
        }
    }
    bytes
}

/// Changes some bytes: cut, flipped, taken out, repeated, or the numbers that lengths are written in.
fn changed(whole: &[u8], by: &mut StdRng) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    for _ in 0..by.random_range(1..4) {
        if bytes.is_empty() {
            break;
        }
        let at = match by.random_range(0..4) {
            // Where footers and headers are.
            0 => bytes.len() - 1 - by.random_range(0..bytes.len().min(200)),
            1 => by.random_range(0..bytes.len().min(200)),
            _ => by.random_range(0..bytes.len()),
        };
        match by.random_range(0..8) {
            0 => bytes.truncate(at),
            1 => bytes[at] ^= 1 << by.random_range(0..8),
            2 => bytes[at] = [0, 1, 0x7f, 0x80, 0xff][by.random_range(0..5)],
            3 => {
                let wide = [u64::MAX, i64::MAX as u64, 1 << 31, (1 << 31) - 1, 1 << 40, 0][by.random_range(0..6)];
                let width = [4, 8][by.random_range(0..2)];
                let end = bytes.len().min(at + width);
                let width = end - at;
                bytes[at..end].copy_from_slice(&wide.to_le_bytes()[..width]);
            }
            // The greatest number of variable length.
            4 => {
                let end = bytes.len().min(at + 9);
                bytes[at..end].fill(0xff);
            }
            5 => {
                let end = bytes.len().min(at + by.random_range(1..64));
                bytes.drain(at..end);
            }
            6 => {
                let end = bytes.len().min(at + by.random_range(1..64));
                let again = bytes[at..end].to_vec();
                bytes.splice(at..at, again);
            }
            _ => bytes[at] = by.random(),
        }
    }
    bytes
}

/// Reads all of a file; counts its rows.
fn read(format: &dyn FileFormat, file: &OpenFile) -> Result<usize> {
    let columns = format.infer(file, &TextForm::default(), false)?.columns;
    // What was never anything but null is read as text.
    let of = |sql_type: &SqlType| if *sql_type == SqlType::Null { SqlType::Text } else { sql_type.clone() };
    let types: Vec<SqlType> = columns.iter().map(|column| of(&column.sql_type)).collect();
    let dialect = Dialect::default();
    let shape = Shape { wanted: (0..columns.len()).collect(), columns, types, is_defined: false, dialect };
    let mut rows = 0;
    if format.parts().is_none() {
        let mut batches = format.read(file, &shape, 1024)?;
        while let Some((_, count)) = batches.next()? {
            rows += count;
        }
        return Ok(rows);
    }
    let footer = format.footer(file)?;
    let layout = footer.layout(&shape.columns);
    for column in &shape.columns {
        footer.ranges(column);
    }
    for part in 0..footer.parts() {
        let counters = Arc::default();
        let reading = PartReading {
            shape: &shape,
            layout: &layout,
            conditions: &[],
            gone: &[],
            only: &[],
            batch_rows: 1024,
            counters: &counters,
            adapt: None,
        };
        let mut batches = footer.read(file, part, &reading)?;
        while let Some((_, count)) = batches.next()? {
            rows += count;
        }
    }
    Ok(rows)
}

fn opened(folder: &std::path::Path, name: &str, bytes: &[u8]) -> OpenFile {
    std::fs::write(folder.join(name), bytes).unwrap();
    let disk = Disk::new("drop", &folder.display().to_string());
    let entries = disk.list().unwrap().entries;
    let entry = entries.into_iter().find(|entry| entry.file.path.ends_with(name)).unwrap();
    OpenFile {
        connection: "drop".to_owned(),
        blob: disk.open(&entry.file, &Default::default()).unwrap(),
        file: entry.file,
        read_bytes: Arc::new(AtomicU64::new(0)),
        longest_record: 1 << 20,
        memory: Arc::new(Unbounded),
    }
}

#[test]
fn changed_files_are_read_or_refused() {
    let number = |name: &str, otherwise: u64| std::env::var(name).map_or(otherwise, |text| text.parse().unwrap());
    let (count, seed) = (number("COBBLE_HOSTILE", 400), number("COBBLE_SEED", 1));
    let only = std::env::var("COBBLE_FORMAT").ok();
    let folder = tempfile::tempdir().unwrap();
    std::panic::set_hook(Box::new(|_| {}));
    let mut wrong = Vec::new();
    for format in ALL.iter().filter(|format| only.as_ref().is_none_or(|only| only == format.name())) {
        let files = [whole(*format, false), whole(*format, true)];
        let name = format!("crossings.{}", format.endings()[0]);
        for whole in &files {
            assert_eq!(read(*format, &opened(folder.path(), &name, whole)).unwrap(), 400, "{}", format.name());
        }
        let (mut refused, mut most, mut slowest) = (0, 0, Duration::ZERO);
        for place in 0..count {
            let mut by = StdRng::seed_from_u64(seed << 32 | place);
            let bytes = changed(&files[place as usize % 2], &mut by);
            let file = opened(folder.path(), &name, &bytes);
            let began = Instant::now();
            let before = NOW.load(Ordering::Relaxed);
            PEAK.store(before, Ordering::Relaxed);
            let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| read(*format, &file)));
            let peak = PEAK.load(Ordering::Relaxed) - before;
            (most, slowest) = (most.max(peak), slowest.max(began.elapsed()));
            let tell = |what: String| format!("{} {place}: {what}", format.name());
            match outcome {
                Err(_) => wrong.push(tell("panicked".into())),
                Ok(Ok(_)) => {}
                Ok(Err(Error { message, .. })) if !message.contains(&name) => {
                    wrong.push(tell(format!("does not name the file: {message}")));
                }
                Ok(Err(_)) => refused += 1,
            }
            if peak > MOST {
                wrong.push(tell(format!("took {} MiB", peak >> 20)));
            }
            if began.elapsed() > LONGEST {
                wrong.push(tell(format!("took {:?}", began.elapsed())));
            }
        }
        println!("{}: {count} files, {refused} refused, at most {} MiB, {slowest:?}", format.name(), most >> 20);
        std::fs::remove_file(folder.path().join(&name)).unwrap();
    }
    let _ = std::panic::take_hook();
    assert!(wrong.is_empty(), "{} of them:\n{}", wrong.len(), wrong[..wrong.len().min(20)].join("\n"));
}
