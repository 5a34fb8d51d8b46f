//! What the tool writes and removes in a workspace, reached without following links: a step, a
//! checkout or an editor may have put a link where a folder or file of the tool's own is to be, and
//! what it leads to is not the tool's to touch.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;

use crate::listing::names_in;
use crate::removing::remove_in;

/// A folder below which everything is reached by real folders only.
#[derive(Debug)]
pub struct Below {
    top: OwnedFd,
}

const FOLDER: OFlags = OFlags::PATH
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

const NEW_FILE: OFlags = OFlags::WRONLY
    .union(OFlags::CREATE)
    .union(OFlags::EXCL)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

/// Permissions of folders that the tool makes, before the mask of the user who builds.
const FOLDER_MODE: Mode = Mode::from_raw_mode(0o777);

/// A path's folder and last name. Paths have no `.` and `..` in them.
fn split(path: &str) -> (&str, &str) {
    path.rsplit_once('/').unwrap_or(("", path))
}

impl Below {
    /// The folder at a path, which may lead there by links: the user who is in it chose that.
    ///
    /// # Errors
    /// When it is not there.
    pub fn new(top: &Path) -> io::Result<Below> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(Below {
            top: rustix::fs::open(top, flags, Mode::empty())?,
        })
    }

    /// An open folder.
    pub fn of(top: OwnedFd) -> Below {
        Below { top }
    }

    /// The folder itself.
    pub fn top(&self) -> BorrowedFd<'_> {
        self.top.as_fd()
    }

    /// Opens a folder below; an empty path is the top.
    ///
    /// # Errors
    /// When it is not there, or something on the way is no folder.
    pub fn folder(&self, path: &str) -> io::Result<OwnedFd> {
        Ok(self.folder_of(path)?)
    }

    fn folder_of(&self, path: &str) -> rustix::io::Result<OwnedFd> {
        let path = if path.is_empty() { "." } else { path };
        let way = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.top, path, FOLDER, Mode::empty(), way) {
            // Kernels that do not know this call are asked name by name.
            Err(Errno::NOSYS | Errno::PERM) => self.step_by_step(path),
            // A name was moved in the meantime.
            Err(Errno::AGAIN) => self.step_by_step(path),
            opened => opened,
        }
    }

    fn step_by_step(&self, path: &str) -> rustix::io::Result<OwnedFd> {
        let mut at = rustix::fs::openat(&self.top, ".", FOLDER, Mode::empty())?;
        for name in path.split('/').filter(|name| *name != ".") {
            at = rustix::fs::openat(&at, name, FOLDER, Mode::empty())?;
        }
        Ok(at)
    }

    /// Opens a folder to look up names in it, wherever links lead; `None` where it is not there.
    pub fn open_led_to(&self, path: &[u8]) -> Option<OwnedFd> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        rustix::fs::openat(&self.top, path, flags, Mode::empty()).ok()
    }

    /// Opens a folder below, made where it is not there; what is in its way, links among it, is
    /// removed.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn made_folder(&self, path: &str) -> io::Result<OwnedFd> {
        match self.folder_of(path) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => {}
            opened => return Ok(opened?),
        }
        let (above, name) = split(path);
        let above = if above.is_empty() {
            self.folder("")?
        } else {
            self.made_folder(above)?
        };
        Ok(made_in(&above, name)?)
    }

    /// Makes a folder and opens it: empty and new, in the place of whatever is there.
    ///
    /// # Errors
    /// When it cannot be made, or what is there cannot be removed.
    pub fn fresh_folder(&self, path: &str) -> io::Result<OwnedFd> {
        let (above, name) = split(path);
        let above = self.made_folder(above)?;
        match rustix::fs::mkdirat(&above, name, FOLDER_MODE) {
            Ok(()) => {}
            Err(Errno::EXIST) => {
                remove_in(&above, name)?;
                rustix::fs::mkdirat(&above, name, FOLDER_MODE)?;
            }
            Err(e) => return Err(e.into()),
        }
        Ok(rustix::fs::openat(&above, name, FOLDER, Mode::empty())?)
    }

    /// Makes a new file in the place of whatever is there, and opens it to write; its folder is
    /// made, too.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn fresh_file(&self, path: &str, mode: u32) -> io::Result<File> {
        let (above, name) = split(path);
        let above = self.made_folder(above)?;
        Ok(fresh_file_in(&above, name, mode)?)
    }

    /// Makes a new file where nothing is yet, in a folder that is there, and opens it to write.
    ///
    /// # Errors
    /// When it cannot be made, or something has its name.
    pub fn new_file(&self, path: &str, mode: u32) -> io::Result<File> {
        let (above, name) = split(path);
        let above = self.folder(above)?;
        Ok(rustix::fs::openat(&above, name, NEW_FILE, Mode::from_raw_mode(mode))?.into())
    }

    /// Writes a file whole or not at all: beside its place first.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn write_whole(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        let (above, name) = split(path);
        let above = self.made_folder(above)?;
        let beside = beside(name);
        let written = fresh_file_in(&above, &beside, 0o644)
            .map_err(io::Error::from)
            .and_then(|mut file| io::Write::write_all(&mut file, bytes))
            .and_then(|()| Ok(rustix::fs::renameat(&above, &beside, &above, name)?));
        if written.is_err() {
            let _ = rustix::fs::unlinkat(&above, &beside, AtFlags::empty());
        }
        written
    }

    /// Opens a folder below, made where it is not there. What is a person's is not removed: a link
    /// or a file in the way is refused.
    ///
    /// # Errors
    /// When it cannot be made, or something on the way is no folder.
    pub fn ready_folder(&self, path: &str) -> io::Result<OwnedFd> {
        match self.folder_of(path) {
            Err(Errno::NOENT) => {}
            Err(Errno::NOTDIR | Errno::LOOP) => {
                return Err(refused(path, "leads through a link or a file"));
            }
            opened => return Ok(opened?),
        }
        let (above, name) = split(path);
        let above = if above.is_empty() {
            self.folder("")?
        } else {
            self.ready_folder(above)?
        };
        match rustix::fs::mkdirat(&above, name, FOLDER_MODE) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(e) => return Err(e.into()),
        }
        match rustix::fs::openat(&above, name, FOLDER, Mode::empty()) {
            Err(Errno::NOTDIR | Errno::LOOP) => Err(refused(path, "is a link or a file")),
            opened => Ok(opened?),
        }
    }

    /// Puts a file of a person in place whole or not at all, with the permissions of the one that
    /// it replaces; folders that are missing are made. Nothing but a file is replaced, and no link
    /// is followed: a checkout may have put one there.
    ///
    /// # Errors
    /// When it cannot be written, or when a link, a folder or something else is there or on the
    /// way.
    pub fn replace(
        &self,
        path: &str,
        write: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> io::Result<()> {
        let (above, name) = split(path);
        let above = self.ready_folder(above)?;
        let mode = match rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(found) if FileType::from_raw_mode(found.st_mode) == FileType::RegularFile => {
                Some(found.st_mode & 0o7777)
            }
            Ok(_) => return Err(refused(path, "is there, and no file")),
            Err(Errno::NOENT) => None,
            Err(e) => return Err(e.into()),
        };
        let beside = own_beside(name);
        let written = fresh_file_in(&above, &beside, 0o666)
            .map_err(io::Error::from)
            .and_then(|mut file| {
                write(&mut file)?;
                if let Some(mode) = mode {
                    rustix::fs::fchmod(&file, Mode::from_raw_mode(mode))?;
                }
                Ok(rustix::fs::renameat(&above, &beside, &above, name)?)
            });
        if written.is_err() {
            let _ = rustix::fs::unlinkat(&above, &beside, AtFlags::empty());
        }
        written
    }

    /// Puts bytes in place that only the owner may read, unless a file is there already.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn keep_private(&self, name: &str, bytes: &[u8]) -> io::Result<()> {
        let above = self.folder("")?;
        let beside = own_beside(name);
        let mut file = fresh_file_in(&above, &beside, 0o600)?;
        let written =
            io::Write::write_all(&mut file, bytes).and_then(|()| {
                match rustix::fs::linkat(&above, &beside, &above, name, AtFlags::empty()) {
                    Err(Errno::EXIST) => Ok(()),
                    done => Ok(done?),
                }
            });
        let _ = rustix::fs::unlinkat(&above, &beside, AtFlags::empty());
        written
    }

    /// Opens a file of the tool's own: a real one, in real folders. Without `OFlags::CREATE` it
    /// must be there.
    ///
    /// # Errors
    /// When it is not there, or is a link or something else than a file.
    pub fn open(&self, path: &str, flags: OFlags) -> io::Result<File> {
        let (above, name) = split(path);
        let above = self.folder(above)?;
        let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let file = rustix::fs::openat(&above, name, flags, Mode::from_raw_mode(0o644))?;
        regular(file.into())
    }

    /// Opens a file of the tool's own for reading.
    ///
    /// # Errors
    /// When it is not there, or is a link or something else than a file.
    pub fn open_to_read(&self, path: &str) -> io::Result<File> {
        self.open(path, OFlags::RDONLY)
    }

    /// Makes a link in the place of whatever is there.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn fresh_link(&self, path: &str, target: &str) -> io::Result<()> {
        let (above, name) = split(path);
        let above = self.made_folder(above)?;
        match rustix::fs::symlinkat(target, &above, name) {
            Err(Errno::EXIST) => {
                remove_in(&above, name)?;
                Ok(rustix::fs::symlinkat(target, &above, name)?)
            }
            made => Ok(made?),
        }
    }

    /// The metadata of what is at a path itself, reached by real folders only.
    ///
    /// # Errors
    /// When nothing is there.
    pub fn look_at(&self, path: &str) -> io::Result<Stat> {
        let (above, name) = split(path);
        let above = self.folder_of(above)?;
        Ok(rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    /// Removes whatever is at a path, if something is; folders with all that is in them, closed
    /// ones, too.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn remove(&self, path: &str) -> io::Result<()> {
        let (above, name) = split(path);
        match self.folder_of(above) {
            // After a link nothing is the tool's.
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(()),
            above => Ok(remove_in(&above?, name)?),
        }
    }

    /// Removes a file or link, if it is there.
    ///
    /// # Errors
    /// When it cannot be removed, or a link is on the way.
    pub fn remove_file(&self, path: &str) -> io::Result<()> {
        let (above, name) = split(path);
        match self
            .folder_of(above)
            .and_then(|above| rustix::fs::unlinkat(&above, name, AtFlags::empty()))
        {
            Err(Errno::NOENT) => Ok(()),
            done => Ok(done?),
        }
    }

    /// Removes files in and below a folder that `is_old` says of, by the name and the time of the
    /// last change in seconds since 1970.
    /// Links are neither followed nor removed. Gives how many there were.
    ///
    /// # Errors
    /// When a folder cannot be read, or a file cannot be removed.
    pub fn remove_files(
        &self,
        folder: &str,
        is_old: &dyn Fn(&str, i64) -> bool,
    ) -> io::Result<usize> {
        match self.folder_of(folder) {
            Err(Errno::NOENT) => Ok(0),
            folder => remove_files_in(&folder?, is_old),
        }
    }

    /// Removes a folder if it holds nothing; gives whether that is so.
    pub fn remove_empty_folder(&self, path: &str) -> bool {
        let (above, name) = split(path);
        self.folder_of(above)
            .and_then(|above| rustix::fs::unlinkat(&above, name, AtFlags::REMOVEDIR))
            .is_ok()
    }

    /// Moves a file or folder to a place where anything may be.
    ///
    /// # Errors
    /// When it cannot.
    pub fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        let ((from_above, from_name), (to_above, to_name)) = (split(from), split(to));
        let (from_above, to_above) = (self.folder(from_above)?, self.made_folder(to_above)?);
        match rustix::fs::renameat(&from_above, from_name, &to_above, to_name) {
            Err(Errno::ISDIR | Errno::NOTDIR | Errno::NOTEMPTY | Errno::EXIST) => {
                remove_in(&to_above, to_name)?;
                Ok(rustix::fs::renameat(
                    &from_above,
                    from_name,
                    &to_above,
                    to_name,
                )?)
            }
            moved => Ok(moved?),
        }
    }
}

