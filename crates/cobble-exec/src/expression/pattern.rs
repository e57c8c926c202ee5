//! Patterns: POSIX regular expressions and SIMILAR TO (PostgreSQL manual 9.7), by way of the `regex` crate.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use arrow::array::*;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result};
use regex::{Regex, RegexBuilder};

use super::Evaluated;
use super::text::{Texts, build};

/// Compiled expressions that a thread remembers.
const REMEMBERED: usize = 64;

thread_local! {
    static KNOWN: RefCell<HashMap<(String, String), Regex>> = RefCell::default();
}

/// The compiled pattern. Flags: `i` without regard to case, `n` and `m` for lines, `x` with blanks ignored, `g` for all
/// matches, which the caller heeds.
pub(crate) fn cached_regex(pattern: &str, flags: &str) -> Result<Regex> {
    KNOWN.with_borrow_mut(|known| {
        if let Some(regex) = known.get(&(pattern.to_owned(), flags.to_owned())) {
            return Ok(regex.clone());
        }
        if let Some(unknown) = flags.chars().find(|c| !"gincsmxt".contains(*c)) {
            return Err(Error::new(Code::InvalidValue, format!("\"{unknown}\" is not a flag of a regular expression")));
        }
        let lines = flags.contains(['n', 'm']);
        let regex = RegexBuilder::new(&translated(pattern))
            .case_insensitive(flags.contains('i'))
            .multi_line(lines)
            .dot_matches_new_line(!lines)
            .ignore_whitespace(flags.contains('x'))
            .build()
            .map_err(|e| {
                let why = e.to_string();
                let last = why.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
                Error::new(Code::InvalidRegex, format!("\"{pattern}\" is not a regular expression: {last}"))
            })?;
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert((pattern.to_owned(), flags.to_owned()), regex.clone());
        Ok(regex)
    })
}

/// PostgreSQL's word boundaries in the other notation.
fn translated(pattern: &str) -> String {
    pattern.replace("\\m", "\\b{start}").replace("\\M", "\\b{end}").replace("\\y", "\\b").replace("\\Y", "\\B")
}

/// A SIMILAR TO pattern as a regular expression for the whole text (SQL:2016 part 2, 8.6).
pub(crate) fn similar(pattern: &str, escape: Option<char>) -> String {
    let mut out = String::from("^(?:");
    let mut in_class = false;
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        if Some(c) == escape {
            if let Some(next) = characters.next() {
                out.push_str(&regex::escape(&next.to_string()));
            }
            continue;
        }
        match c {
            '[' => in_class = true,
            ']' => in_class = false,
            _ => {}
        }
        match c {
            '%' if !in_class => out.push_str(".*"),
            '_' if !in_class => out.push('.'),
            '.' | '^' | '$' | '\\' if !in_class => {
                out.push('\\');
                out.push(c);
            }
            '\\' => out.push_str("\\\\"),
            other => out.push(other),
        }
    }
    out.push_str(")$");
    out
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize) -> Result<ArrayRef> {
    use Function as F;
    let text = |i: usize, row: usize| Texts::of(arguments[i]).get(row);
    let flags = |i: usize, row: usize| arguments.get(i).map_or(Some(""), |_| text(i, row));
    Ok(match function {
        F::RegexpLike | F::SimilarTo => {
            let mut out = BooleanBuilder::with_capacity(rows);
            for row in 0..rows {
                let (Some(s), Some(pattern), Some(flags)) = (text(0, row), text(1, row), flags(2, row)) else {
                    out.append_null();
                    continue;
                };
                let regex = match function {
                    F::SimilarTo => cached_regex(&similar(pattern, Some('\\')), "")?,
                    _ => cached_regex(pattern, flags)?,
                };
                out.append_value(regex.is_match(s));
            }
            Arc::new(out.finish())
        }
        F::RegexpReplace => build(rows, |row| {
            let (Some(s), Some(pattern), Some(replacement), Some(flags)) =
                (text(0, row), text(1, row), text(2, row), flags(3, row))
            else {
                return Ok(None);
            };
            let regex = cached_regex(pattern, flags)?;
            let replacement = replacement_of(replacement);
            let most = if flags.contains('g') { 0 } else { 1 };
            Ok(Some(Cow::Owned(regex.replacen(s, most, replacement.as_str()).into_owned())))
        })?,
        F::RegexpSubstr => build(rows, |row| {
            let (Some(s), Some(pattern)) = (text(0, row), text(1, row)) else { return Ok(None) };
            let regex = cached_regex(pattern, "")?;
            // The first group, if there is one, is the part that is wanted.
            let found = regex.captures(s).and_then(|found| if found.len() > 1 { found.get(1) } else { found.get(0) });
            Ok(found.map(|m| Cow::Borrowed(m.as_str())))
        })?,
        F::RegexpCount => {
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                match (text(0, row), text(1, row)) {
                    (Some(s), Some(pattern)) => {
                        out.append_value(cached_regex(pattern, "")?.find_iter(s).count() as i32)
                    }
                    _ => out.append_null(),
                }
            }
            Arc::new(out.finish())
        }
        F::RegexpMatch => {
            let mut out = ListBuilder::new(StringViewBuilder::new());
            for row in 0..rows {
                let found = match (text(0, row), text(1, row), flags(2, row)) {
                    (Some(s), Some(pattern), Some(flags)) => cached_regex(pattern, flags)?.captures(s),
                    _ => None,
                };
                if let Some(found) = &found {
                    for group in usize::from(found.len() > 1)..found.len() {
                        out.values().append_option(found.get(group).map(|m| m.as_str()));
                    }
                }
                out.append(found.is_some());
            }
            Arc::new(out.finish())
        }
        F::RegexpSplitToArray => {
            let mut out = ListBuilder::new(StringViewBuilder::new());
            for row in 0..rows {
                let both = text(0, row).zip(text(1, row));
                if let Some((s, pattern)) = both {
                    cached_regex(pattern, "")?.split(s).for_each(|part| out.values().append_value(part));
                }
                out.append(both.is_some());
            }
            Arc::new(out.finish())
        }
        other => return Err(Error::internal(format!("{} is no function of patterns", other.name()))),
    })
}

/// PostgreSQL writes groups as `\\1` and the whole match as `\\&`.
fn replacement_of(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut characters = text.chars();
    while let Some(c) = characters.next() {
        match c {
            '$' => out.push_str("$$"),
            '\\' => match characters.next() {
                Some(digit) if digit.is_ascii_digit() => out.push_str(&format!("${{{digit}}}")),
                Some('&') => out.push_str("${0}"),
                Some(other) => out.push(other),
                None => out.push('\\'),
            },
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn similar_patterns_match_whole_texts() {
        for (pattern, text, expected) in [
            ("Q%", "Quay", true),
            ("Q_ay", "Quay", true),
            ("(Quay|Steps)", "Steps", true),
            ("(Quay|Steps)", "Steps 2", false),
            ("[A-Q]%", "Quay", true),
            ("a.c", "abc", false),
            ("%(y|s)", "Quay", true),
            ("a+b{2}", "aabb", true),
        ] {
            let regex = cached_regex(&similar(pattern, Some('\\')), "").unwrap();
            assert_eq!(regex.is_match(text), expected, "{text} similar to {pattern}");
        }
    }
}
