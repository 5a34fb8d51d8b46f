//! The seal on a finished request: metadata of everything that it looked at. While none of it
//! changes, the same request has nothing to do, and neither evaluates nor plans. Where something
//! changed, the seal says what, and which file of the graph it belongs to.
//!
//! A seal is only written when every step was in place at the end and no file was so young that it
//! could change again without a trace.

mod checking;

use std::collections::BTreeMap;

use nubrik_bytes::{Decoder, Digest, Encoder, Frame, Layout, Magic, Truncated, layout};
use nubrik_disk::Signature;
use nubrik_engine::FileBytes;
use nubrik_lang::{Listing, SampleRequest};
use nubrik_source::FilePath;
use rustc_hash::FxHashMap;

use crate::journal::Kept;
use crate::numbers::FileDecoder;
use crate::results::Results;

pub use checking::{Change, ToLookAt};

/// Bytes of an entry: place and length of its path, five numbers of metadata, its node, its roles,
/// and two digests of a listing.
const ENTRY: usize = 4 + 4 + Signature::SIZE + 4 + 4 + 2 * 8;

/// The log of a seal may grow to this size before the seal is rewritten, in bytes.
const LOG_LIMIT: u64 = 256 << 10;

/// Stands for no node of the graph.
pub const NO_NODE: u32 = u32::MAX;

/// The result of a sealed request.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Sealed {
    /// How many steps it needs.
    pub steps: usize,
    /// Where its results are, from the workspace's root.
    pub results: Results,
}

/// Why a path was looked at.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Roles(u32);

impl Roles {
    /// Evaluation read the file.
    pub const READ: Roles = Roles(1);
    /// Evaluation asked what it is: a file, a folder, or nothing.
    pub const KIND: Roles = Roles(2);
    /// Evaluation listed the folder.
    pub const LISTED: Roles = Roles(4);
    /// Something that everything depends on: settings, a tool, a file of the system.
    pub const WHOLE: Roles = Roles(8);
    /// It is no more to be looked at.
    pub const GONE: Roles = Roles(16);
    /// What is there counts, and not what it leads to: a link.
    pub const ITSELF: Roles = Roles(32);

    /// Whether a role is among them.
    pub fn has(self, role: Roles) -> bool {
        self.0 & role.0 != 0
    }

    #[must_use]
    /// All of them but one.
    pub fn without(self, role: Roles) -> Roles {
        Roles(self.0 & !role.0)
    }

    #[must_use]
    /// Those of them that are among others.
    pub fn only(self, others: Roles) -> Roles {
        Roles(self.0 & others.0)
    }

    /// These and another one.
    pub fn and(self, role: Roles) -> Roles {
        Roles(self.0 | role.0)
    }
}

/// What is sealed of a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Entry {
    /// Its metadata; `None` where nothing was.
    pub signature: Option<Signature>,
    /// The file of the graph that it is, that it lies in, or that it is a copy of.
    pub node: u32,
    /// Why it was looked at.
    pub roles: Roles,
    /// What a listed folder held.
    pub listing: Names,
}

impl Entry {
    /// A path that plays no role yet.
    pub fn new(signature: Option<Signature>) -> Entry {
        Entry {
            signature,
            node: NO_NODE,
            roles: Roles::default(),
            listing: Names::default(),
        }
    }

    /// Whether what is there now is what is sealed.
    pub fn holds(&self, now: Option<Signature>) -> bool {
        self.signature
            .map_or(now.is_none(), |known| known.still_holds(now))
    }

    /// Whether evaluation looked at it.
    pub fn is_evaluated(&self) -> bool {
        self.roles.has(Roles::READ) || self.roles.has(Roles::KIND) || self.roles.has(Roles::LISTED)
    }
}

/// What a listed folder held, in two numbers.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Names {
    /// All names of files and folders that definitions can see.
    pub all: u64,
    /// What decides where packages are: names of folders, and whether there are targets.
    pub packages: u64,
}

impl Names {
    /// The numbers for what a folder holds.
    pub fn of(listing: &Listing) -> Names {
        let number = |out: &Encoder| {
            let digest = Digest::of(&out.bytes).0;
            u64::from_le_bytes([
                digest[0], digest[1], digest[2], digest[3], digest[4], digest[5], digest[6],
                digest[7],
            ])
        };
        let mut out = Encoder::new();
        out.list(&listing.folders, |out, name| out.text(name));
        out.bool(
            listing
                .files
                .iter()
                .any(|f| &**f == nubrik_lang::TARGETS_FILE),
        );
        out.bool(listing.problem.is_some());
        let packages = number(&out);
        out.list(&listing.files, |out, name| out.text(name));
        Names {
            all: number(&out),
            packages,
        }
    }
}

