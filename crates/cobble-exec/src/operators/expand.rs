//! Functions that make rows: each input row beside each row made of it. A series is made piece by piece, so that a long one
//! does not have to fit into memory.

use std::sync::Arc;

use arrow::array::*;
use arrow::buffer::OffsetBuffer;
use arrow::compute::{cast, take};
use arrow::datatypes::*;
use cobble_functions::TableFunction;
use cobble_types::parse::add_interval;
use cobble_types::{Code, Error, Result, json_text};
use serde_json::Value as Json;

use crate::batch::{BATCH_ROWS, batch_of, take_rows};
use crate::expression::Compiled;
use crate::pipeline::{Step, StepFactory};
use cobble_functions::scalar::json::path_query;
use cobble_functions::scalar::pattern::{all_matches, split as split_by_pattern};

/// A compiled call.
pub struct Maker {
    pub function: TableFunction,
    pub arguments: Vec<Compiled>,
    /// Types of the made columns.
    pub made: Vec<DataType>,
}

pub struct Expand {
    pub makers: Arc<[Maker]>,
    pub outer: bool,
    pub schema: SchemaRef,
}

impl StepFactory for Expand {
    fn step(&self) -> Box<dyn Step> {
        let (makers, outer, schema) = (self.makers.clone(), self.outer, self.schema.clone());
        Box::new(ExpandStep { makers, outer, schema, input: None })
    }
}

struct ExpandStep {
    makers: Arc<[Maker]>,
    outer: bool,
    schema: SchemaRef,
    input: Option<Input>,
}

/// A batch that is being worked through.
struct Input {
    batch: RecordBatch,
    /// What each call makes.
    made: Vec<Made>,
    row: usize,
    /// Rows of the current input row that have come out.
    within: usize,
}

enum Made {
    /// The made columns of all input rows, and where each row's part ends.
    Lists {
        columns: Vec<ArrayRef>,
        offsets: OffsetBuffer<i32>,
    },
    Series(Series),
}

/// A series for each row: nothing for a row with a null.
enum Series {
    Whole(Vec<Option<(i128, i128, i128)>>),
    Times { rows: Vec<Option<(i64, i64, IntervalMonthDayNano)>>, next: Option<i64> },
}

/// What one call has put into the batch that comes out.
enum Out {
    Places(Vec<Option<u32>>),
    Values(SeriesBuilder),
}

impl Out {
    fn of(made: &Made) -> Out {
        match made {
            Made::Lists { .. } => Out::Places(Vec::new()),
            Made::Series(_) => Out::Values(SeriesBuilder(Vec::with_capacity(BATCH_ROWS))),
        }
    }

    /// Nulls up to `rows`.
    fn filled(&mut self, rows: usize) {
        match self {
            Out::Places(places) => places.resize(rows, None),
            Out::Values(values) => values.0.resize(rows, None),
        }
    }
}

impl Made {
    /// Puts up to `room` values of a row after the first `within` ones; says how many, and whether the row is through.
    fn fill(&mut self, row: usize, within: usize, room: usize, out: &mut Out) -> Result<(usize, bool)> {
        match (self, out) {
            (Made::Lists { offsets, .. }, Out::Places(places)) => {
                let (start, end) = (offsets[row] as usize, offsets[row + 1] as usize);
                let from = (start + within).min(end);
                let count = (end - from).min(room);
                places.extend((from..from + count).map(|place| Some(place as u32)));
                Ok((count, from + count == end))
            }
            (Made::Series(series), Out::Values(values)) => series.fill(row, within, room, values),
            _ => Err(Error::internal("a call's rows go where another's belong")),
        }
    }
}

impl Step for ExpandStep {
    fn push(&mut self, batch: RecordBatch) -> Result<()> {
        let mut made = Vec::with_capacity(self.makers.len());
        for maker in self.makers.iter() {
            let arguments = maker.arguments.iter().map(|a| a.array(&batch)).collect::<Result<Vec<_>>>()?;
            made.push(match maker.function {
                TableFunction::GenerateSeries => Made::Series(series(&arguments, &maker.made[0])?),
                other => lists(other, &arguments, &maker.made, batch.num_rows())?,
            });
        }
        self.input = Some(Input { batch, made, row: 0, within: 0 });
        Ok(())
    }

