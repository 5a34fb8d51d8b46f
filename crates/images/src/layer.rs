//! Reading a layer: a tar of what it changes, unpacked to contents and a list.
//!
//! Nothing of it is unpacked to its own names: those are only in the list, so that no name, link or
//! order of a layer can lead anywhere on this machine.

use std::collections::HashMap;
use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use crate::blobs::Blobs;
use crate::checked::{BlobDigest, CheckedReader};
use crate::files::{FileHead, FilePool};
use crate::manifest::{BlobDescriptor, Compression, compression_of};
use crate::problem::{ImageProblem, ImageResult, bad};
use crate::tree::{Layer, LayerChange, RootPath, TreeNode, shown};

/// What a name begins with that says that something of the layers below is gone.
pub(crate) const GONE: &[u8] = b".wh.";
/// The name that says that nothing of what layers below have in its folder is left.
const EMPTIED: &[u8] = b".wh..wh..opq";
/// Other names of this kind are for whoever packed the layer.
const FOR_PACKERS: &[u8] = b".wh..wh.";

/// How many things one layer may hold, and how long paths and names may be, in bytes: the kernel's
/// limits.
const MOST_ENTRIES: usize = 4_000_000;
const LONGEST_PATH: usize = 4095;
const LONGEST_NAME: usize = 255;

/// What a record of extended attributes begins with, and which of them count.
const ATTRIBUTE: &str = "SCHILY.xattr.";
pub(crate) const OF_USERS: &str = "user.";

/// The record of a tar that has an extended attribute.
pub(crate) fn user_attribute(name: &str) -> String {
    format!("{ATTRIBUTE}{name}")
}

/// Pieces of a layer's tar on their way from the thread that unpacks, and how many may be waiting.
const PIECE: usize = 256 << 10;
const WAITING: usize = 16;

/// What is asked while layers are read.
pub trait UnpackListener: Sync {
    /// Whether to stop.
    fn is_stopped(&self) -> bool;
}

/// Reads a layer; keeps the contents of its files.
pub(crate) fn read_layer(
    blobs: &dyn Blobs,
    layer: &BlobDescriptor,
    unpacked: &BlobDigest,
    pool: &FilePool,
    listener: &dyn UnpackListener,
) -> ImageResult<Layer> {
    let digest = layer.blob()?;
    let compression = compression_of(layer)?;
    let blob = blobs.open(&digest)?;
    let most = nubrik_archive::largest(layer.size);
    let stoppable = Stoppable {
        inner: blob,
        listener,
    };
    let packed = CheckedReader::new(stoppable, &digest, Some(layer.size), u64::MAX);
    let (give, take) = sync_channel(WAITING);
    std::thread::scope(|scope| {
        let unpacker = scope.spawn(move || unpack(packed, compression, &give, listener));
        let pieces = TarPieces {
            take,
            piece: Vec::new(),
            at: 0,
        };
        let mut tar = CheckedReader::new(pieces, unpacked, None, most);
        let mut filled_up = FilledUp {
            inner: &mut tar,
            read: 0,
        };
        let read = read_tar(&mut filled_up, pool, listener);
        let read = read.and_then(|layer| match tar.finish() {
            Ok(()) => Ok(layer),
            Err(why) => bad(why.to_string()),
        });
        // It ends when nobody takes its pieces any more.
        drop(tar);
        let unpacked = unpacker
            .join()
            .unwrap_or_else(|_| Err(io::Error::other("the thread that unpacks ended")));
        if listener.is_stopped() {
            return Err(ImageProblem::Stopped);
        }
        match (read, unpacked) {
            // A packed layer that is wrong is why the rest is.
            (_, Err(why)) if why.kind() != io::ErrorKind::BrokenPipe => {
                bad(format!("the layer {digest} cannot be used: {why}"))
            }
            (Err(ImageProblem::Image(why)), _) => {
                bad(format!("the layer {digest} cannot be used: {why}"))
            }
            (read, _) => read,
        }
    })
}

/// Ends when it is to stop.
struct Stoppable<'a> {
    inner: Box<dyn Read + Send>,
    listener: &'a dyn UnpackListener,
}

impl Read for Stoppable<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.listener.is_stopped() {
            return Err(io::Error::other("it was stopped"));
        }
        self.inner.read(buffer)
    }
}

