//! Running a scan of files: the parts left after pruning are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions};
use arrow::compute::{and, filter_record_batch};
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::part_name;
use cobble_plan::offer::{
    BatchPredicate, GateScan, KeptReason, PartCount, PortionReader, Portions, Request, ScanTools, Verdict,
};
use cobble_types::{ColumnId, Result, SqlType};

use super::FileSet;
use super::arrow_formats::ArrowBatches;
use super::csv_format::CsvBatches;
use super::format::Format;
use super::json_format::JsonBatches;
use super::pages::PageCondition;
use super::parquet_format::{FileCondition, ParquetBatches};
use super::prune::{self, Range, Ranges};

/// What a scan reads.
#[derive(Debug)]
pub struct ScanShape {
    pub set: Arc<FileSet>,
    /// For each column of the table its type, of a column that is read in part with only those fields.
    pub types: Vec<SqlType>,
    /// Places in the table of the columns that come out, in order.
    pub output: Vec<usize>,
    /// Those of them that stand in the files, in file order.
    pub file_columns: Vec<usize>,
}

impl ScanShape {
    /// What is read of the column at a place.
    pub fn name(&self, place: usize) -> String {
        let column = &self.set.columns[place];
        part_name(&column.name, &self.types[place], &column.sql_type)
    }
}

/// A file, or a row group of one.
#[derive(Debug, Clone, Copy)]
pub struct Part {
    pub file: usize,
    pub row_group: Option<usize>,
}

#[derive(Debug, Clone)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

#[derive(Debug)]
pub struct FileScan {
    shape: Arc<ScanShape>,
    parts: Vec<Part>,
    files_read: u64,
    conditions: Vec<RowCondition>,
    limit: Option<u64>,
}

impl FileScan {
    pub fn new(
        shape: Arc<ScanShape>,
        parts: Vec<Part>,
        files_read: u64,
        conditions: Vec<RowCondition>,
        limit: Option<u64>,
    ) -> Self {
        FileScan { shape, parts, files_read, conditions, limit }
    }

    /// What is known of a column in one part.
    fn range_of(&self, part: Part, place: usize, id: ColumnId) -> Ranges {
        let set = &self.shape.set;
        let known = if set.columns[place].partition {
            let first = set.columns.iter().position(|c| c.partition).unwrap_or(0);
            set.files[part.file].partition.get(place - first).cloned().map(Range::single)
        } else {
            let group = part.row_group.zip(set.footers.get(part.file));
            group.and_then(|(group, footer)| footer.ranges(&set.columns[place]).get(group).cloned())
        };
        known.map(|range| (id, range)).into_iter().collect()
    }

    fn page_condition(&self, condition: Expr, id: ColumnId, place: usize) -> Option<PageCondition> {
        let column = &self.shape.set.columns[place];
        (self.shape.set.format == Format::Parquet && !column.partition).then(|| PageCondition {
            condition,
            id,
            column: column.clone(),
        })
    }

    /// Places in the table of all columns that are read, for output or for a condition.
    fn places_read(&self) -> Vec<usize> {
        let mut places: Vec<usize> = self
            .shape
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
        let set = &self.shape.set;
        let address = set.source.storage.address();
        let what = match set.files.as_slice() {
            [one] => one.path.display().to_string(),
            _ => format!("{} file{} below {address}", self.files_read, if self.files_read == 1 { "" } else { "s" }),
        };
        let in_files = self.places_read().into_iter().filter(|p| !set.columns[*p].partition);
        let names: Vec<String> = in_files.map(|place| self.shape.name(place)).collect();
        let columns = match set.format {
            Format::Parquet => {
                format!(", column chunks of {}", if names.is_empty() { "no column".into() } else { names.join(", ") })
            }
            Format::Orc => format!(", columns {}", if names.is_empty() { "none".into() } else { names.join(", ") }),
            Format::Csv | Format::Json | Format::Avro | Format::Arrow => String::new(),
        };
        Request { text: format!("read {what}{columns}"), parameters: vec![] }
    }

    fn columns_read(&self) -> Vec<String> {
        self.places_read().into_iter().map(|place| self.shape.name(place)).collect()
    }

    fn parts(&self) -> Vec<PartCount> {
        let set = &self.shape.set;
        let mut counts =
            vec![PartCount { parts: "files".into(), read: self.files_read, total: set.files.len() as u64 }];
        if set.format == Format::Parquet {
            let total = set.footers.iter().map(|footer| footer.metadata().num_row_groups() as u64).sum();
            counts.push(PartCount { parts: "row groups".into(), read: self.parts.len() as u64, total });
        }
        counts
    }

    fn most_rows(&self) -> Option<f64> {
        let set = &self.shape.set;
        if set.format != Format::Parquet {
            return None;
        }
        let rows = |part: &Part| {
            part.row_group.map_or(0, |group| set.footers[part.file].metadata().row_group(group).num_rows())
        };
        Some(self.parts.iter().map(|part| rows(part) as f64).sum())
    }

    fn all_rows_come_out(&self) -> bool {
        self.conditions.is_empty() && self.limit.is_none()
    }

