//! What a head leads to: its manifest, and the segments that it names.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::{Digest, layout};
use nubrik_store::RecordEntry;

use crate::PREFIX;
use crate::heads::{ChannelHead, KeyList};
use crate::keys::PublicKey;
use crate::segment::{ContentSpot, KeyedResult, RecordSegment};

/// The version of the format of manifests.
pub(crate) const MANIFEST_VERSION: u8 = 2;

/// The largest manifest that is taken, in bytes.
pub(crate) const MANIFEST_LIMIT: u64 = 64 << 20;

/// A segment as a manifest names it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct SegmentRow {
    pub digest: Digest,
    pub keys: u64,
    pub bytes: u64,
}

/// An object that nothing behind a head leads to any more.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct DoomedObject {
    pub name: String,
    /// Since when, in seconds since 1970.
    pub since: u64,
}

/// What a head leads to: its segments, the oldest first; which keys were used on which days; and
/// what may be removed.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct SegmentList {
    pub segments: Vec<SegmentRow>,
    /// Days since 1970, each with the object that names the keys used on it.
    pub uses: BTreeMap<u64, Digest>,
    pub doomed: Vec<DoomedObject>,
}

layout!(SegmentRow {
    digest,
    keys,
    bytes
});
layout!(DoomedObject { name, since });
layout!(SegmentList {
    segments,
    uses,
    doomed
});

/// How many contents are looked at on the way to one.
const WAYS: usize = 100;

/// How many differences lead to a content at most.
const LONGEST_WAY: usize = 8;

/// A difference on the way to a content.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct Shortcut {
    pub to: Digest,
    pub object: Digest,
    pub length: u64,
}

/// The name of an object that is named by its digest.
pub(crate) fn object(kind: &str, digest: &Digest) -> String {
    let hex = digest.hex();
    format!("{PREFIX}/{kind}/{}/{}", &hex[..2], &hex[2..])
}

/// Below what all objects of a kind are that are named by their digests.
pub(crate) fn kind_folder(kind: &str) -> String {
    format!("{PREFIX}/{kind}")
}

/// The kind of objects to which no head leads: whoever has the storage may remove them after some
/// days.
pub(crate) const HANDED: &str = "jobs";

/// The object that a content is in, or that it is, where a head leads to it.
pub(crate) fn object_with(digest: &Digest, spot: &ContentSpot) -> String {
    match &spot.pack {
        Some(pack) => object("packs", pack),
        None => object("contents", digest),
    }
}

/// A head that counts, with what it leads to.
pub(crate) struct Branch {
    pub writer: PublicKey,
    pub head: ChannelHead,
    pub manifest: SegmentList,
    /// The newest last; segments that cannot be had are left out.
    pub segments: Vec<(Digest, Arc<RecordSegment>)>,
}

/// All that is known of a store.
#[derive(Default)]
pub(crate) struct SharedIndex {
    pub members: KeyList,
    pub branches: Vec<Arc<Branch>>,
    pub packs: OnceLock<HashMap<Digest, u64>>,
}

impl SharedIndex {
    /// All results of a key, each with who wrote it.
    pub fn results(&self, key: &Digest) -> Vec<(PublicKey, RecordEntry)> {
        let mut all: Vec<(PublicKey, RecordEntry)> = Vec::new();
        let mut seen: HashSet<Digest> = HashSet::new();
        for branch in &self.branches {
            // Heads may share segments after a channel was begun from another one.
            for (digest, segment) in branch.segments.iter().rev() {
                if !seen.insert(*digest) {
                    continue;
                }
                for entry in segment.results(key) {
                    if !all.iter().any(|(_, known)| *known == entry) {
                        all.push((branch.writer, entry));
                    }
                }
            }
        }
        all
    }

    /// All results of a step by its folder, the newest first, each with the branch that has it.
    pub fn of_folder(&self, folder: &str) -> Vec<(&Branch, Digest, KeyedResult)> {
        let mut all = Vec::new();
        for branch in &self.branches {
            for (_, segment) in branch.segments.iter().rev() {
                all.extend(
                    segment
                        .of_folder(folder)
                        .into_iter()
                        .map(|(key, result)| (&**branch, key, result)),
                );
            }
        }
        all
    }

    /// Where a content is.
    pub fn spot(&self, digest: &Digest) -> Option<ContentSpot> {
        self.spots(digest).next()
    }

    /// All places of a content: those that were said last first, since what was gone is given once
    /// more elsewhere.
    pub fn spots<'i>(&'i self, digest: &'i Digest) -> impl Iterator<Item = ContentSpot> + 'i {
        let segments = self
            .branches
            .iter()
            .flat_map(|branch| branch.segments.iter().rev());
        segments.filter_map(|(_, segment)| segment.spot(digest))
    }

    /// What leads to a content from one that is near, step by step: from which one, and the objects
    /// with their lengths and what each leads to. Nothing where that is no shorter than `limit`
    /// bytes.
    pub fn way_to(
        &self,
        new: &Digest,
        limit: u64,
        is_near: &dyn Fn(&Digest) -> bool,
    ) -> Option<(Digest, Vec<Shortcut>)> {
        let segments: Vec<&Arc<RecordSegment>> = self
            .branches
            .iter()
            .flat_map(|branch| &branch.segments)
            .map(|(_, segment)| segment)
            .collect();
        // The shortest way first; the objects of a way are from the new content backwards.
        let mut open: BTreeSet<(u64, Digest, Vec<Shortcut>)> =
            BTreeSet::from([(0, *new, Vec::new())]);
        let mut seen: HashSet<Digest> = HashSet::new();
        while let Some((bytes, at, way)) = open.pop_first() {
            if !seen.insert(at) || seen.len() > WAYS {
                continue;
            }
            if !way.is_empty() && is_near(&at) {
                return Some((at, way.into_iter().rev().collect()));
            }
            for (old, object, length) in segments
                .iter()
                .flat_map(|segment| segment.shortcuts_to(&at))
            {
                let sum = bytes.saturating_add(length);
                if sum < limit && way.len() < LONGEST_WAY {
                    let mut way = way.clone();
                    way.push(Shortcut {
                        to: at,
                        object,
                        length,
                    });
                    open.insert((sum, old, way));
                }
            }
        }
        None
    }

    /// How many bytes a pack has at least.
    pub fn pack_size(&self, pack: &Digest) -> u64 {
        let sizes = self.packs.get_or_init(|| {
            let mut sizes: HashMap<Digest, u64> = HashMap::new();
            for (_, segment) in self.branches.iter().flat_map(|branch| &branch.segments) {
                for (pack, end) in segment.ends_in_packs() {
                    let size = sizes.entry(pack).or_default();
                    *size = end.max(*size);
                }
            }
            sizes
        });
        sizes.get(pack).copied().unwrap_or(u64::MAX)
    }

    /// How many keys there are.
    pub fn keys(&self) -> usize {
        self.branches
            .iter()
            .flat_map(|branch| &branch.segments)
            .map(|(_, segment)| segment.len())
            .sum()
    }
}
