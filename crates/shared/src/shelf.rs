//! A store as this machine sees it: what was asked once is kept, what fails is said once, and
//! nothing that is older than what was seen before is believed.

use std::collections::{BTreeMap, HashSet};
use std::fmt;
use std::fs;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Instant, SystemTime, UNIX_EPOCH};

use nubrik_bytes::Digest;
use nubrik_web::{Objects, Trouble};
use parking_lot::Mutex;

use crate::heads::KeyList;
use crate::index::{Branch, HANDED, SharedIndex, kind_folder, object};
use crate::keys::PublicKey;
use crate::mirror::{Mirror, MirrorTraffic};
use crate::own_files::write_own;
use crate::rest::{Rest, RestNotes, StoreUse};
use crate::segment::{ContentSpot, KeyedResult};
use crate::wire::{KnownPacks, Wire};

/// After so many failures a store is not asked any more.
const FAILURES: u32 = 3;

/// A store that a person agreed to use.
#[derive(Clone, Debug)]
pub struct Acceptance {
    /// The key that signs who belongs to it.
    pub root: PublicKey,
    /// The channels whose results are wanted, the most wanted first.
    pub channels: Vec<String>,
    /// Where what was fetched is kept; it may be thrown away at any time.
    pub cache: PathBuf,
    /// The file that says what was seen last, so that nothing older is believed.
    pub seen: PathBuf,
}

/// Why a store is of no use, or of less.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum SharedTrouble {
    /// It could not be asked.
    Unreachable(Trouble),
    /// It hung a while ago, and is left alone.
    Resting(Rest),
    /// It has no list of members, or none that the root key signed and that counts now: what is
    /// wrong with it.
    NoMembers(String),
    /// It gives something else than it should: the object.
    Lies(String),
    /// It gives something that is older than what was seen of it here, as if it was put back from a
    /// copy: the object.
    Older(String),
    /// Something could not be written on this machine, or read.
    Machine(String),
    /// This machine's key may not write there.
    NoWriter(String),
}

impl fmt::Display for SharedTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SharedTrouble::Unreachable(trouble) => write!(f, "{trouble}"),
            SharedTrouble::Resting(rest) => write!(f, "{rest}"),
            SharedTrouble::NoMembers(why) => write!(f, "its list of members {why}"),
            SharedTrouble::Lies(object) => write!(f, "what it gives as {object} is not that"),
            SharedTrouble::Older(object) => {
                write!(
                    f,
                    "its {object} is older than the one that was seen here: was the shared cache restored from a backup?"
                )
            }
            SharedTrouble::Machine(problem) => f.write_str(problem),
            SharedTrouble::NoWriter(key) => {
                write!(
                    f,
                    "the key {key} may not write there: `nubrik shared add` lets it"
                )
            }
        }
    }
}

impl std::error::Error for SharedTrouble {}

/// A result as someone gave it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GivenResult {
    /// Who gave it.
    pub writer: String,
    /// To which channel.
    pub channel: String,
    /// When the channel was last written, in seconds since 1970.
    pub time: u64,
    /// Its key.
    pub key: Digest,
    /// The results, and what they were made of.
    pub result: KeyedResult,
}

/// What was moved.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Traffic {
    /// How many requests there were.
    pub requests: u64,
    /// How many bytes came, from the store and from its mirror.
    pub moved: u64,
    /// What of that was with its mirror.
    pub mirror: MirrorTraffic,
    /// How many bytes went.
    pub sent: u64,
    /// How many bytes the contents have that came.
    pub raw: u64,
    /// How many of them came as differences to what was here.
    pub differences: u64,
}

#[derive(Default)]
pub(crate) struct Counters {
    requests: AtomicU64,
    moved: AtomicU64,
    sent: AtomicU64,
    pub raw: AtomicU64,
    pub differences: AtomicU64,
}

/// Where contents are that jobs name, and whether they are among those to which no head leads.
pub(crate) type HandedSpots = BTreeMap<Digest, (ContentSpot, bool)>;

