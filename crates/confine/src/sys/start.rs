//! Starting a process: a child that shares memory with the thread that starts it, which waits until
//! the child has become its program. Quicker than any copy of this program, and nothing in between
//! may allocate or panic.

use std::cell::Cell;
use std::ffi::{CStr, CString};
use std::io;
use std::os::fd::{FromRawFd, OwnedFd, RawFd};

use super::child::{Point, SandboxSetup, StartPlan, child, drop_privileges, point_of};
use super::children::{stay_visible, with_stacks, without_signals};
use super::enter::start_in_sandbox;
use super::inherited::Inherited;
use super::process::{note_own, wait, while_starting};
use super::sandboxes::SandboxHandle;
use crate::filter::Surroundings;

thread_local! {
    /// In which surroundings everything is that this thread starts, since it gave up what they
    /// lack.
    static GIVEN_UP: Cell<Option<Surroundings>> = const { Cell::new(None) };
}

/// Gives up the network, and with it the superuser's privileges over the machine, for this thread
/// and everything that it starts, for good: a confined process then need not learn it each time.
/// Whether that worked; if not, the thread only cannot gain privileges by starting a program, which
/// no confined process may.
pub fn give_up_network(surroundings: Surroundings) -> bool {
    let filter = surroundings.filter();
    let program = libc::sock_fprog {
        len: filter.len() as u16,
        filter: filter.as_ptr().cast_mut(),
    };
    // SAFETY: the calls change this thread only. The filter is a live program, which the kernel
    // copies.
    let works = unsafe {
        libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0
            && libc::prctl(libc::PR_SET_SECCOMP, 2, &raw const program, 0, 0) == 0
    };
    if works {
        // SAFETY: needs nothing; changes what this thread's children may have.
        unsafe { drop_privileges() };
        GIVEN_UP.set(Some(surroundings));
    }
    works
}

/// Where a standard stream of a new process leads.
#[derive(Clone, Copy)]
pub(crate) enum Stream<'a> {
    /// To what is open.
    Given(RawFd),
    /// From a file, by its path as the process sees it.
    From(&'a CStr),
    /// To a file, made or emptied.
    To(&'a CStr),
}

/// In which namespaces a new process is.
#[derive(Clone, Copy)]
pub(crate) enum Space<'a> {
    /// In those of this program.
    Here,
    /// As another user, and in a network of its own if there is one.
    Apart(RawFd, Option<RawFd>),
    /// In a sandbox, and in a network of its own if there is one. What is to be done in the sandbox
    /// first comes with it.
    Sandbox(
        &'a SandboxHandle,
        Option<RawFd>,
        Option<&'a SandboxSetup<'a>>,
    ),
}

