//! Functions of texts (PostgreSQL manual 9.4).

use std::borrow::Cow;

use arrow::array::ArrayRef;
use cobble_types::characters::{initcap, left, pad, right, split_part, substring, unescaped};
use cobble_types::{Code, Error, Result};

use super::bytes;
use crate::Call;
use crate::budget::{self, Growing};
use crate::signature::{Overload, Returns, Scalar, Takes};

/// Bytes of the longest text that `repeat`, `lpad` and `rpad` make.
const LONGEST: usize = 64 << 20;

pub(crate) const LOWER: Scalar = Scalar::new(
    "lower",
    "text",
    "The text in lower case, by Unicode's rules.",
    ("lower('Kestrel QUAY')", "kestrel quay"),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(str::to_lowercase))],
);

pub(crate) const UPPER: Scalar = Scalar::new(
    "upper",
    "text",
    "The text in upper case, by Unicode's rules.",
    ("upper('Kestrel')", "KESTREL"),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(str::to_uppercase))],
);

pub(crate) const INITCAP: Scalar = Scalar::new(
    "initcap",
    "text",
    "Each word with its first letter in upper case and the others in lower case.",
    ("initcap('north QUAY')", "North Quay"),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(initcap))],
);

pub(crate) const REVERSE: Scalar = Scalar::new(
    "reverse",
    "text",
    "The characters from the last to the first.",
    ("reverse('quay')", "yauq"),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(|s| s.chars().rev().collect()))],
);

pub(crate) const LENGTH: Scalar = Scalar::new(
    "length",
    "text or bytea [, encoding of the bytea]",
    "The number of characters of a text, or of bytes of a byte string.",
    ("length('Möwe')", "4"),
    &[
        Overload::of(&[Takes::Text], Returns::Integer, |call| {
            let first = call.texts(0);
            call.make_integers(|row| Ok(first.get(row).map(|s| s.chars().count() as i32)))
        }),
        Overload::of(&[Takes::Bytes], Returns::Integer, bytes::length),
    ],
)
.also(&["char_length", "character_length"]);

pub(crate) const OCTET_LENGTH: Scalar = Scalar::new(
    "octet_length",
    "text or bytea",
    "The number of bytes, of a text in UTF-8.",
    ("octet_length('Möwe')", "5"),
    &[
        Overload::of(&[Takes::Text], Returns::Integer, |call| {
            let first = call.texts(0);
            call.make_integers(|row| Ok(first.get(row).map(|s| s.len() as i32)))
        }),
        Overload::of(&[Takes::Bytes], Returns::Integer, bytes::length),
    ],
);

pub(crate) const BIT_LENGTH: Scalar = Scalar::new(
    "bit_length",
    "text or bytea",
    "The number of bits, of a text in UTF-8.",
    ("bit_length('quay')", "32"),
    &[
        Overload::of(&[Takes::Text], Returns::Integer, |call| {
            let first = call.texts(0);
            call.make_integers(|row| Ok(first.get(row).map(|s| s.len() as i32 * 8)))
        }),
        Overload::of(&[Takes::Bytes], Returns::Integer, bytes::bit_length),
    ],
);

pub(crate) const SUBSTRING: Scalar = Scalar::new(
    "substring",
    "text or bytea, start [, count]; text, pattern [, escape]",
    "The part that begins at a place, counted from one, or that a regular expression matches.",
    ("substring('Kestrel' FROM 2 FOR 3)", "est"),
    &[
        Overload::with_optional(&[Takes::Text, Takes::Integer, Takes::Integer], 1, Returns::Text, |call| {
            let (first, start, count) = (call.texts(0), call.integers(1), call.has(2).then(|| call.integers(2)));
            call.make_texts(|row| {
                let (Some(s), Some(start)) = (first.get(row), start.get(row)) else { return Ok(None) };
                let count = match &count {
                    Some(count) => match count.get(row) {
                        Some(n) => Some(n),
                        None => return Ok(None),
                    },
                    None => None,
                };
                Ok(Some(Cow::Borrowed(substring(s, start, count)?)))
            })
        }),
        Overload::with_optional(&[Takes::Bytes, Takes::Integer, Takes::Integer], 1, Returns::Bytes, bytes::substring),
    ],
)
.also(&["substr"]);

