//! Connector for files, on local disk, in an object store or behind a web server. Each data file at the address and each
//! sub-folder of data files is a table of the schema `public`. On disk a single file or a glob pattern as address gives one table.

mod discover;
mod in_bucket;
mod in_folder;
mod kinds;
mod listing;
mod offer;
mod root;
mod sample;
mod scan;
mod write;

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use async_trait::async_trait;
use cobble_connect::{
    ConnectionDefinition, Connector, Discovery, Forms, Looking, TableChange, TableDefinition, TableEntry, TestStep,
};
use cobble_format::row_groups::Judged;
use cobble_format::{Dialect, Footer, Format, Inferred, Known, OpenFile, column, row_groups, settled};
use cobble_network::test_steps::{counted, reporter};
use cobble_plan::draft::answer;
use cobble_plan::expr::Column;
use cobble_plan::facts::{FactRows, Facts, Filtered};
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::logical::{Origin, Table, TableColumn, TableKind};
use cobble_plan::offer::{DescribedTable, Source, Sources, Verdict};
use cobble_plan::sample::Sample;
use cobble_plan::scan::{GateScan, ScanMemory, ScanSpec, Unbounded};
use cobble_plan::sink::{NewRows, TableWriter};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_storage::{Storage, StoredFile};
use cobble_types::{Code, Error, ObjectName, Result, SqlType, TextForm, Value};
use listing::{DataFile, FileTable};
use root::Root;
use tokio_util::sync::CancellationToken;

pub use kinds::{FILES, HTTP, S3};

#[derive(Debug)]
pub struct FilesConnector {
    source: Arc<FilesSource>,
}

/// State shared by the tables of one connection.
#[derive(Debug)]
pub struct FilesSource {
    connection: String,
    kind: String,
    storage: Arc<dyn Storage>,
    region: Option<String>,
    /// Where tables may be written.
    writable: Option<Writable>,
    /// Bytes of the longest record of a text file.
    longest_record: u64,
    cache: Mutex<Cache>,
}

#[derive(Debug)]
enum Writable {
    Folder(PathBuf),
    Bucket,
}

/// Decoded footers, inferred columns and samples, kept while a file has the same version.
#[derive(Debug, Default)]
struct Cache {
    footers: Known<Arc<dyn Footer>>,
    inferred: Known<Inferred>,
    /// By the first file of a table.
    samples: Known<Arc<sample::Drawn>>,
}

/// One table's files, columns and footers: what an offer works on.
#[derive(Debug)]
pub struct FileSet {
    pub source: Arc<FilesSource>,
    pub format: Format,
    pub files: Vec<DataFile>,
    /// One per file, of a format that has them. `None` if planning reads only those of the files that the folders leave.
    pub footers: Option<Vec<Arc<dyn Footer>>>,
    pub columns: Vec<TableColumn>,
    /// Of CSV: how the files are written.
    pub dialect: Dialect,
    /// The columns were said; those that files have besides are not wanted.
    pub is_defined: bool,
}

impl FilesConnector {
    fn new(definition: &ConnectionDefinition, storage: Arc<dyn Storage>) -> Result<Arc<Self>> {
        let writable = definition.flag("writable")?.then(|| match definition.kind.as_str() {
            "s3" => Writable::Bucket,
            _ => Writable::Folder(PathBuf::from(&definition.address)),
        });
        let longest_record = definition.mebibytes("longest_record", cobble_format::LONGEST_RECORD)?;
        Ok(Arc::new(FilesConnector {
            source: Arc::new(FilesSource {
                writable,
                longest_record,
                connection: definition.name.clone(),
                kind: definition.kind.clone(),
                storage,
                region: definition.region.clone(),
                cache: Mutex::default(),
            }),
        }))
    }
}

/// Footers that are read at the same time, and as a sample of many files.
const FOOTERS_AT_ONCE: usize = 16;

/// A table of more files than this, whose columns are defined and whose folders tell files apart, reads footers as they are needed.
const FOOTERS_AS_NEEDED: usize = 64;

/// Runs work that touches the disk on a thread where it may wait.
async fn on_disk<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Error::internal(format!("a file task stopped: {e}")))?
}

#[async_trait]
impl Connector for FilesConnector {
    async fn schemas(&self) -> Result<Vec<String>> {
        Ok(vec!["public".to_owned()])
    }

