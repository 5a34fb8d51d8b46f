//! Calls into the kernel that have no safe wrapper: path rules, the system-call filter, and a
//! vfork-class start of a process.

#![allow(unsafe_code)]

use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

// Path rules (Landlock), from the kernel's user-space interface `linux/landlock.h`.

const CREATE_RULESET: libc::c_long = 444;
const ADD_RULE: libc::c_long = 445;
const RESTRICT_SELF: libc::c_long = 446;

#[repr(C)]
struct RulesetAttributes {
    handled_access_fs: u64,
    handled_access_net: u64,
    scoped: u64,
}

#[repr(C, packed)]
struct PathBeneath {
    allowed_access: u64,
    parent_fd: i32,
}

fn result(value: libc::c_long) -> io::Result<libc::c_long> {
    if value < 0 { Err(io::Error::last_os_error()) } else { Ok(value) }
}

/// The version of path rules that the kernel offers; `None` where it offers none.
pub(crate) fn path_rules_version() -> Option<u32> {
    // SAFETY: with a null pointer, size 0 and flag 1 the call only reports the version.
    let version = unsafe { libc::syscall(CREATE_RULESET, std::ptr::null::<u8>(), 0usize, 1u32) };
    u32::try_from(version).ok().filter(|v| *v > 0)
}

/// A new set of path rules that refuses all of `handled` access, and (`signals` aside) scopes of version 6.
pub(crate) fn create_rules(handled: u64, version: u32, signals: bool) -> io::Result<OwnedFd> {
    // Abstract sockets (1) and signals (2) to processes outside stay outside, where the kernel knows them.
    let scoped = match (version >= 6, signals) {
        (false, _) => 0,
        (true, false) => 3,
        (true, true) => 1,
    };
    let attributes = RulesetAttributes { handled_access_fs: handled, handled_access_net: 0, scoped };
    let size = match version {
        0..=3 => 8usize,
        4..=5 => 16,
        _ => 24,
    };
    // SAFETY: the pointer and size describe a live, initialised structure.
    let fd = result(unsafe { libc::syscall(CREATE_RULESET, &raw const attributes, size, 0u32) })?;
    // SAFETY: the call gave a new descriptor that nothing else owns.
    Ok(unsafe { OwnedFd::from_raw_fd(fd as RawFd) })
}

/// Allows `access` at and below what `place` is open on.
pub(crate) fn allow_below(rules: BorrowedFd<'_>, place: BorrowedFd<'_>, access: u64) -> io::Result<()> {
    let rule = PathBeneath { allowed_access: access, parent_fd: place.as_raw_fd() };
    // SAFETY: both descriptors are open, and the pointer is to a live structure of rule type 1.
    let value = unsafe { libc::syscall(ADD_RULE, rules.as_raw_fd(), 1u32, &raw const rule, 0u32) };
    result(value).map(drop)
}

// The network filter (seccomp), as classic BPF over `struct seccomp_data`.

const LOAD_WORD: u16 = 0x20;
const JUMP_EQUAL: u16 = 0x15;
const JUMP_AT_LEAST: u16 = 0x35;
const RETURN: u16 = 0x06;
const ALLOW: u32 = 0x7fff_0000;
const REFUSE: u32 = 0x0005_0000 | libc::EACCES as u32;
const OFFSET_NUMBER: u32 = 0;
const OFFSET_ARCHITECTURE: u32 = 4;
const OFFSET_FIRST_ARGUMENT: u32 = 16;

#[cfg(target_arch = "x86_64")]
const ARCHITECTURE: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const ARCHITECTURE: u32 = 0xc000_00b7;
#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const ARCHITECTURE: u32 = 0;

const fn statement(code: u16, value: u32) -> libc::sock_filter {
    libc::sock_filter { code, jt: 0, jf: 0, k: value }
}

const fn if_equal(value: u32, then: u8, otherwise: u8) -> libc::sock_filter {
    libc::sock_filter { code: JUMP_EQUAL, jt: then, jf: otherwise, k: value }
}

