//! What is known of a store: the list of members, their heads, and what these lead to. Nothing that
//! is older than what was seen before is believed.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use nubrik_bytes::{Digest, Layout};

use crate::heads::{ChannelHead, KeyList, SIGNED_LIMIT};
use crate::index::{Branch, MANIFEST_LIMIT, MANIFEST_VERSION, SegmentList, SharedIndex, object};
use crate::keys::PublicKey;
use crate::own_files::write_own;
use crate::segment::{RecordSegment, SEGMENT_LIMIT};
use crate::shelf::{SharedStore, SharedTrouble};

/// What was fetched longer ago than this, and is not wanted now, is removed.
const FORGOTTEN: Duration = Duration::from_secs(30 * 24 * 3600);

/// What was seen of a store before: sequences by what they are of.
type SeenBefore = BTreeMap<String, u64>;

impl SharedStore {
    /// Something signed: as the store has it, or as it was kept here where that is newer or the
    /// store gives none.
    fn signed<T: Send>(
        &self,
        object: &str,
        seen: &SeenBefore,
        open: impl Fn(&[u8]) -> Option<T> + Sync,
        sequence: impl Fn(&T) -> u64,
    ) -> Option<T> {
        let kept_at = self
            .accepted()
            .cache
            .join("signed")
            .join(object.replace('/', "_"));
        let last = seen.get(object).copied().unwrap_or(0);
        let is_new = |value: &T| sequence(value) >= last;
        let fetched = self.get(object, None, SIGNED_LIMIT);
        let kept = fs::read(&kept_at).ok();
        match fetched.as_ref().map(|bytes| open(bytes)) {
            Some(Some(value)) if is_new(&value) => {
                if fetched != kept {
                    let fetched = fetched.unwrap_or_default();
                    self.copy_to_mirror(object, &fetched);
                    let _ = write_own(&kept_at, &fetched);
                }
                return Some(value);
            }
            Some(Some(_)) => self.note_older(object),
            // Damaged, or signed by someone else.
            Some(None) => self.fail(SharedTrouble::Lies(object.to_owned())),
            None => {}
        }
        let kept = kept.and_then(|bytes| open(&bytes)).filter(is_new);
        // What somebody near saw may be newer than what was seen here.
        let of_mirror = match fetched.is_none() {
            true => self.of_mirror(object, None, SIGNED_LIMIT, None, &|bytes: &[u8]| {
                open(bytes)
            }),
            false => None,
        };
        match (kept, of_mirror.map(|(value, _)| value).filter(is_new)) {
            (Some(kept), Some(near)) => Some(if sequence(&near) > sequence(&kept) {
                near
            } else {
                kept
            }),
            (kept, near) => kept.or(near),
        }
    }

    pub(crate) fn load(&self) -> SharedIndex {
        let seen = self.seen_before();
        match self.hidden() {
            None => {}
            // Its mirror may know what it had.
            Some(SharedTrouble::Resting(_)) if self.mirror_place().is_some() => {}
            Some(_) => return SharedIndex::default(),
        }
        let root = self.accepted().root;
        let list = self.signed(
            &KeyList::object(),
            &seen,
            |bytes| KeyList::open(bytes, &root),
            |list| list.sequence,
        );
        let Some(members) = list else {
            self.fail(SharedTrouble::NoMembers(
                "is not there, or not signed by the root key that was accepted".to_owned(),
            ));
            return SharedIndex::default();
        };
        if members.expires <= self.now() {
            self.fail(SharedTrouble::NoMembers("has expired".to_owned()));
            return SharedIndex::default();
        }
        let (branches, seen) = self.branches(&members, seen);
        self.remember(&seen);
        let index = SharedIndex {
            members,
            branches,
            packs: OnceLock::new(),
        };
        self.forget_old(&index);
        index
    }

    /// What members wrote last of the channels that are wanted, and what was seen then. All heads
    /// are asked for at once.
    fn branches(&self, members: &KeyList, mut seen: SeenBefore) -> (Vec<Arc<Branch>>, SeenBefore) {
        let channels = self.accepted().channels.iter();
        let writers = channels.flat_map(|channel| {
            members
                .writers_of(channel)
                .map(move |member| (&channel[..], member.key))
        });
        let heads: Vec<(&str, PublicKey, OnceLock<_>)> = writers
            .map(|(channel, key)| (channel, key, OnceLock::new()))
            .collect();
        self.wire.each(&heads, |(channel, key, fetched)| {
            let open = |bytes: &[u8]| ChannelHead::open(bytes, channel, key);
            let _ = fetched.set(self.signed(
                &ChannelHead::object(channel, key),
                &seen,
                open,
                |head| head.sequence,
            ));
        });
        seen.insert(KeyList::object(), members.sequence);
        let mut branches = Vec::new();
        for (channel, key, fetched) in heads {
            let Some(head) = fetched.into_inner().flatten() else {
                continue;
            };
            seen.insert(ChannelHead::object(channel, &key), head.sequence);
            branches.extend(self.branch(key, head).map(Arc::new));
        }
        (branches, seen)
    }

