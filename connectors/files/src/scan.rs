//! Running a scan of files: the parts left after pruning are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions};
use arrow::compute::{and, filter_record_batch};
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::offer::{
    BatchPredicate, GateCounters, GateScan, KeptReason, PartCount, PortionReader, Portions, Request, ScanTools, Verdict,
};
use cobble_types::{ColumnId, Result};

use cobble_format::prune::{self, Range, Ranges};
use cobble_format::{FileBatches, FileCondition, PageCondition, PartReading, Shape};

use super::FileSet;

/// A file, or a part of one.
#[derive(Debug, Clone, Copy)]
pub struct Part {
    pub file: usize,
    /// The number of the part in a file with a footer.
    pub within: Option<usize>,
}

#[derive(Debug, Clone)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

#[derive(Debug)]
pub struct FileScan {
    pub set: Arc<FileSet>,
    pub shape: Arc<Shape>,
    /// Places in the table of the columns that come out, in order.
    pub output: Vec<usize>,
    pub parts: Vec<Part>,
    pub files_read: u64,
    pub conditions: Vec<RowCondition>,
    pub limit: Option<u64>,
}

impl FileScan {
    /// What is known of a column in one part.
    fn range_of(&self, part: Part, place: usize, id: ColumnId) -> Ranges {
        let set = &self.set;
        let known = if set.columns[place].partition {
            let first = set.columns.iter().position(|c| c.partition).unwrap_or(0);
            set.files[part.file].partition.get(place - first).cloned().map(Range::single)
        } else {
            let group = part.within.zip(set.footers.get(part.file));
            group.and_then(|(group, footer)| footer.ranges(&set.columns[place]).get(group).cloned())
        };
        known.map(|range| (id, range)).into_iter().collect()
    }

    fn page_condition(&self, condition: Expr, id: ColumnId, place: usize) -> Option<PageCondition> {
        let column = &self.set.columns[place];
        (self.set.format.parts().is_some() && !column.partition).then(|| PageCondition {
            condition,
            id,
            column: column.clone(),
        })
    }

    /// Places in the table of all columns that are read, for output or for a condition.
    fn places_read(&self) -> Vec<usize> {
        let mut places: Vec<usize> = self
            .output
            .iter()
            .copied()
            .chain(self.conditions.iter().flat_map(|c| c.columns.iter().map(|(_, p)| *p)))
            .collect();
        places.sort_unstable();
        places.dedup();
        places
    }
}

#[async_trait]
impl GateScan for FileScan {
    fn request(&self) -> Request {
        let set = &self.set;
        let address = set.source.storage.address();
        let what = match set.files.as_slice() {
            [one] => one.stored.path.display().to_string(),
            _ => format!("{} file{} below {address}", self.files_read, if self.files_read == 1 { "" } else { "s" }),
        };
        let in_files = self.places_read().into_iter().filter(|p| !set.columns[*p].partition);
        let names: Vec<String> = in_files.map(|place| self.shape.name(place)).collect();
        let columns = set.format.reading(&names);
        Request { text: format!("read {what}{columns}"), parameters: vec![] }
    }

    fn columns_read(&self) -> Vec<String> {
        self.places_read().into_iter().map(|place| self.shape.name(place)).collect()
    }

    fn parts(&self) -> Vec<PartCount> {
        let set = &self.set;
        let mut counts =
            vec![PartCount { parts: "files".into(), read: self.files_read, total: set.files.len() as u64 }];
        if let Some(name) = set.format.parts() {
            let total = set.footers.iter().map(|footer| footer.parts() as u64).sum();
            counts.push(PartCount { parts: name.into(), read: self.parts.len() as u64, total });
        }
        counts
    }

    fn most_rows(&self) -> Option<f64> {
        let set = &self.set;
        set.format.parts()?;
        let of = |part: &Part| part.within.map_or(0, |within| set.footers[part.file].rows(within));
        Some(self.parts.iter().map(|part| of(part) as f64).sum())
    }

    fn all_rows_come_out(&self) -> bool {
        self.conditions.is_empty() && self.limit.is_none()
    }

    fn estimated_bytes(&self) -> Option<f64> {
        let set = &self.set;
        let places = self.places_read();
        Some(
            self.parts
                .iter()
                .map(|part| match part.within {
                    None => set.files[part.file].stored.bytes as f64,
                    Some(within) => set.footers[part.file].bytes(within, &self.shape, &set.layouts[part.file], &places),
                })
                .sum(),
        )
    }

