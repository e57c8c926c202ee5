//! How a CSV file is written: what stands between its fields and around them, and whether its first line names the columns. Found out
//! from the start of the file where nobody says it.

use std::io::Read;

use cobble_types::{Code, Error, Result, TextForm};
use csv::StringRecord;
use encoding_rs::{Encoding, UTF_8};
use serde::{Deserialize, Serialize};

use super::encoding::{self, Decoded};
use super::marks::{DatePattern, Marks};
use crate::Guess;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dialect {
    pub delimiter: u8,
    pub quote: u8,
    pub escape: Option<u8>,
    pub comment: Option<u8>,
    pub header: bool,
    /// None for what only has characters of ASCII, which are the same in nearly all encodings.
    #[serde(with = "by_name")]
    pub encoding: Option<&'static Encoding>,
    pub marks: Marks,
}

/// An encoding by its name in the Encoding standard.
mod by_name {
    use encoding_rs::Encoding;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub fn serialize<S: Serializer>(value: &Option<&'static Encoding>, serializer: S) -> Result<S::Ok, S::Error> {
        value.map(Encoding::name).serialize(serializer)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<&'static Encoding>, D::Error> {
        let name = Option::<String>::deserialize(deserializer)?;
        let found = |name: String| {
            let known = Encoding::for_label(name.as_bytes());
            known.ok_or_else(|| serde::de::Error::custom(format!("there is no encoding {name}")))
        };
        name.map(found).transpose()
    }
}

impl Default for Dialect {
    /// That of RFC 4180.
    fn default() -> Self {
        Dialect {
            delimiter: b',',
            quote: b'"',
            escape: None,
            comment: None,
            header: true,
            encoding: None,
            marks: Marks::default(),
        }
    }
}

/// Records that are looked at.
const LOOKED_AT: usize = 200;

impl Dialect {
    pub fn reader(&self) -> csv::ReaderBuilder {
        let mut builder = csv::ReaderBuilder::new();
        builder
            .flexible(true)
            .delimiter(self.delimiter)
            .quote(self.quote)
            .escape(self.escape)
            .comment(self.comment)
            .has_headers(self.header);
        builder
    }

