//! Running a scan of a lake's files: row groups, or whole files, are the portions that tasks claim.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow::array::{ArrayRef, BooleanArray, RecordBatch};
use arrow::compute::{and, filter};
use arrow::datatypes::SchemaRef;
use async_trait::async_trait;
use cobble_format::prune::{Range, may_match, uses_ranges};
use cobble_format::{FileBatches, FileCondition, Footer, PageCondition, PartReading, RowsOut, Shape, schema_of};
use cobble_lake::catalog::{Current, TableName};
use cobble_lake::deletes::Gone;
use cobble_lake::left::{DataFile, Looking};
use cobble_lake::manifest_list::Manifest;
use cobble_lake::name_mapping::{self, Mapped};
use cobble_lake::prune::Question;
use cobble_lake::schema::Field;
use cobble_lake::table::LakeTable;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::TableColumn;
use cobble_plan::scan::{
    BatchPredicate, GateCounters, GateScan, PortionReader, Portions, ScanMemory, ScanSpec, ScanTools,
};
use cobble_storage::{Storage, StoredFile};
use cobble_types::{Code, Error, Result, SqlType};
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

use super::fields::FileFields;
use super::gone::{LoadedGone, Values};
use super::later::Later;
use super::offer::{groups_left, ranges_of, shape_of};
use super::row_places::{self, RowPlaces};
use super::{Lake, apart};

/// The form of [`Work`] and [`Portion`].
pub const FORM: u16 = 5;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RowCondition {
    pub condition: Expr,
    pub columns: Vec<(Column, usize)>,
}

/// What is read of a table.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Work {
    /// The columns of the schema, behind them those that tell which row one is, if these are asked for, and then those that gone rows are told
    /// by and that the schema has not any more.
    pub columns: Vec<TableColumn>,
    /// The place of the first column that tells which row one is.
    pub tells_rows: Option<usize>,
    pub schema: i32,
    /// The state whose manifests name further files; none where all files are portions.
    pub snapshot: Option<i64>,
    pub gone: Gone,
    /// The metadata file of the state that is read, and whose it is.
    pub metadata: StoredFile,
    pub name: TableName,
    /// Places in the table of the columns that come out, in order.
    pub output: Vec<usize>,
    pub conditions: Vec<RowCondition>,
    pub limit: Option<u64>,
}

/// A file, or a row group of one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FilePart {
    pub file: DataFile,
    pub within: Option<usize>,
}

/// What can be read apart.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub enum Portion {
    File(FilePart),
    /// The files that a manifest names and that may hold wanted rows.
    Manifest(Manifest),
}

impl Portion {
    pub fn file(self) -> Option<FilePart> {
        match self {
            Portion::File(part) => Some(part),
            Portion::Manifest(_) => None,
        }
    }
}

impl Work {
    pub fn shape(&self, wanted: &[usize]) -> Shape {
        shape_of(&self.columns, wanted)
    }

    /// Places in the table of all columns that are read, for output or for a condition.
    pub fn places_read(&self) -> Vec<usize> {
        self.places_tested(|_| true)
    }

    /// The same, for output or for those conditions, by their places, that are tested.
    pub fn places_tested(&self, is_tested: impl Fn(usize) -> bool) -> Vec<usize> {
        let tested = self.conditions.iter().enumerate().filter(|(place, _)| is_tested(*place));
        let of_conditions = tested.flat_map(|(_, c)| c.columns.iter().map(|(_, place)| *place));
        let mut places: Vec<usize> = self.output.iter().copied().chain(of_conditions).collect();
        places.sort_unstable();
        places.dedup();
        places
    }
}

impl Work {
    /// What the table's metadata are asked.
    pub fn question(&self, table: &LakeTable) -> Question {
        let schema = table.metadata.schema(self.schema);
        let id = |place: usize| Some(schema.as_ref().ok()?.fields.get(place)?.id);
        let columns = self.conditions.iter().flat_map(|condition| &condition.columns);
        let known = columns.filter_map(|(column, place)| Some((column.id, id(*place)?))).collect();
        Question { conditions: self.conditions.iter().map(|own| own.condition.clone()).collect(), columns: known }
    }

    /// Begins to look for the files that manifests name which planning has left.
    pub fn looking(
        &self,
        table: &LakeTable,
        memory: &Arc<dyn ScanMemory>,
        cancel: &CancellationToken,
    ) -> Result<Looking> {
        let snapshot = self.snapshot.and_then(|id| table.metadata.snapshot(id));
        let snapshot = snapshot.ok_or_else(|| Error::internal("manifests of a state that the table does not have"))?;
        table.looking(snapshot, self.schema, &self.question(table), memory, cancel)
    }