    async fn tables(&self, schema: &str) -> Result<Vec<TableEntry>> {
        if schema != "public" {
            return Ok(Vec::new());
        }
        let source = self.source.clone();
        on_disk(move || {
            let groups = listing::groups(source.storage.as_ref())?;
            Ok(groups.into_keys().map(|name| TableEntry { name, kind: TableKind::Table }).collect())
        })
        .await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<DescribedTable>> {
        if schema != "public" {
            return Ok(None);
        }
        let (source, name) = (self.source.clone(), ObjectName::new(catalog, schema, table));
        on_disk(move || {
            let Some(found) = listing::groups(source.storage.as_ref())?.remove(&name.table) else { return Ok(None) };
            let found = listing::table(&source.connection, &name.table, found)?;
            describe(&source, name, found, &TableDefinition::default()).map(Some)
        })
        .await
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        let format = definition.format.as_deref().map(cobble_format::named).transpose()?;
        if definition.query.is_some() {
            return Err(Error::new(Code::Unsupported, "files have no language of their own for a query")
                .hint("define the table by the path of its files"));
        }
        cobble_format::csv::check(&definition.text_form())?;
        let takes = |sql_type: &SqlType| match format {
            Some(format) => format.takes(sql_type),
            None => cobble_format::ALL.iter().all(|format| format.takes(sql_type)),
        };
        match definition.columns.iter().find(|column| !takes(&column.sql_type)) {
            Some(column) => {
                Err(Error::new(Code::Unsupported, format!("column {column} has a type that CSV files do not hold"))
                    .hint("define it as text, and cast it where it is compared"))
            }
            None => Ok(()),
        }
    }

    async fn defined(&self, name: &ObjectName, definition: &TableDefinition) -> Result<DescribedTable> {
        let (source, name, definition) = (self.source.clone(), name.clone(), definition.clone());
        on_disk(move || {
            let found = listing::defined_table(&source.connection, source.storage.as_ref(), &name.table, &definition)?;
            describe(&source, name, found, &definition)
        })
        .await
    }

    async fn facts(
        &self,
        name: &ObjectName,
        definition: Option<&TableDefinition>,
        wanted: Facts,
        filtered: Option<&Filtered>,
    ) -> Result<Option<FactRows>> {
        if wanted != Facts::RowGroups {
            return Err(Error::new(Code::Unsupported, format!("{name} is no table of a lake")));
        }
        let (source, name, definition) = (self.source.clone(), name.clone(), definition.cloned());
        let filtered = filtered.cloned();
        on_disk(move || {
            let FileTable { format, files, partitions } = match definition {
                Some(definition) => {
                    listing::defined_table(&source.connection, source.storage.as_ref(), &name.table, &definition)?
                }
                None => match listing::groups(source.storage.as_ref())?.remove(&name.table) {
                    Some(found) if name.schema == "public" => listing::table(&source.connection, &name.table, found)?,
                    _ => return Ok(None),
                },
            };
            if format.parts().is_none() {
                let what = format!("{name}: {} files have no row groups", format.words());
                return Err(Error::new(Code::Unsupported, what));
            }
            let mut rows = row_groups::rows();
            let read = match filtered.as_ref().and_then(|own| own.scan.as_ref()) {
                Some(spec) => spec.unpack_portions::<scan::Portion>()?,
                None => vec![],
            };
            let read: HashSet<_> = read.into_iter().map(|own| (own.file.stored.path, own.within)).collect();
            for (footer, file) in source.footers(format, &files)?.into_iter().zip(&files) {
                let columns = footer.columns()?;
                let named: Vec<_> = columns.iter().map(|column| (column.name.clone(), column)).collect();
                let constants = partitions.iter().map(|(name, _)| name.clone()).zip(file.partition.iter().cloned());
                let judged =
                    filtered.as_ref().map(|filtered| Judged { filtered, read: &read, constants: constants.collect() });
                row_groups::add(&mut rows, footer.as_ref(), &named, judged.as_ref())?;
            }
            Ok(Some(rows))
        })
        .await
    }

    fn scan(&self, spec: &ScanSpec) -> Result<Arc<dyn GateScan>> {
        scan::scan(&self.source, spec)
    }

    async fn discover(&self, path: &str, forms: &Forms, looking: &Arc<Looking>) -> Result<Discovery> {
        let (source, path, looking) = (self.source.clone(), path.to_owned(), looking.clone());
        let forms = forms.clone();
        on_disk(move || discover::discover(&source, &path, &forms, &looking)).await
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        let source = self.source.clone();
        on_disk(move || {
            let root = source.root(&rows.schema)?;
            Ok(Box::new(write::FilesWriter::new(&source, &root, rows)?) as Box<dyn TableWriter>)
        })
        .await
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let (source, schema, table) = (self.source.clone(), schema.to_owned(), table.to_owned());
        on_disk(move || source.root(&schema)?.change_table(&source, &table, change)).await
    }

    fn storage(&self) -> Option<Arc<dyn Storage>> {
        Some(self.source.storage.clone())
    }

    async fn sweep(&self) -> Result<usize> {
        let source = self.source.clone();
        on_disk(move || match source.root("public") {
            Ok(root) => root.sweep(&source),
            // It only reads.
            Err(_) => Ok(0),
        })
        .await
    }

    fn has_changed(&self) -> bool {
        self.source.storage.has_changed()
    }

    fn refresh(&self) {
        *self.source.cache.lock().unwrap_or_else(PoisonError::into_inner) = Cache::default();
    }

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        // The steps are taken where they may wait, and told here as they come.
        let source = self.source.clone();
        let (send, mut steps) = tokio::sync::mpsc::unbounded_channel();
        let taken = tokio::task::spawn_blocking(move || source.test(&mut |step| drop(send.send(step))));
        while let Some(step) = steps.recv().await {
            report(step);
        }
        // A failed step has been told; nothing else comes back.
        let _ = taken.await;
    }
}

