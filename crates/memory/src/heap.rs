//! Byte strings in a file that is only ever added to: what is taken over from an earlier graph
//! stays where it lies, and only what is new is written.

use std::io::{self, Seek, SeekFrom, Write};
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_disk::Below;
use nubrik_engine::FileBytes;

use rustix::fs::OFlags;

use crate::numbers::{FileDecoder, KeptNumbers, NumberList};

const MAGIC: &[u8; 8] = b"nbheap 2";

/// Length of what is before the first byte string: magic, and the heap's own number.
const HEADER: usize = 8 + 32;

/// Length of the checksum after each byte string.
const CHECK: usize = 8;

/// Where byte strings lie in a heap.
#[derive(Clone, Default)]
pub struct Pieces {
    starts: KeptNumbers,
    lengths: KeptNumbers,
}

impl Pieces {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.starts.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How much all of them take, in bytes.
    pub fn size(&self) -> u64 {
        self.lengths
            .list()
            .iter()
            .map(|n| u64::from(n) + CHECK as u64)
            .sum()
    }

    /// Takes over a byte string of another list of the same heap.
    pub fn take_over(&mut self, other: &Pieces, number: usize) {
        self.starts
            .push(other.starts.list().get(number).unwrap_or_default());
        self.lengths
            .push(other.lengths.list().get(number).unwrap_or_default());
    }

    /// Writes them.
    pub fn encode(&self, out: &mut Encoder) {
        self.starts.encode(out);
        self.lengths.encode(out);
    }

    /// Reads them back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut FileDecoder<'_>) -> Result<Pieces, Truncated> {
        Ok(Pieces {
            starts: KeptNumbers::decode(from)?,
            lengths: KeptNumbers::decode(from)?,
        })
    }
}

/// Byte strings of a heap, to be read.
#[derive(Clone, Copy)]
pub struct PieceReader<'h> {
    starts: NumberList<'h>,
    lengths: NumberList<'h>,
    file: &'h [u8],
    /// How much of the file belongs to the heap.
    length: usize,
    /// What is to be added to it.
    new: &'h [u8],
}

impl<'h> PieceReader<'h> {
    /// One with its checksum.
    fn whole(self, number: usize) -> Option<&'h [u8]> {
        let start = self.starts.get(number)? as usize;
        let length = self.lengths.get(number)? as usize + CHECK;
        match start.checked_sub(self.length) {
            Some(start) => self.new.get(start..start + length),
            None => self.file.get(start..(start + length).min(self.length)),
        }
    }

    /// One exactly as it is there.
    pub fn unchecked(self, number: usize) -> &'h [u8] {
        let whole = self.whole(number).unwrap_or_default();
        &whole[..whole.len().saturating_sub(CHECK)]
    }
}

/// The bytes behind [`Pieces`].
#[derive(Clone)]
pub struct Heap {
    file: FileBytes,
    /// How much of the file belongs to it.
    length: usize,
    /// What is to be added to the file.
    new: Vec<u8>,
    id: Digest,
}

impl Default for Heap {
    fn default() -> Self {
        Heap {
            file: Arc::new([]),
            length: HEADER,
            new: Vec::new(),
            id: Digest::default(),
        }
    }
}

impl Heap {
    /// How much there is of it, with what is new.
    pub fn size(&self) -> u64 {
        (self.length + self.new.len()) as u64
    }

    /// Adds a byte string.
    pub fn push(&mut self, pieces: &mut Pieces, body: &[u8]) {
        pieces.starts.push((self.length + self.new.len()) as u32);
        pieces.lengths.push(body.len() as u32);
        self.new.extend_from_slice(body);
        self.new.extend_from_slice(&Digest::of(body).0[..CHECK]);
    }

    /// Byte strings, to be read often.
    pub fn reader<'h>(&'h self, pieces: &'h Pieces) -> PieceReader<'h> {
        PieceReader {
            starts: pieces.starts.list(),
            lengths: pieces.lengths.list(),
            file: (*self.file).as_ref(),
            length: self.length,
            new: &self.new,
        }
    }

    /// A byte string that is compared with its checksum.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn get<'h>(&'h self, pieces: &'h Pieces, number: usize) -> Result<&'h [u8], Truncated> {
        let whole = self.reader(pieces).whole(number).ok_or(Truncated)?;
        let (body, check) = whole
            .split_at_checked(whole.len().saturating_sub(CHECK))
            .ok_or(Truncated)?;
        if Digest::of(body).0[..CHECK] == *check {
            Ok(body)
        } else {
            Err(Truncated)
        }
    }

    /// A byte string exactly as it is there.
    pub fn unchecked<'h>(&'h self, pieces: &'h Pieces, number: usize) -> &'h [u8] {
        self.reader(pieces).unchecked(number)
    }

    /// Writes a heap of its own to a file, or adds what is new to the one that it was read from.
    pub fn save(&mut self, own: &Below, path: &str) -> io::Result<()> {
        if self.size() > u64::from(u32::MAX) {
            return Err(io::Error::other("the graph is too large to be kept"));
        }
        if self.length == HEADER {
            self.id = Digest::of(&self.new);
            return own.write_whole(path, &[MAGIC.as_slice(), &self.id.0, &self.new].concat());
        }
        let mut file = own.open(path, OFlags::WRONLY)?;
        // After it may lie what an interrupted command added.
        file.set_len(self.length as u64)?;
        file.seek(SeekFrom::End(0))?;
        file.write_all(&self.new)
    }

    /// What names the heap and its length in a file of tables.
    pub fn encode(&self, out: &mut Encoder) {
        out.digest(&self.id);
        out.u64(self.size());
    }

    /// The heap that a file of tables names, in its file's bytes.
    pub fn decode(from: &mut Decoder<'_>, file: FileBytes) -> Result<Heap, Truncated> {
        let (id, length) = (from.digest()?, from.u64()? as usize);
        let bytes = (*file).as_ref();
        if bytes.len() < length.max(HEADER) || bytes[..8] != *MAGIC || bytes[8..HEADER] != id.0 {
            return Err(Truncated);
        }
        Ok(Heap {
            file,
            length,
            new: Vec::new(),
            id,
        })
    }
}