    /// Whether the rows of a file that come out are known without reading it: all of them, and nothing of them but which ones they are.
    pub fn knows_rows(&self, file: &DataFile) -> bool {
        let tells = |place: &usize| self.tells_rows.is_some_and(|first| (first..first + 2).contains(place));
        let none_is_gone = file.gone.places.is_empty() && file.gone.values.is_empty();
        none_is_gone && file.certain.len() == self.conditions.len() && self.output.iter().all(tells)
    }
}

impl Lake {
    /// The names that the table maps to ids for files without them.
    pub fn mapping(&self, table: &LakeTable) -> Result<Option<Arc<Vec<Mapped>>>> {
        let mapping = name_mapping::of(&table.metadata).map_err(|what| self.file_error(&table.file, what))?;
        Ok(mapping.map(Arc::new))
    }

    /// The fields of what is read, as [`Work::columns`] has them.
    pub fn all_fields(&self, table: &LakeTable, schema: i32, gone: &Gone, tells_rows: bool) -> Result<Vec<Field>> {
        let mut fields = table.fields(schema, gone)?;
        if tells_rows {
            let own = table.metadata.schema(schema).map_err(|what| self.file_error(&table.file, what))?.fields.len();
            fields.splice(own..own, row_places::fields());
        }
        Ok(fields)
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
        let constants = file.constants.iter().cloned().chain([row_places::of_file(&file.path)]).collect();
        Ok(own.ok_or_else(|| self.no_ids(&file.stored))?.with_constants(constants))
    }
}

#[derive(Debug)]
struct LakeScan {
    lake: Arc<Lake>,
    work: Arc<Work>,
    parts: Arc<Vec<FilePart>>,
    later: Arc<Vec<Manifest>>,
}

/// The scan of this work.
pub fn scan_of(lake: &Arc<Lake>, work: Work, portions: Vec<Portion>) -> Arc<dyn GateScan> {
    let (mut parts, mut later) = (Vec::new(), Vec::new());
    for portion in portions {
        match portion {
            Portion::File(part) => parts.push(part),
            Portion::Manifest(manifest) => later.push(manifest),
        }
    }
    Arc::new(LakeScan { lake: lake.clone(), work: Arc::new(work), parts: Arc::new(parts), later: Arc::new(later) })
}

/// The scan of work that was agreed for a lake.
pub fn scan(lake: &Arc<Lake>, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
    Ok(scan_of(lake, spec.unpack(FORM)?, spec.unpack_portions()?))
}

struct OpenCondition {
    predicate: Arc<dyn BatchPredicate>,
    places: Vec<usize>,
    /// As a condition that bounds of pages can decide, on the column at the place.
    pages: Option<(Expr, Column)>,
    /// Of keys of a join, the place where their use is counted.
    keys: Option<usize>,
}

#[async_trait]
impl GateScan for LakeScan {
    async fn open(&self, tools: &ScanTools) -> Result<Arc<dyn Portions>> {
        let work = &self.work;
        let (lake, name, file) = (self.lake.clone(), work.name.clone(), work.metadata.clone());
        let table = apart(move || lake.at(name, file)).await?;
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
                keys: None,
            });
        }
        for keys in &tools.keys {
            let known = keys.condition().filter(|_| work.tells_rows.is_none());
            let form = match &known {
                Some((_, form)) => format!("{form} for row groups, pages and a filter for rows"),
                None => "a filter for rows".to_owned(),
            };
            conditions.push(OpenCondition {
                predicate: keys.test.clone(),
                places: vec![work.output[keys.pass.place]],
                pages: known.map(|(condition, _)| (condition, keys.pass.column.clone())),
                keys: Some(tools.counters.used(keys, &form, 0)),
            });
        }
        let fields: Arc<[Field]> =
            self.lake.all_fields(&table, work.schema, &work.gone, work.tells_rows.is_some())?.into();
        let mapping = self.lake.mapping(&table)?;
        let told = self.parts.iter().filter(|part| !part.file.gone.places.is_empty());
        let paths = self.later.is_empty().then(|| told.map(|part| part.file.path.clone()).collect());
        let later = match self.later.is_empty() {
            true => None,
            false => {
                let (work, table, own) = (work.clone(), table.clone(), tools.clone());
                let looking = apart(move || work.looking(&table, &own.memory, &own.cancel)).await?;
                Some(Later::begin(looking, self.later.clone(), tools)?)
            }
        };
        let shared = Shared {
            gone: LoadedGone::new(work.gone.clone(), (paths, table.storage.clone()), fields.clone(), mapping.clone()),
            schema: schema_of(&work.output, |place| work.columns[place].sql_type.to_arrow()),
            lake: self.lake.clone(),
            storage: table.storage.clone(),
            fields,
            mapping,
            work: work.clone(),
            conditions,
            tools: tools.clone(),
        };
        Ok(Arc::new(LakePortions {
            shared: Arc::new(shared),
            parts: self.parts.clone(),
            next: AtomicUsize::new(0),
            later,
        }))
    }

    fn finds_more(&self) -> bool {
        !self.later.is_empty()
    }
}