/// Unpacks a layer, in pieces, as long as somebody takes them. All of the packed layer is read, so
/// that its digest is checked.
fn unpack(
    packed: CheckedReader<Stoppable<'_>>,
    compression: Compression,
    give: &SyncSender<Vec<u8>>,
    listener: &dyn UnpackListener,
) -> io::Result<()> {
    let mut packed = io::BufReader::with_capacity(PIECE, packed);
    match compression {
        Compression::None => send(&mut packed, give, listener)?,
        Compression::Gzip => send(
            &mut flate2::bufread::MultiGzDecoder::new(&mut packed),
            give,
            listener,
        )?,
        Compression::Zstandard => {
            send(
                &mut zstd::stream::read::Decoder::with_buffer(&mut packed)?,
                give,
                listener,
            )?;
        }
    }
    packed.get_mut().finish()
}

fn send(
    from: &mut dyn Read,
    give: &SyncSender<Vec<u8>>,
    listener: &dyn UnpackListener,
) -> io::Result<()> {
    loop {
        let mut piece = vec![0; PIECE];
        let mut filled = 0;
        while filled < piece.len() {
            match from.read(&mut piece[filled..])? {
                0 => break,
                count => filled += count,
            }
        }
        if filled == 0 {
            return Ok(());
        }
        piece.truncate(filled);
        if listener.is_stopped() || give.send(piece).is_err() {
            return Err(io::ErrorKind::BrokenPipe.into());
        }
    }
}

/// A tar whose last block is filled up where its writer did not do that, as some do. Whether
/// anything is missing its digest says.
struct FilledUp<R> {
    inner: R,
    read: u64,
}

impl<R: Read> Read for FilledUp<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        const BLOCK: u64 = 512;
        let count = match self.inner.read(buffer)? {
            0 => {
                let missing = (BLOCK - self.read % BLOCK) % BLOCK;
                let count = buffer.len().min(missing as usize);
                buffer[..count].fill(0);
                count
            }
            count => count,
        };
        self.read += count as u64;
        Ok(count)
    }
}

