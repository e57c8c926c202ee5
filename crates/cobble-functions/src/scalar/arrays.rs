//! Functions of arrays (PostgreSQL manual 9.19). Items are compared as SQL compares them for DISTINCT: nulls are equal.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::{NullBuffer, OffsetBuffer};
use arrow::compute::{interleave, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, Rows, SortField};
use cobble_types::{Code, Error, Result, RowField, SqlType, array_value_text};

use super::pattern;
use crate::budget::{self, Growing};
use crate::column_bytes;
use crate::operators::compare::{compare, one_zero};
use crate::signature::{Given, Overload, Returns, Scalar, Takes, Types, array_of, unified};
use crate::{BinaryOp, Call, Evaluated, united_type};

// Types of the arguments.

/// The type of an array's items.
fn item_of(given: &Given) -> Option<&SqlType> {
    if let SqlType::Array(item) = &given.sql_type { Some(item) } else { None }
}

/// An array and further values, coerced to the common type of its items and the values.
fn with_items(array: &Given, items: &[&Given]) -> Option<SqlType> {
    items.iter().try_fold(item_of(array)?.clone(), |common, own| united_type(&common, &own.sql_type))
}

/// An array and one item.
fn array_and_item(given: &[Given], returns: impl Fn(&SqlType) -> SqlType) -> Option<Types> {
    let [array, item] = given else { return None };
    let common = with_items(array, &[item])?;
    let returns = returns(&common);
    Some((vec![array_of(common.clone()), common], returns))
}

fn array_same(given: &[Given]) -> Option<Types> {
    array_and_item(given, |common| array_of(common.clone()))
}

pub(super) fn bounds_types(given: &[Given]) -> Option<Types> {
    let [value, bounds] = given else { return None };
    let common = with_items(bounds, &[value])?;
    Some((vec![common.clone(), array_of(common)], SqlType::Integer))
}

/// Two arrays of one type, whatever the digits of its numbers.
fn two_alike(given: &[Given]) -> Option<Types> {
    let [left, right] = given else { return None };
    let (l, r) = (item_of(left)?, item_of(right)?);
    let numeric = |item: &SqlType| matches!(item, SqlType::Numeric { .. });
    if l != r && !(numeric(l) && numeric(r)) {
        return None;
    }
    let common = array_of(united_type(l, r)?);
    Some((vec![common.clone(), common], SqlType::Boolean))
}

// Making arrays and rows.

pub(crate) const ROW: Scalar = Scalar::new(
    "row",
    "any, …",
    "The values as one, with fields f1, f2 and so on.",
    ("ROW('Kestrel', 120)", "(Kestrel,120)"),
    &[Overload::together(
        |given| {
            let types: Vec<SqlType> =
                given.iter().map(|own| if own.is_open() { SqlType::Text } else { own.sql_type.clone() }).collect();
            let field =
                |(i, sql_type): (usize, &SqlType)| RowField { name: format!("f{}", i + 1), sql_type: sql_type.clone() };
            let fields = types.iter().enumerate().map(field).collect();
            Some((types, SqlType::Row(fields)))
        },
        |call| {
            let DataType::Struct(fields) = call.result else { return Err(Error::internal("a row of another type")) };
            let parts = (0..call.count()).map(|i| call.whole(i)).collect::<Result<Vec<_>>>()?;
            Ok(Arc::new(StructArray::try_new_with_length(fields.clone(), parts, None, call.rows)?))
        },
    )],
)
.sees_nulls();

pub(crate) const ARRAY: Scalar = Scalar::new(
    "array",
    "any, …",
    "An array of the values, written with brackets.",
    ("ARRAY[1, 2, 3]", "{1,2,3}"),
    &[Overload::together(
        |given| {
            let common = unified(given)?;
            Some((vec![common.clone(); given.len()], array_of(common)))
        },
        make_array,
    )],
)
.sees_nulls();

fn make_array(call: &Call) -> Result<ArrayRef> {
    if call.count() == 0 {
        return gathered(&[], vec![Some(vec![]); call.rows], call.result);
    }
    let items: Vec<ArrayRef> = (0..call.count()).map(|i| call.whole(i)).collect::<Result<_>>()?;
    let views: Vec<&dyn Array> = items.iter().map(AsRef::as_ref).collect();
    let is_nested = items[0].as_list_opt::<i32>().is_some();
    let mut lists: Vec<Option<Vec<(usize, usize)>>> = Vec::with_capacity(call.rows);
    for row in 0..call.rows {
        let empty = is_nested && !parts_are_even(call.arguments, row)?;
        lists.push(Some(if empty { vec![] } else { (0..views.len()).map(|i| (i, row)).collect() }));
    }
    gathered(&views, lists, call.result)
}

