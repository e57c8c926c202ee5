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

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    use arrow::array::{Decimal128Array, Int32Array, StringViewArray};
    use cobble_plan::expr::Column;
    use cobble_types::{ColumnId, Value};

    fn operand(sql_type: SqlType) -> Expr {
        Expr::Column(Column { id: ColumnId(1), qualifier: None, name: "k".into(), sql_type })
    }

    fn set(sql_type: SqlType, list: Vec<Value>) -> Option<ConstantSet> {
        let list: Vec<Expr> =
            list.into_iter().map(|value| Expr::Literal { value, sql_type: sql_type.clone() }).collect();
        ConstantSet::of(&operand(sql_type), &list).unwrap()
    }

    fn found(set: &ConstantSet, values: ArrayRef, negated: bool) -> Vec<Option<bool>> {
        set.contains(&values, negated).unwrap().iter().collect()
    }

    #[test]
    fn nulls_in_list_and_rows_make_the_answer_unknown() {
        let numbers = |range: std::ops::Range<i32>| range.map(Value::Integer).collect::<Vec<_>>();
        let plain = set(SqlType::Integer, numbers(0..20)).unwrap();
        let rows: ArrayRef = Arc::new(Int32Array::from(vec![Some(3), Some(20), None, Some(-1)]));
        assert_eq!(found(&plain, rows.clone(), false), [Some(true), Some(false), None, Some(false)]);
        assert_eq!(found(&plain, rows.clone(), true), [Some(false), Some(true), None, Some(true)]);
        let mut list = numbers(0..20);
        list.push(Value::Null);
        let with_null = set(SqlType::Integer, list).unwrap();
        assert_eq!(found(&with_null, rows.clone(), false), [Some(true), None, None, None]);
        assert_eq!(found(&with_null, rows, true), [Some(false), None, None, None]);
        let nothing = set(SqlType::Integer, vec![Value::Null; 20]).unwrap();
        assert_eq!(found(&nothing, Arc::new(Int32Array::from(vec![1])), false), [None]);
    }

    #[test]
    fn texts_and_numerics_are_found_by_value() {
        let texts = set(SqlType::Text, (0..40).map(|i| Value::Text(format!("berth number {i}"))).collect()).unwrap();
        let rows: ArrayRef = Arc::new(StringViewArray::from(vec!["berth number 39", "berth number 40", "", "berth"]));
        assert_eq!(found(&texts, rows, false), [Some(true), Some(false), Some(false), Some(false)]);
        let fares = SqlType::Numeric { precision: 8, scale: 2 };
        let fare = |unscaled| Value::Numeric { unscaled, precision: 8, scale: 2 };
        let fares = set(fares, (0..30).map(|i| fare(i * 25)).collect()).unwrap();
        let rows = Decimal128Array::from(vec![50, 51, -25]).with_precision_and_scale(8, 2).unwrap();
        assert_eq!(found(&fares, Arc::new(rows), false), [Some(true), Some(false), Some(false)]);
    }

    #[test]
    fn short_lists_other_types_and_expressions_are_left_alone() {
        assert!(set(SqlType::Integer, (0..3).map(Value::Integer).collect()).is_none());
        assert!(set(SqlType::Double, (0..30).map(|i| Value::Double(f64::from(i))).collect()).is_none());
        let mut list: Vec<Expr> = (0..30).map(|i| Expr::literal(Value::Integer(i))).collect();
        list.push(operand(SqlType::Integer));
        assert!(ConstantSet::of(&operand(SqlType::Integer), &list).unwrap().is_none());
    }
}
