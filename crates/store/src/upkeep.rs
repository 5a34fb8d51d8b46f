//! Looking after a store: how much it holds, whether all of it is true, and what may go.
//!
//! When a record was last used is the time of its file. A content is used as long as a record names
//! it.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, SystemTime};

use crate::local::{failed, mode_of};
use crate::{Basis, LocalStore, OutputRecord, Record, StoreError};
use nubrik_bytes::Digest;
use parking_lot::Mutex;

/// A content that was kept less than this long ago may belong to a build that has not written its
/// record.
const RECENT: Duration = Duration::from_secs(3600);

const DAY: Duration = Duration::from_secs(24 * 3600);

/// What a store holds, or what was taken from it.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Amount {
    /// Results of steps.
    pub records: usize,
    /// Contents of files.
    pub contents: usize,
    /// How much they take, in bytes.
    pub bytes: u64,
}

/// What came of reading everything again.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Verified {
    /// What there was.
    pub amount: Amount,
    /// Damaged files, which were removed, sorted.
    pub damaged: Vec<PathBuf>,
}

/// A file of the store.
struct StoreFile {
    path: PathBuf,
    bytes: u64,
    /// Permissions.
    mode: u32,
    changed: SystemTime,
    /// When its metadata changed last, such as by being given another name.
    touched: SystemTime,
}

fn files_in(folder: &Path) -> Vec<StoreFile> {
    let inner = fs::read_dir(folder).into_iter().flatten().flatten();
    let files = inner.flat_map(|entry| fs::read_dir(entry.path()).into_iter().flatten().flatten());
    let mut kept: Vec<StoreFile> = files
        .filter_map(|entry| {
            let data = entry.metadata().ok().filter(fs::Metadata::is_file)?;
            let touched = SystemTime::UNIX_EPOCH
                + Duration::new(
                    data.ctime().max(0) as u64,
                    data.ctime_nsec().clamp(0, 999_999_999) as u32,
                );
            let mode = data.mode() & 0o7777;
            Some(StoreFile {
                path: entry.path(),
                bytes: data.len(),
                mode,
                changed: data.modified().ok()?,
                touched,
            })
        })
        .collect();
    kept.sort_by(|a, b| a.path.cmp(&b.path));
    kept
}

/// The digest that a file of the store is named by, and whether it may be executed.
fn named(path: &Path) -> Option<(Digest, bool)> {
    let folder = path.parent()?.file_name()?.to_str()?;
    let name = path.file_name()?.to_str()?;
    let (rest, executable) = name
        .strip_suffix('x')
        .map_or((name, false), |rest| (rest, true));
    let hex = format!("{folder}{rest}");
    if hex.len() != 64 || !hex.is_ascii() {
        return None;
    }
    let mut digest = [0; 32];
    for (at, byte) in digest.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&hex[at * 2..at * 2 + 2], 16).ok()?;
    }
    Some((Digest(digest), executable))
}

/// The record in a file of the store, if it is whole and the one that its name says.
fn read_record(path: &Path) -> Option<Record> {
    let (key, executable) = named(path)?;
    let bytes = fs::read(path).ok()?;
    Record::decode(&bytes, &key).ok().filter(|_| !executable)
}

/// The contents that the results of a record need, with repeats.
pub(crate) fn contents_of(record: &Record) -> impl Iterator<Item = (Digest, bool)> {
    let bases = record.entries.iter().flat_map(|entry| match &entry.basis {
        Basis::Noted(parts) => parts.as_slice(),
        Basis::Unnoted | Basis::Unfit(_) => &[],
    });
    let outputs = record
        .entries
        .iter()
        .flat_map(|entry| &entry.outputs)
        .flat_map(OutputRecord::contents);
    bases.map(|part| (*part, false)).chain(outputs)
}

impl LocalStore {
    /// Makes room, at most once a day, where the store has grown beyond `limit` bytes: down to nine
    /// tenths of that. Gives what went.
    ///
    /// # Errors
    /// When something cannot be removed.
    pub fn keep_within(&self, limit: u64) -> Result<Option<Amount>, StoreError> {
        let stamp = self.blobs.with_file_name("looked-after");
        let looked = fs::metadata(&stamp).and_then(|data| data.modified());
        if looked.is_ok_and(|time| time.elapsed().is_ok_and(|age| age < DAY)) {
            return Ok(None);
        }
        fs::write(&stamp, "").map_err(failed(&stamp))?;
        if self.amount().bytes <= limit {
            return Ok(None);
        }
        self.prune(Some(limit / 10 * 9), None).map(Some)
    }

