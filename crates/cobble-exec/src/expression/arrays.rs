//! Functions of arrays (PostgreSQL manual 9.19). Items are compared as SQL compares them for DISTINCT: nulls are equal.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::{NullBuffer, OffsetBuffer};
use arrow::compute::{interleave, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use cobble_plan::expr::BinaryOp;
use cobble_plan::function::Function;
use cobble_types::{Error, Result, array_value_text};

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
            let lists = (0..rows).map(|row| Some((0..views.len()).map(|i| (i, row)).collect())).collect();
            gathered(&views, lists, result)?
        }
        F::ArrayLength => {
            let dimension = Integers::of(arguments[1]);
            let length = |row: usize| {
                let range = range(0, row)?;
                (dimension.get(row)? == 1 && !range.is_empty()).then(|| range.len() as i32)
            };
            Arc::new((0..rows).map(length).collect::<Int32Array>())
        }
        F::ArrayAppend | F::ArrayPrepend => {
            let (array, item) = if function == F::ArrayAppend { (0, 1) } else { (1, 0) };
            let single = arguments[item].array();
            let lists = (0..rows)
                .map(|row| {
                    let own = range(array, row).unwrap_or(0..0).map(|place| (0, place));
                    let new = std::iter::once((1, arguments[item].place(row)));
                    Some(if array == 0 { own.chain(new).collect() } else { new.chain(own).collect() })
                })
                .collect();
            gathered(&[list(array).values().as_ref(), single.as_ref()], lists, result)?
        }
        F::ArrayCat => {
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
            let op = Texts::of(arguments[0]).get(0).and_then(BinaryOp::by_symbol);
            let op = op.ok_or_else(|| Error::internal("a comparison with items without its operator"))?;
            let ranges: Vec<Option<std::ops::Range<usize>>> = (0..rows).map(|row| range(2, row)).collect();
            let items: UInt64Array = ranges.iter().flatten().cloned().flatten().map(|p| Some(p as u64)).collect();
            let owners = ranges.iter().enumerate().flat_map(|(row, r)| {
                let place = arguments[1].place(row) as u64;
                r.iter().flat_map(move |r| std::iter::repeat_n(Some(place), r.len()))
            });
            let left = take(arguments[1].array(), &owners.collect::<UInt64Array>(), None)?;
            let right = take(list(2).values(), &items, None)?;
            let found = super::compare(op, &Evaluated::Array(left), &Evaluated::Array(right))?;
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
