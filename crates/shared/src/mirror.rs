//! A mirror: a copy near this machine of some of a store far away. What is named by its digest is
//! asked of the mirror first, and put there when it came from the store. Lists of members and heads
//! come from the store, and from the mirror only where the store cannot be asked. Nothing of a
//! mirror is believed more than of a store: signatures and digests are checked.

use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::time::Instant;

use nubrik_web::{Objects, Trouble};
use parking_lot::{Condvar, Mutex};
use rayon_core::{ThreadPool, ThreadPoolBuilder};

use crate::heads::is_signed;
use crate::rest::{RestNotes, StoreUse};

/// After so many failures a mirror is not asked any more in this build.
const FAILURES: u32 = 3;

/// So many objects are put at once.
const AT_ONCE: usize = 2;

/// So many bytes wait at most to be put: what comes then is not copied, and is copied when somebody
/// asks for it again.
const WAITING: u64 = 256 << 20;

/// What went to a mirror and came from it.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct MirrorTraffic {
    /// How many requests there were.
    pub requests: u64,
    /// How many bytes came that nothing is wrong with.
    pub moved: u64,
    /// How many bytes were copied there, without lists of members and heads.
    pub copied: u64,
}

#[derive(Default)]
struct MirrorCounters {
    requests: AtomicU64,
    moved: AtomicU64,
    copied: AtomicU64,
}

/// What may go wrong with a mirror, and was seen.
struct MirrorState {
    objects: Objects,
    counters: MirrorCounters,
    failures: AtomicU32,
    /// Whether it is not asked any more.
    is_off: AtomicBool,
    /// Whether nothing is copied to it any more.
    is_closed: AtomicBool,
    trouble: Mutex<Option<String>>,
    rests: RestNotes,
    /// How many bytes are being put.
    waiting: Mutex<u64>,
    is_done: Condvar,
}

/// A copy of a store that is nearer than the store.
pub(crate) struct Mirror {
    state: Arc<MirrorState>,
    /// They have the network, as the threads that ask the store.
    threads: Option<ThreadPool>,
}

impl MirrorState {
    /// Takes note of what went wrong: the first is for people. Who hangs is not asked any more, by
    /// other builds either for some minutes.
    fn fail(&self, trouble: &Trouble, now: u64) {
        let hangs = matches!(trouble, Trouble::Hangs(_));
        if self.failures.fetch_add(1, Ordering::Relaxed) + 1 >= FAILURES || hangs {
            self.is_off.store(true, Ordering::Relaxed);
            if hangs {
                self.rests.note(StoreUse::Take, now, &trouble.to_string());
            }
        }
        self.say(trouble.to_string());
    }

    fn say(&self, why: String) {
        self.trouble.lock().get_or_insert(why);
    }

    fn put(&self, name: &str, bytes: &[u8], now: u64) {
        match self.objects.put(name, bytes) {
            Ok(()) if is_signed(name) => {}
            Ok(()) => drop(
                self.counters
                    .copied
                    .fetch_add(bytes.len() as u64, Ordering::Relaxed),
            ),
            Err(trouble) => {
                self.is_closed.store(true, Ordering::Relaxed);
                match &trouble {
                    // Not everybody may write there, and it is of use all the same.
                    Trouble::Refused(_) | Trouble::Denied(_) => {}
                    Trouble::Hangs(_) => self.fail(&trouble, now),
                    // It may be full, and still give what it has.
                    _ => self.say(format!("nothing is copied there: {trouble}")),
                }
            }
        }
    }
}

impl Mirror {
    /// A mirror; nothing is asked yet. `cache` is the folder for what is kept of the store.
    pub fn new(objects: Objects, cache: &Path, now: u64) -> Mirror {
        let rests = RestNotes::new(&cache.join("mirror"), objects.base().to_string());
        let rest = rests.read(StoreUse::Take, now);
        let state = MirrorState {
            objects,
            counters: MirrorCounters::default(),
            failures: AtomicU32::new(0),
            is_off: AtomicBool::new(rest.is_some()),
            is_closed: AtomicBool::new(false),
            trouble: Mutex::new(rest.map(|rest| rest.to_string())),
            rests,
            waiting: Mutex::new(0),
            is_done: Condvar::new(),
        };
        Mirror {
            state: Arc::new(state),
            threads: ThreadPoolBuilder::new().num_threads(AT_ONCE).build().ok(),
        }
    }