/// A store that is asked at most once for anything.
pub struct SharedStore {
    objects: Objects,
    /// A copy of it that is nearer.
    mirror: Option<Mirror>,
    accepted: Acceptance,
    /// The time, where it is not that of the machine.
    pretended: Option<u64>,
    index: OnceLock<Arc<SharedIndex>>,
    failures: AtomicU32,
    /// Whether it answered anything so far.
    has_answered: AtomicBool,
    rests: RestNotes,
    /// Why nothing is given to it.
    closed: Mutex<Option<Rest>>,
    is_off: AtomicBool,
    trouble: Mutex<Option<SharedTrouble>>,
    /// The first object of it that is older than what was seen.
    older: OnceLock<String>,
    pub(crate) packs: KnownPacks,
    /// Objects named by their digests that were not there.
    pub(crate) absent: Mutex<HashSet<String>>,
    /// Contents that are named and were not there.
    pub(crate) missing: OnceLock<Mutex<HashSet<Digest>>>,
    /// Where contents are that are behind no head.
    pub(crate) handed: OnceLock<Mutex<HandedSpots>>,
    /// Contents that went with a job or an answer.
    pub(crate) carried: Mutex<HashSet<Digest>>,
    pub(crate) counters: Counters,
    pub(crate) wire: Wire,
}

/// What became of something that was asked for by its digest.
pub(crate) enum NamedObject<T> {
    /// It was had: what was made of it, and its bytes.
    Right(T, Vec<u8>),
    /// It was had, and is something else.
    Wrong,
    /// It could not be had.
    Absent,
}

/// Whether an object goes from one machine to another for a job: no mirror has it.
pub(crate) fn is_handed(name: &str) -> bool {
    name.starts_with(&kind_folder(HANDED))
}

/// Seconds since 1970.
fn clock() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |d| d.as_secs())
}

impl SharedStore {
    /// A store; nothing is asked yet. One that hung a while ago on this machine is left alone.
    pub fn new(objects: Objects, accepted: Acceptance) -> SharedStore {
        let rests = RestNotes::new(&accepted.cache, objects.base().to_string());
        let now = clock();
        let off = rests.read(StoreUse::Take, now);
        SharedStore {
            objects,
            mirror: None,
            pretended: None,
            index: OnceLock::new(),
            failures: AtomicU32::new(0),
            has_answered: AtomicBool::new(false),
            closed: Mutex::new(rests.read(StoreUse::Give, now)),
            is_off: AtomicBool::new(off.is_some()),
            trouble: Mutex::new(off.map(SharedTrouble::Resting)),
            older: OnceLock::new(),
            rests,
            accepted,
            packs: KnownPacks::default(),
            absent: Mutex::default(),
            missing: OnceLock::new(),
            handed: OnceLock::new(),
            carried: Mutex::default(),
            counters: Counters::default(),
            wire: Wire::new(),
        }
    }

    /// The same with a mirror: what is named by its digest is asked there first, and copied there.
    #[must_use]
    pub fn with_mirror(self, objects: Objects) -> SharedStore {
        let mirror = Mirror::new(objects, &self.accepted.cache, self.now());
        SharedStore {
            mirror: Some(mirror),
            ..self
        }
    }

    /// The same, but asked also where it hung a while ago.
    #[must_use]
    pub fn asked_anew(self) -> SharedStore {
        self.rests.forget();
        let now = self.now();
        let mirror = self
            .mirror
            .and_then(|mirror| mirror.asked_anew(&self.accepted.cache, now));
        SharedStore {
            mirror,
            ..SharedStore::new(self.objects, self.accepted)
        }
    }

    /// The same without its mirror: nothing but the store itself is asked.
    #[must_use]
    pub fn without_mirror(self) -> SharedStore {
        SharedStore {
            mirror: None,
            ..self
        }
    }

    /// The same at another time, in seconds since 1970.
    #[must_use]
    pub fn at_time(self, now: u64) -> SharedStore {
        SharedStore {
            pretended: Some(now),
            ..self
        }
    }

    /// Seconds since 1970.
    pub(crate) fn now(&self) -> u64 {
        self.pretended.unwrap_or_else(clock)
    }

    /// The day since 1970.
    pub(crate) fn today(&self) -> u64 {
        self.now() / 86_400
    }

