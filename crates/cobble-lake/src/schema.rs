//! Schemas of lake tables (table specification, "Schemas and Data Types", and appendix C for their JSON). Every field at every level has an id
//! of its own, which it keeps when it is renamed, moved or widened: data is found by ids, never by names.

use cobble_types::{RowField, SqlType};
use serde_json::{Value as Json, json};

/// A schema of a table; tables keep all that they have had.
#[derive(Debug, Clone, PartialEq)]
pub struct Schema {
    pub id: i32,
    pub fields: Vec<Field>,
    /// Ids of the fields that identify a row.
    pub identifiers: Vec<i32>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    pub id: i32,
    pub name: String,
    pub required: bool,
    pub kind: Kind,
    pub comment: Option<String>,
}

/// The type of a field.
#[derive(Debug, Clone, PartialEq)]
pub enum Kind {
    Boolean,
    Int,
    Long,
    Float,
    Double,
    Decimal { precision: u8, scale: i8 },
    Date,
    Time,
    Timestamp,
    TimestampTz,
    String,
    Uuid,
    Fixed(u32),
    Binary,
    Struct(Vec<Field>),
    List(Box<Field>),
    Map { key: Box<Field>, value: Box<Field> },
}

/// What keeps a piece of metadata from being read, to stand behind its file's name.
pub type Told<T> = std::result::Result<T, String>;

/// Types that only later versions of the specification have.
const LATER: &[&str] = &["timestamp_ns", "timestamptz_ns", "unknown", "variant", "geometry", "geography"];

impl Schema {
    pub fn from_json(json: &Json) -> Told<Schema> {
        let id = json.get("schema-id").map_or(Ok(0), |id| small(id, "schema-id"))?;
        let identifiers = match json.get("identifier-field-ids").and_then(Json::as_array) {
            Some(all) => all.iter().map(|id| small(id, "identifier-field-ids")).collect::<Told<_>>()?,
            None => vec![],
        };
        Ok(Schema { id, fields: fields(json)?, identifiers })
    }

    /// As the metadata have it.
    pub fn to_json(&self) -> Json {
        let mut json = json!({ "type": "struct", "schema-id": self.id, "fields": fields_json(&self.fields) });
        if !self.identifiers.is_empty() {
            json["identifier-field-ids"] = json!(self.identifiers);
        }
        json
    }

    /// The field of this id, at whatever level.
    pub fn field(&self, id: i32) -> Option<&Field> {
        self.fields.iter().find_map(|field| field.find(id))
    }
}

fn small(json: &Json, what: &str) -> Told<i32> {
    json.as_i64().and_then(|n| i32::try_from(n).ok()).ok_or_else(|| format!("{what} is no whole number: {json}"))
}

fn text<'a>(json: &'a Json, name: &str) -> Told<&'a str> {
    json.get(name).and_then(Json::as_str).ok_or_else(|| format!("a field lacks its {name}"))
}

fn fields(json: &Json) -> Told<Vec<Field>> {
    let all = json.get("fields").and_then(Json::as_array).ok_or("a schema or struct lacks its fields")?;
    all.iter()
        .map(|field| {
            Ok(Field {
                id: small(field.get("id").unwrap_or(&Json::Null), "the id of a field")?,
                name: text(field, "name")?.to_owned(),
                required: field.get("required").and_then(Json::as_bool).unwrap_or(false),
                kind: Kind::from_json(field.get("type").unwrap_or(&Json::Null))?,
                comment: field.get("doc").and_then(Json::as_str).map(str::to_owned),
            })
        })
        .collect()
}

impl Field {
    /// Whether it is the field of this id, or holds it.
    pub fn has(&self, id: i32) -> bool {
        self.find(id).is_some()
    }

