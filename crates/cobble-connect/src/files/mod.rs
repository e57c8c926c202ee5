//! Connector for files, on local disk, in an object store or behind a web server. Each data file at the address and each
//! sub-folder of data files is a table of the schema `public`. On disk a single file or a glob pattern as address gives one table.

mod arrow_formats;
mod csv_format;
mod dialect;
mod discover;
pub(crate) mod encoding;
mod format;
mod infer;
mod json_format;
mod json_objects;
mod listing;
pub(crate) mod marks;
mod offer;
mod orc;
mod pages;
mod parquet_format;
mod prune;
mod scan;
mod storage;
mod united;
mod write;

use std::collections::HashMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use arrow::datatypes::Field;

use async_trait::async_trait;
use cobble_plan::logical::{Scan, Table, TableColumn, TableKind};
use cobble_plan::offer::{Offer, ScanTools, Source};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType, Value};

use crate::connector::{Connector, NewRows, TableChange, TableEntry, TableWriter, TestStep};
use crate::definition::{ConnectionDefinition, KindDescription, SettingDescription};
use crate::server_steps::{counted, reporter};
use crate::table_definition::{Discovery, Forms, Looking, TableDefinition};
use dialect::Dialect;
use format::{Format, Packing};
use listing::{DataFile, FileTable};
use parquet_format::{Footer, Layout};
use storage::{Disk, Objects, Ordered, Storage};
use tokio_util::sync::CancellationToken;

pub(crate) use infer::{Guess, json_type, merge as merge_types, settled};
pub use storage::{HTTP, S3};

pub const KIND: KindDescription = KindDescription {
    kind: "files",
    about: "CSV, JSON, Parquet, Avro, Arrow and ORC files in a folder",
    settings: &[
        SettingDescription {
            name: "address",
            label: "Folder",
            help: "the folder, for example /srv/ferries/drop; a single file or a pattern such as /srv/*.csv works too",
            required: true,
            secret: false,
            default: None,
        },
        SettingDescription {
            name: "writable",
            label: "Tables may be written",
            help: "true lets CREATE TABLE … AS and INSERT INTO … SELECT write into the folder",
            required: false,
            secret: false,
            default: Some("false"),
        },
        SettingDescription {
            name: "region",
            label: "Region",
            help: "where the files are, for the cost of moving data",
            required: false,
            secret: false,
            default: None,
        },
    ],
};

#[derive(Debug)]
pub struct FilesConnector {
    source: Arc<FilesSource>,
}

/// What the tables of one connection share.
#[derive(Debug)]
pub struct FilesSource {
    connection: String,
    kind: String,
    storage: Box<dyn Storage>,
    region: Option<String>,
    /// The folder that tables may be written into.
    writable: Option<PathBuf>,
    cache: Mutex<Cache>,
}

/// Decoded footers and inferred columns, kept while a file has the same version.
#[derive(Debug, Default)]
struct Cache {
    footers: Known<Arc<Footer>>,
    inferred: Known<infer::Inferred>,
}

/// What is known of a file, with the version it had.
type Known<T> = HashMap<PathBuf, (String, T)>;

/// One table's files, columns and footers: what an offer works on.
#[derive(Debug)]
pub struct FileSet {
    pub source: Arc<FilesSource>,
    pub format: Format,
    pub files: Vec<DataFile>,
    /// One per file, for Parquet.
    pub footers: Vec<Arc<Footer>>,
    /// Where the columns stand in each file, for Parquet.
    pub layouts: Vec<Layout>,
    pub columns: Vec<TableColumn>,
    /// Of CSV: how the files are written.
    pub dialect: Dialect,
    /// The columns were said; those that files have besides are not wanted.
    pub is_defined: bool,
}

