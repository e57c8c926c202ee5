//! Reading Parquet: footers with their statistics, row groups that may match, and within them only the column chunks that
//! are needed. A row group's chunk is read with one request when it is first touched, so a chunk that late materialisation
//! makes unnecessary is never read.

use std::any::Any;
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use arrow::array::{Array, ArrayRef, BooleanArray, RecordBatch, new_null_array};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use bytes::{Buf, Bytes};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{GateCounters, ScanMemory};
use cobble_storage::{Blob, StoredFile, file_error, own_error};
use cobble_types::{Code, Error, Result, SqlType, TextForm, Value};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::statistics::StatisticsConverter;
use parquet::arrow::arrow_reader::{
    ArrowPredicate, ArrowPredicateFn, ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReader,
    ParquetRecordBatchReaderBuilder, RowFilter, RowSelection,
};
use parquet::errors::ParquetError;
use parquet::file::metadata::{ParquetMetaData, RowGroupMetaData};
use parquet::file::reader::{ChunkReader, Length};

use crate::footer::{Adapt, Footer, Layout, PageCondition, PartReading};
use crate::prune::{Range, is_nan};
use crate::row_groups::Chunk;
use crate::{Dialect, FileBatches, FileFormat, FileWriter, Inferred, OpenFile, Shape, infer};

mod claims;
pub mod measures;
mod pages;
mod write;

use pages::Pages;

#[derive(Debug)]
pub(crate) struct Parquet;

impl FileFormat for Parquet {
    fn name(&self) -> &'static str {
        "parquet"
    }

    fn words(&self) -> &'static str {
        "Parquet"
    }

    fn endings(&self) -> &'static [&'static str] {
        &["parquet"]
    }

    fn parts(&self) -> Option<&'static str> {
        Some("row groups")
    }

    fn infer(&self, file: &OpenFile, _: &TextForm, _: bool) -> Result<Inferred> {
        let columns = ParquetFooter::read(file)?.columns()?;
        Ok(Inferred { columns, row_width: None, dialect: Dialect::default() })
    }

    fn footer(&self, file: &OpenFile) -> Result<Arc<dyn Footer>> {
        Ok(Arc::new(ParquetFooter::read(file)?))
    }

    fn by_ids(&self, file: &OpenFile, _: u64) -> Result<Arc<dyn Footer>> {
        self.footer(file)
    }

    fn reading(&self, columns: &[String]) -> String {
        format!(", column chunks of {}", if columns.is_empty() { "no column".to_owned() } else { columns.join(", ") })
    }

    fn read(&self, file: &OpenFile, _: &Shape, _: usize) -> Result<Box<dyn FileBatches>> {
        Err(Error::internal(format!("{}: Parquet is read by its footer", file.file.path.display())))
    }

    fn is_written(&self) -> bool {
        true
    }

    fn writer(&self, file: File, schema: SchemaRef) -> io::Result<Box<dyn FileWriter>> {
        Ok(Box::new(write::ParquetWriter::new(file, schema)))
    }
}

/// A decoded footer, and of each column that was asked for the ranges of its row groups.
pub(crate) struct ParquetFooter {
    connection: String,
    file: StoredFile,
    arrow: ArrowReaderMetadata,
    ranges: Mutex<ColumnRanges>,
    pages: Pages,
}

/// Bytes at the end of a file that are asked for at once for the footer.
const TAIL: u64 = 1 << 16;

/// By name and type of the column, one range for each row group.
type ColumnRanges = HashMap<(String, SqlType), Arc<Vec<Range>>>;

impl std::fmt::Debug for ParquetFooter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "ParquetFooter({} row groups)", self.metadata().num_row_groups())
    }
}

