//! Connector for files on local disk. The address is a folder; each data file in it and each sub-folder of data files is a
//! table of the schema `public`. A single file or a glob pattern as address gives one table.

mod csv_format;
mod infer;
mod jsonl_format;
mod listing;
mod offer;
mod pages;
mod parquet_format;
mod prune;
mod scan;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Instant, SystemTime};

use async_trait::async_trait;
use cobble_plan::logical::{Scan, Table, TableColumn, TableKind};
use cobble_plan::offer::{Offer, Source};
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType, Value};

use crate::connector::{Connector, TableEntry, TestStep};
use crate::definition::{ConnectionDefinition, KindDescription, SettingDescription};
use listing::{DataFile, FileTable};
use parquet_format::Footer;

pub const KIND: KindDescription = KindDescription {
    kind: "files",
    about: "CSV, JSON lines and Parquet files in a folder",
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
    address: PathBuf,
    region: Option<String>,
    cache: Mutex<Cache>,
}

/// Decoded footers and inferred columns, kept while a file has the same size and time.
#[derive(Debug, Default)]
struct Cache {
    footers: Known<Arc<Footer>>,
    inferred: Known<infer::Inferred>,
}

/// What is known of a file, with the size and time it had.
type Known<T> = HashMap<PathBuf, (u64, SystemTime, T)>;

/// One table's files, columns and footers: what an offer works on.
#[derive(Debug)]
pub struct FileSet {
    pub source: Arc<FilesSource>,
    pub format: Format,
    pub files: Vec<DataFile>,
    /// One per file, for Parquet.
    pub footers: Vec<Arc<Footer>>,
    pub columns: Vec<TableColumn>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    Csv,
    JsonLines,
    Parquet,
}

impl Format {
    fn of(path: &Path) -> Option<Format> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "csv" => Some(Format::Csv),
            "jsonl" | "ndjson" => Some(Format::JsonLines),
            "parquet" => Some(Format::Parquet),
            _ => None,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Format::Csv => "CSV",
            Format::JsonLines => "JSON lines",
            Format::Parquet => "Parquet",
        }
    }
}

impl FilesConnector {
    pub fn new(definition: &ConnectionDefinition) -> Arc<Self> {
        Arc::new(FilesConnector {
            source: Arc::new(FilesSource {
                connection: definition.name.clone(),
                address: PathBuf::from(&definition.address),
                region: definition.region.clone(),
                cache: Mutex::default(),
            }),
        })
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
            let tables = listing::tables(&source.connection, &source.address)?;
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
            let tables = listing::tables(&source.connection, &source.address)?;
            match tables.into_iter().find(|t| t.name == name.table) {
                Some(found) => describe(&source, name, found).map(Some),
                None => Ok(None),
            }
        })
        .await
    }

    fn refresh(&self) {
        *self.source.cache.lock().unwrap_or_else(PoisonError::into_inner) = Cache::default();
    }

    async fn test(&self, report: &mut (dyn FnMut(TestStep) + Send)) {
        let source = self.source.clone();
        let mut step = |name: &str, started: Instant, outcome: &Result<String>| {
            report(TestStep {
                step: name.to_owned(),
                passed: outcome.is_ok(),
                detail: outcome.as_ref().map_or_else(|e| e.message.clone(), String::clone),
                setting: outcome.is_err().then(|| "address".to_owned()),
                fix: outcome.as_ref().err().and_then(|e| e.hint.clone()),
                seconds: started.elapsed().as_secs_f64(),
            });
            outcome.is_ok()
        };
        let started = Instant::now();
        let (s, address) = (source.clone(), source.address.clone());
        let listed = on_disk(move || listing::tables(&s.connection, &s.address)).await;
        let reached = listed.as_ref().map(|_| format!("{} is there", address.display())).map_err(Clone::clone);
        if !step("reach", started, &reached) {
            return;
        }
        let tables = listed.unwrap_or_default();
        let found = match tables.len() {
            0 => Err(Error::new(Code::NotFound, format!("{} holds no data files", address.display()))
                .hint("files ending in .csv, .jsonl, .ndjson or .parquet are tables; check that the address is the right folder")),
            n => Ok(format!("{n} tables")),
        };
        if !step("list", Instant::now(), &found) {
            return;
        }
        for table in tables {
            let started = Instant::now();
            let (s, name) = (source.clone(), table.name.clone());
            let read = on_disk(move || {
                let first = ObjectName::new(&s.connection, "public", &table.name);
                let described = describe(&s, first, table)?;
                Ok(format!("{name}: {} columns", described.columns.len()))
            })
            .await;
            if !step("read", started, &read) {
                return;
            }
        }
    }
}

/// Opens what is needed to know a table's columns and sizes.
fn describe(source: &Arc<FilesSource>, name: ObjectName, table: FileTable) -> Result<Arc<Table>> {
    let FileTable { format, files, partitions, .. } = table;
    let mut footers = Vec::new();
    let mut statistics = TableStatistics::default();
    let mut columns = match format {
        Format::Parquet => {
            for file in &files {
                footers.push(source.footer(file)?);
            }
            let columns = parquet_format::common_columns(&source.connection, &files, &footers)?;
            statistics = parquet_format::statistics(&footers, &columns);
            columns
        }
        Format::Csv | Format::JsonLines => {
            let inferred = source.inferred(format, &files)?;
            let bytes: u64 = files.iter().map(|file| file.bytes).sum();
            statistics.rows = inferred.row_width.map(|width| (bytes as f64 / width).round());
            statistics.origin = Some("size of the files and width of sampled rows".to_owned());
            inferred.columns
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
    let set = Arc::new(FileSet { source: source.clone(), format, files, footers, columns: columns.clone() });
    let source = Arc::new(FileTableSource(set));
    Ok(Arc::new(Table { name, columns, statistics, primary_key: vec![], kind: TableKind::Table, source }))
}

impl FilesSource {
    fn cached<T: Clone>(
        &self,
        file: &DataFile,
        pick: fn(&mut Cache) -> &mut Known<T>,
        read: impl FnOnce() -> Result<T>,
    ) -> Result<T> {
        let modified = std::fs::metadata(&file.path).and_then(|m| m.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
        {
            let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((bytes, time, known)) = pick(&mut cache).get(&file.path)
                && *bytes == file.bytes
                && *time == modified
            {
                return Ok(known.clone());
            }
        }
        let fresh = read()?;
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        pick(&mut cache).insert(file.path.clone(), (file.bytes, modified, fresh.clone()));
        Ok(fresh)
    }

    fn footer(&self, file: &DataFile) -> Result<Arc<Footer>> {
        self.cached(file, |cache| &mut cache.footers, || Ok(Arc::new(Footer::read(&self.connection, file)?)))
    }

    fn inferred(&self, format: Format, files: &[DataFile]) -> Result<infer::Inferred> {
        let Some(first) = files.first() else {
            return Err(Error::internal("a table without files"));
        };
        // The largest file is the likeliest to show every column.
        let sample = files.iter().max_by_key(|file| file.bytes).unwrap_or(first);
        self.cached(
            sample,
            |cache| &mut cache.inferred,
            || match format {
                Format::Csv => infer::csv(&self.connection, sample),
                _ => infer::json_lines(&self.connection, sample),
            },
        )
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
        "files"
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
