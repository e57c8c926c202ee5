//! Manifests that are decoded once. Of the files of each partition it is kept how many there are, and of partitions that were asked for the
//! files' entries, as the bytes that they are in the manifest: a second plan looks at partitions, not at files, and reads nothing. Manifests never
//! change, so what is known of one holds for ever.

use std::io::{self, BufRead};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use cobble_format::{AvroBlocks, Known};
use cobble_plan::scan::ScanMemory;
use hashbrown::{HashMap, HashSet};

use crate::manifest::{Entry, EntryShape, opened};
use crate::manifest_list::Manifest;
use crate::rows::{Cursor, Part};
use crate::schema::Told;

/// Bytes of entries up to which all of a manifest are kept, whatever is asked for.
const SMALL: usize = 256 << 10;
/// Bytes of entries of one manifest that are kept at most.
const MOST: usize = 56 << 20;
/// Partitions of which is known whether they can hold a row, for one question.
const MOST_VERDICTS: usize = 1 << 20;
/// Memory is taken for so many bytes of entries at once.
const STEP: usize = 1 << 20;

/// What is known of manifests and of their lists, within a bound of bytes.
#[derive(Debug, Default)]
pub struct Manifests {
    decoded: Mutex<Known<Arc<Decoded>>>,
    lists: Mutex<Known<Arc<Vec<Manifest>>>>,
}

/// What a manifest is known by. One that others have put in its place would hardly have as many bytes.
fn version(bytes: u64) -> String {
    bytes.to_string()
}

impl Manifests {
    pub fn decoded(&self, path: &Path, bytes: u64) -> Option<Arc<Decoded>> {
        self.decoded.lock().unwrap_or_else(PoisonError::into_inner).get(path, &version(bytes))
    }

    fn keep(&self, path: &Path, bytes: u64, decoded: Arc<Decoded>) {
        let held = decoded.bytes();
        self.decoded.lock().unwrap_or_else(PoisonError::into_inner).keep(path, version(bytes), decoded, held);
    }

    pub fn list(&self, path: &Path) -> Option<Arc<Vec<Manifest>>> {
        self.lists.lock().unwrap_or_else(PoisonError::into_inner).get(path, "")
    }

    pub fn keep_list(&self, path: &Path, list: Arc<Vec<Manifest>>) {
        let summaries = |own: &Manifest| own.partitions.as_ref().map_or(0, |all| all.len() * 128);
        let held = list.iter().map(|own| size_of::<Manifest>() + own.path.len() + summaries(own)).sum();
        self.lists.lock().unwrap_or_else(PoisonError::into_inner).keep(path, String::new(), list, held);
    }

    /// Manifests that are known, and the bytes that they and the lists take.
    pub fn held(&self) -> (usize, usize) {
        let (decoded, lists) = (
            self.decoded.lock().unwrap_or_else(PoisonError::into_inner).held(),
            self.lists.lock().unwrap_or_else(PoisonError::into_inner).held(),
        );
        (decoded.0, decoded.1 + lists.1)
    }

    pub fn forget(&self) {
        *self.decoded.lock().unwrap_or_else(PoisonError::into_inner) = Known::default();
        *self.lists.lock().unwrap_or_else(PoisonError::into_inner) = Known::default();
    }
}

/// A manifest, as far as it was asked for.
#[derive(Debug)]
pub struct Decoded {
    shape: Arc<EntryShape>,
    partitions: Vec<Partition>,
}

#[derive(Debug)]
struct Partition {
    values: Box<[u8]>,
    files: u64,
    /// One entry after the other; none where nobody has asked for them.
    entries: Option<Arc<[u8]>>,
}

impl Decoded {
    /// The partitions whose entries are kept.
    fn kept(&self) -> impl Iterator<Item = &[u8]> {
        self.partitions.iter().filter(|own| own.entries.is_some()).map(|own| own.values.as_ref())
    }

    fn bytes(&self) -> usize {
        let own = |partition: &Partition| {
            size_of::<Partition>() + partition.values.len() + partition.entries.as_ref().map_or(0, |own| own.len())
        };
        4096 + self.partitions.iter().map(own).sum::<usize>()
    }
}

/// Whether partitions can hold a row, by their bytes.
type OfPartitions = HashMap<Box<[u8]>, bool>;

/// Which partitions can hold a row, for one question to one partitioning, whichever manifest they are in.
#[derive(Debug, Default)]
pub struct Verdicts {
    /// By the types in which the writer has the values.
    known: RwLock<Vec<(Vec<Part>, OfPartitions)>>,
}

