//! Ids for the fields of files that were written without them, by their names (table specification, appendix A and "Column Projection",
//! property `schema.name-mapping.default`).

use serde::Deserialize;

use crate::metadata::Metadata;
use crate::schema::Told;

const PROPERTY: &str = "schema.name-mapping.default";

/// A field, by the names that files may have for it. Within lists its name is `element`, within maps `key` and `value`.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Mapped {
    #[serde(rename = "field-id")]
    pub id: Option<i32>,
    #[serde(default)]
    pub names: Vec<String>,
    #[serde(default)]
    pub fields: Vec<Mapped>,
}

/// The mapping of a table that has one.
pub fn of(metadata: &Metadata) -> Told<Option<Vec<Mapped>>> {
    let Some(text) = metadata.properties.get(PROPERTY) else { return Ok(None) };
    serde_json::from_str(text)
        .map(Some)
        .map_err(|e| format!("its property {PROPERTY} is not a valid name mapping: {e}"))
}

/// What is mapped under a name.
pub fn named<'m>(all: &'m [Mapped], name: &str) -> Option<&'m Mapped> {
    all.iter().find(|field| field.names.iter().any(|own| own == name))
}
