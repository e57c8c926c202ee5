//! Passing over the entries of a manifest at speed: of each one only its standing and the bytes of its partition are found, by steps that are made
//! once of the writer's types. What does not go by these steps is left to those who read entries in full, and say what is wrong.

use crate::rows::{Cursor, Node, Pair, Part, pair_of};

/// A step through an entry.
#[derive(Debug, PartialEq)]
enum Step {
    /// Whether the file is there.
    Status,
    /// The fields of the partition.
    Partition(Vec<Step>),
    Numbers(u64),
    Bytes,
    /// A number, or null, whose branch this is.
    OptionalNumber(i64),
    OptionalBytes(i64),
    /// An array of ids with numbers, or null, whose branch this is.
    NumberPairs(i64),
    /// An array of ids with bytes.
    BytePairs(i64),
    /// An array of numbers.
    NumberList(i64),
    Other(Node),
}

#[derive(Debug, PartialEq)]
pub struct Glance {
    steps: Vec<Step>,
}

/// The branch of a type that is not optional: none has this number.
const NEVER: i64 = -1;

impl Step {
    fn of(node: &Node) -> Step {
        let (null, present) = match node {
            Node::Union(branches) => match branches.as_slice() {
                [Node::Null, other] => (0, other),
                [other, Node::Null] => (1, other),
                _ => return Step::Other(node.clone()),
            },
            other => (NEVER, other),
        };
        match present {
            Node::Number if null == NEVER => Step::Numbers(1),
            Node::Bytes if null == NEVER => Step::Bytes,
            Node::Number => Step::OptionalNumber(null),
            Node::Bytes => Step::OptionalBytes(null),
            Node::Array(item) => match (item.as_ref(), pair_of(item)) {
                (_, Some(Pair::Numbers)) => Step::NumberPairs(null),
                (_, Some(Pair::Bytes)) => Step::BytePairs(null),
                (Node::Number, _) => Step::NumberList(null),
                _ => Step::Other(node.clone()),
            },
            _ => Step::Other(node.clone()),
        }
    }
}

