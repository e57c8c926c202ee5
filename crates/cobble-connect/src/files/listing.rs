//! Which files make which table. `key=value` folders below a table's folder become columns.

use std::collections::BTreeMap;
use std::path::PathBuf;

use cobble_types::parse::parse_value;
use cobble_types::{Code, Result, SqlType, Value};

use super::format::{Format, stem};
use super::storage::{Entry, Storage};
use super::{file_error, partition_type};

#[derive(Debug, Clone)]
pub struct DataFile {
    pub path: PathBuf,
    pub bytes: u64,
    /// As in [`Entry`].
    pub version: String,
    /// One value per partition key of the table.
    pub partition: Vec<Value>,
}

#[derive(Debug)]
pub struct FileTable {
    pub name: String,
    pub format: Format,
    pub files: Vec<DataFile>,
    pub partitions: Vec<(String, SqlType)>,
}

/// A data file with the `key=value` folders on its way.
struct Found {
    entry: Entry,
    format: Format,
    keys: Vec<(String, String)>,
}

/// The tables at an address, in order of their names.
pub fn tables(connection: &str, storage: &dyn Storage) -> Result<Vec<FileTable>> {
    let mut groups: BTreeMap<String, Vec<Found>> = BTreeMap::new();
    for entry in storage.list()? {
        let Some((format, _)) = Format::of(&entry.path).filter(|_| entry.bytes > 0) else { continue };
        let Some((file, folders)) = entry.names.split_last() else { continue };
        let name = folders.first().map_or(stem(file), String::as_str).to_lowercase();
        let keys = folders.iter().skip(1).filter_map(|folder| folder.split_once('='));
        let keys = keys.map(|(key, value)| (key.to_lowercase(), value.to_owned())).collect();
        groups.entry(name).or_default().push(Found { entry, format, keys });
    }
    groups.into_iter().map(|(name, found)| table(connection, name, found)).collect()
}

/// Names that begin so are not data.
pub fn hidden(name: &str) -> bool {
    name.is_empty() || name.starts_with(['.', '_'])
}

fn table(connection: &str, name: String, mut found: Vec<Found>) -> Result<FileTable> {
    found.sort_by(|a, b| a.entry.path.cmp(&b.entry.path));
    let first = &found[0];
    let format = first.format;
    let key_names: Vec<String> = first.keys.iter().map(|(key, _)| key.clone()).collect();
    for file in &found {
        if file.format != format {
            let what =
                format!("the table {name} has files of two formats; {} is the other", first.entry.path.display());
            return Err(
                file_error(connection, &file.entry.path, Code::SourceData, what).hint("keep one format per folder")
            );
        }
        if !file.keys.iter().map(|(key, _)| key).eq(&key_names) {
            let what = format!("its folders do not have the keys of {}", first.entry.path.display());
            return Err(file_error(connection, &file.entry.path, Code::SourceData, what)
                .hint("every file of a table needs the same key=value folders"));
        }
    }
    let partitions: Vec<(String, SqlType)> = key_names
        .into_iter()
        .enumerate()
        .map(|(place, key)| {
            let values: Vec<&str> = found.iter().map(|file| file.keys[place].1.as_str()).collect();
            (key, partition_type(&values))
        })
        .collect();
    let files = found
        .into_iter()
        .map(|file| {
            let partition = file
                .keys
                .iter()
                .zip(&partitions)
                .map(|((_, text), (_, sql_type))| parse_value(text, sql_type))
                .collect::<Result<_>>()?;
            let Entry { path, bytes, version, .. } = file.entry;
            Ok(DataFile { path, bytes, version, partition })
        })
        .collect::<Result<_>>()?;
    Ok(FileTable { name, format, files, partitions })
}
