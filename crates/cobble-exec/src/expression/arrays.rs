//! Functions of arrays (PostgreSQL manual 9.19). Items are compared as SQL compares them for DISTINCT: nulls are equal.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::{NullBuffer, OffsetBuffer};
use arrow::compute::{interleave, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use cobble_plan::expr::BinaryOp;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result, array_value_text};

use super::text::{Integers, Texts};
use super::{Evaluated, one_zero};

/// Items of several arrays of one type in a form that compares.
fn comparable(arrays: &[&ArrayRef]) -> Result<Vec<Rows>> {
    let converter = RowConverter::new(vec![SortField::new(arrays[0].data_type().clone())])?;
    arrays.iter().map(|array| Ok(converter.convert_columns(&[one_zero(array)])?)).collect()
}

/// A list for each row from places in the given items; `None` is a null list.
fn gathered(items: &[&dyn Array], lists: Vec<Option<Vec<(usize, usize)>>>, result: &DataType) -> Result<ArrayRef> {
    let DataType::List(field) = result else { return Err(Error::internal("an array function without an array")) };
    let offsets = OffsetBuffer::from_lengths(lists.iter().map(|list| list.as_ref().map_or(0, Vec::len)));
    let nulls = NullBuffer::from_iter(lists.iter().map(Option::is_some));
    let places: Vec<(usize, usize)> = lists.into_iter().flatten().flatten().collect();
    let values = if places.is_empty() { new_empty_array(field.data_type()) } else { interleave(items, &places)? };
    Ok(Arc::new(ListArray::try_new(field.clone(), offsets, values, Some(nulls))?))
}

/// The lengths of an array's dimensions, none for an empty one; `None` for a null.
fn dimensions(value: &Evaluated, row: usize) -> Option<Vec<usize>> {
    let (mut array, mut place) = (value.array().clone(), value.place(row));
    let mut all = Vec::new();
    while let Some(lists) = array.as_list_opt::<i32>() {
        if lists.is_null(place) {
            return if all.is_empty() { None } else { Some(all) };
        }
        let (start, length) = (lists.value_offsets()[place] as usize, lists.value_length(place) as usize);
        if length == 0 {
            return Some(vec![]);
        }
        all.push(length);
        let values = lists.values().clone();
        (array, place) = (values, start);
    }
    Some(all)
}

fn uneven() -> Error {
    Error::new(Code::ArraySubscript, "arrays of different dimensions cannot be parts of one array")
}

/// Whether arrays that become the items of one have items themselves: all of them, in the same dimensions, or none (PostgreSQL
/// manual 8.15.4).
fn parts_are_even(parts: &[&Evaluated], row: usize) -> Result<bool> {
    let shape = |part: &Evaluated| dimensions(part, row).unwrap_or_default();
    let first = shape(parts[0]);
    if parts[1..].iter().any(|part| shape(part) != first) {
        return Err(uneven());
    }
    Ok(!first.is_empty())
}

/// That the items of two arrays fit together, or an item and those of an array: what is compared are the dimensions from a level on.
fn items_fit(arrays: [(&Evaluated, usize); 2], row: usize) -> Result<()> {
    let [left, right] = arrays.map(|(array, level)| (dimensions(array, row).unwrap_or_default(), level));
    let fit = left.0.is_empty() || right.0.is_empty() || left.0[left.1..] == right.0[right.1..];
    if fit { Ok(()) } else { Err(uneven()) }
}

/// A bound of a slice that is not written.
const OPEN: i32 = i32::MAX;

/// `array[from:to][from:to]…`: two bounds for each dimension, both included, clipped to what is there.
fn slices(arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    let bound = |i: usize, row: usize| Integers::of(arguments[i]).get(row);
    let is_null = |row: usize| {
        arguments[0].array().is_null(arguments[0].place(row)) || (1..arguments.len()).any(|i| bound(i, row).is_none())
    };
    let bounds: Vec<Vec<(i32, i32)>> = (1..arguments.len())
        .step_by(2)
        .map(|i| (0..rows).map(|row| (bound(i, row).unwrap_or(1), bound(i + 1, row).unwrap_or(0))).collect())
        .collect();
    let whole = arguments[0].clone().into_array(rows)?;
    let nulls: Vec<bool> = (0..rows).map(is_null).collect();
    let cut = slice(whole.as_list::<i32>(), &bounds, &(0..rows).collect::<Vec<_>>())?;
    let DataType::List(field) = result else { return Err(Error::internal("a slice of no array")) };
    let valid = NullBuffer::from_iter(nulls.iter().map(|null| !null));
    let (_, offsets, values, _) = cut.into_parts();
    Ok(Arc::new(ListArray::try_new(field.clone(), offsets, values, Some(valid))?))
}