/// A seal to be written.
pub struct NewSeal {
    /// The result of the request.
    pub sealed: Sealed,
    /// The digest of the graph that belongs to it.
    pub graph: Digest,
    /// Variables of the environment with the digests of their values.
    pub env: Vec<(String, Option<Digest>)>,
    /// Samples with the digests of their answers.
    pub samples: Vec<(SampleRequest, Digest)>,
    /// What was looked at, by path.
    pub entries: BTreeMap<FilePath, Entry>,
}

impl NewSeal {
    /// The seal's bytes: its result, entries sorted by path, and their paths.
    pub fn encode(&self) -> Vec<u8> {
        let NewSeal {
            sealed: Sealed { steps, results },
            graph,
            env,
            samples,
            entries,
        } = self;
        let mut head = Encoder::new();
        head.digest(graph);
        head.u64(*steps as u64);
        results.encode(&mut head);
        env.write(&mut head);
        samples.write(&mut head);
        let mut out = Frame::begin(Seal::MAGIC);
        out.bytes
            .reserve_exact(head.bytes.len() + entries.len() * (ENTRY + 48) + 64);
        out.bytes(&head.bytes);
        out.u32(entries.len() as u32);
        let mut at = 0u32;
        for (path, entry) in entries {
            out.u32(at);
            out.u32(path.as_str().len() as u32);
            entry.write(&mut out);
            at += path.as_str().len() as u32;
        }
        entries
            .keys()
            .for_each(|path| out.bytes.extend_from_slice(path.as_str().as_bytes()));
        Frame::end(out)
    }
}

layout!(Roles(bits));
layout!(Names { all, packages });

