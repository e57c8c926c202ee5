//! What text files are packed in, by the ends of their names.

use std::io::{BufReader, Read};
use std::path::Path;

/// The compression of a whole text file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    None,
    Gzip,
    Zstd,
}

/// A file's name without its endings.
pub fn stem(name: &str) -> &str {
    let inner = name.strip_suffix(".gz").or_else(|| name.strip_suffix(".zst")).or_else(|| name.strip_suffix(".zstd"));
    let name = inner.unwrap_or(name);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

impl Packing {
    /// By the file's ending, whatever its content.
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
