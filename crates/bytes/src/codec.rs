//! The byte layout shared by records, the state and step keys: numbers little-endian, a text or
//! byte string as its length in bytes (`u32`) and then its bytes, a list as its length and items.

use std::fmt;

use crate::Digest;

/// Writes values to bytes.
#[derive(Default)]
pub struct Encoder {
    /// What was written so far.
    pub bytes: Vec<u8>,
}

impl Encoder {
    /// An encoder with nothing written.
    pub fn new() -> Self {
        Self::default()
    }

    /// Writes one byte.
    pub fn u8(&mut self, value: u8) {
        self.bytes.push(value);
    }

    /// Writes four bytes.
    pub fn u32(&mut self, value: u32) {
        self.bytes.extend_from_slice(&value.to_le_bytes());
    }

    /// Writes eight bytes.
    pub fn u64(&mut self, value: u64) {
        self.bytes.extend_from_slice(&value.to_le_bytes());
    }

    /// Writes a yes or no as one byte.
    pub fn bool(&mut self, value: bool) {
        self.u8(u8::from(value));
    }

    /// Writes a length and bytes.
    pub fn bytes(&mut self, value: &[u8]) {
        self.u32(value.len() as u32);
        self.bytes.extend_from_slice(value);
    }

    /// Writes a length and the bytes of a text.
    pub fn text(&mut self, value: &str) {
        self.bytes(value.as_bytes());
    }

    /// Writes 32 bytes.
    pub fn digest(&mut self, value: &Digest) {
        self.bytes.extend_from_slice(&value.0);
    }

    /// Writes a length and items.
    pub fn list<T>(&mut self, items: &[T], mut item: impl FnMut(&mut Self, &T)) {
        self.u32(items.len() as u32);
        for value in items {
            item(self, value);
        }
    }
}

/// Bytes that end too early or hold what cannot be there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Truncated;

impl fmt::Display for Truncated {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the bytes are damaged")
    }
}

impl std::error::Error for Truncated {}

/// Reads values back from bytes; never panics, whatever the bytes are.
pub struct Decoder<'a> {
    rest: &'a [u8],
}

impl<'a> Decoder<'a> {
    /// A decoder at the beginning of some bytes.
    pub fn new(bytes: &'a [u8]) -> Self {
        Decoder { rest: bytes }
    }

    /// What is not read yet.
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// Whether everything was read.
    pub fn is_at_end(&self) -> bool {
        self.rest.is_empty()
    }

    pub(crate) fn take(&mut self, count: usize) -> Result<&'a [u8], Truncated> {
        if count > self.rest.len() {
            return Err(Truncated);
        }
        let (taken, rest) = self.rest.split_at(count);
        self.rest = rest;
        Ok(taken)
    }

    /// Reads so many bytes.
    pub fn array<const N: usize>(&mut self) -> Result<[u8; N], Truncated> {
        self.take(N)?.try_into().map_err(|_| Truncated)
    }

    /// Reads one byte.
    pub fn u8(&mut self) -> Result<u8, Truncated> {
        Ok(self.take(1)?[0])
    }

    /// Reads four bytes.
    pub fn u32(&mut self) -> Result<u32, Truncated> {
        self.array().map(u32::from_le_bytes)
    }

    /// Reads eight bytes.
    pub fn u64(&mut self) -> Result<u64, Truncated> {
        self.array().map(u64::from_le_bytes)
    }

    /// Reads a yes or no.
    pub fn bool(&mut self) -> Result<bool, Truncated> {
        match self.u8()? {
            0 => Ok(false),
            1 => Ok(true),
            _ => Err(Truncated),
        }
    }

    /// Reads a length and bytes.
    pub fn bytes(&mut self) -> Result<&'a [u8], Truncated> {
        let count = self.u32()? as usize;
        self.take(count)
    }

    /// Reads a length and a text.
    pub fn text(&mut self) -> Result<&'a str, Truncated> {
        std::str::from_utf8(self.bytes()?).map_err(|_| Truncated)
    }

    /// Reads 32 bytes.
    pub fn digest(&mut self) -> Result<Digest, Truncated> {
        self.array().map(Digest)
    }

    /// Reads a length and items.
    pub fn list<T>(
        &mut self,
        mut item: impl FnMut(&mut Self) -> Result<T, Truncated>,
    ) -> Result<Vec<T>, Truncated> {
        let count = self.u32()? as usize;
        // Every item takes at least a byte: a damaged length cannot exhaust memory.
        let mut items = Vec::with_capacity(count.min(self.rest.len()));
        for _ in 0..count {
            items.push(item(self)?);
        }
        Ok(items)
    }
}
