//! What is in a folder and all below it, as it is: links are not followed, and nothing is left out.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags};

use crate::signature::Signature;

/// Something in a folder that a step made, or in a copy of one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TreeFile {
    /// Path below the folder; of a name that is no text, as near as a text comes.
    pub path: String,
    /// What it is.
    pub kind: TreeFileKind,
    /// Its own metadata, links not followed. Of a folder with nothing in it only that it is one:
    /// the times of folders follow from what happens to them, not from what they hold.
    pub signature: Signature,
}

/// What something in a folder is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum TreeFileKind {
    /// A file.
    File,
    /// A symbolic link, and where it leads, as it is written.
    Link(Arc<str>),
    /// A folder with nothing in it.
    EmptyFolder,
    /// Something that cannot be kept, and why, for people.
    Odd(&'static str),
}

/// Why a name cannot be kept.
const ODD_NAME: &str = "its name is not UTF-8 text";

/// Everything in and below a folder, sorted by path. Folders that hold something follow from what
/// they hold.
///
/// # Errors
/// When a folder cannot be read.
pub fn entries_below(folder: &OwnedFd) -> io::Result<Vec<TreeFile>> {
    let mut entries = Vec::new();
    let top = rustix::fs::openat(folder, ".", TO_LIST, Mode::empty())?;
    add_entries(top, "", &mut entries)?;
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(entries)
}

/// The names in an open folder, sorted, without those that are no text.
///
/// # Errors
/// When it cannot be read.
pub fn names_in(folder: &OwnedFd) -> io::Result<Vec<String>> {
    let top = rustix::fs::openat(folder, ".", TO_LIST, Mode::empty())?;
    let mut names = Vec::new();
    for entry in Dir::read_from(&top)? {
        let entry = entry?;
        if let Ok(name) = entry.file_name().to_str()
            && !matches!(name, "." | "..")
        {
            names.push(name.to_owned());
        }
    }
    names.sort_unstable();
    Ok(names)
}

const TO_LIST: OFlags = OFlags::RDONLY
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

/// Adds what is in an open folder; gives whether that is anything.
fn add_entries(folder: OwnedFd, below: &str, entries: &mut Vec<TreeFile>) -> io::Result<bool> {
    let mut has_any = false;
    for entry in Dir::read_from(&folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if matches!(name.to_bytes(), b"." | b"..") {
            continue;
        }
        has_any = true;
        let stat = match rustix::fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            // It is gone again.
            Err(rustix::io::Errno::NOENT) => continue,
            stat => stat?,
        };
        let text = name.to_string_lossy();
        let path = if below.is_empty() {
            text.to_string()
        } else {
            format!("{below}/{text}")
        };
        let signature = Signature::from(&stat);
        if name.to_str().is_err() {
            entries.push(TreeFile {
                path,
                kind: TreeFileKind::Odd(ODD_NAME),
                signature,
            });
            continue;
        }
        let kind = match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => TreeFileKind::File,
            FileType::Symlink => link_at(folder.as_fd(), name),
            FileType::Directory => {
                let inner = rustix::fs::openat(&folder, name, TO_LIST, Mode::empty())?;
                if !add_entries(inner, &path, entries)? {
                    let signature = Signature::of_empty_folder();
                    entries.push(TreeFile {
                        path,
                        kind: TreeFileKind::EmptyFolder,
                        signature,
                    });
                }
                continue;
            }
            _ => TreeFileKind::Odd("it is neither a file, a folder nor a link"),
        };
        entries.push(TreeFile {
            path,
            kind,
            signature,
        });
    }
    Ok(has_any)
}

fn link_at(folder: BorrowedFd<'_>, name: &std::ffi::CStr) -> TreeFileKind {
    let target = rustix::fs::readlinkat(folder, name, Vec::new());
    match target.map(|target| target.into_string()) {
        Ok(Ok(target)) => TreeFileKind::Link(target.into()),
        _ => TreeFileKind::Odd("it is a link that leads to no UTF-8 text"),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::ffi::OsStrExt;

    use super::*;

    #[test]
    fn everything_is_there_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        fs::create_dir_all(at.join("b/empty")).unwrap();
        fs::write(at.join("b/file"), "x").unwrap();
        std::os::unix::fs::symlink("b", at.join("a")).unwrap();
        fs::write(at.join(std::ffi::OsStr::from_bytes(b"n\xff")), "").unwrap();
        let (fifo, mode) = (FileType::Fifo, Mode::RWXU);
        rustix::fs::mknodat(rustix::fs::CWD, at.join("pipe"), fifo, mode, 0).unwrap();
        let open = rustix::fs::open(at, TO_LIST, Mode::empty()).unwrap();
        let found: Vec<String> = entries_below(&open)
            .unwrap()
            .iter()
            .map(|entry| match &entry.kind {
                TreeFileKind::File => format!("{} is a file", entry.path),
                TreeFileKind::Link(target) => format!("{} leads to {target}", entry.path),
                TreeFileKind::EmptyFolder => format!("{} is empty", entry.path),
                TreeFileKind::Odd(what) => format!("{}: {what}", entry.path),
            })
            .collect();
        assert_eq!(
            found,
            [
                "a leads to b",
                "b/empty is empty",
                "b/file is a file",
                "n\u{fffd}: its name is not UTF-8 text",
                "pipe: it is neither a file, a folder nor a link",
            ]
        );
    }
}