/// Opens what is needed to know a table's columns and sizes; what the definition says is not looked for.
fn describe(
    source: &Arc<FilesSource>,
    name: ObjectName,
    table: FileTable,
    definition: &TableDefinition,
) -> Result<DescribedTable> {
    let FileTable { format, files, partitions, .. } = table;
    let mut footers: Option<Vec<Arc<dyn Footer>>> = Some(Vec::new());
    let mut statistics = TableStatistics::default();
    let mut dialect = Dialect::default();
    let is_defined = !definition.columns.is_empty();
    let said: Vec<TableColumn> = {
        let of_files = definition.columns.iter().filter(|c| partitions.iter().all(|(key, _)| *key != c.name));
        of_files.map(|c| column(&c.name, c.sql_type.clone())).collect()
    };
    let as_needed = is_defined && !partitions.is_empty() && files.len() > FOOTERS_AS_NEEDED;
    let mut columns = if format.parts().is_some() && as_needed && source.known_footers(&files).is_none() {
        let sample: Vec<DataFile> =
            (0..FOOTERS_AT_ONCE).map(|n| files[n * files.len() / FOOTERS_AT_ONCE].clone()).collect();
        let known = source.footers(format, &sample)?;
        cobble_format::check_columns(&source.connection, &known, &said)?;
        let bytes = |files: &[DataFile]| files.iter().map(|file| file.stored.bytes as f64).sum::<f64>();
        let of_sample = cobble_format::statistics(String::new(), &known, &[]);
        statistics.rows = of_sample.rows.map(|rows| (rows * bytes(&files) / bytes(&sample).max(1.0)).round());
        statistics.origin = Some(format!("{} of {} {} footers", sample.len(), files.len(), format.name()));
        footers = None;
        said
    } else if format.parts().is_some() {
        let all = source.footers(format, &files)?;
        if is_defined {
            cobble_format::check_columns(&source.connection, &all, &said)?;
        }
        let columns = if is_defined { said } else { cobble_format::united_columns(&source.connection, &all)? };
        statistics = cobble_format::statistics(format!("{} footers", format.name()), &all, &columns);
        footers = Some(all);
        columns
    } else {
        let inferred = source.inferred(format, &files, definition)?;
        let bytes: u64 = files.iter().map(|file| file.stored.bytes).sum();
        statistics.rows = inferred.row_width.map(|width| (bytes as f64 / width).round());
        statistics.origin = Some("size of the files and width of sampled rows".to_owned());
        dialect = inferred.dialect.with(&definition.text_form())?;
        let settled = |c: TableColumn| TableColumn { sql_type: settled(&c.sql_type), ..c };
        if is_defined { said } else { inferred.columns.into_iter().map(settled).collect() }
    };
    statistics.bytes = Some(files.iter().map(|file| file.stored.bytes as f64).sum());
    statistics.columns.resize(columns.len(), ColumnStatistics::default());
    for (place, (key, sql_type)) in partitions.into_iter().enumerate() {
        if columns.iter().any(|column| column.name == key) {
            continue;
        }
        let mut values: Vec<&Value> = files.iter().filter_map(|file| file.partition.get(place)).collect();
        values.sort_by(|a, b| a.compare(b).unwrap_or(std::cmp::Ordering::Equal));
        values.dedup();
        statistics.columns.push(ColumnStatistics {
            distinct: Some(values.len() as f64),
            min: values.first().map(|v| (*v).clone()),
            max: values.last().map(|v| (*v).clone()),
            null_fraction: Some(0.0),
            width: None,
            ..ColumnStatistics::default()
        });
        columns.push(TableColumn {
            name: key,
            sql_type,
            nullable: false,
            partition: true,
            comment: Some("from the folder's name".into()),
        });
    }
    let (source, described) = (source.clone(), columns.clone());
    let set = Arc::new(FileSet { source, format, files, footers, columns: described, dialect, is_defined });
    let said = match *definition == TableDefinition::default() {
        true => None,
        false => Some(serde_json::to_string(definition).map_err(|e| Error::internal(e.to_string()))?),
    };
    let origin = Origin {
        reads_fields: true,
        definition: said,
        ..Origin::new(&set.source.connection, &set.source.kind, set.source.region.as_deref())
    };
    let table = Table { name, columns, statistics, primary_key: vec![], kind: TableKind::Table, origin };
    Ok(DescribedTable::new(table, FileTableSource(set)))
}