    /// How much the store holds.
    pub fn amount(&self) -> Amount {
        let (contents, records) = (files_in(&self.blobs), files_in(&self.records));
        let bytes = contents.iter().chain(&records).map(|f| f.bytes).sum();
        Amount {
            records: records.len(),
            contents: contents.len(),
            bytes,
        }
    }

    /// Reads everything again, by several threads, and removes what is damaged: it is made again
    /// when it is needed.
    pub fn verify(&self, threads: usize) -> Verified {
        let (contents, records) = (files_in(&self.blobs), files_in(&self.records));
        let damaged: Mutex<Vec<PathBuf>> = Mutex::default();
        let next = AtomicUsize::new(0);
        let is_whole = |number: usize| match contents.get(number) {
            Some(file) => match named(&file.path) {
                Some((digest, executable)) => {
                    file.mode == mode_of(executable)
                        && Digest::of_file(&file.path).is_ok_and(|found| found == digest)
                }
                None => false,
            },
            None => records
                .get(number - contents.len())
                .is_none_or(|file| read_record(&file.path).is_some()),
        };
        std::thread::scope(|scope| {
            for _ in 0..threads.max(1) {
                scope.spawn(|| {
                    loop {
                        let number = next.fetch_add(1, Ordering::Relaxed);
                        if number >= contents.len() + records.len() {
                            return;
                        }
                        if !is_whole(number) {
                            let file = contents
                                .get(number)
                                .or_else(|| records.get(number - contents.len()));
                            let mut damaged = damaged.lock();
                            damaged.extend(file.map(|f| f.path.clone()));
                        }
                    }
                });
            }
        });
        let mut damaged = damaged.into_inner();
        damaged.sort();
        // What cannot be removed is refused when it is read, all the same.
        damaged.iter().for_each(|path| drop(fs::remove_file(path)));
        let bytes = contents.iter().chain(&records).map(|f| f.bytes).sum();
        let amount = Amount {
            records: records.len(),
            contents: contents.len(),
            bytes,
        };
        Verified { amount, damaged }
    }

