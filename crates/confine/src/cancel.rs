//! Stopping everything.

use std::io;
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, Ordering};

/// A switch that stops all running commands, for good.
pub struct CancelSwitch {
    thrown: AtomicBool,
    readable: OwnedFd,
    writable: OwnedFd,
}

impl CancelSwitch {
    /// A switch that is not thrown.
    ///
    /// # Errors
    /// When no more files can be opened.
    pub fn new() -> io::Result<CancelSwitch> {
        let (readable, writable) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
        Ok(CancelSwitch {
            thrown: AtomicBool::new(false),
            readable,
            writable,
        })
    }

    /// Throws the switch.
    pub fn throw(&self) {
        if !self.thrown.swap(true, Ordering::SeqCst) {
            let _ = rustix::io::write(&self.writable, b"x");
        }
    }

    /// Whether it was thrown.
    pub fn is_thrown(&self) -> bool {
        self.thrown.load(Ordering::SeqCst)
    }

    /// Waits until the switch is thrown, but only so long; gives whether it is.
    pub fn wait(&self, patience: std::time::Duration) -> bool {
        let mut fds = [rustix::event::PollFd::new(
            &self.readable,
            rustix::event::PollFlags::IN,
        )];
        let _ = rustix::event::poll(
            &mut fds,
            rustix::event::Timespec::try_from(patience).ok().as_ref(),
        );
        self.is_thrown()
    }

    /// Becomes readable when the switch is thrown.
    pub(crate) fn signal(&self) -> &OwnedFd {
        &self.readable
    }
}
