//! Rows on disk when memory does not suffice: compressed Arrow IPC streams in files without a name, which are gone as soon as
//! nobody holds them, however the process ends.

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::ipc::CompressionType;
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::{IpcWriteOptions, StreamWriter};
use cobble_types::{Code, Error, Result};

use crate::batch::compacted;
use crate::measures::StepMeter;

/// Where runs spill to.
#[derive(Debug, Clone)]
pub struct SpillPlace(pub PathBuf);

impl SpillPlace {
    /// The folder that COBBLE_SPILL names, or the system's for temporary files.
    pub fn chosen() -> Self {
        SpillPlace(std::env::var_os("COBBLE_SPILL").map_or_else(std::env::temp_dir, PathBuf::from))
    }
}

fn failed(place: &SpillPlace, error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("rows cannot be spilled to {}: {error}", place.0.display()))
        .hint("free space there, set COBBLE_SPILL to another folder, or raise run.memory")
}

/// A file being written.
pub struct Spill {
    place: SpillPlace,
    writer: StreamWriter<BufWriter<File>>,
    rows: usize,
    meter: Arc<StepMeter>,
    counted: u64,
}

/// A finished file, to be read as often as wanted.
#[derive(Debug)]
pub struct Spilled {
    place: SpillPlace,
    file: File,
    pub rows: usize,
}

impl Spill {
    pub fn new(place: &SpillPlace, schema: &SchemaRef, meter: &Arc<StepMeter>) -> Result<Spill> {
        let file = tempfile::tempfile_in(&place.0).map_err(|e| failed(place, e))?;
        let options = IpcWriteOptions::default().try_with_compression(Some(CompressionType::LZ4_FRAME))?;
        let writer = StreamWriter::try_new_with_options(BufWriter::with_capacity(1 << 18, file), schema, options)
            .map_err(|e| failed(place, e))?;
        Ok(Spill { place: place.clone(), writer, rows: 0, meter: meter.clone(), counted: 0 })
    }

    pub fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.writer.write(&compacted(batch.clone())?).map_err(|e| failed(&self.place, e))?;
        self.rows += batch.num_rows();
        let written = self.writer.get_mut().stream_position().unwrap_or(self.counted);
        self.meter.spilled(written.saturating_sub(self.counted));
        self.counted = written;
        Ok(())
    }

    pub fn finish(mut self) -> Result<Spilled> {
        self.writer.finish().map_err(|e| failed(&self.place, e))?;
        let buffered = self.writer.into_inner().map_err(|e| failed(&self.place, e))?;
        let file = buffered.into_inner().map_err(|e| failed(&self.place, e.error()))?;
        Ok(Spilled { place: self.place, file, rows: self.rows })
    }
}

impl Spilled {
    /// The batches, in the order they were written.
    pub fn read(&self) -> Result<impl Iterator<Item = Result<RecordBatch>> + Send + use<>> {
        let file = self.file.try_clone().map_err(|e| failed(&self.place, e))?;
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