/// The slice of each list; `owners` are the rows whose bounds they have.
fn slice(lists: &ListArray, bounds: &[Vec<(i32, i32)>], owners: &[usize]) -> Result<ListArray> {
    let Some((own, rest)) = bounds.split_first() else { return Ok(lists.clone()) };
    let offsets = lists.value_offsets();
    let (mut places, mut lengths, mut inner_owners): (Vec<u64>, Vec<usize>, Vec<usize>) = (vec![], vec![], vec![]);
    for (place, owner) in owners.iter().enumerate() {
        let (from, to) = own[*owner];
        let length = if lists.is_null(place) { 0 } else { lists.value_length(place) };
        let first = if from == OPEN { 1 } else { from.max(1) };
        let last = if to == OPEN { length } else { to.min(length) };
        let count = last.saturating_sub(first).saturating_add(1).max(0) as usize;
        places.extend((0..count).map(|n| offsets[place] as u64 + (first - 1) as u64 + n as u64));
        inner_owners.extend(std::iter::repeat_n(*owner, count));
        lengths.push(count);
    }
    let mut values = take(lists.values().as_ref(), &UInt64Array::from(places), None)?;
    if let Some(inner) = values.as_list_opt::<i32>() {
        let cut = slice(inner, rest, &inner_owners)?;
        // An array whose inner arrays are empty is empty.
        let mut at = 0;
        let mut kept: Vec<u64> = Vec::new();
        for length in &mut lengths {
            let range = at..at + *length;
            at += *length;
            if range.clone().all(|place| cut.value_length(place) == 0) {
                *length = 0;
            } else {
                kept.extend(range.map(|place| place as u64));
            }
        }
        values = take(&cut, &UInt64Array::from(kept), None)?;
    }
    let field = Arc::new(Field::new("item", values.data_type().clone(), true));
    Ok(ListArray::try_new(field, OffsetBuffer::from_lengths(lengths), values, None)?)
}

/// Items that an array of `array_fill` may have.
const MOST_FILLED: usize = 1 << 24;

