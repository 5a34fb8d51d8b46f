//! Many small things in few pieces of memory: lists of numbers, and byte strings. What is read back
//! stays where it lies in the bytes of its file, and is copied only where something is added.

use std::hash::{Hash, Hasher};
use std::ops::Range;

use nubrik_bytes::{Decoder, Encoder, Truncated};
use nubrik_engine::FileBytes;

/// A list of numbers in memory, or as it lies in the bytes of a file.
#[derive(Clone, Default)]
pub struct KeptNumbers(Storage<[u8; 4]>);

/// Where things are, one beside the other.
#[derive(Clone)]
enum Storage<T> {
    InMemory(Vec<T>),
    InFile(FilePart),
}

impl<T> Default for Storage<T> {
    fn default() -> Self {
        Storage::InMemory(Vec::new())
    }
}

impl<T: Clone> Storage<T> {
    /// Them in memory, to be changed; `of_bytes` gives those that lie in the bytes of a file.
    fn in_memory(&mut self, of_bytes: impl FnOnce(&[u8]) -> &[T]) -> &mut Vec<T> {
        if let Storage::InFile(part) = self {
            *self = Storage::InMemory(of_bytes(part.bytes()).to_vec());
        }
        match self {
            Storage::InMemory(things) => things,
            Storage::InFile(_) => unreachable!("they were put in memory just now"),
        }
    }
}

/// A part of a file's bytes.
#[derive(Clone)]
struct FilePart {
    file: FileBytes,
    at: Range<usize>,
}

impl FilePart {
    fn bytes(&self) -> &[u8] {
        (*self.file)
            .as_ref()
            .get(self.at.clone())
            .unwrap_or_default()
    }
}

impl PartialEq for KeptNumbers {
    fn eq(&self, other: &Self) -> bool {
        self.list() == other.list()
    }
}

impl From<Vec<u32>> for KeptNumbers {
    fn from(numbers: Vec<u32>) -> Self {
        numbers.into_iter().collect()
    }
}

impl FromIterator<u32> for KeptNumbers {
    fn from_iter<I: IntoIterator<Item = u32>>(numbers: I) -> Self {
        KeptNumbers(Storage::InMemory(
            numbers.into_iter().map(u32::to_le_bytes).collect(),
        ))
    }
}

impl Extend<u32> for KeptNumbers {
    fn extend<I: IntoIterator<Item = u32>>(&mut self, numbers: I) {
        self.in_memory()
            .extend(numbers.into_iter().map(u32::to_le_bytes));
    }
}

impl KeptNumbers {
    /// The list, to be read. Where it is read often, this is called once.
    pub fn list(&self) -> NumberList<'_> {
        NumberList(match &self.0 {
            Storage::InMemory(words) => words,
            Storage::InFile(part) => part.bytes().as_chunks().0,
        })
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.list().len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Adds one.
    pub fn push(&mut self, number: u32) {
        self.in_memory().push(number.to_le_bytes());
    }

    fn in_memory(&mut self) -> &mut Vec<[u8; 4]> {
        self.0.in_memory(|bytes| bytes.as_chunks().0)
    }

    /// Writes it.
    pub fn encode(&self, out: &mut Encoder) {
        out.bytes(self.list().0.as_flattened());
    }

    /// Reads it back, without a copy.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut FileDecoder<'_>) -> Result<KeptNumbers, Truncated> {
        Ok(KeptNumbers(Storage::InFile(from.part()?)))
    }
}

/// Reads what lies in the bytes of a file: lists and byte strings stay there.
pub struct FileDecoder<'f> {
    file: &'f FileBytes,
    /// Where in the file ends what is read.
    end: usize,
    /// Reads what is not long.
    pub decoder: Decoder<'f>,
}

