//! Sandboxes: views of the machine in which commands see only what was put there, each kept by a
//! process.

use std::ffi::{CStr, CString};
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use parking_lot::{Mutex, MutexGuard};
use rustix::event::{PollFd, PollFlags};
use rustix::fs::{Mode, OFlags};
use rustix::process::PidfdFlags;

use super::children::{run_child, stay_visible};
use super::orders::{Order, error};
use super::process::{end, end_by_handle, spare, wait, while_starting};
use super::template::TemplateHandle;

/// A sandbox: a process that keeps its namespaces, and ends with this program. When it ends, the
/// kernel ends everything in the sandbox and waits for that.
pub(crate) struct SandboxHandle {
    id: i32,
    process: OwnedFd,
    spaces: libc::c_int,
    /// What may be shown there, which no one in the sandbox can reach.
    sources: OwnedFd,
    /// The list of its processes, where it has its own.
    processes: Option<OwnedFd>,
    /// Its folders for temporary files, as they were when they were made.
    temporary: Mutex<TemporaryFolders>,
    /// On which the process runs that keeps it.
    #[allow(dead_code)]
    stack: Vec<u128>,
}

impl SandboxHandle {
    /// A descriptor for the process that keeps it.
    pub fn process(&self) -> RawFd {
        self.process.as_raw_fd()
    }

    /// The namespaces that are its own, as flags of `clone`.
    pub fn spaces(&self) -> libc::c_int {
        self.spaces
    }

    /// A descriptor for the folder of what may be shown there.
    pub fn sources(&self) -> RawFd {
        self.sources.as_raw_fd()
    }

    pub fn temporary(&self) -> MutexGuard<'_, TemporaryFolders> {
        self.temporary.lock()
    }

    /// Has it end, without waiting for that: who drops it waits.
    pub fn begin_to_end(&self) {
        end(self.id);
    }

    /// Whether the process that keeps it is alive.
    pub fn is_kept(&self) -> bool {
        // SAFETY: asks for the state of a descriptor of ours.
        unsafe { !has_ended(self.process.as_raw_fd()) }
    }

    /// How many processes run in it besides the one that keeps it. Those that are about to end have
    /// a moment to do so.
    /// `None` where that cannot be known.
    pub fn running(&self) -> Option<usize> {
        const MOMENTS: u64 = 6;
        let mut count = None;
        for moment in 0..=MOMENTS {
            count = self.count();
            if matches!(count, None | Some(0)) || moment == MOMENTS {
                break;
            }
            std::thread::sleep(std::time::Duration::from_micros(200 << moment));
        }
        count
    }

    /// Whether a process has something at or below a path open or mapped, or is there; also where
    /// that cannot be known.
    pub fn holds(&self, path: &[u8]) -> bool {
        self.looks_held(path).unwrap_or(true)
    }

    fn looks_held(&self, path: &[u8]) -> Option<bool> {
        let processes = self.processes.as_ref()?;
        let flags = OFlags::RDONLY | OFlags::CLOEXEC;
        let names = |folder: &OwnedFd| {
            rustix::fs::seek(folder, rustix::fs::SeekFrom::Start(0)).ok()?;
            let all = rustix::fs::Dir::read_from(folder).ok()?.flatten();
            let names = all.map(|entry| entry.file_name().to_owned());
            Some(
                names
                    .filter(|name| name.to_bytes().iter().all(u8::is_ascii_digit))
                    .collect::<Vec<CString>>(),
            )
        };
        let is_at = |text: &[u8]| text.windows(path.len()).any(|part| part == path);
        for process in names(processes)? {
            if process.to_bytes() == b"1" {
                continue;
            }
            let Ok(own) = rustix::fs::openat(
                processes,
                &process,
                flags | OFlags::DIRECTORY,
                Mode::empty(),
            ) else {
                // It has ended.
                continue;
            };
            let mut maps = Vec::new();
            let opened = rustix::fs::openat(&own, c"maps", flags, Mode::empty()).ok()?;
            std::io::Read::read_to_end(&mut std::fs::File::from(opened), &mut maps).ok()?;
            let link = |folder: &OwnedFd, name: &CStr| {
                rustix::fs::readlinkat(folder, name, Vec::new())
                    .is_ok_and(|text| is_at(text.to_bytes()))
            };
            let open =
                rustix::fs::openat(&own, c"fd", flags | OFlags::DIRECTORY, Mode::empty()).ok()?;
            if is_at(&maps)
                || link(&own, c"cwd")
                || names(&open)?.iter().any(|name| link(&open, name))
            {
                return Some(true);
            }
        }
        Some(false)
    }

    fn count(&self) -> Option<usize> {
        let processes = self.processes.as_ref()?;
        let mut buffer = [std::mem::MaybeUninit::uninit(); 16 << 10];
        rustix::fs::seek(processes, rustix::fs::SeekFrom::Start(0)).ok()?;
        let mut entries = rustix::fs::RawDir::new(processes, &mut buffer);
        let mut count = 0;
        while let Some(entry) = entries.next() {
            let entry = entry.ok()?;
            let name = entry.file_name().to_bytes();
            count += usize::from(name.iter().all(u8::is_ascii_digit) && name != b"1");
        }
        Some(count)
    }
}

