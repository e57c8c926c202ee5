//! Functions of times and intervals (PostgreSQL manual 9.9), and those that read and write by templates (9.8).

use std::cell::RefCell;

use arrow::array::*;
use arrow::datatypes::*;
use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime};
use cobble_types::parse::{add_interval, read_moment};
use cobble_types::zone::Zone;
use cobble_types::{Code, Error, Result, SqlType, time_parts, write_moment};

use super::number_template::{NumberTemplate, decimal_of};
use super::time_template::{interval_text, read_time, template, time_text};
use crate::Call;
use crate::call::Texts;
use crate::signature::{Given, Overload, Returns, Scalar, Takes, Types, unified};

const DAY: i64 = 86_400_000_000;

fn at(micros: i64) -> Option<NaiveDateTime> {
    Some(DateTime::from_timestamp_micros(micros)?.naive_utc())
}

fn out_of_range() -> Error {
    Error::new(Code::TimeOutOfRange, "a time is out of the range of its type")
}

fn span(months: i64, days: i64, micros: i64) -> Option<IntervalMonthDayNano> {
    let small = |v: i64| i32::try_from(v).ok();
    Some(IntervalMonthDayNano::new(small(months)?, small(days)?, micros.checked_mul(1000)?))
}

// Parts.

/// A part's name and a time or an interval. How many digits come out depends on the part, which only a constant tells: the binder
/// says it.
fn part_types(given: &[Given]) -> Option<Types> {
    let [part, from] = given else { return None };
    let part = matches!(part.sql_type, SqlType::Text | SqlType::Null);
    let from = match &from.sql_type {
        own @ (SqlType::Interval | SqlType::Time) => own.clone(),
        SqlType::Null => SqlType::Timestamp,
        own if own.is_time_point() => own.clone(),
        _ => return None,
    };
    part.then(|| (vec![SqlType::Text, from], SqlType::Numeric { precision: 26, scale: 6 }))
}

pub(crate) const DATE_PART: Scalar = Scalar::new(
    "date_part",
    "part, time",
    "A part of a time or an interval, such as year, dow or epoch; also written `extract(part FROM time)`.",
    ("extract(quarter FROM date '2025-08-15')", "3"),
    &[Overload::together(part_types, part_of)],
);

/// A part's name, and a time or an interval that is cut to it. A date is cut as a moment.
fn trunc_types(given: &[Given]) -> Option<Types> {
    let [part, from] = given else { return None };
    let part = matches!(part.sql_type, SqlType::Text | SqlType::Null);
    let from = match &from.sql_type {
        SqlType::Interval | SqlType::Time => SqlType::Interval,
        SqlType::Date => SqlType::TimestampTz,
        SqlType::Null => SqlType::Timestamp,
        own if own.is_time_point() => own.clone(),
        _ => return None,
    };
    part.then(|| (vec![SqlType::Text, from.clone()], from))
}

pub(crate) const DATE_TRUNC: Scalar = Scalar::new(
    "date_trunc",
    "part, time [, zone]",
    "The start of the year, month, day or other part in which a time lies.",
    ("date_trunc('month', timestamp '2025-08-15 10:30')", "2025-08-01 00:00:00"),
    &[Overload::together(trunc_types, start_of)],
);

pub(crate) const ROUND_TIME: Scalar = Scalar::new(
    "round_time",
    "time or interval, digits",
    "The time with so many digits of a second; what a cast to a type such as timestamp(0) does.",
    ("timestamp(0) '2025-08-15 10:30:00.7'", "2025-08-15 10:30:01"),
    &[Overload::of(&[Takes::Clock, Takes::Integer], Returns::Same(0), round_time)],
);

