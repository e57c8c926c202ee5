//! Ids for the fields of files that were written without them, by their names (table specification, appendix A and "Column Projection",
//! property `schema.name-mapping.default`).

use serde::{Deserialize, Serialize};

use crate::metadata::Metadata;
use crate::schema::{Field, Kind, Told};

pub const PROPERTY: &str = "schema.name-mapping.default";

/// A field, by the names that files may have for it. Within lists its name is `element`, within maps `key` and `value`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mapped {
    #[serde(rename = "field-id", skip_serializing_if = "Option::is_none")]
    pub id: Option<i32>,
    #[serde(default)]
    pub names: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
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

/// The mapping of fields by their own names.
pub fn of_fields(fields: &[Field]) -> Vec<Mapped> {
    let one = |field: &Field| Mapped {
        id: Some(field.id),
        names: vec![field.name.clone()],
        fields: match &field.kind {
            Kind::Struct(inner) => of_fields(inner),
            Kind::List(item) => of_fields(std::slice::from_ref(item.as_ref())),
            Kind::Map { key, value } => of_fields(&[key.as_ref().clone(), value.as_ref().clone()]),
            _ => vec![],
        },
    };
    fields.iter().map(one).collect()
}

/// Such a mapping as the table's property has it.
pub fn written(fields: &[Field]) -> String {
    serde_json::to_string(&of_fields(fields)).unwrap_or_default()
}
