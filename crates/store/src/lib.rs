//! Blobs and records: what steps made before, kept for all workspaces of a person.
//!
//! Everything read back is verified before it is trusted; what is damaged is a miss.
//!
//! ```
//! use nubrik_bytes::Digest;
//! use nubrik_store::{LocalStore, Store};
//!
//! let folder = tempfile::tempdir()?;
//! let store = LocalStore::open(folder.path())?;
//! let file = folder.path().join("fit.o");
//! std::fs::write(&file, "made")?;
//! let digest = Digest::of(b"made");
//! store.keep_file(&file, &digest, false)?;
//! assert_eq!(store.bytes(&digest).as_deref(), Some(&b"made"[..]));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod cache_file;
mod local;
mod place;
mod record;
mod upkeep;

use std::time::Duration;

use nubrik_bytes::Digest;

pub use cache_file::{CacheFileAmount, CacheFileProblem};
pub use local::{LocalStore, Opened, StoreError, StoredContent, mode_of};
pub use place::store_folder;
pub use record::{
    Basis, FoundInput, OutputRecord, Provenance, RESULTS_PER_KEY, Record, RecordEntry, TreeEntry,
    TreeKind,
};
pub use upkeep::{Amount, Verified};

/// Where results are kept: on this machine, and maybe in a shared cache behind it.
pub trait Store: Send + Sync {
    /// The record under a key; `None` where there is none that can be trusted.
    fn record(&self, key: &Digest) -> Option<Record>;
    /// Takes note that a result of a record was used: what was not used for longest goes first when
    /// room is wanted.
    fn used(&self, key: &Digest, entry: &RecordEntry);
    /// Keeps a record under a key, in place of what was there.
    ///
    /// # Errors
    /// When it cannot be written; the build goes on without it.
    fn keep_record(&self, key: &Digest, record: &Record) -> Result<(), StoreError>;
    /// Keeps a file's content. The file may share its storage with the store from then on, so it
    /// must be replaced and never written to.
    ///
    /// # Errors
    /// When it cannot be written; the build goes on without it.
    fn keep_file(
        &self,
        file: &std::path::Path,
        digest: &Digest,
        executable: bool,
    ) -> Result<(), StoreError>;
    /// Keeps some bytes as a content, and gives its digest.
    ///
    /// # Errors
    /// When they cannot be written.
    fn keep_bytes(&self, bytes: &[u8]) -> Result<Digest, StoreError>;
    /// The bytes of a content; `None` where the store has none that are right.
    fn bytes(&self, digest: &Digest) -> Option<Vec<u8>>;
    /// Whether a content is on this machine, as far as that shows without reading it.
    fn is_near(&self, digest: &Digest, executable: bool) -> bool;
    /// Brings contents to this machine as far as they can be had in a time, several at once. What
    /// is still missing then is nowhere, or too far.
    fn bring(&self, contents: &[(Digest, bool)], within: Option<Duration>);
    /// A content to copy, which has its digest.
    ///
    /// # Errors
    /// When it cannot be read.
    fn open(&self, digest: &Digest, executable: bool) -> Result<Opened, StoreError>;
}
