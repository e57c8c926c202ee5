//! Lists of manifests (table specification, "Manifest Lists"): what a snapshot says of its manifests before one of them is read.

use std::io::{self, BufRead};
use std::sync::Arc;

use cobble_plan::scan::ScanMemory;
use serde::{Deserialize, Serialize};

use crate::manifest::{count, is, opened, optional_bytes, optional_number, parts, text};
use crate::rows::{Cursor, Node};
use crate::schema::Told;

/// A manifest, as the list of its snapshot names it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Manifest {
    pub path: String,
    /// Bytes.
    pub length: u64,
    pub spec: i32,
    /// Whether its files tell which rows are gone.
    pub of_deletes: bool,
    pub sequence: i64,
    pub added_by: i64,
    /// The least number of a change that one of its files has.
    pub least_sequence: i64,
    /// Files that its snapshot has added, that were there before, and that are gone since; none where that is not told.
    pub files_added: Option<u64>,
    pub files_kept: Option<u64>,
    pub files_gone: Option<u64>,
    pub rows_added: Option<u64>,
    pub rows_kept: Option<u64>,
    pub rows_gone: Option<u64>,
    /// One for each field of its partitioning; none where nothing is told.
    pub partitions: Option<Vec<Summary>>,
}

impl Manifest {
    /// Files that are there.
    pub fn files(&self) -> Option<u64> {
        self.files_added?.checked_add(self.files_kept?)
    }

    /// Rows of the files that are there.
    pub fn rows(&self) -> Option<u64> {
        self.rows_added?.checked_add(self.rows_kept?)
    }
}

/// What is known of one partition field in all files of a manifest.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Summary {
    pub has_null: bool,
    /// None where that is not told.
    pub has_nan: Option<bool>,
    pub lower: Option<Vec<u8>>,
    pub upper: Option<Vec<u8>>,
}

/// The manifests of a snapshot, from the file that lists them.
///
/// # Errors
/// Of the storage, or, as what is wrong, of the file.
pub fn list(input: impl BufRead, memory: &Arc<dyn ScanMemory>) -> io::Result<Told<Vec<Manifest>>> {
    let (mut blocks, node) = match opened(input, memory)? {
        Ok(opened) => opened,
        Err(what) => return Ok(Err(what)),
    };
    let mut all = Vec::new();
    while let Some(block) = blocks.next_block()? {
        let mut cursor = Cursor::new(&block.bytes);
        for _ in 0..block.rows {
            match listed(&mut cursor, &node) {
                Ok(manifest) => all.push(manifest),
                Err(what) => return Ok(Err(what)),
            }
        }
    }
    Ok(Ok(all))
}

fn listed(cursor: &mut Cursor<'_>, node: &Node) -> Told<Manifest> {
    let (mut path, mut length, mut partitions) = (None, None, None);
    let mut numbers = [None; 11];
    for part in parts(node)? {
        let place = [
            (502, "partition_spec_id"),
            (517, "content"),
            (515, "sequence_number"),
            (503, "added_snapshot_id"),
            (504, "added_files_count"),
            (505, "existing_files_count"),
            (512, "added_rows_count"),
            (513, "existing_rows_count"),
            (506, "deleted_files_count"),
            (514, "deleted_rows_count"),
            (516, "min_sequence_number"),
        ]
        .iter()
        .position(|(id, name)| is(part, *id, name));
        match place {
            Some(place) => numbers[place] = optional_number(cursor, &part.node)?,
            None if is(part, 500, "manifest_path") => path = optional_bytes(cursor, &part.node)?,
            None if is(part, 501, "manifest_length") => length = optional_number(cursor, &part.node)?,
            None if is(part, 507, "partitions") => partitions = summaries(cursor, &part.node)?,
            // Version 1 calls the counts otherwise.
            None if part.name.ends_with("_data_files_count") && part.name.starts_with("added") => {
                numbers[4] = optional_number(cursor, &part.node)?;
            }
            None if part.name.ends_with("_data_files_count") && part.name.starts_with("existing") => {
                numbers[5] = optional_number(cursor, &part.node)?;
            }
            None if part.name.ends_with("_data_files_count") && part.name.starts_with("deleted") => {
                numbers[8] = optional_number(cursor, &part.node)?;
            }
            None => drop(cursor.skip(&part.node)?),
        }
    }
    let [spec, content, sequence, added_by, added, existing, added_rows, existing_rows, gone, gone_rows, least] =
        numbers;
    let number = |own: Option<i64>| own.and_then(|own| u64::try_from(own).ok());
    Ok(Manifest {
        path: text(path.ok_or("a manifest has no path")?)?.to_owned(),
        length: count(length, "manifest_length")?,
        spec: spec.and_then(|id| i32::try_from(id).ok()).unwrap_or(0),
        of_deletes: content == Some(1),
        sequence: sequence.unwrap_or(0),
        added_by: added_by.unwrap_or(0),
        least_sequence: least.unwrap_or(0),
        files_added: number(added),
        files_kept: number(existing),
        files_gone: number(gone),
        rows_added: number(added_rows),
        rows_kept: number(existing_rows),
        rows_gone: number(gone_rows),
        partitions,
    })
}

fn summaries(cursor: &mut Cursor<'_>, node: &Node) -> Told<Option<Vec<Summary>>> {
    let Some(branch) = cursor.branch(node)? else { return Ok(None) };
    let Node::Array(item) = branch else { return Err("its partitions are no array".into()) };
    let mut all = Vec::new();
    cursor.items(item, |cursor| {
        let mut summary = Summary::default();
        for part in parts(item)? {
            if is(part, 509, "contains_null") {
                summary.has_null = cursor.skip(&part.node)? == [1];
            } else if is(part, 518, "contains_nan") {
                let branch = cursor.branch(&part.node)?;
                summary.has_nan = branch.map(|branch| Ok::<_, String>(cursor.skip(branch)? == [1])).transpose()?;
            } else if is(part, 510, "lower_bound") {
                summary.lower = optional_bytes(cursor, &part.node)?.map(<[u8]>::to_vec);
            } else if is(part, 511, "upper_bound") {
                summary.upper = optional_bytes(cursor, &part.node)?.map(<[u8]>::to_vec);
            } else {
                cursor.skip(&part.node)?;
            }
        }
        all.push(summary);
        Ok(())
    })?;
    Ok(Some(all))
}
