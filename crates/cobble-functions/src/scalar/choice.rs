//! Functions that choose among their arguments or count nulls, and those that make values of nothing.

use std::sync::Arc;

use arrow::array::*;
use arrow::compute::{SortOptions, interleave};
use cobble_types::{Error, Result};

use crate::Call;
use crate::signature::{Given, Overload, Returns, Scalar, Takes, Types, unified};

/// One value or more, coerced to their common type.
fn alike(given: &[Given]) -> Option<Types> {
    let common = unified(given).filter(|_| !given.is_empty())?;
    Some((vec![common.clone(); given.len()], common))
}

pub(crate) const COALESCE: Scalar = Scalar::new(
    "coalesce",
    "any, …",
    "The first argument that is not null; those behind it are not evaluated.",
    ("coalesce(NULL, 'none')", "none"),
    // An operator of its own, for it evaluates an argument only where those before it are null.
    &[Overload::together(alike, |_| Err(Error::internal("coalesce is compiled to an operator of its own")))],
)
.sees_nulls();

pub(crate) const GREATEST: Scalar = Scalar::new(
    "greatest",
    "any, …",
    "The greatest argument; nulls are passed over.",
    ("greatest(3, NULL, 7)", "7"),
    &[Overload::together(alike, |call| extreme(call, true))],
)
.sees_nulls();

pub(crate) const LEAST: Scalar = Scalar::new(
    "least",
    "any, …",
    "The least argument; nulls are passed over.",
    ("least(3, NULL, 7)", "3"),
    &[Overload::together(alike, |call| extreme(call, false))],
)
.sees_nulls();

fn extreme(call: &Call, greatest: bool) -> Result<ArrayRef> {
    let arrays = (0..call.count()).map(|i| call.whole(i)).collect::<Result<Vec<_>>>()?;
    let views: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
    let mut comparators = Vec::new();
    for i in 0..arrays.len() {
        let mut row = Vec::new();
        for j in 0..arrays.len() {
            row.push(make_comparator(views[i], views[j], SortOptions::default())?);
        }
        comparators.push(row);
    }
    let places: Vec<(usize, usize)> = (0..call.rows)
        .map(|row| {
            let mut best = 0;
            for i in 1..arrays.len() {
                if arrays[i].is_null(row) {
                    continue;
                }
                let order = comparators[i][best](row, row);
                if arrays[best].is_null(row) || (greatest && order.is_gt()) || (!greatest && order.is_lt()) {
                    best = i;
                }
            }
            (best, row)
        })
        .collect();
    Ok(interleave(&views, &places)?)
}

fn count_nulls(call: &Call, wanted: bool) -> Result<ArrayRef> {
    let count = |row: usize| (0..call.count()).filter(|i| call.is_null(*i, row) == wanted).count() as i32;
    Ok(Arc::new((0..call.rows).map(|row| Some(count(row))).collect::<Int32Array>()))
}

pub(crate) const NUM_NULLS: Scalar = Scalar::new(
    "num_nulls",
    "any, …",
    "How many arguments are null.",
    ("num_nulls(1, NULL, 'a')", "1"),
    &[Overload::repeated(&[], Takes::Any, 1, Returns::Integer, |call| count_nulls(call, true))],
)
.sees_nulls();

pub(crate) const NUM_NONNULLS: Scalar = Scalar::new(
    "num_nonnulls",
    "any, …",
    "How many arguments are not null.",
    ("num_nonnulls(1, NULL, 'a')", "2"),
    &[Overload::repeated(&[], Takes::Any, 1, Returns::Integer, |call| count_nulls(call, false))],
)
.sees_nulls();

pub(crate) const GEN_RANDOM_UUID: Scalar = Scalar::new(
    "gen_random_uuid",
    "",
    "A UUID of version 4, another one for each row.",
    ("gen_random_uuid()", ""),
    &[Overload::of(&[], Returns::Uuid, |call| call.make_strings(|_| Ok(Some(random_uuid()))))],
)
.volatile();

/// A UUID of version 4: 122 random bits (RFC 9562, 5.4).
fn random_uuid() -> String {
    let bits: u128 = rand::random();
    let bits = bits & !(0xf000_u128 << 64) & !(0xc000_u128 << 48) | (0x4000_u128 << 64) | (0x8000_u128 << 48);
    let digits = format!("{bits:032x}");
    [&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-")
}
