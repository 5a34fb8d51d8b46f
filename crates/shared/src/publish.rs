//! Writing: contents first, then what names them, the head last. Whatever cuts it off leaves the
//! old head true, and the next build writes what is missing.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::{Digest, Layout};
use nubrik_store::{Basis, Provenance, RecordEntry};

use crate::bundle::SMALL;
use crate::entries::{contents_of, is_same, places_of};
use crate::heads::ChannelHead;
use crate::index::{Branch, DoomedObject, MANIFEST_VERSION, SegmentList, SegmentRow, object};
use crate::keys::{PublicKey, SecretKey};
use crate::own_files::write_own;
use crate::segment::{
    KeyedResult, KeyedResults, RecordSegment, SegmentParts, add, beginning, encode,
};
use crate::shelf::{SharedStore, SharedTrouble};
use crate::uploads::{Uploaded, Uploads};

/// So many segments of a size become one.
const MERGED: usize = 8;

const USES_VERSION: u8 = 1;

/// The largest list of used keys that is taken, in bytes.
const USES_LIMIT: u64 = 256 << 20;

/// What was written.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct HandedOver {
    /// How many results.
    pub results: usize,
    /// How many results were not uploaded in time: the next build gives them.
    pub late: usize,
    /// How many contents.
    pub contents: usize,
    /// How many bytes went.
    pub moved: u64,
    /// How many bytes the contents have.
    pub raw: u64,
}

/// Writes results of a channel.
pub struct Publisher {
    key: SecretKey,
    channel: String,
    wait: Option<Duration>,
}

pub(crate) fn damaged(e: std::io::Error) -> SharedTrouble {
    SharedTrouble::Machine(format!("what is to be shared cannot be compressed: {e}"))
}

impl Publisher {
    /// Someone who writes a channel with a key. At the end of a build they wait so long until all
    /// is given; without a time, until it is.
    pub fn new(key: SecretKey, channel: String, wait: Option<Duration>) -> Publisher {
        Publisher { key, channel, wait }
    }

    /// Writes those of some results that may be shared and are not there yet, and those that an
    /// earlier build did not give in time.
    /// `used` are the keys of all steps that were asked for, whoever made them.
    ///
    /// # Errors
    /// When the key may not write, or something cannot be put; what is there stays as it was.
    pub fn publish(
        &self,
        shared: &SharedStore,
        uploads: &Uploads,
        results: &[(Digest, KeyedResult)],
        used: &[Digest],
    ) -> Result<HandedOver, SharedTrouble> {
        let until = self.wait.map(|wait| Instant::now() + wait);
        let before = self.may_write(shared)?;
        let manifest = before
            .as_ref()
            .map(|branch| branch.manifest.clone())
            .unwrap_or_default();
        let mut all = self.late_before(shared)?;
        for (key, result) in results {
            add(&mut all, *key, result.clone());
        }
        shared.look_for_gone(before.as_deref(), &all)?;
        let wanted = wanted(shared, &all);
        let uses = self.uses_of(shared, &manifest)?;
        let mut uses_now = uses.clone();
        uses_now.extend(used.iter().map(beginning));
        if wanted.is_empty() && uses_now == uses {
            return Ok(HandedOver::default());
        }
        offer(shared, uploads, &wanted);
        let uploaded = uploads.finish(until);
        if let Some(trouble) = &uploaded.trouble {
            return Err(trouble.clone());
        }
        let (given, late) = in_time(shared, &uploaded, wanted);
        let put: Vec<Digest> = uploaded.spots.keys().copied().collect();
        let mut published = HandedOver {
            results: count(&given),
            late: count(&late),
            contents: uploaded.contents,
            moved: uploaded.moved,
            raw: uploaded.raw,
        };
        let row = match given.is_empty() {
            true => None,
            false => {
                let parts = parts_of(shared, given, uploaded);
                let segment = encode(&parts).map_err(damaged)?;
                published.moved += segment.len() as u64;
                Some(put_segment(shared, &segment, parts.results.len() as u64)?)
            }
        };
        self.add_results(shared, row.as_ref(), &uses_now)?;
        shared.forget_missing(&put);
        self.note_late(shared, late)?;
        if published.late == 0 {
            uploads.forget();
        }
        Ok(published)
    }