pub(crate) const ARRAY_FILL: Scalar = Scalar::new(
    "array_fill",
    "any, ARRAY[length, …]",
    "An array of one value many times, of the given lengths.",
    ("array_fill(7, ARRAY[3])", "{7,7,7}"),
    &[Overload::together(
        |given| {
            let (value, lengths) = given.split_first()?;
            let value = if value.is_open() { SqlType::Text } else { value.sql_type.clone() };
            if !lengths.iter().all(|own| own.sql_type.is_integer() || own.is_open()) {
                return None;
            }
            let returns = (0..lengths.len().max(1)).fold(value.clone(), |item, _| array_of(item));
            let types = std::iter::once(value).chain(lengths.iter().map(|_| SqlType::Integer));
            Some((types.collect(), returns))
        },
        filled,
    )],
)
.sees_nulls();

// Dimensions.

pub(crate) const CARDINALITY: Scalar = Scalar::new(
    "cardinality",
    "array",
    "The number of items in all dimensions.",
    ("cardinality(ARRAY[[1, 2], [3, 4]])", "4"),
    &[Overload::of(&[Takes::Array], Returns::Integer, |call| {
        call.make_integers(|row| {
            let all = dimensions(call.arguments[0], row);
            Ok(all.map(|all| if all.is_empty() { 0 } else { all.iter().product::<usize>() as i32 }))
        })
    })],
);

/// Something of the length of a dimension that is there.
fn of_dimension(call: &Call, f: fn(usize) -> i32) -> Result<ArrayRef> {
    let dimension = call.integers(1);
    call.make_integers(|row| {
        let length = || {
            let all = dimensions(call.arguments[0], row)?;
            all.get(usize::try_from(dimension.get(row)?).ok()?.checked_sub(1)?).copied()
        };
        Ok(length().map(f))
    })
}

pub(crate) const ARRAY_LENGTH: Scalar = Scalar::new(
    "array_length",
    "array, dimension",
    "The length of a dimension.",
    ("array_length(ARRAY[7, 8, 9], 1)", "3"),
    &[Overload::of(&[Takes::Array, Takes::Integer], Returns::Integer, |call| {
        of_dimension(call, |length| length as i32)
    })],
)
.also(&["array_upper"]);

pub(crate) const ARRAY_LOWER: Scalar = Scalar::new(
    "array_lower",
    "array, dimension",
    "The least subscript of a dimension, which is 1.",
    ("array_lower(ARRAY[7, 8, 9], 1)", "1"),
    &[Overload::of(&[Takes::Array, Takes::Integer], Returns::Integer, |call| of_dimension(call, |_| 1))],
);

pub(crate) const ARRAY_DIMS: Scalar = Scalar::new(
    "array_dims",
    "array",
    "The dimensions with their bounds, as text.",
    ("array_dims(ARRAY[[1, 2], [3, 4]])", "[1:2][1:2]"),
    &[Overload::of(&[Takes::Array], Returns::Text, |call| {
        call.make_strings(|row| {
            let all = dimensions(call.arguments[0], row).unwrap_or_default();
            let text: String = all.iter().map(|length| format!("[1:{length}]")).collect();
            Ok((!text.is_empty()).then_some(text))
        })
    })],
);

pub(crate) const ARRAY_NDIMS: Scalar = Scalar::new(
    "array_ndims",
    "array",
    "The number of dimensions.",
    ("array_ndims(ARRAY[[1, 2], [3, 4]])", "2"),
    &[Overload::of(&[Takes::Array], Returns::Integer, |call| {
        call.make_integers(|row| Ok(dimensions(call.arguments[0], row).map(|all| all.len() as i32).filter(|n| *n > 0)))
    })],
);

pub(crate) const ARRAY_FLATTEN: Scalar = Scalar::new(
    "array_flatten",
    "array of arrays",
    "The items of all inner arrays as one array.",
    ("array_flatten(ARRAY[[1, 2], [3, 4]])", "{1,2,3,4}"),
    &[Overload::together(
        |given| {
            let [arrays] = given else { return None };
            let inner = item_of(arrays)?;
            matches!(inner, SqlType::Array(_)).then(|| (vec![arrays.sql_type.clone()], inner.clone()))
        },
        flatten,
    )],
);

