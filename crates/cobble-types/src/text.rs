//! Values as text, in the form PostgreSQL prints them, and as JSON. Used by every output: terminal, CSV, JSON, plans.

use arrow::array::*;
use arrow::datatypes::*;
use chrono::{DateTime, Datelike, NaiveDate, Timelike};
use serde_json::{Map, Number, Value as Json};

use crate::zone::Zone;

const EPOCH_DAYS_FROM_CE: i32 = 719_163;

/// `YYYY-MM-DD`; years before 1 are written with `BC`, as PostgreSQL does.
pub fn write_date(days: i32) -> String {
    match days.checked_add(EPOCH_DAYS_FROM_CE).and_then(NaiveDate::from_num_days_from_ce_opt) {
        Some(date) if date.year() > 0 => format!("{:04}-{:02}-{:02}", date.year(), date.month(), date.day()),
        Some(date) => format!("{:04}-{:02}-{:02} BC", 1 - date.year(), date.month(), date.day()),
        None => format!("day {days}"),
    }
}

fn write_fraction(micros: u32) -> String {
    if micros == 0 { String::new() } else { format!(".{micros:06}").trim_end_matches('0').to_owned() }
}

/// `YYYY-MM-DD HH:MM:SS[.ffffff]` without a zone; `BC` stands at the end.
pub fn write_timestamp(micros: i64) -> String {
    write_clock(micros, "")
}

/// A date and a time of day with what stands behind them.
fn write_clock(micros: i64, behind: &str) -> String {
    match DateTime::from_timestamp_micros(micros) {
        Some(at) => {
            let at = at.naive_utc();
            let days = at.date().num_days_from_ce() - EPOCH_DAYS_FROM_CE;
            let fraction = write_fraction(at.and_utc().timestamp_subsec_micros());
            let date = write_date(days);
            let (date, era) = date.strip_suffix(" BC").map_or((date.as_str(), ""), |date| (date, " BC"));
            format!("{date} {:02}:{:02}:{:02}{fraction}{behind}{era}", at.hour(), at.minute(), at.second())
        }
        None => format!("microsecond {micros}"),
    }
}

/// A moment as a clock in the zone shows it, with the clock's offset: `2025-07-01 12:00:00+02`.
pub fn write_moment(micros: i64, zone: Zone) -> String {
    let Some(clock) = zone.clock(micros) else { return format!("microsecond {micros}") };
    let east = (clock - micros) / 1_000_000;
    let (sign, away) = if east < 0 { ('-', -east) } else { ('+', east) };
    let mut offset = format!("{sign}{:02}", away / 3600);
    if away % 3600 != 0 {
        offset.push_str(&format!(":{:02}", away / 60 % 60));
    }
    if away % 60 != 0 {
        offset.push_str(&format!(":{:02}", away % 60));
    }
    write_clock(clock, &offset)
}