    /// What the key wrote of its channel so far, if it may write it.
    pub(crate) fn may_write(
        &self,
        shared: &SharedStore,
    ) -> Result<Option<Arc<Branch>>, SharedTrouble> {
        let index = shared.index();
        // Without all that is there, a new head would leave it out.
        if let Some(trouble) = shared.hidden() {
            return Err(trouble);
        }
        let own = self.key.public();
        if !index
            .members
            .writers_of(&self.channel)
            .any(|member| member.key == own)
        {
            return Err(SharedTrouble::NoWriter(own.to_string()));
        }
        Ok(index
            .branches
            .iter()
            .find(|b| b.writer == own && b.head.channel == self.channel)
            .cloned())
    }

    /// The channel that is written.
    pub(crate) fn channel(&self) -> &str {
        &self.channel
    }

    /// By whose key.
    pub(crate) fn public(&self) -> PublicKey {
        self.key.public()
    }

    /// Lets the head lead to a segment, if there is a new one, and to keys that were used today.
    fn add_results(
        &self,
        shared: &SharedStore,
        row: Option<&SegmentRow>,
        used: &BTreeSet<u64>,
    ) -> Result<(), SharedTrouble> {
        // Others may have given results with the same key since this build began.
        let added = self.add_to_head(shared, row, &|before| {
            let manifest = before
                .map(|branch| branch.manifest.clone())
                .unwrap_or_default();
            let mut next = Next::of(shared, manifest);
            if let Some(row) = row {
                next.manifest.segments.push(*row);
                merge(shared, &mut next, before)?;
            }
            let there = self.uses_of(shared, &next.manifest)?;
            let mut all = there.clone();
            all.extend(used);
            if all != there {
                next.set_uses(shared, shared.today(), &all)?;
            }
            Ok(next)
        });
        added.map(drop)
    }

    /// The keys that were used today, as a manifest says.
    fn uses_of(
        &self,
        shared: &SharedStore,
        manifest: &SegmentList,
    ) -> Result<BTreeSet<u64>, SharedTrouble> {
        match manifest.uses.get(&shared.today()) {
            Some(digest) => self.uses(shared, digest),
            None => Ok(BTreeSet::new()),
        }
    }

    /// The keys that were used on a day.
    pub(crate) fn uses(
        &self,
        shared: &SharedStore,
        digest: &Digest,
    ) -> Result<BTreeSet<u64>, SharedTrouble> {
        let lies = || SharedTrouble::Lies(object("uses", digest));
        let bytes = shared
            .immutable("uses", digest, USES_LIMIT)
            .ok_or_else(lies)?;
        BTreeSet::<u64>::of_version(&bytes, USES_VERSION).map_err(|_| lies())
    }

    /// Lets the head lead to what is next. Gives the digest of its manifest.
    pub(crate) fn put_head(
        &self,
        shared: &SharedStore,
        before: Option<&Branch>,
        mut next: Next,
    ) -> Result<Digest, SharedTrouble> {
        if let Some(branch) = before {
            next.doom(object("manifests", &branch.head.manifest));
        }
        let bytes = next.manifest.to_version(MANIFEST_VERSION);
        let digest = Digest::of(&bytes);
        shared.put_kept("manifests", &digest, &bytes)?;
        let name = ChannelHead::object(&self.channel, &self.key.public());
        // Who saw a later head than is there now believes only one that is later still.
        let last = before
            .map_or(0, |branch| branch.head.sequence)
            .max(shared.last_seen(&name));
        let head = ChannelHead {
            channel: self.channel.clone(),
            sequence: last + 1,
            time: shared.now(),
            manifest: digest,
        };
        shared.put(&name, &head.sign(&self.key))?;
        shared.note_written(name, head.sequence);
        Ok(digest)
    }

    fn late_file(&self, shared: &SharedStore) -> PathBuf {
        shared
            .accepted()
            .cache
            .join("late")
            .join(Digest::of(self.channel.as_bytes()).hex())
    }