fn round_time(call: &Call) -> Result<ArrayRef> {
    let digits = call.integers(1);
    let unit = |row: usize| {
        let digits = digits.get(row)?;
        Some(10i64.pow(6 - u32::try_from(digits).map_or(6, |digits| digits.min(6))))
    };
    // A half goes away from zero.
    let rounded = |micros: i64, unit: i64| {
        let away = if micros < 0 { -unit / 2 } else { unit / 2 };
        micros.checked_add(away).map(|moved| moved / unit * unit)
    };
    match call.array(0).data_type() {
        DataType::Interval(_) => {
            let own = call.spans(0);
            make_spans(call, |row| {
                let v = own.get(row)?;
                let micros = rounded(v.nanoseconds / 1000, unit(row)?);
                Some(micros.and_then(|micros| span(v.months.into(), v.days.into(), micros)))
            })
        }
        DataType::Time64(_) => {
            let own = call.values::<Time64MicrosecondType>(0);
            call.make_values::<Time64MicrosecondType>(|row| {
                Ok(own.get(row).zip(unit(row)).and_then(|(t, unit)| rounded(t, unit)))
            })
        }
        _ => {
            let own = call.timestamps(0);
            call.make_timestamps(|row| {
                let Some((t, unit)) = own.get(row).zip(unit(row)) else { return Ok(None) };
                let moved = t.checked_add(unit / 2).ok_or_else(out_of_range)?;
                Ok(Some(moved.div_euclid(unit) * unit))
            })
        }
    }
}

// Comparing.

pub(crate) const ISFINITE: Scalar = Scalar::new(
    "isfinite",
    "time or interval",
    "True for every value that is there: no time here is infinite.",
    ("isfinite(date '2025-08-15')", "true"),
    &[
        Overload::of(&[Takes::Interval], Returns::Boolean, is_there),
        Overload::of(&[Takes::TimePoint], Returns::Boolean, is_there),
    ],
);

fn is_there(call: &Call) -> Result<ArrayRef> {
    call.make_flags(|row| Ok((!call.is_null(0, row)).then_some(true)))
}

pub(crate) const OVERLAPS: Scalar = Scalar::new(
    "overlaps",
    "start, end, start, end",
    "Whether two spans of time share a moment; written `(start, end) OVERLAPS (start, end)`.",
    ("(date '2025-08-01', date '2025-08-10') OVERLAPS (date '2025-08-09', date '2025-08-20')", "true"),
    &[Overload::of(&[Takes::Any; 4], Returns::Boolean, |call| {
        let sides: Vec<Int64Array> = (0..4).map(|i| microseconds(call.array(i))).collect();
        let value = |i: usize, row: usize| {
            let place = call.place(i, row);
            sides[i].is_valid(place).then(|| sides[i].value(place))
        };
        call.make_flags(|row| Ok(overlaps((value(0, row), value(1, row)), (value(2, row), value(3, row)))))
    })],
)
.sees_nulls()
.only_planned();

pub(crate) const AGE: Scalar = Scalar::new(
    "age",
    "timestamp [, timestamp]",
    "Years, months, days and time between two times by the calendar; from midnight today where there is one.",
    ("age(date '2025-08-15', date '2024-06-10')", "1 year 2 mons 5 days"),
    &[Overload::together(
        |given| {
            let points = given.len() == 2 && given.iter().all(|own| own.is_open() || own.sql_type.is_time_point());
            let known = |own: &Given| if own.is_open() { Given::of(SqlType::Timestamp) } else { own.clone() };
            let common = unified(&given.iter().map(known).collect::<Vec<_>>()).filter(|_| points)?;
            let common = if common == SqlType::Date { SqlType::Timestamp } else { common };
            Some((vec![common.clone(), common], SqlType::Interval))
        },
        |call| {
            let (later, earlier) = (call.timestamps(0), call.timestamps(1));
            make_spans(call, |row| Some(age(later.get(row)?, earlier.get(row)?)))
        },
    )],
);

// Making times.

pub(crate) const MAKE_DATE: Scalar = Scalar::new(
    "make_date",
    "year, month, day",
    "A date of its parts.",
    ("make_date(2025, 8, 15)", "2025-08-15"),
    &[Overload::of(&[Takes::Integer; 3], Returns::Date, |call| {
        let (year, month, day) = (call.integers(0), call.integers(1), call.integers(2));
        call.make_values::<Date32Type>(|row| match (year.get(row), month.get(row), day.get(row)) {
            (Some(y), Some(m), Some(d)) => time_parts::make_date(y, m, d)
                .map(Some)
                .ok_or_else(|| Error::new(Code::TimeOutOfRange, format!("there is no date {y}-{m:02}-{d:02}"))),
            _ => Ok(None),
        })
    })],
)
.named(&["year", "month", "day"]);

