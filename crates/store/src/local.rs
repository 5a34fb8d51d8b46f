//! The store in the user's cache folder.
//!
//! ```text
//! v1/blobs/ab/cdef…      a content by the hexadecimal digits of its digest, read-only
//! v1/blobs/ab/cdef…x     the same for a file that may be executed
//! v1/records/ab/cdef…    a record by the digits of its step key
//! ```
//!
//! Files appear whole: written under a name of their own, then renamed, or linked from a finished
//! output. A file that a crash left damaged is found by its digest when it is read.

use nubrik_disk::copy_file;
use std::fmt;
use std::fs::{self, DirBuilder, File};
use std::io::{self, Seek, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::{Record, RecordEntry, Store};
use nubrik_bytes::Digest;

/// A content that was asked for.
#[derive(Debug)]
pub enum Opened {
    /// It is here, and it has its digest.
    There(StoredContent),
    /// The store does not have it.
    Missing,
    /// The store's copy was damaged; it was thrown away.
    Damaged,
}

/// A content whose digest was checked, to be copied from its beginning. The caller chooses where it
/// goes, since only the owner of that place knows which ways lead there safely.
#[derive(Debug)]
pub enum StoredContent {
    /// In a file of the store, which nobody may write to.
    File(File),
    /// In memory.
    Bytes(Vec<u8>),
}

impl StoredContent {
    /// Copies it to a new file: by reference where the file system can do that.
    ///
    /// # Errors
    /// When it cannot be read or written.
    pub fn copy_to(&mut self, to: &mut File) -> io::Result<()> {
        match self {
            StoredContent::File(from) => copy_file(from, to),
            StoredContent::Bytes(bytes) => to.write_all(bytes),
        }
    }
}

/// Why the store could not do something.
#[derive(Debug)]
pub struct StoreError {
    /// The file in question.
    pub path: PathBuf,
    /// What went wrong.
    pub problem: io::Error,
}

impl fmt::Display for StoreError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.path.display(), self.problem)
    }
}

impl std::error::Error for StoreError {}

pub(crate) fn failed(path: &Path) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.to_owned();
    move |problem| StoreError { path, problem }
}

/// A store in a folder of this machine; several programs may use it at once.
pub struct LocalStore {
    pub(crate) blobs: PathBuf,
    pub(crate) records: PathBuf,
    next_name: AtomicU64,
}

/// The permissions of a content, in the store and wherever a step may read it.
pub fn mode_of(executable: bool) -> u32 {
    if executable { 0o555 } else { 0o444 }
}

/// A record that was used as recently as this need not be noted again: days decide what goes first.
const RECENT: Duration = Duration::from_secs(3600);

impl LocalStore {
    /// Opens the store in a folder, made if it is not there.
    ///
    /// # Errors
    /// When the folder cannot be made, or when someone else could put results into it.
    pub fn open(folder: &Path) -> Result<LocalStore, StoreError> {
        let (blobs, records) = (folder.join("v1/blobs"), folder.join("v1/records"));
        if !folder.is_dir() {
            if let Some(parent) = folder.parent() {
                fs::create_dir_all(parent).map_err(failed(parent))?;
            }
            match DirBuilder::new().mode(0o700).create(folder) {
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
                made => made.map_err(failed(folder))?,
            }
        }
        for own in [folder, &folder.join("v1"), &blobs, &records] {
            must_be_ours(own)?;
        }
        for top in [&blobs, &records] {
            fs::create_dir_all(top).map_err(failed(top))?;
        }
        Ok(LocalStore {
            blobs,
            records,
            next_name: AtomicU64::new(0),
        })
    }

