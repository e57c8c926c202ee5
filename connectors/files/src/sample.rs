//! Samples of tables whose files can be read in runs of rows: some windows spread over all rows, and in each a few runs. They are kept while the
//! files stay as they are.

use std::any::Any;
use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError};

use arrow::array::{Array, ArrayRef, AsArray, new_empty_array};
use arrow::compute::concat;
use cobble_format::{Footer, OpenFile, PartReading, Shape, repeated};
use cobble_plan::sample::{ALL_UP_TO, Answers, Run, Sample, SampledColumn};
use cobble_plan::scan::{GateCounters, ScanMemory};
use cobble_types::{Code, Error, Result, SqlType};

use super::FileSet;

/// Windows of a sample. Each is within one part of a file.
const WINDOWS: u64 = 8;
/// Rows from the first to the last run of a window: few pages have to be decoded for it.
const WINDOW: u64 = 2048;
const RUNS: u64 = 8;
const RUN: u64 = 64;
/// Bytes of a column's chunk, which is read as a whole: larger ones would take longer than the sample is worth.
const MOST_OF_CHUNK: f64 = (16 << 20) as f64;
/// Bytes of chunks and pages that are held at a time, and of one column's values.
const MOST_HELD: u64 = 64 << 20;

/// Memory up to a bound: what a file claims is doubted here as in a scan.
#[derive(Debug, Default)]
struct AtMost(Arc<AtomicU64>);

/// Bytes that were taken; they come back when it is dropped.
struct Taken(Arc<AtomicU64>, u64);

impl Drop for Taken {
    fn drop(&mut self) {
        self.0.fetch_sub(self.1, Ordering::Relaxed);
    }
}

impl ScanMemory for AtMost {
    fn take(&self, bytes: u64) -> Result<Box<dyn Any + Send + Sync>> {
        let before = self.0.fetch_add(bytes, Ordering::Relaxed);
        let taken = Taken(self.0.clone(), bytes);
        match before.checked_add(bytes) {
            Some(held) if held <= MOST_HELD => Ok(Box::new(taken)),
            _ => Err(Error::new(Code::MemoryLimit, "a sample of a file would take too much memory")),
        }
    }
}

/// What was drawn of a table.
#[derive(Debug, Clone)]
pub struct Drawn {
    of: f64,
    runs: Arc<Vec<Run>>,
    /// By their places in the table.
    columns: BTreeMap<usize, Arc<SampledColumn>>,
    answers: Arc<Answers>,
}

impl Drawn {
    fn bytes(&self) -> usize {
        self.columns.values().map(|column| column.values.get_array_memory_size()).sum()
    }
}

/// Runs of one part of a file.
struct Spot {
    file: usize,
    part: usize,
    rows: Vec<Range<u64>>,
    windows: Vec<usize>,
}

/// Where the runs lie among parts with so many rows each.
fn spots(parts: &[(usize, usize, u64)]) -> Vec<Spot> {
    let total: u64 = parts.iter().map(|(.., rows)| rows).sum();
    let mut found: Vec<Spot> = Vec::new();
    let whole = total <= ALL_UP_TO;
    let mut window = 0;
    let mut before = 0;
    for (file, part, rows) in parts {
        let after = before + rows;
        let mut spot = Spot { file: *file, part: *part, rows: vec![], windows: vec![] };
        if whole && *rows > 0 {
            spot.rows.push(0..*rows);
            spot.windows.push(0);
        }
        let mut taken = 0;
        // The window's middle lies in this part.
        while !whole && window < WINDOWS && (2 * window + 1) * total / (2 * WINDOWS) < after {
            let length = WINDOW.min(total / WINDOWS).min(*rows);
            let middle = (2 * window + 1) * total / (2 * WINDOWS) - before;
            let start = middle.saturating_sub(length / 2).min(rows - length).max(taken);
            let stride = (length / RUNS).max(1);
            for run in 0..RUNS {
                let from = start + run * stride;
                let to = (from + RUN.min(stride)).min(*rows);
                if from < to {
                    spot.rows.push(from..to);
                    spot.windows.push(window as usize);
                    taken = to;
                }
            }
            window += 1;
        }
        if !spot.rows.is_empty() {
            found.push(spot);
        }
        before = after;
    }
    found
}