pub(crate) const MAKE_TIME: Scalar = Scalar::new(
    "make_time",
    "hour, minute, second",
    "A time of day of its parts.",
    ("make_time(10, 30, 15.5)", "10:30:15.5"),
    &[Overload::of(&[Takes::Integer, Takes::Integer, Takes::Double], Returns::Time, |call| {
        let (hour, minute, second) = (call.integers(0), call.integers(1), call.doubles(2));
        call.make_values::<Time64MicrosecondType>(|row| {
            let (Some(h), Some(m), Some(s)) = (hour.get(row), minute.get(row), second.get(row)) else {
                return Ok(None);
            };
            if !(0..=24).contains(&h) || !(0..60).contains(&m) || !(0.0..=60.0).contains(&s) {
                return Err(Error::new(Code::TimeOutOfRange, "there is no such time of day"));
            }
            Ok(Some(i64::from(h * 3600 + m * 60) * 1_000_000 + (s * 1e6).round() as i64))
        })
    })],
)
.named(&["hour", "min", "sec"]);

pub(crate) const MAKE_TIMESTAMP: Scalar = Scalar::new(
    "make_timestamp",
    "year, month, day, hour, minute, second",
    "A timestamp of its parts.",
    ("make_timestamp(2025, 8, 15, 10, 30, 0)", "2025-08-15 10:30:00"),
    &[Overload::of(
        &[Takes::Integer, Takes::Integer, Takes::Integer, Takes::Integer, Takes::Integer, Takes::Double],
        Returns::Timestamp,
        |call| {
            let parts: Vec<_> = (0..5).map(|i| call.integers(i)).collect();
            let seconds = call.doubles(5);
            let small = |v: i32| u32::try_from(v).unwrap_or(u32::MAX);
            call.make_timestamps(|row| {
                let p: Option<Vec<i32>> = parts.iter().map(|part| part.get(row)).collect();
                let Some((p, seconds)) = p.zip(seconds.get(row)) else { return Ok(None) };
                NaiveDate::from_ymd_opt(p[0], small(p[1]), small(p[2]))
                    .and_then(|d| d.and_hms_opt(small(p[3]), small(p[4]), 0))
                    .filter(|_| (0.0..=60.0).contains(&seconds))
                    .map(|t| Some(t.and_utc().timestamp_micros() + (seconds * 1e6).round() as i64))
                    .ok_or_else(|| Error::new(Code::TimeOutOfRange, "there is no such time"))
            })
        },
    )],
)
.named(&["year", "month", "mday", "hour", "min", "sec"]);

pub(crate) const MAKE_TIMESTAMPTZ: Scalar = Scalar::new(
    "make_timestamptz",
    "year, month, day, hour, minute, second [, zone]",
    "The moment at which the clock of the session, or of a zone, shows these parts.",
    ("make_timestamptz(2025, 8, 15, 10, 30, 0, 'UTC')", "2025-08-15 10:30:00+00"),
    &[],
)
.named(&["year", "month", "mday", "hour", "min", "sec", "timezone"]);

pub(crate) const MAKE_INTERVAL: Scalar = Scalar::new(
    "make_interval",
    "[years [, months [, weeks [, days [, hours [, minutes [, seconds]]]]]]]",
    "An interval of its parts.",
    ("make_interval(days => 3, hours => 4)", "3 days 04:00:00"),
    &[Overload::with_optional(
        &[
            Takes::Integer,
            Takes::Integer,
            Takes::Integer,
            Takes::Integer,
            Takes::Integer,
            Takes::Integer,
            Takes::Double,
        ],
        7,
        Returns::Interval,
        |call| {
            let parts: Vec<_> = (0..call.count().min(6)).map(|i| call.integers(i)).collect();
            let seconds = call.has(6).then(|| call.doubles(6));
            make_spans(call, |row| {
                let mut values = [0i64; 6];
                for (value, part) in values.iter_mut().zip(&parts) {
                    *value = part.get(row)?.into();
                }
                let seconds = match &seconds {
                    Some(seconds) => seconds.get(row)?,
                    None => 0.0,
                };
                let [years, months, weeks, days, hours, minutes] = values;
                let micros = (hours * 3600 + minutes * 60)
                    .checked_mul(1_000_000)
                    .and_then(|whole| whole.checked_add((seconds * 1e6).round() as i64));
                Some(micros.and_then(|micros| span(years * 12 + months, weeks * 7 + days, micros)))
            })
        },
    )],
)
.named(&["years", "months", "weeks", "days", "hours", "mins", "secs"]);

