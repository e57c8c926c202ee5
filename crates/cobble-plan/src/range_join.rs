//! Joins by order instead of equality: which conditions bound a value of the build side by values of the probe side, so that
//! the partners of a row are found by searching sorted rows instead of by trying all of them.

use std::collections::BTreeSet;
use std::fmt;

use cobble_types::ColumnId;
use serde::{Deserialize, Serialize};

use crate::expr::{BinaryOp, Expr};

/// `value op bound`, the value from the build side, the bound from the probe side.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RangeKey {
    pub value: Expr,
    pub bounds: Vec<(BinaryOp, Expr)>,
}

/// The build side is sorted by the first value, whose bounds give a stretch of it; in that stretch the bound of a second value,
/// such as an interval's end, is searched in a tree of maxima.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RangeOn {
    pub sorted: RangeKey,
    pub second: Option<RangeKey>,
    /// Conditions that are tested on the pairs.
    pub rest: Vec<Expr>,
}

impl fmt::Display for RangeOn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.sorted.value)?;
        match &self.second {
            Some(second) => write!(f, " and {}", second.value),
            None => Ok(()),
        }
    }
}

/// A bound is computed for every row of its side, also where another condition would have left the row out: only what does not
/// fail on ordinary values is taken.
fn is_plain(expr: &Expr) -> bool {
    !expr.any(&|e| match e {
        Expr::Binary { op, .. } => matches!(op, BinaryOp::Divide | BinaryOp::Modulo | BinaryOp::Times),
        Expr::Call { .. } | Expr::Script { .. } => true,
        Expr::Cast { operand, .. } => operand.sql_type() == cobble_types::SqlType::Text,
        _ => false,
    })
}

impl RangeOn {
    /// The range conditions among those of a join whose build side has these columns; `None` when there is none.
    pub fn find(conditions: &[Expr], build: &BTreeSet<ColumnId>) -> Option<RangeOn> {
        let mut keys: Vec<(RangeKey, Vec<usize>)> = Vec::new();
        for (place, condition) in conditions.iter().enumerate() {
            let Expr::Binary { op, left, right, .. } = condition else { continue };
            if !matches!(op, BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq) {
                continue;
            }
            let of_build = |e: &Expr| !e.columns().is_empty() && e.columns().is_subset(build);
            let of_probe = |e: &Expr| !e.columns().is_empty() && e.columns().is_disjoint(build);
            let (value, op, bound) = match op.mirrored() {
                _ if of_build(left) && of_probe(right) => (left, *op, right),
                Some(mirrored) if of_build(right) && of_probe(left) => (right, mirrored, left),
                _ => continue,
            };
            if !is_plain(value) || !is_plain(bound) {
                continue;
            }
            let bound = (op, bound.as_ref().clone());
            match keys.iter_mut().find(|(key, _)| key.value == **value) {
                Some((key, places)) => {
                    key.bounds.push(bound);
                    places.push(place);
                }
                None => keys.push((RangeKey { value: value.as_ref().clone(), bounds: vec![bound] }, vec![place])),
            }
        }
        // A value that is bounded from both sides narrows most.
        let both = |key: &RangeKey| {
            let is_upper = |op: &BinaryOp| matches!(op, BinaryOp::Lt | BinaryOp::LtEq);
            key.bounds.iter().any(|(op, _)| is_upper(op)) && key.bounds.iter().any(|(op, _)| !is_upper(op))
        };
        keys.sort_by_key(|(key, _)| !both(key));
        let mut keys = keys.into_iter();
        let (sorted, mut used) = keys.next()?;
        let second = keys.next().map(|(mut key, places)| {
            key.bounds.truncate(1);
            used.push(places[0]);
            key
        });
        let rest = (0..conditions.len()).filter(|place| !used.contains(place)).map(|place| conditions[place].clone());
        Some(RangeOn { sorted, second, rest: rest.collect() })
    }
}
