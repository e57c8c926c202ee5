//! Patterns: POSIX regular expressions and SIMILAR TO (PostgreSQL manual 9.7), by way of the `regex` crate, and of
//! `fancy-regex` for look-around and back-references.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::DataType;
use cobble_plan::function::Function;
use cobble_types::{Code, Error, Result};
use regex::{Regex, RegexBuilder};

use super::Evaluated;
use super::text::{Integers, Texts, build};

/// Compiled expressions that a thread remembers.
const REMEMBERED: usize = 64;

/// Steps that a pattern with look-around or back-references may take on one text, which are not bounded otherwise.
const MOST_STEPS: usize = 1_000_000;

/// A compiled regular expression: by the matcher that is linear in the text, or, for what that cannot, by one that goes back and
/// forth within a bound.
pub(crate) enum Pattern {
    Linear(Regex),
    Bounded(fancy_regex::Regex),
}

fn too_long(error: &fancy_regex::Error) -> Error {
    Error::new(Code::TooComplex, format!("a regular expression takes too many steps on this text: {error}"))
        .hint("look-around and back-references are costly: a pattern without them has no such bound")
}

impl Pattern {
    pub fn is_match(&self, text: &str) -> Result<bool> {
        match self {
            Pattern::Linear(regex) => Ok(regex.is_match(text)),
            Pattern::Bounded(regex) => regex.is_match(text).map_err(|e| too_long(&e)),
        }
    }

    fn find_at(&self, text: &str, from: usize) -> Result<Option<Found>> {
        if from > text.len() {
            return Ok(None);
        }
        Ok(match self {
            Pattern::Linear(regex) => regex
                .captures_at(text, from)
                .map(|c| Found(c.iter().map(|group| group.map(|m| (m.start(), m.end()))).collect())),
            Pattern::Bounded(regex) => regex
                .captures_from_pos(text, from)
                .map_err(|e| too_long(&e))?
                .map(|c| Found(c.iter().map(|group| group.map(|m| (m.start(), m.end()))).collect())),
        })
    }
}

thread_local! {
    static KNOWN: RefCell<HashMap<(String, String), Rc<Pattern>>> = RefCell::default();
}

/// The compiled pattern. Flags: `i` without regard to case, `n` and `m` for lines, `x` with blanks ignored, `g` for all
/// matches, which the caller heeds, `q` for a text that is meant as it is.
pub(crate) fn cached(pattern: &str, flags: &str) -> Result<Rc<Pattern>> {
    KNOWN.with_borrow_mut(|known| {
        if let Some(regex) = known.get(&(pattern.to_owned(), flags.to_owned())) {
            return Ok(regex.clone());
        }
        if let Some(unknown) = flags.chars().find(|c| !"gincsmxtqe".contains(*c)) {
            return Err(Error::new(Code::InvalidValue, format!("\"{unknown}\" is not a flag of a regular expression")));
        }
        let compiled = Rc::new(compile(pattern, flags)?);
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert((pattern.to_owned(), flags.to_owned()), compiled.clone());
        Ok(compiled)
    })
}

