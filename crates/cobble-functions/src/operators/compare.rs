//! Comparisons as SQL has them: one zero, intervals by their length, arrays and rows part by part.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::SortOptions;
use arrow::compute::kernels::cmp;
use arrow::datatypes::*;
use arrow::row::{RowConverter, SortField};
use cobble_types::{Error, Result};

use super::BinaryOp;
use crate::Evaluated;

/// Minus zero as zero: SQL's numbers have one zero, and the comparison kernels order the two.
pub fn one_zero(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Float64 => Arc::new(array.as_primitive::<Float64Type>().unary::<_, Float64Type>(|v| v + 0.0)),
        DataType::Float32 => Arc::new(array.as_primitive::<Float32Type>().unary::<_, Float32Type>(|v| v + 0.0)),
        _ => array.clone(),
    }
}

/// An array whose values compare as SQL compares them: one zero, intervals by their length.
pub fn comparable(array: &ArrayRef) -> ArrayRef {
    match array.data_type() {
        DataType::Interval(_) => {
            let spans = array.as_primitive::<IntervalMonthDayNanoType>();
            Arc::new(spans.unary::<_, IntervalMonthDayNanoType>(|span| {
                let (day, length) = (86_400_000_000_000, interval_length(span));
                let days = length.div_euclid(day).clamp(i32::MIN.into(), i32::MAX.into()) as i32;
                IntervalMonthDayNano::new(0, days, length.rem_euclid(day) as i64)
            }))
        }
        _ => one_zero(array),
    }
}

/// Nanoseconds of an interval at 30 days to a month and 24 hours to a day.
pub fn interval_length(v: IntervalMonthDayNano) -> i128 {
    (i128::from(v.months) * 30 + i128::from(v.days)) * 86_400_000_000_000 + i128::from(v.nanoseconds)
}

/// Arrays and rows are compared part by part, by way of the row format; a null inside is greater than any value.
fn compare_nested(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    let last = SortOptions { descending: false, nulls_first: false };
    let field = SortField::new_with_options(left.array().data_type().clone(), last);
    let converter = RowConverter::new(vec![field])?;
    let (l, r) =
        (converter.convert_columns(&[left.array().clone()])?, converter.convert_columns(&[right.array().clone()])?);
    let rows = if left.is_scalar() { right.array().len() } else { left.array().len() };
    Ok((0..rows)
        .map(|row| {
            let (i, j) = (left.place(row), right.place(row));
            let (a, b) = (left.array().is_null(i), right.array().is_null(j));
            let order = l.row(i).cmp(&r.row(j));
            match op {
                BinaryOp::IsDistinctFrom => Some(order.is_ne()),
                BinaryOp::IsNotDistinctFrom => Some(order.is_eq()),
                _ if a || b => None,
                BinaryOp::Eq => Some(order.is_eq()),
                BinaryOp::NotEq => Some(order.is_ne()),
                BinaryOp::Lt => Some(order.is_lt()),
                BinaryOp::LtEq => Some(order.is_le()),
                BinaryOp::Gt => Some(order.is_gt()),
                _ => Some(order.is_ge()),
            }
        })
        .collect())
}

/// `left op right` for an operator that compares.
pub fn compare(op: BinaryOp, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    if matches!(left.array().data_type(), DataType::List(_) | DataType::Struct(_)) {
        return compare_nested(op, left, right);
    }
    let normal = |side: &Evaluated| match side {
        Evaluated::Array(array) => Evaluated::Array(comparable(array)),
        Evaluated::Scalar(array) => Evaluated::Scalar(comparable(array)),
    };
    let (l, r) = (&normal(left), &normal(right));
    Ok(match op {
        BinaryOp::Eq => cmp::eq(l, r)?,
        BinaryOp::NotEq => cmp::neq(l, r)?,
        BinaryOp::Lt => cmp::lt(l, r)?,
        BinaryOp::LtEq => cmp::lt_eq(l, r)?,
        BinaryOp::Gt => cmp::gt(l, r)?,
        BinaryOp::GtEq => cmp::gt_eq(l, r)?,
        BinaryOp::IsDistinctFrom => cmp::distinct(l, r)?,
        BinaryOp::IsNotDistinctFrom => cmp::not_distinct(l, r)?,
        other => return Err(Error::internal(format!("{} is no comparison", other.symbol()))),
    })
}
