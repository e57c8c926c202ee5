//! Running a scan of a lake's files: row groups, or whole files, are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions, new_null_array};
use arrow::compute::{and, filter_record_batch};
use arrow::datatypes::{Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_format::prune::uses_ranges;
use cobble_format::{FileBatches, FileCondition, Footer, PageCondition, PartReading, Shape};
use cobble_lake::table::{DataFile, LakeTable};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{BatchPredicate, GateCounters, GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_storage::StoredFile;
use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use super::fields::FileFields;
use super::offer::{groups_left, shape_of};
use super::{Lake, apart};

/// The form of [`Work`] and [`Portion`].
pub const FORM: u16 = 1;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

/// What is read of a table.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    pub columns: Vec<TableColumn>,
    /// The metadata file of the state that is read, and the table's folder.
    pub metadata: StoredFile,
    pub home: Vec<String>,
    /// Places in the table of the columns that come out, in order.
    pub output: Vec<usize>,
    pub conditions: Vec<RowCondition>,
    pub limit: Option<u64>,
}

/// A file, or a row group of one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Portion {
    pub file: DataFile,
    pub within: Option<usize>,
}

impl Work {
    pub fn shape(&self, wanted: &[usize]) -> Shape {
        shape_of(&self.columns, wanted)
    }

    /// Places in the table of all columns that are read, for output or for a condition.
    pub fn places_read(&self) -> Vec<usize> {
        let of_conditions = self.conditions.iter().flat_map(|c| c.columns.iter().map(|(_, place)| *place));
        let mut places: Vec<usize> = self.output.iter().copied().chain(of_conditions).collect();
        places.sort_unstable();
        places.dedup();
        places
    }
}

impl Lake {
    /// Where a file has the table's columns.
    pub fn fields(&self, table: &LakeTable, file: &DataFile, footer: &dyn Footer) -> Result<FileFields> {
        let schema = table.metadata.schema(table.metadata.schema_id).map_err(Error::internal)?;
        FileFields::new(footer.schema(), schema.fields.clone().into()).ok_or_else(|| {
            let what =
                format!("connection {}: {}: its columns have no ids", self.connection, file.stored.path.display());
            Error::new(Code::Unsupported, what)
                .hint("files that were added to a table without being written for it are not read yet")
        })
    }
}

#[derive(Debug)]
struct LakeScan {
    lake: Arc<Lake>,
    work: Arc<Work>,
    portions: Arc<Vec<Portion>>,
}

/// The scan of work that was agreed for a lake.
pub fn scan(lake: &Arc<Lake>, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    let (work, portions) = (Arc::new(spec.unpack(FORM)?), Arc::new(spec.unpack_portions()?));
    Ok(Arc::new(LakeScan { lake: lake.clone(), work, portions }))
}

struct OpenCondition {
    predicate: Arc<dyn BatchPredicate>,
    places: Vec<usize>,
    /// As a condition that bounds of pages can decide, on the column at the place.
    pages: Option<(Expr, Column)>,
}

#[async_trait]
impl GateScan for LakeScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let work = &self.work;
        let (lake, home, file) = (self.lake.clone(), work.home.clone(), work.metadata.clone());
        let table = apart(move || lake.at(home, file)).await?;
        let mut conditions = Vec::new();
        for row in &work.conditions {
            let columns: Vec<Column> = row.columns.iter().map(|(column, _)| column.clone()).collect();
            let pages = match row.columns.as_slice() {
                [(column, _)] if uses_ranges(&row.condition) => Some((row.condition.clone(), column.clone())),
                _ => None,
            };
            conditions.push(OpenCondition {
                predicate: tools.compiler.compile(&row.condition, &columns)?,
                places: row.columns.iter().map(|(_, place)| *place).collect(),
                pages,
            });
        }
        for keys in &tools.keys {
            let known = keys.condition();
            let form = known
                .as_ref()
                .map_or("a filter for rows".to_owned(), |(_, form)| format!("{form} for pages and a filter for rows"));
            tools.counters.used(keys, &form, 0);
            conditions.push(OpenCondition {
                predicate: keys.test.clone(),
                places: vec![work.output[keys.pass.place]],
                pages: known.map(|(condition, _)| (condition, keys.pass.column.clone())),
            });
        }
        let field = |place: &usize| Field::new(place.to_string(), work.columns[*place].sql_type.to_arrow(), true);
        let schema = Arc::new(Schema::new(work.output.iter().map(field).collect::<Vec<Field>>()));
        let shared =
            Shared { lake: self.lake.clone(), table, work: work.clone(), conditions, tools: tools.clone(), schema };
        Ok(Arc::new(LakePortions {
            shared: Arc::new(shared),
            portions: self.portions.clone(),
            next: AtomicUsize::new(0),
        }))
    }
}

impl Lake {
    /// The table as a metadata file has it.
    fn at(&self, home: Vec<String>, file: StoredFile) -> Result<LakeTable> {
        let known = || self.tables.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(table) = known().get(&file.path, &file.version) {
            return Ok(table);
        }
        LakeTable::open(&self.connection, self.storage()?, home, file, &CancellationToken::new())
    }
}