/// `array_fill(value, ARRAY[length, …])`.
fn filled(arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    let depth = arguments.len() - 1;
    let (mut places, mut lengths): (Vec<Option<u64>>, Vec<Vec<usize>>) = (vec![], vec![vec![]; depth.max(1)]);
    let mut total = 0;
    for row in 0..rows {
        let mut own = Vec::new();
        for dimension in &arguments[1..] {
            let length = Integers::of(dimension)
                .get(row)
                .ok_or_else(|| Error::new(Code::InvalidValue, "a length of array_fill() is null"))?;
            let length = usize::try_from(length)
                .map_err(|_| Error::new(Code::ArraySubscript, "a length of array_fill() is negative"))?;
            own.push(length);
        }
        // Without items in one dimension there are none at all.
        if own.contains(&0) || own.is_empty() {
            own = vec![0; depth.max(1)];
        }
        let mut lists = 1usize;
        for (level, length) in own.iter().enumerate() {
            lengths[level].extend(std::iter::repeat_n(*length, lists));
            lists = lists.saturating_mul(*length);
            if lists == 0 {
                break;
            }
        }
        total += lists;
        if total > MOST_FILLED {
            return Err(Error::new(Code::TooComplex, format!("array_fill() makes at most {MOST_FILLED} items")));
        }
        places.extend(std::iter::repeat_n(Some(arguments[0].place(row) as u64), lists));
    }
    let mut values = take(arguments[0].array().as_ref(), &UInt64Array::from(places), None)?;
    for level in lengths.into_iter().rev() {
        let field = Arc::new(Field::new("item", values.data_type().clone(), true));
        values = Arc::new(ListArray::try_new(field, OffsetBuffer::from_lengths(level), values, None)?);
    }
    debug_assert_eq!(values.data_type(), result);
    Ok(values)
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize, result: &DataType) -> Result<ArrayRef> {
    use Function as F;
    let list = |i: usize| arguments[i].array().as_list::<i32>();
    // The places of a row's items, or nothing for a null.
    let range = |i: usize, row: usize| {
        let (lists, place) = (list(i), arguments[i].place(row));
        let offsets = lists.value_offsets();
        lists.is_valid(place).then(|| offsets[place] as usize..offsets[place + 1] as usize)
    };
    Ok(match function {
        F::MakeArray => {
            if arguments.is_empty() {
                return gathered(&[], vec![Some(vec![]); rows], result);
            }
            let items: Vec<ArrayRef> =
                arguments.iter().map(|a| (*a).clone().into_array(rows)).collect::<Result<_>>()?;
            let views: Vec<&dyn Array> = items.iter().map(AsRef::as_ref).collect();
            let is_nested = items[0].as_list_opt::<i32>().is_some();
            let mut lists: Vec<Option<Vec<(usize, usize)>>> = Vec::with_capacity(rows);
            for row in 0..rows {
                let empty = is_nested && !parts_are_even(arguments, row)?;
                lists.push(Some(if empty { vec![] } else { (0..views.len()).map(|i| (i, row)).collect() }));
            }
            gathered(&views, lists, result)?
        }
        F::ArrayLength | F::ArrayLower => {
            let dimension = Integers::of(arguments[1]);
            let answer = |row: usize| {
                let all = dimensions(arguments[0], row)?;
                let length = *all.get(usize::try_from(dimension.get(row)?).ok()?.checked_sub(1)?)?;
                Some(if function == F::ArrayLower { 1 } else { length as i32 })
            };
            Arc::new((0..rows).map(answer).collect::<Int32Array>())
        }
        F::ArrayNdims => {
            let answer = |row: usize| Some(dimensions(arguments[0], row)?.len() as i32).filter(|n| *n > 0);
            Arc::new((0..rows).map(answer).collect::<Int32Array>())
        }
        F::ArrayDims => {
            let answer = |row: usize| {
                let all = dimensions(arguments[0], row)?;
                let text: String = all.iter().map(|length| format!("[1:{length}]")).collect();
                (!text.is_empty()).then_some(text)
            };
            Arc::new((0..rows).map(answer).collect::<StringViewArray>())
        }
        F::Cardinality => {
            let answer = |row: usize| {
                let all = dimensions(arguments[0], row)?;
                Some(if all.is_empty() { 0 } else { all.iter().product::<usize>() as i32 })
            };
            Arc::new((0..rows).map(answer).collect::<Int32Array>())
        }
        F::ArraySlice => return slices(arguments, rows, result),
        F::TrimArray => {
            let counts = Integers::of(arguments[1]);
            let mut lists = Vec::with_capacity(rows);
            for row in 0..rows {
                lists.push(match range(0, row).zip(counts.get(row)) {
                    None => None,
                    Some((own, n)) => {
                        let left = usize::try_from(n).ok().and_then(|n| own.len().checked_sub(n)).ok_or_else(|| {
                            let what = format!("trim_array() takes from 0 to {} items away", own.len());
                            Error::new(Code::ArraySubscript, what)
                        })?;
                        Some((own.start..own.start + left).map(|place| (0, place)).collect())
                    }
                });
            }
            gathered(&[list(0).values().as_ref()], lists, result)?
        }
        F::ArrayFlatten => {
            let outer = list(0);
            let inner = outer.values().as_list::<i32>();
            let ranges = (0..rows).map(|row| range(0, row));
            let places: Vec<Option<Vec<std::ops::Range<usize>>>> = ranges
                .map(|range| {
                    let one = |i: usize| inner.value_offsets()[i] as usize..inner.value_offsets()[i + 1] as usize;
                    range.map(|range| range.filter(|i| inner.is_valid(*i)).map(one).collect())
                })
                .collect();
            let offsets = OffsetBuffer::from_lengths(
                places.iter().map(|own| own.iter().flatten().map(ExactSizeIterator::len).sum::<usize>()),
            );
            let picks: UInt32Array =
                places.iter().flatten().flatten().flat_map(Clone::clone).map(|place| place as u32).collect();
            let nulls = NullBuffer::from_iter(places.iter().map(Option::is_some));
            let DataType::List(field) = result else { return Err(Error::internal("an array of something else")) };
            let items = arrow::compute::take(inner.values().as_ref(), &picks, None)?;
            Arc::new(ListArray::try_new(field.clone(), offsets, items, Some(nulls))?)
        }
        F::ArrayFill => return filled(arguments, rows, result),
        F::ArrayPositions => {
            let items = comparable(&[list(0).values(), arguments[1].array()])?;
            let mut out = ListBuilder::new(Int32Builder::new());
            for row in 0..rows {
                let own = range(0, row);
                for (number, place) in own.iter().cloned().flatten().enumerate() {
                    if items[0].row(place) == items[1].row(arguments[1].place(row)) {
                        out.values().append_value(number as i32 + 1);
                    }
                }
                out.append(own.is_some());
            }
            Arc::new(out.finish())
        }
        F::ArrayReplace => {
            let items = comparable(&[list(0).values(), arguments[1].array()])?;
            let lists = (0..rows)
                .map(|row| {
                    let (from, to) = (arguments[1].place(row), arguments[2].place(row));
                    let changed = |place: usize| match items[0].row(place) == items[1].row(from) {
                        true => (1, to),
                        false => (0, place),
                    };
                    Some(range(0, row)?.map(changed).collect())
                })
                .collect();
            gathered(&[list(0).values().as_ref(), arguments[2].array().as_ref()], lists, result)?
        }
        F::ArrayAppend | F::ArrayPrepend => {
            let (array, item) = if function == F::ArrayAppend { (0, 1) } else { (1, 0) };
            let single = arguments[item].array();
            let is_nested = single.as_list_opt::<i32>().is_some();
            if is_nested {
                (0..rows).try_for_each(|row| items_fit([(arguments[array], 1), (arguments[item], 0)], row))?;
            }
            let lists = (0..rows)
                .map(|row| {
                    let own = range(array, row).unwrap_or(0..0).map(|place| (0, place));
                    // An empty array beside an array of arrays adds nothing.
                    let adds = !is_nested || dimensions(arguments[item], row).is_none_or(|all| !all.is_empty());
                    let new = adds.then(|| (1, arguments[item].place(row))).into_iter();
                    Some(if array == 0 { own.chain(new).collect() } else { new.chain(own).collect() })
                })
                .collect();
            gathered(&[list(array).values().as_ref(), single.as_ref()], lists, result)?
        }
        F::ArrayCat => {
            if list(0).values().as_list_opt::<i32>().is_some() {
                (0..rows).try_for_each(|row| items_fit([(arguments[0], 1), (arguments[1], 1)], row))?;
            }
            let lists = (0..rows)
                .map(|row| match (range(0, row), range(1, row)) {
                    (None, None) => None,
                    (a, b) => {
                        let left = a.unwrap_or(0..0).map(|place| (0, place));
                        Some(left.chain(b.unwrap_or(0..0).map(|place| (1, place))).collect())
                    }
                })
                .collect();
            gathered(&[list(0).values().as_ref(), list(1).values().as_ref()], lists, result)?
        }
        F::ArrayPosition | F::ArrayRemove => {
            let items = comparable(&[list(0).values(), arguments[1].array()])?;
            let equal = |place: usize, row: usize| items[0].row(place) == items[1].row(arguments[1].place(row));
            if function == F::ArrayPosition {
                let place = |row: usize| range(0, row)?.position(|place| equal(place, row)).map(|n| n as i32 + 1);
                Arc::new((0..rows).map(place).collect::<Int32Array>())
            } else {
                let lists = (0..rows)
                    .map(|row| Some(range(0, row)?.filter(|place| !equal(*place, row)).map(|p| (0, p)).collect()))
                    .collect();
                gathered(&[list(0).values().as_ref()], lists, result)?
            }
        }
        F::WidthBucket => {
            let bounds = list(1);
            let items = comparable(&[arguments[0].array(), bounds.values()])?;
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                let (Some(own), true) = (range(1, row), arguments[0].array().is_valid(arguments[0].place(row))) else {
                    out.append_null();
                    continue;
                };
                if own.clone().any(|place| bounds.values().is_null(place)) {
                    return Err(Error::new(
                        Code::NullNotAllowed,
                        "the bounds of width_bucket() have a null among them",
                    ));
                }
                let value = items[0].row(arguments[0].place(row));
                // The bounds stand in their order.
                let (mut low, mut high) = (own.start, own.end);
                while low < high {
                    let middle = low + (high - low) / 2;
                    if value < items[1].row(middle) {
                        high = middle;
                    } else {
                        low = middle + 1;
                    }
                }
                out.append_value((low - own.start) as i32);
            }
            Arc::new(out.finish())
        }
        F::ArrayContains | F::ArrayOverlaps => {
            let items = comparable(&[list(0).values(), list(1).values()])?;
            let (left, right) = (list(0).values(), list(1).values());
            // Nulls inside arrays equal nothing here.
            let has = |item: usize, within: std::ops::Range<usize>| {
                right.is_valid(item)
                    && within.clone().any(|place| left.is_valid(place) && items[0].row(place) == items[1].row(item))
            };
            let answer = |row: usize| {
                let (a, mut b) = (range(0, row)?, range(1, row)?);
                Some(if function == F::ArrayContains {
                    b.all(|item| has(item, a.clone()))
                } else {
                    b.any(|item| has(item, a.clone()))
                })
            };
            Arc::new((0..rows).map(answer).collect::<BooleanArray>())
        }
        F::ParseIdent => {
            let texts = Texts::of(arguments[0]);
            let mut out = ListBuilder::new(StringViewBuilder::new());
            for row in 0..rows {
                let strict = match arguments.get(1) {
                    None => Some(true),
                    Some(strict) => {
                        let (flags, place) = (strict.array().as_boolean(), strict.place(row));
                        flags.is_valid(place).then(|| flags.value(place))
                    }
                };
                let Some((text, strict)) = texts.get(row).zip(strict) else {
                    out.append(false);
                    continue;
                };
                for part in cobble_types::parse_identifier(text, strict)? {
                    out.values().append_value(part);
                }
                out.append(true);
            }
            Arc::new(out.finish())
        }
        F::StringToArray => {
            let (texts, separators) = (Texts::of(arguments[0]), Texts::of(arguments[1]));
            let nulls = arguments.get(2).map(|n| Texts::of(n));
            let mut out = ListBuilder::new(StringViewBuilder::new());
            for row in 0..rows {
                let Some(text) = texts.get(row) else {
                    out.append(false);
                    continue;
                };
                let parts: Vec<String> = match separators.get(row) {
                    _ if text.is_empty() => vec![],
                    None => text.chars().map(String::from).collect(),
                    Some("") => vec![text.to_owned()],
                    Some(separator) => text.split(separator).map(str::to_owned).collect(),
                };
                let null = nulls.as_ref().and_then(|n| n.get(row));
                for part in parts {
                    out.values().append_option((Some(part.as_str()) != null).then_some(part));
                }
                out.append(true);
            }
            Arc::new(out.finish())
        }
        F::AnyItem => {
            let symbol = Texts::of(arguments[0]).get(0).unwrap_or_default();
            let ranges: Vec<Option<std::ops::Range<usize>>> = (0..rows).map(|row| range(2, row)).collect();
            let items: UInt64Array = ranges.iter().flatten().cloned().flatten().map(|p| Some(p as u64)).collect();
            let owners = ranges.iter().enumerate().flat_map(|(row, r)| {
                let place = arguments[1].place(row) as u64;
                r.iter().flat_map(move |r| std::iter::repeat_n(Some(place), r.len()))
            });
            let left = take(arguments[1].array(), &owners.collect::<UInt64Array>(), None)?;
            let right = take(list(2).values(), &items, None)?;
            let (left, right) = (Evaluated::Array(left), Evaluated::Array(right));
            let found = match BinaryOp::by_symbol(symbol) {
                Some(op) => super::compare(op, &left, &right)?,
                None => super::pattern::compare(symbol, &left, &right)?,
            };
            let mut at = 0;
            let one = |range: &Option<std::ops::Range<usize>>| {
                let length = range.as_ref()?.len();
                let own = found.slice(at, length);
                at += length;
                // True if one is; unknown if one is unknown; otherwise false.
                if own.true_count() > 0 { Some(true) } else { (own.null_count() == 0).then_some(false) }
            };
            Arc::new(ranges.iter().map(one).collect::<BooleanArray>())
        }
        F::ArrayToString => {
            let values = list(0).values().clone();
            let separators = Texts::of(arguments[1]);
            let nulls = arguments.get(2).map(|n| Texts::of(n));
            let text = |row: usize| {
                let (range, separator) = (range(0, row)?, separators.get(row)?);
                let null = nulls.as_ref().and_then(|n| n.get(row));
                let parts: Vec<String> =
                    range.filter_map(|p| array_value_text(values.as_ref(), p).or(null.map(str::to_owned))).collect();
                Some(parts.join(separator))
            };
            Arc::new((0..rows).map(text).collect::<StringViewArray>())
        }
        other => return Err(Error::internal(format!("{} is no function of arrays", other.name()))),
    })
}
