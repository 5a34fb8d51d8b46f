//! Archives: packed the same bytes on every machine, and unpacked without harm.
//!
//! Order, times, owners and rights are fixed: entries by name, 1980-01-01, nobody, 0644 or 0755.
//! Formats:
//! tar is POSIX ustar with GNU long names, gzip RFC 1952 without name and time, Zstandard RFC 8878,
//! zip with deflate. Bytes depend on the versions of the packing libraries only.
//!
//! ```
//! use nubrik_archive::{ItemContent, Item, pack};
//! use nubrik_graph::ArchiveFormat;
//!
//! let folder = tempfile::tempdir()?;
//! let item = || Item { name: "empty".to_owned(), content: ItemContent::EmptyFolder };
//! for name in ["one.tar", "other.tar"] {
//!     pack(ArchiveFormat::Tar, vec![item()], &folder.path().join(name))?;
//! }
//! assert_eq!(std::fs::read(folder.path().join("one.tar"))?, std::fs::read(folder.path().join("other.tar"))?);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod listing;
mod pack;
mod unpack;

pub use listing::{digest_of_listing, listing_digest};
pub use pack::{Item, ItemContent, pack};
pub use unpack::{largest, unpack};

/// 1980-01-01 in seconds since 1970: the earliest time that all formats can tell.
const FIXED_TIME: u64 = 315_532_800;
