//! Running a scan of a lake's files: row groups, or whole files, are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, BooleanArray, RecordBatch};
use arrow::compute::{and, filter};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_format::prune::uses_ranges;
use cobble_format::{FileBatches, FileCondition, Footer, PageCondition, PartReading, RowsOut, Shape, schema_of};
use cobble_lake::deletes::Gone;
use cobble_lake::name_mapping::{self, Mapped};
use cobble_lake::schema::Field;
use cobble_lake::table::{DataFile, LakeTable};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{BatchPredicate, GateCounters, GateScan, PortionReader, Portions, ScanSpec, ScanTools};
use cobble_storage::StoredFile;
use cobble_types::Result;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use super::fields::FileFields;
use super::gone::{LoadedGone, Values};
use super::offer::{groups_left, shape_of};
use super::{Lake, apart};

/// The form of [`Work`] and [`Portion`].
pub const FORM: u16 = 2;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

/// What is read of a table.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    /// The columns of the schema, and behind them those that gone rows are told by and that it has not any more.
    pub columns: Vec<TableColumn>,
    pub schema: i32,
    pub gone: Gone,
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
    /// The names that the table maps to ids for files without them.
    pub fn mapping(&self, table: &LakeTable) -> Result<Option<Arc<Vec<Mapped>>>> {
        let mapping = name_mapping::of(&table.metadata).map_err(|what| self.file_error(&table.file, what))?;
        Ok(mapping.map(Arc::new))
    }

    /// Where a file has the table's fields.
    pub fn fields(
        &self,
        file: &DataFile,
        footer: &dyn Footer,
        fields: &Arc<[Field]>,
        mapping: Option<&Vec<Mapped>>,
    ) -> Result<FileFields> {
        let own = FileFields::new(footer.schema(), fields.clone(), mapping.map(Vec::as_slice));
        Ok(own.ok_or_else(|| self.no_ids(&file.stored))?.with_constants(&file.constants))
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
        let fields: Arc<[Field]> = table.fields(work.schema, &work.gone)?.into();
        let mapping = self.lake.mapping(&table)?;
        let paths = self.portions.iter().map(|portion| portion.file.gone.path.clone()).collect();
        let shared = Shared {
            gone: LoadedGone::new(work.gone.clone(), paths, fields.clone(), mapping.clone()),
            schema: schema_of(&work.output, |place| work.columns[place].sql_type.to_arrow()),
            lake: self.lake.clone(),
            fields,
            mapping,
            work: work.clone(),
            conditions,
            tools: tools.clone(),
        };
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
    fields: Arc<[Field]>,
    mapping: Option<Arc<Vec<Mapped>>>,
    gone: LoadedGone,
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
        let read = apart(move || {
            let Shared { lake, gone, tools, .. } = shared.as_ref();
            let footer = lake.footer(&own.file.stored, &own.file.format, own.file.rows)?;
            let fields = lake.fields(&own.file, footer.as_ref(), &shared.fields, shared.mapping.as_deref())?;
            let groups = match own.within {
                Some(group) => vec![group],
                None => groups_left(footer.as_ref(), &fields, &shared.work),
            };
            let of_file = &own.file.gone;
            let places = gone.places(lake, &of_file.path, &of_file.places, tools)?;
            let values = of_file.values.iter().map(|group| gone.values(lake, *group, tools)).collect::<Result<_>>()?;
            let work = &shared.work;
            let out = RowsOut::new(&work.output, shared.schema.clone(), work.limit);
            let mut reader = LakeReader {
                file: own.file,
                footer,
                fields: Arc::new(fields),
                groups: groups.into_iter(),
                gone: places,
                values,
                out,
                open: None,
                shared: shared.clone(),
            };
            for condition in &shared.conditions {
                if reader.takes(condition) {
                    continue;
                }
                let type_of = |place: usize| work.columns[place].sql_type.to_arrow();
                reader.out.check(condition.predicate.clone(), &condition.places, type_of);
            }
            Ok(reader)
        });
        Ok(Some(Box::new(read.await?)))
    }
}