impl FileSet {
    /// A sample with the columns at these places that can be sampled.
    pub fn sample(&self, places: &[usize]) -> Result<Option<Sample>> {
        let Some(footers) = self.footers.as_ref().filter(|footers| !footers.is_empty()) else { return Ok(None) };
        // Elsewhere each page would be a request.
        if self.source.kind != "files" || !footers.iter().all(|footer| footer.reads_runs()) {
            return Ok(None);
        }
        let wanted: Vec<usize> =
            places.iter().copied().filter(|place| is_sampled(&self.columns[*place].sql_type)).collect();
        let (key, version) = self.identity();
        let known = {
            let mut cache = self.source.cache.lock().unwrap_or_else(PoisonError::into_inner);
            cache.samples.get(&key, &version)
        };
        let missing: Vec<usize> = match &known {
            Some(drawn) => wanted.iter().copied().filter(|place| !drawn.columns.contains_key(place)).collect(),
            None => wanted.clone(),
        };
        let drawn = match (known, missing.as_slice()) {
            (Some(drawn), []) => drawn,
            (known, missing) => {
                let fresh = self.drawn(footers, missing)?;
                let mut drawn = known.map_or_else(|| fresh.clone(), |known| Arc::new(Drawn::clone(&known)));
                if !Arc::ptr_eq(&drawn, &fresh) {
                    Arc::make_mut(&mut drawn).columns.extend(fresh.columns.clone());
                }
                let mut cache = self.source.cache.lock().unwrap_or_else(PoisonError::into_inner);
                cache.samples.keep(&key, version, drawn.clone(), drawn.bytes());
                drawn
            }
        };
        let columns = wanted.iter().filter_map(|place| Some((*place, drawn.columns.get(place)?.clone())));
        Ok(Some(Sample::new(drawn.of, drawn.runs.clone(), columns.collect(), drawn.answers.clone())))
    }

    /// A name for these files, and one that differs when any of them does.
    fn identity(&self) -> (PathBuf, String) {
        let mut versions = DefaultHasher::new();
        for file in &self.files {
            (&file.stored.path, &file.stored.version, file.stored.bytes).hash(&mut versions);
        }
        // The same files may be several tables, with columns of their own.
        let mut columns = DefaultHasher::new();
        self.columns.iter().for_each(|column| (&column.name, column.sql_type.to_string()).hash(&mut columns));
        let first = self.files.first().map_or(Path::new(""), |file| &file.stored.path);
        (first.join(format!("{:x}", columns.finish())), format!("{}/{:x}", self.files.len(), versions.finish()))
    }

