//! Sets of row numbers: what conditions on a column that counts the rows leave to be made.

use std::ops::Range;

use cobble_plan::BinaryOp;
use cobble_plan::expr::Expr;
use cobble_types::{ColumnId, Value};

/// Numbers as ranges in order that do not touch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Numbers(Vec<Range<u64>>);

impl Numbers {
    pub fn up_to(count: u64) -> Numbers {
        Numbers::of(std::iter::once(0..count).collect())
    }

    pub fn of(mut ranges: Vec<Range<u64>>) -> Numbers {
        ranges.retain(|range| range.start < range.end);
        ranges.sort_by_key(|range| range.start);
        let mut joined: Vec<Range<u64>> = Vec::with_capacity(ranges.len());
        for range in ranges {
            match joined.last_mut() {
                Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
                _ => joined.push(range),
            }
        }
        Numbers(joined)
    }

    pub fn count(&self) -> u64 {
        self.0.iter().map(|range| range.end - range.start).sum()
    }

    pub fn and(&self, other: &Numbers) -> Numbers {
        let (mut a, mut b) = (self.0.iter().peekable(), other.0.iter().peekable());
        let mut both = Vec::new();
        while let (Some(x), Some(y)) = (a.peek(), b.peek()) {
            both.push(x.start.max(y.start)..x.end.min(y.end));
            if x.end <= y.end {
                a.next();
            } else {
                b.next();
            }
        }
        Numbers::of(both)
    }

    fn or(mut self, other: Numbers) -> Numbers {
        self.0.extend(other.0);
        Numbers::of(self.0)
    }

    /// The first so many of them.
    pub fn first(&self, most: u64) -> Numbers {
        let mut left = most;
        let taken = self.0.iter().map(|range| {
            let taken = left.min(range.end - range.start);
            left -= taken;
            range.start..range.start + taken
        });
        Numbers::of(taken.collect())
    }

    /// The ranges, none of them longer than this.
    pub fn pieces(&self, most: u64) -> Vec<Range<u64>> {
        let cut = |range: &Range<u64>| {
            let range = range.clone();
            range.clone().step_by(most.max(1) as usize).map(move |start| start..(start + most).min(range.end))
        };
        self.0.iter().flat_map(cut).collect()
    }

    /// The rows of `count` that satisfy a condition on the column that counts them from one, if it decides them exactly.
    pub fn matching(condition: &Expr, column: ColumnId, count: u64) -> Option<Numbers> {
        let all = || Numbers::up_to(count);
        // From and up to these values of the column, both included.
        let between = |from: i128, to: i128| {
            let (from, to) = (from.max(1), to.min(i128::from(count)).max(0));
            let range = (from <= to).then_some(from as u64 - 1..to as u64);
            Numbers::of(range.into_iter().collect())
        };
        let is_column = |expr: &Expr| {
            let inner = match expr {
                Expr::Cast { operand, sql_type } if sql_type.is_integer() && wider(&operand.sql_type(), sql_type) => {
                    operand
                }
                other => other,
            };
            matches!(inner, Expr::Column(own) if own.id == column)
        };
        match condition {
            Expr::Literal { value: Value::Boolean(true), .. } => Some(all()),
            Expr::Literal { value: Value::Boolean(false) | Value::Null, .. } => Some(between(1, 0)),
            Expr::Binary { op: BinaryOp::And, left, right, .. } => {
                Some(Self::matching(left, column, count)?.and(&Self::matching(right, column, count)?))
            }
            Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
                Some(Self::matching(left, column, count)?.or(Self::matching(right, column, count)?))
            }
            Expr::Binary { op, left, right, .. } => {
                let (op, value) = match (left.as_ref(), right.as_ref()) {
                    (own, Expr::Literal { value, .. }) if is_column(own) => (*op, value),
                    (Expr::Literal { value, .. }, own) if is_column(own) => (op.mirrored()?, value),
                    _ => return None,
                };
                let null_safe = matches!(op, BinaryOp::IsDistinctFrom | BinaryOp::IsNotDistinctFrom);
                let at = match value {
                    Value::Null if op.is_comparison() && !null_safe => return Some(between(1, 0)),
                    other => whole(other)?,
                };
                Some(match op {
                    BinaryOp::Eq | BinaryOp::IsNotDistinctFrom => between(at, at),
                    BinaryOp::NotEq | BinaryOp::IsDistinctFrom => {
                        between(1, at - 1).or(between(at + 1, i128::from(u64::MAX)))
                    }
                    BinaryOp::Lt => between(1, at - 1),
                    BinaryOp::LtEq => between(1, at),
                    BinaryOp::Gt => between(at + 1, i128::from(u64::MAX)),
                    BinaryOp::GtEq => between(at, i128::from(u64::MAX)),
                    _ => return None,
                })
            }
            Expr::InList { operand, list, negated: false } if is_column(operand) => {
                let mut found = Vec::with_capacity(list.len());
                for item in list {
                    match item {
                        Expr::Literal { value: Value::Null, .. } => {}
                        Expr::Literal { value, .. } => found.extend(between(whole(value)?, whole(value)?).0),
                        _ => return None,
                    }
                }
                Some(Numbers::of(found))
            }
            Expr::IsNull { operand, negated } if is_column(operand) => {
                Some(if *negated { all() } else { between(1, 0) })
            }
            _ => None,
        }
    }
}

