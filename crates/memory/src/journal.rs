//! A file, and a log of what came since it was written: what is added costs as much as it is, not
//! as much as the whole.

use std::fs::File;
use std::io::{self, Read, Write};
use std::ops::Deref;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Frame, Magic, Truncated, layout};
use nubrik_confine::map_file;
use nubrik_disk::{Below, Signature, read_open};
use nubrik_engine::FileBytes;
use rustix::fs::OFlags;

/// What went wrong, with the file that it went wrong with.
pub type FileProblem = (String, io::Error);

/// What a log is called, after the name of its file.
const LOG: &str = ".log";

/// What a log begins with: this, and the id of the file that it belongs to.
const LOG_MAGIC: Magic = *b"nblog  1";

/// Something that is kept in a file, and that news can be added to.
pub trait Kept: Sized {
    /// What is added.
    type News;

    /// What the file begins with.
    const MAGIC: Magic;

    /// How long the log of a file with so many bytes may become before the file is rewritten, in
    /// bytes.
    fn log_limit(file: u64) -> u64;

    /// What a file holds.
    ///
    /// # Errors
    /// When it is damaged, or of another version.
    fn decode(file: FileBytes) -> Result<Self, Truncated>;

    /// The same of a file that was decoded before, and has not changed since: its digest need not
    /// be computed again.
    ///
    /// # Errors
    /// When it is damaged, or of another version.
    fn decode_whole(file: FileBytes) -> Result<Self, Truncated> {
        Self::decode(file)
    }

    /// The bytes of a file that holds it.
    fn encode(&self) -> Vec<u8>;

    /// Adds news.
    fn take(&mut self, news: Self::News);

    /// News as bytes.
    fn encode_news(news: &Self::News) -> Vec<u8>;

    /// The news that bytes hold. Whether they are whole is known.
    ///
    /// # Errors
    /// When they are of another version.
    fn decode_news(bytes: &[u8]) -> Result<Self::News, Truncated>;
}

/// What a file and its log hold. The file is at a path below a folder, its log beside it.
#[derive(Debug)]
pub struct Journal<T> {
    value: T,
    /// The id of the file that the value came from or was written to; `None` where it never was in
    /// one.
    id: Option<Digest>,
    /// How much of the log belongs to it, in bytes: a longer one has a damaged end.
    log: u64,
    /// Follows from each batch of the log.
    chain: Digest,
}

impl<T> Deref for Journal<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

impl<T> Journal<T> {
    /// What it holds.
    pub fn into_value(self) -> T {
        self.value
    }
}

/// Which state of a file and its log something is of.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Version {
    /// The id of the file.
    pub file: Digest,
    /// Follows from each batch of its log and their order.
    pub log: Digest,
}

layout!(Version { file, log });

impl<T> Journal<T> {
    /// Which state it is; `None` where it never was in a file.
    pub fn version(&self) -> Option<Version> {
        self.id.map(|file| Version {
            file,
            log: self.chain,
        })
    }
}

/// A file and its log, opened: their state is known, and what they hold is not yet read.
pub struct OpenJournal<T: Kept> {
    bytes: FileBytes,
    /// The metadata of the file.
    pub signature: Signature,
    /// Which state it is.
    pub version: Version,
    news: Vec<T::News>,
    /// How much of the log belongs to it, in bytes.
    log: u64,
}

impl<T: Kept> OpenJournal<T> {
    /// Opens what is kept at a path; `None` where that is nothing, or another kind of file. Of a
    /// damaged log, what is before the damage counts.
    pub fn open(own: &Below, path: &str) -> Option<OpenJournal<T>> {
        let file = own.open_to_read(path).ok()?;
        let signature = Signature::from(&rustix::fs::fstat(&file).ok()?);
        let bytes: FileBytes = Arc::new(map_file(&file).ok()?);
        let size = (*bytes).as_ref().len() as u64;
        let file = Frame::id_in(T::MAGIC, (*bytes).as_ref())?;
        let version = Version {
            file,
            log: Digest::default(),
        };
        let mut open = OpenJournal {
            bytes,
            signature,
            version,
            news: Vec::new(),
            log: 0,
        };
        let log = own
            .open_to_read(&log_of(path))
            .and_then(|log| read_open(log, T::log_limit(size)));
        open.read_log(&log.unwrap_or_default());
        Some(open)
    }

    fn read_log(&mut self, log: &[u8]) {
        let Some(rest) = log.strip_prefix(&*log_start(&self.version.file)) else {
            return;
        };
        self.log = (log.len() - rest.len()) as u64;
        let mut from = Decoder::new(rest);
        while let (Ok(batch), Ok(digest)) = (from.bytes(), from.digest()) {
            let news = if Digest::of(batch) == digest {
                T::decode_news(batch).ok()
            } else {
                None
            };
            let Some(news) = news else { return };
            self.news.push(news);
            self.version.log = after(&self.version.log, &digest);
            self.log = (log.len() - from.rest().len()) as u64;
        }
    }

