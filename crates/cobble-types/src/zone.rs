//! Time zones: UTC, offsets, and the names of the IANA database (by way of `chrono-tz`).

use std::cell::Cell;

use chrono::{DateTime, LocalResult, NaiveDateTime, Offset, TimeDelta, TimeZone};
use chrono_tz::Tz;

use crate::{Code, Error, Result, closest_name};

/// Where a clock hangs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Zone {
    /// Seconds east of Greenwich.
    Offset(i64),
    Named(Tz),
}

impl Zone {
    /// A zone from `UTC`, `+02:00`, `-5`, `Europe/Paris`, in any case. A number alone follows POSIX, where west is positive,
    /// as in `AT TIME ZONE` (PostgreSQL manual 8.5.3).
    pub fn parse(text: &str) -> Result<Zone> {
        let text = text.trim();
        if ["utc", "gmt", "z", "zulu", "etc/utc"].contains(&text.to_lowercase().as_str()) {
            return Ok(Zone::Offset(0));
        }
        let wrong = || Error::new(Code::InvalidValue, format!("the time zone \"{text}\" is not known"));
        let (sign, rest) = match text.split_at_checked(1) {
            Some(("+", rest)) => (1, rest),
            Some(("-", rest)) => (-1, rest),
            _ => {
                let same = |zone: &&Tz| zone.name().eq_ignore_ascii_case(text);
                if let Some(zone) = chrono_tz::TZ_VARIANTS.iter().find(same) {
                    return Ok(Zone::Named(*zone));
                }
                let names = chrono_tz::TZ_VARIANTS.iter().map(|zone| zone.name());
                return Err(wrong().hint(match closest_name(text, names) {
                    Some(close) => format!("did you mean \"{close}\"?"),
                    None => "write it as UTC, +02:00, or a name such as Europe/Paris".to_owned(),
                }));
            }
        };
        let mut parts = rest.split(':');
        let offset = (|| {
            let hours: i64 = parts.next()?.parse().ok()?;
            let minutes: i64 = parts.next().map_or(Some(0), |m| m.parse().ok())?;
            (hours <= 15 && minutes <= 59).then_some(-sign * (hours * 3600 + minutes * 60))
        })();
        offset.map(Zone::Offset).ok_or_else(|| wrong().hint("offsets go from -15:59 to +15:59"))
    }

    /// What a clock there shows at a moment; both in microseconds since 1970-01-01, in UTC and on that clock.
    pub fn clock(self, moment: i64) -> Option<i64> {
        let seconds = match self {
            Zone::Offset(seconds) => seconds,
            Zone::Named(zone) => {
                let utc = DateTime::from_timestamp_micros(moment)?.naive_utc();
                i64::from(zone.offset_from_utc_datetime(&utc).fix().local_minus_utc())
            }
        };
        moment.checked_add(seconds * 1_000_000)
    }

    /// The moment at which a clock there shows this. Of a time that comes twice, the second one; a time that is skipped is
    /// read as if the clock had not been changed yet. Both as PostgreSQL decides.
    pub fn moment(self, clock: i64) -> Option<i64> {
        let seconds = match self {
            Zone::Offset(seconds) => seconds,
            Zone::Named(zone) => {
                let local = DateTime::from_timestamp_micros(clock)?.naive_utc();
                let offset = |local: &NaiveDateTime| match zone.offset_from_local_datetime(local) {
                    LocalResult::Single(offset) | LocalResult::Ambiguous(_, offset) => Some(offset),
                    LocalResult::None => None,
                };
                let before = |hours| offset(&local.checked_sub_signed(TimeDelta::hours(hours))?);
                let offset = offset(&local).or_else(|| [1, 3, 25].into_iter().find_map(before))?;
                i64::from(offset.fix().local_minus_utc())
            }
        };
        clock.checked_sub(seconds * 1_000_000)
    }
}

thread_local! {
    static SESSION: Cell<Zone> = const { Cell::new(Zone::Offset(0)) };
}

/// Runs `work`, the binding of a statement, with the session's zone: literals without a zone of their own are read in it.
pub fn within<T>(zone: Zone, work: impl FnOnce() -> T) -> T {
    struct Back(Zone);
    impl Drop for Back {
        fn drop(&mut self) {
            SESSION.set(self.0);
        }
    }
    let _back = Back(SESSION.replace(zone));
    work()
}

/// The zone of the statement that is being bound; UTC everywhere else.
pub fn session_zone() -> Zone {
    SESSION.get()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse::parse_timestamp;

    fn micros(text: &str) -> i64 {
        parse_timestamp(text).unwrap().0
    }

    #[test]
    fn clocks_change_in_spring_and_autumn() {
        let zone = Zone::parse("europe/paris").unwrap();
        for (clock, utc) in [
            ("2025-07-01 12:00", "2025-07-01 10:00"),
            ("2025-01-01 12:00", "2025-01-01 11:00"),
            // Skipped: read with the offset from before.
            ("2025-03-30 02:30", "2025-03-30 01:30"),
            // Twice: the second one, in winter time.
            ("2025-10-26 02:30", "2025-10-26 01:30"),
        ] {
            assert_eq!(zone.moment(micros(clock)), Some(micros(utc)), "{clock}");
        }
        assert_eq!(zone.clock(micros("2025-03-30 01:30")), Some(micros("2025-03-30 03:30")));
        assert_eq!(zone.clock(micros("2025-10-26 00:30")), Some(micros("2025-10-26 02:30")));
    }

    #[test]
    fn zones_are_read_or_named_in_the_error() {
        assert_eq!(Zone::parse("UTC").unwrap(), Zone::Offset(0));
        assert_eq!(Zone::parse("+02:00").unwrap(), Zone::Offset(-7200));
        assert_eq!(Zone::parse("-5").unwrap(), Zone::Offset(18_000));
        let error = Zone::parse("Europe/Pariss").unwrap_err();
        assert!(error.to_string().contains("Europe/Paris\""), "{error}");
        assert!(Zone::parse("+99").is_err());
    }
}
