//! Which files of a snapshot a question leaves, manifest by manifest.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use cobble_plan::scan::ScanMemory;
use cobble_storage::StoredFile;
use cobble_types::{Error, Result, Value};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use crate::decoded::{self, Each, Looked, Verdicts};
use crate::deletes::{Gathered, Gone, GoneOf};
use crate::manifest::{Content, Entry, EntryShape};
use crate::manifest_list::Manifest;
use crate::metadata::{Snapshot, Spec};
use crate::prune::{OfPartition, Pruner, Question};
use crate::schema::{Schema, Told};
use crate::table::LakeTable;
use crate::transform::Transform;

/// A file with rows that a snapshot has.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DataFile {
    /// As the table has it.
    pub path: String,
    pub stored: StoredFile,
    pub format: String,
    pub rows: u64,
    /// When its rows were added, as the table counts its changes.
    pub sequence: i64,
    /// Values of columns that it lacks, by the columns' ids: its partition tells them.
    pub constants: Vec<(i32, Value)>,
    /// What tells of rows that are gone.
    pub gone: GoneOf,
    /// The conditions of the question, by their places, that all its rows fulfil.
    pub certain: Vec<usize>,
}

/// The files that may hold wanted rows, and how many of what were looked at.
#[derive(Debug, Default)]
pub struct Left {
    pub files: Vec<DataFile>,
    /// Manifests that were left for later: they may name further files.
    pub later: Vec<Manifest>,
    /// What tells of gone rows in these files, or, where manifests are left for later, in any.
    pub gone: Gone,
    /// Files that tell of gone rows.
    pub deletes: Parts,
    /// By the partitions that the list of manifests tells.
    pub manifests: Parts,
    pub counts: Counts,
}

/// What was looked at in manifests.
#[derive(Debug, Default, Clone, Copy)]
pub struct Counts {
    /// Files by their partitions.
    pub partitioned: Parts,
    /// By the bounds of their columns, of those that the partitions leave.
    pub bounded: Parts,
    /// Bytes of manifests that were read.
    pub bytes: u64,
}

impl Counts {
    pub fn add(&mut self, other: &Counts) {
        self.partitioned.add(other.partitioned);
        self.bounded.add(other.bounded);
        self.bytes += other.bytes;
    }
}

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Parts {
    pub read: u64,
    pub total: u64,
}

/// Manifests that are read at the same time.
const AT_ONCE: usize = 8;

/// What is made of each of these, by several threads; in their order.
fn at_once<T: Sync, M: Send>(all: &[T], make: impl Fn(&T) -> Result<M> + Sync) -> Vec<Result<M>> {
    if all.len() < 2 {
        return all.iter().map(make).collect();
    }
    let next = AtomicUsize::new(0);
    let work = || {
        let mut made = Vec::new();
        while let Some((place, own)) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, all.get(at)?)))
        {
            made.push((place, make(own)));
        }
        made
    };
    let mut made: Vec<(usize, Result<M>)> = std::thread::scope(|scope| {
        let running: Vec<_> = (0..AT_ONCE.min(all.len())).map(|_| scope.spawn(work)).collect();
        let stopped = |_| vec![(usize::MAX, Err(Error::internal("a thread that reads manifests has stopped")))];
        running.into_iter().flat_map(|thread| thread.join().unwrap_or_else(stopped)).collect()
    });
    made.sort_by_key(|(place, _)| *place);
    made.into_iter().map(|(_, own)| own).collect()
}

impl Parts {
    fn add(&mut self, other: Parts) {
        self.read += other.read;
        self.total += other.total;
    }

    fn count(&mut self, is_read: bool) {
        self.total += 1;
        self.read += u64::from(is_read);
    }
}

/// How far a question is answered at once.
#[derive(Debug, Clone, Copy)]
pub struct Budget {
    /// Bytes of manifests that are read, beside those that are known.
    pub manifest_bytes: u64,
    pub files: u64,
}

impl Budget {
    pub const ALL: Budget = Budget { manifest_bytes: u64::MAX, files: u64::MAX };
}

/// What is left of a budget that several threads use.
struct Purse {
    manifest_bytes: AtomicU64,
    files: AtomicU64,
}

impl Purse {
    fn new(budget: Budget) -> Purse {
        Purse { manifest_bytes: AtomicU64::new(budget.manifest_bytes), files: AtomicU64::new(budget.files) }
    }

    /// Takes so much, if it is there.
    fn take(from: &AtomicU64, amount: u64) -> bool {
        from.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(amount)).is_ok()
    }
}

/// A question to a snapshot, with all that is known of it before a manifest of rows is looked at.
#[derive(Debug)]
pub struct Looking {
    table: LakeTable,
    schema: Schema,
    question: Question,
    /// Those of rows that may name a file with wanted ones.
    manifests: Vec<Manifest>,
    verdicts: BTreeMap<i32, Verdicts>,
    gathered: Gathered,
    of_list: Parts,
    /// Files of gone rows that there are, and bytes of their manifests that were read.
    deletes: Parts,
    bytes: u64,
}

