//! Which files make which table. `key=value` folders below a table's folder become columns.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use cobble_types::parse::parse_value;
use cobble_types::{Code, Result, SqlType, Value};

use super::{Format, file_error, io_error, partition_type};

/// Folders deeper than this below the address are not searched.
const DEPTH: usize = 12;

#[derive(Debug, Clone)]
pub struct DataFile {
    pub path: PathBuf,
    pub bytes: u64,
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
    path: PathBuf,
    bytes: u64,
    keys: Vec<(String, String)>,
}

/// The tables at an address, in order of their names.
pub fn tables(connection: &str, address: &Path) -> Result<Vec<FileTable>> {
    let text = address.to_string_lossy();
    if text.contains(['*', '?', '[']) {
        return pattern_table(connection, &text);
    }
    let metadata = std::fs::metadata(address).map_err(|e| io_error(connection, address, &e))?;
    let mut groups: BTreeMap<String, Vec<Found>> = BTreeMap::new();
    if metadata.is_file() {
        let found = Found { path: address.to_owned(), bytes: metadata.len(), keys: vec![] };
        groups.insert(table_name(address), vec![found]);
    } else {
        let entries = std::fs::read_dir(address).map_err(|e| io_error(connection, address, &e))?;
        for entry in entries {
            let path = entry.map_err(|e| io_error(connection, address, &e))?.path();
            if hidden(&path) {
                continue;
            }
            let mut found = Vec::new();
            collect(connection, &path, &mut Vec::new(), 0, &mut found)?;
            if !found.is_empty() {
                groups.entry(table_name(&path)).or_default().append(&mut found);
            }
        }
    }
    groups.into_iter().map(|(name, found)| table(connection, name, found)).collect()
}

fn pattern_table(connection: &str, pattern: &str) -> Result<Vec<FileTable>> {
    let path = Path::new(pattern);
    let paths = glob::glob(pattern)
        .map_err(|e| file_error(connection, path, Code::BadSetting, format!("not a pattern: {e}")))?;
    let mut found = Vec::new();
    for matched in paths.flatten().filter(|p| !hidden(p)) {
        collect(connection, &matched, &mut Vec::new(), 0, &mut found)?;
    }
    if found.is_empty() {
        return Err(file_error(connection, path, Code::NotFound, "no data file matches")
            .hint("files ending in .csv, .jsonl, .ndjson or .parquet count"));
    }
    // The table is named for the last folder without a wildcard.
    let fixed: PathBuf =
        path.components().take_while(|c| !c.as_os_str().to_string_lossy().contains(['*', '?', '['])).collect();
    Ok(vec![table(connection, table_name(&fixed), found)?])
}

fn hidden(path: &Path) -> bool {
    path.file_name().is_none_or(|name| name.to_string_lossy().starts_with(['.', '_']))
}

fn table_name(path: &Path) -> String {
    let name = if path.is_dir() { path.file_name() } else { path.file_stem() };
    name.map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default()
}

fn collect(
    connection: &str,
    path: &Path,
    keys: &mut Vec<(String, String)>,
    depth: usize,
    into: &mut Vec<Found>,
) -> Result<()> {
    let metadata = std::fs::metadata(path).map_err(|e| io_error(connection, path, &e))?;
    if metadata.is_file() {
        if Format::of(path).is_some() && metadata.len() > 0 {
            into.push(Found { path: path.to_owned(), bytes: metadata.len(), keys: keys.clone() });
        }
        return Ok(());
    }
    if depth >= DEPTH {
        return Ok(());
    }
    let mut entries: Vec<PathBuf> = std::fs::read_dir(path)
        .map_err(|e| io_error(connection, path, &e))?
        .filter_map(|entry| entry.ok().map(|e| e.path()))
        .filter(|p| !hidden(p))
        .collect();
    entries.sort();
    for entry in entries {
        let name = entry.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        match name.split_once('=').filter(|_| entry.is_dir()) {
            Some((key, value)) => {
                keys.push((key.to_lowercase(), value.to_owned()));
                collect(connection, &entry, keys, depth + 1, into)?;
                keys.pop();
            }
            None => collect(connection, &entry, keys, depth + 1, into)?,
        }
    }
    Ok(())
}

fn table(connection: &str, name: String, mut found: Vec<Found>) -> Result<FileTable> {
    found.sort_by(|a, b| a.path.cmp(&b.path));
    let first = &found[0];
    let format = Format::of(&first.path).unwrap_or(Format::Csv);
    let key_names: Vec<String> = first.keys.iter().map(|(key, _)| key.clone()).collect();
    for file in &found {
        if Format::of(&file.path) != Some(format) {
            let what = format!("the table {name} has files of two formats; {} is the other", first.path.display());
            return Err(file_error(connection, &file.path, Code::SourceData, what).hint("keep one format per folder"));
        }
        if !file.keys.iter().map(|(key, _)| key).eq(&key_names) {
            let what = format!("its folders do not have the keys of {}", first.path.display());
            return Err(file_error(connection, &file.path, Code::SourceData, what)
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
            Ok(DataFile { path: file.path, bytes: file.bytes, partition })
        })
        .collect::<Result<_>>()?;
    Ok(FileTable { name, format, files, partitions })
}