impl FilesSource {
    /// Where tables are written.
    fn root(&self, schema: &str) -> Result<Root<'_>> {
        match &self.writable {
            Some(Writable::Folder(folder)) if folder.is_dir() && schema == "public" => {
                cobble_network::roots::checked(&self.connection, folder)?;
                Ok(Root::Folder(folder))
            }
            Some(Writable::Bucket) if schema == "public" => Ok(Root::Bucket(self)),
            _ => {
                let what = format!("connection {} does not allow writing", self.connection);
                Err(Error::new(Code::Unsupported, what).hint(
                    "set writable = true for a connection of kind files whose address is a folder, or of kind s3",
                ))
            }
        }
    }

    /// The way to the files, the tables, and of each table what makes its columns known.
    fn test(self: &Arc<Self>, report: &mut (dyn FnMut(TestStep) + Send)) {
        if !self.storage.reach(&mut *report) {
            return;
        }
        let mut step = reporter(report);
        let started = Instant::now();
        let listed = listing::groups(self.storage.as_ref()).and_then(|tables| match tables.len() {
            0 => Err(Error::new(Code::NotFound, format!("{} holds no data files", self.storage.address())).hint(
                format!(
                    "files that end in {} are tables; check that the address is the right folder",
                    cobble_format::endings()
                ),
            )),
            _ => Ok(tables),
        });
        let found = listed.as_ref().map(|tables| counted(tables.len(), "table")).map_err(Clone::clone);
        if !step("list", started, found, "address") {
            return;
        }
        for (table, found) in listed.unwrap_or_default() {
            let started = Instant::now();
            let name = ObjectName::new(&self.connection, "public", &table);
            let read = listing::table(&self.connection, &table, found)
                .and_then(|table| describe(self, name, table, &TableDefinition::default()))
                .map(|found| format!("{}: {}", found.table.name.table, counted(found.table.columns.len(), "column")));
            // Listing went well: where reading is refused, the user lacks a right.
            let setting = match &read {
                Err(error) if error.code == Code::SourceRefused => "user",
                _ => "address",
            };
            if !step("read", started, read, setting) {
                return;
            }
        }
    }

    fn cached<T: Clone>(
        &self,
        file: &StoredFile,
        said: &str,
        pick: fn(&mut Cache) -> &mut Known<T>,
        read: impl FnOnce() -> Result<T>,
        bytes: impl FnOnce(&T) -> usize,
    ) -> Result<T> {
        let current = format!("{}{said}", file.version);
        {
            let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(known) = pick(&mut cache).get(&file.path, &current) {
                return Ok(known);
            }
        }
        let fresh = read()?;
        let taken = bytes(&fresh);
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        pick(&mut cache).keep(&file.path, current, fresh.clone(), taken);
        Ok(fresh)
    }

    /// Opens a file; what is read of it is counted.
    fn open(
        &self,
        file: &StoredFile,
        cancel: &CancellationToken,
        read_bytes: &Arc<AtomicU64>,
        memory: Arc<dyn ScanMemory>,
    ) -> Result<OpenFile> {
        Ok(OpenFile {
            connection: self.connection.clone(),
            file: file.clone(),
            blob: self.storage.open(file, cancel)?,
            read_bytes: read_bytes.clone(),
            longest_record: self.longest_record,
            memory,
        })
    }

    fn opened(&self, file: &StoredFile) -> Result<OpenFile> {
        self.open(file, &CancellationToken::new(), &Arc::default(), Arc::new(Unbounded))
    }

    fn footer(&self, format: Format, file: &StoredFile) -> Result<Arc<dyn Footer>> {
        let read = || format.footer(&self.opened(file)?);
        self.cached(file, "", |cache| &mut cache.footers, read, |footer| footer.memory())
    }

    /// The footers of these files, in their order, if all of them are known.
    fn known_footers(&self, files: &[DataFile]) -> Option<Vec<Arc<dyn Footer>>> {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        files.iter().map(|file| cache.footers.get(&file.stored.path, &file.stored.version)).collect()
    }

    /// The footers of these files, in their order. Storage answers one request as fast as many, so many are sent at a time.
    fn footers(&self, format: Format, files: &[DataFile]) -> Result<Vec<Arc<dyn Footer>>> {
        let next = AtomicUsize::new(0);
        let work = || {
            let mut read = Vec::new();
            while let Some(place) = Some(next.fetch_add(1, Ordering::Relaxed)).filter(|place| *place < files.len()) {
                let footer = self.footer(format, &files[place].stored);
                let failed = footer.is_err();
                read.push((place, footer));
                if failed {
                    next.store(files.len(), Ordering::Relaxed);
                }
            }
            read
        };
        let threads = FOOTERS_AT_ONCE.min(files.len().div_ceil(4)).max(1);
        let mut read: Vec<(usize, Result<Arc<dyn Footer>>)> = std::thread::scope(|scope| {
            let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
            let mut all = work();
            for thread in others {
                all.extend(thread.join().unwrap_or_default());
            }
            all
        });
        read.sort_by_key(|(place, _)| *place);
        // Of several errors that of the first file.
        let footers: Vec<_> = read.into_iter().map(|(_, footer)| footer).collect::<Result<_>>()?;
        match footers.len() == files.len() {
            true => Ok(footers),
            false => Err(Error::internal("a thread that reads footers has stopped")),
        }
    }

    fn inferred(&self, format: Format, files: &[DataFile], definition: &TableDefinition) -> Result<Inferred> {
        // The largest file is the likeliest to show every column.
        let Some(sample) = files.iter().max_by_key(|file| file.stored.bytes) else {
            return Err(Error::internal("a table without files"));
        };
        self.inferred_of(format, &sample.stored, &definition.text_form(), definition.path.is_some())
    }

    fn inferred_of(&self, format: Format, sample: &StoredFile, form: &TextForm, defined: bool) -> Result<Inferred> {
        // What is said of its text makes the same file another one.
        let said = match (form.is_silent(), defined) {
            (false, defined) => format!("{form:?}{defined}"),
            (true, true) => "defined".to_owned(),
            (true, false) => String::new(),
        };
        let read = || format.infer(&self.opened(sample)?, form, defined);
        let bytes = |known: &Inferred| known.columns.iter().map(|column| 256 + column.name.len()).sum();
        self.cached(sample, &said, |cache| &mut cache.inferred, read, bytes)
    }
}