fn wider(from: &cobble_types::SqlType, to: &cobble_types::SqlType) -> bool {
    use cobble_types::SqlType::{BigInt, Integer, SmallInt};
    matches!((from, to), (SmallInt | Integer, BigInt) | (SmallInt, Integer))
}

fn whole(value: &Value) -> Option<i128> {
    Some(match value {
        Value::SmallInt(v) => i128::from(*v),
        Value::Integer(v) => i128::from(*v),
        Value::BigInt(v) => i128::from(*v),
        _ => return None,
    })
}

#[cfg(test)]
#[allow(clippy::single_range_in_vec_init, reason = "sets of one range")]
mod tests {
    use cobble_plan::expr::Column;
    use cobble_types::SqlType;

    use super::*;

    fn id() -> Expr {
        Expr::Column(Column { id: ColumnId(1), qualifier: None, name: "id".into(), sql_type: SqlType::Integer })
    }

    fn at(op: BinaryOp, value: i32) -> Expr {
        Expr::compare(op, id(), Expr::literal(Value::Integer(value)))
    }

    fn both(op: BinaryOp, left: Expr, right: Expr) -> Expr {
        Expr::Binary { op, left: Box::new(left), right: Box::new(right), sql_type: SqlType::Boolean }
    }

    #[test]
    fn conditions_leave_the_rows_that_satisfy_them() {
        use BinaryOp::*;
        let list = |values: &[i32]| Expr::InList {
            operand: Box::new(id()),
            list: values
                .iter()
                .map(|v| Expr::literal(Value::Integer(*v)))
                .chain([Expr::literal(Value::Null)])
                .collect(),
            negated: false,
        };
        for (condition, wanted) in [
            (at(Eq, 7), vec![6..7]),
            (at(Eq, 11), vec![]),
            (at(Lt, 4), vec![0..3]),
            (at(GtEq, -5), vec![0..10]),
            (at(NotEq, 3), vec![0..2, 3..10]),
            (at(NotEq, 99), vec![0..10]),
            (both(And, at(Gt, 2), at(LtEq, 5)), vec![2..5]),
            (both(Or, at(Eq, 9), both(Or, at(Eq, 2), at(Eq, 3))), vec![1..3, 8..9]),
            (list(&[5, 4, 0, 10, 400]), vec![3..5, 9..10]),
            (Expr::compare(Gt, Expr::literal(Value::BigInt(3)), id().cast(SqlType::BigInt)), vec![0..2]),
            (Expr::compare(Eq, id(), Expr::literal(Value::Null)), vec![]),
        ] {
            assert_eq!(Numbers::matching(&condition, ColumnId(1), 10), Some(Numbers(wanted)), "{condition}");
        }
        for kept in [at(Plus, 1), Expr::compare(Lt, id().cast(SqlType::Text), Expr::literal(Value::Text("5".into())))] {
            assert_eq!(Numbers::matching(&kept, ColumnId(1), 10), None, "{kept}");
        }
        assert_eq!(Numbers::matching(&at(Eq, 1), ColumnId(2), 10), None);
    }

    #[test]
    fn pieces_and_first_rows_keep_the_order() {
        let numbers = Numbers::of(vec![20..23, 0..5]);
        assert_eq!(numbers.pieces(2), [0..2, 2..4, 4..5, 20..22, 22..23]);
        assert_eq!(numbers.first(6), Numbers(vec![0..5, 20..21]));
        assert_eq!(numbers.count(), 8);
        assert_eq!(numbers.and(&Numbers::of(vec![4..21])), Numbers(vec![4..5, 20..21]));
    }
}