    /// The same, but asked also where it hung a while ago.
    pub fn asked_anew(self, cache: &Path, now: u64) -> Option<Mirror> {
        self.finish(Instant::now());
        let Mirror { state, threads } = self;
        drop(threads);
        state.rests.forget();
        let state = Arc::into_inner(state)?;
        Some(Mirror::new(state.objects, cache, now))
    }

    /// Where it is.
    pub fn place(&self) -> String {
        self.state.objects.base().to_string()
    }

    /// What went wrong first, for people.
    pub fn trouble(&self) -> Option<String> {
        self.state.trouble.lock().clone()
    }

    /// What was moved so far.
    pub fn traffic(&self) -> MirrorTraffic {
        let MirrorCounters {
            requests,
            moved,
            copied,
        } = &self.state.counters;
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        MirrorTraffic {
            requests: read(requests),
            moved: read(moved),
            copied: read(copied),
        }
    }

    /// Whether what comes from the store is copied to it.
    pub fn takes_copies(&self) -> bool {
        let MirrorState {
            is_off, is_closed, ..
        } = &*self.state;
        !is_off.load(Ordering::Relaxed) && !is_closed.load(Ordering::Relaxed)
    }

    /// An object of it, or a part of one, with what `check` makes of it, where it has it and it is
    /// right. Who calls has the network.
    pub fn get<T>(
        &self,
        (name, part, limit): (&str, Option<&Range<u64>>, u64),
        (until, now): (Option<Instant>, u64),
        check: impl FnOnce(&[u8]) -> Option<T>,
    ) -> Option<(T, Vec<u8>)> {
        let state = &self.state;
        if state.is_off.load(Ordering::Relaxed) {
            return None;
        }
        state.counters.requests.fetch_add(1, Ordering::Relaxed);
        match state.objects.get_until(name, part.cloned(), limit, until) {
            Ok(Some(bytes)) => {
                let Some(made) = check(&bytes) else {
                    state.say(format!("what it gives as {name} is not that"));
                    return None;
                };
                state
                    .counters
                    .moved
                    .fetch_add(bytes.len() as u64, Ordering::Relaxed);
                Some((made, bytes))
            }
            Ok(None) | Err(Trouble::Late) => None,
            Err(trouble) => {
                state.fail(&trouble, now);
                None
            }
        }
    }

    /// Copies an object there, while others are asked for.
    pub fn copy(&self, name: &str, bytes: &[u8], now: u64) {
        let size = bytes.len() as u64;
        let Some(threads) = self.threads.as_ref().filter(|_| self.takes_copies()) else {
            return;
        };
        {
            let mut waiting = self.state.waiting.lock();
            // One that is larger goes alone.
            if *waiting > 0 && *waiting + size > WAITING {
                return;
            }
            *waiting += size;
        }
        let (state, name, bytes) = (self.state.clone(), name.to_owned(), bytes.to_vec());
        threads.spawn(move || {
            if !state.is_closed.load(Ordering::Relaxed) {
                state.put(&name, &bytes, now);
            }
            *state.waiting.lock() -= size;
            state.is_done.notify_all();
        });
    }

    /// Waits until all is copied, until a time at most: the rest is copied by whoever asks for it
    /// next.
    pub fn finish(&self, until: Instant) {
        let mut waiting = self.state.waiting.lock();
        while *waiting > 0 {
            if self
                .state
                .is_done
                .wait_until(&mut waiting, until)
                .timed_out()
            {
                self.state.is_closed.store(true, Ordering::Relaxed);
                return;
            }
        }
    }
}