/// The run's memory, and what stops it.
type Tools<'t> = (&'t Arc<dyn ScanMemory>, &'t CancellationToken);

impl LakeTable {
    /// Goes through the entries of a manifest whose partitions may hold a wanted row: those that are known, or else those that are read. None
    /// where `may_read` says that this many bytes may not be read.
    fn look_through(
        &self,
        manifest: &Manifest,
        pruner: &Pruner<'_>,
        verdicts: &Verdicts,
        ((memory, cancel), may_read): (Tools<'_>, &dyn Fn(u64) -> bool),
        each: &mut Each<'_>,
    ) -> Result<Option<(Looked, u64)>> {
        let file = self.stored(&manifest.path, manifest.length)?;
        let asks = pruner.asks_partitions();
        let mut decide = |shape: &EntryShape, values: &[u8]| match asks {
            true => pruner.partition_values_may(shape, values),
            false => Ok(true),
        };
        if let Some(own) = self.decoded.decoded(&file.path, manifest.length) {
            let looked = decoded::known(&own, verdicts, &mut decide, each);
            if let Some(looked) = looked.map_err(|what| self.wrong(&file, what))? {
                return Ok(Some((looked, 0)));
            }
        }
        if !may_read(manifest.length) {
            return Ok(None);
        }
        let kept = (self.decoded.as_ref(), file.path.as_path(), manifest.length);
        let read = decoded::read(self.reader(&file, cancel)?, memory, kept, verdicts, (&mut decide, each));
        Ok(Some((self.told(&file, read)?, manifest.length)))
    }

    /// Goes through all entries of manifests.
    pub(crate) fn each_entry(
        &self,
        manifests: &[Manifest],
        schema: &Schema,
        tools: (&Arc<dyn ScanMemory>, &CancellationToken),
        each: &mut Each<'_>,
    ) -> Result<()> {
        let (question, mut verdicts): (Question, BTreeMap<i32, Verdicts>) = Default::default();
        for manifest in manifests {
            let pruner = Pruner::new(&question, self.spec(manifest.spec)?, schema);
            let own = verdicts.entry(manifest.spec).or_default();
            self.look_through(manifest, &pruner, own, (tools, &|_| true), each)?;
        }
        Ok(())
    }

    /// Begins to look for the files of a snapshot that may hold wanted rows: with those that tell of gone ones.
    ///
    /// # Errors
    /// Of the storage, or of metadata that are not as they should be.
    pub fn looking(
        &self,
        snapshot: &Snapshot,
        schema: i32,
        question: &Question,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Looking> {
        let schema = self.metadata.schema(schema).map_err(|what| self.wrong(&self.file, what))?;
        let mut looking = Looking {
            table: self.clone(),
            schema: schema.clone(),
            question: question.clone(),
            manifests: vec![],
            verdicts: self.metadata.specs.iter().map(|spec| (spec.id, Verdicts::default())).collect(),
            gathered: Gathered::default(),
            of_list: Parts::default(),
            deletes: Parts::default(),
            bytes: 0,
        };
        let mut of_deletes = Vec::new();
        for manifest in self.manifests(snapshot, memory, cancel)? {
            let pruner = Pruner::new(question, self.spec(manifest.spec)?, schema);
            let may = manifest.files() != Some(0) && pruner.manifest_may(manifest.partitions.as_deref());
            looking.of_list.count(may);
            match (may, manifest.of_deletes) {
                (true, true) => of_deletes.push(manifest),
                (true, false) => looking.manifests.push(manifest),
                (false, _) => {}
            }
        }
        for manifest in &of_deletes {
            let spec = self.spec(manifest.spec)?;
            let pruner = Pruner::new(question, spec, schema);
            let gathered = &mut looking.gathered;
            let mut each = |entry: &Entry<'_>| {
                let may = match entry.content {
                    // What other columns have beside the values that tell rows decides nothing.
                    Content::GoneValues => pruner.bounds_may(entry, Some(&entry.equality_ids()?))?,
                    // Bounds of a file with places are those of paths.
                    _ => true,
                };
                if may {
                    let stored = self.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?;
                    gathered.take(entry, spec, stored, entry.sequence_in(manifest))?;
                }
                Ok(())
            };
            let own = of_spec(&looking.verdicts, manifest)?;
            if let Some((looked, bytes)) =
                self.look_through(manifest, &pruner, own, ((memory, cancel), &|_| true), &mut each)?
            {
                looking.deletes.total += looked.all;
                looking.bytes += bytes;
            }
        }
        Ok(looking)
    }

    /// The files of a snapshot that may hold wanted rows, with what tells of rows in them that are gone.
    ///
    /// # Errors
    /// Of the storage, or of metadata that are not as they should be.
    pub fn left(
        &self,
        snapshot: &Snapshot,
        schema: i32,
        question: &Question,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Left> {
        self.looking(snapshot, schema, question, memory, cancel)?.left(Budget::ALL, memory, cancel)
    }
}

fn of_spec<'v>(verdicts: &'v BTreeMap<i32, Verdicts>, manifest: &Manifest) -> Result<&'v Verdicts> {
    verdicts.get(&manifest.spec).ok_or_else(|| Error::internal("a partitioning has no verdicts"))
}

