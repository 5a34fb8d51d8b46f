//! What is asked of a watcher, and what it answers. Each message is a length and so many bytes.

use std::io::{self, Read, Write};

use nubrik_bytes::{Digest, Layout, layout};
use nubrik_disk::Signature;
use nubrik_memory::Version;

use crate::around::{Doubt, SeenFrom};

/// No message is longer, in bytes: a number for each of some millions of paths.
const LIMIT: u32 = 64 << 20;

/// What is asked.
#[derive(Debug)]
pub(crate) struct WatcherQuestion {
    /// The program that asks: only the same one knows what its messages mean.
    pub program: Digest,
    /// What it wants.
    pub want: Want,
}

/// What somebody wants of a watcher.
#[derive(Debug)]
pub(crate) enum Want {
    /// The paths of a seal that may have changed.
    Doubtful {
        seen: SeenFrom,
        seal: String,
        version: Version,
        file: Signature,
    },
    /// That it learns a seal: it was written just now.
    Learn { seal: String },
    /// How it is.
    Status,
    /// That it stays as long as the connection does.
    Stay,
    /// That it ends.
    End,
}

/// What a watcher answers.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum WatcherAnswer {
    /// Numbers of the paths that may have changed, rising; all others are as the seal says.
    Doubtful(Vec<u32>),
    /// Everything may have changed.
    All(Doubt),
    /// How it is.
    Status(WatcherStatus),
    /// It does so.
    Done,
    /// Another program asks: it ends.
    OtherProgram,
}

/// How a watcher is.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct WatcherStatus {
    /// How many paths its seals have.
    pub paths: usize,
    /// How many of them are known to be as they were.
    pub same: usize,
    /// How many can never be known to be so, as they are somewhere else or another user's, and are
    /// looked at each time.
    pub apart: usize,
    /// How many of those only lack a watch, since the kernel allows no more.
    pub lacking: usize,
    /// How many watches it has.
    pub watches: usize,
    /// Why everything was looked at the last time that it was.
    pub doubt: Option<Doubt>,
}

layout!(WatcherQuestion { program, want });
layout!(enum Want {
    0 => Doubtful { seen, seal, version, file },
    1 => Learn { seal },
    2 => Status,
    3 => Stay,
    4 => End,
});
layout!(enum WatcherAnswer { 0 => Doubtful(numbers), 1 => All(doubt), 2 => Status(status), 3 => Done, 4 => OtherProgram });
layout!(WatcherStatus {
    paths,
    same,
    apart,
    lacking,
    watches,
    doubt
});

/// Sends a message.
pub(crate) fn send(to: &mut impl Write, message: &impl Layout) -> io::Result<()> {
    let bytes = message.to_bytes();
    let length = u32::try_from(bytes.len())
        .ok()
        .filter(|length| *length <= LIMIT);
    let length = length.ok_or_else(|| io::Error::other("a message that is too long"))?;
    to.write_all(&[&length.to_le_bytes(), bytes.as_slice()].concat())
}

/// Receives a message.
pub(crate) fn receive<T: Layout>(from: &mut impl Read) -> io::Result<T> {
    let mut length = [0; 4];
    from.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length);
    if length > LIMIT {
        return Err(io::Error::other("a message that is too long"));
    }
    let mut bytes = Vec::new();
    from.take(u64::from(length)).read_to_end(&mut bytes)?;
    T::of_bytes(&bytes).map_err(|_| io::Error::other("a damaged message"))
}
