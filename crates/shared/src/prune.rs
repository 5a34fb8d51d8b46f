//! Pruning a channel: what no build used for some days is left out of what its head leads to, and a
//! while later the objects go that nothing leads to any more. Who still reads by an older head
//! finds them until then.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::time::Duration;

use nubrik_bytes::Digest;
use parking_lot::Mutex;

use crate::bundle::{PACK, squeezed};
use crate::entries::contents_of;
use crate::index::{Branch, DoomedObject, object};
use crate::pack::{ClosedPack, GrowingPack};
use crate::publish::{Next, Publisher, damaged, put_segment};
use crate::segment::{SegmentParts, Spots, add, beginning, encode};
use crate::shelf::{SharedStore, SharedTrouble};

/// A pack of which less than one byte of so many is wanted is written anew with what is.
const SPARSE: u64 = 2;

/// What jobs need and make is of no use after so long, in seconds.
const OF_JOBS: u64 = 7 * 24 * 3600;

/// What pruning came to.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Pruned {
    /// Results that were used lately, and stay.
    pub kept: usize,
    /// Results that were not.
    pub dropped: usize,
    /// Objects that nothing leads to any more, and that stay for a while.
    pub waiting: usize,
    /// Objects that were removed.
    pub removed: usize,
}

impl Publisher {
    /// Leaves out what no build of the channel used for so many days, and removes what nothing led
    /// to for so long.
    ///
    /// # Errors
    /// When the key may not write, or something cannot be read, put or removed; what is there stays
    /// usable.
    pub fn prune(
        &self,
        shared: &SharedStore,
        days: u64,
        grace: Duration,
    ) -> Result<Pruned, SharedTrouble> {
        let Some(branch) = self.may_write(shared)? else {
            return Ok(Pruned::default());
        };
        let mut next = Next::of(shared, branch.manifest.clone());
        let mut pruned = Pruned::default();
        let first = (shared.today() + 1).saturating_sub(days.max(1));
        let mut used: BTreeSet<u64> = BTreeSet::new();
        for (day, digest) in &branch.manifest.uses {
            if *day >= first {
                used.extend(self.uses(shared, digest)?);
            } else {
                next.manifest.uses.remove(day);
                next.doom(object("uses", digest));
            }
        }
        let all = parts_of(&branch);
        let count = |parts: &SegmentParts| {
            parts
                .results
                .values()
                .map(|result| result.entries.len())
                .sum::<usize>()
        };
        let before = count(&all);
        let kept = used_of(all.clone(), &used);
        pruned.kept = count(&kept);
        pruned.dropped = before - pruned.kept;
        if pruned.dropped > 0 {
            self.replace(shared, &branch, &all, kept, &mut next)?;
        }
        pruned.removed = remove_old(shared, &mut next, grace)? + shared.remove_jobs(OF_JOBS)?;
        pruned.waiting = next.manifest.doomed.len();
        if next.manifest != branch.manifest {
            let turn = shared.turn_of(&self.head_name())?;
            self.must_be_last(shared, &branch)?;
            self.put_head(shared, Some(&branch), next)?;
            drop(turn);
            pruned.waiting += 1;
        }
        Ok(pruned)
    }

    /// Puts what is kept in place of all segments.
    fn replace(
        &self,
        shared: &SharedStore,
        branch: &Branch,
        all: &SegmentParts,
        mut kept: SegmentParts,
        next: &mut Next,
    ) -> Result<(), SharedTrouble> {
        kept.spots = repacked(shared, kept.spots)?;
        let objects = |parts: &SegmentParts| -> HashSet<String> {
            let of_spots = parts.spots.iter().map(|(digest, spot)| match &spot.pack {
                Some(pack) => object("packs", pack),
                None => object("contents", digest),
            });
            of_spots
                .chain(
                    parts
                        .shortcuts
                        .values()
                        .map(|(digest, _)| object("differences", digest)),
                )
                .collect()
        };
        let stay = objects(&kept);
        let mut gone: Vec<String> = objects(all)
            .into_iter()
            .filter(|name| !stay.contains(name))
            .collect();
        gone.sort();
        gone.into_iter().for_each(|name| next.doom(name));
        let segment = put_segment(
            shared,
            &encode(&kept).map_err(damaged)?,
            kept.results.len() as u64,
        )?;
        branch
            .segments
            .iter()
            .filter(|(digest, _)| *digest != segment.digest)
            .for_each(|(digest, _)| next.doom(object("segments", digest)));
        next.manifest.segments = vec![segment];
        Ok(())
    }
}

