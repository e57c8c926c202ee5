//! What is known of files, kept while each has the same version, and within a bound: what has not been used for the longest time goes first.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// Bytes of everything that is kept of one kind for a connection.
const MOST: usize = 128 << 20;
/// Bytes of an entry besides what it holds.
const ENTRY: usize = 256;

#[derive(Debug)]
pub struct Known<T> {
    entries: HashMap<PathBuf, Entry<T>>,
    bytes: usize,
    uses: u64,
}

#[derive(Debug)]
struct Entry<T> {
    version: String,
    value: T,
    bytes: usize,
    used: u64,
}

impl<T> Default for Known<T> {
    fn default() -> Self {
        Known { entries: HashMap::new(), bytes: 0, uses: 0 }
    }
}

impl<T: Clone> Known<T> {
    /// What is known of a file in this version.
    pub fn get(&mut self, path: &Path, version: &str) -> Option<T> {
        self.uses += 1;
        let entry = self.entries.get_mut(path).filter(|entry| entry.version == version)?;
        entry.used = self.uses;
        Some(entry.value.clone())
    }

    /// What is known of a file in the version that was seen last, with that version.
    pub fn last(&mut self, path: &Path) -> Option<(String, T)> {
        self.uses += 1;
        let entry = self.entries.get_mut(path)?;
        entry.used = self.uses;
        Some((entry.version.clone(), entry.value.clone()))
    }

    /// Keeps what is known, which takes so many bytes.
    pub fn keep(&mut self, path: &Path, version: String, value: T, bytes: usize) {
        self.uses += 1;
        let bytes = bytes + ENTRY + path.as_os_str().len() + version.len();
        self.bytes += bytes;
        let entry = Entry { version, value, bytes, used: self.uses };
        if let Some(before) = self.entries.insert(path.to_owned(), entry) {
            self.bytes -= before.bytes;
        }
        if self.bytes > MOST {
            self.forget();
        }
    }

    /// How many entries there are, and their bytes.
    pub fn held(&self) -> (usize, usize) {
        (self.entries.len(), self.bytes)
    }

    /// Leaves the half that was used last.
    fn forget(&mut self) {
        let mut all: Vec<(u64, usize)> = self.entries.values().map(|entry| (entry.used, entry.bytes)).collect();
        all.sort_unstable_by_key(|(used, _)| std::cmp::Reverse(*used));
        let mut left = MOST / 2;
        let fits = all.iter().take_while(|(_, bytes)| left.checked_sub(*bytes).map(|rest| left = rest).is_some());
        // One that is larger than all that may be kept is not kept.
        let oldest = fits.last().map_or(u64::MAX, |(used, _)| *used);
        self.entries.retain(|_, entry| entry.used >= oldest);
        self.bytes = self.entries.values().map(|entry| entry.bytes).sum();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_used_last_is_kept_within_the_bound() {
        let mut known = Known::default();
        let path = |n: usize| PathBuf::from(format!("/quays/{n}.parquet"));
        known.keep(&path(0), "1".into(), 0, 1 << 20);
        for n in 1..1_000 {
            known.keep(&path(n), "1".into(), n, 1 << 20);
            assert!(known.bytes <= MOST);
            assert_eq!(known.get(&path(0), "1"), Some(0), "it is used all the time");
            assert_eq!(known.get(&path(n), "1"), Some(n));
        }
        assert_eq!(known.get(&path(1), "1"), None);
        known.keep(&path(0), "2".into(), 7, 1 << 20);
        assert_eq!((known.get(&path(0), "1"), known.get(&path(0), "2")), (None, Some(7)));
        let sum: usize = known.entries.values().map(|entry| entry.bytes).sum();
        assert_eq!(known.bytes, sum);
        known.keep(&path(5), "1".into(), 5, MOST * 2);
        assert_eq!(known.get(&path(5), "1"), None, "larger than all that may be kept");
        assert!(known.bytes <= MOST);
    }
}
