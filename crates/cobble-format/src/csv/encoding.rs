//! Text that is not UTF-8: decoded while it is read.

use std::io::{self, Read};

use cobble_types::{Code, Error, Result};
use encoding_rs::{CoderResult, Decoder, Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

/// The encoding of this name (WHATWG Encoding Standard).
pub fn named(name: &str) -> Result<&'static Encoding> {
    Encoding::for_label(name.trim().as_bytes()).ok_or_else(|| {
        Error::new(Code::BadSetting, format!("there is no encoding named \"{name}\""))
            .hint("such as utf-8, utf-16le, windows-1252, iso-8859-15, windows-1251, shift_jis or gb18030")
    })
}

/// What the start of a text shows: a mark of UTF-16, and where it cannot be UTF-8 the encoding that most other files have.
pub fn of(start: &[u8], is_whole: bool) -> &'static Encoding {
    if start.starts_with(&[0xff, 0xfe]) {
        return UTF_16LE;
    }
    if start.starts_with(&[0xfe, 0xff]) {
        return UTF_16BE;
    }
    match std::str::from_utf8(start) {
        Ok(_) => UTF_8,
        // The last character may be cut.
        Err(error) if error.error_len().is_none() && !is_whole => UTF_8,
        Err(_) => WINDOWS_1252,
    }
}

/// Reads bytes in an encoding as UTF-8.
pub struct Decoded<R> {
    input: R,
    decoder: Decoder,
    raw: Vec<u8>,
    /// Bytes of `raw` that were read, and of those that were decoded.
    filled: usize,
    used: usize,
    /// Decoded text that did not fit in what was asked for.
    text: Vec<u8>,
    given: usize,
    ended: bool,
}

const CHUNK: usize = 1 << 16;

impl<R: Read> Decoded<R> {
    pub fn new(input: R, encoding: &'static Encoding) -> Self {
        Decoded {
            input,
            decoder: encoding.new_decoder_with_bom_removal(),
            raw: vec![0; CHUNK],
            filled: 0,
            used: 0,
            text: Vec::new(),
            given: 0,
            ended: false,
        }
    }

    /// Decodes some more; nothing at the end.
    fn more(&mut self) -> io::Result<()> {
        while self.text.is_empty() && !self.ended {
            if self.used == self.filled {
                self.filled = self.input.read(&mut self.raw)?;
                self.used = 0;
            }
            let last = self.filled == 0;
            let mut out = vec![0; 4 * CHUNK];
            let (result, read, written, _) =
                self.decoder.decode_to_utf8(&self.raw[self.used..self.filled], &mut out, last);
            self.used += read;
            out.truncate(written);
            self.text = out;
            self.ended = last && result == CoderResult::InputEmpty;
        }
        Ok(())
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.given == self.text.len() {
            self.text.clear();
            self.given = 0;
            self.more()?;
        }
        let left = &self.text[self.given..];
        let taken = left.len().min(buffer.len());
        buffer[..taken].copy_from_slice(&left[..taken]);
        self.given += taken;
        Ok(taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_read_is_utf_8() {
        let text = "Möwe, Été, 渡船\n".repeat(20_000);
        for name in ["utf-16le", "utf-16be", "gb18030", "utf-8"] {
            let encoding = named(name).unwrap();
            let bytes = match name {
                "utf-16le" => text.encode_utf16().flat_map(u16::to_le_bytes).collect(),
                "utf-16be" => text.encode_utf16().flat_map(u16::to_be_bytes).collect(),
                _ => encoding.encode(&text).0.into_owned(),
            };
            let mut read = String::new();
            Decoded::new(bytes.as_slice(), encoding).read_to_string(&mut read).unwrap();
            assert_eq!(read, text, "{name}");
        }
    }

    #[test]
    fn the_start_shows_what_it_can() {
        assert_eq!(of("Möwe".as_bytes(), true), UTF_8);
        assert_eq!(of(&"Möwe".as_bytes()[..2], false), UTF_8);
        assert_eq!(of(&[b'M', 0xf6, b'w', b'e'], true), WINDOWS_1252);
        assert_eq!(of(&[0xff, 0xfe, b'M', 0], true), UTF_16LE);
        assert!(named("klingon").is_err());
    }
}