/// Refuses new sockets (pairs of connected ones stay) and the ring interface that goes round
/// system-call filters. Calls of a foreign architecture are refused whole.
static NETWORK_FILTER: [libc::sock_filter; 9] = [
    statement(LOAD_WORD, OFFSET_ARCHITECTURE),
    if_equal(ARCHITECTURE, 0, 5),
    statement(LOAD_WORD, OFFSET_NUMBER),
    // Numbers from here on belong to a second set of the same calls.
    libc::sock_filter { code: JUMP_AT_LEAST, jt: 3, jf: 0, k: 0x4000_0000 },
    if_equal(libc::SYS_socket as u32, 2, 0),
    if_equal(libc::SYS_io_uring_setup as u32, 1, 0),
    statement(RETURN, ALLOW),
    statement(RETURN, REFUSE),
    statement(RETURN, REFUSE),
];

/// Lets only sockets of the internet's families be made (2, 10) and those that ask the kernel for its own
/// addresses (16), for processes whose network is one of their own: others would lead out of it by a path.
static OWN_NETWORK_FILTER: [libc::sock_filter; 12] = [
    statement(LOAD_WORD, OFFSET_ARCHITECTURE),
    if_equal(ARCHITECTURE, 0, 9),
    statement(LOAD_WORD, OFFSET_NUMBER),
    libc::sock_filter { code: JUMP_AT_LEAST, jt: 7, jf: 0, k: 0x4000_0000 },
    if_equal(libc::SYS_io_uring_setup as u32, 6, 0),
    if_equal(libc::SYS_socket as u32, 0, 4),
    statement(LOAD_WORD, OFFSET_FIRST_ARGUMENT),
    if_equal(libc::AF_INET as u32, 2, 0),
    if_equal(libc::AF_INET6 as u32, 1, 0),
    if_equal(libc::AF_NETLINK as u32, 0, 1),
    statement(RETURN, ALLOW),
    statement(RETURN, REFUSE),
];

/// Whether the system-call filter is known for this architecture and the kernel has it.
pub(crate) fn network_filter_works() -> bool {
    // SAFETY: asks whether an action is available; reads one word.
    let available = unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const REFUSE_ACTION) };
    ARCHITECTURE != 0 && available == 0
}

static REFUSE_ACTION: u32 = 0x0005_0000;

// Watching system calls: a filter that hands some of them to a supervisor before they are done.

const HAND_OVER: u32 = 0x7fc0_0000;

/// Whether the kernel can hand system calls to a supervisor.
pub(crate) fn supervision_works() -> bool {
    // SAFETY: asks whether an action is available; reads one word.
    let available = unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const HAND_OVER_ACTION) };
    ARCHITECTURE != 0 && available == 0
}

static HAND_OVER_ACTION: u32 = HAND_OVER;

/// A filter that hands the calls with these numbers to a supervisor and lets all others pass.
/// `refused` are refused at once.
pub(crate) fn supervising_filter(handed_over: &[i64], refused: &[i64]) -> Vec<libc::sock_filter> {
    let rest = handed_over.len() + refused.len();
    debug_assert!(rest < 250, "jumps are bytes");
    let mut filter = vec![
        statement(LOAD_WORD, OFFSET_ARCHITECTURE),
        if_equal(ARCHITECTURE, 0, (rest + 4) as u8),
        statement(LOAD_WORD, OFFSET_NUMBER),
        libc::sock_filter { code: JUMP_AT_LEAST, jt: (rest + 2) as u8, jf: 0, k: 0x4000_0000 },
    ];
    for (i, number) in handed_over.iter().enumerate() {
        filter.push(if_equal(*number as u32, (rest - i) as u8, 0));
    }
    for (i, number) in refused.iter().enumerate() {
        filter.push(if_equal(*number as u32, (refused.len() - i + 1) as u8, 0));
    }
    filter.extend([statement(RETURN, ALLOW), statement(RETURN, HAND_OVER), statement(RETURN, REFUSE)]);
    filter
}

