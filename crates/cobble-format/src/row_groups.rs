//! The parts of files column by column: rows, bytes, encodings, least and greatest values.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cobble_plan::facts::{FactRows, Filtered, number, plain, text};
use cobble_plan::logical::TableColumn;
use cobble_types::{ColumnId, Result, SqlType, Value};

use crate::Footer;
use crate::prune::{Range, Ranges, all_match, may_match};

/// What a footer says of a column in a part, beside its least and greatest value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chunk {
    /// Bytes in the file, and unpacked.
    pub bytes: u64,
    pub unpacked: u64,
    /// In words, such as `RLE_DICTIONARY, PLAIN`.
    pub encodings: String,
    pub packing: String,
    pub nulls: Option<u64>,
}

/// The columns of such rows.
pub fn rows() -> FactRows {
    let long = |name| (name, SqlType::BigInt);
    FactRows::new(&[
        ("file", SqlType::Text),
        ("row_group", SqlType::Integer),
        ("column_name", SqlType::Text),
        long("rows"),
        long("bytes"),
        long("unpacked_bytes"),
        ("packing", SqlType::Text),
        ("encodings", SqlType::Text),
        ("least", SqlType::Text),
        ("greatest", SqlType::Text),
        long("nulls"),
        ("is_read", SqlType::Boolean),
        ("why", SqlType::Text),
    ])
}

/// Which parts a condition leaves, and why.
pub struct Judged<'f> {
    pub filtered: &'f Filtered,
    /// The files that are read, whole or in parts.
    pub read: &'f HashSet<(PathBuf, Option<usize>)>,
    /// What all rows of the file at hand have in a column, by the column's name.
    pub constants: HashMap<String, Value>,
}

impl Judged<'_> {
    /// Whether a part is read, and why or why not.
    fn verdict(&self, file: &Path, part: usize, known: &HashMap<&str, &Range>) -> (bool, String) {
        let of = |(id, name): (&ColumnId, &String)| {
            let own = self.constants.get(name).map(|value| Range::single(value.clone()));
            Some((*id, own.or_else(|| known.get(name.as_str()).map(|range| (*range).clone()))?))
        };
        let ranges: Ranges = self.filtered.names.iter().filter_map(of).collect();
        let has = |within| self.read.contains(&(file.to_owned(), within));
        let conditions = &self.filtered.conditions;
        if has(Some(part)) || has(None) {
            let all = conditions.iter().all(|condition| all_match(condition, &ranges));
            let why = if all {
                "the condition is true of all its rows"
            } else {
                "the condition may be true of some of its rows"
            };
            return (true, why.to_owned());
        }
        let why = match conditions.iter().find(|condition| !may_match(condition, &ranges)) {
            Some(condition) => {
                let mut columns: Vec<ColumnId> = condition.columns().into_iter().collect();
                columns.sort();
                let shown = columns.iter().filter_map(|id| Some(shown(self.filtered.names.get(id)?, ranges.get(id)?)));
                format!("{condition} is true of no row: {}", shown.collect::<Vec<_>>().join(", "))
            }
            None if self.filtered.scan.is_none() => "the condition is true of no row at all".to_owned(),
            None => "what is known of its file leaves it out".to_owned(),
        };
        (false, why)
    }
}

fn shown(name: &str, range: &Range) -> String {
    match (&range.min, &range.max) {
        _ if range.all_null => format!("{name} is null in all of them"),
        (Some(min), Some(max)) if min == max => format!("{name} is {}", plain(min)),
        (Some(min), Some(max)) => format!("{name} is {} to {}", plain(min), plain(max)),
        _ => format!("of {name} it is known whether there are nulls"),
    }
}

/// Adds the parts of a file. Each column of the table stands with its name in the file.
pub fn add(
    rows: &mut FactRows,
    footer: &dyn Footer,
    columns: &[(String, &TableColumn)],
    judged: Option<&Judged<'_>>,
) -> Result<()> {
    let own = columns.iter().map(|(name, column)| TableColumn { name: name.clone(), ..(*column).clone() });
    let ranges: Vec<Arc<Vec<Range>>> = own.map(|own| footer.ranges(&own)).collect();
    for part in 0..footer.parts() {
        let known = columns
            .iter()
            .zip(&ranges)
            .filter_map(|((_, column), ranges)| Some((column.name.as_str(), ranges.get(part)?)));
        let known: HashMap<&str, &Range> = known.collect();
        let verdict = judged.map(|judged| judged.verdict(&footer.file().path, part, &known));
        for ((name, column), ranges) in columns.iter().zip(&ranges) {
            let range = ranges.get(part);
            let bound = |of: fn(&Range) -> &Option<Value>| text(range.and_then(|range| of(range).as_ref()).map(plain));
            let chunk = footer.chunk(part, name);
            let of_chunk = |of: fn(&Chunk) -> u64| number(chunk.as_ref().map(of));
            let nulls = chunk.as_ref().and_then(|chunk| chunk.nulls);
            rows.push([
                text(Some(footer.file().path.display().to_string())),
                i32::try_from(part).map_or(Value::Null, Value::Integer),
                text(Some(&column.name)),
                number(Some(footer.rows(part))),
                of_chunk(|chunk| chunk.bytes),
                of_chunk(|chunk| chunk.unpacked),
                text(chunk.as_ref().map(|chunk| &chunk.packing)),
                text(chunk.as_ref().map(|chunk| &chunk.encodings)),
                bound(|range| &range.min),
                bound(|range| &range.max),
                number(nulls),
                verdict.as_ref().map_or(Value::Null, |(is_read, _)| Value::Boolean(*is_read)),
                text(verdict.as_ref().map(|(_, why)| why)),
            ])?;
        }
    }
    Ok(())
}
