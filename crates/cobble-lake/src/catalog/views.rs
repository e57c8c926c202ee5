//! Views of a catalog that keeps some: by the side of its tables, under names of the same schemas.

use std::fmt;

use cobble_types::Result;
use serde_json::Value as Json;

use super::TableName;

/// The last state of a view.
#[derive(Debug, Clone)]
pub struct ViewState {
    pub name: TableName,
    pub document: Json,
    /// Its metadata file, where the catalog tells.
    pub metadata: Option<String>,
}

/// A view that is not there yet, in the words of the open protocol.
#[derive(Debug, Clone)]
pub struct FirstView {
    pub schema: Json,
    pub version: Json,
    pub properties: Json,
    pub location: Option<String>,
}

pub trait ViewCatalog: Send + Sync + fmt::Debug {
    fn views(&self, schema: &str) -> Result<Vec<String>>;
    fn view(&self, name: &TableName) -> Result<Option<ViewState>>;
    /// # Errors
    /// [`cobble_types::Code::AlreadyExists`] when the name is taken, also by a table.
    fn make_view(&self, name: &TableName, first: &FirstView) -> Result<()>;
    /// Makes changes in the words of the open protocol; false, with nothing changed, where the view has another state than `view` by now.
    fn change_view(&self, view: &ViewState, updates: &[Json], at: i64) -> Result<bool>;
    /// Gives a view that has a metadata file already a name in this catalog.
    fn adopt_view(&self, name: &TableName, metadata: &str) -> Result<()>;
    fn drop_view(&self, view: &ViewState) -> Result<()>;
    fn rename_view(&self, view: &ViewState, to: &TableName) -> Result<()>;
}