impl Lake {
    /// The table as a metadata file has it.
    pub fn at(&self, name: TableName, file: StoredFile) -> Result<LakeTable> {
        let known = || self.tables.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(table) = known().get(&file.path, &file.version).filter(|known| known.name == name) {
            return Ok(table);
        }
        // Its catalog says where it is; by now it may have other metadata than those that are read.
        let catalog = self.catalog()?;
        let current = catalog.current(&name)?;
        let current = current.ok_or_else(|| Error::new(Code::UnknownTable, format!("the table {name} was dropped")))?;
        let is_last = current.file.path == file.path;
        let current = Current { file, document: current.document.filter(|_| is_last), named: None, ..current };
        LakeTable::open(&self.shared()?, name, current, false)
    }
}

struct Shared {
    lake: Arc<Lake>,
    storage: Arc<dyn Storage>,
    fields: Arc<[Field]>,
    mapping: Option<Arc<Vec<Mapped>>>,
    gone: LoadedGone,
    work: Arc<Work>,
    conditions: Vec<OpenCondition>,
    tools: ScanTools,
    schema: SchemaRef,
}

impl Shared {
    /// The conditions that are tested on the rows of a file: those of the question that some of them may not fulfil, and those of keys.
    fn tested(&self, file: &DataFile) -> impl Iterator<Item = &OpenCondition> {
        let certain = file.certain.clone();
        let all = self.conditions.iter().enumerate();
        all.filter(move |(place, _)| !certain.contains(place)).map(|(_, condition)| condition)
    }
}

/// Rows of a file that nothing is read of.
struct KnownRows {
    shared: Arc<Shared>,
    file: DataFile,
    /// Rows that have not come out yet.
    left: u64,
    places: RowPlaces,
    out: RowsOut,
}

#[async_trait]
impl PortionReader for KnownRows {
    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.left == 0 || self.out.is_full() {
            return Ok(None);
        }
        let rows = usize::try_from(self.left).unwrap_or(usize::MAX).min(self.shared.tools.batch_rows);
        self.left -= rows as u64;
        let places: ArrayRef = Arc::new(self.places.take(rows));
        let first = self.shared.work.tells_rows.unwrap_or_default();
        let of = |place: usize| match place == first {
            true => cobble_format::repeated(&row_places::of_file(&self.file.path).1, &SqlType::Text, rows),
            false => Ok(places.clone()),
        };
        self.out.batch(rows, &of).map(Some)
    }
}

struct LakePortions {
    shared: Arc<Shared>,
    parts: Arc<Vec<FilePart>>,
    next: AtomicUsize,
    later: Option<Later>,
}

#[async_trait]
impl Portions for LakePortions {
    async fn claim(&self) -> Result<Option<Box<dyn PortionReader>>> {
        while let Some(part) = self.parts.get(self.next.fetch_add(1, Ordering::Relaxed)) {
            if let Some(reader) = self.shared.clone().reader(part.clone(), part.file.rows).await? {
                return Ok(Some(reader));
            }
        }
        let Some(later) = &self.later else { return Ok(None) };
        // Rows of which nothing is asked need not come file by file.
        let only_counts = self.shared.work.output.is_empty();
        loop {
            let files = later.next(|file| only_counts && self.shared.knows_rows(file)).await?;
            let rows = files.iter().map(|file| file.rows).fold(0, u64::saturating_add);
            let Some(file) = files.into_iter().next() else { return Ok(None) };
            if let Some(reader) = self.shared.clone().reader(FilePart { file, within: None }, rows).await? {
                return Ok(Some(reader));
            }
        }
    }
}

impl Shared {
    /// Whether all rows of a file come out without reading it.
    fn knows_rows(&self, file: &DataFile) -> bool {
        self.work.knows_rows(file) && self.tools.keys.is_empty()
    }

    /// Leaves row groups out that have no row with one of the keys, by the bounds of the column or by its one value.
    fn skip_by_keys(&self, groups: &mut Vec<usize>, footer: &dyn Footer, fields: &FileFields, file: &DataFile) {
        for condition in &self.conditions {
            let (Some(keys), Some((expr, column)), [place]) =
                (condition.keys, &condition.pages, condition.places.as_slice())
            else {
                continue;
            };
            let constant = file.constants.iter().find(|(id, _)| *id == self.fields[*place].id);
            let constant =
                constant.filter(|(_, value)| !value.is_null()).map(|(_, value)| Range::single(value.clone()));
            let known = constant.is_none().then(|| ranges_of(footer, fields, &self.work, *place)).flatten();
            let before = groups.len();
            groups.retain(|group| {
                let range = constant.clone().or_else(|| known.as_ref()?.get(*group).cloned());
                may_match(expr, &range.map(|range| (column.id, range)).into_iter().collect())
            });
            self.tools.counters.skipped(keys, (before - groups.len()) as u64);
        }
    }