fn remove_files_in(folder: &OwnedFd, is_old: &dyn Fn(&str, i64) -> bool) -> io::Result<usize> {
    let mut removed = 0;
    for name in names_in(folder)? {
        let found = match rustix::fs::statat(folder, &*name, AtFlags::SYMLINK_NOFOLLOW) {
            // Somebody else may remove the same ones.
            Err(Errno::NOENT) => continue,
            found => found?,
        };
        match FileType::from_raw_mode(found.st_mode) {
            FileType::Directory => {
                let inner = rustix::fs::openat(folder, &*name, FOLDER, Mode::empty())?;
                removed += remove_files_in(&inner, is_old)?;
            }
            FileType::RegularFile if is_old(&name, found.st_mtime) => {
                match rustix::fs::unlinkat(folder, &*name, AtFlags::empty()) {
                    Err(Errno::NOENT) => {}
                    done => {
                        done?;
                        removed += 1;
                    }
                }
            }
            _ => {}
        }
    }
    Ok(removed)
}

/// Says why something of a person is left alone.
fn refused(path: &str, why: &str) -> io::Error {
    io::Error::other(format!("{path} {why}: it is left alone"))
}

/// A name for a file beside another one: short, however long that one's is, and the same each time,
/// so that what a killed program left is found.
pub fn beside(name: &str) -> String {
    format!(
        ".{}.new",
        &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16]
    )
}