/// A system call that a process wants to do and waits with.
#[derive(Clone, Copy)]
pub(crate) struct WantedCall {
    id: u64,
    /// The thread that wants it.
    pub thread: u32,
    /// The call's number.
    pub number: i64,
    /// Its arguments.
    pub arguments: [u64; 6],
}

/// The next call that waits. `None` when the one that waited is gone, or all processes are.
pub(crate) fn next_call(listener: BorrowedFd<'_>) -> Option<WantedCall> {
    // SAFETY: a structure of numbers, for which zero is a value; the kernel wants it so.
    let mut call: libc::seccomp_notif = unsafe { std::mem::zeroed() };
    // SAFETY: the pointer is to a live structure of the size that the request's number says.
    let done = unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_RECV, &raw mut call) };
    (done == 0).then_some(WantedCall {
        id: call.id,
        thread: call.pid,
        number: i64::from(call.data.nr),
        arguments: call.data.args,
    })
}

/// Lets a call be done (0), or refuses it with an error's number.
pub(crate) fn answer_call(listener: BorrowedFd<'_>, call: WantedCall, error: i32) {
    const GO_ON: u32 = 1;
    let flags = if error == 0 { GO_ON } else { 0 };
    let mut answer = libc::seccomp_notif_resp { id: call.id, val: 0, error: -error, flags };
    // SAFETY: the pointer is to a live structure of the size that the request's number says. That the one
    // who waited may be gone is no harm.
    unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_SEND, &raw mut answer) };
}

// Starting a process.

thread_local! {
    /// Whether this thread gave up network and privileges, so that what it starts has neither.
    static HAS_GIVEN_UP: std::cell::Cell<bool> = const { std::cell::Cell::new(false) };
}

/// Gives up new sockets and the superuser's privileges over the machine for this thread and everything that it
/// starts, for good: a confined process then need not be told so each time. Whether that worked; if not, the
/// thread only cannot gain privileges by starting a program, which no confined process may.
pub fn give_up_network() -> bool {
    let program =
        libc::sock_fprog { len: NETWORK_FILTER.len() as u16, filter: NETWORK_FILTER.as_ptr().cast_mut() };
    // SAFETY: the calls change this thread only. The filter is a live program, which the kernel copies.
    let works = unsafe {
        libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0
            && libc::prctl(libc::PR_SET_SECCOMP, 2, &raw const program, 0, 0) == 0
    };
    if works {
        // SAFETY: needs nothing; changes what this thread's children may have.
        unsafe { drop_privileges() };
        HAS_GIVEN_UP.set(true);
    }
    works
}

/// Everything that a new process needs, made before it is started.
pub(crate) struct Start<'a> {
    pub program: &'a CString,
    pub words: &'a [CString],
    pub environment: &'a [CString],
    pub folder: &'a CString,
    pub stdin: RawFd,
    pub stdout: RawFd,
    pub stderr: RawFd,
    /// The process group to join; 0 for a new one, `None` to stay in this program's.
    pub group: Option<i32>,
    pub rules: Option<RawFd>,
    pub filter_network: bool,
    /// Who they are, and a network of their own if there is one.
    pub apart: Option<(RawFd, Option<RawFd>)>,
    /// A filter that hands calls to a supervisor, and the socket on which the supervisor gets its end.
    pub supervised: Option<(&'a [libc::sock_filter], RawFd)>,
}

struct Inside {
    program: *const libc::c_char,
    words: *const *const libc::c_char,
    environment: *const *const libc::c_char,
    folder: *const libc::c_char,
    descriptors: [RawFd; 3],
    /// -1: stays where it is.
    group: i32,
    rules: RawFd,
    drops_privileges: bool,
    network_filter: Option<&'static [libc::sock_filter]>,
    /// -1: nowhere else.
    apart: [RawFd; 2],
    supervising: libc::sock_fprog,
    /// -1: nobody supervises.
    supervisor: RawFd,
    parent: i32,
    /// Written by the child when something fails: the error, and at which point.
    error: i32,
    point: u32,
}

const STACK: usize = 64 << 10;

