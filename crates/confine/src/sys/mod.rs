//! Calls into the kernel that have no safe wrapper: the only unsafe code of the program. Path rules
//! and maps of files are here; what belongs to starting processes, to sandboxes, to networks of
//! their own and to supervision in files of its own.

#![allow(unsafe_code)]

mod apart;
mod child;
mod children;
mod enter;
mod inherited;
mod lease;
mod orders;
mod process;
mod sandboxes;
mod start;
mod supervise;
mod template;

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};

use crate::filter::ARCHITECTURE;

pub(crate) use apart::{CONNECTIONS, QUESTIONS, new_apart, socket_apart};
pub(crate) use child::{Point, SandboxSetup};
pub use inherited::left_to_inherit;
pub use lease::{Writers, writers_of};
pub(crate) use orders::Order;
pub(crate) use process::{
    ProcessEnd, ask_group_to_end, ask_to_end, end, end_stranger, kill_group, wait, wait_for_group,
};
pub use process::{
    allow_huge_pages, become_reaper, end_adopted, end_left_of, end_orphans, raise_open_file_limit,
    spare,
};
pub(crate) use sandboxes::{HandleKind, SandboxHandle, found_sandbox};
pub use start::give_up_network;
pub(crate) use start::{Space, Start, Started, Stream, start};
pub(crate) use supervise::{
    WantedCall, answer_call, answer_done, next_call, read_memory, supervision_works,
    tell_of_folder, wake_at_once,
};
pub(crate) use template::{TemplateHandle, add_folder, add_source, found_template, new_network};

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
    if value < 0 {
        Err(io::Error::last_os_error())
    } else {
        Ok(value)
    }
}

/// The version of path rules that the kernel offers; `None` where it offers none.
pub(crate) fn path_rules_version() -> Option<u32> {
    // SAFETY: with a null pointer, size 0 and flag 1 the call only reports the version.
    let version = unsafe { libc::syscall(CREATE_RULESET, std::ptr::null::<u8>(), 0usize, 1u32) };
    u32::try_from(version).ok().filter(|v| *v > 0)
}

/// A new set of path rules that refuses all of `handled` access, and (`signals` aside) scopes of
/// version 6.
pub(crate) fn create_rules(handled: u64, version: u32, signals: bool) -> io::Result<OwnedFd> {
    // Abstract sockets (1) and signals (2) to processes outside stay outside, where the kernel
    // knows them.
    let scoped = match (version >= 6, signals) {
        (false, _) => 0,
        (true, false) => 3,
        (true, true) => 1,
    };
    let attributes = RulesetAttributes {
        handled_access_fs: handled,
        handled_access_net: 0,
        scoped,
    };
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
pub(crate) fn allow_below(
    rules: BorrowedFd<'_>,
    place: BorrowedFd<'_>,
    access: u64,
) -> io::Result<()> {
    let rule = PathBeneath {
        allowed_access: access,
        parent_fd: place.as_raw_fd(),
    };
    // SAFETY: both descriptors are open, and the pointer is to a live structure of rule type 1.
    let value = unsafe { libc::syscall(ADD_RULE, rules.as_raw_fd(), 1u32, &raw const rule, 0u32) };
    result(value).map(drop)
}

/// Whether the system-call filter is known for this architecture and the kernel has it.
pub(crate) fn network_filter_works() -> bool {
    // SAFETY: asks whether an action is available; reads one word.
    let available =
        unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const REFUSE_ACTION) };
    ARCHITECTURE != 0 && available == 0
}

static REFUSE_ACTION: u32 = 0x0005_0000;

/// An open file's bytes as memory that is filled where it is looked at. For files of the tool's
/// own, which are replaced as wholes and never written to in place.
///
/// # Errors
/// When the file cannot be mapped.
pub fn map_file(file: &std::fs::File) -> io::Result<memmap2::Mmap> {
    // SAFETY: the bytes change under us only if someone else writes to the file in place. The tool
    // itself never does; a caller that does it by hand may at worst make what is read look damaged,
    // which is checked.
    unsafe { memmap2::Mmap::map(file) }
}