/// A part of each text at a number of characters.
fn by_count(call: &Call, f: fn(&str, i32) -> &str) -> Result<ArrayRef> {
    let (first, count) = (call.texts(0), call.integers(1));
    call.make_texts(|row| Ok(first.get(row).zip(count.get(row)).map(|(s, n)| Cow::Borrowed(f(s, n)))))
}

pub(crate) const LEFT: Scalar = Scalar::new(
    "left",
    "text, count",
    "The first characters; a negative count leaves that many out at the end.",
    ("left('Kestrel', 3)", "Kes"),
    &[Overload::of(&[Takes::Text, Takes::Integer], Returns::Text, |call| by_count(call, left))],
);

pub(crate) const RIGHT: Scalar = Scalar::new(
    "right",
    "text, count",
    "The last characters; a negative count leaves that many out at the beginning.",
    ("right('Kestrel', 3)", "rel"),
    &[Overload::of(&[Takes::Text, Takes::Integer], Returns::Text, |call| by_count(call, right))],
);

/// Where what is left of a text begins and ends, without the characters for which the test holds.
type Left = fn(&str, &dyn Fn(char) -> bool) -> (usize, usize);

fn trimmed(call: &Call, f: Left) -> Result<ArrayRef> {
    let (first, set) = (call.texts(0), call.texts_or(1, " "));
    call.make_texts(|row| {
        Ok(first.get(row).zip(set(row)).map(|(s, set)| {
            let (start, end) = f(s, &|c| set.contains(c));
            Cow::Borrowed(&s[start..end])
        }))
    })
}

/// Where the text begins that is left of `s` without such characters at its beginning.
fn start_of(s: &str, within: &dyn Fn(char) -> bool) -> usize {
    s.len() - s.trim_start_matches(within).len()
}

pub(crate) const BTRIM: Scalar = Scalar::new(
    "btrim",
    "text or bytea [, characters]",
    "Without blanks, or certain characters, at both ends.",
    ("btrim('  quay ')", "quay"),
    &[
        Overload::with_optional(&[Takes::Text, Takes::Text], 1, Returns::Text, |call| {
            trimmed(call, |s, within| {
                let start = start_of(s, within);
                (start, start + s[start..].trim_end_matches(within).len())
            })
        }),
        Overload::of(&[Takes::Bytes, Takes::Bytes], Returns::Bytes, |call| bytes::trimmed(call, true, true)),
    ],
)
.also(&["trim"]);

pub(crate) const LTRIM: Scalar = Scalar::new(
    "ltrim",
    "text or bytea [, characters]",
    "Without blanks, or certain characters, at the beginning.",
    ("ltrim('007', '0')", "7"),
    &[
        Overload::with_optional(&[Takes::Text, Takes::Text], 1, Returns::Text, |call| {
            trimmed(call, |s, within| (start_of(s, within), s.len()))
        }),
        Overload::of(&[Takes::Bytes, Takes::Bytes], Returns::Bytes, |call| bytes::trimmed(call, true, false)),
    ],
);

pub(crate) const RTRIM: Scalar = Scalar::new(
    "rtrim",
    "text or bytea [, characters]",
    "Without blanks, or certain characters, at the end.",
    ("rtrim('quay...', '.')", "quay"),
    &[
        Overload::with_optional(&[Takes::Text, Takes::Text], 1, Returns::Text, |call| {
            trimmed(call, |s, within| (0, s.trim_end_matches(within).len()))
        }),
        Overload::of(&[Takes::Bytes, Takes::Bytes], Returns::Bytes, |call| bytes::trimmed(call, false, true)),
    ],
);