/// In so many bytes, whether there is a file or not.
impl Layout for Entry {
    fn write(&self, out: &mut Encoder) {
        let Entry {
            signature,
            node,
            roles,
            listing,
        } = self;
        signature.unwrap_or_default().write(out);
        node.write(out);
        roles.write(out);
        listing.write(out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Entry, Truncated> {
        let signature = Some(Signature::read(from)?).filter(|signature| signature.mode != 0);
        let (node, roles, listing) = Layout::read(from)?;
        Ok(Entry {
            signature,
            node,
            roles,
            listing,
        })
    }
}

/// What represents a variable's value: values may be private.
pub fn env_digest(value: Option<&str>) -> Option<Digest> {
    value.map(|value| Digest::of(value.as_bytes()))
}

/// A seal as it was read.
pub struct Seal {
    file: FileBytes,
    /// The result of the request.
    pub sealed: Sealed,
    /// The id of the graph that belongs to it.
    pub graph: Digest,
    env: Vec<(String, Option<Digest>)>,
    samples: Vec<(SampleRequest, Digest)>,
    /// Where the entries begin, how many there are, and where their paths begin.
    entries: usize,
    count: usize,
    paths: usize,
    /// What is newer than in the file, by number.
    newer: FxHashMap<usize, Entry>,
    /// Paths that the file does not have; their numbers follow those of the file.
    added: Vec<(FilePath, Entry)>,
}

impl Kept for Seal {
    type News = SealNews;
    const MAGIC: Magic = *b"nbseal 5";

    fn log_limit(_: u64) -> u64 {
        LOG_LIMIT
    }

    fn decode(file: FileBytes) -> Result<Seal, Truncated> {
        let frame = Frame::of(Seal::MAGIC, (*file).as_ref())?;
        Seal::in_frame(file, frame)
    }

    fn decode_whole(file: FileBytes) -> Result<Seal, Truncated> {
        let frame = Frame::of_whole(Seal::MAGIC, (*file).as_ref())?;
        Seal::in_frame(file, frame)
    }

    fn encode(&self) -> Vec<u8> {
        self.to_new().encode()
    }

    fn take(&mut self, news: SealNews) {
        if let Some(head) = news.head {
            self.graph = head.graph;
            self.sealed.steps = head.steps;
            if head.gone != head.results {
                self.sealed.results = self.sealed.results.changed(&head.gone, &head.results);
            }
            self.env.extend(head.env);
            self.samples.extend(head.samples);
        }
        for (path, entry) in news.entries {
            match self.find(path.as_str()) {
                Some(number) if number >= self.count => self.added[number - self.count].1 = entry,
                Some(number) => drop(self.newer.insert(number, entry)),
                None => self.added.push((path, entry)),
            }
        }
    }

    fn encode_news(news: &SealNews) -> Vec<u8> {
        news.to_bytes()
    }

    fn decode_news(bytes: &[u8]) -> Result<SealNews, Truncated> {
        SealNews::of_bytes(bytes)
    }
}

impl Seal {
    fn in_frame(file: FileBytes, frame: Frame) -> Result<Seal, Truncated> {
        let bytes = (*file).as_ref();
        let whole = frame.head;
        let mut from = Decoder::new(&bytes[whole.clone()]);
        let head = from.bytes()?;
        let count = from.u32()? as usize;
        let entries = whole.start + 4 + head.len() + 4;
        let paths = count
            .checked_mul(ENTRY)
            .and_then(|n| n.checked_add(entries))
            .ok_or(Truncated)?;
        if paths > bytes.len() {
            return Err(Truncated);
        }
        let start = whole.start + 4;
        let mut from = FileDecoder::new(&file, start..start + head.len())?;
        let graph = from.decoder.digest()?;
        let steps = from.decoder.u64()? as usize;
        let sealed = Sealed {
            steps,
            results: Results::decode(&mut from)?,
        };
        let (env, samples) = Layout::read(&mut from.decoder)?;
        let (newer, added) = (FxHashMap::default(), Vec::new());
        Ok(Seal {
            sealed,
            graph,
            env,
            samples,
            entries,
            count,
            paths,
            file,
            newer,
            added,
        })
    }

    /// Whether a variable of the environment is sealed.
    pub fn has_env(&self, name: &str) -> bool {
        self.env.iter().any(|(n, _)| n == name)
    }

    /// Whether the answer of a sample is sealed.
    pub fn has_sample(&self, request: &SampleRequest) -> bool {
        self.samples.iter().any(|(r, _)| r == request)
    }

    /// Paths with their entries, of files that lie in some nodes.
    pub fn in_nodes(&self, nodes: &[u32]) -> Vec<(FilePath, Entry)> {
        let all = (0..self.len()).map(|n| (n, self.entry(n)));
        all.filter(|(_, entry)| nodes.contains(&entry.node))
            .map(|(n, e)| (FilePath::from_text(self.path(n).into()), e))
            .collect()
    }

    /// Paths with their entries that play a role.
    pub fn with_role(&self, role: Roles) -> impl Iterator<Item = (FilePath, Entry)> + '_ {
        let all = (0..self.len())
            .map(|n| (n, self.entry(n)))
            .filter(move |(_, entry)| entry.roles.has(role));
        all.map(|(n, entry)| (FilePath::from_text(self.path(n).into()), entry))
    }

    fn bytes(&self) -> &[u8] {
        (*self.file).as_ref()
    }

    fn place(&self, number: usize) -> usize {
        self.entries + number * ENTRY
    }

    /// How many paths it has.
    #[allow(clippy::len_without_is_empty)] // Nobody asks.
    pub fn len(&self) -> usize {
        self.count + self.added.len()
    }

    /// Numbers of the paths that its log has spoken of.
    pub fn of_log(&self) -> impl Iterator<Item = usize> + '_ {
        self.newer.keys().copied().chain(self.count..self.len())
    }

    /// Numbers of a path and of all that is below it, links themselves among them. The
    /// empty path is the top.
    pub fn at_or_below(&self, path: &str) -> Vec<usize> {
        let mut numbers = Vec::new();
        for start in ["", FilePath::LINK] {
            let whole = format!("{start}{path}");
            let below = if path.is_empty() {
                whole.clone()
            } else {
                format!("{whole}/")
            };
            numbers.extend(self.find_in_file(&whole));
            let first = self.first_not_before(&below);
            numbers.extend((first..self.count).take_while(|n| self.path(*n).starts_with(&below)));
            let is_meant = |text: &str| text == whole || text.starts_with(&below);
            let added = self
                .added
                .iter()
                .enumerate()
                .filter(|(_, (text, _))| is_meant(text.as_str()));
            numbers.extend(added.map(|(at, _)| at + self.count));
        }
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    }