thread_local! {
    /// A stack for the next child of this thread: fresh memory for each would cost more than the rest.
    static STACKS: std::cell::Cell<Option<Vec<u128>>> = const { std::cell::Cell::new(None) };
}

/// Runs in the child, which shares memory with the (stopped) parent thread until `execve`: only
/// system calls, no allocation, no panic.
extern "C" fn child(inside: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live `Inside`; the parent thread waits until this
    // process execs or exits. All pointers in it are to live, nul-terminated data.
    unsafe {
        let inside = &mut *inside.cast::<Inside>();
        inside.point = 1;
        let failed = 'failed: {
            if inside.group >= 0 {
                libc::setpgid(0, inside.group);
            }
            if inside.apart[0] >= 0 && libc::setns(inside.apart[0], libc::CLONE_NEWUSER) < 0 {
                break 'failed true;
            }
            if inside.apart[1] >= 0 && libc::setns(inside.apart[1], libc::CLONE_NEWNET) < 0 {
                break 'failed true;
            }
            // Ends with the program that started it. Being somebody else would undo that, so it comes after.
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            if libc::getppid() != inside.parent {
                break 'failed true;
            }
            libc::signal(libc::SIGPIPE, libc::SIG_DFL);
            let mut none: libc::sigset_t = std::mem::zeroed();
            libc::sigemptyset(&mut none);
            libc::sigprocmask(libc::SIG_SETMASK, &none, std::ptr::null_mut());
            for (target, source) in inside.descriptors.iter().enumerate() {
                if libc::dup2(*source, target as i32) < 0 {
                    break 'failed true;
                }
            }
            inside.point = 2;
            if libc::chdir(inside.folder) < 0 {
                break 'failed true;
            }
            libc::umask(0o022);
            inside.point = 3;
            if inside.rules >= 0 || inside.network_filter.is_some() || inside.supervisor >= 0 {
                libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
            }
            if inside.drops_privileges {
                drop_privileges();
            }
            if inside.rules >= 0 && libc::syscall(RESTRICT_SELF, inside.rules, 0u32) < 0 {
                break 'failed true;
            }
            if let Some(filter) = inside.network_filter {
                let program =
                    libc::sock_fprog { len: filter.len() as u16, filter: filter.as_ptr().cast_mut() };
                if libc::prctl(libc::PR_SET_SECCOMP, 2, &raw const program, 0, 0) < 0 {
                    break 'failed true;
                }
            }
            if inside.supervisor >= 0 && !hand_over(&raw const inside.supervising, inside.supervisor) {
                break 'failed true;
            }
            inside.point = 4;
            libc::execve(inside.program, inside.words, inside.environment);
            true
        };
        if failed {
            inside.error = *libc::__errno_location();
        }
        libc::_exit(127)
    }
}

/// What a confined process of the superuser keeps of its privileges, by the numbers of `linux/capability.h`:
/// owners and modes of files (0 to 4), other users (6, 7) and privileges of files (31). Others would let it
/// look into processes outside its box, or change the machine.
const KEPT_PRIVILEGES: u64 = 0b1101_1111 | 1 << 31;

/// Gives up privileges for good. Without any (whoever is not the superuser) nothing happens. In the child:
/// only system calls.
///
/// # Safety
/// None of its own; changes this process only.
unsafe fn drop_privileges() {
    for number in 0..64 {
        let keeps = KEPT_PRIVILEGES >> number & 1 == 1;
        // SAFETY: sets a flag of this process; an error tells that there are no more privileges, or none to
        // be given up.
        if !keeps && unsafe { libc::prctl(libc::PR_CAPBSET_DROP, number as libc::c_ulong, 0, 0, 0) } < 0 {
            return;
        }
    }
}