impl ParquetFooter {
    fn read(open: &OpenFile) -> Result<ParquetFooter> {
        let blob = open.blob.clone();
        // Most footers are in the last bytes, which are one request.
        let tail = blob.size().min(TAIL);
        blob.soon(&[(blob.size() - tail, tail)]);
        let input = ChunkedFile {
            blob,
            chunks: vec![],
            loaded: Mutex::default(),
            counters: Arc::default(),
            fault: Fault::default(),
            group: None,
            memory: open.memory.clone(),
        };
        let broken = |e: ParquetError| open.broken(Parquet.words(), &e);
        let arrow = open.held(Parquet.words(), || {
            let plain = ArrowReaderMetadata::load(&input, ArrowReaderOptions::new()).map_err(broken)?;
            claims::check(plain.metadata(), open.blob.size()).map_err(broken)?;
            // Text and binary columns are read as views from the start.
            let schema = as_views(plain.schema());
            let options = ArrowReaderOptions::new().with_schema(schema);
            ArrowReaderMetadata::try_new(plain.metadata().clone(), options).map_err(broken)
        })?;
        let (connection, file) = (open.connection.clone(), open.file.clone());
        Ok(ParquetFooter { connection, file, arrow, ranges: Mutex::default(), pages: Pages::default() })
    }

    fn metadata(&self) -> &Arc<ParquetMetaData> {
        self.arrow.metadata()
    }

    /// The file's leaves that hold these columns of the table, or those fields of them that the scan reads.
    fn leaves(&self, shape: &Shape, layout: &Layout, places: &[usize]) -> Vec<usize> {
        let schema = self.arrow.parquet_schema();
        (0..schema.num_columns())
            .filter(|leaf| {
                let root = schema.get_column_root_idx(*leaf);
                let place = places.iter().find(|place| layout.root(**place) == Some(root));
                let is_whole = matches!(layout, Layout::Whole(_));
                let holds = |place: &usize| holds(&shape.types[*place], &schema.column(*leaf).path().parts()[1..]);
                place.is_some_and(|place| is_whole || holds(place))
            })
            .collect()
    }

    fn sql_type(&self, field: &Field) -> Result<SqlType> {
        SqlType::from_arrow(field.data_type()).ok_or_else(|| {
            let what =
                format!("column {} has the type {}, which the engine does not know", field.name(), field.data_type());
            file_error(&self.connection, &self.file.path, Code::Unsupported, what)
        })
    }

    fn decoded_ranges(&self, column: &TableColumn) -> Vec<Range> {
        let groups = self.metadata().row_groups();
        let unknown = || vec![Range { may_be_null: true, ..Range::default() }; groups.len()];
        let Ok(converter) =
            StatisticsConverter::try_new(&column.name, self.arrow.schema(), self.arrow.parquet_schema())
        else {
            return unknown();
        };
        let target = column.sql_type.to_arrow();
        let bound = |array: parquet::errors::Result<ArrayRef>| array.ok().and_then(|a| cast(&a, &target).ok());
        let (mins, maxes) = (bound(converter.row_group_mins(groups)), bound(converter.row_group_maxes(groups)));
        let nulls = converter.with_missing_null_counts_as_zero(false).row_group_null_counts(groups).ok();
        groups
            .iter()
            .enumerate()
            .map(|(i, group)| {
                let value = |array: &Option<ArrayRef>| array.as_ref().and_then(|a| bound_of(a, i));
                let null_count = nulls.as_ref().filter(|n| n.is_valid(i)).map(|n| n.value(i));
                Range {
                    min: value(&mins),
                    max: value(&maxes),
                    all_null: null_count == Some(group.num_rows() as u64),
                    may_be_null: null_count != Some(0),
                    may_be_nan: column.sql_type.is_float(),
                }
            })
            .collect()
    }
}

impl Footer for ParquetFooter {
    fn file(&self) -> &StoredFile {
        &self.file
    }

    fn schema(&self) -> &SchemaRef {
        self.arrow.schema()
    }

    fn memory(&self) -> usize {
        // With the decoded bounds, which come when they are asked for.
        let bounds: usize = self.metadata().row_groups().iter().map(|group| group.num_columns()).sum();
        self.metadata().memory_size() + bounds * size_of::<Range>()
    }

    fn parts(&self) -> usize {
        self.metadata().num_row_groups()
    }

    fn rows(&self, part: usize) -> u64 {
        self.metadata().row_groups().get(part).and_then(|group| group.num_rows().try_into().ok()).unwrap_or(0)
    }