/// Everything that a new process needs, made before it is started. Paths are those that the process
/// sees.
pub(crate) struct Start<'a> {
    pub program: &'a CStr,
    pub words: &'a [CString],
    pub environment: &'a [CString],
    /// The folder from which paths of streams start.
    pub root: &'a CStr,
    /// The folder in which it runs.
    pub folder: &'a CStr,
    pub streams: [Stream<'a>; 3],
    /// The process group to join, by its number where the process is; 0 for a new one, `None` to
    /// stay in this program's.
    pub group: Option<i32>,
    pub rules: Option<RawFd>,
    /// What it is refused; nothing where it is not confined.
    pub surroundings: Option<Surroundings>,
    pub space: Space<'a>,
    /// A filter that hands calls to a supervisor, and the socket on which the supervisor gets its
    /// end.
    pub supervised: Option<(&'a [libc::sock_filter], RawFd)>,
}

/// A process that was started.
pub(crate) struct Started {
    /// Its number.
    pub id: i32,
    /// Its number where it is.
    pub local: i32,
    /// A descriptor for it.
    pub handle: OwnedFd,
}

/// Whether the thread has given up already what a process is to be without.
fn inherits(wanted: Option<Surroundings>) -> Result<bool, (Point, io::Error)> {
    match GIVEN_UP.get() {
        None => Ok(false),
        Some(have) if wanted == Some(have) => Ok(true),
        Some(_) => Err((
            Point::Confine,
            io::Error::other("this thread has given up the network"),
        )),
    }
}

/// Starts a process.
///
/// # Errors
/// Where that failed, and why.
pub(crate) fn start(start: &Start<'_>) -> Result<Started, (Point, io::Error)> {
    let inherits = inherits(start.surroundings)?;
    let words = pointers(start.words);
    let environment = pointers(start.environment);
    let (given, opened, open_flags) = ends_of(&start.streams);
    // A supervisor's filter refuses what the other one would.
    let filter = start
        .surroundings
        .filter(|_| !inherits && start.supervised.is_none());
    let confines =
        start.rules.is_some() || start.surroundings.is_some() || start.supervised.is_some();
    let mut inside = StartPlan {
        program: start.program.as_ptr(),
        words: words.as_ptr(),
        environment: environment.as_ptr(),
        root: start.root.as_ptr(),
        folder: start.folder.as_ptr(),
        given,
        opened,
        open_flags,
        group: start.group.unwrap_or(-1),
        rules: start.rules.unwrap_or(-1),
        drops_privileges: start.rules.is_some() && !inherits,
        confines,
        filter: program(filter.map_or(&[], Surroundings::filter)),
        apart: match start.space {
            Space::Apart(user, network) => [user, network.unwrap_or(-1)],
            _ => [-1, -1],
        },
        supervising: program(start.supervised.map_or(&[], |(filter, _)| filter)),
        supervisor: start.supervised.map_or(-1, |(_, socket)| socket),
        // Who enters a sandbox sheds it before, while the superuser is one.
        inherited: (confines && !matches!(start.space, Space::Sandbox(..)))
            .then(Inherited::prepared),
        parent: match start.space {
            Space::Sandbox(..) => 0,
            _ => std::process::id() as i32,
        },
        local: 0,
        error: 0,
        point: 0,
    };
    let (id, handle) = while_starting(|| {
        let started = match start.space {
            Space::Sandbox(sandbox, network, furnishing) => {
                start_in_sandbox(&mut inside, sandbox, network, furnishing)
            }
            _ => start_here(&mut inside).map_err(|e| (Point::Setup, e)),
        };
        started.inspect(|(id, _)| note_own(*id))
    })?;
    if !matches!(start.space, Space::Here) {
        stay_visible();
    }
    if inside.error != 0 {
        wait(id);
        let error = io::Error::from_raw_os_error(inside.error);
        return Err((point_of(inside.point), error));
    }
    let local = inside.local;
    Ok(Started { id, local, handle })
}

/// Pointers to texts, with the empty one that ends such a list.
fn pointers(list: &[CString]) -> Vec<*const libc::c_char> {
    let all = list.iter().map(|text| text.as_ptr());
    all.chain([std::ptr::null()]).collect()
}

/// A filter as the kernel takes it.
fn program(filter: &[libc::sock_filter]) -> libc::sock_fprog {
    libc::sock_fprog {
        len: filter.len() as u16,
        filter: filter.as_ptr().cast_mut(),
    }
}

/// Streams as the child needs them: open descriptors, or paths to be opened with flags.
fn ends_of(streams: &[Stream<'_>; 3]) -> ([RawFd; 3], [*const libc::c_char; 3], [libc::c_int; 3]) {
    let (mut given, mut opened, mut open_flags) = ([-1; 3], [std::ptr::null(); 3], [0; 3]);
    for (n, stream) in streams.iter().enumerate() {
        match stream {
            // The descriptors 0 to 2 are replaced one by one in the child: a source among them
            // would be lost.
            Stream::Given(fd) => {
                debug_assert!(*fd > 2);
                given[n] = *fd;
            }
            Stream::From(path) => (opened[n], open_flags[n]) = (path.as_ptr(), libc::O_RDONLY),
            Stream::To(path) => {
                (opened[n], open_flags[n]) = (
                    path.as_ptr(),
                    libc::O_WRONLY | libc::O_CREAT | libc::O_TRUNC,
                );
            }
        }
    }
    (given, opened, open_flags)
}

fn start_here(inside: &mut StartPlan) -> io::Result<(i32, OwnedFd)> {
    let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::CLONE_PIDFD | libc::SIGCHLD;
    let mut handle: libc::c_int = -1;
    with_stacks(|[stack, _]| {
        without_signals(|| {
            // SAFETY: the child runs `child` on a stack of its own, whose upper end is aligned to
            // 16 bytes. CLONE_VFORK stops this thread until the child execs or exits, so everything
            // that `inside` points to outlives the child's use of it.
            let id = unsafe {
                libc::clone(
                    child,
                    stack,
                    flags,
                    (&raw mut *inside).cast(),
                    &raw mut handle,
                )
            };
            if id < 0 {
                return Err(io::Error::last_os_error());
            }
            // SAFETY: CLONE_PIDFD gave a new descriptor that nothing else owns.
            Ok((id, unsafe { OwnedFd::from_raw_fd(handle) }))
        })
    })
}
