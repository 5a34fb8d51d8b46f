//! Children that share memory with the thread that waits for them: quicker than any copy of this
//! program, and nothing in them may allocate or panic.

use std::cell::Cell;
use std::io;

use rustix::process::DumpableBehavior;

use super::process::{wait, while_starting};

pub(super) const STACK: usize = 64 << 10;

thread_local! {
    /// Stacks for the next child of this thread: fresh memory for each would cost more than the
    /// rest.
    static STACKS: Cell<Option<Vec<u128>>> = const { Cell::new(None) };
}

/// Runs something with room for two stacks of children.
pub(super) fn with_stacks<T>(work: impl FnOnce([*mut libc::c_void; 2]) -> T) -> T {
    const EACH: usize = STACK / 16;
    let mut stacks = STACKS.take().unwrap_or_else(|| vec![0u128; 2 * EACH]);
    let (one, two) = stacks.split_at_mut(EACH);
    let done = work([
        one.as_mut_ptr_range().end.cast(),
        two.as_mut_ptr_range().end.cast(),
    ]);
    STACKS.set(Some(stacks));
    done
}

/// Becoming someone else makes memory one that its owner may not look into; a child shares it with
/// this program.
pub(super) fn stay_visible() {
    let _ = rustix::process::set_dumpable_behavior(DumpableBehavior::Dumpable);
}

/// Blocks all signals while a child shares memory: one that arrives there would be handled in it.
pub(super) fn without_signals<T>(work: impl FnOnce() -> T) -> T {
    // SAFETY: reads and writes variables of this function, and sets this thread's mask to what it
    // was.
    unsafe {
        let mut all: libc::sigset_t = std::mem::zeroed();
        let mut before: libc::sigset_t = std::mem::zeroed();
        libc::sigfillset(&mut all);
        libc::pthread_sigmask(libc::SIG_SETMASK, &all, &mut before);
        let done = work();
        libc::pthread_sigmask(libc::SIG_SETMASK, &before, std::ptr::null_mut());
        done
    }
}

/// Runs a child that shares memory with this thread, which waits until it has ended.
pub(super) fn run_child(
    child: extern "C" fn(*mut libc::c_void) -> libc::c_int,
    flags: libc::c_int,
    data: *mut libc::c_void,
) -> io::Result<()> {
    let flags = flags | libc::CLONE_VM | libc::CLONE_VFORK | libc::SIGCHLD;
    while_starting(|| {
        with_stacks(|[stack, _]| {
            // SAFETY: the child runs on a stack of its own, whose upper end is aligned to 16 bytes;
            // CLONE_VFORK stops this thread until it has ended, so that what `data` points to
            // outlives its use.
            let id = without_signals(|| unsafe { libc::clone(child, stack, flags, data) });
            if id < 0 {
                return Err(io::Error::last_os_error());
            }
            wait(id);
            Ok(())
        })
    })
}