fn compile(pattern: &str, flags: &str) -> Result<Pattern> {
    let lines = flags.contains(['n', 'm']);
    // The last of two contrary flags holds.
    let case_insensitive = flags.rfind(['i', 'c']).is_some_and(|at| flags[at..].starts_with('i'));
    let own = if flags.contains('q') { regex::escape(pattern) } else { translated(pattern) };
    let linear = RegexBuilder::new(&own)
        .case_insensitive(case_insensitive)
        .multi_line(lines)
        .dot_matches_new_line(!lines)
        .ignore_whitespace(flags.contains('x'))
        .build();
    let refused = match linear {
        Ok(regex) => return Ok(Pattern::Linear(regex)),
        Err(e) => e,
    };
    let mut options = String::from(if lines { "m" } else { "s" });
    options.push_str(if case_insensitive { "i" } else { "" });
    options.push_str(if flags.contains('x') { "x" } else { "" });
    let bounded = fancy_regex::RegexBuilder::new(&format!("(?{options}){own}")).backtrack_limit(MOST_STEPS).build();
    bounded.map(Pattern::Bounded).map_err(|_| {
        let why = refused.to_string();
        let last = why.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        Error::new(Code::InvalidRegex, format!("\"{pattern}\" is not a regular expression: {last}"))
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
            match characters.next() {
                // PostgreSQL reads classes of characters here, such as that of digits.
                Some(class @ ('d' | 's' | 'w' | 'D' | 'S' | 'W')) => out.extend(['\\', class]),
                Some(next) => out.push_str(&regex::escape(&next.to_string())),
                None => {}
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

/// A match with its groups, as places in bytes.
struct Found(Vec<Option<(usize, usize)>>);

impl Found {
    fn whole(&self) -> (usize, usize) {
        self.0.first().copied().flatten().unwrap_or((0, 0))
    }

    fn group(&self, n: usize) -> Option<(usize, usize)> {
        self.0.get(n).copied().flatten()
    }
}

/// The matches from a place on. An empty one moves on by a character; one may stand right behind another match, as in PostgreSQL.
fn matches(pattern: &Pattern, text: &str, from: usize, most: usize) -> Result<Vec<Found>> {
    let mut all = Vec::new();
    let mut at = from;
    while at <= text.len() && all.len() < most {
        let Some(found) = pattern.find_at(text, at)? else { break };
        let (start, end) = found.whole();
        at = match end > start {
            true => end,
            false => text[end..].chars().next().map_or(text.len() + 1, |c| end + c.len_utf8()),
        };
        all.push(found);
    }
    Ok(all)
}

/// The byte at which a character stands, counted from one; the end for places beyond it.
fn place_of(text: &str, start: i32, function: Function) -> Result<usize> {
    if start < 1 {
        return Err(Error::new(Code::InvalidValue, format!("{}() starts at a character above zero", function.name())));
    }
    Ok(text
        .char_indices()
        .nth(start as usize - 1)
        .map_or(text.len() + usize::from(start as usize > text.chars().count() + 1), |(at, _)| at))
}

fn above_zero(n: i32, what: &str, function: Function) -> Result<usize> {
    usize::try_from(n).ok().filter(|n| *n > 0).ok_or_else(|| {
        Error::new(Code::InvalidValue, format!("the {what} of {}() must be above zero", function.name()))
    })
}

/// `text op pattern` for operators of patterns, by their sign.
pub(super) fn compare(symbol: &str, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    let (negated, own) = symbol.strip_prefix('!').map_or((false, symbol), |own| (true, own));
    let found = match own {
        "~~" => arrow::compute::like(left, right)?,
        "~~*" => arrow::compute::ilike(left, right)?,
        "~" | "~*" => {
            let (texts, patterns) = (Texts::of(left), Texts::of(right));
            let flags = if own == "~*" { "i" } else { "" };
            let mut out = BooleanBuilder::new();
            for row in 0..left.array().len().max(right.array().len()) {
                match texts.get(row).zip(patterns.get(row)) {
                    Some((text, pattern)) => out.append_value(cached(pattern, flags)?.is_match(text)?),
                    None => out.append_null(),
                }
            }
            out.finish()
        }
        other => return Err(Error::internal(format!("\"{other}\" compares nothing"))),
    };
    Ok(if negated { arrow::compute::not(&found)? } else { found })
}

/// The escape character of SIMILAR TO: the backslash, another one, or none.
fn escape_of(written: Option<&str>) -> Result<Option<char>> {
    let Some(written) = written else { return Ok(Some('\\')) };
    let mut characters = written.chars();
    match (characters.next(), characters.next()) {
        (one, None) => Ok(one),
        _ => Err(Error::new(Code::EscapeSequence, "ESCAPE takes one character or none")),
    }
}

/// `substring(text SIMILAR pattern ESCAPE e)`: the part between the two escaped quotes (SQL:2016 part 2, 6.32).
fn similar_part<'t>(text: &'t str, pattern: &str, escape: &str) -> Result<Option<&'t str>> {
    let Some(escape) = escape_of(Some(escape))? else {
        let whole = cached(&similar(pattern, None), "")?;
        return Ok(whole.is_match(text)?.then_some(text));
    };
    let mark = format!("{escape}\"");
    let parts: Vec<&str> = pattern.split(mark.as_str()).collect();
    let inner = |part: &str| {
        let whole = similar(part, Some(escape));
        whole.trim_start_matches("^(?:").trim_end_matches(")$").to_owned()
    };
    let (regex, group) = match parts.as_slice() {
        [only] => (similar(only, Some(escape)), 0),
        // The first part takes as little as it can.
        [before, part, after] => (format!("^(?:{})({})(?:{})$", lazily(&inner(before)), inner(part), inner(after)), 1),
        _ => {
            return Err(Error::new(Code::InvalidValue, "a pattern has two escaped quotes or none"));
        }
    };
    let found = cached(&regex, "")?.find_at(text, 0)?;
    Ok(found.and_then(|found| found.group(group)).map(|(start, end)| &text[start..end]))
}

fn lazily(pattern: &str) -> String {
    pattern.replace(".*", ".*?")
}

pub(super) fn call(function: Function, arguments: &[&Evaluated], rows: usize) -> Result<ArrayRef> {
    use Function as F;
    let text = |i: usize, row: usize| Texts::of(arguments[i]).get(row);
    let flags = |i: usize, row: usize| arguments.get(i).map_or(Some(""), |_| text(i, row));
    // A number that may be left out.
    let number = |i: usize, row: usize, otherwise: i32| {
        arguments.get(i).map_or(Some(otherwise), |_| Integers::of(arguments[i]).get(row))
    };
    Ok(match function {
        F::RegexpLike => {
            let mut out = BooleanBuilder::with_capacity(rows);
            for row in 0..rows {
                match (text(0, row), text(1, row), flags(2, row)) {
                    (Some(s), Some(pattern), Some(flags)) => out.append_value(cached(pattern, flags)?.is_match(s)?),
                    _ => out.append_null(),
                }
            }
            Arc::new(out.finish())
        }
        F::SimilarTo => {
            let mut out = BooleanBuilder::with_capacity(rows);
            for row in 0..rows {
                let escape = if arguments.len() > 2 { text(2, row).map(Some) } else { Some(None) };
                match (text(0, row), text(1, row), escape) {
                    (Some(s), Some(pattern), Some(escape)) => {
                        out.append_value(cached(&similar(pattern, escape_of(escape)?), "")?.is_match(s)?);
                    }
                    _ => out.append_null(),
                }
            }
            Arc::new(out.finish())
        }
        F::LikeEscape => build(rows, |row| {
            let Some((pattern, escape)) = text(0, row).zip(text(1, row)) else { return Ok(None) };
            Ok(Some(Cow::Owned(cobble_types::characters::with_escape(pattern, escape)?)))
        })?,
        F::SimilarSubstring => build(rows, |row| {
            let Some(((s, pattern), escape)) = text(0, row).zip(text(1, row)).zip(text(2, row)) else {
                return Ok(None);
            };
            Ok(similar_part(s, pattern, escape)?.map(Cow::Borrowed))
        })?,
        F::RegexpReplace => build(rows, |row| {
            let (Some(s), Some(pattern), Some(replacement)) = (text(0, row), text(1, row), text(2, row)) else {
                return Ok(None);
            };
            let by_number = arguments.get(3).is_some_and(|a| matches!(a.array().data_type(), DataType::Int32));
            let (start, n, flags) = match by_number {
                true => (number(3, row, 1), number(4, row, 1), flags(5, row)),
                false => (Some(1), Some(1), flags(3, row)),
            };
            let (Some(start), Some(n), Some(flags)) = (start, n, flags) else { return Ok(None) };
            if n < 0 {
                return Err(Error::new(
                    Code::InvalidValue,
                    "regexp_replace() counts matches from one, or zero for all",
                ));
            }
            let all = if by_number && arguments.len() > 4 { n == 0 } else { flags.contains('g') };
            let regex = cached(pattern, flags)?;
            let most = if all { usize::MAX } else { n.max(1) as usize };
            let found = matches(&regex, s, place_of(s, start, function)?, most)?;
            let mut out = String::with_capacity(s.len());
            let mut at = 0;
            for found in found.iter().skip(if all { 0 } else { n.max(1) as usize - 1 }) {
                let (start, end) = found.whole();
                out.push_str(&s[at..start]);
                replace(s, found, replacement, &mut out);
                at = end;
            }
            out.push_str(&s[at..]);
            Ok(Some(Cow::Owned(out)))
        })?,
        F::RegexpSubstr | F::RegexpInstr => {
            let substr = function == F::RegexpSubstr;
            let (flags_at, group_at) = if substr { (4, 5) } else { (5, 6) };
            let look = |row: usize| -> Result<Option<Option<(usize, usize)>>> {
                let (Some(s), Some(pattern), Some(start), Some(n), Some(flags), Some(group)) = (
                    text(0, row),
                    text(1, row),
                    number(2, row, 1),
                    number(3, row, 1),
                    flags(flags_at, row),
                    number(group_at, row, 0),
                ) else {
                    return Ok(None);
                };
                let n = above_zero(n, "number", function)?;
                let group = usize::try_from(group).map_err(|_| {
                    Error::new(Code::InvalidValue, format!("the group of {}() is negative", function.name()))
                })?;
                let found = matches(&*cached(pattern, flags)?, s, place_of(s, start, function)?, n)?;
                // substring(text FROM pattern) gives the first group, if there is one.
                let first_group = substr && arguments.len() == 2;
                Ok(Some(found.get(n - 1).and_then(|found| match first_group && found.0.len() > 1 {
                    true => found.group(1),
                    false => found.group(group),
                })))
            };
            if substr {
                return build(rows, |row| {
                    let s = text(0, row).unwrap_or_default();
                    Ok(look(row)?.flatten().map(|(start, end)| Cow::Borrowed(&s[start..end])))
                });
            }
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                let Some(at_end) = number(4, row, 0) else {
                    out.append_null();
                    continue;
                };
                if !(0..=1).contains(&at_end) {
                    return Err(Error::new(Code::InvalidValue, "the end option of regexp_instr() is 0 or 1"));
                }
                let s = text(0, row).unwrap_or_default();
                let count = |byte: usize| s[..byte].chars().count() as i32 + 1;
                out.append_option(
                    look(row)?
                        .map(|found| found.map_or(0, |(start, end)| count(if at_end == 1 { end } else { start }))),
                );
            }
            Arc::new(out.finish())
        }
        F::RegexpCount => {
            let mut out = Int32Builder::with_capacity(rows);
            for row in 0..rows {
                match (text(0, row), text(1, row), number(2, row, 1), flags(3, row)) {
                    (Some(s), Some(pattern), Some(start), Some(flags)) => {
                        let from = place_of(s, start, function)?;
                        out.append_value(matches(&*cached(pattern, flags)?, s, from, usize::MAX)?.len() as i32);
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
                    (Some(s), Some(pattern), Some(flags)) => cached(pattern, flags)?.find_at(s, 0)?.map(|f| (s, f)),
                    _ => None,
                };
                if let Some((s, found)) = &found {
                    for group in usize::from(found.0.len() > 1)..found.0.len() {
                        out.values().append_option(found.group(group).map(|(start, end)| &s[start..end]));
                    }
                }
                out.append(found.is_some());
            }
            Arc::new(out.finish())
        }
        F::RegexpSplitToArray => {
            let mut out = ListBuilder::new(StringViewBuilder::new());
            for row in 0..rows {
                let all = text(0, row).zip(text(1, row)).zip(flags(2, row));
                if let Some(((s, pattern), flags)) = all {
                    split(pattern, flags, s)?.into_iter().for_each(|part| out.values().append_value(part));
                }
                out.append(all.is_some());
            }
            Arc::new(out.finish())
        }
        other => return Err(Error::internal(format!("{} is no function of patterns", other.name()))),
    })
}

/// The parts of a text between matches. Empty matches at its ends and right behind another match separate nothing.
pub(crate) fn split<'t>(pattern: &str, flags: &str, text: &'t str) -> Result<Vec<&'t str>> {
    let mut parts = Vec::new();
    let mut at = 0;
    for found in matches(&*cached(pattern, flags)?, text, 0, usize::MAX)? {
        let (start, end) = found.whole();
        if start == end && (start == at || end == text.len()) {
            continue;
        }
        parts.push(&text[at..start]);
        at = end;
    }
    parts.push(&text[at..]);
    Ok(parts)
}