    fn pull(&mut self) -> Result<Option<RecordBatch>> {
        let Some(mut input) = self.input.take() else { return Ok(None) };
        let mut own: Vec<u32> = Vec::new();
        let mut outs: Vec<Out> = input.made.iter().map(Out::of).collect();
        while input.row < input.batch.num_rows() && own.len() < BATCH_ROWS {
            let room = BATCH_ROWS - own.len();
            let (mut most, mut through) = (0, true);
            for (made, out) in input.made.iter_mut().zip(&mut outs) {
                let (count, done) = made.fill(input.row, input.within, room, out)?;
                most = most.max(count);
                through &= done;
            }
            if self.outer && through && input.within + most == 0 {
                most = 1;
            }
            own.extend(std::iter::repeat_n(input.row as u32, most));
            outs.iter_mut().for_each(|out| out.filled(own.len()));
            if through {
                input.row += 1;
                input.within = 0;
            } else {
                input.within += most;
            }
        }
        let count = own.len();
        let mut columns = take_rows(&input.batch, &UInt32Array::from(own))?;
        for ((made, out), maker) in input.made.iter().zip(outs).zip(self.makers.iter()) {
            match (made, out) {
                (Made::Lists { columns: all, .. }, Out::Places(places)) => {
                    let places = UInt32Array::from(places);
                    for column in all {
                        columns.push(take(column.as_ref(), &places, None)?);
                    }
                }
                (_, Out::Values(values)) => columns.push(values.finish(&maker.made[0])?),
                (Made::Series(_), Out::Places(_)) => {}
            }
        }
        let more = input.row < input.batch.num_rows();
        if more {
            self.input = Some(input);
        }
        if count == 0 && !more {
            return Ok(None);
        }
        batch_of(&self.schema, columns, count).map(Some)
    }
}

struct SeriesBuilder(Vec<Option<i128>>);

impl SeriesBuilder {
    fn push(&mut self, value: i128) {
        self.0.push(Some(value));
    }

    fn finish(self, result: &DataType) -> Result<ArrayRef> {
        Ok(match result {
            DataType::Decimal128(p, s) => {
                Arc::new(self.0.into_iter().collect::<Decimal128Array>().with_precision_and_scale(*p, *s)?)
            }
            other => {
                let whole: Int64Array = self.0.into_iter().map(|v| v.map(|v| v as i64)).collect();
                cast(&whole, other)?
            }
        })
    }
}

fn series(arguments: &[ArrayRef], result: &DataType) -> Result<Series> {
    let rows = arguments[0].len();
    let some = |row: usize| arguments.iter().all(|a| a.is_valid(row));
    let zero_step = || Error::new(Code::InvalidValue, "the step of a series cannot be zero");
    if matches!(result, DataType::Timestamp(..)) {
        let wide = |i: usize| Ok::<_, Error>(cast(&arguments[i], &DataType::Int64)?);
        let (starts, stops) = (wide(0)?, wide(1)?);
        let (starts, stops) = (starts.as_primitive::<Int64Type>(), stops.as_primitive::<Int64Type>());
        let steps = arguments[2].as_primitive::<IntervalMonthDayNanoType>();
        let mut out = Vec::with_capacity(rows);
        for row in 0..rows {
            out.push(if some(row) {
                let step = steps.value(row);
                if step.months == 0 && step.days == 0 && step.nanoseconds == 0 {
                    return Err(zero_step());
                }
                Some((starts.value(row), stops.value(row), step))
            } else {
                None
            });
        }
        return Ok(Series::Times { rows: out, next: None });
    }
    let wide = |i: usize| -> Result<Vec<i128>> {
        Ok(match arguments[i].data_type() {
            DataType::Decimal128(..) => arguments[i].as_primitive::<Decimal128Type>().values().to_vec(),
            _ => {
                let whole = cast(&arguments[i], &DataType::Int64)?;
                whole.as_primitive::<Int64Type>().values().iter().map(|v| i128::from(*v)).collect()
            }
        })
    };
    let (starts, stops) = (wide(0)?, wide(1)?);
    let steps = match arguments.len() {
        3 => wide(2)?,
        _ => {
            let one = match result {
                DataType::Decimal128(_, scale) => 10i128.pow((*scale).max(0) as u32),
                _ => 1,
            };
            vec![one; rows]
        }
    };
    let mut out = Vec::with_capacity(rows);
    for row in 0..rows {
        out.push(if some(row) {
            if steps[row] == 0 {
                return Err(zero_step());
            }
            Some((starts[row], stops[row], steps[row]))
        } else {
            None
        });
    }
    Ok(Series::Whole(out))
}

