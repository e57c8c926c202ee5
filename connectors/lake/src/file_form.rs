//! Columns of the engine in the form that a table's files have them, with the ids of their fields (table specification, appendix A, "Parquet").

use std::collections::HashMap;
use std::sync::Arc;

use arrow::array::{Array, ArrayRef, AsArray, FixedSizeBinaryBuilder, ListArray, MapArray, StructArray};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Field as ArrowField, FieldRef, Fields, TimeUnit};
use arrow::error::ArrowError;
use cobble_format::FIELD_ID;
use cobble_lake::bounds::uuid_bytes;
use cobble_lake::schema::{Field, Kind};

type Made = Result<ArrayRef, ArrowError>;

/// A field of a file.
pub fn file_field(field: &Field) -> FieldRef {
    let metadata = HashMap::from([(FIELD_ID.to_owned(), field.id.to_string())]);
    Arc::new(ArrowField::new(&field.name, file_type(&field.kind), !field.required).with_metadata(metadata))
}

fn file_type(kind: &Kind) -> DataType {
    match kind {
        Kind::Boolean => DataType::Boolean,
        Kind::Int => DataType::Int32,
        Kind::Long => DataType::Int64,
        Kind::Float => DataType::Float32,
        Kind::Double => DataType::Float64,
        Kind::Decimal { precision, scale } => DataType::Decimal128(*precision, *scale),
        Kind::Date => DataType::Date32,
        Kind::Time => DataType::Time64(TimeUnit::Microsecond),
        Kind::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
        Kind::TimestampTz => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
        Kind::String => DataType::Utf8,
        Kind::Uuid => DataType::FixedSizeBinary(16),
        Kind::Fixed(length) => DataType::FixedSizeBinary(i32::try_from(*length).unwrap_or(i32::MAX)),
        Kind::Binary => DataType::Binary,
        Kind::Struct(fields) => DataType::Struct(fields.iter().map(file_field).collect()),
        Kind::List(item) => DataType::List(file_field(item)),
        Kind::Map { key, value } => DataType::Map(Arc::new(entries(key, value)), false),
    }
}

fn entries(key: &Field, value: &Field) -> ArrowField {
    let key = Arc::new(file_field(key).as_ref().clone().with_nullable(false));
    ArrowField::new("key_value", DataType::Struct(Fields::from(vec![key, file_field(value)])), false)
}

fn wrong(what: String) -> ArrowError {
    ArrowError::InvalidArgumentError(what)
}

/// A column of the engine as a file's.
pub fn to_file(own: &ArrayRef, kind: &Kind) -> Made {
    match kind {
        Kind::Uuid | Kind::Fixed(_) => fixed(own, kind),
        Kind::Struct(fields) => {
            let rows = own.as_struct_opt().ok_or_else(|| wrong(format!("{} is no row", own.data_type())))?;
            let columns = rows.columns().iter().zip(fields).map(|(column, field)| to_file(column, &field.kind));
            let columns = columns.collect::<Result<Vec<_>, _>>()?;
            let fields: Fields = fields.iter().map(file_field).collect();
            Ok(Arc::new(StructArray::try_new_with_length(fields, columns, rows.nulls().cloned(), rows.len())?))
        }
        Kind::List(item) => {
            let list = list(own)?;
            let values = to_file(list.values(), &item.kind)?;
            let (offsets, nulls) = (list.offsets().clone(), list.nulls().cloned());
            Ok(Arc::new(ListArray::try_new(file_field(item), offsets, values, nulls)?))
        }
        Kind::Map { key, value } => {
            let list = list(own)?;
            let pairs = list.values().as_struct_opt().filter(|pairs| pairs.num_columns() == 2);
            let pairs = pairs.ok_or_else(|| wrong(format!("{} is no array of keys and values", own.data_type())))?;
            let columns = vec![to_file(pairs.column(0), &key.kind)?, to_file(pairs.column(1), &value.kind)?];
            let entries = entries(key, value);
            let DataType::Struct(fields) = entries.data_type() else { return Err(wrong("a map has no pairs".into())) };
            let pairs = StructArray::try_new(fields.clone(), columns, None)?;
            let (offsets, nulls) = (list.offsets().clone(), list.nulls().cloned());
            Ok(Arc::new(MapArray::try_new(Arc::new(entries), offsets, pairs, nulls, false)?))
        }
        _ => cast(own, &file_type(kind)),
    }
}

fn list(own: &ArrayRef) -> Result<&ListArray, ArrowError> {
    own.as_list_opt::<i32>().ok_or_else(|| wrong(format!("{} is no array", own.data_type())))
}

fn fixed(own: &ArrayRef, kind: &Kind) -> Made {
    let length = match kind {
        Kind::Fixed(length) => i32::try_from(*length).unwrap_or(i32::MAX),
        _ => 16,
    };
    let mut out = FixedSizeBinaryBuilder::with_capacity(own.len(), length);
    let texts = (*kind == Kind::Uuid).then(|| cast(own, &DataType::Utf8)).transpose()?;
    let bytes = cast(own, &DataType::Binary)?;
    for row in 0..own.len() {
        if own.is_null(row) {
            out.append_null();
            continue;
        }
        match &texts {
            Some(texts) => {
                let text = texts.as_string::<i32>().value(row);
                out.append_value(uuid_bytes(text).ok_or_else(|| wrong(format!("{text} is no uuid")))?)?;
            }
            None => {
                let value = bytes.as_binary::<i32>().value(row);
                if value.len() as i32 != length {
                    return Err(wrong(format!("a value has {} bytes, where the column has {length}", value.len())));
                }
                out.append_value(value)?;
            }
        }
    }
    Ok(Arc::new(out.finish()))
}