pub(crate) const DATE_BIN: Scalar = Scalar::new(
    "date_bin",
    "interval, timestamp, origin",
    "The start of the stride of this width, counted from an origin, in which a time lies.",
    ("date_bin('15 minutes', timestamp '2025-08-15 10:37', timestamp '2025-01-01')", "2025-08-15 10:30:00"),
    &[Overload::together(
        |given| {
            let [stride, source, origin] = given else { return None };
            let point = |own: &Given| match &own.sql_type {
                SqlType::Null => Some(Given::of(SqlType::Timestamp)),
                known if known.is_time_point() => Some(own.clone()),
                _ => None,
            };
            if !matches!(stride.sql_type, SqlType::Interval | SqlType::Time | SqlType::Null) {
                return None;
            }
            let common = unified(&[point(source)?, point(origin)?])?;
            let common = if common == SqlType::Date { SqlType::Timestamp } else { common };
            Some((vec![SqlType::Interval, common.clone(), common.clone()], common))
        },
        |call| {
            let (stride, source, origin) = (call.spans(0), call.timestamps(1), call.timestamps(2));
            call.make_timestamps(|row| {
                let (Some(stride), Some(source), Some(origin)) = (stride.get(row), source.get(row), origin.get(row))
                else {
                    return Ok(None);
                };
                let width = i64::from(stride.days) * DAY + stride.nanoseconds / 1000;
                if stride.months != 0 || width <= 0 {
                    return Err(Error::new(Code::InvalidValue, "date_bin takes a stride of days and less, above zero"));
                }
                Ok(Some(origin + (source - origin).div_euclid(width) * width))
            })
        },
    )],
);

/// A function of one interval.
macro_rules! of_interval {
    ($($constant:ident, $name:literal, $about:literal, $example:literal => $answer:literal, $hours:literal, $days:literal;)*) => {
        $(
            pub(crate) const $constant: Scalar = Scalar::new(
                $name,
                "interval",
                $about,
                ($example, $answer),
                &[Overload::of(&[Takes::Interval], Returns::Interval, |call| {
                    let own = call.spans(0);
                    make_spans(call, |row| Some(justified(own.get(row)?, $hours, $days)))
                })],
            );
        )*
    };
}

of_interval! {
    JUSTIFY_DAYS, "justify_days", "With each 30 days as a month.", "justify_days('35 days')" => "1 mon 5 days", false, true;
    JUSTIFY_HOURS, "justify_hours", "With each 24 hours as a day.", "justify_hours('27 hours')" => "1 day 03:00:00", true, false;
    JUSTIFY_INTERVAL, "justify_interval", "With each 24 hours as a day and each 30 days as a month, all of one sign.", "justify_interval('1 month -1 hour')" => "29 days 23:00:00", true, true;
}

// By templates.

pub(crate) const TO_TIMESTAMP: Scalar = Scalar::new(
    "to_timestamp",
    "seconds, or text, format",
    "The moment so many seconds after 1970, or the one that a text says in the form of a template.",
    ("to_timestamp('15.08.2025 10:30', 'DD.MM.YYYY HH24:MI')", "2025-08-15 10:30:00+00"),
    &[
        Overload::of(&[Takes::Double], Returns::TimestampTz, |call| {
            let seconds = call.doubles(0);
            call.make_timestamps(|row| Ok(seconds.get(row).map(|s| (s * 1e6).round() as i64)))
        }),
        Overload::of(&[Takes::Text; 2], Returns::TimestampTz, |call| {
            let (text, format) = (call.texts(0), call.texts(1));
            call.make_timestamps(|row| {
                let Some((text, format)) = text.get(row).zip(format.get(row)) else { return Ok(None) };
                Ok(Some(read_time(text, format)?.and_utc().timestamp_micros()))
            })
        }),
    ],
);

pub(crate) const TO_DATE: Scalar = Scalar::new(
    "to_date",
    "text, format",
    "The date that a text says in the form of a template.",
    ("to_date('15 Aug 2025', 'DD Mon YYYY')", "2025-08-15"),
    &[Overload::of(&[Takes::Text; 2], Returns::Date, |call| {
        let (text, format) = (call.texts(0), call.texts(1));
        call.make_values::<Date32Type>(|row| {
            let Some((text, format)) = text.get(row).zip(format.get(row)) else { return Ok(None) };
            Ok(Some(read_time(text, format)?.and_utc().timestamp_micros().div_euclid(DAY) as i32))
        })
    })],
);

