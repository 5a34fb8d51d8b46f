//! Contents, several at once: by threads that keep the network, and neighbours in a pack with one
//! request.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use nubrik_bytes::Digest;

use crate::aligned::apply;
use crate::bundle::{CONTENT_LIMIT, PACK_LIMIT, content};
use crate::index::{Shortcut, object};
use crate::segment::ContentSpot;
use crate::shelf::{NamedObject, SharedStore, SharedTrouble, is_handed};

/// After so many requests for parts of a pack the whole of it is fetched.
const PICKED: u32 = 8;

/// A pack of at most so many bytes is fetched whole: its parts hardly come sooner.
const SMALL_PACK: u64 = 1 << 20;

/// A pack is fetched whole if at least one byte of so many is wanted.
const WANTED_PART: u64 = 3;

/// How many whole packs are held in memory.
const HELD: usize = 8;

/// So many bytes between two contents of a pack are rather fetched than asked around: what comes in
/// the time of one request.
const GAP: u64 = 128 << 10;

/// Contents of at least so many bytes come one after another: several of them at once would fill
/// the memory, and no sooner.
const LARGE: u64 = 64 << 20;

/// Contents of this machine, from which differences lead to others.
pub(crate) trait NearContents: Sync {
    /// Whether there is a content.
    fn has(&self, digest: &Digest) -> bool;
    /// Its bytes, if they are right.
    fn read(&self, digest: &Digest) -> Option<Vec<u8>>;
}

/// What is asked for at once.
enum FetchPart {
    /// A content that is an object of its own.
    Alone(Digest, ContentSpot),
    /// Some of a pack, from and to where, with the contents that are wanted.
    Part(Digest, Range<u64>, Vec<(Digest, ContentSpot)>),
}

/// Contents that are wanted, by how they are fetched.
#[derive(Default)]
struct WantedParts {
    /// What is asked for at once.
    errands: Vec<FetchPart>,
    /// Large contents, one after another.
    large: Vec<(Digest, ContentSpot)>,
    /// Contents of packs.
    packs: BTreeMap<Digest, Vec<(Digest, ContentSpot)>>,
}

/// The parts of a pack that are to be fetched for some of its contents.
fn parts_of(pack: Digest, mut contents: Vec<(Digest, ContentSpot)>) -> Vec<FetchPart> {
    contents.sort_by_key(|(_, spot)| spot.at);
    let mut parts: Vec<FetchPart> = Vec::new();
    for (digest, spot) in contents {
        let end = spot.at.saturating_add(spot.stored);
        match parts.last_mut() {
            Some(FetchPart::Part(_, range, inside)) if spot.at <= range.end.saturating_add(GAP) => {
                range.end = range.end.max(end);
                inside.push((digest, spot));
            }
            _ => parts.push(FetchPart::Part(pack, spot.at..end, vec![(digest, spot)])),
        }
    }
    parts
}

impl SharedStore {
    /// Brings contents as far as they can be had, several at once, and hands each one on, whose
    /// digest is right. What differs little from something `near` comes as a difference to it. What
    /// does not come until a time does not come.
    pub(crate) fn bring(
        &self,
        wanted: &[Digest],
        (near, until): (&dyn NearContents, Option<Instant>),
        take: &(dyn Fn(&Digest, Vec<u8>) + Sync),
    ) {
        let mut wanted = wanted.to_vec();
        // Threads that have nothing to do would be woken.
        while !wanted.is_empty() {
            let before: Vec<Option<ContentSpot>> =
                wanted.iter().map(|digest| self.spot(digest)).collect();
            let absent = self.absent.lock().len();
            self.bring_once(&wanted, (near, until), take);
            if self.absent.lock().len() == absent {
                return;
            }
            // What was not where it should be may also be elsewhere.
            let moved = wanted
                .iter()
                .zip(before)
                .filter(|(digest, before)| self.spot(digest) != *before);
            wanted = moved.map(|(digest, _)| *digest).collect();
        }
    }