/// What comes in pieces from another thread.
struct TarPieces {
    take: Receiver<Vec<u8>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for TarPieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            match self.take.recv() {
                Ok(piece) => (self.piece, self.at) = (piece, 0),
                Err(_) => return Ok(0),
            }
        }
        let count = buffer.len().min(self.piece.len() - self.at);
        buffer[..count].copy_from_slice(&self.piece[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

/// What a layer says, gathered from its entries.
#[derive(Default)]
struct Gathering {
    /// In the order of the layer: what comes later lies where what came before leads.
    changes: Vec<(RootPath, LayerChange)>,
    /// Which of them says last of a path what is there.
    last: HashMap<RootPath, usize>,
}

fn read_tar(
    tar: &mut dyn Read,
    pool: &FilePool,
    listener: &dyn UnpackListener,
) -> ImageResult<Layer> {
    let broken = |why: io::Error| ImageProblem::Image(why.to_string());
    let mut gathering = Gathering::default();
    let mut archive = tar::Archive::new(tar);
    for (number, entry) in archive.entries().map_err(broken)?.enumerate() {
        if number >= MOST_ENTRIES {
            return bad(format!("it holds more than {MOST_ENTRIES} files"));
        }
        if listener.is_stopped() {
            return Err(ImageProblem::Stopped);
        }
        gathering.add(&mut entry.map_err(broken)?, pool)?;
    }
    Ok(Layer {
        changes: gathering.changes,
    })
}

impl Gathering {
    fn add(&mut self, entry: &mut tar::Entry<'_, impl Read>, pool: &FilePool) -> ImageResult<()> {
        let kind = entry.header().entry_type();
        if matches!(
            kind,
            tar::EntryType::XGlobalHeader | tar::EntryType::XHeader
        ) {
            return Ok(());
        }
        let path = clean(&entry.path_bytes())?;
        // The top itself: what it is like is the sandbox's.
        if path.is_empty() {
            return Ok(());
        }
        let (folder, name) = match path.iter().rposition(|byte| *byte == b'/') {
            Some(end) => (&path[..end], &path[end + 1..]),
            None => (&path[..0], path.as_slice()),
        };
        if let Some(rest) = name.strip_prefix(GONE) {
            return self.add_removal(&path, folder, (name, rest));
        }
        let Some(change) = self.change_of(entry, &path, pool)? else {
            return Ok(());
        };
        self.last.insert(path.clone(), self.changes.len());
        self.changes.push((path, change));
        Ok(())
    }

    /// Takes up what a name of a special form says: that another name, or all of its folder, is
    /// gone.
    fn add_removal(
        &mut self,
        path: &[u8],
        folder: &[u8],
        (name, rest): (&[u8], &[u8]),
    ) -> ImageResult<()> {
        match name {
            EMPTIED if folder.is_empty() => return bad("it empties the whole root"),
            EMPTIED => self.changes.push((folder.to_vec(), LayerChange::Emptied)),
            _ if name.starts_with(FOR_PACKERS) => {}
            _ if rest.is_empty() || rest == b"." || rest == b".." => {
                return bad(format!("{} says that nothing is gone", shown(path)));
            }
            _ => {
                let gone = if folder.is_empty() {
                    rest.to_vec()
                } else {
                    [folder, b"/", rest].concat()
                };
                self.changes.push((gone, LayerChange::Gone));
            }
        }
        Ok(())
    }

    /// An entry's change at `path`. `None` if it changes nothing.
    fn change_of(
        &self,
        entry: &mut tar::Entry<'_, impl Read>,
        path: &[u8],
        pool: &FilePool,
    ) -> ImageResult<Option<LayerChange>> {
        let broken = |why: io::Error| ImageProblem::Image(why.to_string());
        let header = entry.header();
        let mode = header.mode().map_err(broken)?;
        let time = header.mtime().map_err(broken)? as i64;
        Ok(Some(match entry.header().entry_type() {
            tar::EntryType::Directory => LayerChange::Is(TreeNode::Folder {
                mode: mode & 0o1777,
                time,
            }),
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                let attributes = attributes_of(entry)?;
                let head = FileHead {
                    size: entry.size(),
                    mode: mode & 0o777,
                    time,
                    attributes,
                };
                LayerChange::Is(TreeNode::File(pool.keep(head, entry)?))
            }
            tar::EntryType::Symlink => {
                let target = entry.link_name_bytes().unwrap_or_default().into_owned();
                if target.is_empty() || target.len() > LONGEST_PATH || target.contains(&0) {
                    return bad(format!("the link {} leads nowhere", shown(path)));
                }
                LayerChange::Is(TreeNode::Link { target, time })
            }
            tar::EntryType::Link => {
                self.second_name(&entry.link_name_bytes().unwrap_or_default())?
            }
            // Each sandbox has devices of its own.
            tar::EntryType::Char | tar::EntryType::Block if path.starts_with(b"dev/") => {
                return Ok(None);
            }
            tar::EntryType::Char | tar::EntryType::Block => {
                return bad(format!(
                    "{} is a device, and no device is made for an image",
                    shown(path)
                ));
            }
            tar::EntryType::Fifo => return bad(format!("{} is a pipe", shown(path))),
            other => {
                let kind = other.as_byte().escape_ascii();
                return bad(format!("{} is of the unknown kind `{kind}`", shown(path)));
            }
        }))
    }

    /// The change of a path that is a second name of another one.
    fn second_name(&self, other: &[u8]) -> ImageResult<LayerChange> {
        let other = clean(other)?;
        let known = self.last.get(&other).map(|at| &self.changes[*at].1);
        Ok(match known {
            Some(
                change @ (LayerChange::Is(TreeNode::File(_) | TreeNode::Link { .. })
                | LayerChange::SameAs(_)),
            ) => change.clone(),
            _ => LayerChange::SameAs(other),
        })
    }
}

/// Extended attributes of users, sorted by name. Others are the system's: permissions that no
/// sandbox grants, and labels.
fn attributes_of(entry: &mut tar::Entry<'_, impl Read>) -> ImageResult<Vec<(Vec<u8>, Vec<u8>)>> {
    let Ok(Some(records)) = entry.pax_extensions() else {
        return Ok(Vec::new());
    };
    let mut attributes = Vec::new();
    for record in records {
        let Ok(record) = record else {
            return bad("a record of extended attributes is damaged");
        };
        let name = record
            .key()
            .ok()
            .and_then(|key| key.strip_prefix(ATTRIBUTE));
        if let Some(name) = name.filter(|name| name.starts_with(OF_USERS)) {
            attributes.push((name.as_bytes().to_vec(), record.value_bytes().to_vec()));
        }
    }
    attributes.sort();
    Ok(attributes)
}

/// A path of a layer: names, and `/` between them. One that leads out of the root is refused.
fn clean(path: &[u8]) -> ImageResult<RootPath> {
    let mut clean: RootPath = Vec::with_capacity(path.len());
    for name in path.split(|byte| *byte == b'/') {
        match name {
            b"" | b"." => {}
            b".." => return bad(format!("the name {} leads out of it", shown(path))),
            _ if name.len() > LONGEST_NAME || name.contains(&0) => {
                return bad(format!("{} is no name of a file", shown(name)));
            }
            _ => {
                if !clean.is_empty() {
                    clean.push(b'/');
                }
                clean.extend_from_slice(name);
            }
        }
    }
    match clean.len() > LONGEST_PATH {
        true => bad(format!("a path in it has more than {LONGEST_PATH} bytes")),
        false => Ok(clean),
    }
}
