//! Stores that hang. A build waits for one once; for some minutes after that nobody of this machine
//! asks it, so that not each build waits as long.

use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use nubrik_wording::counted;

use crate::own_files::write_own;

/// How long a store is left alone, in seconds.
const REST: u64 = 5 * 60;

/// What is wanted of a store.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum StoreUse {
    /// To take what others gave.
    Take,
    /// To give what was made here.
    Give,
}

/// A store that hung, and is left alone.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Rest {
    /// When it hung, in seconds since 1970.
    pub since: u64,
    /// Until when it is left alone, in seconds since 1970.
    pub until: u64,
    /// How it hung, as a sentence.
    pub why: String,
    /// When this was read, in seconds since 1970.
    now: u64,
}

impl fmt::Display for Rest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Rest {
            since,
            until,
            why,
            now,
        } = self;
        let (ago, left) = (
            now.saturating_sub(*since),
            until.saturating_sub(*now).div_ceil(60),
        );
        let minutes = counted(left as usize, "minute");
        write!(
            f,
            "{why}, {ago} s ago; builds ask it again in {minutes}, `nubrik shared` asks it now"
        )
    }
}

/// Notes of stores that hang, in the cache of one root key.
#[derive(Clone, Debug)]
pub(crate) struct RestNotes {
    cache: PathBuf,
    /// The place: the same root key may be used at another one.
    place: String,
}

impl RestNotes {
    pub fn new(cache: &Path, place: String) -> RestNotes {
        RestNotes {
            cache: cache.to_owned(),
            place,
        }
    }

    fn file(&self, wanted: StoreUse) -> PathBuf {
        self.cache.join("rests").join(match wanted {
            StoreUse::Take => "take",
            StoreUse::Give => "give",
        })
    }

    /// The note that counts at a time, if there is one. One from the future is none: the clock was
    /// changed.
    pub fn read(&self, wanted: StoreUse, now: u64) -> Option<Rest> {
        let text = fs::read_to_string(self.file(wanted)).ok()?;
        let mut lines = text.lines();
        let (since, place, why) = (
            lines.next()?.parse().ok()?,
            lines.next()?,
            lines.next()?.to_owned(),
        );
        let rest = Rest {
            since,
            until: u64::saturating_add(since, REST),
            why,
            now,
        };
        (place == self.place && since <= now && now < rest.until).then_some(rest)
    }

    /// Notes that the store hung just now. Where that cannot be written, the next build waits once
    /// more.
    pub fn note(&self, wanted: StoreUse, now: u64, why: &str) {
        let text = format!("{now}\n{}\n{}\n", self.place, why.replace('\n', " "));
        let _ = write_own(&self.file(wanted), text.as_bytes());
    }

    /// Forgets that the store hung.
    pub fn forget(&self) {
        for wanted in [StoreUse::Take, StoreUse::Give] {
            let _ = fs::remove_file(self.file(wanted));
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn a_note_counts_for_a_while_and_for_one_place() {
        let folder = tempfile::tempdir().unwrap();
        let notes = |place: &str| RestNotes::new(folder.path(), place.to_owned());
        let here = notes("http://here");
        assert_eq!(here.read(StoreUse::Take, 1000), None);
        here.note(StoreUse::Take, 1000, "it said\nnothing");
        let rest = here.read(StoreUse::Take, 1010).unwrap();
        assert_eq!(
            rest.to_string(),
            "it said nothing, 10 s ago; builds ask it again in 5 minutes, `nubrik shared` asks it now"
        );
        assert_eq!(
            here.read(StoreUse::Give, 1010),
            None,
            "giving is another matter"
        );
        assert_eq!(
            here.read(StoreUse::Take, 999),
            None,
            "the clock was set back"
        );
        assert!(
            here.read(StoreUse::Take, 1299)
                .unwrap()
                .to_string()
                .contains("in 1 minute,")
        );
        assert_eq!(here.read(StoreUse::Take, 1300), None, "it is over");
        assert_eq!(notes("http://there").read(StoreUse::Take, 1010), None);
        here.forget();
        assert_eq!(here.read(StoreUse::Take, 1010), None);
    }

    #[test]
    fn a_damaged_note_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let notes = RestNotes::new(folder.path(), "p".to_owned());
        for text in [
            "",
            "x\np\nwhy\n",
            "1000\np",
            "99999999999999999999\np\nwhy\n",
        ] {
            write_own(&notes.file(StoreUse::Take), text.as_bytes()).unwrap();
            assert_eq!(notes.read(StoreUse::Take, 1010), None, "{text:?}");
        }
        fs::remove_file(notes.file(StoreUse::Take)).unwrap();
        fs::create_dir(notes.file(StoreUse::Take)).unwrap();
        assert_eq!(notes.read(StoreUse::Take, 1010), None);
    }
}
