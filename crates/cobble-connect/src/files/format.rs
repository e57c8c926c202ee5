//! Formats of files by the endings of their names, and what they are packed in.

use std::io::{BufReader, Read};
use std::path::Path;

use cobble_types::{Code, Error, Result};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    Csv,
    /// JSON with an object on each line, or an array of objects.
    Json,
    Parquet,
    Avro,
    /// The file format of Arrow's interprocess communication.
    Arrow,
    Orc,
}

const ALL: [Format; 6] = [Format::Csv, Format::Json, Format::Parquet, Format::Avro, Format::Arrow, Format::Orc];

/// How a text file is compressed as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    None,
    Gzip,
    Zstd,
}

/// The endings that make a file a table, for people to read.
pub const ENDINGS: &str =
    ".csv, .tsv, .jsonl, .ndjson, .json (these also with .gz or .zst), .parquet, .avro, .arrow or .orc";

impl Format {
    pub fn of(path: &Path) -> Option<(Format, Packing)> {
        let name = path.file_name()?.to_str()?.to_ascii_lowercase();
        let packing = Packing::of(path);
        let inner = if packing == Packing::None { name.as_str() } else { name.rsplit_once('.')?.0 };
        let format = match inner.rsplit_once('.')?.1 {
            "csv" | "tsv" => Format::Csv,
            "jsonl" | "ndjson" | "json" => Format::Json,
            "parquet" => Format::Parquet,
            "avro" => Format::Avro,
            "arrow" | "ipc" => Format::Arrow,
            "orc" => Format::Orc,
            _ => return None,
        };
        (packing == Packing::None || format.is_text()).then_some((format, packing))
    }

    /// The format of this name, as a definition writes it.
    pub fn named(name: &str) -> Result<Format> {
        let found = ALL.iter().find(|format| format.name() == name);
        found.copied().ok_or_else(|| {
            let known = || ALL.iter().map(|format| format.name());
            let error = Error::unknown("format", name, known());
            let hint =
                error.hint.clone().unwrap_or_else(|| format!("known are {}", known().collect::<Vec<_>>().join(", ")));
            Error { code: Code::BadSetting, hint: Some(hint), ..error }
        })
    }

    pub fn name(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::Json => "json",
            Format::Parquet => "parquet",
            Format::Avro => "avro",
            Format::Arrow => "arrow",
            Format::Orc => "orc",
        }
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
            Format::Orc => "ORC",
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
    /// By the end of the file's name, whatever is inside.
    pub fn of(path: &Path) -> Packing {
        match path.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("gz") => Packing::Gzip,
            Some("zst" | "zstd") => Packing::Zstd,
            _ => Packing::None,
        }
    }

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
