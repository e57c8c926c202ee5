//! Tables whose last metadata files a keeper of pointers knows: the service's records. A commit writes its metadata file under a name of its own,
//! and then lets the pointer be that file's if it is still the one that the commit began with.

use std::sync::Arc;

use cobble_storage::{
    Condition, Pointer, PointerName, Pointers, SchemaProperties, Storage, file_error, files_below, taken,
};
use cobble_types::{Code, Error, Result};
use serde_json::Value as Json;

use super::{Current, FirstView, Make, TableCatalog, TableName, ViewCatalog, ViewState, checked, first};
use crate::create::new_uuid;
use crate::metadata::Metadata;
use crate::table::{LakeTable, METADATA, latest, version_in, whole};
use crate::view;

/// How often a pointer is swapped again whose keeper did not answer.
const TRIES: u32 = 3;

#[derive(Debug)]
pub struct Pointed {
    pub connection: String,
    pub storage: Arc<dyn Storage>,
    /// The folder of new tables, below the storage's address.
    pub folder: Vec<String>,
    pub pointers: Arc<dyn Pointers>,
}

impl Pointed {
    pub fn pointer_name(&self, name: &TableName, is_view: bool) -> PointerName {
        PointerName { lake: self.connection.clone(), schema: name.schema.clone(), name: name.table.clone(), is_view }
    }

    /// The names below the storage's address of what a pointer names.
    fn names(&self, location: &str) -> Result<Vec<String>> {
        self.storage.names_of(location).ok_or_else(|| {
            let what = format!("connection {}: {location} is not below {}", self.connection, self.storage.address());
            Error::new(Code::BadSetting, what)
                .hint("name the storage that holds the tables' files in the setting storage")
        })
    }

    /// Swaps a pointer, and finds out what has become of it where the keeper does not say.
    pub fn swap(&self, name: &PointerName, before: Option<&str>, next: Option<&Pointer>) -> Result<bool> {
        let mut failed = None;
        for _ in 0..TRIES {
            match self.pointers.swap(name, before, next) {
                Ok(true) => return Ok(true),
                // After an attempt without an answer the pointer may be ours.
                Ok(false) if failed.is_none() => return Ok(false),
                Ok(false) => {
                    return Ok(self.pointers.get(name)?.map(|own| own.metadata) == next.map(|own| own.metadata.clone()));
                }
                Err(error) => failed = Some(error),
            }
        }
        Err(failed.unwrap_or_else(|| Error::internal("a pointer was not swapped")))
    }

    fn changed_meanwhile(&self, name: &TableName) -> Error {
        let what = format!("connection {}: {name} was changed at the same time", self.connection);
        Error::new(Code::Conflict, what).hint("try it again")
    }

    /// What a location tells of a table: the last metadata file in its folder, or this metadata file.
    fn found(&self, location: &str) -> Result<Pointer> {
        let location = location.trim_end_matches('/');
        let names = self.names(location)?;
        let missing = |what: &str| {
            let what = format!("connection {}: {location} {what}", self.connection);
            Err(Error::new(Code::NotFound, what).hint("give the folder of a table, which has a folder metadata in it"))
        };
        let (file, home) = match location.ends_with(".metadata.json") || location.ends_with(".metadata.json.gz") {
            true => {
                let (folder, name) = (&names[..names.len() - 1], names.last().map_or("", String::as_str));
                let files = self.storage.look(folder)?.files;
                let Some(file) = files.into_iter().find(|file| file.name() == name) else {
                    return missing("is not there");
                };
                let document = Metadata::read(&whole(&self.connection, self.storage.as_ref(), &file)?);
                let document = document.map_err(|e| file_error(&self.connection, &file.path, Code::SourceData, e))?;
                // A table that was moved as a whole is where its metadata are.
                let moved = location.rsplit_once('/').and_then(|(folder, _)| folder.strip_suffix("/metadata"));
                let home = match (self.storage.names_of(&document.location), moved) {
                    (None, Some(moved)) => moved.to_owned(),
                    _ => document.location,
                };
                (file, home)
            }
            false => {
                let Some(file) = latest(self.storage.as_ref(), &names)? else {
                    return missing("has no metadata file");
                };
                (file, location.to_owned())
            }
        };
        let metadata = match names.last().is_some_and(|last| *last == file.name()) {
            true => location.to_owned(),
            false => format!("{location}/{METADATA}/{}", file.name()),
        };
        Ok(Pointer { metadata, bytes: file.bytes, location: home })
    }