    /// Those of some contents of a pack that are right, by a part of the pack that holds them all.
    /// Those that are not there, and those that are something else, are noted.
    fn part_of_pack(
        &self,
        pack: &Digest,
        range: &Range<u64>,
        contents: &[(Digest, ContentSpot)],
        until: Option<Instant>,
    ) -> Vec<(Digest, Vec<u8>)> {
        let length = range.end - range.start;
        let Some((first, spot)) = contents.first().filter(|_| length <= PACK_LIMIT) else {
            return Vec::new();
        };
        let name = self.object_of(first, spot);
        let opened = |part: &[u8]| -> Vec<(Digest, Vec<u8>)> {
            let right = |(digest, spot): &(Digest, ContentSpot)| {
                Some((
                    *digest,
                    content(
                        frame_in(part, spot.at - range.start, spot)?,
                        spot.raw,
                        digest,
                    )?,
                ))
            };
            contents.iter().filter_map(right).collect()
        };
        let all = |part: &[u8]| Some(opened(part)).filter(|right| right.len() == contents.len());
        if let Some((right, _)) = self.of_mirror(&name, Some(range), length, until, &all) {
            return self.counted(right);
        }
        // What the mirror lacks is fetched as a whole, so that it has it then.
        let whole = if self.fills_mirror() && !is_handed(&name) {
            self.whole_pack(pack, until)
        } else {
            None
        };
        let right = match whole {
            Some(whole) => part_in(&whole, range).map_or_else(Vec::new, opened),
            None => {
                match self.of_store(&name, Some(range.clone()), length, until, &|part| {
                    Some(opened(part))
                }) {
                    NamedObject::Right(right, _) => right,
                    NamedObject::Wrong | NamedObject::Absent => {
                        contents
                            .iter()
                            .for_each(|(digest, _)| self.note_missing(digest));
                        return Vec::new();
                    }
                }
            }
        };
        let had: HashSet<Digest> = right.iter().map(|(digest, _)| *digest).collect();
        for (digest, _) in contents.iter().filter(|(digest, _)| !had.contains(digest)) {
            self.fail(other_content(digest));
        }
        self.counted(right)
    }

    /// The same contents, counted as had.
    fn counted(&self, contents: Vec<(Digest, Vec<u8>)>) -> Vec<(Digest, Vec<u8>)> {
        let bytes = contents.iter().map(|(_, bytes)| bytes.len() as u64).sum();
        self.counters.raw.fetch_add(bytes, Ordering::Relaxed);
        contents
    }

    /// A content that is an object of its own; that it is not there, or another one, is noted.
    fn lone_content(
        &self,
        digest: &Digest,
        spot: &ContentSpot,
        until: Option<Instant>,
    ) -> Option<Vec<u8>> {
        let check = |frame: &[u8]| content(frame, spot.raw, digest);
        match self.named(&self.object_of(digest, spot), spot.stored, until, check) {
            NamedObject::Right(bytes, _) => {
                self.counters
                    .raw
                    .fetch_add(bytes.len() as u64, Ordering::Relaxed);
                return Some(bytes);
            }
            NamedObject::Wrong => self.fail(other_content(digest)),
            NamedObject::Absent => self.note_missing(digest),
        }
        None
    }

    fn bring_once(
        &self,
        wanted: &[Digest],
        (near, until): (&dyn NearContents, Option<Instant>),
        take: &(dyn Fn(&Digest, Vec<u8>) + Sync),
    ) {
        let index = self.index();
        let WantedParts {
            mut errands,
            large,
            packs,
        } = self.wanted_parts(wanted);
        let hand_on = |digest: &Digest, spot: &ContentSpot, frame: &[u8]| {
            if let Some(bytes) = self.opened(digest, spot, frame) {
                take(digest, bytes);
            }
        };
        let alone = |digest: &Digest, spot: &ContentSpot| {
            if let Some(bytes) = self.by_shortcuts(digest, spot, near, until) {
                return take(digest, bytes);
            }
            if let Some(bytes) = self.lone_content(digest, spot, until) {
                take(digest, bytes);
            }
        };
        let is_behind_head = |contents: &[(Digest, ContentSpot)]| {
            contents
                .iter()
                .all(|(digest, _)| index.spot(digest).is_some())
        };
        for (pack, contents) in packs {
            let bytes = contents.iter().map(|(_, spot)| spot.stored).sum();
            let whole = if is_behind_head(&contents) {
                self.pack_if_wanted(&pack, bytes, until)
            } else {
                None
            };
            let Some(whole) = whole else {
                errands.extend(parts_of(pack, contents));
                continue;
            };
            for (digest, spot) in &contents {
                frame_in(&whole, spot.at, spot)
                    .into_iter()
                    .for_each(|frame| hand_on(digest, spot, frame));
            }
        }
        self.wire.each(&errands, |errand| match errand {
            FetchPart::Alone(digest, spot) => alone(digest, spot),
            FetchPart::Part(pack, range, contents) => {
                for (digest, bytes) in self.part_of_pack(pack, range, contents, until) {
                    take(&digest, bytes);
                }
            }
        });
        large.iter().for_each(|(digest, spot)| alone(digest, spot));
    }

