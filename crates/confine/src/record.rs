//! A recorder of what commands do with files: the kernel hands it their system calls before they
//! are done.
//!
//! It sees which paths are opened, executed, looked up, made and removed. It may also hide paths: a
//! process that asks for a hidden one learns that nothing is there. That decides only what a
//! command learns; what it may read and write the path rules decide, which cannot be circumvented
//! by changing a path in memory after it was looked at.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io::IoSliceMut;
use std::mem::MaybeUninit;
use std::net::IpAddr;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use parking_lot::Mutex;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::net::{RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags};

use crate::call_paths::{
    Unclear, half_word_at, resolved, resolved_in_sandbox, root_of, word_at, written_path,
};
use crate::calls::{
    ARGUMENTS, CallUse, HARMLESS, LookCall, OF_OPEN, OLD_ARGUMENTS, OLD_HARMLESS, PathArgument,
    PathUse, lists_folder, look_call, makes_folder, renames, touch_of,
};
use crate::filter::{Network, Surroundings};
use crate::programs::{ProgramLog, StartedProgram};
use crate::sys::{self, WantedCall};

/// Something that a command did with a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UsedPath {
    /// The path, links in it followed where it is there.
    pub path: PathBuf,
    /// The strongest thing that was done with it.
    pub touch: PathUse,
    /// What was there when it was first touched; of the workspace what really is there, seen or
    /// not.
    pub found: Found,
    /// Whether the command could see it: in a sandbox only what was put there.
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
    /// In a sandbox, what is outside of the workspace, by the paths as they were written.
    written: Mutex<BTreeMap<PathBuf, (PathUse, Found)>>,
    network: Mutex<bool>,
    /// Whether something was done of which it is not known what was seen by it.
    is_unclear: AtomicBool,
    /// Whether the list of what is mounted is hidden: in a sandbox it names all that was put there.
    hides_mounts: bool,
    hidden: Option<Hidden<'a>>,
    /// The workspace, where commands are in a sandbox.
    sandbox: Option<&'a Path>,
    /// Whether only paths of the workspace are noted.
    only_workspace: bool,
    /// Which programs are started, where that is wanted, with what they do below a folder.
    programs: Option<(PathBuf, Mutex<ProgramLog>)>,
    /// What was noted already: the path as it was written, the call, and what for. It stays the
    /// same while commands run.
    known: Mutex<HashSet<(PathBuf, i64, PathUse)>>,
}

/// Whether the kernel lets commands be recorded.
pub fn can_record() -> bool {
    sys::supervision_works()
}

