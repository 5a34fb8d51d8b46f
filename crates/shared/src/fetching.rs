//! Contents, several at once: by threads that keep the network, and neighbours in a pack with one request.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use nubrik_bytes::Digest;

use crate::aligned::apply;
use crate::bundle::{CONTENT_LIMIT, PACK_LIMIT, content};
use crate::index::{Shortcut, object};
use crate::segment::ContentSpot;
use crate::shelf::{SharedStore, SharedTrouble};

/// After so many requests for parts of a pack the whole of it is fetched.
const PICKED: u32 = 8;

/// A pack of at most so many bytes is fetched whole: its parts hardly come sooner.
const SMALL_PACK: u64 = 1 << 20;

/// A pack is fetched whole if at least one byte of so many is wanted.
const WANTED_PART: u64 = 3;

/// How many whole packs are held in memory.
const HELD: usize = 8;

/// So many bytes between two contents of a pack are rather fetched than asked around: what comes in the time of one request.
const GAP: u64 = 128 << 10;

/// Contents of at least so many bytes come one after another: several of them at once would fill the memory, and no sooner.
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
    /// Brings contents as far as they can be had, several at once, and hands each one on, whose digest is right. What differs little
    /// from something `near` comes as a difference to it. What does not come until a time does not come.
    pub(crate) fn bring(
        &self,
        wanted: &[Digest],
        (near, until): (&dyn NearContents, Option<Instant>),
        take: &(dyn Fn(&Digest, Vec<u8>) + Sync),
    ) {
        let mut wanted = wanted.to_vec();
        // Threads that have nothing to do would be woken.
        while !wanted.is_empty() {
            let before: Vec<Option<ContentSpot>> = wanted.iter().map(|digest| self.spot(digest)).collect();
            let absent = self.absent.lock().len();
            self.bring_once(&wanted, (near, until), take);
            if self.absent.lock().len() == absent {
                return;
            }
            // What was not where it should be may also be elsewhere.
            let moved = wanted.iter().zip(before).filter(|(digest, before)| self.spot(digest) != *before);
            wanted = moved.map(|(digest, _)| *digest).collect();
        }
    }

    /// A part of a pack, with some contents; nothing where it is too long or not there, which is noted.
    fn part_of_pack(
        &self,
        pack: &Digest,
        range: &Range<u64>,
        contents: &[(Digest, ContentSpot)],
        until: Option<Instant>,
    ) -> Option<Vec<u8>> {
        let length = range.end - range.start;
        if length > PACK_LIMIT {
            return None;
        }
        let first = contents.first();
        let name = first.map_or_else(|| object("packs", pack), |(digest, spot)| self.object_of(digest, spot));
        let part = self.get_named(&name, Some(range.clone()), length, until);
        if part.is_none() {
            contents.iter().for_each(|(digest, _)| self.note_missing(digest));
        }
        part
    }

    fn bring_once(
        &self,
        wanted: &[Digest],
        (near, until): (&dyn NearContents, Option<Instant>),
        take: &(dyn Fn(&Digest, Vec<u8>) + Sync),
    ) {
        let index = self.index();
        let (mut errands, mut large): (Vec<FetchPart>, Vec<(Digest, ContentSpot)>) = (Vec::new(), Vec::new());
        let mut packs: BTreeMap<Digest, Vec<(Digest, ContentSpot)>> = BTreeMap::new();
        for digest in wanted {
            let Some(spot) = self.spot(digest).filter(is_bounded) else { continue };
            match spot.pack {
                Some(pack) => packs.entry(pack).or_default().push((*digest, spot)),
                None if spot.raw >= LARGE => large.push((*digest, spot)),
                None => errands.push(FetchPart::Alone(*digest, spot)),
            }
        }
        let hand_on = |digest: &Digest, spot: &ContentSpot, frame: &[u8]| {
            if let Some(bytes) = self.opened(digest, spot, frame) {
                take(digest, bytes);
            }
        };
        let alone = |digest: &Digest, spot: &ContentSpot| {
            if let Some(bytes) = self.by_shortcuts(digest, spot, near, until) {
                return take(digest, bytes);
            }
            match self.get_named(&self.object_of(digest, spot), None, spot.stored, until) {
                Some(frame) => hand_on(digest, spot, &frame),
                None => self.note_missing(digest),
            }
        };
        let is_behind_head = |contents: &[(Digest, ContentSpot)]| {
            contents.iter().all(|(digest, _)| index.spot(digest).is_some())
        };
        for (pack, contents) in packs {
            let bytes = contents.iter().map(|(_, spot)| spot.stored).sum();
            let whole =
                if is_behind_head(&contents) { self.pack_if_wanted(&pack, bytes, until) } else { None };
            let Some(whole) = whole else {
                errands.extend(parts_of(pack, contents));
                continue;
            };
            for (digest, spot) in &contents {
                frame_in(&whole, spot.at, spot).into_iter().for_each(|frame| hand_on(digest, spot, frame));
            }
        }
        self.wire.each(&errands, |errand| match errand {
            FetchPart::Alone(digest, spot) => alone(digest, spot),
            FetchPart::Part(pack, range, contents) => {
                let Some(part) = self.part_of_pack(pack, range, contents, until) else { return };
                for (digest, spot) in contents {
                    let frame = frame_in(&part, spot.at - range.start, spot);
                    frame.into_iter().for_each(|frame| hand_on(digest, spot, frame));
                }
            }
        });
        large.iter().for_each(|(digest, spot)| alone(digest, spot));
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
        for Shortcut { to, object: name, length } in way {
            let raw = index.spot(&to).filter(is_bounded)?.raw;
            let difference = self.get_named(&object("differences", &name), None, length, until)?;
            bytes = apply(&bytes, &difference, raw)?;
            at = to;
        }
        if at != *digest || Digest::of(&bytes) != *digest {
            self.fail(SharedTrouble::Lies(format!("a difference that leads to {}", &digest.hex()[..12])));
            return None;
        }
        self.counters.raw.fetch_add(bytes.len() as u64, Ordering::Relaxed);
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
        let frame = match spot.pack {
            None => self.get_named(&self.object_of(digest, &spot), None, spot.stored, None)?,
            Some(pack) => match self.pack_behind_head(digest, &pack, spot.stored) {
                Some(whole) => frame_in(&whole, spot.at, &spot)?.to_vec(),
                None => {
                    let part = spot.at..spot.at.checked_add(spot.stored)?;
                    self.get_named(&self.object_of(digest, &spot), Some(part), spot.stored, None)?
                }
            },
        };
        self.opened(digest, &spot, &frame)
    }

    /// A whole pack for a content, where a head leads to it and it is worth it.
    fn pack_behind_head(&self, content: &Digest, pack: &Digest, wanted: u64) -> Option<Arc<Vec<u8>>> {
        self.index().spot(content)?;
        self.pack_if_wanted(pack, wanted, None)
    }

    /// The content in a frame; that it is another one is reported.
    fn opened(&self, digest: &Digest, spot: &ContentSpot, frame: &[u8]) -> Option<Vec<u8>> {
        let found = content(frame, spot.raw, digest);
        match &found {
            Some(bytes) => drop(self.counters.raw.fetch_add(bytes.len() as u64, Ordering::Relaxed)),
            None => self.fail(SharedTrouble::Lies(format!("the content {}", &digest.hex()[..12]))),
        }
        found
    }

    /// A whole pack, where that is no more trouble than so many bytes of it.
    fn pack_if_wanted(&self, digest: &Digest, wanted: u64, until: Option<Instant>) -> Option<Arc<Vec<u8>>> {
        let pack = self.packs.wanted.lock().entry(*digest).or_default().clone();
        let size = self.index().pack_size(digest);
        let is_worth_it = size <= SMALL_PACK || wanted >= size / WANTED_PART;
        if pack.picked.fetch_add(1, Ordering::Relaxed) < PICKED && !is_worth_it && pack.whole.get().is_none()
        {
            return None;
        }
        // Others who want something of it wait for the whole. One that could not be had is not asked for again.
        let whole = pack.whole.get_or_init(|| {
            let name = object("packs", digest);
            let whole = self.get_named(&name, None, PACK_LIMIT, until)?;
            if Digest::of(&whole) != *digest {
                self.fail(SharedTrouble::Lies(name));
                return None;
            }
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

/// The bytes of a content that begin somewhere in others.
fn frame_in<'b>(bytes: &'b [u8], at: u64, spot: &ContentSpot) -> Option<&'b [u8]> {
    bytes.get(usize::try_from(at).ok()?..)?.get(..usize::try_from(spot.stored).ok()?)
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
        let spot = |at: u64, stored: u64| ContentSpot { pack: Some(pack), at, stored, raw: stored };
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
