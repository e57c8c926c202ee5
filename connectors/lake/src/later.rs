//! Files that are found while others are read already: of the manifests that planning has left.

use std::any::Any;
use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex as Shut, PoisonError};

use cobble_lake::left::{Counts, DataFile, Looking, Parts};
use cobble_lake::manifest_list::Manifest;
use cobble_plan::offer::PartCount;
use cobble_plan::scan::{GateCounters, ScanTools};
use cobble_types::{Error, Result};
use tokio::sync::{Mutex, mpsc};

/// Manifests that are read at the same time.
const AT_ONCE: usize = 4;
/// Files that are handed on together.
const TOGETHER: usize = 256;
/// Such parcels that wait to be read at most.
const WAITING: usize = 16;
/// Bytes that a file takes which is known and not read yet, roughly.
const FILE_BYTES: usize = 512;

/// The files, as they are found.
pub struct Later {
    found: Mutex<Found>,
}

struct Found {
    parcels: mpsc::Receiver<Result<Vec<DataFile>>>,
    waiting: VecDeque<DataFile>,
    _room: Box<dyn Any + Send + Sync>,
}

/// What the threads that read manifests share.
struct Search {
    looking: Looking,
    manifests: Arc<Vec<Manifest>>,
    next: AtomicUsize,
    /// Manifests that were read to their ends, and what was in them.
    done: Shut<(u64, Counts)>,
    tools: ScanTools,
}

/// What was found in manifests, in the words of a plan.
pub fn parts_of(counts: &Counts) -> [PartCount; 2] {
    [part("files in them by partition", counts.partitioned), part("files of those by bounds", counts.bounded)]
}

pub fn part(parts: &str, found: Parts) -> PartCount {
    PartCount { parts: parts.to_owned(), read: found.read, total: found.total }
}

impl Later {
    /// Begins to read these manifests.
    ///
    /// # Errors
    /// When the run may not have the memory for what waits.
    pub fn begin(looking: Looking, manifests: Arc<Vec<Manifest>>, tools: &ScanTools) -> Result<Later> {
        let room = tools.memory.take((TOGETHER * (WAITING + AT_ONCE) * FILE_BYTES) as u64)?;
        let (sender, parcels) = mpsc::channel(WAITING);
        let threads = AT_ONCE.min(manifests.len());
        let done = Shut::default();
        let search = Arc::new(Search { looking, manifests, next: AtomicUsize::new(0), done, tools: tools.clone() });
        for _ in 0..threads {
            let (search, sender) = (search.clone(), sender.clone());
            tokio::task::spawn_blocking(move || {
                if let Err(error) = search.run(&sender) {
                    // Nobody waits for it where the reader has gone.
                    let _ = sender.blocking_send(Err(error));
                }
            });
        }
        Ok(Later { found: Mutex::new(Found { parcels, waiting: VecDeque::new(), _room: room }) })
    }

    /// The next file, and with it those that come at once and are of the same sort, by `joins`; none when all have come.
    ///
    /// # Errors
    /// Of the storage, or of a manifest that is not as it should be.
    pub async fn next(&self, joins: impl Fn(&DataFile) -> bool) -> Result<Vec<DataFile>> {
        let mut found = self.found.lock().await;
        while found.waiting.is_empty() {
            match found.parcels.recv().await {
                Some(parcel) => found.waiting.extend(parcel?),
                None => return Ok(vec![]),
            }
        }
        let count = found.waiting.iter().take_while(|file| joins(file)).count().max(1);
        Ok(found.waiting.drain(..count).collect())
    }
}

impl Search {
    fn run(&self, sender: &mpsc::Sender<Result<Vec<DataFile>>>) -> Result<()> {
        while let Some(manifest) = self.manifests.get(self.next.fetch_add(1, Ordering::Relaxed)) {
            let mut parcel = Vec::new();
            let hand_on = |parcel: &mut Vec<DataFile>| {
                let sent = sender.blocking_send(Ok(std::mem::take(parcel)));
                sent.map_err(|_| "its files are not wanted any more".to_owned())
            };
            let mut each = |file| {
                parcel.push(file);
                if parcel.len() < TOGETHER { Ok(()) } else { hand_on(&mut parcel) }
            };
            let counts = self.looking.each_file(manifest, &self.tools.memory, &self.tools.cancel, &mut each)?;
            GateCounters::add(&self.tools.counters.bytes, counts.bytes);
            self.tell(&counts);
            hand_on(&mut parcel).map_err(Error::internal)?;
        }
        Ok(())
    }

    fn tell(&self, counts: &Counts) {
        let mut done = self.done.lock().unwrap_or_else(PoisonError::into_inner);
        done.0 += 1;
        done.1.add(counts);
        let manifests = Parts { read: done.0, total: self.manifests.len() as u64 };
        let found = [part("manifests that planning had left", manifests)].into_iter().chain(parts_of(&done.1));
        *self.tools.counters.parts.lock().unwrap_or_else(PoisonError::into_inner) = found.collect();
    }
}
