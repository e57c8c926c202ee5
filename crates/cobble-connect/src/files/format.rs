//! Formats of files by the endings of their names, and what they are packed in.

use std::io::{BufReader, Read};
use std::path::Path;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    Csv,
    /// JSON with an object on each line, or an array of objects.
    Json,
    Parquet,
    Avro,
    /// The file format of Arrow's interprocess communication.
    Arrow,
}

/// How a text file is compressed as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    None,
    Gzip,
    Zstd,
}

/// The endings that make a file a table, for people to read.
pub const ENDINGS: &str = ".csv, .jsonl, .ndjson, .json (these also with .gz or .zst), .parquet, .avro or .arrow";

impl Format {
    pub fn of(path: &Path) -> Option<(Format, Packing)> {
        let name = path.file_name()?.to_str()?.to_ascii_lowercase();
        let (name, packing) = match name.rsplit_once('.')? {
            (inner, "gz") => (inner, Packing::Gzip),
            (inner, "zst" | "zstd") => (inner, Packing::Zstd),
            _ => (name.as_str(), Packing::None),
        };
        let format = match name.rsplit_once('.')?.1 {
            "csv" => Format::Csv,
            "jsonl" | "ndjson" | "json" => Format::Json,
            "parquet" => Format::Parquet,
            "avro" => Format::Avro,
            "arrow" | "ipc" => Format::Arrow,
            _ => return None,
        };
        (packing == Packing::None || format.is_text()).then_some((format, packing))
    }

    pub fn is_text(self) -> bool {
        matches!(self, Format::Csv | Format::Json)
    }

    pub fn words(self) -> &'static str {
        match self {
            Format::Csv => "CSV",
            Format::Json => "JSON",
            Format::Parquet => "Parquet",
            Format::Avro => "Avro",
            Format::Arrow => "Arrow",
        }
    }
}

/// A file's name without its endings.
pub fn stem(name: &str) -> &str {
    let inner = name.strip_suffix(".gz").or_else(|| name.strip_suffix(".zst")).or_else(|| name.strip_suffix(".zstd"));
    let name = inner.unwrap_or(name);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

impl Packing {
    /// What is inside.
    pub fn unpacked(self, input: impl Read + Send + 'static) -> std::io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Packing::None => Box::new(input),
            Packing::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(BufReader::with_capacity(1 << 17, input))),
            Packing::Zstd => Box::new(zstd::Decoder::new(input)?),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ending_says_format_and_packing() {
        let of = |name: &str| Format::of(Path::new(name));
        assert_eq!(of("drop/tariffs.csv"), Some((Format::Csv, Packing::None)));
        assert_eq!(of("Tariffs.CSV.GZ"), Some((Format::Csv, Packing::Gzip)));
        assert_eq!(of("a.b.jsonl.zst"), Some((Format::Json, Packing::Zstd)));
        assert_eq!(of("part-0.parquet"), Some((Format::Parquet, Packing::None)));
        for nothing in ["part-0.parquet.gz", "notes.txt", "gz", ".gz", "README"] {
            assert_eq!(of(nothing), None, "{nothing}");
        }
        assert_eq!((stem("a.b.jsonl.zst"), stem("x.csv"), stem("plain")), ("a.b", "x", "plain"));
    }
}