    /// What is kept there; `None` where it is damaged.
    pub fn checked(self) -> Option<Journal<T>> {
        self.read(T::decode)
    }

    /// The same of a file that was [checked](OpenJournal::checked) before, and has the metadata
    /// that it had then.
    pub fn known_to_be_whole(self) -> Option<Journal<T>> {
        self.read(T::decode_whole)
    }

    fn read(self, decode: impl FnOnce(FileBytes) -> Result<T, Truncated>) -> Option<Journal<T>> {
        let OpenJournal {
            bytes,
            version,
            news,
            log,
            ..
        } = self;
        let mut value = decode(bytes).ok()?;
        news.into_iter().for_each(|news| value.take(news));
        Some(Journal {
            value,
            id: Some(version.file),
            log,
            chain: version.log,
        })
    }
}

impl<T: Kept> From<T> for Journal<T> {
    /// Something that is in no file yet.
    fn from(value: T) -> Journal<T> {
        Journal {
            value,
            id: None,
            log: 0,
            chain: Digest::default(),
        }
    }
}

impl<T: Kept> Journal<T> {
    /// What is kept at a path; `None` where that is nothing, or damaged. Of a damaged log, what is
    /// before the damage counts.
    pub fn load(own: &Below, path: &str) -> Option<Journal<T>> {
        OpenJournal::open(own, path)?.checked()
    }

    /// Adds news to what is kept at a path.
    ///
    /// # Errors
    /// When they cannot be written, and which file is at fault.
    pub fn add(&mut self, own: &Below, path: &str, news: T::News) -> Result<(), FileProblem> {
        let mut batch = Encoder::new();
        let bytes = T::encode_news(&news);
        batch.bytes(&bytes);
        let digest = Digest::of(&bytes);
        batch.digest(&digest);
        self.value.take(news);
        let Some((mut log, mut added)) = self.open_log(own, path, batch.bytes.len()) else {
            return self.write(own, path);
        };
        added.extend(batch.bytes);
        log.write_all(&added).map_err(|e| (log_of(path), e))?;
        self.log += added.len() as u64;
        self.chain = after(&self.chain, &digest);
        Ok(())
    }

    /// Writes the whole file again, in place of the one before and its log.
    ///
    /// # Errors
    /// When that is not possible, and which file is at fault.
    pub fn write(&mut self, own: &Below, path: &str) -> Result<(), FileProblem> {
        let bytes = self.value.encode();
        (self.id, self.log, self.chain) = (None, 0, Digest::default());
        replace(own, path, &bytes)?;
        self.id = Frame::id_in(T::MAGIC, &bytes);
        Ok(())
    }

    /// The log, and how it begins where it is new; `None` where the file is to be rewritten.
    fn open_log(&self, own: &Below, path: &str, more: usize) -> Option<(File, Vec<u8>)> {
        let mut file = own.open_to_read(path).ok()?;
        let mut start = [0; Frame::START];
        file.read_exact(&mut start).ok()?;
        let id = self
            .id
            .filter(|id| Frame::id_in(T::MAGIC, &start) == Some(*id))?;
        let limit = T::log_limit(file.metadata().ok()?.len());
        let log = own
            .open(
                &log_of(path),
                OFlags::CREATE | OFlags::APPEND | OFlags::WRONLY,
            )
            .ok()?;
        let length = log.metadata().ok()?.len();
        let start = if length == 0 {
            log_start(&id)
        } else {
            Vec::new()
        };
        let fits = length + (start.len() + more) as u64 <= limit;
        (length == self.log && fits).then_some((log, start))
    }
}

/// Puts a file in the place of the one before and its log.
///
/// # Errors
/// When that is not possible, and which file is at fault.
pub(crate) fn replace(own: &Below, path: &str, bytes: &[u8]) -> Result<(), FileProblem> {
    // The log goes first: no one is to wonder which file an old one belongs to.
    let log = log_of(path);
    own.remove(&log).map_err(|e| (log, e))?;
    own.write_whole(path, bytes)
        .map_err(|e| (path.to_owned(), e))
}

/// What follows from a log and one more batch.
fn after(chain: &Digest, batch: &Digest) -> Digest {
    Digest::of(&[chain.0, batch.0].concat())
}

fn log_of(path: &str) -> String {
    format!("{path}{LOG}")
}

fn log_start(id: &Digest) -> Vec<u8> {
    [LOG_MAGIC.as_slice(), &id.0].concat()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests;
