//! What a file's metadata says, as it is remembered.

use std::os::fd::AsFd;

use nubrik_bytes::layout;
use rustix::fs::{AtFlags, Stat};

/// A file whose metadata changed less than this long ago may change again without a trace on
/// kernels whose file times tick slowly; nanoseconds.
const YOUNG: i64 = 20_000_000;

/// The same on file systems that keep whole seconds, some of them every other one; nanoseconds.
const COARSE: i64 = 2_100_000_000;

/// What a file's metadata says: while it stays the same, so does the content.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Signature {
    /// Size in bytes.
    pub size: u64,
    /// Time of the last change of the content, in nanoseconds since 1970.
    pub changed: i64,
    /// Time of the last change of content or metadata, in nanoseconds since 1970.
    pub touched: i64,
    /// Number of the file in its file system.
    pub inode: u64,
    /// Type and permissions.
    pub mode: u32,
}

impl Signature {
    /// How many bytes one takes where it is kept.
    pub const SIZE: usize = 4 * 8 + 4;

    /// Metadata by a path below an open folder; whether a link at the end is followed `follows`
    /// says. `None` where nothing is.
    pub fn at(folder: impl AsFd, path: &[u8], follows: bool) -> Option<Signature> {
        let flags = if follows {
            AtFlags::empty()
        } else {
            AtFlags::SYMLINK_NOFOLLOW
        };
        rustix::fs::statat(folder, path, flags)
            .ok()
            .map(|stat| Signature::from(&stat))
    }

    /// What is remembered of a folder with nothing in it.
    pub fn of_empty_folder() -> Signature {
        Signature {
            mode: 0o040_000,
            ..Signature::default()
        }
    }

    /// The metadata without the time of the last change of metadata alone. An output may share its
    /// storage with the store and with equal outputs: each new name of it changes that time.
    #[must_use]
    pub fn settled(self) -> Signature {
        Signature { touched: 0, ..self }
    }

    /// Whether a file found now is the one that was remembered, settled or not.
    pub fn still_holds(&self, found: Option<Signature>) -> bool {
        found.is_some_and(|found| {
            if self.touched == 0 {
                found.settled() == *self
            } else {
                found == *self
            }
        })
    }

    /// How much later than its times say a file may have changed, in nanoseconds: nothing, but
    /// where they are whole seconds.
    pub fn coarseness(&self) -> i64 {
        let is_whole = |time: i64| time % 1_000_000_000 == 0;
        let whole_seconds = self.touched != 0 && is_whole(self.touched) && is_whole(self.changed);
        if whole_seconds { COARSE } else { 0 }
    }

    /// Whether a file that is looked at now, in nanoseconds since 1970, may change again without a
    /// trace.
    pub fn is_young(&self, now: i64) -> bool {
        let latest = self.touched.max(self.changed);
        (now - latest).abs() < YOUNG.max(self.coarseness())
    }

    /// Whether a file that was looked at after `began`, in nanoseconds since 1970, may have changed
    /// so late that it may change again without a trace.
    pub fn is_young_since(&self, began: i64) -> bool {
        self.touched
            .max(self.changed)
            .saturating_add(YOUNG.max(self.coarseness()))
            >= began
    }

    /// Whether this is a folder.
    pub fn is_folder(&self) -> bool {
        self.mode & 0o170_000 == 0o040_000
    }

    /// Whether this is a file: neither a folder nor a link, a device or a pipe.
    pub fn is_file(&self) -> bool {
        self.mode & 0o170_000 == 0o100_000
    }

    /// Whether the owner may execute the file.
    pub fn is_executable(&self) -> bool {
        self.mode & 0o100 != 0
    }
}

layout!(Signature {
    size,
    changed,
    touched,
    inode,
    mode
});

impl From<&Stat> for Signature {
    fn from(stat: &Stat) -> Signature {
        let nanos =
            |seconds: i64, nanos: i64| seconds.wrapping_mul(1_000_000_000).wrapping_add(nanos);
        Signature {
            size: stat.st_size as u64,
            changed: nanos(stat.st_mtime, stat.st_mtime_nsec as i64),
            touched: nanos(stat.st_ctime, stat.st_ctime_nsec as i64),
            inode: stat.st_ino,
            mode: stat.st_mode,
        }
    }
}
