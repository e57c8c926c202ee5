//! The first metadata of a new table (table specification, "Table Metadata", version 2).

use std::collections::BTreeMap;

use cobble_plan::alter::{parts, unquoted};
use cobble_types::SqlType;
use serde_json::{Value as Json, json};

use crate::bounds::uuid;
use crate::documents::following_id;
use crate::metadata::{FIRST_PARTITION_ID, PartitionField, Spec};
use crate::order::sort_order;
use crate::schema::{Field, Kind, Schema, Told};
use crate::transform::Transform;

/// A column of a new table.
#[derive(Debug, Clone)]
pub struct NewTableColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub required: bool,
}

/// Gives fields ids: those of one level before those within them.
pub(crate) struct Ids(pub(crate) i32);

impl Ids {
    /// # Errors
    /// When no id is left.
    pub(crate) fn next(&mut self) -> Told<i32> {
        self.0 = following_id([self.0], 1)?;
        Ok(self.0)
    }

    pub(crate) fn kind(&mut self, sql_type: &SqlType) -> Told<Kind> {
        Ok(match sql_type {
            SqlType::Boolean => Kind::Boolean,
            SqlType::SmallInt | SqlType::Integer => Kind::Int,
            SqlType::BigInt => Kind::Long,
            SqlType::Real => Kind::Float,
            SqlType::Double => Kind::Double,
            SqlType::Numeric { precision, scale } if (0..=*precision as i8).contains(scale) => {
                Kind::Decimal { precision: *precision, scale: *scale }
            }
            SqlType::Date => Kind::Date,
            SqlType::Time => Kind::Time,
            SqlType::Timestamp => Kind::Timestamp,
            SqlType::TimestampTz => Kind::TimestampTz,
            SqlType::Text => Kind::String,
            SqlType::Uuid => Kind::Uuid,
            SqlType::Bytea => Kind::Binary,
            SqlType::Array(item) => {
                let id = self.next()?;
                Kind::List(Box::new(Field {
                    id,
                    name: "element".to_owned(),
                    required: false,
                    kind: self.kind(item)?,
                    comment: None,
                }))
            }
            SqlType::Row(fields) => {
                let own: Vec<(String, &SqlType, bool)> =
                    fields.iter().map(|field| (field.name.clone(), &field.sql_type, false)).collect();
                Kind::Struct(self.fields(&own)?)
            }
            other => return Err(format!("the table format has no type for {other}")),
        })
    }

    pub(crate) fn fields(&mut self, columns: &[(String, &SqlType, bool)]) -> Told<Vec<Field>> {
        let ids: Vec<i32> = columns.iter().map(|_| self.next()).collect::<Told<_>>()?;
        let one = |(id, (name, sql_type, required)): (i32, &(String, &SqlType, bool))| {
            let kind = self.kind(sql_type).map_err(|what| format!("column {name}: {what}"))?;
            Ok(Field { id, name: name.clone(), required: *required, kind, comment: None })
        };
        ids.into_iter().zip(columns).map(one).collect()
    }
}

/// A partitioning as it is written: `month(departed_at), bucket(16, vessel), port`.
///
/// # Errors
/// Where it names no column, no transform, or one that the column's type does not have.
pub fn partitioning(text: &str, schema: &Schema) -> Told<Spec> {
    let mut fields: Vec<PartitionField> = Vec::new();
    for part in parts(text) {
        let part = part.trim();
        let (name, arguments) = match part.strip_suffix(')').and_then(|rest| rest.split_once('(')) {
            Some((name, inside)) => (name.trim().to_lowercase(), inside.split(',').map(str::trim).collect()),
            None => ("identity".to_owned(), vec![part]),
        };
        let is_number = |text: &&str| text.parse::<u32>().is_ok();
        let (numbers, columns): (Vec<&str>, Vec<&str>) = arguments.into_iter().partition(is_number);
        let ([column], [] | [_]) = (columns.as_slice(), numbers.as_slice()) else {
            return Err(format!(
                "{part} is no partition field: it is a column, or a transform of one such as month(column) or bucket(16, column)"
            ));
        };
        let column = unquoted(column);
        let source = schema.fields.iter().find(|field| field.name.to_lowercase() == column);
        let source = source.ok_or_else(|| format!("there is no column {column} to partition by"))?;
        let (written, own) = match numbers.as_slice() {
            [number] => (format!("{name}[{number}]"), format!("{}_{name}_{number}", source.name)),
            _ if name == "identity" => (name.clone(), source.name.clone()),
            _ => (name.clone(), format!("{}_{name}", source.name)),
        };
        let transform = Transform::from_text(&written)?;
        if !transform.takes(&source.kind) {
            return Err(format!("{name} is no transform of column {column}, which is {}", source.kind.sql_type()));
        }
        if fields.iter().any(|field| field.name == own) {
            return Err(format!("{part} is given twice"));
        }
        let id = FIRST_PARTITION_ID + fields.len() as i32;
        fields.push(PartitionField { source: source.id, id, name: own, transform });
    }
    Ok(Spec { id: 0, fields })
}

/// 16 bytes that no other table has, as their text (RFC 9562, version 4).
pub fn new_uuid() -> String {
    let mut mark: [u8; 16] = rand::random();
    mark[6] = mark[6] & 0x0f | 0x40;
    mark[8] = mark[8] & 0x3f | 0x80;
    uuid(&mark).unwrap_or_default()
}

/// The metadata of a table without rows. `now` is in milliseconds since 1970-01-01 UTC.
pub fn new_table(
    columns: &[NewTableColumn],
    (partition_by, order_by): (&str, &str),
    properties: &BTreeMap<String, String>,
    location: &str,
    now: i64,
) -> Told<Json> {
    let mut ids = Ids(0);
    let own: Vec<(String, &SqlType, bool)> =
        columns.iter().map(|column| (column.name.clone(), &column.sql_type, column.required)).collect();
    let schema = Schema { id: 0, fields: ids.fields(&own)?, identifiers: vec![] };
    let spec = partitioning(partition_by, &schema)?;
    let mut orders = vec![json!({ "order-id": 0, "fields": [] })];
    let own = sort_order(order_by, &schema)?;
    if own.as_array().is_some_and(|own| !own.is_empty()) {
        orders.push(json!({ "order-id": 1, "fields": own }));
    }
    Ok(json!({
        "format-version": 2,
        "table-uuid": new_uuid(),
        "location": location,
        "last-sequence-number": 0,
        "last-updated-ms": now,
        "last-column-id": ids.0,
        "current-schema-id": 0,
        "schemas": [schema.to_json()],
        "default-spec-id": 0,
        "partition-specs": [{ "spec-id": 0, "fields": spec.fields_json() }],
        "last-partition-id": FIRST_PARTITION_ID - 1 + spec.fields.len() as i32,
        "default-sort-order-id": orders.len() - 1,
        "sort-orders": orders,
        "properties": properties,
        "current-snapshot-id": -1,
        "refs": {},
        "snapshots": [],
        "snapshot-log": [],
        "metadata-log": [],
    }))
}