    /// Keeps a content, whose digest must be right.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_content(
        &self,
        bytes: &[u8],
        digest: &Digest,
        executable: bool,
    ) -> Result<(), StoreError> {
        let blob = self.blob(digest, executable);
        if blob.exists() {
            return Ok(());
        }
        self.write_whole(&blob, |temporary| {
            fs::write(temporary, bytes)?;
            fs::set_permissions(temporary, fs::Permissions::from_mode(mode_of(executable)))
        })
    }

    /// A content; `None` where the store has none that is right.
    pub fn content(&self, digest: &Digest, executable: bool) -> Option<Vec<u8>> {
        let bytes = fs::read(self.blob(digest, executable)).ok()?;
        (Digest::of(&bytes) == *digest).then_some(bytes)
    }

    /// Keeps a content that somebody writes. Gives whether it is what its digest says; another one
    /// is not kept.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn keep_written(
        &self,
        digest: &Digest,
        executable: bool,
        write: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> Result<bool, StoreError> {
        let blob = self.blob(digest, executable);
        let temporary = self.temporary(&blob);
        let new = || {
            File::options()
                .read(true)
                .write(true)
                .create_new(true)
                .open(&temporary)
        };
        let written = in_folder_of(&blob, new).and_then(|mut file| {
            write(&mut file)?;
            file.rewind()?;
            if Digest::of_open(&mut file)? != *digest {
                return Ok(false);
            }
            file.set_permissions(fs::Permissions::from_mode(mode_of(executable)))?;
            fs::rename(&temporary, &blob).map(|()| true)
        });
        if !matches!(written, Ok(true)) {
            let _ = fs::remove_file(&temporary);
        }
        written.map_err(failed(&blob))
    }

    fn blob(&self, digest: &Digest, executable: bool) -> PathBuf {
        let hex = digest.hex();
        self.blobs.join(&hex[..2]).join(format!(
            "{}{}",
            &hex[2..],
            if executable { "x" } else { "" }
        ))
    }

    fn temporary(&self, beside: &Path) -> PathBuf {
        let number = self.next_name.fetch_add(1, Ordering::Relaxed);
        beside.with_file_name(format!(".{}.{number}.tmp", std::process::id()))
    }

    fn write_whole(
        &self,
        path: &Path,
        write: impl Fn(&Path) -> io::Result<()>,
    ) -> Result<(), StoreError> {
        let temporary = self.temporary(path);
        let result =
            in_folder_of(path, || write(&temporary)).and_then(|()| fs::rename(&temporary, path));
        result.map_err(|problem| {
            let _ = fs::remove_file(&temporary);
            StoreError {
                path: path.to_owned(),
                problem,
            }
        })
    }
}

/// Does something that needs the folder of a path, which is made first where it is missing.
fn in_folder_of<T>(path: &Path, act: impl Fn() -> io::Result<T>) -> io::Result<T> {
    match (act(), path.parent()) {
        (Err(e), Some(folder)) if e.kind() == io::ErrorKind::NotFound => {
            fs::create_dir_all(folder)?;
            act()
        }
        (done, _) => done,
    }
}

/// Refuses a folder that is not this person's own, or that others may write to: who puts files
/// there chooses results.
fn must_be_ours(folder: &Path) -> Result<(), StoreError> {
    let found = match fs::metadata(folder) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
        found => found.map_err(failed(folder))?,
    };
    let refused = |why: String| StoreError {
        path: folder.to_owned(),
        problem: io::Error::new(io::ErrorKind::PermissionDenied, why),
    };
    if found.uid() != rustix::process::geteuid().as_raw() {
        return Err(refused(format!(
            "it belongs to another user (number {})",
            found.uid()
        )));
    }
    if found.mode() & 0o002 != 0 {
        return Err(refused("everybody may write to it (chmod o-w)".to_owned()));
    }
    Ok(())
}

impl Store for LocalStore {
    fn record(&self, key: &Digest) -> Option<Record> {
        let hex = key.hex();
        let bytes = fs::read(self.records.join(&hex[..2]).join(&hex[2..])).ok()?;
        Record::decode(&bytes, key).ok()
    }

    fn used(&self, key: &Digest, _: &RecordEntry) {
        let hex = key.hex();
        let path = self.records.join(&hex[..2]).join(&hex[2..]);
        let last = fs::metadata(&path).and_then(|found| found.modified());
        if last.is_ok_and(|last| last.elapsed().is_ok_and(|ago| ago < RECENT)) {
            return;
        }
        // Where the time cannot be set the record only goes sooner.
        if let Ok(file) = File::options().write(true).open(path) {
            let _ = file.set_modified(std::time::SystemTime::now());
        }
    }

    fn keep_record(&self, key: &Digest, record: &Record) -> Result<(), StoreError> {
        let hex = key.hex();
        let path = self.records.join(&hex[..2]).join(&hex[2..]);
        let bytes = record.encode(key);
        // A new record is written in its place: until it is whole, its digest makes it a miss.
        match in_folder_of(&path, || {
            File::options().write(true).create_new(true).open(&path)
        }) {
            Ok(mut file) => file.write_all(&bytes).map_err(failed(&path)),
            Err(_) => self.write_whole(&path, |temporary| fs::write(temporary, &bytes)),
        }
    }

