//! Writing: contents first, then what names them, the head last. Whatever cuts it off leaves the old head true, and the next
//! build of the same writes what is missing.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::{Mutex, PoisonError};

use nubrik_bytes::Digest;
use nubrik_store::{Basis, LocalStore, OutputRecord, Provenance, RecordEntry, TreeKind};

use crate::bundle::{PACK, SMALL, squeezed};
use crate::heads::LineHead;
use crate::index::{Branch, SegmentList, SegmentRow, SharedIndex, object};
use crate::keys::SecretKey;
use crate::layered::is_same;
use crate::segment::{ContentSpot, KeyedResult, KeyedResults, RecordSegment, Spots, add, encode};
use crate::shelf::{SharedStore, SharedTrouble, lock, now};

/// So many segments of a size become one.
const MERGED: usize = 8;

/// About so many packs of bytes wait in memory until they are put.
const WAITING: usize = 4;

/// What was written.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct HandedOver {
    /// How many results.
    pub results: usize,
    /// How many contents.
    pub contents: usize,
    /// How many bytes went.
    pub moved: u64,
    /// How many bytes the contents have.
    pub raw: u64,
}

/// Writes results of a line of builds.
pub struct Publisher {
    key: SecretKey,
    line: String,
}

fn damaged(e: std::io::Error) -> SharedTrouble {
    SharedTrouble::Machine(format!("what is to be shared cannot be compressed: {e}"))
}

impl Publisher {
    /// Someone who writes a line with a key.
    pub fn new(key: SecretKey, line: String) -> Publisher {
        Publisher { key, line }
    }

    /// Writes those of some results that may be shared and are not there yet.
    ///
    /// # Errors
    /// When the key may not write, or something cannot be put; what is there stays as it was.
    pub fn publish(
        &self,
        shared: &SharedStore,
        local: &LocalStore,
        results: &[(Digest, KeyedResult)],
    ) -> Result<HandedOver, SharedTrouble> {
        let index = shared.index();
        // Without all that is there, a new head would leave it out.
        if let Some(trouble) = shared.trouble() {
            return Err(trouble);
        }
        let own = self.key.public();
        if !index.members.writers_of(&self.line).any(|member| member.key == own) {
            return Err(SharedTrouble::NoWriter(own.to_string()));
        }
        let wanted = wanted(&index, results);
        if wanted.is_empty() {
            return Ok(HandedOver::default());
        }
        let (wanted, spots, mut published) = Bringing { shared, local, index: &index }.bring(wanted)?;
        let segment = encode(&wanted, &spots).map_err(damaged)?;
        published.moved += segment.len() as u64;
        let before = index.branches.iter().find(|b| b.writer == own && b.head.line == self.line);
        let mut manifest = before.map(|branch| branch.manifest.clone()).unwrap_or_default();
        manifest.segments.push(put_segment(shared, &segment, wanted.len() as u64)?);
        self.merge(shared, &mut manifest, before)?;
        let bytes = manifest.encode();
        let digest = Digest::of(&bytes);
        shared.put(&object("manifests", &digest), &bytes)?;
        let name = LineHead::object(&self.line, &own);
        // Who saw a later head than is there now believes only one that is later still.
        let last = before.map_or(0, |branch| branch.head.sequence).max(shared.last_seen(&name));
        let sequence = last + 1;
        let head = LineHead { line: self.line.clone(), sequence, time: now(), manifest: digest };
        shared.put(&name, &head.sign(&self.key))?;
        Ok(published)
    }

    /// Makes one segment of several small ones, so that few are to be asked for.
    fn merge(
        &self,
        shared: &SharedStore,
        manifest: &mut SegmentList,
        before: Option<&Branch>,
    ) -> Result<(), SharedTrouble> {
        let size = |named: &SegmentRow| named.keys.max(1).ilog(MERGED as u64);
        let Some(smallest) = manifest.segments.iter().map(size).min() else { return Ok(()) };
        let (few, rest): (Vec<SegmentRow>, Vec<SegmentRow>) =
            manifest.segments.iter().partition(|named| size(named) == smallest);
        if few.len() < MERGED {
            return Ok(());
        }
        let known: BTreeMap<Digest, &Arc<RecordSegment>> = before
            .iter()
            .flat_map(|branch| &branch.segments)
            .map(|(digest, segment)| (*digest, segment))
            .collect();
        let (mut results, mut spots) = (KeyedResults::new(), Spots::new());
        // The newest one was not read back: it stays by itself.
        let old: Vec<SegmentRow> =
            few.iter().filter(|named| known.contains_key(&named.digest)).copied().collect();
        for named in &old {
            let (more, at) = known[&named.digest].contents();
            for (key, result) in more {
                add(&mut results, key, result);
            }
            spots.extend(at);
        }
        let merged = put_segment(shared, &encode(&results, &spots).map_err(damaged)?, results.len() as u64)?;
        let newest = few.iter().filter(|named| !known.contains_key(&named.digest)).copied();
        manifest.segments = rest.into_iter().chain([merged]).chain(newest).collect();
        Ok(())
    }
}

fn put_segment(shared: &SharedStore, bytes: &[u8], keys: u64) -> Result<SegmentRow, SharedTrouble> {
    let digest = Digest::of(bytes);
    shared.put(&object("segments", &digest), bytes)?;
    Ok(SegmentRow { digest, keys, bytes: bytes.len() as u64 })
}

