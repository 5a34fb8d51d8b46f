//! Looking at all that a store has, whether it is what it is named.

use std::collections::{BTreeSet, HashSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};

use nubrik_bytes::Digest;
use parking_lot::Mutex;

use crate::index::object;
use crate::own_files::write_own;
use crate::prune::NothingNear;
use crate::shelf::{SharedStore, SharedTrouble};

/// How many contents are looked at between two looks at whether it is to end.
const SOME: usize = 256;

/// The longest difference that is looked at, in bytes.
const LIMIT: u64 = 2 << 30;

/// What a store has, and what of it is wrong.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Examination {
    /// Results, by their keys.
    pub keys: usize,
    /// Contents and differences that were read.
    pub objects: usize,
    /// How many bytes the contents have.
    pub bytes: u64,
    /// What is not there, or is something else than it should be, by its name.
    pub wrong: Vec<String>,
    /// What ended it, if it did not come to its end.
    pub trouble: Option<SharedTrouble>,
}

impl SharedStore {
    /// The file with contents that are named and were not there, for the next build that gives
    /// results.
    fn missing_file(&self) -> PathBuf {
        self.accepted().cache.join("missing")
    }

    /// Contents that are named and were not there.
    pub(crate) fn missing(&self) -> &Mutex<HashSet<Digest>> {
        self.missing.get_or_init(|| {
            let bytes = std::fs::read(self.missing_file()).unwrap_or_default();
            let digests = bytes
                .chunks_exact(32)
                .filter_map(|chunk| Some(Digest(chunk.try_into().ok()?)));
            Mutex::new(digests.collect())
        })
    }

    /// Writes down which contents are not there.
    pub(crate) fn note_all_missing(&self, missing: &HashSet<Digest>) {
        let mut digests: Vec<&Digest> = missing.iter().collect();
        digests.sort_unstable();
        let bytes: Vec<u8> = digests.iter().flat_map(|digest| digest.0).collect();
        // Without it they are given once more when somebody looked again.
        let _ = write_own(&self.missing_file(), &bytes);
        *self.missing().lock() = missing.clone();
    }

    /// Takes note that contents that were not there are given once more.
    pub(crate) fn forget_missing(&self, given: &[Digest]) {
        let before = self.missing().lock().clone();
        let missing: HashSet<Digest> = before
            .iter()
            .filter(|digest| !given.contains(digest))
            .copied()
            .collect();
        if missing != before {
            self.note_all_missing(&missing);
        }
    }

    /// Reads everything that heads lead to, and holds it against its digests. Contents that are
    /// wrong are given once more by the next build that makes them.
    pub fn verify(&self, is_cancelled: &dyn Fn() -> bool) -> Examination {
        let index = self.index();
        let mut seen = Examination {
            keys: index.keys(),
            ..Examination::default()
        };
        let (mut contents, mut differences) = (BTreeSet::new(), BTreeSet::new());
        for (_, segment) in index.branches.iter().flat_map(|branch| &branch.segments) {
            let parts = segment.parts();
            contents.extend(parts.spots.into_keys());
            differences.extend(parts.shortcuts.into_values());
        }
        let contents: Vec<Digest> = contents.into_iter().collect();
        let right: Mutex<BTreeSet<Digest>> = Mutex::default();
        let bytes = AtomicU64::new(0);
        for some in contents.chunks(SOME) {
            if is_cancelled() || self.is_unreachable() {
                break;
            }
            self.bring(some, (&NothingNear, None), &|digest, content| {
                bytes.fetch_add(content.len() as u64, Ordering::Relaxed);
                right.lock().insert(*digest);
            });
            let right = right.lock();
            seen.objects += some.len();
            let wrong = some.iter().filter(|digest| !right.contains(digest));
            seen.wrong
                .extend(wrong.map(|digest| format!("content {}", digest.hex())));
        }
        let looked_at = seen.objects;
        for (digest, length) in differences {
            if is_cancelled() || self.is_unreachable() {
                break;
            }
            let name = object("differences", &digest);
            let is_right = self
                .get(&name, None, length.min(LIMIT))
                .is_some_and(|bytes| Digest::of(&bytes) == digest);
            seen.objects += 1;
            if !is_right {
                seen.wrong.push(name);
            }
        }
        if !self.is_off() {
            let right = right.lock();
            let missing: HashSet<Digest> = contents
                .iter()
                .take(looked_at)
                .filter(|digest| !right.contains(digest))
                .copied()
                .collect();
            self.note_all_missing(&missing);
        }
        seen.bytes = bytes.into_inner();
        seen.trouble = self.trouble();
        seen
    }
}
