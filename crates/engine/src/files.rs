//! Digests of files, remembered by their metadata.

use std::collections::{HashMap, HashSet};
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};

use nubrik_bytes::Digest;
use nubrik_disk::Signature;
use nubrik_source::FilePath;
use parking_lot::Mutex;

use crate::outside::Outside;
use crate::state::{ChangeList, FileEntry};
use crate::table::Table;

/// When a step began.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Began {
    /// By the clock of files, in nanoseconds since 1970.
    pub at: i64,
    /// Among all that is noticed in this run.
    moment: u64,
}

/// Digests of sources and system files, from this run and earlier ones.
pub struct FileTable<'a> {
    known: &'a Table<FileEntry>,
    /// Files that are taken to have another content than they have.
    pretended: HashSet<FilePath>,
    /// Files looked at in this run.
    now: [Mutex<HashMap<FilePath, Option<FileEntry>>>; 16],
    /// Files that changed in this run, each with the moment in which that was noticed last.
    moved: Mutex<HashMap<FilePath, u64>>,
    /// Counts moments: clocks of file systems tick too slowly to tell what came first.
    moments: AtomicU64,
}

impl<'a> FileTable<'a> {
    /// A table that knows what earlier runs knew.
    pub fn new(known: &'a Table<FileEntry>) -> FileTable<'a> {
        FileTable {
            known,
            pretended: HashSet::new(),
            now: Default::default(),
            moved: Mutex::default(),
            moments: AtomicU64::new(0),
        }
    }

    /// The same table, in which some files have changed.
    #[must_use]
    pub fn with_changed(mut self, paths: impl IntoIterator<Item = FilePath>) -> Self {
        self.pretended.extend(paths);
        self
    }

    fn shard(&self, path: &FilePath) -> &Mutex<HashMap<FilePath, Option<FileEntry>>> {
        let sum = path.as_str().bytes().fold(0u32, |sum, b| {
            sum.wrapping_mul(31).wrapping_add(u32::from(b))
        });
        &self.now[sum as usize % self.now.len()]
    }

    /// A file's entry; `None` where there is no such file. Looks at each file once a run.
    ///
    /// # Errors
    /// When it is there and cannot be read.
    pub fn entry(&self, outside: &dyn Outside, path: &FilePath) -> io::Result<Option<FileEntry>> {
        if let Some(entry) = self.shard(path).lock().get(path) {
            return Ok(*entry);
        }
        let entry = match outside.check(path) {
            None => None,
            Some(signature) => Some(self.fresh(outside, path, signature)?),
        };
        let entry = match entry {
            Some(entry) if self.pretended.contains(path) => {
                let digest =
                    Digest::of(&[b"another content than ".as_slice(), &entry.digest.0].concat());
                Some(FileEntry { digest, ..entry })
            }
            entry => entry,
        };
        // Another thread may have looked at the same time: all of them go by what the first one
        // saw.
        Ok(*self.shard(path).lock().entry(path.clone()).or_insert(entry))
    }

    fn fresh(
        &self,
        outside: &dyn Outside,
        path: &FilePath,
        signature: Signature,
    ) -> io::Result<FileEntry> {
        if let Some(known) = self.known.get(path.as_str())
            && known.signature == signature
            && !known.young
        {
            return Ok(known);
        }
        // Asked before it is read: who writes later opens it later, and then its times tell.
        let young = outside.is_being_written(path) || signature.is_young(outside.now());
        let content = outside.digest(path)?;
        let digest = with_permissions(&content, &signature);
        Ok(FileEntry {
            signature,
            digest,
            young,
        })
    }

    /// The beginning of a step at a time in nanoseconds since 1970.
    pub(crate) fn began(&self, at: i64) -> Began {
        Began {
            at,
            moment: self.moments.fetch_add(1, Ordering::SeqCst),
        }
    }

    /// Takes note that a file changed, so that it is looked at again.
    pub fn look_again(&self, path: &FilePath) {
        let moment = self.moments.fetch_add(1, Ordering::SeqCst);
        self.moved.lock().insert(path.clone(), moment);
        self.shard(path).lock().remove(path);
    }

    /// Whether it was noticed since a step began that a file changed: what the step read of it may
    /// have been anything.
    pub(crate) fn has_moved_since(&self, path: &FilePath, began: Began) -> bool {
        self.moved
            .lock()
            .get(path)
            .is_some_and(|noticed| *noticed > began.moment)
    }

    /// What this run found to be otherwise than earlier ones knew, sorted by path.
    pub fn changes(&self) -> ChangeList<FileEntry> {
        let mut changes = self.looked_at();
        changes.retain(|(path, entry)| self.known.get(path.as_str()) != *entry);
        changes.sort_by(|a, b| a.0.cmp(&b.0));
        changes
            .into_iter()
            .map(|(path, entry)| (path.shared().clone(), entry))
            .collect()
    }

    /// Files looked at in this run, with their entries, in no order.
    pub fn looked_at(&self) -> Vec<(FilePath, Option<FileEntry>)> {
        let locked = |shard: &Mutex<HashMap<FilePath, Option<FileEntry>>>| {
            let shard = shard.lock();
            shard
                .iter()
                .map(|(p, e)| (p.clone(), *e))
                .collect::<Vec<_>>()
        };
        self.now.iter().flat_map(locked).collect()
    }
}

/// The digest of a file with this content: the same bytes count as something else when they may be
/// executed. Between what a checkout gives its files, with the group as a writer or without, no
/// difference is made: it follows from a setting of the person's. All other permissions are
/// someone's intention, and commands see them.
fn with_permissions(content: &Digest, signature: &Signature) -> Digest {
    match signature.mode & 0o7777 {
        0o644 | 0o664 => *content,
        0o755 | 0o775 => nubrik_store::OutputRecord::File {
            digest: *content,
            executable: true,
        }
        .digest(),
        other => {
            Digest::of(&[b"permissions".as_slice(), &other.to_le_bytes(), &content.0].concat())
        }
    }
}