impl<'a> Recorder<'a> {
    /// A recorder that hides nothing.
    pub fn new() -> Recorder<'a> {
        Recorder {
            touched: Mutex::default(),
            written: Mutex::default(),
            network: Mutex::default(),
            is_unclear: AtomicBool::new(false),
            hides_mounts: false,
            hidden: None,
            sandbox: None,
            only_workspace: false,
            programs: None,
            known: Mutex::default(),
        }
    }

    /// Hides some paths from commands, too.
    #[must_use]
    pub fn hiding(self, hidden: Hidden<'a>) -> Recorder<'a> {
        Recorder {
            hidden: Some(hidden),
            ..self
        }
    }

    /// For commands in a sandbox: paths of the workspace are noted as they are on the machine.
    #[must_use]
    pub fn in_sandbox(self, workspace: &'a Path) -> Recorder<'a> {
        Recorder {
            sandbox: Some(workspace),
            ..self
        }
    }

    /// Notes what is done with paths of the workspace only, in a sandbox.
    #[must_use]
    pub fn only_in_workspace(self) -> Recorder<'a> {
        Recorder {
            only_workspace: true,
            ..self
        }
    }

    /// Notes which programs are started, too, and what each of them does with paths below a folder,
    /// which has no links on its way.
    #[must_use]
    pub fn noting_programs(self, below: &Path) -> Recorder<'a> {
        Recorder {
            programs: Some((below.to_owned(), Mutex::default())),
            ..self
        }
    }

    /// The programs that were started so far, in order. Nothing where they are not noted.
    pub fn programs(&self) -> Vec<StartedProgram> {
        self.programs
            .as_ref()
            .map(|(_, log)| log.lock().programs())
            .unwrap_or_default()
    }

    /// Hides from commands in a sandbox which files were put there one by one.
    #[must_use]
    pub fn hiding_mounts(self) -> Recorder<'a> {
        Recorder {
            hides_mounts: true,
            ..self
        }
    }

    /// Whether commands did something that no recorder understands: then they may have seen
    /// whatever was there. Calls that are in no table are refused besides.
    pub fn is_unclear(&self) -> bool {
        self.is_unclear.load(Ordering::Relaxed)
    }

    fn note_unclear(&self) {
        self.is_unclear.store(true, Ordering::Relaxed);
    }

    /// What was done with paths so far, by path.
    pub fn touched(&self) -> Vec<UsedPath> {
        let touched = self.touched.lock();
        let all = touched.iter();
        all.map(|(path, (touch, found, seen))| UsedPath {
            path: path.clone(),
            touch: *touch,
            found: *found,
            seen: *seen,
        })
        .collect()
    }

    /// What was done outside of the workspace by commands in a sandbox, by path as it was written.
    /// Nothing where only the workspace is noted.
    pub fn written(&self) -> Vec<WrittenPath> {
        let written = self.written.lock();
        let all = written.iter();
        all.map(|(path, (touch, found))| WrittenPath {
            path: path.clone(),
            touch: *touch,
            found: *found,
        })
        .collect()
    }

    /// Whether a command wanted to reach another machine and was refused.
    pub fn wanted_network(&self) -> bool {
        *self.network.lock()
    }

    /// The filter that commands are started under.
    pub(crate) fn filter(&self, surroundings: Surroundings) -> Vec<libc::sock_filter> {
        let harmless: Vec<i64> = HARMLESS.iter().chain(OLD_HARMLESS).copied().collect();
        // Who asks for the network and has none, or only the loopback, is refused, and that is
        // noted.
        let watched: &[i64] = match surroundings.network {
            Network::None => &[libc::SYS_socket],
            Network::Own => &[libc::SYS_connect],
            Network::Machine => &[],
        };
        surroundings.supervising_filter(&harmless, watched)
    }

    /// Attends to the calls of one process and all that it starts, until they are gone or `stop`
    /// becomes readable. The end on which calls come is received from `socket`.
    pub(crate) fn attend(&self, socket: &OwnedFd, stop: &OwnedFd) {
        let Some(listener) = receive(socket) else {
            return;
        };
        sys::wake_at_once(listener.as_fd());
        loop {
            let mut fds = [
                PollFd::new(&listener, PollFlags::IN),
                PollFd::new(stop, PollFlags::IN),
            ];
            match poll(&mut fds, None) {
                Ok(_) => {}
                Err(rustix::io::Errno::INTR) => continue,
                Err(_) => return,
            }
            let [calls, stopped] = [fds[0].revents(), fds[1].revents()];
            if calls.contains(PollFlags::IN) {
                if let Some(call) = sys::next_call(listener.as_fd()) {
                    match self.note(call) {
                        Noted::GoesOn => sys::answer_call(listener.as_fd(), call, 0),
                        Noted::Refused(error) => sys::answer_call(listener.as_fd(), call, error),
                        Noted::Done => sys::answer_done(listener.as_fd(), call),
                    }
                }
            } else if !calls.is_empty() || !stopped.is_empty() {
                return;
            }
        }
    }

    /// Notes a call, and says what becomes of it.
    fn note(&self, call: WantedCall) -> Noted {
        if call.number == libc::SYS_socket {
            // Runtimes ask services of the machine for names of users, by sockets that have a path.
            if matches!(call.arguments[0] as i32, libc::AF_INET | libc::AF_INET6) {
                *self.network.lock() = true;
            }
            return Noted::Refused(libc::EACCES);
        }
        if call.number == libc::SYS_connect {
            if leads_out(&call) {
                *self.network.lock() = true;
            }
            return Noted::GoesOn;
        }
        let arguments = || {
            ARGUMENTS
                .iter()
                .chain(OLD_ARGUMENTS)
                .filter(|a| a.call == call.number)
        };
        if arguments().next().is_none() {
            // Nobody knows what it would tell. Programs know how to do without what an older kernel
            // has not.
            self.note_unclear();
            return Noted::Refused(libc::ENOSYS);
        }
        if self.tell_of_folder(&call) {
            // Where it is was said before, or is noted now.
            self.note_paths(&call, arguments());
            return Noted::Done;
        }
        self.note_paths(&call, arguments())
    }

    /// Notes a path as a call has it, and where it leads, if that is outside of the workspace.
    fn note_written(&self, whole: PathBuf, path: &Path, seen: bool, touch: PathUse) {
        let mut written = self.written.lock();
        let there = || if seen { found(path) } else { Found::Nothing };
        // By way of a link of the commands' own it is a file of the machine all the same.
        let behind = (path != whole && !self.is_of_workspace(path)).then(|| path.to_owned());
        let as_written = (!whole.starts_with(crate::ROOT)).then_some(whole);
        for name in as_written.into_iter().chain(behind) {
            let known = written.entry(name).or_insert_with(|| (touch, there()));
            known.0 = known.0.max(touch);
        }
    }

    /// Notes the paths of a call.
    fn note_paths<'t>(
        &self,
        call: &WantedCall,
        arguments: impl Iterator<Item = &'t PathArgument>,
    ) -> Noted {
        let mut hides = false;
        let mut meant = Vec::new();
        for argument in arguments {
            let touch = use_of(call, argument);
            if argument.path == OF_OPEN && !lists_folder(call.number) {
                continue;
            }
            let whole = match written_path(call, argument) {
                Ok(Some(whole)) => whole,
                Ok(None) => continue,
                Err(Unclear::Mounts) if self.hides_mounts => return Noted::Refused(libc::ENOENT),
                Err(Unclear::Mounts) => continue,
                Err(Unclear::OfOthers) => {
                    self.note_unclear();
                    continue;
                }
            };
            if self.only_workspace && is_far_from_workspace(&whole) {
                continue;
            }
            // Whoever asks again finds the same, but for what commands make themselves: that is no
            // input.
            let may_settle = self.sandbox.is_some() && self.hidden.is_none();
            // Opening a folder and listing it are two things.
            let row = (whole.clone(), call.number, touch);
            if may_settle && self.known.lock().contains(&row) {
                continue;
            }
            let (path, seen, is_lasting) = self.path_of(call.thread, whole.clone());
            if may_settle && (is_lasting || is_far_from_workspace(&whole)) {
                self.known.lock().insert(row);
            }
            let back = comes_back(call, touch, self.sandbox.is_some()) && seen;
            let touch = match back && found(&path) == Found::Folder {
                true => PathUse::LookedUp,
                false => touch,
            };
            if self.sandbox.is_some() && !self.only_workspace {
                self.note_written(whole, &path, seen, touch);
            }
            if self.programs.is_some() {
                meant.push((path.clone(), touch));
            }
            hides |= touch != PathUse::Written && self.hidden.is_some_and(|hidden| hidden(&path));
            let mut touched = self.touched.lock();
            let known = touched
                .entry(path)
                .or_insert_with_key(|path| (touch, found(path), seen));
            known.0 = known.0.max(touch);
        }
        self.note_program(call, meant);
        match hides {
            true => Noted::Refused(libc::ENOENT),
            false => Noted::GoesOn,
        }
    }

    /// Notes what a program does with the paths of a call, and that another one is started.
    fn note_program(&self, call: &WantedCall, paths: Vec<(PathBuf, PathUse)>) {
        let Some((below, log)) = &self.programs else {
            return;
        };
        let mut log = log.lock();
        let words = match call.number {
            libc::SYS_execve => Some(call.arguments[1]),
            libc::SYS_execveat => Some(call.arguments[2]),
            _ => None,
        };
        if let (Some(words), [(file, PathUse::Started)]) = (words, paths.as_slice()) {
            // Who looks for a program in several folders asks for it in each of them.
            if is_program(file) {
                log.starts(call, words, file.clone());
            }
            return;
        }
        for (path, touch) in paths.iter().filter(|(path, _)| path.starts_with(below)) {
            log.uses(call.thread, path, *touch);
        }
        if let (true, [(from, _), (to, _)]) = (renames(call.number), paths.as_slice()) {
            log.renames(call.thread, from.clone(), to.clone());
        }
    }

    fn is_of_workspace(&self, path: &Path) -> bool {
        self.sandbox
            .is_some_and(|workspace| path.starts_with(workspace))
    }

    /// Answers a call that asks what a folder of the workspace is, for commands in a sandbox: how
    /// large a folder is, and how many links it has, tells how much is in it. Gives whether it was
    /// one.
    fn tell_of_folder(&self, call: &WantedCall) -> bool {
        let (Some(look), Some(_)) = (look_call(call.number), self.sandbox) else {
            return false;
        };
        let (to, follows, mask) = match look {
            LookCall::Plain { to, follows } => (to, follows, None),
            LookCall::Flagged { to, flags } => (to, follows(call, flags), None),
            LookCall::Long { to, flags, mask } => {
                (to, follows(call, flags), Some(call.arguments[mask] as u32))
            }
        };
        let Some(argument) = ARGUMENTS
            .iter()
            .chain(OLD_ARGUMENTS)
            .find(|a| a.call == call.number)
        else {
            return false;
        };
        let flags = OFlags::PATH | OFlags::CLOEXEC;
        let folder = match written_path(call, argument) {
            Ok(Some(whole)) if argument.path != OF_OPEN => {
                if !whole.starts_with(crate::ROOT) {
                    return false;
                }
                let flags = if follows {
                    flags
                } else {
                    flags | OFlags::NOFOLLOW
                };
                root_of(call.thread).and_then(|root| {
                    rustix::fs::openat2(root, &whole, flags, Mode::empty(), ResolveFlags::IN_ROOT)
                        .ok()
                })
            }
            Ok(_) => {
                // About what is open.
                let number = argument.folder.map(|folder| call.arguments[folder] as i32);
                number.filter(|number| *number >= 0).and_then(|number| {
                    let at = format!("/proc/{}/fd/{number}", call.thread);
                    rustix::fs::open(at, flags, Mode::empty()).ok()
                })
            }
            Err(_) => None,
        };
        let Some(folder) = folder else { return false };
        let is_folder = rustix::fs::fstat(&folder).is_ok_and(|found| {
            rustix::fs::FileType::from_raw_mode(found.st_mode) == rustix::fs::FileType::Directory
        });
        let is_of_workspace = || {
            fs::read_link(format!("/proc/self/fd/{}", folder.as_raw_fd()))
                .is_ok_and(|path| path.starts_with(crate::ROOT))
        };
        is_folder
            && is_of_workspace()
            && sys::tell_of_folder(call.thread, call.arguments[to], folder.as_fd(), mask)
    }
}

