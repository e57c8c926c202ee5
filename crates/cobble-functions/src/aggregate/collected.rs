//! Aggregates that need all their values: arrays, joined texts, JSON, percentiles and the most frequent value. The values are
//! kept as they come and put in order at the end.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::{NullBuffer, OffsetBuffer};
use arrow::compute::{SortOptions, concat, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, SortField};
use cobble_types::{Code, Error, Result, SqlType};

use super::accumulator::Accumulator;
use super::signature::{Aggregate, Aggregated, Keeps, MakeAccumulator};
use crate::column_bytes;
use crate::operators::compare::one_zero;
use crate::scalar::json_tree::Tree;
use crate::signature::{Overload, Returns, Takes};

pub(super) const STRING_AGG: Aggregate = Aggregate::new(
    "string_agg",
    "text, separator",
    "The texts joined with a separator, in the order of ORDER BY.",
    ("SELECT string_agg(v, ', ' ORDER BY v) FROM (VALUES ('b'), ('a')) t (v)", "a, b"),
    &[
        Overload::of(&[Takes::Text, Takes::Text], Returns::Text, |call| collected(call, joined_texts)),
        Overload::of(&[Takes::Bytes, Takes::Bytes], Returns::Bytes, |call| collected(call, joined_bytes)),
    ],
)
.keeps(Keeps::Values);

pub(super) const ARRAY_AGG: Aggregate = Aggregate::new(
    "array_agg",
    "any",
    "The values as an array, nulls included.",
    ("SELECT array_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)", "{1,2}"),
    &[Overload::of(&[Takes::Any], Returns::ArrayOf(0), |call| collected(call, array))],
)
.keeps(Keeps::Values);

pub(super) const JSON_AGG: Aggregate = Aggregate::new(
    "json_agg",
    "any",
    "The values as a JSON array.",
    ("SELECT json_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)", "[1, 2]"),
    &[JSON_ARRAY],
)
.keeps(Keeps::Values);

pub(super) const JSONB_AGG: Aggregate = Aggregate::new(
    "jsonb_agg",
    "any",
    "The same in the form of jsonb.",
    ("SELECT jsonb_agg(v ORDER BY v) FROM (VALUES (2), (1)) t (v)", "[1, 2]"),
    &[JSON_ARRAY],
)
.keeps(Keeps::Values);

/// The binder has made documents of the values.
const JSON_ARRAY: Overload<MakeAccumulator> =
    Overload::of(&[Takes::Json], Returns::Json, |call| collected(call, json_array));

pub(super) const JSON_OBJECT_AGG: Aggregate = Aggregate::new(
    "json_object_agg",
    "key, any",
    "The pairs as a JSON object.",
    ("SELECT json_object_agg(k, v) FROM (VALUES ('a', 1)) t (k, v)", r#"{ "a" : 1 }"#),
    &[Overload::of(&[Takes::Text, Takes::Json], Returns::Json, |call| collected(call, json_object))],
)
.keeps(Keeps::Values);

pub(super) const JSONB_OBJECT_AGG: Aggregate = Aggregate::new(
    "jsonb_object_agg",
    "key, any",
    "The same in the form of jsonb.",
    ("SELECT jsonb_object_agg(k, v) FROM (VALUES ('a', 1)) t (k, v)", r#"{"a": 1}"#),
    &[Overload::of(&[Takes::Text, Takes::Json], Returns::Json, |call| collected(call, jsonb_object))],
)
.keeps(Keeps::Values);

pub(super) const PERCENTILE_CONT: Aggregate = Aggregate::new(
    "percentile_cont",
    "share, within group (order by number)",
    "The value below which a share of the sorted ones lies, between two of them where it falls there.",
    ("SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2)) t (v)", "1.5"),
    &[
        Overload::of(&[Takes::Double, Takes::Double], Returns::Same(0), CONTINUOUS),
        Overload::of(&[Takes::Double, Takes::DoubleArray], Returns::ArrayOf(0), CONTINUOUS),
        Overload::of(&[Takes::Interval, Takes::Double], Returns::Same(0), CONTINUOUS),
        Overload::of(&[Takes::Interval, Takes::DoubleArray], Returns::ArrayOf(0), CONTINUOUS),
    ],
)
.keeps(Keeps::Values)
.within_group();

const CONTINUOUS: MakeAccumulator = |call| collected(call, |groups| percentiles(groups, between));

pub(super) const PERCENTILE_DISC: Aggregate = Aggregate::new(
    "percentile_disc",
    "share, within group (order by any ordered)",
    "The first of the sorted values at which a share is reached.",
    ("SELECT percentile_disc(0.5) WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2)) t (v)", "1"),
    &[
        Overload::of(&[Takes::Any, Takes::Double], Returns::Same(0), DISCRETE),
        Overload::of(&[Takes::Any, Takes::DoubleArray], Returns::ArrayOf(0), DISCRETE),
    ],
)
.keeps(Keeps::Values)
.within_group();

const DISCRETE: MakeAccumulator = |call| collected(call, |groups| percentiles(groups, reached));

pub(super) const MODE: Aggregate = Aggregate::new(
    "mode",
    "within group (order by any ordered)",
    "The most frequent value.",
    ("SELECT mode() WITHIN GROUP (ORDER BY v) FROM (VALUES (1), (2), (2)) t (v)", "2"),
    &[Overload::of(&[Takes::Any], Returns::Same(0), |call| collected(call, most_frequent))],
)
.keeps(Keeps::Values)
.within_group();

/// The values of all groups, concatenated; each group is in its order.
struct Groups<'a> {
    arguments: &'a [ArrayRef],
    /// Where each group's values end.
    ends: &'a [usize],
    result: &'a DataType,
}

impl Groups<'_> {
    fn ranges(&self) -> impl Iterator<Item = (usize, usize)> {
        std::iter::once(0).chain(self.ends.iter().copied()).zip(self.ends.iter().copied())
    }
}