    /// The first number in the file whose path is not before a text.
    fn first_not_before(&self, text: &str) -> usize {
        let (mut low, mut high) = (0, self.count);
        while low < high {
            let middle = low + (high - low) / 2;
            if self.path(middle) < text {
                low = middle + 1
            } else {
                high = middle
            }
        }
        low
    }

    fn find_in_file(&self, path: &str) -> Option<usize> {
        Some(self.first_not_before(path)).filter(|n| *n < self.count && self.path(*n) == path)
    }

    /// The path of an entry. The digest of the whole was right, and so are the places in it.
    pub fn path(&self, number: usize) -> &str {
        std::str::from_utf8(self.path_bytes(number)).unwrap_or_default()
    }

    /// The bytes of a path; none after the last one.
    fn path_bytes(&self, number: usize) -> &[u8] {
        if number >= self.count {
            return self
                .added
                .get(number - self.count)
                .map_or(b"", |(path, _)| path.as_str().as_bytes());
        }
        let word = |at: usize| {
            let bytes = self.bytes().get(at..at + 4).and_then(|b| b.try_into().ok());
            bytes.map_or(0, u32::from_le_bytes) as usize
        };
        let at = self.place(number);
        let start = self.paths + word(at);
        self.bytes()
            .get(start..start + word(at + 4))
            .unwrap_or_default()
    }

    /// An entry's metadata as bytes and its roles, where it is in the file and nothing is newer:
    /// what is as it was, as nearly all is, need not be decoded to be seen to be so.
    fn as_it_lies(&self, number: usize) -> Option<(&[u8], Roles)> {
        if number >= self.count || (!self.newer.is_empty() && self.newer.contains_key(&number)) {
            return None;
        }
        let entry = self.bytes().get(self.place(number) + 8..)?;
        let roles = entry
            .get(Signature::SIZE + 4..Signature::SIZE + 8)?
            .try_into()
            .ok()?;
        Some((&entry[..Signature::SIZE], Roles(u32::from_le_bytes(roles))))
    }

    /// What is sealed of the path with a number.
    pub fn entry(&self, number: usize) -> Entry {
        if let Some((_, entry)) = number
            .checked_sub(self.count)
            .and_then(|n| self.added.get(n))
        {
            return *entry;
        }
        if !self.newer.is_empty()
            && let Some(entry) = self.newer.get(&number)
        {
            return *entry;
        }
        let from = &mut Decoder::new(
            self.bytes()
                .get(self.place(number) + 8..)
                .unwrap_or_default(),
        );
        Entry::read(from).unwrap_or(Entry {
            roles: Roles::WHOLE,
            ..Entry::new(None)
        })
    }

    /// The number of a path.
    pub fn find(&self, path: &str) -> Option<usize> {
        let in_file = self.find_in_file(path);
        in_file.or_else(|| {
            self.added
                .iter()
                .position(|(p, _)| p.as_str() == path)
                .map(|n| n + self.count)
        })
    }

    /// The same seal, to be rewritten with other entries.
    pub fn to_new(&self) -> NewSeal {
        NewSeal {
            sealed: self.sealed.clone(),
            graph: self.graph,
            env: self.env.clone(),
            samples: self.samples.clone(),
            entries: (0..self.len())
                .map(|n| (FilePath::from_text(self.path(n).into()), self.entry(n)))
                .filter(|(_, entry)| !entry.roles.has(Roles::GONE))
                .collect(),
        }
    }
}

/// What is newer than a seal.
#[derive(Default)]
pub struct SealNews {
    /// What a part of the definitions, evaluated again, changed.
    pub head: Option<NewHead>,
    /// Paths with what is to be sealed of them.
    pub entries: BTreeMap<FilePath, Entry>,
}

/// What evaluating a part of the definitions again changes.
#[derive(Default)]
pub struct NewHead {
    /// The id of the graph that belongs to it.
    pub graph: Digest,
    /// How many steps the request needs now.
    pub steps: usize,
    /// Results that there are no more, and new ones.
    pub gone: Vec<String>,
    /// New results.
    pub results: Vec<String>,
    /// Variables and samples that were not looked at before.
    pub env: Vec<(String, Option<Digest>)>,
    /// Samples that were not asked before, with digests of their answers.
    pub samples: Vec<(SampleRequest, Digest)>,
}

layout!(NewHead {
    graph,
    steps,
    gone,
    results,
    env,
    samples
});
layout!(SealNews { head, entries });

#[cfg(test)]
mod tests;