/// Puts this process under a supervisor, and sends it the end on which it hears of calls. In the child: only
/// system calls.
///
/// # Safety
/// `filter` points to a live program of system-call filter.
unsafe fn hand_over(filter: *const libc::sock_fprog, socket: RawFd) -> bool {
    const SET_FILTER: u32 = 1;
    const NEW_LISTENER: u32 = 1 << 3;
    // SAFETY: all pointers are to this function's own variables or to what the caller vouches for. The
    // control message's buffer is aligned and large enough for one descriptor.
    unsafe {
        let listener = libc::syscall(libc::SYS_seccomp, SET_FILTER, NEW_LISTENER, filter) as RawFd;
        if listener < 0 {
            return false;
        }
        let mut byte = 0u8;
        let mut text = libc::iovec { iov_base: (&raw mut byte).cast(), iov_len: 1 };
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
        libc::CMSG_DATA(header).cast::<RawFd>().write_unaligned(listener);
        let sent = libc::sendmsg(socket, &raw const message, libc::MSG_NOSIGNAL) == 1;
        libc::close(listener);
        sent
    }
}

/// Where the start of a process failed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Point {
    /// Before the child ran, or while its files were set up.
    Setup,
    /// At entering its folder.
    Folder,
    /// At confining it.
    Confine,
    /// At starting the program.
    Program,
}

/// Starts a process: its id and a descriptor for it.
pub(crate) fn start(start: &Start<'_>) -> Result<(i32, OwnedFd), (Point, io::Error)> {
    let inherits = HAS_GIVEN_UP.get();
    if inherits && (!start.filter_network || start.apart.is_some()) {
        return Err((Point::Confine, io::Error::other("this thread has given up the network")));
    }
    let pointers = |list: &[CString]| -> Vec<*const libc::c_char> {
        list.iter().map(|c| c.as_ptr()).chain([std::ptr::null()]).collect()
    };
    let (words, environment) = (pointers(start.words), pointers(start.environment));
    // The descriptors 0 to 2 are replaced one by one in the child: a source among them would be lost.
    debug_assert!([start.stdin, start.stdout, start.stderr].iter().all(|fd| *fd > 2));
    let mut inside = Inside {
        program: start.program.as_ptr(),
        words: words.as_ptr(),
        environment: environment.as_ptr(),
        folder: start.folder.as_ptr(),
        descriptors: [start.stdin, start.stdout, start.stderr],
        group: start.group.unwrap_or(-1),
        rules: start.rules.unwrap_or(-1),
        drops_privileges: start.rules.is_some() && !inherits,
        network_filter: match start.apart {
            _ if !start.filter_network || inherits => None,
            Some((_, Some(_))) => Some(&OWN_NETWORK_FILTER),
            _ => Some(&NETWORK_FILTER),
        },
        apart: start.apart.map_or([-1, -1], |(user, network)| [user, network.unwrap_or(-1)]),
        supervising: libc::sock_fprog {
            len: start.supervised.map_or(0, |(filter, _)| filter.len() as u16),
            filter: start.supervised.map_or(std::ptr::null_mut(), |(filter, _)| filter.as_ptr().cast_mut()),
        },
        supervisor: start.supervised.map_or(-1, |(_, socket)| socket),
        parent: std::process::id() as i32,
        error: 0,
        point: 0,
    };
    let mut stack = STACKS.take().unwrap_or_else(|| vec![0u128; STACK / 16]);
    let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::CLONE_PIDFD | libc::SIGCHLD;
    let mut process_fd: libc::c_int = -1;
    // SAFETY: the child runs `child` on a stack of its own, aligned to 16 bytes, of which `as_mut_ptr_range`
    // gives the upper end. CLONE_VFORK stops this thread until the child execs or exits, so
    // everything that `inside` points to outlives the child's use of it. Signals that arrive in the
    // child meanwhile are blocked.
    let id = unsafe {
        let mut all: libc::sigset_t = std::mem::zeroed();
        let mut before: libc::sigset_t = std::mem::zeroed();
        libc::sigfillset(&mut all);
        libc::pthread_sigmask(libc::SIG_SETMASK, &all, &mut before);
        let top = stack.as_mut_ptr_range().end;
        let id = libc::clone(child, top.cast(), flags, (&raw mut inside).cast(), &raw mut process_fd);
        let error = io::Error::last_os_error();
        libc::pthread_sigmask(libc::SIG_SETMASK, &before, std::ptr::null_mut());
        if id < 0 {
            return Err((Point::Setup, error));
        }
        id
    };
    STACKS.set(Some(stack));
    if start.apart.is_some() {
        // Becoming somebody else made the shared memory one that its owner may not look into.
        // SAFETY: sets a flag of this process, to what it is from the start.
        unsafe { libc::prctl(libc::PR_SET_DUMPABLE, 1, 0, 0, 0) };
    }
    // SAFETY: CLONE_PIDFD gave a new descriptor that nothing else owns.
    let process = unsafe { OwnedFd::from_raw_fd(process_fd) };
    if inside.error != 0 {
        wait(id);
        let point = match inside.point {
            2 => Point::Folder,
            3 => Point::Confine,
            4 => Point::Program,
            _ => Point::Setup,
        };
        return Err((point, io::Error::from_raw_os_error(inside.error)));
    }
    Ok((id, process))
}