    fn layout(&self, columns: &[TableColumn]) -> Layout {
        let names: Vec<String> = self.arrow.schema().fields().iter().map(|field| field.name().to_lowercase()).collect();
        let own = columns.iter().filter(|column| !column.partition);
        // Nearly always so, and then not searched for.
        if own.clone().map(|column| &column.name).eq(&names) {
            return Layout::Same;
        }
        let roots: Vec<Option<usize>> = own.map(|column| names.iter().position(|name| *name == column.name)).collect();
        let in_order = roots.iter().enumerate().all(|(place, root)| *root == Some(place));
        if in_order { Layout::Same } else { Layout::Other(roots) }
    }

    fn columns(&self) -> Result<Vec<TableColumn>> {
        let fields = self.arrow.schema().fields().iter();
        let column = |field: &Arc<Field>| {
            let sql_type = self.sql_type(field)?;
            Ok(TableColumn { nullable: field.is_nullable(), ..infer::column(&field.name().to_lowercase(), sql_type) })
        };
        fields.map(column).collect()
    }

    /// Decoded once: every offer asks again.
    fn ranges(&self, column: &TableColumn) -> Arc<Vec<Range>> {
        let mut known = self.ranges.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (column.name.clone(), column.sql_type.clone());
        known.entry(key).or_insert_with(|| Arc::new(self.decoded_ranges(column))).clone()
    }

    fn bytes(&self, part: usize, shape: &Shape, layout: &Layout, places: &[usize]) -> f64 {
        let chunks = self.metadata().row_group(part).columns();
        let leaves = self.leaves(shape, layout, places);
        leaves.iter().filter_map(|leaf| chunks.get(*leaf)).map(|chunk| chunk.compressed_size() as f64).sum()
    }

    fn chunk(&self, part: usize, column: &str) -> Option<Chunk> {
        let schema = self.arrow.parquet_schema();
        let own = |leaf: &usize| {
            schema.column(*leaf).path().parts().first().is_some_and(|name| name.to_lowercase() == column.to_lowercase())
        };
        let leaves: Vec<usize> = (0..schema.num_columns()).filter(own).collect();
        let group = self.metadata().row_groups().get(part)?;
        let chunks: Vec<_> = leaves.iter().filter_map(|leaf| group.columns().get(*leaf)).collect();
        let sum = |of: fn(&parquet::file::metadata::ColumnChunkMetaData) -> i64| {
            chunks.iter().map(|chunk| u64::try_from(of(chunk)).unwrap_or(0)).sum::<u64>()
        };
        let words = |of: &dyn Fn(&parquet::file::metadata::ColumnChunkMetaData) -> Vec<String>| {
            let mut all: Vec<String> = chunks.iter().flat_map(|chunk| of(chunk)).collect();
            all.sort();
            all.dedup();
            all.join(", ")
        };
        let [first, rest @ ..] = chunks.as_slice() else { return None };
        let nulls = first.statistics().and_then(|statistics| statistics.null_count_opt()).filter(|_| rest.is_empty());
        Some(Chunk {
            bytes: sum(|chunk| chunk.compressed_size()),
            unpacked: sum(|chunk| chunk.uncompressed_size()),
            encodings: words(&|chunk| chunk.encodings().map(|encoding| encoding.to_string()).collect()),
            // Without the level, which the file does not tell.
            packing: words(&|chunk| {
                let whole = chunk.compression().to_string();
                vec![whole.split('(').next().unwrap_or_default().to_owned()]
            }),
            nulls,
        })
    }

    fn reads_runs(&self) -> bool {
        true
    }

    fn read(&self, file: &OpenFile, part: usize, reading: &PartReading<'_>) -> Result<Box<dyn FileBatches>> {
        Ok(Box::new(ParquetBatches::open(self, file, part, reading)?))
    }
}

/// True when a type has the field at this path; what lies inside of anything but a row belongs to it whole.
fn holds(sql_type: &SqlType, path: &[String]) -> bool {
    match (sql_type, path) {
        (SqlType::Row(fields), [first, rest @ ..]) => {
            fields.iter().find(|field| field.name == *first).is_some_and(|field| holds(&field.sql_type, rest))
        }
        _ => true,
    }
}

/// A least or greatest value, where it is known and says something.
fn bound_of(array: &ArrayRef, place: usize) -> Option<Value> {
    Value::from_array(array.as_ref(), place).filter(|value| !value.is_null() && !is_nan(value))
}