pub(crate) const REPLACE: Scalar = Scalar::new(
    "replace",
    "text, from, to",
    "Every occurrence of a text replaced by another.",
    ("replace('North Quay', 'North', 'South')", "South Quay"),
    &[Overload::of(&[Takes::Text; 3], Returns::Text, |call| {
        let (first, from, to) = (call.texts(0), call.texts(1), call.texts(2));
        call.make_texts(|row| {
            let (Some(s), Some(from), Some(to)) = (first.get(row), from.get(row), to.get(row)) else { return Ok(None) };
            if from.is_empty() {
                return Ok(Some(Cow::Borrowed(s)));
            }
            Growing::new(call.name).joined(s.split(from), to).map(|text| Some(Cow::Owned(text)))
        })
    })],
);

pub(crate) const TRANSLATE: Scalar = Scalar::new(
    "translate",
    "text, from, to",
    "Each character that is in `from` replaced by the one in the same place of `to`, or left out where `to` is shorter.",
    ("translate('12-34', '-1', '.')", "2.34"),
    &[Overload::of(&[Takes::Text; 3], Returns::Text, |call| {
        let (first, from, to) = (call.texts(0), call.texts(1), call.texts(2));
        call.make_strings(|row| {
            let (Some(s), Some(from), Some(to)) = (first.get(row), from.get(row), to.get(row)) else { return Ok(None) };
            let to: Vec<char> = to.chars().collect();
            let moved = s.chars().filter_map(|c| match from.chars().position(|f| f == c) {
                Some(place) => to.get(place).copied(),
                None => Some(c),
            });
            Ok(Some(moved.collect()))
        })
    })],
);

pub(crate) const OVERLAY: Scalar = Scalar::new(
    "overlay",
    "text or bytea, replacement, start [, count]",
    "A part replaced: as many characters as the replacement has, or another count, from a place on.",
    ("overlay('North Quay' PLACING 'South' FROM 1)", "South Quay"),
    &[
        Overload::with_optional(&[Takes::Text, Takes::Text, Takes::Integer, Takes::Integer], 1, Returns::Text, overlay),
        Overload::with_optional(
            &[Takes::Bytes, Takes::Bytes, Takes::Integer, Takes::Integer],
            1,
            Returns::Bytes,
            bytes::overlay,
        ),
    ],
);

fn overlay(call: &Call) -> Result<ArrayRef> {
    let (first, new, start) = (call.texts(0), call.texts(1), call.integers(2));
    let count = call.has(3).then(|| call.integers(3));
    call.make_strings(|row| {
        let (Some(s), Some(new), Some(start)) = (first.get(row), new.get(row), start.get(row)) else { return Ok(None) };
        let count = match &count {
            Some(count) => match count.get(row) {
                Some(count) => count,
                None => return Ok(None),
            },
            None => new.chars().count() as i32,
        };
        if start <= 0 {
            return Err(Error::new(Code::InvalidValue, "overlay begins at a place above zero"));
        }
        let after = substring(s, start.saturating_add(count.max(0)), None)?;
        Ok(Some(format!("{}{new}{after}", substring(s, 1, Some(start - 1))?)))
    })
}

pub(crate) const REPEAT: Scalar = Scalar::new(
    "repeat",
    "text, count",
    "The text several times over.",
    ("repeat('ab', 3)", "ababab"),
    &[Overload::of(&[Takes::Text, Takes::Integer], Returns::Text, |call| {
        let (first, count) = (call.texts(0), call.integers(1));
        call.make_strings(|row| {
            let (Some(s), Some(n)) = (first.get(row), count.get(row)) else { return Ok(None) };
            let n = n.max(0) as usize;
            if s.len().saturating_mul(n) > LONGEST {
                return Err(Error::new(Code::InvalidValue, "the repeated text would be larger than 64 MiB"));
            }
            budget::expect(call.name, s.len() * n)?;
            Ok(Some(s.repeat(n)))
        })
    })],
);

fn padded(call: &Call, at_start: bool) -> Result<ArrayRef> {
    let (first, length, fill) = (call.texts(0), call.integers(1), call.texts_or(2, " "));
    call.make_strings(|row| {
        let (Some(s), Some(length), Some(fill)) = (first.get(row), length.get(row), fill(row)) else { return Ok(None) };
        if length > LONGEST as i32 {
            return Err(Error::new(Code::InvalidValue, "the padded text would be larger than 64 MiB"));
        }
        let widest = fill.chars().map(char::len_utf8).max().unwrap_or_default();
        budget::expect(call.name, s.len().saturating_add(length.max(0) as usize * widest))?;
        Ok(Some(pad(s, length, fill, at_start)))
    })
}