/// How a call uses the path of one of its arguments.
fn use_of(call: &WantedCall, argument: &PathArgument) -> PathUse {
    match argument.use_ {
        CallUse::Always(touch) => touch,
        CallUse::ByFlags(flags) => touch_of(call.arguments[flags]),
        CallUse::ByFlagsAt(at) => touch_of(word_at(call.thread, call.arguments[at]).unwrap_or(0)),
    }
}

/// Whether who makes a call for a folder may only want to come back to it. A process that lists one
/// says so. Who makes all folders on the way to a file asks for those that are there, too.
fn comes_back(call: &WantedCall, touch: PathUse, is_in_sandbox: bool) -> bool {
    let opens = touch == PathUse::Read && !lists_folder(call.number);
    (opens && is_in_sandbox) || makes_folder(call.number)
}

/// Whether somebody wants a connection to another machine, or asks for another one's address by its
/// name.
fn leads_out(call: &WantedCall) -> bool {
    // `struct sockaddr_in` and `struct sockaddr_in6`: family, port, address.
    const NAMES: u16 = 53;
    let Some(family) = half_word_at(call.thread, call.arguments[1]) else {
        return false;
    };
    let Some(port) = half_word_at(call.thread, call.arguments[1] + 2).map(u16::from_be) else {
        return false;
    };
    let address = || {
        let mut bytes = [0; 16];
        let start = call.arguments[1]
            + if i32::from(family) == libc::AF_INET {
                4
            } else {
                8
            };
        let read = sys::read_memory(call.thread, start, &mut bytes)?;
        let [a, b, c, d, ..] = bytes;
        match i32::from(family) {
            libc::AF_INET if read >= 4 => Some(IpAddr::from([a, b, c, d])),
            libc::AF_INET6 if read >= 16 => Some(IpAddr::from(bytes).to_canonical()),
            _ => None,
        }
    };
    address().is_some_and(|address| {
        port == NAMES || !(address.is_loopback() || address.is_unspecified())
    })
}