    /// The reader of a part, which stands for so many rows where these are known; none where keys leave nothing of it.
    async fn reader(self: Arc<Self>, own: FilePart, rows: u64) -> Result<Option<Box<dyn PortionReader>>> {
        if own.within.is_none() && self.knows_rows(&own.file) {
            let out = RowsOut::new(&self.work.output, self.schema.clone(), self.work.limit);
            let (file, places) = (own.file, RowPlaces::default());
            return Ok(Some(Box::new(KnownRows { shared: self, left: rows, file, places, out })));
        }
        let shared = self;
        let read = apart(move || {
            let Shared { lake, gone, tools, .. } = shared.as_ref();
            let footer = lake.footer(&shared.storage, &own.file.stored, &own.file.format, own.file.rows)?;
            let fields = lake.fields(&own.file, footer.as_ref(), &shared.fields, shared.mapping.as_deref())?;
            let mut groups = match own.within {
                Some(group) => vec![group],
                None => groups_left(footer.as_ref(), &fields, &shared.work),
            };
            shared.skip_by_keys(&mut groups, footer.as_ref(), &fields, &own.file);
            if groups.is_empty() {
                return Ok(None);
            }
            GateCounters::add(&tools.counters.requests, 1);
            let of_file = &own.file.gone;
            let places = gone.places(lake, &own.file.path, &of_file.places, tools)?;
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
                row_place: work.tells_rows.map(|first| first + 1).filter(|place| work.output.contains(place)),
                places: RowPlaces::default(),
                open: None,
                shared: shared.clone(),
            };
            for condition in shared.tested(&reader.file) {
                if reader.takes(condition) {
                    continue;
                }
                let type_of = |place: usize| work.columns[place].sql_type.to_arrow();
                reader.out.check(condition.predicate.clone(), &condition.places, type_of);
            }
            Ok(Some(reader))
        });
        Ok(read.await?.map(|reader| Box::new(reader) as Box<dyn PortionReader>))
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
    /// The column of the rows' places, if it comes out, and the places of the rows that come next.
    row_place: Option<usize>,
    places: RowPlaces,
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
        // Rows that the decoder has left out would not be counted.
        has && self.row_place.is_none() && (self.values.is_empty() || condition.pages.is_some())
    }

    /// The batches of a row group, and the places of their columns.
    fn begin(&mut self, group: usize) -> Result<(Box<dyn FileBatches>, Vec<usize>)> {
        let Shared { lake, work, tools, .. } = self.shared.as_ref();
        let mut wanted: Vec<usize> = work.output.clone();
        let own = || self.shared.tested(&self.file);
        wanted.extend(own().filter(|c| !self.takes(c)).flat_map(|c| c.places.iter().copied()));
        wanted.extend(self.values.iter().flat_map(|values| values.columns.iter().map(|(place, _)| *place)));
        let shape = work.shape(&wanted);
        let in_file: Vec<Arc<FileCondition>> = own()
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
        let of_group: Vec<u64> = self.gone.iter().copied().filter(here).collect();
        let gone: Vec<u64> = of_group.iter().map(|place| place - before).collect();
        let open = lake.opened(
            &self.shared.storage,
            &self.file.stored,
            &tools.cancel,
            &tools.counters.bytes,
            tools.memory.clone(),
        )?;
        let reading = PartReading {
            shape: &shape,
            layout: &self.fields.layout(),
            conditions: &in_file,
            gone: &gone,
            only: &[],
            batch_rows: tools.batch_rows,
            counters: &tools.counters,
            adapt: Some(self.fields.clone()),
        };
        let batches = self.footer.read(&open, group, &reading)?;
        self.places = RowPlaces::new(before, of_group);
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
            let mut columns = columns;
            let row_place = self.row_place;
            if row_place.is_some() {
                columns.push(Arc::new(self.places.take(rows)));
            }
            let (columns, rows) = self.there(&own, columns, rows)?;
            let fields = self.fields.clone();
            let of = |place: usize| match columns.last() {
                Some(places) if row_place == Some(place) => Ok(places.clone()),
                _ => column(&fields, &own, &columns, place, rows),
            };
            return self.out.batch(rows, &of).map(Some);
        }
    }
}
