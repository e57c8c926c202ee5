//! One call of a kernel: its arguments for a batch by row, constants included, and what results are made of.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::*;
use cobble_types::{Code, Error, Result};

use crate::Evaluated;
use crate::budget::Tally;

/// The arguments of a kernel, and the rows and the type of what it returns.
pub struct Call<'a> {
    /// The function's name, for errors.
    pub name: &'static str,
    pub arguments: &'a [&'a Evaluated],
    pub rows: usize,
    pub result: &'a DataType,
}

impl<'a> Call<'a> {
    /// How many arguments there are.
    pub fn count(&self) -> usize {
        self.arguments.len()
    }

    pub fn has(&self, i: usize) -> bool {
        i < self.arguments.len()
    }

    pub fn array(&self, i: usize) -> &'a ArrayRef {
        self.arguments[i].array()
    }

    /// The place in `array(i)` of a row's value.
    pub fn place(&self, i: usize, row: usize) -> usize {
        self.arguments[i].place(row)
    }

    pub fn is_null(&self, i: usize, row: usize) -> bool {
        *self.array(i).data_type() == DataType::Null || self.array(i).is_null(self.place(i, row))
    }

    pub fn texts(&self, i: usize) -> Texts<'a> {
        Texts { array: self.array(i).as_string_view(), value: self.arguments[i] }
    }

    /// A text argument that may be left out.
    pub fn texts_or(&self, i: usize, otherwise: &'a str) -> impl Fn(usize) -> Option<&'a str> {
        let given = self.has(i).then(|| self.texts(i));
        move |row| given.as_ref().map_or(Some(otherwise), |given| given.get(row))
    }

    pub fn bytes(&self, i: usize) -> Bytes<'a> {
        Bytes { array: self.array(i).as_binary_view(), value: self.arguments[i] }
    }

    pub fn values<T: ArrowPrimitiveType>(&self, i: usize) -> Values<'a, T> {
        Values { array: self.array(i).as_primitive::<T>(), value: self.arguments[i] }
    }

    pub fn integers(&self, i: usize) -> Values<'a, Int32Type> {
        self.values(i)
    }

    /// An integer argument that may be left out.
    pub fn integers_or(&self, i: usize, otherwise: i32) -> impl Fn(usize) -> Option<i32> {
        let given = self.has(i).then(|| self.integers(i));
        move |row| given.as_ref().map_or(Some(otherwise), |given| given.get(row))
    }

    pub fn doubles(&self, i: usize) -> Values<'a, Float64Type> {
        self.values(i)
    }

    pub fn decimals(&self, i: usize) -> Values<'a, Decimal128Type> {
        self.values(i)
    }

    /// Digits after the point of a numeric argument; none for others.
    pub fn scale(&self, i: usize) -> i8 {
        if let DataType::Decimal128(_, scale) = self.array(i).data_type() { *scale } else { 0 }
    }

    pub fn spans(&self, i: usize) -> Values<'a, IntervalMonthDayNanoType> {
        self.values(i)
    }

    pub fn timestamps(&self, i: usize) -> Values<'a, TimestampMicrosecondType> {
        self.values(i)
    }

    /// A truth value that may be left out.
    pub fn flags_or(&self, i: usize, otherwise: bool) -> impl Fn(usize) -> Option<bool> {
        let given = self.has(i).then(|| (self.array(i).as_boolean(), self.arguments[i]));
        move |row| match given {
            None => Some(otherwise),
            Some((array, value)) => {
                let place = value.place(row);
                array.is_valid(place).then(|| array.value(place))
            }
        }
    }

    pub fn lists(&self, i: usize) -> Lists<'a> {
        Lists { array: self.array(i).as_list(), value: self.arguments[i] }
    }

    /// An argument with a value for each row.
    pub fn whole(&self, i: usize) -> Result<ArrayRef> {
        self.arguments[i].clone().into_array(self.rows)
    }

    /// A text for each row; `None` is null.
    pub fn make_texts<'t>(&self, f: impl Fn(usize) -> Result<Option<Cow<'t, str>>>) -> Result<ArrayRef> {
        let mut out = StringViewBuilder::with_capacity(self.rows);
        let mut made = Tally::new(self.name);
        for row in 0..self.rows {
            let text = f(row)?;
            made.add(text.as_ref().map_or(0, |text| text.len()))?;
            out.append_option(text);
        }
        Ok(Arc::new(out.finish()))
    }

    pub fn make_strings(&self, f: impl Fn(usize) -> Result<Option<String>>) -> Result<ArrayRef> {
        self.make_texts(|row| Ok(f(row)?.map(Cow::Owned)))
    }

    /// A text made of each row's first argument.
    pub fn each_text(&self, f: impl Fn(&str) -> String) -> Result<ArrayRef> {
        let first = self.texts(0);
        self.make_strings(|row| Ok(first.get(row).map(&f)))
    }

    pub fn make_bytes(&self, f: impl Fn(usize) -> Result<Option<Vec<u8>>>) -> Result<ArrayRef> {
        let mut out = BinaryViewBuilder::with_capacity(self.rows);
        let mut made = Tally::new(self.name);
        for row in 0..self.rows {
            let bytes = f(row)?;
            made.add(bytes.as_ref().map_or(0, Vec::len))?;
            out.append_option(bytes);
        }
        Ok(Arc::new(out.finish()))
    }

    pub fn make_integers(&self, f: impl Fn(usize) -> Result<Option<i32>>) -> Result<ArrayRef> {
        self.make_values::<Int32Type>(f)
    }

    pub fn make_doubles(&self, f: impl Fn(usize) -> Option<f64>) -> Result<ArrayRef> {
        self.make_values::<Float64Type>(|row| Ok(f(row)))
    }

    pub fn make_values<T: ArrowPrimitiveType>(
        &self,
        f: impl Fn(usize) -> Result<Option<T::Native>>,
    ) -> Result<ArrayRef> {
        let mut out = PrimitiveBuilder::<T>::with_capacity(self.rows);
        for row in 0..self.rows {
            out.append_option(f(row)?);
        }
        Ok(Arc::new(out.finish()))
    }

    pub fn make_flags(&self, f: impl Fn(usize) -> Result<Option<bool>>) -> Result<ArrayRef> {
        let mut out = BooleanBuilder::with_capacity(self.rows);
        for row in 0..self.rows {
            out.append_option(f(row)?);
        }
        Ok(Arc::new(out.finish()))
    }

    /// Numerics of the result's own digits, from their unscaled values.
    pub fn make_decimals(&self, f: impl Fn(usize) -> Result<Option<i128>>) -> Result<ArrayRef> {
        let DataType::Decimal128(precision, scale) = *self.result else {
            return Err(Error::internal(format!("{} has a result that is no numeric", self.name)));
        };
        let mut out = Decimal128Builder::with_capacity(self.rows);
        for row in 0..self.rows {
            out.append_option(f(row)?);
        }
        Ok(Arc::new(out.finish().with_precision_and_scale(precision, scale)?))
    }

    /// Timestamps of the result's own kind, in microseconds.
    pub fn make_timestamps(&self, f: impl Fn(usize) -> Result<Option<i64>>) -> Result<ArrayRef> {
        let mut out = TimestampMicrosecondBuilder::with_capacity(self.rows);
        for row in 0..self.rows {
            out.append_option(f(row)?);
        }
        let zone = match self.result {
            DataType::Timestamp(_, zone) => zone.clone(),
            _ => None,
        };
        Ok(Arc::new(out.finish().with_timezone_opt(zone)))
    }

    /// An array of texts for each row.
    pub fn make_text_lists<'t>(
        &self,
        f: impl Fn(usize) -> Result<Option<Vec<Option<Cow<'t, str>>>>>,
    ) -> Result<ArrayRef> {
        let mut out = ListBuilder::new(StringViewBuilder::new());
        let mut made = Tally::new(self.name);
        for row in 0..self.rows {
            let items = f(row)?;
            let is_array = items.is_some();
            made.add(items.iter().flatten().map(|item| 16 + item.as_ref().map_or(0, |item| item.len())).sum())?;
            items.into_iter().flatten().for_each(|item| out.values().append_option(item));
            out.append(is_array);
        }
        Ok(Arc::new(out.finish()))
    }

    /// That a result does not fit its type.
    pub fn out_of_range(&self) -> Error {
        Error::new(Code::Overflow, format!("the result of {} is out of the range of its type", self.name))
    }
}