    /// The text of a file as UTF-8.
    pub fn decoded<'r>(&self, input: Box<dyn Read + Send + 'r>) -> Box<dyn Read + Send + 'r> {
        match self.encoding.filter(|encoding| *encoding != UTF_8) {
            None => input,
            Some(encoding) => Box::new(Decoded::new(input, encoding)),
        }
    }

    /// What a definition says in the place of what was found.
    pub fn with(mut self, form: &TextForm) -> Result<Dialect> {
        let sign = |text: &Option<String>| text.as_ref().and_then(|text| text.bytes().next());
        self.delimiter = sign(&form.delimiter).unwrap_or(self.delimiter);
        self.quote = sign(&form.quote).unwrap_or(self.quote);
        self.escape = sign(&form.escape).or(self.escape);
        self.comment = sign(&form.comment).or(self.comment);
        self.header = form.header.unwrap_or(self.header);
        if let Some(name) = &form.encoding {
            self.encoding = Some(encoding::named(name)?);
        }
        self.marks = self.marks.with(form)?;
        Ok(self)
    }

    /// The same as a definition says it, of what is other than usual.
    pub fn said(&self) -> TextForm {
        let sign = |byte: u8| char::from(byte).to_string();
        let marks = &self.marks;
        TextForm {
            delimiter: Some(sign(self.delimiter)),
            quote: (self.quote != b'"').then(|| sign(self.quote)),
            escape: self.escape.map(sign),
            comment: self.comment.map(sign),
            header: Some(self.header),
            encoding: self.encoding.filter(|own| *own != UTF_8).map(|own| own.name().to_lowercase()),
            decimal: marks.decimal_comma.then(|| ",".to_owned()),
            thousands: marks.thousands.map(String::from),
            dates: marks.dates.as_ref().map(|dates| dates.written.clone()),
            nulls: (!marks.nulls.is_empty()).then(|| marks.nulls.join(", ")),
        }
    }

    /// Adds what another file of the same table shows; false where the two are not written alike.
    pub fn take(&mut self, other: &Dialect) -> bool {
        let form = |d: &Dialect| (d.delimiter, d.quote, d.escape, d.header);
        let clash = |a: Option<u8>, b: Option<u8>| a.is_some() && b.is_some() && a != b;
        let encodings = self.encoding.zip(other.encoding).is_some_and(|(a, b)| a != b);
        if form(self) != form(other) || clash(self.comment, other.comment) || encodings {
            return false;
        }
        self.comment = self.comment.or(other.comment);
        self.encoding = self.encoding.or(other.encoding);
        self.marks.take(&other.marks)
    }

    /// The likeliest dialect for a text that starts like this (or is this, if it is whole), given what the definition says.
    pub fn of(start: &[u8], is_whole: bool, form: &TextForm, defined: bool) -> Result<Dialect> {
        let encoding = match &form.encoding {
            Some(name) => Some(encoding::named(name)?),
            None => Some(encoding::of(start, is_whole)).filter(|_| !start.is_ascii()),
        };
        let text = encoding.unwrap_or(UTF_8).decode_with_bom_removal(start).0;
        let start = text.as_bytes();
        let sign = |text: &Option<String>| text.as_ref().and_then(|text| text.bytes().next());
        let quote = sign(&form.quote).unwrap_or(if is_single_quoted(start) { b'\'' } else { b'"' });
        let plain = Dialect {
            quote,
            escape: sign(&form.escape),
            comment: sign(&form.comment),
            header: false,
            encoding,
            ..Dialect::default()
        };
        let cut = |delimiter| Dialect { delimiter, ..plain.clone() };
        // Commas unless others cut the records into more fields, and into as many as the first one has.
        let score = |dialect: &Dialect| {
            let found = records(start, dialect);
            let fields = found.first().map_or(0, StringRecord::len);
            let alike = found.iter().filter(|record| record.len() == fields).count();
            (fields > 1).then(|| (alike * 1000 / found.len().max(1), fields))
        };
        let mut best = match sign(&form.delimiter) {
            Some(delimiter) => cut(delimiter),
            None => {
                // A line of comment has fewer fields than the others: the ones below tell.
                let commented = plain.comment.is_none() && begins_with_comments(start);
                let cut = |delimiter| Dialect {
                    comment: if commented { Some(b'#') } else { plain.comment },
                    ..cut(delimiter)
                };
                let mut best = (cut(b','), score(&cut(b',')));
                for delimiter in [b';', b'\t', b'|'] {
                    let found = score(&cut(delimiter));
                    if found > best.1 {
                        best = (cut(delimiter), found);
                    }
                }
                best.0
            }
        };
        if best.comment == Some(b'#') && form.comment.is_none() {
            // Names of columns may begin with the sign, too.
            let uncommented = Dialect { comment: None, ..best.clone() };
            let fields = |dialect: &Dialect| records(start, dialect).iter().map(StringRecord::len).collect::<Vec<_>>();
            let all = fields(&uncommented);
            if all.iter().all(|count| Some(count) == all.first()) && all.first().is_some_and(|count| *count > 1) {
                best = uncommented;
            }
        }
        let found = records(start, &best);
        best.header = form.header.unwrap_or_else(|| has_header(&found));
        let rows = if best.header { found.get(1..).unwrap_or_default() } else { &found };
        best.marks = Marks::of(rows);
        if !defined {
            // Words stay as they stand in a table that nobody has defined.
            best.marks.nulls.clear();
        }
        best.marks = best.marks.with(form)?;
        if form.header.is_none() && !best.header {
            return Ok(best);
        }
        // Once values can be read, what stands above them may turn out to be names after all, or not.
        best.header = form.header.unwrap_or_else(|| has_header_with(&found, &best.marks));
        Ok(best)
    }
}

/// Checks the settings for a table's text.
pub fn check(form: &TextForm) -> Result<()> {
    let bad = |what: &str, hint: &str| Err(Error::new(Code::BadSetting, what).hint(hint));
    let signs =
        [("delimiter", &form.delimiter), ("quote", &form.quote), ("escape", &form.escape), ("comment", &form.comment)];
    for (what, sign) in signs {
        if sign.as_ref().is_some_and(|sign| sign.len() != 1) {
            return bad(&format!("its {what} is not one ASCII character"), "such as , or ;");
        }
    }
    match form.decimal.as_deref() {
        None | Some("." | ",") => {}
        Some(_) => return bad("its decimal mark is neither a point nor a comma", "give . or ,"),
    }
    if let Some(mark) = &form.thousands {
        let is_mark = mark.chars().count() == 1 && !mark.contains(|c: char| c.is_alphanumeric() || "+-".contains(c));
        if !is_mark || Some(mark.as_str()) == Some(form.decimal.as_deref().unwrap_or(".")) {
            return bad("its thousands mark is not one sign other than the decimal mark", "such as , or . or '");
        }
    }
    if let Some(pattern) = &form.dates {
        DatePattern::parse(pattern)?;
    }
    if let Some(encoding) = &form.encoding {
        encoding::named(encoding)?;
    }
    Ok(())
}

