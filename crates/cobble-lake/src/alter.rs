//! Changing what a table is: its columns, partitioning, order and properties (table specification, "Schema Evolution" and "Partition
//! Evolution"). Files that are there stay as they are.

use cobble_plan::alter::Alteration;
use cobble_types::SqlType;
use serde_json::{Value as Json, json};

use crate::create::{Ids, partitioning};
use crate::documents::{following_id, list, members, number, set};
use crate::metadata::{FIRST_PARTITION_ID, Metadata, PartitionField, Spec};
use crate::order::sort_order;
use crate::schema::{Field, Kind, Schema, Told};
use crate::transform::Transform;

fn id_in(json: &Json, name: &str) -> Option<i32> {
    i32::try_from(number(json, name)?).ok()
}

/// The greatest id that a field of the table has or has had.
fn last_column(json: &Json, metadata: &Metadata) -> i32 {
    fn greatest(field: &Field) -> i32 {
        let inner = match &field.kind {
            Kind::Struct(fields) => fields.iter().map(greatest).max().unwrap_or(0),
            Kind::List(item) => greatest(item),
            Kind::Map { key, value } => greatest(key).max(greatest(value)),
            _ => 0,
        };
        inner.max(field.id)
    }
    let known = metadata.schemas.iter().flat_map(|schema| &schema.fields).map(greatest).max().unwrap_or(0);
    known.max(id_in(json, "last-column-id").unwrap_or(0))
}

/// Where a name is among fields. Names are those of SQL: in small letters.
fn place_of(fields: &[Field], name: &str) -> Told<usize> {
    let found = fields.iter().position(|field| field.name.to_lowercase() == name);
    found.ok_or_else(|| {
        let known: Vec<String> = fields.iter().map(|field| field.name.to_lowercase()).collect();
        format!("there is no column {name}; there are {}", known.join(", "))
    })
}

/// The fields of the level that a name is on, and the name there.
fn level<'f, 'n>(fields: &'f mut Vec<Field>, name: &'n [String]) -> Told<(&'f mut Vec<Field>, &'n str)> {
    match name {
        [] => Err("a column has no name".into()),
        [own] => Ok((fields, own)),
        [outer, rest @ ..] => {
            let place = place_of(fields, outer)?;
            match &mut fields[place].kind {
                Kind::Struct(inner) => level(inner, rest),
                _ => Err(format!("{outer} is no row, so that it has no field {}", rest.join("."))),
            }
        }
    }
}

/// Whether all values of a type are values of the other (table specification, "Schema Evolution").
fn widens(from: &Kind, to: &Kind) -> bool {
    match (from, to) {
        (Kind::Int, Kind::Long) | (Kind::Float, Kind::Double) => true,
        (Kind::Decimal { precision, scale }, Kind::Decimal { precision: wider, scale: same }) => {
            scale == same && precision <= wider
        }
        (from, to) => from == to,
    }
}

fn is_new(fields: &[Field], name: &str) -> Told<()> {
    match fields.iter().any(|field| field.name.to_lowercase() == name.to_lowercase()) {
        true => Err(format!("there is a column {name} already")),
        false => Ok(()),
    }
}

/// What needs a field: a partitioning, an order or what identifies rows.
fn user(json: &Json, metadata: &Metadata, schema: &Schema, field: &Field) -> Option<&'static str> {
    let spec = metadata.spec(metadata.spec_id).ok()?;
    if spec.fields.iter().any(|own| own.transform != Transform::Void && field.has(own.source)) {
        return Some("the table is partitioned by it");
    }
    let order = id_in(json, "default-sort-order-id").unwrap_or(0);
    let orders = json.get("sort-orders").and_then(Json::as_array)?;
    let own = orders.iter().find(|own| id_in(own, "order-id") == Some(order));
    let sources = own.and_then(|own| own.get("fields")).and_then(Json::as_array).into_iter().flatten();
    if sources.filter_map(|own| id_in(own, "source-id")).any(|id| field.has(id)) {
        return Some("the table is ordered by it");
    }
    schema.identifiers.iter().any(|id| field.has(*id)).then_some("it identifies rows")
}