    /// Where it is.
    pub fn place(&self) -> String {
        self.objects.base().to_string()
    }

    /// Where its mirror is, if it has one, and what went wrong with that first.
    pub fn mirror_place(&self) -> Option<(String, Option<String>)> {
        self.mirror
            .as_ref()
            .map(|mirror| (mirror.place(), mirror.trouble()))
    }

    /// Lets what came from the store be copied to its mirror, until a time at most.
    pub fn finish_copies(&self, until: Instant) {
        if let Some(mirror) = &self.mirror {
            mirror.finish(until);
        }
    }

    /// What a person agreed to.
    pub fn accepted(&self) -> &Acceptance {
        &self.accepted
    }

    /// What was wrong with it, if something was: the first thing.
    pub fn trouble(&self) -> Option<SharedTrouble> {
        self.hidden()
            .or_else(|| self.older.get().cloned().map(SharedTrouble::Older))
    }

    /// What was wrong with it so that something that is there could not be read: who writes then
    /// would leave that out. What is older than what was seen is read whole.
    pub(crate) fn hidden(&self) -> Option<SharedTrouble> {
        self.trouble.lock().clone()
    }

    /// Takes note of something that is older than what was seen of it. It is not believed, and no
    /// reason to give nothing: what is written from now on counts on from what was seen.
    pub(crate) fn note_older(&self, object: &str) {
        let _ = self.older.set(object.to_owned());
    }

    /// Whether it is not asked any more.
    pub fn is_off(&self) -> bool {
        self.is_off.load(Ordering::Relaxed)
    }

    /// Asks it for nothing more.
    pub(crate) fn switch_off(&self) {
        self.is_off.store(true, Ordering::Relaxed);
    }

    /// Whether it cannot be asked, by what was seen.
    pub(crate) fn is_unreachable(&self) -> bool {
        self.is_off()
            && matches!(
                self.trouble(),
                Some(
                    SharedTrouble::Unreachable(_)
                        | SharedTrouble::Resting(_)
                        | SharedTrouble::NoMembers(_)
                )
            )
    }

    /// What was moved so far.
    pub fn traffic(&self) -> Traffic {
        let Counters {
            requests,
            moved,
            sent,
            raw,
            differences,
        } = &self.counters;
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let mirror = self
            .mirror
            .as_ref()
            .map(Mirror::traffic)
            .unwrap_or_default();
        Traffic {
            requests: read(requests) + mirror.requests,
            moved: read(moved) + mirror.moved,
            mirror,
            sent: read(sent),
            raw: read(raw),
            differences: read(differences),
        }
    }

    /// How many keys are known, and who signed what: each member's name, channel, and when.
    pub fn known(&self) -> (usize, Vec<(String, String, u64)>) {
        let index = self.index();
        let name = |key: &PublicKey| {
            index
                .members
                .writer(key)
                .map_or_else(String::new, |member| member.name.clone())
        };
        let heads = index
            .branches
            .iter()
            .map(|b| (name(&b.writer), b.head.channel.clone(), b.head.time));
        (index.keys(), heads.collect())
    }

    /// The same, but nobody is asked: only what was fetched before is known.
    #[must_use]
    pub fn only_what_is_kept(self) -> SharedStore {
        self.switch_off();
        self.without_mirror()
    }

    /// What others gave of a step, by its folder, the newest first: by whom, to which channel, when
    /// (in seconds since 1970), the key, and the results.
    pub fn given_of(&self, folder: &str) -> Vec<GivenResult> {
        let index = self.index();
        let told = |(branch, key, result): (&Branch, Digest, KeyedResult)| GivenResult {
            writer: index
                .members
                .writer(&branch.writer)
                .map_or_else(String::new, |member| member.name.clone()),
            channel: branch.head.channel.clone(),
            time: branch.head.time,
            key,
            result,
        };
        index.of_folder(folder).into_iter().map(told).collect()
    }

    /// The list of members that counts, if there is one.
    pub fn members(&self) -> KeyList {
        self.index().members.clone()
    }

