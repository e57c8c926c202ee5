//! Arrays as texts: `{1,2,NULL}`, `{a,"b c"}` or `{{1,2},{3,4}}` (PostgreSQL manual 8.15.2). The text says how many dimensions there
//! are, whatever the type's name does.

use std::iter::Peekable;
use std::str::Chars;

/// An item of an array that has been read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ArrayItem {
    Null,
    Text(String),
    Array(Vec<ArrayItem>),
}

/// Dimensions that an array may have.
const DEEPEST: usize = 6;

/// The items of an array; nothing where the text is none, or where its parts have not the same dimensions.
pub fn parse_array(text: &str) -> Option<Vec<ArrayItem>> {
    let mut characters = text.trim().chars().peekable();
    let items = nested(&mut characters, 1)?;
    characters.next().is_none().then_some(items)
}

fn skip(characters: &mut Peekable<Chars>) {
    while characters.next_if(|c| c.is_whitespace()).is_some() {}
}

/// An array from its opening brace on.
fn nested(characters: &mut Peekable<Chars>, depth: usize) -> Option<Vec<ArrayItem>> {
    skip(characters);
    if depth > DEEPEST || characters.next_if_eq(&'{').is_none() {
        return None;
    }
    let mut items = Vec::new();
    skip(characters);
    if characters.next_if_eq(&'}').is_some() {
        return Some(items);
    }
    loop {
        skip(characters);
        items.push(match characters.peek() {
            Some('{') => ArrayItem::Array(nested(characters, depth + 1)?),
            Some('"') => ArrayItem::Text(quoted(characters)?),
            _ => {
                let mut text = String::new();
                while let Some(c) = characters.next_if(|c| !matches!(c, ',' | '}' | '{' | '"')) {
                    match c {
                        '\\' => text.extend(characters.next()),
                        c => text.push(c),
                    }
                }
                text.truncate(text.trim_end().len());
                match text.as_str() {
                    "" => return None,
                    word if word.eq_ignore_ascii_case("null") => ArrayItem::Null,
                    _ => ArrayItem::Text(text),
                }
            }
        });
        skip(characters);
        match characters.next() {
            Some(',') => {}
            Some('}') => break,
            _ => return None,
        }
    }
    // Every part has been found to be even in itself.
    let shape_of = |item: &ArrayItem| {
        let (mut shape, mut item) = (vec![], item);
        while let ArrayItem::Array(inner) = item {
            shape.push(inner.len());
            match inner.first() {
                Some(first) => item = first,
                None => break,
            }
        }
        shape
    };
    let first = shape_of(items.first()?);
    items.iter().all(|item| shape_of(item) == first).then_some(items)
}

fn quoted(characters: &mut Peekable<Chars>) -> Option<String> {
    characters.next();
    let mut text = String::new();
    loop {
        match characters.next()? {
            '"' => return Some(text),
            '\\' => text.extend(characters.next()),
            c => text.push(c),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_are_read_with_their_quotes() {
        let text = |t: &str| ArrayItem::Text(t.to_owned());
        assert_eq!(parse_array("{}"), Some(vec![]));
        assert_eq!(
            parse_array(r#" { 1, NULL ,"NULL","a,\"b",a\,b , c d } "#),
            Some(vec![text("1"), ArrayItem::Null, text("NULL"), text("a,\"b"), text("a,b"), text("c d")])
        );
        assert_eq!(
            parse_array("{{1},{2}}"),
            Some(vec![ArrayItem::Array(vec![text("1")]), ArrayItem::Array(vec![text("2")])])
        );
        for bad in ["", "abc", "{1", "{1}}", "{,}", "{1,}", "{{1},2}", "{{1,2},{3}}", "{\"a}", "{1}x"] {
            assert_eq!(parse_array(bad), None, "{bad}");
        }
    }
}