impl Series {
    /// Puts up to `room` values of a row after the first `within` ones; says how many, and whether the row is through.
    fn fill(&mut self, row: usize, within: usize, room: usize, out: &mut SeriesBuilder) -> Result<(usize, bool)> {
        match self {
            Series::Whole(rows) => {
                let Some((start, stop, step)) = rows[row] else { return Ok((0, true)) };
                let total = if (step > 0 && start > stop) || (step < 0 && start < stop) {
                    0
                } else {
                    (stop - start) / step + 1
                };
                let count = (total - within as i128).clamp(0, room as i128) as usize;
                (0..count).for_each(|i| out.push(start + step * (within + i) as i128));
                Ok((count, (within + count) as i128 >= total))
            }
            Series::Times { rows, next } => {
                let Some((start, stop, step)) = rows[row] else { return Ok((0, true)) };
                let forward = i128::from(step.months) * 30 * 86_400_000_000_000
                    + i128::from(step.days) * 86_400_000_000_000
                    + i128::from(step.nanoseconds)
                    > 0;
                let mut at = if within == 0 { start } else { next.unwrap_or(start) };
                let mut count = 0;
                let over = |at: i64| if forward { at > stop } else { at < stop };
                while count < room && !over(at) {
                    out.push(at.into());
                    count += 1;
                    at = add_interval(at, step.months, step.days, step.nanoseconds / 1000)
                        .ok_or_else(|| Error::new(Code::Overflow, "a time is out of the range of its type"))?;
                }
                *next = Some(at);
                Ok((count, over(at)))
            }
        }
    }
}

/// Builds the lists of all rows at once.
struct ListsBuilder {
    lengths: Vec<usize>,
    texts: Vec<StringViewBuilder>,
}

impl ListsBuilder {
    fn new(width: usize, rows: usize) -> Self {
        ListsBuilder {
            lengths: Vec::with_capacity(rows),
            texts: (0..width).map(|_| StringViewBuilder::new()).collect(),
        }
    }

    fn finish(mut self) -> Made {
        let columns = self.texts.iter_mut().map(|b| Arc::new(b.finish()) as ArrayRef).collect();
        Made::Lists { columns, offsets: OffsetBuffer::from_lengths(self.lengths) }
    }
}

/// A JSON value as text, without quotes around a string; `None` for null.
fn unquoted(value: &Json) -> Option<String> {
    match value {
        Json::Null => None,
        Json::String(text) => Some(text.clone()),
        other => Some(json_text(other)),
    }
}

