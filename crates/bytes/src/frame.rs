//! How every file that is kept begins: what it is, and a digest of what must be whole before
//! anything in it is believed.

use std::ops::Range;

use crate::codec::{Encoder, Truncated};
use crate::digest::{Digest, Hasher};

/// What a kind of file begins with, its version among it.
pub type Magic = [u8; 8];

/// Where the parts of a framed file lie: magic, digest of the head, length of the head (`u64`),
/// head, body.
///
/// The body is not in the digest: a caller that puts something there can tell for each part of it
/// whether it is whole.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Frame {
    /// The digest of the head, which names the file: another file that belongs to this one says so
    /// by it.
    pub id: Digest,
    /// Where the head lies, in bytes from the beginning of the file.
    pub head: Range<usize>,
}

impl Frame {
    /// How much lies before the head, in bytes.
    pub const START: usize = 8 + 32 + 8;

    /// A file of a head and a body.
    pub fn file(magic: Magic, head: &[u8], body: &[u8]) -> Vec<u8> {
        let mut file = Vec::with_capacity(Frame::START + head.len() + body.len());
        file.extend_from_slice(&magic);
        file.extend_from_slice(&id_of(head).0);
        file.extend_from_slice(&(head.len() as u64).to_le_bytes());
        file.extend_from_slice(head);
        file.extend_from_slice(body);
        file
    }

    /// Begins a file that is all head: what is added is, to [`Frame::end`].
    pub fn begin(magic: Magic) -> Encoder {
        let mut out = Encoder::new();
        out.bytes.extend_from_slice(&magic);
        out.bytes.resize(Frame::START, 0);
        out
    }

    /// Ends what was begun.
    pub fn end(out: Encoder) -> Vec<u8> {
        let mut file = out.bytes;
        let id = id_of(&file[Frame::START..]);
        let length = (file.len() - Frame::START) as u64;
        file[8..40].copy_from_slice(&id.0);
        file[40..Frame::START].copy_from_slice(&length.to_le_bytes());
        file
    }

    /// The frame of a file with this magic.
    ///
    /// # Errors
    /// When it is another kind or version of file, or its head is damaged.
    pub fn of(magic: Magic, file: &[u8]) -> Result<Frame, Truncated> {
        let frame = Frame::of_whole(magic, file)?;
        if frame.id == id_of(&file[frame.head.clone()]) {
            Ok(frame)
        } else {
            Err(Truncated)
        }
    }

    /// The same of a file that was found to be whole before, and has not changed since.
    ///
    /// # Errors
    /// When it is another kind or version of file, or shorter than it says.
    pub fn of_whole(magic: Magic, file: &[u8]) -> Result<Frame, Truncated> {
        let (start, rest) = file.split_at_checked(Frame::START).ok_or(Truncated)?;
        let id = Frame::id_in(magic, start).ok_or(Truncated)?;
        let length = start[40..]
            .try_into()
            .map(u64::from_le_bytes)
            .map_err(|_| Truncated)?;
        let length = usize::try_from(length).map_err(|_| Truncated)?;
        rest.get(..length).ok_or(Truncated)?;
        Ok(Frame {
            id,
            head: Frame::START..Frame::START + length,
        })
    }

    /// The id in the beginning of a file of this kind, exactly as it is there; `None` where it is
    /// none.
    pub fn id_in(magic: Magic, start: &[u8]) -> Option<Digest> {
        let id = start.strip_prefix(&magic)?.get(..32)?;
        id.try_into().ok().map(Digest)
    }
}

fn id_of(head: &[u8]) -> Digest {
    let mut hasher = Hasher::new();
    hasher.update(&(head.len() as u64).to_le_bytes());
    hasher.update(head);
    hasher.finish()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    const MAGIC: Magic = *b"tides  1";

    #[test]
    fn a_file_is_read_back_and_its_damaged_head_refused() {
        let file = Frame::file(MAGIC, b"head", b"body");
        let frame = Frame::of(MAGIC, &file).unwrap();
        assert_eq!(
            (&file[frame.head.clone()], &file[frame.head.end..]),
            (&b"head"[..], &b"body"[..])
        );
        assert_eq!(Frame::id_in(MAGIC, &file), Some(frame.id));
        assert_eq!(Frame::id_in(*b"tides  2", &file), None);
        for at in 0..frame.head.end {
            let mut damaged = file.clone();
            damaged[at] ^= 1;
            assert!(Frame::of(MAGIC, &damaged).is_err(), "byte {at}");
            assert!(Frame::of(MAGIC, &file[..at]).is_err(), "cut at {at}");
        }
        let mut whole = Frame::begin(MAGIC);
        whole.bytes.extend_from_slice(b"head");
        assert_eq!(Frame::end(whole), file[..frame.head.end]);
        assert_eq!(
            Frame::of(MAGIC, &file[..frame.head.end]),
            Ok(frame),
            "the body is not looked at"
        );
    }
}
