//! Which files make which table. `key=value` folders below a table's folder become columns.

use std::collections::BTreeMap;

use cobble_types::parse::parse_value;
use cobble_types::{Code, Error, Result, SqlType, Value};

use serde::{Deserialize, Serialize};

use cobble_connect::TableDefinition;
use cobble_format::{Format, stem};
use cobble_storage::{Entry, Storage, StoredFile, file_error};

use crate::partition_type;

/// A file of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DataFile {
    pub stored: StoredFile,
    /// One value per partition key of the table.
    pub partition: Vec<Value>,
}

#[derive(Debug)]
pub struct FileTable {
    pub format: Format,
    pub files: Vec<DataFile>,
    pub partitions: Vec<(String, SqlType)>,
}

/// A data file with the `key=value` folders on its way.
#[derive(Clone)]
pub struct Found {
    pub entry: Entry,
    pub format: Format,
    pub keys: Vec<(String, String)>,
}

/// The files at an address by the names of their tables. Whether the files of one make a table is found out when it is named: a folder that
/// makes none does not hide the others.
pub fn groups(storage: &dyn Storage) -> Result<BTreeMap<String, Vec<Found>>> {
    let mut groups: BTreeMap<String, Vec<Found>> = BTreeMap::new();
    for entry in storage.list()?.entries {
        let Some((format, _)) = cobble_format::of(&entry.file.path).filter(|_| entry.file.bytes > 0) else { continue };
        let Some((file, folders)) = entry.names.split_last() else { continue };
        let name = folders.first().map_or(stem(file), String::as_str).to_lowercase();
        let keys = keys_of(folders.get(1..).unwrap_or_default());
        groups.entry(name).or_default().push(Found { entry, format, keys });
    }
    Ok(groups)
}

/// The `key=value` folders among these.
pub fn keys_of(folders: &[String]) -> Vec<(String, String)> {
    let keys = folders.iter().filter_map(|folder| folder.split_once('='));
    keys.map(|(key, value)| (key.to_lowercase(), value.to_owned())).collect()
}

/// The names of the folders, and of the file, on a way.
pub fn way(path: &str) -> Vec<&str> {
    path.split('/').filter(|name| !name.is_empty() && *name != ".").collect()
}

/// A `*` stands for what is within one name, `**` for folders.
const WITHIN_FOLDERS: glob::MatchOptions =
    glob::MatchOptions { case_sensitive: true, require_literal_separator: true, require_literal_leading_dot: false };

/// The table of the files that a definition means.
pub fn defined_table(
    connection: &str,
    storage: &dyn Storage,
    name: &str,
    definition: &TableDefinition,
) -> Result<FileTable> {
    let path = definition.path.as_deref().unwrap_or_default();
    let whole = way(path);
    // What of the path is written out; with a pattern behind it, files or folders that it matches.
    let fixed = whole.iter().take_while(|name| !name.contains(['*', '?', '['])).count();
    let wanted = &whole[..fixed];
    let bad_pattern = |pattern: &str, e: glob::PatternError| {
        Error::new(Code::BadSetting, format!("table {name}: \"{pattern}\" is not a pattern: {e}"))
            .hint("write it like sailings-*.csv")
    };
    let below = match fixed < whole.len() {
        true => Some(glob::Pattern::new(&whole[fixed..].join("/")).map_err(|e| bad_pattern(path, e))?),
        false => None,
    };
    let matches = |names: &[String]| match &below {
        None => true,
        Some(pattern) => (1..=names.len()).any(|n| pattern.matches_with(&names[..n].join("/"), WITHIN_FOLDERS)),
    };
    let format = definition.format.as_deref().map(cobble_format::named).transpose()?;
    let patterns = definition
        .files
        .as_deref()
        .unwrap_or("*")
        .split(',')
        .map(|pattern| glob::Pattern::new(pattern.trim()).map_err(|e| bad_pattern(pattern, e)));
    let patterns = patterns.collect::<Result<Vec<_>>>()?;
    let mut found = Vec::new();
    for entry in storage.list()?.entries {
        let is_below = entry.names.len() >= wanted.len() && entry.names.iter().zip(wanted).all(|(a, b)| a == b);
        if entry.file.bytes == 0 || !is_below || !matches(&entry.names[wanted.len()..]) {
            continue;
        }
        let Some((file, folders)) = entry.names[wanted.len().min(entry.names.len() - 1)..].split_last() else {
            continue;
        };
        let of_format = match format {
            // Files whose names say another format are left to other tables.
            Some(format) => Some(format).filter(|wanted| {
                cobble_format::of(&entry.file.path).is_none_or(|(own, _)| own.name() == wanted.name())
            }),
            None => cobble_format::of(&entry.file.path).map(|(format, _)| format),
        };
        let Some(of_format) = of_format.filter(|_| patterns.iter().any(|pattern| pattern.matches(file))) else {
            continue;
        };
        let keys = keys_of(folders);
        found.push(Found { entry, format: of_format, keys });
    }
    if found.is_empty() {
        let what = format!("connection {connection}: table {name}: there are no data files below \"{path}\"");
        return Err(Error::new(Code::NotFound, what)
            .hint("check the path; a table that is defined so can be discovered again, or dropped"));
    }
    table(connection, name, found)
}

pub fn table(connection: &str, name: &str, mut found: Vec<Found>) -> Result<FileTable> {
    found.sort_by(|a, b| a.entry.file.path.cmp(&b.entry.file.path));
    let first = &found[0];
    let format = first.format;
    let key_names: Vec<String> = first.keys.iter().map(|(key, _)| key.clone()).collect();
    for file in &found {
        if file.format.name() != format.name() {
            let what =
                format!("the table {name} has files of two formats; {} is the other", first.entry.file.path.display());
            return Err(file_error(connection, &file.entry.file.path, Code::SourceData, what)
                .hint("keep one format per folder"));
        }
        if !file.keys.iter().map(|(key, _)| key).eq(&key_names) {
            let what = format!("its folders do not have the keys of {}", first.entry.file.path.display());
            return Err(file_error(connection, &file.entry.file.path, Code::SourceData, what)
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
            Ok(DataFile { stored: file.entry.file, partition })
        })
        .collect::<Result<_>>()?;
    Ok(FileTable { format, files, partitions })
}
