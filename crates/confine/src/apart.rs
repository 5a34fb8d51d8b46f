//! Running apart: as somebody without privileges, in a network of one's own.

use std::fs;
use std::io;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpStream};
use std::os::fd::{AsFd, AsRawFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::sys;

/// A user without privileges (the superuser becomes nobody, everybody else stays who they are), and a network in
/// which nobody else is: that of the machine and of others cannot be reached from it, nor it from there.
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

    pub(crate) fn descriptors(&self) -> (RawFd, Option<RawFd>) {
        (self.user.as_raw_fd(), self.network.as_ref().map(AsRawFd::as_raw_fd))
    }

    /// Whether somebody accepts connections at a place of its network.
    ///
    /// # Errors
    /// When no connection can be tried.
    pub fn answers(&self, address: Ipv4Addr, port: u16, patience: Duration) -> io::Result<bool> {
        let place = SocketAddrV4::new(address, port);
        let Some(network) = &self.network else { return Ok(answers_here(place, patience)) };
        let socket = sys::socket_apart(self.user.as_fd(), network.as_fd())?;
        match rustix::net::connect(&socket, &place) {
            Ok(()) => return Ok(true),
            Err(rustix::io::Errno::INPROGRESS) => {}
            Err(_) => return Ok(false),
        }
        let mut fds = [PollFd::new(&socket, PollFlags::OUT)];
        let _ = poll(&mut fds, Timespec::try_from(patience).ok().as_ref());
        let decided = !fds[0].revents().is_empty();
        Ok(decided && matches!(rustix::net::sockopt::socket_error(&socket), Ok(Ok(()))))
    }
}

/// Whether somebody accepts connections at a place of this machine's network.
fn answers_here(place: SocketAddrV4, patience: Duration) -> bool {
    TcpStream::connect_timeout(&SocketAddr::V4(place), patience).is_ok()
}

/// When a process was started, in ticks since the machine was: with its number that is one process and no other.
pub fn start_of_process(id: i32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
    // The name, in brackets, may hold anything; the time is the 20th field behind it.
    stat.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()
}

/// Ends processes that an earlier run of this program left behind, and gives how many there were: those that
/// are in one of the process groups (the leader's number and start), those whose folder lies in `folder`, and
/// those whose environment names it as their `TMPDIR`.
pub fn end_left_over(folder: &Path, groups: &[(i32, u64)]) -> usize {
    let own = std::process::id() as i32;
    let theirs: Vec<i32> = groups
        .iter()
        .filter(|(id, start)| start_of_process(*id) == Some(*start))
        .map(|(id, _)| *id)
        .collect();
    let Ok(entries) = fs::read_dir("/proc") else { return 0 };
    let mut variable = b"TMPDIR=".to_vec();
    variable.extend_from_slice(folder.as_os_str().as_bytes());
    let mut count = 0;
    for id in entries.flatten().filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok()) {
        if id == own {
            continue;
        }
        let in_group = || group_of(id).is_some_and(|group| theirs.contains(&group));
        let in_folder = || fs::read_link(format!("/proc/{id}/cwd")).is_ok_and(|cwd| cwd.starts_with(folder));
        let of_ours = || {
            fs::read(format!("/proc/{id}/environ"))
                .is_ok_and(|text| text.split(|b| *b == 0).any(|v| v.starts_with(&variable)))
        };
        if in_group() || in_folder() || of_ours() {
            sys::end_stranger(id);
            count += 1;
        }
    }
    count
}

/// The process group of a process.
fn group_of(id: i32) -> Option<i32> {
    let stat = fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
    stat.rsplit_once(')')?.1.split_whitespace().nth(2)?.parse().ok()
}