impl Drop for SandboxHandle {
    fn drop(&mut self) {
        end(self.id);
        wait(self.id);
        spare(self.id.unsigned_abs(), false);
    }
}

/// A sandbox's folders for temporary files. A caller that finds them as they were made need not
/// make them again.
#[derive(Default)]
pub(crate) struct TemporaryFolders {
    /// Of each, what would be another one if something had been done there.
    known: [[i64; 7]; TEMPORARY_FOLDERS.len()],
}

const TEMPORARY_FOLDERS: [&CStr; 4] = [c"/tmp", c"/tmp/own", c"/tmp/home", c"/tmp/shm"];

impl TemporaryFolders {
    /// Makes them again unless they are as they were. In a child: only system calls.
    ///
    /// # Safety
    /// Changes what this process sees; it must be one that was made for it.
    pub unsafe fn refresh(&mut self) -> bool {
        // SAFETY: as the caller vouches.
        unsafe {
            if self.look() == Some(true) {
                return true;
            }
            let options = c"mode=1777";
            let made = Order::Unmount {
                at: TEMPORARY_FOLDERS[0],
            }
            .carry_out()
                && Order::Memory {
                    at: TEMPORARY_FOLDERS[0],
                    options,
                }
                .carry_out()
                && TEMPORARY_FOLDERS[1..]
                    .iter()
                    .all(|at| Order::Folder { at }.carry_out());
            made && self.look().is_some()
        }
    }

    /// Whether they are as they were when this was asked last; `None` where one is not there.
    ///
    /// # Safety
    /// None of its own.
    unsafe fn look(&mut self) -> Option<bool> {
        let mut same = true;
        for (known, at) in self.known.iter_mut().zip(TEMPORARY_FOLDERS) {
            // SAFETY: a structure of numbers, for which zero is a value, and a nul-terminated path.
            let found = unsafe {
                let mut found: libc::stat = std::mem::zeroed();
                if libc::lstat(at.as_ptr(), &raw mut found) < 0 {
                    return None;
                }
                found
            };
            let now = [
                found.st_ino as i64,
                i64::from(found.st_mode),
                found.st_size,
                found.st_ctime,
                found.st_ctime_nsec,
                found.st_mtime,
                found.st_mtime_nsec,
            ];
            same &= *known == now;
            *known = now;
        }
        Some(same)
    }
}

const WAITING: u32 = 0;
const READY: u32 = 1;
const REFUSED: u32 = 2;

/// What a sandbox has of its own.
#[derive(Clone, Copy)]
pub(crate) struct HandleKind {
    pub own_processes: bool,
    pub own_memory: bool,
    /// Whether of the kernel's files only those of processes are seen.
    pub hides_kernel: bool,
}

impl HandleKind {
    /// The kernel's namespaces that processes of such a sandbox are in.
    fn spaces(self) -> libc::c_int {
        let mut spaces = libc::CLONE_NEWUSER | libc::CLONE_NEWNS | libc::CLONE_NEWUTS;
        if self.own_processes {
            spaces |= libc::CLONE_NEWPID;
        }
        if self.own_memory {
            spaces |= libc::CLONE_NEWIPC;
        }
        spaces
    }
}