/// The value that a template formats, in the type that the template works on.
fn to_char_types(given: &[Given]) -> Option<Types> {
    let [value, format] = given else { return None };
    let value = match &value.sql_type {
        SqlType::Interval | SqlType::Time => SqlType::Interval,
        own if own.is_time_point() => SqlType::Timestamp,
        own if own.is_integer() => SqlType::Numeric { precision: 38, scale: 0 },
        own if own.is_number() => own.clone(),
        _ => return None,
    };
    matches!(format.sql_type, SqlType::Text | SqlType::Null).then(|| (vec![value, SqlType::Text], SqlType::Text))
}

pub(crate) const TO_CHAR: Scalar = Scalar::new(
    "to_char",
    "time or number, format",
    "The value as text in the form of a template.",
    ("to_char(date '2025-08-15', 'DD Mon YYYY')", "15 Aug 2025"),
    &[Overload::together(to_char_types, to_char)],
);

fn to_char(call: &Call) -> Result<ArrayRef> {
    let format = call.texts(1);
    /// The text of each row that has a value and a template.
    fn write<T: ArrowPrimitiveType>(
        call: &Call,
        values: &PrimitiveArray<T>,
        format: &Texts,
        f: impl Fn(T::Native, &str) -> Result<Option<String>>,
    ) -> Result<ArrayRef> {
        call.make_strings(|row| {
            let place = call.place(0, row);
            match (values.is_valid(place), format.get(row)) {
                (true, Some(format)) => f(values.value(place), format),
                _ => Ok(None),
            }
        })
    }
    let array = call.array(0);
    match array.data_type() {
        DataType::Timestamp(..) => {
            write(call, array.as_primitive::<TimestampMicrosecondType>(), &format, |t, format| {
                Ok(at(t).map(|t| time_text(t, &template(format))))
            })
        }
        DataType::Interval(_) => write(call, array.as_primitive::<IntervalMonthDayNanoType>(), &format, |v, format| {
            Ok(Some(interval_text(v, &template(format))))
        }),
        DataType::Decimal128(_, scale) => {
            write(call, array.as_primitive::<Decimal128Type>(), &format, |value, format| {
                Ok(Some(NumberTemplate::read(format)?.write(value, *scale)))
            })
        }
        _ => {
            let wide = arrow::compute::cast(array, &DataType::Float64)?;
            write(call, wide.as_primitive::<Float64Type>(), &format, |value, format| {
                let template = NumberTemplate::read(format)?;
                Ok(Some(match decimal_of(value) {
                    Some((value, scale)) => template.write(value, scale),
                    None => template.write_beyond(value),
                }))
            })
        }
    }
}

pub(crate) const TO_NUMBER: Scalar = Scalar::new(
    "to_number",
    "text, format",
    "The number that a text says in the form of a template.",
    ("to_number('1,234.5', '9,999.9')", "1234.5000000000"),
    &[Overload::of(&[Takes::Text; 2], Returns::Numeric(38, 10), |call| {
        let (text, format) = (call.texts(0), call.texts(1));
        call.make_decimals(|row| {
            let Some((text, format)) = text.get(row).zip(format.get(row)) else { return Ok(None) };
            let (unscaled, scale) = NumberTemplate::read(format)?.value(text)?;
            let value = cobble_types::parse::rescale_decimal(unscaled, scale, 10);
            value.map(Some).ok_or_else(|| Error::new(Code::Overflow, format!("\"{text}\" is too large")))
        })
    })],
);

// Zones.

/// A zone's name and a moment, or what the clock there shows.
fn zone_types(given: &[Given]) -> Option<Types> {
    let [zone, time] = given else { return None };
    let (time, returns) = match time.sql_type {
        SqlType::TimestampTz | SqlType::Date | SqlType::Null => (SqlType::TimestampTz, SqlType::Timestamp),
        SqlType::Timestamp => (SqlType::Timestamp, SqlType::TimestampTz),
        _ => return None,
    };
    matches!(zone.sql_type, SqlType::Text | SqlType::Null).then(|| (vec![SqlType::Text, time], returns))
}

