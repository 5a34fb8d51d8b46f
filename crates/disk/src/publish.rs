//! Copies of results where people find them. Never links to what was made: what is edited there
//! harms nothing else.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;

use rustix::fs::{AtFlags, FileType, Mode, OFlags};
use rustix::io::Errno;

use crate::below::{Below, beside, regular};
use crate::copying::copy_file;
use crate::listing::{TreeFile, TreeFileKind, entries_below};
use crate::removing::remove_in;

/// Puts a copy of a file or folder in a place where anything may be; both by their paths from the
/// workspace's root.
///
/// # Errors
/// When something cannot be read, written or taken away. A file that was there is then still there,
/// whole.
pub fn publish(below: &Below, from: &str, to: &str) -> io::Result<()> {
    let (folder, name) = to.rsplit_once('/').unwrap_or(("", to));
    if FileType::from_raw_mode(below.look_at(from)?.st_mode) == FileType::Directory {
        return publish_folder(below, from, to);
    }
    let folder = below.made_folder(folder)?;
    publish_file(below.open_to_read(from)?, &folder, name)
}

/// Puts a copy of a file where there may be another one, or a folder; never half replaced.
fn publish_file(mut from: File, folder: &OwnedFd, name: &str) -> io::Result<()> {
    match create_copy(folder, name, &from) {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        made => return copy_file(&mut from, &mut made?),
    }
    let there = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
    if FileType::from_raw_mode(there.st_mode) == FileType::Directory {
        remove_in(folder, name)?;
        let mut target = create_copy(folder, name, &from)?;
        return copy_file(&mut from, &mut target);
    }
    // Beside it first, then in its place.
    let beside = beside(name);
    let target = match create_copy(folder, &beside, &from) {
        // What a build that was killed left there.
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            remove_in(folder, &beside)?;
            create_copy(folder, &beside, &from)
        }
        made => made,
    };
    let done = target
        .and_then(|mut target| copy_file(&mut from, &mut target))
        .and_then(|()| Ok(rustix::fs::renameat(folder, &beside, folder, name)?));
    if done.is_err() {
        let _ = rustix::fs::unlinkat(folder, &beside, AtFlags::empty());
    }
    done
}

/// Puts a copy of a folder in the place of whatever is there.
fn publish_folder(below: &Below, from: &str, to: &str) -> io::Result<()> {
    let source = below.folder(from)?;
    let target = Below::of(below.fresh_folder(to)?);
    for TreeFile { path, kind, .. } in entries_below(&source)? {
        match kind {
            TreeFileKind::Link(text) => target.fresh_link(&path, &text)?,
            TreeFileKind::EmptyFolder => drop(target.made_folder(&path)?),
            TreeFileKind::Odd(what) => return Err(io::Error::other(format!("{path}: {what}"))),
            TreeFileKind::File => {
                let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
                let file = rustix::fs::openat(&source, path.as_str(), flags, Mode::empty())?;
                let mut file = regular(File::from(file))?;
                let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
                let folder = target.made_folder(folder)?;
                let mut copy = create_copy(&folder, name, &file)?;
                copy_file(&mut file, &mut copy)?;
            }
        }
    }
    Ok(())
}

/// A new file for a copy that its owner may write; an error where there is something already.
fn create_copy(folder: &OwnedFd, name: &str, of: &File) -> io::Result<File> {
    let executable = of.metadata()?.mode() & 0o100 != 0;
    let mode = Mode::from_raw_mode(if executable { 0o755 } else { 0o644 });
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    match rustix::fs::openat(folder, name, flags, mode) {
        Err(Errno::EXIST) => Err(io::ErrorKind::AlreadyExists.into()),
        made => Ok(made?.into()),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn stands_where_anything_stood() {
        let folder = tempfile::tempdir().unwrap();
        let below = Below::new(folder.path()).unwrap();
        let (from, to) = (
            folder.path().join("made"),
            folder.path().join("out/site/page"),
        );
        fs::write(&from, "high water").unwrap();
        let shows = |text: &str| {
            publish(&below, "made", "out/site/page").unwrap();
            assert_eq!(fs::read_to_string(&to).unwrap(), text);
            assert_eq!(
                to.symlink_metadata().unwrap().permissions().mode() & 0o200,
                0o200
            );
            assert_eq!(
                fs::read_dir(folder.path().join("out/site"))
                    .unwrap()
                    .count(),
                1
            );
        };
        shows("high water");
        fs::write(&from, "low water").unwrap();
        shows("low water");
        fs::remove_file(&to).unwrap();
        fs::create_dir_all(to.join("a/b")).unwrap();
        shows("low water");
        fs::remove_file(&to).unwrap();
        std::os::unix::fs::symlink("nowhere", &to).unwrap();
        shows("low water");
        // A build that was killed while it wrote beside it.
        fs::write(to.with_file_name(beside("page")), "half").unwrap();
        shows("low water");
        fs::write(&from, vec![b'x'; 100_000]).unwrap();
        shows(&"x".repeat(100_000));
    }

    #[test]
    fn folders_stand_where_files_stood() {
        let folder = tempfile::tempdir().unwrap();
        let below = Below::new(folder.path()).unwrap();
        let (from, to) = (folder.path().join("made"), folder.path().join("out"));
        fs::create_dir_all(from.join("a/b")).unwrap();
        fs::create_dir_all(from.join("empty")).unwrap();
        fs::write(from.join("a/b/c"), "x").unwrap();
        std::os::unix::fs::symlink("b/c", from.join("a/link")).unwrap();
        fs::write(&to, "a file").unwrap();
        publish(&below, "made", "out").unwrap();
        fs::write(to.join("old"), "").unwrap();
        publish(&below, "made", "out").unwrap();
        assert_eq!(fs::read(to.join("a/b/c")).unwrap(), b"x");
        assert_eq!(
            fs::read_link(to.join("a/link")).unwrap().to_str(),
            Some("b/c")
        );
        assert!(to.join("empty").is_dir() && !to.join("old").exists());
    }

    #[test]
    fn nothing_behind_a_link_is_touched() {
        let folder = tempfile::tempdir().unwrap();
        let below = Below::new(folder.path()).unwrap();
        let home = folder.path().join("home");
        fs::create_dir_all(home.join("site")).unwrap();
        fs::write(home.join("site/page"), "precious").unwrap();
        fs::write(folder.path().join("made"), "new").unwrap();
        std::os::unix::fs::symlink(&home, folder.path().join("out")).unwrap();
        publish(&below, "made", "out/site/page").unwrap();
        assert_eq!(fs::read(home.join("site/page")).unwrap(), b"precious");
        assert_eq!(
            fs::read(folder.path().join("out/site/page")).unwrap(),
            b"new"
        );
    }
}
