//! Can a part of a file hold a row that satisfies a condition? Answered from the least and greatest value and the number of
//! nulls of each column in that part. "No" is certain; "yes" is a maybe, unless the part has one single value.

use std::cmp::Ordering;
use std::collections::HashMap;

use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::{ColumnId, Value};

/// What is known of one column in a part.
#[derive(Debug, Clone, Default)]
pub struct Range {
    pub min: Option<Value>,
    pub max: Option<Value>,
    /// `Some(true)`: nothing but nulls; `Some(false)`: no null.
    pub all_null: bool,
    pub may_be_null: bool,
    /// There may be values that are no numbers, of which least and greatest values tell nothing (Parquet format, `Statistics`).
    pub may_be_nan: bool,
}

impl Range {
    /// A part in which every row has this value.
    pub fn single(value: Value) -> Range {
        Range { min: Some(value.clone()), max: Some(value), ..Range::default() }
    }
}

/// The least and the greatest value of several parts.
#[derive(Debug, Clone, Default)]
pub struct Hull {
    /// None before the first part; then none where a part has not told its own.
    min: Option<Option<Value>>,
    max: Option<Option<Value>>,
}

impl Hull {
    /// Takes a part that has values, with its least and greatest one where they are known.
    pub fn take(&mut self, min: Option<&Value>, max: Option<&Value>) {
        let widen = |own: &mut Option<Option<Value>>, other: Option<&Value>, is_wider: Ordering| match own {
            None => *own = Some(other.cloned()),
            Some(known) => match known.as_ref().zip(other).and_then(|(before, other)| other.compare(before)) {
                Some(order) if order == is_wider => *known = other.cloned(),
                Some(_) => {}
                None => *known = None,
            },
        };
        widen(&mut self.min, min, Ordering::Less);
        widen(&mut self.max, max, Ordering::Greater);
    }

    /// The least and the greatest value of all parts that were taken.
    pub fn bounds(self) -> (Option<Value>, Option<Value>) {
        (self.min.flatten(), self.max.flatten())
    }
}

pub type Ranges = HashMap<ColumnId, Range>;

/// False when no row of the part can make the condition true.
pub fn may_match(condition: &Expr, ranges: &Ranges) -> bool {
    match condition {
        Expr::Literal { value, .. } => matches!(value, Value::Boolean(true)),
        Expr::Binary { op: BinaryOp::And, left, right, .. } => may_match(left, ranges) && may_match(right, ranges),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => may_match(left, ranges) || may_match(right, ranges),
        Expr::Binary { .. } => match condition.as_column_comparison() {
            Some((column, op, value)) => {
                ranges.get(&column.id).is_none_or(|range| comparison_may_match(range, op, value))
            }
            None => true,
        },
        Expr::InList { operand, list, negated: false } => match operand.as_ref() {
            Expr::Column(column) => ranges.get(&column.id).is_none_or(|range| {
                list.iter().any(|item| match item {
                    Expr::Literal { value, .. } => comparison_may_match(range, BinaryOp::Eq, value),
                    _ => true,
                })
            }),
            _ => true,
        },
        Expr::IsNull { operand, negated } => match operand.as_ref() {
            Expr::Column(column) => {
                ranges.get(&column.id).is_none_or(|range| if *negated { !range.all_null } else { range.may_be_null })
            }
            _ => true,
        },
        Expr::Like { operand, pattern, negated: false, case_insensitive: false } => {
            match (operand.as_ref(), pattern.as_ref()) {
                (Expr::Column(column), Expr::Literal { value: Value::Text(pattern), .. }) => {
                    let prefix: String = pattern.chars().take_while(|c| !['%', '_', '\\'].contains(c)).collect();
                    ranges.get(&column.id).is_none_or(|range| prefix_may_match(range, &prefix))
                }
                _ => true,
            }
        }
        Expr::Column(column) => {
            ranges.get(&column.id).is_none_or(|range| comparison_may_match(range, BinaryOp::Eq, &Value::Boolean(true)))
        }
        Expr::Not(inner) => match inner.as_ref() {
            Expr::Column(column) => ranges
                .get(&column.id)
                .is_none_or(|range| comparison_may_match(range, BinaryOp::Eq, &Value::Boolean(false))),
            _ => true,
        },
        _ => true,
    }
}