pub(crate) const LPAD: Scalar = Scalar::new(
    "lpad",
    "text, length [, fill]",
    "The text filled up at the beginning to a length in characters, or cut to it.",
    ("lpad('7', 3, '0')", "007"),
    &[Overload::with_optional(&[Takes::Text, Takes::Integer, Takes::Text], 1, Returns::Text, |call| {
        padded(call, true)
    })],
);

pub(crate) const RPAD: Scalar = Scalar::new(
    "rpad",
    "text, length [, fill]",
    "The text filled up at the end to a length in characters, or cut to it.",
    ("rpad('7', 3, '.')", "7.."),
    &[Overload::with_optional(&[Takes::Text, Takes::Integer, Takes::Text], 1, Returns::Text, |call| {
        padded(call, false)
    })],
);

pub(crate) const CONCAT: Scalar = Scalar::new(
    "concat",
    "any, …",
    "The texts of all arguments joined; nulls are left out.",
    ("concat('berth ', 4, NULL)", "berth 4"),
    &[Overload::repeated(&[], Takes::AsText, 1, Returns::Text, |call| {
        let parts: Vec<_> = (0..call.count()).map(|i| call.texts(i)).collect();
        call.make_strings(|row| {
            Growing::new(call.name).joined(parts.iter().filter_map(|part| part.get(row)), "").map(Some)
        })
    })],
)
.sees_nulls();

pub(crate) const CONCAT_WS: Scalar = Scalar::new(
    "concat_ws",
    "separator, any, …",
    "The texts of all further arguments joined with a separator; nulls are left out.",
    ("concat_ws(', ', 'North Quay', NULL, 4)", "North Quay, 4"),
    &[Overload::repeated(&[Takes::AsText], Takes::AsText, 1, Returns::Text, |call| {
        let separator = call.texts(0);
        let parts: Vec<_> = (1..call.count()).map(|i| call.texts(i)).collect();
        call.make_strings(|row| {
            let Some(separator) = separator.get(row) else { return Ok(None) };
            Growing::new(call.name).joined(parts.iter().filter_map(|part| part.get(row)), separator).map(Some)
        })
    })],
)
.sees_nulls();

pub(crate) const STRPOS: Scalar = Scalar::new(
    "strpos",
    "text or bytea, part",
    "The place at which a part first occurs, counted from one; 0 where it does not.",
    ("strpos('Kestrel', 'trel')", "4"),
    &[
        Overload::of(&[Takes::Text; 2], Returns::Integer, |call| {
            let (first, part) = (call.texts(0), call.texts(1));
            call.make_integers(|row| {
                let found = |(s, part): (&str, &str)| s.find(part).map_or(0, |at| s[..at].chars().count() as i32 + 1);
                Ok(first.get(row).zip(part.get(row)).map(found))
            })
        }),
        Overload::of(&[Takes::Bytes; 2], Returns::Integer, bytes::position),
    ],
)
.also(&["position"]);

pub(crate) const STARTS_WITH: Scalar = Scalar::new(
    "starts_with",
    "text, prefix",
    "Whether the text begins with another.",
    ("starts_with('North Quay', 'North')", "true"),
    &[Overload::of(&[Takes::Text; 2], Returns::Boolean, |call| {
        let (first, prefix) = (call.texts(0), call.texts(1));
        call.make_flags(|row| Ok(first.get(row).zip(prefix.get(row)).map(|(s, prefix)| s.starts_with(prefix))))
    })],
);

/// Characters of the longest text that `levenshtein` compares, as in PostgreSQL (manual F.17).
const LONGEST_COMPARED: usize = 255;