/// Text arguments by row.
pub struct Texts<'a> {
    array: &'a StringViewArray,
    value: &'a Evaluated,
}

impl<'a> Texts<'a> {
    pub fn get(&self, row: usize) -> Option<&'a str> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

/// Byte strings by row.
pub struct Bytes<'a> {
    array: &'a BinaryViewArray,
    value: &'a Evaluated,
}

impl<'a> Bytes<'a> {
    pub fn get(&self, row: usize) -> Option<&'a [u8]> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

/// Numbers or times by row.
pub struct Values<'a, T: ArrowPrimitiveType> {
    array: &'a PrimitiveArray<T>,
    value: &'a Evaluated,
}

impl<T: ArrowPrimitiveType> Values<'_, T> {
    pub fn get(&self, row: usize) -> Option<T::Native> {
        let place = self.value.place(row);
        self.array.is_valid(place).then(|| self.array.value(place))
    }
}

/// Arrays by row.
pub struct Lists<'a> {
    array: &'a ListArray,
    value: &'a Evaluated,
}

impl<'a> Lists<'a> {
    /// The items of all arrays, one after another.
    pub fn items(&self) -> &'a ArrayRef {
        self.array.values()
    }

    /// The places of a row's items among all; `None` for a null.
    pub fn range(&self, row: usize) -> Option<Range<usize>> {
        let (offsets, place) = (self.array.value_offsets(), self.value.place(row));
        self.array.is_valid(place).then(|| offsets[place] as usize..offsets[place + 1] as usize)
    }

    /// A row's items where they are texts, some of them null.
    pub fn texts(&self, row: usize) -> Option<Vec<Option<String>>> {
        let (items, range) = (self.items().as_string_view(), self.range(row)?);
        Some(range.map(|place| items.is_valid(place).then(|| items.value(place).to_owned())).collect())
    }
}
