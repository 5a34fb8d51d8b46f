//! Threads that ask a store, and what they share.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::Digest;
use parking_lot::Mutex;
use rayon_core::{ThreadPool, ThreadPoolBuilder};

/// How many requests go on at once.
const AT_ONCE: usize = 12;

/// Threads that ask a store. Those that run steps may have given up the network.
pub(crate) struct Wire {
    threads: Option<ThreadPool>,
}

impl Wire {
    pub fn new() -> Wire {
        Wire {
            threads: ThreadPoolBuilder::new().num_threads(AT_ONCE).build().ok(),
        }
    }

    /// Does something on a thread that has the network.
    pub fn on<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        match &self.threads {
            Some(threads) => threads.install(work),
            None => work(),
        }
    }

    /// Does something with each of some things, several at once.
    pub fn each<T: Sync>(&self, things: &[T], work: impl Fn(&T) + Sync) {
        if things.is_empty() {
            return;
        }
        let next = AtomicUsize::new(0);
        let take = || {
            while let Some(thing) = things.get(next.fetch_add(1, Ordering::Relaxed)) {
                work(thing);
            }
        };
        self.on(|| {
            rayon_core::scope(|scope| {
                (1..AT_ONCE.min(things.len())).for_each(|_| scope.spawn(|_| take()));
                take();
            });
        });
    }
}

/// A pack of which something was wanted.
#[derive(Default)]
pub(crate) struct WantedPack {
    pub picked: AtomicU32,
    /// All of it, once that was fetched; nothing where it could not be had.
    pub whole: OnceLock<Option<Arc<Vec<u8>>>>,
}

/// What is known of packs.
#[derive(Default)]
pub(crate) struct KnownPacks {
    pub wanted: Mutex<HashMap<Digest, Arc<WantedPack>>>,
    /// Those that are held, the oldest first.
    pub held: Mutex<Vec<Digest>>,
}