fn columns(json: &Json, metadata: &Metadata, alteration: &Alteration, schema: &mut Schema, last: &mut i32) -> Told<()> {
    let before = schema.clone();
    match alteration {
        Alteration::AddColumn { name, sql_type, not_null } => {
            if *not_null {
                return Err("a column that is added takes nulls: the rows that are there have no value of it".into());
            }
            let (fields, own) = level(&mut schema.fields, name)?;
            is_new(fields, own)?;
            let mut ids = Ids(*last);
            let made = ids.fields(&[(own.to_owned(), sql_type, false)])?;
            *last = ids.0;
            fields.extend(made);
        }
        Alteration::DropColumn { name } => {
            let (fields, own) = level(&mut schema.fields, name)?;
            let place = place_of(fields, own)?;
            if let Some(why) = user(json, metadata, &before, &fields[place]) {
                return Err(format!("column {own} cannot be dropped: {why}"));
            }
            if fields.len() == 1 {
                return Err(format!("column {own} is the last one"));
            }
            fields.remove(place);
        }
        Alteration::RenameColumn { name, to } => {
            let (fields, own) = level(&mut schema.fields, name)?;
            let place = place_of(fields, own)?;
            is_new(fields, to)?;
            fields[place].name.clone_from(to);
        }
        Alteration::Widen { name, sql_type } => {
            let (fields, own) = level(&mut schema.fields, name)?;
            let place = place_of(fields, own)?;
            let wider = match sql_type {
                SqlType::Array(_) | SqlType::Row(_) => return Err(format!("{own} is changed field by field")),
                simple => Ids(0).kind(simple)?,
            };
            if !widens(&fields[place].kind, &wider) {
                let had = fields[place].kind.sql_type();
                return Err(format!(
                    "column {own} is {had}, and {sql_type} is no wider form of it: there are bigint for integer, double precision for real and more digits for numeric"
                ));
            }
            fields[place].kind = wider;
        }
        Alteration::Move { name, after } => {
            let (fields, own) = level(&mut schema.fields, name)?;
            let field = fields.remove(place_of(fields, own)?);
            let place = match after {
                Some(other) => place_of(fields, other)? + 1,
                None => 0,
            };
            fields.insert(place, field);
        }
        Alteration::DropNotNull { name } => {
            let (fields, own) = level(&mut schema.fields, name)?;
            let place = place_of(fields, own)?;
            if before.identifiers.contains(&fields[place].id) {
                return Err(format!("column {own} takes no nulls: it identifies rows"));
            }
            fields[place].required = false;
        }
        _ => return Err("this is no change of columns".into()),
    }
    Ok(())
}

/// The new partitioning, whose fields keep the ids that the same ones have had before.
fn respecified(metadata: &Metadata, wanted: Spec, last: &mut i32) -> Told<Spec> {
    let known: Vec<&PartitionField> = metadata.specs.iter().flat_map(|spec| &spec.fields).collect();
    let mut fields: Vec<PartitionField> = Vec::new();
    let own = |wanted: &PartitionField, last: &mut i32| {
        let same = known.iter().find(|f| f.source == wanted.source && f.transform == wanted.transform);
        let id = match same {
            Some(same) => same.id,
            None => {
                *last = following_id([*last], 0)?;
                *last
            }
        };
        Ok(PartitionField { id, name: same.map_or(&wanted.name, |same| &same.name).clone(), ..wanted.clone() })
    };
    let mut wanted = wanted.fields;
    if metadata.version == 1 {
        // Fields of version 1 are known by their places: those that were there stay, without values.
        let before = metadata.spec(metadata.spec_id).map(|spec| spec.fields.clone()).unwrap_or_default();
        for field in before {
            let place = wanted.iter().position(|own| own.source == field.source && own.transform == field.transform);
            fields.push(match place {
                Some(place) => {
                    wanted.remove(place);
                    field
                }
                None => PartitionField { transform: Transform::Void, ..field },
            });
        }
    }
    fields.extend(wanted.iter().map(|field| own(field, last)).collect::<Told<Vec<_>>>()?);
    Ok(Spec { id: 0, fields })
}