impl FilesConnector {
    pub fn new(definition: &ConnectionDefinition) -> Result<Arc<Self>> {
        let storage: Box<dyn Storage> = match definition.kind.as_str() {
            "s3" => Box::new(Objects::s3(definition)?),
            "http" => Box::new(Objects::http(definition)?),
            _ => Box::new(Disk::new(&definition.name, &definition.address)),
        };
        let writable = definition.flag("writable")?.then(|| PathBuf::from(&definition.address));
        Ok(Arc::new(FilesConnector {
            source: Arc::new(FilesSource {
                writable,
                connection: definition.name.clone(),
                kind: definition.kind.clone(),
                storage,
                region: definition.region.clone(),
                cache: Mutex::default(),
            }),
        }))
    }
}

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
            let tables = source.tables()?;
            Ok(tables.into_iter().map(|t| TableEntry { name: t.name, kind: TableKind::Table }).collect())
        })
        .await
    }

    async fn table(&self, catalog: &str, schema: &str, table: &str) -> Result<Option<Arc<Table>>> {
        if schema != "public" {
            return Ok(None);
        }
        let (source, name) = (self.source.clone(), ObjectName::new(catalog, schema, table));
        on_disk(move || {
            let tables = source.tables()?;
            match tables.into_iter().find(|t| t.name == name.table) {
                Some(found) => describe(&source, name, found, &TableDefinition::default()).map(Some),
                None => Ok(None),
            }
        })
        .await
    }

    fn check_definition(&self, definition: &TableDefinition) -> Result<()> {
        match definition.format.as_deref().map(Format::named).transpose() {
            Ok(_) if definition.query.is_some() => {
                Err(Error::new(Code::Unsupported, "files have no language of their own for a query")
                    .hint("define the table by the path of its files"))
            }
            Ok(format) => {
                // Only values of CSV are brought into the one form of UUIDs that compares.
                let uuid = definition.columns.iter().find(|column| column.sql_type == SqlType::Uuid);
                match uuid.filter(|_| format != Some(Format::Csv)) {
                    Some(column) => Err(Error::new(Code::Unsupported, format!("column {column} is of no CSV file"))
                        .hint("define it as text, and cast it where it is compared")),
                    None => Ok(()),
                }
            }
            Err(error) => Err(error),
        }
    }

    async fn defined(&self, name: &ObjectName, definition: &TableDefinition) -> Result<Arc<Table>> {
        let (source, name, definition) = (self.source.clone(), name.clone(), definition.clone());
        on_disk(move || {
            let found = listing::defined_table(&source.connection, source.storage.as_ref(), &name.table, &definition)?;
            describe(&source, name, found, &definition)
        })
        .await
    }

    async fn discover(&self, path: &str, forms: &Forms, looking: &Arc<Looking>) -> Result<Discovery> {
        let (source, path, looking) = (self.source.clone(), path.to_owned(), looking.clone());
        let forms = forms.clone();
        on_disk(move || discover::discover(&source, &path, &forms, &looking)).await
    }

    async fn writer(&self, rows: NewRows) -> Result<Box<dyn TableWriter>> {
        let source = self.source.clone();
        on_disk(move || {
            let folder = source.folder_to_write(&rows.schema)?.to_owned();
            Ok(Box::new(write::FolderWriter::new(&source, &folder, rows)?) as Box<dyn TableWriter>)
        })
        .await
    }

    async fn change_table(&self, schema: &str, table: &str, change: TableChange) -> Result<()> {
        let (source, schema, table) = (self.source.clone(), schema.to_owned(), table.to_owned());
        on_disk(move || {
            let folder = source.folder_to_write(&schema)?.to_owned();
            write::change_table(&source, &folder, &table, change)
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
) -> Result<Arc<Table>> {
    let FileTable { format, files, partitions, .. } = table;
    let mut footers = Vec::new();
    let mut statistics = TableStatistics::default();
    let mut dialect = Dialect::default();
    let is_defined = !definition.columns.is_empty();
    let said: Vec<TableColumn> = {
        let of_files = definition.columns.iter().filter(|c| partitions.iter().all(|(key, _)| *key != c.name));
        of_files.map(|c| infer::column(&c.name, c.sql_type.clone())).collect()
    };
    let mut columns = match format {
        Format::Parquet => {
            for file in &files {
                footers.push(source.footer(file)?);
            }
            let columns = match is_defined {
                true => said,
                false => parquet_format::united_columns(&source.connection, &files, &footers)?,
            };
            if is_defined {
                parquet_format::check_columns(&source.connection, &files, &footers, &columns)?;
            }
            statistics = parquet_format::statistics(&footers, &columns);
            columns
        }
        Format::Csv | Format::Json | Format::Avro | Format::Arrow | Format::Orc => {
            let inferred = source.inferred(format, &files, definition)?;
            let bytes: u64 = files.iter().map(|file| file.bytes).sum();
            statistics.rows = inferred.row_width.map(|width| (bytes as f64 / width).round());
            statistics.origin = Some("size of the files and width of sampled rows".to_owned());
            dialect = inferred.dialect.with(definition)?;
            let settled = |c: TableColumn| TableColumn { sql_type: infer::settled(&c.sql_type), ..c };
            if is_defined { said } else { inferred.columns.into_iter().map(settled).collect() }
        }
    };
    statistics.bytes = Some(files.iter().map(|file| file.bytes as f64).sum());
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
    let layouts = footers.iter().map(|footer| footer.layout(&columns)).collect();
    let (source, described) = (source.clone(), columns.clone());
    let set = Arc::new(FileSet { source, format, files, footers, layouts, columns: described, dialect, is_defined });
    let source = Arc::new(FileTableSource(set));
    Ok(Arc::new(Table { name, columns, statistics, primary_key: vec![], kind: TableKind::Table, source }))
}

impl FilesSource {
    /// The folder that tables are written into.
    fn folder_to_write(&self, schema: &str) -> Result<&Path> {
        match self.writable.as_deref().filter(|folder| folder.is_dir() && schema == "public") {
            Some(folder) => Ok(folder),
            None => {
                let what = format!("connection {} may not write tables", self.connection);
                Err(Error::new(Code::Unsupported, what)
                    .hint("set writable = true for a connection of kind files whose address is a folder"))
            }
        }
    }

    fn tables(&self) -> Result<Vec<FileTable>> {
        listing::tables(&self.connection, self.storage.as_ref())
    }

    /// The way to the files, the tables, and of each table what makes its columns known.
    fn test(self: &Arc<Self>, report: &mut (dyn FnMut(TestStep) + Send)) {
        if !self.storage.reach(&mut *report) {
            return;
        }
        let mut step = reporter(report);
        let started = Instant::now();
        let listed = self.tables().and_then(|tables| match tables.len() {
            0 => Err(Error::new(Code::NotFound, format!("{} holds no data files", self.storage.address())).hint(
                format!("files that end in {} are tables; check that the address is the right folder", format::ENDINGS),
            )),
            _ => Ok(tables),
        });
        let found = listed.as_ref().map(|tables| counted(tables.len(), "table")).map_err(Clone::clone);
        if !step("list", started, found, "address") {
            return;
        }
        for table in listed.unwrap_or_default() {
            let started = Instant::now();
            let name = ObjectName::new(&self.connection, "public", &table.name);
            let read = describe(self, name, table, &TableDefinition::default())
                .map(|described| format!("{}: {}", described.name.table, counted(described.columns.len(), "column")));
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
        file: &DataFile,
        pick: fn(&mut Cache) -> &mut Known<T>,
        read: impl FnOnce() -> Result<T>,
    ) -> Result<T> {
        {
            let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((version, known)) = pick(&mut cache).get(&file.path)
                && *version == file.version
            {
                return Ok(known.clone());
            }
        }
        let fresh = read()?;
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        pick(&mut cache).insert(file.path.clone(), (file.version.clone(), fresh.clone()));
        Ok(fresh)
    }

    fn footer(&self, file: &DataFile) -> Result<Arc<Footer>> {
        self.cached(
            file,
            |cache| &mut cache.footers,
            || {
                let blob = self.storage.open(file, &CancellationToken::new())?;
                Ok(Arc::new(Footer::read(&self.connection, file, blob)?))
            },
        )
    }

    fn inferred(&self, format: Format, files: &[DataFile], definition: &TableDefinition) -> Result<infer::Inferred> {
        // The largest file is the likeliest to show every column.
        let Some(sample) = files.iter().max_by_key(|file| file.bytes) else {
            return Err(Error::internal("a table without files"));
        };
        self.inferred_of(format, sample, definition)
    }

    fn inferred_of(&self, format: Format, sample: &DataFile, definition: &TableDefinition) -> Result<infer::Inferred> {
        // What is said of the dialect makes the same file another one.
        let said = match (definition.says_how_text_is_written(), &definition.path) {
            (true, path) => format!("{:?}{}", definition.text_form(), path.is_some()),
            (false, Some(_)) => "defined".to_owned(),
            (false, None) => String::new(),
        };
        let version = format!("{}{said}", sample.version);
        self.cached(
            &DataFile { version, ..sample.clone() },
            |cache| &mut cache.inferred,
            || {
                let blob = self.storage.open(sample, &CancellationToken::new())?;
                let packing = Packing::of(&sample.path);
                if !format.is_text() {
                    return arrow_formats::columns(&self.connection, sample, format, blob);
                }
                let input = Ordered::new(blob, Arc::default());
                let input =
                    packing.unpacked(input).map_err(|e| text_error(&self.connection, sample, &e, e.to_string()))?;
                let mut inferred = match format {
                    Format::Csv => infer::csv(&self.connection, sample, input, definition)?,
                    _ => infer::json(&self.connection, sample, json_objects::ObjectLines::new(input))?,
                };
                // How much a packed file holds is not known by its size.
                inferred.row_width = inferred.row_width.filter(|_| packing == Packing::None);
                Ok(inferred)
            },
        )
    }

    /// A text file from its start, unpacked; what is read is counted.
    fn text(&self, file: &DataFile, tools: &ScanTools) -> Result<Box<dyn Read + Send>> {
        let blob = self.storage.open(file, &tools.cancel)?;
        let input = Ordered::new(blob, tools.counters.clone());
        Packing::of(&file.path).unpacked(input).map_err(|e| text_error(&self.connection, file, &e, e.to_string()))
    }
}

/// A described table, to begin offers with.
#[derive(Debug)]
struct FileTableSource(Arc<FileSet>);

impl Source for FileTableSource {
    fn connection(&self) -> &str {
        &self.0.source.connection
    }

    fn kind(&self) -> &str {
        &self.0.source.kind
    }

    fn region(&self) -> Option<&str> {
        self.0.source.region.as_deref()
    }

    fn reads_fields(&self) -> bool {
        true
    }

    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        Box::new(offer::FileOffer::new(self.0.clone(), scan))
    }
}

/// An error about a file, with the connection and the path.
fn file_error(connection: &str, path: &Path, code: Code, what: impl std::fmt::Display) -> Error {
    Error::new(code, format!("connection {connection}: {}: {what}", path.display()))
}

/// A file that is not the one any more that the query was planned with.
fn changed(connection: &str, path: &Path) -> Error {
    file_error(connection, path, Code::SourceData, "it was changed while the query was being made ready")
        .hint("run the query again; write new files beside old ones rather than over them")
}

/// An error of our own that another one carries.
fn own_error(error: &(dyn std::error::Error + 'static)) -> Option<Error> {
    if let Some(own) = error.downcast_ref::<Error>() {
        return Some(own.clone());
    }
    if let Some(inner) = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref) {
        return own_error(inner);
    }
    error.source().and_then(own_error)
}

/// What went wrong while a text file was read: with its storage, or with the text.
fn text_error(connection: &str, file: &DataFile, error: &(dyn std::error::Error + 'static), what: String) -> Error {
    own_error(error).unwrap_or_else(|| file_error(connection, &file.path, Code::SourceData, what))
}

/// The engine's type of a file's column.
fn sql_type(connection: &str, file: &DataFile, field: &Field) -> Result<SqlType> {
    SqlType::from_arrow(field.data_type()).ok_or_else(|| {
        let what =
            format!("column {} has the type {}, which the engine does not know", field.name(), field.data_type());
        file_error(connection, &file.path, Code::Unsupported, what)
    })
}

fn io_error(connection: &str, path: &Path, error: &std::io::Error) -> Error {
    use std::io::ErrorKind;
    match error.kind() {
        ErrorKind::NotFound => file_error(connection, path, Code::NotFound, "there is no such file or folder")
            .hint("check the connection's address; a relative one starts at the folder where the service was started"),
        ErrorKind::PermissionDenied => file_error(connection, path, Code::SourceRefused, "reading is not allowed")
            .hint("give the user that runs the service the right to read it"),
        _ => file_error(connection, path, Code::SourceUnreachable, error),
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