    fn drawn(&self, footers: &[Arc<dyn Footer>], places: &[usize]) -> Result<Arc<Drawn>> {
        let parts: Vec<(usize, usize, u64)> = footers
            .iter()
            .enumerate()
            .flat_map(|(file, footer)| (0..footer.parts()).map(move |part| (file, part, footer.rows(part))))
            .collect();
        let spots = spots(&parts);
        let first_folder = self.columns.iter().position(|c| c.partition).unwrap_or(self.columns.len());
        let mut shape = Shape {
            columns: self.columns.clone(),
            types: self.columns.iter().map(|column| column.sql_type.clone()).collect(),
            wanted: vec![],
            is_defined: self.is_defined,
            dialect: self.dialect.clone(),
        };
        let is_small = |place: &usize| {
            let bytes = |spot: &Spot| {
                let footer = &footers[spot.file];
                footer.bytes(spot.part, &shape, &footer.layout(&self.columns), &[*place])
            };
            *place >= first_folder || spots.iter().all(|spot| bytes(spot) <= MOST_OF_CHUNK)
        };
        let places: Vec<usize> = places.iter().copied().filter(is_small).collect();
        let mut wanted: Vec<usize> = places.iter().copied().filter(|place| *place < first_folder).collect();
        wanted.sort_unstable();
        wanted.dedup();
        shape.wanted.clone_from(&wanted);
        let memory: Arc<dyn ScanMemory> = Arc::new(AtMost::default());
        let mut arrays: BTreeMap<usize, Vec<ArrayRef>> = places.iter().map(|place| (*place, vec![])).collect();
        for spot in &spots {
            let (file, footer) = (&self.files[spot.file], &footers[spot.file]);
            let rows: u64 = spot.rows.iter().map(|rows| rows.end - rows.start).sum();
            if !wanted.is_empty() {
                let reading = PartReading {
                    shape: &shape,
                    layout: &footer.layout(&self.columns),
                    conditions: &[],
                    gone: &[],
                    only: &spot.rows,
                    batch_rows: rows as usize,
                    counters: &Arc::new(GateCounters::default()),
                    adapt: None,
                };
                let mut batches = footer.read(
                    &OpenFile { memory: memory.clone(), ..self.source.opened(&file.stored)? },
                    spot.part,
                    &reading,
                )?;
                while let Some((columns, _)) = batches.next()? {
                    for (place, column) in wanted.iter().zip(columns) {
                        arrays.entry(*place).or_default().push(column);
                    }
                }
            }
            for place in places.iter().filter(|place| **place >= first_folder) {
                let value = &file.partition[place - first_folder];
                let column = repeated(value, &self.columns[*place].sql_type, rows as usize)?;
                arrays.entry(*place).or_default().push(column);
            }
        }
        let runs: Vec<Run> = spots
            .iter()
            .flat_map(|spot| spot.rows.iter().zip(&spot.windows))
            .map(|(rows, window)| Run { rows: (rows.end - rows.start) as usize, window: *window })
            .collect();
        let all: usize = runs.iter().map(|run| run.rows).sum();
        let mut columns = BTreeMap::new();
        for (place, parts) in arrays {
            let column = &self.columns[place];
            let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
            let values = match parts.as_slice() {
                [] => new_empty_array(&column.sql_type.to_arrow()),
                parts => concat(parts)?,
            };
            if values.len() != all {
                return Err(Error::internal(format!("a sample of {} of {all} rows has {}", column.name, values.len())));
            }
            // Views would keep whole pages; but a page may have one long value that all rows share.
            let values = match values.as_string_view_opt() {
                Some(views) if views.total_buffer_bytes_used() as u64 > MOST_HELD => continue,
                Some(views) => Arc::new(views.gc()) as ArrayRef,
                None => values,
            };
            columns.insert(place, Arc::new(SampledColumn::new(values)));
        }
        let of = parts.iter().map(|(.., rows)| *rows as f64).sum();
        Ok(Arc::new(Drawn { of, runs: Arc::new(runs), columns, answers: Arc::default() }))
    }
}

/// Types whose values are told apart and put in order one by one.
fn is_sampled(sql_type: &SqlType) -> bool {
    sql_type.is_ordered() && !matches!(sql_type, SqlType::Array(_) | SqlType::Interval | SqlType::Bytea)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(spots: &[Spot]) -> u64 {
        spots.iter().flat_map(|spot| &spot.rows).map(|rows| rows.end - rows.start).sum()
    }

    #[test]
    fn small_tables_are_sampled_whole_and_large_ones_all_over() {
        assert_eq!(rows(&spots(&[(0, 0, 1000), (1, 0, 0), (1, 1, 3000)])), 4000);
        let large = spots(&[(0, 0, 1_000_000), (0, 1, 1_000_000), (1, 0, 500_000)]);
        assert_eq!(rows(&large), WINDOWS * RUNS * RUN);
        assert_eq!(large.iter().map(|spot| (spot.file, spot.part)).collect::<Vec<_>>(), [(0, 0), (0, 1), (1, 0)]);
    }

    #[test]
    fn runs_lie_within_their_part_and_apart() {
        for parts in [vec![(0, 0, 4097)], vec![(0, 0, 10); 1000], vec![(0, 0, 5000), (0, 1, 3)], vec![(0, 0, 60_000)]] {
            for (spot, (.., most)) in spots(&parts).iter().zip(&parts) {
                assert!(spot.rows.iter().all(|rows| rows.start < rows.end && rows.end <= *most));
                assert!(spot.rows.is_sorted_by(|a, b| a.end <= b.start), "{:?}", spot.rows);
            }
        }
    }
}
