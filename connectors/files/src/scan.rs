//! Running a scan of files: the parts left after pruning are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, RecordBatch};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{BatchPredicate, GateCounters, GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_types::{ColumnId, Result, SqlType};
use serde::{Deserialize, Serialize};

use cobble_format::prune::{self, Range, Ranges};
use cobble_format::{
    Dialect, FileBatches, FileCondition, Footer, Format, Layout, PageCondition, PartReading, RowsOut, Shape,
};
use cobble_format::{repeated, schema_of};

use super::listing::DataFile;
use super::{FilesSource, on_disk};

/// A file, or a part of one.
#[derive(Debug, Clone, Copy)]
pub struct Part {
    pub file: usize,
    /// The number of the part in a file with a footer.
    pub within: Option<usize>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

/// The form of [`Work`] and [`Portion`].
pub const FORM: u16 = 1;

/// What is read of a table of files, whichever they are.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    pub format: String,
    /// The table's columns; those of folders stand behind those of files.
    pub columns: Vec<TableColumn>,
    /// As in [`Shape::types`].
    pub types: Vec<SqlType>,
    pub is_defined: bool,
    pub dialect: Dialect,
    /// Places in the table of the columns that come out, in order.
    pub output: Vec<usize>,
    pub conditions: Vec<RowCondition>,
    pub limit: Option<u64>,
}

/// A file or a part of one, which can be read apart.
#[derive(Debug, Serialize, Deserialize)]
pub struct Portion {
    pub file: DataFile,
    /// As in [`Part::within`].
    pub within: Option<usize>,
}

impl Work {
    pub fn shape(&self) -> Shape {
        let mut wanted: Vec<usize> = self.output.iter().copied().filter(|p| !self.columns[*p].partition).collect();
        wanted.sort_unstable();
        wanted.dedup();
        Shape {
            columns: self.columns.clone(),
            types: self.types.clone(),
            wanted,
            is_defined: self.is_defined,
            dialect: self.dialect.clone(),
        }
    }

    /// Places in the table of all columns that are read, for output or for a condition.
    pub fn places_read(&self) -> Vec<usize> {
        let of_conditions = self.conditions.iter().flat_map(|c| c.columns.iter().map(|(_, p)| *p));
        let mut places: Vec<usize> = self.output.iter().copied().chain(of_conditions).collect();
        places.sort_unstable();
        places.dedup();
        places
    }

    /// The place of the first column that folders give.
    fn first_folder(&self) -> usize {
        self.columns.iter().position(|c| c.partition).unwrap_or(self.columns.len())
    }
}

#[derive(Debug)]
struct FileScan {
    source: Arc<FilesSource>,
    format: Format,
    work: Arc<Work>,
    files: Arc<Vec<DataFile>>,
    parts: Vec<Part>,
}

/// The scan of work that was agreed for files of this source.
pub fn scan(source: &Arc<FilesSource>, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    let work: Work = spec.unpack(FORM)?;
    let (mut files, mut parts): (Vec<DataFile>, Vec<Part>) = (Vec::new(), Vec::new());
    for Portion { file, within } in spec.unpack_portions()? {
        if files.last() != Some(&file) {
            files.push(file);
        }
        parts.push(Part { file: files.len() - 1, within });
    }
    let (source, format) = (source.clone(), cobble_format::named(&work.format)?);
    Ok(Arc::new(FileScan { source, format, work: Arc::new(work), files: Arc::new(files), parts }))
}

/// What all readers of a scan share.
struct Shared {
    source: Arc<FilesSource>,
    format: Format,
    work: Arc<Work>,
    files: Arc<Vec<DataFile>>,
    /// One per file, of a format that has them.
    footers: Vec<Arc<dyn Footer>>,
    /// Where the columns stand in each file with a footer.
    layouts: Vec<Layout>,
}

