//! Window functions that number rows.

use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::{Code, Error, Result};

use super::signature::{Window, Windowed};
use crate::signature::{Overload, Returns, Takes};

pub(super) const ROW_NUMBER: Window = Window::new(
    "row_number",
    "",
    "The number of the row in its partition, counted from one.",
    ("row_number() OVER (ORDER BY v)", "1,2,3,4"),
    &[Overload::of(&[], Returns::BigInt, |call| whole(call, |row| row - call.layout.partition_of(row).0 + 1))],
);

pub(super) const RANK: Window = Window::new(
    "rank",
    "",
    "The number of the first row that sorts the same.",
    ("rank() OVER (ORDER BY v)", "1,2,2,4"),
    &[Overload::of(&[], Returns::BigInt, |call| {
        whole(call, |row| call.layout.peers_of(row).0 - call.layout.partition_of(row).0 + 1)
    })],
);

pub(super) const DENSE_RANK: Window = Window::new(
    "dense_rank",
    "",
    "The number of the distinct sort value, counted from one.",
    ("dense_rank() OVER (ORDER BY v)", "1,2,2,3"),
    &[Overload::of(&[], Returns::BigInt, |call| {
        whole(call, |row| call.layout.peer[row] - call.layout.peer[call.layout.partition_of(row).0] + 1)
    })],
);

pub(super) const PERCENT_RANK: Window = Window::new(
    "percent_rank",
    "",
    "The rank as a share from 0 to 1.",
    ("round(percent_rank() OVER (ORDER BY v))", "0,0,0,1"),
    &[Overload::of(&[], Returns::Double, |call| {
        real(call, |row| {
            let (start, end) = call.layout.partition_of(row);
            if end - start < 2 { 0.0 } else { (call.layout.peers_of(row).0 - start) as f64 / (end - start - 1) as f64 }
        })
    })],
);

pub(super) const CUME_DIST: Window = Window::new(
    "cume_dist",
    "",
    "The share of rows that sort no later.",
    ("cume_dist() OVER (ORDER BY v)", "0.25,0.75,0.75,1"),
    &[Overload::of(&[], Returns::Double, |call| {
        real(call, |row| {
            let (start, end) = call.layout.partition_of(row);
            (call.layout.peers_of(row).1 - start) as f64 / (end - start) as f64
        })
    })],
);

pub(super) const NTILE: Window = Window::new(
    "ntile",
    "buckets",
    "The number of the bucket when the partition is cut into equal ones.",
    ("ntile(2) OVER (ORDER BY v)", "1,1,2,2"),
    &[Overload::of(&[Takes::Integer], Returns::Integer, ntile)],
);

fn whole(call: &Windowed, number: impl Fn(usize) -> usize) -> Result<ArrayRef> {
    Ok(Arc::new((0..call.layout.rows()).map(|row| Some(number(row) as i64)).collect::<Int64Array>()))
}

fn real(call: &Windowed, number: impl Fn(usize) -> f64) -> Result<ArrayRef> {
    Ok(Arc::new((0..call.layout.rows()).map(|row| Some(number(row))).collect::<Float64Array>()))
}

fn ntile(call: &Windowed) -> Result<ArrayRef> {
    let rows = call.layout.rows();
    let buckets = call.arguments[0].as_primitive::<Int32Type>();
    let mut out = Int32Builder::with_capacity(rows);
    for row in 0..rows {
        let (start, end) = call.layout.partition_of(row);
        // The partition's first row says how many.
        if buckets.is_null(start) {
            out.append_null();
            continue;
        }
        let wanted = usize::try_from(buckets.value(start))
            .ok()
            .filter(|n| *n > 0)
            .ok_or_else(|| Error::new(Code::InvalidNtile, "ntile needs a number of buckets greater than zero"))?;
        let (total, at) = (end - start, row - start);
        let (small, larger) = (total / wanted, total % wanted);
        let in_larger = larger * (small + 1);
        let bucket = if at < in_larger { at / (small + 1) } else { larger + (at - in_larger) / small.max(1) };
        out.append_value(bucket as i32 + 1);
    }
    Ok(Arc::new(out.finish()))
}
