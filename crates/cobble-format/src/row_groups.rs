//! The parts of files column by column: rows, bytes, encodings, least and greatest values.

use std::sync::Arc;

use cobble_plan::facts::{FactRows, number, plain, text};
use cobble_plan::logical::TableColumn;
use cobble_types::{Result, SqlType, Value};

use crate::Footer;
use crate::prune::Range;

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
    ])
}

/// Adds the parts of a file. Each column of the table stands with its name in the file.
pub fn add(rows: &mut FactRows, footer: &dyn Footer, columns: &[(String, &TableColumn)]) -> Result<()> {
    let own = columns.iter().map(|(name, column)| TableColumn { name: name.clone(), ..(*column).clone() });
    let ranges: Vec<Arc<Vec<Range>>> = own.map(|own| footer.ranges(&own)).collect();
    for part in 0..footer.parts() {
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
            ])?;
        }
    }
    Ok(())
}
