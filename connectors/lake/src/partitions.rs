//! Rows of a batch, sorted into the partitions of a table.

use std::collections::HashMap;

use arrow::array::{Array, ArrayRef, AsArray};
use arrow::datatypes::{DataType, Date32Type, TimestampMicrosecondType};
use cobble_lake::metadata::Spec;
use cobble_lake::schema::Schema;
use cobble_lake::transform::Transform;
use cobble_types::{Error, Result, Value};

/// The rows of each partition, by its values; in the order of their first rows.
pub fn partitioned(
    spec: &Spec,
    schema: &Schema,
    columns: &[ArrayRef],
    rows: usize,
) -> Result<Vec<(Vec<Value>, Vec<u32>)>> {
    let mut groups: Vec<(Vec<Value>, Vec<u32>)> = Vec::new();
    let mut codes: Vec<u32> = vec![0; rows];
    let mut values: Vec<Vec<Value>> = vec![vec![]];
    for field in &spec.fields {
        let place = schema.fields.iter().position(|column| column.id == field.source);
        let place =
            place.ok_or_else(|| Error::internal(format!("the partition field {} has no column", field.name)))?;
        let (own, known) = coded(&columns[place], field.transform)?;
        // Of pairs of codes those that there are.
        let mut pairs: HashMap<(u32, u32), u32> = HashMap::new();
        let mut next: Vec<Vec<Value>> = Vec::new();
        for (row, code) in codes.iter_mut().enumerate() {
            *code = *pairs.entry((*code, own[row])).or_insert_with(|| {
                let mut all = values[*code as usize].clone();
                all.push(known[own[row] as usize].clone());
                next.push(all);
                (next.len() - 1) as u32
            });
        }
        values = next;
    }
    groups.extend(values.into_iter().map(|values| (values, Vec::new())));
    for (row, code) in codes.into_iter().enumerate() {
        groups[code as usize].1.push(row as u32);
    }
    groups.retain(|(_, rows)| !rows.is_empty());
    Ok(groups)
}

/// Of each row the number of its partition value, and the values.
fn coded(column: &ArrayRef, transform: Transform) -> Result<(Vec<u32>, Vec<Value>)> {
    let (mut codes, mut values) = (Vec::with_capacity(column.len()), Vec::new());
    let mut known: HashMap<String, u32> = HashMap::new();
    // The number of a moment's unit is the same for many rows on end.
    let units = units(column, transform);
    let mut last: Option<(Option<i64>, u32)> = None;
    for row in 0..column.len() {
        let unit = units.as_ref().map(|unit| unit(row));
        if let (Some(unit), Some((before, code))) = (unit, last)
            && unit == before
        {
            codes.push(code);
            continue;
        }
        let value = Value::from_array(column.as_ref(), row).unwrap_or(Value::Null);
        let value = transform.apply(&value).ok_or_else(|| Error::internal(format!("{transform} of {value:?}")))?;
        // Text of a value tells it from all others of its type, the two zeros and NaN among them.
        let code = *known.entry(format!("{value:?}")).or_insert_with(|| {
            values.push(value);
            (values.len() - 1) as u32
        });
        last = unit.map(|unit| (unit, code));
        codes.push(code);
    }
    Ok((codes, values))
}

/// A number that rows of one partition value share and that is found without it: the hour or day of a moment.
fn units(column: &ArrayRef, transform: Transform) -> Option<Box<dyn Fn(usize) -> Option<i64> + '_>> {
    let wide = match transform {
        Transform::Year | Transform::Month | Transform::Day => 86_400_000_000,
        Transform::Hour => 3_600_000_000,
        _ => return None,
    };
    match column.data_type() {
        DataType::Timestamp(..) => {
            let own = column.as_primitive_opt::<TimestampMicrosecondType>()?;
            Some(Box::new(move |row| own.is_valid(row).then(|| own.value(row).div_euclid(wide))))
        }
        DataType::Date32 => {
            let own = column.as_primitive_opt::<Date32Type>()?;
            Some(Box::new(move |row| own.is_valid(row).then(|| i64::from(own.value(row)))))
        }
        _ => None,
    }
}
