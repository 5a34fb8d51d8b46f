//! Many small things in few pieces of memory: lists of numbers, and byte strings.

use std::ops::Range;

use nubrik_engine::FileBytes;
use nubrik_store::{Decoder, Digest, Encoder, Truncated};

/// Lists of numbers, one behind the other.
#[derive(Default, Clone, PartialEq, Debug)]
pub(crate) struct Lists {
    /// Where in `items` each list ends.
    pub ends: Vec<u32>,
    pub items: Vec<u32>,
}

impl Lists {
    pub fn push(&mut self, items: impl IntoIterator<Item = u32>) {
        self.items.extend(items);
        self.ends.push(self.items.len() as u32);
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn get(&self, number: usize) -> &[u32] {
        let start = if number == 0 { 0 } else { self.ends.get(number - 1).map_or(0, |e| *e as usize) };
        let end = self.ends.get(number).map_or(0, |e| *e as usize);
        self.items.get(start..end).unwrap_or_default()
    }

    pub fn encode(&self, out: &mut Encoder) {
        encode_numbers(&self.ends, out);
        encode_numbers(&self.items, out);
    }

    pub fn decode(from: &mut Decoder<'_>) -> Result<Lists, Truncated> {
        Ok(Lists { ends: decode_numbers(from)?, items: decode_numbers(from)? })
    }
}

/// Byte strings, one behind the other: new ones in memory, or those of a file.
#[derive(Default, Clone)]
pub(crate) struct Bodies {
    ends: Vec<u32>,
    new: Vec<u8>,
    /// The bytes of a file, and where in them these are.
    file: Option<(FileBytes, Range<usize>)>,
}

/// Length of the checksum behind a body, in bytes.
const CHECK: usize = 8;

impl Bodies {
    /// Brings what lies in a file into memory, so that it can be added to.
    fn own(&mut self) {
        if self.file.is_some() {
            self.new = self.bytes().to_vec();
            self.file = None;
        }
    }

    pub fn push(&mut self, body: &[u8]) {
        self.own();
        self.new.extend_from_slice(body);
        self.ends.push(self.new.len() as u32);
    }

    /// Adds a body with a checksum of its own, which the digest of the tables does not cover.
    pub fn push_checked(&mut self, body: &[u8]) {
        self.own();
        self.new.extend_from_slice(body);
        self.new.extend_from_slice(&Digest::of(body).0[..CHECK]);
        self.ends.push(self.new.len() as u32);
    }

    /// Byte strings that lie in a file, one behind the other from `start` on.
    pub fn in_file(ends: Vec<u32>, file: FileBytes, start: usize) -> Bodies {
        let length = ends.last().map_or(0, |e| *e as usize);
        Bodies { ends, new: Vec::new(), file: Some((file, start..start + length)) }
    }

    /// Where each ends.
    pub fn ends(&self) -> &[u32] {
        &self.ends
    }

    pub fn bytes(&self) -> &[u8] {
        match &self.file {
            Some((file, range)) => (**file).as_ref().get(range.clone()).unwrap_or_default(),
            None => &self.new,
        }
    }

    pub fn get(&self, number: usize) -> &[u8] {
        let start = if number == 0 { 0 } else { self.ends.get(number - 1).map_or(0, |e| *e as usize) };
        let end = self.ends.get(number).map_or(0, |e| *e as usize);
        self.bytes().get(start..end).unwrap_or_default()
    }

    /// A body that has a checksum.
    pub fn checked(&self, number: usize) -> Result<&[u8], Truncated> {
        let whole = self.get(number);
        let (body, check) = whole.split_at_checked(whole.len().saturating_sub(CHECK)).ok_or(Truncated)?;
        if Digest::of(body).0[..CHECK] == *check { Ok(body) } else { Err(Truncated) }
    }

    pub fn text(&self, number: usize) -> &str {
        std::str::from_utf8(self.get(number)).unwrap_or_default()
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn encode(&self, out: &mut Encoder) {
        encode_numbers(&self.ends, out);
        out.bytes(self.bytes());
    }

    pub fn decode(from: &mut Decoder<'_>) -> Result<Bodies, Truncated> {
        Ok(Bodies { ends: decode_numbers(from)?, new: from.bytes()?.to_vec(), file: None })
    }
}

pub(crate) fn encode_numbers(numbers: &[u32], out: &mut Encoder) {
    out.u32(numbers.len() as u32 * 4);
    numbers.iter().for_each(|n| out.u32(*n));
}

pub(crate) fn decode_numbers(from: &mut Decoder<'_>) -> Result<Vec<u32>, Truncated> {
    let words = from.bytes()?.chunks_exact(4);
    Ok(words.map(|w| u32::from_le_bytes([w[0], w[1], w[2], w[3]])).collect())
}