pub(crate) const LEVENSHTEIN: Scalar = Scalar::new(
    "levenshtein",
    "text, text",
    "The least number of characters to insert, delete or replace that turns one text into the other.",
    ("levenshtein('quay', 'quays')", "1"),
    &[Overload::of(&[Takes::Text; 2], Returns::Integer, |call| {
        let (first, second) = (call.texts(0), call.texts(1));
        call.make_integers(|row| first.get(row).zip(second.get(row)).map(|(a, b)| distance(a, b)).transpose())
    })],
);

/// Row by row of the table of distances between beginnings (Wagner and Fischer, "The String-to-String Correction Problem", 1974).
fn distance(a: &str, b: &str) -> Result<i32> {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    if a.len().max(b.len()) > LONGEST_COMPARED {
        let what = format!("levenshtein() compares texts of at most {LONGEST_COMPARED} characters");
        return Err(Error::new(Code::InvalidValue, what).hint("compare their beginnings, such as left(name, 255)"));
    }
    let mut row: Vec<i32> = (0..=b.len() as i32).collect();
    for (i, from) in a.iter().enumerate() {
        let mut diagonal = row[0];
        row[0] = i as i32 + 1;
        for (j, to) in b.iter().enumerate() {
            let replaced = diagonal + i32::from(from != to);
            diagonal = row[j + 1];
            row[j + 1] = replaced.min(diagonal + 1).min(row[j] + 1);
        }
    }
    Ok(row[b.len()])
}

pub(crate) const SPLIT_PART: Scalar = Scalar::new(
    "split_part",
    "text, separator, n",
    "The n-th part of the text between separators; a negative n counts from the end.",
    ("split_part('a,b,c', ',', 2)", "b"),
    &[Overload::of(&[Takes::Text, Takes::Text, Takes::Integer], Returns::Text, |call| {
        let (first, separator, n) = (call.texts(0), call.texts(1), call.integers(2));
        call.make_texts(|row| {
            let (Some(s), Some(separator), Some(n)) = (first.get(row), separator.get(row), n.get(row)) else {
                return Ok(None);
            };
            Ok(Some(Cow::Borrowed(split_part(s, separator, n)?)))
        })
    })],
);

pub(crate) const ASCII: Scalar = Scalar::new(
    "ascii",
    "text",
    "The number of the first character in Unicode; 0 for an empty text.",
    ("ascii('A')", "65"),
    &[Overload::of(&[Takes::Text], Returns::Integer, |call| {
        let first = call.texts(0);
        call.make_integers(|row| Ok(first.get(row).map(|s| s.chars().next().map_or(0, |c| c as i32))))
    })],
);

pub(crate) const CHR: Scalar = Scalar::new(
    "chr",
    "number",
    "The character with this number in Unicode.",
    ("chr(65)", "A"),
    &[Overload::of(&[Takes::Integer], Returns::Text, |call| {
        let codes = call.integers(0);
        call.make_strings(|row| {
            let Some(code) = codes.get(row) else { return Ok(None) };
            let c = u32::try_from(code).ok().filter(|c| *c > 0).and_then(char::from_u32);
            let c = c.ok_or_else(|| Error::new(Code::InvalidValue, format!("there is no character {code}")))?;
            Ok(Some(c.to_string()))
        })
    })],
);

pub(crate) const MD5: Scalar = Scalar::new(
    "md5",
    "text or bytea",
    "The MD5 checksum (RFC 1321) in hexadecimal digits.",
    ("md5('quay')", "a4499c24763a6dea853a657d5c52efab"),
    &[
        Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(|s| bytes::md5(s.as_bytes()))),
        Overload::of(&[Takes::Bytes], Returns::Text, |call| {
            let first = call.bytes(0);
            call.make_strings(|row| Ok(first.get(row).map(bytes::md5)))
        }),
    ],
);

pub(crate) const UNISTR: Scalar = Scalar::new(
    "unistr",
    "text",
    r"The text with its Unicode escapes, such as `\0041`, replaced by what they stand for.",
    (r"unistr('M\00F6we')", "Möwe"),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| {
        let first = call.texts(0);
        let written = |s: &str| {
            unescaped(s, '\\', true).ok_or_else(|| {
                Error::new(Code::Syntax, "invalid Unicode escape")
                    .hint("write \\XXXX, \\+XXXXXX, \\uXXXX or \\UXXXXXXXX")
            })
        };
        call.make_strings(|row| first.get(row).map(written).transpose())
    })],
);