pub(crate) const TIMEZONE: Scalar = Scalar::new(
    "timezone",
    "zone, time",
    "What the clock of a zone shows at a moment, or the moment at which it shows a time; also written `time AT TIME ZONE zone`.",
    ("timestamptz '2025-08-15 10:30:00+00' AT TIME ZONE 'Europe/Oslo'", "2025-08-15 12:30:00"),
    &[Overload::together(zone_types, |call| {
        let zoned = matches!(call.array(1).data_type(), DataType::Timestamp(_, Some(_)));
        let (names, times, zones) = (call.texts(0), call.timestamps(1), Zones::default());
        call.make_timestamps(|row| {
            let Some((name, t)) = names.get(row).zip(times.get(row)) else { return Ok(None) };
            let zone = zones.find(name)?;
            let found = if zoned { zone.clock(t) } else { zone.moment(t) };
            found.map(Some).ok_or_else(out_of_range)
        })
    })],
);

pub(crate) const MOMENT_TEXT: Scalar = Scalar::new(
    "moment_text",
    "zone, timestamptz",
    "The text of a moment on the clock of a zone.",
    ("moment_text('Europe/Oslo', '2025-08-15 10:30:00+00')", "2025-08-15 12:30:00+02"),
    &[Overload::of(&[Takes::Text, Takes::Moment], Returns::Text, |call| {
        let (names, times, zones) = (call.texts(0), call.timestamps(1), Zones::default());
        call.make_strings(|row| {
            let both = names.get(row).zip(times.get(row));
            both.map(|(name, t)| Ok(write_moment(t, zones.find(name)?))).transpose()
        })
    })],
);

pub(crate) const READ_MOMENT: Scalar = Scalar::new(
    "read_moment",
    "zone, text",
    "The moment that a text says, on the clock of a zone where it names none.",
    ("read_moment('Europe/Oslo', '2025-08-15 12:30')", "2025-08-15 10:30:00+00"),
    &[Overload::of(&[Takes::Text; 2], Returns::TimestampTz, |call| {
        let (names, texts, zones) = (call.texts(0), call.texts(1), Zones::default());
        call.make_timestamps(|row| {
            let both = names.get(row).zip(texts.get(row));
            both.map(|(name, written)| read_moment(written, zones.find(name)?)).transpose()
        })
    })],
);

pub(crate) const ADD_TO_MOMENT: Scalar = Scalar::new(
    "add_to_moment",
    "zone, timestamptz, interval",
    "A moment later by an interval, whose months and days are counted on the clock of a zone.",
    ("add_to_moment('Europe/Oslo', '2025-10-25 10:00:00+00', '1 day')", "2025-10-26 11:00:00+00"),
    &[Overload::of(&[Takes::Text, Takes::Moment, Takes::Interval], Returns::TimestampTz, |call| {
        let (names, times, by, zones) = (call.texts(0), call.timestamps(1), call.spans(2), Zones::default());
        call.make_timestamps(|row| {
            let Some(((name, t), by)) = names.get(row).zip(times.get(row)).zip(by.get(row)) else { return Ok(None) };
            let zone = zones.find(name)?;
            // Months and days are counted on the clock, hours as they pass.
            let moved = || {
                let t = match (by.months, by.days) {
                    (0, 0) => t,
                    (months, days) => zone.moment(add_interval(zone.clock(t)?, months, days, 0)?)?,
                };
                t.checked_add(by.nanoseconds / 1000)
            };
            moved().map(Some).ok_or_else(out_of_range)
        })
    })],
);

/// Intervals: nothing for a null, nothing inside where it is out of range.
fn make_spans(call: &Call, f: impl Fn(usize) -> Option<Option<IntervalMonthDayNano>>) -> Result<ArrayRef> {
    call.make_values::<IntervalMonthDayNanoType>(|row| f(row).map(|value| value.ok_or_else(out_of_range)).transpose())
}

/// Years, months, days and time between two times, by the calendar.
fn age(later: i64, earlier: i64) -> Option<IntervalMonthDayNano> {
    let (a, b) = (at(later)?, at(earlier)?);
    let (sign, a, b) = if a < b { (-1, b, a) } else { (1, a, b) };
    let mut months = i64::from(a.year() - b.year()) * 12 + i64::from(a.month()) - i64::from(b.month());
    let mut days = i64::from(a.day()) - i64::from(b.day());
    let of_day = |t: NaiveDateTime| t.and_utc().timestamp_micros().rem_euclid(DAY);
    let mut micros = of_day(a) - of_day(b);
    if micros < 0 {
        micros += DAY;
        days -= 1;
    }
    if days < 0 {
        // By the days of the earlier time's month.
        let first = NaiveDate::from_ymd_opt(b.year(), b.month(), 1)?;
        days += (first + chrono::Months::new(1) - first).num_days();
        months -= 1;
    }
    span(sign * months, sign * days, sign * micros)
}

