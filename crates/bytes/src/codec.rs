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

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    /// One value of each kind.
    fn written() -> Vec<u8> {
        let mut out = Encoder::new();
        out.u8(7);
        out.u32(u32::MAX);
        out.u64(1 << 40);
        out.bool(true);
        out.bytes(b"\0ebb");
        out.text("flöw");
        out.digest(&Digest([3; 32]));
        out.list(&["a", ""], |out, text| out.text(text));
        out.bytes
    }

    /// What [`written`] wrote, read from some bytes.
    fn read(bytes: &[u8]) -> Result<(u32, u64, String, Vec<String>), Truncated> {
        let from = &mut Decoder::new(bytes);
        if from.u8()? != 7 {
            return Err(Truncated);
        }
        let (small, large) = (from.u32()?, from.u64()?);
        if !from.bool()? || from.bytes()? != b"\0ebb" {
            return Err(Truncated);
        }
        let text = from.text()?.to_owned();
        if from.digest()? != Digest([3; 32]) {
            return Err(Truncated);
        }
        let list = from.list(|from| from.text().map(str::to_owned))?;
        if from.is_at_end() {
            Ok((small, large, text, list))
        } else {
            Err(Truncated)
        }
    }

    #[test]
    fn values_come_back_in_their_order() {
        let list = vec!["a".to_owned(), String::new()];
        assert_eq!(
            read(&written()),
            Ok((u32::MAX, 1 << 40, "flöw".to_owned(), list))
        );
        // The layout is part of formats: it stays.
        assert_eq!(
            written()[..13],
            [7, 255, 255, 255, 255, 0, 0, 0, 0, 0, 1, 0, 0]
        );
    }

    #[test]
    fn bytes_that_end_too_early_are_damage() {
        let all = written();
        for cut in 0..all.len() {
            assert_eq!(read(&all[..cut]), Err(Truncated), "cut at {cut}");
        }
        assert_eq!(read(&[&all[..], b"x"].concat()), Err(Truncated));
    }

    #[test]
    fn a_length_that_cannot_be_takes_no_memory() {
        let huge = u32::MAX.to_le_bytes();
        assert_eq!(Decoder::new(&huge).bytes(), Err(Truncated));
        assert_eq!(Decoder::new(&huge).text(), Err(Truncated));
        assert_eq!(Decoder::new(&huge).list(|from| from.u64()), Err(Truncated));
    }

    #[test]
    fn only_zero_and_one_are_a_yes_or_no_and_only_utf8_is_a_text() {
        for byte in 2..=u8::MAX {
            assert_eq!(Decoder::new(&[byte]).bool(), Err(Truncated));
        }
        assert_eq!(Decoder::new(&[1, 0, 0, 0, 0xff]).text(), Err(Truncated));
        assert_eq!(Decoder::new(&[1, 0, 0, 0, 0xff]).bytes(), Ok(&[0xff][..]));
    }
}