struct NewSandbox<'a> {
    template: [RawFd; 2],
    /// What may be shown, and what covers it for those who are in the sandbox.
    covers: [&'a CStr; 2],
    name: &'a CStr,
    kind: HandleKind,
    stack: *mut libc::c_void,
    /// A descriptor for this program, by which its end is seen.
    program: RawFd,
    sources: RawFd,
    processes: RawFd,
    /// Written by the thread that keeps it.
    state: AtomicU32,
    id: i32,
    process: RawFd,
    error: i32,
}

/// Runs in a child: lays out a sandbox, starts who keeps it, and waits until that is ready. Only
/// system calls.
extern "C" fn lay_out_sandbox(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable, and so are those in it; this child was
    // made to be changed.
    unsafe {
        let pointer = new;
        let new = &mut *new.cast::<NewSandbox<'_>>();
        let [user, view] = new.template;
        let memory = if new.kind.own_memory {
            libc::CLONE_NEWIPC
        } else {
            0
        };
        let name = new.name.to_bytes();
        let [sources, nothing] = new.covers;
        let open = |path: &CStr, flags: libc::c_int| {
            libc::open(path.as_ptr(), flags | libc::O_DIRECTORY | libc::O_CLOEXEC)
        };
        if libc::setns(user, libc::CLONE_NEWUSER) < 0
            || libc::setns(view, libc::CLONE_NEWNS) < 0
            || libc::unshare(libc::CLONE_NEWNS | libc::CLONE_NEWUTS | memory) < 0
            || libc::sethostname(name.as_ptr().cast(), name.len()) < 0
        {
            new.error = error();
            libc::_exit(0)
        }
        new.sources = open(sources, libc::O_PATH);
        if new.sources < 0
            || !(Order::Show {
                from: nothing,
                at: sources,
                whole: false,
            }
            .carry_out())
        {
            new.error = error();
            libc::_exit(0)
        }
        let processes = if new.kind.own_processes {
            libc::CLONE_NEWPID
        } else {
            0
        };
        // A sibling, so that this program is its parent, with this program's descriptors: it keeps
        // none open.
        let flags = processes
            | libc::CLONE_VM
            | libc::CLONE_FILES
            | libc::CLONE_PARENT
            | libc::CLONE_PIDFD
            | libc::SIGCHLD;
        let process = &raw mut new.process;
        new.id = libc::clone(keep_sandbox, new.stack, flags, pointer, process);
        if new.id < 0 {
            new.error = error();
            libc::_exit(0)
        }
        wait_until_ready(new);
        if new.kind.own_processes && new.state.load(Ordering::Acquire) == READY {
            new.processes = open(c"/proc", libc::O_RDONLY);
        }
        libc::_exit(0)
    }
}

/// Waits in a child until who keeps a new sandbox is ready, or was killed and never will be. Only
/// system calls.
///
/// # Safety
/// `new.process` is an open descriptor of a process, or none.
unsafe fn wait_until_ready(new: &mut NewSandbox<'_>) {
    while new.state.load(Ordering::Acquire) == WAITING {
        let a_while = libc::timespec {
            tv_sec: 0,
            tv_nsec: 100_000_000,
        };
        let private_wait = libc::FUTEX_WAIT | libc::FUTEX_PRIVATE_FLAG;
        // SAFETY: the pointers are to live variables.
        unsafe {
            libc::syscall(
                libc::SYS_futex,
                new.state.as_ptr(),
                private_wait,
                WAITING,
                &raw const a_while,
            );
        }
        // SAFETY: the caller says what the descriptor is.
        if new.state.load(Ordering::Acquire) == WAITING && unsafe { has_ended(new.process) } {
            new.error = libc::ESRCH;
            break;
        }
    }
}

/// Whether a process has ended, by its descriptor. In a child.
///
/// # Safety
/// None of its own.
unsafe fn has_ended(process: RawFd) -> bool {
    let mut poll = libc::pollfd {
        fd: process,
        events: libc::POLLIN,
        revents: 0,
    };
    // SAFETY: one live structure.
    unsafe { libc::poll(&raw mut poll, 1, 0) == 1 }
}

