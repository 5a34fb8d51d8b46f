//! What a new process does before it becomes its program. It shares memory with the thread that
//! starts it, which waits in the meantime: nothing here may allocate or panic.

use std::cell::Cell;
use std::os::fd::RawFd;

use super::RESTRICT_SELF;
use super::inherited::Inherited;
use super::orders::Order;
use super::supervise::{NEW_LISTENER, SET_FILTER};

/// What is to be done in a sandbox before the first process starts there, once.
pub(crate) struct SandboxSetup<'a> {
    pub orders: Vec<Order<'a>>,
    /// Whether it was done.
    pub done: Cell<bool>,
}

/// Where the start of a process failed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Point {
    /// Before the child ran, or while its files were set up.
    Setup,
    /// At putting into its sandbox what is to be there.
    Furnish,
    /// At entering its folder.
    Folder,
    /// At confining it.
    Confine,
    /// At opening the file for one of its standard streams.
    Redirect(usize),
    /// At starting the program.
    Program,
}

const POINT_SETUP: u32 = 1;
const POINT_FOLDER: u32 = 2;
const POINT_CONFINE: u32 = 3;
const POINT_PROGRAM: u32 = 4;
/// With the number of the stream.
const POINT_REDIRECT: u32 = 8;

pub(super) struct StartPlan {
    pub program: *const libc::c_char,
    pub words: *const *const libc::c_char,
    pub environment: *const *const libc::c_char,
    pub root: *const libc::c_char,
    pub folder: *const libc::c_char,
    /// -1: to be opened.
    pub given: [RawFd; 3],
    pub opened: [*const libc::c_char; 3],
    pub open_flags: [libc::c_int; 3],
    /// -1: stays where it is.
    pub group: i32,
    pub rules: RawFd,
    pub drops_privileges: bool,
    pub confines: bool,
    pub filter: libc::sock_fprog,
    /// -1: nowhere else.
    pub apart: [RawFd; 2],
    pub supervising: libc::sock_fprog,
    /// -1: no one supervises.
    pub supervisor: RawFd,
    /// What of the parent is not to be seen; nothing where it was shed before, or may be seen.
    pub inherited: Option<Inherited>,
    /// 0: it cannot be seen from there.
    pub parent: i32,
    /// Written by the child: its number where it is.
    pub local: i32,
    /// Written by the child when something fails: the error, and at which point.
    pub error: i32,
    pub point: u32,
}

/// Runs in the child, which shares memory with the (stopped) parent thread until `execve`: only
/// system calls, no allocation, no panic.
pub(super) extern "C" fn child(inside: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live `StartPlan`; the parent thread waits until this
    // process execs or exits. All pointers in it are to live, nul-terminated data.
    unsafe {
        let inside = &mut *inside.cast::<StartPlan>();
        inside.point = POINT_SETUP;
        if !become_ready(inside) {
            inside.error = *libc::__errno_location();
            libc::_exit(127)
        }
        inside.point = POINT_PROGRAM;
        libc::execve(inside.program, inside.words, inside.environment);
        inside.error = *libc::__errno_location();
        libc::_exit(127)
    }
}

/// Everything up to the program. `false` where something failed, and `errno` says what.
///
/// # Safety
/// As for [`child`].
unsafe fn become_ready(inside: &mut StartPlan) -> bool {
    // SAFETY: as for `child`; all else are system calls on variables of this function.
    unsafe {
        if !part_from_parent(inside) {
            return false;
        }
        inside.point = POINT_FOLDER;
        if libc::chdir(inside.root) < 0 {
            return false;
        }
        libc::umask(0o022);
        inside.point = POINT_CONFINE;
        if inside.confines {
            libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
        }
        if inside.drops_privileges {
            drop_privileges();
        }
        if inside.rules >= 0 && libc::syscall(RESTRICT_SELF, inside.rules, 0u32) < 0 {
            return false;
        }
        // What an earlier command left in their places leads no further than the command itself
        // could go.
        for stream in 0..3 {
            if inside.given[stream] < 0 {
                inside.point = POINT_REDIRECT + stream as u32;
                if !redirect(
                    inside.opened[stream],
                    inside.open_flags[stream],
                    stream as i32,
                ) {
                    return false;
                }
            }
        }
        inside.point = POINT_FOLDER;
        if libc::chdir(inside.folder) < 0 {
            return false;
        }
        inside.point = POINT_CONFINE;
        if inside.filter.len > 0
            && libc::prctl(libc::PR_SET_SECCOMP, 2, &raw const inside.filter, 0, 0) < 0
        {
            return false;
        }
        inside.supervisor < 0 || hand_over(&raw const inside.supervising, inside.supervisor)
    }
}

/// What comes before the child has a folder and is confined: its group and namespaces, its end with
/// its parent's, its signals, and what it has open. `false` where something failed, and `errno`
/// says what.
///
/// # Safety
/// As for [`child`].
unsafe fn part_from_parent(inside: &mut StartPlan) -> bool {
    // SAFETY: as for `child`; all else are system calls on variables of this function.
    unsafe {
        if inside.group >= 0 {
            libc::setpgid(0, inside.group);
        }
        inside.local = libc::getpid();
        if let Some(inherited) = &inside.inherited {
            inherited.shed();
        }
        if inside.apart[0] >= 0 && libc::setns(inside.apart[0], libc::CLONE_NEWUSER) < 0 {
            return false;
        }
        if inside.apart[1] >= 0 && libc::setns(inside.apart[1], libc::CLONE_NEWNET) < 0 {
            return false;
        }
        // Ends with the program that started it. Entering another user's space would undo that, so
        // it comes after.
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
        if inside.parent > 0 && libc::getppid() != inside.parent {
            return false;
        }
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
        let mut none: libc::sigset_t = std::mem::zeroed();
        libc::sigemptyset(&mut none);
        libc::sigprocmask(libc::SIG_SETMASK, &none, std::ptr::null_mut());
        for (target, source) in inside.given.iter().enumerate() {
            if *source >= 0 && libc::dup2(*source, target as i32) < 0 {
                return false;
            }
        }
        // Whatever else is open in this program, or was open in the one that started it, ends here.
        if libc::syscall(libc::SYS_close_range, 3u32, u32::MAX, CLOSE_RANGE_CLOEXEC) < 0 {
            close_on_exec_one_by_one();
        }
        true
    }
}

