//! Reads a file in order, in steps that grow: a reader that needs little fetches little.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;

use crate::Blob;

/// Bytes of the first step of reading a file from its start, and of the longest: who wants little reads little.
const FIRST_STEP: u64 = 1 << 17;
const STEP: u64 = 4 << 20;

/// A file read in order.
pub struct Ordered {
    blob: Arc<dyn Blob>,
    at: u64,
    piece: Bytes,
    step: u64,
    read_bytes: Arc<AtomicU64>,
}

impl Ordered {
    /// What is read of the file is counted.
    pub fn new(blob: Arc<dyn Blob>, read_bytes: Arc<AtomicU64>) -> Self {
        Ordered { blob, at: 0, piece: Bytes::new(), step: FIRST_STEP, read_bytes }
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
            self.read_bytes.fetch_add(length, Ordering::Relaxed);
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