/// Keeps a sandbox: the first process in it, to which all go whose parents have ended. It shares
/// memory and descriptors with this program for as long as it lives, on a stack of its own; once it
/// is ready it does nothing but wait for the end of the program, by a call that touches no variable
/// of the thread whose place it shares.
extern "C" fn keep_sandbox(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: until it is ready the parent waits, and its variables are live; afterwards none of
    // them is used.
    let program = unsafe {
        let new = &*new.cast::<NewSandbox<'_>>();
        let program = BorrowedFd::borrow_raw(new.program);
        // Processes that come to it need not be waited for.
        libc::signal(libc::SIGCHLD, libc::SIG_IGN);
        let flags = libc::MS_RDONLY | libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC;
        let proc = c"proc".as_ptr();
        // Only what belongs to a process: nothing of the machine and its settings.
        let options = if new.kind.hides_kernel {
            c"subset=pid".as_ptr().cast()
        } else {
            std::ptr::null()
        };
        let is_ready = !new.kind.own_processes
            || libc::mount(proc, c"/proc".as_ptr(), proc, flags, options) == 0;
        let (state, wake) = (
            new.state.as_ptr(),
            libc::FUTEX_WAKE | libc::FUTEX_PRIVATE_FLAG,
        );
        new.state
            .store(if is_ready { READY } else { REFUSED }, Ordering::Release);
        libc::syscall(libc::SYS_futex, state, wake, 1);
        program
    };
    loop {
        let mut wait = [PollFd::from_borrowed_fd(program, PollFlags::IN)];
        if rustix::event::poll(&mut wait, None).is_ok() && !wait[0].revents().is_empty() {
            // SAFETY: ends this process, and with it the sandbox.
            unsafe { libc::_exit(0) }
        }
    }
}

const KEEPER_STACK: usize = 64 << 10;

/// A descriptor for this program itself, which is never closed.
fn this_program() -> io::Result<RawFd> {
    static PROGRAM: OnceLock<Option<OwnedFd>> = OnceLock::new();
    let open = || rustix::process::pidfd_open(rustix::process::getpid(), PidfdFlags::empty()).ok();
    let program = PROGRAM.get_or_init(open).as_ref().map(AsRawFd::as_raw_fd);
    program.ok_or_else(|| io::Error::other("the kernel has no descriptors for processes"))
}

/// Makes a sandbox from the template, in which nothing is yet. What may be shown there is in the
/// first of the folders in `covers`; the second one covers it for those who are in the sandbox.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn found_sandbox(
    template: &TemplateHandle,
    covers: [&CStr; 2],
    name: &CStr,
    kind: HandleKind,
) -> io::Result<SandboxHandle> {
    let mut stack = vec![0u128; KEEPER_STACK / 16];
    let mut new = NewSandbox {
        template: [template.user().as_raw_fd(), template.view().as_raw_fd()],
        covers,
        name,
        kind,
        stack: stack.as_mut_ptr_range().end.cast(),
        program: this_program()?,
        sources: -1,
        processes: -1,
        state: AtomicU32::new(WAITING),
        id: -1,
        process: -1,
        error: 0,
    };
    while_starting(|| {
        run_child(lay_out_sandbox, libc::CLONE_FILES, (&raw mut new).cast())?;
        // It is no step's.
        spare(new.id.unsigned_abs(), true);
        io::Result::Ok(())
    })?;
    stay_visible();
    // SAFETY: the child opened them in the table of descriptors that both share; nothing else owns
    // them.
    let take = |fd: RawFd| (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd) });
    let (sources, processes, process) = (take(new.sources), take(new.processes), take(new.process));
    if let Some(process) = process.as_ref().filter(|_| new.id < 0) {
        // Who started it was killed before it said so; it uses memory that ends here.
        end_by_handle(process);
    }
    let (Some(sources), Some(process)) = (sources, process.filter(|_| new.id >= 0)) else {
        return Err(io::Error::from_raw_os_error(new.error));
    };
    let spaces = kind.spaces();
    let temporary = Mutex::default();
    let sandbox = SandboxHandle {
        id: new.id,
        process,
        spaces,
        sources,
        processes,
        temporary,
        stack,
    };
    match new.state.load(Ordering::Acquire) {
        READY => Ok(sandbox),
        // Dropping it ends who keeps it.
        _ => Err(io::Error::other(
            "the kernel does not show a sandbox's own processes",
        )),
    }
}