    /// Where contents are, by how they are fetched.
    fn wanted_parts(&self, wanted: &[Digest]) -> WantedParts {
        let mut parts = WantedParts::default();
        for digest in wanted {
            let Some(spot) = self.spot(digest).filter(is_bounded) else {
                continue;
            };
            match spot.pack {
                Some(pack) => parts.packs.entry(pack).or_default().push((*digest, spot)),
                None if spot.raw >= LARGE => parts.large.push((*digest, spot)),
                None => parts.errands.push(FetchPart::Alone(*digest, spot)),
            }
        }
        parts
    }

    /// A content by differences that lead to it from one that is near, where that is shorter.
    fn by_shortcuts(
        &self,
        digest: &Digest,
        spot: &ContentSpot,
        near: &dyn NearContents,
        until: Option<Instant>,
    ) -> Option<Vec<u8>> {
        let index = self.index();
        let (mut at, way) = index.way_to(digest, spot.stored, &|old| near.has(old))?;
        let mut bytes = near.read(&at)?;
        for Shortcut {
            to,
            object: name,
            length,
        } in way
        {
            let raw = index.spot(&to).filter(is_bounded)?.raw;
            let is_it = |bytes: &[u8]| (Digest::of(bytes) == name).then_some(());
            let difference = match self.named(&object("differences", &name), length, until, is_it) {
                NamedObject::Right((), difference) => difference,
                NamedObject::Wrong => {
                    self.fail(SharedTrouble::Lies(object("differences", &name)));
                    return None;
                }
                NamedObject::Absent => return None,
            };
            bytes = apply(&bytes, &difference, raw)?;
            at = to;
        }
        if at != *digest || Digest::of(&bytes) != *digest {
            self.fail(SharedTrouble::Lies(format!(
                "a difference that leads to {}",
                &digest.hex()[..12]
            )));
            return None;
        }
        self.counters
            .raw
            .fetch_add(bytes.len() as u64, Ordering::Relaxed);
        self.counters.differences.fetch_add(1, Ordering::Relaxed);
        Some(bytes)
    }

    /// Takes note that a content is not where it should be: who writes gives it once more.
    fn note_missing(&self, digest: &Digest) {
        if !self.is_off() {
            self.missing().lock().insert(*digest);
        }
    }

    /// Whether a content is there, as far as it is known.
    pub(crate) fn has(&self, digest: &Digest) -> bool {
        self.index().spot(digest).is_some() && !self.missing().lock().contains(digest)
    }

    /// A content, whose digest is right.
    pub(crate) fn content(&self, digest: &Digest) -> Option<Vec<u8>> {
        let spot = self.spot(digest).filter(is_bounded)?;
        let Some(pack) = spot.pack else {
            return self.lone_content(digest, &spot, None);
        };
        match self.pack_behind_head(digest, &pack, spot.stored) {
            Some(whole) => self.opened(digest, &spot, frame_in(&whole, spot.at, &spot)?),
            None => {
                let part = spot.at..spot.at.checked_add(spot.stored)?;
                self.part_of_pack(&pack, &part, &[(*digest, spot)], None)
                    .pop()
                    .map(|(_, bytes)| bytes)
            }
        }
    }

    /// A whole pack for a content, where a head leads to it and it is worth it.
    fn pack_behind_head(
        &self,
        content: &Digest,
        pack: &Digest,
        wanted: u64,
    ) -> Option<Arc<Vec<u8>>> {
        self.index().spot(content)?;
        self.pack_if_wanted(pack, wanted, None)
    }