impl Looking {
    /// Goes through the files of a manifest that may hold wanted rows.
    ///
    /// # Errors
    /// Of the storage, of the manifest, or what `each` says.
    pub fn each_file(
        &self,
        manifest: &Manifest,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
        each: &mut dyn FnMut(DataFile) -> Told<()>,
    ) -> Result<Counts> {
        let all = self.each_file_within(manifest, ((memory, cancel), &|_| true), each)?;
        all.ok_or_else(|| Error::internal("a manifest was not looked at"))
    }

    fn each_file_within(
        &self,
        manifest: &Manifest,
        tools: (Tools<'_>, &dyn Fn(u64) -> bool),
        each: &mut dyn FnMut(DataFile) -> Told<()>,
    ) -> Result<Option<Counts>> {
        let spec = self.table.spec(manifest.spec)?;
        let pruner = Pruner::new(&self.question, spec, &self.schema);
        let (mut bounded, mut of_partition) = (Parts::default(), OfPartition::default());
        let mut each = |entry: &Entry<'_>| {
            if entry.content != Content::Rows {
                return Err("a manifest of rows names a file of deleted ones".into());
            }
            let certain = pruner.certain(entry, &mut of_partition)?;
            bounded.count(certain.is_some());
            let Some(certain) = certain else { return Ok(()) };
            let sequence = entry.sequence_in(manifest);
            each(DataFile {
                path: entry.path.to_owned(),
                stored: self.table.stored(entry.path, entry.bytes).map_err(|e| e.to_string())?,
                format: entry.format.to_ascii_lowercase(),
                rows: entry.rows,
                sequence,
                constants: constants(entry, spec, &self.schema)?,
                certain,
                gone: self.gathered.of(entry, spec, sequence)?,
            })
        };
        let verdicts = of_spec(&self.verdicts, manifest)?;
        let looked = self.table.look_through(manifest, &pruner, verdicts, tools, &mut each)?;
        Ok(looked.map(|(looked, bytes)| Counts {
            partitioned: Parts { read: looked.left, total: looked.all },
            bounded,
            bytes,
        }))
    }

    /// The files that may hold wanted rows, as far as the budget goes.
    ///
    /// # Errors
    /// Of the storage, or of metadata that are not as they should be.
    pub fn left(self, budget: Budget, memory: &Arc<dyn ScanMemory>, cancel: &CancellationToken) -> Result<Left> {
        let purse = Purse::new(budget);
        let may_read = |bytes| Purse::take(&purse.manifest_bytes, bytes);
        // Each manifest by itself, several at a time: to wait for one is not to wait for all.
        let one = |manifest: &Manifest| {
            // Of a question without conditions all files are left.
            let asks = !self.question.conditions.is_empty();
            if !asks && manifest.files().is_some_and(|all| all > purse.files.load(Ordering::Relaxed)) {
                return Ok(None);
            }
            let (mut files, mut fits) = (Vec::new(), true);
            let mut each = |file| {
                fits = fits && Purse::take(&purse.files, 1);
                if fits {
                    files.push(file);
                }
                Ok(())
            };
            let counts = self.each_file_within(manifest, ((memory, cancel), &may_read), &mut each)?;
            if !fits {
                purse.files.fetch_add(files.len() as u64, Ordering::Relaxed);
            }
            Ok(counts.filter(|_| fits).map(|counts| (files, counts)))
        };
        let mut left = Left { manifests: self.of_list, deletes: self.deletes, ..Left::default() };
        left.counts.bytes = self.bytes;
        for (own, manifest) in at_once(&self.manifests, one).into_iter().zip(&self.manifests) {
            match own? {
                Some((files, counts)) => {
                    left.counts.add(&counts);
                    left.files.extend(files);
                }
                None => left.later.push(manifest.clone()),
            }
        }
        left.gone = match left.later.is_empty() {
            true => self.gathered.of_files(left.files.iter_mut().map(|file| &mut file.gone)),
            // Which of them the further files need is not known yet.
            false => self.gathered.all(),
        };
        left.deletes.read =
            (left.gone.places.len() + left.gone.values.iter().map(|group| group.files.len()).sum::<usize>()) as u64;
        Ok(left)
    }
}

/// Values of columns that partitions are made of as they are.
fn constants(entry: &Entry<'_>, spec: &Spec, schema: &Schema) -> Told<Vec<(i32, Value)>> {
    if spec.fields.iter().all(|field| field.transform != Transform::Identity) {
        return Ok(vec![]);
    }
    let values = entry.partition_values(spec, schema)?;
    let own = spec.fields.iter().zip(values).filter(|(field, _)| field.transform == Transform::Identity);
    Ok(own.map(|(field, value)| (field.source, value)).collect())
}