impl Shared {
    /// What is known of a column in one part.
    fn range_of(&self, part: Part, place: usize, id: ColumnId) -> Ranges {
        let column = &self.work.columns[place];
        let known = if column.partition {
            let values = &self.files[part.file].partition;
            values.get(place - self.work.first_folder()).cloned().map(Range::single)
        } else {
            let group = part.within.zip(self.footers.get(part.file));
            group.and_then(|(group, footer)| footer.ranges(column).get(group).cloned())
        };
        known.map(|range| (id, range)).into_iter().collect()
    }

    fn page_condition(&self, condition: Expr, id: ColumnId, place: usize) -> Option<PageCondition> {
        let column = &self.work.columns[place];
        (self.format.parts().is_some() && !column.partition).then(|| PageCondition {
            condition,
            id,
            column: column.clone(),
        })
    }
}

#[async_trait]
impl GateScan for FileScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let work = &self.work;
        let footers = match self.format.parts() {
            Some(_) => footers(&self.source, self.format, &self.files).await?,
            None => vec![],
        };
        let layouts = footers.iter().map(|footer| footer.layout(&work.columns)).collect();
        let shared = Arc::new(Shared {
            source: self.source.clone(),
            format: self.format,
            work: work.clone(),
            files: self.files.clone(),
            footers,
            layouts,
        });
        let shape = work.shape();
        let mut conditions = Vec::new();
        let mut parts = self.parts.clone();
        for row in &work.conditions {
            let first_folder = work.first_folder();
            let columns: Vec<Column> = row.columns.iter().map(|(c, _)| c.clone()).collect();
            let predicate = tools.compiler.compile(&row.condition, &columns)?;
            let places: Vec<usize> = row.columns.iter().map(|(_, p)| *p).collect();
            let pages = match row.columns.as_slice() {
                [(column, place)] if prune::uses_ranges(&row.condition) => {
                    shared.page_condition(row.condition.clone(), column.id, *place)
                }
                _ => None,
            };
            let in_file = places.iter().all(|p| *p < first_folder);
            conditions.push(OpenCondition { predicate, in_file, places, pages });
        }
        for keys in &tools.keys {
            let place = work.output[keys.pass.place];
            let partition = work.columns[place].partition;
            let before = parts.len();
            let known = keys.condition();
            if let Some((condition, _)) = &known {
                parts.retain(|part| prune::may_match(condition, &shared.range_of(*part, place, keys.pass.column.id)));
            }
            let form = match known {
                Some((_, form)) if partition || form == "none" => form.to_owned(),
                Some((_, form)) => format!("{form} for row groups and a filter for rows"),
                None => "a filter for rows".to_owned(),
            };
            tools.counters.used(keys, &form, (before - parts.len()) as u64);
            if !partition {
                let (predicate, id) = (keys.test.clone(), keys.pass.column.id);
                let pages = keys.condition().and_then(|(condition, _)| shared.page_condition(condition, id, place));
                conditions.push(OpenCondition { predicate, in_file: true, places: vec![place], pages });
            }
        }
        let schema = schema_of(&work.output, |place| shape.types[place].to_arrow());
        Ok(Arc::new(FilePortions {
            shared,
            shape: Arc::new(shape),
            parts,
            next: AtomicUsize::new(0),
            conditions: Arc::new(conditions),
            tools: tools.clone(),
            schema,
        }))
    }
}

/// The footers of these files: those that planning has read in this process are known, others are read where that may take time.
pub async fn footers(source: &Arc<FilesSource>, format: Format, files: &[DataFile]) -> Result<Vec<Arc<dyn Footer>>> {
    if let Some(known) = source.known_footers(files) {
        return Ok(known);
    }
    let (source, files) = (source.clone(), files.to_vec());
    on_disk(move || source.footers(format, &files)).await
}

struct OpenCondition {
    predicate: Arc<dyn BatchPredicate>,
    places: Vec<usize>,
    /// All its columns stand in the file; otherwise it is checked once folder values have been added.
    in_file: bool,
    pages: Option<PageCondition>,
}

struct FilePortions {
    shared: Arc<Shared>,
    shape: Arc<Shape>,
    parts: Vec<Part>,
    next: AtomicUsize,
    conditions: Arc<Vec<OpenCondition>>,
    tools: ScanTools,
    schema: SchemaRef,
}

