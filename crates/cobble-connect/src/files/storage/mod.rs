//! Where files are kept: a folder of this machine, or objects behind HTTP. Reading is the same for both: pieces of a file, or the
//! file from its start.

mod disk;
mod objects;

use std::fmt;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;
use cobble_plan::offer::GateCounters;
use cobble_types::Result;
use tokio_util::sync::CancellationToken;

pub use disk::Disk;
pub use objects::{HTTP, Objects, S3};

use super::listing::DataFile;
use crate::connector::TestStep;

/// A file in a listing.
#[derive(Debug, Clone)]
pub struct Entry {
    /// The whole name, as it is shown and as it is opened.
    pub path: PathBuf,
    /// The names of the folders below the address on the way to it, and its own.
    pub names: Vec<String>,
    pub bytes: u64,
    /// Differs when the content does.
    pub version: String,
}

pub trait Storage: Send + Sync + fmt::Debug {
    /// The address as it is shown.
    fn address(&self) -> String;
    /// All files below the address, in order of their names.
    fn list(&self) -> Result<Vec<Entry>>;
    /// Opens a file of a listing; an error when it is another one by now.
    fn open(&self, file: &DataFile, cancel: &CancellationToken) -> Result<Arc<dyn Blob>>;
    /// True once after a file was found to be another one than its listing says.
    fn has_changed(&self) -> bool {
        false
    }
    /// The way to the storage, step by step up to a listing; false when one failed.
    fn reach(&self, report: &mut (dyn FnMut(TestStep) + Send)) -> bool;
}

/// An open file.
pub trait Blob: Send + Sync {
    fn size(&self) -> u64;
    /// Exactly these bytes.
    fn read(&self, start: u64, length: usize) -> io::Result<Bytes>;
    /// Says which pieces will be read soon, as starts and lengths.
    fn soon(&self, _pieces: &[(u64, u64)]) {}
}

/// Bytes of the first step of reading a file from its start, and of the longest: who wants little reads little.
const FIRST_STEP: u64 = 1 << 17;
const STEP: u64 = 4 << 20;

/// A file read in order.
pub struct Ordered {
    blob: Arc<dyn Blob>,
    at: u64,
    piece: Bytes,
    step: u64,
    counters: Arc<GateCounters>,
}

impl Ordered {
    /// What is read of the file is counted.
    pub fn new(blob: Arc<dyn Blob>, counters: Arc<GateCounters>) -> Self {
        Ordered { blob, at: 0, piece: Bytes::new(), step: FIRST_STEP, counters }
    }

    fn piece_at(&self, start: u64) -> (u64, u64) {
        (start, self.step.min(self.blob.size().saturating_sub(start)))
    }
}

impl Read for Ordered {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.piece.is_empty() {
            let (start, length) = self.piece_at(self.at);
            if length == 0 {
                return Ok(0);
            }
            self.piece = self.blob.read(start, length as usize)?;
            GateCounters::add(&self.counters.bytes, length);
            self.step = (self.step * 2).min(STEP);
            let next = self.piece_at(start + length);
            if next.1 > 0 && self.step == STEP {
                self.blob.soon(&[next]);
            }
        }
        let count = buffer.len().min(self.piece.len());
        buffer[..count].copy_from_slice(&self.piece.split_to(count));
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for Ordered {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let place = match to {
            SeekFrom::Start(place) => Some(place),
            SeekFrom::End(by) => self.blob.size().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        let place = place.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        if place != self.at {
            self.piece.clear();
            self.at = place;
        }
        Ok(place)
    }
}
