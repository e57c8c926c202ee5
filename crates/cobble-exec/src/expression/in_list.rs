//! `x IN (a, b, …)` over a long list of constants: the list is hashed once, each row is looked up once.

use std::collections::HashSet;

use arrow::array::{Array, ArrayRef, BooleanArray, BooleanBufferBuilder};
use arrow::buffer::NullBuffer;
use arrow::row::{RowConverter, SortField};
use cobble_plan::expr::Expr;
use cobble_types::{Result, SqlType};

/// A shorter list is compared item by item.
const LONG: usize = 16;

#[derive(Debug)]
pub struct ConstantSet {
    converter: RowConverter,
    known: HashSet<Box<[u8]>>,
    /// A null among the constants makes every row that is not found unknown.
    has_null: bool,
}

impl ConstantSet {
    /// The set, when the list is long, constant, and of a type whose equal values have equal bytes.
    pub fn of(operand: &Expr, list: &[Expr]) -> Result<Option<ConstantSet>> {
        let sql_type = operand.sql_type();
        let same_bytes = matches!(
            sql_type,
            SqlType::Boolean
                | SqlType::SmallInt
                | SqlType::Integer
                | SqlType::BigInt
                | SqlType::Numeric { .. }
                | SqlType::Text
                | SqlType::Bytea
                | SqlType::Date
                | SqlType::Time
                | SqlType::Timestamp
                | SqlType::TimestampTz
                | SqlType::Uuid
        );
        if list.len() < LONG || !same_bytes {
            return Ok(None);
        }
        let data_type = sql_type.to_arrow();
        let mut set = ConstantSet {
            converter: RowConverter::new(vec![SortField::new(data_type.clone())])?,
            known: HashSet::with_capacity(list.len()),
            has_null: false,
        };
        let mut constants: Vec<ArrayRef> = Vec::with_capacity(list.len());
        for item in list {
            let Expr::Literal { value, .. } = item else { return Ok(None) };
            if value.is_null() {
                set.has_null = true;
                continue;
            }
            let constant = value.to_array(&sql_type);
            if item.sql_type() != sql_type || *constant.data_type() != data_type {
                return Ok(None);
            }
            constants.push(constant);
        }
        let parts: Vec<&dyn Array> = constants.iter().map(AsRef::as_ref).collect();
        if !parts.is_empty() {
            let rows = set.converter.convert_columns(&[arrow::compute::concat(&parts)?])?;
            set.known.extend(rows.iter().map(|row| Box::from(row.as_ref())));
        }
        Ok(Some(set))
    }

    /// Whether each value is in the set, with SQL's nulls.
    pub fn contains(&self, values: &ArrayRef, negated: bool) -> Result<BooleanArray> {
        let rows = self.converter.convert_columns(std::slice::from_ref(values))?;
        let mut found = BooleanBufferBuilder::new(values.len());
        let mut valid = BooleanBufferBuilder::new(values.len());
        for (at, row) in rows.iter().enumerate() {
            let known = self.known.contains(row.as_ref());
            found.append(known != negated);
            valid.append(values.is_valid(at) && (known || !self.has_null));
        }
        Ok(BooleanArray::new(found.finish(), Some(NullBuffer::new(valid.finish()))))
    }
}
