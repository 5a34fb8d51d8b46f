//! What a head leads to: its manifest, and the segments that it names.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_store::RecordEntry;

use crate::PREFIX;
use crate::heads::{KeyList, LineHead};
use crate::keys::PublicKey;
use crate::segment::{ContentSpot, KeyedResult, RecordSegment};

const VERSION: u8 = 1;

/// The largest manifest that is taken, in bytes.
pub(crate) const MANIFEST_LIMIT: u64 = 64 << 20;

/// A segment as a manifest names it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct SegmentRow {
    pub digest: Digest,
    pub keys: u64,
    pub bytes: u64,
}

/// The segments behind a head, the oldest first.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct SegmentList {
    pub segments: Vec<SegmentRow>,
}

impl SegmentList {
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Encoder::new();
        out.u8(VERSION);
        out.list(&self.segments, |out, SegmentRow { digest, keys, bytes }| {
            out.digest(digest);
            out.u64(*keys);
            out.u64(*bytes);
        });
        out.bytes
    }

    pub fn decode(bytes: &[u8]) -> Result<SegmentList, Truncated> {
        let mut from = Decoder::new(bytes);
        if from.u8()? != VERSION {
            return Err(Truncated);
        }
        let segments = from
            .list(|from| Ok(SegmentRow { digest: from.digest()?, keys: from.u64()?, bytes: from.u64()? }))?;
        if from.is_at_end() { Ok(SegmentList { segments }) } else { Err(Truncated) }
    }
}

/// The name of an object that is named by its digest.
pub(crate) fn object(kind: &str, digest: &Digest) -> String {
    let hex = digest.hex();
    format!("{PREFIX}/{kind}/{}/{}", &hex[..2], &hex[2..])
}

/// A head that counts, with what it leads to.
pub(crate) struct Branch {
    pub writer: PublicKey,
    pub head: LineHead,
    pub manifest: SegmentList,
    /// The newest last; segments that cannot be had are left out.
    pub segments: Vec<(Digest, Arc<RecordSegment>)>,
}

/// All that is known of a store.
#[derive(Default)]
pub(crate) struct SharedIndex {
    pub members: KeyList,
    pub branches: Vec<Branch>,
    pub packs: OnceLock<HashMap<Digest, u64>>,
}

impl SharedIndex {
    /// All results of a key, each with who wrote it.
    pub fn results(&self, key: &Digest) -> Vec<(PublicKey, RecordEntry)> {
        let mut all: Vec<(PublicKey, RecordEntry)> = Vec::new();
        let mut seen: HashSet<Digest> = HashSet::new();
        for branch in &self.branches {
            // Heads may share segments after a line was begun from another one.
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
                all.extend(segment.of_folder(folder).into_iter().map(|(key, result)| (branch, key, result)));
            }
        }
        all
    }

    /// Where a content is.
    pub fn spot(&self, digest: &Digest) -> Option<ContentSpot> {
        let segments = self.branches.iter().flat_map(|branch| &branch.segments);
        segments.map(|(_, segment)| segment).find_map(|segment| segment.spot(digest))
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
        self.branches.iter().flat_map(|branch| &branch.segments).map(|(_, segment)| segment.len()).sum()
    }
}