    /// Results that an earlier build did not give in time.
    fn late_before(&self, shared: &SharedStore) -> Result<KeyedResults, SharedTrouble> {
        let file = self.late_file(shared);
        let bytes = match std::fs::read(&file) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(KeyedResults::new()),
            Err(e) => {
                let problem = format!(
                    "cannot read what was not uploaded in time in {}: {e}",
                    file.display()
                );
                return Err(SharedTrouble::Machine(problem));
            }
            Ok(bytes) => bytes,
        };
        // A damaged one is written anew: its results are given when they are built again.
        Ok(RecordSegment::decode(&bytes)
            .map(|segment| segment.parts().results)
            .unwrap_or_default())
    }

    fn note_late(&self, shared: &SharedStore, late: KeyedResults) -> Result<(), SharedTrouble> {
        let file = self.late_file(shared);
        if late.is_empty() {
            let _ = std::fs::remove_file(&file);
            return Ok(());
        }
        let bytes = encode(&SegmentParts {
            results: late,
            ..SegmentParts::default()
        })
        .map_err(damaged)?;
        let problem = |e: std::io::Error| {
            SharedTrouble::Machine(format!(
                "cannot write down what is not given yet in {}: {e}",
                file.display()
            ))
        };
        write_own(&file, &bytes).map_err(problem)
    }
}

fn count(results: &KeyedResults) -> usize {
    results.values().map(|result| result.entries.len()).sum()
}

/// What a head is to lead to next.
pub(crate) struct Next {
    pub manifest: SegmentList,
    /// In seconds since 1970.
    now: u64,
}

impl Next {
    /// What follows a manifest, for a head that is written now.
    pub fn of(shared: &SharedStore, manifest: SegmentList) -> Next {
        Next {
            manifest,
            now: shared.now(),
        }
    }

    /// Says that nothing leads to an object any more.
    pub fn doom(&mut self, name: String) {
        self.manifest.doomed.retain(|doomed| doomed.name != name);
        self.manifest.doomed.push(DoomedObject {
            name,
            since: self.now,
        });
    }

    fn set_uses(
        &mut self,
        shared: &SharedStore,
        day: u64,
        uses: &BTreeSet<u64>,
    ) -> Result<(), SharedTrouble> {
        let bytes = uses.to_version(USES_VERSION);
        let digest = Digest::of(&bytes);
        shared.put(&object("uses", &digest), &bytes)?;
        if let Some(old) = self
            .manifest
            .uses
            .insert(day, digest)
            .filter(|old| *old != digest)
        {
            self.doom(object("uses", &old));
        }
        Ok(())
    }
}

/// Makes one segment of several small ones, so that few are to be asked for.
fn merge(
    shared: &SharedStore,
    next: &mut Next,
    before: Option<&Branch>,
) -> Result<(), SharedTrouble> {
    let size = |named: &SegmentRow| named.keys.max(1).ilog(MERGED as u64);
    let Some(smallest) = next.manifest.segments.iter().map(size).min() else {
        return Ok(());
    };
    let (few, rest): (Vec<SegmentRow>, Vec<SegmentRow>) = next
        .manifest
        .segments
        .iter()
        .partition(|named| size(named) == smallest);
    if few.len() < MERGED {
        return Ok(());
    }
    let known: BTreeMap<Digest, &Arc<RecordSegment>> = before
        .iter()
        .flat_map(|branch| &branch.segments)
        .map(|(digest, segment)| (*digest, segment))
        .collect();
    // The newest one was not read back: it stays by itself.
    let (old, newest): (Vec<SegmentRow>, Vec<SegmentRow>) = few
        .into_iter()
        .partition(|named| known.contains_key(&named.digest));
    let mut all = SegmentParts::default();
    for named in &old {
        let SegmentParts {
            results,
            spots,
            shortcuts,
        } = known[&named.digest].parts();
        for (key, result) in results {
            add(&mut all.results, key, result);
        }
        all.spots.extend(spots);
        all.shortcuts.extend(shortcuts);
    }
    let merged = put_segment(
        shared,
        &encode(&all).map_err(damaged)?,
        all.results.len() as u64,
    )?;
    next.manifest.segments = rest.into_iter().chain([merged]).chain(newest).collect();
    old.iter()
        .for_each(|named| next.doom(object("segments", &named.digest)));
    Ok(())
}

