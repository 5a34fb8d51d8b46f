//! Who asks a watcher.

use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_disk::{Below, Signature};
use nubrik_memory::Version;
use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, sockopt};

use crate::around::SeenFrom;
use crate::messages::{Want, WatcherAnswer, WatcherQuestion, WatcherStatus, receive, send};

/// Where a watcher listens, in the tool's own folder.
pub(crate) const SOCKET: &str = "watcher.socket";

/// To look oneself takes not much longer.
const PATIENCE: Duration = Duration::from_millis(100);

/// A workspace's watcher, seen from who asks it. Each question is one connection; where no watcher
/// runs, where it is slow, or is not this user's, there is no answer.
pub struct WatcherPlace<'p> {
    own: &'p Below,
    root: &'p Below,
    program: Digest,
}

/// A watcher stays as long as this does.
#[derive(Debug)]
pub struct WatcherHeld {
    _connection: UnixStream,
}

impl<'p> WatcherPlace<'p> {
    /// The one of a workspace with a root and a folder of the tool's own, for a program with a
    /// digest that tells it from all others.
    pub fn new(root: &'p Below, own: &'p Below, program: Digest) -> WatcherPlace<'p> {
        WatcherPlace { own, root, program }
    }

    /// Which paths of a seal may have changed. The seal is named by its path in the tool's own
    /// folder, its state, and the metadata of its file: where paths are named, that file was whole
    /// when it had these metadata.
    pub fn doubtful(&self, seal: &str, version: Version, file: Signature) -> Option<WatcherAnswer> {
        let seen = SeenFrom::here(self.root.top()).ok()?;
        self.ask(Want::Doubtful {
            seen,
            seal: seal.to_owned(),
            version,
            file,
        })
        .map(|answered| answered.0)
    }

    /// Has a seal learnt that was written just now. Whether there is a watcher.
    pub fn learn(&self, seal: &str) -> bool {
        self.ask(Want::Learn {
            seal: seal.to_owned(),
        })
        .is_some_and(|(answer, _)| answer == WatcherAnswer::Done)
    }

    /// How it is.
    pub fn status(&self) -> Option<WatcherStatus> {
        match self.ask(Want::Status)?.0 {
            WatcherAnswer::Status(status) => Some(status),
            _ => None,
        }
    }

    /// Has it stay.
    pub fn stay(&self) -> Option<WatcherHeld> {
        let (answer, connection) = self.ask(Want::Stay)?;
        (answer == WatcherAnswer::Done).then_some(WatcherHeld {
            _connection: connection,
        })
    }

    /// Has it end.
    pub fn end(&self) {
        let _ = self.ask(Want::End);
    }

    fn ask(&self, want: Want) -> Option<(WatcherAnswer, UnixStream)> {
        let mut connection = connect(self.own).ok()?;
        send(
            &mut connection,
            &WatcherQuestion {
                program: self.program,
                want,
            },
        )
        .ok()?;
        let answer = receive(&mut connection).ok()?;
        Some((answer, connection))
    }
}

/// The address of the socket in an open folder, whatever the length of its path.
pub(crate) fn address(own: &Below) -> rustix::io::Result<SocketAddrUnix> {
    SocketAddrUnix::new(format!("/proc/self/fd/{}/{SOCKET}", own.top().as_raw_fd()))
}

fn connect(own: &Below) -> io::Result<UnixStream> {
    // A stopped watcher accepts nobody: a connection that waits would wait for ever.
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = rustix::net::socket_with(AddressFamily::UNIX, SocketType::STREAM, flags, None)?;
    rustix::net::connect(&socket, &address(own)?)?;
    if !is_of_this_user(&socket) {
        return Err(io::Error::other("another user's watcher"));
    }
    let connection = UnixStream::from(socket);
    connection.set_nonblocking(false)?;
    connection.set_read_timeout(Some(PATIENCE))?;
    connection.set_write_timeout(Some(PATIENCE))?;
    Ok(connection)
}

/// Whether who is at the other end is the user of this program.
pub(crate) fn is_of_this_user(connection: &OwnedFd) -> bool {
    let own = rustix::process::geteuid();
    sockopt::socket_peercred(connection).is_ok_and(|other| other.uid == own)
}
