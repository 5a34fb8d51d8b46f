//! Which path a call of a process is about, as that process sees it.

use std::fs;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStringExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{Mode, OFlags, ResolveFlags};

use crate::calls::{OF_OPEN, PathArgument};
use crate::sys::{self, WantedCall};

/// Length of the longest path that the kernel takes, in bytes.
const LONGEST_PATH: usize = 4096;

/// Why it is not known what a path is.
#[derive(Debug)]
pub(crate) enum Unclear {
    /// It lists what is mounted.
    Mounts,
    /// It is about another process.
    OfOthers,
}

/// Memory of a thread that waits for its call, up to the first zero byte at least.
fn memory(thread: u32, at: u64, length: usize) -> Option<Vec<u8>> {
    let mut bytes = vec![0; length];
    let mut read = 0;
    // A page that is not there ends what can be read.
    while read < length {
        let page_end = (at + read as u64 + LONGEST_PATH as u64) & !(LONGEST_PATH as u64 - 1);
        let want = ((page_end - at) as usize).min(length);
        match sys::read_memory(thread, at + read as u64, &mut bytes[read..want]) {
            Some(count) if count > 0 => {
                let ended = bytes[read..read + count].contains(&0);
                read += count;
                if ended {
                    break;
                }
            }
            _ => break,
        }
    }
    bytes.truncate(read);
    Some(bytes)
}

pub(crate) fn word_at(thread: u32, at: u64) -> Option<u64> {
    let mut bytes = [0; 8];
    (sys::read_memory(thread, at, &mut bytes)? == bytes.len()).then(|| u64::from_ne_bytes(bytes))
}

/// Two bytes at an address.
pub(crate) fn half_word_at(thread: u32, at: u64) -> Option<u16> {
    let mut bytes = [0; 2];
    (sys::read_memory(thread, at, &mut bytes)? == bytes.len()).then(|| u16::from_ne_bytes(bytes))
}

/// The text at an address, up to its zero byte. Longer ones than the kernel takes for a word are
/// cut.
pub(crate) fn text_at(thread: u32, at: u64) -> Option<Vec<u8>> {
    const LONGEST_WORD: usize = 128 << 10;
    let mut bytes = memory(thread, at, LONGEST_WORD)?;
    let end = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    bytes.truncate(end);
    Some(bytes)
}

/// The root folder of a process.
pub(crate) fn root_of(thread: u32) -> Option<OwnedFd> {
    rustix::fs::open(
        format!("/proc/{thread}/root"),
        OFlags::PATH | OFlags::CLOEXEC,
        Mode::empty(),
    )
    .ok()
}

/// A path as a process sees it, with links followed as far as it is there; whether it is; and
/// whether it lies on a file system that nobody may write to.
pub(crate) fn resolved_in_sandbox(thread: u32, path: &Path) -> (PathBuf, bool, bool) {
    let flags = OFlags::PATH | OFlags::CLOEXEC;
    let Some(root) = root_of(thread) else {
        return (path.to_owned(), false, false);
    };
    let open = |path: &Path| {
        rustix::fs::openat2(&root, path, flags, Mode::empty(), ResolveFlags::IN_ROOT).ok()
    };
    let path_behind =
        |found: &OwnedFd| fs::read_link(format!("/proc/self/fd/{}", found.as_raw_fd())).ok();
    if let Some(found) = open(path)
        && let Some(path) = path_behind(&found)
    {
        let is_fixed = rustix::fs::fstatvfs(&found)
            .is_ok_and(|found| found.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY));
        return (path, true, is_fixed);
    }
    let look_up = |path: &Path| open(path).as_ref().and_then(path_behind);
    if !path.components().any(|part| part == Component::ParentDir) {
        // Mostly only the last part is not there: to go up from it takes less than to come down
        // from the root.
        let there = path
            .ancestors()
            .skip(1)
            .find_map(|above| Some((look_up(above)?, above)));
        let (there, above) = there.unwrap_or((PathBuf::from("/"), Path::new("/")));
        let at = there.join(path.strip_prefix(above).unwrap_or(path));
        return (
            at.components()
                .filter(|part| *part != Component::CurDir)
                .collect(),
            false,
            false,
        );
    }
    let mut at = PathBuf::from("/");
    for part in path.components() {
        match part {
            Component::ParentDir => drop(at.pop()),
            Component::Normal(name) => {
                at.push(name);
                at = look_up(&at).unwrap_or(at);
            }
            _ => {}
        }
    }
    (at, false, false)
}