pub(crate) fn write_time(micros: i64) -> String {
    let seconds = micros / 1_000_000;
    let fraction = write_fraction((micros % 1_000_000) as u32);
    format!("{:02}:{:02}:{:02}{fraction}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}

/// PostgreSQL's `postgres` interval style: `1 year 2 mons 3 days 04:05:06`.
pub(crate) fn write_interval(months: i32, days: i32, micros: i64) -> String {
    let mut parts = Vec::new();
    // After a negative part, a positive one shows its sign.
    let mut after_negative = false;
    for (n, one) in [(months / 12, "year"), (months % 12, "mon"), (days, "day")] {
        if n != 0 {
            let sign = if after_negative && n > 0 { "+" } else { "" };
            parts.push(format!("{sign}{n} {one}{}", if n == 1 { "" } else { "s" }));
            after_negative = n < 0;
        }
    }
    if micros != 0 || parts.is_empty() {
        let sign = if micros < 0 {
            "-"
        } else if after_negative {
            "+"
        } else {
            ""
        };
        let micros = micros.unsigned_abs();
        let (seconds, fraction) = (micros / 1_000_000, write_fraction((micros % 1_000_000) as u32));
        parts.push(format!("{sign}{:02}:{:02}:{:02}{fraction}", seconds / 3600, seconds / 60 % 60, seconds % 60));
    }
    parts.join(" ")
}

/// The decimal `unscaled / 10^scale` with exactly `scale` digits after the point.
pub fn write_decimal(unscaled: i128, scale: i8) -> String {
    if scale <= 0 {
        return format!(
            "{unscaled}{}",
            if unscaled == 0 { String::new() } else { "0".repeat(usize::from(scale.unsigned_abs())) }
        );
    }
    let scale = usize::from(scale.unsigned_abs());
    let digits = format!("{:0>width$}", unscaled.unsigned_abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    format!("{}{whole}.{fraction}", if unscaled < 0 { "-" } else { "" })
}

fn write_float(value: f64, shortest: String) -> String {
    if value.is_nan() {
        return "NaN".into();
    }
    if value.is_infinite() {
        return if value > 0.0 { "Infinity".into() } else { "-Infinity".into() };
    }
    let magnitude = value.abs();
    if magnitude != 0.0 && !(1e-4..1e15).contains(&magnitude) {
        // The shortest digits in scientific form; PostgreSQL writes at least two digits of exponent with a sign.
        let (mantissa, exponent) = match shortest.split_once('e') {
            Some(parts) => parts,
            None => return shortest,
        };
        let exponent: i32 = exponent.parse().unwrap_or(0);
        return format!("{mantissa}e{}{:02}", if exponent < 0 { "-" } else { "+" }, exponent.abs());
    }
    shortest
}

fn float64_text(value: f64) -> String {
    let magnitude = value.abs();
    let scientific = magnitude != 0.0 && !(1e-4..1e15).contains(&magnitude);
    write_float(value, if scientific { format!("{value:e}") } else { format!("{value}") })
}

fn float32_text(value: f32) -> String {
    let magnitude = f64::from(value.abs());
    let scientific = magnitude != 0.0 && !(1e-4..1e6).contains(&magnitude);
    if scientific && (1e6..1e15).contains(&magnitude) {
        // real has 6 to 9 significant digits: PostgreSQL turns to the exponent form at a million
        let text = format!("{value:e}");
        let (mantissa, exponent) = text.split_once('e').unwrap_or((&text, "0"));
        return format!("{mantissa}e+{:02}", exponent.parse::<i32>().unwrap_or(0));
    }
    write_float(f64::from(value), if scientific { format!("{value:e}") } else { format!("{value}") })
}

/// The value in `row` as text, or `None` for null. Nested values are written as JSON.
pub fn array_value_text(array: &dyn Array, row: usize) -> Option<String> {
    if array.is_null(row) || matches!(array.data_type(), DataType::Null) {
        return None;
    }
    Some(match array.data_type() {
        DataType::Boolean => array.as_boolean().value(row).to_string(),
        DataType::Int16 => array.as_primitive::<Int16Type>().value(row).to_string(),
        DataType::Int32 => array.as_primitive::<Int32Type>().value(row).to_string(),
        DataType::Int64 => array.as_primitive::<Int64Type>().value(row).to_string(),
        DataType::Float32 => float32_text(array.as_primitive::<Float32Type>().value(row)),
        DataType::Float64 => float64_text(array.as_primitive::<Float64Type>().value(row)),
        DataType::Decimal128(_, scale) => write_decimal(array.as_primitive::<Decimal128Type>().value(row), *scale),
        DataType::Utf8View => array.as_string_view().value(row).to_owned(),
        DataType::Utf8 => array.as_string::<i32>().value(row).to_owned(),
        DataType::BinaryView => {
            array.as_binary_view().value(row).iter().fold("\\x".to_owned(), |text, byte| format!("{text}{byte:02x}"))
        }
        DataType::Date32 => write_date(array.as_primitive::<Date32Type>().value(row)),
        DataType::Time64(TimeUnit::Microsecond) => write_time(array.as_primitive::<Time64MicrosecondType>().value(row)),
        DataType::Timestamp(TimeUnit::Microsecond, zone) => {
            let micros = array.as_primitive::<TimestampMicrosecondType>().value(row);
            match zone.as_deref() {
                None => write_timestamp(micros),
                Some("UTC") => write_clock(micros, "+00"),
                Some(name) => write_moment(micros, Zone::parse(name).unwrap_or(Zone::Offset(0))),
            }
        }
        DataType::Interval(IntervalUnit::MonthDayNano) => {
            let v = array.as_primitive::<IntervalMonthDayNanoType>().value(row);
            write_interval(v.months, v.days, v.nanoseconds / 1000)
        }
        DataType::List(_) => {
            let items = array.as_list::<i32>().value(row);
            let items: Vec<String> = (0..items.len()).map(|i| array_item(items.as_ref(), i)).collect();
            format!("{{{}}}", items.join(","))
        }
        DataType::Struct(_) => {
            let parts = array.as_struct().columns();
            let parts: Vec<String> = parts
                .iter()
                .map(|part| nested_text(part.as_ref(), row).map_or(String::new(), |text| quoted_field(&text)))
                .collect();
            format!("({})", parts.join(","))
        }
        _ => json_text(&json_value(array, row)),
    })
}

/// A value inside an array or a row, where PostgreSQL writes truth values by their first letter.
fn nested_text(array: &dyn Array, row: usize) -> Option<String> {
    match array.data_type() {
        DataType::Boolean if array.is_valid(row) => {
            Some(if array.as_boolean().value(row) { "t" } else { "f" }.to_owned())
        }
        _ => array_value_text(array, row),
    }
}

/// An item of an array: NULL for null, in quotes where it could be read in another way.
fn array_item(items: &dyn Array, place: usize) -> String {
    match nested_text(items, place) {
        None => "NULL".to_owned(),
        Some(text) if matches!(items.data_type(), DataType::List(_)) => text,
        Some(text) if text.eq_ignore_ascii_case("null") => format!("\"{text}\""),
        Some(text) => quoted_part(&text, "{},"),
    }
}

/// A field of a row: quotes and backslashes are doubled (PostgreSQL manual 8.16.6).
fn quoted_field(text: &str) -> String {
    let unsafe_part = |c: char| matches!(c, '(' | ')' | ',' | '"' | '\\') || c.is_whitespace();
    if text.is_empty() || text.contains(unsafe_part) {
        format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\"\""))
    } else {
        text.to_owned()
    }
}

fn quoted_part(text: &str, special: &str) -> String {
    let unsafe_part = |c: char| special.contains(c) || c.is_whitespace() || matches!(c, '"' | '\\');
    if text.is_empty() || text.contains(unsafe_part) {
        format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
    } else {
        text.to_owned()
    }
}

/// JSON as PostgreSQL writes it: a blank after each comma and colon.
pub fn json_text(value: &Json) -> String {
    match value {
        Json::Array(items) => format!("[{}]", items.iter().map(json_text).collect::<Vec<_>>().join(", ")),
        Json::Object(members) => {
            let members: Vec<String> =
                members.iter().map(|(key, v)| format!("{}: {}", Json::String(key.clone()), json_text(v))).collect();
            format!("{{{}}}", members.join(", "))
        }
        scalar => scalar.to_string(),
    }
}

/// The value in `row` as JSON: numbers that JSON keeps exactly stay numbers, other scalars are text, nested values nest.
pub fn json_value(array: &dyn Array, row: usize) -> Json {
    if array.is_null(row) {
        return Json::Null;
    }
    match array.data_type() {
        DataType::Boolean => Json::Bool(array.as_boolean().value(row)),
        DataType::Int16 => array.as_primitive::<Int16Type>().value(row).into(),
        DataType::Int32 => array.as_primitive::<Int32Type>().value(row).into(),
        DataType::Int64 => array.as_primitive::<Int64Type>().value(row).into(),
        DataType::Float32 => float_json(f64::from(array.as_primitive::<Float32Type>().value(row)), array, row),
        DataType::Float64 => float_json(array.as_primitive::<Float64Type>().value(row), array, row),
        DataType::List(_) => {
            let items = array.as_list::<i32>().value(row);
            Json::Array((0..items.len()).map(|i| json_value(items.as_ref(), i)).collect())
        }
        DataType::Struct(fields) => {
            let parts = array.as_struct();
            let mut object = Map::new();
            for (field, column) in fields.iter().zip(parts.columns()) {
                object.insert(field.name().clone(), json_value(column.as_ref(), row));
            }
            Json::Object(object)
        }
        _ => array_value_text(array, row).map_or(Json::Null, Json::String),
    }
}

fn float_json(value: f64, array: &dyn Array, row: usize) -> Json {
    match Number::from_f64(value) {
        Some(number) => Json::Number(number),
        None => array_value_text(array, row).map_or(Json::Null, Json::String),
    }
}

/// A field as RFC 4180 wants it. An empty text is quoted, so that it is not taken for a null.
pub fn csv_field(text: &str) -> String {
    if text.is_empty() || text.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", text.replace('"', "\"\""))
    } else {
        text.to_owned()
    }
}