    pub(crate) fn fail(&self, trouble: SharedTrouble) {
        let failures = self.failures.fetch_add(1, Ordering::Relaxed) + 1;
        let hangs = matches!(trouble, SharedTrouble::Unreachable(Trouble::Hangs(_)));
        // Who never answered is waited for once.
        let is_dead = hangs && !self.has_answered.load(Ordering::Relaxed);
        if failures >= FAILURES || is_dead || matches!(trouble, SharedTrouble::NoMembers(_)) {
            self.switch_off();
            if hangs {
                self.rests
                    .note(StoreUse::Take, self.now(), &trouble.to_string());
            }
        }
        self.trouble.lock().get_or_insert(trouble);
    }

    pub(crate) fn put(&self, name: &str, bytes: &[u8]) -> Result<(), SharedTrouble> {
        if let Some(rest) = self.closed.lock().clone() {
            return Err(SharedTrouble::Resting(rest));
        }
        self.counters.requests.fetch_add(1, Ordering::Relaxed);
        self.wire
            .on(|| self.objects.put(name, bytes))
            .map_err(|trouble| self.not_put(trouble))?;
        self.counters
            .sent
            .fetch_add(bytes.len() as u64, Ordering::Relaxed);
        self.absent.lock().remove(name);
        self.copy_to_mirror(name, bytes);
        Ok(())
    }

    /// What it means that something could not be put: who hangs is not waited for by those who put
    /// next.
    fn not_put(&self, trouble: Trouble) -> SharedTrouble {
        if matches!(trouble, Trouble::Hangs(_)) {
            self.rests
                .note(StoreUse::Give, self.now(), &trouble.to_string());
            *self.closed.lock() = self.rests.read(StoreUse::Give, self.now());
        }
        SharedTrouble::Unreachable(trouble)
    }

    /// Waits until nobody else changes an object of a folder; nothing where the store is no folder.
    pub(crate) fn turn_of(
        &self,
        name: &str,
    ) -> Result<Option<Box<dyn nubrik_web::ObjectTurn>>, SharedTrouble> {
        self.wire
            .on(|| self.objects.turn_of(name))
            .map_err(SharedTrouble::Unreachable)
    }

    pub(crate) fn remove(&self, name: &str) -> Result<(), SharedTrouble> {
        self.counters.requests.fetch_add(1, Ordering::Relaxed);
        self.wire
            .on(|| self.objects.remove(name))
            .map_err(SharedTrouble::Unreachable)
    }

    /// Removes objects of a kind that are older than a time, where they lie in a folder. Gives how
    /// many.
    pub(crate) fn remove_older(&self, kind: &str, than: u64) -> Result<usize, SharedTrouble> {
        let name = kind_folder(kind);
        self.wire
            .on(|| self.objects.remove_older(&name, than))
            .map_err(SharedTrouble::Unreachable)
    }

    /// An object; nothing where it is not there or cannot be had.
    pub(crate) fn get(&self, name: &str, part: Option<Range<u64>>, limit: u64) -> Option<Vec<u8>> {
        self.get_until(name, part, limit, None)
    }