struct Shared {
    lake: Arc<Lake>,
    table: LakeTable,
    work: Arc<Work>,
    conditions: Vec<OpenCondition>,
    tools: ScanTools,
    schema: SchemaRef,
}

struct LakePortions {
    shared: Arc<Shared>,
    portions: Arc<Vec<Portion>>,
    next: AtomicUsize,
}

#[async_trait]
impl Portions for LakePortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        let Some(portion) = self.portions.get(self.next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        GateCounters::add(&self.shared.tools.counters.requests, 1);
        let (shared, own) = (self.shared.clone(), portion.clone());
        let (footer, fields, groups) = apart(move || {
            let footer = shared.lake.footer(&own.file)?;
            let fields = shared.lake.fields(&shared.table, &own.file, footer.as_ref())?;
            let groups = match own.within {
                Some(group) => vec![group],
                None => groups_left(footer.as_ref(), &fields, &shared.work),
            };
            Ok((footer, fields, groups))
        })
        .await?;
        Ok(Some(Box::new(LakeReader {
            left: self.shared.work.limit,
            shared: self.shared.clone(),
            file: portion.file.clone(),
            footer,
            fields: Arc::new(fields),
            groups: groups.into_iter(),
            open: None,
        })))
    }
}

struct LakeReader {
    shared: Arc<Shared>,
    file: DataFile,
    footer: Arc<dyn Footer>,
    fields: Arc<FileFields>,
    groups: std::vec::IntoIter<usize>,
    open: Option<(Box<dyn FileBatches>, Vec<usize>)>,
    left: Option<u64>,
}

impl LakeReader {
    /// Whether the file has all columns of a condition, so that it can be checked while decoding.
    fn has(&self, condition: &OpenCondition) -> bool {
        condition.places.iter().all(|place| self.fields.name(*place).is_some())
    }

    /// The batches of a row group, and the places of their columns.
    fn begin(&self, group: usize) -> Result<(Box<dyn FileBatches>, Vec<usize>)> {
        let Shared { lake, work, conditions, tools, .. } = self.shared.as_ref();
        let mut wanted: Vec<usize> = work.output.clone();
        wanted.extend(conditions.iter().filter(|c| !self.has(c)).flat_map(|c| c.places.iter().copied()));
        let shape = work.shape(&wanted);
        let in_file: Vec<Arc<FileCondition>> = conditions
            .iter()
            .filter(|condition| self.has(condition))
            .map(|condition| {
                let pages = condition.pages.as_ref().and_then(|(expr, column)| {
                    let [place] = condition.places.as_slice() else { return None };
                    let of_table = &work.columns[*place];
                    let is_plain = of_table.sql_type != cobble_types::SqlType::Uuid;
                    let name = self.fields.name(*place).filter(|_| is_plain)?;
                    let own = TableColumn { name: name.to_owned(), ..of_table.clone() };
                    Some(PageCondition { condition: expr.clone(), id: column.id, column: own })
                });
                let (predicate, columns) = (condition.predicate.clone(), condition.places.clone());
                Arc::new(FileCondition { predicate, columns, pages })
            })
            .collect();
        let open = lake.opened(&self.file, &tools.cancel, &tools.counters.bytes, tools.memory.clone())?;
        let reading = PartReading {
            shape: &shape,
            layout: &self.fields.layout(),
            conditions: &in_file,
            batch_rows: tools.batch_rows,
            counters: &tools.counters,
            adapt: Some(self.fields.clone()),
        };
        let batches = self.footer.read(&open, group, &reading)?;
        Ok((batches, shape.wanted))
    }

    fn batch(
        &self,
        places: &[usize],
        schema: &SchemaRef,
        own: &[usize],
        columns: &[ArrayRef],
        rows: usize,
    ) -> Result<RecordBatch> {
        let column = |place: &usize| match own.binary_search(place) {
            Ok(at) => columns[at].clone(),
            Err(_) => new_null_array(&self.shared.work.columns[*place].sql_type.to_arrow(), rows),
        };
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        Ok(RecordBatch::try_new_with_options(schema.clone(), places.iter().map(column).collect(), &options)?)
    }
}

#[async_trait]
impl PortionReader for LakeReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if self.left == Some(0) {
                return Ok(None);
            }
            if self.open.is_none() {
                let Some(group) = self.groups.next() else { return Ok(None) };
                self.open = Some(self.begin(group)?);
            }
            let Some((batches, own)) = &mut self.open else { continue };
            let Some((columns, rows)) = batches.next()? else {
                self.open = None;
                continue;
            };
            let own = own.clone();
            let shared = self.shared.clone();
            let mut batch = self.batch(&shared.work.output, &shared.schema, &own, &columns, rows)?;
            // Conditions on columns that the file lacks are checked with nulls in their place.
            let mut mask: Option<BooleanArray> = None;
            for condition in shared.conditions.iter().filter(|condition| !self.has(condition)) {
                let field = |place: &usize| {
                    Field::new(place.to_string(), shared.work.columns[*place].sql_type.to_arrow(), true)
                };
                let schema = Arc::new(Schema::new(condition.places.iter().map(field).collect::<Vec<Field>>()));
                let input = self.batch(&condition.places, &schema, &own, &columns, rows)?;
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
            return Ok(Some(batch));
        }
    }
}