    fn wrong_view(&self, name: &TableName, what: String) -> Error {
        Error::new(Code::BadSetting, format!("connection {}: {name}: {what}", self.connection))
    }

    /// Whether a name is taken, by a table or a view.
    fn is_free(&self, name: &TableName) -> Result<()> {
        for is_view in [false, true] {
            let own = self.pointer_name(name, is_view);
            if self.pointers.get(&own)?.is_some() {
                return Err(taken(&own));
            }
        }
        Ok(())
    }

    /// The folder of something new: one of this name may have been here before, and others may be about to make one.
    fn new_home(&self, name: &TableName) -> Vec<String> {
        let folder = format!("{}-{}", name.table, &new_uuid()[..8]);
        self.folder.iter().cloned().chain([name.schema.clone(), folder]).collect()
    }

    /// Writes the metadata file of a view, and lets the pointer be that file's.
    fn put_view(&self, name: &TableName, before: Option<&Pointer>, home: &[String], document: &Json) -> Result<bool> {
        let before = before.map(|own| own.metadata.as_str());
        let last = before.and_then(|own| own.rsplit('/').next()).and_then(version_in);
        let file = format!("{:05}-{}.metadata.json", last.map_or(0, |number| number + 1), new_uuid());
        let names = [home, &[METADATA.to_owned(), file]].concat();
        let content = document.to_string().into_bytes();
        let bytes = content.len() as u64;
        self.storage.put(&names, content.into(), &Condition::Absent)?;
        let (metadata, location) = (self.storage.location_of(&names)?, self.storage.location_of(home)?);
        let pointer = Pointer { metadata, bytes, location };
        let done = self.swap(&self.pointer_name(name, true), before, Some(&pointer));
        if let Ok(false) = done {
            self.storage.delete(&self.storage.at(&names, bytes)?)?;
        }
        done
    }

    fn before(table: &LakeTable) -> Option<String> {
        (!table.is_fresh).then(|| table.metadata_location())
    }
}

impl TableCatalog for Pointed {
    fn schemas(&self) -> Result<Vec<String>> {
        self.pointers.schemas(&self.connection)
    }

    fn tables(&self, schema: &str) -> Result<Vec<String>> {
        self.pointers.names(&self.connection, schema, false)
    }

    fn current(&self, name: &TableName) -> Result<Option<Current>> {
        let Some(pointer) = self.pointers.get(&self.pointer_name(name, false))? else { return Ok(None) };
        let file = self.storage.at(&self.names(&pointer.metadata)?, pointer.bytes)?;
        let home = self.names(&pointer.location)?;
        Ok(Some(Current { storage: self.storage.clone(), home, file, document: None, named: Some(pointer.metadata) }))
    }

    fn begin(&self, name: &TableName, location: Option<&str>, make: Make<'_>) -> Result<Current> {
        checked(&self.connection, name)?;
        self.is_free(name)?;
        if let Some(location) = location {
            return first(&self.storage, self.names(location.trim_end_matches('/'))?, make);
        }
        first(&self.storage, self.new_home(name), make)
    }

    fn may_change(&self, _: &LakeTable) -> Result<()> {
        Ok(())
    }

