//! Rows that are gone: files that tell them by their places or by their values, and the files of rows that these speak of (table
//! specification, "Row-level Deletes" and "Scan Planning").

use std::collections::HashMap;

use cobble_storage::StoredFile;
use cobble_types::Value;
use serde::{Deserialize, Serialize};

use crate::manifest::{Content, Entry};
use crate::metadata::Spec;
use crate::schema::{Kind, Told};

/// The ids of the two columns of a file that tells gone rows by their places (table specification, "Reserved Field IDs").
pub const PATH_ID: i32 = 2_147_483_546;
pub const PLACE_ID: i32 = 2_147_483_545;

/// A file that tells which rows are gone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DeleteFile {
    pub stored: StoredFile,
    pub format: String,
    pub rows: u64,
    /// When it was added, as the table counts its changes.
    pub sequence: i64,
}

/// Files that tell gone rows by values of the same columns, of one partition or of the whole table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GoneValues {
    /// The columns' ids.
    pub columns: Vec<i32>,
    pub files: Vec<DeleteFile>,
}

/// All that tells of gone rows in the files that a question leaves.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Gone {
    pub places: Vec<DeleteFile>,
    pub values: Vec<GoneValues>,
}

/// Which of [`Gone`] speak of a file, by their places there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct GoneOf {
    pub places: Vec<usize>,
    pub values: Vec<usize>,
}

/// A partition of a partitioning; none for all of the table.
type Partition = Option<(i32, Vec<u8>)>;

/// The paths that a file with places speaks of: from the least to the greatest, where that is told.
#[derive(Debug)]
struct Paths {
    least: Option<String>,
    greatest: Option<String>,
}

impl Paths {
    fn may_hold(&self, path: &str) -> bool {
        self.least.as_deref().is_none_or(|least| least <= path)
            && self.greatest.as_deref().is_none_or(|greatest| path <= greatest)
    }
}

/// The files of a snapshot that tell of gone rows, as they are found.
#[derive(Debug, Default)]
pub struct Gathered {
    gone: Gone,
    paths: Vec<Paths>,
    /// Places in `gone.places` of files that speak of a single path, and of the others.
    by_path: HashMap<String, Vec<usize>>,
    by_partition: HashMap<Partition, Vec<usize>>,
    /// Places in `gone.values`.
    groups: HashMap<(Partition, Vec<i32>), usize>,
}

impl Gathered {
    /// Takes a file of a manifest. `sequence` is the number of its change.
    pub fn take(&mut self, entry: &Entry<'_>, spec: &Spec, stored: StoredFile, sequence: i64) -> Told<()> {
        let file = DeleteFile { stored, format: entry.format.to_ascii_lowercase(), rows: entry.rows, sequence };
        let own: Partition = Some((spec.id, entry.partition_mark(spec)?));
        match entry.content {
            Content::Rows => return Err("a manifest of deleted rows names a file of rows".into()),
            Content::GonePositions => {
                let known = entry.bounds(PATH_ID, &Kind::String)?;
                let text = |value: Option<Value>| match value {
                    Some(Value::Text(text)) => Some(text),
                    _ => None,
                };
                let paths = Paths { least: text(known.min), greatest: text(known.max) };
                let place = self.gone.places.len();
                match (&paths.least, &paths.greatest) {
                    // A bound that was cut off is not a whole path, and then the other one is another.
                    (Some(least), Some(greatest)) if least == greatest => {
                        self.by_path.entry(least.clone()).or_default().push(place);
                    }
                    _ => self.by_partition.entry(own).or_default().push(place),
                }
                self.gone.places.push(file);
                self.paths.push(paths);
            }
            Content::GoneValues => {
                let mut columns = entry.equality_ids()?;
                columns.sort_unstable();
                columns.dedup();
                if columns.is_empty() {
                    return Err(format!("{} is a file of deleted rows that names no column", entry.path));
                }
                // One without partitions speaks of the whole table.
                let partition = if spec.is_partitioned() { own } else { None };
                let key = (partition, columns.clone());
                let next = self.gone.values.len();
                let place = *self.groups.entry(key).or_insert(next);
                if place == next {
                    self.gone.values.push(GoneValues { columns, files: vec![] });
                }
                self.gone.values[place].files.push(file);
            }
        }
        Ok(())
    }

    /// Whether no file was taken.
    pub fn is_empty(&self) -> bool {
        self.gone.places.is_empty() && self.gone.values.is_empty()
    }

    /// What speaks of a file of rows, added by the change of this number.
    pub fn of(&self, entry: &Entry<'_>, spec: &Spec, sequence: i64) -> Told<GoneOf> {
        if self.is_empty() {
            return Ok(GoneOf::default());
        }
        let own: Partition = Some((spec.id, entry.partition_mark(spec)?));
        let of_partition = self.by_partition.get(&own).into_iter().flatten();
        let of_path = self.by_path.get(entry.path).into_iter().flatten();
        let mut places: Vec<usize> = of_partition
            .chain(of_path)
            .copied()
            .filter(|place| self.gone.places[*place].sequence >= sequence && self.paths[*place].may_hold(entry.path))
            .collect();
        places.sort_unstable();
        let speaks = |(partition, _): &(Partition, Vec<i32>)| partition.is_none() || *partition == own;
        let later = |place: usize| self.gone.values[place].files.iter().any(|file| file.sequence > sequence);
        let groups = self.groups.iter().filter(|(key, place)| speaks(key) && later(**place));
        let mut values: Vec<usize> = groups.map(|(_, place)| *place).collect();
        values.sort_unstable();
        Ok(GoneOf { places, values })
    }

    /// All of them, in their places.
    pub fn all(self) -> Gone {
        self.gone
    }

    /// Those that speak of one of these files, which are told their new places.
    pub fn of_files<'f>(self, files: impl Iterator<Item = &'f mut GoneOf>) -> Gone {
        let mut gone = Gone::default();
        let (mut places, mut values) = (HashMap::new(), HashMap::new());
        for file in files {
            for place in &mut file.places {
                *place = *places.entry(*place).or_insert_with(|| {
                    gone.places.push(self.gone.places[*place].clone());
                    gone.places.len() - 1
                });
            }
            for place in &mut file.values {
                *place = *values.entry(*place).or_insert_with(|| {
                    gone.values.push(self.gone.values[*place].clone());
                    gone.values.len() - 1
                });
            }
        }
        gone
    }
}