    /// Removes what was not used for longest until the store takes no more than `limit` bytes, and
    /// whatever was not used for `unused`. Gives what went. Contents that no record names go, too,
    /// unless they are so new that a running build may be about to name them.
    ///
    /// # Errors
    /// When something cannot be removed.
    pub fn prune(
        &self,
        limit: Option<u64>,
        unused: Option<Duration>,
    ) -> Result<Amount, StoreError> {
        let now = SystemTime::now();
        let age = |time: SystemTime| now.duration_since(time).unwrap_or_default();
        let mut records: Vec<(StoreFile, Vec<(Digest, bool)>)> = files_in(&self.records)
            .into_iter()
            .map(|file| {
                let record = read_record(&file.path);
                let contents = record
                    .map(|r| contents_of(&r).collect())
                    .unwrap_or_default();
                (file, contents)
            })
            .collect();
        records.sort_by(|a, b| (b.0.changed, &b.0.path).cmp(&(a.0.changed, &a.0.path)));
        let contents = files_in(&self.blobs);
        let sizes: std::collections::HashMap<(Digest, bool), u64> = contents
            .iter()
            .filter_map(|f| Some((named(&f.path)?, f.bytes)))
            .collect();
        let before: HashSet<(Digest, bool)> =
            records.iter().flat_map(|(_, used)| used).copied().collect();
        let mut gone = Amount::default();
        let mut kept: HashSet<(Digest, bool)> = HashSet::new();
        let (mut total, mut full) = (0u64, false);
        for (file, used) in &records {
            let new: HashSet<&(Digest, bool)> =
                used.iter().filter(|c| !kept.contains(*c)).collect();
            #[allow(clippy::iter_over_hash_type)] // Only their sum counts.
            let more = file.bytes + new.iter().filter_map(|c| sizes.get(*c)).sum::<u64>();
            full |= limit.is_some_and(|limit| total + more > limit);
            if full || unused.is_some_and(|unused| age(file.changed) >= unused) {
                fs::remove_file(&file.path).map_err(failed(&file.path))?;
                gone.records += 1;
                gone.bytes += file.bytes;
            } else {
                total += more;
                kept.extend(used.iter().copied());
            }
        }
        for file in contents {
            let content = named(&file.path);
            let is_used = content.is_some_and(|content| kept.contains(&content));
            // What a record named does not wait for one.
            let was_named = content.is_some_and(|content| before.contains(&content));
            if !is_used && (was_named || age(file.touched) >= RECENT) {
                fs::remove_file(&file.path).map_err(failed(&file.path))?;
                gone.contents += 1;
                gone.bytes += file.bytes;
            }
        }
        Ok(gone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{RecordEntry, Store};

    /// A store with results of some steps, each with a content of so many bytes, the first used
    /// longest ago.
    fn filled(sizes: &[usize]) -> (tempfile::TempDir, LocalStore) {
        let folder = tempfile::tempdir().unwrap();
        let store = LocalStore::open(&folder.path().join("store")).unwrap();
        for (number, size) in sizes.iter().enumerate() {
            let (file, text) = (
                folder.path().join(format!("f{number}")),
                vec![number as u8; *size],
            );
            fs::write(&file, &text).unwrap();
            let digest = Digest::of(&text);
            store.keep_file(&file, &digest, false).unwrap();
            let outputs = vec![OutputRecord::File {
                digest,
                executable: false,
            }];
            let entry = RecordEntry {
                outputs,
                ..RecordEntry::default()
            };
            let key = Digest::of(&[number as u8]);
            store
                .keep_record(
                    &key,
                    &Record {
                        entries: vec![entry],
                    },
                )
                .unwrap();
            let path = store.records.join(&key.hex()[..2]).join(&key.hex()[2..]);
            let days = Duration::from_secs(86400 * (sizes.len() - number) as u64);
            let file = fs::File::options().write(true).open(path).unwrap();
            file.set_modified(SystemTime::now() - days).unwrap();
        }
        (folder, store)
    }

    #[test]
    fn the_least_recently_used_goes_first() {
        let (_folder, store) = filled(&[1000, 2000, 3000]);
        let before = store.amount();
        assert_eq!((before.records, before.contents), (3, 3));
        assert_eq!(store.prune(Some(1 << 20), None).unwrap(), Amount::default());
        let gone = store.prune(Some(5500), None).unwrap();
        assert_eq!((gone.records, gone.contents), (1, 1));
        assert!(
            store.record(&Digest::of(&[0])).is_none() && store.record(&Digest::of(&[1])).is_some()
        );
        assert_eq!(store.amount().bytes, before.bytes - gone.bytes);
        // What was used just now stays.
        store.used(&Digest::of(&[1]), &RecordEntry::default());
        let gone = store.prune(None, Some(Duration::from_secs(3600))).unwrap();
        assert_eq!((gone.records, gone.contents), (1, 1));
        assert!(store.record(&Digest::of(&[1])).is_some());
        assert_eq!(store.prune(Some(0), None).unwrap().contents, 1);
        assert_eq!(store.amount(), Amount::default());
    }

    #[test]
    fn room_is_made_once_a_day() {
        let (_folder, store) = filled(&[1000, 2000, 3000]);
        let stamp = store.blobs.with_file_name("looked-after");
        assert_eq!(store.keep_within(1 << 20).unwrap(), None);
        assert_eq!(store.keep_within(100).unwrap(), None, "looked at today");
        let file = fs::File::options().write(true).open(stamp).unwrap();
        file.set_modified(SystemTime::now() - 2 * DAY).unwrap();
        assert_eq!(
            store.keep_within(4000).unwrap().map(|gone| gone.records),
            Some(2)
        );
    }

    #[test]
    fn a_new_content_that_nothing_names_yet_stays() {
        let (folder, store) = filled(&[10]);
        let file = folder.path().join("new");
        fs::write(&file, "new").unwrap();
        store.keep_file(&file, &Digest::of(b"new"), true).unwrap();
        assert_eq!(store.prune(Some(0), None).unwrap().contents, 1);
        assert_eq!(store.amount().contents, 1);
    }

    #[test]
    fn damage_is_found_and_removed() {
        let (_folder, store) = filled(&[100, 200]);
        assert_eq!(store.verify(2).damaged, Vec::<PathBuf>::new());
        let digest = Digest::of(&[1u8; 200]);
        let blob = store
            .blobs
            .join(&digest.hex()[..2])
            .join(&digest.hex()[2..]);
        fs::remove_file(&blob).unwrap();
        fs::write(&blob, "other").unwrap();
        let key = Digest::of(&[0]);
        let record = store.records.join(&key.hex()[..2]).join(&key.hex()[2..]);
        fs::write(&record, "nonsense").unwrap();
        assert_eq!(store.verify(2).damaged.len(), 2);
        assert!(!blob.exists() && !record.exists());
        assert!(store.verify(1).damaged.is_empty());
        // Other permissions are damage, too, and so is a record that is another key's.
        let digest = Digest::of(&[0u8; 100]);
        let blob = store
            .blobs
            .join(&digest.hex()[..2])
            .join(&digest.hex()[2..]);
        fs::set_permissions(&blob, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        let other = Digest::of(&[1]);
        fs::copy(
            store
                .records
                .join(&other.hex()[..2])
                .join(&other.hex()[2..]),
            &record,
        )
        .unwrap();
        assert_eq!(store.verify(1).damaged, [blob, record]);
    }
}