/// The metadata of a table, changed.
///
/// # Errors
/// When the table cannot be changed so: then what is wrong with the change.
pub fn altered(mut json: Json, metadata: &Metadata, alterations: &[Alteration]) -> Told<Json> {
    let before = metadata.schema(metadata.schema_id)?;
    let mut schema = before.clone();
    let mut last = last_column(&json, metadata);
    for alteration in alterations {
        match alteration {
            Alteration::PartitionBy(text) => {
                let known = metadata.specs.iter().flat_map(|spec| &spec.fields).map(|field| field.id);
                let mut last = known.max().unwrap_or(0).max(FIRST_PARTITION_ID - 1);
                last = last.max(id_in(&json, "last-partition-id").unwrap_or(0));
                let spec = respecified(metadata, partitioning(text, &schema)?, &mut last)?;
                let names: Vec<&str> = spec.fields.iter().map(|field| field.name.as_str()).collect();
                if let Some(name) = names.iter().enumerate().find(|(at, name)| names[..*at].contains(name)) {
                    return Err(format!("the partitioning has two fields named {}", name.1));
                }
                let same = metadata.specs.iter().find(|known| known.fields == spec.fields).map(|known| known.id);
                let id = match same {
                    Some(id) => id,
                    None => {
                        let id = following_id(metadata.specs.iter().map(|spec| spec.id), 0)?;
                        let all = list(&mut json, "partition-specs")?;
                        if all.is_empty() {
                            // A table of version 1 may have its only one elsewhere.
                            let known = metadata.specs.iter();
                            all.extend(known.map(|s| json!({ "spec-id": s.id, "fields": s.fields_json() })));
                        }
                        all.push(json!({ "spec-id": id, "fields": spec.fields_json() }));
                        id
                    }
                };
                set(&mut json, "default-spec-id", id)?;
                set(&mut json, "last-partition-id", last)?;
                if metadata.version == 1 {
                    set(&mut json, "partition-spec", spec.fields_json())?;
                }
            }
            Alteration::OrderBy(text) => {
                let fields = sort_order(text, &schema)?;
                let all = list(&mut json, "sort-orders")?;
                let same = all.iter().find(|own| own.get("fields") == Some(&fields));
                let id = match same.and_then(|own| id_in(own, "order-id")) {
                    Some(id) => id,
                    // The order 0 is none.
                    None if fields.as_array().is_some_and(Vec::is_empty) => {
                        all.push(json!({ "order-id": 0, "fields": [] }));
                        0
                    }
                    None => {
                        let id = following_id(all.iter().filter_map(|own| id_in(own, "order-id")), 1)?;
                        all.push(json!({ "order-id": id, "fields": fields }));
                        id
                    }
                };
                set(&mut json, "default-sort-order-id", id)?;
            }
            Alteration::Set(properties) => {
                for (name, value) in properties {
                    members(&mut json, "properties")?.insert(name.clone(), json!(value));
                }
            }
            Alteration::Reset(names) => {
                if let Some(own) = json.get_mut("properties").and_then(Json::as_object_mut) {
                    names.iter().for_each(|name| drop(own.remove(name)));
                }
            }
            of_column => columns(&json, metadata, of_column, &mut schema, &mut last)?,
        }
    }
    if schema.fields != before.fields {
        let same = metadata.schemas.iter().find(|known| known.fields == schema.fields);
        let is_new = same.is_none();
        schema.id = same
            .map_or_else(|| metadata.schemas.iter().map(|schema| schema.id).max().unwrap_or(-1) + 1, |known| known.id);
        if is_new {
            let all = list(&mut json, "schemas")?;
            if all.is_empty() {
                all.extend(metadata.schemas.iter().map(Schema::to_json));
            }
            all.push(schema.to_json());
        }
        set(&mut json, "current-schema-id", schema.id)?;
        set(&mut json, "last-column-id", last)?;
        if metadata.version == 1 {
            set(&mut json, "schema", schema.to_json())?;
        }
    }
    Ok(json)
}
