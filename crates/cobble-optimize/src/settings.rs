//! The settings of a session that planning and running listen to. Every one can be set with `SET name = value`.

use std::collections::BTreeSet;

use cobble_types::zone::Zone;
use cobble_types::{Code, Error, Result};

use crate::rewrites;

#[derive(Debug, Clone, PartialEq)]
pub struct Settings {
    /// Rewrites that are switched off, by name.
    pub planner_off: BTreeSet<String>,
    /// Each plan is written in its serial form, and what is read from that runs: as another process would run it.
    pub planner_serial: bool,
    /// Bytes a run may hold in joins, groups and sorts.
    pub run_memory: u64,
    /// Bytes a run may have on disk where its memory does not suffice.
    pub run_spill: u64,
    /// Seconds a run may take; none means no limit.
    pub run_time: Option<f64>,
    /// Parallel tasks of a run; none means one per core.
    pub run_tasks: Option<usize>,
    /// The time zone for timestamps without one, and for display.
    pub time_zone: String,
}

impl Default for Settings {
    fn default() -> Self {
        Settings {
            planner_off: BTreeSet::new(),
            planner_serial: false,
            run_memory: 2 << 30,
            run_spill: 32 << 30,
            run_time: None,
            run_tasks: None,
            time_zone: "UTC".to_owned(),
        }
    }
}

/// Name, meaning and example of each setting.
pub const KNOWN: &[(&str, &str)] = &[
    ("planner.off", "rewrites to leave out, separated by commas, such as 'push-filters,prune-columns'"),
    ("planner.serial", "'on' to write each plan in its serial form and run what is read from it, for tests"),
    ("run.memory", "memory a run may hold, such as '1GB' or '512MB'"),
    ("run.spill", "bytes a run may have on disk where its memory does not suffice, such as '10GB'"),
    ("run.time", "time a run may take, such as '30s', '5min' or 'none'"),
    ("run.tasks", "parallel tasks of a run, such as 2, or 'auto'"),
    ("timezone", "zone in which times are read and shown, such as 'Europe/Paris' or 'UTC'"),
];

impl Settings {
    pub fn is_on(&self, rewrite: &str) -> bool {
        !self.planner_off.contains(rewrite)
    }

    /// The value of a setting as it would be written to set it.
    pub fn get(&self, name: &str) -> Option<String> {
        Some(match name {
            "planner.off" => self.planner_off.iter().cloned().collect::<Vec<_>>().join(","),
            "planner.serial" => if self.planner_serial { "on" } else { "off" }.to_owned(),
            "run.memory" => written(self.run_memory),
            "run.spill" => written(self.run_spill),
            "run.time" => self.run_time.map_or_else(|| "none".to_owned(), |seconds| format!("{seconds}s")),
            "statement_timeout" => {
                self.run_time.map_or_else(|| "0".to_owned(), |seconds| format!("{}ms", seconds * 1e3))
            }
            "run.tasks" => self.run_tasks.map_or_else(|| "auto".to_owned(), |tasks| tasks.to_string()),
            "timezone" => self.time_zone.clone(),
            _ => return None,
        })
    }