    fn key_pass(&self, place: usize, _: f64) -> Verdict {
        let set = &self.set;
        if set.columns[self.output[place]].partition {
            return Verdict::Prunes { note: Some("files by the folders' names".into()) };
        }
        if set.format.parts().is_none() {
            let note = format!("{} keeps nothing to skip rows by", set.format.words());
            return Verdict::kept(KeptReason::NoSuchAbility, note);
        }
        Verdict::Prunes { note: Some("row groups by min and max, then rows while decoding".into()) }
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let mut conditions = Vec::new();
        let mut parts = self.parts.clone();
        for row in &self.conditions {
            let first_folder = self.set.columns.iter().position(|c| c.partition).unwrap_or(usize::MAX);
            let columns: Vec<Column> = row.columns.iter().map(|(c, _)| c.clone()).collect();
            let predicate = tools.compiler.compile(&row.condition, &columns)?;
            let places: Vec<usize> = row.columns.iter().map(|(_, p)| *p).collect();
            let pages = match row.columns.as_slice() {
                [(column, place)] if prune::uses_ranges(&row.condition) => {
                    self.page_condition(row.condition.clone(), column.id, *place)
                }
                _ => None,
            };
            let in_file = places.iter().all(|p| *p < first_folder);
            conditions.push(OpenCondition { predicate, in_file, places, pages });
        }
        for keys in &tools.keys {
            let place = self.output[keys.pass.place];
            let partition = self.set.columns[place].partition;
            let before = parts.len();
            let known = keys.condition();
            if let Some((condition, _)) = &known {
                parts.retain(|part| prune::may_match(condition, &self.range_of(*part, place, keys.pass.column.id)));
            }
            let form = match known {
                Some((_, form)) if partition || form == "none" => form.to_owned(),
                Some((_, form)) => format!("{form} for row groups and a filter for rows"),
                None => "a filter for rows".to_owned(),
            };
            tools.counters.used(keys, &form, (before - parts.len()) as u64);
            if !partition {
                let (predicate, id) = (keys.test.clone(), keys.pass.column.id);
                let pages = keys.condition().and_then(|(condition, _)| self.page_condition(condition, id, place));
                conditions.push(OpenCondition { predicate, in_file: true, places: vec![place], pages });
            }
        }
        let fields: Vec<Field> = self
            .output
            .iter()
            .map(|place| Field::new(place.to_string(), self.shape.types[*place].to_arrow(), true))
            .collect();
        Ok(Arc::new(FilePortions {
            set: self.set.clone(),
            output: self.output.clone(),
            shape: self.shape.clone(),
            parts,
            next: AtomicUsize::new(0),
            conditions: Arc::new(conditions),
            limit: self.limit,
            tools: tools.clone(),
            schema: Arc::new(Schema::new(fields)),
        }))
    }
}

struct OpenCondition {
    predicate: Arc<dyn BatchPredicate>,
    places: Vec<usize>,
    /// All its columns stand in the file; otherwise it is checked once folder values have been added.
    in_file: bool,
    pages: Option<PageCondition>,
}

struct FilePortions {
    set: Arc<FileSet>,
    shape: Arc<Shape>,
    output: Vec<usize>,
    parts: Vec<Part>,
    next: AtomicUsize,
    conditions: Arc<Vec<OpenCondition>>,
    limit: Option<u64>,
    tools: ScanTools,
    schema: SchemaRef,
}

#[async_trait]
impl Portions for FilePortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(part) = self.parts.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        GateCounters::add(&self.tools.counters.requests, 1);
        let set = &self.set;
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
        let open = set.source.open(&file.stored, &self.tools.cancel, &self.tools.counters.bytes)?;
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
                let reading = PartReading { shape: &shape, layout, conditions: &conditions, batch_rows, counters };
                set.footers[part.file].read(&open, within, &reading)?
            }
        };
        Ok(Some(Box::new(FileReader {
            set: self.set.clone(),
            shape,
            output: self.output.clone(),
            file: part.file,
            batches,
            conditions: self.conditions.clone(),
            in_file,
            left: self.limit,
            schema: self.schema.clone(),
        })))
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
    set: Arc<FileSet>,
    shape: Arc<Shape>,
    output: Vec<usize>,
    file: usize,
    batches: Box<dyn FileBatches>,
    conditions: Arc<Vec<OpenCondition>>,
    /// Of each condition whether the file's own batches satisfy it already.
    in_file: Vec<bool>,
    left: Option<u64>,
    schema: SchemaRef,
}

impl FileReader {
    /// The column at a place of the table: from the file, or the folder's value for every row.
    fn column(&self, place: usize, columns: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
        let set = &self.set;
        if set.columns[place].partition {
            let first = set.columns.iter().position(|c| c.partition).unwrap_or(0);
            let one = set.files[self.file].partition[place - first].to_array(&set.columns[place].sql_type);
            let places = arrow::array::UInt32Array::from(vec![0; rows]);
            return Ok(arrow::compute::take(one.as_ref(), &places, None)?);
        }
        let at = self.shape.wanted.partition_point(|p| *p < place);
        Ok(columns[at].clone())
    }

    fn batch(&self, schema: &SchemaRef, places: &[usize], columns: &[ArrayRef], rows: usize) -> Result<RecordBatch> {
        let arrays = places.iter().map(|p| self.column(*p, columns, rows)).collect::<Result<Vec<_>>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        Ok(RecordBatch::try_new_with_options(schema.clone(), arrays, &options)?)
    }
}

#[async_trait]
impl PortionReader for FileReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.left == Some(0) {
            return Ok(None);
        }
        let Some((columns, rows)) = self.batches.next()? else { return Ok(None) };
        let mut batch = self.batch(&self.schema, &self.output, &columns, rows)?;
        let mut mask: Option<BooleanArray> = None;
        for (condition, _) in self.conditions.iter().zip(&self.in_file).filter(|(_, in_file)| !**in_file) {
            let fields: Vec<Field> = condition
                .places
                .iter()
                .map(|p| Field::new(p.to_string(), self.shape.types[*p].to_arrow(), true))
                .collect();
            let input = self.batch(&Arc::new(Schema::new(fields)), &condition.places, &columns, rows)?;
            let next = condition.predicate.evaluate(&input)?;
            mask = Some(match mask {
                Some(before) => and(&before, &next)?,
                None => next,
            });
        }
        if let Some(mask) = mask {
            batch = filter_record_batch(&batch, &mask)?;
        }
        if let Some(left) = &mut self.left {
            let taken = (*left).min(batch.num_rows() as u64);
            *left -= taken;
            batch = batch.slice(0, taken as usize);
        }
        Ok(Some(batch))
    }
}
