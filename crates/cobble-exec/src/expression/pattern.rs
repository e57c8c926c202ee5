//! Patterns: POSIX regular expressions and SIMILAR TO (PostgreSQL manual 9.7), by way of the `regex` crate.

use std::cell::RefCell;
use std::collections::HashMap;

use cobble_types::{Code, Error, Result};
use regex::{Regex, RegexBuilder};

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
                Error::new(Code::InvalidValue, format!("\"{pattern}\" is not a regular expression: {last}"))
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