/// Whether two spans of time share a moment (SQL:2016 part 2, 8.14): each begins at its earlier end, and a span without length is
/// its moment.
fn overlaps(a: (Option<i64>, Option<i64>), b: (Option<i64>, Option<i64>)) -> Option<bool> {
    let sorted = |(start, end): (Option<i64>, Option<i64>)| match (start, end) {
        (Some(s), Some(e)) if e < s => (Some(e), Some(s)),
        (None, e) => (e, None),
        own => own,
    };
    let ((s, e), (t, f)) = (sorted(a), sorted(b));
    let (s, t) = (s?, t?);
    // Of the one that begins first, the end decides.
    let (first_end, second_start, second_end) = match s.cmp(&t) {
        std::cmp::Ordering::Less => (e, t, f),
        std::cmp::Ordering::Greater => (f, s, e),
        // Both share their first moment, whatever their ends; an unknown end may be anything.
        std::cmp::Ordering::Equal => return (e.is_some() && f.is_some()).then_some(true),
    };
    // Where it comes too early, an unknown end of the other could still lie before it.
    if second_start < first_end? { Some(true) } else { second_end.map(|_| false) }
}

fn justified(v: IntervalMonthDayNano, hours: bool, days: bool) -> Option<IntervalMonthDayNano> {
    let (mut m, mut d, mut t) = (i64::from(v.months), i64::from(v.days), v.nanoseconds / 1000);
    if hours {
        d += t / DAY;
        t %= DAY;
    }
    if days {
        m += d / 30;
        d %= 30;
    }
    if hours && days {
        // One sign throughout.
        if m > 0 && (d < 0 || (d == 0 && t < 0)) {
            (m, d) = (m - 1, d + 30);
        } else if m < 0 && (d > 0 || (d == 0 && t > 0)) {
            (m, d) = (m + 1, d - 30);
        }
    }
    if hours {
        if d > 0 && t < 0 {
            (d, t) = (d - 1, t + DAY);
        } else if d < 0 && t > 0 {
            (d, t) = (d + 1, t - DAY);
        }
    }
    span(m, d, t)
}

/// A part of an interval as a number with six digits for seconds and epoch, none for the others.
fn interval_part(part: &str, v: IntervalMonthDayNano) -> Option<i128> {
    let micros = i128::from(v.nanoseconds / 1000);
    let months = i128::from(v.months);
    Some(match part {
        "year" => months / 12,
        "quarter" => months % 12 / 3 + 1,
        "month" => months % 12,
        "day" => i128::from(v.days),
        "hour" => micros / 3_600_000_000,
        "minute" => micros / 60_000_000 % 60,
        "second" => micros % 60_000_000,
        "milliseconds" => micros % 60_000_000 * 1000,
        "microseconds" => micros % 60_000_000,
        "decade" => months / 120,
        "century" => months / 1200,
        "millennium" => months / 12_000,
        // A year counts 365.25 days, a month 30.
        "epoch" => {
            (months / 12) * 31_557_600_000_000
                + (months % 12) * 2_592_000_000_000
                + i128::from(v.days) * i128::from(DAY)
                + micros
        }
        _ => return None,
    })
}

/// Any time point as microseconds.
fn microseconds(array: &ArrayRef) -> Int64Array {
    match array.data_type() {
        DataType::Date32 => {
            array.as_primitive::<Date32Type>().unary::<_, Int64Type>(|d| i64::from(d).wrapping_mul(DAY))
        }
        DataType::Time64(_) => array.as_primitive::<Time64MicrosecondType>().reinterpret_cast::<Int64Type>(),
        _ => array.as_primitive::<TimestampMicrosecondType>().reinterpret_cast::<Int64Type>(),
    }
}

fn unknown_part(part: &str) -> Error {
    Error::new(Code::InvalidValue, format!("\"{part}\" is not a part of this kind of time"))
}

