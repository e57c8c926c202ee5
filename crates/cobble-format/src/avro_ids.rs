//! The ids of fields in the schema of an Avro file (table specification, appendix A, "Avro"), put to the columns that the package makes of it.

use std::sync::Arc;

use arrow::datatypes::{DataType, Field, Schema};
use serde_json::Value as Json;

use crate::whole_file::with_id;

/// The columns with the ids that the schema's text gives their fields, at every level.
pub fn with_ids(columns: &Schema, text: &[u8]) -> Schema {
    let json: Json = serde_json::from_slice(text).unwrap_or_default();
    let fields = fields_with_ids(columns.fields().iter(), &json);
    Schema::new_with_metadata(fields, columns.metadata().clone())
}

fn id(json: &Json, name: &str) -> Option<i32> {
    json.get(name)?.as_i64().and_then(|id| i32::try_from(id).ok())
}

/// What stands beside null, and what an annotation is put to.
fn present(json: &Json) -> &Json {
    match json {
        Json::Array(branches) => match branches.iter().find(|branch| branch.as_str() != Some("null")) {
            Some(branch) => present(branch),
            None => json,
        },
        Json::Object(own) => match own.get("type") {
            Some(inner @ (Json::Object(_) | Json::Array(_))) => present(inner),
            _ => json,
        },
        _ => json,
    }
}

fn fields_with_ids<'f>(columns: impl Iterator<Item = &'f Arc<Field>>, record: &Json) -> Vec<Field> {
    let own = present(record).get("fields").and_then(Json::as_array).map(Vec::as_slice).unwrap_or_default();
    let one = |(place, column): (usize, &Arc<Field>)| match own.get(place) {
        Some(field) => with_id(&within(column, field.get("type").unwrap_or(&Json::Null)), id(field, "field-id")),
        None => column.as_ref().clone(),
    };
    columns.enumerate().map(one).collect()
}

/// A column with the ids of what lies within it.
fn within(column: &Field, json: &Json) -> Field {
    let own = present(json);
    let part = |name: &str| own.get(name).unwrap_or(&Json::Null);
    let data_type = match column.data_type() {
        DataType::Struct(fields) => DataType::Struct(fields_with_ids(fields.iter(), own).into()),
        DataType::List(item) => DataType::List(Arc::new(with_id(&within(item, part("items")), id(own, "element-id")))),
        DataType::Map(entries, sorted) => {
            let DataType::Struct(pair) = entries.data_type() else { return column.clone() };
            let [key, value] = pair.as_ref() else { return column.clone() };
            let pair = [with_id(key, id(own, "key-id")), with_id(&within(value, part("values")), id(own, "value-id"))];
            let entries = entries.as_ref().clone().with_data_type(DataType::Struct(pair.into_iter().collect()));
            DataType::Map(Arc::new(entries), *sorted)
        }
        other => other.clone(),
    };
    column.clone().with_data_type(data_type)
}