    fn find(&self, id: i32) -> Option<&Field> {
        if self.id == id {
            return Some(self);
        }
        match &self.kind {
            Kind::Struct(fields) => fields.iter().find_map(|field| field.find(id)),
            Kind::List(item) => item.find(id),
            Kind::Map { key, value } => key.find(id).or_else(|| value.find(id)),
            _ => None,
        }
    }
}

fn fields_json(fields: &[Field]) -> Json {
    let one = |field: &Field| {
        let mut json =
            json!({ "id": field.id, "name": field.name, "required": field.required, "type": field.kind.to_json() });
        if let Some(comment) = &field.comment {
            json["doc"] = json!(comment);
        }
        json
    };
    fields.iter().map(one).collect()
}

impl Kind {
    fn to_json(&self) -> Json {
        match self {
            Kind::Boolean => json!("boolean"),
            Kind::Int => json!("int"),
            Kind::Long => json!("long"),
            Kind::Float => json!("float"),
            Kind::Double => json!("double"),
            Kind::Decimal { precision, scale } => json!(format!("decimal({precision}, {scale})")),
            Kind::Date => json!("date"),
            Kind::Time => json!("time"),
            Kind::Timestamp => json!("timestamp"),
            Kind::TimestampTz => json!("timestamptz"),
            Kind::String => json!("string"),
            Kind::Uuid => json!("uuid"),
            Kind::Fixed(length) => json!(format!("fixed[{length}]")),
            Kind::Binary => json!("binary"),
            Kind::Struct(fields) => json!({ "type": "struct", "fields": fields_json(fields) }),
            Kind::List(item) => json!({ "type": "list", "element-id": item.id, "element-required": item.required,
                "element": item.kind.to_json() }),
            Kind::Map { key, value } => json!({ "type": "map", "key-id": key.id, "key": key.kind.to_json(),
                "value-id": value.id, "value-required": value.required, "value": value.kind.to_json() }),
        }
    }

    pub fn from_json(json: &Json) -> Told<Kind> {
        let Some(name) = json.as_str() else { return Kind::nested(json) };
        Ok(match name {
            "boolean" => Kind::Boolean,
            "int" => Kind::Int,
            "long" => Kind::Long,
            "float" => Kind::Float,
            "double" => Kind::Double,
            "date" => Kind::Date,
            "time" => Kind::Time,
            "timestamp" => Kind::Timestamp,
            "timestamptz" => Kind::TimestampTz,
            "string" => Kind::String,
            "uuid" => Kind::Uuid,
            "binary" => Kind::Binary,
            other => return Kind::with_numbers(other),
        })
    }

    /// `decimal(9,2)`, `fixed[16]`.
    fn with_numbers(name: &str) -> Told<Kind> {
        if let Some(inner) = name.strip_prefix("decimal(").and_then(|rest| rest.strip_suffix(')'))
            && let Some((precision, scale)) = inner.split_once(',')
            && let (Ok(precision), Ok(scale)) = (precision.trim().parse::<u8>(), scale.trim().parse::<i8>())
            && (1..=38).contains(&precision)
            && (0..=precision as i8).contains(&scale)
        {
            return Ok(Kind::Decimal { precision, scale });
        }
        if let Some(length) = name.strip_prefix("fixed[").and_then(|rest| rest.strip_suffix(']'))
            && let Ok(length) = length.trim().parse()
        {
            return Ok(Kind::Fixed(length));
        }
        Err(match LATER.iter().any(|later| name.starts_with(later)) {
            true => format!("the type {name} belongs to a later version of the table specification"),
            false => format!("there is no type {name}"),
        })
    }

