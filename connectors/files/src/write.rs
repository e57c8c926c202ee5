//! Writing tables of files. Rows are written into files of a working folder on this machine, one for each partition; a place takes them
//! over when they are complete and shows them all at once, so that a write that fails or is given up leaves nothing that could be seen.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow::array::{ArrayRef, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow::compute::take;
use arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use async_trait::async_trait;
use cobble_format::{FileWriter, Format};
use cobble_plan::scan::{ScanMemory, ScanTools, Unbounded};
use cobble_plan::sink::{NewRows, Outcome, Prepared, TableWriter};
use cobble_storage::{file_error, io_error, unique};
use cobble_types::{Code, Error, Result, SqlType, array_value_text};

use super::FilesSource;
use super::listing::{self, FileTable};
use super::root::Root;

/// Folders of one statement: each keeps a file open.
const MOST_PARTITIONS: usize = 500;

/// What files were written into, on their way to readers.
pub trait Place: Send {
    /// The folder for files that are being written.
    fn working(&self) -> &Path;
    /// Bytes after which a file ends and the next one begins.
    fn file_bytes(&self) -> usize {
        usize::MAX
    }
    /// Lets all of them be seen at once.
    fn show(&mut self, files: Vec<Complete>, memory: &Arc<dyn ScanMemory>) -> Result<()>;
}

/// A file that is complete.
pub struct Complete {
    /// Below the table's folder.
    pub folders: Vec<String>,
    pub name: String,
    pub path: PathBuf,
}

/// Writes the files of one statement.
pub struct FilesWriter {
    connection: String,
    place: Box<dyn Place>,
    create: bool,
    format: Format,
    /// Places of the columns that become folders, and of the others.
    keys: Vec<usize>,
    values: Vec<usize>,
    columns: Vec<(String, SqlType)>,
    /// What the names of the files begin with.
    mark: String,
    open: BTreeMap<Vec<String>, OpenFile>,
    outcome: Outcome,
    complete: Vec<Complete>,
    memory: Arc<dyn ScanMemory>,
}

struct OpenFile {
    name: String,
    path: PathBuf,
    writer: Box<dyn FileWriter>,
}

pub fn setting(connection: &str, what: String, hint: &str) -> Error {
    Error::new(Code::BadSetting, format!("connection {connection}: {what}")).hint(hint)
}

/// Whether a name can be a folder, or stand before the `=` in the name of one: no path, nothing that hides it, nothing that ends it.
fn is_plain(name: &str) -> bool {
    let parts = |c: char| matches!(c, '/' | '\\' | '=') || c.is_control();
    (1..=200).contains(&name.len()) && !name.starts_with(['.', '_']) && !name.contains(parts)
}

/// A format that is only read, or that nobody knows.
fn unwritten(connection: &str, format: &str) -> Error {
    let all: Vec<&str> = cobble_format::ALL.iter().filter(|f| f.is_written()).map(|f| f.name()).collect();
    let what = format!("files of the format \"{format}\" are not written");
    setting(connection, what, &format!("formats that are written: {}", all.join(", ")))
}