// Being apart: another user, who has no privileges, and a network of one's own.

struct Holder {
    network: bool,
    ends: [RawFd; 2],
}

/// Runs in a copy of this process that is apart already: makes its network usable and waits until the other end
/// of a pipe is closed. Only system calls.
extern "C" fn hold(holder: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to this copy of the parent's `Holder`; all else are system calls on variables of
    // this function.
    unsafe {
        let holder = &*holder.cast::<Holder>();
        libc::close(holder.ends[1]);
        let mut code = 0;
        if holder.network {
            let mut request: libc::ifreq = std::mem::zeroed();
            request.ifr_name[0] = b'l' as libc::c_char;
            request.ifr_name[1] = b'o' as libc::c_char;
            request.ifr_ifru.ifru_flags = libc::IFF_UP as libc::c_short;
            let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM | libc::SOCK_CLOEXEC, 0);
            code = i32::from(libc::ioctl(socket, libc::SIOCSIFFLAGS, &raw const request) < 0);
        }
        let mut byte = 0u8;
        libc::read(holder.ends[0], (&raw mut byte).cast(), 1);
        libc::_exit(code)
    }
}

/// Makes a user without privileges, and with `network` a network in which only its own processes are: handles
/// that keep both alive. Whoever is not the superuser stays who they are; the superuser becomes nobody.
pub(crate) fn new_apart(network: bool) -> io::Result<(OwnedFd, Option<OwnedFd>)> {
    /// The number of `nobody`, nearly everywhere.
    const NOBODY: u32 = 65534;
    let (reading, writing) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
    let mut holder = Holder { network, ends: [reading.as_raw_fd(), writing.as_raw_fd()] };
    let mut stack = vec![0u128; STACK / 16];
    let flags = libc::CLONE_NEWUSER | if network { libc::CLONE_NEWNET } else { 0 } | libc::SIGCHLD;
    // SAFETY: the child is a copy of this process, on a stack of its own, and does system calls only.
    let id =
        unsafe { libc::clone(hold, stack.as_mut_ptr_range().end.cast(), flags, (&raw mut holder).cast()) };
    if id < 0 {
        return Err(io::Error::last_os_error());
    }
    let own = |name: &str| format!("/proc/{id}/{name}");
    let inside = |number: u32| if number == 0 { NOBODY } else { number };
    let (user, group) = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
    let made = std::fs::write(own("setgroups"), "deny")
        .and_then(|()| std::fs::write(own("uid_map"), format!("{} {user} 1", inside(user))))
        .and_then(|()| std::fs::write(own("gid_map"), format!("{} {group} 1", inside(group))))
        .and_then(|()| {
            let open = |name: &str| std::fs::File::open(own(name)).map(OwnedFd::from);
            Ok((open("ns/user")?, if network { Some(open("ns/net")?) } else { None }))
        });
    drop(writing);
    match wait(id) {
        Exit::Code(0) => made,
        _ => Err(io::Error::other("the kernel does not let the new network be used")),
    }
}

struct SocketWanted {
    apart: [RawFd; 2],
    socket: RawFd,
    error: i32,
}