/// A place in an entry's bytes. What ends early is nothing, and not a reason.
struct Quick<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Quick<'a> {
    #[inline(always)]
    fn number(&mut self) -> Option<i64> {
        let byte = *self.bytes.get(self.at)?;
        self.at += 1;
        if byte & 0x80 == 0 {
            return Some(i64::from(byte >> 1) ^ -i64::from(byte & 1));
        }
        let mut value = u64::from(byte & 0x7f);
        for place in 1..10 {
            let byte = *self.bytes.get(self.at)?;
            self.at += 1;
            value |= u64::from(byte & 0x7f) << (7 * place);
            if byte & 0x80 == 0 {
                return Some((value >> 1) as i64 ^ -((value & 1) as i64));
            }
        }
        None
    }

    #[inline(always)]
    fn one_number(&mut self) -> Option<()> {
        // Of which length it is, no branch asks.
        if let Some(eight) = self.bytes.get(self.at..).and_then(|rest| rest.first_chunk::<8>()) {
            let ends = !u64::from_le_bytes(*eight) & 0x8080_8080_8080_8080;
            if ends != 0 {
                self.at += (ends.trailing_zeros() / 8) as usize + 1;
                return Some(());
            }
        }
        while self.bytes.get(self.at)? & 0x80 != 0 {
            self.at += 1;
        }
        self.at += 1;
        Some(())
    }

    /// Passes over so many numbers, eight bytes at a time: a number ends with the first byte whose highest bit is not set.
    #[inline(always)]
    fn numbers(&mut self, mut count: u64) -> Option<()> {
        while count > 0 {
            let Some(eight) = self.bytes.get(self.at..).and_then(|rest| rest.first_chunk::<8>()) else {
                let byte = *self.bytes.get(self.at)?;
                self.at += 1;
                count -= u64::from(byte & 0x80 == 0);
                continue;
            };
            let mut ends = !u64::from_le_bytes(*eight) & 0x8080_8080_8080_8080;
            // How many there are: not each processor counts bits in one go.
            let here = (ends >> 7).wrapping_mul(0x0101_0101_0101_0101) >> 56;
            if here < count {
                (count, self.at) = (count - here, self.at + 8);
                continue;
            }
            for _ in 1..count {
                ends &= ends - 1;
            }
            self.at += (ends.trailing_zeros() / 8) as usize + 1;
            return Some(());
        }
        Some(())
    }

    #[inline(always)]
    fn pass(&mut self, length: i64) -> Option<()> {
        let length = usize::try_from(length).ok()?;
        self.at = self.at.checked_add(length).filter(|at| *at <= self.bytes.len())?;
        Some(())
    }

    #[inline(always)]
    fn text(&mut self) -> Option<()> {
        let length = self.number()?;
        self.pass(length)
    }

    /// Whether an optional value follows, whose type is null in this branch.
    #[inline(always)]
    fn is_there(&mut self, null: i64) -> Option<bool> {
        if null == NEVER {
            return Some(true);
        }
        // 0 or 1, as numbers are written.
        match *self.bytes.get(self.at)? {
            branch @ (0 | 2) => {
                self.at += 1;
                Some(i64::from(branch >> 1) != null)
            }
            _ => None,
        }
    }

    /// The number of items of an array that may be null, where behind them a 0 has to come: with none, that has come. Arrays in several runs, or with the
    /// bytes that they have, are read in full.
    #[inline(always)]
    fn items(&mut self, null: i64) -> Option<u64> {
        if !self.is_there(null)? {
            return Some(0);
        }
        match *self.bytes.get(self.at)? {
            // None, or fewer than 64, of which no bytes are told.
            count if count & 0x81 == 0 => {
                self.at += 1;
                Some(u64::from(count >> 1))
            }
            _ => u64::try_from(self.number()?).ok().filter(|count| *count > 0 && *count <= self.bytes.len() as u64),
        }
    }

    /// Passes over numbers and the 0 behind them. What stands one after the other in a processor is how far it has come: so it comes there in
    /// few steps.
    #[inline(always)]
    fn numbers_and_end(&mut self, count: u64) -> Option<()> {
        self.numbers(count + 1)?;
        let is_end = self.bytes[self.at - 1] == 0 && self.bytes[self.at - 2] & 0x80 == 0;
        is_end.then_some(())
    }

    #[inline(always)]
    fn pairs_and_end(&mut self, count: u64) -> Option<()> {
        for _ in 0..count {
            match self.bytes.get(self.at..self.at + 2) {
                // An id and a length of one byte each, as most are.
                Some([id, length]) if (id | length) & 0x80 == 0 && length & 1 == 0 => {
                    self.at += 2 + usize::from(length >> 1);
                }
                _ => {
                    self.one_number()?;
                    self.text()?;
                }
            }
        }
        let end = *self.bytes.get(self.at)?;
        self.at += 1;
        (end == 0).then_some(())
    }

    #[inline(always)]
    fn step(&mut self, step: &Step) -> Option<()> {
        match step {
            Step::Status => self.one_number(),
            Step::Partition(fields) => fields.iter().try_for_each(|field| self.step_within(field)),
            other => self.step_within(other),
        }
    }

    #[inline(always)]
    fn step_within(&mut self, step: &Step) -> Option<()> {
        match step {
            Step::Numbers(1) => self.one_number(),
            Step::Numbers(count) => self.numbers(*count),
            Step::Bytes => self.text(),
            Step::OptionalNumber(null) => match self.is_there(*null)? {
                true => self.one_number(),
                false => Some(()),
            },
            Step::OptionalBytes(null) => match self.is_there(*null)? {
                true => self.text(),
                false => Some(()),
            },
            Step::NumberPairs(null) => match self.items(*null)? {
                0 => Some(()),
                count => self.numbers_and_end(2 * count),
            },
            Step::NumberList(null) => match self.items(*null)? {
                0 => Some(()),
                count => self.numbers_and_end(count),
            },
            Step::BytePairs(null) => match self.items(*null)? {
                0 => Some(()),
                count => self.pairs_and_end(count),
            },
            Step::Other(node) => self.other(node),
            // Neither stands within another step.
            Step::Status | Step::Partition(_) => None,
        }
    }

    fn other(&mut self, node: &Node) -> Option<()> {
        let length = Cursor::new(self.bytes.get(self.at..)?).skip(node).ok()?.len();
        self.at += length;
        Some(())
    }
}

/// What a glance finds.
pub struct Glanced<'a> {
    /// 0 and 1 for a file that is there, 2 for one that is not any more.
    pub status: i64,
    pub partition: &'a [u8],
    /// All of the entry.
    pub whole: &'a [u8],
}