impl FilesWriter {
    pub fn new(source: &FilesSource, root: &Root<'_>, wanted: NewRows) -> Result<FilesWriter> {
        let connection = source.connection.as_str();
        let (table, columns) = (&wanted.table, wanted.columns);
        let known = listing::groups(source.storage.as_ref())?.remove(table);
        let known = known.map(|files| listing::table(connection, table, files)).transpose()?;
        if !is_plain(table) || table.to_lowercase() != *table {
            return Err(setting(
                connection,
                format!("\"{table}\" cannot be the name of a folder of files"),
                "choose a plain name",
            ));
        }
        let place = root.table(table)?;
        let (format, key_names) = match (&known, wanted.create) {
            (Some(_), true) => {
                let what = format!("connection {connection}: there is a table {table} already");
                return Err(Error::new(Code::AlreadyExists, what).hint("INSERT INTO adds rows to it"));
            }
            (None, true) if root.is_taken(&place) => {
                let what = format!("connection {connection}: {} is there already", place.display());
                return Err(Error::new(Code::AlreadyExists, what).hint("choose another name, or remove it"));
            }
            (None, true) => Self::options(connection, &wanted.options)?,
            (None, false) => return Err(Error::new(Code::UnknownTable, format!("there is no table {table}"))),
            (Some(known), false) => {
                let FileTable { format, files, partitions, .. } = known;
                if files.iter().any(|file| !file.stored.path.starts_with(&place)) {
                    let what = format!("{table} is a single file, to which no rows are added");
                    return Err(setting(connection, what, "put it into a folder of the table's name"));
                }
                (*format, partitions.iter().map(|(key, _)| key.clone()).collect())
            }
        };
        if !format.is_written() {
            return Err(unwritten(connection, format.name()));
        }
        let mut keys = Vec::new();
        for key in &key_names {
            if !is_plain(key) {
                let what = format!("column \"{}\" cannot be part of a folder's name", key.escape_debug());
                return Err(setting(connection, what, "give the column a plain name with AS"));
            }
            let place = columns.iter().position(|(name, _)| name == key);
            keys.push(place.ok_or_else(|| {
                setting(connection, format!("there is no column {key} to make folders of"), "name columns of the query")
            })?);
        }
        let values: Vec<usize> = (0..columns.len()).filter(|place| !keys.contains(place)).collect();
        if values.is_empty() {
            return Err(setting(connection, "every column would be a folder".into(), "leave one column for the files"));
        }
        if !wanted.not_null.is_empty() || !wanted.primary_key.is_empty() {
            let what = "files keep no NOT NULL and no PRIMARY KEY".to_owned();
            return Err(setting(connection, what, "leave them out"));
        }
        let mark = format!("part-{}", unique());
        Ok(FilesWriter {
            connection: connection.to_owned(),
            place: root.begin(source, table, &mark, wanted.create)?,
            create: wanted.create,
            format,
            keys,
            values,
            columns,
            mark,
            open: BTreeMap::new(),
            outcome: Outcome::default(),
            complete: Vec::new(),
            memory: Arc::new(Unbounded),
        })
    }

    /// `format` and `partition_by`.
    fn options(connection: &str, options: &BTreeMap<String, String>) -> Result<(Format, Vec<String>)> {
        let (mut format, mut keys) = (cobble_format::named("parquet")?, Vec::new());
        for (name, value) in options {
            match (name.as_str(), value.to_lowercase().as_str()) {
                // The name, or what the names of its files end in.
                ("format", wanted) => {
                    let named = |known: &&Format| known.name() == wanted || known.endings().contains(&wanted);
                    format = *cobble_format::ALL.iter().find(named).ok_or_else(|| unwritten(connection, wanted))?;
                }
                ("partition_by", list) => keys = list.split(',').map(|key| key.trim().to_owned()).collect(),
                (other, _) => {
                    return Err(setting(
                        connection,
                        format!("WITH takes no {other}"),
                        "it takes format and partition_by",
                    ));
                }
            }
        }
        Ok((format, keys))
    }

    fn failed(&self, path: &Path, error: &std::io::Error) -> Error {
        io_error(&self.connection, path, error)
    }

    fn schema(&self) -> SchemaRef {
        let field = |place: &usize| {
            let (name, sql_type) = &self.columns[*place];
            // Views are a form in memory; files have plain texts.
            let data_type = match sql_type.to_arrow() {
                DataType::Utf8View => DataType::Utf8,
                DataType::BinaryView => DataType::Binary,
                other => other,
            };
            Field::new(name, data_type, true)
        };
        Arc::new(Schema::new(self.values.iter().map(field).collect::<Vec<_>>()))
    }

    fn file(&mut self, folders: &[String]) -> Result<&mut OpenFile> {
        if !self.open.contains_key(folders) {
            if self.open.len() >= MOST_PARTITIONS {
                let what = format!("more than {MOST_PARTITIONS} folders would be written at once");
                return Err(setting(&self.connection, what, "partition by a column with fewer values"));
            }
            let folder = folders.iter().fold(self.place.working().to_owned(), |path, name| path.join(name));
            let ending = self.format.endings()[0];
            let before = self.complete.iter().filter(|file| file.folders == folders).count();
            let name = match before {
                0 => format!("{}.{ending}", self.mark),
                number => format!("{}-{number}.{ending}", self.mark),
            };
            let path = folder.join(&name);
            fs::create_dir_all(&folder).map_err(|e| self.failed(&folder, &e))?;
            let file = File::create(&path).map_err(|e| self.failed(&path, &e))?;
            let schema = self.schema();
            let writer = self.format.writer(file, schema).map_err(|e| self.unwritten(&path, &e))?;
            self.open.insert(folders.to_vec(), OpenFile { name, path, writer });
        }
        self.open.get_mut(folders).ok_or_else(|| Error::internal("a file that was opened is gone"))
    }

