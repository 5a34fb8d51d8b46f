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

/// Reads memory of a thread that waits for its call: gives how many bytes there were.
pub(crate) fn read_memory(thread: u32, at: u64, bytes: &mut [u8]) -> Option<usize> {
    let local = libc::iovec { iov_base: bytes.as_mut_ptr().cast(), iov_len: bytes.len() };
    let remote = libc::iovec { iov_base: at as *mut libc::c_void, iov_len: bytes.len() };
    // SAFETY: the local part is a live buffer of the length that is said; the other one is of another process, where the
    // kernel reads what is there and nothing else.
    let read = unsafe {
        libc::process_vm_readv(thread as libc::pid_t, &raw const local, 1, &raw const remote, 1, 0)
    };
    usize::try_from(read).ok()
}

/// Asks the kernel to change over to the supervisor at once when a call waits, and back when it is answered; older kernels
/// do not know how.
pub(crate) fn wake_at_once(listener: BorrowedFd<'_>) {
    const SET_FLAGS: libc::c_ulong = 0x4008_2104;
    const SYNCHRONOUS: u64 = 1;
    // SAFETY: the argument is a number, not a pointer.
    unsafe { libc::ioctl(listener.as_raw_fd(), SET_FLAGS as _, SYNCHRONOUS) };
}
