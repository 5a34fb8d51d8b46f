//! What a watcher rests on besides its watches: the file system, mounts, and that the machine did
//! not sleep.

use std::os::fd::{AsFd, AsRawFd};
use std::{fmt, io};

use nubrik_bytes::layout;
use rustix::time::{ClockId, clock_gettime};

/// Why nothing that a watcher knows is believed, and everything is looked at. Its text is for
/// people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Doubt {
    /// The workspace is on a file system of which it is not known that the kernel notes all
    /// changes; its kind.
    FileSystem(u64),
    /// Something was mounted in or around the workspace, or is no longer.
    Mounts,
    /// The machine was suspended.
    Slept,
    /// More happened at once than the kernel keeps notes of.
    Overflow,
    /// Who asks sees other files: another root, or another namespace of mounts.
    Elsewhere,
    /// What is asked about is of a state that the watcher has only begun to learn.
    Learning,
    /// There is no `/proc`, or it cannot be read.
    NoProc,
}

impl fmt::Display for Doubt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Doubt::FileSystem(kind) => {
                let of = "of which the kernel does not say all changes";
                return write!(f, "the workspace is on a file system ({kind:#x}) {of}");
            }
            Doubt::Mounts => "something was mounted in or above the workspace",
            Doubt::Slept => "the machine was suspended",
            Doubt::Overflow => "more changed at once than the kernel keeps notes of",
            Doubt::Elsewhere => "another program sees other files here",
            Doubt::Learning => "it has not learnt yet",
            Doubt::NoProc => "/proc cannot be read",
        })
    }
}

layout!(enum Doubt {
    0 => FileSystem(kind),
    1 => Mounts,
    2 => Slept,
    3 => Overflow,
    4 => Elsewhere,
    5 => Learning,
    6 => NoProc,
});

/// Kinds of file systems on which all that happens to a file goes through this kernel: ext2 to
/// ext4, XFS, Btrfs, F2FS, memory.
const KNOWN: [u64; 5] = [0xEF53, 0x5846_5342, 0x9123_683E, 0xF2F5_2010, 0x0102_1994];

/// How much two readings of two clocks may differ by themselves, in nanoseconds.
const BETWEEN_READINGS: i128 = 50_000_000;

/// Whether changes in an open folder can be known from the kernel.
///
/// # Errors
/// Why not.
pub fn can_watch(root: impl AsFd) -> Result<(), Doubt> {
    let Ok(found) = rustix::fs::fstatfs(&root) else {
        return Err(Doubt::NoProc);
    };
    let kind = u64::from(found.f_type as u32);
    if !KNOWN.contains(&kind) {
        return Err(Doubt::FileSystem(kind));
    }
    RestsOn::of(root).map(drop).map_err(|_| Doubt::NoProc)
}

/// Which files a process sees at a root.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct SeenFrom {
    device: u64,
    inode: u64,
    namespace: u64,
}

layout!(SeenFrom {
    device,
    inode,
    namespace
});

impl SeenFrom {
    /// Those of this process.
    pub fn here(root: impl AsFd) -> io::Result<SeenFrom> {
        let found = rustix::fs::fstat(root)?;
        let namespace = rustix::fs::stat("/proc/self/ns/mnt")?.st_ino;
        Ok(SeenFrom {
            device: found.st_dev,
            inode: found.st_ino,
            namespace,
        })
    }
}

/// What must stay as it is.
pub(crate) struct RestsOn {
    mounts: Vec<String>,
    /// How long the machine has slept since it started, in nanoseconds.
    slept: i128,
}

impl RestsOn {
    /// How it is now.
    pub fn of(root: impl AsFd) -> io::Result<RestsOn> {
        let path = rustix::fs::readlink(
            format!("/proc/self/fd/{}", root.as_fd().as_raw_fd()),
            Vec::new(),
        )?;
        let path = path.into_string().map_err(io::Error::other)?;
        let mounts = std::fs::read_to_string("/proc/self/mountinfo")?;
        let mounts = mounts
            .lines()
            .filter(|line| is_around(line, &path))
            .map(str::to_owned)
            .collect();
        let slept = nanoseconds(ClockId::Boottime) - nanoseconds(ClockId::Monotonic);
        Ok(RestsOn { mounts, slept })
    }

    /// Why it is not as it was.
    pub fn changed(&self, root: impl AsFd) -> Option<Doubt> {
        let Ok(now) = RestsOn::of(root) else {
            return Some(Doubt::NoProc);
        };
        if now.mounts != self.mounts {
            return Some(Doubt::Mounts);
        }
        ((now.slept - self.slept).abs() > BETWEEN_READINGS).then_some(Doubt::Slept)
    }
}

fn nanoseconds(clock: ClockId) -> i128 {
    let time = clock_gettime(clock);
    i128::from(time.tv_sec) * 1_000_000_000 + i128::from(time.tv_nsec)
}

/// Whether a line of `mountinfo` is about a place in a folder, or about one that the folder is in.
fn is_around(line: &str, folder: &str) -> bool {
    let Some(point) = line.split(' ').nth(4) else {
        return true;
    };
    let folder = escaped(folder);
    let holds = |outer: &str, inner: &str| {
        let outer = outer.trim_end_matches('/');
        inner
            .strip_prefix(outer)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    holds(&folder, point) || holds(point, &folder)
}

/// A path as `mountinfo` writes it: blanks and the like as octal numbers.
fn escaped(path: &str) -> String {
    let mut text = String::new();
    for letter in path.chars() {
        match letter {
            ' ' | '\t' | '\n' | '\\' => text.push_str(&format!("\\{:03o}", letter as u32)),
            other => text.push(other),
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mounts_in_and_around_a_folder_count() {
        let line =
            |point: &str| format!("36 35 98:0 / {point} rw,noatime master:1 - ext4 /dev/root rw");
        for point in [
            "/",
            "/work",
            "/work/isles",
            "/work/isles/src",
            "/work/isles/a\\040b",
        ] {
            assert!(is_around(&line(point), "/work/isles"), "{point}");
        }
        for point in ["/proc", "/work/isle", "/work/isles-2", "/work/other/isles"] {
            assert!(!is_around(&line(point), "/work/isles"), "{point}");
        }
        assert!(is_around(&line("/a\\040b/c"), "/a b"));
        assert!(is_around("damaged", "/work"));
    }

    #[test]
    fn what_must_stay_stays() {
        let folder = tempfile::tempdir().unwrap();
        let root = std::fs::File::open(folder.path()).unwrap();
        let around = RestsOn::of(&root).unwrap();
        assert_eq!(around.changed(&root), None);
        let slept = RestsOn {
            slept: around.slept - 2 * BETWEEN_READINGS,
            ..RestsOn::of(&root).unwrap()
        };
        assert_eq!(slept.changed(&root), Some(Doubt::Slept));
        let other = RestsOn {
            mounts: vec!["one more".to_owned()],
            ..around
        };
        assert_eq!(other.changed(&root), Some(Doubt::Mounts));
    }

    #[test]
    fn a_file_system_that_is_not_known_is_refused() {
        let proc = std::fs::File::open("/proc").unwrap();
        assert_eq!(can_watch(&proc), Err(Doubt::FileSystem(0x9FA0)));
    }
}