impl Verdicts {
    /// Whether each of these partitions can, in their order.
    fn of(&self, shape: &EntryShape, all: &[&[u8]], decide: &mut Decide<'_>) -> Told<Vec<bool>> {
        let mut verdicts = vec![None; all.len()];
        {
            let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, own)) = known.iter().find(|(parts, _)| parts == shape.partition()) {
                for (values, verdict) in all.iter().zip(&mut verdicts) {
                    *verdict = own.get(*values).copied();
                }
            }
        }
        let mut new = Vec::new();
        for (values, verdict) in all.iter().zip(&mut verdicts) {
            if verdict.is_none() {
                let may = decide(shape, values)?;
                *verdict = Some(may);
                new.push((Box::from(*values), may));
            }
        }
        if !new.is_empty() {
            let mut known = self.known.write().unwrap_or_else(PoisonError::into_inner);
            let place = known.iter().position(|(parts, _)| parts == shape.partition()).unwrap_or_else(|| {
                known.push((shape.partition().to_vec(), HashMap::new()));
                known.len() - 1
            });
            let own = &mut known[place].1;
            if own.len() + new.len() <= MOST_VERDICTS {
                own.extend(new);
            }
        }
        Ok(verdicts.into_iter().map(|verdict| verdict.unwrap_or(true)).collect())
    }
}

/// Decides whether a partition, as bytes of this shape, can hold a row.
pub type Decide<'d> = dyn FnMut(&EntryShape, &[u8]) -> Told<bool> + 'd;
/// Gets each entry of a partition that can.
pub type Each<'e> = dyn FnMut(&Entry<'_>) -> Told<()> + 'e;

/// How many files were in partitions that can hold a row, and how many there were.
#[derive(Debug, Default, Clone, Copy)]
pub struct Looked {
    pub left: u64,
    pub all: u64,
}

/// Goes through the entries of a manifest that is known; none where what is asked for is not.
pub fn known(
    decoded: &Decoded,
    verdicts: &Verdicts,
    decide: &mut Decide<'_>,
    each: &mut Each<'_>,
) -> Told<Option<Looked>> {
    let shape = decoded.shape.as_ref();
    let values: Vec<&[u8]> = decoded.partitions.iter().map(|own| own.values.as_ref()).collect();
    let may = verdicts.of(shape, &values, decide)?;
    let wanted = || decoded.partitions.iter().zip(&may).filter(|(_, may)| **may).map(|(own, _)| own);
    if wanted().any(|own| own.entries.is_none()) {
        return Ok(None);
    }
    let mut looked = Looked { left: 0, all: decoded.partitions.iter().map(|own| own.files).sum() };
    for partition in wanted() {
        looked.left += partition.files;
        each_of(shape, partition.entries.as_deref().unwrap_or_default(), each)?;
    }
    Ok(Some(looked))
}

fn each_of(shape: &EntryShape, entries: &[u8], each: &mut Each<'_>) -> Told<()> {
    let mut cursor = Cursor::new(entries);
    while !cursor.is_at_end() {
        if let Some(entry) = shape.read(&mut cursor)? {
            each(&entry)?;
        }
    }
    Ok(())
}

/// Few bytes as a number that no others give.
fn small(values: &[u8]) -> Option<u64> {
    if values.len() > 7 {
        return None;
    }
    Some(values.iter().fold(1, |all, byte| all << 8 | u64::from(*byte)))
}

/// A partition while its manifest is read.
struct Gathering {
    values: Box<[u8]>,
    files: u64,
    may: bool,
    entries: Option<Vec<u8>>,
}

/// A manifest that is read.
struct Reading<'r> {
    shape: &'r EntryShape,
    /// Partitions whose entries were kept before, and are again.
    before: HashSet<&'r [u8]>,
    places: HashMap<Box<[u8]>, usize>,
    /// Those of few bytes.
    small: HashMap<u64, usize>,
    gathered: Vec<Gathering>,
    /// The last entry's partition, and its place.
    last: (Option<u64>, usize),
    held: usize,
    room: Vec<Box<dyn std::any::Any + Send + Sync>>,
    /// As long as it is small, everything is kept.
    keeps_all: bool,
    /// It became too large to be kept: entries go on as they come.
    passes_on: bool,
}

impl Reading<'_> {
    fn place(&mut self, values: &[u8], verdicts: &Verdicts, decide: &mut Decide<'_>) -> Told<usize> {
        // Most partitions are a number or two.
        let small = small(values);
        if small.is_some() && small == self.last.0 {
            return Ok(self.last.1);
        }
        let known = match small {
            Some(small) => self.small.get(&small),
            None => self.places.get(values),
        };
        let place = match known {
            Some(place) => *place,
            None => {
                let may = verdicts.of(self.shape, &[values], decide)?[0];
                let keeps = may || self.keeps_all || self.before.contains(values);
                self.gathered.push(Gathering { values: values.into(), files: 0, may, entries: keeps.then(Vec::new) });
                let place = self.gathered.len() - 1;
                match small {
                    Some(small) => drop(self.small.insert(small, place)),
                    None => drop(self.places.insert(values.into(), place)),
                }
                place
            }
        };
        self.last = (small, place);
        Ok(place)
    }

    /// Passes on what was kept of wanted partitions, and keeps no more.
    fn give_up_keeping(&mut self, each: &mut Each<'_>) -> Told<()> {
        self.passes_on = true;
        for own in &mut self.gathered {
            let entries = own.entries.take().unwrap_or_default();
            if own.may {
                each_of(self.shape, &entries, each)?;
            }
        }
        self.room.clear();
        Ok(())
    }
}

