//! A recorder of what commands do with files: the kernel hands it their system calls before they are done.
//!
//! It sees which paths are opened, executed, looked up, made and removed. It may also hide paths: a process that asks
//! for a hidden one is told that nothing is there. That decides only what a command learns; what it
//! may read and write the path rules decide, which cannot be circumvented by changing a path in memory
//! after it was looked at.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io::IoSliceMut;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStringExt;
use std::path::{Component, Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::net::{RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags};

use crate::calls::{
    ARGUMENTS, CallUse, LISTING, OLD_ARGUMENTS, PathArgument, PathUse, makes_folder, touch_of,
};
use crate::filter::{Network, Surroundings};
use crate::sys::{self, WantedCall};

/// Something that a command did with a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UsedPath {
    /// The path, links in it followed where it is there.
    pub path: PathBuf,
    /// The strongest thing that was done with it.
    pub touch: PathUse,
    /// What was there when it was first touched; of the workspace what really is there, seen or not.
    pub found: Found,
    /// Whether the command could see it: in a room only what was put there.
    pub seen: bool,
}

/// A path outside of the workspace, as a command wrote it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct WrittenPath {
    /// The path from the root on; links in it are not followed.
    pub path: PathBuf,
    /// The strongest thing that was done with it.
    pub touch: PathUse,
    /// What the command found there when it first touched it.
    pub found: Found,
}

/// What is at a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Found {
    /// Nothing.
    Nothing,
    /// A folder.
    Folder,
    /// A file, or something like one.
    File,
}

/// Which paths a command is not to know of.
pub type Hidden<'a> = &'a (dyn Fn(&Path) -> bool + Sync);

/// Notes what commands do with paths.
pub struct Recorder<'a> {
    touched: Mutex<BTreeMap<PathBuf, (PathUse, Found, bool)>>,
    /// In a room, what is outside of the workspace, by the paths as they were written.
    written: Mutex<BTreeMap<PathBuf, (PathUse, Found)>>,
    network: Mutex<bool>,
    hidden: Option<Hidden<'a>>,
    /// The workspace, where commands are in a room.
    room: Option<&'a Path>,
    /// Whether only paths of the workspace are noted.
    only_workspace: bool,
    /// What was noted already: the path as it was written, the call, and what for. It stays the same while commands run.
    known: Mutex<HashSet<(PathBuf, i64, PathUse)>>,
}

/// Whether the kernel lets commands be recorded.
pub fn can_record() -> bool {
    sys::supervision_works()
}

/// Length of the longest path that the kernel takes, in bytes.
const LONGEST_PATH: usize = 4096;

