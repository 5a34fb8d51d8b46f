//! This machine's store with a shared one behind it.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_store::{
    Basis, LocalStore, Opened, Provenance, RESULTS_PER_KEY, Record, RecordEntry, Store, StoreError,
    StoredContent,
};

use crate::entries::{contents_of, is_same};
use crate::fetching::NearContents;
use crate::keys::PublicKey;
use crate::shelf::SharedStore;
use crate::uploads::Uploads;

/// This machine's store, which takes what it lacks from a shared one. Its results count only while
/// their writers belong to it.
pub struct LayeredStore {
    local: Arc<LocalStore>,
    shared: Arc<SharedStore>,
    root: Digest,
    uploads: Option<Arc<Uploads>>,
}

impl LayeredStore {
    /// A store before a shared one, and who gives to that what is made here.
    pub fn new(
        local: Arc<LocalStore>,
        shared: Arc<SharedStore>,
        uploads: Option<Arc<Uploads>>,
    ) -> LayeredStore {
        let root = shared.accepted().root.digest();
        LayeredStore {
            local,
            shared,
            root,
            uploads,
        }
    }

    /// Whether a result that came from a shared store earlier still counts.
    fn counts(&self, entry: &RecordEntry) -> bool {
        match &entry.origin {
            Provenance::Here | Provenance::Loaded => true,
            Provenance::Shared { root, writer } => {
                *root == self.root
                    && self
                        .shared
                        .index()
                        .members
                        .writer(&PublicKey(*writer))
                        .is_some()
            }
        }
    }

    /// A content that this machine keeps, though none of these kinds: executable or not.
    fn other_kind(&self, digest: &Digest, kinds: &[bool]) -> Option<Vec<u8>> {
        let [kind] = kinds else { return None };
        self.local
            .is_near(digest, !kind)
            .then(|| self.local.content(digest, !kind))?
    }

    fn elsewhere(&self, key: &Digest) -> Vec<RecordEntry> {
        let found = self.shared.index().results(key);
        let parts = found.iter().filter_map(|(_, entry)| match &entry.basis {
            Basis::Noted(parts) => Some(parts),
            Basis::Unnoted | Basis::Unfit(_) => None,
        });
        self.bring(
            &parts
                .flatten()
                .map(|part| (*part, false))
                .collect::<Vec<_>>(),
            None,
        );
        let own = found.into_iter().map(|(writer, entry)| RecordEntry {
            origin: Provenance::Shared {
                root: self.root,
                writer: writer.0,
            },
            ..entry
        });
        own.collect()
    }
}

impl NearContents for LocalStore {
    fn has(&self, digest: &Digest) -> bool {
        self.is_near(digest, false) || self.is_near(digest, true)
    }

    fn read(&self, digest: &Digest) -> Option<Vec<u8>> {
        [false, true]
            .into_iter()
            .find_map(|executable| self.content(digest, executable))
    }
}

impl Store for LayeredStore {
    fn record(&self, key: &Digest) -> Option<Record> {
        let mut record = self.local.record(key).unwrap_or_default();
        record.entries.retain(|entry| self.counts(entry));
        for entry in self.elsewhere(key) {
            if !record
                .entries
                .iter()
                .any(|known| is_same(known, &entry) && known.basis == entry.basis)
            {
                record.entries.push(entry);
            }
        }
        (!record.entries.is_empty()).then_some(record)
    }

    fn used(&self, key: &Digest, entry: &RecordEntry) {
        if matches!(entry.origin, Provenance::Shared { .. }) {
            let mut record = self.local.record(key).unwrap_or_default();
            if !record.entries.contains(entry) {
                record.entries.insert(0, entry.clone());
                record.entries.truncate(RESULTS_PER_KEY);
                // Without it the result is taken from there another time.
                let _ = self.local.keep_record(key, &record);
            }
        }
        self.local.used(key, entry);
    }

    fn keep_record(&self, key: &Digest, record: &Record) -> Result<(), StoreError> {
        self.local.keep_record(key, record)?;
        // What was just made is first. It goes there while the build goes on.
        if let (Some(uploads), Some(entry)) = (&self.uploads, record.entries.first())
            && entry.origin == Provenance::Here
            && matches!(entry.basis, Basis::Noted(_))
        {
            contents_of(entry)
                .into_iter()
                .for_each(|(digest, executable)| uploads.offer(digest, executable));
        }
        Ok(())
    }

    fn keep_file(&self, file: &Path, digest: &Digest, executable: bool) -> Result<(), StoreError> {
        self.local.keep_file(file, digest, executable)
    }

    fn keep_bytes(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        self.local.keep_bytes(bytes)
    }

    fn bytes(&self, digest: &Digest) -> Option<Vec<u8>> {
        if let Some(bytes) = self.local.bytes(digest) {
            return Some(bytes);
        }
        let bytes = self.shared.content(digest)?;
        let _ = self.local.keep_bytes(&bytes);
        Some(bytes)
    }

    fn is_near(&self, digest: &Digest, executable: bool) -> bool {
        self.local.is_near(digest, executable)
    }

    fn bring(&self, contents: &[(Digest, bool)], within: Option<Duration>) {
        let mut missing: BTreeMap<Digest, Vec<bool>> = BTreeMap::new();
        for (digest, executable) in contents {
            let kinds = missing.entry(*digest).or_default();
            if !self.local.is_near(digest, *executable) && !kinds.contains(executable) {
                kinds.push(*executable);
            }
        }
        // What is kept here as a file of the other kind need not come.
        missing.retain(|digest, kinds| {
            let Some(bytes) = self.other_kind(digest, kinds) else {
                return !kinds.is_empty();
            };
            for executable in kinds {
                let _ = self.local.keep_content(&bytes, digest, *executable);
            }
            false
        });
        let wanted: Vec<Digest> = missing.keys().copied().collect();
        let until = within.map(|within| Instant::now() + within);
        self.shared
            .bring(&wanted, (&*self.local, until), &|digest, bytes| {
                for executable in &missing[digest] {
                    // What cannot be kept is missing when it is to be placed.
                    let _ = self.local.keep_content(&bytes, digest, *executable);
                }
            });
    }

    fn open(&self, digest: &Digest, executable: bool) -> Result<Opened, StoreError> {
        match self.local.open(digest, executable)? {
            found @ Opened::There(_) => return Ok(found),
            // A damaged copy is gone: there may be a right one elsewhere.
            Opened::Missing | Opened::Damaged => {}
        }
        let near = || self.other_kind(digest, &[executable]);
        let Some(bytes) = near().or_else(|| self.shared.content(digest)) else {
            return Ok(Opened::Missing);
        };
        self.local.keep_content(&bytes, digest, executable)?;
        Ok(Opened::There(StoredContent::Bytes(bytes)))
    }
}