/// The path that a call names, from the root on; `None` where it names none.
pub(crate) fn written_path(
    call: &WantedCall,
    argument: &PathArgument,
) -> Result<Option<PathBuf>, Unclear> {
    let thread = call.thread;
    let link_of = |name: String| fs::read_link(format!("/proc/{thread}/{name}")).ok();
    if argument.path == OF_OPEN {
        return Ok(link_of(format!("fd/{}", call.arguments[0] as i32)));
    }
    let Some(bytes) = memory(thread, call.arguments[argument.path], LONGEST_PATH) else {
        return Ok(None);
    };
    let Some(end) = bytes.iter().position(|b| *b == 0) else {
        return Ok(None);
    };
    let written = PathBuf::from(std::ffi::OsString::from_vec(bytes[..end].to_vec()));
    if written.as_os_str().is_empty() {
        // Something about an open file, not about a path.
        return Ok(None);
    }
    let folder = argument
        .folder
        .map(|n| call.arguments[n] as i32)
        .filter(|fd| *fd != libc::AT_FDCWD);
    let start = match folder {
        _ if written.is_absolute() => Some(PathBuf::from("/")),
        Some(fd) => link_of(format!("fd/{fd}")),
        None => link_of("cwd".to_owned()),
    };
    let Some(start) = start else { return Ok(None) };
    behind_process_links(thread, start.join(written))
}

/// So many links of processes may lead to one another.
const PROCESS_LINKS: usize = 16;

/// Names elsewhere of what a process has below `/proc/self`.
const KERNEL_ALIASES: [(&str, &str); 6] = [
    ("/dev/fd", "/proc/self/fd"),
    ("/dev/stdin", "/proc/self/fd/0"),
    ("/dev/stdout", "/proc/self/fd/1"),
    ("/dev/stderr", "/proc/self/fd/2"),
    ("/proc/mounts", "/proc/self/mounts"),
    ("/etc/mtab", "/proc/self/mounts"),
];

/// A path in which links of the kernel are followed that are about the process that asks: its
/// current folder, its root, what it has open. To others they would lead elsewhere. `None` where
/// they lead to no path.
fn behind_process_links(thread: u32, path: PathBuf) -> Result<Option<PathBuf>, Unclear> {
    let mut path = path;
    for _ in 0..PROCESS_LINKS {
        let parts = parts_behind_aliases(&mut path);
        let texts: Vec<&str> = parts.iter().map(String::as_str).collect();
        let goes_up = path.components().any(|part| part == Component::ParentDir);
        let rest = match texts.as_slice() {
            ["proc", "self" | "thread-self", "task", _, rest @ ..] => rest,
            ["proc", "self" | "thread-self", rest @ ..] => rest,
            ["proc", number, rest @ ..] if number.bytes().all(|b| b.is_ascii_digit()) => {
                match rest {
                    // What others call a process says nothing of files.
                    ["cwd" | "root" | "fd" | "map_files" | "exe", ..] | ["task", ..]
                        if !is_own(thread, number) =>
                    {
                        return Err(Unclear::OfOthers);
                    }
                    ["mountinfo" | "mounts" | "mountstats", ..] => return Err(Unclear::Mounts),
                    _ if is_own(thread, number) => rest,
                    _ => return Ok(Some(path)),
                }
            }
            ["proc", ..] if goes_up => return Err(Unclear::OfOthers),
            _ => return Ok(Some(path)),
        };
        if goes_up {
            // What is above depends on where links on the way lead.
            return Err(Unclear::OfOthers);
        }
        let link_of = |name: &str| fs::read_link(format!("/proc/{thread}/{name}")).ok();
        let (target, rest) = match rest {
            ["cwd", rest @ ..] => (link_of("cwd"), rest),
            ["root", rest @ ..] => (Some(PathBuf::from("/")), rest),
            ["exe", rest @ ..] => (link_of("exe"), rest),
            ["fd", number, rest @ ..] => (link_of(&format!("fd/{number}")), rest),
            ["mountinfo" | "mounts" | "mountstats", ..] => return Err(Unclear::Mounts),
            ["map_files", _, ..] => return Err(Unclear::OfOthers),
            // Something else of its own.
            rest => {
                return Ok(Some(
                    Path::new("/proc")
                        .join(thread.to_string())
                        .join(rest.join("/")),
                ));
            }
        };
        match target {
            Some(target) if target.is_absolute() => {
                path = target.join(rest.join("/")).components().collect()
            }
            _ => return Ok(None),
        }
    }
    Err(Unclear::OfOthers)
}