/// `extract`: a part of a time or an interval; the part may be another one in each row.
fn part_of(call: &Call) -> Result<ArrayRef> {
    let (parts, from, scale) = (call.texts(0), call.array(1), result_scale(call)?);
    let spans = from.as_primitive_opt::<IntervalMonthDayNanoType>();
    let times = if spans.is_none() { Some(microseconds(from)) } else { None };
    call.make_decimals(|row| {
        let place = call.place(1, row);
        let Some(part) = parts.get(row).filter(|_| from.is_valid(place)) else { return Ok(None) };
        let known = time_parts::part_name(part).ok_or_else(|| unknown_part(part))?;
        let value = match (spans, &times) {
            (Some(spans), _) => interval_part(known, spans.value(place)),
            (None, Some(times)) => time_parts::date_part(known, times.value(place)),
            (None, None) => None,
        };
        if known == "julian" && scale == 20 {
            let micros = times.as_ref().map_or(0, |times| times.value(place));
            return time_parts::julian(micros).map(Some).ok_or_else(|| unknown_part(part));
        }
        let value = value.ok_or_else(|| unknown_part(part))?;
        // Parts that are whole have no digits after the point of their own, the others come with six.
        let digits = if matches!(known, "second" | "epoch" | "milliseconds") { 6 } else { 0 };
        let unit = 10i128.pow(u32::from((digits - i32::from(scale)).unsigned_abs() as u8));
        Ok(Some(if digits > i32::from(scale) { value / unit } else { value * unit }))
    })
}

fn result_scale(call: &Call) -> Result<i8> {
    match call.result {
        DataType::Decimal128(_, scale) => Ok(*scale),
        _ => Err(Error::internal("a part of a time is numeric")),
    }
}

/// An interval without what is smaller than the part.
fn interval_start(part: &str, v: IntervalMonthDayNano) -> Option<IntervalMonthDayNano> {
    let to = |n: i64, unit: i64| n / unit * unit;
    let months = |unit: i32| IntervalMonthDayNano::new(v.months / unit * unit, 0, 0);
    let nanos = |unit: i64| IntervalMonthDayNano::new(v.months, v.days, to(v.nanoseconds, unit));
    Some(match part {
        "millennium" => months(12_000),
        "century" => months(1200),
        "decade" => months(120),
        "year" => months(12),
        "quarter" => months(3),
        "month" => months(1),
        "day" => IntervalMonthDayNano::new(v.months, v.days, 0),
        "hour" => nanos(3_600_000_000_000),
        "minute" => nanos(60_000_000_000),
        "second" => nanos(1_000_000_000),
        "milliseconds" => nanos(1_000_000),
        "microseconds" => nanos(1000),
        _ => return None,
    })
}

/// `date_trunc`: the start of the hour, day, month … of each time. The unit may differ from row to row.
fn start_of(call: &Call) -> Result<ArrayRef> {
    let (parts, from) = (call.texts(0), call.array(1));
    let part = |row: usize| -> Result<Option<&'static str>> {
        let known = |part: &str| time_parts::part_name(part).ok_or_else(|| unknown_part(part));
        parts.get(row).map(known).transpose()
    };
    if let Some(spans) = from.as_primitive_opt::<IntervalMonthDayNanoType>() {
        return call.make_values::<IntervalMonthDayNanoType>(|row| {
            let place = call.place(1, row);
            let Some(part) = part(row)?.filter(|_| spans.is_valid(place)) else { return Ok(None) };
            interval_start(part, spans.value(place)).map(Some).ok_or_else(|| unknown_part(part))
        });
    }
    let times = microseconds(from);
    call.make_timestamps(|row| {
        let place = call.place(1, row);
        let Some(part) = part(row)?.filter(|_| times.is_valid(place)) else { return Ok(None) };
        time_parts::date_trunc(part, times.value(place)).map(Some).ok_or_else(|| unknown_part(part))
    })
}

/// The zone of the last row: it is nearly always that of the next one too.
#[derive(Default)]
struct Zones(RefCell<Option<(String, Zone)>>);

impl Zones {
    fn find(&self, name: &str) -> Result<Zone> {
        if let Some((known, zone)) = self.0.borrow().as_ref()
            && known == name
        {
            return Ok(*zone);
        }
        let zone = Zone::parse(name)?;
        *self.0.borrow_mut() = Some((name.to_owned(), zone));
        Ok(zone)
    }
}
