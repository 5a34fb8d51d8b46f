//! What is remembered of a workspace, on disk: a file, and a log of what came since it was written.

use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::Arc;

use nubrik_engine::{Changes, State};
use rustix::fs::OFlags;

use crate::below::Below;
use crate::reading::read_open;

/// The log may grow to this size, or to a quarter of the file if that is more, before the file is
/// written anew; in bytes.
const LOG_LIMIT: u64 = 1 << 20;

/// A log larger than this is none of ours, in bytes.
const LARGEST_LOG: u64 = 1 << 30;

/// The two files that hold a workspace's state, in the tool's own folder.
const FILE: &str = "state";
const LOG: &str = "state-log";

/// What is remembered; `None` where that is nothing. What is damaged is forgotten.
pub(crate) fn load(own: &Below) -> Option<State> {
    let bytes = nubrik_confine::map_file(&own.open_to_read(FILE).ok()?).ok()?;
    let log = own.open_to_read(LOG).and_then(|log| read_open(log, LARGEST_LOG)).unwrap_or_default();
    State::decode(Arc::new(bytes), &log).ok()
}

/// Adds changes to a state and to the files that it was loaded from.
///
/// # Errors
/// When they cannot be written, and which.
pub(crate) fn save(
    own: &Below,
    state: &mut State,
    changes: Changes,
) -> Result<(), (&'static str, io::Error)> {
    let entry = State::log_entry(&state.apply(changes));
    if let Some((mut log, length)) = open_log(own, state.log_length(), entry.len() as u64) {
        log.write_all(&entry).map_err(|e| (LOG, e))?;
        state.set_log_length(length + entry.len() as u64);
        return Ok(());
    }
    // The log goes first: an old one must not be taken for the new file's.
    own.remove(LOG).map_err(|e| (LOG, e))?;
    state.set_log_length(0);
    own.write_whole(FILE, &state.encode()).map_err(|e| (FILE, e))
}

/// The log, to be added to, and its length; `None` where the file is to be written anew.
fn open_log(own: &Below, known: u64, more: u64) -> Option<(File, u64)> {
    let mut file = own.open_to_read(FILE).ok()?;
    let mut start = [0; 256];
    let read = file.read(&mut start).ok()?;
    let header = State::log_header(&start[..read])?;
    let size = file.metadata().ok()?.len();
    let mut log = own.open(LOG, OFlags::CREATE | OFlags::APPEND | OFlags::WRONLY).ok()?;
    let length = log.metadata().ok()?.len();
    if length != known || length + more > LOG_LIMIT.max(size / 4) {
        return None;
    }
    if length == 0 {
        log.write_all(&header).ok()?;
        return Some((log, header.len() as u64));
    }
    Some((log, length))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use nubrik_bytes::Digest;
    use nubrik_engine::{FileEntry, Signature};
    use proptest::prelude::*;

    use super::*;

    fn entry(number: u8) -> FileEntry {
        let number = u64::from(number);
        let signature = Signature {
            size: number,
            changed: number as i64 + 5,
            touched: 6,
            inode: number + 7,
            mode: 0o100_644,
        };
        FileEntry { signature, digest: Digest::of(&[number as u8]), young: number.is_multiple_of(3) }
    }

    /// What one build adds: files by their names' numbers, or what is forgotten of them.
    fn changes(builds: u64, batch: &[(u8, Option<u8>)]) -> Changes {
        let mut files: Vec<(Arc<str>, Option<FileEntry>)> =
            batch.iter().map(|(name, value)| (format!("f{name}").into(), value.map(entry))).collect();
        files.sort_by(|a, b| a.0.cmp(&b.0));
        files.dedup_by(|a, b| a.0 == b.0);
        let published = files.iter().filter(|(_, entry)| entry.is_some());
        let published = published
            .map(|(name, entry)| (name.clone(), entry.map(|e| (e.digest, vec![e.signature]))))
            .collect();
        Changes { builds, files, published, ..Changes::default() }
    }

    fn folder() -> (tempfile::TempDir, Below) {
        let folder = tempfile::tempdir().unwrap();
        let below = Below::new(folder.path()).unwrap();
        (folder, below)
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, cases: 64, ..Default::default() })]

        #[test]
        fn what_is_loaded_is_what_all_builds_added(
            batches in prop::collection::vec(prop::collection::vec((0u8..6, prop::option::of(any::<u8>())), 0..6), 1..8),
            reload in prop::collection::vec(any::<bool>(), 8),
        ) {
            let (_folder, own) = folder();
            let mut known = State::default();
            let mut state = State::default();
            for (number, batch) in batches.iter().enumerate() {
                let builds = number as u64 + 1;
                known.apply(changes(builds, batch));
                save(&own, &mut state, changes(builds, batch)).unwrap();
                if reload[number] {
                    state = load(&own).unwrap();
                }
                prop_assert_eq!(&state, &known);
                prop_assert_eq!(&load(&own).unwrap(), &known);
            }
        }

        #[test]
        fn damage_is_forgotten_and_never_believed(
            at in any::<prop::sample::Index>(), bit in 0u8..8, in_log in any::<bool>(), cut in any::<bool>(),
        ) {
            let (folder, own) = folder();
            let mut state = State::default();
            let all = [(0, Some(1)), (1, Some(2)), (2, Some(3))];
            save(&own, &mut state, changes(1, &all)).unwrap();
            let first = load(&own).unwrap();
            save(&own, &mut state, changes(2, &[(0, Some(9)), (1, None)])).unwrap();
            let second = load(&own).unwrap();
            let path = folder.path().join(if in_log { LOG } else { FILE });
            let mut bytes = std::fs::read(&path).unwrap();
            let at = at.index(bytes.len());
            if cut { bytes.truncate(at) } else { bytes[at] ^= 1 << bit }
            std::fs::write(&path, &bytes).unwrap();
            // Either of the two, or nothing: never something in between.
            if let Some(loaded) = load(&own) {
                let whole = |state: &State| -> bool {
                    state.builds == loaded.builds && (0..3).all(|n| {
                        let name = format!("f{n}");
                        // A damaged entry is one that is not there.
                        [None, state.files.get(&name)].contains(&loaded.files.get(&name))
                    })
                };
                prop_assert!(whole(&first) || whole(&second), "{loaded:?}");
            }
        }
    }
}
