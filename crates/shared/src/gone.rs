//! Objects that heads lead to and that are not there any more: a rule of the storage removed them,
//! or a backup came back without them. Who has the results gives them once more.

use std::collections::{BTreeMap, HashSet};
use std::fs;

use nubrik_bytes::Digest;
use parking_lot::Mutex;

use crate::index::{Branch, object, object_with};
use crate::segment::{ContentSpot, KeyedResults};
use crate::shelf::{SharedStore, SharedTrouble};

/// How many objects with contents are looked at in a build, as long as none is gone.
const SAMPLE: usize = 64;

/// What one byte of an object says.
const A_BYTE: std::ops::Range<u64> = 0..1;

impl SharedStore {
    /// Where a content is, as heads lead to it. A place that was found empty is passed over if
    /// there is another one.
    pub(crate) fn headed_spot(&self, digest: &Digest) -> Option<ContentSpot> {
        let index = self.index();
        if self.absent.lock().is_empty() {
            return index.spot(digest);
        }
        let is_there =
            |spot: &ContentSpot| !self.absent.lock().contains(&object_with(digest, spot));
        index
            .spots(digest)
            .find(is_there)
            .or_else(|| index.spot(digest))
    }

    /// Looks whether what a writer needs there is still there: the parts of its own head, and
    /// contents of results. Parts that are gone are put again; contents that are gone are not there
    /// from now on, so that they are given once more.
    ///
    /// # Errors
    /// When a part cannot be put.
    pub(crate) fn look_for_gone(
        &self,
        own: Option<&Branch>,
        results: &KeyedResults,
    ) -> Result<(), SharedTrouble> {
        if let Some(own) = own {
            self.mend_parts(own)?;
        }
        let mut objects: BTreeMap<String, HashSet<Digest>> = BTreeMap::new();
        let contents = results
            .values()
            .flat_map(|result| &result.entries)
            .flat_map(crate::entries::contents_of);
        for (digest, _) in contents {
            if let Some(spot) = self.headed_spot(&digest).filter(|_| self.has(&digest)) {
                objects
                    .entry(object_with(&digest, &spot))
                    .or_default()
                    .insert(digest);
            }
        }
        let names: Vec<&String> = objects.keys().collect();
        let step = names.len().div_ceil(SAMPLE).max(1);
        let first = self.now() as usize % step;
        let sampled = |at: usize| at % step == first;
        let some: Vec<&String> = (0..names.len())
            .filter(|at| sampled(*at))
            .map(|at| names[at])
            .collect();
        let mut gone = self.gone_of(&some);
        if !gone.is_empty() {
            let rest: Vec<&String> = (0..names.len())
                .filter(|at| !sampled(*at))
                .map(|at| names[at])
                .collect();
            gone.extend(self.gone_of(&rest));
        }
        if !gone.is_empty() {
            let mut missing = self.missing().lock().clone();
            missing.extend(gone.iter().flat_map(|name| &objects[name]));
            self.note_all_missing(&missing);
        }
        Ok(())
    }

    /// Puts the manifest and the segments of a head again that are not there and are kept here.
    fn mend_parts(&self, own: &Branch) -> Result<(), SharedTrouble> {
        let manifest = ("manifests", own.head.manifest);
        let segments = own
            .manifest
            .segments
            .iter()
            .map(|row| ("segments", row.digest));
        let parts: BTreeMap<String, (&str, Digest)> = std::iter::once(manifest)
            .chain(segments)
            .map(|(kind, digest)| (object(kind, &digest), (kind, digest)))
            .collect();
        for name in self.gone_of(&parts.keys().collect::<Vec<_>>()) {
            let (kind, digest) = parts[&name];
            let kept = fs::read(self.kept_at(kind, &digest));
            if let Some(bytes) = kept.ok().filter(|bytes| Digest::of(bytes) == digest) {
                self.put(&name, &bytes)?;
            }
        }
        Ok(())
    }

    /// Which of some objects are not there. One that cannot be asked for counts as there.
    fn gone_of(&self, names: &[&String]) -> Vec<String> {
        let gone: Mutex<Vec<String>> = Mutex::default();
        self.wire.each(names, |name| {
            if self.asked(name, Some(A_BYTE), A_BYTE.end, None) == Some(None) {
                gone.lock().push((*name).clone());
            }
        });
        let mut gone = gone.lock();
        std::mem::take(&mut gone)
    }
}
