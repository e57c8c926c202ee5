//! Texts and whole numbers of arguments by row, and texts made of them.

use std::borrow::Cow;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::Int32Type;
use cobble_types::Result;

use super::Evaluated;

/// Text arguments by row, constants included.
pub(super) struct Texts<'a> {
    array: &'a StringViewArray,
    value: &'a Evaluated,
}

impl<'a> Texts<'a> {
    pub fn of(value: &'a Evaluated) -> Self {
        Texts { array: value.array().as_string_view(), value }
    }

    pub fn get(&self, row: usize) -> Option<&'a str> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

pub(super) struct Integers<'a> {
    array: &'a Int32Array,
    value: &'a Evaluated,
}

impl<'a> Integers<'a> {
    pub fn of(value: &'a Evaluated) -> Self {
        Integers { array: value.array().as_primitive::<Int32Type>(), value }
    }

    pub fn get(&self, row: usize) -> Option<i32> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

/// A text for each row; `None` is null.
pub(super) fn build<'a>(rows: usize, f: impl Fn(usize) -> Result<Option<Cow<'a, str>>>) -> Result<ArrayRef> {
    let mut builder = StringViewBuilder::with_capacity(rows);
    for row in 0..rows {
        builder.append_option(f(row)?);
    }
    Ok(Arc::new(builder.finish()))
}

pub(super) fn concat_pair(left: &Evaluated, right: &Evaluated, rows: usize) -> ArrayRef {
    let (l, r) = (Texts::of(left), Texts::of(right));
    let mut builder = StringViewBuilder::with_capacity(rows);
    let mut joined = String::new();
    for row in 0..rows {
        match (l.get(row), r.get(row)) {
            (Some(a), Some(b)) => {
                joined.clear();
                joined.push_str(a);
                joined.push_str(b);
                builder.append_value(&joined);
            }
            _ => builder.append_null(),
        }
    }
    Arc::new(builder.finish())
}