/// Reads a manifest, goes through its entries, and keeps what is known of it now.
///
/// # Errors
/// Of the storage, or, as what is wrong, of the file.
pub fn read(
    input: impl BufRead,
    memory: &Arc<dyn ScanMemory>,
    (manifests, path, bytes): (&Manifests, &Path, u64),
    verdicts: &Verdicts,
    (decide, each): (&mut Decide<'_>, &mut Each<'_>),
) -> io::Result<Told<Looked>> {
    let (mut blocks, shape) =
        match opened(input, memory)?.and_then(|(blocks, node)| Ok((blocks, EntryShape::new(&node)?))) {
            Ok(opened) => opened,
            Err(what) => return Ok(Err(what)),
        };
    let before = manifests.decoded(path, bytes).filter(|before| before.shape.as_ref() == &shape);
    let shape = before.as_ref().map_or_else(|| Arc::new(shape), |before| before.shape.clone());
    let mut reading = Reading {
        shape: &shape,
        before: before.iter().flat_map(|before| before.kept()).collect(),
        places: HashMap::new(),
        small: HashMap::new(),
        gathered: Vec::new(),
        last: (None, 0),
        held: 0,
        room: Vec::new(),
        keeps_all: true,
        passes_on: false,
    };
    let gathered = gathered(&mut blocks, memory, &mut reading, verdicts, (decide, each))?;
    if let Err(what) = gathered {
        return Ok(Err(what));
    }
    let Reading { gathered, passes_on, keeps_all, .. } = reading;
    let mut looked = Looked::default();
    for own in &gathered {
        looked.all += own.files;
        looked.left += if own.may { own.files } else { 0 };
    }
    let partitions = gathered.into_iter().map(|own| {
        let is_kept = own.may || keeps_all || own.entries.as_ref().is_some_and(|own| !own.is_empty());
        let entries = own.entries.filter(|_| is_kept && !passes_on).map(Arc::from);
        (Partition { values: own.values, files: own.files, entries }, own.may)
    });
    let (partitions, may): (Vec<Partition>, Vec<bool>) = partitions.unzip();
    if !passes_on {
        let mut all = || -> Told<()> {
            let wanted = partitions.iter().zip(&may).filter(|(_, may)| **may);
            wanted
                .into_iter()
                .try_for_each(|(own, _)| each_of(&shape, own.entries.as_deref().unwrap_or_default(), each))
        };
        if let Err(what) = all() {
            return Ok(Err(what));
        }
        manifests.keep(path, bytes, Arc::new(Decoded { shape: shape.clone(), partitions }));
    }
    Ok(Ok(looked))
}

fn gathered<R: BufRead>(
    blocks: &mut AvroBlocks<R>,
    memory: &Arc<dyn ScanMemory>,
    reading: &mut Reading<'_>,
    verdicts: &Verdicts,
    (decide, each): (&mut Decide<'_>, &mut Each<'_>),
) -> io::Result<Told<()>> {
    let shape = reading.shape;
    let mut taken = 0;
    while let Some(block) = blocks.next_block()? {
        let mut all = |reading: &mut Reading<'_>| -> Told<()> {
            let mut cursor = Cursor::new(&block.bytes);
            for _ in 0..block.rows {
                let begin = cursor;
                let Some((values, whole)) = shape.glance(&mut cursor)? else { continue };
                let place = reading.place(values, verdicts, decide)?;
                let own = &mut reading.gathered[place];
                own.files += 1;
                if reading.passes_on {
                    if own.may
                        && let Some(entry) = shape.read(&mut begin.clone())?
                    {
                        each(&entry)?;
                    }
                } else if let Some(entries) = &mut own.entries {
                    entries.extend_from_slice(whole);
                    reading.held += whole.len();
                }
            }
            match cursor.is_at_end() {
                true => Ok(()),
                false => Err("a block has more bytes than its rows".into()),
            }
        };
        if let Err(what) = all(reading) {
            return Ok(Err(what));
        }
        if reading.keeps_all && reading.held > SMALL {
            reading.keeps_all = false;
            for own in &mut reading.gathered {
                if !own.may && !reading.before.contains(own.values.as_ref()) {
                    reading.held -= own.entries.take().map_or(0, |own| own.len());
                }
            }
        }
        if !reading.passes_on
            && reading.held > MOST
            && let Err(what) = reading.give_up_keeping(each)
        {
            return Ok(Err(what));
        }
        while !reading.passes_on && taken < reading.held {
            match memory.take(STEP as u64) {
                Ok(room) => {
                    reading.room.push(room);
                    taken += STEP;
                }
                // What cannot be kept is read again by the next question.
                Err(_) => {
                    if let Err(what) = reading.give_up_keeping(each) {
                        return Ok(Err(what));
                    }
                }
            }
        }
    }
    Ok(Ok(()))
}
