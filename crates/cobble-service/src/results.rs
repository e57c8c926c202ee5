//! Results of runs that wait for their readers: in memory while there is room, then in files. A result stays until it has been read or has expired. When
//! both places are full, runs wait, and end with an error if nothing is freed. Where room is short, results that nobody asks for go first.

use std::fs::File;
use std::io::{self, BufWriter, Cursor, Write};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow::array::{Array, RecordBatch};
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use cobble_engine::{Held, ServiceMemory, SpillPlace};
use cobble_types::{Code, Error, Result};
use tokio::sync::Notify;

use crate::service::blocking;

/// The part of the memory of all runs that results may have.
const MEMORY_SHARE: u64 = 4;
/// Bytes that results may have in files.
const DISK: u64 = 8 << 30;

/// A bounded number of bytes.
#[derive(Debug, Default)]
struct Space {
    used: AtomicU64,
    freed: Arc<Notify>,
}

/// Bytes of a space, given back when dropped.
#[derive(Debug)]
pub struct Taken {
    space: Arc<Space>,
    bytes: u64,
    /// The same bytes among those of all runs, for what is in memory.
    _held: Option<Held>,
}

impl Drop for Taken {
    fn drop(&mut self) {
        self.space.used.fetch_sub(self.bytes, Ordering::Relaxed);
        self.space.freed.notify_waiters();
    }
}

impl Space {
    fn take(self: &Arc<Self>, bytes: u64, limit: u64, memory: Option<&Arc<ServiceMemory>>) -> Option<Taken> {
        let held = match memory {
            Some(memory) => Some(memory.take(bytes)?),
            None => None,
        };
        if self.used.fetch_add(bytes, Ordering::Relaxed) + bytes > limit {
            self.used.fetch_sub(bytes, Ordering::Relaxed);
            return None;
        }
        Some(Taken { space: self.clone(), bytes, _held: held })
    }
}

/// Some rows of a result.
#[derive(Debug, Clone)]
pub enum Part {
    Memory {
        batch: RecordBatch,
        /// Given back with the last reader.
        _taken: Arc<Taken>,
    },
    /// An Arrow IPC stream of one batch, at a place of the result's file.
    File { file: Arc<File>, offset: u64, length: u64, taken: Arc<Taken> },
}

impl Part {
    pub async fn read(self) -> Result<RecordBatch> {
        match self {
            Part::Memory { batch, .. } => Ok(batch),
            Part::File { file, offset, length, taken } => {
                blocking(move || {
                    let _taken = taken;
                    let mut bytes = vec![0; length as usize];
                    file.read_exact_at(&mut bytes, offset).map_err(unreadable)?;
                    let mut batches = StreamReader::try_new(Cursor::new(bytes), None)?;
                    batches.next().ok_or_else(|| unreadable("the file ends early"))?.map_err(Error::from)
                })
                .await
            }
        }
    }
}

fn unreadable(error: impl std::fmt::Display) -> Error {
    Error::new(Code::Storage, format!("a result cannot be read back from its file: {error}"))
}

/// Writes into a file from a place on.
struct Place<'f> {
    file: &'f File,
    at: u64,
}

impl Write for Place<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.file.write_at(bytes, self.at)?;
        self.at += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The file of one result, once it has one. It has no name: it goes with its last reader.
#[derive(Debug, Default)]
pub struct ResultFile {
    file: Option<Arc<File>>,
    end: u64,
}

#[derive(Debug)]
pub struct ResultStore {
    memory: Arc<ServiceMemory>,
    in_memory: Arc<Space>,
    on_disk: Arc<Space>,
    disk_limit: u64,
    folder: PathBuf,
    freed: Arc<Notify>,
}

impl ResultStore {
    pub fn new(memory: Arc<ServiceMemory>) -> ResultStore {
        let folder = SpillPlace::chosen().folder;
        let freed = Arc::new(Notify::new());
        let space = || Arc::new(Space { used: AtomicU64::new(0), freed: freed.clone() });
        ResultStore { memory, in_memory: space(), on_disk: space(), disk_limit: DISK, folder, freed }
    }

    fn memory_limit(&self) -> u64 {
        self.memory.limit() / MEMORY_SHARE
    }

    /// True while so much is kept, of rows or of runs, that what was read should go.
    pub fn is_half_full(&self) -> bool {
        self.in_memory.used.load(Ordering::Relaxed) > self.memory_limit() / 4
            || self.on_disk.used.load(Ordering::Relaxed) > self.disk_limit / 2
    }

