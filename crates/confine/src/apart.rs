//! Running apart: as someone without privileges, in a network of one's own.

use std::fs;
use std::io;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpStream};
use std::os::fd::{AsFd, AsRawFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::sys;

/// A user without privileges (the superuser becomes nobody, everyone else stays who they are), and
/// a network in which no one else is: that of the machine and of others cannot be reached from it,
/// nor it from there.
pub struct Apart {
    user: OwnedFd,
    network: Option<OwnedFd>,
}

impl Apart {
    /// A new one; without `network` its processes see that of the machine.
    ///
    /// # Errors
    /// When the kernel does not offer that to this user.
    pub fn new(network: bool) -> io::Result<Apart> {
        let (user, network) = sys::new_apart(network)?;
        Ok(Apart { user, network })
    }

    /// Whether its processes have a network of their own.
    pub(crate) fn has_own_network(&self) -> bool {
        self.network.is_some()
    }

    pub(crate) fn descriptors(&self) -> (RawFd, Option<RawFd>) {
        (
            self.user.as_raw_fd(),
            self.network.as_ref().map(AsRawFd::as_raw_fd),
        )
    }

    /// Whether someone accepts connections at a place of its network.
    ///
    /// # Errors
    /// When no connection can be tried.
    pub fn answers(&self, address: Ipv4Addr, port: u16, patience: Duration) -> io::Result<bool> {
        let place = SocketAddrV4::new(address, port);
        let Some(network) = &self.network else {
            return Ok(answers_here(place, patience));
        };
        let socket = sys::socket_apart(self.user.as_fd(), network.as_fd(), sys::CONNECTIONS)?;
        answers_at(&socket, address, port, patience)
    }
}

/// Whether someone accepts a connection of a socket that does not block.
pub(crate) fn answers_at(
    socket: &OwnedFd,
    address: Ipv4Addr,
    port: u16,
    patience: Duration,
) -> io::Result<bool> {
    match rustix::net::connect(socket, &SocketAddrV4::new(address, port)) {
        Ok(()) => return Ok(true),
        Err(rustix::io::Errno::INPROGRESS) => {}
        Err(_) => return Ok(false),
    }
    let mut fds = [PollFd::new(socket, PollFlags::OUT)];
    let _ = poll(&mut fds, Timespec::try_from(patience).ok().as_ref());
    let decided = !fds[0].revents().is_empty();
    Ok(decided && matches!(rustix::net::sockopt::socket_error(socket), Ok(Ok(()))))
}

/// Whether someone accepts connections at a place of this machine's network.
fn answers_here(place: SocketAddrV4, patience: Duration) -> bool {
    TcpStream::connect_timeout(&SocketAddr::V4(place), patience).is_ok()
}

/// Ends processes that an earlier run of this program left behind, and gives how many there were:
/// those whose environment names one of these folders for temporary files. Nothing else is
/// evidence: a number may be someone else's by now, and anyone may be in a folder.
pub fn end_left_over(temporary: &[&Path]) -> usize {
    let own = std::process::id() as i32;
    let Ok(entries) = fs::read_dir("/proc") else {
        return 0;
    };
    let is_ours = |variable: &[u8]| {
        let folder = variable.strip_prefix(b"TMPDIR=");
        folder.is_some_and(|folder| {
            temporary
                .iter()
                .any(|own| own.as_os_str().as_bytes() == folder)
        })
    };
    let mut count = 0;
    for id in entries
        .flatten()
        .filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok())
    {
        let environment = || fs::read(format!("/proc/{id}/environ"));
        if id != own && environment().is_ok_and(|text| text.split(|b| *b == 0).any(is_ours)) {
            sys::end_stranger(id);
            count += 1;
        }
    }
    count
}