/// True when every row of the part makes the condition true.
pub fn all_match(condition: &Expr, ranges: &Ranges) -> bool {
    match condition {
        Expr::Literal { value, .. } => matches!(value, Value::Boolean(true)),
        Expr::Binary { op: BinaryOp::And, left, right, .. } => all_match(left, ranges) && all_match(right, ranges),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => all_match(left, ranges) || all_match(right, ranges),
        Expr::Binary { .. } => condition.as_column_comparison().is_some_and(|(column, op, value)| {
            ranges.get(&column.id).is_some_and(|range| comparison_all_match(range, op, value))
        }),
        Expr::InList { operand, list, negated: false } => match operand.as_ref() {
            Expr::Column(column) => ranges.get(&column.id).is_some_and(|range| {
                list.iter().any(|item| match item {
                    Expr::Literal { value, .. } => comparison_all_match(range, BinaryOp::Eq, value),
                    _ => false,
                })
            }),
            _ => false,
        },
        Expr::IsNull { operand, negated } => match operand.as_ref() {
            Expr::Column(column) => {
                ranges.get(&column.id).is_some_and(|range| if *negated { !range.may_be_null } else { range.all_null })
            }
            _ => false,
        },
        _ => false,
    }
}

fn comparison_all_match(range: &Range, op: BinaryOp, value: &Value) -> bool {
    if value.is_null() || is_nan(value) || range.all_null || range.may_be_null || range.may_be_nan {
        return false;
    }
    let (Some(min), Some(max)) = (&range.min, &range.max) else { return false };
    if is_nan(min) || is_nan(max) {
        return false;
    }
    let (Some(low), Some(high)) = (min.compare(value), max.compare(value)) else { return false };
    match op {
        BinaryOp::Eq => low == Ordering::Equal && high == Ordering::Equal,
        BinaryOp::NotEq => low == Ordering::Greater || high == Ordering::Less,
        BinaryOp::Lt => high == Ordering::Less,
        BinaryOp::LtEq => high != Ordering::Greater,
        BinaryOp::Gt => low == Ordering::Greater,
        BinaryOp::GtEq => low != Ordering::Less,
        _ => false,
    }
}

/// True when minima and maxima can decide something about the condition.
pub fn uses_ranges(condition: &Expr) -> bool {
    match condition {
        Expr::Binary { op: BinaryOp::And, left, right, .. } => uses_ranges(left) || uses_ranges(right),
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => uses_ranges(left) && uses_ranges(right),
        Expr::Binary { .. } => {
            condition.as_column_comparison().is_some_and(|(_, op, _)| op != BinaryOp::IsDistinctFrom)
        }
        Expr::InList { operand, list, negated: false } => {
            matches!(operand.as_ref(), Expr::Column(_)) && list.iter().all(|item| matches!(item, Expr::Literal { .. }))
        }
        Expr::IsNull { operand, .. } => matches!(operand.as_ref(), Expr::Column(_)),
        Expr::Like { operand, pattern, negated: false, case_insensitive: false } => {
            matches!(operand.as_ref(), Expr::Column(_))
                && matches!(pattern.as_ref(), Expr::Literal { value: Value::Text(p), .. } if !p.starts_with(['%', '_', '\\']))
        }
        Expr::Column(_) => true,
        Expr::Not(inner) => matches!(inner.as_ref(), Expr::Column(_)),
        _ => false,
    }
}

fn comparison_may_match(range: &Range, op: BinaryOp, value: &Value) -> bool {
    if op == BinaryOp::IsDistinctFrom {
        return true;
    }
    if value.is_null() {
        return op == BinaryOp::IsNotDistinctFrom && range.may_be_null;
    }
    if range.all_null {
        return false;
    }
    if range.may_be_nan && nan_matches(op, value) {
        return true;
    }
    let (Some(min), Some(max)) = (&range.min, &range.max) else { return true };
    let (Some(low), Some(high)) = (min.compare(value), max.compare(value)) else { return true };
    match op {
        BinaryOp::Eq | BinaryOp::IsNotDistinctFrom => low != Ordering::Greater && high != Ordering::Less,
        BinaryOp::NotEq => !(low == Ordering::Equal && high == Ordering::Equal),
        BinaryOp::Lt => low == Ordering::Less,
        BinaryOp::LtEq => low != Ordering::Greater,
        BinaryOp::Gt => high == Ordering::Greater,
        BinaryOp::GtEq => high != Ordering::Less,
        _ => true,
    }
}