/// Makes the result of each group.
type Finish = fn(&Groups) -> Result<ArrayRef>;

fn collected(call: &Aggregated, finish: Finish) -> Result<Box<dyn Accumulator>> {
    let keys = call.order.iter().map(|(key, _)| key);
    Ok(Box::new(Collected {
        finish,
        arguments: call.arguments.len(),
        types: call.arguments.iter().chain(keys).map(SqlType::to_arrow).collect(),
        options: call.order.iter().map(|(_, options)| *options).collect(),
        distinct: call.distinct,
        result: call.result.to_arrow(),
        chunks: vec![],
        bytes: 0,
    }))
}

struct Collected {
    finish: Finish,
    arguments: usize,
    types: Vec<DataType>,
    options: Vec<SortOptions>,
    distinct: bool,
    result: DataType,
    chunks: Vec<(Vec<u32>, Vec<ArrayRef>)>,
    bytes: usize,
}

/// The parts of a group, each but the first after its own separator; none of a group without any.
fn joined<'a>(
    (start, end): (usize, usize),
    part: &impl Fn(usize) -> Option<&'a [u8]>,
    separator: &impl Fn(usize) -> Option<&'a [u8]>,
) -> Option<Vec<u8>> {
    let mut out: Option<Vec<u8>> = None;
    for row in start..end {
        let Some(own) = part(row) else { continue };
        match &mut out {
            None => out = Some(own.to_vec()),
            Some(out) => {
                out.extend_from_slice(separator(row).unwrap_or_default());
                out.extend_from_slice(own);
            }
        }
    }
    out
}

impl Collected {
    fn all(&self) -> Result<(Vec<u32>, Vec<ArrayRef>)> {
        let groups = self.chunks.iter().flat_map(|(groups, _)| groups).copied().collect();
        let columns = (0..self.types.len())
            .map(|i| {
                let parts: Vec<&dyn Array> = self.chunks.iter().map(|(_, columns)| columns[i].as_ref()).collect();
                if parts.is_empty() { Ok(new_empty_array(&self.types[i])) } else { Ok(concat(&parts)?) }
            })
            .collect::<Result<_>>()?;
        Ok((groups, columns))
    }

