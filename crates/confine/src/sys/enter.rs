//! Starting a process in a sandbox: a child enters it, lays out what is wanted there, and starts
//! the process as its own sibling.

use std::io;
use std::os::fd::{FromRawFd, OwnedFd, RawFd};

use super::child::{Point, SandboxSetup, StartPlan, child};
use super::children::{with_stacks, without_signals};
use super::inherited::Inherited;
use super::orders::Furnish;
use super::process::{ProcessEnd, end_by_handle, wait};
use super::sandboxes::{SandboxHandle, TemporaryFolders};

/// What the process needs that enters a sandbox and starts the child there.
struct Entering<'a> {
    inside: *mut StartPlan,
    stack: *mut libc::c_void,
    inherited: Inherited,
    sandbox: RawFd,
    spaces: libc::c_int,
    sources: RawFd,
    /// What is to be done there first.
    furnish: Option<Furnish<'a>>,
    /// Written: whether it was done.
    furnished: bool,
    temporary: &'a mut TemporaryFolders,
    /// -1: this program's network.
    network: RawFd,
    /// Written: what became of it.
    id: i32,
    handle: RawFd,
    error: i32,
}

/// Runs in a child that shares memory and descriptors with the parent thread, which waits until it
/// ends. It becomes a member of the sandbox, starts the process as a sibling of its own, and ends.
/// Only system calls.
extern "C" fn enter(entering: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable, and so are those in it.
    unsafe {
        let entering = &mut *entering.cast::<Entering<'_>>();
        entering.inherited.shed();
        if libc::setns(entering.sandbox, entering.spaces) == 0
            && furnish(entering)
            && (entering.network < 0 || libc::setns(entering.network, libc::CLONE_NEWNET) == 0)
        {
            let flags = libc::CLONE_VM
                | libc::CLONE_VFORK
                | libc::CLONE_PARENT
                | libc::CLONE_PIDFD
                | libc::SIGCHLD;
            let handle = &raw mut entering.handle;
            entering.id = libc::clone(child, entering.stack, flags, entering.inside.cast(), handle);
        }
        if entering.id < 0 {
            entering.error = *libc::__errno_location();
        }
        libc::_exit(0)
    }
}

/// Makes the sandbox what it is to be. In a child: only system calls.
///
/// # Safety
/// This process is in the sandbox already, and was made for it.
unsafe fn furnish(entering: &mut Entering<'_>) -> bool {
    let Some(furnish) = &mut entering.furnish else {
        return true;
    };
    // SAFETY: as the caller vouches.
    unsafe {
        libc::umask(0o022);
        entering.furnished = entering.temporary.refresh()
            && libc::fchdir(entering.sources) == 0
            && furnish.carry_out();
        entering.furnished
    }
}

pub(super) fn start_in_sandbox(
    inside: &mut StartPlan,
    sandbox: &SandboxHandle,
    network: Option<RawFd>,
    furnishing: Option<&SandboxSetup<'_>>,
) -> Result<(i32, OwnedFd), (Point, io::Error)> {
    // With this program's descriptors: the one for the process is made among them.
    let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::CLONE_FILES | libc::SIGCHLD;
    let mut temporary = sandbox.temporary();
    with_stacks(|[stack, inner]| {
        let mut entering = Entering {
            inside,
            stack: inner,
            inherited: Inherited::prepared(),
            sandbox: sandbox.process(),
            spaces: sandbox.spaces(),
            sources: sandbox.sources(),
            furnish: furnishing
                .filter(|f| !f.done.get())
                .map(|f| Furnish::new(&f.orders)),
            furnished: false,
            temporary: &mut temporary,
            network: network.unwrap_or(-1),
            id: -1,
            handle: -1,
            error: 0,
        };
        // SAFETY: as in `start_here`: this thread waits until the one that enters has ended, and
        // that waits for the child.
        let id = without_signals(|| unsafe {
            libc::clone(enter, stack, flags, (&raw mut entering).cast())
        });
        if id < 0 {
            return Err((Point::Setup, io::Error::last_os_error()));
        }
        let end = wait(id);
        if matches!(end, ProcessEnd::Signal(_)) && entering.id < 0 {
            return Err((Point::Setup, killed_before_it_began(&entering)));
        }
        if let Some(furnishing) = furnishing.filter(|_| entering.furnished) {
            furnishing.done.set(true);
        }
        if let Some(problem) = entering.furnish.as_ref().and_then(Furnish::problem) {
            return Err((Point::Furnish, problem));
        }
        if entering.id < 0 {
            return Err((Point::Setup, io::Error::from_raw_os_error(entering.error)));
        }
        // SAFETY: the child made it in the table of descriptors that both share; nothing else owns
        // it.
        Ok((entering.id, unsafe {
            OwnedFd::from_raw_fd(entering.handle)
        }))
    })
}

/// Ends the process of one that was killed on its way into a sandbox. What it may have started
/// shares the memory of this thread, and nobody else would wait for it: a sandbox with a process in
/// it that was not waited for never ends.
fn killed_before_it_began(entering: &Entering<'_>) -> io::Error {
    if entering.handle >= 0 {
        // SAFETY: it was made in the table of descriptors that both share, and nothing else owns
        // it.
        end_by_handle(&unsafe { OwnedFd::from_raw_fd(entering.handle) });
    }
    io::Error::other("it was killed before it began")
}