    /// The content in a frame; that it is another one is reported.
    fn opened(&self, digest: &Digest, spot: &ContentSpot, frame: &[u8]) -> Option<Vec<u8>> {
        let found = content(frame, spot.raw, digest);
        match &found {
            Some(bytes) => drop(
                self.counters
                    .raw
                    .fetch_add(bytes.len() as u64, Ordering::Relaxed),
            ),
            None => self.fail(other_content(digest)),
        }
        found
    }

    /// A whole pack, where that is no more trouble than so many bytes of it.
    fn pack_if_wanted(
        &self,
        digest: &Digest,
        wanted: u64,
        until: Option<Instant>,
    ) -> Option<Arc<Vec<u8>>> {
        let pack = self.packs.wanted.lock().entry(*digest).or_default().clone();
        let size = self.index().pack_size(digest);
        let is_worth_it = size <= SMALL_PACK || wanted >= size / WANTED_PART;
        if pack.picked.fetch_add(1, Ordering::Relaxed) < PICKED
            && !is_worth_it
            && pack.whole.get().is_none()
        {
            return None;
        }
        self.whole_pack(digest, until)
    }

    /// A whole pack. Others who want something of it wait for it; one that could not be had is not
    /// asked for again.
    fn whole_pack(&self, digest: &Digest, until: Option<Instant>) -> Option<Arc<Vec<u8>>> {
        let pack = self.packs.wanted.lock().entry(*digest).or_default().clone();
        let whole = pack.whole.get_or_init(|| {
            let name = object("packs", digest);
            let is_it = |bytes: &[u8]| (Digest::of(bytes) == *digest).then_some(());
            let whole = match self.named(&name, PACK_LIMIT, until, is_it) {
                NamedObject::Right((), whole) => whole,
                NamedObject::Wrong => {
                    self.fail(SharedTrouble::Lies(name));
                    return None;
                }
                NamedObject::Absent => return None,
            };
            let mut held = self.packs.held.lock();
            held.push(*digest);
            if held.len() > HELD {
                let oldest = held.remove(0);
                self.packs.wanted.lock().remove(&oldest);
            }
            Some(Arc::new(whole))
        });
        whole.clone()
    }
}

/// That what is given as a content is another one.
fn other_content(digest: &Digest) -> SharedTrouble {
    SharedTrouble::Lies(format!("the content {}", &digest.hex()[..12]))
}

/// Some bytes of a pack.
fn part_in<'b>(whole: &'b [u8], range: &Range<u64>) -> Option<&'b [u8]> {
    whole.get(usize::try_from(range.start).ok()?..usize::try_from(range.end).ok()?)
}

/// The bytes of a content that begin somewhere in others.
fn frame_in<'b>(bytes: &'b [u8], at: u64, spot: &ContentSpot) -> Option<&'b [u8]> {
    bytes
        .get(usize::try_from(at).ok()?..)?
        .get(..usize::try_from(spot.stored).ok()?)
}

/// Whether a content is none that would fill the memory.
fn is_bounded(spot: &ContentSpot) -> bool {
    spot.stored <= CONTENT_LIMIT && spot.raw <= CONTENT_LIMIT
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn neighbours_come_with_one_request() {
        let pack = Digest::of(b"pack");
        let spot = |at: u64, stored: u64| ContentSpot {
            pack: Some(pack),
            at,
            stored,
            raw: stored,
        };
        let named = |n: u8| Digest::of(&[n]);
        let contents = vec![
            (named(3), spot(5 << 20, 10)),
            (named(1), spot(0, 100)),
            (named(2), spot(100 + GAP, 50)),
            (named(4), spot((5 << 20) + 10, 7)),
        ];
        let ranges: Vec<(Range<u64>, usize)> = parts_of(pack, contents)
            .iter()
            .filter_map(|errand| match errand {
                FetchPart::Part(_, range, inside) => Some((range.clone(), inside.len())),
                FetchPart::Alone(..) => None,
            })
            .collect();
        assert_eq!(ranges, [(0..150 + GAP, 2), (5 << 20..(5 << 20) + 17, 2)]);
    }
}