    /// Arguments sorted by group and by the call's order, with the end of each group.
    fn ordered(&self, group_count: usize) -> Result<(Vec<ArrayRef>, Vec<usize>)> {
        let (groups, columns) = self.all()?;
        let mut order: Vec<u32> = (0..groups.len() as u32).collect();
        let mut fields: Vec<SortField> = self
            .options
            .iter()
            .zip(&self.types[self.arguments..])
            .map(|(options, t)| SortField::new_with_options(t.clone(), *options))
            .collect();
        let mut keys: Vec<ArrayRef> = columns[self.arguments..].iter().map(one_zero).collect();
        if self.distinct {
            // Equal values must stand side by side.
            let last = SortOptions { descending: false, nulls_first: false };
            let own = self.types[..self.arguments].iter().cloned();
            fields.extend(own.map(|t| SortField::new_with_options(t, last)));
            keys.extend(columns[..self.arguments].iter().map(one_zero));
        }
        let rows = if keys.is_empty() { None } else { Some(RowConverter::new(fields)?.convert_columns(&keys)?) };
        order.sort_by(|a, b| {
            let by_group = groups[*a as usize].cmp(&groups[*b as usize]);
            by_group.then_with(|| match &rows {
                Some(rows) => rows.row(*a as usize).cmp(&rows.row(*b as usize)),
                None => std::cmp::Ordering::Equal,
            })
        });
        if self.distinct
            && let Some(rows) = &rows
        {
            order.dedup_by(|a, b| {
                groups[*a as usize] == groups[*b as usize] && rows.row(*a as usize) == rows.row(*b as usize)
            });
        }
        let mut ends = vec![0; group_count];
        order.iter().for_each(|row| ends[groups[*row as usize] as usize] += 1);
        let mut total = 0;
        for end in &mut ends {
            total += *end;
            *end = total;
        }
        let places = UInt32Array::from(order);
        let arguments = columns[..self.arguments]
            .iter()
            .map(|c| Ok(take(c.as_ref(), &places, None)?))
            .collect::<Result<Vec<_>>>()?;
        Ok((arguments, ends))
    }
}

impl Accumulator for Collected {
    fn update(&mut self, groups: &[u32], _: usize, values: &[ArrayRef]) -> Result<()> {
        self.bytes += groups.len() * 4 + values.iter().map(column_bytes).sum::<usize>();
        self.chunks.push((groups.to_vec(), values.to_vec()));
        Ok(())
    }

    fn state(&self, group_count: usize) -> Result<Vec<ArrayRef>> {
        let (groups, columns) = self.all()?;
        Ok(vec![listed(&groups, &columns, group_count)?])
    }

    fn merge(&mut self, groups: &[u32], group_count: usize, state: &[ArrayRef]) -> Result<()> {
        let (groups, values) = unlisted(groups, &state[0]);
        self.update(&groups, group_count, &values)
    }

    fn finish(&self, group_count: usize) -> Result<ArrayRef> {
        let (arguments, ends) = self.ordered(group_count)?;
        (self.finish)(&Groups { arguments: &arguments, ends: &ends, result: &self.result })
    }

    fn bytes(&self) -> usize {
        self.bytes
    }
}

fn array(groups: &Groups) -> Result<ArrayRef> {
    let values = &groups.arguments[0];
    let offsets = OffsetBuffer::from_lengths(groups.ranges().map(|(start, end)| end - start));
    let nulls = NullBuffer::from_iter(groups.ranges().map(|(start, end)| end > start));
    let DataType::List(field) = groups.result else {
        return Err(Error::internal("an array of something else"));
    };
    if let DataType::List(_) = values.data_type() {
        groups.ranges().try_for_each(|(start, end)| alike(values.as_list::<i32>(), start, end))?;
    }
    Ok(Arc::new(ListArray::try_new(field.clone(), offsets, values.clone(), Some(nulls))?))
}

fn joined_bytes(groups: &Groups) -> Result<ArrayRef> {
    let (parts, between) = (groups.arguments[0].as_binary_view(), groups.arguments[1].as_binary_view());
    let part = |row: usize| parts.is_valid(row).then(|| parts.value(row));
    let separator = |row: usize| between.is_valid(row).then(|| between.value(row));
    Ok(Arc::new(groups.ranges().map(|range| joined(range, &part, &separator)).collect::<BinaryViewArray>()))
}

fn joined_texts(groups: &Groups) -> Result<ArrayRef> {
    let (parts, between) = (groups.arguments[0].as_string_view(), groups.arguments[1].as_string_view());
    let part = |row: usize| parts.is_valid(row).then(|| parts.value(row).as_bytes());
    let separator = |row: usize| between.is_valid(row).then(|| between.value(row).as_bytes());
    let texts = groups.ranges().map(|range| joined(range, &part, &separator).map(String::from_utf8).transpose());
    let texts = texts.collect::<std::result::Result<StringViewArray, _>>();
    Ok(Arc::new(texts.map_err(|_| Error::internal("texts that together are none"))?))
}

fn json_array(groups: &Groups) -> Result<ArrayRef> {
    let documents = groups.arguments[0].as_string_view();
    let all = groups.ranges().map(|(start, end)| {
        let items: Vec<&str> = (start..end).map(|row| document(documents, row)).collect();
        (end > start).then(|| format!("[{}]", items.join(", ")))
    });
    Ok(Arc::new(all.collect::<StringViewArray>()))
}