    /// Removes what was fetched long ago and is behind no head any more.
    fn forget_old(&self, index: &SharedIndex) {
        let segments = index
            .branches
            .iter()
            .flat_map(|branch| &branch.segments)
            .map(|(digest, _)| digest.hex());
        let manifests = index
            .branches
            .iter()
            .map(|branch| branch.head.manifest.hex());
        let wanted: HashSet<String> = segments.chain(manifests).collect();
        for kind in ["segments", "manifests"] {
            for entry in fs::read_dir(self.accepted().cache.join(kind))
                .into_iter()
                .flatten()
                .flatten()
            {
                let changed = entry.metadata().and_then(|data| data.modified());
                let is_old =
                    changed.is_ok_and(|time| time.elapsed().is_ok_and(|age| age > FORGOTTEN));
                if is_old && !wanted.contains(&*entry.file_name().to_string_lossy()) {
                    let _ = fs::remove_file(entry.path());
                }
            }
        }
    }

    pub(crate) fn branch(&self, writer: PublicKey, head: ChannelHead) -> Option<Branch> {
        // Who writes must not leave out what cannot be read: it is reported.
        let told =
            |kind: &str, digest: &Digest| self.fail(SharedTrouble::Lies(object(kind, digest)));
        let bytes = self.immutable("manifests", &head.manifest, MANIFEST_LIMIT);
        let Some(manifest) =
            bytes.and_then(|bytes| SegmentList::of_version(&bytes, MANIFEST_VERSION).ok())
        else {
            told("manifests", &head.manifest);
            return None;
        };
        let segment = |digest: Digest| {
            let bytes = self.immutable("segments", &digest, SEGMENT_LIMIT);
            let read = bytes.and_then(|bytes| RecordSegment::decode(&bytes).ok());
            if read.is_none() {
                told("segments", &digest);
            }
            Some((digest, Arc::new(read?)))
        };
        let fetched: Vec<OnceLock<_>> = manifest.segments.iter().map(|_| OnceLock::new()).collect();
        self.wire.each(
            &manifest.segments.iter().zip(&fetched).collect::<Vec<_>>(),
            |(named, fetched)| {
                let _ = fetched.set(segment(named.digest));
            },
        );
        let segments = fetched
            .into_iter()
            .filter_map(|fetched| fetched.into_inner().flatten())
            .collect();
        Some(Branch {
            writer,
            head,
            manifest,
            segments,
        })
    }

    fn seen_before(&self) -> SeenBefore {
        let text = match fs::read_to_string(&self.accepted().seen) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(e) => {
                // Who does not know what was seen would believe something older.
                self.switch_off();
                let problem = format!(
                    "cannot read what was seen of it in {}: {e}",
                    self.accepted().seen.display()
                );
                self.fail(SharedTrouble::Machine(problem));
                return SeenBefore::new();
            }
        };
        let row = |line: &str| {
            let (sequence, object) = line.split_once(' ')?;
            Some((object.to_owned(), sequence.parse().ok()?))
        };
        text.lines().filter_map(row).collect()
    }

    /// Takes note of what this machine wrote: it believes nothing older from then on.
    pub(crate) fn note_written(&self, object: String, sequence: u64) {
        let mut seen = self.seen_before();
        let known = seen.entry(object).or_default();
        *known = sequence.max(*known);
        self.remember(&seen);
    }

    /// The last sequence that was seen of an object; 0 for none.
    pub(crate) fn last_seen(&self, object: &str) -> u64 {
        self.seen_before().get(object).copied().unwrap_or(0)
    }

    fn remember(&self, seen: &SeenBefore) {
        if *seen == self.seen_before() {
            return;
        }
        let text: String = seen
            .iter()
            .map(|(object, sequence)| format!("{sequence} {object}\n"))
            .collect();
        if let Err(e) = write_own(&self.accepted().seen, text.as_bytes()) {
            let problem = format!(
                "cannot remember what was seen of it in {}: {e}",
                self.accepted().seen.display()
            );
            self.fail(SharedTrouble::Machine(problem));
        }
    }
}
