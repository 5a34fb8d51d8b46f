//! What the tool writes and removes in a workspace, reached without following links: a step, a checkout or an editor may
//! have put a link where a folder or file of the tool's own is to be, and what it leads to is not the tool's to touch.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;

use crate::listing::names_in;

/// A folder below which everything is reached by real folders only.
pub struct Below {
    top: OwnedFd,
}

const FOLDER: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

const NEW_FILE: OFlags =
    OFlags::WRONLY.union(OFlags::CREATE).union(OFlags::EXCL).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

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
        Ok(Below { top: rustix::fs::open(top, flags, Mode::empty())? })
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

    /// Opens a folder below, made where it is not there; what is in its way, links among it, is removed.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn made_folder(&self, path: &str) -> io::Result<OwnedFd> {
        match self.folder_of(path) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => {}
            opened => return Ok(opened?),
        }
        let (above, name) = split(path);
        let above = if above.is_empty() { self.folder("")? } else { self.made_folder(above)? };
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

    /// Makes a new file in the place of whatever is there, and opens it to write; its folder is made, too.
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

    /// Opens a folder below, made where it is not there. What is a person's is not removed: a link or a file in the way is refused.
    ///
    /// # Errors
    /// When it cannot be made, or something on the way is no folder.
    pub fn ready_folder(&self, path: &str) -> io::Result<OwnedFd> {
        match self.folder_of(path) {
            Err(Errno::NOENT) => {}
            Err(Errno::NOTDIR | Errno::LOOP) => return Err(refused(path, "leads through a link or a file")),
            opened => return Ok(opened?),
        }
        let (above, name) = split(path);
        let above = if above.is_empty() { self.folder("")? } else { self.ready_folder(above)? };
        match rustix::fs::mkdirat(&above, name, FOLDER_MODE) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(e) => return Err(e.into()),
        }
        match rustix::fs::openat(&above, name, FOLDER, Mode::empty()) {
            Err(Errno::NOTDIR | Errno::LOOP) => Err(refused(path, "is a link or a file")),
            opened => Ok(opened?),
        }
    }

    /// Puts a file of a person in place whole or not at all, with the permissions of the one that it replaces; folders that are
    /// missing are made. Nothing but a file is replaced, and no link is followed: a checkout may have put one there.
    ///
    /// # Errors
    /// When it cannot be written, or when a link, a folder or something else is there or on the way.
    pub fn replace(&self, path: &str, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<()> {
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
        let written = fresh_file_in(&above, &beside, 0o666).map_err(io::Error::from).and_then(|mut file| {
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
        let written = io::Write::write_all(&mut file, bytes).and_then(|()| {
            match rustix::fs::linkat(&above, &beside, &above, name, AtFlags::empty()) {
                Err(Errno::EXIST) => Ok(()),
                done => Ok(done?),
            }
        });
        let _ = rustix::fs::unlinkat(&above, &beside, AtFlags::empty());
        written
    }

    /// Opens a file of the tool's own: a real one, in real folders. Without `OFlags::CREATE` it must be there.
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

    /// Removes whatever is at a path, if something is; folders with all that is in them, closed ones, too.
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
        match self.folder_of(above).and_then(|above| rustix::fs::unlinkat(&above, name, AtFlags::empty())) {
            Err(Errno::NOENT) => Ok(()),
            done => Ok(done?),
        }
    }

    /// Removes files in and below a folder that `is_old` says of, by the name and the time of the last change in seconds since 1970.
    /// Links are neither followed nor removed. Gives how many there were.
    ///
    /// # Errors
    /// When a folder cannot be read, or a file cannot be removed.
    pub fn remove_files(&self, folder: &str, is_old: &dyn Fn(&str, i64) -> bool) -> io::Result<usize> {
        match self.folder_of(folder) {
            Err(Errno::NOENT) => Ok(0),
            folder => remove_files_in(&folder?, is_old),
        }
    }

    /// Removes a folder if it holds nothing; gives whether that is so.
    pub fn remove_empty_folder(&self, path: &str) -> bool {
        let (above, name) = split(path);
        self.folder_of(above).and_then(|above| rustix::fs::unlinkat(&above, name, AtFlags::REMOVEDIR)).is_ok()
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
                Ok(rustix::fs::renameat(&from_above, from_name, &to_above, to_name)?)
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

/// A name for a file beside another one: short, however long that one's is, and the same each time, so that what a
/// killed program left is found.
pub fn beside(name: &str) -> String {
    format!(".{}.new", &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16])
}

/// A name for a file beside another one that nobody else writes at the same time, of several threads, programs and machines.
fn own_beside(name: &str) -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let host = rustix::system::uname();
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    beside(&format!("{name}/{}/{}/{number}", host.nodename().to_string_lossy(), std::process::id()))
}

/// Refuses to take anything but a file for one.
pub fn regular(file: File) -> io::Result<File> {
    if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::other("it is not a file")) }
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