fn begins_with_comments(start: &[u8]) -> bool {
    start.split(|b| *b == b'\n').find(|line| !line.trim_ascii().is_empty()).is_some_and(|line| line.starts_with(b"#"))
}

fn records(start: &[u8], dialect: &Dialect) -> Vec<StringRecord> {
    let dialect = Dialect { header: false, ..dialect.clone() };
    let mut found: Vec<StringRecord> =
        dialect.reader().from_reader(start).records().take(LOOKED_AT).map_while(csv::Result::ok).collect();
    // The last one may be cut.
    if found.len() > 2 && found.len() < LOOKED_AT && !start.ends_with(b"\n") {
        found.pop();
    }
    found
}

/// Fields stand in single quotes, and none in double ones.
fn is_single_quoted(start: &[u8]) -> bool {
    let text = String::from_utf8_lossy(start);
    let fields = || text.lines().take(LOOKED_AT).flat_map(|line| line.split([',', ';', '\t', '|'])).map(str::trim);
    let within = |sign: char| fields().filter(|f| f.len() > 1 && f.starts_with(sign) && f.ends_with(sign)).count();
    within('\'') > 1 && within('"') == 0
}

/// The first record is of other types than those below it; texts alone are taken to have names above them.
fn has_header(records: &[StringRecord]) -> bool {
    has_header_with(records, &Marks::default())
}

fn has_header_with(records: &[StringRecord], marks: &Marks) -> bool {
    let [first, rest @ ..] = records else { return true };
    if rest.is_empty() {
        return true;
    }
    let mut fits = 0;
    for (place, name) in first.iter().enumerate() {
        let values = rest.iter().filter_map(|record| record.get(place)).filter(|text| !marks.is_null(text));
        let below = values.map(|text| marks.guess(text)).fold(Guess::Nothing, Guess::with);
        match below {
            Guess::Nothing | Guess::Text => {}
            _ if name.is_empty() || below.clone().with(marks.guess(name)) == Guess::Text => return true,
            _ => fits += 1,
        }
    }
    fits == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_start_of_a_file_tells_how_it_is_written() {
        let dialect = |delimiter: u8, quote: u8, header| Dialect { delimiter, quote, header, ..Dialect::default() };
        for (text, expected) in [
            ("route,fare\n1,2.50\n", Dialect::default()),
            ("route\tfare\n1\t2.50\n", dialect(b'\t', b'"', true)),
            ("a|b|c\nx|y, or z|1\n", dialect(b'|', b'"', true)),
            ("1,2025-07-01,2.50\n2,2025-07-02,3\n", dialect(b',', b'"', false)),
            ("id,2024,2025\n1,5,6\n2,7,8\n", Dialect::default()),
            ("name,town\nHeron,Saltmarsh\n", Dialect::default()),
            ("name\nHeron\n", Dialect::default()),
            ("1\n2\n3\n", dialect(b',', b'"', false)),
            ("'name','note'\n'Heron','small, old'\n'Tern','new'\n", dialect(b',', b'\'', true)),
            ("name,note\nHeron,the ferry's\nTern,'\n", Dialect::default()),
            ("id,note\n1,\"a;b;c\"\n2,\"d;e\"\n", Dialect::default()),
            ("", Dialect::default()),
            (
                "route;fare\n1;2,50\n2;3,10\n",
                Dialect { marks: Marks { decimal_comma: true, ..Marks::default() }, ..dialect(b';', b'"', true) },
            ),
            ("# made on Monday\nroute,fare\n1,2.50\n", Dialect { comment: Some(b'#'), ..Dialect::default() }),
            ("#route,fare\n1,2.50\n", Dialect::default()),
        ] {
            let found = Dialect::of(text.as_bytes(), true, &TextForm::default(), false).unwrap();
            assert_eq!(found, expected, "{text}");
        }
    }

    #[test]
    fn what_is_said_is_what_was_found() {
        let text = b"# from the harbour\nTag;Preis;Notiz\n31.12.2025;1.234,50;Fl\xfcgge\n01.02.2025;n/a;\n";
        let found = Dialect::of(text, true, &TextForm::default(), true).unwrap();
        let said = found.said();
        assert_eq!(said.encoding.as_deref(), Some("windows-1252"));
        assert_eq!((said.decimal.as_deref(), said.thousands.as_deref()), (Some(","), Some(".")));
        assert_eq!((said.dates.as_deref(), said.nulls.as_deref()), (Some("DD.MM.YYYY"), Some("n/a")));
        assert_eq!(said.comment.as_deref(), Some("#"));
        assert_eq!(Dialect::default().with(&said).unwrap(), found);
    }
}