fn lists(function: TableFunction, arguments: &[ArrayRef], made: &[DataType], rows: usize) -> Result<Made> {
    use TableFunction as T;
    if function == T::Unnest {
        // Several arrays side by side; the shorter ones are filled with nulls.
        let lists: Vec<&ListArray> = arguments.iter().map(|a| a.as_list::<i32>()).collect();
        let length = |list: &ListArray, row: usize| if list.is_null(row) { 0 } else { list.value_length(row) as usize };
        let lengths: Vec<usize> =
            (0..rows).map(|row| lists.iter().map(|l| length(l, row)).max().unwrap_or(0)).collect();
        let columns = lists
            .iter()
            .map(|list| {
                let places: UInt32Array = (0..rows)
                    .flat_map(|row| {
                        let (own, start) = (length(list, row), list.value_offsets()[row] as u32);
                        (0..lengths[row]).map(move |i| (i < own).then_some(start + i as u32))
                    })
                    .collect();
                Ok(take(list.values().as_ref(), &places, None)?)
            })
            .collect::<Result<_>>()?;
        return Ok(Made::Lists { columns, offsets: OffsetBuffer::from_lengths(lengths) });
    }
    let texts = arguments[0].as_string_view();
    if function == T::JsonTable {
        return json_table(arguments, rows);
    }
    if function == T::RegexpMatches {
        let mut out = ListBuilder::new(StringViewBuilder::new());
        let mut lengths = Vec::with_capacity(rows);
        for row in 0..rows {
            let mut count = 0;
            if arguments.iter().all(|a| a.is_valid(row)) {
                let flags = arguments.get(2).map_or("", |f| f.as_string_view().value(row));
                let pattern = arguments[1].as_string_view().value(row);
                for groups in all_matches(pattern, flags, texts.value(row))? {
                    groups.into_iter().for_each(|group| out.values().append_option(group));
                    out.append(true);
                    count += 1;
                }
            }
            lengths.push(count);
        }
        let lists = cast(&out.finish(), &made[0])?;
        return Ok(Made::Lists { columns: vec![lists], offsets: OffsetBuffer::from_lengths(lengths) });
    }
    let mut out = ListsBuilder::new(made.len(), rows);
    for row in 0..rows {
        if texts.is_null(row) {
            out.lengths.push(0);
            continue;
        }
        let text = texts.value(row);
        let count = match function {
            T::RegexpSplitToTable => {
                let pattern = arguments[1].as_string_view();
                let flags = arguments.get(2).map(|flags| flags.as_string_view());
                if pattern.is_null(row) || flags.is_some_and(|flags| flags.is_null(row)) {
                    0
                } else {
                    let parts = split_by_pattern(pattern.value(row), flags.map_or("", |f| f.value(row)), text)?;
                    parts.iter().for_each(|part| out.texts[0].append_value(part));
                    parts.len()
                }
            }
            T::JsonPathQuery => {
                let silent = arguments.get(3).is_some_and(|a| a.is_valid(row) && a.as_boolean().value(row));
                let variables = arguments.get(2).map(|a| a.as_string_view().value(row));
                let parts = match arguments.iter().all(|a| a.is_valid(row)) {
                    true => path_query(text, arguments[1].as_string_view().value(row), variables, silent)?,
                    false => vec![],
                };
                parts.iter().for_each(|part| out.texts[0].append_value(part));
                parts.len()
            }
            _ => {
                let json: Json = serde_json::from_str(text)
                    .map_err(|e| Error::new(Code::InvalidText, format!("not valid JSON: {e}")))?;
                json_rows(function, &json, &mut out)?
            }
        };
        out.lengths.push(count);
    }
    Ok(out.finish())
}

/// What each path finds in each document, one path's after the other's, each in an own column beside its number.
fn json_table(arguments: &[ArrayRef], rows: usize) -> Result<Made> {
    let (documents, paths) = (arguments[0].as_string_view(), &arguments[1..]);
    let mut items: Vec<StringViewBuilder> = paths.iter().map(|_| StringViewBuilder::new()).collect();
    let mut numbers: Vec<Int32Builder> = paths.iter().map(|_| Int32Builder::new()).collect();
    let mut lengths = Vec::with_capacity(rows);
    for row in 0..rows {
        let mut length = 0;
        for (own, path) in paths.iter().enumerate().filter(|_| documents.is_valid(row)) {
            for (place, value) in
                path_query(documents.value(row), path.as_string_view().value(row), None, true)?.iter().enumerate()
            {
                for other in 0..paths.len() {
                    items[other].append_option((other == own).then_some(value));
                    numbers[other].append_option((other == own).then_some(place as i32 + 1));
                }
                length += 1;
            }
        }
        lengths.push(length);
    }
    let columns = items
        .iter_mut()
        .zip(&mut numbers)
        .flat_map(|(items, numbers)| [Arc::new(items.finish()) as ArrayRef, Arc::new(numbers.finish()) as ArrayRef]);
    Ok(Made::Lists { columns: columns.collect(), offsets: OffsetBuffer::from_lengths(lengths) })
}

fn json_rows(function: TableFunction, json: &Json, out: &mut ListsBuilder) -> Result<usize> {
    use TableFunction as T;
    let wrong = |wanted: &str| Error::new(Code::InvalidValue, format!("{} takes a JSON {wanted}", function.name()));
    match function {
        T::JsonArrayElements | T::JsonArrayElementsText => {
            let items = json.as_array().ok_or_else(|| wrong("array"))?;
            for item in items {
                match function {
                    T::JsonArrayElements => out.texts[0].append_value(json_text(item)),
                    _ => out.texts[0].append_option(unquoted(item)),
                }
            }
            Ok(items.len())
        }
        _ => {
            let members = json.as_object().ok_or_else(|| wrong("object"))?;
            for (key, value) in members {
                out.texts[0].append_value(key);
                match function {
                    T::JsonEach => out.texts[1].append_value(json_text(value)),
                    T::JsonEachText => out.texts[1].append_option(unquoted(value)),
                    _ => {}
                }
            }
            Ok(members.len())
        }
    }
}