    fn commit(&self, table: &LakeTable, next: &Json) -> Result<bool> {
        let number = match table.is_fresh {
            true => 0,
            false => version_in(&table.file.name()).map_or(0, |number| number + 1),
        };
        let content = next.to_string().into_bytes();
        let bytes = content.len() as u64;
        let file = format!("{number:05}-{}.metadata.json", new_uuid());
        table.put(&file, content, &Condition::Absent)?;
        // As this storage has it: a table that was moved says other things of itself.
        let metadata = table.storage.location_of(&[table.home.as_slice(), &[METADATA.to_owned(), file]].concat())?;
        let location = table.storage.location_of(&table.home)?;
        let pointer = Pointer { metadata: metadata.clone(), bytes, location };
        let name = self.pointer_name(&table.name, false);
        match self.swap(&name, Self::before(table).as_deref(), Some(&pointer)) {
            Ok(true) => Ok(true),
            Ok(false) => {
                table.remove(&metadata);
                Ok(false)
            }
            Err(error) => {
                Err(table.in_doubt(format!("the keeper of its last state did not answer: {}", error.message)))
            }
        }
    }

    fn drop_table(&self, table: &LakeTable) -> Result<()> {
        let name = self.pointer_name(&table.name, false);
        if !self.swap(&name, Self::before(table).as_deref(), None)? {
            return Err(self.changed_meanwhile(&table.name));
        }
        let files = files_below(self.storage.as_ref(), &table.home)?;
        files.iter().try_for_each(|file| self.storage.delete(file))
    }

    fn release(&self, table: &LakeTable) -> Result<()> {
        match self.swap(&self.pointer_name(&table.name, false), Self::before(table).as_deref(), None)? {
            true => Ok(()),
            false => Err(self.changed_meanwhile(&table.name)),
        }
    }

    fn adopt(&self, name: &TableName, location: &str) -> Result<()> {
        checked(&self.connection, name)?;
        let pointer = self.found(location)?;
        let own = self.pointer_name(name, false);
        match self.swap(&own, None, Some(&pointer))? {
            true => Ok(()),
            false => Err(taken(&own)),
        }
    }

    fn rename(&self, table: &LakeTable, to: &TableName) -> Result<()> {
        checked(&self.connection, to)?;
        let (from, own) = (self.pointer_name(&table.name, false), self.pointer_name(to, false));
        let Some(pointer) = self.pointers.get(&from)? else { return Err(self.changed_meanwhile(&table.name)) };
        match self.pointers.rename(&from, &pointer.metadata, &own)? {
            true => Ok(()),
            false => Err(self.changed_meanwhile(&table.name)),
        }
    }

    fn schema_properties(&self, schema: &str) -> Result<Option<SchemaProperties>> {
        let made = self.pointers.schema(&self.connection, schema)?;
        let is_used = || Ok::<_, Error>(self.schemas()?.iter().any(|own| own == schema));
        Ok(match made {
            None if is_used()? => Some(SchemaProperties::default()),
            other => other,
        })
    }

    fn keep_schema(&self, schema: &str, properties: Option<&SchemaProperties>) -> Result<()> {
        checked(&self.connection, &TableName::new(schema, "table"))?;
        let has = |views: bool| Ok::<_, Error>(!self.pointers.names(&self.connection, schema, views)?.is_empty());
        if properties.is_none() && (has(false)? || has(true)?) {
            let what = format!("connection {}: the schema {schema} is not empty", self.connection);
            return Err(Error::new(Code::InUse, what).hint("drop what is in it first"));
        }
        self.pointers.keep_schema(&self.connection, schema, properties)
    }

    fn as_views(&self) -> Result<Option<&dyn ViewCatalog>> {
        Ok(Some(self))
    }
}

impl ViewCatalog for Pointed {
    fn views(&self, schema: &str) -> Result<Vec<String>> {
        self.pointers.names(&self.connection, schema, true)
    }

    fn view(&self, name: &TableName) -> Result<Option<ViewState>> {
        let Some(pointer) = self.pointers.get(&self.pointer_name(name, true))? else { return Ok(None) };
        let file = self.storage.at(&self.names(&pointer.metadata)?, pointer.bytes)?;
        let text = whole(&self.connection, self.storage.as_ref(), &file)?;
        let document = serde_json::from_slice(&text)
            .map_err(|e| file_error(&self.connection, &file.path, Code::SourceData, format!("it is no JSON: {e}")))?;
        Ok(Some(ViewState { name: name.clone(), document, metadata: Some(pointer.metadata) }))
    }