impl Glance {
    /// `status` and `partition` are the places of these fields: of the entry's, and of those of its file.
    pub fn new(entry: &[Part], (status, file, partition): (Option<usize>, usize, Option<usize>)) -> Glance {
        let mut steps: Vec<Step> = Vec::new();
        let mut push = |step: Step| match (steps.last_mut(), &step) {
            (Some(Step::Numbers(before)), Step::Numbers(more)) => *before += more,
            _ => steps.push(step),
        };
        for (place, part) in entry.iter().enumerate() {
            match &part.node {
                Node::Number if Some(place) == status => push(Step::Status),
                Node::Record(parts) if place == file => {
                    for (place, part) in parts.iter().enumerate() {
                        match &part.node {
                            Node::Record(fields) if Some(place) == partition => {
                                push(Step::Partition(fields.iter().map(|field| Step::of(&field.node)).collect()));
                            }
                            node => push(Step::of(node)),
                        }
                    }
                }
                node => push(Step::of(node)),
            }
        }
        Glance { steps }
    }

    /// Looks at the entry that the bytes begin with; none where it is not as expected.
    pub fn at<'a>(&self, bytes: &'a [u8]) -> Option<Glanced<'a>> {
        let mut quick = Quick { bytes, at: 0 };
        let (mut status, mut partition): (i64, &[u8]) = (NEVER, &[]);
        for step in &self.steps {
            let begin = quick.at;
            match step {
                Step::Status => status = quick.number()?,
                Step::Partition(_) => {
                    quick.step(step)?;
                    partition = &bytes[begin..quick.at];
                }
                other => quick.step(other)?,
            }
        }
        Some(Glanced { status, partition, whole: &bytes[..quick.at] })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_glance_finds_what_reading_finds() {
        let node = Node::from_json(&json!({ "type": "record", "name": "entry", "fields": [
            { "name": "status", "type": "int" },
            { "name": "snapshot", "type": ["null", "long"] },
            { "name": "file", "type": { "type": "record", "name": "file", "fields": [
                { "name": "path", "type": "string" },
                { "name": "partition", "type": { "type": "record", "name": "p", "fields": [{ "name": "day", "type": ["null", "int"] }] } },
                { "name": "rows", "type": "long" }, { "name": "bytes", "type": "long" },
                { "name": "counts", "type": ["null", { "type": "array", "items": { "type": "record", "name": "c", "fields": [
                    { "name": "key", "type": "int" }, { "name": "value", "type": "long" }] } }] },
                { "name": "lower", "type": [{ "type": "array", "items": { "type": "record", "name": "l", "fields": [
                    { "name": "key", "type": "int" }, { "name": "value", "type": "bytes" }] } }, "null"] },
                { "name": "splits", "type": { "type": "array", "items": "long" } },
                { "name": "order", "type": ["null", "int"] }] } },
        ] }))
        .unwrap();
        let Node::Record(entry) = &node else { panic!() };
        let glance = Glance::new(entry, (Some(0), 2, Some(1)));
        let row = [
            2, // added
            2, 0xac, 0x02, // a snapshot
            4, b'h', b'i', // the path
            2, 9, // the partition
            0xff, 0xff, 0x03, 8, // rows and bytes
            2, 6, 2, 4, 6, 0x80, 0x01, 8, 3, 0, // three counts
            0, 2, 2, 2, b'x', 0, // one bound
            4, 8, 8, 0, // two splits
            0, // no order
        ];
        for more in [&[][..], &[1; 20]] {
            let bytes = [&row, more].concat();
            let found = glance.at(&bytes).unwrap();
            assert_eq!((found.status, found.partition, found.whole), (1, &[2, 9][..], &row[..]));
            assert_eq!(found.whole, Cursor::new(&bytes).skip(&node).unwrap());
        }
        for cut in 0..row.len() {
            assert!(glance.at(&row[..cut]).is_none(), "{cut}");
        }
        // Whatever it makes of changed bytes is what reading makes of them.
        for place in 0..row.len() {
            for value in [0, 1, 3, 0x7f, 0x80, 0xff] {
                let mut other = row;
                other[place] = value;
                if let Some(found) = glance.at(&other) {
                    assert_eq!(Ok(found.whole), Cursor::new(&other).skip(&node), "{place} {value}");
                }
            }
        }
    }
}