/// Whether a value that is no number makes a comparison true: it equals itself, and is greater than every number.
fn nan_matches(op: BinaryOp, value: &Value) -> bool {
    match op {
        BinaryOp::Eq | BinaryOp::IsNotDistinctFrom | BinaryOp::LtEq => is_nan(value),
        BinaryOp::NotEq | BinaryOp::Gt => !is_nan(value),
        BinaryOp::GtEq => true,
        _ => false,
    }
}

pub fn is_nan(value: &Value) -> bool {
    matches!(value, Value::Real(v) if v.is_nan()) || matches!(value, Value::Double(v) if v.is_nan())
}

fn prefix_may_match(range: &Range, prefix: &str) -> bool {
    if range.all_null {
        return false;
    }
    match (&range.min, &range.max) {
        (Some(Value::Text(min)), Some(Value::Text(max))) => {
            let cut = |text: &str| text.as_bytes()[..text.len().min(prefix.len())].to_vec();
            cut(min).as_slice() <= prefix.as_bytes() && cut(max).as_slice() >= prefix.as_bytes()
        }
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cobble_plan::Column;
    use cobble_types::SqlType;

    fn column() -> Expr {
        Expr::Column(Column { id: ColumnId(1), qualifier: None, name: "fare".into(), sql_type: SqlType::Integer })
    }

    fn compare(op: BinaryOp, value: i32) -> Expr {
        Expr::compare(op, column(), Expr::literal(Value::Integer(value)))
    }

    #[test]
    fn a_part_is_skipped_only_when_no_row_can_match() {
        let range = |min, max, nulls| Range {
            min: Some(Value::Integer(min)),
            max: Some(Value::Integer(max)),
            may_be_null: nulls,
            ..Range::default()
        };
        let ranges = Ranges::from([(ColumnId(1), range(10, 20, false))]);
        let or = Expr::Binary {
            op: BinaryOp::Or,
            left: Box::new(compare(BinaryOp::Lt, 5)),
            right: Box::new(compare(BinaryOp::Eq, 15)),
            sql_type: SqlType::Boolean,
        };
        let list = |values: &[i32]| Expr::InList {
            operand: Box::new(column()),
            list: values.iter().map(|v| Expr::literal(Value::Integer(*v))).collect(),
            negated: false,
        };
        for (condition, expected) in [
            (compare(BinaryOp::Eq, 9), false),
            (compare(BinaryOp::Eq, 10), true),
            (compare(BinaryOp::Lt, 10), false),
            (compare(BinaryOp::LtEq, 10), true),
            (compare(BinaryOp::Gt, 20), false),
            (compare(BinaryOp::GtEq, 20), true),
            (compare(BinaryOp::NotEq, 15), true),
            (or, true),
            (list(&[1, 2]), false),
            (list(&[1, 12]), true),
            (Expr::IsNull { operand: Box::new(column()), negated: false }, false),
            (Expr::IsNull { operand: Box::new(column()), negated: true }, true),
            (
                Expr::compare(BinaryOp::Eq, column(), Expr::Literal { value: Value::Null, sql_type: SqlType::Integer }),
                false,
            ),
        ] {
            assert_eq!(may_match(&condition, &ranges), expected, "{condition}");
        }
        let with_nan = Range { may_be_nan: true, ..range(10, 20, false) };
        let with_nan = Ranges::from([(ColumnId(1), with_nan)]);
        for (op, value, expected) in [
            (BinaryOp::Gt, 30, true),
            (BinaryOp::GtEq, 30, true),
            (BinaryOp::NotEq, 15, true),
            (BinaryOp::Eq, 30, false),
            (BinaryOp::Lt, 5, false),
            (BinaryOp::LtEq, 5, false),
        ] {
            assert_eq!(may_match(&compare(op, value), &with_nan), expected, "{op:?} {value}, and what is no number");
        }
        let single = Ranges::from([(ColumnId(1), range(15, 15, true))]);
        assert!(!may_match(&compare(BinaryOp::NotEq, 15), &single));
        assert!(may_match(&Expr::IsNull { operand: Box::new(column()), negated: false }, &single));
        assert!(may_match(&compare(BinaryOp::Eq, 1), &Ranges::new()), "nothing known, nothing skipped");
    }
}