fn as_views(schema: &SchemaRef) -> SchemaRef {
    let fields: Vec<Field> = schema
        .fields()
        .iter()
        .map(|field| {
            let data_type = match field.data_type() {
                DataType::Utf8 | DataType::LargeUtf8 => DataType::Utf8View,
                DataType::Binary | DataType::LargeBinary => DataType::BinaryView,
                other => other.clone(),
            };
            field.as_ref().clone().with_data_type(data_type)
        })
        .collect();
    Arc::new(Schema::new(fields).with_metadata(schema.metadata().clone()))
}

/// A file that reads a column chunk, once and whole, when it is first touched.
struct ChunkedFile {
    blob: Arc<dyn Blob>,
    /// Start and length of every column chunk of the row group, in order.
    chunks: Vec<(u64, u64)>,
    loaded: Mutex<Loaded>,
    counters: Arc<GateCounters>,
    fault: Fault,
    /// The row group whose chunks these are.
    group: Option<RowGroupMetaData>,
    memory: Arc<dyn ScanMemory>,
}

/// Chunks by their places, and what they and their largest pages take.
#[derive(Default)]
struct Loaded {
    chunks: HashMap<u64, Bytes>,
    taken: Vec<Box<dyn Any + Send + Sync>>,
}

/// What went wrong with the storage, which the decoder would tell as a text of its own.
type Fault = Arc<Mutex<Option<Error>>>;

impl ChunkedFile {
    fn range(&self, start: u64, length: Option<usize>) -> parquet::errors::Result<Bytes> {
        let place = self.chunks.partition_point(|(chunk, _)| *chunk <= start);
        if let Some((chunk, size)) = place.checked_sub(1).map(|i| self.chunks[i])
            && start < chunk + size
        {
            let mut loaded = self.loaded.lock().unwrap_or_else(PoisonError::into_inner);
            let bytes = match loaded.chunks.get(&chunk) {
                Some(bytes) => bytes.clone(),
                None => {
                    let taken = self.take(size)?;
                    let bytes = self.read(chunk, size as usize)?;
                    let page = self.largest_page(chunk, &bytes)?;
                    loaded.taken.extend([taken, self.take(page)?]);
                    loaded.chunks.insert(chunk, bytes.clone());
                    bytes
                }
            };
            let from = (start - chunk) as usize;
            let to = length.map_or(bytes.len(), |n| (from + n).min(bytes.len()));
            if length.is_none_or(|n| from + n <= bytes.len()) {
                return Ok(bytes.slice(from..to));
            }
        }
        // Outside the chunks lie page indexes, for example.
        let rest = (self.blob.size() - start.min(self.blob.size())) as usize;
        self.read(start, length.unwrap_or(rest.min(1 << 16)))
    }

    fn take(&self, bytes: u64) -> parquet::errors::Result<Box<dyn Any + Send + Sync>> {
        self.memory.take(bytes).map_err(|error| {
            *self.fault.lock().unwrap_or_else(PoisonError::into_inner) = Some(error.clone());
            ParquetError::External(Box::new(error))
        })
    }

    /// Bytes that the largest page of the chunk at this place unpacks to.
    fn largest_page(&self, start: u64, bytes: &Bytes) -> parquet::errors::Result<u64> {
        let chunks = self.group.iter().flat_map(RowGroupMetaData::columns);
        let own = chunks.filter(|chunk| chunk.byte_range().0 == start);
        own.map(|chunk| claims::largest_page(chunk, bytes)).try_fold(0, |most, page| Ok(most.max(page?)))
    }

    fn read(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        let bytes = self.blob.read(start, length).inspect_err(|error| {
            let own = own_error(error);
            *self.fault.lock().unwrap_or_else(PoisonError::into_inner) = own;
        })?;
        GateCounters::add(&self.counters.bytes, length as u64);
        Ok(bytes)
    }
}

impl Length for ChunkedFile {
    fn len(&self) -> u64 {
        self.blob.size()
    }
}

impl ChunkReader for ChunkedFile {
    type T = bytes::buf::Reader<Bytes>;

    fn get_read(&self, start: u64) -> parquet::errors::Result<Self::T> {
        Ok(self.range(start, None)?.reader())
    }

    fn get_bytes(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        self.range(start, Some(length))
    }
}

