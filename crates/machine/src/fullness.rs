//! How often the workspace's disk was full. Commands that do not look whether they could write end
//! well with half of their output, and there may be room again by then: while they run somebody has
//! to look.

use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::thread::JoinHandle;
use std::time::Duration;

/// A disk with less room than this is taken to be full, in bytes.
const FULL: u64 = 64 << 10;

/// No disk takes more in a second, in bytes: with more room than can be filled until the next look,
/// that can be later.
const FASTEST: u64 = 8 << 30;

/// The shortest and the longest time between two looks.
const SHORTEST: Duration = Duration::from_millis(1);
const LONGEST: Duration = Duration::from_millis(250);

/// Looks at a disk, now and then.
#[derive(Default)]
pub(crate) struct Fullness {
    counted: Arc<FullTimes>,
    watching: OnceLock<Option<JoinHandle<()>>>,
}

#[derive(Default)]
struct FullTimes {
    times: AtomicU64,
    is_over: AtomicBool,
}

/// How much room a disk has, in bytes; plenty where that cannot be known.
fn room(folder: impl AsFd) -> u64 {
    rustix::fs::fstatvfs(folder)
        .ok()
        .filter(|found| found.f_blocks > 0)
        .map_or(u64::MAX, |found| {
            found.f_bavail.saturating_mul(found.f_frsize)
        })
}

impl Fullness {
    /// So often the disk was counted to be full, now among them.
    pub fn times(&self, folder: Option<OwnedFd>) -> u64 {
        if folder.is_some_and(|folder| room(folder) < FULL) {
            self.counted.times.fetch_add(1, Ordering::AcqRel);
        }
        self.counted.times.load(Ordering::Acquire)
    }

    /// Begins to look at the disk of a folder, for as long as this is there. Where no thread can be
    /// had, only those look who ask.
    pub fn watch(&self, folder: impl FnOnce() -> Option<OwnedFd>) {
        self.watching.get_or_init(|| {
            let (counted, folder) = (self.counted.clone(), folder()?);
            let look = move || {
                while !counted.is_over.load(Ordering::Acquire) {
                    let left = room(&folder);
                    if left < FULL {
                        counted.times.fetch_add(1, Ordering::AcqRel);
                    }
                    let filled = Duration::from_millis(left.saturating_mul(1000) / FASTEST);
                    std::thread::park_timeout(filled.clamp(SHORTEST, LONGEST));
                }
            };
            std::thread::Builder::new()
                .name("room on disk".to_owned())
                .spawn(look)
                .ok()
        });
    }
}

impl Drop for Fullness {
    fn drop(&mut self) {
        self.counted.is_over.store(true, Ordering::Release);
        if let Some(Some(thread)) = self.watching.take() {
            thread.thread().unpark();
            let _ = thread.join();
        }
    }
}
