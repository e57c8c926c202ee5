//! Text that is read record by record, none longer than it may be: a quote that is never closed would make one of a whole file.

use std::io::{Error, Read, Result};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Bytes that a reader may have ahead of the record that it is in.
const AHEAD: u64 = 1 << 20;

pub struct RecordBound<R> {
    input: R,
    read: u64,
    /// Where the record begins that is being read.
    begun: Arc<AtomicU64>,
    longest: u64,
}

/// The error of a record that is too long.
pub fn too_long(longest: u64) -> Error {
    Error::other(format!("a record is longer than {} MiB, which is the connection's longest_record", longest >> 20))
}

impl<R> RecordBound<R> {
    /// `begun` is kept up to date by who reads the records.
    pub fn new(input: R, begun: Arc<AtomicU64>, longest: u64) -> Self {
        RecordBound { input, read: 0, begun, longest }
    }
}

impl<R: Read> Read for RecordBound<R> {
    fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
        if self.read.saturating_sub(self.begun.load(Ordering::Relaxed)) > self.longest.saturating_add(AHEAD) {
            return Err(too_long(self.longest));
        }
        let count = self.input.read(buffer)?;
        self.read += count as u64;
        Ok(count)
    }
}
