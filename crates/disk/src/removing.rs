//! Removing whatever has a name in a folder: closed folders, deep ones, and never by way of links.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::fs::{AtFlags, Dir, Mode, OFlags};
use rustix::io::Errno;

/// Removes what has a name in a folder, if something does, however deep folders lie in it.
pub fn remove_in(above: &impl AsFd, name: &str) -> rustix::io::Result<()> {
    let above = above.as_fd();
    while let Removal::TooDeep(deep) = remove_named(above, name.as_bytes(), 0)? {
        // It becomes a folder beside the first one, which then is less deep. Nobody else knows its
        // name.
        let moved = format!(
            ".{}.gone",
            &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16]
        );
        remove_in(&above, &moved)?;
        let mut done = rustix::fs::renameat(&deep.above, &deep.name[..], above, &moved[..]);
        if done == Err(Errno::ACCESS) {
            for (folder, name) in [(&deep.above, &b"."[..]), (&deep.above, &deep.name[..])] {
                rustix::fs::chmodat(folder, name, Mode::RWXU, AtFlags::empty())?;
            }
            done = rustix::fs::renameat(&deep.above, &deep.name[..], above, &moved[..]);
        }
        done?;
        remove_in(&above, &moved)?;
    }
    Ok(())
}

/// How deep folders are removed at once: each level keeps one of them open, and takes some of the
/// thread's stack.
const DEEPEST: usize = 200;

/// What came of removing something.
enum Removal {
    /// It is gone.
    Done,
    /// A folder lies so deep that it is to be removed by itself.
    TooDeep(DeepFolder),
}

/// A folder, and the open one that it is in.
struct DeepFolder {
    above: OwnedFd,
    name: Vec<u8>,
}

fn remove_named(above: BorrowedFd<'_>, name: &[u8], depth: usize) -> rustix::io::Result<Removal> {
    match unlink(above, name, AtFlags::empty()) {
        Ok(()) | Err(Errno::NOENT) => return Ok(Removal::Done),
        // What a folder answers, on one kernel or another.
        Err(Errno::ISDIR | Errno::PERM) => {}
        Err(e) => return Err(e),
    }
    match unlink(above, name, AtFlags::REMOVEDIR) {
        Ok(()) | Err(Errno::NOENT) => return Ok(Removal::Done),
        Err(Errno::NOTEMPTY | Errno::EXIST) if depth < DEEPEST => {}
        Err(Errno::NOTEMPTY | Errno::EXIST) => {
            let above = above.try_clone_to_owned().map_err(|_| Errno::MFILE)?;
            return Ok(Removal::TooDeep(DeepFolder {
                above,
                name: name.to_owned(),
            }));
        }
        Err(e) => return Err(e),
    }
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let folder = match rustix::fs::openat(above, name, flags, Mode::empty()) {
        Err(Errno::ACCESS) => {
            rustix::fs::chmodat(above, name, Mode::RWXU, AtFlags::empty())?;
            rustix::fs::openat(above, name, flags, Mode::empty())?
        }
        opened => opened?,
    };
    for entry in Dir::read_from(&folder)? {
        let entry = entry?;
        if !matches!(entry.file_name().to_bytes(), b"." | b"..") {
            let removed = remove_named(folder.as_fd(), entry.file_name().to_bytes(), depth + 1)?;
            if matches!(removed, Removal::TooDeep(_)) {
                return Ok(removed);
            }
        }
    }
    unlink(above, name, AtFlags::REMOVEDIR)?;
    Ok(Removal::Done)
}

/// Takes a name away. A folder that is closed to its owner is opened first: steps leave such
/// folders behind.
fn unlink(above: BorrowedFd<'_>, name: &[u8], flags: AtFlags) -> rustix::io::Result<()> {
    match rustix::fs::unlinkat(above, name, flags) {
        Err(Errno::ACCESS) => {
            match rustix::fs::fchmod(above, Mode::RWXU) {
                // It was opened only to look names up.
                Err(Errno::BADF) => rustix::fs::chmodat(above, ".", Mode::RWXU, AtFlags::empty())?,
                done => done?,
            }
            rustix::fs::unlinkat(above, name, flags)
        }
        done => done,
    }
}
