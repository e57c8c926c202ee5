//! JSON of any layout as one object on each line: arrays of objects lose their brackets and commas, and objects that span lines
//! are joined. RFC 8259 has no line break inside a string, so none is lost.

use std::io::{BufRead, BufReader, Error, ErrorKind, Read, Result};

use crate::record_bound::too_long;

pub struct ObjectLines<R> {
    input: BufReader<R>,
    depth: usize,
    in_text: bool,
    escaped: bool,
    /// The file began with a bracket: the objects are items of one array.
    is_array: Option<bool>,
    is_closed: bool,
    /// Bytes of the line so far, and how many it may have.
    line: u64,
    longest: u64,
}

impl<R: Read> ObjectLines<R> {
    pub fn new(input: R, longest: u64) -> Self {
        let input = BufReader::with_capacity(1 << 17, input);
        let (in_text, escaped, is_closed) = (false, false, false);
        ObjectLines { input, depth: 0, in_text, escaped, is_array: None, is_closed, line: 0, longest }
    }

    fn byte(&mut self, byte: u8) -> u8 {
        if self.in_text {
            match byte {
                _ if self.escaped => self.escaped = false,
                b'\\' => self.escaped = true,
                b'"' => self.in_text = false,
                _ => {}
            }
            return byte;
        }
        if self.is_array.is_none() && !byte.is_ascii_whitespace() {
            self.is_array = Some(byte == b'[');
            if byte == b'[' {
                return b' ';
            }
        }
        let of_array = self.is_array == Some(true) && self.depth == 0;
        match byte {
            b'"' => self.in_text = true,
            b'{' | b'[' => self.depth += 1,
            // The end of the array, or one too many, which the parser then tells of.
            b']' if of_array => {
                self.is_closed = true;
                return b' ';
            }
            b'}' | b']' => self.depth = self.depth.saturating_sub(1),
            b',' if of_array => return b'\n',
            b'\n' | b'\r' if self.depth > 0 || of_array => return b' ',
            _ => {}
        }
        byte
    }
}

impl<R: Read> Read for ObjectLines<R> {
    fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
        let count = {
            let ready = self.input.fill_buf()?;
            if ready.is_empty() && self.is_array == Some(true) && !self.is_closed {
                return Err(Error::new(ErrorKind::UnexpectedEof, "the file ends inside its array"));
            }
            let count = ready.len().min(buffer.len());
            buffer[..count].copy_from_slice(&ready[..count]);
            count
        };
        self.input.consume(count);
        for byte in &mut buffer[..count] {
            *byte = self.byte(*byte);
            self.line = if *byte == b'\n' { 0 } else { self.line + 1 };
        }
        if self.line > self.longest { Err(too_long(self.longest)) } else { Ok(count) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Vec<String> {
        let mut out = String::new();
        ObjectLines::new(text.as_bytes(), 1000).read_to_string(&mut out).unwrap();
        out.lines().map(|l| l.trim().to_owned()).filter(|l| !l.is_empty()).collect()
    }

    #[test]
    fn every_layout_gives_one_object_a_line() {
        let wanted = [r#"{"a": [1, 2], "t": "x,\"]\\"}"#, r#"{"a": {"b": 1}}"#];
        for text in [
            "{\"a\": [1, 2], \"t\": \"x,\\\"]\\\\\"}\n{\"a\": {\"b\": 1}}\n",
            "[{\"a\": [1, 2], \"t\": \"x,\\\"]\\\\\"},\n{\"a\": {\"b\": 1}}]\n",
            "\n [ {\"a\": [1, 2], \"t\": \"x,\\\"]\\\\\"} , {\"a\": {\"b\": 1}}\n ] ",
        ] {
            assert_eq!(lines(text), wanted, "{text}");
        }
        assert_eq!(
            lines("[\n  {\n    \"a\": 1\n  },\n  {\n    \"a\": 2\n  }\n]"),
            ["{     \"a\": 1   }", "{     \"a\": 2   }"]
        );
        assert!(lines("[]").is_empty());
        let mut out = String::new();
        let error = ObjectLines::new(&b"[{\"a\": 1},"[..], 1000).read_to_string(&mut out).unwrap_err();
        assert_eq!(error.to_string(), "the file ends inside its array");
        let long = format!("{{\"a\": \"{}\"}}", "x".repeat(1000));
        let error = ObjectLines::new(long.as_bytes(), 1000).read_to_string(&mut out).unwrap_err();
        assert!(error.to_string().contains("longest_record"));
    }
}