    /// Room in memory, or `None` where there is none.
    pub fn admit(&self, bytes: u64) -> Option<Taken> {
        self.in_memory.take(bytes, self.memory_limit(), Some(&self.memory))
    }

    /// Room in memory for rows, which leave half of it to the runs themselves: however much is kept, a new run begins.
    fn admit_rows(&self, bytes: u64) -> Option<Taken> {
        self.in_memory.take(bytes, self.memory_limit() / 2, Some(&self.memory))
    }

    /// Keeps a batch, or gives it back when there is no room for it anywhere.
    pub async fn keep(
        &self,
        batch: RecordBatch,
        into: &mut ResultFile,
    ) -> Result<std::result::Result<Part, RecordBatch>> {
        if let Some(taken) = self.admit_rows(batch.get_array_memory_size() as u64) {
            return Ok(Ok(Part::Memory { batch, _taken: Arc::new(taken) }));
        }
        // About as many bytes as the file will have.
        let bytes = batch.columns().iter().map(|column| column.get_buffer_memory_size()).sum::<usize>() as u64;
        let Some(taken) = self.on_disk.take(bytes.max(1), self.disk_limit, None) else { return Ok(Err(batch)) };
        let (known, folder, offset) = (into.file.clone(), self.folder.clone(), into.end);
        let (file, length) = blocking(move || {
            let failed = |error: std::io::Error| {
                Error::new(Code::Storage, format!("a result cannot be kept in {}: {error}", folder.display()))
                    .hint("free space there, or set COBBLE_SPILL to another folder")
            };
            let file = match known {
                Some(file) => file,
                None => Arc::new(tempfile::tempfile_in(&folder).map_err(failed)?),
            };
            // Straight into the file: a second copy in memory may be as large as the rows.
            let place = BufWriter::with_capacity(1 << 17, Place { file: &file, at: offset });
            let mut writer = StreamWriter::try_new(place, &batch.schema()).map_err(io::Error::other).map_err(failed)?;
            writer.write(&batch).map_err(io::Error::other).map_err(failed)?;
            let end = writer.into_inner().map_err(io::Error::other).map_err(failed)?.into_inner();
            let end = end.map_err(|error| failed(error.into_error()))?.at;
            Ok((file, end - offset))
        })
        .await?;
        into.file = Some(file.clone());
        into.end += length;
        Ok(Ok(Part::File { file, offset, length, taken: Arc::new(taken) }))
    }

    /// Resolves when bytes have been given back since this was called.
    pub fn freed(&self) -> impl Future<Output = ()> + '_ {
        self.freed.notified()
    }
}

/// The error of a run that finds no room.
pub fn full() -> Error {
    Error::new(Code::MemoryLimit, "results that have not been fetched fill the space for results")
        .hint("fetch them to their end or cancel their runs; each goes 15 minutes after its run has ended")
}

#[cfg(test)]
mod tests {
    use arrow::array::{ArrayRef, Int64Array};

    use super::*;

    fn batch(start: i64, rows: i64) -> RecordBatch {
        let values: ArrayRef = Arc::new((start..start + rows).collect::<Int64Array>());
        RecordBatch::try_from_iter([("n", values)]).unwrap()
    }

    #[tokio::test]
    async fn rows_go_to_memory_then_to_disk_and_come_back() {
        let memory = ServiceMemory::new(400_000);
        let mut store = ResultStore::new(memory.clone());
        store.disk_limit = 200_000;
        let (mut file, mut parts) = (ResultFile::default(), Vec::new());
        let refused = loop {
            match store.keep(batch(parts.len() as i64 * 1000, 1000), &mut file).await.unwrap() {
                Ok(part) => parts.push(part),
                Err(refused) => break refused,
            }
        };
        assert_eq!(refused, batch(parts.len() as i64 * 1000, 1000), "what does not fit is given back");
        assert!(
            parts.iter().any(|p| matches!(p, Part::Memory { .. }))
                && parts.iter().any(|p| matches!(p, Part::File { .. }))
        );
        assert!(memory.used() <= memory.limit() / MEMORY_SHARE / 2 && store.is_half_full());
        assert!(store.admit(1000).is_some(), "there is room for a run all the same");
        for (place, part) in parts.iter().enumerate() {
            assert_eq!(part.clone().read().await.unwrap(), batch(place as i64 * 1000, 1000));
        }
        let freed = store.freed();
        drop(parts);
        tokio::time::timeout(std::time::Duration::from_secs(5), freed).await.expect("whoever waits is told");
        assert_eq!((memory.used(), store.is_half_full()), (0, false));
        assert!(store.keep(refused, &mut file).await.unwrap().is_ok());
    }
}