impl<'f> FileDecoder<'f> {
    /// Reads a part of a file.
    ///
    /// # Errors
    /// When the file is shorter.
    pub fn new(file: &'f FileBytes, part: Range<usize>) -> Result<FileDecoder<'f>, Truncated> {
        let bytes = (**file).as_ref().get(part.clone()).ok_or(Truncated)?;
        Ok(FileDecoder {
            file,
            end: part.end,
            decoder: Decoder::new(bytes),
        })
    }

    /// Where a byte string lies.
    fn part(&mut self) -> Result<FilePart, Truncated> {
        let length = self.decoder.bytes()?.len();
        let end = self.end - self.decoder.rest().len();
        Ok(FilePart {
            file: self.file.clone(),
            at: end - length..end,
        })
    }
}

/// Numbers to be read, in the order of their bytes in files.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct NumberList<'n>(&'n [[u8; 4]]);

impl Hash for NumberList<'_> {
    /// All at once: there may be thousands.
    fn hash<H: Hasher>(&self, state: &mut H) {
        state.write(self.0.as_flattened());
    }
}

impl<'n> NumberList<'n> {
    /// How many there are.
    pub fn len(self) -> usize {
        self.0.len()
    }

    /// Whether there are none.
    pub fn is_empty(self) -> bool {
        self.0.is_empty()
    }

    /// The one at a place.
    pub fn get(self, place: usize) -> Option<u32> {
        self.0.get(place).map(|word| u32::from_le_bytes(*word))
    }

    /// All of them.
    pub fn iter(self) -> impl DoubleEndedIterator<Item = u32> + ExactSizeIterator + 'n {
        self.0.iter().map(|word| u32::from_le_bytes(*word))
    }

    /// Whether a number is among them; they are sorted.
    pub fn has_sorted(self, number: u32) -> bool {
        self.0
            .binary_search_by_key(&number, |word| u32::from_le_bytes(*word))
            .is_ok()
    }

    /// Those at some places; none where they are not all there.
    fn part(self, places: Range<usize>) -> NumberList<'n> {
        NumberList(self.0.get(places).unwrap_or_default())
    }
}

/// Lists of numbers, one after the other.
#[derive(Default, Clone, PartialEq)]
pub struct Lists {
    /// Where in `items` each list ends.
    pub ends: KeptNumbers,
    /// Items of all lists, one list after the other.
    pub items: KeptNumbers,
}

impl Lists {
    /// Adds a list.
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
    pub fn get(&self, number: usize) -> NumberList<'_> {
        self.reader().get(number)
    }

    /// The lists, to be read often.
    pub fn reader(&self) -> ListReader<'_> {
        ListReader {
            ends: self.ends.list(),
            items: self.items.list(),
        }
    }

    /// Writes it.
    pub fn encode(&self, out: &mut Encoder) {
        self.ends.encode(out);
        self.items.encode(out);
    }

    /// Reads it back, without a copy.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut FileDecoder<'_>) -> Result<Lists, Truncated> {
        Ok(Lists {
            ends: KeptNumbers::decode(from)?,
            items: KeptNumbers::decode(from)?,
        })
    }
}

/// Lists of numbers, to be read.
#[derive(Clone, Copy)]
pub struct ListReader<'n> {
    ends: NumberList<'n>,
    items: NumberList<'n>,
}

impl<'n> ListReader<'n> {
    /// The list with a number; an empty one where there is none.
    pub fn get(self, number: usize) -> NumberList<'n> {
        let end = |number| self.ends.get(number).map_or(0, |end| end as usize);
        self.items
            .part(if number == 0 { 0 } else { end(number - 1) }..end(number))
    }
}

/// Byte strings, one after the other.
#[derive(Default, Clone)]
pub struct Bodies {
    ends: KeptNumbers,
    bytes: Storage<u8>,
}

impl PartialEq for Bodies {
    fn eq(&self, other: &Self) -> bool {
        self.ends == other.ends && self.reader().bytes == other.reader().bytes
    }
}

impl Bodies {
    pub fn push(&mut self, body: &[u8]) {
        let bytes = self.bytes.in_memory(|bytes| bytes);
        bytes.extend_from_slice(body);
        let end = bytes.len() as u32;
        self.ends.push(end);
    }