/// The header line of a CSV file, with its line end.
pub fn csv_header<'a>(names: impl IntoIterator<Item = &'a str>) -> String {
    let fields: Vec<String> = names.into_iter().map(csv_field).collect();
    format!("{}\n", fields.join(","))
}

/// Appends the rows of a batch as CSV lines; a null is an empty field.
pub fn write_csv_rows(batch: &RecordBatch, out: &mut String) {
    for row in 0..batch.num_rows() {
        for (place, column) in batch.columns().iter().enumerate() {
            if place > 0 {
                out.push(',');
            }
            if let Some(text) = array_value_text(column.as_ref(), row) {
                out.push_str(&csv_field(&text));
            }
        }
        out.push('\n');
    }
}

/// One row of a batch as a JSON object under these names.
pub fn json_row<'a>(names: impl IntoIterator<Item = &'a str>, batch: &RecordBatch, row: usize) -> Json {
    let fields = names.into_iter().zip(batch.columns());
    Json::Object(fields.map(|(name, column)| (name.to_owned(), json_value(column.as_ref(), row))).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimals_keep_their_scale() {
        for (unscaled, scale, text) in
            [(1250, 2, "12.50"), (-5, 2, "-0.05"), (0, 3, "0.000"), (7, 0, "7"), (7, -2, "700"), (-100, 2, "-1.00")]
        {
            assert_eq!(write_decimal(unscaled, scale), text);
        }
    }

    #[test]
    fn times_are_written_as_postgresql_writes_them() {
        assert_eq!(write_timestamp(1_751_360_400_000_000), "2025-07-01 09:00:00");
        assert_eq!(write_timestamp(1_751_360_400_120_000), "2025-07-01 09:00:00.12");
        assert_eq!(write_timestamp(-1), "1969-12-31 23:59:59.999999");
        assert_eq!(write_date(-719_528), "0001-01-01 BC");
        assert_eq!(write_interval(14, 3, 3_600_000_000), "1 year 2 mons 3 days 01:00:00");
        assert_eq!(write_interval(0, 0, 0), "00:00:00");
    }

    #[test]
    fn floats_use_the_shortest_digits() {
        for (value, text) in
            [(0.1, "0.1"), (1e15, "1e+15"), (123_456.5, "123456.5"), (1e-5, "1e-05"), (f64::NAN, "NaN"), (-0.5, "-0.5")]
        {
            assert_eq!(float64_text(value), text);
        }
    }
}
