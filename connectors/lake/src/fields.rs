//! Columns of a file in the form that the table has now: fields are found by their ids, whatever their names and places were when the file was
//! written, those that came later are null, and narrower types are widened (table specification, "Schema Evolution" and "Column Projection").

use std::sync::Arc;

use arrow::array::{
    Array, ArrayRef, AsArray, FixedSizeBinaryArray, ListArray, MapArray, StringViewArray, StructArray, new_null_array,
};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Field as ArrowField, FieldRef, Fields, Schema as ArrowSchema};
use arrow::error::ArrowError;
use cobble_format::{Adapt, FIELD_ID, Layout, repeated};
use cobble_lake::bounds::uuid;
use cobble_lake::name_mapping::{self, Mapped};
use cobble_lake::schema::{Field, Kind};
use cobble_types::Value;

type Adapted = Result<ArrayRef, ArrowError>;

/// The id that the writer of a file gave a field.
fn id_of(field: &ArrowField) -> Option<i32> {
    field.metadata().get(FIELD_ID)?.parse().ok()
}

/// Where the table's columns are in a file, and how they are brought into the table's form.
pub struct FileFields {
    /// Of each column of the table the file's own field.
    columns: Vec<Option<(usize, FieldRef)>>,
    table: Arc<[Field]>,
    /// Values of columns that the file lacks, by the columns' ids.
    constants: Vec<(i32, Value)>,
}

/// The file's fields with the ids that a mapping gives their names.
fn mapped(fields: &Fields, mapping: &[Mapped]) -> Fields {
    fields.iter().map(|field| Arc::new(mapped_field(field, name_mapping::named(mapping, field.name())))).collect()
}

fn mapped_field(field: &ArrowField, own: Option<&Mapped>) -> ArrowField {
    let Some(own) = own else { return field.clone() };
    let within = |field: &FieldRef, name: &str| Arc::new(mapped_field(field, name_mapping::named(&own.fields, name)));
    let data_type = match field.data_type() {
        DataType::Struct(inner) => DataType::Struct(mapped(inner, &own.fields)),
        DataType::List(item) => DataType::List(within(item, "element")),
        DataType::Map(entries, sorted) => match entries.data_type() {
            DataType::Struct(pair) if pair.len() == 2 => {
                let pair = Fields::from(vec![within(&pair[0], "key"), within(&pair[1], "value")]);
                let entries = entries.as_ref().clone().with_data_type(DataType::Struct(pair));
                DataType::Map(Arc::new(entries), *sorted)
            }
            _ => field.data_type().clone(),
        },
        other => other.clone(),
    };
    let mut metadata = field.metadata().clone();
    metadata.extend(own.id.map(|id| (FIELD_ID.to_owned(), id.to_string())));
    field.clone().with_data_type(data_type).with_metadata(metadata)
}

impl FileFields {
    /// None for a file whose columns have no ids, where no mapping gives them any.
    pub fn new(file: &ArrowSchema, table: Arc<[Field]>, mapping: Option<&[Mapped]>) -> Option<FileFields> {
        let mut fields = file.fields().clone();
        if !fields.is_empty() && fields.iter().all(|field| id_of(field).is_none()) {
            fields = mapped(&fields, mapping?);
        }
        let find = |id: i32| {
            let place = fields.iter().position(|own| id_of(own) == Some(id))?;
            Some((place, fields[place].clone()))
        };
        let columns = table.iter().map(|field| find(field.id)).collect();
        Some(FileFields { columns, table, constants: vec![] })
    }

    /// With values for columns that the file lacks.
    pub fn with_constants(self, constants: Vec<(i32, Value)>) -> FileFields {
        FileFields { constants, ..self }
    }

    /// The column at a place of the table, which the file lacks.
    pub fn lacking(&self, place: usize, rows: usize) -> cobble_types::Result<ArrayRef> {
        let field = &self.table[place];
        let sql_type = field.kind.sql_type();
        match self.constants.iter().find(|(id, _)| *id == field.id) {
            Some((_, value)) => repeated(value, &sql_type, rows),
            None => Ok(new_null_array(&sql_type.to_arrow(), rows)),
        }
    }

    pub fn layout(&self) -> Layout {
        Layout::Whole(self.columns.iter().map(|column| column.as_ref().map(|(place, _)| *place)).collect())
    }

    /// The name in the file of the column at a place of the table.
    pub fn name(&self, place: usize) -> Option<&str> {
        self.columns[place].as_ref().map(|(_, field)| field.name().as_str())
    }
}

impl Adapt for FileFields {
    fn column(&self, place: usize, own: &ArrayRef) -> Adapted {
        adapted(own, self.columns[place].as_ref().map(|(_, field)| field.as_ref()), &self.table[place].kind)
    }
}

