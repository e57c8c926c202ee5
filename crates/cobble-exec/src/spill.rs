//! Rows on disk when memory does not suffice: compressed Arrow IPC streams in files without a name, which are gone as soon as
//! nobody holds them, however the process ends.

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::ipc::CompressionType;
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::{IpcWriteOptions, StreamWriter};
use cobble_types::{Code, Error, Result};

use crate::batch::compacted;
use crate::measures::StepMeter;

/// Where a run spills to, and how much.
#[derive(Debug, Clone)]
pub struct SpillPlace {
    pub folder: PathBuf,
    limit: u64,
    used: Arc<AtomicU64>,
}

impl SpillPlace {
    /// The folder that COBBLE_SPILL names, or the system's for temporary files.
    pub fn chosen() -> Self {
        let folder = std::env::var_os("COBBLE_SPILL").map_or_else(std::env::temp_dir, PathBuf::from);
        SpillPlace { folder, limit: u64::MAX, used: Arc::default() }
    }

    /// The same for a run that may have so many bytes there at one time.
    pub fn bounded(self, limit: u64) -> Self {
        SpillPlace { folder: self.folder, limit, used: Arc::default() }
    }
}

fn failed(place: &SpillPlace, error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("rows cannot be spilled to {}: {error}", place.folder.display()))
        .hint("free space there, set COBBLE_SPILL to another folder, or raise run.memory")
}

/// Bytes that a file takes; given back with it.
#[derive(Debug)]
struct Taken {
    place: SpillPlace,
    bytes: u64,
}

impl Taken {
    /// The file has grown to so many bytes.
    fn grown(&mut self, bytes: u64, meter: &StepMeter) -> Result<()> {
        let more = bytes.saturating_sub(self.bytes);
        self.bytes += more;
        meter.spilled(more);
        if self.place.used.fetch_add(more, Ordering::Relaxed) + more <= self.place.limit {
            return Ok(());
        }
        let what = format!(
            "{} needs more than the {} MiB that the run may spill to disk",
            meter.label(),
            self.place.limit >> 20
        );
        Err(Error::new(Code::MemoryLimit, what).hint("select fewer rows or columns, or raise run.spill or run.memory"))
    }
}

impl Drop for Taken {
    fn drop(&mut self) {
        self.place.used.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

/// A file being written.
pub struct Spill {
    taken: Taken,
    writer: StreamWriter<BufWriter<File>>,
    rows: usize,
    meter: Arc<StepMeter>,
}

/// A finished file, to be read as often as wanted.
#[derive(Debug)]
pub struct Spilled {
    taken: Taken,
    file: File,
    pub rows: usize,
}

impl Spill {
    pub fn new(place: &SpillPlace, schema: &SchemaRef, meter: &Arc<StepMeter>) -> Result<Spill> {
        let file = tempfile::tempfile_in(&place.folder).map_err(|e| failed(place, e))?;
        let options = IpcWriteOptions::default().try_with_compression(Some(CompressionType::LZ4_FRAME))?;
        let writer = StreamWriter::try_new_with_options(BufWriter::with_capacity(1 << 18, file), schema, options)
            .map_err(|e| failed(place, e))?;
        Ok(Spill { taken: Taken { place: place.clone(), bytes: 0 }, writer, rows: 0, meter: meter.clone() })
    }

    pub fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.writer.write(&compacted(batch.clone())?).map_err(|e| failed(&self.taken.place, e))?;
        self.rows += batch.num_rows();
        let written = self.writer.get_mut().stream_position().unwrap_or(self.taken.bytes);
        self.taken.grown(written, &self.meter)
    }

    pub fn finish(mut self) -> Result<Spilled> {
        self.writer.finish().map_err(|e| failed(&self.taken.place, e))?;
        let buffered = self.writer.into_inner().map_err(|e| failed(&self.taken.place, e))?;
        let file = buffered.into_inner().map_err(|e| failed(&self.taken.place, e.error()))?;
        Ok(Spilled { taken: self.taken, file, rows: self.rows })
    }
}

impl Spilled {
    /// The batches, in the order they were written.
    pub fn read(&self) -> Result<impl Iterator<Item = Result<RecordBatch>> + Send + use<>> {
        let file = self.file.try_clone().map_err(|e| failed(&self.taken.place, e))?;
        let reader = StreamReader::try_new(BufReader::with_capacity(1 << 18, FromStart { file, at: 0 }), None)?;
        Ok(reader.map(|batch| Ok(batch?)))
    }
}

/// Reads with a place of its own, which clones of a file handle do not have.
struct FromStart {
    file: File,
    at: u64,
}

impl Read for FromStart {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.file.read_at(buffer, self.at)?;
        self.at += count as u64;
        Ok(count)
    }
}