struct LakeReader {
    shared: Arc<Shared>,
    file: DataFile,
    footer: Arc<dyn Footer>,
    fields: Arc<FileFields>,
    groups: std::vec::IntoIter<usize>,
    /// Places of rows in the file that are gone, in order.
    gone: Vec<u64>,
    /// Values of rows that are gone.
    values: Vec<Arc<Values>>,
    out: RowsOut,
    open: Option<(Box<dyn FileBatches>, Vec<usize>)>,
}

/// The column at a place of the table.
fn column(fields: &FileFields, own: &[usize], columns: &[ArrayRef], place: usize, rows: usize) -> Result<ArrayRef> {
    match own.binary_search(&place) {
        Ok(at) if fields.name(place).is_some() => Ok(columns[at].clone()),
        _ => fields.lacking(place, rows),
    }
}

impl LakeReader {
    /// Whether a condition is checked while the file is decoded: the file has its columns, and it cannot fail on a row that is gone.
    fn takes(&self, condition: &OpenCondition) -> bool {
        let has = condition.places.iter().all(|place| self.fields.name(*place).is_some());
        has && (self.values.is_empty() || condition.pages.is_some())
    }

    /// The batches of a row group, and the places of their columns.
    fn begin(&self, group: usize) -> Result<(Box<dyn FileBatches>, Vec<usize>)> {
        let Shared { lake, work, conditions, tools, .. } = self.shared.as_ref();
        let mut wanted: Vec<usize> = work.output.clone();
        wanted.extend(conditions.iter().filter(|c| !self.takes(c)).flat_map(|c| c.places.iter().copied()));
        wanted.extend(self.values.iter().flat_map(|values| values.columns.iter().map(|(place, _)| *place)));
        let shape = work.shape(&wanted);
        let in_file: Vec<Arc<FileCondition>> = conditions
            .iter()
            .filter(|condition| self.takes(condition))
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
        let before: u64 = (0..group).map(|group| self.footer.rows(group)).sum();
        let here = |place: &u64| (before..before + self.footer.rows(group)).contains(place);
        let gone: Vec<u64> = self.gone.iter().filter(|place| here(place)).map(|place| place - before).collect();
        let open = lake.opened(&self.file.stored, &tools.cancel, &tools.counters.bytes, tools.memory.clone())?;
        let reading = PartReading {
            shape: &shape,
            layout: &self.fields.layout(),
            conditions: &in_file,
            gone: &gone,
            batch_rows: tools.batch_rows,
            counters: &tools.counters,
            adapt: Some(self.fields.clone()),
        };
        let batches = self.footer.read(&open, group, &reading)?;
        Ok((batches, shape.wanted))
    }

    /// The rows that no values tell to be gone.
    fn there(&self, own: &[usize], columns: Vec<ArrayRef>, rows: usize) -> Result<(Vec<ArrayRef>, usize)> {
        let mut mask: Option<BooleanArray> = None;
        for values in &self.values {
            let of = |place: usize| column(&self.fields, own, &columns, place, rows);
            let there = values.there(rows, self.file.sequence, &of)?;
            mask = Some(match mask {
                Some(before) => and(&before, &there)?,
                None => there,
            });
        }
        let Some(mask) = mask else { return Ok((columns, rows)) };
        let left = columns.iter().map(|column| filter(column, &mask)).collect::<std::result::Result<_, _>>()?;
        Ok((left, mask.true_count()))
    }
}

#[async_trait]
impl PortionReader for LakeReader {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if self.out.is_full() {
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
            let (columns, rows) = self.there(&own, columns, rows)?;
            let fields = self.fields.clone();
            return self.out.batch(rows, &|place| column(&fields, &own, &columns, place, rows)).map(Some);
        }
    }
}