fn wrong(what: String) -> ArrowError {
    ArrowError::SchemaError(what)
}

/// `from` is the file's field, whose inner fields have their ids.
fn adapted(own: &ArrayRef, from: Option<&ArrowField>, kind: &Kind) -> Adapted {
    let target = kind.sql_type().to_arrow();
    let inner = from.map(ArrowField::data_type);
    match kind {
        Kind::Uuid => match own.as_any().downcast_ref::<FixedSizeBinaryArray>() {
            Some(marks) if marks.value_length() == 16 => {
                Ok(Arc::new(marks.iter().map(|mark| mark.and_then(uuid)).collect::<StringViewArray>()))
            }
            _ => cast(own, &target),
        },
        Kind::Fixed(_) | Kind::Binary if matches!(own.data_type(), DataType::FixedSizeBinary(_)) => {
            cast(&cast(own, &DataType::Binary)?, &target)
        }
        Kind::Struct(fields) => {
            let rows = own.as_struct_opt().ok_or_else(|| wrong(format!("{} is no struct", own.data_type())))?;
            Ok(Arc::new(adapted_rows(rows, inner, fields)?))
        }
        Kind::List(item) => {
            let own = match own.data_type() {
                DataType::List(_) => own.clone(),
                other => return Err(wrong(format!("{other} is no list"))),
            };
            let list = own.as_list::<i32>();
            let from = match inner {
                Some(DataType::List(item)) => Some(item.as_ref()),
                _ => None,
            };
            let values = adapted(list.values(), from, &item.kind)?;
            list_of(&target, list.offsets().clone(), values, list.nulls().cloned())
        }
        Kind::Map { key, value } => {
            // Where keys are no texts, Avro has a list of pairs instead.
            let (entries, offsets, nulls) = match own.data_type() {
                DataType::Map(..) => {
                    let map = own.as_any().downcast_ref::<MapArray>();
                    let map = map.ok_or_else(|| wrong("a map is none".into()))?;
                    (map.entries().clone(), map.offsets().clone(), map.nulls().cloned())
                }
                DataType::List(_) => {
                    let list = own.as_list::<i32>();
                    let pairs = list.values().as_struct_opt().filter(|pairs| pairs.num_columns() == 2);
                    let pairs = pairs.ok_or_else(|| wrong(format!("{} is no map", own.data_type())))?;
                    (pairs.clone(), list.offsets().clone(), list.nulls().cloned())
                }
                other => return Err(wrong(format!("{other} is no map"))),
            };
            let from = match inner {
                Some(DataType::Map(entries, _) | DataType::List(entries)) => match entries.data_type() {
                    DataType::Struct(fields) if fields.len() == 2 => Some((fields[0].clone(), fields[1].clone())),
                    _ => None,
                },
                _ => None,
            };
            let keys = adapted(entries.column(0), from.as_ref().map(|(key, _)| key.as_ref()), &key.kind)?;
            let values = adapted(entries.column(1), from.as_ref().map(|(_, value)| value.as_ref()), &value.kind)?;
            let DataType::List(item) = &target else { return Err(wrong("a map is no list of rows".into())) };
            let DataType::Struct(fields) = item.data_type() else {
                return Err(wrong("the items of a map are no rows".into()));
            };
            let entries = StructArray::try_new(fields.clone(), vec![keys, values], None)?;
            list_of(&target, offsets, Arc::new(entries), nulls)
        }
        _ if *own.data_type() == target => Ok(own.clone()),
        _ => cast(own, &target),
    }
}

fn list_of(
    target: &DataType,
    offsets: arrow::buffer::OffsetBuffer<i32>,
    values: ArrayRef,
    nulls: Option<arrow::buffer::NullBuffer>,
) -> Adapted {
    let DataType::List(item) = target else { return Err(wrong(format!("{target} is no list"))) };
    Ok(Arc::new(ListArray::try_new(item.clone(), offsets, values, nulls)?))
}

fn adapted_rows(own: &StructArray, from: Option<&DataType>, fields: &[Field]) -> Result<StructArray, ArrowError> {
    let inner = match from {
        Some(DataType::Struct(inner)) => inner,
        _ => own.fields(),
    };
    let columns = fields
        .iter()
        .map(|field| match inner.iter().position(|own| id_of(own) == Some(field.id)) {
            Some(place) => adapted(own.column(place), Some(&inner[place]), &field.kind),
            None => Ok(new_null_array(&field.kind.sql_type().to_arrow(), own.len())),
        })
        .collect::<Result<Vec<_>, ArrowError>>()?;
    let named = fields
        .iter()
        .map(|field| Arc::new(ArrowField::new(field.name.to_lowercase(), field.kind.sql_type().to_arrow(), true)));
    StructArray::try_new_with_length(named.collect(), columns, own.nulls().cloned(), own.len())
}
