//! Patterns: POSIX regular expressions and SIMILAR TO (PostgreSQL manual 9.7), by way of the `regex` crate, and of
//! `fancy-regex` for look-around and back-references.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use arrow::array::*;
use cobble_types::{Code, Error, Result};
use regex::{Regex, RegexBuilder};

use crate::budget;
use crate::signature::{Overload, Returns, Scalar, Takes};
use crate::{Call, Evaluated};

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
fn place_of(text: &str, start: i32, call: &Call) -> Result<usize> {
    if start < 1 {
        return Err(Error::new(Code::InvalidValue, format!("{}() starts at a character above zero", call.name)));
    }
    Ok(text
        .char_indices()
        .nth(start as usize - 1)
        .map_or(text.len() + usize::from(start as usize > text.chars().count() + 1), |(at, _)| at))
}

fn above_zero(n: i32, what: &str, call: &Call) -> Result<usize> {
    usize::try_from(n)
        .ok()
        .filter(|n| *n > 0)
        .ok_or_else(|| Error::new(Code::InvalidValue, format!("the {what} of {}() must be above zero", call.name)))
}

/// `text op pattern` for operators of patterns, by their sign.
pub(super) fn compare(symbol: &str, left: &Evaluated, right: &Evaluated) -> Result<BooleanArray> {
    let (negated, own) = symbol.strip_prefix('!').map_or((false, symbol), |own| (true, own));
    let found = match own {
        "~~" => arrow::compute::like(left, right)?,
        "~~*" => arrow::compute::ilike(left, right)?,
        "~" | "~*" => {
            let (texts, patterns) = (left.array().as_string_view(), right.array().as_string_view());
            let flags = if own == "~*" { "i" } else { "" };
            let mut out = BooleanBuilder::new();
            for row in 0..left.array().len().max(right.array().len()) {
                let (i, j) = (left.place(row), right.place(row));
                match texts.is_valid(i) && patterns.is_valid(j) {
                    true => out.append_value(cached(patterns.value(j), flags)?.is_match(texts.value(i))?),
                    false => out.append_null(),
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

/// The parts of a text between matches. Empty matches at its ends and right behind another match separate nothing.
pub fn split<'t>(pattern: &str, flags: &str, text: &'t str) -> Result<Vec<&'t str>> {
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
pub fn all_matches(pattern: &str, flags: &str, text: &str) -> Result<Vec<Vec<Option<String>>>> {
    let most = if flags.contains('g') { usize::MAX } else { 1 };
    let found = matches(&*cached(pattern, flags)?, text, 0, most)?;
    let groups = |found: &Found| {
        let groups = usize::from(found.0.len() > 1)..found.0.len();
        groups.map(|n| found.group(n).map(|(start, end)| text[start..end].to_owned())).collect()
    };
    Ok(found.iter().map(groups).collect())
}

/// Writes a replacement: `\\1` to `\\9` stand for groups and `\\&` for the whole match.
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

pub(crate) const REGEXP_LIKE: Scalar = Scalar::new(
    "regexp_like",
    "text, pattern [, flags]",
    "Whether a regular expression matches; with the flag `i` regardless of case.",
    ("regexp_like('North Quay', 'quay$', 'i')", "true"),
    &[Overload::with_optional(&[Takes::Text; 3], 1, Returns::Boolean, |call| {
        let (text, pattern, flags) = (call.texts(0), call.texts(1), call.texts_or(2, ""));
        call.make_flags(|row| match (text.get(row), pattern.get(row), flags(row)) {
            (Some(s), Some(pattern), Some(flags)) => cached(pattern, flags)?.is_match(s).map(Some),
            _ => Ok(None),
        })
    })],
);

pub(crate) const SIMILAR_TO: Scalar = Scalar::new(
    "similar_to",
    "text, pattern [, escape]",
    "Whether a pattern of SQL's own kind matches the whole text; written `text SIMILAR TO pattern`.",
    ("'Quay 4' SIMILAR TO '(Quay|Pier)%'", "true"),
    &[Overload::with_optional(&[Takes::Text; 3], 1, Returns::Boolean, |call| {
        let (text, pattern, escape) = (call.texts(0), call.texts(1), call.has(2).then(|| call.texts(2)));
        call.make_flags(|row| {
            let escape = match &escape {
                None => Some(None),
                Some(escape) => escape.get(row).map(Some),
            };
            match (text.get(row), pattern.get(row), escape) {
                (Some(s), Some(pattern), Some(escape)) => {
                    cached(&similar(pattern, escape_of(escape)?), "")?.is_match(s).map(Some)
                }
                _ => Ok(None),
            }
        })
    })],
);

pub(crate) const LIKE_ESCAPE: Scalar = Scalar::new(
    "like_escape",
    "pattern, escape",
    "A pattern of LIKE with another escape character in the form that has the backslash.",
    ("like_escape('100#%', '#')", "100\\%"),
    &[Overload::of(&[Takes::Text; 2], Returns::Text, |call| {
        let (pattern, escape) = (call.texts(0), call.texts(1));
        call.make_strings(|row| {
            let both = pattern.get(row).zip(escape.get(row));
            both.map(|(pattern, escape)| cobble_types::characters::with_escape(pattern, escape)).transpose()
        })
    })],
);

pub(crate) const SIMILAR_SUBSTRING: Scalar = Scalar::new(
    "similar_substring",
    "text, pattern, escape",
    "The part between two escaped quotes of a pattern; written `substring(text SIMILAR pattern ESCAPE escape)`.",
    ("substring('Quay 12b' SIMILAR '%#\"[0-9]+#\"%' ESCAPE '#')", "12"),
    &[Overload::of(&[Takes::Text; 3], Returns::Text, |call| {
        let (text, pattern, escape) = (call.texts(0), call.texts(1), call.texts(2));
        call.make_texts(|row| {
            let Some(((s, pattern), escape)) = text.get(row).zip(pattern.get(row)).zip(escape.get(row)) else {
                return Ok(None);
            };
            Ok(similar_part(s, pattern, escape)?.map(Cow::Borrowed))
        })
    })],
);

pub(crate) const REGEXP_REPLACE: Scalar = Scalar::new(
    "regexp_replace",
    "text, pattern, replacement [, start [, n]] [, flags]",
    r"The first match of a regular expression replaced, the n-th, or with the flag `g` all; `\1` stands for the first group.",
    (r"regexp_replace('Quay 12', '([0-9]+)', 'no. \1')", "Quay no. 12"),
    &[
        Overload::with_optional(&[Takes::Text; 4], 1, Returns::Text, |call| {
            let flags = call.texts_or(3, "");
            replaced(call, |row| flags(row).map(|flags| (1, usize::from(!flags.contains('g')) as i32, flags)))
        }),
        // Flags may stand in the place of a start.
        Overload::with_optional(
            &[Takes::Text, Takes::Text, Takes::Text, Takes::Integer, Takes::Integer, Takes::Text],
            2,
            Returns::Text,
            |call| {
                let (start, n, flags) = (call.integers(3), call.integers_or(4, 1), call.texts_or(5, ""));
                let counted = call.has(4);
                replaced(call, |row| {
                    let (start, n, flags) = (start.get(row)?, n(row)?, flags(row)?);
                    Some((start, if counted || !flags.contains('g') { n } else { 0 }, flags))
                })
            },
        ),
    ],
);

/// Each text with a match replaced; `place` gives where to begin, which match, counted from one, or zero for all, and the flags.
fn replaced<'f>(call: &Call, place: impl Fn(usize) -> Option<(i32, i32, &'f str)>) -> Result<ArrayRef> {
    let (text, pattern, replacement) = (call.texts(0), call.texts(1), call.texts(2));
    call.make_strings(|row| {
        let (Some(s), Some(pattern), Some(replacement)) = (text.get(row), pattern.get(row), replacement.get(row))
        else {
            return Ok(None);
        };
        let Some((start, n, flags)) = place(row) else { return Ok(None) };
        let n = usize::try_from(n)
            .map_err(|_| Error::new(Code::InvalidValue, "regexp_replace() counts matches from one, or zero for all"))?;
        let regex = cached(pattern, flags)?;
        let most = if n == 0 { usize::MAX } else { n };
        let found = matches(&regex, s, place_of(s, start, call)?, most)?;
        let mut out = String::with_capacity(s.len());
        let mut at = 0;
        for found in found.iter().skip(n.saturating_sub(1)) {
            let (start, end) = found.whole();
            out.push_str(&s[at..start]);
            replace(s, found, replacement, &mut out);
            budget::expect(call.name, out.len())?;
            at = end;
        }
        out.push_str(&s[at..]);
        Ok(Some(out))
    })
}

/// A match of each row's pattern and where it begins and ends: nothing for a null, nothing inside where there is none.
type Place = Option<Option<(usize, usize)>>;

/// Looks for the n-th match, and in it for a group. The arguments behind the pattern are the start and the number, then those at
/// the given places. With `first_group`, the first group of the pattern counts where it has one.
fn find_each<'c>(
    call: &'c Call,
    flags_at: usize,
    group_at: usize,
    first_group: bool,
) -> impl Fn(usize) -> Result<Place> + 'c {
    let (text, pattern) = (call.texts(0), call.texts(1));
    let (start, n) = (call.integers_or(2, 1), call.integers_or(3, 1));
    let (flags, group) = (call.texts_or(flags_at, ""), call.integers_or(group_at, 0));
    move |row| {
        let (Some(s), Some(pattern), Some(start), Some(n), Some(flags), Some(group)) =
            (text.get(row), pattern.get(row), start(row), n(row), flags(row), group(row))
        else {
            return Ok(None);
        };
        let n = above_zero(n, "number", call)?;
        let group = usize::try_from(group)
            .map_err(|_| Error::new(Code::InvalidValue, format!("the group of {}() is negative", call.name)))?;
        let found = matches(&*cached(pattern, flags)?, s, place_of(s, start, call)?, n)?;
        Ok(Some(found.get(n - 1).and_then(|found| match first_group && found.0.len() > 1 {
            true => found.group(1),
            false => found.group(group),
        })))
    }
}

