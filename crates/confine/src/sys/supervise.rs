//! Watching system calls: a filter that hands some of them to a supervisor before they are done.

use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};
use std::sync::OnceLock;

use crate::filter::ARCHITECTURE;

/// Whether the kernel can hand system calls to a supervisor, and this program has none itself: of
/// those around one another the kernel allows one.
pub(crate) fn supervision_works() -> bool {
    static WORKS: OnceLock<bool> = OnceLock::new();
    *WORKS.get_or_init(|| {
        // SAFETY: asks whether an action is available; reads one word.
        let available =
            unsafe { libc::syscall(libc::SYS_seccomp, 2u32, 0u32, &raw const HAND_OVER_ACTION) };
        ARCHITECTURE != 0 && available == 0 && !is_supervised()
    })
}

/// Whether a supervisor hears of this program's calls: tried in a thread, whose filter goes with
/// it.
fn is_supervised() -> bool {
    /// Returns the number in the statement.
    const RETURN: u16 = 0x06;
    const ALLOW: u32 = 0x7fff_0000;
    let tried = std::thread::Builder::new().spawn(|| {
        let mut allow = libc::sock_filter {
            code: RETURN,
            jt: 0,
            jf: 0,
            k: ALLOW,
        };
        let program = libc::sock_fprog {
            len: 1,
            filter: &raw mut allow,
        };
        // SAFETY: both set something of this thread alone, which ends after that; the program is
        // live.
        let listener = unsafe {
            libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
            libc::syscall(
                libc::SYS_seccomp,
                SET_FILTER,
                NEW_LISTENER,
                &raw const program,
            ) as RawFd
        };
        let error = std::io::Error::last_os_error();
        if listener < 0 {
            return error.raw_os_error() == Some(libc::EBUSY);
        }
        // SAFETY: the kernel made it for this thread just now.
        drop(unsafe { OwnedFd::from_raw_fd(listener) });
        false
    });
    // A thread that cannot be made says nothing of the kernel.
    tried.is_ok_and(|tried| tried.join().unwrap_or(false))
}

/// Of `seccomp(2)`: sets a filter of this thread, and gives a descriptor on which its calls are
/// heard.
pub(super) const SET_FILTER: u32 = 1;
pub(super) const NEW_LISTENER: u32 = 1 << 3;

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
    let done = unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_RECV,
            &raw mut call,
        )
    };
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
    let mut answer = libc::seccomp_notif_resp {
        id: call.id,
        val: 0,
        error: -error,
        flags,
    };
    // SAFETY: the pointer is to a live structure of the size that the request's number says. That
    // the one who waited may be gone is no harm.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_SEND,
            &raw mut answer,
        )
    };
}

/// Reads memory of a thread that waits for its call: gives how many bytes there were.
pub(crate) fn read_memory(thread: u32, at: u64, bytes: &mut [u8]) -> Option<usize> {
    let local = libc::iovec {
        iov_base: bytes.as_mut_ptr().cast(),
        iov_len: bytes.len(),
    };
    let remote = libc::iovec {
        iov_base: at as *mut libc::c_void,
        iov_len: bytes.len(),
    };
    // SAFETY: the local part is a live buffer of the length that is said; the other one is of
    // another process, where the kernel reads what is there and nothing else.
    let read = unsafe {
        libc::process_vm_readv(
            thread as libc::pid_t,
            &raw const local,
            1,
            &raw const remote,
            1,
            0,
        )
    };
    usize::try_from(read).ok()
}

/// Answers a call that asks what an open folder is, in the place of the kernel: all but how much is
/// in it. Gives whether that could be said. The answer goes to an address in the thread's memory,
/// in the longer form (`statx`) with a mask.
pub(crate) fn tell_of_folder(
    thread: u32,
    at: u64,
    folder: BorrowedFd<'_>,
    mask: Option<u32>,
) -> bool {
    /// The size of an empty folder on most file systems, in bytes, and in units of 512 bytes.
    const SIZE: i64 = 4096;
    /// So many links say that nobody counted them.
    const LINKS: u32 = 1;
    let write = |bytes, length| write_memory(thread, at, bytes, length);
    match mask {
        None => {
            // SAFETY: a structure of numbers, for which zero is a value; the call writes to it.
            let mut found: libc::stat = unsafe { std::mem::zeroed() };
            // SAFETY: the pointer is to a live structure, the descriptor is open.
            if unsafe { libc::fstat(folder.as_raw_fd(), &raw mut found) } != 0 {
                return false;
            }
            (found.st_size, found.st_blocks, found.st_nlink) = (SIZE, SIZE / 512, LINKS.into());
            write((&raw const found).cast(), size_of_val(&found))
        }
        Some(mask) => {
            // SAFETY: as above.
            let mut found: libc::statx = unsafe { std::mem::zeroed() };
            let empty = c"".as_ptr();
            // SAFETY: the pointers are to a live structure and a constant text, the descriptor is
            // open.
            let done = unsafe {
                libc::statx(
                    folder.as_raw_fd(),
                    empty,
                    libc::AT_EMPTY_PATH,
                    mask,
                    &raw mut found,
                )
            };
            if done != 0 {
                return false;
            }
            (found.stx_size, found.stx_blocks, found.stx_nlink) =
                (SIZE as u64, SIZE as u64 / 512, LINKS);
            write((&raw const found).cast(), size_of_val(&found))
        }
    }
}

/// Writes to an address in the memory of a thread that waits; says whether all was written.
fn write_memory(thread: u32, at: u64, bytes: *const libc::c_void, length: usize) -> bool {
    let local = libc::iovec {
        iov_base: bytes.cast_mut(),
        iov_len: length,
    };
    let remote = libc::iovec {
        iov_base: at as *mut libc::c_void,
        iov_len: length,
    };
    let thread = thread as libc::pid_t;
    // SAFETY: the local part is a live value of the length that is said; the other one is of
    // another process, which waits.
    let written =
        unsafe { libc::process_vm_writev(thread, &raw const local, 1, &raw const remote, 1, 0) };
    usize::try_from(written) == Ok(length)
}

/// Says to who waits with a call that it was done.
pub(crate) fn answer_done(listener: BorrowedFd<'_>, call: WantedCall) {
    let mut answer = libc::seccomp_notif_resp {
        id: call.id,
        val: 0,
        error: 0,
        flags: 0,
    };
    // SAFETY: the pointer is to a live structure of the size that the request's number says.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_SEND,
            &raw mut answer,
        )
    };
}

/// Asks the kernel to change over to the supervisor at once when a call waits, and back when it is
/// answered; older kernels do not know how.
pub(crate) fn wake_at_once(listener: BorrowedFd<'_>) {
    const SET_FLAGS: libc::c_ulong = 0x4008_2104;
    const SYNCHRONOUS: u64 = 1;
    // SAFETY: the argument is a number, not a pointer.
    unsafe { libc::ioctl(listener.as_raw_fd(), SET_FLAGS as _, SYNCHRONOUS) };
}