/// The batches of one row group.
struct ParquetBatches {
    fault: Fault,
    reader: ParquetRecordBatchReader,
    file: OpenFile,
    columns: Wanted,
}

impl ParquetBatches {
    fn open(footer: &ParquetFooter, file: &OpenFile, row_group: usize, reading: &PartReading<'_>) -> Result<Self> {
        let PartReading { shape, layout, conditions, gone, only, batch_rows, counters, ref adapt } = *reading;
        let blob = file.blob.clone();
        let by_pages: Vec<PageCondition> = conditions.iter().filter_map(|c| c.pages.clone()).collect();
        let selection = footer.pages.selection(&footer.arrow, &blob, row_group, &by_pages, counters);
        let group = footer.metadata().row_group(row_group);
        let mut chunks: Vec<(u64, u64)> = group.columns().iter().map(|c| c.byte_range()).collect();
        // With conditions the other columns may turn out not to be needed at all.
        let soon: Vec<usize> = match conditions {
            [] => shape.wanted.clone(),
            all => all.iter().flat_map(|c| c.columns.iter().copied()).collect(),
        };
        blob.soon(&footer.leaves(shape, layout, &soon).into_iter().map(|leaf| chunks[leaf]).collect::<Vec<_>>());
        chunks.sort_unstable();
        let fault = Fault::default();
        let loaded = Mutex::default();
        let input = ChunkedFile {
            blob,
            chunks,
            loaded,
            counters: counters.clone(),
            fault: fault.clone(),
            group: Some(group.clone()),
            memory: file.memory.clone(),
        };
        let parquet_schema = footer.arrow.parquet_schema();
        let wanted = |places: &[usize]| Wanted::new(shape, layout, places, adapt.clone());
        let predicates: Vec<Box<dyn ArrowPredicate>> = conditions
            .iter()
            .map(|condition| {
                let mask = ProjectionMask::leaves(parquet_schema, footer.leaves(shape, layout, &condition.columns));
                let (condition, wanted, counters) = (condition.clone(), wanted(&condition.columns), counters.clone());
                Box::new(ArrowPredicateFn::new(mask, move |batch: RecordBatch| {
                    let columns = wanted.of(&batch)?;
                    let fields: Vec<Field> =
                        columns.iter().map(|c| Field::new("", c.data_type().clone(), true)).collect();
                    let batch = RecordBatch::try_new(Arc::new(Schema::new(fields)), columns)?;
                    let mask: BooleanArray = condition
                        .predicate
                        .evaluate(&batch)
                        .map_err(|e| arrow::error::ArrowError::ExternalError(Box::new(e)))?;
                    GateCounters::add(&counters.rows_dropped, (mask.len() - mask.true_count()) as u64);
                    Ok(mask)
                })) as Box<dyn ArrowPredicate>
            })
            .collect();
        let mut builder = ParquetRecordBatchReaderBuilder::new_with_metadata(input, footer.arrow.clone())
            .with_row_groups(vec![row_group])
            .with_projection(ProjectionMask::leaves(parquet_schema, footer.leaves(shape, layout, &shape.wanted)))
            .with_batch_size(rows_of(group, &footer.leaves(shape, layout, &shape.wanted)).min(batch_rows));
        if let Some(selection) = &selection {
            GateCounters::add(&counters.rows_skipped, selection.skipped_row_count() as u64);
        }
        let rows = group.num_rows() as usize;
        let there = match (gone, only) {
            ([], []) => None,
            ([], only) => {
                let runs = only.iter().map(|rows| rows.start as usize..rows.end as usize);
                Some(RowSelection::from_consecutive_ranges(runs, rows))
            }
            (gone, _) => Some(without(gone, rows)),
        };
        let selection = match (selection, there) {
            (Some(one), Some(other)) => Some(one.intersection(&other)),
            (one, other) => one.or(other),
        };
        if let Some(selection) = selection {
            builder = builder.with_row_selection(selection);
        }
        if !predicates.is_empty() {
            builder = builder.with_row_filter(RowFilter::new(predicates));
        }
        let reader = builder.build().map_err(|e| reading_error(file, &e))?;
        Ok(ParquetBatches { reader, file: file.clone(), columns: wanted(&shape.wanted), fault })
    }
}