/// The results that others may have, and that are not there.
fn wanted(index: &SharedIndex, results: &[(Digest, KeyedResult)]) -> KeyedResults {
    let mut wanted = KeyedResults::new();
    for (key, result) in results {
        let there = index.results(key);
        let is_there = |entry: &RecordEntry| {
            there.iter().any(|(_, known)| is_same(known, entry) && known.basis == entry.basis)
        };
        let may_go = |entry: &&RecordEntry| {
            entry.origin == Provenance::Here && matches!(entry.basis, Basis::Noted(_)) && !is_there(entry)
        };
        let entries: Vec<RecordEntry> = result.entries.iter().filter(may_go).cloned().collect();
        if !entries.is_empty() {
            add(&mut wanted, *key, KeyedResult { entries, ..result.clone() });
        }
    }
    wanted
}

/// The contents that a result names, and whether each may be executed.
fn contents_of(entry: &RecordEntry) -> BTreeSet<(Digest, bool)> {
    let mut all = BTreeSet::new();
    if let Basis::Noted(parts) = &entry.basis {
        all.extend(parts.iter().map(|part| (*part, false)));
    }
    for output in &entry.outputs {
        match output {
            OutputRecord::File { digest, executable } => drop(all.insert((*digest, *executable))),
            OutputRecord::Folder(entries) => {
                all.extend(entries.iter().filter_map(|entry| match entry.kind {
                    TreeKind::File { digest, executable } => Some((digest, executable)),
                    TreeKind::Link { .. } | TreeKind::EmptyFolder => None,
                }))
            }
        }
    }
    all
}

/// Brings contents there.
struct Bringing<'a> {
    shared: &'a SharedStore,
    local: &'a LocalStore,
    index: &'a SharedIndex,
}

/// An object to be put.
type Parcel = (String, Vec<u8>);

impl Bringing<'_> {
    /// Puts all contents that are not there; leaves out results of which this machine lost some.
    fn bring(&self, mut wanted: KeyedResults) -> Result<(KeyedResults, Spots, HandedOver), SharedTrouble> {
        let mut published = HandedOver::default();
        let mut spots = Spots::new();
        let mut lost: BTreeSet<Digest> = BTreeSet::new();
        let (mut pack, mut in_pack): (Vec<u8>, Vec<(Digest, ContentSpot)>) = (Vec::new(), Vec::new());
        let mut parcels: Vec<Parcel> = Vec::new();
        let all: BTreeSet<(Digest, bool)> =
            wanted.values().flat_map(|result| &result.entries).flat_map(contents_of).collect();
        for (digest, executable) in all {
            if spots.contains_key(&digest) {
                continue;
            }
            if let Some(spot) = self.index.spot(&digest) {
                spots.insert(digest, spot);
                continue;
            }
            let Some(bytes) = self.local.content(&digest, executable) else {
                lost.insert(digest);
                continue;
            };
            let frame = squeezed(&bytes).map_err(damaged)?;
            let (stored, raw) = (frame.len() as u64, bytes.len() as u64);
            published.contents += 1;
            published.moved += stored;
            published.raw += raw;
            if raw >= SMALL {
                spots.insert(digest, ContentSpot { pack: None, at: 0, stored, raw });
                parcels.push((object("contents", &digest), frame));
            } else {
                in_pack.push((digest, ContentSpot { pack: None, at: pack.len() as u64, stored, raw }));
                pack.extend(frame);
                if pack.len() >= PACK {
                    parcels.push(closed(&mut pack, &mut in_pack, &mut spots));
                }
            }
            if parcels.iter().map(|(_, bytes)| bytes.len()).sum::<usize>() >= WAITING * PACK {
                self.put_all(std::mem::take(&mut parcels))?;
            }
        }
        if !in_pack.is_empty() {
            parcels.push(closed(&mut pack, &mut in_pack, &mut spots));
        }
        self.put_all(parcels)?;
        for result in wanted.values_mut() {
            result
                .entries
                .retain(|entry| contents_of(entry).iter().all(|(digest, _)| !lost.contains(digest)));
        }
        wanted.retain(|_, result| !result.entries.is_empty());
        published.results = wanted.values().map(|result| result.entries.len()).sum();
        Ok((wanted, spots, published))
    }

    fn put_all(&self, parcels: Vec<Parcel>) -> Result<(), SharedTrouble> {
        let failed: Mutex<Option<SharedTrouble>> = Mutex::default();
        self.shared.wire.each(&parcels, |(name, bytes)| {
            if lock(&failed).is_none()
                && let Err(trouble) = self.shared.put(name, bytes)
            {
                lock(&failed).get_or_insert(trouble);
            }
        });
        match failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            Some(trouble) => Err(trouble),
            None => Ok(()),
        }
    }
}

/// A pack that is full, and where its contents are in it.
fn closed(pack: &mut Vec<u8>, in_pack: &mut Vec<(Digest, ContentSpot)>, spots: &mut Spots) -> Parcel {
    let bytes = std::mem::take(pack);
    let digest = Digest::of(&bytes);
    for (content, spot) in in_pack.drain(..) {
        spots.insert(content, ContentSpot { pack: Some(digest), ..spot });
    }
    (object("packs", &digest), bytes)
}
