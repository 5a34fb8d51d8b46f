//! Caches of this machine and of a team: their contents, what was removed, saved, verified.

use nubrik_session::{ImageAmount, SavedResults};
use nubrik_shared::{Examination, Pruned};
use nubrik_store::{Amount, CacheFileAmount};
use serde::Serialize;

/// Results of all workspaces of this machine, and files of images: those that are kept, or those
/// that were removed.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
pub struct CacheAmount {
    /// Results of steps.
    pub results: Amount,
    /// Files of images.
    pub images: ImageAmount,
}

/// The cache of this machine, for programs.
#[derive(Serialize)]
pub struct CacheEvent<'a> {
    event: &'static str,
    work: &'static str,
    results: usize,
    contents: usize,
    bytes: u64,
    image_files: u64,
    image_bytes: u64,
    damaged: &'a [String],
}

impl CacheAmount {
    /// The event after some work on the cache (`size`, `verify`, `prune`), with the paths of what
    /// was damaged.
    pub fn event<'a>(&self, work: &'static str, damaged: &'a [String]) -> CacheEvent<'a> {
        let CacheAmount { results, images } = *self;
        let Amount {
            records: results,
            contents,
            bytes,
        } = results;
        let ImageAmount {
            files: image_files,
            bytes: image_bytes,
        } = images;
        CacheEvent {
            event: "cache",
            work,
            results,
            contents,
            bytes,
            image_files,
            image_bytes,
            damaged,
        }
    }
}

/// Results in a file, for programs.
#[derive(Serialize)]
pub struct CacheFileEvent<'a> {
    event: &'static str,
    file: &'a str,
    results: u64,
    contents: u64,
    bytes: u64,
    file_bytes: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    kept_back: Option<Vec<KeptBack>>,
}

#[derive(Serialize)]
struct KeptBack {
    results: usize,
    reason: String,
}

impl<'a> CacheFileEvent<'a> {
    /// Results were written to a file of so many bytes.
    pub fn saved(file: &'a str, file_bytes: u64, saved: &SavedResults) -> CacheFileEvent<'a> {
        let kept_back = saved.kept_back.iter();
        let kept_back = kept_back.map(|(reason, results)| KeptBack {
            results: *results,
            reason: reason.to_string(),
        });
        let event = CacheFileEvent::of("cache_saved", file, file_bytes, saved.amount);
        CacheFileEvent {
            kept_back: Some(kept_back.collect()),
            ..event
        }
    }

    /// Results were read from a file of so many bytes.
    pub fn loaded(file: &'a str, file_bytes: u64, amount: CacheFileAmount) -> CacheFileEvent<'a> {
        CacheFileEvent::of("cache_loaded", file, file_bytes, amount)
    }

    fn of(
        event: &'static str,
        file: &'a str,
        file_bytes: u64,
        amount: CacheFileAmount,
    ) -> CacheFileEvent<'a> {
        let CacheFileAmount {
            results,
            contents,
            bytes,
        } = amount;
        CacheFileEvent {
            event,
            file,
            results,
            contents,
            bytes,
            file_bytes,
            kept_back: None,
        }
    }
}

/// What was left out of a shared cache, for programs.
#[derive(Serialize)]
pub struct PrunedEvent<'a> {
    event: &'static str,
    kept: usize,
    dropped: usize,
    waiting: usize,
    removed: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<&'a str>,
}

impl<'a> PrunedEvent<'a> {
    /// The event after a shared cache was pruned.
    pub fn of(pruned: &Pruned, trouble: Option<&'a str>) -> PrunedEvent<'a> {
        let Pruned {
            kept,
            dropped,
            waiting,
            removed,
        } = *pruned;
        PrunedEvent {
            event: "pruned",
            kept,
            dropped,
            waiting,
            removed,
            trouble,
        }
    }
}

/// All of a shared cache was read, for programs.
#[derive(Serialize)]
pub struct SharedVerifiedEvent<'a> {
    event: &'static str,
    keys: usize,
    objects: usize,
    bytes: u64,
    damaged: &'a [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<String>,
}

impl SharedVerifiedEvent<'_> {
    /// The event after that.
    pub fn of(seen: &Examination) -> SharedVerifiedEvent<'_> {
        SharedVerifiedEvent {
            event: "verified_shared",
            keys: seen.keys,
            objects: seen.objects,
            bytes: seen.bytes,
            damaged: &seen.wrong,
            trouble: seen.trouble.as_ref().map(ToString::to_string),
        }
    }
}