    pub fn set(&mut self, name: &str, value: &str) -> Result<()> {
        let value = value.trim();
        match name {
            "planner.off" => {
                let mut off = BTreeSet::new();
                for word in value.split(',').map(str::trim).filter(|word| !word.is_empty()) {
                    let known = rewrites::names();
                    if !known.contains(&word) {
                        return Err(Error::unknown("rewrite", word, known.iter().copied()));
                    }
                    off.insert(word.to_owned());
                }
                self.planner_off = off;
            }
            "planner.serial" => {
                self.planner_serial = match value {
                    "on" | "true" => true,
                    "off" | "false" => false,
                    _ => return Err(bad(name, value, "'on' or 'off'")),
                }
            }
            "run.memory" => self.run_memory = parse_bytes(name, value)?,
            "run.spill" => self.run_spill = parse_bytes(name, value)?,
            "run.time" => self.run_time = parse_seconds(value)?,
            "run.tasks" => {
                self.run_tasks = match value {
                    "auto" => None,
                    number => match number.parse() {
                        Ok(tasks) if (1..=256).contains(&tasks) => Some(tasks),
                        _ => return Err(bad(name, value, "a number from 1 to 256, or 'auto'")),
                    },
                }
            }
            "timezone" => {
                self.time_zone = match Zone::parse(value)? {
                    Zone::Offset(0) => "UTC".to_owned(),
                    Zone::Named(zone) => zone.name().to_owned(),
                    Zone::Offset(_) => return Err(bad(name, value, "a name such as 'Europe/Paris', or 'UTC'")),
                }
            }
            // PostgreSQL's name for it, which counts milliseconds.
            "statement_timeout" => {
                self.run_time = match value.parse::<f64>() {
                    Ok(0.0) => None,
                    Ok(milliseconds) => parse_seconds(&format!("{milliseconds}ms"))?,
                    Err(_) => parse_seconds(value)?,
                }
            }
            _ => return Err(unknown(name)),
        }
        Ok(())
    }
}

/// Settings that clients of PostgreSQL ask for, and that have one value here.
pub const FIXED: &[(&str, &str)] = &[
    // That of this service, which is no PostgreSQL.
    ("server_version", env!("CARGO_PKG_VERSION")),
    ("client_encoding", "UTF8"),
    ("server_encoding", "UTF8"),
    ("datestyle", "ISO, MDY"),
    ("intervalstyle", "postgres"),
    ("standard_conforming_strings", "on"),
    ("integer_datetimes", "on"),
    ("bytea_output", "hex"),
    ("transaction_isolation", "read committed"),
    ("default_transaction_isolation", "read committed"),
    ("lc_collate", "C"),
    ("lc_ctype", "C.UTF-8"),
];

/// Settings of PostgreSQL that its clients set and that mean nothing here, with their first values. What they are set to is kept and
/// shown.
pub const OF_CLIENTS: &[(&str, &str)] = &[
    ("application_name", ""),
    ("backslash_quote", "safe_encoding"),
    ("check_function_bodies", "on"),
    ("client_min_messages", "notice"),
    ("default_table_access_method", "heap"),
    ("default_tablespace", ""),
    ("default_transaction_read_only", "off"),
    ("enable_hashjoin", "on"),
    ("enable_mergejoin", "on"),
    ("enable_nestloop", "on"),
    ("enable_seqscan", "on"),
    ("escape_string_warning", "on"),
    ("extra_float_digits", "1"),
    ("geqo", "on"),
    ("idle_in_transaction_session_timeout", "0"),
    ("idle_session_timeout", "0"),
    ("jit", "off"),
    ("lock_timeout", "0"),
    ("quote_all_identifiers", "off"),
    ("random_page_cost", "4"),
    ("row_security", "on"),
    ("synchronize_seqscans", "on"),
    ("synchronous_commit", "on"),
    ("transaction_read_only", "off"),
    ("work_mem", "4MB"),
    ("xmloption", "content"),
];

/// The value of a setting that clients of PostgreSQL know, where nothing was set.
pub fn fixed(name: &str) -> Option<&'static str> {
    FIXED.iter().chain(OF_CLIENTS).find(|(known, _)| *known == name).map(|(_, value)| *value)
}

/// The stored value of a setting that PostgreSQL's clients use; `None` for any other name.
///
/// # Errors
/// When it has one value here, and another one is wanted.
pub fn of_clients(name: &str, value: &str) -> Result<Option<String>> {
    let value = value.trim();
    if OF_CLIENTS.iter().any(|(known, _)| *known == name) {
        return Ok(Some(value.to_owned()));
    }
    let Some((_, own)) = FIXED.iter().find(|(known, _)| *known == name) else { return Ok(None) };
    // `ISO` alone leaves the order of days and months as it is; encodings have several spellings.
    let plain = |text: &str| text.to_lowercase().replace(['-', ' ', '"'], "").replace("unicode", "utf8");
    let (wanted, known) = (plain(value), plain(own));
    if wanted == known || (name == "datestyle" && known.split(',').any(|part| part == wanted)) {
        return Ok(Some((*own).to_owned()));
    }
    Err(Error::new(Code::BadSetting, format!("{name} is {own} here, and cannot be '{value}'")))
}