/// What becomes of a call.
enum Noted {
    /// The kernel does it.
    GoesOn,
    /// It fails with this error.
    Refused(i32),
    /// It was answered.
    Done,
}

/// Whether links at the end of a path are followed, by the flags of a call.
fn follows(call: &WantedCall, flags: usize) -> bool {
    call.arguments[flags] as i32 & libc::AT_SYMLINK_NOFOLLOW == 0
}

impl Default for Recorder<'_> {
    fn default() -> Self {
        Self::new()
    }
}

/// Whether a path cannot lead to the workspace in a sandbox: commands can make no links in the
/// system's folders.
fn is_far_from_workspace(path: &Path) -> bool {
    const SYSTEM: [&str; 7] = ["/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc", "/sys"];
    // Below /dev there are links to what commands make and open.
    const DEVICES: [&str; 5] = [
        "/dev/null",
        "/dev/zero",
        "/dev/full",
        "/dev/random",
        "/dev/urandom",
    ];
    (SYSTEM.iter().any(|folder| path.starts_with(folder))
        || DEVICES.iter().any(|device| path == Path::new(device)))
        && !path
            .components()
            .any(|part| matches!(part, Component::ParentDir))
}

/// Whether a file can be started.
fn is_program(file: &Path) -> bool {
    let is_file = file.metadata().is_ok_and(|found| found.is_file());
    is_file && rustix::fs::access(file, rustix::fs::Access::EXEC_OK).is_ok()
}

fn found(path: &Path) -> Found {
    match path.symlink_metadata() {
        Err(_) => Found::Nothing,
        Ok(there) if there.is_dir() => Found::Folder,
        Ok(_) => Found::File,
    }
}

impl Recorder<'_> {
    /// The path that a call is about, with links followed; whether something is to be seen there;
    /// and whether that stays so while commands run: no link leads there, and it lies where they
    /// cannot change anything.
    fn path_of(&self, thread: u32, whole: PathBuf) -> (PathBuf, bool, bool) {
        let Some(workspace) = self.sandbox else {
            return (resolved(&whole), true, false);
        };
        let (path, seen, is_fixed) = resolved_in_sandbox(thread, &whole);
        let is_lasting = is_fixed && path == whole;
        let path = match path.strip_prefix(crate::ROOT) {
            Ok(inside) if inside.as_os_str().is_empty() => workspace.to_owned(),
            Ok(inside) => workspace.join(inside),
            Err(_) => path,
        };
        (path, seen, is_lasting)
    }
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
