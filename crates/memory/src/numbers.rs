//! Many small things in few pieces of memory: lists of numbers, and byte strings.

use nubrik_bytes::{Decoder, Encoder, Truncated};

/// Lists of numbers, one after the other.
#[derive(Default, Clone, PartialEq)]
pub struct Lists {
    /// Where in `items` each list ends.
    pub ends: Vec<u32>,
    /// Items of all lists, one list after the other.
    pub items: Vec<u32>,
}

impl Lists {
    /// Adds a list, or an item.
    pub fn push(&mut self, items: impl IntoIterator<Item = u32>) {
        self.items.extend(items);
        self.ends.push(self.items.len() as u32);
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The one with a number; an empty one where there is none.
    pub fn get(&self, number: usize) -> &[u32] {
        let start = if number == 0 { 0 } else { self.ends.get(number - 1).map_or(0, |e| *e as usize) };
        let end = self.ends.get(number).map_or(0, |e| *e as usize);
        self.items.get(start..end).unwrap_or_default()
    }

    /// Writes it.
    pub fn encode(&self, out: &mut Encoder) {
        encode_numbers(&self.ends, out);
        encode_numbers(&self.items, out);
    }

    /// Reads it back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut Decoder<'_>) -> Result<Lists, Truncated> {
        Ok(Lists { ends: decode_numbers(from)?, items: decode_numbers(from)? })
    }
}

/// Byte strings, one after the other.
#[derive(Default, Clone, PartialEq)]
pub struct Bodies {
    ends: Vec<u32>,
    bytes: Vec<u8>,
}

impl Bodies {
    pub fn push(&mut self, body: &[u8]) {
        self.bytes.extend_from_slice(body);
        self.ends.push(self.bytes.len() as u32);
    }

    pub fn get(&self, number: usize) -> &[u8] {
        let start = if number == 0 { 0 } else { self.ends.get(number - 1).map_or(0, |e| *e as usize) };
        let end = self.ends.get(number).map_or(0, |e| *e as usize);
        self.bytes.get(start..end).unwrap_or_default()
    }

    pub fn text(&self, number: usize) -> &str {
        std::str::from_utf8(self.get(number)).unwrap_or_default()
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn encode(&self, out: &mut Encoder) {
        encode_numbers(&self.ends, out);
        out.bytes(&self.bytes);
    }

    pub fn decode(from: &mut Decoder<'_>) -> Result<Bodies, Truncated> {
        Ok(Bodies { ends: decode_numbers(from)?, bytes: from.bytes()?.to_vec() })
    }
}

pub fn encode_numbers(numbers: &[u32], out: &mut Encoder) {
    out.u32(numbers.len() as u32 * 4);
    let start = out.bytes.len();
    out.bytes.resize(start + numbers.len() * 4, 0);
    // All at once: there may be millions.
    for (place, number) in out.bytes[start..].chunks_exact_mut(4).zip(numbers) {
        place.copy_from_slice(&number.to_le_bytes());
    }
}

pub fn decode_numbers(from: &mut Decoder<'_>) -> Result<Vec<u32>, Truncated> {
    let words = from.bytes()?.chunks_exact(4);
    Ok(words.map(|w| u32::from_le_bytes([w[0], w[1], w[2], w[3]])).collect())
}