    /// What kept rows from being written: the disk, or the rows themselves.
    fn unwritten(&self, path: &Path, error: &std::io::Error) -> Error {
        let text = error.to_string();
        if text.contains("No space left") {
            return self.failed(path, &std::io::ErrorKind::StorageFull.into());
        }
        match error.kind() {
            std::io::ErrorKind::Other | std::io::ErrorKind::Unsupported => {
                file_error(&self.connection, path, Code::Unsupported, format!("the rows cannot be written: {text}"))
            }
            _ => self.failed(path, error),
        }
    }

    /// The folders of a row, `key=value` each.
    fn folders(&self, batch: &RecordBatch, row: usize) -> Result<Vec<String>> {
        let folder = |place: &usize| {
            let name = &self.columns[*place].0;
            let wrong = |what: &str| {
                Err(Error::new(Code::InvalidValue, format!("{name} {what} and cannot be a folder's name"))
                    .hint("leave such rows out, or put another value in their place"))
            };
            match array_value_text(batch.column(*place).as_ref(), row) {
                None => wrong("is null"),
                Some(text) if text.is_empty() => wrong("is empty"),
                Some(text) if text.len() > 200 || text.chars().any(|c| c == '/' || c.is_control()) => {
                    wrong(&format!("is \"{}\"", text.chars().take(40).collect::<String>()))
                }
                Some(text) => Ok(format!("{name}={text}")),
            }
        };
        self.keys.iter().map(folder).collect()
    }

    fn put(&mut self, folders: &[String], columns: Vec<ArrayRef>, rows: usize) -> Result<()> {
        let schema = self.schema();
        let file = self.file(folders)?;
        let path = file.path.clone();
        let cast = columns.iter().zip(schema.fields()).map(|(c, f)| arrow::compute::cast(c, f.data_type()));
        let columns = cast.collect::<std::result::Result<_, _>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(schema, columns, &options)?;
        let written = file.writer.write(&batch);
        let size = file.writer.size();
        written.map_err(|e| self.unwritten(&path, &e))?;
        if size >= self.place.file_bytes()
            && let Some(file) = self.open.remove(folders)
        {
            self.end(folders.to_vec(), file)?;
        }
        Ok(())
    }

    fn end(&mut self, folders: Vec<String>, file: OpenFile) -> Result<()> {
        let OpenFile { name, path, writer } = file;
        let ended = writer.finish().map_err(|e| self.unwritten(&path, &e))?;
        ended.sync_all().map_err(|e| self.failed(&path, &e))?;
        self.outcome.bytes += ended.metadata().map_err(|e| self.failed(&path, &e))?.len();
        self.complete.push(Complete { folders, name, path });
        Ok(())
    }

    /// Ends every file.
    fn close(&mut self) -> Result<()> {
        if self.open.is_empty() && self.complete.is_empty() && self.create && self.keys.is_empty() {
            // A table without rows still has its columns.
            self.file(&[])?;
        }
        for (folders, file) in std::mem::take(&mut self.open) {
            self.end(folders, file)?;
        }
        self.outcome.files = self.complete.len() as u64;
        Ok(())
    }
}

impl TableWriter for FilesWriter {
    fn begin(&mut self, tools: ScanTools) {
        self.memory = tools.memory;
    }

    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self.outcome.rows += batch.num_rows() as u64;
        if self.keys.is_empty() {
            let columns = self.values.iter().map(|place| batch.column(*place).clone()).collect();
            return self.put(&[], columns, batch.num_rows());
        }
        let mut groups: BTreeMap<Vec<String>, Vec<u32>> = BTreeMap::new();
        for row in 0..batch.num_rows() {
            groups.entry(self.folders(batch, row)?).or_default().push(row as u32);
        }
        for (folders, rows) in groups {
            let places = UInt32Array::from(rows);
            let columns = self.values.iter().map(|p| take(batch.column(*p).as_ref(), &places, None));
            let columns = columns.collect::<std::result::Result<_, _>>()?;
            self.put(&folders, columns, places.len())?;
        }
        Ok(())
    }

    fn prepare(mut self: Box<Self>) -> Result<Box<dyn Prepared>> {
        self.close()?;
        Ok(self)
    }
}

#[async_trait]
impl Prepared for FilesWriter {
    fn outcome(&mut self) -> Outcome {
        std::mem::take(&mut self.outcome)
    }

    async fn commit(mut self: Box<Self>) -> Result<()> {
        let moved = tokio::task::spawn_blocking(move || {
            let complete = std::mem::take(&mut self.complete);
            self.place.show(complete, &self.memory)
        });
        moved.await.map_err(|e| Error::internal(format!("a thread that writes stopped: {e}")))?
    }
}
