//! Parts of times and truncation to them.

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, Timelike};

const EPOCH_DAYS: i32 = 719_163;

fn at(micros: i64) -> Option<NaiveDateTime> {
    Some(DateTime::from_timestamp_micros(micros)?.naive_utc())
}

/// The name of a part, from any that PostgreSQL takes for it.
pub fn part_name(part: &str) -> Option<&'static str> {
    Some(match part.to_ascii_lowercase().as_str() {
        "year" | "years" | "y" | "yr" | "yrs" => "year",
        "quarter" | "qtr" => "quarter",
        "month" | "months" | "mon" | "mons" => "month",
        "week" | "weeks" | "w" => "week",
        "day" | "days" | "d" => "day",
        "hour" | "hours" | "h" | "hr" | "hrs" => "hour",
        "minute" | "minutes" | "m" | "min" | "mins" => "minute",
        "second" | "seconds" | "s" | "sec" | "secs" => "second",
        "millisecond" | "milliseconds" | "ms" | "msec" | "msecs" | "msecond" | "mseconds" => "milliseconds",
        "microsecond" | "microseconds" | "us" | "usec" | "usecs" | "usecond" | "useconds" => "microseconds",
        "decade" | "decades" | "dec" | "decs" => "decade",
        "century" | "centuries" | "c" | "cent" => "century",
        "millennium" | "millennia" | "mil" | "mils" => "millennium",
        "dow" => "dow",
        "isodow" => "isodow",
        "doy" => "doy",
        "isoyear" => "isoyear",
        "epoch" => "epoch",
        "julian" | "jd" | "j" => "julian",
        _ => return None,
    })
}

/// The century or millennium of a year. None has the number zero: 1 BC is followed by AD 1.
pub fn counted(year: i32, years: i32) -> i32 {
    if year > 0 { (year - 1) / years + 1 } else { -((years - year) / years) }
}

/// The Julian day of a moment, with the part of the day that has gone by since midnight, in units of 10^-20 days.
pub fn julian(micros: i64) -> Option<i128> {
    const DAY: i128 = 86_400_000_000;
    let (whole, in_day) = (date_part("julian", micros)?, i128::from(micros).rem_euclid(DAY));
    let unit = 10i128.pow(20);
    Some(whole * unit + (in_day * unit * 2 + DAY) / (2 * DAY))
}

/// A part of a time as a number with `scale` six for `second`, `milliseconds` and `epoch`, and zero for the others.
pub fn date_part(part: &str, micros: i64) -> Option<i128> {
    let t = at(micros)?;
    let in_second = i128::from(t.and_utc().timestamp_subsec_micros());
    let week = t.date().iso_week();
    Some(match part {
        "year" => i128::from(if t.year() > 0 { t.year() } else { t.year() - 1 }),
        "quarter" => i128::from(t.month0() / 3 + 1),
        "month" => i128::from(t.month()),
        "week" => i128::from(week.week()),
        "isoyear" => i128::from(if week.year() > 0 { week.year() } else { week.year() - 1 }),
        "day" => i128::from(t.day()),
        "doy" => i128::from(t.ordinal()),
        "dow" => i128::from(t.weekday().num_days_from_sunday()),
        "isodow" => i128::from(t.weekday().number_from_monday()),
        "hour" => i128::from(t.hour()),
        "minute" => i128::from(t.minute()),
        "second" => i128::from(t.second()) * 1_000_000 + in_second,
        "milliseconds" => (i128::from(t.second()) * 1_000_000 + in_second) * 1000,
        "microseconds" => i128::from(t.second()) * 1_000_000 + in_second,
        "epoch" => i128::from(micros),
        "millennium" => i128::from(counted(t.year(), 1000)),
        "decade" => i128::from(t.year().div_euclid(10)),
        "century" => i128::from(counted(t.year(), 100)),
        "julian" => i128::from(t.num_days_from_ce()) + 1_721_425,
        _ => return None,
    })
}

/// The start of the hour, day, month … that contains the time, in microseconds.
pub fn date_trunc(part: &str, micros: i64) -> Option<i64> {
    let unit = match part {
        "microseconds" => 1,
        "milliseconds" => 1000,
        "second" => 1_000_000,
        "minute" => 60_000_000,
        "hour" => 3_600_000_000,
        "day" => 86_400_000_000,
        _ => 0,
    };
    if unit > 0 {
        return Some(micros - micros.rem_euclid(unit));
    }
    let date = at(micros)?.date();
    let start = match part {
        "week" => date - chrono::Days::new(u64::from(date.weekday().num_days_from_monday())),
        "month" => date.with_day(1)?,
        "quarter" => NaiveDate::from_ymd_opt(date.year(), date.month0() / 3 * 3 + 1, 1)?,
        "year" => NaiveDate::from_ymd_opt(date.year(), 1, 1)?,
        "decade" => NaiveDate::from_ymd_opt(date.year().div_euclid(10) * 10, 1, 1)?,
        "century" => NaiveDate::from_ymd_opt((date.year() - 1).div_euclid(100) * 100 + 1, 1, 1)?,
        "millennium" => NaiveDate::from_ymd_opt((date.year() - 1).div_euclid(1000) * 1000 + 1, 1, 1)?,
        _ => return None,
    };
    Some(start.and_hms_opt(0, 0, 0)?.and_utc().timestamp_micros())
}

/// Days since 1970-01-01, or `None` when there is no such day.
pub fn make_date(year: i32, month: i32, day: i32) -> Option<i32> {
    let date = NaiveDate::from_ymd_opt(year, u32::try_from(month).ok()?, u32::try_from(day).ok()?)?;
    Some(date.num_days_from_ce() - EPOCH_DAYS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_and_starts_follow_the_calendar() {
        let t = crate::parse::parse_timestamp("2025-12-31 23:59:58.25").unwrap().0;
        for (part, expected) in [
            ("year", 2025),
            ("quarter", 4),
            ("week", 1),
            ("isoyear", 2026),
            ("doy", 365),
            ("dow", 3),
            ("isodow", 3),
            ("second", 58_250_000),
            ("microseconds", 58_250_000),
            ("decade", 202),
            ("century", 21),
        ] {
            assert_eq!(date_part(part, t), Some(expected), "{part}");
        }
        for (part, expected) in
            [("week", "2025-12-29 00:00:00"), ("quarter", "2025-10-01 00:00:00"), ("hour", "2025-12-31 23:00:00")]
        {
            assert_eq!(crate::write_timestamp(date_trunc(part, t).unwrap()), expected, "{part}");
        }
        assert_eq!(make_date(2025, 2, 29), None);
    }
}