const CLOSE_RANGE_CLOEXEC: u32 = 1 << 2;

/// For kernels without the call for all of them. In the child: only system calls.
///
/// # Safety
/// None of its own; changes descriptors of this process only.
unsafe fn close_on_exec_one_by_one() {
    for descriptor in 3..4096 {
        // SAFETY: sets a flag of a descriptor; one that is not open is no harm.
        unsafe { libc::fcntl(descriptor, libc::F_SETFD, libc::FD_CLOEXEC) };
    }
}

/// Opens a file as a standard stream: only a file, or a device that never waits and has nothing to
/// tell. In the child: only system calls.
///
/// # Safety
/// `path` is nul-terminated.
unsafe fn redirect(path: *const libc::c_char, flags: libc::c_int, stream: libc::c_int) -> bool {
    // SAFETY: as the caller vouches; all else are system calls on variables of this function.
    unsafe {
        // Without waiting: no one may ever open the other end of a pipe.
        let opened = libc::open(
            path,
            flags | libc::O_NONBLOCK | libc::O_NOCTTY | libc::O_CLOEXEC,
            0o644,
        );
        if opened < 0 {
            return false;
        }
        let mut found: libc::stat = std::mem::zeroed();
        if libc::fstat(opened, &raw mut found) < 0 {
            return false;
        }
        let kind = found.st_mode & libc::S_IFMT;
        if kind != libc::S_IFREG && kind != libc::S_IFCHR {
            *libc::__errno_location() = libc::EINVAL;
            return false;
        }
        let set = libc::fcntl(opened, libc::F_GETFL);
        libc::fcntl(opened, libc::F_SETFL, set & !libc::O_NONBLOCK);
        libc::dup2(opened, stream) >= 0
    }
}

/// What a confined process of the superuser keeps of its privileges, by the numbers of
/// `linux/capability.h`: owners of files and access to them (0 to 3), for builds in containers
/// whose only user that is. Others would let it look into processes outside its box, change the
/// machine, or leave something that gives privileges to the user who runs it.
const KEPT_PRIVILEGES: u64 = 0b1111;

/// Gives up privileges for good. Without any (a user who is not the superuser) nothing happens. In
/// the child:
/// only system calls.
///
/// # Safety
/// None of its own; changes this process only.
pub(super) unsafe fn drop_privileges() {
    for number in 0..64 {
        let keeps = KEPT_PRIVILEGES >> number & 1 == 1;
        // SAFETY: sets a flag of this process; an error tells that there are no more privileges, or
        // none to be given up.
        if !keeps
            && unsafe { libc::prctl(libc::PR_CAPBSET_DROP, number as libc::c_ulong, 0, 0, 0) } < 0
        {
            return;
        }
    }
}

/// Puts this process under a supervisor, and sends it the end on which it hears of calls. In the
/// child: only system calls.
///
/// # Safety
/// `filter` points to a live program of system-call filter.
unsafe fn hand_over(filter: *const libc::sock_fprog, socket: RawFd) -> bool {
    // SAFETY: all pointers are to this function's own variables or to what the caller vouches for.
    // The control message's buffer is aligned and large enough for one descriptor.
    unsafe {
        let listener = libc::syscall(libc::SYS_seccomp, SET_FILTER, NEW_LISTENER, filter) as RawFd;
        if listener < 0 {
            return false;
        }
        let mut byte = 0u8;
        let mut text = libc::iovec {
            iov_base: (&raw mut byte).cast(),
            iov_len: 1,
        };
        let mut control = [0u64; 4];
        let mut message: libc::msghdr = std::mem::zeroed();
        message.msg_iov = &raw mut text;
        message.msg_iovlen = 1;
        message.msg_control = control.as_mut_ptr().cast();
        message.msg_controllen = libc::CMSG_SPACE(4) as _;
        let header = libc::CMSG_FIRSTHDR(&raw const message);
        (*header).cmsg_level = libc::SOL_SOCKET;
        (*header).cmsg_type = libc::SCM_RIGHTS;
        (*header).cmsg_len = libc::CMSG_LEN(4) as _;
        libc::CMSG_DATA(header)
            .cast::<RawFd>()
            .write_unaligned(listener);
        let sent = libc::sendmsg(socket, &raw const message, libc::MSG_NOSIGNAL) == 1;
        libc::close(listener);
        sent
    }
}

/// Where a child failed, by the number that it wrote.
pub(super) fn point_of(number: u32) -> Point {
    match number {
        POINT_FOLDER => Point::Folder,
        POINT_CONFINE => Point::Confine,
        POINT_PROGRAM => Point::Program,
        stream @ POINT_REDIRECT.. => Point::Redirect((stream - POINT_REDIRECT) as usize),
        _ => Point::Setup,
    }
}
