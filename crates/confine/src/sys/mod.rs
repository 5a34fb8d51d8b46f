//! Calls into the kernel that have no safe wrapper: the only unsafe code of the program. Path rules and supervision
//! here; starting processes, rooms and networks of their own, and processes in their files.

#![allow(unsafe_code)]

mod process;
mod spaces;
mod start;

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};

use crate::filter::ARCHITECTURE;

pub(crate) use process::{
    Exit, ask_group_to_end, ask_to_end, end, end_stranger, kill_group, wait, wait_for_group,
};
pub use process::{become_reaper, end_left_of, end_orphans, raise_open_file_limit, spare};
pub(crate) use spaces::{
    Order, RoomHandle, TemplateHandle, add_folder, add_source, found_room, found_template, new_apart,
    new_network, socket_apart,
};
pub use start::give_up_network;
pub(crate) use start::{Furnishing, Point, Space, Start, Started, Stream, start};

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

/// Whether the system-call filter is known for this architecture and the kernel has it.
pub(crate) fn network_filter_works() -> bool {
    // SAFETY: asks whether an action is available; reads one word.
    let available = unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const REFUSE_ACTION) };
    ARCHITECTURE != 0 && available == 0
}

static REFUSE_ACTION: u32 = 0x0005_0000;

// Watching system calls: a filter that hands some of them to a supervisor before they are done.

/// Whether the kernel can hand system calls to a supervisor.
pub(crate) fn supervision_works() -> bool {
    // SAFETY: asks whether an action is available; reads one word.
    let available = unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const HAND_OVER_ACTION) };
    ARCHITECTURE != 0 && available == 0
}

static HAND_OVER_ACTION: u32 = 0x7fc0_0000;

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

/// An open file's bytes as memory that is filled where it is looked at. For files of the tool's own, which are
/// replaced as wholes and never written to in place.
///
/// # Errors
/// When the file cannot be mapped.
pub fn map_file(file: &std::fs::File) -> io::Result<memmap2::Mmap> {
    // SAFETY: the bytes change under us only if someone else writes to the file in place. The tool itself
    // never does; whoever does it by hand may at worst make what is read look damaged, which is checked.
    unsafe { memmap2::Mmap::map(file) }
}