pub(crate) const NORMALIZE: Scalar = Scalar::new(
    "normalize",
    "text [, NFC, NFD, NFKC or NFKD]",
    "The text in a Unicode normal form, NFC unless another one is named.",
    ("length(normalize('ö', NFD))", "2"),
    &[Overload::with_optional(&[Takes::Text; 2], 1, Returns::Text, |call| {
        let (first, form) = (call.texts(0), call.texts_or(1, "NFC"));
        call.make_strings(|row| Ok(first.get(row).zip(form(row)).map(|(s, form)| normalized(s, form))))
    })],
);

pub(crate) const PARSE_IDENT: Scalar = Scalar::new(
    "parse_ident",
    "text [, strict]",
    "The parts of a qualified name.",
    ("parse_ident('harbour.\"Berths\"')", "{harbour,Berths}"),
    &[Overload::with_optional(&[Takes::Text, Takes::Boolean], 1, Returns::TextArray, |call| {
        let (texts, strict) = (call.texts(0), call.flags_or(1, true));
        call.make_text_lists(|row| {
            let Some((text, strict)) = texts.get(row).zip(strict(row)) else { return Ok(None) };
            let parts = cobble_types::parse_identifier(text, strict)?;
            Ok(Some(parts.into_iter().map(|part| Some(Cow::Owned(part))).collect()))
        })
    })],
);

pub(crate) const QUOTE_IDENT: Scalar = Scalar::new(
    "quote_ident",
    "text",
    "The text as a name in a statement, in quotes where it needs them.",
    ("quote_ident('North Quay')", "\"North Quay\""),
    &[Overload::of(&[Takes::Text], Returns::Text, |call| call.each_text(cobble_types::quote_where_needed))],
);

pub(crate) const QUOTE_LITERAL: Scalar = Scalar::new(
    "quote_literal",
    "any",
    "The value as a literal in a statement.",
    ("quote_literal('it''s')", "'it''s'"),
    &[Overload::of(&[Takes::AsText], Returns::Text, |call| call.each_text(quoted))],
);

pub(crate) const QUOTE_NULLABLE: Scalar = Scalar::new(
    "quote_nullable",
    "any",
    "The value as a literal in a statement, or the word NULL.",
    ("quote_nullable(NULL)", "NULL"),
    &[Overload::of(&[Takes::AsText], Returns::Text, |call| {
        let first = call.texts(0);
        call.make_strings(|row| Ok(Some(first.get(row).map_or("NULL".to_owned(), quoted))))
    })],
)
.sees_nulls();

pub(crate) const FORMAT: Scalar = Scalar::new(
    "format",
    "text [, any, …]",
    "The text with its places filled in: `%s` by a value, `%I` by a name, `%L` by a literal.",
    ("format('%s at %I', 'Kestrel', 'North Quay')", "Kestrel at \"North Quay\""),
    &[Overload::repeated(&[Takes::Text], Takes::AsText, 0, Returns::Text, |call| {
        let template = call.texts(0);
        let values: Vec<_> = (1..call.count()).map(|i| call.texts(i)).collect();
        call.make_strings(|row| {
            let Some(template) = template.get(row) else { return Ok(None) };
            let values: Vec<Option<&str>> = values.iter().map(|value| value.get(row)).collect();
            formatted(template, &values).map(Some)
        })
    })],
)
.sees_nulls();

pub(crate) const TO_HEX: Scalar = Scalar::new(
    "to_hex",
    "integer",
    "The number in hexadecimal digits.",
    ("to_hex(255)", "ff"),
    &[Overload::of(&[Takes::BigInt], Returns::Text, |call| {
        let numbers = call.values::<arrow::datatypes::Int64Type>(0);
        call.make_strings(|row| {
            Ok(numbers.get(row).map(|n| match i32::try_from(n) {
                Ok(small) => format!("{small:x}"),
                Err(_) => format!("{n:x}"),
            }))
        })
    })],
);