fn json_object(groups: &Groups) -> Result<ArrayRef> {
    Ok(Arc::new(objects(groups)?.into_iter().collect::<StringViewArray>()))
}

fn jsonb_object(groups: &Groups) -> Result<ArrayRef> {
    let written = |text: Option<String>| text.map(|text| Ok(Tree::parse(&text)?.text())).transpose();
    let all = objects(groups)?.into_iter().map(written).collect::<Result<Vec<_>>>()?;
    Ok(Arc::new(all.into_iter().collect::<StringViewArray>()))
}

fn objects(groups: &Groups) -> Result<Vec<Option<String>>> {
    let (keys, documents) = (groups.arguments[0].as_string_view(), groups.arguments[1].as_string_view());
    let mut all = Vec::with_capacity(groups.ends.len());
    for (start, end) in groups.ranges() {
        let mut members = Vec::new();
        for row in start..end {
            if keys.is_null(row) {
                return Err(Error::new(Code::InvalidValue, "a JSON object cannot have a null as a key"));
            }
            let key = serde_json::Value::String(keys.value(row).to_owned());
            members.push(format!("{key} : {}", document(documents, row)));
        }
        all.push((end > start).then(|| format!("{{ {} }}", members.join(", "))));
    }
    Ok(all)
}

fn most_frequent(groups: &Groups) -> Result<ArrayRef> {
    let values = &groups.arguments[0];
    let rows = RowConverter::new(vec![SortField::new(values.data_type().clone())])?
        .convert_columns(std::slice::from_ref(values))?;
    let places: UInt32Array = groups
        .ranges()
        .map(|(start, end)| {
            let (mut best, mut best_run, mut run_start) = (None, 0, start);
            for row in start..end {
                if row > start && rows.row(row) != rows.row(row - 1) {
                    run_start = row;
                }
                if values.is_valid(row) && row + 1 - run_start > best_run {
                    (best, best_run) = (Some(run_start as u32), row + 1 - run_start);
                }
            }
            best
        })
        .collect();
    Ok(take(values.as_ref(), &places, None)?)
}

/// The value that a share of the sorted rows lies below, between two of them where it falls there.
fn between(rows: &[usize], share: f64) -> Pick {
    let place = share * (rows.len() - 1) as f64;
    Pick { low: rows[place.floor() as usize], high: rows[place.ceil() as usize], share: place - place.floor() }
}

/// The first of the sorted rows at which a share is reached.
fn reached(rows: &[usize], share: f64) -> Pick {
    let row = rows[((share * rows.len() as f64).ceil() as usize).max(1) - 1];
    Pick { low: row, high: row, share: 0.0 }
}

fn percentiles(groups: &Groups, pick: fn(&[usize], f64) -> Pick) -> Result<ArrayRef> {
    let (values, shares) = (&groups.arguments[0], &groups.arguments[1]);
    let mut picks: Vec<Vec<Option<Pick>>> = Vec::new();
    for (start, end) in groups.ranges() {
        // Nulls do not count; with the sort's null order they stand at one end.
        let rows: Vec<usize> = (start..end).filter(|row| values.is_valid(*row)).collect();
        let wanted: Vec<Option<f64>> = match shares.data_type() {
            _ if rows.is_empty() => vec![],
            DataType::List(_) => {
                let list = shares.as_list::<i32>().value(rows[0]);
                list.as_primitive::<Float64Type>().iter().collect()
            }
            _ => vec![shares.is_valid(rows[0]).then(|| shares.as_primitive::<Float64Type>().value(rows[0]))],
        };
        let found = wanted.into_iter().map(|share| match share {
            Some(share) if !(0.0..=1.0).contains(&share) => {
                Err(Error::new(Code::Overflow, format!("the percentile {share} is not between 0 and 1")))
            }
            share => Ok(share.map(|share| pick(&rows, share))),
        });
        picks.push(found.collect::<Result<_>>()?);
    }
    let many = matches!(shares.data_type(), DataType::List(_));
    let flat: Vec<Option<Pick>> = match many {
        true => picks.iter().flatten().cloned().collect(),
        false => picks.iter().map(|found| found.first().cloned().flatten()).collect(),
    };
    let picked = picked(values, &flat)?;
    let (true, DataType::List(field)) = (many, groups.result) else { return Ok(picked) };
    let offsets = OffsetBuffer::from_lengths(picks.iter().map(Vec::len));
    let nulls = NullBuffer::from_iter(picks.iter().map(|found| !found.is_empty()));
    Ok(Arc::new(ListArray::try_new(field.clone(), offsets, picked, Some(nulls))?))
}

