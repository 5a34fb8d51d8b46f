//! Whether somebody writes to a file.

use std::fs::File;
use std::os::fd::AsRawFd;

/// Whether a program has a file open for writing, or mapped to be written to: through mapped memory
/// it may change without a new time.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Writers {
    /// No program has.
    None,
    /// At least one has.
    Some,
    /// The kernel does not say, as of a file of another user.
    Unknown,
}

/// Who writes to an open file now.
pub fn writers_of(file: &File) -> Writers {
    let writers = take_lease(file);
    if writers == Writers::None {
        give_back_lease(file);
    }
    writers
}

/// Takes a lease for readers, which is refused while there is a writer: it is taken where there is
/// none.
fn take_lease(file: &File) -> Writers {
    let file = file.as_raw_fd();
    // SAFETY: the descriptor is open; the calls take numbers. Who begins to write while we have it
    // is kept waiting until it is given back, and we get a signal: one that is ignored where nobody
    // asked for it, as the usual one would end this program.
    unsafe {
        if libc::fcntl(file, F_SETSIG, libc::SIGURG) < 0 {
            return Writers::Unknown;
        }
        if libc::fcntl(file, libc::F_SETLEASE, libc::F_RDLCK) == 0 {
            return Writers::None;
        }
        if super::orders::error() == libc::EAGAIN {
            Writers::Some
        } else {
            Writers::Unknown
        }
    }
}

fn give_back_lease(file: &File) {
    // SAFETY: as above.
    unsafe {
        libc::fcntl(file.as_raw_fd(), libc::F_SETLEASE, libc::F_UNLCK);
    }
}

/// Which signal says that a lease is to be given back: a number of Linux that `libc` does not name.
const F_SETSIG: libc::c_int = 10;

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicBool, Ordering};

    use super::*;

    #[test]
    fn writers_are_seen_while_they_are_there() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        std::fs::write(&path, "x").unwrap();
        let reader = File::open(&path).unwrap();
        assert_eq!(writers_of(&reader), Writers::None);
        let writer = File::options().write(true).open(&path).unwrap();
        assert_eq!(writers_of(&reader), Writers::Some);
        drop(writer);
        assert_eq!(writers_of(&reader), Writers::None);
    }

    #[test]
    fn who_begins_to_write_meanwhile_waits_and_does_not_end_this_program() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        std::fs::write(&path, "x").unwrap();
        let reader = File::open(&path).unwrap();
        assert_eq!(take_lease(&reader), Writers::None);
        let opened = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                drop(File::options().write(true).open(&path).unwrap());
                opened.store(true, Ordering::SeqCst);
            });
            // The signal comes when the other thread is in the call.
            std::thread::sleep(std::time::Duration::from_millis(50));
            assert!(!opened.load(Ordering::SeqCst));
            give_back_lease(&reader);
        });
        assert!(opened.into_inner());
    }
}