fn flatten(call: &Call) -> Result<ArrayRef> {
    let outer = call.lists(0);
    let inner = outer.items().as_list::<i32>();
    let one = |i: usize| inner.value_offsets()[i] as usize..inner.value_offsets()[i + 1] as usize;
    let places: Vec<Option<Vec<Range<usize>>>> = (0..call.rows)
        .map(|row| outer.range(row).map(|range| range.filter(|i| inner.is_valid(*i)).map(one).collect()))
        .collect();
    let lengths = places.iter().map(|own| own.iter().flatten().map(ExactSizeIterator::len).sum::<usize>());
    let offsets = OffsetBuffer::from_lengths(lengths);
    let picks: UInt32Array =
        places.iter().flatten().flatten().flat_map(Clone::clone).map(|place| place as u32).collect();
    let nulls = NullBuffer::from_iter(places.iter().map(Option::is_some));
    let DataType::List(field) = call.result else { return Err(Error::internal("an array of something else")) };
    let items = take(inner.values().as_ref(), &picks, None)?;
    Ok(Arc::new(ListArray::try_new(field.clone(), offsets, items, Some(nulls))?))
}

// Parts.

pub(crate) const ARRAY_SLICE: Scalar = Scalar::new(
    "array_slice",
    "array, from, to, …",
    "The items between two subscripts in each dimension, both included; written `array[from:to]`.",
    ("(ARRAY[7, 8, 9])[2:3]", "{8,9}"),
    &[Overload::repeated(&[Takes::Array], Takes::Integer, 2, Returns::Same(0), slices)],
)
.only_planned();