    fn estimated_bytes(&self) -> Option<f64> {
        let set = &self.shape.set;
        let places = self.places_read();
        Some(
            self.parts
                .iter()
                .map(|part| match part.row_group {
                    None => set.files[part.file].bytes as f64,
                    Some(group) => {
                        let footer = &set.footers[part.file];
                        let chunks = footer.metadata().row_group(group).columns();
                        let leaves = footer.leaves(&self.shape, &set.layouts[part.file], &places);
                        leaves.iter().filter_map(|leaf| chunks.get(*leaf)).map(|c| c.compressed_size() as f64).sum()
                    }
                })
                .sum(),
        )
    }

    fn key_pass(&self, place: usize, _: f64) -> Verdict {
        let set = &self.shape.set;
        if set.columns[self.shape.output[place]].partition {
            return Verdict::Prunes { note: Some("files by the folders' names".into()) };
        }
        if set.format != Format::Parquet {
            let note = format!("{} keeps nothing to skip rows by", set.format.words());
            return Verdict::kept(KeptReason::NoSuchAbility, note);
        }
        Verdict::Prunes { note: Some("row groups by min and max, then rows while decoding".into()) }
    }

    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let mut conditions = Vec::new();
        let mut parts = self.parts.clone();
        for row in &self.conditions {
            let first_folder = self.shape.set.columns.iter().position(|c| c.partition).unwrap_or(usize::MAX);
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
            let place = self.shape.output[keys.pass.place];
            let partition = self.shape.set.columns[place].partition;
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
            .shape
            .output
            .iter()
            .map(|place| Field::new(place.to_string(), self.shape.types[*place].to_arrow(), true))
            .collect();
        Ok(Arc::new(FilePortions {
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
    shape: Arc<ScanShape>,
    parts: Vec<Part>,
    next: AtomicUsize,
    conditions: Arc<Vec<OpenCondition>>,
    limit: Option<u64>,
    tools: ScanTools,
    schema: SchemaRef,
}

/// Batches of the columns that stand in one file, in the order of `ScanShape::file_columns`.
pub trait FileBatches: Send {
    /// Columns and number of rows; `None` at the end.
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>>;
}

#[async_trait]
impl Portions for FilePortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(part) = self.parts.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        let set = &self.shape.set;
        let file = &set.files[part.file];
        let batch_rows = self.tools.batch_rows;
        // Conditions that mix file and folder columns need both; they are checked after the file's own.
        // So is one of a Parquet file on columns that the file lacks.
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
        let batches: Box<dyn FileBatches> = match (set.format, part.row_group) {
            (Format::Parquet, Some(group)) => {
                let own: Vec<Arc<FileCondition>> = self
                    .conditions
                    .iter()
                    .zip(&in_file)
                    .filter(|(_, in_file)| **in_file)
                    .map(|(c, _)| {
                        let (predicate, columns, pages) = (c.predicate.clone(), c.places.clone(), c.pages.clone());
                        Arc::new(FileCondition { predicate, columns, pages })
                    })
                    .collect();
                Box::new(ParquetBatches::open(
                    &shape,
                    file,
                    &set.footers[part.file],
                    (group, &set.layouts[part.file]),
                    &own,
                    &self.tools,
                )?)
            }
            (Format::Csv, _) => {
                Box::new(CsvBatches::open(&shape, file, set.source.text(file, &self.tools)?, batch_rows)?)
            }
            (Format::Json, _) => {
                Box::new(JsonBatches::open(&shape, file, set.source.text(file, &self.tools)?, batch_rows)?)
            }
            _ => {
                let blob = set.source.storage.open(file, &self.tools.cancel)?;
                Box::new(ArrowBatches::open(&shape, file, blob, self.tools.counters.clone(), batch_rows)?)
            }
        };
        Ok(Some(Box::new(FileReader {
            shape,
            output: self.shape.output.clone(),
            file: part.file,
            batches,
            conditions: self.conditions.clone(),
            in_file,
            left: self.limit,
            schema: self.schema.clone(),
        })))
    }
}

fn with_condition_columns(shape: &ScanShape, conditions: &[OpenCondition], in_file: &[bool]) -> ScanShape {
    let mut file_columns = shape.file_columns.clone();
    let needed = conditions.iter().zip(in_file).filter(|(_, in_file)| !**in_file).flat_map(|(c, _)| &c.places);
    file_columns.extend(needed.filter(|p| !shape.set.columns[**p].partition));
    file_columns.sort_unstable();
    file_columns.dedup();
    ScanShape { set: shape.set.clone(), types: shape.types.clone(), output: shape.output.clone(), file_columns }
}

struct FileReader {
    shape: Arc<ScanShape>,
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
        let set = &self.shape.set;
        if set.columns[place].partition {
            let first = set.columns.iter().position(|c| c.partition).unwrap_or(0);
            let one = set.files[self.file].partition[place - first].to_array(&set.columns[place].sql_type);
            let places = arrow::array::UInt32Array::from(vec![0; rows]);
            return Ok(arrow::compute::take(one.as_ref(), &places, None)?);
        }
        let at = self.shape.file_columns.partition_point(|p| *p < place);
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