/// Arrays that become items of one array have the same dimensions, and none is null or empty (PostgreSQL manual 9.21).
fn alike(arrays: &ListArray, start: usize, end: usize) -> Result<()> {
    for row in start..end {
        if arrays.is_null(row) {
            return Err(Error::new(Code::NullNotAllowed, "a null cannot be an item of an array of arrays"));
        }
        let length = arrays.value_length(row);
        if length == 0 || length != arrays.value_length(start) {
            return Err(Error::new(
                Code::ArraySubscript,
                "arrays of different dimensions cannot be items of one array",
            ));
        }
    }
    Ok(())
}

/// A document in a list or an object; SQL's null is JSON's.
fn document(documents: &StringViewArray, row: usize) -> &str {
    if documents.is_null(row) { "null" } else { documents.value(row) }
}

/// Two neighbouring rows and how far between them.
#[derive(Clone)]
struct Pick {
    low: usize,
    high: usize,
    share: f64,
}

fn picked(values: &ArrayRef, picks: &[Option<Pick>]) -> Result<ArrayRef> {
    if picks.iter().flatten().any(|p| p.share != 0.0) {
        if let Some(doubles) = values.as_primitive_opt::<Float64Type>() {
            let between = |p: &Pick| {
                let (a, b) = (doubles.value(p.low), doubles.value(p.high));
                a + (b - a) * p.share
            };
            return Ok(Arc::new(picks.iter().map(|p| p.as_ref().map(between)).collect::<Float64Array>()));
        }
        if let Some(spans) = values.as_primitive_opt::<IntervalMonthDayNanoType>() {
            let between = |p: &Pick| {
                let (a, b) = (spans.value(p.low), spans.value(p.high));
                let part = |a: i64, b: i64| a as f64 + (b - a) as f64 * p.share;
                IntervalMonthDayNano::new(
                    part(a.months.into(), b.months.into()) as i32,
                    part(a.days.into(), b.days.into()) as i32,
                    part(a.nanoseconds, b.nanoseconds) as i64,
                )
            };
            return Ok(Arc::new(picks.iter().map(|p| p.as_ref().map(between)).collect::<IntervalMonthDayNanoArray>()));
        }
    }
    let places: UInt32Array = picks.iter().map(|p| p.as_ref().map(|p| p.low as u32)).collect();
    Ok(take(values.as_ref(), &places, None)?)
}

/// Rows of columns as one list per group, in the order of the rows.
pub fn listed(groups: &[u32], columns: &[ArrayRef], group_count: usize) -> Result<ArrayRef> {
    let mut lengths = vec![0usize; group_count];
    groups.iter().for_each(|g| lengths[*g as usize] += 1);
    let mut order: Vec<u32> = (0..groups.len() as u32).collect();
    order.sort_by_key(|row| groups[*row as usize]);
    let places = UInt32Array::from(order);
    let columns = columns.iter().map(|c| Ok(take(c.as_ref(), &places, None)?)).collect::<Result<Vec<ArrayRef>>>()?;
    let fields: Fields =
        columns.iter().enumerate().map(|(i, c)| Field::new(i.to_string(), c.data_type().clone(), true)).collect();
    let rows = StructArray::try_new(fields.clone(), columns, None)?;
    let field = Arc::new(Field::new("row", DataType::Struct(fields), false));
    Ok(Arc::new(ListArray::try_new(field, OffsetBuffer::from_lengths(lengths), Arc::new(rows), None)?))
}

/// The rows of lists again, each with the group of its list.
pub fn unlisted(groups: &[u32], lists: &ArrayRef) -> (Vec<u32>, Vec<ArrayRef>) {
    let lists = lists.as_list::<i32>();
    let offsets = lists.value_offsets();
    let (first, last) = (offsets[0] as usize, offsets[offsets.len() - 1] as usize);
    let rows = lists.values().slice(first, last - first);
    let mut out = Vec::with_capacity(rows.len());
    for (group, ends) in groups.iter().zip(offsets.windows(2)) {
        out.extend(std::iter::repeat_n(*group, (ends[1] - ends[0]) as usize));
    }
    (out, rows.as_struct().columns().to_vec())
}
