//! Tables that are found by their folders: the metadata file with the highest number is the last one, and the name of the next is that of one
//! writer alone (table specification, "File System Tables").

use std::sync::Arc;

use cobble_storage::{Condition, SchemaProperties, Storage, StoredFile, file_error, files_below};
use cobble_types::{Code, Result};
use serde_json::Value as Json;
use tokio_util::sync::CancellationToken;

use super::{Current, Make, PUBLIC, TableCatalog, TableName, by_folders, checked, first};
use crate::table::{LakeTable, METADATA, latest, version_in};

#[derive(Debug)]
pub struct Folders {
    pub connection: String,
    pub storage: Arc<dyn Storage>,
    /// The folder of all tables, below the storage's address.
    pub folder: Vec<String>,
}

/// The number of a metadata file whose name is the next writer's to take: `v12.metadata.json`.
fn own_number(table: &LakeTable) -> Result<u64> {
    let name = table.file.name();
    let number = version_in(&name).filter(|number| name == format!("v{number}.metadata.json"));
    number.ok_or_else(|| {
        let what = "its metadata files are named by a catalog of another service, which tells what its last one is";
        file_error(&table.connection, &table.file.path, Code::Unsupported, what)
            .hint("write into it through that catalog")
    })
}

impl Folders {
    fn home(&self, name: &TableName) -> Vec<String> {
        self.folder_of(&name.schema).into_iter().chain([name.table.clone()]).collect()
    }

    fn folder_of(&self, schema: &str) -> Vec<String> {
        self.folder.iter().cloned().chain((schema != PUBLIC).then(|| schema.to_owned())).collect()
    }

    /// Names of folders in a folder, each with whether it is a table.
    fn folders(&self, folder: &[String]) -> Result<Vec<(String, bool)>> {
        let inner = self.storage.look(folder)?.folders.into_iter().filter(|name| !name.starts_with(['.', '_']));
        let mut found = Vec::new();
        for name in inner {
            let own: Vec<String> = folder.iter().cloned().chain([name.clone()]).collect();
            let has_metadata = self.storage.look(&own)?.folders.iter().any(|inner| inner == METADATA);
            // A folder of metadata without any is what a writer has left that was stopped.
            if !has_metadata || latest(self.storage.as_ref(), &own)?.is_some() {
                found.push((name, has_metadata));
            }
        }
        Ok(found)
    }

    /// Whether a metadata file that could not be written, or whose writing was not answered, is ours. None where there is no such file.
    fn looked_up(&self, table: &LakeTable, number: u64, content: &[u8]) -> Result<Option<bool>> {
        let name = format!("v{number}.metadata.json");
        let folder: Vec<String> = table.home.iter().cloned().chain([METADATA.to_owned()]).collect();
        let files = self.storage.look(&folder)?.files;
        let Some(file) = files.into_iter().find(|file| file.name() == name) else { return Ok(None) };
        if file.bytes != content.len() as u64 {
            return Ok(Some(false));
        }
        let there = self.storage.open(&file, &CancellationToken::new())?.read(0, content.len());
        let wrong = |e: std::io::Error| file_error(&self.connection, &file.path, Code::SourceData, e);
        Ok(Some(there.map_err(wrong)? == content))
    }
}

impl TableCatalog for Folders {
    fn schemas(&self) -> Result<Vec<String>> {
        let (tables, others): (Vec<_>, Vec<_>) =
            self.folders(&self.folder)?.into_iter().partition(|(_, is_table)| *is_table);
        let own = (!tables.is_empty()).then(|| PUBLIC.to_owned());
        let mut all: Vec<String> = own.into_iter().chain(others.into_iter().map(|(name, _)| name)).collect();
        all.sort();
        all.dedup();
        Ok(all)
    }

    fn tables(&self, schema: &str) -> Result<Vec<String>> {
        let found = self.folders(&self.folder_of(schema))?.into_iter().filter(|(_, is_table)| *is_table);
        Ok(found.map(|(name, _)| name).collect())
    }

    fn current(&self, name: &TableName) -> Result<Option<Current>> {
        if checked(&self.connection, name).is_err() {
            return Ok(None);
        }
        let home = self.home(name);
        let file = latest(self.storage.as_ref(), &home)?;
        Ok(file.map(|file| Current { storage: self.storage.clone(), home, file, document: None, named: None }))
    }

    fn begin(&self, name: &TableName, location: Option<&str>, make: Make<'_>) -> Result<Current> {
        checked(&self.connection, name)?;
        let home = self.home(name);
        match location.map(|location| self.storage.names_of(location.trim_end_matches('/'))) {
            Some(wanted) if wanted.as_ref() != Some(&home) => {
                Err(by_folders(&self.connection, &format!("{name} cannot have another location than its own folder")))
            }
            _ => first(&self.storage, home, make),
        }
    }

    fn may_change(&self, table: &LakeTable) -> Result<()> {
        own_number(table).map(drop)
    }

    fn commit(&self, table: &LakeTable, next: &Json) -> Result<bool> {
        let number = own_number(table)? + 1;
        let content = next.to_string().into_bytes();
        match table.put(&format!("v{number}.metadata.json"), content.clone(), &Condition::Absent) {
            Ok(_) => {
                // Readers that do not look for the last one themselves are told; the file decides nothing.
                let _ = table.put("version-hint.text", number.to_string().into_bytes(), &Condition::Always);
                Ok(true)
            }
            Err(error) => match self.looked_up(table, number, &content) {
                Ok(Some(is_ours)) => Ok(is_ours),
                // It may still arrive: nothing that it names is removed.
                _ => {
                    let what = format!("the storage did not say whether the change was written: {}", error.message);
                    Err(table.in_doubt(what))
                }
            },
        }
    }

    /// First what says what it is goes, the newest last, then its files.
    fn drop_table(&self, table: &LakeTable) -> Result<()> {
        let files = files_below(self.storage.as_ref(), &table.home)?;
        let (mut first, rest): (Vec<StoredFile>, Vec<_>) =
            files.into_iter().partition(|file| version_in(&file.name()).is_some());
        first.sort_by_key(|file| version_in(&file.name()));
        first.iter().chain(&rest).try_for_each(|file| self.storage.delete(file))
    }

    fn release(&self, table: &LakeTable) -> Result<()> {
        Err(by_folders(&self.connection, &format!("{} cannot be forgotten while its files stay", table.name)))
    }

    fn adopt(&self, name: &TableName, _: &str) -> Result<()> {
        Err(by_folders(&self.connection, &format!("no table elsewhere can be known as {name}")))
    }

    fn rename(&self, table: &LakeTable, _: &TableName) -> Result<()> {
        Err(by_folders(&self.connection, &format!("{} cannot be renamed", table.name)))
    }

    fn schema_properties(&self, schema: &str) -> Result<Option<SchemaProperties>> {
        Ok(self.schemas()?.iter().any(|own| own == schema).then(SchemaProperties::default))
    }

    fn keep_schema(&self, schema: &str, _: Option<&SchemaProperties>) -> Result<()> {
        Err(by_folders(&self.connection, &format!("the schema {schema} comes and goes with the tables in it")))
    }
}