    fn keep_file(&self, file: &Path, digest: &Digest, executable: bool) -> Result<(), StoreError> {
        let blob = self.blob(digest, executable);
        let mode = mode_of(executable);
        let permitted = fs::set_permissions(file, fs::Permissions::from_mode(mode));
        let linked = permitted.and_then(|()| in_folder_of(&blob, || fs::hard_link(file, &blob)));
        match linked {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(()),
            Err(_) if blob.exists() => Ok(()),
            // Another file system, or more links than one file may have.
            Err(_) => self.write_whole(&blob, |temporary| {
                copy_file(&mut File::open(file)?, &mut File::create(temporary)?)?;
                fs::set_permissions(temporary, fs::Permissions::from_mode(mode))
            }),
            Ok(()) => Ok(()),
        }
    }

    fn keep_bytes(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        let digest = Digest::of(bytes);
        self.keep_content(bytes, &digest, false)?;
        Ok(digest)
    }

    fn bytes(&self, digest: &Digest) -> Option<Vec<u8>> {
        self.content(digest, false)
            .or_else(|| self.content(digest, true))
    }

    fn is_near(&self, digest: &Digest, executable: bool) -> bool {
        self.blob(digest, executable).exists()
    }

    fn bring(&self, _: &[(Digest, bool)], _: Option<Duration>) {}

    fn open(&self, digest: &Digest, executable: bool) -> Result<Opened, StoreError> {
        let blob = self.blob(digest, executable);
        let mode = mode_of(executable);
        let mut file = match File::open(&blob) {
            Ok(file) => file,
            Err(_) => return Ok(Opened::Missing),
        };
        let found = file.metadata().map_err(failed(&blob))?;
        if !found.is_file() || !Digest::of_open(&mut file).is_ok_and(|found| found == *digest) {
            let _ = fs::remove_file(&blob);
            return Ok(Opened::Damaged);
        }
        // A user who changed them did not mean the store.
        if found.mode() & 0o7777 != mode {
            file.set_permissions(fs::Permissions::from_mode(mode))
                .map_err(failed(&blob))?;
        }
        file.rewind().map_err(failed(&blob))?;
        Ok(Opened::There(StoredContent::File(file)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_that_others_may_write_to_is_no_store() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let store = folder.path().join("store");
        drop(LocalStore::open(&store).unwrap());
        fs::set_permissions(&store, fs::Permissions::from_mode(0o707)).unwrap();
        let refused = LocalStore::open(&store).err().unwrap();
        assert!(refused.to_string().contains("everybody may write to it"));
        fs::set_permissions(&store, fs::Permissions::from_mode(0o700)).unwrap();
        // Only the superuser can give something away.
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::chown(&store, Some(65534), None).unwrap();
            let refused = LocalStore::open(&store).err().unwrap();
            assert!(refused.to_string().contains("belongs to another user"));
        }
    }

    #[test]
    fn keeps_and_places() {
        let folder = tempfile::tempdir().unwrap();
        let store = LocalStore::open(&folder.path().join("store")).unwrap();
        let (file, digest) = (folder.path().join("a"), Digest::of(b"tide"));
        fs::write(&file, "tide").unwrap();
        store.keep_file(&file, &digest, true).unwrap();
        store.keep_file(&file, &digest, true).unwrap();
        let to = folder.path().join("b");
        let Opened::There(mut content) = store.open(&digest, true).unwrap() else {
            panic!("it is there")
        };
        content.copy_to(&mut File::create(&to).unwrap()).unwrap();
        assert_eq!(fs::read(&to).unwrap(), b"tide");
        assert!(matches!(
            store.open(&Digest::of(b"no"), false).unwrap(),
            Opened::Missing
        ));
    }

    #[test]
    fn throws_away_what_is_damaged() {
        let folder = tempfile::tempdir().unwrap();
        let store = LocalStore::open(folder.path()).unwrap();
        let (file, digest) = (folder.path().join("a"), Digest::of(b"tide"));
        fs::write(&file, "tide").unwrap();
        store.keep_file(&file, &digest, false).unwrap();
        let blob = store.blob(&digest, false);
        fs::remove_file(&blob).unwrap();
        fs::write(&blob, "tied").unwrap();
        assert!(matches!(
            store.open(&digest, false).unwrap(),
            Opened::Damaged
        ));
        assert!(!blob.exists());
        let key = Digest::of(b"key");
        store.keep_record(&key, &Record::default()).unwrap();
        assert_eq!(store.record(&key), Some(Record::default()));
        let hex = key.hex();
        fs::write(store.records.join(&hex[..2]).join(&hex[2..]), b"nonsense").unwrap();
        assert_eq!(store.record(&key), None);
    }
}
