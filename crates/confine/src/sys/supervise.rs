//! Watching system calls: a filter that hands some of them to a supervisor before they are done.

use std::os::fd::{AsRawFd, BorrowedFd};

use crate::filter::ARCHITECTURE;

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
    // SAFETY: a structure of numbers, for which zero is a value; the kernel demands that.
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