#[async_trait]
impl Portions for FilePortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(part) = self.parts.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        GateCounters::add(&self.tools.counters.requests, 1);
        let set = &self.shared;
        let file = &set.files[part.file];
        // Conditions that mix file and folder columns need both; they are checked after the file's own.
        // So is one of a file with a footer on columns that the file lacks.
        let lacks = |c: &OpenCondition| {
            let layout = set.layouts.get(part.file);
            layout.is_some_and(|layout| c.places.iter().any(|place| layout.root(*place).is_none()))
        };
        let in_file: Vec<bool> = self.conditions.iter().map(|c| c.in_file && !lacks(c)).collect();
        let mixed = in_file.contains(&false);
        let shape = if mixed {
            Arc::new(with_condition_columns(&self.shape, &self.conditions, &in_file))
        } else {
            self.shape.clone()
        };
        let ScanTools { cancel, counters, memory, .. } = &self.tools;
        let open = set.source.open(&file.stored, cancel, &counters.bytes, memory.clone())?;
        let batch_rows = self.tools.batch_rows;
        let batches: Box<dyn FileBatches> = match part.within {
            None => set.format.read(&open, &shape, batch_rows)?,
            Some(within) => {
                let own = self.conditions.iter().zip(&in_file).filter(|(_, in_file)| **in_file);
                let own = own.map(|(c, _)| FileCondition {
                    predicate: c.predicate.clone(),
                    columns: c.places.clone(),
                    pages: c.pages.clone(),
                });
                let conditions: Vec<Arc<FileCondition>> = own.map(Arc::new).collect();
                let (layout, counters) = (&set.layouts[part.file], &self.tools.counters);
                let reading = PartReading {
                    shape: &shape,
                    layout,
                    conditions: &conditions,
                    gone: &[],
                    only: &[],
                    batch_rows,
                    counters,
                    adapt: None,
                };
                set.footers[part.file].read(&open, within, &reading)?
            }
        };
        let type_of = |place: usize| shape.types[place].to_arrow();
        let mut out = RowsOut::new(&set.work.output, self.schema.clone(), set.work.limit);
        for (condition, _) in self.conditions.iter().zip(&in_file).filter(|(_, in_file)| !**in_file) {
            out.check(condition.predicate.clone(), &condition.places, type_of);
        }
        Ok(Some(Box::new(FileReader { shared: self.shared.clone(), shape, file: part.file, batches, out })))
    }
}

fn with_condition_columns(shape: &Shape, conditions: &[OpenCondition], in_file: &[bool]) -> Shape {
    let mut wanted = shape.wanted.clone();
    let needed = conditions.iter().zip(in_file).filter(|(_, in_file)| !**in_file).flat_map(|(c, _)| &c.places);
    wanted.extend(needed.filter(|p| !shape.columns[**p].partition));
    wanted.sort_unstable();
    wanted.dedup();
    Shape { wanted, ..shape.clone() }
}

struct FileReader {
    shared: Arc<Shared>,
    shape: Arc<Shape>,
    file: usize,
    batches: Box<dyn FileBatches>,
    out: RowsOut,
}

/// The column at a place of the table: from the file, or the folder's value for every row.
fn column(
    shared: &Shared,
    shape: &Shape,
    file: usize,
    place: usize,
    own: &[ArrayRef],
    rows: usize,
) -> Result<ArrayRef> {
    let work = &shared.work;
    if work.columns[place].partition {
        let value = &shared.files[file].partition[place - work.first_folder()];
        return repeated(value, &work.columns[place].sql_type, rows);
    }
    let at = shape.wanted.partition_point(|p| *p < place);
    Ok(own[at].clone())
}

#[async_trait]
impl PortionReader for FileReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.out.is_full() {
            return Ok(None);
        }
        let Some((columns, rows)) = self.batches.next()? else { return Ok(None) };
        let (shared, shape, file) = (&self.shared, &self.shape, self.file);
        self.out.batch(rows, &|place| column(shared, shape, file, place, &columns, rows)).map(Some)
    }
}