    /// The byte strings, to be read often.
    pub fn reader(&self) -> BodyReader<'_> {
        let bytes = match &self.bytes {
            Storage::InMemory(bytes) => bytes,
            Storage::InFile(part) => part.bytes(),
        };
        BodyReader {
            ends: self.ends.list(),
            bytes,
        }
    }

    pub fn text(&self, number: usize) -> &str {
        self.reader().text(number)
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn encode(&self, out: &mut Encoder) {
        self.ends.encode(out);
        out.bytes(self.reader().bytes);
    }

    /// Reads them back, without a copy.
    pub fn decode(from: &mut FileDecoder<'_>) -> Result<Bodies, Truncated> {
        Ok(Bodies {
            ends: KeptNumbers::decode(from)?,
            bytes: Storage::InFile(from.part()?),
        })
    }
}

/// Byte strings, to be read.
#[derive(Clone, Copy)]
pub struct BodyReader<'b> {
    ends: NumberList<'b>,
    bytes: &'b [u8],
}

impl<'b> BodyReader<'b> {
    pub fn get(self, number: usize) -> &'b [u8] {
        let end = |number| self.ends.get(number).map_or(0, |end| end as usize);
        let start = if number == 0 { 0 } else { end(number - 1) };
        self.bytes.get(start..end(number)).unwrap_or_default()
    }

    pub fn text(self, number: usize) -> &'b str {
        std::str::from_utf8(self.get(number)).unwrap_or_default()
    }

    pub fn len(self) -> usize {
        self.ends.len()
    }
}

/// Numbers as they are written: their length in bytes, and four bytes for each.
pub fn encode_numbers(numbers: &[u32], out: &mut Encoder) {
    out.u32(numbers.len() as u32 * 4);
    out.bytes
        .extend(numbers.iter().flat_map(|number| number.to_le_bytes()));
}

/// Numbers in memory.
///
/// # Errors
/// When the bytes are damaged.
pub fn decode_numbers(from: &mut Decoder<'_>) -> Result<Vec<u32>, Truncated> {
    Ok(from
        .bytes()?
        .as_chunks()
        .0
        .iter()
        .map(|word| u32::from_le_bytes(*word))
        .collect())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::sync::Arc;

    use super::*;

    #[test]
    fn what_lies_in_a_file_is_read_there_at_any_place_and_copied_to_be_changed() {
        for before in 0..5 {
            let mut out = Encoder::new();
            out.bytes.resize(before, 7);
            let mut lists = Lists::default();
            [vec![3, 1 << 31], vec![], vec![5]]
                .into_iter()
                .for_each(|list| lists.push(list));
            let mut bodies = Bodies::default();
            ["ebb", "", "flow"]
                .into_iter()
                .for_each(|body| bodies.push(body.as_bytes()));
            lists.encode(&mut out);
            bodies.encode(&mut out);
            let end = out.bytes.len();
            out.bytes.push(9);
            let bytes = out.bytes.clone();
            let file: FileBytes = Arc::new(out.bytes);
            let from = &mut FileDecoder::new(&file, before..end).unwrap();
            let (mut lists_back, mut bodies_back) =
                (Lists::decode(from).unwrap(), Bodies::decode(from).unwrap());
            assert!(from.decoder.is_at_end() && lists_back == lists && bodies_back == bodies);
            assert_eq!(lists_back.get(0).iter().collect::<Vec<_>>(), [3, 1 << 31]);
            assert!(lists_back.get(1).is_empty() && lists_back.get(3).is_empty());
            assert_eq!((bodies_back.text(2), bodies_back.text(3)), ("flow", ""));
            lists_back.push([8, 9]);
            bodies_back.push(b"slack");
            assert_eq!(
                (lists_back.get(3).len(), lists_back.get(2).get(0)),
                (2, Some(5))
            );
            assert_eq!((bodies_back.text(3), bodies_back.text(0)), ("slack", "ebb"));
            assert_eq!((*file).as_ref(), bytes, "the file is as it was");
            for cut in before..end {
                let from = FileDecoder::new(&file, before..cut);
                let read = from
                    .and_then(|mut from| Lists::decode(&mut from).and(Bodies::decode(&mut from)));
                assert!(read.is_err(), "cut at {cut}");
            }
            assert!(FileDecoder::new(&file, 0..end + 2).is_err());
        }
    }
}
