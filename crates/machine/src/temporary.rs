//! Folders for temporary files of commands that are not in a sandbox, which has one of its own.

use std::fs;
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use nubrik_bytes::Digest;
use nubrik_disk::Below;

/// Where they are if the machine has no folder in memory, from the workspace's root.
const ON_DISK: &str = ".nubrik/tmp";

/// The folder of all folders for temporary files of a workspace. It is in memory where the machine
/// offers that: many file systems are slow at making and freeing what lives for a moment.
pub(crate) struct Temporary {
    home: PathBuf,
    in_memory: bool,
    made: OnceLock<()>,
}

impl Temporary {
    /// That of a workspace. Nothing is made yet.
    pub fn of(root: &Path) -> Temporary {
        let home = memory_folder(root);
        Temporary {
            in_memory: home.is_some(),
            home: home.unwrap_or_else(|| root.join(ON_DISK)),
            made: OnceLock::new(),
        }
    }

    /// The folder of all of them.
    pub fn home(&self) -> &Path {
        &self.home
    }

    /// The place for those who write to a folder, by its path from the root. It is the same in
    /// every run.
    pub fn place(&self, own: &str) -> PathBuf {
        self.home.join(&Digest::of(own.as_bytes()).hex()[..16])
    }

    /// Makes it, empty.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make(&self, own: &str) -> io::Result<PathBuf> {
        if self.made.get().is_none() {
            self.make_home()?;
            let _ = self.made.set(());
        }
        let path = self.place(own);
        for _ in 0..2 {
            match fs::create_dir(&path) {
                Ok(()) => break,
                // A run that was killed left it.
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => remove_folder(&path),
                // No one had anything in the folder around it, and someone took that away.
                Err(e) if e.kind() == io::ErrorKind::NotFound => self.make_home()?,
                Err(e) => return Err(e),
            }
        }
        if path.symlink_metadata()?.is_dir() {
            Ok(path)
        } else {
            Err(io::Error::other("its temporary folder is none"))
        }
    }

    fn make_home(&self) -> io::Result<()> {
        match fs::DirBuilder::new().mode(0o700).create(&self.home) {
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists => Err(e),
            _ if is_ours(&self.home) => Ok(()),
            _ => Err(io::Error::other(format!(
                "{} is not ours: remove it",
                self.home.display()
            ))),
        }
    }
}

impl Drop for Temporary {
    /// Leaves nothing in the machine's memory. The folder goes only if no one has anything in it.
    fn drop(&mut self) {
        if self.made.get().is_some() && self.in_memory {
            let _ = fs::remove_dir(&self.home);
        }
    }
}

/// Removes a folder with all that is in it, closed folders among it; links are not followed.
pub(crate) fn remove_folder(path: &Path) {
    if fs::remove_dir(path).is_ok() {
        return;
    }
    if let (Some(above), Some(name)) = (
        path.parent(),
        path.file_name().and_then(|name| name.to_str()),
    ) && let Ok(above) = Below::new(above)
    {
        let _ = above.remove(name);
    }
}

/// A real folder of the user who builds.
fn is_ours(path: &Path) -> bool {
    let user = rustix::process::geteuid().as_raw();
    path.symlink_metadata()
        .is_ok_and(|found| found.is_dir() && found.uid() == user)
}

/// The folder of this person and workspace in the machine's memory; `None` where there is none.
fn memory_folder(root: &Path) -> Option<PathBuf> {
    let shared = Path::new("/dev/shm");
    let is_memory = rustix::fs::statfs(shared).is_ok_and(|s| s.f_type == TMPFS);
    let user = rustix::process::geteuid().as_raw();
    let name = &Digest::of(root.as_os_str().as_encoded_bytes()).hex()[..16];
    let folder = shared.join(format!("nubrik-{user}-{name}"));
    // Someone else's folder of that name is not ours to use.
    (is_memory && (is_ours(&folder) || folder.symlink_metadata().is_err())).then_some(folder)
}

/// The kernel's number for file systems in memory (`linux/magic.h`).
const TMPFS: i64 = 0x0102_1994;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_made_empty_and_nothing_stays() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join(".nubrik")).unwrap();
        let temporary = Temporary::of(root.path());
        let one = temporary.make(".nubrik/made/a").unwrap();
        assert_ne!(one, temporary.place(".nubrik/made/b"));
        fs::write(one.join("left"), "").unwrap();
        assert_eq!(temporary.make(".nubrik/made/a").unwrap(), one);
        assert_eq!(fs::read_dir(&one).unwrap().count(), 0);
        remove_folder(&one);
        let (home, in_memory) = (temporary.home.clone(), temporary.in_memory);
        drop(temporary);
        assert!(!in_memory || !home.exists());
    }

    #[test]
    fn what_is_not_ours_is_not_used() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join(".nubrik")).unwrap();
        std::os::unix::fs::symlink("/usr", root.path().join(ON_DISK)).unwrap();
        let home = root.path().join(ON_DISK);
        let temporary = Temporary {
            home,
            in_memory: false,
            made: OnceLock::new(),
        };
        assert!(temporary.make_home().is_err());
    }
}