    fn nested(json: &Json) -> Told<Kind> {
        let part = |name: &str, id: &str, required: bool| -> Told<Box<Field>> {
            Ok(Box::new(Field {
                id: small(json.get(id).unwrap_or(&Json::Null), id)?,
                name: name.to_owned(),
                required,
                kind: Kind::from_json(json.get(name).unwrap_or(&Json::Null))?,
                comment: None,
            }))
        };
        let said = |name: &str| json.get(name).and_then(Json::as_bool).unwrap_or(false);
        match json.get("type").and_then(Json::as_str) {
            Some("struct") => Ok(Kind::Struct(fields(json)?)),
            Some("list") => Ok(Kind::List(part("element", "element-id", said("element-required"))?)),
            Some("map") => Ok(Kind::Map {
                key: part("key", "key-id", true)?,
                value: part("value", "value-id", said("value-required"))?,
            }),
            _ => Err(format!("there is no type {json}")),
        }
    }

    /// The engine's type: a map is an array of rows of key and value, and what has a fixed length is plain bytes.
    pub fn sql_type(&self) -> SqlType {
        let row = |fields: &[Field]| {
            SqlType::Row(
                fields.iter().map(|f| RowField { name: f.name.to_lowercase(), sql_type: f.kind.sql_type() }).collect(),
            )
        };
        match self {
            Kind::Boolean => SqlType::Boolean,
            Kind::Int => SqlType::Integer,
            Kind::Long => SqlType::BigInt,
            Kind::Float => SqlType::Real,
            Kind::Double => SqlType::Double,
            Kind::Decimal { precision, scale } => SqlType::Numeric { precision: *precision, scale: *scale },
            Kind::Date => SqlType::Date,
            Kind::Time => SqlType::Time,
            Kind::Timestamp => SqlType::Timestamp,
            Kind::TimestampTz => SqlType::TimestampTz,
            Kind::String => SqlType::Text,
            Kind::Uuid => SqlType::Uuid,
            Kind::Fixed(_) | Kind::Binary => SqlType::Bytea,
            Kind::Struct(fields) => row(fields),
            Kind::List(item) => SqlType::Array(Box::new(item.kind.sql_type())),
            Kind::Map { key, value } => SqlType::Array(Box::new(row(&[key.as_ref().clone(), value.as_ref().clone()]))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_read_and_later_ones_are_named() {
        let schema = Schema::from_json(&json!({ "type": "struct", "schema-id": 3, "identifier-field-ids": [1], "fields": [
            { "id": 1, "name": "id", "required": true, "type": "long" },
            { "id": 2, "name": "Fare", "required": false, "type": "decimal(9, 2)", "doc": "in crowns" },
            { "id": 3, "name": "seals", "type": { "type": "list", "element-id": 6, "element-required": true, "element": "fixed[16]" } },
            { "id": 4, "name": "marks", "type": { "type": "map", "key-id": 7, "key": "string", "value-id": 8, "value": {
                "type": "struct", "fields": [{ "id": 9, "name": "at", "required": false, "type": "timestamptz" }] } } },
        ] }))
        .unwrap();
        assert_eq!((schema.id, schema.identifiers.as_slice()), (3, &[1][..]));
        let types: Vec<String> = schema.fields.iter().map(|field| field.kind.sql_type().to_string()).collect();
        assert_eq!(types, ["bigint", "numeric(9,2)", "bytea[]", "row(key text, value row(at timestamptz))[]"]);
        assert_eq!(Schema::from_json(&schema.to_json()).unwrap(), schema, "it is written as it is read");
        assert_eq!(schema.field(9).unwrap().name, "at");
        assert!(schema.field(6).unwrap().required && !schema.field(8).unwrap().required);
        for (kind, told) in [
            (json!("timestamp_ns"), "a later version"),
            (json!("decimal(39,2)"), "no type"),
            (json!("decimal(9,12)"), "no type"),
            (json!({ "type": "tuple" }), "no type"),
            (json!({ "type": "struct" }), "lacks its fields"),
            (json!({ "type": "list", "element-id": "x", "element": "int" }), "element-id is no whole number"),
            (json!(null), "no type"),
        ] {
            let error = Kind::from_json(&kind).unwrap_err();
            assert!(error.contains(told), "{kind}: {error}");
        }
    }
}
