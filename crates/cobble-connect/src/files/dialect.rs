//! How a CSV file is written: what stands between its fields and around them, and whether its first line names the columns. Found out
//! from the start of the file where nobody says it.

use csv::StringRecord;

use super::infer::Guess;
use crate::table_definition::TableDefinition;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect {
    pub delimiter: u8,
    pub quote: u8,
    pub header: bool,
}

impl Default for Dialect {
    /// That of RFC 4180.
    fn default() -> Self {
        Dialect { delimiter: b',', quote: b'"', header: true }
    }
}

/// Records that are looked at.
const LOOKED_AT: usize = 200;

impl Dialect {
    pub fn reader(self) -> csv::ReaderBuilder {
        let mut builder = csv::ReaderBuilder::new();
        builder.flexible(true).delimiter(self.delimiter).quote(self.quote).has_headers(self.header);
        builder
    }

    /// What a definition says in the place of what was found.
    pub fn with(mut self, definition: &TableDefinition) -> Dialect {
        let sign = |text: &Option<String>| text.as_ref().and_then(|text| text.bytes().next());
        self.delimiter = sign(&definition.delimiter).unwrap_or(self.delimiter);
        self.quote = sign(&definition.quote).unwrap_or(self.quote);
        self.header = definition.header.unwrap_or(self.header);
        self
    }

    /// The likeliest one for a text of which this is the start.
    pub fn of(start: &[u8]) -> Dialect {
        let quote = if is_single_quoted(start) { b'\'' } else { b'"' };
        let records = |delimiter| records(start, delimiter, quote);
        // Commas unless others cut the records into more fields, and into as many as the first one has.
        let score = |delimiter: u8| {
            let found = records(delimiter);
            let fields = found.first().map_or(0, StringRecord::len);
            let alike = found.iter().filter(|record| record.len() == fields).count();
            (fields > 1).then(|| (alike * 1000 / found.len().max(1), fields))
        };
        let mut best = (b',', score(b','));
        for delimiter in [b';', b'\t', b'|'] {
            let found = score(delimiter);
            if found > best.1 {
                best = (delimiter, found);
            }
        }
        Dialect { delimiter: best.0, quote, header: has_header(&records(best.0)) }
    }
}

fn records(start: &[u8], delimiter: u8, quote: u8) -> Vec<StringRecord> {
    let dialect = Dialect { delimiter, quote, header: false };
    let mut found: Vec<StringRecord> =
        dialect.reader().from_reader(start).records().take(LOOKED_AT).map_while(Result::ok).collect();
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
    let [first, rest @ ..] = records else { return true };
    if rest.is_empty() {
        return true;
    }
    let mut fits = 0;
    for (place, name) in first.iter().enumerate() {
        let values = rest.iter().filter_map(|record| record.get(place)).filter(|text| !text.is_empty());
        let below = values.map(Guess::of).fold(Guess::Nothing, Guess::with);
        match below {
            Guess::Nothing | Guess::Text => {}
            _ if name.is_empty() || below.clone().with(Guess::of(name)) == Guess::Text => return true,
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
        let dialect = |delimiter: u8, quote: u8, header| Dialect { delimiter, quote, header };
        for (text, expected) in [
            ("route,fare\n1,2.50\n", Dialect::default()),
            ("route;fare\n1;2,50\n2;3,10\n", dialect(b';', b'"', true)),
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
        ] {
            assert_eq!(Dialect::of(text.as_bytes()), expected, "{text}");
        }
    }
}