/// A setting that nobody knows.
pub fn unknown(name: &str) -> Error {
    let error = Error::unknown("setting", name, KNOWN.iter().map(|(name, _)| *name));
    if error.hint.is_some() { error } else { error.hint("SHOW SETTINGS lists them") }
}

/// Seconds that a limit may be long: about thirty years, which every clock can count.
const LONGEST: f64 = 1e9;

fn bad(name: &str, value: &str, expected: &str) -> Error {
    Error::new(Code::BadSetting, format!("{name} cannot be '{value}'")).hint(format!("expected {expected}"))
}

fn split_number(text: &str) -> Option<(f64, String)> {
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    Some((text[..end].parse().ok()?, text[end..].trim().to_lowercase()))
}

/// Bytes in the largest unit that counts them without a fraction.
fn written(bytes: u64) -> String {
    let units = [("GB", 30), ("MB", 20), ("kB", 10), ("B", 0)];
    let (unit, bits) = units.into_iter().find(|(_, bits)| bytes.is_multiple_of(1 << bits)).unwrap_or(("B", 0));
    format!("{}{unit}", bytes >> bits)
}

/// Bytes from `512MB`, `1 GB`, `64KiB`, `1000`; units are powers of 1024.
pub fn parse_bytes(name: &str, text: &str) -> Result<u64> {
    let error = || bad(name, text, "a size such as '64MB' or '1GB'");
    let (number, unit) = split_number(text).ok_or_else(error)?;
    let shift = match unit.as_str() {
        "" | "b" => 0,
        "kb" | "kib" => 10,
        "mb" | "mib" => 20,
        "gb" | "gib" => 30,
        _ => return Err(error()),
    };
    let bytes = number * f64::from(1u32 << shift);
    if bytes >= 1024.0 { Ok(bytes as u64) } else { Err(error()) }
}

fn parse_seconds(text: &str) -> Result<Option<f64>> {
    if text == "none" {
        return Ok(None);
    }
    let error = || bad("run.time", text, "a time such as '30s' or '5min', or 'none'");
    let (number, unit) = split_number(text).ok_or_else(error)?;
    let seconds = match unit.as_str() {
        "ms" => number / 1000.0,
        "" | "s" => number,
        "min" => number * 60.0,
        "h" => number * 3600.0,
        _ => return Err(error()),
    };
    if seconds <= LONGEST { Ok(Some(seconds)) } else { Err(error()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_times_and_rewrites_are_read() {
        let mut settings = Settings::default();
        for (name, value) in [
            ("run.memory", "64MB"),
            ("run.time", "5min"),
            ("run.tasks", "2"),
            ("planner.off", "push-filters, prune-columns"),
            ("planner.serial", "on"),
        ] {
            settings.set(name, value).unwrap();
        }
        assert_eq!((settings.run_memory, settings.run_time, settings.run_tasks), (64 << 20, Some(300.0), Some(2)));
        assert!(!settings.is_on("push-filters") && settings.is_on("order-joins"));
    }

    #[test]
    fn a_wrong_setting_says_what_was_expected() {
        let mut settings = Settings::default();
        for (name, value, part) in [
            ("run.memry", "1GB", "did you mean \"run.memory\"?"),
            ("run.memory", "lots", "a size such as"),
            ("planner.off", "push-filter", "did you mean \"push-filters\"?"),
            ("run.tasks", "0", "a number from 1 to 256"),
            ("planner.serial", "perhaps", "'on' or 'off'"),
            ("run.time", "99999999999999999999s", "a time such as"),
        ] {
            let error = settings.set(name, value).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
    }
}