    fn make_view(&self, name: &TableName, new: &FirstView) -> Result<()> {
        checked(&self.connection, name)?;
        self.is_free(name)?;
        let home = match &new.location {
            Some(location) => self.names(location.trim_end_matches('/'))?,
            None => self.new_home(name),
        };
        let document = view::first(&new.schema, &new.version, &new.properties, &self.storage.location_of(&home)?);
        let document = document.map_err(|what| self.wrong_view(name, what))?;
        match self.put_view(name, None, &home, &document)? {
            true => Ok(()),
            false => Err(taken(&self.pointer_name(name, true))),
        }
    }

    fn change_view(&self, view: &ViewState, updates: &[Json], at: i64) -> Result<bool> {
        let own = self.pointers.get(&self.pointer_name(&view.name, true))?;
        let Some(pointer) = own.filter(|own| Some(&own.metadata) == view.metadata.as_ref()) else { return Ok(false) };
        let next = view::changed(&view.document, updates, at).map_err(|what| self.wrong_view(&view.name, what))?;
        self.put_view(&view.name, Some(&pointer), &self.names(&pointer.location)?, &next)
    }

    fn adopt_view(&self, name: &TableName, metadata: &str) -> Result<()> {
        checked(&self.connection, name)?;
        self.is_free(name)?;
        let names = self.names(metadata)?;
        let (folder, own) = (&names[..names.len().saturating_sub(1)], names.last().map_or("", String::as_str));
        let Some(file) = self.storage.look(folder)?.files.into_iter().find(|file| file.name() == own) else {
            let what = format!("connection {}: {metadata} is not there", self.connection);
            return Err(Error::new(Code::NotFound, what).hint("give the last metadata file of a view"));
        };
        let wrong = |what: String| file_error(&self.connection, &file.path, Code::SourceData, what);
        let text = whole(&self.connection, self.storage.as_ref(), &file)?;
        let document: Json = serde_json::from_slice(&text).map_err(|e| wrong(format!("it is no JSON: {e}")))?;
        view::View::read(&document).map_err(wrong)?;
        let location = document.get("location").and_then(Json::as_str).unwrap_or_default();
        let pointer = Pointer { metadata: metadata.to_owned(), bytes: file.bytes, location: location.to_owned() };
        match self.swap(&self.pointer_name(name, true), None, Some(&pointer))? {
            true => Ok(()),
            false => Err(taken(&self.pointer_name(name, true))),
        }
    }

    fn drop_view(&self, view: &ViewState) -> Result<()> {
        let name = self.pointer_name(&view.name, true);
        let pointer = self.pointers.get(&name)?;
        if !self.swap(&name, view.metadata.as_deref(), None)? {
            return Err(self.changed_meanwhile(&view.name));
        }
        let Some(pointer) = pointer else { return Ok(()) };
        // Where others have chosen the folder, there may be more in it.
        let files =
            files_below(self.storage.as_ref(), &[self.names(&pointer.location)?, vec![METADATA.to_owned()]].concat())?;
        let own = files.iter().filter(|file| file.name().ends_with(".metadata.json"));
        let own = own
            .filter(|file| whole(&self.connection, self.storage.as_ref(), file).is_ok_and(|text| is_of(&text, view)));
        own.into_iter().try_for_each(|file| self.storage.delete(file))
    }

    fn rename_view(&self, view: &ViewState, to: &TableName) -> Result<()> {
        checked(&self.connection, to)?;
        self.is_free(to)?;
        let (from, own) = (self.pointer_name(&view.name, true), self.pointer_name(to, true));
        let Some(before) = &view.metadata else { return Err(self.changed_meanwhile(&view.name)) };
        match self.pointers.rename(&from, before, &own)? {
            true => Ok(()),
            false => Err(self.changed_meanwhile(&view.name)),
        }
    }
}

/// Whether a metadata file is of this view.
fn is_of(text: &[u8], view: &ViewState) -> bool {
    let found: Option<Json> = serde_json::from_slice(text).ok();
    found.is_some_and(|found| {
        found.get("view-uuid").is_some() && found.get("view-uuid") == view.document.get("view-uuid")
    })
}
