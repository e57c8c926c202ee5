//! By what the rows of a table's files are ordered (table specification, "Sorting").

use cobble_plan::alter::{OrderedColumn, order_by};
use serde_json::{Value as Json, json};

use crate::schema::{Kind, Schema, Told};

/// A column that rows are ordered by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OrderKey {
    /// Its place in the schema.
    pub place: usize,
    pub descending: bool,
    pub nulls_first: bool,
}

/// The keys of an order; none of one with a key that is no column, which is not kept here.
pub fn keys(fields: &Json, schema: &Schema) -> Vec<OrderKey> {
    let text = |field: &Json, name: &str| field.get(name).and_then(Json::as_str).unwrap_or_default().to_owned();
    let one = |field: &Json| {
        let source = field.get("source-id").and_then(Json::as_i64)?;
        let place = schema.fields.iter().position(|column| i64::from(column.id) == source)?;
        (text(field, "transform") == "identity").then(|| OrderKey {
            place,
            descending: text(field, "direction") == "desc",
            nulls_first: text(field, "null-order") == "nulls-first",
        })
    };
    fields.as_array().into_iter().flatten().map(one).collect::<Option<_>>().unwrap_or_default()
}

/// An order as it is written, as the metadata have its fields.
///
/// # Errors
/// Where it names no column, or one of nested values.
pub fn sort_order(text: &str, schema: &Schema) -> Told<Json> {
    let mut fields = Vec::new();
    for OrderedColumn { name, descending, nulls_first } in order_by(text) {
        let source = schema.fields.iter().find(|field| field.name.to_lowercase() == name);
        let source = source.ok_or_else(|| format!("there is no column {name} to order by"))?;
        if matches!(source.kind, Kind::Struct(_) | Kind::List(_) | Kind::Map { .. }) {
            return Err(format!("rows are not ordered by {name}, which is {}", source.kind.sql_type()));
        }
        let direction = if descending { "desc" } else { "asc" };
        let nulls = if nulls_first { "nulls-first" } else { "nulls-last" };
        fields.push(
            json!({ "transform": "identity", "source-id": source.id, "direction": direction, "null-order": nulls }),
        );
    }
    Ok(fields.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_order_is_read_as_it_is_written() {
        let schema = Schema::from_json(&json!({ "type": "struct", "fields": [
            { "id": 4, "name": "Port", "required": false, "type": "string" },
            { "id": 9, "name": "at last", "required": false, "type": "date" },
        ] }))
        .unwrap();
        let read = |text: &str| sort_order(text, &schema).map(|fields| keys(&fields, &schema));
        let key = |place, descending, nulls_first| OrderKey { place, descending, nulls_first };
        let wanted = [key(0, false, false), key(1, true, true)];
        assert_eq!(read("port, \"at last\" DESC").unwrap(), wanted);
        assert_eq!(read("port asc nulls first").unwrap(), [key(0, false, true)]);
        assert_eq!(read("").unwrap(), []);
        assert!(read("berth").unwrap_err().contains("no column berth"));
    }
}