pub(crate) const REGEXP_SUBSTR: Scalar = Scalar::new(
    "regexp_substr",
    "text, pattern [, start [, n [, flags [, group]]]]",
    "The part that a regular expression matches, the n-th such part, or a group of it.",
    ("regexp_substr('Quay 12, berth 4', '[0-9]+', 1, 2)", "4"),
    &[Overload::with_optional(
        &[Takes::Text, Takes::Text, Takes::Integer, Takes::Integer, Takes::Text, Takes::Integer],
        4,
        Returns::Text,
        |call| {
            // substring(text FROM pattern) gives the first group, if there is one.
            let (text, find) = (call.texts(0), find_each(call, 4, 5, call.count() == 2));
            call.make_texts(|row| {
                let s = text.get(row).unwrap_or_default();
                Ok(find(row)?.flatten().map(|(start, end)| Cow::Borrowed(&s[start..end])))
            })
        },
    )],
);

pub(crate) const REGEXP_INSTR: Scalar = Scalar::new(
    "regexp_instr",
    "text, pattern [, start [, n [, end [, flags [, group]]]]]",
    "The place of the n-th match, counted from one, or of the character behind it; 0 where there is none.",
    ("regexp_instr('Quay 12', '[0-9]+')", "6"),
    &[Overload::with_optional(
        &[Takes::Text, Takes::Text, Takes::Integer, Takes::Integer, Takes::Integer, Takes::Text, Takes::Integer],
        5,
        Returns::Integer,
        |call| {
            let text = call.texts(0);
            let (find, at_end) = (find_each(call, 5, 6, false), call.integers_or(4, 0));
            call.make_integers(|row| {
                let Some(at_end) = at_end(row) else { return Ok(None) };
                if !(0..=1).contains(&at_end) {
                    return Err(Error::new(Code::InvalidValue, "the end option of regexp_instr() is 0 or 1"));
                }
                let s = text.get(row).unwrap_or_default();
                let count = |byte: usize| s[..byte].chars().count() as i32 + 1;
                Ok(find(row)?.map(|found| found.map_or(0, |(start, end)| count(if at_end == 1 { end } else { start }))))
            })
        },
    )],
);

