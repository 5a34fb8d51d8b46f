//! A user without privileges and a network of one's own, for commands that path rules confine.

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};

use super::children::{STACK, run_child, stay_visible};
use super::process::{ProcessEnd, wait, while_starting};

struct Holder {
    network: bool,
    ends: [RawFd; 2],
}

/// Runs in a copy of this process that is apart already: makes its network usable and waits until
/// the other end of a pipe is closed. Only system calls.
extern "C" fn hold(holder: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to this copy of the parent's `Holder`; all else are system calls on
    // variables of this function.
    unsafe {
        let holder = &*holder.cast::<Holder>();
        libc::close(holder.ends[1]);
        let mut code = 0;
        if holder.network {
            code = i32::from(!bring_up_loopback());
        }
        let mut byte = 0u8;
        libc::read(holder.ends[0], (&raw mut byte).cast(), 1);
        libc::_exit(code)
    }
}

/// Makes a user without privileges, and with `network` a network in which only its own processes
/// are: handles that keep both alive. A user who is not the superuser stays the same user; the
/// superuser becomes nobody.
pub(crate) fn new_apart(network: bool) -> io::Result<(OwnedFd, Option<OwnedFd>)> {
    while_starting(|| begin_apart(network))
}

fn begin_apart(network: bool) -> io::Result<(OwnedFd, Option<OwnedFd>)> {
    /// The number of `nobody`, nearly everywhere.
    const NOBODY: u32 = 65534;
    let (reading, writing) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
    let mut holder = Holder {
        network,
        ends: [reading.as_raw_fd(), writing.as_raw_fd()],
    };
    let mut stack = vec![0u128; STACK / 16];
    let flags = libc::CLONE_NEWUSER | if network { libc::CLONE_NEWNET } else { 0 } | libc::SIGCHLD;
    // SAFETY: the child is a copy of this process, on a stack of its own, and does system calls
    // only.
    let id = unsafe {
        libc::clone(
            hold,
            stack.as_mut_ptr_range().end.cast(),
            flags,
            (&raw mut holder).cast(),
        )
    };
    if id < 0 {
        return Err(io::Error::last_os_error());
    }
    let own = |name: &str| format!("/proc/{id}/{name}");
    let inside = |number: u32| if number == 0 { NOBODY } else { number };
    let (user, group) = (
        rustix::process::geteuid().as_raw(),
        rustix::process::getegid().as_raw(),
    );
    let made = std::fs::write(own("setgroups"), "deny")
        .and_then(|()| std::fs::write(own("uid_map"), format!("{} {user} 1", inside(user))))
        .and_then(|()| std::fs::write(own("gid_map"), format!("{} {group} 1", inside(group))))
        .and_then(|()| {
            let open = |name: &str| std::fs::File::open(own(name)).map(OwnedFd::from);
            Ok((
                open("ns/user")?,
                if network { Some(open("ns/net")?) } else { None },
            ))
        });
    drop(writing);
    match wait(id) {
        ProcessEnd::Code(0) => made,
        _ => Err(io::Error::other(
            "the kernel does not let the new network be used",
        )),
    }
}

/// A family of sockets, a kind and a protocol: the arguments of `socket(2)`.
pub(crate) type SocketOf = (libc::c_int, libc::c_int, libc::c_int);

/// Connections over IPv4.
pub(crate) const CONNECTIONS: SocketOf = (libc::AF_INET, libc::SOCK_STREAM, 0);
/// Questions to the kernel about the network.
pub(crate) const QUESTIONS: SocketOf = (libc::AF_NETLINK, libc::SOCK_RAW, libc::NETLINK_ROUTE);

struct SocketWanted {
    apart: [RawFd; 2],
    of: SocketOf,
    socket: RawFd,
    error: i32,
}

/// Runs in a child that shares memory and descriptors with the parent thread, which waits. Only
/// system calls.
extern "C" fn make_socket(wanted: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable.
    unsafe {
        let wanted = &mut *wanted.cast::<SocketWanted>();
        if libc::setns(wanted.apart[0], libc::CLONE_NEWUSER) == 0
            && libc::setns(wanted.apart[1], libc::CLONE_NEWNET) == 0
        {
            let (family, kind, protocol) = wanted.of;
            wanted.socket = libc::socket(
                family,
                kind | libc::SOCK_CLOEXEC | libc::SOCK_NONBLOCK,
                protocol,
            );
        }
        wanted.error = *libc::__errno_location();
        libc::_exit(0)
    }
}

/// A socket of a network apart, which does not block. A socket belongs to the network that it was
/// made in.
pub(crate) fn socket_apart(
    user: BorrowedFd<'_>,
    network: BorrowedFd<'_>,
    of: SocketOf,
) -> io::Result<OwnedFd> {
    let apart = [user.as_raw_fd(), network.as_raw_fd()];
    let mut wanted = SocketWanted {
        apart,
        of,
        socket: -1,
        error: 0,
    };
    run_child(make_socket, libc::CLONE_FILES, (&raw mut wanted).cast())?;
    stay_visible();
    if wanted.socket < 0 {
        return Err(io::Error::from_raw_os_error(wanted.error));
    }
    // SAFETY: the child made it in the table of descriptors that both share; nothing else owns it.
    Ok(unsafe { OwnedFd::from_raw_fd(wanted.socket) })
}

/// Makes a network of one's own usable. In a child: only system calls.
///
/// # Safety
/// None of its own.
pub(super) unsafe fn bring_up_loopback() -> bool {
    // SAFETY: a structure of numbers, for which zero is a value; the request's number says its
    // size.
    unsafe {
        let mut request: libc::ifreq = std::mem::zeroed();
        request.ifr_name[0] = b'l' as libc::c_char;
        request.ifr_name[1] = b'o' as libc::c_char;
        request.ifr_ifru.ifru_flags = libc::IFF_UP as libc::c_short;
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM | libc::SOCK_CLOEXEC, 0);
        let done = libc::ioctl(socket, libc::SIOCSIFFLAGS, &raw const request) == 0;
        libc::close(socket);
        done
    }
}
