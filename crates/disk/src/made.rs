//! What steps leave at the places of their outputs.

use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{FileType, Mode, OFlags};
use rustix::io::Errno;

use crate::below::{Below, regular};
use crate::copying::copy_file;
use crate::listing::{TreeFile, TreeFileKind, entries_below};
use crate::signature::Signature;

/// What is at the place of an output.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum MadeThing {
    /// Nothing.
    Nothing,
    /// A file or a folder, as its metadata says.
    There(Signature),
    /// Something that cannot be kept, and why, for people.
    Odd(String),
}

/// What a step left at the place of an output. A link that leads to a file of the step's own is
/// replaced by that file.
pub fn look_at_made(below: &Below, root: &Path, path: &str, folder: &str) -> MadeThing {
    let found = match below.look_at(path) {
        Ok(found) => found,
        Err(e)
            if [Errno::LOOP, Errno::NOTDIR]
                .iter()
                .any(|errno| e.raw_os_error() == Some(errno.raw_os_error())) =>
        {
            return MadeThing::Odd("its folder was replaced by a link or a file".to_owned());
        }
        Err(_) => return MadeThing::Nothing,
    };
    match FileType::from_raw_mode(found.st_mode) {
        FileType::RegularFile | FileType::Directory => MadeThing::There(Signature::from(&found)),
        FileType::Symlink => match take_target(below, root, path, folder) {
            Ok(()) => below.look_at(path).map_or(MadeThing::Nothing, |found| {
                MadeThing::There(Signature::from(&found))
            }),
            Err(why) => MadeThing::Odd(why),
        },
        _ => MadeThing::Odd("it is neither a file nor a folder".to_owned()),
    }
}

/// Replaces a link by a copy of the file of the step's own that it leads to.
fn take_target(below: &Below, root: &Path, path: &str, folder: &str) -> Result<(), String> {
    let link = root.join(path);
    let leads = std::fs::read_link(&link).map_err(|e| e.to_string())?;
    let outside = || {
        format!(
            "it is a link to {}, which is none of its own files",
            leads.display()
        )
    };
    let real = link
        .canonicalize()
        .map_err(|_| format!("it is a link to {}, where nothing is", leads.display()))?;
    let own = root
        .join(folder)
        .canonicalize()
        .map_err(|e| e.to_string())?;
    let inner = real
        .strip_prefix(&own)
        .map_err(|_| outside())?
        .to_str()
        .ok_or_else(outside)?;
    let copy = || -> io::Result<()> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let own = below.folder(folder)?;
        let file = rustix::fs::openat(&own, inner, flags, Mode::empty())?;
        let mut from = regular(file.into())?;
        let executable = std::os::unix::fs::MetadataExt::mode(&from.metadata()?) & 0o100 != 0;
        let mut to = below.fresh_file(path, if executable { 0o755 } else { 0o644 })?;
        copy_file(&mut from, &mut to)
    };
    copy().map_err(|_| outside())
}

/// Everything in and below a made folder.
///
/// # Errors
/// When it cannot be read.
pub fn tree(folder: &OwnedFd) -> io::Result<Vec<TreeFile>> {
    let entries = entries_below(folder)?;
    let files = entries.into_iter().map(|mut entry| {
        if matches!(&entry.kind, TreeFileKind::Link(target) if !leads_inside(&entry.path, target)) {
            entry.kind = TreeFileKind::Odd("it is a link that leads out of the folder");
        }
        entry
    });
    Ok(files.collect())
}

/// Whether a link in a made folder, at a path below it, leads to another place in it or to the
/// system: no other links are kept.
pub fn leads_inside(path: &str, target: &str) -> bool {
    if target.starts_with('/') {
        let system = ["/usr/", "/bin/", "/sbin/", "/lib", "/etc/", "/opt/"];
        return system.iter().any(|folder| target.starts_with(folder))
            && !target.split('/').any(|p| p == "..");
    }
    let mut depth = path.matches('/').count();
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." if depth == 0 => return false,
            ".." => depth -= 1,
            _ => depth += 1,
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_link_is_taken_only_where_it_leads_to_the_steps_own() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        fs::create_dir_all(at.join("made/step")).unwrap();
        fs::write(at.join("made/step/real"), "own").unwrap();
        fs::write(at.join("other"), "private").unwrap();
        let below = Below::new(at).unwrap();
        let look = |name: &str| look_at_made(&below, at, &format!("made/step/{name}"), "made/step");
        let link =
            |name: &str, target: &str| symlink(target, at.join("made/step").join(name)).unwrap();
        link("good", "real");
        assert!(matches!(look("good"), MadeThing::There(found) if !found.is_folder()));
        assert!(!at.join("made/step/good").is_symlink());
        assert_eq!(fs::read(at.join("made/step/good")).unwrap(), b"own");
        for (name, target) in [
            ("up", "../../other"),
            ("device", "/dev/zero"),
            ("none", "nowhere"),
            ("loop", "loop"),
        ] {
            link(name, target);
            assert!(matches!(look(name), MadeThing::Odd(_)), "{name}");
        }
        link("folder", "../..");
        assert!(matches!(look("folder/other"), MadeThing::Odd(_)));
        let (fifo, mode) = (FileType::Fifo, Mode::RWXU);
        rustix::fs::mknodat(rustix::fs::CWD, at.join("made/step/pipe"), fifo, mode, 0).unwrap();
        assert!(matches!(look("pipe"), MadeThing::Odd(_)));
        assert_eq!(look("absent"), MadeThing::Nothing);
    }

    #[test]
    fn links_in_folders_stay_in_them_or_name_the_system() {
        for (path, target, inside) in [
            ("a", "b", true),
            ("a", "../b", false),
            ("d/a", "../b", true),
            ("d/a", "../../b", false),
            ("d/a", "e/../../../b", false),
            ("a", "/usr/bin/python3", true),
            ("a", "/usr/../home/x", false),
            ("a", "/home/x", false),
        ] {
            assert_eq!(leads_inside(path, target), inside, "{path} -> {target}");
        }
    }
}