pub(crate) const REGEXP_COUNT: Scalar = Scalar::new(
    "regexp_count",
    "text, pattern [, start [, flags]]",
    "The number of matches.",
    ("regexp_count('a1b22c', '[0-9]')", "3"),
    &[Overload::with_optional(&[Takes::Text, Takes::Text, Takes::Integer, Takes::Text], 2, Returns::Integer, |call| {
        let (text, pattern) = (call.texts(0), call.texts(1));
        let (start, flags) = (call.integers_or(2, 1), call.texts_or(3, ""));
        call.make_integers(|row| match (text.get(row), pattern.get(row), start(row), flags(row)) {
            (Some(s), Some(pattern), Some(start), Some(flags)) => {
                let from = place_of(s, start, call)?;
                Ok(Some(matches(&*cached(pattern, flags)?, s, from, usize::MAX)?.len() as i32))
            }
            _ => Ok(None),
        })
    })],
);

pub(crate) const REGEXP_MATCH: Scalar = Scalar::new(
    "regexp_match",
    "text, pattern [, flags]",
    "The groups of the first match, or all of it where the pattern has none.",
    ("regexp_match('berth 12b', '([0-9]+)([a-z])')", "{12,b}"),
    &[Overload::with_optional(&[Takes::Text; 3], 1, Returns::TextArray, |call| {
        let (text, pattern, flags) = (call.texts(0), call.texts(1), call.texts_or(2, ""));
        call.make_text_lists(|row| {
            let (Some(s), Some(pattern), Some(flags)) = (text.get(row), pattern.get(row), flags(row)) else {
                return Ok(None);
            };
            let Some(found) = cached(pattern, flags)?.find_at(s, 0)? else { return Ok(None) };
            let groups = usize::from(found.0.len() > 1)..found.0.len();
            Ok(Some(groups.map(|n| found.group(n).map(|(start, end)| Cow::Borrowed(&s[start..end]))).collect()))
        })
    })],
);

pub(crate) const REGEXP_SPLIT_TO_ARRAY: Scalar = Scalar::new(
    "regexp_split_to_array",
    "text, pattern [, flags]",
    "The parts of a text between matches.",
    ("regexp_split_to_array('a1b22c', '[0-9]+')", "{a,b,c}"),
    &[Overload::with_optional(&[Takes::Text; 3], 1, Returns::TextArray, |call| {
        let (text, pattern, flags) = (call.texts(0), call.texts(1), call.texts_or(2, ""));
        call.make_text_lists(|row| {
            let (Some(s), Some(pattern), Some(flags)) = (text.get(row), pattern.get(row), flags(row)) else {
                return Ok(None);
            };
            Ok(Some(split(pattern, flags, s)?.into_iter().map(|part| Some(Cow::Borrowed(part))).collect()))
        })
    })],
);

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
