//! Rows of COPY in its binary format (PostgreSQL manual, "COPY", "Binary Format").

use bytes::{Buf, Bytes, BytesMut};
use cobble_types::Error;

const SIGNATURE: &[u8] = b"PGCOPY\n\xff\r\n\0";
/// Signature, flags and the length of an extension.
const HEADER: usize = 19;

/// What has come and has not been read.
#[derive(Default)]
pub struct CopyRows {
    /// The message that is being read; rows seldom cross from one to the next.
    bytes: Bytes,
    has_begun: bool,
}

pub enum Fault {
    /// Of the column at this place.
    Value(usize, Error),
    Form(&'static str),
}

impl CopyRows {
    pub fn take(&mut self, more: Bytes) {
        if self.bytes.is_empty() {
            self.bytes = more;
        } else {
            let mut both = BytesMut::with_capacity(self.bytes.len() + more.len());
            both.extend_from_slice(&self.bytes);
            both.extend_from_slice(&more);
            self.bytes = both.freeze();
        }
    }

    /// Gives the values of the next row one by one: true when there was one, false at the end, nothing when more has to come.
    pub fn row(
        &mut self,
        columns: usize,
        mut value: impl FnMut(usize, Option<&[u8]>) -> Result<(), (usize, Error)>,
    ) -> Result<Option<bool>, Fault> {
        if !self.has_begun {
            if self.bytes.len() < HEADER {
                return Ok(None);
            }
            if !self.bytes.starts_with(SIGNATURE) {
                return Err(Fault::Form("the server sent another format"));
            }
            let extension = (&self.bytes[15..HEADER]).get_u32() as usize;
            if self.bytes.len() < HEADER + extension {
                return Ok(None);
            }
            self.bytes.advance(HEADER + extension);
            self.has_begun = true;
        }
        let Some(length) = row_length(&self.bytes, columns)? else { return Ok(None) };
        if length == 0 {
            return Ok(Some(false));
        }
        let mut row = &self.bytes[2..length];
        for place in 0..columns {
            let size = row.get_i32();
            let found = usize::try_from(size).ok().map(|size| row.split_at(size));
            value(place, found.map(|(found, _)| found)).map_err(|(place, error)| Fault::Value(place, error))?;
            row = found.map_or(row, |(_, rest)| rest);
        }
        self.bytes.advance(length);
        Ok(Some(true))
    }
}

/// Bytes of the row at the start, 0 at the end of all; nothing when it has not come in full.
fn row_length(bytes: &[u8], columns: usize) -> Result<Option<usize>, Fault> {
    let Some(mut count) = bytes.get(..2) else { return Ok(None) };
    match count.get_i16() {
        -1 => return Ok(Some(0)),
        count if usize::try_from(count) == Ok(columns) => {}
        _ => return Err(Fault::Form("the server sent another number of columns")),
    }
    let mut at = 2;
    for _ in 0..columns {
        let Some(mut size) = bytes.get(at..at + 4) else { return Ok(None) };
        at += 4 + usize::try_from(size.get_i32()).unwrap_or(0);
    }
    Ok((at <= bytes.len()).then_some(at))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_out_wherever_messages_are_cut() {
        let mut all = SIGNATURE.to_vec();
        all.extend([0, 0, 0, 0, 0, 0, 0, 2, 9, 9]);
        for (a, b) in [(Some(&b"abc"[..]), None), (None, Some(&b""[..])), (Some(b"x"), Some(b"yz"))] {
            all.extend(2i16.to_be_bytes());
            for value in [a, b] {
                all.extend(value.map_or(-1, |v| v.len() as i32).to_be_bytes());
                all.extend(value.unwrap_or_default());
            }
        }
        all.extend((-1i16).to_be_bytes());
        for step in 1..=all.len() {
            let (mut rows, mut found) = (CopyRows::default(), Vec::new());
            let mut pieces = all.chunks(step);
            loop {
                let taken = rows.row(2, |_, value| {
                    found.push(value.map(|v| String::from_utf8_lossy(v).into_owned()));
                    Ok(())
                });
                match taken {
                    Ok(Some(true)) => {}
                    Ok(Some(false)) => break,
                    Ok(None) => rows.take(Bytes::copy_from_slice(pieces.next().expect("there is an end"))),
                    Err(_) => panic!("a fault at {step}"),
                }
            }
            let text = |t: &str| Some(t.to_owned());
            assert_eq!(found, [text("abc"), None, None, text(""), text("x"), text("yz")], "{step}");
        }
        let mut other = CopyRows::default();
        other.take(Bytes::from_static(b"id,name\n1,Heron is no binary"));
        assert!(matches!(other.row(2, |_, _| Ok(())), Err(Fault::Form(_))));
    }
}