    /// The same, if it does not take until a time.
    pub(crate) fn get_until(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Option<Vec<u8>> {
        self.asked(name, part, limit, until).flatten()
    }

    /// An object that is named by its digest, with what `check` makes of it where it is right: of
    /// the mirror if that has it, else of the store, and then the mirror gets a copy.
    pub(crate) fn named<T: Send>(
        &self,
        name: &str,
        limit: u64,
        until: Option<Instant>,
        check: impl Fn(&[u8]) -> Option<T> + Sync,
    ) -> NamedObject<T> {
        match self.of_mirror(name, None, limit, until, &check) {
            Some((made, bytes)) => NamedObject::Right(made, bytes),
            None => self.of_store(name, None, limit, until, &check),
        }
    }

    /// The same, or a part of it, of the store alone. One that heads lead to and that was not there
    /// is not asked for again.
    pub(crate) fn of_store<T>(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
        until: Option<Instant>,
        check: &impl Fn(&[u8]) -> Option<T>,
    ) -> NamedObject<T> {
        if self.absent.lock().contains(name) {
            return NamedObject::Absent;
        }
        let is_whole = part.is_none();
        let asked = self.asked(name, part, limit, until);
        // What goes with jobs comes and goes.
        if asked == Some(None) && !is_handed(name) {
            self.absent.lock().insert(name.to_owned());
        }
        let Some(bytes) = asked.flatten() else {
            return NamedObject::Absent;
        };
        let Some(made) = check(&bytes) else {
            return NamedObject::Wrong;
        };
        if is_whole {
            self.copy_to_mirror(name, &bytes);
        }
        NamedObject::Right(made, bytes)
    }

    /// The same of the mirror alone.
    pub(crate) fn of_mirror<T: Send>(
        &self,
        name: &str,
        part: Option<&Range<u64>>,
        limit: u64,
        until: Option<Instant>,
        check: &(impl Fn(&[u8]) -> Option<T> + Sync),
    ) -> Option<(T, Vec<u8>)> {
        let mirror = self.mirror.as_ref().filter(|_| !is_handed(name))?;
        let now = self.now();
        self.wire
            .on(|| mirror.get((name, part, limit), (until, now), check))
    }

    /// Whether the mirror takes copies of what comes from the store.
    pub(crate) fn fills_mirror(&self) -> bool {
        self.mirror.as_ref().is_some_and(Mirror::takes_copies)
    }

    /// Lets the mirror have an object, too.
    pub(crate) fn copy_to_mirror(&self, name: &str, bytes: &[u8]) {
        if let Some(mirror) = self.mirror.as_ref().filter(|_| !is_handed(name)) {
            mirror.copy(name, bytes, self.now());
        }
    }

    /// What a store has under a name, which may be nothing; `None` where it cannot be asked.
    pub(crate) fn asked(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Option<Option<Vec<u8>>> {
        if self.is_off() {
            return None;
        }
        self.counters.requests.fetch_add(1, Ordering::Relaxed);
        match self
            .wire
            .on(|| self.objects.get_until(name, part, limit, until))
        {
            Ok(bytes) => {
                self.has_answered.store(true, Ordering::Relaxed);
                let count = bytes.as_ref().map_or(0, |bytes| bytes.len() as u64);
                self.counters.moved.fetch_add(count, Ordering::Relaxed);
                Some(bytes)
            }
            Err(trouble) => {
                self.fail(SharedTrouble::Unreachable(trouble));
                None
            }
        }
    }

    /// Puts an object that is named by its digest, and keeps it on this machine.
    pub(crate) fn put_kept(
        &self,
        kind: &str,
        digest: &Digest,
        bytes: &[u8],
    ) -> Result<(), SharedTrouble> {
        self.put(&object(kind, digest), bytes)?;
        // What cannot be kept is fetched when it is needed.
        let _ = write_own(&self.kept_at(kind, digest), bytes);
        Ok(())
    }

    /// The file in which an object is kept on this machine.
    pub(crate) fn kept_at(&self, kind: &str, digest: &Digest) -> PathBuf {
        self.accepted.cache.join(kind).join(digest.hex())
    }

    /// An object that is named by its digest, and kept on this machine.
    pub(crate) fn immutable(&self, kind: &str, digest: &Digest, limit: u64) -> Option<Vec<u8>> {
        let kept = self.kept_at(kind, digest);
        let is_right = |bytes: &Vec<u8>| Digest::of(bytes) == *digest;
        if let Some(bytes) = fs::read(&kept).ok().filter(is_right) {
            return Some(bytes);
        }
        let name = object(kind, digest);
        let bytes = match self.named(&name, limit, None, |bytes| {
            (Digest::of(bytes) == *digest).then_some(())
        }) {
            NamedObject::Right((), bytes) => bytes,
            NamedObject::Absent => return None,
            NamedObject::Wrong => {
                self.fail(SharedTrouble::Lies(name));
                return None;
            }
        };
        // What cannot be kept is fetched again another time.
        let _ = write_own(&kept, &bytes);
        Some(bytes)
    }

    /// All that is known of the store; asked once.
    pub(crate) fn index(&self) -> Arc<SharedIndex> {
        self.index.get_or_init(|| Arc::new(self.load())).clone()
    }
}