/// All rows but those at these places, which are in order.
fn without(gone: &[u64], rows: usize) -> RowSelection {
    let mut kept = Vec::with_capacity(gone.len() + 1);
    let mut start = 0;
    for place in gone.iter().map(|place| *place as usize).filter(|place| *place < rows) {
        if place > start {
            kept.push(start..place);
        }
        start = place + 1;
    }
    if start < rows {
        kept.push(start..rows);
    }
    RowSelection::from_consecutive_ranges(kept.into_iter(), rows)
}

/// Bytes of a batch, by what the row group says of its columns.
const BATCH_BYTES: i64 = 16 << 20;

/// Rows of a batch of these columns.
fn rows_of(group: &RowGroupMetaData, leaves: &[usize]) -> usize {
    let bytes: i64 = leaves.iter().map(|leaf| group.column(*leaf).uncompressed_size()).fold(0, i64::saturating_add);
    let each = bytes / group.num_rows().max(1);
    BATCH_BYTES.checked_div(each).map_or(usize::MAX, |rows| rows.max(1) as usize)
}

/// An error of evaluating a condition is the query's; any other is the file's.
fn reading_error(file: &OpenFile, error: &ParquetError) -> Error {
    match error {
        ParquetError::ArrowError(text) if text.contains("division by zero") => {
            Error::new(Code::DivisionByZero, "division by zero")
        }
        other => file.broken(Parquet.words(), other),
    }
}

/// A projection returns columns in file order. For each wanted column: its index among them, if the file has it.
fn batch_order(layout: &Layout, places: &[usize]) -> Vec<Option<usize>> {
    let roots: Vec<Option<usize>> = places.iter().map(|place| layout.root(*place)).collect();
    let mut sorted: Vec<usize> = roots.iter().copied().flatten().collect();
    sorted.sort_unstable();
    sorted.dedup();
    roots.into_iter().map(|root| root.map(|root| sorted.partition_point(|known| *known < root))).collect()
}

/// Columns of the table, as they are taken out of a reader's batches.
struct Wanted {
    /// Of each its place in the batch, its place in the table, and its type there.
    columns: Vec<(Option<usize>, usize, DataType)>,
    adapt: Option<Arc<dyn Adapt>>,
}

impl Wanted {
    fn new(shape: &Shape, layout: &Layout, places: &[usize], adapt: Option<Arc<dyn Adapt>>) -> Wanted {
        let order = batch_order(layout, places);
        let columns = order.into_iter().zip(places);
        let columns = columns.map(|(own, place)| (own, *place, shape.types[*place].to_arrow())).collect();
        Wanted { columns, adapt }
    }

    fn of(&self, batch: &RecordBatch) -> std::result::Result<Vec<ArrayRef>, arrow::error::ArrowError> {
        self.columns
            .iter()
            .map(|(own, place, data_type)| {
                let Some(own) = own else { return Ok(new_null_array(data_type, batch.num_rows())) };
                let column = batch.column(*own);
                match &self.adapt {
                    Some(adapt) => adapt.column(*place, column),
                    None if column.data_type() == data_type => Ok(column.clone()),
                    None => cast(column, data_type),
                }
            })
            .collect()
    }
}

impl FileBatches for ParquetBatches {
    fn next(&mut self) -> Result<Option<(Vec<ArrayRef>, usize)>> {
        let file = self.file.clone();
        match file.held(Parquet.words(), || Ok(self.reader.next()))? {
            None => Ok(None),
            Some(Ok(batch)) => {
                let rows = batch.num_rows();
                Ok(Some((self.columns.of(&batch)?, rows)))
            }
            Some(Err(error)) => Err(match (self.fault.lock().unwrap_or_else(PoisonError::into_inner).take(), error) {
                (Some(own), _) => own,
                (None, arrow::error::ArrowError::ExternalError(inner)) => match inner.downcast::<Error>() {
                    Ok(own) => *own,
                    Err(other) => self.file.broken(Parquet.words(), &ParquetError::General(other.to_string())),
                },
                (None, arrow::error::ArrowError::ParquetError(text)) => {
                    self.file.broken(Parquet.words(), &ParquetError::General(text))
                }
                (None, other) => other.into(),
            }),
        }
    }
}