/// Removes what has a name in a folder, if something does, however deep folders lie in it.
pub fn remove_in(above: &impl AsFd, name: &str) -> rustix::io::Result<()> {
    let above = above.as_fd();
    while let Removal::TooDeep(deep) = remove_named(above, name.as_bytes(), 0)? {
        // It becomes a folder beside the first one, which then is less deep. Nobody else knows its name.
        let moved = format!(".{}.gone", &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16]);
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

/// How deep folders are removed at once: each level keeps one of them open, and takes some of the thread's stack.
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
            return Ok(Removal::TooDeep(DeepFolder { above, name: name.to_owned() }));
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

/// Takes a name away. A folder that is closed to its owner is opened first: steps leave such folders behind.
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

#[cfg(test)]
mod tests {
    use std::fs;
    use std::io::Write;
    use std::os::unix::fs::{PermissionsExt, symlink};

    use super::*;

    /// A workspace, and a folder outside of it with something precious in it.
    fn two() -> (tempfile::TempDir, std::path::PathBuf, Below) {
        let folder = tempfile::tempdir().unwrap();
        let (inside, outside) = (folder.path().join("workspace"), folder.path().join("home"));
        fs::create_dir_all(&inside).unwrap();
        fs::create_dir_all(outside.join("letters")).unwrap();
        fs::write(outside.join("letters/thesis"), "precious").unwrap();
        let below = Below::new(&inside).unwrap();
        (folder, outside, below)
    }

    fn precious(outside: &Path) -> bool {
        fs::read_to_string(outside.join("letters/thesis")).is_ok_and(|text| text == "precious")
    }

    #[test]
    fn links_on_the_way_are_removed_and_not_followed() {
        let (folder, outside, below) = two();
        let inside = folder.path().join("workspace");
        for (link, target) in [("a", "letters"), ("b", ""), ("c", "letters/thesis")] {
            symlink(outside.join(target), inside.join(link)).unwrap();
        }
        below.made_folder("a/sub").unwrap();
        below.fresh_folder("b").unwrap();
        below.fresh_file("c", 0o644).unwrap().write_all(b"new").unwrap();
        assert!(inside.join("a/sub").is_dir() && inside.join("b").is_dir() && precious(&outside));
        assert_eq!(fs::read(inside.join("c")).unwrap(), b"new");
        symlink(outside.join("letters"), inside.join("d")).unwrap();
        below.remove("d/thesis").unwrap();
        assert!(precious(&outside));
        assert!(below.open_to_read("d/thesis").is_err() && below.folder("d").is_err());
        below.remove("d").unwrap();
        assert!(precious(&outside) && inside.join("d").symlink_metadata().is_err());
    }

    #[test]
    fn files_are_replaced_whole_and_by_short_names() {
        let (folder, outside, below) = two();
        let name = "n".repeat(255);
        below.write_whole(&format!("deep/{name}"), b"one").unwrap();
        below.write_whole(&format!("deep/{name}"), b"two").unwrap();
        let inside = folder.path().join("workspace/deep");
        assert_eq!(fs::read(inside.join(&name)).unwrap(), b"two");
        assert_eq!(fs::read_dir(&inside).unwrap().count(), 1);
        symlink(outside.join("letters/thesis"), inside.join(beside("x"))).unwrap();
        below.write_whole("deep/x", b"three").unwrap();
        assert!(precious(&outside));
    }

    #[test]
    fn what_is_a_persons_is_replaced_without_following_links() {
        let (folder, outside, below) = two();
        let inside = folder.path().join("workspace");
        let write = |path: &str, text: &str| below.replace(path, |file| file.write_all(text.as_bytes()));
        write("new/deep/file", "one").unwrap();
        fs::set_permissions(inside.join("new/deep/file"), fs::Permissions::from_mode(0o600)).unwrap();
        write("new/deep/file", "two").unwrap();
        assert_eq!(fs::read(inside.join("new/deep/file")).unwrap(), b"two");
        assert_eq!(fs::metadata(inside.join("new/deep/file")).unwrap().permissions().mode() & 0o777, 0o600);
        symlink(outside.join("letters"), inside.join("folder")).unwrap();
        symlink(outside.join("letters/thesis"), inside.join("file")).unwrap();
        for path in ["folder/thesis", "folder/more/x", "folder", "file", "new/deep/file/x", "new"] {
            assert!(write(path, "stranger").is_err(), "{path}");
        }
        write("fine", "three").unwrap();
        assert!(precious(&outside) && fs::read_dir(outside.join("letters")).unwrap().count() == 1);
        assert!(inside.join("folder").is_symlink() && inside.join("file").is_symlink());
        let failed = below.replace("fine", |_| Err(io::ErrorKind::StorageFull.into()));
        assert!(failed.is_err() && fs::read(inside.join("fine")).unwrap() == b"three");
    }

    #[test]
    fn closed_folders_can_be_removed() {
        let (folder, _, below) = two();
        let inside = folder.path().join("workspace");
        fs::create_dir_all(inside.join("a/b/c")).unwrap();
        fs::write(inside.join("a/b/c/file"), "").unwrap();
        fs::create_dir_all(inside.join("a/d/e")).unwrap();
        for (path, mode) in [("a/d", 0o444), ("a/b/c", 0o000), ("a/b", 0o555), ("a", 0o100)] {
            fs::set_permissions(inside.join(path), fs::Permissions::from_mode(mode)).unwrap();
        }
        below.remove("a").unwrap();
        assert!(!inside.join("a").exists());
        below.remove("a").unwrap();
    }

    #[test]
    fn folders_of_any_depth_can_be_removed() {
        let (folder, outside, below) = two();
        let inside = folder.path().join("workspace");
        let mut at = below.made_folder("deep").unwrap();
        for _ in 0..2500 {
            rustix::fs::symlinkat(&outside, &at, "link").unwrap();
            rustix::fs::mkdirat(&at, "d", Mode::RWXU).unwrap();
            at = rustix::fs::openat(&at, "d", FOLDER, Mode::empty()).unwrap();
        }
        drop(at);
        below.remove("deep").unwrap();
        assert!(precious(&outside) && fs::read_dir(&inside).unwrap().next().is_none());
    }

    #[test]
    fn a_new_file_takes_no_place_and_follows_no_link() {
        let (folder, outside, below) = two();
        let inside = folder.path().join("workspace");
        symlink(outside.join("letters"), inside.join("link")).unwrap();
        symlink(outside.join("letters/thesis"), inside.join("file")).unwrap();
        assert!(below.new_file("link/thesis", 0o644).is_err() && below.new_file("link/new", 0o644).is_err());
        assert!(below.new_file("file", 0o644).is_err() && precious(&outside));
        below.new_file("fine", 0o644).unwrap();
    }

    #[test]
    fn only_files_are_opened() {
        let (folder, _, below) = two();
        let pipe = folder.path().join("workspace/pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, FileType::Fifo, Mode::RWXU, 0).unwrap();
        // This would wait for a writer.
        assert!(below.open_to_read("pipe").is_err());
        below.fresh_file("pipe", 0o644).unwrap();
        assert!(below.open_to_read("pipe").is_ok());
    }

    #[test]
    fn moves_put_things_where_anything_stood() {
        let (folder, outside, below) = two();
        let inside = folder.path().join("workspace");
        fs::create_dir_all(inside.join("to/full")).unwrap();
        fs::write(inside.join("to/full/x"), "").unwrap();
        fs::create_dir_all(inside.join("from")).unwrap();
        fs::write(inside.join("from/y"), "").unwrap();
        below.rename("from", "to/full").unwrap();
        assert!(inside.join("to/full/y").exists() && !inside.join("to/full/x").exists());
        symlink(&outside, inside.join("link")).unwrap();
        below.rename("to/full", "link/letters").unwrap();
        assert!(precious(&outside) && inside.join("link/letters/y").exists());
    }
}