/// The text in a normal form (Unicode Standard Annex 15).
fn normalized(text: &str, form: &str) -> String {
    use unicode_normalization::UnicodeNormalization;
    match form.to_ascii_uppercase().as_str() {
        "NFD" => text.nfd().collect(),
        "NFKC" => text.nfkc().collect(),
        "NFKD" => text.nfkd().collect(),
        _ => text.nfc().collect(),
    }
}

fn quoted(text: &str) -> String {
    let inner = text.replace('\'', "''");
    if inner.contains('\\') { format!("E'{}'", inner.replace('\\', "\\\\")) } else { format!("'{inner}'") }
}

/// `%s` a value, `%I` an identifier, `%L` a literal, each with `n$` for the n-th value and a width to fill, which `-` fills at the
/// end and `*` takes from the values; `%%` a percent sign (PostgreSQL manual 9.4.1).
fn formatted(template: &str, values: &[Option<&str>]) -> Result<String> {
    let mut out = Growing::new("format()");
    let mut next = 0;
    let mut rest = template;
    let fail = |what: String| Error::new(Code::InvalidValue, what);
    let value_at = |place: usize| {
        values.get(place).copied().ok_or_else(|| fail("format() has fewer values than its text has places".to_owned()))
    };
    // Digits at the beginning of the text, as a number.
    let number = |rest: &mut &str| -> Option<usize> {
        let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
        let value = rest[..digits].parse().ok();
        *rest = &rest[digits..];
        value
    };
    while let Some(at) = rest.find('%') {
        out.push(&rest[..at])?;
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('%') {
            out.push("%")?;
            rest = after;
            continue;
        }
        let mut place = None;
        let before = rest;
        if let Some(n) = number(&mut rest) {
            match rest.strip_prefix('$') {
                Some(after) => {
                    place = Some(n.checked_sub(1).ok_or_else(|| fail("format() counts values from one".to_owned()))?);
                    rest = after;
                }
                None => rest = before,
            }
        }
        let mut at_end = false;
        while let Some(after) = rest.strip_prefix('-') {
            (at_end, rest) = (true, after);
        }
        let mut width = None;
        if let Some(after) = rest.strip_prefix('*') {
            rest = after;
            let before = rest;
            let own = match number(&mut rest) {
                Some(n) if rest.starts_with('$') => {
                    rest = &rest[1..];
                    n.checked_sub(1).ok_or_else(|| fail("format() counts values from one".to_owned()))?
                }
                _ => {
                    rest = before;
                    next
                }
            };
            next = own + 1;
            let written = value_at(own)?.unwrap_or("0");
            let own: i32 = written.parse().map_err(|_| fail(format!("the width \"{written}\" is no number")))?;
            (width, at_end) = (Some(own.unsigned_abs() as usize), at_end || own < 0);
        } else if let Some(n) = number(&mut rest) {
            width = Some(n);
        }
        let kind = rest.chars().next().ok_or_else(|| fail("the text of format() ends after %".to_owned()))?;
        if !matches!(kind, 's' | 'I' | 'L') {
            return Err(fail(format!("format() does not know %{kind}")));
        }
        let place = place.unwrap_or(next);
        let value = value_at(place)?;
        next = place + 1;
        let text = match (kind, value) {
            ('s', value) => value.unwrap_or("").to_owned(),
            ('L', value) => value.map_or("NULL".to_owned(), quoted),
            (_, Some(value)) => cobble_types::quote_where_needed(value),
            (_, None) => return Err(fail("a null cannot be an identifier".to_owned())),
        };
        let missing = width.unwrap_or(0).min(1 << 20).saturating_sub(text.chars().count());
        let fill = " ".repeat(missing);
        let (first, second) = if at_end { (text, fill) } else { (fill, text) };
        out.push(&first)?;
        out.push(&second)?;
        rest = &rest[1..];
    }
    out.push(rest)?;
    Ok(out.finish())
}