impl<'a> Recorder<'a> {
    /// A recorder that hides nothing.
    pub fn new() -> Recorder<'a> {
        Recorder {
            touched: Mutex::default(),
            written: Mutex::default(),
            network: Mutex::default(),
            hidden: None,
            room: None,
            only_workspace: false,
            known: Mutex::default(),
        }
    }

    /// Hides some paths from commands, too.
    #[must_use]
    pub fn hiding(self, hidden: Hidden<'a>) -> Recorder<'a> {
        Recorder { hidden: Some(hidden), ..self }
    }

    /// For commands in a room: paths of the workspace are noted as they are on the machine.
    #[must_use]
    pub fn in_room(self, workspace: &'a Path) -> Recorder<'a> {
        Recorder { room: Some(workspace), ..self }
    }

    /// Notes what is done with paths of the workspace only, in a room.
    #[must_use]
    pub fn only_in_workspace(self) -> Recorder<'a> {
        Recorder { only_workspace: true, ..self }
    }

    /// What was done with paths so far, by path.
    pub fn touched(&self) -> Vec<UsedPath> {
        let touched = self.touched.lock().unwrap_or_else(PoisonError::into_inner);
        let all = touched.iter();
        all.map(|(path, (touch, found, seen))| UsedPath {
            path: path.clone(),
            touch: *touch,
            found: *found,
            seen: *seen,
        })
        .collect()
    }

    /// What was done outside of the workspace by commands in a room, by path as it was written. Nothing where only the
    /// workspace is noted.
    pub fn written(&self) -> Vec<WrittenPath> {
        let written = self.written.lock().unwrap_or_else(PoisonError::into_inner);
        let all = written.iter();
        all.map(|(path, (touch, found))| WrittenPath { path: path.clone(), touch: *touch, found: *found })
            .collect()
    }

    /// Whether a command asked for the network and was refused.
    pub fn wanted_network(&self) -> bool {
        *self.network.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The filter that commands are started under.
    pub(crate) fn filter(&self, surroundings: Surroundings) -> Vec<libc::sock_filter> {
        let mut calls: Vec<i64> = ARGUMENTS.iter().chain(OLD_ARGUMENTS).map(|a| a.call).collect();
        calls.sort_unstable();
        calls.dedup();
        // Who asks for the network and has none is refused, and that is noted.
        let watched: &[i64] = if surroundings.network == Network::None { &[libc::SYS_socket] } else { &[] };
        surroundings.supervising_filter(&calls, watched)
    }

    /// Attends to the calls of one process and all that it starts, until they are gone or `stop`
    /// becomes readable. The end on which calls come is received from `socket`.
    pub(crate) fn attend(&self, socket: &OwnedFd, stop: &OwnedFd) {
        let Some(listener) = receive(socket) else { return };
        sys::wake_at_once(listener.as_fd());
        loop {
            let mut fds = [PollFd::new(&listener, PollFlags::IN), PollFd::new(stop, PollFlags::IN)];
            match poll(&mut fds, None) {
                Ok(_) => {}
                Err(rustix::io::Errno::INTR) => continue,
                Err(_) => return,
            }
            let [calls, stopped] = [fds[0].revents(), fds[1].revents()];
            if calls.contains(PollFlags::IN) {
                if let Some(call) = sys::next_call(listener.as_fd()) {
                    sys::answer_call(listener.as_fd(), call, self.note(call));
                }
            } else if !calls.is_empty() || !stopped.is_empty() {
                return;
            }
        }
    }

    /// Notes a call; gives the error with which it is refused, or 0.
    fn note(&self, call: WantedCall) -> i32 {
        if call.number == libc::SYS_socket {
            // Runtimes ask services of the machine for names of users, by sockets that have a path.
            if matches!(call.arguments[0] as i32, libc::AF_INET | libc::AF_INET6) {
                *self.network.lock().unwrap_or_else(PoisonError::into_inner) = true;
            }
            return libc::EACCES;
        }
        let mut hides = false;
        for argument in ARGUMENTS.iter().chain(OLD_ARGUMENTS).filter(|a| a.call == call.number) {
            let touch = match argument.use_ {
                CallUse::Always(touch) => touch,
                CallUse::ByFlags(flags) => touch_of(call.arguments[flags]),
                CallUse::ByFlagsAt(at) => touch_of(word_at(call.thread, call.arguments[at]).unwrap_or(0)),
            };
            let Some(whole) = written_path(&call, argument) else { continue };
            if self.only_workspace && is_far_from_workspace(&whole) {
                continue;
            }
            // Whoever asks again finds the same, but for what commands make themselves: that is no input.
            let is_settled = self.room.is_some() && self.hidden.is_none();
            if is_settled {
                let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
                // Opening a folder and listing it are two things.
                if !known.insert((whole.clone(), call.number, touch)) {
                    continue;
                }
            }
            let (path, seen) = self.path_of(call.thread, whole.clone());
            // Who opens a folder may only want to come back to it; a process that lists it says so.
            let opens = touch == PathUse::Read && call.number != LISTING;
            // Who makes all folders on the way to a file asks for those that are there, too.
            let comes_back = (opens && self.room.is_some()) || makes_folder(call.number);
            let touch = match comes_back && seen && found(&path) == Found::Folder {
                true => PathUse::LookedUp,
                false => touch,
            };
            if self.room.is_some() && !self.only_workspace && !whole.starts_with(crate::ROOT) {
                let mut written = self.written.lock().unwrap_or_else(PoisonError::into_inner);
                let there = || if seen { found(&path) } else { Found::Nothing };
                let known = written.entry(whole).or_insert_with(|| (touch, there()));
                known.0 = known.0.max(touch);
            }
            hides |= touch != PathUse::Written && self.hidden.is_some_and(|hidden| hidden(&path));
            let mut touched = self.touched.lock().unwrap_or_else(PoisonError::into_inner);
            let known = touched.entry(path).or_insert_with_key(|path| (touch, found(path), seen));
            known.0 = known.0.max(touch);
        }
        if hides { libc::ENOENT } else { 0 }
    }
}

impl Default for Recorder<'_> {
    fn default() -> Self {
        Self::new()
    }
}

/// Whether a path cannot lead to the workspace in a room: commands can make no links in the system's folders.
fn is_far_from_workspace(path: &Path) -> bool {
    const SYSTEM: [&str; 8] = ["/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc", "/sys", "/dev"];
    SYSTEM.iter().any(|folder| path.starts_with(folder))
        && !path.components().any(|part| matches!(part, Component::ParentDir))
}

