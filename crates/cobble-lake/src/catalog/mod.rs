//! Catalogs of tables: who knows which tables there are, and which metadata file is each one's last. One file for each way of knowing it.

mod folders;
mod pointers;
mod protocol;
mod rest;
mod views;

use std::fmt;
use std::sync::Arc;

use cobble_storage::{SchemaProperties, Storage, StoredFile};
use cobble_types::{Code, Error, Result};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::table::{LakeTable, METADATA};

pub use folders::Folders;
pub use pointers::Pointed;
pub use protocol::{Protocol, ProtocolSettings, SignIn};
pub use rest::Rest;
pub use views::{FirstView, ViewCatalog, ViewState};

/// The schema of tables that lie in no folder of a schema.
pub const PUBLIC: &str = "public";

/// The name of a table within a catalog of tables.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableName {
    pub schema: String,
    pub table: String,
}

impl TableName {
    pub fn new(schema: &str, table: &str) -> TableName {
        TableName { schema: schema.to_owned(), table: table.to_owned() }
    }
}

impl fmt::Display for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.schema, self.table)
    }
}

/// The last state of a table, as its catalog tells it.
#[derive(Debug, Clone)]
pub struct Current {
    pub storage: Arc<dyn Storage>,
    /// The names of the table's folder below the storage's address.
    pub home: Vec<String>,
    pub file: StoredFile,
    /// What is in the metadata file, where the catalog has told it.
    pub document: Option<Arc<Json>>,
    /// The metadata file as the catalog names it; without it, it is where the table's location says.
    pub named: Option<String>,
}

/// Makes the first metadata of a table for a location.
pub type Make<'m> = &'m dyn Fn(&str) -> Result<Json>;

pub trait TableCatalog: Send + Sync + fmt::Debug {
    fn schemas(&self) -> Result<Vec<String>>;
    fn tables(&self, schema: &str) -> Result<Vec<String>>;
    /// The table's last state; none where there is no such table.
    fn current(&self, name: &TableName) -> Result<Option<Current>>;
    /// Gets ready to make a table, which its first commit shows; in a folder that the catalog chooses, or in this one.
    fn begin(&self, name: &TableName, location: Option<&str>, make: Make<'_>) -> Result<Current>;
    /// Whether tables can be changed through this catalog.
    ///
    /// # Errors
    /// Says why not.
    fn may_change(&self, table: &LakeTable) -> Result<()>;
    /// Lets `next` be the metadata of the table; false where it has other ones than `table` by now, and then nothing has changed.
    ///
    /// # Errors
    /// [`Code::InDoubt`] when it is not known what has become of it, with no file removed that `next` names; otherwise nothing has changed.
    fn commit(&self, table: &LakeTable, next: &Json) -> Result<bool>;
    /// Drops a table with its files.
    fn drop_table(&self, table: &LakeTable) -> Result<()>;
    /// Lets the catalog forget a table, whose files stay.
    fn release(&self, table: &LakeTable) -> Result<()>;
    /// Gives a table that has files already a name in this catalog. The location is that of its folder, or of its last metadata file.
    fn adopt(&self, name: &TableName, location: &str) -> Result<()>;
    fn rename(&self, table: &LakeTable, to: &TableName) -> Result<()>;
    /// The properties of a schema; none where there is no such schema.
    fn schema_properties(&self, schema: &str) -> Result<Option<SchemaProperties>>;
    /// Keeps a schema with these properties, or forgets one that is empty.
    fn keep_schema(&self, schema: &str, properties: Option<&SchemaProperties>) -> Result<()>;
    /// The views beside the tables, where the catalog keeps views.
    fn as_views(&self) -> Result<Option<&dyn ViewCatalog>> {
        Ok(None)
    }
}

/// What only catalogs can do that keep names of tables apart from their folders.
fn by_folders(connection: &str, what: &str) -> Error {
    Error::new(Code::Unsupported, format!("connection {connection}: {what}: its tables are found by their folders"))
        .hint("tables whose names a service keeps are those of a connection of kind lake_service")
}

/// The name under which a table that is not there yet would have its metadata.
fn first_file(storage: &Arc<dyn Storage>, home: &[String]) -> Result<StoredFile> {
    let names: Vec<String> = home.iter().cloned().chain([METADATA.to_owned(), "v0.metadata.json".to_owned()]).collect();
    storage.at(&names, 0)
}

/// Makes the first metadata of a table whose folder is to be `home`.
fn first(storage: &Arc<dyn Storage>, home: Vec<String>, make: Make<'_>) -> Result<Current> {
    let document = make(&storage.location_of(&home)?)?;
    Ok(Current {
        file: first_file(storage, &home)?,
        storage: storage.clone(),
        home,
        document: Some(Arc::new(document)),
        named: None,
    })
}

/// Whether a name can be that of a folder of a table.
fn is_plain(name: &str) -> bool {
    let part = |c: char| matches!(c, '/' | '\\' | '@') || c.is_control();
    (1..=200).contains(&name.len()) && !name.starts_with(['.', '_']) && !name.contains(part)
}

/// # Errors
/// When the name of a schema or table cannot be that of a folder.
fn checked(connection: &str, name: &TableName) -> Result<()> {
    match [&name.schema, &name.table].into_iter().find(|name| !is_plain(name)) {
        Some(name) => {
            let what = format!("connection {connection}: \"{}\" cannot be the name of a folder", name.escape_debug());
            Err(Error::new(Code::BadSetting, what).hint("choose a plain name"))
        }
        None => Ok(()),
    }
}
