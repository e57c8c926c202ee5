//! LIKE with a constant pattern of texts between `%`: each text is searched for in turn, with no regular expression. A pattern
//! with `_` or without regard to case uses the general matcher.

use arrow::array::{Array, BooleanArray, StringViewArray};
use arrow::buffer::BooleanBuffer;
use memchr::memmem::Finder;

/// `beginning%middle%…%end`.
pub struct Segments {
    beginning: String,
    middle: Vec<Finder<'static>>,
    /// Nothing when the pattern has no `%`, and the beginning is all of it.
    end: Option<String>,
}

impl Segments {
    /// The pattern in parts, where `\` escapes the next character (PostgreSQL manual 9.7.1).
    pub fn of(pattern: &str) -> Option<Segments> {
        let mut parts = vec![String::new()];
        let mut characters = pattern.chars();
        while let Some(c) = characters.next() {
            match c {
                '%' => parts.push(String::new()),
                '_' => return None,
                // A pattern that ends with an escape is an error, which the general way raises.
                '\\' => parts.last_mut()?.push(characters.next()?),
                c => parts.last_mut()?.push(c),
            }
        }
        let end = if parts.len() > 1 { parts.pop() } else { None };
        let mut parts = parts.into_iter();
        let beginning = parts.next()?;
        let middle = parts.filter(|p| !p.is_empty()).map(|p| Finder::new(p.as_bytes()).into_owned()).collect();
        Some(Segments { beginning, middle, end })
    }

    fn matches(&self, text: &str) -> bool {
        let Some(end) = &self.end else { return text == self.beginning };
        let Some(mut rest) = text.as_bytes().strip_prefix(self.beginning.as_bytes()) else { return false };
        let Some(before_end) = rest.strip_suffix(end.as_bytes()) else { return false };
        rest = before_end;
        for part in &self.middle {
            match part.find(rest) {
                Some(at) => rest = &rest[at + part.needle().len()..],
                None => return false,
            }
        }
        true
    }

    pub fn like(&self, texts: &StringViewArray, negated: bool) -> BooleanArray {
        let found = BooleanBuffer::collect_bool(texts.len(), |row| self.matches(texts.value(row)) != negated);
        BooleanArray::new(found, texts.nulls().cloned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_match_as_sql_says() {
        for (pattern, text, expected) in [
            ("quay", "quay", true),
            ("quay", "quays", false),
            ("q%", "quay", true),
            ("%y", "quay", true),
            ("%ua%", "quay", true),
            ("q%q", "q", false),
            ("q%q", "qq", true),
            ("%a%b%a%", "ab", false),
            ("%a%b%a%", "xaxbxax", true),
            ("%", "", true),
            ("", "", true),
            ("", "x", false),
            ("50\\%%", "50% off", true),
            ("50\\%%", "500", false),
            ("a\\\\b", "a\\b", true),
            ("%é%", "café", true),
        ] {
            assert_eq!(Segments::of(pattern).unwrap().matches(text), expected, "{text} like {pattern}");
        }
        assert!(Segments::of("q_").is_none());
        assert!(Segments::of("q\\").is_none());
    }
}