/// Runs in a child that shares memory and descriptors with the parent thread, which waits. Only system calls.
extern "C" fn make_socket(wanted: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable.
    unsafe {
        let wanted = &mut *wanted.cast::<SocketWanted>();
        if libc::setns(wanted.apart[0], libc::CLONE_NEWUSER) == 0
            && libc::setns(wanted.apart[1], libc::CLONE_NEWNET) == 0
        {
            let kind = libc::SOCK_STREAM | libc::SOCK_CLOEXEC | libc::SOCK_NONBLOCK;
            wanted.socket = libc::socket(libc::AF_INET, kind, 0);
        }
        wanted.error = *libc::__errno_location();
        libc::_exit(0)
    }
}

/// A socket of a network apart, which does not block. A socket belongs to the network that it was made in.
pub(crate) fn socket_apart(user: BorrowedFd<'_>, network: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    let mut wanted = SocketWanted { apart: [user.as_raw_fd(), network.as_raw_fd()], socket: -1, error: 0 };
    let mut stack = vec![0u128; STACK / 16];
    let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::CLONE_FILES | libc::SIGCHLD;
    // SAFETY: as in `start`: this thread waits until the child has ended.
    let id = unsafe {
        libc::clone(make_socket, stack.as_mut_ptr_range().end.cast(), flags, (&raw mut wanted).cast())
    };
    if id < 0 {
        return Err(io::Error::last_os_error());
    }
    wait(id);
    // SAFETY: sets a flag of this process, to what it is from the start.
    unsafe { libc::prctl(libc::PR_SET_DUMPABLE, 1, 0, 0, 0) };
    if wanted.socket < 0 {
        return Err(io::Error::from_raw_os_error(wanted.error));
    }
    // SAFETY: the child made it in the table of descriptors that both share; nothing else owns it.
    Ok(unsafe { OwnedFd::from_raw_fd(wanted.socket) })
}

/// How a process ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Exit {
    Code(i32),
    Signal(i32),
}

/// Waits for a process of ours, and takes note of its end.
pub(crate) fn wait(id: i32) -> Exit {
    let mut status = 0;
    loop {
        // SAFETY: writes one word.
        let ended = unsafe { libc::waitpid(id, &raw mut status, 0) };
        if ended == id {
            return match libc::WIFSIGNALED(status) {
                true => Exit::Signal(libc::WTERMSIG(status)),
                false => Exit::Code(libc::WEXITSTATUS(status)),
            };
        }
        if io::Error::last_os_error().kind() != io::ErrorKind::Interrupted {
            return Exit::Code(127);
        }
    }
}

/// Ends a process group at once.
pub(crate) fn kill_group(group: i32) {
    // SAFETY: sends a signal; a group that is gone is no harm.
    unsafe { libc::killpg(group, libc::SIGKILL) };
}

/// Asks a process group of ours to end.
pub(crate) fn ask_group_to_end(group: i32) {
    // SAFETY: sends a signal to a group whose leader was not waited for.
    unsafe { libc::killpg(group, libc::SIGTERM) };
}

/// Asks a process of ours to end.
pub(crate) fn ask_to_end(id: i32) {
    // SAFETY: sends a signal to a child that was not waited for.
    unsafe { libc::kill(id, libc::SIGTERM) };
}

/// Ends a process of ours at once.
pub(crate) fn end(id: i32) {
    // SAFETY: sends a signal to a child that was not waited for.
    unsafe { libc::kill(id, libc::SIGKILL) };
}

/// Lets processes whose parents end become children of this program, so that none is lost.
pub fn become_reaper() {
    // SAFETY: sets a flag of this process.
    unsafe { libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) };
}

/// Processes of this program that are no step's, and are not ended with what steps left behind.
static SPARED: Mutex<Vec<i32>> = Mutex::new(Vec::new());

/// Spares a child process from [`end_orphans`]: it is no step's. `false` takes that back.
pub fn spare(id: u32, spares: bool) {
    let mut spared = SPARED.lock().unwrap_or_else(PoisonError::into_inner);
    spared.retain(|other| *other != id as i32);
    if spares {
        spared.push(id as i32);
    }
}