/// All that a head leads to.
fn parts_of(branch: &Branch) -> SegmentParts {
    let mut all = SegmentParts::default();
    for (_, segment) in &branch.segments {
        let SegmentParts {
            results,
            spots,
            shortcuts,
        } = segment.parts();
        for (key, result) in results {
            add(&mut all.results, key, result);
        }
        all.spots.extend(spots);
        all.shortcuts.extend(shortcuts);
    }
    all
}

/// The results of keys that were used, with the contents that they name.
fn used_of(all: SegmentParts, used: &BTreeSet<u64>) -> SegmentParts {
    let SegmentParts {
        mut results,
        mut spots,
        mut shortcuts,
    } = all;
    results.retain(|key, _| used.contains(&beginning(key)));
    let contents: HashSet<Digest> = results
        .values()
        .flat_map(|result| &result.entries)
        .flat_map(contents_of)
        .map(|(digest, _)| digest)
        .collect();
    spots.retain(|digest, _| contents.contains(digest));
    shortcuts.retain(|(new, _), _| contents.contains(new));
    SegmentParts {
        results,
        spots,
        shortcuts,
    }
}

/// The same contents, those of packs with few of them in new packs.
fn repacked(shared: &SharedStore, mut spots: Spots) -> Result<Spots, SharedTrouble> {
    let index = shared.index();
    let mut wanted: BTreeMap<Digest, u64> = BTreeMap::new();
    for spot in spots.values() {
        if let Some(pack) = spot.pack {
            *wanted.entry(pack).or_default() += spot.stored;
        }
    }
    let is_sparse = |pack: &Digest| {
        wanted
            .get(pack)
            .is_some_and(|bytes| *bytes < index.pack_size(pack) / SPARSE)
    };
    let moved: Vec<Digest> = spots
        .iter()
        .filter(|(_, spot)| spot.pack.as_ref().is_some_and(is_sparse))
        .map(|(digest, _)| *digest)
        .collect();
    let brought: Mutex<BTreeMap<Digest, Vec<u8>>> = Mutex::default();
    for some in moved.chunks(PACK / 1024) {
        shared.bring(some, (&NothingNear, None), &|digest, bytes| {
            drop(brought.lock().insert(*digest, bytes))
        });
        let mut pack = GrowingPack::default();
        let mut closed = Vec::new();
        for (digest, bytes) in std::mem::take(&mut *brought.lock()) {
            closed.extend(pack.add(
                digest,
                &squeezed(&bytes).map_err(damaged)?,
                bytes.len() as u64,
            ));
        }
        closed.extend(pack.close());
        // What cannot be had stays where it is.
        for ClosedPack {
            digest,
            bytes,
            contents,
        } in closed
        {
            shared.put(&object("packs", &digest), &bytes)?;
            spots.extend(contents);
        }
    }
    Ok(spots)
}

/// Removes objects to which nothing led for a while, and does not now.
fn remove_old(
    shared: &SharedStore,
    next: &mut Next,
    grace: Duration,
) -> Result<usize, SharedTrouble> {
    let index = shared.index();
    let mut led_to: HashSet<String> = HashSet::new();
    for branch in &index.branches {
        led_to.insert(object("manifests", &branch.head.manifest));
        led_to.extend(
            branch
                .manifest
                .uses
                .values()
                .map(|digest| object("uses", digest)),
        );
        for (digest, segment) in &branch.segments {
            led_to.insert(object("segments", digest));
            let parts = segment.parts();
            led_to.extend(parts.spots.iter().map(|(content, spot)| match &spot.pack {
                Some(pack) => object("packs", pack),
                None => object("contents", content),
            }));
            led_to.extend(
                parts
                    .shortcuts
                    .values()
                    .map(|(digest, _)| object("differences", digest)),
            );
        }
    }
    let until = shared.now().saturating_sub(grace.as_secs());
    let doomed = std::mem::take(&mut next.manifest.doomed);
    let (old, young): (Vec<DoomedObject>, Vec<DoomedObject>) =
        doomed.into_iter().partition(|doomed| doomed.since <= until);
    next.manifest.doomed = young;
    let mut removed = 0;
    for object in old {
        // Somebody else leads to it, or this head did until now.
        if led_to.contains(&object.name) {
            next.manifest.doomed.push(object);
            continue;
        }
        shared.remove(&object.name)?;
        removed += 1;
    }
    Ok(removed)
}

/// What has nothing from which differences could lead anywhere.
pub(crate) struct NothingNear;

impl crate::fetching::NearContents for NothingNear {
    fn has(&self, _: &Digest) -> bool {
        false
    }

    fn read(&self, _: &Digest) -> Option<Vec<u8>> {
        None
    }
}