pub(crate) const TRIM_ARRAY: Scalar = Scalar::new(
    "trim_array",
    "array, n",
    "Without the last n items.",
    ("trim_array(ARRAY[7, 8, 9], 1)", "{7,8}"),
    &[Overload::of(&[Takes::Array, Takes::Integer], Returns::Same(0), |call| {
        let (own, counts) = (call.lists(0), call.integers(1));
        let mut lists = Vec::with_capacity(call.rows);
        for row in 0..call.rows {
            lists.push(match own.range(row).zip(counts.get(row)) {
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
        gathered(&[own.items().as_ref()], lists, call.result)
    })],
);

// Finding and changing items.

/// Each row's array and value: which places of the array's items hold the value.
struct Search<'a> {
    call: &'a Call<'a>,
    rows: Vec<Rows>,
}

impl<'a> Search<'a> {
    fn of(call: &'a Call<'a>) -> Result<Search<'a>> {
        Ok(Search { call, rows: comparable(&[call.lists(0).items(), call.array(1)])? })
    }

    fn is_equal(&self, place: usize, row: usize) -> bool {
        self.rows[0].row(place) == self.rows[1].row(self.call.place(1, row))
    }
}

pub(crate) const ARRAY_POSITION: Scalar = Scalar::new(
    "array_position",
    "array, item",
    "The subscript of the first such item.",
    ("array_position(ARRAY['a', 'b', 'a'], 'b')", "2"),
    &[Overload::together(
        |given| array_and_item(given, |_| SqlType::Integer),
        |call| {
            let (own, search) = (call.lists(0), Search::of(call)?);
            call.make_integers(|row| {
                let found = own.range(row).and_then(|mut all| all.position(|place| search.is_equal(place, row)));
                Ok(found.map(|n| n as i32 + 1))
            })
        },
    )],
)
.sees_nulls();

pub(crate) const ARRAY_POSITIONS: Scalar = Scalar::new(
    "array_positions",
    "array, item",
    "The subscripts of all such items.",
    ("array_positions(ARRAY['a', 'b', 'a'], 'a')", "{1,3}"),
    &[Overload::together(
        |given| array_and_item(given, |_| array_of(SqlType::Integer)),
        |call| {
            let (own, search) = (call.lists(0), Search::of(call)?);
            let mut out = ListBuilder::new(Int32Builder::new());
            for row in 0..call.rows {
                let own = own.range(row);
                for (number, place) in own.iter().cloned().flatten().enumerate() {
                    if search.is_equal(place, row) {
                        out.values().append_value(number as i32 + 1);
                    }
                }
                out.append(own.is_some());
            }
            Ok(Arc::new(out.finish()))
        },
    )],
)
.sees_nulls();

pub(crate) const ARRAY_REMOVE: Scalar = Scalar::new(
    "array_remove",
    "array, item",
    "Without all such items.",
    ("array_remove(ARRAY['a', 'b', 'a'], 'a')", "{b}"),
    &[Overload::together(array_same, |call| {
        let (own, search) = (call.lists(0), Search::of(call)?);
        let lists = (0..call.rows)
            .map(|row| Some(own.range(row)?.filter(|place| !search.is_equal(*place, row)).map(|p| (0, p)).collect()))
            .collect();
        gathered(&[own.items().as_ref()], lists, call.result)
    })],
)
.sees_nulls();

pub(crate) const ARRAY_REPLACE: Scalar = Scalar::new(
    "array_replace",
    "array, from, to",
    "All such items replaced by another.",
    ("array_replace(ARRAY[1, 2, 1], 1, 9)", "{9,2,9}"),
    &[Overload::together(
        |given| {
            let [array, from, to] = given else { return None };
            let common = with_items(array, &[from, to])?;
            let whole = array_of(common.clone());
            Some((vec![whole.clone(), common.clone(), common], whole))
        },
        |call| {
            let (own, search) = (call.lists(0), Search::of(call)?);
            let changed = |place: usize, row: usize| match search.is_equal(place, row) {
                true => (1, call.place(2, row)),
                false => (0, place),
            };
            let lists =
                (0..call.rows).map(|row| Some(own.range(row)?.map(|place| changed(place, row)).collect())).collect();
            gathered(&[own.items().as_ref(), call.array(2).as_ref()], lists, call.result)
        },
    )],
)
.sees_nulls();

/// An item put at the end of an array, or at its beginning.
fn extended(call: &Call, array: usize, item: usize) -> Result<ArrayRef> {
    let (own, single) = (call.lists(array), call.array(item));
    let is_nested = single.as_list_opt::<i32>().is_some();
    if is_nested {
        (0..call.rows).try_for_each(|row| items_fit([(call.arguments[array], 1), (call.arguments[item], 0)], row))?;
    }
    let lists = (0..call.rows)
        .map(|row| {
            let own = own.range(row).unwrap_or(0..0).map(|place| (0, place));
            // An empty array beside an array of arrays adds nothing.
            let adds = !is_nested || dimensions(call.arguments[item], row).is_none_or(|all| !all.is_empty());
            let new = adds.then(|| (1, call.place(item, row))).into_iter();
            Some(if array == 0 { own.chain(new).collect() } else { new.chain(own).collect() })
        })
        .collect();
    gathered(&[own.items().as_ref(), single.as_ref()], lists, call.result)
}

pub(crate) const ARRAY_APPEND: Scalar = Scalar::new(
    "array_append",
    "array, item",
    "With an item more at the end; also written `array || item`.",
    ("array_append(ARRAY[1, 2], 3)", "{1,2,3}"),
    &[Overload::together(array_same, |call| extended(call, 0, 1))],
)
.sees_nulls();

pub(crate) const ARRAY_PREPEND: Scalar = Scalar::new(
    "array_prepend",
    "item, array",
    "With an item more at the beginning; also written `item || array`.",
    ("array_prepend(1, ARRAY[2, 3])", "{1,2,3}"),
    &[Overload::together(
        |given| {
            let [item, array] = given else { return None };
            let common = with_items(array, &[item])?;
            let whole = array_of(common.clone());
            Some((vec![common, whole.clone()], whole))
        },
        |call| extended(call, 1, 0),
    )],
)
.sees_nulls();

pub(crate) const ARRAY_CAT: Scalar = Scalar::new(
    "array_cat",
    "array, array",
    "Two arrays one after the other; also written `array || array`.",
    ("array_cat(ARRAY[1, 2], ARRAY[3])", "{1,2,3}"),
    &[Overload::together(
        |given| {
            let [left, right] = given else { return None };
            let common = array_of(united_type(item_of(left)?, item_of(right)?)?);
            Some((vec![common.clone(), common.clone()], common))
        },
        |call| {
            let (left, right) = (call.lists(0), call.lists(1));
            if left.items().as_list_opt::<i32>().is_some() {
                (0..call.rows).try_for_each(|row| items_fit([(call.arguments[0], 1), (call.arguments[1], 1)], row))?;
            }
            let lists = (0..call.rows)
                .map(|row| match (left.range(row), right.range(row)) {
                    (None, None) => None,
                    (a, b) => {
                        let left = a.unwrap_or(0..0).map(|place| (0, place));
                        Some(left.chain(b.unwrap_or(0..0).map(|place| (1, place))).collect())
                    }
                })
                .collect();
            gathered(&[left.items().as_ref(), right.items().as_ref()], lists, call.result)
        },
    )],
)
.sees_nulls();

// Comparing.

/// Whether `all` items of the right array, or any, are in the left one. Nulls inside arrays equal nothing here.
fn shared(call: &Call, all: bool) -> Result<ArrayRef> {
    let (left, right) = (call.lists(0), call.lists(1));
    let items = comparable(&[left.items(), right.items()])?;
    let has = |item: usize, within: &Range<usize>| {
        right.items().is_valid(item)
            && within.clone().any(|place| left.items().is_valid(place) && items[0].row(place) == items[1].row(item))
    };
    call.make_flags(|row| {
        let Some((a, mut b)) = left.range(row).zip(right.range(row)) else { return Ok(None) };
        Ok(Some(if all { b.all(|item| has(item, &a)) } else { b.any(|item| has(item, &a)) }))
    })
}

pub(crate) const ARRAY_CONTAINS: Scalar = Scalar::new(
    "array_contains",
    "array, array",
    "Whether the first has all items of the second; the operator `@>`.",
    ("ARRAY[1, 2, 3] @> ARRAY[3, 1]", "true"),
    &[Overload::together(two_alike, |call| shared(call, true))],
);

pub(crate) const ARRAY_OVERLAPS: Scalar = Scalar::new(
    "array_overlaps",
    "array, array",
    "Whether the two have an item in common; the operator `&&`.",
    ("ARRAY[1, 2] && ARRAY[2, 3]", "true"),
    &[Overload::together(two_alike, |call| shared(call, false))],
);

pub(crate) const ANY_ITEM: Scalar = Scalar::new(
    "any_item",
    "operator, any, array",
    "Whether the operator holds between the value and an item; written `value op ANY (array)`.",
    ("4 = ANY (ARRAY[3, 4])", "true"),
    &[Overload::of(&[Takes::Text, Takes::Any, Takes::Array], Returns::Boolean, any_item)],
)
.sees_nulls()
.only_planned();

fn any_item(call: &Call) -> Result<ArrayRef> {
    let (symbol, own) = (call.texts(0).get(0).unwrap_or_default(), call.lists(2));
    let ranges: Vec<Option<Range<usize>>> = (0..call.rows).map(|row| own.range(row)).collect();
    let items: UInt64Array = ranges.iter().flatten().cloned().flatten().map(|p| Some(p as u64)).collect();
    let owners = ranges.iter().enumerate().flat_map(|(row, r)| {
        let place = call.place(1, row) as u64;
        r.iter().flat_map(move |r| std::iter::repeat_n(Some(place), r.len()))
    });
    let left = take(call.array(1), &owners.collect::<UInt64Array>(), None)?;
    let right = take(own.items(), &items, None)?;
    let (left, right) = (Evaluated::Array(left), Evaluated::Array(right));
    let found = match BinaryOp::by_symbol(symbol) {
        Some(op) => compare(op, &left, &right)?,
        None => pattern::compare(symbol, &left, &right)?,
    };
    let mut at = 0;
    let one = |range: &Option<Range<usize>>| {
        let length = range.as_ref()?.len();
        let own = found.slice(at, length);
        at += length;
        // True if one is; unknown if one is unknown; otherwise false.
        if own.true_count() > 0 { Some(true) } else { (own.null_count() == 0).then_some(false) }
    };
    Ok(Arc::new(ranges.iter().map(one).collect::<BooleanArray>()))
}

/// `width_bucket(value, bounds)`.
pub(super) fn bucket_of(call: &Call) -> Result<ArrayRef> {
    let bounds = call.lists(1);
    let items = comparable(&[call.array(0), bounds.items()])?;
    call.make_integers(|row| {
        let (Some(own), false) = (bounds.range(row), call.is_null(0, row)) else { return Ok(None) };
        if own.clone().any(|place| bounds.items().is_null(place)) {
            return Err(Error::new(Code::NullNotAllowed, "the bounds of width_bucket() have a null among them"));
        }
        let value = items[0].row(call.place(0, row));
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
        Ok(Some((low - own.start) as i32))
    })
}

// Arrays and texts.

pub(crate) const STRING_TO_ARRAY: Scalar = Scalar::new(
    "string_to_array",
    "text, separator [, null text]",
    "The parts of a text between separators.",
    ("string_to_array('a,b,-', ',', '-')", "{a,b,NULL}"),
    &[Overload::with_optional(&[Takes::Text; 3], 1, Returns::TextArray, |call| {
        let (texts, separators) = (call.texts(0), call.texts(1));
        let nulls = call.has(2).then(|| call.texts(2));
        call.make_text_lists(|row| {
            let Some(text) = texts.get(row) else { return Ok(None) };
            let parts: Vec<Cow<str>> = match separators.get(row) {
                _ if text.is_empty() => vec![],
                None => text.chars().map(|c| Cow::Owned(c.to_string())).collect(),
                Some("") => vec![Cow::Borrowed(text)],
                Some(separator) => text.split(separator).map(Cow::Borrowed).collect(),
            };
            let null = nulls.as_ref().and_then(|n| n.get(row));
            Ok(Some(parts.into_iter().map(|part| (Some(part.as_ref()) != null).then_some(part)).collect()))
        })
    })],
)
.sees_nulls();

pub(crate) const ARRAY_TO_STRING: Scalar = Scalar::new(
    "array_to_string",
    "array, separator [, null text]",
    "The texts of the items joined with a separator.",
    ("array_to_string(ARRAY[1, NULL, 3], '-', '?')", "1-?-3"),
    &[Overload::with_optional(&[Takes::Array, Takes::Text, Takes::Text], 1, Returns::Text, |call| {
        let (own, separators) = (call.lists(0), call.texts(1));
        let nulls = call.has(2).then(|| call.texts(2));
        call.make_strings(|row| {
            let Some((range, separator)) = own.range(row).zip(separators.get(row)) else { return Ok(None) };
            let null = nulls.as_ref().and_then(|n| n.get(row));
            let text = |place: usize| array_value_text(own.items().as_ref(), place).or(null.map(str::to_owned));
            Growing::new(call.name).joined(range.filter_map(text), separator).map(Some)
        })
    })],
)
.sees_nulls();

/// Items of several arrays of one type, normalised for comparison.
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

/// `array[from:to][from:to]…`: two inclusive bounds for each dimension, clipped to the array.
fn slices(call: &Call) -> Result<ArrayRef> {
    let bound = |i: usize, row: usize| call.integers(i).get(row);
    let is_null = |row: usize| call.is_null(0, row) || (1..call.count()).any(|i| bound(i, row).is_none());
    let bounds: Vec<Vec<(i32, i32)>> = (1..call.count())
        .step_by(2)
        .map(|i| (0..call.rows).map(|row| (bound(i, row).unwrap_or(1), bound(i + 1, row).unwrap_or(0))).collect())
        .collect();
    let whole = call.whole(0)?;
    let nulls: Vec<bool> = (0..call.rows).map(is_null).collect();
    let cut = slice(whole.as_list::<i32>(), &bounds, &(0..call.rows).collect::<Vec<_>>())?;
    let DataType::List(field) = call.result else { return Err(Error::internal("a slice of no array")) };
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
fn filled(call: &Call) -> Result<ArrayRef> {
    let depth = call.count() - 1;
    let (mut places, mut lengths): (Vec<Option<u64>>, Vec<Vec<usize>>) = (vec![], vec![vec![]; depth.max(1)]);
    let mut total = 0;
    for row in 0..call.rows {
        let mut own = Vec::new();
        for dimension in 1..call.count() {
            let length = call
                .integers(dimension)
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
        let own = call.place(0, row);
        budget::take(call.name, lists.saturating_mul(column_bytes(&call.array(0).slice(own, 1)).max(16)))?;
        places.extend(std::iter::repeat_n(Some(own as u64), lists));
    }
    let mut values = take(call.array(0).as_ref(), &UInt64Array::from(places), None)?;
    for level in lengths.into_iter().rev() {
        let field = Arc::new(Field::new("item", values.data_type().clone(), true));
        values = Arc::new(ListArray::try_new(field, OffsetBuffer::from_lengths(level), values, None)?);
    }
    debug_assert_eq!(values.data_type(), call.result);
    Ok(values)
}