/// A name for a file beside another one that nobody else writes at the same time, of several
/// threads, programs and machines.
fn own_beside(name: &str) -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let host = rustix::system::uname();
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    beside(&format!(
        "{name}/{}/{}/{number}",
        host.nodename().to_string_lossy(),
        std::process::id()
    ))
}

/// Refuses to take anything but a file for one.
pub fn regular(file: File) -> io::Result<File> {
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(io::Error::other("it is not a file"))
    }
}

fn made_in(above: &OwnedFd, name: &str) -> rustix::io::Result<OwnedFd> {
    match rustix::fs::openat(above, name, FOLDER, Mode::empty()) {
        Err(Errno::NOENT) => {}
        Err(Errno::NOTDIR | Errno::LOOP) => remove_in(above, name)?,
        opened => return opened,
    }
    match rustix::fs::mkdirat(above, name, FOLDER_MODE) {
        // Another thread was quicker.
        Ok(()) | Err(Errno::EXIST) => rustix::fs::openat(above, name, FOLDER, Mode::empty()),
        Err(e) => Err(e),
    }
}

fn fresh_file_in(above: &OwnedFd, name: &str, mode: u32) -> rustix::io::Result<File> {
    let made = match rustix::fs::openat(above, name, NEW_FILE, Mode::from_raw_mode(mode)) {
        Err(Errno::EXIST) => {
            remove_in(above, name)?;
            rustix::fs::openat(above, name, NEW_FILE, Mode::from_raw_mode(mode))
        }
        made => made,
    };
    made.map(File::from)
}

#[cfg(test)]
mod tests;