/// All matches of a pattern as their groups, or as the whole where it has none; the first alone unless there is a flag `g`.
pub(crate) fn all_matches(pattern: &str, flags: &str, text: &str) -> Result<Vec<Vec<Option<String>>>> {
    let most = if flags.contains('g') { usize::MAX } else { 1 };
    let found = matches(&*cached(pattern, flags)?, text, 0, most)?;
    let groups = |found: &Found| {
        let groups = usize::from(found.0.len() > 1)..found.0.len();
        groups.map(|n| found.group(n).map(|(start, end)| text[start..end].to_owned())).collect()
    };
    Ok(found.iter().map(groups).collect())
}

/// Writes a replacement, in which `\\1` to `\\9` are groups and `\\&` is the whole match.
fn replace(text: &str, found: &Found, replacement: &str, out: &mut String) {
    let mut characters = replacement.chars();
    while let Some(c) = characters.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        let group = match characters.next() {
            Some('&') => found.group(0),
            Some(digit @ '1'..='9') => found.group(digit as usize - '0' as usize),
            Some('\\') | None => {
                out.push('\\');
                continue;
            }
            Some(other) => {
                out.push('\\');
                out.push(other);
                continue;
            }
        };
        if let Some((start, end)) = group {
            out.push_str(&text[start..end]);
        }
    }
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
            let regex = cached(&similar(pattern, Some('\\')), "").unwrap();
            assert_eq!(regex.is_match(text).unwrap(), expected, "{text} similar to {pattern}");
        }
    }
}