/// The names on a path, by way of `//`, `.` and the like, too, once it says the kernel's own word
/// for where it leads.
fn parts_behind_aliases(path: &mut PathBuf) -> Vec<String> {
    for (at, target) in KERNEL_ALIASES {
        if let Ok(rest) = path.strip_prefix(at) {
            *path = Path::new(target).join(rest).components().collect();
        }
    }
    let names = path.components().filter_map(|part| match part {
        Component::Normal(name) => Some(name.to_string_lossy().into_owned()),
        _ => None,
    });
    names.collect()
}

/// Whether a number is what a thread's process is called where it runs.
fn is_own(thread: u32, number: &str) -> bool {
    let status = fs::read_to_string(format!("/proc/{thread}/status")).unwrap_or_default();
    let numbers = status.lines().find_map(|line| line.strip_prefix("NStgid:"));
    numbers.and_then(|numbers| numbers.split_whitespace().last()) == Some(number)
}

/// A path with links followed as far as it is there, and `.` and `..` taken out.
pub(crate) fn resolved(path: &Path) -> PathBuf {
    if let Ok(path) = path.canonicalize() {
        return path;
    }
    let mut at = PathBuf::new();
    for part in path.components() {
        match part {
            Component::ParentDir => drop(at.pop()),
            Component::CurDir => {}
            part => {
                at.push(part);
                if let Ok(real) = at.canonicalize() {
                    at = real;
                }
            }
        }
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_of_processes_are_followed_for_who_asks_and_no_one_else() {
        let own = std::process::id();
        let of = |path: &str| behind_process_links(own, PathBuf::from(path));
        let here = std::env::current_dir().unwrap();
        for path in [
            "/proc/self/cwd/x",
            "/proc//./self/cwd/x",
            "/proc/thread-self/cwd/x",
        ] {
            assert_eq!(of(path).unwrap(), Some(here.join("x")), "{path}");
        }
        assert_eq!(
            of(&format!("/proc/{own}/cwd/x")).unwrap(),
            Some(here.join("x"))
        );
        assert_eq!(
            of("/etc/../etc/hosts").unwrap(),
            Some(PathBuf::from("/etc/../etc/hosts"))
        );
        // The first process of the machine is none of this program's, and what goes up may lead
        // anywhere.
        for path in [
            "/proc/1/cwd",
            "/proc/1/task/1/root",
            "/proc/sys/../1/root",
            "/proc/self/fd/../cwd",
        ] {
            assert!(matches!(of(path), Err(Unclear::OfOthers)), "{path}");
        }
        for path in [
            "/proc/mounts",
            "/etc/mtab",
            "/proc/self/mountinfo",
            "/proc/1/mounts",
        ] {
            assert!(matches!(of(path), Err(Unclear::Mounts)), "{path}");
        }
    }

    #[test]
    fn paths_are_resolved_as_far_as_they_are_there() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        fs::create_dir(root.join("real")).unwrap();
        fs::write(root.join("real/file"), "").unwrap();
        std::os::unix::fs::symlink("real", root.join("link")).unwrap();
        let of = |path: &str| resolved(&root.join(path));
        assert_eq!(of("link/file"), root.join("real/file"));
        assert_eq!(of("link/none/deep"), root.join("real/none/deep"));
        assert_eq!(of("real/../none"), root.join("none"));
        assert_eq!(of("./real/./file"), root.join("real/file"));
    }
}