fn found(path: &Path) -> Found {
    match path.symlink_metadata() {
        Err(_) => Found::Nothing,
        Ok(there) if there.is_dir() => Found::Folder,
        Ok(_) => Found::File,
    }
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

fn word_at(thread: u32, at: u64) -> Option<u64> {
    let mut bytes = [0; 8];
    (sys::read_memory(thread, at, &mut bytes)? == bytes.len()).then(|| u64::from_ne_bytes(bytes))
}

impl Recorder<'_> {
    /// The path that a call is about, with links followed, and whether something is to be seen there.
    fn path_of(&self, thread: u32, whole: PathBuf) -> (PathBuf, bool) {
        let Some(workspace) = self.room else { return (resolved(&whole), true) };
        let (path, seen) = resolved_in_room(thread, &whole);
        let path = match path.strip_prefix(crate::ROOT) {
            Ok(inside) if inside.as_os_str().is_empty() => workspace.to_owned(),
            Ok(inside) => workspace.join(inside),
            Err(_) => path,
        };
        (path, seen)
    }
}

/// A path as a process sees it, with links followed as far as it is there, and whether it is.
fn resolved_in_room(thread: u32, path: &Path) -> (PathBuf, bool) {
    let flags = OFlags::PATH | OFlags::CLOEXEC;
    let Ok(root) = rustix::fs::open(format!("/proc/{thread}/root"), flags, Mode::empty()) else {
        return (path.to_owned(), false);
    };
    let look_up = |path: &Path| {
        let found = rustix::fs::openat2(&root, path, flags, Mode::empty(), ResolveFlags::IN_ROOT).ok()?;
        fs::read_link(format!("/proc/self/fd/{}", found.as_raw_fd())).ok()
    };
    if let Some(path) = look_up(path) {
        return (path, true);
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
    (at, false)
}

/// The path that a call names, from the root on.
fn written_path(call: &WantedCall, argument: &PathArgument) -> Option<PathBuf> {
    if call.number == LISTING {
        return fs::read_link(format!("/proc/{}/fd/{}", call.thread, call.arguments[0] as i32)).ok();
    }
    let bytes = memory(call.thread, call.arguments[argument.path], LONGEST_PATH)?;
    let end = bytes.iter().position(|b| *b == 0)?;
    let written = PathBuf::from(std::ffi::OsString::from_vec(bytes[..end].to_vec()));
    let thread = call.thread;
    let folder = argument.folder.map(|n| call.arguments[n] as i32).filter(|fd| *fd != libc::AT_FDCWD);
    let start = match folder {
        _ if written.is_absolute() => PathBuf::from("/"),
        Some(fd) => fs::read_link(format!("/proc/{thread}/fd/{fd}")).ok()?,
        None => fs::read_link(format!("/proc/{thread}/cwd")).ok()?,
    };
    if written.as_os_str().is_empty() {
        // Something about an open file, not about a path.
        return None;
    }
    let whole = start.join(written);
    // For us, `self` is someone else.
    let whole = match whole.strip_prefix("/proc/self") {
        Ok(rest) => Path::new("/proc").join(thread.to_string()).join(rest),
        Err(_) => whole,
    };
    Some(whole)
}

/// A path with links followed as far as it is there, and `.` and `..` taken out.
fn resolved(path: &Path) -> PathBuf {
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

/// A pair of sockets on which a supervisor gets its end.
pub(crate) fn sockets() -> rustix::io::Result<(OwnedFd, OwnedFd)> {
    rustix::net::socketpair(
        rustix::net::AddressFamily::UNIX,
        rustix::net::SocketType::SEQPACKET,
        rustix::net::SocketFlags::CLOEXEC,
        None,
    )
}

fn receive(socket: &OwnedFd) -> Option<OwnedFd> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut control = RecvAncillaryBuffer::new(&mut space);
    let mut byte = [0];
    let mut text = [IoSliceMut::new(&mut byte)];
    rustix::net::recvmsg(socket, &mut text, &mut control, RecvFlags::CMSG_CLOEXEC).ok()?;
    control.drain().find_map(|message| match message {
        RecvAncillaryMessage::ScmRights(mut descriptors) => descriptors.next(),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

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

    #[test]
    fn only_what_stays_in_the_system_is_far() {
        for (path, far) in [
            ("/usr/lib/python3/os.py", true),
            ("/usr/../nubrik/a", false),
            ("/usrx/a", false),
            ("/tmp/link/a", false),
            ("/nubrik/usr/a", false),
        ] {
            assert_eq!(is_far_from_workspace(Path::new(path)), far, "{path}");
        }
    }
}