/// A described table, of which fragments are answered.
#[derive(Debug)]
struct FileTableSource(Arc<FileSet>);

#[async_trait]
impl Source for FileTableSource {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        answer(fragment, |scan| Ok(offer::FileDraft::new(self.0.clone(), scan))).await
    }

    async fn takes_keys(&self, spec: &ScanSpec, place: usize, _: &Column, _: f64) -> Result<Verdict> {
        offer::takes_keys(&self.0, spec, place)
    }

    async fn sample(&self, places: &[usize]) -> Result<Option<Sample>> {
        let (set, places) = (self.0.clone(), places.to_vec());
        on_disk(move || set.sample(&places)).await
    }
}

/// The type of a folder value: a number or a date when all are, else text.
fn partition_type(values: &[&str]) -> SqlType {
    let all = |t: &SqlType| values.iter().all(|v| cobble_types::parse::parse_value(v, t).is_ok());
    let candidates = [SqlType::BigInt, SqlType::Date];
    let plain_numbers = values.iter().all(|v| !v.starts_with('0') || *v == "0");
    let dates = values.iter().all(|v| v.len() == 10);
    match candidates.into_iter().find(|t| all(t)) {
        Some(SqlType::BigInt) if plain_numbers => SqlType::BigInt,
        Some(SqlType::Date) if dates => SqlType::Date,
        _ => SqlType::Text,
    }
}
