//! Whether somebody writes to a file.

use std::fs::File;
use std::os::fd::AsRawFd;

/// Whether a program has a file open for writing, or mapped to be written to: through mapped memory it may change without a new time. Also
/// `false` where the kernel does not tell, as of files of others.
pub fn is_open_for_writing(file: &File) -> bool {
    // SAFETY: the descriptor is open; the calls take numbers. A lease for readers is refused while there is a writer.
    unsafe {
        let held = libc::fcntl(file.as_raw_fd(), libc::F_SETLEASE, libc::F_RDLCK);
        let refused = held < 0 && super::orders::error() == libc::EAGAIN;
        if held == 0 {
            libc::fcntl(file.as_raw_fd(), libc::F_SETLEASE, libc::F_UNLCK);
        }
        refused
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn writers_are_seen_while_they_are_there() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        std::fs::write(&path, "x").unwrap();
        let reader = File::open(&path).unwrap();
        assert!(!is_open_for_writing(&reader));
        let writer = File::options().write(true).open(&path).unwrap();
        assert!(is_open_for_writing(&reader));
        drop(writer);
        assert!(!is_open_for_writing(&reader));
    }
}