/// Ends every process that steps left behind, and theirs; gives the temporary folder of each, by which its step
/// is known. To be called when no step runs.
pub fn end_orphans() -> Vec<Option<String>> {
    let mut ended = Vec::new();
    // Ending a process may hand us its children, so until there are none.
    for _ in 0..100 {
        let mut children = children_of_this();
        let spared = SPARED.lock().unwrap_or_else(PoisonError::into_inner).clone();
        children.retain(|id| !spared.contains(id));
        if children.is_empty() {
            break;
        }
        for id in children {
            ended.push(temporary_folder_of(id));
            // SAFETY: signals and waits for a child of this process.
            unsafe {
                libc::kill(id, libc::SIGKILL);
                libc::waitpid(id, std::ptr::null_mut(), 0);
            }
        }
    }
    ended
}

fn temporary_folder_of(id: i32) -> Option<String> {
    let environment = std::fs::read(format!("/proc/{id}/environ")).ok()?;
    let variable = environment.split(|b| *b == 0).find_map(|v| v.strip_prefix(b"TMPDIR="))?;
    String::from_utf8(variable.to_vec()).ok()
}

fn children_of_this() -> Vec<i32> {
    let mut children = Vec::new();
    let Ok(threads) = std::fs::read_dir("/proc/self/task") else { return children };
    for thread in threads.flatten() {
        if let Ok(list) = std::fs::read_to_string(thread.path().join("children")) {
            children.extend(list.split_whitespace().filter_map(|id| id.parse::<i32>().ok()));
        }
    }
    children
}

/// Ends a process of somebody's, by its number, and its group if it leads one.
pub(crate) fn end_stranger(id: i32) {
    // SAFETY: sends signals; whoever is gone is no harm.
    unsafe {
        if libc::getpgid(id) == id {
            libc::killpg(id, libc::SIGKILL);
        }
        libc::kill(id, libc::SIGKILL);
    }
}

/// Lets this program have as many files open as the machine allows.
pub fn raise_open_file_limit() {
    // SAFETY: reads and writes one structure.
    unsafe {
        let mut limit: libc::rlimit = std::mem::zeroed();
        if libc::getrlimit(libc::RLIMIT_NOFILE, &raw mut limit) == 0 && limit.rlim_cur < limit.rlim_max {
            limit.rlim_cur = limit.rlim_max;
            libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit);
        }
    }
}

/// A switch that stops all running commands, for good.
pub struct CancelSwitch {
    thrown: AtomicBool,
    readable: OwnedFd,
    writable: OwnedFd,
}

impl CancelSwitch {
    /// A switch that is not thrown.
    ///
    /// # Errors
    /// When no more files can be opened.
    pub fn new() -> io::Result<CancelSwitch> {
        let (readable, writable) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
        Ok(CancelSwitch { thrown: AtomicBool::new(false), readable, writable })
    }

    /// Throws the switch.
    pub fn throw(&self) {
        if !self.thrown.swap(true, Ordering::SeqCst) {
            let _ = rustix::io::write(&self.writable, b"x");
        }
    }

    /// Whether it was thrown.
    pub fn is_thrown(&self) -> bool {
        self.thrown.load(Ordering::SeqCst)
    }

    /// Becomes readable when the switch is thrown.
    pub(crate) fn signal(&self) -> &OwnedFd {
        &self.readable
    }
}

/// A file's bytes as memory that is filled where it is looked at. For files of the tool's own, which are
/// replaced as wholes and never written to in place.
///
/// # Errors
/// When the file cannot be opened or mapped.
pub fn map_file(path: &std::path::Path) -> io::Result<memmap2::Mmap> {
    let file = std::fs::File::open(path)?;
    // SAFETY: the bytes change under us only if someone else writes to the file in place. The tool itself
    // never does; whoever does it by hand may at worst make what is read look damaged, which is checked.
    unsafe { memmap2::Mmap::map(&file) }
}
