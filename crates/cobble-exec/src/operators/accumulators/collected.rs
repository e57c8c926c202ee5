//! Aggregates that need all their values: arrays, joined texts, JSON, percentiles and the most frequent value. The values are
//! kept as they come and put in order at the end.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::{NullBuffer, OffsetBuffer};
use arrow::compute::{SortOptions, concat, take};
use arrow::datatypes::*;
use arrow::row::{RowConverter, SortField};
use cobble_plan::aggregate::AggregateFunction;
use cobble_types::{Code, Error, Result, SqlType};

use super::Accumulator;
use crate::batch::column_bytes;
use cobble_functions::operators::compare::one_zero;
use cobble_functions::scalar::json_tree::Tree;

pub struct Collected {
    function: AggregateFunction,
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
    pub fn new(
        function: AggregateFunction,
        arguments: Vec<SqlType>,
        keys: Vec<SqlType>,
        options: Vec<SortOptions>,
        distinct: bool,
        result: &SqlType,
    ) -> Result<Self> {
        Ok(Collected {
            function,
            arguments: arguments.len(),
            types: arguments.iter().chain(&keys).map(SqlType::to_arrow).collect(),
            options,
            distinct,
            result: result.to_arrow(),
            chunks: vec![],
            bytes: 0,
        })
    }

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

    /// Arguments by group and order, with the end of each group.
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
        use AggregateFunction as F;
        let (arguments, ends) = self.ordered(group_count)?;
        let ranges = || std::iter::once(0).chain(ends.iter().copied()).zip(ends.iter().copied());
        let values = &arguments[0];
        Ok(match self.function {
            F::ArrayAgg => {
                let offsets = OffsetBuffer::from_lengths(ranges().map(|(start, end)| end - start));
                let nulls = NullBuffer::from_iter(ranges().map(|(start, end)| end > start));
                let DataType::List(field) = &self.result else {
                    return Err(Error::internal("an array of something else"));
                };
                if let DataType::List(_) = values.data_type() {
                    ranges().try_for_each(|(start, end)| alike(values.as_list::<i32>(), start, end))?;
                }
                Arc::new(ListArray::try_new(field.clone(), offsets, values.clone(), Some(nulls))?)
            }
            F::StringAgg if self.result == DataType::BinaryView => {
                let (parts, between) = (values.as_binary_view(), arguments[1].as_binary_view());
                let part = |row: usize| parts.is_valid(row).then(|| parts.value(row));
                let separator = |row: usize| between.is_valid(row).then(|| between.value(row));
                Arc::new(ranges().map(|range| joined(range, &part, &separator)).collect::<BinaryViewArray>())
            }
            F::StringAgg => {
                let (parts, between) = (values.as_string_view(), arguments[1].as_string_view());
                let part = |row: usize| parts.is_valid(row).then(|| parts.value(row).as_bytes());
                let separator = |row: usize| between.is_valid(row).then(|| between.value(row).as_bytes());
                let texts = ranges().map(|range| joined(range, &part, &separator).map(String::from_utf8).transpose());
                let texts = texts.collect::<std::result::Result<StringViewArray, _>>();
                Arc::new(texts.map_err(|_| Error::internal("texts that together are none"))?)
            }
            // The values are documents already.
            F::JsonAgg | F::JsonbAgg => {
                let documents = values.as_string_view();
                let all = ranges().map(|(start, end)| {
                    let items: Vec<&str> = (start..end).map(|row| document(documents, row)).collect();
                    (end > start).then(|| format!("[{}]", items.join(", ")))
                });
                Arc::new(all.collect::<StringViewArray>())
            }
            F::JsonObjectAgg | F::JsonbObjectAgg => {
                let (keys, documents) = (values.as_string_view(), arguments[1].as_string_view());
                let mut all = Vec::with_capacity(group_count);
                for (start, end) in ranges() {
                    let mut members = Vec::new();
                    for row in start..end {
                        if keys.is_null(row) {
                            let what = "a JSON object cannot have a null as a key";
                            return Err(Error::new(Code::InvalidValue, what));
                        }
                        let key = serde_json::Value::String(keys.value(row).to_owned());
                        members.push(format!("{key} : {}", document(documents, row)));
                    }
                    let text = (end > start).then(|| format!("{{ {} }}", members.join(", ")));
                    all.push(match self.function {
                        F::JsonbObjectAgg => text.map(|text| Ok::<_, Error>(Tree::parse(&text)?.text())).transpose()?,
                        _ => text,
                    });
                }
                Arc::new(all.into_iter().collect::<StringViewArray>())
            }
            F::Mode => {
                let rows = RowConverter::new(vec![SortField::new(values.data_type().clone())])?
                    .convert_columns(std::slice::from_ref(values))?;
                let places: UInt32Array = ranges()
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
                take(values.as_ref(), &places, None)?
            }
            F::PercentileCont | F::PercentileDisc => self.percentiles(values, &arguments[1], ranges())?,
            other => return Err(Error::internal(format!("{} does not collect", other.name()))),
        })
    }

    fn bytes(&self) -> usize {
        self.bytes
    }
}

impl Collected {
    fn percentiles(
        &self,
        values: &ArrayRef,
        shares: &ArrayRef,
        ranges: impl Iterator<Item = (usize, usize)>,
    ) -> Result<ArrayRef> {
        let mut picks: Vec<Vec<Option<Pick>>> = Vec::new();
        for (start, end) in ranges {
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
            let mut found = Vec::new();
            for share in wanted {
                found.push(match share {
                    None => None,
                    Some(share) if !(0.0..=1.0).contains(&share) => {
                        return Err(Error::new(
                            Code::Overflow,
                            format!("the percentile {share} is not between 0 and 1"),
                        ));
                    }
                    Some(share) if self.function == AggregateFunction::PercentileDisc => {
                        let place = (share * rows.len() as f64).ceil() as usize;
                        let row = rows[place.max(1) - 1];
                        Some(Pick { low: row, high: row, share: 0.0 })
                    }
                    Some(share) => {
                        let place = share * (rows.len() - 1) as f64;
                        let (low, high) = (rows[place.floor() as usize], rows[place.ceil() as usize]);
                        Some(Pick { low, high, share: place - place.floor() })
                    }
                });
            }
            picks.push(found);
        }
        let many = matches!(shares.data_type(), DataType::List(_));
        let flat: Vec<Option<Pick>> = match many {
            true => picks.iter().flatten().cloned().collect(),
            false => picks.iter().map(|found| found.first().cloned().flatten()).collect(),
        };
        let picked = picked(values, &flat)?;
        let (true, DataType::List(field)) = (many, &self.result) else { return Ok(picked) };
        let offsets = OffsetBuffer::from_lengths(picks.iter().map(Vec::len));
        let nulls = NullBuffer::from_iter(picks.iter().map(|found| !found.is_empty()));
        Ok(Arc::new(ListArray::try_new(field.clone(), offsets, picked, Some(nulls))?))
    }
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