pub(crate) fn put_segment(
    shared: &SharedStore,
    bytes: &[u8],
    keys: u64,
) -> Result<SegmentRow, SharedTrouble> {
    let digest = Digest::of(bytes);
    shared.put_kept("segments", &digest, bytes)?;
    Ok(SegmentRow {
        digest,
        keys,
        bytes: bytes.len() as u64,
    })
}

/// The results that others may have, and that are not there.
fn wanted(shared: &SharedStore, results: &KeyedResults) -> KeyedResults {
    let index = shared.index();
    let mut wanted = KeyedResults::new();
    for (key, result) in results {
        let there = index.results(key);
        let is_there = |entry: &RecordEntry| {
            there
                .iter()
                .any(|(_, known)| is_same(known, entry) && known.basis == entry.basis)
                && contents_of(entry)
                    .iter()
                    .all(|(digest, _)| shared.has(digest))
        };
        let mut seen: Vec<&RecordEntry> = Vec::new();
        for entry in &result.entries {
            let may_go = entry.origin == Provenance::Here && matches!(entry.basis, Basis::Noted(_));
            if may_go && !is_there(entry) && !seen.contains(&entry) {
                seen.push(entry);
            }
        }
        let entries: Vec<RecordEntry> = seen.into_iter().cloned().collect();
        if !entries.is_empty() {
            add(
                &mut wanted,
                *key,
                KeyedResult {
                    entries,
                    ..result.clone()
                },
            );
        }
    }
    wanted
}

/// Says which contents are needed there, and of which others were at the same place before.
fn offer(shared: &SharedStore, uploads: &Uploads, wanted: &KeyedResults) {
    for entry in wanted.values().flat_map(|result| &result.entries) {
        contents_of(entry)
            .into_iter()
            .for_each(|(digest, executable)| uploads.offer(digest, executable));
    }
    let index = shared.index();
    for result in wanted.values() {
        let before = index.of_folder(&result.folder);
        let Some(last) = before.first().and_then(|(_, _, last)| last.entries.first()) else {
            continue;
        };
        let old: BTreeMap<(usize, &str), Digest> = places_of(last)
            .into_iter()
            .map(|(place, digest, _)| (place, digest))
            .collect();
        for (place, new, _) in result.entries.iter().flat_map(places_of) {
            let other = old.get(&place).filter(|old| **old != new);
            let is_large = |old: &&Digest| index.spot(old).is_some_and(|spot| spot.raw >= SMALL);
            if let Some(old) = other.filter(is_large) {
                uploads.offer_shortcut(new, *old);
            }
        }
    }
}

/// Results whose contents are all there, and those of which some are not yet. What this machine
/// lost is left out.
fn in_time(
    shared: &SharedStore,
    uploaded: &Uploaded,
    wanted: KeyedResults,
) -> (KeyedResults, KeyedResults) {
    let (mut given, mut late) = (KeyedResults::new(), KeyedResults::new());
    for (key, result) in wanted {
        for entry in result.entries {
            let contents = contents_of(&entry);
            let one = KeyedResult {
                folder: result.folder.clone(),
                made_of: result.made_of.clone(),
                entries: vec![entry],
            };
            if contents
                .iter()
                .any(|(digest, _)| uploaded.lost.contains(digest))
            {
                continue;
            }
            let is_there =
                |digest: &Digest| uploaded.spots.contains_key(digest) || shared.has(digest);
            let in_time = contents.iter().all(|(digest, _)| is_there(digest));
            add(if in_time { &mut given } else { &mut late }, key, one);
        }
    }
    (given, late)
}

/// What a segment of results holds.
fn parts_of(shared: &SharedStore, results: KeyedResults, uploaded: Uploaded) -> SegmentParts {
    let index = shared.index();
    let mut spots = uploaded.spots;
    for entry in results.values().flat_map(|result| &result.entries) {
        for (digest, _) in contents_of(entry) {
            if !spots.contains_key(&digest)
                && let Some(spot) = index.spot(&digest)
            {
                spots.insert(digest, spot);
            }
        }
    }
    SegmentParts {
        results,
        spots,
        shortcuts: uploaded.shortcuts,
    }
}
